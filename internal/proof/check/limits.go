package check

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of limits: what a broker tells, and what it takes.
var limits = []*proof.Check{
	{
		Name:     "limit.told-and-kept",
		Title:    "what CONNACK tells is what happens",
		Expected: "what CONNACK says is available works: QoS, retain, wildcards, shared subscriptions, identifiers, aliases and messages up to their maximum; what it says is not ends in a refusal (tried where the protocol may be broken)",
		Sections: proof.Sections{
			V5: "3.2.2.3",
		},
		Needs:    proof.Needs{Least: 2},
		Requires: append(pairs, "property.alias"),
		Run:      limitToldAndKept,
	},
	{
		Name:     "limit.packet-size",
		Title:    "packets stay within both maximum sizes",
		Expected: "nothing larger than our maximum packet size comes, and what is smaller does; the broker takes a packet of its own maximum, and refuses a larger one",
		Sections: proof.Sections{
			V5: "3.1.2.11.4, 3.2.2.3.6",
		},
		Needs:    proof.Needs{Least: 3, QoS: 1},
		Requires: pairs,
		Run:      limitPacketSize,
	},
	{
		Name:     "limit.client-id",
		Title:    "client identifiers of 23 letters and more",
		Expected: "an identifier of 23 letters and digits is taken; the longest that is taken is told, and two that differ in their last letter alone are two clients",
		Sections: proof.Same(
			"3.1",
			"3.1.3.1",
		),
		Needs:    proof.Needs{Least: 2},
		Requires: []string{"connect.accepted"},
		Run:      limitClientID,
	},
}

// told is what CONNACK tells one link of its limits.
type told struct {
	p     *proof.Pass
	topic string
	ps    packet.Properties
	tried []string
}

// barred sends what CONNACK says is not to be had, and wants a refusal: a code, or the link closed (5.0 §3.2.2.3).
func (t *told) barred(what string, pk packet.Packet) error {
	p := t.p
	if !p.Intrusive() {
		p.Note("%s: not available, and not tried without --intrusive", what)
		return nil
	}
	link, err := p.Join("barred-" + strings.ReplaceAll(what, " ", "-"))
	if err != nil {
		return err
	}
	defer p.Wait(noticed)
	defer link.Close()
	p.Step("%s, which CONNACK says is not available", what)
	from := p.Mark()
	if err := link.Send(p.Version, pk); err != nil {
		return err
	}
	answer := p.Await(link, from, arrivalTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Packet != nil || e.Link == client.LinkEnded
	})
	p.Decide(p.Await(link, from, 0, func(e *trace.Event) bool { return e.Kind == trace.Sent }), answer)
	if answer == nil {
		return proof.Break(
			"%s is not available by CONNACK; it was neither refused nor the link closed within 5 s",
			what,
		)
	}
	code := packet.ReasonCode(0x80)
	switch k := answer.Packet.(type) {
	case *packet.Suback:
		code = k.Codes[0]
	case *packet.Puback:
		code = k.Code
	case *packet.Pubrec:
		code = k.Code
	}
	if code < 0x80 {
		return proof.Break("%s is not available by CONNACK, and was taken: %s", what, answer.Describe())
	}
	t.tried = append(t.tried, "no "+what)
	return nil
}

// filter tries a feature of subscriptions.
func (t *told) filter(
	subject *proof.Client,
	id packet.PropertyID,
	what string,
	sub packet.Subscription,
	ps ...packet.Property,
) error {
	p := t.p
	if t.ps.IntOr(id, 1) == 0 {
		return t.barred(what, &packet.Subscribe{ID: 7, Subscriptions: []packet.Subscription{sub}, Properties: ps})
	}
	p.Step("%s, which CONNACK says is available", what)
	from := p.Mark()
	_, err := p.SubscribeWith(subject, sub, ps...)
	ack := p.Await(subject, from, 0, isPacket(trace.Received, packet.SUBACK))
	if p.Decide(ack); ack == nil {
		if end := p.Ending(subject, from, 0); end != nil {
			p.Decide(end)
			return proof.Break("%s is available by CONNACK, and the link was closed: %s", what, end.Text)
		}
		return err
	}
	switch code := ack.Packet.(*packet.Suback).Codes[0]; code {
	case packet.SharedNotSupported, packet.SubIDsNotSupported, packet.WildcardNotSupported:
		return proof.Break("%s is available by CONNACK, and was refused: %s", what, code.In(packet.SUBACK, p.Version))
	}
	t.tried = append(t.tried, what)
	return nil
}

func limitToldAndKept(p *proof.Pass) error {
	subject := p.Client("subject")
	ack, err := p.Enter(subject)
	if err != nil {
		return err
	}
	topic := p.Topic("t")
	t := &told{p: p, topic: topic, ps: ack.Properties}
	p.Decide(p.Await(subject, 1, 0, isPacket(trace.Received, packet.CONNACK)))
	for _, f := range []struct {
		id     packet.PropertyID
		what   string
		filter string
		ps     packet.Properties
	}{
		{packet.WildcardAvailable, "a filter with a wildcard", topic + "/+", nil},
		{packet.SharedAvailable, "a shared subscription", "$share/hodstone/" + topic, nil},
		{packet.SubIDAvailable, "a subscription identifier", topic, packet.Properties{packet.Int(packet.SubscriptionIdentifier, 9)}},
	} {
		if err := t.filter(subject, f.id, f.what, packet.Subscription{Filter: f.filter}, f.ps...); err != nil {
			return err
		}
	}
	most := packet.QoS(t.ps.IntOr(packet.MaximumQoS, 2))
	for q := packet.QoS(0); q <= 2; q++ {
		if err := t.message(
			subject,
			fmt.Sprintf("a message at QoS %d", q),
			publish(topic, "x", q, false),
			q <= most,
		); err != nil {
			return err
		}
	}
	stored := publish(topic, "x", min(1, most), true)
	if err := t.message(
		subject,
		"a message with retain",
		stored,
		t.ps.IntOr(packet.RetainAvailable, 1) == 1,
	); err != nil {
		return err
	}
	if n := t.ps.IntOr(packet.TopicAliasMaximum, 0); n > 0 && most > 0 {
		p.Step("a message under alias %d, the highest that CONNACK allows", n)
		if err := aliased(p, subject, topic, n, "x"); err != nil {
			return err
		}
		t.tried = append(t.tried, fmt.Sprint("alias ", n))
	}
	if n := t.ps.IntOr(packet.ReceiveMaximum, 65535); n <= 100 && most == 2 {
		if err := t.receiveMaximum(int(n)); err != nil {
			return err
		}
	}
	p.Saw("as told: %s", strings.Join(t.tried, ", "))
	return nil
}

// message publishes what CONNACK allows or not.
func (t *told) message(subject *proof.Client, what string, m packet.Publish, allowed bool) error {
	p := t.p
	if !allowed {
		if m.QoS > 0 {
			m.ID = 7
		}
		return t.barred(what, &m)
	}
	p.Step("%s, which CONNACK allows", what)
	from := p.Mark()
	_, err := p.Publish(subject, m)
	p.Decide(p.Await(subject, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
	if end := p.Ending(subject, from, 0); end != nil {
		p.Decide(end)
		return proof.Break("%s is allowed by CONNACK, and the link was closed: %s", what, end.Text)
	}
	if err != nil {
		return err
	}
	t.tried = append(t.tried, what)
	return nil
}

// receiveMaximum has as many messages under way as the broker allows, and then one more (5.0 §3.3.4).
func (t *told) receiveMaximum(n int) error {
	p := t.p
	for _, over := range []int{0, 1} {
		if over > 0 && !p.Intrusive() {
			p.Note("more than the receive maximum was not tried without --intrusive")
			break
		}
		if err := t.underWay(n, over); err != nil {
			return err
		}
	}
	t.tried = append(t.tried, fmt.Sprint("receive maximum ", n))
	return nil
}

// underWay has as many messages under way as the receive maximum allows, and some over that.
func (t *told) underWay(n, over int) error {
	p := t.p
	link, err := p.Join(fmt.Sprint("receive-maximum-", over))
	if err != nil {
		return err
	}
	defer p.Wait(noticed)
	defer link.Close()
	p.Step("%d messages at QoS 2 without PUBREL, where the receive maximum is %d", n+over, n)
	from := p.Mark()
	for i := range n + over {
		m := publish(t.topic, "x", 2, false)
		m.ID = uint16(i + 1)
		if err := link.Send(p.Version, &m); err != nil {
			return err
		}
	}
	p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
	if over > 0 {
		end := p.Ending(link, from, arrivalTime)
		if p.Decide(end); end == nil { // what a broker does then is said without a MUST (5.0 §3.3.4)
			p.Note("%d messages were under way, where the receive maximum is %d, and the link was left open", n+over, n)
		}
		return nil
	}
	last := p.Await(link, from, arrivalTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Packet != nil && e.Packet.Type() == packet.PUBREC &&
			packetID(e.Packet) == uint16(n) ||
			e.Link == client.LinkEnded
	})
	if p.Decide(last); last == nil || last.Packet == nil {
		return proof.Break(
			"the receive maximum is %d, and the link was closed, or nothing came, for as many messages",
			n,
		)
	}
	return nil
}

func limitPacketSize(p *proof.Pass) error {
	publisher := p.Client("publisher")
	const most = 200
	subject := p.Client("subject", proof.With(packet.Int(packet.MaximumPacketSize, most)))
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("t")
	if _, err := p.Subscribe(subject, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	for _, m := range []struct {
		text string
		qos  packet.QoS
	}{{"small", 1}, {"large" + strings.Repeat("x", most), 1}, {"large at 0" + strings.Repeat("x", most), 0}, {"small again", 1}} {
		p.Step("a payload of %d bytes at QoS %d for a client that takes packets of %d", len(m.text), m.qos, most)
		if p.NoLong() != "" && len(m.text) > 100 {
			continue
		}
		if size := p.Largest(); size > 0 && len(m.text)+100 > size {
			p.Note("large messages were not tried: the broker takes packets of %d bytes", size)
			continue
		}
		sent, err := p.Publish(publisher, publish(topic, m.text, m.qos, false))
		if err != nil {
			return err
		}
		p.Decide(sent)
	}
	for _, small := range []string{"small", "small again"} {
		e := p.AwaitMessage(subject, from, topic, small)
		if p.Decide(e); e == nil {
			return proof.Break("the small message %q: %s", small, p.Instead(subject, from, topic, small))
		}
	}
	if _, err := p.Quiet(subject); err != nil { // our client ends the link on a packet that is too large for it
		return err
	}
	size := p.Largest()
	switch {
	case p.NoLong() != "":
		return proof.Unsupport("%s; small messages came", p.NoLong())
	case size == 0:
		p.Saw("nothing larger than ours came; the broker names no maximum")
		return nil
	case size > 64<<10:
		p.Saw("nothing larger than ours came; the broker's own of %d bytes was not tried", size)
		return nil
	}
	if err := theirPacketSize(p, topic, size); err != nil {
		return err
	}
	p.Saw("nothing larger than ours came, and the broker keeps to its own of %d bytes", size)
	return nil
}

// theirPacketSize sends a packet of just the broker's maximum, and a larger one.
func theirPacketSize(p *proof.Pass, topic string, size int) error {
	// That a broker does not count a packet's header is told, and not broken: so much larger counts.
	const header = 5
	for _, n := range []int{size, size + 1, size + 1 + header} {
		if n > size && !p.Intrusive() {
			p.Note("a larger packet was not tried without --intrusive")
			break
		}
		answer, err := ofBytes(p, topic, n)
		if err != nil {
			return err
		}
		taken := answer != nil && answer.Packet != nil && answer.Packet.Type() == packet.PUBACK
		switch {
		case n == size && !taken:
			return proof.Break("a PUBLISH of %d bytes, which is the maximum that CONNACK tells, was not taken", n)
		case n > size && n <= size+header && (taken || answer == nil):
			p.Note("a PUBLISH of %d bytes was taken, where the maximum is %d: its header is not counted", n, size)
		case n > size && taken && answer.Packet.(*packet.Puback).Code < 0x80:
			return proof.Break("a PUBLISH of %d bytes was taken, where the maximum is %d", n, size)
		case n > size && answer == nil:
			return proof.Break(
				"a PUBLISH of %d bytes, where the maximum is %d, was neither refused nor the link closed within 5 s",
				n,
				size,
			)
		}
	}
	return nil
}

// ofBytes sends a PUBLISH of so many bytes by a link of its own, and returns what comes of it; nil where nothing does.
func ofBytes(p *proof.Pass, topic string, n int) (*trace.Event, error) {
	link, err := p.Join(fmt.Sprint("bytes-", n))
	if err != nil {
		return nil, err
	}
	defer p.Wait(noticed)
	defer link.Close()
	m := publish(topic, "", 1, false)
	m.ID = 7
	m.Payload = make([]byte, n-len(m.Append(nil, p.Version))-2)
	for len(m.Append(nil, p.Version)) < n { // the length field grows with it
		m.Payload = append(m.Payload, 0)
	}
	over := len(m.Append(nil, p.Version)) - n
	m.Payload = m.Payload[:len(m.Payload)-over]
	p.Step("a PUBLISH of %d bytes", len(m.Append(nil, p.Version)))
	from := p.Mark()
	if err := link.Send(p.Version, &m); err != nil {
		return nil, err
	}
	p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
	answer := p.Await(link, from, arrivalTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received || e.Link == client.LinkEnded
	})
	p.Decide(answer)
	return answer, nil
}

func limitClientID(p *proof.Pass) error {
	taken := func(n int) (bool, error) {
		first, second := p.LongIDs(n)
		one, other := p.Client(
			fmt.Sprint("length-", n),
			proof.WithID(first),
		), p.Client(
			fmt.Sprint("other-", n),
			proof.WithID(second),
		)
		defer func() {
			one.Disconnect(0)
			other.Disconnect(0)
			p.Wait(noticed)
		}()
		from := p.Mark()
		for _, c := range []*proof.Client{one, other} {
			_, err := p.Try(c)
			var refused *client.RefusedError
			var ended *client.EndedError
			switch {
			case errors.As(err, &refused) && proof.Busy(p.Version, refused.Code):
				return false, proof.Undecide("the broker takes no client at present: %v", err)
			case errors.As(err, &refused), errors.As(err, &ended):
				p.Decide(
					p.Await(c, from, 0, isPacket(trace.Sent, packet.CONNECT)),
					p.Await(c, from, 0, isPacket(trace.Received, packet.CONNACK)),
				)
				return false, nil
			case err != nil:
				return false, proof.Undecide("%v", err)
			}
		}
		p.Decide(p.Await(other, from, 0, isPacket(trace.Received, packet.CONNACK)))
		if end := p.Ending(one, from, 100*time.Millisecond); end != nil {
			p.Decide(end)
			return false, proof.Break(
				"of two clients whose identifiers of %d letters differ in the last, one threw the other out",
				n,
			)
		}
		return true, nil
	}
	const must, longest = 23, 65_535
	p.Step("two clients with identifiers of 23 letters and digits")
	if ok, err := taken(must); err != nil {
		return err
	} else if !ok {
		return proof.Break("an identifier of 23 letters and digits was refused")
	}
	good, bad := must, longest+1
	for n := 64; n <= longest && bad > longest; n *= 4 {
		if size := p.Largest(); size > 0 && n+200 > size {
			p.Note("longer ones than %d were not tried: the broker takes packets of %d bytes", good, size)
			p.Saw("identifiers of %d letters and digits are taken", good)
			return nil
		}
		p.Step("identifiers of %d letters", n)
		ok, err := taken(n)
		if err != nil {
			return err
		}
		if ok {
			good = n
		} else {
			bad = n
		}
	}
	if bad > longest { // up to what a string can be
		if ok, err := taken(longest); err != nil {
			return err
		} else if ok {
			p.Saw("identifiers of up to %d bytes are taken: as long as a string can be", longest)
			return nil
		}
		bad = longest
	}
	for bad-good > 1 {
		middle := (good + bad) / 2
		p.Step("identifiers of %d letters", middle)
		ok, err := taken(middle)
		if err != nil {
			return err
		}
		if ok {
			good = middle
		} else {
			bad = middle
		}
	}
	p.Saw("identifiers of up to %d letters are taken", good)
	return nil
}
