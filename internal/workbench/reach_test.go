package workbench

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/demo"
	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// until waits for a condition.
func until(t *testing.T, what string, f func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); !f(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

func farm(t *testing.T, o Options) *Bench {
	t.Helper()
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil {
		t.Fatal(err)
	}
	b, err := New(w, o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

func TestTargetsKnowWhoUsesThem(t *testing.T) {
	b := farm(t, Options{})
	all := b.Targets()
	if len(all) != 5 {
		t.Fatalf("%d targets", len(all))
	}
	tls := all[1]
	if tls.Name != "quay/tls" || !strings.HasPrefix(tls.URL, "mqtts://127.0.0.1:") || len(tls.CAs) != 1 ||
		!tls.StandIn ||
		!tls.Intrusive ||
		*tls.Anonymous {
		t.Errorf("%+v", tls)
	}
	if !slices.Contains(tls.Users, "4 devices pen (login pen-{n})") || len(tls.Logins) != 4 ||
		len(all[0].Logins) != 1 ||
		len(all[2].Logins) != 1 ||
		len(all[3].Logins) != 1 {
		t.Errorf("users %v, %d logins", tls.Users, len(tls.Logins))
	}
	if !slices.Equal(tls.Versions, []packet.Version{packet.V5, packet.V311}) {
		t.Errorf("versions %v", tls.Versions)
	}
	if all[4].Login != nil || all[4].StandIn || all[4].Anonymous != nil {
		t.Errorf("the barge: %+v", all[4])
	}
}

func TestDevicesWithOneIdentifierAreFound(t *testing.T) {
	b := farm(t, Options{})
	if got := b.SharedIdentifiers(); got != nil {
		t.Errorf("%+v", got)
	}
	for _, d := range b.Workspace().Devices {
		if d.Name == "barge" || d.Name == "shore" {
			d.Session.ClientID = "pen-3"
		}
	}
	got := b.SharedIdentifiers()
	if len(got) != 1 ||
		got[0].What != `the devices pen and barge and shore share the client identifier "pen-3" at quay, and will throw each other out` {
		t.Errorf("%+v", got)
	}
}

func TestWaysAreTriedInTheBackground(t *testing.T) {
	b := farm(t, Options{})
	if err := b.StartReach("nobody/tcp"); err == nil {
		t.Error("a way that is not there is tried")
	}
	if err := b.StartReach("quay/tls", "barge/radio"); err != nil {
		t.Fatal(err)
	}
	if err := b.StartReach(); err == nil || !strings.Contains(err.Error(), "stop that first") {
		t.Errorf("two runs at once: %v", err)
	}
	until(t, "the run ends", func() bool { return !b.ReachBoard().Running })
	board := b.ReachBoard()
	if w := board.Ways[1]; w.Result == nil || !w.Result.In() || w.Stale || len(w.Result.Events) == 0 {
		t.Errorf("%+v", w)
	}
	if board.Ways[0].Result != nil || board.Ways[4].Result.Diagnosis().Cause != reach.Refused {
		t.Errorf("%+v", board.Ways[4].Result)
	}
	// The doors between listeners show when both are known, whatever the order.
	b.StartReach("quay/tcp")
	until(t, "the run ends", func() bool { return !b.ReachBoard().Running })
	if w := b.ReachBoard().Ways[0]; !slices.ContainsFunc(
		w.Result.Doors,
		func(d reach.Door) bool { return d.Name == workspace.DoorPlain },
	) {
		t.Errorf("doors %+v", w.Result.Doors)
	}
	// All of it is on the trace, as Hodstone's own: nothing of the site's, nor among the stand-in's strangers.
	events, _ := b.Log.Read(1, 10_000)
	for _, e := range events {
		if !e.Own() {
			t.Errorf("traced as the site's: %+v", e)
		}
	}
	if len(events) < 50 {
		t.Errorf("%d events", len(events))
	}
	if _, clients := b.Statistics(); len(clients) > 0 {
		t.Errorf("counted: %+v", clients)
	}
	site, own := b.Refusals("quay")
	if len(site) > 0 || len(own) == 0 {
		t.Errorf("refused to the site %+v, to probes %d", site, len(own))
	}
	bad := client.New(
		client.Options{
			Dial:    func(ctx context.Context) (*link.Link, error) { return b.StandIn("quay").Dial(ctx) },
			Version: packet.V5,
			Connect: packet.Connect{ClientID: "stranger", CleanStart: true},
		},
	)
	if _, err := bad.Connect(t.Context()); err == nil {
		t.Error("a stranger is let in")
	}
	if site, _ = b.Refusals("quay"); len(site) != 1 || site[0].ClientID != "stranger" {
		t.Errorf("the site's %+v", site)
	}
	// Stopped, nothing hangs.
	b.StartReach()
	b.StopReach()
	until(t, "the run ends", func() bool { return !b.ReachBoard().Running })
}

func TestADropOnPurposeIsMeasured(t *testing.T) {
	t.Parallel()
	b := farm(t, Options{})
	if err := b.Drop("quay", "cut"); err == nil {
		t.Error("an observer that is not there is dropped")
	}
	b.Start()
	in := func() bool {
		s := b.Stays()
		return len(s) > 0 && s[0].In
	}
	for i, how := range []string{"cut", "throw out"} {
		until(t, "the observer is in", in)
		if err := b.Drop("quay", how); err != nil {
			t.Fatal(err)
		}
		until(t, "the gap ends", func() bool {
			g := b.Stays()[0].Gaps
			return len(g) == i+1 && !g[i].To.IsZero()
		})
		if g := b.Stays()[0].Gaps[i]; g.Purpose != how || g.Length(time.Now()) <= 0 || g.Detection() > 5*time.Second {
			t.Errorf("%+v", g)
		}
	}
	until(t, "the observer is in", in)
	if err := b.Drop("quay", "hex"); err == nil {
		t.Error("dropped by a hex")
	}
	if n := len(b.Stays()[0].Gaps); n != 2 {
		t.Errorf("%d gaps after a drop that did not happen", n)
	}
	// As soon as it is in again, before anything else of its way in is answered.
	b.observers.at("quay").client.Slow(link.Pace{Delay: 300 * time.Millisecond})
	if err := b.Drop("quay", "cut"); err != nil {
		t.Fatal(err)
	}
	until(t, "the cut shows", func() bool { return !in() })
	until(t, "the observer is in", func() bool { return b.Drop("quay", "freeze") == nil })
	until(t, "silence shows", func() bool { return b.Brokers()[0].Silent > reach.Overdue })
	if err := b.Drop("barge", "cut"); err == nil {
		t.Error("dropped where no observer is")
	}
}

func TestCredentialsAreExaminedAndOpened(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "creds")
	if err := trust.WriteSamples(dir, "Marrow Voe"); err != nil {
		t.Fatal(err)
	}
	b := farm(t, Options{Credentials: []string{dir}})
	b.Examine()
	until(t, "they are read", func() bool { v, _ := b.Credentials(); return v != nil })
	if n := b.Unlock("wrong"); n != 0 {
		t.Errorf("a wrong passphrase opens %d", n)
	}
	if n := b.Unlock(trust.SamplePassphrase); n != 2 {
		t.Errorf("the passphrase opens %d, want 2", n)
	}
	v, _ := b.Credentials()
	if len(v.Identities) != 5 {
		t.Errorf("%d logins", len(v.Identities))
	}
	file := filepath.Join(t.TempDir(), "ca.h")
	if err := b.ExportCA(file, v.CAs(), false); err != nil {
		t.Fatal(err)
	}
	if data, err := os.ReadFile(file); err != nil || !strings.Contains(string(data), "static const char ca_pem[]") {
		t.Errorf("%v\n%s", err, data)
	}
	for name, want := range map[string]string{file: "is there already", "ca.doc": "a CA is written as"} {
		if err := b.ExportCA(name, v.CAs(), false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// The handshake is tried with what the stand-in's own authority issues.
	ways := b.SurveyTargets()
	if len(ways) != 2 || b.Survey("quay/tls").Survey != nil {
		t.Fatalf("%d ways with TLS", len(ways))
	}
	if err := b.StartSurvey(b.Targets()[0], trust.Device{}); err == nil {
		t.Error("a plain listener is surveyed")
	}
	if err := b.StartSurvey(ways[0], trust.Device{}); err != nil {
		t.Fatal(err)
	}
	if err := b.StartSurvey(ways[1], trust.Device{}); err == nil {
		t.Error("two surveys at once")
	}
	until(t, "the survey ends", func() bool { return b.Survey("quay/tls").Survey != nil })
	s := b.Survey("quay/tls").Survey
	if s.Err != nil || s.Presented.Cause != "" ||
		!slices.ContainsFunc(
			s.Trials,
			func(x trust.Trial) bool { return x.Name == "an expired certificate" && x.Verdict == trust.Kept },
		) {
		t.Errorf("%+v", s)
	}
	// A certificate with a flaw is seen for what it is.
	w, _ := workspace.Read(demo.Files, demo.File, demo.File)
	w.Brokers[0].StandIn.Certificate = "incomplete"
	flawed, err := New(w, Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer flawed.Close()
	flawed.StartSurvey(flawed.SurveyTargets()[0], trust.Device{})
	until(t, "the survey ends", func() bool { return flawed.Survey("quay/tls").Survey != nil })
	if got := flawed.Survey("quay/tls").Survey.Presented.Cause; got != trust.ChainIncomplete {
		t.Errorf("cause %q", got)
	}
}

func TestPastedDetailsBecomeAWay(t *testing.T) {
	b := farm(t, Options{})
	if _, err := b.Paste("the usual"); err == nil {
		t.Error("nothing is understood, and taken")
	}
	if _, err := b.Paste("host: quay\nca: /nowhere/ca.crt"); err == nil ||
		!strings.Contains(err.Error(), "cannot be read") {
		t.Errorf("%v", err)
	}
	a, _ := trust.NewAuthority("farm")
	pen, _ := a.Issue(trust.Request{CommonName: "pen-1"})
	chain, key, _ := trust.PEM(pen)
	dir := t.TempDir()
	for name, data := range map[string][]byte{"ca.crt": a.RootPEM(), "pen.crt": chain, "pen.key": key} {
		os.WriteFile(filepath.Join(dir, name), data, 0o600)
	}
	text := strings.ReplaceAll(
		"host: quay.test\nport: 8883\nca: DIR/ca.crt\ncertificate: DIR/pen.crt\nkey: DIR/pen.key\n",
		"DIR",
		dir,
	)
	if _, err := b.Paste(text); err != nil {
		t.Fatal(err)
	}
	all := b.Targets()
	p := all[len(all)-1]
	if p.Name != "pasted" || p.URL != "mqtts://quay.test:8883" || len(p.CAs) != 1 || p.Login == nil ||
		p.Login.Certificate == nil ||
		p.Login.HasPassword {
		t.Errorf("%+v", p)
	}
	b.Paste("mqtt://10.0.0.7")
	if all := b.Targets(); len(all) != 6 || all[5].URL != "mqtt://10.0.0.7" {
		t.Errorf("%+v", all[len(all)-1])
	}
}

// started is a bench at work on a workspace.
func started(t *testing.T, text string) *Bench {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f.yaml": {Data: []byte(text)}}, "f.yaml", "f.yaml")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := New(w, Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	b.Start()
	return b
}

// TestStayingInAtARealBroker: it is killed and comes back; the gap, its evidence and the
// attempts are told, and the observer returns by itself.
func TestStayingInAtARealBroker(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	text := "hodstone: 1\nbrokers: {harbour: {listeners: {inside: {url: \"" + broker.URLs["tcp"] + "\"}}}}\n"
	b := started(t, text)
	stay := func() reach.Stay {
		if s := b.Stays(); len(s) > 0 {
			return s[0]
		}
		return reach.Stay{}
	}
	until(t, "a ping comes back", func() bool { return stay().In && len(stay().Samples) > 0 })
	if err := b.Drop("harbour", "throw out"); err == nil || !strings.Contains(err.Error(), "only a stand-in") {
		t.Errorf("%v", err)
	}
	broker.Kill()
	until(t, "the loss shows", func() bool { return !stay().In && len(stay().Gaps) == 1 })
	until(t, "it tries again, in vain", func() bool { return stay().Gaps[0].Tries > 0 })
	g := stay().Gaps[0]
	if g.Blame == client.ByUs || g.Blame == client.ByUnknown || g.Evidence == "" || g.Purpose != "" ||
		!strings.Contains(g.Why, "refused") {
		t.Errorf("%+v", g)
	}
	if err := b.Drop("harbour", "cut"); err == nil {
		t.Error("what is gone is dropped")
	}
	broker.Run()
	until(t, "it is back", func() bool { return stay().In })
	if g := stay().Gaps[0]; g.To.IsZero() || g.Length(time.Now()) <= 0 || stay().Entries != 2 {
		t.Errorf("%+v", stay())
	}
	until(t, "it watches again", func() bool { return b.Brokers()[0].In }) // which is after it is in
	if got := b.Brokers(); len(got) != 1 || got[0].Plain {
		t.Errorf("%+v", got)
	}
	b.StartReach()
	until(t, "the run ends", func() bool { return !b.ReachBoard().Running })
	r := b.ReachBoard().Ways[0].Result
	if !r.In() || !slices.ContainsFunc(r.Doors, func(d reach.Door) bool { return d.Name == workspace.DoorAnonymous }) {
		t.Errorf("%+v", r)
	}
}

func TestTheEditorOpensAtALine(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"vi", "hx", "code"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", dir)
	b := farm(t, Options{Follow: true})
	file := b.Workspace().File
	for _, c := range []struct{ visual, editor, want string }{
		{"", "", "vi +7 " + file}, {"", "hx", "hx " + file + ":7"},
		{"code -n", "hx", "code -n --wait --goto " + file + ":7"}, {"ed", "", "!the editor ed is not there"},
	} {
		t.Setenv("VISUAL", c.visual)
		t.Setenv("EDITOR", c.editor)
		cmd, err := b.Editor("", 7)
		if bad, fails := strings.CutPrefix(c.want, "!"); fails {
			if err == nil || !strings.Contains(err.Error(), bad) {
				t.Errorf("%+v: %v", c, err)
			}
			continue
		}
		if err != nil || strings.Join(cmd.Args, " ") != dir+"/"+c.want {
			t.Errorf("%+v: %v, %v", c, cmd, err)
		}
	}
	t.Setenv("VISUAL", "")
	t.Setenv("PATH", t.TempDir())
	if _, err := b.Editor("", 7); err == nil || !strings.Contains(err.Error(), "EDITOR") {
		t.Errorf("without an editor: %v", err)
	}
	if _, err := farm(t, Options{}).Editor("", 7); err == nil || !strings.Contains(err.Error(), "demo --write") {
		t.Errorf("inside the program: %v", err)
	}
	for _, x := range b.Targets() {
		if x.Line < 2 {
			t.Errorf("%s stands in line %d", x.Name, x.Line)
		}
	}
}

// TestStayingInWhereNobodyWatches: a client of ours at a broker that no device uses.
func TestStayingInWhereNobodyWatches(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	text := "hodstone: 1\nbrokers:\n  quay: {stand-in: {anonymous: true}}\n  harbour: {listeners: {old: {url: \"mqtt://127.0.0.1:1\"}, inside: {url: \"" + broker.URLs["tcp"] + "\"}}}\n"
	b := started(t, text)
	stay := func() (s reach.Stay) {
		for _, x := range b.Stays() {
			if x.Broker == "harbour" {
				s = x
			}
		}
		return s
	}
	for _, name := range []string{"", "pier"} {
		if err := b.StayIn(name, ""); err == nil {
			t.Errorf("stays in at %q", name)
		}
	}
	if err := b.StayIn("quay", ""); err == nil || b.Leave("quay") == nil || b.Leave("harbour") == nil {
		t.Errorf("the observer stays, and nothing else does yet: %v", err)
	}
	if err := b.StayIn("harbour", "inside"); err != nil {
		t.Fatal(err)
	}
	until(t, "a ping comes back", func() bool { return stay().In && len(stay().Samples) > 0 })
	if got := b.Brokers(); len(got) != 2 || got[1].Name != "harbour" || !got[1].In {
		t.Errorf("%+v", got)
	}
	if err := b.Drop("harbour", "cut"); err != nil {
		t.Fatal(err)
	}
	until(t, "it is back", func() bool { return stay().In && stay().Entries == 2 })
	if err := b.Leave("harbour"); err != nil {
		t.Fatal(err)
	}
	until(t, "it has left", func() bool { return !stay().In })
	if s := stay(); !s.Left || len(s.Gaps) != 1 || len(b.Brokers()) != 1 {
		t.Errorf("%+v", s)
	}
	events, _ := b.Log.Read(1, 10_000)
	for _, e := range events {
		if _, asks := e.Packet.(*packet.Subscribe); asks && e.Broker == "harbour" {
			t.Errorf("it reads: %+v", e)
		}
	}
	if err := b.StayIn("harbour", "inside"); err != nil {
		t.Error(err)
	}
	until(t, "it is in again", func() bool { return stay().In && !stay().Left })
}
