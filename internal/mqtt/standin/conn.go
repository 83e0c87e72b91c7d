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
	s      *Server
	link   *link.Link
	opened time.Time

	version    packet.Version
	session    *session // nil before CONNECT was accepted
	keepAlive  time.Duration
	lastRead   time.Time
	silence    *time.Timer // fires when the keep alive may be over
	aliases    map[uint32]string
	receiveMax int
	maxPacket  int
	goodbye    bool // DISCONNECT came: no will
	wantsWill  bool // DISCONNECT 0x04 came (5.0 §3.14.2.1)

	queue   []packet.Packet
	queued  *sync.Cond // on the server's lock
	closing bool       // write what is queued, then close
	gone    bool
}

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
	r.MaxSize = maxPacketSize
	p, _, err := r.Next()
	timer.Stop()
	if err == nil {
		err = c.greet(p)
		r.Version = c.version
	} else {
		c.refuseBroken(err)
	}
	if err == nil && c.keepAlive > 0 {
		s.mu.Lock()
		c.silence = time.AfterFunc(c.keepAlive, c.checkKeepAlive)
		s.mu.Unlock()
		defer c.silence.Stop()
	}
	for err == nil {
		p, _, err = r.Next()
		if err != nil {
			break
		}
		s.mu.Lock()
		c.lastRead = time.Now()
		err = c.act(p)
		s.mu.Unlock()
	}
	c.finish(err)
}

// refuseBroken answers a CONNECT of a version that nobody speaks (3.1.1 §3.1.2.2, 5.0 §3.1.2.2).
func (c *conn) refuseBroken(err error) {
	var broken *packet.Error
	if errors.As(err, &broken) && broken.Packet == packet.CONNECT && broken.Code == packet.UnsupportedProtocolVersion {
		c.s.mu.Lock()
		c.version = packet.V311
		c.pushLocked(&packet.Connack{Code: packet.RefusedVersion})
		c.s.mu.Unlock()
	}
}

// finish is the last thing the reading goroutine does.
func (c *conn) finish(err error) {
	s := c.s
	s.mu.Lock()
	defer s.mu.Unlock()
	var broken *packet.Error
	var refused *refusal
	switch {
	case errors.As(err, &broken):
		c.farewellLocked(broken.Code)
	case errors.As(err, &refused):
		c.farewellLocked(refused.code)
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

// farewellLocked queues a DISCONNECT with the code in version 5 and lets the writer
// close after it.
func (c *conn) farewellLocked(code packet.ReasonCode) {
	if c.version == packet.V5 && c.session != nil && !c.closing {
		c.queue = append(c.queue, &packet.Disconnect{Code: code})
	}
	c.closing = true
	c.queued.Broadcast()
}

// dropLocked ends the connection at once.
func (c *conn) dropLocked() {
	c.gone, c.closing = true, true
	c.queue = nil
	c.link.Close()
	c.queued.Broadcast()
}

// write is the writing goroutine.
func (c *conn) write() {
	var buf []byte
	for {
		c.s.mu.Lock()
		for len(c.queue) == 0 && !c.closing {
			c.queued.Wait()
		}
		batch := c.queue
		c.queue = nil
		version := c.version
		last := c.closing
		c.s.mu.Unlock()
		buf = buf[:0]
		for _, p := range batch {
			buf = p.Append(buf, version)
		}
		if last {
			// A peer that takes nothing must not hold up the end.
			timer := time.AfterFunc(lingerForGoodbye, func() { c.link.Close() })
			if len(buf) > 0 {
				c.link.Write(buf)
			}
			timer.Stop()
			c.link.Close()
			return
		}
		if _, err := c.link.Write(buf); err != nil {
			c.link.Close()
			c.s.mu.Lock()
			c.closing = true
			c.s.mu.Unlock()
			return
		}
		if cap(buf) > 64<<10 {
			buf = nil
		}
	}
}

// pushLocked queues a packet; PUBLISH at QoS 0 is dropped where the queue is full or
// the packet larger than the client takes (5.0 §3.1.2.11.4).
func (c *conn) pushLocked(p packet.Packet) {
	if pub, ok := p.(*packet.Publish); ok && pub.QoS == 0 && len(c.queue) > maxWriteQueue {
		return
	}
	if c.closing {
		return
	}
	c.queue = append(c.queue, p)
	c.queued.Signal()
}

// greet acts on the first packet, which must be CONNECT (§3.1).
func (c *conn) greet(p packet.Packet) error {
	s := c.s
	connect, ok := p.(*packet.Connect)
	if !ok {
		return errors.New("the first packet is " + p.Type().String())
	}
	if s.faults[faultConnectSlow] {
		select {
		case <-time.After(connectSlowDelay):
		case <-s.ctx.Done():
			return context.Canceled
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	c.version = connect.Level
	c.lastRead = time.Now()
	if code := c.judge(connect); code != 0 {
		c.pushLocked(&packet.Connack{Code: code})
		return errors.New("refused")
	}
	c.keepAlive = time.Duration(connect.KeepAlive) * time.Second * 3 / 2
	c.receiveMax = min(maxInFlight, int(connect.Properties.IntOr(packet.ReceiveMaximum, 65535)))
	c.maxPacket = int(connect.Properties.IntOr(packet.MaximumPacketSize, 0))
	ack := &packet.Connack{}
	if c.version == packet.V5 {
		ack.Properties = packet.Properties{
			packet.Int(packet.TopicAliasMaximum, topicAliasMax),
			packet.Int(packet.MaximumPacketSize, maxPacketSize),
			packet.Int(packet.SharedAvailable, 0),
		}
	}
	id := connect.ClientID
	if id == "" {
		s.assigned++
		id = fmt.Sprintf("standin-%d", s.assigned)
		if c.version == packet.V5 {
			ack.Properties = append(ack.Properties, packet.Str(packet.AssignedClientID, id))
		}
	}
	ses, present := s.open(id, connect, c)
	ack.SessionPresent = present && c.version != packet.V31
	c.session = ses
	c.pushLocked(ack)
	ses.resumeLocked()
	return nil
}

// judge returns the code to refuse with, or 0 (3.1.1 §3.2.2.3, 5.0 §3.2.2.2).
func (c *conn) judge(p *packet.Connect) packet.ReasonCode {
	s, v5 := c.s, p.Level == packet.V5
	pick := func(five, older packet.ReasonCode) packet.ReasonCode {
		if v5 {
			return five
		}
		return older
	}
	if _, asked := p.Properties.Str(packet.AuthMethod); asked {
		return packet.BadAuthenticationMethod
	}
	if w := p.Will; w != nil && topic.CheckName(w.Topic) != nil {
		return pick(packet.TopicNameInvalid, packet.RefusedRights)
	}
	if !p.HasUsername {
		if state, ok := c.link.TLS(); ok && len(state.VerifiedChains) > 0 {
			if _, known := s.opt.Logins[state.VerifiedChains[0][0].Subject.CommonName]; known {
				return 0
			}
		}
		if s.opt.Anonymous || s.faults[faultLoginAnonymous] {
			return 0
		}
		return pick(packet.NotAuthorized, packet.RefusedRights)
	}
	password, known := s.opt.Logins[p.Username]
	switch {
	case known && (string(p.Password) == password || s.faults[faultLoginAnyPassword]):
		return 0
	case !known && s.opt.Anonymous && len(s.opt.Logins) == 0:
		return 0 // no logins are kept at all: credentials are not looked at
	}
	return pick(packet.BadUserNameOrPassword, packet.RefusedLogin)
}

// checkKeepAlive closes the connection after one and a half keep alives of silence (§3.1.2.10).
func (c *conn) checkKeepAlive() {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	if c.gone {
		return
	}
	if left := c.keepAlive - time.Since(c.lastRead); left > 0 {
		c.silence.Reset(left)
		return
	}
	c.farewellLocked(packet.KeepAliveTimeout)
}

// act acts on a packet of an accepted client; the server's lock is held.
func (c *conn) act(p packet.Packet) error {
	s, ses := c.s, c.session
	if c.closing || ses.conn != c {
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
		c.pushLocked(comp)
	case *packet.Subscribe:
		return c.subscribed(p)
	case *packet.Unsubscribe:
		ack := &packet.Unsuback{ID: p.ID}
		for _, f := range p.Filters {
			code := packet.NoSubscriptionExisted
			if s.tree.Delete(f, ses) {
				delete(ses.subs, f)
				code = packet.Success
			}
			ack.Codes = append(ack.Codes, code)
		}
		c.pushLocked(ack)
	case *packet.Pingreq:
		if !s.faults[faultPingUnanswered] {
			c.pushLocked(&packet.Pingresp{})
		}
	case *packet.Disconnect:
		return c.disconnected(p)
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
	c.wantsWill = p.Code == packet.DisconnectWithWill
	return errors.New("goodbye")
}

func (c *conn) published(p *packet.Publish) error {
	s, ses := c.s, c.session
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
	fresh := true
	if p.QoS == 2 {
		fresh = !ses.received[p.ID] || p.Dup && s.faults[faultQoS2Twice]
		ses.received[p.ID] = true
	}
	reached := true
	if fresh {
		reached = s.publish(newMessage(p), ses)
	}
	ack := packet.Ack{ID: p.ID}
	if !reached {
		ack.Code = packet.NoMatchingSubscribers
	}
	switch p.QoS {
	case 1:
		c.pushLocked(&packet.Puback{Ack: ack})
	case 2:
		c.pushLocked(&packet.Pubrec{Ack: ack})
	}
	return nil
}

func (c *conn) subscribed(p *packet.Subscribe) error {
	s, ses := c.s, c.session
	ack := &packet.Suback{ID: p.ID}
	var greetings []func()
	id, _ := p.Properties.Int(packet.SubscriptionIdentifier)
	for _, sub := range p.Subscriptions {
		code := packet.ReasonCode(sub.QoS)
		shared := len(sub.Filter) >= len(topic.SharePrefix) && sub.Filter[:len(topic.SharePrefix)] == topic.SharePrefix
		switch {
		case shared && c.version == packet.V5:
			code = packet.SharedNotSupported
		case topic.CheckFilter(sub.Filter) != nil && c.version == packet.V5:
			code = packet.TopicFilterInvalid
		case topic.CheckFilter(sub.Filter) != nil:
			code = packet.SubackFailure
		default:
			held := &subscription{Subscription: sub, id: id}
			existed := s.tree.Set(sub.Filter, ses, held)
			ses.subs[sub.Filter] = held
			if sub.RetainHandling == packet.RetainSend || sub.RetainHandling == packet.RetainSendIfNew && !existed {
				greetings = append(greetings, func() { s.greet(ses, held) })
			}
		}
		ack.Codes = append(ack.Codes, code)
	}
	c.pushLocked(ack)
	for _, g := range greetings {
		g()
	}
	return nil
}
