package contract

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

// Rule names the part of a clause that was broken.
type Rule string

// The rules.
const (
	RuleFormat  Rule = "format" // the bytes are not of the payload's format
	RuleSchema  Rule = "schema" // the JSON value breaks a keyword of the schema
	RuleValue   Rule = "values" // the text is none of those listed
	RuleRange   Rule = "range"  // the number is outside
	RuleQoS     Rule = "qos"    // published at another QoS
	RuleRetain  Rule = "retain" // published with another retain flag
	RuleSilence Rule = "every"  // no message when one was due
	RuleAnswer  Rule = "answer" // no answer to a command in time
	maxHistory       = 120      // values kept per cell: a line of a minute or two
	maxBreaches      = 2_000    // kept in all
	maxStrays        = 500      // topics kept
	maxPending       = 1_000    // commands waiting for an answer
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
	// Sender is the publishing client, or "" where that is unknown.
	Sender string
}

// Breach is one observed message or silence that breaks a clause.
type Breach struct {
	At       time.Time
	Clause   string
	Topic    string
	Instance string // the parameters' values, joined by "/"
	Rule     Rule
	Keyword  string // of the schema, for [RuleSchema]
	Where    string // in the payload: a JSON Pointer, or "byte N"
	Expected string
	Seen     string
	Sender   string // "" where unknown
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
	return fmt.Sprintf("%s breaks %s, %s%s: expected %s, saw %s", b.Topic, b.Clause, rule, where, b.Expected, b.Seen)
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
	format  payload.Format
}

// Value is the payload, decoded; nil where it cannot be.
func (s *Sample) Value() any {
	v, _ := payload.Decode(s.format, s.payload)
	return v
}

// Cell is a clause at one instance of its parameters.
type Cell struct {
	Clause   *Clause
	Instance string
	Topic    string
	State    CellState
	Last     Message // zero before the first
	Value    any     // Last's payload, decoded; nil where it could not be
	Count    int     // live messages
	Broken   int     // breaches in all
	Breach   *Breach // the latest
	History  []Sample
	due      time.Time

	judged    []byte // the payload that decodable and found are of
	decodable bool
	found     []Breach
	valueOf   []byte // the payload that Value is of
}

// Stray is a topic that no clause covers.
type Stray struct {
	Topic string
	Near  string
	Count int
	Last  Message
}

// Judge holds messages against a contract. Not safe for concurrent use.
type Judge struct {
	c        *Contract
	cells    map[string]*Cell // by clause and instance
	order    []*Cell
	strays   map[string]*Stray
	strayOrd []*Stray
	breaches []Breach
	total    int // breaches in all
	pending  []pending
}

// pending is a command whose answer is due.
type pending struct {
	clause, answer *Clause
	instance       string
	values         map[string]string
	at, deadline   time.Time
	m              Message
}

// NewJudge returns a judge that expects messages from now on. The instances that the
// parameters list are expected to speak from the start.
func NewJudge(c *Contract, now time.Time) *Judge {
	j := &Judge{c: c, cells: map[string]*Cell{}, strays: map[string]*Stray{}}
	for _, cl := range c.Clauses {
		for _, values := range j.instances(cl.Topic.params) {
			cell := j.cell(cl, values)
			if cl.Every.Period > 0 {
				cell.due = now.Add(cl.Every.Period + cl.Every.Tolerance)
			}
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
		out = next
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
		j.cells[k] = cell
		j.order = append(j.order, cell)
	}
	return cell
}

// Message judges one message and takes it into account.
func (j *Judge) Message(m Message) Judgement {
	cl, values := j.c.Find(m.Topic)
	if cl == nil {
		return j.stray(m)
	}
	cell := j.cell(cl, values)
	out := Judgement{Clause: cl, Instance: cell.Instance}
	if len(m.Payload) == 0 && m.Retain && !m.Copy {
		// Clearing a retained message is no statement of the clause (§3.3.1.3).
		cell.Last, cell.judged, cell.decodable = m, nil, false
		return out
	}
	// Much of what devices say they have said before: then the verdict is known.
	if cell.judged == nil || !bytes.Equal(cell.judged, m.Payload) {
		cell.judged = m.Payload
		cell.decodable, cell.found = cl.Payload.judge(m.Payload)
	}
	out.Breaches = append(slices.Clone(cell.found), cl.envelope(m)...)
	cell.Last, cell.State = m, CellKept
	if cell.decodable {
		if cell.History = append(cell.History, Sample{m.At, m.Payload, cl.Payload.Format}); len(cell.History) > maxHistory {
			cell.History = cell.History[1:]
		}
	}
	if !m.Copy {
		cell.Count++
		if cl.Every.Period > 0 {
			cell.due = m.At.Add(cl.Every.Period + cl.Every.Tolerance)
		}
		j.answered(cl, cell.Instance)
		j.asked(cl, cell, m)
	}
	for i := range out.Breaches {
		b := &out.Breaches[i]
		b.At, b.Clause, b.Topic, b.Instance, b.Sender, b.Seq, b.Payload = m.At, cl.Name, m.Topic, cell.Instance, m.Sender, m.Seq, m.Payload
		j.broken(cell, *b)
	}
	return out
}

func (j *Judge) stray(m Message) Judgement {
	s := j.strays[m.Topic]
	if s == nil {
		s = &Stray{Topic: m.Topic, Near: j.c.Near(m.Topic)}
		if len(j.strays) < maxStrays {
			j.strays[m.Topic] = s
			j.strayOrd = append(j.strayOrd, s)
		}
	}
	s.Count++
	s.Last = m
	return Judgement{Near: s.Near}
}

func (j *Judge) broken(cell *Cell, b Breach) {
	cell.State = CellBroken
	if b.Rule == RuleSilence {
		cell.State = CellSilent
	}
	cell.Broken++
	cell.Breach = &b
	j.total++
	if j.breaches = append(j.breaches, b); len(j.breaches) > maxBreaches {
		j.breaches = j.breaches[len(j.breaches)-maxBreaches/2:]
	}
}

// judge tells whether the payload is of its format, and what it breaks.
func (p *Payload) judge(b []byte) (decodable bool, found []Breach) {
	if p.Format == payload.JSON && p.Schema != nil && p.Schema.quick.accepts(b) {
		return true, nil
	}
	v, err := payload.Decode(p.Format, b)
	if err != nil {
		e := err.(*payload.Error)
		return false, []Breach{{Rule: RuleFormat, Where: fmt.Sprintf("byte %d", e.Offset), Expected: string(p.Format), Seen: e.Reason}}
	}
	switch {
	case p.Schema != nil:
		return true, p.Schema.breaches(v)
	case p.Format == payload.Text && len(p.Values) > 0:
		var listed []string
		for _, a := range p.Values {
			if a.Text == v {
				return true, nil
			}
			listed = append(listed, strconv.Quote(a.Text))
		}
		return true, []Breach{{Rule: RuleValue, Expected: "one of " + strings.Join(listed, ", "), Seen: fmt.Sprintf("%.60q", v)}}
	case p.Format == payload.Number:
		f, _ := v.(json.Number).Float64()
		if p.Minimum != nil && f < *p.Minimum || p.Maximum != nil && f > *p.Maximum {
			return true, []Breach{{Rule: RuleRange, Expected: strings.TrimSpace(span(p.Minimum, p.Maximum) + " " + p.Unit), Seen: string(v.(json.Number))}}
		}
	}
	return true, nil
}

// envelope judges what surrounds the payload, as far as the receiver can know it.
func (cl *Clause) envelope(m Message) (out []Breach) {
	if m.Copy {
		return nil
	}
	// A lower grant hides the QoS that a message was published with (§3.8.4).
	if cl.QoS != nil && m.QoS != *cl.QoS && (m.Granted >= *cl.QoS || m.QoS > *cl.QoS) {
		out = append(out, Breach{Rule: RuleQoS, Expected: fmt.Sprintf("QoS %d", *cl.QoS), Seen: fmt.Sprintf("QoS %d", m.QoS)})
	}
	if cl.Retain != nil && m.RetainKnown && m.Retain != *cl.Retain {
		out = append(out, Breach{Rule: RuleRetain, Expected: fmt.Sprintf("retain %v", *cl.Retain), Seen: fmt.Sprintf("retain %v", m.Retain)})
	}
	return out
}

func (j *Judge) asked(cl *Clause, cell *Cell, m Message) {
	if cl.Answer == nil || len(j.pending) >= maxPending {
		return
	}
	answer := j.c.Clause(cl.Answer.Clause)
	if answer == nil {
		return
	}
	values, _ := cl.Topic.Match(m.Topic)
	named := map[string]string{}
	for i, p := range cl.Topic.params {
		named[p] = values[i]
	}
	j.pending = append(j.pending, pending{cl, answer, cell.Instance, named, m.At, m.At.Add(cl.Answer.Within), m})
}

// answered takes the oldest command off that the clause's message answers.
func (j *Judge) answered(cl *Clause, instance string) {
	for i, p := range j.pending {
		if p.answer == cl && (len(cl.Topic.params) == 0 || p.instanceOf(cl) == instance) {
			j.pending = slices.Delete(j.pending, i, i+1)
			return
		}
	}
}

// instanceOf returns the answer's instance that goes with the command's parameters.
func (p pending) instanceOf(cl *Clause) string {
	var values []string
	for _, name := range cl.Topic.params {
		values = append(values, p.values[name])
	}
	return strings.Join(values, "/")
}

// Tick finds what is overdue: silences and missing answers. It returns the new breaches.
func (j *Judge) Tick(now time.Time) (out []Breach) {
	for _, cell := range j.order {
		if cell.due.IsZero() || now.Before(cell.due) {
			continue
		}
		since := "since the start"
		if !cell.Last.At.IsZero() {
			since = "for " + now.Sub(cell.Last.At).Round(100*time.Millisecond).String()
		}
		b := Breach{At: now, Clause: cell.Clause.Name, Topic: cell.Topic, Instance: cell.Instance, Rule: RuleSilence,
			Expected: "a message every " + cell.Clause.Every.String(), Seen: "nothing " + since}
		cell.due = time.Time{} // one breach per silence
		j.broken(cell, b)
		out = append(out, b)
	}
	rest := j.pending[:0]
	for _, p := range j.pending {
		if now.Before(p.deadline) {
			rest = append(rest, p)
			continue
		}
		b := Breach{At: now, Clause: p.clause.Name, Topic: p.m.Topic, Instance: p.instance, Rule: RuleAnswer,
			Expected: fmt.Sprintf("%s within %s", p.answer.Name, p.clause.Answer.Within), Seen: "no answer",
			Sender: p.m.Sender, Seq: p.m.Seq, Payload: p.m.Payload}
		j.broken(j.cells[p.clause.Name+"\x00"+p.instance], b)
		out = append(out, b)
	}
	j.pending = rest
	return out
}

// Cells returns all cells in the order in which they became known, as copies.
func (j *Judge) Cells() []Cell {
	out := make([]Cell, len(j.order))
	for i, c := range j.order {
		if c.decodable && c.Value == nil || !bytes.Equal(c.valueOf, c.judged) {
			c.Value, c.valueOf = nil, c.judged
			if c.decodable {
				c.Value, _ = payload.Decode(c.Clause.Payload.Format, c.judged)
			}
		}
		out[i] = *c
		out[i].History = slices.Clone(c.History)
	}
	return out
}

// Strays returns the stray topics in the order in which they were first seen.
func (j *Judge) Strays() []Stray {
	out := make([]Stray, len(j.strayOrd))
	for i, s := range j.strayOrd {
		out[i] = *s
	}
	return out
}

// Breaches returns the latest breaches, oldest first, and how many there were in all.
func (j *Judge) Breaches() (latest []Breach, total int) { return slices.Clone(j.breaches), j.total }
