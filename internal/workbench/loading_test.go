package workbench_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

const loaded = `hodstone: 1
brokers:
  quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}
  far: {listeners: {tcp: {url: "mqtt://192.0.2.1:1883"}}}
  ours: {listeners: {tcp: {url: "mqtt://192.0.2.2:1883"}}, load: allowed}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    reading: {topic: "v/{pen}/reading", from: pen, to: shore, qos: 1, retain: true, payload: {format: json}, examples: [{kg: 4}]}
    other: {topic: "w/{net}/x", from: pen, to: shore, payload: {format: json}}
    bare: {topic: "u/{pen}", from: pen, to: shore, payload: {format: binary, media-type: image/jpeg}}
    call: {topic: "c/{pen}", from: shore, to: pen, payload: {format: json}}
devices:
  pen: {count: 2, plays: pen, broker: quay, parameters: {pen: "{n}"}, session: {client-id: "pen-{n}"}, signals: {kg: {start: 3}}, publishes: [{clause: reading, every: 1h, payload: {kg: "= kg"}}]}
loads:
  tide: {clients: {pen: 12}, publish: {clause: reading, every: 100ms}, hold: 1500ms}
  long: {clients: {plain: 5}, ramp: {from: 2, to: 5, by: 3, hold: 1s}, publish: {every: 50ms}}
`

// unstarted is a bench of a workspace, at which nothing is begun.
func unstarted(t *testing.T, text string) *workbench.Bench {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f.yaml": {Data: []byte(text)}}, "f.yaml", "f.yaml")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

// TestWhoMayBeLoaded: and what a load cannot be made of, in words.
func TestWhoMayBeLoaded(t *testing.T) {
	b := unstarted(t, loaded)
	for want, change := range map[string]func(*workspace.Load){
		"write 'load: allowed' under it": func(x *workspace.Load) { x.Broker = "far" },
		"":                               func(x *workspace.Load) { x.Broker = "ours" },
		`no usable broker "sea"`:         func(x *workspace.Load) { x.Broker = "sea" },
		"no listener for tls clients":    func(x *workspace.Load) { x.Clients[0].Kind = "tls" },
		`has no clause "z"`:              func(x *workspace.Load) { x.Clause = "z" },
		"pen speaks to broker quay, and the load is on far": func(x *workspace.Load) { x.Clients[0].Kind, x.Broker = "pen", "ours" },
		"has parameters that pen does not give: w/":         func(x *workspace.Load) { x.Clients[0].Kind, x.Clause = "pen", "other" },
		"clause bare has no example":                        func(x *workspace.Load) { x.Clients[0].Kind, x.Clause = "pen", "bare" },
		"cannot be composed of the signals of pen":          func(x *workspace.Load) { x.Clients[0].Kind, x.Clause, x.From = "pen", "bare", workspace.FromSignals },
		"clause call is published by shore":                 func(x *workspace.Load) { x.Clients[0].Kind, x.Clause = "pen", "call" },
		`there is no login "ann1"`:                          func(x *workspace.Load) { x.Login = "ann{n}" },
	} {
		x := workspace.NewLoad("one")
		x.Clients = []workspace.LoadClients{{Kind: "plain", Count: 3}}
		change(x)
		want = strings.ReplaceAll(want, "is on far", "is on ours")
		l, err := b.Loading(x, workbench.LoadOptions{})
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v %v", want, l, err)
		}
	}
}

// TestALoadBesideTheSite: the site's devices stay in, the fleet's have numbers behind theirs, and what it let the broker store
// is gone; it is held, and stopped.
func TestALoadBesideTheSite(t *testing.T) {
	t.Parallel()
	b := unstarted(t, loaded)
	b.Start()
	await(t, b, "the pens", func(workbench.Snapshot) bool {
		return len(b.StandIn("quay").Clients()) >= 3 && b.Device("pen-2").State().Phase == "on"
	})
	if err := b.StartLoad(b.Workspace().Load("tide")); err != nil {
		t.Fatal(err)
	}
	if err := b.StartLoad(b.Workspace().Load("tide")); err == nil || !strings.Contains(err.Error(), "stop it first") {
		t.Error(err)
	}
	names := map[string]bool{}
	await(t, b, "its end", func(workbench.Snapshot) bool {
		for _, c := range b.StandIn("quay").Clients() {
			names[c.ID] = names[c.ID] || c.Connected
		}
		return len(b.LoadState().Results) == 1
	})
	r := b.LoadState().Results[0]
	if !names["pen-3"] || !names["pen-14"] || names["pen-15"] || r.Total.In != 12 || r.Total.Lost != 0 ||
		r.Judged == 0 ||
		r.Broken != 0 ||
		r.Traced != 10 {
		t.Errorf("%v %+v", names, r)
	}
	if s := b.Snapshot(); len(s.Strays) > 0 || s.Total > 0 || !seen(s, "v/1/reading") || seen(s, "v/3/reading") {
		t.Errorf("the load is held against the site: %v, %v", s.Strays, s.Breaches)
	}
	for _, n := range []string{"pen-1", "pen-2"} {
		if s := b.Device(n).State(); s.Phase != "on" || time.Since(s.Since) < time.Second {
			t.Errorf("%+v", s)
		}
	}
	stored := make(chan string, 100)
	c := client.New(
		client.Options{
			Dial:    func(ctx context.Context) (*link.Link, error) { return b.StandIn("quay").Dial(ctx) },
			Version: packet.V311,
			Connect: packet.Connect{
				ClientID:   "x",
				CleanStart: true,
			},
			Message: func(m *packet.Publish) { stored <- m.Topic },
		},
	)
	if _, err := c.Connect(t.Context()); err != nil {
		t.Fatal(err)
	}
	c.Subscribe(t.Context(), []packet.Subscription{{Filter: "v/+/reading"}})
	c.Ping(t.Context())
	for len(stored) > 0 {
		if topic := <-stored; topic != "v/1/reading" && topic != "v/2/reading" { // those are the site's own
			t.Errorf("still stored: %s", topic)
		}
	}
	c.Disconnect(0)
	if err := b.StartLoad(b.Workspace().Load("long")); err != nil {
		t.Fatal(err)
	}
	await(t, b, "the first step", func(workbench.Snapshot) bool { return b.LoadState().State.Under.Sent > 5 })
	b.HoldLoad()
	time.Sleep(1500 * time.Millisecond) // longer than the step
	if s := b.LoadState().State; !s.Held || s.Step != 0 {
		t.Errorf("%+v", s)
	}
	b.HoldLoad()
	await(t, b, "the second step", func(workbench.Snapshot) bool { return b.LoadState().State.Step == 1 })
	b.StopLoad()
	await(t, b, "its end", func(workbench.Snapshot) bool { return len(b.LoadState().Results) == 2 })
	if r := b.LoadState().Results[1]; !r.Stopped || len(r.Steps) == 0 || r.Steps[0].Took < 1500*time.Millisecond ||
		r.Limit != fleet.Neither {
		t.Errorf("%+v", r)
	}
	name := filepath.Join(t.TempDir(), "r.csv")
	if err := b.ExportLoad(name, r); err != nil {
		t.Error(err)
	}
	if err := b.ExportLoad(name, r); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Error(err)
	}
	if err := b.ExportLoad("x.doc", r); err == nil || !strings.Contains(err.Error(), ".csv or .json") {
		t.Error(err)
	}
}

// TestALoadTellsOfARealBroker: its process, its own facts, logins of a file, and what its followed log says.
func TestALoadTellsOfARealBroker(t *testing.T) {
	t.Parallel()
	broker := brokertest.Start(t, brokertest.Options{Users: []string{"ann", "bob"}, Lines: "sys_interval 1\n"})
	file := filepath.Join(t.TempDir(), "logins.csv")
	if err := os.WriteFile(
		file,
		fmt.Appendf(nil, "ann,%s\nbob,%s\neve,wrong\n", brokertest.Password, brokertest.Password),
		0o600,
	); err != nil {
		t.Fatal(err)
	}
	text := fmt.Sprintf(`hodstone: 1
brokers: {quay: {listeners: {tcp: {url: %q}}, login: bench}}
logins: {bench: {password: %q}}
loads: {one: {clients: {plain: 9}, credentials: %s, publish: {every: 100ms}, hold: 2s, bound: {refused: 0}}}
`, broker.URLs["tcp"], brokertest.Password, file)
	b := unstarted(t, text)
	l, err := b.Loading(b.Workspace().Load("one"), workbench.LoadOptions{})
	if err != nil {
		t.Fatal(err)
	}
	r := l.Run(t.Context())
	s := r.Steps[0]
	if s.In != 6 || s.Refused != 3 || r.Holds() || s.Broker.PID != broker.PID() || s.Broker.Memory == 0 ||
		s.Facts["version"] == "" ||
		!strings.Contains(strings.Join(s.Limits, "\n"), "tries to connect were refused with ") ||
		l.Clients() != 9 ||
		l.Length() != 2*time.Second ||
		!strings.Contains(l.Target(), "quay/tcp "+broker.URLs["tcp"]) {
		t.Errorf("%+v", s)
	}
}

// TestALoadAccusesNobodyOfItsOwnDoing: clients that publish at another pace than agreed, an old time stamp in an example, no
// will and no subscription are the load's doing; a wrong value and a wrong session are not.
func TestALoadAccusesNobodyOfItsOwnDoing(t *testing.T) {
	t.Parallel()
	const site = `hodstone: 1
brokers: {quay: {stand-in: {listeners: {tcp: "127.0.0.1:0"}, anonymous: true}}}
contract:
  parties: {pen: {terms: {keep-alive: %s, first-value-within: 100ms, back-within: 1s, tries: 1/min}}, shore: }
  parameters: {pen: {values: ["1"]}}
  clauses:
    reading:
      topic: "v/{pen}/reading"
      from: pen
      to: shore
      qos: 1
      every: 50ms ± 10ms
      at-most: 1/min
      stamped: {field: at, within: 1s}
      payload: {format: json, schema: {type: object, properties: {kg: {type: number, maximum: %s}}}}
      examples: [{kg: 4, at: "1999-01-01T00:00:00Z"}]
    set: {topic: "v/{pen}/set", from: shore, to: pen, payload: {format: text}}
    status: {topic: "v/{pen}/status", from: pen, to: shore, qos: 1, retain: true, presence: {coming: "on", leaving: "off", lost: lost}, payload: {format: text}}
devices:
  pen: {plays: pen, parameters: {pen: "{n}"}, presence: status, session: {client-id: "pen-{n}", keep-alive: 20s}, publishes: [{clause: reading, every: 1h, payload: {kg: 4}}], reactions: [{when: set}]}
loads: {one: {clients: {pen: 12}, publish: {clause: reading, every: 300ms}, ramp: {from: 6, to: 12, by: 6, hold: 1s}}}
`
	for _, x := range []struct{ alive, most, want string }{{"10s..30s", "9", ""}, {"10s..30s", "3", "schema maximum at /kg"}, {"1s..5s", "9", "keep-alive"}} {
		b := unstarted(t, fmt.Sprintf(site, x.alive, x.most))
		l, err := b.Loading(b.Workspace().Load("one"), workbench.LoadOptions{})
		if err != nil {
			t.Fatal(err)
		}
		r := l.Run(t.Context())
		text := strings.Join(r.Breaches, "\n")
		if r.Judged == 0 || (r.Broken > 0) != (x.want != "") || !strings.Contains(text, x.want) {
			t.Errorf("%+v: %d judged, %s", x, r.Judged, text)
		}
	}
	shared := unstarted(
		t,
		strings.ReplaceAll(fmt.Sprintf(site, "10s..30s", "9"), `client-id: "pen-{n}"`, "client-id: pen"),
	)
	if _, err := shared.Loading(
		shared.Workspace().Load("one"),
		workbench.LoadOptions{},
	); err == nil ||
		!strings.Contains(err.Error(), "all would come as pen") {
		t.Error(err)
	}
}
