package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// mirrored is a clause's topic under the check's own prefix. The broker does not know the parameters: any value will
// do.
func mirrored(p *proof.Pass, cl *contract.Clause) string {
	fill := map[string]string{}
	for _, name := range cl.Topic.Parameters() {
		fill[name] = "1"
	}
	return p.Topic(cl.Topic.Fill(fill))
}

// agreement returns the contract, or why there is nothing to check.
func agreement(p *proof.Pass) (*proof.Agreement, error) {
	a := p.Agreement()
	if a == nil || len(a.Contract.Clauses) == 0 {
		return nil, proof.Skip("there is no contract: a workspace has one")
	}
	return a, nil
}

// sample is a message of a clause as it is agreed: its first example, or a text where it has none.
func sample(p *proof.Pass, cl *contract.Clause, q packet.QoS) packet.Publish {
	m := publish(mirrored(p, cl), p.Text(cl.Name), q, cl.Retain != nil && *cl.Retain)
	if len(cl.Examples) > 0 {
		m.Payload = cl.Examples[0].Payload
	}
	if p.Version != packet.V5 {
		return m
	}
	if cl.Properties.ContentType != "" {
		m.Properties = append(m.Properties, packet.Str(packet.ContentType, cl.Properties.ContentType))
	}
	for _, u := range cl.Properties.User {
		m.Properties = append(m.Properties, packet.User(u[0], u[1]))
	}
	if cl.Expiry > 0 {
		m.Properties = append(m.Properties, packet.Int(packet.MessageExpiry, uint32(cl.Expiry/time.Second)))
	}
	return m
}

// needed turns what a broker does not offer into a breach of the contract, which needs it.
func needed(cl *contract.Clause, err error) error {
	if unsupported(err) {
		return proof.Break(
			"the contract needs it for %s: %s",
			cl.Name,
			strings.TrimPrefix(err.Error(), "unsupported: "),
		)
	}
	return err
}

func agreedDelivered(p *proof.Pass) error {
	a, err := agreement(p)
	if err != nil {
		return err
	}
	publisher, consumer, newcomer := p.Client("publisher"), p.Client("consumer"), p.Client("newcomer")
	if err := p.ConnectAll(publisher, consumer, newcomer); err != nil {
		return err
	}
	from := p.Mark()
	n := 0
	for _, cl := range a.Contract.Clauses {
		if cl.QoS == nil && cl.Retain == nil {
			continue
		}
		n++
		q := packet.QoS(0)
		if cl.QoS != nil {
			q = *cl.QoS
		}
		m := sample(p, cl, q)
		p.Step("%s at QoS %d, retain %d", cl.Name, q, flag(m.Retain))
		if err := needed(cl, granted(p, consumer, m.Topic, q)); err != nil {
			return err
		}
		if m.Retain && !p.Stores() {
			return proof.Break("the contract needs retained messages for %s, and the broker stores none", cl.Name)
		}
		e, err := passed(p, publisher, consumer, m, q)
		if err != nil {
			return needed(cl, err)
		}
		if p.Decide(e); e == nil {
			return proof.Break("%s: %s", cl.Name, p.Instead(consumer, from, m.Topic, string(m.Payload)))
		}
		switch got := e.Publish(); {
		case got.QoS != q:
			return proof.Break("%s came at QoS %d in place of %d", cl.Name, got.QoS, q)
		case got.Retain:
			return proof.Break("%s came with retain flag 1 to who was there", cl.Name)
		}
		if err := carried(e.Publish(), &m); err != nil {
			return fmt.Errorf("%s: %w", cl.Name, err)
		}
	}
	if n == 0 {
		return proof.Skip("no clause says at which QoS, or whether retained")
	}
	return agreedGreets(p, a, newcomer)
}

// carried wants what the contract agrees on beside the payload to have come along; the expiry may have run down (5.0
// §3.3.2.3.3).
func carried(got, sent *packet.Publish) error {
	for _, want := range sent.Properties {
		switch want.ID {
		case packet.MessageExpiry:
			left, told := got.Properties.Int(packet.MessageExpiry)
			before, _ := sent.Properties.Int(packet.MessageExpiry)
			if !told {
				return proof.Break("the property %s did not come along", want.ID)
			}
			if left > before {
				return proof.Break("the message expiry %d s came as %d s", before, left)
			}
		default:
			if !slices.Contains(got.Properties, want) {
				return proof.Break("the property %s did not come along", want.ID)
			}
		}
	}
	return nil
}

// agreedGreets wants a newcomer to be greeted by what is agreed to be retained, and by nothing else.
func agreedGreets(p *proof.Pass, a *proof.Agreement, newcomer *proof.Client) error {
	p.Step("a newcomer subscribes to all of it")
	from := p.Mark()
	for _, cl := range a.Contract.Clauses {
		if cl.QoS != nil || cl.Retain != nil {
			if _, err := p.Subscribe(newcomer, mirrored(p, cl), p.Highest(2)); err != nil {
				return err
			}
		}
	}
	for _, cl := range a.Contract.Clauses {
		if cl.Retain == nil || !*cl.Retain {
			continue
		}
		t := mirrored(p, cl)
		e := p.Await(newcomer, from, arrivalTime, func(e *trace.Event) bool {
			return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == t
		})
		switch {
		case e == nil:
			return proof.Break("%s is agreed to be retained, and does not greet a newcomer", cl.Name)
		case !e.Publish().Retain:
			p.Decide(e)
			return proof.Break("%s greets a newcomer with retain flag 0", cl.Name)
		}
		p.Decide(e)
	}
	if _, err := p.Quiet(newcomer); err != nil {
		return err
	}
	stored := 0
	for _, e := range p.Messages(newcomer, from) {
		for _, cl := range a.Contract.Clauses {
			if cl.Retain != nil && !*cl.Retain && mirrored(p, cl) == e.Topic() {
				p.Decide(e)
				return proof.Break("%s is agreed not to be retained, and greets a newcomer", cl.Name)
			}
		}
		stored++
	}
	p.Saw("each clause as agreed; %d greeted a newcomer", stored)
	return nil
}

// mostPresences is how many presence clauses are tried.
const mostPresences = 4

func agreedPresence(p *proof.Pass) error {
	a, err := agreement(p)
	if err != nil {
		return err
	}
	n := 0
	for _, cl := range a.Contract.Clauses {
		if cl.Presence == nil {
			continue
		}
		if n++; n > mostPresences {
			p.Note("the first %d presence clauses were tried", mostPresences)
			break
		}
		if err := presenceOf(p, cl); err != nil {
			return err
		}
	}
	if n == 0 {
		return proof.Skip("no clause has a presence")
	}
	p.Saw("coming, leaving and lost of %d clauses, as agreed", min(n, mostPresences))
	return nil
}

func presenceOf(p *proof.Pass, cl *contract.Clause) error {
	t, q, retain := mirrored(p, cl), packet.QoS(0), cl.Retain != nil && *cl.Retain
	if cl.QoS != nil {
		q = *cl.QoS
	}
	if retain && !p.Stores() {
		return proof.Break("the contract needs retained messages for %s, and the broker stores none", cl.Name)
	}
	p.Forget(t)
	watcher := p.Client("watcher of " + cl.Name)
	if _, err := p.Enter(watcher); err != nil {
		return err
	}
	defer watcher.Disconnect(0)
	if err := needed(cl, granted(p, watcher, t, q)); err != nil {
		return err
	}
	says := cl.Presence
	subject := p.Client("subject of "+cl.Name,
		proof.WithWill(packet.Will{Topic: t, Payload: []byte(says.Lost), QoS: q, Retain: retain}))
	comes := func() error {
		if _, err := p.Enter(subject); err != nil {
			return err
		}
		_, err := p.Publish(subject, publish(t, says.Coming, q, retain))
		return needed(cl, err)
	}
	leaves := func() error {
		if _, err := p.Publish(subject, publish(t, says.Leaving, q, retain)); err != nil {
			return err
		}
		return subject.Disconnect(0)
	}
	for _, turn := range []struct {
		text, step string
		do         func() error
	}{
		{says.Coming, "comes", comes},
		{says.Leaving, "leaves by DISCONNECT", leaves},
		{says.Coming, "comes again", comes},
		{says.Lost, "is cut", func() error { return subject.Cut() }},
	} {
		p.Step("%s: the subject %s", cl.Name, turn.step)
		from := p.Mark()
		if err := turn.do(); err != nil {
			return err
		}
		e := p.Await(watcher, from, willTime, isMessageOn(t, turn.text))
		if p.Decide(e); e == nil {
			return proof.Break(
				"%s: the subject %s, and no %q: %s",
				cl.Name,
				turn.step,
				turn.text,
				p.Instead(watcher, from, t, turn.text),
			)
		}
		if e.Publish().QoS != q {
			return proof.Break("%s: %q came at QoS %d in place of %d", cl.Name, turn.text, e.Publish().QoS, q)
		}
		got, err := greeted(
			p,
			fmt.Sprintf("newcomer to %s, once it %s", cl.Name, turn.step),
			exact(t),
			map[bool][]string{true: {t}}[retain]...)
		if err != nil {
			return err
		}
		who := fmt.Sprintf("a newcomer to %s once the subject %s", cl.Name, turn.step)
		if !retain && len(got) > 0 {
			return proof.Break("%q greeted %s, and is agreed not to be retained", got[0].Publish().Payload, who)
		}
		if retain {
			if err := exactly(p, got, turn.text, who); err != nil {
				return err
			}
		}
		for _, late := range p.Messages(watcher, e.Seq+1) {
			p.Decide(late)
			return proof.Break("%s: %q came after the subject %s", cl.Name, late.Publish().Payload, turn.step)
		}
	}
	return nil
}

func agreedAnswered(p *proof.Pass) error {
	a, err := onTopics(p)
	if err != nil {
		return err
	}
	observer := p.Client("observer")
	if _, err := p.Enter(observer); err != nil {
		return err
	}
	n, why := 0, []string{}
	for _, cl := range a.Contract.Clauses {
		if cl.Answer == nil {
			continue
		}
		answer := a.Contract.Clause(cl.Answer.Clause)
		i := slices.IndexFunc(a.Speakers, func(s proof.Speaker) bool { return s.Party == cl.From })
		switch {
		case answer == nil:
			continue
		case len(cl.Examples) == 0:
			why = append(why, cl.Name+" has no example that could be sent")
			continue
		case i < 0:
			why = append(why, fmt.Sprintf("no login speaks for %s, who publishes %s", cl.From, cl.Name))
			continue
		}
		done, reason, err := command(p, a, observer, cl, answer, &a.Speakers[i])
		if err != nil {
			return err
		}
		if done {
			n++
		} else {
			why = append(why, reason)
		}
	}
	switch {
	case n == 0 && len(why) == 0:
		return proof.Skip("no clause has an answer")
	case n == 0:
		return proof.Skip("%s", naming(why))
	case len(why) > 0:
		p.Note("not tried: %s", naming(why))
	}
	p.Saw("%d commands answered in time", n)
	return nil
}

// command sends a clause's example to one that is at work, and wants the answer. done is false where nobody is known to
// be there.
func command(
	p *proof.Pass,
	a *proof.Agreement,
	observer *proof.Client,
	cl, answer *contract.Clause,
	s *proof.Speaker,
) (done bool, why string, err error) {
	values, at, there, err := atWork(p, a, observer, cl, answer.From, s)
	if err != nil || values == nil {
		return false, at, err
	}
	for name := range values {
		if !slices.Contains(answer.Topic.Parameters(), name) {
			delete(values, name)
		}
	}
	reply := answer.Topic.Fill(values)
	if _, err := p.Subscribe(observer, reply, p.Highest(1)); err != nil {
		return false, "", err
	}
	if _, err := p.Quiet(observer); err != nil { // what is stored is no answer
		return false, "", err
	}
	sender := p.Client("sender of "+cl.Name, proof.Comes(s))
	if _, err := p.Enter(sender); err != nil {
		return false, "", err
	}
	defer sender.Disconnect(0)
	q := p.Highest(1)
	if cl.QoS != nil {
		q = p.Highest(*cl.QoS)
	}
	m := publish(at, "", q, cl.Retain != nil && *cl.Retain)
	m.Payload = cl.Examples[0].Payload
	p.Step("%s publishes %s, and %s is awaited for %s", s.Login.Name, at, reply, cl.Answer.Within)
	from := p.Mark()
	sent, err := p.Publish(sender, m)
	if err != nil {
		return false, "", err
	}
	within := cmp.Or(cl.Answer.Within, arrivalTime)
	e := p.Await(observer, from, within+arrivalTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil &&
			!e.Publish().Retain &&
			(!strings.ContainsAny(reply, "+") && e.Topic() == reply || strings.ContainsAny(reply, "+"))
	})
	p.Decide(sent, e)
	switch {
	case e == nil && !observer.Connected():
		return false, "", proof.Undecide("the observer was lost: %v", observer.Ended())
	case e == nil && !there():
		return false, "", proof.Undecide("%s was not answered, and its device came or went meanwhile", at)
	case e == nil:
		return false, "", proof.Break(
			"%s was not answered by %s, though its device says that it is there",
			at,
			answer.Name,
		)
	case sent != nil && e.At.Sub(sent.At) > within:
		return false, "", proof.Break(
			"%s was answered after %s, in place of %s",
			at,
			e.At.Sub(sent.At).Round(time.Millisecond),
			within,
		)
	}
	return true, "", nil
}

// atWork finds one of the answering party that says that it is there, by the presence that greets a newcomer, and the
// command's topic for it; nil where none is known to be there, with the reason. there tells whether it has said nothing else
// since.
func atWork(
	p *proof.Pass,
	a *proof.Agreement,
	observer *proof.Client,
	cl *contract.Clause,
	party string,
	s *proof.Speaker,
) (
	values map[string]string, topicOrWhy string, there func() bool, err error) {
	i := slices.IndexFunc(a.Contract.Clauses, func(c *contract.Clause) bool {
		return c.From == party && c.Presence != nil && c.Retain != nil && *c.Retain
	})
	if i < 0 {
		return nil, fmt.Sprintf("%s says nowhere whether it is there: no clause has its presence", party), nil, nil
	}
	presence := a.Contract.Clauses[i]
	from := p.Mark()
	if _, err := p.Subscribe(observer, presence.Topic.Fill(s.Values), p.Highest(1)); err != nil {
		return nil, "", nil, err
	}
	e := p.Await(observer, from, time.Second, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Publish() != nil && presence.Topic.Values(e.Topic()) != nil &&
			string(e.Publish().Payload) == presence.Presence.Coming
	})
	if e == nil {
		return nil, fmt.Sprintf("no %s says by %s that it is there", party, presence.Name), nil, nil
	}
	p.Decide(e)
	values = presence.Topic.Values(e.Topic())
	if t := cl.Topic.Fill(values); !strings.Contains(t, "+") {
		said := e
		return values, t, func() bool {
			return !slices.ContainsFunc(p.Messages(observer, said.Seq+1), func(e *trace.Event) bool {
				return e.Topic() == said.Topic()
			})
		}, nil
	}
	return nil, fmt.Sprintf("the topic of %s has parameters that %s does not tell", cl.Name, presence.Name), nil, nil
}
