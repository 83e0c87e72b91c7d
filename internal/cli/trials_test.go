package cli_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hodstone/internal/cli"
	"hodstone/internal/workbench"
)

const lamp = "Does the lamp over the hatch burn?"

// TestTrialsOfTheDemo: run by name, with answers from a file, from a person and from nobody; and what is written of
// them.
func TestTrialsOfTheDemo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(name, text string) string {
		if err := os.WriteFile(at(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return at(name)
	}
	demo := demoFolder(t)
	answers := write("answers.yaml", lamp+": {answer: \"yes\", after: 100ms}\n")
	code, out, errOut := run(
		"prove",
		demo,
		"--trial",
		"The hatch*",
		"--trial",
		"An order*",
		"--trial",
		"*hatch*",
		"--answers",
		answers,
		"--record",
		at("r.hod"),
		"--report",
		at("r.md"),
		"--junit",
		at("r.xml"),
		"--save",
		at("good.json"),
	)
	if code != 0 || !strings.Contains(out, "2 trials") || !strings.Contains(out, lamp+": answered yes, after") ||
		!strings.Contains(out, "2 kept, 0 broken in") {
		t.Fatalf("exit %d\n%s%s", code, out, errOut)
	}
	record, _ := os.ReadFile(at("r.hod"))
	people, _ := os.ReadFile(at("r.md"))
	for _, want := range []string{"# Trials of the site", "Trial: The hatch is shut by hand", "ask: " + lamp, fmt.Sprintf("r.hod, SHA-256 %x", sha256.Sum256(record))} {
		if len(record) == 0 || !strings.Contains(string(people), want) {
			t.Errorf("%q is not in the report:\n%s", want, people)
		}
	}
	if xml, _ := os.ReadFile(
		at("r.xml"),
	); !strings.Contains(
		string(xml),
		`<testsuite name="trials" tests="2" failures="0"`,
	) {
		t.Errorf("JUnit:\n%s", xml)
	}

	ask := func(typed string) (int, string, string) {
		var o, e bytes.Buffer
		code := cli.Main(
			cli.Env{
				Args:     []string{"prove", demo, "--trial", "The hatch*"},
				Out:      &o,
				ErrOut:   &e,
				In:       strings.NewReader(typed),
				Terminal: true,
				Screens:  func(context.Context, *workbench.Bench) error { return nil },
			},
		)
		return code, o.String(), e.String()
	}
	for typed, want := range map[string]string{"\nyes\n": "answered yes", "n\n": "answered no", "too dark\n": "left out, because too dark", "": "no answer: EOF"} {
		code, out, errOut := ask(typed)
		if (code == 0) != (want == "answered yes") || !strings.Contains(out, want) || !strings.Contains(errOut, lamp) {
			t.Errorf("%q: exit %d\n%s%s", typed, code, out, errOut)
		}
	}
	code, out, _ = run("prove", demo, "--trial", "The hatch*", "--baseline", at("good.json"))
	if code != 1 || !strings.Contains(out, "nobody is there to be asked") || !strings.Contains(out, "worse") {
		t.Errorf("worse than before: exit %d\n%s", code, out)
	}
	code, out, _ = run("prove", demo, "--trial", "An order*", "--fault", "retain.not-stored", "--json")
	if code != 1 || !strings.Contains(out, `"verdict": "broken"`) ||
		!strings.Contains(out, "it came, and a newcomer is not greeted by it") {
		t.Errorf("a fault: exit %d\n%s", code, out)
	}
	for _, tt := range []struct{ args, want string }{
		{"--trial nets*", "no trial is called so"}, {"--trial * --check will", "--check does not go with --trial"}, {"--answers " + answers, "--answers goes with --trial, --device and --restart"},
		{"--trial * --answers " + write("none.yaml", lamp+":\n"), "has no answer"}, {"--trial * --answers " + write("list.yaml", "- yes\n"), "no mapping"},
		{"--trial * --answers " + write("late.yaml", lamp+": {answer: yes, after: late}\n"), "write a time such as 2s"},
		{"--trial * --answers " + at("absent.yaml"), "cannot be read"}, {"--trial [", "pattern"}, {"--follow x=y", "--follow goes with --record"},
	} {
		code, out, errOut := run(append([]string{"prove", demo}, strings.Fields(tt.args)...)...)
		if code != 2 || !strings.Contains(errOut, tt.want) {
			t.Errorf("%s: exit %d\n%s%s", tt.args, code, out, errOut)
		}
	}
	if code, _, errOut := run(
		"prove",
		"--url",
		"mqtt://127.0.0.1:1",
		"--trial",
		"*",
	); code != 2 ||
		!strings.Contains(errOut, "name one") {
		t.Errorf("trials of no workspace: exit %d %s", code, errOut)
	}
}

// TestRightsOnTheContractsTopics: the demo's barge may do everything, which its stand-in does not hide; the table is
// CSV.
func TestRightsOnTheContractsTopics(t *testing.T) {
	t.Parallel()
	table := filepath.Join(t.TempDir(), "rights.csv")
	demo := demoFolder(t)
	code, out, errOut := run(
		"prove",
		demo,
		"--check",
		"contract.*",
		"--protocol-version",
		"5",
		"--on-contract-topics",
		"--tables",
		table,
	)
	if code != 1 ||
		!strings.Contains(out, "barge publishes on marrowvoe/pen/1/oxygen and 10 more") &&
			!strings.Contains(out, "and 7 more") ||
		!strings.Contains(out, "4 kept, 1 broken, 1 skipped") ||
		!strings.Contains(out, "no pen says by pen.status that it is there") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	file, err := os.Open(table)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	rows, err := csv.NewReader(file).ReadAll()
	if err != nil || len(rows) < 100 || strings.Join(rows[0], ",") != "check,mqtt,table,row,column,verdict,found" {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	found := map[string]string{}
	for _, r := range rows[1:] {
		found[r[3]+" "+r[4]] = r[5] + ": " + r[6]
	}
	for cell, want := range map[string]string{
		"pen.oxygen pen-1":            "kept: publish: may and should; read: may not and should not",
		"pen.oxygen of another pen-1": "broken: publish: may but should not; read: may not and should not",
		"barge.hatch store":           "kept: publish: may not and should not; read: may and should",
		"feed.order barge":            "broken: publish: may but should not; read: may but should not",
	} {
		if found[cell] != want {
			t.Errorf("%s: %q, want %q", cell, found[cell], want)
		}
	}
	for _, args := range [][]string{{"prove", "--url", "mqtt://127.0.0.1:1", "--on-contract-topics"}, {"prove", demo, "--tables", filepath.Join(table, "x")}} {
		if code, _, errOut := run(args...); code != 2 || errOut == "" {
			t.Errorf("%v: exit %d %s", args, code, errOut)
		}
	}
}
