package proof_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// debianBroker is the broker from Debian's packages, started on loopback with listeners
// of every transport.
type debianBroker struct {
	urls   map[string]string // by transport
	ca     *x509.CertPool
	client tls.Certificate
}

// certificates writes what the broker needs for TLS and returns what its clients need.
func certificates(t *testing.T, dir string) (ca *x509.CertPool, client tls.Certificate, config string) {
	t.Helper()
	authority, err := trust.NewAuthority("test")
	if err != nil {
		t.Fatal(err)
	}
	server, err := authority.Issue(trust.Request{CommonName: "broker", Names: []string{"127.0.0.1"}})
	if err != nil {
		t.Fatal(err)
	}
	if client, err = authority.Issue(trust.Request{CommonName: "bench"}); err != nil {
		t.Fatal(err)
	}
	chain, key, err := trust.PEM(server)
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"ca.pem": authority.RootPEM(), "chain.pem": chain, "key.pem": key} {
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return authority.Pool(), client, fmt.Sprintf("cafile %[1]s/ca.pem\ncertfile %[1]s/chain.pem\nkeyfile %[1]s/key.pem\n", dir)
}

// startBroker starts the Debian broker with a password file.
func startBroker(t *testing.T) *debianBroker {
	t.Helper()
	for _, tool := range []string{"mosquitto", "mosquitto_passwd"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Fatalf("%s is missing: 'make test' installs it (Debian package mosquitto)", tool)
		}
	}
	dir := t.TempDir()
	passwords := filepath.Join(dir, "passwords")
	if err := os.WriteFile(passwords, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mosquitto_passwd", "-b", passwords, "bench", password).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	b := &debianBroker{urls: map[string]string{}}
	var secure string
	b.ca, b.client, secure = certificates(t, dir)
	// Without a user of its own it would drop its rights and not read root's files.
	config := fmt.Sprintf("user %s\nallow_anonymous false\npassword_file %s\npersistence false\nlog_type all\n", me.Username, passwords)
	for _, l := range []struct{ name, scheme, path, lines string }{
		{"tcp", "mqtt", "", ""}, {"tls", "mqtts", "", secure}, {"ws", "ws", "/mqtt", "protocol websockets\n"}, {"wss", "wss", "/mqtt", "protocol websockets\n" + secure},
		{"tls with client certificate", "mqtts", "", secure + "require_certificate true\n"},
	} {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		port := ln.Addr().(*net.TCPAddr).Port
		defer ln.Close() // kept until all ports are chosen, so that they differ
		config += fmt.Sprintf("listener %d 127.0.0.1\n%s", port, l.lines)
		b.urls[l.name] = fmt.Sprintf("%s://127.0.0.1:%d%s", l.scheme, port, l.path)
		ln.Close()
	}
	file := filepath.Join(dir, "broker.conf")
	if err := os.WriteFile(file, []byte(config), 0o600); err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	cmd := exec.Command("mosquitto", "-c", file)
	cmd.Stdout, cmd.Stderr = &log, &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		if t.Failed() {
			t.Logf("the broker's log:\n%s", log.Bytes())
		}
	})
	for name, u := range b.urls {
		endpoint, err := link.Parse(u)
		if err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			if c, err := net.Dial("tcp", endpoint.Address); err == nil {
				c.Close()
				break
			}
			if time.Now().After(end) {
				cmd.Process.Kill()
				cmd.Wait()
				t.Fatalf("the broker does not listen for %s:\n%s", name, log.Bytes())
			}
		}
	}
	return b
}

func over(url string, config *tls.Config, standIn bool) proof.Target {
	refused := false
	return proof.Target{Broker: "broker", Listener: url, StandIn: standIn, Intrusive: true, Anonymous: &refused,
		Dial:  func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url, link.Options{TLS: config}) },
		Login: &workspace.Login{Username: "bench", Password: workspace.NewSecret(password)}}
}

// TestARealBrokerKeepsEverything: what is not kept here belongs into docs/deviations.md,
// with its evidence.
func TestARealBrokerKeepsEverything(t *testing.T) {
	broker := startBroker(t)
	before := runtime.NumGoroutine()
	for name, url := range broker.urls {
		config := &tls.Config{RootCAs: broker.ca}
		if strings.HasSuffix(name, "certificate") {
			if l, err := link.Dial(context.Background(), url, link.Options{TLS: config.Clone()}); err == nil {
				// In TLS 1.3 the refusal comes with the first read.
				if _, err := l.Read(make([]byte, 1)); err == nil {
					t.Errorf("%s: in without a certificate", name)
				}
				l.Close()
			}
			config.Certificates = []tls.Certificate{broker.client}
		}
		p, err := proof.Run(context.Background(), over(url, config, false), proof.Options{})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for _, r := range p.Results {
			if r.Verdict != proof.Kept {
				t.Errorf("%s, %s in %s: %s: expected %s, saw %s %v", name, r.Check.Name, r.Version, r.Verdict, r.Expected, r.Seen, r.Notes)
				for i := range r.Evidence {
					t.Logf("  %s %s", r.Evidence[i].Client, r.Evidence[i].Describe())
				}
			}
		}
		checkResults(t, p)
	}
	for end := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			buf := make([]byte, 1<<16)
			t.Fatalf("%d goroutines are left, %d before\n%s", runtime.NumGoroutine(), before, buf[:runtime.Stack(buf, true)])
		}
	}
}

// TestFaultsOverSockets samples the matrix on real links: resets and closes look
// different there.
func TestFaultsOverSockets(t *testing.T) {
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
		{"mqtt", "", "*", ""}, {"mqtts", "", "*", ""}, {"ws", "", "*", ""}, {"wss", "", "*", ""}, {"unix", "", "connect*", ""},
		{"mqtt", "will.only-on-reset", "will.*", "will.on-close"}, {"mqtts", "will.only-on-reset", "will.*", "will.on-close"},
		{"ws", "will.only-on-reset", "will.*", "will.on-close"}, {"wss", "will.only-on-reset", "will.*", "will.on-close"},
		{"mqtt", "will.on-goodbye", "will.*", "will.not-on-goodbye"},
		{"wss", "retain.flag-kept", "retain.*", "retain.cleared retain.live-flag"},
		{"mqtts", "qos2.twice", "qos2.*", "qos2.once"},
		{"ws", "match.hash-parent", "subscribe.*", "subscribe.wildcards"},
	} {
		t.Run(tt.scheme+" with fault "+tt.fault, func(t *testing.T) {
			t.Parallel()
			o := standin.Options{Logins: []standin.Login{{Name: "bench", Password: password}}}
			if tt.fault != "" {
				o.Faults = []string{tt.fault}
			}
			s, err := standin.New(o)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			where := tt.scheme + "://127.0.0.1:0"
			if tt.scheme == "unix" {
				where = "unix://" + filepath.Join(t.TempDir(), "s")
			}
			url, _, err := s.ListenURL(where, &tls.Config{Certificates: []tls.Certificate{server}})
			if err != nil {
				t.Fatal(err)
			}
			checks, err := proof.Match(tt.pattern)
			if err != nil {
				t.Fatal(err)
			}
			p, err := proof.Run(context.Background(), over(url, &tls.Config{RootCAs: authority.Pool()}, true), proof.Options{Checks: checks, Versions: []packet.Version{packet.V311, packet.V5}})
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(names(p, proof.Broken), " "); got != tt.broken {
				t.Errorf("broken: %s, want %s", got, tt.broken)
			}
		})
	}
}
