package workspace

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/expression"
)

// Signal is a value inside a device.
type Signal struct {
	Name                               string
	Wave                               string // "constant", "sine", "ramp", "walk", "counter", "pulse", "steps"; "derived", "curve"
	Start                              any
	Mean, Swing, Noise, From, To, Step float64
	Period, Every, Pulse               time.Duration
	Minimum, Maximum                   *float64
	Unit                               string
	// Values are those of steps; Is makes a derived signal of others, and Curve is one from a file.
	Values []any
	Is     *expression.Template
	Curve  *Curve
	// Line tells that a curve goes straight from one value to the next, and does not hold each.
	Line  bool
	Fault *SignalFault // nil for none
}

var waves = []string{"constant", "sine", "ramp", "walk", "counter", "pulse", "steps"}

// The kinds of signals that are no waves.
const (
	derived = "derived"
	curved  = "curve"
)

// signalReading is a signal of a device, with the keys that depend on one another.
type signalReading struct {
	Signal
	device       *Device
	file, column node
}

var signalShape = shape[signalReading]{
	"signal",
	"A value inside a device.",
	[]key[signalReading]{
		own(
			"start",
			"any",
			"The value at the start; all there is to a constant, which only a reaction or a hand changes.",
			func(_ *loader, s *signalReading, v node) { s.Start = literals(v.plain()) },
		),
		own(
			"wave",
			"string",
			"sine, ramp, walk (random), counter, pulse (true and false) or steps; constant without it.",
			func(_ *loader, s *signalReading, v node) {
				if wave, ok := v.known("wave", waves); ok && v.exists() {
					s.Wave = wave
				}
			},
		),
		own("is", "string", "In place of wave: an expression of the signals above it, such as oxygen < 5.5.",
			func(l *loader, s *signalReading, v node) {
				if v.exists() {
					s.Wave, s.Is = derived, l.condition(s.device, v)
				}
			}),
		own(
			"file",
			"string",
			"In place of wave: a CSV file beside the workspace, with a column time (seconds, 1m30s, or 2026-11-27T10:00:00Z). It begins again at its end.",
			func(_ *loader, s *signalReading, v node) {
				if v.exists() {
					s.Wave, s.file = curved, v
				}
			},
		),
		own("column", "string", "With file: the column; the signal's name without it.",
			func(_ *loader, s *signalReading, v node) { s.column = v }).only(curved),
		own("between", "string", "With file: what it is between two times, held (the value before; default) or line.",
			func(_ *loader, s *signalReading, v node) {
				what, ok := v.known("between", []string{"held", "line"})
				s.Line = ok && what == "line"
			}).only(curved),
		all(
			"values",
			"any",
			kinds([]string{"steps"}, "the values, one after the other; the first again after the last."),
			func(_ *loader, s *signalReading, v node) { s.Values = append(s.Values, literals(v.plain())) },
		).only("steps"),
		own("fault", "signal fault", "What is wrong with it, for a time, every so often.",
			func(l *loader, s *signalReading, v node) { l.signalFault(&s.Signal, v) }),
		ofWave("mean", "the middle.", func(s *signalReading) *float64 { return &s.Mean }, "sine"),
		ofWave("swing", "how far it goes to either side.", func(s *signalReading) *float64 { return &s.Swing }, "sine"),
		ofWave(
			"noise",
			"random addition of up to this much.",
			func(s *signalReading) *float64 { return &s.Noise },
			"sine",
			"ramp",
		),
		span("period", kinds([]string{"sine", "ramp"}, "one round."), true,
			func(s *signalReading) *time.Duration { return &s.Period }).only("sine", "ramp"),
		ofWave("from", "where it begins.", func(s *signalReading) *float64 { return &s.From }, "ramp"),
		ofWave("to", "where it ends and begins again.", func(s *signalReading) *float64 { return &s.To }, "ramp"),
		number("step", "walk: the largest step; counter: each step (default 1).",
			func(s *signalReading, f float64) { s.Step = f }).only("walk", "counter"),
		span(
			"every",
			kinds(
				[]string{"walk", "counter", "pulse", "steps"},
				"time between steps, or from pulse to pulse (default 1s).",
			),
			true,
			func(s *signalReading) *time.Duration { return &s.Every },
		).only("walk", "counter", "pulse", "steps"),
		span("pulse", kinds([]string{"pulse"}, "how long it is true."), true,
			func(s *signalReading) *time.Duration { return &s.Pulse }).only("pulse"),
		number("minimum", kinds([]string{"walk"}, "the lower end."),
			func(s *signalReading, f float64) { s.Minimum = &f }).only("walk"),
		number("maximum", kinds([]string{"walk"}, "the upper end."),
			func(s *signalReading, f float64) { s.Maximum = &f }).only("walk"),
		text("unit", "The unit, for people.", func(s *signalReading) *string { return &s.Unit }),
	},
}

// ofWave is a number that some waves have.
func ofWave(name, doc string, at func(*signalReading) *float64, waves ...string) key[signalReading] {
	return number(name, kinds(waves, doc), func(s *signalReading, f float64) { *at(s) = f }).only(waves...)
}

var (
	signalName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	namesInUse  = []string{"payload", "params", "n", "state", "now", "count", "round", "choice"}
	signalsHint = "use letters, digits and _; payload, params, n, state and the functions' names are taken"
)

func (l *loader) signal(d *Device, e entry) Signal {
	s := signalReading{
		device: d,
		Signal: Signal{Name: e.key, Wave: "constant", Step: 1, Every: time.Second, Period: time.Minute},
	}
	f := signalShape.read(l, e.value, "signal "+e.key, &s)
	if !signalName.MatchString(e.key) || slices.Contains(namesInUse, e.key) {
		e.at.fail(signalsHint, "%q cannot be a signal's name", e.key)
	}
	signalShape.strangers(f, s.Wave, func(k Key, v node) {
		has := append([]string{"start", "unit", "fault"}, signalShape.keysFor(s.Wave)...)
		v.fail("a "+s.Wave+" has: "+strings.Join(has, ", "), "%s does nothing for a %s", k.Name, s.Wave)
	})
	written := 0
	for _, k := range []string{"wave", "is", "file"} {
		if f[k].exists() {
			written++
		}
	}
	switch {
	case written > 1:
		e.at.fail("leave the others out", "a signal has wave, is or file, one of them")
	case s.file.exists():
		if s.Curve = l.curve(&s.Signal, s.file, s.column); s.Curve == nil {
			s.Wave = "constant"
		}
	case s.Wave == "steps" && len(s.Values) == 0:
		e.at.fail("write values: [1, 2, 5]", "steps need values")
		s.Wave = "constant"
	case s.Wave == derived && s.Is == nil:
		s.Wave = "constant"
	}
	return s.Signal
}
