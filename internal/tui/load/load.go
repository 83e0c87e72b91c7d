// Package load is the screen of the loads: the ramp as it climbs, with rates, round trips and losses over time, the steps, and who
// gave way.
package load

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/fleet"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// Screen is the load screen.
type Screen struct {
	bench *workbench.Bench
	state workbench.LoadState
	at    int // of the loads
	shown int // of the results, counted from the latest; -1 for the list of loads
	other int // the result that is laid under it, counted like shown; -1 for none
	input *look.Input
	first int // how far the steps, and then the words below them, are scrolled
	below int // how many steps and words of a result have no room
}

// New returns the screen.
func New(b *workbench.Bench) *Screen { return &Screen{bench: b, shown: -1, other: -1} }

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "load" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.input != nil }

// Update takes in a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		before := len(s.state.Results)
		if s.state = s.bench.LoadState(); len(s.state.Results) > before {
			s.shown, s.first = 0, 0 // what has just ended is shown
		}
	case tea.PasteMsg:
		if s.input != nil {
			s.input.Update(msg)
		}
	case tea.KeyPressMsg:
		cmd, done := look.Press(s.Actions(), msg)
		if !done && s.input != nil {
			s.input.Update(msg)
		}
		return cmd
	}
	return nil
}

// quick is a load that needs no word in the workspace: a look at how the broker bears a hundred clients.
func quick() *workspace.Load {
	x := workspace.NewLoad("a quick look")
	x.Clients = []workspace.LoadClients{{Kind: "plain", Count: 100}}
	x.RampFrom, x.RampTo, x.RampBy, x.Hold = 20, 100, 20, 5*time.Second
	x.Rate = 500
	x.Bound, _ = fleet.ParseBound("p99<100ms,lost=0")
	return x
}

// loads are those of the workspace, and the quick look.
func (s *Screen) loads() []*workspace.Load {
	return append(slices.Clone(s.bench.Workspace().Loads), quick())
}

func (s *Screen) running() bool { return s.state.Name != "" }

// result is the one that is shown; nil for none.
func (s *Screen) result(back int) *fleet.Result {
	if i := len(s.state.Results) - 1 - back; back >= 0 && i >= 0 {
		return s.state.Results[i]
	}
	return nil
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	switch {
	case s.input != nil:
		return []look.Action{
			look.Act("enter", "write it", s.export),
			look.Let("esc", "leave it", func() { s.input = nil }),
		}
	case s.running():
		word := "hold here"
		if s.state.State.Held {
			word = "go on"
		}
		return []look.Action{
			look.Let("space", word, s.bench.HoldLoad),
			look.Act("s", "stop", func() tea.Cmd {
				s.bench.StopLoad()
				return look.Tell(false, "stopping: what was measured until now is kept")
			}),
		}
	case s.result(s.shown) != nil:
		out := []look.Action{
			look.Let("esc backspace", "the loads", func() { s.shown, s.other = -1, -1 }),
			look.Act("enter", "once more", func() tea.Cmd { return s.again(s.result(s.shown).Name) }),
			look.Moves("scroll", &s.first, s.below+1, 10, nil),
			look.Let("x", "export", s.ask),
		}
		if len(s.state.Results) > 1 {
			out = append(out,
				look.Let("p", "the run before", func() { s.shown, s.other = (s.shown+1)%len(s.state.Results), -1 }),
				look.Let("d", "lay another run under it", s.under))
		}
		return out
	}
	out := []look.Action{
		look.Moves("choose", &s.at, len(s.loads()), 10, nil),
		look.Act("enter", "begin", func() tea.Cmd { return s.start(s.loads()[min(s.at, len(s.loads())-1)]) }),
	}
	if len(s.state.Results) > 0 {
		out = append(out, look.Let("r", "the last result", func() { s.shown = 0 }))
	}
	return out
}

// under lays the next of the other runs under the one that is shown, or none after the last.
func (s *Screen) under() {
	for s.other++; s.other == s.shown; {
		s.other++
	}
	if s.other >= len(s.state.Results) {
		s.other = -1
	}
}

func (s *Screen) start(x *workspace.Load) tea.Cmd {
	if err := s.bench.StartLoad(x); err != nil {
		return look.Tell(true, err.Error())
	}
	s.shown, s.other, s.first = -1, -1, 0
	return nil
}

func (s *Screen) again(name string) tea.Cmd {
	for _, x := range s.loads() {
		if x.Name == name {
			return s.start(x)
		}
	}
	return look.Tell(true, name+" is no longer in the workspace")
}

func (s *Screen) ask() {
	s.input = look.NewInput(
		"export to (.svg, .pdf, .csv or .json)",
		"load-"+time.Now().Format("20060102-150405")+".svg",
	)
}

// export writes what is shown.
func (s *Screen) export() tea.Cmd {
	name, r := s.input.Value(), s.result(s.shown)
	if r == nil {
		s.input = nil
		return nil
	}
	var err error
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv", ".json":
		err = s.bench.ExportLoad(name, r)
	default:
		d, drawing := report.LoadDrawing(s.bench.Workspace().Name, r, s.result(s.other))
		if err = drawing; err == nil {
			err = s.bench.Export(name, d)
		}
	}
	if err != nil {
		s.input.Error = err.Error()
		return nil
	}
	s.input = nil
	return look.Tell(false, "written: "+name)
}

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	if s.running() {
		st := &s.state.State
		step := fmt.Sprintf("◌ step %d", st.Step+1)
		if st.Held {
			step = "‖ held, step " + fmt.Sprint(st.Step+1)
		}
		rate := "connecting"
		if n := len(st.Result.Seconds); n > 0 {
			rate = report.LoadRate(float64(st.Result.Seconds[n-1].Heard)) + "/s"
		}
		return []look.RailLine{
			{Text: step, Style: t.Ours},
			{Text: fmt.Sprintf("%d in", st.Under.In), Style: t.Dim},
			{Text: rate, Style: t.Dim},
		}
	}
	r := s.result(0)
	switch {
	case r == nil:
		return []look.RailLine{{Text: "idle", Style: t.Old}}
	case !r.Holds():
		return []look.RailLine{{Text: "✗ bound broken", Style: t.Broken}, {Text: limitWord(r), Style: t.Dim}}
	case r.Stopped:
		return []look.RailLine{{Text: "! stopped", Style: t.Warn}}
	case r.Bound == "":
		return []look.RailLine{{Text: report.LoadRate(r.Total.Reached) + "/s reached", Style: t.Dim}}
	}
	return []look.RailLine{
		{Text: "✓ bound held", Style: t.Kept},
		{Text: report.LoadRate(r.Total.Reached) + "/s", Style: t.Dim},
	}
}

func limitWord(r *fleet.Result) string {
	switch r.Limit {
	case fleet.Broker:
		return "by the broker"
	case fleet.Generator:
		return "by ourselves"
	}
	return "limit unknown"
}

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.input != nil {
		s.input.Draw(c.Sub(1, c.H-4, c.W-2, 4), 0)
		c = c.Sub(0, 0, c.W, c.H-4)
	}
	switch {
	case s.running():
		s.viewRunning(c)
	case s.result(s.shown) != nil:
		s.viewResult(c, s.result(s.shown), s.result(s.other))
	default:
		s.viewList(c)
	}
}

// viewList lists the loads, with what each asks for.
func (s *Screen) viewList(c look.Canvas) {
	t := c.Theme
	all := s.loads()
	c.Rule(0, "load: how many, how fast, until what breaks", t.Strong)
	y, left := 2, 28
	if c.W < 90 {
		left = 20
	}
	for i, x := range all {
		lines := describe(x)
		if y+len(lines) > c.H-6 {
			break
		}
		c.Text(2, y, look.Clip(x.Name, left-3), t.Text)
		for k, l := range lines {
			c.Text(left, y+k, look.Clip(l, c.W-left-1), t.Dim)
		}
		if i == s.at {
			for k := range lines {
				c.Paint(0, y+k, c.W, t.Select)
			}
			c.Text(0, y, "▸", t.Select)
		}
		y += len(lines) + 1
	}
	y++
	for _, l := range look.Wrap("enter begins a load: clients come in by steps, and publish at the rate that is asked for; what is lost, late or refused is counted, and at the end stands whether the broker gave way or this program. Loads stand in the workspace under loads:, with a bound that has to hold.", min(c.W-4, 100)) {
		if y < c.H {
			c.Text(2, y, l, t.Dim)
			y++
		}
	}
	if s.state.Err != nil {
		for _, l := range look.Wrap("✗ "+s.state.Err.Error(), c.W-4) {
			if y++; y < c.H {
				c.Text(2, y, l, t.Broken)
			}
		}
	}
}

// describe says in lines what a load asks for.
func describe(x *workspace.Load) []string {
	var clients []string
	for _, k := range x.Clients {
		clients = append(clients, fmt.Sprintf("%d %s", k.Count, k.Kind))
	}
	what := "messages of its own"
	if x.Clause != "" {
		what = x.Clause
	}
	pace := "every " + x.Every.String()
	if x.Rate > 0 {
		pace = report.LoadRate(x.Rate) + " a second in all"
	}
	out := []string{fmt.Sprintf("%s, %s: %s, %s", strings.Join(clients, ", "), x.Shape, what, pace)}
	if x.RampBy > 0 {
		out = append(
			out,
			fmt.Sprintf(
				"%s from %.0f to %.0f by %.0f, each held for %s",
				x.RampOf,
				x.RampFrom,
				x.RampTo,
				x.RampBy,
				x.Hold,
			),
		)
	} else {
		out = append(out, "held for "+x.Hold.String())
	}
	if len(x.Bound) > 0 {
		out = append(out, "has to hold: "+x.Bound.String())
	}
	return out
}

func (s *Screen) viewRunning(c look.Canvas) {
	t, st := c.Theme, &s.state.State
	title := fmt.Sprintf("%s on %s", s.state.Name, s.state.Target)
	c.Rule(0, title, t.Strong)
	left := ""
	if st.Left > 0 && st.Result.Found == nil {
		left = ", about " + st.Left.Round(time.Second).String() + " left from this step on"
		if look.Width(st.Doing)+look.Width(left)+6 > c.W {
			left = ", " + st.Left.Round(time.Second).String() + " left"
		}
	}
	doing, sty := "◌ "+st.Doing+left, t.Ours
	if st.Held {
		doing, sty = "‖ held: "+st.Doing, t.Warn
	}
	if look.Width(doing) > c.W-4 { // the end is what changes
		doing = look.Clip(strings.TrimSuffix(doing, left), c.W-4-look.Width(left)) + left
	}
	c.Text(2, 1, look.Clip(doing, c.W-4), sty)
	r := st.Result
	u := st.Under
	head := fmt.Sprintf(
		"sent %d   received %d   missing %d   twice %d",
		u.Sent,
		u.Received,
		missing(&r),
		u.Duplicated,
	)
	if s.state.Judged > 0 {
		head += fmt.Sprintf("   judged %d, %d breaches", s.state.Judged, s.state.Broken)
	}
	c.Text(2, 2, look.Clip(head, c.W-4), t.Dim)
	y := s.panels(c.Sub(0, 4, c.W, c.H-4), &r, nil)
	s.steps(c.Sub(0, 4+y, c.W, c.H-4-y), &r, &u)
}

// missing is what had not been heard, or was lost, at the end of the last second.
func missing(r *fleet.Result) int64 {
	if n := len(r.Seconds); n > 0 {
		return r.Seconds[n-1].Missing
	}
	return 0
}

// viewResult draws what a load came to.
func (s *Screen) viewResult(c look.Canvas, r, other *fleet.Result) {
	t := c.Theme
	sign, sty := "✓ ", t.Kept
	verdict := "the bound held: " + r.Bound
	switch {
	case !r.Holds():
		sign, sty, verdict = "✗ ", t.Broken, "the bound did not hold: "+r.Bound
	case r.Stopped:
		sign, sty, verdict = "! ", t.Warn, "stopped before its end"
	case r.Found != nil:
		verdict = fmt.Sprintf(
			"%s holds up to %s %s",
			r.Bound,
			report.LoadRate(r.Found.Highest),
			map[string]string{"rate": "a second", "clients": "clients"}[r.Found.What],
		)
	case r.Bound == "":
		sign, sty, verdict = "", t.Text, "no bound was given"
	}
	c.Rule(0, fmt.Sprintf("%s on %s, %s", r.Name, r.Target, r.Started.Format("15:04:05")), t.Strong)
	end := c.Text(2, 1, look.Clip(sign+verdict, c.W-4), sty)
	limit := string(r.Limit)
	switch r.Limit {
	case fleet.Neither:
		limit = "neither broker nor generator was at its end"
	case fleet.Unclear:
		limit = "limit not known"
	}
	switch fits := look.Width(limit) <= c.W-end-4; {
	case fits || other != nil:
		c.Text(end+3, 1, look.Clip(limit, max(0, c.W-end-4)), t.Text)
	default:
		c.Text(2, 2, look.Clip(limit, c.W-4), t.Text)
	}
	if other != nil {
		c.Text(2, 2, look.Clip("grey: the run of "+other.Started.Format("15:04:05")+", "+other.Name, c.W-4), t.Old)
	}
	y := 3 + s.panels(c.Sub(0, 3, c.W, c.H-3), r, other)
	over := y
	y += s.steps(c.Sub(0, y, c.W, c.H-y), r, nil)
	var lines []string
	for _, l := range report.LoadSummary(r)[1:] {
		word := l[:min(len(l), report.LoadIndent)] // which stands in ASCII
		for _, part := range look.Wrap(l[len(word):], c.W-4-report.LoadIndent) {
			lines = append(lines, word+part)
			word = strings.Repeat(" ", report.LoadIndent)
		}
	}
	unseen := max(0, len(r.Steps)-stepRows(c.H-over, len(r.Steps))) // steps come first
	room := max(0, c.H-y)
	hidden := max(0, len(lines)-room)
	s.below = unseen + hidden
	s.first = max(0, min(s.first, s.below))
	lines = lines[min(len(lines), max(0, s.first-unseen)):]
	for i, l := range lines[:min(room, len(lines))] {
		c.Text(2, y+i, l, t.Dim)
	}
	if more := len(lines) - room; more > 0 && room > 0 {
		c.Right(c.W-1, c.H-1, fmt.Sprintf(" ↓ %s ", look.Plural(more+1, "line")), t.Ours)
	}
}

// steps draws the table of steps, the one under way last, and returns how many rows it took.
func (s *Screen) steps(c look.Canvas, r *fleet.Result, under *fleet.StepResult) int {
	t := c.Theme
	wide, narrow := c.W >= 118, c.W < 90
	head := fmt.Sprintf(
		"%4s %7s %7s %9s %9s %8s %9s %9s",
		"step",
		"clients",
		"in",
		"asked/s",
		"reached/s",
		"lost",
		"p50",
		"p99",
	)
	switch {
	case narrow:
		head = fmt.Sprintf("%4s %6s %8s %6s %9s", "step", "in", "per s", "lost", "p99")
	case wide:
		head += fmt.Sprintf(" %9s %9s %7s", "p99.9", "longest", "cores")
	}
	c.Text(1, 0, look.Clip(head+"  verdict", c.W-2), t.Dim)
	all := slices.Clone(r.Steps)
	if under != nil && !under.At.IsZero() {
		all = append(all, *under)
	}
	rows := stepRows(c.H, len(all))
	first := min(s.first, len(all)-rows)
	if under != nil { // the latest is what matters
		first = len(all) - rows
	}
	first = max(0, first)
	for i := 0; i < rows && first+i < len(all); i++ {
		k := first + i
		x := &all[k]
		reached, lost, cores := report.LoadRate(x.Reached), strconv.FormatInt(x.Lost, 10), fmt.Sprintf("%.2f", x.Strain.CPU)
		if k >= len(r.Steps) { // known when it is over
			reached, lost, cores = "·", "·", "·"
		}
		p99 := report.LoadMoment(x.Trip.P99)
		line := fmt.Sprintf("%4d %7d %7d %9s %9s %8s %9s %9s", k+1, x.Clients, x.In, report.LoadRate(x.Asked), reached, lost,
			report.LoadMoment(x.Trip.P50), p99)
		switch {
		case narrow:
			line = fmt.Sprintf("%4d %6d %8s %6s %9s", k+1, x.In, reached, lost, p99)
		case wide:
			line += fmt.Sprintf(" %9s %9s %7s", report.LoadMoment(x.Trip.P999), report.LoadMoment(x.Trip.Max), cores)
		}
		verdict, st := "✓ held", t.Kept
		switch {
		case k >= len(r.Steps):
			verdict, st = "◌ under way", t.Ours
		case x.Cut:
			verdict, st = "! stopped", t.Warn
		case len(x.Broken) > 0:
			verdict, st = "✗ "+strings.Join(x.Broken, "; "), t.Broken
		case x.Lost > 0 || x.Refused > 0:
			verdict, st = fmt.Sprintf("! %d lost, %d refused", x.Lost, x.Refused), t.Warn
		case r.Bound == "":
			verdict, st = "no bound", t.Dim
		}
		end := c.Text(1, 1+i, look.Clip(line, c.W-2), t.Text)
		c.Text(end+2, 1+i, look.Clip(verdict, max(0, c.W-end-3)), st)
	}
	return rows + 2
}
