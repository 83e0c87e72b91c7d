package contract_test

import (
	"bytes"
	"errors"
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

// numbers is a contract of one clause, whose judge sees.
func numbers(t *testing.T, p contract.Payload) (*contract.Judge, func(topic, text string) contract.Judgement) {
	t.Helper()
	c := &contract.Contract{
		Parameters: map[string]contract.Parameter{"n": {Name: "n"}},
		Clauses:    []*contract.Clause{{Name: "a", Topic: pattern(t, "v/{n}/a"), Payload: p}},
	}
	j := contract.NewJudge(c, rule.All())
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	j.Sees("e", now, func(string) bool { return true })
	seq := uint64(0)
	return j, func(topic, text string) contract.Judgement {
		seq++
		now = now.Add(time.Second)
		return j.Message(contract.Message{At: now, Seq: seq, Topic: topic, Payload: []byte(text), Eye: "e"})
	}
}

// TestTheJudgeCounts: messages, breaches, strays, each once; what was judged before is judged the same again.
func TestTheJudgeCounts(t *testing.T) {
	most := 10.0
	j, say := numbers(t, contract.Payload{Format: payload.Number, Maximum: &most})
	for i := range 7 {
		want := 0
		text := "5"
		if i%2 == 1 {
			text, want = "11", 1
		}
		for range 2 { // the second is alike
			if got := say("v/1/a", text); len(got.Breaches) != want {
				t.Errorf("%s: %+v", text, got.Breaches)
			}
		}
	}
	say("v/1/a", "no number")
	say("v/1/a", "no number")
	for i := range 3 {
		say("v/1/b", fmt.Sprint(i))
	}
	cell := j.Cells()[0]
	if cell.Count != 16 || cell.Broken != 8 || cell.State != contract.CellBroken || cell.Value() != nil ||
		len(cell.History) != 14 {
		t.Errorf(
			"%d messages, %d breaches, %s, %v, %d in the history",
			cell.Count,
			cell.Broken,
			cell.State,
			cell.Value(),
			len(cell.History),
		)
	}
	say("v/1/a", "7")
	if cell = j.Cells()[0]; cell.Value() == nil || cell.State != contract.CellKept {
		t.Errorf("%v %s", cell.Value(), cell.State)
	}
	if s := j.Strays(); len(s) != 1 || s[0].Count != 3 || string(s[0].Last.Payload) != "2" {
		t.Errorf("%+v", s)
	}
}

// TestWhatTheJudgeKeeps: so many breaches, strays, values of a line and bytes, and no more.
func TestWhatTheJudgeKeeps(t *testing.T) {
	j, say := numbers(t, contract.Payload{Format: payload.Number})
	for i := range 2001 {
		say("v/1/a", fmt.Sprint("x", i))
	}
	found, total := j.Breaches()
	if total != 2001 || len(found) != 1000 || string(found[999].Payload) != "x2000" {
		t.Errorf("%d breaches of %d, the last %q", len(found), total, found[len(found)-1].Payload)
	}
	for i := range 130 {
		say("v/1/a", fmt.Sprint(i))
	}
	if h := j.Cells()[0].History; len(h) != 120 || fmt.Sprint(h[0].Value()) != "10" ||
		fmt.Sprint(h[119].Value()) != "129" {
		t.Errorf("%d values from %v to %v", len(h), h[0].Value(), h[len(h)-1].Value())
	}
	for i := range 510 {
		say(fmt.Sprintf("s/%d", i), "1")
	}
	if n := len(j.Strays()); n != 500 {
		t.Errorf("%d strays", n)
	}
}

// TestLongPayloadsAreKeptInPart: judged whole, kept to a bound, and judged anew when they come again.
func TestLongPayloadsAreKeptInPart(t *testing.T) {
	const kept = 16 << 10
	j, say := numbers(t, contract.Payload{Format: payload.JSON})
	whole := `"` + strings.Repeat("x", kept-2) + `"`
	long := `"` + strings.Repeat("x", kept-1) + `"`
	for text, want := range map[string]int{whole: kept, long: kept} {
		for range 2 {
			if got := say("v/1/a", text); len(got.Breaches) != 0 {
				t.Errorf("%d bytes: %+v", len(text), got.Breaches)
			}
		}
		cell := j.Cells()[0]
		if n := len(cell.Last.Payload); n != want || (cell.Value() != nil) != (len(text) == kept) {
			t.Errorf("%d of %d bytes are kept, decodable %v", n, len(text), cell.Value() != nil)
		}
	}
	bad := long[:len(long)-1]
	for range 2 {
		if got := say("v/1/a", bad); len(got.Breaches) != 1 || len(got.Breaches[0].Payload) != kept {
			t.Errorf("a long breach: %d", len(got.Breaches))
		}
	}
	// Of many cells, less is kept of each.
	for i := range 5000 {
		say(fmt.Sprintf("v/%d/a", i), whole)
	}
	total, little := 0, 0
	for _, c := range j.Cells() {
		if total += len(c.Last.Payload); len(c.Last.Payload) == 256 {
			little++
		}
	}
	if total > 65<<20+5000*256 || little < 800 || little > 1000 {
		t.Errorf("%d bytes are kept, of %d cells little", total, little)
	}
	history := 0
	for _, c := range j.Cells() {
		history += len(c.History)
	}
	if history < 4000 || history > 4200 {
		t.Errorf("%d values in the histories", history)
	}
	if !bytes.Equal(j.Cells()[0].Last.Payload, []byte(whole)) {
		t.Error("the first is not what it was")
	}
}

// TestHowNearIsNear: three letters away, and names of the same length or so.
func TestHowNearIsNear(t *testing.T) {
	c := &contract.Contract{Parameters: map[string]contract.Parameter{"n": {Name: "n"}}, Clauses: []*contract.Clause{
		{
			Name:  "far",
			Topic: pattern(t, "pens/oxygen"),
		}, {Name: "also", Topic: pattern(t, "pens/oxygem")},
		{Name: "long", Topic: pattern(t, strings.Repeat("l", 100)+"/{n}")},
	}}
	l := strings.Repeat("l", 100)
	// By how much the lengths may differ, parameters being longer or shorter than what stands for them.
	for _, tt := range []struct {
		parameter, level int
		near             bool
	}{{1, 66, true}, {1, 67, false}, {70, 7, true}, {70, 6, false}} {
		c := &contract.Contract{
			Parameters: map[string]contract.Parameter{},
			Clauses: []*contract.Clause{
				{Name: "x", Topic: pattern(t, l+"/{"+strings.Repeat("p", tt.parameter)+"}")},
			},
		}
		if got := c.Near(l + "x/" + strings.Repeat("n", tt.level)); (got != "") != tt.near {
			t.Errorf("%d for %d: %q", tt.level, tt.parameter, got)
		}
	}
	for _, s := range []string{"a/{}", "a/{", "a/}", "{}"} {
		if p, err := contract.ParsePattern(s); err == nil && len(p.Parameters()) > 0 {
			t.Errorf("%s has the parameters %q", s, p.Parameters())
		}
	}
	for name, want := range map[string]string{
		"pens/oxygEN": "far (pens/oxygen)", "pens/oxyGEN": "far (pens/oxygen)", "pens/oxYGEN": "",
		"pens/oxygeN":    "far (pens/oxygen)",
		"pens/oxygenabc": "far (pens/oxygen)", "pens/oxygenabcd": "",
		strings.Repeat("l", 100) + "x/" + strings.Repeat("n", 63): "long (" + strings.Repeat("l", 100) + "/{n})",
		strings.Repeat("l", 100) + "x/" + strings.Repeat("n", 68): "",
	} {
		if got := c.Near(name); got != want {
			t.Errorf("%.40s: %.40q, want %.40q", name, got, want)
		}
	}
}

// TestAnEnvelopeIsNoPayload: what was found of the payload holds for the same payload again, what was found of QoS does not.
func TestAnEnvelopeIsNoPayload(t *testing.T) {
	one := packet.QoS(1)
	c := &contract.Contract{Parameters: map[string]contract.Parameter{}, Clauses: []*contract.Clause{
		{Name: "a", Topic: pattern(t, "v/a"), QoS: &one, Payload: contract.Payload{Format: payload.Number}},
	}}
	w := watch(t, c)
	for i, qos := range []packet.QoS{0, 1, 0, 0, 1} {
		m := contract.Message{
			At:      w.at(float64(i)),
			Topic:   "v/a",
			Payload: []byte("5"),
			QoS:     qos,
			Granted: 2,
			Eye:     "quay",
		}
		if got := w.j.Message(m).Breaches; len(got) != 1-int(qos) {
			t.Errorf("message %d at QoS %d: %+v", i, qos, got)
		}
	}
}

// TestWhereASchemaIsBad: the place within it, or in the file that it leads to.
func TestWhereASchemaIsBad(t *testing.T) {
	fsys := fstest.MapFS{
		"m.json": {Data: []byte(`{"$defs":{"a":{"$ref":"#/$defs/a"},"b":{}}}`)},
		"o.json": {Data: []byte(`{"$defs":{"b":{"type":"objekt"}}}`)},
	}
	for text, want := range map[string]string{
		`{"properties":{"a":{"type":"objekt"}}}`:                  "/properties/a/type|",
		`{"$defs":{"a":{"$ref":"#/$defs/a"}},"$ref":"#/$defs/a"}`: "/$defs/a|leads back to itself",
		`{"$ref":"m.json#/$defs/a"}`:                              "|m.json#/$defs/a leads back to itself",
		`{"$ref":"n.json"}`:                                       "|cannot read n.json",
		`{"$ref":"o.json#/$defs/b"}`:                              "|o.json at /$defs/b/type: value must be one of",
	} {
		doc, err := payload.Decode(payload.JSON, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		_, err = contract.CompileSchema(fsys, "x", doc, nil)
		var bad *contract.SchemaError
		pointer, reason, _ := strings.Cut(want, "|")
		if !errors.As(err, &bad) || bad.Pointer != pointer || !strings.Contains(bad.Reason, reason) {
			t.Errorf("%s: %+v", text, err)
		}
	}
}

// TestListedParametersMeet: two clauses overlap where a value of one is a value of the other.
func TestListedParametersMeet(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		meet bool
	}{{"1 2", "3 4", false}, {"1 2", "2 3", true}, {"1 2", "", true}, {"", "3", true}, {"", "", true}} {
		c := &contract.Contract{
			Parameters: map[string]contract.Parameter{
				"a": {Name: "a", Values: strings.Fields(tt.a)},
				"b": {Name: "b", Values: strings.Fields(tt.b)},
			},
			Clauses: []*contract.Clause{{Name: "x", Topic: pattern(t, "v/{a}")}},
		}
		if got := c.Overlap(&contract.Clause{Name: "y", Topic: pattern(t, "v/{b}")}) != nil; got != tt.meet {
			t.Errorf("%q and %q: %v", tt.a, tt.b, got)
		}
	}
}
