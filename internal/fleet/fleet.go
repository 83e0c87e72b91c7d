package fleet

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
	"golang.org/x/time/rate"
)

// Fleet is a load under way. Its methods are safe for concurrent use.
type Fleet struct {
	plan   Plan
	began  time.Time
	all    []*session // the plan's clients that are of this shard, nil for the others; then the others of fan-in and fan-out
	lanes  []*lane
	topics map[string]*session
	single bool // each receiver hears one publisher
	todo   chan *session
	pace   *rate.Limiter // of connecting; nil for none
	gap    atomic.Int64  // between two messages of a client, in nanoseconds; 0 while none are sent
	active atomic.Int64  // publishers that are connected
	closed atomic.Bool
	// climbing tells that the rate is shared out anew all the time.
	climbing atomic.Bool
	ends     atomic.Int64  // links that ended in the step, and were wanted
	turn     atomic.Int64  // changes as others are wanted
	over     chan struct{} // closed when nobody connects any more
	wg       sync.WaitGroup

	reached climb // of the ramp; of the goroutine that runs

	mu         sync.Mutex // guards what follows
	climbed    struct{ sum, n float64 }
	result     Result
	dropped    string // by the broker, as it told before the step
	doing      string
	left       time.Duration // about, of the whole load
	step       int
	second     Second
	held       bool
	sentAt     time.Time // when something was sent last in the step, and when something came
	cameAt     time.Time
	unheard    int64      // messages sent since then
	stepped    StepResult // under way
	before     reading    // at its beginning
	stepGauges *gauges    // of the step under way
}

// New makes a fleet of a plan; nothing happens yet.
func New(p Plan) (*Fleet, error) {
	if p.Shape == "" {
		p.Shape = Echo
	}
	p.Others = max(1, p.Others)
	if err := p.check(); err != nil {
		return nil, err
	}
	const usual = 64
	if p.Size == 0 {
		p.Size = usual
	}
	f := &Fleet{
		plan:       p,
		over:       make(chan struct{}),
		stepGauges: newGauges(),
		topics:     map[string]*session{},
		single:     p.Shape == Echo || p.Shape == Pairs,
	}
	for range 4 * runtime.GOMAXPROCS(0) {
		f.lanes = append(f.lanes, newLane())
	}
	kinds, numbers := p.Order()
	f.all = make([]*session, len(kinds))
	for i := range kinds {
		if p.Shard.Has(i+1, p.Shape) {
			if err := f.add(i, &p.Kinds[kinds[i]], int(numbers[i])); err != nil {
				return nil, err
			}
		}
	}
	if p.Shape == FanIn || p.Shape == FanOut {
		for i := range p.Others { // each shard has its own
			f.all = append(f.all, nil)
			if err := f.add(len(f.all)-1, &p.Kinds[0], p.Total()+max(0, p.Shard.Index-1)*p.Others+i+1); err != nil {
				return nil, err
			}
		}
	}
	f.todo = make(chan *session, len(f.all))
	if p.Connects > 0 {
		f.pace = rate.NewLimiter(rate.Limit(p.Shard.share(p.Connects)), max(1, int(p.Shard.share(p.Connects)/20)))
	}
	return f, nil
}

func (f *Fleet) add(i int, kind *Kind, number int) error {
	s := &session{f: f, n: i + 1, kind: kind, number: number, lane: f.lanes[i%len(f.lanes)], left: -1}
	if f.plan.Each > 0 {
		s.left = int64(f.plan.Each)
	}
	if f.publishes(s) {
		s.topic = kind.Topic(number)
		if f.topics[s.topic] != nil {
			return fmt.Errorf(
				"%s clients have no topics of their own: more than one would publish to %s",
				kind.Name,
				s.topic,
			)
		}
		f.topics[s.topic] = s
		if kind.Compose != nil {
			s.ring = &ring{}
		}
	}
	f.all[i] = s
	return nil
}

// other tells whether a session is one of the others of fan-in and fan-out.
func (f *Fleet) other(s *session) bool { return s.n > f.plan.Total() }

func (f *Fleet) publishes(s *session) bool {
	switch f.plan.Shape {
	case Idle:
		return false
	case Pairs:
		return s.n%2 == 1
	case FanIn:
		return !f.other(s)
	case FanOut:
		return f.other(s)
	}
	return true
}

func (f *Fleet) hears(s *session) bool {
	switch f.plan.Shape {
	case Echo:
		return true
	case Pairs:
		return s.n%2 == 0
	case FanIn:
		return f.other(s)
	case FanOut:
		return !f.other(s)
	}
	return false
}

// publishersOf visits those that a session hears.
func (f *Fleet) publishersOf(s *session, visit func(*session)) {
	switch f.plan.Shape {
	case Echo:
		visit(s)
	case Pairs:
		if p := f.all[s.n-2]; p != nil {
			visit(p)
		}
	case FanIn, FanOut:
		for _, p := range f.all {
			if p != nil && p.topic != "" {
				visit(p)
			}
		}
	}
}

// hearsOf tells whether a session hears the publisher of a number.
func (f *Fleet) hearsOf(s *session, from int) (is bool) {
	f.publishersOf(s, func(p *session) { is = is || p.n == from })
	return is
}

// filtersOf are what a session subscribes to.
func (f *Fleet) filtersOf(s *session) (out []string) {
	if f.plan.Shape == FanIn {
		for i := range f.plan.Kinds {
			if x := f.plan.Kinds[i].Filter; x != "" && !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
		return out
	}
	f.publishersOf(s, func(p *session) { out = append(out, p.topic) })
	return out
}

func (f *Fleet) byTopic(topic string) *session { return f.topics[topic] }

func (f *Fleet) since() time.Duration { return time.Since(f.began) }

// worker sends what is due of its sessions, until the load ends.
type worker struct {
	f    *Fleet
	mine []*session
	rand *rand.Rand
	heap []*session // by next
}

// run sends.
func (w *worker) run(ctx context.Context) {
	const idle = 20 * time.Millisecond
	gap, turn := int64(-1), int64(-1)
	for ctx.Err() == nil {
		if now, who := w.f.gap.Load(), w.f.turn.Load(); now != gap || who != turn { // spread over the gap
			gap, turn = now, who
			w.begin(gap)
		}
		if gap <= 0 || len(w.heap) == 0 {
			sleep(ctx, idle)
			continue
		}
		s := w.heap[0]
		now := int64(w.f.since())
		if wait := s.next - now; wait > 0 {
			if len(w.heap)*int(time.Second)/int(gap) >= denseRate { // what is due soon goes with it, in fewer pieces
				wait = max(wait, int64(denseTick))
			}
			sleep(ctx, min(time.Duration(wait), idle))
			if s.next > int64(w.f.since()) || w.f.gap.Load() != gap {
				continue
			}
			// The generator slept until now: what is late is its own doing. What is late behind a message that the broker
			// did not take is not.
			late := w.f.since() - time.Duration(s.next)
			s.lane.mu.Lock()
			record(s.lane.gauges.lag, late)
			s.lane.mu.Unlock()
		}
		if s.left == 0 {
			w.drop()
			continue
		}
		now = int64(w.f.since())
		if in := s.in.Load(); in && s.next+gap <= now && s.left != 1 { // more than one is due: they go out in one piece
			s.client.Gather(func() { w.due(s, gap, now, in) })
		} else {
			w.due(s, gap, now, in)
		}
		w.down(0)
	}
}

// From so many messages a second on a worker looks every so often: timers wake it no more exactly anyhow, and messages of a
// session that are due together go out in one write.
const (
	denseRate = 5000
	denseTick = time.Millisecond
)

// mostDue is how many messages of a session go out in one piece at most.
const mostDue = 64

// due sends what is due of a session.
func (w *worker) due(s *session, gap, now int64, in bool) {
	for n := 0; n < mostDue && s.left != 0 && s.next <= now; n++ {
		if in {
			s.send(time.Duration(s.next))
			if s.left > 0 {
				s.left--
			}
		} else if s.left < 0 && !w.f.climbing.Load() && s.lostLink() { // while a ramp climbs, others take it over
			s.lane.mu.Lock()
			s.lane.counts.Unsent++
			s.lane.mu.Unlock()
		}
		s.next += w.jittered(gap)
	}
}

func sleep(ctx context.Context, d time.Duration) {
	const short = 5 * time.Millisecond
	if d < short {
		time.Sleep(d)
		return
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// jittered is the gap to the next message.
func (w *worker) jittered(gap int64) int64 {
	if j := w.f.plan.Jitter; j > 0 {
		return int64(float64(gap) * (1 + j*(2*w.rand.Float64()-1)))
	}
	return gap
}

// begin spreads the sessions over a gap from now on.
func (w *worker) begin(gap int64) {
	w.heap = w.heap[:0]
	now := int64(w.f.since())
	for _, s := range w.mine {
		goes := gap > 0 && s.wanted.Load() && s.topic != "" && s.left != 0
		if goes {
			if !s.queued || s.next > now+gap { // who has its turn already keeps it
				s.next = now + w.rand.Int64N(gap)
			}
			w.heap = append(w.heap, s)
		}
		s.queued = goes
	}
	for i := len(w.heap)/2 - 1; i >= 0; i-- {
		w.down(i)
	}
}

// drop takes the first off.
func (w *worker) drop() {
	last := len(w.heap) - 1
	w.heap[0].queued = false
	w.heap[0] = w.heap[last]
	w.heap = w.heap[:last]
	w.down(0)
}

// down lets one sink to its place.
func (w *worker) down(i int) {
	h := w.heap
	for {
		least := i
		for _, c := range []int{2*i + 1, 2*i + 2} {
			if c < len(h) && h[c].next < h[least].next {
				least = c
			}
		}
		if least == i {
			return
		}
		h[i], h[least] = h[least], h[i]
		i = least
	}
}

// gauges are what was measured of a stretch of time.
type gauges struct{ trip, ack, connect, lag *hdrhistogram.Histogram }

func newGauges() *gauges {
	return &gauges{newHistogram(), newHistogram(), newHistogram(), newHistogram()}
}

// merge adds what others measured, and empties them where told to.
func (g *gauges) merge(o *gauges, empty bool) {
	for i, h := range g.all() {
		x := o.all()[i]
		if x.TotalCount() == 0 {
			continue
		}
		if h.Merge(x); empty {
			x.Reset()
		}
	}
}

func (g *gauges) all() [4]*hdrhistogram.Histogram {
	return [4]*hdrhistogram.Histogram{g.trip, g.ack, g.connect, g.lag}
}

// counted takes off the lanes what they have counted since they were asked last.
func (f *Fleet) counted() (c Counts, refusals map[string]int) {
	for _, l := range f.lanes {
		l.mu.Lock()
		c = c.plus(l.counts)
		l.counts = Counts{}
		for why, n := range l.refusals {
			if refusals == nil {
				refusals = map[string]int{}
			}
			refusals[why] += n
		}
		clear(l.refusals)
		l.mu.Unlock()
	}
	return c, refusals
}

// measured takes off the lanes what they have measured since they were asked last, and adds it to the step.
func (f *Fleet) measured() (last *gauges) {
	last = newGauges()
	for _, l := range f.lanes {
		l.mu.Lock()
		last.merge(&l.gauges, true)
		l.mu.Unlock()
	}
	f.stepGauges.merge(last, false)
	return last
}

// join adds what was measured later to a step.
func (s *StepResult) join(o StepResult) {
	s.Counts = s.Counts.plus(o.Counts)
	s.Trip, s.Ack, s.Connect, s.Lag = s.Trip.add(o.Trip), s.Ack.add(o.Ack), s.Connect.add(o.Connect), s.Lag.add(o.Lag)
	s.refused(o.Refusals)
}

// refused adds refusals.
func (s *StepResult) refused(more map[string]int) {
	if s.Refusals == nil {
		s.Refusals = map[string]int{}
	}
	for why, n := range more {
		s.Refusals[why] += n
	}
}

// owed is what the receivers have to have got by now, in all.
func (f *Fleet) owed() (n int64) {
	for _, s := range f.all {
		if s == nil || !f.hears(s) {
			continue
		}
		f.publishersOf(s, func(p *session) {
			seq := p.seq.Load()
			s.mu.Lock()
			if t := s.trackerOf(p.n); s.wanted.Load() && seq > t.base && (t.base > 0 || t.top > 0 || s.in.Load()) {
				n += int64(seq - t.base)
			}
			s.mu.Unlock()
		})
	}
	return n
}

// missing is what a session has to have got, and has not, in all.
func (f *Fleet) missing(s *session) (n int64) {
	if !f.hears(s) || !s.wanted.Load() {
		return 0
	}
	f.publishersOf(s, func(p *session) {
		seq := p.seq.Load()
		s.mu.Lock()
		defer s.mu.Unlock()
		if t := s.trackerOf(p.n); seq > t.base && (t.base > 0 || t.top > 0) {
			n += max(0, int64(seq-t.base)-int64(t.got))
		}
	})
	return n
}

// stepBegins notes what each session misses already.
func (f *Fleet) stepBegins() {
	f.ends.Store(0)
	for _, s := range f.all {
		if s != nil {
			s.gone.Store(s.lostLink())
			s.missed = f.missing(s)
		}
	}
}

// out counts the plan's clients that were in, are wanted, and are not in.
func (f *Fleet) out() (n int) {
	for _, s := range f.all {
		if s != nil && !f.other(s) && s.lostLink() {
			n++
		}
	}
	return n
}

// lostAway is what those miss whose links ended in the step.
func (f *Fleet) lostAway() (n int64) {
	for _, s := range f.all {
		if s != nil && s.gone.Load() {
			n += max(0, f.missing(s)-s.missed)
		}
	}
	return n
}

// connected counts who is in, of the plan's clients.
func (f *Fleet) connected() (n int) {
	for _, s := range f.all {
		if s != nil && s.in.Load() && !f.other(s) {
			n++
		}
	}
	return n
}

// State is how a load stands.
type State struct {
	Running bool
	Held    bool
	Doing   string
	Left    time.Duration // about
	Step    int
	Result  Result     // so far
	Under   StepResult // the step under way
}

// State returns how the load stands. What it returns is not changed afterwards.
func (f *Fleet) State() State {
	f.mu.Lock()
	defer f.mu.Unlock()
	r := f.result
	r.Steps, r.Seconds, r.Minutes = slices.Clone(r.Steps), slices.Clone(r.Seconds), slices.Clone(r.Minutes)
	under := f.stepped
	under.Refusals = maps.Clone(under.Refusals)
	return State{
		Running: !f.closed.Load(),
		Held:    f.held,
		Doing:   f.doing,
		Left:    f.left,
		Step:    f.step,
		Result:  r,
		Under:   under,
	}
}

// Hold lets the load go on as it is, beyond its step, or go on with the ramp.
func (f *Fleet) Hold(is bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.held = is
}
