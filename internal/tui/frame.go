package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"

	"hodstone/internal/tui/look"
)

func (m *model) railWidth() int {
	if m.w < 100 {
		return 15
	}
	return 18
}

// stepRows is how many rows of the rail a step takes: its name and the lines of state.
const stepRows = 4

func (m *model) stepHeight() int {
	const head, brokers = 3, 4 // rows above, and for the brokers below
	return max(2, min(stepRows+1, (m.h-head-brokers)/len(m.screens)))
}

// worst are so many lines of a step's state: where there is no room for all, what is broken goes before what needs
// attention, and that before the rest.
func worst(lines []look.RailLine, room int, t *look.Theme) []look.RailLine {
	if len(lines) <= room {
		return lines
	}
	weight := func(l look.RailLine) int {
		switch l.Style {
		case t.Broken:
			return 0
		case t.Warn:
			return 1
		}
		return 2
	}
	out := slices.Clone(lines)
	slices.SortStableFunc(out, func(a, b look.RailLine) int { return weight(a) - weight(b) })
	return out[:room]
}

func (m *model) clicked(y int) {
	if i := (y - 3) / m.stepHeight(); y >= 3 && i < len(m.screens) {
		m.at = i
	}
}

// drawRail draws the way through the job, with the live state of every step.
func (m *model) drawRail(c look.Canvas) {
	t := &m.theme
	on := func(s look.Style) look.Style { return look.On(s, t.Rail) }
	c.Fill(t.Rail)
	c.Text(1, 0, "hodstone", on(t.Strong))
	name := m.bench.Workspace().Name
	if name == "" {
		name = m.bench.Workspace().File
	}
	c.Text(1, 1, look.Clip(name, c.W-2), on(t.Dim))
	for i, s := range m.screens {
		y := 3 + i*m.stepHeight()
		st := on(t.Text)
		if i == m.at {
			c.Paint(0, y, c.W, t.Select)
			c.Text(0, y, "▌", look.On(t.Ours, t.Select))
			st = t.Select
		}
		c.Text(1, y, fmt.Sprintf("%d %s", i+1, s.Title()), st)
		for k, line := range worst(s.Rail(t), min(3, m.stepHeight()-1), t) {
			c.Text(3, y+1+k, look.Clip(line.Text, c.W-4), on(line.Style))
		}
	}
	y := 3 + len(m.screens)*m.stepHeight()
	for _, b := range m.bench.Brokers() {
		if y+2 >= c.H {
			break
		}
		sign, word, st := "●", "in", t.Kept
		if !b.In {
			sign, word, st = "╳", "away", t.Broken
		} else if b.Silent > 0 {
			sign, word, st = "!", "silent "+look.Age(b.Silent), t.Warn
		}
		end := c.Text(1, y, look.Clip(fmt.Sprintf("%s %s %s", sign, b.Name, word), c.W-2), on(st))
		if ping := look.Duration(b.Ping); b.Ping > 0 && b.Silent == 0 && end+look.Width(ping)+1 < c.W {
			c.Text(end+1, y, ping, on(t.Dim))
		}
		c.Text(1, y+1, look.Clip(strings.TrimPrefix(b.URL, "mqtt://"), c.W-1), on(t.Dim))
		y += 2
		if b.Plain && y < c.H {
			c.Text(1, y, look.Clip("! login in clear", c.W-1), on(t.Warn))
			y++
		}
		if len(b.Faults) > 0 && y < c.H {
			c.Text(1, y, look.Clip("! "+look.Plural(len(b.Faults), "fault")+" on", c.W-1), on(t.Warn))
			y++
		} else if !b.In && b.Why != "" {
			for _, l := range look.Wrap(b.Why, c.W-2) {
				if y < c.H {
					c.Text(1, y, l, on(t.Dim))
					y++
				}
			}
		}
	}
}

// drawFoot shows the keys that do something here and now, or a notice.
func (m *model) drawFoot(c look.Canvas, s screen) {
	t := &m.theme
	c.Fill(t.Rail)
	on := func(st look.Style) look.Style { return look.On(st, t.Rail) }
	if time.Now().Before(m.until) && m.told == m.at { // what was told of another screen is over
		sign, st := "✓ ", on(t.Kept)
		if m.notice.Bad {
			sign, st = "✗ ", on(t.Broken)
		}
		c.Text(1, 0, look.Clip(sign+m.notice.Text, c.W-2), st)
		return
	}
	h := m.help(t.Rail)
	end := c.W - 1
	if m.overlay == lineOver {
		h.SetWidth(end - 2)
		c.Sub(1, 0, end-2, 1).Styled(h.ShortHelpView(look.Bindings(m.line.Actions())))
		return
	}
	if !s.Typing() { // these do something everywhere
		some := m.frameActions() // up to the list of keys
		last := slices.IndexFunc(some, func(a look.Action) bool { return a.Help().Key == "?" })
		text := h.ShortHelpView(look.Bindings(some[:last+1]))
		end -= look.Width(text) + 2
		c.Sub(end+1, 0, c.W-end-1, 1).Styled(text)
	}
	h.SetWidth(end - 2)
	c.Sub(1, 0, end-2, 1).Styled(h.ShortHelpView(look.Bindings(s.Actions())))
}

// help writes keys in the theme's styles.
func (m *model) help(ground look.Style) help.Model {
	h := help.New()
	k, d := look.Lip(look.On(m.theme.Ours, ground)), look.Lip(look.On(m.theme.Dim, ground))
	text := look.Lip(look.On(m.theme.Text, ground))
	h.ShortSeparator, h.Ellipsis = "  ", "…"
	h.Styles = help.Styles{
		Ellipsis: d, ShortKey: k, ShortDesc: d, ShortSeparator: d, FullKey: k, FullDesc: text, FullSeparator: d,
	}
	return h
}

// box draws a window over the middle of the screen.
func (m *model) box(c look.Canvas, w, h int, title string) look.Canvas {
	t := &m.theme
	w, h = min(w, m.w-4), min(h, m.h-2)
	b := c.Sub((m.w-w)/2, (m.h-h)/2, w, h)
	b.Fill(t.Rail)
	b.Text(0, 0, strings.Repeat("▔", w), look.On(t.Ours, t.Rail))
	b.Text(2, 1, title, look.On(t.Strong, t.Rail))
	return b.Sub(2, 3, w-4, h-4)
}

func (m *model) drawHelp(c look.Canvas, s screen) {
	t := &m.theme
	key := look.On(t.Ours, t.Rail)
	var lines []look.Line
	for _, list := range [][]look.Action{s.Actions(), m.frameActions()} {
		for _, k := range list {
			text := look.On(t.Text, t.Rail)
			if k.Not != "" {
				text = look.On(t.Old, t.Rail)
			}
			keys := look.Pad(strings.Join(shownKeys(k.Binding), " "), 12)
			lines = append(lines, look.Line{look.Say(keys, key), look.Say(k.Help().Desc, text)})
		}
		lines = append(lines, nil)
	}
	for _, l := range []string{
		"✓ kept   ✗ broken, breach   ? stray, undecided   ∅ unsupported",
		"○ silent, off   · not seen, not run   ❄ frozen   ╳ away",
		"─▶ live message   ╌▶ stored message that greets a subscription",
		"A sender is named only where Hodstone runs the client or its broker.",
	} {
		lines = append(lines, look.Line{look.Say(l, look.On(t.Dim, t.Rail))})
	}
	m.text.Draw(m.box(c, 76, len(lines)+4, "keys of the "+s.Title()+" screen"), lines)
}

// shownKeys are a binding's keys as people read them: those of a direction by their arrows.
func shownKeys(b key.Binding) []string {
	if shown := b.Help().Key; len(b.Keys()) == 0 || shown != b.Keys()[0] {
		return []string{shown}
	}
	return b.Keys()
}

func (m *model) drawActions(c look.Canvas) {
	t := &m.theme
	found := m.find()
	b := m.box(c, 70, 20, "actions")
	m.input.Draw(b, 0)
	if len(found) == 0 {
		b.Text(0, 2, "no action is called so", look.On(t.Warn, t.Rail))
	}
	first := look.Scroll(0, m.picked, b.H-2, len(found))
	for i := 0; i < b.H-2 && first+i < len(found); i++ {
		a := found[first+i]
		b.Text(2, 2+i, look.Clip(a.name, b.W-10), look.On(t.Text, t.Rail))
		b.Right(b.W-1, 2+i, a.key, look.On(t.Ours, t.Rail))
		if first+i == m.picked {
			b.Paint(0, 2+i, b.W, t.Select)
			b.Text(0, 2+i, "▸", t.Select)
		}
	}
}

func (m *model) drawProblems(c look.Canvas) {
	t := &m.theme
	width := min(120, m.w-4)
	var lines []string
	found, old := m.bench.Problems()
	what := "what is sound is open"
	if old {
		what = "what was in force before stays so"
	}
	for _, p := range found {
		lines = append(
			lines,
			look.Wrap(fmt.Sprintf("✗ line %d, column %d: %s", p.Line, p.Column, p.Message), width-4)...)
		if p.Excerpt != "" {
			lines = append(lines, strings.Split(p.Excerpt, "\n")...)
		}
		if p.Hint != "" {
			lines = append(lines, look.Wrap("  hint: "+p.Hint, width-4)...)
		}
		lines = append(lines, "")
	}
	b := m.box(c, width, len(lines)+6, look.Plural(len(found), "problem")+" in the workspace; "+what)
	shown := make([]look.Line, len(lines))
	for i, l := range lines {
		st := t.Text
		if strings.HasPrefix(l, "✗") {
			st = t.Broken
		}
		shown[i] = look.Line{look.Say(look.Clip(l, b.W), look.On(st, t.Rail))}
	}
	m.text.Draw(b.Sub(0, 0, b.W, b.H-1), shown)
	b.Text(0, b.H-1, "↑↓ scroll   esc goes on with what is sound   ! shows this again", look.On(t.Ours, t.Rail))
}
