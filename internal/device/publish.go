package device

import (
	"errors"
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/workspace"
)

// publication is a message that the device publishes: on a timer, when its signal has left its
// deadband, or when it is asked for.
type publication struct {
	idle
	d      *Device
	def    *workspace.Publication
	id     string           // for count()
	clause *contract.Clause // nil for a topic of its own
	next   time.Time        // zero: not on a timer
	signal *signal          // of when-changed; nil for none
	last   float64          // of that signal, when last sent
	seen   bool
}

func newPublication(d *Device, def *workspace.Publication, id string) *publication {
	p := &publication{d: d, def: def, id: id}
	if def.Clause != "" {
		p.clause = d.opt.Contract.Clause(def.Clause)
	}
	if def.WhenChanged != "" {
		p.signal = d.signals.named(def.WhenChanged)
	}
	return p
}

// begin sets the timer, so that devices of one kind do not all speak at once.
func (p *publication) begin(now time.Time) {
	p.next = time.Time{}
	if p.def.Every > 0 {
		p.d.mu.Lock()
		p.next = now.Add(time.Duration(p.d.rand.Int64N(int64(min(p.def.Every, firstWithin)))))
		p.d.mu.Unlock()
	}
	if p.def.UponConnect {
		p.publish(nil)
	}
}

func (p *publication) due() time.Time { return p.next }

func (p *publication) act(now time.Time) {
	for range max(1, p.def.Burst) {
		p.publish(nil)
	}
	p.next = now.Add(p.def.Every)
}

// moved publishes if the signal has left the deadband.
func (p *publication) moved() {
	p.d.mu.Lock()
	v, is := number(p.signal.seen())
	if !is && p.signal.missing { // nothing is known of it
		p.d.mu.Unlock()
		return
	}
	first := !p.seen
	if first {
		p.seen, p.last = true, v
	}
	changed := !first && v != p.last && max(v-p.last, p.last-v) >= p.def.By
	if p.def.Edge != "" {
		changed = !first && turned(p.last, v, p.def.Edge)
		p.last = v
	}
	p.d.mu.Unlock()
	if changed {
		p.publish(nil)
	}
}

// publish sends the message as it is now. env holds the message that caused it, if any.
func (p *publication) publish(env map[string]any) {
	m, send, err := p.compose(env)
	if err == nil && send {
		for range p.d.misled(&m) {
			_, err = p.d.client.Start(m)
		}
		if k := p.d.kept; k != nil && errors.Is(err, client.ErrNotConnected) {
			k.put(m)
		}
	}
	if err != nil && !errors.Is(err, client.ErrNotConnected) {
		p.d.complain(fmt.Errorf("%s%s not published: %w", p.def.Clause, p.def.Topic, err))
	}
}

// most lowers a QoS to what the device can do.
func (d *Device) most(qos packet.QoS) packet.QoS {
	if most := d.opt.Kind.Session.MaxQoS; most != nil {
		qos = min(qos, *most)
	}
	return qos
}

// publishAll publishes what stands under some clauses, now.
func (d *Device) publishAll(clauses []string, env map[string]any) {
	for _, name := range clauses {
		for _, p := range d.pubs {
			if p.def.Clause == name {
				p.publish(env)
			}
		}
	}
}

// compose makes the message, unless its condition is against sending it.
func (p *publication) compose(more map[string]any) (m packet.Publish, send bool, err error) {
	d := p.d
	d.mu.Lock()
	defer d.mu.Unlock()
	env, funcs := d.env(more), d.funcs(p.id)
	for _, s := range d.signals.all {
		if s.missing && (p.signal == s || p.def.Payload.Reads(s.def.Name) || p.def.Where.Reads(s.def.Name)) {
			return m, false, nil // nobody has measured it
		}
	}
	if p.signal != nil {
		p.last, _ = number(p.signal.value)
		p.seen = true
	}
	if p.def.Where != nil {
		ok, err := p.def.Where.Eval(env, funcs)
		if err != nil || ok != true {
			return m, false, err
		}
	}
	m = packet.Publish{QoS: d.most(p.def.QoS), Retain: p.def.Retain, Topic: workspace.FillIn(p.def.Topic, d.opt.Number)}
	code := payload.Of("")
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
		code = p.clause.Payload.Code()
	}
	if p.def.Payload != nil {
		v, err := p.def.Payload.Eval(env, funcs)
		if err != nil {
			return m, false, err
		}
		if m.Payload, err = code.Encode(d.misread(v)); err != nil {
			return m, false, err
		}
	}
	return m, true, nil
}

// Compose makes a message of a clause as the device's signals stand now, without being on: for who sends it otherwise.
func (d *Device) Compose(clause string) (packet.Publish, error) {
	for _, p := range d.pubs {
		if p.def.Clause != clause {
			continue
		}
		d.signals.act(d.opt.Clock.Now())
		m, send, err := p.compose(nil)
		if err == nil && !send {
			err = fmt.Errorf("its condition is against sending it now")
		}
		return m, err
	}
	return packet.Publish{}, fmt.Errorf("it publishes no %s", clause)
}
