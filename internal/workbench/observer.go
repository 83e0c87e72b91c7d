package workbench

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

const (
	observerKeepAlive = 15
	observerTimeout   = 10 * time.Second
)

// Message is a message sent by hand.
type Message struct {
	Topic   string
	Payload []byte
	QoS     packet.QoS
	Retain  bool
}

// observer is Hodstone's own client on a broker: its eyes, and the hand that sends.
type observer struct {
	b       *Bench
	broker  *workspace.Broker
	client  *client.Client
	rec     *trace.Recorder
	name    string        // on the trace
	id      string        // its client identifier
	ready   chan struct{} // closed when it first watches
	nudge   chan struct{} // capacity 1: show that the link stands
	leave   func()        // ends one that only stays in; nil for one that watches
	dismiss func()        // ends one that watches
	trial   chan bool     // capacity 1: the retain flag of the trial message, when it comes back
	tried   atomic.Pointer[string]
	entry   int  // connections so far; of the running goroutine
	silent  bool // the broker tells nothing of itself; of the running goroutine

	mu  sync.Mutex
	in  bool
	why string
}

// newObserver makes the client of a broker; listener is the way it goes, "" for the first.
func newObserver(b *Bench, br *workspace.Broker, listener string) *observer {
	o := &observer{
		b:      b,
		broker: br,
		ready:  make(chan struct{}),
		nudge:  make(chan struct{}, 1),
		trial:  make(chan bool, 1),
	}
	name := "observer"
	if br != b.Workspace().Broker("") {
		name += "-" + br.Name
	}
	connect := packet.Connect{ClientID: br.OwnID(), CleanStart: true, KeepAlive: observerKeepAlive}
	login := b.Workspace().Login(br.Login)
	o.id, o.name = connect.ClientID, name
	o.rec = trace.NewRecorder(
		trace.Source{Client: name, Role: trace.RoleObserver, Broker: br.Name, Version: br.Version},
		b.Log,
	)
	opt := client.Options{
		Dial:    b.dialer(br.Name, listener, login),
		Version: br.Version,
		Connect: connect,
		Hooks:   o.rec.Hooks(),
		Message: o.message,
	}
	login.Apply(&opt)
	o.client = client.New(opt)
	return o
}

// message sees whether the trial message has come back.
func (o *observer) message(p *packet.Publish) {
	if name := o.tried.Load(); name != nil && p.Topic == *name && len(p.Payload) > 0 {
		select {
		case o.trial <- p.Retain:
		default:
		}
	}
}

func (o *observer) run(ctx context.Context) {
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(o.b.opt.Seed, 99))}
	for ctx.Err() == nil {
		start := time.Now()
		err := o.enter(ctx)
		if err == nil {
			start = time.Now()
			o.set(true, "")
			select {
			case <-o.client.Done():
				err = backoff.Ended(o.client.Ended(), time.Since(start), o.id)
			case <-ctx.Done():
			}
		} else if ended := o.client.Ended(); ended != nil && !o.client.Connected() && errors.Is(err, ended) {
			err = backoff.Ended(ended, time.Since(start), o.id)
		}
		if ctx.Err() != nil {
			break
		}
		o.client.Close()
		o.set(false, fmt.Sprint(err))
		select {
		case <-time.After(backoff.Next()):
		case <-ctx.Done():
		}
	}
	o.client.Disconnect(0)
}

func (o *observer) set(in bool, why string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.in, o.why = in, why
	if in {
		select {
		case <-o.ready:
		default:
			close(o.ready)
		}
	}
}

func (o *observer) waitReady(ctx context.Context, most time.Duration) {
	select {
	case <-o.ready:
	case <-time.After(most):
	case <-ctx.Done():
	}
}

func (o *observer) state() BrokerState {
	o.mu.Lock()
	defer o.mu.Unlock()
	_, url, _ := o.b.address(o.broker.Name, "")
	t := reach.Target{
		URL:      url,
		Login:    o.b.Workspace().Login(o.broker.Login),
		Versions: []packet.Version{o.broker.Version},
	}
	return BrokerState{
		Name:  o.broker.Name,
		URL:   url,
		In:    o.in,
		Why:   o.why,
		Plain: o.broker.StandIn == nil && reach.PlainPassword(&t),
	}
}

// enter connects and, unless the observer only stays in, subscribes to all that it may read. In version 5 it
// does so twice: first for the stored messages, which then carry retain flag 1, at QoS 0, so that no window of
// unacknowledged messages holds them back; then, when those have come, with retain as published, so that the
// publisher's flag can be seen on live messages. The second subscription is made under another filter, or after
// the first was taken back: there are brokers that keep the options of the first. That the flag comes through,
// and that the login may read everything, is tried with a message of our own.
func (o *observer) enter(whole context.Context) error {
	ctx, cancel := context.WithTimeoutCause(whole, observerTimeout, fmt.Errorf("no answer within %s", observerTimeout))
	defer cancel()
	ack, err := o.client.Connect(ctx)
	if err != nil {
		return err
	}
	link := o.client.Done()
	o.b.wg.Go(func() { o.ping(whole, link) }) // a link that falls silent on the way in shows too
	if o.leave != nil {
		return nil
	}
	v5 := o.broker.Version == packet.V5
	see := &eyes{}
	greeted := packet.Subscription{QoS: 2}
	if v5 {
		greeted.QoS = 0
	}
	filters, refused, err := o.subscribe(ctx, []string{"#"}, greeted)
	if err != nil {
		return err
	}
	everything := len(filters) > 0
	if !everything { // not everything may be read: then what the contract names
		why := refused[0].why
		var named []string
		for _, c := range o.b.Workspace().Contract.Clauses {
			if f := c.Topic.Filter(); !slices.Contains(named, f) {
				named = append(named, f)
			}
		}
		if filters, refused, err = o.subscribe(ctx, named, greeted); err != nil {
			return err
		}
		if len(filters) == 0 {
			return fmt.Errorf("the subscription to # was refused: %s", why)
		}
		for _, r := range refused {
			see.refused = append(see.refused, r.filter)
		}
	}
	if v5 {
		if _, err := o.client.Ping(ctx); err != nil {
			return err
		}
		if err := o.keepFlag(ctx, filters, everything); err != nil {
			return err
		}
	}
	see.filters = filters
	if everything {
		mayStore := ack.Properties.IntOr(packet.RetainAvailable, 1) == 1
		came, flag := o.try(ctx, v5 && mayStore)
		if see.flag = came && flag; came {
			see.filters = nil
		} else {
			see.filters = []string{}
		}
	}
	o.b.obs.mu.Lock()
	o.b.obs.has(o.broker.Name, see)
	o.b.obs.mu.Unlock()
	if !o.client.Connected() {
		return o.client.Ended()
	}
	o.rec.Add(trace.Event{Kind: trace.Link, Link: client.Watching, Text: "watches " + list(filters, 3)})
	o.askFacts(ctx)
	return nil
}

// refusal is a filter that was not granted.
type refusal struct{ filter, why string }

// filtersAtOnce is how many filters go into one SUBSCRIBE.
const filtersAtOnce = 50

// subscribe subscribes to filters with the options, and tells which were granted and which were not.
func (o *observer) subscribe(
	ctx context.Context,
	filters []string,
	like packet.Subscription,
) (granted []string, refused []refusal, err error) {
	for some := range slices.Chunk(filters, filtersAtOnce) {
		var subs []packet.Subscription
		for _, f := range some {
			s := like
			s.Filter = f
			subs = append(subs, s)
		}
		ack, err := o.client.Subscribe(ctx, subs)
		var limit *client.LimitError
		switch {
		case errors.As(err, &limit): // the broker said before that it takes none such
			for _, f := range some {
				refused = append(refused, refusal{f, limit.Error()})
			}
			continue
		case err != nil:
			return nil, nil, err
		}
		for i, c := range ack.Codes {
			if c > 2 {
				refused = append(refused, refusal{some[i], c.In(packet.SUBACK, o.broker.Version)})
			} else {
				granted = append(granted, some[i])
			}
		}
	}
	return granted, refused, nil
}

// everyTopic matches what # matches, and is another filter.
const everyTopic = "+/#"

// keepFlag replaces the subscriptions by such that keep the publisher's retain flag (5.0 §3.8.3.1).
func (o *observer) keepFlag(ctx context.Context, filters []string, everything bool) error {
	live := packet.Subscription{QoS: 2, RetainAsPublished: true, RetainHandling: packet.RetainDontSend}
	if everything {
		granted, _, err := o.subscribe(ctx, []string{everyTopic}, live)
		if err != nil {
			return err
		}
		if _, err := o.client.Unsubscribe(ctx, "#"); err != nil || len(granted) > 0 {
			return err
		}
	} else {
		for some := range slices.Chunk(filters, filtersAtOnce) {
			if _, err := o.client.Unsubscribe(ctx, some...); err != nil {
				return err
			}
		}
	}
	granted, refused, err := o.subscribe(ctx, filters, live)
	if err == nil && len(granted) == 0 {
		err = fmt.Errorf("the subscription to %s was refused: %s", refused[0].filter, refused[0].why)
	}
	return err
}

// The times of the trial message. A broker that never passes it on is not waited for long at every return.
const (
	trialTime    = 2 * time.Second
	trialAgain   = 300 * time.Millisecond
	trialExpires = 10 // seconds: should we be gone before it is cleared
)

// try publishes a message under a name that no right can be meant for, and tells whether it came back and with
// which retain flag. It clears what it stored.
func (o *observer) try(ctx context.Context, store bool) (came, flag bool) {
	wait := trialTime
	if o.entry++; o.entry > 1 {
		wait = trialAgain
	}
	o.b.obs.mu.Lock()
	if before := o.b.obs.eyes[o.broker.Name]; before != nil && before.filters == nil {
		wait = trialTime // it came the last time
	}
	o.b.obs.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	name := reach.OwnRoot + strings.TrimPrefix(client.NewID(), trace.OwnTopics) + "/flag"
	o.tried.Store(&name)
	defer o.tried.Store(nil)
	m := packet.Publish{Topic: name, Payload: []byte("flag?"), Retain: store}
	if store {
		m.Properties = packet.Properties{packet.Int(packet.MessageExpiry, trialExpires)}
	}
	if _, err := o.client.Start(m); err != nil {
		return false, false
	}
	select {
	case flag = <-o.trial:
		came = true
	case <-ctx.Done():
	case <-o.client.Done():
		return false, false
	}
	if store {
		o.client.Start(packet.Publish{Topic: name, Retain: true})
	}
	return came, flag && store
}

func (o *observer) send(ctx context.Context, m Message) error {
	ctx, cancel := context.WithTimeoutCause(
		ctx,
		observerTimeout,
		fmt.Errorf("no acknowledgement within %s", observerTimeout),
	)
	defer cancel()
	code, err := o.client.Publish(ctx, packet.Publish{Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Retain: m.Retain})
	if errors.Is(err, client.ErrNotConnected) {
		return fmt.Errorf("not sent: Hodstone's own client is not connected to %s: %s", o.broker.Name, o.state().Why)
	}
	if err == nil && code >= 0x80 {
		return fmt.Errorf("the broker did not take it: %s", code.In(packet.PUBACK, o.broker.Version))
	}
	return err
}
