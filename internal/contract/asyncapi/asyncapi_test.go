package asyncapi_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"hodstone/demo"
	"hodstone/internal/contract"
	"hodstone/internal/contract/asyncapi"
	"hodstone/internal/expression"
	"hodstone/internal/workspace"
)

type o = expression.Object

func m(key string, v any) expression.Member { return expression.Member{Key: key, Value: v} }

// validator checks documents by the standard's own schema.
func validator(t testing.TB) func(text []byte) error {
	t.Helper()
	b, err := os.ReadFile("testdata/asyncapi-3.0.0.json")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	c := jsonschema.NewCompiler()
	if err == nil {
		err = c.AddResource("asyncapi.json", doc)
	}
	s, err2 := c.Compile("asyncapi.json")
	if err != nil || err2 != nil {
		t.Fatal(err, err2)
	}
	return func(text []byte) error {
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
		if err == nil {
			err = s.Validate(v)
		}
		return err
	}
}

// back reads a document, and the contract in it.
func back(text []byte) (*contract.Contract, []string, error) {
	tree, problems := workspace.ReadTree(text, "doc")
	if len(problems) > 0 {
		return nil, nil, problems[0]
	}
	mapping, notes, err := asyncapi.In(tree)
	if err != nil {
		return nil, notes, err
	}
	w, err := workspace.ReadContract(mapping, demo.Files, "back")
	return w.Contract, notes, err
}

// bare takes the keys of extensions out.
func bare(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			if strings.HasPrefix(k, "x-") {
				delete(v, k)
			} else {
				v[k] = bare(v[k])
			}
		}
	case []any:
		for i := range v {
			v[i] = bare(v[i])
		}
	}
	return v
}

// essence is what comes back without extensions: topics, parameters, QoS, retain flags and schemas.
func essence(c *contract.Contract) string {
	out := map[string]any{}
	for _, cl := range c.Clauses {
		x := map[string]any{"qos": cl.QoS, "retain": cl.Retain, "parameters": cl.Topic.Parameters(), "to": slices.Sorted(slices.Values(cl.To))}
		if schema := cl.Payload.Bundle(); schema != nil && (cl.Payload.Format == "json" || cl.Payload.Format == "cbor" || cl.Payload.Format == "msgpack") {
			x["schema"] = schema
		}
		out[cl.Topic.String()] = x
	}
	b, _ := json.Marshal(out)
	var v any // objects lose their order
	json.Unmarshal(b, &v)
	b, _ = json.Marshal(v)
	return string(b)
}

func roundTrip(t *testing.T, name string, c *contract.Contract, valid func([]byte) error) {
	t.Helper()
	text, err := json.Marshal(asyncapi.Out(c, "Marrow Voe"))
	if err != nil {
		t.Fatal(name, err)
	}
	if err := valid(text); err != nil {
		t.Errorf("%s is no AsyncAPI document: %v\n%s", name, err, text)
	}
	again, notes, err := back(text)
	if err != nil || len(notes) > 0 {
		t.Fatalf("%s: %v %q\n%s", name, err, notes, text)
	}
	if a, b := contract.SameText(c.Tree()), contract.SameText(again.Tree()); a != b {
		t.Errorf("%s does not come back:\n%s\n%s\nfrom %s", name, a, b, text)
	}
	var v any
	json.Unmarshal(text, &v)
	stripped, _ := json.Marshal(bare(v))
	if err := valid(stripped); err != nil {
		t.Errorf("%s without extensions is no AsyncAPI document: %v", name, err)
	}
	least, _, err := back(stripped)
	if err != nil {
		t.Fatalf("%s without extensions: %v\n%s", name, err, stripped)
	}
	if a, b := essence(c), essence(least); a != b {
		t.Errorf("%s without extensions:\n%s\n%s", name, a, b)
	}
}

// TestRoundTrip: out and back is identity for the demo and for 200 contracts that were made up; what is written is
// sound by the standard's own schema.
func TestRoundTrip(t *testing.T) {
	valid := validator(t)
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	roundTrip(t, "the demo", w.Contract, valid)
	made, clauses := 0, 0
	for seed := uint64(0); made < 200; seed++ {
		if seed > 1000 {
			t.Fatalf("only %d of the contracts made up are sound", made)
		}
		w, err := workspace.ReadContract(generate(rand.New(rand.NewPCG(seed, 7))), demo.Files, "made up")
		if err != nil {
			if !strings.Contains(err.Error(), "duplicate topic") {
				t.Fatal(seed, err)
			}
			continue
		}
		made++
		clauses += len(w.Contract.Clauses)
		roundTrip(t, fmt.Sprint("contract ", seed), w.Contract, valid)
	}
	t.Logf("%d clauses", clauses)
}

// generate makes a contract up.
func generate(r *rand.Rand) expression.Object {
	word := func() string {
		return []string{"vat", "Pen 1", "größe", "a.b", "x_y", "on", "7", "true", "a/b~c", "kg %", "\"q\"", "x: y", "- z", "#", "it's", "null", "°C", "👾"}[r.IntN(18)]
	}
	maybe := func(p float64) bool { return r.Float64() < p }
	names := func(n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf("%s %d", word(), i))
		}
		return out
	}
	var parties, parameters, clauses, relations o
	who := names(1 + r.IntN(4))
	for _, name := range who {
		var p, terms o
		if maybe(0.5) {
			p = append(p, m("note", word()))
		}
		if maybe(0.3) {
			p = append(p, m("logins", []any{"l-{x}", word()}))
		}
		if maybe(0.5) {
			terms = append(terms, m("client-id", "id-{x}"), m("version", []any{"3.1.1", "5"}), m("keep-alive", "1m..1h"), m("clean-start", maybe(0.5)),
				m("tls", "allowed"), m("login", "token"), m("max-qos", r.IntN(3)), m("max-packet", 1+r.IntN(9999)), m("max-topic", o{m("levels", 7)}),
				m("in-flight", 1+r.IntN(9)), m("lost-within", "1m30s"), m("tries", "3/min"))
			p = append(p, m("terms", terms[:r.IntN(len(terms)+1)]))
		}
		parties = append(parties, m(name, p))
	}
	params := []string{"one", "two", "three", "four"}
	for i, name := range params {
		parameters = append(parameters, m(name, []o{{m("values", []any{"a", "b", word()})}, {m("pattern", "[a-z]+|\\d")}, {m("range", "1..12"), m("note", "n")}, {m("note", word())}}[i]))
	}
	var schema func(depth int) any
	schema = func(depth int) any {
		switch n := r.IntN(14); {
		case n < 4 && depth < 4:
			props := o{}
			for _, k := range names(1 + r.IntN(3)) {
				props = append(props, m(k, schema(depth+1)))
			}
			out := o{m("type", "object"), m("properties", props)}
			if maybe(0.5) {
				out = append(out, m("required", []any{props[0].Key}))
			}
			if maybe(0.3) {
				out = append(out, m("additionalProperties", false))
			}
			return out
		case n == 4 && depth < 4:
			return o{m("type", "array"), m("items", schema(depth+1)), m("maxItems", r.IntN(5))}
		case n == 5:
			return o{m("enum", []any{word(), json.Number("7"), nil, true, []any{}, o{m("$ref", "no reference")}})}
		case n == 6 && depth < 4:
			return o{m("prefixItems", []any{schema(depth + 1)}), m("unevaluatedItems", false)}
		case n == 7 && depth == 0:
			return o{m("type", "object"), m("properties", o{m("next", o{m("$ref", "#")}), m("d", o{m("$ref", "#/$defs/"+"d")})}), m("$defs", o{m("d", schema(1))})}
		case n == 8:
			return o{m("$ref", "schemas/feeder.json#/$defs/state")}
		case n == 9 && depth == 0:
			return o{m("properties", o{m("examples", o{m("$ref", "#/properties/enum")}), m("enum", o{m("type", "string"), m("format", "date-time")})})}
		case n == 10:
			return maybe(0.7)
		case n == 11 && depth < 4:
			return o{m("anyOf", []any{schema(depth + 1), schema(depth + 1)}), m("not", o{m("const", word())})}
		}
		return o{m("type", "number"), m("minimum", json.Number("-0.25")), m("unit", word()), m("values", o{m("3", word())}), m("description", word())}
	}
	var topics []string
	for i := range r.IntN(6) {
		levels := []string{"mv", fmt.Sprint("t", i)}
		for range r.IntN(3) {
			levels = append(levels, []string{word(), "x y", "$z"}[r.IntN(3)])
		}
		for _, p := range params {
			if maybe(0.4) {
				levels = append(levels, "{"+p+"}")
			}
		}
		topics = append(topics, strings.NewReplacer("#", "h", "+", "p").Replace(strings.Join(levels, "/")))
	}
	var clauseNames []string
	for i, topic := range topics {
		cl := o{m("topic", topic)}
		if maybe(0.9) {
			cl = append(cl, m("from", who[r.IntN(len(who))]))
		}
		if maybe(0.8) {
			cl = append(cl, m("to", []any{who[0], who[len(who)-1]}[:1+r.IntN(min(2, len(who)))]))
		}
		if maybe(0.7) {
			cl = append(cl, m("qos", r.IntN(3)))
		}
		if maybe(0.7) {
			cl = append(cl, m("retain", maybe(0.5)))
		}
		for _, x := range []expression.Member{m("every", "1m30s ± 5s"), m("at-most", "10/s"), m("only", "edges"), m("message-expiry", "1h5s"),
			m("presence", o{m("coming", word()), m("leaving", word()), m("lost", "l")}), m("properties", o{m("content-type", "a/b"), m("user", []any{[]any{word(), "v"}})}),
			m("survives-restart", true), m("repeat", "once"), m("note", word())} {
			if maybe(0.25) {
				cl = append(cl, x)
			}
		}
		if maybe(0.3) && len(clauseNames) > 0 {
			cl = append(cl, m("answer", o{m("clause", clauseNames[0]), m("within", "2s")}))
		}
		var p o
		var examples, counter []any
		switch r.IntN(9) {
		case 0:
			p, examples = o{m("format", "text"), m("values", o{m(word(), word()), m("b", nil)})}, []any{"b", json.Number("7")}
		case 1:
			p = o{m("format", "text"), m("first-character", o{m("1", "running"), m("0", nil)})}
		case 2:
			p, counter = o{m("format", "number"), m("maximum", json.Number("1.50")), m("unit", word()), m("suffix", " %"), m("minimum", -1)}, []any{o{m("value", json.Number("2")), m("because", word())}, o{m("text", "x"), m("because", "no number")}}
		case 3:
			p, examples = o{m("byte-order", "little"), m("format", "binary"), m("fields", []any{o{m("name", "w"), m("type", "i32"), m("scale", json.Number("0.1")), m("unit", "kg")}, o{m("name", "lot"), m("type", "text"), m("length", 3)}})}, []any{"01000000 414243"}
		case 4:
			p = o{m("format", "binary"), m("media-type", []string{"image/jpeg", "text/csv", "application/x+json"}[r.IntN(3)]), m("max-size", 4096)}
		case 5:
			p = o{m("format", "xml"), m("root", "a"), m("paths", o{m("/a/b", o{m("type", "number")})})}
		case 6:
			p = o{m("format", []string{"cbor", "msgpack"}[r.IntN(2)]), m("schema", schema(0))}
		default:
			p = o{m("format", "json"), m("max-size", 100)}
			if maybe(0.9) {
				p = append(p, m("schema", schema(0)))
			}
			examples = []any{o{m("a", []any{word(), nil})}, "text", json.Number("1e3"), false}
		}
		cl = append(cl, m("payload", p), m("examples", examples), m("counter-examples", counter))
		name := fmt.Sprintf("%s %d", word(), i)
		clauseNames = append(clauseNames, name)
		clauses = append(clauses, m(name, cl))
	}
	if len(clauseNames) > 1 && maybe(0.5) {
		a, b := o{m("clause", clauseNames[0]), m("where", "payload.x == 1")}, o{m("clause", clauseNames[1])}
		relations = append(relations, m("never", o{m("never", []any{a, b}), m("note", word())}),
			m("then", o{m("after", b), m("follows", a), m("within", "1m")}))
	}
	out := o{m("parties", parties), m("parameters", parameters), m("clauses", clauses)}
	if len(relations) > 0 {
		out = append(out, m("relations", relations))
	}
	if len(clauseNames) > 0 && maybe(0.5) {
		out = append(out, m("accepted", []any{o{m("lint", "anything"), m("clause", clauseNames[0]), m("because", word())}}))
	}
	return out
}

// TestForeignDocuments: documents of others, of version 3.0 with traits and references and of 2.6, are taken over as far
// as a contract has a place for it, and the rest is told.
func TestForeignDocuments(t *testing.T) {
	for name, c := range map[string]struct {
		doc    string
		wants  []string // of the contract as YAML
		notes  []string
		failed string
	}{
		"3.0": {`{"asyncapi": "3.0.0", "info": {"title": "Feed Barge!", "version": "2"}, "channels": {
			"weight": {"address": "mv/{silo}/weight", "description": "under a silo", "parameters": {"silo": {"enum": ["a", "b"], "description": "a silo"}},
				"messages": {"w": {"$ref": "#/components/messages/%77"}, "x": {}}},
			"deep": {"$ref": "#/components/channels/deep"}, "wild": {"address": "a/+/b", "messages": {}}, "half": {"address": "a/x{y}", "messages": {}}, "none": {}},
			"operations": {"sendWeight": {"action": "send", "channel": {"$ref": "#/channels/weight"}, "traits": [{"$ref": "#/components/operationTraits/m"}], "summary": "s", "tags": [{"name": "not a party"}]},
				"takeDeep": {"action": "receive", "channel": {"$ref": "#/channels/deep"}, "reply": {}}, "lost": {"action": "send", "channel": {"$ref": "#/nowhere"}}},
			"components": {"messages": {"w": {"contentType": "application/cbor", "payload": {"type": "object", "properties": {"kg": {"$ref": "#/components/schemas/kg"}}}, "traits": [{"examples": [{"payload": {"kg": 1}}]}]}},
				"channels": {"deep": {"address": "mv/deep", "messages": {"d": {"payload": {"schemaFormat": "application/vnd.apache.avro;version=1.9.0", "schema": {}}}}}},
				"operationTraits": {"m": {"bindings": {"mqtt": {"qos": 2, "retain": true, "messageExpiryInterval": 3605}}}}, "schemas": {"kg": {"type": "number", "maximum": 9}}}}`,
			[]string{"feed-barge:", "weight:\n    topic: mv/{silo}/weight\n    from: feed-barge\n    qos: 2\n    retain: true\n    message-expiry: 1h0m5s\n", "format: cbor", `kg: {$ref: "#/$defs/kg"}`, "$defs: {kg: {type: number, maximum: 9}}",
				"examples: [{kg: 1}]", "note: under a silo", "silo: {values: [a, b], note: a silo}", "deep: {topic: mv/deep, to: feed-barge,"},
			[]string{"only the first is taken over, not x", "reply is not taken over", "operation lost: its channel", "wild: the address a/+/b has a wildcard", "half: a parameter of a/x{y} does not fill a whole level", "channel none has no address", "of format application/vnd.apache.avro"}, ""},
		"2.6": {`asyncapi: 2.6.0
info: {title: Desk, version: "1"}
defaultContentType: application/json
channels:
  mv/{pen}/oxygen:
    parameters: {pen: {schema: {type: string, enum: ["1", "2"], pattern: "[12]"}, description: a pen}}
    publish:
      operationId: takeOxygen
      bindings: {mqtt: {qos: 1, retain: false}}
      message: {oneOf: [{payload: {type: object, required: [mgl]}}, {payload: {}}]}
  mv/set:
    subscribe: {summary: sets, message: {contentType: text/plain, payload: {type: string, enum: [on, off]}}}
  mv/level: {subscribe: {message: {contentType: text/plain, payload: {type: number, maximum: 7}}}}
  mv/image: {subscribe: {message: {contentType: image/jpeg}}}
`, []string{"takeOxygen:\n    topic: mv/{pen}/oxygen\n    to: desk\n    qos: 1\n    retain: false\n    payload: {format: json, schema: {type: object, required: [mgl]}}", `pen: {pattern: "[12]", values: ["1", "2"], note: a pen}`,
			"mv.set: {topic: mv/set, from: desk,", "note: sets", "format: number, maximum: 7", "format: binary, media-type: image/jpeg"}, []string{"of its 2 messages only the first"}, ""},
		"another": {`{"openapi": "3.0.0"}`, nil, nil, "this is no AsyncAPI document"},
		"1.2":     {`{"asyncapi": "1.2.0"}`, nil, nil, "AsyncAPI 1.2.0 is not known here"},
		"a list":  {`[1]`, nil, nil, "this is no AsyncAPI document"},
		"a loop":  {`{"asyncapi": "3.0.0", "channels": {"a": {"$ref": "#/channels/b"}, "b": {"$ref": "#/channels/a"}}}`, nil, []string{"channel a has no address"}, ""},
	} {
		tree, problems := workspace.ReadTree([]byte(c.doc), name)
		if len(problems) > 0 {
			t.Fatal(name, problems[0])
		}
		mapping, notes, err := asyncapi.In(tree)
		if c.failed != "" {
			if err == nil || !strings.Contains(err.Error(), c.failed) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil {
			t.Fatal(name, err)
		}
		text := workspace.YAML(mapping, 0, nil)
		for _, want := range c.wants {
			if !strings.Contains(text, want) {
				t.Errorf("%s lacks\n%s\nin\n%s", name, want, text)
			}
		}
		for _, want := range c.notes {
			if !strings.Contains(strings.Join(notes, "\n"), want) {
				t.Errorf("%s does not tell %q: %q", name, want, notes)
			}
		}
		if _, err := workspace.ReadContract(mapping, demo.Files, name); err != nil {
			t.Errorf("%s: %v in\n%s", name, err, text)
		}
	}
}

// FuzzIn: whatever document comes, it is read or refused.
func FuzzIn(f *testing.F) {
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil {
		f.Fatal(err)
	}
	text, _ := json.Marshal(asyncapi.Out(w.Contract, "x"))
	f.Add(text)
	f.Add([]byte(`{"asyncapi": "2.6.0", "channels": {"a/{b}": {"publish": {"message": {"$ref": "#/channels"}}}}}`))
	f.Fuzz(func(t *testing.T, doc []byte) {
		if tree, problems := workspace.ReadTree(doc, "x"); len(problems) == 0 {
			if mapping, _, err := asyncapi.In(tree); err == nil {
				workspace.ReadContract(mapping, demo.Files, "x")
			}
		}
	})
}
