package contract_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
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
	schema, err := contract.CompileSchema(fstest.MapFS{"modes.json": {Data: []byte(`{"$defs": {"mode": {"enum": [0, 3], "values": {"3": "in maintenance"}}}}`)}}, "oxygen", doc)
	if err != nil {
		t.Fatal(err)
	}
	one, lo, hi, no := packet.QoS(1), 0.0, 100.0, false
	return &contract.Contract{
		Parameters: map[string]contract.Parameter{"pen": {Name: "pen", Values: []string{"1", "2"}}},
		Clauses: []*contract.Clause{
			{Name: "oxygen", Topic: pattern(t, "v/pen/{pen}/oxygen"), Every: contract.Cadence{Period: 10 * time.Second, Tolerance: 2 * time.Second},
				Payload: contract.Payload{Format: payload.JSON, Schema: schema}},
			{Name: "set", Topic: pattern(t, "v/pen/{pen}/set"), QoS: &one, Retain: &no, Answer: &contract.Answer{Clause: "state", Within: 2 * time.Second},
				Payload: contract.Payload{Format: payload.Number, Minimum: &lo, Maximum: &hi, Unit: "%"}},
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
		{"v/pen/1/oxygen", `{"mgl": -0.4, "at": "2026-05-01T06:00:00Z"}`, contract.Message{}, "schema minimum /mgl: expected minimum 0, saw -0.4"},
		{"v/pen/1/oxygen", `{"mgl": 21, "at": "noon"}`, contract.Message{}, `schema format /at: expected format "date-time", saw "noon"; schema maximum /mgl: expected maximum 20, saw 21`},
		{"v/pen/1/oxygen", `{"mgl": 1}`, contract.Message{}, `schema required: expected required ["mgl","at"], saw missing property 'at'`},
		{"v/pen/1/oxygen", `{"mgl": "8", "at": "2026-05-01T06:00:00Z"}`, contract.Message{}, `schema type /mgl: expected type "number", saw "8"`},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "mode": 2}`, contract.Message{}, `schema enum /mode: expected enum [0,3], saw 2`},
		{"v/pen/1/oxygen", `{"mgl": 1, "at": "2026-05-01T06:00:00Z", "deep": {"a/b": 1.5}}`, contract.Message{}, `schema type /deep/a~1b: expected type "integer", saw 1.5`},
		{"v/pen/1/oxygen", `"{\"mgl\": 1}"`, contract.Message{}, `schema type: expected type "object", saw "{\"mgl\": 1}": JSON that was encoded twice?`},
		{"v/pen/1/oxygen", `{"mgl": 1`, contract.Message{}, "format byte 9: expected json, saw the text ends too early"},
		{"v/pen/1/oxygen", "{\"mgl\": 1}\x00\x00", contract.Message{}, "format byte 10: expected json, saw 2 NUL bytes at the end; was the whole buffer sent instead of the text in it?"},
		{"v/pen/2/state", "on", contract.Message{}, ""},
		{"v/pen/2/state", "On", contract.Message{}, `values: expected one of "on", "off", saw "On"`},
		{"v/pen/2/state", "\xff", contract.Message{}, "format byte 0: expected text, saw the bytes are not UTF-8"},
		{"v/pen/2/set", "50", contract.Message{QoS: 1, Granted: 2}, ""},
		{"v/pen/2/set", "150", contract.Message{QoS: 1, Granted: 2}, "range: expected 0 … 100 %, saw 150"},
		{"v/pen/2/set", "half", contract.Message{QoS: 1, Granted: 2}, `format byte 0: expected number, saw "half" is no decimal number`},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2}, "qos: expected QoS 1, saw QoS 0"},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 0}, ""}, // the grant hides it
		{"v/pen/2/set", "5", contract.Message{QoS: 1, Granted: 1, Retain: true, RetainKnown: true}, "retain: expected retain false, saw retain true"},
		{"v/pen/2/set", "5", contract.Message{QoS: 0, Granted: 2, Retain: true, Copy: true}, ""},
		{"v/frame", "\x00\xff", contract.Message{}, ""},
		{"v/pen/3/oxygen", "x", contract.Message{}, `stray, near oxygen, but {pen} may not be "3"`},
		{"v/pen/1/oxigen", "x", contract.Message{}, "stray, near oxygen (v/pen/{pen}/oxygen)"},
		{"other", "x", contract.Message{}, "stray, near "},
	} {
		t.Run(tt.topic+" "+tt.payload, func(t *testing.T) {
			j := contract.NewJudge(farm(t), start)
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

func TestSilencesAndAnswers(t *testing.T) {
	start := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	j := contract.NewJudge(farm(t), start)
	at := func(s float64) time.Time { return start.Add(time.Duration(s * float64(time.Second))) }
	say := func(s float64, topic, text string) {
		j.Message(contract.Message{At: at(s), Topic: topic, Payload: []byte(text), QoS: 1, Granted: 2})
	}
	tick := func(s float64, want ...string) {
		t.Helper()
		var got []string
		for _, b := range j.Tick(at(s)) {
			got = append(got, b.Topic+": "+b.Seen)
		}
		if strings.Join(got, "; ") != strings.Join(want, "; ") {
			t.Errorf("at %v s: %q, want %q", s, got, want)
		}
	}
	oxygen := `{"mgl": 8.5, "at": "2026-05-01T06:00:00Z"}`
	say(5, "v/pen/1/oxygen", oxygen)
	tick(11.9)
	tick(12, "v/pen/2/oxygen: nothing since the start")
	tick(13) // told once
	say(14, "v/pen/2/oxygen", oxygen)
	tick(17, "v/pen/1/oxygen: nothing for 12s")
	say(20, "v/pen/1/set", "5")
	say(20.5, "v/pen/2/state", "on") // another pen's answer does not count
	say(21, "v/pen/2/set", "5")
	say(22.9, "v/pen/2/state", "on")
	tick(22.5, "v/pen/1/set: no answer")
	tick(25)
	states := map[string]contract.CellState{}
	for _, c := range j.Cells() {
		states[c.Topic] = c.State
	}
	want := map[string]contract.CellState{"v/pen/1/oxygen": contract.CellSilent, "v/pen/2/oxygen": contract.CellKept, "v/pen/1/set": contract.CellBroken,
		"v/pen/2/set": contract.CellKept, "v/pen/1/state": contract.CellUnseen, "v/pen/2/state": contract.CellKept, "v/frame": contract.CellUnseen}
	if fmt.Sprint(states) != fmt.Sprint(want) {
		t.Errorf("cells %v\nwant  %v", states, want)
	}
	if _, total := j.Breaches(); total != 3 {
		t.Errorf("%d breaches in all", total)
	}
}

func TestFieldsAndPlacesInThePayload(t *testing.T) {
	c := farm(t)
	var got []string
	for _, f := range c.Clauses[0].Payload.Fields() {
		got = append(got, fmt.Sprintf("%s %s [%s] %s %v %v", f.Name, f.Type, f.Range, f.Unit, f.Required, f.Values))
	}
	want := []string{"mgl number [0 … 20] mg/l true map[]", "at string, date-time []  true map[]", "deep object []  false map[]",
		"deep/a/b integer []  false map[]", "mode  []  false map[0: 3:in maintenance]"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	text := []byte(`{"a": [1, {"b/c": "x"}], "d": null}`)
	for pointer, want := range map[string]string{"/a/1/b~1c": `"x"`, "/a": `[1, {"b/c": "x"}]`, "/d": "null", "": string(text), "/e": ""} {
		start, end, ok := payload.Locate(text, pointer)
		if ok != (want != "") || ok && string(text[start:end]) != want {
			t.Errorf("%s: %q %v", pointer, text[start:end], ok)
		}
	}
}

func TestOverlapsAreFound(t *testing.T) {
	for _, tt := range []struct {
		a, b string
		want bool
	}{{"a/{pen}", "a/{pen}", true}, {"a/{pen}", "a/1", true}, {"a/{pen}", "a/9", false}, {"a/{x}/b", "a/{pen}/{x}", true}, {"a/b", "a/b/c", false}} {
		c := farm(t)
		c.Clauses = []*contract.Clause{{Name: "1", Topic: pattern(t, tt.a)}, {Name: "2", Topic: pattern(t, tt.b)}}
		if a, _ := c.Overlap(); (a != nil) != tt.want {
			t.Errorf("%s and %s overlap: %v", tt.a, tt.b, a != nil)
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
		for _, format := range payload.Formats {
			if _, err := payload.Decode(format, b); err != nil {
				if e := err.(*payload.Error); e.Offset < 0 || e.Offset > len(b) {
					t.Errorf("%s: %+v in %d bytes", format, e, len(b))
				}
			}
		}
		if start, end, ok := payload.Locate(b, pointer); ok && (start < 0 || end > len(b) || start > end) {
			t.Errorf("%d:%d of %d", start, end, len(b))
		}
		payload.Show(b, 20)
	})
}
