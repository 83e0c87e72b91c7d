package workbench

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
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
	b      *Bench
	broker *workspace.Broker
	client *client.Client
	id     string        // its client identifier
	ready  chan struct{} // closed when it first watches
	leave  func()        // ends one that only stays in; nil for one that watches

	mu  sync.Mutex
	in  bool
	why string
}

// newObserver makes the client of a broker; listener is the way it goes, "" for the first.
func newObserver(b *Bench, br *workspace.Broker, listener string) *observer {
	o := &observer{b: b, broker: br, ready: make(chan struct{})}
	name := "observer"
	if br != b.Workspace.Broker("") {
		name += "-" + br.Name
	}
	connect := packet.Connect{ClientID: client.NewID(), CleanStart: true, KeepAlive: observerKeepAlive}
	login := b.Workspace.Login(br.Login)
	o.id = connect.ClientID
	opt := client.Options{Dial: b.dialer(br.Name, listener, login), Version: br.Version, Connect: connect,
		Hooks: trace.Record(trace.Source{Client: name, Role: trace.RoleObserver, Broker: br.Name, Version: br.Version}, b.Log)}
	login.Apply(&opt)
	o.client = client.New(opt)
	return o
}

func (o *observer) run(ctx context.Context) {
	backoff := client.Backoff{Rand: rand.New(rand.NewPCG(o.b.opt.Seed, 99))}
	for ctx.Err() == nil {
		err := o.enter(ctx)
		if err == nil {
			backoff.Reset()
			o.set(true, "")
			o.b.wg.Go(func() { o.ping(ctx) })
			select {
			case <-o.client.Done():
				err = o.client.Ended()
			case <-ctx.Done():
			}
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
	t := reach.Target{URL: url, Login: o.b.Workspace.Login(o.broker.Login), Versions: []packet.Version{o.broker.Version}}
	return BrokerState{Name: o.broker.Name, URL: url, In: o.in, Why: o.why, Plain: o.broker.StandIn == nil && reach.PlainPassword(&t)}
}

// enter connects and, unless the observer only stays in, subscribes to everything. In version 5 it subscribes twice: first for
// the stored messages, which then carry retain flag 1; then, when those have come, with
// retain as published, so that the publisher's flag can be seen on live messages. The first
// is at QoS 0, so that no window of unacknowledged messages holds stored ones back.
func (o *observer) enter(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, observerTimeout, fmt.Errorf("no answer within %s", observerTimeout))
	defer cancel()
	if _, err := o.client.Connect(ctx); err != nil {
		return err
	}
	if o.leave != nil {
		return nil
	}
	filters := []string{"#"}
	subscribe := func(change func(*packet.Subscription)) error {
		var subs []packet.Subscription
		for _, f := range filters {
			s := packet.Subscription{Filter: f, QoS: 2}
			change(&s)
			subs = append(subs, s)
		}
		ack, err := o.client.Subscribe(ctx, subs)
		if err != nil {
			return err
		}
		for i, c := range ack.Codes {
			if c > 2 {
				return fmt.Errorf("the subscription to %s was refused: %s", filters[i], c.In(packet.SUBACK, o.broker.Version))
			}
		}
		return nil
	}
	stored := func(s *packet.Subscription) {
		if o.broker.Version == packet.V5 {
			s.QoS = 0
		}
	}
	if err := subscribe(stored); err != nil {
		// Not everything may be read: then what the contract names.
		filters = nil
		for _, c := range o.b.Workspace.Contract.Clauses {
			filters = append(filters, c.Topic.Filter())
		}
		if len(filters) == 0 || subscribe(stored) != nil {
			return err
		}
	}
	if o.broker.Version != packet.V5 {
		return nil
	}
	if _, err := o.client.Ping(ctx); err != nil {
		return err
	}
	return subscribe(func(s *packet.Subscription) { s.RetainAsPublished, s.RetainHandling = true, packet.RetainDontSend })
}

func (o *observer) send(ctx context.Context, m Message) error {
	ctx, cancel := context.WithTimeoutCause(ctx, observerTimeout, fmt.Errorf("no acknowledgement within %s", observerTimeout))
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

// OfChecks tells whether a topic belongs to Hodstone's own checks, which no contract covers.
func OfChecks(topic string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(topic, "/"), "/")
	return first == proof.TopicRoot && topic != first || strings.HasPrefix(first, reach.OwnRoot)
}

// watch is the one reader that follows journeys and judges messages. It looks at once when
// something comes, but not more often than every [watchEvery].
func (b *Bench) watch() {
	next := uint64(1)
	granted := map[string]packet.QoS{}
	room := make([]trace.Event, 2000)
	timer := time.NewTimer(0)
	defer timer.Stop()
	for b.ctx.Err() == nil {
		n, missed := b.Log.ReadInto(next, room)
		events := room[:n]
		next += uint64(n) + missed
		b.mu.Lock()
		b.missed += missed
		for i := range events {
			b.take(&events[i], granted)
		}
		if n < len(room) {
			b.judge.Tick(time.Now())
		}
		b.mu.Unlock()
		if n == len(room) {
			continue
		}
		timer.Reset(watchEvery)
		select {
		case <-timer.C:
		case <-b.ctx.Done():
			return
		}
		wait, stop := context.WithTimeout(b.ctx, tickEvery)
		b.Log.Wait(wait, next)
		stop()
	}
}

// take follows one event; b.mu is held.
func (b *Bench) take(e *trace.Event, granted map[string]packet.QoS) {
	j := b.journeys.Add(e)
	b.statistics.Add(e)
	b.monitor.Add(e)
	if a, ok := e.Packet.(*packet.Suback); ok && len(a.Codes) > 0 {
		granted[e.Client] = packet.QoS(a.Codes[0] & 3)
	}
	m := e.Publish()
	if m == nil {
		return
	}
	b.traffic.Add(e.At)
	if e.Role != trace.RoleObserver || e.Kind != trace.Received || j == nil || OfChecks(m.Topic) {
		return
	}
	hop := j.Hops[len(j.Hops)-1]
	msg := contract.Message{At: e.At, Seq: e.Seq, Topic: m.Topic, Payload: m.Payload, QoS: m.QoS, Granted: granted[e.Client],
		Retain: m.Retain, RetainKnown: !hop.Copy && b.journeys.KeepsRetain(e.Client), Copy: hop.Copy, Sender: j.Sender}
	b.findings[e.Seq%traceLength] = numbered{e.Seq, Finding{b.judge.Message(msg), j.Sender}}
}

// numbered is a finding about the event with the number.
type numbered struct {
	seq uint64
	Finding
}

// Snapshot is what was seen, at a moment.
type Snapshot struct {
	At       time.Time
	Started  time.Time
	Cells    []contract.Cell
	Strays   []contract.Stray
	Breaches []contract.Breach // the latest, oldest first
	Total    int               // breaches in all
	Missed   uint64            // events that came faster than they could be judged
}

// Snapshot returns what was seen up to now.
func (b *Bench) Snapshot() Snapshot {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := time.Now()
	s := Snapshot{At: now, Started: b.started, Cells: b.judge.Cells(), Strays: b.judge.Strays(), Missed: b.missed}
	s.Breaches, s.Total = b.judge.Breaches()
	return s
}

// Rate returns how many PUBLISH packets a second went over, either way, in the last
// seconds.
func (b *Bench) Rate() float64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.traffic.Rate(time.Now())
}

// Finding returns what the judge said of the observer's event with the number.
func (b *Bench) Finding(seq uint64) (Finding, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.findings == nil {
		return Finding{}, false
	}
	f := &b.findings[seq%traceLength]
	return f.Finding, f.seq == seq && seq != 0
}

// Journey returns the journey that the event with the number belongs to, as a copy.
func (b *Bench) Journey(seq uint64) (trace.Journey, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	all := b.journeys.All()
	for i := len(all) - 1; i >= 0; i-- {
		found := all[i].SentSeq == seq
		for _, h := range all[i].Hops {
			found = found || h.Seq == seq
		}
		if found {
			j := *all[i]
			j.Hops = append([]trace.Hop(nil), j.Hops...)
			return j, true
		}
	}
	return trace.Journey{}, false
}

// ProofState is the latest proof, finished or under way.
type ProofState struct {
	Target  proof.Target
	Started time.Time // zero before the first
	Running bool
	Total   int
	Now     map[string]bool // checks under way, as NAME/VERSION
	Results []proof.Result  // as they came; in the catalogue's order at the end
	Took    time.Duration
	Err     error // why it could not begin
}

// StartProof runs checks in the background; one proof at a time.
func (b *Bench) StartProof(where string, o proof.Options) error {
	t, err := b.Target(where)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.proof.Running {
		return errors.New("a proof is under way: stop it first")
	}
	if o.Checks == nil {
		o.Checks = proof.Checks()
	}
	if o.Versions == nil {
		o.Versions = []packet.Version{packet.V311, packet.V5}
	}
	ctx, cancel := context.WithCancel(b.ctx)
	b.cancel = cancel
	b.proof = ProofState{Target: t, Started: time.Now(), Running: true, Total: len(o.Checks) * len(o.Versions), Now: map[string]bool{}}
	key := func(c *proof.Check, v packet.Version) string { return c.Name + "/" + v.String() }
	o.Started = func(c *proof.Check, v packet.Version) {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.proof.Now[key(c, v)] = true
	}
	o.Done = func(r proof.Result) {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.proof.Now, key(r.Check, r.Version))
		b.proof.Results = append(b.proof.Results, r)
	}
	b.wg.Go(func() {
		defer cancel()
		p, err := proof.Run(ctx, t, o)
		b.mu.Lock()
		defer b.mu.Unlock()
		b.proof.Running, b.proof.Err = false, err
		if err == nil {
			b.proof.Results, b.proof.Took = p.Results, p.Took
		}
	})
	return nil
}

// StopProof ends a running proof; what is left is undecided.
func (b *Bench) StopProof() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.cancel != nil {
		b.cancel()
	}
}

// Proof returns the latest proof as it stands.
func (b *Bench) Proof() ProofState {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.proof
	s.Results = append([]proof.Result(nil), s.Results...)
	s.Now = map[string]bool{}
	for k := range b.proof.Now {
		s.Now[k] = true
	}
	return s
}
