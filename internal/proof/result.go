package proof

import (
	"errors"
	"fmt"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trace"
)

// Verdict is how a check ended.
type Verdict string

// The verdicts.
const (
	Kept        Verdict = "kept"        // seen as the standard demands
	Broken      Verdict = "broken"      // seen otherwise
	Unsupported Verdict = "unsupported" // the broker says that it does not offer this
	Undecided   Verdict = "undecided"   // the check could not be carried out
	Skipped     Verdict = "skipped"     // not asked for, or not meant for this version
)

// Verdicts lists them in the order in which they are counted.
var Verdicts = []Verdict{Kept, Broken, Unsupported, Undecided, Skipped}

// outcome is a verdict other than kept, as an error.
type outcome struct {
	verdict Verdict
	text    string
}

func (o *outcome) Error() string { return string(o.verdict) + ": " + o.text }

// said formats a text. Of an outcome among args it is what that says: its verdict is not that of the check.
func said(format string, args []any) string {
	for i, x := range args {
		if o, is := x.(*outcome); is {
			args[i] = o.text
		}
	}
	return fmt.Sprintf(format, args...)
}

// Break ends a check as broken: what was seen instead.
func Break(format string, args ...any) error { return &outcome{Broken, said(format, args)} }

// Undecide ends a check that could not be carried out.
func Undecide(format string, args ...any) error {
	return &outcome{Undecided, said(format, args)}
}

// Unsupport ends a check of what the broker says it does not offer.
func Unsupport(format string, args ...any) error {
	return &outcome{Unsupported, said(format, args)}
}

// Skip ends a check that is not asked for.
func Skip(format string, args ...any) error { return &outcome{Skipped, fmt.Sprintf(format, args...)} }

// Result is a verdict with what it rests on.
type Result struct {
	Check    *Check
	Version  packet.Version // 0 for what is no matter of one
	Verdict  Verdict
	Took     time.Duration
	Expected string
	Seen     string
	Notes    []string
	Steps    []Step
	Evidence []trace.Event
	// Decisive are the numbers of the events that the verdict rests on, in their order.
	Decisive []uint64
	Clients  []string // of the evidence, in the order in which the check made them
	Tables   []Table
	At       time.Time
}

// In is the version of MQTT that the check was carried out in; "" for what is no matter of one, such as a trial.
func (r *Result) In() string {
	if r.Version == 0 {
		return ""
	}
	return r.Version.String()
}

// Decided returns the events that the verdict rests on.
func (r *Result) Decided() (out []trace.Event) {
	for _, seq := range r.Decisive {
		for i := range r.Evidence {
			if r.Evidence[i].Seq == seq {
				out = append(out, r.Evidence[i])
			}
		}
	}
	return out
}

// Step is one thing that a check did.
type Step struct {
	At   time.Duration // since the check began
	Seq  uint64        // the evidence's event that came next
	Text string
}

// Table is something that a check shows besides its verdict: what came of every pairing of two things.
type Table struct {
	Title string
	// Note says how a cell is read.
	Note string
	// Across and Down say what the columns and rows are; Columns and Rows name them.
	Across, Down  string
	Columns, Rows []string
	Cells         [][]Cell // by row, then column
}

// Cell is what came of one pairing.
type Cell struct {
	Text string
	// Words say the same in full; "" where Text does.
	Words string
	// Verdict is "" where it was not tried.
	Verdict Verdict
}

// InWords tells the cell in full.
func (c *Cell) InWords() string {
	if c.Words != "" {
		return c.Words
	}
	return c.Text
}

// NewTable returns a table of cells that were not tried.
func NewTable(title, note, down, across string, rows, columns []string) *Table {
	t := &Table{Title: title, Note: note, Down: down, Across: across, Rows: rows, Columns: columns}
	for range rows {
		t.Cells = append(t.Cells, make([]Cell, len(columns)))
	}
	return t
}

// Proof is one run of checks.
type Proof struct {
	Target  Target
	Run     string
	Started time.Time
	Took    time.Duration
	Results []Result // in the order of the catalogue, then by version
	Offer   Offer
	// Facts are what the broker tells of itself, before and after; nil where it tells nothing. Whatever else spoke to it
	// meanwhile is counted there too.
	Facts []Fact
	// Doors were found open at the broker; nil where nobody looked.
	Doors []reach.Door
}

// Counts returns how many results have each verdict.
func (p *Proof) Counts() map[Verdict]int {
	out := map[Verdict]int{}
	for _, r := range p.Results {
		out[r.Verdict]++
	}
	return out
}

// OK tells whether nothing is broken or undecided.
func (p *Proof) OK() bool {
	n := p.Counts()
	return n[Broken]+n[Undecided] == 0
}

// VerdictOf returns the verdict that an error ends a check with: undecided for one that is no outcome, kept
// for nil.
func VerdictOf(err error) Verdict {
	var o *outcome
	switch {
	case err == nil:
		return Kept
	case errors.As(err, &o):
		return o.verdict
	}
	return Undecided
}
