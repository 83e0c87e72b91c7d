package check_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
)

// loses keeps messages from everybody, by their payload.
func loses(text string) standin.Decisions {
	return standin.Decisions{Deliver: func(d *standin.Delivery) {
		if string(d.Payload) == text {
			d.Times = 0
		}
	}}
}

// unsaid keeps acknowledgements back.
func unsaid(t packet.Type, which func(packet.Packet) bool) standin.Decisions {
	return standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
		if p.Type() == t && which(p) {
			return nil
		}
		return p
	}}
}

// passesOver does not answer a SUBSCRIBE with such a filter.
func passesOver(which func(filter string) bool) standin.Decisions {
	return standin.Decisions{
		Grant: func(s packet.Subscription, c packet.ReasonCode) packet.ReasonCode {
			if which(s.Filter) {
				return packet.ProtocolError
			}
			return c
		},
		Overlooks: func(code packet.ReasonCode, _ string) bool { return code == packet.ProtocolError },
	}
}

// TestWhatABrokenBrokerIsToldOf: what each fault breaks on the way to what a check is about is found too, and said as what
// it is, by the check alone: those that it requires, which would find it, do not run.
func TestWhatABrokenBrokerIsToldOf(t *testing.T) {
	for i, tt := range []struct {
		check     string
		version   packet.Version
		decisions standin.Decisions
		seen      string
	}{
		{"qos.granted", packet.V311, loses("to filter 4"), "filter 4 of 5 was granted, and nothing comes: nothing came"},
		{"qos.granted", packet.V5, loses("to filter 1"), "filter 1 of 5 was granted, and nothing comes"},
		{"qos1.ack-after-cut", packet.V311, loses("first"), "the message: nothing came within 5s"},
		{"qos2.release-resumed", packet.V31, loses("second"), "the second message: nothing came"},
		{"qos2.release-resumed", packet.V5, loses("first"), "the first message: nothing came"},
		{"qos.order", packet.V311, loses("006 at 1"), "at QoS 1, message 8 came to the exact, and message 7 before it did not"},
		{"qos.order", packet.V5, loses("199 at 2"), "at QoS 2, message 200: nothing came within 5s"},
		{"qos.flow-control", packet.V5, loses("message 1"), "nothing came to a client with receive maximum"},
		{"qos.flow-control", packet.V5, loses("message 4"), "nothing came within 5 s of our PUB"},
		{"session.order", packet.V311, loses("025"), "the last message did not come"},
		{"session.order", packet.V5, loses("003"), "message 3 of those that waited or came afterwards did not come"},
		{"session.message-expiry", packet.V5, loses("expiry 60 s"), "the message with expiry 60 s: nothing came"},
		{"session.message-expiry", packet.V5, loses("expiry 0 s"), "the message without expiry: nothing came"},
		{"subscribe.overlap", packet.V311, loses("at 2"), "published at QoS 2: nothing came"},
		{"subscribe.replace", packet.V311, loses("message"), ": nothing came within 5s"},
		{"subscribe.identifier", packet.V5, loses("message"), "nothing came by a filter with an identifier: nothing came"},
		{"subscribe.unsubscribe", packet.V5, standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
			if x, is := p.(*packet.Unsuback); is {
				more := *x
				more.Codes = append(more.Codes[:1:1], 0)
				return &more
			}
			return p
		}}, "2 codes in UNSUBACK for one filter"},
		{"property.passed", packet.V5, loses(`{"a":1}`), "the message with properties: nothing came"},
		{"property.alias", packet.V5, loses("round 2 to 1"), `"round 2 to 1": nothing came`},
		{"property.alias", packet.V5, unsaid(packet.PUBACK, func(p packet.Packet) bool {
			return p.(*packet.Puback).ID >= 40_000
		}), "no PUBACK within 5 s of a message under topic alias"},
		{"property.request-response", packet.V5, loses("request 2"), "request 2: nothing came"},
		{"property.request-response", packet.V5, loses("answer to request 1"), "the answer to request 1: nothing came"},
		{"property.request-response", packet.V5, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if strings.HasPrefix(string(d.Payload), "answer") {
				d.Properties = d.Properties.Without(packet.CorrelationData)
			}
		}}, "the answer came with 0 bytes of correlation data, not with the 2 of the request"},
		{"will.retained", packet.V311, standin.Decisions{Deliver: func(d *standin.Delivery) {
			d.Retain = d.Retain && !d.Stored
		}}, "greeted a newcomer with retain flag 0"},
		{"will.on-request", packet.V5, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if strings.Contains(d.Topic, "/will") {
				d.Payload = []byte("another")
			}
		}}, `the will came as "another"`},
		{"will.qos", packet.V311, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if strings.HasSuffix(d.Topic, "qos1") {
				d.Times = 0
			}
		}}, "no will at QoS 1 within"},
		{"will.qos", packet.V5, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if strings.HasSuffix(d.Topic, "qos2") {
				d.Times = 2
			}
		}}, "the will at QoS 2 came 2 times"},
		{"retain.replaced", packet.V311, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if d.Stored {
				d.Times = 2
			}
		}}, "2 messages greeted a newcomer"},
		{"limit.told-and-kept", packet.V5, standin.Decisions{Grant: func(s packet.Subscription, c packet.ReasonCode) packet.ReasonCode {
			if strings.HasPrefix(s.Filter, "$share/") {
				return packet.SharedNotSupported
			}
			return c
		}}, "a shared subscription is available by CONNACK, and was refused: shared subscriptions not supported"},
		{"subscribe.many", packet.V311, passesOver(func(filter string) bool { return strings.HasSuffix(filter, "/f5") }),
			"no SUBACK within 5 s"},
		{"subscribe.bad-filter", packet.V5, passesOver(func(filter string) bool { return topic.CheckFilter(filter) != nil }),
			"no answer within 5 s to a SUBSCRIBE for "},
		{"limit.told-and-kept", packet.V5, standin.Decisions{Grant: func(s packet.Subscription, c packet.ReasonCode) packet.ReasonCode {
			if strings.HasPrefix(s.Filter, "$share/") {
				return packet.ProtocolError
			}
			return c
		}}, "a shared subscription is available by CONNACK, and the link was closed"},
		{"qos.pairings", packet.V311, standin.Decisions{Codes: func(_ []packet.Subscription, codes []packet.ReasonCode) []packet.ReasonCode {
			if codes[0] == 0 {
				codes[0] = 1
			}
			return codes
		}}, "SUBACK grants QoS 1 where QoS 0 was asked for"},
		{"limit.packet-size", packet.V5, standin.Decisions{MaximumPacketSize: func(int) int { return 1 << 20 }},
			"nothing came: the subject was lost, the connection was closed by us: it sent what it must not: PUBLISH, byte 1: 248 bytes"},
	} {
		t.Run(fmt.Sprint(i, " ", tt.check, " in ", tt.version), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				o := prooftest.Secured()
				o.Faults = []standin.Fault{{Name: "told", Decisions: tt.decisions}}
				s, err := standin.New(o)
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				checks, err := check.Match(tt.check)
				if err != nil {
					t.Fatal(err)
				}
				p, err := proof.Run(t.Context(), prooftest.Target(s, false),
					proof.Options{Checks: checks, Versions: []packet.Version{tt.version}})
				if err != nil {
					t.Fatal(err)
				}
				for _, r := range p.Results {
					if r.Check.Name == tt.check &&
						(r.Verdict != proof.Broken || !strings.Contains(r.Seen, tt.seen) || len(r.Decided()) == 0) {
						t.Errorf("%s: %s, decided by %d packets, want %q", r.Verdict, r.Seen, len(r.Decided()), tt.seen)
					}
				}
			})
		})
	}
}
