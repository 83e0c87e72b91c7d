package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// told writes all findings and doors of a report, one to a line.
func told(rep *Report) string {
	var b strings.Builder
	for _, r := range rep.Results {
		for _, f := range r.Findings {
			fmt.Fprintf(&b, "%s: %s: %s\n", r.Target.Name, f.Severity, f.What)
		}
		for _, d := range r.Doors {
			fmt.Fprintf(&b, "%s: door %s: %s (accepted: %s)\n", r.Target.Name, d.Name, d.What, d.Accepted)
		}
	}
	for _, f := range rep.Findings {
		fmt.Fprintf(&b, "all: %s: %s\n", f.Severity, f.What)
	}
	return b.String()
}

func TestAttemptsAreSeenTogether(t *testing.T) {
	kit, err := trust.NewKit("pen-1", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	cas := []*x509.Certificate{kit.Root()}
	s := broker(t, standin.Options{Logins: []standin.Login{{Name: "pen-1", Password: secretWord, Publish: []string{"pen/1/#"}, Subscribe: []string{"pen/1/#", "hodstone/#"}}, {Name: "shore", Password: secretWord}}}, &tls.Config{Certificates: []tls.Certificate{kit.Server}}, "mqtt://127.0.0.1:0", "mqtts://127.0.0.1:0")
	open := broker(t, standin.Options{Anonymous: true}, nil, "mqtt://127.0.0.1:0")[0]
	v6 := broker(t, standin.Options{Anonymous: true}, nil, "mqtt://[::1]:0")[0]
	_, port6, _ := net.SplitHostPort(strings.TrimPrefix(v6, "mqtt://"))
	closed, _ := net.Listen("tcp", "127.0.0.3:0")
	closed.Close()
	no := false
	second := netip.MustParseAddr("127.0.0.2")
	rep := Run(context.Background(), []Target{
		{Name: "quay/tcp", URL: s[0], Login: login("shore", secretWord), Anonymous: &no, Intrusive: true, Logins: []*workspace.Login{login("pen-1", secretWord), login("shore", secretWord)}},
		{Name: "quay/tls", URL: s[1], CAs: cas, Login: login("shore", secretWord)},
		{Name: "pier/tcp", URL: open, Anonymous: &no, Accepted: map[string]string{"anonymous": "until the trial run is over"}},
		{Name: "both/tcp", URL: "mqtt://both.test:" + port6},
		{Name: "barge/old", URL: "mqtt://" + closed.Addr().String(), Users: []string{"device feeder", "login barge"}},
		{Name: "barge/older", URL: "mqtt://127.0.0.3:1"},
		{Name: "pier/old", URL: "mqtt://127.0.0.4:1"},
	}, Options{Own: func() []netip.Addr { return []netip.Addr{second} }, Wait: DefaultWait, Resolver: names{"both.test": {"127.0.0.1", "::1"}}})
	got := told(rep)
	for _, want := range []string{
		"quay/tcp: worry: the broker listens on loopback only: in from 127.0.0.1, port-closed at 127.0.0.2",
		"quay/tcp: note: authentication is on: refused without a login, in with one",
		"quay/tcp: worry: a password went over a plain link to 127.0.0.1:",
		"quay/tcp: door plain: a plain listener stands beside a TLS one: quay/tcp (accepted: )",
		"quay/tcp: door everything: may read and publish everything: shore (accepted: )",
		"pier/tcp: door anonymous: clients without credentials get in, and may read and publish everything (accepted: until the trial run is over)",
		"pier/tcp: broken: no login: let in, which was not intended",
		"both/tcp: worry: the broker listens on IPv6 only: in at ::1, not at 127.0.0.1",
		"all: broken: nobody gets in at 127.0.0.3: barge/old, barge/older still name it; it is used by device feeder, login barge",
		"all: broken: the broker is in at 127.0.0.1, and nobody gets in at 127.0.0.4: pier/old still name the old address",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("not found: %q in\n%s", want, got)
		}
	}
	if strings.Contains(got, "quay/tls: worry: a password") || strings.Contains(got, "quay/tls: door plain") {
		t.Errorf("the TLS listener is taken for a plain one:\n%s", got)
	}
	quay := &rep.Results[0]
	if len(quay.Answers) != 3 || quay.Answers[2].Who != "wrong password" || quay.Answers[2].In || !strings.Contains(quay.Answers[2].Seen, "0x86") {
		t.Errorf("answers: %+v", quay.Answers)
	}
	if quay.Took <= 0 || quay.Took > time.Minute {
		t.Errorf("it took %v", quay.Took)
	}
	if quay.Ping <= 0 || len(quay.Versions) != 2 || !quay.Versions[0].In || !quay.Versions[1].In {
		t.Errorf("ping %v, versions %+v", quay.Ping, quay.Versions)
	}
	if n := len(quay.Events); n < 50 {
		t.Errorf("only %d events are kept as evidence", n)
	}
	if all := fmt.Sprintf("%+v", rep); strings.Contains(all, secretWord) {
		t.Error("the password shows in the report")
	}
}

func grants(r *Result) map[string]Grant {
	out := map[string]Grant{}
	for _, g := range r.Grants {
		out[g.Name] = g
	}
	return out
}

func TestWhatIsGrantedIsFound(t *testing.T) {
	one := packet.QoS(1)
	u := broker(t, standin.Options{Anonymous: true, Limits: standin.Limits{MaximumQoS: &one, ReceiveMaximum: 7, ServerKeepAlive: 12, NoRetained: true, NoShared: true, MaximumPacketSize: 4096, NoEmptyClientID: true}}, nil, "mqtt://127.0.0.1:0")[0]
	sound := broker(t, standin.Options{Anonymous: true}, nil, "mqtt://127.0.0.1:0")[0]
	short := broker(t, standin.Options{Anonymous: true, Limits: standin.Limits{ClientID: regexp.MustCompile(`^.{0,40}$`)}}, nil, "mqtt://127.0.0.1:0")[0]
	ruled := broker(t, standin.Options{Anonymous: true, Limits: standin.Limits{ClientID: regexp.MustCompile(`^pen-\d$`)}}, nil, "mqtt://127.0.0.1:0")[0]
	rep := Run(context.Background(), []Target{{Name: "a", URL: u}, {Name: "b", URL: sound}, {Name: "c", URL: short}, {Name: "d", URL: ruled, ClientID: "pen-7"}}, Options{Wait: DefaultWait, Own: func() []netip.Addr { return nil }})
	got, full := grants(&rep.Results[0]), grants(&rep.Results[1])
	for name, want := range map[string]string{"maximum QoS": "1", "receive maximum": "7", "keep alive": "12 s", "retained messages": "not available", "shared subscriptions": "not available",
		"maximum packet size": "4 KiB", "wildcards": "available", "empty client identifier (3.1.1)": "refused", "QoS of a subscription (3.1.1)": "1"} {
		if got[name].Granted != want {
			t.Errorf("%s: granted %q, want %q", name, got[name].Granted, want)
		}
		if less := want != "available" && name != "empty client identifier (3.1.1)"; got[name].Less != less {
			t.Errorf("%s: less %v", name, got[name].Less)
		}
	}
	for name, want := range map[string]string{"maximum QoS": "2 (not said)", "kept session (3.1.1)": "kept", "retained messages (3.1.1)": "kept", "empty client identifier (3.1.1)": "taken", "QoS of a subscription (3.1.1)": "2",
		"client identifier (3.1.1)": "1024+ characters"} {
		if full[name].Granted != want || full[name].Less {
			t.Errorf("a sound broker, %s: %+v, want %q", name, full[name], want)
		}
	}
	if g := grants(&rep.Results[2])["client identifier (3.1.1)"]; g.Granted != "40 characters" || g.Less {
		t.Errorf("a limit of 40: %+v", g)
	}
	got = grants(&rep.Results[3])
	if g := got["client identifier (3.1.1)"]; !strings.Contains(g.Granted, "has a rule") || got["kept session (3.1.1)"].Granted != "kept" || !rep.Results[3].In() {
		t.Errorf("a broker with a rule: %+v", rep.Results[3].Grants)
	}
}

// TestReachLeavesNothingBehind: no session, no retained message, no client.
func TestReachLeavesNothingBehind(t *testing.T) {
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	rep := Run(context.Background(), []Target{{Name: "x", URL: "mqtt://" + addr.String(), Logins: []*workspace.Login{login("pen-1", secretWord)}}}, Options{Wait: DefaultWait, Own: func() []netip.Addr { return nil }})
	if !rep.Results[0].In() || len(rep.Results[0].Grants) < 12 {
		t.Fatalf("%+v", rep.Results[0])
	}
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		left := s.Clients()
		if len(left) == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("left behind: %+v", left)
		}
	}
	c := client.New(client.Options{Dial: s.Dial, Version: packet.V5, Connect: packet.Connect{ClientID: "eyes", CleanStart: true}, Message: func(m *packet.Publish) { t.Errorf("stored: %+v", m) }})
	if _, err := c.Connect(context.Background()); err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.Subscribe(context.Background(), []packet.Subscription{{Filter: "#", QoS: 1}})
	c.Ping(context.Background())
}

func TestARealBrokerIsReachedAndDiagnosed(t *testing.T) {
	b := brokertest.Start(t, brokertest.Options{Lines: "max_connections 200\n"})
	right := login(brokertest.Username, brokertest.Password)
	withCertificate := *right
	withCertificate.Certificate = &b.Client
	cas := b.CAs
	other, err := trust.NewAuthority("elsewhere")
	if err != nil {
		t.Fatal(err)
	}
	foreign := *right
	c, err := other.Issue(trust.Request{CommonName: brokertest.Username})
	if err != nil {
		t.Fatal(err)
	}
	foreign.Certificate = &c
	revoked := *right
	revoked.Certificate = &b.Revoked
	wss, tcp, secure := b.URLs["wss"], b.URLs["tcp"], b.URLs["tls"]
	needs := b.URLs["tls with client certificate"]
	as := func(u, from, to string) string { return strings.Replace(u, from, to, 1) }
	for _, row := range []struct {
		what  string
		t     Target
		cause Cause // "" for in
	}{
		{"tcp", Target{URL: tcp, Login: right}, ""},
		{"tls", Target{URL: secure, Login: right}, ""},
		{"ws", Target{URL: b.URLs["ws"], Login: right}, ""},
		{"wss", Target{URL: wss, Login: right}, ""},
		{"3.1", Target{URL: tcp, Login: right, Versions: []packet.Version{packet.V31}}, ""},
		{"client certificate", Target{URL: needs, Login: &withCertificate}, ""},
		{"no client certificate", Target{URL: needs, Login: right}, ClientCertWanted},
		{"a stranger's client certificate", Target{URL: needs, Login: &foreign}, ClientCertCA},
		{"a revoked client certificate", Target{URL: needs, Login: &revoked}, ClientCertRevoke},
		{"no login", Target{URL: secure}, LoginWanted},
		{"wrong password", Target{URL: secure, Login: login(brokertest.Username, "wrong")}, NotAuthorised},
		{"unknown CA", Target{URL: secure, Login: right, CAs: []*x509.Certificate{other.Root()}}, CertUnknownCA},
		{"wrong name", Target{URL: secure, Login: right, ServerName: "quay.test"}, CertWrongName},
		{"plain to TLS", Target{URL: as(secure, "mqtts", "mqtt"), Login: right}, PlainToTLS},
		{"TLS to plain", Target{URL: as(tcp, "mqtt", "mqtts"), Login: right}, TLSToPlain},
		{"WebSocket to MQTT", Target{URL: as(tcp, "mqtt", "ws") + "/mqtt", Login: right}, WebSocketToMQTT},
		{"MQTT to WebSocket", Target{URL: strings.TrimSuffix(as(b.URLs["ws"], "ws", "mqtt"), "/mqtt"), Login: right}, MQTTToWebSocket},
		{"WebSocket to TLS WebSocket", Target{URL: as(wss, "wss", "ws"), Login: right}, PlainToTLS},
	} {
		t.Run(row.what, func(t *testing.T) {
			row.t.Name = row.what
			if row.t.CAs == nil {
				row.t.CAs = cas
			}
			rep := Run(context.Background(), []Target{row.t}, Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait})
			r := &rep.Results[0]
			d := r.Diagnosis()
			switch {
			case row.cause == "" && d != nil:
				t.Errorf("not in: %+v", d)
			case row.cause != "" && (d == nil || d.Cause != row.cause):
				t.Errorf("want %s, got %+v", row.cause, d)
			case row.cause == "" && (len(r.Grants) == 0 || r.Ping == 0):
				t.Errorf("nothing was found out: %+v", r)
			}
			if row.what == "client certificate" && !slices.ContainsFunc(r.Answers, func(a Answer) bool { return a.Who == NoLogin && !a.In }) {
				t.Errorf("who comes without a certificate: %+v", r.Answers)
			}
			if strings.Contains(fmt.Sprintf("%+v", rep), brokertest.Password) {
				t.Error("the password shows")
			}
		})
	}
}

// TestGrantsOfARealBroker: limits that it says, limits that only a try shows, and a rule for
// client identifiers.
func TestGrantsOfARealBroker(t *testing.T) {
	small := brokertest.Start(t, brokertest.Options{Anonymous: true, Listener: "max_qos 0\nmax_topic_alias 3\n", Lines: "retain_available false\nmax_keepalive 20\nmax_packet_size 20000\n"})
	ruled := brokertest.Start(t, brokertest.Options{Anonymous: true, Lines: "clientid_prefixes pen-\n"})
	rep := Run(context.Background(), []Target{{Name: "small", URL: small.URLs["tcp"]}, {Name: "ruled", URL: ruled.URLs["tcp"], ClientID: "pen-7"}, {Name: "made up", URL: ruled.URLs["tcp"]}}, Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait})
	// How many it takes depends on whether it has seen those leave who waited for it to listen.
	capped := brokertest.Start(t, brokertest.Options{Anonymous: true, Listener: "max_connections 2\n"}).URLs["tcp"]
	for n := 0; ; n++ {
		c := client.New(client.Options{Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, capped) }, Version: packet.V311, Connect: packet.Connect{ClientID: fmt.Sprint("pen", n), CleanStart: true}})
		if _, err := c.Connect(context.Background()); err != nil {
			break
		}
		defer c.Close()
		if n > 8 {
			t.Fatal("the broker has no limit of connections")
		}
	}
	full := Run(context.Background(), []Target{{Name: "capped", URL: capped}}, Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait})
	if d := full.Results[0].Diagnosis(); d == nil || d.Cause != ClosedOnAccept || !strings.Contains(d.Remedy, "limit of connections") {
		t.Errorf("a limit of connections: %+v", d)
	}
	got := grants(&rep.Results[0])
	for name, want := range map[string]string{"maximum QoS": "0", "topic aliases": "3", "retained messages": "not available", "keep alive": "20 s", "maximum packet size": "20000 bytes", "QoS of a subscription (3.1.1)": "0",
		"retained messages (3.1.1)": "refused: the broker ends the link", "kept session (3.1.1)": "kept", "client identifier (3.1.1)": "1024+ characters", "receive maximum": "20"} {
		if got[name].Granted != want {
			t.Errorf("%s: granted %q, want %q", name, got[name].Granted, want)
		}
	}
	if got = grants(&rep.Results[1]); !strings.Contains(got["client identifier (3.1.1)"].Granted, "has a rule") || got["kept session (3.1.1)"].Granted != "kept" || got["retained messages (3.1.1)"].Granted != "kept" {
		t.Errorf("a rule for client identifiers: %+v", rep.Results[1].Grants)
	}
	// It refuses by "not authorized", so that the cause cannot be known; the remedy names both.
	if d := rep.Results[2].Diagnosis(); d == nil || d.Cause != LoginWanted || !strings.Contains(d.Remedy, "rule for client identifiers") {
		t.Errorf("a made-up identifier: %+v", d)
	}
}

// TestARealBrokerThatWantsASharedKey: TLS without certificates, as small devices have it.
func TestARealBrokerThatWantsASharedKey(t *testing.T) {
	keys := filepath.Join(t.TempDir(), "keys")
	if err := os.WriteFile(keys, []byte("pen-1:0123456789abcdef\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b := brokertest.Start(t, brokertest.Options{Anonymous: true, Lines: "psk_file " + keys + "\n", Listener: "psk_hint marrow voe\n"})
	u := strings.Replace(b.URLs["tcp"], "mqtt", "mqtts", 1)
	r := Run(context.Background(), []Target{{Name: "quay", URL: u}}, Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait}).Results[0]
	if d := r.Diagnosis(); d == nil || d.Cause != TLSPSK || !strings.Contains(d.Seen, "PSK_WITH_") {
		t.Errorf("%+v", d)
	}
	host := strings.TrimPrefix(u, "mqtts://")
	dial := func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", host)
	}
	if s := trust.Look(context.Background(), trust.SurveyOptions{Host: "127.0.0.1", Dial: dial}); s.Err == nil || !strings.Contains(s.Err.Error(), "TLS-PSK") {
		t.Errorf("%v", s.Err)
	}
	if _, wants := trust.WantsPSK(context.Background(), func(ctx context.Context) (net.Conn, error) {
		return net.Dial("tcp", raw(t, "127.0.0.1:0", banner("SSH-2.0-x\r\n")))
	}, "", time.Second); wants {
		t.Error("an SSH server wants a shared key")
	}
}

// TestRightsOfARealBroker: it grants a subscription to everything to whoever asks, and delivers
// only what its file of rights allows.
func TestRightsOfARealBroker(t *testing.T) {
	b := brokertest.Start(t, brokertest.Options{Users: []string{"pen-1", "barge", "shore", "desk"}, Rights: "user bench\ntopic readwrite #\n\nuser pen-1\ntopic readwrite pen/1/#\n\nuser barge\ntopic write #\n\nuser shore\ntopic read #\n\nuser desk\ntopic readwrite #\n"})
	var all []*workspace.Login
	for _, name := range []string{"pen-1", "barge", "shore", "desk"} {
		all = append(all, login(name, brokertest.Password))
	}
	try := func(as *workspace.Login, v packet.Version) *Result {
		return &Run(context.Background(), []Target{{Name: "quay/tcp", URL: b.URLs["tcp"], Versions: []packet.Version{v}, Login: as, Logins: all}}, Options{Own: func() []netip.Addr { return nil }, Wait: DefaultWait}).Results[0]
	}
	for _, v := range []packet.Version{packet.V5, packet.V311} {
		r := try(login(brokertest.Username, brokertest.Password), v)
		want := []Rights{{Login: "pen-1", Granted: true}, {Login: "barge", Granted: true, Writes: true}, {Login: "shore", Granted: true, Reads: true}, {Login: "desk", Granted: true, Reads: true, Writes: true}}
		if !slices.Equal(r.Rights, want) {
			t.Errorf("%s: rights %v", v, r.Rights)
		}
		doors := fmt.Sprint(r.Doors)
		if want := "may read and publish everything: desk; may read everything: shore; may publish on any topic: barge"; !strings.Contains(doors, want) {
			t.Errorf("%s: doors %s", v, doors)
		}
	}
	// Compared with a login that may do little, nothing can be said of what does not arrive.
	all = all[:1]
	if r := try(login("pen-1", brokertest.Password), packet.V5); len(r.Doors) != 0 || len(r.Rights) != 1 || !strings.Contains(r.Rights[0].Unknown, "could not be tried") {
		t.Errorf("%+v, %+v", r.Doors, r.Rights)
	}
}

// TestANetworkWithoutARoute dials in a network namespace that has none. Where the system
// does not permit one, the diagnosis is made of the error alone.
func TestANetworkWithoutARoute(t *testing.T) {
	done := make(chan Result)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		if err := syscall.Unshare(syscall.CLONE_NEWNET); err != nil {
			r := runner{o: Options{Own: ownAddresses, Wait: testWait}}
			done <- Result{Ways: []Way{{Diagnosis: r.tcpDiagnosis("10.0.0.7:1883", &net.OpError{Op: "dial", Err: syscall.ENETUNREACH})}}}
			return
		}
		r := runner{o: Options{Own: func() []netip.Addr { return nil }, Wait: testWait, Now: time.Now}, target: Target{Name: "x", URL: "mqtt://10.0.0.7:1883"}}
		done <- r.run(context.Background())
	}()
	r := <-done
	if d := r.Diagnosis(); d == nil || d.Cause != NetUnreachable || !strings.Contains(d.Remedy, "VPN") {
		t.Errorf("%+v", d)
	}
}
