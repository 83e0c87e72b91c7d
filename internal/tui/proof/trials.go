package proof

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trial"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// opened is a trial that was opened: its steps as they go, and once it is over its evidence.
type opened struct {
	name  string
	of    *core.Result
	shown *evidence
}

// round finds a trial's round by its name; nil where it was edited away.
func (s *Screen) round(name string) *workbench.TrialState {
	for i := range s.trials.Rounds {
		if s.trials.Rounds[i].Name == name {
			return &s.trials.Rounds[i]
		}
	}
	return nil
}

// tries runs trials, one after the other.
func (s *Screen) tries(stepping bool, names ...string) tea.Cmd {
	if err := s.bench.StartTrials(names, stepping); err != nil {
		return look.Tell(true, err.Error())
	}
	s.refresh()
	return nil
}

// trialActions are what can be done while trials run: stop, let a step go, answer.
func (s *Screen) trialActions() (out []look.Action) {
	if !s.trials.Running {
		return nil
	}
	if s.trials.Question != nil {
		out = append(out,
			look.Let("y", "yes, done", func() { s.answers(trial.Answer{Yes: true}) }),
			look.Let("n", "no", func() { s.answers(trial.Answer{}) }),
			look.Let("l", "leave it out", func() { s.answers(trial.Answer{Left: "nobody could tell"}) }))
	}
	if s.trials.Held {
		out = append(out,
			look.Let("space", "next step", func() { s.steps(false) }),
			look.Let("g", "all steps", func() { s.steps(true) }))
	}
	return append(out, look.Act("s", "stop the trials", func() tea.Cmd {
		s.bench.StopTrials()
		return look.Tell(false, "stopping; what is under way becomes undecided")
	}))
}

func (s *Screen) answers(a trial.Answer) {
	s.bench.Answer(a)
	s.refresh()
}

func (s *Screen) steps(through bool) {
	s.bench.NextStep(through)
	s.refresh()
}

// rowActions are what can be done with the trial at the cursor.
func (s *Screen) rowActions(r *workbench.TrialState) (out []look.Action) {
	name := r.Name
	out = append(out, look.Let("enter", "open its steps", func() { s.trial = &opened{name: name} }))
	if !s.trials.Running {
		var all []string
		for _, x := range s.trials.Rounds {
			all = append(all, x.Name)
		}
		out = append(out,
			look.Act("o", "run this trial", func() tea.Cmd { return s.tries(false, name) }),
			look.Act("p", "step by step", func() tea.Cmd {
				s.trial = &opened{name: name}
				return s.tries(true, name)
			}),
			look.Act("t", "run all trials", func() tea.Cmd { return s.tries(false, all...) }))
	}
	return out
}

// actions are what can be done with an opened trial.
func (o *opened) actions(s *Screen) []look.Action {
	out := []look.Action{look.Let("esc backspace", "back", func() { s.trial = nil })}
	if r := s.round(o.name); r != nil && !s.trials.Running {
		out = append(out,
			look.Act("o", "run it", func() tea.Cmd { return s.tries(false, o.name) }),
			look.Act("p", "step by step", func() tea.Cmd { return s.tries(true, o.name) }))
	}
	out = append(out, s.trialActions()...)
	if o.shown != nil {
		out = append(out, o.shown.actions(s)[1:]...)
	}
	return out
}

// signOf is how a trial stands: a sign, a word, and their style.
func signOf(r *workbench.TrialState, t *look.Theme) (string, look.Style) {
	switch {
	case r.Running:
		done := 0
		for _, p := range r.Steps {
			if p.State == trial.Done {
				done++
			}
		}
		return fmt.Sprintf("… step %d of %d", done+1, len(r.Steps)), t.Ours
	case r.Waiting:
		return "· its turn comes", t.Old
	case r.Result == nil:
		return "· not run", t.Old
	case r.Stale:
		return report.Sign(r.Result.Verdict) + " " + string(r.Result.Verdict) + ", stale", t.Old
	}
	return report.Sign(r.Result.Verdict) + " " + string(r.Result.Verdict), verdictStyle(t, r.Result.Verdict)
}

// drawQuestion shows what a person is asked, over the foot of the screen.
func (s *Screen) drawQuestion(c look.Canvas) {
	t, q := c.Theme, s.trials.Question
	c.Rule(0, "asked by "+q.Trial, t.Warn)
	y := 1
	for _, l := range look.Wrap(q.Text, c.W-4) {
		c.Text(2, y, l, t.Strong)
		y++
	}
	c.Text(2, y, "y yes, or done   n no   l leave it out", t.Ours)
}

// drawTrialFoot tells about the trial at the cursor.
func (s *Screen) drawTrialFoot(c look.Canvas, r *workbench.TrialState) {
	t := c.Theme
	c.Rule(0, look.Clip(r.Name, c.W-4), t.Ours)
	text, st := signOf(r, t)
	if r.Result != nil && !r.Running {
		text += ": " + r.Result.Seen
	}
	c.Text(1, 1, look.Clip(text, c.W-2), st)
	if r.Trial.Note != "" {
		c.Text(1, 2, look.Clip(r.Trial.Note, c.W-2), t.Dim)
	}
	c.Text(
		1,
		3,
		fmt.Sprintf("%s; line %d of the workspace's file", look.Plural(len(r.Trial.Steps), "step"), r.Trial.Line),
		t.Dim,
	)
}

// draw draws the steps as they go, and what they rest on once all is over.
func (o *opened) draw(s *Screen, c look.Canvas) {
	t := c.Theme
	r := s.round(o.name)
	if r == nil {
		c.Text(1, 0, o.name+" is no longer in the workspace", t.Warn)
		return
	}
	if r.Result != nil && !r.Running && !r.Waiting {
		if o.of != r.Result {
			o.of, o.shown = r.Result, newEvidence(*r.Result)
		}
		o.shown.draw(c)
		return
	}
	o.of, o.shown = nil, nil
	text, st := signOf(r, t)
	x := c.Text(1, 0, text+"  ", st)
	c.Text(x, 0, look.Clip(r.Name, c.W-x), t.Strong)
	c.Rule(1, "steps", t.Strong)
	y := 2
	steps := r.Steps
	if steps == nil {
		c.Text(2, y, fmt.Sprintf("%s: o runs it, p goes step by step", look.Plural(len(r.Trial.Steps), "step")), t.Dim)
	}
	for i, p := range steps {
		if y >= c.H-1 {
			break
		}
		sign, st := "·", t.Old
		switch p.State {
		case trial.UnderWay:
			sign, st = "▸", t.Ours
		case trial.Done:
			sign, st = "✓", t.Kept
		case trial.Failed:
			sign, st = "✗", t.Broken
		}
		if s.trials.Held && p.State == trial.Waiting && (i == 0 || steps[i-1].State == trial.Done) {
			sign, st = "▸", t.Warn
		}
		c.Text(2, y, sign, st)
		if p.State == trial.Done || p.State == trial.Failed {
			c.Right(14, y, look.Duration(p.Took.Round(time.Millisecond)), t.Dim)
		}
		c.Text(16, y, look.Clip(fmt.Sprintf("%d  %s", i+1, p.Text), c.W-17), st)
		y++
		if p.Seen != "" && y < c.H-1 {
			c.Text(19, y, look.Clip(p.Seen, c.W-20), t.Dim)
			y++
		}
	}
	if s.trials.Held && y+1 < c.H {
		c.Text(2, y+1, "space lets the next step go, g all that follow", t.Warn)
	}
	if s.trials.Question != nil {
		s.drawQuestion(c.Sub(0, c.H-5, c.W, 5))
	}
}

// trialRail is how the trials stand, on one line of the rail; nil where none has begun.
func (s *Screen) trialRail(t *look.Theme) []look.RailLine {
	if s.trials.Question != nil {
		return []look.RailLine{{Text: "? asked", Style: t.Warn}}
	}
	kept, bad := 0, 0
	for i := range s.trials.Rounds {
		switch r := s.trials.Rounds[i].Result; {
		case r == nil:
		case r.Verdict == core.Kept:
			kept++
		default:
			bad++
		}
	}
	switch {
	case s.trials.Running:
		return []look.RailLine{{Text: fmt.Sprintf("… %d/%d trials", kept+bad, len(s.trials.Rounds)), Style: t.Ours}}
	case bad > 0:
		return []look.RailLine{{Text: look.Plural(bad, "trial") + " ✗", Style: t.Broken}}
	case kept > 0:
		return []look.RailLine{{Text: "✓ " + look.Plural(kept, "trial"), Style: t.Kept}}
	case s.explored.Running || len(s.findings()) > 0:
		text, st := "… exploring", t.Ours
		if n := len(s.findings()); n > 0 {
			text, st = fmt.Sprintf("✗ explored, %d", n), t.Broken
		}
		return []look.RailLine{{Text: text, Style: st}}
	}
	return nil
}
