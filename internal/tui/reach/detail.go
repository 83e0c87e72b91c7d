package reach

import (
	"fmt"
	"regexp"
	"strings"

	core "hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/sequence"
	"hodstone/internal/workbench"
)

// gaps are what stands between columns.
var gaps = regexp.MustCompile(` {3,}`)

// detail is a way, opened: all that was found out, and the packets that went over.
type detail struct {
	name     string
	result   *core.Result
	evidence bool // the sequence is shown, not the text
	text     *look.Scrolled
	cursor   int
	first    int
	height   int
}

func newDetail(name string) *detail { return &detail{name: name, height: 10, text: look.NewScrolled()} }

func (d *detail) refresh(b *workbench.ReachBoard) {
	for i := range b.Ways {
		if b.Ways[i].Target.Name == d.name {
			d.result = b.Ways[i].Result
		}
	}
}

func (d *detail) actions(s *Screen) []look.Action {
	other := "evidence"
	if d.evidence {
		other = "what was found"
	}
	out := []look.Action{look.Let("esc backspace", "back", func() { s.open = nil })}
	switch {
	case d.result == nil:
	case d.evidence:
		out = append(out, look.Moves("scroll", &d.cursor, len(d.result.Events), d.height, nil))
	default:
		out = append(out, d.text.Action())
	}
	return append(out,
		look.Let("v", other, func() { d.evidence = !d.evidence }),
		look.Let("p", "paste", func() { s.open, s.paste = nil, newPaste() }),
	)
}

func (d *detail) draw(c look.Canvas) {
	t, r := c.Theme, d.result
	if r == nil {
		c.Text(2, 1, "it was never tried", t.Dim)
		return
	}
	d.height = c.H - 3
	if d.evidence {
		c.Rule(
			0,
			fmt.Sprintf("evidence of %s: %s, seconds since the first", d.name, look.Plural(len(r.Events), "event")),
			t.Strong,
		)
		if len(r.Events) == 0 {
			c.Text(2, 2, "No packet of MQTT went over: the way ended before.", t.Dim)
			return
		}
		d.cursor = max(0, min(d.cursor, len(r.Events)-1))
		body := c.Sub(0, 1, c.W, c.H-1)
		d.first = look.Scroll(d.first, d.cursor, body.H-1, len(r.Events))
		seq := sequence.Drawing{
			Events: r.Events,
			Lanes:  report.Lanes(r.Events),
			Cursor: d.cursor,
			First:  d.first,
			Since:  r.Events[0].At,
		}
		seq.Draw(body)
		return
	}
	c.Rule(0, "way in: "+d.name, t.Strong)
	if len(r.Target.Users) > 0 {
		c.Text(1, 1, look.Clip("used by "+strings.Join(r.Target.Users, ", "), c.W-2), t.Dim)
	}
	var lines []look.Line
	for _, l := range report.ReachLines(r, c.W < 80) {
		st := lineStyle(t, strings.TrimSpace(l))
		lead := len(l) - len(strings.TrimLeft(l, " "))
		if look.Width(l) > c.W-2 { // columns close up before they wrap
			l = l[:lead] + gaps.ReplaceAllString(l[lead:], "  ")
		}
		for i, part := range look.Wrap(l, c.W-2) {
			if i > 0 {
				part = strings.Repeat(" ", min(lead+2, 12)) + part
			}
			lines = append(lines, look.Line{look.Say(part, st)})
		}
	}
	d.text.Draw(c.Sub(1, 2, c.W-1, c.H-2), lines)
}

// lineStyle goes by the sign that a line begins with.
func lineStyle(t *look.Theme, l string) look.Style {
	switch {
	case strings.HasPrefix(l, "✗"):
		return t.Broken
	case strings.HasPrefix(l, "!"), strings.HasSuffix(l, "! less"):
		return t.Warn
	case strings.HasPrefix(l, "✓"):
		return t.Kept
	case strings.HasPrefix(l, "·"), strings.HasPrefix(l, "seen:"):
		return t.Dim
	}
	return t.Text
}
