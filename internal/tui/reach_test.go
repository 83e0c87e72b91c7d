package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"hodstone/internal/trust"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// lacks fails where the screen shows a text.
func (x *interfaceOn) lacks(secret string) {
	x.t.Helper()
	if text := x.step(); strings.Contains(text, secret) {
		x.t.Errorf("%q shows:\n%s", secret, text)
	}
}

func TestTheWaysInAreSeen(t *testing.T) {
	t.Chdir(t.TempDir())
	x := on(t, demoFiles(t), 160, 47)
	x.await("7 on")
	x.key("1")
	x.await("· never tried", "never tried", "What the broker grants shows here")
	x.key("r")
	x.await("4/5 in", "● in", "╳ out", "nothing listens on port 1884", "are this very machine", "plain listeners stand beside a TLS one: quay/tcp, quay/ws", "may read and publish everything: barge",
		"maximum QoS", "1024+ characters", "! plain", "! 2 doors open")
	for range 4 {
		x.key("down")
	}
	x.await("▸ barge/radio", "Hodstone's observer is not at this broker", "stay in there")
	x.key("m")
	x.await("a client of ours stays in at barge by radio", "╳ out", "╳ barge away")
	x.key("m")
	x.await("left barge")
	x.key("enter")
	x.await("way in: barge/radio", "port-closed: nothing listens", "→ localhost and 127.0.0.1")
	x.key("v")
	x.await("No packet of MQTT went over")
	x.key("esc")
	x.key("home")
	x.key("enter")
	x.await("way in: quay/tcp", "authentication is on: refused without a login", "wrong password   CONNACK 0x86", "a password went over a plain link")
	x.key("v")
	x.await("evidence of quay/tcp", "way in", "CONNECT")
	x.key("esc")
	x.key("c")
	x.await("on purpose (cut)", "noticed after", "later: the")
	x.key("t")
	x.await("on purpose (throw out)", "0x98, administrative")
	x.await("● in for")
	x.key("f")
	x.await("freeze: not noticed yet", "! silent for", "! quay silent")
	x.key("x")
	for range 40 {
		x.key("backspace")
	}
	x.typed("ways.pdf")
	x.await("written: ways.pdf")
	if b, err := os.ReadFile("ways.pdf"); err != nil || !strings.HasPrefix(string(b), "%PDF") {
		t.Errorf("the drawing: %v", err)
	}
	// What is pasted is understood, but not shown.
	x.key("p")
	x.await("paste or type connection details", "nothing yet")
	port := strings.TrimPrefix(x.m.bench.URLs("quay")[0], "mqtt://127.0.0.1:")
	x.m.Update(tea.PasteMsg{Content: "Host: 127.0.0.1\nPort: " + port + "\nUser: bench\nPassword: s3cret-dulse\n"})
	x.await("understood, as it goes into a workspace", `username: "bench"`, "password: {env: PASTED_PASSWORD}")
	x.lacks("s3cret-dulse")
	x.key("ctrl+y")
	x.await("copied, without the password")
	x.key("ctrl+d")
	x.await("▸ pasted", "does not know this user name", "4/6 in", "! plain")
	x.lacks("s3cret-dulse")
}

func TestAnEditMakesWaysStale(t *testing.T) {
	name := filepath.Join(t.TempDir(), "hodstone.yaml")
	write := func(port string) {
		text := "hodstone: 1\nbrokers:\n  harbour: {listeners: {inside: {url: \"mqtt://127.0.0.1:" + port + "\"}}}\n"
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("1")
	w, err := workspace.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	x := with(t, w, workbench.Options{Follow: true}, 100, 30)
	x.await("· never tried", "╳ harbour away")
	x.key("r")
	x.await("╳ out", "nothing listens on port 1 of")
	write("12")
	x.await("◷ stale", "before the edit: nothing listens on port 1 of", "◷ 1 stale")
	x.key("o")
	x.await("nothing listens on port 12 of", "╳ out")
	os.WriteFile(name, []byte("hodstone: 1\nbrokers:\n  harbour: {lisners: }\n"), 0o600)
	x.await("has problems since it was edited: line 3")
}

func TestCredentialsAndHandshakesAreSeen(t *testing.T) {
	dir := t.TempDir()
	t.Chdir(dir)
	if err := trust.WriteSamples("creds", "Marrow Voe"); err != nil {
		t.Fatal(err)
	}
	files := demoFiles(t)
	w, err := workspace.Read(files.fs, files.name, files.name)
	if err != nil {
		t.Fatal(err)
	}
	x := with(t, w, workbench.Options{Seed: 1, Credentials: []string{"creds"}}, 160, 47)
	x.key("2")
	x.await("13 files", "✗ 4 broken", "Marrow Voe root", "└ Marrow Voe intermediate", "⚷ 8f3ac91b", "Skerry Net intermediate", "the signer is not here", "today", "it is a web page", "what to mend, worst first", "and 8 notes", "✗ pen-3")
	for range 4 {
		x.key("down")
	}
	x.await("▸ ! ", "pen-2", "it expires on", "its ending is doubled", "everybody on this machine may read", "pen-2: {certificate: creds/pen-2.crt.txt, key: creds/8f3ac91b}")
	x.key("y")
	x.await("login copied")
	x.key("p")
	x.await("passphrase, not kept:")
	for _, k := range "wrong" {
		x.key(string(k))
	}
	x.await("•••••")
	x.lacks("wrong")
	x.key("enter")
	x.await("it opens nothing")
	x.key("p")
	x.typed(trust.SamplePassphrase)
	x.await("opened: 2 items", "barge", "⚷ shore.key")
	x.key("x")
	x.await("export what is shown to trust-")
	x.key("enter")
	x.await("written: trust-")
	x.key("home")
	x.key("y")
	x.await("this makes no login")
	x.key("c")
	for range 20 {
		x.key("backspace")
	}
	x.typed("ca.rs")
	x.await("written: ca.rs")
	if b, err := os.ReadFile("ca.rs"); err != nil || !strings.Contains(string(b), "pub const CA_PEM") {
		t.Errorf("the constant: %v", err)
	}
	x.key("v")
	x.await("Never tried.", "handshake at quay/tls  1 of 2")
	x.key("h")
	x.await("✓ kept      a stranger's certificate", "refused: alert unknown_ca", "✓ kept      an expired certificate", "certificate_expired", "✓ kept      our certificate", "TLS 1.1  ○ not taken: alert protocol_version",
		"AES_128_GCM_SHA256", "resumed, in", "trusted, and the name is covered", "a client certificate is asked for, not required")
	x.key("x")
	x.key("enter")
	x.await("written: handshake-")
	x.key("d")
	x.typed("1.4")
	x.await("there are TLS 1.0, 1.1, 1.2 and 1.3")
	x.key("esc")
	x.key("d")
	x.typed("1.1")
	x.await("✗ broken    a device limited to TLS 1.1", "refused: alert protocol_version")
	x.key("b")
	x.await("handshake at quay/wss  2 of 2", "Never tried.")
	for _, pattern := range []string{"trust-*.svg", "handshake-*.svg"} {
		if svgs, _ := filepath.Glob(pattern); len(svgs) != 1 {
			t.Errorf("%s: %v", pattern, svgs)
		}
	}
}

// TestReachAndTrustInSmallWindows: nothing is drawn outside, and what matters is there, in
// every view and size, on light grounds and without colour.
func TestReachAndTrustInSmallWindows(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "creds")
	if err := trust.WriteSamples(dir, "Marrow Voe"); err != nil {
		t.Fatal(err)
	}
	files := demoFiles(t)
	w, err := workspace.Read(files.fs, files.name, files.name)
	if err != nil {
		t.Fatal(err)
	}
	x := with(t, w, workbench.Options{Seed: 1, Reach: true, Credentials: []string{dir}}, 160, 47)
	x.key("1")
	x.await("4/5 in", "doors left open", "13 files")
	x.key("2")
	x.key("v")
	x.await("✓ kept      an expired certificate")
	x.key("v")
	views := []struct {
		keys []string
		want []string // at 80 columns and more
	}{
		{[]string{"1"}, []string{"quay/tcp", "● in", "staying in at quay", "CONNECT"}},
		{[]string{"1", "home", "enter"}, []string{"way in: quay/tcp", "✓ in"}},
		{[]string{"v"}, []string{"evidence of quay/tcp"}},
		{[]string{"esc", "p"}, []string{"paste or type connection details", "nothing yet"}},
		{[]string{"esc", "x"}, []string{"export the ways in to"}},
		{[]string{"esc", "2"}, []string{"Marrow Voe root", "today", "until"}},
		{[]string{"end", "enter"}, []string{"shore.key", "encrypted"}},
		{[]string{"esc", "v"}, []string{"tried", "✓ kept"}},
		{[]string{"v", "p"}, []string{"passphrase, not kept"}},
		{[]string{"esc"}, nil},
	}
	sizes := [][2]int{{160, 47}, {100, 30}, {80, 24}, {61, 16}, {240, 70}, {20, 5}}
	for _, profile := range []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ANSI, colorprofile.NoTTY} {
		x.m.Update(tea.ColorProfileMsg{Profile: profile})
		for _, v := range views {
			for _, k := range v.keys {
				x.key(k)
			}
			for _, size := range sizes {
				x.m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				text := x.step()
				for _, want := range v.want {
					if size[0] >= 80 && !strings.Contains(text, want) {
						t.Errorf("%v at %v: no %q in\n%s", v.keys, size, want, text)
					}
				}
				lines := strings.Split(text, "\n")
				if len(lines) > size[1] {
					t.Errorf("%v: %d lines in %d rows", v.keys, len(lines), size[1])
				}
				for _, l := range lines {
					if look.Width(l) > size[0] {
						t.Errorf("%v: a line of %d in %d columns: %s", v.keys, look.Width(l), size[0], l)
					}
				}
			}
		}
	}
}
