package device_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/fstest"
	"testing/synctest"
	"time"

	"hodstone/internal/device"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// vats is a contract to have habits in; the device's keys follow.
const vats = `hodstone: 1
brokers: {plant: {stand-in: {}}}
contract:
  parties: {vats: , desk: }
  parameters: {vat: {range: 1..3}}
  clauses:
    heat: {topic: "d/heat", from: vats, to: desk, qos: 1, payload: {format: number}}
    made: {topic: "d/made", from: vats, to: desk, qos: 0, payload: {format: json}}
    cut: {topic: "d/{vat}/cut", from: vats, to: desk, qos: 1, payload: {format: json}}
    cut.set: {topic: "d/{vat}/cut/set", from: desk, to: vats, qos: 1, payload: {format: json}}
    whey: {topic: "d/whey", from: vats, to: desk, qos: 1, payload: {format: text}}
    whey.set: {topic: "d/whey/set", from: desk, to: vats, qos: 2, payload: {format: text}}
    lot: {topic: "d/lot", from: vats, to: desk, qos: 0, payload: {format: binary, fields: [{name: length, type: u8}, {name: lot, type: text, length: 6, padding: nul}]}}
    hour: {topic: "d/hour", from: desk, to: vats, qos: 0, payload: {format: text}}
    status: {topic: "d/status", from: vats, to: desk, qos: 1, retain: true, presence: {coming: here, leaving: bye, lost: lost}, payload: {format: text}}
devices:
  vats:
    plays: vats
`

// bench is one device of the dairy on a stand-in, on the fake clock.
type bench struct {
	t     *testing.T
	s     *standin.Server
	d     *device.Device
	log   *trace.Log
	at    uint64
	start time.Time
}

// set makes a device with keys of its own, and switches it on.
func set(t *testing.T, keys string, o standin.Options) *bench {
	t.Helper()
	return setIn(t, vats, keys, o)
}

// setIn does so in a workspace that ends in the device.
func setIn(t *testing.T, base, keys string, o standin.Options) *bench {
	t.Helper()
	lines := strings.Split(strings.TrimSpace(keys), "\n")
	files := fstest.MapFS{"f": {Data: []byte(base + "    " + strings.Join(lines, "\n    ") + "\n")},
		"tide.csv": {Data: []byte("time,heat,lamp\n# made up\n0,10,true\n2s,20,false\n4,,true\n")}}
	w, err := workspace.Read(files, "f", "f")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	o.Anonymous = true
	s, err := standin.New(o)
	if err != nil {
		t.Fatal(err)
	}
	b := &bench{t: t, s: s, log: trace.NewLog(10_000), at: 1, start: time.Now()}
	b.d = device.New(
		device.Options{
			Kind:     w.Devices[0],
			Number:   1,
			Contract: w.Contract,
			Dial:     s.Dial,
			Logs:     []*trace.Log{b.log},
			Seed:     7,
		},
	)
	t.Cleanup(func() { b.d.Stop(); s.Close() })
	b.d.Start()
	return b
}

// after lets time pass, and returns what the device has sent since the last call.
func (b *bench) after(d time.Duration) string {
	b.t.Helper()
	time.Sleep(d)
	synctest.Wait()
	events, _ := b.log.Read(b.at, 10_000)
	b.at += uint64(len(events))
	var out []string
	for i := range events {
		e := &events[i]
		if e.Kind != trace.Sent {
			continue
		}
		switch p := e.Packet.(type) {
		case *packet.Publish:
			out = append(out, fmt.Sprintf("%s=%s", strings.TrimPrefix(p.Topic, "d/"), p.Payload))
		case *packet.Connect, *packet.Disconnect:
			out = append(out, e.Packet.Type().String())
		case *packet.Subscribe:
			for _, s := range p.Subscriptions {
				out = append(out, fmt.Sprintf("SUBSCRIBE %s@%d", strings.TrimPrefix(s.Filter, "d/"), s.QoS))
			}
		}
	}
	return strings.Join(out, " ")
}

// say publishes a message to the device.
func (b *bench) say(topic, text string) {
	b.t.Helper()
	l, err := b.s.Dial(b.t.Context())
	if err != nil {
		b.t.Fatal(err)
	}
	raw := (&packet.Connect{ClientID: "desk", CleanStart: true}).Append(nil, packet.V311)
	raw = (&packet.Publish{Topic: "d/" + topic, QoS: 1, ID: 1, Payload: []byte(text)}).Append(raw, packet.V311)
	l.Write((&packet.Disconnect{}).Append(raw, packet.V311))
	synctest.Wait()
	l.Close()
}

// quiet are subscriptions that a device of the dairy has by its contract alone.
const quiet = "CONNECT SUBSCRIBE +/cut/set@1 SUBSCRIBE whey/set@2 SUBSCRIBE hour@0"

// TestHabits: each habit of a device, one after the other, as what it sends when.
func TestHabits(t *testing.T) {
	for _, c := range []struct {
		name, keys string
		do         func(t *testing.T, b *bench)
	}{
		{"upon connect and bursts", `
publishes:
  - {clause: whey, upon: connect, payload: "version 3"}
  - {clause: made, burst: {count: 3, every: 10s}, payload: {n: "= count()"}}`, func(t *testing.T, b *bench) {
			b.is(b.after(2*time.Second), quiet+` whey=version 3 made={"n":0} made={"n":1} made={"n":2}`)
			b.is(b.after(7*time.Second), "")
			b.is(b.after(3*time.Second), `made={"n":3} made={"n":4} made={"n":5}`)
			b.d.Cut()
			b.is(b.after(4*time.Second), quiet+` whey=version 3 made={"n":6} made={"n":7} made={"n":8}`)
		}},
		{"comes late, stays a while, and returns", `
connect: {after: 3s, stays: 2s, returns: 1m}
presence: status
publishes: [{clause: whey, upon: connect, payload: up}]`, func(t *testing.T, b *bench) {
			b.is(b.after(2900*time.Millisecond), "")
			b.is(b.after(200*time.Millisecond), quiet+" status=here whey=up")
			b.is(b.after(2*time.Second), "status=bye DISCONNECT")
			if st := b.d.State(); st.Phase != device.Away || !strings.Contains(st.Why, "it has left, as it does") {
				t.Errorf("%+v", st)
			}
			b.is(b.after(58*time.Second), "")
			b.is(b.after(3*time.Second), quiet+" status=here whey=up")
		}},
		{"once and leaves", `
connect: {stays: 1s}
publishes: [{clause: whey, upon: connect, payload: up}]`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Hour), quiet+" whey=up DISCONNECT")
			if st := b.d.State(); st.Phase != device.Off {
				t.Errorf("%+v", st)
			}
			b.d.Stop() // and is there for another time
			b.d.Start()
			b.is(b.after(time.Minute), quiet+" whey=up DISCONNECT")
		}},
		{"tries again after a fixed pause", `connect: {again: 5s}`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), quiet)
			for range 3 {
				b.d.Cut()
				b.is(b.after(4900*time.Millisecond), "")
				b.is(b.after(200*time.Millisecond), quiet)
			}
		}},
		{"never comes again", `connect: {again: never}`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), quiet)
			b.d.Cut()
			b.is(b.after(time.Hour), "")
			if st := b.d.State(); st.Phase != device.Away || !strings.Contains(st.Why, "does not come again by itself") {
				t.Errorf("%+v", st)
			}
		}},
		{"derived, steps, a file", `
signals:
  step: {wave: steps, values: [1, 5, 3], every: 2s}
  high: {is: step > 4}
  heat: {file: tide.csv}
  ramp: {file: tide.csv, column: heat, between: line}
  lamp: {file: tide.csv}
publishes:
  - {clause: whey, upon: {signal: high, edge: both}, payload: "= high ? 'high' : 'low'"}
  - {clause: made, every: 1s, payload: {heat: "= heat", ramp: "= ramp", lamp: "= lamp"}}`, func(t *testing.T, b *bench) {
			said := b.after(6900 * time.Millisecond)
			for _, want := range []string{"whey=high ", "whey=low ", `{"heat":10,"ramp":12.5,"lamp":true}`, `{"heat":20,"ramp":20,"lamp":false}`,
				`{"heat":null,"ramp":null,"lamp":true}`} {
				if !strings.Contains(said, want) {
					t.Errorf("%s lacks %s", said, want)
				}
			}
			if n := strings.Count(said, "whey="); n != 2 {
				t.Errorf("%d edges: %s", n, said)
			}
		}},
		{"stuck and missing", `
signals:
  up: {wave: counter, every: 1s, fault: {stuck: 4s, every: 10s}}
  out: {start: 7, fault: {missing: 5s, every: 10s}}
  twice: {is: out * 2}
publishes:
  - {clause: whey, every: 1s, payload: "= string(twice)"}
  - {clause: made, every: 1s, payload: {up: "= up"}}
  - {clause: heat, every: 1s, payload: "= out"}`, func(t *testing.T, b *bench) {
			said := b.after(10 * time.Second)
			if n := strings.Count(said, "whey=14"); n < 4 || n > 6 || strings.Contains(said, "whey=nil") {
				t.Errorf("what is derived of it: %d in %s", n, said)
			}
			if st := b.d.State(); st.Why != "" {
				t.Errorf("it complains: %s", st.Why)
			}
			if n := strings.Count(said, "heat=7"); n < 4 || n > 6 || strings.Contains(said, "heat=0") || strings.Contains(said, "null") {
				t.Errorf("missing: %d in %s", n, said)
			}
			if n := strings.Count(said, `{"up":5}`) + strings.Count(said, `{"up":6}`); n < 4 {
				t.Errorf("stuck: %s", said)
			}
		}},
		{"states", `
signals: {full: {start: false}, run: {start: 0}}
publishes: [{clause: whey, payload: "= state + ' ' + string(run)"}]
states:
  first: idle
  idle: {publish: whey, set: {run: 0}, upon: [{when: cut.set, where: payload.run, to: cutting}]}
  cutting: {publish: whey, set: {run: "= payload.speed"}, after: {time: 5s, to: idle}, upon: [{signal: full, to: full}, {when: cut.set, where: "!payload.run", to: idle}]}
  full: {publish: whey}`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), quiet+" whey=idle 0")
			b.say("1/cut/set", `{"run":false}`)
			b.is(b.after(time.Second), "")
			b.say("1/cut/set", `{"run":true,"speed":3}`)
			b.is(b.after(time.Second), "whey=cutting 3")
			b.is(b.after(5*time.Second), "whey=idle 0")
			b.say("1/cut/set", `{"run":true,"speed":4}`)
			b.say("1/cut/set", `{"run":false}`)
			b.say("1/cut/set", `{"run":true,"speed":5}`)
			b.is(b.after(time.Second), "whey=cutting 4 whey=idle 0 whey=cutting 5")
			b.d.Set("full", true)
			b.is(b.after(20*time.Second), "whey=full 5")
			if st := b.d.State(); st.In != "full" {
				t.Errorf("%+v", st)
			}
		}},
		{"one field, parameters, repetition, QoS", `
signals: {height: {start: 9}, far: {start: 0}}
publishes: [{clause: cut, parameters: {vat: "= params.vat"}, payload: {height: "= height"}}, {clause: made, payload: "= far"}]
subscribes: {whey.set: {qos: 0}}
reactions:
  - {when: cut.set, qos: 0, set: {height: "= payload.recipe?.height"}, publish: cut}
  - {when: cut.set, unknown-parameters: obeyed, repeated: nothing, where: params.vat == "4", set: {far: "= far + 1"}, publish: made}`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), "CONNECT SUBSCRIBE +/cut/set@0 SUBSCRIBE +/cut/set@1 SUBSCRIBE whey/set@0 SUBSCRIBE hour@0")
			b.say("2/cut/set", `{"recipe":{"height":12,"name":"hard"}}`)
			b.say("3/cut/set", `{"recipe":{"name":"soft"}}`)
			b.is(b.after(time.Second), `2/cut={"height":12} 3/cut={"height":12}`)
			b.say("4/cut/set", `{"recipe":{"height":40}}`)
			b.say("4/cut/set", `{"recipe":{"height":40}}`)
			b.say("4/cut/set", `{"recipe":{"height":41}}`)
			b.is(b.after(time.Second), "made=1 made=2")
			b.say("2/cut/set", `{}`)
			b.say("2/cut/set", `{}`) // counted: each is answered
			b.is(b.after(time.Second), `2/cut={"height":12} 2/cut={"height":12}`)
		}},
		{"echo and the first character", `
signals: {open: {start: false}}
publishes: [{clause: made, payload: "= open"}]
reactions: [{when: whey.set, echo: whey, after: 1s}, {when: whey.set, where: payload startsWith "1", set: {open: true}, publish: made}]`, func(t *testing.T, b *bench) {
			b.after(time.Second)
			b.say("whey/set", "1 of all \x01")
			b.is(b.after(500*time.Millisecond), "made=true")
			b.is(b.after(time.Second), "whey=1 of all \x01")
		}},
		{"pings over a connection of its own", `session: {keep-alive: 10s, pings: own-connection}`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), quiet+" CONNECT")
			b.is(b.after(35*time.Second), "")
			pings := map[string]int{}
			events, _ := b.log.Read(1, 10_000)
			for _, e := range events {
				if _, is := e.Packet.(*packet.Pingreq); is && e.Kind == trace.Sent {
					pings[e.Client]++
				}
			}
			if pings["vats"] != 0 || pings["vats pings"] < 3 {
				t.Error(pings)
			}
			for _, c := range b.s.Clients() {
				if (c.ID == "vats-ping") != (c.KeepAlive == 10*time.Second) {
					t.Errorf("%+v", c)
				}
			}
			if n := len(b.s.Clients()); n != 2 {
				t.Errorf("%d clients", n)
			}
			b.d.Stop()
			b.is(b.after(time.Second), "DISCONNECT DISCONNECT")
		}},
		{"keeps the newest while it is away", `
connect: {again: 30s}
offline: {keep: 3}
signals: {k: {wave: counter, every: 10s}}
publishes: [{clause: made, every: 5s, payload: "= count()"}]`, func(t *testing.T, b *bench) {
			b.is(b.after(7*time.Second), quiet+" made=0 made=1")
			b.d.Cut()
			b.is(b.after(29*time.Second), "")
			if st := b.d.State(); st.Waiting != 3 {
				t.Errorf("%+v", st)
			}
			b.is(b.after(1500*time.Millisecond), quiet+" made=5 made=6 made=7")
		}},
		{"keeps the oldest while it is away", `
connect: {again: 30s}
offline: {keep: 2, drop: newest}
publishes: [{clause: made, every: 5s, payload: "= count()"}]`, func(t *testing.T, b *bench) {
			b.is(b.after(7*time.Second), quiet+" made=0 made=1")
			b.d.Cut()
			b.is(b.after(30500*time.Millisecond), quiet+" made=2 made=3")
		}},
		{"a clock that begins in 1970 until it is told, and drifts", `
clock: {starts: 1970-01-01T00:00:00Z, drift: 1000ppm, told: hour}
publishes: [{clause: made, every: 1000s, payload: "= now()"}, {clause: whey, upon: connect, payload: "= now()"}]`, func(t *testing.T, b *bench) {
			b.is(b.after(0), "CONNECT SUBSCRIBE hour@0 SUBSCRIBE +/cut/set@1 SUBSCRIBE whey/set@2 whey=1970-01-01T00:00:00.000Z")
			b.after(2 * time.Second)
			b.like(b.after(1000*time.Second), `made="1970-01-01T00:16:41`) // a second fast after a thousand
			b.say("hour", "2026-11-27T10:00:00Z")
			b.like(b.after(1000*time.Second), `made="2026-11-27T10:16:39`)
		}},
		{"a cycle, and one message in flight", `
cycle: 2s
session: {in-flight: 1}
signals: {run: {start: 0}}
publishes: [{clause: heat, payload: "= run"}]
reactions: [{when: cut.set, set: {run: "= payload.n"}, publish: heat}]`, func(t *testing.T, b *bench) {
			b.is(b.after(100*time.Millisecond), quiet)
			b.say("1/cut/set", `{"n":1}`)
			b.say("1/cut/set", `{"n":2}`)
			b.is(b.after(1500*time.Millisecond), "")
			b.d.Slow(300*time.Millisecond, 0)
			b.is(b.after(900*time.Millisecond), "heat=2") // the second waits for the first's PUBACK
			b.is(b.after(time.Second), "heat=2")
		}},
		{"small: QoS 0 and 128 bytes", `
session: {max-qos: 0, max-packet: 128}
signals: {long: {start: "a"}}
publishes: [{clause: heat, upon: connect, payload: 4}, {clause: whey, payload: "= long"}]`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), "CONNECT SUBSCRIBE +/cut/set@0 SUBSCRIBE whey/set@0 SUBSCRIBE hour@0 heat=4")
			if e := b.published("d/heat"); e == nil || e.QoS != 0 {
				t.Errorf("%+v", e)
			}
			b.d.Set("long", strings.Repeat("x", 200))
			b.d.Send("whey")
			b.is(b.after(time.Second), "")
			if why := b.d.State().Why; !strings.Contains(why, "takes and sends at most 128") {
				t.Error(why)
			}
			b.say("1/cut/set", `{"text":"`+strings.Repeat("y", 200)+`"}`)
			if said := b.after(5 * time.Second); !strings.HasPrefix(said, "CONNECT") {
				t.Errorf("it stayed in: %s", said)
			}
		}},
		{"fixed texts padded with NUL", `publishes: [{clause: lot, upon: connect, payload: {length: 3, lot: "= 'A' + '17'"}}]`, func(t *testing.T, b *bench) {
			b.is(b.after(time.Second), quiet+" lot=\x03A17\x00\x00\x00")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				c.do(t, set(t, c.keys, standin.Options{}))
			})
		})
	}
}

// is holds what was said to what must be.
func (b *bench) is(got, want string) {
	b.t.Helper()
	if got != want {
		b.t.Errorf("said\n %s, not\n %s; %s", got, want, b.d.State().Why)
	}
}

// published is the last message that the device sent on a topic.
func (b *bench) published(topic string) (last *packet.Publish) {
	events, _ := b.log.Read(1, 10_000)
	for i := range events {
		if m := events[i].Publish(); m != nil && events[i].Kind == trace.Sent && m.Topic == topic {
			last = m
		}
	}
	return last
}

// TestMistakesInHabits are told with what to write.
func TestMistakesInHabits(t *testing.T) {
	for keys, want := range map[string]string{
		"connect: {again: 0s}":                                                 "floods its broker",
		"connect: {returns: 1m}":                                               "does not return",
		"offline: {drop: oldest}":                                              `lacks "keep"`,
		"clock: {drift: 20}":                                                   "no drift",
		"clock: {starts: noon}":                                                "no time",
		"clock: {told: heat}":                                                  "not meant for vats",
		"signals: {a: {wave: steps}}":                                          "steps need values",
		"signals: {a: {file: none.csv}}":                                       "no file none.csv",
		"signals: {a: {file: tide.csv}}":                                       "lacks the column",
		"signals: {a: {file: back.csv}}":                                       "does not come after",
		"signals: {a: {is: b + 1}}":                                            "b",
		"signals: {a: {wave: sine, is: 1 + 1}}":                                "one of them",
		"signals: {a: {fault: {stuck: 5s, missing: 1s, every: 10s}}}":          "stuck or missing",
		"signals: {a: {column: x}}":                                            "does nothing for a constant",
		"states: {idle: {}}":                                                   "states need first",
		"states: {first: a, a: {after: {time: 1s, to: b}}}":                    `no state "b"`,
		"states: {first: a, a: {upon: [{to: a}]}}":                             "when or signal",
		"states: {first: a, a: {publish: heat}}":                               "publishes nothing under",
		"subscribes: {heat: {qos: 0}}":                                         "not meant for vats",
		"publishes: [{clause: heat, every: 1s, burst: {count: 2, every: 1s}}]": "every or burst",
		"reactions: [{when: whey.set, echo: cut}]":                             "no value for {vat}",
		"session: {pings: other}":                                              "own-connection",
	} {
		files := fstest.MapFS{
			"f":        {Data: []byte(vats + "    " + keys + "\n")},
			"tide.csv": {Data: []byte("time,heat\n0,1\n")},
			"back.csv": {Data: []byte("time,a\n2,1\n1,1\n")},
		}
		w, err := workspace.Read(files, "f", "f")
		if err != nil {
			t.Fatal(err)
		}
		found := ""
		for _, p := range w.Problems {
			found += p.Error() + "\n"
		}
		if !strings.Contains(found, want) {
			t.Errorf("%s: %q is not told: %s", keys, want, found)
		}
	}
}

// like holds the beginning of what was said to what must be.
func (b *bench) like(got, want string) {
	b.t.Helper()
	if !strings.HasPrefix(got, want) {
		b.t.Errorf("said\n %s, not\n %s …; %s", got, want, b.d.State().Why)
	}
}

// TestTheExamplesOfTheDocsRun: each example of docs/devices.md, added to the workspace that it begins with, is played
// for a while, and complains of nothing.
func TestTheExamplesOfTheDocsRun(t *testing.T) {
	text, err := os.ReadFile("../../docs/devices.md")
	if err != nil {
		t.Fatal(err)
	}
	var blocks []string
	for i, part := range strings.Split(string(text), "```") {
		if yaml, is := strings.CutPrefix(part, "yaml\n"); is && i%2 == 1 {
			blocks = append(blocks, yaml)
		}
	}
	if len(blocks) < 8 {
		t.Fatalf("%d examples", len(blocks))
	}
	for i, keys := range blocks[1:] {
		t.Run(fmt.Sprint(i+1), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				b := setIn(t, blocks[0], keys, standin.Options{})
				b.after(time.Second)
				b.say("1/cut/set", `{"run": true, "speed": 3, "recipe": {"height": 4}}`)
				b.say("whey/set", "1 of all")
				said := b.after(5 * time.Minute)
				if st := b.d.State(); st.Why != "" && st.Phase == device.On ||
					!strings.Contains(said+b.after(10*time.Minute), "=") {
					t.Errorf("%+v\n%s", st, said)
				}
			})
		})
	}
}
