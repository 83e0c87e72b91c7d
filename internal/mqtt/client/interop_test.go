package client_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trust"
)

// box keeps the messages that a client gets.
type box struct {
	mu  sync.Mutex
	got []*packet.Publish
}

func (b *box) put(m *packet.Publish) { b.mu.Lock(); b.got = append(b.got, m); b.mu.Unlock() }

// await waits for a message on the topic, takes it out and returns it.
func (b *box) await(t *testing.T, topic string) *packet.Publish {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(time.Millisecond) {
		b.mu.Lock()
		for i, m := range b.got {
			if m.Topic == topic {
				b.got = append(b.got[:i], b.got[i+1:]...)
				b.mu.Unlock()
				return m
			}
		}
		b.mu.Unlock()
		if time.Now().After(end) {
			t.Fatalf("nothing came on %s", topic)
		}
	}
}

func ctxFor(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	t.Cleanup(cancel)
	return ctx
}

// TestWithTheDebianBroker: a whole conversation over every transport in every version, with and
// without a client certificate.
func TestWithTheDebianBroker(t *testing.T) {
	for _, name := range []string{"tcp", "tls", "ws", "wss", "tls with client certificate"} {
		for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
			t.Run(name+" in "+v.String(), func(t *testing.T) {
				t.Parallel()
				// A broker of its own: this one may end a TLS link when another's is cut (docs/deviations.md).
				broker := brokertest.Start(t, brokertest.Options{})
				url := broker.URLs[name]
				config := &tls.Config{RootCAs: broker.CA}
				if strings.HasSuffix(name, "certificate") {
					config.Certificates = []tls.Certificate{broker.Client}
				}
				unit := 19_000
				if strings.HasPrefix(name, "ws") {
					unit = 1_000 // its WebSocket is slow with larger ones (docs/deviations.md)
				}
				conversation(
					t,
					v,
					unit,
					func(ctx context.Context) (*link.Link,
						error) {
						return link.Dial(ctx, url, link.Options{TLS: config})
					},
				)
			})
		}
	}
}

// TestWithTheStandIn holds our own broker to the same conversation.
func TestWithTheStandIn(t *testing.T) {
	kit, err := trust.NewKit("c", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	s, err := standin.New(
		standin.Options{Logins: []standin.Login{{Name: brokertest.Username, Password: brokertest.Password}}},
	)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, scheme := range []string{"mqtt", "mqtts", "ws", "wss"} {
		url, _, err := s.ListenURL(scheme+"://127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{kit.Server}})
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
			t.Run(scheme+" in "+v.String(), func(t *testing.T) {
				conversation(t, v, 19_000, func(ctx context.Context) (*link.Link, error) {
					return link.Dial(ctx, url, link.Options{TLS: &tls.Config{RootCAs: kit.Pool()}})
				})
			})
		}
	}
}

// conversation goes through what a client does, with payloads of up to 16 units of bytes.
func conversation(t *testing.T, v packet.Version, unit int, dial func(context.Context) (*link.Link, error)) {
	ctx := ctxFor(t)
	root := fmt.Sprintf("farm/%d", rand.Uint32())
	in := &box{}
	make := func(id string, change func(*client.Options)) *client.Client {
		o := client.Options{
			Dial:    dial,
			Version: v,
			Message: in.put,
			Connect: packet.Connect{
				ClientID:    fmt.Sprintf("%s%d", id, rand.Uint32N(1e6)),
				CleanStart:  true,
				KeepAlive:   30,
				HasUsername: true,
				Username:    brokertest.Username,
				HasPassword: true,
				Password:    []byte(brokertest.Password),
			},
		}
		if change != nil {
			change(&o)
		}
		c := client.New(o)
		if _, err := c.Connect(ctx); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Disconnect(0) })
		return c
	}
	five := v == packet.V5
	a := make("a", func(o *client.Options) {
		o.Connect.CleanStart = false
		if five {
			o.Connect.Properties = packet.Properties{
				packet.Int(packet.SessionExpiry, 60),
				packet.Int(packet.ReceiveMaximum, 2),
				packet.Int(packet.TopicAliasMaximum, 4),
			}
		}
	})
	b := make("b", func(o *client.Options) {
		o.UseAliases = five
		o.Message = nil
		o.Connect.Will = &packet.Will{Topic: root + "/will", Payload: []byte("lost"), QoS: 1}
	})
	ack, err := a.Subscribe(ctx, []packet.Subscription{{Filter: root + "/+", QoS: 2}, {Filter: root + "/q0", QoS: 0}})
	if err != nil || ack.Codes[0] != 2 || ack.Codes[1] != 0 {
		t.Fatal(ack, err)
	}
	big := bytes.Repeat([]byte("0123456789abcdef"), 20_000)
	for qos := packet.QoS(0); qos <= 2; qos++ {
		for n := range 5 {
			topic := fmt.Sprintf("%s/m%d%d", root, qos, n)
			if _, err := b.Publish(ctx, packet.Publish{Topic: topic, QoS: qos, Payload: big[:n*n*unit]}); err != nil {
				t.Fatal(err)
			}
			if m := in.await(t, topic); m.QoS != qos || len(m.Payload) != n*n*unit {
				t.Errorf("%s: QoS %d, %d bytes", topic, m.QoS, len(m.Payload))
			}
		}
	}
	if _, err := a.Ping(ctx); err != nil {
		t.Error(err)
	}
	// Away and back: what waited comes, the session is there.
	a.Cut()
	for n := range 4 {
		if _, err := b.Publish(ctx, packet.Publish{Topic: fmt.Sprintf("%s/w%d", root, n),
			QoS: 1 + packet.QoS(n%2)}); err != nil {
			t.Fatal(err)
		}
	}
	back, err := a.Connect(ctx)
	if err != nil || back.SessionPresent != (v != packet.V31) && !(v == packet.V31 && back.SessionPresent) {
		t.Fatalf("back with session present %v: %v", back.SessionPresent, err)
	}
	for n := range 4 {
		in.await(t, fmt.Sprintf("%s/w%d", root, n))
	}
	b.Cut()
	in.await(t, root+"/will")
	if _, err := b.Connect(ctx); err != nil {
		t.Fatal(err)
	}
	if five {
		if _, err := b.Subscribe(ctx, []packet.Subscription{{Filter: root + "/ask", QoS: 1}},
			packet.Int(packet.SubscriptionIdentifier, 5)); err != nil {
			t.Error(err)
		}
		s := make("s", nil)
		if ack, err := s.Subscribe(ctx, []packet.Subscription{{Filter: "$share/crew/" + root + "/shared",
			QoS: 1}}); err != nil ||
			ack.Codes[0] != 1 {
			t.Error(ack, err)
		}
		b.Publish(
			ctx,
			packet.Publish{
				Topic:      root + "/shared",
				QoS:        1,
				Properties: packet.Properties{packet.User("k", "v"), packet.Str(packet.ContentType, "text/plain")},
			},
		)
		if m := in.await(t, root+"/shared"); len(m.Properties) < 2 {
			t.Errorf("%v", m.Properties)
		}
	}
	if ack, err := a.Unsubscribe(ctx, root+"/+"); err != nil || five && ack.Codes[0] != 0 {
		t.Error(ack, err)
	}
	wrong := client.New(
		client.Options{
			Dial:    dial,
			Version: v,
			Connect: packet.Connect{
				ClientID:    "x",
				CleanStart:  true,
				HasUsername: true,
				Username:    "bench",
				HasPassword: true,
				Password:    []byte("wrong"),
			},
		},
	)
	var refused *client.RefusedError
	if _, err := wrong.Connect(ctx); !errors.As(err, &refused) {
		t.Errorf("a wrong password: %v", err)
	}
}

// TestOldTLSOnlyWhereItIsAskedFor: TLS below 1.2 against a listener of our own.
func TestOldTLSOnlyWhereItIsAskedFor(t *testing.T) {
	kit, err := trust.NewKit("c", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	for _, version := range []uint16{tls.VersionTLS10, tls.VersionTLS11, tls.VersionTLS12, tls.VersionTLS13} {
		s, err := standin.New(standin.Options{Anonymous: true})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		url, _, err := s.ListenURL(
			"mqtts://127.0.0.1:0",
			&tls.Config{Certificates: []tls.Certificate{kit.Server}, MinVersion: version, MaxVersion: version},
		)
		if err != nil {
			t.Fatal(err)
		}
		for _, asked := range []bool{false, true} {
			config := &tls.Config{RootCAs: kit.Pool()}
			if asked {
				config.MinVersion = tls.VersionTLS10
			}
			c := client.New(client.Options{Version: packet.V5, Connect: packet.Connect{ClientID: "c", CleanStart: true},
				Dial: func(ctx context.Context) (*link.Link,
					error) {
					return link.Dial(ctx, url, link.Options{TLS: config})
				}})
			_, err := c.Connect(ctxFor(t))
			if in := asked || version >= tls.VersionTLS12; in != (err == nil) {
				t.Errorf("%s, asked for %v: %v", tls.VersionName(version), asked, err)
			}
			c.Disconnect(0)
		}
	}
}

// steady is a client that comes back by itself, with a kept session.
type steady struct {
	*client.Client
	present []bool // session present, of each connection
}

func (s *steady) enter(t *testing.T) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		ack, err := s.Connect(ctx)
		cancel()
		if err == nil {
			s.present = append(s.present, ack.SessionPresent)
			return
		}
		if time.Now().After(end) {
			t.Fatalf("it does not come back: %v", err)
		}
	}
}

// TestNothingIsLostOverCutsAndRestarts: QoS 1 and 2 under way all the time, while links are cut
// 20 times and the broker is restarted 5 times. At QoS 2 everything arrives just once, at QoS
// 1 at least once.
func TestNothingIsLostOverCutsAndRestarts(t *testing.T) {
	broker := brokertest.Start(
		t,
		brokertest.Options{
			Anonymous:   true,
			Persistence: true,
			Lines:       "max_queued_messages 0\nmax_inflight_messages 100\n",
		},
	)
	url := broker.URLs["tcp"]
	var mu sync.Mutex
	got := map[string]int{}
	var told []string
	resent, watch := released(&mu)
	kept := func(id string, message func(*packet.Publish)) *steady {
		return &steady{
			Client: client.New(
				client.Options{
					Version: packet.V5,
					Message: message,
					Dial:    func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, url) },
					Connect: packet.Connect{
						ClientID:   id,
						KeepAlive:  10,
						Properties: packet.Properties{packet.Int(packet.SessionExpiry, 3600)},
					},
					Hooks: client.Hooks{Received: func(p packet.Packet, raw []byte, err error) {
						if message != nil {
							watch(p, raw, err)
						}
					}, Link: func(e client.LinkEvent, _ client.Blame, text string) {
						if e == client.SessionLost {
							mu.Lock()
							told = append(told, text)
							mu.Unlock()
						}
					}},
				},
			),
		}
	}
	sub := kept("sub", func(m *packet.Publish) { mu.Lock(); got[string(m.Payload)]++; mu.Unlock() })
	pub := kept("pub", nil)
	sub.enter(t)
	pub.enter(t)
	defer sub.Disconnect(0)
	defer pub.Disconnect(0)
	if _, err := sub.Subscribe(ctxFor(t), []packet.Subscription{{Filter: "flow/#", QoS: 2}}); err != nil {
		t.Fatal(err)
	}
	sent := 0
	var under []*client.Publication
	publish := func(n int) {
		for range n {
			pubn, err := pub.Start(
				packet.Publish{
					Topic:   fmt.Sprint("flow/", sent%7),
					QoS:     1 + packet.QoS(sent%2),
					Payload: fmt.Append(nil, "q", 1+sent%2, "-", sent),
				},
			)
			if errors.Is(err, client.ErrNotConnected) {
				pub.enter(t)
				continue
			} else if err != nil && pubn == nil {
				t.Fatal(err)
			}
			under = append(under, pubn)
			sent++
		}
	}
	comeBack := func() {
		if !pub.Connected() {
			pub.enter(t)
		}
		if !sub.Connected() {
			sub.enter(t)
		}
	}
	for round := range 25 {
		publish(60)
		switch {
		case round%5 == 4:
			broker.Stop()
			broker.Run()
			<-pub.Done()
			<-sub.Done()
		case round%2 == 0:
			pub.Cut()
		default:
			sub.Cut()
		}
		comeBack()
		publish(20)
	}
	settled := func() (missing []string) {
		mu.Lock()
		defer mu.Unlock()
		for n := range sent {
			if k := fmt.Sprintf("q%d-%d", 1+n%2, n); got[k] == 0 {
				missing = append(missing, k)
			}
		}
		return missing
	}
	for end := time.Now().Add(30 * time.Second); len(settled()) > 0 &&
		time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		comeBack()
	}
	if missing := settled(); len(missing) > 0 {
		t.Errorf("%d of %d are missing: %.200v", len(missing), sent, missing)
	}
	mu.Lock()
	for k, n := range got {
		switch again := resent[k]; {
		case !strings.HasPrefix(k, "q2") || n == 1:
		case again == n-1:
			t.Logf("%s: the broker sent PUBLISH again after it had sent PUBREL (docs/deviations.md)", k)
		default:
			t.Errorf("%s arrived %d times", k, n)
		}
	}
	if len(told) > 0 {
		t.Errorf("lost: %v", told)
	}
	mu.Unlock()
	for _, p := range under {
		if _, err := p.Wait(ctxFor(t)); err != nil {
			t.Errorf("%v", err)
			break
		}
	}
	if n := len(pub.present); n < 12 {
		t.Errorf("the publisher connected %d times", n)
	}
}

// released watches for what no sender may do: PUBLISH again after PUBREL (§4.3.3). It
// returns how often it was done, by payload; mu guards that.
func released(mu *sync.Mutex) (again map[string]int, received func(packet.Packet, []byte, error)) {
	again = map[string]int{}
	last, rel := map[uint16]string{}, map[uint16]bool{}
	return again, func(p packet.Packet, _ []byte, _ error) {
		mu.Lock()
		defer mu.Unlock()
		switch p := p.(type) {
		case *packet.Publish:
			if p.QoS == 2 {
				if rel[p.ID] && p.Dup && last[p.ID] == string(p.Payload) {
					again[string(p.Payload)]++
				}
				last[p.ID], rel[p.ID] = string(p.Payload), false
			}
		case *packet.Pubrel:
			rel[p.ID] = true
		}
	}
}

// TestTheLossOfASessionIsTold: a broker that is killed forgets, and which publications that
// may have cost is listed.
func TestTheLossOfASessionIsTold(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true, Persistence: true})
	var told []string
	c := client.New(
		client.Options{
			Version: packet.V311,
			Dial:    func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, broker.URLs["tcp"]) },
			Connect: packet.Connect{ClientID: "pub", KeepAlive: 10},
			// Acknowledgements that are lost leave the publications under way.
			Take: func(p packet.Packet) bool { return p.Type() == packet.PUBACK || p.Type() == packet.PUBREC },
			Hooks: client.Hooks{Link: func(e client.LinkEvent, _ client.Blame, text string) {
				if e == client.SessionLost {
					told = append(told, text)
				}
			}},
		},
	)
	s := &steady{Client: c}
	s.enter(t)
	defer c.Disconnect(0)
	var under []*client.Publication
	for n := range 3 {
		p, err := c.Start(packet.Publish{Topic: fmt.Sprint("pen/", n), QoS: 1 + packet.QoS(n%2)})
		if err != nil {
			t.Fatal(err)
		}
		under = append(under, p)
	}
	if _, err := c.Ping(ctxFor(t)); err != nil {
		t.Fatal(err)
	}
	broker.Kill()
	<-c.Done()
	broker.Run()
	s.enter(t)
	want := "session present 0; these 3 publications may be lost: #1 to pen/0 (QoS 1) #2 to pen/1 (QoS 2) #3 to pen/2 (QoS 1)"
	if s.present[1] || len(told) != 1 || told[0] != want {
		t.Errorf("session present %v, told %q", s.present, told)
	}
	for _, p := range under {
		if _, err := p.Wait(ctxFor(t)); !errors.Is(err, client.ErrSessionLost) {
			t.Error(err)
		}
	}
}
