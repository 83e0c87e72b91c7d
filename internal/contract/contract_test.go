package contract_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

func pattern(t *testing.T, s string) contract.Pattern {
	t.Helper()
	p, err := contract.ParsePattern(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func farm(t *testing.T) *contract.Contract {
	t.Helper()
	var doc any
	d := json.NewDecoder(strings.NewReader(`{"type": "object", "required": ["mgl", "at"], "properties": {
		"mgl": {"type": "number", "minimum": 0, "maximum": 20, "unit": "mg/l", "description": "oxygen"},
		"at": {"type": "string", "format": "date-time"}, "mode": {"$ref": "modes.json#/$defs/mode"},
		"deep": {"type": "object", "properties": {"a/b": {"type": "integer"}}}}}`))
	d.UseNumber()
	if err := d.Decode(&doc); err != nil {
		t.Fatal(err)
	}
	schema, err := contract.CompileSchema(
		fstest.MapFS{
			"modes.json": {Data: []byte(`{"$defs": {"mode": {"enum": [0, 3], "values": {"3": "in maintenance"}}}}`)},
		},
		"oxygen",
		doc,
		nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	one, lo, hi, no := packet.QoS(1), 0.0, 100.0, false
	return &contract.Contract{
		Parameters: map[string]contract.Parameter{"pen": {Name: "pen", Values: []string{"1", "2"}}},
		Clauses: []*contract.Clause{
			{
				Name:    "oxygen",
				Topic:   pattern(t, "v/pen/{pen}/oxygen"),
				Every:   contract.Cadence{Period: 10 * time.Second, Tolerance: 2 * time.Second},
				Payload: contract.Payload{Format: payload.JSON, Schema: schema},
			},
			{
				Name:    "set",
				From:    "shore",
				Topic:   pattern(t, "v/pen/{pen}/set"),
				QoS:     &one,
				Retain:  &no,
				Answer:  &contract.Answer{Clause: "state", Within: 2 * time.Second},
				Payload: contract.Payload{Format: payload.Number, Minimum: &lo, Maximum: &hi, Unit: "%"},
			},
			{Name: "state", Topic: pattern(t, "v/pen/{pen}/state"), Payload: contract.Payload{Format: payload.Text,
				Values: []contract.Value{{Text: "on", Meaning: "runs"}, {Text: "off", Meaning: "stands"}}}},
			{Name: "frame", Topic: pattern(t, "v/frame"), Payload: contract.Payload{Format: payload.Binary}},
		},
	}
}

func TestMessagesAreJudged(t *testing.T) {
	start := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	for _, tt := range []struct {
		topic, payload string
		m              contract.Message
		want           string // rule, keyword, place and what was seen
	}{
		{"v/pen/1/oxygen", `{"mgl": 8.5, "at": "2026-05-01T06:00:00Z", "mode": 3}`, contract.Message{}, ""},
		{"v/pen/1/oxygen", `{"mgl": -0.4, "at": "2026-05-01T06:00:00Z"}`, contract.Message{},
			"schema minimum /mgl: expected minimum 0, saw -0.4"},
		{"v/pen/1/oxygen", `{"mgl": 21, "at": "noon"}`, contract.Message{},
			`schema format /at: expected format "date-time", saw "noon"; schema maximum /mgl: expected maximum 20, saw 21`},
		{"v/pen/1/oxygen", `{"mgl": 1}`, contract.Message{},
			`schema required: expected required ["mgl","at"], saw missing property 'at'`},
		{"v/pen/1/oxygen", `{"mgl": "8", "at": "2026-05-01T06:00:00Z"}`, contract.Message{},
			`schema type /mgl: expected type "number", saw "8"`},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "mode": 2}`, contract.Message{},
			`schema enum /mode: expected enum [0,3], saw 2`},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "deep": {"a/b": 1.5}}`, contract.Message{},
			`schema type /deep/a~1b: expected type "integer", saw 1.5`},
		{"v/pen/1/oxygen", `"{\"mgl\": 1}"`, contract.Message{},
			`schema type: expected type "object", saw "{\"mgl\": 1}": JSON that was encoded twice?`},
		{"v/pen/1/oxygen", `{"mgl": 1`, contract.Message{},
			"format byte 9: expected json, saw the text ends too early"},
		{"v/pen/1/oxygen", "{\"mgl\": 1}\x00\x00", contract.Message{},
			"format byte 10: expected json, saw 2 NUL bytes at the end; was the whole buffer sent instead of the text in it?"},
		{"v/pen/2/state", "on", contract.Message{}, ""},
		{"v/pen/2/state", "On", contract.Message{}, `values: expected one of "on", "off", saw "On"`},
		{"v/pen/2/state", "\xff", contract.Message{}, "format byte 0: expected text, saw the bytes are not UTF-8"},
		{"v/pen/2/set", "50", contract.Message{QoS: 1, Granted: 2}, ""},
		{"v/pen/2/set", "150", contract.Message{QoS: 1, Granted: 2}, "range: expected 0 … 100 %, saw 150"},
		{"v/pen/2/set", "half", contract.Message{QoS: 1, Granted: 2},
			`format byte 0: expected number, saw "half" is no decimal number`},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2}, "qos: expected QoS 1, saw QoS 0"},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 0}, ""}, // the grant hides it
		{"v/pen/2/set", "5", contract.Message{QoS: 1, Granted: 1, Retain: true, RetainKnown: true},
			"retain: expected retain false, saw retain true"},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2, Retain: true, Copy: true}, ""},
		{"v/frame", "\x00\xff", contract.Message{}, ""},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "mgl": 2}`, contract.Message{},
			`format byte 41: expected json, saw the name "mgl" stands twice in one object: which value counts is not defined (RFC 8259 §4)`},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "more": {"x": 1, "x": 1}}`, contract.Message{},
			`format byte 58: expected json, saw the name "x" stands twice in one object: which value counts is not defined (RFC 8259 §4)`},
		{"v/pen/1/oxygen", "", contract.Message{}, ""}, // it may clear what is stored
		{"v/pen/1/oxygen", "", contract.Message{Sender: "pen-1"},
			"format byte 0: expected json, saw the payload is empty"},
		{"v/pen/1/oxygen", "", contract.Message{Sender: "pen-1", Cleared: true}, ""},
		{"v/pen/1/oxygen", "", contract.Message{RetainKnown: true},
			"format byte 0: expected json, saw the payload is empty"},
		{"v/pen/2/set", "", contract.Message{QoS: 1, Granted: 1}, `format byte 0: expected number, saw "" is no decimal number`}, // it is never stored
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2, Sender: "desk", Sent: &contract.Envelope{QoS: 1}}, ""},         // the broker lowered it
		{"v/pen/2/set", "5", contract.Message{QoS: 1, Granted: 2, Retain: true, RetainKnown: true, Sender: "desk",
			Sent: &contract.Envelope{QoS: 1}}, ""},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2, Sender: "desk", Sent: &contract.Envelope{}},
			"qos: expected QoS 1, saw QoS 0"},
		{"v/pen/2/set", "5", contract.Message{QoS: 1, Granted: 1, Sender: "desk", Party: "shore"}, ""},
		{"v/pen/2/set", "5", contract.Message{QoS: 1, Granted: 1, Sender: "pen-2", Party: "pen"},
			"from: expected from party shore, saw from pen-2, which plays pen"},
		{"v/pen/3/oxygen", "x", contract.Message{}, `stray, near oxygen, but {pen} may not be "3"`},
		{"v/pen/1/oxigen", "x", contract.Message{}, "stray, near oxygen (v/pen/{pen}/oxygen)"},
		{"other", "x", contract.Message{}, "stray, near "},
	} {
		t.Run(tt.topic+" "+tt.payload, func(t *testing.T) {
			j := contract.NewJudge(farm(t), rule.All())
			tt.m.At, tt.m.Topic, tt.m.Payload = start, tt.topic, []byte(tt.payload)
			got := j.Message(tt.m)
			var parts []string
			for _, b := range got.Breaches {
				rule := strings.Join(strings.Fields(string(b.Rule)+" "+b.Keyword+" "+b.Where), " ")
				parts = append(parts, fmt.Sprintf("%s: expected %s, saw %s", rule, b.Expected, b.Seen))
			}
			text := strings.Join(parts, "; ")
			if got.Clause == nil {
				text = "stray, near " + got.Near
			}
			if text != tt.want {
				t.Errorf("got  %s\nwant %s", text, tt.want)
			}
		})
	}
}

// watched is a judge with the eyes of one observer.
type watched struct {
	t     *testing.T
	j     *contract.Judge
	start time.Time
}

func watch(t *testing.T, c *contract.Contract) *watched {
	w := &watched{t, contract.NewJudge(c, rule.All()), time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)}
	w.j.Sees("quay", w.start, nil)
	return w
}

func (w *watched) at(s float64) time.Time {
	return w.start.Add(time.Duration(s * float64(time.Second)))
}

func (w *watched) say(s float64, topic, text string, change ...func(*contract.Message)) {
	m := contract.Message{At: w.at(s), Topic: topic, Payload: []byte(text), QoS: 1, Granted: 2, Eye: "quay"}
	for _, f := range change {
		f(&m)
	}
	w.j.Message(m)
}

// found wants the breaches in all.
func (w *watched) found(want ...string) {
	w.t.Helper()
	var got []string
	all, _ := w.j.Breaches()
	for _, b := range all {
		got = append(got, b.Topic+": "+b.Seen)
	}
	if strings.Join(got, "; ") != strings.Join(want, "; ") {
		w.t.Errorf("%q, want %q", got, want)
	}
}

func (w *watched) states() map[string]contract.CellState {
	out := map[string]contract.CellState{}
	for _, c := range w.j.Cells() {
		out[c.Topic] = c.State
	}
	return out
}

const oxygen = `{"mgl": 8.5, "at": "2026-05-01T06:00:00Z"}`

func stored(m *contract.Message) { m.Copy, m.Retain = true, true }

func TestSilencesAndAnswers(t *testing.T) {
	w := watch(t, farm(t))
	tick := func(s float64, want ...string) {
		t.Helper()
		var got []string
		for _, b := range w.j.Seen("quay", w.at(s)) {
			got = append(got, b.Topic+": "+b.Seen)
		}
		if strings.Join(got, "; ") != strings.Join(want, "; ") {
			t.Errorf("at %v s: %q, want %q", s, got, want)
		}
	}
	w.say(5, "v/pen/1/oxygen", oxygen)
	tick(11.9)
	tick(12, "v/pen/2/oxygen: nothing since the observer began to see")
	tick(13) // told once
	w.say(14, "v/pen/2/oxygen", oxygen)
	tick(17, "v/pen/1/oxygen: nothing for 12s")
	w.say(20, "v/pen/1/set", "5")
	w.say(20.5, "v/pen/2/state", "on") // another pen's answer does not count
	w.say(21, "v/pen/2/set", "5")
	tick(22, "v/pen/1/set: no answer")
	w.say(22.9, "v/pen/2/state", "on")
	tick(25)
	want := map[string]contract.CellState{
		"v/pen/1/oxygen": contract.CellSilent,
		"v/pen/2/oxygen": contract.CellKept,
		"v/pen/1/set":    contract.CellBroken,
		"v/pen/2/set":    contract.CellKept,
		"v/pen/1/state":  contract.CellUnseen,
		"v/pen/2/state":  contract.CellKept,
		"v/frame":        contract.CellUnseen,
	}
	if states := w.states(); fmt.Sprint(states) != fmt.Sprint(want) {
		t.Errorf("cells %v\nwant  %v", states, want)
	}
	if _, total := w.j.Breaches(); total != 3 {
		t.Errorf("%d breaches in all", total)
	}
}

// TestLateIsLate: a message or an answer that comes late is a breach also when nobody looked between, and
// at the very moment it is not.
func TestLateIsLate(t *testing.T) {
	w := watch(t, farm(t))
	w.say(1, "v/pen/1/oxygen", oxygen)
	w.say(2, "v/pen/2/oxygen", oxygen)
	w.say(13, "v/pen/1/oxygen", oxygen) // 12 s later, as it may be
	w.found()
	w.say(20, "v/pen/2/oxygen", oxygen)
	w.found("v/pen/2/oxygen: nothing for 18s")
	w.say(21, "v/pen/1/set", "5")
	w.say(23.5, "v/pen/1/state", "on")
	w.found("v/pen/2/oxygen: nothing for 18s", "v/pen/1/set: no answer")
}

// TestABlindObserverAccusesNoOne: what is due is given up while nobody sees, and counted anew afterwards;
// without proof that somebody saw, nothing is missed.
func TestABlindObserverAccusesNoOne(t *testing.T) {
	w := watch(t, farm(t))
	w.say(1, "v/pen/1/oxygen", oxygen)
	w.say(1, "v/pen/2/oxygen", oxygen)
	w.say(5, "v/pen/1/set", "5")
	if got := w.j.Waiting(w.at(30)); len(got) != 1 || got[0] != "quay" {
		t.Errorf("waiting for %v", got)
	}
	w.found() // thirty seconds, but nobody knows that the observer saw
	w.j.Blind("quay", w.at(6))
	w.j.Seen("quay", w.at(40)) // it cannot
	w.found()
	if s := w.j.Sights(w.at(40)); len(s) != 1 || s[0].Open || !s[0].Since.Equal(w.at(5)) ||
		s[0].Blind != 35*time.Second {
		t.Errorf("%+v", s)
	}
	w.j.Sees("quay", w.at(50), nil)
	w.say(55, "v/pen/1/oxygen", oxygen)
	w.found()
	w.j.Seen("quay", w.at(63))
	w.found("v/pen/2/oxygen: nothing since the observer began to see")
	if s := w.j.Sights(w.at(63)); !s[0].Open || s[0].Blind != 45*time.Second {
		t.Errorf("%+v", s)
	}

	// What nobody knows to be readable is not missed before it was heard.
	w = &watched{t, contract.NewJudge(farm(t), rule.All()), w.start}
	w.j.Sees("quay", w.start, func(topic string) bool { return !strings.HasPrefix(topic, "v/pen/2") })
	w.j.Seen("quay", w.at(20))
	w.found("v/pen/1/oxygen: nothing since the observer began to see")
	w.say(21, "v/pen/2/oxygen", oxygen)
	w.j.Seen("quay", w.at(40))
	w.found("v/pen/1/oxygen: nothing since the observer began to see", "v/pen/2/oxygen: nothing for 19s")

	// What was heard nowhere yet is missed only when all observers have seen that it did not come.
	w = watch(t, farm(t))
	w.j.Expect("barge", w.start)
	w.say(1, "v/pen/1/oxygen", oxygen)
	w.j.Seen("quay", w.at(12.5))
	w.found()
	w.j.Sees("barge", w.at(13), nil)
	w.j.Seen("quay", w.at(20))
	w.found("v/pen/1/oxygen: nothing for 19s")
	w.j.Seen("quay", w.at(26))
	w.found("v/pen/1/oxygen: nothing for 19s")
	w.j.Seen("barge", w.at(26))
	w.found("v/pen/1/oxygen: nothing for 19s", "v/pen/2/oxygen: nothing since the observer began to see")
}

// TestAStoredCopySaysNothingOfNow: it ends no silence, mends no breach, stops no deadline and answers nothing.
func TestAStoredCopySaysNothingOfNow(t *testing.T) {
	w := watch(t, farm(t))
	w.say(1, "v/pen/1/oxygen", oxygen, stored)
	w.say(2, "v/pen/1/set", "5")
	w.say(3, "v/pen/1/state", "on", stored)
	w.j.Seen("quay", w.at(12))
	w.found(
		"v/pen/1/set: no answer",
		"v/pen/1/oxygen: nothing since the observer began to see",
		"v/pen/2/oxygen: nothing since the observer began to see",
	)
	w.say(13, "v/pen/1/oxygen", oxygen, stored)
	if s := w.states(); s["v/pen/1/oxygen"] != contract.CellSilent || s["v/pen/1/set"] != contract.CellBroken ||
		s["v/pen/1/state"] != contract.CellKept {
		t.Errorf("%v", s)
	}
}

// TestAnswersWithParametersOfTheirOwn: only those count that both have.
func TestAnswersWithParametersOfTheirOwn(t *testing.T) {
	c := farm(t)
	c.Clauses = append(
		c.Clauses,
		&contract.Clause{
			Name:    "order",
			Topic:   pattern(t, "v/order/{pen}/{silo}"),
			Answer:  &contract.Answer{Clause: "fed", Within: time.Second},
			Payload: contract.Payload{Format: payload.Text},
		},
		&contract.Clause{
			Name:    "fed",
			Topic:   pattern(t, "v/fed/{pen}/{lot}"),
			Payload: contract.Payload{Format: payload.Text},
		},
	)
	w := watch(t, c)
	w.say(1, "v/order/1/a", "x")
	w.say(1.1, "v/order/2/a", "x")
	w.say(1.5, "v/fed/2/9", "x")
	w.say(3, "v/order/1/b", "x")
	w.found("v/order/1/a: no answer")
}

// TestNearACoveredTopic: to ask what it was meant for is no mistake.
func TestNearACoveredTopic(t *testing.T) {
	c := farm(t)
	if got := c.Near("v/pen/1/set"); got != "set (v/pen/{pen}/set)" {
		t.Errorf("%q", got)
	}
	j := contract.NewJudge(c, rule.All())
	for i := range 1000 {
		j.Message(contract.Message{Topic: fmt.Sprint("stray/", i)})
	}
	if len(j.Strays()) != 500 || j.Unkept() != 500 {
		t.Errorf("%d kept, %d not", len(j.Strays()), j.Unkept())
	}
}

// TestRulesAreDocumented: each has a name of its own and says what breaks it.
func TestRulesAreDocumented(t *testing.T) {
	seen := map[contract.RuleName]bool{}
	for _, r := range rule.All() {
		if seen[r.Name] || len(r.Doc) < 20 || r.Start == nil {
			t.Errorf("%+v", r)
		}
		seen[r.Name] = true
	}
}

// BenchmarkSheet: 5,000 clauses looked up, and a snapshot of a sheet of 19,000 cells of which a tenth changed.
func BenchmarkSheet(b *testing.B) {
	c := &contract.Contract{Parameters: map[string]contract.Parameter{}}
	var pens []string
	for i := range 1900 {
		pens = append(pens, fmt.Sprint(i))
	}
	c.Parameters["pen"] = contract.Parameter{Name: "pen", Values: pens}
	for i := range 10 {
		p, _ := contract.ParsePattern(fmt.Sprintf("v/pen/{pen}/value%d", i))
		c.Clauses = append(
			c.Clauses,
			&contract.Clause{Name: fmt.Sprint("value", i), Topic: p, Payload: contract.Payload{Format: payload.Number}},
		)
	}
	j := contract.NewJudge(c, rule.All())
	for b.Loop() {
		b.StopTimer()
		for i := range 1900 {
			j.Message(contract.Message{Topic: fmt.Sprintf("v/pen/%d/value%d", i, i%10), Payload: []byte("5")})
		}
		b.StartTimer()
		if len(j.Cells()) != 19_000 {
			b.Fatal("cells are missing")
		}
	}
	// The baseline: a copy of all cells.
	cells := j.Cells()
	start, times := time.Now(), 0
	for ; times < 3 || time.Since(start) < 200*time.Millisecond; times++ {
		out := make([]contract.Cell, 0, len(cells))
		for _, c := range cells {
			out = append(out, *c)
		}
		if len(out) != len(cells) {
			b.Fatal("a copy is short")
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(b.N)/(float64(time.Since(start))/float64(times)), "×copy")
}

func TestFieldsAndPlacesInThePayload(t *testing.T) {
	c := farm(t)
	var got []string
	for _, f := range c.Clauses[0].Payload.Fields() {
		got = append(got, fmt.Sprintf("%s %s [%s] %s %v %v", f.Name, f.Type, f.Range, f.Unit, f.Required, f.Values))
	}
	want := []string{
		"mgl number [0 … 20] mg/l true map[]",
		"at string, date-time []  true map[]",
		"deep object []  false map[]",
		"deep/a/b integer []  false map[]",
		"mode  []  false map[0: 3:in maintenance]",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	text := []byte(`{"a": [1, {"b/c": "x"}], "d": null}`)
	for pointer, want := range map[string]string{"/a/1/b~1c": `"x"`, "/a": `[1, {"b/c": "x"}]`, "/d": "null",
		"": string(text), "/e": ""} {
		start, end, ok := payload.Of(payload.JSON).Locate(text, pointer)
		if ok != (want != "") || ok && string(text[start:end]) != want {
			t.Errorf("%s: %q %v", pointer, text[start:end], ok)
		}
	}
}

func TestOverlapsAreFound(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		want bool
	}{{"a/{pen}", "a/{pen}", true}, {"a/{pen}", "a/1", true}, {"a/{pen}", "a/9", false},
		{"a/{x}/b", "a/{pen}/{x}", true}, {"a/b", "a/b/c", false}} {
		c := farm(t)
		for _, pair := range [][2]string{{tt.a, tt.b}, {tt.b, tt.a}} {
			c := &contract.Contract{
				Parameters: c.Parameters,
				Clauses:    []*contract.Clause{{Name: "1", Topic: pattern(t, pair[0])}},
			}
			if other := c.Overlap(&contract.Clause{Name: "2", Topic: pattern(t, pair[1])}); (other != nil) != tt.want {
				t.Errorf("%s and %s overlap: %v", pair[0], pair[1], other != nil)
			}
		}
	}
	for _, bad := range []string{"", "a/+", "a/x{b}", "{a}/{a}", "a/#"} {
		if _, err := contract.ParsePattern(bad); err == nil {
			t.Errorf("%q is taken for a pattern", bad)
		}
	}
}

// FuzzDecode: no payload makes a decoder panic, and what it points at is inside.
func FuzzDecode(f *testing.F) {
	f.Add([]byte(`{"a": [1, 2.5e3, "x\u0000"]}`), "/a/1")
	f.Add([]byte("\x00\xff"), "")
	f.Fuzz(func(t *testing.T, b []byte, pointer string) {
		for _, format := range payload.Formats() {
			if _, err := payload.Decode(format, b); err != nil {
				if e := err.(*payload.Error); e.Offset < 0 || e.Offset > len(b) {
					t.Errorf("%s: %+v in %d bytes", format, e, len(b))
				}
			}
		}
		if start, end, ok := payload.Of(payload.JSON).Locate(b, pointer); ok &&
			(start < 0 || end > len(b) || start > end) {
			t.Errorf("%d:%d of %d", start, end, len(b))
		}
		payload.Show(b, 20)
	})
}
