package trace_test

import (
	"fmt"
	"strings"
	"testing"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// TestSecretsAreMaskedAtEqualLength: in whole packets, in broken ones, in whatever else
// may carry authentication data.
func TestSecretsAreMaskedAtEqualLength(t *testing.T) {
	data := packet.Properties{packet.Str(packet.AuthMethod, "SCRAM-SHA-256"), packet.Str(packet.AuthData, "sesame")}
	connect := &packet.Connect{
		Level:       packet.V5,
		ClientID:    "c",
		HasUsername: true,
		Username:    "u",
		HasPassword: true,
		Password:    []byte("sesame"),
		Properties:  data,
	}
	whole := connect.Append(nil, packet.V5)
	for name, raw := range map[string][]byte{
		"CONNECT": whole, "CONNECT cut off": append([]byte{whole[0], whole[1] - 1}, whole[2:len(whole)-1]...),
		"CONNECT with reserved flag": func() []byte { b := append([]byte(nil), whole...); b[9] |= 1; return b }(),
		"CONNECT of level 9":         func() []byte { b := append([]byte(nil), whole...); b[8] = 9; return b }(),
		"AUTH": (&packet.Auth{Code: packet.ContinueAuthentication,
			Properties: data}).Append(nil, packet.V5),
		"CONNACK": (&packet.Connack{Properties: data}).Append(nil, packet.V5),
	} {
		p, _ := packet.Decode(append([]byte(nil), raw...), packet.V5, packet.Lenient)
		before := string(raw)
		e := trace.Redact(trace.Event{Kind: trace.Sent, Version: packet.V5, Packet: p, Raw: raw})
		if len(e.Raw) != len(raw) {
			t.Errorf("%s: %d bytes became %d", name, len(raw), len(e.Raw))
		}
		if text := fmt.Sprintf("%q %+v %s", e.Raw, e.Packet, e.Describe()); strings.Contains(text, "sesam") ||
			strings.Contains(string(e.Raw), "sesam") {
			t.Errorf("%s still tells: %s", name, text)
		}
		if string(raw) != before {
			t.Errorf("%s: the bytes that go over were changed", name)
		}
	}
	plain := (&packet.Publish{Topic: "a", Payload: []byte("sesame")}).Append(
		nil,
		packet.V5,
	) // a payload is not ours to judge
	if e := trace.Redact(trace.Event{Version: packet.V5, Raw: plain}); &e.Raw[0] != &plain[0] {
		t.Error("a PUBLISH was copied for nothing")
	}
}

// FuzzRedact: whatever is wrong with a CONNECT, its password is not told. A change may make the password part of a
// sound field, such as the client identifier; then the packet is sound, and nobody can know.
func FuzzRedact(f *testing.F) {
	const secret = "sesame open up"
	for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
		c := &packet.Connect{
			Level:       v,
			ClientID:    "c",
			HasUsername: true,
			Username:    "user",
			HasPassword: true,
			Password:    []byte(secret),
		}
		f.Add(c.Append(nil, v), byte(v), uint16(9), byte(0xff))
		f.Add(c.Append(nil, v), byte(v), uint16(1), byte(3))
	}
	f.Fuzz(func(t *testing.T, raw []byte, v byte, at uint16, with byte) {
		version := packet.Version(v)
		if len(raw) == 0 || version != packet.V31 && version != packet.V311 && version != packet.V5 {
			return
		}
		raw[int(at)%len(raw)] ^= with
		if packet.Type(raw[0]>>4) != packet.CONNECT {
			return
		}
		_, err := packet.Annotate(raw, version)
		p, _ := packet.Decode(append([]byte(nil), raw...), version, packet.Lenient)
		e := trace.Redact(trace.Event{Kind: trace.Received, Version: version, Packet: p, Raw: raw})
		if len(e.Raw) != len(raw) {
			t.Errorf("%d bytes became %d", len(raw), len(e.Raw))
		}
		text := string(e.Raw) + e.Describe() + fmt.Sprintf("%+v", e.Packet)
		for i := 0; err != nil && i+6 <= len(secret); i++ {
			if strings.Contains(text, secret[i:i+6]) {
				t.Errorf("%q tells %q: %q", raw, secret[i:i+6], text)
			}
		}
	})
}

func TestEveryPacketIsDescribed(t *testing.T) {
	ack := packet.Ack{ID: 7}
	for _, tt := range []struct {
		v    packet.Version
		p    packet.Packet
		want string
	}{
		{packet.V311, &packet.Connect{Level: packet.V311, ClientID: "pen-1", KeepAlive: 10},
			`CONNECT "pen-1" version 3.1.1 keep alive 10 s`},
		{packet.V311, &packet.Connack{Code: 5}, "CONNACK 5 not authorized"},
		{packet.V5, &packet.Connack{SessionPresent: true}, "CONNACK 0x00 success, session present"},
		{packet.V5, &packet.Publish{Topic: "a/b", QoS: 2, ID: 3, Retain: true, Dup: true},
			"PUBLISH a/b QoS 2 retain DUP #3"},
		{packet.V5, &packet.Puback{Ack: packet.Ack{ID: 7, Code: 0x10}}, "PUBACK #7 0x10 no matching subscribers"},
		{packet.V5, &packet.Pubrec{Ack: ack}, "PUBREC #7"}, {packet.V5, &packet.Pubrel{Ack: ack}, "PUBREL #7"},
		{packet.V5, &packet.Pubcomp{Ack: ack}, "PUBCOMP #7"},
		{packet.V5, &packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "a/#", QoS: 1}}},
			"SUBSCRIBE a/# QoS 1"},
		{packet.V311, &packet.Suback{ID: 1, Codes: []packet.ReasonCode{2, 0x80}}, "SUBACK #1 granted QoS 2 refused"},
		{packet.V5, &packet.Unsubscribe{ID: 1, Filters: []string{"a"}}, `UNSUBSCRIBE ["a"]`},
		{packet.V5, &packet.Unsuback{ID: 1}, "UNSUBACK #1"},
		{packet.V5, &packet.Pingreq{}, "PINGREQ"}, {packet.V5, &packet.Pingresp{}, "PINGRESP"},
		{packet.V311, &packet.Disconnect{}, "DISCONNECT"},
		{packet.V5, &packet.Disconnect{Code: 0x8E}, "DISCONNECT 0x8E session taken over"},
		{packet.V5, &packet.Auth{}, "AUTH"},
	} {
		if got := (&trace.Event{Kind: trace.Sent, Version: tt.v, Packet: tt.p}).Describe(); got != tt.want {
			t.Errorf("%q, want %q", got, tt.want)
		}
	}
	if got := (&trace.Event{Kind: trace.Link, Link: client.LinkEnded,
		Text: "reset"}).Describe(); got != "link ended: reset" {
		t.Error(got)
	}
	if got := (&trace.Event{Kind: trace.Received, Raw: []byte{1, 2}}).Describe(); got != "2 bytes that are no packet" {
		t.Error(got)
	}
}
