package report

import (
	"fmt"
	"image/color"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/draw"
	"hodstone/internal/payload"
)

// The measures of the drawing of a sheet, in points.
const (
	sheetName = 170.0
	sheetCell = 96.0
	sheetRow  = 17.0
	sheetMost = 40 // instances side by side; of more, those that are not well are drawn
)

// stateColor and stateSign show how a cell stands.
func stateColor(s contract.CellState) color.Color {
	switch s {
	case contract.CellKept:
		return lichen
	case contract.CellBroken:
		return ember
	case contract.CellSilent:
		return ochre
	}
	return faint
}

// SheetDrawing draws a sheet: a row for each clause, a cell for each instance with its state and last value. cells are
// those that are shown, strays the topics that no clause covers.
func SheetDrawing(name string, at time.Time, cells []*contract.Cell, strays []contract.Stray) (*draw.Surface, error) {
	if len(cells) == 0 {
		return nil, fmt.Errorf("no cell is shown: there is nothing to draw")
	}
	rows := map[*contract.Clause][]*contract.Cell{}
	var order []*contract.Clause
	most := 1
	for _, c := range cells {
		if rows[c.Clause] == nil {
			order = append(order, c.Clause)
		}
		rows[c.Clause] = append(rows[c.Clause], c)
	}
	left := map[*contract.Clause]int{}
	for cl, list := range rows {
		if n := len(list); n > sheetMost {
			well := func(c *contract.Cell) bool { return c.State != contract.CellBroken && c.State != contract.CellSilent }
			slices.SortStableFunc(list, func(a, b *contract.Cell) int {
				return map[bool]int{false: 0, true: 1}[well(a)] - map[bool]int{false: 0, true: 1}[well(b)]
			})
			rows[cl], left[cl] = list[:sheetMost], n-sheetMost
		}
		most = max(most, len(rows[cl]))
	}
	n := min(8, most) // instances in a line
	lines := 0
	for _, cl := range order {
		lines += (len(rows[cl])+n-1)/n + 1
	}
	s := draw.New(2*seqMargin+sheetName+float64(n)*sheetCell, 2*seqMargin+60+float64(lines+min(len(strays), 40)+2)*sheetRow)
	heading(s, name+": the contract", at)
	y := seqMargin + 56.0
	small := draw.Font{Color: faint, Size: 8, Align: -1}
	for _, cl := range order {
		s.Text(draw.Font{Color: ink, Size: 9, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y}, fitted(draw.Font{Size: 9, Bold: true}, cl.Name, sheetName-8))
		list := rows[cl]
		for i, c := range list {
			if i > 0 && i%n == 0 {
				y += sheetRow
			}
			x := seqMargin + sheetName + float64(i%n)*sheetCell
			box(s, stateColor(c.State), x, y-8, 3, 11)
			text := c.Instance
			if text != "" {
				text += "  "
			}
			s.Text(draw.Font{Color: ink, Size: 8, Align: -1}, draw.Point{X: x + 6, Y: y}, fitted(draw.Font{Size: 8}, text+lastValue(c), sheetCell-12))
		}
		y += sheetRow
		note := cl.Topic.String()
		if left[cl] > 0 {
			note += fmt.Sprintf("   and %d more that are well", left[cl])
		}
		s.Text(small, draw.Point{X: seqMargin + sheetName, Y: y - 5}, note)
		y += sheetRow * 0.6
	}
	for i, x := range strays {
		if i == 40 {
			break
		}
		s.Text(draw.Font{Color: ochre, Size: 8, Align: -1}, draw.Point{X: seqMargin, Y: y}, "stray")
		s.Text(small, draw.Point{X: seqMargin + sheetName, Y: y}, fmt.Sprintf("%s ×%d", x.Topic, x.Count))
		y += sheetRow
	}
	return s, nil
}

// lastValue is a cell's last value in few characters.
func lastValue(c *contract.Cell) string {
	if c.Last.At.IsZero() {
		return string(c.State)
	}
	v := c.Value()
	for _, f := range c.Clause.Payload.Fields() {
		x, ok := payload.At(v, f.Pointer)
		if _, nested := x.(map[string]any); !ok || v == nil || nested || strings.HasSuffix(f.Type, "date-time") {
			continue
		}
		text := strings.TrimSpace(strings.Trim(contract.Compact(x), `"`) + " " + f.Unit)
		if c.State == contract.CellBroken {
			text = "✗ " + text
		}
		return text
	}
	return payload.Show(c.Last.Payload, 30)
}

// HistoryDrawing draws the numbers of a cell over time, a line for each field.
func HistoryDrawing(name string, at time.Time, c *contract.Cell) (*draw.Surface, error) {
	type line struct {
		field  contract.Field
		times  []time.Time
		values []float64
	}
	var all []line
	for _, f := range c.Clause.Payload.Fields() {
		l := line{field: f}
		for i := range c.History {
			h := &c.History[i]
			if v, ok := payload.At(h.Value(), f.Pointer); ok {
				if n, is := payload.Plain(v).(float64); is {
					l.times, l.values = append(l.times, h.At), append(l.values, n)
				}
			}
		}
		if len(l.values) > 1 {
			all = append(all, l)
		}
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("there are no numbers over time yet: there is nothing to draw")
	}
	const w, h = 620.0, 120.0
	s := draw.New(2*seqMargin+w+120, 2*seqMargin+50+float64(len(all))*(h+36))
	heading(s, fmt.Sprintf("%s: %s", name, c.Topic), at)
	y := seqMargin + 60.0
	small := draw.Font{Color: faint, Size: 8, Align: -1}
	for _, l := range all {
		lo, hi := slices.Min(l.values), slices.Max(l.values)
		if hi == lo {
			lo, hi = lo-1, hi+1
		}
		from, span := l.times[0], l.times[len(l.times)-1].Sub(l.times[0])
		x0 := seqMargin + 90
		px := func(t time.Time) float64 { return x0 + float64(t.Sub(from))/float64(max(span, 1))*w }
		py := func(v float64) float64 { return y + h - (v-lo)/(hi-lo)*h }
		s.Text(draw.Font{Color: ink, Size: 9, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y + 8}, fitted(draw.Font{Size: 9, Bold: true}, l.field.Name, 84))
		s.Text(small, draw.Point{X: seqMargin, Y: y + 20}, l.field.Unit)
		for _, v := range []float64{lo, (lo + hi) / 2, hi} {
			s.Line(draw.Pen{Color: rule, Width: 0.5}, draw.Point{X: x0, Y: py(v)}, draw.Point{X: x0 + w, Y: py(v)})
			s.Text(small, draw.Point{X: x0 + w + 6, Y: py(v) + 3}, fmt.Sprintf("%.4g", v))
		}
		points := make([]draw.Point, len(l.values))
		for i := range l.values {
			points[i] = draw.Point{X: px(l.times[i]), Y: py(l.values[i])}
		}
		s.Line(draw.Pen{Color: water, Width: 1.4}, points...)
		s.Text(small, draw.Point{X: x0, Y: y + h + 14}, from.Format("15:04:05"))
		s.Text(draw.Font{Color: faint, Size: 8, Align: 1}, draw.Point{X: x0 + w, Y: y + h + 14}, l.times[len(l.times)-1].Format("15:04:05"))
		y += h + 36
	}
	return s, nil
}
