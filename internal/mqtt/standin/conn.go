package standin

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// conn is one connection. One goroutine reads and acts, another writes; the server's
// lock guards the fields.
type conn struct {
	s        *Server
	link     *link.Link
	listener string // its URL; "" within memory
	peer     *Peer  // for hooks; nil without
	how      string // how it ended, for people

	clientID   string
	username   string
	method     string // of enhanced authentication, "" for none
	rights     *rights
	open       map[uint16]bool // identifiers of QoS 2 messages from the client, not completed
	version    packet.Version
	session    *session // nil before CONNECT was accepted
	pings      int      // PINGREQ so far
	spoke      bool     // something came after CONNECT
	keepAlive  time.Duration
	lastRead   time.Time
	silence    *time.Timer // fires when the keep alive may be over
	aliases    map[uint32]string
	receiveMax int
	maxPacket  int
	aliasMax   int               // topic aliases that the client lets us set
	goodbye    bool              // DISCONNECT came: no will
	hadWill    bool              // CONNECT left one
	wantsWill  bool              // DISCONNECT 0x04 came (5.0 §3.14.2.1)
	told       packet.ReasonCode // why the stand-in ended it, in the words of version 5; 0 where it did not
	broke      bool              // the client broke a rule

	queue   []packet.Packet
	bytes   int        // of what is queued or being written
	queued  *sync.Cond // on the server's lock
	closing bool       // write what is queued, then close
	gone    bool
}

// errGoodbye is the end that a client asks for.
var errGoodbye = errors.New("goodbye")

// refusal ends a connection with a code that the client may be told.
type refusal struct {
	code packet.ReasonCode
	why  string
}

func (r *refusal) Error() string { return r.why }

func refuse(code packet.ReasonCode, format string, args ...any) error {
	return &refusal{code, fmt.Sprintf(format, args...)}
}

// read reads and acts until the connection ends.
func (c *conn) read() {
	s := c.s
	timer := time.AfterFunc(connectTimeout, func() { c.link.Close() })
	r := packet.NewReader(c.link, packet.V311)
	r.MaxSize = s.opt.Limits.packetSize()
	p, raw, err := c.next(r)
	for err == nil && p.Type() != packet.CONNECT && s.on(func(d *Decisions) bool { return d.NotFirst }) {
		p, raw, err = c.next(r)
	}
	timer.Stop()
	c.received(p, raw, err)
	if err == nil {
		err = c.greet(p, r)
		r.Version = c.version
	} else if c.refuseBroken(err) {
		err = nil
	}
	if err == nil && c.keepAlive > 0 {
		s.mu.Lock()
		c.silence = time.AfterFunc(c.keepAlive, c.checkKeepAlive)
		s.mu.Unlock()
		defer c.silence.Stop()
	}
	for err == nil && r.Buffered() && s.on(func(d *Decisions) bool { return d.DropsPipelined }) {
		_, _, err = c.next(r)
	}
	for err == nil {
		p, raw, err = c.next(r)
		c.received(p, raw, err)
		if err != nil {
			break
		}
		if again, ok := p.(*packet.Auth); ok {
			err = c.renew(again, r)
			continue
		}
		s.mu.Lock()
		s.tick()
		if c.spoke = true; c.counts(p, false) {
			c.lastRead = s.now
		}
		err = c.act(p)
		for err == nil && c.session != nil && c.session.conn == c && c.session.greetMore() {
			s.mu.Unlock() // others come in between
			s.mu.Lock()
		}
		s.mu.Unlock()
	}
	c.finish(err)
}

// next reads a packet; what breaks a rule is read as far as it can be where a fault tolerates it.
func (c *conn) next(r *packet.Reader) (packet.Packet, []byte, error) {
	p, raw, err := r.Next()
	var broken *packet.Error
	if err == nil || raw == nil || !errors.As(err, &broken) ||
		!c.s.on(func(d *Decisions) bool { return d.Tolerate != nil && d.Tolerate(broken) }) {
		return p, raw, err
	}
	if again, _ := packet.Decode(raw, r.Version, packet.Lenient); again != nil {
		if connect, is := again.(*packet.Connect); is {
			r.Version = connect.Level
		}
		return again, raw, nil
	}
	return p, raw, err
}

// counts tells whether a packet shows that the client is alive (§3.1.2.10); the server's lock is held.
func (c *conn) counts(p packet.Packet, sent bool) bool {
	counts := !sent
	c.s.decide(func(d *Decisions) {
		if d.Counts != nil {
			counts = d.Counts(p, sent)
		}
	})
	return counts
}

// received tells the hooks of a packet.
func (c *conn) received(p packet.Packet, raw []byte, err error) {
	if c.peer == nil || raw == nil {
		return
	}
	if connect, ok := p.(*packet.Connect); ok && c.peer.Version == 0 {
		c.peer.ClientID, c.peer.Version = connect.ClientID, connect.Level
	}
	c.s.opt.Hooks.Received(c.peer, p, raw, err)
}

// refuseBroken answers a CONNECT of a version that nobody speaks (3.1.1 §3.1.2.2, 5.0 §3.1.2.2), and one that leaves
// its identifier to us and wants a session that is kept (3.1.1 §3.1.3.1). It tells whether the link stays open, by a
// fault.
func (c *conn) refuseBroken(err error) (stays bool) {
	var broken *packet.Error
	if !errors.As(err, &broken) || broken.Packet != packet.CONNECT {
		return false
	}
	code := packet.RefusedVersion
	switch broken.Code {
	case packet.UnsupportedProtocolVersion:
		stays = c.s.on(func(d *Decisions) bool { return d.AnyLevel })
	case packet.ClientIDNotValid:
		code = packet.RefusedIdentifier
	default:
		return false
	}
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	if c.version = packet.V311; stays {
		code = 0
	}
	told := true
	c.s.decide(func(d *Decisions) {
		if d.Code != nil && code == packet.RefusedIdentifier {
			var as packet.ReasonCode
			as, told = d.Code(&packet.Connect{Level: packet.V311}, packet.ClientIDNotValid)
			code = older(as)
		}
	})
	if told {
		c.pushLocked(&packet.Connack{Code: code})
	}
	return stays
}

// finish is the last thing the reading goroutine does.
func (c *conn) finish(err error) {
	s := c.s
	s.mu.Lock()
	defer s.mu.Unlock()
	var by Ending
	if by, c.how = howEnded(c.link.End(), err); c.peer != nil {
		c.peer.End = by
	}
	var broken *packet.Error
	var refused *refusal
	switch {
	case errors.As(err, &broken):
		c.broke = true
		c.disconnectLocked(broken.Code)
	case errors.As(err, &refused):
		c.broke = true
		c.disconnectLocked(refused.code)
	default:
		c.closing = true
		c.queued.Broadcast()
	}
	c.gone = true
	delete(s.conns, c)
	if ses := c.session; ses != nil && ses.conn == c && !s.closed {
		s.lost(ses, c)
	}
}

// Ending is who ended a connection of a stand-in.
type Ending string

// Who may have ended a connection.
const (
	EndedByClient  Ending = "the client"
	EndedByStandIn Ending = "the stand-in"
	EndedByReset   Ending = "a reset"
	EndedOtherwise Ending = "a failure"
)

// howEnded says who ended a connection, and for people how.
func howEnded(end link.End, err error) (Ending, string) {
	switch {
	case errors.Is(err, errGoodbye):
		return EndedByClient, "the client said goodbye by DISCONNECT"
	case end == link.EndNone, end == link.EndClosed:
		return EndedByStandIn, "closed by the stand-in: " + err.Error()
	case end == link.EndFIN:
		return EndedByClient, "the client closed the connection"
	case end == link.EndRST:
		return EndedByReset, "the client reset the connection"
	}
	return EndedOtherwise, "the connection failed: " + err.Error()
}

// disconnectLocked queues a DISCONNECT with the code in version 5 and lets the writer
// close after it.
func (c *conn) disconnectLocked(code packet.ReasonCode) {
	if c.version == packet.V5 && c.session != nil && !c.closing {
		c.queue = append(c.queue, &packet.Disconnect{Code: code}) // too small to count
	}
	if c.told == 0 {
		c.told = code
	}
	c.closing = true
	c.queued.Broadcast()
	// The writer may be in the middle of what the peer does not take.
	time.AfterFunc(lingerForGoodbye, func() { c.link.Close() })
}

// dropLocked ends the connection at once.
func (c *conn) dropLocked() {
	c.gone, c.closing = true, true
	c.queue = nil
	c.link.Close()
	c.queued.Broadcast()
}

// greet acts on the first packet, which must be CONNECT (§3.1).
func (c *conn) greet(p packet.Packet, r *packet.Reader) error {
	s := c.s
	connect, ok := p.(*packet.Connect)
	if !ok {
		return errors.New("the first packet is " + p.Type().String())
	}
	var hold time.Duration
	s.decide(func(d *Decisions) { hold += d.Hold })
	if hold > 0 {
		select {
		case <-time.After(hold):
		case <-s.ctx.Done():
			return context.Canceled
		}
	}
	s.mu.Lock()
	c.version, c.clientID, c.username = connect.Level, connect.ClientID, connect.Username
	s.mu.Unlock()
	var v verdict
	var last packet.Properties
	if _, asked := connect.Properties.Str(packet.AuthMethod); asked &&
		!s.on(func(d *Decisions) bool { return d.AnyMethod }) {
		var err error
		if v, last, err = c.authenticate(connect.Properties, r); err != nil {
			return err
		}
	} else {
		v = c.identify(connect)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tick()
	c.lastRead = s.now
	if code, why := c.limitConnect(connect); v.code == 0 && code != 0 {
		v.code, v.why = code, why
	}
	if w := connect.Will; v.code == 0 && w != nil && !v.rights.mayPublish(w.Topic) {
		v.code, v.why = packet.NotAuthorized, fmt.Sprintf(
			"the login %q may not publish its will to %s",
			v.rights.login,
			w.Topic,
		)
	}
	s.decide(func(d *Decisions) {
		if v.code == 0 && d.Refuse != nil && d.Refuse(connect) {
			v.code, v.why = packet.UnspecifiedError, "a fault of this stand-in"
		}
	})
	if v.code != 0 {
		return c.refuseLocked(connect, v)
	}
	c.rights = v.rights
	c.method, _ = last.Str(packet.AuthMethod)
	c.welcomeLocked(connect, last)
	return nil
}

// refuseLocked answers CONNECT with a refusal (3.1.1 §3.2.2.3, 5.0 §3.2.2.2).
func (c *conn) refuseLocked(connect *packet.Connect, v verdict) error {
	c.noteLocked("CONNECT", v.code, v.why)
	told := true
	c.s.decide(func(d *Decisions) {
		if d.Code != nil {
			v.code, told = d.Code(connect, v.code)
		}
	})
	ack := &packet.Connack{Code: v.code}
	if c.version != packet.V5 {
		ack.Code = older(v.code)
	} else if v.code == packet.UseAnotherServer {
		ack.Properties = packet.Properties{packet.Str(packet.ServerReference, c.s.opt.Limits.Redirect)}
	}
	if told {
		c.pushLocked(ack)
	}
	stays := false
	c.s.decide(func(d *Decisions) {
		stays = stays || d.StaysOpen || d.ActsAfterRefusal
		if d.ActsAfterRefusal {
			time.AfterFunc(lingerForRefused, func() { c.link.Close() })
		}
	})
	if stays {
		return nil // what comes is not acted on, for there is no session
	}
	return errors.New("refused: " + v.why)
}

// welcomeLocked opens the session and answers with CONNACK.
func (c *conn) welcomeLocked(connect *packet.Connect, last packet.Properties) {
	s := c.s
	keepAlive := int(connect.KeepAlive)
	c.receiveMax = min(maxInFlight, int(connect.Properties.IntOr(packet.ReceiveMaximum, 65535)))
	c.maxPacket = int(connect.Properties.IntOr(packet.MaximumPacketSize, 0))
	c.aliasMax = min(topicAliasMax, int(connect.Properties.IntOr(packet.TopicAliasMaximum, 0)))
	ack := &packet.Connack{}
	if c.version == packet.V5 {
		if n := s.opt.Limits.ServerKeepAlive; n > 0 {
			keepAlive = n
		}
		ack.Properties = append(s.opt.Limits.announce(), last...)
	}
	s.decide(func(d *Decisions) {
		if d.KeepAlive != nil {
			keepAlive = d.KeepAlive(int(connect.KeepAlive), s.opt.Limits.ServerKeepAlive)
		}
	})
	c.keepAlive = time.Duration(keepAlive) * time.Second * 3 / 2
	id := connect.ClientID
	if id == "" {
		s.assigned++
		told := c.version == packet.V5
		id = fmt.Sprintf("standin-%d", s.assigned)
		s.decide(func(d *Decisions) {
			if d.Identify != nil {
				id, told = d.Identify(id)
			}
		})
		c.clientID = id
		if told && c.version == packet.V5 {
			ack.Properties = append(ack.Properties, packet.Str(packet.AssignedClientID, id))
		}
	}
	ses, present := s.open(id, connect, c)
	ses.username, ses.login, ses.since = c.username, c.rights.login, s.now
	s.decide(func(d *Decisions) {
		if d.Present != nil {
			present = d.Present(connect, present)
		}
	})
	ack.SessionPresent = present && c.version != packet.V31
	for id := range ses.received {
		c.opens(id)
	}
	if s.on(func(d *Decisions) bool { return d.Late }) {
		ses.resumeLocked()
		c.pushLocked(ack)
		return
	}
	c.pushLocked(ack)
	ses.resumeLocked()
}

// checkKeepAlive closes the connection after one and a half keep alives of silence (§3.1.2.10).
func (c *conn) checkKeepAlive() {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	if c.gone {
		return
	}
	if !c.spoke && c.s.on(func(d *Decisions) bool { return d.OnlySpoken }) {
		c.silence.Reset(c.keepAlive)
		return
	}
	if left := c.keepAlive - time.Since(c.lastRead); left > 0 {
		c.silence.Reset(left)
		return
	}
	c.disconnectLocked(packet.KeepAliveTimeout)
}

// act acts on a packet of an accepted client; the server's lock is held.
func (c *conn) act(p packet.Packet) error {
	s, ses := c.s, c.session
	if ses == nil { // refused, and the link left open by a fault
		if m, is := p.(*packet.Publish); is && s.on(func(d *Decisions) bool { return d.ActsAfterRefusal }) {
			s.publish(newMessage(m), nil)
		}
		return nil
	}
	if c.closing || ses.conn != c {
		if _, asks := p.(*packet.Pingreq); asks && !c.closing { // both live, by a fault
			c.pushLocked(&packet.Pingresp{})
			return nil
		}
		return errors.New("the connection is ending")
	}
	switch p := p.(type) {
	case *packet.Publish:
		return c.published(p)
	case *packet.Puback:
		ses.acknowledged(p.ID, 1)
	case *packet.Pubrec:
		ses.recorded(p)
	case *packet.Pubcomp:
		ses.acknowledged(p.ID, 2)
	case *packet.Pubrel:
		comp := &packet.Pubcomp{Ack: packet.Ack{ID: p.ID}}
		if !ses.received[p.ID] {
			comp.Code = packet.PacketIDNotFound
		}
		delete(ses.received, p.ID)
		delete(c.open, p.ID)
		c.answer(comp)
	case *packet.Subscribe:
		return c.subscribed(p)
	case *packet.Unsubscribe:
		ack := &packet.Unsuback{ID: p.ID}
		for _, f := range p.Filters {
			code := packet.NoSubscriptionExisted
			if s.leave(ses, f) {
				code = packet.Success
			}
			ack.Codes = append(ack.Codes, code)
		}
		c.pushLocked(ack)
	case *packet.Pingreq:
		c.pings++
		n := 1
		s.decide(func(d *Decisions) {
			if d.Pong != nil {
				n = d.Pong(c.pings)
			}
		})
		for range n {
			c.pushLocked(&packet.Pingresp{})
		}
	case *packet.Disconnect:
		return c.disconnected(p)
	case *packet.Connect:
		if !s.on(func(d *Decisions) bool { return d.Again }) {
			return refuse(packet.ProtocolError, "CONNECT from a client that is connected")
		}
	default:
		return refuse(packet.ProtocolError, "%s from a client that is connected", p.Type())
	}
	return nil
}

func (c *conn) disconnected(p *packet.Disconnect) error {
	if n, ok := p.Properties.Int(packet.SessionExpiry); ok {
		if c.session.expiry == 0 && n > 0 {
			return refuse(packet.ProtocolError, "the session expiry was 0 and cannot be raised (5.0 §3.14.2.2.2)")
		}
		c.session.expiry = expiryOf(n)
	}
	c.goodbye = true
	c.wantsWill = p.Code != 0 // only 0x00 discards the will (5.0 §3.14.4)
	return errGoodbye
}

func (c *conn) published(p *packet.Publish) error {
	s, ses := c.s, c.session
	if _, has := p.Properties.Int(packet.SubscriptionIdentifier); has {
		return refuse(packet.ProtocolError, "a subscription identifier from a client (5.0 §3.3.4)")
	}
	if alias, ok := p.Properties.Int(packet.TopicAlias); ok {
		if alias > topicAliasMax {
			return refuse(packet.TopicAliasInvalid, "topic alias %d", alias)
		}
		if c.aliases == nil {
			c.aliases = map[uint32]string{}
		}
		full := *p
		if p.Topic != "" {
			c.aliases[alias] = p.Topic
		} else if full.Topic = c.aliases[alias]; full.Topic == "" {
			return refuse(packet.ProtocolError, "topic alias %d was never set", alias)
		}
		p = &full
	}
	if err := c.limitPublish(p); err != nil {
		return err
	}
	if topic.CheckName(p.Topic) != nil {
		return refuse(packet.TopicNameInvalid, "%q is no topic name", p.Topic)
	}
	ses.published.AddSecond(s.second)
	s.decide(func(d *Decisions) {
		if d.Topic != nil {
			other := *p
			other.Topic = d.Topic(p.Topic)
			p = &other
		}
	})
	fresh := true
	if p.QoS == 2 {
		fresh = !ses.received[p.ID]
		s.decide(func(d *Decisions) {
			if d.Fresh != nil {
				fresh = d.Fresh(p, fresh)
			}
		})
		ses.keep(p.ID)
		c.opens(p.ID)
	}
	ack := packet.Ack{ID: p.ID}
	switch {
	case !fresh:
	case !c.rights.mayPublish(p.Topic):
		// Before version 5 there is no way to tell (3.1.1 §3.3.5.2).
		c.noteLocked(
			"PUBLISH "+p.Topic,
			packet.NotAuthorized,
			fmt.Sprintf("the login %q may not publish to it", c.rights.login),
		)
		if ack.Code = packet.NotAuthorized; c.version != packet.V5 {
			ack.Code = 0
		}
		if p.QoS == 2 && c.version == packet.V5 { // the flow ends with PUBREC (5.0 §4.3.3)
			delete(ses.received, p.ID)
			delete(c.open, p.ID)
		}
	case p.Retain && len(p.Payload) > 0 && !s.opt.Limits.NoRetained && !s.storable(p):
		c.noteLocked("PUBLISH "+p.Topic, packet.QuotaExceeded, "there is no room to store it")
		if ack.Code = packet.QuotaExceeded; c.version != packet.V5 {
			ack.Code = 0 // there is no way to tell
		}
		if p.QoS == 2 && c.version == packet.V5 { // the flow ends with PUBREC (5.0 §4.3.3)
			delete(ses.received, p.ID)
			delete(c.open, p.ID)
		}
	case !s.publish(newMessage(p), ses):
		ack.Code = packet.NoMatchingSubscribers
	}
	switch p.QoS {
	case 1:
		c.answer(&packet.Puback{Ack: ack})
	case 2:
		c.answer(&packet.Pubrec{Ack: ack})
	}
	return nil
}

// opens counts a QoS 2 message from the client against our receive maximum. Those at
// QoS 1 are acknowledged at once and never count.
func (c *conn) opens(id uint16) {
	if c.open == nil {
		c.open = map[uint16]bool{}
	}
	c.open[id] = true
}

func (c *conn) subscribed(p *packet.Subscribe) error {
	s, ses := c.s, c.session
	ack := &packet.Suback{ID: p.ID}
	var greetings []*subscription
	id, hasID := p.Properties.Int(packet.SubscriptionIdentifier)
	for _, sub := range p.Subscriptions {
		code, why := c.limitFilter(sub, hasID)
		s.decide(func(d *Decisions) {
			if d.Grant != nil {
				code = d.Grant(sub, code)
			}
		})
		switch {
		case code == packet.ProtocolError:
			return refuse(code, "%s", why)
		case code >= 0x80:
			c.noteLocked("SUBSCRIBE "+sub.Filter, code, why)
			switch c.version {
			case packet.V311:
				code = packet.SubackFailure
			case packet.V31: // it has no way to tell
				code = packet.ReasonCode(sub.QoS)
			}
		default:
			sub.QoS = packet.QoS(code)
			held := &subscription{Subscription: sub, id: id}
			existed, done := s.join(ses, held)
			if !done {
				code = packet.QuotaExceeded
				c.noteLocked("SUBSCRIBE "+sub.Filter, code, "there is no room for another subscription")
				switch c.version {
				case packet.V311:
					code = packet.SubackFailure
				case packet.V31:
					code = packet.ReasonCode(sub.QoS)
				}
				break
			}
			_, _, shared := topic.CutShare(sub.Filter) // the stored do not greet those (5.0 §4.8.2)
			greets := !shared &&
				(sub.RetainHandling == packet.RetainSend || sub.RetainHandling == packet.RetainSendIfNew && !existed)
			s.decide(func(d *Decisions) {
				if d.Greets != nil {
					greets = d.Greets(&sub, existed, greets)
				}
			})
			if greets {
				greetings = append(greetings, held)
			}
		}
		ack.Codes = append(ack.Codes, code)
	}
	c.pushLocked(ack)
	for _, held := range greetings {
		s.greet(ses, held)
	}
	return nil
}
