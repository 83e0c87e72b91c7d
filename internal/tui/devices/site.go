package devices

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
	"hodstone/internal/tui/say"
	"hodstone/internal/workspace"
)

// row is what the cursor stands on: a device, or a kind of which there are many.
type row struct {
	kind string
	dev  int         // in the list; -1 for a kind
	of   *kindCounts // of a kind
}

// kindCounts sums the devices of a kind up.
type kindCounts struct {
	all            int
	phases         map[device.Phase]int
	sent, received int
	rates          [2]float64
	odd            []int // in the list
	party, broker  string
}

// Devices of a kind are folded where there are more than manyOfAKind of it and more than many in all; of those that are
// odd so many are shown.
const (
	many        = 24
	manyOfAKind = 8
	oddShown    = 6
)

// rateOver is how long messages are counted for a rate.
const rateOver = 2 * time.Second

// counted are a device's counts at a time, and the rates since the ones before.
type counted struct {
	at             time.Time
	sent, received int
	rates          [2]float64
}

// odd tells that a device is not simply at work.
func odd(st *device.State) bool {
	return gone(st) || st.Phase != device.On && st.Phase != device.Real || len(st.Faults) > 0
}

// gone tells that a real device was seen, and is not connected.
func gone(st *device.State) bool { return st.Phase == device.Real && st.Real != nil && !st.Real.Here }

// sinceWords say for how long a device is as it is; of a real one, as far as it is seen, whether it is there.
func sinceWords(st *device.State) string {
	switch {
	case st.Phase != device.Real || st.Real == nil:
		return look.Age(time.Since(st.Since))
	case st.Real.Here:
		return "here " + look.Age(time.Since(st.Real.Since))
	}
	return "gone " + look.Age(time.Since(st.Real.Since))
}

// lay makes the rows: of a kind of which there are many, a row for all of it and the odd ones, unless it is unfolded.
func (s *Screen) lay(now time.Time) {
	var chosen string
	if s.at < len(s.rows) {
		chosen = s.nameOf(s.rows[s.at])
	}
	kinds := map[string]string{}
	for _, d := range s.bench.Workspace().Devices {
		for n := range max(1, d.Count) {
			kinds[workspace.DeviceName(d, n+1)] = d.Name
		}
	}
	s.rates(now)
	var rows []row
	for i := 0; i < len(s.list); {
		kind := kinds[s.list[i].Name]
		end := i
		of := &kindCounts{phases: map[device.Phase]int{}, party: s.list[i].Party, broker: s.list[i].Broker}
		for end < len(s.list) && kinds[s.list[end].Name] == kind {
			st := &s.list[end]
			of.all++
			of.phases[st.Phase]++
			of.sent, of.received = of.sent+st.Sent, of.received+st.Received
			r := s.counts[st.Name].rates
			of.rates[0], of.rates[1] = of.rates[0]+r[0], of.rates[1]+r[1]
			if odd(st) {
				of.odd = append(of.odd, end)
			}
			end++
		}
		folds := of.all > manyOfAKind && len(s.list) > many
		if folds {
			rows = append(rows, row{kind, -1, of})
		}
		switch {
		case !folds || s.unfolded[kind]: // the odd ones first
			if folds {
				for _, d := range of.odd {
					rows = append(rows, row{kind, d, nil})
				}
			}
			for d := i; d < end; d++ {
				if !folds || !slices.Contains(of.odd, d) {
					rows = append(rows, row{kind, d, nil})
				}
			}
		default:
			for _, d := range of.odd[:min(oddShown, len(of.odd))] {
				rows = append(rows, row{kind, d, nil})
			}
		}
		i = end
	}
	s.rows = rows
	if i := slices.IndexFunc(rows, func(r row) bool { return s.nameOf(r) == chosen }); i >= 0 && chosen != "" {
		s.at = i
	}
	s.at = max(0, min(s.at, len(s.rows)-1))
}

// nameOf is what a row is called.
func (s *Screen) nameOf(r row) string {
	if r.dev < 0 {
		return "×" + r.kind
	}
	if r.dev < len(s.list) {
		return s.list[r.dev].Name
	}
	return ""
}

// rates works out how many messages a second each device sends and gets.
func (s *Screen) rates(now time.Time) {
	if s.counts == nil {
		s.counts = map[string]counted{}
	}
	for i := range s.list {
		st := &s.list[i]
		c, known := s.counts[st.Name]
		passed := now.Sub(c.at)
		if known && passed < rateOver {
			continue
		}
		n := counted{at: now, sent: st.Sent, received: st.Received}
		if known && st.Sent >= c.sent && st.Received >= c.received {
			n.rates = [2]float64{
				float64(st.Sent-c.sent) / passed.Seconds(), float64(st.Received-c.received) / passed.Seconds(),
			}
		}
		s.counts[st.Name] = n
	}
}

// chosen is the device that the cursor stands on; nil on a kind.
func (s *Screen) chosen() *device.State {
	if s.at < len(s.rows) && s.rows[s.at].dev >= 0 && s.rows[s.at].dev < len(s.list) {
		return &s.list[s.rows[s.at].dev]
	}
	return nil
}

// kindWords say how many of a kind are in which phase.
func kindWords(of *kindCounts) string {
	var parts []string
	for _, p := range []device.Phase{device.On, device.Real, device.Connecting, device.Frozen, device.Away, device.Off} {
		if n := of.phases[p]; n > 0 {
			parts = append(parts, fmt.Sprintf("%s %d %s", signs[p], n, p))
		}
	}
	return strings.Join(parts, "  ")
}

// figure is the site as it stands.
func (s *Screen) figure() *report.Site {
	w := s.bench.Workspace()
	f := &report.Site{Caption: []string{w.Name, "as it stood at " + time.Now().Format("2006-01-02 15:04:05")}}
	used := map[string]bool{}
	beside := s.beside()
	for _, r := range s.rows {
		m := report.SiteMember{Kind: r.kind}
		if r.dev < 0 {
			m.Name, m.Count, m.Party, m.Broker, m.Words = r.kind, r.of.all, r.of.party, r.of.broker, kindWords(r.of)
			m.Sent, m.Received = r.of.rates[0], r.of.rates[1]
			m.Phase = device.On
			if r.of.phases[device.On]+r.of.phases[device.Real] == 0 {
				m.Phase = device.Away
			}
			m.Odd = len(r.of.odd) > 0
		} else {
			st := &s.list[r.dev]
			rate := s.counts[st.Name].rates
			m.Name, m.Party, m.Broker, m.Phase = st.Name, st.Party, st.Broker, st.Phase
			m.Words, m.Odd, m.Gone = sinceWords(st), odd(st), gone(st)
			m.Sent, m.Received = rate[0], rate[1]
			m.Beside = beside[st.Name]
		}
		m.Right = s.consumes(w, m.Party)
		used[m.Broker] = true
		f.Members = append(f.Members, m)
	}
	for _, b := range s.bench.Brokers() {
		if !used[b.Name] {
			continue
		}
		out := report.SiteBroker{Name: b.Name, In: b.In}
		if b.StandIn {
			out.Words = append(out.Words, "stand-in")
		}
		switch {
		case !b.In:
			out.Words = append(out.Words, "our observer is not in")
		case b.Behind > 0:
			out.Words, out.Behind = append(out.Words, "observer "+look.Duration(b.Behind)+" behind"), true
		case b.Ping > 0:
			out.Words = append(out.Words, "answers in "+look.Duration(b.Ping))
		}
		if len(b.Faults) > 0 {
			out.Words = append(out.Words, look.Plural(len(b.Faults), "fault")+" on")
		}
		delete(used, b.Name)
		f.Brokers = append(f.Brokers, out)
	}
	for _, name := range slices.Sorted(maps.Keys(used)) { // nobody observes these
		f.Brokers = append(f.Brokers, report.SiteBroker{Name: name})
	}
	return f
}

// consumes tells that a party takes more clauses than it publishes, so that it stands right of its broker.
func (s *Screen) consumes(w *workspace.Workspace, party string) bool {
	publishes, takes := 0, 0
	for _, cl := range w.Contract.Clauses {
		if cl.From == party {
			publishes++
		}
		if slices.Contains(cl.To, party) {
			takes++
		}
	}
	return takes > publishes
}

// beside are the rows beside devices: their readouts, and the messages that are ready for them.
func (s *Screen) beside() map[string][]string {
	out := map[string][]string{}
	for _, r := range s.bench.Readouts() {
		text, sign := "nothing yet", "▫"
		if r.Cell != nil && !r.Cell.Last.At.IsZero() {
			text = look.Tame(look.Headline(r.Cell, 24)) + ", " + look.Age(time.Since(r.Cell.Last.At))
			if r.Cell.State == contract.CellBroken || r.Cell.State == contract.CellSilent {
				sign = "✗"
			}
		}
		if name := s.deviceOf(r.Clause, r.Of, true); name != "" {
			out[name] = append(out[name], fmt.Sprintf("%s %s %s", sign, r.Clause.Name, text))
		}
	}
	for _, m := range s.bench.Workspace().Messages {
		cl := s.bench.Workspace().Contract.Clause(m.Clause)
		if cl == nil {
			continue
		}
		if name := s.deviceOf(cl, m.Parameters, false); name != "" {
			out[name] = append(out[name], "» "+strings.TrimSpace(m.Key+" "+m.Name))
		}
	}
	for _, r := range s.bench.Sendings() {
		if !r.Running || r.Every == 0 {
			continue
		}
		text := fmt.Sprintf("↻ %s every %s, %d sent", look.Middle(r.Topic, 26), r.Every, r.Sent)
		if r.Failed > 0 {
			text += fmt.Sprintf(", %d not", r.Failed)
		}
		by := r.By
		if by == "" && len(s.list) > 0 {
			by = s.list[0].Name
		}
		out[by] = append(out[by], text)
	}
	return out
}

// deviceOf is the device that a clause's message comes from, or goes to, with these parameters.
func (s *Screen) deviceOf(cl *contract.Clause, of map[string]string, from bool) string {
	fits := func(st *device.State) bool {
		for name, v := range of {
			if st.Params[name] != "" && st.Params[name] != v {
				return false
			}
		}
		return true
	}
	for _, publisher := range []bool{from, !from} {
		for i := range s.list {
			st := &s.list[i]
			is := slices.Contains(cl.To, st.Party)
			if publisher {
				is = st.Party == cl.From
			}
			if is && fits(st) {
				return st.Name
			}
		}
	}
	return ""
}

// boxWidth is how wide a broker's box is, its frame with it.
func boxWidth(c look.Canvas) int { return max(12, min(24, c.W/6)) }

// drawSite draws the brokers in the middle, and the devices left and right of them with their links.
func (s *Screen) drawSite(c look.Canvas, f *report.Site) {
	t := c.Theme
	members, brokers, rows := f.Arrange()
	s.top = look.Scroll(s.top, members[s.at].Row, c.H, rows)
	if end := members[s.at].Row + members[s.at].Rows; end-s.top > c.H {
		s.top = end - c.H
	}
	box := boxWidth(c)
	link := max(4, min(16, c.W/10))
	block := (c.W - box - 2*link) / 2
	at := func(row int) (y int, seen bool) { return row - s.top, row >= s.top && row < s.top+c.H }
	x := block + link
	for i, b := range f.Brokers {
		s.drawBroker(c, x, box, &b, brokers[i], at)
	}
	for i := range f.Members {
		m := &f.Members[i]
		y, seen := at(members[i].Row)
		from, edge := 0, block
		if m.Right {
			from, edge = x+box+link, x+box
		}
		if seen {
			s.drawMember(c.Sub(from, y, block, 1), m, i == s.at)
			s.drawLink(c, y, edge, link, m)
		}
		for k, text := range m.Beside {
			if y, seen := at(members[i].Row + 1 + k); seen {
				st := t.Ours
				if strings.HasPrefix(text, "✗") {
					st = t.Broken
				}
				if sign, rest, ok := strings.Cut(text, " "); ok && block < 36 { // the device beside it says the rest
					name, value, _ := strings.Cut(rest, " ")
					text = sign + " " + name[strings.LastIndex(name, ".")+1:] + " " + value
				}
				c.Text(from+4, y, look.Clip(text, block-5), st)
			}
		}
	}
	if rows > c.H {
		c.Right(c.W-1, c.H-1, fmt.Sprintf(" %d of %d rows ", c.H, rows), t.Dim)
	}
}

func (s *Screen) drawBroker(
	c look.Canvas,
	x, w int,
	b *report.SiteBroker,
	p report.Place,
	at func(int) (int, bool),
) {
	t := c.Theme
	st := t.Kept
	if !b.In {
		st = t.Broken
	}
	for k := range p.Rows {
		y, seen := at(p.Row + k)
		if !seen {
			continue
		}
		switch k {
		case 0:
			c.Text(x, y, "┌"+strings.Repeat("─", w-2)+"┐", st)
		case p.Rows - 1:
			c.Text(x, y, "└"+strings.Repeat("─", w-2)+"┘", st)
		default:
			c.Text(x, y, "│"+strings.Repeat(" ", w-2)+"│", st)
		}
	}
	for k, text := range append([]string{b.Name}, b.Words...) {
		if y, seen := at(p.Row + 1 + k); seen && k+2 < max(p.Rows, 3) {
			st := t.Dim
			switch {
			case k == 0:
				st = t.Strong
			case b.Behind:
				st = t.Warn
			}
			text = look.Clip(text, w-2)
			c.Text(x+(w-look.Width(text))/2, y, text, st)
		}
	}
}

func (s *Screen) drawMember(c look.Canvas, m *report.SiteMember, chosen bool) {
	t := c.Theme
	st := phaseStyle(t, m.Link())
	name := m.Name
	words := fmt.Sprintf("%s %s %s", signs[m.Phase], m.Phase, m.Words)
	if m.Count > 0 {
		name, words = fmt.Sprintf("%s ×%d", m.Name, m.Count), m.Words
	}
	wide := 14
	if c.W < 28 {
		wide = c.W / 3
	}
	c.Text(2, 0, look.Clip(name, wide), t.Text)
	if m.Odd && m.Count == 0 && m.Phase == device.On {
		c.Text(wide+1, 0, "!", t.Warn)
	}
	c.Text(wide+3, 0, look.Clip(words, c.W-wide-4), st)
	if m.Count == 0 && c.W > 38 {
		c.Right(c.W-1, 0, strings.TrimSpace(rate("↑", m.Sent)+" "+rate("↓", m.Received)), t.Dim)
	}
	if chosen {
		c.Paint(0, 0, c.W, t.Select)
		c.Text(0, 0, "▸", t.Select)
	}
}

func rate(sign string, r float64) string {
	if r == 0 {
		return ""
	}
	if r >= 10 {
		return fmt.Sprintf("%s%.0f/s", sign, r)
	}
	return fmt.Sprintf("%s%.1f/s", sign, r)
}

// drawLink draws a device's link: what it is made of tells how it stands, arrows which way messages go.
func (s *Screen) drawLink(c look.Canvas, y, x, w int, m *report.SiteMember) {
	t := c.Theme
	line, st, middle := "─", t.Line, ""
	switch m.Link() {
	case device.Off:
		return
	case device.Frozen:
		st, middle = t.Ours, "❄"
	case device.Away:
		line, st, middle = "╌", t.Broken, "╳"
	case device.Connecting:
		line, st = "╌", t.Warn
	}
	c.Text(x, y, strings.Repeat(line, w), st)
	if middle != "" {
		c.Text(x+w/2, y, middle, st)
		return
	}
	// What is sent runs towards the broker, what is received away from it.
	out, in := "▶", "◀"
	if m.Right {
		out, in = in, out
	}
	step := s.step % w
	place := func(sign string) int {
		if sign == "▶" {
			return step
		}
		return w - 1 - step
	}
	if m.Sent > 0 {
		c.Text(x+place(out), y, out, t.Kept)
	}
	if m.Received > 0 {
		c.Text(x+(place(in)+w/2)%w, y, in, t.Ours)
	}
}

// across moves the cursor to the other side of the brokers, to the row that is nearest.
func (s *Screen) across(right bool) {
	f := s.figure()
	if s.at >= len(f.Members) || f.Members[s.at].Right == right {
		return
	}
	members, _, _ := f.Arrange()
	best, found := 0, -1
	for i := range f.Members {
		d := members[i].Row - members[s.at].Row
		if d = max(d, -d); f.Members[i].Right == right && (found < 0 || d < best) {
			best, found = d, i
		}
	}
	if found >= 0 {
		s.at = found
	}
}

// updown moves the cursor on its side of the brokers.
func (s *Screen) updown(key string) {
	f := s.figure()
	if s.at >= len(f.Members) {
		return
	}
	var side []int
	for i := range f.Members {
		if f.Members[i].Right == f.Members[s.at].Right {
			side = append(side, i)
		}
	}
	at := slices.Index(side, s.at)
	switch {
	case (key == "down" || key == "j") && at == len(side)-1: // from the foot of one side to the head of the other
		s.at = min(s.at+1, len(s.rows)-1)
		return
	case (key == "up" || key == "k") && at == 0:
		s.at = max(s.at-1, 0)
		return
	}
	look.Move(key, &at, len(side), 10)
	s.at = side[at]
}

// askExport asks where the drawing is to be written.
func (s *Screen) askExport() {
	s.ask = &question{
		title: "export the drawing of the site, as .svg or .pdf",
		input: look.NewInput("to", "site-"+time.Now().Format("20060102-150405")+".svg"),
		done: func(s *Screen, name string) (*question, tea.Cmd, error) {
			d, err := s.figure().Draw()
			if err == nil {
				err = s.bench.Export(name, d)
			}
			if err != nil {
				return nil, nil, err
			}
			return nil, look.Tell(false, name+" is written"), nil
		},
	}
}

// ready are the keys of the messages that stand ready.
func (s *Screen) ready() (out []look.Action) {
	for _, m := range s.bench.Workspace().Messages {
		if m.Key != "" {
			out = append(out, look.Act(strings.ToLower(m.Key), m.Name, func() tea.Cmd { return s.sendReady(m) }))
		}
	}
	return out
}

func (s *Screen) sendReady(m *workspace.Prepared) tea.Cmd {
	text, err := s.bench.Prepared(m)
	if err != nil {
		return look.Tell(true, err.Error())
	}
	id, err := s.bench.Say(text)
	if err != nil {
		return look.Tell(true, m.Name+": "+err.Error())
	}
	return say.Await(s.bench, id)
}

// askReady lists the messages that stand ready, to be sent, or changed before.
func (s *Screen) askReady() {
	var choices []string
	all := s.bench.Workspace().Messages
	for _, m := range all {
		choices = append(choices, strings.TrimSpace(m.Name+"  "+m.Key))
	}
	s.ask = &question{
		title:   "which message is to be sent? it can be changed before",
		choices: choices,
		done: func(s *Screen, picked string) (*question, tea.Cmd, error) {
			i := slices.Index(choices, picked)
			if i < 0 {
				return nil, nil, fmt.Errorf("no message stands ready: write them under messages: in the workspace")
			}
			text, err := s.bench.Prepared(all[i])
			if err != nil {
				return nil, nil, err
			}
			return nil, look.Composing(text), nil
		},
	}
}
