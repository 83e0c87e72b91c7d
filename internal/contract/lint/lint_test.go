package lint_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"hodstone/internal/contract/lint"
	"hodstone/internal/workspace"
)

const head = `hodstone: 1
brokers: {%B}
contract:
  parties: {vat: {%P}, desk: }
  parameters: {vat: {range: 1..3}}
  clauses:
`

// site is a workspace of a dairy: what stands in the braces of broker, party and clause.
func site(broker, party, clauses, rest string) string {
	if broker == "" {
		broker = "q: {stand-in: {}}"
	}
	return strings.NewReplacer("%B", broker, "%P", party).Replace(head) + clauses + "\n" + rest
}

func clause(name, topic, rest string) string {
	if !strings.Contains(rest, "payload:") {
		rest += ", payload: {format: number, minimum: 0}"
	}
	return "    " + name + ": {topic: '" + strings.Trim(topic, `'"`) + "', from: vat" + rest + "}\n"
}

// TestEachLintFiresAndHasANearMiss: what each finds, and what is close to it and sound.
func TestEachLintFiresAndHasANearMiss(t *testing.T) {
	to := ", to: desk"
	temp := clause("vat.temp", "dairy/vat/{vat}/temp", to)
	status := func(rest string) string {
		return clause("vat.status", "dairy/vat/{vat}/status", to+rest+
			", payload: {format: text, values: {online: there, offline: gone}}")
	}
	presence := ", presence: {coming: online, leaving: offline, lost: offline}"
	cases := []struct{ lint, fires, miss, says string }{
		{"leading-slash", site("", "", clause("a", "/dairy/a", to), ""), site("", "", clause("a", "dairy/a", to), ""), "empty level"},
		{"leading-slash", site("", "", clause("a", "dairy//a", to), ""), site("", "", temp, ""), "empty level"},
		{"leading-slash", site("", "", clause("a", "dairy/a/", to), ""), site("", "", temp, ""), "empty level"},
		{"spaces", site("", "", clause("a", `"dairy/vat a"`, to), ""), site("", "", clause("a", "dairy/vat_a", to), ""), "space"},
		{"non-ascii", site("", "", clause("a", "dairy/käse", to), ""), site("", "", clause("a", "dairy/kaese", to), ""), "beyond ASCII"},
		{"dollar", site("", "", clause("a", "$dairy/a", to), ""), site("", "", clause("a", "dairy/$a", to), ""), "begins with $"},
		{"case", site("", "", clause("a", "dairy/Vat/a", to)+clause("b", "dairy/vat/b", to), ""),
			site("", "", clause("a", "dairy/vat/a", to)+clause("b", "dairy/vats/b", to), ""), "others have Vat"},
		{"long-topic", site("", "", clause("a", "dairy/1/2/3/4/5/6/7/8", to), ""), site("", "", clause("a", "dairy/1/2/3/4/5/6/7", to), ""), "9 levels"},
		{"long-topic", site("", "", clause("a", "dairy/"+strings.Repeat("x", 123), to), ""),
			site("", "", clause("a", "dairy/"+strings.Repeat("x", 122), to), ""), "129 bytes"},
		{"long-topic", site("", "", clause("a", "d/1/2/3/4/5/6/7/8", to), ""),
			site("", "terms: {max-topic: {levels: 9}}", clause("a", "d/1/2/3/4/5/6/7/8", ", to: vat"), ""), "9 levels"},
		{"generic-topic", site("q: {listeners: {a: {url: 'mqtt://x'}}}", "", clause("a", "sensor/a", to), ""),
			site("", "", clause("a", "sensor/a", to), ""), "begins with sensor"},
		{"generic-topic", site("q: {listeners: {a: {url: 'mqtt://x'}}}", "", clause("a", "'{vat}/a'", to), ""),
			site("q: {listeners: {a: {url: 'mqtt://x'}}}", "", temp, ""), "begins with a parameter"},
		{"free-parameter", site("", "", clause("a", "dairy/{x}/a", to)+clause("b", "dairy/{x}/b", to), ""), site("", "", temp, ""), "{x} may hold anything"},
		{"crossed", site("", "", clause("vat.temp", "dairy/vat/level", to)+clause("vat.level", "dairy/vat/temp", to), ""),
			site("", "", clause("vat.temp", "dairy/vat/temp", to)+clause("vat.level", "dairy/vat/level", to), ""), "vat.temp has the topic dairy/vat/level"},
		{"crossed", site("", "", clause("vat.temp", "dairy/vat/level", to)+clause("vat.level", "dairy/vat/temp", to), ""),
			site("", "", clause("vat.temp", "dairy/vat/level", to)+clause("vat.level", "dairy/vat/height", to), ""), "and vat.level has dairy/vat/temp"},
		{"anything", site("", "", clause("a", "d/a", to+", payload: {format: json}"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: json, schema: {type: object}}"), ""), "any json"},
		{"anything", site("", "", clause("a", "d/a", to+", payload: {format: cbor, schema: {description: x}}"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: cbor, schema: {enum: [1]}}"), ""), "any cbor"},
		{"anything", site("", "", clause("a", "d/a", to+", payload: {format: text}"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: text, pattern: x+}"), ""), "any text"},
		{"anything", site("", "", clause("a", "d/a", to+", payload: {format: number}"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: number, maximum: 9}"), ""), "any number"},
		{"anything", site("", "", clause("a", "d/a", to+", payload: {format: binary}"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: binary, media-type: image/png}"), ""), "any binary"},
		{"example", site("", "", clause("a", "d/a", to+", payload: {format: number, maximum: 9}, examples: [7, 10]"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: number, maximum: 9}, examples: [7, 9]"), ""), "expected ≤ 9, saw 10"},
		{"example", site("", "", clause("a", "d/a", to+", payload: {format: binary, fields: [{name: m, type: u8, value: 7}]}, examples: ['08']"), ""),
			site("", "", clause("a", "d/a", to+", payload: {format: binary, fields: [{name: m, type: u8, value: 7}]}, examples: ['07']"), ""), "an example of a breaks it"},
		{"counter-example", site("", "", clause("a", "d/a", to+", counter-examples: [{value: 3, because: odd}]"), ""),
			site("", "", clause("a", "d/a", to+", counter-examples: [{value: -3, because: cold}, {text: x, because: no number}]"), ""), "passes (odd)"},
		{"unconsumed", site("", "", clause("a", "d/a", ""), ""), site("", "", clause("a", "d/a", to), ""), "nobody consumes a"},
		{"unpublished", site("", "", "    a: {topic: d/a, to: desk, payload: {format: number, minimum: 0}}\n", ""), site("", "", temp, ""), "nobody publishes a"},
		{"retained-command", site("", "", clause("a", "d/a/set", to+", retain: true"), ""), site("", "", clause("a", "d/a/set", to+", retain: false"), ""), "a command, and retained"},
		{"retained-command", site("", "", clause("a", "d/a", to+", retain: true, repeat: once"), ""), site("", "", clause("a", "d/a/sets", to+", retain: true"), ""), "retained"},
		{"retained-command", site("", "", clause("a", "d/a", to+", retain: true, answer: {clause: vat.temp, within: 1s}")+temp, ""),
			site("", "", clause("a", "d/a", to+", answer: {clause: vat.temp, within: 1s}")+temp, ""), "retained"},
		{"weak-will", site("", "", status(presence+", qos: 0, retain: true"), ""), site("", "", status(presence+", qos: 1, retain: true"), ""), "QoS 0"},
		{"weak-will", site("", "", status(presence+", qos: 1, retain: false"), ""), site("", "", status(", qos: 0"), ""), "not retained"},
		{"no-will", site("", "", status(""), ""), site("", "", status(presence), ""), "has no will"},
		{"no-will", site("", "", status(""), ""), site("", "", clause("v", "d/valve", to+", payload: {format: text, values: {on: x, off: y}}"), ""), "has no will"},
		{"shared-will", site("", "", clause("s", "d/status", to+presence+", payload: {format: text}"), "devices: {v: {plays: vat, count: 2}}"),
			site("", "", clause("s", "d/status", to+presence+", payload: {format: text}"), "devices: {v: {plays: vat}}"), "2 clients play vat"},
		{"shared-will", site("", `terms: {client-id: "vat-{vat}"}`, clause("s", "d/status", to+presence+", payload: {format: text}"), ""),
			site("", `terms: {client-id: "vat-{vat}"}`, clause("s", "d/{vat}/status", to+presence+", payload: {format: text}"), ""), "several clients"},
		{"shared-will", site("", `logins: [a, b]`, clause("s", "d/status", to+presence+", payload: {format: text}")+temp, ""),
			site("", `logins: [a]`, clause("s", "d/status", to+presence+", payload: {format: text}")+temp, ""), "several logins"},
		{"needless-qos-2", site("", "terms: {max-qos: 1}", "    a: {topic: d/a, from: desk, to: vat, qos: 2, payload: {format: number, minimum: 0}}\n", ""),
			site("", "terms: {max-qos: 2}", "    a: {topic: d/a, from: desk, to: vat, qos: 2, payload: {format: number, minimum: 0}}\n", ""), "takes QoS 1 at most"},
		{"beyond-terms", site("", "terms: {max-qos: 1}", clause("a", "d/a", to+", qos: 2"), ""), site("", "terms: {max-qos: 1}", clause("a", "d/a", to+", qos: 1"), ""), "allow QoS 1 at most"},
		{"beyond-terms", site("", "terms: {max-topic: {levels: 2}}", clause("a", "d/a/b", to), ""), site("", "terms: {max-topic: {levels: 3}}", clause("a", "d/a/b", to), ""), "3 levels"},
		{"beyond-terms", site("", "terms: {max-topic: {length: 4}}", clause("a", "d/abc", to), ""), site("", "terms: {max-topic: {length: 5}}", clause("a", "d/abc", to), ""), "5 bytes"},
		{"beyond-terms", site("", "terms: {max-packet: 43}", clause("a", "d/a", to+", payload: {format: number, max-size: 32, minimum: 0}"), ""),
			site("", "terms: {max-packet: 44}", clause("a", "d/a", to+", payload: {format: number, max-size: 32, minimum: 0}"), ""), "44 bytes"},
		{"beyond-terms", site("", "terms: {version: 3.1.1}", clause("a", "d/a", to+", message-expiry: 60s"), ""),
			site("", "terms: {version: [3.1.1, 5]}", clause("a", "d/a", to+", message-expiry: 60s"), ""), "only version 5"},
		{"beyond-limits", site("q: {stand-in: {limits: {maximum-qos: 1}}}", "", clause("a", "d/a", to+", qos: 2"), ""), site("q: {stand-in: {limits: {maximum-qos: 1}}}", "", clause("a", "d/a", to+", qos: 1"), ""), "maximum-qos"},
		{"beyond-limits", site("q: {stand-in: {limits: {maximum-packet-size: 64}}}", "", clause("a", "d/a", to+", payload: {format: number, max-size: 62, minimum: 0}"), ""),
			site("q: {stand-in: {limits: {maximum-packet-size: 65}}}", "", clause("a", "d/a", to+", payload: {format: number, max-size: 62, minimum: 0}"), ""), "packets of 65"},
		{"idle-party", site("", "", "", ""), site("", "", temp, ""), "vat publishes nothing"},
		{"beyond-rights", site("q: {stand-in: {logins: [v], rights: {v: {publish: [d/b]}}}}", "logins: [v]", clause("a", "d/a", to), "logins: {v: {}}"),
			site("q: {stand-in: {logins: [v], rights: {v: {publish: [d/+]}}}}", "logins: [v]", clause("a", "d/a", to), "logins: {v: {}}"), "v has to publish d/a, and may not"},
		{"beyond-rights", site("q: {stand-in: {logins: [v], rights: {v: {publish: [d/a], subscribe: []}}}}", "logins: [v]", clause("a", "d/a", to)+"    b: {topic: d/b, from: desk, to: vat, payload: {format: number, minimum: 0}}\n", "logins: {v: {}}"),
			site("q: {stand-in: {logins: [v], rights: {v: {publish: [d/a]}}}}", "logins: [v]", clause("a", "d/a", to)+"    b: {topic: d/b, from: desk, to: vat, payload: {format: number, minimum: 0}}\n", "logins: {v: {}}"), "v has to subscribe to d/b"},
		{"keep-alive-0", site("", "terms: {keep-alive: 0s..30s}", temp, ""), site("", "terms: {keep-alive: 1s..30s}", temp, ""), "allow a keep alive of 0"},
		{"keep-alive-0", site("", "", temp, "devices: {v: {plays: vat, session: {keep-alive: 0s}}}"), site("", "", temp, "devices: {v: {plays: vat, session: {keep-alive: 1s}}}"), "has a keep alive of 0"},
		{"late-news", site("", "terms: {keep-alive: 30s, lost-within: 44s}", status(presence), ""), site("", "terms: {keep-alive: 30s, lost-within: 45s}", status(presence), ""), "it may take 45s"},
		{"late-news", site("", "terms: {lost-within: 44s}", temp, ""), site("", "terms: {lost-within: 44s}", status(presence), ""), "no clause has its will"},
	}
	fired := map[string]bool{}
	for _, c := range cases {
		fired[c.lint] = true
		got := found(t, c.fires, c.lint)
		if len(got) == 0 || !strings.Contains(got[0].Message, c.says) || got[0].Line == 0 || got[0].Way == "" {
			t.Errorf("%s does not say %q: %+v of\n%s", c.lint, c.says, got, c.fires)
		}
		if got := found(t, c.miss, c.lint); len(got) > 0 {
			t.Errorf("%s accuses %q of\n%s", c.lint, got[0].Message, c.miss)
		}
		for _, f := range got {
			if f.Accepted != "" {
				t.Errorf("accepted by nobody: %+v", f)
			}
		}
	}
	for _, name := range lint.Names() {
		if !fired[name] {
			t.Errorf("no case for %s", name)
		}
	}
}

func found(t *testing.T, text, name string) (out []lint.Finding) {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"w": {Data: []byte(text)}}, "w", "w")
	if err != nil || len(w.Problems) > 0 {
		t.Fatalf("%v %v in\n%s", err, w.Problems, text)
	}
	for _, f := range w.Findings() {
		if f.Lint.Name == name {
			out = append(out, f)
		}
	}
	return out
}

// TestFindingsAreAccepted with a reason, of one clause or of all, and in the order of the file.
func TestFindingsAreAccepted(t *testing.T) {
	clauses := clause("b", "d/b", "") + clause("a", "d/a", "")
	for rest, want := range map[string][2]string{
		"  accepted: [{lint: unconsumed, clause: a, because: a test}]":   {"", "a test"},
		"  accepted: [{lint: unconsumed, because: nobody yet}]":          {"nobody yet", "nobody yet"},
		"  accepted: [{lint: spaces, because: another}]":                 {"", ""},
		"  accepted: [{lint: idle-party, party: desk, because: x}]":      {"", ""},
		"  accepted: [{lint: unconsumed, clause: b, because: 'no use'}]": {"no use", ""},
	} {
		got := found(t, site("", "", clauses, rest), "unconsumed")
		if len(got) != 2 || got[0].On != "b" || got[0].Accepted != want[0] || got[1].On != "a" || got[1].Accepted != want[1] {
			t.Errorf("%s: %+v", rest, got)
		}
	}
	for rest, want := range map[string]string{
		"  accepted: [{lint: unconsummed, because: x}]":           `did you mean "unconsumed"?`,
		"  accepted: [{lint: unconsumed}]":                        `lacks "because"`,
		"  accepted: [{lint: unconsumed, clause: c, because: x}]": `clause "c" is not defined`,
	} {
		w, _ := workspace.Read(fstest.MapFS{"w": {Data: []byte(site("", "", clauses, rest))}}, "w", "w")
		if len(w.Problems) == 0 || !strings.Contains(w.Problems[0].Error(), want) {
			t.Errorf("%s: %v", rest, w.Problems)
		}
	}
}
