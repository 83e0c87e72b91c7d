package client_test

import (
	"bytes"
	"context"
	"errors"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// TestAStream: a thousand messages at QoS 1 and 2 come as a stream, while the client sends its own. All are acknowledged in their order
// (§4.6), also those before a packet whose other half is held back, and at the end, when nothing follows with which the
// answers could go out.
func TestAStream(t *testing.T) {
	const some, half = 1000, 700 // after which half a packet comes
	for name, opt := range map[string]client.Options{
		"nobody looks on": {},
		"somebody is told": {Hooks: client.Hooks{
			Sent: func(packet.Packet, []byte) {}, Received: func(packet.Packet, []byte, error) {}}},
	} {
		t.Run(name, func(t *testing.T) {
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer ln.Close()
			var heard, done atomic.Int32
			var before int32
			opt.Version, opt.Connect = packet.V311, packet.Connect{ClientID: "c", CleanStart: true}
			opt.Dial = func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+ln.Addr().String()) }
			opt.Message = func(*packet.Publish) { heard.Add(1) }
			opt.Completed = func(*packet.Publish, packet.ReasonCode, error) { done.Add(1) }
			c := client.New(opt)
			entered, sends := make(chan error, 1), make(chan error, 1)
			go func() { _, err := c.Connect(t.Context()); entered <- err }()
			peer, err := ln.Accept()
			if err != nil {
				t.Fatal(err)
			}
			defer peer.Close()
			peer.SetDeadline(time.Now().Add(20 * time.Second))
			var writing sync.Mutex
			write := func(b []byte) {
				writing.Lock()
				defer writing.Unlock()
				peer.Write(b)
			}
			say := func(p packet.Packet) { write(p.Append(nil, packet.V311)) }
			from := packet.NewReader(peer, packet.V311)
			from.Next()
			say(&packet.Connack{})
			if err := <-entered; err != nil {
				t.Fatal(err)
			}
			acked := make(chan uint16, 2*some)
			theirs := make(chan error, 1)
			go func() {
				for {
					p, _, err := from.Next()
					switch p := p.(type) {
					case *packet.Puback:
						acked <- p.ID
					case *packet.Pubrec:
						acked <- p.ID
					case *packet.Publish:
						say(&packet.Puback{Ack: id(p.ID)})
					}
					if err != nil {
						theirs <- err
						return
					}
				}
			}()
			inOrder := func(from, to int) {
				t.Helper()
				for n := from; n <= to; n++ {
					select {
					case got := <-acked:
						if int(got) != n {
							t.Fatalf("#%d was acknowledged after #%d", got, n-1)
						}
					case <-time.After(10 * time.Second):
						t.Fatalf("#%d was not acknowledged", n)
					}
				}
			}
			go func() {
				var failed error
				for n := range 300 {
					c.Gather(func() {
						_, err := c.Start(packet.Publish{Topic: "own", Payload: []byte{byte(n)}, QoS: 1})
						failed = errors.Join(failed, err)
					})
				}
				sends <- failed
			}()
			for begin := time.Now(); time.Since(begin) < 60*time.Millisecond; time.Sleep(time.Millisecond) { // so that it is one
				for range 20 {
					say(&packet.Publish{Topic: "t"})
					before++
				}
			}
			var last []byte
			for n := 1; n <= some; n++ {
				m := packet.Publish{ID: uint16(n), Topic: "t", QoS: packet.QoS(1 + n%2), Payload: bytes.Repeat([]byte{7}, n%300)}
				raw := m.Append(nil, packet.V311)
				switch {
				case n == half-200:
					if err := <-sends; err != nil {
						t.Fatal(err)
					}
					for end := time.Now().Add(10 * time.Second); done.Load() < 300 && time.Now().Before(end); {
						time.Sleep(time.Millisecond)
					}
				case n > half-5 && n <= half:
					last = append(last, raw...)
					continue
				case n == half+1:
					write(append(last, raw[:3]...))
					inOrder(1, half)
					raw = raw[3:]
				}
				write(raw)
			}
			inOrder(half+1, some)
			if heard.Load() != some+before || done.Load() != 300 {
				t.Errorf("%d of %d messages heard, %d of 300 of its own completed", heard.Load(), some, done.Load())
			}
			c.Close()
			<-theirs
		})
	}
}

// TestWhatIsSaidLastIsHeard: the broker sends two messages, says why it leaves, and is gone before their acknowledgements are
// written. That they cannot be does not hide what it said.
func TestWhatIsSaidLastIsHeard(t *testing.T) {
	gone := make(chan bool)
	waits := func(o *client.Options) { o.Message = func(*packet.Publish) { <-gone } }
	converse(t, packet.V5, waits, &packet.Connack{}, func(t *testing.T, c *client.Client, s *script, _ *events) {
		half := make([]byte, 40) // the two fill the first read
		s.send(&packet.Publish{Topic: "a", QoS: 1, ID: 1, Payload: half}, &packet.Publish{Topic: "a", QoS: 1, ID: 2, Payload: half},
			&packet.Disconnect{Code: packet.QuotaExceeded})
		s.link.Close()
		close(gone)
		<-c.Done()
		if err := c.Ended(); err == nil || !strings.Contains(err.Error(), "quota exceeded") {
			t.Errorf("ended with %v", err)
		}
	})
}
