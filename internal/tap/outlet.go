package tap

import (
	"net"
	"sync"
	"sync/atomic"
	"time"

	"hodstone/internal/mqtt/link"
)

// outlet writes to a link, in order: at once, or when it is due.
type outlet struct {
	to     *link.Link
	stop   <-chan struct{} // closed when the tap is
	frozen atomic.Bool     // not under the lock, which is held while the other side does not read

	mu      sync.Mutex // guards what follows, and the order of what is written
	waiting []parcel
	bytes   int // of them
	running bool
	closed  bool
	failed  error
	wake    chan struct{}
	done    chan struct{} // closed when nothing waits any more
}

// parcel is what is to be written, and when.
type parcel struct {
	raw []byte
	due time.Time
}

func newOutlet(to *link.Link, stop <-chan struct{}) *outlet {
	return &outlet{to: to, stop: stop, wake: make(chan struct{}, 1)}
}

// over tells that nothing gets out any more.
func (o *outlet) over() bool {
	select {
	case <-o.stop:
		return true
	default:
		return o.to.End() != link.EndNone
	}
}

// idle tells whether nothing waits.
func (o *outlet) idle() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.waiting) == 0 && !o.running && !o.frozen.Load()
}

// mostWaiting is how many bytes may wait: who floods is held up then, as by a full link.
const mostWaiting = 32 << 20

// each is what a packet that waits costs beside its bytes.
const each = 64

// write writes once it is due, and all that came before it went; the zero time is at once. It returns when it was
// written, or put behind what waits.
func (o *outlet) write(raw []byte, due time.Time) error {
	o.mu.Lock()
	if o.failed != nil || o.closed {
		defer o.mu.Unlock()
		return o.failed
	}
	if len(o.waiting) == 0 && !o.running && !o.frozen.Load() && due.IsZero() {
		_, err := o.to.Write(raw) // under the lock: the next comes behind it
		o.failed = err
		o.mu.Unlock()
		return err
	}
	for o.bytes > 0 && o.bytes+len(raw) > mostWaiting {
		o.mu.Unlock()
		if o.over() {
			return net.ErrClosed
		}
		time.Sleep(time.Millisecond)
		o.mu.Lock()
	}
	o.waiting = append(o.waiting, parcel{append([]byte{}, raw...), due})
	o.bytes += len(raw) + each
	if !o.running {
		o.running, o.done = true, make(chan struct{})
		go o.run()
	}
	o.mu.Unlock()
	return nil
}

// freeze holds everything back, or lets it go.
func (o *outlet) freeze(is bool) {
	o.frozen.Store(is)
	o.nudge()
}

func (o *outlet) nudge() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// run writes what waits, until nothing does.
func (o *outlet) run() {
	defer close(o.done)
	for {
		o.mu.Lock()
		if o.closed || len(o.waiting) == 0 {
			o.waiting, o.bytes, o.running = nil, 0, false
			o.mu.Unlock()
			return
		}
		next := o.waiting[0]
		wait := time.Until(next.due)
		if o.frozen.Load() {
			wait = time.Hour
		}
		if wait <= 0 {
			o.waiting = o.waiting[1:]
			o.bytes -= len(next.raw) + each
			_, err := o.to.Write(next.raw)
			if err != nil && o.failed == nil {
				o.failed = err
			}
			o.mu.Unlock()
			continue
		}
		o.mu.Unlock()
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-o.wake:
		}
		timer.Stop()
	}
}

// close ends the writing: what is due by then has been written; the rest is lost with the link.
func (o *outlet) close() {
	o.mu.Lock()
	running, done := o.running, o.done
	if running && !o.frozen.Load() && !o.over() { // what is under way arrives, as with a network
		last := o.waiting
		o.mu.Unlock()
		if len(last) > 0 {
			select {
			case <-done:
			case <-o.stop:
			case <-time.After(time.Until(last[len(last)-1].due) + time.Second):
			}
		}
		o.mu.Lock()
	}
	o.closed = true
	o.mu.Unlock()
	o.nudge()
}
