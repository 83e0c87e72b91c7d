package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"golang.org/x/sync/errgroup"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/record"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// The benchmarks of this file hold Hodstone against the broker from Debian's packages, or
// against bare Go, in the same run; docs/performance.md has the figures.

// asChild lets the test binary play another part in a process of its own, so that memory
// and processor time are told apart.
const asChild = "HODSTONE_SPEED_CHILD"

// playChild plays the part that the environment names, if it names one, and exits.
func playChild() {
	if part := os.Getenv(asChild); part != "" {
		if err := children[part](os.Args[1:]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}

var children = map[string]func(args []string) error{
	"stand-in": func([]string) error {
		s, err := standin.New(standin.Options{Anonymous: true})
		if err != nil {
			return err
		}
		a, err := s.Listen("127.0.0.1:0")
		if err != nil {
			return err
		}
		fmt.Println("mqtt://" + a.String())
		bufio.NewReader(os.Stdin).ReadString('\n')
		return nil
	},
	// bare opens as many connections over which the same CONNECT goes, each with a blocked goroutine and a buffer of
	// 512 bytes.
	"bare": func(args []string) error {
		return sessions(args, func(name string) error {
			c, err := net.Dial("tcp", strings.TrimPrefix(args[0], "mqtt://"))
			if err != nil {
				return err
			}
			buf := make([]byte, 512)
			hello := idle(name)
			if _, err := c.Write(hello.Append(buf[:0], packet.V311)); err != nil {
				return err
			}
			if _, err := io.ReadFull(c, buf[:4]); err != nil {
				return err
			}
			go c.Read(buf)
			return nil
		})
	},
	"clients": func(args []string) error {
		return sessions(args, func(name string) error {
			c := client.New(client.Options{Version: packet.V311, Connect: idle(name),
				Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, args[0]) }})
			_, err := c.Connect(context.Background())
			return err
		})
	},
}

// idle is the CONNECT of a session that has nothing to say.
func idle(name string) packet.Connect {
	return packet.Connect{ClientID: name, CleanStart: true, KeepAlive: 600}
}

// sessions opens args[1] sessions, a few at a time, and prints how long that took and how
// much memory the process then has.
func sessions(args []string, open func(name string) error) error {
	n, err := strconv.Atoi(args[1])
	if err != nil {
		return err
	}
	start := time.Now()
	var g errgroup.Group
	g.SetLimit(32)
	for i := range n {
		g.Go(func() error { return open(fmt.Sprint("d", i)) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	took := time.Since(start)
	runtime.GC()
	debug.FreeOSMemory()
	rss, err := resident(os.Getpid())
	if err != nil {
		return err
	}
	fmt.Println(took.Seconds(), rss)
	bufio.NewReader(os.Stdin).ReadString('\n')
	return nil
}

// resident reads the resident memory of a process, in bytes (proc(5)).
func resident(pid int) (int, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0, err
	}
	pages, err := strconv.Atoi(strings.Fields(string(b))[1])
	return pages * os.Getpagesize(), err
}

// BenchmarkIdleSessions holds the memory of idle sessions, and the time to open them, against
// bare TCP connections of as many goroutines. The brokers are processes of their own.
func BenchmarkIdleSessions(b *testing.B) {
	for _, n := range []int{10_000, 19_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			measure := func(part string) (took float64, rss int) {
				// A broker for each: ports that the other has left keep connect(2) searching.
				broker := brokertest.Start(b, brokertest.Options{Anonymous: true, Lines: "max_connections -1\n"})
				cmd, line := child(b, part, broker.URLs["tcp"], fmt.Sprint(n))
				fmt.Sscan(line, &took, &rss)
				cmd.Process.Kill()
				cmd.Wait()
				return took, rss
			}
			bareTook, bare := measure("bare")
			took, ours := measure("clients")
			b.ReportMetric(float64(ours)/float64(n), "our-B/session")
			b.ReportMetric(float64(bare)/float64(n), "bare-B/session")
			b.ReportMetric(float64(ours)/float64(bare), "memory-ratio")
			b.ReportMetric(took/bareTook, "time-ratio")
			b.ReportMetric(took, "s")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// child starts the part; line is what it prints first.
func child(b *testing.B, part string, args ...string) (cmd *exec.Cmd, line string) {
	b.Helper()
	cmd = exec.Command(os.Args[0], args...)
	cmd.Env = append(os.Environ(), asChild+"="+part)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		b.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { in.Close(); cmd.Process.Kill(); cmd.Wait() })
	if line, err = bufio.NewReader(out).ReadString('\n'); err != nil {
		b.Fatalf("%s: %v", part, err)
	}
	return cmd, strings.TrimSpace(line)
}

func ownCPU(b *testing.B) time.Duration {
	b.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		b.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// flow sends n messages of 64 bytes at QoS 0 from one client to another and waits until
// all have come. With a log both ends are traced.
func flow(b *testing.B, url string, n int, log *trace.Log) {
	b.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	var got atomic.Int64
	arrived := make(chan struct{}, 1)
	end := func(name string, message func(*packet.Publish)) *client.Client {
		o := client.Options{Version: packet.V311, Connect: packet.Connect{ClientID: name, CleanStart: true}, Message: message,
			Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url) }}
		if log != nil {
			o.Hooks = trace.Record(trace.Source{Client: name, Role: trace.RoleDevice, Broker: "broker", Version: packet.V311}, log)
		}
		c := client.New(o)
		if _, err := c.Connect(ctx); err != nil {
			b.Fatal(err)
		}
		return c
	}
	sub := end("sub", func(*packet.Publish) {
		got.Add(1)
		select {
		case arrived <- struct{}{}:
		default:
		}
	})
	defer sub.Disconnect(0)
	pub := end("pub", nil)
	defer pub.Disconnect(0)
	if _, err := sub.Subscribe(ctx, []packet.Subscription{{Filter: "farm/pen/1/oxygen"}}); err != nil {
		b.Fatal(err)
	}
	b.ResetTimer()
	pump(b, pub, n, &got, arrived)
	b.StopTimer()
}

// window is how many messages are under way at most, so that no broker drops any.
const window = 500

func pump(b *testing.B, pub *client.Client, n int, got *atomic.Int64, arrived chan struct{}) {
	b.Helper()
	payload := []byte(strings.Repeat("o", 64))
	timeout := time.NewTimer(time.Minute)
	defer timeout.Stop()
	for sent := 0; int(got.Load()) < n; {
		if sent < n && sent-int(got.Load()) < window {
			if _, err := pub.Start(packet.Publish{Topic: "farm/pen/1/oxygen", Payload: payload}); err != nil {
				b.Fatal(err)
			}
			sent++
			continue
		}
		select {
		case <-arrived:
		case <-timeout.C:
			b.Fatalf("%d of %d messages came", got.Load(), n)
		}
	}
}

// flowLength is how many messages a measurement takes, whatever b.N: /proc tells processor
// time in steps of 10 ms, and the first messages of a process cost more.
const flowLength = 300_000

// BenchmarkThroughBroker is Hodstone's processor time for sending, receiving and tracing,
// against the broker's for passing on.
func BenchmarkThroughBroker(b *testing.B) {
	tune()
	broker := brokertest.Start(b, brokertest.Options{Anonymous: true})
	b.Run("traced", func(b *testing.B) {
		n := flowLength
		theirs, ours := broker.CPU(), ownCPU(b)
		flow(b, broker.URLs["tcp"], n, trace.NewLog(50_000))
		report(b, n, ownCPU(b)-ours, broker.CPU()-theirs)
	})
	// No payload comes again within a day of such seconds, as with devices that tell the time: a verdict that is known
	// already would make it too easy.
	b.Run("traced and judged", func(b *testing.B) {
		n := flowLength
		bench := judging(b, broker.URLs["tcp"])
		pub := client.New(client.Options{Version: packet.V311, Connect: packet.Connect{ClientID: "pub", CleanStart: true},
			Dial:  func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, broker.URLs["tcp"]) },
			Hooks: trace.Record(trace.Source{Client: "pen", Role: trace.RoleDevice, Broker: "quay", Version: packet.V311}, bench.Log)})
		if _, err := pub.Connect(context.Background()); err != nil {
			b.Fatal(err)
		}
		defer pub.Disconnect(0)
		payloads := make([][]byte, n) // made by nobody at work
		for i := range payloads {
			payloads[i] = fmt.Appendf(nil, `{"mgl": %.2f, "at": "2026-11-23T%02d:%02d:%02dZ", "probe": "north"}`,
				float64(i%900)/100, i/3600%24, i/60%60, i%60)
		}
		start := bench.Log.Next()
		theirs, ours := broker.CPU(), ownCPU(b)
		b.ResetTimer()
		end := time.Now().Add(20 * time.Second)
		for sent, here := 0, 0; ; {
			if sent-here >= window || sent == n { // only then: to ask costs too
				here = int(bench.Log.Next()-start) - sent // each message is an event sent and one received
			}
			if sent < n && sent-here < window {
				if _, err := pub.Start(packet.Publish{Topic: "farm/pen/1/oxygen", Payload: payloads[sent]}); err != nil {
					b.Fatal(err)
				}
				sent++
				continue
			}
			if here < n {
				time.Sleep(time.Millisecond)
				continue
			}
			if cells := bench.Snapshot().Cells; len(cells) > 0 && cells[0].Count >= n {
				break
			}
			if time.Now().After(end) {
				b.Fatalf("%d of %d messages came, %d judged, %d events missed", here, n, bench.Snapshot().Cells[0].Count, bench.Snapshot().Missed)
			}
			time.Sleep(time.Millisecond)
		}
		b.StopTimer()
		report(b, n, ownCPU(b)-ours, broker.CPU()-theirs)
		if s := bench.Snapshot(); s.Total > 0 {
			b.Fatalf("%d breaches, such as %v", s.Total, s.Breaches[0])
		}
	})
}

// judging opens a workspace whose contract covers the benchmark's messages, and waits for its
// observer.
func judging(b *testing.B, url string) *workbench.Bench {
	b.Helper()
	text := fmt.Sprintf(`
hodstone: 1
brokers: {quay: {listeners: {tcp: {url: %q}}, version: 3.1.1}}
contract:
  parties: {pen: {}}
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    pen.oxygen:
      topic: farm/pen/{pen}/oxygen
      from: pen
      qos: 0
      payload:
        format: json
        schema:
          type: object
          required: [mgl, at]
          properties: {mgl: {type: number, minimum: 0, maximum: 20}, at: {type: string, format: date-time}}
    pen.status: {topic: "farm/pen/{pen}/status", from: pen, payload: {format: text}}
`, url)
	w, err := workspace.Read(fstest.MapFS{"w.yaml": {Data: []byte(text)}}, "w.yaml", "w.yaml")
	if err != nil || len(w.Problems) > 0 {
		b.Fatal(err, w.Problems)
	}
	bench, err := workbench.New(w, workbench.Options{Seed: 1})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(bench.Close)
	bench.Start()
	for end := time.Now().Add(10 * time.Second); !bench.Brokers()[0].In; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			b.Fatal(bench.Brokers()[0].Why)
		}
	}
	return bench
}

func report(b *testing.B, n int, ours, theirs time.Duration) {
	b.ReportMetric(float64(ours.Nanoseconds())/float64(n), "our-ns/msg")
	b.ReportMetric(float64(theirs.Nanoseconds())/float64(n), "broker-ns/msg")
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "ratio")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkStandIn is the stand-in's processor time for passing messages on, against the
// Debian broker's, each in a process of its own.
func BenchmarkStandIn(b *testing.B) {
	broker := brokertest.Start(b, brokertest.Options{Anonymous: true})
	cmd, url := child(b, "stand-in")
	n := flowLength
	theirs := broker.CPU()
	flow(b, broker.URLs["tcp"], n, nil)
	theirs = broker.CPU() - theirs
	ours, err := brokertest.ProcessCPU(cmd.Process.Pid)
	if err != nil {
		b.Fatal(err)
	}
	flow(b, url, n, nil)
	after, err := brokertest.ProcessCPU(cmd.Process.Pid)
	if err != nil {
		b.Fatal(err)
	}
	report(b, n, after-ours, theirs)
}

// BenchmarkWireScreen opens the wire screen while 20,000 messages a second come in, and tells how much of a core
// the program takes, beside what the broker takes for the same messages, and how soon it answers a key.
func BenchmarkWireScreen(b *testing.B) {
	const perSecond, seconds = 20_000, 6
	broker := brokertest.Start(b, brokertest.Options{Anonymous: true})
	dir := b.TempDir()
	file := filepath.Join(dir, "w.yaml")
	text := fmt.Sprintf("hodstone: 1\nbrokers: {quay: {listeners: {tcp: {url: %q}}}}\n", broker.URLs["tcp"])
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	x := open(b, 160, 47, file)
	x.await(`● quay in`)
	x.keys("5")
	pub := client.New(client.Options{Version: packet.V311, Connect: packet.Connect{ClientID: "pub", CleanStart: true},
		Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, broker.URLs["tcp"]) }})
	if _, err := pub.Connect(context.Background()); err != nil {
		b.Fatal(err)
	}
	defer pub.Disconnect(0)
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		payload := []byte(strings.Repeat("o", 64))
		start, sent := time.Now(), 0
		for {
			select {
			case <-stop:
				return
			case <-time.After(time.Millisecond):
			}
			for due := int(time.Since(start).Seconds() * perSecond); sent < due; sent++ {
				pub.Start(packet.Publish{Topic: fmt.Sprint("farm/pen/", sent%50, "/oxygen"), Payload: payload})
			}
		}
	}()
	x.await(`[12]\d{4}/s`)
	before, err := brokertest.ProcessCPU(x.pid)
	if err != nil {
		b.Fatal(err)
	}
	theirs := broker.CPU()
	start := time.Now()
	var worst time.Duration
	keys := 0
	for time.Since(start) < seconds*time.Second {
		for _, step := range [][2]string{{"l", "lanes, "}, {"Escape", ""}} {
			pressed := time.Now()
			x.keys(step[0])
			for seen := false; !seen; {
				seen = strings.Contains(x.text(), "lanes, ") == (step[1] != "")
			}
			worst = max(worst, time.Since(pressed))
			keys++
		}
		time.Sleep(200 * time.Millisecond)
	}
	took := time.Since(start)
	after, err := brokertest.ProcessCPU(x.pid)
	if err != nil {
		b.Fatal(err)
	}
	theirs = broker.CPU() - theirs
	rate := regexp.MustCompile(`(\d+)/s`).FindString(x.text())
	close(stop)
	<-done
	b.ReportMetric((after-before).Seconds()/took.Seconds(), "cores")
	b.ReportMetric(theirs.Seconds()/took.Seconds(), "broker-cores")
	b.ReportMetric((after-before).Seconds()/theirs.Seconds(), "ratio")
	b.ReportMetric(float64(worst.Milliseconds()), "ms/slowest-key")
	b.ReportMetric(0, "ns/op")
	b.Logf("%s shown, %d keys", rate, keys)
}

// BenchmarkRecordOnScreen opens a record of a million events on the wire screen, and tells how
// long that takes, how soon it answers while one scrolls, and how fast it was recorded.
func BenchmarkRecordOnScreen(b *testing.B) {
	const events = 1_000_000
	path := filepath.Join(b.TempDir(), "million.db")
	log := trace.NewLog(50_000)
	began := time.Now()
	r, err := record.Start(log, 1, record.Options{Path: path, Meta: map[string]string{"workspace": "a million"}})
	if err != nil {
		b.Fatal(err)
	}
	for n := range events {
		p := &packet.Publish{Topic: fmt.Sprint("farm/pen/", n%500, "/oxygen"), Payload: fmt.Appendf(nil, `{"mgl": %d}`, n)}
		log.Add(trace.Event{At: time.Now(), Client: fmt.Sprint("pen-", n%20), Role: trace.RoleDevice, Broker: "quay", Conn: 1, Kind: trace.Sent, Version: packet.V311, Packet: p, Raw: p.Append(nil, packet.V311)})
		for n%1000 == 0 && r.State().Events < n-25_000 {
			time.Sleep(time.Millisecond)
		}
	}
	if err := r.Close(); err != nil || r.State().Missed > 0 {
		b.Fatal(err, r.State())
	}
	recorded := time.Since(began)
	binary(b)
	start := time.Now()
	x := open(b, 160, 47, "trace", "show", path)
	x.await(`1000000 events`, `"mgl": 1\b`)
	opened := time.Since(start)
	var worst time.Duration
	before := x.text()
	for _, key := range []string{"NPage", "NPage", "G", "PPage", "PPage", "PPage", "g", "NPage", "NPage", "NPage"} {
		pressed := time.Now()
		x.keys(key)
		for x.text() == before {
		}
		worst = max(worst, time.Since(pressed))
		before = x.text()
	}
	rss, err := resident(x.pid)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(opened.Milliseconds()), "ms/open")
	b.ReportMetric(float64(worst.Milliseconds()), "ms/slowest-page")
	b.ReportMetric(float64(events)/recorded.Seconds(), "recorded/s")
	b.ReportMetric(float64(rss)/1e6, "MB")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkAThousandDevices opens the drawn site of 1,000 devices of three kinds, each publishing every second to Debian's
// broker, and tells how much of a core and of memory the program takes, beside the broker's own, and how soon it answers a
// key.
func BenchmarkAThousandDevices(b *testing.B) {
	broker := brokertest.Start(b, brokertest.Options{Anonymous: true})
	file := filepath.Join(b.TempDir(), "w.yaml")
	text := fmt.Sprintf(`hodstone: 1
brokers: {quay: {listeners: {tcp: {url: %q}}}}
contract:
  parties: {buoy: , pump: , float: , desk: }
  clauses:
    level: {topic: "v/buoy/{n}/level", from: buoy, to: desk, qos: 0, every: 1s ± 3s, payload: {format: number, minimum: 0, maximum: 9}}
    flow: {topic: "v/pump/{n}/flow", from: pump, to: desk, qos: 0, every: 1s ± 3s, payload: {format: json, schema: {type: object, required: [flow, at], properties: {flow: {type: number}, at: {type: string, format: date-time}}}}}
    up: {topic: "v/float/{n}/up", from: float, to: desk, qos: 1, every: 1s ± 3s, payload: {format: text, values: {up: high, down: low}}}
devices:
  buoy: {count: 400, plays: buoy, parameters: {n: "{n}"}, session: {client-id: "buoy-{n}"}, signals: {x: {wave: sine, mean: 4, swing: 1, period: 60s, noise: 0.1}}, publishes: [{clause: level, every: 1s, payload: "= round(x, 2)"}]}
  pump: {count: 300, plays: pump, parameters: {n: "{n}"}, session: {client-id: "pump-{n}"}, signals: {x: {wave: walk, start: 3, step: 0.1, every: 1s}}, publishes: [{clause: flow, every: 1s, payload: {flow: "= round(x, 2)", at: "= now()"}}]}
  float: {count: 300, plays: float, parameters: {n: "{n}"}, session: {client-id: "float-{n}"}, signals: {x: {wave: pulse, pulse: 5s, every: 10s}}, publishes: [{clause: up, every: 1s, payload: "= x ? 'up' : 'down'"}]}
`, broker.URLs["tcp"])
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	x := open(b, 160, 47, file)
	x.keys("4")
	x.await(`buoy ×400 +● 400 on`, `pump ×300 +● 300 on`, `float ×300 +● 300 on`)
	time.Sleep(5 * time.Second) // the rates settle
	cpu := func(pid int) time.Duration {
		d, err := brokertest.ProcessCPU(pid)
		if err != nil {
			b.Fatal(err)
		}
		return d
	}
	ours, theirs, start := cpu(x.pid), broker.CPU(), time.Now()
	var worst time.Duration
	for time.Since(start) < 20*time.Second {
		for _, key := range [][2]string{{"t", "─ device ─"}, {"t", "the site: "}} {
			pressed := time.Now()
			x.keys(key[0])
			for !strings.Contains(x.text(), key[1]) {
			}
			worst = max(worst, time.Since(pressed))
		}
		time.Sleep(500 * time.Millisecond)
	}
	took := time.Since(start)
	ours, theirs = cpu(x.pid)-ours, broker.CPU()-theirs
	rss, err := resident(x.pid)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(ours.Seconds()/took.Seconds(), "cores")
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "broker-ratio")
	b.ReportMetric(float64(rss)/1e6, "MB")
	b.ReportMetric(float64(worst.Milliseconds()), "ms/slowest-key")
	b.ReportMetric(0, "ns/op")
	b.Logf("%s shown", regexp.MustCompile(`(\d+)/s`).FindString(x.text()))
}
