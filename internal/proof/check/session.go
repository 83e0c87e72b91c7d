package check

import (
	"errors"
	"fmt"
	"slices"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var session = []*proof.Check{
	{Name: "session.kept", Title: "a session waits for its client",
		Expected: "QoS 1 and 2 messages that came meanwhile are delivered, after a DISCONNECT and after a cut, at their QoS, those at QoS 2 once; the subscriptions still hold",
		Sections: proof.Sections{
			V31:  "3.1",
			V311: "3.1.2.4, 4.1",
			V5:   "3.1.2.11.2, 4.1",
		}, Needs: proof.Needs{Least: 3, QoS: 1, Sessions: true}, Run: sessionKept},
	{Name: "session.present", Title: "session present tells the truth",
		Expected: "0 for a new session and after a clean start, 1 whenever a session waits, also one without subscriptions",
		Sections: proof.Sections{
			V311: "3.2.2.2",
			V5:   "3.2.2.1.1",
		}, Needs: proof.Needs{Least: 1, Sessions: true}, Run: sessionPresent},
}

// absence is one client that goes away, and what is published for it meanwhile.
type absence struct {
	name   string
	peer   *proof.Client
	leave  func(*proof.Client) error
	topics []string // by which messages come
	qos    []packet.QoS
	sent   []waited // while it was away, in this order
	from   uint64
}

// waited is a message that waits for a client.
type waited struct {
	topic, text string
	qos         packet.QoS
	sent        *trace.Event
}

func sessionKept(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	all := []*absence{
		{
			name:  "left",
			peer:  p.Client("subject-left", proof.KeepSession),
			leave: func(s *proof.Client) error { return s.Disconnect(0) },
		},
		{name: "cut", peer: p.Client("subject-cut", proof.KeepSession), leave: cut},
	}
	for _, a := range all {
		if err := a.subscribe(p); err != nil {
			return err
		}
	}
	for _, a := range all {
		p.Step("one client is %s; its session has subscriptions at QoS 1 and 2", away(a.name))
		if err := a.leave(a.peer); err != nil {
			return proof.Undecide("%v", err)
		}
	}
	// Before the broker has noticed, it would try to deliver: that is another matter.
	if _, err := p.Quiet(publisher); err != nil {
		return err
	}
	for _, a := range all {
		if err := a.miss(p, publisher); err != nil {
			return err
		}
	}
	for _, a := range all {
		if err := a.comeBack(p, publisher); err != nil {
			return err
		}
	}
	if _, err := p.Quiet(all[0].peer, all[1].peer); err != nil {
		return err
	}
	for _, a := range all {
		if err := a.verify(p); err != nil {
			return err
		}
	}
	p.Saw("what waited and what came later arrived, after a DISCONNECT and after a cut")
	return nil
}

func away(name string) string {
	return map[string]string{"left": "away", "cut": "cut off"}[name]
}

// subscribe enters and subscribes, at QoS 1 and 2, by exact filters and wildcards.
func (a *absence) subscribe(p *proof.Pass) error {
	if _, err := p.Enter(a.peer); err != nil {
		return err
	}
	for q := packet.QoS(1); q <= 2; q++ {
		exact, wild := p.Topic(a.name, "exact", fmt.Sprint("qos", q)), p.Topic(a.name, fmt.Sprint("wild", q))
		for _, t := range []struct{ topic, filter string }{{exact, exact}, {wild + "/x", wild + "/+"}} {
			granted, err := p.Subscribe(a.peer, t.filter, q)
			if err != nil {
				return err
			}
			if granted < q {
				p.Note("QoS %d was not granted; not tried", q)
				continue
			}
			a.topics, a.qos = append(a.topics, t.topic), append(a.qos, q)
		}
	}
	if len(a.topics) == 0 {
		return proof.Unsupport("subscriptions get QoS 0 only: no message waits for an absent client")
	}
	return nil
}

// What is published while the client is away.
func meanwhile(p *proof.Pass) []string { return []string{"meanwhile", p.Long("long meanwhile")} }

// miss publishes to the client while it is away.
func (a *absence) miss(p *proof.Pass, publisher *proof.Client) error {
	p.Step("publish to the client that is %s", away(a.name))
	for _, text := range meanwhile(p) {
		for i, topic := range a.topics {
			e, err := p.Publish(publisher, publish(topic, text, a.qos[i], false))
			if err != nil && a.qos[i] == 2 && publisher.Connected() { // a matter of the checks on QoS
				p.Note("a message at QoS 2 could not be published; not tried")
				a.topics, a.qos = a.topics[:i], a.qos[:i]
				break
			} else if err != nil {
				return err
			}
			a.sent = append(a.sent, waited{topic, text, a.qos[i], e})
		}
	}
	return nil
}

// comeBack enters again, and wants what came meanwhile, and what comes now.
func (a *absence) comeBack(p *proof.Pass, publisher *proof.Client) error {
	a.from = p.Mark()
	p.Step("the client that was %s comes back with clean start 0", away(a.name))
	if _, err := p.Enter(a.peer); err != nil {
		return err
	}
	missing := a.missing(p, a.from, a.sent)
	if n := len(missing); n > 0 {
		came := len(a.sent) - n
		begin := slices.Index(a.sent, missing[0])
		limit := came > 0 && (begin == 0 || begin == came) && slices.Equal(a.sent[begin:begin+n], missing)
		if limit { // the first or the last of them came
			var err error
			if limit, err = a.alone(p, publisher, missing); err != nil {
				return err
			}
		}
		if !limit {
			p.Decide(missing[0].sent, p.Await(a.peer, a.from, 0, isPacket(trace.Received, packet.CONNACK)))
			return proof.Break("a QoS %d message that came while the client was %s: %s", missing[0].qos, away(a.name),
				p.Instead(a.peer, a.from, missing[0].topic, missing[0].text))
		}
		p.Note("of %d messages that waited for the client that was %s %d came: the broker keeps no more for an absent client; the others came when each waited alone",
			len(a.sent), away(a.name), came)
	}
	p.Step("publish again, now that it is back")
	for i, topic := range a.topics {
		e, err := p.Publish(publisher, publish(topic, "afterwards", a.qos[i], false))
		if err != nil {
			return err
		}
		if p.AwaitMessage(a.peer, a.from, topic, "afterwards") == nil {
			p.Decide(e)
			return proof.Break(
				"the subscriptions were lost: after the return, %s",
				p.Instead(a.peer, a.from, topic, "afterwards"),
			)
		}
	}
	return nil
}

// missing are those messages that have not come since a mark. Nothing is waited for once one is overdue.
func (a *absence) missing(p *proof.Pass, from uint64, all []waited) (out []waited) {
	for _, w := range all {
		within := arrivalTime
		if len(out) > 0 {
			within = 0
		}
		if p.Await(a.peer, from, within, isMessageOn(w.topic, w.text)) == nil {
			out = append(out, w)
		}
	}
	return out
}

// alone tells whether messages that did not come wait for the client one at a time: then it is not for what they are that
// they were lost. The error says why that could not be tried.
func (a *absence) alone(p *proof.Pass, publisher *proof.Client, all []waited) (bool, error) {
	for _, w := range all {
		p.Step("a message that did not come waits alone, for the client that is %s once more", away(a.name))
		if _, err := p.Quiet(a.peer); err != nil { // until our acknowledgements are there
			return false, err
		}
		if err := a.leave(a.peer); err != nil {
			return false, proof.Undecide("%v", err)
		}
		if _, err := p.Quiet(publisher); err != nil {
			return false, err
		}
		if _, err := p.Publish(publisher, publish(w.topic, w.text, w.qos, false)); err != nil {
			return false, err
		}
		from := p.Mark()
		if _, err := p.Enter(a.peer); err != nil {
			return false, err
		}
		if len(a.missing(p, from, []waited{w})) > 0 {
			return false, nil
		}
	}
	return true, nil
}

// verify looks at all copies that came.
func (a *absence) verify(p *proof.Pass) error {
	for i, topic := range a.topics {
		for _, text := range append(meanwhile(p), "afterwards") {
			copies := p.Arrivals(a.peer, a.from, topic, text)
			p.Decide(copies...)
			for _, e := range copies {
				if got := e.Publish().QoS; got != a.qos[i] {
					return proof.Break("a QoS %d message came at QoS %d", a.qos[i], got)
				}
			}
			if a.qos[i] == 2 && len(copies) != 1 {
				return proof.Break("%d copies of a QoS 2 message came", len(copies))
			}
		}
	}
	return nil
}

func sessionPresent(p *proof.Pass) error {
	subject := p.Client("subject", proof.KeepSession)
	fresh := p.Client("subject-clean", proof.As(subject))
	tell := func(peer *proof.Client, want bool, when string) error {
		from := p.Mark()
		p.Step("CONNECT %s", when)
		_, err := p.Try(peer)
		came := p.Await(peer, from, 0, isPacket(trace.Received, packet.CONNACK))
		p.Decide(p.Await(peer, from, 0, isPacket(trace.Sent, packet.CONNECT)), came)
		var ended *client.EndedError
		if err != nil && !(errors.As(err, &ended) && ended.Rule) { // our client closes the link on a lie, as it must
			return proof.Undecide("the %s could not connect: %v", peer.Name, err)
		}
		if came == nil {
			return proof.Undecide("no CONNACK is on the trace")
		}
		if got := came.Packet.(*packet.Connack).SessionPresent; got != want {
			return proof.Break("session present %d %s", map[bool]int{true: 1}[got], when)
		}
		peer.Disconnect(0)
		return nil
	}
	for _, turn := range []struct {
		peer *proof.Client
		want bool
		when string
	}{
		{subject, false, "for a session that never was"},
		{subject, true, "for a session that waits, without any subscription"},
		{fresh, false, "after a clean start"},
		{fresh, false, "after another clean start"},
	} {
		if err := tell(turn.peer, turn.want, turn.when); err != nil {
			return err
		}
	}
	p.Saw("0, 1, 0 and 0, as it must be")
	return nil
}
