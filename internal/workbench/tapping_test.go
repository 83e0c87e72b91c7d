package workbench_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// TestARealDeviceIsJudgedThroughItsTap: pen 2 is not played; a stranger that speaks MQTT by bytes dials the tap in its
// place, and is seen, judged and disturbed under its name.
func TestARealDeviceIsJudgedThroughItsTap(t *testing.T) {
	text := strings.Replace(
		wrongdoers,
		"    session: {keep-alive: 10s}\n",
		"    session: {keep-alive: 10s}\n    real: [2]\n",
		1,
	) +
		"taps: {bench: {listen: \"mqtt://127.0.0.1:0\", device: pen-2}}\n"
	b := site(t, text)
	taps, err := b.Taps()
	if err != nil || len(taps) != 1 || len(taps[0].At) != 1 {
		t.Fatalf("%+v %v", taps, err)
	}
	b.Device("pen-2").Start() // it is not
	if p := b.Device("pen-2").State().Phase; p != device.Real {
		t.Error(p)
	}
	await(t, b, "pen 1", func(s workbench.Snapshot) bool { return seen(s, "v/1/reading") && !seen(s, "v/2/reading") })
	come := func() *link.Link {
		t.Helper()
		l, err := link.Dial(context.Background(), taps[0].At[0])
		if err != nil {
			t.Fatal(err)
		}
		hello := packet.Connect{ClientID: "pen-2", CleanStart: true, KeepAlive: 10,
			Will: &packet.Will{Topic: "v/2/status", Payload: []byte("lost"), QoS: 1, Retain: true}}
		l.Write(hello.Append(nil, packet.V311))
		in := make([]byte, 4)
		if _, err := l.Read(in); err != nil || !bytes.Equal(in, []byte{0x20, 2, 0, 0}) {
			t.Fatalf("% x %v", in, err)
		}
		return l
	}
	if p := stateOf(t, b, "pen-2").Real; p != nil {
		t.Errorf("seen before it came: %+v", p)
	}
	l := come()
	say := func(text string) {
		l.Write((&packet.Publish{Topic: "v/2/reading", QoS: 1, ID: 7, Payload: []byte(text)}).Append(nil, packet.V311))
	}
	say(`{"kg": 4, "at": "` + time.Now().UTC().Format(time.RFC3339) + `"}`)
	s := await(t, b, "its reading", func(s workbench.Snapshot) bool { return seen(s, "v/2/reading") })
	if slices.ContainsFunc(s.Breaches, func(x contract.Breach) bool { return x.Rule != contract.RuleAnswer }) {
		t.Errorf("it is accused: %v", s.Breaches)
	}
	if st := stateOf(
		t,
		b,
		"pen-2",
	); st.Real == nil || !st.Real.Here || st.Sent == 0 ||
		time.Since(st.Real.Since) > time.Minute {
		t.Errorf("here, it looks as %+v", st.Real)
	}
	say(`{"kg": 44, "at": "1970-01-01T00:00:00Z"}`)
	await(t, b, "what it does wrong", func(s workbench.Snapshot) bool {
		found := 0
		for _, x := range s.Breaches {
			if x.Topic == "v/2/reading" && x.Sender == "pen-2" &&
				(x.Rule == contract.RuleSchema || x.Rule == contract.RuleStamp) {
				found++
			}
		}
		return found == 2
	})
	b.Tap("bench").Set(tap.Rule{Do: tap.Cut, Type: packet.PUBLISH, Toward: tap.Broker})
	say("anything")
	await(t, b, "its will", func(s workbench.Snapshot) bool {
		return slices.ContainsFunc(
			s.Cells,
			func(c *contract.Cell) bool { return c.Topic == "v/2/status" && string(c.Last.Payload) == "lost" },
		)
	})
}

// TestTheSiteMoves: all devices go to another broker, and come back; who is switched off stays so.
func TestTheSiteMoves(t *testing.T) {
	text := strings.Replace(
		wrongdoers,
		"brokers: {quay: {stand-in: {anonymous: true}, version: 5}}",
		"brokers: {quay: {stand-in: {anonymous: true}, version: 5}, shed: {stand-in: {anonymous: true}, version: 5}}",
		1,
	)
	b := site(t, text)
	at := func(broker string) func(workbench.Snapshot) bool {
		return func(workbench.Snapshot) bool {
			for _, d := range b.Devices() {
				if want := device.On; d.Broker != broker || d.Phase != want && d.Name != "shore" ||
					d.Name == "shore" && d.Phase != device.Off {
					return false
				}
			}
			return len(b.StandIn(broker).Clients()) >= 2
		}
	}
	await(t, b, "the pens", func(s workbench.Snapshot) bool { return seen(s, "v/2/reading") })
	b.Device("shore").Stop()
	if err := b.Move("nowhere"); err == nil {
		t.Error("moved to where nobody is")
	}
	if err := b.Move("shed"); err != nil {
		t.Fatal(err)
	}
	s := await(t, b, "all in the shed", at("shed"))
	count := s.Total
	await(t, b, "news from there", func(workbench.Snapshot) bool {
		for _, c := range b.StandIn("shed").Clients() {
			if c.ID == "pen-2" && c.Published > 4 {
				return true
			}
		}
		return false
	})
	if err := b.Move(""); err != nil {
		t.Fatal(err)
	}
	if s = await(t, b, "all at the quay", at("quay")); s.Total != count {
		t.Errorf("moving is a breach: %v", s.Breaches)
	}
}

func stateOf(t *testing.T, b *workbench.Bench, name string) device.State {
	t.Helper()
	for _, st := range b.Devices() {
		if st.Name == name {
			return st
		}
	}
	t.Fatal("no device", name)
	return device.State{}
}

// TestATrialDisturbsByTheTap: a trial's rules hold up what comes through, and are gone at its end, with those back that
// were there.
func TestATrialDisturbsByTheTap(t *testing.T) {
	text := strings.Replace(
		wrongdoers,
		"    session: {keep-alive: 10s}\n",
		"    session: {keep-alive: 10s}\n    real: [2]\n",
		1,
	) + `
taps: {bench: {listen: "mqtt://127.0.0.1:0", device: pen-2, rules: [{delay: PUBLISH, by: 1ms}]}}
trials:
  - name: Nothing gets through
    steps:
      - expect: {clause: reading, parameters: {pen: 2}}
      - tap: {name: bench, rules: [{drop: PUBLISH, toward: broker}]}
      - wait: 300ms
      - never: {clause: reading, parameters: {pen: 2}, for: 600ms}
      - tap: {name: bench}
      - expect: {clause: reading, parameters: {pen: 2}, within: 2s}
`
	b := site(t, text)
	taps, err := b.Taps()
	if err != nil || len(taps) != 1 {
		t.Fatal(taps, err)
	}
	l, err := link.Dial(context.Background(), taps[0].At[0])
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	l.Write((&packet.Connect{ClientID: "pen-2", CleanStart: true, KeepAlive: 60}).Append(nil, packet.V311))
	go func() {
		for {
			body := `{"kg": 4, "at": "` + time.Now().UTC().Format(time.RFC3339) + `"}`
			if _, err := l.Write(
				(&packet.Publish{Topic: "v/2/reading", Payload: []byte(body)}).Append(nil, packet.V311),
			); err != nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	names, err := b.MatchTrials("*")
	if err != nil {
		t.Fatal(err)
	}
	p := b.Try(ctx, names, nil, nil)
	var steps []string
	for _, s := range p.Results[0].Steps {
		steps = append(steps, s.Text)
	}
	said := strings.Join(steps, "; ")
	if !p.OK() || !strings.Contains(said, "tap bench: drop PUBLISH toward the broker") ||
		!strings.Contains(said, "tap bench: no rule") {
		t.Errorf("%s: %s (%s)", p.Results[0].Verdict, p.Results[0].Seen, said)
	}
	if now := b.Tap("bench").Rules(); len(now) != 1 || now[0].Do != tap.Delay {
		t.Errorf("the rules afterwards: %v", now)
	}
}

// TestEditedTaps: other rules come into force under who goes through, with those of the hand; what listens elsewhere is
// opened anew, and what cannot says so until it can.
func TestEditedTaps(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "w.yaml")
	write := func(taps string) {
		t.Helper()
		text := strings.Replace(
			wrongdoers,
			"    session: {keep-alive: 10s}\n",
			"    session: {keep-alive: 10s}\n    real: [2]\n",
			1,
		)
		if err := os.WriteFile(file, []byte(text+"taps: {"+taps+"}\n"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(`bench: {listen: "mqtt://127.0.0.1:0", device: pen-2, rules: [{delay: PUBLISH, by: 1ms}]}`)
	w, err := workspace.Open(file)
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	b, err := workbench.New(w, workbench.Options{Follow: true})
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	b.Start()
	stands := func() string {
		taps, err := b.Taps()
		var out []string
		for _, x := range taps {
			for i := range x.Rules {
				out = append(out, x.Name+" "+x.Rules[i].Rule.String())
			}
		}
		if err != nil {
			out = append(out, err.Error())
		}
		return strings.Join(out, "; ")
	}
	taps, _ := b.Taps()
	at := taps[0].At[0]
	l, err := link.Dial(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	l.Write((&packet.Connect{ClientID: "stranger", CleanStart: true, KeepAlive: 60}).Append(nil, packet.V311))
	in := make([]byte, 4)
	if _, err := io.ReadFull(l, in); err != nil || in[0] != 0x20 {
		t.Fatal(in, err)
	}
	hand, err := tap.ParseRule("{drop: PINGRESP}")
	if err != nil {
		t.Fatal(err)
	}
	first := b.Tap("bench").Rules()[0].Rule
	b.Tap("bench").Set(first, hand)

	write(`bench: {listen: "mqtt://127.0.0.1:0", device: pen-2, rules: [{delay: PUBLISH, by: 2ms}]}`)
	until(t, "other rules", func() bool { return strings.Contains(stands(), "2") })
	if got := stands(); strings.Contains(got, first.String()) || !strings.Contains(got, hand.String()) {
		t.Error(got)
	}
	b.Tap("bench").Set()
	l.Write([]byte{0xC0, 0}) // it goes through as before
	if _, err := io.ReadFull(l, in[:2]); err != nil || in[0] != 0xD0 {
		t.Error(in, err)
	}

	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := taken.Addr().String()
	write(`bench: {listen: "mqtt://` + port + `", rules: [{drop: PUBACK}]}, more: {listen: "mqtt://127.0.0.1:0"}`)
	until(t, "it cannot listen", func() bool { return strings.Contains(stands(), "tap bench: ") })
	if _, err := io.ReadFull(l, in[:1]); err == nil {
		t.Error("who went through by the old way still does")
	}
	if again, err := link.Dial(t.Context(), at); err == nil {
		t.Error("somebody listens where nobody is to")
		again.Close()
	}
	if taps, _ := b.Taps(); len(taps) != 2 || len(taps[1].At) != 1 {
		t.Errorf("%+v", taps)
	}
	taken.Close()
	write(`bench: {listen: "mqtt://` + port + `"}`)
	until(
		t,
		"it can",
		func() bool { taps, err := b.Taps(); return err == nil && len(taps) == 1 && len(taps[0].At) == 1 },
	)
	if again, err := link.Dial(t.Context(), "mqtt://"+port); err != nil {
		t.Error(err)
	} else {
		again.Close()
	}
}

// TestWhatATapDisturbsIsOneJourney: of a message that a rule holds up, cuts up, keeps back, repeats or changes it is known
// whose it was, how long it took and what became of it, though the next ones are alike; and no observer counts as behind.
func TestWhatATapDisturbsIsOneJourney(t *testing.T) {
	const many = 12
	type told struct {
		tap     trace.Tapped
		arrived bool
	}
	whole, plain, kept := told{trace.TapPassed, true}, told{"", true}, told{trace.TapKept, false}
	for _, tt := range []struct {
		rules  string        // each as the workspace has it
		first  []told        // what becomes of the first messages
		beyond int           // messages whose sender is beyond the tap, that came
		least  time.Duration // that each takes which a rule touched
	}{
		{"{delay: PUBLISH, by: 60ms}", []told{whole, whole, whole}, 0, 60 * time.Millisecond},
		{"{split: PUBLISH, by: 1ms, toward: broker}", []told{whole, whole}, 0, 0},
		{"{drop: PUBLISH, toward: broker, nth: 3}", []told{plain, plain, kept, plain, plain, kept}, 0, 0},
		{"{repeat: PUBLISH, times: 3, toward: broker, nth: 2}", []told{plain, whole, plain, whole}, many, 0},
		{"{alter: PUBLISH, payload: '7', toward: broker, nth: 2}", []told{plain, {trace.TapChanged, false}, plain}, many / 2, 0},
		{"{reorder: PUBLISH, toward: broker, nth: 4}", []told{plain, plain, plain, whole, plain}, 0, 0},
		{"{drop: PUBACK}", []told{plain, plain}, 0, 0},
	} {
		for _, qos := range []packet.QoS{0, 1} {
			t.Run(fmt.Sprint(tt.rules, " ", qos), func(t *testing.T) {
				t.Parallel()
				b := site(t, `hodstone: 1
name: test
brokers: {quay: {stand-in: {anonymous: true}}}
contract:
  parties: {pen: , shore: }
  clauses: {level: {topic: v/level, from: pen, to: shore, payload: {format: number}}}
devices: {pen: {plays: pen, real: true, session: {client-id: pen}}, shore: {plays: shore}}
taps: {bench: {listen: "mqtt://127.0.0.1:0", device: pen, rules: [`+tt.rules+`]}}
`)
				taps, err := b.Taps()
				if err != nil || len(taps) != 1 {
					t.Fatal(taps, err)
				}
				await(
					t,
					b,
					"an observer, and the shore: what was sent before it came may not be laid to the pen",
					func(s workbench.Snapshot) bool {
						return len(s.Sights) > 0 && s.Sights[0].Open && stateOf(t, b, "shore").Phase == device.On
					},
				)
				l, err := link.Dial(context.Background(), taps[0].At[0])
				if err != nil {
					t.Fatal(err)
				}
				defer l.Close()
				go io.Copy(io.Discard, l)
				l.Write((&packet.Connect{ClientID: "pen", CleanStart: true, KeepAlive: 60}).Append(nil, packet.V311))
				for i := range many {
					m := packet.Publish{Topic: "v/level", QoS: qos, Payload: []byte("5")}
					if qos > 0 {
						m.ID = uint16(i + 1)
					}
					l.Write(m.Append(nil, packet.V311))
					time.Sleep(30 * time.Millisecond)
				}
				var pens, beyond []trace.Journey
				reached := func(j *trace.Journey) *trace.Hop {
					for i := range j.Hops {
						if j.Hops[i].Client == "observer" {
							return &j.Hops[i]
						}
					}
					return nil
				}
				text := ""
				all := func(workbench.Snapshot) bool {
					pens, beyond, text = nil, nil, ""
					for _, j := range b.Journeys(1000, func(j *trace.Journey) bool { return j.Topic == "v/level" }) {
						h := reached(&j)
						text += fmt.Sprintf("\n%s %q %v", j.Sender, j.Tap, h)
						switch {
						case j.Sender == "pen":
							pens = append([]trace.Journey{j}, pens...)
						case h == nil:
							return false
						default:
							beyond = append(beyond, j)
						}
					}
					if len(pens) != many || len(beyond) != tt.beyond {
						return false
					}
					for i, want := range tt.first {
						h := reached(&pens[i])
						if pens[i].Tap != want.tap || (h != nil) != want.arrived {
							return false
						}
						if h != nil && (want.tap != "" && h.Delay < tt.least || h.Delay > 2*time.Second) {
							return false
						}
					}
					return true
				}
				for end := time.Now().Add(20 * time.Second); !all(workbench.Snapshot{}); time.Sleep(20 * time.Millisecond) {
					if time.Now().After(end) {
						t.Fatalf("want %v and %d beyond:%s", tt.first, tt.beyond, text)
					}
				}
				if late := b.Brokers()[0].Behind; late != 0 {
					t.Errorf("the observer counts as %s behind", late)
				}
			})
		}
	}
}
