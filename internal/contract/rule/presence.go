package rule

import (
	"bytes"
	"fmt"
	"reflect"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// Presence holds a party to what it says of itself: that its loss would be told, and that it says goodbye.
var Presence = &contract.Rule{Name: contract.RulePresence, Sessions: true,
	Doc: "CONNECT of a party with a presence carries a will as agreed: topic, the lost value, QoS and retain flag. Before a proper DISCONNECT (code 0x00, with which the will is dropped) the leaving value is the last that it published there. Only who is seen by their own packets is judged.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		x := presences{c: c, said: map[string]*said{}}
		return x.look
	}}

type presences struct {
	c    *contract.Contract
	said map[string]*said
}

// said is what a client said of itself on its connection.
type said struct {
	clause *contract.Clause
	last   []byte // nil for nothing yet
	in     bool
}

func (x *presences) look(p *contract.Pass) {
	if p.Fact != contract.FactSession {
		return
	}
	s := p.Session
	switch q := s.Packet.(type) {
	case *packet.Connect:
		delete(x.said, s.Client)
		if cl := x.clause(s.Party, q.Will); cl != nil && s.Step == contract.StepSent && len(x.said) < maxClients {
			x.said[s.Client] = &said{clause: cl}
			x.will(p, cl, q.Will)
		}
	case *packet.Connack:
		if have := x.said[s.Client]; have != nil {
			have.in = q.Code == 0
		}
	case *packet.Publish:
		if have := x.said[s.Client]; have != nil && s.Step == contract.StepSent {
			if _, ours := have.clause.Topic.Match(s.Topic); ours {
				have.last = bytes.Clone(q.Payload)
			}
		}
	case *packet.Disconnect:
		have := x.said[s.Client]
		if have == nil || !have.in || q.Code != 0 || s.Step != contract.StepSent {
			return
		}
		delete(x.said, s.Client)
		if leaving := have.clause.Presence.Leaving; !says(have.clause, have.last, leaving) {
			seen := "nothing said there"
			if have.last != nil {
				seen = fmt.Sprintf("%.60q was the last it said there", have.last)
			}
			p.Breach(contract.Breach{Keyword: "leaving", Seen: seen,
				Expected: fmt.Sprintf("%q on %s before DISCONNECT", leaving, have.clause.Topic)})
		}
	}
}

// clause is the presence of a party: the one that its will is on, else the first.
func (x *presences) clause(party string, will *packet.Will) (found *contract.Clause) {
	for _, cl := range x.c.Clauses {
		if cl.From != party || cl.Presence == nil {
			continue
		}
		if will != nil {
			if _, ok := cl.Topic.Match(will.Topic); ok {
				return cl
			}
		}
		if found == nil {
			found = cl
		}
	}
	return found
}

// will holds a will to the clause.
func (x *presences) will(p *contract.Pass, cl *contract.Clause, w *packet.Will) {
	b := contract.Breach{Keyword: "will"}
	switch {
	case w == nil:
		b.Expected, b.Seen = fmt.Sprintf("a will on %s with %q", cl.Topic, cl.Presence.Lost), "no will in CONNECT"
	case !agree(cl.Topic.Values(w.Topic), p.Session.Parameters) || cl.Topic.Values(w.Topic) == nil:
		topic := cl.Topic.String()
		if own, err := cl.Topic.Topic(p.Session.Parameters); err == nil {
			topic = own
		}
		b.Expected, b.Seen = "a will on "+topic, "one on "+w.Topic
	case !says(cl, w.Payload, cl.Presence.Lost):
		b.Expected, b.Seen = fmt.Sprintf("a will with %q", cl.Presence.Lost), fmt.Sprintf("one with %.60q", w.Payload)
	case cl.QoS != nil && *cl.QoS != w.QoS:
		b.Expected, b.Seen = fmt.Sprintf("a will at QoS %d", *cl.QoS), fmt.Sprintf("one at QoS %d", w.QoS)
	case cl.Retain != nil && *cl.Retain != w.Retain:
		b.Expected, b.Seen = fmt.Sprintf("a will with retain %v", *cl.Retain), fmt.Sprintf("one with retain %v", w.Retain)
	default:
		return
	}
	p.Breach(b)
}

// says tells whether a payload of the clause's is the value that a person wrote.
func says(cl *contract.Clause, got []byte, value string) bool {
	want, err := cl.Payload.Read(value)
	if err != nil || got == nil {
		return false
	}
	if bytes.Equal(got, want) {
		return true
	}
	a, err1 := cl.Payload.Code().Decode(got)
	b, err2 := cl.Payload.Code().Decode(want)
	return err1 == nil && err2 == nil && reflect.DeepEqual(a, b)
}
