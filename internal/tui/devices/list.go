package devices

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/device"
	"hodstone/internal/tui/look"
)

// drawList draws a line for each device, and what the cursor stands on below.
func (s *Screen) drawList(c look.Canvas) {
	rows := min(len(s.rows), max(4, c.H-16))
	s.first = look.Scroll(s.first, s.at, rows, len(s.rows))
	t := c.Theme
	c.Rule(0, "", t.Dim)
	c.Text(2, 0, " device ", t.Dim)
	c.Text(17, 0, " state ", t.Dim)
	c.Text(36, 0, " sent  received ", t.Dim)
	if c.W > 80 {
		c.Text(54, 0, " signals ", t.Dim)
	}
	for y := range rows {
		if r := s.rows[s.first+y]; r.dev < 0 {
			s.drawKind(c, y+1, r, s.first+y == s.at)
		} else {
			s.drawDevice(c, y+1, r.dev, s.first+y == s.at)
		}
	}
	s.drawDetail(c.Sub(0, rows+2, c.W, c.H-rows-2))
}

// drawKind draws all devices of a kind in a line.
func (s *Screen) drawKind(c look.Canvas, y int, r row, chosen bool) {
	t := c.Theme
	c.Text(2, y, look.Clip(fmt.Sprintf("%s ×%d", r.kind, r.of.all), 14), t.Strong)
	c.Right(42, y, strconv.Itoa(r.of.sent), t.Text)
	c.Right(51, y, strconv.Itoa(r.of.received), t.Text)
	if c.W > 80 {
		c.Text(54, y, look.Clip(kindWords(r.of), c.W-55), t.Text)
	} else {
		c.Text(17, y, look.Clip(kindWords(r.of), 19), t.Text)
	}
	if chosen {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

func (s *Screen) drawDevice(c look.Canvas, y, i int, chosen bool) {
	t, st := c.Theme, &s.list[i]
	ps := phaseStyle(t, st.Phase)
	if gone(st) {
		ps = t.Broken
	}
	c.Text(2, y, look.Clip(st.Name, 14), t.Text)
	c.Text(17, y, look.Clip(fmt.Sprintf("%s %s %s", signs[st.Phase], st.Phase, sinceWords(st)), 19), ps)
	if len(st.Faults) > 0 {
		c.Text(15, y, "!", t.Warn)
	}
	if st.Phase != device.Real || st.Real != nil { // else nothing of it is seen but by our observer
		c.Right(42, y, strconv.Itoa(st.Sent), t.Text)
		c.Right(51, y, strconv.Itoa(st.Received), t.Text)
	}
	x := 54
	for _, g := range st.Signals {
		w := 26
		if len(g.History) < 2 || g.Wave == "constant" || x+w > c.W {
			continue
		}
		at := c.Text(x, y, look.Clip(g.Name, 8)+" ", t.Dim)
		at = c.Text(at, y, look.Spark(g.History, 8)+" ", t.Ours)
		c.Text(at, y, value(g.Value), t.Text)
		x += w
	}
	if chosen {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

func value(v any) string {
	if f, ok := v.(float64); ok {
		return look.Number(f)
	}
	if v == nil {
		return "missing"
	}
	return fmt.Sprint(v)
}

func (s *Screen) drawDetail(c look.Canvas) {
	t, st := c.Theme, s.chosen()
	if st == nil {
		s.drawKindDetail(c, s.rows[s.at])
		return
	}
	c.Rule(0, st.Name+", plays "+st.Party, t.Strong)
	if len(st.Faults) > 0 {
		c.Text(2, 3, look.Clip("! misbehaves: "+strings.Join(st.Faults, ", "), c.W-3), t.Warn)
	}
	about := fmt.Sprintf("client id %s, MQTT %s, broker %s", st.ClientID, st.Version, st.Broker)
	if st.In != "" {
		about = "state " + st.In + ", " + about
	}
	if st.Waiting > 0 {
		about = fmt.Sprintf("keeps %s until it is back, %s", look.Plural(st.Waiting, "message"), about)
	}
	if st.Slowed != "" {
		about = "◷ slowed by " + st.Slowed + ", " + about
	}
	if st.Listener != "" {
		about += "/" + st.Listener
	}
	var params []string
	for k, v := range st.Params {
		params = append(params, k+" "+v)
	}
	sort.Strings(params)
	if len(params) > 0 {
		about += ", " + strings.Join(params, ", ")
	}
	c.Text(2, 1, look.Clip(about, c.W-3), t.Dim)
	why := st.Why
	if st.Phase == device.Away && !st.RetryAt.IsZero() {
		why = fmt.Sprintf("tries again in %s; %s", max(0, time.Until(st.RetryAt)).Round(100*time.Millisecond), why)
	}
	if st.Phase == device.Real {
		why = s.realWords(*st)
	}
	lines := 2
	if len(st.Faults) > 0 {
		lines = 1 // the other one says what is wrong with it
	}
	for i, line := range look.Wrap(why, c.W-3) {
		if i < lines {
			c.Text(2, 2+i, line, phaseStyle(t, st.Phase))
		}
	}
	waves := 0
	for _, g := range st.Signals {
		if g.Wave != "constant" {
			waves++
		}
	}
	room := c.H - 6 - (len(st.Signals) - waves)
	tall := 1
	if waves > 0 {
		tall = max(1, min(4, room/waves-1))
	}
	y := 4
	for _, g := range st.Signals {
		if y >= c.H-1 {
			break
		}
		c.Text(2, y, look.Clip(g.Name, 14), t.Text)
		c.Text(17, y, look.Clip(strings.TrimSpace(value(g.Value)+" "+g.Unit), 14), t.Strong)
		kind := g.Wave
		if g.Held {
			kind += ", held"
		}
		c.Text(32, y, look.Clip(kind, 14), t.Dim)
		if len(g.History) < 2 || g.Wave == "constant" {
			y++
			continue
		}
		shown := g.History
		for k, line := range look.Chart(shown, c.W-60, tall) {
			if y+k < c.H-1 {
				c.Text(58, y+k, line, t.Ours)
			}
		}
		c.Right(56, y, look.Number(slices.Max(shown)), t.Old)
		if tall > 1 {
			c.Right(56, y+tall-1, look.Number(slices.Min(shown)), t.Old)
			y++
		}
		y += tall
	}
	if y < c.H {
		c.Text(
			2,
			c.H-1,
			look.Clip("publishes "+strings.Join(st.Publishes, ", ")+"   takes "+strings.Join(st.Takes, ", "), c.W-3),
			t.Dim,
		)
	}
}

// drawKindDetail says how the devices of a kind stand, and which are odd and why.
func (s *Screen) drawKindDetail(c look.Canvas, r row) {
	t := c.Theme
	c.Rule(0, fmt.Sprintf("%s: %d devices, play %s", r.kind, r.of.all, r.of.party), t.Strong)
	c.Text(2, 1, look.Clip(kindWords(r.of), c.W-3), t.Text)
	c.Text(2, 2, look.Clip(fmt.Sprintf("%d sent, %.1f a second; %d received, %.1f a second", r.of.sent, r.of.rates[0],
		r.of.received, r.of.rates[1]), c.W-3), t.Dim)
	if len(r.of.odd) == 0 {
		c.Text(2, 4, "all are at work, and none misbehaves", t.Kept)
	}
	for i, d := range r.of.odd {
		y := 4 + i
		if y >= c.H-1 && i < len(r.of.odd)-1 {
			c.Text(2, c.H-1, fmt.Sprintf("and %d more", len(r.of.odd)-i), t.Dim)
			return
		}
		st := &s.list[d]
		why := st.Why
		if len(st.Faults) > 0 {
			why = "misbehaves: " + strings.Join(st.Faults, ", ")
		}
		c.Text(2, y, look.Clip(st.Name, 14), t.Text)
		c.Text(17, y, look.Clip(signs[st.Phase]+" "+string(st.Phase), 16), phaseStyle(t, st.Phase))
		c.Text(34, y, look.Clip(why, c.W-35), t.Dim)
	}
}
