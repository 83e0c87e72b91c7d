package expression

import (
	"fmt"
	"strings"
	"time"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"
)

// What an expression may take: it stands in a file that somebody else may have written, and reads
// messages that anybody may have sent.
const (
	maxSource   = 16 << 10 // bytes
	maxNodes    = 500      // of its syntax tree
	maxElements = 20_000   // of the lists and mappings that it makes, in all
	maxText     = 1 << 20  // bytes of a text that it makes
	maxSteps    = 100_000  // through lists, in all: those that came may be long
	maxTime     = 2 * time.Second
)

// plusName is what stands in place of +, so that a text cannot grow without end: doubled thirty
// times, one character fills the memory.
const plusName = "hodstone_plus"

// stepName is what stands around what is asked of each element of a list.
const stepName = "hodstone_step"

// limiter puts [plus] in place of every +, and a step around what is asked of each element.
type limiter struct{}

// Visit implements [ast.Visitor].
func (*limiter) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.BinaryNode:
		if n.Operator == "+" {
			ast.Patch(node, call(plusName, n.Left, n.Right))
		}
	case *ast.PredicateNode:
		n.Node = call(stepName, n.Node)
	}
}

func call(name string, arguments ...ast.Node) ast.Node {
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: arguments}
}

// steps returns what counts the steps of one evaluation. What a step takes depends on what came too, a text to be
// searched say: so it has a limit of time as well, by the computer's clock.
func steps() func(any) (any, error) {
	n, until := 0, time.Now().Add(maxTime)
	return func(x any) (any, error) {
		switch n++; {
		case n > maxSteps:
			return nil, fmt.Errorf("it goes through more than %d elements", maxSteps)
		case n%16 == 0 && time.Now().After(until):
			return nil, fmt.Errorf("it takes longer than %s", maxTime)
		}
		return x, nil
	}
}

func tooLong(n int) error {
	return fmt.Errorf("a text of %d bytes: an expression makes %d at most", n, maxText)
}

func plus(a, b any) (any, error) {
	if x, is := a.(string); is {
		if y, is := b.(string); is && len(x)+len(y) > maxText {
			return nil, tooLong(len(x) + len(y))
		}
	}
	return runtime.Add(a, b), nil
}

// join puts texts together, with another between them.
func join(list []any, between ...string) (any, error) {
	with := strings.Join(between, "")
	n := 0
	texts := make([]string, len(list))
	for i, x := range list {
		s, is := x.(string)
		if !is {
			return nil, fmt.Errorf("join takes texts, not %v", x)
		}
		texts[i] = s
		if n += len(s) + len(with); n > maxText {
			return nil, tooLong(n)
		}
	}
	return strings.Join(texts, with), nil
}

// replace puts one text in place of another, everywhere.
func replace(s, old, with string) (any, error) {
	if n := len(s) + strings.Count(s, old)*len(with); n > maxText {
		return nil, tooLong(n)
	}
	return strings.ReplaceAll(s, old, with), nil
}
