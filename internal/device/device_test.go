package device_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"golang.org/x/time/rate"

	"hodstone/internal/device"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

const farm = `hodstone: 1
brokers: {quay: {stand-in: {}}}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    level: {topic: "v/{pen}/level", from: pen, to: shore, qos: 0, payload: {format: number}}
    count: {topic: "v/{pen}/count", from: pen, to: shore, qos: 1, payload: {format: json}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, payload: {format: json}}
    state: {topic: "v/{pen}/state", from: pen, to: shore, qos: 1, retain: true, payload: {format: text}}
    status: {topic: "v/{pen}/status", from: pen, to: shore, qos: 1, retain: true, presence: {coming: here, leaving: bye, lost: lost}, payload: {format: text}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    session: {keep-alive: 10s}
    presence: status
    signals: {up: {wave: ramp, from: 0, to: 100, period: 100s}, made: {wave: counter, every: 5s}, run: {start: false}}
    publishes:
      - {clause: level, when-changed: {signal: up, by: 10}, payload: "= round(up, 0)"}
      - {clause: count, every: 10s, where: made >= 2, payload: {made: "= made", again: "= count()", n: "= n"}}
      - {clause: state, payload: "= run ? 'runs' : 'stands'"}
    reactions: [{when: set, where: payload.run != nil, set: {run: "= payload.run"}, after: 200ms..300ms, publish: state}]
`

// site is a farm on a stand-in with a watcher, all on the fake clock.
type site struct {
	t   *testing.T
	s   *standin.Server
	log *trace.Log
	ds  []*device.Device
	at  uint64
}

func open(t *testing.T) *site {
	w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(farm)}}, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	s, _ := standin.New(standin.Options{Anonymous: true})
	x := &site{t: t, s: s, log: trace.NewLog(10_000), at: 1}
	for n := range 2 {
		x.ds = append(x.ds, device.New(device.Options{Kind: w.Devices[0], Number: n + 1, Contract: w.Contract, Dial: s.Dial, Logs: []*trace.Log{x.log}, Seed: 7}))
	}
	return x
}

func (x *site) close() {
	for _, d := range x.ds {
		d.Stop()
	}
	x.s.Close()
}

// said returns what devices published since the last call, without the level.
func (x *site) said() string {
	synctest.Wait()
	events, _ := x.log.Read(x.at, 10_000)
	x.at += uint64(len(events))
	var out []string
	for i := range events {
		if m := events[i].Publish(); m != nil && events[i].Kind == trace.Sent && !strings.HasSuffix(m.Topic, "/level") {
			out = append(out, fmt.Sprintf("%s=%s", strings.TrimPrefix(m.Topic, "v/"), m.Payload))
		}
	}
	return strings.Join(out, " ")
}

func (x *site) expect(what, want string) {
	x.t.Helper()
	if got := x.said(); got != want {
		x.t.Errorf("%s: said %q, want %q", what, got, want)
	}
}

func (x *site) command(topic, text string) {
	x.t.Helper()
	l, err := x.s.Dial(x.t.Context())
	if err != nil {
		x.t.Fatal(err)
	}
	b := (&packet.Connect{ClientID: "desk", CleanStart: true}).Append(nil, packet.V311)
	b = (&packet.Publish{Topic: topic, Payload: []byte(text)}).Append(b, packet.V311)
	l.Write((&packet.Disconnect{}).Append(b, packet.V311))
	synctest.Wait()
	l.Close()
}

func TestADevicesLife(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := open(t)
		defer x.close()
		d := x.ds[0]
		d.Start()
		d.Start() // once is enough
		x.expect("coming", "1/status=here")
		time.Sleep(9 * time.Second)
		x.expect("a condition that does not hold yet", "")
		time.Sleep(10 * time.Second)
		x.expect("on its timer", `1/count={"made":2,"again":0,"n":1}`)

		x.command("v/1/set", `{"run": true}`)
		time.Sleep(199 * time.Millisecond)
		x.expect("before the reaction time", "")
		time.Sleep(102 * time.Millisecond)
		x.expect("the reaction", "1/state=runs")
		x.command("v/2/set", `{"run": false}`)
		x.command("v/1/set", `{"other": 1}`)
		x.command("v/1/set", `no JSON`)
		time.Sleep(time.Second)
		x.expect("what is meant for others, or not understood", "")
		if st := d.State(); !strings.Contains(st.Why, "v/1/set ignored: not json") || st.Received != 3 {
			t.Errorf("%q after %d messages", st.Why, st.Received)
		}

		if err := d.Send("state"); err != nil {
			t.Fatal(err)
		}
		x.expect("by hand", "1/state=runs")
		if err := d.Set("run", false); err != nil {
			t.Fatal(err)
		}
		d.Send("state")
		x.expect("a signal set by hand", "1/state=stands")
		if d.Set("nothing", 1) == nil || d.Send("nothing") == nil {
			t.Error("a signal or message that does not exist")
		}
		d.Stop()
		x.expect("leaving", "1/status=bye")
		if st := d.State(); st.Phase != device.Off {
			t.Errorf("%s after Stop", st.Phase)
		}
		if d.Send("state") == nil || d.Cut() == nil || d.Freeze() == nil {
			t.Error("a device that is off can send, be cut or frozen")
		}
	})
}

func TestDeadbandAndPhase(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := open(t)
		defer x.close()
		for _, d := range x.ds {
			d.Start()
		}
		time.Sleep(60 * time.Second)
		synctest.Wait()
		events, _ := x.log.Read(1, 10_000)
		levels := map[string]int{}
		for i := range events {
			if m := events[i].Publish(); m != nil && strings.HasSuffix(m.Topic, "/level") {
				levels[m.Topic]++
			}
		}
		// 60 of the ramp's 100 a round: every tenth, give or take the wrap.
		for topic, n := range levels {
			if n < 5 || n > 7 {
				t.Errorf("%s: %d messages for 60 steps with a deadband of 10", topic, n)
			}
		}
		if len(levels) != 2 {
			t.Errorf("levels of %d devices", len(levels))
		}
		a, b := x.ds[0].State().Signals[0], x.ds[1].State().Signals[0]
		if a.Value == b.Value || len(a.History) != 120 {
			t.Errorf("%v and %v, %d samples", a.Value, b.Value, len(a.History))
		}
	})
}

func TestLostDevicesLeaveTheirWillAndComeBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		x := open(t)
		defer x.close()
		d := x.ds[0]
		d.Start()
		x.said()
		will := make(chan string, 10)
		go watch(t, x.s, will)
		synctest.Wait()
		for len(will) > 0 {
			<-will
		}
		seen := func() (out string) {
			synctest.Wait()
			for len(will) > 0 {
				out += <-will + " "
			}
			return strings.TrimSpace(out)
		}
		d.Cut()
		if got := seen(); got != "lost" {
			t.Errorf("after a cut: %q", got)
		}
		if st := d.State(); st.Phase != device.Away || !strings.Contains(st.Why, "cut") {
			t.Errorf("%s: %s", st.Phase, st.Why)
		}
		time.Sleep(1100 * time.Millisecond)
		if got := seen(); got != "here" || d.State().Phase != device.On {
			t.Errorf("it came back as %q, %s", got, d.State().Phase)
		}
		d.Freeze()
		time.Sleep(14 * time.Second)
		if got := seen(); got != "" || d.State().Phase != device.Frozen {
			t.Errorf("too early: %q, %s", got, d.State().Phase)
		}
		time.Sleep(2 * time.Second) // one and a half keep alives in all
		if got := seen(); got != "lost" || d.State().Phase != device.Frozen {
			t.Errorf("after silence: %q, %s", got, d.State().Phase)
		}
		d.Thaw()
		time.Sleep(1100 * time.Millisecond)
		if got := seen(); got != "here" {
			t.Errorf("after the thaw: %q", got)
		}
		x.s.Close()
		time.Sleep(100 * time.Second)
		if st := d.State(); st.Phase != device.Away && st.Phase != device.Connecting || st.Why == "" {
			t.Errorf("without a broker: %s, %q", st.Phase, st.Why)
		}
	})
}

// watch tells the payloads on the first pen's status topic.
func watch(t *testing.T, s *standin.Server, out chan<- string) {
	l, err := s.Dial(t.Context())
	if err != nil {
		return
	}
	b := (&packet.Connect{ClientID: "watch", CleanStart: true}).Append(nil, packet.V311)
	l.Write((&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "v/1/status"}}}).Append(b, packet.V311))
	for r := packet.NewReader(l, packet.V311); ; {
		p, _, err := r.Next()
		if err != nil {
			return
		}
		if m, ok := p.(*packet.Publish); ok {
			out <- string(m.Payload)
		}
	}
}

// TestAThousandDevicesComeBackAtTheirRate: after a broker's restart no more than a hundred a
// second connect, and all are back.
func TestAThousandDevicesComeBackAtTheirRate(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(farm)}}, "f", "f")
		if err != nil {
			t.Fatal(err)
		}
		kind := w.Devices[0]
		kind.Reactions, kind.Publishes, kind.Presence = nil, nil, ""
		var mu sync.Mutex
		s, _ := standin.New(standin.Options{Anonymous: true})
		var dialled []time.Time
		dial := func(ctx context.Context) (*link.Link, error) {
			mu.Lock()
			defer mu.Unlock()
			dialled = append(dialled, time.Now())
			return s.Dial(ctx)
		}
		gate := rate.NewLimiter(100, 1)
		const n = 1000
		var ds []*device.Device
		for i := range n {
			d := device.New(device.Options{Kind: kind, Number: i + 1, Contract: w.Contract, Dial: dial, Gate: gate, Seed: 3})
			ds = append(ds, d)
			d.Start()
		}
		back := func() (on int) {
			for _, d := range ds {
				if d.State().Phase == device.On {
					on++
				}
			}
			return on
		}
		time.Sleep(11 * time.Second)
		if on := back(); on != n {
			t.Fatalf("%d of %d are on", on, n)
		}
		mu.Lock()
		old := s
		s, _ = standin.New(standin.Options{Anonymous: true})
		dialled = nil
		mu.Unlock()
		old.Close()
		time.Sleep(time.Minute)
		if on := back(); on != n {
			t.Errorf("%d of %d came back", on, n)
		}
		mu.Lock()
		for i := range len(dialled) - 100 {
			if span := dialled[i+100].Sub(dialled[i]); span < time.Second-time.Millisecond {
				t.Errorf("101 came within %s", span)
				break
			}
		}
		mu.Unlock()
		for _, d := range ds {
			d.Stop()
		}
		s.Close()
	})
}
