// Package devices is the screen of the simulated devices: how each stands, its signals
// as lines, and its switches.
package devices

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/expression"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// Screen is the devices screen.
type Screen struct {
	bench  *workbench.Bench
	list   []device.State
	rows   []row // what the cursor goes through
	at     int   // of the rows
	first  int   // of the list
	top    int   // of the drawing
	asList bool  // the list is shown in place of the drawing
	ask    *question

	unfolded map[string]bool // kinds that are shown device by device
	counts   map[string]counted
	step     int // of what moves

	inside *inside // a stand-in that is looked into, or nil
	board  *board  // a device that is put to the proof, or nil
}

// question is what the user is asked before a message goes out or a signal is set.
type question struct {
	choices []string // to pick from, or nil
	at      int
	title   string
	input   *look.Input // a line to type, or nil
	done    func(*Screen, string) (next *question, cmd tea.Cmd, err error)
}

// New returns the screen.
func New(b *workbench.Bench) *Screen { return &Screen{bench: b, unfolded: map[string]bool{}} }

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "devices" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.ask != nil || s.board != nil && s.board.leaves != nil }

// refresh takes in how the devices stand.
func (s *Screen) refresh() {
	s.list = s.bench.Devices()
	s.lay(time.Now())
	if s.inside != nil {
		s.inside.look(s.bench)
	}
	if s.board != nil {
		s.board.state = s.bench.Subjected()
	}
}

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	n := map[device.Phase]int{}
	for i := range s.list {
		n[s.list[i].Phase]++
	}
	lines := []look.RailLine{{Text: fmt.Sprintf("%d on", n[device.On]), Style: t.Dim}}
	for _, p := range []struct {
		phase device.Phase
		st    look.Style
	}{{device.Frozen, t.Ours}, {device.Away, t.Broken}, {device.Connecting, t.Warn}, {device.Real, t.Ours}, {device.Off, t.Old}} {
		if n[p.phase] > 0 {
			lines = append(
				lines,
				look.RailLine{Text: fmt.Sprintf("%s %d %s", signs[p.phase], n[p.phase], p.phase), Style: p.st},
			)
		}
	}
	return lines
}

var signs = map[device.Phase]string{
	device.On:         "●",
	device.Off:        "○",
	device.Frozen:     "❄",
	device.Away:       "╳",
	device.Connecting: "◌",
	device.Real:       "◇",
}

func phaseStyle(t *look.Theme, p device.Phase) look.Style {
	return map[device.Phase]look.Style{device.On: t.Kept, device.Off: t.Old, device.Frozen: t.Ours,
		device.Away: t.Broken, device.Connecting: t.Warn, device.Real: t.Ours}[p]
}

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		s.refresh()
		s.step++
	case tea.PasteMsg:
		s.typed(msg)
	case tea.KeyPressMsg:
		cmd, done := look.Press(s.Actions(), msg)
		if !done {
			s.typed(msg)
		}
		return cmd
	}
	return nil
}

// typed hands a message to what is being typed in.
func (s *Screen) typed(msg tea.Msg) {
	switch {
	case s.board != nil && s.board.leaves != nil:
		s.board.leaves.Update(msg)
	case s.ask == nil:
	case s.ask.input != nil:
		s.ask.input.Update(msg)
	}
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	switch {
	case s.ask != nil:
		return s.ask.actions(s)
	case s.inside != nil:
		return s.inside.actions(s)
	case s.board != nil:
		return s.board.actions(s)
	}
	inside := look.Act("i", "look into the stand-in", s.openInside)
	if len(s.list) == 0 {
		return []look.Action{inside}
	}
	out := []look.Action{s.moves()}
	chosen := s.chosen()
	if chosen == nil {
		out = append(out, s.fold(s.rows[s.at]))
		return append(append(out, s.ofSite()...), inside)
	}
	st := *chosen
	by := look.Act("s", "send by hand", func() tea.Cmd { return look.Composing(s.sentence(st)) })
	if st.Phase == device.Real {
		return append(append(append(out, by, s.replaces(st), s.proves(st)), s.ofSite()...), inside)
	}
	out = append(append(out, s.switches(st)...), by)
	d := s.bench.Device(st.Name)
	if st.Phase == device.Off {
		out = append(out, look.CanNot("p", "publish now", st.Name+" is not connected: start it first"))
	} else {
		out = append(out, look.Let("p", "publish now", func() { s.askOwn(st) }))
	}
	out = append(out, look.Let("v", "set a signal", func() { s.askSignal(st, d) }))
	if st.Phase != device.Off {
		out = append(out, look.Let("d", "delay", func() { s.askPace(st, d) }))
	}
	out = append(
		out,
		look.Let("m", "misbehave", func() { s.ask = s.askFault(st.Name, 0) }),
		s.replaces(st),
		s.proves(st),
	)
	return append(append(out, s.ofSite()...), inside)
}

// proves puts a device to the proof.
func (s *Screen) proves(st device.State) look.Action {
	return look.Act("P", "put it to the proof", func() tea.Cmd { return s.putToProof(st) })
}

// replaces lets the real one stand in a device's place, or plays it again.
func (s *Screen) replaces(st device.State) look.Action {
	real := st.Phase != device.Real
	does, did := "the real one in its place", "is not played any more: the real one is watched and judged under its name"
	if !real {
		does, did = "play it again", "is played again"
	}
	return look.Act("R", does, func() tea.Cmd {
		return func() tea.Msg {
			if err := s.bench.Replace(st.Name, real); err != nil {
				return look.Notice{Text: err.Error(), Bad: true}
			}
			return look.Notice{Text: st.Name + " " + did}
		}
	})
}

// moves are the keys of the cursor: in the drawing it goes across the brokers too.
func (s *Screen) moves() look.Action {
	if s.asList {
		return look.Moves("choose", &s.at, len(s.rows), 10, nil)
	}
	keys := []string{
		"up", "k", "down", "j", "left", "h", "right", "l", "pgup", "pgdown", "home", "g", "end", "G",
	}
	return look.Keys("↑↓←→", "choose", keys, func(k string) {
		switch k {
		case "left", "h":
			s.across(false)
		case "right", "l":
			s.across(true)
		case "home", "g", "end", "G":
			look.Move(k, &s.at, len(s.rows), 10)
		default:
			s.updown(k)
		}
	})
}

// fold shows the devices of a kind one by one, or all in a row.
func (s *Screen) fold(r row) look.Action {
	return look.Let(
		"enter",
		map[bool]string{false: "show each", true: "show only the odd ones"}[s.unfolded[r.kind]],
		func() {
			s.unfolded[r.kind] = !s.unfolded[r.kind]
			s.lay(time.Now())
		},
	)
}

// ofSite are the actions that concern all devices.
func (s *Screen) ofSite() []look.Action {
	out := append(
		s.ready(),
		look.Let("t", map[bool]string{false: "list", true: "drawing"}[s.asList], func() { s.asList = !s.asList }),
	)
	if len(s.bench.Workspace().Messages) > 0 {
		out = append(out, look.Let("n", "messages that are ready", s.askReady))
	}
	if taps, err := s.bench.Taps(); err == nil && len(taps) > 0 {
		out = append(out, look.Let("u", "disturb by the tap", func() { s.ask = s.askTap() }))
	}
	return append(out,
		look.Let("a", "let all speak to another broker", func() { s.ask = s.askWhere() }),
		look.Let("x", "export the drawing", s.askExport),
		s.record(),
	)
}

// switches are the actions that start, stop and disturb a device.
func (s *Screen) switches(st device.State) []look.Action {
	d := s.bench.Device(st.Name)
	// Stopping waits for a goodbye: the screen must not.
	later := func(keys string, kind workspace.StepKind, did string, f func() error) look.Action {
		return look.Act(keys, string(kind), func() tea.Cmd {
			return func() tea.Msg {
				s.bench.Did(kind, st.Name)
				if err := f(); err != nil {
					return look.Notice{Text: st.Name + ": " + err.Error(), Bad: true}
				}
				return look.Notice{Text: st.Name + " " + did}
			}
		})
	}
	if st.Phase == device.Off {
		return []look.Action{later("space", workspace.StepStart, "started", func() error { d.Start(); return nil })}
	}
	out := []look.Action{later("space", workspace.StepStop, "stopped", func() error { d.Stop(); return nil })}
	cut := later("c", workspace.StepCut, "cut: its link was reset; it comes back by itself", d.Cut)
	switch st.Phase {
	case device.On:
		freeze := later("f", workspace.StepFreeze, "frozen: nothing goes in or out, nothing is closed", d.Freeze)
		out = append(out, cut, freeze)
	case device.Frozen:
		out = append(out, later("f", workspace.StepThaw, "thawed", d.Thaw), cut)
	}
	return out
}

// actions are those of a question.
func (q *question) actions(s *Screen) []look.Action {
	out := []look.Action{look.Act("enter", "go on", func() tea.Cmd { return q.answer(s) })}
	if q.input == nil {
		out = append(out, look.Moves("choose", &q.at, len(q.choices), 5, nil))
	}
	return append(out, look.Let("esc", "leave", func() { s.ask = nil }))
}

// answer takes what was chosen or typed.
func (q *question) answer(s *Screen) tea.Cmd {
	value := ""
	switch {
	case q.input != nil:
		value = q.input.Value()
	case q.at < len(q.choices):
		value = q.choices[q.at]
	}
	next, cmd, err := q.done(s, value)
	if err == nil {
		s.ask = next
		return cmd
	}
	switch {
	case q.input != nil:
		q.input.Error = err.Error()
	default:
		return look.Tell(true, err.Error())
	}
	return nil
}

// sentence is one to begin with: a command that the device takes, else a message of its own.
func (s *Screen) sentence(st device.State) string {
	c := s.bench.Workspace().Contract
	for _, name := range st.Takes {
		if cl := c.Clause(name); cl != nil && s.whole(cl, st) {
			return s.bench.Begin(cl, st.Params, "")
		}
	}
	for _, name := range append(slices.Clone(st.Publishes), st.Takes...) {
		if cl := c.Clause(name); cl != nil {
			as := ""
			if cl.From == st.Party && st.Phase != device.Real {
				as = st.Name
			}
			return s.bench.Begin(cl, st.Params, as)
		}
	}
	return "send "
}

// whole tells whether the device's parameters fill a clause's topic in.
func (s *Screen) whole(cl *core.Clause, st device.State) bool {
	_, err := cl.Topic.Topic(st.Params)
	return err == nil
}

// askOwn asks which of its own messages the device is to publish now.
func (s *Screen) askOwn(st device.State) {
	var choices []string
	for _, p := range st.Publishes {
		if !slices.Contains(choices, p) {
			choices = append(choices, p)
		}
	}
	s.ask = &question{
		title:   "which of its messages is " + st.Name + " to publish now?",
		choices: choices,
		done: func(s *Screen, name string) (*question, tea.Cmd, error) {
			d := s.bench.Device(st.Name)
			if d == nil || name == "" {
				return nil, nil, fmt.Errorf("%s publishes nothing", st.Name)
			}
			if err := d.Send(name); err != nil {
				return nil, nil, err
			}
			return nil, look.Tell(false, st.Name+" publishes "+name), nil
		},
	}
}

func (s *Screen) askSignal(st device.State, d *device.Device) {
	var choices []string
	for _, x := range st.Signals {
		choices = append(choices, x.Name)
	}
	s.ask = &question{
		title:   "set a signal",
		choices: choices,
		done: func(s *Screen, name string) (*question, tea.Cmd, error) {
			if name == "" {
				return nil, nil, fmt.Errorf("%s has no signals", st.Name)
			}
			now := ""
			for _, x := range st.Signals {
				if x.Name == name {
					now = value(x.Value)
				}
			}
			return &question{
				title: "set " + name + " of " + st.Name + "; a wave stands still from then on",
				input: look.NewInput(name, now),
				done: func(s *Screen, text string) (*question, tea.Cmd, error) {
					err := d.Set(name, parse(text))
					if err == nil {
						s.bench.Did(
							workspace.StepSet,
							expression.Object{{Key: "device", Value: st.Name}, {Key: name, Value: parse(text)}},
						)
					}
					return nil, look.Tell(false, name+" = "+text), err
				},
			}, nil, nil
		},
	}
}

// askPace asks how a device's link is to be slowed.
func (s *Screen) askPace(st device.State, d *device.Device) {
	s.ask = &question{
		title: "slow the link of " + st.Name + ": a delay, and bytes a second after it, such as 800ms 2000; empty ends it",
		input: look.NewInput("delay", ""),
		done: func(s *Screen, text string) (*question, tea.Cmd, error) {
			var delay time.Duration
			rate := 0
			var err error
			words := strings.Fields(text)
			if len(words) > 0 {
				if delay, err = time.ParseDuration(words[0]); err != nil || delay < 0 {
					return nil, nil, fmt.Errorf("%q is no delay: write 800ms or 2s", words[0])
				}
			}
			if len(words) > 1 {
				if rate, err = strconv.Atoi(words[1]); err != nil || rate < 1 {
					return nil, nil, fmt.Errorf("%q is no number of bytes a second", words[1])
				}
			}
			d.Slow(delay, rate)
			slow := expression.Object{{Key: "device", Value: st.Name}}
			if delay > 0 {
				slow = append(slow, expression.Member{Key: "delay", Value: delay.String()})
			}
			if rate > 0 {
				slow = append(slow, expression.Member{Key: "rate", Value: rate})
			}
			if len(words) > 0 {
				s.bench.Did(workspace.StepSlow, slow)
			}
			if len(words) == 0 {
				return nil, look.Tell(false, st.Name+" is no longer slowed"), nil
			}
			return nil, look.Tell(false, st.Name+" is slowed: "+text), nil
		},
	}
}

// parse reads a value as it would stand in the workspace.
func parse(s string) any {
	if f, err := strconv.ParseFloat(s, 64); err == nil {
		return f
	}
	if b, err := strconv.ParseBool(s); err == nil {
		return b
	}
	return s
}

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	if s.inside != nil {
		s.inside.draw(c)
		return
	}
	if s.board != nil {
		s.board.draw(c)
		return
	}
	if len(s.list) == 0 {
		c.Teach(
			"Devices play the clients that are not there yet.",
			"This workspace has none. Describe them under devices: in "+s.bench.Workspace().File+":",
			"signals inside, what they publish and when, how they react, and the will they leave.",
		)
		return
	}
	if s.asList {
		s.drawList(c)
	} else {
		s.drawDrawing(c)
	}
	if on, steps := s.bench.Noting(); on {
		c.Right(c.W-1, 0, fmt.Sprintf(" ● recording a trial, %s ", look.Plural(steps, "deed")), c.Theme.Warn)
	}
	if s.ask != nil {
		s.drawQuestion(c)
	}
}

// drawDrawing draws the site, and what the cursor stands on below.
func (s *Screen) drawDrawing(c look.Canvas) {
	f := s.figure()
	for i := range f.Brokers { // a narrow box says the same in more lines
		b := &f.Brokers[i]
		var lines []string
		for _, words := range b.Words {
			lines = append(lines, look.Wrap(words, boxWidth(c)-2)...)
		}
		b.Words = lines
	}
	_, _, rows := f.Arrange()
	rows = min(rows, max(c.H/2-2, c.H-18))
	heading, said, st := "the site: who publishes left, who consumes right", "", c.Theme.Warn
	if taps, err := s.bench.Taps(); err != nil {
		said, st = "✗ "+err.Error(), c.Theme.Broken
	} else {
		said = ruled(taps)
	}
	if said != "" && look.Width(heading)+look.Width(said)+8 > c.W {
		heading = "the site"
	}
	c.Rule(0, heading, c.Theme.Dim)
	if said != "" {
		c.Right(c.W-1, 0, " "+look.Clip(said, c.W-look.Width(heading)-8)+" ", st)
	}
	s.drawSite(c.Sub(0, 1, c.W, rows), f)
	s.drawDetail(c.Sub(0, rows+2, c.W, c.H-rows-2))
}

// drawList draws a line for each device, and what the cursor stands on below.
func (s *Screen) drawList(c look.Canvas) {
	rows := min(len(s.rows), max(4, c.H-16))
	s.first = look.Scroll(s.first, s.at, rows, len(s.rows))
	t := c.Theme
	c.Rule(0, "", t.Dim)
	c.Text(2, 0, " device ", t.Dim)
	c.Text(17, 0, " state ", t.Dim)
	c.Text(36, 0, " sent  received ", t.Dim)
	if c.W > 80 {
		c.Text(54, 0, " signals ", t.Dim)
	}
	for y := range rows {
		if r := s.rows[s.first+y]; r.dev < 0 {
			s.drawKind(c, y+1, r, s.first+y == s.at)
		} else {
			s.drawDevice(c, y+1, r.dev, s.first+y == s.at)
		}
	}
	s.drawDetail(c.Sub(0, rows+2, c.W, c.H-rows-2))
}

// drawKind draws all devices of a kind in a line.
func (s *Screen) drawKind(c look.Canvas, y int, r row, chosen bool) {
	t := c.Theme
	c.Text(2, y, look.Clip(fmt.Sprintf("%s ×%d", r.kind, r.of.all), 14), t.Strong)
	c.Right(42, y, strconv.Itoa(r.of.sent), t.Text)
	c.Right(51, y, strconv.Itoa(r.of.received), t.Text)
	if c.W > 80 {
		c.Text(54, y, look.Clip(kindWords(r.of), c.W-55), t.Text)
	} else {
		c.Text(17, y, look.Clip(kindWords(r.of), 19), t.Text)
	}
	if chosen {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

func (s *Screen) drawDevice(c look.Canvas, y, i int, chosen bool) {
	t, st := c.Theme, &s.list[i]
	ps := phaseStyle(t, st.Phase)
	if gone(st) {
		ps = t.Broken
	}
	c.Text(2, y, look.Clip(st.Name, 14), t.Text)
	c.Text(17, y, look.Clip(fmt.Sprintf("%s %s %s", signs[st.Phase], st.Phase, sinceWords(st)), 19), ps)
	if len(st.Faults) > 0 {
		c.Text(15, y, "!", t.Warn)
	}
	if st.Phase != device.Real || st.Real != nil { // else nothing of it is seen but by our observer
		c.Right(42, y, strconv.Itoa(st.Sent), t.Text)
		c.Right(51, y, strconv.Itoa(st.Received), t.Text)
	}
	x := 54
	for _, g := range st.Signals {
		w := 26
		if len(g.History) < 2 || g.Wave == "constant" || x+w > c.W {
			continue
		}
		at := c.Text(x, y, look.Clip(g.Name, 8)+" ", t.Dim)
		at = c.Text(at, y, look.Spark(g.History, 8)+" ", t.Ours)
		c.Text(at, y, value(g.Value), t.Text)
		x += w
	}
	if chosen {
		c.Paint(0, y, c.W, t.Select)
		c.Text(0, y, "▸", t.Select)
	}
}

func value(v any) string {
	if f, ok := v.(float64); ok {
		return look.Number(f)
	}
	if v == nil {
		return "missing"
	}
	return fmt.Sprint(v)
}

func (s *Screen) drawDetail(c look.Canvas) {
	t, st := c.Theme, s.chosen()
	if st == nil {
		s.drawKindDetail(c, s.rows[s.at])
		return
	}
	c.Rule(0, st.Name+", plays "+st.Party, t.Strong)
	if len(st.Faults) > 0 {
		c.Text(2, 3, look.Clip("! misbehaves: "+strings.Join(st.Faults, ", "), c.W-3), t.Warn)
	}
	about := fmt.Sprintf("client id %s, MQTT %s, broker %s", st.ClientID, st.Version, st.Broker)
	if st.In != "" {
		about = "state " + st.In + ", " + about
	}
	if st.Waiting > 0 {
		about = fmt.Sprintf("keeps %s until it is back, %s", look.Plural(st.Waiting, "message"), about)
	}
	if st.Slowed != "" {
		about = "◷ slowed by " + st.Slowed + ", " + about
	}
	if st.Listener != "" {
		about += "/" + st.Listener
	}
	var params []string
	for k, v := range st.Params {
		params = append(params, k+" "+v)
	}
	sort.Strings(params)
	if len(params) > 0 {
		about += ", " + strings.Join(params, ", ")
	}
	c.Text(2, 1, look.Clip(about, c.W-3), t.Dim)
	why := st.Why
	if st.Phase == device.Away && !st.RetryAt.IsZero() {
		why = fmt.Sprintf("tries again in %s; %s", max(0, time.Until(st.RetryAt)).Round(100*time.Millisecond), why)
	}
	if st.Phase == device.Real {
		why = s.realWords(*st)
	}
	lines := 2
	if len(st.Faults) > 0 {
		lines = 1 // the other one says what is wrong with it
	}
	for i, line := range look.Wrap(why, c.W-3) {
		if i < lines {
			c.Text(2, 2+i, line, phaseStyle(t, st.Phase))
		}
	}
	waves := 0
	for _, g := range st.Signals {
		if g.Wave != "constant" {
			waves++
		}
	}
	room := c.H - 6 - (len(st.Signals) - waves)
	tall := 1
	if waves > 0 {
		tall = max(1, min(4, room/waves-1))
	}
	y := 4
	for _, g := range st.Signals {
		if y >= c.H-1 {
			break
		}
		c.Text(2, y, look.Clip(g.Name, 14), t.Text)
		c.Text(17, y, look.Clip(strings.TrimSpace(value(g.Value)+" "+g.Unit), 14), t.Strong)
		kind := g.Wave
		if g.Held {
			kind += ", held"
		}
		c.Text(32, y, look.Clip(kind, 14), t.Dim)
		if len(g.History) < 2 || g.Wave == "constant" {
			y++
			continue
		}
		shown := g.History
		for k, line := range look.Chart(shown, c.W-60, tall) {
			if y+k < c.H-1 {
				c.Text(58, y+k, line, t.Ours)
			}
		}
		c.Right(56, y, look.Number(slices.Max(shown)), t.Old)
		if tall > 1 {
			c.Right(56, y+tall-1, look.Number(slices.Min(shown)), t.Old)
			y++
		}
		y += tall
	}
	if y < c.H {
		c.Text(
			2,
			c.H-1,
			look.Clip("publishes "+strings.Join(st.Publishes, ", ")+"   takes "+strings.Join(st.Takes, ", "), c.W-3),
			t.Dim,
		)
	}
}

// drawKindDetail says how the devices of a kind stand, and which are odd and why.
func (s *Screen) drawKindDetail(c look.Canvas, r row) {
	t := c.Theme
	c.Rule(0, fmt.Sprintf("%s: %d devices, play %s", r.kind, r.of.all, r.of.party), t.Strong)
	c.Text(2, 1, look.Clip(kindWords(r.of), c.W-3), t.Text)
	c.Text(2, 2, look.Clip(fmt.Sprintf("%d sent, %.1f a second; %d received, %.1f a second", r.of.sent, r.of.rates[0],
		r.of.received, r.of.rates[1]), c.W-3), t.Dim)
	if len(r.of.odd) == 0 {
		c.Text(2, 4, "all are at work, and none misbehaves", t.Kept)
	}
	for i, d := range r.of.odd {
		y := 4 + i
		if y >= c.H-1 && i < len(r.of.odd)-1 {
			c.Text(2, c.H-1, fmt.Sprintf("and %d more", len(r.of.odd)-i), t.Dim)
			return
		}
		st := &s.list[d]
		why := st.Why
		if len(st.Faults) > 0 {
			why = "misbehaves: " + strings.Join(st.Faults, ", ")
		}
		c.Text(2, y, look.Clip(st.Name, 14), t.Text)
		c.Text(17, y, look.Clip(signs[st.Phase]+" "+string(st.Phase), 16), phaseStyle(t, st.Phase))
		c.Text(34, y, look.Clip(why, c.W-35), t.Dim)
	}
}

func (s *Screen) drawQuestion(c look.Canvas) {
	t, q := c.Theme, s.ask
	h := 6
	switch {
	case q.input == nil:
		h = min(len(q.choices), 12) + 4
	}
	w := min(c.W-4, 110)
	box := c.Sub((c.W-w)/2, max(0, (c.H-h)/2), w, h)
	box.Fill(t.Rail)
	box.Text(2, 1, look.Clip(q.title, w-4), look.On(t.Strong, t.Rail))
	switch {
	case q.input != nil:
		q.input.Draw(box.Sub(2, 3, w-4, 3), 0)
		return
	}
	first := look.Scroll(0, q.at, h-4, len(q.choices))
	if more := len(q.choices) - first - (h - 4); more > 0 {
		box.Text(4, h-1, fmt.Sprintf("↓ %d more", more), look.On(t.Ours, t.Rail))
	}
	for i := 0; i < h-4 && first+i < len(q.choices); i++ {
		box.Text(4, 3+i, look.Clip(q.choices[first+i], w-6), look.On(t.Text, t.Rail))
		if first+i == q.at {
			box.Paint(2, 3+i, w-4, t.Select)
			box.Text(2, 3+i, "▸", t.Select)
		}
	}
}
