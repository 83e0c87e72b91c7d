package standin

import (
	"slices"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// group is a shared subscription: each message goes to one of its members (5.0 §4.8.2).
type group struct {
	full    string // $share/NAME/FILTER
	members []*session
	next    int
	passed  int // messages so far, counted where a fault is on
}

// holder is who stands in the tree under a filter: a session or a group.
type holder struct {
	ses   *session
	group *group
}

// join subscribes a session, and tells whether it replaces a subscription.
//
// It is not done where there is no room for it.
func (s *Server) join(ses *session, sub *subscription) (existed, done bool) {
	full := sub.Filter
	before, existed := ses.subs[full]
	if existed {
		sub.repeats = before.repeats + 1
		s.decide(func(d *Decisions) {
			if d.Rejoin != nil {
				sub.Subscription = d.Rejoin(before.Subscription, sub.Subscription)
			}
		})
	}
	if !existed && !ses.take(sizeOfSubscription+sizeOfTopic(full)) {
		return false, false
	}
	ses.subs[full] = sub
	_, plain, shared := topic.CutShare(full)
	if !shared {
		s.tree.Set(plain, holder{ses: ses}, sub)
		return existed, true
	}
	g := s.groups[full]
	if g == nil {
		g = &group{full: full}
		s.groups[full] = g
		s.tree.Set(plain, holder{group: g}, &subscription{Subscription: packet.Subscription{Filter: full}})
	}
	if !existed {
		g.members = append(g.members, ses)
	}
	return existed, true
}

// leave takes a subscription back, and tells whether there was one.
func (s *Server) leave(ses *session, filter string) bool {
	if ses.subs[filter] == nil {
		return false
	}
	delete(ses.subs, filter)
	ses.give(sizeOfSubscription + sizeOfTopic(filter))
	_, plain, shared := topic.CutShare(filter)
	if !shared {
		s.tree.Delete(plain, holder{ses: ses})
		return true
	}
	g := s.groups[filter]
	g.members = slices.DeleteFunc(g.members, func(m *session) bool { return m == ses })
	if len(g.members) == 0 {
		s.tree.Delete(plain, holder{group: g})
		delete(s.groups, filter)
	}
	return true
}

// pick returns the member whose turn it is: one that is connected, if there is any.
func (g *group) pick() *session {
	for range g.members {
		g.next = (g.next + 1) % len(g.members)
		if m := g.members[g.next]; m.conn != nil {
			return m
		}
	}
	g.next = (g.next + 1) % len(g.members)
	return g.members[g.next]
}
