package fault

import (
	"bytes"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// one makes a fault that one check finds.
func one(name, sentence, check string, versions []packet.Version, d standin.Decisions) standin.Fault {
	return standin.Fault{Name: name, Sentence: sentence, Breaks: []string{check}, Versions: versions, Decisions: d}
}

// flows are the faults of flows that a cut breaks.
func flows() []standin.Fault {
	arrived := func(decide func(a *standin.Arrival)) standin.Decisions { return standin.Decisions{Arrived: decide} }
	resend := func(decide func(p *packet.Publish, again packet.Packet) packet.Packet) standin.Decisions {
		return standin.Decisions{Resend: decide}
	}
	released := func(decide func(r *standin.Release)) standin.Decisions { return standin.Decisions{Release: decide} }
	return []standin.Fault{
		one("qos.granted-lies", "SUBACK of several filters grants QoS 0 for those at QoS 1, which get QoS 1 all the same.", "qos.granted", nil,
			standin.Decisions{Codes: granted(1, 0)}),
		one("qos.granted-more", "SUBACK of several filters grants QoS 1 for those at QoS 0.", "qos.granted", nil,
			standin.Decisions{Codes: granted(0, 1)}),
		one("qos1.no-resend", "What was not acknowledged at QoS 1 is not sent again when a session is resumed.", "qos1.resend", nil,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if p.QoS == 1 {
					return nil
				}
				return again
			})),
		one("qos1.no-dup", "What is sent again at QoS 1 when a session is resumed has no DUP.", "qos1.resend", told,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if p.QoS == 1 {
					return p
				}
				return again
			})),
		one("qos1.new-id", "What is sent again at QoS 1 when a session is resumed has another packet identifier.", "qos1.resend", nil,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if m, is := again.(*packet.Publish); is && p.QoS == 1 {
					m.ID += 1000
				}
				return again
			})),
		one("qos1.resend-shuffled", "What was not acknowledged is sent again in the wrong order.", "qos1.resend", nil,
			standin.Decisions{Backwards: true}),
		{Name: "qos1.dup-dropped", Sentence: "A PUBLISH at QoS 1 with DUP is not passed on.",
			Breaks:    []string{"qos1.ack-after-cut", "qos1.id-reuse"},
			Undecides: []string{"qos.dup-not-passed"},
			Decisions: arrived(func(a *standin.Arrival) { a.Pass = a.Pass && !(a.Message.QoS == 1 && a.Message.Dup) })},
		one("qos1.resend-unacknowledged", "A PUBLISH at QoS 1 with DUP gets no PUBACK where a session goes on.", "qos1.ack-after-cut", nil,
			arrived(func(a *standin.Arrival) { a.Answer = a.Answer && !(a.Resumed && a.Message.QoS == 1 && a.Message.Dup) })),
		one("qos1.id-swallowed", "A PUBLISH at QoS 1 under the packet identifier of the one before is not passed on if it has DUP.",
			"qos1.id-reuse", nil, arrived(swallowed())),
		one("qos1.id-unacknowledged", "A PUBLISH at QoS 1 under the packet identifier of the one before gets no PUBACK.",
			"qos1.id-reuse", nil, arrived(unacknowledged())),
		one("qos2.forgets-id", "PUBREL for a message of an earlier connection gets PUBCOMP 0x92.", "qos2.release-resumed", five,
			released(func(r *standin.Release) {
				if r.Earlier {
					r.Code = packet.PacketIDNotFound
				}
			})),
		one("qos2.release-unanswered", "PUBREL for a message of an earlier connection gets no PUBCOMP.", "qos2.release-resumed", nil,
			released(func(r *standin.Release) { r.Answer = r.Answer && !r.Earlier })),
		one("qos2.release-twice", "PUBREL for a message of an earlier connection passes it on again.", "qos2.release-resumed", nil, releasedTwice()),
		one("qos2.replays", "What was released is sent as PUBLISH again when a session is resumed.", "qos2.inbound-resumed", nil,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if again.Type() == packet.PUBREL {
					m := *p
					m.Dup = true
					return &m
				}
				return again
			})),
		one("qos2.unreleased-resumed", "What was released gets no PUBREL when a session is resumed.", "qos2.inbound-resumed", nil,
			resend(func(_ *packet.Publish, again packet.Packet) packet.Packet {
				if again.Type() == packet.PUBREL {
					return nil
				}
				return again
			})),
		one("qos2.no-resend", "What was not recorded at QoS 2 is not sent again when a session is resumed.", "qos2.inbound-resumed", nil,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if p.QoS == 2 && again.Type() == packet.PUBLISH {
					return nil
				}
				return again
			})),
		one("qos2.no-dup", "What is sent again at QoS 2 when a session is resumed has no DUP.", "qos2.inbound-resumed", told,
			resend(func(p *packet.Publish, again packet.Packet) packet.Packet {
				if p.QoS == 2 && again.Type() == packet.PUBLISH {
					return p
				}
				return again
			})),
		one("dup.copied", "DUP goes out as it came from the publisher.", "qos.dup-not-passed", nil,
			standin.Decisions{Deliver: func(d *standin.Delivery) { d.Dup = d.Dup || live(d) && d.Published.Dup && d.QoS > 0 }}),
	}
}

// granted changes one code to another in the SUBACK of several filters, but of no more than ten.
func granted(is, as packet.ReasonCode) func([]packet.Subscription, []packet.ReasonCode) []packet.ReasonCode {
	return func(_ []packet.Subscription, codes []packet.ReasonCode) []packet.ReasonCode {
		if len(codes) == 1 || len(codes) > 10 {
			return codes
		}
		var out []packet.ReasonCode
		for _, c := range codes {
			if c == is {
				c = as
			}
			out = append(out, c)
		}
		return out
	}
}

// repeated tells of PUBLISH at QoS 1 under the packet identifier of the one before on the topic.
func repeated() func(a *standin.Arrival) bool {
	last := map[string]uint16{}
	return func(a *standin.Arrival) bool {
		m, key := a.Message, a.ClientID+" "+a.Message.Topic
		again := m.QoS == 1 && last[key] == m.ID
		last[key] = m.ID
		return again
	}
}

func swallowed() func(*standin.Arrival) {
	again := repeated()
	return func(a *standin.Arrival) {
		if again(a) && a.Message.Dup && !a.Resumed {
			a.Pass = false
		}
	}
}

func unacknowledged() func(*standin.Arrival) {
	again := repeated()
	return func(a *standin.Arrival) {
		if again(a) && !a.Resumed {
			a.Answer = false
		}
	}
}

// releasedTwice remembers what comes at QoS 2, and passes it on again.
func releasedTwice() standin.Decisions {
	type key struct {
		client string
		id     uint16
	}
	under := map[key]*packet.Publish{}
	return standin.Decisions{
		Arrived: func(a *standin.Arrival) {
			if a.Message.QoS == 2 {
				under[key{a.ClientID, a.Message.ID}] = a.Message
			}
		},
		Release: func(r *standin.Release) {
			if r.Earlier {
				r.Pass = under[key{r.ClientID, r.ID}]
			}
		},
	}
}

// streams are the faults of order, of many receivers, and of payloads.
func streams() []standin.Fault {
	payload := func(name, sentence string, change func(b []byte) []byte) standin.Fault {
		return one(name, sentence, "qos.payload-exact", nil, standin.Decisions{Deliver: func(d *standin.Delivery) { d.Payload = change(d.Payload) }})
	}
	flow := func(name, sentence string, change func(most int) int) standin.Fault {
		return one(name, sentence, "qos.flow-control", five, standin.Decisions{ReceiveMaximum: change})
	}
	out := []standin.Fault{
		payload("payload.truncated", "A payload of more than 32 KiB loses its end.", func(b []byte) []byte { return b[:min(len(b), 32<<10)] }),
		payload("payload.nul-cut", "A payload ends at its first NUL.", func(b []byte) []byte {
			if i := bytes.IndexByte(b, 0); i > 0 {
				return b[:i]
			}
			return b
		}),
		payload("payload.as-text", "What is no UTF-8 in a payload is replaced.", func(b []byte) []byte {
			if len(b) > 100 {
				return b
			}
			return bytes.ToValidUTF8(b, []byte("\uFFFD"))
		}),
		payload("payload.trimmed", "Spaces at the ends of a payload of several lines are cut off.", func(b []byte) []byte {
			if len(b) > 100 || !bytes.Contains(b, []byte("\n")) {
				return b
			}
			return bytes.TrimSpace(b)
		}),
		one("payload.empty-lost", "A message without payload is not passed on.", "qos.payload-exact", nil,
			standin.Decisions{Deliver: func(d *standin.Delivery) {
				if live(d) && len(d.Payload) == 0 && !strings.Contains(d.Topic, "unretained") {
					d.Times = 0
				}
			}}),
		one("fanout.misses-one", "Of more than six receivers, the seventh and those behind it get nothing.", "qos.fan-out", nil,
			standin.Decisions{Deliver: func(d *standin.Delivery) {
				if live(d) && d.Place >= 6 {
					d.Times = 0
				}
			}}),
		one("fanout.one-twice", "Of more than six receivers, the seventh and those behind it get messages at QoS 2 twice.", "qos.fan-out", nil,
			standin.Decisions{Deliver: func(d *standin.Delivery) {
				if live(d) && d.Place >= 6 && d.QoS == 2 {
					d.Times = 2
				}
			}}),
		one("fanout.leaks", "A message goes to those too whose filter goes on with a hyphen behind the topic's name.", "qos.fan-out", nil,
			standin.Decisions{Match: func(filter, name string, matches bool) bool {
				rest, longer := strings.CutPrefix(filter, name)
				return matches || longer && strings.HasPrefix(rest, "-") && !strings.ContainsAny(rest, "/+#")
			}}),
		flow("flow.ignores-maximum", "The client's receive maximum is not heeded.", func(int) int { return 1000 }),
		flow("flow.one-more", "One message more than the client's receive maximum is under way, where it is 1.", func(most int) int {
			if most == 1 {
				return 2
			}
			return most
		}),
	}
	for q := range packet.QoS(3) {
		out = append(out, one("order.shuffled-"+string('0'+rune(q)), "The 60th message of a session is overtaken by the next one, at QoS "+string('0'+rune(q))+".",
			"qos.order", nil, standin.Decisions{Deliver: func(d *standin.Delivery) {
				d.Behind = live(d) && d.QoS == q && d.Nth%ordered == 60
			}}))
	}
	return out
}

// ordered is after how many messages of a session one is overtaken again.
const ordered = 200
