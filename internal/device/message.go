package device

import (
	"errors"
	"fmt"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
	"hodstone/internal/workspace"
)

// changed tells whether the publication's signal has left its deadband.
func (d *Device) changed(p *publication) bool {
	if p.def.WhenChanged == "" {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.signals {
		if s.def.Name == p.def.WhenChanged {
			v, _ := number(s.value)
			if !p.seen {
				p.seen, p.last = true, v
				return false
			}
			return v != p.last && max(v-p.last, p.last-v) >= p.def.By
		}
	}
	return false
}

// env returns the names that expressions see.
func (d *Device) env(more map[string]any) map[string]any {
	env := map[string]any{"n": d.opt.Number, "payload": nil, "params": nil}
	for _, s := range d.signals {
		env[s.def.Name] = s.value
	}
	for k, v := range more {
		env[k] = v
	}
	return env
}

func (d *Device) funcs(id string) expression.Funcs {
	return expression.Funcs{
		Now: func() string { return time.Now().UTC().Format("2006-01-02T15:04:05.000Z") },
		Count: func() int {
			d.counts[id]++
			return d.counts[id] - 1
		},
		Choice: d.rand.IntN,
	}
}

// publish sends the publication's message as it is now. env holds the message that
// caused it, if any.
func (d *Device) publish(p *publication, env map[string]any) {
	m, send, err := d.message(p, env)
	if err == nil && send {
		_, err = d.client.Start(m)
	}
	if err != nil && !errors.Is(err, client.ErrNotConnected) {
		d.complain(fmt.Errorf("%s%s not published: %w", p.def.Clause, p.def.Topic, err))
	}
}

func (d *Device) message(p *publication, more map[string]any) (m packet.Publish, send bool, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	env, funcs := d.env(more), d.funcs(p.id)
	for _, s := range d.signals {
		if s.def.Name == p.def.WhenChanged {
			p.last, _ = number(s.value)
			p.seen = true
		}
	}
	if p.def.Where != nil {
		ok, err := p.def.Where.Eval(env, funcs)
		if err != nil || ok != true {
			return m, false, err
		}
	}
	m = packet.Publish{QoS: p.def.QoS, Retain: p.def.Retain, Topic: workspace.FillIn(p.def.Topic, d.opt.Number)}
	format := payload.Format("")
	if p.clause != nil {
		values := map[string]string{}
		for k, v := range d.params {
			values[k] = v
		}
		for k, t := range p.def.Parameters {
			v, err := t.Eval(env, funcs)
			if err != nil {
				return m, false, err
			}
			values[k] = fmt.Sprint(v)
		}
		if m.Topic, err = p.clause.Topic.Topic(values); err != nil {
			return m, false, err
		}
		format = p.clause.Payload.Format
	}
	if p.def.Payload != nil {
		v, err := p.def.Payload.Eval(env, funcs)
		if err != nil {
			return m, false, err
		}
		if m.Payload, err = payload.Encode(format, v); err != nil {
			return m, false, err
		}
	}
	return m, true, nil
}

// react does what a message asks for: signals are set at once, what is to be published
// is returned with the time at which it is due.
func (d *Device) react(m *packet.Publish) (out []pendingReaction) {
	for i := range d.opt.Kind.Reactions {
		r := &d.opt.Kind.Reactions[i]
		cl := d.opt.Contract.Clause(r.When)
		if cl == nil || !topic.Match(d.filter(cl), m.Topic) {
			continue
		}
		values, _ := cl.Topic.Match(m.Topic)
		params := map[string]any{}
		for i, name := range cl.Topic.Parameters() {
			params[name] = values[i]
		}
		v, err := payload.Decode(cl.Payload.Format, m.Payload)
		if err != nil {
			d.complain(fmt.Errorf("%s ignored: %w", m.Topic, err))
			continue
		}
		env := map[string]any{"payload": payload.Plain(v), "params": params}
		if due, ok := d.apply(r, env); ok {
			out = append(out, pendingReaction{due, r.Publish, env})
		}
	}
	return out
}

func (d *Device) apply(r *workspace.Reaction, more map[string]any) (due time.Time, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	env, funcs := d.env(more), d.funcs("reaction")
	if r.Where != nil {
		v, err := r.Where.Eval(env, funcs)
		if err != nil {
			d.why = err.Error()
		}
		if v != true {
			return due, false
		}
	}
	for _, s := range d.signals {
		t := r.Set[s.def.Name]
		if t == nil {
			continue
		}
		v, err := t.Eval(env, funcs)
		if err != nil {
			d.why = fmt.Sprintf("signal %s not set: %v", s.def.Name, err)
			continue
		}
		s.value, s.held = v, s.def.Wave != "constant"
	}
	wait := r.AfterMin
	if spread := r.AfterMax - r.AfterMin; spread > 0 {
		wait += time.Duration(d.rand.Int64N(int64(spread)))
	}
	return time.Now().Add(wait), true
}
