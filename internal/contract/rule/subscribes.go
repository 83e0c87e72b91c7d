package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// settled is how long after its last SUBSCRIBE a client is taken to have subscribed to all that it wants.
const settled = 10 * time.Second

// Subscribes holds a party to subscribing to what it consumes.
var Subscribes = &contract.Rule{
	Name:     contract.RuleSubscribes,
	Sessions: true,
	Doc:      "Ten seconds after its last SUBSCRIBE, the filters that a client was granted cover all clauses that its party consumes, at the parameters that are known of it; and each of them is met by a clause, or by a topic that was seen. Of a session that goes on from before it was in sight, nothing is said of what is missing.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		x := subscribing{c: c, clients: map[string]*subscriber{}}
		return x.look
	},
}

type subscribing struct {
	c       *contract.Contract
	clients map[string]*subscriber
}

// subscriber is what a client has subscribed to.
type subscriber struct {
	known   bool // all its filters
	asked   map[uint16][]packet.Subscription
	filters map[string]bool
	fresh   map[string]bool // those that nothing was said of yet
	due     *contract.Deadline
	// waits tells that it is to be looked at, also where the deadline was given up since nobody saw the broker yet.
	waits bool
}

func (x *subscribing) look(p *contract.Pass) {
	if p.Fact != contract.FactSession {
		return
	}
	s := p.Session
	c := x.clients[s.Client]
	if c == nil {
		if len(x.clients) >= maxClients || x.c.Party(s.Party) == nil {
			return
		}
		c = &subscriber{asked: map[uint16][]packet.Subscription{}, filters: map[string]bool{}, fresh: map[string]bool{}}
		x.clients[s.Client] = c
	}
	if s.Step == contract.StepEnded || s.Step == contract.StepCut {
		c.due.Met()
		c.waits = false
	} else if c.waits && !c.due.Pending() {
		x.wait(p, c)
	}
	switch q := s.Packet.(type) {
	case *packet.Connack:
		if q.Code != 0 || s.Step != contract.StepGot {
			return
		}
		clear(c.asked)
		if !q.SessionPresent {
			c.known = true
			clear(c.filters)
		}
		x.wait(p, c)
	case *packet.Subscribe:
		c.asked[q.ID] = q.Subscriptions
		x.wait(p, c)
	case *packet.Suback:
		for i, sub := range c.asked[q.ID] {
			if i < len(q.Codes) && q.Codes[i] < 0x80 {
				_, plain, _ := topic.CutShare(sub.Filter)
				c.filters[plain], c.fresh[plain] = true, true
			}
		}
		delete(c.asked, q.ID)
	case *packet.Unsubscribe:
		for _, f := range q.Filters {
			_, plain, _ := topic.CutShare(f)
			delete(c.filters, plain)
			delete(c.fresh, plain)
		}
		x.wait(p, c)
	}
}

// wait looks at the filters once the client has them together.
func (x *subscribing) wait(p *contract.Pass, c *subscriber) {
	c.due.Met()
	pass := *p
	c.waits = true
	c.due = p.DueOf(p.At.Add(settled), func(time.Time) contract.Breach {
		c.waits = false
		return x.settled(&pass, c)
	})
}

func (x *subscribing) settled(p *contract.Pass, c *subscriber) (b contract.Breach) {
	filters := slices.Sorted(maps.Keys(c.filters))
	var missing []string
	for _, cl := range x.c.Clauses {
		if c.known && slices.Contains(cl.To, p.Session.Party) && !x.covers(filters, cl, p.Session.Parameters) {
			missing = append(missing, fmt.Sprintf("%s (%s)", cl.Name, cl.Topic))
		}
	}
	if len(missing) > 0 {
		b.Keyword, b.Expected = "clauses", "subscriptions that cover "+strings.Join(missing, ", ")
		if b.Seen = "none of its filters does"; len(filters) == 0 {
			b.Seen = "no subscription"
		} else if len(missing) > 1 {
			b.Seen = "its filters do not"
		}
		return b
	}
	for _, f := range slices.Sorted(maps.Keys(c.fresh)) {
		delete(c.fresh, f)
		if x.met(f) || p.Heard(f) || f[0] == '$' {
			continue
		}
		b.Keyword, b.Expected = "filter", "filters that a clause, or a topic that was seen, meets"
		if b.Seen = f + ", which nothing meets"; !strings.ContainsAny(f, "+#") {
			if near := x.c.Near(f); near != "" {
				b.Seen += "; meant for " + near + "?"
			}
		}
		return b
	}
	return b
}

// covers tells whether the filters let all messages of a clause through to a client with the parameters.
func (x *subscribing) covers(filters []string, cl *contract.Clause, values map[string]string) bool {
	whole := cl.Topic.Fill(values)
	if slices.ContainsFunc(filters, func(f string) bool { return topic.Covers(f, whole) }) {
		return true
	}
	names := x.c.Topics(cl, values)
	for _, name := range names {
		if !slices.ContainsFunc(filters, func(f string) bool { return topic.Match(f, name) }) {
			return false
		}
	}
	return len(names) > 0
}

// met tells whether a clause has topics that the filter matches.
func (x *subscribing) met(filter string) bool {
	return slices.ContainsFunc(x.c.Clauses, func(cl *contract.Clause) bool {
		return topic.Meets(filter, cl.Topic.Filter())
	})
}
