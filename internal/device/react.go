package device

import (
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
	"hodstone/internal/workspace"
)

// reaction does what messages of a clause ask for: signals are set at once, what is to be
// published may take its time.
type reaction struct {
	idle
	d       *Device
	def     *workspace.Reaction
	clause  *contract.Clause
	filter  string
	waiting []answer
}

// answer is what is to be published, and the message that asked for it.
type answer struct {
	due time.Time
	env map[string]any
}

// newReaction returns a reaction, or nil where its clause is broken: that is told already.
func newReaction(d *Device, def *workspace.Reaction) *reaction {
	cl := d.opt.Contract.Clause(def.When)
	if cl == nil {
		return nil
	}
	return &reaction{d: d, def: def, clause: cl, filter: cl.Topic.Fill(d.params)}
}

func (r *reaction) filters() []packet.Subscription {
	return []packet.Subscription{{Filter: r.filter, QoS: max(1, qosOf(r.clause))}}
}

// begin forgets what was asked for over a link that is gone.
func (r *reaction) begin(time.Time) { r.waiting = nil }

func (r *reaction) message(m *packet.Publish, now time.Time) {
	if !topic.Match(r.filter, m.Topic) {
		return
	}
	values, _ := r.clause.Topic.Match(m.Topic)
	params := map[string]any{}
	for i, name := range r.clause.Topic.Parameters() {
		params[name] = values[i]
	}
	v, err := r.clause.Payload.Code().Decode(m.Payload)
	if err != nil {
		r.d.complain(fmt.Errorf("%s ignored: %w", m.Topic, err))
		return
	}
	env := map[string]any{"payload": payload.Plain(v), "params": params}
	if wait, ok := r.apply(env); ok {
		r.waiting = append(r.waiting, answer{now.Add(wait), env})
	}
}

// apply sets the signals that the message changes, and tells how long an answer takes; not ok if
// the reaction does not heed the message.
func (r *reaction) apply(more map[string]any) (wait time.Duration, ok bool) {
	d := r.d
	d.mu.Lock()
	defer d.mu.Unlock()
	env, funcs := d.env(more), d.funcs("reaction")
	if r.def.Where != nil {
		v, err := r.def.Where.Eval(env, funcs)
		if err != nil {
			d.why = err.Error()
		}
		if v != true {
			return 0, false
		}
	}
	for _, s := range d.signals.all {
		t := r.def.Set[s.def.Name]
		if t == nil {
			continue
		}
		v, err := t.Eval(env, funcs)
		if err != nil {
			d.why = fmt.Sprintf("signal %s not set: %v", s.def.Name, err)
			continue
		}
		s.set(v)
		d.signals.touched = true
	}
	wait = r.def.AfterMin
	if spread := r.def.AfterMax - r.def.AfterMin; spread > 0 {
		wait += time.Duration(d.rand.Int64N(int64(spread)))
	}
	return wait, true
}

func (r *reaction) due() (at time.Time) {
	for _, a := range r.waiting {
		if at.IsZero() || a.due.Before(at) {
			at = a.due
		}
	}
	return at
}

func (r *reaction) act(now time.Time) {
	rest := r.waiting[:0]
	for _, a := range r.waiting {
		if now.Before(a.due) {
			rest = append(rest, a)
			continue
		}
		for _, name := range r.def.Publish {
			for _, p := range r.d.pubs {
				if p.def.Clause == name {
					p.publish(a.env)
				}
			}
		}
	}
	r.waiting = rest
}
