package packet

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"testing/iotest"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestBytesFromTheStandard compares with bytes put together by hand from the
// standards' tables, so that encoder and decoder cannot agree on a mistake.
func TestBytesFromTheStandard(t *testing.T) {
	for _, tt := range []struct {
		name string
		v    Version
		hex  string
		p    Packet
	}{
		{"3.1 CONNECT", V31, "10 11 0006 4d5149736470 03 02 003c 0003 613162",
			&Connect{Level: V31, CleanStart: true, KeepAlive: 60, ClientID: "a1b"}},
		{"3.1.1 CONNECT with all", V311,
			"10 1e 0004 4d515454 04 ee 000a 0001 63 0003 772f74 0003 6f6666 0001 75 0002 7077",
			&Connect{Level: V311, CleanStart: true, KeepAlive: 10, ClientID: "c", HasUsername: true, Username: "u",
				HasPassword: true, Password: []byte("pw"), Will: &Will{Topic: "w/t", Payload: []byte("off"), QoS: 1,
					Retain: true}}},
		{"5 CONNECT with will delay", V5,
			"10 1d 0004 4d515454 05 06 0000 05 11 0000000a 0000 05 18 00000005 0001 77 0000",
			&Connect{Level: V5, CleanStart: true, Properties: Properties{Int(SessionExpiry, 10)},
				Will: &Will{Topic: "w", Payload: []byte{}, Properties: Properties{Int(WillDelay, 5)}}}},
		{"3.1.1 CONNACK refusing", V311, "20 02 00 05", &Connack{Code: 5}},
		{"5 CONNACK with receive maximum", V5, "20 06 01 00 03 21 0014",
			&Connack{SessionPresent: true, Properties: Properties{Int(ReceiveMaximum, 20)}}},
		{"PUBLISH QoS 1 DUP retain", V311, "3b 08 0003 612f62 000a 21",
			&Publish{Dup: true, QoS: 1, Retain: true, Topic: "a/b", ID: 10, Payload: []byte("!")}},
		{"5 PUBLISH with user property", V5, "30 0d 0001 61 08 26 0001 6b 0002 7631 7a",
			&Publish{Topic: "a", Properties: Properties{User("k", "v1")}, Payload: []byte("z")}},
		{"PUBREL carries flags 2", V311, "62 02 1234", &Pubrel{Ack{ID: 0x1234}}},
		{"5 PUBCOMP with code", V5, "70 03 0001 92", &Pubcomp{Ack{ID: 1, Code: PacketIDNotFound}}},
		{"3.1.1 SUBSCRIBE", V311, "82 0e 000a 0003 612f62 01 0003 632f64 02",
			&Subscribe{ID: 10, Subscriptions: []Subscription{{Filter: "a/b", QoS: 1}, {Filter: "c/d", QoS: 2}}}},
		{"5 SUBSCRIBE with options", V5, "82 09 0001 02 0b 05 0001 61 2d", &Subscribe{ID: 1,
			Properties: Properties{Int(SubscriptionIdentifier, 5)},
			Subscriptions: []Subscription{{Filter: "a", QoS: 1, NoLocal: true, RetainAsPublished: true,
				RetainHandling: 2}}}},
		{"3.1.1 SUBACK", V311, "90 04 000a 02 80", &Suback{ID: 10, Codes: []ReasonCode{2, 0x80}}},
		{"UNSUBSCRIBE", V311, "a2 07 0002 0003 612f62", &Unsubscribe{ID: 2, Filters: []string{"a/b"}}},
		{"5 UNSUBACK", V5, "b0 04 0002 00 11", &Unsuback{ID: 2, Codes: []ReasonCode{0x11}}},
		{"PINGREQ", V311, "c0 00", &Pingreq{}},
		{"5 DISCONNECT with will", V5, "e0 01 04", &Disconnect{Code: DisconnectWithWill}},
		{"5 AUTH", V5, "f0 0b 18 09 15 0001 78 16 0002 0102",
			&Auth{Code: ContinueAuthentication, Properties: Properties{Str(AuthMethod, "x"),
				Str(AuthData, "\x01\x02")}}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			want := unhex(t, tt.hex)
			if got := tt.p.Append(nil, tt.v); !bytes.Equal(got, want) {
				t.Errorf("encoded\n% x, want\n% x", got, want)
			}
			got, err := Decode(want, tt.v, Strict)
			if err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(got, tt.p) {
				t.Errorf("decoded\n%+v, want\n%+v", got, tt.p)
			}
		})
	}
}

// TestBrokenPacketsAreRefused holds each rule to its offset, section and reason code.
func TestBrokenPacketsAreRefused(t *testing.T) {
	for _, tt := range []struct {
		name    string
		v       Version
		hex     string
		offset  int
		section string
		code    ReasonCode
		lenient bool // a lenient reader still gets the packet
	}{
		{"type 0", V311, "00 00", 0, "3.1.1 §2.2.1", MalformedPacket, false},
		{"AUTH before version 5", V311, "f0 00", 0, "3.1.1 §2.2.1", MalformedPacket, false},
		{"wrong flags", V5, "c1 00", 0, "5.0 §2.1.3", MalformedPacket, true},
		{"SUBSCRIBE with flags 0", V311, "80 06 0001 0001 61 00", 0, "3.1.1 §2.2.2", MalformedPacket, true},
		{"length of five bytes", V311, "30 ff ff ff ff 01", 1, "3.1.1 §2.2.3", MalformedPacket, false},
		{"length not shortest", V5, "c0 80 00", 1, "5.0 §1.5.5", MalformedPacket, true},
		{"longer than told", V311, "40 02 0001 00", 1, "3.1.1 §2.2.3", MalformedPacket, false},
		{"bytes left over", V311, "40 03 0001 00", 4, "3.1.1 §2.2.3", MalformedPacket, true},
		{"ends inside", V311, "40 01 00", 2, "3.1.1 §2.2.3", MalformedPacket, false},
		{"QoS 3", V311, "36 05 0001 61 0001", 0, "3.1.1 §3.3.1.2", MalformedPacket, true},
		{"DUP at QoS 0", V5, "38 04 0001 61 00", 0, "5.0 §3.3.1.1", MalformedPacket, true},
		{"packet id 0", V5, "32 06 0001 61 0000 00", 5, "5.0 §2.2.1", ProtocolError, true},
		{"wildcard in topic name", V311, "30 05 0003 612f23", 6, "3.1.1 §3.3.2.1", TopicNameInvalid, true},
		{"empty topic name", V311, "30 02 0000", 4, "3.1.1 §4.7.3", ProtocolError, true},
		{"U+0000", V5, "30 06 0003 610062 00", 5, "5.0 §1.5.4", MalformedPacket, true},
		{"surrogate", V311, "30 05 0003 eda080", 4, "3.1.1 §1.5.3", MalformedPacket, true},
		{"unknown property", V5, "30 06 0001 61 02 7f 00", 6, "5.0 §2.2.2.2", MalformedPacket, false},
		{"doubled property", V5, "30 08 0001 61 04 01 00 01 00", 8, "5.0 §3.3.2.3.2", ProtocolError, true},
		{"property of another packet", V5, "30 07 0001 61 03 21 0001", 6, "5.0 §2.2.2.2", ProtocolError, true},
		{"topic alias 0", V5, "30 07 0001 61 03 23 0000", 7, "5.0 §3.3.2.3.4", ProtocolError, true},
		{"payload format 2", V5, "30 06 0001 61 02 01 02", 7, "5.0 §3.3.2.3.2", ProtocolError, true},
		{"properties too long", V5, "30 05 0001 61 09 01", 5, "5.0 §2.2.2.1", MalformedPacket, false},
		{"reserved connect flag", V311, "10 0d 0004 4d515454 04 03 0000 0001 61", 9, "3.1.1 §3.1.2.3",
			MalformedPacket, true},
		{"will QoS without will", V311, "10 0d 0004 4d515454 04 0a 0000 0001 61", 9, "3.1.1 §3.1.2.6",
			MalformedPacket, true},
		{"level 99", V311, "10 0d 0004 4d515454 63 02 0000 0001 61", 8, "3.1.1 §3.1.2.2", UnsupportedProtocolVersion,
			false},
		{"protocol name", V311, "10 0d 0004 4d515458 04 02 0000 0001 61", 2, "3.1.1 §3.1.2.1",
			UnsupportedProtocolVersion, false},
		{"password without user", V311, "10 0f 0004 4d515454 04 42 0000 0001 61 0000", 9, "3.1.1 §3.1.2.9",
			MalformedPacket, true},
		{"empty id to be kept", V311, "10 0c 0004 4d515454 04 00 0000 0000", 12, "3.1.1 §3.1.3.1", ClientIDNotValid,
			true},
		{"SUBSCRIBE without filter", V311, "82 02 0001", 4, "3.1.1 §3.8.3", ProtocolError, true},
		{"subscribe QoS 3", V311, "82 06 0001 0001 61 03", 7, "3.1.1 §3.8.3", ProtocolError, true},
		{"session present in a refusal", V311, "20 02 01 05", 2, "3.1.1 §3.2.2.2", ProtocolError, true},
		{"reason code of another packet", V5, "40 03 0001 8e", 4, "5.0 §2.4", ProtocolError, true},
		{"U+0000 at the start", V311, "30 04 0002 0061", 4, "3.1.1 §1.5.3", MalformedPacket, true},
		{"broken text behind sound text", V5, "30 08 0004 61c3a5ff 00 21", 7, "5.0 §1.5.4", MalformedPacket, true},
		{"# before +", V311, "30 05 0003 612b23", 5, "3.1.1 §3.3.2.1", TopicNameInvalid, true},
		{"+ before #", V5, "30 06 0003 232f2b 00", 4, "5.0 §3.3.2.1", TopicNameInvalid, true},
		{"+ alone", V311, "30 04 0002 612b", 5, "3.1.1 §3.3.2.1", TopicNameInvalid, true},
		{"neither topic nor alias", V5, "30 08 0000 05 02 00000001", 4, "5.0 §4.7.3", ProtocolError, true},
		{"wildcard in a response topic", V5, "30 08 0001 61 04 08 0001 23", 9, "5.0 §3.3.2.3.5", ProtocolError, true},
		{"U+0000 in a property", V5, "30 08 0001 61 04 03 0001 00", 9, "5.0 §1.5.4", MalformedPacket, true},
		{"broken key of a user property", V5, "30 0c 0001 61 08 26 0002 61ff 0001 62", 10, "5.0 §1.5.4",
			MalformedPacket, true},
		{"broken value of a user property", V5, "30 0c 0001 61 08 26 0001 61 0002 62ff", 13, "5.0 §1.5.4",
			MalformedPacket, true},
		{"property ends inside", V5, "30 07 0001 61 03 02 0000", 9, "5.0 §2.1.4", MalformedPacket, false},
		{"wildcard in a will topic", V311, "10 13 0004 4d515454 04 06 0000 0001 61 0002 2f2b 0000", 18,
			"3.1.1 §3.3.2.1", TopicNameInvalid, true},
		{"property of a message in a will", V5, "10 17 0004 4d515454 05 06 0000 00 0001 61 03 23 0001 0001 62 0000",
			17, "5.0 §2.2.2.2", ProtocolError, true},
		{"acknowledge flags", V311, "20 02 02 00", 2, "3.1.1 §3.2.2.1", MalformedPacket, true},
		{"empty filter", V311, "82 05 0001 0000 01", 4, "3.1.1 §4.7.3", MalformedPacket, true},
		{"second filter empty", V5, "a2 08 0001 00 0001 61 0000", 8, "5.0 §4.7.3", MalformedPacket, true},
		{"retain handling 3", V5, "82 07 0001 00 0001 61 30", 8, "5.0 §3.8.3.1", ProtocolError, true},
		{"reserved bits of options", V311, "82 06 0001 0001 61 04", 7, "3.1.1 §3.8.3", MalformedPacket, true},
		{"retain handling before version 5", V311, "82 06 0001 0001 61 10", 7, "3.1.1 §3.8.3", MalformedPacket, true},
	} {
		t.Run(tt.name, func(t *testing.T) {
			p, err := Decode(unhex(t, tt.hex), tt.v, Strict)
			var e *Error
			if !errors.As(err, &e) || p != nil {
				t.Fatalf("strict: packet %v, error %v", p, err)
			}
			if e.Offset != tt.offset || e.Section != tt.section || e.Code != tt.code {
				t.Errorf(
					"got offset %d, %s, %#x (%v); want offset %d, %s, %#x",
					e.Offset,
					e.Section,
					e.Code,
					e,
					tt.offset,
					tt.section,
					tt.code,
				)
			}
			if p, err := Decode(unhex(t, tt.hex), tt.v, Lenient); (p != nil) != tt.lenient || err == nil {
				t.Errorf("lenient: packet %v, error %v", p, err)
			}
		})
	}
}

// TestSoundThoughOdd: what looks wrong at first sight, and is not.
func TestSoundThoughOdd(t *testing.T) {
	for name, tt := range map[string]struct {
		v   Version
		hex string
	}{
		"an alias for a topic":                   {V5, "30 06 0000 03 23 0001"},
		"user properties twice":                  {V5, "30 12 0001 61 0e 26 0001 61 0001 62 26 0001 61 0001 63"},
		"two subscription identifiers":           {V5, "30 08 0001 61 04 0b 01 0b 02"},
		"acknowledge flags of version 3.1":       {V31, "20 02 02 00"},
		"session present in a refusal, in 3.1":   {V31, "20 02 01 05"},
		"DISCONNECT without code":                {V5, "e0 00"},
		"DISCONNECT with a code and no length":   {V5, "e0 01 04"},
		"a replacement character that was meant": {V311, "30 05 0003 efbfbd"},
	} {
		frame := unhex(t, tt.hex)
		p, err := Decode(frame, tt.v, Strict)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		} else if again := p.Append(nil, tt.v); tt.v == V5 && !bytes.Equal(again, frame) {
			t.Errorf("%s: written as % x", name, again)
		}
	}
	if got := (&Disconnect{Properties: Properties{Str(ReasonString, "x")}}).Append(nil, V5); !bytes.Equal(
		got, unhex(t, "e0 06 00 04 1f 0001 78")) {
		t.Errorf("DISCONNECT of code 0 with a property: % x", got)
	}
}

// TestWhatPacketsHaveInCommon: identifier, code and properties of every kind that has them.
func TestWhatPacketsHaveInCommon(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 500 {
		p := randomPacket(r, V5)
		v := reflect.ValueOf(p).Elem()
		var want Summary
		if f := v.FieldByName("ID"); f.IsValid() {
			want.ID = uint16(f.Uint())
		}
		if f := v.FieldByName("Code"); f.IsValid() {
			want.Code, want.Coded = ReasonCode(f.Uint()), true
		}
		if f := v.FieldByName("Properties"); f.IsValid() {
			want.Properties = f.Interface().(Properties)
		}
		if got := About(p, V5); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, want %+v", p.Type(), got, want)
		}
		if got, connack := About(p, V311), p.Type() == CONNACK; got.Coded != connack {
			t.Errorf("%s of 3.1.1 has a code: %v", p.Type(), got.Coded)
		}
		if back, err := Decode(p.Append(nil, V5), V5, Strict); err != nil || back.Type() != p.Type() {
			t.Errorf("%s came back as %v (%v)", p.Type(), back, err)
		}
	}
	if got := About(&Auth{Code: 0x18, Properties: Properties{Str(AuthMethod, "m")}}, V5); got.Code != 0x18 ||
		len(got.Properties) != 1 {
		t.Errorf("AUTH: %+v", got)
	}
	if !Str(ReasonString, "x").Text() || !User("a", "b").Text() || Str(AuthData, "x").Text() ||
		Int(ReceiveMaximum, 1).Text() {
		t.Error("which values are text")
	}
}

// TestAliasesAreSetAndUsed: once with the topic, then instead of it; not beyond the maximum, nor over one's own.
func TestAliasesAreSetAndUsed(t *testing.T) {
	var a Aliases
	topics := func(most int, names ...string) (out []string) {
		for _, n := range names {
			p := a.Abbreviate(&Publish{Topic: n, Properties: Properties{Int(MessageExpiry, 5)}}, most)
			alias, _ := p.Properties.Int(TopicAlias)
			expiry, _ := p.Properties.Int(MessageExpiry)
			out = append(out, fmt.Sprint(p.Topic, "=", alias, "/", expiry))
		}
		return out
	}
	if got := fmt.Sprint(topics(0, "a"),
		topics(2, "a", "b", "c", "a", "b", "")); got != "[a=0/5] [a=1/5 b=2/5 c=0/5 =1/5 =2/5 =0/5]" {
		t.Error(got)
	}
	a.Forget("b")
	if got := fmt.Sprint(topics(2, "c", "c")); got != "[c=2/5 =2/5]" {
		t.Error(got)
	}
	own := &Publish{Topic: "a", Properties: Properties{Int(TopicAlias, 9)}}
	if got := a.Abbreviate(own, 2); got != own {
		t.Errorf("one's own alias became %+v", got)
	}
}

func randomPacket(r *rand.Rand, v Version) Packet {
	str := func() string { return strings.Repeat(string([]rune("abåß海🐟\ufeff")[r.IntN(7)]), r.IntN(100)) }
	topic := func() string { return "t/" + str() }
	props := func(on Type) (ps Properties) {
		if v != V5 {
			return nil
		}
		for id, spec := range propertySpecs {
			if spec.in&(1<<on) == 0 || r.IntN(3) > 0 || on == CONNECT && id == AuthData {
				continue
			}
			p := Property{ID: id}
			switch spec.kind {
			case kByte, kFlag:
				p.Int = r.Uint32N(2)
			case kU16:
				p.Int = 1 + r.Uint32N(65535)
			case kU32:
				p.Int = 1 + r.Uint32N(1<<31)
			case kVarint:
				p.Int = 1 + r.Uint32N(MaxRemainingLength)
			case kPair:
				p.Key, p.Value = str(), str()
			default:
				p.Value = str()
			}
			ps = append(ps, p)
		}
		return ps
	}
	id := uint16(1 + r.IntN(65535))
	ack := func(t Type) Ack { return Ack{ID: id, Properties: props(t)} }
	switch Type(1 + r.IntN(14)) {
	case CONNECT:
		c := &Connect{
			Level:      v,
			CleanStart: true,
			KeepAlive:  uint16(r.IntN(65536)),
			ClientID:   str(),
			Properties: props(CONNECT),
		}
		if r.IntN(2) == 0 {
			c.HasUsername, c.Username, c.HasPassword, c.Password = true, str(), true, []byte(str())
			c.Will = &Will{
				Topic:      topic(),
				Payload:    []byte(str()),
				QoS:        QoS(r.IntN(3)),
				Retain:     r.IntN(2) == 0,
				Properties: props(onWill),
			}
		}
		return c
	case CONNACK:
		return &Connack{SessionPresent: r.IntN(2) == 0, Properties: props(CONNACK)}
	case PUBLISH:
		p := &Publish{
			QoS:        QoS(r.IntN(3)),
			Retain:     r.IntN(2) == 0,
			Topic:      topic(),
			Properties: props(PUBLISH),
			Payload:    []byte(str()),
		}
		if p.QoS > 0 {
			p.ID, p.Dup = id, r.IntN(2) == 0
		}
		return p
	case PUBACK:
		return &Puback{ack(PUBACK)}
	case PUBREC:
		return &Pubrec{ack(PUBREC)}
	case PUBREL:
		return &Pubrel{ack(PUBREL)}
	case PUBCOMP:
		return &Pubcomp{ack(PUBCOMP)}
	case SUBSCRIBE:
		s := &Subscribe{ID: id, Properties: props(SUBSCRIBE)}
		for range 1 + r.IntN(4) {
			sub := Subscription{Filter: topic(), QoS: QoS(r.IntN(3))}
			if v == V5 {
				sub.NoLocal, sub.RetainAsPublished, sub.RetainHandling = r.IntN(
					2,
				) == 0, r.IntN(
					2,
				) == 0, RetainHandling(
					r.IntN(3),
				)
			}
			s.Subscriptions = append(s.Subscriptions, sub)
		}
		return s
	case SUBACK:
		return &Suback{ID: id, Properties: props(SUBACK), Codes: []ReasonCode{0, 1, 2, 0x80}}
	case UNSUBSCRIBE:
		return &Unsubscribe{ID: id, Properties: props(UNSUBSCRIBE), Filters: []string{topic(), topic()}}
	case UNSUBACK:
		u := &Unsuback{ID: id, Properties: props(UNSUBACK)}
		if v == V5 {
			u.Codes = []ReasonCode{0, 0x11}
		}
		return u
	case PINGREQ:
		return &Pingreq{}
	case PINGRESP:
		return &Pingresp{}
	}
	d := &Disconnect{Properties: props(DISCONNECT)}
	if v == V5 {
		d.Code = DisconnectWithWill
	}
	return d
}

// TestRandomPacketsSurviveTheRoundTrip sends 6,000 packets through one stream that
// hands out its bytes in small pieces.
func TestRandomPacketsSurviveTheRoundTrip(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, v := range []Version{V31, V311, V5} {
		var sent []Packet
		var stream []byte
		for range 2000 {
			p := randomPacket(r, v)
			sent = append(sent, p)
			stream = p.Append(stream, v)
		}
		rd := NewReader(iotest.HalfReader(bytes.NewReader(stream)), v)
		for i, want := range sent {
			got, raw, err := rd.Next()
			if err != nil {
				t.Fatalf("version %s, packet %d: %v\n%+v", v, i, err, want)
			}
			if !bytes.Equal(raw, want.Append(nil, v)) || !bytes.Equal(got.Append(nil, v), raw) {
				t.Fatalf("version %s: %+v came back as %+v", v, want, got)
			}
			if err := Check(want, v); err != nil {
				t.Fatal(err)
			}
		}
		if _, _, err := rd.Next(); err != io.EOF {
			t.Fatalf("at the end: %v", err)
		}
	}
}

func TestReaderRefusesHostileLengthsBeforeAllocating(t *testing.T) {
	hostile := unhex(t, "30 ff ff ff 7f 00")
	n := testing.AllocsPerRun(10, func() {
		rd := NewReader(bytes.NewReader(hostile), V311)
		if _, _, err := rd.Next(); !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("a length of 256 MiB with one byte behind it: %v", err)
		}
	})
	if n > 10 {
		t.Errorf("%v allocations", n)
	}
	rd := NewReader(bytes.NewReader(hostile), V5)
	rd.MaxSize = 1000
	var e *Error
	if _, raw, err := rd.Next(); !errors.As(err, &e) || e.Code != PacketTooLarge || len(raw) != 5 ||
		!strings.Contains(e.Rule, "268435460 bytes; at most 1000") {
		t.Errorf("over the limit: % x %v", raw, err)
	}
	for size, over := range map[int]bool{1000: false, 1001: true} {
		rd := NewReader(bytes.NewReader((&Publish{Topic: "a", Payload: make([]byte, size-6)}).Append(nil, V311)), V311)
		rd.MaxSize = 1000
		if _, _, err := rd.Next(); (err != nil) != over {
			t.Errorf("%d bytes: %v", size, err)
		}
	}
	long := (&Publish{Topic: "a", Payload: bytes.Repeat([]byte("0123456789"), 300_000)}).Append(nil, V5)
	if p, _, err := NewReader(iotest.OneByteReader(bytes.NewReader(long)), V5).Next(); err != nil ||
		len(p.(*Publish).Payload) != 3_000_000 {
		t.Errorf("3 MB byte by byte: %v", err)
	}
}

// TestAReaderIsFedFromOutside: with bytes that came to its room, which grows when much comes and shrinks at rest.
func TestAReaderIsFedFromOutside(t *testing.T) {
	ping := unhex(t, "c0 00")
	rd := NewReader(iotest.ErrReader(errors.New("read by itself")), V311)
	small := len(rd.Room())
	feed := func(b []byte, err error) (n int) {
		t.Helper()
		rd.Feed(copy(rd.Room(), b), err)
		for rd.Buffered() {
			p, _, err := rd.Next()
			if err != nil {
				if err != io.EOF || n != len(b)/2 {
					t.Fatalf("after %d of %d: %v", n, len(b)/2, err)
				}
				return n
			} else if p.Type() != PINGREQ {
				t.Fatal(p)
			}
			n++
		}
		return n
	}
	if rd.Buffered() || feed(ping, nil) != 1 || len(rd.Room()) != small {
		t.Errorf("after one packet: room for %d", len(rd.Room()))
	}
	room := func(after string, want int) {
		t.Helper()
		if n := len(rd.Room()); n != want {
			t.Errorf("room for %d after %s, want %d", n, after, want)
		}
	}
	quiet := func(reads int) {
		for range reads {
			feed(ping, nil)
		}
	}
	if n := feed(bytes.Repeat(ping, small/2), nil); n != small/2 {
		t.Errorf("%d packets of a full room", n)
	}
	room("a full room", readSome)
	feed(bytes.Repeat(ping, readSome/2), nil)
	room("one that was full once more", readAhead)
	quiet(1000)
	room("1,000 small reads", readAhead)
	feed(bytes.Repeat(ping, readSome), nil) // much came once more: it is counted anew
	quiet(1000)
	room("1,000 more", readAhead)
	quiet(1)
	room("1,001", readSome)
	quiet(900)
	feed(bytes.Repeat(ping, small), nil) // more than the smallest holds
	quiet(1000)
	room("1,000 again", readSome)
	quiet(1)
	room("1,001 again", small)
	if feed(bytes.Repeat(ping, 3), io.EOF) != 3 || rd.Buffered() {
		t.Error("an error that came with the bytes")
	}
}

func TestAnnotateCoversEveryByteAndHidesSecrets(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 2000 {
		frame := randomPacket(r, V5).Append(nil, V5)
		spans, err := Annotate(frame, V5)
		if err != nil {
			t.Fatal(err)
		}
		at := 0
		for _, s := range spans {
			if s.Start > at || s.End < s.Start {
				t.Fatalf("hole before byte %d of % x: %+v", s.Start, frame, spans)
			}
			at = max(at, s.End)
		}
		if at != len(frame) {
			t.Fatalf("only %d of %d bytes have a meaning", at, len(frame))
		}
	}
	// What the bytes mean, in words.
	for _, tt := range []struct {
		v         Version
		hex, want string
	}{
		{V311, "10 1e 0004 4d515454 04 ee 000a 0001 63 0003 772f74 0003 6f6666 0001 75 0002 7077",
			`0-1 packet type and flags: CONNECT
1-2 remaining length: 30
2-8 protocol name: "MQTT"
8-9 protocol level: 4: version 3.1.1
9-10 connect flags: user name, password, will retain, will at QoS 1, clean start
10-12 keep alive: 10
12-15 client identifier: "c"
15-20 will topic: "w/t"
20-25 will payload: 3 bytes: 6f 66 66
25-28 user name: "u"
28-30 password length: 2
30-32 password: 2 bytes, hidden`},
		{V311, "10 0d 0004 4d515454 04 00 0000 0001 61", `0-1 packet type and flags: CONNECT
1-2 remaining length: 13
2-8 protocol name: "MQTT"
8-9 protocol level: 4: version 3.1.1
9-10 connect flags: none
10-12 keep alive: 0
12-15 client identifier: "a"`},
		{V5, "39 1a 0001 61 15 09 0012 000102030405060708090a0b0c0d0e0f1011 21",
			`0-1 packet type and flags: PUBLISH, QoS 0, DUP, retain
1-2 remaining length: 26
2-5 topic name: "a"
5-6 property length: 21
6-27 correlation data: 00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f 10 11
27-28 payload: 1 bytes`},
		{V5, "82 09 0001 02 0b 05 0001 61 2d", `0-1 packet type and flags: SUBSCRIBE
1-2 remaining length: 9
2-4 packet identifier: 1
4-5 property length: 2
5-7 subscription identifier: 5
7-10 topic filter: "a"
10-11 subscription options: QoS 1, no local, retain as published, retain handling 2`},
		{V311, "82 06 0001 0001 61 02", `0-1 packet type and flags: SUBSCRIBE
1-2 remaining length: 6
2-4 packet identifier: 1
4-7 topic filter: "a"
7-8 subscription options: QoS 2`},
		{V5, "90 03 0001 7f", `0-1 packet type and flags: SUBACK
1-2 remaining length: 3
2-4 packet identifier: 1
4-5 not understood: the properties are longer than the packet`},
		{V311, "40 03 0001 00", `0-1 packet type and flags: PUBACK
1-2 remaining length: 3
2-4 packet identifier: 1
4-5 left over: `},
		{V5, "f0 07 18 05 16 0002 0102", `0-1 packet type and flags: AUTH
1-2 remaining length: 7
2-3 reason code: 0x18 continue authentication
3-4 property length: 5
4-5 authentication data: 
5-7 authentication data length: 2
7-9 authentication data: 2 bytes, hidden`},
		{V5, "", ""},
		{V311, "10 22 0004 4d515454 04 04 0000 0001 61 0001 77 0010 000102030405060708090a0b0c0d0e0f",
			`0-1 packet type and flags: CONNECT
1-2 remaining length: 34
2-8 protocol name: "MQTT"
8-9 protocol level: 4: version 3.1.1
9-10 connect flags: will at QoS 0
10-12 keep alive: 0
12-15 client identifier: "a"
15-18 will topic: "w"
18-36 will payload: 16 bytes: 00 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d 0e 0f`},
	} {
		spans, _ := Annotate(unhex(t, tt.hex), tt.v)
		var got []string
		for _, s := range spans {
			got = append(got, fmt.Sprintf("%d-%d %s: %s", s.Start, s.End, s.Name, s.Value))
		}
		if text := strings.Join(got, "\n"); text != tt.want {
			t.Errorf("%s\n%s\nwant\n%s", tt.hex, text, tt.want)
		}
	}
	c := &Connect{Level: V5, ClientID: "x", HasPassword: true, Password: []byte("sesame"),
		Properties: Properties{Str(AuthMethod, "m"), Str(AuthData, "sesame")}}
	spans, err := Annotate(c.Append(nil, V5), V5)
	if err != nil {
		t.Fatal(err)
	}
	hidden := 0
	for _, s := range spans {
		if s.Secret {
			hidden += s.End - s.Start
		}
		if strings.Contains(s.Value, "sesame") || strings.Contains(s.Value, "73 65") {
			t.Errorf("a secret is shown: %+v", s)
		}
	}
	if hidden != 12 {
		t.Errorf("%d secret bytes, want 12", hidden)
	}
}

// FuzzDecode: nothing panics; what is read strictly is written and read again alike;
// lenient reading understands all that strict reading does; annotations stay inside.
// short holds what a reader tells of what it has at hand to what it reads.
func short(t *testing.T, b []byte, v Version) {
	held := func() *Reader {
		r := NewReader(bytes.NewReader(nil), v)
		r.Feed(copy(r.Room(), b), nil)
		return r
	}
	r, other := held(), held()
	whole, several, id := r.Whole(), r.Several(), r.Acked()
	p, _, err := other.Next()
	ack, is := p.(*Puback)
	if id != 0 && (err != nil || !is || ack.ID != id || ack.Code != 0 || len(ack.Properties) > 0) {
		t.Fatalf("% x was taken for PUBACK #%d; it is %+v (%v)", b, id, p, err)
	}
	if lost := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF); whole == lost && len(b) > 0 && b[0] != 0 {
		var broken *Error
		if !errors.As(err, &broken) {
			t.Fatalf("% x: whole %v, read with %v", b, whole, err)
		}
	}
	if id == 0 {
		r.Next()
	}
	p, raw, err := r.Next()
	again, same, erred := other.Next()
	if !bytes.Equal(raw, same) || fmt.Sprint(err) != fmt.Sprint(erred) || !reflect.DeepEqual(p, again) {
		t.Fatalf("% x goes on with % x (%v), and with % x (%v)", b, raw, err, same, erred)
	}
	if several && (errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)) {
		t.Fatalf("% x holds several packets; after one comes %v", b, err)
	}
}

func FuzzDecode(f *testing.F) {
	r := rand.New(rand.NewPCG(5, 6))
	f.Add([]byte{0x40, 2, 0, 7, 0x40, 2, 0, 8}, byte(V5))
	for range 40 {
		f.Add(randomPacket(r, V311).Append(nil, V311), byte(V311))
		f.Add(randomPacket(r, V5).Append(nil, V5), byte(V5))
	}
	f.Fuzz(func(t *testing.T, frame []byte, level byte) {
		v := []Version{V31, V311, V5}[level%3]
		short(t, frame, v)
		p, err := Decode(frame, v, Strict)
		spans, violation := Annotate(frame, v)
		if (err == nil) != (violation == nil) {
			t.Fatalf("strict says %v, annotation says %v", err, violation)
		}
		for _, s := range spans {
			if s.Start < 0 || s.End > len(frame) || s.Start > s.End {
				t.Fatalf("span %+v in %d bytes", s, len(frame))
			}
		}
		if err != nil {
			return
		}
		if c, ok := p.(*Connect); ok {
			v = c.Level
		}
		again, err := Decode(p.Append(nil, v), v, Strict)
		if err != nil || !reflect.DeepEqual(p, again) {
			t.Fatalf("% x read as %+v, read again as %+v (%v)", frame, p, again, err)
		}
	})
}

func BenchmarkPublish(b *testing.B) {
	for _, size := range []int{64, 64 << 10} {
		p := &Publish{QoS: 1, ID: 7, Topic: "marrowvoe/pen/1/oxygen", Payload: make([]byte, size)}
		frame := p.Append(nil, V311)
		dst := make([]byte, 0, len(frame))
		name := map[int]string{64: "64B", 64 << 10: "64KiB"}[size]
		b.Run("encode/"+name, func(b *testing.B) {
			for b.Loop() {
				dst = p.Append(dst[:0], V311)
			}
		})
		b.Run("copy/"+name, func(b *testing.B) {
			for b.Loop() {
				dst = append(dst[:0], frame...)
			}
		})
		b.Run("decode/"+name, func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if _, err := Decode(frame, V311, Strict); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run("clone/"+name, func(b *testing.B) {
			for b.Loop() {
				bytes.Clone(frame)
			}
		})
	}
}
