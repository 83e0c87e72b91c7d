package standin

import (
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// publish passes a message to all subscribers and stores it if it is retained. It
// tells whether anyone subscribes.
func (s *Server) publish(m *message, from *session) bool {
	retains := m.Retain
	s.decide(func(d *Decisions) {
		if d.Retains != nil {
			retains = d.Retains(&m.Publish, retains)
		}
	})
	if retains {
		s.store(m)
		if from != nil && s.on(func(d *Decisions) bool { return d.Bequeath != nil }) {
			if s.owners == nil {
				s.owners = map[string]string{}
			}
			s.owners[m.Topic] = from.id
		}
	}
	s.round++
	s.hits = s.hits[:0]
	s.matching(m.Topic, func(h holder, sub *subscription) {
		if h.group != nil { // a share's copy comes beside any other
			s.share(m, h.group)
			return
		}
		kept := sub.NoLocal && h.ses == from
		s.decide(func(d *Decisions) {
			if d.Keeps != nil {
				kept = d.Keeps(&sub.Subscription, h.ses == from, kept)
			}
		})
		if kept || from != nil && from.conn != nil && h.ses.conn != nil && from.conn.listener != h.ses.conn.listener &&
			s.on(func(d *Decisions) bool { return d.Separate }) {
			return
		}
		if h.ses.round != s.round {
			s.hits = append(s.hits, hit{ses: h.ses})
			h.ses.round, h.ses.hit = s.round, len(s.hits)-1
		}
		h.ses.addTo(&s.hits[h.ses.hit], min(m.QoS, sub.QoS), sub)
	})
	for i := range s.hits {
		h := &s.hits[i]
		h.place, h.receivers = i, len(s.hits)
		h.ses.greetBefore(m.Topic)
		h.ses.deliver(m, h, m.Retain && h.rap, false)
	}
	reached := len(s.hits) > 0
	clear(s.hits)
	return reached
}

// hit is a session that a message goes to, with what its matching subscriptions say.
type hit struct {
	ses *session
	sub *subscription // the first that matches
	qos packet.QoS
	rap bool
	ids []uint32

	filters, place, receivers int
	least                     packet.QoS
	shared                    bool
}

// share gives a message to a member of a shared subscription: the one whose turn it is (5.0 §4.8.2).
func (s *Server) share(m *message, g *group) {
	g.passed++
	times := 1
	s.decide(func(d *Decisions) {
		if d.Shares != nil {
			times = d.Shares(&m.Publish, g.passed, len(g.members))
		}
	})
	for range times {
		ses := g.pick()
		sub := ses.subs[g.full]
		s.hits = append(s.hits, hit{ses: ses, shared: true})
		ses.addTo(&s.hits[len(s.hits)-1], min(m.QoS, sub.QoS), sub)
	}
}

func (ses *session) addTo(h *hit, qos packet.QoS, sub *subscription) {
	h.qos, h.rap = max(h.qos, qos), h.rap || sub.RetainAsPublished
	if h.sub == nil {
		h.sub, h.least = sub, qos
	}
	h.filters, h.least = h.filters+1, min(h.least, qos)
	if sub.id != 0 {
		h.ids = append(h.ids, sub.id)
	}
}

// matching visits the subscriptions that match a topic name.
func (s *Server) matching(name string, visit func(holder, *subscription)) {
	if !s.mismatches() {
		s.tree.Matching(name, visit)
		return
	}
	for _, ses := range s.sessions {
		for _, sub := range ses.subs {
			if _, plain, shared := topic.CutShare(sub.Filter); !shared &&
				s.matches(plain, name, topic.Match(plain, name)) {
				visit(holder{ses: ses}, sub)
			}
		}
	}
	for full, g := range s.groups {
		if _, plain, _ := topic.CutShare(full); topic.Match(plain, name) {
			visit(holder{group: g}, nil)
		}
	}
}

func (s *Server) store(m *message) {
	acts := true
	s.decide(func(d *Decisions) {
		if d.Store != nil {
			acts = acts && d.Store(&m.Publish)
		}
	})
	switch {
	case !acts, s.opt.Limits.NoRetained:
	case len(m.Payload) == 0:
		s.forget(m.Topic)
	case s.storable(&m.Publish):
		s.forget(m.Topic)
		s.held += sizeOfStored(&m.Publish)
		s.retained.Set(m.Topic, m)
	}
}

// forget clears a stored message.
func (s *Server) forget(name string) {
	if m, there := s.retained.Get(name); there {
		s.held -= sizeOfStored(&m.Publish)
		s.retained.Delete(name)
	}
}

func sizeOfStored(p *packet.Publish) int { return sizeOf(p) + sizeOfTopic(p.Topic) }

// storable tells whether there is room to store a message.
func (s *Server) storable(p *packet.Publish) bool {
	n := sizeOfStored(p)
	before, there := s.retained.Get(p.Topic)
	if there {
		n -= sizeOfStored(&before.Publish)
	}
	return (there || s.retained.Len() < maxRetained) && s.held+n <= s.opt.Limits.memory()
}
