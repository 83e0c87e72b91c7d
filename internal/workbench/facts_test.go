package workbench_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
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
			w, err := workspace.Read(fstest.MapFS{"f": {Data: []byte(text)}}, "f", "f")
			if err != nil || len(w.Problems) > 0 {
				t.Fatal(err, w.Problems)
			}
			b, err := workbench.New(w, workbench.Options{})
			if err != nil {
				t.Fatal(err)
			}
			defer b.Close()
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
