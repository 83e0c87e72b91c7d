package workspace_test

import (
	"encoding/hex"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/workspace"
)

// carried is a contract with a clause of every kind of payload.
const carried = `hodstone: 1
contract:
  parties: {barge: , shore: }
  clauses:
    weight:
      topic: v/weight
      from: barge
      payload:
        format: binary
        max-size: 32
        fields:
          - {name: magic, type: u16, value: 0x4D56}
          - {name: weight, type: i32, scale: 0.1, unit: kg, minimum: 0, maximum: 12000, note: feed left}
          - {name: flags, type: u8, bits: {hatch: 0, mode: 2..4}, values: {mode: {"0": idle, "3": held by hand}}}
          - {name: lot, type: text, length: 8, padding: nul}
          - {name: crc, type: u16, byte-order: little, offset: 16}
    hull:
      topic: v/hull
      from: barge
      payload: {format: cbor, schema: {type: object, required: [mm], properties: {mm: {type: integer, maximum: 500, unit: mm}}}}
    tide:
      topic: v/tide
      from: barge
      payload: {format: msgpack, schema: {type: array, items: {type: number}}}
    order:
      topic: v/order
      from: shore
      payload:
        format: xml
        root: order
        paths: {/order/kg: {type: number, minimum: 1}, /order/@id: {pattern: "^MV"}, /order/silo: {enum: [a, b]}}
    feed:
      topic: v/feed
      from: shore
      payload: {format: protobuf, file: feed.proto, message: Order, schema: {properties: {grams: {maximum: 1000}}}}
    valve: {topic: v/valve, from: barge, payload: {format: number, suffix: " %", minimum: 0, maximum: 100}}
    lamp: {topic: v/lamp, from: barge, at-least: 1m, at-most: 10/s, payload: {format: text, first-character: {"1": running, "0": stopped}}}
    lot: {topic: v/lot, from: barge, payload: {format: text, pattern: "MV-[0-9]{4}", max-size: 7}}
    photo: {topic: v/photo, from: barge, payload: {format: binary, media-type: image/jpeg, max-size: 1KiB}}
`

func readCarried(t *testing.T, text string) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)},
		"feed.proto": {
			Data: []byte("syntax = \"proto3\"; message Order { string lot = 1; uint32 grams = 2; }"),
		}}, "f", "farm.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// TestEveryFormatIsHeldToItsClause: what is sound is kept, and each offence is one breach, at its place, in its words.
func TestEveryFormatIsHeldToItsClause(t *testing.T) {
	w := readCarried(t, carried)
	for _, p := range w.Problems {
		t.Fatal(p)
	}
	j := contract.NewJudge(w.Contract, rule.All())
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	j.Sees("e", now, func(string) bool { return true })
	say := func(topic, hexed string) []contract.Breach {
		b := []byte(hexed)
		if raw, err := hex.DecodeString(strings.ReplaceAll(strings.TrimPrefix(hexed, "0x"), " ",
			"")); strings.HasPrefix(
			hexed,
			"0x",
		) &&
			err == nil {
			b = raw
		}
		now = now.Add(time.Second)
		return j.Message(contract.Message{At: now, Topic: topic, Payload: b, Eye: "e"}).Breaches
	}
	for topic, sound := range map[string]string{"v/weight": "0x4d56 00003039 0d 4d56323230370000 00 0100",
		"v/hull": "0xa1626d6d187b", "v/tide": "0x9201cb3ff199999999999a",
		"v/order": `<order id="MV-1"><kg>2.5</kg><silo>a</silo><silo>b</silo></order>`, "v/feed": "0x0a024d5610e807",
		"v/valve": "75 %", "v/lamp": "1 on", "v/lot": "MV-2207", "v/photo": "0xffd8ffe0"} {
		if got := say(topic, sound); len(got) != 0 {
			t.Errorf("%s: %+v", topic, got)
		}
	}
	for _, tt := range []struct{ topic, payload, rule, where, expected, seen string }{
		{"v/weight", "0x4d57 00003039 0d 4d56323230370000 00 0100", "format", "byte 0",
			"a packed structure of 18 bytes", "magic is 0x4D57, not 0x4D56"},
		{"v/weight", "0x4d56 ffffffff 0d 4d56323230370000 00 0100", "schema", "/weight", "minimum 0", "-0.1"},
		{"v/weight", "0x4d56 00003039", "format", "byte 6", "a packed structure of 18 bytes", "it has 6 bytes of 18"},
		{"v/hull", "0xa1626d6d190200", "schema", "/mm", "maximum 500", "512"},
		{"v/hull", "0xa1626d6d", "format", "byte 0", "cbor", "it ends in the middle of an item"},
		{"v/hull", `{"mm": 7}`, "format", "byte 0", "cbor", ""},
		{"v/tide", "0x9201c0", "schema", "/1", `type "number"`, "null"},
		{"v/order", `<order id="MV-1"><kg>0.5</kg><silo>c</silo></order>`, "schema", "/order/kg", "minimum 1", "0.5"},
		{"v/order", `<order id="MV-1"><silo>a</silo></order>`, "schema", "/order", "required", "kg"},
		{"v/order", `<ordr/>`, "schema", "", "", "ordr"},
		{"v/order", `<order`, "format", "byte 6", "xml", "ends too early"},
		{"v/feed", "0x10e907", "schema", "/grams", "maximum 1000", "1001"},
		{"v/feed", "0x1801", "format", "byte 0", "protobuf Order", "field 3 is not in Order"},
		{"v/valve", "75", "format", "byte 2", `number with " %" behind it`, `lacks the " %"`},
		{"v/valve", "101 %", "range", "", "0 … 100", "101"},
		{"v/lamp", "2", "values", "", `a first character of "1", "0"`, `"2"`},
		{"v/lot", "MV-22x7", "values", "", "what matches MV-[0-9]{4}", "MV-22x7"},
		{"v/lot", "MV-22078", "size", "", "7 bytes at most", "8 bytes"},
		{"v/photo", strings.Repeat("x", 1025), "size", "", "1024 bytes at most", "1025 bytes"},
	} {
		got := say(tt.topic, tt.payload)
		found := false
		for _, b := range got {
			found = found ||
				string(b.Rule) == tt.rule && b.Where == tt.where && strings.Contains(b.Expected, tt.expected) &&
					strings.Contains(b.Seen, tt.seen)
		}
		if !found {
			t.Errorf("%s %.40s: %+v; want %+v", tt.topic, tt.payload, got, tt)
		}
	}
	if lamp := w.Contract.Clause("lamp"); lamp.Every.Period != time.Minute || lamp.Most.String() != "10/s" {
		t.Errorf("%+v", lamp)
	}
	// What people see of a structure, and what devices write.
	fields := w.Contract.Clause("weight").Payload.Fields()
	var lines []string
	for _, f := range fields {
		lines = append(
			lines,
			strings.TrimSpace(fmt.Sprint(f.Name, " ", f.Type, " ", f.Range, " ", f.Unit, " ", f.Note)),
		)
	}
	if got := strings.Join(lines, "; "); !strings.HasPrefix(
		got,
		"weight number 0 … 12000 kg feed left; flags object; flags/hatch integer; flags/mode integer; lot string",
	) ||
		fields[3].Values["3"] != "held by hand" {
		t.Errorf("%s %v", got, fields[3].Values)
	}
	b, err := w.Contract.Clause("weight").
		Payload.Code().
		Encode(map[string]any{"weight": 1234.5, "flags": map[string]any{"mode": 3}, "lot": "MV2207"})
	if err != nil || fmt.Sprintf("%x", b) != "4d56000030390c4d563232303700000000"+"00" {
		t.Errorf("%x %v", b, err)
	}
}

// TestPeopleWriteJSON where the bytes are no text, and read it.
func TestPeopleWriteJSON(t *testing.T) {
	c := readCarried(t, carried).Contract
	for clause, tt := range map[string]struct{ hex, text string }{
		"weight": {"4d56000030390d4d56323230370000000100",
			`{"crc":1,"flags":{"hatch":1,"mode":3},"lot":"MV2207","weight":1234.5}`},
		"hull": {"a1626d6d187b", `{"mm":123}`}, "tide": {"9201cb3ff199999999999a", "[1,1.1]"},
		"feed":  {"0a024d5610e807", `{"grams":1000,"lot":"MV"}`},
		"valve": {hex.EncodeToString([]byte("75 %")), "75 %"},
		"order": {hex.EncodeToString([]byte("<order/>")), "<order/>"},
	} {
		p := &c.Clause(clause).Payload
		b, _ := hex.DecodeString(tt.hex)
		text, ok := p.Write(b)
		back, err := p.Read(tt.text)
		if !ok || text != tt.text || err != nil || hex.EncodeToString(back) != tt.hex {
			t.Errorf("%s: %s, %v; back %x, %v", clause, text, ok, back, err)
		}
	}
	if text, ok := c.Clause("photo").Payload.Write([]byte{0xff}); ok {
		t.Errorf("a picture is written as %q", text)
	}
	if _, ok := c.Clause("hull").Payload.Write([]byte{0xff}); ok {
		t.Error("what is no CBOR is written")
	}
	if _, err := c.Clause("hull").Payload.Read("7 mm"); err == nil ||
		!strings.Contains(err.Error(), "write cbor as JSON") {
		t.Error(err)
	}
}

// TestMistakesInPayloads are told where they stand.
func TestMistakesInPayloads(t *testing.T) {
	for _, tt := range []struct{ old, new, at, message string }{
		{"type: i32", "type: i33", "i33", "type \"i33\" is not defined"},
		{"length: 8", "length: 0", "0", "length must be a whole number"},
		{"offset: 16}", "offset: 3}", "{name: crc", "inside the one before it"},
		{"mode: 2..4", "mode: two", "two", "the bits of mode are none"},
		{"hatch: 0", "hatch: 2", "{name: flags", "belong to another part too"},
		{"value: 0x4D56", "value: 0x14D56", "0x14D56", "does not fit into 2 bytes"},
		{"value: 0x4D56", "value: MV", "MV", "is no whole number"},
		{"/order/kg:", "order/kg:", "order/kg", "is no path"},
		{"file: feed.proto", "file: fee.proto", "fee.proto", "the message of clause feed"},
		{"message: Order", "message: Feed", "feed.proto", "has no message \"Feed\"; it has Order"},
		{"file: feed.proto, ", "", "{format: protobuf", "lacks \"file\""},
		{"max-size: 1KiB", "max-size: 1KB", "1KB", "is no size"},
		{`suffix: " %"`, "root: a", "root", "root belongs to payloads of format xml, not number"},
		{`{"1": running`, `{"10": running`, `"10"`, "is not one character"},
		{"at-most: 10/s", "at-most: 10", "10", "is no rate: write 10/s"},
		{"at-least: 1m", "every: 5s, at-least: 1m", "1m", "has both every and at-least"},
		{"at-least: 1m", "at-least: 0s", "0s", "must be longer than nothing"},
		{"padding: nul", "padding: zero", "zero", "padding \"zero\" is not defined"},
		{"byte-order: little", "byte-order: middle", "middle", "byte-order \"middle\" is not defined"},
		{"{type: number, minimum: 1}", "{type: nmber}", "", "the schema of clause order is bad"},
	} {
		changed := strings.Replace(carried, tt.old, tt.new, 1)
		w := readCarried(t, changed)
		if changed == carried || len(w.Problems) != 1 || !strings.Contains(w.Problems[0].Message, tt.message) ||
			!strings.Contains(w.Problems[0].Excerpt, tt.at) {
			t.Errorf("%s → %s: %v", tt.old, tt.new, w.Problems)
		}
	}
}
