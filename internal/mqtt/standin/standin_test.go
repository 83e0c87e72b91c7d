package standin_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	faults "hodstone/internal/mqtt/standin/fault"
)

// peer is a client that keeps what it is sent.
type peer struct {
	*client.Client
	mu   sync.Mutex
	got  []*packet.Publish
	seen []string // packet types received, with codes
}

func newPeer(t *testing.T, s *standin.Server, v packet.Version, id string, change ...func(*client.Options)) *peer {
	t.Helper()
	p := &peer{}
	o := client.Options{
		Dial:    s.Dial,
		Version: v,
		Connect: packet.Connect{ClientID: id, CleanStart: true, KeepAlive: 60},
		Message: func(m *packet.Publish) { p.mu.Lock(); p.got = append(p.got, m); p.mu.Unlock() },
		Hooks: client.Hooks{Received: func(pk packet.Packet, _ []byte, err error) {
			p.mu.Lock()
			p.seen = append(p.seen, fmt.Sprintf("%T", pk)[8:])
			p.mu.Unlock()
		}},
	}
	for _, f := range change {
		f(&o)
	}
	p.Client = client.New(o)
	return p
}

func (p *peer) connect(t *testing.T) *packet.Connack {
	t.Helper()
	ack, err := p.Connect(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return ack
}

func (p *peer) subscribe(t *testing.T, filter string, qos packet.QoS) {
	t.Helper()
	if _, err := p.Subscribe(context.Background(), []packet.Subscription{{Filter: filter, QoS: qos}}); err != nil {
		t.Fatal(err)
	}
}

func (p *peer) publish(t *testing.T, m packet.Publish) {
	t.Helper()
	if _, err := p.Publish(context.Background(), m); err != nil {
		t.Fatal(err)
	}
}

// messages waits until all is still and returns what came, as "topic=payload qN" with an
// R for retained and a D for DUP.
func (p *peer) messages() string {
	synctest.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []string
	for _, m := range p.got {
		s := fmt.Sprintf("%s=%s q%d", m.Topic, m.Payload, m.QoS)
		if m.Retain {
			s += "R"
		}
		if m.Dup {
			s += "D"
		}
		out = append(out, s)
	}
	p.got = nil
	return strings.Join(out, ", ")
}

// converse runs a conversation with a faithful stand-in in both versions on the fake
// clock, and fails if a goroutine outlives it.
func converse(t *testing.T, o standin.Options, f func(t *testing.T, s *standin.Server, v packet.Version)) {
	for _, v := range []packet.Version{packet.V31, packet.V311, packet.V5} {
		t.Run("version "+v.String(), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s, err := standin.New(o)
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				f(t, s, v)
			})
		})
	}
}

func expect(t *testing.T, what, got, want string) {
	t.Helper()
	if got != want {
		t.Errorf("%s: got %q, want %q", what, got, want)
	}
}

func TestMessagesAtEveryQoSAndRetained(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		a, b := newPeer(t, s, v, "a"), newPeer(t, s, v, "b")
		a.connect(t)
		b.connect(t)
		b.subscribe(t, "x/+", 1)
		for q := range packet.QoS(3) {
			a.publish(t, packet.Publish{Topic: "x/y", QoS: q, Retain: true, Payload: []byte{'0' + byte(q)}})
		}
		expect(t, "live", b.messages(), "x/y=0 q0, x/y=1 q1, x/y=2 q1")
		b.subscribe(t, "#", 2)
		expect(t, "greeting", b.messages(), "x/y=2 q2R")
		a.publish(t, packet.Publish{Topic: "x/y", QoS: 1, Retain: true})
		expect(t, "two filters, one copy, flag 0", b.messages(), "x/y= q1")
		b.subscribe(t, "x/y", 2)
		expect(t, "cleared", b.messages(), "")
		if _, err := b.Unsubscribe(context.Background(), "x/+", "#", "x/y"); err != nil {
			t.Fatal(err)
		}
		a.publish(t, packet.Publish{Topic: "x/y", QoS: 2, Payload: []byte("unheard")})
		expect(t, "after UNSUBACK", b.messages(), "")
		if d, err := a.Ping(context.Background()); err != nil || d < 0 {
			t.Error(d, err)
		}
		a.Disconnect(0)
		b.Close()
	})
}

func TestWills(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		w := newPeer(t, s, v, "w")
		w.connect(t)
		w.subscribe(t, "will/#", 2)
		for _, end := range []struct {
			name string
			do   func(*peer)
			want string
		}{
			{"cut", func(p *peer) { p.Cut() }, "will/x=gone q1"},
			{"close", func(p *peer) { p.Close() }, "will/x=gone q1"},
			{"goodbye", func(p *peer) { p.Disconnect(0) }, ""},
			{"silence", func(p *peer) { p.Freeze(); time.Sleep(16 * time.Second) }, "will/x=gone q1"},
			{"takeover", func(p *peer) { newPeer(t, s, v, "x").connect(t) }, "will/x=gone q1"},
		} {
			p := newPeer(t, s, v, "x", func(o *client.Options) {
				o.Connect.KeepAlive = 10
				o.Connect.Will = &packet.Will{Topic: "will/x", Payload: []byte("gone"), QoS: 1}
			})
			p.connect(t)
			end.do(p)
			expect(t, end.name, w.messages(), end.want)
			p.Close()
		}
		if v == packet.V5 {
			late := newPeer(t, s, v, "late", func(o *client.Options) {
				o.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 60)}
				o.Connect.Will = &packet.Will{
					Topic:      "will/late",
					Payload:    []byte("gone"),
					Properties: packet.Properties{packet.Int(packet.WillDelay, 20)},
				}
			})
			late.connect(t)
			late.Cut()
			time.Sleep(19 * time.Second)
			expect(t, "before its delay", w.messages(), "")
			time.Sleep(2 * time.Second)
			expect(t, "after its delay", w.messages(), "will/late=gone q0")
			late.connect(t)
			late.Disconnect(packet.DisconnectWithWill)
			time.Sleep(21 * time.Second)
			expect(t, "asked for", w.messages(), "will/late=gone q0")
		}
		for _, c := range s.Clients() {
			s.ThrowOut(c.ID)
		}
	})
}

func TestSessionsAreKeptAndFlowsResume(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		var drop packet.Type // a type of packet that b does not act on
		b := newPeer(t, s, v, "b", func(o *client.Options) {
			o.Connect.CleanStart = false
			if v == packet.V5 {
				o.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 100)}
			}
			o.Take = func(p packet.Packet) bool { return p.Type() == drop }
		})
		a := newPeer(t, s, v, "a")
		a.connect(t)
		a.subscribe(t, "from-b", 2)
		present := func(want bool) {
			t.Helper()
			if ack := b.connect(t); ack.SessionPresent != (want && v != packet.V31) {
				t.Errorf("session present %v", ack.SessionPresent)
			}
		}
		present(false)
		b.subscribe(t, "to-b", 2)
		b.Cut()
		synctest.Wait()
		for q := range packet.QoS(3) {
			a.publish(t, packet.Publish{Topic: "to-b", QoS: q, Payload: []byte{'0' + byte(q)}})
		}
		drop = packet.PUBREL
		present(true)
		expect(t, "what waited", b.messages(), "to-b=1 q1, to-b=2 q2")
		b.Cut()
		drop = 0
		present(true)
		expect(t, "only the PUBREL again", b.messages(), "")

		for _, lost := range []packet.Type{packet.PUBREC, packet.PUBCOMP} {
			drop = lost
			pub, err := b.Start(packet.Publish{Topic: "from-b", QoS: 2, Payload: []byte("once")})
			if err != nil {
				t.Fatal(err)
			}
			synctest.Wait()
			b.Cut()
			drop = 0
			present(true)
			if _, err := pub.Wait(context.Background()); err != nil {
				t.Error(err)
			}
			expect(t, "with "+lost.String()+" lost", a.messages(), "from-b=once q2")
		}
		if v == packet.V5 {
			b.Disconnect(0)
			time.Sleep(101 * time.Second)
			present(false)
		}
		b.Disconnect(0)
		a.Disconnect(0)
	})
}

func TestWhoIsLetIn(t *testing.T) {
	converse(
		t,
		standin.Options{Logins: []standin.Login{{Name: "barge", Password: "fish"}}},
		func(t *testing.T, s *standin.Server, v packet.Version) {
			for _, tt := range []struct{ user, password, want string }{
				{"barge", "fish", "in"}, {"barge", "meat", "bad user name or password"},
				{"quay", "fish", "bad user name or password"}, {"", "", "not authorized"},
			} {
				p := newPeer(t, s, v, "p", func(o *client.Options) {
					if tt.user != "" {
						o.Connect.HasUsername, o.Connect.Username = true, tt.user
						o.Connect.HasPassword, o.Connect.Password = true, []byte(tt.password)
					}
				})
				_, err := p.Connect(context.Background())
				got := "in"
				var refused *client.RefusedError
				if errors.As(err, &refused) {
					got = refused.Code.In(packet.CONNACK, v)
				} else if err != nil {
					got = err.Error()
				}
				expect(t, tt.user+":"+tt.password, got, tt.want)
				p.Close()
			}
		},
	)
}

func TestTheStandInEndsWhoBreaksTheRules(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		watcher := newPeer(t, s, v, "watcher")
		watcher.connect(t)
		for name, raw := range map[string]string{
			"reserved type": "\x00\x00", "CONNECT twice": string((&packet.Connect{ClientID: "p",
				CleanStart: true}).Append(nil, v)),
			"QoS 3": "\x36\x05\x00\x01a\x00\x01", "wildcard topic": "\x30\x03\x00\x01#",
			"SUBACK": "\x90\x03\x00\x01\x00",
		} {
			p := newPeer(t, s, v, "p")
			p.connect(t)
			if err := p.SendRaw([]byte(raw)); err != nil {
				t.Fatal(err)
			}
			select {
			case <-p.Done():
			case <-time.After(time.Second):
				t.Errorf("%s: still connected", name)
			}
			if got := strings.Join(p.seen, " "); (v == packet.V5) != strings.Contains(got, "Disconnect") {
				t.Errorf("%s: got %s", name, got)
			}
		}
		if _, err := watcher.Ping(context.Background()); err != nil {
			t.Error("another client was harmed:", err)
		}
		mute, err := s.Dial(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := mute.Read(make([]byte, 1)); err == nil || mute.End() != link.EndFIN {
			t.Errorf("a link without CONNECT: %v, %s", err, mute.End())
		}
		watcher.Disconnect(0)
	})
}

func TestVersion5OptionsAndProperties(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		p := newPeer(t, s, packet.V5, "", func(o *client.Options) {
			o.Connect.Properties = packet.Properties{packet.Int(packet.ReceiveMaximum, 2)}
		})
		if id, ok := p.connect(t).Properties.Str(packet.AssignedClientID); !ok || id == "" {
			t.Error("no client id assigned")
		}
		ctx := context.Background()
		ack, err := p.Subscribe(
			ctx,
			[]packet.Subscription{
				{Filter: "own", QoS: 1, NoLocal: true},
				{Filter: "rap", QoS: 1, RetainAsPublished: true},
				{Filter: "$share/g/a", QoS: 1},
			},
			packet.Int(packet.SubscriptionIdentifier, 9),
		)
		if err != nil || ack.Codes[0] != 1 || ack.Codes[2] != 1 {
			t.Error(ack, err)
		}
		if code, _ := p.Publish(ctx, packet.Publish{Topic: "nobody", QoS: 1}); code != packet.NoMatchingSubscribers {
			t.Errorf("to nobody: %#x", code)
		}
		p.publish(t, packet.Publish{Topic: "own", QoS: 1})
		expect(t, "no local", p.messages(), "")
		sent := packet.Properties{
			packet.Int(packet.TopicAlias, 3),
			packet.Int(packet.MessageExpiry, 50),
			packet.User("k", "v"),
			packet.User("k", "w"),
		}
		p.publish(t, packet.Publish{Topic: "rap", QoS: 1, Retain: true, Payload: []byte("1"), Properties: sent})
		p.publish(t, packet.Publish{Topic: "", QoS: 1, Retain: true, Payload: []byte("2"), Properties: sent})
		synctest.Wait()
		for _, m := range p.got {
			if m.Properties.IntOr(packet.SubscriptionIdentifier, 0) != 9 ||
				len(m.Properties.Without(packet.UserProperty)) != len(m.Properties)-2 ||
				!m.Retain {
				t.Errorf("%+v", m)
			}
		}
		expect(t, "retain as published, by alias", p.messages(), "rap=1 q1R, rap=2 q1R")
		time.Sleep(10 * time.Second)
		p.subscribe(t, "rap", 0)
		synctest.Wait()
		if n := p.got[0].Properties.IntOr(packet.MessageExpiry, 0); n != 40 {
			t.Errorf("%d s left, want 40", n)
		}
		p.messages()
		time.Sleep(41 * time.Second)
		p.subscribe(t, "rap", 0)
		expect(t, "expired", p.messages(), "")
		p.Disconnect(0)
	})
}

// TestKeepAlive: a client that has nothing to say pings; one whose pings are not
// answered leaves.
func TestKeepAlive(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for fault, alive := range map[string]bool{"": true, "ping.unanswered": false} {
			o := standin.Options{Anonymous: true}
			if fault != "" {
				o.Faults, _ = faults.Set(fault)
			}
			s, _ := standin.New(o)
			p := newPeer(t, s, packet.V5, "p", func(o *client.Options) { o.Connect.KeepAlive = 10 })
			p.connect(t)
			time.Sleep(time.Minute)
			synctest.Wait()
			if p.Connected() != alive {
				t.Errorf("fault %q: connected %v after a minute", fault, p.Connected())
			}
			s.Close()
		}
	})
}

func TestNothingIsLeftBehindOnSockets(t *testing.T) {
	before := runtime.NumGoroutine()
	s, err := standin.New(standin.Options{Anonymous: true})
	if err != nil {
		t.Fatal(err)
	}
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Listen(addr.String()); err == nil || !strings.Contains(err.Error(), "choose another port") {
		t.Errorf("a port that is taken: %v", err)
	}
	for i := range 20 {
		p := newPeer(t, s, packet.V311, fmt.Sprint("c", i), func(o *client.Options) {
			o.Dial = func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+addr.String()) }
		})
		p.connect(t)
		if i%2 == 0 {
			defer p.Close()
		}
	}
	s.Close()
	for end := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d goroutines, %d before", runtime.NumGoroutine(), before)
		}
	}
	if _, err := faults.Find("will.sometimes"); err == nil || !strings.Contains(err.Error(), "will.never-sent") {
		t.Errorf("an unknown fault: %v", err)
	}
}

// TestTheBrokersSide: who is there, what waits for whom, and throwing a client out.
func TestTheBrokersSide(t *testing.T) {
	converse(
		t,
		standin.Options{Logins: []standin.Login{{Name: "barge", Password: "fish"}}, Anonymous: true},
		func(t *testing.T, s *standin.Server, v packet.Version) {
			keep := func(o *client.Options) {
				o.Connect.CleanStart = false
				o.Connect.HasUsername, o.Connect.Username, o.Connect.HasPassword, o.Connect.Password = true, "barge",
					true, []byte(
						"fish",
					)
				if v == packet.V5 {
					o.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 1000)}
				}
			}
			b, a := newPeer(t, s, v, "barge", keep), newPeer(t, s, v, "a")
			b.connect(t)
			a.connect(t)
			b.subscribe(t, "y", 1)
			b.subscribe(t, "x/#", 2)
			list := func() string {
				synctest.Wait()
				var out []string
				for _, c := range s.Clients() {
					out = append(
						out,
						fmt.Sprintf(
							"%s %s %q connected %v %v waiting %d",
							c.ID,
							c.Version,
							c.Username,
							c.Connected && c.Address != "",
							c.Filters,
							c.Waiting,
						),
					)
				}
				return strings.Join(out, "; ")
			}
			expect(
				t,
				"both there",
				list(),
				fmt.Sprintf(
					`a %s "" connected true [] waiting 0; barge %s "barge" connected true [x/# y] waiting 0`,
					v,
					v,
				),
			)
			if !s.ThrowOut("barge") || s.ThrowOut("nobody") {
				t.Error("throwing out")
			}
			synctest.Wait()
			if s.ThrowOut("barge") {
				t.Error("thrown out twice")
			}
			if told := strings.Contains(fmt.Sprint(b.Ended()), "administrative action"); told != (v == packet.V5) {
				t.Errorf("told why: %v", b.Ended())
			}
			a.publish(t, packet.Publish{Topic: "x", QoS: 1})
			expect(
				t,
				"one away",
				list(),
				fmt.Sprintf(
					`a %s "" connected true [] waiting 0; barge %s "barge" connected false [x/# y] waiting 1`,
					v,
					v,
				),
			)
			b.connect(t)
			expect(t, "what waited", b.messages(), "x= q1")
			a.Disconnect(0)
			b.Disconnect(0)
			if v == packet.V5 { // its session expires
				time.Sleep(1001 * time.Second)
				expect(t, "nobody", list(), "")
			}
		},
	)
}
