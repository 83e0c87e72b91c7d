package proof

import (
	"fmt"

	"hodstone/internal/mqtt/packet"
)

// Retained messages are published at QoS 1: 3.1.1 lets a broker drop them at QoS 0.
var retainChecks = []*Check{
	{Name: "retain.greets", Title: "the last retained value greets a newcomer",
		Expected:   "the stored message at once after SUBACK, retain flag 1, at the granted QoS at most",
		Section311: "3.3.1.3", Section5: "3.3.1.3", Run: retainGreets},
	{Name: "retain.live-flag", Title: "an established subscriber sees retain flag 0",
		Expected:   "the message with retain flag 0",
		Section311: "3.3.1.3", Section5: "3.3.1.3", Run: retainLiveFlag},
	{Name: "retain.cleared", Title: "an empty retained message clears the stored one",
		Expected:   "the empty message with flag 0 for the established subscriber, nothing for a newcomer",
		Section311: "3.3.1.3", Section5: "3.3.1.3", Run: retainCleared},
}

func retainGreets(p *Pass) error {
	publisher := p.Peer("publisher")
	newcomers := [2]*Peer{p.Peer("newcomer-0"), p.Peer("newcomer-1")}
	if err := p.ConnectAll(publisher, newcomers[0], newcomers[1]); err != nil {
		return err
	}
	topic := p.Topic("value")
	for _, text := range []string{"first", "last"} {
		p.Step("publish %q retained at QoS 1", text)
		if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: 1, Retain: true, Payload: []byte(text)}); err != nil {
			return err
		}
	}
	for asked, newcomer := range newcomers {
		p.Step("a newcomer subscribes at QoS %d", asked)
		from := p.Mark()
		granted, err := p.Subscribe(newcomer, topic, packet.QoS(asked))
		if err != nil {
			return err
		}
		m := p.AwaitMessage(newcomer, from, topic, "last")
		switch {
		case m == nil:
			return Break("nothing greeted the newcomer within 5 s")
		case !m.Retain:
			return Break("the stored message came with retain flag 0")
		case m.QoS > granted:
			return Break("the stored message came at QoS %d although QoS %d was granted", m.QoS, granted)
		}
	}
	p.Saw("both newcomers got it with retain flag 1")
	return nil
}

func retainLiveFlag(p *Pass) error {
	publisher, subscriber := p.Peer("publisher"), p.Peer("subscriber")
	if err := p.ConnectAll(publisher, subscriber); err != nil {
		return err
	}
	topic := p.Topic("value")
	if _, err := p.Subscribe(subscriber, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("publish retained while the subscriber is there")
	if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: 1, Retain: true, Payload: []byte("live")}); err != nil {
		return err
	}
	m := p.AwaitMessage(subscriber, from, topic, "live")
	switch {
	case m == nil:
		return Break("nothing arrived within 5 s")
	case m.Retain:
		return Break("it arrived with retain flag 1")
	}
	p.Saw("it arrived with retain flag 0")
	return nil
}

func retainCleared(p *Pass) error {
	publisher, subscriber := p.Peer("publisher"), p.Peer("subscriber")
	before, after := p.Peer("newcomer-before"), p.Peer("newcomer-after")
	if err := p.ConnectAll(publisher, subscriber, before, after); err != nil {
		return err
	}
	topic := p.Topic("value")
	p.Step("publish retained; see that it greets a newcomer")
	if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: 1, Retain: true, Payload: []byte("stored")}); err != nil {
		return err
	}
	from := p.Mark()
	if _, err := p.Subscribe(before, topic, 1); err != nil {
		return err
	}
	if p.AwaitMessage(before, from, topic, "stored") == nil {
		return Undecide("nothing was stored, so nothing could be cleared (see retain.greets)")
	}
	if _, err := p.Subscribe(subscriber, topic, 1); err != nil {
		return err
	}
	from = p.Mark()
	p.Step("publish an empty retained message")
	if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: 1, Retain: true}); err != nil {
		return err
	}
	switch m := p.AwaitMessage(subscriber, from, topic, ""); {
	case m == nil:
		return Break("the established subscriber did not get the empty message within 5 s")
	case m.Retain:
		return Break("the established subscriber got the empty message with retain flag 1")
	}
	from = p.Mark()
	p.Step("a newcomer subscribes")
	if _, err := p.Subscribe(after, topic, 1); err != nil {
		return err
	}
	waited, err := p.Quiet(after)
	if err != nil {
		return err
	}
	if got := p.Messages(after, from); len(got) > 0 {
		return Break("a newcomer was greeted with %q", fmt.Sprintf("%.40s", got[0].Payload))
	}
	p.Saw("the empty message came with flag 0; nothing greeted a newcomer in %s", short(waited))
	return nil
}
