package check_test

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/explore"
	"hodstone/internal/proof/prooftest"
)

// relayed lets packets from the broker go through what writes them on, or something else, or later.
type relayed func(v packet.Version, on func([]byte), p packet.Packet, raw []byte)

// unusual is a broker that is unlike the stand-in where the standard leaves it open.
type unusual struct {
	name      string // with the section that leaves it open
	decisions standin.Decisions
	limits    standin.Limits
	relayed   func() relayed // for each connection; nil for none
	versions  []packet.Version
	ends      func(*link.Link) // how links end; nil for a second later
	again     bool             // PUBLISH comes again on the same link until it is acknowledged
	unsure    string           // the check that cannot be decided by it
	jumbled   bool             // what comes again comes in another order, which no broker does (§4.6)
}

// TestWhatTheStandardLeavesOpenIsNoFault: a broker that is unlike the stand-in where it may be is accused of nothing, and
// nothing about it stays undecided.
func TestWhatTheStandardLeavesOpenIsNoFault(t *testing.T) {
	said := prooftest.NewWords("open")
	t.Run("brokers", func(t *testing.T) { unusuals(t, said) })
	said.Compare(t)
}

func unusuals(t *testing.T, said *prooftest.Words) {
	for i, tt := range []unusual{
		{name: "CONNACK takes its time (3.1.1 §3.1.4)", decisions: standin.Decisions{Hold: 900 * time.Millisecond}},
		{name: "refusals are not told (5.0 §3.1.4)", decisions: standin.Decisions{
			Code: func(_ *packet.Connect, code packet.ReasonCode) (packet.ReasonCode, bool) {
				return code, code == packet.ClientIDNotValid // that one must be (3.1.1 §3.1.3.1)
			},
		}},
		{name: "a refused login is not authorized (5.0 §3.2.2.2)", decisions: standin.Decisions{
			Code: func(_ *packet.Connect, code packet.ReasonCode) (packet.ReasonCode, bool) {
				if code == packet.BadUserNameOrPassword {
					code = packet.NotAuthorized
				}
				return code, true
			},
		}},
		{name: "a refused login is told a code of its own (5.0 §3.2.2.2)", decisions: standin.Decisions{
			Code: func(_ *packet.Connect, code packet.ReasonCode) (packet.ReasonCode, bool) {
				if code == packet.BadUserNameOrPassword {
					code = packet.UnspecifiedError
				}
				return code, true
			},
		}, versions: []packet.Version{packet.V5}},
		{name: "whoever publishes without the right to is thrown out (3.1.1 §3.3.5)", decisions: standin.Decisions{
			Objects: func(m *packet.Publish) string {
				if strings.HasSuffix(m.Topic, "/barred") && string(m.Payload) == "barred" {
					return "not authorized"
				}
				return ""
			},
		}},
		{name: "more is taken than may be under way (5.0 §3.3.4)", decisions: standin.Decisions{
			Overlooks: func(code packet.ReasonCode, _ string) bool { return code == packet.ReceiveMaximumExceeded },
		}, limits: standin.Limits{ReceiveMaximum: 5}, versions: []packet.Version{packet.V5}},
		{name: "some subscriptions are granted less (3.1.1 §3.9.3)", decisions: standin.Decisions{
			Grant: func(sub packet.Subscription, code packet.ReasonCode) packet.ReasonCode {
				if strings.HasSuffix(sub.Filter, "/sub2/pub1") && code < 0x80 {
					return 0
				}
				return code
			},
		}},
		{name: "retained messages at QoS 0 are not stored (3.1.1 §3.3.1.3)", decisions: standin.Decisions{
			Deliver: func(d *standin.Delivery) {
				if d.Stored && d.Published.QoS == 0 {
					d.Times = 0
				}
			},
		}, versions: []packet.Version{packet.V31, packet.V311}},
		{name: "nothing at QoS 0 waits for who is absent (3.1.1 §3.1.2.4)", decisions: standin.Decisions{
			Deliver: func(d *standin.Delivery) {
				if d.Away && d.QoS == 0 {
					d.Times = 0
				}
			},
		}},
		{name: "nobody is told that nobody subscribes (5.0 §3.4.2.1)", decisions: standin.Decisions{
			NoSubscribers: func(bool) bool { return false },
		}},
		{name: "one message is under way at a time (5.0 §4.9)", decisions: standin.Decisions{
			ReceiveMaximum: func(int) int { return 1 },
		}},
		{name: "no topic aliases to clients (5.0 §3.1.2.11.5)", decisions: standin.Decisions{
			Aliases: func(int) int { return 0 },
		}},
		{name: "silent clients are thrown out late (3.1.1 §3.1.2.10)", decisions: standin.Decisions{
			KeepAlive: func(asked, own int) int { return max(asked, own) + 3*min(1, max(asked, own)) },
		}},
		{name: "wills take their time (3.1.1 §3.1.2.5)", decisions: standin.Decisions{
			Will: func(w *standin.WillCase) { w.Later += 400 * time.Millisecond },
		}},
		{name: "what is left of an expiry is rounded (5.0 §3.3.2.3.3)", decisions: standin.Decisions{
			Left: func(_, left uint32) uint32 { return left - min(left, 1) },
		}},
		{name: "every packet takes its time", relayed: func() relayed { return later(func(packet.Packet) time.Duration { return 150 * time.Millisecond }) }},
		{name: "acknowledgements take their time", relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() == packet.PUBLISH {
					return 0
				}
				return 250 * time.Millisecond
			})
		}},
		{name: "acknowledgements take very long, and what is left of an expiry is rounded", relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() == packet.PUBACK {
					return 1300 * time.Millisecond
				}
				return 0
			})
		}, decisions: standin.Decisions{Left: func(_, left uint32) uint32 { return left - min(left, 1) }}, versions: []packet.Version{packet.V5}},
		{name: "messages take their time", relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() != packet.PUBLISH {
					return 0
				}
				return 250 * time.Millisecond
			})
		}},
		{name: "messages take long, and all else does not", relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() != packet.PUBLISH {
					return 0
				}
				return 900 * time.Millisecond
			})
		}},
		{name: "a link over a satellite", relayed: func() relayed {
			return later(func(packet.Packet) time.Duration { return 700 * time.Millisecond })
		}},
		{name: "every byte comes by itself", relayed: func() relayed {
			return func(_ packet.Version, on func([]byte), _ packet.Packet, raw []byte) {
				for i := range raw[:min(len(raw), 200)] {
					on(raw[i : i+1])
				}
				on(raw[min(len(raw), 200):])
			}
		}},
		{name: "packets come together, ten times a second", relayed: func() relayed {
			begun := time.Now()
			return later(func(packet.Packet) time.Duration {
				const tick = 100 * time.Millisecond
				return tick - time.Since(begun)%tick
			})
		}},
		{name: "links end by a reset", ends: func(l *link.Link) { l.Cut() }, unsure: "connect.empty-id-kept"},
		{name: "links end late", ends: func(l *link.Link) { time.Sleep(1500 * time.Millisecond); l.Close() }},
		{name: "what is not acknowledged comes again (3.1.1 §4.4)", versions: []packet.Version{packet.V31, packet.V311}, again: true},
		{name: "topics overtake one another (3.1.1 §4.6)", jumbled: true, relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				m, is := p.(*packet.Publish)
				if !is {
					return 0
				}
				n := 0
				for _, b := range []byte(m.Topic) {
					n += int(b)
				}
				return time.Duration(n%4) * 60 * time.Millisecond
			})
		}},
		{name: "messages come before SUBACK (3.1.1 §3.8.4)", relayed: func() relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() == packet.SUBACK {
					return 200 * time.Millisecond
				}
				return 0
			})
		}},
		{name: "reasons and properties for people (5.0 §3.4.2.2)", versions: []packet.Version{packet.V5}, relayed: func() relayed {
			said := packet.Properties{packet.Str(packet.ReasonString, "as you like")}
			return func(v packet.Version, on func([]byte), p packet.Packet, raw []byte) {
				switch x := p.(type) {
				case *packet.Connack:
					y := *x
					y.Properties = append(append(packet.Properties{}, x.Properties...), said...)
					raw = y.Append(nil, v)
				case *packet.Disconnect:
					y := *x
					y.Properties = append(append(packet.Properties{}, x.Properties...), said...)
					raw = y.Append(nil, v)
				}
				on(raw)
			}
		}},
	} {
		versions := tt.versions
		if versions == nil {
			versions = proof.Versions()
		}
		if prooftest.Raced { // 'make test' runs the whole without the race detector too
			const some = 4
			if i%some != 0 {
				continue
			}
			versions = versions[i/some%len(versions):][:1]
		}
		for _, v := range versions {
			t.Run(fmt.Sprintf("%s in %s", tt.name, v), func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) {
					leftOpen(t, v, &tt, said)
				})
			})
		}
	}
}

// later holds packets back for a time of their own. They keep their order but for those that no order is promised for: an
// acknowledgement and a message, or messages of two topics or QoS (§4.6).
func later(by func(packet.Packet) time.Duration) relayed {
	free, turn := map[string]time.Time{}, 0 // who is held back for as long comes in order
	var in time.Time                        // CONNACK comes before all else
	return func(_ packet.Version, on func([]byte), p packet.Packet, raw []byte) {
		lane := "answers"
		if m, is := p.(*packet.Publish); is {
			lane = fmt.Sprint(m.Topic, m.QoS)
			if _, aliased := m.Properties.Int(packet.TopicAlias); aliased { // what it means hangs on the order
				lane = "aliased"
			}
		}
		turn++
		due := time.Now().Add(by(p) + time.Duration(turn))
		if _, is := p.(*packet.Connack); is {
			in = due.Add(time.Nanosecond)
		}
		if due.Before(in) && p.Type() != packet.CONNACK {
			due = in.Add(time.Duration(turn))
		}
		if due.Before(free[lane]) {
			due = free[lane]
		}
		free[lane] = due.Add(time.Nanosecond)
		raw = append([]byte(nil), raw...)
		time.AfterFunc(time.Until(due), func() { on(raw) })
	}
}

// leftOpen holds it to that in a version.
func leftOpen(t *testing.T, v packet.Version, x *unusual, said *prooftest.Words) {
	o := prooftest.Secured()
	o.Limits = x.limits
	o.Faults = []standin.Fault{{Name: "open", Decisions: x.decisions}}
	s, err := standin.New(o)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Close(); time.Sleep(5 * time.Second) }() // the links end behind it
	target := prooftest.Target(s, false)
	if x.relayed != nil || x.ends != nil || x.again {
		var each func(int, *link.Link) relayed
		if x.relayed != nil {
			each = func(int, *link.Link) relayed { return x.relayed() }
		}
		target.Dial = relay(s, v, each, x.ends, x.again)
		target.Doors = nil
	}
	p, err := proof.Run(t.Context(), target, proof.Options{Checks: check.All(), Versions: []packet.Version{v}})
	if err != nil {
		t.Fatal(err)
	}
	if !x.jumbled {
		said.Of(x.name, true, p)
	}
	for _, r := range p.Results {
		if r.Verdict == proof.Broken || r.Verdict == proof.Undecided && r.Check.Name != x.unsure {
			t.Errorf("%s is %s: %s %q", r.Check.Name, r.Verdict, r.Seen, r.Notes)
		}
	}
	if x.jumbled || prooftest.Raced {
		return
	}
	const many = 100
	found, err := explore.Run(
		t.Context(),
		target,
		explore.Options{Conversations: many, Seed: 9, Versions: []packet.Version{v}},
	)
	if err != nil {
		t.Fatal(err)
	}
	for i := range found.Findings {
		f := &found.Findings[i]
		t.Errorf("exploring finds %s: %s, by %v", f.Rule.Name, f.Text, f.Result.Steps)
	}
}

// relay puts something between the checks' clients and a stand-in. through is asked for each connection, by its number from
// 1, and has the link to the client.
func relay(
	s *standin.Server,
	v packet.Version,
	through func(number int, l *link.Link) relayed,
	ends func(*link.Link),
	again bool,
) func(context.Context) (*link.Link, error) {
	var number atomic.Int64 // clients connect side by side
	return func(ctx context.Context) (*link.Link, error) {
		broker, err := s.Dial(ctx)
		if err != nil {
			return nil, err
		}
		mine := int(number.Add(1))
		inner, outer := link.Pipe()
		var mu sync.Mutex // guards what follows
		open, turn := map[uint16]*packet.Publish{}, 0
		said, toldOf := io.Pipe()
		go func() { // what is acknowledged does not come again
			for r := packet.NewReader(said, v); ; {
				p, _, err := r.Next()
				if err != nil { // the link ends by it
					io.Copy(io.Discard, said)
					return
				}
				mu.Lock()
				switch p := p.(type) {
				case *packet.Puback:
					delete(open, p.ID)
				case *packet.Pubrec:
					delete(open, p.ID)
				}
				mu.Unlock()
			}
		}()
		go func() { // towards the broker, byte for byte
			defer toldOf.Close()
			buf := make([]byte, 4096)
			for {
				n, err := inner.Read(buf)
				if err != nil {
					if inner.End() == link.EndRST {
						broker.Cut()
					}
					broker.Close()
					return
				}
				broker.Write(buf[:n])
				toldOf.Write(buf[:n])
			}
		}()
		var resend func(m *packet.Publish, left int)
		resend = func(m *packet.Publish, left int) {
			mu.Lock()
			turn++ // they come in their order, not at once
			due := 120*time.Millisecond + time.Duration(turn)
			mu.Unlock()
			time.AfterFunc(due, func() {
				mu.Lock()
				still := open[m.ID] == m
				mu.Unlock()
				if still && left > 0 {
					once := *m
					once.Dup = true
					inner.Write(once.Append(nil, v))
					resend(m, left-1)
				}
			})
		}
		go func() { // from the broker, packet by packet
			pass := func(_ packet.Version, on func([]byte), _ packet.Packet, raw []byte) { on(raw) }
			if through != nil {
				pass = through(mine, inner)
			}
			for r := packet.NewReader(broker, v); ; {
				p, raw, err := r.Next()
				if err != nil {
					inner.Write(raw) // what is no packet of the version comes too
					mu.Lock()
					clear(open)
					mu.Unlock()
					if ends != nil {
						ends(inner)
						return
					}
					time.Sleep(time.Second) // what is under way comes before the end
					inner.Close()
					return
				}
				if m, is := p.(*packet.Publish); is && m.QoS > 0 && again {
					once := *m
					once.Payload = slices.Clone(m.Payload)
					mu.Lock()
					open[m.ID] = &once
					mu.Unlock()
					resend(&once, 5)
				}
				pass(v, func(b []byte) { inner.Write(b) }, p, raw)
			}
		}()
		return outer, nil
	}
}
