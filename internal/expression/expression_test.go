package expression

import (
	"encoding/json"
	"errors"
	"reflect"
	"testing"
)

func TestTemplates(t *testing.T) {
	n := 0
	funcs := Funcs{Now: func() string { return "T" }, Count: func() int { n++; return n - 1 }, Choice: func(n int) int { return n - 1 }}
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
	if b, err := json.Marshal(Object{{"z", 1}, {"a", Object{}}, {"\"", []any{nil}}}); err != nil || string(b) != `{"z":1,"a":{},"\"":[null]}` {
		t.Errorf("%s %v", b, err)
	}
	tpl, _ := Compile("= round(payload, 1)", []string{"payload"})
	if _, err := tpl.Eval(map[string]any{"payload": "text"}, funcs); err == nil {
		t.Error("rounding a text gives no error")
	}
}
