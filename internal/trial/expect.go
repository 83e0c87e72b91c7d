package trial

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// match is a message that was meant.
type match struct {
	event   trace.Event
	payload any
	params  map[string]string
}

// looker looks for messages, one event after the other.
type looker struct {
	r    *run
	want *workspace.Sighting
	cl   *contract.Clause
	at   uint64
	near []trace.Event // of the same topic, that do not fit
	late *match        // it came, and too late; nil for none
}

func (r *run) look(m *workspace.Sighting, from uint64) (*looker, error) {
	cl := r.site.Contract().Clause(m.Clause)
	if cl == nil {
		return nil, proof.Undecide("there is no clause %s: was the workspace edited?", m.Clause)
	}
	return &looker{r: r, want: m, cl: cl, at: from}, nil
}

// next returns the next message that is meant, or nil when the time is over: what came after that is late, though it be
// there by now.
func (l *looker) next(ctx context.Context, until time.Time) *match {
	ctx, cancel := context.WithDeadline(ctx, until)
	defer cancel()
	for {
		events, missed := l.r.log.Read(l.at, 1000)
		l.r.missed += missed
		l.at += missed
		for i := range events {
			l.at = events[i].Seq + 1
			m := l.fits(&events[i])
			switch {
			case m != nil && m.event.At.After(until):
				l.late = m
				return nil
			case m != nil:
				return m
			}
		}
		if len(events) == 0 && l.r.log.Wait(ctx, l.at) != nil {
			return nil
		}
	}
}

// fits tells whether an observer's event is a live message that is meant.
func (l *looker) fits(e *trace.Event) *match {
	if e.Role != trace.RoleObserver || e.Kind != trace.Received || e.Publish() == nil || e.Meaning.Copied() {
		return nil
	}
	params := l.cl.Topic.Values(e.Topic())
	if params == nil || !l.r.same(l.want, params) {
		return nil
	}
	m := &match{event: *e, params: params}
	decoded, err := l.cl.Payload.Code().Decode(e.Publish().Payload)
	if err == nil {
		m.payload = payload.Plain(decoded)
	}
	if l.want.Where != nil && (err != nil || !l.r.holds(l.want, m)) {
		l.near = append(l.near[max(0, len(l.near)-9):], *e)
		return nil
	}
	return m
}

// holds works out whether a message is as the sighting wants it; what cannot be worked out does not hold.
func (r *run) holds(s *workspace.Sighting, m *match) bool {
	env := map[string]any{"payload": m.payload, "params": m.params}
	for k, v := range r.vars {
		env[k] = v
	}
	v, err := s.Where.Eval(env, r.funcs())
	return err == nil && v == true
}

// expect waits for what has to follow.
func (r *run) expect(ctx context.Context, s *workspace.Step) (string, error) {
	switch {
	case s.Breach != "":
		return r.expectBreach(ctx, s)
	case s.Session != "":
		return r.expectSession(ctx, s)
	case s.Device != "":
		return r.expectSignals(ctx, s)
	}
	from, after := r.mark, time.Duration(0)
	var m *match
	for i := range s.Messages {
		l, err := r.look(&s.Messages[i], from)
		if err != nil {
			return "", err
		}
		if m = l.next(ctx, r.until(s)); m == nil {
			if ctx.Err() != nil {
				return "", errStopped
			}
			return "", r.unsure(r.missing(l, i))
		}
		r.decisive = append(r.decisive, m.event.Seq)
		from, after = m.event.Seq+1, m.event.At.Sub(r.acted)
		if err := r.asExpected(ctx, s, m, after); err != nil {
			return "", err
		}
	}
	if s.Keep != "" {
		params := map[string]any{}
		for k, v := range m.params {
			params[k] = v
		}
		r.vars[s.Keep] = map[string]any{"payload": m.payload, "params": params, "after": after.Seconds()}
	}
	if after < 0 { // while a question stood, or before all saw again
		return "it came before that was over", nil
	}
	return fmt.Sprintf("came after %s", after.Round(time.Millisecond)), nil
}

// asExpected holds a message that came to the rest of what is expected of it.
func (r *run) asExpected(ctx context.Context, s *workspace.Step, m *match, after time.Duration) error {
	got := m.event.Publish()
	switch {
	case s.NotBefore > 0 && after < 0:
		return proof.Undecide("it came while the question stood: how long after what was done, nobody knows")
	case s.NotBefore > 0 && r.site.Late(r.acted) != "":
		return proof.Undecide("%s: how long after what was done it was sent, nobody knows", r.site.Late(r.acted))
	case s.NotBefore > 0 && after < s.NotBefore:
		return proof.Break("it came after %s already", after.Round(time.Millisecond))
	case s.QoS != nil && m.event.Meaning.Promised != 0 && m.event.Meaning.Granted < *s.QoS:
		return proof.Undecide("the observer is granted QoS %d only", m.event.Meaning.Granted)
	case s.QoS != nil && got.QoS != *s.QoS:
		return proof.Break("it came at QoS %d", got.QoS)
	case s.Retain == nil:
		return nil
	}
	stored, err := r.site.Stored(ctx, m.event.Broker, m.event.Topic())
	if err != nil {
		return proof.Undecide("what is stored could not be looked at: %v", err)
	}
	same := slices.ContainsFunc(stored, func(x packet.Publish) bool { return string(x.Payload) == string(got.Payload) })
	switch {
	case *s.Retain && len(stored) == 0:
		return proof.Break("it came, and a newcomer is not greeted by it")
	case *s.Retain && !same:
		return proof.Break("it came, and a newcomer is greeted by %s", shown(stored[0].Payload))
	case !*s.Retain && same:
		return proof.Break("a newcomer is greeted by it")
	}
	return nil
}

// missing says what came in place of a message, or who did not send it.
func (r *run) missing(l *looker, place int) error {
	head := ""
	if place > 0 {
		head = fmt.Sprintf("%s did not come after the one before: ", l.want.Clause)
	}
	if l.late != nil {
		r.decisive = append(r.decisive, l.late.event.Seq)
		return proof.Break("%sit came after %s", head, l.late.event.At.Sub(r.acted).Round(time.Millisecond))
	}
	if n := len(l.near); n > 0 {
		last := l.near[n-1]
		r.decisive = append(r.decisive, last.Seq)
		return proof.Break("%s%s came, the last as %s", head, plain.Count(n, "message"), shown(last.Publish().Payload))
	}
	// Did anybody send it? A message that was sent and reached no observer is another matter than one that was not.
	events, _ := r.log.Read(r.mark, mostEvidence)
	for i := range events {
		e := &events[i]
		if (e.Role == trace.RoleDevice || e.Role == trace.RolePeer) && (e.Kind == trace.Sent || e.Kind == trace.Held) && e.Publish() != nil &&
			l.cl.Topic.Values(e.Topic()) != nil &&
			r.same(l.want, l.cl.Topic.Values(e.Topic())) {
			r.decisive = append(r.decisive, e.Seq)
			if e.Kind == trace.Held {
				return proof.Break("%s%s has it on a link that holds it back", head, e.Client)
			}
			return proof.Break("%s%s sent it, and it reached no observer", head, e.Client)
		}
	}
	topic := l.cl.Topic.Fill(r.filled(l.want))
	if e := l.before(r.mark); e != nil && head == "" {
		return proof.Break("nothing came on %s; what is expected had come %s before the step that it has to follow",
			topic, r.acted.Sub(e.At).Round(time.Millisecond))
	}
	return proof.Break("%snothing came on %s", head, topic)
}

// mostBefore is how many events are looked through for what came too early.
const mostBefore = 20_000

// before returns the last message before a place in the trace that is as it should be; nil for none.
func (l *looker) before(mark uint64) *trace.Event {
	for seq := mark - 1; seq > 0 && mark-seq <= mostBefore; seq-- {
		e, kept := l.r.log.At(seq)
		if !kept {
			break
		}
		if m := l.fits(&e); m != nil {
			return &m.event
		}
	}
	return nil
}

// same tells whether a topic has the parameters that a sighting wants.
func (r *run) same(want *workspace.Sighting, params map[string]string) bool {
	for name, v := range r.filled(want) {
		if params[name] != v {
			return false
		}
	}
	return true
}

func shown(b []byte) string {
	const most = 60
	if len(b) > most {
		return fmt.Sprintf("%q…", b[:most])
	}
	return fmt.Sprintf("%q", b)
}

// never looks for what must not come, to the end of its time.
func (r *run) never(ctx context.Context, s *workspace.Step) (string, error) {
	until := time.Now().Add(s.Wait)
	if s.Breach != "" {
		for !time.Now().After(until) {
			if b := r.breach(s, until); b != nil {
				r.decisive = append(r.decisive, b.Seq)
				return "", proof.Break("%s", b)
			}
			if !pause(ctx) {
				return "", errStopped
			}
		}
		return "none came", r.unsureOr(nil)
	}
	l, err := r.look(&s.Messages[0], r.mark)
	if err != nil {
		return "", err
	}
	if m := l.next(ctx, until); m != nil {
		r.decisive = append(r.decisive, m.event.Seq)
		err := proof.Break(
			"it came after %s: %s",
			max(0, m.event.At.Sub(r.acted)).Round(time.Millisecond),
			shown(m.event.Publish().Payload),
		)
		if why := r.site.Late(r.acted); why != "" { // it may have been under way since before
			return "", proof.Undecide("%s; %s", why, outcome(err))
		}
		return "", err
	}
	if ctx.Err() != nil {
		return "", errStopped
	}
	return "none came", r.unsureOr(nil)
}

// unsureOr is err, unless the observers were blind, or the trace not whole.
func (r *run) unsureOr(err error) error {
	if unsure := r.unsure(proof.Break("what did not come cannot be told")); proof.VerdictOf(unsure) == proof.Undecided {
		return unsure
	}
	return err
}

// pollEvery is how often what has no event is looked at.
const pollEvery = 50 * time.Millisecond

func pause(ctx context.Context) bool {
	select {
	case <-time.After(pollEvery):
		return true
	case <-ctx.Done():
		return false
	}
}

// breach finds a breach that is meant, since the last step that did something, and before a time.
func (r *run) breach(s *workspace.Step, until time.Time) *contract.Breach {
	all := r.site.Breaches()
	for i := range all {
		b := &all[i]
		if b.At.Before(r.acted) || b.At.After(until) || s.Breach != "any" && string(b.Rule) != s.Breach {
			continue
		}
		if len(s.Messages) > 0 {
			cl := r.site.Contract().Clause(s.Messages[0].Clause)
			if cl == nil || b.Clause != cl.Name {
				continue
			}
			if !r.same(&s.Messages[0], cl.Topic.Values(b.Topic)) {
				continue
			}
		}
		return b
	}
	return nil
}

func (r *run) expectBreach(ctx context.Context, s *workspace.Step) (string, error) {
	for {
		if b := r.breach(s, r.until(s)); b != nil {
			r.decisive = append(r.decisive, b.Seq)
			return b.String(), nil
		}
		if time.Now().After(r.until(s)) {
			return "", r.unsure(proof.Break("no such breach came"))
		}
		if !pause(ctx) {
			return "", errStopped
		}
	}
}

// sessionStates are the phases of a device that a state means.
var sessionStates = map[string][]device.Phase{
	workspace.SessionConnected: {device.On},
	workspace.SessionLost:      {device.Away, device.Connecting},
	workspace.SessionOff:       {device.Off},
}

func (r *run) expectSession(ctx context.Context, s *workspace.Step) (string, error) {
	d, err := r.device(s.Session)
	if err != nil {
		return "", err
	}
	for {
		st := d.State()
		if slices.Contains(sessionStates[s.State], st.Phase) && !st.Since.After(r.until(s)) {
			return fmt.Sprintf("%s after %s", st.Phase, time.Since(r.acted).Round(time.Millisecond)), nil
		}
		if time.Now().After(r.until(s)) {
			return "", proof.Break("%s is %s%s", st.Name, st.Phase, because(st.Why))
		}
		if !pause(ctx) {
			return "", errStopped
		}
	}
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return ": " + why
}

func (r *run) expectSignals(ctx context.Context, s *workspace.Step) (string, error) {
	d, err := r.device(s.Device)
	if err != nil {
		return "", err
	}
	until := r.until(s) // at the least it is looked once: a signal does not tell since when it is so
	for {
		env, all := map[string]any{}, []string{}
		for k, v := range r.vars {
			env[k] = v
		}
		for _, x := range d.State().Signals {
			env[x.Name] = x.Value
			all = append(all, fmt.Sprintf("%s %v", x.Name, x.Value))
		}
		v, err := s.Where.Eval(env, r.funcs())
		if err == nil && v == true {
			return fmt.Sprintf("so after %s", time.Since(r.acted).Round(time.Millisecond)), nil
		}
		if time.Now().After(until) {
			if err != nil {
				return "", proof.Undecide("%v", err)
			}
			return "", proof.Break("it has %s", strings.Join(all, ", "))
		}
		if !pause(ctx) {
			return "", errStopped
		}
	}
}
