package workspace_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"hodstone/internal/workspace"
)

const spoken = `hodstone: 1
contract:
  parties: {pen: , desk: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    set: {topic: "v/{pen}/set", from: desk, to: pen, payload: {format: text}, examples: [go]}
    level: {topic: "v/{pen}/level", from: pen, to: desk, payload: {format: number}}
`

// TestMessagesAndReadoutsAreRead, and what cannot be sent is told with its place.
func TestMessagesAndReadoutsAreRead(t *testing.T) {
	read := func(more string) *workspace.Workspace {
		w, err := workspace.Read(fstest.MapFS{"f.yaml": {Data: []byte(spoken + more)}}, "f.yaml", "f.yaml")
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	w := read(`messages:
  go 2: {clause: set, parameters: {pen: 2}, key: F2, every: 2s, times: 3, as: desk, qos: 2, retain: true}
  raw: {topic: v/x, payload: {a: "= now()"}}
readouts: [{clause: level}, {clause: level, parameters: {pen: 1}}]
`)
	if len(w.Problems) > 0 || len(w.Messages) != 2 || len(w.Readouts) != 2 || w.Messages[0].Parameters["pen"] != "2" ||
		w.Messages[0].Key != "F2" || w.Messages[0].Times != 3 || *w.Messages[0].QoS != 2 || !*w.Messages[0].Retain {
		t.Errorf("%+v, problems %v", w.Messages, w.Problems)
	}
	for text, want := range map[string]string{
		"messages: {a: {clause: st}}":                                    `did you mean "set"`,
		"messages: {a: {clause: set}}":                                   "has no value here",
		"messages: {a: {clause: set, parameters: {pem: 1}}}":             "has no {pem}",
		"messages: {a: {payload: x}}":                                    "has a clause or a topic",
		"messages: {a: {topic: v/+}}":                                    "+",
		"messages: {a: {topic: v/x, key: F13}}":                          "F1 to F12",
		"messages: {a: {topic: v/x, key: F1}, b: {topic: v/y, key: F1}}": "has the key F1 already",
		"messages: {a: {topic: v/x, times: 5}}":                          "with which time between",
		"messages: {a: {topic: v/x, as: whale}}":                         "whale",
		"readouts: [{parameters: {pen: 1}}]":                             "clause",
		"readouts: [{clause: level, parameters: {depth: 1}}]":            "has no {depth}",
	} {
		found := ""
		for _, p := range read(text + "\n").Problems {
			found += p.Message + " " + p.Hint + "; "
		}
		if !strings.Contains(found, want) {
			t.Errorf("%s: %q, want %q", text, found, want)
		}
	}
}

// TestReadoutsArePinnedInPlace: comments and order of all else stay, and what was pinned can be taken away again.
func TestReadoutsArePinnedInPlace(t *testing.T) {
	for name, before := range map[string]string{
		"none":     spoken,
		"lines":    spoken + "readouts:   # what I look at\n  - {clause: level}   # all\n  - clause: set\n    parameters: {pen: 1}\n\n# the end\ntaps: {}\n",
		"brackets": spoken + "readouts: [{clause: level}]  # all\ntaps: {}\n",
		"empty":    spoken + "readouts:\ntaps: {}\n",
	} {
		of := map[string]string{"pen": "2"}
		after, err := workspace.PutReadout(before, "level", of, true)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		w, err := workspace.Read(fstest.MapFS{"f.yaml": {Data: []byte(after)}}, "f.yaml", "f.yaml")
		if err != nil || len(w.Problems) > 0 {
			t.Fatalf("%s: %v %v\n%s", name, err, w.Problems, after)
		}
		last := w.Readouts[len(w.Readouts)-1]
		if last.Clause != "level" || last.Parameters["pen"] != "2" ||
			name == "lines" && !strings.Contains(after, "# all") ||
			strings.Contains(before, "# the end") && !strings.Contains(after, "# the end") {
			t.Errorf("%s: pinned %+v in\n%s", name, last, after)
		}
		again, err := workspace.PutReadout(after, "level", of, false)
		if err != nil || strings.Contains(again, `"2"}`) && strings.Contains(again, "level, parameters") {
			t.Errorf("%s: unpinned (%v):\n%s", name, err, again)
		}
		if name == "lines" && again != before {
			t.Errorf("%s: after pin and unpin\n%s\nwant\n%s", name, again, before)
		}
	}
}
