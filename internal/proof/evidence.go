package proof

import (
	"bytes"
	"context"
	"fmt"
	"iter"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// Mark returns the place in the evidence from which a later search begins.
func (p *Pass) Mark() uint64 { return p.log.Next() }

// Await waits for an event of an actor, from the mark on; nil when none comes in time.
func (p *Pass) Await(of Actor, from uint64, within time.Duration, fits func(*trace.Event) bool) *trace.Event {
	ctx, cancel := context.WithTimeout(p.ctx, within)
	defer cancel()
	for {
		events, _ := p.log.Read(from, evidenceLimit)
		for i := range events {
			if e := &events[i]; e.Client == of.Lane() && fits(e) {
				return e
			}
		}
		from += uint64(len(events))
		if p.log.Wait(ctx, from) != nil {
			return nil
		}
	}
}

// AwaitMessage waits for a message to the peer with the topic and payload.
func (p *Pass) AwaitMessage(peer Actor, from uint64, topic, text string) *trace.Event {
	return p.Await(peer, from, arrival, func(e *trace.Event) bool { return isMessage(e, topic, text) })
}

func isMessage(e *trace.Event, topic, text string) bool {
	m := e.Publish()
	return e.Kind == trace.Received && m != nil && e.Topic() == topic && string(m.Payload) == text
}

// Instead says what the peer got since the mark in place of a message: the same payload under another topic, or
// another payload under its topic, else that nothing came. What the check published itself is no changed form of another.
func (p *Pass) Instead(peer *Client, from uint64, topic, text string) string {
	for _, e := range p.Messages(peer, from) {
		m := e.Publish()
		switch {
		case string(m.Payload) == text && e.Topic() != topic && p.sent(e.Topic(), m.Payload) == nil:
			p.Decide(e)
			return fmt.Sprintf("it came under the topic %q in place of %q", e.Topic(), topic)
		case e.Topic() == topic && string(m.Payload) != text && likely(string(m.Payload), text) && p.sent(topic, m.Payload) == nil:
			p.Decide(e)
			return fmt.Sprintf(
				"it came with %d bytes, %s, in place of %d",
				len(m.Payload),
				shown(string(m.Payload)),
				len(text),
			)
		}
	}
	p.Decide(p.sent(topic, []byte(text))) // which is all that there is to see
	if !peer.Connected() {
		return fmt.Sprintf("nothing came: the %s was lost, %v", peer.Name, peer.Ended())
	}
	return fmt.Sprintf("nothing came within %s", arrival)
}

// sent is the PUBLISH by which the check published a message last; nil for none.
func (p *Pass) sent(topic string, payload []byte) *trace.Event {
	events, _ := p.log.Read(1, evidenceLimit)
	for i := range slices.Backward(events) {
		e := &events[i]
		if m := e.Publish(); m != nil && e.Kind == trace.Sent && e.Topic() == topic && bytes.Equal(m.Payload, payload) {
			return e
		}
	}
	return nil
}

// likely tells whether a payload is a changed form of another rather than another message.
func likely(got, want string) bool {
	n := min(len(got), len(want), 8)
	return n > 0 && got[:n] == want[:n]
}

func shown(s string) string {
	if len(s) > 24 {
		return fmt.Sprintf("%.20q…", s)
	}
	return fmt.Sprintf("%q", s)
}

// Messages returns the PUBLISH packets that the peer has received since the mark.
func (p *Pass) Messages(peer Actor, from uint64) (out []*trace.Event) {
	events, _ := p.log.Read(from, evidenceLimit)
	for i := range events {
		if e := &events[i]; e.Client == peer.Lane() && e.Kind == trace.Received && e.Publish() != nil {
			out = append(out, e)
		}
	}
	return out
}

// Arrivals returns, of the messages with the topic and payload that the peer has received since the mark, those
// that are none of the resends that the standard allows. An identifier is free again after our PUBACK or
// PUBCOMP: what comes under it afterwards is a new message, DUP or not (§4.3). Until then the same identifier
// with DUP is a resend: in 3.1 and 3.1.1 at any time, in 5 only on another connection (5.0 §4.4).
func (p *Pass) Arrivals(peer *Client, from uint64, topic, text string) (out []*trace.Event) {
	type open struct {
		conn        int
		topic, text string
	}
	under := map[uint16]open{}
	events, _ := p.log.Read(1, evidenceLimit)
	for i := range events {
		e := &events[i]
		if e.Client != peer.Name {
			continue
		}
		switch k := e.Packet.(type) {
		case *packet.Publish:
			if e.Kind != trace.Received {
				continue
			}
			was, pending := under[k.ID]
			again := k.QoS > 0 && k.Dup && pending && was.topic == e.Topic() && was.text == string(k.Payload) &&
				(p.Version != packet.V5 || was.conn != e.Conn)
			if k.QoS > 0 {
				under[k.ID] = open{e.Conn, e.Topic(), string(k.Payload)}
			}
			if !again && e.Seq >= from && isMessage(e, topic, text) {
				out = append(out, e)
			}
		case *packet.Puback:
			if e.Kind == trace.Sent {
				delete(under, k.ID)
			}
		case *packet.Pubcomp:
			if e.Kind == trace.Sent {
				delete(under, k.ID)
			}
		}
	}
	return out
}

// Unreleased returns the first PUBLISH at QoS 2 that the peer has received since the mark and acknowledged by
// PUBREC, and that was not followed by PUBREL in time; nil where there is none (§4.3.3).
func (p *Pass) Unreleased(peer *Client, from uint64) *trace.Event {
	for _, e := range p.Messages(peer, from) {
		m := e.Publish()
		if m.QoS != 2 {
			continue
		}
		rel := p.Await(peer, e.Seq, arrival, func(x *trace.Event) bool {
			r, is := x.Packet.(*packet.Pubrel)
			return is && x.Kind == trace.Received && r.ID == m.ID
		})
		if rel == nil {
			return e
		}
	}
	return nil
}

// Received goes through the packets that an actor has received since the mark, sound or not.
func (p *Pass) Received(of Actor, from uint64) iter.Seq[*trace.Event] {
	return func(yield func(*trace.Event) bool) {
		events, _ := p.log.Read(from, evidenceLimit)
		for i := range events {
			if e := &events[i]; e.Client == of.Lane() && e.Kind == trace.Received && e.Packet != nil && !yield(e) {
				return
			}
		}
	}
}
