package standin

import (
	"math"
	"time"

	"hodstone/internal/meter"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
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
	waiting              []*flight         // to be sent as far as the client takes them
	behind               []*flight         // by a fault: what has waited, and comes after what is new
	aliases              map[uint32]string // by a fault
	overtaken            []func()          // by a fault: messages that the next one overtakes
	greeting             *greeting         // stored messages that are still to greet it
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
	id      uint32 // subscription identifier, 0 for none
	repeats int    // how often it was subscribed to again
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
	notCleaned := s.on(func(d *Decisions) bool { return d.NotCleaned })
	if ses != nil && p.CleanStart && !notCleaned {
		s.end(ses)
		ses = nil
	}
	present = ses != nil && !p.CleanStart
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
		ses.expiry = expiryOf(s.opt.Limits.expiry(p.Properties.IntOr(packet.SessionExpiry, 0)))
	case p.CleanStart:
		ses.expiry = 0
	default:
		ses.expiry = Never
	}
	s.decide(func(d *Decisions) {
		if d.Expiry != nil {
			ses.expiry = d.Expiry(ses.expiry, p.Will != nil)
		}
		if d.CleanKept && ses.expiry == 0 {
			ses.expiry = Never
		}
	})
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
	ses.waiting, ses.behind = append(ses.behind, ses.waiting...), nil
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
	ses.waiting, ses.behind, ses.inFlight, ses.byID, ses.ended = nil, nil, nil, nil, true
	ses.give(ses.held)
}
