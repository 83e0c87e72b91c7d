package tap_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
)

// made is a tap with what listens to it.
type made struct {
	*tap.Tap
	log  *trace.Log
	url  string
	pool *x509.CertPool
}

// open makes a tap before a broker, which listens on a kind of transport.
func open(t testing.TB, kind string, dial func(context.Context) (*link.Link, error), o tap.Options) *made {
	t.Helper()
	kit, err := trust.NewKit("pen", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	m := &made{log: trace.NewLog(200_000), pool: kit.Pool()}
	o.Dial, o.Broker, o.Log = dial, "quay", m.log
	m.Tap = tap.New(o)
	t.Cleanup(m.Close)
	if m.url, err = m.Listen(
		kind+"://127.0.0.1:0",
		&tls.Config{Certificates: []tls.Certificate{kit.Server}},
	); err != nil {
		t.Fatal(err)
	}
	return m
}

// device is a client that goes through the tap.
func (m *made) device(id string, v packet.Version, got func(*packet.Publish)) *client.Client {
	return client.New(
		client.Options{Version: v, Message: got, Connect: packet.Connect{ClientID: id, CleanStart: true, KeepAlive: 30,
			HasUsername: true, Username: brokertest.Username, HasPassword: true, Password: []byte(brokertest.Password)},
			Dial: func(ctx context.Context) (*link.Link, error) {
				return link.Dial(ctx, m.url, link.Options{TLS: &tls.Config{RootCAs: m.pool}})
			}},
	)
}

// told lists what the trace has of a client, "→" for sent and "←" for received.
func (m *made) told(name string) (out []string) {
	events, _ := m.log.Read(1, 200_000)
	for i := range events {
		e := &events[i]
		if e.Client != name {
			continue
		}
		switch e.Kind {
		case trace.Sent:
			out = append(out, "→"+e.Packet.Type().String())
		case trace.Received:
			out = append(out, "←"+e.Packet.Type().String())
		case trace.Line:
			out = append(out, e.Text)
		}
	}
	return out
}

// mixed lets a device publish to itself, and looks at both ends; the error is of a link that was lost.
func (m *made) mixed(t *testing.T, id string, v packet.Version) error {
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	got := make(chan string, 10)
	c := m.device(id, v, func(p *packet.Publish) { got <- string(p.Payload) })
	if _, err := c.Connect(ctx); err != nil {
		return err
	}
	topic := "tap/" + id
	if _, err := c.Subscribe(ctx, []packet.Subscription{{Filter: topic, QoS: 2}}); err != nil {
		return err
	}
	large := strings.Repeat("large ", 30_000)
	for _, text := range []string{"a", large} {
		if _, err := c.Publish(ctx, packet.Publish{Topic: topic, QoS: 2, Payload: []byte(text)}); err != nil {
			return err
		}
		select {
		case back := <-got:
			if back != text {
				t.Errorf("%d bytes came back of %d", len(back), len(text))
			}
		case <-c.Done():
			return c.Ended()
		case <-ctx.Done():
			t.Fatal("nothing came back")
		}
	}
	all := ""
	until := func(what string, n int) {
		for end := time.Now().Add(5 * time.Second); strings.Count(all, what) < n && time.Now().Before(end); time.Sleep(time.Millisecond) {
			all = strings.Join(m.told("the "+id), " ")
		}
	}
	until("→PUBCOMP", 2)
	if !c.Connected() {
		return c.Ended()
	}
	c.Disconnect(0)
	until("→DISCONNECT", 1)
	want := "→CONNECT ←CONNACK →SUBSCRIBE ←SUBACK"
	if !strings.HasPrefix(all, want) || strings.Count(all, "→PUBLISH") != 2 || strings.Count(all, "←PUBLISH") != 2 ||
		strings.Count(all, "PUBREC") != 4 || !strings.HasSuffix(all, "→DISCONNECT") {
		t.Error(all)
	}
	return nil
}

// TestAllTransportMixes: a device publishes to itself through the tap, by each transport to Debian's broker by each, and
// both ends are on the trace under its name.
func TestAllTransportMixes(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{})
	for _, kind := range []string{"mqtt", "mqtts", "ws", "wss"} {
		for way, url := range broker.URLs {
			if way == "tls with client certificate" {
				continue // it is the tap's own, and the same
			}
			t.Run(kind+" to "+way, func(t *testing.T) {
				t.Parallel()
				m := open(t, kind, func(ctx context.Context) (*link.Link, error) {
					return link.Dial(ctx, url, link.Options{TLS: &tls.Config{RootCAs: broker.CA}})
				}, tap.Options{Names: func(id string) string { return "the " + id }})
				for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
					// Now and then the broker ends a TLS link in good order, for what another one did to its TLS library: that
					// is no matter of the tap's, and is tried again under another name.
					for try := 1; ; try++ {
						err := m.mixed(t, fmt.Sprintf("pen-%s-%s-%d-%d", kind, way, v, try), v)
						if err == nil {
							break
						}
						if try == 3 || !strings.Contains(broker.Log(), "SSL routines::unexpected eof") {
							t.Fatal(err)
						}
					}
				}
			})
		}
	}
}

// TestTheTapIsTransparent: whatever bytes go, in whatever pieces, come out the same at the other side, packets or not,
// and in the middle of a packet rules are switched on and off; who closes and who resets is seen beyond.
func TestTheTapIsTransparent(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	dial := func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+ln.Addr().String()) }
	hello := (&packet.Connect{ClientID: "a", CleanStart: true}).Append(nil, packet.V311)
	message := (&packet.Publish{Topic: "a/b", Payload: bytes.Repeat([]byte("x"), 3000)}).Append(nil, packet.V311)
	for seed := range uint64(60) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			rnd := rand.New(rand.NewPCG(seed, 1))
			m := open(t, "mqtt", dial, tap.Options{Unread: seed%10 == 9})
			mix := func() []byte {
				b := slices.Clone(hello)
				for range 20 {
					b = append(b, message...)
				}
				if seed%3 == 1 { // no MQTT from somewhere on
					junk := make([]byte, 5000)
					for i := range junk {
						junk[i] = byte(rnd.IntN(256))
					}
					b = append(b, junk...)
				}
				return b
			}
			up, down := mix(), mix()
			device, err := net.Dial("tcp", strings.TrimPrefix(m.url, "mqtt://"))
			if err != nil {
				t.Fatal(err)
			}
			broker, err := ln.Accept()
			if err != nil {
				t.Fatal(err)
			}
			write := func(c net.Conn, b []byte, rnd *rand.Rand) {
				for len(b) > 0 {
					n := min(len(b), 1+rnd.IntN(4000))
					c.Write(b[:n])
					b = b[n:]
					if rnd.IntN(3) == 0 {
						time.Sleep(time.Duration(rnd.IntN(2000)) * time.Microsecond)
					}
				}
			}
			go write(device, up, rand.New(rand.NewPCG(seed, 2)))
			go write(broker, down, rand.New(rand.NewPCG(seed, 3)))
			if seed%2 == 0 {
				go func() {
					rnd := rand.New(rand.NewPCG(seed, 4))
					for range 30 {
						m.Set(tap.Rule{Do: tap.Delay, By: time.Microsecond})
						time.Sleep(time.Duration(rnd.IntN(1000)) * time.Microsecond)
						m.Set()
					}
				}()
			}
			read := func(c net.Conn, n int) []byte {
				b := make([]byte, n)
				c.SetReadDeadline(time.Now().Add(20 * time.Second))
				k, _ := io.ReadFull(c, b)
				return b[:k]
			}
			if got := read(broker, len(up)); !bytes.Equal(got, up) {
				t.Errorf("toward the broker: %d bytes of %d, or others", len(got), len(up))
			}
			if got := read(device, len(down)); !bytes.Equal(got, down) {
				t.Errorf("toward the device: %d bytes of %d, or others", len(got), len(down))
			}
			// The end goes through as it is.
			first, second := device, broker
			if seed%4 < 2 {
				first, second = broker, device
			}
			reset := seed%2 == 1
			if reset {
				first.(*net.TCPConn).SetLinger(0)
			}
			first.Close()
			second.SetReadDeadline(time.Now().Add(10 * time.Second))
			if _, err := second.Read(make([]byte, 1)); (err == io.EOF) == reset {
				t.Errorf("reset %v, seen %v", reset, err)
			}
			second.Close()
		})
	}
}

// TestRules: what each rule does is seen at both sides, on the trace too, and ends when it is to end.
func TestRules(t *testing.T) {
	s, err := standin.New(
		standin.Options{
			Anonymous: true,
			Logins:    []standin.Login{{Name: brokertest.Username, Password: brokertest.Password}},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	zero, yes, text := packet.QoS(0), true, "changed"
	type seen struct {
		m    *made
		c    *client.Client
		id   string
		err  error         // of publishing twice at QoS 1
		took time.Duration // that
		got  []string      // that a watcher at the broker got
	}
	for _, x := range []struct {
		name  string
		rules []tap.Rule
		check func(t *testing.T, r *seen)
	}{
		{"none", nil, func(t *testing.T, r *seen) {
			if r.err != nil || fmt.Sprint(r.got) != "[one1 two1]" || len(r.m.told(r.id+" beyond the tap")) > 0 {
				t.Error(r.err, r.got, r.m.told(r.id+" beyond the tap"))
			}
		}},
		{"delay", []tap.Rule{{Do: tap.Delay, Type: packet.PUBACK, Toward: tap.Device, By: 150 * time.Millisecond}}, func(t *testing.T, r *seen) {
			if r.err != nil || r.took < 300*time.Millisecond || r.took > 3*time.Second {
				t.Error(r.err, r.took)
			}
		}},
		{"throttle", []tap.Rule{{Do: tap.Throttle, Type: packet.PUBLISH, Toward: tap.Broker, Rate: 50}}, func(t *testing.T, r *seen) {
			if r.err != nil || r.took < 300*time.Millisecond {
				t.Error(r.err, r.took)
			}
		}},
		{"drop, the second only", []tap.Rule{{Name: "no second PUBACK", Do: tap.Drop, Type: packet.PUBACK, Nth: 2}}, func(t *testing.T, r *seen) {
			all := strings.Join(r.m.told(r.id), " ")
			if r.err == nil || fmt.Sprint(r.got) != "[one1 two1]" || strings.Count(all, "←PUBACK") != 1 || !strings.Contains(all, "the tap: no second PUBACK") ||
				strings.Count(strings.Join(r.m.told(r.id+" beyond the tap"), " "), "←PUBACK") != 1 {
				t.Error(r.err, r.got, all, r.m.told(r.id+" beyond the tap"))
			}
		}},
		{"drop once, by topic and client", []tap.Rule{{Do: tap.Drop, Topic: "v/+", Client: "pe*", Toward: tap.Broker, Most: 1}, {Do: tap.Drop, Client: "other", Toward: tap.Device}},
			func(t *testing.T, r *seen) {
				if r.err == nil || fmt.Sprint(r.got) != "[two1]" || r.m.Rules()[0].Acted != 1 || !r.m.Rules()[0].Over || r.m.Rules()[1].Acted != 0 {
					t.Error(r.err, r.got, r.m.Rules())
				}
			}},
		{"repeat", []tap.Rule{{Do: tap.Repeat, Type: packet.PUBLISH, Toward: tap.Broker, Times: 3, Most: 1}}, func(t *testing.T, r *seen) {
			if fmt.Sprint(r.got) != "[one1 one1 one1 two1]" {
				t.Error(r.err, r.got)
			}
		}},
		{"reorder", []tap.Rule{{Do: tap.Reorder, Type: packet.PUBLISH, Toward: tap.Broker, Most: 1}}, func(t *testing.T, r *seen) {
			if fmt.Sprint(r.got) != "[two1 one1]" {
				t.Error(r.err, r.got)
			}
		}},
		{"alter", []tap.Rule{{Do: tap.Alter, Type: packet.PUBLISH, Toward: tap.Broker, QoS: &zero, Payload: &text, Retain: &yes, Nth: 2}}, func(t *testing.T, r *seen) {
			if r.err == nil || fmt.Sprint(r.got) != "[one1 changed0]" {
				t.Error(r.err, r.got)
			}
		}},
		{"split", []tap.Rule{{Do: tap.Split, Toward: tap.Device}, {Do: tap.Split, Type: packet.PUBLISH, Toward: tap.Broker, By: 4 * time.Millisecond}},
			func(t *testing.T, r *seen) { // 17 bytes and more, each 4 ms after the one before
				if r.err != nil || fmt.Sprint(r.got) != "[one1 two1]" || r.took < 60*time.Millisecond || strings.Count(strings.Join(r.m.told(r.id), " "), "←PUBACK") != 2 {
					t.Error(r.err, r.got, r.took, r.m.told(r.id))
				}
			}},
		{"gather", []tap.Rule{{Do: tap.Gather, Type: packet.PUBLISH, Toward: tap.Broker, Times: 2, By: 5 * time.Second}},
			func(t *testing.T, r *seen) {
				if r.err != nil || fmt.Sprint(r.got) != "[one1 two1]" || r.took > 3*time.Second {
					t.Error(r.err, r.got, r.took)
				}
			}},
		{"gather, and no more come", []tap.Rule{{Do: tap.Gather, Type: packet.PUBLISH, Toward: tap.Broker, Times: 9, By: 200 * time.Millisecond}},
			func(t *testing.T, r *seen) {
				if r.err != nil || fmt.Sprint(r.got) != "[one1 two1]" || r.took < 150*time.Millisecond {
					t.Error(r.err, r.got, r.took)
				}
			}},
		{"repeat as sent again", []tap.Rule{{Do: tap.Repeat, Type: packet.PUBLISH, Toward: tap.Broker, Times: 2, Dup: true, Most: 1}}, func(t *testing.T, r *seen) {
			again := 0
			events, _ := r.m.log.Read(1, 200_000)
			for _, e := range events {
				if m := e.Publish(); e.Client == r.id+" beyond the tap" && m != nil && e.Kind == trace.Sent && m.Dup {
					again++
				}
			}
			if fmt.Sprint(r.got) != "[one1 one1 two1]" || again != 1 {
				t.Error(r.err, r.got, again)
			}
		}},
		{"cut", []tap.Rule{{Do: tap.Cut, Type: packet.PUBLISH, Nth: 2}}, func(t *testing.T, r *seen) {
			if r.err == nil || r.c.Connected() || fmt.Sprint(r.got) != "[one1]" || !strings.Contains(r.c.Ended().Error(), "reset") {
				t.Error(r.err, r.got)
			}
		}},
		{"freeze for a while", []tap.Rule{{Do: tap.Freeze, Type: packet.PUBLISH, For: 400 * time.Millisecond}}, func(t *testing.T, r *seen) {
			if r.err != nil || fmt.Sprint(r.got) != "[one1 two1]" || r.took < 100*time.Millisecond {
				t.Error(r.err, r.got, r.took)
			}
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			r := &seen{m: open(t, "mqtt", s.Dial, tap.Options{})}
			topic := "v/" + strings.ReplaceAll(x.name, " ", "-")
			got := make(chan string, 20)
			watcher := client.New(
				client.Options{
					Dial:    s.Dial,
					Version: packet.V311,
					Connect: packet.Connect{ClientID: "w" + x.name, CleanStart: true},
					Message: func(p *packet.Publish) { got <- fmt.Sprintf("%s%d", p.Payload, p.QoS) },
				},
			)
			ctx, cancel := context.WithTimeout(t.Context(), 4*time.Second)
			defer cancel()
			if _, err := watcher.Connect(ctx); err != nil {
				t.Fatal(err)
			}
			if _, err := watcher.Subscribe(ctx, []packet.Subscription{{Filter: topic, QoS: 2}}); err != nil {
				t.Fatal(err)
			}
			r.m.Set(x.rules...)
			r.id = "pen-" + strings.ReplaceAll(x.name, " ", "-")
			r.c = r.m.device(r.id, packet.V311, nil)
			if _, err := r.c.Connect(ctx); err != nil {
				t.Fatal(err)
			}
			start := time.Now()
			one, err := r.c.Start(packet.Publish{Topic: topic, QoS: 1, Payload: []byte("one")})
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasPrefix(x.name, "delay") || strings.HasPrefix(x.name, "throttle") {
				one.Wait(ctx)
			}
			time.Sleep(20 * time.Millisecond)
			two, err := r.c.Start(packet.Publish{Topic: topic, QoS: 1, Payload: []byte("two")})
			if err == nil {
				short, cancel := context.WithTimeout(ctx, 1500*time.Millisecond)
				defer cancel()
				if _, err = one.Wait(short); err == nil {
					_, err = two.Wait(short)
				}
			}
			r.err, r.took = err, time.Since(start)
			for quiet := false; !quiet; {
				select {
				case text := <-got:
					r.got = append(r.got, text)
				case <-time.After(300 * time.Millisecond):
					quiet = true
				}
			}
			x.check(t, r)
			r.c.Close()
			watcher.Disconnect(0)
		})
	}
	t.Run("refuse", func(t *testing.T) {
		m := open(t, "mqtt", s.Dial, tap.Options{})
		m.Set(tap.Rule{Do: tap.Refuse, Type: packet.CONNECT, Code: packet.ServerBusy, Most: 1})
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		c := m.device("pen", packet.V5, nil)
		if ack, err := c.Connect(ctx); err == nil || ack == nil || ack.Code != packet.ServerBusy {
			t.Errorf("%+v %v", ack, err)
		}
		if _, err := c.Connect(ctx); err != nil {
			t.Error(err)
		}
		c.Disconnect(0)
	})
	t.Run("what CONNACK grants", func(t *testing.T) {
		m := open(t, "mqtt", s.Dial, tap.Options{})
		rule, err := tap.ParseRule("{alter: CONNACK, toward: device, grants: {receive-maximum: 7, maximum-qos: 0}}")
		if err != nil || rule.String() != "alter CONNACK toward the device: maximum QoS 0, receive maximum 7" {
			t.Error(rule.String(), err)
		}
		m.Set(rule)
		c := m.device("pen", packet.V5, nil)
		ack, err := c.Connect(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		most, _ := ack.Properties.Int(packet.ReceiveMaximum)
		if qos, told := ack.Properties.Int(packet.MaximumQoS); most != 7 || !told || qos != 0 {
			t.Errorf("%+v", ack.Properties)
		}
		if _, err := c.Publish(t.Context(), packet.Publish{Topic: "v/x", QoS: 1}); err == nil {
			t.Error("QoS 1 above what was granted")
		}
		c.Disconnect(0)
		for text, want := range map[string]string{
			"{alter: CONNACK, qos: 1}":                       "grants",
			"{drop: CONNACK, grants: {receive-maximum: 1}}":  "are of CONNACK",
			"{alter: CONNACK, grants: {receive-maximum: 0}}": "from 1 to 65535",
			"{alter: CONNACK, grants: {maximum-qos: 2}}":     "from 0 to 1",
			"{alter: CONNACK, grants: {patience: 2}}":        "there are: maximum-packet-size",
			"{alter: CONNACK, grants: 3}":                    "no map",
			"{repeat: PUBLISH, dup: 2}":                      "neither true nor false",
			"{gather: PUBLISH, times: 1}":                    "too small",
		} {
			if _, err := tap.ParseRule(text); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v, want %q", text, err, want)
			}
		}
	})
	if m := open(t, "mqtt", func(context.Context) (*link.Link, error) { return nil, io.EOF }, tap.Options{}); true {
		if _, err := m.device("pen", packet.V5, nil).Connect(t.Context()); err == nil {
			t.Error("in, without a broker")
		}
		if _, err := m.Listen("mqtts://127.0.0.1:0", nil); err == nil || !strings.Contains(err.Error(), "certificate") {
			t.Error(err)
		}
		if _, err := m.Listen(m.url, nil); err == nil || !strings.Contains(err.Error(), "cannot listen") {
			t.Error(err)
		}
	}
}

// BenchmarkTap: messages of 64 bytes at QoS 0 through the tap, traced in memory, beside the same without it.
func BenchmarkTap(b *testing.B) {
	for _, kind := range []string{"without", "through the tap"} {
		b.Run(kind, func(b *testing.B) {
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				b.Fatal(err)
			}
			defer ln.Close()
			address := ln.Addr().String()
			if kind != "without" {
				m := open(
					b,
					"mqtt",
					func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+ln.Addr().String()) },
					tap.Options{},
				)
				address = strings.TrimPrefix(m.url, "mqtt://")
			}
			device, err := net.Dial("tcp", address)
			if err != nil {
				b.Fatal(err)
			}
			defer device.Close()
			broker, err := ln.Accept()
			if err != nil {
				b.Fatal(err)
			}
			defer broker.Close()
			hello := (&packet.Connect{ClientID: "a", CleanStart: true}).Append(nil, packet.V311)
			message := (&packet.Publish{Topic: "a/b/c", Payload: bytes.Repeat([]byte("x"), 64)}).Append(
				nil,
				packet.V311,
			)
			device.Write(hello)
			io.ReadFull(broker, make([]byte, len(hello)))
			one := make([]byte, len(message))
			var took []time.Duration
			for range 500 { // there, one at a time
				start := time.Now()
				device.Write(message)
				io.ReadFull(broker, one)
				took = append(took, time.Since(start))
			}
			slices.Sort(took)
			const piece = 100
			many := bytes.Repeat(message, piece)
			b.ResetTimer()
			go func() {
				for range b.N/piece + 1 {
					device.Write(many)
				}
			}()
			in := make([]byte, len(many))
			for range b.N/piece + 1 {
				io.ReadFull(broker, in)
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "messages/s")
			b.ReportMetric(float64(took[len(took)/2].Microseconds()), "µs-median")
		})
	}
}

// FuzzRules: whatever is written as a rule is a rule or an error, and a rule says what it does.
func FuzzRules(f *testing.F) {
	for _, text := range []string{"{drop: PUBACK, toward: device, nth: 3}", "{delay: all, by: 1s}", "{alter: PUBLISH, qos: 9}", "[1]", "{refuse: CONNECT, code: 0x89, name: \"\x1b[31m\"}"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := tap.ParseRule(text)
		if (err == nil) != (r.Do != "" && err == nil) || err == nil && r.String() == "" {
			t.Errorf("%q: %+v %v", text, r, err)
		}
	})
}

// TestTheTapIsNotHeldUp: neither by a device that reads nothing, nor by many that come while it is closed.
func TestTheTapIsNotHeldUp(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	message := (&packet.Publish{Topic: "a/b", Payload: make([]byte, 60_000)}).Append(nil, packet.V311)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for err := error(nil); err == nil; {
					_, err = c.Write(message)
				}
			}()
		}
	}()
	within := func(what string, do func()) {
		t.Helper()
		done := make(chan struct{})
		go func() { defer close(done); do() }()
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			t.Fatalf("%s is held up", what)
		}
	}
	hello := (&packet.Connect{ClientID: "a", CleanStart: true}).Append(nil, packet.V311)
	for round := range 4 {
		m := open(
			t,
			"mqtt",
			func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+ln.Addr().String()) },
			tap.Options{},
		)
		var coming sync.WaitGroup
		for range 30 {
			coming.Go(func() {
				if c, err := net.Dial("tcp", strings.TrimPrefix(m.url, "mqtt://")); err == nil {
					t.Cleanup(func() { c.Close() })
					c.Write(hello)
				}
			})
		}
		if round%2 == 0 { // all are in, and their links are full
			coming.Wait()
			time.Sleep(200 * time.Millisecond)
		}
		within("Set", func() { m.Set(tap.Rule{Do: tap.Delay, By: time.Hour}) })
		within("Set", func() { m.Set() })
		within("Close", m.Close)
		coming.Wait()
	}
}
