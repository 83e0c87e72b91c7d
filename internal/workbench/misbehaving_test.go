package workbench_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// wrongdoers is a site whose contract speaks of all that devices can do wrong; the first pen does.
const wrongdoers = `hodstone: 1
brokers: {quay: {stand-in: {anonymous: true}, version: 5}}
contract:
  parties:
    pen: {terms: {client-id: "pen-{pen}", version: 3.1.1, keep-alive: 5s..30s, clean-start: true, back-within: 4s, tries: 8/min}}
    shore:
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    reading:
      topic: "v/{pen}/reading"
      from: pen
      to: shore
      qos: 1
      retain: false
      every: 300ms ± 4s
      at-most: 40/s
      stamped: {field: at, within: 5s}
      payload: {format: json, max-size: 200, schema: {type: object, required: [kg, at], properties: {kg: {type: number, maximum: 10}, at: {type: string, format: date-time}}}}
    set: {topic: "v/{pen}/set", from: shore, to: pen, qos: 1, retain: false, answer: {clause: state, within: 3s}, payload: {format: number}}
    state: {topic: "v/{pen}/state", from: pen, to: shore, qos: 1, retain: true, payload: {format: number}}
    status: {topic: "v/{pen}/status", from: pen, to: shore, qos: 1, retain: true, presence: {coming: "on", leaving: "off", lost: lost}, payload: {format: text}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    presence: status
    session: {keep-alive: 10s}
    signals: {rate: {start: 0}}
    publishes:
      - {clause: reading, every: 300ms, payload: {kg: "= 4.5", at: "= now()"}}
      - {clause: state, payload: "= rate"}
    reactions: [{when: set, set: {rate: "= payload"}, publish: state}]
  shore:
    plays: shore
    publishes: [{clause: set, every: 500ms, parameters: {pen: "= choice('1', '2')"}, payload: "= count()"}]
`

// TestEachDeviceFaultIsFound: a site of many pens, each with a fault of its own; each is found by the rule that the fault
// names. The last pen has none, and breaks nothing, whatever is done to it.
func TestEachDeviceFaultIsFound(t *testing.T) {
	t.Parallel()
	faults := slices.DeleteFunc(workspace.DeviceFaults(), func(f workspace.DeviceFault) bool {
		return f.Breaks == "" // it needs to be provoked: its check does
	})
	var numbers, choices []string
	for n := range len(faults) + 1 {
		numbers, choices = append(
			numbers,
			fmt.Sprintf("%q", fmt.Sprint(n+1)),
		), append(
			choices,
			fmt.Sprintf("'%d'", n+1),
		)
	}
	text := strings.NewReplacer(`["1", "2"]`, "["+strings.Join(numbers, ", ")+"]", "count: 2", fmt.Sprintf("count: %d", len(numbers)),
		"choice('1', '2')", "choice("+strings.Join(choices, ", ")+")", "every: 500ms", "every: 50ms").
		Replace(wrongdoers)
	b := site(t, text)
	pen := func(n int) *device.Device { return b.Device(fmt.Sprintf("pen-%d", n)) }
	sound := len(faults) + 1
	await(t, b, "the pens", func(s workbench.Snapshot) bool { return seen(s, fmt.Sprintf("v/%d/reading", sound)) })
	var begin sync.WaitGroup
	for i, f := range faults {
		begin.Go(func() {
			pen(i + 1).Stop()
			pen(i + 1).Misbehave(f.Name)
			pen(i + 1).Start()
		})
	}
	begin.Wait()
	if err := pen(1).Misbehave("nothing"); err == nil {
		t.Error("a fault that there is not")
	}
	time.Sleep(2 * time.Second)
	cut := func(n, times int) {
		for range times {
			pen(n).Cut()
			time.Sleep(300 * time.Millisecond)
		}
	}
	for i, f := range faults {
		switch f.Name {
		case "session.never-back", "subscribes.once":
			cut(i+1, 1)
		case "session.hasty":
			cut(i+1, 10)
		case "goodbye.unsaid", "goodbye.speaks-on":
			pen(i + 1).Stop()
		}
	}
	found := map[int]map[contract.RuleName]string{}
	missing := func() (out []string) {
		for _, x := range b.Snapshot().Breaches {
			var n int
			if k, _ := fmt.Sscanf(x.Sender, "pen-%d", &n); k == 0 {
				fmt.Sscanf(x.Topic, "v/%d/", &n)
			}
			if found[n] == nil {
				found[n] = map[contract.RuleName]string{}
			}
			found[n][x.Rule] = x.String()
		}
		for i, f := range faults {
			if found[i+1][f.Breaks] == "" {
				out = append(out, f.Name)
			}
		}
		return out
	}
	for end := time.Now().Add(30 * time.Second); len(missing()) > 0 && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
	for i, f := range faults {
		if found[i+1][f.Breaks] == "" {
			t.Errorf("%s is not found by %s: %v", f.Name, f.Breaks, found[i+1])
		}
	}
	b.Device("shore").Stop() // nobody answers while his link is down
	time.Sleep(time.Second)
	cut(sound, 1)
	time.Sleep(4 * time.Second)
	pen(sound).Stop()
	time.Sleep(500 * time.Millisecond)
	if missing(); len(found[sound]) > 0 {
		t.Errorf("a sound device is accused: %v", found[sound])
	}
}

func seen(s workbench.Snapshot, topic string) bool {
	return slices.ContainsFunc(s.Cells, func(c *contract.Cell) bool { return c.Topic == topic && c.Count > 0 })
}
