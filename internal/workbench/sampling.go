package workbench

import (
	"context"
	"slices"
	"strconv"
	"sync"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// sample is the part of a fleet that is traced and judged, and what the broker tells of itself meanwhile.
type sample struct {
	l       *Loader
	log     *trace.Log
	traced  map[int]*client.Hooks
	filters []string
	seen    *Observation

	mu       sync.Mutex // guards what follows
	facts    map[string]string
	judged   int
	broken   int
	breaches []string
	why      string // why nothing could be seen
}

// unnumbered is a contract whose parameters take any value: a fleet has more of a kind than the site.
func unnumbered(c *contract.Contract) *contract.Contract {
	out := &contract.Contract{
		Parties:    c.Parties,
		Parameters: map[string]contract.Parameter{},
		Clauses:    c.Clauses,
		Relations:  c.Relations,
		Accepted:   c.Accepted,
	}
	for name, p := range c.Parameters {
		out.Parameters[name] = contract.Parameter{Name: p.Name, Note: p.Note}
	}
	return out
}

// leastTraced is how many clients are traced at least.
const leastTraced = 10

// sampled chooses the clients that are traced: spread over all.
func (l *Loader) sampled(cl *contract.Clause) (*sample, error) {
	s := &sample{l: l, traced: map[int]*client.Hooks{}, facts: map[string]string{}, log: trace.NewLog(loadTrace)}
	players := map[string]Player{}
	kinds, numbers := l.plan.Order()
	var mine []int // places of this part's clients
	for i := range kinds {
		if l.plan.Shard.Has(i+1, l.plan.Shape) {
			mine = append(mine, i)
		}
	}
	count := min(len(mine), max(leastTraced, int(l.load.Traced*float64(len(mine)))))
	if l.load.Traced == 0 {
		count = 0
	}
	for i := range count {
		at := mine[i*len(mine)/count]
		kind, n := &l.plan.Kinds[kinds[at]], int(numbers[at])
		d := l.b.kind(kind.Name)
		name := kind.Name + " " + strconv.Itoa(n)
		version := kind.Client(n).Version
		hooks := trace.Record(
			trace.Source{Client: name, Role: trace.RoleDevice, Broker: l.broker.Name, Version: version},
			s.log,
		)
		s.traced[at+1] = &hooks
		if d != nil && cl != nil {
			players[name] = Player{Party: d.Plays, Parameters: parameters(d, beyondSite(d, n))}
			s.filters = append(s.filters, kind.Topic(n))
		}
	}
	if count > 0 {
		l.plan.Traced = func(n int) *client.Hooks { return s.traced[n] }
	}
	if len(s.filters) > 0 {
		s.seen = NewObservation(
			unnumbered(l.b.Workspace().Contract),
			loadEye,
			l.broker.Name,
			players,
			s.message,
			s.lack,
		)
	}
	return s, nil
}

// The trace of a load, in events, and what its observer is called on it.
const (
	loadTrace = 50_000
	loadEye   = "observer of the load"
)

func (s *sample) message(_ *trace.Event, f Finding) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.judged++
	s.note(f.Judgement.Breaches)
}

func (s *sample) lack(found []contract.Breach) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.note(found)
}

// note keeps breaches; s.mu is held.
func (s *sample) note(found []contract.Breach) {
	const most = 100
	for i := range found {
		if !s.judges(&found[i]) {
			continue
		}
		if s.broken++; len(s.breaches) < most {
			s.breaches = append(s.breaches, found[i].String())
		}
	}
}

// judges tells whether a breach is the clients' own. When they publish is the load's doing, and what they do beside that, such
// as answering and announcing themselves, nobody asked of them; nor is an example's time stamp of today.
func (s *sample) judges(b *contract.Breach) bool {
	switch b.Rule {
	case contract.RuleSilence,
		contract.RuleHaste,
		contract.RuleRepeat,
		contract.RuleAnswer,
		contract.RulePresence,
		contract.RuleSubscribes,
		contract.RuleRelation:
		return false
	case contract.RuleStamp:
		return s.l.load.From == workspace.FromSignals
	case contract.RuleTerms:
		return b.Keyword != "first-value-within" && b.Keyword != "back-within" && b.Keyword != "tries" &&
			b.Keyword != "lost-within"
	}
	return true
}

// begin watches until it is stopped.
func (s *sample) begin(ctx context.Context) (stop func()) {
	l := s.l
	ctx, cancel := context.WithCancel(ctx)
	login := l.b.Workspace().Login(l.broker.Login)
	version := l.broker.Version
	if version == 0 {
		version = packet.V5
	}
	rec := trace.NewRecorder(
		trace.Source{Client: loadEye, Role: trace.RoleObserver, Broker: l.broker.Name, Version: version},
		s.log,
	)
	const alive = 15
	o := client.Options{
		Dial:    l.b.dialer(l.broker.Name, "", login),
		Version: version,
		Hooks:   rec.Hooks(),
		Message: s.fact,
		Connect: packet.Connect{ClientID: l.broker.OwnID(), CleanStart: true, KeepAlive: alive},
	}
	login.Apply(&o)
	eye := client.New(o)
	var wg sync.WaitGroup
	opened, ended := context.WithTimeout(ctx, observerTimeout)
	_, err := eye.Connect(opened)
	if err == nil {
		err = s.subscribe(opened, eye, rec)
	}
	ended()
	if err != nil {
		s.why = "nothing was judged: the observer did not get in: " + err.Error()
	}
	wg.Go(func() { s.read(ctx, eye) })
	return func() {
		const late = 300 * time.Millisecond // what is under way to the observer
		time.Sleep(late)
		cancel()
		wg.Wait()
		eye.Disconnect(0)
	}
}

// subscribe subscribes to the sample's topics, and to what the broker tells of itself.
func (s *sample) subscribe(ctx context.Context, eye *client.Client, rec *trace.Recorder) error {
	subscribe := func(filters []string, qos packet.QoS) error {
		const each = 50
		for len(filters) > 0 {
			var subs []packet.Subscription
			n := min(each, len(filters))
			for _, f := range filters[:n] {
				subs = append(subs, packet.Subscription{Filter: f, QoS: qos})
			}
			filters = filters[n:]
			if _, err := eye.Subscribe(ctx, subs); err != nil {
				return err
			}
		}
		return nil
	}
	if len(s.filters) > 0 {
		if err := subscribe(s.filters, 2); err != nil {
			return err
		}
		s.seen.Sees(s.l.broker.Name, s.filters, false)
		rec.Add(trace.Event{Kind: trace.Link, Link: client.Watching})
	}
	if s.l.broker.StandIn == nil {
		var all []string
		for _, f := range topic.Told() {
			all = append(all, f.Topic)
		}
		subscribe(all, 0) // where it tells of itself
	}
	return nil
}

// fact takes in what the broker tells of itself.
func (s *sample) fact(p *packet.Publish) {
	for _, f := range topic.Told() {
		if f.Topic == p.Topic {
			s.mu.Lock()
			s.facts[f.What] = string(p.Payload[:min(len(p.Payload), factBytes)])
			s.mu.Unlock()
		}
	}
}

// read lets what is traced be judged.
func (s *sample) read(ctx context.Context, eye *client.Client) {
	room := make([]trace.Event, 1000)
	for next := uint64(1); ; {
		n, missed := s.log.ReadInto(next, room)
		next += uint64(n) + missed
		if s.seen != nil && (n > 0 || missed > 0) && s.seen.Take(room[:n], missed) {
			eye.AskPing()
		}
		clear(room[:n])
		if n == len(room) {
			continue
		}
		if ctx.Err() != nil {
			return
		}
		wait, stop := context.WithTimeout(ctx, tickEvery)
		s.log.Wait(wait, next)
		stop()
	}
}

// told puts into the result what was found.
func (s *sample) told(r *fleet.Result) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r.Traced, r.Judged, r.Broken, r.Breaches = len(s.traced), s.judged, s.broken, slices.Clone(s.breaches)
	if s.why != "" && s.seen != nil {
		r.Why = append(r.Why, s.why)
	}
}

// facts are what the broker tells of itself now.
func (l *Loader) facts() map[string]string {
	l.sample.mu.Lock()
	defer l.sample.mu.Unlock()
	out := map[string]string{}
	for k, v := range l.sample.facts {
		out[k] = v
	}
	return out
}
