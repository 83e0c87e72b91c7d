package report

import (
	"fmt"
	"io"
	"strings"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
)

// Sides are proofs of several brokers or listeners, side by side.
type Sides struct {
	Proofs []Document `json:"proofs"`
	// Differences are the checks whose verdict is not the same everywhere, and those that are broken or undecided
	// anywhere.
	Differences []Difference `json:"differences"`
}

// Difference is a check in one version with what came of it at each side, in their order.
type Difference struct {
	Name    string       `json:"name"`
	Version string       `json:"version"`
	At      []SideResult `json:"at"`
}

// SideResult is a verdict at one side; "" where the check was not part of the proof.
type SideResult struct {
	Verdict string `json:"verdict"`
	Seen    string `json:"seen"`
}

// SideBySide tells what differs between proofs.
func SideBySide(docs []Document) *Sides {
	s := &Sides{Proofs: docs, Differences: []Difference{}}
	done := map[string]bool{}
	for _, d := range docs {
		for _, c := range d.Checks {
			if key := c.Name + " " + c.Version; done[key] {
				continue
			} else {
				done[key] = true
			}
			x := Difference{Name: c.Name, Version: c.Version}
			differs := false
			for i := range docs {
				var at SideResult
				for k := range docs[i].Checks {
					if y := &docs[i].Checks[k]; y.Name == c.Name && y.Version == c.Version {
						at = SideResult{y.Verdict, y.Seen}
					}
				}
				x.At = append(x.At, at)
				differs = differs || at.Verdict != x.At[0].Verdict || at.Verdict == string(proof.Broken) ||
					at.Verdict == string(proof.Undecided)
			}
			if differs {
				s.Differences = append(s.Differences, x)
			}
		}
	}
	return s
}

// OK tells whether nothing is broken or undecided anywhere.
func (s *Sides) OK() bool {
	for _, d := range s.Proofs {
		if d.Summary.Broken+d.Summary.Undecided > 0 {
			return false
		}
	}
	return true
}

// JSON writes them as one document.
func (s *Sides) JSON(w io.Writer) error { return writeJSON(w, s) }

// Write writes the sides with a number each, and what differs, a column for each side.
func (s *Sides) Write(w io.Writer) error {
	var b strings.Builder
	for i, d := range s.Proofs {
		plain.Fprintf(
			&b,
			"[%d] %s\n    %s\n",
			i+1,
			d.origin(),
			SummaryLine(map[proof.Verdict]int{
				proof.Kept:        d.Summary.Kept,
				proof.Broken:      d.Summary.Broken,
				proof.Unsupported: d.Summary.Unsupported,
				proof.Undecided:   d.Summary.Undecided,
				proof.Skipped:     d.Summary.Skipped,
			}),
		)
	}
	plain.Fprintf(&b, "\n%-26s %-5s", "check", "MQTT")
	for i := range s.Proofs {
		plain.Fprintf(&b, "  %-13s", fmt.Sprintf("[%d]", i+1))
	}
	b.WriteByte('\n')
	for _, x := range s.Differences {
		plain.Fprintf(&b, "%-26s %-5s", x.Name, x.Version)
		for _, at := range x.At {
			text := "–"
			if at.Verdict != "" {
				text = Sign(proof.Verdict(at.Verdict)) + " " + at.Verdict
			}
			plain.Fprintf(&b, "  %-13s", text)
		}
		b.WriteByte('\n')
		for i, at := range x.At {
			if at.Verdict != "" && at.Verdict != string(proof.Kept) || i == 0 && at.Verdict != "" {
				plain.Fprintf(&b, "    [%d] %s\n", i+1, at.Seen)
			}
		}
	}
	if len(s.Differences) == 0 {
		b.WriteString("nothing differs, and nothing is broken\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}
