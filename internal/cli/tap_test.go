package cli_test

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hodstone/internal/cli"
	"hodstone/internal/mqtt/standin"
)

// lines gathers what a command that runs on has written.
type lines struct {
	t    *testing.T
	out  *syncBuffer
	text string
}

// await waits until all of some texts have been written.
func (l *lines) await(texts ...string) {
	l.t.Helper()
	end := time.After(15 * time.Second)
	for {
		missing := ""
		for _, want := range texts {
			if !strings.Contains(l.text, want) {
				missing = want
			}
		}
		if missing == "" {
			return
		}
		select {
		case s := <-l.out.lines:
			l.text += s
		case <-end:
			l.t.Fatalf("never %q in\n%s", missing, l.text)
		}
	}
}

// TestTheTapOnTheCommandLine: a device that dials the tap over TLS is seen and recorded, rules come and go, and mistakes
// are told.
func TestTheTapOnTheCommandLine(t *testing.T) {
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	broker, _, err := s.ListenURL("mqtt://127.0.0.1:0", nil)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	ca, kept := filepath.Join(dir, "ca.pem"), filepath.Join(dir, "tap.db")
	in, typed := io.Pipe()
	l := &lines{t: t, out: &syncBuffer{make(chan string, 1000)}}
	done := make(chan int, 1)
	go func() {
		done <- cli.Main(cli.Env{Args: []string{"tap", "--listen", "mqtts://127.0.0.1:0", "--to", broker, "--ca-file", ca, "--record", kept,
			"--rule", "{alter: PUBLISH, payload: changed, toward: broker, most: 1}"}, In: in, Out: l.out, ErrOut: l.out})
	}()
	l.await("the tap listens on mqtts://127.0.0.1:", "on: alter PUBLISH toward the broker", "end it with Ctrl-C")
	url := strings.TrimSuffix(strings.Fields(l.text[strings.Index(l.text, "mqtts://"):])[0], ",")
	send := func(text string) {
		t.Helper()
		if code, out, errOut := run(
			"send",
			url,
			"v/a",
			text,
			"--ca",
			ca,
			"--qos",
			"1",
			"--client-id",
			"pen-7",
		); code != 0 {
			t.Fatalf("exit %d\n%s%s", code, out, errOut)
		}
	}
	send("as it was")
	l.await(
		`→ CONNECT "pen-7"`,
		"← CONNACK",
		"→ PUBLISH v/a QoS 1 #1  as it was",
		"│ the tap: alter PUBLISH",
		"pen-7 beyond the tap → PUBLISH v/a QoS 1 #1  changed",
		"left     pen-7: the device said DISCONNECT",
	)
	for _, x := range [][2]string{{"rules", "alter PUBLISH toward the broker: acted 1 times, over"}, {"nonsense", `there is no command "nonsense"`},
		{"rule {drop: PUBACK, sideways: true}", `a rule has no key "sideways"`}, {"clear", "no rules are on"},
		{"rule {name: no answer, refuse: CONNECT, code: 3}", "on: no answer"}} {
		io.WriteString(typed, x[0]+"\n")
		l.await(x[1])
	}
	if code, _, errOut := run(
		"send",
		url,
		"v/a",
		"x",
		"--ca",
		ca,
		"--protocol-version",
		"3.1.1",
	); code != 3 ||
		!strings.Contains(errOut, "is not available") {
		t.Errorf("exit %d %s", code, errOut)
	}
	io.WriteString(typed, "quit\n")
	select {
	case code := <-done:
		if code != 0 {
			t.Errorf("exit %d", code)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("it does not end")
	}
	if _, err := os.Stat(kept); err != nil {
		t.Fatal(err)
	}
	if _, out, _ := run("trace", "show", kept); !strings.Contains(out, "PUBLISH v/a QoS 1 #1  as it was") {
		t.Errorf("the record:\n%s", out)
	}
	for args, want := range map[string]string{
		"":                          "say where devices dial",
		"--listen mqtt://127.0.0.1": "say where devices dial",
		"--listen mqtt://127.0.0.1:0 --to nowhere":                              "is no address of a broker",
		"--listen nowhere --to " + broker:                                       "is no address of a broker",
		"--listen mqtt://127.0.0.1:0 --to " + broker + " --rule {}":             "needs an action",
		"--listen mqtt://127.0.0.1:0 --to " + broker + " --rule {delay:all}":    "delay needs by",
		"--listen ws://127.0.0.1:0 --unread --to " + broker:                     "not passed through unread",
		"--listen mqtt://127.0.0.1:0 --unread --rule {drop:all} --to " + broker: "needs packets",
	} {
		if code, _, errOut := run(
			append([]string{"tap"}, strings.Fields(args)...)...); code != 2 ||
			!strings.Contains(errOut, want) {
			t.Errorf("%s: exit %d, %s", args, code, errOut)
		}
	}
}
