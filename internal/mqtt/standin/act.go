package standin

import (
	"errors"
	"fmt"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

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
		c.released(p.ID)
	case *packet.Subscribe:
		return c.subscribed(p)
	case *packet.Unsubscribe:
		c.unsubscribed(p)
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

// released ends the flow of a QoS 2 message from the client (§4.3.3).
func (c *conn) released(id uint16) {
	ses := c.session
	r := Release{ClientID: ses.id, ID: id, Known: ses.received[id], Answer: true}
	r.Earlier = r.Known && !c.here[id]
	if !r.Known {
		r.Code = packet.PacketIDNotFound
	}
	c.s.decide(func(d *Decisions) {
		if d.Release != nil {
			d.Release(&r)
		}
	})
	delete(ses.received, id)
	delete(c.open, id)
	if r.Answer {
		c.answer(&packet.Pubcomp{Ack: packet.Ack{ID: id, Code: r.Code}})
	}
	if r.Pass != nil {
		c.s.publish(newMessage(r.Pass), ses)
	}
}

// unsubscribed takes filters back (§3.10.4).
func (c *conn) unsubscribed(p *packet.Unsubscribe) {
	s, ses := c.s, c.session
	ack := &packet.Unsuback{ID: p.ID}
	for _, f := range p.Filters {
		code, leaving := packet.NoSubscriptionExisted, []string{f}
		if ses.subs[f] != nil {
			code = packet.Success
		}
		if s.on(func(d *Decisions) bool { return d.Leaves != nil }) {
			leaving = nil
			for held := range ses.subs {
				leaves := held == f
				s.decide(func(d *Decisions) {
					if d.Leaves != nil {
						leaves = d.Leaves(f, held, leaves)
					}
				})
				if leaves {
					leaving = append(leaving, held)
				}
			}
		}
		for _, held := range leaving {
			s.leave(ses, held)
		}
		ack.Codes = append(ack.Codes, code)
	}
	c.answer(ack)
}

func (c *conn) disconnected(p *packet.Disconnect) error {
	if n, ok := p.Properties.Int(packet.SessionExpiry); ok {
		if c.session.expiry == 0 && n > 0 {
			return refuse(packet.ProtocolError, "the session expiry was 0 and cannot be raised (5.0 §3.14.2.2.2)")
		}
		n = c.s.opt.Limits.expiry(n)
		heeds := true
		c.s.decide(func(d *Decisions) {
			heeds = heeds && (d.Changed == nil || d.Changed(c.session.expiry, expiryOf(n)))
		})
		if heeds {
			c.session.expiry = expiryOf(n)
		}
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
		if alias > topicAliasMax && !s.on(func(d *Decisions) bool { return d.AnyAlias }) {
			return refuse(packet.TopicAliasInvalid, "topic alias %d", alias)
		}
		if c.aliases == nil {
			c.aliases = map[uint32]string{}
			if s.on(func(d *Decisions) bool { return d.KeepsAliases }) { // by a fault
				if ses.aliases == nil {
					ses.aliases = map[uint32]string{}
				}
				c.aliases = ses.aliases
			}
		}
		full := *p
		if p.Topic != "" {
			c.aliases[alias] = p.Topic
		} else if full.Topic = c.aliases[alias]; full.Topic == "" {
			return refuse(packet.ProtocolError, "topic alias %d was never set", alias)
		}
		s.decide(func(d *Decisions) {
			if d.Alias != nil {
				full.Topic = d.Alias(alias, full.Topic)
			}
		})
		p = &full
	}
	if err := c.limitPublish(p); err != nil {
		return err
	}
	if topic.CheckName(p.Topic) != nil {
		return refuse(packet.TopicNameInvalid, "%q is no topic name", p.Topic)
	}
	objection := ""
	s.decide(func(d *Decisions) {
		if d.Objects != nil && objection == "" {
			objection = d.Objects(p)
		}
	})
	if objection != "" {
		return refuse(packet.UnspecifiedError, "%s", objection)
	}
	ses.published.AddSecond(s.second)
	s.decide(func(d *Decisions) {
		if d.Topic != nil {
			other := *p
			other.Topic = d.Topic(p.Topic)
			p = &other
		}
	})
	arrival := Arrival{
		ClientID: ses.id,
		Message:  p,
		Again:    p.QoS == 2 && ses.received[p.ID],
		Resumed:  c.resumed,
		Answer:   true,
	}
	arrival.Pass = !arrival.Again
	s.decide(func(d *Decisions) {
		if d.Arrived != nil {
			d.Arrived(&arrival)
		}
	})
	if p.QoS == 2 {
		ses.keep(p.ID)
		c.opens(p.ID)
		c.here[p.ID] = true
	}
	ack := packet.Ack{ID: p.ID}
	switch {
	case !arrival.Pass:
	case !c.mayPublish(p):
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
	default:
		none := !s.publish(newMessage(p), ses)
		s.decide(func(d *Decisions) {
			if d.NoSubscribers != nil {
				none = d.NoSubscribers(none)
			}
		})
		if none {
			ack.Code = packet.NoMatchingSubscribers
		}
	}
	switch {
	case !arrival.Answer:
	case p.QoS == 1:
		c.answer(&packet.Puback{Ack: ack})
	case p.QoS == 2:
		c.answer(&packet.Pubrec{Ack: ack})
	}
	return nil
}

// mayPublish tells whether a login may publish a message.
func (c *conn) mayPublish(p *packet.Publish) bool {
	may := c.rights.mayPublish(p.Topic)
	c.s.decide(func(d *Decisions) {
		if d.MayPublish != nil {
			may = d.MayPublish(c.rights.login, p.Topic, may)
		}
		if d.StoresBarred && !may && p.Retain {
			c.s.store(newMessage(p))
		}
	})
	return may
}

// opens counts a QoS 2 message from the client against our receive maximum. Those at
// QoS 1 are acknowledged at once and never count.
func (c *conn) opens(id uint16) {
	if c.open == nil {
		c.open, c.here = map[uint16]bool{}, map[uint16]bool{}
	}
	c.open[id] = true
}

func (c *conn) subscribed(p *packet.Subscribe) error {
	s, ses := c.s, c.session
	if most := s.opt.Limits.Filters; most > 0 && len(p.Subscriptions) > most {
		return refuse(packet.QuotaExceeded, "a SUBSCRIBE with %d filters; %d are allowed", len(p.Subscriptions), most)
	}
	ack := &packet.Suback{ID: p.ID}
	var greetings []*subscription
	id, hasID := p.Properties.Int(packet.SubscriptionIdentifier)
	for i, sub := range p.Subscriptions {
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
			if s.on(func(d *Decisions) bool { return d.Holds != nil && !d.Holds(i+1) }) {
				break
			}
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
	s.decide(func(d *Decisions) {
		if d.Codes != nil {
			ack.Codes = d.Codes(p.Subscriptions, ack.Codes)
		}
	})
	c.pushLocked(ack)
	for _, held := range greetings {
		s.greet(ses, held)
	}
	return nil
}
