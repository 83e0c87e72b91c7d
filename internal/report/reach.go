package report

import (
	"fmt"
	"io"
	"strings"

	"hodstone/internal/plain"
	"hodstone/internal/reach"
)

// StepsLine writes the stages of a way in a line: "name · TCP 0.11 ms · CONNECT ╳".
func StepsLine(w *reach.Way) string {
	var parts []string
	for _, s := range w.Steps {
		switch {
		case s.State == reach.Untried:
			parts = append(parts, string(s.Stage)+" –")
		case s.State == reach.Failed:
			parts = append(parts, fmt.Sprintf("%s ╳ after %.2f ms", s.Stage, ms(s.Took)))
		case s.Took == 0:
			parts = append(parts, string(s.Stage))
		default:
			parts = append(parts, fmt.Sprintf("%s %.2f ms", s.Stage, ms(s.Took)))
		}
	}
	return strings.Join(parts, " · ")
}

// Reach writes what came of trying ways in, in lines. What a broker grants is written once
// where its listeners grant the same.
func Reach(w io.Writer, rep *reach.Report) {
	seen := map[string]string{}
	for i := range rep.Results {
		if i > 0 {
			plain.Fprintln(w)
		}
		r := &rep.Results[i]
		broker := r.Target.Broker()
		grants := fmt.Sprint(r.Grants)
		same := ""
		if first, ok := seen[broker+grants]; ok && len(r.Grants) > 0 {
			same = first
		} else {
			seen[broker+grants] = r.Target.Name
		}
		reachResult(w, r, same, false)
	}
	for i, f := range rep.Findings {
		if i == 0 {
			plain.Fprintf(w, "\ntogether\n")
		}
		reachFinding(w, f)
	}
}

// ReachLines returns what came of one target, in lines.
//
// Narrow has two columns for what was granted, in place of three.
func ReachLines(r *reach.Result, narrow bool) []string {
	var b strings.Builder
	reachResult(&b, r, "", narrow)
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n")
}

func reachFinding(w io.Writer, f reach.Finding) {
	plain.Fprintf(w, "  %s %-6s %s\n", signs[string(f.Severity)], f.Severity, f.What)
	if f.Remedy != "" {
		plain.Fprintf(w, "             → %s\n", f.Remedy)
	}
}

// reachResult writes one target; same names another that grants the same, or is "".
func reachResult(w io.Writer, r *reach.Result, same string, narrow bool) {
	title := r.Target.URL
	if r.Target.Name != title {
		title = r.Target.Name + "  " + title
	}
	plain.Fprintln(w, title)
	var beside []string
	for i := range r.Ways {
		way := &r.Ways[i]
		if d := way.Diagnosis; way.Extra && d != nil {
			beside = append(beside, fmt.Sprintf("%s (%s)", way.Address, d.Cause))
			continue
		}
		sign, word := "✗", "out"
		if way.In {
			sign, word = "✓", "in "
		}
		extra := ""
		if way.Extra {
			extra = "  (another address of this machine)"
		}
		plain.Fprintf(w, "  %s %s  %s%s\n", sign, word, way.Address, extra)
		if len(way.Steps) > 0 {
			plain.Fprintf(w, "         %s\n", StepsLine(way))
		}
		if d := way.Diagnosis; d != nil {
			plain.Fprintf(w, "         %s: %s\n", d.Cause, d.What)
			if d.Remedy != "" {
				plain.Fprintf(w, "         → %s\n", d.Remedy)
			}
			if d.Seen != "" && d.Seen != d.What {
				plain.Fprintf(w, "         seen: %s\n", d.Seen)
			}
		}
	}
	if beside != nil && r.In() {
		plain.Fprintf(w, "  · not at this machine's other addresses: %s\n", strings.Join(beside, ", "))
	}
	for _, v := range r.Versions {
		sign := "✓"
		if !v.In {
			sign = "✗"
		}
		plain.Fprintf(w, "  %s MQTT %-11s %s\n", sign, v.Version, v.Seen)
	}
	for _, a := range r.Answers {
		sign := "✓"
		if !a.Kept() {
			sign = "✗"
		} else if a.Intended == nil {
			sign = "·"
		}
		plain.Fprintf(w, "  %s %-16s %s\n", sign, a.Who, a.Seen)
	}
	for _, x := range r.Rights {
		sign := "✓"
		switch {
		case x.Unknown != "":
			sign = "·"
		case x.Reads || x.Writes:
			sign = "!"
		}
		plain.Fprintf(w, "  %s rights of %-6s %s\n", sign, x.Login, x)
	}
	if same != "" {
		plain.Fprintf(w, "  granted as at %s\n", same)
	}
	if same == "" {
		grants(w, r.Grants, narrow)
	}
	for _, f := range r.Findings {
		reachFinding(w, f)
	}
	for _, d := range r.Doors {
		plain.Fprintf(w, "  %s\n", DoorLine(d))
	}
}

// grants writes what was asked for and given, in columns.
func grants(w io.Writer, all []reach.Grant, narrow bool) {
	for i, g := range all {
		less := ""
		if g.Less {
			less = "  ! less"
		}
		if narrow {
			if i == 0 {
				plain.Fprintln(w, "  granted")
			}
			given := g.Granted
			switch {
			case g.Asked == "":
			case given == "as asked":
				given += ": " + g.Asked
			default:
				given += "; asked: " + g.Asked
			}
			plain.Fprintf(w, "    %-31s %s%s\n", g.Name, given, less)
			continue
		}
		if i == 0 {
			plain.Fprintf(w, "  %-36s %-16s %s\n", "granted", "asked", "given")
		}
		plain.Fprintf(w, "    %-34s %-16s %s%s\n", g.Name, g.Asked, g.Granted, less)
	}
}

// DoorLine says what is left open, and whether that is accepted.
func DoorLine(d reach.Door) string {
	if d.Accepted != "" {
		return fmt.Sprintf("· door open, accepted: %s (%s)", d.What, d.Accepted)
	}
	return fmt.Sprintf("! door open: %s → %s", d.What, d.Remedy)
}

// ReachDocument is what came of trying ways in, in JSON.
type ReachDocument struct {
	Ways     []WayRecord     `json:"ways"`
	Findings []FindingRecord `json:"findings"`
}

// WayRecord is one target in JSON.
type WayRecord struct {
	Name      string          `json:"name"`
	URL       string          `json:"url"`
	In        bool            `json:"in"`
	TookMS    float64         `json:"took_ms"`
	Addresses []AddressRecord `json:"addresses"`
	Versions  []TrialRecord   `json:"versions"`
	Answers   []TrialRecord   `json:"answers"`
	Rights    []RightsRecord  `json:"rights"`
	Grants    []GrantRecord   `json:"grants"`
	PingMS    float64         `json:"ping_ms,omitempty"`
	Findings  []FindingRecord `json:"findings"`
	Doors     []DoorRecord    `json:"doors"`
}

// AddressRecord is one address of a target in JSON.
type AddressRecord struct {
	Address string        `json:"address"`
	Extra   bool          `json:"own_address_beside,omitempty"`
	In      bool          `json:"in"`
	Stages  []StageRecord `json:"stages"`
	Cause   string        `json:"cause,omitempty"`
	What    string        `json:"what,omitempty"`
	Remedy  string        `json:"remedy,omitempty"`
	Seen    string        `json:"seen,omitempty"`
}

// StageRecord is a stage in JSON.
type StageRecord struct {
	Stage  string  `json:"stage"`
	State  string  `json:"state"`
	TookMS float64 `json:"took_ms"`
	Learnt string  `json:"learnt,omitempty"`
}

// RightsRecord is what a login may do beyond its work, in JSON.
type RightsRecord struct {
	Login   string `json:"login"`
	Granted bool   `json:"everything_granted"`
	Reads   bool   `json:"reads_everything"`
	Writes  bool   `json:"publishes_anywhere"`
	Unknown string `json:"not_found_out,omitempty"`
}

// GrantRecord is a grant in JSON.
type GrantRecord struct {
	Name    string `json:"name"`
	Asked   string `json:"asked,omitempty"`
	Granted string `json:"granted"`
	Less    bool   `json:"less,omitempty"`
	Probed  bool   `json:"probed,omitempty"`
	Source  string `json:"source"`
}

// DoorRecord is an open door in JSON.
type DoorRecord struct {
	Door     string `json:"door"`
	What     string `json:"what"`
	Remedy   string `json:"remedy"`
	Accepted string `json:"accepted,omitempty"`
}

// NewReachDocument makes the document.
func NewReachDocument(rep *reach.Report) ReachDocument {
	d := ReachDocument{Ways: []WayRecord{}, Findings: findingRecords(rep.Findings)}
	for i := range rep.Results {
		d.Ways = append(d.Ways, wayRecord(&rep.Results[i]))
	}
	return d
}

func wayRecord(r *reach.Result) WayRecord {
	out := WayRecord{Name: r.Target.Name, URL: r.Target.URL, In: r.In(), TookMS: ms(r.Took), Addresses: []AddressRecord{}, Versions: []TrialRecord{}, Answers: []TrialRecord{},
		Rights: []RightsRecord{}, Grants: []GrantRecord{}, PingMS: ms(r.Ping), Findings: findingRecords(r.Findings), Doors: []DoorRecord{}}
	for _, w := range r.Ways {
		a := AddressRecord{Address: w.Address, Extra: w.Extra, In: w.In, Stages: []StageRecord{}}
		for _, s := range w.Steps {
			a.Stages = append(a.Stages, StageRecord{string(s.Stage), string(s.State), ms(s.Took), s.Learnt})
		}
		if d := w.Diagnosis; d != nil {
			a.Cause, a.What, a.Remedy, a.Seen = string(d.Cause), d.What, d.Remedy, d.Seen
		}
		out.Addresses = append(out.Addresses, a)
	}
	verdict := func(kept bool) string {
		if kept {
			return "kept"
		}
		return "broken"
	}
	for _, v := range r.Versions {
		out.Versions = append(out.Versions, TrialRecord{Name: v.Version.String(), Seen: v.Seen, Verdict: verdict(v.In)})
	}
	for _, a := range r.Answers {
		x := TrialRecord{Name: a.Who, Seen: a.Seen, Verdict: verdict(a.Kept())}
		if a.Intended == nil {
			x.Verdict = "skipped"
		} else if *a.Intended {
			x.Expected = "in"
		} else {
			x.Expected = "refused"
		}
		out.Answers = append(out.Answers, x)
	}
	for _, x := range r.Rights {
		out.Rights = append(out.Rights, RightsRecord(x))
	}
	for _, g := range r.Grants {
		out.Grants = append(out.Grants, GrantRecord(g))
	}
	out.Doors = append(out.Doors, doorRecords(r.Doors)...)
	return out
}

// doorRecords returns nil for nil, which says that nobody looked.
func doorRecords(doors []reach.Door) (out []DoorRecord) {
	if doors != nil {
		out = []DoorRecord{}
	}
	for _, x := range doors {
		out = append(out, DoorRecord{x.Name, x.What, x.Remedy, x.Accepted})
	}
	return out
}

// ReachJSON writes the document.
func ReachJSON(w io.Writer, rep *reach.Report) error {
	return writeJSON(w, NewReachDocument(rep))
}
