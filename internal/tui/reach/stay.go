package reach

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	core "hodstone/internal/reach"
	"hodstone/internal/tui/look"
)

// drawStay shows how the observer stays in at the broker of the way with the cursor.
func (s *Screen) drawStay(c look.Canvas) {
	t := c.Theme
	broker := s.broker()
	c.Rule(0, "staying in at "+broker, t.Strong)
	var stay *core.Stay
	for i := range s.stays {
		if s.stays[i].Broker == broker {
			stay = &s.stays[i]
		}
	}
	if stay == nil {
		for i, l := range look.Wrap("Hodstone's observer is not at this broker. m lets a client of ours stay in there: then its pings, the gaps and who caused them show here.", c.W-3) {
			c.Text(1, 1+i, l, t.Dim)
		}
		return
	}
	now := time.Now()
	word, st := "● in", t.Kept
	if !stay.In {
		word, st = "╳ out", t.Broken
	}
	if stay.Left {
		word, st = "○ left", t.Old
	}
	x := c.Text(1, 1, word, st)
	if stay.Since.IsZero() {
		c.Text(x, 1, ": the observer never got in so far", t.Text)
		return
	}
	if silent := stay.Silent(now); silent > 0 {
		x = c.Text(1, 1, "! silent for "+look.Age(silent)+": a ping is not answered", t.Warn)
	} else {
		x = c.Text(x, 1, " for "+look.Age(now.Sub(stay.Since)), t.Text)
	}
	y := s.drawPings(c, x, stay, now)
	for _, f := range stay.Findings {
		c.Text(1, y, look.Clip("✗ "+f.What, c.W-2), t.Broken)
		y++
	}
	if back := reconnects(stay); back != "" {
		c.Text(1, y, look.Clip("came back: "+back, c.W-2), t.Dim)
		y++
	}
	if len(stay.Gaps) == 0 {
		for i, l := range look.Wrap("no gap so far. c cuts the observer's link from here, f freezes it as a pulled cable does, t lets a stand-in throw it out: then detection and recovery show.", c.W-3) {
			c.Text(1, y+i, l, t.Dim)
		}
		return
	}
	for i := len(stay.Gaps) - 1; i >= 0 && y < c.H; i-- {
		y = drawGap(c, y, &stay.Gaps[i], now)
	}
}

// chartSpan is how much time the chart shows at most.
const chartSpan = time.Hour

// drawPings draws the round trips over time, with losses and gaps on a line of their own, and
// returns the row below. x is where the first row is free.
func (s *Screen) drawPings(c look.Canvas, x int, stay *core.Stay, now time.Time) int {
	t := c.Theme
	from, last := now, ""
	var best, worst time.Duration
	for _, p := range stay.Samples {
		if now.Sub(p.At) > chartSpan {
			continue
		}
		if p.At.Before(from) {
			from = p.At
		}
		if p.Lost {
			continue
		}
		if best == 0 || p.RTT < best {
			best = p.RTT
		}
		worst = max(worst, p.RTT)
		last = look.Duration(p.RTT)
	}
	if last == "" {
		return 2
	}
	if stay.Silent(now) == 0 {
		x = c.Text(x+2, 1, "ping "+last, t.Text)
	}
	lost := look.Style(t.Dim)
	if stay.Lost > 0 {
		lost = t.Warn
	}
	c.Text(x, 1, look.Clip(fmt.Sprintf("  lost %d of %d", stay.Lost, len(stay.Samples)), c.W-x), lost)
	const label = 9
	w := c.W - label - 5 // behind it stands "now"
	n := min(2*w, 4*len(stay.Samples))
	if w < 10 || len(stay.Samples) < 2 {
		return 2
	}
	bins := stay.Bins(from, now, n)
	values := make([]float64, n)
	before := math.NaN()
	silent := n // the first span of a silence that lasts
	if stay.Silent(now) > 0 {
		silent = int(float64(n) * float64(stay.Unanswered.Sub(from)) / float64(now.Sub(from)))
	}
	for i, b := range bins {
		switch {
		case i >= silent:
			before = math.NaN()
		case b.Pings > 0:
			before = float64(b.RTT)
		case b.Out || b.Lost:
			before = math.NaN()
		}
		values[i] = before // a span between two pings goes on as it was
	}
	rows := min(4, max(1, c.H/4))
	for i, l := range look.Chart(values, w, rows) {
		switch {
		case i == 0:
			c.Right(label-1, 2, look.Duration(worst), t.Dim)
		case i == rows-1:
			c.Right(label-1, 2+i, look.Duration(best), t.Dim)
		}
		c.Text(label, 2+i, strings.TrimLeft(l, " "), t.Ours)
	}
	y := 2 + rows
	for i := 0; i < n; i += 2 {
		b := bins[i]
		if i+1 < n {
			b.Out, b.Lost = b.Out || bins[i+1].Out, b.Lost || bins[i+1].Lost
		}
		sign, st := "─", t.Kept
		switch {
		case b.Out:
			sign, st = "╳", t.Broken
		case b.Lost:
			sign, st = "!", t.Warn
		case i >= silent:
			sign, st = "?", t.Warn
		}
		c.Text(label+i/2, y, sign, st)
	}
	c.Text(0, y, from.Format("15:04:05"), t.Dim)
	c.Text(label+(n+1)/2+1, y, "now", t.Dim)
	return y + 1
}

func reconnects(stay *core.Stay) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(stay.Reconnects)) {
		parts = append(parts, fmt.Sprintf("%s %d×", name, stay.Reconnects[name]))
	}
	return strings.Join(parts, ", ")
}

func drawGap(c look.Canvas, y int, g *core.Gap, now time.Time) int {
	t := c.Theme
	if g.From.IsZero() {
		c.Text(1, y, "◌ "+g.Purpose+": not noticed yet", t.Warn)
		return y + 1
	}
	x := c.Text(1, y, g.From.Format("15:04:05 "), t.Dim)
	sign, st := "gap of ", t.Text
	if g.To.IsZero() {
		sign, st = "╳ out for ", t.Broken
	}
	x = c.Text(x, y, sign+look.Duration(g.Length(now)), st)
	what, then := ", by "+string(g.Blame), g.Evidence
	if g.Purpose != "" {
		what, then = ", on purpose ("+g.Purpose+")", "noticed after "+look.Duration(g.Detection())
		if x+look.Width(what) > c.W {
			what = ", " + g.Purpose
		}
		if !g.To.IsZero() {
			then += ", back " + look.Duration(g.To.Sub(g.From)) + " later"
		}
		then += ": " + g.Evidence
	}
	if g.Tries > 1 {
		what += fmt.Sprintf(", %d tries", g.Tries)
	}
	c.Text(x, y, look.Clip(what, c.W-x), t.Text)
	y++
	for i, l := range look.Wrap(then, c.W-11) {
		if i < 2 && y < c.H {
			c.Text(10, y, l, t.Dim)
			y++
		}
	}
	return y
}
