// Package wire is the screen of what went over: the sequence, live or from a record, with
// a lane for each client; the journeys of messages; statistics; a packet opened shows
// its bytes beside their meaning.
package wire

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/sequence"
	"hodstone/internal/workbench"
)

// readBatch is how many events are taken in per refresh, so that keys are answered.
const readBatch = 10_000

// view is one of the ways to see the trace.
type view int

// The views.
const (
	viewSequence view = iota
	viewJourneys
	viewStatistics
)

var viewNames = []string{"sequence", "journeys", "statistics"}

// Screen is the wire screen.
type Screen struct {
	bench  *workbench.Bench
	src    trace.Reader
	next   uint64 // of the trace, to be taken in
	missed uint64
	index  index
	filter trace.Filter
	scan   *scan                  // of a record, for the filter
	seen   map[uint64]trace.Event // the events drawn last, should the trace drop them

	view    view
	input   *look.Input
	asks    string // what the input is for
	paused  bool
	waiting int // events that came while paused
	follow  bool
	cursor  int
	first   int
	since   time.Time
	height  int
	lanes   lanes
	present map[string]bool // clients of the events that fit
	probes  map[string]bool // clients of our own that only look
	own     bool            // show Hodstone's own looking: checks, reach, the observer's pings
	find    string
	seeking context.CancelFunc // of a search under way
	search  int                // its number
	open    *packetView
	journal journeysView
	tables  statisticsView
}

// New returns the screen.
func New(b *workbench.Bench) *Screen {
	s := &Screen{
		bench:   b,
		src:     b.Events,
		next:    1,
		follow:  true,
		since:   time.Now(),
		height:  20,
		seen:    map[uint64]trace.Event{},
		present: map[string]bool{},
		probes:  map[string]bool{},
	}
	s.lanes.states = map[string]laneState{}
	if s.record() {
		s.own, s.follow = true, false
		if e, ok := s.src.At(1); ok {
			s.since = e.At
		}
		if f, err := trace.ParseFilter(b.Filter); err == nil {
			s.filter = f
		}
		s.refill()
	}
	return s
}

// record tells whether a record is shown.
func (s *Screen) record() bool { return s.bench.Record != nil }

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "wire" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.input != nil }

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	if s.record() {
		lines := []look.RailLine{
			{Text: "record", Style: t.Ours},
			{Text: look.Plural(int(s.src.Next()-1), "event"), Style: t.Dim},
		}
		if done := s.bench.Analysed(); done < 1 {
			lines = append(lines, look.RailLine{Text: fmt.Sprintf("reading %.0f %%", done*100), Style: t.Warn})
		}
		return lines
	}
	lines := []look.RailLine{{Text: fmt.Sprintf("%.0f/s", s.bench.Rate()), Style: t.Dim}}
	if r := s.bench.Recorder; r != nil {
		switch st := r.State(); {
		case st.Err != nil:
			lines = append(lines, look.RailLine{Text: "✗ not recorded", Style: t.Broken})
		case st.Missed > 0:
			lines = append(lines, look.RailLine{Text: fmt.Sprintf("▤ %d, gaps", st.Events), Style: t.Warn})
		default:
			lines = append(lines, look.RailLine{Text: fmt.Sprintf("▤ %d kept", st.Events), Style: t.Ours})
		}
	}
	if s.paused {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("‖ %d new", s.waiting), Style: t.Warn})
	}
	return lines
}

// refresh takes in what came since.
func (s *Screen) refresh() {
	if s.open != nil {
		s.open.refresh(s)
	}
	if s.record() {
		s.refreshRecord()
		return
	}
	if s.paused {
		s.waiting = int(s.src.Next() - s.next)
		return
	}
	s.waiting = 0
	events, missed := s.src.Read(s.next, readBatch)
	s.missed += missed
	s.next += uint64(len(events)) + missed
	arrived := false
	for i := range events {
		e := &events[i]
		probe := e.Role == trace.RoleProbe || e.Role == trace.RoleCheck
		if probe {
			s.probes[e.Client] = true
		}
		if s.own || !probe {
			arrived = s.lanes.add(e.Client) || arrived
		}
		if s.fits(e) {
			s.index.ids = append(s.index.ids, e.Seq)
			s.present[e.Client] = true
		}
	}
	if arrived {
		s.arrange()
	}
	if cut := s.index.trim(s.src.Oldest()); cut > 0 {
		s.cursor, s.first = max(0, s.cursor-cut), max(0, s.first-cut)
	}
	s.toEnd()
}

// refreshRecord takes in what searches have found, and what a growing record has got.
func (s *Screen) refreshRecord() {
	for _, name := range s.bench.Record.Clients() {
		s.lanes.add(name)
	}
	if s.index.all {
		s.index.n = int(s.src.Next() - 1)
	} else if s.scan != nil {
		ids, _, _, over := s.scan.fetch()
		if s.index.ids = append(s.index.ids, ids...); over {
			s.scan = nil
		}
	}
	s.toEnd()
}

func (s *Screen) toEnd() {
	if s.follow {
		s.cursor = max(0, s.index.len()-1)
	}
	s.cursor = max(0, min(s.cursor, s.index.len()-1))
}

func (s *Screen) arrange() {
	var devices []string
	for _, d := range s.bench.Devices() {
		devices = append(devices, d.Name)
	}
	s.lanes.arrange(devices)
}

// fits tells whether an event is to be shown.
func (s *Screen) fits(e *trace.Event) bool {
	if !s.own && e.Own() {
		return false
	}
	return s.lanes.states[e.Client] != laneHidden && s.filter.Match(e)
}

// event returns the event at a position.
func (s *Screen) event(i int) (trace.Event, bool) {
	if i < 0 || i >= s.index.len() {
		return trace.Event{}, false
	}
	seq := s.index.number(i)
	if e, ok := s.src.At(seq); ok {
		return e, true
	}
	e, ok := s.seen[seq]
	return e, ok
}

// refill finds anew what fits, and keeps the cursor where it was as well as that goes.
func (s *Screen) refill() {
	at := uint64(1)
	if s.cursor < s.index.len() {
		at = s.index.number(s.cursor)
	}
	if s.scan != nil {
		s.scan.cancel()
		s.scan = nil
	}
	s.index.ids, s.index.all = nil, false
	s.present = map[string]bool{}
	switch {
	case s.record() && s.filter.String() == "" && len(s.lanes.in(laneHidden)) == 0:
		s.index.all, s.index.n = true, int(s.src.Next()-1)
	case s.record():
		hidden := map[string]bool{}
		for _, n := range s.lanes.in(laneHidden) {
			hidden[n] = true
		}
		s.scan = startScan(s.src, s.filter, func(e *trace.Event) bool { return !hidden[e.Client] })
	default:
		for from := s.src.Oldest(); from < s.next; {
			events, missed := s.src.Read(from, int(min(scanBatch, s.next-from)))
			if len(events) == 0 {
				break
			}
			for i := range events {
				if s.own { // those of our own probes have no lane until they are asked for
					s.lanes.add(events[i].Client)
				}
				if s.fits(&events[i]) {
					s.index.ids = append(s.index.ids, events[i].Seq)
					s.present[events[i].Client] = true
				}
			}
			from += uint64(len(events)) + missed
		}
	}
	s.cursor = min(s.index.position(at), max(0, s.index.len()-1))
	s.toEnd()
}

// show puts the cursor on an event, dropping what hides it.
func (s *Screen) show(seq uint64) tea.Cmd {
	s.refresh()
	s.open, s.input, s.follow, s.view, s.lanes.open = nil, nil, false, viewSequence, false
	if i := s.index.position(seq); i < s.index.len() && s.index.number(i) == seq {
		s.cursor = i
		return nil
	}
	e, ok := s.src.At(seq)
	if !ok {
		return look.Tell(true, "this packet is no longer kept in memory")
	}
	if s.lanes.states[e.Client] == laneHidden {
		delete(s.lanes.states, e.Client)
	}
	s.filter = trace.Filter{}
	s.refill()
	s.cursor = min(s.index.position(seq), max(0, s.index.len()-1))
	return look.Tell(false, "the filter was dropped: it hid this packet")
}

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		s.refresh()
	case look.ShowEvent:
		return s.show(msg.Seq)
	case sought:
		return s.sought(msg)
	case tea.PasteMsg:
		if s.input != nil {
			s.input.Update(msg)
		}
	case tea.KeyPressMsg:
		cmd, done := look.Press(s.Actions(), msg)
		if !done && s.input != nil {
			s.input.Update(msg)
		}
		return cmd
	}
	return nil
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	switch {
	case s.input != nil:
		return []look.Action{
			look.Act("enter", "apply", s.apply),
			look.Let("esc", "leave as it was", func() { s.input = nil }),
		}
	case s.open != nil:
		return s.open.actions(s)
	case s.lanes.open:
		return s.lanes.actions(s)
	}
	var out []look.Action
	if s.seeking != nil {
		out = append(out, look.Let("esc", "stop searching", func() { s.seeking(); s.seeking = nil }))
	}
	switch s.view {
	case viewJourneys:
		out = append(append(out, s.journal.actions(s)...), s.views()...)
	case viewStatistics:
		out = append(append(out, s.tables.actions(s)...), s.views()...)
	default:
		out = append(out, s.sequenceActions()...)
	}
	return out
}

// views are the actions that go from one view to another.
func (s *Screen) views() []look.Action {
	n := view(len(viewNames))
	next := look.Keys("v", viewNames[(s.view+1)%n], []string{"v", "V"}, func(k string) {
		by := view(1)
		if k == "V" {
			by = n - 1
		}
		s.view = (s.view + by) % n
	})
	next.Named = true
	out := []look.Action{next}
	if s.view != viewSequence {
		out = append(out, look.Let("esc", "sequence", func() { s.view = viewSequence }))
	}
	return out
}

func (s *Screen) sequenceActions() []look.Action {
	e, there := s.event(s.cursor)
	var out []look.Action
	if !s.record() && !s.follow {
		out = append(out, look.Let("G end", "follow the newest", func() { s.follow = true; s.toEnd() }))
	}
	out = append(out, look.Moves("scroll", &s.cursor, s.index.len(), s.height, func(k string) {
		s.follow = !s.record() && s.cursor == s.index.len()-1 && (k == "end" || k == "G" || k == "down" || k == "j")
	}))
	if there {
		out = append(out, look.Let("enter", "open packet", func() { s.open = newPacketView(s, e) }))
	}
	out = append(append(out, s.views()...), s.narrowing()...)
	seek := func(forward bool) func() tea.Cmd {
		return func() tea.Cmd {
			if s.find == "" {
				return s.seek(forward, "breach", s.trouble)
			}
			return s.seek(forward, s.find, s.mentions())
		}
	}
	breach := func(forward bool) func() tea.Cmd {
		return func() tea.Cmd { return s.seek(forward, "breach", s.trouble) }
	}
	out = append(out,
		look.Let("f", "find", func() { s.ask("find", s.find) }),
		look.Act("n", "next", seek(true)), look.Act("N", "previous", seek(false)),
		look.Act("b", "next breach", breach(true)), look.Act("B", "breach before", breach(false)),
		look.Let("l", "lanes", func() { s.lanes.open = true }),
	)
	if there {
		out = append(out, look.Act("t", "times from here", func() tea.Cmd {
			s.since = e.At
			return look.Tell(false, "times are relative to this packet now")
		}))
		out = append(out, copies(&e)...)
	}
	out = append(out, s.says(&e)...)
	out = append(out,
		look.Act("x", "export what is shown", func() tea.Cmd { return s.askExport(false) }),
		look.Act("X", "export all that fits", func() tea.Cmd { return s.askExport(true) }),
	)
	if !s.record() {
		what := "show Hodstone's own probes"
		if s.own {
			what = "hide Hodstone's own probes"
		}
		out = append(out, look.Let("c", what, func() { s.own = !s.own; s.refill() }))
	}
	return out
}

// narrowing are the actions that choose what is seen of the trace.
func (s *Screen) narrowing() (out []look.Action) {
	if !s.record() {
		out = append(out, look.Let("space", map[bool]string{false: "pause", true: "go on"}[s.paused], func() {
			if s.paused = !s.paused; !s.paused {
				s.refresh()
			}
		}))
	}
	out = append(out, look.Let("/", "filter", func() { s.ask("filter", s.filter.String()) }))
	if s.filter.String() != "" && s.view == viewSequence && s.seeking == nil {
		out = append(out, look.Let("esc", "drop filter", func() { s.filter = trace.Filter{}; s.refill() }))
	}
	return out
}

// copies are the actions that put a message's topic or payload on the clipboard, by way of the
// terminal (OSC 52).
func copies(e *trace.Event) []look.Action {
	p := e.Publish()
	if p == nil {
		return nil
	}
	copied := func(what, text string) func() tea.Cmd {
		return func() tea.Cmd { return tea.Batch(tea.SetClipboard(text), look.Tell(false, what+" copied")) }
	}
	return []look.Action{
		look.Act("y", "copy topic", copied("topic", p.Topic)),
		look.Act("Y", "copy payload", copied("payload", string(p.Payload))),
	}
}

// says is the way to send by hand: the message that an event is of again, else a new one.
func (s *Screen) says(e *trace.Event) []look.Action {
	if s.record() {
		return nil
	}
	return []look.Action{look.Act("s", "send by hand", func() tea.Cmd {
		p := e.Publish()
		if p == nil {
			return look.Composing("as ")
		}
		return look.Composing(s.bench.Again(e.Topic(), p))
	})}
}

// ask opens a line to type.
func (s *Screen) ask(what, value string) { s.asks, s.input = what, look.NewInput(what, value) }

// apply takes what was typed.
func (s *Screen) apply() tea.Cmd {
	value := s.input.Value()
	switch s.asks {
	case "find":
		s.input, s.find = nil, value
		if value != "" {
			return s.seek(true, value, s.mentions())
		}
	case "filter":
		f, err := trace.ParseFilter(value)
		if err != nil {
			s.input.Error = err.Error()
			return nil
		}
		s.filter, s.input = f, nil
		s.refill()
	default:
		return s.export(value)
	}
	return nil
}

// sought is the end of a search.
type sought struct {
	search int
	seq    uint64
	found  bool
	what   string
}

// seek looks for an event in the background; a trace may be long.
func (s *Screen) seek(forward bool, what string, wanted func(*trace.Event) bool) tea.Cmd {
	if s.seeking != nil {
		s.seeking()
	}
	from := uint64(0)
	if s.cursor < s.index.len() {
		from = s.index.number(s.cursor)
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.seeking = cancel
	s.search++
	search := s.search
	filter, own, hidden := s.filter, s.own, map[string]bool{}
	for _, n := range s.lanes.in(laneHidden) {
		hidden[n] = true
	}
	return func() tea.Msg {
		seq, ok := seek(ctx, s.src, from, forward, func(e *trace.Event) bool {
			return !hidden[e.Client] && (own || !e.Own()) && wanted(e) && filter.Match(e)
		})
		if ctx.Err() != nil {
			return nil
		}
		return sought{search, seq, ok, what}
	}
}

// sought takes the end of a search.
func (s *Screen) sought(m sought) tea.Cmd {
	if m.search != s.search || s.seeking == nil {
		return nil // another was begun, or it was stopped
	}
	s.seeking()
	s.seeking = nil
	if !m.found {
		return look.Tell(true, "no further "+m.what)
	}
	s.refresh()
	s.cursor, s.follow = min(s.index.position(m.seq), max(0, s.index.len()-1)), false
	return nil
}

// mentions finds the words looked for.
func (s *Screen) mentions() func(*trace.Event) bool {
	f := trace.WordFilter(s.find)
	return f.Match
}

// trouble tells what is worth a look: breaches, strays, malformed and refusing packets,
// gaps, links that failed. It is safe for concurrent use.
func (s *Screen) trouble(e *trace.Event) bool {
	if e.Broken != "" || e.Kind == trace.Gap || e.Link == "failed" {
		return true
	}
	if e.Packet != nil {
		if sum := packet.About(e.Packet, e.Version); sum.Coded && sum.Code.Failed(e.Packet.Type(), e.Version) {
			return true
		}
	}
	if e.Role != trace.RoleObserver || e.Publish() == nil || e.Kind != trace.Received {
		return false
	}
	f, ok := s.bench.Finding(e.Seq)
	return ok && (f.Judgement.Clause == nil || len(f.Judgement.Breaches) > 0)
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
		return sequence.Mark{
			Sign:  "✗",
			Word:  look.Clip(fmt.Sprintf("%s %s %s", rule, b.Where, b.Seen), 26),
			Style: t.Broken,
		}
	}
	return sequence.Mark{}
}
