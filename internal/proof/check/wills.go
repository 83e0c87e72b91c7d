package check

import (
	"context"
	"fmt"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// wants are the checks that must not have been broken for others to tell anything of wills.
var wants = []string{"will.on-cut"}

// The checks of wills beside those in will.go: when else they come, and as what.
var wills = []*proof.Check{
	{
		Name:     "will.on-silence",
		Title:    "a client that has fallen silent leaves its will",
		Expected: "the will of a client with keep alive 2 s that sends nothing any more, once it is thrown out for that",
		Sections: proof.Same(
			"3.1",
			"3.1.2.5, 3.1.2.10",
		),
		Needs:    proof.Needs{Least: 2},
		Requires: append(wants, "keepalive.enforced"),
		Run:      willOnSilence,
	},
	{Name: "will.on-violation", Title: "a client that breaks the protocol leaves its will", Intrusive: true,
		Expected: "the will of a client whose link is closed for a packet of the forbidden type 0",
		Sections: proof.Same("3.1", "3.1.2.5"), Needs: proof.Needs{Least: 2}, Requires: wants, Run: willOnViolation},
	{Name: "will.on-request", Title: "DISCONNECT can ask for the will",
		Expected: "the will after DISCONNECT 0x04",
		Sections: proof.Sections{V5: "3.14.2.1"}, Needs: proof.Needs{Least: 2}, Requires: wants, Run: willOnRequest},
	{
		Name:      "will.on-takeover",
		Title:     "who is thrown out leaves its will",
		Intrusive: true,
		Expected:  "the will of a client whose identifier another takes over with a clean start",
		Sections: proof.Sections{
			V311: "3.1.2.5, 3.1.4",
			V5:   "3.1.2.5, 3.1.4",
		},
		Needs:    proof.Needs{Least: 3},
		Requires: append(wants, "connect.takeover"),
		Run:      willOnTakeover,
	},
	{
		Name:     "will.retained",
		Title:    "a will can be stored",
		Expected: "a will with will retain 1 greets a newcomer, with retain flag 1",
		Sections: proof.Same(
			"3.1",
			"3.1.2.7",
		),
		Needs:    proof.Needs{Least: 2, QoS: 1, Retained: true},
		Requires: append(wants, "retain.owner-gone"),
		Run:      willRetained,
	},
	{
		Name:     "will.qos",
		Title:    "a will has its QoS",
		Expected: "wills at QoS 0, 1 and 2 come at the lower of that and the QoS granted, to subscribers at QoS 0 and 2",
		Sections: proof.Same(
			"3.1",
			"3.1.2.6",
		),
		Needs:    proof.Needs{Least: 3},
		Requires: append(wants, "qos.pairings"),
		Run:      willQoS,
	},
	{
		Name:     "will.delay",
		Title:    "a will waits for its delay",
		Expected: "a will with delay 2 s not before, and within 10 s after; none of a client that resumes its session before",
		Sections: proof.Sections{
			V5: "3.1.3.2.2",
		},
		Needs:    proof.Needs{Least: 3, Sessions: true},
		Requires: append(wants, "session.kept"),
		Run:      willDelay,
	},
	{
		Name:     "will.session-end",
		Title:    "the end of the session ends the delay",
		Expected: "a will with delay 60 s when the session ends, 2 s after the link; within 10 s after that",
		Sections: proof.Sections{
			V5: "3.1.3.2.2",
		},
		Needs:    proof.Needs{Least: 2, Sessions: true},
		Requires: append(wants, "session.kept"),
		Run:      willSessionEnd,
	},
	{
		Name:     "will.properties",
		Title:    "a will keeps its properties",
		Expected: "content type, response topic, correlation data, payload format, message expiry and user properties of the will, as set",
		Sections: proof.Sections{V5: "3.1.3.2"},
		Needs:    proof.Needs{Least: 2},
		Requires: wants,
		Run:      willProperties,
	},
	{
		Name:     "will.presence",
		Title:    "coming, leaving and lost on one stored topic",
		Expected: "after each of coming, lost by a will, coming again and leaving, a newcomer is greeted by what the observer saw",
		Sections: proof.Same(
			"3.1",
			"3.1.2.7",
		),
		Needs:    proof.Needs{Least: 3, QoS: 1, Retained: true},
		Requires: append(wants, "retain.replaced", "will.retained", "will.not-on-goodbye"),
		Run:      willPresence,
	},
}

// plainWill is a will at QoS 1, where that is offered: at QoS 0 it may be lost.
func plainWill(p *proof.Pass, topic string, ps ...packet.Property) packet.Will {
	return packet.Will{Topic: topic, Payload: []byte(willText), QoS: p.Highest(1), Properties: ps}
}

// absent says that a will did not come to a watcher: at QoS 0 it may have been lost on its way, and a broker that does not
// answer at present says nothing about itself.
func absent(p *proof.Pass, watcher *proof.Client, format string, args ...any) error {
	if p.Highest(1) == 0 {
		return proof.Undecide("%s: at QoS 0 it may have been lost", fmt.Sprintf(format, args...))
	}
	p.Step("does the broker answer the watcher?")
	ctx, cancel := context.WithTimeout(p.Context(), arrivalTime)
	defer cancel()
	switch took, err := watcher.Ping(ctx); {
	case err != nil:
		return proof.Undecide(
			"%s; but the watcher's PINGREQ was not answered either: %v",
			fmt.Sprintf(format, args...),
			err,
		)
	case took > time.Second:
		return proof.Undecide("%s; but the broker took %s to answer PINGREQ", fmt.Sprintf(format, args...), short(took))
	}
	return proof.Break(format, args...)
}

// watchWill lets a watcher in that subscribes to the topics of wills.
func watchWill(p *proof.Pass, topics ...string) (*proof.Client, uint64, error) {
	watcher := p.Client("watcher")
	if _, err := p.Enter(watcher); err != nil {
		return nil, 0, err
	}
	from := p.Mark()
	for _, t := range topics {
		if _, err := p.Subscribe(watcher, t, p.Highest(1)); err != nil {
			return nil, 0, err
		}
	}
	return watcher, from, nil
}

// oneWill awaits a will, and wants no second.
func oneWill(p *proof.Pass, watcher *proof.Client, from uint64, topic, text, when string) (*trace.Event, error) {
	came := p.Await(watcher, from, willTime, func(e *trace.Event) bool { return isMessageOf(e, topic) })
	switch {
	case came == nil && !watcher.Connected():
		return nil, proof.Undecide("the watcher was lost: %v", watcher.Ended())
	case came == nil:
		return nil, absent(p, watcher, "no will within %s of %s", willTime, when)
	}
	p.Decide(came)
	if got := string(came.Publish().Payload); got != text {
		return nil, proof.Break("the will came as %.40q, after %s", got, when)
	}
	return came, nil
}

func isMessageOf(e *trace.Event, topic string) bool {
	return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == topic
}

func willOnSilence(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	p.Step("CONNECT with keep alive %d and a will, and then nothing", shortKeepAlive)
	link, err := p.Join("subject", func(c *packet.Connect) {
		w := plainWill(p, topic)
		c.KeepAlive, c.Will = shortKeepAlive, &w
	})
	if err != nil {
		return err
	}
	sent := p.Await(link, from, 0, isPacket(trace.Sent, packet.CONNECT))
	ack := p.Await(link, from, 0, isPacket(trace.Received, packet.CONNACK))
	seconds := ack.Packet.(*packet.Connack).Properties.IntOr(packet.ServerKeepAlive, shortKeepAlive)
	if seconds == 0 || seconds > longestKeepAlive {
		return proof.Unsupport(
			"the broker replaces the keep alive by %d s (server keep alive, 5.0 §3.2.2.3.14), which is longer than is waited for",
			seconds,
		)
	}
	ended := p.Ending(link, from, silenceOf(seconds))
	if ended == nil {
		return proof.Undecide("the client was not thrown out within %s (see keepalive.enforced)", silenceOf(seconds))
	}
	came := p.Await(watcher, from, willTime, func(e *trace.Event) bool { return isMessageOf(e, topic) })
	p.Decide(sent, ended, came)
	switch {
	case came == nil && !watcher.Connected():
		return proof.Undecide("the watcher was lost: %v", watcher.Ended())
	case came == nil:
		return absent(
			p,
			watcher,
			"no will within %s of the close for silence, %s after the last packet",
			willTime,
			short(ended.At.Sub(sent.At)),
		)
	}
	p.Saw("the will came %s after the last packet, with keep alive %d s", short(came.At.Sub(sent.At)), seconds)
	return nil
}

func willOnViolation(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	link, err := p.Join("subject", func(c *packet.Connect) { w := plainWill(p, topic); c.Will = &w })
	if err != nil {
		return err
	}
	p.Step("send a packet of the forbidden type 0")
	mark := p.Mark()
	if err := link.Write([]byte{0, 0}); err != nil {
		return err
	}
	p.Decide(p.Await(link, mark, 0, func(e *trace.Event) bool { return e.Kind == trace.Sent }))
	ended := p.Ending(link, mark, arrivalTime)
	if ended == nil {
		return proof.Undecide("the link was not closed on it (see error.malformed)")
	}
	p.Decide(ended)
	came, err := oneWill(p, watcher, from, topic, willText, "the close of a link for a packet of type 0")
	if err != nil {
		return err
	}
	p.Saw("the will came %s after the close", short(max(0, came.At.Sub(ended.At))))
	return nil
}

func willOnRequest(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	subject := p.Client("subject", proof.WithWill(plainWill(p, topic)))
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	p.Step("DISCONNECT 0x04, which asks for the will")
	if err := subject.Disconnect(packet.DisconnectWithWill); err != nil {
		return proof.Undecide("%v", err)
	}
	left := p.Await(subject, from, arrivalTime, isPacket(trace.Sent, packet.DISCONNECT))
	p.Decide(left)
	came, err := oneWill(p, watcher, from, topic, willText, "DISCONNECT 0x04")
	if err != nil {
		return err
	}
	p.Saw("the will came after %s", short(came.At.Sub(left.At)))
	return nil
}

func willOnTakeover(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	first := p.Client("first", proof.WithWill(plainWill(p, topic)))
	if _, err := p.Enter(first); err != nil {
		return err
	}
	p.Step("another client takes the identifier over, with a clean start")
	second := p.Client("second", proof.As(first))
	if _, err := p.Enter(second); err != nil {
		return err
	}
	p.Decide(p.Await(second, from, 0, isPacket(trace.Sent, packet.CONNECT)))
	if _, err := oneWill(p, watcher, from, topic, willText, "the takeover"); err != nil {
		return err
	}
	p.Saw("the will of the first came")
	return nil
}

func willRetained(p *proof.Pass) error {
	topic := p.Topic("will")
	p.Forget(topic)
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	subject := p.Client(
		"subject",
		proof.WithWill(packet.Will{Topic: topic, Payload: []byte(willText), QoS: 1, Retain: true}),
	)
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	p.Step("a client is cut that left a will with will retain 1")
	subject.Cut()
	if _, err := oneWill(p, watcher, from, topic, willText, "the cut"); err != nil {
		return err
	}
	got, err := greeted(p, "newcomer", exact(topic), topic)
	if err != nil {
		return err
	}
	if err := exactly(p, got, willText, "a newcomer, after a will with will retain 1"); err != nil {
		return err
	}
	if !got[0].Publish().Retain {
		return proof.Break("the stored will greeted a newcomer with retain flag 0")
	}
	p.Saw("the will greeted a newcomer with retain flag 1")
	return nil
}

func willQoS(p *proof.Pass) error {
	low, high := p.Client("subscriber-0"), p.Client("subscriber-2")
	if err := p.ConnectAll(low, high); err != nil {
		return err
	}
	less := ""
	var tries [3]int
	var reached [3]map[*proof.Client]bool // by QoS: whom a will reached in some try
	for q := packet.QoS(0); q < 3; {
		if reached[q] == nil {
			reached[q] = map[*proof.Client]bool{}
		}
		topic := p.Topic("will", fmt.Sprint("qos", q))
		from := p.Mark()
		if _, err := p.Subscribe(low, topic, 0); err != nil {
			return err
		}
		granted, err := p.Subscribe(high, topic, 2)
		if err != nil {
			return err
		}
		tries[q]++
		subject := p.Client(
			fmt.Sprintf("subject-%d-%d", q, tries[q]),
			proof.WithWill(packet.Will{Topic: topic, Payload: []byte(willText), QoS: q}),
		)
		p.Step("a client is cut that left a will at QoS %d", q)
		if _, err := p.Try(subject); err != nil && q > 0 {
			less = fmt.Sprintf("a will at QoS %d is not taken: %v", q, err)
			q++
			continue
		} else if err != nil {
			return proof.Undecide("the %s could not connect: %v", subject.Name, err)
		}
		subject.Cut()
		lost := false
		for _, w := range []struct {
			*proof.Client
			granted packet.QoS
		}{{low, 0}, {high, granted}} {
			came := p.Await(w.Client, from, willTime, func(e *trace.Event) bool { return isMessageOf(e, topic) })
			p.Decide(came)
			switch want := min(q, w.granted); {
			case came == nil && !w.Connected():
				return proof.Undecide("the %s was lost: %v", w.Name, w.Ended())
			case came == nil && want == 0 && reached[q][w.Client]: // in an earlier try
			case came == nil && want == 0 && tries[q] < qos0Tries:
				p.Note("a will to a subscriber at QoS 0 did not come, and may have been lost; tried again")
				lost = true
			case came == nil && want == 0:
				return proof.Undecide(
					"no will at QoS %d within %s, to a subscriber at QoS %d: at QoS 0 it may have been lost",
					q,
					willTime,
					w.granted,
				)
			case came == nil:
				return proof.Break("no will at QoS %d within %s, to a subscriber at QoS %d", q, willTime, w.granted)
			case came.Publish().QoS != want:
				return proof.Break(
					"a will at QoS %d came at QoS %d to a subscriber at QoS %d",
					q,
					came.Publish().QoS,
					w.granted,
				)
			}
			if came != nil {
				reached[q][w.Client] = true
			}
		}
		if !lost {
			q++
		}
	}
	if _, err := p.Quiet(low, high); err != nil {
		return err
	}
	for q := range packet.QoS(3) {
		topic := p.Topic("will", fmt.Sprint("qos", q))
		if n := len(p.Arrivals(high, 1, topic, willText)); n > max(1, tries[q]) {
			return proof.Break("the will at QoS %d came %d times", q, n)
		}
	}
	if less != "" {
		return proof.Unsupport("%s", less)
	}
	p.Saw("wills at QoS 0, 1 and 2 came at the lower QoS, once")
	return nil
}
