// Package wire is the screen of what went over: the sequence, live, with a lane for each
// client; a packet opened shows its bytes beside their meaning.
package wire

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/sequence"
	"hodstone/internal/workbench"
)

// Limits of the screen.
const (
	maxShown  = 20_000 // events that can be scrolled over
	readBatch = 5_000  // events taken in per refresh, so that keys are answered
)

// Screen is the wire screen.
type Screen struct {
	bench  *workbench.Bench
	next   uint64 // of the log, to be read
	missed uint64
	events []trace.Event // those that fit the filter
	filter trace.Filter
	input  *look.Input

	paused  bool
	waiting int // events that came while paused
	follow  bool
	cursor  int
	first   int
	since   time.Time
	height  int
	rap     map[string]bool // clients whose subscriptions keep the retain flag
	checks  bool            // show the observer's copies of the checks' own messages
	open    *packetView
}

// New returns the screen.
func New(b *workbench.Bench) *Screen {
	return &Screen{bench: b, next: 1, follow: true, since: time.Now(), rap: map[string]bool{}, height: 20}
}

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "wire" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.input != nil }

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	lines := []look.RailLine{{Text: fmt.Sprintf("%.0f/s", s.bench.Rate()), Style: t.Dim}}
	if s.paused {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("‖ %d new", s.waiting), Style: t.Warn})
	}
	return lines
}

// Refresh takes in what came since.
func (s *Screen) Refresh() {
	if s.open != nil {
		s.open.refresh(s)
	}
	events, missed := s.bench.Log.Read(s.next, readBatch)
	if s.paused {
		s.waiting = int(s.bench.Log.Next() - s.next)
		return
	}
	s.waiting = 0
	s.missed += missed
	s.next += uint64(len(events)) + missed
	for i := range events {
		s.add(&events[i])
	}
	if cut := len(s.events) - maxShown; cut > 0 {
		s.events = s.events[cut:]
		s.cursor, s.first = max(0, s.cursor-cut), max(0, s.first-cut)
	}
	if s.follow {
		s.cursor = max(0, len(s.events)-1)
	}
}

func (s *Screen) add(e *trace.Event) {
	if p, ok := e.Packet.(*packet.Subscribe); ok && len(p.Subscriptions) > 0 {
		s.rap[e.Client] = p.Subscriptions[0].RetainAsPublished
	}
	if p := e.Publish(); p != nil && !s.checks && workbench.OfChecks(p.Topic) {
		return
	}
	if s.filter.Match(e) {
		s.events = append(s.events, *e)
	}
}

// refill applies the filter to all events that are still kept.
func (s *Screen) refill() {
	var at uint64
	if s.cursor < len(s.events) {
		at = s.events[s.cursor].Seq
	}
	s.events = s.events[:0:0]
	end := s.next
	for from := uint64(1); from < end; {
		events, missed := s.bench.Log.Read(from, int(min(readBatch, end-from)))
		if len(events) == 0 {
			break
		}
		from += uint64(len(events)) + missed
		for i := range events {
			s.add(&events[i])
		}
	}
	s.cursor = max(0, len(s.events)-1)
	for i := range s.events {
		if s.events[i].Seq <= at {
			s.cursor = i
		}
	}
	if s.follow {
		s.cursor = max(0, len(s.events)-1)
	}
}

// Show puts the cursor on an event, dropping the filter when it hides it.
func (s *Screen) Show(seq uint64) tea.Cmd {
	s.Refresh()
	s.open, s.input, s.follow = nil, nil, false
	find := func() bool {
		for i := range s.events {
			if s.events[i].Seq == seq {
				s.cursor = i
				return true
			}
		}
		return false
	}
	if find() {
		return nil
	}
	if e, ok := s.bench.Log.At(seq); ok {
		if !s.filter.Match(&e) {
			s.filter = trace.Filter{}
			s.refill()
		}
		if find() {
			return look.Tell(false, "the filter was dropped: it hid this packet")
		}
	}
	return look.Tell(true, "this packet is no longer kept in memory")
}

// Key takes a key.
func (s *Screen) Key(msg tea.KeyPressMsg) tea.Cmd {
	switch {
	case s.input != nil:
		return s.typed(msg)
	case s.open != nil:
		return s.open.key(s, msg.String())
	}
	key := msg.String()
	if look.Move(key, &s.cursor, len(s.events), s.height) {
		s.follow = s.cursor == len(s.events)-1 && (key == "end" || key == "G" || key == "down" || key == "j")
		return nil
	}
	switch key {
	case "space":
		s.paused = !s.paused
		if !s.paused {
			s.Refresh()
		}
	case "/":
		s.input = look.NewInput("filter", s.filter.String())
	case "n", "N":
		s.jump(key == "n")
	case "t":
		if s.cursor < len(s.events) {
			s.since = s.events[s.cursor].At
			return look.Tell(false, "times are relative to this packet now")
		}
	case "c":
		s.checks = !s.checks
		s.refill()
	case "esc":
		if s.filter.String() != "" {
			s.filter = trace.Filter{}
			s.refill()
		}
	case "enter":
		if s.cursor < len(s.events) {
			s.open = newPacketView(s, s.events[s.cursor])
		}
	}
	return nil
}

func (s *Screen) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc":
		s.input = nil
	case "enter":
		f, err := trace.ParseFilter(s.input.Value())
		if err != nil {
			s.input.Error = err.Error()
			return nil
		}
		s.filter, s.input = f, nil
		s.refill()
	default:
		s.input.Update(msg)
	}
	return nil
}

// jump moves to the next or previous event that something was found about.
func (s *Screen) jump(forward bool) {
	step := 1
	if !forward {
		step = -1
	}
	for i := s.cursor + step; i >= 0 && i < len(s.events); i += step {
		if m := s.mark(&s.events[i], &look.Theme{}); m.Sign != "" || s.events[i].Broken != "" {
			s.cursor, s.follow = i, false
			return
		}
	}
}

// mark tells what the judge found about an event.
func (s *Screen) mark(e *trace.Event, t *look.Theme) sequence.Mark {
	if e.Role != trace.RoleObserver || e.Publish() == nil || e.Kind != trace.Received {
		return sequence.Mark{}
	}
	f, ok := s.bench.Finding(e.Seq)
	switch {
	case !ok:
	case f.Judgement.Clause == nil:
		return sequence.Mark{Sign: "?", Word: "stray", Style: t.Warn}
	case len(f.Judgement.Breaches) > 0:
		b := f.Judgement.Breaches[0]
		rule := b.Keyword
		if rule == "" {
			rule = string(b.Rule)
		}
		return sequence.Mark{Sign: "✗", Word: look.Clip(fmt.Sprintf("%s %s %s", rule, b.Where, b.Seen), 26), Style: t.Broken}
	}
	return sequence.Mark{}
}

// isCopy tells a retained copy that greeted a subscription from a live message.
func (s *Screen) isCopy(e *trace.Event) bool { return sequence.Stored(e) && !s.rap[e.Client] }

// Keys returns what can be done here and now.
func (s *Screen) Keys() []look.Key {
	switch {
	case s.input != nil:
		return []look.Key{{Key: "enter", Does: "apply"}, {Key: "esc", Does: "leave as it was"}}
	case s.open != nil:
		return s.open.keys()
	}
	pause := "pause"
	if s.paused {
		pause = "go on"
	}
	keys := []look.Key{{Key: "↑↓", Does: "scroll"}, {Key: "enter", Does: "open packet"}, {Key: "space", Does: pause}, {Key: "/", Does: "filter"}}
	if s.filter.String() != "" {
		keys = append(keys, look.Key{Key: "esc", Does: "drop filter"})
	}
	if !s.follow {
		keys = append(keys, look.Key{Key: "G", Does: "follow the newest"})
	}
	return append(keys, look.Key{Key: "n", Does: "next find"}, look.Key{Key: "N", Does: "previous find"},
		look.Key{Key: "t", Does: "times from here"}, look.Key{Key: "c", Does: "show or hide the checks"})
}

// Draw draws the screen.
func (s *Screen) Draw(c look.Canvas) {
	if s.open != nil {
		s.open.draw(c)
		return
	}
	t := c.Theme
	x := 1
	switch {
	case s.paused:
		x = c.Text(x, 0, fmt.Sprintf("‖ paused, %s meanwhile  ", look.Plural(s.waiting, "new event")), t.Warn)
	case s.follow:
		x = c.Text(x, 0, "● live  ", t.Kept)
	default:
		x = c.Text(x, 0, "○ scrolled back  ", t.Warn)
	}
	x = c.Text(x, 0, look.Plural(len(s.events), "event")+"  ", t.Dim)
	if f := s.filter.String(); f != "" {
		x = c.Text(x, 0, "filter ", t.Dim)
		x = c.Text(x, 0, f+"  ", t.Ours)
	}
	if s.missed > 0 {
		c.Text(x, 0, fmt.Sprintf("%d not shown: too fast for the memory  ", s.missed), t.Warn)
	}
	c.Right(c.W-1, 0, "seconds since "+s.since.Format("15:04:05"), t.Dim)
	body := c.Sub(0, 1, c.W, c.H-1)
	if s.input != nil {
		s.input.Draw(c.Sub(1, c.H-3, c.W-2, 3), 0)
		c.Text(1, c.H-2, look.Clip(trace.FilterHelp, c.W-2), t.Dim)
		if s.input.Error != "" {
			s.input.Draw(c.Sub(1, c.H-3, c.W-2, 3), 0)
		}
		body = c.Sub(0, 1, c.W, c.H-5)
	}
	if len(s.events) == 0 {
		if s.filter.String() != "" {
			body.Teach("Nothing fits the filter "+s.filter.String(), "esc drops it; / changes it.", trace.FilterHelp)
			return
		}
		body.Teach("The wire shows every packet of every client, as it goes over.",
			"Nothing has come yet. Start a device on the devices screen; its CONNECT appears here first.")
		return
	}
	s.height = body.H - 1
	s.first = look.Scroll(s.first, s.cursor, s.height, len(s.events))
	from, to := s.first, min(len(s.events), s.first+s.height)
	d := sequence.Drawing{Events: s.events[from:to], Lanes: s.lanes(), Cursor: s.cursor - from, Since: s.since, Copy: s.isCopy,
		Marked: func(e *trace.Event) sequence.Mark { return s.mark(e, t) }}
	d.Draw(body)
}

// lanes are all clients in the events, so that lanes stay where they are while one
// scrolls: devices in the workspace's order, then Hodstone's own.
func (s *Screen) lanes() []string {
	out := sequence.Lanes(s.events)
	place := map[string]int{}
	for i, d := range s.bench.Devices() {
		place[d.Name] = i - 1000
	}
	slices.SortStableFunc(out, func(a, b string) int { return place[a] - place[b] })
	return out
}
