package proof

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

var qosChecks = []*Check{
	{Name: "qos.pairings", Title: "every pairing of published and subscribed QoS",
		Expected:   "each arrives at the lower of published and granted QoS; QoS 1 at least once, QoS 2 exactly once, QoS 0 at most once",
		Section311: "4.3, 3.8.4", Section5: "4.3, 3.8.4", Run: qosPairings},
	{Name: "qos2.once", Title: "QoS 2 stays exactly once across broken connections",
		Expected:   "one copy each, although the link is cut before PUBREC and after PUBREL; PUBCOMP in the end",
		Section311: "4.3.3, 4.4", Section5: "4.3.3, 4.4", Run: qos2Once},
}

// qos0Tries is how often a QoS 0 message that does not arrive is sent again: it may
// be lost, but not always.
const qos0Tries = 3

func qosPairings(p *Pass) error {
	publisher, receiver := p.Peer("publisher"), p.Peer("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	grid := &[3][3]Pairing{}
	p.result.Pairings = grid
	less := ""
	for s := range packet.QoS(3) {
		filter := p.Topic(fmt.Sprintf("sub%d", s), "+")
		p.Step("subscribe to %s at QoS %d", filter, s)
		granted, err := p.Subscribe(receiver, filter, s)
		if err != nil {
			return err
		}
		if granted > s {
			return Break("SUBACK grants QoS %d where QoS %d was asked for", granted, s)
		}
		if granted < s {
			less = fmt.Sprintf("subscriptions get at most QoS %d", granted)
		}
		for q := range packet.QoS(3) {
			grid[q][s].Granted = granted
		}
	}
	var wrong []string
	for q := range packet.QoS(3) {
		for s := range packet.QoS(3) {
			bad, err := p.pair(publisher, receiver, q, s, &grid[q][s])
			if err != nil {
				return err
			}
			if bad != "" {
				wrong = append(wrong, fmt.Sprintf("published %d, subscribed %d: %s", q, s, bad))
			}
		}
	}
	switch {
	case len(wrong) > 0:
		return Break("%s", strings.Join(wrong, "; "))
	case less != "":
		return Unsupport("%s; what was granted was kept", less)
	}
	p.Saw("all nine arrived as they should")
	return nil
}

func (p *Pass) pair(publisher, receiver *Peer, q, s packet.QoS, cell *Pairing) (bad string, err error) {
	topic := p.Topic(fmt.Sprintf("sub%d", s), fmt.Sprintf("pub%d", q))
	text := fmt.Sprintf("published %d subscribed %d", q, s)
	from := p.Mark()
	var m *packet.Publish
	tries := 1
	if q == 0 || cell.Granted == 0 {
		tries = qos0Tries
	}
	p.Step("publish to %s at QoS %d", topic, q)
	sent := 0
	for ; m == nil && sent < tries; sent++ {
		if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: q, Payload: []byte(text)}); err != nil {
			return "", err
		}
		if m = p.AwaitMessage(receiver, from, topic, text); m == nil && sent+1 < tries {
			p.Note("a QoS 0 message to %s was lost; sent again", topic)
		}
	}
	cell.Done = true
	if m == nil {
		return "nothing arrived", nil
	}
	// Order is promised for the same topic and QoS (§4.6): what came twice came before the marker.
	if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: q, Payload: []byte("marker")}); err != nil {
		return "", err
	}
	if p.AwaitMessage(receiver, from, topic, "marker") == nil && q > 0 && cell.Granted > 0 {
		return "a second message did not arrive", nil
	}
	cell.Arrived, cell.Copies = m.QoS, p.Copies(receiver, from, text)
	want := min(q, cell.Granted)
	switch {
	case m.QoS != want:
		return fmt.Sprintf("arrived at QoS %d, not %d", m.QoS, want), nil
	case want == 2 && cell.Copies != 1, want == 0 && cell.Copies > sent:
		return fmt.Sprintf("%d copies", cell.Copies), nil
	}
	cell.Kept = true
	return "", nil
}

func qos2Once(p *Pass) error {
	publisher, receiver := p.Peer("publisher", KeepSession), p.Peer("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("once")
	if granted, err := p.Subscribe(receiver, topic, 2); err != nil {
		return err
	} else if granted < 2 {
		return Unsupport("the subscription was granted QoS %d", granted)
	}
	for _, turn := range []struct {
		lost packet.Type
		text string
		what string
	}{
		{packet.PUBREC, "first", "publish at QoS 2, cut the link before PUBREC is taken in, come back, send the PUBLISH again with DUP"},
		{packet.PUBCOMP, "second", "publish at QoS 2, cut the link before PUBCOMP is taken in, come back, send the PUBREL again"},
	} {
		from := p.Mark()
		p.Step("%s", turn.what)
		publisher.Lose(turn.lost)
		pub, err := p.Start(publisher, packet.Publish{Topic: topic, QoS: 2, Payload: []byte(turn.text)})
		if err != nil {
			return err
		}
		if p.Await(publisher, from, arrival, isPacket(trace.Received, turn.lost)) == nil {
			return Break("no %s within 5 s", turn.lost)
		}
		publisher.Cut()
		publisher.Lose(0)
		resumed := p.Mark() // the PUBCOMP that was lost does not count
		ack, err := p.Enter(publisher)
		if err != nil {
			return err
		}
		if !ack.SessionPresent {
			return Undecide("the broker did not keep the session (session present 0), so nothing could be resumed")
		}
		if p.Await(publisher, resumed, arrival, isPacket(trace.Received, packet.PUBCOMP)) == nil {
			return Break("no PUBCOMP within 5 s of coming back")
		}
		// After a PUBREL sent again, version 5 allows 0x92 too: PUBCOMP alone counts.
		if err := p.Complete(pub); err != nil && turn.lost == packet.PUBREC {
			return err
		}
		if err := p.Publish(publisher, packet.Publish{Topic: topic, QoS: 2, Payload: []byte("marker " + turn.text)}); err != nil {
			return err
		}
		if p.AwaitMessage(receiver, from, topic, "marker "+turn.text) == nil {
			return Undecide("the marker did not arrive")
		}
		if n := p.Copies(receiver, from, turn.text); n != 1 {
			return Break("%d copies of the %s message arrived", n, turn.text)
		}
	}
	p.Saw("one copy of each message, both flows completed")
	return nil
}
