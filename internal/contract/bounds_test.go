package contract

import (
	"fmt"
	"strings"
	"testing"

	"hodstone/internal/payload"
)

// TestQuickAtItsBounds: what it accepts, and what it leaves to the whole schema, on either side of each bound.
func TestQuickAtItsBounds(t *testing.T) {
	const any = `{"title":"anything"}` // {} is the schema true, which is not reduced
	deep := func(n int, inner string) string {
		return strings.Repeat(`{"properties":{"a":`, n) + inner + strings.Repeat(`}}`, n)
	}
	many := func(n int) string {
		var parts []string
		for i := range n {
			parts = append(parts, fmt.Sprintf("%q:1", fmt.Sprint("k", i)))
		}
		return "{" + strings.Join(parts, ",") + "}"
	}
	required := func(n int) string {
		var names []string
		for i := range n {
			names = append(names, fmt.Sprintf("%q", fmt.Sprint("k", i)))
		}
		return `{"required":[` + strings.Join(names, ",") + `]}`
	}
	text := func(n int) string { return `"` + strings.Repeat("x", n-2) + `"` }
	for _, tt := range []struct {
		schema, value string
		want          bool
	}{
		// Bounds with an exact float64, which numbers may touch.
		{`{"minimum":10}`, `10`, true}, {`{"minimum":10}`, `9.999`, false}, {`{"maximum":10}`, `10`, true},
		{`{"maximum":10}`, `10.001`, false},
		{`{"exclusiveMinimum":10}`, `10`, false}, {`{"exclusiveMinimum":10}`, `10.001`, true},
		{`{"exclusiveMaximum":10}`, `10`, false}, {`{"exclusiveMaximum":10}`, `9.999`, true},
		{`{"minimum":-10}`, `-10`, true}, {`{"maximum":-10}`, `-10`, true}, {`{"minimum":1}`, `0`, false},
		{`{"exclusiveMaximum":1}`, `2`, false},
		// Without one, or with many digits: numbers beside the bound are left to the whole schema, on both sides of zero.
		{`{"minimum":0.1}`, `0.1`, false}, {`{"minimum":0.1}`, `0.10000001`, true}, {`{"maximum":0.1}`, `0.1`, false},
		{`{"maximum":0.1}`, `0.09999`, true},
		{`{"exclusiveMinimum":0.1}`, `0.1000000001`, false}, {`{"exclusiveMinimum":0.1}`, `0.2`, true},
		{`{"exclusiveMinimum":0.1}`, `0.100000002`, true},
		{`{"exclusiveMaximum":0.1}`, `0.0999999999`, false}, {`{"exclusiveMaximum":0.1}`, `0.0999`, true},
		{`{"exclusiveMaximum":0.1}`, `0.099999998`, true},
		{`{"minimum":10}`, `10.0000000000001`, false}, {`{"minimum":10}`, `10.000000000001`, true},
		{`{"minimum":10}`, `10.0001000000000000`, true},
		{`{"minimum":-1000000000000}`, `-999999999999.9999`, false},
		{`{"minimum":-1000000000000}`, `-999999990000.0000`, true},
		{`{"maximum":1000000000000}`, `999999999999.99999`, false},
		{`{"maximum":1000000000000}`, `999999990000.00000`, true},
		{`{"exclusiveMinimum":-1000000000000}`, `-999999999999.9999`, false},
		{`{"exclusiveMaximum":-1000000000000}`, `-1000000000000.0001`, false},
		{`{"exclusiveMaximum":1000000000000}`, `999999999999.99999`, false},
		{`{"exclusiveMaximum":1000000000000}`, `999999990000.00000`, true},
		{`{"maximum":0.5}`, `0.49999999999999999`, false}, {`{"maximum":0.5}`, `0.49999999000000000`, true},
		{`{"minimum":0.5}`, `0.50000000000000001`, false},
		// Numbers with an exponent, and very many digits; "e" in texts beside digits too.
		{any, `1e3`, false}, {any, strings.Repeat("1", 100), true}, {any, strings.Repeat("1", 101), false},
		{any, "0." + strings.Repeat("1", 97), true},
		{any, "0." + strings.Repeat("1", 99), false}, {any, `[1,2,3]`, true}, {any, `"e"`, true},
		{`{"type":"integer"}`, `1.0`, false}, {`{"type":"integer"}`, `7`, true},
		{`{"type":"number"}`, `7`, true}, {`{"type":"string"}`, `7`, false}, {`{"enum":["7"]}`, `7`, false},
		{`{"enum":["7"]}`, `"7"`, true},
		{`{"enum":["7"]}`, `true`, false}, {`{"enum":["7"]}`, `null`, false}, {`{"enum":["7"]}`, `[]`, false},
		{`{"enum":["7"]}`, `{}`, false},
		// Sizes, names, what stands twice.
		{any, text(maxQuickBytes), true}, {any, text(maxQuickBytes + 1), false}, {any, ``, false}, {any, `1`, true},
		{any, many(maxQuickNames), true}, {any, many(maxQuickNames + 1), false}, {any, `{"a":1,"a":1}`, false},
		{any, `{"a":1,"\u0061":1}`, false},
		{any, `{"a":[1]}`, true}, {any, `{"a":[{}]}`, true}, {any, `{"a":{"b":1}}`, true},
		{any, `{"a":[{"b":1,"b":1}]}`, false}, {any, `{"a":{"b":1,"c":2,"b":1}}`, false}, {any, `{"a":{"b":1},"b":1}`, true},
		{any, strings.Repeat("[", maxQuickDepth) + "1" + strings.Repeat("]", maxQuickDepth), true},
		{any, strings.Repeat("[", maxQuickDepth+1) + "1" + strings.Repeat("]", maxQuickDepth+1), false},
		{any, "[1,]", false}, {any, "[,1]", false}, {any, "[1 2]", false}, {any, "[1", false}, {any, "[", false},
		{any, `{"a":1,}`, false}, {any, `{,"a":1}`, false}, {any, `{"a" 1}`, false}, {any, `{"a":}`, false}, {any, `{a:1}`, false},
		{any, `{"a":1`, false}, {any, `{"a"`, false}, {any, `{`, false}, {any, " { \"a\" :\t[ 1 , 2 ]\r\n} ", true}, {any, `1 2`, false},
		{any, `tru`, false}, {any, `truth`, false}, {any, `[true,false,null]`, true}, {any, `nul`, false},
		{any, `01`, false}, {any, `-`, false}, {any, `-0`, true}, {any, `1.`, false}, {any, `.5`, false}, {any, `+1`, false},
		{any, "\"a\x00\"", false}, {any, "\"a\tb\"", false}, {any, "\"a\xff\"", false}, {any, `"ü€"`, true}, {any, `"a`, false},
		{`{"properties":{"a":` + any + `}}`, `{"a":{"b":1}}`, true},
		{`{"properties":{"a":` + any + `}}`, `{"a":[{}]}`, true}, {any, `[[1]]`, true}, {any, `[{}]`, true},
		{any, `{"a":"{"}`, true},
		{required(1), `{"k0":1}`, true}, {required(2), `{"k0":1}`, false}, {required(2), `{"k1":1,"k0":1}`, true},
		{required(24), many(24), true},
		{`{"type":"string"}`, `"a\n"`, false}, {`{"type":"string"}`, `"\\"`, false}, {`{"type":"string"}`, `"a"`, true},
		// Times.
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00Z"`, true},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00.Z"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00.5Z"`, true},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00.123456789-23:59"`, true},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00+24:00"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00*01:00"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00+01.00"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00+01:000"`, false},
		{`{"format":"date-time"}`, `"2026-13-23T09:00:00Z"`, false},
		{`{"format":"date-time"}`, `"2026-11-23t09:00:00Z"`, false},
		{`{"format":"date-time"}`, `"2026-11-23T09:00:00.5"`, false},
	} {
		s := schemaOf(t, tt.schema)
		if s.quick == nil {
			t.Fatalf("%s is not reduced", tt.schema)
		}
		if got := s.quick.accepts([]byte(tt.value)); got != tt.want {
			t.Errorf("%.60s: %.60s: %v", tt.schema, tt.value, got)
		}
	}
	for schema, want := range map[string]bool{
		deep(maxQuickDepth, any): true, deep(maxQuickDepth+1, any): false, required(64): true,
		`{"$ref":"#/$defs/a","$defs":{"a":` + any + `}}`:                                true,
		`{"$ref":"#/$defs/a","required":["x"],"$defs":{"a":` + any + `}}`:               false,
		`{"$ref":"#/$defs/a","properties":{"x":` + any + `},"$defs":{"a":` + any + `}}`: false,
	} {
		if got := schemaOf(t, schema).quick != nil; got != want {
			t.Errorf("%.60s is reduced: %v", schema, got)
		}
	}
	if s := schemaOf(t, required(65)); s.quick.accepts([]byte(many(24))) {
		t.Error("65 required names are all there")
	}
}

// TestFieldsOfASchema: in the order of what is required, then by name; by reference and nested, to an end.
func TestFieldsOfASchema(t *testing.T) {
	p := Payload{Schema: schemaOf(t, `{"$ref":"#/$defs/top","$defs":{
		"top":{"required":["z","b"],"properties":{"a":{"type":"string"},"b":{"$ref":"#/$defs/b"},"c":{"type":["string","null"],"format":"date-time"},"z":{"minimum":0,"maximum":5},"d":{"$ref":"#/$defs/top"}}},
		"b":{"$ref":"#/$defs/bb"},"bb":{"type":"object","required":["y"],"properties":{"x":{},"y":{"type":"integer","description":"why"}}}}}`)}
	var got []string
	for _, f := range p.Fields() {
		if strings.Count(f.Pointer, "/") <= 2 {
			got = append(
				got,
				strings.TrimSpace(fmt.Sprintf("%s %s %s %v %s", f.Pointer, f.Type, f.Range, f.Required, f.Note)),
			)
		}
	}
	want := "/z   0 … 5 true|/b object  true|/b/y integer  true why|/b/x   false|/a string  false|/c null or string, date-time  false|/d   false|" +
		"/d/z   0 … 5 true|/d/b object  true|/d/a string  false|/d/c null or string, date-time  false|/d/d   false"
	plain := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	if s := strings.Join(got, "|"); plain(s) != plain(want) {
		t.Errorf("%s\nwant\n%s", s, want)
	}
	deepest := 0
	for _, f := range p.Fields() {
		deepest = max(deepest, strings.Count(f.Pointer, "/"))
	}
	if deepest != maxFieldDepth+1 {
		t.Errorf("described to a depth of %d", deepest)
	}
	long := `{"$ref":"#/$defs/r0","$defs":{`
	for i := range 9 {
		long += fmt.Sprintf(`"r%d":{"$ref":"#/$defs/r%d"},`, i, i+1)
	}
	if n := len((&Payload{Schema: schemaOf(t, long+`"r9":{"properties":{"a":{}}}}}`)}).Fields()); n != 0 {
		t.Errorf("%d fields beyond %d references", n, maxFieldDepth)
	}
}

// TestReferencesAreFollowedSoFar: a chain of them, at the top and below a property.
func TestReferencesAreFollowedSoFar(t *testing.T) {
	for n, seen := range map[int]bool{1: true, maxFieldDepth: true, maxFieldDepth + 1: false} {
		defs := ""
		for i := 1; i < n; i++ {
			defs += fmt.Sprintf(`"r%d":{"$ref":"#/$defs/r%d"},`, i, i+1)
		}
		defs += fmt.Sprintf(`"r%d":{"type":"object","properties":{"a":{"type":"string"}}}`, n)
		top := Payload{Schema: schemaOf(t, `{"$ref":"#/$defs/r1","$defs":{`+defs+`}}`)}
		if got := len(top.Fields()) == 1; got != seen {
			t.Errorf("%d references at the top: %v", n, top.Fields())
		}
		below := Payload{Schema: schemaOf(t, `{"properties":{"p":{"$ref":"#/$defs/r1"}},"$defs":{`+defs+`}}`)}
		if f := below.Fields(); (f[0].Type == "object") != seen {
			t.Errorf("%d references below: %+v", n, f)
		}
	}
}

// TestAClauseThatIsTakenAway: it is found no longer, and a new one is.
func TestAClauseThatIsTakenAway(t *testing.T) {
	clause := func(name string) *Clause {
		p, err := ParsePattern("v/" + name)
		if err != nil {
			t.Fatal(err)
		}
		return &Clause{Name: name, Topic: p}
	}
	c := &Contract{Clauses: []*Clause{clause("a"), clause("b")}}
	if cl, _ := c.Find("v/b"); cl == nil {
		t.Fatal("b is not found")
	}
	c.Clauses = c.Clauses[:1:1]
	if cl, _ := c.Find("v/b"); cl != nil || c.Clause("b") != nil || c.Clause("a") == nil {
		t.Error("b is found, though it was taken away")
	}
	c.Clauses = append(c.Clauses, clause("d"))
	if cl, _ := c.Find("v/d"); cl == nil || c.Clause("d") == nil {
		t.Error("d is not found")
	}
}

// TestWhatASchemaExpects: frames that only lead to their causes say nothing; what is expected stands as it is written.
func TestWhatASchemaExpects(t *testing.T) {
	for _, tt := range [][3]string{
		{`{"allOf":[{"minimum":3}]}`, `1`, "minimum: minimum 3, 1"},
		{`{"$ref":"#/$defs/a","$defs":{"a":{"maximum":3}}}`, `4`, "maximum: maximum 3, 4"},
		{`{"$dynamicRef":"#/$defs/a","$defs":{"a":{"maximum":3}}}`, `4`, "maximum: maximum 3, 4"},
		{`{"dependentRequired":{"a":["b"]}}`, `{"a":1}`, `dependentRequired/a: dependentRequired/a ["b"], {"a":1}`},
		{`{"not":{"type":"string"}}`, `"x"`, `not: not {"type":"string"}, "x"`},
		{`{"anyOf":[{"minimum":3},{"type":"string"}]}`, `1`,
			`anyOf: anyOf [{"minimum":3},{"type":"string"}], 1|minimum: minimum 3, 1|type: type "string", 1`},
		{`{"required":["a"]}`, `{}`, `required: required ["a"], missing property 'a'`},
	} {
		s := schemaOf(t, tt[0])
		v, err := payload.Decode(payload.JSON, []byte(tt[1]))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, b := range s.Breaches(v) {
			got = append(got, fmt.Sprintf("%s: %s, %s", b.Keyword, b.Expected, b.Seen))
		}
		if s := strings.Join(got, "|"); s != tt[2] {
			t.Errorf("%s\n got %s\nwant %s", tt[0], s, tt[2])
		}
	}
}

// TestListedValues: those of a list, and of a range of ten thousand at most.
func TestListedValues(t *testing.T) {
	for _, c := range []struct {
		p    Parameter
		want int
		last string
	}{
		{Parameter{Range: &Range{From: 2, To: 4}}, 3, "4"},
		{Parameter{Range: &Range{From: 1, To: 10_000}}, 10_000, "10000"},
		{Parameter{Range: &Range{From: 0, To: 10_000}}, 0, ""},
		{Parameter{Values: []string{"7", "a"}}, 2, "a"},
		{Parameter{Values: []string{"7", "a"}, Range: &Range{From: 1, To: 3}}, 2, "a"},
		{Parameter{}, 0, ""},
	} {
		got := c.p.Listed()
		if len(got) != c.want || c.want > 0 && got[len(got)-1] != c.last {
			t.Errorf("%+v: %d values: %.80q", c.p, len(got), got)
		}
	}
}
