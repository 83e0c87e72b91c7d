package compare_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"hodstone/internal/contract"
	"hodstone/internal/contract/compare"
	"hodstone/internal/workspace"
)

const base = `hodstone: 1
contract:
  parties:
    vat: {logins: [v], note: a, terms: {version: [3.1.1, 5], keep-alive: 10s..30s, max-qos: 1, max-packet: 200, lost-within: 45s, tls: allowed, tries: 10/min, client-id: "v-{v}", in-flight: 3}}
    desk: {terms: {max-topic: {length: 60, levels: 6}}}
    wall:
  parameters: {vat: {values: ["1", "2"]}, line: {range: 1..3}, free: {pattern: "[a-z]+"}}
  clauses:
    temp:
      topic: d/{vat}/temp
      from: vat
      to: [desk, wall]
      qos: 1
      retain: true
      every: 10s ± 5s
      at-most: 10/min
      only: changes
      message-expiry: 60s
      properties: {content-type: a/b, user: [[unit, kg]]}
      survives-restart: true
      payload:
        format: json
        max-size: 100
        schema:
          type: object
          required: [kg]
          additionalProperties: false
          properties:
            kg: {type: number, minimum: 0, maximum: 100, unit: kg, description: so much}
            mode: {enum: [a, b], values: {a: x}}
            name: {type: string, maxLength: 5, pattern: "^x"}
            parts: {type: array, items: {$ref: "#/$defs/part"}}
          $defs: {part: {type: [integer, string]}}
    set: {topic: "d/{vat}/set", from: desk, to: vat, answer: {clause: temp, within: 2s}, repeat: once, payload: {format: text, values: {go: x, stop: y}}}
    level: {topic: "d/{line}/level", from: vat, to: desk, payload: {format: number, minimum: 0, maximum: 9, unit: mm}}
    word: {topic: "d/{free}/word", from: vat, to: desk, presence: {coming: a, leaving: b, lost: c}, payload: {format: text, pattern: "[abc]"}}
  relations: {r: {never: [{clause: temp}, {clause: level}]}}
`

func site(t *testing.T, text string) *contract.Contract {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"w": {Data: []byte(text)}}, "w", "w")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems, text)
	}
	return w.Contract
}

// TestWhoBreaksByWhat: each change is told with its kind and with those who break by it; the way back is of the other
// kind.
func TestWhoBreaksByWhat(t *testing.T) {
	both := "vat publisher, desk consumer, wall consumer"
	for _, c := range []struct{ old, new, want, back string }{
		{"d/{vat}/temp", "d/{vat}/temps", "clause temp, topic: changed [" + both + "]", "same"},
		{"from: vat\n      to: [desk, wall]", "from: wall\n      to: [desk, wall]", "clause temp, from: changed [wall publisher, vat publisher]", "clause temp, from: changed [vat publisher, wall publisher]"},
		{"[desk, wall]", "[desk]", "clause temp, to: removed []", "clause temp, to: added [wall consumer]"},
		{"      qos: 1", "      qos: 0", "clause temp, qos: changed [vat publisher]", "same"},
		{"      qos: 1\n", "", "clause temp, qos: widened []", "clause temp, qos: narrowed [vat publisher]"},
		{"retain: true", "retain: false", "clause temp, retain: changed [" + both + "]", "clause temp, retain: changed [vat publisher]"},
		{"every: 10s ± 5s", "every: 9s ± 5s", "clause temp, every: narrowed [vat publisher]", "clause temp, every: widened [desk consumer, wall consumer]"},
		{"every: 10s ± 5s", "every: 11s ± 4s", "clause temp, every: changed []", "same"},
		{"      every: 10s ± 5s\n", "", "clause temp, every: widened [desk consumer, wall consumer]", "clause temp, every: narrowed [vat publisher]"},
		{"at-most: 10/min", "at-most: 9/min", "clause temp, at-most: narrowed [vat publisher]", "clause temp, at-most: widened [desk consumer, wall consumer]"},
		{"      at-most: 10/min\n", "", "clause temp, at-most: widened [desk consumer, wall consumer]", "clause temp, at-most: narrowed [vat publisher]"},
		{"      only: changes\n", "", "clause temp, only: widened [desk consumer, wall consumer]", "clause temp, only: narrowed [vat publisher]"},
		{"only: changes", "only: edges", "clause temp, only: changed [" + both + "]", "same"},
		{"message-expiry: 60s", "message-expiry: 50s", "clause temp, message-expiry: changed [vat publisher]", "same"},
		{"content-type: a/b", "content-type: a/c", "clause temp, properties/content-type: changed [" + both + "]", "same"},
		{"[[unit, kg]]", "[[unit, g]]", "clause temp, properties/user: narrowed [vat publisher]; clause temp, properties/user: widened [desk consumer, wall consumer]", "same"},
		{"survives-restart: true", "survives-restart: false", "clause temp, survives-restart: changed [desk consumer, wall consumer]", "clause temp, survives-restart: changed []"},
		{"max-size: 100", "max-size: 99", "clause temp, payload/max-size: narrowed [vat publisher]", "clause temp, payload/max-size: widened [desk consumer, wall consumer]"},
		{"max-size: 100", "max-size: 1KiB", "clause temp, payload/max-size: widened [desk consumer, wall consumer]", "clause temp, payload/max-size: narrowed [vat publisher]"},
		{"required: [kg]", "required: [kg, mode]", "clause temp, payload/schema/required: narrowed [vat publisher]", "clause temp, payload/schema/required: widened [desk consumer, wall consumer]"},
		{"kg: {type: number", "kg: {type: integer", "clause temp, payload/schema/properties/kg/type: narrowed [vat publisher]", "clause temp, payload/schema/properties/kg/type: widened [desk consumer, wall consumer]"},
		{"kg: {type: number", "kg: {type: string", "clause temp, payload/schema/properties/kg/type: changed [" + both + "]", "same"},
		{"minimum: 0, maximum: 100", "minimum: 1, maximum: 100", "clause temp, payload/schema/properties/kg/minimum: narrowed [vat publisher]", "clause temp, payload/schema/properties/kg/minimum: widened [desk consumer, wall consumer]"},
		{"minimum: 0, maximum: 100", "minimum: 0, maximum: 101", "clause temp, payload/schema/properties/kg/maximum: widened [desk consumer, wall consumer]", "clause temp, payload/schema/properties/kg/maximum: narrowed [vat publisher]"},
		{"minimum: 0, maximum: 100, unit: kg", "minimum: 0, maximum: 100, unit: g", "clause temp, payload/schema/properties/kg/unit: changed [" + both + "]", "same"},
		{"so much", "how much", "clause temp, payload/schema/properties/kg/description: changed []", "same"},
		{"enum: [a, b]", "enum: [a]", "clause temp, payload/schema/properties/mode/enum: narrowed [vat publisher]", "clause temp, payload/schema/properties/mode/enum: widened [desk consumer, wall consumer]"},
		{"enum: [a, b]", "enum: [a, c]", "clause temp, payload/schema/properties/mode/enum: changed [" + both + "]", "same"},
		{"maxLength: 5, ", "", "clause temp, payload/schema/properties/name/maxLength: widened [desk consumer, wall consumer]", "clause temp, payload/schema/properties/name/maxLength: narrowed [vat publisher]"},
		{"type: [integer, string]", "type: integer", "clause temp, payload/schema/properties/parts/items/type: narrowed [vat publisher]", "clause temp, payload/schema/properties/parts/items/type: widened [desk consumer, wall consumer]"},
		{"            parts: {type: array, items: {$ref: \"#/$defs/part\"}}\n", "", "clause temp, payload/schema/properties/parts: changed [" + both + "]", "clause temp, payload/schema/properties/parts: widened [desk consumer, wall consumer]"},
		{"          additionalProperties: false\n", "", "clause temp, payload/schema/additionalProperties: widened [desk consumer, wall consumer]", "clause temp, payload/schema/additionalProperties: narrowed [vat publisher]"},
		{"maxLength: 5, pattern", "maxLength: 5, minProperties: 1, pattern", "clause temp, payload/schema/properties/name/minProperties: narrowed [vat publisher]", "clause temp, payload/schema/properties/name/minProperties: widened [desk consumer, wall consumer]"},
		{"maxLength: 5, pattern", "maxLength: 5, not: {const: x}, pattern", "clause temp, payload/schema/properties/name/not: changed [" + both + "]", "same"},
		{"within: 2s", "within: 1s", "clause set, answer: narrowed [vat publisher]", "clause set, answer: widened [desk publisher]"},
		{"answer: {clause: temp, within: 2s}, ", "", "clause set, answer: widened [desk publisher]", "clause set, answer: narrowed [vat publisher]"},
		{"clause: temp, within", "clause: level, within", "clause set, answer: changed [desk publisher, vat publisher]", "same"},
		{"repeat: once", "repeat: counted", "clause set, repeat: changed [desk publisher, vat consumer]", "same"},
		{"{go: x, stop: y}", "{go: x}", "clause set, payload/values: narrowed [desk publisher]", "clause set, payload/values: widened [vat consumer]"},
		{"{go: x, stop: y}", "{go: z, stop: y}", "clause set, payload/values/go: changed []", "same"},
		{"maximum: 9, unit: mm", "maximum: 8, unit: mm", "clause level, payload/maximum: narrowed [vat publisher]", "clause level, payload/maximum: widened [desk consumer]"},
		{"maximum: 9, unit: mm", "maximum: 9, unit: cm", "clause level, payload/unit: changed [vat publisher, desk consumer]", "same"},
		{"format: number, minimum: 0, maximum: 9, unit: mm", "format: binary", "clause level, payload/format: changed [vat publisher, desk consumer]", "same"},
		{"coming: a", "coming: x", "clause word, presence: changed [vat publisher, desk consumer]", "same"},
		{`pattern: "[abc]"`, `pattern: "[ab]"`, "clause word, payload/pattern: changed [vat publisher, desk consumer]", "same"},
		{"    level: {topic: \"d/{line}/level\"", "    height: {topic: \"d/{line}/level\"", "clause height, name: changed []; relation r: changed [vat publisher]", "clause level, name: changed []; relation r: changed [vat publisher]"},
		{`["1", "2"]`, `["1"]`, "parameter vat: narrowed [desk publisher, vat publisher]", "parameter vat: widened [desk consumer, vat consumer, wall consumer]"},
		{`["1", "2"]`, `["1", "3"]`, "parameter vat: changed [desk consumer, desk publisher, vat consumer, vat publisher, wall consumer]", "same"},
		{"range: 1..3", "range: 1..4", "parameter line: widened [desk consumer]", "parameter line: narrowed [vat publisher]"},
		{"[a-z]+", "[a-z]", "parameter free: changed [desk consumer, vat publisher]", "same"},
		{"logins: [v]", "logins: [w]", "party vat, logins: changed [vat party]", "same"},
		{"note: a,", "note: b,", "party vat, note: changed []", "same"},
		{"version: [3.1.1, 5]", "version: 5", "party vat, terms/version: narrowed [vat party]", "party vat, terms/version: widened []"},
		{"keep-alive: 10s..30s", "keep-alive: 10s..20s", "party vat, terms/keep-alive: narrowed [vat party]", "party vat, terms/keep-alive: widened []"},
		{"keep-alive: 10s..30s", "keep-alive: 20s..40s", "party vat, terms/keep-alive: changed [vat party]", "same"},
		{"max-qos: 1", "max-qos: 0", "party vat, terms/max-qos: narrowed [desk publisher, vat party]", "party vat, terms/max-qos: widened []"},
		{"max-packet: 200, ", "", "party vat, terms/max-packet: widened []", "party vat, terms/max-packet: narrowed [desk publisher, vat party]"},
		{"lost-within: 45s", "lost-within: 50s", "party vat, terms/lost-within: widened [desk consumer, wall consumer]", "party vat, terms/lost-within: narrowed [vat party]"},
		{"tls: allowed", "tls: required", "party vat, terms/tls: narrowed [vat party]", "party vat, terms/tls: widened []"},
		{"tries: 10/min", "tries: 9/min", "party vat, terms/tries: narrowed [vat party]", "party vat, terms/tries: widened []"},
		{"in-flight: 3", "in-flight: 2", "party vat, terms/in-flight: narrowed [vat party]", "party vat, terms/in-flight: widened []"},
		{`client-id: "v-{v}"`, `client-id: "w-{v}"`, "party vat, terms/client-id: changed [vat party]", "same"},
		{"length: 60", "length: 50", "party desk, terms/max-topic/length: narrowed [desk party, vat publisher]", "party desk, terms/max-topic/length: widened []"},
		{"levels: 6", "levels: 7", "party desk, terms/max-topic/levels: widened []", "party desk, terms/max-topic/levels: narrowed [desk party, vat publisher]"},
		{"  relations: {r: {never: [{clause: temp}, {clause: level}]}}\n", "", "relation r: removed []", "relation r: added [vat publisher]"},
		{"    set: {topic", "    other: {topic: d/other, from: wall, to: desk, every: 5s, payload: {format: text}}\n    set: {topic", "clause other: added [wall publisher, desk consumer]", "clause other: removed [wall publisher, desk consumer]"},
		{"    set: {topic", "    other: {topic: d/other, from: wall, to: desk, payload: {format: text}}\n    set: {topic", "clause other: added [desk consumer]", "clause other: removed [wall publisher, desk consumer]"},
		{"    set: {topic", "    other: {topic: d/other, from: wall, presence: {coming: a, leaving: b, lost: c}, payload: {format: text}}\n    set: {topic", "clause other: added [wall publisher]", "clause other: removed [wall publisher]"},
		{"      message-expiry: 60s\n", "", "clause temp, message-expiry: widened []", "clause temp, message-expiry: narrowed [vat publisher]"},
		{"      retain: true\n", "", "clause temp, retain: widened [desk consumer, wall consumer]", "clause temp, retain: narrowed [vat publisher]"},
		{"presence: {coming: a, leaving: b, lost: c}, ", "", "clause word, presence: widened [vat publisher, desk consumer]", "clause word, presence: narrowed [vat publisher, desk consumer]"},
		{"at-most: 10/min", "at-most: 1/s", "clause temp, at-most: widened [desk consumer, wall consumer]", "clause temp, at-most: narrowed [vat publisher]"},
		{"maxLength: 5, pattern", "maxLength: 5, if: {const: a}, then: {minLength: 1}, pattern", "clause temp, payload/schema/properties/name/if: changed [" + both + "]; clause temp, payload/schema/properties/name/then: changed [" + both + "]", "same"},
		{"maxLength: 5, pattern", "maxLength: 5, anyOf: [{minLength: 1}], pattern", "clause temp, payload/schema/properties/name/anyOf: changed [" + both + "]", "same"},
		{"    wall:\n", "    wall:\n    new:\n", "party new: added []", "party new: removed []"},
	} {
		if !strings.Contains(base, c.old) {
			t.Fatalf("there is no %q to change", c.old)
		}
		now := strings.Replace(base, c.old, c.new, 1)
		if strings.Contains(c.new, "height") {
			now = strings.Replace(now, "{clause: level}", "{clause: height}", 1)
		}
		a, b := site(t, base), site(t, now)
		if got := said(compare.Contracts(a, b)); got != c.want {
			t.Errorf("%q to %q:\n got %s\nwant %s", c.old, c.new, got, c.want)
		}
		want := c.back
		if want == "same" {
			want = c.want
		}
		if got := said(compare.Contracts(b, a)); got != want {
			t.Errorf("back from %q to %q:\n got %s\nwant %s", c.new, c.old, got, want)
		}
	}
	if got := compare.Contracts(site(t, base), site(t, base)); len(got) > 0 {
		t.Errorf("the same is another: %v", got)
	}
}

func said(all []compare.Change) string {
	var out []string
	for _, x := range all {
		var breaks []string
		for _, b := range x.Breaks {
			breaks = append(breaks, b.Party+" "+b.Role)
		}
		s := x.What + " " + x.On
		if x.Key != "" {
			s += ", " + x.Key
		}
		out = append(out, fmt.Sprintf("%s: %s [%s]", s, x.Kind, strings.Join(breaks, ", ")))
	}
	return strings.Join(out, "; ")
}
