package expression

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestTemplates(t *testing.T) {
	n := 0
	funcs := Funcs{
		Now:    func() string { return "T" },
		Count:  func() int { n++; return n - 1 },
		Choice: func(n int) int { return n - 1 },
	}
	names := map[string]any{"oxygen": 8.567, "n": 2, "payload": map[string]any{"run": true, "list": []any{1.0}}}
	for _, tt := range []struct {
		in   any
		want any
	}{
		{"=literal", "=literal"}, {"= oxygen", 8.567}, {3, 3}, {nil, nil},
		{Object{{"mgl", "= round(oxygen, 2)"}, {"at", "= now()"}, {"deep", []any{"= n * 2", "x"}}},
			Object{{"mgl", 8.57}, {"at", "T"}, {"deep", []any{4, "x"}}}},
		{"= payload.run ? 'yes' : 'no'", "yes"}, {"= count()", 0}, {"= count() % 2 == 1 ? -1.0 : 2", -1.0},
		{"= choice('a', 'b')", "b"}, {"= round(n, 0)", 2.0}, {"= payload.missing == nil", true},
	} {
		tpl, err := Compile(tt.in, []string{"oxygen", "n", "payload"})
		if err != nil {
			t.Fatal(err)
		}
		if got, err := tpl.Eval(names, funcs); err != nil || !reflect.DeepEqual(got, tt.want) {
			t.Errorf("%v: %#v, %v; want %#v", tt.in, got, err, tt.want)
		}
	}
	for in, offset := range map[string]int{"= oxgen + 1": 0, "= 1 + oxgen": 4, "= (1": 1, "= round('x')": 0} {
		_, err := Compile(Object{{"v", in}}, []string{"oxygen"})
		var e *Error
		if !errors.As(err, &e) || e.Path != "/v" || e.Offset != offset {
			t.Errorf("%s: %#v", in, err)
		}
	}
	if b, err := json.Marshal(Object{{"z", 1}, {"a", Object{}}, {"\"", []any{nil}}}); err != nil ||
		string(b) != `{"z":1,"a":{},"\"":[null]}` {
		t.Errorf("%s %v", b, err)
	}
	tpl, _ := Compile("= round(payload, 1)", []string{"payload"})
	if _, err := tpl.Eval(map[string]any{"payload": "text"}, funcs); err == nil {
		t.Error("rounding a text gives no error")
	}
}

// TestExpressionsHaveLimits: what would take the memory or the time is an error, soon; what people write is not.
func TestExpressionsHaveLimits(t *testing.T) {
	long := make([]any, 100_001) // what came, from whoever
	for i := range long {
		long[i] = float64(i)
	}
	env := map[string]any{"x": 1.5, "s": "pen", "payload": map[string]any{"list": []any{"a", "b"}}, "n": 2,
		"long": long, "most": long[:100_000], "text": strings.Repeat("ab", 500_000)}
	names := []string{"x", "s", "payload", "n", "long", "most", "text"}
	doubled := `let a = "xxxxxxxx"; `
	for i := range 40 {
		doubled += fmt.Sprintf(
			"let a%d = %s + %s; ",
			i,
			map[bool]string{true: "a", false: fmt.Sprint("a", i-1)}[i == 0],
			map[bool]string{true: "a", false: fmt.Sprint("a", i-1)}[i == 0],
		)
	}
	for _, source := range []string{
		doubled + "a39", `reduce(1..99, #acc + #acc, "x")`, `len(map(1..100000, #))`,
		`all(1..900, none(1..900, false))`,
		`join(map(1..10000, replace(s + s, "p", "` + strings.Repeat("y", 500) + `")), "")`,
		`replace(replace(replace("` + strings.Repeat("a", 300) + `", "a", "` + strings.Repeat("b",
			300) + `"), "b", "` + strings.Repeat("c", 300) + `"), "c", "dddd")`,
		strings.Repeat("1+", 2000) + "1", strings.Repeat("(", 1e6) + "1" + strings.Repeat(")", 1e6),
		`repeat("x", 1000000000)`, `none(long, # < 0)`, `all(most, none(most, # == -1))`, `any(long, # < 0)`,
		`all(long, # >= 0)`, `reduce(long, #acc + #, 0)`, `any(most, -1 in most)`,
	} {
		start := time.Now()
		c, err := Compile(Prefix+source, names)
		if err == nil {
			_, err = c.Eval(env, Funcs{})
		}
		if err == nil || strings.Contains(err.Error(), "unexpected token") {
			t.Errorf("%.60s… is carried out: %v", source, err)
		}
		if took := time.Since(start); took > 10*time.Second {
			t.Errorf("%.60s… takes %s", source, took)
		}
	}
	for source, want := range map[string]any{
		`n + 1`: 3, `x + n`: 3.5, `"a" + s`: "apen", `s + "-" + string(n + 1)`: "pen-3",
		`join(payload.list, ", ")`: "a, b",
		`replace(s, "e", "3")`:     "p3n", `1 + 2 * 3`: 7, `sum(map(1..100, # + 1))`: 5150, `-x + 1`: -0.5,
		`[1, 2][0] + 1`: 2, `all(most, # >= 0)`: true, `any(payload.list, # == "b")`: true, `len(long)`: 100_001,
		`filter(payload.list, # != "a")`: "[b]", `map(payload.list, # + "x")`: "[ax bx]",
		`all(payload.list, len(#) == 1)`:  true,
		`sortBy(payload.list, #, "desc")`: "[b a]", `reduce([1, 2, 3], #acc + #, 0)`: 6, `find(most, # > 5)`: 6,
	} {
		c, err := Compile(Prefix+source, names)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		if got, err := c.Eval(env, Funcs{}); err != nil || fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %v %v, want %v", source, got, err, want)
		}
	}
	if _, err := Compile(Prefix+`1 + true`, names); err == nil {
		c, _ := Compile(Prefix+`1 + true`, names)
		if _, err := c.Eval(env, Funcs{}); err == nil {
			t.Error("1 + true is something")
		}
	}
}
