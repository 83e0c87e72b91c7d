package workbench

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"time"

	"hodstone/internal/proof/explore"
)

// exploring holds the bench's exploration, the latest.
type exploring struct {
	mu     sync.Mutex // guards what follows
	state  ExploreState
	cancel context.CancelFunc // of the one under way
}

// ExploreState is how the latest exploration stands.
type ExploreState struct {
	Where    string    // BROKER/LISTENER
	Started  time.Time // zero before the first
	For      time.Duration
	Seed     uint64
	Running  bool
	Progress explore.Progress
	Report   *explore.Report // nil before its end
	Err      error           // why it could not begin
	// Stale tells that the settings of the way were edited since.
	Stale     bool
	way, made string
}

// StartExplore explores a way into a broker in the background; one at a time. A seed is made up where it is 0.
func (b *Bench) StartExplore(where string, long time.Duration, seed uint64) error {
	t, err := b.Target(where)
	if err != nil {
		return err
	}
	if !t.StandIn && !t.Intrusive {
		return errors.New("exploring cuts links by the hundred: write intrusive: allowed on the broker to let it do so")
	}
	if seed == 0 {
		seed = rand.Uint64N(1_000_000)
	}
	x := &b.explore
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.state.Running {
		return errors.New("an exploration is under way: stop it first")
	}
	ctx, cancel := context.WithCancel(b.ctx)
	x.cancel = cancel
	x.state = ExploreState{Where: where, Started: time.Now(), For: long, Seed: seed, Running: true}
	x.state.way, x.state.made = b.settings(t.URL)
	b.wg.Go(func() {
		defer cancel()
		r, err := explore.Run(
			ctx,
			t,
			explore.Options{For: long, Seed: seed, Findings: mostFindings, Told: func(p explore.Progress) {
				x.mu.Lock()
				defer x.mu.Unlock()
				x.state.Progress = p
			}},
		)
		x.mu.Lock()
		defer x.mu.Unlock()
		x.state.Running, x.state.Report, x.state.Err = false, r, err
	})
	return nil
}

// mostFindings ends an exploration.
const mostFindings = 10

// StopExplore ends the exploration under way; what it has found stays.
func (b *Bench) StopExplore() {
	b.explore.mu.Lock()
	defer b.explore.mu.Unlock()
	if b.explore.cancel != nil {
		b.explore.cancel()
	}
}

// Explored returns the latest exploration as it stands.
func (b *Bench) Explored() ExploreState {
	b.explore.mu.Lock()
	s := b.explore.state
	b.explore.mu.Unlock()
	s.Stale = s.Report != nil && b.edited(s.way, s.made)
	return s
}
