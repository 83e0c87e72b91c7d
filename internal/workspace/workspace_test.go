package workspace_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/goccy/go-yaml/parser"
	"software.sslmate.com/src/go-pkcs12"

	"hodstone/demo"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

func read(t *testing.T, text string) *workspace.Workspace {
	t.Helper()
	w, err := workspace.Read(
		fstest.MapFS{
			"hodstone.yaml": {Data: []byte(text)},
			"s.json":        {Data: []byte(`{"$defs":{"a":{"type":"object"}}}`)},
			"pass":          {Data: []byte("sesame\n")},
		},
		"hodstone.yaml",
		"farm.yaml",
	)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func TestTheDemoIsSound(t *testing.T) {
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range w.Problems {
		t.Error(p)
	}
	if n := len(w.Contract.Clauses); n < 15 || n > 20 {
		t.Errorf("%d clauses", n)
	}
	if len(w.Devices) != 4 || w.Devices[0].Count != 4 || len(w.Contract.Parties) != 4 || w.Broker("") == nil ||
		w.Login("bench") == nil {
		t.Errorf("%d kinds of devices, %d parties", len(w.Devices), len(w.Contract.Parties))
	}
}

const sound = `hodstone: 1
brokers:
  quay: {stand-in: {logins: [pen]}, login: pen}
logins:
  pen: {password: {file: pass}}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    a: {topic: "v/{pen}/a", from: pen, to: shore, payload: {format: json, schema: {$ref: "s.json#/$defs/a"}}}
    set: {topic: v/set, from: shore, to: pen, payload: {format: text}}
devices:
  p: {plays: pen, parameters: {pen: "1"}, login: pen, signals: {x: {start: 1}}, publishes: [{clause: a, payload: {v: "= x"}}]}
`

// TestEachMistakeIsOneClearMessage changes one thing in a sound file and expects one
// problem at the right place; whatever does not depend on it stays.
func TestEachMistakeIsOneClearMessage(t *testing.T) {
	if w := read(t, sound); len(w.Problems) != 0 || w.Login("pen").Password.Reveal() != "sesame" ||
		fmt.Sprintf("%+v %#v", w.Login("pen"), w.Login("pen")) == "" ||
		strings.Contains(fmt.Sprintf("%+v %#v", *w.Login("pen"), *w.Login("pen")), "sesame") {
		t.Fatalf("%v", w.Problems)
	}
	for _, tt := range []struct {
		name, old, new string
		place, want    string // the text it must point at, and parts of the message separated by |
		devices        int
	}{
		{"misspelt key", "stand-in:", "stand-inn:", `stand-inn`, `no key "stand-inn"|did you mean "stand-in"?`, -1},
		{"unknown top key", "devices:", "divices:", `divices`, `the workspace has no key "divices"|devices`, 0},
		{"bad schema", `{$ref: "s.json#/$defs/a"}`, `{type: objekt}`, `objekt`, `schema of clause a is bad|/type`, 1},
		{"schema file missing", `s.json#`, `t.json#`, `{$ref`, "cannot read t.json", 1},
		{"schema from the net", `s.json#/$defs/a`, `https://x.example/s`, `{$ref`, "files beside the workspace only",
			1},
		{"duplicate topic", "topic: v/set", `topic: "v/{x}/a"`, `"v/{x}/a"`, "duplicate topic|clause a", 1},
		{"missing secret", "{file: pass}", "{env: HODSTONE_TEST_UNSET}", `HODSTONE_TEST`,
			"environment variable HODSTONE_TEST_UNSET is not set|export", 1},
		{"missing secret file", "file: pass", "file: past", `past`, "past cannot be read", 1},
		{"wildcard in a pattern", "v/{pen}/a", "v/+/a", `"v/+/a"`, "name the level as a parameter", 1},
		{"unknown party", "from: shore", "from: shor", `shor,`, `party "shor" is not defined|did you mean "shore"?`, 1},
		{"unknown login", "login: pen, sig", "login: penn, sig", `penn`, `login "penn"|did you mean "pen"?`, 0},
		{"login that is no text", "login: pen, sig", "login: [pen], sig", `[pen]`, "login must be text", 0},
		{"login that is a mapping", "login: pen, sig", "login: {password: x}, sig", `{password`, "not a mapping|logins: at the top", 0},
		{"message without a payload", `clause: a, payload: {v: "= x"}`, `clause: a`, `{clause: a}`, "an empty one is no json|on purpose", 0},
		{"party that is no text", "from: shore", "from: {shore: }", `{shore`, "party must be text", 1},
		{"long line", "v/set", "v/set, note: " + strings.Repeat("long ", 100) + ", from: shor, note: " + strings.Repeat("x", 99),
			``, "| … long long|x…\n", -1},
		{"misspelt key of a device", "login: pen, sig", "logiz: pen, sig", `logiz`,
			`no key "logiz"|did you mean "login"?`, 1},
		{"unknown clause of a reaction", "publishes: [", "reactions: [{when: sett, publish: a}], publishes: [",
			`sett`, `clause "sett" is not defined`, 0},
		{"unknown fault", "{logins: [pen]}", "{logins: [pen], faults: [will.sometimes]}", `will.sometimes`,
			"no fault|will.never-sent", -1},
		{"bad qos", "to: shore,", "to: shore, qos: 3,", `3, payload`, "whole number from 0 to 2", 1},
		{"bad cadence", "to: shore,", "to: shore, every: often,", `often`, "no cadence|12s ± 3s", 1},
		{"bad expression", `"= x"`, `"= xx"`, `xx"`, `xx|known here: x`, 0},
		{"unknown parameter value", `parameters: {pen: "1"}`, `count: 2`, `a, payload: {v`, "no value for {pen}", 0},
		{"clause of another party", "clause: a", "clause: set", `set, payload: {v`, "published by shore, not by pen",
			0},
		{"shared client id", `parameters: {pen: "1"}`, `parameters: {pen: "1"}, count: 2, session: {client-id: x}`,
			`x}, login`, "throw each other out", 0},
		{"keys of another wave", "{start: 1}", "{wave: sine, step: 2}", `2}}`, "step does nothing for a sine", 0},
		{"no YAML", "brokers:", "brokers: [", ``, "not YAML", -1},
		{"no version", "hodstone: 1", "name: x", `name: x`, `lacks "hodstone"`, 1},
		{"wrong kind", "parties: {pen: , shore: }", "parties: [pen]", `[pen]`, "must be a mapping", -1},
	} {
		t.Run(tt.name, func(t *testing.T) {
			if !strings.Contains(sound, tt.old) {
				t.Fatalf("%q is not in the file", tt.old)
			}
			changed := strings.Replace(sound, tt.old, tt.new, 1)
			w := read(t, changed)
			if len(w.Problems) == 0 {
				t.Fatal("no problem")
			}
			if len(w.Problems) > 1 && tt.devices >= 0 {
				t.Errorf("one mistake, %d messages: %v", len(w.Problems), w.Problems)
			}
			first := w.Problems[0].Error()
			line := strings.Split(changed, "\n")[w.Problems[0].Line-1]
			if at := string([]rune(line)[w.Problems[0].Column-1:]); !strings.HasPrefix(at, tt.place) {
				t.Errorf("points at %q, want %q:\n%s", at, tt.place, first)
			}
			for part := range strings.SplitSeq(tt.want, "|") {
				if !strings.Contains(first, part) {
					t.Errorf("no %q in\n%s", part, first)
				}
			}
			if tt.devices >= 0 && len(w.Devices) != tt.devices {
				t.Errorf("%d devices left, want %d: %v", len(w.Devices), tt.devices, w.Problems)
			}
		})
	}
}

// TestTLSInTheWorkspace: CA, certificate and key are read from files beside it, and what
// is wrong with them is told.
func TestTLSInTheWorkspace(t *testing.T) {
	ca, err := trust.NewAuthority("farm")
	if err != nil {
		t.Fatal(err)
	}
	mine, err := ca.Issue(trust.Request{CommonName: "pen-1"})
	if err != nil {
		t.Fatal(err)
	}
	other, err := ca.Issue(trust.Request{CommonName: "pen-2"})
	if err != nil {
		t.Fatal(err)
	}
	chain, key, err := trust.PEM(mine)
	if err != nil {
		t.Fatal(err)
	}
	_, otherKey, err := trust.PEM(other)
	if err != nil {
		t.Fatal(err)
	}
	text := `hodstone: 1
brokers: {harbour: {listeners: {outside: {url: "mqtts://10.0.0.7", ca: ca.pem, server-name: quay.local}}, login: pen-1}}
logins: {pen-1: {certificate: pen.crt, key: pen.key}}
`
	open := func(text string) *workspace.Workspace {
		t.Helper()
		w, err := workspace.Read(
			fstest.MapFS{
				"f":         {Data: []byte(text)},
				"ca.pem":    {Data: ca.RootPEM()},
				"pen.crt":   {Data: chain},
				"pen.key":   {Data: key},
				"other.key": {Data: otherKey},
			},
			"f",
			"f",
		)
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	w := open(text)
	if len(w.Problems) > 0 {
		t.Fatal(w.Problems)
	}
	l := w.Broker("harbour").Ways()[0]
	if len(l.CA) != 1 || !l.CA[0].Equal(ca.Root()) || l.ServerName != "quay.local" {
		t.Errorf("%+v", l)
	}
	var o client.Options
	login := w.Login("pen-1")
	if login.Apply(&o); login.Certificate == nil || o.Connect.HasUsername || o.Connect.HasPassword {
		t.Errorf("a login that has only a certificate sends %+v", o.Connect)
	}
	for change, want := range map[[2]string]string{
		{"ca: ca.pem", "ca: nowhere.pem"}:                "nowhere.pem cannot be read",
		{"ca: ca.pem", "ca: pen.key"}:                    "holds no certificate",
		{"mqtts://", "mqtt://"}:                          "does nothing without TLS",
		{"key: pen.key", "key: other.key"}:               "cannot be used",
		{", key: pen.key", ""}:                           "holds no key",
		{"certificate: pen.crt, ", ""}:                   "a key but no certificate",
		{"certificate: pen.crt", "certificate: nowhere"}: "nowhere cannot be read",
		{`"mqtts://10.0.0.7"`, `"https://10.0.0.7"`}:     "not by https://",
		{"listeners: {outside", "stand-in: {listeners: {serial: x}}, listenerz: {outside"}: `no listener "serial"`,
	} {
		changed := strings.Replace(text, change[0], change[1], 1)
		if got := fmt.Sprint(open(changed).Problems); changed == text || !strings.Contains(got, want) {
			t.Errorf("%s: no %q in %s", change[1], want, got)
		}
	}
}

// TestCredentialsInAnyForm: DER, a store with its passphrase, a bundle in one file; and the doors
// that are accepted.
func TestCredentialsInAnyForm(t *testing.T) {
	ca, err := trust.NewAuthority("farm")
	if err != nil {
		t.Fatal(err)
	}
	pen, err := ca.Issue(trust.Request{CommonName: "pen-1"})
	if err != nil {
		t.Fatal(err)
	}
	chain, key, _ := trust.PEM(pen)
	store, err := pkcs12.Modern.Encode(pen.PrivateKey, pen.Leaf, nil, "eelgrass")
	if err != nil {
		t.Fatal(err)
	}
	files := fstest.MapFS{
		"ca.der":  {Data: ca.Root().Raw},
		"pen.p12": {Data: store},
		"pen.pem": {Data: append(chain, key...)},
		"pass":    {Data: []byte("eelgrass\n")},
	}
	open := func(login, more string) *workspace.Workspace {
		t.Helper()
		files["f"] = &fstest.MapFile{Data: []byte(`hodstone: 1
credentials: [creds, more/pen.key]
brokers:
  harbour:
    listeners: {outside: {url: "mqtts://10.0.0.7", ca: ca.der}}
    login: pen-1
    ` + more + `
logins: {pen-1: {` + login + `}}
`)}
		w, err := workspace.Read(files, "f", "f")
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	for _, login := range []string{"certificate: pen.pem", "certificate: pen.p12, passphrase: {file: pass}",
		"certificate: pen.pem, key: pen.pem"} {
		w := open(login, "accepted: {plain: the barge has no TLS yet}")
		if len(w.Problems) > 0 || w.Login("pen-1").Certificate == nil ||
			w.Broker("harbour").Accepted["plain"] != "the barge has no TLS yet" ||
			len(w.Broker("harbour").Listeners[0].CA) != 1 {
			t.Errorf("%s: %v", login, w.Problems)
		}
		if fmt.Sprint(w.Credentials) != "[creds more/pen.key]" || w.TrustFiles[len(w.TrustFiles)-1] != "ca.der" {
			t.Errorf("credentials %v, files %v", w.Credentials, w.TrustFiles)
		}
	}
	for _, c := range [][3]string{
		{"certificate: pen.p12", "", "needs a passphrase"},
		{"certificate: pen.p12, passphrase: wrong", "", "the passphrase does not open it"},
		{"certificate: ca.der", "", "holds no key"},
		{"certificate: pen.pem", "accepted: {plain: true}", "plain is accepted without a reason"},
		{"certificate: pen.pem", "accepted: {window: because}", "has no key \"window\""},
	} {
		if got := fmt.Sprint(open(c[0], c[1]).Problems); !strings.Contains(got, c[2]) {
			t.Errorf("%v: %s", c, got)
		}
	}
}

// TestAStandInsRules: rights, limits, a flawed certificate, tokens, an encrypted key.
func TestAStandInsRules(t *testing.T) {
	ca, err := trust.NewAuthority("farm")
	if err != nil {
		t.Fatal(err)
	}
	cert, err := ca.Issue(trust.Request{CommonName: "pen-1"})
	if err != nil {
		t.Fatal(err)
	}
	chain, _, _ := trust.PEM(cert)
	locked, err := trust.LockedPEM(cert, "eelgrass")
	if err != nil {
		t.Fatal(err)
	}
	text := `
hodstone: 1
logins:
  pen-1: {certificate: pen.crt, key: pen.key, passphrase: {file: pass}}
  pen-2: {token: abc}
  desk: {password: kelp, method: SCRAM-SHA-256}
brokers:
  quay:
    version: 3.1
    stand-in:
      logins: [pen-1, pen-2, desk]
      rights: {"pen-*": {publish: ["farm/{login}/#"], subscribe: []}}
      limits: {maximum-qos: 1, retain-available: false, client-id: "[a-z]+", connections: 5, server-keep-alive: 20s, session-expiry: 90s}
      certificate: expired
`
	open := func(text string) *workspace.Workspace {
		w, err := workspace.Read(
			fstest.MapFS{
				"w.yaml":  {Data: []byte(text)},
				"pen.crt": {Data: chain},
				"pen.key": {Data: locked},
				"pass":    {Data: []byte("eelgrass\n")},
			},
			"w.yaml",
			"w.yaml",
		)
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	w := open(text)
	if len(w.Problems) > 0 {
		t.Fatal(w.Problems)
	}
	s := w.Broker("quay").StandIn
	if r := s.RightsOf("pen-2"); len(r.Publish) != 1 || r.Subscribe == nil || len(r.Subscribe) != 0 ||
		s.RightsOf("desk").Publish != nil {
		t.Errorf("rights %+v", r)
	}
	if l := s.Limits; *l.MaximumQoS != 1 || !l.NoRetained || l.NoShared || l.ClientID.MatchString("a1") ||
		l.Connections != 5 ||
		l.ServerKeepAlive != 20 || l.SessionExpiry != 90 ||
		s.Certificate != "expired" {
		t.Errorf("%+v", s)
	}
	o := client.Options{Version: 4}
	if w.Login("pen-2").Apply(&o); string(o.Connect.Password) != "abc" || w.Login("pen-1").Certificate == nil {
		t.Errorf("%+v", o.Connect)
	}
	if w.Login("desk").Apply(&o); o.Auth != nil || string(o.Connect.Password) != "kelp" {
		t.Error("SCRAM before version 5")
	}
	o.Version = 5
	if w.Login("desk").Apply(&o); o.Auth == nil || o.Connect.HasPassword {
		t.Error("the password is sent beside SCRAM")
	}
	for change, want := range map[[2]string]string{
		{"{file: pass}", "wrong"}:                    "the passphrase does not open it",
		{", passphrase: {file: pass}", ""}:           "give passphrase: {env: NAME}",
		{"token: abc", "token: abc, password: x"}:    "a password and a token",
		{"SCRAM-SHA-256", "SCRAM-SHA-1"}:             "there is SCRAM-SHA-256",
		{`"pen-*":`, `"pin-*":`}:                     "no login of the stand-in is called",
		{`farm/{login}/#`, `farm/#/x`}:               "goes on after #",
		{"certificate: expired", "certificate: old"}: "there are: expired, wrong-name, incomplete",
		{`"[a-z]+"`, `"["`}:                          "the rule for client identifiers",
		{"version: 3.1", "version: 4"}:               "write 3.1, 3.1.1 or 5",
		{"maximum-qos: 1", "maximum-qos: 2"}:         "maximum-qos",
		{"connections: 5", "connexions: 5"}:          "connections",
	} {
		changed := strings.Replace(text, change[0], change[1], 1)
		if got := fmt.Sprint(open(changed).Problems); changed == text || !strings.Contains(got, want) {
			t.Errorf("%v: %s, want %q", change, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(sound)
	f.Add(
		"hodstone: 1\ncontract: {parties: {a: }, clauses: {a: {topic: x, from: a, payload: {format: json, schema: &x {b: *x}}}}}",
	)
	f.Add("hodstone: 1\nlogins: &x {<<: *x, a: {password: *y}}")
	f.Add("hodstone: 1\ncontract: {clauses: {a: {topic: x, from: y, payload: {format: json, schema: {type: [1]}}}}}")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)}}, "f", "f")
		if err != nil {
			return
		}
		for _, p := range w.Problems {
			if p.Line < 1 || p.Column < 1 || p.Message == "" {
				t.Errorf("%+v", p)
			}
		}
	})
}

// TestNumbersAsYAMLWritesThem: hexadecimal and its like are the numbers that they stand for.
func TestNumbersAsYAMLWritesThem(t *testing.T) {
	for text, want := range map[string]any{"0x10": 16, "0o17": 15, "0b101": 5, "1_000": 1000, "+7": 7, "-3": -3,
		".5": 0.5, "1.0e3": 1000.0} {
		w, err := workspace.Read(
			fstest.MapFS{
				"f": {
					Data: []byte(
						"hodstone: 1\nbrokers: {q: {stand-in: {}}}\ncontract: {parties: {p: }, clauses: {c: {topic: t, from: p, payload: {format: text}}}}\ndevices: {d: {plays: p, signals: {s: {start: " + text + "}}}}\n",
					),
				},
			},
			"f",
			"f",
		)
		if err != nil || len(w.Problems) > 0 {
			t.Fatal(text, err, w.Problems)
		}
		if got := w.Devices[0].Signals[0].Start; fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s is %v (%T), want %v", text, got, got, want)
		}
	}
}

// TestWhatAStandInCannotGiveIsWarnedOf: clauses beyond its limits are told, and are no problem.
func TestWhatAStandInCannotGiveIsWarnedOf(t *testing.T) {
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(`hodstone: 1
brokers: {q: {stand-in: {limits: {maximum-qos: 1, retain-available: false}}}}
contract:
  parties: {p: }
  clauses:
    high: {topic: t/high, from: p, qos: 2, payload: {format: text}}
    kept: {topic: t/kept, from: p, retain: true, payload: {format: text}}
    fine: {topic: t/fine, from: p, qos: 1, retain: false, payload: {format: text}}
`)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	var got []string
	for _, f := range w.Findings() {
		if f.Lint.Name == "beyond-limits" {
			got = append(got, f.Message)
		}
	}
	if len(got) != 2 ||
		!strings.Contains(got[0], "clause high asks for QoS 2; the stand-in q allows QoS 1 at most") ||
		!strings.Contains(got[1], "clause kept asks for retained messages") {
		t.Errorf("%q", got)
	}
}

// BenchmarkLoad reads a workspace of 5,000 clauses, beside one of 500: the ratio tells whether it grows with the
// square.
func BenchmarkLoad(b *testing.B) {
	for _, n := range []int{500, 5_000} {
		var text strings.Builder
		text.WriteString("hodstone: 1\nbrokers: {q: {stand-in: {}}}\ncontract:\n  parties: {p: }\n  clauses:\n")
		for i := range n {
			fmt.Fprintf(
				&text,
				"    c%d: {topic: \"site/%d/{unit}/value%d\", from: p, payload: {format: number}}\n",
				i,
				i%50,
				i,
			)
		}
		fsys := fstest.MapFS{"f": {Data: []byte(text.String())}}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if w, err := workspace.Read(fsys, "f", "f"); err != nil || len(w.Problems) > 0 ||
					len(w.Contract.Clauses) != n {
					b.Fatal(err, w.Problems)
				}
			}
			// The baseline: the YAML library reads the same text, and makes nothing of it.
			start, times := time.Now(), 0
			for ; times < 3 || time.Since(start) < 200*time.Millisecond; times++ {
				if _, err := parser.ParseBytes(fsys["f"].Data, 0); err != nil {
					b.Fatal(err)
				}
			}
			base := time.Since(start) / time.Duration(times)
			b.ReportMetric(float64(b.Elapsed())/float64(b.N)/float64(base), "×YAML")
		})
	}
}

// TestADocumentKeepsWhatItDoesNotTouch: edits splice, are taken back, and never overwrite what somebody else wrote.
func TestADocumentKeepsWhatItDoesNotTouch(t *testing.T) {
	file := filepath.Join(t.TempDir(), "hodstone.yaml")
	text := "hodstone: 1  # a comment\nname:   oddly   spaced\nbrokers: {q: {stand-in: {}}}\n"
	if err := os.WriteFile(file, []byte(text), 0o640); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	d := workspace.NewDocument(w)
	at := strings.Index(text, "oddly")
	if err := d.Splice(at, len("oddly"), "very"); err != nil {
		t.Fatal(err)
	}
	on := func() string { b, _ := os.ReadFile(file); return string(b) }
	if on() != strings.Replace(text, "oddly", "very", 1) || d.Workspace().Name != "very   spaced" || d.Revision() != 2 {
		t.Errorf("%q, %q, revision %d", on(), d.Workspace().Name, d.Revision())
	}
	if info, _ := os.Stat(file); info.Mode().Perm() != 0o640 {
		t.Errorf("its mode is %v now", info.Mode())
	}
	if err := d.Splice(strings.Index(on(), "1"), 1, "99"); err != nil { // unsound: it is written, and not in force
		t.Fatal(err)
	}
	if found, old := d.Problems(); !old || len(found) == 0 || d.Workspace().Name != "very   spaced" {
		t.Errorf("%v %v", found, old)
	}
	for range 2 {
		if ok, err := d.Undo(); !ok || err != nil {
			t.Fatal(ok, err)
		}
	}
	if ok, _ := d.Undo(); ok || on() != text || d.Workspace().Name != "oddly   spaced" {
		t.Errorf("%q", on())
	}
	os.WriteFile(file, []byte(text+"# by another\n"), 0o640)
	if err := d.Splice(0, 0, "# ours\n"); err == nil || !strings.Contains(err.Error(), "another program") ||
		strings.Contains(on(), "ours") {
		t.Errorf("%v %q", err, on())
	}
	if changed, err := d.Reload(); !changed || err != nil {
		t.Error(changed, err)
	}
	if err := d.Splice(0, 1<<20, ""); err == nil {
		t.Error("beyond the end")
	}
}

// TestHostileFiles: what nests without end, what lies outside, pipes and endless files are told, and hold nothing up.
func TestHostileFiles(t *testing.T) {
	for _, deep := range []string{"[", "{a: ", "- ", "? ", "a:\n [", "{\n"} {
		for _, head := range []string{"", "hodstone: 1\nname: ", "hodstone: 1\nbrokers:\n  "} {
			start := time.Now()
			w := read(t, head+strings.Repeat(deep, 300_000))
			if len(w.Problems) == 0 || time.Since(start) > 20*time.Second {
				t.Errorf("%q: %v after %s", head+deep, w.Problems, time.Since(start))
			}
		}
	}
	steps := ""
	for i := range 1500 {
		steps += strings.Repeat(" ", i) + "a:\n"
	}
	if w := read(t, steps); len(w.Problems) != 1 || !strings.Contains(w.Problems[0].Message, "too deep") {
		t.Errorf("indentation: %v", w.Problems)
	}
	many := strings.Replace(sound, `["1", "2"]`, `["1", "2"`+strings.Repeat(", x", 250_000)+"]", 1)
	if w := read(t, many); len(w.Problems) != 0 {
		t.Errorf("a long list: %.300v", w.Problems)
	}
	bomb := "x0: &a0 [x]\n"
	for i := range 30 {
		bomb += fmt.Sprintf("x%d: &a%d [*a%d, *a%d]\n", i+1, i+1, i, i)
	}
	bomb = strings.Replace(sound, `{$ref: "s.json#/$defs/a"}`, "{enum: *a30}", 1) + bomb
	if w := read(t, bomb); !slices.ContainsFunc(w.Problems, func(p *workspace.Problem) bool {
		return strings.Contains(p.Message, "too much of this file")
	}) {
		t.Errorf("aliases of aliases: %.900v", w.Problems)
	}
	prose := sound + "    # [[[ {{{ a bracket in a comment\n  q: {plays: pen, note: \"" + strings.Repeat(
		"[ it's ",
		2000,
	) + "\"}\n"
	if w := read(t, prose); len(w.Problems) != 0 {
		t.Errorf("prose: %.300v", w.Problems)
	}

	outside, dir := t.TempDir(), t.TempDir()
	for _, name := range []string{"../x.proto", "/etc/x.proto", "a/../../x.proto"} {
		away := strings.Replace(sound, "{format: text}", "{format: protobuf, file: "+name+", message: X}", 1)
		if err := os.WriteFile(filepath.Join(dir, "hodstone.yaml"), []byte(away), 0o600); err != nil {
			t.Fatal(err)
		}
		w, err := workspace.Open(dir)
		if err != nil || !slices.ContainsFunc(w.Problems, func(p *workspace.Problem) bool {
			return strings.Contains(p.Message, "names are those of files in the folder")
		}) {
			t.Errorf("%s: %v %v", name, err, w.Problems)
		}
	}
	write := func(name, text string) {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(filepath.Join(outside, "s.json"), `{"$defs":{"a":{"type":"object"}}}`)
	write(filepath.Join(outside, "pass"), "sesame\n")
	for name, schema := range map[string]func(at string) error{
		"a link out of the folder": func(at string) error { return os.Symlink(filepath.Join(outside, "s.json"), at) },
		"a pipe":                   func(at string) error { return syscall.Mkfifo(at, 0o600) },
		"an endless file":          func(at string) error { return os.Symlink("/dev/zero", at) },
		"a large file":             func(at string) error { return os.WriteFile(at, make([]byte, 17<<20), 0o600) },
		"a folder":                 func(at string) error { return os.Mkdir(at, 0o700) },
	} {
		at := filepath.Join(dir, "s.json")
		os.RemoveAll(at)
		if err := schema(at); err != nil {
			t.Fatal(err)
		}
		// A secret may stand elsewhere.
		write(
			filepath.Join(dir, "hodstone.yaml"),
			strings.Replace(sound, "{file: pass}", "{file: "+filepath.Join(outside, "pass")+"}", 1),
		)
		start := time.Now()
		w, err := workspace.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		if len(w.Problems) != 1 || !strings.Contains(w.Problems[0].Message, "schema of clause a is bad") ||
			w.Login("pen").Password.Reveal() != "sesame" {
			t.Errorf("%s: %v", name, w.Problems)
		}
		if _, err := workspace.NewDocument(w).Reload(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if took := time.Since(start); took > 3*time.Second {
			t.Errorf("%s took %s", name, took)
		}
	}
	pipe := filepath.Join(dir, "pipe.yaml")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{pipe, "/dev/zero"} {
		if w, err := workspace.Open(name); err == nil && len(w.Problems) == 0 {
			t.Errorf("%s opens", name)
		}
	}
}
