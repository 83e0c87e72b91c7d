package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

const vats = `# The vats.
hodstone: 1
name: Vats
brokers: {plant: {stand-in: {}}} # inside
contract:
  parties:
    vat: {note: a vat}   # one each
    desk:
  parameters: {vat: {values: ["1", "2"]}}
  clauses:
    # How warm it is.
    vat.temp: {topic: "dairy/vat/{vat}/temp", from: vat, to: desk, qos: 0, payload: {format: number, minimum: 0, maximum: 100}} # in °C

    # The last one stands alone.
    vat.mode:
      topic: dairy/vat/{vat}/mode
      from: vat
      to: desk   # who else
      payload: {format: text, values: {on: x, off: y}}

devices: # two of them
  vat:
    count: 2
    plays: vat
    parameters: {vat: "{n}"}
    signals: {level: {wave: sine, mean: 40, swing: 5, period: 20s}}
    publishes:
      - {clause: vat.temp, every: 1s, payload: "= 30 + n"}
      - {topic: "dairy/vat/{n}/level", every: 1s, payload: "= round(level, 1)"}
`

// TestAClauseIsAddedOnTheScreen: the file holds it with all comments, the stray turns into covered traffic without a
// restart, undo brings the stray and the file back; a draft is taken, one is refused, a clause is changed.
func TestAClauseIsAddedOnTheScreen(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "hodstone.yaml")
	if err := os.WriteFile(file, []byte(vats), 0o600); err != nil {
		t.Fatal(err)
	}
	holds := func() string {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	x := open(t, 160, 47, file)
	x.await(`2 on`)
	x.keys("3")
	x.await(`\? stray  dairy/vat/1/level`, `\? stray  dairy/vat/2/level`, `✓ 31`)
	x.keys("a")
	x.await(`a new clause`, `begin with the clause's name`)
	x.keys("vat.level:", "Space", "da", "Tab")
	x.await(`vat\.level: dairy/`)
	x.keys("vat/", "{v", "Tab")
	x.await(`dairy/vat/\{vat\}`)
	x.keys("/temp")
	x.await(`✗ overlaps vat\.temp \(dairy/vat/\{vat\}/temp\)`)
	for range "temp" {
		x.keys("BSpace")
	}
	x.keys("level from va", "Tab")
	x.await(`from vat`, `covers 2 topics that were seen, 2 of them strays`)
	x.keys("to desk as text")
	x.await(`all of the last \d+ payloads pass`, `payload: \{format: text\}`)
	for range "text" {
		x.keys("BSpace")
	}
	x.keys("json")
	x.await(`payload: \{format: json\}`)
	x.keys("Enter")
	x.await(`vat\.level is in the contract`, `2 topics are no strays`, `3 clauses`, `none so far`)
	want := strings.Replace(vats, "values: {on: x, off: y}}\n", "values: {on: x, off: y}}\n"+`    vat.level:
      topic: dairy/vat/{vat}/level
      from: vat
      to: desk
      payload: {format: json}
`, 1)
	if got := holds(); got != want {
		t.Errorf("the file holds\n%s\nwant\n%s", got, want)
	}
	x.await(`vat\.level +→ desk +q– +✓ [34]\d`) // it is judged
	x.keys("u")
	x.await(`taken back`, `2 clauses`, `\? stray  dairy/vat/1/level`)
	if got := holds(); got != vats {
		t.Errorf("undone, the file holds\n%s", got)
	}
	// A draft is refused, and taken.
	x.keys("End")
	x.await(`d draft a clause`)
	x.keys("d")
	x.await(`drafted of dairy/vat/\d/level`, `▸ vat\.level: dairy/vat/\{vat\}/level from vat`, `as it would stand in the file`, `heard last on the topics`)
	x.keys("Escape")
	x.await(`\? stray  dairy/vat/2/level`)
	x.keys("d")
	x.await(`drafted of`)
	x.keys("Enter")
	x.await(`vat\.level is in the contract`, `3 clauses`)
	if got := holds(); !strings.Contains(got, "    vat.level:\n      topic: dairy/vat/{vat}/level\n") || !strings.Contains(got, "to: desk   # who else") {
		t.Errorf("drafted, the file holds\n%s", got)
	}
	// What stands in braces is changed there.
	x.keys("Home", "c")
	x.await(`the clause vat\.temp`, `at QoS 0`)
	x.keys(", every 9s")
	x.await(`every: 9s`)
	x.keys("Enter")
	x.await(`vat\.temp is in the contract`, `q0 9s`)
	if got := holds(); !strings.Contains(got, "every: 9s") || !strings.Contains(got, "# How warm it is.\n    vat.temp:") {
		t.Errorf("changed, the file holds\n%s", got)
	}
	// What the linter finds stands below, with a way out.
	x.keys("End")
	x.await(`! 1 finding`, `▸ ! unconsumed +nobody consumes vat\.level`, `add to: \[PARTY\]`)
	// An edit on disk with an error leaves the contract in force.
	if err := os.WriteFile(file, []byte(strings.Replace(holds(), "qos: 0", "qos: 7", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	x.await(`problem`, `3 clauses`)
	x.quit()
}

// TestALargeSheet: 200 instances and 300 clauses are looked over by scrolling, counting, filtering, and by what is not
// well alone; the sheet is exported.
func TestALargeSheet(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "hodstone.yaml")
	var b strings.Builder
	b.WriteString("hodstone: 1\nbrokers: {plant: {stand-in: {}}}\ncontract:\n  parties: {vat: , desk: }\n  parameters: {vat: {range: 1..200}}\n  clauses:\n")
	for i := range 300 {
		fmt.Fprintf(&b, "    c%03d: {topic: \"d/c%03d/{vat}\", from: vat, to: desk, payload: {format: number, maximum: 199}}\n", i, i)
	}
	b.WriteString("devices: {v: {count: 200, plays: vat, parameters: {vat: \"{n}\"}, publishes: [{clause: c007, every: 2s, payload: \"= n\"}, {clause: c008, every: 2s, payload: 1}]}}\n")
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	x := open(t, 160, 47, file)
	x.await(`200 on`)
	x.keys("3")
	x.await(`300 clauses`, `c000`, `✗ \d+ breach`)
	x.keys("o")
	x.await(`only what is not well`, `c007`, `more ›`)
	x.gone(`c008`)
	x.keys("f")
	x.await(`200 instances`, `✗ 1 broken +✓ 199 kept +not well: 200`)
	x.keys("f")
	for range 6 {
		x.keys("Right")
	}
	x.await(`‹`, `19\d more ›`)
	x.keys("o", "/", "c008")
	x.await(`filter c008`, `c008`)
	x.gone(`c007  `)
	x.keys("Enter", "x")
	x.await(`export what is shown to`)
	x.keys("C-u", filepath.Join(dir, "sheet.svg"), "Enter")
	x.await(`sheet\.svg is written`)
	if svg, err := os.ReadFile(filepath.Join(dir, "sheet.svg")); err != nil || !strings.Contains(string(svg), "c008") || strings.Contains(string(svg), "c009") {
		t.Errorf("%v, %d bytes", err, len(svg))
	}
	x.quit()
}
