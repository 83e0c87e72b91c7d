package report

import (
	"fmt"
	"image/color"
	"strings"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
)

var lichen = color.RGBA{0x45, 0x70, 0x2a, 0xff}

// The measures of the drawing of ways in, in points.
const (
	reachLabel = 150.0
	reachStage = 105.0
	reachRow   = 34.0
	reachText  = 13.0
)

// stageNames are the columns.
var stageNames = reach.Stages(link.Endpoint{TLS: true, WebSocket: true})

// ReachDrawing draws the ways in, with the reason where one breaks, the open doors, and how the
// observers stayed in. The error says that there is nothing to draw.
func ReachDrawing(name string, at time.Time, results []reach.Result, stays []reach.Stay) (*draw.Surface, error) {
	if len(results) == 0 {
		return nil, fmt.Errorf("no way in was tried yet: there is nothing to draw")
	}
	width := 2*seqMargin + reachLabel + reachStage*float64(len(stageNames))
	small := draw.Font{Color: faint, Size: 9, Align: -1}
	words := func(text string) []string { return wrapped(small, text, width-2*seqMargin-20) }
	// First the rows, to know how high the drawing gets.
	type line struct {
		way   *reach.Way
		label string
		texts []string
		col   color.Color
	}
	var lines []line
	var doors []string
	var all []*reach.Result
	for i := range results {
		r := &results[i]
		for k := range r.Ways {
			w := &r.Ways[k]
			if w.Extra && !w.In {
				continue
			}
			l := line{way: w, label: r.Target.Name}
			if d := w.Diagnosis; d != nil {
				l.col = ember
				l.texts = append(words("broken: "+d.What), words("try next: "+d.Remedy)...)
			}
			lines = append(lines, l)
		}
		for _, f := range r.Findings {
			if f.Severity != trust.Note {
				lines = append(lines, line{texts: words(string(f.Severity) + ": " + f.What), col: severityColor(f.Severity)})
			}
		}
		all = append(all, r)
	}
	for _, d := range reach.OpenDoors(all) {
		doors = append(doors, strings.TrimLeft(DoorLine(d), "!· "))
	}
	height := seqMargin*2 + 60
	for _, l := range lines {
		if l.way != nil {
			height += reachRow
		}
		height += float64(len(l.texts))*reachText + 6
	}
	height += float64(len(doors)+1)*reachText + 20
	const chart = 90.0
	for i := range stays {
		height += chart + 60 + float64(min(len(stays[i].Gaps), maxGapLines))*reachText
	}
	s := draw.New(width, height)
	s.Text(draw.Font{Color: ink, Size: 13, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: seqMargin + 6}, name+": ways in")
	s.Text(small, draw.Point{X: seqMargin, Y: seqMargin + 22}, at.Format("2 January 2006, 15:04:05 MST"))
	column := func(i int) float64 { return seqMargin + reachLabel + (float64(i)+0.5)*reachStage }
	y := seqMargin + 44
	for i, n := range stageNames {
		s.Text(draw.Font{Color: faint, Size: 9}, draw.Point{X: column(i), Y: y}, string(n))
	}
	y += 22
	for _, l := range lines {
		if l.way != nil {
			s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y + 3}, fit(small, l.label, reachLabel-8))
			s.Text(draw.Font{Color: faint, Size: 8, Align: -1}, draw.Point{X: seqMargin, Y: y + 14}, fit(small, l.way.Address, reachLabel-8))
			track(s, l.way, y, column)
			y += reachRow - 6
		}
		for _, t := range l.texts {
			s.Text(draw.Font{Color: l.col, Size: 9, Align: -1}, draw.Point{X: seqMargin + 16, Y: y}, t)
			y += reachText
		}
		y += 6
	}
	s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y + 8}, "doors left open")
	y += 8 + reachText
	if doors == nil {
		s.Text(small, draw.Point{X: seqMargin + 16, Y: y}, "none was found")
		y += reachText
	}
	for _, d := range doors {
		s.Text(draw.Font{Color: ochre, Size: 9, Align: -1}, draw.Point{X: seqMargin + 16, Y: y}, fit(small, d, width-2*seqMargin-16))
		y += reachText
	}
	for i := range stays {
		y = stayChart(s, &stays[i], y+24, width, chart)
	}
	s.H = min(s.H, max(y+seqMargin, 100))
	return s, nil
}

// wrapped breaks a text into lines of at most a width in points.
func wrapped(f draw.Font, text string, width float64) (out []string) {
	line := ""
	for word := range strings.FieldsSeq(text) {
		if line != "" && f.Width(line+" "+word) > width {
			out = append(out, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(out, fit(f, line, width))
}

// track draws the stages of one address.
func track(s *draw.Surface, w *reach.Way, y float64, column func(int) float64) {
	steps := map[reach.Stage]reach.Step{}
	for _, st := range w.Steps {
		steps[st.Stage] = st
	}
	open := true
	from := column(0)
	for i, n := range stageNames {
		st, has := steps[n]
		if !has {
			continue
		}
		x := column(i)
		pen := draw.Pen{Color: lichen, Width: 1.6}
		if !open {
			pen = draw.Pen{Color: rule, Width: 1, Dash: []float64{3, 3}}
		}
		if i > 0 {
			s.Line(pen, draw.Point{X: from + 5, Y: y}, draw.Point{X: x - 5, Y: y})
		}
		from = x
		mark(s, x, y, st.State)
		if st.State == reach.Failed {
			open = false
		}
		if st.Took > 0 {
			s.Text(draw.Font{Color: faint, Size: 8}, draw.Point{X: x, Y: y + 15}, fmt.Sprintf("%.2f ms", ms(st.Took)))
		}
	}
}

// mark draws a dot for what was done, a cross for what failed, a ring for what was not tried.
func mark(s *draw.Surface, x, y float64, state reach.State) {
	const r = 3.6
	diamond := []draw.Point{{X: x - r, Y: y}, {X: x, Y: y - r}, {X: x + r, Y: y}, {X: x, Y: y + r}}
	switch state {
	case reach.Done:
		s.Fill(lichen, diamond...)
	case reach.Failed:
		cross(s, x, y, r)
	default:
		s.Line(draw.Pen{Color: rule, Width: 1}, append(diamond, diamond[0])...)
	}
}

func cross(s *draw.Surface, x, y, r float64) {
	pen := draw.Pen{Color: ember, Width: r / 1.8}
	s.Line(pen, draw.Point{X: x - r, Y: y - r}, draw.Point{X: x + r, Y: y + r})
	s.Line(pen, draw.Point{X: x - r, Y: y + r}, draw.Point{X: x + r, Y: y - r})
}

// stayChart draws the ping round trips of an observer over time, with its gaps.
func stayChart(s *draw.Surface, st *reach.Stay, y, width, height float64) float64 {
	small := draw.Font{Color: faint, Size: 8, Align: -1}
	s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y}, fmt.Sprintf("staying in at %s: ping round trip in ms", st.Broker))
	y += 12
	if len(st.Samples) < 2 {
		s.Text(small, draw.Point{X: seqMargin + 16, Y: y + 6}, "too few pings so far")
		return y + 20
	}
	left, right := seqMargin+40, width-seqMargin
	first, last := st.Samples[0].At, st.Samples[len(st.Samples)-1].At
	most := time.Duration(0)
	for _, x := range st.Samples {
		most = max(most, x.RTT)
	}
	span := max(last.Sub(first), time.Second)
	px := func(t time.Time) float64 {
		return min(right, max(left, left+float64(t.Sub(first))/float64(span)*(right-left)))
	}
	py := func(d time.Duration) float64 {
		return y + height - 20 - float64(d)/float64(max(most, 1))*(height-30)
	}
	axis := draw.Pen{Color: rule, Width: 0.8}
	s.Line(axis, draw.Point{X: left, Y: y}, draw.Point{X: left, Y: y + height - 20}, draw.Point{X: right, Y: y + height - 20})
	s.Text(draw.Font{Color: faint, Size: 8, Align: 1}, draw.Point{X: left - 4, Y: py(most) + 3}, fmt.Sprintf("%.2f", ms(most)))
	s.Text(draw.Font{Color: faint, Size: 8, Align: 1}, draw.Point{X: left - 4, Y: py(0) + 3}, "0")
	for _, g := range st.Gaps {
		if g.From.IsZero() {
			continue
		}
		to := g.To
		if to.IsZero() {
			to = last
		}
		a, b := px(g.From), max(px(to), px(g.From)+2)
		s.Fill(color.RGBA{0xf2, 0xd9, 0xd2, 0xff}, draw.Point{X: a, Y: y}, draw.Point{X: b, Y: y}, draw.Point{X: b, Y: y + height - 20}, draw.Point{X: a, Y: y + height - 20})
	}
	var run []draw.Point
	flush := func() {
		if len(run) > 1 {
			s.Line(draw.Pen{Color: stored, Width: 1}, run...)
		}
		run = nil
	}
	gaps := st.Gaps
	for _, x := range st.Samples {
		for len(gaps) > 0 && gaps[0].From.Before(x.At) { // no line across a gap
			flush()
			gaps = gaps[1:]
		}
		if x.Lost {
			flush()
			cross(s, px(x.At), y+height-20, 2.4)
			continue
		}
		run = append(run, draw.Point{X: px(x.At), Y: py(x.RTT)})
	}
	flush()
	s.Text(small, draw.Point{X: left, Y: y + height - 8}, first.Format("15:04:05"))
	s.Text(draw.Font{Color: faint, Size: 8, Align: 1}, draw.Point{X: right, Y: y + height - 8}, last.Format("15:04:05"))
	s.Text(draw.Font{Color: faint, Size: 8}, draw.Point{X: (left + right) / 2, Y: y + height - 8}, fmt.Sprintf("%d gaps, %d of %d pings lost", len(st.Gaps), st.Lost, len(st.Samples)))
	y += height
	for i := len(st.Gaps) - 1; i >= max(0, len(st.Gaps)-maxGapLines); i-- {
		if line := GapLine(&st.Gaps[i]); line != "" {
			y += reachText
			s.Text(small, draw.Point{X: left, Y: y}, fit(small, line, right-left))
		}
	}
	return y
}

// maxGapLines is how many gaps are told beneath a chart: the latest.
const maxGapLines = 6

// GapLine says how long a gap was and who caused it, "" for one that is not noticed yet.
func GapLine(g *reach.Gap) string {
	if g.From.IsZero() {
		return ""
	}
	s := g.From.Format("15:04:05") + "  out, and not back yet"
	if !g.To.IsZero() {
		s = fmt.Sprintf("%s  gap of %.2f s", g.From.Format("15:04:05"), g.To.Sub(g.From).Seconds())
	}
	if g.Purpose != "" {
		s += fmt.Sprintf(", on purpose (%s), noticed after %.2f s", g.Purpose, g.Detection().Seconds())
	} else {
		s += ", by " + string(g.Blame)
	}
	return s + ": " + g.Evidence
}
