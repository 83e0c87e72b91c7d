package workspace

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
)

// FuzzYAML: what is written is read as the same again, whatever characters are in it.
func FuzzYAML(f *testing.F) {
	for _, s := range []string{"on", "1e3", "0x1F", "a: b", "# no", "- x", "'", "\"", "\\", "\t", "\n", "é", "👾", "~", "{a}", "[", "&a", "*a", "!t", "%", "@", "`", "5s ± 2s", "1..4", "3.1.1", "10/s", "", " ", "a ", "null", "1_000", "12:30", "<<", "=", "\u0085", "\u2028", "\ufeff", "\x7f", "2026-01-01", ".5", "+1", "0o7", "Infinity"} {
		f.Add(s, s, 1.5)
	}
	f.Fuzz(func(t *testing.T, key, text string, number float64) {
		n, err := json.Marshal(number)
		if err != nil {
			return
		}
		key, text = strings.ToValidUTF8(key, "?"), strings.ToValidUTF8(text, "?")
		tree := expression.Object{{Key: "k" + key, Value: text}, {Key: "n", Value: json.Number(n)}, {Key: "l", Value: []any{text, true, nil, []any{}, expression.Object{}}},
			{Key: "o", Value: expression.Object{{Key: key, Value: expression.Object{{Key: "long", Value: strings.Repeat("wide ", 30)}, {Key: "in", Value: text}}}}}}
		written := YAML(tree, 0, Comments{"/n": {text, key}, "/o/" + key: {"x"}})
		v, problems := ReadTree([]byte(written), "x")
		if len(problems) > 0 {
			t.Fatalf("%v\n%s", problems[0], written)
		}
		want, got := contract.SameText(tree), contract.SameText(v)
		// A number may be written in another way.
		var a, b any
		json.Unmarshal([]byte(want), &a)
		json.Unmarshal([]byte(got), &b)
		if fmt.Sprint(a) != fmt.Sprint(b) {
			t.Fatalf("%s\nis read as\n%s\nof\n%s", want, got, written)
		}
	})
}

// TestEntriesAreSetWithoutTouchingOthers: lines, comments and order stay; what stands in braces is written anew.
func TestEntriesAreSetWithoutTouchingOthers(t *testing.T) {
	const text = "a: 1 # one\n# of b\nb:\n  x: {p: 1, q: [2]} # braces\n\n  # of why\n  why:\n  - 1\n  - 2\n\n# the end\nc: # nothing\n"
	for _, c := range []struct {
		path  string
		value any
		want  string
	}{
		{"a", 2, strings.Replace(text, "a: 1 # one", "a: 2  # one", 1)},
		{"a", nil, strings.Replace(text, "a: 1 # one\n", "", 1)},
		{"none", nil, text},
		{"b/x/p", "on", strings.Replace(text, "  x: {p: 1, q: [2]} # braces", "  x: {p: \"on\", q: [2]}  # braces", 1)},
		{"b/x/q", nil, strings.Replace(text, "  x: {p: 1, q: [2]} # braces", "  x: {p: 1}  # braces", 1)},
		{"b/x/new", 1, strings.Replace(text, "  x: {p: 1, q: [2]} # braces", "  x: {p: 1, q: [2], new: 1}  # braces", 1)},
		{"b/why", 3, strings.Replace(text, "  why:\n  - 1\n  - 2\n", "  why: 3\n", 1)},
		{"b/z", expression.Object{{Key: "k", Value: "v"}}, strings.Replace(text, "  - 2\n", "  - 2\n  z: {k: v}\n", 1)},
		{"c/d/e", 1, text + "  d:\n    e: 1\n"},
		{"f", "x", text + "f: x\n"},
	} {
		got, err := Put(text, c.value, strings.Split(c.path, "/")...)
		if err != nil || got != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.path, err, got, c.want)
		}
	}
	if got, err := Put("a: \"x # \\\" y\" # r\r\nb: 'it''s # no'\r\n", 1, "a"); err != nil || got != "a: 1  # r\r\nb: 'it''s # no'\r\n" {
		t.Errorf("%v %q", err, got)
	}
	if got, err := Put("b: 'it''s # no'", expression.Object{{Key: "c", Value: strings.Repeat("wide ", 30)}}, "b"); err != nil || strings.Contains(got, "no") {
		t.Errorf("%v %q", err, got)
	}
	for _, bad := range []string{"a: [", "- 1\n- 2\n"} {
		if got, err := Put(bad, 1, "a", "b"); err == nil {
			t.Errorf("%q became %q", bad, got)
		}
	}
}

// TestAContractInSeveralFiles: parts are read as one, wherever they stand; what is wrong is told where it stands; a file
// that is new, and one that is changed, are noticed.
func TestAContractInSeveralFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("hodstone.yaml", "hodstone: 1\ncontract:\n  include: [parts/*.yaml]\n  parties: {vat: }\n  clauses:\n    a: {topic: d/a, from: vat, to: desk, answer: {clause: b, within: 1s}, payload: {format: json, schema: {$ref: 'contract#/definitions/at'}}}\n")
	write("parts/one.yaml", "parties: {desk: }\ndefinitions: {at: {type: string, format: date-time}}\n")
	write("parts/two.yaml", "clauses:\n  b:\n    topic: d/b\n    from: desk\n    payload: {format: json, schema: {properties: {t: {$ref: 'contract#/definitions/at'}}}}\n")
	w, err := Open(dir)
	if err != nil || len(w.Problems) > 0 || len(w.Contract.Clauses) != 2 || len(w.Contract.Parties) != 2 {
		t.Fatal(err, w.Problems, w.Contract.Clauses)
	}
	b := w.Contract.Clause("b")
	if b.File != "parts/two.yaml" || b.Line != 2 || len(b.Payload.Schema.Breaches(map[string]any{"t": "yesterday"})) != 1 {
		t.Errorf("%s:%d", b.File, b.Line)
	}
	if got := contract.SameText(b.Payload.Bundle()); got != `{"properties":{"t":{"$ref":"#/$defs/at"}},"$defs":{"at":{"format":"date-time","type":"string"}}}` {
		t.Errorf("whole it is %s", got)
	}
	d := NewDocument(w)
	write("parts/three.yaml", "clauses: {c: {topic: d/c, from: desk, payload: {format: text}}}\n")
	if changed, err := d.Reload(); !changed || err != nil || len(d.Workspace().Contract.Clauses) != 3 {
		t.Errorf("a new file: %v %v", changed, err)
	}
	write("parts/two.yaml", "clauses:\n  b:\n    topic: d/b\n    from: dusk\n    payload: {format: text}\n")
	if changed, err := d.Reload(); changed || err != nil {
		t.Errorf("a broken file: %v %v", changed, err)
	}
	problems, old := d.Problems()
	if !old || len(problems) != 1 || !strings.HasSuffix(problems[0].File, "parts/two.yaml") || problems[0].Line != 4 || !strings.Contains(problems[0].Error(), `did you mean "desk"?`) {
		t.Errorf("%v %v", problems, old)
	}
	for name, c := range map[string]struct{ file, want string }{
		"an include within one": {"include: [x]\n", "a file that is included includes no other"},
		"twice a party":         {"parties: {vat: }\n", "party vat is there twice"},
		"twice a clause":        {"clauses: {a: {topic: d/z, from: vat, payload: {format: text}}}\n", "clause a is there twice"},
		"twice a definition":    {"definitions: {at: {}}\n", "the definition at is there twice"},
		"a key of none":         {"devices: {}\n", `has no key "devices"`},
	} {
		files := fstest.MapFS{"w": {Data: []byte("hodstone: 1\ncontract: {include: p.yaml, definitions: {at: {}}, parties: {vat: }, clauses: {a: {topic: d/a, from: vat, payload: {format: text}}}}\n")}, "p.yaml": {Data: []byte(c.file)}}
		w, _ := Read(files, "w", "w")
		if len(w.Problems) == 0 || !strings.Contains(w.Problems[0].Message, c.want) || !strings.HasSuffix(w.Problems[0].File, "p.yaml") {
			t.Errorf("%s: %v", name, w.Problems)
		}
	}
	w, _ = Read(fstest.MapFS{"w": {Data: []byte("hodstone: 1\ncontract: {include: [none/*.yaml]}\n")}}, "w", "w")
	if len(w.Problems) != 1 || !strings.Contains(w.Problems[0].Message, "no file is called none/*.yaml") {
		t.Error(w.Problems)
	}
}

// TestTheLanguageOfContractsSaysWhatIsWrong: each new key with a mistake is told, with what to write.
func TestTheLanguageOfContractsSaysWhatIsWrong(t *testing.T) {
	for _, c := range []struct{ party, clause, rest, want string }{
		{"terms: {client-id: 'a{'}", "", "", "a bracket has no other"},
		{"terms: {client-id: 'a{x}{x}'}", "", "", "stands there once"},
		{"terms: {keep-alive: 30s..10s}", "", "", "write 20s, or 10s..30s"},
		{"terms: {tls: maybe}", "", "", "there are: required, allowed, none"},
		{"terms: {login: x}", "", "", "there are: password, certificate"},
		{"terms: {max-qos: 3}", "", "", "from 0 to 2"},
		{"terms: {tries: often}", "", "", "write 10/s, 6/min or 2/h"},
		{"terms: {version: 4}", "", "", "write 3.1, 3.1.1 or 5"},
		{"", "only: sometimes", "", "there are: changes, edges"},
		{"", "message-expiry: 1500ms", "", "counted in whole seconds"},
		{"", "properties: {user: [unit, kg]}", "", "a user property is a name and a value"},
		{"", "repeat: twice", "", "there are: once, counted"},
		{"", "counter-examples: [{value: 3}]", "", `lacks "because"`},
		{"", "payload: {format: binary, fields: [{name: a, type: u8}]}, examples: ['0x']", "", "an example of clause a cannot be written"},
		{"", "payload: {format: binary, fields: [{name: a, type: u8}]}, counter-examples: [{value: {a: 999}, because: b}]", "", "a counter-example of clause a cannot be written"},
		{"", "", "  relations: {r: {never: [{clause: b}]}}", `clause "b" is not defined`},
		{"", "", "  relations: {r: {}}", "has never, or after and follows, one of them"},
		{"", "", "  relations: {r: {after: {clause: a}}}", "needs after, follows and within"},
		{"", "", "  relations: {r: {never: [{clause: a, where: 'payload >'}]}}", "unexpected token"},
		{"", "", "  relations: {r: {never: [{clause: a, where: x > 1}]}}", "unknown name x"},
		{"", "", "  relations: {r: {never: [{clause: a}], per: [pen]}}", "the topic of a has no {pen}"},
		{"", "", "  relations: {r: {never: [{clause: a, parameters: {pen: 1}}]}}", "the topic of a has no {pen}"},
		{"", "", "  parameters: {p: {range: 4..1}}", "write 1..40"},
	} {
		clause := c.clause
		if !strings.Contains(clause, "payload") {
			clause = strings.TrimPrefix(clause+", payload: {format: number}", ", ")
		}
		text := fmt.Sprintf("hodstone: 1\ncontract:\n  parties: {vat: {%s}}\n  clauses:\n    a: {topic: d/a, from: vat, %s}\n%s\n", c.party, clause, c.rest)
		w, err := Read(fstest.MapFS{"w": {Data: []byte(text)}}, "w", "w")
		if err != nil || len(w.Problems) == 0 || !strings.Contains(w.Problems[0].Error(), c.want) || w.Problems[0].Line == 0 {
			t.Errorf("%q is not told: %v of\n%s", c.want, w.Problems, text)
		}
	}
}

// TestUndoEndsWithAnEditElsewhere: an edit is taken back as long as the text is the one that it was made in.
func TestUndoEndsWithAnEditElsewhere(t *testing.T) {
	file := filepath.Join(t.TempDir(), "hodstone.yaml")
	const text = "hodstone: 1\nname: one\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	d := NewDocument(w)
	rename := func(to string) {
		t.Helper()
		if err := d.Rewrite(func(text string) (string, error) { return Put(text, to, "name") }); err != nil {
			t.Fatal(err)
		}
	}
	rename("two")
	rename("three")
	if was, err := d.Undo(); !was || err != nil || d.Text() != "hodstone: 1\nname: two\n" || !d.CanUndo() {
		t.Errorf("%v %v %q", was, err, d.Text())
	}
	if err := os.WriteFile(file, []byte("# mine\n"+d.Text()), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Undo(); err == nil {
		t.Error("what another changed was undone")
	}
	if _, err := d.Reload(); err != nil || d.CanUndo() {
		t.Errorf("%v; there is something to take back", err)
	}
	if was, err := d.Undo(); was || err != nil || d.Text() != "# mine\nhodstone: 1\nname: two\n" {
		t.Errorf("%v %v %q", was, err, d.Text())
	}
	if err := d.Rewrite(func(string) (string, error) { return "", fmt.Errorf("no") }); err == nil || d.Text() == "" {
		t.Error("a change that failed was made")
	}
}

// TestAnEditOfAnIncludedFile: it is written there, and comes into force; it is taken back unless somebody else was at the
// file; a link stays one.
func TestAnEditOfAnIncludedFile(t *testing.T) {
	dir := t.TempDir()
	file, link := filepath.Join(dir, "real.yaml"), filepath.Join(dir, "hodstone.yaml")
	const own, more = "hodstone: 1\ncontract:\n  include: [c/*.yaml]\n  parties: {a: , b: }\n", "# theirs\nclauses:\n  x: # of b\n    topic: v/x\n    from: a\n    to: b\n    payload: {format: text}\n"
	part := filepath.Join(dir, "c", "more.yaml")
	for name, text := range map[string]string{file: own, part: more} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o700), os.WriteFile(name, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("real.yaml", link); err != nil {
		t.Fatal(err)
	}
	w, err := Open(link)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	d := NewDocument(w)
	put := func(topic string) error {
		return d.RewriteIn("c/more.yaml", func(text string) (string, error) {
			return PutClause(text, true, "x", expression.Object{{Key: "topic", Value: topic}, {Key: "qos", Value: 1}})
		})
	}
	on := func(name string) string { b, _ := os.ReadFile(name); return string(b) }
	if err := put("v/y"); err != nil || on(part) != strings.Replace(more, "v/x", "v/y", 1)+"    qos: 1\n" || d.Workspace().Contract.Clause("x").Topic.String() != "v/y" {
		t.Errorf("%v %q", err, on(part))
	}
	if err := d.Rewrite(func(text string) (string, error) { return Put(text, "here", "name") }); err != nil || on(file) != own+"name: here\n" {
		t.Errorf("%v %q", err, on(file))
	}
	if info, err := os.Lstat(link); err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is %v %v now", info, err)
	}
	if tried, err := Try(d.Workspace(), "c/more.yaml", strings.Replace(more, "from: a", "from: c", 1)); err != nil || len(tried.Problems) != 1 || !strings.Contains(on(part), "v/y") {
		t.Errorf("%v %v", err, tried.Problems)
	}
	for range 2 {
		if was, err := d.Undo(); !was || err != nil {
			t.Error(was, err)
		}
	}
	if on(part) != more || on(file) != own || d.Workspace().Contract.Clause("x").Topic.String() != "v/x" {
		t.Errorf("%q %q", on(part), on(file))
	}
	if err := put("v/z"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(part, []byte(on(part)+"# mine\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Undo(); err == nil || !strings.Contains(err.Error(), "another program") || !strings.HasSuffix(on(part), "# mine\n") {
		t.Errorf("%v %q", err, on(part))
	}
	if err := d.RewriteIn("c/none.yaml", func(string) (string, error) { return "x", nil }); err == nil {
		t.Error("a file that is not there was changed")
	}
}
