// Package contract is the screen of the contract: a sheet of clauses by instances with
// their live state, strays and breaches under it; a cell opened shows the payload's
// fields against the last message.
package contract

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/contract"
	"hodstone/internal/contract/lint"
	"hodstone/internal/draw"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// Screen is the contract screen.
type Screen struct {
	bench *workbench.Bench
	snap  workbench.Snapshot
	rows  []row
	at    int // row with the cursor
	col   int
	first int
	taken time.Time // when what was seen was taken in last
	open  *detail

	checked *workspace.Workspace            // what the linter looked at last, or looks at
	found   *atomic.Pointer[[]lint.Finding] // what it finds there that nobody accepted, when it is done; its own for each look
	finds   []lint.Finding                  // what it found last

	compose *compose    // a clause that is being written
	filter  string      // of names and topics; "" for all
	asking  *look.Input // for the filter
	saving  *look.Input // for the name of a drawing
	unwell  bool        // only what is not well
	folded  bool        // instances are counted in one column
	left    int         // the first instance that is drawn
}

// row is a line of the sheet that the cursor can be on.
type row struct {
	clause *core.Clause
	cells  []*core.Cell
	stray  *core.Stray
	breach *core.Breach
	find   *lint.Finding
	headed bool   // the group's heading names its instances
	title  string // a heading: the cursor passes over it
	note   string
}

// New returns the screen.
func New(b *workbench.Bench) *Screen {
	s := &Screen{bench: b}
	s.refresh()
	s.step(0)
	return s
}

// more marks a count beyond which there are others.
func more(unkept int) string {
	if unkept > 0 {
		return " +"
	}
	return ""
}

// Title is the screen's name on the rail.
func (s *Screen) Title() string { return "contract" }

// Typing tells whether keys are text.
func (s *Screen) Typing() bool { return s.compose != nil || s.asking != nil || s.saving != nil }

// Rail returns the live state for the rail.
func (s *Screen) Rail(t *look.Theme) []look.RailLine {
	lines := []look.RailLine{{Text: look.Plural(len(s.bench.Workspace().Contract.Clauses), "clause"), Style: t.Dim}}
	if s.snap.Total > 0 {
		lines = append(lines, look.RailLine{Text: "✗ " + look.Plural(s.snap.Total, "breach"), Style: t.Broken})
	}
	if n := len(s.snap.Strays); n > 0 {
		lines = append(lines, look.RailLine{Text: "? " + look.Plural(n, "stray") + more(s.snap.Unkept), Style: t.Warn})
	}
	if n := len(s.findings()); n > 0 && len(lines) < 3 {
		lines = append(lines, look.RailLine{Text: "! " + look.Plural(n, "finding"), Style: t.Warn})
	}
	for _, x := range s.snap.Sights {
		if !x.Open && x.Ever {
			lines = append(
				lines[:1:1],
				append(
					[]look.RailLine{{Text: "◌ blind " + look.Age(s.snap.At.Sub(x.Since)), Style: t.Warn}},
					lines[1:]...)...)
			break
		}
	}
	return lines
}

// lint lets the linter look at a contract that it has not looked at yet, in the background.
func (s *Screen) lint() {
	w := s.bench.Workspace()
	if w == s.checked {
		return
	}
	found := &atomic.Pointer[[]lint.Finding]{}
	s.checked, s.found = w, found
	go func() {
		open := slices.DeleteFunc(w.Findings(), func(f lint.Finding) bool { return f.Accepted != "" })
		found.Store(&open)
	}()
}

func (s *Screen) findings() []lint.Finding {
	if s.found != nil {
		if f := s.found.Load(); f != nil {
			s.finds = *f
		}
	}
	return s.finds
}

// maxBreachRows is how many of the latest breaches the sheet lists; all are counted.
const maxBreachRows = 40

// refresh takes in what was seen since.
func (s *Screen) refresh() {
	kept := ""
	if s.at < len(s.rows) {
		kept = s.rows[s.at].id()
	}
	s.snap = s.bench.Snapshot()
	s.lint()
	// By their names: an edit of other parts of the file makes new clauses of what is judged as before.
	cells := map[string][]*core.Cell{}
	for _, c := range s.snap.Cells {
		cells[c.Clause.Name] = append(cells[c.Clause.Name], c)
	}
	s.rows = s.rows[:0]
	c := s.bench.Workspace().Contract
	parties := slices.Clone(c.Parties)
	if slices.ContainsFunc(c.Clauses, func(cl *core.Clause) bool { return cl.From == "" }) {
		parties = append(parties, core.Party{Note: "nobody is named who publishes these"})
	}
	for _, p := range parties {
		titled := false
		var heads []string
		from := p.Name
		for _, cl := range c.Clauses {
			if cl.From != from || !s.shows(cl, cells[cl.Name]) {
				continue
			}
			if !titled {
				if p.Name == "" {
					p.Name = "?"
				}
				s.rows = append(s.rows, row{title: p.Name, note: s.partyNote(&p)})
				titled, heads = true, cl.Topic.Parameters()
			}
			s.rows = append(
				s.rows,
				row{clause: cl, cells: cells[cl.Name], headed: slices.Equal(heads, cl.Topic.Parameters())},
			)
		}
	}
	note := "topics that no clause covers"
	if n := s.snap.Unkept; n > 0 {
		note += fmt.Sprintf("; %s on further ones, which are not listed", look.Plural(n, "message"))
	}
	s.rows = append(s.rows, row{title: "strays", note: note})
	for i := range s.snap.Strays {
		if s.fits(s.snap.Strays[i].Topic) {
			s.rows = append(s.rows, row{stray: &s.snap.Strays[i]})
		}
	}
	if len(s.snap.Strays) == 0 {
		s.rows = append(s.rows, row{note: "none so far"})
	}
	s.rows = append(s.rows, row{title: "breaches", note: fmt.Sprintf("%d in all, the latest first", s.snap.Total)})
	shown := s.snap.Breaches
	for i := len(shown) - 1; i >= max(0, len(shown)-maxBreachRows); i-- {
		if s.fits(shown[i].Topic + " " + shown[i].Clause + " " + shown[i].Sender) {
			s.rows = append(s.rows, row{breach: &shown[i]})
		}
	}
	if len(shown) == 0 {
		s.rows = append(s.rows, row{note: "none so far"})
	}
	if list := s.findings(); len(list) > 0 {
		s.rows = append(s.rows, row{title: "findings", note: "what is sound in the contract, and will cause trouble; accepted: in the file lets one stay"})
		for i := range list {
			if s.fits(list[i].On + " " + list[i].Message) {
				s.rows = append(s.rows, row{find: &list[i]})
			}
		}
	}
	for i := range s.rows { // the cursor stays on what it was on, wherever that is now
		if kept != "" && s.rows[i].id() == kept {
			s.at = i
		}
	}
	if s.open != nil {
		s.open.refresh(s)
	}
}

// partyNote says what a party is, and whether its terms are judged: of whom no own packet is seen, they are not.
func (s *Screen) partyNote(p *core.Party) string {
	if p.Terms == nil {
		return p.Note
	}
	seen := "terms not seen"
	if n := s.snap.Met[p.Name]; n > 0 {
		seen = "terms of " + look.Plural(n, "session")
	}
	return strings.TrimSuffix(seen+"; "+p.Note, "; ")
}

// fits tells whether the filter lets a text pass.
func (s *Screen) fits(text string) bool {
	return strings.Contains(strings.ToLower(text), strings.ToLower(s.filter))
}

// shows tells whether a clause has its row.
func (s *Screen) shows(cl *core.Clause, cells []*core.Cell) bool {
	if !s.fits(cl.Name + " " + cl.Topic.String() + " " + cl.From) {
		return false
	}
	return !s.unwell || slices.ContainsFunc(cells, func(c *core.Cell) bool {
		return c.State == core.CellBroken || c.State == core.CellSilent
	})
}

// id tells a row from all others, also after the rows have moved; "" for headings.
func (r *row) id() string {
	switch {
	case r.clause != nil:
		return "clause " + r.clause.Name
	case r.stray != nil:
		return "stray " + r.stray.Topic
	case r.find != nil:
		return "finding " + r.find.Lint.Name + r.find.Message
	case r.breach != nil:
		return fmt.Sprint("breach ", r.breach.At.UnixNano(), r.breach.Topic, r.breach.Rule, r.breach.Where)
	}
	return ""
}

func (r *row) selectable() bool {
	return r.clause != nil || r.stray != nil || r.breach != nil || r.find != nil
}

// step moves the cursor by rows over what cannot be selected.
func (s *Screen) step(by int) {
	dir := 1
	if by < 0 {
		dir = -1
	}
	to := max(0, min(s.at+by, len(s.rows)-1))
	for i := to; i >= 0 && i < len(s.rows); i += dir {
		if s.rows[i].selectable() {
			s.at = i
			return
		}
	}
	for i := to; i >= 0 && i < len(s.rows); i -= dir {
		if s.rows[i].selectable() {
			s.at = i
			return
		}
	}
}

// hiddenEvery is how often the rail's lines are made anew while the screen is not shown.
const hiddenEvery = time.Second

// Update takes a message.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case look.Tick:
		if msg.Shown || msg.At.Sub(s.taken) >= hiddenEvery {
			s.taken = msg.At
			s.refresh()
		}
	case tea.KeyPressMsg:
		if cmd, taken := look.Press(s.Actions(), msg); taken || !s.Typing() {
			return cmd
		}
		s.typed(msg)
	case tea.PasteMsg:
		s.typed(msg)
	}
	return nil
}

// typed gives what was typed or pasted to whatever takes it.
func (s *Screen) typed(msg tea.Msg) {
	switch {
	case s.compose != nil:
		s.compose.input.Update(msg)
		s.compose.weigh(s)
	case s.saving != nil:
		s.saving.Update(msg)
	case s.asking != nil:
		s.asking.Update(msg)
		s.filter = s.asking.Value()
		s.refresh()
		s.step(0)
	}
}

// Actions is what can be done here and now.
func (s *Screen) Actions() []look.Action {
	switch {
	case s.compose != nil:
		return s.compose.actions(s)
	case s.asking != nil:
		return []look.Action{
			look.Let("enter", "keep the filter", func() { s.asking = nil }),
			look.Let("esc", "show all", func() {
				s.asking, s.filter = nil, ""
				s.refresh()
			}),
		}
	case s.saving != nil:
		return []look.Action{look.Act("enter", "write the drawing", s.export), look.Let("esc", "leave it", func() { s.saving = nil })}
	case s.open != nil:
		out := append(s.open.actions(s), s.edits(s.open.clause)...)
		out = append(out, s.speaks(s.open.clause, s.open.topic())...)
		return append(out, look.Act("x", "export the line over time", s.askExport))
	}
	if s.at >= len(s.rows) {
		s.step(0)
	}
	out := []look.Action{look.Keys(
		"↑↓←→", "move", []string{
			"up", "k", "down", "j", "left", "h", "right", "l", "pgup", "pgdown", "home", "g", "end", "G",
		}, s.move,
	)}
	if s.at < len(s.rows) && s.rows[s.at].stray != nil {
		out = append(out, look.Act("enter w", "show on the wire", s.wire))
	} else if s.at < len(s.rows) && s.rows[s.at].find != nil {
		f := s.rows[s.at].find
		out = append(out, look.Act("enter e", "edit the file there", func() tea.Cmd { return look.Edit(s.bench.Editor(f.File, f.Line)) }))
	} else {
		out = append(out, look.Act("enter", "open", s.enter), look.Act("w", "show on the wire", s.wire))
	}
	var at *core.Clause
	topic := ""
	if s.at < len(s.rows) {
		at = s.rows[s.at].clause
		if cells := s.rows[s.at].cells; at != nil && len(cells) > 0 {
			topic = cells[min(s.col, len(cells)-1)].Topic
		}
		if x := s.rows[s.at].stray; x != nil {
			out = append(out, look.Act("d", "draft a clause", func() tea.Cmd { return s.draft(x.Topic) }))
		}
	}
	out = append(append(out, s.edits(at)...), s.speaks(at, topic)...)
	out = append(out,
		look.Let("/", "filter", func() { s.asking = look.NewInput("filter", s.filter) }),
		look.Let("o", map[bool]string{false: "only what is not well", true: "all"}[s.unwell], func() {
			s.unwell = !s.unwell
			s.refresh()
			s.step(0)
		}),
		look.Let("f", map[bool]string{false: "count instances", true: "show instances"}[s.folded], func() { s.folded = !s.folded }),
		look.Act("x", "export what is shown", s.askExport),
	)
	if s.filter != "" {
		out = append(out, look.Let("esc", "show all", func() {
			s.filter = ""
			s.refresh()
		}))
	}
	if len(s.snap.Breaches) > 0 {
		out = append(out, look.Let("b", "latest breach", func() {
			latest := func() int { return slices.IndexFunc(s.rows, func(r row) bool { return r.breach != nil }) }
			if latest() < 0 { // the filter hides it
				s.filter = ""
				s.refresh()
			}
			s.at = max(0, latest())
		}))
	}
	return out
}

// edits are the ways to change the contract.
func (s *Screen) edits(at *core.Clause) (out []look.Action) {
	if s.bench.Record != nil {
		return nil
	}
	out = append(out, look.Act("a", "add a clause", s.add))
	if at != nil {
		out = append(out, look.Act("c", "change it", func() tea.Cmd { return s.change(at) }),
			look.Act("e", "edit the file", func() tea.Cmd { return look.Edit(s.bench.Editor(at.File, at.Line)) }))
	}
	if s.bench.CanUndo() {
		out = append(out, look.Act("u", "undo", s.undo))
	}
	return out
}

// speaks are the ways to send a clause's message by hand, and to have its value beside its devices.
func (s *Screen) speaks(at *core.Clause, topic string) (out []look.Action) {
	if s.bench.Record != nil || at == nil {
		return nil
	}
	of := at.Topic.Values(topic)
	out = append(out, look.Act("s", "send by hand", func() tea.Cmd {
		return look.Composing(s.bench.Begin(at, of, ""))
	}))
	if topic == "" {
		return out
	}
	pinned := s.bench.Pinned(at.Name, of)
	return append(out, look.Act("p", map[bool]string{false: "pin beside its devices", true: "unpin"}[pinned], func() tea.Cmd {
		if err := s.bench.Pin(at.Name, of, !pinned); err != nil {
			return look.Tell(true, err.Error())
		}
		if pinned {
			return look.Tell(false, "no longer a readout")
		}
		return look.Tell(false, "a readout now: it stands beside its devices (4)")
	}))
}

func (s *Screen) move(key string) {
	switch key {
	case "up", "k":
		s.step(-1)
	case "down", "j":
		s.step(1)
	case "pgup":
		s.step(-10)
	case "pgdown":
		s.step(10)
	case "home", "g":
		s.at = 0
		s.step(0)
	case "end", "G":
		s.at = len(s.rows) - 1
		s.step(0)
	case "left", "h":
		s.col = max(0, s.col-1)
	case "right", "l":
		if n := len(s.rows[s.at].cells); s.col < n-1 {
			s.col++
		}
	}
}

// wire shows what the cursor is on where it went over.
func (s *Screen) wire() tea.Cmd {
	if seq := s.seq(); seq > 0 {
		return func() tea.Msg { return look.ShowEvent{Seq: seq} }
	}
	return nil
}

func (s *Screen) enter() tea.Cmd {
	r := &s.rows[s.at]
	switch {
	case r.clause != nil && len(r.cells) == 0:
		return look.Tell(false, r.clause.Name+": nothing has come yet, and its parameters list no values")
	case r.clause != nil:
		c := r.cells[min(s.col, len(r.cells)-1)]
		s.open = &detail{clause: c.Clause, instance: c.Instance}
	case r.breach != nil && r.breach.Clause == "":
		return s.wire() // of a session: what it sent shows why
	case r.breach != nil:
		s.open = &detail{
			clause:   s.bench.Workspace().Contract.Clause(r.breach.Clause),
			instance: r.breach.Instance,
			breach:   r.breach,
		}
	}
	if s.open != nil {
		s.open.refresh(s)
	}
	return nil
}

// seq is the event behind what the cursor is on.
func (s *Screen) seq() uint64 {
	switch r := &s.rows[s.at]; {
	case r.stray != nil:
		return r.stray.Last.Seq
	case r.breach != nil:
		return r.breach.Seq
	case r.find != nil:
		return 0
	case len(r.cells) > 0:
		return r.cells[min(s.col, len(r.cells)-1)].Last.Seq
	}
	return 0
}

// askExport asks for the name of a drawing.
func (s *Screen) askExport() tea.Cmd {
	what := "contract-"
	if s.open != nil {
		what = "history-"
	}
	s.saving = look.NewInput("export what is shown to", what+time.Now().Format("20060102-150405")+".svg")
	return nil
}

// export writes the sheet, or the line of a cell over time.
func (s *Screen) export() tea.Cmd {
	w := s.bench.Workspace()
	title := w.Name
	if title == "" {
		title = w.File
	}
	var d *draw.Surface
	var err error
	if s.open != nil && s.open.cell != nil {
		d, err = report.HistoryDrawing(title, time.Now(), s.open.cell)
	} else {
		var cells []*core.Cell
		var strays []core.Stray
		for i := range s.rows {
			cells = append(cells, s.rows[i].cells...)
			if s.rows[i].stray != nil {
				strays = append(strays, *s.rows[i].stray)
			}
		}
		d, err = report.SheetDrawing(title, time.Now(), cells, strays)
	}
	name := s.saving.Value()
	if err == nil {
		err = s.bench.Export(name, d)
	}
	if err != nil {
		s.saving.Error = err.Error()
		return nil
	}
	s.saving = nil
	return look.Tell(false, name+" is written")
}
