package rule_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

// TestEachRuleFiresAndNearlyDoes: a case that breaks it, with what is told, and near misses that do not.
func TestEachRuleFiresAndNearlyDoes(t *testing.T) {
	lo, hi, yes, no, one := 0.0, 100.0, true, false, packet.QoS(1)
	schema, err := contract.CompileSchema(
		fstest.MapFS{},
		"x",
		map[string]any{"type": "object", "required": []any{"kg"}},
		nil,
	)
	if err != nil {
		t.Fatal(err)
	}
	of := func(p contract.Payload) contract.Clause { return contract.Clause{Payload: p} }
	say := func(text string) contract.Message { return contract.Message{Payload: []byte(text)} }
	sent := func(q packet.QoS, retain bool) *contract.Envelope { return &contract.Envelope{QoS: q, Retain: retain} }
	stamped := func(field string) contract.Clause {
		return contract.Clause{
			Payload: contract.Payload{Format: payload.JSON},
			Stamp:   &contract.Stamp{Field: field, Within: 10 * time.Second},
		}
	}
	for _, tt := range []struct {
		name   string
		clause contract.Clause
		m      contract.Message
		want   string // "rule: expected | seen", "" where it is kept
	}{
		{"as large as agreed", of(contract.Payload{MaxSize: 3}), say("abc"), ""},
		{"larger", of(contract.Payload{MaxSize: 3}), say("abcd"), "size: 3 bytes at most | 4 bytes"},
		{"of no agreed size", of(contract.Payload{}), say(strings.Repeat("x", 1e6)), ""},
		{"of its format", of(contract.Payload{Format: payload.JSON}), say(`{"a": 1}`), ""},
		{"of another format", of(contract.Payload{Format: payload.JSON}), say(`{"a": }`),
			"format: json | invalid character '}' looking for beginning of value"},
		{"by its schema", of(contract.Payload{Format: payload.JSON, Schema: schema}), say(`{"kg": 1}`), ""},
		{"against its schema", of(contract.Payload{Format: payload.JSON, Schema: schema}), say(`{"g": 1}`),
			`schema: required ["kg"] | missing property 'kg'`},
		{"against its schema in CBOR", of(contract.Payload{Format: payload.CBOR, Schema: schema}),
			say("\xa1\x61g\x01"), `schema: required ["kg"] | missing property 'kg'`},
		{"JSON in place of CBOR", of(contract.Payload{Format: payload.CBOR, Schema: schema}), say(`{"kg": 1}`),
			"format: cbor | "},
		{"listed", of(contract.Payload{Format: payload.Text, Values: []contract.Value{{Text: "on"}, {Text: "off"}}}),
			say("off"), ""},
		{"not listed", of(contract.Payload{Format: payload.Text,
			Values: []contract.Value{{Text: "on"}, {Text: "off"}}}), say("offf"),
			`values: one of "on", "off" | "offf"`},
		{"with other letters", of(contract.Payload{Format: payload.Text, Values: []contract.Value{{Text: "on"}}}),
			say("On"), `values: one of "on" | "On"`},
		{"by its first character", of(contract.Payload{Format: payload.Text, FirstCharacter: true,
			Values: []contract.Value{{Text: "å"}}}), say("åpen"), ""},
		{"by another", of(contract.Payload{Format: payload.Text, FirstCharacter: true,
			Values: []contract.Value{{Text: "1"}}}), say("01"), `values: a first character of "1" | "01"`},
		{"by none", of(contract.Payload{Format: payload.Text, FirstCharacter: true,
			Values: []contract.Value{{Text: "1"}}, Pattern: regexp.MustCompile("^(?:.*)$")}), say(" "),
			`values: a first character of "1" | " "`},
		{"by its pattern", of(contract.Payload{Format: payload.Text, Pattern: regexp.MustCompile("^(?:MV-[0-9]+)$")}),
			say("MV-1"), ""},
		{"against its pattern", of(contract.Payload{Format: payload.Text,
			Pattern: regexp.MustCompile("^(?:MV-[0-9]+)$")}), say("MV-"), `values: what matches MV-[0-9]+ | "MV-"`},
		{"the smallest", of(contract.Payload{Format: payload.Number, Minimum: &lo, Maximum: &hi}), say("0"), ""},
		{"the largest", of(contract.Payload{Format: payload.Number, Minimum: &lo, Maximum: &hi}), say("100"), ""},
		{"smaller", of(contract.Payload{Format: payload.Number, Minimum: &lo, Maximum: &hi, Unit: "%"}), say("-0.1"),
			"range: 0 … 100 % | -0.1"},
		{"larger than the largest", of(contract.Payload{Format: payload.Number, Maximum: &hi}), say("100.5"),
			"range: ≤ 100 | 100.5"},
		{"larger, with a suffix", of(contract.Payload{Format: payload.Number, Codec: payload.NumberText{Suffix: " %"},
			Maximum: &hi}), say("101 %"), "range: ≤ 100 | 101"},
		{"without its suffix", of(contract.Payload{Format: payload.Number, Codec: payload.NumberText{Suffix: " %"}}),
			say("5"), `format: number with " %" behind it | "5" lacks the " %" behind the number`},
		{"at its QoS", contract.Clause{QoS: &one}, contract.Message{QoS: 1, Granted: 2}, ""},
		{"at another QoS", contract.Clause{QoS: &one}, contract.Message{QoS: 2, Granted: 2}, "qos: QoS 1 | QoS 2"},
		{"at less", contract.Clause{QoS: &one}, contract.Message{QoS: 0, Granted: 1}, "qos: QoS 1 | QoS 0"},
		{"at less, for so it was granted", contract.Clause{QoS: &one}, contract.Message{QoS: 0, Granted: 0}, ""},
		{"at more than agreed and granted", contract.Clause{QoS: &one}, contract.Message{QoS: 2, Granted: 0},
			"qos: QoS 1 | QoS 2"},
		{"a stored copy at another QoS", contract.Clause{QoS: &one}, contract.Message{QoS: 2, Granted: 2, Copy: true},
			""},
		{"changed on the way", contract.Clause{QoS: &one}, contract.Message{QoS: 2, Granted: 2, Sent: sent(1, false)},
			""},
		{"sent at another", contract.Clause{QoS: &one}, contract.Message{QoS: 2, Granted: 2, Sent: sent(2, false)},
			"qos: QoS 1 | QoS 2"},
		{"retained", contract.Clause{Retain: &yes}, contract.Message{Retain: true, RetainKnown: true}, ""},
		{"not retained", contract.Clause{Retain: &yes}, contract.Message{RetainKnown: true},
			"retain: retain true | retain false"},
		{"retained, though not agreed", contract.Clause{Retain: &no},
			contract.Message{Retain: true, RetainKnown: true}, "retain: retain false | retain true"},
		{"of which it is not known", contract.Clause{Retain: &no}, contract.Message{Retain: true}, ""},
		{"retained, but not as sent", contract.Clause{Retain: &no},
			contract.Message{Retain: true, RetainKnown: true, Sent: sent(0, false)}, ""},
		{"a stored copy", contract.Clause{Retain: &no}, contract.Message{Retain: true, RetainKnown: true, Copy: true},
			""},
		{"from its party", contract.Clause{From: "pen"}, contract.Message{Party: "pen", Sender: "pen-1"}, ""},
		{"from another", contract.Clause{From: "pen"}, contract.Message{Party: "shore", Sender: "desk"},
			"from: from party pen | from desk, which plays shore"},
		{"from nobody known", contract.Clause{From: "pen"}, contract.Message{Sender: "x"}, ""},
		{"a copy from another", contract.Clause{From: "pen"}, contract.Message{Party: "shore", Copy: true}, ""},
		{"from anybody", contract.Clause{}, contract.Message{Party: "shore"}, ""},
		{"told in time", stamped("/at"), say(`{"at": "2026-11-27T11:59:49Z"}`), ""},
		{"told in another zone", stamped("/at"), say(`{"at": "2026-11-27T13:00:05+01:00"}`), ""},
		{"told too early", stamped("/at"), say(`{"at": "1970-01-01T00:00:00Z"}`),
			"stamped: the time when it was published, to 10s | 1970-01-01T00:00:00Z, which is 20784 days before it came, by this machine's clock"},
		{"told too late", stamped(""), contract.Message{Payload: []byte(`1795780813`)},
			"stamped: the time when it was published, to 10s | 2026-11-27T12:00:13Z, which is 13s after it came, by this machine's clock"},
		{"told in seconds", stamped(""), contract.Message{Payload: []byte(`1795780811.5`)}, ""},
		{"told by nothing", stamped("/at"), say(`{"to": 1}`), ""},
		{"told by a stored copy", stamped("/at"), contract.Message{Payload: []byte(`{"at": "1970-01-01T00:00:00Z"}`), Copy: true}, ""},
	} {
		cl := tt.clause
		if cl.Name, cl.Topic, err = "c", pattern(t, "v/c"), nil; cl.Payload.Format == "" {
			cl.Payload.Format = payload.Binary
		}
		if tt.m.Payload == nil {
			tt.m.Payload = []byte("x") // an empty one clears what is stored
		}
		j := contract.NewJudge(&contract.Contract{Clauses: []*contract.Clause{&cl}}, rule.All())
		tt.m.Topic, tt.m.At = "v/c", noon
		var got []string
		for _, b := range j.Message(tt.m).Breaches {
			got = append(got, string(b.Rule)+": "+b.Expected+" | "+b.Seen)
		}
		if told := strings.Join(got, "; "); told != tt.want &&
			!(strings.HasSuffix(tt.want, "| ") && strings.HasPrefix(told, tt.want)) {
			t.Errorf("%s: %q, want %q", tt.name, told, tt.want)
		}
	}
	for _, r := range rule.All() {
		if r.Name == "" || r.Doc == "" || r.Start == nil {
			t.Errorf("%+v", r)
		}
	}
}

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func pattern(t *testing.T, s string) contract.Pattern {
	t.Helper()
	p, err := contract.ParsePattern(s)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestAnswersAndSilences in time, late, and not at all; by the parameters that both have.
func TestAnswersAndSilences(t *testing.T) {
	type said struct {
		at          float64
		topic, text string
	}
	for name, tt := range map[string]struct {
		said []said
		end  float64
		want string
	}{
		"an answer in time": {[]said{{0, "v/1/set", "1"}, {1.9, "v/1/state", "1"}}, 9, ""},
		"just in time":      {[]said{{0, "v/1/set", "1"}, {2, "v/1/state", "1"}}, 9, ""},
		"late": {[]said{{0, "v/1/set", "1"}, {2.001, "v/1/state", "1"}}, 9,
			"set 1: answer, no answer"},
		"of another": {[]said{{0, "v/1/set", "1"}, {1, "v/2/state", "1"}}, 9,
			"set 1: answer, no answer"},
		"one for two": {[]said{{0, "v/1/set", "1"}, {0.5, "v/1/set", "2"}, {1, "v/1/state", "1"}},
			9, "set 1: answer, no answer"},
		"two for two": {[]said{{0, "v/1/set", "1"}, {0.5, "v/1/set", "2"}, {1, "v/1/state", "1"},
			{1.5, "v/1/state", "2"}}, 9, ""},
		"nobody looked until": {[]said{{0, "v/1/set", "1"}}, 1.9, ""},
		"the last in time": {[]said{{0, "v/1/beat", "1"}, {5, "v/1/beat", "1"}, {11, "v/1/beat", "1"}},
			16.9, ""},
		"one too late": {[]said{{0, "v/1/beat", "1"}, {6.54, "v/1/beat", "1"}}, 12,
			"beat 1: every, nothing for 6.5s"},
		"silence at the end, told once": {[]said{{0, "v/1/beat", "1"}}, 60, "beat 1: every, nothing for 1m0s"},
		"haste": {[]said{{0, "v/1/beat", "1"}, {0.1, "v/1/beat", "1"},
			{0.2, "v/1/beat", "1"}}, 6, ""},
	} {
		set := &contract.Clause{
			Name:    "set",
			Topic:   pattern(t, "v/{n}/set"),
			Payload: contract.Payload{Format: payload.Text},
			Answer:  &contract.Answer{Clause: "state", Within: 2 * time.Second},
		}
		state := &contract.Clause{
			Name:    "state",
			Topic:   pattern(t, "v/{n}/state"),
			Payload: contract.Payload{Format: payload.Text},
		}
		beat := &contract.Clause{
			Name:    "beat",
			Topic:   pattern(t, "v/{n}/beat"),
			Payload: contract.Payload{Format: payload.Text},
			Every:   contract.Cadence{Period: 5 * time.Second, Tolerance: time.Second},
		}
		j := contract.NewJudge(
			&contract.Contract{
				Clauses:    []*contract.Clause{set, state, beat},
				Parameters: map[string]contract.Parameter{"n": {Name: "n"}},
			},
			rule.All(),
		)
		j.Sees("e", noon, func(string) bool { return true })
		at := func(s float64) time.Time { return noon.Add(time.Duration(s * float64(time.Second))) }
		for _, s := range tt.said {
			j.Message(contract.Message{At: at(s.at), Topic: s.topic, Payload: []byte(s.text), Eye: "e"})
		}
		for range 2 {
			j.Seen("e", at(tt.end))
		}
		var got []string
		all, _ := j.Breaches()
		for _, b := range all {
			got = append(got, b.Clause+" "+b.Instance+": "+string(b.Rule)+", "+b.Seen)
		}
		if told := strings.Join(got, "; "); told != tt.want {
			t.Errorf("%s: %q, want %q", name, told, tt.want)
		}
	}
}

// TestHaste: more than agreed is told where no delay on the way explains it; the same number brought closer together is
// not.
func TestHaste(t *testing.T) {
	every := func(n int, gap time.Duration) (out []time.Duration) {
		for i := range n {
			out = append(out, time.Duration(i)*gap)
		}
		return out
	}
	held := func(n int, gap, hold time.Duration) (out []time.Duration) { // each hold's worth comes at its end
		for _, at := range every(n, gap) {
			out = append(out, (at+hold)/hold*hold)
		}
		return out
	}
	for name, tt := range map[string]struct {
		rate string
		at   []time.Duration
		want int
	}{
		"as agreed":                    {"10/s", every(1000, 100*time.Millisecond), 0},
		"as agreed, in bunches of 2 s": {"10/s", held(1000, 100*time.Millisecond, 2*time.Second), 0},
		"three times as many":          {"10/s", every(41, 33*time.Millisecond), 1},
		"a tenth more, over a minute":  {"10/s", every(660, 90*time.Millisecond), 1},
		"one a minute":                 {"1/min", every(20, time.Minute), 0},
		"one a minute, late and in time": {"1/min",
			[]time.Duration{2 * time.Second, time.Minute, 2*time.Minute + 2*time.Second, 3 * time.Minute}, 0},
		"one too soon":               {"1/min", []time.Duration{0, 57040 * time.Millisecond}, 1},
		"told once, and again":       {"1/min", every(8, time.Second), 4},
		"a burst of what is allowed": {"100/h", every(100, time.Millisecond), 0},
		"a burst of one more":        {"100/h", every(101, time.Millisecond), 1},
	} {
		rate, err := contract.ParseRate(tt.rate)
		if err != nil || rate.String() != tt.rate {
			t.Fatal(rate, err)
		}
		c := &contract.Clause{
			Name:    "c",
			Topic:   pattern(t, "v/c"),
			Payload: contract.Payload{Format: payload.Binary},
			Most:    rate,
		}
		j := contract.NewJudge(&contract.Contract{Clauses: []*contract.Clause{c}}, rule.All())
		j.Sees("e", noon, func(string) bool { return true })
		var got []contract.Breach
		for i, at := range tt.at {
			got = append(
				got,
				j.Message(
					contract.Message{
						At:      noon.Add(at),
						Seq:     uint64(i),
						Topic:   "v/c",
						Payload: []byte{byte(i)},
						Eye:     "e",
					},
				).Breaches...)
			j.Message(contract.Message{At: noon.Add(at), Topic: "v/c", Payload: []byte("copy"), Copy: true, Eye: "e"})
		}
		if len(got) != tt.want {
			t.Errorf("%s: %d breaches %+v, want %d", name, len(got), got, tt.want)
		}
		for _, b := range got {
			if b.Rule != contract.RuleHaste || b.Expected != tt.rate+" at most" || !strings.Contains(b.Seen, " in ") ||
				strings.Contains(b.Seen, ".04") {
				t.Errorf("%s: %+v", name, b)
			}
		}
	}
	// What came before the observer was blind is not counted.
	rate, _ := contract.ParseRate("1/min")
	c := &contract.Clause{
		Name:    "c",
		Topic:   pattern(t, "v/c"),
		Payload: contract.Payload{Format: payload.Binary},
		Most:    rate,
		Every:   contract.Cadence{Period: time.Hour},
	}
	j := contract.NewJudge(&contract.Contract{Clauses: []*contract.Clause{c}}, rule.All())
	for i := range 5 {
		at := noon.Add(time.Duration(i) * time.Second)
		j.Sees("e", at, func(string) bool { return true })
		if b := j.Message(contract.Message{At: at, Topic: "v/c", Eye: "e", Payload: []byte{1}}).Breaches; len(b) != 0 {
			t.Errorf("%+v", b)
		}
		j.Blind("e", at)
	}
	for _, text := range []string{"", "10", "0/s", "x/s", "10/d", "-1/s", "1.5/s", "9999999/s"} {
		if r, err := contract.ParseRate(text); err == nil {
			t.Errorf("%q is the rate %s", text, r)
		}
	}
}

// TestCommandsThatWait: so many are followed that nobody fills the memory; those that were answered make room.
func TestCommandsThatWait(t *testing.T) {
	const most = 10_000
	run := func(commands int, answered bool, more ...int) int {
		set := &contract.Clause{
			Name:    "set",
			Topic:   pattern(t, "v/set"),
			Payload: contract.Payload{Format: payload.Text},
			Answer:  &contract.Answer{Clause: "state", Within: time.Hour},
		}
		state := &contract.Clause{
			Name:    "state",
			Topic:   pattern(t, "v/state"),
			Payload: contract.Payload{Format: payload.Text},
		}
		j := contract.NewJudge(&contract.Contract{Clauses: []*contract.Clause{set, state}}, rule.All())
		j.Sees("e", noon, func(string) bool { return true })
		say := func(topic string) {
			j.Message(contract.Message{At: noon, Topic: topic, Payload: []byte("1"), Eye: "e"})
		}
		for range commands {
			if say("v/set"); answered {
				say("v/state")
			}
		}
		say("v/set")
		for range slices.Max(append(more, 0)) {
			say("v/set")
		}
		j.Seen("e", noon.Add(2*time.Hour))
		_, total := j.Breaches()
		return total
	}
	if n := run(most-1, false); n != most {
		t.Errorf("%d of %d are missed", n, most)
	}
	if n := run(most, false); n != most {
		t.Errorf("%d are missed; one too many is not followed", n)
	}
	if n := run(most, true); n != 1 {
		t.Errorf("%d are missed after all but the last were answered", n)
	}
	if n := run(10, true, most); n != most {
		t.Errorf("%d are missed: there is room for as many as before", n)
	}
}
