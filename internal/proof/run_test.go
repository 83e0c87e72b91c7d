package proof_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
)

// TestTheRunnerInTheMatrix holds the runner to a part of the matrix; the whole is the catalogue's.
func TestTheRunnerInTheMatrix(t *testing.T) { prooftest.Sample(t, 4, packet.V5) }

// TestTheRunnerHeedsLimits holds it to what brokers do not offer.
func TestTheRunnerHeedsLimits(t *testing.T) { prooftest.Limits(t, nil) }

func TestWhatIsNotAskedForIsSkippedAndWhatIsStoppedIsUndecided(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		real := proof.Target{Broker: "real", Dial: s.Dial}
		checks, err := check.Match("login.*")
		if err != nil || len(checks) != 6 {
			t.Fatal(checks, err)
		}
		p, err := proof.Run(context.Background(), real, proof.Options{Checks: checks})
		if err != nil || p.Counts()[proof.Skipped] != 18 {
			t.Errorf("%v %v", p.Counts(), err)
		}
		ctx, cancel := context.WithCancel(context.Background())
		time.AfterFunc(100*time.Millisecond, cancel)
		checks, _ = check.Match("will.not-on-goodbye")
		p, err = proof.Run(ctx, real, proof.Options{Checks: checks})
		if err != nil || p.Counts()[proof.Undecided] != 3 || p.OK() || p.Took > time.Second {
			t.Errorf("%v %v after %s", p.Counts(), err, p.Took)
		}
		real.Dial = func(context.Context) (*link.Link, error) { return nil, errors.New("no way") }
		if _, err := proof.Run(context.Background(), real, proof.Options{Checks: checks}); !errors.Is(
			err,
			proof.ErrNotReached,
		) {
			t.Errorf("not reached: %v", err)
		}
		if _, err := check.Match("wil.*"); err == nil || !strings.Contains(err.Error(), "will.on-cut") {
			t.Errorf("a pattern that matches nothing: %v", err)
		}
	})
}

// TestWatchersStayUntilTheRunEnds: what must not come turns the verdict also when it comes long after the check itself
// was through, as long as anything of the run goes on; and a kept one says for how long it was watched.
func TestWatchersStayUntilTheRunEnds(t *testing.T) {
	for after, want := range map[time.Duration]proof.Verdict{8 * time.Second: proof.Broken, 0: proof.Kept} {
		synctest.Test(t, func(t *testing.T) {
			o := prooftest.Secured()
			o.Faults = []standin.Fault{{Name: "late", Decisions: standin.Decisions{Will: func(w *standin.WillCase) {
				if w.Goodbye {
					w.Send, w.Later = true, 5*time.Second
				}
			}}}}
			s, err := standin.New(o)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			checks, err := check.Match("will.not-on-goodbye")
			if err != nil {
				t.Fatal(err)
			}
			checks = append(
				checks,
				&proof.Check{
					Name:     "slow.wait",
					Title:    "another that takes its time",
					Sections: proof.Same("1", "1"),
					Run: func(p *proof.Pass) error {
						time.Sleep(after)
						return nil
					},
				},
			)
			p, err := proof.Run(
				t.Context(),
				prooftest.Target(s, false),
				proof.Options{Checks: checks, Versions: []packet.Version{packet.V5}},
			)
			if err != nil {
				t.Fatal(err)
			}
			r := p.Results[0]
			if r.Verdict != want || want == proof.Broken && len(r.Decisive) == 0 ||
				want == proof.Kept && !strings.Contains(strings.Join(r.Notes, " "), "watched for ") {
				t.Errorf("with another check of %s: %s %q %q", after, r.Verdict, r.Seen, r.Notes)
			}
		})
	}
}

// TestWhatABrokerTellsOfItself is kept from before and from after; who tells nothing lacks nothing.
func TestWhatABrokerTellsOfItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		checks, err := check.Match("will.not-on-goodbye")
		if err != nil {
			t.Fatal(err)
		}
		for tells, want := range map[bool]string{true: "version Hodstone's stand-in, up for 0 seconds → 10 seconds, clients 0 → 5", false: ""} {
			s, _ := standin.New(standin.Options{Anonymous: true, System: tells})
			// Four clients come and stay before it tells again.
			for i := range 4 {
				time.AfterFunc(5*time.Second, func() { stays(t, s, i) })
			}
			slow := proof.Check{
				Name:     "x.slow",
				Expected: "time",
				Sections: proof.Same("1", "1"),
				Run: func(*proof.Pass) error {
					time.Sleep(11 * time.Second)
					return nil
				},
			}
			p, err := proof.Run(t.Context(), proof.Target{Broker: "b", Dial: s.Dial, StandIn: true}, proof.Options{
				Checks: append(checks, &slow), Versions: []packet.Version{packet.V311}})
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, f := range p.Facts {
				got = append(got, f.String())
			}
			if strings.Join(got, ", ") != want {
				t.Errorf("%q, want %q", got, want)
			}
			s.Close()
		}
	})
}

func stays(t *testing.T, s *standin.Server, n int) {
	c := client.New(
		client.Options{
			Dial:    s.Dial,
			Version: packet.V311,
			Connect: packet.Connect{ClientID: fmt.Sprint("stays", n), CleanStart: true},
		},
	)
	if _, err := c.Connect(t.Context()); err != nil {
		t.Error(err)
	}
}
