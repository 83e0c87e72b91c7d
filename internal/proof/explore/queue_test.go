package explore_test

import (
	"fmt"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof/explore"
	"hodstone/internal/proof/model"
)

// TestAShortQueueIsNoFault: what a broker does not keep for who is away, for there is too much of it, is not missed; what
// it loses for another reason is.
func TestAShortQueueIsNoFault(t *testing.T) {
	for _, n := range []int{1, 3, 10} {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				r := explored(t, explore.Options{Conversations: 1200, Seed: 5}, standin.Limits{Queued: n})
				for i := range r.Findings {
					t.Error(told(&r.Findings[i]))
				}
				if n < 4 && r.Queue != n {
					t.Errorf("it keeps %d", r.Queue)
				}
			})
		})
	}
	synctest.Test(t, func(t *testing.T) {
		o := explore.Options{Conversations: 1200, Seed: 5, Versions: []packet.Version{packet.V311}}
		if r := explored(t, o, standin.Limits{}, "session.away-lost"); len(r.Findings) != 1 || r.Findings[0].Rule != &model.Waited || r.Queue != 0 {
			t.Errorf("%+v, it keeps %d", r.Findings, r.Queue)
		}
	})
}
