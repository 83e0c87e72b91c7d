// Package tui is the full-screen interface: a rail with the steps of the job and their
// live state, one screen for each, and what all of them share.
package tui

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/sahilm/fuzzy"

	"hodstone/internal/tui/contract"
	"hodstone/internal/tui/devices"
	"hodstone/internal/tui/load"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/proof"
	"hodstone/internal/tui/reach"
	"hodstone/internal/tui/say"
	"hodstone/internal/tui/trust"
	"hodstone/internal/tui/wire"
	"hodstone/internal/workbench"
)

// The screens are drawn anew every refreshEvery, every floodEvery where more than flood messages a second go over,
// and every torrentEvery where more than torrent do: nobody reads them one by one, and to draw takes longest. Keys
// show at once either way.
const (
	refreshEvery = 100 * time.Millisecond
	floodEvery   = 250 * time.Millisecond
	flood        = 2_000
	torrentEvery = 400 * time.Millisecond
	torrent      = 10_000
)

const (
	noticeFor = 5 * time.Second
	minWidth  = 60
	minHeight = 16
)

// screen is one step of the job. It knows nothing of the frame and of other screens.
type screen interface {
	Title() string
	// Update takes in a message: [look.Tick], keys, pasted text, the end of work of its own.
	Update(tea.Msg) tea.Cmd
	// Actions is what can be done here and now, and by which keys: the screen's key map.
	Actions() []look.Action
	// Typing tells whether keys are text and must all go to the screen.
	Typing() bool
	// Rail is its live state in up to three lines.
	Rail(*look.Theme) []look.RailLine
	View(look.Canvas)
}

// model is the whole interface.
type model struct {
	bench   *workbench.Bench
	theme   look.Theme
	dark    bool // the terminal's ground
	colours look.Colours
	screens []screen
	wire    *wire.Screen
	at      int
	w, h    int
	canvas  look.Canvas // the picture before this one
	overlay overlay
	input   *look.Input    // of the actions
	picked  int            // of the actions that are found
	line    *say.Line      // a message that is written by hand
	text    *look.Scrolled // of keys or problems
	notice  look.Notice
	until   time.Time
	told    int // the screen that the notice is of
}

// overlay is what lies over the screen.
type overlay int

const (
	none overlay = iota
	keysOver
	actionsOver
	problemsOver
	lineOver
)

type tick time.Time

// Run opens the interface on a workbench, sets it going, and returns when the user
// quits or the context ends.
func Run(ctx context.Context, b *workbench.Bench) error {
	b.Start()
	m := newModel(b)
	_, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithFPS(30)).Run()
	if errors.Is(err, tea.ErrInterrupted) || ctx.Err() != nil {
		return nil
	}
	return err
}

func newModel(b *workbench.Bench) *model {
	w := wire.New(b)
	m := &model{
		bench:   b,
		dark:    true,
		colours: look.FewColours,
		theme:   look.NewTheme(true, look.FewColours),
		wire:    w,
		screens: []screen{reach.New(b), trust.New(b), contract.New(b), devices.New(b), w, proof.New(b), load.New(b)},
		w:       80,
		h:       24,
	}
	m.at = first(b)
	if found, _ := b.Problems(); len(found) > 0 {
		m.overlay, m.text = problemsOver, look.NewScrolled()
	}
	if b.Record != nil { // there is nothing but the record
		m.screens, m.at = []screen{w}, 0
	}
	return m
}

// first is the screen to begin with: the contract, or the ways in where there is none.
func first(b *workbench.Bench) int {
	if len(b.Workspace().Contract.Clauses) > 0 {
		return 2
	}
	return 0
}

// Init implements [tea.Model].
func (m *model) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, m.nextTick()) }

func (m *model) nextTick() tea.Cmd {
	every := refreshEvery
	switch rate := m.bench.Rate(); {
	case rate > torrent:
		every = torrentEvery
	case rate > flood:
		every = floodEvery
	}
	return tea.Tick(every, func(t time.Time) tea.Msg { return tick(t) })
}

// Update implements [tea.Model]. A panic in it is a notice: the user's work goes on.
func (m *model) Update(msg tea.Msg) (_ tea.Model, cmd tea.Cmd) {
	defer func() {
		if p := recover(); p != nil {
			m.tell(fault(p))
			if _, is := msg.(tick); is { // time goes on
				cmd = m.nextTick()
			}
		}
	}()
	_, cmd = m.update(msg)
	return m, guarded(cmd)
}

// fault is the notice of a panic.
func fault(p any) look.Notice {
	return look.Notice{Text: fmt.Sprintf("a fault of Hodstone's own: %v: please report it", p), Bad: true}
}

// guarded makes a notice of a panic in a command.
func guarded(cmd tea.Cmd) tea.Cmd {
	if cmd == nil {
		return nil
	}
	return func() (msg tea.Msg) {
		defer func() {
			if p := recover(); p != nil {
				msg = fault(p)
			}
		}()
		msg = cmd()
		if all, is := msg.(tea.BatchMsg); is {
			for i := range all {
				all[i] = guarded(all[i])
			}
		}
		return msg
	}
}

// tell shows a notice on the screen that is shown.
func (m *model) tell(n look.Notice) { m.told, m.notice, m.until = m.at, n, time.Now().Add(noticeFor) }

func (m *model) update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.dark = msg.IsDark()
		m.theme = look.NewTheme(m.dark, m.colours)
	case tea.ColorProfileMsg:
		switch {
		case msg.Profile == colorprofile.TrueColor:
			m.colours = look.AllColours
		case msg.Profile >= colorprofile.ANSI:
			m.colours = look.FewColours
		default:
			m.colours = look.NoColours
		}
		m.theme = look.NewTheme(m.dark, m.colours)
	case tick:
		return m, tea.Batch(m.everywhere(look.Tick{At: time.Time(msg)}), m.nextTick())
	case look.Notice:
		m.tell(msg)
	case look.Compose:
		m.overlay, m.line = lineOver, say.New(m.bench, msg.Text)
	case look.ShowEvent:
		m.show(m.wire)
		return m, m.wire.Update(msg)
	case tea.MouseWheelMsg:
		key := tea.KeyPressMsg{Code: tea.KeyDown}
		if msg.Button == tea.MouseWheelUp {
			key.Code = tea.KeyUp
		}
		return m, m.key(key)
	case tea.MouseClickMsg:
		if msg.X < m.railWidth() && m.overlay == none {
			m.clicked(msg.Y)
		}
	case tea.PasteMsg:
		if m.overlay == lineOver {
			return m, m.line.Update(msg)
		} else if m.overlay == actionsOver {
			m.input.Update(msg)
		} else if m.overlay == none {
			return m, m.screens[m.at].Update(msg)
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	default: // the end of a screen's work
		return m, m.everywhere(msg)
	}
	return m, nil
}

// everywhere hands a message to all screens; each knows which are its own.
func (m *model) everywhere(msg tea.Msg) tea.Cmd {
	var all []tea.Cmd
	for i, s := range m.screens {
		if t, is := msg.(look.Tick); is {
			t.Shown = i == m.at
			msg = t
		}
		all = append(all, s.Update(msg))
	}
	return tea.Batch(all...)
}

func (m *model) show(s screen) {
	for i := range m.screens {
		if m.screens[i] == s {
			m.at = i
		}
	}
	m.overlay = none
}

func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	if msg.String() == "ctrl+c" {
		return tea.Quit
	}
	s := m.screens[m.at]
	if m.overlay != none {
		return m.overlayKey(msg)
	}
	if !s.Typing() {
		if cmd, done := look.Press(m.frameActions(), msg); done {
			return cmd
		}
	}
	return s.Update(msg)
}

// frameActions are those that do something everywhere, beside those of a screen.
func (m *model) frameActions() []look.Action {
	var out []look.Action
	if slices.ContainsFunc(m.bench.Sendings(), func(s workbench.Sending) bool { return s.Running && s.Every > 0 }) {
		out = append(out, look.Let("S", "stop sending", func() {
			m.bench.StopSending(0)
			m.tell(look.Notice{Text: "nothing is sent by hand any more"})
		}))
	}
	out = append(out,
		look.Act("q", "quit", func() tea.Cmd { return tea.Quit }),
		look.Let(":", "actions", func() { m.overlay, m.input, m.picked = actionsOver, look.NewInput(":", ""), 0 }),
		look.Let("?", "keys", func() { m.overlay, m.text = keysOver, look.NewScrolled() }),
	)
	if found, _ := m.bench.Problems(); len(found) > 0 {
		out = append(out, look.Let("!", "problems of the workspace", func() {
			m.overlay, m.text = problemsOver, look.NewScrolled()
		}))
	}
	for i, s := range m.screens {
		out = append(out, look.Let(strconv.Itoa(i+1), "go to "+s.Title(), func() { m.at = i }))
	}
	to := func(by int) func() { return func() { m.at = (m.at + by + len(m.screens)) % len(m.screens) } }
	return append(out, look.Let("tab", "next step", to(1)), look.Let("shift+tab", "step before", to(-1)))
}

// overlayActions are those of what lies over the screen.
func (m *model) overlayActions() []look.Action {
	if m.overlay == lineOver {
		return m.line.Actions()
	}
	if m.overlay == actionsOver {
		found := m.find()
		return []look.Action{
			look.Let("esc", "leave", func() { m.overlay = none }),
			look.Keys(
				"↑↓",
				"choose",
				[]string{"up", "down"},
				func(k string) { look.Move(k, &m.picked, len(found), 1) },
			),
			look.Act("enter", "do it", func() tea.Cmd {
				m.overlay = none
				if m.picked >= len(found) {
					return nil
				}
				return found[m.picked].do()
			}),
		}
	}
	return []look.Action{m.text.Action(), look.Let("esc q enter ? !", "go on", func() { m.overlay = none })}
}

func (m *model) overlayKey(msg tea.KeyPressMsg) tea.Cmd {
	if m.overlay == lineOver {
		cmd := m.line.Update(msg)
		if m.line.Done {
			m.overlay = none
		}
		return cmd
	}
	cmd, done := look.Press(m.overlayActions(), msg)
	if !done && m.overlay == actionsOver {
		m.input.Update(msg)
		m.picked = 0
	}
	return cmd
}

// action is something that can be done by name.
type action struct {
	name, key string
	do        func() tea.Cmd
}

// actions are all that can be done: on this screen, in the frame, and on the other screens.
func (m *model) actions() (out []action) {
	here := m.screens[m.at]
	out = m.actionsOf(here)
	for _, a := range m.frameActions() {
		if a.Help().Key != ":" {
			out = append(out, action{a.Help().Desc, a.Help().Key, func() tea.Cmd { return a.Do(tea.KeyPressMsg{}) }})
		}
	}
	for _, s := range m.screens {
		if s != here {
			out = append(out, m.actionsOf(s)...)
		}
	}
	return out
}

// actionsOf are what can be done on a screen as it stands; going there comes first.
func (m *model) actionsOf(s screen) (out []action) {
	if s.Typing() {
		return nil
	}
	for _, a := range s.Actions() {
		if a.Named {
			out = append(out, action{s.Title() + ": " + a.Help().Desc, a.Help().Key, func() tea.Cmd {
				m.show(s)
				return a.Do(tea.KeyPressMsg{})
			}})
		}
	}
	return out
}

func (m *model) find() []action {
	all := m.actions()
	if m.input.Value() == "" {
		return all
	}
	names := make([]string, len(all))
	for i := range all {
		names[i] = all[i].name
	}
	var out []action
	for _, hit := range fuzzy.Find(m.input.Value(), names) {
		out = append(out, all[hit.Index])
	}
	return out
}

// View implements [tea.Model].
func (m *model) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Hodstone"
	if m.colours != look.NoColours {
		v.BackgroundColor = m.theme.Ground.Bg
	}
	v.SetContent(m.draw())
	return v
}

// view draws a screen, or says that it cannot.
func view(s screen, c look.Canvas) {
	defer func() {
		if p := recover(); p != nil {
			c.Fill(c.Theme.Ground)
			c.Teach("This screen cannot be drawn: a fault of Hodstone's own.", fmt.Sprint(p),
				"The other screens go on, and so does what is recorded. Please report it.")
		}
	}()
	s.View(c)
}

func (m *model) draw() string {
	m.canvas = m.canvas.Anew(m.w, m.h, &m.theme)
	c := m.canvas
	if m.w < minWidth || m.h < minHeight {
		c.Text(
			0,
			0,
			look.Clip(fmt.Sprintf("Hodstone needs %d×%d; this is %d×%d", minWidth, minHeight, m.w, m.h), m.w),
			m.theme.Warn,
		)
		return c.Render()
	}
	rail := m.railWidth()
	m.drawRail(c.Sub(0, 0, rail, m.h))
	top := 0
	if found, old := m.bench.Problems(); len(found) > 0 {
		what := "what is sound is open; ! tells more"
		if old {
			what = "edited, and not in force; ! tells more"
		}
		c.Text(
			rail+2,
			0,
			look.Clip(
				"! "+look.Plural(len(found), "problem")+" in "+path.Base(m.bench.Workspace().File)+": "+what,
				m.w-rail-3,
			),
			m.theme.Broken,
		)
		top = 1
	} else if text := m.bench.Revision(); text != "" {
		c.Text(rail+2, 0, look.Clip("· "+text, m.w-rail-3), m.theme.Dim)
		top = 1
	}
	s := m.screens[m.at]
	view(s, c.Sub(rail+1, top, m.w-rail-1, m.h-1-top))
	m.drawFoot(c.Sub(rail+1, m.h-1, m.w-rail-1, 1), s)
	switch m.overlay {
	case lineOver:
		h := m.line.Height(m.h)
		m.line.Draw(c.Sub(rail+1, m.h-1-h, m.w-rail-1, h))
	case keysOver:
		m.drawHelp(c, s)
	case actionsOver:
		m.drawActions(c)
	case problemsOver:
		m.drawProblems(c)
	}
	return c.Render()
}
