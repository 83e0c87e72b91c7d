package proof_test

import (
	"bytes"
	"context"
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
	"hodstone/internal/workspace"
)

// debianBroker starts the broker from Debian's packages on loopback, with a password
// file, and returns its URL.
func debianBroker(t *testing.T) string {
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
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := ln.Addr().(*net.TCPAddr).Port
	ln.Close()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	// Without a user of its own it would drop its rights and not read root's files.
	config := fmt.Sprintf("listener %d 127.0.0.1\nuser %s\nallow_anonymous false\npassword_file %s\npersistence false\nlog_type all\n", port, me.Username, passwords)
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
	address := fmt.Sprintf("127.0.0.1:%d", port)
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			return "mqtt://" + address
		}
		if time.Now().After(end) {
			t.Fatalf("the broker does not listen:\n%s", log.Bytes())
		}
	}
}

func overTCP(url string, standIn bool) proof.Target {
	refused := false
	return proof.Target{Broker: "broker", Listener: url, StandIn: standIn, Intrusive: true, Anonymous: &refused,
		Dial:  func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url) },
		Login: &workspace.Login{Username: "bench", Password: workspace.NewSecret(password)}}
}

// TestARealBrokerKeepsEverything: what is not kept here belongs into docs/deviations.md,
// with its evidence.
func TestARealBrokerKeepsEverything(t *testing.T) {
	url := debianBroker(t)
	before := runtime.NumGoroutine()
	p, err := proof.Run(context.Background(), overTCP(url, false), proof.Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range p.Results {
		if r.Verdict != proof.Kept {
			t.Errorf("%s in %s: %s: expected %s, saw %s %v", r.Check.Name, r.Version, r.Verdict, r.Expected, r.Seen, r.Notes)
			for i := range r.Evidence {
				t.Logf("  %s %s", r.Evidence[i].Client, r.Evidence[i].Describe())
			}
		}
	}
	checkResults(t, p)
	for end := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d goroutines are left, %d before", runtime.NumGoroutine(), before)
		}
	}
}

// TestFaultsOverSockets samples the matrix on real links: resets and closes look
// different there.
func TestFaultsOverSockets(t *testing.T) {
	for _, tt := range []struct {
		fault, pattern string
		broken         string
	}{
		{"", "*", ""},
		{"will.only-on-reset", "will.*", "will.on-close"},
		{"will.on-goodbye", "will.*", "will.not-on-goodbye"},
		{"retain.flag-kept", "retain.*", "retain.cleared retain.live-flag"},
		{"qos2.twice", "qos2.*", "qos2.once"},
		{"match.hash-parent", "subscribe.*", "subscribe.wildcards"},
	} {
		t.Run("fault "+tt.fault, func(t *testing.T) {
			t.Parallel()
			o := standin.Options{Logins: map[string]string{"bench": password}}
			if tt.fault != "" {
				o.Faults = []string{tt.fault}
			}
			s, err := standin.New(o)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			addr, err := s.Listen("127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			checks, err := proof.Match(tt.pattern)
			if err != nil {
				t.Fatal(err)
			}
			p, err := proof.Run(context.Background(), overTCP("mqtt://"+addr.String(), true), proof.Options{Checks: checks, Versions: []packet.Version{packet.V311, packet.V5}})
			if err != nil {
				t.Fatal(err)
			}
			if got := strings.Join(names(p, proof.Broken), " "); got != tt.broken {
				t.Errorf("broken: %s, want %s", got, tt.broken)
			}
		})
	}
}
