// Package devices is the screen of the simulated devices: how each stands, its signals
// as lines, and its switches.
package devices

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/device"
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
