package proof

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/history"
	core "hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
)

// comparing are the kept proofs, and what differs between those that were picked.
type comparing struct {
	list   []history.Entry
	err    error
	read   bool // the list has been read
	picked []int64
	docs   map[int64]*report.Document
	rows   []differing
	same   int // verdicts that do not differ
	cursor int // in the list
	first  int
	below  bool // the cursor is among what differs
	at     int
	top    int
	open   bool // what differs is opened: the evidence of each
	of     int  // which of the versions of it
	room   int
}

// mostPicked is how many proofs stand side by side.
const mostPicked = 4

// differing is a check whose verdicts differ, in the versions in which they do so in the same way.
type differing struct {
	name     string
	versions []string
	at       []report.SideResult // of the first of them
	course   report.Course       // of two proofs
}

// keptRead and proofRead are the ends of reading from the file of proofs.
type keptRead struct {
	list []history.Entry
	err  error
}

type proofRead struct {
	id  int64
	doc *report.Document
	err error
}

// compare opens the kept proofs.
func (s *Screen) compare() tea.Cmd {
	s.compared = &comparing{docs: map[int64]*report.Document{}}
	return s.readKept()
}

func (s *Screen) readKept() tea.Cmd {
	return func() tea.Msg {
		list, err := s.bench.KeptProofs()
		return keptRead{list, err}
	}
}

// took takes in what was read.
func (s *Screen) took(msg tea.Msg) tea.Cmd {
	c := s.compared
	if c == nil { // it was left before the file was read
		return nil
	}
	switch msg := msg.(type) {
	case keptRead:
		fresh := !c.read
		c.list, c.err, c.read = msg.list, msg.err, true
		c.picked = slices.DeleteFunc(c.picked, func(id int64) bool { return c.entry(id) == nil })
		if fresh {
			c.picked = c.begun(s.state.Series)
		}
	case proofRead:
		if msg.err != nil {
			c.picked = slices.DeleteFunc(c.picked, func(id int64) bool { return id == msg.id })
			c.weigh()
			return look.Tell(true, msg.err.Error())
		}
		c.docs[msg.id] = msg.doc
	default:
		return nil
	}
	c.weigh()
	return s.readPicked()
}

// begun are the proofs that are picked at first: those that were made one after the other, or else the latest that
// has one before it of the same listener, and that.
func (c *comparing) begun(series []int64) (out []int64) {
	if len(series) > 1 {
		return slices.Clone(series[max(0, len(series)-mostPicked):])
	}
	if len(c.list) < 2 {
		return nil
	}
	for i, now := range c.list {
		for _, before := range c.list[i+1:] {
			if before.Broker == now.Broker && before.Listener == now.Listener {
				return []int64{before.ID, now.ID}
			}
		}
	}
	return []int64{c.list[1].ID, c.list[0].ID}
}

func (c *comparing) entry(id int64) *history.Entry {
	i := slices.IndexFunc(c.list, func(e history.Entry) bool { return e.ID == id })
	if i < 0 {
		return nil
	}
	return &c.list[i]
}

// readPicked reads what was picked and is not there yet.
func (s *Screen) readPicked() tea.Cmd {
	var all []tea.Cmd
	for _, id := range s.compared.picked {
		if s.compared.docs[id] == nil {
			all = append(all, func() tea.Msg {
				d, err := s.bench.KeptProof(id)
				return proofRead{id, d, err}
			})
		}
	}
	return tea.Batch(all...)
}

// pick picks the proof at the cursor, or lets it go.
func (s *Screen) pick() tea.Cmd {
	c := s.compared
	if c.cursor >= len(c.list) {
		return nil
	}
	id := c.list[c.cursor].ID
	switch i := slices.Index(c.picked, id); {
	case i >= 0:
		c.picked = slices.Delete(c.picked, i, i+1)
	case len(c.picked) == mostPicked:
		return look.Tell(true, fmt.Sprintf("%d stand side by side: let one go first", mostPicked))
	default:
		c.picked = append(c.picked, id)
	}
	c.weigh()
	return s.readPicked()
}

// weigh finds out what differs between the picked proofs, the older first.
func (c *comparing) weigh() {
	slices.SortFunc(c.picked, func(a, b int64) int {
		x, y := c.entry(a), c.entry(b)
		return cmp.Or(x.Started.Compare(y.Started), cmp.Compare(a, b))
	})
	c.rows, c.same, c.at = nil, 0, 0
	docs := c.shown()
	if len(docs) < 2 {
		c.below, c.open = false, false
		return
	}
	courses := map[[2]string]report.Course{}
	if len(docs) == 2 {
		for _, x := range report.Compare(&docs[0], &docs[1]).Changes {
			courses[[2]string{x.Name, x.Version}] = x.Course
		}
	}
	kinds := map[string]int{}
	sides := report.SideBySide(docs)
	for _, d := range sides.Differences {
		course := courses[[2]string{d.Name, d.Version}]
		kind := d.Name + " " + string(course)
		for _, at := range d.At {
			kind += " " + at.Verdict
		}
		if i, known := kinds[kind]; known {
			c.rows[i].versions = append(c.rows[i].versions, d.Version)
			continue
		}
		kinds[kind] = len(c.rows)
		c.rows = append(c.rows, differing{d.Name, []string{d.Version}, d.At, course})
	}
	all := map[[2]string]bool{}
	for i := range docs {
		for _, k := range docs[i].Checks {
			all[[2]string{k.Name, k.Version}] = true
		}
	}
	c.same = len(all) - len(sides.Differences)
	// What differs comes before what is broken everywhere.
	slices.SortStableFunc(c.rows, func(a, b differing) int { return cmp.Compare(a.rank(), b.rank()) })
}

// rank orders what differs: worse, better, otherwise, and last what is broken everywhere.
func (d *differing) rank() int {
	switch {
	case d.course == report.Worse:
		return 0
	case d.course == report.Better:
		return 1
	case d.differs():
		return 2
	}
	return 3
}

func (d *differing) differs() bool {
	return d.course != "" ||
		slices.ContainsFunc(d.at, func(x report.SideResult) bool { return x.Verdict != d.at[0].Verdict })
}

// shown are the picked proofs that have been read; none until all have.
func (c *comparing) shown() (out []report.Document) {
	for _, id := range c.picked {
		if c.docs[id] == nil {
			return nil
		}
		out = append(out, *c.docs[id])
	}
	return out
}

// letter is what a picked proof is called; "" for one that is not picked.
func (c *comparing) letter(id int64) string {
	if i := slices.Index(c.picked, id); i >= 0 {
		return string(rune('A' + i))
	}
	return ""
}

// labels say in a word in what the picked proofs differ: the listener, the broker, or the time.
func (c *comparing) labels() (out []string) {
	differ := func(of func(*history.Entry) string) bool {
		all := map[string]bool{}
		for _, id := range c.picked {
			all[of(c.entry(id))] = true
		}
		return len(all) == len(c.picked)
	}
	of := func(e *history.Entry) string { return e.Started.Local().Format("15:04:05") }
	for _, try := range []func(*history.Entry) string{
		func(e *history.Entry) string { return e.Listener },
		func(e *history.Entry) string { return e.Broker },
		func(e *history.Entry) string { return e.Broker + "/" + e.Listener },
	} {
		if differ(try) {
			of = try
			break
		}
	}
	for _, id := range c.picked {
		out = append(out, c.letter(id)+" "+of(c.entry(id)))
	}
	return out
}

func (c *comparing) actions(s *Screen) []look.Action {
	switch {
	case c.open:
		n := len(c.rows[c.at].versions)
		out := []look.Action{look.Let("esc backspace", "back", func() { c.open = false })}
		if n > 1 {
			out = append(out, look.Keys("←→", "version", []string{"left", "h", "right", "l"}, func(k string) {
				by := 1
				if k == "left" || k == "h" {
					by = n - 1
				}
				c.of = (c.of + by) % n
			}))
		}
		return out
	case c.below:
		return []look.Action{
			look.Let("esc backspace", "to the proofs", func() { c.below = false }),
			look.Let("enter", "open both evidences", func() { c.open, c.of = true, 0 }),
			look.Moves("check", &c.at, len(c.rows), c.room, nil),
		}
	}
	out := []look.Action{look.Let("esc backspace", "back", func() { s.compared = nil })}
	if len(c.list) > 0 {
		out = append(out,
			look.Act("space", "pick, or let go", s.pick),
			look.Moves("proof", &c.cursor, len(c.list), 10, nil))
	}
	if len(c.rows) > 0 {
		out = append(out, look.Let("enter", "go through what differs", func() { c.below = true }))
	} else {
		out = append(out, look.CanNot("enter", "go through what differs", "nothing differs between what is picked"))
	}
	return out
}

func (c *comparing) draw(canvas look.Canvas) {
	t := canvas.Theme
	if c.open && c.at < len(c.rows) {
		c.drawBoth(canvas)
		return
	}
	switch {
	case !c.read:
		canvas.Text(1, 0, "reading the kept proofs …", t.Dim)
		return
	case len(c.list) == 0 && c.err == nil:
		canvas.Teach("No proof is kept yet",
			"Every proof and every run of trials is kept when it has come to its end.",
			"Here the last stands against the one before, or any up to four side by side.",
			"Go back with esc and run one with r.")
		return
	}
	canvas.Rule(0, "kept proofs", t.Strong)
	y := 1
	if c.err != nil {
		canvas.Text(1, y, look.Clip("! "+c.err.Error(), canvas.W-2), t.Broken)
		y++
	}
	height := min(len(c.list), max(4, canvas.H/4))
	c.drawList(canvas.Sub(0, y, canvas.W, height))
	y += height
	c.drawRows(canvas.Sub(0, y, canvas.W, max(0, canvas.H-y)))
}

func (c *comparing) drawList(canvas look.Canvas) {
	t := canvas.Theme
	c.first = look.Scroll(c.first, c.cursor, canvas.H, len(c.list))
	for y := 0; y < canvas.H && c.first+y < len(c.list); y++ {
		e := &c.list[c.first+y]
		st := t.Dim
		if letter := c.letter(e.ID); letter != "" {
			st = t.Text
			canvas.Text(2, y, letter, t.Ours)
		}
		when, name := e.Started.Local().Format("2006-01-02 15:04:05"), 26
		if canvas.W < 100 {
			when, name = e.Started.Local().Format("02 Jan 15:04"), 15
		}
		x := canvas.Text(5, y, when+"  ", st)
		x = canvas.Text(x, y, look.Pad(look.Middle(e.Broker+"/"+e.Listener, name), name)+"  ", st)
		canvas.Text(x, y, look.Clip(e.Summary, canvas.W-x), st)
		if c.first+y == c.cursor && !c.below {
			canvas.Paint(0, y, canvas.W, look.Style{Bg: t.Rail.Bg})
			canvas.Text(0, y, "▸", t.Ours)
		}
	}
	if more := len(c.list) - c.first - canvas.H; more > 0 {
		canvas.Right(canvas.W, canvas.H-1, fmt.Sprintf(" ↓ %d more", more), t.Ours)
	}
}

// head says what differs, in a line.
func (c *comparing) head() string {
	n := map[int]int{}
	for i := range c.rows {
		n[c.rows[i].rank()] += len(c.rows[i].versions)
	}
	var parts []string
	add := func(n int, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	add(n[0], "worse")
	add(n[1], "better")
	what := "otherwise"
	if len(c.picked) > 2 {
		what = "not the same"
	}
	add(n[2], what)
	add(n[3], "broken or undecided in each")
	add(c.same, "the same")
	return strings.Join(parts, ", ")
}

// drawRows draws what differs, a column for each proof, and what each saw of the check at the cursor.
func (c *comparing) drawRows(canvas look.Canvas) {
	t := canvas.Theme
	if len(c.picked) < 2 {
		canvas.Rule(0, "what differs", t.Strong)
		canvas.Text(
			1,
			1,
			look.Clip("Pick two to four with space: what differs between them stands here.", canvas.W-2),
			t.Warn,
		)
		return
	}
	canvas.Rule(0, "what differs: "+c.head(), t.Strong)
	if c.shown() == nil {
		canvas.Text(1, 1, "reading …", t.Dim)
		return
	}
	if len(c.rows) == 0 {
		canvas.Text(1, 1, "Nothing differs, and nothing is broken.", t.Kept)
		return
	}
	const nameAndVersions, widest, words = 36, 16, 13
	width := max(6, min(widest, (canvas.W-nameAndVersions)/len(c.picked)))
	at := canvas.W - width*len(c.picked) - 1
	nameWidth := min(28, max(12, at-16))
	canvas.Text(2, 1, "check", t.Dim)
	canvas.Text(nameWidth+2, 1, "MQTT", t.Dim)
	for i, label := range c.labels() {
		canvas.Text(at+i*width, 1, look.Middle(label, width-1), t.Ours)
	}
	foot := 1 + len(c.picked)
	c.room = max(1, canvas.H-2-foot)
	c.top = look.Scroll(c.top, c.at, c.room, len(c.rows))
	for y := 0; y < c.room && c.top+y < len(c.rows); y++ {
		r := &c.rows[c.top+y]
		st := t.Text
		if !r.differs() {
			st = t.Old
		}
		canvas.Text(2, 2+y, look.Middle(r.name, nameWidth-1), st)
		canvas.Text(nameWidth+2, 2+y, look.Clip(strings.Join(r.versions, " "), max(0, at-nameWidth-3)), t.Dim)
		for i, x := range r.at {
			text, st := "· not in it", t.Old
			if x.Verdict != "" {
				if text = report.Sign(core.Verdict(x.Verdict)); width >= words {
					text += " " + x.Verdict
				}
				st = verdictStyle(t, core.Verdict(x.Verdict))
			}
			if i == len(r.at)-1 {
				text += map[report.Course]string{report.Worse: " ↓", report.Better: " ↑"}[r.course]
			}
			canvas.Text(at+i*width, 2+y, look.Clip(text, width-1), st)
		}
		if c.top+y == c.at && c.below {
			canvas.Paint(0, 2+y, canvas.W, look.Style{Bg: t.Rail.Bg})
			canvas.Text(0, 2+y, "▸", t.Ours)
		}
	}
	if more := len(c.rows) - c.top - c.room; more > 0 {
		canvas.Text(nameWidth+2, 1+c.room, fmt.Sprintf(" ↓ %d more ", more), t.Ours)
	}
	y := canvas.H - foot
	r := &c.rows[min(c.at, len(c.rows)-1)]
	canvas.Rule(y, r.title(0), t.Ours)
	for i, x := range r.at {
		c.said(canvas, y+1+i, i, x)
	}
}

// title names the check in one of its versions; trials have none.
func (d *differing) title(of int) string {
	if d.versions[of] == "" {
		return d.name
	}
	return d.name + " in MQTT " + d.versions[of]
}

// said is what a proof saw, on a line.
func (c *comparing) said(canvas look.Canvas, y, i int, x report.SideResult) {
	t := canvas.Theme
	canvas.Text(1, y, string(rune('A'+i)), t.Ours)
	if x.Verdict == "" {
		canvas.Text(4, y, "not part of it", t.Old)
		return
	}
	v := core.Verdict(x.Verdict)
	canvas.Text(4, y, look.Clip(report.Sign(v)+" "+x.Verdict+": "+x.Seen, canvas.W-5), verdictStyle(t, v))
}

// record finds what a proof says of a check; nil where it is not part of it.
func record(d *report.Document, name, version string) *report.CheckRecord {
	i := slices.IndexFunc(d.Checks, func(x report.CheckRecord) bool { return x.Name == name && x.Version == version })
	if i < 0 {
		return nil
	}
	return &d.Checks[i]
}

// drawBoth draws what each proof expected and saw, and the packets that decided, side by side.
func (c *comparing) drawBoth(canvas look.Canvas) {
	t := canvas.Theme
	r := &c.rows[c.at]
	version := r.versions[min(c.of, len(r.versions)-1)]
	x := canvas.Text(1, 0, r.title(min(c.of, len(r.versions)-1))+"  ", t.Strong)
	if len(r.versions) > 1 {
		canvas.Text(x, 0, "the same in "+strings.Join(r.versions, ", "), t.Dim)
	}
	docs := c.shown()
	width := canvas.W / len(docs)
	labels := c.labels()
	for i := range docs {
		col := canvas.Sub(i*width, 1, width-1, canvas.H-1)
		e := c.entry(c.picked[i])
		col.Rule(0, look.Middle(labels[i], col.W-4), t.Ours)
		col.Text(
			1,
			1,
			look.Clip(e.Broker+"/"+e.Listener+", "+e.Started.Local().Format("2006-01-02 15:04:05"), col.W-2),
			t.Dim,
		)
		k := record(&docs[i], r.name, version)
		if k == nil {
			col.Text(1, 3, look.Clip("This proof has no such check.", col.W-2), t.Old)
			continue
		}
		v := core.Verdict(k.Verdict)
		col.Text(1, 2, report.Sign(v)+" "+k.Verdict, verdictStyle(t, v))
		drawRecord(col.Sub(1, 3, col.W-2, col.H-3), k)
	}
}

// drawRecord draws what a check expected and saw, and the packets that it rests on.
func drawRecord(c look.Canvas, k *report.CheckRecord) {
	t := c.Theme
	y := 0
	put := func(title, text string, st look.Style) {
		if text == "" || y >= c.H {
			return
		}
		c.Text(0, y, title, t.Dim)
		y++
		for _, l := range look.Wrap(text, c.W-2) {
			if y < c.H {
				c.Text(2, y, l, st)
			}
			y++
		}
	}
	put("expected", k.Expected, t.Text)
	put("seen", k.Seen, verdictStyle(t, core.Verdict(k.Verdict)))
	put("note", strings.Join(k.Notes, "; "), t.Warn)
	put("standard", k.Standard, t.Dim)
	if y >= c.H {
		return
	}
	if len(k.Decided) == 0 {
		put("packets", "none decided", t.Old)
		return
	}
	c.Text(0, y, "packets that decided", t.Dim)
	y++
	for i, d := range k.Decided {
		if y >= c.H-1 && i < len(k.Decided)-1 {
			c.Text(2, y, fmt.Sprintf("and %d more in the kept proof", len(k.Decided)-i), t.Warn)
			return
		}
		arrow := map[string]string{"sent": "→", "received": "←"}[d.Way]
		c.Text(2, y, fmt.Sprintf("%8.3f s", d.AtMS/1000), t.Dim)
		const most = 2 // lines of bytes
		y = wrapped(c, y, fmt.Sprintf("%s %s %s", d.Client, cmp.Or(arrow, "·"), withoutRun(d.Packet)), c.H, t.Text)
		y = wrapped(c, y, d.Raw, min(c.H, y+most), t.Old)
	}
}

// wrapped writes text behind the times, up to a line, and returns the line behind it.
func wrapped(c look.Canvas, y int, text string, most int, st look.Style) int {
	const at = 14
	for _, l := range look.Wrap(text, c.W-at) {
		if l != "" && y < most {
			c.Text(at, y, l, st)
			y++
		}
	}
	return y
}

// runTopic is the beginning of a topic that is a check's own.
var runTopic = regexp.MustCompile(core.TopicRoot + `/[a-z0-9]+/[^/ ]+/`)

// withoutRun leaves out of topics what differs from run to run, and tells nothing.
func withoutRun(text string) string { return runTopic.ReplaceAllString(text, "…/") }
