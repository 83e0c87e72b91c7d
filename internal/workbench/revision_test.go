package workbench_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/expression"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// TestAnEditedWorkspaceComesIntoForce: contract and devices follow the file; one with errors leaves what was in force;
// who has not changed goes on undisturbed, and who was switched off stays so.
func TestAnEditedWorkspaceComesIntoForce(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "hodstone.yaml")
	text := fmt.Sprintf(
		farm,
		"5",
	) + "  buoy: {plays: pen, publishes: [{topic: w/buoy, every: 200ms, payload: \"1\"}]}\n"
	text = strings.Replace(
		text,
		"logins: [pen-1, pen-2, bench], anonymous: false",
		"logins: [pen-1, pen-2, bench], anonymous: true",
		1,
	)
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(text)
	w, err := workspace.Open(file)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 3, Follow: true})
	if err != nil {
		t.Fatal(err)
	}
	b.Start()
	defer b.Close()
	await(t, b, "all kept", func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept })
	checks, _ := check.Match("keepalive.ping")
	if err := b.StartProof(proof.Options{Checks: checks}, "quay"); err != nil {
		t.Fatal(err)
	}
	until(t, "the proof ends", func() bool { return !b.Proof().Running })
	b.Device("pen-2").Stop()
	since := func(name string) time.Time {
		for _, d := range b.Devices() {
			if d.Name == name {
				return d.Since
			}
		}
		t.Fatalf("no device %s", name)
		return time.Time{}
	}

	// Errors: what was in force stays.
	before := since("buoy")
	write(strings.Replace(text, "minimum: 0, maximum: 9", "minimum: zero", 1))
	until(t, "problems show", func() bool { found, old := b.Problems(); return old && len(found) > 0 })
	if s := b.Snapshot(); states(s)["v/1/level"] != contract.CellKept || b.Workspace().Contract.Clause("level") == nil {
		t.Error("what was in force is gone")
	}

	// Sound: the new contract judges, and the buoy's own definition is as it was, but all are made of the contract.
	write(strings.Replace(text, "maximum: 9", "maximum: 4", 1))
	until(t, "no problems", func() bool { found, _ := b.Problems(); return len(found) == 0 })
	await(
		t,
		b,
		"the new contract judges",
		func(s workbench.Snapshot) bool { return find(s, contract.RuleRange, "v/1/level") != nil },
	)
	if b.Device("pen-2").State().Phase != device.Off || !strings.Contains(b.Revision(), "as edited at") ||
		b.Proof().Stale {
		t.Errorf("pen-2 is %s; %q; stale %v", b.Device("pen-2").State().Phase, b.Revision(), b.Proof().Stale)
	}

	// A device alone: the others go on.
	until(
		t,
		"the buoy is on",
		func() bool { return b.Device("buoy").State().Phase == device.On && since("buoy").After(before) },
	)
	before = since("buoy")
	text = strings.Replace(
		strings.Replace(text, "maximum: 9", "maximum: 4", 1),
		"signals: {high: {start: 5}}",
		"signals: {high: {start: 3}}",
		1,
	)
	write(text)
	await(
		t,
		b,
		"the device as edited",
		func(s workbench.Snapshot) bool { return string(cellOf(s, "v/1/level").Last.Payload) == "3" },
	)
	if !since("buoy").Equal(before) {
		t.Error("the buoy was disturbed")
	}
	if find(b.Snapshot(), contract.RuleRange, "v/1/level") == nil {
		t.Error("the breaches are forgotten although the contract is the same")
	}

	// The broker's settings: the proof is stale, and the stand-in says when it counts.
	write(strings.Replace(text, "login: bench, version", "anonymous: false, login: bench, version", 1))
	until(t, "the proof is stale", func() bool { return b.Proof().Stale })
	if got := b.Revision(); !strings.Contains(got, "counts when the workspace is opened again") {
		t.Errorf("%q", got)
	}
}

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); !ok(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%s: never so", what)
		}
	}
}

// TestAClauseOfAnIncludedFileIsChanged: where it stands, with a new party in the workspace's own file; what would not be
// sound changes neither.
func TestAClauseOfAnIncludedFileIsChanged(t *testing.T) {
	dir := t.TempDir()
	own, part := filepath.Join(dir, "hodstone.yaml"), filepath.Join(dir, "more.yaml")
	const text, more = "hodstone: 1\nbrokers: {q: {stand-in: {}}}\ncontract:\n  include: [more.yaml]\n  parties: {a: , b: }\n  clauses:\n    y: {topic: v/y, from: a, to: b, payload: {format: text}}\n",
		"clauses:\n  x:\n    topic: v/x # kept\n    from: a\n    to: b\n    payload: {format: text}\n"
	for name, text := range map[string]string{own: text, part: more} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w, err := workspace.Open(own)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 3, Follow: true})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	on := func(name string) string { b, _ := os.ReadFile(name); return string(b) }
	tree := func(topic, to string) expression.Object {
		return expression.Object{{Key: "topic", Value: topic}, {Key: "to", Value: to}}
	}
	p := &workbench.Proposal{
		Name:    "x",
		Tree:    tree("v/x", "c"),
		Parties: expression.Object{{Key: "c", Value: expression.Object{}}},
	}
	if err := b.Adopt(
		p,
	); err != nil || on(part) != strings.Replace(more, "to: b", "to: c", 1) || !strings.Contains(on(own), "c: {}") ||
		b.Workspace().Contract.Clause("x").To[0] != "c" {
		t.Errorf("%v\n%s\n%s", err, on(own), on(part))
	}
	for b.CanUndo() {
		if _, err := b.Undo(); err != nil {
			t.Fatal(err)
		}
	}
	p.Tree = tree("v/y", "c") // the topic of another
	if err := b.Adopt(p); err == nil || on(part) != more || on(own) != text {
		t.Errorf("%v\n%s\n%s", err, on(own), on(part))
	}
}
