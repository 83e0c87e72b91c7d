package proof

import (
	"fmt"

	"hodstone/internal/mqtt/packet"
)

var sessionChecks = []*Check{
	{Name: "session.kept", Title: "a session waits for its client",
		Expected:   "session present 1; QoS 1 and 2 messages that came meanwhile are delivered; the subscriptions still hold",
		Section311: "3.1.2.4, 3.2.2.2", Section5: "3.1.2.11.2, 3.2.2.1.1, 4.1", Run: sessionKept},
}

func sessionKept(p *Pass) error {
	subject, publisher := p.Peer("subject", KeepSession), p.Peer("publisher")
	if err := p.ConnectAll(subject, publisher); err != nil {
		return err
	}
	topics := map[packet.QoS]string{1: p.Topic("qos1"), 2: p.Topic("qos2")}
	for q, topic := range topics {
		if granted, err := p.Subscribe(subject, topic, q); err != nil {
			return err
		} else if granted < q {
			topics[q] = ""
			p.Note("QoS %d was not granted; not tried", q)
		}
	}
	if topics[1]+topics[2] == "" {
		return Unsupport("subscriptions get QoS 0 only: no message waits for an absent client")
	}
	publish := func(text string) error {
		for q := packet.QoS(1); q <= 2; q++ {
			if topics[q] == "" {
				continue
			}
			if err := p.Publish(publisher, packet.Publish{Topic: topics[q], QoS: q, Payload: []byte(text)}); err != nil {
				return err
			}
		}
		return nil
	}
	missing := func(from uint64, text string) string {
		for q := packet.QoS(1); q <= 2; q++ {
			if topics[q] != "" && p.AwaitMessage(subject, from, topics[q], text) == nil {
				return fmt.Sprintf("the QoS %d message", q)
			}
		}
		return ""
	}
	p.Step("the client says goodbye; its session has subscriptions at QoS 1 and 2")
	if err := subject.Disconnect(0); err != nil {
		return Undecide("%v", err)
	}
	p.Step("publish to it while it is away")
	if err := publish("meanwhile"); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("the client comes back with clean start 0")
	ack, err := p.Enter(subject)
	if err != nil {
		return err
	}
	if !ack.SessionPresent {
		return Break("session present 0: the session was lost")
	}
	if m := missing(from, "meanwhile"); m != "" {
		return Break("%s that came meanwhile was not delivered within 5 s", m)
	}
	p.Step("publish again, now that it is back")
	if err := publish("afterwards"); err != nil {
		return err
	}
	if m := missing(from, "afterwards"); m != "" {
		return Break("the subscriptions were lost: %s after the return did not arrive within 5 s", m)
	}
	p.Saw("session present 1; what waited and what came later arrived")
	return nil
}
