package proof_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

const password = brokertest.Password

func target(s *standin.Server, anonymous bool) proof.Target {
	return proof.Target{Broker: "stand-in", Listener: "memory", StandIn: true, Dial: s.Dial, Anonymous: &anonymous,
		Login: &workspace.Login{Username: "bench", Password: workspace.NewSecret(password)}}
}

func names(p *proof.Proof, v proof.Verdict) (out []string) {
	for _, r := range p.Results {
		if r.Verdict == v && !slices.Contains(out, r.Check.Name) {
			out = append(out, r.Check.Name)
		}
	}
	slices.Sort(out)
	return out
}

// TestEachFaultBreaksExactlyItsChecks is the whole matrix: without a fault everything is
// kept; with each fault exactly the checks beside it are broken or undecided, in both
// versions.
func TestEachFaultBreaksExactlyItsChecks(t *testing.T) {
	faults := append([]standin.Fault{{Name: "", Sentence: "No fault."}}, standin.Faults()...)
	for _, f := range faults {
		for _, v := range []packet.Version{packet.V311, packet.V5} {
			t.Run(fmt.Sprintf("%s in %s", f.Name, v), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					o := standin.Options{Logins: []standin.Login{{Name: "bench", Password: password}}}
					if f.Name != "" {
						o.Faults = []string{f.Name}
					}
					s, err := standin.New(o)
					if err != nil {
						t.Fatal(err)
					}
					defer s.Close()
					p, err := proof.Run(context.Background(), target(s, false), proof.Options{Versions: []packet.Version{v}})
					if err != nil {
						t.Fatal(err)
					}
					want := slices.Sorted(slices.Values(f.Breaks))
					if got := names(p, proof.Broken); !slices.Equal(got, want) {
						t.Errorf("broken: %v, want %v", got, want)
					}
					want = slices.Sorted(slices.Values(f.Undecides))
					if got := names(p, proof.Undecided); !slices.Equal(got, want) {
						t.Errorf("undecided: %v, want %v", got, want)
					}
					if n := p.Counts(); n[proof.Skipped]+n[proof.Unsupported] != 0 || p.OK() != (f.Name == "") {
						t.Errorf("%v, OK %v", n, p.OK())
					}
					checkResults(t, p)
					synctest.Wait()
					for _, c := range s.Clients() {
						t.Errorf("a session is left: %+v", c)
					}
				})
			})
		}
	}
}

// checkResults holds every result to having reasons and evidence without the password.
func checkResults(t *testing.T, p *proof.Proof) {
	t.Helper()
	for _, r := range p.Results {
		if r.Expected == "" || r.Seen == "" || len(r.Evidence) == 0 || len(r.Steps) == 0 || r.Check.Title == "" {
			t.Errorf("%s: %+v", r.Check.Name, r)
		}
		for i := range r.Evidence {
			if e := &r.Evidence[i]; e.Role != trace.RoleCheck || strings.Contains(fmt.Sprintf("%+v %q %s", e, e.Raw, e.Describe()), password) {
				t.Errorf("%s: evidence %+v", r.Check.Name, e)
			}
			if c, ok := r.Evidence[i].Packet.(*packet.Connect); ok && r.Evidence[i].Kind == trace.Sent &&
				(len(c.ClientID) > 23 || strings.Trim(strings.ToLower(c.ClientID), "abcdefghijklmnopqrstuvwxyz0123456789") != "") {
				t.Errorf("client id %q", c.ClientID)
			}
		}
		if (r.Check.Name == "qos.pairings") != (r.Pairings != nil) {
			t.Errorf("%s: pairings %v", r.Check.Name, r.Pairings)
		}
	}
}

func TestNothingIsLeftOnTheBroker(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true, Logins: []standin.Login{{Name: "bench", Password: password}}})
		defer s.Close()
		anonymous := target(s, true)
		if p, err := proof.Run(context.Background(), anonymous, proof.Options{}); err != nil || !p.OK() {
			t.Fatal(p.Counts(), err)
		}
		c, _ := s.Dial(context.Background()) // a newcomer that subscribes to everything is greeted by nothing
		hello := (&packet.Connect{ClientID: "x", CleanStart: true}).Append(nil, packet.V311)
		c.Write((&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "#"}}}).Append(hello, packet.V311))
		r := packet.NewReader(c, packet.V311)
		for _, want := range []packet.Type{packet.CONNACK, packet.SUBACK} {
			if got, _, err := r.Next(); err != nil || got.Type() != want {
				t.Fatal(got, err)
			}
		}
		c.Write((&packet.Pingreq{}).Append(nil, packet.V311))
		if got, _, err := r.Next(); err != nil || got.Type() != packet.PINGRESP {
			t.Errorf("left behind: %+v %v", got, err)
		}
		c.Close()
		synctest.Wait()
		if left := s.Clients(); len(left) != 0 {
			t.Errorf("sessions left: %+v", left)
		}
	})
}

func TestWhatIsNotAskedForIsSkippedAndWhatIsStoppedIsUndecided(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(standin.Options{Anonymous: true})
		defer s.Close()
		real := proof.Target{Broker: "real", Dial: s.Dial}
		checks, err := proof.Match("login.*")
		if err != nil || len(checks) != 3 {
			t.Fatal(checks, err)
		}
		p, err := proof.Run(context.Background(), real, proof.Options{Checks: checks})
		if err != nil || p.Counts()[proof.Skipped] != 6 {
			t.Errorf("%v %v", p.Counts(), err)
		}
		ctx, cancel := context.WithCancel(context.Background())
		time.AfterFunc(100*time.Millisecond, cancel)
		checks, _ = proof.Match("will.not-on-goodbye")
		p, err = proof.Run(ctx, real, proof.Options{Checks: checks})
		if err != nil || p.Counts()[proof.Undecided] != 2 || p.OK() || p.Took > time.Second {
			t.Errorf("%v %v after %s", p.Counts(), err, p.Took)
		}
		real.Dial = func(context.Context) (*link.Link, error) { return nil, errors.New("no way") }
		if _, err := proof.Run(context.Background(), real, proof.Options{}); !errors.Is(err, proof.ErrNotReached) {
			t.Errorf("not reached: %v", err)
		}
		if _, err := proof.Match("wil.*"); err == nil || !strings.Contains(err.Error(), "will.on-cut") {
			t.Errorf("a pattern that matches nothing: %v", err)
		}
	})
}
