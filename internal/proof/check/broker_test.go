package check_test

import (
	"context"
	"crypto/tls"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

func over(url string, config *tls.Config, standIn bool) proof.Target {
	refused := false
	return proof.Target{Broker: "broker", Listener: url, StandIn: standIn, Intrusive: true, Anonymous: &refused,
		Dial:  func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url, link.Options{TLS: config}) },
		Login: &workspace.Login{Username: brokertest.Username, Password: workspace.NewSecret(brokertest.Password)}}
}

// TestARealBrokerKeepsEverything: what is not kept here belongs into docs/deviations.md,
// with its evidence.
func TestARealBrokerKeepsEverything(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{})
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
	p, err := proof.Run(context.Background(), over(url, config, false), proof.Options{Checks: check.All()})
	if err != nil {
		t.Errorf("%s: %v", name, err)
		return
	}
	for _, r := range p.Results {
		untold := r.Verdict == proof.Unsupported && r.Check.Name == "keepalive.server-value" // this broker tells none
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
	server, err := authority.Issue(trust.Request{CommonName: "stand-in", Names: []string{"127.0.0.1"}})
	if err != nil {
		t.Fatal(err)
	}
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
	} {
		t.Run(tt.scheme+" with fault "+tt.fault, func(t *testing.T) {
			t.Parallel()
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
			url, _, err := s.ListenURL(where, &tls.Config{Certificates: []tls.Certificate{server}})
			if err != nil {
				t.Fatal(err)
			}
			checks, err := check.Match(tt.pattern)
			if err != nil {
				t.Fatal(err)
			}
			p, err := proof.Run(
				context.Background(),
				over(url, &tls.Config{RootCAs: authority.Pool()}, true),
				proof.Options{Checks: checks, Versions: []packet.Version{packet.V311, packet.V5}},
			)
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(prooftest.Names(p, proof.Broken), " "); got != tt.broken {
				t.Errorf("broken: %s, want %s", got, tt.broken)
			}
		})
	}
}
