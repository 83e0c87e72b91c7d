package check

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// Retained messages are stored at QoS 1 and 2: 3.1.1 lets a broker drop them at QoS 0.
var retain = []*proof.Check{
	{
		Name:     "retain.greets",
		Title:    "the last retained value greets a newcomer",
		Expected: "the last stored message after SUBACK, once, byte for byte, with retain flag 1, at the lower of published and granted QoS: through exact filters and wildcards",
		Sections: proof.Same("3.3, 3.8", "3.3.1.3"),
		Needs:    proof.Needs{Least: 2, Most: 7, QoS: 1, Retained: true},
		Run:      retainGreets,
	},
	{
		Name:     "retain.live-flag",
		Title:    "an established subscriber sees retain flag 0",
		Expected: "each message with retain flag 0: at every QoS, the first and later, through exact filters and wildcards",
		Sections: proof.Same("3.3", "3.3.1.3"),
		Needs:    proof.Needs{Least: 3, Retained: true},
		Run:      retainLiveFlag,
	},
	{
		Name:     "retain.cleared",
		Title:    "an empty retained message clears the stored one",
		Expected: "the empty message with flag 0 for the established subscriber, nothing for a newcomer; at QoS 0 and 1",
		Sections: proof.Same("3.3", "3.3.1.3"),
		Needs:    proof.Needs{Least: 4, QoS: 1, Retained: true},
		Run:      retainCleared,
	},
}

func retainGreets(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	stored := map[packet.QoS]*trace.Event{}
	for q := packet.QoS(1); q <= 2; q++ {
		topic := p.Topic("stored", fmt.Sprintf("qos%d", q))
		for _, text := range []string{"first", lastStored(p, q)} {
			p.Step("publish %q retained at QoS %d", text[:5], q)
			sent, err := p.Publish(publisher, publish(topic, text, q, true))
			if err != nil && q == 2 && publisher.Connected() { // plain means: that is a matter of the checks on QoS
				p.Note("a message at QoS 2 could not be published; not tried")
				delete(stored, q)
				break
			} else if err != nil {
				return err
			}
			stored[q] = sent
		}
	}
	var all []*newcomer
	for asked := range packet.QoS(3) {
		for _, kind := range []string{"exact", "wild"} {
			all = append(all, &newcomer{asked: asked, kind: kind, granted: map[packet.QoS]packet.QoS{}})
		}
	}
	for some := range slices.Chunk(all, max(1, p.Room()-1)) {
		if err := greet(p, some, stored); err != nil {
			return err
		}
	}
	p.Saw("%d newcomers got each stored message once, with retain flag 1, at the lower QoS", len(all))
	return nil
}

// lastStored is the payload that is stored at a QoS at last.
func lastStored(p *proof.Pass, q packet.QoS) string { return p.Long(fmt.Sprintf("last at QoS %d", q)) }

// newcomer subscribes when messages are stored already.
type newcomer struct {
	*proof.Client
	tries   int // newcomers of its kind before it, to whom a message at QoS 0 was lost
	lost    map[packet.QoS]bool
	asked   packet.QoS
	kind    string // of its filters
	from    uint64
	granted map[packet.QoS]packet.QoS // by the QoS stored at
}

// greet lets newcomers subscribe, and looks at all that they get.
func greet(p *proof.Pass, some []*newcomer, stored map[packet.QoS]*trace.Event) error {
	var peers []*proof.Client
	for _, n := range some {
		name := fmt.Sprintf("newcomer-%s-%d", n.kind, n.asked)
		if n.tries > 0 {
			name = fmt.Sprintf("%s-%d", name, n.tries+1)
		}
		n.Client, n.lost = p.Client(name), map[packet.QoS]bool{}
		peers = append(peers, n.Client)
	}
	if err := p.ConnectAll(peers...); err != nil {
		return err
	}
	for _, n := range some {
		defer n.Disconnect(0)
		if err := n.subscribe(p, stored); err != nil {
			return err
		}
	}
	var again []*newcomer
	for _, n := range some {
		for q, sent := range stored {
			if p.AwaitMessage(n.Client, n.from, sent.Topic(), lastStored(p, q)) != nil {
				continue
			}
			instead := p.Instead(n.Client, n.from, sent.Topic(), lastStored(p, q))
			if min(q, n.granted[q]) == 0 && n.tries+1 < qos0Tries && n.Connected() &&
				strings.HasPrefix(instead, "nothing came") {
				n.lost[q] = true
				continue
			}
			p.Decide(sent)
			return proof.Break("a newcomer at QoS %d (%s filter): %s", n.asked, n.kind, instead)
		}
		if len(n.lost) > 0 {
			p.Note("a stored message at QoS 0 did not come, and may have been lost; tried again")
			again = append(
				again,
				&newcomer{asked: n.asked, kind: n.kind, tries: n.tries + 1, granted: map[packet.QoS]packet.QoS{}},
			)
		}
	}
	if _, err := p.Quiet(peers...); err != nil {
		return err
	}
	for _, n := range some {
		if err := n.verify(p, stored); err != nil {
			return err
		}
	}
	for _, n := range some {
		n.Disconnect(0) // room for the next
	}
	for some := range slices.Chunk(again, max(1, p.Room()-1)) {
		if err := greet(p, some, stored); err != nil {
			return err
		}
	}
	return nil
}

func (n *newcomer) subscribe(p *proof.Pass, stored map[packet.QoS]*trace.Event) error {
	p.Step(
		"a newcomer subscribes at QoS %d, %s",
		n.asked,
		map[string]string{"exact": "topic by topic", "wild": "with a wildcard"}[n.kind],
	)
	n.from = p.Mark()
	if n.kind == "wild" { // it matches all
		granted, err := p.Subscribe(n.Client, p.Topic("stored", "+"), n.asked)
		n.granted[1], n.granted[2] = granted, granted
		return err
	}
	for q, sent := range stored {
		var err error
		if n.granted[q], err = p.Subscribe(n.Client, sent.Topic(), n.asked); err != nil {
			return err
		}
	}
	return nil
}

// verify looks at all that the newcomer got.
func (n *newcomer) verify(p *proof.Pass, stored map[packet.QoS]*trace.Event) error {
	for q, sent := range stored {
		copies := p.Arrivals(n.Client, n.from, sent.Topic(), lastStored(p, q))
		for _, e := range copies {
			m := e.Publish()
			switch p.Decide(e); {
			case !m.Retain:
				return proof.Break("the stored message came with retain flag 0")
			case m.QoS != min(q, n.granted[q]):
				return proof.Break(
					"a message stored at QoS %d came at QoS %d where QoS %d was granted",
					q,
					m.QoS,
					n.granted[q],
				)
			}
		}
		if len(copies) != 1 && !(len(copies) == 0 && n.lost[q]) {
			return proof.Break(
				"the stored message came %d times to a newcomer at QoS %d (%s filter)",
				len(copies),
				n.asked,
				n.kind,
			)
		}
		for _, e := range p.Messages(n.Client, n.from) {
			if e.Topic() == sent.Topic() && string(e.Publish().Payload) == "first" {
				p.Decide(e)
				return proof.Break("the first message came, which was replaced by another")
			}
		}
	}
	return nil
}

func retainLiveFlag(p *proof.Pass) error {
	publisher, exact, wildcard := p.Client("publisher"), p.Client("exact"), p.Client("wildcard")
	if err := p.ConnectAll(publisher, exact, wildcard); err != nil {
		return err
	}
	for q := range packet.QoS(3) {
		if _, err := p.Subscribe(exact, p.Topic("live", fmt.Sprintf("qos%d", q)), 2); err != nil {
			return err
		}
	}
	if _, err := p.Subscribe(wildcard, p.Topic("live", "+"), 2); err != nil {
		return err
	}
	from := p.Mark()
	for q := range packet.QoS(3) {
		topic := p.Topic("live", fmt.Sprintf("qos%d", q))
		for _, text := range []string{"first", "second", p.Long("third")} {
			p.Step("publish %q retained at QoS %d while the subscribers are there", text[:5], q)
			var sent *trace.Event
			var came [2]*trace.Event
			for try := 0; try < qos0Tries && (came[0] == nil || came[1] == nil); try++ {
				if try > 0 && q > 0 {
					break
				}
				var err error
				sent, err = p.Publish(publisher, publish(topic, text, q, true))
				if unsupported(err) || err != nil && q == 2 && publisher.Connected() {
					p.Note("a message at QoS %d could not be published; not tried", q)
					came[0], came[1] = &trace.Event{}, &trace.Event{}
					break
				} else if err != nil {
					return err
				}
				for i, peer := range []*proof.Client{exact, wildcard} {
					came[i] = p.AwaitMessage(peer, from, topic, text)
				}
			}
			for i, peer := range []*proof.Client{exact, wildcard} {
				if came[i] == nil {
					p.Decide(sent)
					return proof.Break(
						"the %s subscriber, published at QoS %d: %s",
						peer.Name,
						q,
						p.Instead(peer, from, topic, text),
					)
				}
			}
		}
	}
	if _, err := p.Quiet(exact, wildcard); err != nil {
		return err
	}
	for _, peer := range []*proof.Client{exact, wildcard} {
		for _, e := range p.Messages(peer, from) {
			if e.Publish().Retain {
				p.Decide(e)
				return proof.Break(
					"%q arrived with retain flag 1 at QoS %d, through the %s filter",
					e.Publish().Payload[:5],
					e.Publish().QoS,
					peer.Name,
				)
			}
		}
		p.Decide(p.Messages(peer, from)[0])
	}
	p.Saw("all arrived with retain flag 0")
	return nil
}

func retainCleared(p *proof.Pass) error {
	publisher, subscriber := p.Client("publisher"), p.Client("subscriber")
	if err := p.ConnectAll(publisher, subscriber); err != nil {
		return err
	}
	for q := range packet.QoS(2) {
		topic := p.Topic("value", fmt.Sprintf("qos%d", q))
		p.Step("publish retained; see that it greets a newcomer")
		if _, err := p.Publish(publisher, publish(topic, "stored", 1, true)); err != nil {
			return err
		}
		before := p.Client(fmt.Sprintf("newcomer-before-%d", q))
		if _, err := p.Enter(before); err != nil {
			return err
		}
		from := p.Mark()
		if _, err := p.Subscribe(before, topic, 1); err != nil {
			return err
		}
		if p.AwaitMessage(before, from, topic, "stored") == nil {
			return proof.Undecide("nothing was stored, so nothing could be cleared (see retain.greets)")
		}
		before.Disconnect(0)
		if _, err := p.Subscribe(subscriber, topic, 1); err != nil {
			return err
		}
		from = p.Mark()
		p.Step("publish an empty retained message at QoS %d", q)
		sent, err := p.Publish(publisher, publish(topic, "", q, true))
		if err != nil {
			return err
		}
		e := p.AwaitMessage(subscriber, from, topic, "")
		for try := 1; e == nil && q == 0 && try < qos0Tries && subscriber.Connected(); try++ {
			p.Note("an empty message at QoS 0 did not come, and may have been lost; sent again")
			if sent, err = p.Publish(publisher, publish(topic, "", q, true)); err != nil {
				return err
			}
			e = p.AwaitMessage(subscriber, from, topic, "")
		}
		switch {
		case e == nil:
			p.Decide(sent)
			return proof.Break("the established subscriber did not get the empty message within 5 s")
		case e.Publish().Retain:
			p.Decide(e)
			return proof.Break("the established subscriber got the empty message with retain flag 1")
		}
		for _, filter := range []string{topic, p.Topic("value", "+")} {
			if err := nothing(p, filter, topic, sent); err != nil {
				return err
			}
		}
	}
	p.Saw("the empty message came with flag 0; nothing greeted newcomers")
	return nil
}

// nothing lets a newcomer subscribe, who must not be greeted by anything on the topic.
func nothing(p *proof.Pass, filter, topic string, sent *trace.Event) error {
	after := p.Client("newcomer-" + shorter(filter))
	if _, err := p.Enter(after); err != nil {
		return err
	}
	defer after.Disconnect(0)
	from := p.Mark()
	p.Step("a newcomer subscribes to %s", shorter(filter))
	if _, err := p.Subscribe(after, filter, 1); err != nil {
		return err
	}
	if _, err := p.Quiet(after); err != nil {
		return err
	}
	for _, e := range p.Messages(after, from) {
		if e.Topic() == topic {
			p.Decide(sent, e)
			return proof.Break("a newcomer was greeted with %q", fmt.Sprintf("%.40s", e.Publish().Payload))
		}
	}
	p.Decide(sent)
	return nil
}
