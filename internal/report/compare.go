package report

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
)

// Change is a check in one version whose verdict differs between two proofs.
type Change struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	// Before and Now are the verdicts; "" where the check was not part of the proof.
	Before string `json:"before"`
	Now    string `json:"now"`
	// SeenBefore and SeenNow are what was seen.
	SeenBefore string `json:"seen_before"`
	SeenNow    string `json:"seen_now"`
	// Course tells which way it went.
	Course Course `json:"course"`
}

// Course is which way a change goes.
type Course string

// The courses.
const (
	Worse  Course = "worse"
	Better Course = "better"
	// Otherwise is neither: a check that was not asked for, or that is not part of one of them.
	Otherwise Course = "otherwise"
)

// Comparison is what differs between two proofs.
type Comparison struct {
	Before  Origin   `json:"before"`
	Now     Origin   `json:"now"`
	Changes []Change `json:"changes"`
	// Same is how many verdicts are the same.
	Same int `json:"same"`
}

// JSON writes it as one document.
func (c *Comparison) JSON(w io.Writer) error { return writeJSON(w, c) }

// Origin says where a proof comes from.
type Origin struct {
	Broker   string `json:"broker"`
	Listener string `json:"listener"`
	Started  string `json:"started"`
}

func (d *Document) origin() Origin { return Origin{d.Broker, d.Listener, d.Started} }

// String says it on a line.
func (o Origin) String() string {
	s := o.Broker + ", " + o.Listener
	if o.Started != "" {
		s += ", " + o.Started
	}
	return s
}

// Count returns how many changes go a way.
func (c *Comparison) Count(course Course) (n int) {
	for _, x := range c.Changes {
		if x.Course == course {
			n++
		}
	}
	return n
}

// ranks orders the verdicts by how much a broker can be relied on.
var ranks = map[string]int{string(proof.Kept): 0, string(proof.Unsupported): 1, string(proof.Undecided): 2, string(proof.Broken): 3}

// courseOf tells which way a check went. What was broken before and is broken in a way that was not seen before went worse; what
// is broken or undecided and was not part of the proof before did so too, for nobody has accepted it. What was not asked for
// says nothing.
func courseOf(before, now *CheckRecord) (Course, bool) {
	skipped := string(proof.Skipped)
	switch {
	case now == nil, now.Verdict == skipped && (before == nil || before.Verdict != skipped):
		return Otherwise, before != nil && before.Verdict != skipped
	case before == nil, before.Verdict == skipped:
		if ranks[now.Verdict] >= ranks[string(proof.Undecided)] {
			return Worse, true
		}
		return Otherwise, now.Verdict != skipped
	case now.Verdict != before.Verdict && ranks[now.Verdict] > ranks[before.Verdict]:
		return Worse, true
	case now.Verdict != before.Verdict:
		return Better, true
	case now.Verdict != string(proof.Broken):
		return "", false
	}
	was := ways(before.Seen)
	is := ways(now.Seen)
	if slices.ContainsFunc(is, func(w string) bool { return !slices.Contains(was, w) }) {
		return Worse, true
	}
	return Better, len(is) < len(was)
}

// ways are the ways in which a check is broken, without what differs from run to run: numbers, and the run's own topics.
func ways(seen string) (out []string) {
	for _, part := range strings.Split(seen, "; ") {
		words := strings.Fields(part)
		for i, w := range words {
			switch {
			case strings.Contains(w, proof.TopicRoot+"/"):
				words[i] = proof.TopicRoot
			case strings.ContainsAny(w, "0123456789") && !strings.HasPrefix(w, "(§"):
				words[i] = "#"
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	return out
}

// Compare tells what differs between two proofs, in the order of the later one.
func Compare(before, now *Document) *Comparison {
	c := &Comparison{Before: before.origin(), Now: now.origin(), Changes: []Change{}}
	find := func(d *Document, name, version string) *CheckRecord {
		for i := range d.Checks {
			if x := &d.Checks[i]; x.Name == name && x.Version == version {
				return x
			}
		}
		return nil
	}
	look := func(was, is *CheckRecord) {
		course, differs := courseOf(was, is)
		if !differs {
			if was != nil && is != nil {
				c.Same++
			}
			return
		}
		x := Change{Course: course}
		if was != nil {
			x.Name, x.Version, x.Before, x.SeenBefore = was.Name, was.Version, was.Verdict, was.Seen
		}
		if is != nil {
			x.Name, x.Version, x.Now, x.SeenNow = is.Name, is.Version, is.Verdict, is.Seen
		}
		c.Changes = append(c.Changes, x)
	}
	for i := range now.Checks {
		look(find(before, now.Checks[i].Name, now.Checks[i].Version), &now.Checks[i])
	}
	for i := range before.Checks {
		if b := &before.Checks[i]; find(now, b.Name, b.Version) == nil {
			look(b, nil)
		}
	}
	return c
}

// courseMarks are what stands before a change.
var courseMarks = map[Course]string{Worse: "↓ worse", Better: "↑ better", Otherwise: "· changed"}

// Write writes what differs as lines, the worse first.
func (c *Comparison) Write(w io.Writer) error {
	if _, err := plain.Fprintf(w, "against %s:\n", c.Before); err != nil {
		return err
	}
	for _, course := range []Course{Worse, Better, Otherwise} {
		for _, x := range c.Changes {
			if x.Course != course {
				continue
			}
			if _, err := plain.Fprintf(w, "%-9s  %-26s %-5s  %s → %s\n", courseMarks[course], x.Name, x.Version, orAbsent(x.Before), orAbsent(x.Now)); err != nil {
				return err
			}
			for _, seen := range []struct{ when, text string }{{"before", x.SeenBefore}, {"now", x.SeenNow}} {
				if seen.text != "" && course != Otherwise {
					if _, err := plain.Fprintf(w, "    %-7s %s\n", seen.when+":", seen.text); err != nil {
						return err
					}
				}
			}
		}
	}
	_, err := plain.Fprintf(w, "%d worse, %d better, %d otherwise, %d the same\n", c.Count(Worse), c.Count(Better), c.Count(Otherwise), c.Same)
	return err
}

func orAbsent(verdict string) string {
	if verdict == "" {
		return "not part of it"
	}
	return verdict
}

// ReadDocument reads a proof that [JSON] has written.
func ReadDocument(r io.Reader) (*Document, error) {
	var d Document
	if err := json.NewDecoder(r).Decode(&d); err != nil {
		return nil, fmt.Errorf("it is no proof as 'hodstone prove --save' or '--json' writes it: %w", err)
	}
	if d.Checks == nil || d.Broker == "" {
		return nil, fmt.Errorf("it is no proof as 'hodstone prove --save' or '--json' writes it: it has no checks or names no broker")
	}
	for _, c := range d.Checks {
		if _, known := ranks[c.Verdict]; !known && c.Verdict != string(proof.Skipped) {
			return nil, fmt.Errorf("%s in version %s has the verdict %q, which there is not", c.Name, c.Version, c.Verdict)
		}
	}
	return &d, nil
}
