package fleet_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
)

// against returns a stand-in, and a kind of so many clients of it.
func against(t *testing.T, o standin.Options, count int, version packet.Version) (*standin.Server, fleet.Kind) {
	t.Helper()
	o.Anonymous = true
	s, err := standin.New(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, fleet.Kind{Name: "plain", Count: count, Filter: "v/+/x",
		Client: func(n int) client.Options {
			return client.Options{
				Dial:    s.Dial,
				Version: version,
				Connect: packet.Connect{ClientID: fmt.Sprintf("c%d", n), CleanStart: true},
			}
		},
		Topic: func(n int) string { return fmt.Sprintf("v/%d/x", n) },
	}
}

func run(t *testing.T, p fleet.Plan) *fleet.Result {
	t.Helper()
	f, err := fleet.New(p)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	return f.Run(ctx)
}

// unhindered runs a load once more where this machine kept the generator from its work, which it says itself.
func unhindered(t *testing.T, p fleet.Plan) (r *fleet.Result) {
	t.Helper()
	for range 4 {
		r = run(t, p)
		if r.Total.Lag.P99 < 15*time.Millisecond {
			break
		}
		t.Logf("the generator was late by %s: once more", r.Total.Lag.P99)
	}
	return r
}

// TestWhatIsSentIsCounted: in each shape, at each QoS, in each version, what is sent comes to those that have to get it,
// and a faithful broker is not said to have lost, doubled or turned around anything.
func TestWhatIsSentIsCounted(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		shape     fleet.Shape
		clients   int
		sent, got int64 // with 5 messages each
	}{
		{fleet.Echo, 20, 100, 100}, {fleet.Pairs, 20, 50, 50}, {fleet.FanIn, 20, 100, 200}, {fleet.FanOut, 20, 10, 200},
		{fleet.Mute, 20, 100, 0}, {fleet.Idle, 20, 0, 0},
	} {
		for qos := range packet.QoS(3) {
			for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
				t.Run(fmt.Sprint(x.shape, qos, v), func(t *testing.T) {
					t.Parallel()
					s, kind := against(t, standin.Options{}, x.clients, v)
					p := fleet.Plan{
						Kinds:  []fleet.Kind{kind},
						Shape:  x.shape,
						Others: 2,
						QoS:    qos,
						Every:  20 * time.Millisecond,
						Jitter: 0.5,
						Each:   5,
						Steps:  []fleet.Step{{Clients: x.clients, Hold: 20 * time.Second}},
					}
					if x.shape == fleet.Idle {
						p.Steps[0].Hold = 200 * time.Millisecond
					}
					r := run(t, p)
					c := r.Total.Counts
					if c.Sent != x.sent || c.Received != x.got || c.Expected != x.got ||
						c.Lost+c.Duplicated+c.OutOfOrder+c.Failed != 0 {
						t.Errorf("%+v", c)
					}
					if taken := s.Counts().Taken; int64(taken) != x.sent {
						t.Errorf("the stand-in took %d", taken)
					}
					if qos > 0 && c.Acked != x.sent ||
						x.got > 0 && (r.Total.Trip.Count != x.got || r.Total.Trip.P50 <= 0) ||
						r.Total.In != x.clients {
						t.Errorf("%+v", r.Total)
					}
					if r.Limit != fleet.Neither || len(r.Steps) != 1 {
						t.Error(r.Limit, r.Why)
					}
				})
			}
		}
	}
}

// TestLossesAreCountedExactly: a thousand clients send once at QoS 0 to a stand-in that has no room for so many; it counts
// what it lost, and so do we, clause payloads without a mark too.
func TestLossesAreCountedExactly(t *testing.T) {
	t.Parallel()
	for _, composed := range []bool{false, true} {
		s, kind := against(t, standin.Options{Pace: standin.Pace{Rate: 500, Backlog: 20}}, 1000, packet.V311)
		if composed {
			kind.Compose = func(n int, seq uint64) (packet.Publish, error) {
				return packet.Publish{Payload: fmt.Appendf(nil, "reading %d of %d", seq, n)}, nil
			}
		}
		r := run(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Echo, Every: 300 * time.Millisecond, Each: 1,
			Steps: []fleet.Step{{Clients: 1000, Hold: 20 * time.Second}}})
		c, n := r.Total.Counts, s.Counts()
		if c.Sent != 1000 || n.Taken != 1000 || n.Lost < 100 || c.Lost != int64(n.Lost) ||
			c.Received != int64(1000-n.Lost) {
			t.Errorf("%+v, the stand-in %+v", c, n)
		}
		late := r.Total.Lag.P99 > 20*time.Millisecond // on a busy machine it may be either
		if r.Limit != fleet.Broker && (!late || r.Limit != fleet.Unclear) ||
			!strings.Contains(strings.Join(r.Why, "\n"), fmt.Sprintf("%d messages did not come", n.Lost)) {
			t.Error(r.Limit, r.Why)
		}
	}
}

// TestAPauseShowsAsItMust: a broker that stands still for one second in ten shows in the round trips from the time that
// was meant: a tenth of the messages waits, evenly from one second down to nothing.
func TestAPauseShowsAsItMust(t *testing.T) {
	_, kind := against(
		t,
		standin.Options{Pace: standin.Pace{Pause: time.Second, Every: 10 * time.Second}},
		20,
		packet.V311,
	)
	r := unhindered(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Echo, Every: 50 * time.Millisecond,
		Steps: []fleet.Step{{Clients: 20, Hold: 10 * time.Second}}})
	trip := r.Total.Trip
	if d := math.Abs(trip.P99.Seconds() - 0.9); trip.P50 > 100*time.Millisecond || d > 0.06 || r.Total.Lost != 0 {
		t.Errorf("p50 %s, p99 %s, %d lost", trip.P50, trip.P99, r.Total.Lost)
	}
	p95 := time.Duration(0)
	var n int64
	for _, b := range trip.Bars() {
		if n += b.Count; p95 == 0 && float64(n) >= 0.95*float64(trip.Count) {
			p95 = time.Duration(b.To) * time.Microsecond
		}
	}
	if d := math.Abs(p95.Seconds() - 0.5); d > 0.06 {
		t.Errorf("p95 %s", p95)
	}
}

// TestTheHighestRateIsFound: to within 5 % of what the stand-in is capped at.
func TestTheHighestRateIsFound(t *testing.T) {
	const capped = 900.0
	_, kind := against(t, standin.Options{Pace: standin.Pace{Rate: capped}}, 40, packet.V311)
	bound, err := fleet.ParseBound("p99<100ms, lost=0")
	if err != nil {
		t.Fatal(err)
	}
	r := unhindered(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Echo, Find: "rate", Bound: bound,
		Steps: []fleet.Step{{Clients: 40, Rate: 200, Hold: 5 * time.Second}, {Clients: 40, Rate: 20000}}})
	if x := r.Found; x == nil || math.Abs(x.Highest-capped) > 0.05*capped || x.Broke <= x.Highest || len(x.How) == 0 ||
		!r.Holds() {
		t.Errorf("%+v %v", x, r.Why)
	}
}

// TestTheHighestNumberIsFound: of clients, exactly, where so few are let in that no share of them is less than one.
func TestTheHighestNumberIsFound(t *testing.T) {
	t.Parallel()
	_, kind := against(t, standin.Options{Limits: standin.Limits{Connections: 5}}, 12, packet.V5)
	bound, _ := fleet.ParseBound("refused=0")
	r := run(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Mute, Every: time.Second,
		Find: "clients", Bound: bound,
		Steps: []fleet.Step{{Clients: 2, Hold: 50 * time.Millisecond}, {Clients: 12, Hold: 50 * time.Millisecond}}})
	if x := r.Found; x == nil || r.Stopped || x.Highest != 5 || x.Broke != 6 {
		t.Errorf("%+v %v", x, r.Why)
	}
}

// TestAShardedFleetIsTheWhole: four parts, whose clocks differ, merged, are the histogram of their samples and the counts.
func TestAShardedFleetIsTheWhole(t *testing.T) {
	t.Parallel()
	s, kind := against(t, standin.Options{}, 43, packet.V5)
	var parts []*fleet.Result
	var all sync.WaitGroup
	var mu sync.Mutex
	for i := range 4 {
		all.Go(func() {
			r := run(
				t,
				fleet.Plan{
					Kinds: []fleet.Kind{kind},
					Shape: fleet.Pairs,
					Every: 20 * time.Millisecond,
					Each:  30,
					Steps: []fleet.Step{
						{Clients: 42, Hold: 20 * time.Second}, // a pair more than parts can share
					},
					Shard: fleet.Shard{Index: i + 1, Of: 4},
				},
			)
			text, err := json.Marshal(r)
			var back fleet.Result
			if err == nil {
				err = json.Unmarshal(text, &back)
			}
			back.Started = back.Started.Add(time.Duration(i) * time.Hour)
			back.Minutes = nil
			for k := range 3 { // as of a soak
				back.Minutes = append(
					back.Minutes,
					fleet.Minute{At: back.Started.Add(time.Duration(k) * time.Minute), In: 10, Sent: int64(i),
						Trip: back.Total.Trip},
				)
			}
			for k := range back.Seconds {
				back.Seconds[k].At = back.Seconds[k].At.Add(time.Duration(i) * time.Hour)
			}
			mu.Lock()
			defer mu.Unlock()
			if parts = append(parts, &back); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	whole, err := fleet.Merge(parts...)
	if err != nil {
		t.Fatal(err)
	}
	var count, sum int64
	for _, p := range parts {
		count += p.Total.Trip.Count
		for _, b := range p.Total.Trip.Bars() {
			sum += b.Count * b.To
		}
	}
	var merged int64
	for _, b := range whole.Total.Trip.Bars() {
		merged += b.Count * b.To
	}
	if c := whole.Total.Counts; c.Sent != 21*30 || c.Received != 21*30 || c.Lost != 0 ||
		int64(s.Counts().Taken) != c.Sent ||
		whole.Total.Trip.Count != count ||
		merged != sum ||
		len(whole.Shards) != 4 ||
		whole.Total.In != 42 {
		t.Errorf("%+v %d %d, %d %d", c, whole.Total.Trip.Count, count, merged, sum)
	}
	adds := func(r *fleet.Result) (in, sent, heard, missing int64) {
		for _, x := range r.Seconds {
			in, sent, heard, missing = in+int64(x.In), sent+x.Sent, heard+x.Heard, missing+x.Missing
		}
		return
	}
	var in, sent, heard, missing int64
	for i, p := range parts {
		at := p.Started.Add(9 * time.Second)
		p.Seconds = append(p.Seconds, fleet.Second{At: at, In: 10, Sent: 20, Heard: 19, Missing: int64(10 + i)})
		a, b, c, d := adds(p)
		in, sent, heard, missing = in+a, sent+b, heard+c, missing+d
	}
	if whole, err = fleet.Merge(parts...); err != nil {
		t.Fatal(err)
	}
	if a, b, c, d := adds(whole); a != in || b != sent || c != heard || d != missing || missing < 46 {
		t.Errorf("seconds: %d in, %d sent, %d heard, %d missing; the parts have %d, %d, %d, %d",
			a, b, c, d, in, sent, heard, missing)
	}
	if len(whole.Seconds) > len(parts[0].Seconds)+2 {
		t.Errorf("%d seconds", len(whole.Seconds))
	}
	if m := whole.Minutes; len(m) != 3 || m[1].In != 40 || m[1].Sent != 0+1+2+3 || m[2].Trip.Count != count ||
		m[1].At.Sub(m[0].At) != time.Minute || len(whole.Absent) != 0 {
		t.Errorf("%+v, absent %v", m, whole.Absent)
	}
	some, err := fleet.Merge(parts[2], parts[0])
	if err != nil || len(some.Absent) != 2 || slices.Contains(some.Absent, parts[0].Shard) || !some.Holds() {
		t.Errorf("%+v %v", some, err)
	}
	if some.Bound = "lost=0"; some.Holds() {
		t.Error("a bound holds where two parts are absent")
	}
	if _, err := fleet.Merge(parts[0], parts[1], parts[0]); err == nil || !strings.Contains(err.Error(), "twice") {
		t.Error(err)
	}
	for want, change := range map[string]func(r *fleet.Result){
		"another load":             func(r *fleet.Result) { r.QoS = 2 },
		"of another load:\n  more": func(r *fleet.Result) { r.Plan = "more" },
		"has 2 steps":              func(r *fleet.Result) { r.Steps = append(slices.Clone(r.Steps), r.Steps[0]) },
		"it has no steps":          func(r *fleet.Result) { r.Steps = nil },
		"counts -1":                func(r *fleet.Result) { r.Steps = slices.Clone(r.Steps); r.Steps[0].Lost = -1 },
		"was no part":              func(r *fleet.Result) { r.Shard = "" },
	} {
		other := *parts[1]
		change(&other)
		if _, err := fleet.Merge(parts[0], &other); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	stopped := *parts[1]
	stopped.Steps, stopped.Stopped = append(slices.Clone(stopped.Steps), stopped.Steps[0]), true
	if r, err := fleet.Merge(parts[0], &stopped); err != nil || !r.Stopped {
		t.Error("a part that was stopped:", err)
	}
	// What was merged is merged further.
	two, err := fleet.Merge(parts[0], parts[1])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := fleet.Merge(two, parts[1]); err == nil || !strings.Contains(err.Error(), "twice") {
		t.Error(err)
	}
	if r, err := fleet.Merge(two, parts[2], parts[3]); err != nil || r.Total.Counts != whole.Total.Counts ||
		len(r.Absent) != 0 ||
		!slices.Equal(r.Shards, whole.Shards) {
		t.Errorf("%+v %v", r, err)
	}
	var broken fleet.Spread
	for _, text := range []string{`{"count":1,"histogram":"x"}`, `{"count":3}`, `{"count":9,"histogram":"SElTVEVB"}`} {
		if err := json.Unmarshal([]byte(text), &broken); err == nil {
			t.Errorf("%s is a spread", text)
		}
	}
}

// TestWhatIsInTheWayIsNamed: a cap on connections, refusals by code, and storms.
func TestWhatIsInTheWayIsNamed(t *testing.T) {
	t.Parallel()
	_, kind := against(t, standin.Options{Limits: standin.Limits{Connections: 15}}, 20, packet.V5)
	bound, _ := fleet.ParseBound("refused=0")
	r := run(t, fleet.Plan{
		Kinds: []fleet.Kind{kind},
		Shape: fleet.Echo,
		Every: 50 * time.Millisecond,
		Bound: bound,
		Steps: fleet.Ramp(
			10,
			20,
			5,
			300*time.Millisecond,
			false,
			func(n float64) fleet.Step { return fleet.Step{Clients: int(n)} },
		),
	})
	if why := strings.Join(
		r.Why,
		"\n",
	); len(r.Steps) != 3 || r.BrokeAt() != 2 || r.Steps[2].Refused != 5 || r.Holds() || r.Limit != fleet.Broker ||
		!strings.Contains(why, "refused=0: 5") ||
		!strings.Contains(why, "refused with") {
		t.Errorf("%d %v\n%s", r.BrokeAt(), r.Steps[len(r.Steps)-1].Refusals, why)
	}
	for _, storm := range []fleet.Storm{fleet.Reconnect, fleet.Wills} {
		_, kind := against(t, standin.Options{}, 30, packet.V311)
		r := run(
			t,
			fleet.Plan{
				Kinds:    []fleet.Kind{kind},
				Shape:    fleet.Echo,
				Every:    50 * time.Millisecond,
				Storm:    storm,
				WillBase: "w",
				Steps:    []fleet.Step{{Clients: 30, Hold: 200 * time.Millisecond}},
			},
		)
		if x := r.Storm; x == nil || x.Of != 30 || x.Back != 30 || x.Took <= 0 || x.Spread.Count != 30 {
			t.Errorf("%s: %+v", storm, x)
		}
	}
}

// TestBounds: what can be said, and what is said of what cannot.
func TestBounds(t *testing.T) {
	for _, text := range []string{"p99<100ms,lost=0", "p99.9<=1s,lost<=1%", "short<5%,refused=0", "max<2s,mean<=10ms,connect-p99<1s,out-of-order=0,duplicated=0,p50<1ms,p90<1ms"} {
		if b, err := fleet.ParseBound(text); err != nil || b.String() != text {
			t.Errorf("%s: %s %v", text, b, err)
		}
	}
	for text, want := range map[string]string{"p99": "is no bound", "fast<1s": "there are: p50", "p99<5": "is a time", "lost<x": "is a number", "short<5": "is a share"} {
		if _, err := fleet.ParseBound(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestAServerThatSaysNothing: a load that is stopped while its clients wait to be let in says so, and tells no
// strain that it did not measure.
func TestAServerThatSaysNothing(t *testing.T) {
	kind := fleet.Kind{Name: "plain", Count: 30, Topic: func(n int) string { return fmt.Sprint("v/", n) },
		Client: func(int) client.Options {
			return client.Options{Version: packet.V311, Dial: func(context.Context) (*link.Link, error) {
				ours, _ := link.Pipe() // nobody reads at the other end
				return ours, nil
			}}
		}}
	f, err := fleet.New(fleet.Plan{Kinds: []fleet.Kind{kind}, Every: time.Second, Size: 64,
		Steps: []fleet.Step{{Clients: 30, Rate: 10, Hold: time.Second}}})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	s := f.Run(ctx).Steps[0]
	if why := strings.Join(s.Limits, "; "); !s.Cut || s.In != 0 || !strings.Contains(why, "30 times: no answer yet when it was stopped") ||
		s.Strain.CPU != 0 {
		t.Errorf("cut %v, %d in, %.2f cores in no time: %s", s.Cut, s.In, s.Strain.CPU, why)
	}
}

// TestABrokerThatGoesDown: who was in comes back as often as it takes, and what was lost with the links is not laid to a
// queue; no bound holds where it stays away, or stands still.
func TestABrokerThatGoesDown(t *testing.T) {
	for name, tt := range map[string]struct {
		befalls func(*standin.Server)
		pace    standin.Pace
		broken  string
		why     string
		limit   fleet.Culprit
	}{
		"comes back": {
			func(s *standin.Server) { s.Restart(t.Context(), 4*time.Second, true) },
			standin.Pace{},
			"p99<1s: \\d.*% never came",
			"due while the links of their publishers had ended: ",
			fleet.Unclear,
		},
		"stays away": {
			func(s *standin.Server) { s.Close() },
			standin.Pace{},
			"connected: 20 of 20 clients were out at its end; p99<1s: \\d.*% never came",
			"and 20 clients were out at the end",
			fleet.Unclear,
		},
		"stands still": {
			func(*standin.Server) {},
			standin.Pace{Pause: time.Minute, Every: 6 * time.Second}, // from the third second on
			"p99<1s: \\d.*% never came; lost<=30%: ",
			"nothing came any more from .*: the broker stood still",
			fleet.Broker,
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			bound, _ := fleet.ParseBound("p99<1s,lost<=30%")
			var r *fleet.Result
			for try := 0; try == 0 || try < 4 && r.Limit == fleet.Generator; try++ { // this machine kept it from its work: once more
				s, kind := against(t, standin.Options{Pace: tt.pace}, 20, packet.V311)
				f, err := fleet.New(
					fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Echo, Every: 10 * time.Millisecond, Bound: bound,
						Steps: []fleet.Step{{Clients: 20, Hold: 9 * time.Second}}},
				)
				if err != nil {
					t.Fatal(err)
				}
				go func() {
					for f.State().Under.Sent < 200 {
						time.Sleep(10 * time.Millisecond)
					}
					tt.befalls(s)
				}()
				r = f.Run(t.Context())
			}
			x := r.Steps[0]
			why := strings.Join(r.Why, "\n")
			if still := name == "stands still"; strings.Contains(why, "full") != still ||
				x.Lost != x.Away && !still ||
				(x.Unsent > 500) == still ||
				(x.In == 0) != (name == "stays away") {
				t.Errorf("%+v\n%s", x, why)
			}
			if broken := strings.Join(x.Broken, "; "); !regexp.MustCompile("^" + tt.broken).MatchString(broken) {
				t.Errorf("%s, want %s", broken, tt.broken)
			}
			if r.Limit != tt.limit || !regexp.MustCompile(tt.why).MatchString(why) {
				t.Errorf("%s: %s", r.Limit, why)
			}
		})
	}
}

// TestASteadyClimb: clients come in one after the other while the others speak, and the rate grows with them; each still has
// its turn.
func TestASteadyClimb(t *testing.T) {
	t.Parallel()
	_, kind := against(t, standin.Options{}, 60, packet.V311)
	r := unhindered(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Echo, Every: 100 * time.Millisecond,
		Steps: []fleet.Step{{Clients: 10, Hold: time.Second}, {Clients: 60, Over: 4 * time.Second, Hold: time.Second}}})
	x := r.Steps[1]
	// From 100 a second to 600 in 4 s, and 1 s of 600: 2,000 in 5 s.
	if x.In != 60 || x.Lost != 0 || x.Refused != 0 || math.Abs(float64(x.Sent)-2000) > 300 ||
		math.Abs(x.Asked-350) > 60 {
		t.Errorf("%+v", x)
	}
	grew := 0
	for i := 1; i < len(r.Seconds); i++ {
		if r.Seconds[i].In > r.Seconds[i-1].In && r.Seconds[i].Sent > 0 {
			grew++
		}
	}
	if grew < 3 {
		t.Errorf("%+v", r.Seconds)
	}
}

// TestWhoComesLateIsNotRefused: clients whose turn to connect comes only when a climb is over are waited for; who
// is turned away is refused there too.
func TestWhoComesLateIsNotRefused(t *testing.T) {
	t.Parallel()
	for limit, refused := range map[int]int{0: 0, 15: 5} {
		_, kind := against(t, standin.Options{Limits: standin.Limits{Connections: limit}}, 20, packet.V5)
		r := run(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Mute, Every: time.Second, Connects: 10,
			Steps: []fleet.Step{
				{Clients: 2, Hold: 10 * time.Millisecond},
				{Clients: 20, Over: 100 * time.Millisecond, Hold: 10 * time.Millisecond},
			}})
		if x := r.Steps[1]; x.Refused != refused || x.In != 20-refused {
			t.Errorf("%d in, %d refused, of 20 where %d are let in", x.In, x.Refused, limit)
		}
	}
}

// TestEachClientIsItself: clients that would share a topic or an identifier are refused before they throw each other out, or
// count each other's messages.
func TestEachClientIsItself(t *testing.T) {
	_, kind := against(t, standin.Options{}, 3, packet.V311)
	steps := []fleet.Step{{Clients: 3, Hold: time.Second}}
	same := kind
	same.Topic = func(int) string { return "v/all" }
	if _, err := fleet.New(
		fleet.Plan{Kinds: []fleet.Kind{same}, Steps: steps},
	); err == nil ||
		!strings.Contains(err.Error(), "no topics of their own") {
		t.Error(err)
	}
	same = kind
	same.Client = func(int) client.Options { return kind.Client(1) }
	if _, err := fleet.New(
		fleet.Plan{Kinds: []fleet.Kind{same}, Steps: steps},
	); err == nil ||
		!strings.Contains(err.Error(), "all would come as c1") {
		t.Error(err)
	}
	bound, _ := fleet.ParseBound("lost=0")
	if _, err := fleet.New(
		fleet.Plan{Kinds: []fleet.Kind{kind}, Steps: steps, Find: "rate", Bound: bound},
	); err == nil ||
		!strings.Contains(err.Error(), "say up to which") {
		t.Error(err)
	}
}

// TestOthersMessagesDoNotCount: what a broker hands to the wrong client is told and not counted, and what another part of the
// fleet sent on the same topics is none of ours.
func TestOthersMessagesDoNotCount(t *testing.T) {
	t.Parallel()
	leaks := standin.Fault{
		Name:      "leaks",
		Decisions: standin.Decisions{Match: func(string, string, bool) bool { return true }},
	}
	_, kind := against(t, standin.Options{Faults: []standin.Fault{leaks}}, 6, packet.V311)
	r := run(
		t,
		fleet.Plan{
			Kinds: []fleet.Kind{kind},
			Shape: fleet.Echo,
			Every: 50 * time.Millisecond,
			Each:  10,
			Steps: []fleet.Step{{Clients: 6, Hold: 20 * time.Second}},
		},
	)
	if c := r.Total.Counts; c.Received != 60 || c.Expected != 60 || c.Lost != 0 {
		t.Errorf("%+v", c)
	}
	if why := fmt.Sprint(r.Total.Refusals); !strings.Contains(why, "did not subscribe to it") {
		t.Error(why)
	}
	_, kind = against(t, standin.Options{}, 6, packet.V311)
	var both sync.WaitGroup
	for i := range 2 {
		both.Go(func() {
			p := fleet.Plan{
				Kinds: []fleet.Kind{kind},
				Shape: fleet.FanIn,
				Every: 50 * time.Millisecond,
				Each:  10,
				Shard: fleet.Shard{Index: i + 1, Of: 2},
				Steps: []fleet.Step{{Clients: 6, Hold: 20 * time.Second}},
			}
			if c := run(t, p).Total.Counts; c.Sent != 30 || c.Received != 30 || c.Expected != 30 || c.Duplicated != 0 {
				t.Errorf("part %d: %+v", i+1, c)
			}
		})
	}
	both.Wait()
}

// TestPartsOfOneLoadSayTheSame: whatever the whole fleet does differently is another load, and its parts are none.
func TestPartsOfOneLoadSayTheSame(t *testing.T) {
	plan := func() *fleet.Plan {
		return &fleet.Plan{
			Kinds:  []fleet.Kind{{Name: "plain", Count: 4}, {Name: "tls", Count: 2}},
			Shape:  fleet.FanIn,
			Others: 1,
			Every:  time.Second,
			Steps:  []fleet.Step{{Clients: 6, Hold: time.Minute}},
		}
	}
	is := plan().Whole()
	if is != "4 plain, 2 tls; every 1s, 1 others; 6 clients, for 1m0s" {
		t.Error(is)
	}
	for name, change := range map[string]func(p *fleet.Plan){
		"":         func(p *fleet.Plan) { p.Shard, p.Seed = fleet.Shard{Index: 2, Of: 4}, 7 },
		"kinds":    func(p *fleet.Plan) { p.Kinds[1].Count = 3 },
		"names":    func(p *fleet.Plan) { p.Kinds[1].Name = "ws" },
		"every":    func(p *fleet.Plan) { p.Every = 2 * time.Second },
		"jitter":   func(p *fleet.Plan) { p.Jitter = 0.1 },
		"retain":   func(p *fleet.Plan) { p.Retain = true },
		"others":   func(p *fleet.Plan) { p.Others = 2 },
		"connects": func(p *fleet.Plan) { p.Connects = 9 },
		"storm":    func(p *fleet.Plan) { p.Storm = fleet.Wills },
		"clients":  func(p *fleet.Plan) { p.Steps[0].Clients = 5 },
		"rate":     func(p *fleet.Plan) { p.Steps[0].Rate = 5 },
		"hold":     func(p *fleet.Plan) { p.Steps[0].Hold = time.Second },
		"over":     func(p *fleet.Plan) { p.Steps[0].Over = time.Second },
		"steps":    func(p *fleet.Plan) { p.Steps = append(p.Steps, p.Steps[0]) },
	} {
		p := plan()
		if change(p); (p.Whole() == is) != (name == "") {
			t.Errorf("%s: %s", name, p.Whole())
		}
	}
	long, other := plan(), plan()
	for i := range 100 {
		long.Steps = append(long.Steps, fleet.Step{Clients: i, Hold: time.Second})
	}
	other.Steps = append(slices.Clone(long.Steps[:100]), fleet.Step{Clients: 1, Hold: time.Second})
	if a, b := long.Whole(), other.Whole(); a == b || len(a) > 300 || !strings.Contains(a, "(101 steps, ") {
		t.Errorf("%s\n%s", a, b)
	}
}

// TestWillsThatDoNotCome: a storm of wills at a broker that publishes none ends when nothing comes any more, with a
// count of none.
func TestWillsThatDoNotCome(t *testing.T) {
	t.Parallel()
	faults, err := fault.Set("will.never-sent")
	if err != nil {
		t.Fatal(err)
	}
	_, kind := against(t, standin.Options{Faults: faults}, 6, packet.V311)
	f, err := fleet.New(fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Mute, Every: time.Second,
		Storm: fleet.Wills, WillBase: "w",
		Steps: []fleet.Step{{Clients: 6, Hold: time.Millisecond}}})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	if r := f.Run(ctx); r.Stopped || r.Storm == nil || r.Storm.Of != 6 || r.Storm.Back != 0 {
		t.Errorf("stopped %v, %+v", r.Stopped, r.Storm)
	}
}

// TestABrokerThatThrowsOut lets clients in, or does not, and ends their links at once, again and again: the load
// comes to an end, and says how they ended, and whose doing it was where that is sure.
func TestABrokerThatThrowsOut(t *testing.T) {
	t.Parallel()
	bound, _ := fleet.ParseBound("lost=0")
	for name, x := range map[string]struct {
		says []byte
		want fleet.Culprit
		why  []string
	}{
		"nonsense": {[]byte{0x20, 2, 0, 0, 0x79, 0}, fleet.Broker, []string{
			"connected: 3 of 3 clients were out", " links ended: what it sent breaks the standard: PUBCOMP"}},
		"no word": {[]byte{0x20, 2, 0, 0}, fleet.Unclear, []string{
			"connected: 3 of 3 clients were out", " links ended: the connection was closed without a word"}},
		"no entry": {[]byte{0x20, 3, 0, 0, 0}, fleet.Broker, []string{
			"refused: 3 of 3 clients did not get in", "12 times: what it sent breaks the standard: CONNACK"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer ln.Close()
			go link.Serve(ln, func(l *link.Link) {
				packet.NewReader(l, packet.V311).Next()
				l.Write(x.says)
				l.Close()
			})
			topic := func(n int) string { return fmt.Sprint("v/", n) }
			kind := fleet.Kind{Name: "plain", Count: 3, Topic: topic, Client: func(n int) client.Options {
				return client.Options{
					Version: packet.V311, Connect: packet.Connect{ClientID: fmt.Sprint("c", n), CleanStart: true},
					Dial: func(ctx context.Context) (*link.Link, error) {
						return link.Dial(ctx, "mqtt://"+ln.Addr().String())
					},
				}
			}}
			r := run(t, fleet.Plan{Kinds: []fleet.Kind{kind}, Shape: fleet.Mute, Every: time.Second, Bound: bound,
				Steps: []fleet.Step{{Clients: 3, Hold: time.Millisecond}}})
			said := strings.Join(r.Why, "\n")
			for _, want := range x.why {
				if strings.Contains(said, "when it was stopped") {
					t.Errorf("nobody stopped it:\n%s", said)
				}
				if r.Limit != x.want || r.Holds() || !strings.Contains(said, want) {
					t.Errorf("%s, want %s and %q:\n%s", r.Limit, x.want, want, said)
				}
			}
		})
	}
}
