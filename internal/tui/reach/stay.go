package reach

import (
	"fmt"
	"maps"
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
		for i, l := range look.Wrap("Hodstone's observer is not at this broker. Where it is, its pings, the gaps and who caused them show here.", c.W-3) {
			c.Text(1, 1+i, l, t.Dim)
		}
		return
	}
	now := time.Now()
	word, st := "● in", t.Kept
	if !stay.In {
		word, st = "╳ out", t.Broken
	}
	x := c.Text(1, 1, word, st)
	if stay.Since.IsZero() {
		c.Text(x, 1, ": the observer never got in so far", t.Text)
		return
	}
	x = c.Text(x, 1, " for "+look.Age(now.Sub(stay.Since)), t.Text)
	var last string
	values := make([]float64, 0, len(stay.Samples))
	var best, worst time.Duration
	for _, p := range stay.Samples {
		v := float64(p.RTT)
		if p.Lost {
			v = 0
		} else {
			if best == 0 || p.RTT < best {
				best = p.RTT
			}
			worst = max(worst, p.RTT)
			last = look.Duration(p.RTT)
		}
		values = append(values, v)
	}
	if last != "" {
		x = c.Text(x+2, 1, "ping "+last, t.Text)
		c.Text(x, 1, look.Clip(fmt.Sprintf("  best %s  worst %s  lost %d of %d", look.Duration(best), look.Duration(worst), stay.Lost, len(stay.Samples)), c.W-x), t.Dim)
	}
	y := 2
	chart := min(4, max(1, c.H/4))
	if len(values) > 1 {
		for _, l := range look.Chart(values, c.W-3, chart) {
			c.Text(1, y, l, t.Ours)
			y++
		}
	}
	for _, f := range stay.Findings {
		c.Text(1, y, look.Clip("✗ "+f.What, c.W-2), t.Broken)
		y++
	}
	if back := reconnects(stay); back != "" {
		c.Text(1, y, look.Clip("came back: "+back, c.W-2), t.Dim)
		y++
	}
	if len(stay.Gaps) == 0 {
		for i, l := range look.Wrap("no gap so far. c cuts the observer's link from here, t lets a stand-in throw it out: then detection and recovery show.", c.W-3) {
			c.Text(1, y+i, l, t.Dim)
		}
		return
	}
	for i := len(stay.Gaps) - 1; i >= 0 && y < c.H; i-- {
		y = drawGap(c, y, &stay.Gaps[i], now)
	}
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
