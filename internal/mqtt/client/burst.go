package client

import (
	"errors"
	"sync"
	"time"
)

const (
	// burstWithin is how soon a message at QoS 0 must follow another packet for the two
	// to be taken for a burst. A write to a socket takes a few microseconds, so who is
	// this quick does nothing but write.
	burstWithin = 100 * time.Microsecond
	// burstBuffer is how many bytes may wait before the sender is held up.
	burstBuffer = 64 << 10
	// lastWords is how long the end of a connection waits for a burst to go out.
	lastWords = 2 * time.Second
)

// burst collects packets while others are being written, so that a sender in a hurry
// pays for one write per many messages. Whoever needs to know that a packet is out waits
// for it. conn.writeMu guards it.
type burst struct {
	changed *sync.Cond
	pending []byte
	queued  int // bytes ever put
	written int // bytes ever written
	err     error
	done    bool
}

// put writes a packet's bytes, or joins them to a burst; k.writeMu is held. Only a packet
// that may be lost silently anyhow, a message at QoS 0, is left behind unwritten.
func (k *conn) put(raw []byte, quick bool, since time.Duration) error {
	b := k.burst
	if b == nil {
		if !quick || since > burstWithin {
			_, err := k.link.Write(raw)
			return err
		}
		b = &burst{changed: sync.NewCond(&k.writeMu), pending: spare()}
		k.burst = b
		go k.pour(b)
	}
	b.pending = append(b.pending, raw...)
	b.queued += len(raw)
	mine := b.queued
	for !quick && b.written < mine && !b.done {
		b.changed.Wait()
	}
	return b.err
}

// gather keeps a packet's bytes until they go out with others; k.writeMu is held.
func (k *conn) gather(raw []byte) error {
	if k.gathered = append(k.gathered, raw...); len(k.gathered) > burstBuffer {
		return k.ungather()
	}
	return nil
}

// ungather writes what was gathered; k.writeMu is held.
func (k *conn) ungather() error {
	if len(k.gathered) == 0 {
		return nil
	}
	k.lastWrite = time.Since(k.began)
	k.writes.Add(1)
	_, err := k.link.Write(k.gathered)
	k.gathered = k.gathered[:0]
	if cap(k.gathered) > burstBuffer/16 && k.gathering == 0 {
		k.gathered = nil // an idle session holds no buffer
	}
	return err
}

// Gather lets do send what it likes, and writes it at once when it returns: one write for many packets. What others send
// meanwhile goes with it.
func (c *Client) Gather(do func()) {
	k := c.current()
	if k == nil {
		do()
		return
	}
	k.gathers(true)
	do()
	if err := errors.Join(k.gathers(false), k.flush()); err != nil {
		k.link.Close() // the reading goroutine tells why
	}
}

// flush writes what was gathered, whoever goes on gathering.
func (k *conn) flush() error {
	k.writeMu.Lock()
	defer k.writeMu.Unlock()
	return k.ungather()
}

// gathers begins to gather what is written, or ends that and writes it. The reading goroutine passes the error over: that
// answers cannot be written ends nothing, see [conn.reply].
func (k *conn) gathers(is bool) error {
	k.writeMu.Lock()
	defer k.writeMu.Unlock()
	if is {
		k.gathering++
		return nil
	}
	if k.gathering--; k.gathering > 0 {
		return nil
	}
	return k.ungather()
}

// room holds a sender up while a burst is too far ahead of the link; k.writeMu is held.
func (k *conn) room() {
	for b := k.burst; b != nil && len(b.pending) > burstBuffer && !b.done; {
		b.changed.Wait()
	}
}

// spare is memory for a burst, of one that is over where there is any.
func spare() []byte { return (*buffers.Get().(*[]byte))[:0] }

func spares(some ...[]byte) {
	for _, b := range some {
		if cap(b) > 0 && cap(b) <= 2*burstBuffer {
			buffers.Put(&b)
		}
	}
}

var buffers = sync.Pool{New: func() any { return new([]byte) }}

// pour writes what a burst collects until nothing is left.
func (k *conn) pour(b *burst) {
	batch := spare()
	k.writeMu.Lock()
	defer k.writeMu.Unlock()
	for len(b.pending) > 0 && b.err == nil {
		batch, b.pending = b.pending, batch[:0]
		k.writeMu.Unlock()
		_, err := k.link.Write(batch)
		k.writeMu.Lock()
		b.written += len(batch)
		b.err = err
		b.changed.Broadcast()
	}
	b.done = true
	spares(batch, b.pending)
	b.pending = nil
	if k.burst == b {
		k.burst = nil
	}
	b.changed.Broadcast()
}

// flushed waits until a burst is out, but not for ever: the other side may take nothing.
// k.writeMu is held.
func (k *conn) flushed(b *burst) {
	k.ungather()
	if b == nil || b.done {
		return
	}
	late := false
	timer := time.AfterFunc(lastWords, func() {
		k.writeMu.Lock()
		defer k.writeMu.Unlock()
		late = true
		b.changed.Broadcast()
	})
	defer timer.Stop()
	for !b.done && !late {
		b.changed.Wait()
	}
}
