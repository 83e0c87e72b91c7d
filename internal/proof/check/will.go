package check

import (
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var will = []*proof.Check{
	{
		Name:     "will.on-cut",
		Title:    "a reset link brings the will",
		Expected: "the will after the reset, once: topic, payload, QoS and retain flag as set, for a will at QoS 0 and one at QoS 1",
		Sections: proof.Same("3.1", "3.1.2.5"),
		Needs:    proof.Needs{Least: 4},
		Run:      func(p *proof.Pass) error { return willComes(p, "reset the link", cut) },
	},
	{
		Name:     "will.on-close",
		Title:    "a link closed without DISCONNECT brings the will",
		Expected: "the will after the close, once: topic, payload, QoS and retain flag as set, for a will at QoS 0 and one at QoS 1",
		Sections: proof.Same("3.1", "3.1.2.5"),
		Needs:    proof.Needs{Least: 4},
		Run:      func(p *proof.Pass) error { return willComes(p, "close the link without DISCONNECT", hangUp) },
	},
	{
		Name:     "will.not-on-goodbye",
		Title:    "a proper DISCONNECT removes the will",
		Expected: "no will after DISCONNECT, and none when the client later returns without one and is cut; watched until the run ends",
		Sections: proof.Same("3.14", "3.14.4"),
		Needs:    proof.Needs{Least: 2},
		Run:      willNotOnGoodbye,
	},
}

func cut(peer *proof.Client) error    { return peer.Cut() }
func hangUp(peer *proof.Client) error { return peer.Close() }

const (
	willText = "gone"
	// willTime is how long a will is awaited: the standard sets no time, but a broker that sees the link end has
	// no reason to wait. willSoon is what is worth no note.
	willTime = 10 * time.Second
	willSoon = 5 * time.Second
)

func willComes(p *proof.Pass, what string, end func(*proof.Client) error) error {
	watcher := p.Client("watcher")
	if _, err := p.Enter(watcher); err != nil {
		return err
	}
	// Another looks at all topics of the check, to say what came in place of the will.
	around := p.Client("around")
	if _, err := p.Enter(around); err != nil {
		return err
	}
	from := p.Mark()
	if _, err := p.Subscribe(around, p.Topic("#"), 0); err != nil {
		p.Note("%v", err)
	}
	slowest, granted := time.Duration(0), packet.QoS(1)
	topics := [2]string{p.Topic("will", "qos0"), p.Topic("will", "qos1")}
	for _, t := range topics {
		var err error
		if granted, err = p.Subscribe(watcher, t, 1); err != nil {
			return err
		}
	}
	texts := [2]string{willText, p.Long(willText)}
	var tries [2]int
	for q := range packet.QoS(2) {
		var gone, came *trace.Event
		for came == nil {
			name, within := fmt.Sprintf("subject-%d", q), willTime
			if tries[q]++; tries[q] > 1 {
				within = arrivalTime
				name = fmt.Sprintf("%s-%d", name, tries[q])
				p.Note("a will at QoS 0 did not come, and may have been lost; tried again")
			}
			p.Step("CONNECT with a will at QoS %d", q)
			will := packet.Will{Topic: topics[q], Payload: []byte(texts[q]), QoS: q}
			subject := p.Client(name, proof.WithWill(will))
			if _, err := p.Try(subject); err != nil {
				if q > 0 {
					p.Note("a will at QoS %d is not taken: %v; not tried", q, err)
					break
				}
				return proof.Undecide("the %s could not connect: %v", subject.Name, err)
			}
			p.Step("%s of a client that left a will at QoS %d", what, q)
			ending := p.Mark()
			if err := end(subject); err != nil {
				return proof.Undecide("%v", err)
			}
			gone = p.Gone(subject, ending, arrivalTime)
			came = p.Await(watcher, from, within, func(e *trace.Event) bool { return isWill(e, topics[q], texts[q]) })
			if came != nil {
				break
			}
			if instead := insteadOfWill(p, around, from, topics[q], texts[q]); q > 0 || tries[q] == qos0Tries ||
				!strings.HasPrefix(instead, "nothing") {
				p.Decide(p.Await(subject, 1, 0, isPacket(trace.Sent, packet.CONNECT)), gone)
				return proof.Break("a will at QoS %d: %s", q, instead)
			}
		}
		if came == nil {
			continue
		}
		p.Decide(gone, came)
		switch m := came.Publish(); {
		case m.QoS != min(q, granted):
			return proof.Break("the will came at QoS %d, not %d", m.QoS, min(q, granted))
		case m.Retain:
			return proof.Break("the will came with retain flag 1 although will retain was 0")
		}
		slowest = max(slowest, came.At.Sub(gone.At))
	}
	waited, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	for q := range topics {
		if copies := p.Arrivals(watcher, from, topics[q], texts[q]); len(copies) > max(1, tries[q]) {
			p.Decide(copies...)
			return proof.Break("the will came %d times", len(copies))
		}
	}
	if err := notStored(p, topics[:]); err != nil {
		return err
	}
	if slowest > willSoon {
		p.Note("the will took %s", short(slowest))
	}
	p.Saw("the will came after %s at most, once in %s", short(slowest), short(waited))
	return nil
}

// notStored sees that a will without will retain does not greet a newcomer (§3.1.2.7).
func notStored(p *proof.Pass, topics []string) error {
	from := p.Mark()
	newcomer := p.Client("newcomer")
	if _, err := p.Enter(newcomer); err != nil {
		return err
	}
	p.Step("a newcomer must not be greeted by it")
	for _, t := range topics {
		if _, err := p.Subscribe(newcomer, t, 1); err != nil {
			return err
		}
	}
	if _, err := p.Quiet(newcomer); err != nil {
		return err
	}
	if got := p.Messages(newcomer, from); len(got) > 0 {
		p.Decide(got...)
		p.Forget(topics...)
		return proof.Break("the will was stored although will retain was 0, and greets a newcomer")
	}
	return nil
}

func isWill(e *trace.Event, topic, text string) bool {
	return e.Kind == trace.Received && e.Publish() != nil && e.Topic() == topic && string(e.Publish().Payload) == text
}

// insteadOfWill says what came in place of a will.
func insteadOfWill(p *proof.Pass, around *proof.Client, from uint64, topic, text string) string {
	for _, e := range p.Messages(around, from) {
		if e.Topic() == topic && string(e.Publish().Payload) == text {
			continue // it was published: on the way to the other one it may have been lost
		}
		if string(e.Publish().Payload) == text && strings.EqualFold(e.Topic(), topic) {
			p.Decide(e)
			return fmt.Sprintf("it came under the topic %q in place of %q", e.Topic(), topic)
		}
		if e.Topic() == topic {
			p.Decide(e)
			return fmt.Sprintf("it came with %d bytes in place of %d", len(e.Publish().Payload), len(text))
		}
	}
	return fmt.Sprintf("nothing came within %s", willTime)
}

// willControl sees that wills come at all: where none does, that none came after DISCONNECT tells nothing.
func willControl(p *proof.Pass) error {
	topic := p.Topic("control")
	watcher := p.Client("control-watcher")
	if _, err := p.Enter(watcher); err != nil {
		return err
	}
	defer watcher.Disconnect(0)
	from := p.Mark()
	if _, err := p.Subscribe(watcher, topic, 1); err != nil {
		return err
	}
	for try := 1; try <= qos0Tries; try++ { // at QoS 0 it may be lost
		p.Step("a client with a will is cut, as a control")
		subject := p.Client(
			fmt.Sprintf("control-%d", try),
			proof.WithWill(packet.Will{Topic: topic, Payload: []byte(willText), QoS: 0}),
		)
		if _, err := p.Enter(subject); err != nil {
			return err
		}
		subject.Cut()
		if p.Await(watcher, from, willTime, isPacket(trace.Received, packet.PUBLISH)) != nil {
			p.Forget(topic)
			return nil
		}
	}
	return proof.Undecide("no will comes even after a cut (see will.on-cut)")
}

func willNotOnGoodbye(p *proof.Pass) error {
	topic := p.Topic("will")
	if err := willControl(p); err != nil {
		return err
	}
	p.Step("CONNECT with a will")
	subject := p.Client("subject", proof.WithWill(packet.Will{Topic: topic, Payload: []byte(willText), QoS: 0}))
	watcher := p.Client("watcher")
	if err := p.ConnectAll(subject, watcher); err != nil {
		return err
	}
	if _, err := p.Subscribe(watcher, topic, 1); err != nil {
		return err
	}
	from := p.Mark()
	isIt := func(e *trace.Event) bool { return isWill(e, topic, willText) }
	p.Step("DISCONNECT of a client that left a will")
	p.Watch(watcher, from, "the will came although the client said goodbye", isIt)
	if err := subject.Disconnect(0); err != nil {
		return proof.Undecide("%v", err)
	}
	p.Decide(p.Await(subject, from, 0, isPacket(trace.Sent, packet.DISCONNECT)))
	waited, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	if err := p.Seen(); err != nil {
		return err
	}
	p.Step("the client returns without a will and is cut")
	again := p.Client("subject-again", proof.As(subject))
	if _, err := p.Enter(again); err != nil {
		return err
	}
	again.Cut()
	more, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	if err := p.Seen(); err != nil {
		return err
	}
	p.Saw("nothing came in %s", short(waited+more))
	return nil
}
