package main

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"
)

// floors gives every package its floor, as docs/architecture.md has it. A package may
// import only packages on floors below its own, or packages inside its own folder.
var floors = map[string]int{
	"hodstone/cmd/hodstone":          11,
	"hodstone/internal/cli":          10,
	"hodstone/internal/tui":          10,
	"hodstone/internal/workbench":    9,
	"hodstone/internal/report":       8,
	"hodstone/internal/proof":        7,
	"hodstone/internal/trial":        8,
	"hodstone/internal/device":       6,
	"hodstone/internal/sending":      6,
	"hodstone/internal/reach":        6,
	"hodstone/internal/workspace":    5,
	"hodstone/internal/contract":     4,
	"hodstone/internal/record":       4,
	"hodstone/internal/history":      4,
	"hodstone/internal/tap":          4,
	"hodstone/internal/fleet":        4,
	"hodstone/internal/trace":        3,
	"hodstone/internal/mqtt/client":  2,
	"hodstone/internal/mqtt/standin": 2,
	"hodstone/internal/brokertest":   2,
	"hodstone/internal/mqtt/link":    1,
	"hodstone/internal/mqtt/auth":    1,
	"hodstone/internal/mqtt/packet":  1,
	"hodstone/internal/mqtt/topic":   1,
	"hodstone/internal/payload":      1,
	"hodstone/internal/plain":        1,
	"hodstone/internal/infile":       1,
	"hodstone/internal/draw":         1,
	"hodstone/internal/meter":        1,
	"hodstone/internal/trust":        1,
	"hodstone/internal/expression":   1,
	"hodstone/demo":                  1,
}

// inside are the folders below a package, innermost floor first: each may import
// those before it.
var inside = map[string][]string{
	"hodstone/internal/tui":          {"look", "sequence", "say", "contract devices load proof reach trust wire", ""},
	"hodstone/internal/contract":     {"", "rule", "lint draft compare asyncapi points"},
	"hodstone/internal/proof":        {"", "model", "explore", "check", "subject", "prooftest"},
	"hodstone/internal/mqtt/standin": {"", "fault"},
}

// forbidden lists what a package must not know, wherever it stands.
var forbidden = map[string][]string{
	"charm.land/": {
		"hodstone/internal/cli",
		"hodstone/internal/workbench",
		"hodstone/internal/report",
		"hodstone/internal/proof",
		"hodstone/internal/device",
	},
	"net": {
		"hodstone/internal/tui",
		"hodstone/internal/contract",
		"hodstone/internal/mqtt/packet",
		"hodstone/internal/mqtt/topic",
	},
	"os": {
		"hodstone/internal/tui",
		"hodstone/internal/contract",
		"hodstone/internal/proof",
		"hodstone/internal/trace",
		"hodstone/internal/device",
	},
	"testing":       {"hodstone/"},
	"hodstone/demo": {"hodstone/internal/workbench", "hodstone/internal/tui"},
}

type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) []listed {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "hodstone/...")
	cmd.Dir = "../.."
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []listed
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p listed
		if err := d.Decode(&p); err != nil {
			t.Fatal(err)
		}
		all = append(all, p)
	}
	return all
}

// floor returns the floor of a package, and its rank within its folder.
func floor(t *testing.T, path string) (root string, height, rank int) {
	for p, h := range floors {
		if path == p {
			root, height = p, h
		} else if below, ok := strings.CutPrefix(path, p+"/"); ok && inside[p] != nil {
			for i, names := range inside[p] {
				if strings.Contains(" "+names+" ", " "+below+" ") {
					return p, h, i
				}
			}
			t.Errorf("%s has no place inside %s: give it one", path, p)
		}
	}
	if root == "" {
		t.Errorf("%s stands on no floor: give it one here and in docs/architecture.md", path)
	}
	for i, names := range inside[root] {
		if names == "" { // the package itself
			return root, height, i
		}
	}
	return root, height, len(inside[root])
}

// wrong tells why a package may not import another, or "".
func wrong(t *testing.T, from, to string) string {
	for what, packages := range forbidden {
		if to != what && !(strings.HasSuffix(what, "/") && strings.HasPrefix(to, what)) {
			continue
		}
		for _, p := range packages {
			if from == p || strings.HasPrefix(from, strings.TrimSuffix(p, "/")+"/") {
				return "it must not know " + what
			}
		}
	}
	if !strings.HasPrefix(to, "hodstone/") {
		return ""
	}
	fromRoot, fromHeight, fromRank := floor(t, from)
	toRoot, toHeight, toRank := floor(t, to)
	switch {
	case fromRoot == toRoot && toRank < fromRank:
	case fromHeight <= toHeight:
		return "that is not on a floor below"
	}
	return ""
}

// fixture tells whether a package is for tests alone.
func fixture(path string) bool {
	return path == "hodstone/internal/brokertest" || path == "hodstone/internal/proof/prooftest"
}

func TestFloors(t *testing.T) {
	all := packages(t)
	if len(all) < len(floors) {
		t.Fatalf("only %d packages found", len(all))
	}
	for _, p := range all {
		for _, i := range p.Imports {
			why := wrong(t, p.ImportPath, i)
			switch {
			case fixture(p.ImportPath):
				why = "" // it is for tests
			case fixture(i):
				why = "only tests may"
			}
			if why != "" {
				t.Errorf("%s imports %s: %s", p.ImportPath, i, why)
			}
		}
	}
	// The rule itself can tell up from down.
	for _, bad := range [][2]string{{"hodstone/internal/mqtt/packet", "hodstone/internal/trace"},
		{"hodstone/internal/trace", "hodstone/internal/contract"},
		{"hodstone/internal/mqtt/client", "hodstone/internal/mqtt/standin"},
		{"hodstone/internal/tui/look", "hodstone/internal/tui/wire"},
		{"hodstone/internal/cli", "charm.land/lipgloss/v2"}} {
		if wrong(t, bad[0], bad[1]) == "" {
			t.Errorf("%s may import %s", bad[0], bad[1])
		}
	}
}
