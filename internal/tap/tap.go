// Package tap stands between devices and their broker: a device dials the tap, which dials the broker, and passes on
// what either says, byte for byte, over whichever transports. All of it is recorded as the device's own, and rules
// disturb it on request.
package tap

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// Options say between whom a tap stands.
type Options struct {
	// Dial opens a link to the broker, for each device that comes.
	Dial func(context.Context) (*link.Link, error)
	// Broker is what the trace calls the broker.
	Broker string
	// Log takes what goes over.
	Log *trace.Log
	// Names gives a device another name than its client identifier; nil for none.
	Names func(clientID string) string
	// Announce is told, for people, who came, left and was disturbed; nil for nobody.
	Announce func(what, text string)
	// Unread passes on what comes without looking into it, as for TLS that is not ended here.
	Unread bool
}

// Tap stands between devices and a broker. Its methods are safe for concurrent use.
type Tap struct {
	opt  Options
	ctx  context.Context
	stop context.CancelFunc
	wg   sync.WaitGroup

	mu        sync.Mutex // guards what follows
	closed    bool
	dead      bool // unplugged
	refusing  bool // nobody new gets in
	listeners []net.Listener
	through   map[*through]bool
	rules     []*rule
	named     map[string]*trace.Recorder

	hearsOut atomic.Int64 // for how long a device is heard after DISCONNECT, in nanoseconds
}

// New returns a tap that listens nowhere yet.
func New(o Options) *Tap {
	t := &Tap{opt: o, through: map[*through]bool{}, named: map[string]*trace.Recorder{}}
	t.ctx, t.stop = context.WithCancel(context.Background())
	return t
}

// Listen opens a listener for a URL as [link.Parse] reads it; config is needed for mqtts and wss. It returns the URL by
// which the tap is reached: port 0 lets the system choose one.
func (t *Tap) Listen(rawURL string, config *tls.Config) (string, error) {
	e, err := link.Parse(rawURL)
	if err != nil {
		return "", err
	}
	if t.opt.Unread && e.WebSocket {
		return "", errors.New("a WebSocket is not passed through unread: listen on mqtt:// or mqtts://")
	}
	if e.TLS && config == nil && !t.opt.Unread {
		return "", fmt.Errorf("%s needs a certificate", rawURL)
	}
	ln, err := net.Listen(e.Network, e.Address)
	if err != nil {
		return "", fmt.Errorf("cannot listen on %s: %w: choose another port, or 0 for any", e.Address, err)
	}
	reached, path := e.Reached(ln.Addr())
	if e.TLS && !t.opt.Unread {
		ln = tls.NewListener(ln, config)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		ln.Close()
		return "", net.ErrClosed
	}
	t.listeners = append(t.listeners, ln)
	if e.WebSocket {
		t.wg.Go(func() { link.ServeWebSocket(ln, path, func(l *link.Link) { t.serve(l, reached) }) })
		return reached, nil
	}
	t.wg.Go(func() { link.Serve(ln, func(l *link.Link) { t.serve(l, reached) }) })
	return reached, nil
}

// Close ends the listeners and all that goes through, and waits for it.
func (t *Tap) Close() {
	t.mu.Lock()
	t.closed = true
	t.stop()
	for _, ln := range t.listeners {
		ln.Close()
	}
	all := t.allLocked()
	t.mu.Unlock()
	for _, x := range all { // not under the lock, which who goes through takes behind its own
		x.end()
	}
	t.wg.Wait()
}

// allLocked are the devices that go through now; t.mu is held.
func (t *Tap) allLocked() []*through { return slices.Collect(maps.Keys(t.through)) }

func (t *Tap) announce(what, format string, args ...any) {
	if t.opt.Announce != nil {
		t.opt.Announce(what, fmt.Sprintf(format, args...))
	}
}

// serve passes a device through.
func (t *Tap) serve(device *link.Link, at string) {
	t.mu.Lock()
	if t.closed || t.refusing {
		reset := !t.closed
		t.mu.Unlock()
		if reset {
			device.Cut()
		} else {
			device.Close()
		}
		return
	}
	x := &through{t: t, device: device, at: at, came: time.Now()}
	t.through[x] = true
	t.wg.Add(1)
	t.mu.Unlock()
	go func() {
		defer t.wg.Done()
		x.run()
		t.mu.Lock()
		delete(t.through, x)
		t.mu.Unlock()
	}()
}

// recorder returns that of a client, by its name; t.mu is held.
func (t *Tap) recorder(name string, v packet.Version) *trace.Recorder {
	key := fmt.Sprint(name, " ", v)
	r := t.named[key]
	if r == nil {
		const most = 10_000 // ever new names do not fill the memory
		if len(t.named) >= most {
			clear(t.named)
		}
		r = trace.NewRecorder(
			trace.Source{Client: name, Role: trace.RolePeer, Broker: t.opt.Broker, Version: v},
			t.opt.Log,
		)
		t.named[key] = r
	}
	return r
}

// through is a device that is passed through.
type through struct {
	t      *Tap
	device *link.Link
	at     string
	came   time.Time

	mu     sync.Mutex // guards what follows, and orders what is recorded
	broker *link.Link // nil before it is dialled
	name   string
	rec    *trace.Recorder
	beyond *trace.Recorder // of the broker's side, where that differs
	ended  bool
	reset  bool        // by hand
	half   atomic.Bool // one side has ended
	up     *direction
	down   *direction
}

// end ends both sides.
func (x *through) end() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.ended = true
	x.device.Close()
	if x.broker != nil {
		x.broker.Close()
	}
}

// run dials the broker and passes on, until either side ends.
func (x *through) run() {
	const dialWithin = 15 * time.Second
	ctx, cancel := context.WithTimeout(x.t.ctx, dialWithin)
	broker, err := x.t.opt.Dial(ctx)
	cancel()
	if err != nil {
		x.t.announce("not reached", "%s: %v", x.device.RemoteAddr(), err)
		x.device.Close() // as if nobody listened
		return
	}
	x.mu.Lock()
	if x.broker = broker; x.ended {
		broker.Close()
	}
	x.mu.Unlock()
	var both sync.WaitGroup
	up := &direction{x: x, from: x.device, to: broker, toward: Broker, version: packet.V311}
	down := &direction{x: x, from: broker, to: x.device, toward: Device, version: packet.V311}
	up.other, down.other = down, up
	up.out, down.out = newOutlet(broker, x.t.ctx.Done()), newOutlet(x.device, x.t.ctx.Done())
	x.mu.Lock()
	x.up, x.down = up, down
	x.mu.Unlock()
	both.Go(up.pass)
	both.Go(down.pass)
	both.Wait()
	x.mu.Lock()
	defer x.mu.Unlock()
	by, text := x.how(up, down)
	x.named("", 0)
	x.rec.Add(trace.Event{Kind: trace.Link, Link: client.LinkEnded, By: by, Text: text})
	x.t.announce("left", "%s: %s", x.name, text)
}

// CutNow resets the links of a device, by its name, at both ends.
func (t *Tap) CutNow(name string) { t.each(name, (*through).cutNow) }

// GaveUp is what the trace says where a device ends a link while the tap is unplugged: nothing tells the broker yet.
const GaveUp = "the device gave the dead link up"

// Unplug lets nothing through any more, as when a cable is pulled: links stay open at both ends whatever the other does,
// and nobody new gets in; or it lets all go on.
func (t *Tap) Unplug(is bool) {
	t.mu.Lock()
	t.dead = is
	if is {
		t.refusing = true
	}
	all := t.allLocked()
	t.mu.Unlock()
	if is {
		for _, x := range all {
			x.mu.Lock()
			up, down := x.up, x.down
			x.mu.Unlock()
			if up != nil && down != nil {
				up.out.freeze(true)
				down.out.freeze(true)
			}
		}
		return
	}
	for _, x := range all {
		x.thaw()
	}
	// Who has ended meanwhile is gone before somebody new comes.
	const goneWithin = time.Second
	for end := time.Now().Add(goneWithin); time.Now().Before(end); time.Sleep(time.Millisecond) {
		t.mu.Lock()
		over := !slices.ContainsFunc(t.allLocked(), func(x *through) bool { return x.half.Load() })
		t.mu.Unlock()
		if over {
			break
		}
	}
	t.mu.Lock()
	t.refusing = false
	t.mu.Unlock()
}

// KeepOut cuts all links and lets nobody in any more, as when a broker is down; or it lets all in again.
func (t *Tap) KeepOut(is bool) {
	t.mu.Lock()
	t.refusing = is
	all := t.allLocked()
	t.mu.Unlock()
	for _, x := range all {
		if is {
			x.cutNow()
		}
	}
}

// HearOut leaves the link of a device open for so long where the broker closes it upon DISCONNECT, so that what the device
// says after that is heard; 0 closes it at once, as the broker does.
func (t *Tap) HearOut(d time.Duration) { t.hearsOut.Store(int64(d)) }

// hearOut waits while a device that said DISCONNECT is to be heard out.
func (x *through) hearOut() {
	x.mu.Lock()
	said := x.up.said
	x.mu.Unlock()
	if !said {
		return
	}
	const look = time.Millisecond
	for end := time.Now().Add(time.Duration(x.t.hearsOut.Load())); time.Now().Before(end) && x.t.ctx.Err() == nil &&
		x.device.End() == link.EndNone; {
		time.Sleep(look)
	}
}

func (t *Tap) isDead() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.dead && !t.closed
}

func (t *Tap) each(name string, do func(*through)) {
	t.mu.Lock()
	all := t.allLocked()
	t.mu.Unlock()
	for _, x := range all {
		x.mu.Lock()
		mine := x.name == name
		x.mu.Unlock()
		if mine {
			do(x)
		}
	}
}

func (x *through) cutNow() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.reset = true
	x.device.Cut()
	if x.broker != nil {
		x.broker.Cut()
	}
}

// how tells who ended it.
func (x *through) how(up, down *direction) (client.Blame, string) {
	first := up
	if down.over.Before(up.over) {
		first = down
	}
	switch {
	case x.ended:
		return client.ByUnknown, "the tap was closed"
	case x.reset:
		return client.ByUnknown, "cut by the tap"
	case up.said:
		return client.ByUs, "the device said DISCONNECT"
	case down.said:
		return client.ByBroker, "the broker said DISCONNECT"
	case first.cut != "":
		return client.ByUnknown, "cut by the tap: " + first.cut
	case first == up && up.ending == link.EndRST:
		return client.ByReset, "the device reset the link"
	case first == up:
		return client.ByUs, "the device closed the link"
	case down.ending == link.EndRST:
		return client.ByReset, "the broker reset the link"
	}
	return client.ByBroker, "the broker closed the link"
}

// named gives the connection its name, and records that it opened; x.mu is held.
func (x *through) named(clientID string, v packet.Version) {
	if x.rec != nil {
		return
	}
	if x.name = clientID; clientID == "" {
		x.name = x.device.RemoteAddr().String()
	}
	if x.t.opt.Names != nil && clientID != "" {
		x.name = x.t.opt.Names(clientID)
	}
	if v == 0 {
		v = packet.V311
	}
	x.t.mu.Lock()
	x.rec = x.t.recorder(x.name, v)
	x.beyond = x.t.recorder(x.name+trace.Beyond, v)
	x.t.mu.Unlock()
	x.rec.Add(
		trace.Event{
			At:   x.came,
			Kind: trace.Link,
			Link: client.LinkOpened,
			Text: x.device.RemoteAddr().String() + " at the tap " + x.at,
		},
	)
	x.t.announce("came", "%s from %s", x.name, x.device.RemoteAddr())
}
