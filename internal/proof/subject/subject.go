// Package subject puts a device that is really there to the proof: it stands between the device and its broker, watches
// what the device does, provokes what happens in the field, and holds it to its party's terms and clauses.
package subject

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// Shown is the certificate that the tap shows to the device.
type Shown string

// The certificates that the tap can show; Sound is the one that the device is to take.
const (
	Sound      Shown = ""
	Stranger   Shown = "of a stranger's CA"
	WrongName  Shown = "for another name"
	Expired    Shown = "that has expired"
	SelfSigned Shown = "that is signed by itself"
)

// Stand is where the device is put to the proof: it dials a tap, behind which its broker is.
type Stand interface {
	// Log is the trace of all that goes over.
	Log() *trace.Log
	Contract() *contract.Contract
	// Tap is what the device goes through, At the URL that it dials.
	Tap() *tap.Tap
	At() string
	// Show lets the tap show another certificate from now on; false where the device comes without TLS.
	Show(Shown) bool
	// Hellos is how many TLS handshakes were begun.
	Hellos() int
	// Publish publishes as Hodstone's own client at the broker.
	Publish(ctx context.Context, m packet.Publish) error
	// Breaches are those that the judge found, the latest last.
	Breaches() []contract.Breach
	// Blind is why the observers have not seen everything since; "" where they have.
	Blind(since time.Time) string
}

// Device is what is put to the proof.
type Device struct {
	Name   string // as the trace has it
	Party  string
	Params map[string]string
	// Start switches it on, and Stop off in order; nil for a real one: then a person is asked to.
	Start, Stop func()
}

// Options say how it is done.
type Options struct {
	Checks []*Check
	// Ask asks a person to do something, or whether something was seen; nil where nobody is there.
	Ask func(ctx context.Context, text string) (yes bool, left string, err error)
	// Watch is how long the device is watched at work; 0 for what its clauses need.
	Watch time.Duration
	// Arrives is how long it may take to come by itself, before a person is asked; 0 for half a minute.
	Arrives time.Duration
	// Begins is told of each check as it begins; it may be nil.
	Begins func(*Check)
	// Told is told of each result as it comes; it may be nil.
	Told func(proof.Result)
}

// Check is one thing that is verified of a device.
type Check struct {
	proof.Check
	run func(*pass) error
	// rules are those of the judge whose breaches break it.
	rules []contract.RuleName
	// eyes tells that it rests on what the observer saw, and not on the tap alone.
	eyes bool
	// terms are the terms that it holds the device to, for those that several checks share; nil for all.
	terms []string
}

// Match returns the checks that fit a pattern, such as device.will, or some with commas; all for "" and "*".
func Match(pattern string) ([]*Check, error) {
	var out []*Check
	var all []string
	for _, c := range Checks() {
		all = append(all, c.Name)
	}
	for one := range strings.SplitSeq(pattern, ",") {
		one = strings.TrimSpace(one)
		before := len(out)
		for _, c := range Checks() {
			if one == "" || one == "*" || one == "device.*" || c.Name == one || c.Name == "device."+one {
				out = append(out, c)
			}
		}
		if len(out) == before {
			return nil, fmt.Errorf("there is no check of a device %q; there are: %s", one, strings.Join(all, ", "))
		}
	}
	return out, nil
}

// pass is a check under way.
type pass struct {
	ctx   context.Context
	stand Stand
	d     *Device
	o     Options
	check *Check
	party *contract.Party

	first, mark uint64
	begun, at   time.Time // of the check, and of what was done last
	steps       []proof.Step
	notes       []string
	saw         []string
	decisive    []uint64
}

// Run puts a device to the proof, a check after the other, and returns it as a proof.
func Run(ctx context.Context, s Stand, d *Device, o Options) *proof.Proof {
	p := &proof.Proof{
		Target:  proof.Target{Broker: d.Name, Listener: "a device, through the tap"},
		Run:     proof.RunID(),
		Started: time.Now(),
	}
	if o.Checks == nil {
		o.Checks = Checks()
	}
	for _, c := range o.Checks {
		if o.Begins != nil {
			o.Begins(c)
		}
		r := one(ctx, s, d, o, c)
		p.Results = append(p.Results, r)
		if o.Told != nil {
			o.Told(r)
		}
	}
	p.Took = time.Since(p.Started)
	return p
}

// one carries a check out.
func one(ctx context.Context, s Stand, d *Device, o Options, c *Check) proof.Result {
	p := &pass{ctx: ctx, stand: s, d: d, o: o, check: c, party: s.Contract().Party(d.Party), begun: time.Now()}
	p.first = s.Log().Next()
	p.doing()
	var err error
	switch {
	case ctx.Err() != nil:
		err = proof.Undecide("stopped before it began")
	case p.party == nil:
		err = proof.Undecide("the contract has no party %s", d.Party)
	default:
		s.Tap().Set()
		err = c.run(p)
		s.Tap().Set()
		s.Show(Sound)
		if ctx.Err() != nil {
			err = proof.Undecide("stopped")
		} else if proof.VerdictOf(err) != proof.Broken {
			if worse := p.judged(p.begun); worse != nil {
				err = worse
			}
		}
		if why := s.Blind(p.begun); why != "" && (err == nil || c.eyes && proof.VerdictOf(err) == proof.Broken) {
			err = proof.Undecide("%s", why)
		}
	}
	return p.result(err)
}

// doing marks that something is done now: what follows counts from here.
func (p *pass) doing() { p.mark, p.at = p.stand.Log().Next(), time.Now() }

func (p *pass) step(format string, args ...any) {
	p.steps = append(p.steps, proof.Step{
		At: time.Since(p.begun), Seq: p.stand.Log().Next(), Text: fmt.Sprintf(format, args...),
	})
}

func (p *pass) note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); !slices.Contains(p.notes, text) {
		p.notes = append(p.notes, text)
	}
}

func (p *pass) tell(format string, args ...any) { p.saw = append(p.saw, fmt.Sprintf(format, args...)) }

// decide keeps an event as one that the verdict rests on.
func (p *pass) decide(events ...*trace.Event) {
	for _, e := range events {
		if e != nil {
			p.decisive = append(p.decisive, e.Seq)
		}
	}
}

// events are the device's own since a number.
func (p *pass) events(from uint64) (out []trace.Event) {
	for {
		some, _ := p.stand.Log().Read(from, 1000)
		if len(some) == 0 {
			return out
		}
		for i := range some {
			if some[i].Client == p.d.Name {
				out = append(out, some[i])
			}
		}
		from = some[len(some)-1].Seq + 1
	}
}

// poll is how often the trace is looked at.
const poll = 10 * time.Millisecond

// await waits for an event of the device since a number; nil where none comes in time.
func (p *pass) await(from uint64, within time.Duration, is func(*trace.Event) bool) *trace.Event {
	return p.awaitAny(from, within, func(e *trace.Event) bool { return e.Client == p.d.Name && is(e) })
}

// awaitAny waits for any event.
func (p *pass) awaitAny(from uint64, within time.Duration, is func(*trace.Event) bool) *trace.Event {
	end := time.Now().Add(within)
	for {
		some, _ := p.stand.Log().Read(from, 1000)
		for i := range some {
			if is(&some[i]) {
				return &some[i]
			}
		}
		if len(some) > 0 {
			from = some[len(some)-1].Seq + 1
			continue
		}
		if !time.Now().Before(end) || !p.wait(poll) {
			return nil
		}
	}
}

// wait lets time pass; false where the proof was stopped.
func (p *pass) wait(d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-p.ctx.Done():
		return false
	}
}

func sent(t packet.Type) func(*trace.Event) bool {
	return func(e *trace.Event) bool { return e.Kind == trace.Sent && e.Packet != nil && e.Packet.Type() == t }
}

func got(t packet.Type) func(*trace.Event) bool {
	return func(e *trace.Event) bool { return e.Kind == trace.Received && e.Packet != nil && e.Packet.Type() == t }
}

func accepted(e *trace.Event) bool {
	a, is := e.Packet.(*packet.Connack)
	return is && e.Kind == trace.Received && a.Code == 0
}

func ended(e *trace.Event) bool { return e.Kind == trace.Link && e.Link == client.LinkEnded }

// in tells whether the device is connected now, by its latest events.
func (p *pass) in() bool {
	is := false
	for _, e := range p.events(1) {
		switch {
		case accepted(&e):
			is = true
		case ended(&e):
			is = false
		}
	}
	return is
}

// How long a person, or the device, may take to come.
const (
	comesWithin  = 30 * time.Second
	personWithin = 5 * time.Minute
)

// come has the device connected and subscribed: it is switched on, by a person where it is real.
func (p *pass) come() error {
	err := p.connected()
	if err == nil {
		p.subscribed()
	}
	return err
}

// subscribed waits for the device's subscriptions, for a moment after it came in: until then no command reaches it.
func (p *pass) subscribed() {
	if len(p.taken()) == 0 {
		return
	}
	const within = 2 * time.Second
	for _, e := range slices.Backward(p.events(1)) {
		if accepted(&e) {
			if ack := p.await(e.Seq, within-time.Since(e.At), got(packet.SUBACK)); ack != nil {
				p.wait(settle - time.Since(ack.At)) // the tap saw it first: the device has still to take it
			}
			return
		}
	}
}

// connected has the device connected.
func (p *pass) connected() error {
	if p.in() {
		return nil
	}
	from := p.stand.Log().Next()
	within := comesWithin
	byItself := comesWithin
	if p.o.Arrives > 0 {
		byItself = p.o.Arrives
	}
	switch {
	case p.d.Start != nil:
		p.step("%s is switched on", p.d.Name)
		p.d.Start()
	case p.await(from, byItself, accepted) != nil:
		return nil
	case p.o.Ask != nil:
		p.step("somebody is asked to switch %s on", p.d.Name)
		if err := p.ask("Switch " + p.d.Name + " on; it is to dial " + p.stand.At()); err != nil {
			return err
		}
	}
	if p.await(from, within, accepted) == nil {
		if e := p.await(from, 0, got(packet.CONNACK)); e != nil {
			p.decide(e)
			return proof.Undecide(
				"the broker refused it: %s",
				e.Packet.(*packet.Connack).Code.In(packet.CONNACK, e.Version),
			)
		}
		return proof.Undecide("%s did not come within %s; it is to dial %s", p.d.Name, within, p.stand.At())
	}
	return nil
}

// ask asks a person to do something; what is left out ends the check as undecided.
func (p *pass) ask(text string) error {
	if p.o.Ask == nil {
		return proof.Undecide("nobody is there to be asked: %s", text)
	}
	ctx, cancel := context.WithTimeout(p.ctx, personWithin)
	defer cancel()
	asked := time.Now()
	yes, left, err := p.o.Ask(ctx, text)
	switch {
	case err != nil:
		return proof.Undecide("no answer: %v", err)
	case left != "":
		return proof.Skip("left out: %s", left)
	case !yes:
		return proof.Undecide("answered no: %s", text)
	}
	p.note("%s: answered yes, after %s", text, time.Since(asked).Round(10*time.Millisecond))
	return nil
}

// stop has the device stopped in order.
func (p *pass) stop() error {
	if p.d.Stop != nil {
		p.step("%s is stopped in order", p.d.Name)
		p.d.Stop()
		return nil
	}
	p.step("somebody is asked to stop %s in order", p.d.Name)
	return p.ask("Stop " + p.d.Name + " in order, as it is to be switched off")
}

// mine tells whether a breach is the device's.
func (p *pass) mine(b *contract.Breach) bool {
	if b.Party != "" {
		return b.Sender == p.d.Name
	}
	cl := p.stand.Contract().Clause(b.Clause)
	if cl == nil {
		return false
	}
	if b.Rule == contract.RuleAnswer { // the command's clause: who takes it owes the answer
		return slices.Contains(cl.To, p.d.Party) && p.its(cl, b.Topic)
	}
	if b.Sender != "" && b.Sender != p.d.Name {
		return false
	}
	return b.Sender == p.d.Name || cl.From == p.d.Party && p.its(cl, b.Topic)
}

// its tells whether a topic of a clause has the device's own parameters.
func (p *pass) its(cl *contract.Clause, topic string) bool {
	values := cl.Topic.Values(topic)
	if values == nil {
		return false
	}
	for name, v := range values {
		if own := p.d.Params[name]; own != "" && own != v {
			return false
		}
	}
	return true
}

// judged is what the judge found of the device since a time, by the check's rules; nil for nothing.
func (p *pass) judged(since time.Time) error {
	var found []contract.Breach
	for _, b := range p.stand.Breaches() {
		if b.At.Before(since) || !slices.Contains(p.check.rules, b.Rule) || !p.mine(&b) ||
			b.Rule == contract.RuleTerms && p.check.terms != nil && !slices.Contains(p.check.terms, b.Keyword) {
			continue
		}
		if b.Rule == contract.RuleSilence && p.spoke(&b) {
			p.note("it did publish %s: the broker did not pass it on", b.Clause)
			continue
		}
		if !slices.ContainsFunc(found, func(x contract.Breach) bool {
			return x.Rule == b.Rule && x.Clause == b.Clause && x.Keyword == b.Keyword && x.Where == b.Where
		}) {
			found = append(found, b)
		}
	}
	if len(found) == 0 {
		return nil
	}
	for i := range found {
		p.decide(p.own(&found[i]))
		p.note("to change: %s", Change(p.d.Name, &found[i]))
	}
	more := ""
	if n := len(found) - 1; n > 0 {
		more = fmt.Sprintf("; and %d more", n)
	}
	return proof.Break("%s%s", said(&found[0]), more)
}

// own is the device's packet that a breach is about: the judge may have seen the message where it came; nil for none.
func (p *pass) own(b *contract.Breach) (found *trace.Event) {
	for _, e := range p.events(p.first) {
		m := e.Publish()
		if e.Seq == b.Seq || m != nil && e.Kind == trace.Sent && b.Seq > 0 && e.Seq < b.Seq && e.Topic() == b.Topic &&
			bytes.Equal(m.Payload, b.Payload) {
			found = &e
		}
	}
	return found
}

// spoke tells whether the device published what was missed: then it did not come through, and that is not its doing.
func (p *pass) spoke(b *contract.Breach) bool {
	cl := p.stand.Contract().Clause(b.Clause)
	if cl == nil {
		return false
	}
	from := b.At.Add(-cl.Every.Period - cl.Every.Tolerance)
	return slices.ContainsFunc(p.events(p.first), func(e trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && cl.Topic.Values(e.Topic()) != nil && e.At.After(from) &&
			e.At.Before(b.At)
	})
}

// said is a breach in few words.
func said(b *contract.Breach) string {
	what := b.Clause
	if what == "" {
		what = b.Keyword
	}
	return fmt.Sprintf("%s: expected %s, saw %s", what, b.Expected, b.Seen)
}

// result turns what came of it into a result with its evidence.
func (p *pass) result(err error) proof.Result {
	out := proof.Result{
		Check: &p.check.Check, At: p.begun, Took: time.Since(p.begun), Verdict: proof.VerdictOf(err),
		Expected: p.check.Expected, Seen: strings.Join(p.saw, "; "), Notes: p.notes, Steps: p.steps,
	}
	if err != nil {
		out.Seen = strings.TrimPrefix(err.Error(), string(out.Verdict)+": ")
	}
	const most = 2000
	for _, e := range p.events(p.first) {
		if len(out.Evidence) < most {
			out.Evidence = append(out.Evidence, e)
		}
	}
	out.Clients = []string{p.d.Name}
	slices.Sort(p.decisive)
	for _, seq := range slices.Compact(p.decisive) {
		if slices.ContainsFunc(out.Evidence, func(e trace.Event) bool { return e.Seq == seq }) {
			out.Decisive = append(out.Decisive, seq)
		}
	}
	return out
}
