package workbench

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// ReachState is how one way in stands.
type ReachState struct {
	Target reach.Target
	// Result is the latest, nil where it was never tried.
	Result *reach.Result
	// Stale tells that the settings were edited since.
	Stale bool
	// Waiting tells that it will be tried in the run under way.
	Waiting bool
}

// reaching is what is known of ways in. Safe for concurrent use.
type reaching struct {
	mu       sync.Mutex // guards what follows
	results  map[string]*reach.Result
	settings map[string]string // what a result was obtained with, by target
	waiting  map[string]bool
	together []reach.Finding
	cancel   context.CancelFunc // of the run under way
	trouble  string             // why the edited file cannot be used
	pasted   []reach.Target
	targets  []reach.Target // as they were found, nil when they have to be found anew
}

func (r *reaching) init() {
	r.results, r.settings = map[string]*reach.Result{}, map[string]string{}
}

// all returns the ways in, found by find. They are kept until the file or the pasted details
// change: a site may have thousands of devices, and screens ask ten times a second.
func (r *reaching) all(find func() []reach.Target) []reach.Target {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.targets == nil {
		r.targets = append(find(), r.pasted...)
	}
	return slices.Clone(r.targets)
}

// edited takes in that the file was looked at: why it cannot be used, and whether the ways in
// have to be found anew.
func (r *reaching) edited(trouble string, changed bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.trouble = trouble; changed {
		r.targets = nil
	}
}

// begin marks ways as being tried; there is one run at a time.
func (r *reaching) begin(targets []reach.Target, cancel context.CancelFunc) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.cancel != nil {
		return errors.New("ways in are being tried: stop that first")
	}
	r.cancel, r.waiting = cancel, map[string]bool{}
	for _, t := range targets {
		r.waiting[t.Name] = true
		r.settings[t.Name] = settingsOf(t)
	}
	return nil
}

// progress takes in a result, as far as it has come.
func (r *reaching) progress(x reach.Result) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.waiting, x.Target.Name)
	r.results[x.Target.Name] = &x
}

// end looks at all results together, those of earlier runs too.
func (r *reaching) end(shared []reach.Finding) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.cancel, r.waiting = nil, nil
	var all []reach.Result
	for _, name := range slices.Sorted(maps.Keys(r.results)) {
		if x := r.results[name]; !x.Running {
			all = append(all, *x)
		}
	}
	rep := reach.Combine(all)
	for i := range rep.Results {
		r.results[rep.Results[i].Target.Name] = &rep.Results[i]
	}
	r.together = append(rep.Findings, shared...)
}

// Targets returns the ways into all brokers of the workspace, as the file has them now.
func (b *Bench) Targets() []reach.Target {
	return b.reach.all(func() []reach.Target { return b.findTargets(b.Workspace()) })
}

// StartReach tries ways in, in the background; no names stand for all. One run at a time.
func (b *Bench) StartReach(names ...string) error {
	if b.Record != nil {
		return errors.New("a record has no brokers to reach")
	}
	var targets []reach.Target
	for _, t := range b.Targets() {
		if len(names) == 0 || slices.Contains(names, t.Name) {
			targets = append(targets, t)
		}
	}
	if len(targets) == 0 {
		return errors.New("there is no listener to try: add a broker to the workspace, or paste connection details")
	}
	ctx, cancel := context.WithCancel(b.ctx)
	if err := b.reach.begin(targets, cancel); err != nil {
		cancel()
		return err
	}
	o := b.reachOptions()
	o.Progress = b.reach.progress
	b.wg.Go(func() {
		reach.Run(ctx, targets, o)
		cancel()
		b.reach.end(b.SharedIdentifiers())
	})
	return nil
}

// reachOptions are those of all runs.
func (b *Bench) reachOptions() reach.Options {
	return reach.Options{Dialled: b.probed, Log: b.Log}
}

// SharedIdentifiers finds devices of the workspace that come to one broker with the same
// client identifier: they would throw each other out (3.1.1 §3.1.4).
func (b *Bench) SharedIdentifiers() (out []reach.Finding) {
	type key struct{ broker, id string }
	users := map[key][]string{}
	var order []key
	for _, d := range b.Workspace().Devices {
		br := b.Workspace().Broker(d.Broker)
		if br == nil {
			continue
		}
		for n := range max(1, d.Count) {
			k := key{br.Name, workspace.FillIn(d.Session.ClientID, n+1)}
			if !slices.Contains(users[k], d.Name) {
				users[k] = append(users[k], d.Name)
			}
			if len(users[k]) == 2 && !slices.Contains(order, k) {
				order = append(order, k)
			}
		}
	}
	for _, k := range order {
		out = append(
			out,
			reach.Finding{
				Severity: trust.Broken,
				What: fmt.Sprintf(
					"the devices %s share the client identifier %q at %s, and will throw each other out",
					strings.Join(users[k], " and "),
					k.id,
					k.broker,
				),
				Remedy: "give each an identifier of its own",
			},
		)
	}
	return out
}

// Reach tries all ways in and waits for it; for commands.
func (b *Bench) Reach(ctx context.Context, targets []reach.Target) *reach.Report {
	return reach.Run(ctx, targets, b.reachOptions())
}

// StopReach ends the run under way; what is not known then counts as stopped.
func (b *Bench) StopReach() {
	b.reach.mu.Lock()
	defer b.reach.mu.Unlock()
	if b.reach.cancel != nil {
		b.reach.cancel()
	}
}

// ReachBoard is how all ways in stand.
type ReachBoard struct {
	Ways     []ReachState
	Together []reach.Finding
	Running  bool
	// Trouble tells why the edited workspace cannot be used; "" for none.
	Trouble string
}

// ReachBoard returns how all ways in stand.
func (b *Bench) ReachBoard() ReachBoard {
	targets := b.Targets()
	r := &b.reach
	r.mu.Lock()
	defer r.mu.Unlock()
	board := ReachBoard{Together: slices.Clone(r.together), Running: r.cancel != nil, Trouble: r.trouble}
	for _, t := range targets {
		x := r.results[t.Name]
		board.Ways = append(board.Ways, ReachState{
			Target: t, Result: x, Waiting: r.waiting[t.Name], Stale: x != nil && r.settings[t.Name] != settingsOf(t),
		})
	}
	return board
}

// Doors returns the doors that were found open at a broker; known tells whether a way into it was
// tried and led in, for else nothing could be found.
func (b *Bench) Doors(broker string) (doors []reach.Door, known bool) {
	targets := b.Targets()
	b.reach.mu.Lock()
	defer b.reach.mu.Unlock()
	var all []*reach.Result
	for _, t := range targets {
		if r := b.reach.results[t.Name]; r != nil && t.Broker() == broker {
			all = append(all, r)
			known = known || r.In()
		}
	}
	return reach.OpenDoors(all), known
}

// Paste reads connection details as a way in of their own, under the name "pasted".
func (b *Bench) Paste(text string) (*reach.Details, error) {
	d, err := reach.Paste(text)
	if err != nil {
		return nil, err
	}
	t, err := PastedTarget(d)
	if err != nil {
		return nil, err
	}
	if t.Login != nil {
		t.Logins = []*workspace.Login{t.Login}
	}
	b.reach.mu.Lock()
	defer b.reach.mu.Unlock()
	b.reach.pasted, b.reach.targets = []reach.Target{t}, nil
	return d, nil
}
