package workbench

import (
	"context"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/workspace"
)

// TestAnObserverThatIsBehind: it is where all that comes comes late, and not where one publisher's way is long; what came
// is judged as of when it was sent, and time never goes back.
func TestAnObserverThatIsBehind(t *testing.T) {
	start := time.Unix(1000, 0)
	at := func(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }
	type came struct {
		sender    string
		ms, delay int
		want      int // judged as of
	}
	for name, all := range map[string][]came{
		"in time":           {{"a", 0, 2, 0}, {"b", 100, 5, 100}, {"", 200, 0, 200}},
		"one way is long":   {{"a", 0, 3, 0}, {"b", 100, 4000, 100}, {"", 5000, 0, 5000}},
		"only one is seen":  {{"a", 0, 4000, 0}, {"a", 100, 4000, 100}},
		"all are late":      {{"a", 0, 10, 0}, {"a", 3000, 1000, 3000}, {"b", 3100, 1050, 2000 + 1000}, {"", 4100, 0, 3050}, {"a", 4200, 10, 4200}},
		"it catches up":     {{"a", 0, 3000, 0}, {"b", 100, 3000, 0}, {"", 200, 0, 0}, {"", 3050, 0, 50}, {"", 3200, 0, 3200}},
		"later and later":   {{"a", 0, 600, 0}, {"b", 100, 700, 0}, {"a", 650, 3000, 0}, {"b", 2600, 3000, 0}, {"b", 5400, 3100, 2300}},
		"just below counts": {{"a", 0, 499, 0}, {"b", 10, 499, 10}},
	} {
		var b behind
		for i, x := range all {
			if x.sender != "" {
				b.came(arrival{x.sender, at(x.ms), time.Duration(x.delay) * time.Millisecond})
			}
			if got := b.when(at(x.ms)); !got.Equal(at(x.want)) {
				t.Errorf("%s, %d: judged as of %d ms, want %d", name, i, got.Sub(start).Milliseconds(), x.want)
			}
		}
	}
}

// TestWhatIsUnderWay: messages of more than one publisher that have not come show that the observer is behind, until they
// come, or one that was sent later does, or they have been lost.
func TestWhatIsUnderWay(t *testing.T) {
	start := time.Unix(1000, 0)
	at := func(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }
	for name, tt := range map[string]struct {
		sent []departure // a second letter of the name makes it one of QoS 1
		got  []int       // when what came was sent, at QoS 0; -1 for a tap that disturbs what a sent last
		now  int
		want int // judged as of
	}{
		"nothing":                 {nil, nil, 5000, 5000},
		"just sent":               {[]departure{{"a", at(0)}, {"b", at(10)}}, nil, 499, 499},
		"two are late":            {[]departure{{"a", at(0)}, {"b", at(10)}}, nil, 3000, 0},
		"of one only":             {[]departure{{"a", at(0)}, {"a", at(10)}}, nil, 3000, 3000},
		"the other is in time":    {[]departure{{"a", at(0)}, {"b", at(2600)}}, nil, 3000, 3000},
		"all came":                {[]departure{{"a", at(0)}, {"b", at(10)}}, []int{10}, 3000, 3000},
		"the first came":          {[]departure{{"a", at(0)}, {"b", at(10)}, {"a", at(20)}}, []int{0}, 3000, 10},
		"a later one came":        {[]departure{{"a", at(0)}, {"b", at(10)}, {"b", at(2000)}}, []int{2000}, 3000, 3000},
		"at another QoS":          {[]departure{{"a1", at(0)}, {"b1", at(10)}, {"b", at(2000)}}, []int{2000}, 3000, 0},
		"one at QoS 1, one at 0":  {[]departure{{"a1", at(10)}, {"b", at(0)}}, nil, 3000, 0},
		"the last is disturbed":   {[]departure{{"a", at(0)}, {"b", at(10)}, {"a1", at(20)}}, []int{-1}, 3000, 0},
		"all of one is disturbed": {[]departure{{"a1", at(0)}, {"b", at(10)}, {"a", at(20)}}, []int{-1, -1}, 3000, 3000},
		"no more to disturb":      {[]departure{{"b", at(0)}, {"c", at(10)}}, []int{-1}, 3000, 0},
		"they are lost":           {[]departure{{"a", at(0)}, {"b", at(10)}}, nil, 10_011, 10_011},
		"the younger is not lost": {[]departure{{"a", at(0)}, {"b", at(2000)}, {"a", at(3000)}}, nil, 10_011, 2000},
	} {
		var b behind
		for _, d := range tt.sent {
			b.sent(departure{d.sender[:1], d.at}, packet.QoS(len(d.sender)-1))
		}
		for _, ms := range tt.got {
			if ms < 0 {
				b.tapped("a")
				continue
			}
			b.got(at(ms), 0)
		}
		if got := b.when(at(tt.now)); !got.Equal(at(tt.want)) {
			t.Errorf("%s: judged as of %d ms, want %d", name, got.Sub(start).Milliseconds(), tt.want)
		}
		if late := b.late(at(tt.now)); late != time.Duration(tt.now-tt.want)*time.Millisecond {
			t.Errorf("%s: %s late", name, late)
		}
	}
}

// TestATrialWhoseObserverIsBehind: what came late, what did not come and what may have been on its way before decides
// nothing while an observer is behind, and does where it is not.
func TestATrialWhoseObserverIsBehind(t *testing.T) {
	const text = `hodstone: 1
name: test
brokers: {quay: {stand-in: {}}}
contract:
  parties: {pen: , shore: }
  clauses:
    level: {topic: v/level, from: pen, to: shore, qos: 1, payload: {format: number}}
    set: {topic: v/set, from: shore, to: pen, qos: 1, payload: {format: text}}
devices: {pen: {plays: pen, publishes: [{clause: level, every: 200ms, payload: 7}]}}
trials:
- {name: comes, steps: [{expect: {clause: level, within: 2s}}]}
- {name: absent, steps: [{wait: 10ms}, {expect: {clause: set, within: 200ms}}]}
- {name: not yet, steps: [{wait: 10ms}, {expect: {clause: level, not-before: 100ms, within: 2s}}]}
- {name: forbidden, steps: [{wait: 10ms}, {never: {clause: level, for: 1s}}]}
`
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := New(w, Options{Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	b.Start()
	late := func(by time.Duration) {
		b.obs.mu.Lock()
		defer b.obs.mu.Unlock()
		x := b.obs.eyes["quay"]
		for _, who := range []string{"one", "another"} { // as of the whole trial
			x.behind.came(arrival{who, time.Now().Add(time.Minute), by})
		}
	}
	if p := b.Try(context.Background(), []string{"comes"}, nil, nil); p.Results[0].Verdict != proof.Kept {
		t.Fatalf("%+v", p.Results)
	}
	hold := func(want string) {
		t.Helper()
		for i, r := range b.Try(context.Background(), []string{"absent", "forbidden", "not yet"}, nil, nil).Results {
			decided := r.Verdict == proof.Broken ||
				i == 2 && r.Verdict == proof.Kept // the next one comes after 100 ms, or before
			if decided != (want == "") || !strings.Contains(r.Seen, want) {
				t.Errorf("%s: %s: %s, want %q", r.Check.Name, r.Verdict, r.Seen, want)
			}
		}
	}
	hold("")
	late(3 * time.Second)
	hold("the observer at quay was behind by 3s at ")
	if p := b.Try(context.Background(), []string{"comes"}, nil, nil); p.Results[0].Verdict != proof.Kept {
		t.Errorf("what came has come: %+v", p.Results)
	}
}
