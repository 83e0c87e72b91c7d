package check

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of how a session ends, and of what waits in it.
var sessions = []*proof.Check{
	{
		Name:     "session.clean",
		Title:    "a clean start begins anew",
		Expected: "after a clean start neither the old subscriptions nor what waited; after a connection that was not to be kept, nothing is left of it",
		Sections: proof.Same("3.1", "3.1.2.4"),
		Needs:    proof.Needs{Least: 2, QoS: 1, Sessions: true},
		Requires: append(resumes, "session.present"),
		Run:      sessionClean,
	},
	{
		Name:     "session.order",
		Title:    "what waited comes in order, and before what is new",
		Expected: "20 messages that waited, at QoS 1 and at QoS 2, come in the order in which they were published, and before the next ones on their topic",
		Sections: proof.Same(
			"4.1",
			"4.6",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1, Sessions: true},
		Requires: append(resumes, pairs...),
		Run:      sessionOrder,
	},
	{
		Name:     "session.message-expiry",
		Title:    "what waits expires",
		Expected: "of what waits for 3 s, a message with expiry 1 s does not come, and one with 60 s comes with the time that is left",
		Sections: proof.Sections{
			V5: "3.3.2.3.3",
		},
		Needs:    proof.Needs{Least: 2, QoS: 1, Sessions: true},
		Requires: resumes,
		Run:      sessionMessageExpiry,
	},
	{
		Name:     "session.expiry",
		Title:    "a session ends after its expiry",
		Expected: "a session with expiry 3 s is there after 1 s, and gone after; broken only if it is still there 10 s later",
		Sections: proof.Sections{
			V5: "3.1.2.11.2",
		},
		Needs:    proof.Needs{Least: 3, Sessions: true},
		Requires: append(resumes, "session.present"),
		Run:      sessionExpiry,
	},
	{
		Name:     "session.expiry-at-goodbye",
		Title:    "DISCONNECT changes the session's expiry",
		Expected: "a session that was to be kept is gone after DISCONNECT with expiry 0, and one that was to end soon is kept after DISCONNECT with a longer one",
		Sections: proof.Sections{
			V5: "3.14.2.2.2",
		},
		Needs:    proof.Needs{Least: 2, Sessions: true},
		Requires: append(resumes, "session.present"),
		Run:      sessionExpiryAtGoodbye,
	},
}

// leave says goodbye, and waits until the broker must have noticed.
func leave(p *proof.Pass, peer, other *proof.Client, ps ...packet.Property) error {
	if err := peer.Disconnect(0, ps...); err != nil {
		return proof.Undecide("%v", err)
	}
	_, err := p.Quiet(other)
	return err
}

func sessionClean(p *proof.Pass) error {
	publisher, old := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, old); err != nil {
		return err
	}
	clean := p.Client("subject-clean", proof.As(old))
	back := p.Client("subject-back", proof.As(old), proof.KeepSession)
	kept, brief := p.Topic("kept"), p.Topic("brief")
	if _, err := p.Subscribe(old, kept, 1); err != nil {
		return err
	}
	p.Step("a session with a subscription, for which a message waits")
	if err := leave(p, old, publisher); err != nil {
		return err
	}
	if _, err := p.Publish(publisher, publish(kept, "waiting", 1, false)); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("its client comes with a clean start, and subscribes to another topic")
	if _, err := p.Enter(clean); err != nil {
		return err
	}
	p.Decide(p.Await(clean, from, 0, isPacket(trace.Received, packet.CONNACK)))
	if _, err := p.Subscribe(clean, brief, 1); err != nil {
		return err
	}
	for _, topic := range []string{kept, brief} {
		if _, err := p.Publish(publisher, publish(topic, "now", 1, false)); err != nil {
			return err
		}
	}
	control := p.AwaitMessage(clean, from, brief, "now")
	if p.Decide(control); control == nil {
		return proof.Undecide("the new subscription brings nothing: %s", p.Instead(clean, from, brief, "now"))
	}
	if _, err := p.Quiet(clean); err != nil {
		return err
	}
	for _, e := range p.Messages(clean, from) {
		if e.Topic() == kept {
			p.Decide(e)
			return proof.Break("after a clean start, %q came of the session before", e.Publish().Payload)
		}
	}
	p.Step("it leaves; that session was not to be kept")
	if err := leave(p, clean, publisher); err != nil {
		return err
	}
	if _, err := p.Publish(publisher, publish(brief, "later", 1, false)); err != nil {
		return err
	}
	from = p.Mark()
	p.Step("it comes back with clean start 0")
	ack, err := p.Enter(back)
	if err != nil {
		return err
	}
	p.Decide(p.Await(back, from, 0, isPacket(trace.Received, packet.CONNACK)))
	if ack.SessionPresent {
		return proof.Break("session present 1 after a session that was not to be kept")
	}
	if _, err := p.Publish(publisher, publish(brief, "at last", 1, false)); err != nil {
		return err
	}
	if _, err := p.Quiet(back); err != nil {
		return err
	}
	for _, e := range p.Messages(back, from) {
		p.Decide(e)
		return proof.Break("%q came of a session that was not to be kept", e.Publish().Payload)
	}
	p.Saw("nothing came of the sessions before")
	return nil
}

// waiting is how many messages wait for an absent client at each QoS.
const waiting = 20

func sessionOrder(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topics := map[packet.QoS]string{}
	for q := packet.QoS(1); q <= p.Highest(2); q++ {
		granted, err := p.Subscribe(subject, p.Topic(fmt.Sprint("qos", q)), q)
		if err != nil {
			return err
		}
		if granted == q {
			topics[q] = p.Topic(fmt.Sprint("qos", q))
		}
	}
	if len(topics) == 0 {
		return proof.Unsupport("subscriptions get QoS 0 only: no message waits for an absent client")
	}
	p.Step("%d messages at each QoS wait for a client that is away", waiting)
	if err := leave(p, subject, publisher); err != nil {
		return err
	}
	var sent *trace.Event // the last
	send := func(first, n int) (err error) {
		for i := first; i < first+n; i++ {
			for q := packet.QoS(1); q <= 2; q++ {
				if topics[q] == "" {
					continue
				}
				if sent, err = p.Publish(publisher, publish(topics[q], fmt.Sprintf("%03d", i), q, false)); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if err := send(1, waiting); err != nil {
		return err
	}
	from := p.Mark()
	p.Step("it comes back, and five more are published at each QoS")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	if err := send(waiting+1, 5); err != nil {
		return err
	}
	levels := slices.Sorted(maps.Keys(topics))
	for _, q := range levels {
		topic, last := topics[q], fmt.Sprintf("%03d", waiting+5)
		if p.AwaitMessage(subject, from, topic, last) == nil {
			p.Decide(sent)
			return proof.Break("at QoS %d, the last message did not come: %s", q, p.Instead(subject, from, topic, last))
		}
	}
	if _, err := p.Quiet(subject); err != nil {
		return err
	}
	fewer, kept := "", false
	for _, e := range p.Messages(subject, from) {
		n, err := strconv.Atoi(string(e.Publish().Payload))
		kept = kept || err == nil && n <= waiting
	}
	for _, q := range levels {
		less, err := waitedInOrder(p, p.Messages(subject, from), topics[q], q, kept)
		if err != nil {
			return err
		}
		if less != "" {
			fewer = less
		}
	}
	if fewer != "" {
		return proof.Unsupport("%s", fewer)
	}
	p.Saw("%d that waited came in order, and before 5 more, at each QoS", waiting)
	return nil
}

// waitedInOrder wants the messages of a topic in their order. Further copies do not count. Where the first or the last
// of what waited came, and nothing between is missing, the broker keeps no more for an absent client, and that is said;
// kept tells that it keeps any, of this topic or others.
func waitedInOrder(p *proof.Pass, all []*trace.Event, topic string, q packet.QoS, kept bool) (fewer string, err error) {
	var came []int
	for _, e := range all {
		var n int
		if _, err := fmt.Sscanf(
			string(e.Publish().Payload),
			"%d",
			&n,
		); err != nil || e.Topic() != topic ||
			slices.Contains(came, n) {
			continue
		}
		if len(came) > 0 && n < came[len(came)-1] {
			p.Decide(e)
			what := "what waited"
			if came[len(came)-1] > waiting {
				what = "what was published afterwards"
			}
			return "", proof.Break("at QoS %d, message %d (%s) came before message %d", q, came[len(came)-1], what, n)
		}
		if len(came) == 0 || n == waiting+5 {
			p.Decide(e)
		}
		came = append(came, n)
	}
	var missing []int
	for n := 1; n <= waiting+5; n++ {
		if !slices.Contains(came, n) {
			missing = append(missing, n)
		}
	}
	switch n := len(missing); {
	case n == 0:
		return "", nil
	case missing[n-1] <= waiting && missing[n-1]-missing[0] == n-1 && (missing[0] == 1 || missing[n-1] == waiting) && kept:
		return fmt.Sprintf(
			"of %d messages at QoS %d that waited %d came: the broker keeps no more for an absent client; what came was in order",
			waiting,
			q,
			waiting-n,
		), nil
	}
	return "", proof.Break("at QoS %d, message %d of those that waited or came afterwards did not come", q, missing[0])
}

// aging is a message that waits for a client that is away.
type aging struct {
	seconds uint32 // of its expiry, 0 for none
	sent    *trace.Event
	back    uint64 // from where on it could come
	came    []*trace.Event
}

func (m *aging) text() string { return fmt.Sprintf("expiry %d s", m.seconds) }

// ages publishes messages to a client that is away, and lets it come back after 3 s.
func ages(p *proof.Pass, publisher, subject *proof.Client, topic string, all ...*aging) error {
	if err := leave(p, subject, publisher); err != nil {
		return err
	}
	for _, m := range all {
		message := publish(topic, m.text(), 1, false)
		if m.seconds > 0 {
			message.Properties = packet.Properties{packet.Int(packet.MessageExpiry, m.seconds)}
		}
		var err error
		if m.sent, err = p.Publish(publisher, message); err != nil {
			return err
		}
	}
	p.Wait(3 * time.Second)
	from := p.Mark()
	p.Step("it comes back after 3 s")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	for _, m := range all {
		if m.back = from; m.seconds != 1 {
			p.AwaitMessage(subject, from, topic, m.text())
		}
	}
	_, err := p.Quiet(subject)
	for _, m := range all {
		m.came = p.Arrivals(subject, from, topic, m.text())
	}
	return err
}

func sessionMessageExpiry(p *proof.Pass) error {
	publisher, subject := p.Client("publisher"), p.Client("subject", proof.KeepSession)
	if err := p.ConnectAll(publisher, subject); err != nil {
		return err
	}
	topic := p.Topic("message")
	if err := granted(p, subject, topic, 1); err != nil {
		return err
	}
	p.Step("messages with expiry 1 s, with 60 s and with none wait for a client that is away")
	all := []*aging{{seconds: 1}, {seconds: 60}, {}}
	if err := ages(p, publisher, subject, topic, all...); err != nil {
		return err
	}
	brief, long, endless := all[0], all[1], all[2]
	if subject.Connected() && (len(long.came) == 0 || len(endless.came) == 0) { // a broker may keep no more than one
		p.Step("not all came: each waits alone")
		for _, m := range all {
			if err := ages(p, publisher, subject, topic, m); err != nil {
				return err
			}
		}
		p.Note("the messages waited one at a time: of three the broker did not keep all")
	}
	p.Decide(brief.sent)
	for _, m := range []*aging{long, endless} {
		if len(m.came) > 0 {
			continue
		}
		what := map[uint32]string{60: "with expiry 60 s", 0: "without expiry"}[m.seconds]
		return proof.Break("the message %s: %s", what, p.Instead(subject, m.back, topic, m.text()))
	}
	p.Decide(long.came[0])
	if late := brief.came; len(late) > 0 {
		p.Decide(late...)
		return proof.Break("a message with expiry 1 s came %s after it was published", short(late[0].At.Sub(brief.sent.At)))
	}
	came := long.came[0]
	waited := came.At.Sub(long.sent.At)
	left, told := came.Publish().Properties.Int(packet.MessageExpiry)
	// Whether the broker rounds up or down is its own matter.
	if most := uint32(60 - int(waited/time.Second) + 1); !told || left > most || left+3 < most {
		return proof.Break(
			"the message with expiry 60 s waited for %s, and came with expiry %s",
			short(waited),
			seconds(left, told),
		)
	}
	p.Saw("what had expired did not come; 60 s had become %d s after %s", left, short(waited))
	return nil
}

// seconds shows an expiry.
func seconds(n uint32, told bool) string {
	if !told {
		return "none"
	}
	return fmt.Sprintf("%d s", n)
}

// present comes back to a session and tells whether it was there.
func present(p *proof.Pass, peer *proof.Client) (bool, error) {
	from := p.Mark()
	ack, err := p.Enter(peer)
	if err != nil {
		return false, err
	}
	p.Decide(p.Await(peer, from, 0, isPacket(trace.Received, packet.CONNACK)))
	return ack.SessionPresent, nil
}

func sessionExpiry(p *proof.Pass) error {
	const expiry = 3
	var peers []*proof.Client
	for _, name := range []string{"early", "late", "latest"} {
		peers = append(peers, p.Client(name, proof.KeepSession, proof.ExpiresAfter(expiry)))
	}
	p.Step("three clients with session expiry %d s come and go", expiry)
	from := p.Mark()
	if err := p.ConnectAll(peers...); err != nil {
		return err
	}
	told := uint32(expiry) // CONNACK's counts
	if e := p.Await(peers[0], from, 0, isPacket(trace.Received, packet.CONNACK)); e != nil {
		told = e.Packet.(*packet.Connack).Properties.IntOr(packet.SessionExpiry, expiry)
	}
	for _, peer := range peers {
		if err := peer.Disconnect(0); err != nil {
			return proof.Undecide("%v", err)
		}
	}
	gone := time.Now()
	if told != expiry {
		p.Note("CONNACK says session expiry %d s", told)
	}
	if told > 30 {
		return proof.Undecide("CONNACK says session expiry %d s: too long to wait for", told)
	}
	after := func(d time.Duration) { p.Wait(d - time.Since(gone)) }
	end := time.Duration(told) * time.Second
	after(end / 3)
	p.Step("one comes back before the end")
	if was, err := present(p, peers[0]); err != nil {
		return err
	} else if !was && time.Since(gone) > end {
		p.Note("whether it was there before its end was not seen: CONNACK came after %s", short(time.Since(gone)))
	} else if !was {
		return proof.Break(
			"session present 0 after %s: the session was to be kept for %s",
			short(time.Since(gone)),
			short(end),
		)
	}
	for i, late := range []time.Duration{time.Second, 10 * time.Second} {
		after(end + late)
		p.Step("another comes back %s after the end", short(late))
		was, err := present(p, peers[i+1])
		if err != nil {
			return err
		}
		if !was {
			p.Saw("there after %s, gone %s after its end", short(end/3), short(late))
			return nil
		}
		p.Note("the session was still there %s after its end", short(late))
	}
	return proof.Break("session present 1 10 s after the session's end")
}

func sessionExpiryAtGoodbye(p *proof.Pass) error {
	kept, brief := p.Client("ended", proof.KeepSession), p.Client("prolonged", proof.KeepSession, proof.ExpiresAfter(1))
	for _, turn := range []struct {
		peer    *proof.Client
		seconds uint32
		wait    time.Duration
		want    bool
	}{{kept, 0, 0, false}, {brief, 60, 3 * time.Second, true}} {
		if _, err := p.Enter(turn.peer); err != nil {
			return err
		}
		p.Step("DISCONNECT with session expiry %d s", turn.seconds)
		from := p.Mark()
		if err := turn.peer.Disconnect(0, packet.Int(packet.SessionExpiry, turn.seconds)); err != nil {
			return proof.Undecide("%v", err)
		}
		p.Decide(p.Await(turn.peer, from, 0, isPacket(trace.Sent, packet.DISCONNECT)))
		wait, _ := p.Quiet()
		p.Wait(turn.wait)
		p.Step("the client comes back after %s", short(wait+turn.wait))
		if was, err := present(p, turn.peer); err != nil {
			return err
		} else if was != turn.want {
			return proof.Break(
				"session present %d after DISCONNECT with session expiry %d s, %s later",
				flag(was),
				turn.seconds,
				short(wait+turn.wait),
			)
		}
	}
	p.Saw("gone after DISCONNECT with expiry 0, kept after one with 60 s")
	return nil
}
