package workbench_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/subject"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// onTheBench is a site with one kind of device that is put to the proof.
const onTheBench = `hodstone: 1
brokers: {quay: {stand-in: {listeners: {tls: "127.0.0.1:0"}, anonymous: true}}}
contract:
  parameters: {pen: {values: ["1", "2"]}}
  parties:
    pen:
      terms: {client-id: "pen-{pen}", keep-alive: 2s..5s, clean-start: true, back-within: 8s, tries: 25/min, lost-within: 12s,
        first-value-within: 3s, gives-up-within: 10s}
    shore:
  clauses:
    reading:
      topic: "v/{pen}/reading"
      from: pen
      to: shore
      qos: 1
      retain: false
      every: 500ms ± 2s
      at-most: 40/s
      stamped: {field: at, within: 5s}
      payload: {format: json, max-size: 200, schema: {type: object, required: [kg, at], properties: {kg: {type: number, maximum: 10}, at: {type: string, format: date-time}}}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, retain: false, answer: {clause: state, within: 2s}, repeat: once, payload: {format: json, schema: {type: object, required: [rate], properties: {rate: {type: number, minimum: 0, maximum: 9}}}}, examples: [{rate: 5}]}
    state: {topic: "v/{pen}/state", from: pen, to: shore, qos: 1, retain: true, payload: {format: number}}
    status: {topic: "v/{pen}/status", from: pen, to: shore, qos: 1, retain: true, presence: {coming: "on", leaving: "off", lost: lost}, payload: {format: text}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    presence: status
    connect: {again: 500ms..4s}
    session: {client-id: "pen-{n}", keep-alive: 3s, clean-start: true}
    signals: {rate: {start: 0}}
    publishes:
      - {clause: reading, every: 500ms, payload: {kg: "= 4.5", at: "= now()"}}
      - {clause: state, payload: "= rate"}
    reactions: [{when: set, where: "payload.rate >= 0 && payload.rate <= 9", set: {rate: "= payload.rate"}, publish: state}]
`

// benchOf is the site with what a check needs to see: version 5, a command at QoS 2, a buffer, or nothing that is
// published by itself.
func benchOf(check, fault string) string {
	var r []string
	switch {
	case fault == "heeds.keep-alive":
		r = []string{
			"keep-alive: 3s, clean",
			"version: 5, keep-alive: 20s, clean",
			"keep-alive: 2s..5s",
			"keep-alive: 2s..30s",
			"every: 500ms, payload",
			"payload",
			"every: 500ms ± 2s",
			"",
			"at-most: 40/s",
			"",
		}
	case check == "device.heeds":
		r = []string{
			"keep-alive: 3s, clean",
			"version: 5, keep-alive: 3s, clean",
			"{clause: state, payload: \"= rate\"}",
			"{clause: state, every: 500ms, payload: \"= rate\"}",
		}
	case check == "device.resends":
		r = []string{"to: pen, qos: 1", "to: pen, qos: 2"}
	case check == "device.buffers":
		r = []string{
			"presence: status",
			"presence: status\n    offline: {keep: 100}",
			"keep-alive: 2s..5s",
			"keep-alive: 2s..5s, buffers: 1m",
		}
	}
	return strings.NewReplacer(r...).Replace(onTheBench)
}

// prove puts pen-2 to the proof.
func prove(t *testing.T, text, pattern string, faults ...string) map[string]proof.Result {
	t.Helper()
	b := unstarted(t, text)
	defer b.Close() // there are many
	checks, err := subject.Match(pattern)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	p, err := b.PutToProof(
		ctx,
		workbench.Subject{Device: "pen-2", Faults: faults},
		subject.Options{Checks: checks, Watch: watched(pattern)},
	)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]proof.Result{}
	for _, r := range p.Results {
		out[r.Check.Name] = r
	}
	return out
}

// watched is how long the device is watched at work: as long as its clauses need, but where each limit takes that long.
func watched(pattern string) time.Duration {
	if pattern == "device.heeds" {
		return 2 * time.Second
	}
	return 0
}

func say(r proof.Result) string {
	return fmt.Sprintf("%s %s: %s (%s)", r.Check.Name, r.Verdict, r.Seen, strings.Join(r.Notes, "; "))
}

// TestASoundDeviceKeepsItsContract: nothing is broken of a device without faults, and what can be decided is.
func TestASoundDeviceKeepsItsContract(t *testing.T) {
	t.Parallel()
	var all sync.WaitGroup
	for _, x := range []struct{ check, fault, told string }{
		{"device.heeds", "", "it kept to maximum QoS 0, retain available 0, maximum packet size"},
		{"device.heeds", "heeds.keep-alive", "server keep alive 2s"},
		{"device.resends", "", "set at QoS 2 sent again acted once"},
		{"device.buffers", "", "of reading that it measured while it was away"},
		{"device.frames", "", "understood: byte by byte, several in one piece, a remaining length of two bytes"},
	} {
		all.Go(func() {
			if r := prove(t, benchOf(x.check, x.fault), x.check)[x.check]; r.Verdict != proof.Kept ||
				!strings.Contains(r.Seen, x.told) {
				t.Errorf("%s, want %q", say(r), x.told)
			}
		})
	}
	checks, err := subject.Match("*")
	if err != nil {
		t.Fatal(err)
	}
	const benches = 3
	for i := range benches { // each check on one of them
		var mine []string
		for k := i; k < len(checks); k += benches {
			mine = append(mine, checks[k].Name)
		}
		all.Go(func() {
			found := prove(t, onTheBench, strings.Join(mine, ","))
			for _, name := range mine {
				r := found[name]
				t.Log(say(r))
				want := proof.Kept
				switch name {
				case "device.resends", "device.heeds": // it comes with clean start, and in 3.1.1
					want = proof.Unsupported
				}
				if r.Verdict != want {
					t.Errorf("%s, want %s", say(r), want)
				}
			}
		})
	}
	all.Wait()
}

// TestADeviceFaultIsFoundByItsCheck: each fault of a device is found by the check that its table names, with a sentence
// on what to change.
func TestADeviceFaultIsFoundByItsCheck(t *testing.T) {
	t.Parallel()
	side := make(chan bool, 10)
	var all sync.WaitGroup
	for _, f := range workspace.DeviceFaults() {
		if f.Check == "" {
			t.Errorf("%s: no check finds it", f.Name)
			continue
		}
		all.Go(func() {
			side <- true
			defer func() { <-side }()
			r := prove(t, benchOf(f.Check, f.Name), f.Check, f.Name)[f.Check]
			if r.Verdict != proof.Broken || !strings.Contains(strings.Join(r.Notes, "; "), "to change: ") {
				t.Errorf("%s: %s", f.Name, say(r))
			}
			if f.Breaks == contract.RuleSchema && len(r.Decisive) == 0 {
				t.Errorf("%s: no packet is shown that decided", f.Name)
			}
		})
	}
	all.Wait()
}

// TestARealDeviceIsPutToTheProofAttended: the device is a stranger that speaks MQTT by bytes; a person is asked to switch
// it on and off.
func TestARealDeviceIsPutToTheProofAttended(t *testing.T) {
	t.Parallel()
	b := unstarted(t, onTheBench)
	var err error
	var l *link.Link
	at, asked := "", []string{}
	ask := func(ctx context.Context, text string) (bool, string, error) {
		asked = append(asked, text)
		switch {
		case strings.HasPrefix(text, "Stop pen-2"):
			l.Close() // without a word
			return true, "", nil
		case strings.HasPrefix(text, "Switch pen-2 on"):
			if l, err = link.Dial(ctx, at); err != nil {
				return false, "", err
			}
			hello := packet.Connect{ClientID: "the-other", CleanStart: true, KeepAlive: 3,
				Will: &packet.Will{Topic: "v/2/status", Payload: []byte("lost"), QoS: 1, Retain: true}}
			l.Write(hello.Append(nil, packet.V311))
			return true, "", nil
		}
		return false, "nobody is there", nil
	}
	checks, _ := subject.Match("*")
	p, err := b.PutToProof(context.Background(), workbench.Subject{
		Device: "pen-2", Real: true, Listen: "mqtt://127.0.0.1:0", Began: func(where string) { at = where },
	}, subject.Options{Checks: []*subject.Check{checks[0], checks[9], checks[10]}, Ask: ask, Arrives: 100 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	text := ""
	for _, r := range p.Results {
		text += say(r) + "\n"
	}
	for _, want := range []string{
		`device.arrives broken: client-id: expected pen-{pen}, saw "the-other"`,
		`to change: let its session have client-id pen-{pen}; it has "the-other"`,
		`device.goodbye broken: it left without "off" on status`, "Stop pen-2 in order, as it is to be switched off: answered yes",
		"device.refuses unsupported: it comes without TLS",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("not told: %s, in\n%s", want, text)
		}
	}
	if len(asked) < 2 || !strings.Contains(asked[0], "it is to dial "+at) {
		t.Errorf("asked %q", asked)
	}
	for _, x := range []workbench.Subject{{Device: "pen-9"}, {Device: "pen-1", Real: true, Faults: []string{"flood"}}, {Device: "pen-1", Faults: []string{"x"}}, {Device: "pen-1", Listen: "smtp://x"}} {
		if _, err := b.PutToProof(context.Background(), x, subject.Options{}); err == nil {
			t.Errorf("%+v is put to the proof", x)
		}
	}
}

// TestWhoIsHeldOffIsNotAccused: while a device is put to the proof on an open bench, the others are off by our doing:
// their silence is no breach, and counts again once they are back.
func TestWhoIsHeldOffIsNotAccused(t *testing.T) {
	t.Parallel()
	b := site(t, onTheBench)
	await(t, b, "pen 1", func(s workbench.Snapshot) bool { return seen(s, "v/1/reading") })
	if err := b.StartSubject(workbench.Subject{Device: "pen-2"}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(time.Minute); len(b.Subjected().Results) < 2 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond) // arrives, and speaks: longer than pen 1 may be silent
	}
	if n := len(b.Subjected().Results); n < 2 || b.Device("pen-1").State().Phase != device.Off {
		t.Fatal(n, b.Device("pen-1").State())
	}
	b.StopSubject()
	of := func(x contract.Breach) bool { return x.Topic == "v/1/reading" }
	if all := b.Snapshot().Breaches; slices.ContainsFunc(all, of) {
		t.Errorf("accused: %v", all)
	}
	await(t, b, "pen 1 again", func(workbench.Snapshot) bool { return b.Device("pen-1").State().Phase == device.On })
	b.Device("pen-1").Freeze() // by itself, from here on
	await(t, b, "its silence", func(s workbench.Snapshot) bool { return slices.ContainsFunc(s.Breaches, of) })
}

// TestASoundDeviceBehindARealBroker: nothing is laid to a device, in any version, that a real broker or the tap does; and
// a fault is found there too.
func TestASoundDeviceBehindARealBroker(t *testing.T) {
	t.Parallel()
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	var all sync.WaitGroup
	for i, x := range []struct {
		version, fault string
		kept           []string
	}{
		{"3.1.1", "", []string{"device.resends", "device.buffers", "device.frames", "device.answers", "device.goodbye"}},
		{"3.1.1", "", []string{"device.arrives", "device.speaks", "device.will", "device.survives", "device.subscribes-again"}},
		{"3.1.1", "", []string{"device.notices", "device.comes-back"}},
		{"5", "", []string{"device.resends", "device.buffers", "device.frames", "device.heeds"}},
		{"5", "", []string{"device.arrives", "device.speaks", "device.will", "device.survives", "device.subscribes-again"}},
		{"5", "", []string{"device.notices", "device.comes-back", "device.answers", "device.goodbye"}},
		{"5", "frames.gathered", nil},
	} {
		all.Go(func() {
			clean := fmt.Sprintf("clean-start: %t", slices.Contains(x.kept, "device.subscribes-again")) // else it is kept
			text := strings.NewReplacer(
				`{stand-in: {listeners: {tls: "127.0.0.1:0"}, anonymous: true}}`,
				fmt.Sprintf("{listeners: {tcp: {url: %q}}}", broker.URLs["tcp"]),
				`"v/`,
				fmt.Sprintf(`"v%d/`, i),
				"pen-{",
				fmt.Sprintf("x%d-{", i),
				"clean-start: true}\n    signals",
				clean+", version: "+x.version+"}\n    offline: {keep: 100}\n    signals",
				"clean-start: true",
				clean,
				"keep-alive: 2s..5s",
				"keep-alive: 2s..5s, buffers: 1m",
			).Replace(onTheBench)
			pattern := strings.Join(x.kept, ",") // the others do what they do at a stand-in
			if x.fault != "" {
				found := prove(t, text, "device.frames", x.fault)["device.frames"]
				if found.Verdict == proof.Undecided { // a busy machine: it accuses nobody, and is tried again
					found = prove(t, text, "device.frames", x.fault)["device.frames"]
				}
				if found.Verdict != proof.Broken {
					t.Error(say(found))
				}
				return
			}
			found := prove(t, text, pattern)
			for _, r := range found {
				t.Log(x.version, say(r))
				if r.Verdict == proof.Broken || r.Verdict == proof.Undecided {
					t.Errorf("%s: %s", x.version, say(r))
				}
			}
			for _, name := range x.kept {
				if found[name].Verdict != proof.Kept {
					t.Errorf("%s, want kept", say(found[name]))
				}
			}
		})
	}
	all.Wait()
}
