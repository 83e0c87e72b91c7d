package proof

import (
	"fmt"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

var willChecks = []*Check{
	{Name: "will.on-cut", Title: "a reset link brings the will",
		Expected:   "the will within 5 s of the reset: topic, payload and QoS as set",
		Section311: "3.1.2.5", Section5: "3.1.2.5", Run: func(p *Pass) error { return willComes(p, "reset the link", (*Peer).cut) }},
	{Name: "will.on-close", Title: "a link closed without DISCONNECT brings the will",
		Expected:   "the will within 5 s of the close: topic, payload and QoS as set",
		Section311: "3.1.2.5", Section5: "3.1.2.5", Run: func(p *Pass) error { return willComes(p, "close the link without DISCONNECT", (*Peer).hangUp) }},
	{Name: "will.not-on-goodbye", Title: "a proper DISCONNECT removes the will",
		Expected:   "no will after DISCONNECT, and none when the client later returns without one and is cut",
		Section311: "3.14.4", Section5: "3.14.4", Run: willNotOnGoodbye},
}

func (peer *Peer) cut() error    { return peer.Cut() }
func (peer *Peer) hangUp() error { return peer.Close() }

const willText = "gone"

func (p *Pass) willPeers() (subject, watcher *Peer, topic string, err error) {
	topic = p.Topic("will")
	subject = p.Peer("subject", WithWill(packet.Will{Topic: topic, Payload: []byte(willText), QoS: 1}))
	watcher = p.Peer("watcher")
	if err = p.ConnectAll(subject, watcher); err != nil {
		return
	}
	_, err = p.Subscribe(watcher, topic, 1)
	return
}

func willComes(p *Pass, what string, end func(*Peer) error) error {
	subject, watcher, topic, err := p.willPeers()
	if err != nil {
		return err
	}
	from := p.Mark()
	p.Step("%s of a client that left a will at QoS 1", what)
	if err := end(subject); err != nil {
		return Undecide("%v", err)
	}
	gone := p.Await(subject, from, 0, func(e *trace.Event) bool { return e.Kind == trace.Link })
	came := p.Await(watcher, from, arrival, func(e *trace.Event) bool { return e.Kind == trace.Received && e.Publish() != nil })
	if came == nil {
		return Break("no will within 5 s")
	}
	m := came.Publish()
	switch {
	case m.Topic != topic || string(m.Payload) != willText:
		return Break("a will came as %s with %q", m.Topic, fmt.Sprintf("%.40s", m.Payload))
	case m.QoS != 1:
		return Break("the will came at QoS %d, not 1", m.QoS)
	case m.Retain:
		return Break("the will came with retain flag 1 although will retain was 0")
	}
	p.Saw("the will came after %s", short(came.At.Sub(gone.At)))
	return nil
}

func willNotOnGoodbye(p *Pass) error {
	subject, watcher, _, err := p.willPeers()
	if err != nil {
		return err
	}
	from := p.Mark()
	p.Step("DISCONNECT of a client that left a will")
	if err := subject.Disconnect(0); err != nil {
		return Undecide("%v", err)
	}
	waited, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	if got := p.Messages(watcher, from); len(got) > 0 {
		return Break("the will came although the client said goodbye")
	}
	p.Step("the client returns without a will and is cut")
	again := p.Peer("subject-again", As(subject))
	if _, err := p.Enter(again); err != nil {
		return err
	}
	again.Cut()
	more, err := p.Quiet(watcher)
	if err != nil {
		return err
	}
	if got := p.Messages(watcher, from); len(got) > 0 {
		return Break("the old will came when the client returned without one and was cut")
	}
	p.Saw("nothing came in %s", short(waited+more))
	return nil
}
