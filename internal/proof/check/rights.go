package check

import (
	"slices"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of what a login may do.
var rights = []*proof.Check{
	{Name: "login.rights-subscribe", Title: "a login reads nothing beyond its rights",
		Expected: "filters outside the login's rights, exact, with wildcards and shared, are refused in SUBACK, or granted and nothing comes by them",
		Sections: proof.Same("3.9", "3.9.3"), Needs: proof.Needs{Least: 2}, Requires: pairs, Run: rightsSubscribe},
	{Name: "login.rights-publish", Title: "a login publishes nothing beyond its rights",
		Expected: "what it publishes outside its rights, at each QoS and with retain, reaches nobody and is not stored; whether it is told so does not matter",
		Sections: proof.Sections{V31: "3.3", V311: "3.3.5", V5: "3.4.2.1"}, Needs: proof.Needs{Least: 2}, Requires: pairs, Run: rightsPublish},
}

// limited is a client of the login that may not do everything, let in.
func limited(p *proof.Pass, may func(l *proof.Limited) []string, topicName string) (*proof.Client, error) {
	l := p.Limited()
	switch {
	case l == nil:
		return nil, proof.Skip("no second login with rights of its own is known: a stand-in's rights say so")
	case may(l) == nil, slices.ContainsFunc(may(l), func(f string) bool { return topic.Match(f, topicName) }):
		return nil, proof.Skip("the login %s may do that everywhere", l.Login.Name)
	}
	subject := p.Client("subject", proof.WithLogin(l.Login))
	_, err := p.Enter(subject)
	return subject, err
}

func rightsSubscribe(p *proof.Pass) error {
	topics := []string{p.Topic("a", "exact"), p.Topic("b", "plus"), p.Topic("c", "hash"), p.Topic("d", "shared")}
	filters := []string{topics[0], p.Topic("b", "+"), p.Topic("c", "#"), "$share/hodstone/" + topics[3]}
	subject, err := limited(p, func(l *proof.Limited) []string { return l.Subscribe }, topics[0])
	if err != nil {
		return err
	}
	observer := p.Client("observer")
	if _, err := p.Enter(observer); err != nil {
		return err
	}
	from := p.Mark()
	granted := 0
	for i, filter := range filters {
		if i == 3 && p.Version != packet.V5 || i > 0 && i < 3 && !p.Wildcards() {
			continue
		}
		if i < 3 {
			if _, err := p.Subscribe(observer, filter, 1); err != nil {
				return err
			}
		}
		p.Step("the limited login subscribes to %s", shorter(filter))
		codes, err := p.SubscribeAll(subject, packet.Subscription{Filter: filter, QoS: 1})
		ack := p.Await(subject, from, 0, isPacket(trace.Received, packet.SUBACK))
		p.Decide(ack)
		switch {
		case unsupported(err):
			p.Note("%v", err)
		case err != nil && !subject.Connected():
			p.Note("the link was closed on it, which keeps it from reading too")
			if _, err := p.Enter(subject); err != nil {
				return err
			}
		case err != nil:
			return err
		case codes[0] < 0x80:
			granted++
		}
	}
	p.Step("publish to all of these")
	for i, t := range topics {
		if _, err := p.Publish(observer, publish(t, "secret", p.Highest(1), false)); err != nil {
			return err
		}
		if i < 3 && (i == 0 || p.Wildcards()) && p.AwaitMessage(observer, from, t, "secret") == nil {
			return proof.Undecide("the observer, who may read it, gets nothing either")
		}
	}
	if _, err := p.Quiet(); err != nil {
		return err
	}
	for _, e := range p.Messages(subject, from) {
		p.Decide(e)
		return proof.Break("a login that may not read %s got a message of it", shorter(e.Topic()))
	}
	if granted > 0 {
		p.Note("%d filters were granted though nothing comes by them: the client is not told", granted)
	}
	p.Saw("nothing came by filters outside its rights")
	return nil
}

func rightsPublish(p *proof.Pass) error {
	name := p.Topic("barred")
	subject, err := limited(p, func(l *proof.Limited) []string { return l.Publish }, name)
	if err != nil {
		return err
	}
	p.Forget(name)
	observer := p.Client("observer")
	if _, err := p.Enter(observer); err != nil {
		return err
	}
	if _, err := p.Subscribe(observer, name, 2); err != nil {
		return err
	}
	from := p.Mark()
	var stored []bool
	if stored = []bool{false}; p.Stores() {
		stored = append(stored, true)
	}
	for q := range p.Highest(2) + 1 {
		for _, retain := range stored {
			p.Step("the limited login publishes at QoS %d, retain %d", q, flag(retain))
			if !subject.Connected() { // it was closed out, which is a way to refuse
				if _, err := p.Enter(subject); err != nil {
					return err
				}
			}
			sent, pub, err := p.Start(subject, publish(name, "barred", q, retain))
			if err != nil {
				return err
			}
			p.Decide(sent)
			if err := p.Complete(pub); err != nil && subject.Connected() {
				p.Note("it is told: %v", err)
			}
		}
	}
	p.Step("the observer publishes, as a marker and control")
	e, err := passed(p, observer, observer, publish(name, "allowed", p.Highest(1), false), p.Highest(1))
	if err != nil {
		return err
	}
	if p.Decide(e); e == nil {
		return proof.Undecide("what the observer publishes, who may, does not come either")
	}
	if _, err := p.Quiet(observer); err != nil {
		return err
	}
	for _, e := range p.Messages(observer, from) {
		if string(e.Publish().Payload) == "barred" {
			p.Decide(e)
			return proof.Break("what a login published that may not reached a subscriber, at QoS %d", e.Publish().QoS)
		}
	}
	subject.Disconnect(0)
	if p.Stores() {
		got, err := greeted(p, "newcomer", packet.Subscription{Filter: name, QoS: 1})
		if err != nil {
			return err
		}
		if len(got) > 0 {
			return proof.Break("what a login published that may not is stored")
		}
	}
	p.Saw("it reached nobody, and nothing is stored")
	return nil
}
