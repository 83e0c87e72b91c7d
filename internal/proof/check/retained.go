package check

import (
	"fmt"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// stores are the checks without which nothing can be told of what is stored.
var stores = []string{"retain.greets"}

// The checks of what is stored beside those in retain.go: what replaces it, what leaves it, whom it greets.
var retained = []*proof.Check{
	{
		Name:     "retain.replaced",
		Title:    "only the newest message is stored",
		Expected: "the last of five stored messages greets a newcomer, and no other: they are long and short, at QoS 1 and 2, of two publishers; a sixth at QoS 0 takes its place, and need not be stored itself",
		Sections: proof.Same(
			"3.3",
			"3.3.1.3",
		),
		Needs:    proof.Needs{Least: 3, QoS: 1, Retained: true},
		Requires: stores,
		Run:      retainReplaced,
	},
	{
		Name:     "retain.unretained-leaves",
		Title:    "a plain message leaves what is stored",
		Expected: "the stored message greets a newcomer after plain messages on its topic, an empty one among them",
		Sections: proof.Same(
			"3.3",
			"3.3.1.3",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1, Retained: true},
		Requires: stores,
		Run:      retainUnretainedLeaves,
	},
	{
		Name:     "retain.wildcard",
		Title:    "a wildcard is greeted by all that it matches",
		Expected: "a newcomer with # gets each stored message below, and that of the level itself; one with + those one level below; each once",
		Sections: proof.Same(
			"3.3",
			"3.3.1.3",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1, Retained: true},
		Requires: append(stores, "subscribe.wildcards"),
		Run:      retainWildcard,
	},
	{
		Name:     "retain.resubscribe",
		Title:    "who subscribes again is greeted again",
		Expected: "the stored message again after the same SUBSCRIBE; in version 5 as retain handling says: 0 always, 1 for a new subscription only, 2 never",
		Sections: proof.Sections{
			V31:  "3.8",
			V311: "3.8.4",
			V5:   "3.8.3.1",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1, Retained: true},
		Requires: stores,
		Run:      retainResubscribe,
	},
	{Name: "retain.as-published", Title: "retain as published leaves the flag",
		Expected: "a subscriber with the option gets retained messages with flag 1, and others with flag 0",
		Sections: proof.Sections{V5: "3.8.3.1"}, Needs: proof.Needs{Least: 2, Retained: true}, Run: retainAsPublished},
	{
		Name:     "retain.owner-gone",
		Title:    "what is stored outlives its publisher",
		Expected: "the stored message greets a newcomer after its publisher has left by DISCONNECT, and another's after it was cut",
		Sections: proof.Sections{
			V31:  "3.3",
			V311: "3.1.2.4",
			V5:   "4.1",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1, Retained: true},
		Requires: stores,
		Run:      retainOwnerGone,
	},
	{
		Name:     "retain.expiry",
		Title:    "what is stored expires",
		Expected: "a message with expiry 4 s greets a newcomer 2 s later with the time that is left, and none 6 s later",
		Sections: proof.Sections{
			V5: "3.3.2.3.3",
		},
		Needs:    proof.Needs{Least: 3, QoS: 1, Retained: true},
		Requires: stores,
		Run:      retainExpiry,
	},
}

// greeted lets a newcomer subscribe, and returns what it was sent on topics of the check until all was quiet: what is due
// has come by then.
func greeted(p *proof.Pass, name string, sub packet.Subscription, due ...string) ([]*trace.Event, error) {
	peer := p.Client(name)
	if _, err := p.Enter(peer); err != nil {
		return nil, err
	}
	defer peer.Disconnect(0)
	p.Step("the %s subscribes to %s", name, shorter(sub.Filter))
	return greetedAgain(p, peer, sub, due...)
}

func greetedAgain(p *proof.Pass, peer *proof.Client, sub packet.Subscription, due ...string) ([]*trace.Event, error) {
	from := p.Mark()
	if _, err := p.SubscribeWith(peer, sub); err != nil {
		return nil, err
	}
	for _, topic := range due {
		p.Await(peer, from, arrivalTime, func(e *trace.Event) bool {
			return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == topic
		})
	}
	if _, err := p.Quiet(peer); err != nil {
		return nil, err
	}
	got := p.Messages(peer, from)
	p.Decide(got...)
	return got, nil
}

// exactly wants one message with the text, and says what came in place of it.
func exactly(p *proof.Pass, got []*trace.Event, text, who string) error {
	switch {
	case len(got) == 0:
		return proof.Break("nothing greeted %s", who)
	case string(got[0].Publish().Payload) != text:
		return proof.Break("%.40q greeted %s in place of %.40q", got[0].Publish().Payload, who, text)
	case len(got) > 1:
		return proof.Break("%d messages greeted %s", len(got), who)
	}
	return nil
}

func exact(topic string) packet.Subscription { return packet.Subscription{Filter: topic, QoS: 1} }

func retainReplaced(p *proof.Pass) error {
	one, other := p.Client("publisher"), p.Client("other-publisher")
	if err := p.ConnectAll(one, other); err != nil {
		return err
	}
	topic, last := p.Topic("value"), ""
	for i, m := range []struct {
		by   *proof.Client
		qos  packet.QoS
		long bool
	}{{one, 1, false}, {one, 2, true}, {other, 1, false}, {one, 1, true}, {other, 1, false}} {
		if last = fmt.Sprintf("value %d", i+1); m.long {
			last = p.Long(last)
		}
		p.Step("store value %d at QoS %d", i+1, p.Highest(m.qos))
		sent, err := p.Publish(m.by, publish(topic, last, p.Highest(m.qos), true))
		if err != nil && m.qos == 2 && m.by.Connected() { // plain means: that is a matter of the checks on QoS
			p.Note("a message at QoS 2 could not be published; not tried")
			continue
		} else if err != nil {
			return err
		}
		if i == 4 {
			p.Decide(sent)
		}
	}
	got, err := greeted(p, "newcomer", exact(topic), topic)
	if err != nil {
		return err
	}
	if err := exactly(p, got, last, "a newcomer"); err != nil {
		return err
	}
	p.Saw("the fifth message, and no other")
	return replacedAtZero(p, one, other, topic, last)
}

// replacedAtZero stores a message at QoS 0: it need not be stored itself, and must discard the one before (3.1.1 §3.3.1.3).
// That the broker has taken it shows with a subscriber that gets it.
func replacedAtZero(p *proof.Pass, publisher, watcher *proof.Client, topic, before string) error {
	const text = "a value at QoS 0"
	from := p.Mark()
	if _, err := p.Subscribe(watcher, topic, 0); err != nil {
		return err
	}
	p.Step("store a message at QoS 0")
	if _, err := p.Publish(publisher, publish(topic, text, 0, true)); err != nil {
		return err
	}
	came := p.AwaitMessage(watcher, from, topic, text)
	if came == nil {
		p.Note("a message at QoS 0 was lost, which may be; whether it discards the stored one is not seen")
		return nil
	}
	got, err := greeted(p, "later-newcomer", exact(topic), topic)
	if err != nil {
		return err
	}
	for _, e := range got {
		switch greeting := string(e.Publish().Payload); {
		case greeting != before:
		case p.Version == packet.V31:
			p.Note("a stored message at QoS 0 leaves the one before it stored; 3.1 does not say")
		default:
			p.Decide(came, e)
			return proof.Break("%.40q greeted a newcomer, though a retained message at QoS 0 has come since", greeting)
		}
	}
	if len(got) == 0 {
		p.Note("retained messages at QoS 0 are not stored, which 3.1.1 §3.3.1.3 allows")
	}
	return nil
}

func retainUnretainedLeaves(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	topic := p.Topic("value")
	p.Step("store a message, then publish plain ones")
	if _, err := p.Publish(publisher, publish(topic, "stored", 1, true)); err != nil {
		return err
	}
	for i, text := range []string{"passing by", "", p.Long("passing by"), "passing by at QoS 0"} {
		qos := packet.QoS(1)
		if i == 3 {
			qos = 0
		}
		sent, err := p.Publish(publisher, publish(topic, text, qos, false))
		if err != nil {
			return err
		}
		p.Decide(sent)
		// At QoS 0 it may still be under way, and reach the newcomer as what it is.
		if _, err := p.Publish(publisher, publish(p.Topic("afterwards"), "then", 1, false)); err != nil {
			return err
		}
		got, err := greeted(p, fmt.Sprintf("newcomer-%d", i+1), exact(topic), topic)
		if err != nil {
			return err
		}
		got = slices.DeleteFunc(
			got,
			func(e *trace.Event) bool { return !e.Publish().Retain && string(e.Publish().Payload) == text },
		)
		if err := exactly(
			p,
			got,
			"stored",
			fmt.Sprintf("a newcomer after a plain message of %d bytes at QoS %d", len(text), qos),
		); err != nil {
			return err
		}
	}
	p.Saw("the stored message greeted newcomers after each of four plain ones")
	return nil
}

func retainWildcard(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	base := p.Topic("w")
	below := []string{base + "/a", base + "/b"}
	all := append([]string{base, base + "/a/c/d", base + "/e/f"}, below...)
	p.Step("store a message on each of %d topics of several levels", len(all))
	for _, topic := range append(all, p.Topic("elsewhere")) {
		if _, err := p.Publish(publisher, publish(topic, "at "+shorter(topic), 1, true)); err != nil {
			return err
		}
	}
	for _, w := range []struct {
		filter string
		want   []string
	}{{base + "/#", all}, {base + "/+", below}, {base + "/+/f", []string{base + "/e/f"}}} {
		got, err := greeted(
			p,
			"newcomer "+w.filter[len(base)+1:],
			packet.Subscription{Filter: w.filter, QoS: 1},
			w.want...)
		if err != nil {
			return err
		}
		copies := map[string]int{}
		for _, e := range got {
			copies[e.Topic()]++
		}
		for _, topic := range w.want {
			if n := copies[topic]; n != 1 {
				return proof.Break(
					"the message stored at %s came %d times to a newcomer with the filter %s",
					shorter(topic),
					n,
					shorter(w.filter),
				)
			}
			delete(copies, topic)
		}
		for topic := range copies {
			return proof.Break(
				"the message stored at %s came to a newcomer with the filter %s",
				shorter(topic),
				shorter(w.filter),
			)
		}
	}
	p.Saw("each newcomer got what its filter matches, once")
	return nil
}

func retainResubscribe(p *proof.Pass) error {
	publisher, subscriber := p.Client("publisher"), p.Client("subscriber")
	if err := p.ConnectAll(publisher, subscriber); err != nil {
		return err
	}
	handlings := []packet.RetainHandling{packet.RetainSend}
	if p.Version == packet.V5 {
		handlings = append(handlings, packet.RetainSendIfNew, packet.RetainDontSend)
	}
	for _, h := range handlings {
		topic := p.Topic("value", fmt.Sprint("handling", h))
		if _, err := p.Publish(publisher, publish(topic, "stored", 1, true)); err != nil {
			return err
		}
		sub := packet.Subscription{Filter: topic, QoS: 1, RetainHandling: h}
		for _, turn := range []struct {
			text   string
			greets bool
		}{{"for the first time", h != packet.RetainDontSend}, {"again", h == packet.RetainSend}} {
			p.Step("subscribe with retain handling %d %s", h, turn.text)
			from := p.Mark()
			var due []string
			if turn.greets {
				due = []string{topic}
			}
			got, err := greetedAgain(p, subscriber, sub, due...)
			if err != nil {
				return err
			}
			p.Decide(p.Await(subscriber, from, 0, isPacket(trace.Sent, packet.SUBSCRIBE)))
			who := fmt.Sprintf("a client that subscribed %s, with retain handling %d", turn.text, h)
			if !turn.greets && len(got) > 0 {
				return proof.Break("a stored message greeted %s", who)
			} else if !turn.greets {
				continue
			}
			if err := exactly(p, got, "stored", who); err != nil {
				return err
			}
		}
	}
	p.Saw("greeted as it must be, %d kinds of SUBSCRIBE twice each", len(handlings))
	return nil
}

func retainAsPublished(p *proof.Pass) error {
	publisher, subscriber := p.Client("publisher"), p.Client("subscriber")
	if err := p.ConnectAll(publisher, subscriber); err != nil {
		return err
	}
	topic := p.Topic("value")
	from := p.Mark()
	if _, err := p.SubscribeWith(
		subscriber,
		packet.Subscription{Filter: topic, QoS: 2, RetainAsPublished: true},
	); err != nil {
		return err
	}
	number := map[bool]int{true: 1}
	for i, flag := range []bool{true, false, true, false} {
		text := fmt.Sprintf("message %d", i+1)
		p.Step("publish with retain flag %d", number[flag])
		sent, err := p.Publish(publisher, publish(topic, text, p.Highest(1), flag))
		if err != nil {
			return err
		}
		came := p.AwaitMessage(subscriber, from, topic, text)
		p.Decide(sent, came)
		switch {
		case came == nil:
			return proof.Undecide("%s", p.Instead(subscriber, from, topic, text))
		case came.Publish().Retain != flag:
			return proof.Break("published with retain flag %d, a message came with %d", number[flag], number[!flag])
		}
	}
	p.Saw("flags 1, 0, 1 and 0, as published")
	return nil
}

func retainOwnerGone(p *proof.Pass) error {
	for _, how := range []struct {
		name, text string
		leave      func(*proof.Client) error
	}{
		{"left", "leaves by DISCONNECT", func(c *proof.Client) error { return c.Disconnect(0) }},
		{"cut", "is cut", cut},
	} {
		owner := p.Client("publisher-" + how.name)
		if _, err := p.Enter(owner); err != nil {
			return err
		}
		topic := p.Topic("value", how.name)
		p.Step("a publisher stores a message, and %s; its session ends with it", how.text)
		sent, err := p.Publish(owner, publish(topic, "stored", 1, true))
		if err != nil {
			return err
		}
		from := p.Mark()
		if err := how.leave(owner); err != nil {
			return proof.Undecide("%v", err)
		}
		p.Decide(sent, p.Await(owner, from, arrivalTime, func(e *trace.Event) bool { return e.Kind == trace.Link }))
		if _, err := p.Quiet(); err != nil {
			return err
		}
		got, err := greeted(p, "newcomer-"+how.name, exact(topic), topic)
		if err != nil {
			return err
		}
		if err := exactly(
			p,
			got,
			"stored",
			"a newcomer after the publisher "+map[string]string{"left": "had left", "cut": "was cut"}[how.name],
		); err != nil {
			return err
		}
	}
	p.Saw("both messages greeted newcomers")
	return nil
}

// The expiry of what is stored for the check, in seconds, when a newcomer comes before it is over, and when one comes after.
const (
	storedFor   = 4
	storedSince = 2 * time.Second
	storedGone  = 6 * time.Second
)

func retainExpiry(p *proof.Pass) error {
	publisher, early, tardy := p.Client("publisher"), p.Client("newcomer-in-time"), p.Client("newcomer-too-late")
	if err := p.ConnectAll(publisher, early, tardy); err != nil { // before the time begins to run
		return err
	}
	topic := p.Topic("value")
	m := publish(topic, "stored", 1, true)
	m.Properties = packet.Properties{packet.Int(packet.MessageExpiry, storedFor)}
	p.Step("store a message with expiry %d s", storedFor)
	begin := time.Now() // it is stored later than this, and earlier than the acknowledgement
	sent, err := p.Publish(publisher, m)
	if err != nil {
		return err
	}
	stored := time.Now()
	p.Decide(sent)
	p.Wait(storedSince)
	p.Step("a client subscribes %s later", storedSince)
	from := p.Mark()
	got, err := greetedAgain(p, early, exact(topic), topic)
	if err != nil {
		return err
	}
	if ack := p.Await(early, from, 0, isPacket(trace.Received, packet.SUBACK)); len(got) == 0 && ack != nil {
		p.Decide(ack)
		if since := ack.At.Sub(begin); since > (storedFor-1)*time.Second {
			return proof.Undecide("the newcomer came %s after it was stored: too late to tell", short(since))
		}
	}
	if err := exactly(p, got, "stored", "a newcomer 2 s after it was stored"); err != nil {
		return err
	}
	left, told := got[0].Publish().Properties.Int(packet.MessageExpiry)
	waited, longest := got[0].At.Sub(stored), got[0].At.Sub(begin)
	switch most := storedFor - uint32(waited/time.Second) + 1; { // whole seconds, counted one way or the other
	case !told:
		return proof.Break("the message came without its expiry, %s after it was stored", short(waited))
	case left > most || left > storedFor-1 || left+1+uint32(longest/time.Second) < storedFor:
		return proof.Break(
			"the message came with expiry %d s, %s after it was stored with %d s",
			left,
			short(waited),
			storedFor,
		)
	}
	p.Wait(storedGone - time.Since(stored))
	p.Step("another subscribes when it is over")
	late, err := greetedAgain(p, tardy, exact(topic))
	if err != nil {
		return err
	}
	if len(late) > 0 {
		return proof.Break(
			"the message greeted a newcomer %s after it was stored with expiry %d s",
			short(late[0].At.Sub(stored)),
			storedFor,
		)
	}
	p.Saw("it greeted a newcomer with %d s left, and none after %s", left, short(storedGone))
	return nil
}
