package contract

import (
	"testing"
	"testing/fstest"

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
	s, err := CompileSchema(fstest.MapFS{}, "x", doc)
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
		`{"mgl":0.25,"at":"2026-11-23T09:00:00Z","more":[1]}`: true, `{"mgl":0,"at":"2026-11-23T09:00:00.5+01:00","n":-2,"lot":"MV-2207","kind":"ü","in":{"x":true,"y":[]},"any":null}`: true,
		`{"mgl":0.3,"at":"2026-11-23T09:00:00Z"}`: false /* beside a bound without exact float64 */, `{"mgl":0.1}`: false, `{"mgl":"0.1","at":"2026-11-23T09:00:00Z"}`: false,
		`{"mgl":0.1,"at":"noon"}`: false, `{"mgl":0.1,"at":"2026-11-23T09:00:00Z","n":2.5}`: false, `{"mgl":0.1,"at":"2026-11-23T09:00:00Z","kind":"b"}`: false, `{"mgl":0.1,"at":"2026-11-23T09:00:00Z"`: false,
		`{"mgl":0.1,"at":"2026-11-23T09:00:00Z","in":{}}`: false, ``: false, `[]`: false,
	} {
		if got := s.quick.accepts([]byte(text)); got != want {
			t.Errorf("%s: %v", text, got)
		}
	}
	for _, more := range []string{`{"minLength":2}`, `{"not":{"type":"string"}}`, `{"properties":{"a":{"minItems":1}}}`, `{"additionalProperties":false}`, `{"enum":[1]}`, `{"format":"email"}`, `{"$ref":"#/$defs/a","type":"string","$defs":{"a":{}}}`, `false`} {
		if s := schemaOf(t, more); s.quick != nil {
			t.Errorf("%s is reduced to what it is not", more)
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
		if found := s.breaches(v); len(found) > 0 {
			t.Errorf("%q: %v", text, found)
		}
	})
}
