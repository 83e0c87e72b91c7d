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
	// busyWithin is how soon one read follows another in a stream of messages.
	busyWithin = 100 * time.Microsecond
	// busyReads is how many such reads make a stream, and streamEnds how long nothing must come for its end: it may come
	// in bursts. Waiting for more must be worth while: each time that it brings fewer packets the stream is thinner by so
	// many reads.
	busyReads  = 64
	streamEnds = 5 * time.Millisecond
	worthwhile = 3
	thinner    = 8
	// patience is how long a stream is left to gather, so that it costs a read for many
	// messages, not two for each: so much later, at most a millisecond by the system's
	// clock, its messages are seen.
	patience = 250 * time.Microsecond
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
		if k.dense(pause) {
			before := k.packets
			if err = k.batch(n, err); k.packets-before < worthwhile {
				k.row -= thinner
			}
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
			go k.wait()
			return
		}
		n, err = k.link.Read(k.reader.Room())
	}
}

// dense tells whether messages come as a stream, by the pause before a read.
func (k *conn) dense(pause time.Duration) bool {
	if pause < busyWithin {
		k.row = min(k.row+1, 2*busyReads)
	} else if pause > streamEnds {
		k.row = 0
	}
	return k.row >= busyReads
}

// batch acts on what was read of a stream, and on what comes in the moment after it. Where nobody is told what goes out and
// when, the answers to all of it go out together, or with what is sent meanwhile.
func (k *conn) batch(n int, err error) error {
	if room := k.reader.Room(); k.seen() && err == nil && n < len(room) {
		time.Sleep(patience)
		more, lost := k.link.More(room[n:])
		k.reader.Feed(n+more, lost)
		return k.steps()
	}
	k.gathers(true)
	defer k.gathers(false)
	for {
		k.reader.Feed(n, err)
		if err := k.steps(); err != nil {
			return err
		}
		before := k.writes.Load()
		time.Sleep(patience)
		if k.writes.Load() == before { // nothing went out with which the answers could go
			k.flush()
		}
		if n, err = k.link.More(k.reader.Room()); n == 0 && err == nil {
			return nil
		}
		k.lastRead = time.Since(k.began)
		k.heard.Store(int64(k.lastRead))
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
