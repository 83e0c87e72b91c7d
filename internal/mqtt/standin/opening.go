package standin

import (
	"context"
	"errors"
	"fmt"
	"time"

	"hodstone/internal/mqtt/packet"
)

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
	s.decide(func(d *Decisions) {
		if d.ReceiveMaximum != nil {
			c.receiveMax = d.ReceiveMaximum(c.receiveMax)
		}
		if d.MaximumPacketSize != nil {
			c.maxPacket = d.MaximumPacketSize(c.maxPacket)
		}
		if d.Aliases != nil {
			c.aliasMax = d.Aliases(c.aliasMax)
		}
	})
	ack := &packet.Connack{}
	own := 0 // in 3.1.1 nothing tells a client
	if c.version == packet.V5 {
		if own = s.opt.Limits.ServerKeepAlive; own > 0 {
			keepAlive = own
		}
		ack.Properties = append(s.opt.Limits.announce(), last...)
		asked := connect.Properties.IntOr(packet.SessionExpiry, 0)
		if given := s.opt.Limits.expiry(asked); given != asked {
			ack.Properties = append(ack.Properties, packet.Int(packet.SessionExpiry, given))
		}
	}
	s.decide(func(d *Decisions) {
		if d.KeepAlive != nil {
			keepAlive = d.KeepAlive(int(connect.KeepAlive), own)
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
	s.decide(func(d *Decisions) {
		if d.ClientID != nil {
			id = d.ClientID(id)
		}
	})
	ses, present := s.open(id, connect, c)
	c.resumed = present
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
