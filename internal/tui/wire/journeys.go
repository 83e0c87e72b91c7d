package wire

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/payload"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
)

// shownJourneys is how many journeys can be scrolled over.
const shownJourneys = 2_000

// underWay is how long a message may take before it is said that nobody got it.
const underWay = 2 * time.Second

// journeysView shows a line per message: from its publisher over the broker to each
// receiver, with QoS, retain flag, delay and verdict on every hop.
type journeysView struct {
	all    []trace.Journey // newest first
	cursor int
	first  int
	height int
	pinned uint64 // the journey with the cursor, by its first event; 0 for the newest
}

func first(j *trace.Journey) uint64 {
	if j.SentSeq != 0 || len(j.Hops) == 0 {
		return j.SentSeq
	}
	return j.Hops[0].Seq
}

func (v *journeysView) actions(s *Screen) []look.Action {
	var out []look.Action
	if v.cursor > 0 {
		out = append(out, look.Let("g home", "the newest", func() { v.cursor, v.pinned = 0, 0 }))
	}
	out = append(out, look.Moves("scroll", &v.cursor, len(v.all), v.height, func(string) {
		v.pinned = 0
		if v.cursor > 0 && v.cursor < len(v.all) {
			v.pinned = first(&v.all[v.cursor])
		}
	}))
	if v.cursor < len(v.all) {
		j := v.all[v.cursor]
		out = append(out,
			look.Act("enter", "its packets", func() tea.Cmd { return s.show(first(&j)) }),
			look.Act("y", "copy topic", func() tea.Cmd {
				return tea.Batch(tea.SetClipboard(j.Topic), look.Tell(false, "topic copied"))
			}),
		)
	}
	return append(out, s.narrowing()...)
}

// fetch takes in the journeys as they stand; the cursor stays on its journey.
func (v *journeysView) fetch(s *Screen) {
	if s.paused && v.all != nil {
		return
	}
	v.all = s.bench.Journeys(shownJourneys, func(j *trace.Journey) bool {
		e := trace.Event{Seq: first(j), At: j.SentAt, Client: j.Sender, Kind: trace.Sent}
		e.Packet = journeyPacket(j)
		return s.fits(&e)
	})
	if v.pinned == 0 {
		v.cursor = 0
		return
	}
	for i := range v.all {
		if first(&v.all[i]) == v.pinned {
			v.cursor = i
			return
		}
	}
	v.cursor = max(0, min(v.cursor, len(v.all)-1))
}

func (v *journeysView) draw(s *Screen, c look.Canvas) {
	v.fetch(s)
	t := c.Theme
	if len(v.all) == 0 {
		if done := s.bench.Analysed(); done < 1 {
			c.Teach(
				fmt.Sprintf("The record is being read: %.0f %%", done*100),
				"Journeys appear when their packets have been seen.",
			)
			return
		}
		c.Teach(
			"A journey follows one message from its publisher to each receiver.",
			"None yet. A message appears here when it is published or received by a client that Hodstone runs.",
		)
		return
	}
	topicW := max(16, c.W*24/100)
	valueW := max(8, c.W*11/100)
	narrow := c.W < 100
	if narrow {
		valueW = -1
	}
	x0, x1 := 11, 12+topicW
	x2 := x1 + valueW + 1
	c.Text(0, 0, "time", t.Dim)
	c.Text(x0, 0, "topic", t.Dim)
	if !narrow {
		c.Text(x1, 0, "payload", t.Dim)
	}
	c.Text(x2, 0, "publisher → broker → receivers", t.Dim)
	v.height = c.H - 1
	v.first = look.Scroll(v.first, v.cursor, v.height, len(v.all))
	for i := 0; i < v.height && v.first+i < len(v.all); i++ {
		j := &v.all[v.first+i]
		y := i + 1
		c.Right(x0-2, y, fmt.Sprintf("%+.3f", j.SentAt.Sub(s.since).Seconds()), t.Dim)
		c.Text(x0, y, look.Middle(j.Topic, topicW), t.Text)
		if !narrow {
			c.Text(x1, y, payload.Show(j.Payload, valueW), t.Dim)
		}
		v.hops(s, c, x2, y, j)
		if v.first+i == v.cursor {
			c.Paint(0, y, c.W, t.Select)
			c.Text(0, y, "▸", t.Select)
		}
	}
}

// hops draws the way of a message.
func (v *journeysView) hops(s *Screen, c look.Canvas, x, y int, j *trace.Journey) {
	t := c.Theme
	who, st := j.Sender, t.Ours
	if who == "" {
		who, st = "unknown", t.Old
		if len(j.Hops) > 0 && j.Hops[0].Copy {
			who = "stored"
		}
	}
	x = c.Text(x, y, look.Pad(look.Middle(who, 10), 11), st)
	arrow := 11
	if c.W < 100 {
		arrow = 3
	}
	if j.Sender == "" {
		x = c.Text(x, y, strings.Repeat(" ", arrow+2), st)
	} else {
		text := fmt.Sprintf(" q%d%s ", j.QoS, map[bool]string{true: " retain"}[j.Retain])
		if arrow == 3 {
			text = fmt.Sprintf("q%d", j.QoS)
		}
		way := t.Dim
		sign := "▶"
		if j.Done.IsZero() { // PUBACK or PUBCOMP is missing
			way, sign = t.Warn, "…"
		}
		if j.Resent > 0 {
			text, way = fmt.Sprintf(" q%d DUP×%d ", j.QoS, j.Resent), t.Warn
		}
		x = c.Text(x, y, "─"+look.Clip(text, arrow)+strings.Repeat("─", max(0, arrow-look.Width(text)))+sign, way)
	}
	x = c.Text(x, y, " ┃ ", t.Line)
	if len(j.Hops) == 0 {
		text := "nobody that we watch"
		if !s.record() && time.Since(j.SentAt) < underWay {
			text = "under way"
		}
		if j.Tap == trace.TapKept || j.Tap == trace.TapChanged {
			text = string(j.Tap)
		}
		c.Text(x, y, look.Clip(text, c.W-x), t.Old)
		return
	}
	type arrival struct {
		text  string
		style look.Style
		wrong bool
	}
	var all []arrival
	for i := range j.Hops {
		h := &j.Hops[i]
		// The observer's copy is held against the contract, every copy against what its
		// receiver was granted.
		mark := s.mark(
			&trace.Event{Seq: h.Seq, Role: s.roleOf(h.Client), Kind: trace.Received, Packet: journeyPacket(j)},
			t,
		)
		st, sign := t.Text, ""
		switch {
		case h.Verdict == trace.HopBroken:
			st, sign = t.Broken, "✗"
		case mark.Sign != "":
			st, sign = mark.Style, mark.Sign
		case h.Copy:
			st = t.Ours
		case h.Verdict == trace.HopKept:
			sign = "✓"
		}
		text := fmt.Sprintf("%s q%d", h.Client, h.QoS)
		if h.QoS < j.QoS && j.Sender != "" {
			text += "↓" // lowered to what the subscription was granted
		}
		if h.Verdict == trace.HopBroken {
			text += fmt.Sprintf(", granted q%d", h.Expected)
		}
		switch {
		case h.Copy:
			text += " stored"
		case h.Retain:
			text += " retain"
		}
		if j.Sender != "" && !h.Copy {
			text += " " + look.Duration(h.Delay.Round(time.Microsecond))
		}
		if sign != "" {
			text = sign + " " + text
		}
		all = append(all, arrival{text, st, h.Verdict == trace.HopBroken || mark.Sign != ""})
	}
	// In the order of their coming, but what is wrong stands where it is not cut off.
	slices.SortStableFunc(all, func(a, b arrival) int {
		switch {
		case a.wrong == b.wrong:
			return 0
		case a.wrong:
			return -1
		}
		return 1
	})
	for i, h := range all {
		if x+look.Width(h.text) > c.W && i == 0 {
			c.Text(x, y, look.Clip(h.text, c.W-x), h.style)
			return
		} else if x+look.Width(h.text) > c.W {
			c.Text(x, y, look.Clip(fmt.Sprintf("… %d more", len(all)-i), c.W-x), t.Dim)
			return
		}
		x = c.Text(x, y, h.text+"   ", h.style)
	}
}
