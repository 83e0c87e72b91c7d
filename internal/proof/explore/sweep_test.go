//go:build sweep

package explore_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/proof/explore"
)

// outside are the faults that no conversation of the universe can meet, by the beginning of a fault's name or of a check
// that it breaks, and why.
var outside = []struct{ names, why string }{
	{
		"keepalive. connect.slow connect.refuses-no",
		"time: keep alives are long in conversations, and late answers are waited for",
	},
	{
		"will.delay will.late will.not-cancelled will.outlives will.not-on-timeout expiry. session.expi session.never retain.expiry",
		"time: nothing expires or is delayed while a conversation lasts",
	},
	{
		"login. rights. auth. connect.empty-id connect.any-level connect.id- limit. contract. restart. deep. answers.",
		"logins, identifiers, limits, contracts and restarts are the catalogue's",
	},
	{
		"error. filter. connect.twice connect.not-first connect.flag connect.acts pubrel.unanswered alias. problem-info. nosub. subid.",
		"packets that no conversation sends: malformed ones, aliases, subscription identifiers",
	},
	{
		"topic. utf8. match.dollar match.case match.plus-empty match.slash payload.nul payload.as-text payload.trimmed connect.forgets",
		"characters, empty levels and pieces: names and payloads are plain",
	},
	{
		"order. fanout. shared.drops shared.plain subscribe.last suback. correlation. response. qos.granted",
		"numbers: more clients, filters and messages than a conversation has",
	},
	{"tls. ws. transport.", "below MQTT"},
}

func beyond(f *standin.Fault) string {
	for _, o := range outside {
		for _, begin := range strings.Fields(o.names) {
			if strings.HasPrefix(f.Name, begin) || len(f.Breaks) > 0 &&
				!slices.ContainsFunc(f.Breaks, func(check string) bool { return !strings.HasPrefix(check, begin) }) {
				return o.why
			}
		}
	}
	return ""
}

// TestTheShareOfFaultsThatExploringFinds tries each fault that concerns packets: at least 80 % of those that a
// conversation can meet are found, each within a minute and shortened to twelve steps or fewer.
func TestTheShareOfFaultsThatExploringFinds(t *testing.T) {
	var mu sync.Mutex
	found, tried, out := 0, 0, map[string]int{}
	longest, slowest := 0, time.Duration(0)
	t.Run("faults", func(t *testing.T) {
		const many = 8000 // within a minute
		for _, f := range fault.All() {
			if why := beyond(&f); why != "" {
				out[why]++
				continue
			}
			t.Run(f.Name, func(t *testing.T) {
				t.Parallel()
				const few = 12
				start := time.Now()
				var r *explore.Report
				synctest.Test(t, func(t *testing.T) {
					r = explored(t, explore.Options{Conversations: many, Seed: 11}, f.With, f.Name)
				})
				took := time.Since(start)
				mu.Lock()
				defer mu.Unlock()
				tried++
				if len(r.Findings) == 0 {
					fmt.Printf("MISSED %s, %d conversations, %s %v\n", f.Name, r.Conversations, took, r.Unshown)
					return
				}
				found++
				x := &r.Findings[0]
				longest, slowest = max(longest, len(x.Actions)), max(slowest, took)
				fmt.Printf(
					"found %s by %s in conversation %d, %d actions, %s\n",
					f.Name,
					x.Rule.Name,
					x.Number,
					len(x.Actions),
					took,
				)
				if len(x.Actions) > few {
					t.Error(told(x))
				}
			})
		}
	})
	t.Logf(
		"found %d of %d, the longest in %d steps, the slowest in %s; beyond: %v",
		found,
		tried,
		longest,
		slowest,
		out,
	)
	if found*100 < 80*tried {
		t.Errorf("found %d of %d", found, tried)
	}
}

// TestAMinuteOfExploring explores a stand-in as long as a person lets it: what changes of the stand-in does it find? See
// docs/testing.md.
func TestAMinuteOfExploring(t *testing.T) {
	for _, v := range proof.Versions() {
		t.Run(v.String(), func(t *testing.T) {
			t.Parallel()
			const many, few = 4000, 12
			var r *explore.Report
			synctest.Test(t, func(t *testing.T) {
				r = explored(
					t,
					explore.Options{Conversations: many, Seed: 11, Versions: []packet.Version{v}},
					standin.Limits{},
				)
			})
			for i := range r.Findings {
				t.Error(told(&r.Findings[i]))
				if n := len(r.Findings[i].Actions); n > few {
					t.Errorf("LONG: %d steps", n)
				}
			}
		})
	}
}
