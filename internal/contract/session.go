package contract

import (
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Step is what happened at a client of which its own packets are seen: a device of ours, a client of a stand-in's.
type Step byte

// The steps.
const (
	// StepSent and StepGot: a packet that the client sent, or was sent.
	StepSent Step = iota + 1
	StepGot
	// StepCut: nothing gets through its link any longer, in either direction, and nobody said goodbye.
	StepCut
	// StepMended: its link is whole again.
	StepMended
	// StepEnded: its connection is over.
	StepEnded
)

// Session is a step of a client's, as its own packets show it.
type Session struct {
	Client string // Hodstone's name for it
	Broker string
	Party  string
	// Parameters are the values that are known of the client, by parameter.
	Parameters map[string]string
	At         time.Time
	Seq        uint64 // of the trace's event
	Step       Step
	Version    packet.Version
	Packet     packet.Packet // of StepSent and StepGot
	Bytes      int           // of the packet
	Topic      string        // of a PUBLISH, with an alias resolved; "" where it is unknown
	// Encrypted tells whether its link is by TLS; nil where that is not known.
	Encrypted *bool
	// ByBroker tells of StepEnded that the broker ended it: it took the client over, or gave it up.
	ByBroker bool
}

// Follows tells whether there is anything to hold the messages of a party's sessions to, beside their clauses.
func (j *Judge) Follows(party string) bool { return j.followed[party] }

// follows lists the parties whose sessions have something to keep.
func (c *Contract) follows() map[string]bool {
	out := map[string]bool{}
	for i := range c.Parties {
		if c.Parties[i].Terms != nil {
			out[c.Parties[i].Name] = true
		}
	}
	for _, cl := range c.Clauses {
		if cl.Presence != nil {
			out[cl.From] = true
		}
	}
	return out
}

// Session takes a step of a client's into account, and returns what it breaks. What only the sender's own packets show
// is judged this way, and no other: of whom they are not seen, nothing is said.
func (j *Judge) Session(s Session) (found []Breach) {
	if j.met[s.Party] == nil {
		j.met[s.Party] = map[string]bool{}
	}
	if len(j.met[s.Party]) < maxCells {
		j.met[s.Party][s.Client] = true
	}
	p := Pass{Fact: FactSession, At: s.At, Session: &s, judge: j, found: &found}
	for i := range j.rules {
		if r := &j.rules[i]; r.Sessions {
			p.rule = r.Rule
			r.look(&p)
		}
	}
	for i := range found {
		j.count(found[i])
	}
	return found
}

// Met is of how many clients of each party the own packets were seen: the sessions of all others are not judged.
func (j *Judge) Met() map[string]int {
	out := map[string]int{}
	for party, clients := range j.met {
		out[party] = len(clients)
	}
	return out
}

// Heard tells whether a topic that the filter matches was ever seen.
func (p *Pass) Heard(filter string) bool {
	for _, cell := range p.judge.order {
		if !cell.Last.At.IsZero() && topic.Match(filter, cell.Topic) {
			return true
		}
	}
	for name := range p.judge.strays {
		if topic.Match(filter, name) {
			return true
		}
	}
	return false
}

// DueOf sets a deadline for the client of the session: once its broker's observer has seen on until then, missed says
// what was broken; a breach that expects nothing is none.
func (p *Pass) DueOf(at time.Time, missed func(now time.Time) Breach) *Deadline {
	d := &Deadline{at: at, rule: p.rule.Name, index: -1, missed: missed, session: p.Session}
	if e := p.judge.eyes[p.Session.Broker]; e != nil {
		if d.eye = e; e.open {
			e.due.add(d)
		}
	}
	return d
}
