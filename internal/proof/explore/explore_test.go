package explore_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/explore"
	"hodstone/internal/proof/model"
	"hodstone/internal/proof/prooftest"
)

// explored explores a stand-in within memory, on the fake clock.
func explored(t *testing.T, o explore.Options, limits standin.Limits, faults ...string) *explore.Report {
	t.Helper()
	options := prooftest.Secured()
	options.Limits = limits
	s := prooftest.Faulty(t, options, faults...)
	defer s.Close()
	r, err := explore.Run(context.Background(), prooftest.Target(s, false), o)
	if err != nil {
		t.Fatal(err)
	}
	synctest.Wait()
	for _, c := range s.Clients() {
		if len(faults) == 0 {
			t.Errorf("a session is left: %+v", c)
		}
	}
	return r
}

// told tells a finding with its steps and packets.
func told(f *explore.Finding) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s in %s: %s (%d of %d actions)\n", f.Rule.Name, f.Version, f.Text, len(f.Actions), f.Before)
	for _, s := range f.Result.Steps {
		fmt.Fprintf(&b, "  %s\n", s.Text)
	}
	for i := range f.Result.Evidence {
		e := &f.Result.Evidence[i]
		fmt.Fprintf(&b, "    %s %v %s\n", e.Client, e.Kind, e.Describe())
	}
	return b.String()
}

// TestTheStandInIsExplored: nothing that it does is against the model, in any version, nor within limits of its own;
// and most pairs of actions are tried.
func TestTheStandInIsExplored(t *testing.T) {
	none := packet.QoS(0)
	many := 320
	if testing.Short() || prooftest.Raced {
		many = 100
	}
	for _, v := range proof.Versions() {
		for name, limits := range map[string]standin.Limits{"": {}, " at QoS 0": {MaximumQoS: &none}, " without stored messages": {NoRetained: true},
			" without wildcards": {NoWildcards: true, NoShared: true}, " with small packets": {MaximumPacketSize: 300}, " one in flight": {ReceiveMaximum: 1}} {
			t.Run(v.String()+name, func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) {
					o := explore.Options{Conversations: many, Seed: 1, Versions: []packet.Version{v}, Findings: 5}
					if name != "" {
						o.Conversations = many / 5
					}
					r := explored(t, o, limits)
					for i := range r.Findings {
						t.Error(told(&r.Findings[i]))
					}
					tried, all, not := r.Pairs()
					if name == "" && tried < 230 || all != 324 || len(not) != all-tried ||
						r.Conversations < o.Conversations {
						t.Errorf(
							"%d conversations; %d of %d pairs were tried, not %v",
							r.Conversations,
							tried,
							all,
							not,
						)
					}
				})
			})
		}
	}
}

// TestExploringFindsFaults: a fault for each rule that has one, found, and shortened to a few steps; the same seed
// finds it in the same conversation.
func TestExploringFindsFaults(t *testing.T) {
	for name, rules := range map[string]string{
		"retain.not-stored": "stored", "retain.not-cleared": "stored-wrong", "retain.flag-lost": "retain-flag", "qos.raised": "qos",
		"qos2.twice": "twice", "will.never-sent": "will stored", "will.on-goodbye": "no-will stored-wrong", "session.lost": "session-present waited delivered",
		"session.not-cleaned": "session-ended unasked twice", "connect.both-live": "taken-over", "nolocal.ignored": "no-local twice",
		"qos1.no-resend": "resent delivered", "payload.truncated": "payload", "topic.dot-slashed": "", "ping.unanswered": "answered",
		"flow.ignores-maximum": "receive-maximum", "qos2.release-unanswered": "acknowledged released", "unsubscribe.ignored": "unasked stored-wrong qos twice",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			find := func() (r *explore.Report) {
				synctest.Test(t, func(t *testing.T) {
					r = explored(t, explore.Options{Conversations: 1200, Seed: 5}, standin.Limits{}, name)
				})
				return r
			}
			r := find()
			if rules == "" { // beyond the universe: topics have no such characters
				if len(r.Findings) > 0 {
					t.Error(told(&r.Findings[0]))
				}
				return
			}
			if len(r.Findings) != 1 {
				t.Fatalf("not found in %d conversations, %v", r.Conversations, r.Unshown)
			}
			f := &r.Findings[0]
			const few = 12
			if !slices.Contains(strings.Fields(rules), f.Rule.Name) || len(f.Actions) > few ||
				len(f.Result.Steps) > len(f.Actions) ||
				f.Result.Verdict != proof.Broken ||
				len(f.Result.Decided()) == 0 ||
				f.Result.Check.Section(f.Version) == "" {
				t.Errorf("%d decided: %s", len(f.Result.Decided()), told(f))
			}
			if again := find(); len(again.Findings) != 1 || again.Findings[0].Number != f.Number ||
				!slices.Equal(again.Findings[0].Actions, f.Actions) {
				t.Errorf("the same seed finds something else: %d, %d", f.Number, again.Conversations)
			}
		})
	}
}

// TestAnExplorationIsStopped by its time, by its context, and where nothing can be explored.
func TestAnExplorationIsStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var told []explore.Progress
		start := time.Now()
		r := explored(
			t,
			explore.Options{For: 10 * time.Second, Seed: 3, Told: func(p explore.Progress) { told = append(told, p) }},
			standin.Limits{},
		)
		if took := time.Since(
			start,
		); took < 10*time.Second || took > 20*time.Second || len(told) == 0 ||
			r.Took < 10*time.Second {
			t.Errorf("took %s, told %d times", took, len(told))
		}
		p := explore.AsProof(proof.Target{Broker: "quay"}, r, start)
		if !p.OK() || len(p.Results) != 1 || !strings.Contains(p.Results[0].Seen, "conversations of seed 3") {
			t.Errorf("%+v", p.Results)
		}
		known := 0
		r = explored(
			t,
			explore.Options{
				Conversations: 200,
				Seed:          5,
				Known: func(_ packet.Version, actions []explore.Action, v *model.Violation) bool {
					known++
					return v.Rule == &model.StoredGreets && len(actions) > 0
				},
			},
			standin.Limits{},
			"retain.not-stored",
		)
		if known == 0 || len(r.Findings) != 0 {
			t.Errorf("what is known is told: %d, %v", known, r.Findings)
		}
	})
	synctest.Test(t, func(t *testing.T) {
		s := prooftest.Faulty(t, prooftest.Secured())
		defer s.Close()
		ctx, cancel := context.WithCancel(context.Background())
		time.AfterFunc(3*time.Second, cancel)
		r, err := explore.Run(ctx, prooftest.Target(s, false), explore.Options{For: time.Hour})
		if err != nil || len(r.Findings) > 0 || r.Took > 30*time.Second {
			t.Errorf("%v %+v", err, r)
		}
	})
}
