package sequence

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
)

var update = flag.Bool("update", false, "write the golden files anew")

var start = time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)

// conversation is one of everything that a sequence shows.
func conversation() []trace.Event {
	at := start
	event := func(name string, k trace.Kind, p packet.Packet) trace.Event {
		at = at.Add(12 * time.Millisecond)
		e := trace.Event{At: at, Client: name, Kind: k, Packet: p, Version: packet.V311}
		if p != nil {
			e.Raw = p.Append(nil, packet.V311)
		}
		return e
	}
	happened := func(name string, l client.LinkEvent, text string) trace.Event {
		e := event(name, trace.Link, nil)
		e.Link, e.Text = l, text
		return e
	}
	oxygen := []byte(`{"mgl":8.41,"at":"2026-05-01T06:00:00Z"}`)
	long := "marrowvoe/pen/1/a/topic/that/is/longer/than/the/room/there/is/oxygen"
	malformed := func() trace.Event {
		e := event("pen-1", trace.Received, nil)
		e.Raw, e.Broken = []byte{0x36, 2, 0, 0}, "PUBLISH, byte 0: QoS 3 (MQTT 3.1.1 §3.3.1.2)"
		return e
	}
	es := []trace.Event{
		happened("pen-1", client.LinkOpened, "127.0.0.1:1883"),
		event(
			"pen-1",
			trace.Sent,
			&packet.Connect{Level: packet.V311, ClientID: "pen-1", CleanStart: true, KeepAlive: 10},
		),
		event("pen-1", trace.Received, &packet.Connack{SessionPresent: true}),
		event(
			"shore",
			trace.Sent,
			&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "marrowvoe/#", QoS: 1}}},
		),
		event("shore", trace.Received, &packet.Suback{ID: 1, Codes: []packet.ReasonCode{1}}),
		stored(
			event(
				"shore",
				trace.Received,
				&packet.Publish{Topic: "marrowvoe/pen/1/status", QoS: 1, ID: 2, Retain: true, Payload: []byte("on")},
			),
		),
		event("pen-1", trace.Sent, &packet.Publish{Topic: "marrowvoe/pen/1/oxygen", Payload: oxygen}),
		event("shore", trace.Received, &packet.Publish{Topic: "marrowvoe/pen/1/oxygen", Payload: oxygen}),
		event("pen-1", trace.Sent, &packet.Publish{Topic: long, QoS: 2, ID: 3, Dup: true, Payload: []byte{0, 255}}),
		event("pen-1", trace.Received, &packet.Pubrec{Ack: packet.Ack{ID: 3}}),
		malformed(),
		happened("pen-1", client.LinkFrozen, "nothing is read or written"),
		event("pen-1", trace.Held, &packet.Publish{Topic: "marrowvoe/pen/1/oxygen", Payload: oxygen}),
		event("pen-1", trace.Lost, &packet.Pingreq{}),
		happened("pen-1", client.LinkThawed, "it goes on"),
		happened("pen-1", client.LinkEnded, "the broker closed the connection"),
		happened("pen-2", client.LinkFailed, "refused"),
	}
	for i := range es {
		es[i].Seq = uint64(i + 1)
	}
	return es
}

func stored(e trace.Event) trace.Event {
	e.Meaning.Stored = trace.StorageCopy
	return e
}

func draw(t *testing.T, w, h int, change func(*Drawing)) string {
	t.Helper()
	theme := look.NewTheme(true, look.AllColours)
	c := look.NewCanvas(w, h, &theme)
	events := conversation()
	d := Drawing{Events: events, Lanes: report.Lanes(events), Cursor: 6, Since: start,
		Marked: func(e *trace.Event) Mark {
			if p := e.Publish(); p != nil && e.Client == "shore" && strings.HasSuffix(p.Topic, "oxygen") {
				return Mark{"✗", "minimum /mgl -0.4", theme.Broken}
			}
			return Mark{}
		}}
	if change != nil {
		change(&d)
	}
	if rows := d.Draw(c); rows != max(0, h-1) {
		t.Errorf("%d rows", rows)
	}
	lines := strings.Split(ansi.Strip(c.Render()), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n") + "\n"
}

func TestGoldenSequences(t *testing.T) {
	for name, text := range map[string]string{
		"wide.txt":   draw(t, 140, 17, nil),
		"narrow.txt": draw(t, 66, 17, nil),
		"scrolled.txt": draw(t, 140, 6, func(d *Drawing) {
			d.First, d.Cursor, d.Since = 8, 9, start.Add(120*time.Millisecond)
		}),
	} {
		file := filepath.Join("testdata", name)
		if *update {
			if err := os.MkdirAll("testdata", 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if text != string(want) {
			t.Errorf("%s has changed (-update writes it anew):\n%s", file, text)
		}
	}
}

// TestArrowsPointTheRightWay: towards the broker for what a client sent, away from it
// for what it received, on both sides of the broker's lane.
func TestArrowsPointTheRightWay(t *testing.T) {
	lines := strings.Split(draw(t, 140, 17, func(d *Drawing) { d.Lanes = []string{"pen-1", "pen-2", "shore"} }), "\n")
	broker := strings.Index(string([]rune(lines[0])), BrokerLane)
	for i, want := range map[int]string{2: "▶", 3: "◀", 4: "◀", 5: "▶", 6: "▶", 7: "▶", 8: "▶"} {
		if n := strings.Count(lines[i], "▶") + strings.Count(lines[i], "◀"); n != 1 ||
			!strings.Contains(lines[i], want) {
			t.Errorf("row %d points wrongly, want %s: %s", i, want, lines[i])
		}
	}
	if broker < 0 || !strings.Contains(lines[6], "╌") || strings.Contains(lines[7], "╌") {
		t.Error("a stored message does not look different from a live one")
	}
	if !strings.Contains(lines[8], "✗ minimum /mgl -0.4") {
		t.Errorf("the breach is not marked: %s", lines[8])
	}
}

func TestAnyRoomWillDo(t *testing.T) {
	for w := 0; w < 150; w += 7 {
		for h := 0; h < 20; h += 3 {
			for i, line := range strings.Split(draw(t, w, h, nil), "\n") {
				if look.Width(line) > w {
					t.Fatalf("%d×%d: row %d is %d wide", w, h, i, look.Width(line))
				}
			}
		}
	}
	draw(t, 100, 10, func(d *Drawing) { d.Events, d.Lanes, d.Cursor = nil, nil, -1 })
}
