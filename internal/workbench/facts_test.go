package workbench_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
)

// TestWhatABrokerTellsOfItself: it is gathered from the broker's own topics, which are no strays.

func TestWhatABrokerTellsOfItself(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true, Lines: "sys_interval 1\n"})
	for _, v := range []string{"3.1.1", "5"} {
		t.Run(v, func(t *testing.T) {
			text := fmt.Sprintf(`hodstone: 1
brokers: {quay: {listeners: {tcp: {url: %q}}, version: %s, watch: ["#", "$SYS/broker/load/#"]}}
contract: {parties: {a: }, clauses: {x: {topic: v/x, from: a, payload: {format: text}}}}
`, broker.URLs["tcp"], v)
			b := unstarted(t, text)
			b.Start()
			told := func() string {
				var all []string
				for _, f := range b.Facts("quay") {
					all = append(all, f.What+" "+f.Value)
				}
				return strings.Join(all, "; ")
			}
			for end := time.Now().Add(15 * time.Second); time.Now().Before(end) &&
				!(strings.Contains(told(), "clients ") && strings.Contains(told(), "/load/")); time.Sleep(20 * time.Millisecond) {
			}
			for _, want := range []string{"version ", "up for ", "clients ", "messages received ", "sent ", "$SYS/broker/load/"} {
				if !strings.Contains(told(), want) {
					t.Errorf("not told: %s, in %s", want, told())
				}
			}
			if s := b.Snapshot(); len(s.Strays) > 0 {
				t.Errorf("strays: %v", s.Strays)
			}
		})
	}
}

// TestWhoALogTellsOf: the log of a real broker, and lines as others write them, tell who came and left.
func TestWhoALogTellsOf(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	text := fmt.Sprintf(`hodstone: 1
brokers: {quay: {listeners: {tcp: {url: %q}}}}
contract: {parties: {a: }, clauses: {x: {topic: v/x, from: a, payload: {format: text}}}}
devices: {feeder: {plays: a, session: {client-id: feeder one}}}
`, broker.URLs["tcp"])
	b := unstarted(t, text)
	b.Start()
	await(
		t,
		b,
		"the observer",
		func(workbench.Snapshot) bool { return strings.Contains(broker.Log(), "connected from") },
	)
	say := func(text string) {
		b.Log.Add(trace.Event{At: time.Now(), Client: "quay log", Role: trace.RoleLog, Kind: trace.Line, Text: text})
	}
	for _, line := range strings.Split(broker.Log(), "\n") {
		say(line)
	}
	for _, line := range []string{
		"1795837220: New client connected from 10.0.0.9:51000 as pen-1 (p2, c1, k20, u'pen-1').",
		"2026-11-28T03:00:00Z [info] client_id=pen-2 peername=10.0.0.8:4001 msg=connected",
		`{"level":"info","clientid":"pen-3","peername":"10.0.0.7:4002","msg":"client connected"}`,
		"1795837221: Client pen-1 has exceeded timeout, disconnecting.",
		`{"level":"info","clientid":"pen-3","msg":"client disconnected"}`,
		"client_id=pen-4 subscribed to v/#", "nothing of anybody",
	} {
		say(line)
	}
	var got []string
	await(t, b, "the last line", func(workbench.Snapshot) bool {
		got = nil
		for _, c := range b.LogClients("quay log") {
			got = append(got, fmt.Sprintf("%s %s %v %s", c.ID, c.Address, c.Connected, c.Why))
		}
		return strings.Contains(strings.Join(got, "\n"), "pen-3 10.0.0.7:4002 false disconnected")
	})
	all := strings.Join(got, "\n")
	for _, want := range []string{"pen-1 10.0.0.9:51000 false has exceeded timeout", "pen-2 10.0.0.8:4001 true", "127.0.0.1:"} {
		if !strings.Contains(all, want) {
			t.Errorf("not told: %s, in\n%s", want, all)
		}
	}
	if names := b.LogNames(); strings.Contains(all, "pen-4") || len(names) != 1 || names[0] != "quay log" {
		t.Errorf("%v\n%s", names, all)
	}
}
