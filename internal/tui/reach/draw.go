package reach

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/link"
	core "hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// allStages are the columns of the drawing.
var allStages = core.Stages(link.Endpoint{TLS: true, WebSocket: true})

// columns are where the stages stand.
type columns struct{ label, width int }

func columnsOf(w int) columns {
	c := columns{label: max(14, min(30, w/5))}
	c.width = max(8, (w-c.label-2)/len(allStages))
	return c
}

func (c columns) at(i int) int { return c.label + 2 + i*c.width }

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.open != nil {
		s.open.draw(c)
		return
	}
	if len(s.board.Ways) == 0 {
		c.Teach(
			"No way in is known yet.",
			"This screen tries the way into each listener, stage by stage, and tells why a client",
			"does not get in. Add a broker to the workspace, or press p and paste the connection",
			"details that you were given.",
		)
		s.overlays(c)
		return
	}
	low := s.lowHeight(c)
	top := c.Sub(0, 0, c.W, c.H-low)
	s.drawWays(top)
	bottom := c.Sub(0, c.H-low, c.W, low)
	if c.W < 100 {
		s.drawStay(bottom)
	} else {
		half := c.W * 11 / 20
		s.drawGrants(bottom.Sub(0, 0, half-2, low))
		s.drawStay(bottom.Sub(half, 0, c.W-half, low))
	}
	s.overlays(c)
}

// lowHeight is how many rows the lower part gets.
func (s *Screen) lowHeight(c look.Canvas) int {
	if c.H < 30 {
		return 7
	}
	rows := 2
	for i := range s.board.Ways {
		rows += len(s.rows(&s.board.Ways[i], c.W, c.Theme)) + 1
	}
	return max(16, min(c.H-rows-1, c.H*2/3))
}

// overlays draws what asks something.
func (s *Screen) overlays(c look.Canvas) {
	switch {
	case s.input != nil:
		b := c.Sub(0, c.H-3, c.W, 3)
		b.Fill(c.Theme.Rail)
		s.input.Draw(b.Sub(1, 0, c.W-2, 3), 0)
	case s.paste != nil:
		s.paste.draw(c)
	}
}

// row is a line of text below a way's track.
type row struct {
	indent int
	text   string
	style  look.Style
	track  *core.Way // a track in place of text
	extra  bool
}

// rows lays out a way: its track, its addresses, its diagnosis.
func (s *Screen) rows(w *workbench.ReachState, width int, t *look.Theme) (out []row) {
	k := standingOf(w)
	text := func(indent int, st look.Style, s string) {
		for i, l := range look.Wrap(s, width-indent-2) {
			if i < 3 {
				out = append(out, row{indent: indent, text: l, style: st})
			}
		}
	}
	if w.Result == nil || len(w.Result.Ways) == 0 {
		blank := core.Way{}
		if e, err := link.Parse(w.Target.URL); err == nil {
			blank.Address = e.Address
			for _, stage := range core.Stages(e) {
				blank.Steps = append(blank.Steps, core.Step{Stage: stage, State: core.Untried})
			}
		}
		return []row{{track: &blank}}
	}
	r, cols := w.Result, columnsOf(width)
	var beside []string
	told := false
	for i := range r.Ways {
		way := &r.Ways[i]
		d := way.Diagnosis
		if way.Extra && !way.In {
			if d != nil {
				host := strings.TrimSuffix(way.Address, way.Address[strings.LastIndexByte(way.Address, ':'):])
				beside = append(beside, host)
			}
			continue
		}
		out = append(out, row{track: way, extra: way.Extra})
		if d == nil {
			continue
		}
		if told = true; k == stale {
			text(2, t.Old, "before the edit: "+d.What)
			continue
		}
		text(2, t.Broken, "✗ "+d.What)
		if d.Remedy != "" {
			text(2, t.Text, "→ "+d.Remedy)
		}
	}
	if beside != nil && width >= 100 && r.In() && !(w.Target.StandIn && !s.firstOf(w)) {
		st := t.Warn
		if w.Target.StandIn {
			st = t.Dim
		}
		text(cols.label+2, st, "○ not at "+strings.Join(beside, ", ")+", this machine's other addresses")
	}
	for _, f := range r.Findings {
		if f.Severity == trust.Broken && !told {
			text(2, t.Broken, "✗ "+f.What+" → "+f.Remedy)
		}
	}
	return out
}

// firstOf tells whether a way is the first of its broker's.
func (s *Screen) firstOf(w *workbench.ReachState) bool {
	for i := range s.board.Ways {
		if s.board.Ways[i].Target.Broker() == w.Target.Broker() {
			return &s.board.Ways[i] == w
		}
	}
	return false
}

func (s *Screen) drawWays(c look.Canvas) {
	t := c.Theme
	cols := columnsOf(c.W)
	c.Rule(0, "ways in", t.Strong)
	if s.board.Trouble != "" {
		c.Text(11, 0, look.Clip(" ! "+s.board.Trouble+" ", c.W-12), t.Warn)
	}
	for i, stage := range allStages {
		name := string(stage)
		if look.Width(name) >= cols.width {
			name = strings.TrimPrefix(name, "round ")
		}
		c.Text(cols.at(i), 1, name, t.Dim)
	}
	heights := make([]int, len(s.board.Ways))
	for i := range s.board.Ways {
		heights[i] = s.wayHeight(&s.board.Ways[i], c.W, t)
	}
	room := c.H - 2
	s.height = room
	// The first way shown is such that the one with the cursor is whole.
	s.first = min(s.first, s.at)
	for used := sum(heights[s.first : s.at+1]); used > room && s.first < s.at; s.first++ {
		used -= heights[s.first]
	}
	y := 2
	for i := s.first; i < len(s.board.Ways) && y < c.H; i++ {
		y = s.drawWay(c, y, i, cols)
	}
	sign, st := "✗ ", t.Broken
	if slices.ContainsFunc(s.board.Ways, func(w workbench.ReachState) bool { return w.Stale }) {
		sign, st = "◷ before the edit: ", t.Old
	}
	for _, f := range s.board.Together {
		for k, l := range look.Wrap(sign+f.What, c.W-4) {
			if k < 2 && y < c.H {
				c.Text(1, y, l, st)
				y++
			}
		}
	}
}

func sum(xs []int) (n int) {
	for _, x := range xs {
		n += x
	}
	return n
}

func (s *Screen) wayHeight(w *workbench.ReachState, width int, t *look.Theme) int {
	n := 0
	for _, r := range s.rows(w, width, t) {
		if n++; r.track != nil {
			n++
		}
	}
	return n
}

func (s *Screen) drawWay(c look.Canvas, y, i int, cols columns) int {
	t := c.Theme
	w := &s.board.Ways[i]
	k := standingOf(w)
	word, st := k.word(t)
	first := true
	for _, r := range s.rows(w, c.W, t) {
		if y >= c.H {
			break
		}
		if r.track == nil {
			c.Text(r.indent, y, r.text, r.style)
			y++
			continue
		}
		if first {
			c.Text(2, y, look.Clip(w.Target.Name, cols.label-2), t.Strong)
			if w.Result != nil && w.Result.Running {
				word = "◌ " + w.Result.Doing
			}
			c.Text(2, y+1, look.Clip(word, cols.label-1), st)
			if i == s.at {
				c.Paint(0, y, cols.label, t.Select)
				c.Text(0, y, "▸", t.Select)
			}
		} else {
			host := r.track.Address
			c.Text(2, y, look.Middle(host, cols.label-2), t.Dim)
		}
		s.drawTrack(c, y, r.track, cols, k, core.PlainPassword(&w.Target))
		first = false
		y += 2
	}
	return y
}

// drawTrack draws the stages of one address: a mark for each, joined as far as they were
// gone. plain tells that a password goes over it in the clear.
func (s *Screen) drawTrack(c look.Canvas, y int, w *core.Way, cols columns, k standing, plain bool) {
	t := c.Theme
	steps := map[core.Stage]core.Step{}
	for _, st := range w.Steps {
		steps[st.Stage] = st
	}
	reached := true
	for i, stage := range allStages {
		step, has := steps[stage]
		x := cols.at(i)
		line, lineStyle := "─", t.Kept
		switch {
		case k == stale:
			line, lineStyle = "╌", t.Old
		case !reached || !has && w.Steps == nil:
			line, lineStyle = "╌", t.Line
		}
		sign, st := "", t.Kept
		switch {
		case !has:
			sign, st = line, lineStyle
		case step.State == core.Done:
			sign = "●"
		case step.State == core.Failed:
			sign, st = "╳", t.Broken
			if stage == core.StageRoundTrip && w.In {
				sign, st = "!", t.Warn
			}
		default:
			sign, st = "○", t.Old
		}
		if has && step.State != core.Done {
			reached = false
		}
		if k == stale {
			st = t.Old
		}
		c.Text(x, y, sign, st)
		if i < len(allStages)-1 {
			if !reached {
				line, lineStyle = "╌", t.Line
			}
			c.Text(x+1, y, strings.Repeat(line, cols.width-1), lineStyle)
		}
		if !has {
			continue
		}
		note, noteStyle := "", t.Dim
		switch {
		case step.State == core.Failed && stage != core.StageName:
			note, noteStyle = look.Duration(step.Took), t.Broken
		case step.State == core.Done && step.Took > 0:
			note = look.Duration(step.Took)
		case step.State == core.Done && stage == core.StageName:
			note = "address"
		}
		if stage == core.StageTLS && step.State == core.Done && cols.width > 14 {
			note += " " + strings.TrimPrefix(step.Learnt, "TLS ")
		}
		if k == stale {
			noteStyle = t.Old
		}
		if stage == core.StageConnect && plain && k != stale && step.State != core.Untried {
			if note, noteStyle = "! plain "+note, t.Warn; cols.width < 16 {
				note = "! plain"
			}
		}
		c.Text(x, y+1, look.Clip(note, cols.width-1), noteStyle)
	}
}

// result is the result of the way with the cursor, or nil.
func (s *Screen) result() *core.Result {
	if s.at < len(s.board.Ways) {
		return s.board.Ways[s.at].Result
	}
	return nil
}

// drawGrants shows what the broker gave against what was asked, and the open doors.
func (s *Screen) drawGrants(c look.Canvas) {
	t := c.Theme
	r := s.result()
	if r == nil {
		c.Rule(0, "granted", t.Strong)
		for i, l := range look.Wrap("What the broker grants shows here once the way was tried: what CONNACK of version 5 says, and what 3.1.1 has to be asked for by trying.", c.W-4) {
			c.Text(2, 1+i, l, t.Dim)
		}
		return
	}
	doors := s.doors()
	doorRows := 2
	for _, door := range doors {
		doorRows += len(doorLines(door, c.W-4))
	}
	doorRows = min(doorRows, c.H/2)
	facts := look.Wrap(s.facts(), c.W-4)
	if len(facts) > 0 {
		facts = facts[:min(len(facts), 3)]
		whole := c
		c = c.Sub(0, 0, c.W, c.H-len(facts)-1)
		told := whole.Sub(0, c.H, whole.W, len(facts)+1)
		told.Rule(0, "what it tells of itself", t.Strong)
		for i, l := range facts {
			told.Text(3, 1+i, l, t.Dim)
		}
	}
	top := min(c.H-doorRows, max(2, len(r.Grants))+2)
	s.drawGrantTable(c.Sub(0, 0, c.W, top), r)
	d := c.Sub(0, top, c.W, doorRows)
	d.Rule(0, "doors left open", t.Strong)
	y := 1
	for _, door := range doors {
		sign, st := "! ", t.Warn
		if door.Accepted != "" {
			sign, st = "· ", t.Old
		}
		for i, l := range doorLines(door, c.W-4) {
			if i > 0 {
				sign = "  "
			}
			d.Text(1, y, sign+l, st)
			y++
		}
	}
	if len(doors) == 0 {
		d.Text(1, y, noDoors(s.results()), t.Dim)
	}
}

// facts are what the broker at the cursor tells of itself, on a line; "" for nothing.
func (s *Screen) facts() string {
	r := s.result()
	if r == nil {
		return ""
	}
	var parts []string
	for _, f := range s.bench.Facts(r.Target.Broker()) {
		parts = append(parts, look.Tame(f.What+" "+f.Value))
	}
	return strings.Join(parts, " · ")
}

// noDoors says why no open door is shown: where no way leads in, none could be found.
func noDoors(all []core.Result) string {
	for i := range all {
		if all[i].In() {
			return "none was found"
		}
	}
	return "not known: no way leads in so far"
}

func doorLines(d core.Door, w int) []string {
	if d.Accepted != "" {
		return look.Wrap(d.What+", accepted: "+d.Accepted, w)
	}
	return look.Wrap(d.What+" → "+d.Remedy, w)
}

// doors are the open doors of all ways.
func (s *Screen) doors() []core.Door {
	var all []*core.Result
	for i := range s.board.Ways {
		if r := s.board.Ways[i].Result; r != nil {
			all = append(all, r)
		}
	}
	return core.OpenDoors(all)
}

func (s *Screen) drawGrantTable(c look.Canvas, r *core.Result) {
	t := c.Theme
	c.Rule(0, "granted by "+r.Target.Name, t.Strong)
	nameW, askW := 32, 17
	if c.W < nameW+askW+24 { // what was asked gives way: the details have it
		askW = 0
	} else {
		c.Text(2+nameW, 0, " asked ", t.Dim)
		c.Text(2+nameW+askW, 0, " given ", t.Dim)
	}
	if len(r.Grants) == 0 {
		c.Text(2, 1, "nothing: no CONNACK came that grants anything", t.Dim)
	}
	shown := r.Grants
	for i, g := range shown {
		if 1+i >= c.H {
			c.Right(c.W-1, 0, fmt.Sprintf(" %d more: enter ", len(shown)-i), t.Warn)
			break
		}
		st, sign := t.Text, " "
		if g.Less {
			st, sign = t.Warn, "!"
		}
		c.Text(0, 1+i, sign, t.Warn)
		c.Text(2, 1+i, look.Clip(g.Name, nameW-1), t.Dim)
		c.Text(3+nameW, 1+i, look.Clip(g.Asked, askW-1), t.Dim)
		c.Text(3+nameW+askW, 1+i, look.Clip(g.Granted, c.W-nameW-askW-4), st)
	}
}
