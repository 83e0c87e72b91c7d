package client_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// script is a broker that does just what the test tells it to. Each Dial gives it a
// new link.
type script struct {
	t     *testing.T
	v     packet.Version
	link  *link.Link
	read  *packet.Reader
	links int
}

func (s *script) dial(context.Context) (*link.Link, error) {
	ours, theirs := link.Pipe()
	s.link, s.read = ours, packet.NewReader(ours, s.v)
	s.links++
	return theirs, nil
}

// want reads the next packet and fails unless it is as described by [show].
func (s *script) want(text string) packet.Packet {
	s.t.Helper()
	p, _, err := s.read.Next()
	if err != nil {
		s.t.Fatalf("waiting for %s: %v", text, err)
	}
	if got := show(p); got != text {
		s.t.Fatalf("the client sent %s, want %s", got, text)
	}
	return p
}

func (s *script) send(packets ...packet.Packet) {
	s.t.Helper()
	var b []byte
	for _, p := range packets {
		b = p.Append(b, s.v)
	}
	if _, err := s.link.Write(b); err != nil {
		s.t.Fatal(err)
	}
}

// ended fails unless the client has closed the link.
func (s *script) ended(how link.End) {
	s.t.Helper()
	if p, _, err := s.read.Next(); err == nil {
		s.t.Fatalf("the client sent %s instead of ending", show(p))
	}
	if s.link.End() != how {
		s.t.Errorf("the link ended by %s, want %s", s.link.End(), how)
	}
}

func show(p packet.Packet) string {
	switch p := p.(type) {
	case *packet.Connect:
		return fmt.Sprintf("CONNECT %s clean %v", p.ClientID, p.CleanStart)
	case *packet.Publish:
		dup := ""
		if p.Dup {
			dup = " DUP"
		}
		return fmt.Sprintf("PUBLISH %s q%d #%d%s", p.Topic, p.QoS, p.ID, dup)
	case *packet.Puback:
		return fmt.Sprintf("PUBACK #%d", p.ID)
	case *packet.Pubrec:
		return fmt.Sprintf("PUBREC #%d", p.ID)
	case *packet.Pubrel:
		return fmt.Sprintf("PUBREL #%d %#02x", p.ID, byte(p.Code))
	case *packet.Pubcomp:
		return fmt.Sprintf("PUBCOMP #%d %#02x", p.ID, byte(p.Code))
	case *packet.Subscribe:
		return fmt.Sprintf("SUBSCRIBE #%d %d filters", p.ID, len(p.Subscriptions))
	case *packet.Unsubscribe:
		return fmt.Sprintf("UNSUBSCRIBE #%d %v", p.ID, p.Filters)
	case *packet.Disconnect:
		return fmt.Sprintf("DISCONNECT %#02x", byte(p.Code))
	}
	return p.Type().String()
}

func id(n uint16) packet.Ack { return packet.Ack{ID: n} }

// events keeps what a client's hooks tell.
type events struct {
	mu   sync.Mutex
	list []string
}

func (e *events) add(s string) { e.mu.Lock(); e.list = append(e.list, s); e.mu.Unlock() }

func (e *events) take() string {
	synctest.Wait()
	e.mu.Lock()
	defer e.mu.Unlock()
	out := strings.Join(e.list, "; ")
	e.list = nil
	return out
}

func (e *events) hooks() client.Hooks {
	return client.Hooks{
		Sent: func(p packet.Packet, raw []byte) {
			if p == nil {
				e.add(fmt.Sprintf("> % x", raw))
				return
			}
			e.add("> " + show(p))
		},
		Received: func(p packet.Packet, raw []byte, err error) {
			if err != nil {
				e.add("< broken: " + err.Error())
				return
			}
			e.add("< " + show(p))
		},
		Link: func(l client.LinkEvent, _ client.Blame, text string) { e.add(string(l) + ": " + text) },
	}
}

// converse runs a test with a client that is connected to a script.
func converse(
	t *testing.T,
	v packet.Version,
	change func(*client.Options),
	ack *packet.Connack,
	f func(t *testing.T, c *client.Client, s *script, e *events),
) {
	synctest.Test(t, func(t *testing.T) {
		s, e := &script{t: t, v: v}, &events{}
		o := client.Options{
			Dial:    s.dial,
			Version: v,
			Connect: packet.Connect{ClientID: "c", CleanStart: true},
			Hooks:   e.hooks(),
		}
		if change != nil {
			change(&o)
		}
		c := client.New(o)
		s.accept(c, ack)
		f(t, c, s, e)
		c.Close()
		s.link.Close()
	})
}

// accept lets the client connect.
func (s *script) accept(c *client.Client, ack *packet.Connack) {
	s.t.Helper()
	done := make(chan error, 1)
	go func() { _, err := c.Connect(s.t.Context()); done <- err }()
	synctest.Wait()
	if p, _, err := s.read.Next(); err != nil || p.Type() != packet.CONNECT {
		s.t.Fatal(p, err)
	}
	s.send(ack)
	if err := <-done; err != nil {
		s.t.Fatal(err)
	}
}

var accepted = &packet.Connack{}

func TestQoS2TowardsTheBroker(t *testing.T) {
	converse(t, packet.V311, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		pub, err := c.Start(packet.Publish{Topic: "a", QoS: 2})
		if err != nil {
			t.Fatal(err)
		}
		s.want("PUBLISH a q2 #1")
		s.send(&packet.Pubrec{Ack: id(1)})
		s.want("PUBREL #1 0x00")
		s.send(&packet.Pubrec{Ack: id(1)}) // again: released again
		s.want("PUBREL #1 0x00")
		s.send(&packet.Pubcomp{Ack: id(1)})
		if code, err := pub.Wait(t.Context()); code != 0 || err != nil {
			t.Error(code, err)
		}
		// A QoS 1 acknowledgement does not complete a QoS 2 flow.
		pub, _ = c.Start(packet.Publish{Topic: "b", QoS: 2})
		s.want("PUBLISH b q2 #2")
		s.send(&packet.Puback{Ack: id(2)})
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if _, err := pub.Wait(ctx); err == nil ||
			!strings.Contains(err.Error(), `QoS 2 publication 2 to "b" not complete`) {
			t.Errorf("PUBACK for QoS 2: %v", err)
		}
	})
}

func TestQoS2FromTheBrokerIsDeliveredOnce(t *testing.T) {
	var got []string
	deliver := func(o *client.Options) {
		o.Message = func(m *packet.Publish) { got = append(got, m.Topic+"="+string(m.Payload)) }
	}
	converse(t, packet.V5, deliver, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		s.send(&packet.Publish{Topic: "a", QoS: 2, ID: 7, Payload: []byte("1")})
		s.want("PUBREC #7")
		s.send(&packet.Publish{Topic: "a", QoS: 2, ID: 7, Dup: true, Payload: []byte("1")})
		s.want("PUBREC #7")
		s.send(&packet.Pubrel{Ack: id(7)})
		s.want("PUBCOMP #7 0x00")
		s.send(&packet.Pubrel{Ack: id(7)}) // no longer known
		s.want("PUBCOMP #7 0x92")
		s.send(
			&packet.Publish{Topic: "a", QoS: 2, ID: 7, Payload: []byte("2")},
			&packet.Publish{Topic: "a", QoS: 1, ID: 8, Payload: []byte("3")},
		)
		s.want("PUBREC #7")
		s.want("PUBACK #8")
		if text := strings.Join(got, " "); text != "a=1 a=2 a=3" {
			t.Errorf("delivered %s", text)
		}
	})
}

func TestFlowsResumeInOrderAfterACut(t *testing.T) {
	keep := func(o *client.Options) { o.Connect.CleanStart = false }
	converse(t, packet.V311, keep, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		var pubs []*client.Publication
		for i, q := range []packet.QoS{1, 2, 1, 2} {
			p, err := c.Start(packet.Publish{Topic: fmt.Sprint("t", i), QoS: q})
			if err != nil {
				t.Fatal(err)
			}
			pubs = append(pubs, p)
			s.want(fmt.Sprintf("PUBLISH t%d q%d #%d", i, q, i+1))
		}
		s.send(&packet.Pubrec{Ack: id(2)}, &packet.Puback{Ack: id(3)})
		s.want("PUBREL #2 0x00")
		c.Cut()
		s.ended(link.EndRST)
		if _, err := c.Start(packet.Publish{Topic: "x"}); !errors.Is(err, client.ErrNotConnected) {
			t.Errorf("publishing without a connection: %v", err)
		}
		s.accept(c, &packet.Connack{SessionPresent: true})
		s.want("PUBLISH t0 q1 #1 DUP")
		s.want("PUBREL #2 0x00")
		s.want("PUBLISH t3 q2 #4 DUP")
		s.send(&packet.Puback{Ack: id(1)}, &packet.Pubcomp{Ack: id(2)}, &packet.Pubrec{Ack: id(4)})
		s.want("PUBREL #4 0x00")
		s.send(&packet.Pubcomp{Ack: id(4)})
		for i, p := range pubs {
			if _, err := p.Wait(t.Context()); err != nil {
				t.Errorf("publication %d: %v", i, err)
			}
		}
	})
}

func TestALostSessionIsToldToWhoWaits(t *testing.T) {
	keep := func(o *client.Options) { o.Connect.CleanStart = false }
	converse(t, packet.V5, keep, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		pub, _ := c.Start(packet.Publish{Topic: "a", QoS: 1})
		s.want("PUBLISH a q1 #1")
		s.link.Close()
		<-c.Done()
		if _, err := pub.Wait(t.Context()); err == nil || !strings.Contains(err.Error(), "the connection ended") {
			t.Errorf("while away: %v", err)
		}
		s.accept(c, accepted) // session present 0
		if _, err := pub.Wait(t.Context()); !errors.Is(err, client.ErrSessionLost) {
			t.Errorf("after the return: %v", err)
		}
		if _, err := c.Start(packet.Publish{Topic: "b", QoS: 1}); err != nil {
			t.Error(err)
		}
		s.want("PUBLISH b q1 #2")
	})
}

func TestReceiveMaximumIsKept(t *testing.T) {
	two := &packet.Connack{Properties: packet.Properties{packet.Int(packet.ReceiveMaximum, 2)}}
	converse(t, packet.V5, nil, two, func(t *testing.T, c *client.Client, s *script, e *events) {
		for i := range 5 {
			if _, err := c.Start(packet.Publish{Topic: fmt.Sprint("t", i), QoS: packet.QoS(1 + i%2)}); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := c.Start(packet.Publish{Topic: "zero"}); err != nil { // QoS 0 is not counted
			t.Fatal(err)
		}
		s.want("PUBLISH t0 q1 #1")
		s.want("PUBLISH t1 q2 #2")
		s.want("PUBLISH zero q0 #0")
		e.take()
		s.send(&packet.Pubrec{Ack: id(2)}) // not complete yet: no room
		s.want("PUBREL #2 0x00")
		if got := e.take(); got != "< PUBREC #2; > PUBREL #2 0x00" {
			t.Errorf("sent too early: %s", got)
		}
		s.send(&packet.Puback{Ack: id(1)})
		s.want("PUBLISH t2 q1 #3")
		s.send(&packet.Pubcomp{Ack: id(2)})
		s.want("PUBLISH t3 q2 #4")
		s.send(&packet.Pubrec{Ack: packet.Ack{ID: 4, Code: packet.QuotaExceeded}}) // a refusal ends the flow
		s.want("PUBLISH t4 q1 #5")
	})
}

func TestWhatConnackRulesOutIsNotSent(t *testing.T) {
	small := &packet.Connack{
		Properties: packet.Properties{
			packet.Int(packet.MaximumQoS, 1),
			packet.Int(packet.RetainAvailable, 0),
			packet.Int(packet.MaximumPacketSize, 40),
		},
	}
	converse(t, packet.V5, nil, small, func(t *testing.T, c *client.Client, s *script, e *events) {
		e.take()
		for want, p := range map[string]packet.Publish{
			"maximum QoS":              {Topic: "a", QoS: 2},
			"retain available 0":       {Topic: "a", Retain: true},
			"takes at most 40":         {Topic: "a", Payload: make([]byte, 50)},
			"PUBLISH of 58 bytes":      {Topic: "a", Payload: make([]byte, 50), QoS: 1},
			"wildcard":                 {Topic: "a/#"},
			"at least one character":   {Topic: ""},
			"is not well-formed UTF-8": {Topic: "\xff"},
			"b/+":                      {Topic: "b/+", Properties: packet.Properties{packet.Int(packet.TopicAlias, 1)}},
		} {
			if _, err := c.Start(p); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v", want, err)
			}
		}
		if _, err := c.Subscribe(t.Context(), []packet.Subscription{{Filter: "a#"}}); err == nil {
			t.Error("subscribed to a#")
		}
		if got := e.take(); got != "" {
			t.Errorf("sent all the same: %s", got)
		}
		if _, err := c.Start(
			packet.Publish{Topic: "a", QoS: 1},
		); err != nil { // the link is as it was, and nothing waits
			t.Error(err)
		}
		s.want("PUBLISH a q1 #2")
	})
}

func TestRefusals(t *testing.T) {
	for _, tt := range []struct {
		name   string
		v      packet.Version
		ack    *packet.Connack
		closes bool
		want   string
	}{
		{"3.1.1, closed", packet.V311, &packet.Connack{Code: packet.RefusedLogin}, true,
			"4, bad user name or password"},
		{"5 with words, left open", packet.V5,
			&packet.Connack{Code: packet.NotAuthorized, Properties: packet.Properties{packet.Str(packet.ReasonString,
				"go away")}}, false,
			`0x87, not authorized (it says "go away")`},
		{"a version it does not speak", packet.V5, &packet.Connack{Code: packet.UnsupportedProtocolVersion}, true,
			"unsupported protocol version"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &script{t: t, v: tt.v}
				c := client.New(
					client.Options{
						Dial:    s.dial,
						Version: tt.v,
						Connect: packet.Connect{ClientID: "c", CleanStart: true},
					},
				)
				go func() {
					synctest.Wait()
					s.read.Next()
					s.send(tt.ack)
					if tt.closes {
						s.link.Close()
					}
				}()
				start := time.Now()
				ack, err := c.Connect(t.Context())
				var refused *client.RefusedError
				if !errors.As(err, &refused) || !strings.Contains(err.Error(), tt.want) ||
					refused.Closed != tt.closes ||
					ack.Code != tt.ack.Code {
					t.Errorf("%v, closed %v", err, refused.Closed)
				}
				if took := time.Since(start); tt.closes != (took == 0) || took > 2*time.Second {
					t.Errorf("after %s", took)
				}
				if c.Connected() {
					t.Error("still connected")
				}
				s.link.Close()
			})
		})
	}
}

func TestHowConnectionsEndIsTold(t *testing.T) {
	for _, tt := range []struct {
		name string
		end  func(s *script)
		want string
	}{
		{"FIN", func(s *script) { s.link.Close() }, "the broker closed the connection"},
		{"RST", func(s *script) { s.link.Cut() }, "the connection was reset"},
		{"DISCONNECT", func(s *script) {
			s.send(&packet.Disconnect{Code: packet.SessionTakenOver,
				Properties: packet.Properties{packet.Str(packet.ReasonString, "elsewhere")}})
		}, "the broker disconnected us: 0x8E, session taken over: elsewhere"},
		{"a broken packet", func(s *script) { s.link.Write([]byte{0x36, 2, 0, 0}) },
			"it sent what it must not: PUBLISH, byte 0: QoS 3 (MQTT 5.0 §3.3.1.2)"},
		{"a packet beyond our own limit", func(s *script) { s.link.Write([]byte{0x30, 0xff, 0xff, 0xff, 0x7f}) },
			"the connection was closed by us: a packet came that is larger than the 16 MiB that Hodstone takes"},
		{"a second CONNACK", func(s *script) { s.send(&packet.Connack{}) }, "it broke a rule: a second CONNACK"},
		{"half a packet", func(s *script) { s.link.Write([]byte{0x30, 9, 0}); s.link.Close() },
			"in the middle of a packet"},
		{"what only clients send", func(s *script) {
			s.send(&packet.Subscribe{ID: 1,
				Subscriptions: []packet.Subscription{{Filter: "a"}}})
		}, "which only clients send"},
		{"an alias never set", func(s *script) {
			s.send(&packet.Publish{Properties: packet.Properties{packet.Int(packet.TopicAlias, 1)}})
		}, "topic alias 1 without setting it"},
		{"an alias beyond the maximum", func(s *script) {
			s.send(&packet.Publish{Topic: "a", Properties: packet.Properties{packet.Int(packet.TopicAlias, 4)}})
		}, "topic alias 4; we allow 3"},
		{"more than the receive maximum", func(s *script) {
			for n := range uint16(3) { // QoS 2 stays open until PUBREL
				s.send(&packet.Publish{Topic: "a", QoS: 2, ID: n + 1})
			}
		}, "3 messages without waiting for acknowledgement; our receive maximum is 2"},
		{"AUTH out of nowhere", func(s *script) {
			s.send(&packet.Auth{Code: packet.ContinueAuthentication,
				Properties: packet.Properties{packet.Str(packet.AuthMethod, "X")}})
		}, "AUTH where no authentication is under way"},
		{"sent elsewhere", func(s *script) {
			s.send(&packet.Disconnect{Code: packet.UseAnotherServer,
				Properties: packet.Properties{packet.Str(packet.ServerReference, "pier.marrowvoe.example")}})
		}, "0x9C, use another server: it names another server to use: pier.marrowvoe.example"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			aliases := func(o *client.Options) {
				o.Connect.Properties = packet.Properties{
					packet.Int(packet.TopicAliasMaximum, 3),
					packet.Int(packet.ReceiveMaximum, 2),
				}
			}
			converse(t, packet.V5, aliases, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
				asked := make(chan error, 2)
				go func() { _, err := c.Subscribe(t.Context(), []packet.Subscription{{Filter: "x"}}); asked <- err }()
				go func() { _, err := c.Ping(t.Context()); asked <- err }()
				synctest.Wait()
				tt.end(s)
				<-c.Done()
				if err := c.Ended(); err == nil || !strings.Contains(err.Error(), tt.want) ||
					strings.Contains(err.Error(), "EOF") {
					t.Errorf("%v", err)
				}
				for range 2 { // whoever waits is told too
					if err := <-asked; err == nil || !strings.Contains(err.Error(), "not answered") {
						t.Errorf("%v", err)
					}
				}
				if got := e.take(); !strings.Contains(got, "ended: ") {
					t.Error(got)
				}
			})
		})
	}
}

func TestOwnersTakeOverSteps(t *testing.T) {
	var lose packet.Type
	take := func(o *client.Options) { o.Take = func(p packet.Packet) bool { return p.Type() == lose } }
	converse(t, packet.V311, take, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		lose = packet.PUBLISH
		e.take()
		s.send(&packet.Publish{Topic: "a", QoS: 1, ID: 3})
		if got := e.take(); got != "< PUBLISH a q1 #3" {
			t.Errorf("held back: %s", got)
		}
		lose = 0
		c.Send(&packet.Puback{Ack: id(3)}) // by hand, later
		s.want("PUBACK #3")
		c.Send(&packet.Publish{Topic: "a", QoS: 1, ID: 99}) // an identifier of one's own
		s.want("PUBLISH a q1 #99")
		if err := c.SendRaw([]byte{0xc0, 0}); err != nil {
			t.Fatal(err)
		}
		s.want("PINGREQ")
		if got := e.take(); got != "> PUBACK #3; > PUBLISH a q1 #99; > c0 00" {
			t.Errorf("%s", got)
		}
		c.Disconnect(0)
		s.want("DISCONNECT 0x00")
		s.ended(link.EndFIN)
		for _, err := range []error{c.Send(&packet.Pingreq{}), c.SendRaw(nil), c.Close(), c.Cut(), c.Freeze(),
			c.Thaw(), c.Disconnect(0)} {
			if !errors.Is(err, client.ErrNotConnected) {
				t.Errorf("after the end: %v", err)
			}
		}
		if _, err := c.Unsubscribe(t.Context(), "a"); !errors.Is(err, client.ErrNotConnected) {
			t.Error(err)
		}
		if _, err := c.Ping(t.Context()); !errors.Is(err, client.ErrNotConnected) {
			t.Error(err)
		}
	})
}

func TestTopicAliasesFromTheBroker(t *testing.T) {
	var topics []string
	aliases := func(o *client.Options) {
		o.Connect.Properties = packet.Properties{packet.Int(packet.TopicAliasMaximum, 5)}
		o.Message = func(m *packet.Publish) { topics = append(topics, m.Topic) }
	}
	converse(t, packet.V5, aliases, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		one := packet.Properties{packet.Int(packet.TopicAlias, 1)}
		s.send(&packet.Publish{Topic: "long/name", Properties: one}, &packet.Publish{Properties: one},
			&packet.Publish{Topic: "other", Properties: one}, &packet.Publish{Properties: one})
		synctest.Wait()
		if got := strings.Join(topics, " "); got != "long/name long/name other other" {
			t.Error(got)
		}
	})
}

func TestKeepAliveIsKeptAndServerKeepAliveCounts(t *testing.T) {
	ten := func(o *client.Options) { o.Connect.KeepAlive = 60 }
	server := &packet.Connack{Properties: packet.Properties{packet.Int(packet.ServerKeepAlive, 10)}}
	converse(t, packet.V5, ten, server, func(t *testing.T, c *client.Client, s *script, e *events) {
		e.take()
		time.Sleep(7 * time.Second)
		if got := e.take(); got != "" {
			t.Errorf("after 7 s: %s", got)
		}
		c.Publish(t.Context(), packet.Publish{Topic: "a"})
		s.want("PUBLISH a q0 #0")
		s.send(&packet.Publish{Topic: "b"})
		time.Sleep(7 * time.Second)
		if got := e.take(); strings.Contains(got, "PINGREQ") {
			t.Errorf("a packet either way puts the ping off: %s", got)
		}
		time.Sleep(time.Second)
		s.want("PINGREQ")
		s.send(&packet.Pingresp{})
		time.Sleep(8 * time.Second)
		s.want("PINGREQ") // and now the broker is silent
		c.Freeze()
		time.Sleep(time.Minute)
		if !c.Connected() {
			t.Error("a frozen client closed its link")
		}
		c.Thaw()
		time.Sleep(20 * time.Second)
		if c.Connected() || !strings.Contains(c.Ended().Error(), "no PINGRESP within the keep alive of 10s") {
			t.Errorf("connected %v: %v", c.Connected(), c.Ended())
		}
	})
}

func TestConnectingGivesUpInTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, e := &script{t: t, v: packet.V311}, &events{}
		c := client.New(
			client.Options{
				Dial:    s.dial,
				Version: packet.V311,
				Connect: packet.Connect{ClientID: "c", CleanStart: true},
				Hooks:   e.hooks(),
			},
		)
		ctx, cancel := context.WithTimeoutCause(t.Context(), 3*time.Second, errors.New("nothing for 3 s"))
		defer cancel()
		if _, err := c.Connect(ctx); err == nil || err.Error() != "no CONNACK: nothing for 3 s" {
			t.Error(err)
		}
		if c.Connected() {
			t.Error("still connected")
		}
		s.link.Close()
		failing := client.New(
			client.Options{
				Dial:  func(context.Context) (*link.Link, error) { return nil, errors.New("no route") },
				Hooks: e.hooks(),
			},
		)
		if _, err := failing.Connect(t.Context()); err == nil || !strings.Contains(e.take(), "failed: no route") {
			t.Error(err)
		}
		twice := client.New(
			client.Options{
				Dial:    s.dial,
				Version: packet.V311,
				Connect: packet.Connect{ClientID: "c", CleanStart: true},
			},
		)
		s.accept(twice, accepted)
		if _, err := twice.Connect(t.Context()); err == nil || !strings.Contains(err.Error(), "already connected") {
			t.Error(err)
		}
		twice.Close()
		s.link.Close()
	})
}

func TestSubscribeAndUnsubscribeAnswers(t *testing.T) {
	converse(t, packet.V5, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		type answer struct {
			p   packet.Packet
			err error
		}
		ask := func(f func() (packet.Packet, error)) chan answer {
			out := make(chan answer, 1)
			go func() { p, err := f(); out <- answer{p, err} }()
			synctest.Wait()
			return out
		}
		two := []packet.Subscription{{Filter: "a"}, {Filter: "b"}}
		first := ask(func() (packet.Packet, error) { return c.Subscribe(t.Context(), two) })
		second := ask(func() (packet.Packet, error) { return c.Unsubscribe(t.Context(), "x") })
		s.want("SUBSCRIBE #1 2 filters")
		s.want("UNSUBSCRIBE #2 [x]")
		s.send(
			&packet.Unsuback{ID: 2, Codes: []packet.ReasonCode{0x11}},
			&packet.Suback{ID: 1, Codes: []packet.ReasonCode{1, 0x87}},
		)
		if a := <-first; a.err != nil || a.p.(*packet.Suback).Codes[1] != packet.NotAuthorized {
			t.Error(a)
		}
		if a := <-second; a.err != nil || a.p.(*packet.Unsuback).Codes[0] != packet.NoSubscriptionExisted {
			t.Error(a)
		}
		short := ask(func() (packet.Packet, error) { return c.Subscribe(t.Context(), two) })
		s.want("SUBSCRIBE #3 2 filters")
		s.send(&packet.Suback{ID: 3, Codes: []packet.ReasonCode{0}})
		if a := <-short; a.err == nil || !strings.Contains(a.err.Error(), "does not fit") {
			t.Errorf("one code for two filters: %v", a.err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		if _, err := c.Subscribe(ctx, two); err == nil || !strings.Contains(err.Error(), "SUBSCRIBE not answered") {
			t.Error(err)
		}
		s.want("SUBSCRIBE #4 2 filters")
	})
}

// TestWhatIsGatheredGoesOut: in one piece, in its order, with what others say meanwhile; and a goodbye waits for nobody.
func TestWhatIsGatheredGoesOut(t *testing.T) {
	a, b := link.Pipe()
	c := client.New(
		client.Options{Version: packet.V311, Dial: func(context.Context) (*link.Link, error) { return a, nil },
			Connect: packet.Connect{ClientID: "pen", CleanStart: true}},
	)
	pieces := make(chan string, 20)
	go func() {
		buf := make([]byte, 4096)
		for first := true; ; first = false {
			n, err := b.Read(buf)
			if err != nil {
				close(pieces)
				return
			}
			if first {
				b.Write((&packet.Connack{}).Append(nil, packet.V311))
				continue
			}
			types := ""
			for rest := buf[:n]; len(rest) > 1; rest = rest[2+int(rest[1]):] {
				types += packet.Type(rest[0]>>4).String() + " "
			}
			pieces <- types
		}
	}()
	if _, err := c.Connect(t.Context()); err != nil {
		t.Fatal(err)
	}
	c.Gather(func() {
		for range 3 {
			c.Start(packet.Publish{Topic: "v", QoS: 1})
		}
	})
	if got := <-pieces; got != "PUBLISH PUBLISH PUBLISH " {
		t.Error(got)
	}
	var back []byte
	for id := range uint16(3) { // three messages in one piece are answered in one
		back = (&packet.Publish{Topic: "w", QoS: 1, ID: id + 1}).Append(back, packet.V311)
	}
	b.Write(back)
	got := ""
	for strings.Count(got, "PUBACK") < 3 {
		got += <-pieces
	}
	if got != "PUBACK PUBACK PUBACK " {
		t.Error(got)
	}
	b.Write(
		append(back[:len(back)/3:len(back)/3], back[:3]...),
	) // one, and the beginning of another: its answer does not wait
	if got := <-pieces; got != "PUBACK " {
		t.Error(got)
	}
	c.Gather(func() {
		c.Start(packet.Publish{Topic: "v"})
		c.Disconnect(0)
	})
	all := ""
	for p := range pieces {
		all += p
	}
	if all != "PUBLISH DISCONNECT " {
		t.Error(all)
	}
}
