package proof

import (
	"fmt"
	"slices"

	core "hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/sequence"
)

// evidence is a check, opened: steps above, the sequence below.
type evidence struct {
	r      core.Result
	lanes  []string
	cursor int
	first  int
	height int
	drawn  bool
	table  bool // the tables are shown in place of the evidence
	down   int  // how far they are scrolled
}

func newEvidence(r core.Result) *evidence {
	lanes := report.Lanes(r.Evidence)
	slices.SortStableFunc(
		lanes,
		func(a, b string) int { return slices.Index(r.Clients, a) - slices.Index(r.Clients, b) },
	)
	e := &evidence{r: r, lanes: lanes, height: 10, table: wide(&r)}
	if n := len(r.Decisive); n > 0 {
		e.show(r.Decisive[n-1]) // what decided came last; before it stands what led there
	}
	return e
}

// show moves to the event with the number.
func (e *evidence) show(seq uint64) {
	for i := range e.r.Evidence {
		if e.r.Evidence[i].Seq == seq {
			e.cursor = i
		}
	}
}

// decides tells whether the verdict rests on the event.
func (e *evidence) decides(seq uint64) bool { return slices.Contains(e.r.Decisive, seq) }

// decisive moves to the next event that decided, or back to the first.
func (e *evidence) decisive() {
	for _, seq := range e.r.Decisive {
		if seq > e.r.Evidence[e.cursor].Seq {
			e.show(seq)
			return
		}
	}
	if len(e.r.Decisive) > 0 {
		e.show(e.r.Decisive[0])
	}
}

func (e *evidence) actions(s *Screen) []look.Action {
	out := []look.Action{
		look.Let("esc backspace", "back", func() { s.open = nil }),
		look.Moves("scroll the evidence", &e.cursor, len(e.r.Evidence), e.height, nil),
		look.Keys("[ ]", "previous, next step", []string{"[", "]"}, func(k string) { e.jump(k == "]") }),
	}
	if len(e.r.Tables) > 0 {
		word := "show the table"
		if e.table {
			word = "show the evidence"
			out[1] = look.Moves("scroll the table", &e.down, e.lines(), e.height, nil)
		}
		out = append(out, look.Let("t", word, func() { e.table = !e.table }))
	}
	if len(e.r.Decisive) > 0 && !e.table {
		out = append(out, look.Let("n", "next that decided", e.decisive))
	}
	return out
}

// jump moves to the first event of the next or previous step.
func (e *evidence) jump(forward bool) {
	now := e.step()
	if forward {
		now++
	} else {
		now--
	}
	if now < 0 || now >= len(e.r.Steps) {
		return
	}
	for i := range e.r.Evidence {
		if e.r.Evidence[i].Seq >= e.r.Steps[now].Seq {
			e.cursor = i
			return
		}
	}
}

// step is the step that the cursor's event belongs to; -1 before the first.
func (e *evidence) step() int {
	at := -1
	for i, st := range e.r.Steps {
		if len(e.r.Evidence) > 0 && e.r.Evidence[e.cursor].Seq >= st.Seq {
			at = i
		}
	}
	return at
}

func (e *evidence) draw(c look.Canvas) {
	t, r := c.Theme, &e.r
	x := c.Text(1, 0, report.Sign(r.Verdict)+" "+string(r.Verdict)+"  ", verdictStyle(t, r.Verdict))
	if r.In() == "" { // a trial
		x = c.Text(x, 0, look.Clip(r.Check.Title+"  ", c.W-x), t.Strong)
		c.Text(x, 0, look.Clip(look.Duration(r.Took), c.W-x), t.Dim)
	} else {
		x = c.Text(x, 0, r.Check.Name+" in MQTT "+r.In()+"  ", t.Strong)
		c.Text(x, 0, look.Clip(r.Check.Title+", "+look.Duration(r.Took), c.W-x), t.Dim)
	}
	y := 1
	for _, l := range [][2]string{{"expected", r.Expected}, {"seen", r.Seen}, {"standard", report.Standard(r)}} {
		st := t.Text
		if l[0] == "seen" {
			st = verdictStyle(t, r.Verdict)
		}
		c.Text(1, y, l[0], t.Dim)
		for i, line := range look.Wrap(l[1], c.W-12) {
			if i < 3 {
				c.Text(11, y, line, st)
				y++
			}
		}
	}
	for _, n := range r.Notes {
		c.Text(1, y, "note", t.Dim)
		c.Text(11, y, look.Clip(n, c.W-12), t.Warn)
		y++
	}
	if e.table {
		e.drawTables(c.Sub(0, y, c.W, c.H-y))
		return
	}
	y = e.drawSteps(c, y)
	decided := ""
	if n := len(r.Decisive); n > 0 {
		decided = fmt.Sprintf(", ◆ %d of them decided", n)
	}
	c.Rule(
		y,
		fmt.Sprintf("evidence: %s, seconds since the check began%s", look.Plural(len(r.Evidence), "event"), decided),
		t.Strong,
	)
	body := c.Sub(0, y+1, c.W, c.H-y-1)
	if len(r.Evidence) == 0 {
		body.Text(2, 1, "No packet went over: there is nothing to show.", t.Dim)
		return
	}
	e.height = body.H - 1
	if !e.drawn { // what led to it stands above, and what followed below
		e.first, e.drawn = e.cursor-e.height*2/3, true
	}
	e.first = look.Scroll(e.first, e.cursor, e.height, len(r.Evidence))
	d := sequence.Drawing{Events: r.Evidence, Lanes: e.lanes, Cursor: e.cursor, First: e.first, Since: r.At,
		Marked: func(x *trace.Event) sequence.Mark {
			if !e.decides(x.Seq) {
				return sequence.Mark{}
			}
			return sequence.Mark{Sign: "◆", Word: "", Style: verdictStyle(t, r.Verdict)}
		}}
	d.Draw(body)
}

// drawSteps lists the steps around the one that the cursor is in.
func (e *evidence) drawSteps(c look.Canvas, y int) int {
	t, steps := c.Theme, e.r.Steps
	c.Rule(y, "steps", t.Strong)
	y++
	room := min(len(steps), max(3, c.H/4))
	now := e.step()
	first := max(0, min(now-room/2, len(steps)-room))
	for i := first; i < first+room; i++ {
		st := t.Text
		if i == now {
			st = t.Ours
			c.Text(0, y, "▸", t.Ours)
		}
		c.Right(11, y, fmt.Sprintf("%.3f s", steps[i].At.Seconds()), t.Dim)
		c.Text(13, y, look.Clip(fmt.Sprintf("%d  %s", i+1, steps[i].Text), c.W-14), st)
		y++
	}
	return y
}
