package trace

import (
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Meaning is what a PUBLISH means to the session of its client. It is worked out once, where
// the event is made, so that journeys, statistics, judge and checks cannot disagree.
type Meaning struct {
	// Topic is the topic name, with an alias resolved (5.0 §3.3.2.3.4); "" where it is unknown.
	Topic string
	// Stored tells a copy that greets a subscription from a live message. For what is received only.
	Stored Storage
	// Flag tells that the retain flag is that of the publisher: of what is sent, and of live messages
	// whose subscriptions all keep it (retain as published, 5.0 §3.8.3.1).
	Flag bool
	// Promised are the QoS at which the receiver's subscriptions let the message come, as a set of
	// bits; 0 where no subscription is known that matches. Overlapping ones may each bring a copy (§3.3.5).
	Promised byte
	// Granted is the highest QoS of the subscriptions that match; only where Promised is not 0.
	Granted packet.QoS
	// Whole tells that the session was seen from its beginning and nothing about its subscriptions is
	// under way: there are no others than those known.
	Whole bool
}

// Storage tells stored copies from live messages.
type Storage byte

// How sure it is that a message received is a stored copy.
const (
	// StorageLive: it was published while the subscription was there.
	StorageLive Storage = iota
	// StorageCopy: it was stored, and greets the subscription (§3.3.1.3).
	StorageCopy
	// StorageMaybe: a subscription that keeps the retain flag was just made, so that both are possible.
	StorageMaybe
)

// Copied tells whether the message may be no live one: nothing is concluded from when it came.
func (m *Meaning) Copied() bool { return m.Stored != StorageLive }

// Promises tells whether the subscriptions let a message that was published at a QoS arrive at another.
func (m *Meaning) Promises(arrived packet.QoS, published packet.QoS) (expected packet.QoS, kept bool) {
	for q := packet.QoS(0); q <= 2; q++ {
		if m.Promised&(1<<q) == 0 {
			continue
		}
		low := min(q, published)
		expected = max(expected, low)
		kept = kept || low == arrived
	}
	return expected, kept
}

// greeting is for how long after the last stored copy, or after SUBSCRIBE, a retained message through a
// subscription that keeps the flag may be another stored one.
const greeting = time.Second

// grant is a subscription that is in force.
type grant struct {
	filter string // without $share/NAME/
	qos    packet.QoS
	rap    bool
	greets time.Time // until when stored messages may come through it; only with rap
}

// asked is a SUBSCRIBE or UNSUBSCRIBE that is not answered.
type asked struct {
	id   uint16
	subs []packet.Subscription // of SUBSCRIBE
	off  []string              // of UNSUBSCRIBE
}

// session follows what one client and its broker agree on.
type session struct {
	out, in  map[uint32]string // topic aliases set by the client, and by the broker
	grants   []grant
	covers   map[string][]int32 // which of them match a topic, as far as that was asked; nil after each change
	pending  []asked
	clean    bool // CONNECT asked for a new session
	whole    bool
	trailing bool // UNSUBACK has just come: what was under way may still arrive
}

// opened is told of a new connection: aliases die with the old one (5.0 §3.3.2.3.4).
func (s *session) opened() { s.out, s.in, s.pending = nil, nil, nil }

// take takes in a packet and returns what it means; zero for all but PUBLISH.
func (s *session) take(k Kind, p packet.Packet, v packet.Version, at time.Time) (m Meaning) {
	switch p := p.(type) {
	case *packet.Publish:
		if k == Received {
			return s.arrived(p, at)
		}
		m.Topic, m.Flag = resolve(&s.out, p), true
	case *packet.Connect:
		s.clean = p.CleanStart
	case *packet.Connack:
		if p.Code != 0 {
			break // a refusal changes nothing of a session that waits
		}
		// 3.1 does not tell of its sessions: then only a clean start is sure.
		if fresh := !p.SessionPresent && (v != packet.V31 || s.clean); fresh {
			s.grants, s.covers, s.whole = nil, nil, true
		}
	case *packet.Subscribe:
		s.pending = append(s.pending, asked{id: p.ID, subs: p.Subscriptions})
	case *packet.Suback:
		if a := s.answered(p.ID); a != nil {
			for i, sub := range a.subs {
				if i < len(p.Codes) && p.Codes[i] <= 2 {
					s.grant(sub, packet.QoS(p.Codes[i]), at)
				}
			}
		}
	case *packet.Unsubscribe:
		s.pending = append(s.pending, asked{id: p.ID, off: p.Filters})
	case *packet.Unsuback:
		if a := s.answered(p.ID); a != nil {
			for _, f := range a.off {
				s.revoke(f)
			}
			s.trailing = true // what was under way may still come (§3.10.4)
		}
	case *packet.Pingresp:
		s.trailing = false
	}
	return m
}

func (s *session) answered(id uint16) *asked {
	for i := range s.pending {
		if s.pending[i].id == id {
			a := s.pending[i]
			s.pending = append(s.pending[:i], s.pending[i+1:]...)
			return &a
		}
	}
	return nil
}

func (s *session) grant(sub packet.Subscription, qos packet.QoS, at time.Time) {
	s.revoke(sub.Filter)
	_, plain, _ := topic.CutShare(sub.Filter)
	g := grant{filter: plain, qos: qos, rap: sub.RetainAsPublished}
	if g.rap && sub.RetainHandling != packet.RetainDontSend {
		g.greets = at.Add(greeting)
	}
	s.grants, s.covers = append(s.grants, g), nil
}

func (s *session) revoke(filter string) {
	_, plain, _ := topic.CutShare(filter)
	for i := range s.grants {
		if s.grants[i].filter == plain {
			s.grants, s.covers = append(s.grants[:i], s.grants[i+1:]...), nil
			return
		}
	}
}

// arrived says what a message received means.
func (s *session) arrived(p *packet.Publish, at time.Time) Meaning {
	m := Meaning{Topic: resolve(&s.in, p), Whole: s.whole && len(s.pending) == 0 && !s.trailing}
	if m.Topic == "" {
		m.Whole = false
		return m
	}
	keeps, drops := false, false
	var greets *grant
	for _, i := range s.matching(m.Topic) {
		g := &s.grants[i]
		m.Promised |= 1 << g.qos
		m.Granted = max(m.Granted, g.qos)
		if !g.rap {
			drops = true
			continue
		}
		keeps = true
		if p.Retain && at.Before(g.greets) {
			greets = g
		}
	}
	// A SUBSCRIBE that is under way may hold already, and send stored messages (§3.8.4).
	for _, a := range s.pending {
		for _, sub := range a.subs {
			if _, plain, _ := topic.CutShare(sub.Filter); topic.Match(plain, m.Topic) {
				keeps, drops = keeps || sub.RetainAsPublished, drops || !sub.RetainAsPublished
				if sub.RetainAsPublished && sub.RetainHandling != packet.RetainDontSend && p.Retain {
					m.Stored = StorageMaybe
				}
			}
		}
	}
	switch {
	case !p.Retain:
	case !keeps: // no subscription keeps the flag, so it says that the message was stored
		m.Stored = StorageCopy
	case greets != nil:
		m.Stored = StorageMaybe
		greets.greets = at.Add(greeting) // more may follow
	case drops:
		m.Stored = StorageMaybe
	}
	m.Flag = keeps && !drops && m.Stored == StorageLive
	return m
}

// maxCovers bounds for how many topics it is known which subscriptions match.
const maxCovers = 2000

// matching returns which grants match a topic.
func (s *session) matching(name string) []int32 {
	which, known := s.covers[name]
	if known {
		return which
	}
	for i := range s.grants {
		if topic.Match(s.grants[i].filter, name) {
			which = append(which, int32(i))
		}
	}
	if s.covers == nil || len(s.covers) >= maxCovers {
		s.covers = map[string][]int32{}
	}
	s.covers[strings.Clone(name)] = which // the packet is not held by it
	return which
}

// resolve returns a message's topic name, taking in the alias that it sets.
func resolve(aliases *map[uint32]string, p *packet.Publish) string {
	alias, ok := p.Properties.Int(packet.TopicAlias)
	switch {
	case !ok:
		return p.Topic
	case p.Topic == "":
		return (*aliases)[alias]
	}
	if *aliases == nil {
		*aliases = map[uint32]string{}
	}
	if len(*aliases) < maxAliases {
		(*aliases)[alias] = p.Topic
	}
	return p.Topic
}

// maxAliases bounds what a peer can make us remember.
const maxAliases = 65535

// Pack writes all but the topic into a number, for a record.
func (m *Meaning) Pack() int64 {
	n := int64(m.Stored) | int64(m.Promised)<<2 | int64(m.Granted)<<5
	if m.Flag {
		n |= 1 << 7
	}
	if m.Whole {
		n |= 1 << 8
	}
	return n
}

// Unpack is the reverse of Pack.
func Unpack(n int64, topic string) Meaning {
	return Meaning{
		Topic:    topic,
		Stored:   Storage(n & 3),
		Promised: byte(n >> 2 & 7),
		Granted:  packet.QoS(n >> 5 & 3),
		Flag:     n&(1<<7) != 0,
		Whole:    n&(1<<8) != 0,
	}
}
