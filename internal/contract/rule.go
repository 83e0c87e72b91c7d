package contract

import (
	"container/heap"
	"time"

	"hodstone/internal/payload"
)

// RuleName names the part of a clause that was broken.
type RuleName string

// The names of the rules. Package rule holds the rules themselves.
const (
	RuleFormat  RuleName = "format"  // the bytes are not of the payload's format
	RuleSchema  RuleName = "schema"  // the JSON value breaks a keyword of the schema
	RuleValue   RuleName = "values"  // the text is none of those listed
	RuleRange   RuleName = "range"   // the number is outside
	RuleSize    RuleName = "size"    // more bytes than agreed
	RuleQoS     RuleName = "qos"     // published at another QoS
	RuleRetain  RuleName = "retain"  // published with another retain flag
	RuleFrom    RuleName = "from"    // published by another party
	RuleSilence RuleName = "every"   // no message when one was due
	RuleHaste   RuleName = "at-most" // more messages than agreed in a time
	RuleAnswer  RuleName = "answer"  // no answer to a command in time

	RuleRepeat     RuleName = "only"           // the same again, though it comes upon changes only
	RuleExpiry     RuleName = "message-expiry" // published with another message expiry interval
	RuleProperties RuleName = "properties"     // another content type, or a user property that is not there
	RuleStamp      RuleName = "stamped"        // it tells another time than that at which it was published
	RuleRelation   RuleName = "relation"       // what must never be together was, or what must follow did not

	RuleTerms      RuleName = "terms"      // a session, or what goes over it, is not as the party's terms say
	RulePresence   RuleName = "presence"   // the will, or the goodbye, is not as the presence says
	RuleSubscribes RuleName = "subscribes" // what a party consumes, it does not subscribe to, or to what is not there
)

// Rule is one documented thing that messages are held to. Rules are values; a judge starts each anew.
type Rule struct {
	Name RuleName
	// Doc says in a sentence or two what breaks it, and when it keeps silent.
	Doc string
	// Payload tells that a message's payload and clause alone decide: what was found once holds for
	// every message that is alike.
	Payload bool
	// Sessions tells that it looks at sessions ([FactSession]) besides messages.
	Sessions bool
	// Start returns the rule at work on a contract, with a state of its own. What it returns is told
	// of facts, in order, by one goroutine.
	Start func(*Contract) func(*Pass)
}

// Fact is what happened.
type Fact byte

// The facts.
const (
	// FactMessage: a message came by. It may be a stored copy, which says nothing of when or how it was
	// published.
	FactMessage Fact = iota + 1
	// FactSight: an observer begins to see the cell's topic, or sees it again: what is due is counted
	// from now on.
	FactSight
	// FactSession: something happened at a client of which its own packets are seen.
	FactSession
)

// Pass is one rule's look at one fact about one cell. It is good for that look only: neither it nor its message may be kept.
type Pass struct {
	Fact    Fact
	At      time.Time
	Clause  *Clause
	Cell    *Cell
	Message *Message // of FactMessage
	Session *Session // of FactSession; then there is neither clause nor cell

	judge   *Judge
	rule    *Rule
	payload *decoded
	found   *[]Breach
}

// Breach reports that the message breaks the clause. The rule's name, time, place and sender are filled in.
func (p *Pass) Breach(b Breach) {
	m := p.Message
	b.Rule, b.At = p.rule.Name, p.At
	if p.Cell != nil {
		b.Clause, b.Topic, b.Instance = p.Clause.Name, p.Cell.Topic, p.Cell.Instance
	}
	if s := p.Session; s != nil {
		b.Party, b.Sender, b.Seq = s.Party, s.Client, s.Seq
	}
	if m != nil {
		b.Sender, b.Seq, b.Payload = m.Sender, m.Seq, payload.Keep(m.Payload, keptPayload)
	}
	*p.found = append(*p.found, b)
}

// Value is the payload, decoded, and why it cannot be; sound tells that it was found to fit format and
// schema in a quicker way, so that nothing was decoded.
func (p *Pass) Value() (v any, err *payload.Error, sound bool) {
	d := p.payload
	if !d.done {
		d.done = true
		pl := &p.Clause.Payload
		if d.sound = pl.Schema != nil && pl.Format == payload.JSON &&
			pl.Schema.quick.accepts(p.Message.Payload); !d.sound {
			v, err := pl.Code().Decode(p.Message.Payload)
			if d.value = v; err != nil {
				d.err = err.(*payload.Error)
			}
		}
	}
	return d.value, d.err, d.sound
}

// decoded is a payload that the rules share.
type decoded struct {
	done, sound bool
	value       any
	err         *payload.Error
}

// Deadline is a time by which something must have come.
type Deadline struct {
	at     time.Time
	eye    *eye
	index  int // in the eye's heap; -1 when it is in none
	rule   RuleName
	cell   *Cell // nil for a session's
	missed func(now time.Time) Breach

	session *Session // nil for a cell's
}

// Pending tells whether it is neither met, passed nor given up for want of sight.
func (d *Deadline) Pending() bool { return d != nil && d.index >= 0 }

// Met takes the deadline off. It does nothing where it is no longer pending.
func (d *Deadline) Met() {
	if d.Pending() {
		heap.Remove(&d.eye.due, d.index)
	}
}

// Due sets a deadline for the cell: once it has been seen that nothing came by then, missed says what was
// broken. Whoever missed it could not be seen to be late while the observer was blind: then it is given up.
func (p *Pass) Due(at time.Time, missed func(now time.Time) Breach) *Deadline {
	d := &Deadline{at: at, eye: p.judge.eyeOf(p.Cell), rule: p.rule.Name, cell: p.Cell, missed: missed}
	if d.index = -1; d.eye.open || d.eye == &p.judge.everywhere && p.judge.allOpen() {
		d.eye.due.add(d)
	}
	return d
}

func (h *deadlines) add(d *Deadline) { heap.Push(h, d) }

// deadlines is a heap, the next first.
type deadlines []*Deadline

func (h deadlines) Len() int           { return len(h) }
func (h deadlines) Less(i, j int) bool { return h[i].at.Before(h[j].at) }
func (h deadlines) Swap(i, j int) {
	h[i], h[j] = h[j], h[i]
	h[i].index, h[j].index = i, j
}
func (h *deadlines) Push(x any) {
	d := x.(*Deadline)
	d.index = len(*h)
	*h = append(*h, d)
}
func (h *deadlines) Pop() any {
	old := *h
	d := old[len(old)-1]
	old[len(old)-1] = nil
	*h = old[:len(old)-1]
	d.index = -1
	return d
}
