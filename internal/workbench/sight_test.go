package workbench_test

import (
	"context"
	"encoding/pem"
	"flag"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// against is a site at a broker of Debian's: retained and plain clauses at every QoS, and devices at work. Cadences leave room for a machine
// under load, where devices themselves are late.
const against = `hodstone: 1
brokers:
  quay:
    listeners: {way: {url: "%s"}}
    version: %s
    %s
logins: {bench: {password: "` + brokertest.Password + `"}}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    zero: {topic: "v/{pen}/zero", from: pen, to: shore, qos: 0, retain: false, every: 300ms ± 6s, payload: {format: json, schema: {type: object, required: [x], properties: {x: {type: number}}}}}
    one: {topic: "v/{pen}/one", from: pen, to: shore, qos: %d, retain: %v, every: 400ms ± 6s, payload: {format: number, minimum: 0, maximum: 9}}
    two: {topic: "v/{pen}/two", from: pen, to: shore, qos: %d, retain: false, every: 500ms ± 6s, payload: {format: text}}
    status: {topic: "v/{pen}/status", from: pen, to: shore, qos: %d, retain: %v, presence: {coming: "on", leaving: "off", lost: lost}, payload: {format: text, values: {"on": , "off": , lost: }}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, retain: false, answer: {clause: done, within: 3s}, payload: {format: number}}
    done: {topic: "v/{pen}/done", from: pen, to: shore, qos: 1, retain: false, payload: {format: number}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    %s
    presence: status
    session: {version: %s, client-id: "s-pen-{n}", keep-alive: 2s}
    publishes:
      - {clause: zero, every: 120ms, payload: {x: "= n"}}
      - {clause: one, every: 150ms, payload: "= n"}
      - {clause: two, every: 150ms, payload: "text"}
      - {clause: done, payload: "= payload"}
    reactions: [{when: set, publish: done}]
  shore:
    plays: shore
    %s
    session: {version: %s, client-id: s-shore}
    publishes: [{clause: set, every: 100ms, parameters: {pen: "= choice('1', '2')"}, payload: "= count()"}]
`

// site opens a workspace and lets it work.
func site(t *testing.T, text string) *workbench.Bench {
	t.Helper()
	b := unstarted(t, text)
	b.Start()
	return b
}

// TestNobodyIsAccusedAtARealBroker: devices that keep their contract breach nothing, by whichever version and
// transport, and within the broker's limits; and one that does breach it is told.
func TestNobodyIsAccusedAtARealBroker(t *testing.T) {
	for _, tt := range []struct {
		name, lines, listener, more string
		qos                         int
		retain                      bool
	}{
		{"as it comes", "", "", "", 2, true},
		{"max_connections", "", "max_connections 4\n", "", 2, true},
		{"max_packet_size", "max_packet_size 2000\n", "", "", 2, true},
		{"max_qos", "", "max_qos 1\n", "", 1, true},
		{"retain_available false", "retain_available false\n", "", "", 2, false},
		{"allow_zero_length_clientid false", "allow_zero_length_clientid false\nclientid_prefixes s-\n", "",
			`client-id: "s-{n}"`, 2, true},
	} {
		for _, v := range []string{"3.1", "3.1.1", "5"} {
			if v == "3.1" && tt.name != "as it comes" {
				continue
			}
			t.Run(tt.name+" in "+v, func(t *testing.T) {
				t.Parallel()
				broker := brokertest.Start(
					t,
					brokertest.Options{Anonymous: true, Lines: tt.lines, Listener: tt.listener},
				)
				one := min(1, tt.qos)
				b := site(
					t,
					fmt.Sprintf(
						against,
						broker.URLs["tcp"],
						v,
						tt.more,
						one,
						tt.retain,
						tt.qos,
						one,
						tt.retain,
						"",
						v,
						"",
						v,
					),
				)
				s := await(t, b, "traffic on all clauses", func(s workbench.Snapshot) bool {
					for _, c := range s.Cells {
						if c.Count < 4 && c.Clause.Name != "status" {
							return false
						}
					}
					return true
				})
				if len(s.Breaches) > 0 || len(s.Strays) > 0 || s.Blind() != "" {
					t.Fatalf("%v %v %q", s.Breaches, s.Strays, s.Blind())
				}
				if tt.name == "as it comes" {
					b.Device("pen-1").Freeze() // its will, and then its silence, are its own
					s = await(t, b, "the will", func(s workbench.Snapshot) bool {
						return string(cellOf(s, "v/1/status").Last.Payload) == "lost" &&
							states(s)["v/1/one"] == contract.CellSilent
					})
					if got := cellOf(s, "v/1/status").Last; got.Sender != "pen-1" || got.Party != "pen" {
						t.Errorf("the will is from %q, which plays %q", got.Sender, got.Party)
					}
				}
				c := client.New(
					client.Options{
						Dial: func(ctx context.Context) (*link.Link,
							error) {
							return link.Dial(ctx, broker.URLs["tcp"])
						},
						Version: packet.V311,
						Connect: packet.Connect{ClientID: "s-x", CleanStart: true},
					},
				)
				if tt.name == "max_connections" {
					b.Device("shore").Stop()
				}
				for end := time.Now().Add(5 * time.Second); ; time.Sleep(50 * time.Millisecond) {
					if _, err := c.Connect(t.Context()); err == nil {
						break
					} else if time.Now().After(end) {
						t.Fatal(err)
					}
				}
				defer c.Disconnect(0)
				if _, err := c.Publish(t.Context(), packet.Publish{Topic: "v/2/one", QoS: 0, Payload: []byte("99"),
					Retain: false}); err != nil {
					t.Fatal(err)
				}
				s = await(
					t,
					b,
					"a breach",
					func(s workbench.Snapshot) bool { return find(s, contract.RuleRange, "v/2/one") != nil },
				)
				if seen := find(s, contract.RuleRetain, "v/2/one") != nil; seen != (v == "5" && tt.retain) {
					t.Errorf("the missing flag is seen: %v", seen)
				}
				for _, br := range s.Breaches {
					if br.Rule != contract.RuleSilence && br.Seq == 0 || br.Topic != "v/2/one" && br.Instance != "1" {
						t.Errorf("accused: %v", br)
					}
				}
			})
		}
	}
}

func cellOf(s workbench.Snapshot, topic string) *contract.Cell {
	for _, c := range s.Cells {
		if c.Topic == topic {
			return c
		}
	}
	return &contract.Cell{}
}

// TestABlindBenchSaysSo: frozen or cut, the observer makes nobody silent; the sheet says since when, and
// deadlines start anew.
func TestABlindBenchSaysSo(t *testing.T) {
	b := open(t, "5")
	defer b.Close()
	await(t, b, "all kept", func(s workbench.Snapshot) bool {
		st := states(s)
		return st["v/1/level"] == contract.CellKept && st["v/2/level"] == contract.CellKept && s.Blind() == ""
	})
	if err := b.Drop("quay", "freeze"); err != nil {
		t.Fatal(err)
	}
	await(
		t,
		b,
		"blindness is told",
		func(s workbench.Snapshot) bool { return strings.Contains(s.Blind(), "is blind since") },
	)
	time.Sleep(1500 * time.Millisecond) // twice the period and tolerance of level: silence would be told by now
	if s := b.Snapshot(); len(s.Breaches) > 0 || states(s)["v/1/level"] != contract.CellKept {
		t.Errorf("accused by a blind observer: %v", s.Breaches)
	}
	if err := b.Drop("quay", "cut"); err != nil {
		t.Fatal(err)
	}
	s := await(
		t,
		b,
		"it sees again",
		func(s workbench.Snapshot) bool { return s.Sights[0].Open && s.Sights[0].Blind > time.Second },
	)
	if !strings.Contains(s.Blind(), "was blind for") || len(s.Breaches) > 0 {
		t.Errorf("%q %v", s.Blind(), s.Breaches)
	}
	b.Device("pen-1").Stop()
	s = await(
		t,
		b,
		"a silence",
		func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellSilent },
	)
	if br := find(s, contract.RuleSilence, "v/1/level"); br.Sender != "" {
		t.Errorf("a silence has a sender: %q", br.Sender)
	}
}

// TestAnObserverWithFewRights: it watches what it may, says what it may not, and misses nothing that it could not
// have seen; at a broker that grants everything and delivers only what the rights allow, too.
func TestAnObserverWithFewRights(t *testing.T) {
	t.Parallel()
	t.Run("a stand-in that refuses", func(t *testing.T) {
		text := strings.Replace(
			fmt.Sprintf(farm, "5"),
			"anonymous: false}",
			"anonymous: false, rights: {bench: {subscribe: [\"v/+/level\"], publish: []}}}",
			1,
		)
		b := site(t, text)
		s := await(
			t,
			b,
			"what it may see",
			func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept },
		)
		if got := s.Refused["quay"]; fmt.Sprint(got) != "[v/+/set v/+/done]" ||
			!strings.Contains(s.Blind(), "may not read v/+/set, v/+/done") {
			t.Errorf("%v %q", got, s.Blind())
		}
		if len(s.Breaches) > 0 {
			t.Errorf("%v", s.Breaches)
		}
	})
	t.Run("Debian's", func(t *testing.T) {
		broker := brokertest.Start(
			t,
			brokertest.Options{
				Users:  []string{"pen"},
				Rights: "user pen\ntopic readwrite #\nuser " + brokertest.Username + "\ntopic read v/+/one\n",
			},
		)
		text := fmt.Sprintf(
			against,
			broker.URLs["tcp"],
			"5",
			"login: bench",
			1,
			true,
			2,
			1,
			true,
			"login: pen",
			"5",
			"login: pen",
			"5",
		)
		b := site(t, strings.Replace(text, "logins: {", "logins: {pen: {password: \""+brokertest.Password+"\"}, ", 1))
		await(t, b, "what it may see", func(s workbench.Snapshot) bool { return cellOf(s, "v/1/one").Count > 10 })
		time.Sleep(2 * time.Second) // longer than period and tolerance of all that it cannot read
		if s := b.Snapshot(); len(s.Breaches) > 0 {
			t.Errorf("accused by an observer that may not read it: %v", s.Breaches)
		}
		b.Device("pen-1").Stop()
		await(
			t,
			b,
			"a silence of what it may read",
			func(s workbench.Snapshot) bool { return states(s)["v/1/one"] == contract.CellSilent },
		)
	})
}

// TestTwoUnderOneName: after the second takeover in a row a device says why, and backs off.
func TestTwoUnderOneName(t *testing.T) {
	b := open(t, "5")
	defer b.Close()
	await(t, b, "traffic", func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept })
	o := client.Options{Version: packet.V5, Connect: packet.Connect{ClientID: "pen-1", CleanStart: true},
		Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, b.URLs("quay")[0]) }}
	b.Workspace().Login("bench").Apply(&o)
	done := make(chan struct{})
	ctx, stop := context.WithCancel(t.Context())
	go func() { // another that comes back at once, every time
		defer close(done)
		for ctx.Err() == nil {
			c := client.New(o)
			if _, err := c.Connect(ctx); err == nil {
				select {
				case <-c.Done():
				case <-ctx.Done():
				}
			}
			c.Close()
		}
	}()
	defer func() { stop(); <-done }()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if strings.Contains(b.Devices()[0].Why, `"pen-1"`) {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%+v", b.Devices()[0])
		}
	}
}

// TestOwnLookingIsNoTraffic: what Hodstone tries for itself is traced, and counted nowhere.
func TestOwnLookingIsNoTraffic(t *testing.T) {
	b := open(t, "5")
	defer b.Close()
	await(t, b, "traffic", func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept })
	topics, clients := b.Statistics()
	for _, x := range topics {
		if trace.OwnTopic(x.Topic) {
			t.Errorf("counted: %s", x.Topic)
		}
	}
	for _, x := range clients {
		if x.Role == trace.RoleProbe || x.Role == trace.RoleCheck {
			t.Errorf("counted: %s", x.Client)
		}
	}
	events, _ := b.Log.Read(1, 50_000)
	own := 0
	for i := range events {
		if events[i].Own() {
			own++
		}
	}
	if own == 0 {
		t.Error("nothing of its own is on the trace")
	}
	for _, s := range b.Snapshot().Strays {
		if trace.OwnTopic(s.Topic) {
			t.Errorf("a stray: %s", s.Topic)
		}
	}
}

var long = flag.Duration(
	"long",
	2*time.Second,
	"how long TestSitesAtARealBroker watches each site; beyond 10s, over each transport in each version",
)

// TestSitesAtARealBroker: devices at work over each transport, and within limits of the broker's, with a proof
// beside them: no breach, no stray, no blindness, and nothing broken or undecided; all kept where there is no limit.
func TestSitesAtARealBroker(t *testing.T) {
	type site struct {
		way, version, lines, listener string
		qos                           int
		retain                        bool
	}
	var sites []site
	versions := []string{"3.1", "3.1.1", "5"}
	for i, way := range []string{"tcp", "tls", "ws", "wss"} {
		for j, v := range versions {
			if *long >= 10*time.Second || j == i%len(versions) {
				sites = append(sites, site{way, v, "", "", 2, true})
			}
		}
	}
	if *long >= 10*time.Second {
		for _, v := range versions[1:] {
			sites = append(
				sites,
				site{"tcp", v, "", "max_connections 8\n", 2, true},
				site{"tcp", v, "max_packet_size 2000\n", "", 2, true},
				site{"tcp", v, "", "max_qos 1\n", 1, true},
				site{
					"tcp",
					v,
					"retain_available false\n",
					"",
					2,
					false,
				},
				site{"tcp", v, "allow_zero_length_clientid false\n", "", 2, true},
			)
		}
	}
	for _, x := range sites {
		t.Run(x.way+" in "+x.version+" "+x.lines+x.listener, func(t *testing.T) {
			t.Parallel()
			broker := brokertest.Start(t, brokertest.Options{Lines: x.lines, Listener: x.listener})
			var ca []byte
			for _, c := range broker.CAs {
				ca = append(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
			}
			one := min(1, x.qos)
			text := fmt.Sprintf(
				against,
				broker.URLs[x.way],
				x.version,
				"login: bench\n    anonymous: false\n    intrusive: allowed",
				one,
				x.retain,
				x.qos,
				one,
				x.retain,
				"login: bench",
				x.version,
				"login: bench",
				x.version,
			)
			if x.way == "tls" || x.way == "wss" {
				text = strings.Replace(text, `"}}`, `", ca: ca.pem}}`, 1)
			}
			w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)}, "ca.pem": {Data: ca}}, "f", "f")
			if err != nil || len(w.Problems) > 0 {
				t.Fatal(err, w.Problems)
			}
			b, err := workbench.New(w, workbench.Options{Seed: 3})
			if err != nil {
				t.Fatal(err)
			}
			b.Start()
			defer b.Close()
			await(t, b, "traffic on all clauses", func(s workbench.Snapshot) bool {
				for _, c := range s.Cells {
					if c.Count < 4 && c.Clause.Name != "status" {
						return false
					}
				}
				return true
			})
			if err := b.StartProof(proof.Options{}, ""); err != nil {
				t.Fatal(err)
			}
			for end := time.Now().Add(*long); time.Now().Before(end) ||
				b.Proof().Running; time.Sleep(50 * time.Millisecond) {
				if s := b.Snapshot(); len(s.Breaches) > 0 || len(s.Strays) > 0 || s.Blind() != "" {
					t.Fatalf("%v %v %q", s.Breaches, s.Strays, s.Blind())
				}
			}
			kept, limits := 0, x.lines+x.listener != ""
			for _, r := range b.Proof().Results {
				switch {
				case r.Verdict == proof.Kept:
					kept++
				case prooftest.Deviates(&r, nil),
					r.Verdict == proof.Skipped && prooftest.Elsewhere(&r, &proof.Target{}):
				case r.Verdict == proof.Unsupported && (limits || r.Check.Name == "keepalive.server-value"),
					r.Check.Section(r.Version) == "":
				case r.Verdict == proof.Undecided && strings.Contains(r.Seen, "pass between two packets ourselves"):
					t.Logf(
						"%s in %s: %s",
						r.Check.Name,
						r.Version,
						r.Seen,
					) // the machine was late, and the check says so
				default:
					t.Errorf("%s in %s: %s: %s", r.Check.Name, r.Version, r.Verdict, r.Seen)
				}
			}
			messages := 0
			for _, c := range b.Snapshot().Cells {
				messages += c.Count
			}
			t.Logf("%d messages in %d cells; %d verdicts kept", messages, len(b.Snapshot().Cells), kept)
		})
	}
}
