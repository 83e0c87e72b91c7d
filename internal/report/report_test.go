package report_test

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/trace"
)

var update = flag.Bool("update", false, "write the golden files anew")

// sample is a proof with a result of every verdict, put together by hand.
func sample() *proof.Proof {
	find := func(name string) *proof.Check {
		found, err := check.Match(name)
		if err != nil {
			panic(err)
		}
		return found[0]
	}
	at := time.Date(2026, 5, 1, 6, 30, 0, 0, time.UTC)
	result := func(name string, v packet.Version, verdict proof.Verdict, seen string, took time.Duration, notes ...string) proof.Result {
		c := find(name)
		r := proof.Result{
			Check:    c,
			Version:  v,
			Verdict:  verdict,
			Expected: c.Expected,
			Seen:     seen,
			Took:     took,
			Notes:    notes,
			At:       at,
		}
		if verdict == proof.Broken {
			ping := &packet.Pingreq{}
			r.Evidence = []trace.Event{
				{
					Seq:     3,
					At:      at.Add(12 * time.Millisecond),
					Client:  "subject",
					Kind:    trace.Sent,
					Version: v,
					Packet:  ping,
					Raw:     ping.Append(nil, v),
				},
			}
			r.Decisive = []uint64{3}
			t := proof.NewTable(
				"pairings",
				"each cell",
				"published",
				"subscribed",
				[]string{"QoS 0"},
				[]string{"QoS 0", "QoS 1"},
			)
			t.Cells[0][1] = proof.Cell{Text: "0", Verdict: proof.Kept}
			r.Tables = []proof.Table{*t}
		}
		return r
	}
	return &proof.Proof{
		Target: proof.Target{
			Broker:   "quay",
			Listener: "tcp mqtt://127.0.0.1:1883",
		}, Run: "abc123", Started: at, Took: 1234 * time.Millisecond,
		Doors: []reach.Door{
			{Name: "anonymous", What: "clients without credentials get in", Remedy: "turn anonymous access off"},
			{
				Name:     "plain",
				What:     "a plain listener stands beside a TLS one: quay/tcp",
				Remedy:   "close it",
				Accepted: "until <May>",
			},
		},
		Results: []proof.Result{
			result("connect.accepted", packet.V311, proof.Kept, "CONNACK 0 after 1.2ms", 2345*time.Microsecond),
			result(
				"connect.accepted",
				packet.V5,
				proof.Unsupported,
				"unsupported <protocol> version",
				time.Millisecond,
			),
			result("login.right", packet.V311, proof.Skipped, "no login was given", 0),
			result(
				"will.on-close",
				packet.V311,
				proof.Broken,
				`no will within 5 s & "nothing" else`,
				5*time.Second,
				"the first note",
				"the second",
			),
			result("will.on-close", packet.V5, proof.Undecided, "stopped: context canceled", 20*time.Millisecond),
		},
	}
}

func golden(t *testing.T, name string, got []byte) {
	t.Helper()
	file := filepath.Join("testdata", name)
	if *update {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, got, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("%s has changed (-update writes it anew):\n%s", file, got)
	}
}

func TestGoldenReports(t *testing.T) {
	p := sample()
	for want, doors := range map[string][]reach.Door{"": nil, "doors left open: none was found\n": {}, "! door open: clients without credentials get in → turn anonymous access off\n· door open, accepted: a plain listener stands beside a TLS one: quay/tcp (until <May>)\n": p.Doors} {
		var b bytes.Buffer
		if report.Doors(&b, &proof.Proof{Doors: doors}); b.String() != want {
			t.Errorf("doors %q, want %q", b.String(), want)
		}
		b.Reset()
		if report.JSON(&b, &proof.Proof{Doors: doors}); strings.Contains(b.String(), `"doors"`) != (doors != nil) {
			t.Errorf("%+v: %s", doors, b.String())
		}
	}
	var j, x, l bytes.Buffer
	if err := report.JSON(&j, p); err != nil {
		t.Fatal(err)
	}
	golden(t, "proof.json", j.Bytes())
	if err := report.JUnit(&x, p); err != nil {
		t.Fatal(err)
	}
	golden(t, "proof.xml", x.Bytes())
	for i := range p.Results {
		l.WriteString(report.Line(&p.Results[i]))
	}
	l.WriteString(report.SummaryLine(p.Counts()) + "\n")
	golden(t, "proof.txt", l.Bytes())
	if p.OK() {
		t.Error("a proof with something broken is OK")
	}
}

// TestJUnitIsCountedRight: what CI systems read from the attributes agrees with the cases.
func TestJUnitIsCountedRight(t *testing.T) {
	var b bytes.Buffer
	if err := report.JUnit(&b, sample()); err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Errors   int `xml:"errors,attr"`
		Suites   []struct {
			Name     string `xml:"name,attr"`
			Tests    int    `xml:"tests,attr"`
			Failures int    `xml:"failures,attr"`
			Errors   int    `xml:"errors,attr"`
			Skipped  int    `xml:"skipped,attr"`
			Cases    []struct {
				Failure *struct{} `xml:"failure"`
				Error   *struct{} `xml:"error"`
				Skipped *struct{} `xml:"skipped"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	if err := xml.Unmarshal(b.Bytes(), &doc); err != nil {
		t.Fatal(err)
	}
	tests, failures, errs := 0, 0, 0
	for _, s := range doc.Suites {
		f, e, k := 0, 0, 0
		for _, c := range s.Cases {
			if c.Failure != nil {
				f++
			}
			if c.Error != nil {
				e++
			}
			if c.Skipped != nil {
				k++
			}
		}
		if s.Tests != len(s.Cases) || s.Failures != f || s.Errors != e || s.Skipped != k {
			t.Errorf(
				"suite %s says %d/%d/%d/%d, has %d/%d/%d/%d",
				s.Name,
				s.Tests,
				s.Failures,
				s.Errors,
				s.Skipped,
				len(s.Cases),
				f,
				e,
				k,
			)
		}
		tests, failures, errs = tests+len(s.Cases), failures+f, errs+e
	}
	if doc.Tests != tests || doc.Failures != failures || doc.Errors != errs || tests != 5 || failures != 1 ||
		errs != 1 {
		t.Errorf("in all %d/%d/%d, has %d/%d/%d", doc.Tests, doc.Failures, doc.Errors, tests, failures, errs)
	}
}

// full is a disk without room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

func TestWriteErrorsAreNotLost(t *testing.T) {
	if err := report.JSON(full{}, sample()); err == nil {
		t.Error("JSON")
	}
	if err := report.JUnit(full{}, sample()); err == nil {
		t.Error("JUnit")
	}
}

func TestEveryCheckNamesItsPlaceInTheStandard(t *testing.T) {
	for _, c := range check.All() {
		for _, v := range proof.Versions() {
			s := report.Standard(&proof.Result{Check: c, Version: v})
			if c.Section(v) != "" &&
				!(strings.HasPrefix(s, "MQTT ") && strings.Contains(s, " §") || c.Once && strings.HasPrefix(s, "RFC ") || s == "the contract" && (c.Family() == "contract" || c.Family() == "restart")) {
				t.Errorf("%s in %s: %q", c.Name, v, s)
			}
		}
		if c.Title == "" || c.Expected == "" || c.Family() == "" {
			t.Errorf("%+v", c)
		}
	}
	signs := map[string]bool{}
	for _, v := range proof.Verdicts {
		signs[report.Sign(v)] = true
	}
	if len(signs) != len(proof.Verdicts) {
		t.Errorf("verdicts share signs: %v", signs)
	}
	// A target that cannot be dialled yields no document at all.
	dead := proof.Target{Dial: func(context.Context) (*link.Link, error) { return nil, errors.New("dead") }}
	if p, err := proof.Run(context.Background(), dead, proof.Options{}); p != nil ||
		!errors.Is(err, proof.ErrNotReached) {
		t.Error(p, err)
	}
}
