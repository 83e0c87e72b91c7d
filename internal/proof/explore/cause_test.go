package explore_test

import (
	"strings"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof/explore"
)

// TestOneDefectIsToldAsOne: findings that take a subscription which is made again say so, and what else does; others do not.
func TestOneDefectIsToldAsOne(t *testing.T) {
	for name, takes := range map[string]bool{
		"subscribe.first-counts": true, "subscribe.keeps-no-local": true, "subscribe.doubled": true,
		"nolocal.ignored": false, "qos.raised": false, "retain.first-kept": false,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				o := explore.Options{Conversations: 400, Seed: 3, Versions: []packet.Version{packet.V5}}
				r := explored(t, o, standin.Limits{}, name)
				if len(r.Findings) == 0 {
					t.Error("nothing was found")
				}
				for i := range r.Findings {
					f := &r.Findings[i]
					notes := strings.Join(f.Result.Notes, "; ")
					if (f.Takes != "") != takes ||
						takes != strings.Contains(notes, "with UNSUBSCRIBE before, nothing is amiss") ||
						(takes && i > 0) != strings.Contains(notes, "probably the same defect") {
						t.Errorf("takes %q, %s\n%s", f.Takes, notes, told(f))
					}
				}
			})
		})
	}
}
