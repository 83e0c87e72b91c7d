package check

import (
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// What checks share whose sign is that the broker ends a link.

// rejects wants the broker to end a link on what was sent: a refusing CONNACK or, in version 5, DISCONNECT may come
// first, and nothing else (3.1.1 §4.8, 5.0 §4.13). It returns the refusal, nil where there was none.
func rejects(p *proof.Pass, of proof.Actor, from uint64, within time.Duration, what string) (*trace.Event, error) {
	sent := p.Await(of, from, 0, func(e *trace.Event) bool { return e.Kind == trace.Sent })
	p.Decide(sent)
	rejected(p, of, from, within)
	ended := p.Ending(of, from, 0)
	var told *trace.Event
	for e := range p.Received(of, from) {
		p.Decide(e)
		ack, acked := e.Packet.(*packet.Connack)
		switch {
		case acked && ack.Code == 0:
			return nil, proof.Break("CONNACK 0 came after %s", what)
		case !refuses(e):
			return nil, proof.Break("%s came after %s", e.Packet.Type(), what)
		case e.Packet.Type() != packet.PINGRESP:
			told = e
		}
	}
	if ended == nil {
		if sent != nil {
			within = time.Since(sent.At).Round(time.Second)
		}
		return nil, proof.Break("the link was still open %s after %s", within, what)
	}
	p.Decide(ended)
	if e := p.Await(of, from, 0, unreadable); e != nil {
		p.Decide(e)
		bytes := e.Raw
		if link, is := of.(*proof.Raw); is {
			bytes = link.Unread()
		}
		switch answer := answers(bytes); {
		case answer != 0:
			return nil, proof.Break("%s came after %s, as MQTT %s does not have it", answer, what, p.Version)
		case len(bytes) == 0 || bytes[0] != byte(packet.CONNACK)<<4: // a CONNACK of another version may refuse
			p.Note("something that is no packet of MQTT %s came after %s, before the link was closed", p.Version, what)
		}
	}
	return told, nil
}

// closes is [rejects] for a link of its own, beside a client that does nothing wrong; see [stays].
func closes(p *proof.Pass, of proof.Actor, from uint64, within time.Duration, what string) (*trace.Event, error) {
	begun := time.Now()
	told, err := rejects(p, of, from, within, what)
	if err != nil {
		return nil, err
	}
	return told, stays(p, time.Since(begun))
}

// stays holds a client in that does nothing wrong for as long as a link lived that was closed for what it did: a broker
// that ends every link keeps no rule by that.
func stays(p *proof.Pass, lived time.Duration) error {
	control := p.Client("control")
	if _, err := p.Enter(control); err != nil {
		return err
	}
	p.Step("a client that does nothing wrong, as a control")
	p.Wait(min(lived, arrivalTime))
	if err := p.Ping(control); err != nil {
		return proof.Undecide("a client that does nothing wrong is not served either: %v", err)
	}
	return nil
}

// rejected waits for the link to end, or for a packet after which it need not, and returns nil where neither came.
func rejected(p *proof.Pass, of proof.Actor, from uint64, within time.Duration) *trace.Event {
	return p.Await(of, from, within, func(e *trace.Event) bool {
		return e.Kind == trace.Received && e.Packet != nil && !refuses(e) ||
			e.Kind == trace.Link && e.Link == client.LinkEnded
	})
}

// unreadable tells whether what came is no packet of the version.
func unreadable(e *trace.Event) bool { return e.Kind == trace.Received && e.Packet == nil }

// answers tells which acknowledgement bytes are that are no packet of the version, such as a CONNACK 0 of another one, or
// SUBACK under packet identifier 0; 0 for none.
func answers(b []byte) packet.Type {
	if len(b) < 2 || b[0]&0x0F != 0 { // what speaks HTTP has an H there
		return 0
	}
	switch t := packet.Type(b[0] >> 4); t {
	case packet.CONNACK:
		if len(b) > 3 && b[3] == 0 {
			return t
		}
	case packet.PUBACK, packet.PUBREC, packet.PUBCOMP, packet.SUBACK, packet.UNSUBACK, packet.PINGRESP:
		return t
	}
	return 0
}

// refuses tells whether a packet may come before the link is closed: a refusing CONNACK, DISCONNECT, or PINGRESP to a
// PINGREQ of before.
func refuses(e *trace.Event) bool {
	ack, acked := e.Packet.(*packet.Connack)
	return acked && ack.Code != 0 || e.Packet.Type() == packet.DISCONNECT || e.Packet.Type() == packet.PINGRESP
}
