package contract

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/contract"
	"hodstone/internal/payload"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// compose is a clause that is being written: a sentence, what it would do, and how it would stand in the file.
type compose struct {
	input   *look.Area
	began   *workbench.Proposal // what it began with; nil for nothing
	stray   string              // the topic that it was drafted of; "" for none
	now     *workbench.Proposal // what is typed; nil where that is no clause yet
	weighed workbench.Weighing
	err     error
	options []string
	from    int
	whole   bool   // they are words, and no levels
	text    string // that these are of
}

// topics are all that were seen.
func (s *Screen) topics() (out []string) {
	for _, c := range s.snap.Cells {
		if !c.Last.At.IsZero() {
			out = append(out, c.Topic)
		}
	}
	for i := range s.snap.Strays {
		out = append(out, s.snap.Strays[i].Topic)
	}
	return out
}

// begin opens a clause to be written.
func (s *Screen) begin(text string, p *workbench.Proposal, stray string) {
	s.compose = &compose{input: look.NewArea(text, false), began: p, stray: stray}
	s.compose.weigh(s)
}

// add begins a new clause.
func (s *Screen) add() tea.Cmd {
	s.begin("", nil, "")
	return nil
}

// change begins with the clause at the cursor.
func (s *Screen) change(cl *core.Clause) tea.Cmd {
	tree := cl.Tree()
	for i, m := range tree { // as it is written, not with all that it refers to
		if m.Key == "payload" {
			tree[i].Value = cl.Payload.Written
		}
	}
	s.begin(write(cl.Name, tree), &workbench.Proposal{Name: cl.Name, Tree: tree}, "")
	return nil
}

// draft begins with what was heard on a stray topic.
func (s *Screen) draft(topic string) tea.Cmd {
	p, err := s.bench.Draft(topic)
	if err != nil {
		return look.Tell(true, topic+": "+err.Error())
	}
	s.begin(write(p.Name, p.Tree), p, topic)
	return nil
}

// weigh looks at what was typed.
func (c *compose) weigh(s *Screen) {
	text := strings.Join(strings.Fields(c.input.Value()), " ")
	if strings.HasSuffix(c.input.Value(), " ") {
		text += " " // a word is done
	}
	if c.now, c.err = read(text, c.began); c.err == nil {
		if c.began != nil && c.now.Name == c.began.Name {
			c.now.Notes = c.began.Notes
		}
		c.weighed = s.bench.Weigh(c.now)
		c.err = c.weighed.Err
	}
	c.options, c.from, c.whole = complete(text, s.topics(), s.bench.Workspace().Contract)
	c.text = text
}

// actions are those of a clause that is being written; all other keys are text.
func (c *compose) actions(s *Screen) []look.Action {
	enter := look.Act("enter", "write it into the file", func() tea.Cmd { return c.adopt(s) })
	if c.err != nil || c.now == nil {
		enter = look.CanNot("enter", "write it into the file", "it is no clause yet: what is missing stands below")
	}
	out := []look.Action{enter}
	if len(c.options) > 0 {
		out = append(out, look.Let("tab", "complete", func() { c.complete(s) }))
	}
	leave := "leave it"
	if c.stray != "" {
		leave = "refuse it"
	}
	out = append(out, look.Let("esc", leave, func() { s.compose = nil }))
	if next := s.nextStray(c.stray); c.stray != "" && next != "" {
		out = append(out, look.Act("ctrl+n", "the next stray", func() tea.Cmd { return s.draft(next) }))
	}
	return out
}

// nextStray is the one behind a stray, "" for none.
func (s *Screen) nextStray(topic string) string {
	for i := range s.snap.Strays {
		if s.snap.Strays[i].Topic == topic && i+1 < len(s.snap.Strays) {
			return s.snap.Strays[i+1].Topic
		}
	}
	return ""
}

// complete goes on with what the options have in common, or with the only one.
func (c *compose) complete(s *Screen) {
	common := c.options[0]
	for _, o := range c.options[1:] {
		n := 0
		for n < len(common) && n < len(o) && common[n] == o[n] {
			n++
		}
		common = common[:n]
	}
	if len(c.options) == 1 && c.whole {
		common += " "
	}
	if head := c.text[:c.from]; len(head)+len(common) > len(c.text) {
		c.input = look.NewArea(head+common, false)
		c.weigh(s)
	}
}

// adopt writes the clause.
func (c *compose) adopt(s *Screen) tea.Cmd {
	if err := s.bench.Adopt(c.now); err != nil {
		c.err = err
		return look.Tell(true, "not written: "+err.Error())
	}
	name, strays := c.now.Name, c.weighed.Strays
	s.compose = nil
	s.refresh()
	for i := range s.rows {
		if s.rows[i].clause != nil && s.rows[i].clause.Name == name {
			s.at = i
		}
	}
	text := name + " is in the contract; u takes it back"
	if strays > 0 {
		text += "; " + look.Plural(strays, "topic") + " is no stray any longer"
		if strays > 1 {
			text = strings.Replace(text, " is no stray", " are no strays", 1)
		}
	}
	return look.Tell(false, text)
}

// undo takes the last change back.
func (s *Screen) undo() tea.Cmd {
	was, err := s.bench.Undo()
	switch {
	case err != nil:
		return look.Tell(true, err.Error())
	case !was:
		return look.Tell(true, "nothing was changed here")
	}
	s.refresh()
	s.step(0)
	return look.Tell(false, "the last change of the file is taken back")
}

// draw shows the sentence, what it does, and how it would stand in the file.
func (c *compose) draw(s *Screen, at look.Canvas) {
	t := at.Theme
	title := "a new clause"
	if c.stray != "" {
		title = "a clause drafted of " + c.stray + " and what is like it"
	} else if c.began != nil {
		title = "the clause " + c.began.Name
	}
	at.Rule(0, title, t.Strong)
	at.Text(1, 1, look.Clip("NAME: TOPIC from PARTY to PARTY, PARTY at QoS 1, retained, every 5s ± 2s, on changes, as json, note …", at.W-2), t.Dim)
	rows := min(5, look.Width(c.text)/max(10, at.W-3)+1)
	at.Text(0, 2, "▸", t.Ours)
	c.input.Draw(at.Sub(2, 2, at.W-3, rows+1))
	y := rows + 2
	if len(c.options) > 0 {
		x := at.Text(1, y, "tab  ", t.Ours)
		at.Text(x, y, look.Clip(strings.Join(c.options, "   "), at.W-x-1), t.Dim)
	}
	y += 1
	line := func(sign, text string, st look.Style) {
		for k, l := range look.Wrap(text, at.W-4) {
			if k == 0 {
				at.Text(1, y, sign, st)
			}
			at.Text(3, y, l, st)
			y++
		}
	}
	if c.err != nil {
		line("…", c.err.Error(), t.Warn)
	} else {
		w := &c.weighed
		if len(w.Topics) == 0 {
			line("·", "no topic that was seen would be covered", t.Warn)
		} else {
			text := fmt.Sprintf("covers %s that %s seen", look.Plural(len(w.Topics), "topic"), map[bool]string{true: "was", false: "were"}[len(w.Topics) == 1])
			if w.Strays > 0 {
				text += fmt.Sprintf(", %d of them strays", w.Strays)
			}
			shown := w.Topics
			if len(shown) > 4 {
				shown = append(append([]string{}, shown[:3]...), fmt.Sprintf("… %d more", len(shown)-3))
			}
			line("✓", text+": "+strings.Join(shown, ", "), t.Kept)
		}
		if w.Overlap != "" {
			line("✗", "overlaps "+w.Overlap+": one topic would have two clauses", t.Broken)
		}
		switch {
		case w.Tried == 0:
		case w.Pass == w.Tried:
			line("✓", fmt.Sprintf("all of the last %s pass", look.Plural(w.Tried, "payload")), t.Kept)
		default:
			line("✗", fmt.Sprintf("%d of the last %d payloads pass; the first that does not is on %s", w.Pass, w.Tried, w.Fails), t.Broken)
		}
	}
	if c.now == nil {
		return
	}
	y++
	at.Rule(y, "as it would stand in the file", t.Dim)
	y++
	for l := range strings.SplitSeq(strings.TrimRight(c.now.Text(), "\n"), "\n") {
		if y >= at.H {
			break
		}
		text, note, noted := strings.Cut(l, "# ")
		x := at.Text(1, y, look.Clip(text, at.W-2), t.Text)
		if noted {
			st := t.Dim
			if strings.HasPrefix(note, "?") {
				st = t.Warn
			}
			at.Text(x, y, look.Clip("# "+note, at.W-x-1), st)
		}
		y++
	}
	for _, m := range c.now.Parameters {
		if y < at.H {
			x := at.Text(1, y, "and a new parameter  ", t.Dim)
			at.Text(x, y, look.Clip(m.Key+": "+core.Compact(m.Value), at.W-x-1), t.Text)
			y++
		}
	}
	c.drawHeard(at, y+1)
}

// drawHeard shows what was heard on the topics that the clause would cover.
func (c *compose) drawHeard(at look.Canvas, y int) {
	t := at.Theme
	if c.err != nil || len(c.weighed.Heard) == 0 || y+1 >= at.H {
		return
	}
	at.Rule(y, "heard last on the topics that it covers", t.Dim)
	wide := 0
	for _, h := range c.weighed.Heard {
		wide = max(wide, look.Width(h.Topic))
	}
	wide = min(wide, at.W/2)
	for _, h := range c.weighed.Heard {
		if y++; y >= at.H {
			return
		}
		sign, st := "✓", t.Kept
		if h.Breach != nil {
			sign, st = "✗", t.Broken
		}
		at.Text(1, y, sign, st)
		x := at.Text(3, y, look.Pad(look.Middle(h.Topic, wide), wide)+"  ", t.Text)
		x = at.Text(x, y, look.Clip(payload.Show(h.Payload, 60), at.W-x-1)+"  ", t.Dim)
		if b := h.Breach; b != nil {
			at.Text(x, y, look.Clip("expected "+b.Expected+", saw "+b.Seen, at.W-x-1), t.Broken)
		}
	}
}
