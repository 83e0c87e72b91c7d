package check_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"testing/synctest"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/report"
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

// roomForMore sends again what is acknowledged, where many wait.
func roomForMore() standin.Decisions {
	all := false
	return standin.Decisions{
		Deliver:  func(d *standin.Delivery) { all = all || string(d.Payload) == "message 6" },
		Released: func(*packet.Publish) bool { return all },
	}
}

// nth picks the nth packet, from 1.
func nth(n int) func(packet.Packet) bool {
	return func(packet.Packet) bool {
		n--
		return n == 0
	}
}

// swallows says nothing to a PUBLISH that is larger than the largest which it takes, by more than a byte.
func swallows() standin.Decisions {
	largest := 0
	return standin.Decisions{
		PacketSize: func(told int) int { return told + 10 },
		Arrived: func(a *standin.Arrival) {
			n := len(a.Message.Payload)
			if largest == 0 && n > 1000 {
				largest = n
			}
			a.Answer = largest == 0 || n <= largest+1
		},
	}
}

// speaksOn closes the link on what it must not take, and passes it on all the same.
func speaksOn() standin.Decisions {
	watched := ""
	return standin.Decisions{
		Grant: func(s packet.Subscription, c packet.ReasonCode) packet.ReasonCode {
			watched = s.Filter
			return c
		},
		WillOfNone: func(string) *packet.Publish {
			return &packet.Publish{Topic: watched, Payload: []byte("under an alias")}
		},
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
		{"session.kept", packet.V311, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if d.Away && len(d.Payload) > 100 { // not for want of room: alone they are lost too
				d.Times = 0
			}
		}}, "a QoS 1 message that came while the client was away: nothing came"},
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
		{"error.unknown-release", packet.V5, standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
			if p.Type() == packet.PUBCOMP {
				return &packet.Pubcomp{} // no packet identifier: no client takes it
			}
			return p
		}}, "the link was closed in place of PUBCOMP: "},
		{"qos2.once", packet.V311, unsaid(packet.PUBREC, func(p packet.Packet) bool { return p.(*packet.Pubrec).ID >= 40_000 }),
			"no PUBREC within 5 s"},
		{"qos2.once", packet.V5, unsaid(packet.PUBREC, nth(3)), "no PUBREC within 5 s"},
		{"qos2.once", packet.V5, unsaid(packet.PUBCOMP, nth(4)), "no PUBCOMP within 5 s"},
		{"qos2.once", packet.V31, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if d.QoS == 2 && string(d.Payload) == "second" {
				d.Times = 0
			}
		}}, "the second message: nothing came"},
		{"retain.wildcard", packet.V311, standin.Decisions{Match: func(filter, name string, matches bool) bool {
			return matches || strings.HasSuffix(filter, "/+") && strings.HasSuffix(name, "/e/f")
		}}, "e/f came to a newcomer with the filter"},
		{"qos.flow-control", packet.V5, roomForMore(), "2 messages came for one acknowledgement"},
		{"property.alias-scope", packet.V5, speaksOn(), "was passed on"},
		{"will.presence", packet.V311, standin.Decisions{Will: func(w *standin.WillCase) { w.Send = w.Send || w.Goodbye }},
			`a newcomer once the observer had seen "left"`},
	} {
		t.Run(fmt.Sprint(i, " ", tt.check, " in ", tt.version), func(t *testing.T) {
			tells(t, tt.check, tt.version, tt.decisions, tt.seen, nil)
		})
	}
}

// tells wants one check to find a stand-in broken and to say so, of itself and with the packets that decided. With
// changes what the stand-in offers, and what is known of it.
func tells(t *testing.T, name string, v packet.Version, d standin.Decisions, seen string,
	with func(o *standin.Options, target *proof.Target)) {
	t.Helper()
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		o := prooftest.Contracted()
		o.Faults = []standin.Fault{{Name: "told", Decisions: d}}
		target := prooftest.Target(nil, false)
		if with != nil {
			with(&o, &target)
		}
		s, err := standin.New(o)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		target.Dial, target.Doors = s.Dial, nil
		checks, err := check.Match(name)
		if err != nil {
			t.Fatal(err)
		}
		p, err := proof.Run(t.Context(), target, proof.Options{Checks: checks, Versions: []packet.Version{v}, OnTopics: true})
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range p.Results {
			if r.Check.Name == name &&
				(r.Verdict != proof.Broken || !strings.Contains(r.Seen, seen) || len(r.Decided()) == 0) {
				t.Errorf("%s: %s, decided by %d packets, want %q", r.Verdict, r.Seen, len(r.Decided()), seen)
			}
		}
	})
}

// TestOnlyWhatIsWrongDecides: of some forty packets that must each end their link, those decide that did not, and the report
// draws them and no others, however far they are apart.
func TestOnlyWhatIsWrongDecides(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := prooftest.Faulty(t, prooftest.Contracted(), "error.tolerates-flags-of-pingreq", "error.tolerates-servers-pingresp")
		defer s.Close()
		one, err := check.Match("error.malformed")
		if err != nil {
			t.Fatal(err)
		}
		p, err := proof.Run(t.Context(), prooftest.Target(s, false),
			proof.Options{Checks: one, Versions: []packet.Version{packet.V311}})
		if err != nil || len(p.Results) == 0 || p.Results[0].Verdict != proof.Broken {
			t.Fatalf("%+v, %v", p, err)
		}
		who := map[string]int{}
		for _, e := range p.Results[0].Decided() {
			who[e.Client]++
		}
		if want := map[string]int{"PINGREQ with flags 1": 2, "PINGRESP from a client": 1}; !maps.Equal(who, want) {
			t.Errorf("decided by %v, not %v", who, want)
		}
		var b strings.Builder
		if err := report.WriteAcceptance(&b, "acceptance.html", p, report.Basis{}); err != nil {
			t.Fatal(err)
		}
		for text, there := range map[string]bool{">PINGREQ": true, ">PINGRESP": true, "SUBACK f": false, ">witness": false} {
			if strings.Contains(b.String(), text) != there {
				t.Errorf("the report has %q: %v", text, !there)
			}
		}
	})
}

// TestWhatALimitedBrokerIsToldOf is the same for those that offer less, or of which more or less is known.
func TestWhatALimitedBrokerIsToldOf(t *testing.T) {
	limits := func(l standin.Limits) func(*standin.Options, *proof.Target) {
		return func(o *standin.Options, _ *proof.Target) { o.Limits = l }
	}
	agreed := func(of func(*contract.Contract)) func(*standin.Options, *proof.Target) {
		return func(_ *standin.Options, target *proof.Target) {
			target.Agreement = prooftest.Agreement()
			of(target.Agreement.Contract)
		}
	}
	for i, tt := range []struct {
		check     string
		version   packet.Version
		decisions standin.Decisions
		with      func(*standin.Options, *proof.Target)
		seen      string
	}{
		{"keepalive.server-value", packet.V5, standin.Decisions{KeepAlive: func(int, int) int { return 0 }},
			limits(standin.Limits{ServerKeepAlive: 4}), "after its last packet, though CONNACK says keep alive 4 s"},
		{"limit.told-and-kept", packet.V5, standin.Decisions{Objects: func(p *packet.Publish) string {
			if p.QoS == 2 && p.ID == 7 && string(p.Payload) == "x" {
				return "as many as allowed"
			}
			return ""
		}}, limits(standin.Limits{ReceiveMaximum: 7}), "the receive maximum is 7, and the link was closed, or nothing came, for as many messages"},
		{"limit.packet-size", packet.V5, swallows(), limits(standin.Limits{MaximumPacketSize: 2000}),
			"a PUBLISH of 2006 bytes, where the maximum is 2000, was neither refused nor the link closed within 5 s"},
		{"login.wrong-password", packet.V311, standin.Decisions{Password: func(string, *packet.Connect, bool) bool { return true }},
			func(_ *standin.Options, target *proof.Target) { target.Anonymous = nil }, "CONNACK 0: let in with "},
		{"login.anonymous", packet.V5, standin.Decisions{}, func(_ *standin.Options, target *proof.Target) {
			yes := true
			target.Anonymous = &yes
		}, "not authorized"},
		{"contract.presence", packet.V311, standin.Decisions{Deliver: func(d *standin.Delivery) {
			if string(d.Payload) == "off" && !d.Stored {
				d.Times = 2
			}
		}}, agreed(func(*contract.Contract) {}), `"off" came after the subject leaves by DISCONNECT`},
		{"contract.presence", packet.V5, standin.Decisions{Retains: func(*packet.Publish, bool) bool { return true }},
			agreed(func(c *contract.Contract) {
				no := false
				c.Clauses[1].Retain = &no
			}), `"on" greeted a newcomer to pen.status once the subject comes, and is agreed not to be retained`},
	} {
		t.Run(fmt.Sprint(i, " ", tt.check, " in ", tt.version), func(t *testing.T) {
			tells(t, tt.check, tt.version, tt.decisions, tt.seen, tt.with)
		})
	}
}
