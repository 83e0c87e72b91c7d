package contract

import (
	"fmt"
	"strings"
	"time"

	core "hodstone/internal/contract"
	"hodstone/internal/payload"
	"hodstone/internal/tui/look"
)

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.compose != nil {
		s.compose.draw(s, c)
		return
	}
	if s.saving != nil {
		s.saving.Draw(c.Sub(1, c.H-2, c.W-2, 2), 0)
		c = c.Sub(0, 0, c.W, c.H-3)
	}
	if s.open != nil {
		s.open.draw(s, c)
		return
	}
	if len(s.bench.Workspace().Contract.Clauses) == 0 {
		c.Teach("The contract says who publishes what, where, and how it must look.",
			"This workspace has no clause yet. Write them under contract: clauses: in",
			s.bench.Workspace().File+"; 'hodstone demo --write DIR' gives you an example.",
			"Each clause becomes a row here, each instance of its parameter a cell with its live state.")
		return
	}
	top := 0
	if blind := s.snap.Blind(); blind != "" {
		st := c.Theme.Warn
		if !strings.Contains(blind, "is blind") && !strings.Contains(blind, "not begun") {
			st = c.Theme.Dim
		}
		c.Text(1, 0, look.Clip("◌ "+blind, c.W-2), st)
		top = 1
	}
	if s.asking != nil {
		s.asking.Draw(c.Sub(1, top, c.W-2, 1), 0)
		top++
	} else if s.filter != "" || s.unwell {
		text := ""
		if s.filter != "" {
			text = "only what has " + s.filter + " in it  "
		}
		if s.unwell {
			text += "only what is not well"
		}
		c.Text(1, top, look.Clip(text, c.W-2), c.Theme.Ours)
		top++
	}
	body := c.Sub(0, top, c.W, c.H-2-top)
	s.follow(layout(c.W))
	s.first = look.Scroll(s.first, s.at, body.H, len(s.rows))
	if s.at <= 1 {
		s.first = 0
	}
	for y := 0; y < body.H && s.first+y < len(s.rows); y++ {
		s.drawRow(body, y, s.first+y)
	}
	s.drawFoot(c)
}

// columns are the widths of the sheet's columns for the room there is.
type columns struct{ name, who, how, cell int }

func layout(w int) columns {
	k := columns{name: 17, who: 16, how: 20}
	if w < 120 {
		k = columns{name: 15, who: 0, how: 0}
	}
	k.cell = (w - k.name - k.who - k.how - 2) / 4
	return k
}

func (s *Screen) drawRow(c look.Canvas, y, i int) {
	t, r, k := c.Theme, &s.rows[i], layout(c.W)
	here := i == s.at
	switch {
	case r.title != "":
		c.Rule(y, "", t.Dim)
		x, cells := c.Text(1, y, " "+r.title+" ", t.Strong), k.name+k.who+k.how+2
		room := c.W - x - 1
		if i+1 < len(s.rows) && s.rows[i+1].clause != nil && len(s.rows[i+1].clause.Topic.Parameters()) > 0 {
			room = cells - x - 2 // the names of the instances stand beyond
		}
		if room > 20 {
			x = c.Text(x, y, look.Clip(r.note, room)+" ", t.Dim)
		}
		s.headings(c, y, i, max(x, cells), k)
	case r.clause != nil:
		x := 2
		c.Text(x, y, look.Clip(r.clause.Name, k.name-1), t.Text)
		if k.who > 0 {
			c.Text(x+k.name, y, look.Clip("→ "+takers(r.clause), k.who-1), t.Dim)
			c.Text(x+k.name+k.who, y, how(r.clause), t.Dim)
		}
		x += k.name + k.who + k.how
		if len(r.cells) == 0 {
			c.Text(x, y, "· nothing yet", t.Old)
		}
		if s.folded && len(r.cells) > 1 {
			s.drawCounts(c.Sub(x, y, c.W-x, 1), r.cells)
			if here {
				c.Paint(x-1, y, c.W-x, t.Select)
			}
		} else {
			s.drawCells(c, x, y, r, here, k)
		}
		if here {
			c.Text(0, y, "▸", t.Select)
		}
	case r.stray != nil:
		age := look.Age(s.snap.At.Sub(r.stray.Last.At))
		x := c.Text(2, y, "? stray  ", t.Warn)
		x = c.Text(x, y, look.Middle(r.stray.Topic, max(20, c.W/3)), t.Text)
		x = c.Text(x, y, fmt.Sprintf("  ×%d  %s ago", r.stray.Count, age), t.Dim)
		if r.stray.Near != "" {
			c.Text(x, y, look.Clip("  meant for "+r.stray.Near+"?", c.W-x), t.Dim)
		}
	case r.find != nil:
		x := c.Text(2, y, "! "+look.Pad(look.Clip(r.find.Lint.Name, 18), 18)+" ", t.Warn)
		c.Text(x, y, look.Clip(r.find.Message, c.W-x-1), t.Text)
	case r.breach != nil:
		s.drawBreach(c, y, r.breach)
	default:
		c.Text(2, y, r.note, t.Old)
	}
	if here && r.clause == nil {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

// headings names the instances above the cells of a party's clauses.
func (s *Screen) headings(c look.Canvas, y, i, from int, k columns) {
	if i+1 >= len(s.rows) || s.rows[i+1].clause == nil {
		return
	}
	r := &s.rows[i+1]
	params := r.clause.Topic.Parameters()
	if len(params) == 0 {
		return
	}
	if s.folded && len(r.cells) > 1 {
		c.Text(from, y, fmt.Sprintf(" %s, by %s ", look.Plural(len(r.cells), "instance"), params[0]), c.Theme.Ours)
		return
	}
	left, shown := s.window(len(r.cells))
	for n, cell := range r.cells[left : left+shown] {
		x := 2 + k.name + k.who + k.how + n*k.cell
		if x >= from-1 || n > 0 {
			c.Text(x, y, look.Clip(" "+params[0]+" "+cell.Instance+" ", k.cell-1), c.Theme.Ours)
		}
	}
	if left > 0 {
		c.Text(from-3, y, "‹", c.Theme.Ours)
	}
	if more := len(r.cells) - left - shown; more > 0 {
		c.Right(c.W, y, fmt.Sprintf(" %d more ›", more), c.Theme.Ours)
	}
}

// how writes QoS, retain and cadence in few letters.
func how(cl *core.Clause) string {
	s := "q–"
	if cl.QoS != nil {
		s = fmt.Sprintf("q%d", *cl.QoS)
	}
	if cl.Retain != nil && *cl.Retain {
		s += " retain"
	}
	if e := cl.Every.String(); e != "" {
		s += " " + strings.ReplaceAll(e, " ", "")
	}
	if r := cl.Most.String(); r != "" {
		s += " ≤" + r
	}
	if cl.Answer != nil {
		s += " answer " + cl.Answer.Within.String()
	}
	return s
}

var cellSigns = map[core.CellState]string{
	core.CellUnseen: "·",
	core.CellKept:   "✓",
	core.CellBroken: "✗",
	core.CellSilent: "○",
}

func cellStyle(t *look.Theme, st core.CellState) look.Style {
	switch st {
	case core.CellKept:
		return t.Kept
	case core.CellBroken:
		return t.Broken
	case core.CellSilent:
		return t.Warn
	}
	return t.Old
}

// instances is how many instances the sheet shows side by side.
const instances = 4

// window is which of so many instances are drawn.
func (s *Screen) window(n int) (left, shown int) {
	left = max(0, min(s.left, n-instances))
	return left, min(instances, n-left)
}

// follow moves the window so that the cursor is in it.
func (s *Screen) follow(columns) {
	if s.at >= len(s.rows) || s.rows[s.at].clause == nil {
		return
	}
	n := len(s.rows[s.at].cells)
	col := min(s.col, n-1)
	if col < s.left {
		s.left = max(0, col)
	}
	if col >= s.left+instances {
		s.left = col - instances + 1
	}
}

// drawCells draws a clause's instances, as many as there is room for.
func (s *Screen) drawCells(c look.Canvas, x, y int, r *row, here bool, k columns) {
	left, shown := s.window(len(r.cells))
	for n, cell := range r.cells[left : left+shown] {
		w := k.cell
		if len(r.cells) == 1 {
			w = k.cell * 2
		}
		s.drawCell(c.Sub(x+n*k.cell, y, w-1, 1), cell, r.headed)
		if here && left+n == min(s.col, len(r.cells)-1) {
			c.Paint(x+n*k.cell-1, y, w, c.Theme.Select)
		}
	}
}

// drawCounts counts a clause's instances by how they stand; of those that are not well, some are named.
func (s *Screen) drawCounts(c look.Canvas, cells []*core.Cell) {
	counts := map[core.CellState]int{}
	var unwell []string
	for _, cell := range cells {
		counts[cell.State]++
		if cell.State == core.CellBroken || cell.State == core.CellSilent {
			unwell = append(unwell, cell.Instance)
		}
	}
	x := 0
	for _, st := range []core.CellState{core.CellBroken, core.CellSilent, core.CellKept, core.CellUnseen} {
		if n := counts[st]; n > 0 {
			x = c.Text(x, 0, fmt.Sprintf("%s %d %s   ", cellSigns[st], n, st), cellStyle(c.Theme, st))
		}
	}
	if len(unwell) > 0 {
		c.Text(x, 0, look.Clip("not well: "+strings.Join(unwell, ", "), c.W-x-1), c.Theme.Dim)
	}
}

func (s *Screen) drawCell(c look.Canvas, cell *core.Cell, headed bool) {
	t := c.Theme
	st := cellStyle(t, cell.State)
	x := c.Text(0, 0, cellSigns[cell.State]+" ", st)
	label := ""
	if params := cell.Clause.Topic.Parameters(); len(params) > 0 && !headed {
		label = params[0] + " " + cell.Instance + " "
	}
	if cell.Last.At.IsZero() {
		word := "nothing yet"
		if c.W < 14 {
			word = "none"
		}
		if cell.State == core.CellSilent {
			word = "silent"
		}
		c.Text(x, 0, look.Clip(label+word, c.W-x), st)
		return
	}
	age := look.Age(s.snap.At.Sub(cell.Last.At))
	if cell.Last.Copy {
		age = "stored"
	}
	tail := age
	if cell.Broken > 0 && c.W > 14 {
		tail = fmt.Sprintf("✗%d %s", cell.Broken, age)
	}
	c.Right(c.W, 0, age, t.Dim)
	if tail != age {
		c.Right(c.W-look.Width(age)-1, 0, fmt.Sprintf("✗%d", cell.Broken), t.Broken)
	}
	room := c.W - x - look.Width(tail) - 1
	text := label + look.Headline(cell, room-look.Width(label))
	if cell.State == core.CellSilent {
		text = label + "silent"
	}
	if cell.State == core.CellKept {
		st = t.Text
	}
	c.Text(x, 0, look.Clip(text, room), st)
}

func (s *Screen) drawBreach(c look.Canvas, y int, b *core.Breach) {
	t := c.Theme
	x := c.Text(2, y, "✗ "+look.Pad(look.Age(s.snap.At.Sub(b.At)), 4), t.Broken)
	what := b.Clause + " " + b.Instance
	if b.Clause == "" {
		what = b.Sender
	}
	x = c.Text(x, y, look.Pad(look.Clip(what, 20), 20)+" ", t.Text)
	where := string(b.Rule)
	if b.Keyword != "" {
		where = b.Keyword
	}
	if b.Where != "" {
		where += " at " + b.Where
	}
	x = c.Text(x, y, look.Pad(look.Clip(where, 24), 24)+" ", t.Text)
	c.Text(x, y, look.Clip("expected "+b.Expected+", saw "+b.Seen, c.W-x), t.Dim)
}

// drawFoot tells more of what the cursor is on.
func (s *Screen) drawFoot(c look.Canvas) {
	t := c.Theme
	y := c.H - 2
	c.Text(0, y, strings.Repeat("─", c.W), t.Line)
	if s.at >= len(s.rows) {
		return
	}
	r := &s.rows[s.at]
	switch {
	case r.clause != nil:
		x := c.Text(1, y+1, r.clause.Topic.String(), t.Ours)
		x = c.Text(x, y+1, "  → "+takers(r.clause), t.Dim)
		c.Text(x, y+1, look.Clip("  "+how(r.clause)+"  "+r.clause.Note, c.W-x), t.Dim)
	case r.find != nil:
		x := c.Text(1, y+1, r.find.Way+"  ", t.Ours)
		c.Text(x, y+1, look.Clip(r.find.Lint.Doc, c.W-x-1), t.Dim)
	case r.breach != nil:
		c.Text(1, y+1, look.Clip(r.breach.String(), c.W-1), t.Text)
	case r.stray != nil:
		x := c.Text(1, y+1, "from "+sender(r.stray.Last.Sender), t.Text)
		c.Text(x, y+1, "  "+payload.Show(r.stray.Last.Payload, c.W-x-2), t.Dim)
	}
}

// takers names who consumes what the clause is about.
func takers(c *core.Clause) string {
	if len(c.To) == 0 {
		return "nobody"
	}
	return strings.Join(c.To, ", ")
}

func sender(name string) string {
	if name == "" {
		return "an unknown client"
	}
	return name
}

func clock(at time.Time) string { return at.Format("15:04:05.000") }
