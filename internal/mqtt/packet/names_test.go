package packet

import (
	"strings"
	"testing"
)

func TestCodesAreNamedAsTheStandardsDo(t *testing.T) {
	for _, tt := range []struct {
		code   ReasonCode
		in     Type
		v      Version
		want   string
		failed bool
	}{
		{0, CONNACK, V311, "0 accepted", false}, {4, CONNACK, V311, "4 bad user name or password", true}, {5, CONNACK, V31, "5 not authorized", true},
		{6, CONNACK, V311, "6 not defined by the standard", true}, {0, CONNACK, V5, "0x00 success", false}, {0x86, CONNACK, V5, "0x86 bad user name or password", true},
		{0x9F, CONNACK, V5, "0x9F connection rate exceeded", true}, {1, SUBACK, V311, "0x01 granted QoS 1", false}, {0x80, SUBACK, V311, "0x80 refused", true},
		{0, SUBACK, V5, "0x00 granted QoS 0", false}, {2, SUBACK, V5, "0x02 granted QoS 2", false}, {0x8F, SUBACK, V5, "0x8F topic filter invalid", true},
		{0, DISCONNECT, V5, "0x00 normal disconnection", false}, {4, DISCONNECT, V5, "0x04 disconnect with will message", false},
		{0x8E, DISCONNECT, V5, "0x8E session taken over", true}, {0x10, PUBACK, V5, "0x10 no matching subscribers", false},
		{0x92, PUBCOMP, V5, "0x92 packet identifier not found", true}, {0x11, UNSUBACK, V5, "0x11 no subscription existed", false},
		{0x18, AUTH, V5, "0x18 continue authentication", false}, {0x7F, PUBACK, V5, "0x7F not defined by the standard", false},
	} {
		got := tt.code.Code(tt.in, tt.v) + " " + tt.code.In(tt.in, tt.v)
		if got != tt.want || tt.code.Failed(tt.in, tt.v) != tt.failed {
			t.Errorf("%s in %s of %s: %q, failed %v", tt.want, tt.in, tt.v, got, tt.code.Failed(tt.in, tt.v))
		}
	}
	// Each code that a packet may carry has a name (5.0 table 2-6), and no other passes.
	for typ, codes := range allowedCodes {
		for c := range 256 {
			r := ReasonCode(c)
			if allowed := strings.Contains(codes, string([]byte{byte(c)})); allowed != r.allowedIn(typ, V5) {
				t.Errorf("%#x in %s: allowed %v", c, typ, r.allowedIn(typ, V5))
			} else if allowed && r.In(typ, V5) == "not defined by the standard" {
				t.Errorf("%#x in %s has no name", c, typ)
			}
		}
	}
}

func TestVersionsAndTypesAreNamed(t *testing.T) {
	for s, v := range map[string]Version{"3.1": V31, "3.1.1": V311, "5": V5, "5.0": V5} {
		if got, err := ParseVersion(s); got != v || err != nil {
			t.Errorf("%s: %v %v", s, got, err)
		}
		if v.String() != strings.TrimSuffix(s, ".0") {
			t.Errorf("%s is written %s", s, v)
		}
	}
	if _, err := ParseVersion("4"); err == nil || !strings.Contains(err.Error(), "use 3.1, 3.1.1 or 5") {
		t.Error(err)
	}
	if s := Version(99).String(); s != "level 99" {
		t.Error(s)
	}
	seen := map[string]bool{}
	for typ := Type(0); typ < 16; typ++ {
		seen[typ.String()] = true
	}
	if len(seen) != 16 {
		t.Errorf("%d names for 16 types", len(seen))
	}
}

func TestPropertiesAreShownAndFound(t *testing.T) {
	ps := Properties{User("k", "v"), Int(ReceiveMaximum, 20), Str(ReasonString, "because"), Str(CorrelationData, "\x01\xff"), Str(AuthData, "sesame"), User("k", "w")}
	var shown []string
	for _, p := range ps {
		shown = append(shown, p.ID.String()+" "+p.Show())
	}
	want := `user property "k" = "v"; receive maximum 20; reason string "because"; correlation data 01 ff; authentication data •••; user property "k" = "w"`
	if got := strings.Join(shown, "; "); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if n, ok := ps.Int(ReceiveMaximum); n != 20 || !ok || ps.IntOr(TopicAlias, 7) != 7 {
		t.Error(n, ok)
	}
	if s, ok := ps.Str(ReasonString); s != "because" || !ok {
		t.Error(s, ok)
	}
	if _, ok := ps.Str(ContentType); ok {
		t.Error("a property that is not there")
	}
	n := 0
	for p := range ps.All(UserProperty) {
		if n++; p.Value == "v" {
			continue
		}
		break
	}
	if rest := ps.Without(UserProperty, AuthData); n != 2 || len(rest) != 3 || len(ps) != 6 {
		t.Errorf("%d user properties, %d others", n, len(rest))
	}
	if s := PropertyID(0x7f).String(); s != "property 0x7F" {
		t.Error(s)
	}
}

// TestLongFieldsAreCut: a field longer than its length can tell does not corrupt the
// rest of the packet.
func TestLongFieldsAreCut(t *testing.T) {
	long := strings.Repeat("x", 70_000)
	p := &Connect{ClientID: long, CleanStart: true, HasUsername: true, Username: long, HasPassword: true, Password: []byte(long),
		Will: &Will{Topic: "w", Payload: []byte(long)}}
	got, err := Decode(p.Append(nil, V311), V311, Strict)
	if err != nil {
		t.Fatal(err)
	}
	c := got.(*Connect)
	for name, n := range map[string]int{"client id": len(c.ClientID), "user name": len(c.Username), "password": len(c.Password), "will": len(c.Will.Payload)} {
		if n != maxField {
			t.Errorf("%s of %d bytes", name, n)
		}
	}
}
