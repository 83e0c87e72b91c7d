package cli_test

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/cli"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
)

// serve runs a stand-in as the command does, and returns what it says of itself and what ends it.
func serve(t *testing.T, args ...string) (text string, end func()) {
	t.Helper()
	out := &syncBuffer{make(chan string, 100)}
	done := make(chan int, 1)
	go func() { done <- cli.Main(cli.Env{Args: append([]string{"stand-in"}, args...), Out: out, ErrOut: out}) }()
	for deadline := time.After(10 * time.Second); !strings.Contains(text, "end it with"); {
		select {
		case s := <-out.lines:
			text += s
		case code := <-done:
			t.Fatalf("it ended with %d: %s", code, text)
		case <-deadline:
			t.Fatalf("only %q", text)
		}
	}
	return text, func() {
		syscall.Kill(os.Getpid(), syscall.SIGINT)
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			t.Error("it does not end")
		}
	}
}

func keep(t *testing.T, name string, content []byte) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(file, content, 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// issued is a certificate of an authority's, as files.
func issued(t *testing.T, a *trust.Authority, r trust.Request) (chain, key string) {
	t.Helper()
	c, err := a.Issue(r)
	if err != nil {
		t.Fatal(err)
	}
	certificate, private, err := trust.PEM(c)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tls.X509KeyPair(certificate, private); err != nil {
		t.Fatal(err)
	}
	return keep(t, "chain.pem", certificate), keep(t, "key.pem", private)
}

// TestAStandInWithACertificateOfOnesOwn: it shows that certificate; with its CA all commands get in alike, also with
// a client certificate, and without it all tell the same cause.
func TestAStandInWithACertificateOfOnesOwn(t *testing.T) {
	ours, err := trust.NewAuthority("Voe CA")
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := trust.NewAuthority("another CA")
	if err != nil {
		t.Fatal(err)
	}
	chain, key := issued(t, ours, trust.Request{CommonName: "quay", Names: []string{"127.0.0.1"}})
	ca, other := keep(t, "ca.pem", ours.RootPEM()), keep(t, "other.pem", theirs.RootPEM())
	desk, deskKey := issued(t, ours, trust.Request{CommonName: "desk"})
	for _, tt := range []struct{ args, want string }{
		{"--own-certificate " + chain, "--own-certificate and --own-ca go together"},
		{"--own-certificate " + chain + " --own-ca " + ca, "key"},
		{"--own-certificate " + chain + " --own-key " + deskKey + " --own-ca " + ca, "key"},
		{"--own-certificate " + chain + " --own-key " + key + " --own-ca " + ca + " --certificate expired",
			"nothing is made"},
	} {
		if code, _, errOut := run(append([]string{"stand-in", "--listen", "mqtts://127.0.0.1:0"},
			strings.Fields(tt.args)...)...); code != 2 ||
			!strings.Contains(errOut, tt.want) {
			t.Errorf("%s: exit %d %s", tt.args, code, errOut)
		}
	}
	text, end := serve(
		t,
		"--listen",
		"mqtts://127.0.0.1:0",
		"--own-certificate",
		chain,
		"--own-key",
		key,
		"--own-ca",
		ca,
	)
	defer end()
	url := strings.Fields(text[strings.Index(text, "mqtts://"):])[0]
	for _, tt := range []struct {
		name string
		with []string
		in   bool
		want string
	}{
		{"its CA", []string{"--ca", ca}, true, ""},
		{"its CA and a client certificate", []string{"--ca", ca, "--certificate", desk, "--key", deskKey}, true, ""},
		{"another CA", []string{"--ca", other}, false, "unknown-ca"},
	} {
		code, out, errOut := run(append([]string{"reach", url, "--json"}, tt.with...)...)
		if in := strings.Contains(out, `"in": true`); in != tt.in || in != (code == 0) ||
			!strings.Contains(out, tt.want) {
			t.Errorf("reach with %s: exit %d\n%s%s", tt.name, code, out, errOut)
		}
		code, out, errOut = run(append([]string{"prove", "--url", url, "--check", "connect.accepted"}, tt.with...)...)
		if (code == 0) != tt.in || tt.in && !strings.Contains(out, "3 kept") || !tt.in && code != 3 {
			t.Errorf("prove with %s: exit %d\n%s%s", tt.name, code, out, errOut)
		}
		code, out, errOut = run(append([]string{"send", url, "a/b", "x", "--qos", "1"}, tt.with...)...)
		if (code == 0) != tt.in || !tt.in && !strings.Contains(errOut, "CA") {
			t.Errorf("send with %s: exit %d\n%s%s", tt.name, code, out, errOut)
		}
	}
}

// TestSendGoesByTheClause: with a workspace, a message goes out at its clause's QoS and retain flag, unless told
// otherwise; what the broker stored tells.
func TestSendGoesByTheClause(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	site := keep(t, "hodstone.yaml", []byte(`hodstone: 1
brokers: {cellar: {listeners: {tcp: {url: "`+broker.URLs["tcp"]+`"}}}}
contract:
  parties: {vat: , desk: }
  parameters: {vat: {values: ["1", "2"]}}
  clauses:
    warmth: {topic: "dairy/{vat}/warmth", from: vat, to: desk, qos: 2, retain: true, payload: {format: number}}
    stir: {topic: "dairy/{vat}/stir", from: desk, to: vat, qos: 1, payload: {format: text}}
`))
	for _, args := range []string{"dairy/1/warmth 31.5", "dairy/2/warmth 32 --retain=false", "dairy/1/stir on",
		"dairy/2/stir on --retain --qos 0", "dairy/else x"} {
		if code, out, errOut := run(append([]string{"send", site}, strings.Fields(args)...)...); code != 0 {
			t.Fatalf("%s: exit %d %s%s", args, code, out, errOut)
		}
	}
	stored := map[string]packet.QoS{}
	var mu sync.Mutex
	c := client.New(
		client.Options{
			Dial:    func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, broker.URLs["tcp"]) },
			Version: packet.V5,
			Connect: packet.Connect{ClientID: "later", CleanStart: true},
			Message: func(m *packet.Publish) {
				mu.Lock()
				defer mu.Unlock()
				stored[m.Topic] = m.QoS
			},
		},
	)
	if _, err := c.Connect(t.Context()); err != nil {
		t.Fatal(err)
	}
	defer c.Disconnect(0)
	if _, err := c.Subscribe(t.Context(), []packet.Subscription{{Filter: "dairy/#", QoS: 2}}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(t.Context(), packet.Publish{Topic: "dairy/end", QoS: 2}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		mu.Lock()
		_, over := stored["dairy/end"] // the stored ones came before
		mu.Unlock()
		if over {
			break
		} else if time.Now().After(end) {
			t.Fatal("the last message does not come")
		}
	}
	mu.Lock()
	defer mu.Unlock()
	delete(stored, "dairy/end")
	if len(stored) != 2 || stored["dairy/1/warmth"] != 2 || stored["dairy/2/stir"] != 0 {
		t.Errorf("stored: %v", stored)
	}
	if _, has := stored["dairy/2/stir"]; !has {
		t.Error("--retain is not heeded")
	}
}

// TestASilentBrokerIsNoQuietOne: who watches a server that never answers, or one that sends more than we take, is told
// so, and gets no exit code of success.
func TestASilentBrokerIsNoQuietOne(t *testing.T) {
	accepted := []byte{0x20, 3, 0, 0, 0}
	for name, tt := range map[string]struct {
		says []byte
		want string
	}{
		"nothing":       {nil, "no CONNACK: the time is over"},
		"CONNACK alone": {accepted, "SUBSCRIBE not answered: the time is over"},
		"a packet too large": {append(accepted, 0x30, 0xff, 0xff, 0xff, 0x7f),
			"larger than the 16 MiB that Hodstone takes"},
	} {
		t.Run(name, func(t *testing.T) {
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer ln.Close()
			go func() {
				for {
					c, err := ln.Accept()
					if err != nil {
						return
					}
					go func() {
						defer c.Close()
						if _, err := c.Read(make([]byte, 1024)); err == nil {
							c.Write(tt.says)
							io.Copy(io.Discard, c)
						}
					}()
				}
			}()
			code, out, errOut := run("watch", "mqtt://"+ln.Addr().String(), "--protocol-version", "5", "--for", "1s")
			if code != 3 || !strings.Contains(errOut, tt.want) {
				t.Errorf("exit %d %s%s", code, out, errOut)
			}
		})
	}
}

// TestWhatTakesLongSaysSo: a server that takes the connection and keeps silent; once it closes, the proof ends with
// the reason, and nothing more is told of waiting.
func TestWhatTakesLongSaysSo(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	told := make(chan struct{})
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() { <-told; c.Close() }()
		}
	}()
	errOut, code := &syncBuffer{make(chan string, 100)}, make(chan int)
	go func() {
		code <- cli.Main(cli.Env{Args: []string{"prove", "--url", "mqtt://" + ln.Addr().String()}, Out: io.Discard,
			ErrOut: errOut})
	}()
	deadline := time.After(20 * time.Second)
	select {
	case line := <-errOut.lines:
		if !strings.Contains(line, "finding out what the broker offers, in MQTT 5 (") {
			t.Errorf("told: %q", line)
		}
	case <-deadline:
		t.Fatal("nothing was told")
	}
	close(told)
	select {
	case c := <-code:
		if c != 3 {
			t.Errorf("exit %d", c)
		}
	case <-deadline:
		t.Fatal("it did not end")
	}
	close(errOut.lines)
	var last string
	for last = range errOut.lines {
		if strings.Contains(last, " …\n") {
			t.Errorf("told after the end: %q", last)
		}
	}
	if !strings.Contains(last, "not let in (version 5)") || !strings.Contains(last, "closes it at once") {
		t.Errorf("ends with %q", last)
	}
}
