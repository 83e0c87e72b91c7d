// Package proof is the screen of the verdicts: a board of checks by family and version,
// the tables that checks show, and, for a check opened, its steps and the sequence of its
// evidence.
package proof

import (
	"errors"
	"fmt"
	"slices"
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

// narrow is the width, in columns, below which the grids have no place beside the board, and the head takes two lines.
const narrow = 118

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
	trials workbench.TrialsState
	trial  *opened

	explored workbench.ExploreState
	compared *comparing // nil where none is shown
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
	s.state, s.trials, s.explored = s.bench.Proof(), s.bench.Trials(), s.bench.Explored()
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
	tried := s.trialRail(t)
	if s.state.Started.IsZero() {
		if tried != nil {
			return tried
		}
		return []look.RailLine{{Text: "not run", Style: t.Old}}
	}
	const most = 3 // lines there are for a screen
	lines := s.proofRail(t)
	return append(lines[:min(len(lines), most-len(tried))], tried...)
}

// proofRail is how the checks stand.
func (s *Screen) proofRail(t *look.Theme) []look.RailLine {
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
			look.RailLine{Text: fmt.Sprintf("runs %d/%d", len(s.state.Results), s.state.Total), Style: t.Warn},
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
		was := s.state.Running || s.trials.Running
		s.refresh()
		if s.compared != nil && was && !s.state.Running && !s.trials.Running {
			return s.readKept()
		}
	case keptRead, proofRead:
		return s.took(msg)
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
	if s.compared != nil {
		return s.compared.actions(s)
	}
	if s.trial != nil {
		return s.trial.actions(s)
	}
	rows := s.rows()
	row := s.index(rows)
	here := rows[row]
	moves := look.Moves("check", &row, len(rows), 10, func(string) { s.at = rows[row].name() })
	if here.explored && s.trials.Question == nil {
		var out []look.Action
		if here.found != nil {
			out = append(out, look.Let("enter", "open evidence", func() { s.open = newEvidence(*here.found) }))
		}
		return append(out, s.exploreAction(), moves)
	}
	if here.trial != nil || s.trials.Question != nil {
		out := s.trialActions()
		if here.trial != nil {
			out = append(out, s.rowActions(here.trial)...)
		}
		out = append(out, moves)
		if !s.trials.Running && !s.state.Running {
			out = append(out, look.Act("r", "run all checks", func() tea.Cmd { return s.run(nil) }))
		}
		return out
	}
	var out []look.Action
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
		if len(s.bench.Workspace().Contract.Clauses) > 0 {
			out = append(out, look.Act("c", "try the contract's own topics", func() tea.Cmd {
				all := s.of("contract")
				s.at = all[len(all)-1].Name // the whole family is seen
				return s.start(core.Options{Checks: all, OnTopics: true})
			}))
		}
		out = append(out, s.exploreAction())
		if n := len(s.ways); n > 1 {
			out = append(out, look.Let("b", "other listener", func() { s.way = (s.way + 1) % n }),
				look.Act("w", "run on every listener", func() tea.Cmd { return s.start(core.Options{}, s.ways...) }))
		}
	}
	out = append(out, look.Act("d", "what differs between proofs", s.compare))
	sideways := look.Keys("←→", "version", []string{"left", "h", "right", "l"}, func(k string) {
		by := 1
		if k == "left" || k == "h" {
			by = -1
		}
		s.col = max(0, min(s.col+by, len(versions)-1))
	})
	out = append(out, moves, sideways)
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
	trial  *workbench.TrialState // nil for checks
	// explored tells the line of an exploration, and found is what it found; nil for the exploration itself.
	explored bool
	found    *core.Result
}

// name is what the cursor keeps of it.
func (r row) name() string {
	switch {
	case r.trial != nil:
		return "trial " + r.trial.Name
	case r.found != nil:
		return exploringName + r.found.Check.Name + r.found.In()
	case r.explored:
		return exploringName
	}
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
	for i := range s.trials.Rounds {
		out = append(out, row{family: "trials", trial: &s.trials.Rounds[i]})
	}
	out = append(out, s.exploredRows()...)
	last := ""
	for _, c := range s.checks {
		family := c.Family()
		if family == last {
			continue
		}
		last = family
		all := s.of(family)
		if s.sound(all) && !s.spread[family] {
			out = append(out, row{family: family, checks: all, folded: true})
			continue
		}
		for _, c := range all {
			out = append(out, row{family: family, checks: []*core.Check{c}})
		}
	}
	return out
}

// index is where the cursor is among the lines: at its check, or at the family in which that is folded.
func (s *Screen) index(rows []row) int {
	for i, r := range rows {
		if s.at == "" && r.trial == nil && !r.explored { // the cursor begins at the checks
			return i
		}
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

func (s *Screen) run(checks []*core.Check) tea.Cmd { return s.start(core.Options{Checks: checks}) }

// start runs checks on some ways, or on the one that is chosen.
func (s *Screen) start(o core.Options, ways ...string) tea.Cmd {
	if len(s.ways) == 0 {
		return look.Tell(true, "the workspace has no usable broker to put to the proof")
	}
	if ways == nil {
		ways = s.ways[s.way : s.way+1]
	}
	if err := s.bench.StartProof(o, slices.Clone(ways)...); err != nil {
		return look.Tell(true, err.Error())
	}
	s.refresh()
	return nil
}

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	switch {
	case s.open != nil:
		s.open.draw(c)
		return
	case s.compared != nil:
		s.compared.draw(c)
		return
	case s.trial != nil:
		s.trial.draw(s, c)
		return
	}
	s.drawHead(c)
	wide := c.W >= narrow
	boardWidth := c.W
	if wide {
		boardWidth = c.W - 40
		s.drawGrids(c.Sub(boardWidth+2, 2, 38, c.H-7))
	}
	s.drawBoard(c.Sub(0, 2, boardWidth, c.H-7))
	s.drawFoot(c.Sub(0, c.H-5, c.W, 5))
}

// drawChanges says in the head what differs from the proof before.
func (s *Screen) drawChanges(c look.Canvas, x int) int {
	t := c.Theme
	if s.state.NotKept != nil {
		x = c.Text(x, 0, "! not kept  ", t.Warn)
	}
	d := s.state.Changes
	if d == nil {
		return x
	}
	worse, better := d.Count(report.Worse), d.Count(report.Better)
	if worse > 0 {
		x = c.Text(x, 0, fmt.Sprintf("↓ %d worse  ", worse), t.Broken)
	}
	if better > 0 {
		x = c.Text(x, 0, fmt.Sprintf("↑ %d better  ", better), t.Kept)
	}
	if worse+better == 0 {
		x = c.Text(x, 0, "as before  ", t.Dim)
	}
	return x
}

// course is which way a verdict went since the proof before; "" where it is the same.
func (s *Screen) course(c *core.Check, v packet.Version) *report.Change {
	if s.state.Changes == nil {
		return nil
	}
	for i := range s.state.Changes.Changes {
		if x := &s.state.Changes.Changes[i]; x.Name == c.Name && x.Version == v.String() {
			return x
		}
	}
	return nil
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
	on := s.ways[s.way]
	if s.state.Running { // another may be chosen by now
		listener, _, _ := strings.Cut(s.state.Target.Listener, " ")
		on = s.state.Target.Broker + "/" + listener
		if n := len(s.state.Left); n > 0 {
			on += fmt.Sprintf(", %d to follow", n)
		}
	}
	x = c.Text(x, 0, on+"  ", t.Strong)
	switch {
	case s.state.Running && s.state.Doing != "":
		c.Text(x, 0, look.Clip("◌ "+s.state.Doing, c.W-x), t.Warn)
	case s.state.Running:
		done := float64(len(s.state.Results)) / float64(max(1, s.state.Total))
		x = c.Text(x, 0, fmt.Sprintf("%d of %d  ", len(s.state.Results), s.state.Total), t.Warn)
		bar := int(done * 24)
		x = c.Text(x, 0, strings.Repeat("█", bar), t.Ours)
		x = c.Text(x, 0, strings.Repeat("░", 24-bar), t.Line)
		c.Text(x+2, 0, s.left(), t.Dim)
	case s.state.Err != nil && len(s.state.Shut)+len(s.state.Series) == 1:
		c.Text(x, 0, look.Clip("✗ "+s.state.Err.Error(), c.W-x), t.Broken)
	case len(s.state.Shut) > 0 && len(s.state.Series) == 0:
		c.Text(x, 0, look.Clip("✗ "+strings.Join(s.state.Shut, "; "), c.W-x), t.Broken)
	case s.state.Started.IsZero() && s.explored.Running:
		c.Text(x, 0, look.Clip("◌ exploring: no checks have been run yet", c.W-x), t.Warn)
	case s.state.Started.IsZero() && s.trials.Running:
		c.Text(x, 0, look.Clip("◌ trials are run: no checks have been run yet", c.W-x), t.Warn)
	case s.state.Started.IsZero():
		c.Text(x, 0, look.Clip("nothing has been proven yet: r runs all checks", c.W-x), t.Warn)
	default:
		if c.W < narrow { // the line below has room for all of it
			c, x = c.Sub(0, 1, c.W, c.H-1), 1
		}
		if s.state.Stale {
			x = c.Text(x, 0, "! stale, its settings were edited since: r proves anew  ", t.Warn)
		}
		x = s.drawChanges(c, x)
		if n := len(s.state.Series); n > 1 {
			x = c.Text(x, 0, fmt.Sprintf("d shows the %d side by side  ", n), t.Ours)
		}
		for _, why := range s.state.Shut {
			way, _, _ := strings.Cut(why, ": ")
			x = c.Text(x, 0, "✗ "+way+" could not be proven  ", t.Broken)
		}
		x = c.Text(x, 0, look.Clip(report.SummaryLine(counts(s.state.Results)), c.W-x), t.Text) + 2
		when, took := s.state.Started.Format("15:04:05"), s.state.Took.Seconds()
		c.Text(x, 0, look.Clip(fmt.Sprintf("on %s at %s, %.1f s", s.state.Target.Listener, when, took), c.W-x), t.Dim)
	}
}

// left says how long the run will take, by the time that as many checks took before.
func (s *Screen) left() string {
	d := s.state.Before - time.Since(s.state.Started)
	switch {
	case s.state.Before == 0:
		return ""
	case d < time.Second:
		return "as good as done"
	}
	return fmt.Sprintf("about %d s left", int(d.Round(time.Second).Seconds()))
}

// drawFoot tells about the check with the cursor.
func (s *Screen) drawFoot(c look.Canvas) {
	t := c.Theme
	rows := s.rows()
	here, v := rows[s.index(rows)], versions[s.col]
	if s.trials.Question != nil {
		s.drawQuestion(c)
		return
	}
	if here.trial != nil {
		s.drawTrialFoot(c, here.trial)
		return
	}
	if here.explored {
		s.drawExploredFoot(c, here)
		return
	}
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
	if x := s.course(ch, v); x != nil && x.Before != "" && x.Course != report.Otherwise {
		pair(4, "before", x.Before+": "+x.SeenBefore, t.Warn)
	} else if r != nil && len(r.Notes) > 0 {
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
