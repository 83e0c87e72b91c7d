package device

import (
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// SignalState is a signal as it stands.
type SignalState struct {
	Name    string
	Wave    string
	Unit    string
	Value   any
	Held    bool
	History []float64 // two samples a second, oldest first; empty for what is no number
}

// State is a device as it stands.
type State struct {
	Name     string
	Party    string
	Note     string
	ClientID string
	Version  packet.Version
	Broker   string
	Listener string // of the broker; "" for its first
	Phase    Phase
	Since    time.Time
	Why      string    // why it is away, or its last complaint
	RetryAt  time.Time // when it tries again, while it is away
	Slowed   string    // how its link is slowed, "" if it is not
	Sent     int
	Received int
	Signals  []SignalState
	// Real is how the real one is seen that stands in its place; nil where its own packets are not seen.
	Real *Presence
	// In is the state of its state machine; "" for none. Waiting is how many messages it keeps until it is back.
	In      string
	Faults  []string // what it does wrong
	Waiting int
	// Publishes and Takes name what it can be made to send, and what it can be sent.
	Publishes []string
	Takes     []string
	Params    map[string]string
}

// Presence is whether a real device is connected, and since when it is, or is not.
type Presence struct {
	Here  bool
	Since time.Time
}

// State returns the device as it stands now.
func (d *Device) State() State {
	d.mu.Lock()
	defer d.mu.Unlock()
	k := d.opt.Kind
	s := State{
		Name:     d.name,
		Party:    k.Plays,
		Note:     k.Note,
		ClientID: workspace.FillIn(k.Session.ClientID, d.opt.Number),
		Version:  k.Session.Version,
		Broker:   d.opt.Broker,
		Listener: k.Listener,
		Phase:    d.phase,
		Since:    d.since,
		Why:      d.why,
		RetryAt:  d.retryAt,
		Slowed:   d.slowed,
		Sent:     int(d.sent.Load()),
		Received: d.received,
		Params:   d.params,
	}
	s.Faults = slices.Clone(d.faults)
	if d.states != nil {
		s.In = d.states.now
	}
	if d.kept != nil {
		s.Waiting = int(d.kept.count.Load())
	}
	if d.phase != Real { // nobody knows the real one's
		for _, x := range d.signals.all {
			s.Signals = append(
				s.Signals,
				SignalState{x.def.Name, x.def.Wave, x.def.Unit, x.seen(), x.held, append([]float64(nil), x.history...)},
			)
		}
	}
	for _, p := range k.Publishes {
		s.Publishes = append(s.Publishes, p.Clause+p.Topic)
	}
	for _, r := range k.Reactions {
		s.Takes = append(s.Takes, r.When)
	}
	return s
}
