package standin_test

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

func with(user, password string) func(*client.Options) {
	return func(o *client.Options) {
		o.Connect.HasUsername, o.Connect.Username = user != "", user
		o.Connect.HasPassword, o.Connect.Password = true, []byte(password)
	}
}

// TestRightsOfALogin: who may say and hear what, how each version is told, and what the
// stand-in keeps of it.
func TestRightsOfALogin(t *testing.T) {
	pen := standin.Login{Name: "pen-1", Password: "fish", Publish: []string{"farm/{login}/#"}, Subscribe: []string{"farm/+/set", "farm/{login}/#"}}
	converse(t, standin.Options{Logins: []standin.Login{pen, {Name: "desk", Token: "t0k"}}}, func(t *testing.T, s *standin.Server, v packet.Version) {
		ctx := context.Background()
		p, desk := newPeer(t, s, v, "p", with("pen-1", "fish")), newPeer(t, s, v, "d", with("anyone", "t0k"))
		p.connect(t)
		desk.connect(t)
		desk.subscribe(t, "#", 2)
		for topic, allowed := range map[string]bool{"farm/pen-1/oxygen": true, "farm/pen-1": true, "farm/pen-2/oxygen": false, "farm": false} {
			for qos := packet.QoS(0); qos <= 2; qos++ {
				code, err := p.Publish(ctx, packet.Publish{Topic: topic, QoS: qos, Payload: []byte("x")})
				told := code == packet.NotAuthorized
				if got := desk.messages(); err != nil || (got != "") != allowed || told != (!allowed && v == packet.V5 && qos > 0) {
					t.Errorf("%s QoS %d: %q, %#x %v", topic, qos, got, code, err)
				}
			}
		}
		ack, err := p.Subscribe(ctx, []packet.Subscription{{Filter: "farm/pen-1/+"}, {Filter: "farm/pen-2/set", QoS: 1}, {Filter: "farm/pen-2/+"}, {Filter: "#", QoS: 1}, {Filter: "farm/#"}})
		want := map[packet.Version]string{packet.V31: "[0 1 0 1 0]", packet.V311: "[0 1 128 128 128]", packet.V5: "[0 1 135 135 135]"}[v]
		if err != nil || fmt.Sprint(ack.Codes) != want {
			t.Errorf("%v %v, want %s", ack.Codes, err, want)
		}
		desk.publish(t, packet.Publish{Topic: "farm/pen-2/feed", QoS: 1})
		expect(t, "what p may not read", p.messages(), "")
		w := newPeer(t, s, v, "w", with("pen-1", "fish"), func(o *client.Options) { o.Connect.Will = &packet.Will{Topic: "farm/pen-2/status"} })
		if _, err := w.Connect(ctx); err == nil || !strings.Contains(err.Error(), "not authorized") {
			t.Errorf("a will beyond the rights: %v", err)
		}
		bad := newPeer(t, s, v, "b", with("pen-1", "meat"))
		bad.Connect(ctx)
		synctest.Wait()
		var kept []string
		for _, r := range s.Refusals() {
			kept = append(kept, fmt.Sprintf("%s %s %#x %s", r.ClientID, r.What, byte(r.Code), r.Why))
		}
		all := strings.Join(kept, "\n")
		for _, want := range []string{`p PUBLISH farm/pen-2/oxygen 0x87 the login "pen-1" may not publish to it`, `p SUBSCRIBE # 0x87 the login "pen-1" may not read all of it`,
			"w CONNECT 0x87 ", `b CONNECT 0x86 the password of "pen-1" is wrong`} {
			if !strings.Contains(all, want) {
				t.Errorf("refusals lack %q:\n%s", want, all)
			}
		}
		if strings.Contains(all, "meat") || strings.Contains(all, "fish") {
			t.Error("a password is among the refusals")
		}
		for _, c := range s.Clients() {
			if c.ID == "p" && (c.Login != "pen-1" || c.Published != 12 || c.PublishedRate != 0 || c.KeepAlive != time.Minute || !strings.Contains(fmt.Sprint(c.Filters), "farm/pen-1/+")) {
				t.Errorf("%+v", c)
			}
		}
		time.Sleep(time.Second)
		for _, c := range s.Clients() {
			if c.ID == "p" && c.PublishedRate != 4 { // 12 within three seconds
				t.Errorf("rate %v", c.PublishedRate)
			}
		}
		p.Disconnect(0)
		desk.Disconnect(0)
	})
}

// TestLimitsAreAnnouncedAndKept: our own client heeds them; one that does not is ended with
// the standard's code.
func TestLimitsAreAnnouncedAndKept(t *testing.T) {
	one := packet.QoS(1)
	limits := standin.Limits{MaximumQoS: &one, NoRetained: true, NoWildcards: true, NoIdentifiers: true, NoShared: true, MaximumPacketSize: 200,
		ReceiveMaximum: 5, ServerKeepAlive: 9, ClientID: regexp.MustCompile("^[a-z]{1,3}$"), NoEmptyClientID: true, Connections: 2}
	converse(t, standin.Options{Anonymous: true, Limits: limits}, func(t *testing.T, s *standin.Server, v packet.Version) {
		ctx := context.Background()
		v5 := v == packet.V5
		enter := func(id string, change ...func(*client.Options)) string {
			p := newPeer(t, s, v, id, change...)
			_, err := p.Connect(ctx)
			var refused *client.RefusedError
			if errors.As(err, &refused) {
				return refused.Code.In(packet.CONNACK, v)
			}
			p.Disconnect(0)
			return fmt.Sprint(err)
		}
		pick := func(five, older string) string {
			if v5 {
				return five
			}
			return older
		}
		expect(t, "a long client id", enter("abcd"), pick("client identifier not valid", "identifier rejected"))
		expect(t, "no client id", enter(""), pick("client identifier not valid", "identifier rejected"))
		willAt := func(w packet.Will) func(*client.Options) { return func(o *client.Options) { o.Connect.Will = &w } }
		expect(t, "a will at QoS 2", enter("a", willAt(packet.Will{Topic: "w", QoS: 2})), pick("QoS not supported", "not authorized"))
		expect(t, "a retained will", enter("a", willAt(packet.Will{Topic: "w", Retain: true})), pick("retain not supported", "not authorized"))
		p := newPeer(t, s, v, "a")
		ack := p.connect(t)
		if v5 && (ack.Properties.IntOr(packet.MaximumQoS, 2) != 1 || ack.Properties.IntOr(packet.ServerKeepAlive, 0) != 9 || len(ack.Properties) != 9) {
			t.Errorf("announced %v", ack.Properties)
		}
		newPeer(t, s, v, "b").connect(t)
		expect(t, "one too many", enter("c"), pick("quota exceeded", "server unavailable"))
		p.connect2(t, "who comes again takes his own place")

		subs := func(f string, ps ...packet.Property) string {
			a, err := p.Subscribe(ctx, []packet.Subscription{{Filter: f, QoS: 2}}, ps...)
			if err != nil {
				return err.Error()
			}
			return fmt.Sprint(a.Codes)
		}
		expect(t, "QoS 2 asked", subs("x"), "[1]")
		if !v5 {
			if v == packet.V311 {
				expect(t, "wildcards", subs("x/+"), "[128]")
			}
			p.publish(t, packet.Publish{Topic: "x", Retain: true, Payload: []byte("1")})
			expect(t, "passed on", p.messages(), "x=1 q0")
			subs("x")
			expect(t, "but not stored", p.messages(), "")
		} else {
			for f, want := range map[string]string{"x/+": "no wildcards", "$share/g/x": "shares no subscriptions"} {
				if got := subs(f); !strings.Contains(got, want) {
					t.Errorf("%s: %s", f, got)
				}
			}
			if got := subs("y", packet.Int(packet.SubscriptionIdentifier, 1)); !strings.Contains(got, "subscription identifier: the broker takes none") {
				t.Error(got)
			}
			for _, m := range []packet.Publish{{Topic: "x", QoS: 2}, {Topic: "x", Retain: true}, {Topic: "x", Payload: make([]byte, 200)}} {
				var limit *client.LimitError
				if _, err := p.Publish(ctx, m); !errors.As(err, &limit) {
					t.Errorf("%+v: %v", m, err)
				}
			}
			p.Send(&packet.Subscribe{ID: 77, Subscriptions: []packet.Subscription{{Filter: "x/+"}}, Properties: packet.Properties{packet.Int(packet.SubscriptionIdentifier, 1)}})
			synctest.Wait()
		}
		p.Disconnect(0)
		for name, rude := range map[string]packet.Packet{
			"QoS not supported": &packet.Publish{Topic: "x", QoS: 2, ID: 1}, "packet too large": &packet.Publish{Topic: "x", Payload: make([]byte, 200)},
			"retain not supported": &packet.Publish{Topic: "x", Retain: true},
		} {
			if name == "retain not supported" && !v5 {
				continue
			}
			p.connect(t)
			if name == "packet too large" {
				p.SendRaw(rude.Append(nil, v)) // our client would not
			} else {
				p.Send(rude)
			}
			<-p.Done()
			if told := strings.Contains(p.Ended().Error(), name); told != v5 {
				t.Errorf("%s: %v", name, p.Ended())
			}
		}
		s.ThrowOut("b")
	})
}

// connect2 connects under the same client id while the first connection stands.
func (p *peer) connect2(t *testing.T, what string) {
	t.Helper()
	p.Close()
	if _, err := p.Connect(context.Background()); err != nil {
		t.Errorf("%s: %v", what, err)
	}
}

func TestAReceiveMaximumAndARedirect(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true, Limits: standin.Limits{ReceiveMaximum: 3}})
		defer s.Close()
		rude := newPeer(t, s, packet.V5, "rude")
		rude.connect(t)
		for id := range uint16(4) {
			rude.Send(&packet.Publish{Topic: "x", QoS: 2, ID: id + 1})
		}
		<-rude.Done()
		expect(t, "four at once", rude.Ended().Error(), "the broker disconnected us: 0x93, receive maximum exceeded")
		polite := newPeer(t, s, packet.V5, "polite")
		polite.connect(t)
		var pubs []*client.Publication
		for range 10 {
			pub, err := polite.Start(packet.Publish{Topic: "x", QoS: 2})
			if err != nil {
				t.Fatal(err)
			}
			pubs = append(pubs, pub)
		}
		for _, pub := range pubs {
			if _, err := pub.Wait(context.Background()); err != nil {
				t.Error(err)
			}
		}
		if _, err := polite.Start(packet.Publish{Topic: "x", QoS: 1, ID: 5}); err != nil {
			t.Error(err)
		}
		polite.Disconnect(0)
		away, _ := standin.New(standin.Options{Anonymous: true, Limits: standin.Limits{Redirect: "pier.marrowvoe.example:1883"}})
		defer away.Close()
		for v, want := range map[packet.Version]string{packet.V5: "use another server: it names another server to use: pier.marrowvoe.example:1883", packet.V311: "server unavailable"} {
			if _, err := newPeer(t, away, v, "p").Connect(context.Background()); err == nil || !strings.HasSuffix(err.Error(), want) {
				t.Error(err)
			}
		}
	})
}

// TestSCRAM: the exchange of RFC 7677 both ways, its refusals, renewing it, and that
// neither password nor proof shows.
func TestSCRAM(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Logins: []standin.Login{{Name: "desk", Password: "kelp", Publish: []string{"a"}}, {Name: "pen", Password: "fish"}}})
		defer s.Close()
		by := func(user, password string) func(*client.Options) {
			m, err := auth.NewSCRAM(user, password)
			if err != nil {
				t.Fatal(err)
			}
			return func(o *client.Options) { o.Auth = m }
		}
		ctx := context.Background()
		p := newPeer(t, s, packet.V5, "p", by("desk", "kelp"))
		p.connect(t)
		synctest.Wait()
		expect(t, "the way in", strings.Join(p.seen, " "), "Auth Connack")
		if code, _ := p.Publish(ctx, packet.Publish{Topic: "b", QoS: 1}); code != packet.NotAuthorized {
			t.Errorf("the login's rights do not hold: %#x", code)
		}
		for range 2 {
			if err := p.Reauthenticate(ctx); err != nil {
				t.Error(err)
			}
		}
		if c := s.Clients(); len(c) != 1 || c[0].Login != "desk" || c[0].Username != "desk" {
			t.Errorf("%+v", c)
		}
		p.Disconnect(0)
		for _, change := range []func(*client.Options){by("desk", "Kelp"), by("nobody", "kelp")} {
			q := newPeer(t, s, packet.V5, "q", change)
			if _, err := q.Connect(ctx); err == nil || !strings.Contains(err.Error(), "not authorized") {
				t.Error(err)
			}
		}
		other := newPeer(t, s, packet.V5, "o", func(o *client.Options) {
			o.Connect.Properties = packet.Properties{packet.Str(packet.AuthMethod, "GUESS")}
		})
		if _, err := other.Connect(ctx); err == nil || !strings.Contains(err.Error(), "bad authentication method") {
			t.Error(err)
		}
		if err := newPeer(t, s, packet.V5, "n").Reauthenticate(ctx); !errors.Is(err, client.ErrNotConnected) {
			t.Error(err)
		}
		// A broker that does not know the password cannot let us in by guessing.
		thief, theirs := link.Pipe()
		q := newPeer(t, s, packet.V5, "q", by("desk", "kelp"), func(o *client.Options) {
			o.Dial = func(context.Context) (*link.Link, error) { return theirs, nil }
		})
		done := make(chan error)
		go func() { _, err := q.Connect(ctx); done <- err }()
		if _, _, err := packet.NewReader(thief, packet.V5).Next(); err != nil {
			t.Fatal(err)
		}
		thief.Write((&packet.Connack{}).Append(nil, packet.V5))
		if err := <-done; err == nil || !strings.Contains(err.Error(), "without showing that it knows the password") {
			t.Error(err)
		}
		thief.Close()
	})
}

// TestSharedSubscriptions: each message to one member, the sessions that are away left out,
// nothing stored for greeting.
func TestSharedSubscriptions(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		a, b, w := newPeer(t, s, v, "a"), newPeer(t, s, v, "b"), newPeer(t, s, v, "w")
		for _, p := range []*peer{a, b, w} {
			p.connect(t)
		}
		w.publish(t, packet.Publish{Topic: "j/0", QoS: 1, Retain: true, Payload: []byte("old")})
		a.subscribe(t, "$share/crew/j/+", 1)
		b.subscribe(t, "$share/crew/j/+", 1)
		b.subscribe(t, "j/3", 0)
		w.subscribe(t, "$share/other/j/#", 0)
		for n := 1; n <= 4; n++ {
			w.publish(t, packet.Publish{Topic: fmt.Sprint("j/", n), QoS: 1})
		}
		inA, inB := a.messages(), b.messages()
		if n := strings.Count(inA+","+inB, "q1"); n != 4 || strings.Count(inA, "q1") != 2 || !strings.Contains(inB, "j/3= q0") {
			t.Errorf("a got %s; b got %s", inA, inB)
		}
		expect(t, "another share gets all", w.messages(), "j/1= q0, j/2= q0, j/3= q0, j/4= q0")
		b.Disconnect(0)
		synctest.Wait()
		w.publish(t, packet.Publish{Topic: "j/5", QoS: 1})
		w.publish(t, packet.Publish{Topic: "j/6", QoS: 1})
		expect(t, "the one who is left", a.messages(), "j/5= q1, j/6= q1")
		a.Unsubscribe(context.Background(), "$share/crew/j/+")
		w.messages()
		w.publish(t, packet.Publish{Topic: "j/7", QoS: 1})
		expect(t, "nobody is left", a.messages(), "")
		a.Disconnect(0)
		w.Disconnect(0)
	})
}

// TestRequestsAndAliases: a request finds its response, and topics become aliases within
// what the stand-in allows, also after coming back.
func TestRequestsAndAliases(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		pen := newPeer(t, s, packet.V5, "pen")
		pen.connect(t)
		pen.subscribe(t, "ask/+", 1)
		go func() {
			for ctx.Err() == nil {
				pen.mu.Lock()
				got := pen.got
				pen.got = nil
				pen.mu.Unlock()
				for _, m := range got {
					to, _ := m.Properties.Str(packet.ResponseTopic)
					data, _ := m.Properties.Str(packet.CorrelationData)
					if m.Topic != "ask/never" {
						pen.Publish(ctx, packet.Publish{Topic: to, QoS: 1, Payload: append([]byte("re "), m.Payload...), Properties: packet.Properties{packet.Str(packet.CorrelationData, data)}})
					}
				}
				time.Sleep(time.Second)
			}
		}()
		desk := newPeer(t, s, packet.V5, "desk", func(o *client.Options) { o.UseAliases = true })
		desk.connect(t)
		for _, q := range []string{"one", "two"} {
			r, err := desk.Request(ctx, packet.Publish{Topic: "ask/" + q, QoS: 1, Payload: []byte(q)}, "answers/desk")
			if err != nil || string(r.Payload) != "re "+q {
				t.Errorf("%s: %v %v", q, r, err)
			}
		}
		short, stop := context.WithTimeout(ctx, 5*time.Second)
		if _, err := desk.Request(short, packet.Publish{Topic: "ask/never"}, "answers/desk"); err == nil || !strings.Contains(err.Error(), "no response") {
			t.Error(err)
		}
		stop()
		// And the other way: the watcher allows three, which the stand-in sets.
		set, used := map[string]bool{}, 0
		w := newPeer(t, s, packet.V5, "w", func(o *client.Options) {
			o.Connect.Properties = packet.Properties{packet.Int(packet.TopicAliasMaximum, 3)}
			o.Hooks.Received = func(p packet.Packet, _ []byte, _ error) {
				if m, ok := p.(*packet.Publish); ok && m.Properties.IntOr(packet.TopicAlias, 0) > 0 {
					if m.Topic == "" {
						used++
					} else {
						set[m.Topic] = true
					}
				}
			}
		})
		w.connect(t)
		w.subscribe(t, "long/#", 1)
		defer func() {
			if len(set) != 3 || used != 9 {
				t.Errorf("the stand-in set %v and used them %d times", set, used)
			}
		}()
		for round := range 2 {
			for n := range 40 { // more topics than aliases are allowed
				for range 2 {
					desk.publish(t, packet.Publish{Topic: fmt.Sprint("long/name/", n), QoS: packet.QoS(n % 2)})
				}
			}
			time.Sleep(10 * time.Millisecond) // a stream is left to gather
			got := strings.Split(w.messages(), ", ")
			if len(got) != 80 || got[79] != "long/name/39= q1" || got[1] != "long/name/0= q0" {
				t.Errorf("round %d: %d messages, %q", round, len(got), got)
			}
			desk.Cut()
			desk.connect(t)
		}
		cancel()
		for _, p := range []*peer{pen, desk, w} {
			p.Disconnect(0)
		}
		time.Sleep(2 * time.Second)
	})
}
