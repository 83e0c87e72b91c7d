package workbench_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
	"hodstone/internal/trial"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// trying opens the farm with trials, at work.
func trying(t *testing.T, trials string, faults ...string) *workbench.Bench {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(fmt.Sprintf(farm, "5") + trials)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 3, Faults: faults})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	b.Start()
	return b
}

// answers is a person who answers in a time, by what is asked.
func answers(ctx context.Context, q trial.Question) (trial.Answer, error) {
	switch {
	case strings.Contains(q.Text, "lamp 1"), strings.Contains(q.Text, "Shut"):
		time.Sleep(400 * time.Millisecond) // while that is done, a value comes
		return trial.Answer{Yes: true}, nil
	case strings.Contains(q.Text, "gone home"):
		return trial.Answer{Left: "it is dark"}, nil
	}
	return trial.Answer{}, nil
}

// TestTrials: each kind of step and of expectation, as it is kept and as it is not; what is not kept says in which
// step, and what came.
func TestTrials(t *testing.T) {
	const go1 = "send: {clause: set, parameters: {pen: 1}, payload: go}"
	for _, tt := range []struct {
		steps   string // separated by |
		verdict proof.Verdict
		seen    string // of a failure, or what a step tells
	}{
		{"set: {device: pen-1, high: 7}|expect: {clause: level, parameters: {pen: 1}, where: payload == 7, qos: 1, retain: true, within: 2s}", proof.Kept, "came after"},
		{"set: {device: pen-1, high: 7}|expect: {clause: level, parameters: {pen: 1}, where: payload == 8, within: 700ms}", proof.Broken,
			` messages came, the last as "7"`},
		{"set: {device: pen-1, high: 7}|expect: {clause: level, parameters: {pen: 1}, where: payload == 7, retain: false}", proof.Broken,
			"step 2: a newcomer is greeted by it"},
		{go1 + "|expect: {clause: done, parameters: {pen: 1}, retain: true}", proof.Broken, "step 2: it came, and a newcomer is not greeted by it"},
		{go1 + "|expect: {clause: done, parameters: {pen: 1}, retain: false, qos: 1, keep: d}|expect: {device: pen-1, where: d.payload == 'yes' && d.after < 2 && d.params.pen == '1'}", proof.Kept, "so after"},
		{go1 + "|expect: {clause: done, parameters: {pen: 1}, qos: 0}", proof.Broken, "step 2: it came at QoS 1"},
		{go1 + "|expect: {clause: done, parameters: {pen: 1}, not-before: 1s}", proof.Broken, "step 2: it came after "},
		{go1 + "|expect: {clause: done, parameters: {pen: 2}, within: 500ms}", proof.Broken, "step 2: nothing came on v/2/done"},
		{go1 + "|expect: {clause: done, parameters: {pen: 1}}|set: {device: pen-2, high: 6}|expect: {clause: done, parameters: {pen: 1}, within: 300ms}", proof.Broken, "step 4: nothing came on v/1/done; what is expected had come "},
		{go1 + "|expect: {in-order: [{clause: set}, {clause: done}]}", proof.Kept, "by a client of Hodstone's own"},
		{go1 + "|expect: {in-order: [{clause: done}, {clause: set}], within: 600ms}", proof.Broken, "step 2: set did not come after the one before: "},
		{"send: {clause: set, parameters: {pen: 2}, payload: stay, as: pen-1, qos: 0}|never: {clause: done, parameters: {pen: 2}, for: 300ms}", proof.Kept, "by pen-1"},
		{go1 + "|never: {clause: done, for: 1s}", proof.Broken, `step 2: it came after `},
		{"set: {device: pen-2, high: 12}|expect: {breach: range, clause: level, parameters: {pen: 2}}|never: {breach: any, clause: done, for: 200ms}", proof.Kept, "breaks level, range: expected 0 … 9, saw 12"},
		{"set: {device: pen-2, high: 12}|never: {breach: any, clause: level, for: 2s}", proof.Broken, "step 2: v/2/level breaks level, range"},
		{"wait: 10ms|expect: {breach: retain, within: 300ms}", proof.Broken, "step 2: no such breach came"},
		{"stop: pen-1|expect: {session: pen-1, state: off}|start: pen-1|expect: {session: pen-1, state: connected}", proof.Kept, "off after"},
		{"stop: pen-1|expect: {session: pen-1, state: connected, within: 300ms}", proof.Broken, "step 2: pen-1 is off"},
		{"cut: pen-1|expect: {session: pen-1, state: lost}|expect: {session: pen-1, state: connected}", proof.Kept, "away after"},
		{"freeze: pen-1|expect: {clause: level, parameters: {pen: 1}, where: payload == 5, not-before: 100ms, within: 900ms}", proof.Broken, "step 2: pen-1 has it on a link that holds it back"},
		{"freeze: pen-1|wait: 400ms|thaw: pen-1|expect: {clause: level, parameters: {pen: 1}}", proof.Kept, "came after"},
		{"slow: {device: pen-1, delay: 300ms}|wait: 100ms|" + go1 + "|expect: {clause: done, parameters: {pen: 1}, not-before: 500ms}", proof.Kept, "came after"},
		{"slow: {device: pen-1, delay: 300ms}|wait: 100ms|" + go1 + "|never: {clause: done, parameters: {pen: 2}, for: 1500ms}|" +
			"expect: {clause: done, parameters: {pen: 1}, within: 200ms}", proof.Broken, "step 5: it came after "},
		{"ask: Does lamp 1 burn?|expect: {clause: level, parameters: {pen: 1}, not-before: 50ms, within: 3s}", proof.Undecided,
			"step 2: it came while the question stood"},
		{"expect: {device: pen-1, where: high > 9, within: 200ms}", proof.Broken, "step 1: it has high 5"},
		{"expect: {device: pen-1, where: high.x > 9, within: 200ms}", proof.Undecided, "step 1: expression"},
		{"ask: Does lamp 1 burn?|expect: {clause: level, parameters: {pen: 1}, within: 100ms}", proof.Kept, "it came before that was over"},
		{"ask: Does lamp 2 burn?|wait: 1s", proof.Broken, "step 1: answered no, after"},
		{"ask: Is everybody gone home?", proof.Undecided, "step 1: left out, because it is dark"},
		{"restart: quay|expect: {session: pen-1, state: connected, within: 20s}|expect: {clause: level, parameters: {pen: 1}, within: 20s}", proof.Kept, "it is back"},
	} {
		t.Run(tt.steps, func(t *testing.T) {
			t.Parallel()
			text := "trials:\n- name: one\n  steps:\n"
			n := 0
			for s := range strings.SplitSeq(tt.steps, "|") {
				text += "  - {" + s + "}\n"
				n++
			}
			b := trying(t, text)
			p := b.Try(context.Background(), []string{"one"}, answers, nil)
			if len(p.Results) != 1 {
				t.Fatalf("%d results", len(p.Results))
			}
			r := &p.Results[0]
			told := r.Seen
			for _, s := range r.Steps {
				told += "\n" + s.Text
			}
			if r.Verdict != tt.verdict || !strings.Contains(told, tt.seen) ||
				tt.verdict == proof.Kept && len(r.Steps) != n {
				t.Errorf("%s, want %s with %q:\n%s", r.Verdict, tt.verdict, tt.seen, told)
			}
			for _, d := range b.Devices() { // the site is as it was
				for _, s := range d.Signals {
					if d.Phase == "off" || d.Phase == "frozen" || d.Slowed != "" || s.Held {
						t.Errorf("%s is %s, %q, and %s is held: %v", d.Name, d.Phase, d.Slowed, s.Name, s.Held)
					}
				}
			}
		})
	}
}

// TestTrialsOnTheBench: rounds one after the other, step by step, asked and answered, stopped; and with nobody there to
// be asked.
func TestTrialsOnTheBench(t *testing.T) {
	b := trying(t, `trials:
- {name: "turn {pen}", each: {pen: [1, 2]}, steps: [{set: {device: "pen-{pen}", high: "= pen + 1"}}, {expect: {clause: level, parameters: {pen: "{pen}"}, where: payload == pen + 1}}]}
- {name: asks, steps: [{ask: Shut the hatch}, {wait: 1m}]}
`)
	if _, err := b.MatchTrials("nets*"); err == nil || !strings.Contains(err.Error(), `"asks"`) {
		t.Errorf("no such trial: %v", err)
	}
	names, err := b.MatchTrials("turn*")
	if err != nil || strings.Join(names, ";") != "turn {pen}, pen 1;turn {pen}, pen 2" {
		t.Fatalf("%q %v", names, err)
	}
	state := func(fits func(workbench.TrialsState) bool) workbench.TrialsState {
		t.Helper()
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
			if s := b.Trials(); fits(s) {
				return s
			} else if time.Now().After(end) {
				t.Fatalf("it never is so: %+v", s)
			}
		}
	}
	if err := b.StartTrials(names, true); err != nil {
		t.Fatal(err)
	}
	if err := b.StartTrials(names, true); err == nil || !strings.Contains(err.Error(), "under way") {
		t.Errorf("twice at a time: %v", err)
	}
	s := state(func(s workbench.TrialsState) bool { return s.Held && s.Rounds[0].Running && s.Rounds[1].Waiting })
	if s.Rounds[0].Steps[0].State != trial.Waiting {
		t.Errorf("it went before it was let go: %+v", s.Rounds[0].Steps)
	}
	time.Sleep(100 * time.Millisecond) // what a person takes does not count
	b.NextStep(false)
	state(func(s workbench.TrialsState) bool { return s.Held && s.Rounds[0].Steps[0].State == trial.Done })
	b.NextStep(true)
	s = state(func(s workbench.TrialsState) bool { return !s.Running })
	for _, r := range s.Rounds[:2] {
		if r.Result == nil || r.Result.Verdict != proof.Kept || r.Waiting || r.Stale {
			t.Errorf("%s: %+v", r.Name, r.Result)
		}
	}
	b.StartTrials([]string{"asks"}, false)
	if s = state(func(s workbench.TrialsState) bool { return s.Question != nil }); s.Question.Text != "Shut the hatch" {
		t.Errorf("%+v", s.Question)
	}
	b.Answer(trial.Answer{Yes: true})
	state(func(s workbench.TrialsState) bool {
		return s.Question == nil && s.Rounds[2].Steps[1].State == trial.UnderWay
	})
	b.StopTrials()
	s = state(func(s workbench.TrialsState) bool { return !s.Running })
	if r := s.Rounds[2].Result; r.Verdict != proof.Undecided || !strings.Contains(r.Seen, "stopped in step 2") {
		t.Errorf("stopped: %s %s", r.Verdict, r.Seen)
	}
	p := b.Try(context.Background(), []string{"asks"}, nil, nil)
	if r := p.Results[0]; r.Verdict != proof.Undecided || !strings.Contains(r.Seen, "nobody is there to be asked") {
		t.Errorf("nobody there: %s %s", r.Verdict, r.Seen)
	}
}

// TestATrialIsRecorded: what is done by hand becomes a trial of the file, with what followed as expectations; it runs,
// and can be taken back.
func TestATrialIsRecorded(t *testing.T) {
	name := filepath.Join(t.TempDir(), "hodstone.yaml")
	text := fmt.Sprintf(farm, "5") + "# the end\n"
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Open(name)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	b.Start()
	b.Try(context.Background(), nil, nil, nil) // waits until all is at work
	b.Did(workspace.StepStop, "pen-1")         // not recorded
	if err := b.StartNoting(); err != nil {
		t.Fatal(err)
	}
	if err := b.StopNoting("nothing yet"); err == nil || !strings.Contains(err.Error(), "nothing was done yet") {
		t.Errorf("nothing: %v", err)
	}
	from := b.Log.Next()
	b.Did(
		workspace.StepSend,
		expression.Object{
			{Key: "clause", Value: "set"},
			{Key: "parameters", Value: expression.Object{{Key: "pen", Value: "2"}}},
			{Key: "payload", Value: "go"},
		},
	)
	if err := b.Send(
		context.Background(),
		"",
		workbench.Message{Topic: "v/2/set", Payload: []byte("go"), QoS: 1},
	); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		events, _ := b.Log.Read(from, 1000)
		if slices.ContainsFunc(
			events,
			func(e trace.Event) bool { return e.Role == trace.RoleObserver && e.Topic() == "v/2/done" },
		) {
			break
		} else if time.Now().
			After(end) {
			t.Fatal("no answer")
		}
	}
	b.Did(workspace.StepStop, "pen-1")
	b.Device("pen-1").Stop()
	time.Sleep(150 * time.Millisecond)
	b.Did(workspace.StepStart, "pen-1")
	b.Device("pen-1").Start()
	if on, steps := b.Noting(); !on || steps != 3 {
		t.Errorf("%v, %d steps", on, steps)
	}
	if err := b.StopNoting("Pen 2: goes, and answers"); err != nil {
		t.Fatal(err)
	}
	got, _ := os.ReadFile(name)
	for _, want := range []string{text + "\ntrials:\n", "  - name: \"Pen 2: goes, and answers\"\n    steps:\n", `- {send: {clause: set, parameters: {pen: "2"}, payload: go}}`,
		`- {expect: {clause: done, parameters: {pen: "2"}, where: "payload == \"yes\"", within: 1s}}`, "- {stop: pen-1}", "- {wait: ", "- {start: pen-1}"} {
		if !strings.Contains(string(got), want) {
			t.Errorf("%q is not in the file:\n%s", want, got[len(text):])
		}
	}
	names, err := b.MatchTrials("Pen 2*")
	if err != nil {
		t.Fatal(err)
	}
	if p := b.Try(context.Background(), names, nil, nil); !p.OK() || len(p.Results) != 1 {
		t.Errorf("it does not show what was recorded: %+v", p.Results)
	}
	// A second one stands behind the first; the same name does not do.
	b.StartNoting()
	b.Did(workspace.StepCut, "pen-2")
	if err := b.StopNoting("Pen 2: goes, and answers"); err == nil || !strings.Contains(err.Error(), "another name") {
		t.Errorf("the same name: %v", err)
	}
	if err := b.StopNoting(
		"cut",
	); err != nil || len(b.Workspace().Trials) != 2 ||
		b.Workspace().Trials[1].Name != "cut" {
		t.Errorf("%v, %d trials", err, len(b.Workspace().Trials))
	}
	for range 2 {
		if was, err := b.Undo(); !was || err != nil {
			t.Errorf("not taken back: %v %v", was, err)
		}
	}
	if got, _ = os.ReadFile(name); string(got) != text {
		t.Errorf("taken back, the file is\n%s", got)
	}
}
