package fleet

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// TestATrackerCountsAsOneWouldByHand: whatever order messages come in, within the window, each is new once, and again after
// that; overtaken where a later one was there already.
func TestATrackerCountsAsOneWouldByHand(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		base := r.Uint64N(5)
		x, seen, top, got := tracker{base: base, top: base}, map[uint64]bool{}, base, uint64(0)
		for range 300 {
			seq := top + r.Uint64N(6)
			if back := r.Uint64N(windowSize - 1); r.IntN(3) == 0 && seq > back {
				seq = max(1, seq-back)
			}
			want := fresh
			switch {
			case seq <= base:
				want = before
			case seen[seq]:
				want = again
			case seq < top:
				want = overtaken
			}
			if want == overtaken && top-seq >= windowSize {
				continue
			}
			if how := x.see(seq); how != want {
				t.Fatalf("seed %d: %d of top %d is %d, want %d", seed, seq, top, how, want)
			}
			if want == fresh || want == overtaken {
				got++
			}
			seen[seq] = true
			top = max(top, seq)
			if x.got != got || x.top != top {
				t.Fatalf("seed %d: %+v, want %d up to %d", seed, x, got, top)
			}
		}
	}
	x := tracker{}
	x.see(1)
	x.see(500)
	if how := x.see(300); how != overtaken || x.got != 3 {
		t.Error(how, x) // too old to know whether it came before
	}
}

// FuzzMarks: what a message tells is read back, and what is none is none.
func FuzzMarks(f *testing.F) {
	f.Add(3, uint64(7), int64(1_000_000), 64, []byte("x"))
	f.Add(1, uint64(1), int64(0), 24, []byte{markByte})
	f.Add(
		1<<30,
		uint64(1)<<62,
		int64(1)<<49,
		24,
		[]byte{markByte, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff},
	)
	f.Fuzz(func(t *testing.T, from int, seq uint64, us int64, size int, junk []byte) {
		markOf(&packet.Publish{Payload: junk})
		markOf(&packet.Publish{Properties: packet.Properties{packet.User(markName, string(junk))}})
		if from < 1 || from >= 1<<31 || seq < 1 || seq >= 1<<62 || us < 0 || us >= 1<<49 || size < 0 || size > 4096 {
			return
		}
		m := mark{from, seq, time.Duration(us) * time.Microsecond}
		b := m.append(nil, size)
		if len(b) < size || len(b) > max(size, MarkSize) {
			t.Errorf("%+v: %d bytes, of %d", m, len(b), size)
		}
		for _, p := range []packet.Publish{{Payload: b}, {Payload: []byte("kg"), Properties: packet.Properties{packet.User("other", "1"), m.property()}}} {
			if back, ok := markOf(&p); !ok || back != m {
				t.Errorf("%+v came back as %+v", m, back)
			}
		}
	})
}

// TestMessagesWithoutAMark are found by their order, also past some that were lost, and not before what was there already.
func TestMessagesWithoutAMark(t *testing.T) {
	var r ring
	for i := range 3000 {
		r.put(fmt.Appendf(nil, "%d", i%7), time.Duration(i))
	}
	for _, x := range []struct {
		payload string
		top     uint64
		seq     uint64
	}{{"3", 2990, 2993}, {"4", 2992, 2994}, {"3", 2993, 3000}, {"0", 0, 1982}, {"9", 0, 0}} {
		seq, meant, ok := r.find([]byte(x.payload), x.top)
		if seq != x.seq && x.payload != "0" || ok != (x.seq > 0) || ok && x.payload != fmt.Sprint(int(meant)%7) ||
			ok && seq <= x.top {
			t.Errorf("%q after %d: %d %v %v", x.payload, x.top, seq, meant, ok)
		}
	}
}

// TestKindsTakeTurns: each beginning of a fleet has its share of each kind; and shards share clients out, each to one.
func TestKindsTakeTurns(t *testing.T) {
	p := Plan{Kinds: []Kind{{Name: "a", Count: 60}, {Name: "b", Count: 30}, {Name: "c", Count: 10}}}
	kinds, numbers := p.Order()
	count, last := [3]int{}, [3]int32{}
	for i, k := range kinds {
		count[k]++
		if numbers[i] != last[k]+1 {
			t.Fatal(i, k, numbers[i])
		}
		last[k] = numbers[i]
		for kind, of := range []int{60, 30, 10} {
			if due := float64(
				of,
			) * float64(
				i+1,
			) / 100; float64(count[kind]) > due+1.01 ||
				float64(count[kind]) < due-1.01 {
				t.Errorf("%d clients have %d of %s", i+1, count[kind], p.Kinds[kind].Name)
			}
		}
	}
	for _, shape := range Shapes() {
		for n := 1; n <= 60; n++ {
			has := 0
			for i := range 3 {
				if s := (Shard{i + 1, 3}); s.Has(n, shape) {
					has++
					if shape == Pairs && s.Has(n, shape) != s.Has((n-1)^1+1, shape) {
						t.Errorf("%s: a pair is torn at %d", shape, n)
					}
				}
			}
			if has != 1 {
				t.Errorf("%s: client %d is of %d shards", shape, n, has)
			}
		}
	}
	var text []string
	for _, s := range Ramp(10, 35, 10, time.Second, true, func(f float64) Step { return Step{Clients: int(f)} }) {
		text = append(text, fmt.Sprint(s.Clients))
	}
	if got := strings.Join(text, " "); got != "10 20 30 35 30 20 10" {
		t.Error(got)
	}
}

// TestCausesByName: the same reason is the same words, whatever address it names.
func TestCausesByName(t *testing.T) {
	for want, err := range map[string]error{
		ownDescriptors:       fmt.Errorf("dial: %w", syscall.EMFILE),
		noPort:               fmt.Errorf("dial: %w", syscall.EADDRNOTAVAIL),
		notListening:         fmt.Errorf("dial: %w", syscall.ECONNREFUSED),
		resetUnsaid:          syscall.ECONNRESET,
		closedUnsaid:         &client.EndedError{},
		noAnswer:             fmt.Errorf("x: %w", syscall.ETIMEDOUT),
		"127.0.0.1:… is odd": errors.New("127.0.0.1:54321 is odd"),
		"CONNACK: the broker refused the connection: 0x97, quota exceeded": &client.RefusedError{Code: packet.QuotaExceeded, Version: packet.V5},
	} {
		if got := causeOf(err); got != want {
			t.Errorf("%v: %q, want %q", err, got, want)
		}
	}
}

// named is what a step's causes are called, with a log and a broker's process.
func named(s StepResult, log []string, ends int64) string {
	f := &Fleet{plan: Plan{Log: func(time.Time) []string { return log }}}
	f.ends.Store(ends)
	return strings.Join(f.causes(&s), "\n")
}

// TestWhatALogTellsApart: a cap and a lack of descriptors look alike from outside.
func TestWhatALogTellsApart(t *testing.T) {
	closed := map[string]int{closedUnsaid: 30}
	lost := StepResult{Counts: Counts{Lost: 9, Away: 2}}
	for _, x := range []struct {
		s    StepResult
		log  []string
		ends int64
		want []string
	}{
		{StepResult{In: 200, Refusals: closed}, nil, 0, []string{"a cap on connections, or the broker's limit of descriptors: 200 clients are in, and 30 tries failed"}},
		{StepResult{In: 200, Refusals: closed}, []string{"accept: Too many open files"}, 0, []string{"the broker's descriptors: its log says: accept: Too many open files"}},
		{StepResult{Refusals: closed, Broker: Process{Known: true, Descriptors: 7, Allowed: 20000}}, nil, 0, []string{"no client stays in: 30 tries failed"}},
		{StepResult{In: 200, Refusals: closed}, []string{"client refused, max_connections reached"}, 0, []string{"a cap on connections: the broker's log says: client refused"}},
		{StepResult{In: 200, Refusals: closed, Broker: Process{Known: true, Descriptors: 250, Allowed: 256}}, nil, 0, []string{"has 250 of 256 open, and 30 tries failed"}},
		{StepResult{In: 200, Refusals: closed, Broker: Process{Known: true, Descriptors: 210, Allowed: 20000}}, nil, 0, []string{"a cap on connections, of the broker's configuration or licence", "only 210 of 20000"}},
		{StepResult{In: 200, Refusals: closed, Broker: Process{Known: true, Own: true, Descriptors: 40, Allowed: 20000}}, nil, 0, []string{"a cap on connections, or the broker's limit of descriptors"}},
		{StepResult{In: 200, Refusals: map[string]int{closedUnsaid: 30, resetUnsaid: 4}}, nil, 0, []string{"200 clients are in, and 34 tries failed: 30 times " + closedUnsaid + ", 4 times " + resetUnsaid}},
		{StepResult{In: 5, Refusals: map[string]int{notListening: 7}}, nil, 12, []string{"the broker was down for a while: 12 links ended, and 7 tries"}},
		{StepResult{Refusals: map[string]int{ownDescriptors: 1}, Strain: Strain{Allowed: 1024}}, nil, 0, []string{"the generator's descriptors: this program may open 1024 files"}},
		{StepResult{In: 40, Refusals: map[string]int{noAnswer: 6}}, nil, 0, []string{"40 clients are in, and 6 tries failed: no answer in time"}},
		{StepResult{Refusals: map[string]int{noAnswer: 6}}, nil, 0, []string{"6 times: no answer in time"}},
		{StepResult{Counts: Counts{Lost: 2, Away: 2}}, []string{"messages are being dropped"}, 0, []string{"lost with the links of their receivers, or while these were not connected: 2 messages"}},
		{StepResult{Refusals: map[string]int{noPort: 1}}, nil, 0, []string{"the generator's ports", "--local"}},
		{StepResult{Refusals: map[string]int{"CONNACK: quota exceeded": 4}}, nil, 0, []string{"4 tries to connect were refused with quota exceeded"}},
		{lost, nil, 0, []string{"7 messages did not come to receivers that were connected", "lost with the links of their receivers, or while these were not connected: 2 messages"}},
		{lost, []string{"Outgoing messages are being dropped for client x."}, 0, []string{"a queue of the broker's: 7 messages did not come; its log says: Outgoing"}},
		{StepResult{Counts: Counts{Lost: 9}, Facts: map[string]string{"dropped": "9"}}, nil, 0, []string{"a queue of the broker's: 9 messages did not come, and it tells that it dropped 9"}},
	} {
		got := named(x.s, x.log, x.ends)
		for _, want := range x.want {
			if !strings.Contains(got, want) {
				t.Errorf("%+v %v: %s, want %s", x.s.Refusals, x.log, got, want)
			}
		}
	}
}

// TestWhoGaveWay: by what was seen at the first step at which something did.
func TestWhoGaveWay(t *testing.T) {
	at := func(d time.Duration) Spread {
		h := newHistogram()
		record(h, d)
		return spreadOf(h)
	}
	late, broken := at(50*time.Millisecond), []string{"p99<1s: 2s"}
	idle := Strain{CPU: 0.2, Cores: 2}
	busy := Strain{CPU: 1.95, Cores: 2}
	for name, x := range map[string]struct {
		s    StepResult
		want Culprit
		why  string
	}{
		"all well":              {StepResult{Asked: 100, Reached: 99, Strain: idle}, Neither, "the bound held"},
		"broker slow":           {StepResult{Asked: 100, Reached: 99, Broken: broken, Strain: idle}, Broker, "the generator had time left"},
		"generator busy":        {StepResult{Asked: 100, Reached: 60, Strain: busy}, Generator, "it used 1.9 of 2 cores"},
		"generator late":        {StepResult{Asked: 100, Reached: 60, Strain: idle, Lag: late}, Generator, "late, by its own doing"},
		"late, but not so much": {StepResult{Asked: 100, Reached: 99, Broken: broken, Trip: Spread{Count: 1, P99: 2 * time.Second}, Strain: idle, Lag: late}, Broker, "50.02ms late"},
		"late for the bound":    {StepResult{Asked: 100, Reached: 99, Broken: []string{"p99<1s: 1.5s"}, Trip: Spread{Count: 1, P99: 1500 * time.Millisecond}, Strain: idle, Lag: at(300 * time.Millisecond)}, Generator, "late, by its own doing"},
		"lost in idleness":      {StepResult{Asked: 100, Reached: 99, Counts: Counts{Expected: 99, Lost: 3}, Strain: idle, Limits: []string{"a queue"}}, Broker, "a queue"},
		"lost, though busy":     {StepResult{Asked: 100, Reached: 99, Counts: Counts{Expected: 99, Lost: 3}, Strain: busy, Limits: []string{"a queue"}}, Unclear, "a queue"},
		"most lost, and late":   {StepResult{Asked: 100, Reached: 60, Counts: Counts{Expected: 100, Lost: 98}, Strain: idle, Lag: Spread{Count: 100, P90: time.Millisecond, P99: 31 * time.Millisecond}}, Broker, "does not explain 98 of 100"},
		"always late, and lost": {StepResult{Asked: 100, Reached: 60, Counts: Counts{Expected: 100, Lost: 98}, Strain: idle, Lag: late}, Unclear, "read too late"},
		"refused, though late":  {StepResult{Asked: 100, Reached: 60, Refused: 3, Refusals: map[string]int{"CONNACK: no": 3}, Strain: busy, Lag: late}, Broker, "3 tries"},
		"closed, though late":   {StepResult{Asked: 100, Reached: 60, Refused: 3, Refusals: map[string]int{closedUnsaid: 3}, Strain: busy, Lag: late}, Broker, "3 tries"},
		"own descriptors":       {StepResult{Refused: 3, Limits: []string{"the generator's descriptors: few"}, Strain: idle}, Generator, "few"},
		"both busy":             {StepResult{Asked: 100, Reached: 60, Strain: busy, Broker: Process{Known: true, CPU: 0.95}}, Unclear, "another machine"},
		"busy with a stand-in":  {StepResult{Asked: 100, Reached: 60, Strain: busy, Broker: Process{Known: true, Own: true}}, Unclear, "a broker of its own"},
		"out of order, idle":    {StepResult{Asked: 100, Reached: 99, Broken: []string{"out-of-order=0: 3"}, Strain: busy}, Broker, "3"},
		"stopped in its middle": {StepResult{Cut: true, Asked: 100, Strain: idle}, Neither, ""},
	} {
		r := Result{Bound: "p99<1s", Steps: []StepResult{x.s}}
		r.sum()
		if r.judge(); r.Limit != x.want || !strings.Contains(strings.Join(r.Why, "\n"), x.why) {
			t.Errorf("%s: %s %q", name, r.Limit, r.Why)
		}
	}
	var none Result
	if none.judge(); none.Limit != Unclear {
		t.Error(none.Limit)
	}
}

// TestEachLimitOfABound breaks where it has to, and holds just below.
func TestEachLimitOfABound(t *testing.T) {
	h := newHistogram()
	for i := range 1000 {
		record(h, time.Duration(i+1)*time.Millisecond)
	}
	s := StepResult{
		Trip:    spreadOf(h),
		Connect: spreadOf(h),
		Asked:   100,
		Reached: 90,
		Refused: 2,
		Counts:  Counts{Expected: 1000, Lost: 20, Duplicated: 1, OutOfOrder: 3},
	}
	for text, holds := range map[string]bool{
		"p50<510ms": true, "p50<490ms": false, "p90<910ms": true, "p90<890ms": false, "p99<1s": true, "p99<980ms": false, "p99.9<=1.1s": true,
		"p99.9<900ms": false, "max<=1.1s": true, "max<1s": false, "mean<510ms": true, "mean<490ms": false, "connect-p99<1s": true, "connect-p99<1ms": false,
		"lost<=20": true, "lost=0": false, "lost<=2%": true, "lost<2%": false, "duplicated=1": true, "duplicated=0": false, "out-of-order<=3": true,
		"out-of-order<3": false, "refused<=2": true, "refused=0": false, "short<=11%": true, "short<9%": false,
	} {
		b, err := ParseBound(text)
		if err != nil {
			t.Fatal(err)
		}
		x := s
		if b[0].timed() {
			x.Lost = 0
		}
		if b[0].What != "refused" {
			x.Refused = 0
		}
		if broken := b.Broken(&x); (len(broken) == 0) != holds {
			t.Errorf("%s: %v", text, broken)
		}
	}
	// What never came took longer than anything.
	for _, x := range []struct {
		lost, unsent int64
		broken       string
	}{
		{0, 0, ""}, {1, 0, "p99.9<9s max<9s"}, {0, 1, "max<9s"}, {6, 3, "p99.9<9s max<9s"}, {0, 11, "p99<9s p99.9<9s max<9s"},
		{99, 0, "p99<9s p99.9<9s max<9s"}, {100, 0, "p90<9s p99<9s p99.9<9s max<9s"}, {0, 1000, "p50<9s p90<9s p99<9s p99.9<9s max<9s"},
	} {
		var broken []string
		step := StepResult{Trip: spreadOf(h), Counts: Counts{Expected: 1000, Lost: x.lost, Unsent: x.unsent}}
		b, _ := ParseBound("p50<9s,p90<9s,p99<9s,p99.9<9s,max<9s,mean<9s,connect-p99<9s")
		for _, text := range b.Broken(&step) {
			limit, rest, _ := strings.Cut(text, ": ")
			if broken = append(broken, limit); !strings.HasSuffix(rest, "% never came") {
				t.Error(text)
			}
		}
		if got := strings.Join(broken, " "); got != x.broken {
			t.Errorf("%d lost, %d not sent: %s, want %s", x.lost, x.unsent, got, x.broken)
		}
	}
	b, _ := ParseBound("p99<1s")
	if broken := b.Broken(&StepResult{Trip: spreadOf(h), Clients: 9, Out: 2}); len(broken) != 1 ||
		broken[0] != "connected: 2 of 9 clients were out at its end" {
		t.Error(broken)
	}
	// What holds for those that got in does not hold for all, unless it is said that some may stay out.
	for text, want := range map[string]string{
		"p99<1s": "refused: 2 of 9 clients did not get in; refused<=2 allows it", "p99<1s,refused<=2": "", "refused=0": "refused=0: 2",
	} {
		b, _ := ParseBound(text)
		if broken := b.Broken(&StepResult{Trip: spreadOf(h), Clients: 9, Refused: 2}); strings.Join(broken, "|") != want {
			t.Errorf("%s: %q", text, broken)
		}
	}
	if broken := Bound(nil).Broken(&StepResult{Clients: 9, Out: 2, Refused: 1}); broken != nil {
		t.Error("no bound, and broken:", broken)
	}
	if broken := b.Broken(
		&StepResult{},
	); len(broken) != 1 ||
		!strings.Contains(broken[0], "no round trip was measured") {
		t.Error(broken)
	}
}

// TestALongLoadKeepsItsSeconds: joined by twos, they count the same.
func TestALongLoadKeepsItsSeconds(t *testing.T) {
	var all []Second
	var sent int64
	for i := range 7 {
		all = append(
			all,
			Second{At: time.Unix(int64(i), 0), Sent: int64(i), P99: time.Duration(i), In: i, Spread: time.Second},
		)
		sent += int64(i)
	}
	half := joined(all)
	var got int64
	var long time.Duration
	for _, s := range half {
		got += s.Sent
		long += s.Spread
	}
	if len(half) != 4 || got != sent || long != 7*time.Second || half[0].P99 != 1 || half[2].In != 5 ||
		!half[1].At.Equal(time.Unix(2, 0)) {
		t.Errorf("%+v", half)
	}
}

// TestASpreadSurvivesJSON with its histogram.
func TestASpreadSurvivesJSON(t *testing.T) {
	h := newHistogram()
	for range 100 {
		record(h, time.Duration(rand.Int64N(int64(20*time.Minute))))
	}
	a := spreadOf(h)
	text, err := a.MarshalJSON()
	var b Spread
	if err = errors.Join(
		err,
		b.UnmarshalJSON(text),
	); err != nil || b.P99 != a.P99 || b.Count != 100 ||
		b.Max > 11*time.Minute {
		t.Errorf("%v %+v", err, b)
	}
	again, _ := b.MarshalJSON()
	if !bytes.Equal(text, again) {
		t.Errorf("%s\n%s", text, again)
	}
	if sum := a.add(b); sum.Count != 200 || sum.P50 != a.P50 {
		t.Errorf("%+v", sum)
	}
}

// TestRatesInFewDigits: and what is no mark is none.
func TestRatesInFewDigits(t *testing.T) {
	for want, f := range map[string]float64{"100": 100, "99.5": 99.5, "10.0": 10, "9.95": 9.95, "0.00": 0} {
		if got := rounded(f); got != want {
			t.Errorf("%g: %s, want %s", f, got, want)
		}
	}
	other := packet.User("other", "1 2 3")
	m := mark{4, 5, 6 * time.Microsecond}
	if _, ok := markOf(&packet.Publish{Properties: packet.Properties{other}}); ok {
		t.Error("another's user property is a mark")
	}
	p := packet.Publish{Properties: packet.Properties{other, packet.Int(packet.MessageExpiry, 7), m.property()}}
	if back, ok := markOf(&p); !ok || back != m {
		t.Errorf("%+v %t", back, ok)
	}
	for _, text := range []string{"1 2", "x 2 3", "1 x 3", "1 2 x", "1 2 3 4"} {
		if _, ok := markOf(&packet.Publish{Properties: packet.Properties{packet.User(markName, text)}}); ok {
			t.Errorf("%q is a mark", text)
		}
	}
	a := &Result{
		Shard: "10/11",
		Bound: "lost=0",
		Steps: []StepResult{{Counts: Counts{Expected: 5, Received: 4, Lost: 1}}},
	}
	b := &Result{Shard: "9/11", Bound: "lost=0", Steps: []StepResult{{Cut: true}}, Stopped: true}
	whole, err := Merge(a, b)
	if err != nil || strings.Join(whole.Shards, " ") != "9/11 10/11" || !whole.Stopped || len(whole.Absent) != 9 ||
		len(whole.Steps[0].Broken) != 0 {
		t.Errorf("%+v %v", whole, err)
	}
	b.Steps[0].Cut = false
	if whole, err := Merge(b, a); err != nil || len(whole.Steps[0].Broken) != 1 {
		t.Errorf("%+v %v", whole, err)
	}
}

// TestWhatTheSystemTells reads of this process what it knows of itself, and of none nothing.
func TestWhatTheSystemTells(t *testing.T) {
	before := ProcessOf(os.Getpid())
	var sink float64
	for start := time.Now(); time.Since(start) < 150*time.Millisecond || ProcessOf(os.Getpid()).used == before.used; sink++ {
	}
	after := ProcessOf(os.Getpid())
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err != nil {
		t.Fatal(err)
	}
	own, _ := os.Executable()
	if !after.Known || after.PID != os.Getpid() || !strings.HasPrefix(filepath.Base(own), after.Name) || after.used <= before.used ||
		after.Memory < 1<<20 || after.Descriptors < 3 || after.Allowed != limit.Cur {
		t.Errorf("%+v after %+v, limit %d", after, before, limit.Cur)
	}
	at := time.Now()
	a, b := reading{at: at, broker: before}, reading{at: at.Add(time.Second), broker: before}
	b.broker.used += 250 * time.Millisecond
	f := &Fleet{}
	if p := f.brokerOver(a, b); p.CPU != 0.25 {
		t.Error(p.CPU)
	}
	if p := f.brokerOver(reading{at: at}, b); p.CPU != 0 { // of a process that was found later only
		t.Error(p.CPU)
	}
	if p := ProcessOf(math.MaxInt32); p.Known {
		t.Errorf("%+v", p)
	}
}

// TestWhatIsOwed: who is in, or has heard some, is owed all from where it began; who never came, and who is not
// wanted, nothing.
func TestWhatIsOwed(t *testing.T) {
	kind := Kind{Name: "plain", Count: 1, Topic: func(int) string { return "v" }, Client: func(int) client.Options { return client.Options{} }}
	f, err := New(Plan{Kinds: []Kind{kind}, Shape: Echo, Every: time.Second, Steps: []Step{{Clients: 1, Hold: time.Second}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct {
		base, top, seq uint64
		wanted, in     bool
		owed           int64
	}{
		{0, 0, 5, true, true, 5}, {0, 0, 5, true, false, 0}, {0, 3, 5, true, false, 5}, {2, 2, 5, true, false, 3}, {2, 4, 5, true, true, 3},
		{5, 5, 5, true, true, 0}, {0, 3, 5, false, false, 0},
	} {
		s := f.all[0]
		s.one = tracker{base: x.base, top: x.top}
		s.seq.Store(x.seq)
		s.wanted.Store(x.wanted)
		s.in.Store(x.in)
		if got := f.owed(); got != x.owed {
			t.Errorf("%+v: %d", x, got)
		}
	}
}
