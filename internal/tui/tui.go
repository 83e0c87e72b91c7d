// Package tui is the full-screen interface: a rail with the steps of the job and their
// live state, one screen for each, and what all of them share.
package tui

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/sahilm/fuzzy"

	"hodstone/internal/tui/contract"
	"hodstone/internal/tui/devices"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/proof"
	"hodstone/internal/tui/reach"
	"hodstone/internal/tui/trust"
	"hodstone/internal/tui/wire"
	"hodstone/internal/workbench"
)

const (
	refreshEvery = 100 * time.Millisecond
	noticeFor    = 5 * time.Second
	minWidth     = 60
	minHeight    = 16
)

// screen is one step of the job.
type screen interface {
	Title() string
	// Refresh takes in what happened since.
	Refresh()
	// Typing tells whether keys are text and must all go to the screen.
	Typing() bool
	Key(tea.KeyPressMsg) tea.Cmd
	Keys() []look.Key
	Rail(*look.Theme) []look.RailLine
	Draw(look.Canvas)
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
	overlay overlay
	input   *look.Input // of the actions
	picked  int
	scroll  int
	notice  look.Notice
	until   time.Time
	told    int // the screen that the notice is of
}

// overlay is what lies over the screen.
type overlay int

const (
	none overlay = iota
	help
	actions
	problems
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
		screens: []screen{reach.New(b), trust.New(b), contract.New(b), devices.New(b), w, proof.New(b)},
		w:       80,
		h:       24,
	}
	m.at = first(b)
	if found, _ := b.Problems(); len(found) > 0 {
		m.overlay = problems
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
func (m *model) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, nextTick()) }

func nextTick() tea.Cmd { return tea.Tick(refreshEvery, func(t time.Time) tea.Msg { return tick(t) }) }

// Update implements [tea.Model].
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
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
		for _, s := range m.screens {
			s.Refresh()
		}
		return m, nextTick()
	case look.Notice:
		m.told = m.at
		m.notice, m.until = msg, time.Now().Add(noticeFor)
	case look.ShowEvent:
		m.show(m.wire)
		return m, m.wire.Show(msg.Seq)
	case wire.Sought:
		return m, m.wire.Sought(msg)
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
		return m, m.pasted(msg.Content)
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

// pasted gives pasted text to the screen: whole where it takes some, else key by key where it
// types.
func (m *model) pasted(text string) tea.Cmd {
	s := m.screens[m.at]
	if taker, ok := s.(interface{ Paste(string) tea.Cmd }); ok && m.overlay == none {
		return taker.Paste(text)
	}
	if m.overlay == none && s.Typing() {
		for _, r := range text {
			if r >= ' ' {
				s.Key(tea.KeyPressMsg{Code: r, Text: string(r)})
			}
		}
	}
	return nil
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
	k := msg.String()
	if k == "ctrl+c" {
		return tea.Quit
	}
	s := m.screens[m.at]
	switch {
	case m.overlay != none:
		return m.overlayKey(msg)
	case s.Typing():
		return s.Key(msg)
	}
	switch k {
	case "q":
		return tea.Quit
	case "?":
		m.overlay, m.scroll = help, 0
	case ":":
		m.overlay, m.input, m.picked = actions, look.NewInput(":", ""), 0
	case "!":
		if found, _ := m.bench.Problems(); len(found) > 0 {
			m.overlay, m.scroll = problems, 0
		}
	case "tab":
		m.at = (m.at + 1) % len(m.screens)
	case "shift+tab":
		m.at = (m.at + len(m.screens) - 1) % len(m.screens)
	default:
		if len(k) == 1 && k[0] >= '1' && int(k[0]-'1') < len(m.screens) {
			m.at = int(k[0] - '1')
			return nil
		}
		return s.Key(msg)
	}
	return nil
}

func (m *model) overlayKey(msg tea.KeyPressMsg) tea.Cmd {
	k := msg.String()
	if m.overlay == actions {
		found := m.find()
		switch k {
		case "esc":
			m.overlay = none
		case "up", "down":
			look.Move(k, &m.picked, len(found), 1)
		case "enter":
			m.overlay = none
			if m.picked < len(found) {
				return found[m.picked].do()
			}
		default:
			m.input.Update(msg)
			m.picked = 0
		}
		return nil
	}
	switch k {
	case "up", "k":
		m.scroll = max(0, m.scroll-1)
	case "down", "j":
		m.scroll++
	case "q", "esc", "enter", "?", "!":
		m.overlay = none
	}
	return nil
}

// action is something that can be done by name.
type action struct {
	name, key string
	do        func() tea.Cmd
}

func (m *model) actions() (out []action) {
	s := m.screens[m.at]
	press := map[string]tea.KeyPressMsg{
		"enter": {Code: tea.KeyEnter},
		"esc":   {Code: tea.KeyEscape},
		"space": {Code: tea.KeySpace, Text: " "},
	}
	if !s.Typing() {
		out = m.actionsOf(s, true, press)
	}
	for i, t := range m.screens {
		out = append(out, action{"go to " + t.Title(), fmt.Sprint(i + 1), func() tea.Cmd { m.at = i; return nil }})
	}
	out = append(out, action{"keys of this screen", "?", func() tea.Cmd { m.overlay, m.scroll = help, 0; return nil }})
	if found, _ := m.bench.Problems(); len(found) > 0 {
		out = append(
			out,
			action{"problems of the workspace", "!", func() tea.Cmd { m.overlay, m.scroll = problems, 0; return nil }},
		)
	}
	out = append(out, action{"quit", "q", func() tea.Cmd { return tea.Quit }})
	for _, s := range m.others() {
		if !s.Typing() {
			out = append(out, m.actionsOf(s, false, press)...)
		}
	}
	return out
}

// others are the screens that are not shown.
func (m *model) others() (out []screen) {
	for i, s := range m.screens {
		if i != m.at {
			out = append(out, s)
		}
	}
	return out
}

// actionsOf are what can be done on a screen as it stands; for one that is not shown, going there comes first.
func (m *model) actionsOf(s screen, here bool, press map[string]tea.KeyPressMsg) (out []action) {
	for _, k := range s.Keys() {
		if !here && k.Key == "esc" {
			continue
		}
		msg, special := press[k.Key]
		if !special {
			if len([]rune(k.Key)) != 1 || strings.ContainsAny(k.Key, "↑↓←→") {
				continue
			}
			msg = tea.KeyPressMsg{Code: []rune(k.Key)[0], Text: k.Key}
		}
		out = append(out, action{s.Title() + ": " + k.Does, k.Key, func() tea.Cmd {
			m.show(s)
			return s.Key(msg)
		}})
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

func (m *model) draw() string {
	c := look.NewCanvas(m.w, m.h, &m.theme)
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
	s.Draw(c.Sub(rail+1, top, m.w-rail-1, m.h-1-top))
	m.drawFoot(c.Sub(rail+1, m.h-1, m.w-rail-1, 1), s)
	switch m.overlay {
	case help:
		m.drawHelp(c, s)
	case actions:
		m.drawActions(c)
	case problems:
		m.drawProblems(c)
	}
	return c.Render()
}
