package check

import (
	"bytes"
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of many messages, of many receivers, and of what a payload may be.
var streams = []*proof.Check{
	{
		Name:     "qos.order",
		Title:    "messages arrive in order",
		Expected: "200 messages at each QoS, on one topic of one publisher, arrive at each of two receivers in the order in which they were published",
		Sections: proof.Same("4.1", "4.6"),
		Needs:    proof.Needs{Least: 3},
		Requires: pairs,
		Run:      qosOrder,
	},
	{
		Name:     "qos.payload-exact",
		Title:    "payloads arrive byte for byte",
		Expected: "an empty payload, one byte, all 256 values, bytes that are no text, 64 KiB and 1 MiB arrive as they were published",
		Sections: proof.Same("3.3", "3.3.3"),
		Needs:    proof.Needs{Least: 2},
		Requires: pairs,
		Run:      qosPayloadExact,
	},
	{
		Name:     "qos.fan-out",
		Title:    "each subscriber gets one copy",
		Expected: "ten subscribers of one topic get each message once at QoS 2, at least once at QoS 1; one of another topic gets none",
		Sections: proof.Sections{
			V31:  "4.1",
			V311: "3.3.5",
			V5:   "3.3.4",
		},
		Needs:    proof.Needs{Least: 3, Wants: 12},
		Requires: pairs,
		Run:      qosFanOut,
	},
	{
		Name:     "qos.flow-control",
		Title:    "our receive maximum is kept",
		Expected: "never more than so many messages at QoS 1 and 2 without our PUBACK or PUBCOMP, and the next one when there is room",
		Sections: proof.Sections{
			V5: "4.9, 3.1.2.11.3",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      qosFlowControl,
	},
}

// How many messages are sent in order, and how many of them without waiting for the receivers: no broker has to hold
// more.
const (
	ordered = 200
	ahead   = 10
)

func qosOrder(p *proof.Pass) error {
	publisher, receivers := p.Client("publisher"), []*proof.Client{p.Client("exact"), p.Client("wild")}
	if err := p.ConnectAll(append(receivers, publisher)...); err != nil {
		return err
	}
	topic := p.Topic("order", "x")
	granted := make([]packet.QoS, 2)
	wild := p.Topic("order", "#")
	if !p.Wildcards() {
		wild = topic
	}
	for i, filter := range []string{topic, wild} {
		var err error
		if granted[i], err = p.Subscribe(receivers[i], filter, 2); err != nil {
			return err
		}
	}
	for q := range p.Highest(2) + 1 {
		from := p.Mark()
		p.Step("%d messages at QoS %d", ordered, q)
		for n := range ordered {
			sent, pub, err := p.Start(publisher, publish(topic, fmt.Sprintf("%03d at %d", n, q), q, false))
			if err != nil {
				return err
			}
			if n%ahead != ahead-1 {
				continue
			}
			if err := p.Complete(pub); err != nil {
				return err
			}
			for i, r := range receivers {
				if p.AwaitMessage(r, from, topic, string(sent.Publish().Payload)) != nil {
					continue
				}
				if min(q, granted[i]) > 0 {
					p.Decide(sent)
					return proof.Break(
						"at QoS %d, message %d: %s",
						q,
						n+1,
						p.Instead(r, from, topic, string(sent.Publish().Payload)),
					)
				}
				p.Note("a message at QoS 0 was lost")
			}
		}
		for i, r := range receivers {
			if err := inOrder(p, r, from, topic, q, granted[i]); err != nil {
				return err
			}
		}
	}
	p.Saw("in order at both receivers, at each QoS")
	return nil
}

// inOrder wants the messages of a QoS in their order; further copies do not count.
func inOrder(p *proof.Pass, r *proof.Client, from uint64, topic string, q, granted packet.QoS) error {
	next := 0
	var before *trace.Event
	for _, e := range p.Messages(r, from) {
		var n, at int
		if _, err := fmt.Sscanf(
			string(e.Publish().Payload),
			"%03d at %d",
			&n,
			&at,
		); err != nil || e.Topic() != topic ||
			at != int(q) {
			continue
		}
		switch {
		case n > next && min(q, granted) > 0:
			p.Decide(before, e)
			if p.Await(r, from, 0, isMessageOn(topic, fmt.Sprintf("%03d at %d", next, q))) == nil {
				return proof.Break(
					"at QoS %d, message %d came to the %s, and message %d before it did not",
					q,
					n+1,
					r.Name,
					next+1,
				)
			}
			return proof.Break("at QoS %d, message %d came to the %s before message %d", q, n+1, r.Name, next+1)
		case n >= next:
			next = n + 1
			if before == nil || next == ordered {
				p.Decide(e)
			}
			before = e
		case n < next-1 && min(q, granted) == 0: // nothing at QoS 0 comes again
			p.Decide(before, e)
			return proof.Break("at QoS 0, message %d came to the %s after message %d", n+1, r.Name, next)
		}
	}
	return nil
}

// payloads are what a payload may be: anything (§3.3.3).
func payloads() []struct{ name, text string } {
	all := make([]byte, 256)
	for i := range all {
		all[i] = byte(i)
	}
	return []struct{ name, text string }{
		{
			"an empty payload",
			"",
		},
		{"one byte", "\x00"},
		{"text with a NUL inside and at its end", "before\x00after\x00"},
		{
			"spaces and ends of lines",
			" \r\n both ends \r\n ",
		},
		{"bytes that are no UTF-8", "\xc3\x28\xff\xfe\xed\xa0\x80"},
		{
			"all 256 values",
			string(all),
		},
		{"64 KiB", strings.Repeat(string(all), 256)},
		{"1 MiB", strings.Repeat(string(all), 4096)},
	}
}

func qosPayloadExact(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("payload")
	granted, err := p.Subscribe(receiver, topic, 1)
	if err != nil {
		return err
	}
	q, longest := p.Highest(1), 0
	for _, x := range payloads() {
		const room = 300 // for topic and headers
		if most := p.Largest(); most > 0 && len(x.text)+room > most || p.NoLong() != "" && len(x.text) > 100 {
			p.Note("%s was not tried: the broker takes no packets of that size", x.name)
			continue
		}
		p.Step("publish %s", x.name)
		from := p.Mark()
		came, err := passedAny(p, publisher, receiver, publish(topic, x.text, q, false), min(q, granted))
		if len(x.text) > 4096 && came == nil { // a size limit that no packet tells is no fault
			why := "it was taken, and nothing came within 5 s"
			if err != nil {
				why = err.Error()
			}
			p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
			return proof.Unsupport("%s did not arrive: %s; %d bytes did", x.name, why, longest)
		}
		if err != nil {
			return err
		}
		if came == nil {
			p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
			return proof.Break("%s: nothing came within 5 s", x.name)
		}
		got := came.Publish().Payload
		p.Decide(came)
		if !bytes.Equal(got, []byte(x.text)) {
			return proof.Break("%s came changed: %s", x.name, difference(got, []byte(x.text)))
		}
		longest = len(x.text)
	}
	if p.NoLong() != "" {
		return proof.Unsupport("%s; short payloads arrived as they should", p.NoLong())
	}
	p.Saw("all arrived byte for byte, up to %d bytes", longest)
	return nil
}

// passedAny is [passed] with whatever payload arrives.
func passedAny(p *proof.Pass, from, to *proof.Client, m packet.Publish, lower packet.QoS) (*trace.Event, error) {
	mark := p.Mark()
	for range map[bool]int{true: qos0Tries, false: 1}[lower == 0] {
		if _, err := p.Publish(from, m); err != nil {
			return nil, err
		}
		e := p.Await(to, mark, arrivalTime, func(e *trace.Event) bool {
			return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == m.Topic
		})
		if e != nil {
			return e, nil
		}
	}
	return nil, nil
}

// difference says where two payloads part.
func difference(got, want []byte) string {
	n := min(len(got), len(want))
	for i := range n {
		if got[i] != want[i] {
			return fmt.Sprintf("byte %d of %d is 0x%02X in place of 0x%02X", i+1, len(want), got[i], want[i])
		}
	}
	return fmt.Sprintf("%d bytes in place of %d", len(got), len(want))
}

func qosFanOut(p *proof.Pass) error {
	publisher, other := p.Client("publisher"), p.Client("other")
	var all []*proof.Client
	for n := range max(1, min(10, p.Room()-2)) {
		all = append(all, p.Client(fmt.Sprint("subscriber-", n+1)))
	}
	if err := p.ConnectAll(append([]*proof.Client{publisher, other}, all...)...); err != nil {
		return err
	}
	topic := p.Topic("fan")
	for _, s := range all {
		if _, err := p.Subscribe(s, topic, 2); err != nil {
			return err
		}
	}
	if _, err := p.Subscribe(other, p.Topic("fan-other"), 2); err != nil {
		return err
	}
	from := p.Mark()
	for q := range p.Highest(2) + 1 {
		p.Step("a message at QoS %d to %d subscribers", q, len(all))
		text := fmt.Sprint("at ", q)
		sent, err := p.Publish(publisher, publish(topic, text, q, false))
		if err != nil {
			return err
		}
		for _, s := range all {
			if p.AwaitMessage(s, from, topic, text) != nil {
				continue
			}
			if q == 0 {
				p.Note("a message at QoS 0 was lost")
				continue
			}
			p.Decide(sent)
			return proof.Break(
				"of %d subscribers, the %s got nothing at QoS %d: %s",
				len(all),
				s.Name,
				q,
				p.Instead(s, from, topic, text),
			)
		}
	}
	if _, err := p.Quiet(append(all, other)...); err != nil {
		return err
	}
	for _, e := range p.Messages(other, from) {
		p.Decide(e)
		return proof.Break("a client with another topic got it too")
	}
	for _, s := range all {
		for q := range p.Highest(2) + 1 {
			copies := p.Arrivals(s, from, topic, fmt.Sprint("at ", q))
			p.Decide(copies...)
			if len(copies) > 1 && q != 1 {
				return proof.Break("the %s got %d copies at QoS %d", s.Name, len(copies), q)
			}
		}
	}
	p.Saw("%d subscribers got each message once, and the other none", len(all))
	return nil
}

func qosFlowControl(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	for _, turn := range []struct {
		qos  packet.QoS
		most uint32
		hold packet.Type // what the client does not answer
	}{{1, 3, packet.PUBLISH}, {1, 1, packet.PUBLISH}, {2, 2, packet.PUBREL}} {
		if turn.qos > p.Highest(2) {
			p.Note("QoS 2 was not tried: the broker does not do it")
			continue
		}
		if err := flowControlled(p, publisher, turn.qos, int(turn.most), turn.hold); err != nil {
			return err
		}
	}
	p.Saw("never more than our receive maximum of 3, 1 and 2, and the next one when there was room")
	return nil
}

func flowControlled(p *proof.Pass, publisher *proof.Client, q packet.QoS, most int, hold packet.Type) error {
	subject := p.Client(
		fmt.Sprintf("subject-%d-at-%d", most, q),
		proof.With(packet.Int(packet.ReceiveMaximum, uint32(most))),
	)
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	defer subject.Disconnect(0)
	topic := p.Topic(fmt.Sprintf("m%dq%d", most, q))
	if err := granted(p, subject, topic, q); err != nil {
		return err
	}
	subject.Lose(hold)
	from := p.Mark()
	p.Step("%d messages at QoS %d for a client with receive maximum %d, that does not answer %s", most+3, q, most, hold)
	var first *trace.Event
	for n := range most + 3 {
		sent, err := p.Publish(publisher, publish(topic, fmt.Sprint("message ", n+1), q, false))
		if err != nil {
			return err
		}
		if n == 0 {
			first = sent
		}
	}
	if p.AwaitMessage(subject, from, topic, "message 1") == nil {
		p.Decide(first)
		return proof.Break("nothing came to a client with receive maximum %d", most)
	}
	time, _ := p.Quiet()
	came := p.Messages(subject, from)
	p.Decide(came...)
	if len(came) > most {
		return proof.Break(
			"%d messages at QoS %d came without acknowledgement; our receive maximum is %d",
			len(came),
			q,
			most,
		)
	}
	if !subject.Connected() {
		return proof.Undecide("the %s was lost within %s: %v", subject.Name, short(time), subject.Ended())
	}
	p.Step("the first is acknowledged: there is room for one more")
	of := packet.Ack{ID: came[0].Publish().ID}
	next := fmt.Sprint("message ", len(came)+1)
	var done packet.Packet = &packet.Puback{Ack: of}
	if q == 2 {
		if again(p, subject, from, packet.PUBREL, of.ID) == nil {
			return proof.Undecide("PUBREL did not come (see qos.pairings)")
		}
		done = &packet.Pubcomp{Ack: of}
	}
	if err := subject.Send(done); err != nil {
		return proof.Undecide("%v", err)
	}
	if p.AwaitMessage(subject, from, topic, next) == nil {
		return proof.Break("nothing came within 5 s of our %s, though there was room again", done.Type())
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	if n := len(p.Messages(subject, from)); n > len(came)+1 {
		return proof.Break("%d messages came for one acknowledgement", n-len(came))
	}
	return nil
}
