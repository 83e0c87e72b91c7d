package model

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Received takes in a message that came to a client, and tells what is wrong about it.
func (s *State) Received(id string, p *packet.Publish) *Violation {
	x := s.Session(id)
	if p.QoS > 0 && x.open[p.ID] != nil {
		return s.again(x, p)
	}
	d, v := s.find(x, p)
	if v != nil {
		return v
	}
	if d == nil {
		if p.QoS > 0 {
			x.flights++
			x.open[p.ID] = &flight{
				debt:    &debt{m: &Message{Publish: *p}},
				payload: p.Payload,
				number:  x.flights,
				here:    true,
			}
		}
		return nil // one that cannot be told from another, or of which nobody knows
	}
	if p.Dup && !d.dup {
		return broken(&FirstDup, "%s gets %s for the first time with DUP", id, named(d.m))
	}
	if v := s.inOrder(x, d, p); v != nil {
		return v
	}
	d.got++
	if d.group != nil {
		d.group.got++
	}
	if p.QoS > 0 {
		x.flights++
		x.open[p.ID] = &flight{debt: d, payload: p.Payload, number: x.flights, here: true}
		return s.inWindow(x)
	}
	return nil
}

// inWindow holds what is under way on the connection to the receive maximum (5.0 §4.9).
func (s *State) inWindow(x *Session) *Violation {
	n := 0
	for _, f := range x.open {
		n += bit(f.here)
	}
	if x.Window > 0 && n > x.Window {
		return broken(&Window, "%d messages are under way to %s, whose receive maximum is %d", n, x.ID, x.Window)
	}
	return nil
}

// again is a message under an identifier whose flow is not complete (3.1.1 §4.4, 5.0 §4.4).
func (s *State) again(x *Session, p *packet.Publish) *Violation {
	f := x.open[p.ID]
	same := bytes.Equal(f.payload, p.Payload)
	switch {
	case !same:
		return broken(&IDInUse, "%s gets another message under identifier %d, whose flow is not complete", x.ID, p.ID)
	case f.taken:
		return broken(&Released, "%s gets PUBLISH again under identifier %d, after PUBREC", x.ID, p.ID)
	case s.Version == packet.V5 && !f.resend:
		return broken(&ResentEarly, "%s gets %s again on the same connection", x.ID, named(f.debt.m))
	case !p.Dup:
		return broken(&Resent, "%s gets %s again without DUP", x.ID, named(f.debt.m))
	}
	f.resend, f.here = false, true
	for _, other := range x.open {
		if other.resend && !other.taken && other.number < f.number {
			return broken(
				&Order,
				"%s comes again to %s before %s, which came first",
				named(f.debt.m),
				x.ID,
				named(other.debt.m),
			)
		}
	}
	return s.inWindow(x)
}

func named(m *Message) string {
	text := string(m.Payload)
	if i := strings.IndexByte(text, ' '); i > 0 {
		text = text[:i]
	}
	switch {
	case m.Clears():
		text = "the empty message"
	case m.Will:
		text = "the will " + text
	}
	return text
}

// find finds the debt that a message pays, and says what is wrong where there is none.
func (s *State) find(x *Session, p *packet.Publish) (*debt, *Violation) {
	var of []*debt // of this message
	for _, d := range x.debts {
		if bytes.Equal(d.m.Payload, p.Payload) && (len(p.Payload) > 0 || d.m.Topic == p.Topic) {
			of = append(of, d)
		}
	}
	slices.SortStableFunc(of, func(a, b *debt) int { return bit(b.due()) - bit(a.due()) }) // what is due is paid first
	var best *Violation
	for _, d := range of {
		v := s.fits(x, d, p)
		if v == nil {
			return d, nil
		}
		if best == nil || best.Rule == &Twice {
			best = v
		}
	}
	if best != nil && best.Rule == &FlagOfCopy && p.Retain && s.Retained[p.Topic] != of[0].m && of[0].m.Retain &&
		!s.Unsure[p.Topic] && !x.vague[p.Topic] {
		return nil, broken(&StoredWrong, "%s greets %s, and is no longer stored", named(of[0].m), x.ID)
	}
	if len(p.Payload) == 0 { // one empty message is like another
		if best != nil && best.Rule != &Twice {
			return nil, best
		}
		return nil, nil
	}
	if best != nil && !(p.Retain && (s.Unsure[p.Topic] || x.vague[p.Topic])) {
		return nil, best
	}
	return nil, s.stranger(x, p)
}

// fits tells what keeps a message from paying a debt; nil for nothing.
func (s *State) fits(x *Session, d *debt, p *packet.Publish) *Violation {
	switch {
	case p.Topic != d.m.Topic:
		return broken(&TopicOfCopy, "%s comes to %s under %s in place of %s", named(d.m), x.ID, p.Topic, d.m.Topic)
	case d.group != nil && d.group.got >= d.group.most:
		return broken(&Shared, "%s comes to %s, and another member of the share has it", named(d.m), x.ID)
	case d.got >= d.most && d.stored:
		return broken(&StoredWrong, "%s greets %s once more", named(d.m), x.ID)
	case d.got >= d.most:
		return broken(&Twice, "%s comes to %s %d times, by %d subscriptions", named(d.m), x.ID, d.got+1, d.most)
	case !slices.Contains(d.flags, p.Retain) && !d.stored && p.Retain:
		return broken(&FlagOfCopy, "%s comes to %s with retain flag 1, and it is live", named(d.m), x.ID)
	case !slices.Contains(d.flags, p.Retain):
		return broken(&FlagOfCopy, "%s comes to %s with retain flag %d", named(d.m), x.ID, bit(p.Retain))
	case !slices.Contains(d.qos, p.QoS):
		return broken(&QoSOfCopy, "%s comes to %s at QoS %d in place of %d", named(d.m), x.ID, p.QoS, d.qos[0])
	}
	if s.Version == packet.V5 {
		return propertiesOf(x, d.m, p)
	}
	return nil
}

// propertiesOf tells what is wrong about the properties of a copy (5.0 §3.3.2.3): those of the message come, user
// properties in their order and as often as they were given (§3.3.2.3.7), and no others but those that a server sets.
func propertiesOf(x *Session, m *Message, p *packet.Publish) *Violation {
	passed := func(all packet.Properties, user bool) (out packet.Properties) {
		for _, y := range all {
			switch y.ID {
			case packet.MessageExpiry, packet.SubscriptionIdentifier, packet.TopicAlias:
			default:
				if (y.ID == packet.UserProperty) == user {
					out = append(out, y)
				}
			}
		}
		return out
	}
	for _, y := range passed(m.Properties, false) {
		if !slices.Contains(p.Properties, y) {
			return broken(&PropertyOfCopy, "%s comes to %s without its %s", named(m), x.ID, y.ID)
		}
	}
	for _, y := range passed(p.Properties, false) {
		if !slices.Contains(m.Properties, y) {
			return broken(&PropertyOfCopy, "%s comes to %s with a %s that it did not have", named(m), x.ID, y.ID)
		}
	}
	if was, is := passed(m.Properties, true), passed(p.Properties, true); !slices.Equal(was, is) {
		return broken(
			&PropertyOfCopy,
			"%s comes to %s with the user properties %s in place of %s",
			named(m),
			x.ID,
			users(is),
			users(was),
		)
	}
	return nil
}

// users lists user properties.
func users(all packet.Properties) string {
	var out []string
	for _, y := range all {
		out = append(out, y.Key+"="+y.Value)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// stranger says why a message must not have come that nothing is owed of.
func (s *State) stranger(x *Session, p *packet.Publish) *Violation {
	if p.Retain && (s.Unsure[p.Topic] || x.vague[p.Topic]) {
		return nil // one that was stored before, or after
	}
	for _, d := range x.ended {
		if bytes.Equal(d.m.Payload, p.Payload) {
			return broken(&Cleaned, "%s comes to %s, whose session began anew since", named(d.m), x.ID)
		}
	}
	m := s.known[string(p.Payload)]
	switch {
	case m == nil:
		return broken(&PayloadOfCopy, "%s gets a payload that nobody published, %.30q on %s", x.ID, p.Payload, p.Topic)
	case m.Will && m.Number == 0 && m.Void:
		return broken(&WillKept, "%s comes to %s, though its client said DISCONNECT", named(m), x.ID)
	case m.Will && m.Number == 0:
		return broken(&WillKept, "%s comes to %s, though its client is there", named(m), x.ID)
	case p.Retain:
		return broken(&StoredWrong, "%s greets %s, and is not stored", named(m), x.ID)
	case m.By == x.ID && slices.ContainsFunc(slices.Collect(maps.Values(x.Subs)), func(sub *Sub) bool { return sub.NoLocal && topic.Match(sub.Filter, m.Topic) }):
		return broken(&OwnMessage, "%s gets its own %s in spite of no local", x.ID, named(m))
	}
	return broken(&Unasked, "%s comes to %s, and no subscription of its matches %s", named(m), x.ID, p.Topic)
}
