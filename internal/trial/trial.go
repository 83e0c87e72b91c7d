// Package trial carries out the checks that the engineer writes in the workspace: steps on the devices and clients of a
// site, and what has to follow. A trial ends in a verdict with its evidence, as a check of a broker does.
package trial

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Site is what a trial works on: the devices and brokers of an open workspace.
type Site interface {
	// Log is the trace of all that the site's clients exchange.
	Log() *trace.Log
	Contract() *contract.Contract
	// Device returns the device with the name, or nil; Devices all of them.
	Device(name string) *device.Device
	Devices() []*device.Device
	// Publish publishes as Hodstone's own client, where no device does.
	Publish(ctx context.Context, m packet.Publish) error
	// Stored returns what greets a newcomer on a topic at a broker.
	Stored(ctx context.Context, broker, topic string) ([]packet.Publish, error)
	// Restart lets a stand-in go down, and waits until it is back.
	Restart(ctx context.Context, broker string) error
	// Tap returns the open tap with the name, or nil.
	Tap(name string) *tap.Tap
	// Blind is why the observers have not seen everything since; "" where they have.
	Blind(since time.Time) string
	// Late is how far an observer was behind at some time since, so that what it saw tells of earlier; "" for none.
	Late(since time.Time) string
	// Breaches are those that the judge found, the latest last.
	Breaches() []contract.Breach
}

// Question is what a person is asked.
type Question struct{ Trial, Text string }

// Answer is what the person said.
type Answer struct {
	Yes bool
	// Left is why the question was left out; "" where it was answered.
	Left string
}

// StepState is how a step stands.
type StepState string

// The states of a step.
const (
	Waiting  StepState = "waiting"
	UnderWay StepState = "under way"
	Done     StepState = "done"
	Failed   StepState = "failed"
)

// Progress is one step as it stands.
type Progress struct {
	Text  string
	State StepState
	Seen  string // what came of it
	Took  time.Duration
}

// Options say how a trial is carried out.
type Options struct {
	// Ask asks a person; nil where nobody is there.
	Ask func(context.Context, Question) (Answer, error)
	// Before is called before each step, and holds the trial up as long as it takes; nil for never.
	Before func(ctx context.Context, step int) error
	// Told is told of all steps whenever one changes; it must not wait. May be nil.
	Told func([]Progress)
}

// run is a trial under way.
type run struct {
	site   Site
	trial  *workspace.Trial
	round  map[string]string
	o      Options
	log    *trace.Log
	first  uint64 // the trial's first event
	mark   uint64 // the first event after the last step that did something
	begun  time.Time
	acted  time.Time     // when that was
	held   time.Duration // by a person since then, between steps
	missed uint64        // events that came too fast
	vars   map[string]any
	steps  []Progress
	seqs   []uint64        // the first event of each step
	at     []time.Duration // when each began

	decisive []uint64
	involved map[string]bool // clients
	topics   map[string]bool // clauses
	restore  []func()
	touched  map[string]bool
}

// Name is what a trial is called in a round, and Check the name among the checks of a proof.
func Name(t *workspace.Trial, round map[string]string) string {
	name := t.Name
	for _, l := range t.Each {
		name += fmt.Sprintf(", %s %s", l.Name, round[l.Name])
	}
	return name
}

// Check is a trial as a check.
func Check(t *workspace.Trial, round map[string]string) *proof.Check {
	var b strings.Builder
	for _, c := range strings.ToLower(Name(t, round)) {
		switch {
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c > 127:
			b.WriteRune(c)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return &proof.Check{Name: "trial." + strings.Trim(b.String(), "-"), Title: Name(t, round), Once: true,
		Expected: "each step, in the time that it names", Sections: proof.Same("the workspace", "the workspace")}
}

// Run carries out one round of a trial. Whatever it did to devices is taken back at its end, but for what they have
// published.
func Run(ctx context.Context, site Site, t *workspace.Trial, round map[string]string, o Options) proof.Result {
	r := &run{site: site, trial: t, round: round, o: o, log: site.Log(), begun: time.Now(), vars: map[string]any{},
		involved: map[string]bool{}, topics: map[string]bool{}, touched: map[string]bool{}}
	r.first = r.log.Next()
	r.mark, r.acted = r.first, r.begun
	for name, v := range round {
		r.vars[name] = value(v)
	}
	for _, s := range t.Steps {
		r.steps = append(r.steps, Progress{Text: r.describe(s), State: Waiting})
		r.seqs, r.at = append(r.seqs, 0), append(r.at, 0)
	}
	r.tell()
	err := r.all(ctx)
	for _, back := range slices.Backward(r.restore) {
		back()
	}
	return r.result(err)
}

// value is a loop's value in expressions: a number where it is one.
func value(s string) any {
	var n int
	if _, err := fmt.Sscanf(s, "%d", &n); err == nil && fmt.Sprint(n) == s {
		return n
	}
	return s
}

func (r *run) tell() {
	if r.o.Told != nil {
		r.o.Told(slices.Clone(r.steps))
	}
}

// all carries out the steps, up to the first that fails.
func (r *run) all(ctx context.Context) error {
	for i, s := range r.trial.Steps {
		if r.o.Before != nil {
			waited := time.Now()
			if err := r.o.Before(ctx, i); err != nil {
				return proof.Undecide("stopped before step %d", i+1)
			}
			r.held += time.Since(waited)
		}
		if ctx.Err() != nil {
			return proof.Undecide("stopped before step %d", i+1)
		}
		start := time.Now()
		r.seqs[i], r.at[i] = r.log.Next(), start.Sub(r.begun)
		r.steps[i].State = UnderWay
		r.tell()
		seen, err := r.step(ctx, s)
		r.steps[i].Took = time.Since(start)
		if r.steps[i].State, r.steps[i].Seen = Done, seen; err != nil {
			r.steps[i].State, r.steps[i].Seen = Failed, outcome(err)
		}
		r.tell()
		if ctx.Err() != nil {
			return proof.Undecide("stopped in step %d", i+1)
		}
		if err != nil {
			return stepError{i + 1, err}
		}
	}
	return nil
}

// stepError says in which step a trial ended.
type stepError struct {
	number int
	err    error
}

func (e stepError) Error() string { return fmt.Sprintf("step %d: %s", e.number, outcome(e.err)) }
func (e stepError) Unwrap() error { return e.err }

// outcome is what an error says, without its verdict.
func outcome(err error) string {
	text := err.Error()
	for _, v := range proof.Verdicts {
		text = strings.TrimPrefix(text, string(v)+": ")
	}
	return text
}

// result turns what came of the steps into a verdict.
func (r *run) result(err error) proof.Result {
	out := proof.Result{
		Check:   Check(r.trial, r.round),
		At:      r.begun,
		Took:    time.Since(r.begun),
		Verdict: proof.VerdictOf(err),
	}
	out.Expected = out.Check.Expected
	var in stepError
	switch {
	case errors.As(err, &in):
		out.Seen = in.Error()
		out.Expected = r.steps[in.number-1].Text
	case err != nil:
		out.Seen = outcome(err)
	default:
		out.Seen = fmt.Sprintf("all %d steps", len(r.steps))
	}
	for i, s := range r.steps {
		if r.seqs[i] == 0 {
			continue
		}
		text := s.Text
		if s.Seen != "" {
			text += ": " + s.Seen
		}
		out.Steps = append(out.Steps, proof.Step{At: r.at[i], Seq: r.seqs[i], Text: text})
	}
	if r.trial.Note != "" {
		out.Notes = append(out.Notes, r.trial.Note)
	}
	r.evidence(&out)
	return out
}

// mostEvidence is how many events a trial keeps.
const mostEvidence = 2000

// evidence keeps what concerns the trial: the connections of the devices that it names, and the messages of its
// clauses.
func (r *run) evidence(out *proof.Result) {
	at := r.first
	for {
		events, _ := r.log.Read(at, 1000)
		if len(events) == 0 {
			break
		}
		for i := range events {
			if e := &events[i]; r.concerns(e) && len(out.Evidence) < mostEvidence {
				out.Evidence = append(out.Evidence, *e)
				if !slices.Contains(out.Clients, e.Client) {
					out.Clients = append(out.Clients, e.Client)
				}
			}
		}
		at = events[len(events)-1].Seq + 1
	}
	for _, seq := range r.decisive {
		if slices.ContainsFunc(out.Evidence, func(e trace.Event) bool { return e.Seq == seq }) {
			out.Decisive = append(out.Decisive, seq)
		}
	}
	slices.Sort(out.Decisive)
	out.Decisive = slices.Compact(out.Decisive)
}

// concerns tells whether an event is about the trial.
func (r *run) concerns(e *trace.Event) bool {
	if e.Own() && e.Role != trace.RoleObserver {
		return false
	}
	if m := e.Publish(); m != nil {
		for name := range r.topics {
			if cl := r.site.Contract().Clause(name); cl != nil && cl.Topic.Values(e.Topic()) != nil {
				return true
			}
		}
		return false
	}
	if !r.involved[e.Client] {
		return false
	}
	if e.Packet == nil {
		return true
	}
	switch e.Packet.Type() {
	case packet.CONNECT, packet.CONNACK, packet.DISCONNECT:
		return true
	}
	return false
}
