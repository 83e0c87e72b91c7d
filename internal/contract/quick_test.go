package contract

import (
	"fmt"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/payload"
)

const quickSchema = `{"type":"object","required":["mgl","at"],"properties":{"mgl":{"type":"number","minimum":0,"maximum":0.3},"n":{"type":"integer","exclusiveMinimum":-3,"exclusiveMaximum":1e3},
"at":{"type":"string","format":"date-time"},"lot":{"type":"string","pattern":"^MV-[0-9]{4}$"},"kind":{"enum":["a","ü"]},"in":{"$ref":"#/$defs/in"},"any":{"type":["string","null","boolean"]}},
"$defs":{"in":{"type":"object","required":["x"],"properties":{"x":{"type":"boolean"},"y":{"type":"array"}}}}}`

func schemaOf(t testing.TB, text string) *Schema {
	t.Helper()
	doc, err := payload.Decode(payload.JSON, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	s, err := CompileSchema(fstest.MapFS{}, "x", doc, nil)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestQuickAcceptsWhatIsSound: it does its work, and leaves what it does not know.
func TestQuickAcceptsWhatIsSound(t *testing.T) {
	s := schemaOf(t, quickSchema)
	if s.quick == nil {
		t.Fatal("the schema is not reduced")
	}
	for text, want := range map[string]bool{
		`{"mgl":0.25,"at":"2026-11-23T09:00:00Z","more":[1]}`:                                                              true,
		`{"mgl":0,"at":"2026-11-23T09:00:00.5+01:00","n":-2,"lot":"MV-2207","kind":"ü","in":{"x":true,"y":[]},"any":null}`: true,
		`{"mgl":0.3,"at":"2026-11-23T09:00:00Z"}`:                                                                          false /* beside a bound without exact float64 */, `{"mgl":0.1}`: false, `{"mgl":"0.1","at":"2026-11-23T09:00:00Z"}`: false,
		`{"mgl":0.1,"at":"noon"}`: false, `{"mgl":0.1,"at":"2026-11-23T09:00:00Z","n":2.5}`: false,
		`{"mgl":0.1,"at":"2026-11-23T09:00:00Z","kind":"b"}`: false,
		`{"mgl":0.1,"at":"2026-11-23T09:00:00Z"`:             false,
		`{"mgl":0.1,"at":"2026-11-23T09:00:00Z","in":{}}`:    false, ``: false, `[]`: false,
	} {
		if got := s.quick.accepts([]byte(text)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	for _, more := range []string{`{"minLength":2}`, `{"not":{"type":"string"}}`,
		`{"properties":{"a":{"minItems":1}}}`, `{"additionalProperties":false}`, `{"enum":[1]}`, `{"format":"email"}`,
		`{"$ref":"#/$defs/a","type":"string","$defs":{"a":{}}}`, `false`} {
		if s := schemaOf(t, more); s.quick != nil {
			t.Errorf("%s is reduced to what it is not", more)
		}
	}
}

// TestPlainDateTime: it takes the days that there are, and no time that is none, whatever stands at a place of it.
func TestPlainDateTime(t *testing.T) {
	is := func(s string) bool { _, err := time.Parse(time.RFC3339, s); return err == nil }
	for _, year := range []int{0, 1900, 2000, 2024, 2026, 9999} {
		for month := range 14 {
			for day := range 33 {
				s := fmt.Sprintf("%04d-%02d-%02dT09:00:00Z", year, month, day)
				if plainDateTime([]byte(s)) != is(s) {
					t.Errorf("%s: %v", s, !is(s))
				}
			}
		}
	}
	for _, s := range []string{"2026-11-23T09:00:00Z", "2026-11-23T09:00:00.25+01:30"} {
		for i := range s {
			for _, c := range []byte("0123456789-+:.TZtz /") {
				if x := s[:i] + string(c) + s[i+1:]; plainDateTime([]byte(x)) && !is(x) {
					t.Errorf("%s is taken", x)
				}
				if x := s[:i] + string(c) + s[i:]; plainDateTime([]byte(x)) && !is(x) {
					t.Errorf("%s is taken", x)
				}
			}
		}
		for i := range s {
			if plainDateTime([]byte(s[:i])) && !is(s[:i]) {
				t.Errorf("%s is taken", s[:i])
			}
		}
	}
}

// FuzzQuick: whatever quick accepts, the whole schema finds nothing wrong with.
func FuzzQuick(f *testing.F) {
	s := schemaOf(f, quickSchema)
	f.Add(`{"mgl":0.25,"at":"2026-11-23T09:00:00Z","n":7,"lot":"MV-2207","kind":"a","in":{"x":false}}`)
	f.Add(`{"mgl":1e-1,"mgl":0.30000000000000004,"at":"2026-11-23T24:00:00Z"}`)
	f.Add(`{"mgl":-0,"at":"2026-02-30T09:00:00+23:59","any":"\u0000"}`)
	f.Fuzz(func(t *testing.T, text string) {
		if !s.quick.accepts([]byte(text)) {
			return
		}
		v, err := payload.Decode(payload.JSON, []byte(text))
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		if found := s.Breaches(v); len(found) > 0 {
			t.Errorf("%q: %v", text, found)
		}
	})
}

// FuzzBreaches: whatever the validator calls invalid is a breach, for schemas of all keywords, and what it
// calls valid is none.
func FuzzBreaches(f *testing.F) {
	all := []string{
		`{"not":{"type":"string"}}`,
		`{"not":{"required":["a","b"]}}`,
		`{"properties":{"a":false}}`,
		`{"items":false}`,
		`false`,
		`{"oneOf":[{"type":"string"},{"minLength":1}]}`,
		`{"anyOf":[{"const":1},{"enum":[2]}]}`,
		`{"if":{"type":"array"},"then":{"minItems":1,"uniqueItems":true,"contains":{"type":"null"},"maxContains":1},"else":{"maxProperties":1}}`,
		`{"patternProperties":{"^x":{"multipleOf":2}},"propertyNames":{"maxLength":3},"additionalProperties":{"exclusiveMinimum":0}}`,
		`{"dependentRequired":{"a":["b"]},"dependentSchemas":{"b":{"minProperties":2}}}`,
		`{"prefixItems":[{"type":"integer"}],"unevaluatedItems":false}`,
		`{"allOf":[{"properties":{"a":true}}],"unevaluatedProperties":false}`,
		`{"$ref":"#/$defs/l","$defs":{"l":{"type":["array","null"],"items":{"$ref":"#/$defs/l"}}}}`,
		`{"allOf":[{"not":{"type":"object"}},{"format":"date-time"}]}`,
		`{"$dynamicRef":"#d","$defs":{"d":{"$dynamicAnchor":"d","not":{"const":0}}}}`,
	}
	for _, schema := range all {
		for _, value := range []string{`0`, `"x"`, `{"a":1,"b":1}`, `[1,[null],null]`, `{"x":3}`, `{"xxxx":-1}`,
			`null`, `"2026-11-23T09:00:00Z"`} {
			f.Add(schema, value)
		}
	}
	f.Fuzz(func(t *testing.T, schema, text string) {
		if len(schema)+len(text) > 2000 {
			return
		}
		doc, err := payload.Decode(payload.JSON, []byte(schema))
		if err != nil {
			return
		}
		s, err := CompileSchema(fstest.MapFS{}, "x", doc, nil)
		if err != nil {
			return
		}
		v, err := payload.Decode(payload.JSON, []byte(text))
		if err != nil {
			return
		}
		(&Payload{Format: payload.JSON, Schema: s}).Fields()
		invalid := s.compiled.Validate(v) != nil
		if found := s.Breaches(v); (len(found) > 0) != invalid {
			t.Errorf("%s and %s: invalid %v, breaches %v", schema, text, invalid, found)
		}
	})
}

// TestSchemasThatSayNothing: a circle without a part of the value in it is told when the schema is read.
func TestSchemasThatSayNothing(t *testing.T) {
	for text, bad := range map[string]bool{`{"$ref":"#"}`: true,
		`{"allOf":[{"$ref":"#/$defs/a"}],"$defs":{"a":{"anyOf":[{"$ref":"#/$defs/b"}]},"b":{"not":{"$ref":"#/$defs/a"}}}}`: true,
		`{"properties":{"deep":{"$ref":"#/$defs/a"}},"$defs":{"a":{"$ref":"#/$defs/a"}}}`:                                  true,
		`{"properties":{"deep":{"$ref":"#"}}}`:          false,
		`{"allOf":[{"properties":{"x":{"$ref":"#"}}}]}`: false} {
		doc, err := payload.Decode(payload.JSON, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := CompileSchema(fstest.MapFS{}, "x", doc, nil); (err != nil) != bad {
			t.Errorf("%s: %v", text, err)
		}
	}
}
