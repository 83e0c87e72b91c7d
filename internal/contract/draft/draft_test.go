package draft_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/contract/draft"
	"hodstone/internal/workspace"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// said is a message at a second.
func said(second float64, topic, payload string) draft.Message {
	return draft.Message{At: noon.Add(time.Duration(second * float64(time.Second))), Topic: topic, Payload: []byte(payload), RetainKnown: true}
}

func drafted(messages ...draft.Message) (*draft.Result, string) {
	t := draft.New()
	for _, m := range messages {
		t.Message(m)
	}
	r := t.Write(draft.Options{})
	return r, workspace.YAML(r.Contract, 0, r.Notes)
}

// each says something on each of the topics, some times.
func each(times int, payload func(i int) string, topics ...string) (out []draft.Message) {
	for i := range times {
		for _, t := range topics {
			out = append(out, said(float64(i), t, payload(i)))
		}
	}
	return out
}

func constant(s string) func(int) string { return func(int) string { return s } }

// TestPatterns: what is a parameter and what is a name.
func TestPatterns(t *testing.T) {
	json := func(field string) func(int) string { return constant(`{"` + field + `": 1}`) }
	for name, c := range map[string]struct {
		messages []draft.Message
		wants    []string
	}{
		"numbers, from two on":        {each(2, constant("1"), "d/vat/1/temp", "d/vat/2/temp"), []string{"topic: d/vat/{vat}/temp", "vat: {values: [\"1\", \"2\"]}"}},
		"one is a name":               {each(2, constant("1"), "d/vat/1/temp"), []string{"topic: d/vat/1/temp"}},
		"words, from four on":         {each(2, json("a"), "d/oak/x", "d/elm/x", "d/ash/x", "d/fir/x"), []string{"topic: d/{d}/x"}},
		"three words are names":       {each(2, json("a"), "d/oak/x", "d/elm/x", "d/ash/x"), []string{"topic: d/oak/x", "topic: d/elm/x", "topic: d/ash/x"}},
		"words with other payloads":   {append(append(each(2, json("a"), "d/oak/x", "d/elm/x"), each(2, json("b"), "d/ash/x", "d/fir/x")...), each(2, json("c"), "d/yew/x")...), []string{"topic: d/oak/x", "topic: d/yew/x"}},
		"bare numbers of four things": {append(append(append(each(2, constant("20"), "d/temp"), each(2, constant("7"), "d/ph")...), each(2, constant("500"), "d/flow")...), each(2, constant("3"), "d/level")...), []string{"topic: d/temp", "topic: d/ph", "topic: d/flow", "topic: d/level"}},
		"names with numbers":          {each(2, constant("1"), "d/pump-1/on", "d/pump-2/on"), []string{"topic: d/{pump}/on", "pump: {values: [pump-1, pump-2]}"}},
		"two parameters":              {each(2, constant("1"), "d/line/1/vats/a/t", "d/line/1/vats/b/t", "d/line/2/vats/a/t", "d/line/2/vats/b/t"), []string{"topic: d/line/{line}/vats/{vat}/t"}},
		"not a square":                {each(2, constant("1"), "d/line/1/vat/a/t", "d/line/2/vat/b/t"), []string{"topic: d/line/1/vat/a/t", "topic: d/line/2/vat/b/t"}},
		"fewer of the same":           {append(each(2, constant("1"), "d/vat/1/t", "d/vat/2/t", "d/vat/3/t"), each(1, json("k"), "d/vat/1/alarm", "d/vat/3/alarm")...), []string{"topic: d/vat/{vat}/t", "topic: d/vat/{vat}/alarm", "vat: {range: 1..3}"}},
		"with zeros before":           {append(each(2, constant("1"), "d/vat/01/t", "d/vat/02/t", "d/vat/03/t"), each(2, json("k"), "d/vat/01/a", "d/vat/02/a")...), []string{`vat: {pattern: "[0-9]+"}`}},
		"addresses":                   {each(2, constant("1"), "d/00:11:22:33:44:55/t", "d/00:11:22:33:44:56/t"), []string{"topic: d/{d}/t"}},
		"braces are left":             {append(each(2, constant("1"), "d/{x}/t"), each(2, constant("1"), "d/y")...), []string{"topic: d/y"}},
		"the broker's own":            {append(each(2, constant("1"), "$SYS/uptime"), each(2, constant("1"), "d/y")...), []string{"topic: d/y"}},
	} {
		r, text := drafted(c.messages...)
		for _, want := range c.wants {
			if !strings.Contains(text, want) {
				t.Errorf("%s lacks %s:\n%s", name, want, text)
			}
		}
		if strings.Contains(text, "$SYS") || name == "braces are left" && len(r.Left) != 1 {
			t.Errorf("%s: left %v\n%s", name, r.Left, text)
		}
	}
}

// TestPayloads: the narrowest format that all are of, and what a person would write of them.
func TestPayloads(t *testing.T) {
	list := func(all ...string) func(int) string { return func(i int) string { return all[i%len(all)] } }
	rising := func(i int) string { return fmt.Sprintf(`{"count": %d, "kg": %d.5}`, i, 40+i%3) }
	for name, c := range map[string]struct {
		payload func(int) string
		wants   string // joined by "|"
		not     string
	}{
		"numbers":           {list("1", "2.5", "19"), "format: number, minimum: 0, maximum: 50}  # from 1 to 19 in 60", ""},
		"below zero":        {list("-3", "2"), "minimum: -5, maximum: 5", ""},
		"per cent":          {list("0 %", "75 %", "12.5 %"), `{format: number, minimum: 0, maximum: 100, suffix: " %"}`, ""},
		"words":             {list("on", "off"), `format: text, values: {"off": "", "on": ""}`, ""},
		"one word":          {list("on"), "format: text}|? any text", "values"},
		"codes":             {list("MV-12", "MV-34", "MV-56"), `pattern: "MV-[0-9]{2}"`, "values"},
		"many words":        {func(i int) string { return "word " + strings.Repeat("x", i) }, "? any text", "values"},
		"a counter":         {rising, "count: {type: integer, minimum: 0}  # ? counts up: from 0 to 59|kg: {type: number, minimum: 0, maximum: 100, unit: kg}", ""},
		"optional fields":   {list(`{"a": 1}`, `{"a": 1, "b": null}`), "required: [a]|b: {type: \"null\"}  # 30 of 60", ""},
		"several types":     {list(`{"a": 1}`, `{"a": "x"}`), "type: [string, integer]|? of several types", ""},
		"lists":             {list(`{"a": [1, 2.5]}`), "type: array|items: {type: number, minimum: 0, maximum: 5}", ""},
		"times":             {list(`{"at": "2026-03-01T12:00:00Z"}`), "format: date-time", ""},
		"0 and 1":           {list(`{"run": 0}`, `{"run": 1}`), "? 0 and 1: no and yes?", ""},
		"yes and no":        {list(`{"run": "yes"}`, `{"run": "no"}`), `enum: ["no", "yes"]|? two words: no and yes?`, ""},
		"CBOR":              {list("\xa1\x61k\x01"), "format: cbor|k: {type: integer|max-size: 64", ""},
		"bytes":             {list("\x00\x01\xff"), "format: binary|max-size: 64|? bytes", ""},
		"XML":               {list("<a><b>1</b></a>"), "format: xml", ""},
		"numbers and words": {list("1", "open"), "format: text", ""},
		"units":             {list(`{"tempCelsius": 1, "level_mm": 2, "openPct": 3, "v": 4, "supply_v": 5}`), "unit: °C|unit: mm|unit: \"%\"|supply_v: {type: integer, minimum: 0, maximum: 10, unit: V}|v: {type: integer, minimum: 0, maximum: 5}  #", ""},
	} {
		_, text := drafted(each(60, c.payload, "d/x")...)
		for want := range strings.SplitSeq(c.wants, "|") {
			if !strings.Contains(strings.ReplaceAll(text, `unit: "°C"`, "unit: °C"), want) {
				t.Errorf("%s lacks %s:\n%s", name, want, text)
			}
		}
		if c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s has %s:\n%s", name, c.not, text)
		}
	}
}

// TestOutliers: what lies far outside is told apart where it is rare, or comes from one topic of several; what stands
// still and jumps is none.
func TestOutliers(t *testing.T) {
	temp := func(broken func(i int) bool) func(int) string {
		return func(i int) string {
			if broken(i) {
				return "-40"
			}
			return fmt.Sprint(20 + i%5)
		}
	}
	never := func(int) bool { return false }
	for name, c := range map[string]struct {
		messages []draft.Message
		outliers int
		want     string
	}{
		"rare":               {each(200, temp(func(i int) bool { return i == 7 }), "d/x"), 1, "minimum: 0, maximum: 50"},
		"not rare":           {each(200, temp(func(i int) bool { return i%20 == 7 }), "d/x"), 0, "minimum: -50, maximum: 50"},
		"from one of three":  {append(each(60, temp(never), "d/1/x", "d/2/x"), each(60, temp(func(i int) bool { return i%8 == 7 }), "d/3/x")...), 1, "minimum: 0, maximum: 50"},
		"from two of three":  {append(each(60, temp(never), "d/1/x"), each(60, temp(func(i int) bool { return i%8 == 7 }), "d/2/x", "d/3/x")...), 0, "minimum: -50, maximum: 50"},
		"mostly standing":    {each(60, func(i int) string { return map[bool]string{true: "40", false: "0"}[i == 9] }, "d/1/x"), 0, "minimum: 0, maximum: 50"},
		"too few to tell by": {each(12, temp(func(i int) bool { return i == 7 }), "d/x"), 0, "minimum: -50, maximum: 50"},
	} {
		r, text := drafted(c.messages...)
		if len(r.Outliers) != c.outliers || !strings.Contains(text, c.want) {
			t.Errorf("%s: %q\n%s", name, r.Outliers, text)
		}
	}
}

// TestEnvelopes: QoS, retain flag, cadence, answers, presence and who speaks, each with how often it held.
func TestEnvelopes(t *testing.T) {
	at := func(m draft.Message, change func(*draft.Message)) draft.Message { change(&m); return m }
	var regular, jumping, commands, unsteady []draft.Message
	for i := range 30 {
		s := float64(i) * 10
		regular = append(regular, at(said(s, "d/x", fmt.Sprint(i%7)), func(m *draft.Message) { m.QoS, m.Retain, m.Sender = 1, true, "pump-1" }))
		jumping = append(jumping, said(s*float64(1+i%3), "d/x", fmt.Sprint(i)))
		commands = append(commands, at(said(s, "d/a/set", fmt.Sprint(i)), func(m *draft.Message) { m.Sender = "desk" }),
			at(said(s+0.3, "d/a/state", fmt.Sprint(i)), func(m *draft.Message) { m.Sender, m.Retain = "pump-1", true }))
		unsteady = append(unsteady, at(said(s, "d/a/set", fmt.Sprint(i)), func(m *draft.Message) { m.Sender = "desk" }),
			at(said(s+0.1+float64(i%10)*0.4, "d/a/state", fmt.Sprint(i)), func(m *draft.Message) { m.Sender = "pump-1" }))
	}
	for name, c := range map[string]struct {
		messages []draft.Message
		wants    string
		not      string
	}{
		"regular":  {regular, "from: pump  # 30 of 30|qos: 1  # 30 of 30|retain: true  # 30 of 30|every: 10s ± 5s", "only"},
		"jumping":  {jumping, "only: changes  # never the same twice in 30", "every"},
		"few":      {regular[:4], "qos: 1  # 4 of 4", "every"},
		"answers":  {commands, "answer: {clause: state, within: 1s}  # 29 of 29, after 300ms at most", ""},
		"unsteady": {unsteady, "from: desk", "answer"},
		"mixed QoS": {append(each(5, constant("1"), "d/x"), at(said(9, "d/x", "1"), func(m *draft.Message) { m.QoS = 1 }), at(said(10, "d/x", "1"), func(m *draft.Message) { m.QoS = 1 })),
			"? at QoS 0 5, 1 2, 2 0 times", "qos:"},
		"stored only": {[]draft.Message{at(said(0, "d/x", "1"), func(m *draft.Message) { m.Copy, m.RetainKnown = true, false })}, "# 1 topic, heard only as stored|? at which QoS|retain: true  # 1 of 1 topics were stored", "qos:"},
		"nobody seen": {regular[:0:0], "clauses: {}", ""},
	} {
		_, text := drafted(c.messages...)
		for want := range strings.SplitSeq(c.wants, "|") {
			if !strings.Contains(text, want) {
				t.Errorf("%s lacks %s:\n%s", name, want, text)
			}
		}
		if c.not != "" && strings.Contains(text, c.not) {
			t.Errorf("%s has %s:\n%s", name, c.not, text)
		}
	}
	// Clients, their terms, what they subscribe to, and a presence.
	d := draft.New()
	for i := range 3 {
		name, yes := fmt.Sprintf("pen-%d", i+1), i < 2
		d.Session(draft.Client{Name: name, ID: name, Version: 4, KeepAlive: time.Duration(10+10*i) * time.Second, CleanStart: true, Encrypted: &yes,
			Will: fmt.Sprintf("mv/pen/%d/status", i+1), WillText: "gone"})
		d.Subscribes(name, fmt.Sprintf("mv/pen/%d/set", i+1))
		for k, text := range []string{"here", "bye"} {
			d.Message(draft.Message{At: noon.Add(time.Duration(k) * time.Minute), Topic: fmt.Sprintf("mv/pen/%d/status", i+1), Payload: []byte(text), Retain: true, RetainKnown: true, QoS: 1, Sender: name})
		}
		d.Message(draft.Message{At: noon, Topic: fmt.Sprintf("mv/pen/%d/set", i+1), Payload: []byte("1"), Sender: "client-of-the-desk", RetainKnown: true})
	}
	d.Subscribes("client-of-the-desk", "mv/pen/+/status", "#")
	d.Subscribes("logger", "#")
	d.Plays("client-of-the-desk", "desk")
	r := d.Write(draft.Options{Names: []string{"pen.set"}})
	text := workspace.YAML(r.Contract, 0, r.Notes)
	for _, want := range []string{"client-id: \"pen-{pen}\", version: 3.1.1, keep-alive: 10s..30s, clean-start: true, tls: allowed", "presence: {coming: here, leaving: bye, lost: gone}",
		"to: [desk]", "to: [pen]", "from: desk", "pen.set-2:"} {
		if !strings.Contains(text, want) {
			t.Errorf("lacks %s:\n%s", want, text)
		}
	}
	if strings.Contains(text, "logger") && strings.Contains(text, "to: [desk, logger]") {
		t.Errorf("who reads everything consumes it:\n%s", text)
	}
	if _, err := workspace.ReadContract(r.Contract, nil, "x"); err != nil {
		t.Errorf("%v:\n%s", err, text)
	}
	if part := d.Only(func(topic string) bool { return strings.HasSuffix(topic, "set") }).Write(draft.Options{}); part.Clauses != 1 {
		t.Errorf("a part has %d clauses", part.Clauses)
	}
}

// FuzzDraft: whatever came by, what is drafted can be read, and takes what it was made from.
func FuzzDraft(f *testing.F) {
	f.Add("d/1/x", "d/2/x", `{"a": 1}`, "on")
	f.Add("a b/ö", "#", "\xff\x00", "<a/>")
	f.Fuzz(func(t *testing.T, a, b, x, y string) {
		d := draft.New()
		for i := range 8 {
			d.Message(said(float64(i), a, x))
			d.Message(said(float64(i)+0.1, b, y))
		}
		r := d.Write(draft.Options{})
		w, err := workspace.ReadContract(r.Contract, nil, "x")
		if err != nil {
			t.Fatalf("%v:\n%s", err, workspace.YAML(r.Contract, 0, nil))
		}
		if r.Clauses != len(w.Contract.Clauses) {
			t.Errorf("%d clauses were drafted, %d are read", r.Clauses, len(w.Contract.Clauses))
		}
	})
}
