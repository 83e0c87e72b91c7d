package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/mqtt/standin"
)

// deadline is how long a test waits for a text on the screen, on a slow machine under
// the race detector.
const deadline = 30 * time.Second

// terminal is the real program in a tmux of its own.
type terminal struct {
	t    testing.TB
	sock string
	pid  int
}

// binary builds the program once for all tests.
func binary(t testing.TB) string {
	t.Helper()
	bin := filepath.Join(buildDir, "hodstone")
	if _, err := os.Stat(bin); err == nil {
		return bin
	}
	if out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return bin
}

var buildDir string

func TestMain(m *testing.M) {
	playChild()
	dir, err := os.MkdirTemp("", "hodstone-test")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	buildDir = dir
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// open starts the program in a window of the size.
func open(t testing.TB, cols, rows int, args ...string) *terminal {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Fatal("tmux is missing: 'make test' installs it")
	}
	x := &terminal{t: t, sock: filepath.Join(t.TempDir(), "tmux")}
	command := binary(t)
	for _, a := range args {
		command += " '" + a + "'"
	}
	x.tmux("new-session", "-d", "-s", "w", "-x", strconv.Itoa(cols), "-y", strconv.Itoa(rows), "exec "+command)
	x.tmux("set", "-g", "status", "off")
	x.tmux("set", "-g", "window-size", "manual")
	x.tmux("set", "-g", "remain-on-exit", "on")
	fmt.Sscan(x.tmux("display", "-p", "-t", "w", "#{pane_pid}"), &x.pid)
	t.Cleanup(func() { exec.Command("tmux", "-S", x.sock, "kill-server").Run() })
	return x
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-S", x.sock, "-f", "/dev/null"}, args...)...)
	cmd.Env = append(os.Environ(), "LANG=C.UTF-8", "LC_ALL=C.UTF-8", "TMUX=")
	out, err := cmd.CombinedOutput()
	if err != nil {
		x.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (x *terminal) text() string { x.t.Helper(); return x.tmux("capture-pane", "-p", "-t", "w") }

func (x *terminal) keys(keys ...string) {
	x.t.Helper()
	for _, k := range keys {
		x.tmux("send-keys", "-t", "w", k)
	}
}

// types types a text as it is.
func (x *terminal) types(text string) {
	x.t.Helper()
	x.tmux("send-keys", "-t", "w", "-l", text)
}

// await waits until the screen matches all patterns at once, and returns it.
func (x *terminal) await(patterns ...string) string {
	x.t.Helper()
	var text string
	for end := time.Now().Add(deadline); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		text = x.text()
		missing := ""
		for _, p := range patterns {
			if !regexp.MustCompile(p).MatchString(text) {
				missing = p
				break
			}
		}
		if missing == "" {
			return text
		}
	}
	x.t.Fatalf("never saw all of %q on the screen:\n%s", patterns, text)
	return ""
}

// gone waits until the screen no longer shows the pattern. After Escape that is needed
// before the next key: with one right behind it, a terminal takes it for Alt.
func (x *terminal) gone(pattern string) {
	x.t.Helper()
	for end := time.Now().Add(deadline); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if !regexp.MustCompile(pattern).MatchString(x.text()) {
			return
		}
	}
	x.t.Fatalf("%q is still on the screen:\n%s", pattern, x.text())
}

// quit ends the program and fails if it leaves a process or an open port behind.
func (x *terminal) quit() {
	x.t.Helper()
	port := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(x.text())
	x.keys("q")
	gone := func() bool {
		if err := syscall.Kill(x.pid, 0); err == nil {
			// tmux keeps a finished program's process until the window closes.
			return strings.Contains(x.tmux("display", "-p", "-t", "w", "#{pane_dead}"), "1")
		}
		return true
	}
	for end := time.Now().Add(deadline); !gone(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(end) {
			x.t.Fatalf("the program does not end:\n%s", x.text())
		}
	}
	if port != "" {
		if c, err := net.Dial("tcp", port); err == nil {
			c.Close()
			x.t.Errorf("port %s is still open", port)
		}
	}
}

func TestTheDemoShowsItsBreachAndItsStray(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`17 clauses`, `✗ \d+ breach`, `\? \d+ stray`, `7 on`, `● quay in`)
	x.await(`marrowvoe/barge/silos/a .* meant for barge\.silo`)
	x.keys("b", "Enter")
	x.await(
		`✗ breach at [\d:.]+, from pen-3`,
		`rule +schema: minimum`,
		`field +/mgl`,
		`expected +minimum 0`,
		`seen +-0\.4`,
		`pen\.oxygen pen 3`,
		`"mgl":-0\.4`,
	)
	x.keys("w") // the same message on the wire, opened from there
	x.await(`▸ .*✗ minimum /mgl -0\.4`)
	x.keys("Enter")
	x.await(
		`received by observer from quay`,
		`sender +pen-3`,
		`from pen-3 +QoS 0`,
		`to observer +QoS 0, retain flag 0, after`,
		`topic name +"marrowvoe/pen/3/oxygen"`,
	)
	x.keys("Escape")
	x.await(`▸ .*✗ minimum /mgl`)
	x.keys("3")
	x.await(`✗ breach at`)
	x.keys("Escape")
	x.await(`strays topics that no clause covers`)
	x.quit()
}

func TestAFrozenDeviceLeavesItsWill(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`7 on`)
	x.keys("4", "Down")
	x.await(`▸ pen-2`)
	x.keys("f")
	x.await(`pen-2 +❄ frozen`, `❄ 1 frozen`)
	x.keys("5", "/")
	x.await(`topic:FILTER`)
	x.keys("topic:marrowvoe/pen/2/status", "Space", "client:observer", "Enter")
	x.await(`marrowvoe/pen/2/status q1 retain lost`)
	x.keys("G", "Enter") // the broker published it, for a client of ours that is frozen
	x.await(`sender +pen-2, by its will: the broker published it`, `clause +pen\.status`, `✓ kept`)
	x.keys("Escape") // alone: with a key right behind it, a terminal takes it for Alt
	x.await(`filter topic:`)
	x.keys("4", "f")
	x.await(`pen-2 +● on [3-9]s`) // it has come back: the broker had closed its link
	x.keys("c")
	x.await(`pen-2 cut`)
	x.await(`pen-2 +● on \ds`)
	x.keys("Space")
	x.await(`pen-2 +○ off`, `○ 1 off`)
	x.keys("Space")
	x.await(`pen-2 +● on`)
	x.quit()
}

func TestCommandsByHand(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`7 on`)
	x.keys("4", "End", "Up") // the desk sends commands of its own: switch it off
	x.await(`▸ shore`)
	x.keys("Space")
	x.await(`shore +○ off`)
	x.keys("Home", "s") // a command that the contract refuses is told at the keystroke, and goes out where it is meant
	x.await(
		`send by hand`,
		`as shore send \{.*\} to feeder\.set of pen 1`,
		`for no shore is connected`,
		`✓ as feeder\.set agrees`,
	)
	x.keys("C-u")
	x.await(`begin with: as PARTY send PAYLOAD`)
	x.types(`as shore send {"run":true,"rate":333`)
	x.types(`} to feeder.set of pen 1`)
	x.await(`✗ schema at /rate: agreed is maximum 40, this is 333`, `✗ rate +333 +number, 0 … 40, kg/min`)
	x.keys("C-u")
	x.types(`as shore send {"run":true,"rate":33.3} to feeder.set of pen 1, every 2s`)
	x.await(`✓ as feeder\.set agrees`, `every 2s`)
	x.keys("Enter")
	x.await(`sent to marrowvoe/pen/1/feeder/set, and again every 2s: S stops it`)
	x.await(`rate +33\.30 kg/min`, `feeding +true`)
	x.await(`S stop sending`)
	x.keys("S")
	x.await(`nothing is sent by hand any more`)
	x.keys("s")
	x.await(`said before`)
	x.keys("Up")
	x.await(`"rate":33\.3\} to feeder\.set of pen 1, every 2s`)
	x.keys("Escape")
	x.await(`q quit`)
	x.keys("3")
	x.await(`pen\.oxygen +→`)
	x.keys("Down", "p") // it stands in the workspace from now on
	x.await(`a readout now: it stands beside its devices`)
	x.keys("4")
	x.await(`▫ pen\.water [\d.]+ °C`)
	x.keys("3", "p")
	x.await(`no longer a readout`)
	x.keys("4")
	x.await(`▸ pen-1`)
	x.keys("v")
	x.await(`set a signal`)
	x.keys("Enter", "C-u", "7.0", "Enter")
	x.await(`oxygen +7 mg/l +sine, held`)
	x.quit()
}

func TestTheProofRunsAndOpensItsEvidence(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo", "--fault", "will.not-on-close")
	x.await(`7 on`, `! 1 fault on`)
	x.keys("6")
	x.await(`nothing has been proven yet: r runs all checks`, `· not run`)
	x.keys("r")
	x.await(
		`212 kept, 3 broken, 1 unsupported, 3 undecided, 96 skipped`,
		`doors left open at quay`,
		`! may read and publish everything:`,
		`✗ 3 broken`,
		`will\.on-close .*✗ broken +✗ broken +✗ broken`,
		`QoS 2 +✓ 0 +✓ 1 +✓ 2`,
	)
	for range 5 { // the families before it are folded
		x.keys("Down")
	}
	x.await(`▸ +will\.on-close`, `seen +✗ broken: a will at QoS 0: nothing came within 10s`)
	x.keys("Enter")
	x.await(
		`✗ broken +will\.on-close in MQTT 5`,
		`standard +MQTT 5\.0 §3\.1\.2\.5`,
		`2 +close the link without DISCONNECT`,
		`note +a will at QoS 0 did not come, and may have been lost; tried again`,
		`time +watcher +around +subject-0 +broker .*packet`,
		`▸ .*◆ link ended: the connection was closed by us`,
		`◆ 2 of them decided`,
	)
	x.keys("Escape")
	x.await(`212 kept, 3 broken`)
	x.quit()
}

// TestTwoProofsAreComparedOnTheScreen: proofs that commands have kept, and those of all listeners side by side.
func TestTwoProofsAreComparedOnTheScreen(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "hodstone.yaml")
	workspace := `hodstone: 1
name: two ways
brokers: {quay: {stand-in: {anonymous: true, listeners: {tcp: "127.0.0.1:0", ws: "127.0.0.1:0"}}}}
`
	if err := os.WriteFile(file, []byte(workspace), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, more := range [][]string{nil, {"--fault", "will.qos2-lowered"}} {
		args := append([]string{"prove", file, "--check", "will.*"}, more...)
		if out, err := exec.Command(binary(t), args...).CombinedOutput(); (err != nil) != (more != nil) {
			t.Fatalf("%v: %v\n%s", args, err, out)
		}
	}
	x := open(t, 160, 47, file)
	x.keys("6", "d")
	x.await(
		`B +\d{4}-.* quay/tcp +\d+ kept, 3 broken`,
		`A +\d{4}-.* quay/tcp +\d+ kept, 0 broken`,
		`what differs: 3 worse, \d+ the same`,
		`will\.qos +3\.1 3\.1\.1 5 +✓ kept +✗ broken ↓`,
	)
	x.keys("Space") // lets the later one go
	x.await(`Pick two to four with space`)
	x.keys("Space", "Enter", "Enter")
	x.await(`will\.qos in MQTT 3\.1 +the same in 3\.1, 3\.1\.1, 5`, `✓ kept +✗ broken`,
		`subscriber-2 ← PUBLISH …/will/qos2 QoS 2 .* subscriber-\d ← PUBLISH …/will/qos2 QoS \d`)
	x.keys("Right", "Right")
	x.await(`will\.qos in MQTT 5`, `MQTT 5\.0 §`)
	x.keys("Escape")
	x.await(`B +✗ broken: a will at QoS 2 came at QoS 1`)
	x.keys("BSpace", "BSpace") // what esc does
	x.await(`nothing has been proven yet`)
	x.keys("w")
	x.await(`running on quay/tcp, 1 to follow`)
	x.await(`d shows the 2 side by side`)
	x.keys("d")
	x.await(`B +\d{4}-.* quay/ws `, `A +\d{4}-.* quay/tcp `, `what differs: 2 otherwise`, `MQTT +A tcp +B ws`,
		`ws\.subprotocol .*– skipped +✓ kept`)
	x.keys("Escape")
	x.await(`next run on quay/tcp .*d shows the 2 side by side +\d+ kept, 0 broken`)
	x.quit()
}

func TestTrialsAreRunAndAskThePerson(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`7 on`)
	x.keys("6")
	x.await(`trials`, `The hatch is shut by hand, and somebody looks +· not run`)
	x.keys("Up", "p") // step by step
	x.await(`space lets the next step go`, `▸ +1  set barge: hatch false`, `· +5  ask: Does the lamp`)
	x.keys("Space")
	x.await(`✓ .* 1  set barge: hatch false`, `▸ +2  wait 1s`)
	x.keys("g")
	x.await(`asked by The hatch is shut by hand`, `Does the lamp over the hatch burn\?`, `\? asked`, `y yes, done`)
	x.keys("y")
	x.await(`✓ kept +The hatch is shut by hand`, `answered yes, after`, `◆ 2 of them decided`, `✓ 1 trial`)
	x.keys("Escape")
	x.await(`next run on`)
	x.keys("o")
	x.await(`\? asked`)
	x.keys("n")
	x.await(`✗ broken`, `step 5: answered no, after`, `1 trial ✗`)
	x.keys("r")
	x.await(`runs \d+/`)
	x.keys("Down", "s")
	x.await(`\d+ undecided`)
	x.keys("c")
	x.await(`contract\.nobody-else .*✗ broken +✗ broken +✗ broken`)
	x.keys("Up", "Up", "Up", "Enter")
	x.await(`contract\.nobody-else in MQTT 5`, `pen\.oxygen of another +p!·`, `! although it should not`)
	x.keys("t")
	x.await(`evidence: \d+ events`)
	x.quit()
}

func TestResizingAndPausing(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`7 on`)
	for _, screen := range []string{"1", "2", "3", "4", "5", "6"} {
		x.keys(screen)
		x.tmux("resize-window", "-t", "w", "-x", "80", "-y", "24")
		text := x.await(`\? keys|…`, `3 contract`, `6 proof`)
		for _, line := range strings.Split(text, "\n") {
			if n := len([]rune(line)); n > 80 {
				t.Errorf("a line of %d characters: %s", n, line)
			}
		}
		x.tmux("resize-window", "-t", "w", "-x", "160", "-y", "47")
		x.await(`: actions`, `q quit`)
	}
	x.tmux("resize-window", "-t", "w", "-x", "40", "-y", "10")
	x.await(`Hodstone needs 60×16`)
	x.tmux("resize-window", "-t", "w", "-x", "160", "-y", "47")
	x.keys("5", "Space")
	x.await(`paused, [1-9]\d* new events? meanwhile`)
	x.keys("Space")
	x.await(`● live`)
	x.keys("Up", "Up")
	x.await(`○ scrolled back`)
	x.keys("/")
	x.keys("type:LETTER", "Enter")
	x.await(`"LETTER" is no packet type`)
	x.keys("Escape")
	x.gone(`filter type:LETTER`)
	x.keys("G")
	x.await(`● live`)
	x.keys("?")
	x.await(`keys of the wire screen`, `A sender is named only where`)
	x.keys("Escape")
	x.gone(`keys of the wire screen`)
	x.keys(":")
	x.await(`actions`)
	x.keys("gotodev")
	x.await(`▸ +go to devices`)
	x.keys("Enter")
	x.await(`plays pen`)
	x.quit()
}

// demoFile writes the demo into a folder, and returns where its workspace is, and what it says.
func demoFile(t *testing.T, dir string) (file, text string) {
	t.Helper()
	if out, err := exec.Command(binary(t), "demo", "--write", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	file = filepath.Join(dir, "hodstone.yaml")
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return file, string(b)
}

// TestABrokenWorkspaceOpensOnWhatIsSound: one clear message each, with its place, and
// the rest works.
func TestABrokenWorkspaceOpensOnWhatIsSound(t *testing.T) {
	t.Parallel()
	file, whole := demoFile(t, filepath.Join(t.TempDir(), "farm"))
	text := strings.NewReplacer("  store: {}\n", "  store: {pasword: x}\n", "minimum: -2", "minimum: low",
		"topic: marrowvoe/store/confirmed", "topic: marrowvoe/shore/order",
		"  bench: {} ", "  bench: {password: {env: HODSTONE_TEST_UNSET}} ").
		Replace(whole)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	x := open(t, 160, 47, file)
	x.await(
		`4 problems in the workspace; what is sound is open`,
		`login store has no key "pasword"`,
		`did you mean "password"\?`,
	)
	wants := []string{
		"variable HODSTONE_TEST_UNSET",
		"the schema of clause pen.water is bad",
		"duplicate topic: clause feed.confirmed",
	}
	for end := time.Now().Add(deadline); len(wants) > 0; {
		seen := x.text()
		wants = slices.DeleteFunc(wants, func(want string) bool { return strings.Contains(seen, want) })
		if time.Now().After(end) {
			t.Fatalf("no %q among the problems:\n%s", wants, seen)
		}
		x.keys("Down")
	}
	x.keys("Escape")
	x.gone(`what is sound is open$|esc goes on`)
	x.await(`! 4 problems in`, `15 clauses`, `pen\.oxygen`, `[67] on`)
	x.quit()
}

// TestReachAndTrustOfTheDemo: four ways in, one address that fails and says why, a drop that
// is measured, credentials with their anomalies, a handshake with its refusals.
func TestReachAndTrustOfTheDemo(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`4/5 in`, `13 files`, `7 on`)
	x.keys("1")
	x.await(
		`(?s)(● in.*){4}`,
		`● in .*address`,
		`╳ out`,
		`✗ nothing listens on port 1884`,
		`→ localhost and 127\.0\.0\.1 are this very machine`,
		`! quay: plain listeners stand beside a TLS one: quay/tcp, quay/ws`,
		`maximum QoS +2 +2 \(not said\)`,
		`ping \d`,
	)
	x.keys("t")
	x.await(`gap of .*on purpose \(throw out\)`, `noticed after`, `0x98`)
	x.keys("Enter")
	x.await(`way in: quay/tcp`, `wrong password +CONNACK 0x86, bad user name or password`)
	x.keys("v")
	x.await(`evidence of quay/tcp: \d+ events`, `CONNECT`, `way in`)
	x.keys("Escape")
	x.await(`doors left open`)
	x.keys("p")
	x.await(`paste or type connection details`)
	x.tmux(
		"set-buffer",
		"broker.marrowvoe.invalid\nport: 8883\nhost: broker.marrowvoe.invalid\npassword: s3cret-dulse\n",
	)
	x.tmux("paste-buffer", "-p", "-t", "w")
	text := x.await(
		`understood, as it goes into a workspace`,
		`mqtts://broker\.marrowvoe\.invalid:8883`,
		`PASTED_PASSWORD`,
	)
	if strings.Contains(text, "s3cret") {
		t.Errorf("the password shows:\n%s", text)
	}
	x.keys("Escape")
	x.gone(`paste or type`)
	x.keys("2")
	x.await(`Marrow Voe root`, `└ pen-3`, `the signer is not here`, `⚷ 8f3ac91b`, `today`)
	x.keys("p", "e", "e", "l", "g", "r", "a", "s", "s")
	text = x.await(`passphrase, not kept: ••••••••`)
	if strings.Contains(text, "eelgrass") {
		t.Errorf("the passphrase shows:\n%s", text)
	}
	x.keys("Enter")
	x.await(`opened: 2 items`, `⚷ shore\.key`)
	x.keys("v")
	x.await(
		`handshake at quay/tls`,
		`✓ kept +an expired certificate`,
		`certificate_expired`,
		`TLS 1\.3 +✓ taken`,
		`trusted, and the name is covered`,
	)
	x.tmux("resize-window", "-t", "w", "-x", "80", "-y", "24")
	x.await(`tried`, `✓ kept +ALPN mqtt`)
	x.quit()
}

// TestAWayIsEditedInPlace: the editor opens at the line of the listener, what was found out with
// the old settings is stale, and tried again it leads in.
func TestAWayIsEditedInPlace(t *testing.T) {
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	file, editor := filepath.Join(dir, "hodstone.yaml"), filepath.Join(dir, "editor")
	text := "hodstone: 1\nbrokers:\n  harbour:\n    listeners:\n      inside: {url: \"mqtt://127.0.0.1:1\"}\n      outside: {url: \"mqtt://127.0.0.1:2\"} # by radio\n"
	script := fmt.Sprintf("#!/bin/sh\n[ \"$1\" = -x ] && sed -i \"${2#+}s/127.0.0.1:2/%s/\" \"$3\"\n", addr)
	for name, content := range map[string]string{file: text, editor: script} {
		if err := os.WriteFile(name, []byte(content), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("VISUAL", editor+" -x")
	t.Setenv("GOMAXPROCS", "1") // an editor that ends at once, on one processor
	x := open(t, 120, 40, file)
	x.keys("1")
	x.await(`never tried`)
	x.keys("r", "Down")
	x.await(`✗ nothing listens on port 1 `, `✗ nothing listens on port 2 `, `▸ harbour/outside`)
	x.keys("e")
	x.await(
		`edited: ways whose settings changed`,
		`◷ stale`,
		`before the edit: nothing listens on port 2`,
		`✗ nothing listens on port 1 `,
	)
	x.keys("o")
	x.await(`● in`, `1/2 in`, `clients without credentials get in`)
	if b, _ := os.ReadFile(file); !strings.Contains(string(b), addr.String()+"\"} # by radio") {
		t.Errorf("the file: %s", b)
	}
	x.quit()
}

// TestARealDeviceComesInAPlayedOnesPlace: pen 2 is no longer played, and a stranger that speaks MQTT by bytes comes in its
// place: it is seen under its name, and judged.
func TestARealDeviceComesInAPlayedOnesPlace(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "hodstone.yaml")
	if err := os.WriteFile(file, []byte(`hodstone: 1
name: two pens
brokers: {quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}}
contract:
  parties:
    pen: {terms: {client-id: "pen-{pen}", keep-alive: 10s..30s}}
    shore:
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    oxygen: {topic: "v/{pen}/oxygen", from: pen, to: shore, qos: 0, payload: {format: number, minimum: 0, maximum: 20, unit: mg/l}}
devices:
  pen: {count: 2, plays: pen, parameters: {pen: "{n}"}, session: {client-id: "pen-{n}", keep-alive: 10s}, publishes: [{clause: oxygen, every: 1s, payload: 8.25}]}
`), 0o600); err != nil {
		t.Fatal(err)
	}
	x := open(t, 160, 47, file)
	x.await(`2 on`)
	x.keys("4")
	x.await(`▸ pen-1`, `pen-2 +● on`)
	x.keys("Down", "R")
	shown := x.await(`pen-2 +◇ real`, `pen-2 is not played any more`, `◇ 1 real`, `127\.0\.0\.1:\d+`)
	at := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(shown)
	l, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	// CONNECT of MQTT 3.1.1, clean session, keep alive 3 s, as pen-2 (§3.1); then PUBLISH at QoS 0 (§3.3).
	l.Write([]byte("\x10\x11\x00\x04MQTT\x04\x02\x00\x03\x00\x05pen-2"))
	ack := make([]byte, 4)
	if _, err := io.ReadFull(l, ack); err != nil || string(ack) != "\x20\x02\x00\x00" {
		t.Fatalf("% x %v", ack, err)
	}
	publish := func(value string) {
		topic := "v/2/oxygen"
		l.Write(
			[]byte("\x30" + string(rune(2+len(topic)+len(value))) + "\x00" + string(rune(len(topic))) + topic + value),
		)
	}
	publish("7.75")
	x.keys("3")
	x.await(`pen +terms of 2 sessions|terms of \d sessions`, `✓ 7\.75 mg/l`, `keep-alive +expected 10s\.\.30s, saw 3s`)
	publish("77")
	x.await(`✗ 77 mg/l`, `pen-2|oxygen 2`)
	x.keys("4", "R")
	x.await(`pen-2 is played again`)
	x.keys("3")
	x.await(`✓ 8\.25 mg/l.*✓ 8\.25 mg/l`)
	x.quit()
}

// TestADeviceIsPutToTheProofOnTheScreen: its board fills as the checks end, what has to be changed is told, and the site is
// at work again afterwards.
func TestADeviceIsPutToTheProofOnTheScreen(t *testing.T) {
	t.Parallel()
	x := open(t, 160, 47, "demo")
	x.await(`7 on`)
	x.keys("4", "Down", "m")
	x.await(`what pen-2 does wrong`, `▸ · payload\.numbers-as-text`)
	x.keys("Enter")
	x.await(`! payload\.numbers-as-text`)
	x.keys("Escape")
	x.await(`misbehaves: payload\.numbers-as-text`, `q quit`)
	x.keys("P")
	x.await(
		`pen-2 is put to the proof`,
		`it dials mqtts://127\.0\.0\.1:`,
		`✓ kept +device\.arrives`,
		`◌ under way +device\.speaks`,
		`○ 7 off`,
	)
	x.keys("Down")
	x.await(`under way for 1\ds in all`)
	x.await(`✗ broken +device\.speaks`, `→ let what pen\.\w+ says at /\w+ be type "number"; it is`)
	x.keys("s")
	x.await(`pen-2 was put to the proof`, `1 kept, 1 broken, .*undecided; stopped, and not kept`)
	x.keys("Escape")
	x.await(`the site: who publishes left`)
	x.await(`7 on`)
	x.quit()
}

// TestALoadOnTheScreen: it climbs, is held and stopped, its result and chart are there, another run is laid under it, and it is
// exported.
func TestALoadOnTheScreen(t *testing.T) {
	t.Parallel()
	file, text := demoFile(t, t.TempDir())
	text = strings.Replace(text, "bound: {p99: 100ms,", "bound: {p99: 20s,", 1) // it holds on a busy machine too
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	x := open(t, 160, 47, file)
	x.await(`7 on`)
	x.keys("7")
	x.await(
		`spring tide +120 plain, 80 tls, echo`,
		`clients from 40 to 200 by 40`,
		`a quick look`,
		`▸ spring tide`,
		`idle`,
	)
	x.keys("Enter")
	x.await(
		`◌ step 1: 40 clients, 1500 messages a second asked for`,
		`clients in +40`,
		`round trip p99 +[\d.]+ .s`,
		`◌ under way`,
	)
	x.keys("Space")
	x.await(`‖ held: step`, `space go on`)
	x.keys("Space")
	x.await(`space hold here`)
	x.await(`1 +40 +40 +1500 +1\d\d\d +0 .*✓ held`)
	x.keys("s")
	x.await(`! stopped before its end`, `messages +\d+ sent, \d+ received of \d+ expected, 0 lost`, `! stopped`)
	x.keys("Enter")
	x.await(`◌ step 1: `)
	x.await(`1 +40 +40 +1500 +1\d\d\d +0 .*✓ held`)
	x.keys("s")
	x.await(`! stopped before its end`, `d lay another`)
	x.keys("d")
	x.await(`grey: the run of `)
	name := filepath.Join(t.TempDir(), "tide.pdf")
	x.keys("x")
	x.await(`export to`)
	for range 40 {
		x.keys("BSpace")
	}
	x.keys(name, "Enter")
	x.await(`written: `)
	if b, err := os.ReadFile(name); err != nil || !strings.HasPrefix(string(b), "%PDF-") {
		t.Error(err)
	}
	x.keys("Escape")
	x.await(`▸ spring tide`)
	x.quit()
}
