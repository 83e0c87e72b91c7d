package workbench_test

import (
	"context"
	"fmt"
	"net"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

const farm = `hodstone: 1
name: test
brokers:
  quay: {stand-in: {logins: [pen-1, pen-2, bench], anonymous: false}, login: bench, version: %s}
logins: {pen-1: {}, pen-2: {}, bench: {}}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    level: {topic: "v/{pen}/level", from: pen, to: shore, qos: 1, retain: true, every: 300ms ± 400ms, payload: {format: number, minimum: 0, maximum: 9}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, answer: {clause: done, within: 1500ms}, payload: {format: text}}
    done: {topic: "v/{pen}/done", from: pen, to: shore, qos: 1, payload: {format: text, values: {yes: , no: }}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    login: pen-{n}
    signals: {high: {start: 5}}
    publishes:
      - {clause: level, every: 300ms, payload: "= high"}
      - {clause: done, payload: "yes"}
      - {topic: "v/{n}/levle", every: 400ms, payload: "1"}
    reactions: [{when: set, where: payload == 'go', publish: done}]
`

func open(t *testing.T, version string) *workbench.Bench {
	t.Helper()
	w, err := workspace.Read(fstest.MapFS{"f": {Data: fmt.Appendf(nil, farm, version)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Seed: 3})
	if err != nil {
		t.Fatal(err)
	}
	b.Start()
	return b
}

// await waits until the snapshot satisfies the condition.
func await(t *testing.T, b *workbench.Bench, what string, ok func(workbench.Snapshot) bool) workbench.Snapshot {
	t.Helper()
	for end := time.Now().Add(15 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		s := b.Snapshot()
		if ok(s) {
			return s
		}
		if time.Now().After(end) {
			t.Fatalf("%s: never so; cells %+v, breaches %v", what, states(s), s.Breaches)
		}
	}
}

func states(s workbench.Snapshot) map[string]contract.CellState {
	out := map[string]contract.CellState{}
	for _, c := range s.Cells {
		out[c.Topic] = c.State
	}
	return out
}

func find(s workbench.Snapshot, rule contract.RuleName, topic string) *contract.Breach {
	for i := range s.Breaches {
		if b := &s.Breaches[i]; b.Rule == rule && b.Topic == topic {
			return b
		}
	}
	return nil
}

// TestASiteAtWork goes through a site's day in both versions of the observer: kept,
// broken, silent, unanswered, stray.
func TestASiteAtWork(t *testing.T) {
	for _, version := range []string{"3.1.1", "5"} {
		t.Run("observer in "+version, func(t *testing.T) {
			t.Parallel()
			b := open(t, version)
			defer b.Close()
			s := await(t, b, "all kept", func(s workbench.Snapshot) bool {
				st := states(s)
				return st["v/1/level"] == contract.CellKept && st["v/2/level"] == contract.CellKept &&
					len(s.Strays) == 2
			})
			if !strings.HasPrefix(s.Strays[0].Near, "level (") || s.Strays[0].Last.Sender == "" {
				t.Errorf("stray %+v", s.Strays[0])
			}

			b.Device("pen-2").Set("high", 12)
			s = await(
				t,
				b,
				"a breach",
				func(s workbench.Snapshot) bool { return find(s, contract.RuleRange, "v/2/level") != nil },
			)
			br := find(s, contract.RuleRange, "v/2/level")
			if br.Sender != "pen-2" || br.Expected != "0 … 9" || br.Seen != "12" {
				t.Errorf("%+v", br)
			}
			if f, ok := b.Finding(br.Seq); !ok || len(f.Judgement.Breaches) != 1 || f.Sender != "pen-2" {
				t.Errorf("finding %+v", f)
			}
			if e, ok := b.Log.At(br.Seq); !ok || e.Client != "observer" || e.Publish().Topic != "v/2/level" {
				t.Errorf("event %+v", e)
			}
			if j, ok := b.Journey(br.Seq); !ok || j.Sender != "pen-2" || len(j.Hops) != 1 {
				t.Errorf("journey %+v", j)
			}

			b.Device("pen-1").Stop()
			await(
				t,
				b,
				"a silence",
				func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellSilent },
			)
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
			defer cancel()
			if err := b.Send(ctx, "", workbench.Message{Topic: "v/1/set", Payload: []byte("go"), QoS: 1}); err != nil {
				t.Fatal(err)
			}
			s = await(
				t,
				b,
				"no answer",
				func(s workbench.Snapshot) bool { return find(s, contract.RuleAnswer, "v/1/set") != nil },
			)
			if br := find(s, contract.RuleAnswer, "v/1/set"); br.Sender != "observer" {
				t.Errorf("the command's sender: %q", br.Sender)
			}
			if err := b.Send(
				ctx,
				"quay",
				workbench.Message{Topic: "v/2/set", Payload: []byte("go"), QoS: 1},
			); err != nil {
				t.Fatal(err)
			}
			s = await(
				t,
				b,
				"an answer",
				func(s workbench.Snapshot) bool { return states(s)["v/2/done"] == contract.CellKept },
			)
			if find(s, contract.RuleAnswer, "v/2/set") != nil {
				t.Error("the answer came, and yet it is missed")
			}

			// Somebody else publishes, with the wrong QoS and, where it can be seen, without retain.
			stranger(t, b, packet.Publish{Topic: "v/1/level", Payload: []byte("3")})
			s = await(
				t,
				b,
				"another's QoS",
				func(s workbench.Snapshot) bool { return find(s, contract.RuleQoS, "v/1/level") != nil },
			)
			if br := find(s, contract.RuleQoS, "v/1/level"); br.Sender != "stranger" {
				// No client of ours, but the stand-in is: it has seen who it was.
				t.Errorf("a stranger's message is taken for that of %q", br.Sender)
			}
			if seen := find(s, contract.RuleRetain, "v/1/level") != nil; seen != (version == "5") {
				t.Errorf("the publisher's retain flag is seen: %v", seen)
			}
			if b.Rate() <= 0 {
				t.Error("no traffic")
			}
			if st := b.Brokers(); len(st) != 1 || !st[0].In || !st[0].StandIn ||
				!strings.HasPrefix(st[0].URL, "mqtt://127.0.0.1:") {
				t.Errorf("%+v", st)
			}
		})
	}
}

// stranger is a client that Hodstone does not watch. The bench's own credentials are
// the only ones that a test can know.
func stranger(t *testing.T, b *workbench.Bench, m packet.Publish) {
	t.Helper()
	l, err := link.Dial(context.Background(), b.Brokers()[0].URL)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	login := b.Workspace().Login("bench")
	hello := &packet.Connect{
		ClientID:    "stranger",
		CleanStart:  true,
		HasUsername: true,
		Username:    login.Username,
		HasPassword: true,
		Password:    []byte(login.Password.Reveal()),
	}
	bytes := m.Append(hello.Append(nil, packet.V311), packet.V311)
	if _, err := l.Write((&packet.Pingreq{}).Append(bytes, packet.V311)); err != nil {
		t.Fatal(err)
	}
	r := packet.NewReader(l, packet.V311)
	for {
		p, _, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		if p.Type() == packet.PINGRESP { // so the message has been taken
			return
		}
	}
}

func TestProofsBesideTheTraffic(t *testing.T) {
	t.Parallel()
	b := open(t, "5")
	defer b.Close()
	if err := b.StartProof(proof.Options{}, "harbour"); err == nil ||
		!strings.Contains(err.Error(), `no broker "harbour"`) {
		t.Error(err)
	}
	if err := b.StartProof(proof.Options{}, ""); err != nil {
		t.Fatal(err)
	}
	if err := b.StartProof(proof.Options{}, ""); err == nil || !strings.Contains(err.Error(), "under way") {
		t.Error(err)
	}
	wait := func() workbench.ProofState {
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			if p := b.Proof(); !p.Running {
				return p
			} else if len(p.Results)+len(p.Now) > p.Total || p.Total != 3*len(check.All()) {
				t.Fatalf("%d done and %d under way of %d", len(p.Results), len(p.Now), p.Total)
			}
			if time.Now().After(end) {
				t.Fatal("the proof does not end")
			}
		}
	}
	p := wait()
	for _, r := range p.Results {
		untold := r.Verdict == proof.Unsupported && r.Check.Name == "keepalive.server-value" ||
			r.Verdict == proof.Skipped && prooftest.Elsewhere(&r, &proof.Target{}) // its logins may do everything
		if r.Verdict != proof.Kept && !untold && r.Check.Section(r.Version) != "" {
			t.Errorf("%s in %s: %s %s", r.Check.Name, r.Version, r.Verdict, r.Seen)
		}
	}
	if s := b.Snapshot(); s.Blind() != "" {
		t.Errorf("the proof disturbs the site: %s", s.Blind())
	}
	// The checks' own topics are no strays.
	for _, s := range b.Snapshot().Strays {
		if strings.Contains(s.Topic, proof.TopicRoot+"/") {
			t.Errorf("stray %s", s.Topic)
		}
	}
	// A proof is compared with the one before that had as many checks, and a stopped one is none.
	if p.Changes != nil {
		t.Errorf("the first is compared: %+v", p.Changes)
	}
	few, err := check.Match("login.right")
	if err != nil || b.StartProof(proof.Options{Checks: few}, "") != nil {
		t.Fatal(err)
	}
	for b.Proof().Running {
		time.Sleep(10 * time.Millisecond)
	}
	if c := b.Proof().Changes; c == nil || c.Same != 3 || c.Count(report.Worse)+c.Count(report.Better) != 0 {
		t.Errorf("compared: %+v", c)
	}
	if err := b.StartProof(proof.Options{}, "quay/tcp"); err != nil {
		t.Fatal(err)
	}
	b.StopProof()
	undecided := 0
	for _, r := range wait().Results {
		if r.Verdict == proof.Undecided {
			undecided++
		}
	}
	if undecided == 0 {
		t.Error("a stopped proof is decided in all")
	}
}

// TestNothingIsLeft: after Close there is no goroutine, and no port.
func TestNothingIsLeft(t *testing.T) {
	before := runtime.NumGoroutine()
	b := open(t, "5")
	await(t, b, "traffic", func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept })
	b.Device("pen-1").Freeze()
	b.Device("pen-2").Cut()
	endpoint, err := link.Parse(b.Brokers()[0].URL)
	if err != nil {
		t.Fatal(err)
	}
	b.Close()
	for _, d := range b.Devices() {
		if d.Phase != device.Off {
			t.Errorf("%s is %s", d.Name, d.Phase)
		}
	}
	if c, err := net.Dial("tcp", endpoint.Address); err == nil {
		c.Close()
		t.Error("the port is still open")
	}
	for end := time.Now().Add(10 * time.Second); runtime.NumGoroutine() > before; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			buf := make([]byte, 1<<16)
			t.Fatalf("%d goroutines, %d before\n%s", runtime.NumGoroutine(), before, buf[:runtime.Stack(buf, true)])
		}
	}
}

// TestThePasswordIsNowhere: what a stand-in made up for its logins is on no event.
func TestThePasswordIsNowhere(t *testing.T) {
	b := open(t, "5")
	defer b.Close()
	await(t, b, "traffic", func(s workbench.Snapshot) bool { return states(s)["v/1/level"] == contract.CellKept })
	events, _ := b.Log.Read(1, 100_000)
	connects := 0
	for i := range events {
		e := &events[i]
		if c, ok := e.Packet.(*packet.Connect); ok && e.Kind == trace.Sent {
			connects++
			if len(c.Password) == 0 {
				t.Errorf("%s came without a password", e.Client)
			}
		}
		text := fmt.Sprintf("%+v %q %s", e, e.Raw, e.Describe())
		for _, l := range b.Workspace().Logins {
			if secret := l.Password.Reveal(); secret == "" || strings.Contains(text, secret) {
				t.Fatalf("the password of %s: %s", l.Name, text)
			}
		}
	}
	if connects < 3 {
		t.Errorf("only %d CONNECT on the trace", connects)
	}
	if text := fmt.Sprintf("%+v %#v", b.Devices(), b.Workspace().Login("bench")); strings.Contains(
		text,
		b.Workspace().Login("bench").Password.Reveal(),
	) {
		t.Error("the password is in the states")
	}
}

// TestARealDeviceUnderASimulatedOnesName: it is seen at the stand-in, and nothing that Hodstone's
// own clients do is recorded twice.
func TestARealDeviceUnderASimulatedOnesName(t *testing.T) {
	b := open(t, "5")
	defer b.Close()
	ctx := t.Context()
	await(t, b, "the devices", func(s workbench.Snapshot) bool { return len(s.Cells) > 0 && s.Cells[0].Count > 0 })
	own := b.Devices()[0]
	count := func(client string, role trace.Role) (n int) {
		events, _ := b.Log.Read(1, 50_000)
		for i := range events {
			if events[i].Client == client && events[i].Role == role {
				n++
			}
		}
		return n
	}
	if n := count(own.Name, trace.RolePeer) + count(own.ClientID, trace.RolePeer); n > 0 ||
		count(own.Name, trace.RoleDevice) == 0 {
		t.Fatalf("%d events of our own device stand there twice", n)
	}
	b.Device(own.Name).Stop()
	target, err := b.Target("")
	if err != nil {
		t.Fatal(err)
	}
	o := client.Options{Version: packet.V311, Connect: packet.Connect{ClientID: own.ClientID, CleanStart: true},
		Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, b.URLs(target.Broker)[0]) }}
	target.Login.Apply(&o)
	c := client.New(o)
	if _, err := c.Connect(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Publish(ctx, packet.Publish{Topic: "v/1/level", QoS: 1, Payload: []byte("7")}); err != nil {
		t.Fatal(err)
	}
	c.Disconnect(0)
	for end := time.Now().Add(10 * time.Second); count(own.ClientID, trace.RolePeer) < 6; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d events of the real device", count(own.ClientID, trace.RolePeer))
		}
	}
}
