package trial

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/workspace"
)

// step carries out one step, and returns what came of it.
func (r *run) step(ctx context.Context, s *workspace.Step) (seen string, err error) {
	for _, m := range s.Messages {
		r.topics[m.Clause] = true
	}
	switch s.Kind {
	case workspace.StepExpect:
		return r.expect(ctx, s)
	case workspace.StepNever:
		return r.never(ctx, s)
	case workspace.StepAsk:
		return r.ask(ctx, s)
	case workspace.StepWait:
		r.act()
		select {
		case <-time.After(s.Wait):
		case <-ctx.Done():
		}
		return "", nil
	}
	r.act()
	switch s.Kind {
	case workspace.StepSend:
		return r.send(ctx, s)
	case workspace.StepRestart:
		if err := r.site.Restart(ctx, s.Device); err != nil {
			return "", proof.Undecide("%v", err)
		}
		r.acted = time.Now() // nobody could see meanwhile
		return "it is back", nil
	case workspace.StepTap:
		return "", r.disturb(s)
	}
	return "", r.toDevice(s)
}

// disturb gives a tap other rules, up to the trial's end.
func (r *run) disturb(s *workspace.Step) error {
	t := r.site.Tap(s.Device)
	if t == nil {
		return proof.Undecide("the tap %s is not open: taps are opened with the workspace", s.Device)
	}
	if before := "tap " + s.Device; !r.touched[before] {
		r.touched[before] = true
		var old []tap.Rule
		for _, x := range t.Rules() {
			old = append(old, x.Rule)
		}
		r.restore = append(r.restore, func() { t.Set(old...) })
	}
	t.Set(s.Rules...)
	return nil
}

// act marks that something is done now: what follows counts from here.
func (r *run) act() { r.mark, r.acted, r.held, r.missed = r.log.Next(), time.Now(), 0, 0 }

// device finds a step's device, and remembers how it stood.
func (r *run) device(name string) (*device.Device, error) {
	full := workspace.Fill(name, r.round)
	d := r.site.Device(full)
	if d == nil {
		return nil, proof.Undecide("there is no device %q: was the workspace edited?", full)
	}
	r.involved[full] = true
	if r.touched[full] {
		return d, nil
	}
	r.touched[full] = true
	before := d.State()
	r.restore = append(r.restore, func() {
		now := d.State()
		if now.Phase == device.Frozen && before.Phase != device.Frozen {
			d.Thaw()
		}
		if now.Slowed != "" && before.Slowed == "" {
			d.Slow(0, 0)
		}
		switch {
		case now.Phase == device.Off && before.Phase != device.Off:
			d.Start()
		case now.Phase != device.Off && before.Phase == device.Off:
			d.Stop()
		}
	})
	return d, nil
}

// toDevice does to a device what the step says.
func (r *run) toDevice(s *workspace.Step) error {
	d, err := r.device(s.Device)
	if err != nil {
		return err
	}
	switch s.Kind {
	case workspace.StepSet:
		for _, a := range s.Set {
			v, err := r.eval(a.Value)
			if err != nil {
				return err
			}
			held := slices.ContainsFunc(
				d.State().Signals,
				func(x device.SignalState) bool { return x.Name == a.Signal && x.Held },
			)
			if err := d.Set(a.Signal, v); err != nil {
				return proof.Undecide("%v", err)
			}
			if !held {
				r.restore = append(r.restore, func() { d.Release(a.Signal) })
			}
		}
	case workspace.StepStart:
		d.Start()
	case workspace.StepStop:
		d.Stop()
	case workspace.StepCut:
		err = d.Cut()
	case workspace.StepFreeze:
		err = d.Freeze()
	case workspace.StepThaw:
		if err = d.Thaw(); err != nil && d.State().Phase != device.Frozen {
			err = nil // the link had ended meanwhile: it comes back by itself
		}
	case workspace.StepSlow:
		d.Slow(s.Delay, s.Rate)
	}
	if err != nil {
		return proof.Undecide("%v", err)
	}
	return nil
}

// funcs are the functions of a trial's expressions.
func (r *run) funcs() expression.Funcs {
	return expression.Funcs{Now: func() string { return time.Now().UTC().Format(time.RFC3339Nano) },
		Count: func() int { return 0 }, Choice: func(int) int { return 0 }}
}

// eval works an expression of the trial's variables out.
func (r *run) eval(t *expression.Template) (any, error) {
	v, err := t.Eval(r.vars, r.funcs())
	if err != nil {
		return nil, proof.Undecide("%v", err)
	}
	return v, nil
}

// send publishes a message by a device, or as Hodstone's own client.
func (r *run) send(ctx context.Context, s *workspace.Step) (string, error) {
	cl := r.site.Contract().Clause(s.Messages[0].Clause)
	if cl == nil {
		return "", proof.Undecide("there is no clause %s: was the workspace edited?", s.Messages[0].Clause)
	}
	m := packet.Publish{Topic: cl.Topic.Fill(r.filled(&s.Messages[0])), Retain: cl.Retain != nil && *cl.Retain}
	if cl.QoS != nil {
		m.QoS = *cl.QoS
	}
	if s.QoS != nil {
		m.QoS = *s.QoS
	}
	if s.Retain != nil {
		m.Retain = *s.Retain
	}
	if s.Payload == nil {
		m.Payload = cl.Examples[0].Payload
	} else {
		v, err := r.eval(s.Payload)
		if err != nil {
			return "", err
		}
		if m.Payload, err = cl.Payload.Code().Encode(v); err != nil {
			return "", proof.Undecide("the payload cannot be written as %s: %v", cl.Payload.Format, err)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if by := r.sender(s, cl); by != nil {
		name := by.State().Name
		r.involved[name] = true
		if err := by.Publish(ctx, m); err != nil {
			return "", proof.Undecide("%v", err)
		}
		return "by " + name, nil
	}
	if s.As != "" {
		return "", proof.Undecide("there is no device %q: was the workspace edited?", workspace.Fill(s.As, r.round))
	}
	if err := r.site.Publish(ctx, m); err != nil {
		return "", proof.Undecide("it could not be published: %v", err)
	}
	return "by a client of Hodstone's own", nil
}

// sendWithin bounds the flow of a message that a trial sends.
const sendWithin = 10 * time.Second

// sender is the device that publishes: the one that the step names, or one that plays the clause's party for these
// parameters.
func (r *run) sender(s *workspace.Step, cl *contract.Clause) *device.Device {
	if s.As != "" {
		return r.site.Device(workspace.Fill(s.As, r.round))
	}
	values := r.filled(&s.Messages[0])
	for _, d := range r.site.Devices() {
		if st := d.State(); st.Party == cl.From && st.Phase == device.On &&
			slices.IndexFunc(cl.Topic.Parameters(), func(name string) bool {
				return st.Params[name] != "" && st.Params[name] != values[name]
			}) < 0 {
			return d
		}
	}
	return nil
}

// filled are a sighting's parameters in this round.
func (r *run) filled(m *workspace.Sighting) map[string]string {
	out := map[string]string{}
	for name, v := range m.Parameters {
		out[name] = workspace.Fill(v, r.round)
	}
	return out
}

// ask asks a person. What came while the question stood counts as having come since.
func (r *run) ask(ctx context.Context, s *workspace.Step) (string, error) {
	if r.o.Ask == nil {
		return "", proof.Undecide("nobody is there to be asked: --answers FILE answers, or the screen")
	}
	mark, asked := r.log.Next(), time.Now()
	a, err := r.o.Ask(ctx, Question{Trial: Name(r.trial, r.round), Text: workspace.Fill(s.Ask, r.round)})
	r.mark, r.acted, r.held = mark, time.Now(), 0
	took := time.Since(asked).Round(10 * time.Millisecond)
	switch {
	case err != nil:
		return "", proof.Undecide("no answer: %v", err)
	case a.Left != "":
		return "", proof.Undecide("left out, because %s", a.Left)
	case !a.Yes:
		return "", proof.Break("answered no, after %s", took)
	}
	return fmt.Sprintf("answered yes, after %s", took), nil
}

// describe says what a step does, for people.
func (r *run) describe(s *workspace.Step) string {
	fill := func(text string) string { return workspace.Fill(text, r.round) }
	var b strings.Builder
	switch s.Kind {
	case workspace.StepSet:
		fmt.Fprintf(&b, "set %s:", fill(s.Device))
		for _, a := range s.Set {
			if v, err := a.Value.Eval(r.vars, r.funcs()); err == nil {
				fmt.Fprintf(&b, " %s %v", a.Signal, v)
			} else {
				b.WriteString(" " + a.Signal)
			}
		}
	case workspace.StepSlow:
		fmt.Fprintf(&b, "slow %s", fill(s.Device))
		if s.Delay > 0 {
			fmt.Fprintf(&b, " by %s", s.Delay)
		}
		if s.Rate > 0 {
			fmt.Fprintf(&b, " to %d bytes a second", s.Rate)
		}
	case workspace.StepTap:
		fmt.Fprintf(&b, "tap %s:", s.Device)
		for i := range s.Rules {
			b.WriteString(" " + s.Rules[i].String())
		}
		if len(s.Rules) == 0 {
			b.WriteString(" no rule")
		}
	case workspace.StepWait:
		fmt.Fprintf(&b, "wait %s", s.Wait)
	case workspace.StepAsk:
		b.WriteString("ask: " + fill(s.Ask))
	case workspace.StepSend:
		fmt.Fprintf(&b, "send %s", r.sighting(&s.Messages[0]))
	case workspace.StepExpect, workspace.StepNever:
		r.describeSight(&b, s)
	default:
		fmt.Fprintf(&b, "%s %s", s.Kind, fill(s.Device))
	}
	return b.String()
}

func (r *run) describeSight(b *strings.Builder, s *workspace.Step) {
	fmt.Fprintf(b, "%s ", s.Kind)
	switch {
	case s.Breach != "":
		fmt.Fprintf(b, "a breach, %s", s.Breach)
		if len(s.Messages) > 0 {
			b.WriteString(" of " + r.sighting(&s.Messages[0]))
		}
	case s.Session != "":
		fmt.Fprintf(b, "%s to be %s", workspace.Fill(s.Session, r.round), s.State)
	case s.Device != "":
		fmt.Fprintf(b, "%s to be so: %s", workspace.Fill(s.Device, r.round), s.WhereText)
	default:
		var all []string
		for i := range s.Messages {
			all = append(all, r.sighting(&s.Messages[i]))
		}
		b.WriteString(strings.Join(all, ", then "))
	}
	if s.QoS != nil {
		fmt.Fprintf(b, " at QoS %d", *s.QoS)
	}
	if s.Retain != nil {
		b.WriteString(map[bool]string{true: ", stored", false: ", not stored"}[*s.Retain])
	}
	if s.NotBefore > 0 {
		fmt.Fprintf(b, " not before %s", s.NotBefore)
	}
	if s.Kind == workspace.StepNever {
		fmt.Fprintf(b, " for %s", s.Wait)
	} else {
		fmt.Fprintf(b, " within %s", s.Within)
	}
}

// sighting says which message is meant.
func (r *run) sighting(m *workspace.Sighting) string {
	text := m.Clause
	values := r.filled(m)
	for _, name := range slices.Sorted(maps.Keys(values)) {
		text += " " + name + " " + values[name]
	}
	if m.WhereText != "" {
		text += " where " + m.WhereText
	}
	return text
}

// unsure turns a missing observation into an undecided one where our own eyes, or the trace, were not whole.
func (r *run) unsure(err error) error {
	if why := r.site.Blind(r.acted); why != "" {
		return proof.Undecide("%s; %s", why, outcome(err))
	}
	if why := r.site.Late(r.acted); why != "" {
		return proof.Undecide("%s; %s", why, outcome(err))
	}
	if r.missed > 0 {
		return proof.Undecide("%d events came faster than they could be looked at; %s", r.missed, outcome(err))
	}
	return err
}

var errStopped = errors.New("stopped")

// until is until when what is expected may come, counted from when something was last done; what a person held the
// trial up does not count.
func (r *run) until(s *workspace.Step) time.Time { return r.acted.Add(s.Within + r.held) }
