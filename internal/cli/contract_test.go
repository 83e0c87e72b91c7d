package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// edit changes a file.
func edit(t *testing.T, file string, pairs ...string) {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	for i := 0; i < len(pairs); i += 2 {
		if !strings.Contains(text, pairs[i]) {
			t.Fatalf("%s has no %q", file, pairs[i])
		}
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestAContractOnItsWayAround: begun, checked, given away, taken in again, compared; each command says what it did.
func TestAContractOnItsWayAround(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	expect := func(code int, wants string, args ...string) string {
		t.Helper()
		got, out, errOut := run(args...)
		if got != code {
			t.Fatalf("%v: exit %d, want %d: %s%s", args, got, code, out, errOut)
		}
		for want := range strings.SplitSeq(wants, "|") {
			if !strings.Contains(out+errOut, want) {
				t.Errorf("%v lacks %q:\n%s%s", args, want, out, errOut)
			}
		}
		return out
	}
	expect(0, "open it with", "init", at("site"))
	expect(2, "is there already", "init", at("site"))
	file := at("site/hodstone.yaml")
	expect(0, "0 problems, 0 findings", "contract", "check", file)
	edit(t, file, "qos: 1\n      retain: true\n      presence", "qos: 0\n      retain: true\n      presence")
	expect(1, "the will of pump.status goes at QoS 0 [weak-will]|why: A will at QoS 0|way out: qos: 1|1 finding", "contract", "check", file)
	edit(t, file, "\ndevices:", "  accepted: [{lint: weak-will, clause: pump.status, because: a test}]\n\ndevices:")
	expect(0, "0 findings and 1 accepted", "contract", "check", file)
	expect(0, "accepted: a test", "contract", "check", file, "--all")
	var doc struct {
		Clauses  int
		Findings []struct{ Accepted string }
	}
	if err := json.Unmarshal([]byte(expect(0, "", "contract", "check", file, "--json")), &doc); err != nil || len(doc.Findings) != 1 || doc.Findings[0].Accepted != "a test" || doc.Clauses != 2 {
		t.Errorf("%v %+v", err, doc)
	}
	expect(0, "retained-command|way out", "contract", "check", "--lints")

	// Out and in again is the same.
	for format, want := range map[string]string{"asyncapi": `"asyncapi": "3.0.0"`, "markdown": "| litres | number | l/min | 0 … 500 |", "drawing": "<svg", "yaml": "presence: {coming: \"on\"",
		"c": "#define PUMP_FLOW_TOPIC \"mysite/pump/%s/flow\"", "go": "PumpStatusQoS", "python": "PUMP_STATUS_LOST = \"lost\"", "st": "PUMP_STATUS_RETAIN : BOOL := TRUE", "access": "party desk has no login", "rights": "rights:"} {
		expect(0, want, "contract", "export", file, "--format", format)
	}
	expect(0, "", "contract", "export", file, "--format", "asyncapi", "--out", at("out.json"))
	expect(2, "is there already", "contract", "export", file, "--format", "asyncapi", "--out", at("out.json"))
	expect(0, "2 clauses added", "contract", "import", at("out.json"), "--out", at("in.yaml"))
	expect(0, "0 changes, nobody breaks", "contract", "compare", file, at("in.yaml"))
	expect(0, "", "contract", "export", file, "--format", "json-schema", "--out", at("schemas"))
	if b, err := os.ReadFile(at("schemas/pump.flow.schema.json")); err != nil || !strings.Contains(string(b), "2020-12/schema") {
		t.Errorf("%v %s", err, b)
	}
	expect(0, `"format": "broker"|broker/broker.conf|chown them`, "contract", "export", file, "--format", "broker", "--out", at("broker"), "--json")
	expect(0, `"out.md"`[1:7], "contract", "export", file, "--out", at("out.md"), "--json")
	expect(2, "writes a folder: name it with --out", "contract", "export", file, "--format", "broker")
	expect(2, "--format is one of asyncapi, markdown", "contract", "export", file, "--format", "word")
	if b, err := os.ReadFile(at("out.json")); err != nil || len(b) == 0 {
		t.Error(err)
	}
	if _, out, _ := run("contract", "export", file, "--format", "pdf"); !strings.HasPrefix(out, "%PDF-") {
		t.Errorf("no PDF: %.20q", out)
	}

	// A list of points, and again when it has changed.
	list := at("points.csv")
	os.WriteFile(list, []byte("point,unit,range\nLevel,mm,0..500\nPressure,bar,0..10\n,bar,\n"), 0o600)
	edit(t, file, "      note: what the pump moves", "      note: what the pump moves # by the meter")
	expect(1, "not taken over: line 4|2 clauses added, 0 changed, 0 as they were", "contract", "import", list, "--map", "topic=mysite/tank/{point}", "--map", "from=pump", "--map", "to=desk", "--into", file)
	os.WriteFile(list, []byte("point,unit,range\nLevel,mm,0..600\nPressure,bar,0..10\n"), 0o600)
	edit(t, file, "mysite/tank/pressure\n", "mysite/tank/pressure\n      qos: 1 # ours\n")
	out := expect(0, "changed: tank.level|0 clauses added, 1 changed, 1 as they were", "contract", "import", list, "--map", "topic=mysite/tank/{point}", "--map", "from=pump", "--map", "to=desk", "--into", file)
	b, _ := os.ReadFile(file)
	for _, want := range []string{"maximum: 600", "qos: 1 # ours", "# by the meter", "# play those that are not there yet"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("%s: the file lost %q:\n%s", out, want, b)
		}
	}
	// What stands in a file that the contract includes is changed there; where the result is none, nothing is.
	whole, _ := os.ReadFile(file)
	head, tank, found := strings.Cut(string(whole), "    tank.level:\n")
	tank, tail, also := strings.Cut(tank, "    tank.pressure:")
	if !found || !also {
		t.Fatalf("%s", whole)
	}
	os.WriteFile(at("site/tanks.yaml"), []byte("clauses: # of tanks\n    tank.level:\n"+tank), 0o600)
	os.WriteFile(file, []byte(strings.Replace(head, "contract:", "contract:\n  include: [tanks.yaml]\n ", 1)+"    tank.pressure:"+tail), 0o600)
	os.WriteFile(list, []byte("point,unit,range\nLevel,mm,0..700\nPressure,bar,0..11\n"), 0o600)
	into := []string{"contract", "import", list, "--map", "topic=mysite/tank/{point}", "--map", "from=pump", "--map", "to=desk", "--into", file}
	expect(0, "0 clauses added, 2 changed, 0 as they were", into...)
	own, _ := os.ReadFile(file)
	if b, _ := os.ReadFile(at("site/tanks.yaml")); !strings.Contains(string(b), "maximum: 700") || !strings.Contains(string(b), "# of tanks") || strings.Contains(string(own), "tank.level") || !strings.Contains(string(own), "maximum: 11") {
		t.Errorf("%s%s", own, b)
	}
	os.WriteFile(file, whole, 0o600)
	os.Remove(at("site/tanks.yaml"))
	expect(2, "write KEY=VALUE", "contract", "import", list, "--map", "topic")
	expect(2, "there are: point, unit, range", "contract", "import", list, "--map", "topic=a/{pint}")
	expect(2, "cannot read", "contract", "import", at("nothing.csv"))

	// Compared with what git has.
	for _, args := range [][]string{{"init", "-q"}, {"add", "-A"}, {"-c", "user.email=a@b.test", "-c", "user.name=a", "commit", "-qm", "x"}} {
		if out, err := exec.Command("git", append([]string{"-C", at("site")}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	expect(0, "0 changes, nobody breaks", "contract", "compare", "--base", "HEAD", file)
	edit(t, file, "every: 5s ± 2s", "every: 4s ± 2s", "maximum: 600", "maximum: 700")
	expect(1, "✗ clause pump.flow, every: narrowed from 5s ± 2s to 4s ± 2s|breaks pump, as publisher|by which these break: desk, pump", "contract", "compare", "--base", "HEAD", file)
	expect(1, "| clause tank.level, payload/maximum | widened | 600 | 700 | desk (consumer)", "contract", "compare", "--base", "HEAD", file, "--format", "markdown")
	var x struct{ Changes, Breaks []any }
	if err := json.Unmarshal([]byte(expect(1, "", "contract", "compare", "--base", "HEAD", file, "--json")), &x); err != nil || len(x.Changes) != 2 || len(x.Breaks) != 2 {
		t.Errorf("%v %+v", err, x)
	}
	expect(2, "git knows no revision nowhere", "contract", "compare", "--base", "nowhere", file)
	expect(2, "is no revision", "contract", "compare", "--base=--all", file)
}

// TestAContractIsDraftedFromABroker: of a stand-in, whose clients are seen, and it is sound.
func TestAContractIsDraftedFromABroker(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run("init", dir)
	edit(t, filepath.Join(dir, "hodstone.yaml"), "every: 5s, payload", "every: 200ms, payload", "{clause: pump.flow,", "{topic: \"mysite/extra/{n}\", every: 300ms, payload: {v: 1}}\n      - {clause: pump.flow,")
	code, out, errOut := run("contract", "draft", dir, "--for", "4s", "--out", filepath.Join(dir, "draft.yaml"))
	if code != 0 || !strings.Contains(out, "3 clauses from ") {
		t.Fatal(code, out, errOut)
	}
	b, err := os.ReadFile(filepath.Join(dir, "draft.yaml"))
	for _, want := range []string{"# Drafted from ", "topic: mysite/pump/{pump}/flow", "from: pump  # ", "presence: {coming: \"on\", leaving: \"off\", lost: lost}", "litres: {type: number, minimum: 0, maximum: 500, unit: l}  # from", "client-id: \"pump-{pump}\""} {
		if err != nil || !strings.Contains(string(b), want) {
			t.Errorf("%v lacks %s:\n%s", err, want, b)
		}
	}
	if code, out, _ := run("contract", "check", filepath.Join(dir, "draft.yaml")); !strings.Contains(out, "0 problems") {
		t.Error(code, out)
	}
	var d struct{ Clauses, Messages int }
	if code, out, errOut := run("contract", "draft", dir, "--for", "2s", "--json"); code != 0 || json.Unmarshal([]byte(out), &d) != nil || d.Clauses < 3 || d.Messages == 0 {
		t.Error(code, out, errOut)
	}
	if code, _, errOut := run("contract", "draft", "mqtt://127.0.0.1:1", "--for", "1s"); code != 3 || !strings.Contains(errOut, "not reached") {
		t.Error(code, errOut)
	}
	if code, _, errOut := run("contract", "draft", filepath.Join(dir, "none.db")); code != 2 {
		t.Error(code, errOut)
	}
}
