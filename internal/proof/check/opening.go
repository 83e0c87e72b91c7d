package check

import (
	"errors"
	"fmt"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of how a connection begins, beside the one in connect.go.
var opening = []*proof.Check{
	{Name: "connect.versions", Title: "an unknown protocol level is refused",
		Expected: "the link closed after a CONNECT of level 99, with a refusal before or without",
		Sections: proof.Same("3.1", "3.1.2.2"), Requires: []string{"keepalive.ping"}, Run: connectVersions},
	{
		Name:     "connect.empty-id",
		Title:    "a client may leave its identifier to the broker",
		Expected: "two clients with an empty identifier and a clean start let in side by side, in version 5 with identifiers that they are told; or refused as having a bad identifier",
		Sections: proof.Sections{
			V311: "3.1.3.1",
			V5:   "3.1.3.1, 3.2.2.3.7",
		},
		Needs: proof.Needs{Least: 2},
		Run:   connectEmptyID,
	},
	{Name: "connect.empty-id-kept", Title: "no identifier and a kept session do not go together",
		Expected: "CONNACK 2 and the link closed, after CONNECT with an empty identifier and clean session 0",
		Sections: proof.Sections{V311: "3.1.3.1"}, Run: connectEmptyIDKept},
	{
		Name:      "connect.takeover",
		Title:     "a second client with the same identifier takes over",
		Intrusive: true,
		Expected:  "the first client thrown out within 5 s, in version 5 after DISCONNECT 0x8E; the second stays and is served",
		Sections:  proof.Same("3.1", "3.1.4"),
		Needs:     proof.Needs{Least: 2},
		Requires:  []string{"keepalive.ping"},
		Run:       connectTakeover,
	},
	{Name: "connect.twice", Title: "a second CONNECT ends the connection", Intrusive: true,
		Expected: "the link closed within 5 s of a second CONNECT",
		Sections: proof.Same("3.1", "3.1"), Requires: []string{"keepalive.ping"}, Run: connectTwice},
	{Name: "connect.first", Title: "the first packet is CONNECT", Intrusive: true,
		Expected: "the link closed within 5 s of any other packet that comes first; at most a refusing CONNACK before",
		Sections: proof.Same("3.1", "3.1"), Requires: []string{"keepalive.ping"}, Run: connectFirst},
	{Name: "connect.reserved-flag", Title: "the reserved connect flag is 0", Intrusive: true,
		Expected: "the link closed within 5 s of a CONNECT with the reserved flag 1; at most a refusing CONNACK before",
		Sections: proof.Sections{V311: "3.1.2.3", V5: "3.1.2.3"}, Requires: []string{"keepalive.ping"}, Run: connectReservedFlag},
	{Name: "connect.ack-first", Title: "CONNACK comes first",
		Expected: "CONNACK as the first packet of a connection whose session has messages waiting",
		Sections: proof.Same("3.2", "3.2"), Needs: proof.Needs{Least: 2, QoS: 1, Sessions: true}, Run: connectAckFirst},
	{
		Name:     "connect.pipelined",
		Title:    "what comes with CONNECT acts if it is accepted",
		Expected: "a message sent in one piece with CONNECT is passed on where it is accepted, and not where it is refused; watched until the run ends",
		Sections: proof.Sections{V311: "3.1.4", V5: "3.1.4"},
		Needs:    proof.Needs{Least: 2},
		Run:      connectPipelined,
	},
	{Name: "auth.unknown-method", Title: "an unknown authentication method is refused", Intrusive: true,
		Expected: "a refusal (0x8C or 0x87) or a close, and the link closed",
		Sections: proof.Sections{V5: "4.12"}, Requires: []string{"keepalive.ping"}, Run: authUnknownMethod},
}

// acceptTime is how long an answer to CONNECT is awaited where it is not the subject: a slow broker is slow.
const acceptTime = 45 * time.Second

func connectVersions(p *proof.Pass) error {
	link, err := p.Raw("subject")
	if err != nil {
		return err
	}
	b := p.Hello(link).Append(nil, p.Version)
	at := levelAt(b)
	b[at] = 99
	p.Step("CONNECT with protocol level 99")
	from := p.Mark()
	if err := link.Write(b); err != nil {
		return err
	}
	told, err := closes(p, link, from, acceptTime, "CONNECT with protocol level 99")
	if err != nil {
		return err
	}
	p.Saw("the link was closed")
	if told != nil {
		p.Saw("%s, and the link was closed", told.Describe())
	}
	return nil
}

// levelAt is where the protocol level stands in a CONNECT: behind the fixed header and the protocol name.
func levelAt(b []byte) int {
	at := 1
	for b[at]&0x80 != 0 {
		at++
	}
	return at + 3 + int(b[at+2])
}

func connectEmptyID(p *proof.Pass) error {
	var ids []string
	var peers []*proof.Client
	var since []uint64
	for _, name := range []string{"first", "second"} {
		peer := p.Client(name, proof.WithID(""))
		p.Step("CONNECT with an empty client identifier and a clean start, the %s", name)
		ack, err := p.Try(peer)
		came := p.Await(peer, 1, 0, isPacket(trace.Received, packet.CONNACK))
		p.Decide(p.Await(peer, 1, 0, isPacket(trace.Sent, packet.CONNECT)), came)
		var refused *client.RefusedError
		switch {
		case errors.As(err, &refused) && badIdentifier(p.Version, refused.Code):
			p.Saw("refused: %v", err)
			p.Note("clients must bring an identifier of their own")
			return nil
		case errors.As(err, &refused) && proof.Busy(p.Version, refused.Code):
			return proof.Undecide("the broker takes no client at present: %v", err)
		case errors.As(err, &refused) && p.Version == packet.V5: // it may say 0x85, and need not (5.0 §3.1.3.1)
			p.Saw("refused: %v", err)
			p.Note("clients must bring an identifier of their own, and are told %v in place of 0x85", err)
			return nil
		case errors.As(err, &refused):
			return proof.Break("refused, though not for the identifier: %v", err)
		case err != nil:
			return unanswered(err)
		}
		id, told := ack.Properties.Str(packet.AssignedClientID)
		if p.Version == packet.V5 && (!told || id == "") {
			return proof.Break("CONNACK 0 does not tell the identifier that was assigned")
		}
		in := p.Await(
			peer,
			1,
			0,
			func(e *trace.Event) bool { // what was refused before, for want of room, does not count
				ack, is := e.Packet.(*packet.Connack)
				return is && e.Kind == trace.Received && ack.Code == 0
			},
		)
		if in == nil {
			return proof.Undecide("CONNACK 0 is not on the trace")
		}
		ids, peers, since = append(ids, id), append(peers, peer), append(since, in.Seq)
	}
	if _, err := p.Quiet(); err != nil {
		return err
	}
	for i, peer := range peers {
		if ended := p.Ending(peer, since[i], 0); ended != nil {
			p.Decide(ended)
			return proof.Break(
				"the %s of two clients with an empty identifier was thrown out: each has an identifier of its own",
				peer.Name,
			)
		}
	}
	p.Saw("both in")
	if p.Version == packet.V5 {
		p.Saw("both in, as %q and %q", ids[0], ids[1])
	}
	return nil
}

func badIdentifier(v packet.Version, code packet.ReasonCode) bool {
	return v != packet.V5 && code == packet.RefusedIdentifier || v == packet.V5 && code == packet.ClientIDNotValid
}

func connectEmptyIDKept(p *proof.Pass) error {
	told, err := emptyIDKept(p, "subject")
	if err == nil && told == nil { // it may have closed the link for another reason, such as that we were slow
		told, err = emptyIDKept(p, "subject-again")
	}
	if err != nil {
		return err
	}
	if told == nil {
		return proof.Break("the link was closed without CONNACK 2")
	}
	if ack, is := told.Packet.(*packet.Connack); !is || ack.Code != packet.RefusedIdentifier {
		return proof.Break("%s came in place of CONNACK 2", told.Describe())
	}
	p.Saw("CONNACK 2, and the link was closed")
	return nil
}

// emptyIDKept sends CONNECT without an identifier for a session that is to be kept, and returns what came before the link
// was closed; nil for nothing.
func emptyIDKept(p *proof.Pass, name string) (*trace.Event, error) {
	link, err := p.Raw(name)
	if err != nil {
		return nil, err
	}
	p.Step("CONNECT with an empty client identifier and clean session 0")
	from := p.Mark()
	if err := link.Send(
		p.Version,
		p.Hello(link, func(c *packet.Connect) { c.ClientID, c.CleanStart = "", false }),
	); err != nil {
		return nil, err
	}
	told, err := rejects(p, link, from, acceptTime, "an empty identifier with clean session 0")
	if err != nil || told != nil {
		return told, err
	}
	if e := p.Ending(link, from, 0); e != nil && e.By == client.ByReset {
		return nil, proof.Undecide("the link was reset: CONNACK 2 may have gone with it")
	}
	return nil, nil
}

func connectTakeover(p *proof.Pass) error {
	first := p.Client("first")
	if _, err := p.Enter(first); err != nil {
		return err
	}
	if err := p.Ping(first); err != nil {
		return err
	}
	second := p.Client("second", proof.As(first))
	p.Step("a second client comes with the identifier of the first")
	from := p.Mark()
	if _, err := p.Enter(second); err != nil {
		return err
	}
	p.Decide(p.Await(second, from, 0, isPacket(trace.Sent, packet.CONNECT)))
	ended := p.Ending(first, from, arrivalTime)
	if ended == nil {
		return proof.Break("the first client was still connected 5 s after the second came")
	}
	p.Decide(ended)
	if e := p.Await(first, from, 0, isPacket(trace.Received, packet.DISCONNECT)); p.Version == packet.V5 && e == nil {
		p.Note("the first client was not told why, by DISCONNECT 0x8E")
	} else if e != nil && e.Packet.(*packet.Disconnect).Code != packet.SessionTakenOver {
		p.Note("the first client was told %s, not 0x8E", e.Describe())
	}
	if _, err := p.Quiet(); err != nil {
		return err
	}
	served := p.Ping(second)
	if end := p.Ending(second, from, 0); end != nil {
		p.Decide(end)
		return proof.Break("the second client was thrown out too: %s", end.Text)
	}
	if served != nil {
		return served
	}
	p.Saw(
		"the first was thrown out after %s, the second stayed",
		short(ended.At.Sub(p.Await(second, from, 0, isPacket(trace.Sent, packet.CONNECT)).At)),
	)
	return nil
}

func connectTwice(p *proof.Pass) error {
	subject := p.Client("subject")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	if err := p.Ping(subject); err != nil {
		return err
	}
	p.Step("CONNECT a second time on the same link")
	from := p.Mark()
	again := packet.Connect{ClientID: subject.ID, CleanStart: true, KeepAlive: 60}
	if err := subject.Send(&again); err != nil {
		return proof.Undecide("%v", err)
	}
	told, err := closes(p, subject, from, arrivalTime, "a second CONNECT")
	if err != nil {
		return err
	}
	p.Saw("the link was closed%s", first(told))
	return nil
}

// first says what came before a close.
func first(told *trace.Event) string {
	if told == nil {
		return ""
	}
	return fmt.Sprintf(", after %s", told.Describe())
}

func connectFirst(p *proof.Pass) error {
	longest := time.Duration(0)
	for _, pk := range []packet.Packet{
		&packet.Pingreq{},
		&packet.Publish{Topic: p.Topic("first"), Payload: []byte("x")},
		&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: p.Topic("first")}}},
		&packet.Disconnect{},
	} {
		link, err := p.Raw("first-" + pk.Type().String())
		if err != nil {
			return err
		}
		p.Step("%s as the first packet", pk.Type())
		from, begun := p.Mark(), time.Now()
		if err := link.Send(p.Version, pk); err != nil {
			return err
		}
		if _, err := rejects(p, link, from, arrivalTime, fmt.Sprintf("%s as the first packet", pk.Type())); err != nil {
			return err
		}
		longest = max(longest, time.Since(begun))
	}
	if err := stays(p, longest); err != nil {
		return err
	}
	p.Saw("PINGREQ, PUBLISH, SUBSCRIBE and DISCONNECT as the first packet closed the link")
	return nil
}

func connectReservedFlag(p *proof.Pass) error {
	link, err := p.Raw("subject")
	if err != nil {
		return err
	}
	b := p.Hello(link).Append(nil, p.Version)
	b[levelAt(b)+1] |= 1
	p.Step("CONNECT with the reserved flag set")
	from := p.Mark()
	if err := link.Write(b); err != nil {
		return err
	}
	told, err := closes(p, link, from, acceptTime, "CONNECT with the reserved flag set")
	if err != nil {
		return err
	}
	p.Saw("the link was closed%s", first(told))
	return nil
}

func connectAckFirst(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("waiting")
	if err := granted(p, subject, topic, 1); err != nil {
		return err
	}
	p.Step("three messages wait for a client that is away")
	if err := subject.Disconnect(0); err != nil {
		return proof.Undecide("%v", err)
	}
	if _, err := p.Quiet(publisher); err != nil {
		return err
	}
	for n := range 3 {
		if _, err := p.Publish(publisher, publish(topic, fmt.Sprint("waiting ", n), 1, false)); err != nil {
			return err
		}
	}
	p.Step("it comes back")
	from := p.Mark()
	_, err := p.Try(subject)
	came := p.Await(subject, from, arrivalTime, func(e *trace.Event) bool { return e.Kind == trace.Received })
	p.Decide(came)
	var ended *client.EndedError
	switch {
	case came == nil:
		return proof.Undecide("the subject did not get in again: %v", err)
	case came.Packet == nil || came.Packet.Type() != packet.CONNACK:
		return proof.Break("%s came before CONNACK", came.Describe())
	case err != nil && !(errors.As(err, &ended) && ended.Rule):
		return proof.Undecide("the subject did not get in again: %v", err)
	}
	if p.Await(subject, from, arrivalTime, isPacket(trace.Received, packet.PUBLISH)) == nil {
		return proof.Undecide("nothing that waited came behind CONNACK either (see session.kept)")
	}
	p.Saw("CONNACK was the first packet")
	return nil
}

func connectPipelined(p *proof.Pass) error {
	watcher := p.Client("watcher")
	if _, err := p.Enter(watcher); err != nil {
		return err
	}
	topic := p.Topic("message")
	if _, err := p.Subscribe(watcher, topic, 0); err != nil {
		return err
	}
	from := p.Mark()
	message := publish(topic, "accepted", 0, false)
	for try := 0; ; try++ { // QoS 0 may be lost
		link, err := p.Raw(fmt.Sprint("accepted-", try+1))
		if err != nil {
			return err
		}
		p.Step("CONNECT and PUBLISH in one piece")
		if err := link.Send(p.Version, p.Hello(link), &message); err != nil {
			return err
		}
		p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
		ack := p.Await(link, from, acceptTime, isPacket(trace.Received, packet.CONNACK))
		if ack == nil {
			return proof.Undecide("the link got no CONNACK")
		}
		if c := ack.Packet.(*packet.Connack); c.Code != 0 && try+1 < qos0Tries && proof.Busy(p.Version, c.Code) {
			link.Close() // the one before may not have gone yet
			p.Wait(300 * time.Millisecond)
			continue
		} else if c.Code != 0 {
			return p.Unwelcome(link, c)
		}
		came := p.AwaitMessage(watcher, from, topic, "accepted")
		link.Close()
		if came != nil {
			p.Decide(came)
			break
		}
		if try+1 == qos0Tries {
			return proof.Break(
				"a message that came in one piece with an accepted CONNECT: %s",
				p.Instead(watcher, from, topic, "accepted"),
			)
		}
	}
	from = p.Mark()
	how, err := pipelineRefused(p, topic)
	if err != nil {
		return err
	}
	p.Watch(
		watcher,
		from,
		"a message that came with a CONNECT that was refused was passed on",
		func(e *trace.Event) bool {
			return isWill(e, topic, how)
		},
	)
	waited, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	if err := p.Seen(); err != nil {
		return err
	}
	p.Saw("passed on where CONNECT was accepted, and not in %s where it was refused (%s)", short(waited), how)
	return nil
}

func authUnknownMethod(p *proof.Pass) error {
	link, err := p.Raw("subject")
	if err != nil {
		return err
	}
	p.Step("CONNECT with an authentication method that there is not")
	from := p.Mark()
	hello := p.Hello(link, func(c *packet.Connect) {
		c.Properties = append(
			c.Properties.Without(packet.AuthMethod, packet.AuthData),
			packet.Str(packet.AuthMethod, "HODSTONE-NONE-SUCH"),
		)
	})
	if err := link.Send(p.Version, hello); err != nil {
		return err
	}
	told, err := closes(p, link, from, acceptTime, "CONNECT with an unknown authentication method")
	if err != nil {
		return err
	}
	if told != nil {
		if ack, is := told.Packet.(*packet.Connack); is && ack.Code != packet.BadAuthenticationMethod &&
			ack.Code != packet.NotAuthorized {
			p.Note("refused with %s, not 0x8C or 0x87", told.Describe())
		}
	}
	p.Saw("the link was closed%s", first(told))
	return nil
}

// pipelineRefused sends a message in one piece with a CONNECT that is refused, and tells which that is: one without
// credentials, where that is allowed to be tried, else one of an unknown protocol level.
func pipelineRefused(p *proof.Pass, topic string) (how string, err error) {
	for _, how := range []string{"without credentials", "of protocol level 99"} {
		bare := how == "without credentials"
		if bare && (!p.Intrusive() || p.Login() == nil || p.Anonymous() == nil || *p.Anonymous()) {
			continue
		}
		link, err := p.Raw("refused " + how)
		if err != nil {
			return "", err
		}
		hello := p.Hello(link, func(c *packet.Connect) {
			if bare {
				c.HasUsername, c.HasPassword, c.Properties = false, false, c.Properties.Without(
					packet.AuthMethod,
					packet.AuthData,
				)
			}
		}).Append(nil, p.Version)
		if !bare {
			hello[levelAt(hello)] = 99
		}
		p.Step("CONNECT %s and PUBLISH in one piece", how)
		message := publish(topic, how, 0, false)
		from := p.Mark()
		if err := link.Write(hello, message.Append(nil, p.Version)); err != nil {
			return "", err
		}
		answer := p.Await(link, from, acceptTime, func(e *trace.Event) bool {
			return e.Kind == trace.Received || e.Kind == trace.Link
		})
		if answer == nil {
			return "", proof.Undecide("CONNECT %s got no answer", how)
		}
		if ack, is := answer.Packet.(*packet.Connack); !is || ack.Code != 0 {
			p.Decide(p.Await(link, from, 0, isPacket(trace.Sent, packet.PUBLISH)), answer)
			return how, nil
		}
	}
	return "", proof.Undecide("no CONNECT was refused, so nothing could come with one")
}
