package report_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/xml"
	"errors"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// ways are results put together by hand.
func ways() *reach.Report {
	step := func(s reach.Stage, state reach.State, took time.Duration, learnt string) reach.Step {
		return reach.Step{Stage: s, State: state, Took: took, Learnt: learnt}
	}
	no := false
	in := reach.Result{
		Target: reach.Target{
			Name: "quay/tls",
			URL:  "mqtts://quay.test:8883",
			Login: &workspace.Login{
				Name:        "bench",
				Username:    "bench",
				Password:    workspace.NewSecret("s3cret"),
				HasPassword: true,
			},
		},
		Took: 30 * time.Millisecond,
		Ping: 300 * time.Microsecond,
		Ways: []reach.Way{
			{
				Address: "10.0.0.7:8883",
				In:      true,
				Steps: []reach.Step{
					step(reach.StageName, reach.Done, 900*time.Microsecond, "10.0.0.7"),
					step(reach.StageTCP, reach.Done, 1100*time.Microsecond, ""),
					step(
						reach.StageTLS,
						reach.Done,
						2340*time.Microsecond,
						"TLS 1.3",
					),
					step(reach.StageConnect, reach.Done, time.Millisecond, "version 5"),
					step(reach.StageRoundTrip, reach.Done, 2*time.Millisecond, ""),
				},
			},
			{Address: "192.0.2.2:8883", Extra: true, Diagnosis: &reach.Diagnosis{Cause: reach.Refused}},
		},
		Versions: []reach.VersionResult{
			{Version: packet.V5, In: true, Seen: "in"},
			{Version: packet.V31, Seen: "CONNACK 1"},
		},
		Answers: []reach.Answer{
			{Who: "no login", Seen: "CONNACK 0x87, not authorized", Intended: &no},
			{Who: "wrong password", In: true, Seen: "in", Intended: &no},
		},
		Grants: []reach.Grant{
			{Name: "maximum QoS", Asked: "2", Granted: "1", Less: true, Source: "5.0 §3.2.2.3.4"},
			{Name: "kept session (3.1.1)", Granted: "kept", Probed: true, Source: "3.1.1 §3.1.2.4"},
		},
		Rights: []reach.Rights{
			{Login: "pen-1", Granted: true},
			{Login: "shore", Granted: true, Reads: true},
			{Login: "barge", Writes: true},
			{Login: "store", Unknown: "it does not get in: CONNACK 5"},
		},
		Findings: []reach.Finding{
			{
				Severity: trust.Broken,
				What:     "wrong password: in, which was not intended",
				Remedy:   "see the broker's configuration",
			},
		},
		Doors: []reach.Door{
			{Name: "everything", What: "may read everything: shore", Remedy: "give it rights"},
			{Name: "plain", What: "a plain listener", Remedy: "close it", Accepted: "until May"},
		},
	}
	again := in
	again.Target.Name, again.Target.URL = "quay/wss", "wss://quay.test/mqtt"
	again.Ways = in.Ways[:1]
	again.Answers, again.Rights, again.Findings, again.Doors, again.Versions = nil, nil, nil, nil, nil
	out := reach.Result{Target: reach.Target{Name: "pier/ws", URL: "ws://pier.test/mqtt"}, Took: time.Second,
		Ways: []reach.Way{
			{
				Address: "10.0.0.9:80",
				Steps: []reach.Step{
					step(reach.StageName, reach.Done, time.Millisecond, ""),
					step(reach.StageTCP, reach.Failed, time.Second, "no-answer"),
					step(reach.StageUpgrade, reach.Untried, 0, ""),
					step(reach.StageConnect, reach.Untried, 0, ""),
					step(reach.StageRoundTrip, reach.Untried, 0, ""),
				},
				Diagnosis: &reach.Diagnosis{
					Cause:  reach.TimedOut,
					What:   "no answer from 10.0.0.9:80 within 5s: not even a refusal",
					Remedy: "a firewall that drops",
					Seen:   "i/o timeout",
				},
			},
		}}
	return &reach.Report{
		Results: []reach.Result{in, again, out},
		Findings: []reach.Finding{
			{Severity: trust.Broken, What: "nobody gets in at pier.test", Remedy: "did the address move?"},
		},
	}
}

func TestWaysInAreWritten(t *testing.T) {
	var lines, doc bytes.Buffer
	report.Reach(&lines, ways())
	golden(t, "reach.txt", lines.Bytes())
	if err := report.ReachJSON(&doc, ways()); err != nil {
		t.Fatal(err)
	}
	golden(t, "reach.json", doc.Bytes())
	if strings.Contains(lines.String()+doc.String(), "s3cret") {
		t.Error("the password is written")
	}
	if got := report.ReachLines(&ways().Results[2], false); len(got) < 4 ||
		!strings.Contains(got[2], "TCP ╳ after 1000.00 ms · upgrade – · CONNECT –") {
		t.Errorf("%q", got)
	}
}

// TestNarrowGrants: two columns where there is no room for three, with all that the three say.
func TestNarrowGrants(t *testing.T) {
	r := &reach.Result{Grants: []reach.Grant{
		{Name: "keep alive", Asked: "30 s", Granted: "as asked"},
		{Name: "maximum QoS", Asked: "2", Granted: "1", Less: true}, {Name: "wildcards", Granted: "available"},
	}}
	got := strings.Join(report.ReachLines(r, true), "\n")
	for _, want := range []string{
		"  granted\n", "    keep alive                      as asked: 30 s\n",
		"    maximum QoS                     1; asked: 2  ! less\n", "    wildcards                       available",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("no %q in\n%s", want, got)
		}
	}
}

// drawn writes a drawing as SVG and PDF, and returns the texts of the SVG.
func drawn(t *testing.T, d *draw.Surface) string {
	t.Helper()
	var svg, pdf bytes.Buffer
	if err := errors.Join(d.SVG(&svg), d.PDF(&pdf)); err != nil {
		t.Fatal(err)
	}
	if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || !bytes.Contains(pdf.Bytes(), []byte("%%EOF")) {
		t.Error("no PDF")
	}
	var texts []string
	for dec := xml.NewDecoder(&svg); ; {
		token, err := dec.Token()
		if err == io.EOF {
			break
		} else if err != nil {
			t.Fatalf("the SVG is no XML: %v", err)
		}
		if data, ok := token.(xml.CharData); ok {
			texts = append(texts, strings.TrimSpace(string(data)))
		}
	}
	return strings.Join(texts, "\n")
}

func TestWaysInAreDrawn(t *testing.T) {
	at := time.Date(2026, 5, 1, 6, 30, 0, 0, time.UTC)
	stay := reach.Stay{Broker: "quay", Lost: 1}
	for i := range 60 {
		stay.Samples = append(
			stay.Samples,
			reach.Sample{
				At:   at.Add(time.Duration(i) * 2 * time.Second),
				RTT:  time.Duration(200+i*3) * time.Microsecond,
				Lost: i == 30,
			},
		)
	}
	stay.Gaps = []reach.Gap{
		{From: at.Add(time.Minute), To: at.Add(70 * time.Second), Blame: client.ByReset},
		{From: at.Add(110 * time.Second)},
		{Purpose: "cut"},
	}
	d, err := report.ReachDrawing("Marrow Voe", at, ways().Results, []reach.Stay{stay, {Broker: "pier"}})
	if err != nil {
		t.Fatal(err)
	}
	text := drawn(t, d)
	for _, want := range []string{"Marrow Voe: ways in", "quay/tls", "round trip", "2.34 ms",
		"broken: no answer from 10.0.0.9:80 within 5s: not even a refusal", "try next: a firewall that drops",
		"doors left open", "door open: quay: may read everything: shore",
		"06:31:00  gap of 10.00 s, by " + string(client.ByReset), "06:31:50  out, and not back yet",
		"staying in at quay: ping round trip in ms", "3 gaps, 1 of 60 pings lost", "staying in at pier",
		"too few pings so far"} {
		if !strings.Contains(text, want) {
			t.Errorf("not drawn: %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "192.0.2.2") {
		t.Error("an address beside is drawn as a way in")
	}
	if _, err := report.ReachDrawing("x", at, nil, nil); err == nil {
		t.Error("nothing is drawn")
	}
}

func TestCredentialsAreWrittenAndDrawn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "creds")
	if err := trust.WriteSamples(dir, "Marrow Voe"); err != nil {
		t.Fatal(err)
	}
	if err := trust.WriteSamples(dir, "Marrow Voe"); err == nil {
		t.Error("samples overwrite what is there")
	}
	v := trust.Examine(trust.ReadPaths([]string{dir}, nil), trust.Options{})
	at := time.Now()
	d, err := report.TrustDrawing("Marrow Voe", at, v, "", nil, false)
	if err != nil {
		t.Fatal(err)
	}
	text := drawn(t, d)
	for _, want := range []string{"Marrow Voe: credentials", "today", "Marrow Voe root, root CA", "pen-2, client",
		"key 8f3ac91b", "broken: pen-3: it expired on", "worry: 8f3ac91b: it holds a private key that everybody",
		trust.Day(v.Certificates[0].NotAfter)} {
		if !strings.Contains(text, want) {
			t.Errorf("not drawn: %q in\n%s", want, text)
		}
	}
	var written bytes.Buffer
	report.Trust(&written, v)
	for _, want := range []string{"13 files", "· barge.p12        encrypted key store [PKCS #12]",
		"✗ new-ca.pem       it is a web page", "Marrow Voe root: root CA, ECDSA, P-256, ",
		"chain    survey-boat ← ✗ Skerry Net intermediate is missing",
		"! worry  8f3ac91b: it holds a private key", "             → chmod 600 ", "3 logins, ready for a workspace",
		"pen-2: {certificate: ", "#   ca: "} {
		if !strings.Contains(written.String(), want) {
			t.Errorf("not written: %q in\n%s", want, written.String())
		}
	}
	for i := range v.Identities {
		yaml := report.LoginYAML(&v.Identities[i], filepath.Dir(dir))
		if !strings.Contains(yaml, "certificate: creds/") || strings.Contains(yaml, dir) {
			t.Errorf("the paths are not relative: %s", yaml)
		}
	}
	doc := report.NewTrustDocument(v, "", nil)
	locked := 0
	for _, f := range doc.Files {
		for _, i := range f.Items {
			if i.Locked {
				locked++
			}
		}
	}
	if locked != 2 || len(doc.Findings) != len(v.Findings) || doc.Server != nil {
		t.Errorf("%d are locked, %d findings", locked, len(doc.Findings))
	}
	survey := &trust.Survey{
		At:         at,
		ServerName: "quay.test",
		Versions: []trust.VersionTried{
			{Version: tls.VersionTLS13, Taken: true, Suites: []uint16{0x1301}, Tried: trust.SuitesOf(tls.VersionTLS13)},
			{
				Version: tls.VersionTLS12,
				Taken:   true,
				Suites:  []uint16{0xC02B, 0x0005},
				Tried:   trust.SuitesOf(tls.VersionTLS12),
			},
			{Version: tls.VersionTLS11, Refusal: "alert protocol_version"},
		},
		Presented: trust.Verify(
			[]*x509.Certificate{v.Certificates[1].Certificate},
			nil,
			"quay.test",
			at,
		),
		Required:   true,
		Asked:      true,
		CAs:        []string{"Marrow Voe root"},
		OCSP:       "none",
		Resumption: "resumed",
		ALPN:       "ignored",
		Trials: []trust.Trial{
			{
				Name:     "no certificate",
				Expected: "refused",
				Seen:     "refused: alert certificate_required",
				Verdict:  trust.Kept,
			},
			{Name: "a stranger's certificate", Expected: "refused", Seen: "in", Verdict: trust.Failed},
		},
		Device: []trust.DeviceTried{
			{Versions: []uint16{tls.VersionTLS11}, Suites: []uint16{0x0035}, Seen: "refused: alert protocol_version"},
		},
		Findings: []trust.Finding{
			{
				Severity: trust.Worry,
				Where:    "quay.test",
				What:     "the server takes weak suites: TLS_RSA_WITH_RC4_128_SHA",
				Remedy:   "leave them out",
			},
		},
	}
	d, err = report.TrustDrawing("Marrow Voe", at, v, "quay/tls", survey, true)
	if err != nil {
		t.Fatal(err)
	}
	text = drawn(t, d)
	var lines bytes.Buffer
	report.Survey(&lines, "quay/tls", survey)
	for _, want := range []string{"TLS_AES_128_GCM_SHA256", "TLS_RSA_WITH_RC4_128_SHA",
		"broken: a stranger's certificate: in", "a device limited to TLS 1.1: refused", "weak suites"} {
		if !strings.Contains(text, want) {
			t.Errorf("not drawn: %q in\n%s", want, text)
		}
	}
	for _, want := range []string{"TLS 1.3  ✓ taken, 1 of 5 suites", "! RC4 is broken",
		"TLS 1.1  - not taken: alert protocol_version",
		"the server requires a client certificate, of Marrow Voe root", "✓ kept      no certificate",
		"✗ broken    a stranger's", "✗ a device limited to TLS 1.1 and 1 suite: refused"} {
		if !strings.Contains(lines.String(), want) {
			t.Errorf("not written: %q in\n%s", want, lines.String())
		}
	}
	for _, bad := range []func() error{
		func() error { _, err := report.TrustDrawing("x", at, nil, "", nil, false); return err },
		func() error { _, err := report.TrustDrawing("x", at, v, "", nil, true); return err },
	} {
		if bad() == nil {
			t.Error("nothing is drawn")
		}
	}
	for text, want := range map[string]string{"pen-1.crt": "pen-1.crt", "copy of pen.crt": `"copy of pen.crt"`,
		"1.5": `"1.5"`, "a: b": `"a: b"`, "#x": `"#x"`} {
		if got := report.Scalar(text); got != want {
			t.Errorf("%s as a scalar: %s", text, got)
		}
	}
}
