package workspace_test

import (
	"strings"
	"testing"
	"time"

	"hodstone/internal/workspace"
)

// TestMistakesInTrials: each is one message, at its place, that says what to write; trials without one are read.
func TestMistakesInTrials(t *testing.T) {
	read := func(trials string) *workspace.Workspace { return read(t, sound+trials) }
	w := read("trials:\n- {name: one, each: {k: [p], v: [1, 2]}, steps: [{set: {device: '{k}', x: '= v + 1'}}, " +
		"{expect: {clause: a, where: payload.v == v, keep: got}}, {send: {clause: set, payload: '= got.payload.v'}}, {never: {breach: any}}]}\n")
	if len(w.Problems) != 0 || len(w.Trials) != 1 || len(w.Trials[0].Rounds()) != 2 || w.Trials[0].Rounds()[1]["v"] != "2" ||
		len(w.Trials[0].Steps) != 4 ||
		w.Trials[0].Steps[1].Within != 5*time.Second {
		t.Fatalf("%v %+v", w.Problems, w.Trials)
	}
	for _, tt := range []struct{ steps, place, want string }{
		{"{sett: {device: p, x: 1}}", "sett", `no key "sett"|did you mean "set"?`},
		{"{set: {device: q, x: 1}}", "q, x", `there is no device "q"`},
		{"{set: {device: p, y: 1}}", "y: 1", `device p has no signal "y"`},
		{"{set: {x: 1}}", "{x: 1}", "set says of no device"},
		{"{set: {device: p}}", "{device", "set sets no signal"},
		{"{set: {device: p, x: '= z'}}", "z'", "z|known here"},
		{"{wait: 1s, cut: p}", "{wait", "a step is one of its keys; this one has 2"},
		{"{wait: soon}", "soon", "duration"},
		{"{cut: '{pen}'}", "'{pen}'", `there is no device "{pen}"`},
		{"{restart: quai}", "quai", `broker "quai" is not defined|did you mean "quay"?`},
		{"{expect: {clause: b}}", "b}", `clause "b" is not defined`},
		{"{expect: {clause: a, parameters: {net: 1}}}", "net: 1", "the topic of a has no {net}"},
		{"{expect: {clause: a, session: p, state: off}}", "{expect", "what is expected is one thing; here are 2"},
		{"{expect: {session: p}}", "{expect", "the session's state is missing"},
		{"{expect: {session: p, state: gone}}", "gone", `state "gone" is not defined`},
		{"{expect: {device: p}}", "{expect", "what is expected of p is missing"},
		{"{expect: {device: p, where: y > 1}}", "y > 1", "y|known here: x"},
		{"{expect: {clause: a, where: later.payload}}", "later", "later"},
		{"{expect: {clause: a, not-before: 9s}}", "{expect", "nothing can come between"},
		{"{expect: {breach: shema}}", "shema", `rule "shema" is not defined|schema`},
		{"{expect: {where: payload}}", "{expect", "what is expected is one thing; here are 0"},
		{"{expect: {in-order: [{clause: a}, {where: payload}]}}", "{where", "a message in order has a clause"},
		{"{never: {for: 2s}}", "{never", "what must not come is missing"},
		{"{send: {payload: x}}", "{send", "what is sent has no clause"},
		{"{send: {clause: a, payload: x}}", "{send", "the topic of a has {pen}|add parameters: {pen: …}"},
		{"{send: {clause: set}}", "{send", "clause set has no example to be sent"},
		{"{slow: {device: p}}", "{slow", "a slow link has a delay or a rate"},
	} {
		text := sound + "trials:\n- name: one\n  steps:\n  - " + tt.steps + "\n- {name: two, steps: [{wait: 1s}]}\n"
		w := read("trials:\n- name: one\n  steps:\n  - " + tt.steps + "\n- {name: two, steps: [{wait: 1s}]}\n")
		if len(w.Problems) != 1 || len(w.Trials) != 1 || w.Trials[0].Name != "two" {
			t.Errorf("%s: %d trials, %v", tt.steps, len(w.Trials), w.Problems)
			continue
		}
		p := w.Problems[0]
		if at := strings.Split(text, "\n")[p.Line-1][p.Column-1:]; !strings.HasPrefix(at, tt.place) {
			t.Errorf("%s: it points at %q", tt.steps, at)
		}
		for _, want := range strings.Split(tt.want, "|") {
			if !strings.Contains(p.Error(), want) {
				t.Errorf("%s: %q is not in %s", tt.steps, want, p.Error())
			}
		}
	}
	for text, want := range map[string]string{
		"trials:\n- {steps: [{wait: 1s}]}\n": `lacks "name"`,
		"trials:\n- {name: x, each: {k: [" + strings.Repeat("1, ", 40) + "1], v: [" + strings.Repeat("2, ", 40) + "2]}, steps: [{wait: 1s}]}\n": "these would be 1681",
		"trials:\n- {name: x}\n":                                                        `lacks "steps"`,
		"trials:\n- {name: x, each: {k: []}, steps: [{wait: 1s}]}\n":                    "has no values to run through",
		"trials:\n- {name: x, steps: [{wait: 1s}]}\n- {name: x, steps: [{wait: 1s}]}\n": "two trials are called",
	} {
		if w := read(text); len(w.Problems) != 1 || !strings.Contains(w.Problems[0].Error(), want) {
			t.Errorf("%s: %v", text, w.Problems)
		}
	}
}
