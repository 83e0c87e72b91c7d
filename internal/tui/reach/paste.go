package reach

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/reach"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// paste takes connection details. What is pasted is not shown, because it may hold a password;
// what was understood of it is.
type paste struct{ text *look.Area }

func newPaste() *paste { return &paste{look.NewArea("", true)} }

func (p *paste) actions(s *Screen) []look.Action {
	return []look.Action{
		look.Act("ctrl+d", "try it", func() tea.Cmd { return p.try(s) }),
		look.Act("ctrl+y", "copy", p.copy),
		look.Let("ctrl+u", "begin anew", func() { p.text.Set("") }),
		look.Let("esc", "leave it", func() { s.paste = nil }),
	}
}

// copy puts what was understood on the clipboard.
func (p *paste) copy() tea.Cmd {
	d, err := core.Paste(p.text.Value())
	if err != nil {
		return look.Tell(true, err.Error())
	}
	return tea.Batch(
		tea.SetClipboard(d.YAML(workbench.PastedName)),
		look.Tell(false, "copied, without the password: it goes into the workspace as it is"),
	)
}

// try makes a way in of it, and tries that.
func (p *paste) try(s *Screen) tea.Cmd {
	if _, err := s.bench.Paste(p.text.Value()); err != nil {
		return look.Tell(true, err.Error())
	}
	s.paste = nil
	s.refresh()
	for i := range s.board.Ways {
		if s.board.Ways[i].Target.Name == workbench.PastedName {
			s.at = i
		}
	}
	return s.start(workbench.PastedName)
}

func (p *paste) draw(c look.Canvas) {
	t, text := c.Theme, p.text.Value()
	w, h := min(84, c.W-4), min(20, c.H-2)
	b := c.Sub((c.W-w)/2, (c.H-h)/2, w, h)
	b.Fill(t.Rail)
	on := func(st look.Style) look.Style { return look.On(st, t.Rail) }
	b.Text(0, 0, strings.Repeat("▔", w), on(t.Ours))
	b.Text(2, 1, "paste or type connection details", on(t.Strong))
	y := 3
	for _, l := range look.Wrap("A URL, lines such as 'host: …' and 'port: …', an environment file, constants of firmware, a table, JSON, or sentences. The text itself is not shown, because it may hold a password.", w-4) {
		b.Text(2, y, l, on(t.Dim))
		y++
	}
	y++
	size := look.Plural(len([]rune(text)), "character") + ", " +
		look.Plural(strings.Count(strings.TrimRight(text, "\n"), "\n")+1, "line")
	b.Text(2, y, size, on(t.Ours))
	y += 2
	d, err := core.Paste(text)
	switch {
	case strings.TrimSpace(text) == "":
		b.Text(2, y, "nothing yet", on(t.Old))
	case err != nil:
		for _, l := range look.Wrap("✗ "+err.Error(), w-4) {
			b.Text(2, y, l, on(t.Warn))
			y++
		}
	default:
		b.Text(2, y, "understood, as it goes into a workspace:", on(t.Kept))
		y++
		for l := range strings.Lines(d.YAML(workbench.PastedName)) {
			b.Text(4, y, look.Clip(strings.TrimRight(l, "\n"), w-6), on(t.Text))
			y++
		}
		if len(d.Unused) > 0 {
			b.Text(2, y, look.Clip("not understood: "+strings.Join(d.Unused, ", "), w-4), on(t.Warn))
		}
	}
}
