package client

import (
	"errors"
	"time"

	"hodstone/internal/mqtt/packet"
)

// The figures of the reading goroutine.
const (
	// idleAfter is how long nothing must have come for a session to count as idle. To start
	// a goroutine takes a thousandth of that.
	idleAfter = time.Millisecond
	// busyWithin is how soon one read follows another in a stream of messages; at less
	// than ten thousand a second nothing changes.
	busyWithin = 100 * time.Microsecond
	// busyReads is how many such reads in a row make a stream.
	busyReads = 64
	// patience is how long a stream is left to gather, so that it costs a read for many
	// messages, not two for each: so much later, at most a millisecond by the system's
	// clock, its messages are seen.
	patience = 50 * time.Microsecond
)

// wait is the reading goroutine of a connection while it is idle. It does nothing but
// wait, so that its stack stays the smallest that there is; when it has worked on what came,
// a stack that has grown is left behind with the goroutine, and a new one waits. There is
// one at a time.
func (k *conn) wait() {
	n, err := k.link.Read(k.reader.Room())
	k.work(n, err)
}

// work acts on what was read, and on what comes right after it.
//
//go:noinline
func (k *conn) work(n int, err error) {
	for {
		now := time.Since(k.began)
		pause := now - k.lastRead
		k.lastRead = now
		k.heard.Store(int64(now))
		if pause < busyWithin || k.row >= busyReads && pause < 10*busyWithin {
			k.row++
		} else {
			k.row = 0
		}
		k.reader.Feed(n, err)
		if err := k.steps(); err != nil {
			k.finish(err)
			return
		}
		if pause > idleAfter {
			go k.wait()
			return
		}
		if k.row >= busyReads {
			time.Sleep(patience)
		}
		n, err = k.link.Read(k.reader.Room())
	}
}

// steps acts on all that was read. The answers to packets that came together go out together.
func (k *conn) steps() (err error) {
	gathers := false
	for err == nil && k.reader.Buffered() {
		if whole := k.reader.Whole(); gathers && !whole {
			gathers = false
			k.gathers(false)
		}
		err = k.step()
		if err == nil && !gathers && k.reader.Whole() {
			gathers = true
			k.gathers(true)
		}
	}
	if gathers {
		k.gathers(false)
	}
	return err
}

// step reads a packet and acts on it.
func (k *conn) step() error {
	c := k.c
	p, raw, err := k.reader.Next()
	var broken *packet.Error
	if raw != nil && c.opt.Hooks.Received != nil && (err == nil || errors.As(err, &broken) && !k.tooLarge(broken)) {
		c.opt.Hooks.Received(p, raw, err)
	}
	if d, ok := p.(*packet.Disconnect); ok {
		k.said = d
	}
	if err == nil && (c.opt.Take == nil || !c.opt.Take(p)) {
		err = k.handle(p)
	}
	return err
}
