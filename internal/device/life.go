package device

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// live is the device's one goroutine besides its client's reader.
func (d *Device) live(ctx context.Context, done chan struct{}) {
	defer close(done)
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(d.opt.Seed, uint64(d.opt.Number)+1<<32))}
	coming := &d.opt.Kind.Coming
	d.time.begin(d.opt.Clock.Now())
	if d.wait(ctx, d.opt.Clock.Now().Add(d.between(coming.AfterMin, coming.AfterMax))) {
		d.come(ctx, coming, &backoff)
	}
	d.goodbye()
}

// come lets the device come, again and again, until it is switched off.
func (d *Device) come(ctx context.Context, coming *workspace.Coming, backoff *client.Backoff) {
	for ctx.Err() == nil {
		d.set(Connecting, d.lastReason())
		if d.opt.Gate != nil && d.opt.Gate.Wait(ctx) != nil {
			break
		}
		start := d.opt.Clock.Now()
		err := d.connect(ctx)
		if err == nil {
			start = d.opt.Clock.Now()
			d.set(On, "")
			err = d.work(ctx)
		}
		if ctx.Err() != nil {
			break
		}
		if errors.Is(err, errLeft) && coming.Returns == 0 {
			d.set(Off, err.Error())
			<-ctx.Done()
			break
		}
		if ended := d.client.Ended(); ended != nil && errors.Is(err, ended) {
			err = backoff.Ended(
				ended,
				d.opt.Clock.Now().Sub(start),
				workspace.FillIn(d.opt.Kind.Session.ClientID, d.opt.Number),
			)
		}
		pause := backoff.Next()
		switch {
		case errors.Is(err, errLeft):
			pause = coming.Returns
		case coming.Never || d.has(func(f *misdeed) bool { return f.stays }):
			d.mu.Lock()
			d.retryAt = time.Time{}
			d.mu.Unlock()
			d.set(Away, err.Error()+"; it does not come again by itself")
			d.wait(ctx, time.Time{})
			return
		case coming.AgainMax > 0:
			pause = d.between(coming.AgainMin, coming.AgainMax)
		}
		for _, f := range d.ill() {
			if f.pause > 0 {
				pause = f.pause
			}
		}
		again := d.opt.Clock.Now().Add(pause)
		d.mu.Lock()
		d.setLocked(Away, err.Error())
		d.retryAt = again
		d.mu.Unlock()
		d.wait(ctx, again)
	}
}

// wait waits until a time, for good where that is zero; a device that keeps what it would publish goes on with that.
// It tells whether the time has come.
func (d *Device) wait(ctx context.Context, until time.Time) bool {
	for {
		at, measures := until, false
		if d.kept != nil {
			if next := d.earliest(d.measuring()); !next.IsZero() && (at.IsZero() || next.Before(at)) {
				at, measures = next, true
			}
		}
		due, stop := after(d.opt.Clock, at)
		select {
		case <-due:
		case <-ctx.Done():
			stop()
			return false
		}
		stop()
		if !measures {
			return true
		}
		d.act(d.measuring(), d.opt.Clock.Now())
	}
}

// between draws a time from a span.
func (d *Device) between(from, to time.Duration) time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	if to > from {
		from += time.Duration(d.rand.Int64N(int64(to - from)))
	}
	return from
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
	for _, b := range d.does {
		subs = append(subs, b.filters()...)
	}
	subs = d.consumes(subs)
	if d.has(func(f *misdeed) bool { return f.deaf || f.forgets && d.heard }) {
		subs = nil
	}
	d.heard = true
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
	return nil
}

// consumes adds what its party consumes to the subscriptions: a device takes what the contract says that it takes, also
// what it does nothing upon.
func (d *Device) consumes(subs []packet.Subscription) []packet.Subscription {
	for _, cl := range d.opt.Contract.Clauses {
		if !slices.Contains(cl.To, d.opt.Kind.Plays) {
			continue
		}
		filter := cl.Topic.Fill(d.params)
		if !slices.ContainsFunc(subs, func(s packet.Subscription) bool { return topic.Covers(s.Filter, filter) }) {
			subs = append(subs, packet.Subscription{Filter: filter, QoS: d.asked(cl, qosOf(cl))})
		}
	}
	return subs
}

// asked is the QoS that the device subscribes to a clause with, where it would be qos by the contract.
func (d *Device) asked(cl *contract.Clause, qos packet.QoS) packet.QoS {
	if own, has := d.opt.Kind.Subscribes[cl.Name]; has {
		qos = own
	}
	if most := d.opt.Kind.Session.MaxQoS; most != nil {
		qos = min(qos, *most)
	}
	return qos
}

func (d *Device) goodbye() {
	d.stopBeats()
	if !d.client.Connected() {
		return
	}
	for _, b := range d.does {
		b.end()
	}
	if d.has(func(f *misdeed) bool { return f.overlong }) {
		d.speakOn(d.client)
		return
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

// errLeft ends the work of a device that has been in as long as it stays.
var errLeft = errors.New("it has left, as it does")

// work runs the device until its connection ends, it leaves, or it is switched off.
func (d *Device) work(ctx context.Context) error {
	now := d.opt.Clock.Now()
	for _, b := range d.does {
		b.begin(now)
	}
	d.startBeats(ctx)
	gone := d.client.Done()
	inbox, orders := d.inbox.wake, d.orders
	cycle := d.opt.Kind.Cycle
	if cycle > 0 { // they are looked at when the cycle comes round
		inbox, orders = nil, nil
	}
	leaves := time.Time{}
	if stays := d.opt.Kind.Coming.Stays; stays > 0 {
		leaves = now.Add(stays)
	}
	for {
		next := d.earliest(d.does)
		if cycle > 0 {
			next = now.Add(cycle)
		}
		if !leaves.IsZero() && (next.IsZero() || leaves.Before(next)) {
			next = leaves
		}
		due, stop := after(d.opt.Clock, next)
		select {
		case <-ctx.Done():
			stop()
			return ctx.Err()
		case <-gone:
			stop()
			return d.lostReason()
		case <-inbox:
			if m := d.inbox.take(); m != nil {
				d.take(m)
			}
		case order := <-orders:
			order()
		case <-due:
		}
		stop()
		now = d.opt.Clock.Now()
		if cycle > 0 {
			d.takeAll()
		}
		d.act(d.does, now)
		if !leaves.IsZero() && !now.Before(leaves) {
			d.leave()
			return errLeft
		}
	}
}

// take hands a message that has come to all behaviours.
func (d *Device) take(m *packet.Publish) {
	d.got()
	now := d.opt.Clock.Now()
	for _, b := range d.does {
		b.message(m, now)
	}
}

// takeAll takes in what has come since the last cycle.
func (d *Device) takeAll() {
	for {
		select {
		case order := <-d.orders:
			order()
			continue
		default:
		}
		m := d.inbox.take()
		if m == nil {
			return
		}
		d.take(m)
	}
}

// act lets behaviours act that are due.
func (d *Device) act(some []behaviour, now time.Time) {
	for _, b := range some {
		if at := b.due(); !at.IsZero() && !now.Before(at) {
			b.act(now)
		}
	}
}

// leave says goodbye in the middle of a life.
func (d *Device) leave() {
	d.goodbye()
	<-d.client.Done()
}

// earliest is when the first of some behaviours wants to act next.
func (d *Device) earliest(some []behaviour) (at time.Time) {
	for _, b := range some {
		if due := b.due(); !due.IsZero() && (at.IsZero() || due.Before(at)) {
			at = due
		}
	}
	return at
}

func (d *Device) lostReason() error {
	if reason := d.client.Ended(); reason != nil {
		return reason
	}
	return errors.New("the connection ended")
}
