package check

import (
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

func subscribeMany(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	ask := &packet.Subscribe{ID: 7}
	for n := range 20 { // QoS 0, 1 and 2 by turns, so that their order shows
		ask.Subscriptions = append(
			ask.Subscriptions,
			packet.Subscription{Filter: p.Topic(fmt.Sprint("f", n+1)), QoS: packet.QoS(n % 3)},
		)
	}
	for most := p.Largest(); most > 0 && len(ask.Append(nil, p.Version)) > most && len(ask.Subscriptions) > 2; {
		ask.Subscriptions = ask.Subscriptions[:len(ask.Subscriptions)-1]
	}
	link, from, ack, err := askMany(p, "subject", ask)
	if err != nil {
		return err
	}
	if ack == nil && p.Gone(link, from, 0) != nil &&
		len(ask.Subscriptions) > fewFilters { // it may take so many and no more
		few := *ask
		few.Subscriptions = ask.Subscriptions[:fewFilters]
		if _, _, less, err := askMany(p, "fewer", &few); err != nil {
			return err
		} else if less != nil {
			return proof.Unsupport(
				"the link is closed on a SUBSCRIBE with %d filters; one with %d is answered",
				len(ask.Subscriptions),
				fewFilters,
			)
		}
	}
	many := len(ask.Subscriptions)
	if ack == nil {
		return proof.Break("no SUBACK within 5 s")
	}
	codes := ack.Packet.(*packet.Suback).Codes
	if len(codes) != many {
		return proof.Break("%d codes for %d filters", len(codes), many)
	}
	var open []int // filters whose message has yet to come
	for i, s := range ask.Subscriptions {
		if codes[i] <= 2 && packet.QoS(codes[i]) > s.QoS {
			return proof.Break(
				"code %d of %d grants QoS %d, where QoS %d was asked for: out of order, or too much",
				i+1,
				many,
				codes[i],
				s.QoS,
			)
		}
		if codes[i] > 2 {
			p.Note("filter %d was refused: %s", i+1, codes[i].In(packet.SUBACK, p.Version))
			continue
		}
		if want := p.Highest(s.QoS); packet.QoS(codes[i]) < want {
			p.Note("some filters were granted less than was asked for")
		}
		open = append(open, i)
	}
	for try := 1; len(open) > 0; try++ { // the link acknowledges nothing: what comes at QoS 0 is enough
		if open, err = bringNothing(p, publisher, link, ask, from, open); err != nil {
			return err
		}
		if ended := p.Gone(link, from, 0); len(open) > 0 && ended != nil {
			p.Decide(ended)
			return proof.Undecide("the link ended while messages to %d filters were awaited", len(open))
		}
		if len(open) > 0 && try == qos0Tries {
			return proof.Break("filter %d of %d was granted, and nothing comes", open[0]+1, many)
		}
	}
	p.Saw("%d codes, and each filter brings its messages", many)
	return nil
}

// bringNothing publishes to the filters of ask that are given by their places, and says to which of them nothing came.
func bringNothing(
	p *proof.Pass,
	publisher *proof.Client,
	link *proof.Raw,
	ask *packet.Subscribe,
	from uint64,
	places []int,
) (still []int, err error) {
	text := func(place int) string { return fmt.Sprint("to filter ", place+1) }
	for _, i := range places {
		if _, err := p.Publish(publisher, publish(ask.Subscriptions[i].Filter, text(i), 0, false)); err != nil {
			return nil, err
		}
	}
	latest := time.Now().Add(arrivalTime)
	for _, i := range places {
		e := p.Await(link, from, max(0, time.Until(latest)), func(e *trace.Event) bool {
			return isMessageOf(e, ask.Subscriptions[i].Filter) && string(e.Publish().Payload) == text(i)
		})
		if p.Decide(e); e == nil {
			still = append(still, i)
		}
	}
	return still, nil
}

// fewFilters is how many filters every broker takes in one SUBSCRIBE.
const fewFilters = 6

// askMany sends a SUBSCRIBE by a link of its own, and waits for its answer: nil where none comes, or the link is
// closed.
func askMany(
	p *proof.Pass,
	name string,
	ask *packet.Subscribe,
) (link *proof.Raw, from uint64, ack *trace.Event, err error) {
	if link, err = p.Join(name); err != nil {
		return nil, 0, nil, err
	}
	from = p.Mark()
	p.Step("one SUBSCRIBE with %d filters", len(ask.Subscriptions))
	if err := link.Send(p.Version, ask); err != nil {
		return nil, 0, nil, err
	}
	ack = p.Await(link, from, arrivalTime, func(e *trace.Event) bool {
		return isPacket(trace.Received, packet.SUBACK)(e) || e.Link == client.LinkEnded
	})
	p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.SUBSCRIBE)), ack)
	if ack != nil && ack.Packet == nil {
		ack = nil
	}
	return link, from, ack, nil
}

func subscribeBadFilter(p *proof.Pass) error {
	var told []string
	for i, filter := range []string{"~/a#", "~/a/#/b", "~/a+/b", "~/a/+b", ""} {
		link, err := p.Join(fmt.Sprint("filter-", i+1))
		if err != nil {
			return err
		}
		full := strings.Replace(filter, "~", p.Topic(), 1)
		p.Step("subscribe to %q", filter)
		from := p.Mark()
		if err := link.Send(
			p.Version,
			&packet.Subscribe{ID: 7, Subscriptions: []packet.Subscription{{Filter: full}}},
		); err != nil {
			return err
		}
		answer := p.Await(link, from, arrivalTime, func(e *trace.Event) bool {
			return e.Kind == trace.Received && e.Packet != nil || e.Kind == trace.Link
		})
		p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.SUBSCRIBE)), answer)
		if answer == nil {
			return proof.Break("no answer within 5 s to a SUBSCRIBE for %q, and the link stayed open", filter)
		}
		switch k := answer.Packet.(type) {
		case *packet.Suback:
			if len(k.Codes) == 0 || k.Codes[0] < 0x80 {
				return proof.Break("SUBACK grants %q, which is no topic filter", filter)
			}
			told = append(told, "refused")
		default:
			told = append(told, "closed")
		}
		link.Close()
	}
	p.Saw("%s", strings.Join(told, ", "))
	return nil
}

func subscribeUnsubscribe(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	ended, stays := p.Topic("ended"), p.Topic("stays")
	for _, topic := range []string{ended, stays} {
		if _, err := p.Subscribe(subject, topic, 1); err != nil {
			return err
		}
	}
	q := p.Highest(1)
	send := func(text string) error {
		for _, topic := range []string{ended, stays} { // in this order: what comes by the second is a marker
			if _, err := p.Publish(publisher, publish(topic, text, q, false)); err != nil {
				return err
			}
		}
		return nil
	}
	from := p.Mark()
	if err := send("before"); err != nil {
		return err
	}
	for _, topic := range []string{ended, stays} {
		if p.AwaitMessage(subject, from, topic, "before") == nil {
			return proof.Undecide("nothing came before either: %s", p.Instead(subject, from, topic, "before"))
		}
	}
	for _, filter := range []string{ended, p.Topic("never")} {
		p.Step("UNSUBSCRIBE %s", shorter(filter))
		from := p.Mark()
		err := p.Unsubscribe(subject, filter)
		ack := p.Await(subject, from, 0, isPacket(trace.Received, packet.UNSUBACK))
		p.Decide(p.Await(subject, from, 0, isPacket(trace.Sent, packet.UNSUBSCRIBE)), ack)
		switch {
		case ack == nil && subject.Connected():
			return proof.Break("no UNSUBACK within 5 s for %s", shorter(filter))
		case err != nil:
			return err
		}
		if codes := ack.Packet.(*packet.Unsuback).Codes; p.Version == packet.V5 && len(codes) != 1 {
			return proof.Break("%d codes in UNSUBACK for one filter (5.0 §3.11.3)", len(codes))
		}
	}
	from = p.Mark()
	p.Step("publish again")
	if err := send("after"); err != nil {
		return err
	}
	if p.AwaitMessage(subject, from, stays, "after") == nil {
		return proof.Break(
			"the other subscription brings nothing any more: %s",
			p.Instead(subject, from, stays, "after"),
		)
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	for _, e := range p.Arrivals(subject, from, ended, "after") {
		p.Decide(e)
		return proof.Break("a message came by a filter after its UNSUBACK")
	}
	p.Saw("nothing came by the filter after its UNSUBACK, everything by the other; the unknown one was answered")
	return nil
}
