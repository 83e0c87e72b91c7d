// Package proof is the screen of the verdicts: a board of checks by family and version,
// the tables that checks show, and, for a check opened, its steps and the sequence of its
// evidence.
package proof

import (
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	core "hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

var versions = core.Versions()

// Screen is the proof screen.
type Screen struct {
	bench  *workbench.Bench
	checks []*core.Check
	state  workbench.ProofState
	byKey  map[string]*core.Result
	ways   []string // BROKER/LISTENER, all of the workspace's
	way    int      // the one to be put to the proof
	at     string   // the check at the cursor, or the family that is folded
	spread map[string]bool
	col    int
	first  int
	open   *evidence
}

// New returns the screen.
func New(b *workbench.Bench) *Screen {
	s := &Screen{bench: b, checks: check.All(), col: len(core.Versions()) - 1, byKey: map[string]*core.Result{},
		spread: map[string]bool{}}
	s.findWays()
	return s
}

// findWays lists the ways into all brokers, as the workspace has them now.
func (s *Screen) findWays() {
	s.ways = s.ways[:0]
	for _, br := range s.bench.Workspace().Brokers {
		for _, l := range br.Ways() {
			s.ways = append(s.ways, br.Name+"/"+l.Name)
		}
	}
	s.way = max(0, min(s.way, len(s.ways)-1))
}

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "proof" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return false }

func key(c *core.Check, v packet.Version) string { return c.Name + "/" + v.String() }

// refresh takes in how the proof stands.
func (s *Screen) refresh() {
	s.state = s.bench.Proof()
	s.findWays()
	clear(s.byKey)
	for i := range s.state.Results {
		if r := &s.state.Results[i]; r.Check != nil {
			s.byKey[key(r.Check, r.Version)] = r
		}
	}
}

func counts(rs []core.Result) map[core.Verdict]int { return (&core.Proof{Results: rs}).Counts() }

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	if s.state.Started.IsZero() {
		return []look.RailLine{{Text: "not run", Style: t.Old}}
	}
	n := counts(s.state.Results)
	if s.state.Stale {
		return []look.RailLine{
			{Text: "! stale", Style: t.Warn},
			{Text: fmt.Sprintf("%d kept before", n[core.Kept]), Style: t.Old},
		}
	}
	var lines []look.RailLine
	if s.state.Running {
		lines = append(
			lines,
			look.RailLine{Text: fmt.Sprintf("running %d/%d", len(s.state.Results), s.state.Total), Style: t.Warn},
		)
	}
	if s.state.Err != nil {
		text := "✗ not reached"
		if shut := (*core.NotLetInError)(nil); errors.As(s.state.Err, &shut) {
			text = "✗ not let in"
		}
		return append(lines, look.RailLine{Text: text, Style: t.Broken})
	}
	lines = append(lines, look.RailLine{Text: fmt.Sprintf("✓ %d kept", n[core.Kept]), Style: t.Kept})
	if n[core.Broken] > 0 {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("✗ %d broken", n[core.Broken]), Style: t.Broken})
	}
	if n[core.Undecided] > 0 {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("? %d undecided", n[core.Undecided]), Style: t.Warn})
	}
	return lines
}

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		s.refresh()
	case tea.KeyPressMsg:
		cmd, _ := look.Press(s.Actions(), msg)
		return cmd
	}
	return nil
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	if s.open != nil {
		return s.open.actions(s)
	}
	var out []look.Action
	rows := s.rows()
	row := s.index(rows)
	here := rows[row]
	only := "run only this"
	if here.folded {
		only = "run these"
	}
	if s.state.Running {
		out = append(out, look.Act("s", "stop", func() tea.Cmd {
			s.bench.StopProof()
			return look.Tell(false, "stopping; what is under way becomes undecided")
		}))
	} else {
		out = append(out,
			look.Act("r", "run all", func() tea.Cmd { return s.run(nil) }),
			look.Act("o", only, func() tea.Cmd { return s.run(here.checks) }),
		)
		if n := len(s.ways); n > 1 {
			out = append(out, look.Let("b", "other listener", func() { s.way = (s.way + 1) % n }))
		}
	}
	sideways := look.Keys("←→", "version", []string{"left", "h", "right", "l"}, func(k string) {
		by := 1
		if k == "left" || k == "h" {
			by = -1
		}
		s.col = max(0, min(s.col+by, len(versions)-1))
	})
	out = append(out,
		look.Moves("check", &row, len(rows), 10, func(string) { s.at = rows[row].name() }), sideways)
	if here.folded {
		return append(out, look.Let("enter space", "show its checks", func() {
			s.spread[here.family] = true
			s.at = here.checks[0].Name
		}))
	}
	out = append(out, look.Act("enter", "open evidence", func() tea.Cmd { return s.enter(here.checks[0]) }))
	if s.sound(s.of(here.family)) {
		out = append(out, look.Let("space", "fold the family", func() {
			delete(s.spread, here.family)
			s.at = here.family
		}))
	}
	return out
}

func (s *Screen) enter(c *core.Check) tea.Cmd {
	r := s.byKey[key(c, versions[s.col])]
	if r == nil {
		return look.Tell(false, c.Name+" has not run yet: r runs all checks, o only this one")
	}
	s.open = newEvidence(*r)
	return nil
}

// row is a line of the board that the cursor can be on: a check, or a family of which nothing is broken, folded.
type row struct {
	family string
	checks []*core.Check
	folded bool
}

// name is what the cursor keeps of it.
func (r row) name() string {
	if r.folded {
		return r.family
	}
	return r.checks[0].Name
}

// of returns the checks of a family.
func (s *Screen) of(family string) (out []*core.Check) {
	for _, c := range s.checks {
		if c.Family() == family {
			out = append(out, c)
		}
	}
	return out
}

// sound tells whether all checks have run, and none is broken or undecided.
func (s *Screen) sound(checks []*core.Check) bool {
	for _, c := range checks {
		for _, v := range versions {
			r := s.byKey[key(c, v)]
			if r == nil || s.state.Now[key(c, v)] || r.Verdict == core.Broken || r.Verdict == core.Undecided {
				return false
			}
		}
	}
	return true
}

// rows are the lines that the cursor can be on. Families that are sound fold to a line.
func (s *Screen) rows() (out []row) {
	last := ""
	for _, c := range s.checks {
		family := c.Family()
		if family == last {
			continue
		}
		last = family
		all := s.of(family)
		if s.sound(all) && !s.spread[family] {
			out = append(out, row{family, all, true})
			continue
		}
		for _, c := range all {
			out = append(out, row{family, []*core.Check{c}, false})
		}
	}
	return out
}

// index is where the cursor is among the lines: at its check, or at the family in which that is folded.
func (s *Screen) index(rows []row) int {
	for i, r := range rows {
		if r.name() == s.at || !r.folded && r.family == s.at {
			return i
		}
		for _, c := range r.checks {
			if c.Name == s.at {
				return i
			}
		}
	}
	return 0
}

func (s *Screen) run(checks []*core.Check) tea.Cmd {
	if len(s.ways) == 0 {
		return look.Tell(true, "the workspace has no usable broker to put to the proof")
	}
	if err := s.bench.StartProof(s.ways[s.way], core.Options{Checks: checks}); err != nil {
		return look.Tell(true, err.Error())
	}
	s.refresh()
	return nil
}

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.open != nil {
		s.open.draw(c)
		return
	}
	s.drawHead(c)
	wide := c.W >= 118
	boardWidth := c.W
	if wide {
		boardWidth = c.W - 40
		s.drawGrids(c.Sub(boardWidth+2, 2, 38, c.H-7))
	}
	s.drawBoard(c.Sub(0, 2, boardWidth, c.H-7))
	s.drawFoot(c.Sub(0, c.H-5, c.W, 5))
}

func (s *Screen) drawHead(c look.Canvas) {
	t := c.Theme
	if len(s.ways) == 0 {
		c.Text(1, 0, "the workspace has no usable broker", t.Broken)
		return
	}
	x := c.Text(1, 0, "next run on ", t.Dim)
	if s.state.Running {
		x = c.Text(1, 0, "running on ", t.Dim)
	}
	x = c.Text(x, 0, s.ways[s.way]+"  ", t.Strong)
	switch {
	case s.state.Running && s.state.Doing != "":
		c.Text(x, 0, look.Clip("◌ "+s.state.Doing, c.W-x), t.Warn)
	case s.state.Running:
		done := float64(len(s.state.Results)) / float64(max(1, s.state.Total))
		x = c.Text(x, 0, fmt.Sprintf("%d of %d  ", len(s.state.Results), s.state.Total), t.Warn)
		bar := int(done * 24)
		x = c.Text(x, 0, strings.Repeat("█", bar), t.Ours)
		c.Text(x, 0, strings.Repeat("░", 24-bar), t.Line)
	case s.state.Err != nil:
		c.Text(x, 0, look.Clip("✗ "+s.state.Err.Error(), c.W-x), t.Broken)
	case s.state.Started.IsZero():
		c.Text(x, 0, look.Clip("nothing has been proven yet: r runs all checks", c.W-x), t.Warn)
	default:
		if s.state.Stale {
			x = c.Text(x, 0, "! stale, its settings were edited since: r proves anew  ", t.Warn)
		}
		x = c.Text(x, 0, report.SummaryLine(counts(s.state.Results))+"  ", t.Text)
		c.Text(
			x,
			0,
			look.Clip(
				fmt.Sprintf(
					"on %s at %s, %.1f s",
					s.state.Target.Listener,
					s.state.Started.Format("15:04:05"),
					s.state.Took.Seconds(),
				),
				c.W-x,
			),
			t.Dim,
		)
	}
}

func (s *Screen) drawBoard(c look.Canvas) {
	t := c.Theme
	rows := s.rows()
	here := s.index(rows)
	// A heading stands before the first line of a family that is not folded; -1 marks it.
	var lines []int
	at := 0
	for i, r := range rows {
		if !r.folded && (i == 0 || rows[i-1].family != r.family) {
			lines = append(lines, -1-i)
		}
		if i == here {
			at = len(lines)
		}
		lines = append(lines, i)
	}
	// Where there is no room for the words, the signs stand alone, and the foot says the word.
	width, words := 14, true
	if c.W < 84 {
		width, words = 7, false
	}
	verdictAt := c.W - len(versions)*width
	c.Rule(0, "checks", t.Strong)
	for i, v := range versions {
		c.Text(verdictAt+width*i, 0, " "+v.String()+" ", t.Dim)
	}
	c = c.Sub(0, 1, c.W, c.H-1)
	s.first = look.Scroll(s.first, at, c.H, len(lines))
	if at <= 1 {
		s.first = 0
	}
	for y := 0; y < c.H && s.first+y < len(lines); y++ {
		l := lines[s.first+y]
		if l < 0 {
			c.Rule(y, rows[-1-l].family, t.Strong)
			continue
		}
		r := rows[l]
		name, title, st := r.checks[0].Name, r.checks[0].Title, t.Text
		if r.folded {
			name, title, st = r.family, look.Plural(len(r.checks), "check"), t.Strong
		}
		x := c.Text(2, y, look.Clip(name, verdictAt-4), st)
		if x = max(27, x+1); x < verdictAt-4 {
			c.Text(x, y, look.Clip(title, verdictAt-x-1), t.Dim)
		}
		for i, v := range versions {
			text, st := s.cell(r, v, t, words)
			c.Text(verdictAt+width*i+1, y, look.Clip(text, width-1), st)
		}
		if l == here {
			c.Paint(0, y, verdictAt, look.Style{Bg: t.Rail.Bg})
			c.Text(0, y, "▸", t.Ours)
			c.Paint(verdictAt+width*s.col, y, width-1, t.Select)
		}
	}
	if below := len(lines) - s.first - c.H; below > 0 {
		text := fmt.Sprintf(" ↓ %d more", below)
		c.Text(27, c.H-1, fmt.Sprintf("%-*s", max(0, verdictAt-27), text), t.Ours)
	}
}

// cell is what stands in a column: a verdict, or how many there are of each in a family that is folded.
func (s *Screen) cell(r row, v packet.Version, t *look.Theme, words bool) (string, look.Style) {
	if !r.folded {
		text, st := s.verdict(r.checks[0], v, t)
		if !words {
			text, _, _ = strings.Cut(text, " ")
		}
		return text, st
	}
	n := map[core.Verdict]int{}
	for _, c := range r.checks {
		n[s.byKey[key(c, v)].Verdict]++
	}
	st := t.Kept
	if s.state.Stale {
		st = t.Old
	}
	text := fmt.Sprintf("%s %d", report.Sign(core.Kept), n[core.Kept])
	if n[core.Kept] == 0 {
		text, st = report.Sign(core.Skipped), t.Old
	} else if words {
		text += " kept"
	}
	if k := n[core.Unsupported]; k > 0 {
		space := map[bool]string{true: " "}[words]
		text, st = fmt.Sprintf("%s%s%d %s%s%d", report.Sign(core.Kept), space, n[core.Kept], report.Sign(core.Unsupported), space, k), t.Warn
	}
	return text, st
}

func (s *Screen) verdict(ch *core.Check, v packet.Version, t *look.Theme) (string, look.Style) {
	if s.state.Now[key(ch, v)] {
		return "… running", t.Ours
	}
	r := s.byKey[key(ch, v)]
	if r == nil {
		return "· not run", t.Old
	}
	if s.state.Stale {
		return report.Sign(r.Verdict) + " " + string(r.Verdict), t.Old
	}
	return report.Sign(r.Verdict) + " " + string(r.Verdict), verdictStyle(t, r.Verdict)
}

func verdictStyle(t *look.Theme, v core.Verdict) look.Style {
	switch v {
	case core.Kept:
		return t.Kept
	case core.Broken:
		return t.Broken
	case core.Unsupported, core.Undecided:
		return t.Warn
	}
	return t.Old
}

// drawGrids draws the tables that checks show, for each version that there is room for.
func (s *Screen) drawGrids(c look.Canvas) {
	t := c.Theme
	y, note := 0, ""
	var last string
	for _, v := range versions {
		for _, ch := range s.checks {
			r := s.byKey[key(ch, v)]
			if r == nil {
				continue
			}
			for i := range r.Tables {
				table := &r.Tables[i]
				if c.H-y < len(table.Rows)+4 {
					continue
				}
				if table.Title != last {
					c.Rule(y, table.Title, t.Strong)
					last = table.Title
					y++
				}
				y = drawTable(c, y, v, table) + 1
				note = table.Note
			}
		}
	}
	if last == "" {
		c.Rule(0, "tables", t.Strong)
		y++
		note = "What checks find out pair by pair, such as QoS published and subscribed, stands here once they ran."
	}
	for _, l := range look.Wrap(note, c.W-2) {
		c.Text(1, y, l, t.Old)
		y++
	}
	s.drawDoors(c.Sub(0, y+1, c.W, max(0, c.H-y-1)))
}

// drawTable draws a table, and returns the row behind it.
func drawTable(c look.Canvas, y int, v packet.Version, table *core.Table) int {
	t := c.Theme
	const first = 14
	width := max(6, (c.W-first)/max(1, len(table.Columns)))
	c.Text(1, y, "MQTT "+v.String(), t.Ours)
	c.Text(first, y, table.Across, t.Dim)
	for i, name := range table.Columns {
		c.Text(first+i*width, y+1, look.Clip(name, width-1), t.Dim)
	}
	c.Text(1, y+1, table.Down, t.Dim)
	for r, name := range table.Rows {
		c.Text(1, y+2+r, look.Clip(name, first-2), t.Dim)
		for k, cell := range table.Cells[r] {
			text, st := "·", t.Old
			if cell.Verdict != "" {
				text, st = report.Sign(cell.Verdict), verdictStyle(t, cell.Verdict)
				if cell.Text != text {
					text += " " + cell.Text
				}
			}
			c.Text(first+k*width, y+2+r, look.Clip(text, width-1), st)
		}
	}
	return y + 2 + len(table.Rows)
}

// drawDoors lists what is left open at the broker that is put to the proof.
func (s *Screen) drawDoors(c look.Canvas) {
	t := c.Theme
	if c.H < 3 || len(s.ways) == 0 {
		return
	}
	broker, _, _ := strings.Cut(s.ways[s.way], "/")
	c.Rule(0, "doors left open at "+broker, t.Strong)
	doors, known := s.bench.Doors(broker)
	y := 1
	put := func(text string, st look.Style) {
		for _, l := range look.Wrap(text, c.W-2) {
			c.Text(1, y, l, st)
			y++
		}
	}
	switch {
	case !known:
		put("not looked for: on the reach screen (1), r tries the ways in", t.Old)
	case len(doors) == 0:
		put("none was found", t.Kept)
	}
	for _, d := range doors {
		if d.Accepted != "" {
			put("· "+d.What+", accepted: "+d.Accepted, t.Old)
		} else {
			put("! "+d.What, t.Warn)
		}
	}
}

// drawFoot tells about the check with the cursor.
func (s *Screen) drawFoot(c look.Canvas) {
	t := c.Theme
	rows := s.rows()
	here, v := rows[s.index(rows)], versions[s.col]
	if here.folded {
		s.drawFamily(c, here, v)
		return
	}
	ch := here.checks[0]
	c.Rule(0, ch.Name+" in MQTT "+v.String(), t.Ours)
	r := s.byKey[key(ch, v)]
	expected, seen, st := ch.Expected, "not run yet", t.Old
	if r != nil {
		expected, seen, st = r.Expected, report.Sign(
			r.Verdict,
		)+" "+string(
			r.Verdict,
		)+": "+r.Seen, verdictStyle(
			t,
			r.Verdict,
		)
	}
	pair := func(y int, k, text string, st look.Style) {
		c.Text(1, y, k, t.Dim)
		c.Text(11, y, look.Clip(text, c.W-12), st)
	}
	pair(1, "expected", expected, t.Text)
	pair(2, "seen", seen, st)
	standard := report.Standard(&core.Result{Check: ch, Version: v})
	if standard == "" {
		standard = "nothing in this version"
	}
	if ch.Intrusive {
		standard += "   intrusive: it fails logins or throws clients out on purpose"
	}
	pair(3, "standard", standard, t.Dim)
	if r != nil && len(r.Notes) > 0 {
		pair(4, "note", strings.Join(r.Notes, "; "), t.Warn)
	} else if r != nil {
		pair(4, "took", look.Duration(r.Took.Round(time.Microsecond)), t.Dim)
	}
}

// drawFamily tells about a family that is folded.
func (s *Screen) drawFamily(c look.Canvas, r row, v packet.Version) {
	t := c.Theme
	c.Rule(0, r.family+" in MQTT "+v.String(), t.Ours)
	by := map[core.Verdict][]string{}
	for _, ch := range r.checks {
		verdict := s.byKey[key(ch, v)].Verdict
		by[verdict] = append(by[verdict], ch.Name)
	}
	y := 1
	for _, verdict := range []core.Verdict{core.Unsupported, core.Kept, core.Skipped} { // the odd ones first
		names := by[verdict]
		if len(names) == 0 {
			continue
		}
		st := verdictStyle(t, verdict)
		c.Text(1, y, report.Sign(verdict)+" "+string(verdict), st)
		lines := look.Wrap(strings.Join(names, "  "), c.W-16)
		for i, l := range lines {
			if y >= c.H {
				return
			}
			if y == c.H-1 && i < len(lines)-1 {
				l = look.Clip(l+" …", c.W-16)
			}
			c.Text(15, y, l, t.Text)
			y++
		}
	}
}
