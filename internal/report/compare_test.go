package report_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/report"
	"hodstone/internal/trace"
)

// proven makes a proof of verdicts: "NAME VERSION VERDICT SEEN" on lines.
func proven(t *testing.T, lines string) *proof.Proof {
	t.Helper()
	p := &proof.Proof{
		Target:  proof.Target{Broker: "quay", Listener: "tcp"},
		Started: time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC),
	}
	for line := range strings.Lines(lines) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 4)
		found, err := check.Match(f[0])
		v, bad := packet.ParseVersion(f[1])
		if err != nil || bad != nil {
			t.Fatal(err, bad)
		}
		p.Results = append(
			p.Results,
			proof.Result{Check: found[0], Version: v, Verdict: proof.Verdict(f[2]), Seen: f[3], At: p.Started},
		)
	}
	return p
}

// TestTwoProofsAreCompared: which way each verdict went, by its kind, and where it was broken before by what is new of
// it.
func TestTwoProofsAreCompared(t *testing.T) {
	for _, tt := range []struct{ before, now, want string }{
		{"qos.order 5 kept fine", "qos.order 5 kept in 7ms", ""},
		{"qos.order 5 kept fine", "qos.order 5 broken at QoS 1", "worse"},
		{"qos.order 5 kept fine", "qos.order 5 undecided lost", "worse"},
		{"qos.order 5 kept fine", "qos.order 5 unsupported less", "worse"},
		{"qos.order 5 unsupported less", "qos.order 5 kept fine", "better"},
		{"qos.order 5 broken at QoS 1", "qos.order 5 undecided lost", "better"},
		{"qos.order 5 kept fine", "qos.order 5 skipped not asked", "otherwise"},
		{"qos.order 5 skipped not asked", "qos.order 5 skipped never", ""},
		{"qos.order 5 skipped not asked", "qos.order 5 kept fine", "otherwise"},
		{"qos.order 5 skipped not asked", "qos.order 5 broken at QoS 1", "worse"},
		{"qos.order 3.1 kept fine", "qos.order 5 broken at QoS 1", "worse otherwise"},
		{"qos.order 3.1 kept fine", "qos.order 5 kept fine", "otherwise otherwise"},
		{"qos.order 3.1 skipped no", "qos.order 5 skipped no", ""},
		{"qos.order 5 broken message 21 in hodstone/abc/x after 5.1s", "qos.order 5 broken message 33 in hodstone/xyz/x after 4s", ""},
		{"error.malformed 5 broken open 5s after A (§1.2); open 5s after B (§3)", "error.malformed 5 broken open 5s after B (§3)", "better"},
		{"error.malformed 5 broken open 5s after B (§3)", "error.malformed 5 broken open 5s after A (§1.2); open 6s after B (§3)", "worse"},
		{"error.malformed 5 broken open 5s after B (§3)", "error.malformed 5 broken open 5s after B (§4)", "worse"},
	} {
		before, now := report.NewDocument(proven(t, tt.before)), report.NewDocument(proven(t, tt.now))
		c := report.Compare(&before, &now)
		var got []string
		for _, x := range c.Changes {
			got = append(got, string(x.Course))
		}
		if strings.Join(got, " ") != tt.want || (tt.want == "" && tt.before[:14] == tt.now[:14]) != (c.Same == 1) {
			t.Errorf("%s\n%s\n%v, want %q; %d the same", tt.before, tt.now, got, tt.want, c.Same)
		}
	}
	before := report.NewDocument(
		proven(t, "qos.order 5 broken at QoS 1\nlogin.right 5 kept in\nqos.fan-out 5 kept fine"),
	)
	now := report.NewDocument(proven(t, "qos.order 5 kept fine\nlogin.right 5 broken refused\nqos.fan-out 5 kept fine"))
	var b bytes.Buffer
	if err := report.Compare(&before, &now).Write(&b); err != nil {
		t.Fatal(err)
	}
	want := `against quay, tcp, 2026-11-02T09:00:00Z:
↓ worse    login.right                5      kept → broken
    before: in
    now:    refused
↑ better   qos.order                  5      broken → kept
    before: at QoS 1
    now:    fine
1 worse, 1 better, 0 otherwise, 1 the same
`
	if b.String() != want {
		t.Errorf("%s", b.String())
	}
	// What was written is read back; what is no proof is refused.
	b.Reset()
	if err := report.JSON(&b, proven(t, "qos.order 5 broken at QoS 1")); err != nil {
		t.Fatal(err)
	}
	if d, err := report.ReadDocument(
		&b,
	); err != nil || len(d.Checks) != 1 || d.Checks[0].Seen != "at QoS 1" ||
		d.Started != "2026-11-02T09:00:00Z" {
		t.Errorf("%+v %v", d, err)
	}
	for text, why := range map[string]string{"{}": "has no checks", "[1": "no proof", `{"broker":"q","checks":[{"name":"x","version":"5","verdict":"fine"}]}`: `"fine"`} {
		if _, err := report.ReadDocument(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestAReportSaysWhatItRestsOn: each part in each form, and nothing that was not so.
func TestAReportSaysWhatItRestsOn(t *testing.T) {
	p := proven(t, "qos.order 5 broken message 2 came first <b>\nwill.delay 5 undecided the watcher was lost")
	p.Results = append(
		p.Results,
		proven(
			t,
			"login.right 3.1.1 kept CONNACK 0\nlogin.right 5 kept CONNACK 0x00\nlimit.packet-size 5 unsupported no size\nqos.fan-out 5 skipped not asked for",
		).Results...)
	for i := range p.Results { // what two versions have alike stands once
		same, own := proof.NewTable("logins and topics", "p publishes", "topic", "login", []string{"a"}, []string{"crab"}),
			proof.NewTable("what is its own", "", "y", "x", []string{"a"}, []string{"b"})
		same.Cells[0][0], own.Cells[0][0] = proof.Cell{Text: "p✗"}, proof.Cell{Text: fmt.Sprint("cell ", i)}
		if p.Results[i].Check.Name == "login.right" {
			p.Results[i].Tables = []proof.Table{*same, *own}
		}
	}
	p.Took = 1500 * time.Millisecond
	p.Facts = []proof.Fact{{What: "version", Before: "made up 1.0", After: "made up 1.0"}, {What: "dropped", Before: "0", After: "3"}}
	r := &p.Results[0]
	for n := range 60 {
		r.Evidence = append(
			r.Evidence,
			trace.Event{
				Seq:    uint64(n + 1),
				Client: "exact",
				Kind:   trace.Received,
				At:     p.Started.Add(time.Duration(n) * time.Millisecond),
				Packet: &packet.Publish{Topic: "t", Payload: fmt.Append(nil, n)},
				Raw:    make([]byte, 40),
			},
		)
	}
	r.Decisive, r.Notes = []uint64{50}, []string{"seen once"}
	forms := map[string]string{}
	for _, name := range []string{"a.md", "a.html", "a.pdf"} {
		var b bytes.Buffer
		if err := report.WriteAcceptance(
			&b,
			name,
			p,
			report.Basis{Workspace: "Marrow Voe", Revision: "state 7", Program: "hodstone"},
		); err != nil {
			t.Fatal(err)
		}
		forms[name] = b.String()
	}
	for _, want := range []string{"Proof of the broker quay", "1 verdict broken", "2 kept, 1 broken, 1 unsupported, 1 undecided, 1 skipped", "version made up 1.0; dropped 0 → 3", "Marrow Voe", "state 7",
		"qos.order in MQTT 5", "message 2 came first", "&lt;b", "5.0 §4.6", "seen once", "Of 60 events", "the watcher was lost", "no size", "not asked for", "3.1.1, 5", "CONNACK 0x00",
		"+0.049 s  exact", "… (40 bytes)", "svg", "logins and topics, MQTT 3.1.1, 5", "p publishes", "p✗", "what is its own, MQTT 3.1.1", "what is its own, MQTT 5", "cell 2", "cell 3"} {
		for _, name := range []string{"a.md", "a.html"} {
			if !strings.Contains(forms[name], want) {
				t.Errorf("%s: no %q\n%.2000s", name, want, forms[name])
			}
		}
	}
	if n := strings.Count(
		forms["a.html"],
		"decided",
	); n < 1 || strings.Contains(forms["a.html"], "<b>") ||
		strings.Contains(forms["a.html"], "http://") && !strings.Contains(forms["a.html"], "www.w3.org") {
		t.Errorf("%d decided\n%.3000s", n, forms["a.html"])
	}
	if !strings.HasPrefix(forms["a.pdf"], "%PDF") {
		t.Errorf("%.20q", forms["a.pdf"])
	}
	if err := report.WriteAcceptance(
		&bytes.Buffer{},
		"a.doc",
		p,
		report.Basis{},
	); err == nil || !strings.Contains(err.Error(), ".pdf, .md or .html") || report.AcceptanceName("a.doc") ||
		!report.AcceptanceName("A.PDF") {
		t.Error(err)
	}
	kept := proven(t, "login.right 5 kept CONNACK 0")
	if d, err := report.Acceptance(kept, report.Basis{}); err != nil {
		t.Error(err)
	} else {
		var b bytes.Buffer
		d.Markdown(&b)
		if !strings.Contains(b.String(), "Everything that was tried is kept") ||
			strings.Contains(b.String(), "Broken") {
			t.Errorf("%s", b.String())
		}
	}
}
