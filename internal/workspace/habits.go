package workspace

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
)

// Coming is how a device comes, stays and returns.
type Coming struct {
	// AfterMin and AfterMax are how long it takes to begin, once it is switched on.
	AfterMin, AfterMax time.Duration
	// AgainMin and AgainMax are how long it waits before it tries again; both 0 for longer and longer.
	AgainMin, AgainMax time.Duration
	// Never tells that it does not come again by itself.
	Never bool
	// Stays is how long it is in before it says DISCONNECT; 0 for good. Returns is how long it is away then; 0 for good.
	Stays, Returns time.Duration
}

// Offline is what a device does with what it would publish while it is away.
type Offline struct {
	Keep   int  // messages; 0 for none
	Newest bool // what does not fit any more is dropped; else the oldest
}

// Timepiece is the clock of a device, as its expressions see it.
type Timepiece struct {
	Starts time.Time // where it begins when the device is switched on; zero for the right time
	Drift  float64   // parts that it is fast, such as 20e-6; negative for slow
	Told   string    // the clause whose messages set it; "" for none
}

// States are a state machine of a device.
type States struct {
	First string
	All   []DeviceState
}

// DeviceState is a state of a device.
type DeviceState struct {
	Name string
	// Publish names the clauses that are published when it is entered, and Set the signals that it sets.
	Publish []string
	Set     map[string]*expression.Template
	// After is how long it lasts at most, and To what follows then; 0 and "" for no bound.
	After time.Duration
	To    string
	Upon  []Transition
}

// Transition is a way from one state to another: upon a message, or upon a signal.
type Transition struct {
	When   string               // a clause; "" for a signal
	Where  *expression.Template // of the message; nil for any
	Signal string
	Edge   Edge
	To     string
}

// SignalFault is what is wrong with a signal, for a time, every so often.
type SignalFault struct {
	Stuck, Missing, Every time.Duration
}

// Curve is a signal's values over time, from a file.
type Curve struct {
	At    []time.Duration // since its beginning, rising
	Value []any
}

// Length is after which time it begins again: that of its last value and the step before it.
func (c *Curve) Length() time.Duration {
	n := len(c.At)
	if n < 2 {
		return 0
	}
	return c.At[n-1] + c.At[n-1] - c.At[n-2]
}

// maxCurve is how many values a file of a signal has at most.
const maxCurve = 200_000

var comingShape = shape[Coming]{
	"connecting",
	"How a device comes, stays and returns.",
	[]key[Coming]{
		own("after", "range", "How long it takes to begin, once it is switched on: 2s or 0s..5s.",
			func(_ *loader, c *Coming, v node) { c.AfterMin, c.AfterMax = v.timeSpan("after") }),
		own(
			"again",
			"range",
			"How long it waits before it tries again: 5s, 1s..60s, or never. Longer and longer without it, up to 30s.",
			func(_ *loader, c *Coming, v node) {
				if v.exists() && v.str("again") == "never" {
					c.Never = true
					return
				}
				if c.AgainMin, c.AgainMax = v.timeSpan("again"); v.exists() && c.AgainMax == 0 {
					v.fail("write 5s, 1s..60s or never", "a device that comes again at once floods its broker")
				}
			},
		),
		span(
			"stays",
			"How long it is in before it says DISCONNECT, as small devices do that sleep; for good without it.",
			true,
			func(c *Coming) *time.Duration { return &c.Stays },
		),
		span("returns", "With stays: how long it is away then; for good without it.", true,
			func(c *Coming) *time.Duration { return &c.Returns }),
	},
}

var offlineShape = shape[Offline]{
	"offline",
	"What a device does with what it would publish while it is away.",
	[]key[Offline]{
		integer("keep", "How many messages it keeps; they are sent, oldest first, when it is back.", 1, maxKept,
			func(o *Offline, n int) { o.Keep = n }).must(),
		own(
			"drop",
			"string",
			"What goes where there are more: oldest (default) or newest.",
			func(_ *loader, o *Offline, v node) {
				what, ok := v.known("drop", []string{"oldest", "newest"})
				o.Newest = ok && what == "newest"
			},
		),
	},
}

// maxKept is how many messages a device keeps at most while it is away.
const maxKept = 100_000

var timepieceShape = shape[Device]{
	"clock",
	"The clock of a device, as now() tells it.",
	[]key[Device]{
		own(
			"starts",
			"string",
			"The time that it shows when the device is switched on, such as 1970-01-01T00:00:00Z; the right one without it.",
			func(_ *loader, d *Device, v node) {
				if !v.exists() {
					return
				}
				var err error
				if d.Clock.Starts, err = time.Parse(time.RFC3339, v.str("starts")); err != nil {
					v.fail("write 1970-01-01T00:00:00Z", "%q is no time", v.str("starts"))
				}
			},
		),
		own(
			"drift",
			"string",
			"How much it is fast, in parts of a million: 20ppm; -20ppm for slow.",
			func(_ *loader, d *Device, v node) {
				if !v.exists() {
					return
				}
				text, is := strings.CutSuffix(strings.TrimSpace(v.str("drift")), "ppm")
				f, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
				if !is || err != nil || f < -500_000 || f > 500_000 {
					v.fail("write 20ppm", "%q is no drift", v.str("drift"))
					return
				}
				d.Clock.Drift = f / 1e6
			},
		),
		own(
			"told",
			"string",
			"The clause whose messages set it: a time as text, or seconds since 1970, alone or as the field at or time.",
			func(l *loader, d *Device, v node) {
				name, ok := v.known("clause", l.clauseNames())
				if !ok || !v.exists() {
					return
				}
				if cl := l.w.Contract.Clause(name); !slices.Contains(cl.To, d.Plays) {
					v.fail("add it to the clause's 'to'", "clause %s is not meant for %s", name, d.Plays)
					return
				}
				d.Clock.Told = name
			},
		),
	},
}

var signalFaultShape = shape[SignalFault]{
	"signal fault",
	"What is wrong with a signal, for a time, every so often.",
	[]key[SignalFault]{
		span("stuck", "How long it stands still.", true, func(f *SignalFault) *time.Duration { return &f.Stuck }),
		span("missing", "How long it has no value: what is made of it is not published.", true,
			func(f *SignalFault) *time.Duration { return &f.Missing }),
		span(
			"every",
			"From one time to the next.",
			true,
			func(f *SignalFault) *time.Duration { return &f.Every },
		).must(),
	},
}

func (l *loader) signalFault(s *Signal, v node) {
	if !v.exists() {
		return
	}
	var f SignalFault
	signalFaultShape.read(l, v, "the fault of signal "+s.Name, &f)
	if (f.Stuck > 0) == (f.Missing > 0) || f.Stuck+f.Missing >= f.Every {
		v.fail("write {stuck: 30s, every: 5m} or {missing: 30s, every: 5m}",
			"a signal is stuck or missing, one of them, for less than the time from one to the next")
		return
	}
	s.Fault = &f
}

// curve reads the column of a CSV file with times.
func (l *loader) curve(s *Signal, file, column node) *Curve {
	name := file.str("file")
	f, err := l.fsys.Open(name)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			file.fail("it stands beside the workspace", "there is no file %s", name)
		} else {
			file.fail("", "%s cannot be read: %v", name, err)
		}
		return nil
	}
	defer f.Close()
	r := csv.NewReader(f)
	r.Comment, r.TrimLeadingSpace, r.ReuseRecord = '#', true, true
	head, err := r.Read()
	if err != nil {
		file.fail("its first line names the columns", "%s is no CSV: %v", name, err)
		return nil
	}
	columns := slices.Clone(head)
	time, value := slices.Index(columns, "time"), slices.Index(columns, s.Name)
	if column.exists() {
		value = slices.Index(columns, column.str("column"))
	}
	if time < 0 || value < 0 {
		file.fail("it has: "+strings.Join(columns, ", "), "%s lacks the column time, or that of the signal", name)
		return nil
	}
	c := &Curve{}
	first := ""
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		line, _ := r.FieldPos(0)
		if err != nil {
			file.fail("", "%s: %v", name, err)
			return nil
		}
		if first == "" {
			first = strings.Clone(row[time])
		}
		at, err := since(row[time], first)
		if n := len(c.At); err == nil && n > 0 && at <= c.At[n-1] {
			err = fmt.Errorf("the time %s does not come after the one before", row[time])
		}
		if err != nil {
			file.fail(
				"times are seconds, durations such as 1m30s, or 2026-11-27T10:00:00Z, and rise",
				"%s, line %d: %v",
				name,
				line,
				err,
			)
			return nil
		}
		if len(c.At) == maxCurve {
			file.fail("", "%s has more than %d values", name, maxCurve)
			return nil
		}
		c.At, c.Value = append(c.At, at), append(c.Value, cell(row[value]))
	}
	if len(c.At) == 0 {
		file.fail("", "%s has no values", name)
		return nil
	}
	return c
}

// cell is a value of a CSV: a number, true or false, nothing, or text.
func cell(text string) any {
	if f, err := strconv.ParseFloat(text, 64); err == nil {
		return f
	}
	switch text {
	case "":
		return nil
	case "true", "false":
		return text == "true"
	}
	return strings.Clone(text)
}

// since reads a time of a CSV; the first is where it begins.
func since(text, first string) (time.Duration, error) {
	read := func(text string) (time.Duration, error) {
		if f, err := strconv.ParseFloat(text, 64); err == nil && f > -1e9 && f < 1e11 {
			return time.Duration(f * float64(time.Second)), nil
		}
		if d, err := time.ParseDuration(text); err == nil {
			return d, nil
		}
		if t, err := time.Parse(time.RFC3339, text); err == nil {
			return time.Duration(t.UnixNano()), nil
		}
		return 0, fmt.Errorf("%q is no time", text)
	}
	at, err := read(text)
	if err != nil {
		return 0, err
	}
	begin, err := read(first)
	return at - begin, err
}

// transitionReading is a transition of a state.
type transitionReading struct {
	Transition
	device *Device
}

var transitionShape = shape[transitionReading]{
	"transition",
	"A way from one state to another.",
	[]key[transitionReading]{
		own("when", "string", "The clause whose message leads there; it subscribes to its own instance.",
			func(l *loader, t *transitionReading, v node) { t.When = l.taken(t.device, v) }),
		own("where", "string", "With when: an expression that must be true, such as payload.run.",
			func(l *loader, t *transitionReading, v node) { t.Where = l.condition(t.device, v) }),
		own(
			"signal",
			"string",
			"In place of when: the signal that leads there.",
			func(l *loader, t *transitionReading, v node) {
				if v.exists() {
					t.Signal, _ = v.known("signal", names(t.device.Signals, func(s Signal) string { return s.Name }))
				}
			},
		),
		own(
			"edge",
			"string",
			"With signal: rising (to true; default), falling (to false) or both.",
			func(_ *loader, t *transitionReading, v node) {
				if edge, ok := v.known(
					"edge",
					[]string{string(EdgeRising), string(EdgeFalling), string(EdgeBoth)},
				); ok &&
					v.exists() {
					t.Edge = Edge(edge)
				}
			},
		),
		text("to", "The state that follows.", func(t *transitionReading) *string { return &t.To }).must(),
	},
}

// stateReading is a state of a device.
type stateReading struct {
	DeviceState
	device *Device
}

var lastsShape = shape[DeviceState]{"time of a state", "How long a state lasts at most.", []key[DeviceState]{
	span("time", "How long.", true, func(s *DeviceState) *time.Duration { return &s.After }).must(),
	text("to", "The state that follows.", func(s *DeviceState) *string { return &s.To }).must(),
}}

var stateShape = shape[stateReading]{
	"state",
	"A state of a device; its name is state in expressions.",
	[]key[stateReading]{
		all(
			"publish",
			"string",
			"The clauses that are published when it is entered.",
			func(l *loader, s *stateReading, v node) {
				if name := l.published(s.device, v); name != "" {
					s.Publish = append(s.Publish, name)
				}
			},
		),
		each(
			"set",
			"any",
			"Signals to set when it is entered; values may be expressions.",
			func(l *loader, s *stateReading, e entry) {
				if l.signalKnown(s.device, e) {
					s.Set[e.key] = l.template(e.value, e.value.ordered(), l.names(s.device, message...))
				}
			},
		),
		own(
			"after",
			"time of a state",
			"How long it lasts at most, and what follows then.",
			func(l *loader, s *stateReading, v node) {
				if v.exists() {
					lastsShape.read(l, v, "after", &s.DeviceState)
				}
			},
		),
		all("upon", "transition", "What leads to other states.", func(l *loader, s *stateReading, v node) {
			t := transitionReading{device: s.device, Transition: Transition{Edge: EdgeRising}}
			transitionShape.read(l, v, "a transition of state "+s.Name, &t)
			if (t.When == "") == (t.Signal == "") {
				v.fail("", "a transition has when or signal, one of them")
				return
			}
			s.Upon = append(s.Upon, t.Transition)
		}),
	},
}

// states reads a state machine: first, and the states by name.
func (l *loader) states(d *Device, v node) {
	if !v.exists() {
		return
	}
	m := &States{}
	d.States = m // so that expressions know state
	var first node
	targets := map[string]node{}
	for _, e := range v.entries("states") {
		if e.key == "first" {
			m.First, first = e.value.str("first"), e.value
			continue
		}
		s := stateReading{device: d, DeviceState: DeviceState{Name: e.key, Set: map[string]*expression.Template{}}}
		stateShape.read(l, e.value, "state "+e.key, &s)
		m.All = append(m.All, s.DeviceState)
		for _, t := range append(s.Upon, Transition{To: s.To}) {
			targets[t.To] = e.value
		}
	}
	all := names(m.All, func(s DeviceState) string { return s.Name })
	for to, at := range targets {
		if to != "" && !slices.Contains(all, to) {
			at.fail(suggest(to, all), "there is no state %q", to)
		}
	}
	if !slices.Contains(all, m.First) {
		at := v
		if first.exists() {
			at = first
		}
		at.fail(suggest(m.First, all), "states need first: the state that a device begins in")
		d.States = nil
	}
}

// taken reads the name of a clause that the device's party takes; "" where it is none.
func (l *loader) taken(d *Device, v node) string {
	name, ok := v.known("clause", l.clauseNames())
	if !v.exists() || !ok {
		return ""
	}
	if cl := l.w.Contract.Clause(name); !slices.Contains(cl.To, d.Plays) {
		v.fail("add it to the clause's 'to'", "clause %s is not meant for %s", name, d.Plays)
	}
	return name
}

// published reads the name of a clause that the device publishes; "" where it is none.
func (l *loader) published(d *Device, v node) string {
	name := v.str("publish")
	if v.r.unsound["clause "+name] {
		return "" // what is wrong is told already
	}
	if !slices.ContainsFunc(d.Publishes, func(p Publication) bool { return p.Clause == name }) {
		v.fail("add it to the device's publishes; without 'every' it is sent in reactions and states only",
			"device %s publishes nothing under clause %q", d.Name, name)
	}
	return name
}

// signalKnown tells whether a key names a signal of the device.
func (l *loader) signalKnown(d *Device, e entry) bool {
	known := names(d.Signals, func(s Signal) string { return s.Name })
	if !slices.Contains(known, e.key) {
		e.at.fail(suggest(e.key, known), "signal %q is not defined", e.key)
		return false
	}
	return true
}

// subscription reads what a device subscribes to otherwise than its contract says.
func (l *loader) subscription(d *Device, e entry) {
	cl := l.w.Contract.Clause(e.key)
	if cl == nil {
		e.at.fail(suggest(e.key, l.clauseNames()), "there is no clause %q", e.key)
		return
	}
	if !slices.Contains(cl.To, d.Plays) {
		e.at.fail("add it to the clause's 'to'", "clause %s is not meant for %s", e.key, d.Plays)
		return
	}
	qos := qosOrZero(cl)
	s := struct{ qos *packet.QoS }{&qos}
	subscribedShape.read(l, e.value, "the subscription to "+e.key, &s)
	d.Subscribes[e.key] = qos
}

var subscribedShape = shape[struct{ qos *packet.QoS }]{
	"subscribed",
	"How a device subscribes to a clause.",
	[]key[struct{ qos *packet.QoS }]{
		integer("qos", "The QoS that it asks for, in place of the clause's.", 0, 2,
			func(s *struct{ qos *packet.QoS }, n int) { *s.qos = packet.QoS(n) }).must(),
	},
}

func qosOrZero(cl *contract.Clause) packet.QoS {
	if cl.QoS == nil {
		return 0
	}
	return *cl.QoS
}
