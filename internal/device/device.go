// Package device plays the field devices that are not there yet: each is a client with
// signals inside, that publishes on timers and on change, reacts to commands, announces
// itself, and leaves a will.
package device

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Times of a device.
const (
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
	Real       Phase = "real"   // not played: the real one is there
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
	// Clock is where the device has its time from; nil for the machine's.
	Clock Clock
}

// Device is one simulated device: a loop over behaviours, which have the client in common. Its
// methods are safe for concurrent use.
type Device struct {
	opt     Options
	name    string
	params  map[string]string
	client  *client.Client
	rec     *trace.Recorder
	does    []behaviour // in the order in which they act
	signals *signals
	pubs    []*publication
	states  *machine // nil for none
	time    *timepiece
	kept    *kept          // what it would have published while it was away; nil for nothing
	beats   *client.Client // of a connection that only pings; nil for none
	inbox   *inbox
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
	born      time.Time
	rand      *rand.Rand
	counts    map[string]int // of count(), by publication
	retryAt   time.Time
	slowed    string
	complaint string // the latest
	wrong     []*misdeed
	faults    []string // their names
	heard     bool     // it has subscribed before
}

// Name returns what a device of the kind and number is called.
func Name(kind *workspace.Device, number int) string { return workspace.DeviceName(kind, number) }

// New makes a device that is off.
func New(o Options) *Device {
	if o.Clock == nil {
		o.Clock = Wall{}
	}
	now := o.Clock.Now()
	d := &Device{
		opt:    o,
		name:   Name(o.Kind, o.Number),
		params: map[string]string{},
		phase:  Off,
		since:  now,
		born:   now,
		inbox:  newInbox(),
		orders: make(chan func(), 16),
		counts: map[string]int{},
	}
	d.rand = rand.New(rand.NewPCG(o.Seed, uint64(o.Number)))
	for k, v := range o.Kind.Parameters {
		d.params[k] = workspace.FillIn(v, o.Number)
	}
	d.time = newTimepiece(d)
	hello := newPresence(d)
	if hello != nil {
		d.does = append(d.does, hello)
	}
	if n := o.Kind.Offline; n.Keep > 0 {
		d.kept = &kept{d: d, most: n.Keep, newest: n.Newest}
		d.does = append(d.does, d.kept)
	}
	if o.Kind.Clock.Told != "" {
		d.does = append(d.does, d.time)
	}
	d.signals = newSignals(d, o.Kind.Signals)
	d.does = append(d.does, d.signals)
	for i := range o.Kind.Publishes {
		p := newPublication(d, &o.Kind.Publishes[i], strconv.Itoa(i))
		d.pubs, d.does = append(d.pubs, p), append(d.does, p)
	}
	for i := range o.Kind.Reactions {
		if r := newReaction(d, &o.Kind.Reactions[i]); r != nil {
			d.does = append(d.does, r)
		}
	}
	if d.states = newMachine(d); d.states != nil {
		d.does = append(d.does, d.states)
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
	copts := client.Options{
		Dial:      d.dial,
		Heed:      d.heed,
		Take:      d.takes,
		Version:   s.Version,
		Message:   d.arrived,
		InFlight:  s.InFlight,
		MaxPacket: s.MaxPacket,
		Connect: packet.Connect{
			ClientID:   workspace.FillIn(s.ClientID, o.Number),
			CleanStart: s.CleanStart,
			KeepAlive:  uint16(s.KeepAlive / time.Second),
		},
		Hooks: hooks,
	}
	if s.Version == packet.V5 && !s.CleanStart {
		// Without an expiry version 5 would drop the session at once (5.0 §3.1.2.11.2).
		copts.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 3600)}
	}
	if s.Version == packet.V5 && s.MaxPacket > 0 {
		copts.Connect.Properties = append(
			copts.Connect.Properties,
			packet.Int(packet.MaximumPacketSize, uint32(s.MaxPacket)),
		)
	}
	copts.Before = d.before
	o.Login.Apply(&copts)
	if s.PingsApart {
		d.beats = newBeats(d, copts)
		copts.Connect.KeepAlive = 0
	}
	if hello != nil {
		copts.Connect.Will = hello.will()
	}
	d.client = client.New(copts)
	d.Misbehave(o.Kind.Faults...) // the workspace knows their names
	if o.Kind.IsReal(o.Number) {
		d.phase = Real
	}
	return d
}

func qosOf(cl *contract.Clause) packet.QoS {
	if cl.QoS == nil {
		return 0
	}
	return *cl.QoS
}

// arrived takes a message from the client's reading goroutine. A device that cannot
// keep up loses messages, and says so.
func (d *Device) arrived(p *packet.Publish) {
	if !d.inbox.put(p) && d.overrun.Add(1) == 1 {
		d.complain(fmt.Errorf("messages come faster than it takes them: from %s on, some are lost", p.Topic))
	}
}

// Start switches the device on. It does nothing when it is on already, nor where the real one is there.
func (d *Device) Start() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.cancel != nil || d.phase == Real {
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
		d.since = d.opt.Clock.Now()
	}
	d.phase, d.why = p, why
}

// Set gives a signal a value; a wave stands still from then on.
func (d *Device) Set(name string, v any) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := d.signals.named(name)
	if s == nil {
		return fmt.Errorf("device %s has no signal %q", d.name, name)
	}
	s.value, s.held = v, true
	d.signals.touched = true
	select {
	case d.orders <- func() {}: // the loop looks when it is due next
	default:
	}
	return nil
}

// Release lets a signal that was set move by itself again.
func (d *Device) Release(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s := d.signals.named(name); s != nil {
		s.held = false
		d.signals.touched = true
	}
}

// Publish publishes any message over the device's own connection, and waits for its flow.
func (d *Device) Publish(ctx context.Context, m packet.Publish) error {
	if !d.client.Connected() {
		return fmt.Errorf("%s is not connected: start it first", d.name)
	}
	_, err := d.client.Publish(ctx, m)
	return err
}

// Send publishes one of the device's own messages now, by its clause or topic.
func (d *Device) Send(name string) error {
	for _, p := range d.pubs {
		if p.def.Clause == name || p.def.Topic == name {
			if !d.client.Connected() {
				return fmt.Errorf("%s is not connected: start it first", d.name)
			}
			select {
			case d.orders <- func() { p.publish(nil) }:
				return nil
			default:
				return fmt.Errorf("%s is busy: try again", d.name)
			}
		}
	}
	return fmt.Errorf("device %s publishes nothing called %q", d.name, name)
}

// env returns the names that expressions see. The lock must be held.
func (d *Device) env(more map[string]any) map[string]any {
	env := map[string]any{"n": d.opt.Number, "payload": nil, "params": nil, "state": nil}
	if d.states != nil {
		env["state"] = d.states.now
	}
	for _, s := range d.signals.all {
		if s.def.Is != nil && !s.held && s.def.Fault == nil {
			s.missing = slices.ContainsFunc(
				d.signals.all,
				func(x *signal) bool { return x.missing && s.def.Is.Reads(x.def.Name) },
			)
		}
		if s.def.Is != nil && !s.held && !s.missing {
			v, err := s.def.Is.Eval(env, d.funcs(s.def.Name))
			if err != nil {
				d.why = fmt.Sprintf("signal %s: %v", s.def.Name, err)
			}
			s.value = v
		}
		env[s.def.Name] = s.seen()
	}
	for k, v := range more {
		env[k] = v
	}
	return env
}

// funcs are the functions that expressions have; id tells whose count() it is.
func (d *Device) funcs(id string) expression.Funcs {
	return expression.Funcs{
		Now: func() string { return d.time.now().Add(d.clockOff()).UTC().Format("2006-01-02T15:04:05.000Z") },
		Count: func() int {
			d.counts[id]++
			return d.counts[id] - 1
		},
		Choice: d.rand.IntN,
	}
}
