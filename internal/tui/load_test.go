package tui

import (
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	tea "charm.land/bubbletea/v2"
)

// loadSite is a site with two short loads.
var loadSite = workspaceFiles{fstest.MapFS{"f.yaml": {Data: []byte(`hodstone: 1
name: tide
brokers: {quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}, far: {listeners: {tcp: {url: "mqtt://192.0.2.1:1883"}}}}
loads:
  one: {broker: quay, clients: {plain: 6}, publish: {every: 50ms}, ramp: {from: 2, to: 6, by: 2, hold: 1200ms}, bound: {p99: 5s, lost: 0}}
  two: {broker: quay, clients: {plain: 4}, publish: {every: 50ms}, hold: 2500ms, bound: {p50: 1us}}
  three: {broker: far, clients: {plain: 4}}
`)}}, "f.yaml"}

// TestTheLoadScreen: the list, a load from its beginning to its end, one that breaks its bound, one that is refused, and two laid
// over each other; at every size, whatever is typed.
func TestTheLoadScreen(t *testing.T) {
	t.Chdir(t.TempDir()) // a random key may export
	x := on(t, loadSite, 160, 47)
	x.key("7")
	x.await(
		"load: how many, how fast",
		"▸ one",
		"6 plain, echo: messages of its own, every 50ms",
		"clients from 2 to 6 by 2, each held for 1.2s",
		"has to hold: p99<=5s,lost=0",
		"a quick look",
		"idle",
	)
	x.key("enter")
	x.await("one on quay/tcp mqtt://127.0.0.1:", "◌ step", "clients in", "round trip p99", "under way")
	x.await(
		"✓ the bound held: p99<=5s,lost=0",
		"✓ held",
		"6 in of 6",
		"neither broker nor generator was at its end",
		"✓ bound held",
	)
	x.key("esc")
	x.await("▸ one")
	x.key("down")
	x.key("enter")
	x.await("◌ step 1: 4 clients, 80 messages a second")
	x.await("✗ the bound did not hold: p50<=1µs", "✗ p50<=1µs: ", "✗ bound broken")
	x.key("d")
	x.await("grey: the run of ", ", one")
	x.key("d")
	x.gone("grey: the run of")
	x.key("p")
	x.await("✓ the bound held")
	x.key("x")
	x.await("export to (.svg, .pdf, .csv or .json)", "load-")
	x.key("esc")
	x.await("x export")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {100, 30}, {200, 60}, {60, 47}, {160, 16}} {
		x.m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		if text := x.step(); size[1] > 20 && !strings.Contains(text, "bound") {
			t.Errorf("%v:\n%s", size, text)
		}
	}
	x.m.Update(tea.WindowSizeMsg{Width: 80, Height: 24}) // what has no room is scrolled to
	x.await("neither broker nor generator was at its end", "heard a second", "clients    6 in of 6", " ↓ ")
	for range 30 {
		x.key("down")
	}
	x.await("limit ")
	x.lacks("clients    6 in of 6")
	x.lacks(" ↓ ")
	x.m.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	x.key("esc")
	x.key("down")
	x.key("enter")
	x.await("neither a stand-in nor on this machine", "write 'load: allowed'")
	r := rand.New(rand.NewPCG(1, 2))
	keys := []string{"up", "down", "enter", "esc", "space", "s", "p", "d", "r", "x", "a", "?", "left"}
	for end := time.Now().Add(3 * time.Second); time.Now().Before(end); {
		x.key(keys[r.IntN(len(keys))])
		if text := x.step(); strings.TrimSpace(text) == "" {
			t.Fatal("nothing is shown")
		}
	}
}
