// Package report writes what was found for people and programs: a proof as JSON, JUnit
// XML and plain lines, and traces as sequences.
package report

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"hodstone/internal/proof"
)

// Document is a proof as one JSON document.
type Document struct {
	Broker   string        `json:"broker"`
	Listener string        `json:"listener"`
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
	return fmt.Sprintf("MQTT %s §%s", version, strings.ReplaceAll(section, ", ", ", §"))
}

// NewDocument turns a proof into its document.
func NewDocument(p *proof.Proof) Document {
	n := p.Counts()
	d := Document{Broker: p.Target.Broker, Listener: p.Target.Listener, Checks: []CheckRecord{},
		Summary: Summary{n[proof.Kept], n[proof.Broken], n[proof.Unsupported], n[proof.Undecided], n[proof.Skipped]}}
	for i := range p.Results {
		r := &p.Results[i]
		notes := r.Notes
		if notes == nil {
			notes = []string{}
		}
		d.Checks = append(d.Checks, CheckRecord{Name: r.Check.Name, Version: r.Version.String(), Verdict: string(r.Verdict),
			TookMS: float64(r.Took.Microseconds()) / 1000, Expected: r.Expected, Seen: r.Seen, Standard: Standard(r), Notes: notes})
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

// JUnit writes the proof as JUnit XML: a suite per version; broken is a failure,
// undecided an error, unsupported and skipped are skipped.
func JUnit(w io.Writer, p *proof.Proof) error {
	out := junitSuites{Name: p.Target.Broker + " " + p.Target.Listener, Time: seconds(p.Took)}
	for i := range p.Results {
		r := &p.Results[i]
		name := "MQTT " + r.Version.String()
		var s *junitSuite
		for k := range out.Suites {
			if out.Suites[k].Name == name {
				s = &out.Suites[k]
			}
		}
		if s == nil {
			out.Suites = append(out.Suites, junitSuite{Name: name, Timestamp: p.Started.UTC().Format("2006-01-02T15:04:05"), Time: seconds(p.Took)})
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
		text := &junitText{Message: r.Seen, Text: strings.Join(append([]string{"expected: " + r.Expected, "seen: " + r.Seen, "standard: " + Standard(r)}, r.Notes...), "\n")}
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
		fmt.Fprintln(w, DoorLine(d))
	}
	if p.Doors != nil && len(p.Doors) == 0 {
		fmt.Fprintln(w, "doors left open: none was found")
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

// Line writes a result for a terminal: one line, and for what is not kept the
// reasons under it.
func Line(r *proof.Result) string {
	s := fmt.Sprintf("%s %-11s %-22s %-5s %8s  %s\n", Sign(r.Verdict), r.Verdict, r.Check.Name, r.Version, r.Took.Round(time.Millisecond), r.Check.Title)
	if r.Verdict == proof.Broken || r.Verdict == proof.Undecided {
		s += fmt.Sprintf("    expected: %s\n    seen:     %s\n    standard: %s\n", r.Expected, r.Seen, Standard(r))
	} else if r.Verdict != proof.Kept {
		s += fmt.Sprintf("    %s\n", r.Seen)
	}
	for _, n := range r.Notes {
		s += fmt.Sprintf("    note: %s\n", n)
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
