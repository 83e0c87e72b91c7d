package fleet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"time"

	"hodstone/internal/mqtt/packet"
)

// Times of a load.
const (
	connectors  = 128             // how many connect side by side
	settleLeast = 3 * time.Second // how long is waited for what is under way, after the last that came
	settleMost  = 30 * time.Second
	secondsKept = 3600 // of a longer load seconds are joined
	tickEvery   = 100 * time.Millisecond
	tripFactor  = 3
)

// Run carries the load out and returns what it came to; a context that ends stops it, and what was measured until then is
// returned. The fleet is gone afterwards.
func (f *Fleet) Run(ctx context.Context) *Result {
	f.began, f.before = time.Now(), f.strainNow()
	f.mu.Lock()
	f.result = Result{
		Name:    f.plan.Name,
		Shape:   f.plan.Shape,
		QoS:     int(f.plan.QoS),
		Size:    f.plan.Size,
		Each:    f.plan.Each,
		Bound:   f.plan.Bound.String(),
		Plan:    f.plan.Whole(),
		Shard:   f.plan.Shard.String(),
		Started: f.began,
	}
	f.mu.Unlock()
	work, stop := context.WithCancel(context.Background())
	for range connectors {
		f.wg.Go(func() { f.connecting(work) })
	}
	n := runtime.GOMAXPROCS(0)
	for i := range n {
		w := &worker{f: f, rand: rand.New(rand.NewPCG(f.plan.Seed, uint64(i)))}
		for k, s := range f.all {
			if s != nil && k%n == i {
				w.mine = append(w.mine, s)
			}
		}
		f.wg.Go(func() { w.run(work) })
	}
	var others []*session
	for _, s := range f.all {
		if s != nil && f.other(s) {
			others = append(others, s)
		}
	}
	f.come(ctx, others, len(others), "the others connect")
	if f.plan.Find != "" {
		f.find(ctx)
	} else {
		for i, step := range f.plan.Steps {
			if ctx.Err() != nil {
				break
			}
			f.mu.Lock()
			f.step, f.left = i, f.remaining(i)
			f.mu.Unlock()
			f.keep(f.carry(ctx, step)) // stopped or not: who was in by then is told
		}
	}
	if ctx.Err() == nil && f.plan.Storm != NoStorm {
		storm := f.storm(ctx)
		f.mu.Lock()
		f.result.Storm = storm
		f.mu.Unlock()
	}
	f.closed.Store(true)
	f.gap.Store(0)
	f.say("the fleet leaves", 0)
	f.leave()
	close(f.over)
	stop()
	f.wg.Wait()
	f.mu.Lock()
	defer f.mu.Unlock()
	f.result.Took, f.result.Stopped = time.Since(f.began), ctx.Err() != nil
	f.result.sum()
	f.result.judge()
	r := f.result
	return &r
}

// remaining is about how long the steps from one on take.
func (f *Fleet) remaining(from int) (d time.Duration) {
	for _, s := range f.plan.Steps[from:] {
		d += s.Hold + s.Over + time.Second
	}
	return d
}

func (f *Fleet) say(doing string, left time.Duration) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.doing = doing; left > 0 {
		f.left = left
	}
}

// keep adds a step to the result.
func (f *Fleet) keep(s StepResult) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.result.Steps = append(f.result.Steps, s)
	f.stepped = StepResult{}
}

// mine are the plan's clients of this shard, in their order.
func (f *Fleet) mine() (out []*session) {
	for _, s := range f.all {
		if s != nil && !f.other(s) {
			out = append(out, s)
		}
	}
	return out
}

// wanted is how many of the clients that are in, in all parts, are of this shard.
func (f *Fleet) wanted(clients int) (n int) {
	if f.plan.Shape == Pairs {
		clients &^= 1
	}
	for _, s := range f.mine() {
		if s.n <= clients {
			n++
		}
	}
	return n
}

// carry carries out a step.
func (f *Fleet) carry(ctx context.Context, step Step) StepResult {
	all := f.mine()
	want := f.wanted(step.Clients)
	for _, s := range all[want:] { // of a ramp that falls
		if s.wanted.Swap(false) && s.in.Load() {
			s.client.Disconnect(0)
		}
		s.mu.Lock()
		s.one, s.heard = tracker{}, nil
		s.mu.Unlock()
	}
	f.begin(want)
	f.stepBegins()
	coming := time.Now()
	refused := 0
	if step.Over > 0 {
		f.come(ctx, all, f.reached.clients, "clients connect")
	} else {
		refused = f.come(ctx, all, want, "clients connect")
	}
	asked := f.ask(step)
	f.mu.Lock()
	f.stepped.Coming = time.Since(coming)
	f.stepped.Asked = asked
	f.mu.Unlock()
	before := f.strainNow()
	start := time.Now()
	f.gap.Store(f.gapOf(asked))
	began, arrived := f.reached, false
	f.reached = climb{want, step.Clients, step.Rate}
	f.climbing.Store(step.Over > 0)
	for ctx.Err() == nil {
		if climbing := time.Since(start); step.Over > 0 && !arrived {
			arrived = climbing >= step.Over
			asked = f.climb(began, climb{want, step.Clients, step.Rate}, all, float64(climbing)/float64(step.Over))
			f.climbing.Store(!arrived)
		}
		f.mu.Lock()
		held := f.held
		f.mu.Unlock()
		took := time.Since(start)
		if took >= step.Hold+step.Over && !held || f.silent() {
			break
		}
		f.say(fmt.Sprintf("step %d: %s", f.step+1, f.what(asked)), 0)
		f.tick(ctx)
	}
	f.gap.Store(0)
	took := time.Since(start)
	after := f.strainNow()
	if step.Over > 0 {
		refused, asked = f.late(ctx, all[:want]), f.stepped.Asked
	}
	f.settle(ctx)
	f.mu.Lock()
	defer f.mu.Unlock()
	s := f.stepped
	s.Took, s.In, s.Refused, s.Out = took, f.connected(), refused, f.out()
	s.Asked = asked
	s.Strain, s.Broker = strainOver(before, after), f.brokerOver(before, after)
	if took > 0 {
		s.Reached, s.Heard = float64(s.Sent)/took.Seconds(), float64(s.Received)/took.Seconds()
	}
	if f.plan.Facts != nil {
		s.Facts = f.plan.Facts()
	}
	if n := f.waiting(all[:want]); n > 0 && ctx.Err() != nil {
		s.Refusals[unanswered] += n
	}
	if s.Limits = f.causes(&s); ctx.Err() != nil {
		s.Cut, s.Refused, s.Out = true, 0, 0
		return s
	}
	s.Broken = f.plan.Bound.Broken(&s)
	return s
}

// unanswered is the cause of those that were being let in when a load was stopped.
const unanswered = "no answer yet when it was stopped"

// waiting is how many of some sessions are being connected.
func (f *Fleet) waiting(some []*session) (n int) {
	for _, s := range some {
		if !s.in.Load() && s.busy.Load() {
			n++
		}
	}
	return n
}

// begin begins to measure a step.
func (f *Fleet) begin(want int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	late, _ := f.counted() // what is left of before
	f.stepGauges = newGauges()
	f.measured()
	if n := len(f.result.Steps); n > 0 {
		last := &f.result.Steps[n-1]
		last.join(StepResult{Counts: late, Trip: spreadOf(f.stepGauges.trip), Ack: spreadOf(f.stepGauges.ack)})
		last.Lost = max(0, last.Expected-last.Received)
		last.Away = min(last.Away, last.Lost)
		if late.Received > 0 && !last.Cut { // what was missed came after all
			last.Limits, last.Broken = f.causes(last), f.plan.Bound.Broken(last)
		}
	}
	f.climbed.sum, f.climbed.n = 0, 0
	f.sentAt, f.cameAt, f.unheard = time.Time{}, time.Time{}, 0
	f.stepGauges = newGauges()
	f.stepped = StepResult{At: time.Now(), Clients: want, Refusals: map[string]int{}}
	f.stepped.Expected = -f.owed()
	if f.plan.Facts != nil {
		f.dropped = f.plan.Facts()["dropped"]
	}
}

// climb is where a ramp stands: of this shard's clients, and the whole fleet's, and its rate.
type climb struct {
	clients, whole int
	rate           float64
}

// climb brings a steady ramp to a share of its way, from 0 to 1, and returns what is asked of it so far, on the mean.
func (f *Fleet) climb(from, to climb, all []*session, share float64) (asked float64) {
	share = min(1, share)
	n := from.clients + int(float64(to.clients-from.clients)*share)
	for _, s := range all[:n] {
		if !s.wanted.Swap(true) {
			s.tries.Store(0)
			s.drops.Store(0)
			f.todo <- s
			f.turn.Add(1)
		}
	}
	step := Step{Clients: to.whole, Rate: to.rate}
	if to.rate > 0 {
		step.Rate = max(1, from.rate+(to.rate-from.rate)*share)
	}
	asked = f.ask(step)
	f.gap.Store(f.gapOf(asked))
	f.mu.Lock()
	defer f.mu.Unlock()
	f.climbed.sum += asked
	f.climbed.n++
	f.stepped.Asked = f.climbed.sum / f.climbed.n
	return asked
}

// ask is how many messages a second a step asks for, of this shard.
func (f *Fleet) ask(step Step) float64 {
	if f.plan.Shape == Idle {
		return 0
	}
	if clients := min(
		step.Clients,
		f.plan.Total(),
	); step.Rate > 0 && f.plan.Shard.Of > 1 && f.plan.Shape != FanOut &&
		clients > 0 {
		return step.Rate * float64(f.wanted(clients)) / float64(clients) // each client at the same pace, in each part
	}
	if step.Rate > 0 {
		return f.plan.Shard.share(step.Rate)
	}
	if f.plan.Every > 0 {
		return float64(f.active.Load()) / f.plan.Every.Seconds()
	}
	return 0
}

// gapOf is the time between two messages of a client at a rate of the whole shard.
func (f *Fleet) gapOf(asked float64) int64 {
	n := f.active.Load()
	if asked <= 0 || n == 0 {
		return 0
	}
	return max(1, int64(float64(n)/asked*float64(time.Second)))
}

func (f *Fleet) what(asked float64) string {
	return fmt.Sprintf("%d clients, %.0f messages a second asked for", f.stepped.Clients, asked)
}

// silent tells that all have sent as many messages as they were to.
func (f *Fleet) silent() bool {
	if f.plan.Each == 0 {
		return false
	}
	sent := 0
	for _, s := range f.all {
		if s != nil && s.topic != "" && s.wanted.Load() {
			if s.in.Load() && s.seq.Load() < uint64(f.plan.Each) {
				return false
			}
			sent++
		}
	}
	return sent > 0
}

// settle waits for what is under way: until all has come, or nothing comes any more; of a load that is stopped, for a
// moment.
func (f *Fleet) settle(ctx context.Context) {
	const moment = time.Second
	f.say("what is under way is awaited", 0)
	owed := int64(0)
	var stopped time.Time
	last, quiet := int64(-1), time.Now()
	for end := time.Now().Add(settleMost); time.Now().Before(end); {
		f.tick(context.WithoutCancel(ctx))
		if ctx.Err() != nil && stopped.IsZero() {
			stopped = time.Now()
		}
		before := owed
		owed = f.owed() // twice the same: the last was still being sent
		f.mu.Lock()
		got, acked, trip := f.stepped.Received, f.stepped.Acked, f.stepped.Trip.Max
		all := owed == before && owed+f.stepped.Expected <= got && (f.plan.QoS == 0 || acked >= f.stepped.Sent)
		f.mu.Unlock()
		if got+acked != last {
			last, quiet = got+acked, time.Now()
		}
		if all || !stopped.IsZero() && time.Since(stopped) > moment ||
			time.Since(quiet) > max(settleLeast, tripFactor*trip) {
			break
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.measured()
	s, g := &f.stepped, f.stepGauges
	s.Trip, s.Ack, s.Connect, s.Lag = spreadOf(g.trip), spreadOf(g.ack), spreadOf(g.connect), spreadOf(g.lag)
	s.Expected += owed
	s.Lost = max(0, s.Expected-s.Received)
	s.Away = min(s.Lost, f.lostAway())
}

// tick lets a moment pass, and takes down what was measured in it.
func (f *Fleet) tick(ctx context.Context) {
	sleep(ctx, tickEvery)
	now := time.Now()
	f.mu.Lock()
	defer f.mu.Unlock()
	some, refusals := f.counted()
	f.stepped.Counts = f.stepped.Counts.plus(some)
	if some.Sent > 0 {
		f.sentAt, f.unheard = now, f.unheard+some.Sent
	}
	if some.Received+some.Acked > 0 {
		f.cameAt, f.unheard = now, 0
	}
	f.stepped.refused(refusals)
	f.stepped.In = f.connected()
	x := &f.second
	if x.At.IsZero() {
		x.At = now.Add(-tickEvery)
	}
	x.Sent += some.Sent
	x.Heard += some.Received
	if now.Sub(x.At) < time.Second {
		return
	}
	x.Spread = now.Sub(x.At)
	x.Step, x.In = f.step, f.stepped.In
	if gap := f.gap.Load(); gap > 0 {
		x.Asked = float64(f.active.Load()) * float64(time.Second) / float64(gap)
	}
	trip := spreadOf(f.measured().trip)
	f.stepped.Trip = spreadOf(f.stepGauges.trip)
	x.P50, x.P99, x.Max = trip.P50, trip.P99, trip.Max
	x.Missing = max(0, f.owed()+f.stepped.Expected-f.stepped.Received)
	f.secondsEnd(x)
	f.result.Seconds = append(f.result.Seconds, *x)
	if len(f.result.Seconds) > secondsKept {
		f.result.Seconds = joined(f.result.Seconds)
	}
	f.minute(now, *x, trip)
	f.second = Second{}
}

// joined joins seconds by twos.
func joined(all []Second) (out []Second) {
	for i := 0; i+1 < len(all); i += 2 {
		a, b := all[i], all[i+1]
		a.Spread += b.Spread
		a.Sent, a.Heard, a.Missing = a.Sent+b.Sent, a.Heard+b.Heard, b.Missing
		a.In, a.Asked = b.In, (a.Asked+b.Asked)/2
		a.P50, a.P99, a.Max = max(a.P50, b.P50), max(a.P99, b.P99), max(a.Max, b.Max)
		a.CPU, a.BrokerCPU, a.Memory = (a.CPU+b.CPU)/2, (a.BrokerCPU+b.BrokerCPU)/2, b.Memory
		out = append(out, a)
	}
	if len(all)%2 == 1 {
		out = append(out, all[len(all)-1])
	}
	return out
}

// minute keeps the record of a soak.
func (f *Fleet) minute(now time.Time, x Second, trip Spread) {
	all := f.result.Minutes
	if len(all) == 0 || now.Sub(all[len(all)-1].At) >= time.Minute {
		f.result.Minutes = append(all, Minute{At: now})
	}
	m := &f.result.Minutes[len(f.result.Minutes)-1]
	m.In, m.Sent, m.Heard = x.In, m.Sent+x.Sent, m.Heard+x.Heard
	m.Trip = m.Trip.add(trip)
	m.Strain = Strain{CPU: x.CPU, Memory: x.Memory}
	m.Broker.CPU = x.BrokerCPU
}

// leave disconnects all.
func (f *Fleet) leave() {
	list := make(chan *session)
	done := make(chan struct{})
	const side = 64
	for range side {
		go func() {
			for s := range list {
				if f.plan.Retain && s.topic != "" { // nothing of the fleet stays stored
					s.client.Start(packet.Publish{Topic: s.topic, Retain: true})
				}
				s.client.Disconnect(0)
			}
			done <- struct{}{}
		}()
	}
	for _, s := range f.all {
		if s != nil {
			s.wanted.Store(false)
			if s.in.Load() {
				list <- s
			}
		}
	}
	close(list)
	for range side {
		<-done
	}
}
