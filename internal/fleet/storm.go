package fleet

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// stormWithin is how long a storm may take.
const stormWithin = 3 * time.Minute

// storm lets what befalls all at once befall them.
func (f *Fleet) storm(ctx context.Context) *StormResult {
	out := &StormResult{What: f.plan.Storm}
	var all []*session
	for _, s := range f.mine() {
		if s.in.Load() {
			all = append(all, s)
		}
	}
	out.Of = len(all)
	ctx, cancel := context.WithTimeout(ctx, stormWithin)
	defer cancel()
	if f.plan.Storm == Wills {
		if err := f.wills(ctx, all, out); err != nil {
			f.because("the wills could not be watched: " + err.Error())
		}
		return out
	}
	hist := newHistogram()
	for _, s := range all {
		s.tries.Store(math.MinInt32) // as often as it takes
	}
	start := time.Now()
	f.say(fmt.Sprintf("%d are cut at once", out.Of), stormWithin)
	if f.plan.Storm == Restart {
		if err := f.plan.Restart(); err != nil {
			f.because("the broker was not restarted: " + err.Error())
			return out
		}
	} else {
		for _, s := range all {
			s.client.Cut()
		}
	}
	back := make([]bool, len(all))
	for ctx.Err() == nil && out.Back < out.Of {
		for i, s := range all {
			came := s.came.Load()
			if !back[i] && s.in.Load() && came > int64(start.Sub(f.began)) {
				back[i] = true
				out.Back++
				took := time.Duration(came) - start.Sub(f.began)
				out.Took = max(out.Took, took)
				record(hist, took)
			}
		}
		f.say(fmt.Sprintf("%d of %d are back", out.Back, out.Of), 0)
		f.tick(ctx)
	}
	out.Spread = spreadOf(hist)
	return out
}

// because adds to what is said of the result.
func (f *Fleet) because(text string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.result.Why = append(f.result.Why, text)
}

// wills cuts all, lets none come back, and counts the wills.
func (f *Fleet) wills(ctx context.Context, all []*session, out *StormResult) error {
	o := f.plan.Kinds[0].Client(f.plan.Total() + f.plan.Others + 1)
	var mu sync.Mutex
	came := map[string]time.Time{}
	o.Message = func(p *packet.Publish) {
		mu.Lock()
		defer mu.Unlock()
		if _, twice := came[p.Topic]; !twice {
			came[p.Topic] = time.Now()
		}
	}
	watcher := client.New(o)
	if _, err := watcher.Connect(ctx); err != nil {
		return err
	}
	defer watcher.Disconnect(0)
	if _, err := watcher.Subscribe(
		ctx,
		[]packet.Subscription{{Filter: f.plan.WillBase + "/+", QoS: f.plan.QoS}},
	); err != nil {
		return err
	}
	start := time.Now()
	for _, s := range all {
		s.wanted.Store(false)
		s.client.Cut()
	}
	const quiet = 10 * time.Second // nothing comes any more
	for last := start; ctx.Err() == nil && time.Since(last) < quiet; {
		mu.Lock()
		if len(came) > out.Back {
			last = time.Now()
		}
		out.Back = len(came)
		mu.Unlock()
		f.say(fmt.Sprintf("%d of %d wills came", out.Back, out.Of), 0)
		if out.Back >= out.Of {
			break
		}
		f.tick(ctx)
	}
	hist := newHistogram()
	mu.Lock()
	defer mu.Unlock()
	for _, at := range came {
		record(hist, at.Sub(start))
		out.Took = max(out.Took, at.Sub(start))
	}
	out.Spread = spreadOf(hist)
	return nil
}
