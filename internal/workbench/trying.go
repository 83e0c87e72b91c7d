package workbench

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/proof"
	"hodstone/internal/trial"
	"hodstone/internal/workspace"
)

// trying holds the bench's trials.
type trying struct {
	mu       sync.Mutex // guards what follows
	rounds   []*TrialState
	cancel   context.CancelFunc // of the run under way
	question *trial.Question
	answer   chan trial.Answer
	stepping bool
	step     chan struct{}
	held     bool // before a step, until it is let go
	notKept  error
}

// TrialState is one round of a trial.
type TrialState struct {
	Trial *workspace.Trial
	Round map[string]string
	Name  string
	// Running tells that it is under way, and Waiting that its turn will come.
	Running, Waiting bool
	Steps            []trial.Progress
	Started          time.Time
	Result           *proof.Result // nil before its end
	// Stale tells that the workspace was edited since.
	Stale bool
	made  string
}

// TrialsState is how all trials stand.
type TrialsState struct {
	Rounds  []TrialState
	Running bool
	// Question is what a person is asked now; nil for nothing.
	Question *trial.Question
	// Held tells that the next step waits for somebody to let it go.
	Held bool
	// NotKept is why the last ones could not be kept in their file; nil where they were.
	NotKept error
}

// rounds lists all rounds of the workspace's trials, with what is known of them.
func (b *Bench) rounds(t *trying) []*TrialState {
	w := b.Workspace()
	var out []*TrialState
	for _, x := range w.Trials {
		for _, round := range x.Rounds() {
			name := trial.Name(x, round)
			s := &TrialState{Trial: x, Round: round, Name: name}
			if i := slices.IndexFunc(t.rounds, func(o *TrialState) bool { return o.Name == name }); i >= 0 {
				*s = *t.rounds[i]
				if !s.Running {
					s.Trial, s.Round = x, round
				}
			}
			s.Stale = s.Result != nil && s.made != b.Fingerprint()
			out = append(out, s)
		}
	}
	return out
}

// Trials returns how all trials stand.
func (b *Bench) Trials() TrialsState {
	t := &b.trying
	t.mu.Lock()
	defer t.mu.Unlock()
	t.rounds = b.rounds(t)
	out := TrialsState{Running: t.cancel != nil, Question: t.question, Held: t.held, NotKept: t.notKept}
	for _, r := range t.rounds {
		s := *r
		s.Steps = slices.Clone(r.Steps)
		out.Rounds = append(out.Rounds, s)
	}
	return out
}

// MatchTrials returns the names of the trials' rounds that fit a pattern, such as "Thin water*"; all for "" and "*".
func (b *Bench) MatchTrials(pattern string) (out []string, err error) {
	for _, r := range b.Trials().Rounds {
		ok := pattern == "" || pattern == "*" || r.Trial.Name == pattern || r.Name == pattern
		if !ok {
			if ok, err = path.Match(pattern, strings.ReplaceAll(r.Name, "/", "|")); err != nil {
				return nil, fmt.Errorf("trial pattern %q: %w", pattern, err)
			}
		}
		if ok {
			out = append(out, r.Name)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("no trial is called so; there are: " + strings.Join(b.trialNames(), ", "))
	}
	return out, nil
}

func (b *Bench) trialNames() (out []string) {
	for _, t := range b.Workspace().Trials {
		out = append(out, fmt.Sprintf("%q", t.Name))
	}
	if out == nil {
		out = []string{"none, a workspace has them under trials:"}
	}
	return out
}

// StartTrials runs rounds of trials by their names, one after the other, in the background; stepping holds before each
// step until [Bench.NextStep].
func (b *Bench) StartTrials(names []string, stepping bool) error {
	if b.Record != nil {
		return errors.New("a record has no devices to try anything on")
	}
	t := &b.trying
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.cancel != nil {
		return errors.New("trials are under way: stop them first")
	}
	t.rounds = b.rounds(t)
	var run []*TrialState
	for _, r := range t.rounds {
		if slices.Contains(names, r.Name) {
			r.Waiting, r.Result, r.Steps = true, nil, nil
			run = append(run, r)
		}
	}
	if len(run) == 0 {
		return errors.New("the workspace has no such trial")
	}
	ctx, cancel := context.WithCancel(b.ctx)
	t.cancel, t.stepping = cancel, stepping
	t.answer, t.step = make(chan trial.Answer), make(chan struct{})
	made := b.Fingerprint()
	b.wg.Go(func() {
		defer cancel()
		start := time.Now()
		var results []proof.Result
		for _, r := range run {
			if x := b.tryOne(ctx, r.Name, made, trial.Options{Ask: b.asks, Before: b.holds}); x != nil {
				results = append(results, *x)
			}
		}
		var notKept error
		if ctx.Err() == nil {
			notKept = b.keepTrials(start, results)
		}
		t.mu.Lock()
		t.cancel, t.question, t.held, t.notKept = nil, nil, false, notKept
		for _, r := range t.rounds {
			r.Waiting = false
		}
		t.mu.Unlock()
	})
	return nil
}

// at finds a round by its name; b.trying.mu is held.
func (t *trying) at(name string) *TrialState {
	for _, r := range t.rounds {
		if r.Name == name {
			return r
		}
	}
	return &TrialState{} // it was edited away
}

// tryOne carries one round out, and returns what it came to; nil where it was not begun.
func (b *Bench) tryOne(ctx context.Context, name, made string, o trial.Options) *proof.Result {
	t := &b.trying
	t.mu.Lock()
	r := t.at(name)
	x, round := r.Trial, r.Round
	if x == nil || ctx.Err() != nil {
		r.Waiting = false
		t.mu.Unlock()
		return nil
	}
	r.Running, r.Waiting, r.Started = true, false, time.Now()
	t.mu.Unlock()
	o.Told = func(p []trial.Progress) {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.at(name).Steps = p
	}
	result := trial.Run(ctx, site{b}, x, round, o)
	t.mu.Lock()
	defer t.mu.Unlock()
	r = t.at(name)
	r.Running, r.Result, r.made = false, &result, made
	return &result
}

// asks shows a question, and waits for its answer.
func (b *Bench) asks(ctx context.Context, q trial.Question) (trial.Answer, error) {
	t := &b.trying
	t.mu.Lock()
	t.question = &q
	answer := t.answer
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		t.question = nil
		t.mu.Unlock()
	}()
	select {
	case a := <-answer:
		return a, nil
	case <-ctx.Done():
		return trial.Answer{}, context.Cause(ctx)
	}
}

// holds holds before a step, where trials are gone through step by step.
func (b *Bench) holds(ctx context.Context, _ int) error {
	t := &b.trying
	t.mu.Lock()
	stepping, step := t.stepping, t.step
	t.held = stepping
	t.mu.Unlock()
	if !stepping {
		return nil
	}
	defer func() {
		t.mu.Lock()
		t.held = false
		t.mu.Unlock()
	}()
	select {
	case <-step:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// NextStep lets the next step go; through tells that all that follow go by themselves.
func (b *Bench) NextStep(through bool) {
	t := &b.trying
	t.mu.Lock()
	step, held := t.step, t.held
	if through {
		t.stepping = false
	}
	t.mu.Unlock()
	if held {
		select {
		case step <- struct{}{}:
		case <-time.After(time.Second): // it was stopped meanwhile
		}
	}
}

// Answer answers the question that stands; nothing happens where none does.
func (b *Bench) Answer(a trial.Answer) {
	t := &b.trying
	t.mu.Lock()
	answer, stands := t.answer, t.question != nil
	t.mu.Unlock()
	if stands {
		select {
		case answer <- a:
		case <-time.After(time.Second):
		}
	}
}

// StopTrials ends the run under way; what is not at its end is undecided.
func (b *Bench) StopTrials() {
	t := &b.trying
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.cancel != nil {
		t.cancel()
	}
}

// Try carries rounds of trials out one after the other, and returns them as a proof; for commands. told is given each
// as it ends.
func (b *Bench) Try(
	ctx context.Context,
	names []string,
	ask func(context.Context, trial.Question) (trial.Answer, error),
	told func(proof.Result),
) *proof.Proof {
	start := time.Now()
	p := &proof.Proof{
		Target:  b.trialsTarget(),
		Run:     proof.RunID(),
		Started: start,
	}
	b.settle(ctx)
	for _, name := range names {
		for _, r := range b.Trials().Rounds {
			if r.Name != name {
				continue
			}
			result := trial.Run(ctx, site{b}, r.Trial, r.Round, trial.Options{Ask: ask})
			p.Results = append(p.Results, result)
			if told != nil {
				told(result)
			}
		}
	}
	p.Took = time.Since(start)
	return p
}

// settleWithin is how long a site may take to be at work before a trial begins all the same.
const settleWithin = 15 * time.Second

// settle waits until the devices are on and the observers see, or the time is over: what is missing then is the trials'
// to tell.
func (b *Bench) settle(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, settleWithin)
	defer cancel()
	for {
		ready := (site{b}).Blind(time.Now()) == ""
		for _, d := range b.Devices() {
			ready = ready && d.Phase != "off" && d.Phase != "connecting"
		}
		if ready {
			return
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}
