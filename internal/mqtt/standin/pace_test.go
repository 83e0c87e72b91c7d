package standin_test

import (
	"fmt"
	"testing"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// TestAPacedStandIn takes so many messages a second, loses those at QoS 0 for which there is no room and none at QoS 1, and
// stands still in the middle of each stretch; without a pace it does none of that.
func TestAPacedStandIn(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		name        string
		pace        standin.Pace
		qos         packet.QoS
		clients     int
		least, most time.Duration
		lost        bool
	}{
		{"none", standin.Pace{}, 0, 10, 0, time.Second, false},
		{"100 a second", standin.Pace{Rate: 100}, 0, 10, 900 * time.Millisecond, 3 * time.Second, false},
		{"no room at QoS 0", standin.Pace{Rate: 100, Backlog: 5}, 0, 10, 0, 2 * time.Second, true},
		{"no room at QoS 1", standin.Pace{Rate: 100, Backlog: 5}, 1, 10, 900 * time.Millisecond, 4 * time.Second, false},
		{"a pause", standin.Pace{Pause: 400 * time.Millisecond, Every: 500 * time.Millisecond}, 1, 1, 400 * time.Millisecond, 6 * time.Second, false},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			s, err := standin.New(standin.Options{Anonymous: true, Pace: x.pace})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			got := make(chan bool, 200)
			watcher := client.New(
				client.Options{
					Dial:    s.Dial,
					Version: packet.V311,
					Connect: packet.Connect{ClientID: "w", CleanStart: true},
					Message: func(*packet.Publish) { got <- true },
				},
			)
			if _, err := watcher.Connect(t.Context()); err != nil {
				t.Fatal(err)
			}
			watcher.Subscribe(t.Context(), []packet.Subscription{{Filter: "#", QoS: 1}})
			start := time.Now()
			for i := range x.clients {
				c := client.New(
					client.Options{
						Dial:    s.Dial,
						Version: packet.V311,
						Connect: packet.Connect{ClientID: fmt.Sprint("c", i), CleanStart: true},
					},
				)
				if _, err := c.Connect(t.Context()); err != nil {
					t.Fatal(err)
				}
				defer c.Close()
				go func() {
					for range 100 / x.clients {
						if p, err := c.Start(packet.Publish{Topic: "v", QoS: x.qos}); err == nil && x.clients == 1 {
							p.Wait(t.Context())
							time.Sleep(10 * time.Millisecond)
						}
					}
				}()
			}
			for end := time.Now().Add(x.most + 5*time.Second); s.Counts().Taken < 100 && time.Now().Before(end); {
				time.Sleep(5 * time.Millisecond)
			}
			n := s.Counts()
			want := n.Taken - n.Lost
			for range want {
				select {
				case <-got:
				case <-time.After(5 * time.Second):
					t.Fatalf("%+v, and %d did not come", n, want)
				}
			}
			took := time.Since(start)
			if n.Taken != 100 || (n.Lost > 0) != x.lost || took < x.least || took > x.most+3*time.Second {
				t.Errorf("%+v in %s", n, took)
			}
			time.Sleep(50 * time.Millisecond)
			if len(got) > 0 {
				t.Errorf("%d more than were taken", len(got))
			}
		})
	}
}
