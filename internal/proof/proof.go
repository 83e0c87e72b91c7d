// Package proof verifies what a broker guarantees: checks drive clients of their own
// against one listener, ask the trace what happened, and end in a verdict with its
// evidence.
package proof

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Verdict is how a check ended.
type Verdict string

// The verdicts.
const (
	Kept        Verdict = "kept"        // seen as the standard demands
	Broken      Verdict = "broken"      // seen otherwise
	Unsupported Verdict = "unsupported" // the broker says that it does not offer this
	Undecided   Verdict = "undecided"   // the check could not be carried out
	Skipped     Verdict = "skipped"     // not asked for, or not meant for this version
)

// Verdicts lists them in the order in which they are counted.
var Verdicts = []Verdict{Kept, Broken, Unsupported, Undecided, Skipped}

// Check is one named thing to verify on a broker.
type Check struct {
	// Name is family.what, such as "will.on-cut".
	Name string
	// Title says in a few words what is verified.
	Title string
	// Expected says in a sentence what must be seen.
	Expected string
	// Sections are the places in the standards for 3.1.1 and 5.0; "" where a check is not
	// meant for the version.
	Section311, Section5 string
	// Intrusive checks fail logins or throw clients out on purpose.
	Intrusive bool
	// Run carries the check out. nil is kept; see [Pass] for the other verdicts.
	Run func(*Pass) error
}

// families names the family of checks whose names begin otherwise.
var families = map[string]string{"keepalive": "connect", "auth": "connect", "qos1": "qos", "qos2": "qos"}

// Family is the group of the catalogue that the check belongs to.
func (c *Check) Family() string {
	family, _, _ := strings.Cut(c.Name, ".")
	if f, ok := families[family]; ok {
		return f
	}
	return family
}

// Section is the place in the standard for the version, "" for none.
func (c *Check) Section(v packet.Version) string {
	if v == packet.V5 {
		return c.Section5
	}
	return c.Section311
}

// Checks is the catalogue in its order.
func Checks() []*Check {
	return slices.Concat(connectChecks, loginChecks, qosChecks, retainChecks, willChecks, sessionChecks, subscribeChecks)
}

// Match returns the checks whose names match a pattern: a name, or a part with *.
func Match(pattern string) ([]*Check, error) {
	var out []*Check
	for _, c := range Checks() {
		ok, err := path.Match(pattern, c.Name)
		if err != nil {
			return nil, fmt.Errorf("check pattern %q: %w", pattern, err)
		}
		if ok || pattern == "" || pattern == c.Family() {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		var names []string
		for _, c := range Checks() {
			names = append(names, c.Name)
		}
		return nil, fmt.Errorf("no check matches %q; there are: %s", pattern, strings.Join(names, ", "))
	}
	return out, nil
}

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
	// Intrusive allows intrusive checks on a real broker.
	Intrusive bool
}

// Options say what to run.
type Options struct {
	// Checks to run; all where it is nil.
	Checks []*Check
	// Versions to run them in; 3.1.1 and 5 where it is nil.
	Versions []packet.Version
	// Parallel is how many run side by side; [DefaultParallel] where it is 0.
	Parallel int
	// Run marks topics and client ids of this proof: letters and digits, six at most. A
	// random one where it is empty.
	Run string
	// Started and Done are called as checks start and end, from several goroutines.
	Started func(c *Check, v packet.Version)
	Done    func(Result)
}

// DefaultParallel is how many checks run side by side: enough to hide the waiting,
// few enough not to disturb one another on a small broker.
const DefaultParallel = 8

// Result is a verdict with what it rests on.
type Result struct {
	Check    *Check
	Version  packet.Version
	Verdict  Verdict
	Took     time.Duration
	Expected string
	Seen     string
	Notes    []string
	Steps    []Step
	Evidence []trace.Event
	Clients  []string // of the evidence, in the order in which the check made them
	// Pairings is what qos.pairings found, by QoS published and subscribed; else nil.
	Pairings *[3][3]Pairing
	At       time.Time
}

// Step is one thing that a check did.
type Step struct {
	At   time.Duration // since the check began
	Seq  uint64        // the evidence's event that came next
	Text string
}

// Pairing is what became of messages published at one QoS for a subscription at another.
type Pairing struct {
	Granted packet.QoS
	Arrived packet.QoS
	Copies  int
	Kept    bool
	Done    bool // it was tried
}

// Proof is one run of checks.
type Proof struct {
	Target  Target
	Run     string
	Started time.Time
	Took    time.Duration
	Results []Result // in the order of the catalogue, then by version
	// Doors were found open at the broker; nil where nobody looked.
	Doors []reach.Door
}

// Counts returns how many results have each verdict.
func (p *Proof) Counts() map[Verdict]int {
	out := map[Verdict]int{}
	for _, r := range p.Results {
		out[r.Verdict]++
	}
	return out
}

// OK tells whether nothing is broken or undecided.
func (p *Proof) OK() bool {
	n := p.Counts()
	return n[Broken]+n[Undecided] == 0
}

// ErrNotReached is returned when no link to the listener can be made at all.
var ErrNotReached = errors.New("not reached")

// RunID makes a mark for a run.
func RunID() string {
	const letters = "abcdefghijklmnopqrstuvwxyz0123456789"
	b := make([]byte, 6)
	for i := range b {
		b[i] = letters[rand.IntN(len(letters))]
	}
	return string(b)
}

// Run carries out the checks. It returns [ErrNotReached] before the first when the
// listener cannot be reached; after that every check gets a verdict. When the context
// ends, what is left is undecided.
func Run(ctx context.Context, t Target, o Options) (*Proof, error) {
	if o.Checks == nil {
		o.Checks = Checks()
	}
	if o.Versions == nil {
		o.Versions = []packet.Version{packet.V311, packet.V5}
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
	case ctx.Err() == nil: // else it was stopped: every check says so
		return nil, fmt.Errorf("%w: %w", ErrNotReached, err)
	}
	p := &Proof{Target: t, Run: o.Run, Started: time.Now(), Results: make([]Result, len(o.Checks)*len(o.Versions))}
	slots := make(chan struct{}, o.Parallel)
	var wg sync.WaitGroup
	for i, c := range o.Checks {
		for j, v := range o.Versions {
			slots <- struct{}{}
			wg.Go(func() {
				defer func() { <-slots }()
				r := &p.Results[i*len(o.Versions)+j]
				*r = runOne(ctx, t, o, c, v, i)
				if o.Done != nil {
					o.Done(*r)
				}
			})
		}
	}
	wg.Wait()
	p.Took = time.Since(p.Started)
	return p, nil
}

func runOne(ctx context.Context, t Target, o Options, c *Check, v packet.Version, index int) Result {
	p := &Pass{ctx: ctx, target: t, Check: c, Version: v, run: o.Run, index: index, log: trace.NewLog(evidenceLimit), start: time.Now()}
	p.result = Result{Check: c, Version: v, Expected: c.Expected, At: p.start}
	var err error
	switch {
	case c.Section(v) == "":
		err = Skip("not meant for version %s", v)
	case c.Intrusive && !t.StandIn && !t.Intrusive:
		err = Skip("it fails logins or throws clients out; --intrusive, or intrusive: allowed on the broker, runs it")
	case ctx.Err() != nil:
		err = Undecide("stopped before it began")
	default:
		if o.Started != nil {
			o.Started(c, v)
		}
		err = c.Run(p)
		if ctx.Err() != nil {
			err = Undecide("stopped: %v", context.Cause(ctx))
		}
		p.cleanUp()
	}
	r := p.result
	r.Took = time.Since(p.start)
	r.Verdict = Kept
	var o2 *outcome
	switch {
	case errors.As(err, &o2):
		r.Verdict, r.Seen = o2.verdict, o2.text
	case err != nil:
		r.Verdict, r.Seen = Undecided, err.Error()
	case r.Seen == "":
		r.Seen = "just that"
	}
	r.Evidence, _ = p.log.Read(1, evidenceLimit)
	for _, peer := range p.peers {
		r.Clients = append(r.Clients, peer.Name)
	}
	return r
}
