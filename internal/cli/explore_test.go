package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestExploringFromACommand: what is found is told with its steps and packets, and as a document; the same command says
// no where it must not.
func TestExploringFromACommand(t *testing.T) {
	t.Parallel()
	demo := demoFolder(t)
	people := filepath.Join(t.TempDir(), "found.html")
	code, out, errOut := run(
		"prove",
		demo,
		"--explore",
		"1s",
		"--seed",
		"4",
		"--fault",
		"retain.not-stored",
		"--report",
		people,
	)
	if code != 1 || !strings.Contains(out, "✗ broken      explored.stored") || !strings.Contains(out, "seed 4, for 1s") || !strings.Contains(out, " 1  ") ||
		!strings.Contains(out, "◆ +") || !strings.Contains(out, "pairs of actions were tried") ||
		!strings.Contains(errOut+out, "conversation") {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	if b, err := os.ReadFile(
		people,
	); err != nil ||
		!strings.Contains(string(b), "what is stored greets a new subscription") {
		t.Errorf("the report: %v", err)
	}
	code, out, errOut = run(
		"prove",
		demo,
		"--broker",
		"quay/ws",
		"--explore",
		"1s",
		"--protocol-version",
		"3.1",
		"--json",
	)
	if code != 0 || !strings.Contains(out, `"name": "explored"`) || !strings.Contains(out, `"kept": 1`) {
		t.Errorf("exit %d\n%s%s", code, out, errOut)
	}
	for _, tt := range []struct{ args, want string }{
		{"--explore 1s --check will", "do not go with --explore"}, {"--seed 4", "--seed goes with it"}, {"--explore -1s", "such as 60s"},
		{"--explore 1s --broker quay/tcp --broker quay/ws", "one broker at a time"},
	} {
		if code, _, errOut := run(
			append([]string{"prove", demo}, strings.Fields(tt.args)...)...); code != 2 ||
			!strings.Contains(errOut, tt.want) {
			t.Errorf("%s: exit %d %s", tt.args, code, errOut)
		}
	}
	if code, _, errOut := run(
		"prove",
		"--url",
		"mqtt://127.0.0.1:1",
		"--explore",
		"1s",
	); code != 2 ||
		!strings.Contains(errOut, "--intrusive") {
		t.Errorf("a broker that is not ours: exit %d %s", code, errOut)
	}
	if code, _, errOut := run(
		"prove",
		"--url",
		"mqtt://127.0.0.1:1",
		"--explore",
		"1s",
		"--intrusive",
	); code != 3 ||
		!strings.Contains(errOut, "not reached") {
		t.Errorf("nobody there: exit %d %s", code, errOut)
	}
}
