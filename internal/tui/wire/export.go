package wire

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
)

// askExport asks for the name of a drawing of the rows on the screen, or of all that fits.
func (s *Screen) askExport(all bool) tea.Cmd {
	if s.index.len() == 0 {
		return look.Tell(true, "there is nothing to export")
	}
	what := "export what is shown to"
	if all {
		what = "export all that fits to"
		if n := s.index.len(); n > report.MaxSequence {
			return look.Tell(
				true,
				fmt.Sprintf(
					"%d events are too many for a drawing; at most %d: narrow them down with /",
					n,
					report.MaxSequence,
				),
			)
		}
	}
	s.ask(what, "sequence-"+time.Now().Format("20060102-150405")+".svg")
	return nil
}

// export draws the sequence and lets the workbench write it.
func (s *Screen) export(name string) tea.Cmd {
	from, n := s.first, s.height
	if s.asks == "export all that fits to" {
		from, n = 0, s.index.len()
	}
	events := s.rows(from, n)
	shown := append(s.lanes.in(laneShown), s.lanes.in(laneFolded)...)
	present := report.Lanes(events)
	lanes := []string{}
	for _, l := range shown { // the user's order, without those that say nothing here
		for _, p := range present {
			if p == l {
				lanes = append(lanes, l)
			}
		}
	}
	q := report.Sequence{Events: events, Lanes: lanes, Since: s.since, Caption: s.captions(events),
		Marked: func(e *trace.Event) string {
			if m := s.mark(e, &look.Theme{}); m.Sign != "" {
				return map[string]string{"?": "stray", "✗": "breach: " + m.Word}[m.Sign]
			}
			return ""
		}}
	drawing, err := q.Draw()
	if err == nil {
		err = s.bench.Export(name, drawing)
	}
	if err != nil {
		s.input.Error = err.Error()
		return nil
	}
	s.input = nil
	return look.Tell(false, fmt.Sprintf("%s written: %s", name, look.Plural(len(events), "event")))
}

// captions say what a drawing shows: workspace, broker, time span, filter.
func (s *Screen) captions(events []trace.Event) []string {
	name := s.bench.Workspace().Name
	if name == "" {
		name = s.bench.Workspace().File
	}
	out := []string{name}
	if s.record() {
		if b := s.bench.Record.Meta["broker"]; b != "" {
			out = append(out, "broker "+b)
		}
	}
	for _, b := range s.bench.Brokers() {
		out = append(out, "broker "+b.Name+", "+b.URL)
	}
	out = append(out, report.Span(events))
	if f := s.filter.String(); f != "" {
		out = append(out, "filter "+f)
	}
	return out
}
