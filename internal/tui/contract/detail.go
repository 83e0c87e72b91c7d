package contract

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/contract"
	"hodstone/internal/payload"
	"hodstone/internal/tui/look"
)

// detail is a cell or a breach, opened.
type detail struct {
	clause   *core.Clause
	instance string
	breach   *core.Breach // nil: the cell's last message
	cell     *core.Cell
	breaches []core.Breach // of the cell, the latest first
}

func (d *detail) refresh(s *Screen) {
	d.cell = nil
	for _, c := range s.snap.Cells {
		if d.clause != nil && c.Clause.Name == d.clause.Name && c.Instance == d.instance {
			d.cell = c
		}
	}
	d.breaches = d.breaches[:0]
	for i := len(s.snap.Breaches) - 1; i >= 0; i-- {
		if b := s.snap.Breaches[i]; d.clause != nil && b.Clause == d.clause.Name && b.Instance == d.instance {
			d.breaches = append(d.breaches, b)
		}
	}
}

// topic is that of the cell; "" where nothing came yet.
func (d *detail) topic() string {
	if d.cell == nil {
		return ""
	}
	return d.cell.Topic
}

func (d *detail) actions(s *Screen) []look.Action {
	out := []look.Action{look.Let("esc backspace", "back", func() { s.open = nil })}
	if seq := d.seq(); seq > 0 {
		out = append(out, look.Act("w", "show on the wire", func() tea.Cmd {
			return func() tea.Msg { return look.ShowEvent{Seq: seq} }
		}))
	}
	if len(d.breaches) > 0 {
		out = append(out, look.Let("b", "older breach", d.older))
	}
	if d.breach != nil {
		out = append(out, look.Let("l", "last message", func() { d.breach = nil }))
	}
	return out
}

func (d *detail) seq() uint64 {
	if d.breach != nil {
		return d.breach.Seq
	}
	if d.cell != nil {
		return d.cell.Last.Seq
	}
	return 0
}

// older goes on to the breach before the one that is shown, after the oldest to the latest.
func (d *detail) older() {
	next := 0
	for i := range d.breaches {
		if d.breach != nil && d.breaches[i].At.Equal(d.breach.At) && d.breaches[i].Where == d.breach.Where {
			next = (i + 1) % len(d.breaches)
		}
	}
	b := d.breaches[next]
	d.breach = &b
}

// message returns the payload that is shown and who sent it.
func (d *detail) message() (body []byte, value any, who string) {
	if d.breach != nil {
		v, _ := d.clause.Payload.Code().Decode(d.breach.Payload)
		return d.breach.Payload, v, d.breach.Sender
	}
	return d.cell.Last.Payload, d.cell.Value(), d.cell.Last.Sender
}

func (d *detail) draw(s *Screen, c look.Canvas) {
	t := c.Theme
	if d.cell == nil || d.clause == nil {
		c.Teach("This cell is gone.", "esc leads back to the sheet")
		return
	}
	y := d.drawHead(s, c)
	if d.breach == nil && d.cell.Last.At.IsZero() {
		c.Text(1, y+1, "Nothing has come on this topic yet.", t.Dim)
		d.drawFields(c.Sub(0, y+3, c.W, c.H-y-3), nil, nil, false)
		return
	}
	body, value, _ := d.message()
	if d.breach != nil {
		y = d.drawBreach(c, y)
	}
	if d.breach != nil && d.breach.Rule == core.RuleSilence {
		return
	}
	lines := d.lines()
	shown := min(len(d.breaches), 6)
	left := c.H - y - len(d.clause.Payload.Fields()) - 2 - 5 - shown - 2
	charts := d.cell != nil && len(lines) > 0 && left >= minChart*len(lines)
	n := d.drawFields(c.Sub(0, y, c.W, c.H-y), value, d.breach, !charts)
	d.drawPayload(c.Sub(0, y+n+1, c.W, min(5, c.H-y-n-1)), body)
	y += n + 5
	if len(d.breaches) > 0 {
		rows := shown + 1
		if !charts {
			rows = c.H - y
		}
		d.drawBreaches(s, c.Sub(0, y+1, c.W, min(rows, c.H-y-1)))
		y += rows + 2
	}
	if charts {
		d.drawCharts(s, c.Sub(0, y, c.W, c.H-y), lines)
	}
}

// line is a field's numbers over time.
type line struct {
	field  core.Field
	values []float64
}

// lines are the fields that are numbers, over time.
func (d *detail) lines() (out []line) {
	if d.cell == nil {
		return nil
	}
	for _, f := range d.clause.Payload.Fields() {
		l := line{field: f, values: d.numbers(f)}
		if len(l.values) > 1 {
			out = append(out, l)
		}
	}
	return out
}

// numbers are a field's numbers over time.
func (d *detail) numbers(f core.Field) (out []float64) {
	for i := range d.cell.History {
		if v, ok := payload.At(d.cell.History[i].Value(), f.Pointer); ok {
			if n, ok := payload.Plain(v).(float64); ok {
				out = append(out, n)
			}
		}
	}
	return out
}

// The rows of a chart: with fewer it shows nothing, with more it shows no more.
const (
	minChart = 5
	maxChart = 18
)

// drawCharts draws the numbers over time, as large as there is room for.
func (d *detail) drawCharts(s *Screen, c look.Canvas, lines []line) {
	t := c.Theme
	h := min(maxChart, c.H/len(lines))
	from := d.cell.History[0].At
	for i, l := range lines {
		at := c.Sub(0, i*h, c.W, h)
		lo, hi := slices.Min(l.values), slices.Max(l.values)
		title := l.field.Name
		if l.field.Unit != "" {
			title += ", " + l.field.Unit
		}
		at.Rule(0, fmt.Sprintf("%s over the last %s", title, look.Age(s.snap.At.Sub(from))), t.Dim)
		at.Right(10, 1, look.Number(hi), t.Dim)
		at.Right(10, h-2, look.Number(lo), t.Dim)
		values := stretched(l.values, 2*(c.W-14))
		for y, text := range look.Chart(values, c.W-14, h-2) {
			at.Text(12, 1+y, text, t.Ours)
		}
	}
}

// stretched repeats numbers so that few of them fill a width as well: each holds until the next.
func stretched(values []float64, n int) []float64 {
	if len(values) >= n || len(values) < 2 {
		return values
	}
	out := make([]float64, n)
	for i := range out {
		out[i] = values[i*len(values)/n]
	}
	return out
}

// drawBreaches lists the cell's latest breaches; b goes through them.
func (d *detail) drawBreaches(s *Screen, c look.Canvas) {
	if len(d.breaches) == 0 || c.H < 2 {
		return
	}
	c.Rule(0, "breaches of this cell, the latest first", c.Theme.Strong)
	for i := range d.breaches {
		s.drawBreach(c, i+1, &d.breaches[i])
		if b := d.breach; b != nil && b.At.Equal(d.breaches[i].At) && b.Where == d.breaches[i].Where {
			c.Text(0, i+1, "▸", c.Theme.Ours)
		}
	}
}

func (d *detail) drawHead(s *Screen, c look.Canvas) int {
	t, cl, cell := c.Theme, d.clause, d.cell
	st := cellStyle(t, cell.State)
	x := c.Text(1, 0, cl.Name+" ", t.Strong)
	if cell.Instance != "" {
		x = c.Text(x, 0, strings.Join(cl.Topic.Parameters(), "/")+" "+cell.Instance+"  ", t.Ours)
	}
	x = c.Text(x, 0, cellSigns[cell.State]+" "+string(cell.State), st)
	if cell.Broken > 0 {
		c.Text(x, 0, "  ✗ "+look.Plural(cell.Broken, "breach")+" in "+look.Plural(cell.Count, "message"), t.Broken)
	} else {
		c.Text(x, 0, "  "+look.Plural(cell.Count, "live message"), t.Dim)
	}
	c.Text(1, 1, look.Middle(cell.Topic, c.W-2), t.Text)
	x = c.Text(1, 2, cl.From+" → "+strings.Join(cl.To, ", ")+"  "+how(cl), t.Dim)
	c.Text(x, 2, look.Clip("  "+cl.Note, c.W-x), t.Dim)
	y := 3
	if d.breach == nil && !cell.Last.At.IsZero() {
		what := "last message"
		if cell.Last.Copy {
			what = "stored message, from before we came"
		}
		c.Text(
			1,
			y,
			look.Clip(
				fmt.Sprintf(
					"%s %s, %s ago, QoS %d, from %s",
					what,
					clock(cell.Last.At),
					look.Age(s.snap.At.Sub(cell.Last.At)),
					cell.Last.QoS,
					sender(cell.Last.Sender),
				),
				c.W-2,
			),
			t.Dim,
		)
		y++
	}
	return y + 1
}

func (d *detail) drawBreach(c look.Canvas, y int) int {
	t, b := c.Theme, d.breach
	who := ", from " + sender(b.Sender)
	if b.Rule == core.RuleSilence { // nobody said anything
		if who = ""; d.clause.From != "" {
			who = ", of " + d.clause.From
		}
	}
	c.Rule(y, "✗ breach at "+clock(b.At)+who, t.Broken)
	rule := string(b.Rule)
	if b.Keyword != "" {
		rule += ": " + b.Keyword
	}
	for _, line := range [][2]string{{"rule", rule}, {"field", b.Where}, {"expected", b.Expected}, {"seen", b.Seen}} {
		if line[1] == "" {
			continue
		}
		y++
		c.Text(2, y, line[0], t.Dim)
		c.Text(12, y, look.Clip(line[1], c.W-13), t.Strong)
	}
	return y + 2
}

// drawFields writes the payload's fields against the value; it returns the rows used.
func (d *detail) drawFields(c look.Canvas, value any, b *core.Breach, sparks bool) int {
	t := c.Theme
	fields := d.clause.Payload.Fields()
	wide := c.W >= 110
	at := [4]int{2, 22, 50, 70}
	if !wide {
		at = [4]int{2, 16, 30, 44}
	}
	c.Rule(0, "", t.Dim)
	for i, h := range []string{"field", "value", "range", "meaning"} {
		c.Text(at[i], 0, " "+h+" ", t.Dim)
	}
	sparkAt := c.W + 1
	if sparks = sparks && wide; sparks {
		sparkAt = c.W - 40
		c.Text(sparkAt, 0, " over time ", t.Dim)
	}
	y := 1
	for _, f := range fields {
		if y >= c.H {
			break
		}
		bad := b != nil && (b.Where == f.Pointer && b.Rule != core.RuleFormat || len(fields) == 1 && b.Where == "")
		st := t.Text
		if bad {
			st = t.Broken
			c.Text(0, y, "✗", t.Broken)
		}
		name := f.Name
		if !f.Required {
			name += "?"
		}
		c.Text(at[0], y, look.Clip(name, at[1]-at[0]-1), st)
		x, found := payload.At(value, f.Pointer)
		text := "–"
		if found && value != nil {
			text = strings.TrimSpace(look.ShowValue(x) + " " + f.Unit)
		} else if value == nil && f.Unit != "" {
			text = "– " + f.Unit
		}
		c.Text(at[1], y, look.Clip(text, at[2]-at[1]-1), st)
		limits := f.Range
		if limits == "" {
			limits = f.Type
		}
		c.Text(at[2], y, look.Clip(limits, at[3]-at[2]-1), t.Dim)
		c.Text(at[3], y, look.Clip(meaning(f, x, found), sparkAt-at[3]-2), t.Dim)
		if sparks && d.cell != nil {
			if line := d.numbers(f); len(line) > 1 {
				c.Text(sparkAt+1, y, look.Spark(line, 38), t.Ours)
			}
		}
		y++
	}
	return y
}

// meaning says what a value stands for, or what the field is.
func meaning(f core.Field, v any, found bool) string {
	if found {
		if m := f.Values[look.ShowValue(v)]; m != "" {
			return look.ShowValue(v) + " = " + m
		}
	}
	if f.Note != "" {
		return f.Note
	}
	var all []string
	for k, m := range f.Values {
		if m != "" {
			all = append(all, k+" = "+m)
		} else {
			all = append(all, k)
		}
	}
	sort.Strings(all)
	return strings.Join(all, ", ")
}

// drawPayload writes the message's text with the place of the breach marked.
func (d *detail) drawPayload(c look.Canvas, body []byte) {
	t := c.Theme
	c.Rule(0, fmt.Sprintf("payload, %d bytes", len(body)), t.Dim)
	start, end := -1, -1
	if d.breach != nil {
		if s, e, ok := d.clause.Payload.Code().Locate(body, d.breach.Where); ok {
			start, end = s, e
		}
		fmt.Sscanf(d.breach.Where, "byte %d", &start)
		end = max(end, start+1)
	}
	show, gap := payload.Show, 0
	if d.clause.Payload.NoText() {
		show, gap = payload.ShowBytes, 1
	}
	if start < 0 || end > len(body) {
		for i, line := range look.Wrap(show(body, 2000), c.W-3) {
			c.Text(2, 1+i, line, t.Text)
		}
		return
	}
	x := c.Text(2, 1, show(body[:start], 2000)[emptyShown(body[:start]):], t.Text)
	if start > 0 {
		x += gap
	}
	bad := show(body[start:end], 200)
	mark := c.Text(x, 1, bad, t.Broken)
	if end < len(body) {
		c.Text(mark+gap, 1, show(body[end:], 2000), t.Text)
	}
	c.Text(x, 2, strings.Repeat("▔", max(1, look.Width(bad))), t.Broken)
}

// emptyShown skips what Show writes for nothing.
func emptyShown(b []byte) int {
	if len(b) == 0 {
		return len("(empty)")
	}
	return 0
}
