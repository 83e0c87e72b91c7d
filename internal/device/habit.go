package device

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
	"hodstone/internal/trace"
)

// timepiece is the clock that a device shows, as expressions see it: it may begin anywhere, drift, and be set by a
// message. What the device waits for goes by the right time.
type timepiece struct {
	idle
	d      *Device
	filter string    // of what sets it; "" for nothing
	base   time.Time // the right time at which it showed shows
	shows  time.Time
}

func newTimepiece(d *Device) *timepiece {
	t := &timepiece{d: d}
	if cl := d.opt.Contract.Clause(d.opt.Kind.Clock.Told); cl != nil {
		t.filter = cl.Topic.Fill(d.params)
	}
	t.begin(d.born)
	return t
}

// begin sets it where it begins; it is called when the device is switched on, and whenever it has come in.
func (t *timepiece) begin(now time.Time) {
	t.d.mu.Lock()
	defer t.d.mu.Unlock()
	if t.base.IsZero() || t.d.phase != On {
		if t.base, t.shows = now, now; !t.d.opt.Kind.Clock.Starts.IsZero() {
			t.shows = t.d.opt.Kind.Clock.Starts
		}
	}
}

func (t *timepiece) filters() []packet.Subscription {
	if t.filter == "" {
		return nil
	}
	cl := t.d.opt.Contract.Clause(t.d.opt.Kind.Clock.Told)
	return []packet.Subscription{{Filter: t.filter, QoS: t.d.asked(cl, qosOf(cl))}}
}

// message sets it by the time that a message tells.
func (t *timepiece) message(m *packet.Publish, now time.Time) {
	if t.filter == "" || !topic.Match(t.filter, m.Topic) {
		return
	}
	v, err := t.d.opt.Contract.Clause(t.d.opt.Kind.Clock.Told).Payload.Code().Decode(m.Payload)
	if err != nil {
		return
	}
	if told, ok := timeOf(payload.Plain(v)); ok {
		t.d.mu.Lock()
		t.base, t.shows = now, told
		t.d.mu.Unlock()
	}
}

// timeOf reads a time: as text, as seconds since 1970, or either as the field at or time.
func timeOf(v any) (time.Time, bool) {
	if all, is := v.(map[string]any); is {
		for _, field := range []string{"at", "time"} {
			if t, ok := contract.TimeOf(all[field]); ok {
				return t, true
			}
		}
	}
	return contract.TimeOf(v)
}

// now is what it shows; the device's lock is held.
func (t *timepiece) now() time.Time {
	since := t.d.opt.Clock.Now().Sub(t.base)
	return t.shows.Add(since + time.Duration(float64(since)*t.d.opt.Kind.Clock.Drift))
}

// kept is what a device would have published while it was away: it goes out when it is back.
type kept struct {
	idle
	d       *Device
	most    int
	newest  bool // what does not fit is dropped, and not the oldest
	waiting []packet.Publish
	count   atomic.Int64 // how many wait
}

func (k *kept) put(m packet.Publish) {
	if len(k.waiting) == k.most {
		if k.newest {
			return
		}
		k.waiting = slices.Delete(k.waiting, 0, 1)
	}
	k.waiting = append(k.waiting, m)
	k.count.Store(int64(len(k.waiting)))
}

// begin sends what waited, the oldest first.
func (k *kept) begin(time.Time) {
	if k.d.has(func(f *misdeed) bool { return f.loses }) {
		k.waiting = nil
	}
	for len(k.waiting) > 0 {
		if _, err := k.d.client.Start(k.waiting[0]); err != nil {
			k.d.complain(err)
			if !k.d.client.Connected() {
				return // the next time
			}
		}
		k.waiting = k.waiting[1:]
		k.count.Store(int64(len(k.waiting)))
	}
	k.waiting = nil
}

// measuring are the behaviours that go on while the device is away.
func (d *Device) measuring() (out []behaviour) {
	out = append(out, d.signals)
	for _, p := range d.pubs {
		out = append(out, p)
	}
	if d.states != nil {
		out = append(out, d.states)
	}
	return out
}

// newBeats returns the client of a connection that only pings, beside the device's own.
func newBeats(d *Device, o client.Options) *client.Client {
	o.Message, o.Connect.Will, o.Before = nil, nil, nil // faults are those of the other connection
	o.Connect.ClientID += "-ping"
	o.Connect.CleanStart, o.Connect.Properties = true, nil
	s := d.opt.Kind.Session
	o.Hooks = trace.NewRecorder(
		trace.Source{Client: d.name + " pings", Role: trace.RoleDevice, Broker: d.opt.Broker, Version: s.Version},
		d.opt.Logs...).Hooks()
	return client.New(o)
}

// startBeats opens the connection that only pings, where there is one and it is not open.
func (d *Device) startBeats(ctx context.Context) {
	if d.beats == nil || d.beats.Connected() {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, connectTimeout)
	defer cancel()
	if _, err := d.beats.Connect(ctx); err != nil {
		d.complain(err)
	}
}

func (d *Device) stopBeats() {
	if d.beats != nil && d.beats.Connected() {
		d.beats.Disconnect(0)
	}
}
