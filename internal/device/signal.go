package device

import (
	"math"
	"math/rand/v2"
	"time"

	"hodstone/internal/workspace"
)

// historyLength is how many samples a signal keeps: a minute at two a second.
const historyLength = 120

// signal is a value at work.
type signal struct {
	def     workspace.Signal
	value   any
	held    bool // set by hand or by a reaction: the wave no longer moves it
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
	}
	return s
}

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
	if s.held {
		return
	}
	d := s.def
	turn := since.Seconds()/d.Period.Seconds() + phase
	noise := d.Noise * (2*r.Float64() - 1)
	switch d.Wave {
	case "sine":
		s.value = d.Mean + d.Swing*math.Sin(2*math.Pi*turn) + noise
	case "ramp":
		_, part := math.Modf(turn)
		s.value = d.From + (d.To-d.From)*part + noise
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

// sample adds the present value to the history, if it is a number.
func (s *signal) sample() {
	if f, ok := number(s.value); ok {
		if s.history = append(s.history, f); len(s.history) > historyLength {
			s.history = s.history[1:]
		}
	}
}
