package device

import (
	"math"
	"math/rand/v2"
	"sort"
	"time"

	"hodstone/internal/workspace"
)

// sampleEvery is how often signals move.
const sampleEvery = 500 * time.Millisecond

// historyLength is how many samples a signal keeps: a minute at two a second.
const historyLength = 120

// signal is a value at work.
type signal struct {
	def     workspace.Signal
	value   any
	held    bool // set by hand or by a reaction: the wave no longer moves it
	missing bool // it has no value for the time being
	next    time.Time
	history []float64
}

func newSignal(def workspace.Signal, now time.Time) *signal {
	s := &signal{def: def, value: def.Start, next: now.Add(def.Every)}
	switch def.Wave {
	case "walk", "counter":
		s.value, _ = number(def.Start)
	case "sine":
		s.value = def.Mean
	case "ramp":
		s.value = def.From
	case "pulse":
		s.value = false
	case "steps":
		s.value = def.Values[0]
	case "curve":
		s.value = def.Curve.Value[0]
	}
	return s
}

// seen is the value that others see: none while it is missing.
func (s *signal) seen() any {
	if s.missing {
		return nil
	}
	return s.value
}

// set gives the signal a value; a wave stands still from then on.
func (s *signal) set(v any) { s.value, s.held = v, s.def.Wave != "constant" }

func number(v any) (float64, bool) {
	switch n := v.(type) {
	case float64:
		return n, true
	case int:
		return float64(n), true
	case bool:
		if n {
			return 1, true
		}
		return 0, true
	}
	return 0, false
}

// advance brings the signal to the time; phase lets devices of one kind differ.
func (s *signal) advance(now time.Time, since time.Duration, phase float64, r *rand.Rand) {
	d := s.def
	if f := d.Fault; f != nil {
		at := since % f.Every // the fault comes at the end of each round
		s.missing = f.Missing > 0 && at >= f.Every-f.Missing
		if f.Stuck > 0 && at >= f.Every-f.Stuck {
			return
		}
	}
	if s.held {
		return
	}
	turn := since.Seconds()/d.Period.Seconds() + phase
	noise := d.Noise * (2*r.Float64() - 1)
	switch d.Wave {
	case "sine":
		s.value = d.Mean + d.Swing*math.Sin(2*math.Pi*turn) + noise
	case "pulse":
		at := since + time.Duration(phase*float64(d.Every))
		s.value = at%d.Every >= d.Every-d.Pulse
	case "ramp":
		_, part := math.Modf(turn)
		s.value = d.From + (d.To-d.From)*part + noise
	case "steps":
		s.value = d.Values[int(since/d.Every)%len(d.Values)]
	case "curve":
		s.value = along(d.Curve, since, d.Line)
	case "walk", "counter":
		for !now.Before(s.next) {
			s.next = s.next.Add(d.Every)
			v, _ := number(s.value)
			if d.Wave == "counter" {
				s.value = v + d.Step
				continue
			}
			v += d.Step * (2*r.Float64() - 1)
			if d.Minimum != nil {
				v = max(v, *d.Minimum)
			}
			if d.Maximum != nil {
				v = min(v, *d.Maximum)
			}
			s.value = v
		}
	}
}

// along is the value of a curve at a time; it begins again at its end.
func along(c *workspace.Curve, at time.Duration, line bool) any {
	if n := c.Length(); n > 0 {
		at %= n
	}
	i := max(0, sort.Search(len(c.At), func(i int) bool { return c.At[i] > at })-1)
	if line && i+1 < len(c.At) {
		from, ok1 := c.Value[i].(float64)
		to, ok2 := c.Value[i+1].(float64)
		if ok1 && ok2 {
			return from + (to-from)*float64(at-c.At[i])/float64(c.At[i+1]-c.At[i])
		}
	}
	return c.Value[i]
}

// signals are all of a device's. They move by themselves only where one is a wave: a device without
// costs no wake-ups.
type signals struct {
	idle
	d       *Device
	all     []*signal
	waves   bool
	next    time.Time
	touched bool // one was set: what is published on change has to look, soon; guarded by the device's lock
}

func newSignals(d *Device, defs []workspace.Signal) *signals {
	s := &signals{d: d}
	for _, def := range defs {
		s.all = append(s.all, newSignal(def, d.born))
		s.waves = s.waves || def.Wave != "constant" || def.Fault != nil
	}
	return s
}

func (s *signals) named(name string) *signal {
	for _, x := range s.all {
		if x.def.Name == name {
			return x
		}
	}
	return nil
}

func (s *signals) begin(now time.Time) {
	if s.next = now; len(s.all) == 0 {
		s.next = time.Time{}
	}
}

func (s *signals) due() time.Time {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	if s.touched && s.next.IsZero() {
		s.next = s.d.opt.Clock.Now().Add(sampleEvery)
	}
	s.touched = false
	return s.next
}

func (s *signals) act(now time.Time) {
	s.d.mu.Lock()
	for _, x := range s.all {
		x.advance(now, now.Sub(s.d.born), float64(s.d.opt.Number)*0.23, s.d.rand)
	}
	s.d.env(nil) // what is derived follows
	for _, x := range s.all {
		x.sample()
	}
	s.d.mu.Unlock()
	if s.next = now.Add(sampleEvery); !s.waves {
		s.next = time.Time{}
	}
	for _, p := range s.d.pubs {
		if p.signal != nil {
			p.moved()
		}
	}
	if s.d.states != nil {
		s.d.states.moved(now)
	}
}

// sample adds the present value to the history, if it is a number.
func (s *signal) sample() {
	if f, ok := number(s.seen()); ok {
		if s.history = append(s.history, f); len(s.history) > historyLength {
			s.history = s.history[1:]
		}
	}
}
