package fleet_test

import (
	"fmt"
	"runtime/debug"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"

	"context"
)

// BenchmarkPerMessage measures the generator's processor time per message, sent and received, against the broker's for the same
// messages.
func BenchmarkPerMessage(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(300)) // as the program has it
	broker := brokertest.Start(
		b,
		brokertest.Options{Anonymous: true, Lines: "max_queued_messages 0\nmax_inflight_messages 0\n"},
	)
	for _, x := range []struct {
		qos     packet.QoS
		clients int
		rate    float64
	}{{0, 4, 80_000}, {0, 20, 60_000}, {0, 1000, 20_000}, {1, 4, 20_000}, {1, 20, 20_000}} {
		b.Run(fmt.Sprintf("QoS %d, %d clients, %.0f a second", x.qos, x.clients, x.rate), func(b *testing.B) {
			for b.Loop() {
				kind := fleet.Kind{
					Name:  "plain",
					Count: x.clients,
					Topic: func(n int) string { return fmt.Sprintf("v/%d", n) },
					Client: func(n int) client.Options {
						return client.Options{
							Version: packet.V311,
							Connect: packet.Connect{ClientID: fmt.Sprintf("c%d", n), CleanStart: true},
							Dial:    func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, broker.URLs["tcp"]) },
						}
					},
				}
				f, err := fleet.New(fleet.Plan{Kinds: []fleet.Kind{kind}, QoS: x.qos, Every: time.Second, Size: 64,
					Steps:  []fleet.Step{{Clients: x.clients, Rate: x.rate, Hold: 5 * time.Second}},
					Broker: func() fleet.Process { return fleet.ProcessOf(broker.PID()) }})
				if err != nil {
					b.Fatal(err)
				}
				r := f.Run(b.Context())
				s := r.Steps[0]
				if s.Lost > 0 || s.Reached < 0.95*x.rate {
					b.Logf("%.0f a second reached, %d lost", s.Reached, s.Lost)
				}
				b.ReportMetric(s.Strain.CPU/s.Broker.CPU, "×broker")
				b.ReportMetric(s.Strain.CPU*1e6/s.Reached, "µs-own/message")
				b.ReportMetric(s.Broker.CPU*1e6/s.Reached, "µs-broker/message")
				b.ReportMetric(float64(s.Trip.P50.Microseconds()), "µs-p50-trip")
			}
		})
	}
}
