package client_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// riddle is a method of enhanced authentication: "begin", then "re " and the challenge; "word" proves the broker, and
// "bad" is not believed.
type riddle struct{ broken bool }

func (riddle) Name() string { return "riddle" }

func (r riddle) Begin() auth.Exchange { return &guess{broken: r.broken} }

type guess struct{ broken, proven bool }

func (g *guess) Next(data []byte) ([]byte, error) {
	switch s := string(data); {
	case g.broken:
		return nil, errors.New("no word")
	case data == nil:
		return []byte("begin"), nil
	case s == "bad":
		return nil, errors.New("wrong word")
	default:
		g.proven = g.proven || s == "word"
		return []byte("re " + s), nil
	}
}

func (g *guess) Proven() bool { return g.proven }

// told makes the properties of AUTH, CONNACK and CONNECT; "" leaves the data out.
func told(method, data string) packet.Properties {
	ps := packet.Properties{packet.Str(packet.AuthMethod, method)}
	if data != "" {
		ps = append(ps, packet.Str(packet.AuthData, data))
	}
	return ps
}

// data returns the authentication data of a packet.
func data(p packet.Packet) string {
	s, _ := packet.About(p, packet.V5).Properties.Str(packet.AuthData)
	m, _ := packet.About(p, packet.V5).Properties.Str(packet.AuthMethod)
	return m + ":" + s
}

// later runs f beside the test, and returns where its error comes.
func later(f func() error) chan error {
	out := make(chan error, 1)
	go func() { out <- f() }()
	synctest.Wait()
	return out
}

// TestEnhancedAuthentication: the broker is believed when it has shown what it must, and not before (5.0 §4.12).
func TestEnhancedAuthentication(t *testing.T) {
	step := func(code packet.ReasonCode, method, data string) packet.Packet {
		return &packet.Auth{Code: code, Properties: told(method, data)}
	}
	for name, tt := range map[string]struct {
		steps []packet.Packet // that the broker sends after CONNECT
		want  string          // what Connect says, "" for in
		code  packet.ReasonCode
	}{
		"shown in CONNACK": {[]packet.Packet{step(0x18, "riddle", "one"),
			&packet.Connack{Properties: told("riddle", "word")}}, "", 0},
		"shown before": {[]packet.Packet{step(0x18, "riddle", "word"), &packet.Connack{}}, "", 0},
		"not shown": {[]packet.Packet{step(0x18, "riddle", "one"), &packet.Connack{}},
			"riddle: the broker let us in without showing that it knows the password", packet.NotAuthorized},
		"wrong in CONNACK": {[]packet.Packet{step(0x18, "riddle", "one"),
			&packet.Connack{Properties: told("riddle", "bad")}},
			"has not shown that it knows the password: wrong word", packet.NotAuthorized},
		"wrong in AUTH": {[]packet.Packet{step(0x18, "riddle", "bad")}, "riddle: wrong word", packet.NotAuthorized},
		"another method": {[]packet.Packet{step(0x18, "rhyme", "one")},
			`changed the authentication method to "rhyme" (5.0 §4.12)`, packet.ProtocolError},
		"a code that does not belong": {[]packet.Packet{step(0x19, "riddle", "one")},
			"sent AUTH with 0x19 (5.0 §3.15.2.1)", packet.ProtocolError},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &script{t: t, v: packet.V5}
				c := client.New(client.Options{Dial: s.dial, Version: packet.V5, Auth: riddle{},
					Connect: packet.Connect{ClientID: "c", CleanStart: true,
						Properties: append(told("old", "old"), packet.Int(packet.ReceiveMaximum, 9))}})
				got := later(func() error { _, err := c.Connect(t.Context()); return err })
				p, _, err := s.read.Next()
				if err != nil || data(p) != "riddle:begin" ||
					p.(*packet.Connect).Properties.IntOr(packet.ReceiveMaximum, 0) != 9 {
					t.Fatalf("%+v %v", p, err)
				}
				for i, p := range tt.steps {
					if s.send(p); i+1 < len(tt.steps) {
						want := "riddle:re one"
						if data(p) == "riddle:word" {
							want = "riddle:re word"
						}
						if p := s.want("AUTH"); data(p) != want ||
							p.(*packet.Auth).Code != packet.ContinueAuthentication {
							t.Errorf("answered %+v", p)
						}
					}
				}
				err = <-got
				if tt.want == "" && err != nil ||
					tt.want != "" && (err == nil || !strings.Contains(err.Error(), tt.want)) {
					t.Errorf("%v, want %q", err, tt.want)
				}
				if tt.want != "" {
					s.want(fmt.Sprintf("DISCONNECT %#02x", byte(tt.code)))
					if client.BlameOf(err) != client.ByBroker {
						t.Errorf("blames %s", client.BlameOf(err))
					}
				}
				c.Close()
				s.link.Close()
			})
		})
	}
	mute := client.New(client.Options{Dial: (&script{t: t}).dial, Version: packet.V5, Auth: riddle{broken: true}})
	if _, err := mute.Connect(t.Context()); err == nil || err.Error() != "riddle: no word" {
		t.Error(err)
	}
	old := func(o *client.Options) { o.Auth = riddle{} } // 3.1.1 knows none
	converse(t, packet.V311, old, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		if !c.Connected() {
			t.Error(c.Ended())
		}
	})
}

// TestReauthentication: on a connection that stands; a refusal ends it (5.0 §4.12.1).
func TestReauthentication(t *testing.T) {
	with := func(o *client.Options) { o.Auth = riddle{} }
	proven := &packet.Connack{Properties: told("riddle", "word")}
	renew := func(c *client.Client, ctx context.Context) chan error {
		return later(func() error { return c.Reauthenticate(ctx) })
	}
	converse(t, packet.V5, with, proven, func(t *testing.T, c *client.Client, s *script, e *events) {
		for range 2 {
			got := renew(c, t.Context())
			if p := s.want("AUTH"); p.(*packet.Auth).Code != packet.ReAuthenticate || data(p) != "riddle:begin" {
				t.Fatalf("%+v", p)
			}
			s.send(&packet.Auth{Code: 0x18, Properties: told("riddle", "word")})
			s.want("AUTH")
			s.send(&packet.Auth{Properties: told("riddle", "")})
			if err := <-got; err != nil {
				t.Fatal(err)
			}
		}
		got := renew(c, t.Context())
		if err := c.Reauthenticate(t.Context()); err == nil || !strings.Contains(err.Error(), "is under way") {
			t.Error(err)
		}
		s.want("AUTH")
		s.send(&packet.Disconnect{Code: packet.NotAuthorized})
		if err := <-got; err == nil ||
			!strings.Contains(err.Error(), "re-authentication: the broker disconnected us: 0x87") {
			t.Error(err)
		}
		if err := c.Reauthenticate(t.Context()); !errors.Is(err, client.ErrNotConnected) {
			t.Error(err)
		}
	})
	converse(t, packet.V5, with, proven, func(t *testing.T, c *client.Client, s *script, e *events) {
		got := renew(c, t.Context())
		s.want("AUTH")
		s.send(&packet.Auth{Properties: told("riddle", "")}) // and has shown nothing
		if err := <-got; err == nil || !strings.Contains(err.Error(), "without showing that it knows") {
			t.Error(err)
		}
	})
	converse(t, packet.V5, with, proven, func(t *testing.T, c *client.Client, s *script, e *events) {
		ctx, cancel := context.WithTimeoutCause(t.Context(), time.Second, errors.New("a second"))
		defer cancel()
		if err := c.Reauthenticate(ctx); err == nil || err.Error() != "re-authentication not answered: a second" {
			t.Error(err)
		}
	})
	converse(t, packet.V5, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		if err := c.Reauthenticate(t.Context()); err == nil || !strings.Contains(err.Error(), "nothing to renew") {
			t.Error(err)
		}
		s.send(&packet.Auth{Code: 0x18, Properties: told("riddle", "one")})
		s.want("DISCONNECT 0x82")
		<-c.Done() // it is written before the connection has ended
		if err := c.Ended(); err == nil || !strings.Contains(err.Error(), "where no authentication is under way") {
			t.Error(err)
		}
	})
}

// TestRequestsAndTheirResponses: told apart by correlation data (5.0 §4.10).
func TestRequestsAndTheirResponses(t *testing.T) {
	var came []string
	note := func(o *client.Options) { o.Message = func(m *packet.Publish) { came = append(came, m.Topic) } }
	ask := func(c *client.Client, ctx context.Context) (chan error, *packet.Publish) {
		var r packet.Publish
		return later(func() error {
			p, err := c.Request(ctx, packet.Publish{Topic: "do", QoS: 1,
				Properties: packet.Properties{packet.Str(packet.CorrelationData, "mine")}}, "done")
			if p != nil {
				r = *p
			}
			return err
		}), &r
	}
	converse(t, packet.V5, note, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		answer := func(id uint16, first bool) packet.Property {
			t.Helper()
			if first {
				sub := s.want(fmt.Sprintf("SUBSCRIBE #%d 1 filters", id-1)).(*packet.Subscribe)
				if f := sub.Subscriptions[0]; f.Filter != "done" || f.QoS != 1 ||
					f.RetainHandling != packet.RetainDontSend {
					t.Errorf("%+v", f)
				}
				s.send(&packet.Suback{ID: id - 1, Codes: []packet.ReasonCode{1}})
			}
			p := s.want(fmt.Sprintf("PUBLISH do q1 #%d", id)).(*packet.Publish)
			to, _ := p.Properties.Str(packet.ResponseTopic)
			with, _ := p.Properties.Str(packet.CorrelationData)
			if to != "done" || with == "" || with == "mine" || len(p.Properties) != 2 {
				t.Errorf("%+v", p.Properties)
			}
			s.send(&packet.Puback{Ack: packet.Ack{ID: id}})
			return packet.Str(packet.CorrelationData, with)
		}
		got, r := ask(c, t.Context())
		with := answer(2, true)
		s.send(
			&packet.Publish{
				Topic:      "done",
				Payload:    []byte("other"),
				Properties: packet.Properties{packet.Str(packet.CorrelationData, "x")},
			},
			&packet.Publish{Topic: "elsewhere", Properties: packet.Properties{with}},
			&packet.Publish{Topic: "done", Payload: []byte("yes"), Properties: packet.Properties{with}},
			&packet.Publish{Topic: "done", Payload: []byte("again"), Properties: packet.Properties{with}},
		)
		if err := <-got; err != nil || string(r.Payload) != "yes" {
			t.Fatalf("%+v %v", r, err)
		}
		if synctest.Wait(); strings.Join(came, " ") != "done elsewhere done" {
			t.Errorf("as messages came %q", came)
		}
		got, _ = ask(c, t.Context()) // the subscription stands
		s.want("PUBLISH do q1 #3")
		s.send(&packet.Puback{Ack: packet.Ack{ID: 3, Code: packet.UnspecifiedError}})
		if err := <-got; err == nil || err.Error() != "the request was not taken: unspecified error" {
			t.Error(err)
		}
		ctx, cancel := context.WithTimeoutCause(t.Context(), time.Minute, errors.New("a minute"))
		defer cancel()
		got, _ = ask(c, ctx)
		answer(4, false)
		if err := <-got; err == nil || err.Error() != "the request to do has no response: a minute" {
			t.Error(err)
		}
		got, _ = ask(c, t.Context())
		answer(5, false)
		synctest.Wait()
		s.link.Close()
		if err := <-got; err == nil || err.Error() != "the request to do has no response: the connection ended" {
			t.Error(err)
		}
		if err := <-later(func() error {
			_, err := c.Request(t.Context(), packet.Publish{Topic: "do"},
				"done")
			return err
		}); !errors.Is(
			err,
			client.ErrNotConnected,
		) {
			t.Error(err)
		}
		s.accept(c, accepted) // a new session has no subscription any more
		got, r = ask(c, t.Context())
		with = answer(7, true)
		s.send(&packet.Publish{Topic: "done", Payload: []byte("anew"), Properties: packet.Properties{with}})
		if err := <-got; err != nil || string(r.Payload) != "anew" {
			t.Errorf("%+v %v", r, err)
		}
	})
	converse(t, packet.V5, nil, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		got, _ := ask(c, t.Context())
		s.want("SUBSCRIBE #1 1 filters")
		s.send(&packet.Suback{ID: 1, Codes: []packet.ReasonCode{packet.UnspecifiedError}})
		if err := <-got; err == nil || err.Error() != "the response topic done was refused: unspecified error" {
			t.Error(err)
		}
	})
	converse(t, packet.V311, nil, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		if _, err := c.Request(t.Context(), packet.Publish{Topic: "do"}, "done"); err == nil ||
			!strings.Contains(err.Error(), "need version 5") {
			t.Error(err)
		}
	})
}

// fates adds to a log what was held back and lost.
func fates(e *events) func(*client.Options) {
	return func(o *client.Options) {
		o.Hooks = e.hooks()
		o.Hooks.Held = func(p packet.Packet, raw []byte) { e.add("held " + show(p)) }
		o.Hooks.Lost = func(p packet.Packet, raw []byte) { e.add("lost " + show(p)) }
	}
}

// TestAFrozenLinkHoldsWhatIsWritten: it goes out when the link thaws, and is lost when it ends before.
func TestAFrozenLinkHoldsWhatIsWritten(t *testing.T) {
	e := &events{}
	converse(t, packet.V311, fates(e), accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		e.take()
		c.Start(packet.Publish{Topic: "before", QoS: 1})
		c.Freeze()
		c.Start(packet.Publish{Topic: "a", QoS: 1})
		c.AskPing()
		s.want("PUBLISH before q1 #1")
		if got := e.take(); got != "> PUBLISH before q1 #1; frozen: nothing is read or written from now on; held PUBLISH a q1 #2; held PINGREQ" {
			t.Error(got)
		}
		s.send(&packet.Puback{Ack: id(1)})
		if got := e.take(); got != "" {
			t.Errorf("read while frozen: %s", got)
		}
		c.Thaw()
		s.want("PUBLISH a q1 #2")
		s.want("PINGREQ")
		got := e.take() // what is written and what is read go on side by side
		if strings.Replace(
			got,
			"; < PUBACK #1",
			"",
			1,
		) != "thawed: reading and writing go on; > PUBLISH a q1 #2; > PINGREQ" ||
			!strings.Contains(got, "; < PUBACK #1") {
			t.Error(got)
		}
		c.Start(packet.Publish{Topic: "free"})
		s.want("PUBLISH free q0 #0")
		if got := e.take(); got != "held PUBLISH free q0 #0; > PUBLISH free q0 #0" && got != "> PUBLISH free q0 #0" {
			t.Error(got)
		}
		if err := c.Thaw(); err != nil || e.take() != "" {
			t.Errorf("thawed twice: %v", err)
		}
		c.Freeze()
		c.Start(packet.Publish{Topic: "gone"})
		e.take()
		c.Cut()
		if got := e.take(); got != "lost PUBLISH gone q0 #0; ended: the connection was cut by us" {
			t.Error(got)
		}
		s.ended(link.EndRST)
	})
	pull := func(o *client.Options) { fates(e)(o); o.Connect.KeepAlive = 10 }
	converse(t, packet.V311, pull, accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		c.Pull() // whose client finds out by itself
		e.take()
		time.Sleep(16 * time.Second)
		if c.Connected() != true {
			t.Error("too soon")
		}
		time.Sleep(3 * time.Second)
		if c.Connected() || client.BlameOf(c.Ended()) != client.BySilence {
			t.Errorf("connected %v: %v", c.Connected(), c.Ended())
		}
		if got := e.take(); got != "held PINGREQ; held PINGREQ; lost PINGREQ; lost PINGREQ; ended: no PINGRESP within the keep alive of 10s: closed" {
			t.Error(got)
		}
	})
}

// TestASlowLink: the present one and those to come, until the pace is taken back.
func TestASlowLink(t *testing.T) {
	e := &events{}
	converse(t, packet.V311, fates(e), accepted, func(t *testing.T, c *client.Client, s *script, _ *events) {
		at := func(topic string) time.Duration {
			t.Helper()
			began := time.Now()
			if _, err := c.Start(packet.Publish{Topic: topic}); err != nil {
				t.Fatal(err)
			}
			s.want("PUBLISH " + topic + " q0 #0")
			return time.Since(began)
		}
		c.Slow(link.Pace{Delay: time.Second})
		e.take()
		if took := at("late"); took != time.Second {
			t.Errorf("came after %s", took)
		}
		if got := e.take(); got != "held PUBLISH late q0 #0; > PUBLISH late q0 #0" {
			t.Error(got)
		}
		c.Close()
		done := later(func() error { _, err := c.Connect(t.Context()); return err })
		if s.want("CONNECT c clean true"); true {
			s.send(accepted)
		}
		if err := <-done; err != nil {
			t.Fatal(err)
		}
		if took := at("late again"); took != time.Second {
			t.Errorf("came after %s on the next link", took)
		}
		c.Slow(link.Pace{})
		c.Close()
		s.accept(c, accepted)
		if took := at("soon"); took != 0 {
			t.Errorf("came after %s", took)
		}
	})
}

// TestBursts: messages at QoS 0 in a hurry go out together, whole and in order; what has to be known to be out is
// waited for; who writes faster than the other side reads is held up; and none of that holds up the end.
func TestBursts(t *testing.T) {
	converse(t, packet.V311, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		for i := range 500 {
			c.Start(packet.Publish{Topic: fmt.Sprint("t", i)})
		}
		c.Start(packet.Publish{Topic: "last", QoS: 1})
		for i := range 500 {
			s.want(fmt.Sprintf("PUBLISH t%d q0 #0", i))
		}
		s.want("PUBLISH last q1 #1")
		c.Start(packet.Publish{Topic: "bye"})
		c.Disconnect(0) // what is in a burst goes out before
		s.want("PUBLISH bye q0 #0")
		s.want("DISCONNECT 0x00")
		s.ended(link.EndFIN)
	})
	converse(t, packet.V311, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		sent := 0
		stuck := later(func() error {
			for {
				if _, err := c.Start(packet.Publish{Topic: "a", Payload: make([]byte, 10_000)}); err != nil {
					return err
				}
				sent++
			}
		})
		// 256 KiB in the pipe, as much again under way in the burst, and no more.
		if sent < 26 || sent > 60 {
			t.Errorf("%d messages of 10 kB were taken", sent)
		}
		began := time.Now()
		c.Close()
		if took := time.Since(began); took > 3*time.Second || took < time.Second {
			t.Errorf("the end took %s", took)
		}
		if err := <-stuck; err == nil {
			t.Error("it goes on sending")
		}
	})
}

// TestAWriterThatIsHeldUpHoldsUpNothing: the broker takes nothing, a large packet is on its way, and the link can be
// frozen, thawed and closed all the same. On the real clock: the fake one stands while a lock is waited for.
func TestAWriterThatIsHeldUpHoldsUpNothing(t *testing.T) {
	s := &script{t: t, v: packet.V311}
	c := client.New(
		client.Options{Dial: s.dial, Version: packet.V311, Connect: packet.Connect{ClientID: "c", CleanStart: true}},
	)
	in := make(chan error, 1)
	go func() { _, err := c.Connect(t.Context()); in <- err }()
	for !c.Connected() { // the link is there
		time.Sleep(time.Millisecond)
	}
	s.want("CONNECT c clean true")
	s.send(accepted)
	if err := <-in; err != nil {
		t.Fatal(err)
	}
	big := make(chan error, 1)
	go func() { big <- c.SendRaw(make([]byte, 1<<20)) }()
	s.link.Read(make([]byte, 1)) // it has begun
	for i, f := range []func() error{c.Freeze, c.Thaw, c.Close} {
		done := make(chan error, 1)
		go func() { done <- f() }()
		select {
		case err := <-done:
			if err != nil {
				t.Error(i, err)
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("step %d is held up by a writer that the broker holds up", i)
		}
	}
	<-big
	s.link.Close()
}

// TestWhatASubscriptionMayHold: what CONNACK rules out is not sent (5.0 §3.2.2.3).
func TestWhatASubscriptionMayHold(t *testing.T) {
	poor := &packet.Connack{Properties: packet.Properties{packet.Int(packet.WildcardAvailable, 0),
		packet.Int(packet.SharedAvailable, 0), packet.Int(packet.SubIDAvailable, 0)}}
	five := packet.Int(packet.SubscriptionIdentifier, 5)
	for _, tt := range []struct {
		ack    *packet.Connack
		filter string
		ps     []packet.Property
		want   string
	}{
		{poor, "a/#", nil, "a/#: the broker takes no wildcards"}, {poor, "a/+/b", nil, "takes no wildcards"},
		{poor, "$share/crew/a", nil, "shares no subscriptions"},
		{poor, "a", []packet.Property{five}, "the broker takes none"},
		{poor, "a", []packet.Property{packet.User("k", "v")}, ""}, {accepted, "a/#", []packet.Property{five}, ""},
		{accepted, "$share/crew/a", nil, ""},
	} {
		converse(t, packet.V5, nil, tt.ack, func(t *testing.T, c *client.Client, s *script, _ *events) {
			got := later(func() error {
				_, err := c.Subscribe(t.Context(), []packet.Subscription{{Filter: "b"}, {Filter: tt.filter}}, tt.ps...)
				return err
			})
			if tt.want == "" {
				s.want("SUBSCRIBE #1 2 filters")
				s.send(&packet.Suback{ID: 1, Codes: []packet.ReasonCode{0, 0}})
			}
			var limit *client.LimitError
			if err := <-got; tt.want == "" && err != nil ||
				tt.want != "" && (!errors.As(err, &limit) || !strings.Contains(err.Error(), tt.want)) {
				t.Errorf("%s: %v", tt.filter, err)
			}
		})
	}
}

// TestWhatThePacketSizeRulesOutSetsNoAlias: the next message has its topic.
func TestWhatThePacketSizeRulesOutSetsNoAlias(t *testing.T) {
	small := &packet.Connack{
		Properties: packet.Properties{
			packet.Int(packet.MaximumPacketSize, 40),
			packet.Int(packet.TopicAliasMaximum, 1),
		},
	}
	with := func(o *client.Options) { o.UseAliases = true }
	converse(t, packet.V5, with, small, func(t *testing.T, c *client.Client, s *script, _ *events) {
		// 2 + 2 + 7 + 1 + 3 + payload: exactly 40 bytes pass.
		if _, err := c.Start(packet.Publish{Topic: "topic/a", Payload: make([]byte, 26)}); err == nil ||
			!strings.Contains(err.Error(), "PUBLISH of 41 bytes: the broker takes at most 40") {
			t.Error(err)
		}
		for _, want := range []string{"topic/a", "", ""} {
			if _, err := c.Start(packet.Publish{Topic: "topic/a", Payload: make([]byte, 25)}); err != nil {
				t.Fatal(err)
			}
			if alias,
				_ := s.want("PUBLISH " + want + " q0 #0").(*packet.Publish).Properties.Int(packet.TopicAlias); alias != 1 {
				t.Errorf("alias %d", alias)
			}
		}
	})
}

// TestTheWaysBack: how long is waited before the next attempt, and what is made of ends in a row.
func TestTheWaysBack(t *testing.T) {
	b := client.Backoff{Rand: rand.New(rand.NewPCG(1, 1))}
	bound := 2 * client.BackoffMin
	var longest time.Duration
	for i := range 200 {
		d := b.Next()
		if d < client.BackoffMin || d > min(bound, client.BackoffMax) {
			t.Fatalf("attempt %d waits %s, more than %s", i, d, bound)
		}
		bound, longest = min(2*bound, client.BackoffMax), max(longest, d)
	}
	if longest < client.BackoffMax*9/10 {
		t.Errorf("never more than %s", longest)
	}
	over := &client.EndedError{Coded: true, Code: packet.SessionTakenOver}
	fin := &client.EndedError{End: link.EndFIN}
	for name, tt := range map[string]struct {
		ends  []error
		after time.Duration
		want  string // of the last, beside the error itself
		anew  bool   // the waits begin anew
	}{
		"once taken over": {[]error{over}, 0, "", true},
		"taken over twice": {[]error{over, over}, time.Hour,
			`another client uses the client identifier "pen7"`, false},
		"closed soon, twice": {[]error{fin, fin}, 2 * time.Second,
			`2 times in a row: does another client use the client identifier "pen7"?`, false},
		"closed soon, four times": {[]error{fin, fin, fin, fin}, 0, "4 times in a row", false},
		"closed late":             {[]error{fin, fin}, 3 * time.Second, "", true},
		"by another code": {[]error{&client.EndedError{Coded: true, Code: packet.ServerBusy},
			&client.EndedError{Coded: true, Code: packet.ServerBusy}}, 0, "", true},
		"by a rule": {[]error{fin, &client.EndedError{End: link.EndFIN, Rule: true}}, 0, "", true},
		"by a packet": {[]error{fin, &client.EndedError{End: link.EndFIN, Broken: &packet.Error{}}}, 0,
			"", true},
		"by us":                 {[]error{fin, errors.New("left")}, 0, "", true},
		"with one good between": {[]error{fin, errors.New("left"), fin}, 0, "", true},
	} {
		b := client.Backoff{Rand: rand.New(rand.NewPCG(2, 2))}
		for range 9 {
			b.Next()
		}
		var err error
		for _, e := range tt.ends {
			b.Next()
			err = b.Ended(e, tt.after, "pen7")
		}
		last := tt.ends[len(tt.ends)-1]
		if !errors.Is(err, last) || tt.want == "" && err != last || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v", name, err)
		}
		var most time.Duration
		for range 40 { // the first wait only: its bound tells whether it began anew
			try := b
			most = max(most, try.Next())
		}
		if anew := most <= 2*client.BackoffMin; anew != tt.anew {
			t.Errorf("%s: waits begin anew %v, up to %s", name, anew, most)
		}
	}
	if id := client.NewID(); !regexp.MustCompile(`^[0-9a-zA-Z]{1,23}$`).MatchString(id) || id == client.NewID() {
		t.Errorf("client identifier %s", id)
	}
}

// TestBlame: who ended a connection, as far as the evidence goes, and in which words.
func TestBlame(t *testing.T) {
	for _, tt := range []struct {
		err  error
		by   client.Blame
		text string
	}{
		{errors.New("left"), client.ByUs, "left"},
		{&client.EndedError{End: link.EndFIN}, client.ByBroker, "the broker closed the connection"},
		{&client.EndedError{End: link.EndRST}, client.ByReset, "the connection was reset"},
		{&client.EndedError{End: link.EndRST, Coded: true, Code: 0x8E, Server: "b:1"}, client.ByBroker,
			"the broker disconnected us: 0x8E, session taken over: it names another server to use: b:1"},
		{&client.EndedError{End: link.EndClosed, Rule: true, Reason: "odd"}, client.ByBroker,
			"the connection was closed by us: odd"},
		{&client.EndedError{End: link.EndClosed, Broken: &packet.Error{}}, client.ByBroker,
			"the connection was closed by us"},
		{&client.EndedError{End: link.EndClosed, Silent: time.Minute}, client.BySilence,
			"no PINGRESP within the keep alive of 1m0s: closed"},
		{&client.EndedError{End: link.EndClosed}, client.ByUs, "the connection was closed by us"},
		{&client.EndedError{End: link.EndCut}, client.ByUs, "the connection was cut by us"},
		{&client.EndedError{End: link.EndFailed}, client.ByUnknown, "the connection failed"},
	} {
		if by, text := client.BlameOf(fmt.Errorf("x: %w", tt.err)), tt.err.Error(); by != tt.by || text != tt.text {
			t.Errorf("%q is blamed on %s; want %q, %s", text, by, tt.text, tt.by)
		}
	}
	r := &client.RefusedError{Code: 0x9C, Version: packet.V5, Reason: "full", Server: "b:1"}
	if got := r.Error(); got != `the broker refused the connection: 0x9C, use another server (it says "full"): it names another server to use: b:1` {
		t.Error(got)
	}
}

// TestTheKeepAliveWeAskedFor counts where the broker names none: PINGREQ after three quarters of it without a packet
// from either side.
func TestTheKeepAliveWeAskedFor(t *testing.T) {
	minute := func(o *client.Options) { o.Connect.KeepAlive = 60 }
	converse(t, packet.V311, minute, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		began := time.Now()
		at := func(want time.Duration) {
			t.Helper()
			s.want("PINGREQ")
			if took := time.Since(began); took != want {
				t.Errorf("PINGREQ after %s, want %s", took, want)
			}
			s.send(&packet.Pingresp{})
			synctest.Wait()
		}
		s.send(&packet.Pingresp{}) // nobody asked
		at(45 * time.Second)
		at(90 * time.Second)
		time.Sleep(20 * time.Second)
		c.Start(packet.Publish{Topic: "a", QoS: 1})
		s.want("PUBLISH a q1 #1")
		at(135 * time.Second) // who publishes, and hears nothing, asks too
		s.want("PINGREQ")     // at 180 s, and is not answered
		if <-c.Done(); time.Since(began) != 240*time.Second {
			t.Errorf("ended after %s", time.Since(began))
		}
	})
}

// TestWhatIsToldOfALostSession: nothing at the first entry, nor where nothing is lost; each publication else.
func TestWhatIsToldOfALostSession(t *testing.T) {
	keep := func(o *client.Options) { o.Connect.CleanStart = false }
	fresh := "opened: pipe:a; > CONNECT c clean %v; < CONNACK"
	converse(t, packet.V311, keep, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		if got := e.take(); got != fmt.Sprintf(fresh, false) {
			t.Errorf("first: %s", got)
		}
		c.Close()
		e.take()
		if s.accept(c, &packet.Connack{SessionPresent: true}); e.take() != fmt.Sprintf(fresh, false) {
			t.Error("told, and nothing was lost")
		}
		c.Close()
		e.take()
		if s.accept(c, accepted); e.take() != fmt.Sprintf(fresh, false)+"; session lost: session present 0" {
			t.Error("not told")
		}
		for i := range 22 {
			c.Start(packet.Publish{Topic: fmt.Sprint("t", i), QoS: 1})
		}
		c.Close()
		e.take()
		s.accept(c, accepted)
		got := e.take()
		if !strings.Contains(got, "these 22 publications may be lost: #1 to t0 (QoS 1)") ||
			!strings.HasSuffix(got, "#20 to t19 (QoS 1) and 2 more") {
			t.Error(got)
		}
	})
	// A clean start loses only what was under way.
	converse(
		t,
		packet.V311,
		nil,
		&packet.Connack{SessionPresent: true},
		func(t *testing.T, c *client.Client, s *script, e *events) {
			c.Close()
			e.take()
			if s.accept(c, accepted); e.take() != fmt.Sprintf(fresh, true) {
				t.Error("told, and nothing was lost")
			}
			c.Start(packet.Publish{Topic: "t", QoS: 2})
			c.Close()
			e.take()
			if s.accept(c, accepted); !strings.Contains(e.take(), "these 1 publications may be lost: #1 to t (QoS 2)") {
				t.Error("not told")
			}
		},
	)
}

// TestTheCodeOfABrokenRule goes out in version 5 alone; before it the link is just closed.
func TestTheCodeOfABrokenRule(t *testing.T) {
	for v, want := range map[packet.Version]string{packet.V5: "DISCONNECT 0x81", packet.V311: ""} {
		converse(t, v, nil, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
			s.link.Write([]byte{0xd1, 0}) // PINGRESP with flags
			if want != "" {
				s.want(want)
			}
			s.ended(link.EndFIN)
			if <-c.Done(); client.BlameOf(c.Ended()) != client.ByBroker {
				t.Error(c.Ended())
			}
		})
	}
	most := func(o *client.Options) {
		o.Connect.Properties = packet.Properties{packet.Int(packet.ReceiveMaximum, 1)}
		o.Take = func(p packet.Packet) bool { return p.Type() == packet.PUBREL }
	}
	converse(t, packet.V5, most, accepted, func(t *testing.T, c *client.Client, s *script, e *events) {
		s.send(&packet.Publish{Topic: "a"}, &packet.Publish{Topic: "a"}, &packet.Publish{Topic: "a", QoS: 1, ID: 1})
		s.want("PUBACK #1")
		s.send(
			&packet.Publish{Topic: "a", QoS: 2, ID: 2},
		) // QoS 0 is not counted, and what was acknowledged not any more
		s.want("PUBREC #2")
		c.Send(&packet.Pubrec{Ack: packet.Ack{ID: 2, Code: 0x80}}) // refused by hand: that ends it (5.0 §4.3.3)
		s.want("PUBREC #2")
		s.send(&packet.Publish{Topic: "a", QoS: 2, ID: 3})
		s.want("PUBREC #3")
		s.send(&packet.Publish{Topic: "a", QoS: 2, ID: 4})
		s.want("DISCONNECT 0x93")
		if <-c.Done(); c.Ended() == nil ||
			!strings.Contains(
				c.Ended().Error(),
				"sent 2 messages without waiting for acknowledgement; our receive maximum is 1",
			) {
			t.Error(c.Ended())
		}
	})
}
