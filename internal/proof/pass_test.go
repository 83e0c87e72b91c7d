package proof_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/prooftest"
	"hodstone/internal/trace"
)

// one makes a check of a function.
func one(name string, run func(*proof.Pass) error) *proof.Check {
	return &proof.Check{Name: name, Title: name, Expected: "as told", Sections: proof.Same("1", "1"), Run: run}
}

// try carries a check out against a stand-in that decides otherwise.
func try(
	t *testing.T,
	o standin.Options,
	d standin.Decisions,
	v packet.Version,
	run func(*proof.Pass) error,
) (r proof.Result) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		o.Faults = []standin.Fault{{Name: "x", Decisions: d}}
		o.Logins = prooftest.Secured().Logins
		s, err := standin.New(o)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		p, err := proof.Run(t.Context(), prooftest.Target(s, false),
			proof.Options{Checks: []*proof.Check{one("x.y", run)}, Versions: []packet.Version{v}})
		if err != nil {
			t.Fatal(err)
		}
		r = p.Results[0]
	})
	return r
}

// answer changes one kind of packet that goes out in a flow, but for those of the look at what the broker offers.
func answer(typ packet.Type, to func(uint16) packet.Packet) standin.Decisions {
	n := 0
	return standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
		if p.Type() != typ {
			return p
		}
		if n++; n == 1 && typ != packet.PUBACK { // it looks with QoS 2
			return p
		}
		return to(packet.About(p, packet.V5).ID)
	}}
}

// TestWhatAPassMakesOfAnswers: of what is missing, refused, or another than it must be.
func TestWhatAPassMakesOfAnswers(t *testing.T) {
	nothing := func(uint16) packet.Packet { return nil }
	enter := func(p *proof.Pass) *proof.Client {
		c := p.Client("subject")
		if _, err := p.Enter(c); err != nil {
			t.Fatal(err)
		}
		return c
	}
	flow := func(q packet.QoS) func(p *proof.Pass) error {
		return func(p *proof.Pass) error {
			_, err := p.Flow(enter(p), packet.Publish{Topic: p.Topic("a"), QoS: q})
			return err
		}
	}
	publish := func(p *proof.Pass) error {
		_, err := p.Publish(enter(p), packet.Publish{Topic: p.Topic("a"), QoS: 1})
		return err
	}
	two := packet.QoS(0)
	for name, tt := range map[string]struct {
		o       standin.Options
		d       standin.Decisions
		v       packet.Version
		run     func(*proof.Pass) error
		verdict proof.Verdict
		seen    string
	}{
		"a flow at QoS 0": {standin.Options{}, standin.Decisions{}, packet.V5, flow(0), proof.Kept,
			"just that"},
		"a flow at QoS 1": {standin.Options{}, standin.Decisions{}, packet.V5, flow(1), proof.Kept,
			"just that"},
		"a flow at QoS 2": {standin.Options{}, standin.Decisions{}, packet.V311, flow(2), proof.Kept,
			"just that"},
		"no PUBACK, where it is asked": {standin.Options{}, answer(packet.PUBACK, nothing), packet.V5, flow(1),
			proof.Broken, "no PUBACK within 5s of PUBLISH at QoS 1"},
		"no PUBACK, where it is not": {standin.Options{}, answer(packet.PUBACK, nothing), packet.V5, publish,
			proof.Undecided, "no acknowledgement for 5s"},
		"no PUBREC": {standin.Options{}, answer(packet.PUBREC, nothing), packet.V5, flow(2),
			proof.Broken, "no PUBREC within 5s of PUBLISH at QoS 2"},
		"no PUBCOMP": {standin.Options{}, answer(packet.PUBCOMP, nothing), packet.V5, flow(2),
			proof.Broken, "no PUBCOMP within 5s of PUBLISH at QoS 2"},
		"PUBREC in place of PUBACK": {standin.Options{},
			answer(packet.PUBACK, func(id uint16) packet.Packet { return &packet.Pubrec{Ack: packet.Ack{ID: id}} }),
			packet.V5, flow(1), proof.Broken, "PUBREC came in place of PUBACK, for PUBLISH at QoS 1"},
		"a refusal": {standin.Options{},
			answer(packet.PUBACK, func(id uint16) packet.Packet {
				return &packet.Puback{Ack: packet.Ack{ID: id,
					Code: 0x97}}
			}), packet.V5, publish, proof.Undecided, "the broker did not take the message for hodstone/"},
		"a refusal in a flow": {standin.Options{},
			answer(packet.PUBACK, func(id uint16) packet.Packet {
				return &packet.Puback{Ack: packet.Ack{ID: id,
					Code: 0x80}}
			}), packet.V5, flow(1), proof.Undecided, "unspecified error"},
		"a QoS that it does not do": {standin.Options{Limits: standin.Limits{MaximumQoS: &two}},
			standin.Decisions{}, packet.V5, flow(1), proof.Unsupported, "the broker does QoS 0 at most"},
		"a packet that it does not take": {standin.Options{Limits: standin.Limits{MaximumPacketSize: 200}},
			standin.Decisions{}, packet.V5, func(p *proof.Pass) error {
				_, err := p.Publish(enter(p), packet.Publish{Topic: p.Topic("a"), Payload: make([]byte, 200)})
				return err
			}, proof.Unsupported, "the broker takes at most 200 (maximum packet size"},
		"a client that is gone": {standin.Options{}, standin.Decisions{}, packet.V5, func(p *proof.Pass) error {
			c := enter(p)
			c.Cut()
			_, err := p.Publish(c, packet.Publish{Topic: p.Topic("a")})
			return err
		}, proof.Undecided, "the subject is no longer connected: the connection was cut by us"},
		"a topic that is none": {standin.Options{}, standin.Decisions{}, packet.V5, func(p *proof.Pass) error {
			_, err := p.Publish(enter(p), packet.Publish{Topic: "a/#"})
			return err
		}, proof.Undecided, "the subject could not publish: "},
		"pings that are answered": {standin.Options{}, standin.Decisions{}, packet.V311,
			func(p *proof.Pass) error { return p.Ping(enter(p)) }, proof.Kept, "just that"},
		"pings that are not": {standin.Options{}, standin.Decisions{Pong: func(int) int { return 0 }}, packet.V311,
			func(p *proof.Pass) error { return p.Ping(enter(p)) }, proof.Undecided,
			"subject: PINGREQ not answered: nothing for 5s"},
		"a subscription and its end": {standin.Options{}, standin.Decisions{}, packet.V5, func(p *proof.Pass) error {
			c := enter(p)
			if q, err := p.Subscribe(c, p.Topic("+"), 1); err != nil || q != 1 {
				return fmt.Errorf("QoS %d, %w", q, err)
			}
			if err := p.Unsubscribe(c, p.Topic("+")); err != nil {
				return err
			}
			from := p.Mark()
			if _, err := p.Publish(c, packet.Publish{Topic: p.Topic("a"), QoS: 1}); err != nil {
				return err
			}
			if _, err := p.Quiet(c); err != nil || len(p.Messages(c, from)) != 0 {
				return proof.Break("it came all the same, %v", err)
			}
			return nil
		}, proof.Kept, "just that"},
		"a subscription that is refused": {standin.Options{},
			standin.Decisions{Grant: func(s packet.Subscription, c packet.ReasonCode) packet.ReasonCode {
				if strings.HasSuffix(s.Filter, "/no") {
					return packet.NotAuthorized
				}
				return c
			}}, packet.V5, func(p *proof.Pass) error { _, err := p.Subscribe(enter(p), p.Topic("no"), 1); return err },
			proof.Undecided, "was refused: not authorized"},
		"a wildcard where there is none": {standin.Options{Limits: standin.Limits{NoWildcards: true}},
			standin.Decisions{}, packet.V5,
			func(p *proof.Pass) error { _, err := p.Subscribe(enter(p), p.Topic("+"), 1); return err },
			proof.Unsupported, "takes no wildcards"},
		"a watcher that is lost": {standin.Options{}, standin.Decisions{}, packet.V5, func(p *proof.Pass) error {
			c := enter(p)
			c.Cut()
			_, err := p.Quiet(c)
			return err
		}, proof.Undecided, "the subject was lost while it watched"},
		"a mistake of the check's own": {standin.Options{}, standin.Decisions{}, packet.V5,
			func(p *proof.Pass) error { return errors.New("odd") }, proof.Undecided, "odd"},
		"what was seen": {standin.Options{}, standin.Decisions{}, packet.V5,
			func(p *proof.Pass) error { p.Saw("%d herring", 3); return nil }, proof.Kept, "3 herring"},
	} {
		r := try(t, tt.o, tt.d, tt.v, tt.run)
		if r.Verdict != tt.verdict || !strings.Contains(r.Seen, tt.seen) {
			t.Errorf("%s: %s, %q; want %s, %q", name, r.Verdict, r.Seen, tt.verdict, tt.seen)
		}
		if decided := len(r.Decided()) > 0; decided != (r.Verdict == proof.Broken) {
			t.Errorf("%s: %d events decided it", name, len(r.Decided()))
		}
	}
}

// TestWhatComesInPlaceOfAMessage, in words; and how long a payload is.
func TestWhatComesInPlaceOfAMessage(t *testing.T) {
	deliver := func(change func(*standin.Delivery)) standin.Decisions {
		return standin.Decisions{Deliver: func(d *standin.Delivery) {
			if !strings.HasSuffix(d.Topic, "offer") {
				change(d)
			}
		}}
	}
	for name, tt := range map[string]struct {
		change func(*standin.Delivery)
		cut    bool
		want   string
	}{
		"nothing": {func(d *standin.Delivery) { d.Times = 0 }, false, "nothing came within 5s"},
		"a lost link": {func(d *standin.Delivery) { d.Times = 0 }, true,
			"nothing came: the subject was lost, the connection was cut by us"},
		"another topic": {func(d *standin.Delivery) { d.Topic = "z" }, false,
			`it came under the topic "z" in place of "hodstone/`},
		"a short payload": {func(d *standin.Delivery) { d.Payload = d.Payload[:8] }, false,
			`it came with 8 bytes, "payload ", in place of 308`},
		"a long payload": {func(d *standin.Delivery) { d.Payload = append(slices.Clip(d.Payload), 'y') }, false,
			`it came with 309 bytes, "payload xxxxxxxxxxxx"…, in place of 308`},
		"another message": {func(d *standin.Delivery) { d.Payload = []byte("pay") }, false, "it came with 3 bytes"},
		"something else":  {func(d *standin.Delivery) { d.Payload = []byte("other") }, false, "nothing came within 5s"},
	} {
		r := try(t, standin.Options{}, deliver(tt.change), packet.V311, func(p *proof.Pass) error {
			c := p.Client("subject")
			if _, err := p.Enter(c); err != nil {
				return err
			}
			if _, err := p.Subscribe(c, p.Topic("a"), 1); err != nil {
				return err
			}
			from, text := p.Mark(), p.Long("payload")
			if _, err := p.Publish(c, packet.Publish{Topic: p.Topic("a"), QoS: 1, Payload: []byte(text)}); err != nil {
				return err
			}
			if p.AwaitMessage(c, from, p.Topic("a"), text) != nil {
				return errors.New("it came as it is")
			}
			if tt.cut {
				c.Cut()
			}
			return proof.Break("%s", p.Instead(c, from, p.Topic("a"), text))
		})
		if r.Verdict != proof.Broken || !strings.Contains(r.Seen, tt.want) {
			t.Errorf("%s: %s %q", name, r.Verdict, r.Seen)
		}
	}
	for size, want := range map[int]int{0: 305, 1000: 305, 400: 205, 300: 105, 201: 6, 150: 6} {
		r := try(
			t,
			standin.Options{Limits: standin.Limits{MaximumPacketSize: size}},
			standin.Decisions{},
			packet.V5,
			func(p *proof.Pass) error {
				p.Saw("%d", len(p.Long("fish")))
				return nil
			},
		)
		if r.Seen != fmt.Sprint(want) {
			t.Errorf("of packets of %d bytes, a long payload has %s; want %d", size, r.Seen, want)
		}
	}
}

// TestResendsAreNoNewMessages: what the standard lets a broker send again is told from what it sends twice.
func TestResendsAreNoNewMessages(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for _, tt := range []struct {
			name string
			v    packet.Version
			send string // of PUBLISH: its identifier, D for DUP; a to acknowledge, r to come back on another link
			want int
		}{
			{"one", packet.V311, "1 a", 1}, {"two", packet.V311, "1 a 2 a", 2}, {"a resend", packet.V311, "1 1D a", 1},
			{"a resend without DUP", packet.V311, "1 1 a", 2},
			{"after the acknowledgement", packet.V311, "1 a 1D a", 2},
			{"a resend on the same link, in 5", packet.V5, "1 1D a", 2},
			{"on another link, in 5", packet.V5, "1 r 1D a", 1},
			{"under another identifier", packet.V311, "1 2D a", 2},
		} {
			var broker *link.Link
			var mu sync.Mutex
			target := proof.Target{Dial: func(context.Context) (*link.Link, error) {
				ours, theirs := link.Pipe()
				mu.Lock()
				broker = ours
				mu.Unlock()
				go func() { // a broker that lets in and takes what comes
					for r := packet.NewReader(ours, tt.v); ; {
						p, _, err := r.Next()
						if err != nil {
							return
						}
						switch p := p.(type) {
						case *packet.Connect:
							ours.Write((&packet.Connack{}).Append(nil, p.Level))
						case *packet.Subscribe:
							ours.Write((&packet.Suback{ID: p.ID, Codes: []packet.ReasonCode{2}}).Append(nil, r.Version))
						case *packet.Publish:
							switch p.QoS {
							case 1:
								ours.Write((&packet.Puback{Ack: packet.Ack{ID: p.ID}}).Append(nil, r.Version))
							case 2:
								ours.Write((&packet.Pubrec{Ack: packet.Ack{ID: p.ID}}).Append(nil, r.Version))
							}
						case *packet.Pubrel:
							ours.Write((&packet.Pubcomp{Ack: packet.Ack{ID: p.ID}}).Append(nil, r.Version))
						}
					}
				}()
				return theirs, nil
			}}
			check := one("x.y", func(p *proof.Pass) error {
				c := p.Client("subject", proof.KeepSession)
				c.Lose(0)
				if _, err := p.Enter(c); err != nil {
					return err
				}
				c.Lose(packet.PUBLISH) // acknowledged by hand
				from := p.Mark()
				for _, s := range strings.Fields(tt.send) {
					mu.Lock()
					l := broker
					mu.Unlock()
					switch s {
					case "a":
						for id := uint16(1); id <= 2; id++ {
							c.Send(&packet.Puback{Ack: packet.Ack{ID: id}})
						}
					case "r":
						c.Cut()
						if _, err := p.Try(c); err != nil {
							return err
						}
					default:
						m := &packet.Publish{
							Topic:   "t",
							QoS:     1,
							ID:      uint16(s[0] - '0'),
							Dup:     strings.HasSuffix(s, "D"),
							Payload: []byte("x"),
						}
						l.Write(m.Append(nil, tt.v))
					}
					synctest.Wait()
				}
				p.Saw("%d of %d", len(p.Arrivals(c, from, "t", "x")), len(p.Messages(c, from)))
				return nil
			})
			p, err := proof.Run(
				t.Context(),
				target,
				proof.Options{Checks: []*proof.Check{check}, Versions: []packet.Version{tt.v}},
			)
			if err != nil {
				t.Fatal(err)
			}
			if r := p.Results[0]; r.Verdict != proof.Kept ||
				!strings.HasPrefix(r.Seen, fmt.Sprintf("%d of ", tt.want)) {
				t.Errorf("%s: %s, %s new; want %d", tt.name, r.Verdict, r.Seen, tt.want)
			}
		}
	})
}

// TestTheRunIsInOrder: what others require comes first; no more run side by side than asked for; everybody is told;
// what is stopped before it begins says so.
func TestTheRunIsInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		var mu sync.Mutex
		var order, doing, done []string
		now, most := 0, 0
		step := func(name string, err error, requires ...string) *proof.Check {
			c := one(name, func(p *proof.Pass) error {
				mu.Lock()
				order = append(order, name)
				now++
				most = max(most, now)
				mu.Unlock()
				time.Sleep(time.Second)
				mu.Lock()
				now--
				mu.Unlock()
				return err
			})
			c.Requires = requires
			return c
		}
		checks := []*proof.Check{
			step(
				"d.last",
				nil,
				"c.third",
				"not.asked",
			), step("c.third", nil, "a.first"), step("b.bad", proof.Break("bad")),
			step(
				"e.after",
				nil,
				"b.bad",
			), step("f.odd", errors.New("odd")), step("g.after", nil, "f.odd"), step("a.first", nil),
			step("h.poor", proof.Unsupport("none")), step("i.after", nil, "h.poor"),
		}
		old := step("j.old", nil)
		old.Sections.V5 = ""
		checks = append(checks, old)
		log := trace.NewLog(100)
		p, err := proof.Run(
			t.Context(),
			proof.Target{Broker: "b", Dial: s.Dial},
			proof.Options{Checks: checks, Versions: []packet.Version{packet.V5}, Parallel: 2, Run: "mark", Log: log,
				Doing: func(what string) { doing = append(doing, what) },
				Done:  func(r proof.Result) { mu.Lock(); done = append(done, r.Check.Name); mu.Unlock() }},
		)
		if err != nil {
			t.Fatal(err)
		}
		got := map[string]string{}
		for i, r := range p.Results {
			if r.Check != checks[i] || r.Version != packet.V5 || r.Expected != "as told" {
				t.Errorf("result %d is of %s", i, r.Check.Name)
			}
			got[r.Check.Name] = string(r.Verdict) + ": " + r.Seen
		}
		for name, want := range map[string]string{"a.first": "kept: just that", "d.last": "kept: just that",
			"b.bad":   "broken: bad",
			"e.after": "undecided: it tells nothing while b.bad is broken", "f.odd": "undecided: odd",
			"g.after": "undecided: it tells nothing while f.odd is undecided", "i.after": "kept: just that",
			"j.old": "skipped: not meant for version 5"} {
			if got[name] != want {
				t.Errorf("%s: %s, want %s", name, got[name], want)
			}
		}
		place := func(name string) int { return slices.Index(order, name) }
		if place("a.first") > place("c.third") || place("c.third") > place("d.last") || len(order) != 7 || most != 2 ||
			len(done) != len(checks) {
			t.Errorf("in the order %v, %d side by side, %d told", order, most, len(done))
		}
		if len(doing) != 2 ||
			!strings.Contains(doing[0], "finding out what the broker offers, in MQTT 5 (45s at most)") ||
			doing[1] != "" {
			t.Errorf("doing: %q", doing)
		}
		if p.Run != "mark" || p.OK() || p.Counts()[proof.Kept] != 4 || p.Took < 4*time.Second {
			t.Errorf("%+v", p.Counts())
		}
		ctx, stop := context.WithCancel(t.Context())
		stop()
		stopped, err := proof.Run(ctx, proof.Target{Dial: s.Dial}, proof.Options{Checks: checks[2:3]})
		if err != nil || stopped.Counts()[proof.Undecided] != 3 ||
			stopped.Results[0].Seen != "stopped before it began" {
			t.Errorf("%v %+v", err, stopped)
		}
		func() {
			defer func() {
				if recover() == nil {
					t.Error("checks that require one another are run")
				}
			}()
			proof.Run(
				t.Context(),
				proof.Target{Dial: s.Dial},
				proof.Options{Checks: []*proof.Check{step("a.a", nil, "b.b"), step("b.b", nil, "a.a")}},
			)
		}()
	})
	if a, b := proof.RunID(), proof.RunID(); a == b || len(a) != 6 {
		t.Errorf("marks %s, %s", a, b)
	}
	e := &proof.NotLetInError{Version: packet.V311, Err: errors.New("shut"), Cause: "the tide"}
	if e.Error() != "our own login is not let in (version 3.1.1): shut: the tide" || e.Unwrap() != e.Err {
		t.Error(e)
	}
}
