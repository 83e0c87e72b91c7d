package client

import (
	"errors"
	"fmt"
	"io"
	"net"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// end closes the link, keeping why; the reading goroutine does the rest.
func (k *conn) end(why error) {
	unlock, locked := k.lock()
	if locked {
		k.bye = true
		k.flushed(k.burst)
	}
	unlock()
	k.c.mu.Lock()
	if k.err == nil {
		k.err = why
	}
	k.c.mu.Unlock()
	k.link.Close()
}

func (c *Client) linkEvent(e LinkEvent, text string) { c.linkEnded(e, "", text) }

func (c *Client) linkEnded(e LinkEvent, by Blame, text string) {
	if h := c.opt.Hooks.Link; h != nil {
		h(e, by, text)
	}
}

func (k *conn) finish(err error) {
	c, said := k.c, k.said
	var broken *packet.Error
	var rule *ruleError
	if !errors.As(err, &broken) {
		errors.As(err, &rule)
	}
	if c.opt.Version == packet.V5 {
		if broken != nil {
			k.send(&packet.Disconnect{Code: broken.Code})
		} else if rule != nil {
			k.send(&packet.Disconnect{Code: rule.code})
		}
	}
	own := k.tooLarge(broken)
	if own {
		broken = nil
	}
	end := k.link.End()
	if end == link.EndNone { // it broke a rule: we close
		end = link.EndClosed
	}
	k.link.Close()
	why := &EndedError{End: end, Broken: broken, Rule: rule != nil}
	switch {
	case said != nil:
		why.Coded, why.Code = true, said.Code
		why.Reason, _ = said.Properties.Str(packet.ReasonString)
		why.Server, _ = said.Properties.Str(packet.ServerReference)
	case own:
		why.Reason = fmt.Sprintf("a packet came that is larger than the %d MiB that Hodstone takes", LargestPacket>>20)
	case broken != nil:
		why.Reason = "it sent what it must not: " + broken.Error()
	case rule != nil:
		why.Reason = "it broke a rule: " + rule.Error()
	case end == link.EndFailed || end == link.EndClosed && !errors.Is(err, net.ErrClosed):
		why.Reason = err.Error()
	case errors.Is(err, io.ErrUnexpectedEOF):
		why.Reason = "in the middle of a packet"
	}
	c.mu.Lock()
	if k.err == nil {
		k.err = why
	}
	text, by := k.err.Error(), BlameOf(k.err)
	c.ended = k.err
	if c.conn == k {
		c.conn = nil
	}
	waiting := c.acks
	c.acks = nil
	var renewed *waiter
	if e := k.enhanced; e != nil {
		renewed, e.renewed = e.renewed, nil
	}
	c.mu.Unlock()
	if renewed != nil {
		close(renewed.done)
	}
	for _, w := range waiting {
		close(w.done)
	}
	k.pingMu.Lock()
	if k.timer != nil {
		k.timer.Stop()
	}
	for _, w := range k.pings {
		close(w.done)
	}
	k.pings = nil
	k.pingMu.Unlock()
	c.linkEnded(LinkEnded, by, text)
	c.mu.Lock()
	defer c.mu.Unlock()
	if k.over = true; k.done != nil {
		close(k.done)
	}
	if k.ready != nil {
		close(k.ready)
		k.ready = nil
	}
}

// Disconnect says goodbye with DISCONNECT and closes the link (§3.14). In version 5
// the code may ask for the will with [packet.DisconnectWithWill].
func (c *Client) Disconnect(code packet.ReasonCode, ps ...packet.Property) error {
	return c.leave(func(k *conn) error {
		err := k.send(&packet.Disconnect{Code: code, Properties: ps})
		k.end(nil)
		return err
	})
}

// DisconnectAnd says DISCONNECT and sends a packet behind it, as clients do that break the rule (3.1.1 §3.14.4, 5.0
// §3.14.4).
func (c *Client) DisconnectAnd(p packet.Packet) error {
	return c.leave(func(k *conn) error {
		err := k.send(&packet.Disconnect{})
		k.writeMu.Lock()
		k.bye = false
		k.writeMu.Unlock()
		err = errors.Join(err, k.send(p))
		k.end(nil)
		return err
	})
}

// Close closes the link without DISCONNECT: the broker sees FIN.
func (c *Client) Close() error {
	return c.leave(func(k *conn) error { k.end(nil); return nil })
}

// Cut resets the link: the broker sees RST.
func (c *Client) Cut() error {
	return c.leave(func(k *conn) error { return k.link.Cut() })
}

// leave ends the connection and waits until its goroutine is gone.
func (c *Client) leave(how func(*conn) error) error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	err := how(k)
	<-k.gone()
	return err
}

// Freeze stops the link as a pulled cable does; see [link.Link.Freeze]. Until it thaws
// the client does not close it for want of a PINGRESP, for no FIN gets through a
// pulled cable.
func (c *Client) Freeze() error {
	if k := c.current(); k != nil {
		k.frozen.Store(true)
	}
	return c.Pull()
}

// Pull freezes the link, and leaves it to the client to find out: by its keep alive, as whoever
// is at the end of a pulled cable.
func (c *Client) Pull() error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	k.held(func() {
		c.linkEvent(LinkFrozen, "nothing is read or written from now on")
		k.link.Freeze()
	})
	return nil
}

// Slow delays and throttles the present link and those to come; see [link.Link.Slow].
func (c *Client) Slow(pace link.Pace) {
	c.mu.Lock()
	c.pace = pace
	k := c.conn
	c.mu.Unlock()
	if k != nil {
		k.held(func() { k.link.Slow(pace) })
	}
}

// Thaw lets a frozen link go on.
func (c *Client) Thaw() error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	if !k.frozen.Swap(false) {
		return nil
	}
	c.linkEvent(LinkThawed, "reading and writing go on")
	return k.link.Thaw()
}
