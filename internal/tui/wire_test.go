package tui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/record"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
)

func (x *interfaceOn) typed(text string) {
	x.types(text)
	x.key("enter")
}

// types presses a key for each character.
func (x *interfaceOn) types(text string) {
	for _, k := range text {
		if k == ' ' {
			x.key("space")
			continue
		}
		x.key(string(k))
	}
}

func (x *interfaceOn) gone(text string) {
	x.t.Helper()
	for end := time.Now().Add(10 * time.Second); strings.Contains(x.step(), text); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			x.t.Fatalf("%q is still there:\n%s", text, x.step())
		}
	}
}

// TestTheWireFromAllSides: journeys with every hop, statistics by topic and client, lanes that
// are folded, hidden and moved, words found, and the sequence exported.
func TestTheWireFromAllSides(t *testing.T) {
	t.Chdir(t.TempDir())
	x := on(t, demoFiles(t), 170, 50)
	x.await("7 on", "✗ 1 breach", "stray")
	x.key("5")
	x.key("v")
	x.await(
		"▸journeys",
		"publisher → broker → receivers",
		"pen-3",
		"✓ observer q0",
		"─ q1 retain",
		"µs",
		"✗ observer q0",
		"? observer q0",
	)
	x.key("G")
	x.key("up")
	x.await("▸")
	x.key("enter") // opens on the sequence, at the message's first packet
	x.await("▸sequence", "scrolled back")
	x.key("v")
	x.key("v")
	x.await("▸statistics", "topics, by rate", "marrowvoe/pen/1/oxygen", "retain", "last value", "/s")
	x.key("o")
	x.await("by count")
	x.key("c")
	x.await("clients, by count", "published", "observer", "3.1.1")
	x.key("enter")
	x.await("▸sequence", "filter client:")
	x.key("esc")
	x.gone("filter client:")

	x.key("l")
	x.await("lanes, 8 clients", "shown")
	x.key("space")
	x.await("folded")
	x.key("down")
	x.key("space")
	x.await("+2 more")
	x.key("space")
	x.await("hidden", "1 lane hidden")
	x.key("G")
	x.key("K")
	x.key("o")
	x.await("7 lanes hidden")
	x.key("a")
	x.gone("hidden")
	x.key("esc")
	x.gone("lanes, 8")

	x.key("f")
	x.typed("oxygen mgl")
	x.key("N")
	x.await("find oxygen mgl", "scrolled back")
	x.key("n")
	x.key("f")
	for range 20 {
		x.key("backspace")
	}
	x.typed("nothing like it")
	x.await("no further nothing like it")
	x.key("b")
	x.gone("searching")
	x.await("▸")

	x.key("x")
	x.await("export what is shown to", "ends in .svg or .pdf")
	for range 60 {
		x.key("backspace")
	}
	x.typed("shown.png")
	x.await("is written as .svg or .pdf")
	for range 60 {
		x.key("backspace")
	}
	x.typed("shown.svg")
	x.await("shown.svg written: ")
	b, err := os.ReadFile("shown.svg")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Marrow Voe sea farm", "broker quay, mqtt://127.0.0.1:", ">broker<", "PUBLISH"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the drawing lacks %q", want)
		}
	}
	if !strings.Contains(string(b), "breach: ") && !strings.Contains(string(b), "stray ") {
		t.Error("what was found is not in the drawing")
	}
	x.key("x")
	for range 60 {
		x.key("backspace")
	}
	x.typed("shown.svg")
	x.await("is there already: choose another name")
	x.key("esc")
	x.key("/")
	x.typed("type:connect")
	x.await("filter type:connect")
	x.key("X")
	for range 60 {
		x.key("backspace")
	}
	x.typed("connects.pdf")
	x.await("connects.pdf written: 7 events")
	x.key("enter")
	x.await("CONNECT", "client identifier")
	x.key("esc")
	x.key("esc")

	// Inside the stand-in: who is there, throwing out.
	x.key("4")
	x.key("i")
	x.await("inside quay: 8 sessions, 8 connected", "marrowvoe/pen/1/feeder/set", "refused: 0")
	x.key("o")
	x.await("barge is thrown out")
	x.await("8 connected") // and it comes back
	x.key("esc")
	x.key("d")
	x.await("slow the link of pen-1")
	x.typed("soon")
	x.await(`"soon" is no delay`)
	for range 8 {
		x.key("backspace")
	}
	x.typed("300ms 4000")
	x.await("◷ slowed by 300ms 4000 B/s")
	x.key("d")
	x.typed("")
	x.gone("slowed by")
}

// TestPayloadsInEveryShape: text, a JSON tree, hexadecimal, and an image by name and size.
func TestPayloadsInEveryShape(t *testing.T) {
	x := on(t, file("hodstone: 1\nbrokers: {quay: {stand-in: {}}}\n"), 120, 45)
	x.await("quay in")
	gif := "GIF89a\x30\x00\x20\x00\x80\x00\x00\x00\x00\x00\xff\xff\xff,\x00\x00\x00\x00\x30\x00\x20\x00\x00\x02\x02D\x01\x00;"
	for topic, payload := range map[string]string{"a/json": `{"pens":[{"n":1,"ok":true},{"n":2,"ok":null}],"at":"noon"}`, "b/image": gif} {
		x.run(func() tea.Msg {
			x.m.bench.Send(t.Context(), "", workbench.Message{Topic: topic, Payload: []byte(payload), QoS: 1})
			return nil
		})
	}
	x.key("5")
	x.key("/")
	x.typed("topic:a/json")
	x.await("PUBLISH", "a/json")
	x.key("enter")
	x.await("payload, 58 bytes, as text", `"pens": [`)
	x.key("v")
	x.await("as tree", "▾ payload", "{2}", "▾ pens", "[2]", "▾ [0]", "· ok", "true", "boolean", `"noon"`)
	x.key("v")
	x.await("as hex", "000000  7b 22 70 65", `{"pens":[{"n":1,`)
	x.key("esc")
	x.key("/")
	for range 30 {
		x.key("backspace")
	}
	x.typed("topic:b/image")
	x.await("b/image")
	x.key("enter")
	x.await("GIF image, 48 × 32, as hex", "GIF89a")
}

// TestARecordOnTheWireScreen: opened again, with lines of a log and a gap; filtered,
// searched, counted.
func TestARecordOnTheWireScreen(t *testing.T) {
	log := trace.NewLog(100_000)
	at := time.Date(2026, 11, 23, 9, 30, 0, 0, time.Local)
	for n := range 30_000 {
		p := &packet.Publish{
			Topic:   []string{"farm/a", "farm/b", "farm/c"}[n%3],
			Payload: []byte("value " + strings.Repeat("x", n%5)),
			Retain:  n == 20_000,
		}
		e := trace.Event{
			At:      at,
			Client:  []string{"pen", "desk"}[n%2],
			Role:    trace.RoleDevice,
			Broker:  "quay",
			Conn:    1,
			Kind:    trace.Sent + trace.Kind(n%2),
			Version: packet.V311,
			Packet:  p,
			Raw:     p.Append(nil, packet.V311),
		}
		log.Add(e)
		at = at.Add(time.Millisecond)
	}
	log.Add(trace.Event{At: at, Client: "console", Role: trace.RoleLog, Kind: trace.Line, Text: "pump 3 tripped"})
	path := filepath.Join(t.TempDir(), "r.db")
	r, err := record.Start(log, 1, record.Options{Path: path, Meta: map[string]string{"workspace": "Marrow Voe"}})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := record.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	b := workbench.Reopen(f)
	x := &interfaceOn{t: t, m: newModel(b), msgs: make(chan tea.Msg, 1000)}
	t.Cleanup(func() { x.wg.Wait(); b.Close(); f.Close() })
	x.m.Update(tea.WindowSizeMsg{Width: 140, Height: 40})
	x.await("Marrow Voe", "1 wire", "30001 events", "▤", "pen", "desk", "console", "farm/a q0 value")
	x.key("G")
	x.await("pump 3 tripped", "+30.000")
	x.key("/")
	x.typed("topic:farm/b client:desk")
	x.await("filter topic:farm/b client:desk", "5000 events")
	x.key("f")
	x.typed("xxxx")
	x.await("find xxxx")
	x.gone("searching")
	x.key("esc")
	x.await("30001 events")
	x.key("v")
	x.await("▸journeys", "pen", "farm/")
	x.key("v")
	x.await("3 topics, by rate", "farm/c")
	x.key("l")
	x.key("space")
	if text := ansi.Strip(x.step()); strings.Contains(text, "paused") {
		t.Error("a record can be paused")
	}
	// Scrolling through it all in pages stays in the record.
	x.key("v")
	x.key("g")
	for range 40 {
		x.key("pgdown")
		x.step()
	}
	x.await("+1.")
}
