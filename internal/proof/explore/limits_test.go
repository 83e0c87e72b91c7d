package explore_test

import (
	"fmt"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof/explore"
	"hodstone/internal/proof/model"
	"hodstone/internal/proof/prooftest"
)

// TestAShortQueueIsNoFault: what a broker does not keep for who is away, for there is too much of it, is not missed; what
// it loses for another reason is.
func TestAShortQueueIsNoFault(t *testing.T) {
	for _, n := range []int{1, 3} {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				r := explored(t, explore.Options{Conversations: 96, Seed: 5}, standin.Limits{Queued: n})
				for i := range r.Findings {
					t.Error(told(&r.Findings[i]))
				}
				if r.Queue != n {
					t.Errorf("it keeps %d", r.Queue)
				}
			})
		})
	}
	synctest.Test(t, func(t *testing.T) {
		o := explore.Options{Conversations: 96, Seed: 5, Versions: []packet.Version{packet.V311}}
		r := explored(t, o, standin.Limits{}, "session.away-lost")
		if len(r.Findings) != 1 || r.Findings[0].Rule != &model.Waited || r.Queue != 0 {
			t.Errorf("%+v, it keeps %d", r.Findings, r.Queue)
		}
	})
}

// TestASizeThatNoPacketTellsIsNoFault: a broker that passes on no long messages, or closes the link on them, is not
// accused of losing them; one that loses them only where they are stored is.
func TestASizeThatNoPacketTellsIsNoFault(t *testing.T) {
	const most = 20_000
	for name, tt := range map[string]struct {
		d    standin.Decisions
		rule *model.Rule
	}{
		"dropped": {standin.Decisions{Deliver: func(d *standin.Delivery) {
			if len(d.Payload) > most {
				d.Times = 0
			}
		}, Store: func(m *packet.Publish) bool { return len(m.Payload) <= most }}, nil},
		"closed": {standin.Decisions{Objects: func(p *packet.Publish) string {
			if len(p.Payload) > most {
				return "too long"
			}
			return ""
		}}, nil},
		"not stored": {standin.Decisions{Store: func(m *packet.Publish) bool { return len(m.Payload) <= most }}, &model.StoredGreets},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				o := prooftest.Secured()
				o.Faults = []standin.Fault{{Name: name, Decisions: tt.d}}
				s, err := standin.New(o)
				if err != nil {
					t.Fatal(err)
				}
				defer s.Close()
				r, err := explore.Run(t.Context(), prooftest.Target(s, false), explore.Options{Conversations: 208, Seed: 5})
				if err != nil {
					t.Fatal(err)
				}
				sound := tt.rule == nil && len(r.Findings) == 0 && r.Largest == 400
				if !sound && (tt.rule == nil || len(r.Findings) != 1 || r.Findings[0].Rule != tt.rule) {
					t.Errorf("%d findings, the largest %d", len(r.Findings), r.Largest)
					for i := range r.Findings {
						t.Error(told(&r.Findings[i]))
					}
				}
			})
		})
	}
}
