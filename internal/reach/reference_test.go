package reach

import (
	"flag"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/causes.md anew")

// TestReference: every cause of the source stands in the document, once, and the document is that
// of the source.
func TestReference(t *testing.T) {
	const file = "../../docs/causes.md"
	if *update {
		if err := os.WriteFile(file, []byte(Reference()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if b, err := os.ReadFile(file); err != nil || string(b) != Reference() {
		t.Errorf("%s is not that of the source: run 'make docs' (%v)", file, err)
	}
	parsed, err := parser.ParseFile(token.NewFileSet(), "cause.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	ast.Inspect(parsed, func(x ast.Node) bool {
		v, ok := x.(*ast.ValueSpec)
		if !ok || len(v.Values) != 1 {
			return true
		}
		if kind, ok := v.Type.(*ast.Ident); ok && kind.Name == "Cause" {
			n++
			name := strings.Trim(v.Values[0].(*ast.BasicLit).Value, `"`)
			if got := strings.Count(Reference(), "| `"+name+"` |"); got != 1 {
				t.Errorf("%s stands in the document %d times", name, got)
			}
		}
		return true
	})
	if n != len(Meanings) || n < 60 {
		t.Errorf("%d causes in the source, %d in the document", n, len(Meanings))
	}
}
