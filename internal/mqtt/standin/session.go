package standin

import (
	"math"
	"slices"
	"time"

	"hodstone/internal/meter"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// session is what outlives a connection (3.1.1 §3.1.2.4, 5.0 §4.1). The server's lock guards it.
type session struct {
	s        *Server
	id       string
	username string
	login    string
	since    time.Time // the client came, or left
	version  packet.Version
	expiry   time.Duration // after the client is gone; forever is [Never]
	conn     *conn         // nil while the client is away
	subs     map[string]*subscription
	received map[uint16]bool // QoS 2 identifiers from the client, not released
	nextID   uint16
	inFlight []*flight          // towards the client, unacknowledged, oldest first
	byID     map[uint16]*flight // the same by packet identifier
	dropped  int
	held     int    // bytes, see memory.go
	ended    bool   // it is forgotten
	ending   bool   // it is about to be
	got      int    // messages so far, counted where a fault is on
	round    uint64 // the message that hit is of
	hit      int    // where it stands in the server's hits

	published, delivered meter.Meter
	waiting              []*flight // to be sent as far as the client takes them
	greeting             *greeting // stored messages that are still to greet it
	will                 *will
	expires              *time.Timer
}

// Never is the expiry of a session that does not end.
const Never time.Duration = math.MaxInt64

// keep notes a QoS 2 identifier from the client.
func (ses *session) keep(id uint16) {
	if ses.received == nil {
		ses.received = map[uint16]bool{}
	}
	ses.received[id] = true
}

func expiryOf(seconds uint32) time.Duration {
	if seconds == math.MaxUint32 {
		return Never
	}
	return time.Duration(seconds) * time.Second
}

type will struct {
	message *message
	delay   time.Duration
	timer   *time.Timer
	copies  int
	late    bool // by a fault: it comes by its timer alone
	// uncancelled tells that it comes even if the client returns, by a fault.
	uncancelled bool
	size        int
}

// outlives tells whether a will that is late is none of the session's any longer: it is at its end.
func (w *will) outlives(ses *session) bool { return w.late && ses.ending }

type subscription struct {
	packet.Subscription
	id uint32 // subscription identifier, 0 for none
}

// flight is a message on its way to one client.
type flight struct {
	m        *message
	p        *packet.Publish
	released bool // PUBREL sent
	stored   bool // it was stored, and greets a subscription
	size     int
}

// message is an application message as the broker holds it.
type message struct {
	packet.Publish
	expires time.Time // zero for never
}

func newMessage(p *packet.Publish) *message {
	m := &message{Publish: *p}
	m.Properties = p.Properties.Without(packet.TopicAlias, packet.SubscriptionIdentifier)
	if n, ok := p.Properties.Int(packet.MessageExpiry); ok {
		m.expires = time.Now().Add(time.Duration(n) * time.Second)
	}
	return m
}

// over tells whether a message has expired (5.0 §3.3.2.3.3); stored tells that it is a stored one.
func (s *Server) over(m *message, stored bool) bool {
	expired := m.expired()
	s.decide(func(d *Decisions) {
		if d.Expired != nil {
			expired = d.Expired(stored, expired)
		}
	})
	return expired
}

func (m *message) expired() bool { return !m.expires.IsZero() && !time.Now().Before(m.expires) }

// open finds or makes the session for a CONNECT and binds it to the connection,
// throwing out a client that holds it (§3.1.4).
func (s *Server) open(id string, p *packet.Connect, c *conn) (ses *session, present bool) {
	ses = s.sessions[id]
	if ses != nil {
		if old := ses.conn; old != nil {
			if !s.on(func(d *Decisions) bool { return d.BothLive }) {
				old.disconnectLocked(packet.SessionTakenOver)
			}
			if s.on(func(d *Decisions) bool { return d.ThrowsBoth }) {
				time.AfterFunc(lingerForRefused, func() { c.link.Close() })
			}
			s.lost(ses, old)
		}
		// lost may have ended the session.
		ses = s.sessions[id]
	}
	if ses != nil && p.CleanStart {
		s.end(ses)
		ses = nil
	}
	present = ses != nil
	if ses == nil {
		ses = &session{s: s, id: id, subs: map[string]*subscription{}, held: sizeOfSession + len(id)}
		s.held += ses.held
		s.sessions[id] = ses
	}
	ses.stopTimers()
	s.connected++ // whoever held it is lost
	ses.conn, ses.version, c.session = c, p.Level, ses
	switch {
	case p.Level == packet.V5:
		ses.expiry = expiryOf(p.Properties.IntOr(packet.SessionExpiry, 0))
	case p.CleanStart:
		ses.expiry = 0
	default:
		ses.expiry = Never
	}
	ses.setWill(nil)
	c.hadWill = p.Will != nil
	if w := p.Will; w != nil {
		ses.setWill(&will{
			message: newMessage(&packet.Publish{Topic: w.Topic, Payload: w.Payload, QoS: w.QoS, Retain: w.Retain,
				Properties: w.Properties.Without(packet.WillDelay)}),
			delay: expiryOf(w.Properties.IntOr(packet.WillDelay, 0)),
		})
	}
	return ses, present
}

func (ses *session) stopTimers() {
	if ses.expires != nil {
		ses.expires.Stop()
		ses.expires = nil
	}
	if ses.will != nil && ses.will.timer != nil && !ses.will.uncancelled && !ses.will.outlives(ses) {
		ses.will.timer.Stop()
	}
}

// lost is called when a session's connection has ended, however it did.
func (s *Server) lost(ses *session, c *conn) {
	if ses.conn != nil {
		s.connected--
	}
	ses.conn, ses.since = nil, time.Now()
	ses.greetAll()
	forget := ses.expiry == 0
	s.decide(func(d *Decisions) { forget = forget || d.Forget })
	if w := ses.will; w != nil {
		end := c.link.End()
		wc := WillCase{
			ClientID: ses.id,
			Goodbye:  c.goodbye && !c.wantsWill,
			Reset:    end == link.EndRST,
			Send:     !c.goodbye || c.wantsWill,
			Times:    1,
			Message:  &w.message.Publish,

			Requested: c.goodbye && c.wantsWill,
			Silent:    c.told == packet.KeepAliveTimeout,
			TakenOver: c.told == packet.SessionTakenOver,
			Violation: c.broke,
			Asked:     w.delay,
			Delay:     min(w.delay, ses.expiry),
		}
		s.decide(func(d *Decisions) {
			if d.Will != nil {
				d.Will(&wc)
			}
		})
		w.copies = wc.Times
		w.uncancelled = wc.Uncancelled
		if delay := max(wc.Delay, wc.Later); !wc.Send {
			ses.setWill(nil)
		} else if delay > 0 {
			w.timer = time.AfterFunc(delay, func() { s.locked(func() { s.sendWill(ses, w) }) })
			if wc.Later > 0 || wc.Outlives || wc.Uncancelled { // a fault: the session's end does not hasten it
				w.late = true
			}
		} else {
			s.sendWill(ses, w)
		}
	}
	if ses.will == nil && !c.goodbye && !c.hadWill {
		s.decide(func(d *Decisions) {
			if d.WillOfNone != nil {
				if m := d.WillOfNone(ses.id); m != nil {
					s.publish(newMessage(m), ses)
				}
			}
		})
	}
	s.bequeath(ses, c.goodbye)
	switch {
	case forget:
		s.end(ses)
	case ses.expiry != Never:
		var t *time.Timer
		t = time.AfterFunc(ses.expiry, func() {
			s.locked(func() {
				if ses.expires == t {
					s.end(ses)
				}
			})
		})
		ses.expires = t
	}
}

func (s *Server) locked(f func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.closed {
		f()
	}
}

func (s *Server) sendWill(ses *session, w *will) {
	if ses.will != w && !w.late {
		return // cancelled by the client's return
	}
	if ses.will == w {
		ses.setWill(nil)
	}
	m := w.message
	_, existed := s.retained.Get(m.Topic)
	s.decide(func(d *Decisions) {
		if d.WillStored != nil && m.Retain && !d.WillStored(existed) {
			live := *m
			live.Retain = false
			m = &live
		}
	})
	for range w.copies {
		s.publish(m, ses)
	}
}

// bequeath clears what a client has stored, by a fault.
func (s *Server) bequeath(ses *session, goodbye bool) {
	if !s.on(func(d *Decisions) bool { return d.Bequeath != nil && d.Bequeath(goodbye) }) {
		return
	}
	for name, owner := range s.owners {
		if owner == ses.id {
			s.forget(name)
		}
	}
}

// end forgets a session; a will that still waits is due now (5.0 §3.1.3.2.2).
func (s *Server) end(ses *session) {
	ses.ending = true
	if ses.will != nil && ses.will.late {
		ses.setWill(nil) // its timer has it
	}
	ses.stopTimers()
	if s.sessions[ses.id] == ses {
		delete(s.sessions, ses.id)
	}
	for f := range ses.subs {
		s.leave(ses, f)
	}
	if ses.will != nil && ses.conn == nil {
		s.sendWill(ses, ses.will)
	}
	ses.waiting, ses.inFlight, ses.byID, ses.ended = nil, nil, nil, true
	ses.give(ses.held)
}

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
		ses := h.ses
		if h.group != nil {
			ses = h.group.pick()
			sub = ses.subs[sub.Filter]
		}
		if sub.NoLocal && ses == from {
			return
		}
		qos := min(m.QoS, sub.QoS)
		if ses.round != s.round || h.group != nil { // a share's copy comes beside any other
			s.hits = append(s.hits, hit{ses: ses})
			if h.group == nil {
				ses.round, ses.hit = s.round, len(s.hits)-1
			}
			ses.addTo(&s.hits[len(s.hits)-1], qos, sub)
			return
		}
		ses.addTo(&s.hits[ses.hit], qos, sub)
	})
	for i := range s.hits {
		h := &s.hits[i]
		h.ses.greetBefore(m.Topic)
		h.ses.deliver(m, h.sub, h.qos, m.Retain && h.rap, h.ids, false)
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
}

func (ses *session) addTo(h *hit, qos packet.QoS, sub *subscription) {
	h.qos, h.rap = max(h.qos, qos), h.rap || sub.RetainAsPublished
	if h.sub == nil {
		h.sub = sub
	}
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

// deliver gives a message to one client, or keeps it for when it comes back.
func (ses *session) deliver(m *message, sub *subscription, qos packet.QoS, retain bool, ids []uint32, stored bool) {
	p := &packet.Publish{Topic: m.Topic, Payload: m.Payload, QoS: qos, Retain: retain, Properties: m.Properties}
	if len(ids) > 0 {
		p.Properties = append(packet.Properties(nil), m.Properties...)
		for _, id := range ids {
			p.Properties = append(p.Properties, packet.Int(packet.SubscriptionIdentifier, id))
		}
	}
	if len(ses.s.opt.Faults) == 0 {
		ses.pass(m, p, stored)
		return
	}
	d := Delivery{
		Published: &m.Publish,

		AsPublished: sub.RetainAsPublished,

		Filter:  sub.Filter,
		Granted: sub.QoS,
		Stored:  stored,
		Away:    ses.conn == nil,
		Nth:     ses.got,
		Version: ses.version,
		Topic:   p.Topic,
		Payload: p.Payload,
		QoS:     p.QoS,
		Retain:  p.Retain,
		Times:   1,
	}
	ses.got++
	ses.s.decide(func(x *Decisions) {
		if x.Deliver != nil {
			x.Deliver(&d)
		}
	})
	for range d.Times {
		q := *p
		q.Topic, q.Payload, q.QoS, q.Retain, q.Dup = d.Topic, d.Payload, d.QoS, d.Retain, d.Dup
		ses.pass(m, &q, stored)
	}
}

// pass gives a packet to the client, or keeps it for when it comes back.
func (ses *session) pass(m *message, p *packet.Publish, stored bool) {
	if p.QoS == 0 {
		if ses.conn != nil && ses.fits(p) {
			ses.conn.pushLocked(ses.s.timed(m, p))
		}
		return
	}
	size := sizeOf(p)
	if ses.ended || len(ses.waiting) >= maxQueued || ses.conn != nil && !ses.fits(p) || !ses.take(size) {
		ses.dropped++
		return
	}
	ses.waiting = append(ses.waiting, &flight{m: m, p: p, size: size, stored: stored})
	ses.pump()
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
	left.Properties = append(left.Properties, packet.Int(packet.MessageExpiry, n))
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
		if f.released {
			ses.inFlight = append(ses.inFlight, f)
			ses.conn.pushLocked(&packet.Pubrel{Ack: packet.Ack{ID: f.p.ID}})
			continue
		}
		again := *f.p
		again.Dup = true
		f.p = &again
		unsent = append(unsent, f)
	}
	ses.waiting = append(unsent, ses.waiting...)
	ses.pump()
}

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
