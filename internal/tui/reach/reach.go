// Package reach is the screen of the ways in: for each listener a line of stages, broken
// where it breaks, with the reason and the remedy; what the broker granted; how the observer
// stays in; and the doors that are left open.
package reach

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// Screen is the reach screen.
type Screen struct {
	bench  *workbench.Bench
	board  workbench.ReachBoard
	stays  []core.Stay
	at     int // the way with the cursor
	first  int
	open   *detail
	paste  *paste
	input  *look.Input // asks for the name of an export
	height int
}

// New returns the screen.
func New(b *workbench.Bench) *Screen { return &Screen{bench: b, height: 10} }

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "reach" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.input != nil || s.paste != nil }

// refresh takes in how things stand.
func (s *Screen) refresh() {
	s.board, s.stays = s.bench.ReachBoard(), s.bench.Stays()
	s.at = max(0, min(s.at, len(s.board.Ways)-1))
	if s.open != nil {
		s.open.refresh(&s.board)
	}
}

// standing is how a way stands, at a glance.
type standing int

const (
	never standing = iota
	stale
	trying
	isIn
	isOut
)

func standingOf(w *workbench.ReachState) standing {
	switch {
	case w.Waiting, w.Result != nil && w.Result.Running:
		return trying
	case w.Result == nil:
		return never
	case w.Stale:
		return stale
	case w.Result.In():
		return isIn
	}
	return isOut
}

// word says how a way stands, with its sign and style.
func (k standing) word(t *look.Theme) (string, look.Style) {
	switch k {
	case stale:
		return "◷ stale", t.Warn
	case trying:
		return "◌ trying", t.Ours
	case isIn:
		return "● in", t.Kept
	case isOut:
		return "╳ out", t.Broken
	}
	return "· never tried", t.Old
}

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	n := map[standing]int{}
	doors := 0
	for i := range s.board.Ways {
		n[standingOf(&s.board.Ways[i])]++
	}
	for _, d := range s.doors() {
		if d.Accepted == "" {
			doors++
		}
	}
	total := len(s.board.Ways)
	var lines []look.RailLine
	switch {
	case total == 0:
		return []look.RailLine{{Text: "no listener", Style: t.Old}}
	case s.board.Running:
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("◌ trying %d", n[trying]), Style: t.Ours})
	case n[never] == total:
		lines = append(lines, look.RailLine{Text: "never tried", Style: t.Old})
	case n[isIn] == total:
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("● %d/%d in", n[isIn], total), Style: t.Kept})
	default:
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("╳ %d/%d in", n[isIn], total), Style: t.Broken})
	}
	if n[stale] > 0 {
		lines = append(lines, look.RailLine{Text: fmt.Sprintf("◷ %d stale", n[stale]), Style: t.Warn})
	}
	if doors > 0 {
		lines = append(lines, look.RailLine{Text: "! " + look.Plural(doors, "door") + " open", Style: t.Warn})
	}
	gaps := 0
	for i := range s.stays {
		gaps += len(s.stays[i].Gaps)
	}
	if gaps > 0 && len(lines) < 3 {
		lines = append(lines, look.RailLine{Text: look.Plural(gaps, "gap"), Style: t.Dim})
	}
	return lines
}

// broker is the broker of the way with the cursor, or "".
func (s *Screen) broker() string {
	if s.at < len(s.board.Ways) {
		return s.board.Ways[s.at].Target.Broker()
	}
	return ""
}

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		s.refresh()
	case tea.PasteMsg:
		if s.input != nil {
			s.input.Update(msg)
			return nil
		}
		if s.paste == nil {
			s.paste = newPaste()
		}
		s.paste.text.Update(msg)
	case tea.KeyPressMsg:
		cmd, done := look.Press(s.Actions(), msg)
		switch {
		case done:
		case s.input != nil:
			s.input.Update(msg)
		case s.paste != nil:
			s.paste.text.Update(msg)
		}
		return cmd
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
	case s.paste != nil:
		return s.paste.actions(s)
	case s.open != nil:
		return s.open.actions(s)
	}
	var out []look.Action
	if s.board.Running {
		out = append(out, look.Act("s", "stop", func() tea.Cmd {
			s.bench.StopReach()
			return look.Tell(false, "stopping: what is not known yet stays so")
		}))
	} else {
		out = append(out, look.Act("r", "try all", func() tea.Cmd { return s.start() }))
		if s.at < len(s.board.Ways) {
			out = append(out, look.Act("o", "this one",
				func() tea.Cmd { return s.start(s.board.Ways[s.at].Target.Name) }))
		}
	}
	out = append(out, s.wayActions()...)
	return append(out,
		look.Act("e", "edit", s.edit),
		look.Let("p", "paste", func() { s.paste = newPaste() }),
		look.Act("x", "export", func() tea.Cmd {
			if len(s.board.Ways) == 0 {
				return look.Tell(true, "there is nothing to export")
			}
			s.input = look.NewInput("export the ways in to", "reach-"+time.Now().Format("20060102-150405")+".svg")
			return nil
		}),
	)
}

// wayActions are those of the way with the cursor.
func (s *Screen) wayActions() []look.Action {
	if len(s.board.Ways) == 0 {
		return nil
	}
	out := []look.Action{
		look.Moves("choose", &s.at, len(s.board.Ways), s.height/3, nil),
		look.Act("enter", "open", func() tea.Cmd {
			if s.board.Ways[s.at].Result == nil {
				return look.Tell(true, "it was never tried: o tries this way, r all")
			}
			s.open = newDetail(s.board.Ways[s.at].Target.Name)
			s.open.refresh(&s.board)
			return nil
		}),
	}
	watched, leaves := s.watched()
	if !watched {
		return append(out, look.Act("m", "stay in there", s.stayIn))
	}
	drop := func(how, did string) func() tea.Cmd { return func() tea.Cmd { return s.drop(how, did) } }
	out = append(
		out,
		look.Act("c", "cut the observer", drop("cut", "the observer's link is cut; it comes back by itself")),
		look.Act(
			"f",
			"freeze",
			drop("freeze", "nothing gets through to the observer any more; only its keep alive tells"),
		),
		look.Act("t", "throw out", drop("throw out", "the observer is thrown out; it comes back by itself")),
	)
	if leaves {
		out = append(out, look.Act("m", "leave", s.stayIn))
	}
	return out
}

func (s *Screen) start(names ...string) tea.Cmd {
	if err := s.bench.StartReach(names...); err != nil {
		return look.Tell(true, err.Error())
	}
	s.refresh()
	return nil
}

// edit opens the workspace's file at the way with the cursor; what was found out with the old
// settings is stale then.
func (s *Screen) edit() tea.Cmd {
	line := 0
	if s.at < len(s.board.Ways) {
		t := &s.board.Ways[s.at].Target
		if line = t.Line; t.Name == workbench.PastedName {
			return look.Tell(true, "what was pasted is not in the workspace: edit another way")
		}
	}
	cmd, err := s.bench.Editor("", line)
	if err != nil {
		return look.Tell(true, err.Error())
	}
	return tea.Exec(look.Program{Cmd: cmd}, func(err error) tea.Msg {
		if err != nil {
			return look.Notice{Text: "the editor ended with: " + err.Error(), Bad: true}
		}
		return look.Notice{
			Text: "edited: ways whose settings changed are stale until they are tried again; the other screens keep what was opened",
		}
	})
}

// watched tells whether a client of ours is, or tries to be, at the broker of the way with the
// cursor; leaves, that it can be told to leave.
func (s *Screen) watched() (watched, leaves bool) {
	for _, b := range s.bench.Brokers() {
		if b.Name == s.broker() {
			return true, b.Leaves
		}
	}
	return false, false
}

// stayIn lets a client of ours stay in at a broker that none watches, or ends that.
func (s *Screen) stayIn() tea.Cmd {
	broker, listener := s.broker(), ""
	if s.at < len(s.board.Ways) {
		_, listener, _ = strings.Cut(s.board.Ways[s.at].Target.Name, "/")
	}
	err, did := error(nil), "a client of ours stays in at "+broker+" by "+listener+" from now on"
	if watched, _ := s.watched(); watched {
		err, did = s.bench.Leave(broker), "left "+broker
	} else {
		err = s.bench.StayIn(broker, listener)
	}
	if err != nil {
		return look.Tell(true, err.Error())
	}
	return look.Tell(false, did)
}

func (s *Screen) drop(how, did string) tea.Cmd {
	broker := s.broker()
	if broker == "" || broker == workbench.PastedName {
		return look.Tell(true, "choose a way into a broker of the workspace first")
	}
	return func() tea.Msg {
		if err := s.bench.Drop(broker, how); err != nil {
			return look.Notice{Text: err.Error(), Bad: true}
		}
		return look.Notice{Text: did}
	}
}

// results are those of the ways that were tried.
func (s *Screen) results() (out []core.Result) {
	for i := range s.board.Ways {
		if r := s.board.Ways[i].Result; r != nil {
			out = append(out, *r)
		}
	}
	return out
}

// export writes what the ways in look like.
func (s *Screen) export() tea.Cmd {
	name := s.input.Value()
	d, err := report.ReachDrawing(s.bench.Workspace().Name, time.Now(), s.results(), s.stays)
	if err == nil {
		err = s.bench.Export(name, d)
	}
	if err != nil {
		s.input.Error = err.Error()
		return nil
	}
	s.input = nil
	return look.Tell(false, "written: "+name)
}
