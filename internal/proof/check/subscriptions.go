package check

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of what SUBSCRIBE and UNSUBSCRIBE do.
var subscriptions = []*proof.Check{
	{
		Name:     "subscribe.dollar",
		Title:    "wildcards do not reach the broker's own topics",
		Expected: "a topic of the broker that begins with $ comes by its own name, and neither by # nor by a filter that begins with +",
		Sections: proof.Same("Appendix A", "4.7.2"),
		Needs:    proof.Needs{Least: 2},
		Run:      subscribeDollar,
	},
	{
		Name:     "subscribe.overlap",
		Title:    "overlapping filters",
		Expected: "a message that several filters of a client match comes once at the highest QoS of these, or once more for each of the others, and no oftener",
		Sections: proof.Sections{
			V311: "3.3.5",
			V5:   "3.3.4",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      subscribeOverlap,
	},
	{Name: "subscribe.replace", Title: "subscribing again replaces the subscription",
		Expected: "one copy of each message, at the QoS, and in version 5 by the options, that was asked for last",
		Sections: proof.Same("3.8", "3.8.4"), Needs: proof.Needs{Least: 2, QoS: 1},
		Requires: append(pairs, "retain.live-flag"), Run: subscribeReplace},
	{
		Name:     "subscribe.many",
		Title:    "one SUBSCRIBE with 20 filters",
		Expected: "20 codes in the order of the filters, and each brings its messages",
		Sections: proof.Sections{
			V31:  "3.8, 3.9",
			V311: "3.8.4, 3.9.3",
			V5:   "3.8.4, 3.9.3",
		},
		Needs:    proof.Needs{Least: 2},
		Requires: pairs,
		Run:      subscribeMany,
	},
	{
		Name:      "subscribe.bad-filter",
		Title:     "filters that are none are refused",
		Intrusive: true,
		Expected:  "for a#, a/#/b, a+/b, a/+b and an empty filter a code that refuses, or the link closed",
		Sections: proof.Sections{
			V311: "4.7.1, 4.7.3",
			V5:   "4.7.1, 4.7.3",
		},
		Needs: proof.Needs{Least: 1},
		Run:   subscribeBadFilter,
	},
	{
		Name:     "subscribe.unsubscribe",
		Title:    "UNSUBSCRIBE ends a subscription",
		Expected: "nothing more by a filter after its UNSUBACK, everything by the others; an unknown filter is answered too",
		Sections: proof.Same(
			"3.10",
			"3.10.4",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      subscribeUnsubscribe,
	},
	{
		Name:     "subscribe.no-local",
		Title:    "no local keeps own messages away",
		Expected: "what a client publishes does not come back by a subscription with no local; what others publish does, and others get it",
		Sections: proof.Sections{
			V5: "3.8.3.1",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      subscribeNoLocal,
	},
	{
		Name:     "subscribe.identifier",
		Title:    "subscription identifiers come back",
		Expected: "with each message the identifiers of the subscriptions that match it, in one copy or in several, and of no others",
		Sections: proof.Sections{
			V5: "3.3.2.3.8, 3.3.4",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      subscribeIdentifier,
	},
}

// subscribeWhich subscribes and passes over what is refused; ok tells whether it was granted.
func subscribeWhich(p *proof.Pass, peer *proof.Client, sub packet.Subscription) (ok bool, err error) {
	codes, err := p.SubscribeAll(peer, sub)
	return err == nil && codes[0] <= 2, err
}

func subscribeDollar(p *proof.Pass) error {
	if !p.Wildcards() {
		return proof.Unsupport("the broker takes no wildcards")
	}
	subject := p.Client("subject")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("subscribe to $SYS/#, as a control")
	if ok, err := subscribeWhich(p, subject, packet.Subscription{Filter: "$SYS/#"}); err != nil {
		return err
	} else if !ok {
		return proof.Skip("the login may not read $SYS/#")
	}
	dollar := func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Publish() != nil && strings.HasPrefix(e.Topic(), "$")
	}
	control := p.Await(subject, from, arrivalTime, dollar)
	if control == nil {
		return proof.Skip("the broker has no topics under $SYS")
	}
	p.Decide(control)
	if err := p.Unsubscribe(subject, "$SYS/#"); err != nil {
		return err
	}
	_, below, _ := strings.Cut(control.Topic(), "/")
	for _, filter := range []string{"+/" + below, "#"} {
		for try := 1; ; try++ { // what others publish may end our link
			err := notDollar(p, filter, dollar)
			if proof.VerdictOf(err) == proof.Undecided && try < 3 {
				continue
			} else if err != nil {
				return err
			}
			break
		}
	}
	p.Saw("%s came by its own filter alone", control.Topic())
	return nil
}

// notDollar wants nothing that begins with $ to come by a filter.
func notDollar(p *proof.Pass, filter string, dollar func(*trace.Event) bool) error {
	subject := p.Client("subject of " + filter)
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	defer subject.Disconnect(0)
	p.Step("subscribe to %s", filter)
	from := p.Mark()
	ok, err := subscribeWhich(p, subject, packet.Subscription{Filter: filter})
	if err != nil {
		return err
	}
	if !ok {
		p.Note("the login may not subscribe to %s: not tried", filter)
		return nil
	}
	p.Decide(p.Await(subject, from, 0, isPacket(trace.Received, packet.SUBACK)))
	_, lost := p.Quiet(subject)
	if e := p.Await(subject, from, 0, dollar); e != nil {
		p.Decide(e)
		return proof.Break("%s came by the filter %s", e.Topic(), filter)
	}
	return lost
}

func subscribeOverlap(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("a", "b")
	var granted []packet.QoS
	p.Step("subscribe by #, by + and by the very topic, at different QoS")
	for i, filter := range []string{p.Topic("a", "#"), p.Topic("a", "+"), topic} {
		q, err := p.Subscribe(subject, filter, packet.QoS(2-i%3))
		if err != nil {
			return err
		}
		granted = append(granted, q)
	}
	from := p.Mark()
	for q := packet.QoS(1); q <= p.Highest(2); q++ {
		text := fmt.Sprint("at ", q)
		p.Step("publish at QoS %d", q)
		sent, err := p.Publish(publisher, publish(topic, text, q, false))
		if err != nil {
			return err
		}
		p.Decide(sent)
		if p.AwaitMessage(subject, from, topic, text) == nil {
			return proof.Break("published at QoS %d: %s", q, p.Instead(subject, from, topic, text))
		}
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	for q := packet.QoS(1); q <= p.Highest(2); q++ {
		var left []packet.QoS // what each filter may bring
		for _, g := range granted {
			left = append(left, min(q, g))
		}
		highest := slices.Max(left)
		copies := p.Arrivals(subject, from, topic, fmt.Sprint("at ", q))
		p.Decide(copies...)
		at, best := "", packet.QoS(0)
		for _, e := range copies {
			got := e.Publish().QoS
			best, at = max(best, got), at+fmt.Sprintf(" QoS %d", got)
			i := slices.Index(left, got)
			if i < 0 {
				return proof.Break(
					"published at QoS %d for filters at QoS %s: %d copies came, at%s",
					q,
					list(granted),
					len(copies),
					at,
				)
			}
			left = slices.Delete(left, i, i+1)
		}
		if best < highest {
			return proof.Break(
				"published at QoS %d for filters at QoS %s: it came at%s, and not at QoS %d",
				q,
				list(granted),
				at,
				highest,
			)
		}
		if len(copies) > 1 {
			p.Note("a copy for each filter that matches")
		}
	}
	p.Saw("once at the highest QoS of the filters, and no oftener than they are")
	return nil
}

func list(all []packet.QoS) string {
	var out []string
	for _, q := range all {
		out = append(out, fmt.Sprint(q))
	}
	return strings.Join(out, ", ")
}

func subscribeReplace(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	high := p.Highest(2)
	for i, turn := range []struct{ first, then packet.QoS }{{0, high}, {high, 1}, {1, 1}} {
		topic := p.Topic(fmt.Sprint("f", i+1))
		p.Step("subscribe at QoS %d, and again at QoS %d", turn.first, turn.then)
		if _, err := p.Subscribe(subject, topic, turn.first); err != nil {
			return err
		}
		granted, err := p.Subscribe(subject, topic, turn.then)
		if err != nil {
			return err
		}
		if err := oneCopy(
			p,
			publisher,
			subject,
			topic,
			high,
			min(high, granted),
			"after the second SUBSCRIBE",
		); err != nil {
			return err
		}
	}
	if p.Version == packet.V5 {
		for i, option := range []packet.Subscription{{NoLocal: true}, {RetainAsPublished: true}} {
			topic := p.Topic(fmt.Sprint("o", i+1))
			option.Filter, option.QoS = topic, 1
			what := []string{"no local", "retain as published"}[i]
			p.Step("subscribe with %s, and again without", what)
			if _, err := p.SubscribeWith(subject, option); err != nil {
				return err
			}
			if _, err := p.Subscribe(subject, topic, 1); err != nil {
				return err
			}
			if err := withoutOption(p, subject, topic, what); err != nil {
				return err
			}
		}
	}
	p.Saw("one copy each, as asked for last")
	return nil
}

// withoutOption wants a client to get its own message as if the option had never been set.
func withoutOption(p *proof.Pass, subject *proof.Client, topic, what string) error {
	retain := what == "retain as published"
	if retain && !p.Stores() {
		p.Note("%s was not tried: the broker stores nothing", what)
		return nil
	}
	from := p.Mark()
	if _, err := p.Publish(subject, publish(topic, "own", 1, retain)); err != nil {
		return err
	}
	e := p.AwaitMessage(subject, from, topic, "own")
	p.Decide(e)
	switch {
	case e == nil:
		return proof.Break(
			"%s was taken back by another SUBSCRIBE, and still holds: %s",
			what,
			p.Instead(subject, from, topic, "own"),
		)
	case e.Publish().Retain:
		return proof.Break("%s was taken back by another SUBSCRIBE, and still holds: retain flag 1", what)
	}
	return nil
}

// oneCopy publishes at a QoS and wants one copy at another.
func oneCopy(p *proof.Pass, publisher, subject *proof.Client, topic string, q, want packet.QoS, when string) error {
	from := p.Mark()
	e, err := passed(p, publisher, subject, publish(topic, "message", q, false), want)
	if err != nil {
		return err
	}
	p.Decide(e)
	if e == nil {
		return proof.Break("%s: %s", when, p.Instead(subject, from, topic, "message"))
	}
	if got := e.Publish().QoS; got != want {
		return proof.Break("%s a message at QoS %d came at QoS %d, not %d", when, q, got, want)
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	if copies := p.Arrivals(subject, from, topic, "message"); len(copies) > 1 && want > 0 {
		p.Decide(copies...)
		return proof.Break("%s %d copies came", when, len(copies))
	}
	return nil
}

func subscribeNoLocal(p *proof.Pass) error {
	subject, other := p.Client("subject"), p.Client("other")
	if err := p.ConnectAll(subject, other); err != nil {
		return err
	}
	topic := p.Topic("message")
	p.Step("subscribe with no local; another subscribes without")
	if _, err := p.SubscribeWith(subject, packet.Subscription{Filter: topic, QoS: 1, NoLocal: true}); err != nil {
		return err
	}
	if _, err := p.Subscribe(other, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	for _, by := range []*proof.Client{subject, other} {
		p.Step("the %s publishes", by.Name)
		sent, err := p.Publish(by, publish(topic, "of the "+by.Name, 1, false))
		if err != nil {
			return err
		}
		p.Decide(sent)
	}
	for _, x := range []struct {
		at *proof.Client
		of string
	}{{other, "subject"}, {other, "other"}, {subject, "other"}} {
		e := p.AwaitMessage(x.at, from, topic, "of the "+x.of)
		if p.Decide(e); e == nil {
			return proof.Break(
				"what the %s published did not come to the %s: %s",
				x.of,
				x.at.Name,
				p.Instead(x.at, from, topic, "of the "+x.of),
			)
		}
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	for _, e := range p.Arrivals(subject, from, topic, "of the subject") {
		p.Decide(e)
		return proof.Break("its own message came back to a subscriber with no local")
	}
	p.Saw("its own message did not come back, those of others came")
	return nil
}

func subscribeIdentifier(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic, lone, bare := p.Topic("a", "b"), p.Topic("lone"), p.Topic("bare")
	for _, s := range []struct {
		filter string
		id     uint32
	}{{topic, 1}, {p.Topic("a", "#"), 268_435_455}, {lone, 300}, {bare, 0}} {
		var ps packet.Properties
		if s.id > 0 {
			ps = packet.Properties{packet.Int(packet.SubscriptionIdentifier, s.id)}
		}
		p.Step("subscribe to %s with identifier %d", shorter(s.filter), s.id)
		if _, err := p.SubscribeWith(subject, packet.Subscription{Filter: s.filter, QoS: 1}, ps...); err != nil {
			return err
		}
	}
	from := p.Mark()
	for _, m := range []string{topic, lone, bare} {
		sent, err := p.Publish(publisher, publish(m, "message", 1, false))
		if err != nil {
			return err
		}
		if p.AwaitMessage(subject, from, m, "message") == nil {
			p.Decide(sent)
			return proof.Break(
				"nothing came by a filter with an identifier: %s",
				p.Instead(subject, from, m, "message"),
			)
		}
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	for _, want := range []struct {
		topic string
		ids   []uint32
	}{{topic, []uint32{1, 268_435_455}}, {lone, []uint32{300}}, {bare, nil}} {
		var got []uint32
		for _, e := range p.Arrivals(subject, from, want.topic, "message") {
			p.Decide(e)
			for id := range e.Publish().Properties.All(packet.SubscriptionIdentifier) {
				got = append(got, id.Int)
			}
		}
		slices.Sort(got)
		if !slices.Equal(got, want.ids) {
			return proof.Break("%s came with the identifiers %v, not %v", shorter(want.topic), got, want.ids)
		}
	}
	p.Saw("each message came with the identifiers of the subscriptions that match it")
	return nil
}
