package client

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// handle acts on a packet as the standard tells a client to (§4.3). It runs on the
// reading goroutine. An error ends the connection.
func (k *conn) handle(p packet.Packet) error {
	c := k.c
	if err := k.inOrder(p); err != nil {
		return err
	}
	switch p := p.(type) {
	case *packet.Connack:
		return k.accept(p)
	case *packet.Auth:
		return k.challenged(p)
	case *packet.Publish:
		return k.message(p)
	case *packet.Puback:
		c.settle(p.ID, awaitAck, 1, p.Code)
	case *packet.Pubrec:
		return k.recorded(p)
	case *packet.Pubrel:
		c.mu.Lock()
		known := c.received[p.ID]
		delete(c.received, p.ID)
		c.mu.Unlock()
		comp := &packet.Pubcomp{Ack: packet.Ack{ID: p.ID}}
		if !known && c.opt.Version == packet.V5 {
			comp.Code = packet.PacketIDNotFound
		}
		return k.reply(comp)
	case *packet.Pubcomp:
		c.settle(p.ID, awaitComp, 2, p.Code)
	case *packet.Suback:
		c.answered(p.ID, p)
	case *packet.Unsuback:
		c.answered(p.ID, p)
	case *packet.Pingresp:
		k.pong()
	case *packet.Disconnect:
		return fmt.Errorf("DISCONNECT")
	default:
		return fmt.Errorf("the broker sent %s, which only clients send", p.Type())
	}
	return nil
}

// inOrder tells whether the packet may come now: CONNACK comes once, before all others but AUTH
// (3.1.1 §3.2, 5.0 §3.2, §4.12); nothing comes after one that refuses. DISCONNECT is heard at any
// time, for it tells why.
func (k *conn) inOrder(p packet.Packet) error {
	answer := k.answered
	switch p.Type() {
	case packet.CONNACK:
		if k.answered = true; answer {
			return &ruleError{packet.ProtocolError, "a second CONNACK (3.1.1 §3.2, 5.0 §3.2)"}
		}
	case packet.AUTH, packet.DISCONNECT:
	default:
		if !answer {
			return &ruleError{packet.ProtocolError, p.Type().String() + " before CONNACK (3.1.1 §3.2, 5.0 §3.2)"}
		}
		if k.refused {
			return &ruleError{
				packet.ProtocolError,
				p.Type().String() + " after a CONNACK that refuses (3.1.1 §3.2.2.3)",
			}
		}
	}
	return nil
}

func (k *conn) message(p *packet.Publish) error {
	c := k.c
	if alias, ok := p.Properties.Int(packet.TopicAlias); ok {
		if most := c.opt.Connect.Properties.IntOr(packet.TopicAliasMaximum, 0); alias > most {
			return &ruleError{
				packet.TopicAliasInvalid,
				fmt.Sprintf("the broker used topic alias %d; we allow %d (5.0 §3.1.2.11.5)", alias, most),
			}
		}
		if k.aliases == nil {
			k.aliases = map[uint16]string{}
		}
		if p.Topic != "" {
			k.aliases[uint16(alias)] = p.Topic
		} else {
			full := *p
			full.Topic = k.aliases[uint16(alias)]
			p = &full
			if p.Topic == "" {
				return &ruleError{packet.ProtocolError,
					fmt.Sprintf("the broker used topic alias %d without setting it (5.0 §3.3.2.3.4)", alias)}
			}
		}
	}
	deliver := true
	if p.QoS > 0 {
		if err := k.owing(p.ID); err != nil {
			return err
		}
	}
	if p.QoS == 2 {
		c.mu.Lock()
		deliver = !c.received[p.ID]
		if c.received == nil {
			c.received = map[uint16]bool{}
		}
		c.received[p.ID] = true
		c.mu.Unlock()
	}
	if deliver && c.responded(p) {
		deliver = false // it is the response to a request
	}
	if deliver && c.opt.Message != nil {
		c.opt.Message(p)
	}
	switch p.QoS {
	case 1:
		return k.reply(&packet.Puback{Ack: packet.Ack{ID: p.ID}})
	case 2:
		return k.reply(&packet.Pubrec{Ack: packet.Ack{ID: p.ID}})
	}
	return nil
}

// reply sends an answer. That it cannot be written is no reason to end the connection here:
// what the broker said before it closed is still to be read, and tells more.
func (k *conn) reply(p packet.Packet) error {
	k.send(p)
	return nil
}

// recorded answers PUBREC with PUBREL; a reason code of 0x80 or above ends the
// flow instead (5.0 §4.3.3).
func (k *conn) recorded(p *packet.Pubrec) error {
	c := k.c
	if p.Code.Failed(packet.PUBREC, c.opt.Version) {
		c.settle(p.ID, awaitAck, 2, p.Code)
		return nil
	}
	rel := &packet.Pubrel{Ack: packet.Ack{ID: p.ID}}
	c.mu.Lock()
	if f := c.flights.find(p.ID); f != nil && f.p.QoS == 2 {
		f.state = awaitComp
	} else if c.opt.Version == packet.V5 {
		rel.Code = packet.PacketIDNotFound
	}
	c.mu.Unlock()
	return k.reply(rel)
}

// finish ends a flight; c.mu is held.
func (f *flight) finish(code packet.ReasonCode, err error) {
	f.over, f.code, f.err = true, code, err
	if f.done != nil {
		close(f.done)
	}
}

func (c *Client) settle(id uint16, state int, qos packet.QoS, code packet.ReasonCode) {
	c.mu.Lock()
	f := c.flights.find(id)
	if f == nil || f.state != state || f.p.QoS != qos {
		c.mu.Unlock()
		return
	}
	c.end(f, code, nil) // lets go of c.mu
}

// end ends a flight and takes it out of the session, and sends what waited for room; c.mu is held, and let go of.
func (c *Client) end(f *flight, code packet.ReasonCode, err error) {
	f.finish(code, err)
	if i := c.flights.remove(f); i >= 0 && i < int(c.sent) {
		c.sent--
	}
	next := c.waiting()
	k := c.conn
	c.mu.Unlock()
	if c.opt.Completed != nil {
		c.opt.Completed(f.p, code, err)
	}
	if next != nil && k != nil {
		k.transmit(next)
	}
}

// waiting returns the oldest publication that may be sent now that receive maximum
// has room again (5.0 §4.9), counted as sent; c.mu is held.
func (c *Client) waiting() *flight {
	if c.conn == nil || int(c.sent) == len(c.flights.all) || int(c.sent) >= c.conn.limit.receiveMax {
		return nil
	}
	c.sent++
	return c.flights.all[c.sent-1]
}

func (k *conn) transmit(f *flight) {
	k.c.mu.Lock()
	f.ever = true
	var p packet.Packet = f.p
	if f.state == awaitComp {
		p = &packet.Pubrel{Ack: packet.Ack{ID: f.p.ID}}
	}
	first := f.state != awaitComp
	limit := k.limit
	k.c.mu.Unlock()
	var over *LimitError
	err := error(nil)
	if first { // a session that is resumed may meet other limits than it began with
		err = limit.allows(f.p)
	}
	if err == nil {
		err = k.send(p)
	}
	switch {
	case first && errors.As(err, &over): // it cannot be sent, now or later
		k.c.mu.Lock()
		k.c.end(f, 0, err)
	case err != nil && !errors.Is(err, ErrNotConnected):
		k.link.Close() // the reading goroutine tells why
	}
}

// Publication is a publication under way, as [Client.Start] returns it.
type Publication struct {
	// Packet is the PUBLISH as first sent, with its packet identifier.
	Packet *packet.Publish
	c      *Client
	f      *flight
}

// Start sends a message and does not wait for its acknowledgements. The packet
// identifier is chosen by the client unless p has one. Errors: [ErrNotConnected], a
// [*LimitError], a topic that is no topic name.
func (c *Client) Start(p packet.Publish) (*Publication, error) {
	k, err := c.mayPublish(&p)
	if err != nil {
		return nil, err
	}
	if p.QoS == 0 {
		x := &struct { // one piece of memory for both
			sent packet.Publish
			pub  Publication
		}{sent: p}
		x.sent.ID, x.sent.Dup = 0, false
		x.pub = Publication{Packet: &x.sent, c: c}
		return &x.pub, k.send(&x.sent)
	}
	f := &flight{first: p}
	f.p = &f.first
	c.mu.Lock()
	if p.ID == 0 {
		if f.p.ID = c.freeID(); f.p.ID == 0 {
			c.mu.Unlock()
			return nil, ErrNoIdentifier
		}
	} else if other := c.flights.find(p.ID); other != nil {
		c.mu.Unlock()
		return nil, fmt.Errorf("packet identifier %d is in use by the publication to %s (§2.3.1)", p.ID,
			other.p.Topic)
	}
	c.flights.add(f)
	next := c.waiting()
	c.mu.Unlock()
	pub := &f.pub
	*pub = Publication{Packet: f.p, c: c, f: f}
	if next == nil {
		return pub, nil // it goes out when receive maximum has room
	}
	k.transmit(next)
	c.mu.Lock()
	defer c.mu.Unlock()
	if over := (*LimitError)(nil); f.over && errors.As(f.err, &over) { // larger than the broker takes: told at once
		return nil, f.err
	}
	return pub, nil
}

// mayPublish tells by which connection a message may be sent, or why not.
func (c *Client) mayPublish(p *packet.Publish) (*conn, error) {
	c.mu.Lock()
	k := c.conn
	if k == nil {
		c.mu.Unlock()
		return nil, ErrNotConnected
	}
	limit, known := k.limit, p.Topic != "" && p.Topic == c.named
	c.mu.Unlock()
	if known {
		return k, limit.allows(p)
	}
	_, aliased := p.Properties.Int(packet.TopicAlias)
	if err := topic.CheckName(p.Topic); err != nil && (p.Topic != "" || !aliased) {
		return nil, err
	}
	c.mu.Lock()
	c.named = p.Topic
	c.mu.Unlock()
	return k, limit.allows(p)
}

// Post sends a message at QoS 0 as [Client.Start] does, for who sends so many that memory counts: without hooks nothing
// of p is kept, so that it may be used again.
func (c *Client) Post(p *packet.Publish) error {
	k, err := c.mayPublish(p)
	if err != nil {
		return err
	}
	p.QoS, p.ID, p.Dup = 0, 0, false
	return k.send(p)
}

// Wait waits until the flow is complete: PUBACK at QoS 1, PUBCOMP at QoS 2, at once at
// QoS 0. It returns the acknowledgement's reason code. When the connection ends
// first the error tells how; the publication stays part of the session.
func (p *Publication) Wait(ctx context.Context) (packet.ReasonCode, error) {
	if p.f == nil {
		return 0, nil
	}
	gone := p.c.Done()
	p.c.mu.Lock()
	if p.f.done == nil {
		if p.f.done = make(chan struct{}); p.f.over {
			close(p.f.done)
		}
	}
	done := p.f.done
	p.c.mu.Unlock()
	select {
	case <-done:
	case <-ctx.Done():
		return 0, fmt.Errorf("%s not complete: %w", p.what(), context.Cause(ctx))
	case <-gone:
		select {
		case <-done:
		default:
			return 0, fmt.Errorf("%s not complete: the connection ended", p.what())
		}
	}
	return p.f.code, p.f.err
}

func (p *Publication) what() string {
	return fmt.Sprintf("QoS %d publication %d to %q", p.Packet.QoS, p.Packet.ID, p.Packet.Topic)
}

// Publish sends a message and waits until its flow is complete.
func (c *Client) Publish(ctx context.Context, p packet.Publish) (packet.ReasonCode, error) {
	pub, err := c.Start(p)
	if err != nil {
		return 0, err
	}
	return pub.Wait(ctx)
}

// freeID returns a packet identifier not in use (§2.3.1), 0 where all are; c.mu is held.
func (c *Client) freeID() uint16 {
	if len(c.flights.all)+len(c.acks) >= math.MaxUint16 {
		return 0
	}
	for {
		c.nextID++
		if c.nextID == 0 {
			continue
		}
		if c.acks[c.nextID] == nil && c.flights.find(c.nextID) == nil {
			return c.nextID
		}
	}
}

// Subscribe sends the filters and waits for SUBACK. Refused filters are no error: the
// codes tell.
func (c *Client) Subscribe(
	ctx context.Context,
	subs []packet.Subscription,
	ps ...packet.Property,
) (*packet.Suback, error) {
	for _, s := range subs {
		if err := topic.CheckFilter(s.Filter); err != nil {
			return nil, err
		}
	}
	if k := c.current(); k != nil {
		c.mu.Lock()
		limit := k.limit
		c.mu.Unlock()
		if err := limit.allowsFilters(subs, ps); err != nil {
			return nil, err
		}
	}
	p, err := c.ask(ctx, func(id uint16) packet.Packet {
		return &packet.Subscribe{ID: id, Subscriptions: subs, Properties: ps}
	})
	ack, ok := p.(*packet.Suback)
	if err == nil && (!ok || len(ack.Codes) != len(subs)) {
		return ack, fmt.Errorf("SUBSCRIBE of %d filters got an answer that does not fit (§3.9.3)", len(subs))
	}
	return ack, err
}

// Unsubscribe takes back filters and waits for UNSUBACK.
func (c *Client) Unsubscribe(ctx context.Context, filters ...string) (*packet.Unsuback, error) {
	p, err := c.ask(ctx, func(id uint16) packet.Packet { return &packet.Unsubscribe{ID: id, Filters: filters} })
	ack, _ := p.(*packet.Unsuback)
	return ack, err
}

func (c *Client) ask(ctx context.Context, build func(id uint16) packet.Packet) (packet.Packet, error) {
	k := c.current()
	if k == nil {
		return nil, ErrNotConnected
	}
	w := &waiter{done: make(chan packet.Packet, 1)}
	c.mu.Lock()
	id := c.freeID()
	if id == 0 {
		c.mu.Unlock()
		return nil, ErrNoIdentifier
	}
	if c.acks == nil {
		c.acks = map[uint16]*waiter{}
	}
	c.acks[id] = w
	c.mu.Unlock()
	p := build(id)
	forget := func() {
		c.mu.Lock()
		delete(c.acks, id)
		c.mu.Unlock()
	}
	if err := k.send(p); err != nil {
		forget()
		return nil, err
	}
	select {
	case ack, ok := <-w.done:
		if !ok {
			<-k.gone()
			return nil, fmt.Errorf("%s not answered: %w", p.Type(), k.err)
		}
		return ack, nil
	case <-ctx.Done():
		forget()
		return nil, fmt.Errorf("%s not answered: %w", p.Type(), context.Cause(ctx))
	}
}

func (c *Client) answered(id uint16, p packet.Packet) {
	c.mu.Lock()
	w := c.acks[id]
	delete(c.acks, id)
	c.mu.Unlock()
	if w != nil {
		w.done <- p
	}
}

// Ping sends PINGREQ and returns how long PINGRESP took (§3.12).
func (c *Client) Ping(ctx context.Context) (time.Duration, error) {
	k := c.current()
	if k == nil {
		return 0, ErrNotConnected
	}
	w, err := k.askPing()
	if err != nil {
		return 0, err
	}
	select {
	case _, ok := <-w.done:
		if !ok {
			<-k.gone()
			return 0, fmt.Errorf("PINGREQ not answered: %w", k.err)
		}
		return time.Since(w.at), nil
	case <-ctx.Done():
		return 0, fmt.Errorf("PINGREQ not answered: %w", context.Cause(ctx))
	}
}

// AskPing sends PINGREQ and does not wait for the answer.
func (c *Client) AskPing() error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	_, err := k.askPing()
	return err
}

func (k *conn) askPing() (*waiter, error) {
	w := &waiter{at: time.Now(), done: make(chan packet.Packet, 1)}
	k.pingMu.Lock()
	k.pings = append(k.pings, w)
	k.pingMu.Unlock()
	return w, k.send(&packet.Pingreq{})
}

func (k *conn) pong() {
	k.pingMu.Lock()
	defer k.pingMu.Unlock()
	if len(k.pings) > 0 {
		k.pings[0].done <- nil
		k.pings = k.pings[1:]
	}
}

// ping keeps the connection alive: PINGREQ after three quarters of the keep alive
// without a packet from us, or without one from the broker, so that a dead link is
// noticed by who goes on publishing; and an end to it when none of them is answered
// for a whole keep alive (§3.1.2.10).
func (k *conn) ping() {
	if k.limit.keepAlive == 0 {
		return
	}
	k.pingMu.Lock()
	defer k.pingMu.Unlock()
	wait := k.limit.keepAlive * 3 / 4
	k.timer = time.AfterFunc(wait, k.keepAlive)
}

func (k *conn) keepAlive() {
	k.c.mu.Lock()
	over := k.over
	k.c.mu.Unlock()
	if over {
		return
	}
	wait := k.limit.keepAlive * 3 / 4
	k.pingMu.Lock()
	due := k.limit.keepAlive // until the oldest PINGREQ should have been answered
	if len(k.pings) > 0 && !k.frozen.Load() {
		due -= time.Since(k.pings[0].at)
	}
	k.pingMu.Unlock()
	if due <= 0 {
		k.end(&EndedError{End: link.EndClosed, Silent: k.limit.keepAlive})
		return
	}
	k.writeMu.Lock()
	idle := time.Since(k.began) - k.lastWrite
	k.writeMu.Unlock()
	silent := time.Since(k.began) - time.Duration(k.heard.Load())
	k.pingMu.Lock()
	if len(k.pings) == 0 { // else the answer is due already
		idle = max(idle, silent)
	}
	k.pingMu.Unlock()
	next := wait - idle
	if k.frozen.Load() {
		next = wait
	} else if idle >= wait {
		k.askPing() // an error shows on the reading side
		next = wait
	}
	k.pingMu.Lock()
	k.timer.Reset(min(next, due))
	k.pingMu.Unlock()
}
