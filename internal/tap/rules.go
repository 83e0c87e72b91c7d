package tap

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/trace"
)

// Side is an end that a packet goes toward.
type Side string

// The sides.
const (
	Device Side = "device"
	Broker Side = "broker"
)

// Action is what a rule does.
type Action string

// The actions.
const (
	Delay    Action = "delay"    // By later
	Throttle Action = "throttle" // at most Rate bytes a second
	Cut      Action = "cut"      // the link is reset, both ways
	Freeze   Action = "freeze"   // nothing goes on, and nothing is closed
	Drop     Action = "drop"     // the packet is lost
	Repeat   Action = "repeat"   // Times in all
	Reorder  Action = "reorder"  // the packet comes after the next one
	Alter    Action = "alter"    // QoS, Retain or Payload of PUBLISH, Grants of CONNACK
	Split    Action = "split"    // its bytes come one by one, By apart
	Gather   Action = "gather"   // Times packets come in one piece, or fewer where no more come for By
	Refuse   Action = "refuse"   // CONNECT is answered by Code, and does not reach the broker
)

// Actions lists them.
func Actions() []Action {
	return []Action{Delay, Throttle, Cut, Freeze, Drop, Repeat, Reorder, Alter, Split, Gather, Refuse}
}

// Rule disturbs what goes through. What is left out fits everything.
type Rule struct {
	Name   string // for people; what it does without one
	Do     Action
	Type   packet.Type // 0 for all
	Toward Side
	Client string // a pattern of names, such as pen-*
	Topic  string // a filter
	// Nth lets it act on every so many-th packet that it fits, 0 and 1 on each; Most on so many in all, 0 for any number;
	// For ends it so long after it was switched on, 0 for never.
	Nth, Most int
	For       time.Duration

	By      time.Duration
	Rate    int
	Times   int
	QoS     *packet.QoS
	Retain  *bool
	Payload *string
	Code    packet.ReasonCode
	// Dup marks the copies of Repeat as such (§3.3.1.1): what has a packet identifier comes as sent again.
	Dup bool
	// Grants are properties that CONNACK has in place of its own (5.0 §3.2.2.3).
	Grants packet.Properties
}

// String says what it does, on a line.
func (r *Rule) String() string {
	if r.Name != "" {
		return r.Name
	}
	s := string(r.Do)
	if r.Type != 0 {
		s += " " + r.Type.String()
	}
	if r.Toward != "" {
		s += " toward the " + string(r.Toward)
	}
	if r.Client != "" {
		s += " of " + r.Client
	}
	if r.Topic != "" {
		s += " on " + r.Topic
	}
	if r.Nth > 1 {
		s += fmt.Sprintf(", one of %d", r.Nth)
	}
	switch {
	case r.By > 0:
		s += " by " + r.By.String()
	case r.Rate > 0:
		s += fmt.Sprintf(" to %d B/s", r.Rate)
	case r.Times > 0:
		s += fmt.Sprintf(" %d times", r.Times)
	case len(r.Grants) > 0:
		var all []string
		for _, p := range r.Grants {
			all = append(all, fmt.Sprintf("%s %d", p.ID, p.Int))
		}
		s += ": " + strings.Join(all, ", ")
	}
	return s
}

// rule is a rule at work.
type rule struct {
	Rule
	since time.Time

	mu    sync.Mutex // guards what follows
	met   int
	acted int
	free  map[*direction]time.Time // when a throttled way is free again
}

// State is a rule with how often it acted.
type State struct {
	Rule
	Acted int
	Over  bool
}

// Set switches rules on, in place of those that were on.
func (t *Tap) Set(rules ...Rule) {
	now := time.Now()
	t.mu.Lock()
	t.rules = nil
	for _, r := range rules {
		t.rules = append(t.rules, &rule{Rule: r, since: now, free: map[*direction]time.Time{}})
	}
	all := t.allLocked()
	t.mu.Unlock()
	for _, x := range all {
		x.thaw()
	}
}

// Rules returns the rules as they stand.
func (t *Tap) Rules() (out []State) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range t.rules {
		r.mu.Lock()
		out = append(out, State{r.Rule, r.acted, r.over()})
		r.mu.Unlock()
	}
	return out
}

func (r *rule) over() bool {
	return r.For > 0 && time.Since(r.since) >= r.For || r.Most > 0 && r.acted >= r.Most
}

// ruled tells whether there are rules.
func (t *Tap) ruled() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.rules) > 0
}

// fits tells whether the rule acts on a packet.
func (r *rule) fits(d *direction, name string, p packet.Packet, about string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.over(),
		r.Toward != "" && r.Toward != d.toward,
		r.Type != 0 && (p == nil || p.Type() != r.Type),
		r.Topic != "" && (about == "" || !topic.Match(r.Topic, about)):
		return false
	case r.Client != "":
		if ok, _ := path.Match(r.Client, name); !ok {
			return false
		}
	}
	if r.met++; r.Nth > 1 && r.met%r.Nth != 0 {
		return false
	}
	r.acted++
	return true
}

// ruledOn lets the rules act on a packet, and passes on what they leave of it. Both sides are recorded where they differ.
func (d *direction) ruledOn(raw []byte) error {
	x := d.x
	x.mu.Lock()
	p, broken := d.decode(raw)
	own := d.event(p, raw, broken, d.toward == Broker)
	about := ""
	if m, is := p.(*packet.Publish); is {
		about = m.Topic
	}
	name := x.name
	x.t.mu.Lock()
	rules := slices.Clone(x.t.rules)
	x.t.mu.Unlock()
	var acts []*rule
	for _, r := range rules {
		if r.fits(d, name, p, about) {
			acts = append(acts, r)
		}
	}
	// What the device says is recorded first, as it said it; what the broker says, as the broker said it.
	fromDevice := d.toward == Broker
	if fromDevice {
		x.rec.Add(own)
	} else if len(acts) > 0 {
		x.beyond.Add(own)
	}
	out := [][]byte{raw}
	due := time.Time{}
	for _, r := range acts {
		x.rec.Add(trace.Event{Kind: trace.Line, Text: "the tap: " + r.String()})
		x.t.announce("rule", "%s: %s", name, r)
	}
	x.mu.Unlock()
	for _, r := range acts {
		var err error
		if out, due, err = d.do(r, out, due); err != nil {
			d.cut = r.String()
			return err
		}
	}
	x.mu.Lock()
	if _, is := p.(*packet.Publish); is && fromDevice && len(acts) > 0 && len(out) == 0 {
		x.beyond.Add(trace.Event{Kind: trace.Line, Text: trace.TapKeeps})
	}
	for _, b := range out {
		switch {
		case fromDevice && len(acts) > 0:
			q, broken := d.decode(b)
			x.beyond.Add(d.event(q, b, broken, true))
		case !fromDevice:
			q, broken := d.decode(b)
			x.rec.Add(d.event(q, b, broken, false))
		}
	}
	x.mu.Unlock()
	if err := d.leave(acts, out, due); err != nil {
		return err
	}
	return d.late()
}

// The times of split and gather where a rule names none.
const (
	splitBy  = time.Millisecond
	gatherBy = 100 * time.Millisecond
)

// leave writes what the rules left of a packet: as it is, byte by byte, or with those that follow.
func (d *direction) leave(acts []*rule, out [][]byte, due time.Time) error {
	for _, r := range acts {
		switch r.Do {
		case Split:
			by := cmp.Or(r.By, splitBy)
			if due.IsZero() {
				due = time.Now()
			}
			for _, b := range out {
				for i := range b {
					if err := d.out.write(b[i:i+1], due); err != nil {
						return err
					}
					due = due.Add(by)
				}
			}
			return nil
		case Gather:
			for _, b := range out {
				d.gathered = append(d.gathered, b...)
				d.gathers++
			}
			if r.Times > 0 && d.gathers >= r.Times {
				return d.gatherEnds()
			}
			if d.gathering == nil {
				d.gathering = time.AfterFunc(cmp.Or(r.By, gatherBy), func() {
					d.mu.Lock()
					defer d.mu.Unlock()
					d.gatherEnds()
				})
			}
			return nil
		}
	}
	if err := d.gatherEnds(); err != nil { // what was kept back comes first
		return err
	}
	for _, b := range out {
		if err := d.out.write(b, due); err != nil {
			return err
		}
	}
	return nil
}

// gatherEnds writes what was gathered, in one piece; d.mu is held.
func (d *direction) gatherEnds() error {
	if d.gathering != nil {
		d.gathering.Stop()
		d.gathering = nil
	}
	all := d.gathered
	d.gathered, d.gathers = nil, 0
	if len(all) == 0 {
		return nil
	}
	return d.out.write(all, time.Time{})
}

// errCut ends a way that a rule cuts.
var errCut = fmt.Errorf("cut by a rule")

// do lets a rule act on what there is to be passed on.
func (d *direction) do(r *rule, out [][]byte, due time.Time) ([][]byte, time.Time, error) {
	switch r.Do {
	case Delay:
		if at := time.Now().Add(r.By); at.After(due) {
			due = at
		}
	case Throttle:
		n := 0
		for _, b := range out {
			n += len(b)
		}
		r.mu.Lock()
		at := r.free[d]
		if now := time.Now(); at.Before(now) {
			at = now
		}
		at = at.Add(time.Duration(float64(n) / float64(max(1, r.Rate)) * float64(time.Second)))
		r.free[d] = at
		r.mu.Unlock()
		if at.After(due) {
			due = at
		}
	case Cut:
		return nil, due, errCut
	case Freeze:
		d.out.freeze(true)
		d.other.out.freeze(true)
		if r.For > 0 {
			time.AfterFunc(max(0, time.Until(r.since.Add(r.For))), d.x.thaw)
		}
	case Drop:
		return nil, due, nil
	case Repeat:
		var all [][]byte
		for i := range max(2, r.Times) {
			for _, b := range out {
				if i > 0 && r.Dup {
					b = again(b)
				}
				all = append(all, b)
			}
		}
		return all, due, nil
	case Reorder:
		d.kept = append(d.kept, out...)
		d.keep = 2 // it goes behind the next packet, and this is one too
		return nil, due, nil
	case Alter:
		for i, b := range out {
			out[i] = d.altered(r, b)
		}
	case Refuse:
		return nil, due, d.refused(r)
	}
	return out, due, nil
}

// again is a PUBLISH with a packet identifier with its DUP flag set (§3.3.1.1); other packets have none.
func again(raw []byte) []byte {
	const qosBits, dupBit = 0x06, 0x08
	if packet.Type(raw[0]>>4) != packet.PUBLISH || raw[0]&qosBits == 0 {
		return raw
	}
	b := slices.Clone(raw)
	b[0] |= dupBit
	return b
}

// late passes on what a rule kept back for the next packet.
func (d *direction) late() error {
	if d.keep > 0 {
		d.keep--
	}
	if d.keep > 0 || len(d.kept) == 0 {
		return nil
	}
	kept := d.kept
	d.kept = nil
	for _, b := range kept {
		d.x.mu.Lock()
		q, broken := d.decode(b)
		if d.toward == Device {
			d.x.rec.Add(d.event(q, b, broken, false))
		} else {
			if _, is := q.(*packet.Publish); is {
				d.x.beyond.Add(trace.Event{Kind: trace.Line, Text: trace.TapLetsGo})
			}
			d.x.beyond.Add(d.event(q, b, broken, true))
		}
		d.x.mu.Unlock()
		if err := d.out.write(b, time.Time{}); err != nil {
			return err
		}
	}
	return nil
}

// altered changes a PUBLISH, or what a CONNACK grants.
func (d *direction) altered(r *rule, raw []byte) []byte {
	d.x.mu.Lock()
	p, _ := d.decode(raw)
	v := d.version
	if d.toward == Device {
		v = d.other.version
	}
	d.x.mu.Unlock()
	if a, is := p.(*packet.Connack); is && v == packet.V5 && len(r.Grants) > 0 {
		q := *a
		for _, x := range r.Grants {
			q.Properties = q.Properties.Without(x.ID)
		}
		q.Properties = append(slices.Clone(q.Properties), r.Grants...)
		return q.Append(nil, v)
	}
	m, is := p.(*packet.Publish)
	if !is || len(r.Grants) > 0 {
		return raw
	}
	q := *m
	if r.QoS != nil {
		if q.QoS = *r.QoS; q.QoS == 0 {
			q.ID, q.Dup = 0, false
		} else if q.ID == 0 {
			q.ID = 1
		}
	}
	if r.Retain != nil {
		q.Retain = *r.Retain
	}
	if r.Payload != nil {
		q.Payload = []byte(*r.Payload)
	}
	return q.Append(nil, v)
}

// refused answers CONNECT in the broker's place.
func (d *direction) refused(r *rule) error {
	if d.toward != Broker {
		return nil
	}
	d.x.mu.Lock()
	v := d.version
	raw := (&packet.Connack{Code: r.Code}).Append(nil, v)
	q, broken := d.other.decode(raw)
	d.x.rec.Add(d.event(q, raw, broken, false))
	d.x.mu.Unlock()
	d.other.out.write(raw, time.Time{})
	d.refuses = true
	return errCut
}

// thaw lets go what was frozen.
func (x *through) thaw() {
	x.mu.Lock()
	up, down := x.up, x.down
	x.mu.Unlock()
	for _, d := range []*direction{up, down} {
		if d != nil && d.out != nil {
			d.out.freeze(false)
		}
	}
}
