package client

import (
	"errors"
	"time"

	"hodstone/internal/mqtt/packet"
)

// The figures of the reading goroutine.
const (
	// idleAfter is how long nothing must have come for a session to count as idle. A new
	// goroutine's stack grows anew at the first packet, which costs several microseconds.
	idleAfter = 200 * time.Millisecond
	// firstReads are those after which a session may well be idle, however soon they came: what is
	// answered to CONNECT and SUBSCRIBE.
	firstReads = 4
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
		if k.stream != nil && k.stream.count(now, pause, k.packets) {
			err = k.flow(n, err)
		} else {
			k.reader.Feed(n, err)
			err = k.steps()
		}
		if err != nil {
			k.finish(err)
			return
		}
		if k.reads < firstReads || pause > idleAfter {
			k.reads = min(k.reads+1, firstReads)
			k.stream = nil
			go k.wait()
			return
		}
		if k.stream == nil {
			k.stream = &stream{began: now, packets: k.packets}
		}
		n, err = k.link.Read(k.reader.Room())
	}
}

// flow acts on what was read of a stream, and on what comes in the moment after it, until nothing does. Where
// nobody is told what goes out and when, the answers to all of it go out together, or with what is sent meanwhile.
func (k *conn) flow(n int, err error) error {
	if !k.seen() {
		k.gathers(true)
		defer k.gathers(false)
	}
	for {
		k.reader.Feed(n, err)
		if err := k.steps(); err != nil {
			return err
		}
		before := k.writes.Load()
		time.Sleep(patience)
		if !k.seen() && k.writes.Load() == before { // nothing went out with which the answers could go
			k.flush()
		}
		if n, err = k.link.More(k.reader.Room()); n == 0 && err == nil {
			return nil
		}
		now := time.Since(k.began)
		pause := now - k.lastRead
		k.lastRead = now
		k.heard.Store(int64(now))
		if !k.stream.count(now, pause, k.packets) {
			k.reader.Feed(n, err)
			return k.steps()
		}
	}
}

// steps acts on all that was read. The answers to packets that came together go out together.
func (k *conn) steps() (err error) {
	gathers := false
	for err == nil && k.reader.Buffered() {
		switch whole := k.reader.Whole(); {
		case whole && !gathers && k.reader.Several():
			gathers = true
			k.gathers(true)
		case !whole: // the rest of it is waited for
			if gathers {
				gathers = false
				k.gathers(false)
			}
			k.flush()
		}
		err = k.step()
	}
	if gathers {
		k.gathers(false)
	}
	return err
}

// step reads a packet and acts on it.
func (k *conn) step() error {
	c := k.c
	k.packets++
	if c.opt.Hooks.Received == nil && c.opt.Take == nil && k.answered && !k.refused {
		if id := k.reader.Acked(); id != 0 {
			c.settle(id, awaitAck, 1, packet.Success)
			return nil
		}
	}
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
