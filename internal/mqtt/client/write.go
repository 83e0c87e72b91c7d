package client

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
)

// Send writes a packet as it is, whatever the standard says of it.
func (c *Client) Send(p packet.Packet) error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	return k.send(p)
}

// SendRaw writes bytes as they are.
func (c *Client) SendRaw(b []byte) error {
	k := c.current()
	if k == nil {
		return ErrNotConnected
	}
	return k.write(nil, b)
}

func (k *conn) send(p packet.Packet) error {
	if k.seen() { // who may keep the bytes
		return k.write(p, p.Append(make([]byte, 0, sizeHint(p)), k.c.opt.Version))
	}
	b := scratch.Get().(*[]byte)
	raw := p.Append((*b)[:0], k.c.opt.Version)
	err := k.write(p, raw) // keeps none of it
	if cap(raw) <= burstBuffer {
		*b = raw
	}
	scratch.Put(b)
	return err
}

// seen tells whether somebody is told of what goes out.
func (k *conn) seen() bool {
	h := &k.c.opt.Hooks
	return h.Sent != nil || h.Held != nil || h.Lost != nil
}

// scratch is memory for packets that nobody keeps.
var scratch = sync.Pool{New: func() any { return new([]byte) }}

// sizeHint saves the encoder from growing its buffer.
func sizeHint(p packet.Packet) int {
	if m, ok := p.(*packet.Publish); ok {
		return len(m.Topic) + len(m.Payload) + 16
	}
	return 16
}

func (k *conn) write(p packet.Packet, raw []byte) error {
	k.writeMu.Lock()
	defer k.writeMu.Unlock()
	k.room()
	if k.bye {
		return ErrNotConnected
	}
	if m, ok := p.(*packet.Publish); ok && k.c.opt.UseAliases {
		if short := k.ours.Abbreviate(m, int(k.limit.aliases)); short != m {
			p, raw = short, short.Append(make([]byte, 0, sizeHint(short)), k.c.opt.Version)
		}
	}
	if k.limit.maxPacket > 0 && len(raw) > int(k.limit.maxPacket) && p != nil {
		if m, ok := p.(*packet.Publish); ok && m.Topic != "" {
			k.ours.Forget(m.Topic) // the alias is not set after all
		}
		whose := "the broker takes at most %d (maximum packet size, 5.0 §3.2.2.3.6)"
		if k.limit.ownPacket {
			whose = "this client takes and sends at most %d"
		}
		return &LimitError{fmt.Sprintf("%s of %d bytes: "+whose, p.Type(), len(raw), k.limit.maxPacket)}
	}
	k.owed(p)
	if p != nil && p.Type() == packet.DISCONNECT {
		k.bye = true
	}
	held, err := k.hold(p, raw)
	if held || err != nil {
		return err
	}
	if h := k.c.opt.Hooks.Sent; h != nil {
		h(p, raw)
	}
	if k.gathering > 0 && k.burst == nil {
		err = k.gather(raw)
		if !gatherable(p) {
			err = errors.Join(err, k.ungather())
		}
		return err
	}
	now := time.Since(k.began)
	since := now - k.lastWrite
	k.lastWrite = now
	m, ok := p.(*packet.Publish)
	return k.put(raw, ok && m.QoS == 0, since)
}

// gatherable tells whether a packet may wait for others for a moment: messages, and what answers them.
func gatherable(p packet.Packet) bool {
	if p == nil {
		return false
	}
	switch p.Type() {
	case packet.PUBLISH, packet.PUBACK, packet.PUBREC, packet.PUBREL, packet.PUBCOMP:
		return true
	}
	return false
}

// hold gives a packet to a link that is frozen or slowed, and tells whether it took it; k.writeMu is held.
func (k *conn) hold(p packet.Packet, raw []byte) (held bool, err error) {
	if !k.holding.Load() {
		return false, nil
	}
	h := &k.c.opt.Hooks
	fate := func(left bool) {
		if left && h.Sent != nil {
			h.Sent(p, raw)
		} else if !left && h.Lost != nil {
			h.Lost(p, raw)
		}
	}
	if h.Held != nil {
		h.Held(p, raw)
	}
	if held, err = k.link.Hold(raw, fate); held {
		k.lastWrite = time.Since(k.began)
		return true, err
	}
	k.holding.Store(false) // it thawed meanwhile
	return false, err
}

// held lets what is written from now on be held by the link: whatever was written before has been given
// to it. A writer that the other side holds up does not hold up this.
func (k *conn) held(stop func()) {
	unlock, locked := k.lock()
	if locked {
		k.flushed(k.burst)
	}
	k.holding.Store(true)
	stop()
	unlock()
}

// lock takes k.writeMu, but does not wait for a writer that is held up by the other side; then locked
// is false. unlock must be called either way.
func (k *conn) lock() (unlock func(), locked bool) {
	if k.writeMu.TryLock() {
		return k.writeMu.Unlock, true
	}
	mine := make(chan struct{})
	go func() {
		k.writeMu.Lock()
		close(mine)
	}()
	timer := time.NewTimer(holdGrace)
	defer timer.Stop()
	select {
	case <-mine:
		return k.writeMu.Unlock, true
	case <-timer.C:
		return func() {
			go func() {
				<-mine
				k.writeMu.Unlock()
			}()
		}, false
	}
}

// holdGrace is how long a writer may take to finish before a link is frozen or closed under it.
const holdGrace = 100 * time.Millisecond
