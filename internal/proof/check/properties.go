package check

import (
	"bytes"
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of what version 5 says by properties.
var properties = []*proof.Check{
	{
		Name:     "property.passed",
		Title:    "properties arrive as they were published",
		Expected: "user properties in their order, repeated ones too, content type, response topic, correlation data and payload format unchanged, live and stored, and none added",
		Sections: proof.Sections{V5: "3.3.2.3"},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: append(pairs, "retain.greets"),
		Run:      propertyPassed,
	},
	{
		Name:     "property.alias",
		Title:    "topic aliases stand for topics",
		Expected: "messages under two aliases of ours, set and set anew, arrive under the topics meant; the broker uses none that we did not allow",
		Sections: proof.Sections{
			V5: "3.3.2.3.4",
		},
		Needs:    proof.Needs{Least: 3, QoS: 1},
		Requires: pairs,
		Run:      propertyAlias,
	},
	{
		Name:      "property.alias-scope",
		Title:     "an alias dies with its connection",
		Intrusive: true,
		Expected:  "the link closed for an alias that was set on the connection before, for alias 0, and for one above the broker's maximum; nothing passed on",
		Sections: proof.Sections{
			V5: "3.3.2.3.4",
		},
		Needs:    proof.Needs{Least: 2},
		Requires: []string{"property.alias"},
		Run:      propertyAliasScope,
	},
	{
		Name:     "property.problem-info",
		Title:    "no reasons for those who want none",
		Expected: "with request problem information 0 no reason string and no user property on PUBACK, PUBREC, PUBCOMP, SUBACK and UNSUBACK",
		Sections: proof.Sections{
			V5: "3.1.2.11.7",
		},
		Needs:    proof.Needs{Least: 1, QoS: 1},
		Requires: pairs,
		Run:      propertyProblemInfo,
	},
	{
		Name:     "property.no-subscribers",
		Title:    "no subscribers is said where there are none",
		Expected: "0x10 or 0x00 in PUBACK and PUBREC for a message that nobody gets, and never 0x10 where somebody does",
		Sections: proof.Sections{
			V5: "3.4.2.1, 3.5.2.1",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      propertyNoSubscribers,
	},
	{
		Name:     "property.request-response",
		Title:    "a response finds its request",
		Expected: "a responder gets response topic and correlation data, short and long, and its answers come back with them",
		Sections: proof.Sections{
			V5: "4.10",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      propertyRequestResponse,
	},
}

func propertyPassed(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	live, stored, bare := p.Topic("live"), p.Topic("stored"), p.Topic("bare")
	for _, topic := range []string{live, bare} {
		if _, err := p.Subscribe(receiver, topic, 1); err != nil {
			return err
		}
	}
	full := packet.Properties{
		packet.Int(
			packet.PayloadFormat,
			1,
		),
		packet.Str(packet.ContentType, "application/json"),
		packet.Str(packet.ResponseTopic, p.Topic("answer")),
		packet.Str(
			packet.CorrelationData,
			"\x00\x01\xfe\xff",
		),
		packet.User("pen", "4"),
		packet.User("barge", "Ærlig"),
		packet.User("pen", "2"),
		packet.User("", ""),
		packet.User("pen", "4"),
	}
	sent := map[string]packet.Properties{live: full, stored: full, bare: nil}
	from := p.Mark()
	for _, topic := range []string{live, stored, bare} {
		if topic == stored && !p.Stores() {
			p.Note("stored messages were not tried: the broker stores none")
			continue
		}
		m := publish(topic, `{"a":1}`, 1, topic == stored)
		m.Properties = sent[topic]
		p.Step("publish to %s with %d properties", shorter(topic), len(m.Properties))
		if n, small := len(m.Append(nil, p.Version)), p.Largest(); small > 0 && n+20 > small {
			m.Properties = m.Properties[:4] // what a broker of small packets takes
			sent[topic] = m.Properties
		}
		out, err := p.Publish(publisher, m)
		if err != nil {
			return err
		}
		if topic == stored {
			if _, err := p.Subscribe(receiver, topic, 1); err != nil {
				return err
			}
		}
		e := p.AwaitMessage(receiver, from, topic, `{"a":1}`)
		p.Decide(out, e)
		if e == nil {
			return proof.Break("the message with properties: %s", p.Instead(receiver, from, topic, `{"a":1}`))
		}
		if bad := sameProperties(sent[topic], e.Publish().Properties); bad != "" {
			return proof.Break("%s came %s", shorter(topic), bad)
		}
	}
	p.Saw("all properties arrived as published, and none where there was none")
	return nil
}

// aliased publishes at QoS 1 under an alias, with a topic or without, outside the client's own flows.
func aliased(p *proof.Pass, publisher *proof.Client, topic string, alias uint32, text string) error {
	m := publish(topic, text, 1, false)
	m.ID, m.Properties = unusedID+uint16(p.Mark()%1000), packet.Properties{packet.Int(packet.TopicAlias, alias)}
	from := p.Mark()
	if err := publisher.Send(&m); err != nil {
		return proof.Undecide("%v", err)
	}
	p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
	if again(p, publisher, from, packet.PUBACK, m.ID) == nil {
		if end := p.Ending(publisher, from, 0); end != nil {
			p.Decide(end)
			return proof.Break(
				"the link was closed on a message under topic alias %d, which the broker allows: %s",
				alias,
				end.Text,
			)
		}
		return proof.Break("no PUBACK within 5 s of a message under topic alias %d", alias)
	}
	return nil
}

func propertyAlias(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	from := p.Mark()
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	ack := p.Await(publisher, from, 0, isPacket(trace.Received, packet.CONNACK))
	if ack == nil {
		return proof.Undecide("CONNACK is not on the trace")
	}
	most := ack.Packet.(*packet.Connack).Properties.IntOr(packet.TopicAliasMaximum, 0)
	root := p.Topic("t")
	var topics []string
	for n := range 4 {
		topics = append(topics, fmt.Sprint(root, n))
		if _, err := p.Subscribe(receiver, topics[n], 1); err != nil {
			return err
		}
	}
	second := min(2, most)
	ours := []struct {
		topic string
		alias uint32
		at    string
	}{
		{
			topics[0],
			1,
			topics[0],
		},
		{topics[1], second, topics[1]},
		{"", second, topics[1]},
		{topics[2], 1, topics[2]},
		{"", 1, topics[2]},
	}
	if second == 2 { // the first alias is not changed by the second
		ours = append(ours[:2], append([]struct {
			topic string
			alias uint32
			at    string
		}{{"", 1, topics[0]}}, ours[2:]...)...)
	}
	if most == 0 {
		p.Note("the broker takes no aliases from us (topic alias maximum 0)")
		ours = nil
	}
	for i, x := range ours {
		text := fmt.Sprint("message ", i+1)
		p.Step("publish to %q under alias %d", x.topic, x.alias)
		if err := aliased(p, publisher, x.topic, x.alias, text); err != nil {
			return err
		}
		e := p.AwaitMessage(receiver, from, x.at, text)
		if p.Decide(e); e == nil {
			return proof.Break("%s under alias %d: %s", text, x.alias, p.Instead(receiver, from, x.at, text))
		}
	}
	for _, allowed := range []uint32{0, 2} {
		if err := theirAliases(p, publisher, topics, allowed); err != nil {
			return err
		}
	}
	if most == 0 {
		return proof.Unsupport("the broker takes no topic aliases from us; its own stay within what we allow")
	}
	p.Saw("all arrived under the topics meant; the broker's own stayed within what we allow")
	return nil
}

// theirAliases wants a broker to use no more aliases than we allow, and those rightly: what a message is taken for shows.
func theirAliases(p *proof.Pass, publisher *proof.Client, topics []string, allowed uint32) error {
	var o []proof.Option
	if allowed > 0 {
		o = append(o, proof.With(packet.Int(packet.TopicAliasMaximum, allowed)))
	}
	subject := p.Client(fmt.Sprint("allows-", allowed), o...)
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	defer subject.Disconnect(0)
	from := p.Mark()
	p.Step("a subscriber that allows %d aliases", allowed)
	for _, t := range topics {
		if _, err := p.Subscribe(subject, t, 1); err != nil {
			return err
		}
	}
	for round := range 2 {
		for i, t := range topics {
			if _, err := p.Publish(
				publisher,
				publish(t, fmt.Sprintf("round %d to %d", round+1, i), 1, false),
			); err != nil {
				return err
			}
		}
	}
	for round := range 2 {
		for i, t := range topics {
			text := fmt.Sprintf("round %d to %d", round+1, i)
			if p.AwaitMessage(subject, from, t, text) != nil {
				continue
			}
			if end := p.Gone(subject, from, 0); end != nil { // our client ends it on an alias that it must not use
				p.Decide(end)
				return proof.Break("our client allows %d aliases and ended the link: %s", allowed, end.Text)
			}
			return proof.Break("%q: %s", text, p.Instead(subject, from, t, text))
		}
	}
	p.Decide(p.Messages(subject, from)...)
	return nil
}

// topicOf is the topic that the links of a check publish to.
func topicOf(p *proof.Pass) string { return p.Topic("message") }

func propertyAliasScope(p *proof.Pass) error {
	watcher := p.Client("watcher")
	from := p.Mark()
	if _, err := p.Enter(watcher); err != nil {
		return err
	}
	most := uint32(0)
	if ack := p.Await(watcher, from, 0, isPacket(trace.Received, packet.CONNACK)); ack != nil {
		most = ack.Packet.(*packet.Connack).Properties.IntOr(packet.TopicAliasMaximum, 0)
	}
	topic := topicOf(p)
	if _, err := p.Subscribe(watcher, topic, 0); err != nil {
		return err
	}
	set := func(link *proof.Raw, topic string, alias uint32) error {
		m := publish(topic, "under an alias", 0, false)
		m.Properties = packet.Properties{packet.Int(packet.TopicAlias, alias)}
		return link.Send(p.Version, &m)
	}
	closes := func(name, what, topic string, alias uint32, first bool) error {
		hello := func(c *packet.Connect) {
			c.CleanStart, c.Properties = false, append(c.Properties, packet.Int(packet.SessionExpiry, 60))
		}
		var before *proof.Raw
		if first { // set it on a connection before, of the same client and the same session
			var err error
			if before, err = p.Join(name+"-before", hello); err != nil {
				return err
			}
			p.End(before)
			from := p.Mark()
			if err := set(before, topicOf(p), alias); err != nil {
				return err
			}
			if p.AwaitMessage(
				watcher,
				from,
				topicOf(p),
				"under an alias",
			) == nil { // at QoS 0 it may be lost: it was read all the same
				p.Note("the message that sets the alias was lost")
			}
			before.Close()
			if _, err := p.Quiet(watcher); err != nil {
				return err
			}
		}
		link, err := p.Join(name, func(c *packet.Connect) {
			if before != nil {
				hello(c)
				c.ClientID = before.ID
			}
		})
		if err != nil {
			return err
		}
		p.Step("%s", what)
		from := p.Mark()
		if err := set(link, topic, alias); err != nil {
			return err
		}
		if _, err := rejects(p, link, from, arrivalTime, what); err != nil {
			return err
		}
		p.Watch(watcher, from, what+" was passed on", func(*trace.Event) bool { return true })
		return p.Seen()
	}
	if most > 0 {
		if err := closes("old", "a message under an alias of the connection before", "", 1, true); err != nil {
			return err
		}
	}
	if err := closes("zero", "a message under alias 0", topic, 0, false); err != nil {
		return err
	}
	if most < 65535 {
		if err := closes(
			"over",
			fmt.Sprintf("a message under alias %d, where the broker allows %d", most+1, most),
			topic,
			most+1,
			false,
		); err != nil {
			return err
		}
	}
	if _, err := p.Quiet(watcher); err != nil {
		return err
	}
	if err := p.Seen(); err != nil { // what is passed on may take a while
		return err
	}
	p.Saw("each closed the link, and nothing was passed on")
	return nil
}

func propertyProblemInfo(p *proof.Pass) error {
	subject := p.Client("subject", proof.With(packet.Int(packet.RequestProblemInfo, 0)))
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	from := p.Mark()
	p.Step(
		"what a broker may have to say something about: nobody subscribes, unknown identifiers, filters that are not held",
	)
	if _, err := p.Publish(subject, publish(p.Topic("nobody"), "x", 1, false)); err != nil {
		return err
	}
	if p.Highest(2) == 2 {
		if _, err := p.Publish(subject, publish(p.Topic("nobody"), "x", 2, false)); err != nil {
			return err
		}
	}
	if err := subject.Send(&packet.Pubrel{Ack: packet.Ack{ID: unusedID}}); err != nil {
		return proof.Undecide("%v", err)
	}
	again(p, subject, from, packet.PUBCOMP, unusedID)
	for _, filter := range []string{p.Topic("f"), "$share/hodstone/" + p.Topic("f")} {
		if _, err := p.SubscribeAll(subject, packet.Subscription{Filter: filter}); err != nil && !unsupported(err) {
			return err
		}
	}
	if err := p.Unsubscribe(subject, p.Topic("never")); err != nil && !subject.Connected() {
		return err
	}
	n := 0
	for e := range p.Received(subject, from) {
		if why := explained(e.Packet); why != "" {
			p.Decide(e)
			return proof.Break("%s carries %s, though the client asked for none", e.Packet.Type(), why)
		}
		p.Decide(e)
		n++
	}
	p.Saw("none on %d acknowledgements", n)
	return nil
}

// explained names what a packet says of reasons, "" for nothing.
func explained(pk packet.Packet) string {
	var ps packet.Properties
	switch k := pk.(type) {
	case *packet.Puback:
		ps = k.Properties
	case *packet.Pubrec:
		ps = k.Properties
	case *packet.Pubcomp:
		ps = k.Properties
	case *packet.Suback:
		ps = k.Properties
	case *packet.Unsuback:
		ps = k.Properties
	}
	if s, is := ps.Str(packet.ReasonString); is {
		return fmt.Sprintf("the reason string %q", s)
	}
	for range ps.All(packet.UserProperty) {
		return "a user property"
	}
	return ""
}

func propertyNoSubscribers(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	heard, unheard := p.Topic("heard"), p.Topic("unheard")
	if _, err := p.Subscribe(subject, heard, 1); err != nil {
		return err
	}
	told := map[string]bool{}
	for q := packet.QoS(1); q <= p.Highest(2); q++ {
		for _, topic := range []string{unheard, heard} {
			from := p.Mark()
			p.Step("publish at QoS %d to %s", q, shorter(topic))
			if _, err := p.Publish(publisher, publish(topic, fmt.Sprint("at ", q), q, false)); err != nil {
				return err
			}
			e := p.Await(publisher, from, arrivalTime, func(e *trace.Event) bool {
				return e.Kind == trace.Received && e.Packet != nil &&
					(e.Packet.Type() == packet.PUBACK || e.Packet.Type() == packet.PUBREC)
			})
			p.Decide(e)
			code := packet.ReasonCode(0)
			switch k := e.Packet.(type) {
			case *packet.Puback:
				code = k.Code
			case *packet.Pubrec:
				code = k.Code
			}
			came := topic == heard && p.AwaitMessage(subject, from, topic, fmt.Sprint("at ", q)) != nil
			switch {
			case came && code == packet.NoMatchingSubscribers:
				return proof.Break(
					"%s says 0x10, no matching subscribers, for a message that a subscriber got",
					e.Packet.Type(),
				)
			case topic == heard && !came:
				return proof.Undecide("the message did not come (see qos.pairings)")
			case topic == unheard:
				told[code.Code(packet.PUBACK, p.Version)] = true
			}
		}
	}
	var codes []string
	for _, c := range []string{"0x00", "0x10"} {
		if told[c] {
			codes = append(codes, c)
		}
	}
	p.Saw("%s where nobody subscribes, and not 0x10 where somebody does", strings.Join(codes, " and "))
	return nil
}

func propertyRequestResponse(p *proof.Pass) error {
	requester, responder := p.Client(
		"requester",
		proof.With(packet.Int(packet.RequestResponseInfo, 1)),
	), p.Client(
		"responder",
	)
	from := p.Mark()
	if err := p.ConnectAll(requester, responder); err != nil {
		return err
	}
	if ack := p.Await(requester, from, 0, isPacket(trace.Received, packet.CONNACK)); ack != nil {
		if info, told := ack.Packet.(*packet.Connack).Properties.Str(packet.ResponseInfo); told {
			p.Note("CONNACK tells response information %q", info)
		}
	}
	ask, answers := p.Topic("ask"), p.Topic("answers")
	if _, err := p.Subscribe(responder, ask, 1); err != nil {
		return err
	}
	if _, err := p.Subscribe(requester, answers, 1); err != nil {
		return err
	}
	for i, correlation := range []string{"\x00\x01", strings.Repeat("\xfe\x00long", 12)} {
		text := fmt.Sprint("request ", i+1)
		from := p.Mark()
		m := publish(ask, text, 1, false)
		m.Properties = packet.Properties{
			packet.Str(packet.ResponseTopic, answers),
			packet.Str(packet.CorrelationData, correlation),
		}
		p.Step("%s, with correlation data of %d bytes", text, len(correlation))
		sent, err := p.Publish(requester, m)
		if unsupported(err) && i > 0 {
			p.Note("long correlation data was not tried: %v", err)
			continue
		} else if err != nil {
			return err
		}
		got := p.AwaitMessage(responder, from, ask, text)
		p.Decide(sent, got)
		if got == nil {
			return proof.Break("%s: %s", text, p.Instead(responder, from, ask, text))
		}
		where, _ := got.Publish().Properties.Str(packet.ResponseTopic)
		with, _ := got.Publish().Properties.Str(packet.CorrelationData)
		if where != answers || !bytes.Equal([]byte(with), []byte(correlation)) {
			return proof.Break(
				"the responder got the response topic %q and %d bytes of correlation data, in place of %q and %d",
				where,
				len(with),
				answers,
				len(correlation),
			)
		}
		answer := publish(where, "answer to "+text, 1, false)
		answer.Properties = packet.Properties{packet.Str(packet.CorrelationData, with)}
		if _, err := p.Publish(responder, answer); err != nil {
			return err
		}
		back := p.AwaitMessage(requester, from, answers, "answer to "+text)
		if p.Decide(back); back == nil {
			return proof.Break("the answer to %s: %s", text, p.Instead(requester, from, answers, "answer to "+text))
		}
		if with, _ := back.Publish().Properties.Str(packet.CorrelationData); with != correlation {
			return proof.Break(
				"the answer came with %d bytes of correlation data, not with the %d of the request",
				len(with),
				len(correlation),
			)
		}
	}
	p.Saw("both answers came, with the correlation data of their requests")
	return nil
}
