package check

import (
	"fmt"
	"strings"

	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of shared subscriptions, and of characters in topics.
var shares = []*proof.Check{
	{Name: "subscribe.shared", Title: "a shared subscription shares",
		Expected: "of 300 messages each comes to one of three members, none to two; who subscribes without sharing gets all",
		Sections: proof.Sections{V5: "4.8.2"}, Needs: proof.Needs{Least: 5, QoS: 1}, Requires: pairs, Run: subscribeShared},
	{Name: "subscribe.shared-no-retained", Title: "stored messages do not greet a shared subscription",
		Expected: "nothing that is stored comes on subscribing (told if it does: the standard has no MUST here); what is published afterwards with retain comes to one member",
		Sections: proof.Sections{V5: "4.8.2"}, Needs: proof.Needs{Least: 3, QoS: 1, Retained: true}, Requires: append(pairs, "retain.greets"),
		Run: subscribeSharedNoRetained},
	{Name: "subscribe.utf8-exact", Title: "characters in topics are left alone",
		Expected: "U+FEFF in front and inside, letters with their accents in one character or in two, and characters beyond the first 65,536 arrive as published, and match only themselves",
		Sections: proof.Sections{V31: "Appendix A", V311: "1.5.3, 4.7.3", V5: "1.5.4, 4.7.3"}, Needs: proof.Needs{Least: 3}, Requires: pairs, Run: subscribeUTF8Exact},
}

func subscribeShared(p *proof.Pass) error {
	const messages, ahead = 300, 10
	publisher, plain := p.Client("publisher"), p.Client("plain")
	members := []*proof.Client{p.Client("member-1"), p.Client("member-2"), p.Client("member-3")}
	if err := p.ConnectAll(append(members, publisher, plain)...); err != nil {
		return err
	}
	topic := p.Topic("work")
	for _, m := range members {
		if _, err := p.Subscribe(m, "$share/hodstone/"+topic, 1); err != nil {
			return err
		}
	}
	if _, err := p.Subscribe(plain, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("publish %d messages", messages)
	for n := range messages {
		_, pub, err := p.Start(publisher, publish(topic, fmt.Sprint("job ", n+1), 1, false))
		if err != nil {
			return err
		}
		if n%ahead != ahead-1 {
			continue
		}
		if err := p.Complete(pub); err != nil {
			return err
		}
		if p.AwaitMessage(plain, from, topic, fmt.Sprint("job ", n+1)) == nil {
			return proof.Break("who subscribes without sharing: %s", p.Instead(plain, from, topic, fmt.Sprint("job ", n+1)))
		}
	}
	if _, err := p.Quiet(append(members, plain)...); err != nil {
		return err
	}
	got := map[string][]*trace.Event{}
	share := make([]int, len(members))
	for i, m := range members {
		for _, e := range p.Messages(m, from) {
			if !e.Publish().Dup { // a resend goes to whom it went before
				got[string(e.Publish().Payload)] = append(got[string(e.Publish().Payload)], e)
				share[i]++
			}
		}
	}
	for n := range messages {
		text := fmt.Sprint("job ", n+1)
		copies := got[text]
		if len(copies) > 1 {
			p.Decide(copies...)
			return proof.Break("%q came to %d members", text, len(copies))
		}
		if len(copies) == 0 {
			p.Decide(p.Await(publisher, from, 0, func(e *trace.Event) bool {
				return e.Publish() != nil && string(e.Publish().Payload) == text
			}))
			return proof.Break("%q came to no member", text)
		}
		if n == 0 || n == messages-1 {
			p.Decide(copies[0])
		}
	}
	for i, n := range share {
		if n == 0 {
			p.Note("the %s got nothing", members[i].Name)
		}
	}
	p.Saw("%d messages, each to one member: %d, %d and %d", messages, share[0], share[1], share[2])
	return nil
}

func subscribeSharedNoRetained(p *proof.Pass) error {
	publisher := p.Client("publisher")
	members := []*proof.Client{p.Client("member-1"), p.Client("member-2")}
	if err := p.ConnectAll(append(members, publisher)...); err != nil {
		return err
	}
	topic := p.Topic("value")
	if _, err := p.Publish(publisher, publish(topic, "stored", 1, true)); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("two subscribe to it by a shared subscription")
	for _, m := range members {
		if _, err := p.Subscribe(m, "$share/hodstone/"+topic, 1); err != nil {
			return err
		}
	}
	if _, err := p.Quiet(members...); err != nil {
		return err
	}
	for _, m := range members {
		if greeted := p.Arrivals(m, from, topic, "stored"); len(greeted) > 0 {
			p.Decide(greeted...)
			p.Note("a stored message greeted the shared subscription of the %s, which the standard says is not so, without a MUST", m.Name)
		}
	}
	from = p.Mark()
	p.Step("publish to it again, with retain")
	sent, err := p.Publish(publisher, publish(topic, "now", 1, true))
	if err != nil {
		return err
	}
	p.Decide(sent)
	wait, err := p.Quiet(members...)
	if err != nil {
		return err
	}
	n := 0
	for _, m := range members {
		copies := p.Arrivals(m, from, topic, "now")
		p.Decide(copies...)
		n += len(copies)
	}
	if n == 0 { // it may be late
		for _, m := range members {
			if e := p.AwaitMessage(m, from, topic, "now"); e != nil {
				p.Decide(e)
				n++
				break
			}
		}
	}
	if n != 1 {
		return proof.Break("a retained message that was published afterwards came to %d members, not to one, within %s", n, short(wait))
	}
	p.Saw("nothing greeted them; what came afterwards went to one")
	return nil
}

// utf8Topics are names whose characters brokers were seen to change, and beside each one that looks alike; ~ stands for the
// check's own root.
var utf8Topics = []struct{ name, alike string }{
	{"~/\ufeffmark in front", "~/mark in front"}, {"~/mark\ufeffinside", "~/markinside"}, {"~/caf\u00e9", "~/cafe\u0301"},
	{"~/cafe\u0301 in two", "~/caf\u00e9 in two"}, {"~/\ufb01sh", "~/fish"}, {"~/\u2460", "~/1"}, {"~/\U0001f41f", "~/\ufffd"},
	{"~/\u00a0no break\u00a0", "~/ no break "}, {"~/stra\u00dfe", "~/strasse"},
}

func subscribeUTF8Exact(p *proof.Pass) error {
	publisher, exact, alike := p.Client("publisher"), p.Client("exact"), p.Client("alike")
	if err := p.ConnectAll(publisher, exact, alike); err != nil {
		return err
	}
	root := p.Topic("t")
	full := func(s string) string { return strings.Replace(s, "~", root, 1) }
	p.Step("subscribe to the very names, and with another client to those that only look alike")
	for _, x := range utf8Topics {
		if _, err := p.Subscribe(exact, full(x.name), 1); err != nil {
			return err
		}
		if _, err := p.Subscribe(alike, full(x.alike), 1); err != nil {
			return err
		}
	}
	from := p.Mark()
	q := p.Highest(1)
	for _, x := range utf8Topics {
		p.Step("publish to %+q", x.name)
		e, err := passed(p, publisher, exact, publish(full(x.name), "to "+fmt.Sprintf("%+q", x.name), q, false), q)
		if err != nil {
			return err
		}
		if p.Decide(e); e == nil {
			return proof.Break("%+q was published: %s", x.name,
				strings.ReplaceAll(p.Instead(exact, from, full(x.name), "to "+fmt.Sprintf("%+q", x.name)), root, "~"))
		}
	}
	if _, err := p.Quiet(alike); err != nil {
		return err
	}
	for _, e := range p.Messages(alike, from) {
		p.Decide(e)
		return proof.Break("%+q was passed on to a client whose filter only looks alike", strings.ReplaceAll(e.Topic(), root, "~"))
	}
	p.Saw("all %d names arrived as published, and matched only themselves", len(utf8Topics))
	return nil
}
