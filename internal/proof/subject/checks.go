package subject

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/proof"
	"hodstone/internal/sending"
	"hodstone/internal/trace"
)

// Checks are the checks of a device, in the order in which they are carried out.
func Checks() []*Check {
	contractOf := proof.Same("the contract", "the contract")
	return []*Check{
		{
			Check: proof.Check{Name: "device.arrives", Title: "it connects as its terms say",
				Expected: "CONNECT with the agreed version, client identifier, keep alive, clean start, login and will",
				Sections: proof.Same("3.1", "3.1"), Once: true},
			run: arrives, rules: []contract.RuleName{contract.RuleTerms, contract.RulePresence},
			terms: []string{"client-id", "version", "keep-alive", "clean-start", "tls", "login"},
		},
		{
			Check: proof.Check{
				Name:     "device.speaks",
				Title:    "it publishes what its clauses say",
				Expected: "each of its clauses on its topic, with QoS, retain flag, payload and cadence as agreed; the first value in time",
				Sections: contractOf,
				Once:     true,
			},
			run: speaks, eyes: true, rules: []contract.RuleName{
				contract.RuleFormat, contract.RuleSchema, contract.RuleValue, contract.RuleRange, contract.RuleSize,
				contract.RuleQoS, contract.RuleRetain, contract.RuleFrom, contract.RuleSilence, contract.RuleHaste,
				contract.RuleRepeat, contract.RuleExpiry, contract.RuleProperties, contract.RuleStamp,
				contract.RuleRelation, contract.RuleTerms,
			},
			terms: []string{"max-packet", "max-qos", "max-topic", "in-flight", "first-value-within"},
		},
		{
			Check: proof.Check{Name: "device.answers", Title: "it answers commands, and loses none of many",
				Expected: "an answer to each command in time; of 50 at once each acknowledged, in their order",
				Sections: proof.Same("4.6", "4.6"), Once: true},
			run: answers, rules: []contract.RuleName{
				contract.RuleFormat, contract.RuleSchema, contract.RuleValue, contract.RuleRange,
				contract.RuleSize, contract.RuleQoS, contract.RuleRetain, contract.RuleRelation, contract.RuleTerms,
			}, terms: []string{"in-flight"},
		},
		{
			Check: proof.Check{
				Name:     "device.survives",
				Title:    "it leaves alone what it does not understand",
				Expected: "whatever comes on the topics of its commands, it stays connected, and its state is unchanged",
				Sections: contractOf,
				Once:     true,
			},
			run: survives,
		},
		{
			Check: proof.Check{
				Name:     "device.resends",
				Title:    "it sends again what was not acknowledged",
				Expected: "after it came back to its session, the message again, with DUP and the same packet identifier",
				Sections: proof.Same("4.4", "4.4"),
				Once:     true,
			},
			run: resends,
		},
		{
			Check: proof.Check{Name: "device.subscribes-again", Title: "its subscriptions are back with it",
				Expected: "after it came back to no session, SUBSCRIBE for all that it consumes",
				Sections: proof.Same("3.1.2.4, 3.8", "3.1.2.4, 3.8"), Once: true},
			run: subscribesAgain, rules: []contract.RuleName{contract.RuleSubscribes},
		},
		{
			Check: proof.Check{
				Name:     "device.comes-back",
				Title:    "it comes back after its link was lost, and is not hasty",
				Expected: "back in the agreed time, with no more tries than agreed",
				Sections: contractOf,
				Once:     true,
			},
			run:   comesBack,
			rules: []contract.RuleName{contract.RuleTerms},
			terms: []string{"back-within", "tries"},
		},
		{
			Check: proof.Check{Name: "device.will", Title: "its loss is told",
				Expected: "once its cable is pulled, its will in the agreed time",
				Sections: proof.Same("3.1.2.5", "3.1.2.5"), Once: true},
			run: will, rules: []contract.RuleName{contract.RulePresence}, eyes: true,
		},
		{
			Check: proof.Check{Name: "device.notices", Title: "it gives a dead link up",
				Expected: "the end of its link in the agreed time; where none is agreed, it is told how long it takes",
				Sections: proof.Same("3.1.2.10", "3.1.2.10"), Once: true},
			run: notices, rules: []contract.RuleName{contract.RuleTerms}, terms: []string{"gives-up-within"},
		},
		{
			Check: proof.Check{Name: "device.goodbye", Title: "it says goodbye",
				Expected: "stopped in order, the agreed word that it leaves, then DISCONNECT, then nothing",
				Sections: proof.Same("3.14", "3.14"), Once: true},
			run:   goodbye,
			rules: []contract.RuleName{contract.RuleTerms, contract.RulePresence},
			terms: []string{"goodbye"},
		},
		{
			Check: proof.Check{
				Name:     "device.refuses",
				Title:    "it refuses certificates that are not its broker's",
				Expected: "no CONNECT to whoever shows a stranger's certificate, one for another name, an expired or a self-signed one",
				Sections: proof.Same("5.4", "5.4"),
				Once:     true,
			},
			run: refuses,
		},
		{
			Check: proof.Check{
				Name:     "device.heeds",
				Title:    "it keeps to what CONNACK allows",
				Expected: "in version 5, nothing beyond receive maximum, maximum QoS and packet size, retain available, topic alias maximum and server keep alive of CONNACK",
				Sections: proof.Same("", "3.2.2.3"),
				Once:     true,
			},
			run: heeds,
		},
		{
			Check: proof.Check{
				Name:     "device.frames",
				Title:    "it reads packets however they are cut up and joined",
				Expected: "commands understood that come byte by byte, several in one piece, and with long remaining lengths",
				Sections: proof.Same("2.2.3, 4.2", "2.1.4, 4.2"),
				Once:     true,
			},
			run: frames,
		},
		{
			Check: proof.Check{
				Name:     "device.buffers",
				Title:    "what it measured while it was away comes, or not, as agreed",
				Expected: "after its return, what its terms say of the time without a connection (buffers); where none is agreed, it is told",
				Sections: contractOf,
				Once:     true,
			},
			run: buffers,
		},
	}
}

// published are the clauses that the device publishes, and taken those that it consumes.
func (p *pass) published() (out []*contract.Clause) {
	for _, cl := range p.stand.Contract().Clauses {
		if cl.From == p.d.Party {
			out = append(out, cl)
		}
	}
	return out
}

func (p *pass) taken() (out []*contract.Clause) {
	for _, cl := range p.stand.Contract().Clauses {
		if _, err := cl.Topic.Topic(
			p.d.Params,
		); err == nil && slices.Contains(cl.To, p.d.Party) &&
			cl.From != p.d.Party {
			out = append(out, cl)
		}
	}
	return out
}

// arrives: it is stopped where that can be done, and switched on.
func arrives(p *pass) error {
	if p.in() {
		if err := p.stop(); err != nil {
			return err
		}
	}
	p.doing()
	p.begun = p.at // what its goodbye broke is another check's
	if err := p.come(); err != nil {
		return err
	}
	e := p.await(p.mark, 0, sent(packet.CONNECT))
	if e == nil {
		return proof.Undecide("it was connected before this began: switch it off, and begin again")
	}
	p.decide(e)
	c := e.Packet.(*packet.Connect)
	p.wait(judging)
	p.tell(
		"MQTT %s, client identifier %q, keep alive %d s, clean start %v",
		e.Version,
		c.ClientID,
		c.KeepAlive,
		c.CleanStart,
	)
	if p.party.Terms == nil {
		p.note("party %s has no terms: write down what its sessions must look like", p.party.Name)
	}
	return nil
}

// judging is how long the judge may take for what was just seen.
const judging = 300 * time.Millisecond

// The time that a device is watched at work.
const (
	leastWatch = 5 * time.Second
	mostWatch  = 2 * time.Minute
)

// speaks: it is watched until each clause with a cadence has to have come twice.
func speaks(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	watch := p.o.Watch
	if watch == 0 {
		watch = leastWatch
		for _, cl := range p.published() {
			if last := cl.Every.Period + cl.Every.Tolerance; last > 0 {
				watch = max(watch, 2*last+time.Second)
			}
		}
		if p.party.Terms != nil {
			watch = max(watch, p.party.Terms.FirstValueWithin+time.Second)
		}
		watch = min(watch, mostWatch)
	}
	p.step("it is watched for %s", watch)
	p.doing()
	p.wait(watch)
	seen, wanting := map[string]int{}, []string{}
	for _, e := range p.events(p.mark) {
		if m := e.Publish(); m != nil && e.Kind == trace.Sent {
			if cl, _ := p.stand.Contract().Find(e.Topic()); cl != nil {
				seen[cl.Name]++
			} else {
				p.note("%s is no topic of the contract", e.Topic())
			}
		}
	}
	for _, cl := range p.published() {
		switch {
		case seen[cl.Name] > 0:
			p.tell("%d of %s", seen[cl.Name], cl.Name)
		case cl.Every.Period > 0 && cl.Every.Period+cl.Every.Tolerance < watch:
			p.note("to change: publish %s as often as agreed, every %s", cl.Name, cl.Every)
			return proof.Break("%s: nothing in %s, agreed is every %s", cl.Name, watch, cl.Every)
		case cl.Presence == nil:
			wanting = append(wanting, cl.Name)
		}
	}
	if len(wanting) > 0 {
		p.note("not seen, for nothing says when they come: %s", strings.Join(wanting, ", "))
	}
	if len(seen) == 0 && p.judged(p.begun) == nil {
		return proof.Undecide("it published nothing in %s, and nothing says when it has to", watch)
	}
	return nil
}

// command is a payload of a clause that its consumers must take: its first example, else one that its fields suggest.
func command(cl *contract.Clause) ([]byte, error) {
	if len(cl.Examples) > 0 {
		return cl.Examples[0].Payload, nil
	}
	text := sending.Sample(&cl.Payload)
	if text == "" && cl.Payload.Format == payload.Number {
		text = "1"
	}
	if text == "" {
		return nil, fmt.Errorf("clause %s has no example: give it one", cl.Name)
	}
	return cl.Payload.Read(text)
}

// give publishes a payload on a clause's topic for the device, as its party would.
func (p *pass) give(cl *contract.Clause, body []byte, retain bool) error {
	topic, err := cl.Topic.Topic(p.d.Params)
	if err != nil {
		return err
	}
	m := packet.Publish{Topic: topic, Payload: body, QoS: 1, Retain: retain}
	if cl.QoS != nil {
		m.QoS = *cl.QoS
	}
	return p.stand.Publish(p.ctx, m)
}

// burst is how many commands come at once.
const burst = 50

// answers: each command once, one of them twice, and many at once.
func answers(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	asked := 0
	for _, cl := range p.taken() {
		if cl.Answer == nil {
			continue
		}
		body, err := command(cl)
		if err != nil {
			p.note("%v", err)
			continue
		}
		asked++
		answer := p.stand.Contract().Clause(cl.Answer.Clause)
		var said [][]byte
		for n := range 2 {
			p.step("%s is sent, time %d", cl.Name, n+1)
			p.doing()
			if err := p.give(cl, body, false); err != nil {
				return proof.Undecide("%s could not be published: %v", cl.Name, err)
			}
			e := p.await(p.mark, cl.Answer.Within+judging, func(e *trace.Event) bool {
				return e.Kind == trace.Sent && e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil
			})
			if e == nil {
				if p.await(p.mark, 0, func(e *trace.Event) bool {
					return got(packet.PUBLISH)(e) && cl.Topic.Values(e.Topic()) != nil
				}) == nil {
					return proof.Undecide(
						"%s did not reach it: is it subscribed? (see device.subscribes-again)",
						cl.Name,
					)
				}
				p.note("to change: answer %s by %s within %s", cl.Name, answer.Name, cl.Answer.Within)
				return proof.Break("no %s within %s of %s", answer.Name, cl.Answer.Within, cl.Name)
			}
			p.decide(e)
			said = append(said, e.Publish().Payload)
			if took := e.At.Sub(p.at); n == 0 {
				p.tell("%s answered after %s", cl.Name, took.Round(time.Millisecond))
			}
		}
		if cl.Repeat == "once" && !alike(answer, said[0], said[1]) {
			p.note("to change: let a repeated %s change nothing", cl.Name)
			return proof.Break("the same %s a second time changed %s", cl.Name, answer.Name)
		}
		if err := p.many(cl, body); err != nil {
			return err
		}
	}
	if asked == 0 {
		return proof.Unsupport("no command with an answer goes to it")
	}
	return nil
}

// many sends a command many times at once: each has to be acknowledged, in their order (§4.6).
func (p *pass) many(cl *contract.Clause, body []byte) error {
	if cl.QoS == nil || *cl.QoS != 1 {
		return nil
	}
	p.step("%d %s at once", burst, cl.Name)
	p.doing()
	for range burst {
		if err := p.give(cl, body, false); err != nil {
			return proof.Undecide("%s could not be published: %v", cl.Name, err)
		}
	}
	var came, acked []uint16
	look := func() {
		came, acked = nil, nil
		for _, e := range p.events(p.mark) {
			switch q := e.Packet.(type) {
			case *packet.Publish:
				if e.Kind == trace.Received && q.QoS == 1 && !q.Dup && cl.Topic.Values(e.Topic()) != nil {
					came = append(came, q.ID)
				}
			case *packet.Puback:
				if e.Kind == trace.Sent {
					acked = append(acked, q.ID)
				}
			}
		}
	}
	const within = 10 * time.Second
	for end := time.Now().Add(within); ; {
		if look(); len(came) >= burst && len(acked) >= len(came) || time.Now().After(end) || !p.wait(poll) {
			break
		}
	}
	switch {
	case len(came) == 0:
		return nil // it subscribed at QoS 0: nothing is acknowledged
	case len(acked) < len(came):
		p.note("to change: acknowledge each PUBLISH at QoS 1 by PUBACK (4.3.2)")
		return proof.Break("of %d %s it acknowledged %d", len(came), cl.Name, len(acked))
	case !slices.Equal(came, acked[:len(came)]):
		p.note("to change: acknowledge in the order in which messages came (4.6)")
		return proof.Break("PUBACK came in another order than the messages")
	}
	p.tell("%d at once, each acknowledged in its order", len(came))
	return nil
}

// oddity is something that a device may be sent, and must leave alone.
type oddity struct {
	name string
	body []byte
}

// oddities are such payloads for a clause.
func oddities(cl *contract.Clause, most int) []oddity {
	deep := strings.Repeat(`{"a":`, 200) + "1" + strings.Repeat("}", 200)
	long := strings.Repeat("x", max(0, min(16<<10, most)-64))
	out := []oddity{
		{"an empty payload", nil},
		{"NUL characters", []byte{0, 0, 0, 0}},
		{"text that is no UTF-8", []byte{0xff, 0xfe, 0xc0, 0x80}},
		{"a payload that is far too long", []byte(long)},
		{"a word that nobody agreed on", []byte("hodstone-nonsense")},
		{"brackets without end", []byte("{\"a\":[")},
		{"200 objects in one another", []byte(deep)},
	}
	v, err := func() (any, error) {
		body, err := command(cl)
		if err != nil {
			return nil, err
		}
		return cl.Payload.Code().Decode(body)
	}()
	fields, is := payload.Plain(v).(map[string]any)
	if err != nil || !is {
		return out
	}
	write := func(name string, change func(map[string]any)) {
		c := map[string]any{}
		for k, x := range fields {
			c[k] = x
		}
		change(c)
		var b []byte
		if b, err = json.Marshal(c); cl.Payload.Format != payload.JSON {
			b, err = cl.Payload.Code().Encode(c)
		}
		if err == nil && len(b) <= most {
			out = append(out, oddity{name, b})
		}
	}
	for _, f := range cl.Payload.Fields() {
		if !f.Required || strings.Contains(f.Name, "/") {
			continue
		}
		write("no "+f.Name, func(c map[string]any) { delete(c, f.Name) })
		write("another type of "+f.Name, func(c map[string]any) { c[f.Name] = []any{"nonsense"} })
	}
	return out
}
