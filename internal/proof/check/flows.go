package check

import (
	"fmt"
	"slices"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// resumes are the checks without which nothing can be told of what is resumed.
var resumes = []string{"session.kept"}

// pairs are the checks without which nothing can be told of what is passed on.
var pairs = []string{"qos.pairings"}

// The checks of what becomes of a flow when the connection breaks in the midst of it.
var flows = []*proof.Check{
	{
		Name:     "qos.granted",
		Title:    "SUBACK grants what is kept to",
		Expected: "of five filters in one SUBSCRIBE each is granted what was asked or less, and messages come at the lower of that and what was published",
		Sections: proof.Same("3.9", "3.9.3"),
		Needs:    proof.Needs{Least: 2},
		Requires: pairs,
		Run:      qosGranted,
	},
	{
		Name:     "qos1.resend",
		Title:    "what was not acknowledged is sent again",
		Expected: "messages at QoS 1 that the client had not acknowledged when its link was cut come again, with DUP, under their packet identifiers, in their order",
		Sections: proof.Sections{V31: "4.1, 4.2", V311: "3.3.1.1, 4.4, 4.6", V5: "3.3.1.1, 4.4, 4.6"},
		Needs:    proof.Needs{Least: 2, QoS: 1, Sessions: true},
		Requires: append(resumes, pairs...),
		Run:      qos1Resend,
	},
	{
		Name:     "qos1.ack-after-cut",
		Title:    "a resent PUBLISH at QoS 1 is acknowledged",
		Expected: "PUBACK for a PUBLISH that is sent again with DUP after a cut, and the message passed on; one with DUP that is the first to arrive is passed on too",
		Sections: proof.Same("4.1, 4.2", "4.3.2"),
		Needs:    proof.Needs{Least: 2, QoS: 1, Sessions: true},
		Requires: append(resumes, pairs...),
		Run:      qos1AckAfterCut,
	},
	{
		Name:     "qos1.id-reuse",
		Title:    "an acknowledged packet identifier is free again",
		Expected: "a PUBLISH at QoS 1 under an identifier that was acknowledged before is a new message, DUP or not: acknowledged and passed on",
		Sections: proof.Same("4.1", "4.3.2"),
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: pairs,
		Run:      qos1IDReuse,
	},
	{
		Name:     "qos2.release-resumed",
		Title:    "PUBREL after a cut ends the flow",
		Expected: "PUBCOMP for a PUBREL that comes after a cut, one copy passed on, and the identifier free for another message",
		Sections: proof.Same("4.1, 4.2", "4.3.3, 4.4"),
		Needs:    proof.Needs{Least: 2, QoS: 2, Sessions: true},
		Requires: append(resumes, "qos2.once"),
		Run:      qos2ReleaseResumed,
	},
	{
		Name:     "qos2.inbound-resumed",
		Title:    "the broker goes on with QoS 2 where it was",
		Expected: "PUBREL again where PUBCOMP was missing, and not the PUBLISH; the PUBLISH again, with DUP, where PUBREC was missing; each under its packet identifier",
		Sections: proof.Same("4.1, 4.2", "4.4"),
		Needs:    proof.Needs{Least: 2, QoS: 2, Sessions: true},
		Requires: append(resumes, pairs...),
		Run:      qos2InboundResumed,
	},
	{
		Name:     "qos.dup-not-passed",
		Title:    "DUP is not passed on",
		Expected: "a message that was published with DUP 1 goes out with DUP 0",
		Sections: proof.Same(
			"3.3",
			"3.3.1.1",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1},
		Requires: append(pairs, "qos2.once"),
		Run:      qosDupNotPassed,
	},
}

// passed publishes a message and waits until it has come to the peer; where it may be lost, at QoS 0, it is tried
// again. nil where it never came.
func passed(p *proof.Pass, from, to *proof.Client, m packet.Publish, granted packet.QoS) (*trace.Event, error) {
	tries := 1
	if min(m.QoS, granted) == 0 {
		tries = qos0Tries
	}
	mark := p.Mark()
	for range tries {
		sent, err := p.Publish(from, m)
		if err != nil {
			return nil, err
		}
		if e := p.AwaitMessage(to, mark, m.Topic, string(m.Payload)); e != nil {
			return e, nil
		}
		p.Decide(sent)
	}
	return nil, nil
}

func qosGranted(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject")
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	var subs []packet.Subscription
	for i, q := range []packet.QoS{2, 0, 1, 2, 1} {
		subs = append(subs, packet.Subscription{Filter: p.Topic(fmt.Sprint("f", i+1)), QoS: q})
	}
	from := p.Mark()
	p.Step("one SUBSCRIBE with five filters, at QoS 2, 0, 1, 2 and 1")
	codes, err := p.SubscribeAll(subject, subs...)
	if err != nil {
		return err
	}
	p.Decide(p.Await(subject, from, 0, isPacket(trace.Received, packet.SUBACK)))
	for i, code := range codes {
		if code > 2 {
			return proof.Undecide(
				"the filter %s was refused: %s",
				shorter(subs[i].Filter),
				code.In(packet.SUBACK, p.Version),
			)
		}
		if granted := packet.QoS(code); granted > subs[i].QoS {
			return proof.Break("filter %d of 5 asked for QoS %d and was granted QoS %d", i+1, subs[i].QoS, granted)
		} else if granted < subs[i].QoS {
			p.Note("filter %d of 5 was granted QoS %d in place of %d", i+1, granted, subs[i].QoS)
		}
	}
	q := p.Highest(2)
	for i, s := range subs {
		want, text := min(q, packet.QoS(codes[i])), fmt.Sprint("to filter ", i+1)
		p.Step("publish at QoS %d to filter %d, which was granted QoS %d", q, i+1, codes[i])
		e, err := passed(p, publisher, subject, publish(s.Filter, text, q, false), packet.QoS(codes[i]))
		if err != nil {
			return err
		}
		p.Decide(e)
		if e == nil {
			return proof.Break(
				"filter %d of 5 was granted, and nothing comes: %s",
				i+1,
				p.Instead(subject, from, s.Filter, text),
			)
		}
		if got := e.Publish().QoS; got != want {
			return proof.Break(
				"filter %d of 5 was granted QoS %d; a message at QoS %d came at QoS %d, not %d",
				i+1,
				codes[i],
				q,
				got,
				want,
			)
		}
	}
	p.Saw("%d codes, none above what was asked, and all kept to", len(codes))
	return nil
}

// again wants a packet with an identifier to come again after a resume.
func again(p *proof.Pass, of *proof.Client, from uint64, t packet.Type, id uint16) *trace.Event {
	return p.Await(of, from, arrivalTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Packet != nil && e.Packet.Type() == t && packetID(e.Packet) == id
	})
}

// packetID is the packet identifier of a packet of a flow; 0 for others.
func packetID(p packet.Packet) uint16 {
	switch p := p.(type) {
	case *packet.Publish:
		return p.ID
	case *packet.Puback:
		return p.ID
	case *packet.Pubrec:
		return p.ID
	case *packet.Pubrel:
		return p.ID
	case *packet.Pubcomp:
		return p.ID
	}
	return 0
}

func qos1Resend(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("message")
	if err := granted(p, subject, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	subject.Lose(packet.PUBLISH)
	p.Step("three messages at QoS 1, which the client does not acknowledge")
	for _, text := range []string{"first", p.Long("second"), "third"} {
		if _, err := p.Publish(publisher, publish(topic, text, 1, false)); err != nil {
			return err
		}
	}
	if p.AwaitMessage(subject, from, topic, "first") == nil {
		return proof.Undecide("the first message did not come at all: %s", p.Instead(subject, from, topic, "first"))
	}
	if _, err := p.Quiet(subject); err != nil { // as many as the broker has under way at a time
		return err
	}
	before := p.Messages(subject, from)
	p.Step("the link is cut, and the client comes back to its session")
	subject.Cut()
	subject.Lose(0)
	resumed := p.Mark()
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	last, seen := uint64(0), map[uint16]bool{}
	for _, b := range before {
		m := b.Publish()
		if seen[m.ID] { // in 3.1 and 3.1.1 it may have come again on the same link
			continue
		}
		seen[m.ID] = true
		e := p.AwaitMessage(subject, resumed, topic, string(m.Payload))
		p.Decide(b, e)
		switch {
		case e == nil:
			return proof.Break("a message at QoS 1 that was not acknowledged did not come again: %s",
				p.Instead(subject, resumed, topic, string(m.Payload)))
		case e.Publish().ID != m.ID:
			return proof.Break("it came again under packet identifier %d, and under %d before", e.Publish().ID, m.ID)
		case !e.Publish().Dup && p.Version == packet.V31:
			p.Note("it came again without DUP, which 3.1 only advises")
		case !e.Publish().Dup:
			return proof.Break("it came again without DUP")
		case e.Seq < last:
			return proof.Break("what was not acknowledged came again in another order (§4.6)")
		}
		last = e.Seq
	}
	p.Saw(
		"%d unacknowledged messages came again, with DUP, under their packet identifiers, in their order",
		len(before),
	)
	return nil
}

// resume cuts a client off and lets it come back to its session.
func resume(p *proof.Pass, peer *proof.Client) (from uint64, err error) {
	p.Step("the link of the %s is cut, and it comes back to its session", peer.Name)
	peer.Cut()
	peer.Lose(0)
	from = p.Mark()
	_, err = p.Enter(peer)
	return from, err
}

func qos1AckAfterCut(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher", proof.KeepSession), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("message")
	if _, err := p.Subscribe(receiver, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("a message at QoS 1, whose PUBACK is lost")
	publisher.Lose(packet.PUBACK)
	if _, _, err := p.Start(publisher, publish(topic, "first", 1, false)); err != nil {
		return err
	}
	if p.Await(publisher, from, arrivalTime, isPacket(trace.Received, packet.PUBACK)) == nil {
		return proof.Undecide("no PUBACK even without a cut (see qos.pairings)")
	}
	resumed, err := resume(p, publisher)
	if err != nil {
		return err
	}
	sent := p.Await(publisher, resumed, arrivalTime, isPacket(trace.Sent, packet.PUBLISH))
	if sent == nil {
		return proof.Undecide("the publisher did not send it again: the broker did not keep the session")
	}
	ack := again(p, publisher, resumed, packet.PUBACK, sent.Publish().ID)
	p.Decide(sent, ack)
	if ack == nil {
		return proof.Break("no PUBACK within 5 s of the PUBLISH that was sent again with DUP")
	}
	if p.AwaitMessage(receiver, from, topic, "first") == nil {
		return proof.Break("the message: %s", p.Instead(receiver, from, topic, "first"))
	}
	p.Step("a PUBLISH with DUP that is the first to arrive: the client cannot know that")
	if err := sendAs(p, publisher, receiver, publish(topic, "second", 1, false), true); err != nil {
		return err
	}
	p.Saw("PUBACK for both, and both passed on")
	return nil
}

// sendAs sends a PUBLISH at QoS 1 under an identifier of the check's own, and wants PUBACK and the message at the
// receiver.
func sendAs(p *proof.Pass, publisher, receiver *proof.Client, m packet.Publish, dup bool) error {
	m.ID, m.Dup = unusedID, dup
	from := p.Mark()
	if err := publisher.Send(&m); err != nil {
		return proof.Undecide("%v", err)
	}
	sent := p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH))
	ack := again(p, publisher, from, packet.PUBACK, m.ID)
	p.Decide(sent, ack)
	if ack == nil {
		return proof.Break("no PUBACK within 5 s of PUBLISH with DUP %d", flag(dup))
	}
	if p.AwaitMessage(receiver, from, m.Topic, string(m.Payload)) == nil {
		return proof.Break("a PUBLISH with DUP %d, %q, was not passed on: %s", flag(dup), m.Payload,
			p.Instead(receiver, from, m.Topic, string(m.Payload)))
	}
	return nil
}

func flag(is bool) int {
	if is {
		return 1
	}
	return 0
}

func qos1IDReuse(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("message")
	if _, err := p.Subscribe(receiver, topic, 1); err != nil {
		return err
	}
	for i, dup := range []bool{false, false, true, true} {
		p.Step("message %d at QoS 1, under the same packet identifier, with DUP %d", i+1, flag(dup))
		if err := sendAs(
			p,
			publisher,
			receiver,
			publish(topic, fmt.Sprint("message ", i+1), 1, false),
			dup,
		); err != nil {
			return err
		}
	}
	p.Saw("four messages under one packet identifier, each acknowledged and passed on")
	return nil
}

// halfway publishes at QoS 2 under an identifier of the check's own, and withholds PUBREL.
func halfway(p *proof.Pass, publisher *proof.Client, m packet.Publish) error {
	m.ID = unusedID
	from := p.Mark()
	publisher.Lose(packet.PUBREC)
	defer publisher.Lose(0)
	if err := publisher.Send(&m); err != nil {
		return proof.Undecide("%v", err)
	}
	p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
	if again(p, publisher, from, packet.PUBREC, m.ID) == nil {
		return proof.Undecide("no PUBREC within 5 s (see qos.pairings)")
	}
	return nil
}

// release sends the PUBREL that [halfway] withholds, and wants PUBCOMP.
func release(p *proof.Pass, publisher *proof.Client, when string) error {
	from := p.Mark()
	if err := publisher.Send(&packet.Pubrel{Ack: packet.Ack{ID: unusedID}}); err != nil {
		return proof.Undecide("%v", err)
	}
	comp := again(p, publisher, from, packet.PUBCOMP, unusedID)
	p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBREL)), comp)
	if comp == nil {
		return proof.Break("no PUBCOMP within 5 s of PUBREL %s", when)
	}
	if code := comp.Packet.(*packet.Pubcomp).Code; code != 0 {
		return proof.Break("PUBCOMP %s for PUBREL %s: the identifier is part of the session (5.0 §4.1)",
			code.Code(packet.PUBCOMP, p.Version), when)
	}
	return nil
}

func qos2ReleaseResumed(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher", proof.KeepSession), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("message")
	if err := granted(p, receiver, topic, 2); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("a message at QoS 2; PUBREC comes, and PUBREL is not sent")
	if err := halfway(p, publisher, publish(topic, "first", 2, false)); err != nil {
		return err
	}
	if _, err := resume(p, publisher); err != nil {
		return err
	}
	p.Step("PUBREL now")
	if err := release(p, publisher, "after the cut"); err != nil {
		return err
	}
	p.Step("another message under the same packet identifier")
	if err := halfway(p, publisher, publish(topic, "second", 2, false)); err != nil {
		return err
	}
	if err := release(p, publisher, "of the message after"); err != nil {
		return err
	}
	for _, text := range []string{"first", "second"} {
		if p.AwaitMessage(receiver, from, topic, text) == nil {
			return proof.Break("the %s message: %s", text, p.Instead(receiver, from, topic, text))
		}
	}
	if _, err := p.Quiet(receiver); err != nil {
		return err
	}
	for _, text := range []string{"first", "second"} {
		if copies := p.Arrivals(receiver, from, topic, text); len(copies) != 1 {
			p.Decide(copies...)
			return proof.Break("%d copies of the %s message arrived", len(copies), text)
		}
	}
	p.Saw("PUBCOMP, one copy, and the identifier was free again")
	return nil
}

func qos2InboundResumed(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("message")
	if err := granted(p, subject, topic, 2); err != nil {
		return err
	}
	for _, turn := range []struct {
		text string
		lost packet.Type // what the client takes for lost: it does not answer
		want packet.Type
	}{{"released", packet.PUBREL, packet.PUBREL}, {"unrecorded", packet.PUBLISH, packet.PUBLISH}} {
		from := p.Mark()
		p.Step("a message at QoS 2; the client does not answer %s", turn.lost)
		subject.Lose(turn.lost)
		if _, err := p.Publish(publisher, publish(topic, turn.text, 2, false)); err != nil {
			return err
		}
		came := p.AwaitMessage(subject, from, topic, turn.text)
		if came == nil {
			return proof.Undecide("the message did not come at all (see qos.pairings)")
		}
		id := came.Publish().ID
		if again(p, subject, from, turn.lost, id) == nil {
			return proof.Undecide("%s did not come at all (see qos.pairings)", turn.lost)
		}
		resumed, err := resume(p, subject)
		if err != nil {
			return err
		}
		e := again(p, subject, resumed, turn.want, id)
		p.Decide(came, e)
		replayed := p.AwaitMessage(subject, resumed, topic, turn.text)
		switch {
		case turn.want == packet.PUBREL && replayed != nil:
			p.Decide(replayed)
			return proof.Break("the PUBLISH came again after its PUBREL, where only PUBREL may")
		case e == nil:
			return proof.Break("no %s under packet identifier %d within 5 s of the resume", turn.want, id)
		case turn.want == packet.PUBLISH && !e.Publish().Dup && p.Version != packet.V31:
			return proof.Break("the PUBLISH came again without DUP")
		}
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	p.Saw("PUBREL came again, and the PUBLISH that was not recorded, each under its packet identifier")
	return nil
}

func qosDupNotPassed(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	from := p.Mark()
	topic := p.Topic("message")
	if _, err := p.Subscribe(receiver, topic, 2); err != nil {
		return err
	}
	p.Step("a message at QoS 1 with DUP 1")
	if err := sendAs(p, publisher, receiver, publish(topic, "once", 1, false), true); err != nil {
		return proof.Undecide("%v (see qos1.id-reuse)", err)
	}
	if p.Highest(2) == 2 {
		p.Step("and one at QoS 2")
		m := publish(topic, "twice", 2, false)
		m.Dup = true
		if err := halfway(p, publisher, m); err != nil {
			return err
		}
		if err := release(p, publisher, "of a message with DUP"); err != nil {
			return proof.Undecide("%v (see qos2.once)", err)
		}
		if p.AwaitMessage(receiver, from, topic, "twice") == nil {
			return proof.Undecide(
				"a message at QoS 2 with DUP: %s (see qos2.once)",
				p.Instead(receiver, from, topic, "twice"),
			)
		}
	}
	var seen []string // a resend of the broker's own has DUP by right
	for _, e := range p.Messages(receiver, from) {
		text := string(e.Publish().Payload)
		if slices.Contains(seen, text) {
			continue
		}
		seen = append(seen, text)
		p.Decide(e)
		if e.Publish().Dup {
			return proof.Break(
				"a message that was published with DUP 1 went out with DUP 1, at QoS %d",
				e.Publish().QoS,
			)
		}
	}
	p.Saw("DUP 0 with all %d", len(seen))
	return nil
}
