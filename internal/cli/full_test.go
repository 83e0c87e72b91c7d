package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestWhatCannotBeWrittenTakesNothingFromTheRest: on a full disk each file is told on a line of its own, and the verdicts
// and the files that can be written are there.
func TestWhatCannotBeWrittenTakesNothingFromTheRest(t *testing.T) {
	t.Parallel()
	junit := filepath.Join(t.TempDir(), "j.xml")
	code, out, errOut := run(
		"prove",
		demoFolder(t),
		"--check",
		"connect.accepted",
		"--save",
		"/dev/full",
		"--tables",
		"/dev/full",
		"--junit",
		junit,
	)
	if lines := strings.Split(
		strings.TrimSpace(errOut),
		"\n",
	); code != 2 || len(lines) != 2 || !strings.Contains(out, "3 kept, 0 broken") ||
		!strings.HasPrefix(lines[0], "hodstone: the tables could not be written") ||
		!strings.HasPrefix(lines[1], "hodstone: the proof could not be written") {
		t.Errorf("exit %d\n%s\n%s", code, out, errOut)
	}
	if b, err := os.ReadFile(junit); err != nil || strings.Count(string(b), "<testcase") != 3 {
		t.Errorf("%s", b)
	}
}
