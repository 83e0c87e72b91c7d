// Package report writes what was found for people and programs: a proof as JSON, JUnit
// XML and plain lines, and traces as sequences.
package report

import (
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
)

// Document is a proof as one JSON document.
type Document struct {
	Broker   string        `json:"broker"`
	Listener string        `json:"listener"`
	Started  string        `json:"started"` // RFC 3339, in UTC
	TookMS   float64       `json:"took_ms"`
	Checks   []CheckRecord `json:"checks"`
	Summary  Summary       `json:"summary"`
	// Doors were found open; it is left out where nobody looked.
	Doors []DoorRecord `json:"doors,omitzero"`
}

// CheckRecord is one check in one version.
type CheckRecord struct {
	Name     string   `json:"name"`
	Version  string   `json:"version"`
	Verdict  string   `json:"verdict"`
	TookMS   float64  `json:"took_ms"`
	Expected string   `json:"expected"`
	Seen     string   `json:"seen"`
	Standard string   `json:"standard"`
	Notes    []string `json:"notes"`
	// Decided are the packets that the verdict rests on, in their order, the last 20 of them.
	Decided []DecidedRecord `json:"decided,omitempty"`
	Tables  []TableRecord   `json:"tables,omitempty"`
}

// DecidedRecord is a packet that a verdict rests on.
type DecidedRecord struct {
	AtMS   float64 `json:"at_ms"` // since the check began
	Client string  `json:"client"`
	// Way is "sent" by the client or "received"; for what happened to the link, "link".
	Way    string `json:"way"`
	Packet string `json:"packet"`
	// Raw is in hexadecimal, with secrets masked; of longer packets the first bytes; Bytes is how long those are.
	Raw   string `json:"raw,omitempty"`
	Bytes int    `json:"bytes,omitempty"`
}

// TableRecord is a table that a check shows.
type TableRecord struct {
	Title   string         `json:"title"`
	Down    string         `json:"down"`
	Across  string         `json:"across"`
	Rows    []string       `json:"rows"`
	Columns []string       `json:"columns"`
	Cells   [][]CellRecord `json:"cells"`
}

// CellRecord is a cell of a table; its verdict is empty where it was not tried.
type CellRecord struct {
	Text string `json:"text"`
	// Words say the same in full, where the text is short.
	Words   string `json:"words,omitempty"`
	Verdict string `json:"verdict"`
}

// mostDecided is how many packets a report carries for one verdict.
const mostDecided = 20

// mostRaw is how many bytes of a packet a report carries.
const mostRaw = 512

func decided(r *proof.Result) (out []DecidedRecord) {
	all := r.Decided()
	for i := range all[max(0, len(all)-mostDecided):] {
		e := &all[max(0, len(all)-mostDecided)+i]
		d := DecidedRecord{
			AtMS:   float64(e.At.Sub(r.At).Microseconds()) / 1000,
			Client: e.Client,
			Way:    kindWords[e.Kind],
			Packet: e.Describe(),
			Raw:    hex.EncodeToString(e.Raw[:min(len(e.Raw), mostRaw)]),
		}
		if len(e.Raw) > mostRaw {
			d.Bytes = len(e.Raw)
		}
		out = append(out, d)
	}
	return out
}

func tables(r *proof.Result) (out []TableRecord) {
	for i := range r.Tables {
		t := &r.Tables[i]
		x := TableRecord{Title: t.Title, Down: t.Down, Across: t.Across, Rows: t.Rows, Columns: t.Columns}
		for _, row := range t.Cells {
			var cells []CellRecord
			for _, c := range row {
				cells = append(cells, CellRecord{c.Text, c.Words, string(c.Verdict)})
			}
			x.Cells = append(x.Cells, cells)
		}
		out = append(out, x)
	}
	return out
}

// Summary counts the verdicts.
type Summary struct {
	Kept        int `json:"kept"`
	Broken      int `json:"broken"`
	Unsupported int `json:"unsupported"`
	Undecided   int `json:"undecided"`
	Skipped     int `json:"skipped"`
}

// Standard names the sections that a result rests on, such as "MQTT 5.0 §3.1.2.5".
func Standard(r *proof.Result) string {
	section := r.Check.Section(r.Version)
	if section == "" {
		return ""
	}
	version := r.Version.String()
	if version == "5" {
		version = "5.0"
	}
	if r.Check.Sections.Elsewhere() {
		return section
	}
	if r.Version == 0 { // in each alike
		return "MQTT §" + strings.ReplaceAll(section, ", ", ", §")
	}
	return fmt.Sprintf("MQTT %s §%s", version, strings.ReplaceAll(section, ", ", ", §"))
}

// NewDocument turns a proof into its document.
func NewDocument(p *proof.Proof) Document {
	n := p.Counts()
	d := Document{Broker: p.Target.Broker, Listener: p.Target.Listener, Started: p.Started.UTC().Format(time.RFC3339),
		TookMS: float64(p.Took.Microseconds()) / 1000, Checks: []CheckRecord{},
		Summary: Summary{n[proof.Kept], n[proof.Broken], n[proof.Unsupported], n[proof.Undecided], n[proof.Skipped]}}
	for i := range p.Results {
		r := &p.Results[i]
		notes := r.Notes
		if notes == nil {
			notes = []string{}
		}
		d.Checks = append(
			d.Checks,
			CheckRecord{Name: r.Check.Name, Version: r.In(), Verdict: string(r.Verdict),
				TookMS: float64(
					r.Took.Microseconds(),
				) / 1000, Expected: r.Expected, Seen: r.Seen, Standard: Standard(r), Notes: notes,
				Decided: decided(r), Tables: tables(r)},
		)
	}
	d.Doors = doorRecords(p.Doors)
	return d
}

// JSON writes the proof as one JSON document.
func JSON(w io.Writer, p *proof.Proof) error { return writeJSON(w, NewDocument(p)) }

// writeJSON writes one document for people and programs.
func writeJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Name     string       `xml:"name,attr"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Errors   int          `xml:"errors,attr"`
	Time     string       `xml:"time,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name      string `xml:"name,attr"`
	Tests     int    `xml:"tests,attr"`
	Failures  int    `xml:"failures,attr"`
	Errors    int    `xml:"errors,attr"`
	Skipped   int    `xml:"skipped,attr"`
	Time      string `xml:"time,attr"`
	Timestamp string `xml:"timestamp,attr"`
	// Properties name the doors that were found open.
	Properties []junitProperty `xml:"properties>property,omitempty"`
	Cases      []junitCase     `xml:"testcase"`
}

type junitProperty struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

type junitCase struct {
	Class   string     `xml:"classname,attr"`
	Name    string     `xml:"name,attr"`
	Time    string     `xml:"time,attr"`
	Failure *junitText `xml:"failure"`
	Error   *junitText `xml:"error"`
	Skipped *junitText `xml:"skipped"`
	Out     string     `xml:"system-out,omitempty"`
}

type junitText struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// decidedLines writes the packets that a verdict rests on for people, one to a line.
func decidedLines(r *proof.Result) (out []string) {
	for _, d := range decided(r) {
		line := fmt.Sprintf("decided: %+.3f s %s %s %s", d.AtMS/1000, d.Client, d.Way, d.Packet)
		if d.Raw != "" {
			line += " = " + d.Raw
			if d.Bytes > 0 {
				line += fmt.Sprintf("… (%d bytes)", d.Bytes)
			}
		}
		out = append(out, line)
	}
	return out
}

// JUnit writes the proof as JUnit XML: a suite per version; broken is a failure,
// undecided an error, unsupported and skipped are skipped.
func JUnit(w io.Writer, p *proof.Proof) error {
	out := junitSuites{Name: p.Target.Broker + " " + p.Target.Listener, Time: seconds(p.Took)}
	for i := range p.Results {
		r := &p.Results[i]
		name := "MQTT " + r.In()
		if r.In() == "" {
			name = "trials"
		}
		var s *junitSuite
		for k := range out.Suites {
			if out.Suites[k].Name == name {
				s = &out.Suites[k]
			}
		}
		if s == nil {
			out.Suites = append(
				out.Suites,
				junitSuite{Name: name, Timestamp: p.Started.UTC().Format("2006-01-02T15:04:05"), Time: seconds(p.Took)},
			)
			s = &out.Suites[len(out.Suites)-1]
			for _, d := range p.Doors {
				value := d.What
				if d.Accepted != "" {
					value += ", accepted: " + d.Accepted
				}
				s.Properties = append(s.Properties, junitProperty{"door open: " + d.Name, value})
			}
		}
		c := junitCase{Class: r.Check.Family(), Name: r.Check.Name, Time: seconds(r.Took)}
		text := &junitText{
			Message: r.Seen,
			Text: strings.Join(
				append(
					[]string{"expected: " + r.Expected, "seen: " + r.Seen, "standard: " + Standard(r)},
					append(r.Notes, decidedLines(r)...)...),
				"\n",
			),
		}
		s.Tests++
		out.Tests++
		switch r.Verdict {
		case proof.Broken:
			c.Failure = text
			s.Failures++
			out.Failures++
		case proof.Undecided:
			c.Error = text
			s.Errors++
			out.Errors++
		case proof.Unsupported, proof.Skipped:
			c.Skipped = text
			s.Skipped++
		default:
			c.Out = text.Text
		}
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(out); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// Doors writes the doors that a proof found open, one to a line; nothing where nobody looked.
func Doors(w io.Writer, p *proof.Proof) {
	for _, d := range p.Doors {
		plain.Fprintln(w, DoorLine(d))
	}
	if p.Doors != nil && len(p.Doors) == 0 {
		plain.Fprintln(w, "doors left open: none was found")
	}
}

func seconds(d time.Duration) string { return fmt.Sprintf("%.3f", d.Seconds()) }

// Sign is the character that stands for a verdict beside its word.
func Sign(v proof.Verdict) string {
	switch v {
	case proof.Kept:
		return "✓"
	case proof.Broken:
		return "✗"
	case proof.Unsupported:
		return "∅"
	case proof.Undecided:
		return "?"
	}
	return "–"
}

// trialLines writes a trial: what it shows, and its steps.
func trialLines(r *proof.Result) string {
	s := plain.Sprintf("%s %-11s %8s  %s\n", Sign(r.Verdict), r.Verdict, r.Took.Round(time.Millisecond), r.Check.Title)
	for _, step := range r.Steps {
		s += plain.Sprintf("    %s\n", step.Text)
	}
	if r.Verdict != proof.Kept {
		s += plain.Sprintf("    %s %s\n", Sign(r.Verdict), r.Seen)
	}
	for _, n := range r.Notes {
		s += plain.Sprintf("    note: %s\n", n)
	}
	return s
}

// change is what a note begins with that says what the programmer of a device has to change.
const change = "to change: "

// DeviceLine writes a result of a device for a terminal.
func DeviceLine(r *proof.Result) string {
	s := plain.Sprintf(
		"%s %-11s %-24s %8s  %s\n",
		Sign(r.Verdict),
		r.Verdict,
		r.Check.Name,
		r.Took.Round(time.Millisecond),
		r.Check.Title,
	)
	if r.Verdict == proof.Broken {
		s += plain.Sprintf("    expected: %s\n    seen:     %s\n", r.Expected, r.Seen)
	} else {
		s += plain.Sprintf("    %s\n", r.Seen)
	}
	for _, n := range r.Notes {
		if !strings.HasPrefix(n, change) {
			s += plain.Sprintf("    note: %s\n", n)
		}
	}
	return s
}

// Changes are the sentences on what the programmer of a device has to change, each with the check that found it.
func Changes(p *proof.Proof) (out []string) {
	for i := range p.Results {
		for _, n := range p.Results[i].Notes {
			if text, is := strings.CutPrefix(n, change); is {
				text = fmt.Sprintf("%s (%s)", text, p.Results[i].Check.Name)
				if !slices.Contains(out, text) {
					out = append(out, text)
				}
			}
		}
	}
	return out
}

// Line writes a result for a terminal: one line, and for what is not kept the
// reasons under it.
func Line(r *proof.Result) string {
	if r.In() == "" {
		return trialLines(r)
	}
	s := plain.Sprintf(
		"%s %-11s %-22s %-5s %8s  %s\n",
		Sign(r.Verdict),
		r.Verdict,
		r.Check.Name,
		r.Version,
		r.Took.Round(time.Millisecond),
		r.Check.Title,
	)
	if r.Verdict == proof.Broken || r.Verdict == proof.Undecided {
		s += plain.Sprintf("    expected: %s\n    seen:     %s\n    standard: %s\n", r.Expected, r.Seen, Standard(r))
	} else if r.Verdict != proof.Kept {
		s += plain.Sprintf("    %s\n", r.Seen)
	}
	for _, n := range r.Notes {
		s += plain.Sprintf("    note: %s\n", n)
	}
	return s
}

// SummaryLine counts the verdicts in words.
func SummaryLine(n map[proof.Verdict]int) string {
	var parts []string
	for _, v := range proof.Verdicts {
		if n[v] > 0 || v == proof.Kept || v == proof.Broken {
			parts = append(parts, fmt.Sprintf("%d %s", n[v], v))
		}
	}
	return strings.Join(parts, ", ")
}
