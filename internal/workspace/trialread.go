package workspace

import (
	"fmt"
	"slices"
	"strconv"
)

// trialReading is a trial with the names that its expressions may use.
type trialReading struct {
	Trial
	kept []string
}

func (t *trialReading) names(more ...string) []string {
	out := append(slices.Clone(more), t.kept...)
	for _, l := range t.Each {
		out = append(out, l.Name)
	}
	return out
}

// stepReading is a step, and what is known of its trial.
type stepReading struct {
	Step
	trial *trialReading
	loop  map[string]string // a round, for looking names up
}

// inOrder reads one of several messages.
func (l *loader) inOrder(s *stepReading, v node) {
	x := stepReading{trial: s.trial, loop: s.loop}
	sightingShape.read(l, v, "a message in order", &x)
	if len(x.Messages) == 0 || x.Messages[0].Clause == "" {
		v.fail("write {clause: …}", "a message in order has a clause")
		return
	}
	s.Messages = append(s.Messages, x.Messages...)
}

// step reads one step; nil for one that cannot be read.
func (l *loader) step(t *trialReading, v node) *Step {
	s := stepReading{trial: t, loop: t.Rounds()[0]}
	before := len(v.r.problems)
	f := stepShape.read(l, v, "a step of trial "+strconv.Quote(t.Name), &s)
	s.Line, _ = v.position()
	switch {
	case len(v.r.problems) > before:
		return nil
	case len(f) != 1:
		v.fail("begin another step with '- '", "a step is one of its keys; this one has %d", len(f))
		return nil
	}
	if !l.whole(&s, v) {
		return nil
	}
	if s.Keep != "" {
		t.kept = append(t.kept, s.Keep)
	}
	return &s.Step
}

// whole tells whether a step has what its kind needs, and says what is missing.
func (l *loader) whole(s *stepReading, v node) bool {
	about := 0
	for _, is := range []bool{s.Session != "", s.Device != "", s.Breach != "" || len(s.Messages) > 0} {
		if is {
			about++
		}
	}
	message := len(s.Messages) > 0 && s.Messages[0].Clause != ""
	switch s.Kind {
	case StepExpect:
		if s.Within == 0 {
			s.Within = defaultWithin
		}
		switch {
		case about != 1:
			v.fail(
				"write clause, in-order, session, device or breach",
				"what is expected is one thing; here are %d",
				about,
			)
		case s.Session != "" && s.State == "":
			v.fail("write state: connected, lost or off", "the session's state is missing")
		case s.Device != "" && s.Where == nil:
			v.fail("write where: an expression of its signals", "what is expected of %s is missing", s.Device)
		case s.NotBefore >= s.Within:
			v.fail("", "not-before is %s, and within %s: nothing can come between", s.NotBefore, s.Within)
		case s.Breach == "" && len(s.Messages) > 0 && !message:
			v.fail("write clause: …", "the message that is expected has no clause")
		default:
			return true
		}
	case StepNever:
		if s.Wait == 0 {
			s.Wait = defaultWithin
		}
		if s.Breach == "" && !message {
			v.fail("write clause: … or breach: any", "what must not come is missing")
			return false
		}
		return true
	case StepSend:
		if !message {
			v.fail("write clause: …", "what is sent has no clause")
			return false
		}
		cl := l.w.Contract.Clause(s.Messages[0].Clause)
		for _, name := range cl.Topic.Parameters() {
			if s.Messages[0].Parameters[name] == "" {
				v.fail(
					fmt.Sprintf("add parameters: {%s: …}", name),
					"the topic of %s has {%s}, which has no value here",
					cl.Name,
					name,
				)
				return false
			}
		}
		if s.Payload == nil && len(cl.Examples) == 0 {
			v.fail("add payload: …", "clause %s has no example to be sent", cl.Name)
			return false
		}
		return true
	case StepSlow:
		if s.Delay == 0 && s.Rate == 0 {
			v.fail("write {device: …, delay: 200ms}", "a slow link has a delay or a rate")
			return false
		}
		return true
	default:
		return true
	}
	return false
}

// setStep reads {device: pen-2, oxygen: 5.1}.
func (l *loader) setStep(s *stepReading, v node) {
	entries := v.entries("set")
	i := slices.IndexFunc(entries, func(e entry) bool { return e.key == "device" })
	if i < 0 {
		v.fail("write {device: pen-2, oxygen: 5.1}", "set says of no device which signals it sets")
		return
	}
	if s.Device = l.trialDevice(s, entries[i].value); s.Device == "" {
		return
	}
	known := l.signalNames(s)
	for _, e := range entries {
		if e.key == "device" {
			continue
		}
		if !slices.Contains(known, e.key) {
			e.at.fail(suggest(e.key, known), "device %s has no signal %q", s.Device, e.key)
			continue
		}
		s.Set = append(s.Set, Assignment{e.key, l.template(e.value, e.value.ordered(), s.trial.names())})
	}
	if len(entries) == 1 {
		v.fail("write {device: pen-2, oxygen: 5.1}", "set sets no signal")
	}
}

// trialDevice reads the name of a device, which may have {parameters}: it has to be there in every round.
func (l *loader) trialDevice(s *stepReading, v node) string {
	name := v.str("device")
	var all []string
	for _, d := range l.w.Devices {
		for n := range max(1, d.Count) {
			all = append(all, DeviceName(d, n+1))
		}
	}
	for _, round := range s.trial.Rounds() {
		if full := Fill(name, round); !slices.Contains(all, full) {
			v.fail(suggest(full, all), "there is no device %q", full)
			return ""
		}
	}
	return name
}

// signalNames are those of a step's device.
func (l *loader) signalNames(s *stepReading) []string {
	full := Fill(s.Device, s.loop)
	for _, d := range l.w.Devices {
		for n := range max(1, d.Count) {
			if DeviceName(d, n+1) == full {
				return names(d.Signals, func(x Signal) string { return x.Name })
			}
		}
	}
	return nil
}

// trial reads a trial.
func (l *loader) trial(v node) {
	t := trialReading{}
	t.Line, _ = v.position()
	before := len(v.r.problems)
	trialShape.read(l, v, "a trial", &t)
	if slices.ContainsFunc(l.w.Trials, func(x *Trial) bool { return x.Name == t.Name }) {
		v.fail("", "two trials are called %q", t.Name)
	}
	if len(v.r.problems) == before {
		l.w.Trials = append(l.w.Trials, &t.Trial)
	}
}
