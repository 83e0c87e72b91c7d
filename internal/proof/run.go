package proof

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

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Target is the listener that is put to the proof.
type Target struct {
	Broker   string
	Listener string
	URL      string // of the listener; "" within memory
	// StandIn marks a broker of our own, on which intrusive checks always run.
	StandIn bool
	Dial    func(context.Context) (*link.Link, error)
	// Login is what the checks' clients get in with; nil for none.
	Login *workspace.Login
	// Anonymous tells whether clients without credentials are meant to get in; nil
	// where nobody said.
	Anonymous *bool
	// Way is how the listener is reached below MQTT; nil within memory. Doors are the other ways into the broker.
	Way   *Way
	Doors []Door
	// Limited is another login that may not do everything; nil where none is known.
	Limited *Limited
	// Intrusive allows intrusive checks on a real broker.
	Intrusive bool
	// ClientID is the pattern of the checks' client identifiers, {n} for a number, where the broker has a
	// rule; "" for identifiers that every broker must take.
	ClientID string
	// Agreement is what the contract says about the broker; nil where there is none.
	Agreement *Agreement
	// Restart restarts the broker, in order, or, where it is to be killed, at once, and returns when it is back; nil
	// where nobody can.
	Restart func(ctx context.Context, killed bool) error
}

// Limited is a login with rights.
type Limited struct {
	Login *workspace.Login
	// Publish and Subscribe are the topic filters that it may publish and subscribe to; nil for everything.
	Publish, Subscribe []string
}

// Options say what to run.
type Options struct {
	// Checks to run.
	Checks []*Check
	// Versions to run them in; 3.1, 3.1.1 and 5 where it is nil.
	Versions []packet.Version
	// Parallel is how many run side by side; [DefaultParallel] where it is 0.
	Parallel int
	// OnTopics allows checks to publish on the contract's own topics: whoever listens there hears it.
	OnTopics bool
	// Restarts allows the broker to be restarted, which throws everybody out.
	Restarts bool
	// Run marks topics and client ids of this proof: letters and digits, six at most. A
	// random one where it is empty.
	Run string
	// Log gets the packets of all checks too, beside the evidence; may be nil.
	Log *trace.Log
	// Doing is told what goes on before the first check: a server that does not answer takes its time.
	// "" ends that. May be nil.
	Doing func(what string)
	// Started and Done are called as checks start and end, from several goroutines.
	Started func(c *Check, v packet.Version)
	Done    func(Result)
}

// DefaultParallel is how many checks run side by side: enough to hide the waiting,
// few enough not to disturb one another on a small broker.
const DefaultParallel = 32

// Versions are those that are proven where nobody says which.
func Versions() []packet.Version { return []packet.Version{packet.V31, packet.V311, packet.V5} }

// RunID makes a mark for a run.
func RunID() string {
	const letters = "abcdefghijklmnopqrstuvwxyz0123456789"
	b := make([]byte, 6)
	for i := range b {
		b[i] = letters[rand.IntN(len(letters))]
	}
	return string(b)
}

// runner carries one proof out.
type runner struct {
	target Target
	o      Options
	run    string
	offer  Offer
	gov    *governor
	number atomic.Int64 // of client identifiers
	first  int64        // where they begin, for brokers with a rule
	open   atomic.Int64 // clients that are connected
	most   atomic.Int64 // of them at a time, so far
	// way is the longest that a message took through the broker before the first check, 0 where none came; see
	// [Pass.Quiet].
	way time.Duration

	mu      sync.Mutex
	results []Result
	done    map[string]chan struct{} // by NAME/VERSION: closed when the verdict is there
	verdict map[string]Verdict
	late    []*lingering
	shared  map[string]*shared // by NAME/VERSION
}

// lingering is a check that is kept so far, and whose watchers stay on until the run ends.
type lingering struct {
	p  *Pass
	at int
}

// came counts a client that was let in.
func (r *runner) came() {
	for n := r.open.Add(1); ; {
		most := r.most.Load()
		if n <= most || r.most.CompareAndSwap(most, n) {
			return
		}
	}
}

// clientID makes up a client identifier: letters and digits only, at most 23, what every server must take
// (3.1.1 §3.1.3.1), unless the broker has a rule.
func (r *runner) clientID() string {
	n := r.number.Add(1)
	if r.target.ClientID != "" {
		n += r.first
	}
	return r.target.MakeID(r.run, int(n))
}

// Run carries out the checks. It returns [ErrNotReached] when the listener cannot be reached, or its
// certificate is not to be trusted and no check of TLS is asked for, and a
// [*NotLetInError] when our own login is not let in; after that every check gets a verdict. When the context
// ends, what is left is undecided.
func Run(ctx context.Context, t Target, o Options) (*Proof, error) {
	if o.Versions == nil {
		o.Versions = Versions()
	}
	if o.Parallel == 0 {
		o.Parallel = DefaultParallel
	}
	if o.Run == "" {
		o.Run = RunID()
	}
	switch l, err := t.Dial(ctx); {
	case err == nil:
		l.Close()
	case t.Way != nil && untrusted(err) && slices.ContainsFunc(o.Checks, func(c *Check) bool { return c.Family() == "tls" }):
	case ctx.Err() == nil: // else it was stopped: every check says so
		return nil, fmt.Errorf("%w: %w", ErrNotReached, err)
	}
	n := len(o.Checks) * len(o.Versions)
	r := &runner{
		target:  t,
		o:       o,
		run:     o.Run,
		gov:     newGovernor(),
		first:   100_000 + rand.Int64N(800_000),
		results: make([]Result, n),
		done:    map[string]chan struct{}{},
		verdict: map[string]Verdict{},
	}
	p := &Proof{Target: t, Run: o.Run, Started: time.Now()}
	var err error
	r.offer, err = r.look(ctx, o.Versions)
	r.doing("")
	if err != nil {
		return nil, err
	}
	for _, c := range o.Checks {
		for _, v := range o.Versions {
			r.done[key(c.Name, v)] = make(chan struct{})
		}
	}
	before := r.tells(ctx)
	slots := make(chan struct{}, o.Parallel)
	var wg sync.WaitGroup
	for _, i := range inOrder(o.Checks) {
		c := o.Checks[i]
		for j, v := range o.Versions {
			if c.Alone {
				continue
			}
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				r.one(ctx, c, v, i*len(o.Versions)+j)
			})
		}
	}
	wg.Wait()
	r.endLate(ctx)
	for i, c := range o.Checks {
		for j, v := range o.Versions {
			if c.Alone {
				r.one(ctx, c, v, i*len(o.Versions)+j)
			}
		}
	}
	r.endLate(ctx)
	p.Facts = factsOf(before, r.tells(ctx))
	p.Results, p.Offer, p.Took = r.results, r.offer, time.Since(p.Started)
	p.Offer.Connections = r.gov.capped()
	return p, nil
}

// Look finds out what a broker offers, and runs no check. The error is as that of [Run].
func Look(ctx context.Context, t Target, versions []packet.Version) (Offer, error) {
	l, err := t.Dial(ctx)
	if err != nil {
		return Offer{}, fmt.Errorf("%w: %w", ErrNotReached, err)
	}
	l.Close()
	r := &runner{
		target: t,
		o:      Options{Versions: versions},
		run:    RunID(),
		gov:    newGovernor(),
		first:  100_000 + rand.Int64N(800_000),
	}
	return r.look(ctx, versions)
}

// MakeID makes up a client identifier of a run: letters and digits only, at most 23, what every server must take (3.1.1
// §3.1.3.1), unless the broker has a rule.
func (t *Target) MakeID(run string, number int) string {
	if t.ClientID != "" {
		return strings.ReplaceAll(t.ClientID, "{n}", fmt.Sprint(number))
	}
	return fmt.Sprintf("hod%sn%d", run, number)
}

func (r *runner) doing(what string) {
	if r.o.Doing != nil {
		r.o.Doing(what)
	}
}

// inOrder returns the checks' places, so that what others require comes before them: they are waited for.
func inOrder(checks []*Check) (out []int) {
	placed := map[string]bool{}
	asked := map[string]bool{}
	for _, c := range checks {
		asked[c.Name] = true
	}
	for len(out) < len(checks) {
		before := len(out)
		for i, c := range checks {
			ready := !placed[c.Name]
			for _, name := range c.Requires {
				ready = ready && (placed[name] || !asked[name])
			}
			if ready {
				placed[c.Name] = true
				out = append(out, i)
			}
		}
		if len(out) == before {
			panic("proof: checks require one another in a circle")
		}
	}
	return out
}

func key(name string, v packet.Version) string { return name + "/" + v.String() }

// tries is how often a check is begun again because the broker took no more clients.
const tries = 4

// one carries out one check in one version.
func (r *runner) one(ctx context.Context, c *Check, v packet.Version, at int) {
	if err := r.ruledOut(ctx, c, v); err != nil {
		p := r.pass(ctx, c, v)
		r.keep(p.end(err), at)
		return
	}
	if r.o.Started != nil {
		r.o.Started(c, v)
	}
	least := max(1, c.Needs.Least)
	for try := 1; ; try++ {
		n, under, ok := r.gov.take(ctx, least, c.Needs.Wants, max(least, c.Needs.Wants, c.Needs.Most))
		p := r.pass(ctx, c, v)
		p.room = n
		if !ok {
			r.keep(
				p.end(Unsupport("it needs %d clients at a time; the broker takes %d from us", least, r.gov.capped())),
				at,
			)
			return
		}
		var err error
		if ctx.Err() != nil {
			err = Undecide("stopped before it began")
		} else {
			err = c.Run(p)
		}
		if p.full && ctx.Err() == nil && try < tries {
			r.gov.refused(p.there, int(r.most.Load()), under, p.plain)
			r.endLate(ctx) // their watchers take places
			p.cleanUp()
			r.gov.give(n, false)
			continue
		}
		if p.full && VerdictOf(err) == Broken { // not for want of trying: but a full broker says nothing about itself
			err = Undecide("the broker takes no client more, tried %d times: %v", try, err)
		}
		if err == nil && len(p.watched) > 0 && r.gov.capped() == 0 && ctx.Err() == nil {
			r.gov.give(n, true)
			r.mu.Lock()
			r.late = append(r.late, &lingering{p, at})
			r.verdict[key(c.Name, v)] = Kept
			close(r.done[key(c.Name, v)])
			r.mu.Unlock()
			if r.gov.capped() > 0 { // met meanwhile
				r.endLate(ctx)
			}
			return
		}
		p.cleanUp()
		r.gov.give(n, !p.full)
		r.keep(p.end(err), at)
		return
	}
}

// endLate looks once more at those whose watchers stayed on, and ends them.
func (r *runner) endLate(ctx context.Context) {
	r.mu.Lock()
	late := r.late
	r.late = nil
	r.mu.Unlock()
	for _, l := range late {
		err := l.p.look()
		l.p.cleanUp()
		r.keep(l.p.end(err), l.at)
	}
}

func (r *runner) keep(result Result, at int) {
	r.mu.Lock()
	r.results[at] = result
	k := key(result.Check.Name, result.Version)
	r.verdict[k] = result.Verdict
	select {
	case <-r.done[k]:
	default:
		close(r.done[k])
	}
	r.mu.Unlock()
	if r.o.Done != nil {
		r.o.Done(result)
	}
}

// ruledOut tells why a check is not carried out, or nil. It waits for those that it requires.
func (r *runner) ruledOut(ctx context.Context, c *Check, v packet.Version) error {
	need := c.Needs
	switch why, refused := r.offer.Refused[v]; {
	case c.Section(v) == "":
		return Skip("not meant for version %s", v)
	case c.Once && v != r.o.Versions[0]:
		return Skip("the same in every version of MQTT: see %s", r.o.Versions[0])
	case c.Intrusive && !r.target.StandIn && !r.target.Intrusive:
		return Skip("it fails logins or throws clients out; --intrusive, or intrusive: allowed on the broker, runs it")
	case ctx.Err() != nil:
		return Undecide("stopped before it began")
	case refused:
		return Unsupport("the broker does not take version %s: %s", v, why)
	case r.offer.Shut[v] != "" && !(c.Family() == "tls" && r.target.Way != nil):
		return Undecide("our own login is not let in: %s", r.offer.Shut[v])
	case need.QoS > r.offer.QoS:
		return Unsupport("the broker does QoS %d at most", r.offer.QoS)
	case need.Retained && r.offer.NoRetained != "":
		return Unsupport("no retained messages: %s", r.offer.NoRetained)
	case need.Sessions && r.offer.NoSessions != "":
		return Unsupport("no kept sessions: %s", r.offer.NoSessions)
	}
	for _, name := range c.Requires {
		done := r.done[key(name, v)]
		if done == nil {
			continue // not asked for
		}
		select {
		case <-done:
		case <-ctx.Done():
			return Undecide("stopped before it began")
		}
		r.mu.Lock()
		verdict := r.verdict[key(name, v)]
		r.mu.Unlock()
		if verdict == Broken || verdict == Undecided {
			return Undecide("it tells nothing while %s is %s", name, verdict)
		}
	}
	return nil
}

func (r *runner) pass(ctx context.Context, c *Check, v packet.Version) *Pass {
	p := &Pass{Check: c, Version: v, ctx: ctx, r: r, log: trace.NewLog(evidenceLimit), start: time.Now()}
	p.result = Result{Check: c, Version: v, Expected: c.Expected, At: p.start}
	return p
}

// end turns what a check returned into its result.
func (p *Pass) end(err error) Result {
	if p.ctx.Err() != nil && p.room > 0 {
		err = Undecide("stopped: %v", context.Cause(p.ctx))
	}
	r := p.result
	r.Took = time.Since(p.start)
	r.Verdict = Kept
	var o *outcome
	switch {
	case errors.As(err, &o):
		r.Verdict, r.Seen = o.verdict, o.text
	case err != nil:
		r.Verdict, r.Seen = Undecided, err.Error()
	case r.Seen == "":
		r.Seen = "just that"
	}
	r.Evidence, _ = p.log.Read(1, evidenceLimit)
	r.Clients = p.names
	r.Decisive = slices.Compact(slices.Sorted(slices.Values(p.decisive)))
	return r
}
