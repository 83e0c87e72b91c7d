package standin_test

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trust"
)

// stay keeps a session for an hour.
func stay(o *client.Options) {
	o.Connect.CleanStart = false
	if o.Version == packet.V5 {
		o.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 3600)}
	}
}

// TestWhatIsHeldIsCountedToTheByte: messages at 512 bytes and their text, properties at 32, a level of a topic at
// 256 and its name twice, sessions at 4 KiB, subscriptions at 512; and what is let go of is given back.
func TestWhatIsHeldIsCountedToTheByte(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		held := 0
		step := func(what string, want int) {
			t.Helper()
			synctest.Wait()
			if got := s.Held() - held; got != want {
				t.Errorf("%s: %d bytes more are held, want %d", what, got, want)
			}
			held = s.Held()
		}
		p := newPeer(t, s, v, "pub", stay)
		p.connect(t)
		step("a session", 4096+3)
		var ps packet.Properties
		extra := 0
		if v == packet.V5 {
			ps, extra = packet.Properties{packet.User("key", "value")}, 32+8
		}
		m := packet.Publish{Topic: "a/bc/d", QoS: 1, Retain: true, Payload: make([]byte, 1000), Properties: ps}
		p.publish(t, m)
		step("a stored message", 512+6+1000+extra+2*6+3*256)
		m.Payload = m.Payload[:10]
		p.publish(t, m)
		step("a shorter one in its place", -990)
		m.Payload = nil
		p.publish(t, m)
		step("none in its place", -(512 + 6 + 10 + extra + 2*6 + 3*256))
		k := newPeer(t, s, v, "kept", stay, func(o *client.Options) {
			o.Connect.Will = &packet.Will{Topic: "w/x", Payload: make([]byte, 100), QoS: 1, Properties: ps}
		})
		k.connect(t)
		step("a session with a will", 4096+4+512+3+100+extra)
		k.subscribe(t, "a/+", 1)
		k.subscribe(t, "a/+", 2)
		step("a subscription, once", 512+2*3+2*256)
		k.subscribe(t, "b", 1)
		step("another", 512+2+256)
		if _, err := k.Unsubscribe(t.Context(), "b", "never"); err != nil {
			t.Fatal(err)
		}
		step("taken back", -(512 + 2 + 256))
		k.Disconnect(0)
		step("the will is gone", -(512 + 3 + 100 + extra))
		p.publish(t, packet.Publish{Topic: "a/b", QoS: 2, Payload: make([]byte, 50)})
		step("what waits for it", 512+3+50)
		p.publish(t, packet.Publish{Topic: "a/b", Payload: make([]byte, 50)})
		step("QoS 0 does not wait", 0)
		k.connect(t)
		step("it was taken, and the will is back", -(512+3+50)+512+3+100+extra)
		clean := newPeer(t, s, v, "kept")
		clean.connect(t) // the will is published to nobody; all that was kept goes
		step("a clean start", -(512+3+100+extra)-(512+2*3+2*256))
		clean.Disconnect(0)
		p.Disconnect(0)
	})
}

// TestRoomToTheLastByte: what just fits is taken, and a byte more is not.
func TestRoomToTheLastByte(t *testing.T) {
	const session, message = 4096 + 1, 512 + 1 + 2 + 256 // a session named p; a stored message on a topic of one letter
	for _, spare := range []int{0, -1} {
		limit := standin.Limits{Memory: session + message + 100 + spare}
		converse(
			t,
			standin.Options{Anonymous: true, Limits: limit},
			func(t *testing.T, s *standin.Server, v packet.Version) {
				p := newPeer(t, s, v, "p")
				p.connect(t)
				p.publish(t, packet.Publish{Topic: "r", QoS: 1, Retain: true, Payload: make([]byte, 100)})
				if stored := len(s.Refusals()) == 0; stored != (spare == 0) {
					t.Errorf("%d bytes to spare: stored %v", spare, stored)
				}
				p.Disconnect(0)
			},
		)
		will := packet.Will{Topic: "w", Payload: make([]byte, 20)}
		limit = standin.Limits{Memory: session + 512 + 1 + 20 + spare}
		converse(
			t,
			standin.Options{Anonymous: true, Limits: limit},
			func(t *testing.T, s *standin.Server, v packet.Version) {
				p := newPeer(t, s, v, "p", func(o *client.Options) { o.Connect.Will = &will })
				if _, err := p.Connect(t.Context()); (err == nil) != (spare == 0) {
					t.Errorf("%d bytes to spare for a will: %v", spare, err)
				}
				p.Disconnect(0)
			},
		)
		limit = standin.Limits{Memory: 2*session + 512 + 2 + 256 + 512 + 1 + 100 + spare}
		converse(
			t,
			standin.Options{Anonymous: true, Limits: limit},
			func(t *testing.T, s *standin.Server, v packet.Version) {
				p, k := newPeer(t, s, v, "p"), newPeer(t, s, v, "k", stay)
				k.connect(t)
				k.subscribe(t, "a", 1)
				k.Cut()
				synctest.Wait() // it is away
				p.connect(t)
				synctest.Wait()
				p.publish(t, packet.Publish{Topic: "a", QoS: 1, Payload: make([]byte, 100)})
				synctest.Wait()
				for _, c := range s.Clients() {
					if c.ID == "k" && (c.Waiting != 1+spare || c.Dropped != -spare) {
						t.Errorf("%d bytes to spare: %d wait, %d dropped", spare, c.Waiting, c.Dropped)
					}
				}
				p.Disconnect(0)
				k.connect(t)
				k.Disconnect(0)
			},
		)
	}
	// One that is away gets twice the largest packet kept, whatever there is for all.
	for _, spare := range []int{0, -1} {
		converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
			p, k := newPeer(t, s, v, "p"), newPeer(t, s, v, "k", stay)
			k.connect(t)
			k.subscribe(t, "a", 1)
			k.Cut()
			p.connect(t)
			synctest.Wait()
			rest := 2*packetMost - 1 - (512 + 2 + 256) - spare // beside its name and the subscription
			for n := 4; n > 0; n-- {
				p.publish(t, packet.Publish{Topic: "a", QoS: 1, Payload: make([]byte, rest/n-513)})
				rest -= rest / n
			}
			for _, c := range s.Clients() {
				if c.ID == "k" && (c.Waiting != 4+spare || c.Dropped != -spare) {
					t.Errorf("%d bytes to spare: %d wait, %d dropped", spare, c.Waiting, c.Dropped)
				}
			}
			p.Disconnect(0)
		})
	}
}

// packetMost is the largest packet that a stand-in takes.
const packetMost = 8 << 20

// TestFlowsThatAreRefused at QoS 2 end with PUBREC in version 5; before it there is no way to refuse, and they go on
// (5.0 §4.3.3, 3.1.1 §4.3.3).
func TestFlowsThatAreRefused(t *testing.T) {
	for what, o := range map[string]standin.Options{
		"not authorized": {Logins: []standin.Login{{Name: "p", Token: "t", Publish: []string{"mine", "mine/too"},
			Subscribe: []string{}}}},
		"no room": {Logins: []standin.Login{{Name: "p", Token: "t"}}, Limits: standin.Limits{Memory: 10_000}},
	} {
		converse(t, o, func(t *testing.T, s *standin.Server, v packet.Version) {
			var last packet.Packet
			p := newPeer(t, s, v, "p", with("", "t"), func(o *client.Options) {
				o.Connect.HasUsername = true
				o.Take = func(p packet.Packet) bool { last = p; return true }
			})
			go p.Connect(t.Context())
			say := func(q packet.Packet) packet.Summary {
				t.Helper()
				last = nil
				p.Send(q)
				synctest.Wait()
				if last == nil {
					t.Fatalf("%s: no answer to %s", what, q.Type())
				}
				return packet.About(last, v)
			}
			synctest.Wait()
			rec := say(&packet.Publish{Topic: "other", QoS: 2, ID: 7, Retain: true, Payload: make([]byte, 9_000)})
			comp := say(&packet.Pubrel{Ack: packet.Ack{ID: 7}})
			if v5 := v == packet.V5; (rec.Code >= 0x80) != v5 || (comp.Code == packet.PacketIDNotFound) != v5 {
				t.Errorf("%s: PUBREC %#x, then PUBCOMP %#x", what, rec.Code, comp.Code)
			}
			if say(&packet.Publish{Topic: "mine", QoS: 2, ID: 7}).Code >= 0x80 ||
				say(&packet.Pubrel{Ack: packet.Ack{ID: 7}}).Code != 0 {
				t.Errorf("%s: what is in order is refused", what)
			}
			// A PUBREC for what was never sent, and one for QoS 1.
			if c := say(&packet.Pubrec{Ack: packet.Ack{ID: 99}}).Code; v == packet.V5 && c != packet.PacketIDNotFound {
				t.Errorf("PUBREL %#x", c)
			}
			p.Cut()
		})
	}
}

// TestWhatGreets: by retain handling (5.0 §3.8.3.1).
func TestWhatGreets(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		p := newPeer(t, s, packet.V5, "p")
		p.connect(t)
		p.publish(t, packet.Publish{Topic: "a", QoS: 1, Retain: true, Payload: []byte("1")})
		for _, tt := range []struct {
			how          packet.RetainHandling
			fresh, again string
		}{{packet.RetainSend, "a=1 q1R", "a=1 q1R"}, {packet.RetainSendIfNew, "a=1 q1R", ""},
			{packet.RetainDontSend, "", ""}} {
			for _, want := range []string{tt.fresh, tt.again} {
				p.Subscribe(t.Context(), []packet.Subscription{{Filter: "a", QoS: 1, RetainHandling: tt.how}})
				expect(t, fmt.Sprint("retain handling ", tt.how), p.messages(), want)
			}
			p.Unsubscribe(t.Context(), "a")
		}
		p.Disconnect(0)
	})
}

// TestWhoMayComeInWhenItIsFull: who is there already takes its own place; two without an identifier get one each.
func TestWhoMayComeInWhenItIsFull(t *testing.T) {
	two := standin.Limits{Connections: 2}
	converse(t, standin.Options{Anonymous: true, Limits: two}, func(t *testing.T, s *standin.Server, v packet.Version) {
		empty := func(o *client.Options) { o.Connect.ClientID = "" }
		if v == packet.V31 { // it knows no empty identifier
			empty = func(*client.Options) {}
		}
		a, b := newPeer(t, s, v, "a", empty), newPeer(t, s, v, "b", empty)
		a.connect(t)
		b.connect(t)
		var ids []string
		for _, c := range s.Clients() {
			ids = append(ids, c.ID)
		}
		if len(ids) != 2 {
			t.Fatalf("clients %q", ids)
		}
		again := newPeer(t, s, v, ids[0])
		again.connect(t)
		if _, err := newPeer(t, s, v, "c").Connect(t.Context()); err == nil {
			t.Error("a third is let in")
		}
		again.Disconnect(0)
		synctest.Wait()
		if c := newPeer(t, s, v, "c"); c.connect(t) != nil {
			c.Disconnect(0)
		}
		a.Close()
		b.Close()
	})
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		p := newPeer(t, s, packet.V5, "p")
		if _, told := p.connect(t).Properties.Int(packet.ReceiveMaximum); told {
			t.Error("the standard's own receive maximum is announced")
		}
		p.Disconnect(0)
	})
}

// TestVersionsThatNobodySpeaks are told so by a CONNACK of 3.1.1; what is broken otherwise gets none.
func TestVersionsThatNobodySpeaks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		for hello, want := range map[string]string{
			"\x10\x0d\x00\x04MQTT\x63\x02\x00\x00\x00\x01a": "\x20\x02\x00\x01",
			"\x10\x0d\x00\x04MQTT\x04\x03\x00\x00\x00\x01a": "",
			"\xc0\x00": "", "\x00\x00": "",
		} {
			l, _ := s.Dial(t.Context())
			l.Write([]byte(hello))
			b := make([]byte, 100)
			n, err := l.Read(b)
			if got := string(b[:n]); got != want || want == "" && err == nil {
				t.Errorf("%q is answered by %q, %v", hello, got, err)
			}
			l.Close()
		}
	})
}

// TestDecisionsOfAFault: what each hook is told, and that it decides.
func TestDecisionsOfAFault(t *testing.T) {
	run := func(d standin.Decisions, v packet.Version, f func(t *testing.T, s *standin.Server)) {
		synctest.Test(t, func(t *testing.T) {
			s, _ := standin.New(standin.Options{Anonymous: true, Faults: []standin.Fault{{Name: "x", Decisions: d}}})
			defer s.Close()
			f(t, s)
		})
	}
	run(standin.Decisions{Hold: 3 * time.Second}, packet.V311, func(t *testing.T, s *standin.Server) {
		began := time.Now()
		p := newPeer(t, s, packet.V311, "p")
		if p.connect(t); time.Since(began) != 3*time.Second {
			t.Errorf("CONNACK after %s", time.Since(began))
		}
		p.Disconnect(0)
	})
	run(
		standin.Decisions{Refuse: func(p *packet.Connect) bool { return p.ClientID == "p" }, StaysOpen: true},
		packet.V5,
		func(t *testing.T, s *standin.Server) {
			p, q := newPeer(t, s, packet.V5, "p"), newPeer(t, s, packet.V5, "q")
			go p.Connect(t.Context())
			synctest.Wait()
			if r := s.Refusals(); len(r) != 1 || r[0].ClientID != "p" || r[0].Why != "a fault of this stand-in" {
				t.Errorf("refusals: %+v", r)
			}
			for _, x := range []packet.Packet{&packet.Pingreq{}, &packet.Auth{Code: packet.ReAuthenticate,
				Properties: packet.Properties{packet.Str(packet.AuthMethod, auth.SCRAMSHA256)}}} {
				p.Send(x) // it is not acted on, and harms nothing
				synctest.Wait()
			}
			q.connect(t)
			q.Disconnect(0)
			p.Cut()
		},
	)
	var nth []int
	run(
		standin.Decisions{Pong: func(n int) int { nth = append(nth, n); return 1 }},
		packet.V311,
		func(t *testing.T, s *standin.Server) {
			p := newPeer(t, s, packet.V311, "p")
			p.connect(t)
			for range 3 {
				p.Ping(t.Context())
			}
			if fmt.Sprint(nth) != "[1 2 3]" {
				t.Errorf("pings are counted %v", nth)
			}
			p.Disconnect(0)
		},
	)
	var asked []string
	run(standin.Decisions{Match: func(filter, name string, matches bool) bool {
		asked = append(asked, filter)
		return matches != (name == "odd")
	}}, packet.V311, func(t *testing.T, s *standin.Server) {
		p := newPeer(t, s, packet.V311, "p")
		p.connect(t)
		p.publish(t, packet.Publish{Topic: "even", QoS: 1, Retain: true})
		p.publish(t, packet.Publish{Topic: "r", QoS: 1, Retain: true, Payload: []byte("1")})
		p.publish(t, packet.Publish{Topic: "odd", QoS: 1, Retain: true, Payload: []byte("2")})
		p.subscribe(t, "r", 1)
		greets := strings.Split(p.messages(), ", ")
		slices.Sort(greets) // they stand in a map
		expect(t, "what greets", strings.Join(greets, ", "), "odd=2 q1R, r=1 q1R")
		p.publish(t, packet.Publish{Topic: "r", QoS: 1})
		p.publish(t, packet.Publish{Topic: "odd", QoS: 1})
		p.publish(t, packet.Publish{Topic: "s", QoS: 1})
		expect(t, "what comes", p.messages(), "r= q1, odd= q1")
		if len(asked) < 5 {
			t.Errorf("asked of %q", asked)
		}
		p.Disconnect(0)
	})
	var wills []standin.WillCase
	none := func(id string) *packet.Publish { return &packet.Publish{Topic: "none/" + id} }
	run(standin.Decisions{WillOfNone: none, Will: func(w *standin.WillCase) {
		wills = append(wills, *w)
		w.Later = time.Second
	}}, packet.V5, func(t *testing.T, s *standin.Server) {
		w := newPeer(t, s, packet.V5, "w")
		w.connect(t)
		w.subscribe(t, "#", 1)
		leave := func(id string, will bool, how func(*client.Client)) {
			p := newPeer(t, s, packet.V5, id, func(o *client.Options) {
				if will {
					o.Connect.Will = &packet.Will{Topic: "will/" + id}
				}
			})
			p.connect(t)
			how(p.Client)
			time.Sleep(time.Millisecond) // they come in this order
		}
		leave("cut", true, func(c *client.Client) { c.Cut() })
		leave("closed", true, func(c *client.Client) { c.Close() })
		leave("bye", true, func(c *client.Client) { c.Disconnect(0) })
		leave("asked", true, func(c *client.Client) { c.Disconnect(packet.DisconnectWithWill) })
		leave("bare", false, func(c *client.Client) { c.Close() })
		leave("left", false, func(c *client.Client) { c.Disconnect(0) })
		expect(t, "at once", w.messages(), "none/bare= q0")
		time.Sleep(2 * time.Second)
		expect(t, "later, though the sessions are gone", w.messages(), "will/cut= q0, will/closed= q0, will/asked= q0")
		var got []string
		for _, x := range wills {
			got = append(got, fmt.Sprint(x.ClientID, x.Goodbye, x.Reset, x.Send))
		}
		expect(t, "what is told of wills", strings.Join(got, " "),
			"cutfalse true true closedfalse false true byetrue false false askedfalse false true")
		w.Disconnect(0)
	})
	var deliveries []string
	run(standin.Decisions{Deliver: func(d *standin.Delivery) {
		deliveries = append(deliveries, fmt.Sprint(d.Filter, d.Granted, d.Stored, d.Away, d.Nth, d.Version))
	}}, packet.V311, func(t *testing.T, s *standin.Server) {
		p, k := newPeer(t, s, packet.V311, "p"), newPeer(t, s, packet.V311, "k", stay)
		p.connect(t)
		k.connect(t)
		p.publish(t, packet.Publish{Topic: "a", QoS: 1, Retain: true, Payload: []byte("1")})
		k.subscribe(t, "a", 1)
		k.Close()
		synctest.Wait()
		p.publish(t, packet.Publish{Topic: "a", QoS: 1})
		expect(t, "deliveries", strings.Join(deliveries, "; "), "a1 true false 0 3.1.1; a1 false true 1 3.1.1")
		p.Disconnect(0)
	})
}

// TestRefusalsThatAreKept: the latest 500.
func TestRefusalsThatAreKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(
			standin.Options{
				Anonymous: true,
				Logins:    []standin.Login{{Name: "x", Token: "t", Publish: []string{"a", "b"}}},
			},
		)
		defer s.Close()
		p := newPeer(t, s, packet.V5, "p", with("", "t"))
		p.connect(t)
		for i := range 501 {
			p.publish(t, packet.Publish{Topic: fmt.Sprint("n", i), QoS: 1})
			if r := s.Refusals(); len(r) != min(i+1, 500) || r[len(r)-1].What != fmt.Sprint("PUBLISH n", i) {
				t.Fatalf("%d kept after %d", len(r), i+1)
			}
		}
		if first := s.Refusals()[0]; first.What != "PUBLISH n1" || first.Username != "" || first.Version != packet.V5 ||
			first.ClientID != "p" {
			t.Errorf("%+v", first)
		}
		p.Disconnect(0)
	})
}

// TestAReauthenticationForAnotherLogin ends the connection (5.0 §4.12.1).
func TestAReauthenticationForAnotherLogin(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(
			standin.Options{Logins: []standin.Login{{Name: "a", Password: "one"}, {Name: "b", Password: "two"}}},
		)
		defer s.Close()
		m := &twoFaced{}
		for i, who := range [][2]string{{"a", "one"}, {"b", "two"}} {
			var err error
			if m.of[i], err = auth.NewSCRAM(who[0], who[1]); err != nil {
				t.Fatal(err)
			}
		}
		p := newPeer(t, s, packet.V5, "p", func(o *client.Options) { o.Auth = m })
		p.connect(t)
		if err := p.Reauthenticate(t.Context()); err == nil || !strings.Contains(err.Error(), "not authorized") {
			t.Error(err)
		}
		synctest.Wait()
		if r := s.Refusals(); len(r) != 1 || r[0].Why != "the re-authentication is for another login" {
			t.Errorf("%+v", r)
		}
	})
}

// twoFaced authenticates as one login first, as another then.
type twoFaced struct {
	of [2]auth.Method
	n  int
}

func (m *twoFaced) Name() string { return m.of[0].Name() }

func (m *twoFaced) Begin() auth.Exchange { m.n++; return m.of[m.n-1].Begin() }

// TestLoginsByCertificate: by the common name or the whole subject of a certificate that was verified.
func TestLoginsByCertificate(t *testing.T) {
	kit, err := trust.NewKit("pen-1", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	other, err := kit.Issue(trust.Request{CommonName: "pen-2"})
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := kit.Issue(trust.Request{CommonName: "whelk"})
	if err != nil {
		t.Fatal(err)
	}
	s, err := standin.New(
		standin.Options{
			Logins: []standin.Login{{Name: "pen-1"}, {Name: "second", Subject: other.Leaf.Subject.String()}},
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, _, err := s.ListenURL("mqtts://127.0.0.1:0", nil); err == nil ||
		!strings.Contains(err.Error(), "needs a certificate") {
		t.Error(err)
	}
	config := &tls.Config{
		Certificates: []tls.Certificate{kit.Server},
		ClientCAs:    kit.Pool(),
		ClientAuth:   tls.VerifyClientCertIfGiven,
	}
	for _, scheme := range []string{"mqtts", "wss"} {
		url, _, err := s.ListenURL(scheme+"://127.0.0.1:0", config)
		if err != nil || strings.HasSuffix(url, "/mqtt") != (scheme == "wss") {
			t.Fatal(url, err)
		}
		for name, tt := range map[string]struct {
			with []tls.Certificate
			want string
		}{
			"its common name": {[]tls.Certificate{kit.Client}, "pen-1"},
			"its subject":     {[]tls.Certificate{other}, "second"},
			"nobody's":        {[]tls.Certificate{stranger}, ""}, "none": {nil, ""},
		} {
			p := newPeer(t, s, packet.V311, "p", func(o *client.Options) {
				o.Dial = func(ctx context.Context) (*link.Link, error) {
					return link.Dial(
						ctx,
						url,
						link.Options{TLS: &tls.Config{RootCAs: kit.Pool(), Certificates: tt.with}},
					)
				}
			})
			_, err := p.Connect(t.Context())
			var refused *client.RefusedError
			got := ""
			if err == nil {
				got = s.Clients()[0].Login
			} else if !errors.As(err, &refused) || refused.Code != packet.RefusedRights {
				t.Error(err)
			}
			if got != tt.want {
				t.Errorf("a certificate that is %s stands for %q", name, got)
			}
			p.Disconnect(0)
		}
		why := fmt.Sprint(s.Refusals())
		if !strings.Contains(why, `the client certificate's subject "CN=whelk`) ||
			!strings.Contains(why, "it presents no credentials") {
			t.Errorf("refusals: %s", why)
		}
	}
}

// TestSmallTruths of the stand-in, each of which something else rests on.
func TestSmallTruths(t *testing.T) {
	converse(t, standin.Options{Anonymous: true}, func(t *testing.T, s *standin.Server, v packet.Version) {
		will := func(o *client.Options) { o.Connect.Will = &packet.Will{Topic: "w", Payload: []byte("gone")} }
		a, b := newPeer(t, s, v, "a", will), newPeer(t, s, v, "b")
		a.connect(t)
		b.connect(t)
		if c := s.Clients(); len(c) != 2 || c[0].ID != "a" || !c[0].HasWill || c[1].HasWill {
			t.Errorf("%+v", c)
		}
		b.subscribe(t, "$own/#", 1) // who may everything, may these too
		if code, err := a.Publish(t.Context(), packet.Publish{Topic: "$own/x", QoS: 1}); err != nil || code != 0 {
			t.Errorf("%v %v", code, err)
		}
		b.subscribe(t, "t", 1)
		for i := range 3 {
			a.publish(t, packet.Publish{Topic: "t", QoS: 1, Payload: []byte{byte('0' + i)}})
		}
		synctest.Wait()
		for i, m := range b.got {
			if int(m.ID) != i+1 {
				t.Errorf("message %d has the identifier %d", i, m.ID)
			}
		}
		a.Disconnect(0)
		b.Disconnect(0)
	})
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		w := newPeer(t, s, packet.V5, "w")
		w.connect(t)
		w.subscribe(t, "#", 0)
		k := newPeer(t, s, packet.V5, "k", stay, func(o *client.Options) {
			o.Connect.Will = &packet.Will{
				Topic:      "will/k",
				Properties: packet.Properties{packet.Int(packet.WillDelay, 100)},
			}
		})
		k.connect(t)
		k.Cut()
		expect(t, "before its delay", w.messages(), "")
		clean := newPeer(t, s, packet.V5, "k")
		clean.connect(t) // that ends the session: the will is due (5.0 §3.1.3.2.2)
		expect(t, "at the end of the session", w.messages(), "will/k= q0")
		clean.Disconnect(0)
		// A packet of just the size that the client takes comes; one of a byte more does not.
		small := newPeer(t, s, packet.V5, "s", func(o *client.Options) {
			o.Connect.Properties = packet.Properties{packet.Int(packet.MaximumPacketSize, 50)}
		})
		small.connect(t)
		small.subscribe(t, "s", 1)
		for _, n := range []int{43, 42} { // 8 bytes beside it
			w.publish(t, packet.Publish{Topic: "s", QoS: 1, Payload: []byte(strings.Repeat("x", n))})
		}
		if got := small.messages(); len(got) != len("s= q1")+42 {
			t.Errorf("%d: %s", len(got), got)
		}
		small.Disconnect(0)
		// A share goes to who is there.
		here, away := newPeer(t, s, packet.V5, "here", stay), newPeer(t, s, packet.V5, "away", stay)
		for _, p := range []*peer{here, away} {
			p.connect(t)
			p.subscribe(t, "$share/crew/j", 1)
		}
		away.Close()
		synctest.Wait()
		for range 4 {
			w.publish(t, packet.Publish{Topic: "j", QoS: 1})
		}
		expect(t, "a share while one is away", here.messages(), "j= q1, j= q1, j= q1, j= q1")
		here.Disconnect(0)
		// Who comes back with less room than a message needs, loses it, and it is told.
		big := newPeer(t, s, packet.V5, "away", stay, func(o *client.Options) {
			o.Connect.Properties = append(o.Connect.Properties, packet.Int(packet.MaximumPacketSize, 60))
		})
		for range 20 { // some go to the other member, who is away too
			w.publish(t, packet.Publish{Topic: "j", QoS: 1, Payload: make([]byte, 100)})
		}
		big.connect(t)
		synctest.Wait()
		for _, c := range s.Clients() {
			if c.ID == "away" && c.Dropped < 1 {
				t.Errorf("%+v", c)
			}
		}
		big.Disconnect(0)
		w.Disconnect(0)
	})
	// Of two faults the second hears of what the first left.
	answered := 0
	synctest.Test(t, func(t *testing.T) {
		faults := []standin.Fault{
			{Name: "a", Decisions: standin.Decisions{Answer: func(packet.Packet) packet.Packet { return nil }}},
			{
				Name: "b",
				Decisions: standin.Decisions{Answer: func(p packet.Packet) packet.Packet { answered++; return p },
					Password: func(want string, p *packet.Connect, right bool) bool { return right }},
			},
		}
		s, _ := standin.New(
			standin.Options{Anonymous: true, Faults: faults, Logins: []standin.Login{{Name: "x", Password: "y"}}},
		)
		defer s.Close()
		if _, err := newPeer(t, s, packet.V5, "q", with("nobody", "z")).Connect(t.Context()); err == nil {
			t.Error("nobody is let in")
		}
		p := newPeer(t, s, packet.V5, "p")
		p.connect(t)
		p.Start(packet.Publish{Topic: "a", QoS: 1})
		synctest.Wait()
		if seen := strings.Join(p.seen, " "); answered != 0 || seen != "Connack" {
			t.Errorf("asked %d times about an answer that was kept back; the client got %s", answered, seen)
		}
		p.Disconnect(0)
	})
	// What a flow's end leads to by a fault, and what hooks hear.
	synctest.Test(t, func(t *testing.T) {
		var sent, received, ended []string
		hooks := &standin.Hooks{
			Opened: func(*standin.Peer) {},
			Received: func(p *standin.Peer, k packet.Packet, raw []byte, err error) {
				received = append(received, fmt.Sprint(p.ClientID, k != nil, len(raw) > 0))
			},
			Sent:  func(p *standin.Peer, k packet.Packet, raw []byte) { sent = append(sent, k.Type().String()) },
			Ended: func(p *standin.Peer, text string) { ended = append(ended, fmt.Sprint(p.ClientID, p.End, text)) },
		}
		again := standin.Fault{
			Name:      "x",
			Decisions: standin.Decisions{Released: func(p *packet.Publish) bool { return !p.Dup && p.QoS == 2 }},
		}
		s, _ := standin.New(standin.Options{Anonymous: true, Hooks: hooks, Faults: []standin.Fault{again}})
		defer s.Close()
		p := newPeer(t, s, packet.V311, "p")
		p.connect(t)
		p.subscribe(t, "a", 2)
		p.publish(t, packet.Publish{Topic: "a", QoS: 2})
		expect(t, "released again", p.messages(), "a= q2, a= q2D")
		p.Close() // without a word: nothing was received then
		synctest.Wait()
		if want := "ptrue true"; len(received) < 5 || received[0] != want || received[len(received)-1] != want {
			t.Errorf("received %q", received)
		}
		if len(ended) != 1 || !strings.Contains(ended[0], "the client closed the connection") || sent[0] != "CONNACK" {
			t.Errorf("%q %q", sent, ended)
		}
	})
}
