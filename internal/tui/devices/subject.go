package devices

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/device"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trial"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// board is a device that is put to the proof: its checks with their verdicts, as they come.
type board struct {
	state  workbench.SubjectState
	at     int
	first  int
	leaves *look.Input // the reason why a question is left out, or nil
}

// putToProof begins to put a device to the proof, and shows its board; where one is under way, that is shown.
func (s *Screen) putToProof(st device.State) tea.Cmd {
	if now := s.bench.Subjected(); now.Running {
		s.board = &board{state: now}
		return nil
	}
	err := s.bench.StartSubject(workbench.Subject{Device: st.Name, Real: st.Phase == device.Real, Faults: st.Faults})
	if err != nil {
		return look.Tell(true, err.Error())
	}
	s.board = &board{state: s.bench.Subjected()}
	return nil
}

// result is that of a check; nil before its end.
func (v *board) result(i int) *proof.Result {
	for k := range v.state.Results {
		if v.state.Results[k].Check.Name == v.state.Checks[i].Name {
			return &v.state.Results[k]
		}
	}
	return nil
}

func (v *board) actions(s *Screen) []look.Action {
	if v.leaves != nil {
		return []look.Action{
			look.Let("enter", "leave it out", func() {
				s.bench.AnswerSubject(trial.Answer{Left: strings.TrimSpace(v.leaves.Value())})
				v.leaves = nil
			}),
			look.Let("esc", "back", func() { v.leaves = nil }),
		}
	}
	out := []look.Action{
		look.Let("esc", "devices", func() { s.board = nil }),
		look.Moves("choose", &v.at, len(v.state.Checks), 5, nil),
	}
	if v.state.Question != "" {
		out = append(out,
			look.Let("y", "yes, done", func() { s.bench.AnswerSubject(trial.Answer{Yes: true}) }),
			look.Let("n", "no", func() { s.bench.AnswerSubject(trial.Answer{}) }),
			look.Let("l", "leave it out", func() { v.leaves = look.NewInput("why is it left out?", "") }),
		)
	}
	if r := v.result(v.at); r != nil && len(r.Decisive) > 0 {
		seq := r.Decisive[0]
		out = append(out, look.Act("enter w", "show on the wire", func() tea.Cmd {
			return func() tea.Msg { return look.ShowEvent{Seq: seq} }
		}))
	}
	if v.state.Running {
		return append(out, look.Let("s", "stop", s.bench.StopSubject))
	}
	return append(out, look.Act("r", "run it again", func() tea.Cmd {
		for i := range s.list {
			if s.list[i].Name == v.state.Device {
				return s.putToProof(s.list[i])
			}
		}
		return look.Tell(true, "there is no device "+v.state.Device+" any more")
	}))
}

func (v *board) draw(c look.Canvas) {
	t, st := c.Theme, &v.state
	title := st.Device + " is put to the proof"
	if !st.Running {
		title = st.Device + " was put to the proof"
	}
	c.Rule(0, title, t.Strong)
	about := "all other devices are off meanwhile"
	if st.At != "" {
		about = "it dials " + st.At + "; " + about
	}
	if !st.Running {
		n := map[proof.Verdict]int{}
		for i := range st.Results {
			n[st.Results[i].Verdict]++
		}
		about = report.SummaryLine(
			n,
		) + map[bool]string{true: "; kept with the proofs (6, d compares)", false: "; stopped, and not kept"}[st.Kept]
	}
	sty := t.Dim
	switch {
	case st.Err != nil:
		about, sty = "✗ "+st.Err.Error(), t.Broken
	case st.NotKept != nil:
		about, sty = "! not kept: "+st.NotKept.Error(), t.Warn
	case st.Question != "":
		about, sty = "? "+st.Question+": y yes, done · n no · l leave it out", t.Warn
	}
	y := 1
	for _, l := range look.Wrap(about, c.W-3) {
		c.Text(2, y, l, sty)
		y++
	}
	y++
	// Where there is little room the opened check keeps some of it.
	const forResult, least = 9, 4
	rows := min(len(st.Checks), max(least, c.H-y-forResult))
	v.first = look.Scroll(v.first, v.at, rows, len(st.Checks))
	for i := v.first; i < v.first+rows && i < len(st.Checks); i++ {
		v.drawCheck(c, y, i, st.Checks[i].Name, st.Checks[i].Title)
		y++
	}
	v.drawResult(c.Sub(0, y+1, c.W, max(0, c.H-y-1)))
	if v.leaves != nil {
		b := c.Sub(0, c.H-3, c.W, 3)
		b.Fill(t.Rail)
		v.leaves.Draw(b.Sub(1, 0, c.W-2, 3), 0)
	}
}

// drawCheck draws a check in a line.
func (v *board) drawCheck(c look.Canvas, y, i int, name, title string) {
	t := c.Theme
	verdict, st, took := "· not run", t.Old, ""
	r := v.result(i)
	switch {
	case r != nil:
		verdict, took = report.Sign(r.Verdict)+" "+string(r.Verdict), look.Duration(r.Took)
		st = map[proof.Verdict]look.Style{
			proof.Kept: t.Kept, proof.Broken: t.Broken, proof.Undecided: t.Warn, proof.Unsupported: t.Dim, proof.Skipped: t.Old,
		}[r.Verdict]
	case v.state.Running && v.state.Doing == name:
		verdict, st = "◌ under way", t.Ours
	}
	c.Text(2, y, verdict, st)
	at, room := 43, 24
	if c.W < 90 { // all are the device's
		name, at, room = strings.TrimPrefix(name, "device."), 34, 16
	}
	c.Text(17, y, look.Clip(name, room), t.Text)
	c.Text(at, y, look.Clip(title, max(0, c.W-at-10)), t.Dim)
	c.Right(c.W-1, y, took, t.Dim)
	if i == v.at {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

// drawResult says what was seen, and what is to be changed.
func (v *board) drawResult(c look.Canvas) {
	t := c.Theme
	if v.at >= len(v.state.Checks) || c.H < 2 {
		return
	}
	check := v.state.Checks[v.at]
	c.Rule(0, check.Name, t.Strong)
	y := 1
	put := func(text string, st look.Style) {
		for _, l := range look.Wrap(text, c.W-4) {
			if y < c.H {
				c.Text(2, y, l, st)
			}
			y++
		}
	}
	put("must be seen: "+check.Expected, t.Dim)
	r := v.result(v.at)
	if r == nil {
		if v.state.Running && v.state.Doing == check.Name {
			put("under way for "+time.Since(v.state.Started).Round(time.Second).String()+" in all", t.Ours)
		}
		return
	}
	st := t.Text
	if r.Verdict == proof.Broken {
		st = t.Broken
	}
	put(fmt.Sprintf("%s %s", report.Sign(r.Verdict), r.Seen), st)
	for _, n := range r.Notes {
		if text, is := strings.CutPrefix(n, "to change: "); is {
			put("→ "+text, t.Warn)
		} else {
			put("· "+n, t.Dim)
		}
	}
	for _, x := range r.Steps {
		put(fmt.Sprintf("%8s  %s", x.At.Round(time.Millisecond), x.Text), t.Old)
	}
}
