package fleet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"
)

// come brings sessions in, and returns how many are not in when it gave up.
func (f *Fleet) come(ctx context.Context, some []*session, count int, doing string) (missing int) {
	for i, s := range some {
		if i >= count {
			break
		}
		s.drops.Store(0)
		if !s.wanted.Swap(true) {
			s.tries.Store(0)
			f.todo <- s
		} else if !s.in.Load() && s.tries.Load() >= maxTries { // given up before: once more
			s.tries.Store(0)
			f.todo <- s
		}
	}
	for ctx.Err() == nil {
		missing = 0
		trying, out := false, 0
		for _, s := range some[:min(count, len(some))] {
			if drops := s.drops.Load(); !s.in.Load() {
				if out++; drops == 0 { // else it is one of those that were in, and are out
					missing++
				}
				trying = trying || s.tries.Load() < maxTries && drops < maxTries
			}
		}
		all := min(count, len(some))
		f.say(fmt.Sprintf("%s: %d of %d in", doing, all-out, all), 0)
		if !trying {
			break
		}
		f.tick(ctx)
	}
	return missing
}

// late waits for those that have not come in by the end of a climb, and are still tried, and returns how many were given up.
func (f *Fleet) late(ctx context.Context, some []*session) (refused int) {
	for {
		trying := 0
		refused = 0
		for _, s := range some {
			if !s.wanted.Load() || s.in.Load() || s.drops.Load() > 0 {
				continue
			}
			if refused++; s.tries.Load() < maxTries {
				trying++
			}
		}
		if trying == 0 || ctx.Err() != nil {
			return refused
		}
		f.say(fmt.Sprintf("clients connect: %d are late", trying), 0)
		f.tick(ctx)
	}
}

// ended is told by a session that its link has ended: it comes again where it is wanted.
func (f *Fleet) ended(s *session) {
	if !s.in.CompareAndSwap(true, false) {
		return // it never was in: who connects takes care of it
	}
	s.gone.Store(true)
	if s.wanted.Load() && !f.closed.Load() {
		f.ends.Add(1)
		s.drops.Add(1)
		if err := s.client.Ended(); err != nil {
			s.lane.mu.Lock()
			s.lane.refusals[endOf(err)]++
			s.lane.mu.Unlock()
		}
	}
	if s.topic != "" {
		f.active.Add(-1)
	}
	if s.wanted.Load() && !f.closed.Load() {
		f.again(s)
	}
}

// again lets a session come again after a pause.
func (f *Fleet) again(s *session) {
	const least, most, slowest = 200 * time.Millisecond, time.Second, 5
	pause := (least + rand.N(most-least)) * time.Duration(1+min(max(0, s.tries.Load()), slowest-1))
	time.AfterFunc(pause, func() {
		if !f.closed.Load() && s.wanted.Load() {
			select {
			case f.todo <- s:
			case <-f.over:
			}
		}
	})
}

// maxTries is how often a session tries to come in at most before it is given up, in a step, and how often one whose link ends
// again is waited for. Who was in before tries on.
const maxTries = 4

// connecting lets sessions come in, one after the other.
func (f *Fleet) connecting(ctx context.Context) {
	for {
		var s *session
		select {
		case s = <-f.todo:
		case <-ctx.Done():
			return
		}
		if !s.wanted.Load() || s.in.Load() || !s.busy.CompareAndSwap(false, true) {
			continue
		}
		if f.pace != nil && f.pace.Wait(ctx) != nil {
			return
		}
		err := s.connect(ctx)
		s.busy.Store(false)
		switch {
		case err == nil:
			if s.topic != "" {
				f.active.Add(1)
			}
			s.tries.Store(0)
			if !s.client.Connected() { // it ended while it was taken down
				f.ended(s)
			}
		case ctx.Err() == nil && (s.tries.Add(1) < maxTries || s.came.Load() > 0):
			f.again(s)
		}
	}
}
