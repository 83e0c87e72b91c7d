package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

var nowhereElse = Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait}

// TestRightsAreToldApart: what a login may do, and what the login that it is compared with lets be
// known of it.
func TestRightsAreToldApart(t *testing.T) {
	own := []string{"pen/1/#"}
	s := []standin.Login{{Name: "all", Password: secretWord}, {Name: "reader", Password: secretWord, Publish: own}, {Name: "writer", Password: secretWord, Subscribe: own},
		{Name: "own", Password: secretWord, Publish: own, Subscribe: own}, {Name: "bench", Password: secretWord}, {Name: "mute", Password: secretWord, Publish: own, Subscribe: own}}
	u := broker(t, standin.Options{Logins: s}, nil, "mqtt://127.0.0.1:0")[0]
	var logins []*workspace.Login
	for _, name := range []string{"all", "reader", "writer", "own"} {
		logins = append(logins, login(name, secretWord))
	}
	logins = append(logins, login("own", "wrong"))
	for control, want := range map[string][]string{
		"bench": {"may read everything; may publish on any topic", "may read everything; may not publish on any topic", "may not subscribe to everything; may publish on any topic",
			"may not subscribe to everything; may not publish on any topic", "not found out: it does not get in: "},
		// It publishes nothing that others could read, and reads nothing that others publish; one who may do all shows it by itself.
		"mute": {"may read everything; may publish on any topic", "may read everything; may not publish on any topic", "may not subscribe to everything; may publish on any topic",
			"may not subscribe to everything; may not publish on any topic", "not found out: it does not get in: "},
	} {
		r := Run(context.Background(), []Target{{Name: "quay/tcp", URL: u, Login: login(control, secretWord), Logins: logins}}, nowhereElse).Results[0]
		if len(r.Rights) != len(want) {
			t.Fatalf("against %s: %v", control, r.Rights)
		}
		for i, x := range r.Rights {
			if !strings.HasPrefix(x.String(), want[i]) {
				t.Errorf("against %s, %s: %s, want %s", control, x.Login, x, want[i])
			}
		}
		if door := OpenDoors([]*Result{&r}); len(door) != 1 || door[0].What != "may read and publish everything: all; may read everything: reader; may publish on any topic: writer" {
			t.Errorf("against %s: doors %+v", control, door)
		}
	}
	// Alone with one who may do as little, nothing is known of what goes out in 3.1.1, which has no word for a refusal.
	r := Run(context.Background(), []Target{{Name: "quay/tcp", URL: u, Login: login("mute", secretWord), Logins: logins[3:4], Versions: []packet.Version{packet.V311}}}, nowhereElse).Results[0]
	if len(r.Rights) != 1 || r.Rights[0].Reads || r.Rights[0].Writes || len(OpenDoors([]*Result{&r})) != 0 {
		t.Errorf("%+v", r.Rights)
	}
}

// TestRightsOfWhoComesByCertificate: such a login may have no name.
func TestRightsOfWhoComesByCertificate(t *testing.T) {
	kit, err := trust.NewKit("pen-1", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	config := &tls.Config{Certificates: []tls.Certificate{kit.Server}, ClientAuth: tls.VerifyClientCertIfGiven, ClientCAs: kit.Pool()}
	u := broker(t, standin.Options{Logins: []standin.Login{{Name: "pen-1"}}}, config, "mqtts://127.0.0.1:0")[0]
	own := &workspace.Login{Certificate: &kit.Client}
	r := Run(context.Background(), []Target{{Name: u, URL: u, CAs: []*x509.Certificate{kit.Root()}, Login: own, Logins: []*workspace.Login{own}}}, nowhereElse).Results[0]
	if !r.In() || len(r.Rights) != 1 || r.Rights[0].Login != "this login" || !r.Rights[0].Reads || !r.Rights[0].Writes {
		t.Errorf("%+v, %+v", r.Rights, r.Diagnosis())
	}
	if a := r.Answers; len(a) != 2 || a[1].Who != NoLogin || a[1].In {
		t.Errorf("answers %+v", a)
	}
}

// TestDoorsOfABroker: none found is not the same as nobody could look.
func TestDoorsOfABroker(t *testing.T) {
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	tight := broker(t, standin.Options{Logins: []standin.Login{{Name: "bench", Password: secretWord}}}, nil, "mqtt://127.0.0.1:0")[0]
	open := broker(t, standin.Options{Anonymous: true}, nil, "mqtt://127.0.0.1:0")[0]
	if got := Doors(context.Background(), []Target{{Name: "quay/tcp", URL: "mqtt://" + closed.Addr().String()}}, Options{}); got != nil {
		t.Errorf("doors of a broker that nobody reaches: %+v", got)
	}
	if got := Doors(context.Background(), []Target{{Name: "quay/tcp", URL: tight, Login: login("bench", secretWord)}}, Options{}); got == nil || len(got) != 0 {
		t.Errorf("doors of a broker without any: %+v", got)
	}
	if got := Doors(context.Background(), []Target{{Name: "quay/tcp", URL: open}}, Options{}); len(got) != 1 || got[0].Name != workspace.DoorAnonymous || got[0].What != "clients without credentials get in, and may read and publish everything" {
		t.Errorf("doors of an open broker: %+v", got)
	}
}

// TestEveryCodeIsWorded: none of the standard's codes for CONNACK is left to be looked up.
func TestEveryCodeIsWorded(t *testing.T) {
	standard := []packet.ReasonCode{0x80, 0x81, 0x82, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x8C, 0x90, 0x95, 0x97, 0x99, 0x9A, 0x9B, 0x9C, 0x9D, 0x9F} // 5.0 §3.2.2.2
	for code := packet.ReasonCode(0x80); code != 0; code++ {
		d := refused(code, packet.V5, true, "", "")
		if d.What == "" || d.Remedy == "" || d.Seen == "" {
			t.Errorf("0x%02X: %+v", byte(code), d)
		}
		if told := d.Cause != UnknownCode; told != slices.Contains(standard, code) {
			t.Errorf("0x%02X is worded as of the standard: %v", byte(code), told)
		}
	}
	for code := packet.ReasonCode(1); code <= 5; code++ { // brokers without version 5 answer so in it too
		if a, b := refused(code, packet.V311, true, "", ""), refused(code, packet.V5, true, "", ""); a.Cause != b.Cause || a.Cause == UnknownCode {
			t.Errorf("%d: %s in 3.1.1, %s in 5", code, a.Cause, b.Cause)
		}
	}
}

// TestWhatOnlyLooksLikeATable: a password may hold any mark at all.
func TestWhatOnlyLooksLikeATable(t *testing.T) {
	for line, want := range map[string]string{
		"MQTT_PASSWORD=a,b;c=d,e": "a,b;c=d,e", "password: port,user,host": "port,user,host", "Password = (host=1,port=2)": "(host=1,port=2)", "pass: a|b|c": "a|b|c", "secret=x; // not this": "x", "pwd: 'a # b'": "a # b", `pwd = "a //b" # of old`: "a //b",
	} {
		d, err := Paste("host: quay\n" + line)
		if err != nil || d.Password.Reveal() != want || d.URL != "mqtt://quay" {
			t.Errorf("%q: %q at %s, %v", line, d.Password.Reveal(), d.URL, err)
		}
	}
}

// TestBinsKeepToTheirTime: what lies outside is left out, and nothing is no time.
func TestBinsKeepToTheirTime(t *testing.T) {
	at := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	s := Stay{Samples: []Sample{{At: at.Add(-time.Second), RTT: 9}, {At: at, RTT: 1}, {At: at.Add(10 * time.Second), RTT: 3}, {At: at.Add(11 * time.Second), RTT: 9}},
		Gaps: []Gap{{From: at.Add(-time.Minute), To: at.Add(-time.Second)}, {From: at.Add(4 * time.Second)}, {Purpose: "cut"}}}
	want := []Bin{{Pings: 1, RTT: 1}, {}, {Out: true}, {Out: true}, {Pings: 1, RTT: 3, Out: true}}
	if got := s.Bins(at, at.Add(10*time.Second), 5); !slices.Equal(got, want) {
		t.Errorf("%+v", got)
	}
	if got := s.Bins(at, at, 3); !slices.Equal(got, make([]Bin, 3)) || len(s.Bins(at, at.Add(time.Second), 0)) != 0 {
		t.Errorf("no time: %+v", got)
	}
}
