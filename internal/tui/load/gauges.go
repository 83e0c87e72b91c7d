package load

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"hodstone/internal/fleet"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
)

// gauge is a chart over the seconds of a load.
type gauge struct {
	title string
	short string // where there is little room
	value func(*fleet.Second) float64
	words func(float64) string
	style func(*look.Theme) look.Style
	timed bool
}

func gauges() []gauge {
	whole := func(f float64) string { return strconv.FormatFloat(math.Round(f), 'f', 0, 64) }
	per := func(n int64, x *fleet.Second) float64 { return float64(n) / max(0.001, x.Spread.Seconds()) }
	moment := func(f float64) string { return report.LoadMoment(time.Duration(f * 1e9)) }
	ours := func(t *look.Theme) look.Style { return t.Ours }
	kept := func(t *look.Theme) look.Style { return t.Kept }
	warn := func(t *look.Theme) look.Style { return t.Warn }
	broken := func(t *look.Theme) look.Style { return t.Broken }
	return []gauge{
		{"clients in", "", func(x *fleet.Second) float64 { return float64(x.In) }, whole, ours, false},
		{"messages a second heard", "heard a second", func(x *fleet.Second) float64 { return per(x.Heard, x) }, whole, kept, false},
		{"round trip p99", "", func(x *fleet.Second) float64 { return x.P99.Seconds() }, moment, warn, true},
		{
			"missing: under way, or lost",
			"missing so far",
			func(x *fleet.Second) float64 { return float64(x.Missing) },
			whole,
			broken,
			false,
		},
		{
			"generator, cores",
			"",
			func(x *fleet.Second) float64 { return x.CPU },
			func(f float64) string { return fmt.Sprintf("%.2f", f) },
			ours,
			false,
		},
		{"round trip p50", "", func(x *fleet.Second) float64 { return x.P50.Seconds() }, moment, kept, true},
	}
}

// panels draws the charts, as many as have room, and returns how many rows they took.
func (s *Screen) panels(c look.Canvas, r, other *fleet.Result) int {
	all := gauges()
	columns := 2
	if c.W >= 120 {
		columns = 3
	}
	switch {
	case c.H < 24 && r.Took > 0: // there is much to be said below
		all = all[1:3]
	case c.H < 24:
		all = all[:4]
	}
	rows := (len(all) + columns - 1) / columns
	// What the table and the words below need stays theirs.
	const least, most = 2, 12
	below := len(r.Steps) + 4
	if r.Took > 0 {
		below = min(below, 12) + 12
	}
	height := max(least, min(most, (c.H-below)/rows-2))
	w := c.W / columns
	for i := range all {
		drawGauge(c.Sub(i%columns*w, i/columns*(height+2), w-2, height+1), &all[i], r, other)
	}
	return rows * (height + 2)
}

// drawGauge draws one chart, over the whole of the run.
func drawGauge(c look.Canvas, g *gauge, r, other *fleet.Result) {
	t := c.Theme
	const label = 9
	room := max(4, c.W-label-3)
	values, asked := series(g, r, room), ""
	now, hi := 0.0, 0.0
	for _, v := range values {
		if !math.IsNaN(v) {
			now, hi = v, max(hi, v)
		}
	}
	if n := len(r.Seconds); n > 0 && g.title == "messages a second heard" && r.Seconds[n-1].Asked > 0 {
		asked = " of " + g.words(r.Seconds[n-1].Asked)
	}
	title := g.title
	if words := g.words(now) + asked; g.short != "" && look.Width(title)+look.Width(words)+6 > c.W {
		title = g.short
	}
	end := c.Text(2, 0, look.Clip(title, c.W-12), t.Strong)
	c.Text(end+2, 0, look.Clip(g.words(now)+asked, max(0, c.W-end-2)), t.Text)
	if len(values) == 0 {
		c.Text(2, 1, "nothing yet", t.Old)
		return
	}
	var under []float64
	if other != nil {
		under = series(g, other, room)
		for _, v := range under {
			if !math.IsNaN(v) {
				hi = max(hi, v)
			}
		}
	}
	h := c.H - 1
	c.Text(label-look.Width(g.words(hi)), 1, g.words(hi), t.Dim)
	c.Text(label-1, h, "0", t.Dim)
	draw := func(values []float64, st look.Style) {
		// The chart goes from 0, and what is steady is a line at its height: the first two cells see to that, and are not
		// shown.
		const hidden = 2
		for y, line := range look.Chart(append([]float64{0, hi, math.NaN(), math.NaN()}, values...), room+hidden, h) {
			for i, cell := range []rune(line) {
				if i >= hidden && cell != '\u2800' {
					c.Text(label+1+i-hidden, 1+y, string(cell), st)
				}
			}
		}
	}
	if other != nil {
		draw(under, t.Old)
	}
	draw(values, g.style(t))
}

// series are the values of a chart: joined, where there is no room for each second, and wide where there is more.
func series(g *gauge, r *fleet.Result, room int) (out []float64) {
	n := len(r.Seconds)
	most := 2 * room
	each := max(1, (n+most-1)/most)
	const widest = 8
	wide := max(1, min(widest, most/max(1, n)))
	for i := 0; i < n; i += each {
		worst := 0.0
		for k := i; k < min(n, i+each); k++ {
			worst = max(worst, g.value(&r.Seconds[k]))
		}
		if g.timed && worst == 0 { // nothing came to be timed
			worst = math.NaN()
		}
		for range wide {
			out = append(out, worst)
		}
	}
	return out
}

// stepRows is how many of the steps have room where there are so many rows for them and for what follows.
func stepRows(h, steps int) int { return max(1, min(steps, max(3, h/2))) }
