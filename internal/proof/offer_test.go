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
	"hodstone/internal/trace"
)

// site is a broker of few lines: it lets in, grants, acknowledges and passes on to whoever sent it, unless on does
// otherwise: then true says that the packet is dealt with.
type site struct {
	mu    sync.Mutex
	links int
	seen  []packet.Packet // but for acknowledgements
	on    func(n int, v packet.Version, p packet.Packet, say func(packet.Packet), shut func()) bool
}

// packets are those that came so far.
func (s *site) packets() []packet.Packet {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.seen)
}

func (s *site) dialled() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.links
}

func (s *site) dial(context.Context) (*link.Link, error) {
	ours, theirs := link.Pipe()
	s.mu.Lock()
	s.links++
	n := s.links
	s.mu.Unlock()
	go func() {
		r := packet.NewReader(ours, packet.V5)
		say := func(p packet.Packet) { ours.Write(p.Append(nil, r.Version)) }
		for {
			p, _, err := r.Next()
			if err != nil {
				return
			}
			s.mu.Lock()
			s.seen = append(s.seen, p)
			s.mu.Unlock()
			if s.on != nil && s.on(n, r.Version, p, say, func() { ours.Close() }) {
				continue
			}
			switch p := p.(type) {
			case *packet.Connect:
				say(&packet.Connack{})
			case *packet.Subscribe:
				say(&packet.Suback{ID: p.ID, Codes: []packet.ReasonCode{packet.ReasonCode(p.Subscriptions[0].QoS)}})
			case *packet.Publish:
				switch p.QoS {
				case 0:
					say(&packet.Publish{Topic: p.Topic, Payload: p.Payload})
				case 1:
					say(&packet.Puback{Ack: packet.Ack{ID: p.ID}})
				case 2:
					say(&packet.Pubrec{Ack: packet.Ack{ID: p.ID}})
				}
			case *packet.Pubrel:
				say(&packet.Pubcomp{Ack: packet.Ack{ID: p.ID}})
			case *packet.Pingreq:
				say(&packet.Pingresp{})
			}
		}
	}()
	return theirs, nil
}

// TestWhatABrokerOffers is found out before the first check, and nobody is accused of not offering it.
func TestWhatABrokerOffers(t *testing.T) {
	type on = func(int, packet.Version, packet.Packet, func(packet.Packet), func()) bool
	connack := func(ack packet.Connack) on {
		return func(_ int, _ packet.Version, p packet.Packet, say func(packet.Packet), _ func()) bool {
			if p.Type() == packet.CONNECT {
				say(&ack)
			}
			return p.Type() == packet.CONNECT
		}
	}
	with := func(ps ...packet.Property) on { return connack(packet.Connack{Properties: ps}) }
	shutAt := func(q packet.QoS) on {
		return func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), shut func()) bool {
			m, is := p.(*packet.Publish)
			if is && m.QoS >= q {
				shut()
			}
			return is && m.QoS >= q
		}
	}
	grant := func(code packet.ReasonCode) on {
		return func(_ int, _ packet.Version, p packet.Packet, say func(packet.Packet), _ func()) bool {
			sub, is := p.(*packet.Subscribe)
			if is {
				say(&packet.Suback{ID: sub.ID, Codes: []packet.ReasonCode{code}})
			}
			return is
		}
	}
	longs := func(s *site) (n int) {
		for _, p := range s.packets() {
			if m, is := p.(*packet.Publish); is && len(m.Payload) == 305 {
				n++
			}
		}
		return n
	}
	none := func(*site) int { return 0 }
	for name, tt := range map[string]struct {
		versions []packet.Version
		on       on
		want     string // refused, shut, QoS, retained, sessions, wildcards, size, long
		count    func(*site) int
		n        int
	}{
		"everything":             {proof.Versions(), nil, "0 0 2 true true true 0 true", longs, 3},
		"everything, in 5 alone": {[]packet.Version{packet.V5}, nil, "0 0 2 true true true 0 true", longs, 1},
		"not 5": {proof.Versions(), func(_ int, v packet.Version, p packet.Packet, say func(packet.Packet),
			_ func()) bool {
			if p.Type() == packet.CONNECT && p.(*packet.Connect).Level == packet.V5 {
				say(&packet.Connack{Code: packet.UnsupportedProtocolVersion})
				return true
			}
			return false
		}, "1 0 2 true true true 0 true", none, 0},
		"not 3.1": {proof.Versions(), func(_ int, v packet.Version, p packet.Packet, say func(packet.Packet),
			_ func()) bool {
			if p.Type() == packet.CONNECT && p.(*packet.Connect).Level == packet.V31 {
				say(&packet.Connack{Code: packet.RefusedVersion})
				return true
			}
			return false
		}, "1 0 2 true true true 0 true", none, 0},
		"a code of 3.1.1 in 5": {proof.Versions(),
			func(_ int, v packet.Version, p packet.Packet, say func(packet.Packet), _ func()) bool {
				if p.Type() == packet.CONNECT && p.(*packet.Connect).Level == packet.V5 {
					say(&packet.Connack{Code: packet.RefusedVersion})
					return true
				}
				return false
			}, "1 0 2 true true true 0 true", none, 0},
		"no sessions": {[]packet.Version{packet.V5}, with(packet.Int(packet.SessionExpiry, 0)),
			"0 0 2 true false true 0 true", none, 0},
		"sessions of a minute": {[]packet.Version{packet.V5}, with(packet.Int(packet.SessionExpiry, 60)),
			"0 0 2 true true true 0 true", none, 0},
		"nothing retained, no wildcards": {[]packet.Version{packet.V5},
			with(packet.Int(packet.RetainAvailable, 0), packet.Int(packet.WildcardAvailable, 0)),
			"0 0 2 false true false 0 true", none, 0},
		"packets of 500 bytes": {[]packet.Version{packet.V5}, with(packet.Int(packet.MaximumPacketSize, 500)),
			"0 0 2 true true true 500 true", longs, 0},
		"of 501": {[]packet.Version{packet.V5}, with(packet.Int(packet.MaximumPacketSize, 501)),
			"0 0 2 true true true 501 true", longs, 1},
		"QoS 1 is granted": {[]packet.Version{packet.V311}, grant(1), "0 0 1 true true true 0 true", none, 0},
		"QoS 0 is granted": {[]packet.Version{packet.V311}, grant(0), "0 0 0 true true true 0 true", none, 0},
		"a refusal grants nothing": {[]packet.Version{packet.V311}, grant(0x80), "0 0 2 true true true 0 true", longs,
			0},
		"closes on QoS 2":       {[]packet.Version{packet.V311}, shutAt(2), "0 0 1 true true true 0 true", none, 0},
		"closes on QoS 1":       {[]packet.Version{packet.V311}, shutAt(1), "0 0 0 true true true 0 true", none, 0},
		"closes on any message": {[]packet.Version{packet.V311}, shutAt(0), "0 0 2 true true true 0 true", longs, 1},
		"closes on whatever comes": {[]packet.Version{packet.V311},
			func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), shut func()) bool {
				if p.Type() != packet.CONNECT {
					shut()
				}
				return p.Type() != packet.CONNECT
			}, "0 0 2 true true true 0 true", none, 0},
		"closes on long messages": {[]packet.Version{packet.V311},
			func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), shut func()) bool {
				m, is := p.(*packet.Publish)
				if is && len(m.Payload) > 100 {
					shut()
				}
				return is && len(m.Payload) > 100
			}, "0 0 2 true true true 0 false", longs, 1},
		"closes on the version": {proof.Versions(),
			func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), shut func()) bool {
				c, is := p.(*packet.Connect)
				if is && c.Level == packet.V31 {
					shut()
					return true
				}
				return false
			}, "1 0 2 true true true 0 true", none, 0},
		"no long messages": {[]packet.Version{packet.V311},
			func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), _ func()) bool {
				m, is := p.(*packet.Publish)
				return is && len(m.Payload) > 100
			}, "0 0 2 true true true 0 false", longs, 3},
		"none at all": {[]packet.Version{packet.V311},
			func(_ int, _ packet.Version, p packet.Packet, _ func(packet.Packet), _ func()) bool {
				m, is := p.(*packet.Publish)
				return is && m.QoS == 0
			}, "0 0 2 true true true 0 true", longs, 1},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := &site{on: tt.on}
				check := one("x.y", func(p *proof.Pass) error { return nil })
				p, err := proof.Run(
					t.Context(),
					proof.Target{Dial: s.dial},
					proof.Options{Checks: []*proof.Check{check}, Versions: tt.versions, Run: "mark"},
				)
				if err != nil {
					t.Fatal(err)
				}
				o := p.Offer
				got := fmt.Sprint(
					len(o.Refused),
					len(o.Shut),
					o.QoS,
					o.NoRetained == "",
					o.NoSessions == "",
					!o.NoWildcards,
					o.PacketSize,
					o.NoLong == "",
				)
				if got != strings.ReplaceAll(tt.want, "  ", " ") || tt.count(s) != tt.n {
					t.Errorf("%s, %d long ones; want %s, %d: %+v", got, tt.count(s), tt.want, tt.n, o)
				}
				for _, k := range s.packets() {
					c, is := k.(*packet.Connect)
					if expiry, asked := packet.About(k, packet.V5).Properties.Int(packet.SessionExpiry); is &&
						asked != (c.Level == packet.V5) ||
						asked && expiry != 0 && expiry != 300 {
						t.Errorf("CONNECT of version %s with expiry %d, %v", c.Level, expiry, asked)
					}
				}
			})
		})
	}
}

// TestClientsOfACheck: their identifiers go up, wherever the broker has a rule; who cannot connect makes it undecided;
// who is busy is tried again.
func TestClientsOfACheck(t *testing.T) {
	run := func(s *site, check func(*proof.Pass) error) (r proof.Result) {
		t.Helper()
		synctest.Test(t, func(t *testing.T) {
			p, err := proof.Run(t.Context(), proof.Target{Dial: s.dial, ClientID: "mv-{n}"},
				proof.Options{Checks: []*proof.Check{one("x.y", check)}, Versions: []packet.Version{packet.V311}})
			if err != nil {
				t.Fatal(err)
			}
			r = p.Results[0]
		})
		return r
	}
	s := &site{}
	if r := run(s, func(p *proof.Pass) error {
		return p.ConnectAll(p.Client("a"),
			p.Client("b"))
	}); r.Verdict != proof.Kept ||
		len(r.Clients) != 2 {
		t.Errorf("%+v", r)
	}
	var ids []string
	for _, p := range s.packets() {
		if c, is := p.(*packet.Connect); is {
			ids = append(ids, c.ClientID)
		}
	}
	if len(ids) < 3 || !strings.HasPrefix(ids[0], "mv-") || len(ids[0]) != 9 || !slices.IsSorted(ids[:2]) ||
		ids[0] == ids[1] {
		t.Errorf("client identifiers %q", ids)
	}
	// The link of one is closed while no other of ours is there, or while one is, and others get in, or none does.
	for name, tt := range map[string]struct {
		first, strangers bool // another of ours is there; others get in
		want             string
	}{
		"alone":             {false, true, "the subject could not connect: the broker closed the connection"},
		"beside another":    {true, true, "the subject could not connect, though others could"},
		"and nobody enters": {true, false, "the broker takes 1 from us"},
	} {
		entered := 0
		var mu sync.Mutex
		s := &site{}
		s.on = func(n int, v packet.Version, p packet.Packet, say func(packet.Packet), shut func()) bool {
			c, is := p.(*packet.Connect)
			if !is {
				return false
			}
			mu.Lock()
			defer mu.Unlock()
			if c.KeepAlive == 7 || !tt.strangers && entered > 4 { // three to look, one that asks what it tells; the first of ours
				shut()
				return true
			}
			entered++
			return false
		}
		check := one("x.y", func(p *proof.Pass) error {
			if tt.first {
				if _, err := p.Enter(p.Client("first")); err != nil {
					return err
				}
			}
			_, err := p.Enter(p.Client("subject", proof.WithKeepAlive(7)))
			return err
		})
		check.Needs.Least = 2
		synctest.Test(t, func(t *testing.T) {
			p, err := proof.Run(
				t.Context(),
				proof.Target{Dial: s.dial},
				proof.Options{Checks: []*proof.Check{check}, Versions: []packet.Version{packet.V311}},
			)
			if err != nil {
				t.Fatal(err)
			}
			if r := p.Results[0]; !strings.Contains(r.Seen, tt.want) || r.Verdict == proof.Kept ||
				r.Verdict == proof.Broken {
				t.Errorf("%s: %s %s", name, r.Verdict, r.Seen)
			}
		})
	}
	// A broker that is full says nothing about itself: what it refuses is undecided, however often it is tried.
	began := 0
	full := &site{on: func(n int, v packet.Version, p packet.Packet, say func(packet.Packet), _ func()) bool {
		if c, is := p.(*packet.Connect); is && c.KeepAlive == 7 {
			say(&packet.Connack{Code: packet.RefusedUnavailable})
			return true
		}
		return false
	}}
	r := run(full, func(p *proof.Pass) error {
		began++
		if _, err := p.Try(p.Client("subject", proof.WithKeepAlive(7), proof.WithLogin(nil))); err != nil {
			return proof.Break("refused")
		}
		return nil
	})
	if r.Verdict != proof.Undecided || began != 4 || !strings.Contains(r.Seen, "takes no client more, tried 4 times") {
		t.Errorf("%d times: %s %s", began, r.Verdict, r.Seen)
	}
}

// TestWhatIsLeftBehind is cleared, and told where it cannot be; nobody connects for nothing.
func TestWhatIsLeftBehind(t *testing.T) {
	for name, tt := range map[string]struct {
		retain, fails bool
		links         int // beside those that look, and the one that asks what the broker is
		note          string
	}{"nothing": {false, false, 1, ""}, "a stored message": {true, false, 2, ""},
		"one that stays": {true, true, 2, "could not be cleared"}} {
		s := &site{}
		s.on = func(_ int, _ packet.Version, p packet.Packet, say func(packet.Packet), shut func()) bool {
			m, is := p.(*packet.Publish)
			if is && m.Retain && len(m.Payload) == 0 && tt.fails {
				shut()
				return true
			}
			return false
		}
		synctest.Test(t, func(t *testing.T) {
			looked := 0
			check := one("x.y", func(p *proof.Pass) error {
				looked = s.dialled()
				c := p.Client("subject")
				if _, err := p.Enter(c); err != nil {
					return err
				}
				_, err := p.Publish(
					c,
					packet.Publish{Topic: p.Topic("r"), QoS: 1, Retain: tt.retain, Payload: []byte("x")},
				)
				return err
			})
			p, err := proof.Run(
				t.Context(),
				proof.Target{Dial: s.dial},
				proof.Options{Checks: []*proof.Check{check}, Versions: []packet.Version{packet.V311}},
			)
			if err != nil {
				t.Fatal(err)
			}
			r := p.Results[0]
			if notes := strings.Join(r.Notes, ";"); r.Verdict != proof.Kept || s.dialled()-looked != tt.links+1 ||
				strings.Contains(notes, "cleared") != (tt.note != "") {
				t.Errorf("%s: %s, %d links, notes %q", name, r.Verdict, s.dialled()-looked, notes)
			}
		})
	}
	// What is watched, and for how long.
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		check := one("x.y", func(p *proof.Pass) error {
			c := p.Client("subject")
			if _, err := p.Enter(c); err != nil {
				return err
			}
			p.Decide(nil)
			p.Watch(c, p.Mark(), "it came", func(*trace.Event) bool { return true })
			time.Sleep(1230 * time.Millisecond)
			return nil
		})
		p, err := proof.Run(
			t.Context(),
			proof.Target{Dial: s.Dial},
			proof.Options{Checks: []*proof.Check{check}, Versions: []packet.Version{packet.V311}},
		)
		if err != nil {
			t.Fatal(err)
		}
		if r := p.Results[0]; strings.Join(r.Notes, "") != "watched for 1.2s in all" || len(r.Decisive) != 0 {
			t.Errorf("%q", r.Notes)
		}
	})
	if !errors.Is(fmt.Errorf("x: %w", proof.ErrNotReached), proof.ErrNotReached) {
		t.Error("not reached")
	}
}
