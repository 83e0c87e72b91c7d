package workbench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Loader carries a load out on a broker of the workspace.
type Loader struct {
	b      *Bench
	load   *workspace.Load
	broker *workspace.Broker
	target string // for people
	fleet  *fleet.Fleet
	plan   fleet.Plan
	base   string // of the topics that are the fleet's own
	sample *sample
}

// LoadOptions say how a load is carried out.
type LoadOptions struct {
	Shard fleet.Shard
	Seed  uint64
}

// Loading prepares a load. Errors: a broker that may not be loaded, clients of which there is no listener or login, a clause that
// has no example.
func (b *Bench) Loading(x *workspace.Load, o LoadOptions) (*Loader, error) {
	if b.Record != nil {
		return nil, errors.New("a record bears no load")
	}
	l := &Loader{b: b, load: x}
	name, listener := x.Broker, x.Listener
	for _, c := range x.Clients {
		if d := b.kind(c.Kind); d != nil && name == "" {
			name, listener = d.Broker, d.Listener
		}
	}
	if l.broker = b.Workspace().Broker(name); l.broker == nil {
		if name == "" {
			return nil, errors.New("the workspace has no sound broker to load; they stand under brokers: at the top")
		}
		return nil, fmt.Errorf("the workspace has no usable broker %q to load", name)
	}
	first, url, err := b.address(l.broker.Name, listener)
	if err != nil {
		return nil, err
	}
	if err := l.allowed(url); err != nil {
		return nil, err
	}
	l.target = l.broker.Name + "/" + first.Name + " " + url
	l.base = "hodstone/load/" + proof.RunID()
	p := &l.plan
	*p = fleet.Plan{
		Name:     x.Name,
		Shape:    x.Shape,
		Others:   x.Others,
		Size:     x.Size,
		Every:    x.Every,
		Jitter:   x.Jitter,
		Each:     x.Each,
		Connects: x.Connects,
		Storm:    x.Storm,
		Bound:    x.Bound,
		Find:     x.Find,
		Shard:    o.Shard,
		Seed:     o.Seed,
		WillBase: l.base + "/will",
		Broker:   l.process(url),
		Facts:    l.facts,
		Log:      l.lines,
	}
	if restart := b.restarter(l.broker); restart != nil {
		p.Restart = func() error { return restart(b.ctx, false) }
	}
	cl := b.Workspace().Contract.Clause(x.Clause)
	if x.Clause != "" && cl == nil {
		return nil, fmt.Errorf("the contract has no clause %q", x.Clause)
	}
	if cl != nil && cl.QoS != nil {
		p.QoS = *cl.QoS
	}
	if cl != nil && cl.Retain != nil {
		p.Retain = *cl.Retain
	}
	if x.QoS != nil {
		p.QoS = *x.QoS
	}
	if x.Retain != nil {
		p.Retain = *x.Retain
	}
	for _, c := range x.Clients {
		k, err := l.kindOf(c, cl, listener)
		if err != nil {
			return nil, err
		}
		p.Kinds = append(p.Kinds, k)
	}
	l.steps()
	if l.sample, err = l.sampled(cl); err != nil {
		return nil, err
	}
	l.fleet, err = fleet.New(*p)
	return l, err
}

// kind returns a kind of devices of the workspace, or nil.
func (b *Bench) kind(name string) *workspace.Device {
	for _, d := range b.Workspace().Devices {
		if d.Name == name {
			return d
		}
	}
	return nil
}

// allowed tells why the broker may not be loaded, or nil: a stand-in and one on this machine may.
func (l *Loader) allowed(url string) error {
	if l.broker.StandIn != nil || l.broker.Load || loopback(url) {
		return nil
	}
	return fmt.Errorf(
		"broker %s is neither a stand-in nor on this machine, and others may depend on it: if it is yours to load, write 'load: allowed' under it in the workspace",
		l.broker.Name,
	)
}

// loopback tells whether a URL leads to this machine.
func loopback(url string) bool {
	e, err := link.Parse(url)
	if err != nil {
		return false
	}
	if e.Network == "unix" || strings.EqualFold(e.Host, "localhost") {
		return true
	}
	ip, err := netip.ParseAddr(strings.Trim(e.Host, "[]"))
	return err == nil && ip.IsLoopback()
}

// process tells of the broker's process where that runs here.
func (l *Loader) process(url string) func() fleet.Process {
	if l.b.StandIn(l.broker.Name) != nil {
		return func() fleet.Process {
			p := fleet.ProcessOf(os.Getpid())
			p.Own, p.Name = true, "stand-in"
			return p
		}
	}
	e, err := link.Parse(url)
	if err != nil || !loopback(url) {
		return nil
	}
	_, port, err := net.SplitHostPort(e.Address)
	n, err2 := strconv.Atoi(port)
	if err != nil || err2 != nil {
		return nil
	}
	var mu sync.Mutex
	pid := 0
	return func() fleet.Process {
		mu.Lock()
		defer mu.Unlock()
		p := fleet.ProcessOf(pid)
		if pid == 0 || !p.Known {
			pid = fleet.Listening(n)
			p = fleet.ProcessOf(pid)
		}
		return p
	}
}

// lines are what followed logs have said since a time, the last of it.
func (l *Loader) lines(since time.Time) (out []string) {
	const most = 2000
	log := l.b.Log
	for next := max(log.Oldest(), 1); ; {
		some, _ := log.Read(next, most)
		if len(some) == 0 {
			break
		}
		for i := range some {
			if some[i].Role == trace.RoleLog && some[i].At.After(since) {
				out = append(out, some[i].Text)
			}
		}
		next = some[len(some)-1].Seq + 1
	}
	return out[max(0, len(out)-most):]
}

// steps makes the ramp.
func (l *Loader) steps() {
	x, p := l.load, &l.plan
	all := float64(p.Total())
	step := func(v float64) fleet.Step { return fleet.Step{Clients: int(v), Rate: x.Rate} }
	from, to := x.RampFrom, x.RampTo
	if x.RampOf == "rate" {
		step = func(v float64) fleet.Step { return fleet.Step{Clients: int(all), Rate: v} }
	} else if to == 0 || to > all {
		to = all
	}
	if from == 0 || from > to {
		from = to
	}
	if x.Over > 0 && x.Find == "" {
		first, last := step(from), step(to)
		first.Hold, last.Over, last.Hold = time.Second, x.Over, x.Hold
		p.Steps = []fleet.Step{first, last}
		return
	}
	by := x.RampBy
	if x.Find != "" { // a search makes steps of its own
		by = max(1, to-from)
	}
	p.Steps = fleet.Ramp(from, to, by, x.Hold, x.Falls, step)
}

// Target is where the load goes, for people.
func (l *Loader) Target() string { return l.target }

// Clients is how many clients of the workspace's load the whole fleet has.
func (l *Loader) Clients() int { return l.plan.Total() }

// Length is about how long it takes: the holding of the steps, without what is searched.
func (l *Loader) Length() (d time.Duration) {
	for _, s := range l.plan.Steps {
		d += s.Hold + s.Over
	}
	return d
}

// State returns how the load stands.
func (l *Loader) State() fleet.State { return l.fleet.State() }

// Hold keeps the load at its step, or lets it go on.
func (l *Loader) Hold(is bool) { l.fleet.Hold(is) }

// loadEcho is for how long after a load what it let the broker send may still reach an observer.
const loadEcho = 10 * time.Second

// topics are those of the contract on which the fleet publishes in the place of devices that the site does not have; what
// comes on them is judged by the load's own sample, and is no matter of the site's.
func (l *Loader) topics() map[string]bool {
	if l.load.Clause == "" {
		return nil
	}
	out := map[string]bool{}
	for _, k := range l.plan.Kinds {
		for n := range k.Count {
			if topic := k.Topic(n + 1); !trace.OwnTopic(topic) {
				out[topic] = true
			}
		}
	}
	return out
}

// Run carries the load out; see [fleet.Fleet.Run].
func (l *Loader) Run(ctx context.Context) *fleet.Result {
	stop := l.sample.begin(ctx)
	l.b.obs.loads(l, l.topics())
	defer time.AfterFunc(loadEcho, func() { l.b.obs.loadEnds(l) })
	r := l.fleet.Run(ctx)
	stop()
	r.Target = l.target
	l.sample.told(r)
	return r
}

// loads hold the load under way on an open bench, and the results of this session.
type loads struct {
	mu      sync.Mutex // guards what follows
	now     *Loader
	cancel  context.CancelFunc
	results []*fleet.Result
	err     error
}

// LoadState is how the loads stand.
type LoadState struct {
	Name, Target string
	State        fleet.State
	Judged       int // of the load under way
	Broken       int
	Results      []*fleet.Result // that ended, the latest last; not changed afterwards
	Err          error           // why the last could not begin
}

// StartLoad begins a load of the workspace in the background.
func (b *Bench) StartLoad(x *workspace.Load) error {
	t := &b.loads
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.now != nil {
		return fmt.Errorf("%s is under way: stop it first", t.now.load.Name)
	}
	l, err := b.Loading(x, LoadOptions{Seed: b.opt.Seed})
	if t.err = err; err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	t.now, t.cancel = l, cancel
	b.wg.Go(func() {
		r := l.Run(ctx)
		cancel()
		t.mu.Lock()
		defer t.mu.Unlock()
		const most = 20
		t.results = append(t.results[max(0, len(t.results)-most+1):], r)
		t.now, t.cancel = nil, nil
	})
	return nil
}

// StopLoad ends the load under way.
func (b *Bench) StopLoad() {
	b.loads.mu.Lock()
	defer b.loads.mu.Unlock()
	if b.loads.cancel != nil {
		b.loads.cancel()
	}
}

// HoldLoad keeps the load at its step, or lets it go on.
func (b *Bench) HoldLoad() {
	b.loads.mu.Lock()
	defer b.loads.mu.Unlock()
	if l := b.loads.now; l != nil {
		l.Hold(!l.State().Held)
	}
}

// ExportLoad writes a load's result into a file, as .csv (its seconds) or .json (all of it). It overwrites nothing.
func (b *Bench) ExportLoad(name string, r *fleet.Result) error {
	write := report.WriteLoadJSON
	switch strings.ToLower(filepath.Ext(name)) {
	case ".csv":
		write = report.WriteLoadCSV
	case ".json":
	default:
		return fmt.Errorf("%s: a load is written as .svg, .pdf, .csv or .json", name)
	}
	return create(name, func(w io.Writer) error { return write(w, r) })
}

// LoadState returns how the loads stand.
func (b *Bench) LoadState() (s LoadState) {
	t := &b.loads
	t.mu.Lock()
	defer t.mu.Unlock()
	s.Results, s.Err = slices.Clone(t.results), t.err
	if l := t.now; l != nil {
		s.Name, s.Target, s.State = l.load.Name, l.target, l.State()
		l.sample.mu.Lock()
		s.Judged, s.Broken = l.sample.judged, l.sample.broken
		l.sample.mu.Unlock()
	}
	return s
}
