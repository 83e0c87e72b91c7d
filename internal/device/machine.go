package device

import (
	"fmt"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// machine is a device's state machine: a state lasts until a message, a signal or the time leads to another.
type machine struct {
	idle
	d    *Device
	def  *workspace.States
	now  string // the state; guarded by the device's lock
	ends time.Time
	take []*reaction        // of messages that lead to another state, for their topics and payloads
	was  map[string]float64 // signals that lead to another state, when looked at last
}

// newMachine returns the state machine of the device's kind, or nil.
func newMachine(d *Device) *machine {
	def := d.opt.Kind.States
	if def == nil {
		return nil
	}
	m := &machine{d: d, def: def, was: map[string]float64{}}
	for i := range def.All {
		for k := range def.All[i].Upon {
			t := &def.All[i].Upon[k]
			if t.When == "" {
				continue
			}
			if slices.ContainsFunc(m.take, func(r *reaction) bool { return r.def.When == t.When }) {
				continue
			}
			if r := newReaction(d, &workspace.Reaction{When: t.When}); r != nil {
				m.take = append(m.take, r)
			}
		}
	}
	return m
}

func (m *machine) filters() (out []packet.Subscription) {
	for _, r := range m.take {
		out = append(out, r.filters()...)
	}
	return out
}

func (m *machine) state() *workspace.DeviceState {
	i := slices.IndexFunc(m.def.All, func(s workspace.DeviceState) bool { return s.Name == m.now })
	if i < 0 {
		return nil
	}
	return &m.def.All[i]
}

// begin enters the first state; a state lasts over connections.
func (m *machine) begin(now time.Time) {
	if m.now == "" {
		m.enter(m.def.First, nil, now)
	}
}

// enter goes to a state: signals are set, and what belongs to it is published.
func (m *machine) enter(name string, env map[string]any, now time.Time) {
	d := m.d
	d.mu.Lock()
	m.now = name
	s := m.state()
	if m.ends = (time.Time{}); s.After > 0 {
		m.ends = now.Add(s.After)
	}
	d.assign(s.Set, env)
	for _, t := range s.Upon { // an edge counts from here
		if x := d.signals.named(t.Signal); x != nil {
			m.was[t.Signal], _ = number(x.seen())
		}
	}
	d.mu.Unlock()
	d.publishAll(s.Publish, env)
}

func (m *machine) message(p *packet.Publish, now time.Time) {
	for _, r := range m.take {
		env, ok := r.read(p)
		if !ok {
			continue
		}
		s := m.state()
		if s == nil {
			return
		}
		for i := range s.Upon {
			t := &s.Upon[i]
			if t.When == r.def.When && m.holds(t, env) {
				m.enter(t.To, env, now)
				return
			}
		}
	}
}

// holds tells whether a transition heeds a message.
func (m *machine) holds(t *workspace.Transition, more map[string]any) bool {
	if t.Where == nil {
		return true
	}
	m.d.mu.Lock()
	defer m.d.mu.Unlock()
	v, err := t.Where.Eval(m.d.env(more), m.d.funcs("state"))
	if err != nil {
		m.d.why = fmt.Sprintf("state %s: %v", m.now, err)
	}
	return v == true
}

func (m *machine) due() time.Time { return m.ends }

func (m *machine) act(now time.Time) {
	if s := m.state(); s != nil && !m.ends.IsZero() {
		m.enter(s.To, nil, now)
	}
}

// moved looks whether a signal leads to another state.
func (m *machine) moved(now time.Time) {
	s := m.state()
	if s == nil {
		return
	}
	to := ""
	m.d.mu.Lock()
	for _, t := range s.Upon {
		x := m.d.signals.named(t.Signal)
		if x == nil {
			continue
		}
		is, _ := number(x.seen())
		was := m.was[t.Signal]
		m.was[t.Signal] = is
		if to == "" && turned(was, is, t.Edge) {
			to = t.To
		}
	}
	m.d.mu.Unlock()
	if to != "" {
		m.enter(to, nil, now)
	}
}

// turned tells whether a signal went over an edge.
func turned(was, is float64, edge workspace.Edge) bool {
	return (was != 0) != (is != 0) && (edge == workspace.EdgeBoth || (edge == workspace.EdgeRising) == (is != 0))
}
