package report

import (
	"encoding/hex"
	"fmt"
	"io"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// Basis is what an acceptance rests on beside the proof itself; what is "" is left out.
type Basis struct {
	// Workspace is what the workspace is called, and Revision names the state of its contract.
	Workspace, Revision string
	// Records are the records of all packets of the proof.
	Records []RecordSum
	// Program is what carried the proof out, with its version.
	Program string
}

// RecordSum names a record, and its SHA-256 in hexadecimal.
type RecordSum struct{ Name, SHA256 string }

// Acceptance is a proof as a document for people: what was proven, on what, when; what is broken, with its sequence;
// and what could not be told.
func Acceptance(p *proof.Proof, basis Basis) (*draw.Document, error) {
	d := &draw.Document{Title: "Proof of the broker " + p.Target.Broker}
	trials := len(versionsOf(p)) == 0 && len(p.Results) > 0
	if trials {
		d.Title = "Trials of the site " + p.Target.Broker
	}
	device := len(p.Results) > 0 && strings.HasPrefix(p.Results[0].Check.Name, "device.")
	if device {
		d.Title = "Proof of the device " + p.Target.Broker
	}
	n := p.Counts()
	switch {
	case n[proof.Broken] > 0:
		d.Text(
			"%s broken. What is broken stands below, each with the packets that decided.",
			plain.Count(n[proof.Broken], "verdict"),
		)
	case n[proof.Undecided] > 0:
		d.Text(
			"Nothing is broken, and %s could not be decided: that is no success. The reasons stand below.",
			plain.Count(n[proof.Undecided], "verdict"),
		)
	default:
		d.Text("Everything that was tried is kept.")
	}
	d.Text("%s.", SummaryLine(n))
	if changes := Changes(p); len(changes) > 0 {
		d.Heading(1, "What its programmer has to change")
		for i, text := range changes {
			d.Text("%d. %s. The packets stand below.", i+1, text)
		}
	}
	d.Heading(1, "What was proven")
	kind := "a broker that is not Hodstone's"
	if p.Target.StandIn {
		kind = "the stand-in that ships with Hodstone"
	}
	rows := [][]string{
		{"broker", p.Target.Broker},
		{"listener", p.Target.Listener},
		{"what it is", kind},
		{"what it says of itself", factsOf(p)},
		{"login", loginOf(p)},
		{"MQTT", strings.Join(versionsOf(p), ", ")},
		{
			"checks that break the protocol",
			map[bool]string{true: "run", false: "not run"}[p.Target.StandIn || p.Target.Intrusive],
		},
	}
	if trials {
		rows = [][]string{{map[bool]string{false: "site", true: "device"}[device], p.Target.Broker}}
	}
	d.Table([]string{"", ""}, rowsOf(append(rows,
		[]string{"begun", p.Started.UTC().Format("2006-01-02 15:04:05 UTC")},
		[]string{"took", p.Took.Round(100 * time.Millisecond).String()},
		[]string{"workspace", basis.Workspace},
		[]string{"contract", basis.Revision},
		[]string{"by", basis.Program},
		[]string{"record of all packets", recordsOf(basis)})))
	families(d, p)
	doors(d, p)
	if err := brokenOnes(d, p); err != nil {
		return nil, err
	}
	reasons(
		d,
		p,
		"Undecided",
		proof.Undecided,
		"These could not be carried out to their end. They count like broken ones.",
	)
	if device {
		reasons(d, p, "Not to be tried", proof.Unsupported, "As this device comes, and as is agreed with it, there is nothing to be seen here.")
	} else {
		reasons(
			d,
			p,
			"Not offered",
			proof.Unsupported,
			"The broker says, by the means that the standard gives, that it does not offer this.",
		)
	}
	cellTables(d, p)
	trialSteps(d, p, map[bool]string{false: "Trial: ", true: "What was done: "}[device])
	remarks(d, p)
	skipped(d, p)
	return d, nil
}

// recordsOf names the records that a proof rests on.
func recordsOf(basis Basis) string {
	var out []string
	for _, r := range basis.Records {
		out = append(out, r.Name+", SHA-256 "+r.SHA256)
	}
	return strings.Join(out, "; ")
}

// WriteAcceptance writes it in the format that the file's name ends in.
func WriteAcceptance(w io.Writer, name string, p *proof.Proof, basis Basis) error {
	d, err := Acceptance(p, basis)
	if err != nil {
		return err
	}
	switch strings.ToLower(filepath.Ext(name)) {
	case ".pdf":
		return d.PDF(w)
	case ".md":
		return d.Markdown(w)
	case ".html", ".htm":
		return d.HTML(w)
	}
	return fmt.Errorf("%s: a report is written as .pdf, .md or .html", name)
}

// AcceptanceName tells whether a report can be written to a file of the name.
func AcceptanceName(name string) bool {
	return slices.Contains([]string{".pdf", ".md", ".html", ".htm"}, strings.ToLower(filepath.Ext(name)))
}

// rowsOf leaves out rows that say nothing.
func rowsOf(rows [][]string) (out [][]string) {
	for _, r := range rows {
		if r[1] != "" {
			out = append(out, r)
		}
	}
	return out
}

func loginOf(p *proof.Proof) string {
	if l := p.Target.Login; l != nil && l.Username != "" {
		return l.Username
	} else if l != nil {
		return l.Name
	}
	return "none"
}

func versionsOf(p *proof.Proof) (out []string) {
	for _, v := range versions(p) {
		if v != 0 {
			out = append(out, v.String())
		}
	}
	return out
}

func versions(p *proof.Proof) (out []packet.Version) {
	for i := range p.Results {
		if v := p.Results[i].Version; !slices.Contains(out, v) {
			out = append(out, v)
		}
	}
	return out
}

// families is the table of verdicts by family and version.
func families(d *draw.Document, p *proof.Proof) {
	var names []string
	counts := map[string]map[proof.Verdict]int{}
	for i := range p.Results {
		r := &p.Results[i]
		f := r.Check.Family()
		if !slices.Contains(names, f) {
			names = append(names, f)
		}
		key := f + "/" + r.In()
		if counts[key] == nil {
			counts[key] = map[proof.Verdict]int{}
		}
		counts[key][r.Verdict]++
	}
	head, columns := []string{"family"}, versionsOf(p)
	for _, v := range columns {
		head = append(head, "MQTT "+v)
	}
	if len(columns) == 0 { // trials
		head, columns = append(head, "verdicts"), []string{""}
	}
	var rows [][]string
	for _, f := range names {
		row := []string{f}
		for _, v := range columns {
			var words []string
			for _, verdict := range proof.Verdicts {
				if n := counts[f+"/"+v][verdict]; n > 0 && verdict != proof.Skipped {
					words = append(words, fmt.Sprintf("%d %s", n, verdict))
				}
			}
			if len(words) == 0 {
				words = []string{"–"}
			}
			row = append(row, strings.Join(words, ", "))
		}
		rows = append(rows, row)
	}
	d.Heading(1, "Verdicts by family")
	d.Table(head, rows)
}

func doors(d *draw.Document, p *proof.Proof) {
	if p.Doors == nil {
		return
	}
	d.Heading(1, "Doors left open")
	if len(p.Doors) == 0 {
		d.Text("None was found.")
		return
	}
	var rows [][]string
	for _, x := range p.Doors {
		rows = append(rows, []string{x.What, x.Remedy, x.Accepted})
	}
	d.Table([]string{"what is open", "what to do", "accepted, because"}, rows)
}

// Around the packets that decided, so many events are drawn before the first and after the last, and so many in all.
const (
	drawnBefore = 6
	drawnAfter  = 2
	mostDrawn   = 44
)

// brokenOnes tells of each broken verdict, with its sequence.
func brokenOnes(d *draw.Document, p *proof.Proof) error {
	first := true
	for i := range p.Results {
		r := &p.Results[i]
		if r.Verdict != proof.Broken {
			continue
		}
		if first {
			d.Heading(1, "Broken")
			first = false
		}
		d.Heading(2, headed(r))
		d.Table(
			[]string{"", ""},
			rowsOf(
				[][]string{
					{"expected", r.Expected},
					{"seen", r.Seen},
					{"standard", Standard(r)},
					{"notes", strings.Join(r.Notes, "; ")},
				},
			),
		)
		events, cut := drawn(r)
		if len(events) > 0 {
			q := Sequence{Narrow: true, Events: events, Since: r.At, Marked: decidesOf(r)}
			s, err := q.Draw()
			if err != nil {
				return err
			}
			d.Drawing(s)
		}
		if cut {
			d.Text("Of %s, those around what decided are drawn: %d.", plain.Count(len(r.Evidence), "event"), len(events))
		}
		var lines []string
		for _, x := range r.Decided() {
			lines = append(lines, packetLine(r, &x))
		}
		if len(lines) > mostDecided { // the last decide
			lines = append(
				[]string{fmt.Sprintf("(the last %d of %d)", mostDecided, len(lines))},
				lines[len(lines)-mostDecided:]...)
		}
		if len(lines) > 0 {
			d.Code(strings.Join(lines, "\n"))
		}
	}
	return nil
}

// packetLine is a packet that decided, on a line.
func packetLine(r *proof.Result, e *trace.Event) string {
	line := fmt.Sprintf("%+9.3f s  %-12s %-8s %s", e.At.Sub(r.At).Seconds(), e.Client, kindWords[e.Kind], e.Describe())
	if n := len(e.Raw); n > 0 {
		const most = 24
		line += "\n             = " + hex.EncodeToString(e.Raw[:min(n, most)])
		if n > most {
			line += fmt.Sprintf("… (%d bytes)", n)
		}
	}
	return line
}

// decidesOf marks what decided.
func decidesOf(r *proof.Result) func(*trace.Event) string {
	return func(e *trace.Event) string {
		if slices.Contains(r.Decisive, e.Seq) {
			return "decided"
		}
		return ""
	}
}

// drawn are the events around what decided; cut tells that there are more. Where they are too many, only those of the
// clients are drawn whose events decided.
func drawn(r *proof.Result) (out []trace.Event, cut bool) {
	out = around(r.Evidence, r.Decisive)
	if len(out) > mostDrawn {
		deciding := map[string]bool{}
		for i := range r.Evidence {
			if e := &r.Evidence[i]; slices.Contains(r.Decisive, e.Seq) {
				deciding[e.Client] = true
			}
		}
		var theirs []trace.Event
		for _, e := range r.Evidence {
			if deciding[e.Client] {
				theirs = append(theirs, e)
			}
		}
		out = around(theirs, r.Decisive)
		out = out[max(0, len(out)-mostDrawn):]
	}
	return out, len(out) < len(r.Evidence)
}

// around are the events from a little before the first that decided to a little after the last; all where none did.
func around(events []trace.Event, decisive []uint64) []trace.Event {
	first, last := len(events), -1
	for i := range events {
		if slices.Contains(decisive, events[i].Seq) {
			first, last = min(first, i), i
		}
	}
	if last < 0 {
		return events
	}
	return events[max(0, first-drawnBefore):min(len(events), last+1+drawnAfter)]
}

// reasons lists the verdicts of a kind with what was seen.
func reasons(d *draw.Document, p *proof.Proof, title string, v proof.Verdict, text string) {
	var rows [][]string
	for i := range p.Results {
		if r := &p.Results[i]; r.Verdict == v {
			rows = append(rows, []string{nameOf(r), r.In(), r.Seen})
		}
	}
	if len(rows) == 0 {
		return
	}
	d.Heading(1, title)
	d.Text("%s", text)
	d.Table([]string{"check", "MQTT", "why"}, rows)
}

// trialSteps are the steps of each trial, with what came of them.
func trialSteps(d *draw.Document, p *proof.Proof, what string) {
	for i := range p.Results {
		r := &p.Results[i]
		if r.In() != "" || len(r.Steps) == 0 {
			continue
		}
		d.Heading(1, what+r.Check.Title)
		d.Text(
			"%s: %s. It began at %s and took %s.",
			r.Verdict,
			r.Seen,
			r.At.UTC().Format("15:04:05 UTC"),
			r.Took.Round(10*time.Millisecond),
		)
		var rows [][]string
		for k, step := range r.Steps {
			rows = append(rows, []string{fmt.Sprint(k + 1), fmt.Sprintf("%.3f s", step.At.Seconds()), step.Text})
		}
		d.Table([]string{"step", "at", "what was done and seen"}, rows)
	}
}

// nameOf is what a result is listed by: a check's name, and what a trial is called.
func nameOf(r *proof.Result) string {
	if r.In() == "" {
		return r.Check.Title
	}
	return r.Check.Name
}

// headed names a result.
func headed(r *proof.Result) string {
	if r.In() == "" {
		return r.Check.Title
	}
	return fmt.Sprintf("%s in MQTT %s: %s", r.Check.Name, r.In(), r.Check.Title)
}

// cellTables are what checks found out pair by pair. What is the same in several versions stands once.
func cellTables(d *draw.Document, p *proof.Proof) {
	type found struct {
		*proof.Table
		in []string
	}
	var all []*found
	for i := range p.Results {
		r := &p.Results[i]
		for k := range r.Tables {
			t := &r.Tables[k]
			at := slices.IndexFunc(all, func(f *found) bool { return reflect.DeepEqual(f.Table, t) })
			if at < 0 {
				at, all = len(all), append(all, &found{Table: t})
			}
			all[at].in = append(all[at].in, r.In())
		}
	}
	if len(all) > 0 {
		d.Heading(1, "Found out pair by pair")
	}
	for _, t := range all {
		d.Heading(2, fmt.Sprintf("%s, MQTT %s", t.Title, strings.Join(t.in, ", ")))
		d.Text("%s", t.Note)
		var rows [][]string
		for y, row := range t.Cells {
			cells := []string{t.Rows[y]}
			for _, c := range row {
				cells = append(cells, c.Text)
			}
			rows = append(rows, cells)
		}
		d.Table(append([]string{t.Down + " \\ " + t.Across}, t.Columns...), rows)
	}
}

// remarks tell what was seen of what is kept, and the notes on it: what a standard advises, and what was found.
func remarks(d *draw.Document, p *proof.Proof) {
	type kept struct {
		in    []string
		seen  string // in the last version
		notes []string
	}
	by := map[string]*kept{}
	var order []string
	for i := range p.Results {
		r := &p.Results[i]
		if r.Verdict != proof.Kept {
			continue
		}
		name := nameOf(r)
		k := by[name]
		if k == nil {
			k = &kept{}
			by[name], order = k, append(order, name)
		}
		k.in, k.seen = append(k.in, r.In()), r.Seen
		for _, n := range r.Notes {
			if !strings.HasPrefix(n, "watched for ") && !slices.Contains(k.notes, n) {
				k.notes = append(k.notes, n)
			}
		}
	}
	var rows [][]string
	for _, name := range order {
		k := by[name]
		seen := k.seen
		if len(k.notes) > 0 {
			seen += "; note: " + strings.Join(k.notes, "; ")
		}
		rows = append(rows, []string{name, strings.Join(k.in, ", "), seen})
	}
	if len(rows) == 0 {
		return
	}
	d.Heading(1, "Kept")
	d.Table([]string{"check", "in MQTT", "what was seen, in the last of these"}, rows)
}

// skipped says by reason what was not run.
func skipped(d *draw.Document, p *proof.Proof) {
	by := map[string][]string{}
	var order []string
	for i := range p.Results {
		r := &p.Results[i]
		if r.Verdict != proof.Skipped || r.Check.Section(r.Version) == "" { // nothing is missing there
			continue
		}
		if by[r.Seen] == nil {
			order = append(order, r.Seen)
		}
		by[r.Seen] = append(by[r.Seen], r.Check.Name+" in "+r.Version.String())
	}
	var rows [][]string
	for _, why := range order {
		rows = append(rows, []string{why, strings.Join(by[why], ", ")})
	}
	if len(rows) > 0 {
		d.Heading(1, "Not run")
		d.Table([]string{"why", "checks"}, rows)
	}
}

// factsOf are what the broker tells of itself, what changed while the proof ran among it.
func factsOf(p *proof.Proof) string {
	var all []string
	for _, f := range p.Facts {
		all = append(all, f.String())
	}
	return strings.Join(all, "; ")
}
