package model

import (
	"fmt"
	"maps"
	"slices"

	"hodstone/internal/mqtt/packet"
)

// inOrder holds messages of one publisher, topic and QoS to their order (§4.6); where several subscriptions match,
// copies may overtake.
func (s *State) inOrder(x *Session, d *debt, p *packet.Publish) *Violation {
	if d.stored || !d.single || p.QoS == 0 || d.group != nil || d.m.Will || d.m.Clears() {
		return nil
	}
	key := fmt.Sprintf("%s %s %s %d %d", x.ID, d.m.By, d.m.Topic, d.m.QoS, p.QoS)
	if d.m.Number < s.last[key] {
		return broken(&Order, "%s comes to %s after a later one of its topic", named(d.m), x.ID)
	}
	s.last[key] = d.m.Number
	return nil
}

// Acked takes in that a client has acknowledged a message: by PUBACK, or, at QoS 2, by PUBREC, after which PUBREL is
// due.
func (s *State) Acked(id string, packetID uint16, qos packet.QoS) {
	x := s.Session(id)
	f := x.open[packetID]
	switch {
	case f == nil:
	case qos == 1:
		delete(x.open, packetID)
	default:
		f.taken, f.resend = true, false
	}
}

// Releasing takes in PUBREL that is not answered yet: it is due again once the session is resumed.
func (s *State) Releasing(id string, packetID uint16) {
	if f := s.Session(id).open[packetID]; f != nil {
		f.released = true
	}
}

// Released takes in that PUBREL was answered by PUBCOMP.
func (s *State) Released(id string, packetID uint16) {
	x := s.Session(id)
	if f := x.open[packetID]; f != nil && f.taken {
		delete(x.open, packetID)
	}
}

// Forget takes in that nobody knows any longer what is due to a session, as after a refusal that the standard allows:
// it may get anything that it was owed, and must get nothing.
func (s *State) Forget(id string) {
	for _, d := range s.Session(id).debts {
		d.least = 0
		if d.group != nil {
			d.group.least = 0
		}
	}
}

// Doubt takes in that a client was thrown out because it broke a rule: whether its session is kept, the standard leaves
// open.
func (s *State) Doubt(id string) {
	x := s.Session(id)
	x.doubt = true
	s.Forget(id)
	for _, f := range x.open {
		f.unsure = true
	}
}

// Missing tells what is due and has not come, of clients that are there and acknowledge.
func (s *State) Missing() *Violation {
	for _, id := range slices.Sorted(maps.Keys(s.Sessions)) {
		x := s.Sessions[id]
		if !x.Connected {
			continue
		}
		for _, n := range slices.Sorted(maps.Keys(x.open)) {
			switch f := x.open[n]; {
			case f.unsure:
			case f.resend && !f.taken:
				return broken(
					&Resent,
					"%s does not come again to %s, which has not acknowledged it",
					named(f.debt.m),
					id,
				)
			case f.taken && !f.released:
				return broken(&Released, "no PUBREL comes to %s for identifier %d", id, n)
			}
		}
		if x.Holding {
			continue
		}
		for _, d := range x.debts {
			if d.got < d.least {
				return broken(d.rule, "%s does not come to %s", named(d.m), id)
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Sessions)) {
		for _, d := range s.Sessions[id].debts {
			if d.group != nil && d.group.got < d.group.least {
				return broken(&Shared, "%s comes to no member of its share", named(d.m))
			}
		}
	}
	return nil
}
