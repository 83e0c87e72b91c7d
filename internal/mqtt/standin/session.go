package standin

import (
	"math"
	"slices"
	"strings"
	"time"

	"hodstone/internal/meter"
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
	round    uint64 // the message that hit is of
	hit      int    // where it stands in the server's hits

	published, delivered meter.Meter
	waiting              []*flight // not yet sent
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
}

type subscription struct {
	packet.Subscription
	id uint32 // subscription identifier, 0 for none
}

// flight is a message on its way to one client.
type flight struct {
	m        *message
	p        *packet.Publish
	released bool // PUBREL sent
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

func (m *message) expired() bool { return !m.expires.IsZero() && !time.Now().Before(m.expires) }

// open finds or makes the session for a CONNECT and binds it to the connection,
// throwing out a client that holds it (§3.1.4).
func (s *Server) open(id string, p *packet.Connect, c *conn) (ses *session, present bool) {
	ses = s.sessions[id]
	if ses != nil {
		if old := ses.conn; old != nil {
			old.farewellLocked(packet.SessionTakenOver)
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
		ses = &session{s: s, id: id, subs: map[string]*subscription{}}
		s.sessions[id] = ses
	}
	ses.stopTimers()
	ses.conn, ses.version, c.session = c, p.Level, ses
	switch {
	case p.Level == packet.V5:
		ses.expiry = expiryOf(p.Properties.IntOr(packet.SessionExpiry, 0))
	case p.CleanStart:
		ses.expiry = 0
	default:
		ses.expiry = Never
	}
	ses.will = nil
	if w := p.Will; w != nil {
		ses.will = &will{
			message: newMessage(&packet.Publish{Topic: w.Topic, Payload: w.Payload, QoS: w.QoS, Retain: w.Retain,
				Properties: w.Properties.Without(packet.WillDelay)}),
			delay: expiryOf(w.Properties.IntOr(packet.WillDelay, 0)),
		}
	}
	return ses, present
}

func (ses *session) stopTimers() {
	if ses.expires != nil {
		ses.expires.Stop()
		ses.expires = nil
	}
	if ses.will != nil && ses.will.timer != nil {
		ses.will.timer.Stop()
	}
}

// lost is called when a session's connection has ended, however it did.
func (s *Server) lost(ses *session, c *conn) {
	ses.conn, ses.since = nil, time.Now()
	if w := ses.will; w != nil {
		if c.goodbye && !c.wantsWill && !s.faults[faultWillOnGoodbye] || s.faults[faultWillNeverSent] ||
			s.faults[faultWillOnlyOnReset] && c.link.End() == "FIN" {
			ses.will = nil
		} else if delay := min(w.delay, ses.expiry); delay > 0 {
			w.timer = time.AfterFunc(delay, func() { s.locked(func() { s.sendWill(ses, w) }) })
		} else {
			s.sendWill(ses, w)
		}
	}
	switch {
	case ses.expiry == 0 || s.faults[faultSessionLost]:
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
	if ses.will != w {
		return // cancelled by the client's return
	}
	ses.will = nil
	s.publish(w.message, ses)
}

// end forgets a session; a will that still waits is due now (5.0 §3.1.3.2.2).
func (s *Server) end(ses *session) {
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
}

// publish passes a message to all subscribers and stores it if it is retained. It
// tells whether anyone subscribes.
func (s *Server) publish(m *message, from *session) bool {
	if m.Retain {
		s.store(m)
	}
	s.round++
	s.hits = s.hits[:0]
	s.tree.Matching(m.Topic, func(h holder, sub *subscription) {
		ses := h.ses
		if h.group != nil {
			ses = h.group.pick()
			sub = ses.subs[sub.Filter]
		}
		if sub.NoLocal && ses == from || s.faults[faultMatchWithoutParent] && matchesAsParent(sub.Filter, m.Topic) {
			return
		}
		qos := min(m.QoS, sub.QoS)
		if s.faults[faultQoSNotLowered] {
			qos = m.QoS
		}
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
		retain := m.Retain && (h.rap || s.faults[faultRetainFlagKept])
		h.ses.deliver(m, h.qos, retain, h.ids)
	}
	reached := len(s.hits) > 0
	clear(s.hits)
	return reached
}

// hit is a session that a message goes to, with what its matching subscriptions say.
type hit struct {
	ses *session
	qos packet.QoS
	rap bool
	ids []uint32
}

func (ses *session) addTo(h *hit, qos packet.QoS, sub *subscription) {
	h.qos, h.rap = max(h.qos, qos), h.rap || sub.RetainAsPublished
	if sub.id != 0 {
		h.ids = append(h.ids, sub.id)
	}
}

// matchesAsParent tells whether a filter a/# matches the name only as its parent a.
func matchesAsParent(filter, name string) bool {
	parent, ok := strings.CutSuffix(filter, "/#")
	return ok && topic.Match(parent, name)
}

func (s *Server) store(m *message) {
	switch {
	case len(m.Payload) == 0:
		if !s.faults[faultRetainNotCleared] {
			delete(s.retained, m.Topic)
		}
	case s.faults[faultRetainNotStored], s.opt.Limits.NoRetained:
	case len(s.retained) < maxRetained || s.retained[m.Topic] != nil:
		s.retained[m.Topic] = m
	}
}

// greet sends a new subscription the retained messages it matches (§3.3.1.3).
func (s *Server) greet(ses *session, sub *subscription) {
	var ids []uint32
	if sub.id != 0 {
		ids = []uint32{sub.id}
	}
	stored := s.retained
	if !strings.ContainsAny(sub.Filter, "+#") { // no need to look at all of them
		stored = map[string]*message{}
		if m := s.retained[sub.Filter]; m != nil {
			stored[sub.Filter] = m
		}
	}
	for name, m := range stored {
		if m.expired() {
			delete(s.retained, name)
			continue
		}
		if !topic.Match(sub.Filter, name) || s.faults[faultMatchWithoutParent] && matchesAsParent(sub.Filter, name) {
			continue
		}
		qos := min(m.QoS, sub.QoS)
		if s.faults[faultQoSNotLowered] {
			qos = m.QoS
		}
		ses.deliver(m, qos, !s.faults[faultRetainFlagLost], ids)
	}
}

// deliver gives a message to one client, or keeps it for when it comes back.
func (ses *session) deliver(m *message, qos packet.QoS, retain bool, ids []uint32) {
	p := &packet.Publish{Topic: m.Topic, Payload: m.Payload, QoS: qos, Retain: retain, Properties: m.Properties}
	if len(ids) > 0 {
		p.Properties = append(packet.Properties(nil), m.Properties...)
		for _, id := range ids {
			p.Properties = append(p.Properties, packet.Int(packet.SubscriptionIdentifier, id))
		}
	}
	if qos == 0 {
		if ses.conn != nil && ses.fits(p) {
			ses.conn.pushLocked(timed(m, p))
		}
		return
	}
	if len(ses.waiting) >= maxQueued || ses.conn != nil && !ses.fits(p) {
		ses.dropped++
		return
	}
	ses.waiting = append(ses.waiting, &flight{m: m, p: p})
	ses.pump()
}

func (ses *session) fits(p *packet.Publish) bool {
	return ses.conn.maxPacket == 0 || len(p.Append(nil, ses.version)) <= ses.conn.maxPacket
}

// timed returns the packet with the time that its message has left (5.0 §3.3.2.3.3).
func timed(m *message, p *packet.Publish) *packet.Publish {
	if m.expires.IsZero() {
		return p
	}
	left := *p
	left.Properties = p.Properties.Without(packet.MessageExpiry)
	seconds := max(0, int64(math.Ceil(time.Until(m.expires).Seconds())))
	left.Properties = append(left.Properties, packet.Int(packet.MessageExpiry, uint32(seconds)))
	return &left
}

// pump sends what waits as far as the client's receive maximum allows (5.0 §4.9).
func (ses *session) pump() {
	for ses.conn != nil && len(ses.waiting) > 0 && len(ses.inFlight) < ses.conn.receiveMax {
		f := ses.waiting[0]
		ses.waiting = ses.waiting[1:]
		if f.m.expired() {
			continue
		}
		f.p.ID = ses.freeID()
		ses.inFlight = append(ses.inFlight, f)
		if ses.byID == nil {
			ses.byID = map[uint16]*flight{}
		}
		ses.byID[f.p.ID] = f
		// Later changes to f.p happen on resume only, when this packet is long written or lost.
		ses.conn.pushLocked(timed(f.m, f.p))
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

// resumeLocked sends again what the client has not acknowledged, then what waited (§4.4).
func (ses *session) resumeLocked() {
	for _, f := range ses.inFlight {
		if f.released {
			ses.conn.pushLocked(&packet.Pubrel{Ack: packet.Ack{ID: f.p.ID}})
			continue
		}
		again := *f.p
		again.Dup = true
		f.p = &again
		ses.conn.pushLocked(timed(f.m, f.p))
	}
	ses.pump()
}

func (ses *session) acknowledged(id uint16, qos packet.QoS) {
	if f := ses.byID[id]; f != nil && f.p.QoS == qos {
		delete(ses.byID, id)
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
	ses.conn.pushLocked(rel)
}
