package check_test

import (
	"flag"
	"os"
	"strings"
	"testing"

	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof/check"
)

var update = flag.Bool("update", false, "write the document from the source")

// TestReference: docs/checks.md is that of the source; each check stands in it once, with a section and a fault, and has
// one that breaks no other.
func TestReference(t *testing.T) {
	const file = "../../../docs/checks.md"
	if *update {
		if err := os.WriteFile(file, []byte(check.Reference()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(file)
	if err != nil || string(b) != check.Reference() {
		t.Errorf("%s is not that of the source: run 'make docs' (%v)", file, err)
	}
	for _, c := range check.All() {
		if n := strings.Count(string(b), "\n| `"+c.Name+"`"); n != 1 {
			t.Errorf("%s stands in the document %d times", c.Name, n)
		}
		alone := c.Name == "login.right" // where it would be broken, no proof begins
		for _, f := range fault.All() {
			alone = alone || len(f.Breaks) == 1 && f.Breaks[0] == c.Name
		}
		if !alone {
			t.Errorf("no fault breaks %s alone", c.Name)
		}
	}
}
