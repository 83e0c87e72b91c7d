package workspace

import (
	"regexp"
	"slices"
	"strings"
	"time"
)

// Signal is a value inside a device.
type Signal struct {
	Name                               string
	Wave                               string // "constant", "sine", "ramp", "walk", "counter", "pulse"
	Start                              any
	Mean, Swing, Noise, From, To, Step float64
	Period, Every, Pulse               time.Duration
	Minimum, Maximum                   *float64
	Unit                               string
}

var waves = []string{"constant", "sine", "ramp", "walk", "counter", "pulse"}

var signalShape = shape[Signal]{"signal", "A value inside a device.", []key[Signal]{
	own("start", "any", "The value at the start; all there is to a constant, which only a reaction or a hand changes.",
		func(_ *loader, s *Signal, v node) { s.Start = literals(v.plain()) }),
	own("wave", "string", "sine, ramp, walk (random), counter or pulse (true and false); constant without it.",
		func(_ *loader, s *Signal, v node) {
			if wave, ok := v.known("wave", waves); ok && v.exists() {
				s.Wave = wave
			}
		}),
	ofWave("mean", "the middle.", func(s *Signal) *float64 { return &s.Mean }, "sine"),
	ofWave("swing", "how far it goes to either side.", func(s *Signal) *float64 { return &s.Swing }, "sine"),
	ofWave(
		"noise",
		"random addition of up to this much.",
		func(s *Signal) *float64 { return &s.Noise },
		"sine",
		"ramp",
	),
	span("period", kinds([]string{"sine", "ramp"}, "one round."), true,
		func(s *Signal) *time.Duration { return &s.Period }).only("sine", "ramp"),
	ofWave("from", "where it begins.", func(s *Signal) *float64 { return &s.From }, "ramp"),
	ofWave("to", "where it ends and begins again.", func(s *Signal) *float64 { return &s.To }, "ramp"),
	number("step", "walk: the largest step; counter: each step (default 1).",
		func(s *Signal, f float64) { s.Step = f }).only("walk", "counter"),
	span("every", kinds([]string{"walk", "counter", "pulse"}, "time between steps, or from pulse to pulse (default 1s)."), true,
		func(s *Signal) *time.Duration { return &s.Every }).only("walk", "counter", "pulse"),
	span("pulse", kinds([]string{"pulse"}, "how long it is true."), true,
		func(s *Signal) *time.Duration { return &s.Pulse }).only("pulse"),
	number("minimum", kinds([]string{"walk"}, "the lower end."),
		func(s *Signal, f float64) { s.Minimum = &f }).only("walk"),
	number("maximum", kinds([]string{"walk"}, "the upper end."),
		func(s *Signal, f float64) { s.Maximum = &f }).only("walk"),
	text("unit", "The unit, for people.", func(s *Signal) *string { return &s.Unit }),
}}

// ofWave is a number that some waves have.
func ofWave(name, doc string, at func(*Signal) *float64, waves ...string) key[Signal] {
	return number(name, kinds(waves, doc), func(s *Signal, f float64) { *at(s) = f }).only(waves...)
}

var (
	signalName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
	namesInUse  = []string{"payload", "params", "n", "now", "count", "round", "choice"}
	signalsHint = "use letters, digits and _; payload, params, n and the functions' names are taken"
)

func (l *loader) signal(e entry) Signal {
	s := Signal{Name: e.key, Wave: "constant", Step: 1, Every: time.Second, Period: time.Minute}
	f := signalShape.read(l, e.value, "signal "+e.key, &s)
	if !signalName.MatchString(e.key) || slices.Contains(namesInUse, e.key) {
		e.at.fail(signalsHint, "%q cannot be a signal's name", e.key)
	}
	signalShape.strangers(f, s.Wave, func(k Key, v node) {
		has := append([]string{"start", "unit"}, signalShape.keysFor(s.Wave)...)
		v.fail("a "+s.Wave+" has: "+strings.Join(has, ", "), "%s does nothing for a %s", k.Name, s.Wave)
	})
	return s
}
