package workbench

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/reach"
	"hodstone/internal/report"
)

// proving holds the bench's proof, the latest.
type proving struct {
	mu     sync.Mutex // guards what follows
	proof  ProofState
	cancel context.CancelFunc // of the running one
	way    string             // BROKER/LISTENER
	made   string             // a print of the settings that it was made with
}

// ProofState is the latest proof, finished or under way.
type ProofState struct {
	Target  proof.Target
	Started time.Time // zero before the first
	Running bool
	Total   int
	Doing   string          // what goes on before the first check; "" for nothing
	Now     map[string]bool // checks under way, as NAME/VERSION
	Results []proof.Result  // as they came; in the catalogue's order at the end
	Took    time.Duration
	// Before is how long as many checks took the last time; 0 where that is not known.
	Before time.Duration
	Err    error // why it could not begin
	// Changes is what differs from the proof before, of the same way and of as many checks; nil where there is none.
	Changes *report.Comparison
	// Left are the ways that follow, Series the numbers of the proofs that were made one after the other so far, and Shut
	// says which ways could not be proven, and why.
	Left   []string
	Series []int64
	Shut   []string
	// NotKept is why the proof could not be kept in its file; nil where it was.
	NotKept error
	// Stale tells that the settings of the way were edited since: what was proven may no longer hold.
	Stale bool
}

// StartProof runs checks in the background on one way into a broker, BROKER/LISTENER, or on several one after the
// other; one proof at a time.
func (b *Bench) StartProof(o proof.Options, where ...string) error {
	if len(where) == 0 {
		return errors.New("no broker is named to be put to the proof")
	}
	var targets []proof.Target
	for _, w := range where {
		t, err := b.Target(w)
		if err != nil {
			return err
		}
		targets = append(targets, t)
	}
	b.prov.mu.Lock()
	defer b.prov.mu.Unlock()
	if b.prov.proof.Running {
		return errors.New("a proof is under way: stop it first")
	}
	if o.Checks == nil {
		o.Checks = check.All()
	}
	if o.Versions == nil {
		o.Versions = proof.Versions()
	}
	o.Log = b.Log
	ctx, cancel := context.WithCancel(b.ctx)
	b.prov.cancel = cancel
	b.begin(targets[0], o)
	b.prov.proof.Left = where[1:]
	o.Doing = func(what string) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		b.prov.proof.Doing = what
	}
	o.Started = func(c *proof.Check, v packet.Version) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		b.prov.proof.Now[keyOf(c, v)] = true
	}
	o.Done = func(r proof.Result) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		delete(b.prov.proof.Now, keyOf(r.Check, r.Version))
		b.prov.proof.Results = append(b.prov.proof.Results, r)
	}
	b.wg.Go(func() {
		defer cancel()
		var shown *ProofState
		for i, t := range targets {
			if !b.proveOne(ctx, t, o, i == len(targets)-1, shown) {
				return // another may be under way by now
			}
			b.prov.mu.Lock()
			if ctx.Err() != nil {
				b.prov.proof.Running = false
				b.prov.mu.Unlock()
				return
			}
			before := b.prov.proof
			if len(before.Series) > 0 {
				shown = &before
			}
			b.begin(targets[i+1], o)
			b.prov.proof.Left, b.prov.proof.Series, b.prov.proof.Shut = where[i+2:], before.Series, before.Shut
			b.prov.mu.Unlock()
		}
	})
	return nil
}

func keyOf(c *proof.Check, v packet.Version) string { return c.Name + "/" + v.String() }

// begin sets the state to that of a proof that begins; b.prov.mu is held.
func (b *Bench) begin(t proof.Target, o proof.Options) {
	b.prov.way, b.prov.made = b.settings(t.URL)
	b.prov.proof = ProofState{
		Target:  t,
		Started: time.Now(),
		Running: true,
		Total:   len(o.Checks) * len(o.Versions),
		Now:     map[string]bool{},
	}
}

// proveOne proves one way; with last no other follows. shown is what is shown again where that cannot be; nil for
// nothing. It tells whether the next one follows.
func (b *Bench) proveOne(
	ctx context.Context,
	t proof.Target,
	o proof.Options,
	last bool,
	shown *ProofState,
) (more bool) {
	before, notRead := b.before(t, len(o.Checks)*len(o.Versions))
	b.prov.mu.Lock()
	if b.prov.proof.NotKept = notRead; before != nil {
		b.prov.proof.Before = time.Duration(before.TookMS * float64(time.Millisecond))
	}
	b.prov.mu.Unlock()
	p, err := proof.Run(ctx, t, o)
	b.Explain(ctx, t.URL, err)
	b.prov.mu.Lock()
	defer b.prov.mu.Unlock()
	s := &b.prov.proof
	s.Running, s.Err = !last && ctx.Err() == nil, err
	if err != nil {
		broker, listener := wayOf(&t)
		s.Shut = append(s.Shut, fmt.Sprintf("%s/%s: %v", broker, listener, err))
		if shown != nil { // what was proven before it is still there to be seen
			shown.Running, shown.Left, shown.Series, shown.Shut = s.Running, s.Left, s.Series, s.Shut
			*s = *shown
			b.prov.way, b.prov.made = b.settings(s.Target.URL)
		}
		return s.Running
	}
	s.Results, s.Took = p.Results, p.Took
	if ctx.Err() != nil {
		return s.Running
	}
	if before != nil {
		now := report.NewDocument(p)
		s.Changes = report.Compare(before, &now)
	}
	var id int64
	id, s.NotKept = b.keep(p)
	s.Series = append(s.Series, id)
	return s.Running
}

// StopProof ends a running proof; what is left is undecided.
func (b *Bench) StopProof() {
	b.prov.mu.Lock()
	defer b.prov.mu.Unlock()
	if b.prov.cancel != nil {
		b.prov.cancel()
	}
}

// Proof returns the latest proof as it stands.
func (b *Bench) Proof() ProofState {
	b.prov.mu.Lock()
	defer b.prov.mu.Unlock()
	s := b.prov.proof
	s.Stale = b.edited(b.prov.way, b.prov.made)
	s.Results = append([]proof.Result(nil), s.Results...)
	s.Now = map[string]bool{}
	for k := range b.prov.proof.Now {
		s.Now[k] = true
	}
	return s
}

// settings returns the name of the way in with the URL, and a print of its settings.
func (b *Bench) settings(url string) (way, made string) {
	for _, t := range b.Targets() {
		if t.URL == url {
			return t.Name, settingsOf(t)
		}
	}
	return "", ""
}

// edited tells whether a way in has other settings than it had, or is no longer there.
func (b *Bench) edited(way, made string) bool {
	if way == "" {
		return false
	}
	for _, t := range b.Targets() {
		if t.Name == way {
			return settingsOf(t) != made
		}
	}
	return true
}

// Explain completes an error that says that our own login is not let in by what reach finds out about it.
func (b *Bench) Explain(ctx context.Context, url string, err error) {
	var shut *proof.NotLetInError
	if !errors.As(err, &shut) {
		return
	}
	for _, t := range b.Targets() {
		if t.URL != url {
			continue
		}
		if d := reach.Explain(ctx, t, shut.Version, b.reachOptions()); d != nil {
			shut.Cause = d.What + "; " + d.Remedy
		}
		return
	}
}
