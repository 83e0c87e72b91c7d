package report

import (
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/draw"
)

// The measures of the drawing of a contract, in points.
const (
	conParty  = 110.0
	conQoS    = 70.0
	conColumn = 62.0
	conRow    = 17.0
	conGap    = 12.0
	conWide   = 420.0 // of a topic at most
)

// ContractDrawing draws who says what to whom: the topics, grouped by the party that publishes, with an arrow to each
// party that consumes. The error says that there is nothing to draw.
func ContractDrawing(name string, at time.Time, c *contract.Contract) (*draw.Surface, error) {
	if len(c.Clauses) == 0 {
		return nil, fmt.Errorf("the contract has no clause: there is nothing to draw")
	}
	groups := map[string][]*contract.Clause{}
	var order []string
	for _, cl := range c.Clauses {
		if groups[cl.From] == nil {
			order = append(order, cl.From)
		}
		groups[cl.From] = append(groups[cl.From], cl)
	}
	column := map[string]int{}
	var consumers []string
	for i := range c.Parties {
		for _, cl := range c.Clauses {
			for _, to := range cl.To {
				if _, there := column[to]; to == c.Parties[i].Name && !there {
					column[to] = len(consumers)
					consumers = append(consumers, to)
				}
			}
		}
	}
	mono := draw.Font{Color: ink, Size: 9, Mono: true, Align: -1}
	small := draw.Font{Color: faint, Size: 8, Align: -1}
	wide := 120.0
	for _, cl := range c.Clauses {
		wide = min(conWide, max(wide, mono.Width(cl.Topic.String())+10))
	}
	width := 2*seqMargin + conParty + wide + conQoS + float64(len(consumers))*conColumn + 20
	height := 2*seqMargin + 80 + float64(len(c.Clauses))*conRow + float64(len(order))*conGap
	s := draw.New(width, height)
	heading(s, name+": who says what to whom", at)
	left := seqMargin + conParty
	right := left + wide + conQoS
	top := seqMargin + 64
	for i, p := range consumers {
		x := right + (float64(i)+0.5)*conColumn
		s.Text(draw.Font{Color: ink, Size: 9, Bold: true}, draw.Point{X: x, Y: top - 10}, fitted(draw.Font{Size: 9, Bold: true}, p, conColumn-4))
		s.Line(draw.Pen{Color: rule, Width: 0.5}, draw.Point{X: x, Y: top}, draw.Point{X: x, Y: height - seqMargin})
	}
	y := top
	for _, from := range order {
		list := groups[from]
		h := float64(len(list)) * conRow
		name, col := from, water
		if from == "" {
			name, col = "nobody named", faint
		}
		box(s, col, seqMargin, y, 3, h)
		s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin + 9, Y: y + 12},
			fitted(draw.Font{Size: 10, Bold: true}, name, conParty-14))
		for _, cl := range list {
			base := y + conRow - 5
			s.Text(mono, draw.Point{X: left, Y: base}, fitted(mono, cl.Topic.String(), wide-10))
			s.Text(small, draw.Point{X: left + wide, Y: base}, envelope(cl))
			last := -1.0
			for _, to := range cl.To {
				if i, known := column[to]; known {
					x := right + (float64(i)+0.5)*conColumn
					last = max(last, x)
					s.Fill(lichen, draw.Point{X: x - 4, Y: base - 7}, draw.Point{X: x + 4, Y: base - 3}, draw.Point{X: x - 4, Y: base + 1})
				}
			}
			if last > 0 {
				s.Line(draw.Pen{Color: lichen, Width: 0.8}, draw.Point{X: right - 4, Y: base - 3}, draw.Point{X: last - 4, Y: base - 3})
			}
			y += conRow
		}
		y += conGap
		s.Line(draw.Pen{Color: rule, Width: 0.5}, draw.Point{X: seqMargin, Y: y - conGap/2}, draw.Point{X: width - seqMargin, Y: y - conGap/2})
	}
	return s, nil
}

// envelope is QoS and retain flag in a few characters.
func envelope(cl *contract.Clause) string {
	text := ""
	if cl.QoS != nil {
		text = fmt.Sprintf("q%d", *cl.QoS)
	}
	if cl.Retain != nil && *cl.Retain {
		text += " retained"
	}
	return text
}

// fitted cuts a text in its middle to a width.
func fitted(f draw.Font, s string, w float64) string {
	r := []rune(s)
	if f.Width(s) <= w {
		return s
	}
	for n := len(r) / 2; n > 0; n-- {
		if cut := string(r[:n]) + "…" + string(r[len(r)-n:]); f.Width(cut) <= w {
			return cut
		}
	}
	return "…"
}
