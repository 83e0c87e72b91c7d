package rule_test

import (
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"hodstone/demo"
	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/workspace"
)

// BenchmarkJudge judges JSON messages of the demo's clauses, each another, on one core; beside it, only unmarshalling
// them, which is the baseline, and the same with 5,000 clauses. The bound: 100,000 messages a second with the demo's
// clauses, and no slower than half of that with 5,000.
func BenchmarkJudge(b *testing.B) {
	w, err := workspace.Read(demo.Files, demo.File, demo.File)
	if err != nil || len(w.Problems) > 0 {
		b.Fatal(err, w.Problems)
	}
	many, _ := workspace.Read(demo.Files, demo.File, demo.File)
	for i := range 5_000 {
		cl := *w.Contract.Clause("pen.water")
		cl.Name = fmt.Sprint("extra ", i)
		cl.Topic, _ = contract.ParsePattern(fmt.Sprintf("marrowvoe/extra/%d/{pen}/water", i))
		many.Contract.Clauses = append(many.Contract.Clauses, &cl)
	}
	var messages []contract.Message
	for i := range 20_000 {
		m := contract.Message{QoS: 0, Granted: 2, Eye: "quay", Sender: "x", Sent: &contract.Envelope{QoS: 0}}
		switch pen := i%4 + 1; i % 3 {
		case 0:
			m.Topic, m.Payload = fmt.Sprintf("marrowvoe/pen/%d/oxygen", pen), fmt.Appendf(nil, `{"mgl":%d.%d,"at":"2026-11-27T09:%02d:%02d.%03dZ"}`, 7+i%3, i%100, i/60%60, i%60, i%1000)
		case 1:
			m.Topic, m.Payload = fmt.Sprintf("marrowvoe/pen/%d/water", pen), fmt.Appendf(nil, `{"celsius":9.%d,"salinity":33.%d}`, i%1000, i%977)
		default:
			m.Topic, m.Payload = "marrowvoe/barge/silo/a", fmt.Appendf(nil, `{"kg":%d,"lot":"MV-%04d"}`, i%12000, i%10000)
			m.QoS, m.Retain, m.Sent = 1, true, &contract.Envelope{QoS: 1, Retain: true}
		}
		messages = append(messages, m)
	}
	run := func(name string, each func(i int, m *contract.Message)) {
		b.Run(name, func(b *testing.B) {
			n := 0
			for b.Loop() {
				each(n, &messages[n%len(messages)])
				n++
			}
			b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "messages/s")
		})
	}
	run("unmarshal", func(_ int, m *contract.Message) {
		var v any
		if err := json.Unmarshal(m.Payload, &v); err != nil {
			b.Fatal(err)
		}
	})
	for name, c := range map[string]*contract.Contract{"demo": w.Contract, "5000": many.Contract} {
		j := contract.NewJudge(c, rule.All())
		j.Sees("quay", noon, nil)
		run(name, func(i int, m *contract.Message) {
			x := *m
			x.At, x.Seq = noon.Add(time.Duration(i)*10*time.Microsecond), uint64(i)
			if got := j.Message(x); len(got.Breaches) > 0 {
				b.Fatal(got.Breaches[0])
			}
		})
	}
}
