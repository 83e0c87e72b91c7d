package workspace_test

import (
	"strings"
	"testing"
	"time"

	"hodstone/internal/fleet"
	"hodstone/internal/workspace"
)

// TestLoadsAreRead: with all that can be said of one.
func TestLoadsAreRead(t *testing.T) {
	w := read(t, sound+`loads:
  tide:
    broker: quay
    clients: {plain: 400, p: 50}
    shape: fan-in
    others: 2
    version: 3.1.1
    publish: {clause: a, payload-from: signals, every: 2s, jitter: 10%, qos: 1, retain: true, each: 7}
    ramp: {from: 50, to: 450, by: 50, hold: 30s, falls: true}
    connects: 600/min
    storm: wills
    bound: {p99: 100ms, lost: 0, short: 5%, connect-p99: "<2s"}
    traced: 5%
    local: 127.0.0.2-127.0.0.4
  fast: {clients: {plain: 10}, rate: 120/min, publish: {size: 200}, hold: 1m, find: rate, ramp: {of: rate, to: 900}}
  none: {clients: {plain: 1}}
`)
	if len(w.Problems) > 0 || len(w.Loads) != 3 {
		t.Fatal(w.Problems)
	}
	x := w.Load("tide")
	if x.Broker != "quay" || len(x.Clients) != 2 || x.Shape != fleet.FanIn || x.Others != 2 || x.Clause != "a" || x.From != workspace.FromSignals ||
		x.Every != 2*time.Second || x.Jitter != 0.1 || *x.QoS != 1 || !*x.Retain || x.Each != 7 || x.RampFrom != 50 || x.RampTo != 450 || x.RampBy != 50 ||
		x.Hold != 30*time.Second || !x.Falls || x.Connects != 10 ||
		x.Storm != fleet.Wills ||
		x.Bound.String() != "p99<=100ms,lost=0,short<=5%,connect-p99<2s" ||
		x.Traced != 0.05 ||
		len(x.Locals) != 3 {
		t.Errorf("%+v", x)
	}
	if y := w.Load(
		"fast",
	); y.Rate != 2 || y.Size != 200 || y.Hold != time.Minute || y.Find != "rate" || y.RampOf != "rate" ||
		y.RampTo != 900 {
		t.Errorf("%+v", y)
	}
	if z := w.Load(
		"none",
	); z.Every != time.Second || z.Hold != 10*time.Second || z.Shape != fleet.Echo || z.Traced != 0.01 ||
		z.Bound != nil {
		t.Errorf("%+v", z)
	}
	if w.Load("ebb") != nil {
		t.Error("a load that there is not")
	}
}

// TestMistakesInLoads: each is one message, at its place, and the load is left out.
func TestMistakesInLoads(t *testing.T) {
	for _, tt := range []struct{ load, place, want string }{
		{"{}", "{}", "load one has no clients"},
		{"{clients: {plian: 3}}", "plian", `no kind of clients "plian"|did you mean "plain"?`},
		{"{clients: {plain: 0}}", "0", "from 1 to"},
		{"{clients: {plain: many}}", "many", "a whole number"},
		{"{clients: {plain: 1}, shape: round}", "round", `shape "round" is not defined`},
		{"{clients: {plain: 1}, broker: sea}", "sea", `broker "sea" is not defined`},
		{"{clients: {plain: 1}, publish: {clause: z}}", "z", `clause "z" is not defined`},
		{"{clients: {plain: 1}, publish: {payload-from: air}}", "air", `payload-from "air" is not defined`},
		{"{clients: {plain: 1}, publish: {every: 0s}}", "0s", "longer than nothing"},
		{"{clients: {plain: 1}, publish: {jitter: 3}}", "3", "a share is written 5%"},
		{"{clients: {plain: 1}, publish: {size: 5}}", "5", "from 24 to"},
		{"{clients: {plain: 1}, ramp: {from: x}}", "x", "number"},
		{"{clients: {plain: 1}, ramp: {of: boats}}", "boats", `of "boats" is not defined`},
		{"{clients: {plain: 1}, rate: fast}", "fast", "10/s"},
		{"{clients: {plain: 1}, bound: {p98: 1s}}", "1s", `nothing measured is called "p98"|p99.9`},
		{"{clients: {plain: 1}, bound: {p99: 5}}", "5", "is a time"},
		{"{clients: {plain: 1}, storm: rain}", "rain", `storm "rain" is not defined`},
		{"{clients: {plain: 1}, find: gold}", "gold", `find "gold" is not defined`},
		{"{clients: {plain: 1}, local: here}", "here", "127.0.0.2-127.0.0.9"},
		{"{clients: {plain: 1}, credentials: nowhere.csv}", "nowhere.csv", "the credentials cannot be read"},
		{"{clients: {plain: 1}, every: 3s}", "every", `has no key "every"|write it deeper: publish: {every: …}`},
		{"{clients: {plain: 1}, speed: 3}", "speed", `no key "speed"`},
	} {
		text := sound + "loads:\n  one: " + tt.load + "\n  two: {clients: {plain: 2}}\n"
		w := read(t, text)
		if len(w.Problems) != 1 || len(w.Loads) != 1 || w.Loads[0].Name != "two" {
			t.Errorf("%s: %d loads, %v", tt.load, len(w.Loads), w.Problems)
			continue
		}
		p := w.Problems[0]
		if at := strings.Split(text, "\n")[p.Line-1][p.Column-1:]; !strings.HasPrefix(at, tt.place) {
			t.Errorf("%s: it points at %q", tt.load, at)
		}
		for _, want := range strings.Split(tt.want, "|") {
			if !strings.Contains(p.Error(), want) {
				t.Errorf("%s: no %q in %v", tt.load, want, p)
			}
		}
	}
	for text, want := range map[string]string{"a,b\nc": "has no password", "": "there are none", "username,password\n": "there are none", "\"a": "quote"} {
		if _, err := workspace.ReadCredentials([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if all, err := workspace.ReadCredentials(
		[]byte("\ufeffusername,password\r\n# who\nann,x\r\nbob, y z\n"),
	); err != nil || len(all) != 2 ||
		all[1] != [2]string{"bob", " y z"} {
		t.Error(all, err)
	}
}

// TestAStandInsPaceIsRead.
func TestAStandInsPaceIsRead(t *testing.T) {
	w := read(
		t,
		"hodstone: 1\nbrokers: {slow: {stand-in: {pace: {rate: 500/s, backlog: 20, pause: 1s, every: 10s}}, load: allowed}}\n",
	)
	if p := w.Brokers[0].StandIn.Pace; len(w.Problems) > 0 || p.Rate != 500 || p.Backlog != 20 ||
		p.Pause != time.Second ||
		p.Every != 10*time.Second ||
		!w.Brokers[0].Load {
		t.Error(w.Problems, p)
	}
	if w = read(
		t,
		"hodstone: 1\nbrokers: {b: {stand-in: {}, load: please}}\n",
	); len(w.Problems) != 1 ||
		!strings.Contains(w.Problems[0].Error(), `load cannot be "please"`) {
		t.Error(w.Problems)
	}
}
