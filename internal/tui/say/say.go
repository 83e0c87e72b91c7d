// Package say is where a message is written by hand as one sentence, over whatever screen asked for it: the contract's
// verdict stands beneath it at every keystroke, what its next word may be, and what was said before comes back.
package say

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/sending"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// Line is a sentence that is being written.
type Line struct {
	bench *workbench.Bench
	area  *look.Area
	Done  bool // it was sent, or left

	order  *sending.Order
	err    error
	fields []sending.FieldLine
	read   string // what those are of

	said  []string // what was said before, oldest first
	back  int      // how far back it was gone, 0 for what is being written
	draft string

	options []string
	from    int // where what they stand in place of begins
	at      int // the cursor that they are of
	tall    int // how many rows it has
	picked  int // of the options that the tab key goes through, -1 for none
}

// New returns a line that begins with a text.
func New(b *workbench.Bench, text string) *Line {
	l := &Line{bench: b, area: look.NewArea(text, false), said: b.Said(), picked: -1}
	l.heard()
	return l
}

// heard takes in what stands there now.
func (l *Line) heard() {
	text, at := l.area.Value(), l.area.Cursor()
	l.order, l.err = l.bench.Hear(text)
	l.fields = l.order.Fields()
	l.options, l.from = sending.Complete(text, at, l.bench.Site())
	l.read, l.at, l.picked = text, at, -1
}

// Update takes a key or what was pasted.
func (l *Line) Update(msg tea.Msg) tea.Cmd {
	if key, is := msg.(tea.KeyPressMsg); is {
		if cmd, done := look.Press(l.Actions(), key); done {
			return cmd
		}
	}
	l.area.Update(msg)
	if l.area.Value() != l.read || l.area.Cursor() != l.at {
		l.heard()
	}
	return nil
}

// Actions is what can be done here and now.
func (l *Line) Actions() []look.Action {
	out := []look.Action{look.Act("enter", "send", l.send)}
	if l.err != nil {
		why := l.err.Error()
		out[0] = look.CanNot("enter", "send", why)
	}
	if len(l.options) > 0 {
		out = append(out, look.Let("tab", "go on with", func() { l.complete(1) }), look.Keys(
			"shift+tab", "the one before", []string{"shift+tab"}, func(string) { l.complete(-1) },
		))
	} else {
		out = append(out, look.CanNot("tab", "go on with", "nothing is known that could stand here"))
	}
	if len(l.said) > 0 {
		out = append(out, look.Keys("↑↓", "said before", []string{"up", "down"}, l.remember))
	}
	return append(out, look.Let("esc", "leave", func() { l.Done = true }))
}

// remember goes through what was said before.
func (l *Line) remember(key string) {
	if l.back == 0 {
		l.draft = l.area.Value()
	}
	if key == "up" {
		l.back = min(l.back+1, len(l.said))
	} else {
		l.back = max(l.back-1, 0)
	}
	text := l.draft
	if l.back > 0 {
		text = l.said[len(l.said)-l.back]
	}
	l.area.Put(text, len(text))
	l.heard()
}

// complete puts the next option in; the first alone goes on to the next word.
func (l *Line) complete(by int) {
	options, from, picked := l.options, l.from, l.picked
	switch {
	case picked < 0 && by < 0:
		picked = len(options) - 1
	default:
		picked = (picked + by + len(options)) % len(options)
	}
	text := l.area.Value()
	o := options[picked]
	rest := text[l.at:]
	if len(options) == 1 && !strings.HasSuffix(o, " ") && !strings.HasSuffix(o, ":") && !strings.HasPrefix(rest, " ") &&
		rest == "" {
		o += " "
	}
	l.area.Put(text[:from]+o+rest, from+len(o))
	l.heard()
	if len(options) > 1 { // the key again takes the next of them
		l.options, l.from, l.picked = options, from, picked
	}
}

// send lets the message go, and tells what became of the first one.
func (l *Line) send() tea.Cmd {
	id, err := l.bench.Say(l.area.Value())
	if err != nil {
		return look.Tell(true, err.Error())
	}
	l.Done = true
	return Await(l.bench, id)
}

// awaited is how long the first message's end is waited for, before the screen tells that it is under way.
const awaited = 11 * time.Second

// Await tells what became of a message that was just sent.
func Await(b *workbench.Bench, id int) tea.Cmd {
	return func() tea.Msg {
		for end := time.Now().Add(awaited); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
			for _, s := range b.Sendings() {
				if s.ID != id || s.Sent+s.Failed == 0 && s.Running {
					continue
				}
				more := ""
				if s.Running {
					more = fmt.Sprintf(", and again every %s: S stops it", s.Every)
				}
				if s.Failed > 0 {
					return look.Notice{Text: fmt.Sprintf("not sent to %s: %s%s", s.Topic, s.Why, more), Bad: true}
				}
				return look.Notice{Text: "sent to " + s.Topic + more}
			}
		}
		return look.Notice{Text: "it is still under way", Bad: true}
	}
}

// Height is how many rows the line wants of a screen that is so high; once it has grown it stays so.
func (l *Line) Height(screen int) int {
	l.tall = max(l.tall, 10+max(1, len(l.order.Breaches))+len(l.fields))
	return min(screen-2, l.tall, 22)
}

// Draw draws the line in all of a canvas.
func (l *Line) Draw(c look.Canvas) {
	t := c.Theme
	on := func(s look.Style) look.Style { return look.On(s, t.Rail) }
	c.Fill(t.Rail)
	c.Text(0, 0, strings.Repeat("▔", c.W), on(t.Ours))
	c.Text(2, 1, "send by hand", on(t.Strong))
	c.Right(c.W-2, 1, "enter sends it, also what the contract refuses", on(t.Dim))
	rows := 3
	if c.H < 14 {
		rows = 2
	}
	l.area.Draw(c.Sub(2, 2, c.W-4, rows+1))
	y := 2 + rows
	if len(l.options) > 0 && y < c.H {
		x := c.Text(2, y, "⇥ ", on(t.Ours))
		for i, o := range l.options {
			o = strings.TrimSpace(o)
			if x+look.Width(o)+4 > c.W-6 {
				c.Text(x, y, fmt.Sprintf("and %d more", len(l.options)-i), on(t.Dim))
				break
			}
			st := on(t.Text)
			if i == l.picked {
				st = t.Select
			}
			x = c.Text(x, y, o, st) + 2
		}
	}
	y++
	l.verdict(c.Sub(2, y, c.W-4, c.H-y))
}

// verdict says what goes out, what the contract makes of it, and what is agreed of its fields.
func (l *Line) verdict(c look.Canvas) {
	t := c.Theme
	on := func(s look.Style) look.Style { return look.On(s, t.Rail) }
	y := 0
	line := func(text string, st look.Style) {
		for _, part := range look.Wrap(text, c.W) {
			if y < c.H {
				c.Text(0, y, part, on(st))
			}
			y++
		}
	}
	o := l.order
	switch {
	case l.err != nil:
		line("… "+l.err.Error(), t.Warn)
	default:
		again := ""
		if o.Every > 0 {
			again = fmt.Sprintf(", every %s", o.Every)
			if o.Times > 0 {
				again += fmt.Sprintf(", %d times", o.Times)
			}
		}
		line("→ "+o.Words()+again, t.Text)
		switch {
		case len(o.Breaches) > 0:
			for i := range o.Breaches {
				b := &o.Breaches[i]
				line(
					fmt.Sprintf("✗ %s%s: agreed is %s, this is %s", b.Rule, place(b.Where), b.Expected, b.Seen),
					t.Broken,
				)
			}
		case o.Clause != nil:
			line("✓ as "+o.Clause.Name+" agrees", t.Kept)
		case o.Near != "":
			line("? no clause covers this topic; is "+o.Near+" meant?", t.Warn)
		default:
			line("? no clause covers this topic", t.Warn)
		}
	}
	if o.Clause == nil {
		return
	}
	y++
	for i := range l.fields {
		f := &l.fields[i]
		if y >= c.H-1 && i < len(l.fields)-1 {
			c.Text(0, c.H-1, fmt.Sprintf("and %s more", look.Plural(len(l.fields)-i, "field")), on(t.Dim))
			return
		}
		l.field(c, y, f)
		y++
	}
}

func place(where string) string {
	if where == "" {
		return ""
	}
	return " at " + where
}

// field draws a field: its value, and what is agreed of it.
func (l *Line) field(c look.Canvas, y int, f *sending.FieldLine) {
	t := c.Theme
	on := func(s look.Style) look.Style { return look.On(s, t.Rail) }
	sign, st := " ", t.Text
	switch {
	case f.Broken != "":
		sign, st = "✗", t.Broken
	case f.Given:
		sign, st = "✓", t.Text
	}
	c.Text(0, y, sign, on(map[string]look.Style{"✓": t.Kept, "✗": t.Broken, " ": t.Dim}[sign]))
	name, wide := 20, 20
	if c.W < 90 {
		name, wide = 12, 14
	}
	c.Text(2, y, look.Clip(f.Name, name), on(t.Dim))
	value := f.Value
	if !f.Given {
		value = "–"
	}
	c.Text(name+3, y, look.Clip(value, wide), on(st))
	agreed := name + wide + 4
	c.Text(agreed, y, look.Clip(f.Agreed(), c.W-agreed), on(t.Dim))
}
