package standin

import (
	"math"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
)

// deliver gives a message to one client, or keeps it for when it comes back.
func (ses *session) deliver(m *message, h *hit, retain, stored bool) {
	p := &packet.Publish{Topic: m.Topic, Payload: m.Payload, QoS: h.qos, Retain: retain, Properties: m.Properties}
	if len(ses.s.opt.Faults) == 0 {
		ses.pass(m, identified(p, h.ids), stored, false)
		return
	}
	d := Delivery{
		Published:   &m.Publish,
		AsPublished: h.sub.RetainAsPublished,
		Filter:      h.sub.Filter,
		Granted:     h.sub.QoS,
		Stored:      stored,
		Away:        ses.conn == nil,
		Nth:         ses.got,
		Version:     ses.version,
		Receivers:   h.receivers,
		Place:       h.place,
		Filters:     h.filters,
		Repeats:     h.sub.repeats,
		Least:       h.least,
		Shared:      h.shared,
		Topic:       p.Topic,
		Payload:     p.Payload,
		QoS:         p.QoS,
		Retain:      p.Retain,
		Properties:  p.Properties,
		IDs:         h.ids,
		Times:       1,
	}
	ses.got++
	ses.s.decide(func(x *Decisions) {
		if x.Deliver != nil {
			x.Deliver(&d)
		}
	})
	for range d.Times {
		q := *p
		q.Topic, q.Payload, q.QoS, q.Retain, q.Dup, q.Properties = d.Topic, d.Payload, d.QoS, d.Retain, d.Dup, d.Properties
		ses.pass(m, identified(&q, d.IDs), stored, d.Behind)
	}
}

// identified adds subscription identifiers (5.0 §3.3.2.3.8).
func identified(p *packet.Publish, ids []uint32) *packet.Publish {
	if len(ids) > 0 {
		p.Properties = slices.Clone(p.Properties)
		for _, id := range ids {
			p.Properties = append(p.Properties, packet.Int(packet.SubscriptionIdentifier, id))
		}
	}
	return p
}

// pass gives a packet to the client, or keeps it for when it comes back.
//
// behind lets the next one overtake it, by a fault.
func (ses *session) pass(m *message, p *packet.Publish, stored, behind bool) {
	if behind {
		ses.overtaken = append(ses.overtaken, func() { ses.pass(m, p, stored, false) })
		time.AfterFunc(overtakeWithin, func() { ses.s.locked(ses.passOvertaken) })
		return
	}
	defer ses.passOvertaken()
	if p.QoS == 0 {
		if ses.conn != nil && ses.fits(p) {
			ses.conn.pushLocked(ses.s.timed(m, p))
		}
		return
	}
	size := sizeOf(p)
	if ses.ended || len(ses.waiting) >= ses.s.opt.Limits.queued() || ses.conn != nil && !ses.fits(p) ||
		!ses.take(size) {
		ses.dropped++
		return
	}
	ses.waiting = append(ses.waiting, &flight{m: m, p: p, size: size, stored: stored})
	ses.pump()
}

// overtakeWithin is how long a message is held back for the next one to overtake it.
const overtakeWithin = 50 * time.Millisecond

// passOvertaken passes on what was held back.
func (ses *session) passOvertaken() {
	held := ses.overtaken
	ses.overtaken = nil
	for _, pass := range held {
		pass()
	}
}

func (ses *session) fits(p *packet.Publish) bool {
	return ses.conn.maxPacket == 0 || len(p.Append(nil, ses.version)) <= ses.conn.maxPacket
}

// timed returns the packet with the time that its message has left (5.0 §3.3.2.3.3).
func (s *Server) timed(m *message, p *packet.Publish) *packet.Publish {
	if m.expires.IsZero() {
		return p
	}
	left := *p
	left.Properties = p.Properties.Without(packet.MessageExpiry)
	seconds := max(0, int64(math.Ceil(time.Until(m.expires).Seconds())))
	n := uint32(seconds)
	s.decide(func(d *Decisions) {
		if d.Left != nil {
			n = d.Left(m.Properties.IntOr(packet.MessageExpiry, 0), n)
		}
	})
	if n != Unsaid {
		left.Properties = append(left.Properties, packet.Int(packet.MessageExpiry, n))
	}
	return &left
}

// pump sends what waits as far as the client's receive maximum allows (5.0 §4.9).
func (ses *session) pump() {
	for ses.conn != nil && len(ses.waiting) > 0 && len(ses.inFlight) < ses.conn.receiveMax {
		f := ses.waiting[0]
		ses.waiting = ses.waiting[1:]
		again := f.p.ID != 0 // it was under way on an earlier connection
		if !again && ses.s.over(f.m, f.stored) || !ses.fits(f.p) {
			ses.drop(f)
			continue
		}
		if !again {
			f.p.ID = ses.freeID()
		}
		ses.inFlight = append(ses.inFlight, f)
		if ses.byID == nil {
			ses.byID = map[uint16]*flight{}
		}
		ses.byID[f.p.ID] = f
		// Later changes to f.p happen on resume only, when this packet is long written or lost.
		ses.conn.pushLocked(ses.s.timed(f.m, f.p))
	}
}

// drop gives a message up that waited.
func (ses *session) drop(f *flight) {
	ses.give(f.size)
	if f.p.ID != 0 {
		delete(ses.byID, f.p.ID)
	}
	if !f.m.expired() {
		ses.dropped++
	}
}

func (ses *session) freeID() uint16 {
	for {
		ses.nextID++
		if ses.nextID != 0 && ses.byID[ses.nextID] == nil {
			return ses.nextID
		}
	}
}

// resumeLocked sends again what the client has not acknowledged, then what waited (§4.4), as far as
// the connection's own receive maximum and packet size allow (5.0 §3.1.2.11.3, §3.1.2.11.4).
func (ses *session) resumeLocked() {
	before := ses.inFlight
	ses.inFlight = nil
	var unsent []*flight
	for _, f := range before {
		again := *f.p
		again.Dup = true
		var out packet.Packet = &again
		if f.released {
			out = &packet.Pubrel{Ack: packet.Ack{ID: f.p.ID}}
		}
		ses.s.decide(func(d *Decisions) {
			if d.Resend != nil && out != nil {
				out = d.Resend(f.p, out)
			}
		})
		switch p, publish := out.(*packet.Publish); {
		case out == nil:
			ses.drop(f)
		case publish && !f.released:
			delete(ses.byID, f.p.ID)
			f.p = p
			ses.byID[f.p.ID] = f
			unsent = append(unsent, f)
		default:
			ses.inFlight = append(ses.inFlight, f)
			ses.conn.pushLocked(out)
		}
	}
	if ses.s.on(func(d *Decisions) bool { return d.Backwards }) {
		slices.Reverse(unsent)
	}
	if ses.s.on(func(d *Decisions) bool { return d.WaitedBackwards }) {
		slices.Reverse(ses.waiting)
	}
	if ses.s.on(func(d *Decisions) bool { return d.NewFirst }) {
		ses.behind, ses.waiting = ses.waiting, nil
		time.AfterFunc(behindFor, func() {
			ses.s.locked(func() {
				ses.waiting, ses.behind = append(ses.waiting, ses.behind...), nil
				ses.pump()
			})
		})
	}
	ses.waiting = append(unsent, ses.waiting...)
	ses.pump()
}

// behindFor is how long, by a fault, what has waited for a client is held back for what is new.
const behindFor = 200 * time.Millisecond

func (ses *session) acknowledged(id uint16, qos packet.QoS) {
	if f := ses.byID[id]; f != nil && f.p.QoS == qos {
		ses.s.decide(func(d *Decisions) {
			if d.Released != nil && d.Released(f.p) && ses.conn != nil {
				again := *f.p
				again.Dup = true
				ses.conn.pushLocked(&again)
			}
		})
		delete(ses.byID, id)
		ses.give(f.size)
		i := slices.Index(ses.inFlight, f) // near the front: acknowledgements come in order
		ses.inFlight = slices.Delete(ses.inFlight, i, i+1)
	}
	ses.pump()
}

func (ses *session) recorded(p *packet.Pubrec) {
	rel := &packet.Pubrel{Ack: packet.Ack{ID: p.ID, Code: packet.PacketIDNotFound}}
	if f := ses.byID[p.ID]; f != nil && f.p.QoS == 2 {
		if p.Code.Failed(packet.PUBREC, ses.version) {
			ses.acknowledged(p.ID, 2)
			return
		}
		f.released = true
		rel.Code = 0
	}
	ses.conn.answer(rel)
}
