package workbench

import (
	"context"
	"errors"
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/reach"
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
	Err     error // why it could not begin
	// Stale tells that the settings of the way were edited since: what was proven may no longer hold.
	Stale bool
}

// StartProof runs checks in the background; one proof at a time.
func (b *Bench) StartProof(where string, o proof.Options) error {
	t, err := b.Target(where)
	if err != nil {
		return err
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
	b.prov.way, b.prov.made = b.settings(t.URL)
	b.prov.proof = ProofState{
		Target:  t,
		Started: time.Now(),
		Running: true,
		Total:   len(o.Checks) * len(o.Versions),
		Now:     map[string]bool{},
	}
	key := func(c *proof.Check, v packet.Version) string { return c.Name + "/" + v.String() }
	o.Doing = func(what string) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		b.prov.proof.Doing = what
	}
	o.Started = func(c *proof.Check, v packet.Version) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		b.prov.proof.Now[key(c, v)] = true
	}
	o.Done = func(r proof.Result) {
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		delete(b.prov.proof.Now, key(r.Check, r.Version))
		b.prov.proof.Results = append(b.prov.proof.Results, r)
	}
	b.wg.Go(func() {
		defer cancel()
		p, err := proof.Run(ctx, t, o)
		b.Explain(ctx, t.URL, err)
		b.prov.mu.Lock()
		defer b.prov.mu.Unlock()
		b.prov.proof.Running, b.prov.proof.Err = false, err
		if err == nil {
			b.prov.proof.Results, b.prov.proof.Took = p.Results, p.Took
		}
	})
	return nil
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
