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
type paste struct{ text string }

// add takes text; terminals paste line ends as CR.
func (p *paste) add(text string) {
	p.text += strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)
}

func (p *paste) keys() []look.Key {
	return []look.Key{{Key: "ctrl+d", Does: "try it"}, {Key: "ctrl+y", Does: "copy"}, {Key: "ctrl+u", Does: "begin anew"}, {Key: "esc", Does: "leave it"}}
}

func (p *paste) key(s *Screen, msg tea.KeyPressMsg) tea.Cmd {
	switch k := msg.String(); k {
	case "esc":
		s.paste = nil
	case "ctrl+u":
		p.text = ""
	case "backspace":
		if r := []rune(p.text); len(r) > 0 {
			p.text = string(r[:len(r)-1])
		}
	case "enter":
		p.text += "\n"
	case "ctrl+y":
		d, err := core.Paste(p.text)
		if err != nil {
			return look.Tell(true, err.Error())
		}
		return tea.Batch(tea.SetClipboard(d.YAML(workbench.PastedName)), look.Tell(false, "copied, without the password: it goes into the workspace as it is"))
	case "ctrl+d":
		if _, err := s.bench.Paste(p.text); err != nil {
			return look.Tell(true, err.Error())
		}
		s.paste = nil
		s.Refresh()
		for i := range s.board.Ways {
			if s.board.Ways[i].Target.Name == workbench.PastedName {
				s.at = i
			}
		}
		return s.start(workbench.PastedName)
	default:
		p.text += msg.Text
	}
	return nil
}

func (p *paste) draw(c look.Canvas) {
	t := c.Theme
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
	b.Text(2, y, look.Plural(len([]rune(p.text)), "character")+", "+look.Plural(strings.Count(strings.TrimRight(p.text, "\n"), "\n")+1, "line"), on(t.Ours))
	y += 2
	d, err := core.Paste(p.text)
	switch {
	case strings.TrimSpace(p.text) == "":
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
