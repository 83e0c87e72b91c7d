package report

import (
	"fmt"
	"image/color"
	"slices"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/trace"
)

// MaxSequence is how many events a drawn sequence may have.
const MaxSequence = 900

// Sequence says how a sequence is drawn for export.
type Sequence struct {
	// Caption stands above: workspace, broker, time span, filter.
	Caption []string
	Events  []trace.Event
	// Lanes are the clients in their order; those of the events where it is nil. The
	// broker's lane is put into their middle.
	Lanes []string
	// Since is what times are relative to; the first event's where it is zero.
	Since  time.Time
	Marked func(*trace.Event) string
	// Narrow leaves less room for lanes and texts: for a page.
	Narrow bool
}

// lane is how wide a lane is, and text the room for what stands beside.
func (q *Sequence) room() (lane, text float64) {
	if q.Narrow {
		return 64, 270
	}
	return seqLane, seqText
}

// The measures of the drawing, in points.
const (
	seqRow    = 14.0
	seqMargin = 24.0
	seqGutter = 62.0
	seqLane   = 92.0
	seqText   = 380.0
)

var (
	ink    = color.RGBA{0x22, 0x30, 0x3a, 0xff}
	faint  = color.RGBA{0x6b, 0x7b, 0x85, 0xff}
	rule   = color.RGBA{0xc3, 0xcc, 0xc9, 0xff}
	ember  = color.RGBA{0xb3, 0x34, 0x1a, 0xff}
	ochre  = color.RGBA{0x8a, 0x61, 0x00, 0xff}
	water  = color.RGBA{0x2f, 0x6f, 0x8f, 0xff}
	stored = color.RGBA{0x1f, 0x6a, 0x91, 0xff}
)

// Lanes returns the clients of the events in the order of their first event.
func Lanes(events []trace.Event) (out []string) {
	for i := range events {
		if c := events[i].Client; c != "" && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// Draw draws the sequence. The error says that there is nothing to draw, or too much.
func (q *Sequence) Draw() (*draw.Surface, error) {
	switch {
	case len(q.Events) == 0:
		return nil, fmt.Errorf("there is no event to draw")
	case len(q.Events) > MaxSequence:
		return nil, fmt.Errorf(
			"%d events are too many for a drawing; at most %d: narrow them down with a filter",
			len(q.Events),
			MaxSequence,
		)
	}
	lanes := q.Lanes
	if lanes == nil {
		lanes = Lanes(q.Events)
	}
	since := q.Since
	if since.IsZero() {
		since = q.Events[0].At
	}
	top := seqMargin + float64(len(q.Caption))*16 + 34
	width, room := q.room()
	textAt := seqMargin + seqGutter + float64(len(lanes)+1)*width
	s := draw.New(textAt+room+seqMargin, top+float64(len(q.Events))*seqRow+seqMargin)
	for i, line := range q.Caption {
		f := draw.Font{Color: faint, Size: 10, Align: -1}
		if i == 0 {
			f = draw.Font{Color: ink, Size: 13, Bold: true, Align: -1}
		}
		s.Text(f, draw.Point{X: seqMargin, Y: seqMargin + float64(i)*16 + 4}, line)
	}
	columns := map[string]float64{}
	middle := (len(lanes) + 1) / 2
	col := func(i int) float64 { return seqMargin + seqGutter + (float64(i)+0.5)*width }
	lane := func(name string, x float64, pen draw.Pen, bold bool) {
		s.Line(pen, draw.Point{X: x, Y: top - 8}, draw.Point{X: x, Y: s.H - seqMargin})
		f := draw.Font{Color: ink, Size: 10, Bold: bold}
		s.Text(f, draw.Point{X: x, Y: top - 14}, fit(f, name, width-6))
	}
	for i, name := range lanes {
		if i >= middle {
			i++
		}
		columns[name] = col(i)
		lane(name, col(i), draw.Pen{Color: rule, Width: 0.8}, false)
	}
	lane("broker", col(middle), draw.Pen{Color: faint, Width: 1.6}, true)
	s.Text(
		draw.Font{Color: faint, Size: 9, Align: 1},
		draw.Point{X: seqMargin + seqGutter - 12, Y: top - 14},
		"seconds",
	)
	for i := range q.Events {
		q.row(s, &q.Events[i], top+(float64(i)+0.5)*seqRow, columns, col(middle), textAt, since)
	}
	return s, nil
}

// fit cuts a text at its end to a width in points.
func fit(f draw.Font, text string, width float64) string {
	if f.Width(text) <= width {
		return text
	}
	r := []rune(text)
	// Half the width per character is a first guess that saves measuring most of it.
	r = r[:min(len(r), int(width/f.Size*4)+1)]
	for len(r) > 0 && f.Width(string(r)+"…") > width {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

func (q *Sequence) row(
	s *draw.Surface,
	e *trace.Event,
	y float64,
	columns map[string]float64,
	broker, textAt float64,
	since time.Time,
) {
	col, mark := color.Color(ink), ""
	if q.Marked != nil {
		mark = q.Marked(e)
	}
	isCopy := e.Meaning.Copied()
	switch {
	case e.Broken != "" || mark != "":
		col = ember
	case e.Kind != trace.Sent && e.Kind != trace.Received:
		col = ochre
	case isCopy:
		col = stored
	case e.Publish() == nil:
		col = faint
	}
	base := y + 3
	s.Text(
		draw.Font{Color: faint, Size: 9, Mono: true, Align: 1},
		draw.Point{X: seqMargin + seqGutter - 12, Y: base},
		fmt.Sprintf("%+.3f", e.At.Sub(since).Seconds()),
	)
	q.arrow(s, e, y, columns[e.Client], broker, col, isCopy)
	text := e.Describe()
	if e.Broken != "" {
		text += "  broken: " + e.Broken
	}
	if word := Stopped(e); word != "" {
		text = word + ": " + text
	}
	if p := e.Publish(); p != nil {
		if isCopy {
			text += " stored"
		}
		if len(p.Payload) > 0 {
			text += "  " + payloadText(p.Payload)
		}
	}
	if mark != "" {
		text = mark + "  " + text
	}
	f := draw.Font{Color: col, Size: 9, Align: -1}
	_, room := q.room()
	s.Text(f, draw.Point{X: textAt, Y: base}, fit(f, text, room))
}

// arrow draws the packet between its client's lane and the broker's, dashed for a retained
// copy; what is no packet gets a mark on the client's lane.
func (q *Sequence) arrow(s *draw.Surface, e *trace.Event, y, from, broker float64, col color.Color, isCopy bool) {
	if from == 0 {
		return
	}
	if Stopped(e) != "" { // it gets no further than the client's own end of the link
		way := (broker - from) / abs(broker-from)
		s.Line(
			draw.Pen{Color: col, Width: 0.9, Dash: []float64{1, 2}},
			draw.Point{X: from + way, Y: y},
			draw.Point{X: from + way*20, Y: y},
		)
		s.Line(
			draw.Pen{Color: col, Width: 1.2},
			draw.Point{X: from + way*20, Y: y - 3},
			draw.Point{X: from + way*20, Y: y + 3},
		)
		return
	}
	if e.Kind != trace.Sent && e.Kind != trace.Received {
		r := 3.2
		points := []draw.Point{{X: from - r, Y: y}, {X: from, Y: y - r}, {X: from + r, Y: y}, {X: from, Y: y + r}}
		if e.Link == client.LinkOpened || e.Kind == trace.Line {
			s.Fill(col, points...)
		} else {
			s.Fill(color.White, points...)
			s.Line(draw.Pen{Color: col, Width: 1}, append(points, points[0])...)
		}
		return
	}
	start, end := from, broker
	if e.Kind == trace.Received {
		start, end = broker, from
	}
	way := 1.0
	if end < start {
		way = -1
	}
	pen := draw.Pen{Color: col, Width: 0.9}
	if isCopy {
		pen.Dash = []float64{4, 2}
	}
	s.Line(pen, draw.Point{X: start + way, Y: y}, draw.Point{X: end - way*5, Y: y})
	s.Fill(
		col,
		draw.Point{X: end - way, Y: y},
		draw.Point{X: end - way*7, Y: y - 2.6},
		draw.Point{X: end - way*7, Y: y + 2.6},
	)
	name := "bytes"
	if e.Packet != nil {
		name = e.Packet.Type().String()
	}
	f := draw.Font{Color: col, Size: 7}
	x := from + (broker-from)/abs(broker-from)*(f.Width(name)/2+8)
	// A white ground keeps the name readable on the arrow.
	w := f.Width(name)/2 + 1.5
	s.Fill(
		color.White,
		draw.Point{X: x - w, Y: y - 3.5},
		draw.Point{X: x + w, Y: y - 3.5},
		draw.Point{X: x + w, Y: y + 3.5},
		draw.Point{X: x - w, Y: y + 3.5},
	)
	s.Text(f, draw.Point{X: x, Y: y + 2.5}, name)
}

func abs(f float64) float64 {
	if f < 0 {
		return -f
	}
	return f
}

// Span writes the time span of events: "23 November 2026, 09:30:01.123 to 09:31:12.001".
func Span(events []trace.Event) string {
	if len(events) == 0 {
		return ""
	}
	first, last := events[0].At, events[len(events)-1].At
	s := first.Format("2 January 2006, 15:04:05.000") + " to "
	if first.YearDay() != last.YearDay() || first.Year() != last.Year() {
		s += last.Format("2 January 2006, ")
	}
	return s + last.Format("15:04:05.000 MST")
}
