package workbench

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"hodstone/demo"
	"hodstone/internal/contract"
	"hodstone/internal/contract/draft"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// eye is an observer that notes what it gets on a log, from now on.
func eye(t *testing.T, s *standin.Server, name string, log *trace.Log) (leave func()) {
	t.Helper()
	rec := trace.NewRecorder(trace.Source{Client: name, Role: trace.RoleObserver, Broker: "quay", Version: packet.V5}, log)
	c := client.New(client.Options{Dial: s.Dial, Version: packet.V5, Hooks: rec.Hooks(),
		Connect: packet.Connect{ClientID: name, CleanStart: true, KeepAlive: 30}})
	ctx := context.Background()
	if _, err := c.Connect(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Subscribe(ctx, []packet.Subscription{{Filter: "#", QoS: 2, RetainAsPublished: true}}); err != nil {
		t.Fatal(err)
	}
	rec.Add(trace.Event{Kind: trace.Link, Link: client.Watching, Text: "watches"})
	return func() { c.Disconnect(0) }
}

// live lets the devices of a workspace live at a stand-in of their own, for a time on the fake clock for each of the
// logs: an observer watches them into each, one after the other. meanwhile, where there is one, is done after a minute.
func live(t *testing.T, w *workspace.Workspace, each time.Duration, logs []*trace.Log, meanwhile func([]*device.Device)) {
	synctest.Test(t, func(t *testing.T) {
		s, err := standin.New(standin.Options{Anonymous: true})
		if err != nil {
			t.Fatal(err)
		}
		gone := eye(t, s, "observer", logs[0])
		var devices []*device.Device
		for _, kind := range w.Devices {
			for n := range max(1, kind.Count) {
				d := device.New(device.Options{Kind: kind, Number: n + 1, Contract: w.Contract, Dial: s.Dial, Broker: "quay", Logs: logs, Seed: 7})
				d.Start()
				devices = append(devices, d)
			}
		}
		for i, log := range logs {
			if i > 0 {
				gone = eye(t, s, "observer", log)
			}
			time.Sleep(time.Minute)
			if meanwhile != nil {
				meanwhile(devices)
			}
			time.Sleep(each - time.Minute)
			gone()
		}
		for _, d := range devices {
			d.Stop()
		}
		s.Close()
	})
}

// TestTheDairy: the second example is sound and keeps its contract, whole; and what its relations forbid is found when
// a device does it.
func TestTheDairy(t *testing.T) {
	files, err := fs.Sub(demo.Files, demo.Dairy)
	if err != nil {
		t.Fatal(err)
	}
	text, err := fs.ReadFile(files, demo.File)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		old, new string
		rules    string // that are broken
	}{
		"as it is":          {"", "", ""},
		"both at once":      {`heater: {run: "= run ? 1 : 0"}`, `heater: {run: 1}`, "relation"},
		"another height":    {`set: {height: "= payload.recipe?.cutting_height_mm"}`, `set: {height: 7}`, "relation"},
		"the door chatters": {`upon: {signal: door, edge: both}`, `every: 3s`, "only"},
		"without the unit":  {`string(int(whey) % 100) + ' %'`, `string(int(whey) % 100)`, "values"},
		"a warm vat":        {"from: 20, to: 62", "from: 20, to: 162", "range"},
		"another client":    {"client-id: vats, keep-alive: 20s, in-flight: 1}", "client-id: vats-1, keep-alive: 60s, in-flight: 1}", "terms"},
	} {
		if !strings.Contains(string(text), c.old) {
			t.Fatalf("%s: there is no %q", name, c.old)
		}
		changed := fstest.MapFS{demo.File: {Data: []byte(strings.Replace(string(text), c.old, c.new, 1))}}
		w, err := workspace.Read(changed, demo.File, demo.File)
		if err != nil || len(w.Problems) > 0 {
			t.Fatal(name, err, w.Problems)
		}
		if name == "as it is" {
			for _, f := range w.Findings() {
				t.Errorf("a finding: %s [%s]", f.Message, f.Lint.Name)
			}
		}
		log := trace.NewLog(60_000)
		live(t, w, 5*time.Minute, []*trace.Log{log}, nil)
		v, err := Rejudge(t.Context(), log, w.Contract, Players(w))
		if err != nil || v.Messages < 200 || len(v.Strays) > 0 {
			t.Fatal(name, err, v.Messages, v.Strays)
		}
		rules := map[string]bool{}
		for _, b := range v.Breaches {
			rules[string(b.Rule)] = true
			if c.rules == "" {
				t.Errorf("%s: %s", b.At.Sub(v.From), b)
			}
		}
		if got := strings.Join(slices.Sorted(maps.Keys(rules)), " "); got != c.rules {
			t.Errorf("%s: %q is broken, want %q: %v", name, got, c.rules, v.Breaches[:min(2, len(v.Breaches))])
		}
		if c.rules == "" {
			for _, x := range v.Clauses {
				if x.Messages == 0 && x.Clause.Presence == nil {
					t.Errorf("nothing came of %s", x.Clause.Name)
				}
			}
		}
	}
}

// TestADraftTakesWhatItWasMadeFromAndWhatFollows: ten minutes of the demo make a contract; the ten that follow keep it,
// but for what is broken on purpose; and it is much like the one that people wrote.
func TestADraftTakesWhatItWasMadeFromAndWhatFollows(t *testing.T) {
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	first, second := trace.NewLog(60_000), trace.NewLog(120_000)
	live(t, w, 10*time.Minute, []*trace.Log{first, second}, nil)
	traffic, err := DraftFrom(t.Context(), first)
	if err != nil {
		t.Fatal(err)
	}
	r := traffic.Write(draft.Options{})
	drafted, err := workspace.ReadContract(r.Contract, fstest.MapFS{}, "drafted")
	if err != nil {
		t.Fatalf("%v in\n%s", err, workspace.YAML(r.Contract, 0, r.Notes))
	}
	text := func() string { return workspace.YAML(r.Contract, 0, r.Notes) }
	if len(r.Outliers) != 1 || !strings.HasPrefix(r.Outliers[0], "pen.oxygen: mgl: ") {
		t.Errorf("outliers %q", r.Outliers)
	}
	for name, log := range map[string]*trace.Log{"what it was made from": first, "what follows": second} {
		v, err := Rejudge(t.Context(), log, drafted.Contract, Players(w))
		if err != nil || v.Messages < 2000 {
			t.Fatal(err, v.Messages)
		}
		broken := 0
		for _, b := range v.Breaches {
			if b.Topic == "marrowvoe/pen/3/oxygen" && b.Keyword == "minimum" {
				broken++
				continue
			}
			t.Errorf("%s breaks it at %s: %s", name, b.At.Sub(v.From), b)
		}
		if broken < 20 || len(v.Strays) > 0 {
			t.Errorf("%s: %d breaches on purpose, strays %v", name, broken, v.Strays)
		}
	}
	alike := 0
	for _, cl := range w.Contract.Clauses {
		like := false
		for _, x := range drafted.Contract.Clauses {
			like = like || x.Topic.Filter() == cl.Topic.Filter() && x.From == cl.From
		}
		if like {
			alike++
		} else {
			t.Logf("not found: %s from %s", cl.Topic, cl.From)
		}
	}
	if n := len(w.Contract.Clauses); alike*10 < n*9 {
		t.Errorf("%d of %d clauses have pattern and party of the demo's\n%s", alike, n, text())
	}
	set := drafted.Contract.Clause("pen.feeder.set")
	if set == nil || set.Answer == nil || set.Answer.Clause != "pen.feeder.state" {
		t.Errorf("no answer was found\n%s", text())
	}
	if p := drafted.Contract.Party("pen"); p == nil || p.Terms == nil || p.Terms.ClientID.String() != "pen-{pen}" ||
		p.Terms.KeepAlive != (contract.TimeSpan{From: 10 * time.Second, To: 10 * time.Second}) {
		t.Errorf("the terms of the pens\n%s", text())
	}
	if st := drafted.Contract.Clause("pen.status"); st == nil || st.Presence == nil || *st.Presence != (contract.Presence{Coming: "on", Leaving: "off", Lost: "lost"}) {
		t.Errorf("no presence\n%s", text())
	}
	// Twice the same is the same.
	again, _ := DraftFrom(t.Context(), first)
	if a := again.Write(draft.Options{}); workspace.YAML(a.Contract, 0, a.Notes) != text() {
		t.Error("a second draft is another")
	}
}

// BenchmarkDraft drafts from 30 seconds of a broker with 2,000 topics; it is to take less than 5 s.
func BenchmarkDraft(b *testing.B) {
	for b.Loop() {
		traffic := draft.New()
		at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
		for i := range 60_000 {
			traffic.Message(draft.Message{At: at.Add(time.Duration(i) * 500 * time.Microsecond), Sender: fmt.Sprint("vat-", i%250),
				Topic:   fmt.Sprintf("dairy/vat/%d/%s", i%250, []string{"temp", "level", "ph", "state", "set", "alarm", "flow", "rpm"}[i/250%8]),
				Payload: fmt.Appendf(nil, `{"v%d": %d.5, "at": "2026-03-01T12:00:00Z"}`, i/250%8, i%100)})
		}
		if r := traffic.Write(draft.Options{}); r.Clauses != 8 {
			b.Fatal(r.Clauses)
		}
	}
}
