package expression

import (
	"fmt"
	"strings"

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
)

// plusName is what stands in place of +, so that a text cannot grow without end: doubled thirty
// times, one character fills the memory.
const plusName = "hodstone_plus"

// limiter puts [plus] in place of every +.
type limiter struct{}

// Visit implements [ast.Visitor].
func (*limiter) Visit(node *ast.Node) {
	if b, is := (*node).(*ast.BinaryNode); is && b.Operator == "+" {
		ast.Patch(node, &ast.CallNode{
			Callee: &ast.IdentifierNode{Value: plusName}, Arguments: []ast.Node{b.Left, b.Right},
		})
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
