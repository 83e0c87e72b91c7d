package contract

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

// The limits of a judge. They keep a site that speaks of ever new things from eating the memory.
const (
	maxHistory  = 120     // values kept per cell: a line of a minute or two
	maxBreaches = 2_000   // kept in all
	maxStrays   = 500     // topics kept
	maxCells    = 100_000 // instances kept
)

// Message is what the judge is shown.
type Message struct {
	At      time.Time
	Seq     uint64 // of the trace's event, for evidence
	Topic   string
	Payload []byte
	// QoS as received, under a subscription that was granted Granted.
	QoS, Granted packet.QoS
	// Retain is the publisher's flag where RetainKnown.
	Retain, RetainKnown bool
	// Copy marks a stored message that greeted a subscription: it says nothing of
	// cadence or QoS.
	Copy bool
	// Unsure tells of a copy that it may be a live message: a subscription that keeps the retain flag was just made.
	Unsure bool
	// Sent is how the publisher sent it, where that is on the trace; nil where it is not. What a broker made of it on
	// the way is no breach of the publisher's.
	Sent *Envelope
	// Cleared tells that the publisher is known to have set the retain flag, though the receiver cannot
	// see it: an empty payload clears what was stored then.
	Cleared bool
	// Sender is the publishing client, or "" where that is unknown; Party is what it plays, "" where that
	// is unknown.
	Sender, Party string
	// Eye is the broker whose observer got it.
	Eye string
	// Version is the observer's, and Properties what it got beside the payload.
	Version    packet.Version
	Properties packet.Properties
}

// Envelope is what surrounds a payload.
type Envelope struct {
	QoS        packet.QoS
	Retain     bool
	Version    packet.Version // 0 where it is not known
	Properties packet.Properties
}

// clears tells whether the message takes back a stored one (§3.3.1.3) and is no statement of the clause.
// Where the flag cannot be seen it may be one, if the clause lets its messages be stored.
func (m *Message) clears(cl *Clause) bool {
	switch {
	case len(m.Payload) > 0 || m.Copy:
		return false
	case m.RetainKnown:
		return m.Retain
	}
	return m.Cleared || m.Sender == "" && (cl.Retain == nil || *cl.Retain)
}

// Breach is one observed message or silence that breaks a clause.
type Breach struct {
	At       time.Time
	Clause   string
	Topic    string
	Instance string // the parameters' values, joined by "/"
	// Party is whose session breaks its terms; then there is no clause, or no one topic of it.
	Party    string
	Rule     RuleName
	Keyword  string // of the schema, for [RuleSchema]
	Where    string // in the payload: a JSON Pointer, or "byte N"
	Expected string
	Seen     string
	Sender   string // "" where unknown, and for a silence
	Seq      uint64 // the message's event; 0 for a silence
	Payload  []byte
}

// String says it on one line.
func (b Breach) String() string {
	rule := string(b.Rule)
	if b.Keyword != "" {
		rule += " " + b.Keyword
	}
	where := ""
	if b.Where != "" {
		where = " at " + b.Where
	}
	what := b.Topic + " breaks " + b.Clause
	if b.Clause == "" {
		what = b.Sender + " breaks what is agreed with " + b.Party
	}
	return fmt.Sprintf("%s, %s%s: expected %s, saw %s", what, rule, where, b.Expected, b.Seen)
}

// Judgement is what the judge says of one message.
type Judgement struct {
	Clause   *Clause // nil for a stray
	Instance string
	Breaches []Breach
	Near     string // for a stray: what it may have been meant for
}

// CellState is how an instance of a clause stands.
type CellState string

// The states of a cell.
const (
	CellUnseen CellState = "unseen" // nothing has come yet, and nothing is overdue
	CellKept   CellState = "kept"
	CellBroken CellState = "broken" // the last message, or the lack of an answer, broke the clause
	CellSilent CellState = "silent" // a message is overdue
)

// Sample is a payload at a time.
type Sample struct {
	At      time.Time
	payload []byte
	codec   payload.Codec
}

// Value is the payload, decoded; nil where it cannot be.
func (s *Sample) Value() any {
	v, _ := s.codec.Decode(s.payload)
	return v
}

// Bytes is the payload as it came.
func (s *Sample) Bytes() []byte { return s.payload }

// Cell is a clause at one instance of its parameters. Those that [Judge.Cells] returns are never changed.
type Cell struct {
	Clause   *Clause
	Instance string
	Topic    string
	State    CellState
	Last     Message // zero before the first
	Count    int     // live messages
	Broken   int     // breaches in all
	Breach   *Breach // the latest
	History  []Sample

	eye       *eye     // where it was heard last; nil before
	judged    []byte   // the payload that decodable and found are of
	decodable bool     // it is of its format
	found     []Breach // what the payload alone breaks
	shown     *Cell    // as it was last returned; nil where it has changed since
}

// Value is the last message's payload, decoded; nil where it cannot be.
func (c *Cell) Value() any {
	if !c.decodable {
		return nil
	}
	v, _ := c.Clause.Payload.Code().Decode(c.judged)
	return v
}

// Stray is a topic that no clause covers.
type Stray struct {
	Topic string
	Near  string
	Count int
	Last  Message
}

// Judge is the driver of the rules: it finds the clause and the cell that a message belongs to, hands the
// facts to the rules, and keeps what they find. It knows no single rule. Not safe for concurrent use.
type Judge struct {
	c        *Contract
	rules    []running
	cells    map[string]*Cell // by clause and instance
	places   map[string]*Cell // the same by topic, as they are heard
	placed   *Cell            // the one of them that was asked for last
	order    []*Cell
	strays   map[string]*Stray
	strayOrd []*Stray
	unkept   int // messages on strays beyond the limit
	breaches []Breach
	total    int // breaches in all
	last     int // bytes of payloads that were last on their cells
	history  int // bytes of payloads in the cells' histories

	followed map[string]bool            // parties whose sessions have something to keep
	met      map[string]map[string]bool // clients whose own packets were seen, by party

	present present // the message that is judged

	excused func(rule RuleName, cl *Clause, topic string, at time.Time) bool // nil for none

	eyes       map[string]*eye
	eye        *eye     // that was asked for last
	names      []string // of the eyes, in the order in which they began
	everywhere eye      // holds the deadlines of cells that were heard nowhere yet
}

// present is the memory for judging one message after another.
type present struct {
	message Message
	pass    Pass
	payload decoded
	found   []Breach
}

// running is a rule at work.
type running struct {
	*Rule
	look func(*Pass)
}

// NewJudge returns a judge by the rules. Nothing is due before an observer sees ([Judge.Sees]). The
// instances that the parameters list are expected to speak from then on.
func NewJudge(c *Contract, rules []*Rule) *Judge {
	j := &Judge{
		c:      c,
		cells:  map[string]*Cell{},
		places: map[string]*Cell{},
		strays: map[string]*Stray{},
		eyes:   map[string]*eye{},
	}
	j.followed, j.met = c.follows(), map[string]map[string]bool{}
	for _, r := range rules {
		j.rules = append(j.rules, running{r, r.Start(c)})
	}
	for _, cl := range c.Clauses {
		for _, values := range j.instances(cl.Topic.params) {
			j.cell(cl, values)
		}
	}
	return j
}

// instances lists the combinations of the parameters' listed values; none when a
// parameter has no list.
func (j *Judge) instances(params []string) [][]string {
	out := [][]string{nil}
	for _, p := range params {
		var next [][]string
		for _, head := range out {
			for _, v := range j.c.Parameters[p].Values {
				next = append(next, append(slices.Clone(head), v))
			}
		}
		if out = next; len(out) > maxCells {
			return nil // they become known as they speak
		}
	}
	return out
}

func (j *Judge) cell(cl *Clause, values []string) *Cell {
	instance := strings.Join(values, "/")
	k := cl.Name + "\x00" + instance
	cell := j.cells[k]
	if cell == nil {
		m := map[string]string{}
		for i, p := range cl.Topic.params {
			m[p] = values[i]
		}
		name, _ := cl.Topic.Topic(m)
		cell = &Cell{Clause: cl, Instance: instance, Topic: name, State: CellUnseen}
		if len(j.order) < maxCells {
			j.cells[k] = cell
			j.order = append(j.order, cell)
		}
	}
	return cell
}

// place is the cell of a topic; nil where no clause covers it.
func (j *Judge) place(topic string) *Cell {
	if cell := j.placed; cell != nil && cell.Topic == topic {
		return cell
	}
	if cell := j.places[topic]; cell != nil {
		j.placed = cell
		return cell
	}
	cl, values := j.c.Find(topic)
	if cl == nil {
		return nil
	}
	cell := j.cell(cl, values)
	if len(j.places) < len(j.order) { // there are no more than are kept
		j.places[strings.Clone(topic)] = cell // the packet is not held by it
	}
	return cell
}

// Message judges one message and takes it into account. That it was seen is proof that nothing else came
// before it: what was due by then is missed.
func (j *Judge) Message(m Message) Judgement {
	j.passed(m.Eye, m.At, false)
	cell := j.place(m.Topic)
	if cell == nil {
		return j.stray(m)
	}
	cl := cell.Clause
	cell.shown = nil
	out := Judgement{Clause: cl, Instance: cell.Instance}
	if m.clears(cl) {
		cell.judged, cell.decodable = nil, false
		j.hold(cell, &m)
		return out
	}
	if j.eye != nil { // that of m.Eye, since it was asked for above
		cell.eye = j.eye
	}
	x := &j.present
	x.message, x.payload, x.found = m, decoded{}, nil
	x.pass = Pass{Fact: FactMessage, At: m.At, Clause: cl, Cell: cell, Message: &x.message, payload: &x.payload, found: &x.found}
	// Much of what devices say they have said before: then the verdict is known.
	alike := cell.judged != nil && bytes.Equal(cell.judged, m.Payload)
	j.look(&x.pass, alike)
	out.Breaches = x.found
	whole := j.hold(cell, &x.message)
	if m.Copy {
		// A stored copy says how things stood once: it ends no silence and mends no breach.
		if cell.State == CellUnseen {
			cell.State = CellKept
		}
	} else {
		cell.State = CellKept
		cell.Count++
	}
	if whole && cell.decodable {
		j.remember(cell, Sample{m.At, x.message.Payload, cl.Payload.Code()})
	}
	for i := range out.Breaches {
		j.broken(cell, out.Breaches[i])
	}
	return out
}

// What the judge keeps of payloads, in bytes: of one, of all that were last on their cells, and of
// their histories. Beyond it, less is kept of each, and lines over time are shorter.
const (
	keptPayload = 16 << 10
	keptLittle  = 256
	keptLast    = 64 << 20
	keptHistory = 64 << 20
)

// hold makes the message the cell's last. It tells whether its payload is kept whole: one that is not is
// judged anew when it comes again, and is shown as its beginning.
func (j *Judge) hold(cell *Cell, m *Message) (whole bool) {
	j.last -= len(cell.Last.Payload)
	most := keptPayload
	if j.last > keptLast {
		most = keptLittle
	}
	if whole = len(m.Payload) <= most; !whole {
		m.Payload, cell.judged, cell.decodable = payload.Keep(m.Payload, most), nil, false
	}
	j.last += len(m.Payload)
	cell.Last = *m
	return whole
}

// remember adds to the cell's line over time.
func (j *Judge) remember(cell *Cell, s Sample) {
	cell.History = append(cell.History, s)
	j.history += len(s.payload)
	for len(cell.History) > maxHistory || j.history > keptHistory && len(cell.History) > 1 {
		j.history -= len(cell.History[0].payload)
		cell.History = cell.History[1:]
	}
}

// look lets the rules look at a fact. alike tells that the payload was judged before.
func (j *Judge) look(p *Pass, alike bool) {
	p.judge = j
	if p.found == nil {
		p.found = new([]Breach)
	}
	if p.Fact == FactMessage && alike {
		for _, b := range p.Cell.found {
			p.rule = &Rule{Name: b.Rule}
			p.Breach(b)
		}
	}
	for i := range j.rules {
		r := &j.rules[i]
		if r.Payload && (p.Fact != FactMessage || alike) {
			continue
		}
		p.rule = r.Rule
		r.look(p)
	}
	if p.Fact != FactMessage || alike {
		return
	}
	cell := p.Cell
	cell.judged, cell.found = p.Message.Payload, nil
	_, err, _ := p.Value()
	cell.decodable = err == nil
	for _, b := range *p.found {
		if slices.ContainsFunc(j.rules, func(r running) bool { return r.Payload && r.Name == b.Rule }) {
			cell.found = append(cell.found, b)
		}
	}
}

// Examine returns what a payload alone breaks of a clause, by those of the rules that look at payloads.
func Examine(c *Contract, rules []*Rule, cl *Clause, b []byte) (found []Breach) {
	p := Pass{
		Fact:    FactMessage,
		Clause:  cl,
		Cell:    &Cell{Clause: cl},
		Message: &Message{Payload: b},
		payload: &decoded{},
		found:   &found,
	}
	for _, r := range rules {
		if r.Payload {
			p.rule = r
			r.Start(c)(&p)
		}
	}
	return found
}

func (j *Judge) stray(m Message) Judgement {
	s := j.strays[m.Topic]
	if s == nil {
		if len(j.strays) >= maxStrays {
			j.unkept++ // to look what each was meant for would cost too much
			return Judgement{}
		}
		s = &Stray{Topic: m.Topic, Near: j.c.Near(m.Topic)}
		j.strays[m.Topic] = s
		j.strayOrd = append(j.strayOrd, s)
	}
	s.Count++
	m.Payload = payload.Keep(m.Payload, keptPayload)
	s.Last = m
	return Judgement{Near: s.Near}
}

func (j *Judge) broken(cell *Cell, b Breach) {
	cell.shown = nil
	cell.State = CellBroken
	if b.Rule == RuleSilence {
		cell.State = CellSilent
	}
	cell.Broken++
	cell.Breach = &b
	j.count(b)
}

// count keeps a breach.
func (j *Judge) count(b Breach) {
	j.total++
	if j.breaches = append(j.breaches, b); len(j.breaches) > maxBreaches {
		j.breaches = j.breaches[len(j.breaches)-maxBreaches/2:]
	}
}

// Cells returns all cells in the order in which they became known. What has not changed since the last
// call is shared with it.
func (j *Judge) Cells() []*Cell {
	out := make([]*Cell, len(j.order))
	for i, c := range j.order {
		if c.shown == nil {
			shown := *c
			c.shown = &shown
		}
		out[i] = c.shown
	}
	return out
}

// Strays returns the stray topics in the order in which they were first seen; see [Judge.Unkept].
func (j *Judge) Strays() []Stray {
	out := make([]Stray, len(j.strayOrd))
	for i, s := range j.strayOrd {
		out[i] = *s
	}
	return out
}

// Breaches returns the latest breaches, oldest first, and how many there were in all.
func (j *Judge) Breaches() (latest []Breach, total int) { return slices.Clone(j.breaches), j.total }

// Unkept is how many messages came on strays beyond those that are kept.
func (j *Judge) Unkept() int { return j.unkept }
