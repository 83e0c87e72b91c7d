package tui

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"hodstone/demo"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// interfaceOn is the whole interface without a terminal: keys go in, text comes out.
type interfaceOn struct {
	t    *testing.T
	m    *model
	wg   sync.WaitGroup
	msgs chan tea.Msg
}

func on(t *testing.T, files workspaceFiles, cols, rows int) *interfaceOn {
	t.Helper()
	w, err := workspace.Read(files.fs, files.name, files.name)
	if err != nil {
		t.Fatal(err)
	}
	return with(t, w, workbench.Options{Seed: 1}, cols, rows)
}

func with(t *testing.T, w *workspace.Workspace, o workbench.Options, cols, rows int) *interfaceOn {
	t.Helper()
	b, err := workbench.New(w, o)
	if err != nil {
		t.Fatal(err)
	}
	b.Start()
	x := &interfaceOn{t: t, m: newModel(b), msgs: make(chan tea.Msg, 10_000)}
	t.Cleanup(func() { x.wg.Wait(); b.Close() })
	x.m.Update(tea.WindowSizeMsg{Width: cols, Height: rows})
	return x
}

type workspaceFiles struct {
	fs   fstest.MapFS
	name string
}

func demoFiles(t *testing.T) workspaceFiles {
	t.Helper()
	out := workspaceFiles{fstest.MapFS{}, demo.File}
	for _, name := range []string{demo.File, "schemas/feeder.json"} {
		b, err := demo.Files.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		out.fs[name] = &fstest.MapFile{Data: b}
	}
	return out
}

func file(text string) workspaceFiles {
	return workspaceFiles{fstest.MapFS{"f.yaml": {Data: []byte(text)}}, "f.yaml"}
}

// run carries out a command in the background, as the program does.
func (x *interfaceOn) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	x.wg.Go(func() {
		switch msg := cmd().(type) {
		case tick, tea.QuitMsg, nil:
		case tea.BatchMsg:
			for _, c := range msg {
				x.run(c)
			}
		default:
			select {
			case x.msgs <- msg:
			default:
			}
		}
	})
}

func (x *interfaceOn) key(k string) {
	special := map[string]tea.Key{
		"enter": {Code: tea.KeyEnter},
		"esc":   {Code: tea.KeyEscape},
		"up":    {Code: tea.KeyUp},
		"down":  {Code: tea.KeyDown},
		"left": {
			Code: tea.KeyLeft,
		},
		"right": {Code: tea.KeyRight},
		"space": {Code: tea.KeySpace, Text: " "},
		"tab":   {Code: tea.KeyTab},
		"pgup": {
			Code: tea.KeyPgUp,
		},
		"pgdown":    {Code: tea.KeyPgDown},
		"home":      {Code: tea.KeyHome},
		"end":       {Code: tea.KeyEnd},
		"backspace": {Code: tea.KeyBackspace},
	}
	for _, letter := range "dju" {
		special["ctrl+"+string(letter)] = tea.Key{Code: letter, Mod: tea.ModCtrl}
	}
	key, ok := special[k]
	if !ok {
		key = tea.Key{Code: []rune(k)[0], Text: k}
	}
	_, cmd := x.m.Update(tea.KeyPressMsg(key))
	x.run(cmd)
}

// deadKeys are keys of actions that another action, or the frame, takes first; those that move a
// cursor may have a meaning of their own at times.
func (x *interfaceOn) deadKeys() (dead []string) {
	taken := map[string]bool{}
	s := x.m.screens[x.m.at]
	if !s.Typing() {
		for _, a := range x.m.frameActions() {
			for _, k := range a.Keys() {
				taken[k] = true
			}
		}
	}
	for _, a := range s.Actions() {
		for _, k := range a.Keys() {
			if taken[k] && (a.Named || a.Not != "") {
				dead = append(dead, k+" "+a.Help().Desc)
			}
			taken[k] = true
		}
	}
	return dead
}

// step lets what happened meanwhile reach the interface and returns the screen's text.
func (x *interfaceOn) step() string {
	for {
		select {
		case msg := <-x.msgs:
			_, cmd := x.m.Update(msg)
			x.run(cmd)
			continue
		default:
		}
		break
	}
	x.m.Update(tick(time.Now()))
	return ansi.Strip(x.m.View().Content)
}

func (x *interfaceOn) await(want ...string) string {
	x.t.Helper()
	var text string
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		text = x.step()
		all := true
		for _, w := range want {
			all = all && strings.Contains(text, w)
		}
		if all {
			return text
		}
	}
	x.t.Fatalf("never saw all of %q:\n%s", want, text)
	return ""
}

// TestAThousandRandomKeys: nothing that is pressed in any order makes the program
// panic, or draw outside of its window.
func TestAThousandRandomKeys(t *testing.T) {
	t.Chdir(t.TempDir()) // some of them export drawings
	x := on(t, demoFiles(t), 160, 47)
	x.await("7 on")
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	keys := strings.Fields("enter enter enter esc esc up down left right space tab pgup pgdown home end backspace " +
		"1 2 3 4 5 6 p ctrl+d ? : ! / b w c f s v r o n N t x [ ] y Y g G h j k l q a # + é 9 3 3 B V X i d K J")
	var pressed []string
	defer func() {
		if p := recover(); p != nil {
			t.Fatalf("%v\nafter %v\n%s", p, pressed, debug.Stack())
		}
	}()
	for i := range 1000 {
		k := keys[r.IntN(len(keys))]
		pressed = append(pressed, k)
		x.key(k)
		if dead := x.deadKeys(); len(dead) > 0 {
			t.Fatalf("keys that the help tells of but that do nothing of it: %q, after %v", dead, pressed)
		}
		if i%50 == 0 {
			x.m.Update(tea.WindowSizeMsg{Width: 20 + r.IntN(180), Height: 3 + r.IntN(60)})
		}
		if i%3 == 0 {
			text := x.step()
			lines := strings.Split(text, "\n")
			if len(lines) > x.m.h {
				t.Fatalf("%d lines in %d rows after %v", len(lines), x.m.h, pressed)
			}
			for _, l := range lines {
				if look.Width(l) > x.m.w {
					t.Fatalf("a line of %d in %d columns after %v:\n%s", look.Width(l), x.m.w, pressed, l)
				}
			}
		}
	}
}

func TestOneWayThroughTheScreens(t *testing.T) {
	x := on(t, demoFiles(t), 160, 47)
	x.await("17 clauses", "7 on", "● quay in", "✗ 1 breach", "? 10 strays")
	x.key("b")
	x.key("up")
	x.await("from barge  ", "not run")
	x.key("enter") // a stray opens on the wire
	x.await("▸  ", "? stray")
	x.key("3")
	for _, k := range "/silo" {
		x.key(string(k))
	}
	x.key("enter")
	x.lacks("pen.oxygen 3")
	x.key("b") // the filter hides it, and gives way
	x.await("▸ ✗", "pen.oxygen 3")
	x.key("G")
	x.key("enter")
	x.await("breach at ", "from pen-3", "breaches of this cell")
	x.key("l")
	x.await("last message ", "from pen-3")
	x.key("esc")
	x.key("g")
	x.key("right")
	x.key("enter")
	x.await(
		"pen.oxygen pen 2",
		"dissolved oxygen at 5 m",
		"0 … 20",
		"over t",
		"payload, ",
	) // over time, or over the last 23s
	x.key("esc")

	// The values' meanings stand beside them.
	for range 6 {
		x.key("down")
	}
	x.await("marrowvoe/pen/{pen}/feeder/state")
	x.key("left")
	x.key("enter")
	x.await("feeder.state pen 1", "0 … 40", "mode ", "1 = by command")
	x.key("esc")

	x.key("5")
	x.key("/")
	for _, k := range "topic:marrowvoe/pen/+/oxygen" {
		x.key(string(k))
	}
	x.key("enter")
	x.await("filter topic:marrowvoe/pen/+/oxygen", "PUBLISH")
	x.key("up")
	x.key("enter")
	x.await("topic name", "remaining length", "payload, ", `"mgl"`)
	x.key("Y")
	x.await("payload copied")
	x.key("[")
	x.key("]")
	x.key("esc")
	x.key("esc")
	x.await("scrolled back")
	if strings.Contains(x.step(), "filter topic") {
		t.Error("the filter is still there")
	}
	x.key("t")
	x.await("times are relative to this packet now", "+0.000")
	x.key("end")
	x.await("● live")

	x.key("6")
	x.key("enter")
	x.await("has not run yet: r runs all checks")
	x.key("o")
	x.await("✓ 3 kept", "CONNACK 0 three times")
	x.key("enter")
	x.await("evidence: ", "CONNECT with everything in order", "subject")
	x.key("esc")
	x.key("r")
	x.key("s")
	x.await("undecided")
	x.key("r")
	x.await(" of ")
	text := x.await(
		"connect                  16 checks",
		"qos                      13 checks",
		"✓ 14 ∅ 1",
		"∅ unsupported keepalive.server-value",
	)
	if strings.Contains(text, "a proper CONNECT gets in") {
		t.Errorf("a family of which nothing is broken is not folded:\n%s", text)
	}
	x.key("enter")
	x.await(
		"▸ connect.accepted",
		"a proper CONNECT gets in",
		"will                     13 checks",
		"CONNACK 0 three times",
	)
	x.key("space")
	x.await("▸ connect                  16 checks")

	x.key(":")
	x.await("proof: run all", "go to trust", "quit")
	for _, k := range "zzzz" {
		x.key(string(k))
	}
	x.await("no action is called so")
	x.key("esc")
	x.key("?")
	x.await("keys of the proof screen", "unsupported")
	x.key("esc")
	x.m.Update(tea.MouseClickMsg{X: 2, Y: 14, Button: tea.MouseLeft})
	x.await("pen.oxygen       → barge, shore")
	x.m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	x.await("▸ pen.status", "marrowvoe/pen/{pen}/status")

	// An action of another screen goes there, and does it.
	x.key(":")
	for _, k := range "reachtry" {
		x.key(string(k))
	}
	x.await("▸ reach: try all")
	x.key("enter")
	x.await("ways in", "quay/tcp", "● in")

	// What it tried is on the wire, with lanes of its own only when asked for.
	x.key("5")
	x.key("G")
	x.await("● live", "observer")
	x.lacks(" more")
	x.key("c")
	x.await(" more")
	x.key("c")
	x.await("● live", "observer")
	x.lacks(" more")
}

func TestDevicesAreSwitchedByHand(t *testing.T) {
	x := on(t, demoFiles(t), 120, 40)
	x.await("7 on")
	x.key("4")
	for range 4 {
		x.key("down")
	}
	x.await("barge, plays barge", "feed_a", "publishes barge.weight")
	x.key("p")
	x.await("which of its messages is barge to publish now?", "barge.blower")
	x.key("enter")
	x.await("barge publishes barge.weight")
	x.key("c")
	x.await("barge cut: its link was reset")
	x.await("barge          ● on")
	x.key("v")
	x.await("set a signal", "feed_a")
	x.key("esc")
	x.key("space")
	x.await("barge stopped", "barge          ○ off", "○ 1 off")
	x.key("p")
	x.await("barge is not connected: start it first")
	x.key("space")
	x.await("barge started", "7 on")

	// A payload of several lines is pasted whole, and goes out as it is.
	x.key("end")
	x.await("store, plays store")
	x.key("s")
	x.await("send by hand", "to feed.order", "✓ as feed.order agrees", "order", "kg")
	x.key("ctrl+e")
	x.key("ctrl+u")
	x.await("begin with: as PARTY send PAYLOAD")
	x.types("as sho")
	x.await("⇥ shore")
	x.key("tab")
	x.types("send ")
	x.m.Update(tea.PasteMsg{Content: "{\r\n  \"order\": 77,\r\n  \"kg\": 25000"})
	x.key("ctrl+j")
	x.types("} to feed.order")
	x.await("✗ schema at /kg: agreed is maximum 8000", "→ marrowvoe/shore/order")
	for range len("0\n} to feed.order") {
		x.key("backspace")
	}
	x.types("} to feed.order")
	x.await("✓ as feed.order agrees", "by shore")
	x.key("enter")
	x.await("sent to marrowvoe/shore/order")
	x.key("s")
	x.await("said before")
	x.key("up")
	x.await(`"order": 77,`)
	x.key("down")
	x.key("esc")
	x.key("5")
	x.key("/")
	x.typed("topic:marrowvoe/shore/order")
	x.await("marrowvoe/shore/order", `{\n  "order": 77,\n`)
}

func TestEmptyScreensTeach(t *testing.T) {
	x := on(t, file("hodstone: 1\nname: nothing yet\n"), 100, 30)
	x.await("No way in is known yet", "0 clauses", "nothing yet", "no listener")
	x.key("r")
	x.await("there is no listener to try")
	x.key("2")
	x.await("No credentials are known yet")
	x.key("h")
	x.await("No listener has TLS", "the workspace has no listener with TLS") // its notice must not come later
	x.key("3")
	x.await("This workspace has no clause yet")
	x.key("4")
	x.await("Devices play the clients that are not there yet")
	for _, k := range []string{"down", "enter", "space", "c", "f", "s", "v"} {
		x.key(k)
	}
	x.key("5")
	x.await("The wire shows every packet of every client", "Nothing has come yet")
	x.key("6")
	x.await("the workspace has no usable broker")
	x.key("r")
	x.await("no usable broker to put to the proof")
}

// TestABrokerThatIsNotThere: the reason is on the rail, and the devices tell it too.
func TestABrokerThatIsNotThere(t *testing.T) {
	x := on(t, file(`hodstone: 1
brokers:
  harbour: {listeners: {inside: {url: "mqtt://127.0.0.1:1"}}, login: pen}
logins: {pen: {password: s3cret}}
contract:
  parties: {pen: }
  clauses: {a: {topic: v/a, from: pen, payload: {format: text}}}
devices:
  pen: {plays: pen, publishes: [{clause: a, every: 1s, payload: x}]}
`), 160, 47)
	x.await("╳ harbour away", "refused", "╳ 1 away", "! login in clear")
	x.key("4")
	x.await("pen            ╳ away", "nothing listens on that port there", "tries again in")
	x.key("6")
	x.key("r")
	x.await("✗ not reached")
}

func TestLightDarkAndWithoutColour(t *testing.T) {
	x := on(t, demoFiles(t), 160, 47)
	x.await("7 on", "✗ 1 breach")
	seen := map[string]bool{}
	for _, p := range []colorprofile.Profile{colorprofile.TrueColor, colorprofile.ANSI256, colorprofile.ASCII} {
		for _, ground := range []string{"#101010", "#fafafa"} {
			x.m.Update(tea.ColorProfileMsg{Profile: p})
			x.m.Update(tea.BackgroundColorMsg{Color: hexColour(ground)})
			v := x.m.View()
			if (v.BackgroundColor != nil) != (p != colorprofile.ASCII) {
				t.Errorf("profile %v sets the terminal's ground: %v", p, v.BackgroundColor)
			}
			var plain strings.Builder
			w := &colorprofile.Writer{Forward: &plain, Profile: p}
			io.WriteString(w, v.Content)
			seen[fmt.Sprint(p, ground, plain.Len())] = true
			// Without any colour every sign still has its word.
			for _, want := range []string{"breach", "stray", "● quay in", "▸", "▌"} {
				if !strings.Contains(ansi.Strip(plain.String()), want) {
					t.Errorf("profile %v: no %q", p, want)
				}
			}
		}
	}
	if len(seen) != 6 {
		t.Errorf("%d different outputs", len(seen))
	}
}

type hexColour string

func (h hexColour) RGBA() (r, g, b, a uint32) {
	var x, y, z uint32
	fmt.Sscanf(string(h), "#%02x%02x%02x", &x, &y, &z)
	return x << 8, y << 8, z << 8, 0xffff
}

// faulty is a screen that panics where it is told to.
type faulty struct{ in string }

func (f *faulty) Title() string { return "faulty" }
func (f *faulty) Update(msg tea.Msg) tea.Cmd {
	if _, is := msg.(look.Tick); !is && f.in == "Update" {
		panic("no floor in " + f.in)
	}
	cmd := func() tea.Msg { panic("no floor in " + f.in) }
	switch _, is := msg.(tea.KeyPressMsg); {
	case is && f.in == "command":
		return cmd
	case is && f.in == "batch":
		return tea.Batch(nil, cmd, func() tea.Msg { return nil })
	}
	return nil
}
func (f *faulty) Actions() []look.Action           { return nil }
func (f *faulty) Typing() bool                     { return false }
func (f *faulty) Rail(*look.Theme) []look.RailLine { return nil }
func (f *faulty) View(c look.Canvas) {
	if f.in == "View" {
		panic("no floor in " + f.in)
	}
}

// TestAFaultIsTold: a panic anywhere in a screen is told, and everything else goes on.
func TestAFaultIsTold(t *testing.T) {
	x := on(t, demoFiles(t), 120, 40)
	x.await("7 on")
	bad := &faulty{}
	x.m.screens = append(x.m.screens, bad)
	for _, bad.in = range []string{"Update", "command", "batch"} {
		x.key("8")
		x.key("z")
		x.await("✗ a fault of Hodstone's own: no floor in " + bad.in)
	}
	bad.in = "View"
	x.await("This screen cannot be drawn", "no floor in View")
	x.key("4")
	x.await("pen-1, plays pen")
}

// TestADeviceIsMadeToMisbehave on the screen, and no longer.
func TestADeviceIsMadeToMisbehave(t *testing.T) {
	x := on(t, demoFiles(t), 160, 47)
	x.key("4")
	x.await("pen-1", "plays pen")
	x.key("m")
	x.await("what pen-1 does wrong", "· payload.numbers-as-text", "more")
	x.key("enter")
	x.await("! payload.numbers-as-text", "from now on: Numbers in its messages are texts.")
	x.key("esc")
	x.await("! misbehaves: payload.numbers-as-text")
	x.key("m")
	x.key("enter")
	x.await("no longer does: Numbers")
	x.key("esc")
	x.await("pen-1          ●")
}

// TestTheSiteIsDrawn: devices left and right of their broker, what is pinned and ready beside them; the arrows go across.
func TestTheSiteIsDrawn(t *testing.T) {
	x := on(t, demoFiles(t), 160, 47)
	x.await("7 on")
	x.key("4")
	x.await("the site: who publishes left", "quay", "▸ pen-1", "▫ pen.oxygen", "» F2 feed 2", "▫ barge.silo", " mg/l, ")
	x.key("right")
	x.await("▸ barge", "barge, plays barge")
	x.key("left")
	x.key("down")
	x.await("▸ pen-2", "▶")
	x.key("f2")
	x.await("sent to marrowvoe/pen/2/feeder/set", "rate           12 kg/min")
	x.key("n")
	x.await("which message is to be sent?", "rest 2  F3")
	x.key("down")
	x.key("enter")
	x.await(`as shore send {"run":false} to feeder.set of pen 2`)
	x.key("esc")
	x.key("f")
	x.await("❄ frozen", "───❄───")
	x.key("f")
	x.key("space")
	x.await("○ off")
	x.key("t")
	x.await("─ device ─", "sent  received", "○ off", "▸ pen-2")
	x.key("t")
	for _, name := range []string{"site.svg", "site.pdf"} {
		x.key("x")
		x.await("export the drawing of the site")
		x.key("ctrl+u")
		file := filepath.Join(t.TempDir(), name)
		x.typed(file)
		x.await("is written")
		b, err := os.ReadFile(file)
		if err != nil || name == "site.svg" && !strings.Contains(string(b), "feed 2") || len(b) < 2000 {
			t.Errorf("%s: %d bytes, %v", name, len(b), err)
		}
	}
}

// TestManyDevicesAreFolded: a row for all of a kind, the odd ones beneath it, each by itself when asked.
func TestManyDevicesAreFolded(t *testing.T) {
	x := on(t, file(`hodstone: 1
brokers: {quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}}
contract:
  parties: {buoy: , desk: }
  clauses:
    level: {topic: "v/{n}/level", from: buoy, to: desk, payload: {format: number}}
devices:
  buoy: {count: 40, plays: buoy, broker: quay, parameters: {n: "{n}"}, session: {client-id: "b-{n}"}, publishes: [{clause: level, every: 1s, payload: 3}]}
  desk: {plays: desk, broker: quay, session: {client-id: desk}}
`), 140, 40)
	x.key("4")
	x.await("buoy ×40", "● 40 on", "buoy: 40 devices, play buoy", "all are at work", "desk", "▶")
	x.lacks("buoy-7")
	x.key("enter")
	x.await("buoy-1 ", "buoy-7 ")
	x.key("down")
	x.key("down")
	x.key("space")
	x.await("buoy-2 stopped")
	x.key("home")
	x.key("enter")
	x.await("● 39 on  ○ 1 off", "buoy-2         ○ off")
	x.lacks("buoy-7")
	x.key("t")
	x.await("buoy ×40", "● 39 on  ○ 1 off", "▸")
}

// TestATapIsRuledOnTheScreen: its rules are switched on and off, and shown while they are on; what is no rule is told.
func TestATapIsRuledOnTheScreen(t *testing.T) {
	x := on(t, file(`hodstone: 1
brokers: {quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}}
contract:
  parties: {buoy: , desk: }
  clauses:
    level: {topic: "v/{n}/level", from: buoy, to: desk, payload: {format: number}}
devices:
  buoy: {plays: buoy, broker: quay, real: true, parameters: {n: "1"}, session: {client-id: b}, publishes: [{clause: level, every: 1s, payload: 3}]}
taps: {bench: {listen: "mqtt://127.0.0.1:0", device: buoy}}
`), 140, 40)
	x.key("4")
	x.await("◇ real", "the real one dials the tap bench at mqtt://127.0.0.1:")
	x.key("u")
	x.await("what disturbs whoever goes through the tap bench", "▸ add a rule")
	x.key("enter")
	x.typed("drop: PUBACK, towards: device}")
	x.await("✗")
	x.key("ctrl+u")
	x.typed("{drop: PUBACK, toward: device}")
	x.await("on: drop PUBACK toward the device", "! the tap: drop PUBACK toward the device, acted 0 times")
	x.key("u")
	x.key("down")
	x.await("▸ end: drop PUBACK toward the device")
	x.key("enter")
	x.await("it has ended")
	x.gone("! the tap:")
}

// TestASiteWhoseObserverIsBehind: what comes to our own eyes three seconds late is laid to nobody, and that it is so can be
// read in a small window too, beside the rules of a tap.
func TestASiteWhoseObserverIsBehind(t *testing.T) {
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	direct, _, err := s.ListenURL("mqtt://127.0.0.1:0", nil)
	if err != nil {
		t.Fatal(err)
	}
	eyes := tap.New(tap.Options{
		Dial:   func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, direct) },
		Broker: "quay", Log: trace.NewLog(1000),
	})
	defer eyes.Close()
	slow, err := eyes.Listen("mqtt://127.0.0.1:0", nil)
	if err != nil {
		t.Fatal(err)
	}
	x := on(t, file(`hodstone: 1
brokers: {quay: {listeners: {eyes: {url: "`+slow+`"}, direct: {url: "`+direct+`"}}}}
contract:
  parties: {pen: , shore: }
  clauses:
    oxygen: {topic: "v/{pen}/oxygen", from: pen, to: shore, qos: 1, every: 1s ± 700ms, payload: {format: number}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, answer: {clause: done, within: 1s}, payload: {format: text}}
    done: {topic: "v/{pen}/done", from: pen, to: shore, qos: 1, payload: {format: text}}
devices:
  pen:
    count: 3
    plays: pen
    broker: quay/direct
    parameters: {pen: "{n}"}
    publishes: [{clause: oxygen, every: 1s, payload: 8.25}, {clause: done, payload: ok}]
    reactions: [{when: set, publish: done}]
  shore: {plays: shore, broker: quay/direct, publishes: [{clause: set, every: 2s, payload: go, parameters: {pen: "1"}}]}
taps: {bench: {listen: "mqtt://127.0.0.1:0", to: quay/direct, rules: [{delay: PUBLISH, by: 200ms, toward: device, topic: "v/#"}]}}
`), 80, 24)
	x.key("4")
	x.await("4 on", "answers", "─ the site ── ! the tap: delay PUBLISH")
	x.key("3")
	x.await("oxygen", "✓ 8.25", "ok")
	x.key("4")
	rule, err := tap.ParseRule("{delay: PUBLISH, toward: device, by: 3s}")
	if err != nil {
		t.Fatal(err)
	}
	eyes.Set(rule)
	x.await("observer", "behind")
	for end := time.Now().Add(5 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		x.step()
	}
	x.key("3")
	x.await("breaches 0 in all, the latest first")
}
