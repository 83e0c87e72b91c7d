// Package expression evaluates the expressions of a workspace: values that begin
// with "= ". Anything else is literal. The language is expr-lang's, with now, count,
// round and choice of Hodstone's own.
package expression

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
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

// Object is a JSON object that keeps the order in which its members are written.
type Object []Member

// Member is one member of an [Object].
type Member struct {
	Key   string
	Value any
}

// Member returns the value of the member with a name.
func (o Object) Member(name string) (any, bool) {
	for i := range o {
		if o[i].Key == name {
			return o[i].Value, true
		}
	}
	return nil, false
}

// MarshalJSON implements [json.Marshaler].
func (o Object) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		key, err := json.Marshal(m.Key)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(m.Value)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, key...), ':'), value...)
	}
	return append(b, '}'), nil
}

// Template is a value whose parts may be expressions: a string, number, bool, nil, list or
// [Object] of these. It is safe for concurrent use.
type Template struct {
	literal any
	program *vm.Program
	names   []string // that the program reads
	list    []*Template
	members []member
}

type member struct {
	key   string
	value *Template
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
	env[plusName] = types.TypeOf(plus)
	env[stepName] = types.TypeOf(steps())
	env["join"] = types.TypeOf(join)
	env["replace"] = types.TypeOf(replace)
	options := []expr.Option{expr.Env(env), expr.MaxNodes(maxNodes), expr.Patch(&limiter{})}
	for _, name := range []string{"now", "count", "round", "repeat", "join", "replace"} {
		options = append(options, expr.DisableBuiltin(name))
	}
	return compile(v, "", options)
}

func compile(v any, at string, options []expr.Option) (*Template, error) {
	switch v := v.(type) {
	case string:
		source, is := strings.CutPrefix(v, Prefix)
		if !is {
			return &Template{literal: v}, nil
		}
		if len(source) > maxSource {
			return nil, &Error{Source: source[:40] + "…", Path: at,
				Reason: fmt.Sprintf("it has %d bytes; an expression has %d at most", len(source), maxSource)}
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
		read := &reads{}
		node := p.Node()
		ast.Walk(&node, read)
		return &Template{program: p, names: read.names}, nil
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
	case Object:
		t := &Template{members: []member{}}
		for _, m := range v {
			c, err := compile(m.Value, at+"/"+m.Key, options)
			if err != nil {
				return nil, err
			}
			t.members = append(t.members, member{m.Key, c})
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

// reads gathers the names that a program reads.
type reads struct{ names []string }

// Visit implements [ast.Visitor].
func (r *reads) Visit(node *ast.Node) {
	if n, is := (*node).(*ast.IdentifierNode); is {
		r.names = append(r.names, n.Value)
	}
}

// Reads tells whether an expression of the template reads a name; a nil template reads none.
func (t *Template) Reads(name string) bool {
	if t == nil {
		return false
	}
	return slices.Contains(t.names, name) ||
		slices.ContainsFunc(t.list, func(x *Template) bool { return x.Reads(name) }) ||
		slices.ContainsFunc(t.members, func(m member) bool { return m.value.Reads(name) })
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
	env[plusName], env[stepName], env["join"], env["replace"] = plus, steps(), join, replace
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
		machine := vm.VM{MemoryBudget: maxElements}
		v, err := machine.Run(t.program, env)
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
	case t.members != nil:
		out := make(Object, len(t.members))
		for i, m := range t.members {
			v, err := m.value.eval(env)
			if err != nil {
				return nil, err
			}
			out[i] = Member{m.key, v}
		}
		return out, nil
	}
	return t.literal, nil
}
