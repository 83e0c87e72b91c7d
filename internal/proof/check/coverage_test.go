package check

import (
	flags "flag"
	"os"
	"slices"
	"strings"
	"testing"

	"hodstone/internal/mqtt/packet"
)

// TestReferenceOfSections: what is asked of a server is held by a check, in each version that asks it, or is not seen
// for a reason; each section that a check names is in the table; the document is that of the source.
func TestReferenceOfSections(t *testing.T) {
	of := func(d demand, v packet.Version) string {
		if v == packet.V5 {
			return d.v5
		}
		return d.v311
	}
	for _, v := range []packet.Version{packet.V311, packet.V5} {
		var listed []string
		for _, d := range demands {
			section := of(d, v)
			if section == "" {
				continue
			}
			if slices.Contains(listed, section) {
				t.Errorf("%s §%s stands in the table twice", v, section)
			}
			listed = append(listed, section)
			if len(holding(v, section)) == 0 && d.unseen == "" {
				t.Errorf("%s §%s, %s: no check holds a server to it, and no reason is given", v, section, d.what)
			}
			if d.what == "" {
				t.Errorf("%s §%s asks nothing", v, section)
			}
		}
		for _, c := range All() {
			for _, s := range strings.Split(c.Section(v), ", ") {
				if s != "" && !c.Sections.Elsewhere() && !slices.Contains(listed, s) {
					t.Errorf("%s rests on %s §%s, which is not in the table", c.Name, v, s)
				}
			}
		}
		for _, m := range malformedPackets {
			if s := m.section(v); s != "" && !slices.Contains(listed, s) {
				t.Errorf("%s rests on %s §%s, which is not in the table", m.name, v, s)
			}
		}
	}
	const file = "../../../docs/coverage.md"
	if f := flags.Lookup("update"); f != nil && f.Value.String() == "true" {
		if err := os.WriteFile(file, []byte(Coverage()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if b, err := os.ReadFile(file); err != nil || string(b) != Coverage() {
		t.Errorf("%s is not that of the source: run 'make docs' (%v)", file, err)
	}
}
