package wire

import (
	"fmt"
	"slices"

	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/sequence"
)

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.open != nil {
		s.open.draw(c)
		return
	}
	s.head(c)
	body := c.Sub(0, 1, c.W, c.H-1)
	if s.input != nil {
		rows := 2
		if s.input.Error != "" {
			rows += len(look.Wrap(s.input.Error, c.W-4))
		}
		line := c.Sub(1, c.H-1-rows, c.W-2, rows+1)
		hint := map[string]string{"filter": trace.FilterHelp, "find": "words in topic, client or payload; n goes on, N back"}[s.asks]
		if hint == "" {
			hint = "a name that ends in .svg or .pdf"
		}
		if s.input.Error == "" {
			line.Text(0, 1, look.Clip(hint, c.W-2), c.Theme.Dim)
		}
		s.input.Draw(line, 0)
		body = c.Sub(0, 1, c.W, c.H-3-rows)
	}
	switch s.view {
	case viewJourneys:
		s.journal.draw(s, body)
	case viewStatistics:
		s.tables.draw(s, body)
	default:
		s.drawSequence(body)
	}
	if s.lanes.open {
		s.lanes.draw(body)
	}
}

// head draws the first row: the views, and how the trace stands.
func (s *Screen) head(c look.Canvas) {
	t := c.Theme
	x := 1
	for i, name := range viewNames {
		st := t.Dim
		if view(i) == s.view {
			st = t.Strong
			c.Text(x-1, 0, "▸", t.Ours)
		}
		x = c.Text(x, 0, name, st) + 2
	}
	x++
	switch {
	case s.record():
		x = c.Text(x, 0, "▤ "+look.Middle(s.bench.Record.Path, 28)+"  ", t.Ours)
	case s.paused:
		x = c.Text(x, 0, fmt.Sprintf("‖ paused, %s meanwhile  ", look.Plural(s.waiting, "new event")), t.Warn)
	case s.follow || s.view != viewSequence:
		x = c.Text(x, 0, "● live  ", t.Kept)
	default:
		x = c.Text(x, 0, "○ scrolled back  ", t.Warn)
	}
	if s.view == viewSequence {
		x = c.Text(x, 0, look.Plural(s.index.len(), "event")+"  ", t.Dim)
	}
	if f := s.filter.String(); f != "" {
		x = c.Text(x, 0, "filter ", t.Dim)
		x = c.Text(x, 0, look.Clip(f, 40)+"  ", t.Ours)
	}
	if s.find != "" && s.view == viewSequence {
		x = c.Text(x, 0, "find ", t.Dim)
		x = c.Text(x, 0, look.Clip(s.find, 20)+"  ", t.Ours)
	}
	if s.scan != nil {
		s.scan.mu.Lock()
		done := float64(s.scan.at) / float64(max(1, s.scan.total))
		s.scan.mu.Unlock()
		x = c.Text(x, 0, fmt.Sprintf("searching, %.0f %%  ", done*100), t.Warn)
	}
	if s.seeking != nil {
		x = c.Text(x, 0, "searching…  ", t.Warn)
	}
	if hidden := len(s.lanes.in(laneHidden)); hidden > 0 {
		x = c.Text(x, 0, look.Plural(hidden, "lane")+" hidden  ", t.Warn)
	}
	if s.missed > 0 {
		x = c.Text(x, 0, fmt.Sprintf("%d not shown: too fast for the memory  ", s.missed), t.Warn)
	}
	if s.view == viewSequence {
		if text := "seconds since " + s.since.Format("15:04:05"); x+look.Width(text)+2 < c.W {
			c.Right(c.W-1, 0, text, t.Dim)
		}
	}
}

// rows returns the events from a position on that are shown, for h rows.
func (s *Screen) rows(from, h int) []trace.Event {
	to := min(s.index.len(), from+h)
	out := make([]trace.Event, 0, max(0, to-from))
	seen := make(map[uint64]trace.Event, h)
	for i := from; i < to; i++ {
		e, ok := s.event(i)
		if !ok {
			e = trace.Event{
				Seq:  s.index.number(i),
				At:   s.since,
				Kind: trace.Gap,
				Text: "no longer kept in memory: record the trace to keep it",
			}
		}
		seen[e.Seq] = e
		s.present[e.Client] = true
		out = append(out, e)
	}
	s.seen = seen
	return out
}

func (s *Screen) drawSequence(body look.Canvas) {
	if s.index.len() == 0 {
		switch {
		case s.scan != nil:
			body.Teach("Searching the record for "+s.filter.String(), "What fits appears here as it is found.")
		case s.filter.String() != "" || len(s.lanes.in(laneHidden)) > 0:
			body.Teach(
				"Nothing fits the filter "+s.filter.String(),
				"esc drops it; / changes it; l shows the lanes that are hidden.",
				trace.FilterHelp,
			)
		case s.record():
			body.Teach("This record is empty.", "No event was committed before it ended.")
		default:
			body.Teach("The wire shows every packet of every client, as it goes over.",
				"Nothing has come yet. Start a device on the devices screen; its CONNECT appears here first.")
		}
		return
	}
	s.height = body.H - 1
	s.first = look.Scroll(s.first, s.cursor, s.height, s.index.len())
	d := s.drawing(s.rows(s.first, s.height), body.Theme)
	d.Cursor = s.cursor - s.first
	d.Draw(body)
}

// drawing is the sequence of events with the lanes as the user has them.
func (s *Screen) drawing(events []trace.Event, t *look.Theme) sequence.Drawing {
	shown, folded := s.lanes.in(laneShown), s.lanes.in(laneFolded)
	if s.filter.String() != "" { // who says nothing that fits needs no lane
		absent := func(name string) bool { return !s.present[name] }
		shown, folded = slices.DeleteFunc(shown, absent), slices.DeleteFunc(folded, absent)
	}
	if !s.own && !s.record() {
		probe := func(name string) bool { return s.probes[name] }
		shown, folded = slices.DeleteFunc(shown, probe), slices.DeleteFunc(folded, probe)
	}
	return sequence.Drawing{Events: events, Lanes: shown, Folded: folded, Cursor: -1, Since: s.since,
		Find: s.find, Marked: func(e *trace.Event) sequence.Mark { return s.mark(e, t) }}
}
