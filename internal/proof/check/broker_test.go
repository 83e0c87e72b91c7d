package check_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

func over(url string, config *tls.Config, cas []*x509.Certificate, standIn bool) proof.Target {
	refused := false
	endpoint, err := link.Parse(url)
	if err != nil {
		panic(err)
	}
	dial := func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url, link.Options{TLS: config}) }
	login := &workspace.Login{
		Username:    brokertest.Username,
		Password:    workspace.NewSecret(brokertest.Password),
		HasPassword: true,
	}
	way := &proof.Way{Endpoint: endpoint, CAs: cas}
	if endpoint.TLS {
		way.TLS = config
	}
	return proof.Target{
		Broker:    "broker",
		Listener:  url,
		StandIn:   standIn,
		Intrusive: true,
		Anonymous: &refused,
		Dial:      dial,
		Login:     login,
		Limited:   prooftest.Guest(),
		Way:       way,
	}
}

// TestARealBrokerKeepsEverything: what is not kept here belongs into docs/deviations.md,
// with its evidence.
func TestARealBrokerKeepsEverything(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Users: []string{"guest"},
		Rights: "user bench\ntopic readwrite #\ntopic read $SYS/#\nuser guest\ntopic readwrite guest/#\n"})
	before := runtime.NumGoroutine()
	var wg sync.WaitGroup // on all listeners side by side: most of it is waiting
	for name, url := range broker.URLs {
		wg.Go(func() { keepsEverything(t, broker, name, url) })
	}
	wg.Wait()
	for end := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			buf := make([]byte, 1<<16)
			t.Fatalf(
				"%d goroutines are left, %d before\n%s",
				runtime.NumGoroutine(),
				before,
				buf[:runtime.Stack(buf, true)],
			)
		}
	}
}

func keepsEverything(t *testing.T, broker *brokertest.Broker, name, url string) {
	config := &tls.Config{RootCAs: broker.CA}
	if strings.HasSuffix(name, "certificate") {
		if l, err := link.Dial(context.Background(), url, link.Options{TLS: config.Clone()}); err == nil {
			// In TLS 1.3 the refusal comes with the first read.
			if _, err := l.Read(make([]byte, 1)); err == nil {
				t.Errorf("%s: in without a certificate", name)
			}
			l.Close()
		}
		config.Certificates = []tls.Certificate{broker.Client}
	}
	target := over(url, config, broker.CAs, false)
	if required := true; len(config.Certificates) > 0 {
		target.Way.ClientRequired, target.Login.Certificate = &required, &broker.Client
	}
	for other, at := range broker.URLs {
		if at != url {
			target.Doors = append(
				target.Doors,
				proof.Door{Name: other, Dial: func(ctx context.Context) (*link.Link, error) {
					return link.Dial(
						ctx,
						at,
						link.Options{
							TLS: &tls.Config{RootCAs: broker.CA, Certificates: []tls.Certificate{broker.Client}},
						},
					)
				}},
			)
		}
	}
	p, err := proof.Run(context.Background(), target, proof.Options{Checks: check.All()})
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	for _, r := range p.Results {
		untold := r.Verdict == proof.Unsupported && r.Check.Name == "keepalive.server-value" // this broker tells none
		if prooftest.Deviates(&r, nil) || r.Verdict == proof.Skipped && elsewhere(&r, target.Way) {
			continue
		}
		if r.Verdict != proof.Kept && !untold && !(r.Verdict == proof.Skipped && r.Check.Section(r.Version) == "") {
			t.Errorf(
				"%s, %s in %s: %s: expected %s, saw %s %v",
				name,
				r.Check.Name,
				r.Version,
				r.Verdict,
				r.Expected,
				r.Seen,
				r.Notes,
			)
			for i := range r.Evidence {
				t.Logf("  %s %s", r.Evidence[i].Client, r.Evidence[i].Describe())
			}
		}
	}
	prooftest.Results(t, p, true)
}

// elsewhere tells whether a check is for another kind of listener, or was carried out in another version.
func elsewhere(r *proof.Result, w *proof.Way) bool {
	switch r.Check.Family() {
	case "restart":
		return true // held to it by TestRestartsOfARealBroker
	case "contract":
		return true // held to it by TestTheContractAtARealBroker
	case "ws":
		return !w.Endpoint.WebSocket
	case "tls":
		return r.Version != packet.V31 || w.TLS == nil && r.Check.Name != "tls.plain-refused" ||
			w.ClientRequired == nil && r.Check.Name == "tls.client-required"
	}
	return false
}

// TestFaultsOverSockets samples the matrix on real links: resets and closes look
// different there.
func TestFaultsOverSockets(t *testing.T) {
	if testing.Short() {
		t.Skip("sockets know no fake clock: not in a short run")
	}
	authority, err := trust.NewAuthority("test")
	if err != nil {
		t.Fatal(err)
	}
	ours, err := authority.Issue(trust.Request{CommonName: "bench"})
	if err != nil {
		t.Fatal(err)
	}
	old, err := authority.Issue(trust.Request{CommonName: "bench", Expired: true})
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup // side by side: most of it is waiting
	for _, tt := range []struct {
		scheme, fault, pattern string
		broken                 string
	}{
		{"mqtt", "", "*", ""}, {"mqtts", "", "[cw]*", ""}, {"ws", "", "[cr]*", ""}, {"wss", "", "*", ""}, {"unix", "", "connect*", ""},
		{"mqtt", "will.only-on-reset", "will.on-c*", "will.on-close"}, {"mqtts", "will.only-on-reset", "will.on-c*", "will.on-close"},
		{"ws", "will.only-on-reset", "will.on-c*", "will.on-close"}, {"wss", "will.only-on-reset", "will.on-c*", "will.on-close"},
		{"mqtt", "will.on-goodbye", "will.*", "will.not-on-goodbye"},
		{"wss", "retain.flag-kept", "retain.*", "retain.cleared retain.live-flag"},
		{"mqtts", "qos2.twice", "qos2.*", "qos2.once"},
		{"ws", "match.hash-parent", "subscribe.*", "subscribe.wildcards"},
		{"mqtt", "", "t*", ""}, {"mqtts", "tls.old", "t*", "tls.versions"}, {"wss", "tls.wrong-name", "t*", "tls.name"},
		{"mqtts", "tls.expired", "t*", "tls.chain"}, {"mqtts", "tls.incomplete", "t*", "tls.chain"},
		{"mqtts", "tls.client-optional", "t*", "tls.client-required"}, {"wss", "tls.any-client", "t*", "tls.client-required"},
		{"mqtts", "tls.plain-taken", "t*", "tls.plain-refused"}, {"ws", "ws.text-taken", "ws.*", "ws.subprotocol"},
		{"wss", "ws.whole", "ws.*", "ws.subprotocol"}, {"wss", "", "[tw]*", ""},
	} {
		var on []string
		if tt.fault != "" {
			on = []string{tt.fault}
		}
		s := prooftest.Faulty(t, prooftest.Secured(), on...)
		defer s.Close()
		where := tt.scheme + "://127.0.0.1:0"
		if tt.scheme == "unix" {
			where = "unix://" + filepath.Join(t.TempDir(), "s")
		}
		request := trust.Request{CommonName: "stand-in", Names: []string{"127.0.0.1"}}
		if f, err := fault.Find(tt.fault); err == nil {
			request.Expired, request.Incomplete = f.Certificate == "expired", f.Certificate == "incomplete"
			if f.Certificate == "wrong-name" {
				request.Names = []string{"elsewhere.example"}
			}
		}
		server, err := authority.Issue(request)
		if err != nil {
			t.Fatal(err)
		}
		listener := &tls.Config{Certificates: []tls.Certificate{server}}
		config := &tls.Config{RootCAs: authority.Pool()}
		required := strings.Contains(tt.pattern, "t*") || strings.HasPrefix(tt.pattern, "[tw")
		if required {
			listener.ClientCAs, listener.ClientAuth, config.Certificates = authority.Pool(), tls.RequireAndVerifyClientCert, []tls.Certificate{
				ours,
			}
		}
		url, _, err := s.ListenURL(where, listener)
		if err != nil {
			t.Fatal(err)
		}
		target := over(url, config, []*x509.Certificate{authority.Root()}, true)
		if required {
			target.Login.Certificate, target.Way.ClientRequired, target.Way.Expired = &ours, &required, &old
		}
		checks, err := check.Match(tt.pattern)
		if err != nil {
			t.Fatal(err)
		}
		wg.Go(func() {
			p, err := proof.Run(
				context.Background(),
				target,
				proof.Options{Checks: checks, Versions: []packet.Version{packet.V311, packet.V5}},
			)
			if err != nil {
				t.Errorf("%s with fault %s: %v", tt.scheme, tt.fault, err)
				return
			}
			if got := strings.Join(prooftest.Names(p, proof.Broken), " "); got != tt.broken {
				t.Errorf("%s with fault %s: broken: %s, want %s", tt.scheme, tt.fault, got, tt.broken)
				for _, r := range p.Results {
					if r.Verdict == proof.Broken {
						t.Logf("%s in %s: %s", r.Check.Name, r.Version, r.Seen)
					}
				}
			}
		})
	}
	wg.Wait()
}
