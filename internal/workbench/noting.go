package workbench

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// noting holds a trial that is recorded: what is done by hand on the devices becomes its steps.
type noting struct {
	mu    sync.Mutex // guards what follows
	on    bool
	deeds []deed
}

// deed is something that was done, and the first event after it.
type deed struct {
	step expression.Object
	seq  uint64
	at   time.Time
}

// Noting tells whether a trial is recorded, and how many steps it has so far.
func (b *Bench) Noting() (on bool, steps int) {
	b.noting.mu.Lock()
	defer b.noting.mu.Unlock()
	return b.noting.on, len(b.noting.deeds)
}

// StartNoting begins to record a trial.
func (b *Bench) StartNoting() error {
	if b.Record != nil {
		return errors.New("a record has no devices to do anything with")
	}
	b.noting.mu.Lock()
	defer b.noting.mu.Unlock()
	b.noting.on, b.noting.deeds = true, nil
	return nil
}

// Did notes something that was done by hand, as the step that does it; nothing happens where no trial is recorded.
func (b *Bench) Did(kind workspace.StepKind, what any) {
	b.noting.mu.Lock()
	defer b.noting.mu.Unlock()
	if b.noting.on {
		b.noting.deeds = append(
			b.noting.deeds,
			deed{expression.Object{{Key: string(kind), Value: what}}, b.Log.Next(), time.Now()},
		)
	}
}

// StopNoting ends the recording, and writes the trial into the workspace's file, where it can be taken back. An empty
// name throws it away.
func (b *Bench) StopNoting(name string) error {
	b.noting.mu.Lock()
	deeds := b.noting.deeds
	b.noting.on = name != "" // until it is written
	b.noting.mu.Unlock()
	switch {
	case name == "":
		return nil
	case len(deeds) == 0:
		return errors.New(
			"nothing was done yet that could be a step: start, stop, cut or freeze a device, set a signal, send a message",
		)
	case slices.ContainsFunc(b.Workspace().Trials, func(t *workspace.Trial) bool { return t.Name == name }):
		return fmt.Errorf("there is a trial called %q: give it another name", name)
	}
	var steps []expression.Object
	for i, d := range deeds {
		steps = append(steps, d.step)
		until, end := b.Log.Next(), time.Now()
		if i+1 < len(deeds) {
			until, end = deeds[i+1].seq, deeds[i+1].at
		}
		followed := b.followed(d.seq, until)
		steps = append(steps, followed...)
		if pause := end.Sub(d.at).
			Round(100 * time.Millisecond); len(followed) == 0 && i+1 < len(deeds) &&
			pause >= 100*time.Millisecond {
			steps = append(steps, expression.Object{{Key: string(workspace.StepWait), Value: pause.String()}})
		}
	}
	err := b.edit(func(d *workspace.Document, w *workspace.Workspace) error {
		return d.Rewrite(func(text string) (string, error) {
			text, err := workspace.PutTrial(text, name, steps)
			if err != nil {
				return "", err
			}
			now, err := workspace.Try(w, "", text)
			if err == nil && len(now.Problems) > 0 {
				err = fmt.Errorf("line %d: %s", now.Problems[0].Line, now.Problems[0].Message)
			}
			return text, err
		})
	})
	if err == nil {
		b.noting.mu.Lock()
		b.noting.on = false
		b.noting.mu.Unlock()
	}
	return err
}

// followFactor is how much longer than it took something may take in a recorded trial.
const followFactor = 3

// followed are expectations of what an observer saw between two events: the first message of each clause without a
// cadence of its own, for those come of what was done.
func (b *Bench) followed(from, until uint64) (out []expression.Object) {
	seen := map[string]bool{}
	events, _ := b.Log.Read(from, int(until-from))
	c := b.Workspace().Contract
	var begun time.Time
	for i := range events {
		e := &events[i]
		if begun.IsZero() {
			begun = e.At
		}
		if e.Role != trace.RoleObserver || e.Kind != trace.Received || e.Publish() == nil || e.Meaning.Copied() {
			continue
		}
		cl, _ := c.Find(e.Topic())
		if cl == nil || cl.Every.Period > 0 || seen[e.Topic()] {
			continue
		}
		seen[e.Topic()] = true
		want := expression.Object{{Key: "clause", Value: cl.Name}}
		if values := cl.Topic.Values(e.Topic()); len(values) > 0 {
			parameters := expression.Object{}
			for _, name := range cl.Topic.Parameters() {
				parameters = append(parameters, expression.Member{Key: name, Value: values[name]})
			}
			want = append(want, expression.Member{Key: "parameters", Value: parameters})
		}
		if len(cl.Payload.Values) > 0 {
			want = append(
				want,
				expression.Member{Key: "where", Value: fmt.Sprintf("payload == %q", e.Publish().Payload)},
			)
		}
		within := max(time.Second, (followFactor * e.At.Sub(begun)).Round(time.Second))
		want = append(want, expression.Member{Key: "within", Value: within.String()})
		out = append(out, expression.Object{{Key: string(workspace.StepExpect), Value: want}})
	}
	return out
}
