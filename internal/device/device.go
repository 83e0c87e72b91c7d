// Package device plays the field devices that are not there yet: each is a client with
// signals inside, that publishes on timers and on change, reacts to commands, announces
// itself, and leaves a will.
package device

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Times of a device.
const (
	sampleEvery    = 500 * time.Millisecond // how often signals move
	connectTimeout = 15 * time.Second
	goodbyeTimeout = 2 * time.Second // for the leaving presence to be acknowledged
	firstWithin    = 1500 * time.Millisecond
)

// Phase is where a device is in its life.
type Phase string

// The phases.
const (
	Off        Phase = "off"
	Connecting Phase = "connecting"
	On         Phase = "on"
	Frozen     Phase = "frozen" // connected, but nothing goes in or out
	Away       Phase = "away"   // lost or refused; it tries again
)

// Options say which device to make.
type Options struct {
	Kind *workspace.Device
	// Number is {n}: 1 for the first of its kind.
	Number   int
	Contract *contract.Contract
	Dial     func(context.Context) (*link.Link, error)
	Login    *workspace.Login // nil for none
	Broker   string           // for the trace
	Logs     []*trace.Log
	// Gate bounds how many devices connect a second; nil for no bound.
	Gate *rate.Limiter
	// Seed makes random signals and jitter repeat.
	Seed uint64
}

// Device is one simulated device. Its methods are safe for concurrent use.
type Device struct {
	opt     Options
	name    string
	params  map[string]string
	client  *client.Client
	rec     *trace.Recorder
	inbox   chan *packet.Publish
	orders  chan func()
	sent    atomic.Int64 // messages that have left
	overrun atomic.Int64 // messages lost because too many waited

	mu        sync.Mutex // guards what follows
	cancel    context.CancelFunc
	done      chan struct{}
	phase     Phase
	since     time.Time
	why       string
	received  int
	signals   []*signal
	born      time.Time
	rand      *rand.Rand
	counts    map[string]int // of count(), by publication
	pubs      []*publication
	retryAt   time.Time
	slowed    string
	complaint string // the latest
}

// publication is one at work.
type publication struct {
	def    *workspace.Publication
	id     string
	clause *contract.Clause // nil for a topic of its own
	due    time.Time        // zero: not on a timer
	last   float64          // of the signal in when-changed, when last sent
	seen   bool
}

// Name returns what a device of the kind and number is called.
func Name(kind *workspace.Device, number int) string {
	if kind.Count == 0 {
		return kind.Name
	}
	return fmt.Sprintf("%s-%d", kind.Name, number)
}

// New makes a device that is off.
func New(o Options) *Device {
	d := &Device{
		opt:    o,
		name:   Name(o.Kind, o.Number),
		params: map[string]string{},
		phase:  Off,
		since:  time.Now(),
		born:   time.Now(),
		inbox:  make(chan *packet.Publish, inboxSize),
		orders: make(chan func(), 16),
		counts: map[string]int{},
	}
	d.rand = rand.New(rand.NewPCG(o.Seed, uint64(o.Number)))
	for k, v := range o.Kind.Parameters {
		d.params[k] = workspace.FillIn(v, o.Number)
	}
	for _, s := range o.Kind.Signals {
		d.signals = append(d.signals, newSignal(s, d.born))
	}
	for i := range o.Kind.Publishes {
		def := &o.Kind.Publishes[i]
		p := &publication{def: def, id: strconv.Itoa(i)}
		if def.Clause != "" {
			p.clause = o.Contract.Clause(def.Clause)
		}
		d.pubs = append(d.pubs, p)
	}
	s := o.Kind.Session
	d.rec = trace.NewRecorder(
		trace.Source{Client: d.name, Role: trace.RoleDevice, Broker: o.Broker, Version: s.Version},
		o.Logs...)
	hooks := d.rec.Hooks()
	traced := hooks.Sent
	hooks.Sent = func(p packet.Packet, raw []byte) {
		if m, ok := p.(*packet.Publish); ok && !m.Dup {
			d.sent.Add(1)
		}
		traced(p, raw)
	}
	copts := client.Options{Dial: o.Dial, Version: s.Version, Message: d.arrived,
		Connect: packet.Connect{
			ClientID:   workspace.FillIn(s.ClientID, o.Number),
			CleanStart: s.CleanStart,
			KeepAlive:  uint16(s.KeepAlive / time.Second),
		},
		Hooks: hooks}
	if s.Version == packet.V5 && !s.CleanStart {
		// Without an expiry version 5 would drop the session at once (5.0 §3.1.2.11.2).
		copts.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 3600)}
	}
	o.Login.Apply(&copts)
	if cl, name := d.presence(); cl != nil {
		copts.Connect.Will = &packet.Will{
			Topic:   name,
			Payload: []byte(cl.Presence.Lost),
			QoS:     qosOf(cl),
			Retain:  cl.Retain != nil && *cl.Retain,
		}
	}
	d.client = client.New(copts)
	return d
}

func qosOf(cl *contract.Clause) packet.QoS {
	if cl.QoS == nil {
		return 0
	}
	return *cl.QoS
}

func (d *Device) presence() (*contract.Clause, string) {
	cl := d.opt.Contract.Clause(d.opt.Kind.Presence)
	if cl == nil {
		return nil, ""
	}
	name, err := cl.Topic.Topic(d.params)
	if err != nil {
		return nil, ""
	}
	return cl, name
}

// inboxSize is how many messages may wait for a device. A real one has its own bounds; here it is those of a
// simulation that must not eat the memory.
const inboxSize = 10_000

// arrived takes a message from the client's reading goroutine. A device that cannot
// keep up loses messages, and says so.
func (d *Device) arrived(p *packet.Publish) {
	select {
	case d.inbox <- p:
	default:
		if d.overrun.Add(1) == 1 {
			d.complain(fmt.Errorf("messages come faster than it takes them: from %s on, some are lost", p.Topic))
		}
	}
}

// Start switches the device on. It does nothing when it is on already.
func (d *Device) Start() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.cancel != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	before := d.done // of a life that may still be ending
	d.cancel, d.done = cancel, make(chan struct{})
	d.setLocked(Connecting, "")
	go func(done chan struct{}) {
		if before != nil {
			<-before
		}
		d.live(ctx, done)
	}(d.done)
}

// Stop switches the device off properly: leaving presence, DISCONNECT. It returns
// when that is done, after a few seconds at the latest.
func (d *Device) Stop() {
	d.mu.Lock()
	cancel, done := d.cancel, d.done
	frozen := d.phase == Frozen
	d.cancel = nil
	d.mu.Unlock()
	if cancel == nil {
		return
	}
	if frozen { // a frozen link would hold up the goodbye
		d.client.Close()
	}
	cancel()
	<-done
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.cancel == nil { // else it was started again meanwhile
		d.setLocked(Off, "")
	}
}

// Cut resets the device's link; the device comes back by itself.
func (d *Device) Cut() error { return d.client.Cut() }

// Freeze stops the device's link as a pulled cable does.
func (d *Device) Freeze() error {
	if err := d.client.Freeze(); err != nil {
		return err
	}
	d.set(Frozen, "nothing goes in or out")
	return nil
}

// Slow delays the device's packets, both ways, and lets at most so many bytes a second
// through (0 for any number), now and after it came back; zeros end that.
func (d *Device) Slow(delay time.Duration, rate int) {
	d.mu.Lock()
	d.slowed = ""
	if delay > 0 {
		d.slowed = delay.String()
	}
	if rate > 0 {
		d.slowed = strings.TrimSpace(fmt.Sprintf("%s %d B/s", d.slowed, rate))
	}
	d.mu.Unlock()
	d.client.Slow(link.Pace{Delay: delay, Rate: rate})
}

// Thaw lets a frozen device go on.
func (d *Device) Thaw() error {
	d.mu.Lock()
	if d.phase == Frozen {
		d.setLocked(On, "")
	}
	d.mu.Unlock()
	return d.client.Thaw()
}

func (d *Device) set(p Phase, why string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.setLocked(p, why)
}

func (d *Device) setLocked(p Phase, why string) {
	if p != d.phase {
		d.since = time.Now()
	}
	d.phase, d.why = p, why
}

// Set gives a signal a value; a wave stands still from then on.
func (d *Device) Set(name string, v any) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.signals {
		if s.def.Name == name {
			s.value, s.held = v, true
			return nil
		}
	}
	return fmt.Errorf("device %s has no signal %q", d.name, name)
}

// Send publishes one of the device's own messages now, by its clause or topic.
func (d *Device) Send(name string) error {
	for _, p := range d.pubs {
		if p.def.Clause == name || p.def.Topic == name {
			if !d.client.Connected() {
				return fmt.Errorf("%s is not connected: start it first", d.name)
			}
			select {
			case d.orders <- func() { d.publish(p, nil) }:
				return nil
			default:
				return fmt.Errorf("%s is busy: try again", d.name)
			}
		}
	}
	return fmt.Errorf("device %s publishes nothing called %q", d.name, name)
}

// live is the device's one goroutine besides its client's reader.
func (d *Device) live(ctx context.Context, done chan struct{}) {
	defer close(done)
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(d.opt.Seed, uint64(d.opt.Number)+1<<32))}
	for ctx.Err() == nil {
		d.set(Connecting, d.lastReason())
		if d.opt.Gate != nil && d.opt.Gate.Wait(ctx) != nil {
			break
		}
		start := time.Now()
		err := d.connect(ctx)
		if err == nil {
			start = time.Now()
			d.set(On, "")
			err = d.work(ctx)
		}
		if ended := d.client.Ended(); ended != nil && errors.Is(err, ended) {
			err = backoff.Ended(ended, time.Since(start), workspace.FillIn(d.opt.Kind.Session.ClientID, d.opt.Number))
		}
		if ctx.Err() != nil {
			break
		}
		wait := backoff.Next()
		d.mu.Lock()
		d.setLocked(Away, err.Error())
		d.retryAt = time.Now().Add(wait)
		d.mu.Unlock()
		select {
		case <-time.After(wait):
		case <-ctx.Done():
		}
	}
	d.goodbye()
}

func (d *Device) lastReason() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.why
}

func (d *Device) connect(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, connectTimeout, fmt.Errorf("no CONNACK within %s", connectTimeout))
	defer cancel()
	if _, err := d.client.Connect(ctx); err != nil {
		return err
	}
	var subs []packet.Subscription
	for _, r := range d.opt.Kind.Reactions {
		cl := d.opt.Contract.Clause(r.When)
		if cl == nil {
			continue
		}
		subs = append(subs, packet.Subscription{Filter: d.filter(cl), QoS: max(1, qosOf(cl))})
	}
	if len(subs) > 0 {
		ack, err := d.client.Subscribe(ctx, subs)
		if err != nil {
			d.client.Close()
			return err
		}
		for i, c := range ack.Codes {
			if c >= 0x80 {
				d.client.Disconnect(0)
				return fmt.Errorf(
					"the subscription to %s was refused: %s",
					subs[i].Filter,
					c.In(packet.SUBACK, d.opt.Kind.Session.Version),
				)
			}
		}
	}
	if cl, _ := d.presence(); cl != nil {
		d.announce(cl.Presence.Coming)
	}
	return nil
}

// filter is the clause's filter with the device's own parameters filled in.
func (d *Device) filter(cl *contract.Clause) string {
	levels := strings.Split(cl.Topic.String(), "/")
	for i, l := range levels {
		if strings.HasPrefix(l, "{") {
			levels[i] = "+"
			if v, ok := d.params[l[1:len(l)-1]]; ok {
				levels[i] = v
			}
		}
	}
	return strings.Join(levels, "/")
}

func (d *Device) announce(what string) *client.Publication {
	cl, name := d.presence()
	pub, err := d.client.Start(
		packet.Publish{Topic: name, QoS: qosOf(cl), Retain: cl.Retain != nil && *cl.Retain, Payload: []byte(what)},
	)
	if err != nil {
		d.complain(err)
		return nil
	}
	return pub
}

func (d *Device) goodbye() {
	if !d.client.Connected() {
		return
	}
	if cl, _ := d.presence(); cl != nil {
		if pub := d.announce(cl.Presence.Leaving); pub != nil {
			ctx, cancel := context.WithTimeout(context.Background(), goodbyeTimeout)
			pub.Wait(ctx) // the goodbye goes out either way
			cancel()
		}
	}
	d.client.Disconnect(0)
}

func (d *Device) got() {
	d.mu.Lock()
	d.received++
	d.mu.Unlock()
}

// complain shows an error of the device's own without ending it, on the trace too.
func (d *Device) complain(err error) {
	d.mu.Lock()
	again := d.complaint == err.Error()
	d.why, d.complaint = err.Error(), err.Error()
	d.mu.Unlock()
	if !again { // the same is told once
		d.rec.Add(trace.Event{Kind: trace.Line, Text: err.Error()})
	}
}

// pendingReaction is a reaction that takes its time.
type pendingReaction struct {
	due     time.Time
	publish []string
	env     map[string]any
}

// work runs the device until its connection ends or it is switched off.
func (d *Device) work(ctx context.Context) error {
	now := time.Now()
	for _, p := range d.pubs {
		p.due = time.Time{}
		if p.def.Every > 0 {
			d.mu.Lock()
			p.due = now.Add(time.Duration(d.rand.Int64N(int64(min(p.def.Every, firstWithin)))))
			d.mu.Unlock()
		}
	}
	gone := d.client.Done()
	sample := now
	var waiting []pendingReaction
	// What is due at once is told by a closed channel, not by a timer of no length: under a fake
	// clock the race detector of Go 1.26 crashes where two goroutines read timers that are due.
	timer, atOnce := time.NewTimer(time.Hour), make(chan time.Time)
	defer timer.Stop()
	close(atOnce)
	var due <-chan time.Time = atOnce
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-gone:
			return d.lostReason()
		case m := <-d.inbox:
			d.got()
			waiting = append(waiting, d.react(m)...)
		case order := <-d.orders:
			order()
		case <-due:
		}
		now = time.Now()
		if !now.Before(sample) {
			d.advance(now)
			sample = now.Add(sampleEvery)
			for _, p := range d.pubs {
				if d.changed(p) {
					d.publish(p, nil)
				}
			}
		}
		next := sample
		for _, p := range d.pubs {
			if !p.due.IsZero() && !now.Before(p.due) {
				d.publish(p, nil)
				p.due = now.Add(p.def.Every)
			}
			if !p.due.IsZero() && p.due.Before(next) {
				next = p.due
			}
		}
		rest := waiting[:0]
		for _, w := range waiting {
			if now.Before(w.due) {
				rest = append(rest, w)
				if w.due.Before(next) {
					next = w.due
				}
				continue
			}
			for _, name := range w.publish {
				for _, p := range d.pubs {
					if p.def.Clause == name {
						d.publish(p, w.env)
					}
				}
			}
		}
		waiting = rest
		if wait := time.Until(next); wait > 0 {
			timer.Reset(wait)
			due = timer.C
		} else {
			due = atOnce
		}
	}
}

func (d *Device) lostReason() error {
	if reason := d.client.Ended(); reason != nil {
		return reason
	}
	return errors.New("the connection ended")
}

func (d *Device) advance(now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.signals {
		s.advance(now, now.Sub(d.born), float64(d.opt.Number)*0.23, d.rand)
		s.sample()
	}
}
