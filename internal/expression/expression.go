// Package expression evaluates the expressions of a workspace: values that begin
// with "= ". Anything else is literal. The language is expr-lang's, with now, count,
// round and choice of Hodstone's own.
package expression

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"
)

// Prefix begins an expression.
const Prefix = "= "

// Funcs are the functions that depend on who asks. Each must be set.
type Funcs struct {
	// Now returns the time as RFC 3339 in UTC with milliseconds.
	Now func() string
	// Count returns how often this value was made before, from 0.
	Count func() int
	// Choice returns a number from 0 to n-1.
	Choice func(n int) int
}

// Template is a value whose parts may be expressions: a string, number, bool, nil, list or
// map of these. It is safe for concurrent use.
type Template struct {
	literal any
	program *vm.Program
	list    []*Template
	fields  map[string]*Template
}

// Error tells where an expression is wrong.
type Error struct {
	Source string // without the prefix
	Offset int    // in Source, in bytes
	Reason string
	Path   string // where in the template, such as "/mgl"
}

// Error says it on one line.
func (e *Error) Error() string { return fmt.Sprintf("expression %q: %s", e.Source, e.Reason) }

// Compile reads a template. Names that are neither in names nor functions are errors,
// of type [*Error].
func Compile(v any, names []string) (*Template, error) {
	env := types.Map{}
	for _, n := range names {
		env[n] = types.Any // a signal or payload may hold anything: only its name is checked
	}
	env["now"] = types.TypeOf(func() string { return "" })
	env["count"] = types.TypeOf(func() int { return 0 })
	env["round"] = types.TypeOf(round)
	env["choice"] = types.TypeOf(func(...any) any { return nil })
	options := []expr.Option{expr.Env(env), expr.DisableBuiltin("now"), expr.DisableBuiltin("count"), expr.DisableBuiltin("round")}
	return compile(v, "", options)
}

func compile(v any, at string, options []expr.Option) (*Template, error) {
	switch v := v.(type) {
	case string:
		source, is := strings.CutPrefix(v, Prefix)
		if !is {
			return &Template{literal: v}, nil
		}
		p, err := expr.Compile(source, options...)
		if err != nil {
			e := &Error{Source: source, Reason: err.Error(), Path: at}
			var fe *file.Error
			if errors.As(err, &fe) {
				e.Offset, e.Reason = fe.Column, fe.Message
			}
			return nil, e
		}
		return &Template{program: p}, nil
	case []any:
		t := &Template{list: []*Template{}}
		for i, x := range v {
			c, err := compile(x, fmt.Sprintf("%s/%d", at, i), options)
			if err != nil {
				return nil, err
			}
			t.list = append(t.list, c)
		}
		return t, nil
	case map[string]any:
		t := &Template{fields: map[string]*Template{}}
		keys := make([]string, 0, len(v))
		for k := range v {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			c, err := compile(v[k], at+"/"+k, options)
			if err != nil {
				return nil, err
			}
			t.fields[k] = c
		}
		return t, nil
	}
	return &Template{literal: v}, nil
}

func round(x any, digits int) (float64, error) {
	var f float64
	switch n := x.(type) {
	case float64:
		f = n
	case int:
		f = float64(n)
	default:
		return 0, fmt.Errorf("round needs a number, got %v", x)
	}
	p := math.Pow10(digits)
	return math.Round(f*p) / p, nil
}

// Eval makes the value. names hold what Compile was told of; what is missing is nil.
func (t *Template) Eval(names map[string]any, f Funcs) (any, error) {
	env := make(map[string]any, len(names)+4)
	for k, v := range names {
		env[k] = v
	}
	env["now"] = f.Now
	env["count"] = f.Count
	env["round"] = round
	env["choice"] = func(options ...any) any {
		if len(options) == 0 {
			return nil
		}
		return options[f.Choice(len(options))]
	}
	return t.eval(env)
}

func (t *Template) eval(env map[string]any) (any, error) {
	switch {
	case t.program != nil:
		v, err := expr.Run(t.program, env)
		if err != nil {
			var fe *file.Error
			if errors.As(err, &fe) {
				return nil, fmt.Errorf("expression %q: %s", t.program.Source().String(), fe.Message)
			}
			return nil, fmt.Errorf("expression %q: %w", t.program.Source().String(), err)
		}
		return v, nil
	case t.list != nil:
		out := make([]any, len(t.list))
		for i, x := range t.list {
			v, err := x.eval(env)
			if err != nil {
				return nil, err
			}
			out[i] = v
		}
		return out, nil
	case t.fields != nil:
		out := make(map[string]any, len(t.fields))
		for k, x := range t.fields {
			v, err := x.eval(env)
			if err != nil {
				return nil, err
			}
			out[k] = v
		}
		return out, nil
	}
	return t.literal, nil
}
