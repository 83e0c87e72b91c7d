package check_test

import (
	"context"
	"errors"
	"fmt"
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
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
)

// between puts itself between the checks' clients and a stand-in. keep is asked about
// each packet from the broker; number is that of the connection, from 1.
func between(
	s *standin.Server,
	v packet.Version,
	keep func(number int, l *link.Link, p packet.Packet) bool,
) func(context.Context) (*link.Link, error) {
	through := func(number int, l *link.Link) relayed {
		return func(_ packet.Version, on func([]byte), p packet.Packet, raw []byte) {
			if keep(number, l, p) {
				on(raw)
			}
		}
	}
	return relay(s, v, through, func(l *link.Link) { l.Close() }, false)
}

// TestChecksDoNotKeepWhatTheyDidNotSee: a broker, or a network, that fails in ways no fault of
// the stand-in covers must not get away with kept.
func TestChecksDoNotKeepWhatTheyDidNotSee(t *testing.T) {
	for _, tt := range []struct {
		name, check string
		v           packet.Version
		keep        func() func(int, *link.Link, packet.Packet) bool
		verdict     proof.Verdict
		seen        string
	}{
		{"no PUBCOMP after the PUBREL was sent again", "qos2.once", packet.V311, func() func(int, *link.Link, packet.Packet) bool {
			var resumed, silent atomic.Int64
			return func(n int, _ *link.Link, p packet.Packet) bool {
				if a, ok := p.(*packet.Connack); ok && a.SessionPresent {
					if resumed.Add(1) == 2 { // the first is that of the lost PUBREC
						silent.Store(int64(n))
					}
				}
				return p.Type() != packet.PUBCOMP || int64(n) != silent.Load()
			}
		}, proof.Broken, "no PUBCOMP within 5 s of coming back"},
		{"a watcher whose link is lost", "will.not-on-goodbye", packet.V5, func() func(int, *link.Link, packet.Packet) bool {
			return func(_ int, l *link.Link, p packet.Packet) bool {
				if p.Type() == packet.SUBACK {
					time.AfterFunc(100*time.Millisecond, func() { l.Cut() })
				}
				return true
			}
		}, proof.Undecided, "the watcher was lost while it watched"},
		{"nothing that waits ever comes", "connect.ack-first", packet.V311, func() func(int, *link.Link, packet.Packet) bool {
			return func(_ int, _ *link.Link, p packet.Packet) bool { return p.Type() != packet.PUBLISH }
		}, proof.Undecided, "nothing that waited came behind CONNACK either"},
		{"a broker that grants QoS 0 only", "session.kept", packet.V311, func() func(int, *link.Link, packet.Packet) bool {
			return func(_ int, l *link.Link, p packet.Packet) bool {
				if a, ok := p.(*packet.Suback); ok {
					l.Write((&packet.Suback{ID: a.ID, Codes: make([]packet.ReasonCode, len(a.Codes))}).Append(nil, packet.V311))
					return false
				}
				return true
			}
		}, proof.Unsupported, "QoS 0 at most"},
		{"a broker that closes instead of answering CONNECT", "connect.accepted", packet.V5, func() func(int, *link.Link, packet.Packet) bool {
			return func(n int, l *link.Link, p packet.Packet) bool {
				if p.Type() == packet.CONNACK && n > lookedBy {
					l.Close()
					return false
				}
				return true
			}
		}, proof.Broken, "no CONNACK: the broker closed the connection"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := prooftest.Faulty(t, prooftest.Secured())
				defer s.Close()
				target := prooftest.Target(s, false)
				target.Dial = between(s, tt.v, tt.keep())
				checkOne(t, target, tt.check, tt.v, tt.verdict, tt.seen)
			})
		})
	}
	t.Run("a network that fails after the first link", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			s, err := standin.New(standin.Options{Anonymous: true})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			dialled := 0
			target := proof.Target{Dial: func(ctx context.Context) (*link.Link, error) {
				if dialled++; dialled > lookedBy+2 {
					return nil, errors.New("no route")
				}
				return s.Dial(ctx)
			}}
			checkOne(t, target, "connect.accepted", packet.V311, proof.Undecided, "no route")
		})
	})
}

// lookedBy is how many links a proof makes before its first check: one to see that it can, and some to see what the
// broker offers.
const lookedBy = 3

func checkOne(t *testing.T, target proof.Target, name string, v packet.Version, verdict proof.Verdict, seen string) {
	t.Helper()
	checks, err := check.Match(name)
	if err != nil {
		t.Fatal(err)
	}
	p, err := proof.Run(context.Background(), target, proof.Options{Checks: checks, Versions: []packet.Version{v}})
	if err != nil {
		t.Fatal(err)
	}
	if r := p.Results[0]; r.Verdict != verdict || !strings.Contains(r.Seen, seen) {
		t.Errorf("%s: %s, want %s: %s", r.Verdict, r.Seen, verdict, seen)
	}
}

// TestLossAtQoS0IsNoFault: a broker may lose messages at QoS 0 (3.1.1 §4.3.1, 5.0 §4.3.1), and nothing is broken by
// that, whichever messages it are; nor does anything stay undecided where what is sent again comes.
func TestLossAtQoS0IsNoFault(t *testing.T) {
	for _, v := range proof.Versions() {
		for _, every := range []int{2, 3, 4} {
			t.Run(fmt.Sprintf("%s, one of %d", v, every), func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) { losing(t, v, every) })
			})
		}
	}
}

// losing proves the stand-in over links that lose one of so many messages at QoS 0, but none twice on a topic.
func losing(t *testing.T, v packet.Version, every int) {
	s := prooftest.Faulty(t, prooftest.Secured())
	defer s.Close()
	target := prooftest.Target(s, false)
	var mu sync.Mutex // guards what follows
	n, lost := 0, map[string]bool{}
	target.Dial = between(s, v, func(_ int, _ *link.Link, p packet.Packet) bool {
		m, is := p.(*packet.Publish)
		if !is || m.QoS > 0 {
			return true
		}
		mu.Lock()
		defer mu.Unlock()
		n++
		if n%every != 0 || lost[m.Topic] {
			return true
		}
		lost[m.Topic] = true
		return false
	})
	p, err := proof.Run(
		context.Background(),
		target,
		proof.Options{Checks: check.All(), Versions: []packet.Version{v}},
	)
	if err != nil {
		t.Fatal(err)
	}
	told := false
	for _, r := range p.Results {
		if r.Verdict == proof.Broken || r.Verdict == proof.Undecided {
			t.Errorf("%s is %s: %s", r.Check.Name, r.Verdict, r.Seen)
		}
		told = told || r.Check.Name == "qos.pairings" &&
			strings.Contains(strings.Join(r.Notes, "; "), "was lost; sent again")
	}
	if !told {
		t.Error("what was lost and sent again is not told")
	}
}

// TestNothingHidesAFault: what a fault breaks is not kept because a link is slow as well, or ends anyhow some time after
// CONNACK.
func TestNothingHidesAFault(t *testing.T) {
	ends := func(after time.Duration) func(int, *link.Link) relayed {
		return func(_ int, l *link.Link) relayed {
			return func(_ packet.Version, on func([]byte), p packet.Packet, raw []byte) {
				on(raw)
				if p.Type() == packet.CONNACK {
					time.AfterFunc(after, func() { l.Close() })
				}
			}
		}
	}
	slow := func(messages, others time.Duration) func(int, *link.Link) relayed {
		return func(int, *link.Link) relayed {
			return later(func(p packet.Packet) time.Duration {
				if p.Type() == packet.PUBLISH {
					return messages
				}
				return others
			})
		}
	}
	gone := map[string][]string{ // the fault does not show there
		"login.refusal-open": {"links end soon", "links end", "links end late"}, // the link is closed after all
		"connack.late":       {"messages are slow"},                             // CONNACK comes first then
		"session.new-first":  {"answers are slow", "all is slow"},               // what waits has come before anything new
		"expiry.left-none":   {"all is slow"},                                   // it may be over
	}
	for i, f := range fault.All() {
		if f.Sockets || f.NotLetIn || f.With != (standin.Limits{}) || prooftest.Raced && i%30 != 0 {
			continue
		}
		var checks []*proof.Check
		for _, name := range f.Breaks {
			some, err := check.Match(name)
			if err != nil {
				t.Fatal(err)
			}
			checks = append(checks, some...)
		}
		for k, tt := range []struct {
			name    string
			through func(int, *link.Link) relayed
		}{
			{"links end soon", ends(300 * time.Millisecond)},
			{"links end", ends(3 * time.Second)},
			{"links end late", ends(8 * time.Second)},
			{"all is slow", slow(700*time.Millisecond, 700*time.Millisecond)},
			{"messages are slow", slow(900*time.Millisecond, 0)},
			{"answers are slow", slow(0, 900*time.Millisecond)},
		} {
			v := proof.Versions()[(i+k)%3]
			if slices.Contains(gone[f.Name], tt.name) || f.Versions != nil && !slices.Contains(f.Versions, v) {
				continue
			}
			t.Run(fmt.Sprint(f.Name, " while ", tt.name, " in ", v), func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) {
					s := prooftest.Faulty(t, prooftest.Secured(), f.Name)
					defer func() { s.Close(); time.Sleep(5 * time.Second) }()
					target := prooftest.Target(s, false)
					target.Doors = nil
					target.Dial = relay(s, v, tt.through, func(l *link.Link) { l.Close() }, false)
					p, err := proof.Run(t.Context(), target, proof.Options{Checks: checks, Versions: []packet.Version{v}})
					if err != nil {
						t.Fatal(err)
					}
					for _, r := range p.Results {
						if r.Verdict == proof.Kept {
							t.Errorf("%s is kept: %s", r.Check.Name, r.Seen)
						}
					}
				})
			})
		}
	}
}
