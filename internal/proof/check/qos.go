package check

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var qos = []*proof.Check{
	{
		Name:     "qos.pairings",
		Title:    "every pairing of published and subscribed QoS",
		Expected: "each arrives at the lower of published and granted QoS, without DUP and retain flag, byte for byte; QoS 1 at least once, QoS 2 exactly once, QoS 0 at most once; all flows complete at both ends",
		Sections: proof.Sections{
			V31:  "4.1, 3.3",
			V311: "4.3, 3.8.4",
			V5:   "4.3, 3.8.4",
		},
		Needs: proof.Needs{Least: 2},
		Run:   qosPairings,
	},
	{Name: "qos2.once", Title: "QoS 2 stays exactly once across broken connections",
		Expected: "one copy each, although the link is cut before PUBREC and after PUBREL; PUBCOMP in the end",
		Sections: proof.Sections{
			V31:  "4.1, 4.2",
			V311: "4.3.3, 4.4",
			V5:   "4.3.3, 4.4",
		}, Needs: proof.Needs{Least: 2, QoS: 2, Sessions: true}, Run: qos2Once},
}

// qos0Tries is how often a QoS 0 message that does not arrive is sent again: it may
// be lost, but not always.
const qos0Tries = 3

// pairing is one published QoS with one subscribed QoS, under one kind of filter.
type pairing struct {
	topic     string
	published packet.QoS
	granted   packet.QoS
	tries     int
	texts     []string // a short, a long and a later one
	cell      *proof.Cell
}

func qosPairings(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher"), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	levels := []string{"QoS 0", "QoS 1", "QoS 2"}
	table := proof.NewTable(
		"QoS published × subscribed",
		"each cell: the QoS at which the message arrived; it must be the lower of the two",
		"published",
		"subscribed",
		levels,
		levels,
	)
	defer func() { p.Show(table) }()
	from := p.Mark()
	var all []*pairing
	less := ""
	for s := range packet.QoS(3) {
		for _, kind := range []string{"exact", "wild"} {
			for q := range packet.QoS(3) {
				topic := p.Topic(kind, fmt.Sprintf("sub%d", s), fmt.Sprintf("pub%d", q))
				all = append(all, &pairing{topic: topic, published: q, granted: s, cell: &table.Cells[q][s]})
			}
			filters := []string{p.Topic(kind, fmt.Sprintf("sub%d", s), "+")}
			if kind == "exact" {
				filters = nil
				for _, x := range all[len(all)-3:] {
					filters = append(filters, x.topic)
				}
			}
			p.Step(
				"subscribe at QoS %d, %s",
				s,
				map[string]string{"exact": "topic by topic", "wild": "with a wildcard"}[kind],
			)
			for i, f := range filters {
				granted, err := p.Subscribe(receiver, f, s)
				switch {
				case err != nil:
					return err
				case granted > s:
					p.Decide(p.Await(receiver, from, 0, isPacket(trace.Received, packet.SUBACK)))
					return proof.Break("SUBACK grants QoS %d where QoS %d was asked for", granted, s)
				case granted < s:
					less = fmt.Sprintf("subscriptions get at most QoS %d", granted)
				}
				for j, x := range all[len(all)-3:] {
					if kind == "wild" || i == j {
						x.granted = granted
					}
				}
			}
		}
	}
	for _, x := range all {
		ok, err := x.publish(p, publisher, receiver, from)
		if err != nil {
			x.cell.Text, x.cell.Verdict = "✗", proof.Broken
			return err
		}
		if !ok {
			less = fmt.Sprintf("it does not take all messages at QoS %d", x.published)
		}
	}
	// All has had its time to arrive: now the copies are counted.
	if _, err := p.Quiet(receiver, publisher); err != nil {
		return err
	}
	var wrong []string
	for _, x := range all {
		if len(x.texts) == 0 {
			continue
		}
		bad := x.verify(p, receiver, from)
		if bad != "" {
			wrong = append(wrong, fmt.Sprintf("published %d, subscribed %d: %s", x.published, x.granted, bad))
			x.cell.Text, x.cell.Verdict = "✗", proof.Broken
		} else if x.cell.Verdict == "" {
			x.cell.Text, x.cell.Verdict = fmt.Sprint(min(x.published, x.granted)), proof.Kept
		}
	}
	if e := p.Unreleased(receiver, from); e != nil && len(wrong) == 0 {
		p.Decide(e)
		return proof.Break("no PUBREL within 5 s of the receiver's PUBREC, for %s", shorter(e.Topic()))
	}
	switch {
	case len(wrong) > 0:
		return proof.Break("%s", strings.Join(unique(wrong), "; "))
	case p.NoLong() != "":
		return proof.Unsupport("%s; short messages arrived as they should", p.NoLong())
	case less != "":
		return proof.Unsupport("%s; what was granted was kept", less)
	}
	p.Saw(
		"all nine pairings arrived as they should, through exact filters and wildcards, short and long, first and later",
	)
	return nil
}

// publish sends the pairing's messages and waits for them. ok is false where the broker says that it does not take
// the QoS.
func (x *pairing) publish(p *proof.Pass, publisher, receiver *proof.Client, from uint64) (ok bool, err error) {
	name := fmt.Sprintf("%d for %d", x.published, x.granted)
	p.Step("publish to %s at QoS %d: a short message, a long one, and one more", shorter(x.topic), x.published)
	for _, text := range []string{"short " + name, p.Long("long " + name), "later " + name} {
		tries := 1
		if x.published == 0 || x.granted == 0 {
			tries = qos0Tries
		}
		var came *trace.Event
		sent := 0
		for ; came == nil && sent < tries; sent++ {
			out, err := p.Flow(publisher, publish(x.topic, text, x.published, false))
			if unsupported(err) {
				return false, nil
			} else if err != nil {
				return false, err
			}
			if came = p.AwaitMessage(receiver, from, x.topic, text); came == nil {
				p.Decide(out)
				if sent+1 < tries {
					p.Note("a QoS 0 message to %s was lost; sent again", shorter(x.topic))
				}
			}
		}
		if came == nil {
			if !receiver.Connected() {
				return false, proof.Undecide("the receiver was lost: %v", receiver.Ended())
			}
			return false, proof.Break(
				"published %d, subscribed %d: %s",
				x.published,
				x.granted,
				p.Instead(receiver, from, x.topic, text),
			)
		}
		x.texts = append(x.texts, text)
		x.tries = max(x.tries, sent)
	}
	return true, nil
}

// verify looks at all copies that came.
func (x *pairing) verify(p *proof.Pass, receiver *proof.Client, from uint64) (bad string) {
	want := min(x.published, x.granted)
	for _, text := range x.texts {
		copies := p.Arrivals(receiver, from, x.topic, text)
		for _, e := range copies {
			m := e.Publish()
			switch {
			case m.QoS != want:
				p.Decide(e)
				return fmt.Sprintf("arrived at QoS %d, not %d", m.QoS, want)
			case m.Retain:
				p.Decide(e)
				return "arrived with retain flag 1 although it was published with 0"
			case m.Dup && e == copies[0]:
				p.Decide(e)
				return "arrived with DUP the first time"
			}
		}
		if n := len(copies); want == 2 && n != 1 || want == 0 && n > x.tries || n == 0 {
			p.Decide(copies...)
			return fmt.Sprintf("%d copies", n)
		}
		p.Decide(copies[0])
	}
	return ""
}

// shorter leaves out what all topics of a run share.
func shorter(topic string) string {
	parts := strings.SplitN(topic, "/", 4)
	return "…/" + parts[len(parts)-1]
}

func unique(texts []string) (out []string) {
	seen := map[string]bool{}
	for _, t := range texts {
		if !seen[t] {
			seen[t] = true
			out = append(out, t)
		}
	}
	return out
}

func qos2Once(p *proof.Pass) error {
	publisher, receiver := p.Client("publisher", proof.KeepSession), p.Client("receiver")
	if err := p.ConnectAll(publisher, receiver); err != nil {
		return err
	}
	topic := p.Topic("once")
	begin := p.Mark()
	if err := granted(p, receiver, topic, 2); err != nil {
		return err
	}
	// 3.1 does not tell of its sessions: that this one is kept shows by its subscription.
	control := p.Topic("control")
	if _, err := p.Subscribe(publisher, control, 1); err != nil {
		return err
	}
	p.Step("a message without any cut, as a control")
	if _, err := p.Flow(publisher, publish(topic, "control", 2, false)); err != nil {
		return proof.Undecide("QoS 2 does not work even without a cut: %v (see qos.pairings)", err)
	}
	p.AwaitMessage(receiver, begin, topic, "control")
	if _, err := p.Quiet(receiver); err != nil {
		return err
	}
	if n := len(p.Arrivals(receiver, begin, topic, "control")); n != 1 {
		return proof.Undecide("%d copies arrive even without a cut (see qos.pairings)", n)
	}
	turns := []struct {
		lost packet.Type
		text string
		what string
	}{
		{
			packet.PUBREC,
			"first",
			"publish at QoS 2, cut the link before PUBREC is taken in, come back, send the PUBLISH again with DUP",
		},
		{
			packet.PUBCOMP,
			"second",
			"publish at QoS 2, cut the link before PUBCOMP is taken in, come back, send the PUBREL again",
		},
		{
			packet.PUBLISH,
			"third",
			"send a PUBLISH at QoS 2 that the broker never got, with DUP: it is the first all the same",
		},
	}
	for _, turn := range turns {
		from := p.Mark()
		p.Step("%s", turn.what)
		if turn.lost == packet.PUBLISH {
			// A client may send it again without knowing whether it ever arrived (§4.4).
			first := publish(topic, turn.text, 2, false)
			first.ID, first.Dup = unusedID, true
			if err := publisher.Send(&first); err != nil {
				return proof.Undecide("%v", err)
			}
			if rec := p.Await(publisher, from, arrivalTime, isPacket(trace.Received, packet.PUBREC)); rec == nil {
				return proof.Break("no PUBREC within 5 s")
			}
			if err := publisher.Send(&packet.Pubrel{Ack: packet.Ack{ID: unusedID}}); err != nil {
				return proof.Undecide("%v", err)
			}
			if p.AwaitMessage(receiver, from, topic, turn.text) == nil {
				p.Decide(p.Await(publisher, from, 0, isPacket(trace.Sent, packet.PUBLISH)))
				return proof.Break("a PUBLISH with DUP that was the first to arrive was not passed on")
			}
			continue
		}
		publisher.Lose(turn.lost)
		sent, pub, err := p.Start(publisher, publish(topic, turn.text, 2, false))
		if err != nil {
			return err
		}
		if p.Await(publisher, from, arrivalTime, isPacket(trace.Received, turn.lost)) == nil {
			p.Decide(sent)
			return proof.Break("no %s within 5 s", turn.lost)
		}
		publisher.Cut()
		publisher.Lose(0)
		resumed := p.Mark() // the PUBCOMP that was lost does not count
		ack, err := p.Enter(publisher)
		if err != nil {
			return err
		}
		if p.Version != packet.V31 && !ack.SessionPresent {
			return proof.Undecide(
				"the broker did not keep the session (session present 0), so nothing could be resumed",
			)
		}
		if _, err := p.Publish(receiver, publish(control, turn.text, 1, false)); err != nil {
			return err
		}
		if p.Version == packet.V31 && p.AwaitMessage(publisher, resumed, control, turn.text) == nil {
			return proof.Undecide(
				"the broker did not keep the session (its subscription is gone), so nothing could be resumed",
			)
		}
		again := p.Await(publisher, resumed, arrivalTime, func(e *trace.Event) bool {
			return e.Kind == trace.Sent && e.Packet != nil && (e.Packet.Type() == packet.PUBREL || e.Publish() != nil)
		})
		p.Decide(again)
		if p.Await(publisher, resumed, arrivalTime, isPacket(trace.Received, packet.PUBCOMP)) == nil {
			return proof.Break("no PUBCOMP within 5 s of coming back")
		}
		// After a PUBREL sent again, version 5 allows 0x92 too: PUBCOMP alone counts.
		if err := p.Complete(pub); err != nil && turn.lost == packet.PUBREC {
			return err
		}
		if p.AwaitMessage(receiver, from, topic, turn.text) == nil {
			return proof.Break("the %s message: %s", turn.text, p.Instead(receiver, from, topic, turn.text))
		}
	}
	waited, err := p.Quiet(receiver)
	if err != nil {
		return err
	}
	for _, turn := range turns {
		if copies := p.Arrivals(receiver, begin, topic, turn.text); len(copies) != 1 {
			p.Decide(copies...)
			return proof.Break("%d copies of the %s message arrived", len(copies), turn.text)
		}
	}
	p.Saw("one copy of each message within %s, all flows completed", short(waited))
	return nil
}
