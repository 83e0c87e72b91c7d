package proof

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/proof"
	"hodstone/internal/proof/explore"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
)

// exploreFor is how long the screen explores.
const exploreFor = time.Minute

// exploredRows are the line of the exploration, and one for each thing that it found.
func (s *Screen) exploredRows() (out []row) {
	if s.explored.Started.IsZero() {
		return nil
	}
	out = append(out, row{family: "exploring", explored: true})
	for _, f := range s.findings() {
		out = append(out, row{family: "exploring", explored: true, found: &f.Result})
	}
	return out
}

// findings are those of the exploration so far.
func (s *Screen) findings() (out []*explore.Finding) {
	all := s.explored.Progress.Findings
	if s.explored.Report != nil {
		all = s.explored.Report.Findings
	}
	for i := range all {
		out = append(out, &all[i])
	}
	return out
}

// exploreAction begins an exploration, or stops it.
func (s *Screen) exploreAction() look.Action {
	if s.explored.Running {
		return look.Let("a", "stop exploring", s.bench.StopExplore)
	}
	return look.Act("a", "explore for a minute", func() tea.Cmd {
		if len(s.ways) == 0 {
			return look.Tell(true, "the workspace has no usable broker to explore")
		}
		if err := s.bench.StartExplore(s.ways[s.way], exploreFor, 0); err != nil {
			return look.Tell(true, err.Error())
		}
		s.at = exploringName
		s.refresh()
		return nil
	})
}

// exploringName is what the cursor keeps of the exploration's line.
const exploringName = "exploring "

// exploredWords are how the exploration, or a finding of it, stands.
func (s *Screen) exploredWords(r row, t *look.Theme) (name, verdict string, st look.Style) {
	x := &s.explored
	if r.found != nil {
		st = verdictStyle(t, r.found.Verdict)
		if x.Stale {
			st = t.Old
		}
		return fmt.Sprintf(
				"%s, in MQTT %s: %s",
				r.found.Check.Title,
				r.found.In(),
				r.found.Seen,
			), report.Sign(
				r.found.Verdict,
			) + " " + string(
				r.found.Verdict,
			), st
	}
	name = fmt.Sprintf(
		"%s with seed %d: %s, %s",
		x.Where,
		x.Seed,
		look.Plural(x.Progress.Conversations, "random conversation"),
		look.Plural(x.Progress.Actions, "action"),
	)
	switch {
	case x.Running && len(x.Progress.Findings) > 0:
		return name, fmt.Sprintf(
			"%s %d found, %s left",
			report.Sign(core.Broken),
			len(x.Progress.Findings),
			max(0, x.For-time.Since(x.Started)).Round(time.Second),
		), t.Broken
	case x.Running && x.Progress.Doing != "":
		return name, "… " + x.Progress.Doing, t.Warn
	case x.Running:
		return name, fmt.Sprintf("… %s left", max(0, x.For-time.Since(x.Started)).Round(time.Second)), t.Ours
	case x.Err != nil:
		return name, "✗ " + x.Err.Error(), t.Broken
	case len(x.Report.Findings) > 0:
		return name, fmt.Sprintf("%s %d found", report.Sign(core.Broken), len(x.Report.Findings)), t.Broken
	case x.Stale:
		return name, "✓ nothing found, stale", t.Old
	}
	return name, "✓ nothing found", t.Kept
}

// drawExploredFoot tells what was tried, and of a finding its steps.
func (s *Screen) drawExploredFoot(c look.Canvas, r row) {
	t := c.Theme
	x := &s.explored
	if r.found != nil {
		c.Rule(0, look.Clip("found by exploring: "+r.found.Check.Title, c.W-4), t.Ours)
		c.Text(1, 1, look.Clip(r.found.Seen, c.W-2), verdictStyle(t, r.found.Verdict))
		for i, step := range r.found.Steps {
			if y := 2 + i%3; i < 6 {
				c.Text(1+(i/3)*c.W/2, y, look.Clip(fmt.Sprintf("%d  %s", i+1, step.Text), c.W/2-2), t.Text)
			}
		}
		return
	}
	c.Rule(0, "random conversations, held against a model of the standard", t.Ours)
	if x.Report == nil {
		for i, l := range look.Wrap("What the model forbids is tried again, shortened, and shows here.", c.W-2) {
			if 1+i < c.H {
				c.Text(1, 1+i, l, t.Dim)
			}
		}
		return
	}
	tried, all, not := x.Report.Pairs()
	text := fmt.Sprintf("%d of %d pairs of actions were tried", tried, all)
	if len(not) > 0 {
		text += fmt.Sprintf(", not %s and then %s", not[0][0], not[0][1])
	}
	c.Text(1, 1, look.Clip(text, c.W-2), t.Text)
	for i, u := range x.Report.Unshown {
		if 2+i < c.H {
			c.Text(1, 2+i, look.Clip("seen once and not again: "+u, c.W-2), t.Old)
		}
	}
}
