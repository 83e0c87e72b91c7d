package device

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/client"
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
	before  *packet.Publish // the message before, where it matters
}

// answer is what is to be published, and the message that asked for it.
type answer struct {
	due time.Time
	env map[string]any
	of  *packet.Publish
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
	qos := max(1, qosOf(r.clause))
	if r.def.QoS != nil {
		qos = *r.def.QoS
	}
	return []packet.Subscription{{Filter: r.filter, QoS: r.d.asked(r.clause, qos)}}
}

// begin forgets what was asked for over a link that is gone.
func (r *reaction) begin(time.Time) { r.waiting = nil }

func (r *reaction) message(m *packet.Publish, now time.Time) {
	env, ok := r.read(m)
	if !ok {
		return
	}
	if r.def.Once {
		same := r.before != nil && r.before.Topic == m.Topic && bytes.Equal(r.before.Payload, m.Payload)
		if r.before = m; same {
			return
		}
	}
	if wait, ok := r.apply(env); ok {
		r.waiting = append(r.waiting, answer{now.Add(wait), env, m})
	}
}

// read returns the names that a message brings; false where it is not the reaction's, is not heeded, or cannot be read.
func (r *reaction) read(m *packet.Publish) (env map[string]any, ok bool) {
	if !topic.Match(r.filter, m.Topic) {
		return nil, false
	}
	if old := m.Retain && r.clause.Retain != nil &&
		!*r.clause.Retain; old &&
		!r.d.has(func(f *misdeed) bool { return f.obeysOld }) {
		return nil, false // a stored copy of what nobody was to store
	}
	values, _ := r.clause.Topic.Match(m.Topic)
	params := map[string]any{}
	for i, name := range r.clause.Topic.Parameters() {
		if p := r.d.opt.Contract.Parameters[name]; !r.def.Strangers && !p.Allows(values[i]) {
			return nil, false // such as vat 4 of 3
		}
		params[name] = values[i]
	}
	v, err := r.clause.Payload.Code().Decode(m.Payload)
	if err != nil {
		r.d.complain(fmt.Errorf("%s ignored: %w", m.Topic, err))
		return nil, false
	}
	return map[string]any{"payload": payload.Plain(v), "params": params}, true
}

// apply sets the signals that the message changes, and tells how long an answer takes; not ok if
// the reaction does not heed the message.
func (r *reaction) apply(more map[string]any) (wait time.Duration, ok bool) {
	d := r.d
	d.mu.Lock()
	defer d.mu.Unlock()
	if r.def.Where != nil {
		v, err := r.def.Where.Eval(d.env(more), d.funcs("reaction"))
		if err != nil {
			d.why = err.Error()
		}
		if v != true {
			return 0, false
		}
	}
	d.assign(r.def.Set, more)
	wait = r.def.AfterMin
	if spread := r.def.AfterMax - r.def.AfterMin; spread > 0 {
		wait += time.Duration(d.rand.Int64N(int64(spread)))
	}
	for _, f := range d.wrong {
		wait += f.late
	}
	return wait, true
}

// assign gives signals the values that they have by some names; what is nil, as a field that is missing, changes nothing.
// The lock must be held.
func (d *Device) assign(set map[string]*expression.Template, more map[string]any) {
	env, funcs := d.env(more), d.funcs("reaction")
	for _, s := range d.signals.all {
		t := set[s.def.Name]
		if t == nil {
			continue
		}
		v, err := t.Eval(env, funcs)
		switch {
		case err != nil:
			d.why = fmt.Sprintf("signal %s not set: %v", s.def.Name, err)
		case v != nil:
			s.set(v)
			d.signals.touched = true
		}
	}
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
		if r.d.has(func(f *misdeed) bool { return f.mute }) {
			continue
		}
		r.d.publishAll(r.def.Publish, a.env)
		if r.def.Echo != "" {
			r.echo(&a)
		}
	}
	r.waiting = rest
}

// echo sends the bytes of a message under another clause.
func (r *reaction) echo(a *answer) {
	cl := r.d.opt.Contract.Clause(r.def.Echo)
	if cl == nil {
		return // what is wrong with it is told already
	}
	values := map[string]string{}
	params, _ := a.env["params"].(map[string]any)
	for k, v := range params {
		values[k] = fmt.Sprint(v)
	}
	for k, v := range r.d.params {
		values[k] = v
	}
	m := packet.Publish{QoS: r.d.most(qosOf(cl)), Retain: cl.Retain != nil && *cl.Retain, Payload: a.of.Payload}
	var err error
	if m.Topic, err = cl.Topic.Topic(values); err == nil {
		_, err = r.d.client.Start(m)
	}
	if err != nil && !errors.Is(err, client.ErrNotConnected) {
		r.d.complain(fmt.Errorf("%s not echoed: %w", cl.Name, err))
	}
}
