// Package sequence draws a trace as lanes: one for each client, the broker's in the
// middle, and an arrow for each packet. The wire screen and the evidence of checks
// share it.
package sequence

import (
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/payload"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
)

// Mark is what readers of the trace have found about an event.
type Mark struct {
	Sign  string // "✗", "?" or ""
	Word  string // "breach", "stray" …
	Style look.Style
}

// Drawing says how a sequence is drawn.
type Drawing struct {
	Events []trace.Event
	// Lanes are the clients' names in order; the broker's lane is put into their middle.
	Lanes []string
	// Folded are clients that share one lane after the others. Where not all lanes have
	// room, the last are folded too.
	Folded []string
	// Find is text to be told from the rest.
	Find   string
	Cursor int // the index of the event with the cursor, or -1
	First  int // the index of the event in the first row
	// Since is the time that times are relative to.
	Since  time.Time
	Marked func(*trace.Event) Mark
}

const (
	gutter    = 11 // for the time
	laneLeast = 10 // for the longest name of a packet that is sent often, and its arrow
	laneMost  = 18
	leastText = 34 // for the description beside the lanes
	// BrokerLane is what the middle lane is called.
	BrokerLane = "broker"
)

// leastLanes is how many lanes beside the broker's a drawing needs; with fewer, names do
// better.
const leastLanes = 3

// layout says where the lanes stand.
type layout struct {
	columns map[string]int // by client; those that are folded share one
	names   []string       // of the lanes, in order
	at      []int          // their columns
	broker  int
	end     int
	width   int // of a lane
}

// lanes gives each client its column; false where there is no room for lanes.
func (d *Drawing) lanes(w int) (l layout, ok bool) {
	room := (w-gutter-leastText)/laneLeast - 1 // without the broker's
	shown, folded := d.Lanes, d.Folded
	if n := room - 1; len(shown) > room && n >= leastLanes {
		shown, folded = shown[:n], append(append([]string(nil), shown[n:]...), folded...)
	}
	l.names = append([]string(nil), shown...)
	if len(folded) == 1 {
		l.names = append(l.names, folded[0])
	} else if len(folded) > 1 {
		l.names = append(l.names, fmt.Sprintf("+%d more", len(folded)))
	}
	n := len(l.names) + 1
	if len(l.names) > room || n == 1 {
		return l, false
	}
	l.width = max(laneLeast, min(laneMost, (w-gutter-2*leastText)/n))
	l.columns = map[string]int{}
	middle := (len(l.names) + 1) / 2
	col := func(i int) int { return gutter + i*l.width + l.width/2 }
	for i, name := range l.names {
		if i >= middle {
			i++
		}
		l.columns[name] = col(i)
		l.at = append(l.at, col(i))
	}
	for _, name := range folded {
		l.columns[name] = l.at[len(l.at)-1]
	}
	l.broker, l.end = col(middle), gutter+n*l.width+1
	return l, true
}

// Draw draws the header and as many events as fit. It returns how many rows of
// events there are.
func (d *Drawing) Draw(c look.Canvas) (rows int) {
	t := c.Theme
	l, lanes := d.lanes(c.W)
	c.Text(0, 0, "time", t.Dim)
	if !lanes {
		c.Text(gutter, 0, "client", t.Dim)
		c.Text(gutter+15, 0, "packet", t.Dim)
	} else {
		c.Text(l.broker-3, 0, BrokerLane, t.Strong)
		for i, name := range l.names {
			short := look.Middle(name, l.width-1)
			c.Text(l.at[i]-look.Width(short)/2, 0, short, t.Ours)
		}
		c.Text(l.end, 0, "packet", t.Dim)
	}
	rows = max(0, c.H-1)
	for row := 0; row < rows; row++ {
		y, i := row+1, d.First+row
		if i >= len(d.Events) {
			continue
		}
		if lanes {
			for _, x := range l.at {
				c.Text(x, y, "│", t.Line)
			}
			c.Text(l.broker, y, "┃", t.Line)
		}
		e := &d.Events[i]
		at := e.At.Sub(d.Since).Seconds()
		c.Right(gutter-2, y, fmt.Sprintf("%+.3f", at), t.Dim)
		st, mark := d.style(e, t)
		x := l.end
		if !lanes {
			x = d.plain(c, y, e, st)
		} else {
			d.arrow(c, y, e, l.columns[e.Client], l.broker, st)
		}
		if mark.Sign != "" {
			x = c.Text(x, y, strings.TrimSpace(mark.Sign+" "+mark.Word)+" ", mark.Style)
		}
		text := look.Clip(d.describe(e, c.W-x), c.W-x)
		c.Text(x, y, text, st)
		d.highlight(c, x, y, text)
		if i == d.Cursor {
			c.Paint(0, y, c.W, t.Select)
			c.Text(0, y, "▸", t.Select)
		}
	}
	return rows
}

// highlight marks the words that are looked for.
func (d *Drawing) highlight(c look.Canvas, x, y int, text string) {
	lower := strings.ToLower(text)
	if len(lower) != len(text) {
		return // the letters do not stand where they stood
	}
	for _, word := range strings.Fields(strings.ToLower(d.Find)) {
		for from := 0; ; {
			i := strings.Index(lower[from:], word)
			if i < 0 {
				break
			}
			from += i + len(word)
			c.Text(
				x+look.Width(text[:from-len(word)]),
				y,
				text[from-len(word):from],
				look.Style{Fg: c.Theme.Ours.Fg, Bg: c.Theme.Select.Bg, Attrs: c.Theme.Select.Attrs},
			)
		}
	}
}

func (d *Drawing) style(e *trace.Event, t *look.Theme) (look.Style, Mark) {
	var m Mark
	if d.Marked != nil {
		m = d.Marked(e)
	}
	switch {
	case e.Broken != "":
		return t.Broken, Mark{"✗", "malformed", t.Broken}
	case m.Sign != "":
		return m.Style, m
	case e.Kind == trace.Link, e.Kind == trace.Gap, e.Kind == trace.Held, e.Kind == trace.Lost:
		return t.Warn, m
	case e.Kind == trace.Line:
		return t.Text, m
	case e.Publish() != nil && e.Meaning.Copied():
		return t.Ours, m
	case e.Publish() != nil:
		return t.Text, m
	}
	return t.Dim, m
}

// arrow draws the packet between its client's lane and the broker's. A retained copy
// has a dashed shaft.
func (d *Drawing) arrow(c look.Canvas, y int, e *trace.Event, from, broker int, st look.Style) {
	if from == 0 {
		return // its client has no lane: a gap
	}
	if e.Kind == trace.Line {
		c.Text(from, y, "▪", st)
		return
	}
	if e.Kind == trace.Link {
		sign := map[client.LinkEvent]string{client.LinkOpened: "●", client.LinkFailed: "╳", client.LinkFrozen: "❄", client.LinkThawed: "◌", client.LinkEnded: "○", client.SessionLost: "✗", client.Watching: "◉"}[e.Link]
		c.Text(from, y, sign, st)
		return
	}
	shaft := "─"
	if e.Meaning.Copied() {
		shaft = "╌"
	}
	left, right := min(from, broker)+1, max(from, broker)-1
	if stopped := map[trace.Kind]string{trace.Held: "▯", trace.Lost: "╳"}[e.Kind]; stopped != "" {
		// It gets no further than the client's own end of the link.
		to := min(right-left, look.Width(typeName(e))+3)
		if from < broker {
			c.Text(left, y, " "+typeName(e), st)
			c.Text(left+to, y, stopped, st)
		} else {
			c.Text(right-look.Width(typeName(e)), y, typeName(e), st)
			c.Text(right-to, y, stopped, st)
		}
		return
	}
	c.Text(left, y, strings.Repeat(shaft, right-left+1), st)
	if toRight := (e.Kind == trace.Sent) == (from < broker); toRight {
		c.Text(right, y, "▶", st)
	} else {
		c.Text(left, y, "◀", st)
	}
	name := typeName(e)
	if room := right - left - 1; look.Width(name) > room {
		name = look.Clip(name, room)
	}
	// The name stands beside the client, where no other lane is crossed.
	if from < broker {
		c.Text(left+1, y, name, st)
	} else {
		c.Text(right-look.Width(name), y, name, st)
	}
}

func typeName(e *trace.Event) string {
	if e.Packet == nil {
		return "bytes"
	}
	return e.Packet.Type().String()
}

// plain writes what the lanes would show, where there is no room for them.
func (d *Drawing) plain(c look.Canvas, y int, e *trace.Event, st look.Style) int {
	c.Text(gutter, y, look.Middle(e.Client, 12), c.Theme.Ours)
	dir := map[trace.Kind]string{trace.Sent: "→", trace.Received: "←", trace.Link: "·", trace.Line: "▪", trace.Gap: "⋯", trace.Held: "▯", trace.Lost: "╳"}[e.Kind]
	if e.Meaning.Copied() {
		dir = "⇠"
	}
	x := c.Text(gutter+13, y, dir+" ", st)
	if e.Packet != nil || len(e.Raw) > 0 {
		x = c.Text(x, y, typeName(e)+" ", st)
	}
	return x
}

// describe says what the arrow does not.
func (d *Drawing) describe(e *trace.Event, w int) string {
	p := e.Publish()
	switch {
	case e.Broken != "":
		return e.Broken
	case p == nil && report.Stopped(e) != "":
		return report.Stopped(e)
	case p == nil:
		return strings.TrimPrefix(strings.TrimPrefix(e.Describe(), typeName(e)), " ")
	}
	flags := fmt.Sprintf(" q%d", p.QoS)
	if word := report.Stopped(e); word != "" {
		flags += " " + word
	}
	if e.Meaning.Copied() {
		flags += " stored"
	} else if p.Retain {
		flags += " retain"
	}
	if p.Dup {
		flags += " DUP"
	}
	room := max(12, w*3/5-len(flags))
	return look.Middle(e.Topic(), room) + flags + " " + payload.Show(p.Payload, max(8, w))
}
