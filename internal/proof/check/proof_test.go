package check_test

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
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
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

// faulty returns a stand-in with faults.
func faulty(t *testing.T, o standin.Options, faults ...string) *standin.Server {
	t.Helper()
	var err error
	if o.Faults, err = fault.Set(faults...); err != nil {
		t.Fatal(err)
	}
	s, err := standin.New(o)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// secured lets in one login and nobody else.
func secured() standin.Options {
	return standin.Options{Logins: []standin.Login{{Name: "bench", Password: password}}}
}

// TestEachFaultBreaksExactlyItsChecks is the whole matrix: without a fault everything is
// kept; with each fault exactly the checks beside it are broken or undecided, in all
// versions.
func TestEachFaultBreaksExactlyItsChecks(t *testing.T) {
	faults := append([]standin.Fault{{Name: "", Sentence: "No fault."}}, fault.All()...)
	for _, f := range faults {
		for _, v := range proof.Versions() {
			if f.Versions != nil && !slices.Contains(f.Versions, v) {
				continue
			}
			t.Run(fmt.Sprintf("%s in %s", f.Name, v), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					var on []string
					if f.Name != "" {
						on = []string{f.Name}
					}
					s := faulty(t, secured(), on...)
					defer s.Close()
					p, err := proof.Run(
						context.Background(),
						target(s, false),
						proof.Options{Checks: check.All(), Versions: []packet.Version{v}},
					)
					var shut *proof.NotLetInError
					if f.NotLetIn && errors.As(err, &shut) {
						return
					}
					if err != nil {
						t.Fatal(err)
					}
					want := slices.Sorted(slices.Values(meant(f.Breaks, v)))
					if got := names(p, proof.Broken); !slices.Equal(got, want) {
						t.Errorf("broken: %v, want %v", got, want)
						tell(t, p, proof.Broken)
					}
					want = slices.Sorted(slices.Values(meant(f.Undecides, v)))
					if got := names(p, proof.Undecided); !slices.Equal(got, want) {
						t.Errorf("undecided: %v, want %v", got, want)
						tell(t, p, proof.Undecided)
					}
					if n := p.Counts(); n[proof.Unsupported] != 0 || p.OK() != (f.Name == "") {
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

// meant leaves out the checks that are not meant for a version.
func meant(all []string, v packet.Version) (out []string) {
	for _, name := range all {
		found, err := check.Match(name)
		if err != nil {
			panic(err)
		}
		if found[0].Section(v) != "" {
			out = append(out, name)
		}
	}
	return out
}

func tell(t *testing.T, p *proof.Proof, v proof.Verdict) {
	for _, r := range p.Results {
		if r.Verdict == v {
			t.Logf("%s in %s: %s", r.Check.Name, r.Version, r.Seen)
		}
	}
}

// TestTheCatalogueHangsTogether: what a check requires is there, every fault names checks that there are, and
// every check has a fault.
func TestTheCatalogueHangsTogether(t *testing.T) {
	before, found := map[string]bool{}, map[string]bool{}
	for _, f := range fault.All() {
		for _, name := range append(slices.Clone(f.Breaks), f.Undecides...) {
			found[name] = true
		}
	}
	found["login.right"] = true // where it would be broken, no proof begins: login.refuses-right
	for _, c := range check.All() {
		for _, name := range c.Requires {
			if found, err := check.Match(name); err != nil || len(found) != 1 {
				t.Errorf("%s requires %s: %v", c.Name, name, err)
			}
		}
		if !found[c.Name] || c.Needs.Least == 0 && c.Family() != "connect" && c.Family() != "login" ||
			c.Sections.V5 == "" ||
			before[c.Name] {
			t.Errorf("%s: fault %v, %+v", c.Name, found[c.Name], c)
		}
		before[c.Name] = true
		delete(found, c.Name)
	}
	if len(found) > 0 {
		t.Errorf("faults break checks that there are not: %v", found)
	}
}

// checkResults holds every result to having reasons and evidence without the password.
func checkResults(t *testing.T, p *proof.Proof) {
	t.Helper()
	for _, r := range p.Results {
		if r.Verdict == proof.Skipped {
			continue
		}
		if strings.Contains(r.Seen, "it tells nothing while") {
			continue // it was not begun
		}
		if r.Expected == "" || r.Seen == "" || len(r.Evidence) == 0 || len(r.Steps) == 0 || r.Check.Title == "" {
			t.Errorf("%s: %+v", r.Check.Name, r)
		}
		if d := r.Decided(); (r.Verdict == proof.Kept || r.Verdict == proof.Broken) &&
			(len(d) == 0 || len(d) != len(r.Decisive)) {
			t.Errorf(
				"%s in %s is %s, and nothing decided it: %v %s",
				r.Check.Name,
				r.Version,
				r.Verdict,
				r.Decisive,
				r.Seen,
			)
		}
		for i := range r.Evidence {
			if e := &r.Evidence[i]; e.Role != trace.RoleCheck ||
				strings.Contains(fmt.Sprintf("%+v %q %s", e, e.Raw, e.Describe()), password) {
				t.Errorf("%s: evidence %+v", r.Check.Name, e)
			}
			if c, ok := r.Evidence[i].Packet.(*packet.Connect); ok && r.Evidence[i].Kind == trace.Sent &&
				(len(c.ClientID) > 23 || strings.Trim(strings.ToLower(c.ClientID), "abcdefghijklmnopqrstuvwxyz0123456789") != "") {
				t.Errorf("client id %q", c.ClientID)
			}
		}
		if (r.Check.Name == "qos.pairings") != (len(r.Tables) == 1) {
			t.Errorf("%s: tables %v", r.Check.Name, r.Tables)
		}
	}
}

func TestNothingIsLeftOnTheBroker(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(
			standin.Options{Anonymous: true, Logins: []standin.Login{{Name: "bench", Password: password}}},
		)
		defer s.Close()
		anonymous := target(s, true)
		if p, err := proof.Run(context.Background(), anonymous, proof.Options{Checks: check.All()}); err != nil ||
			!p.OK() {
			t.Fatal(p.Counts(), err)
		}
		c, _ := s.Dial(context.Background()) // a newcomer that subscribes to everything is greeted by nothing
		hello := (&packet.Connect{ClientID: "x", CleanStart: true}).Append(nil, packet.V311)
		c.Write(
			(&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "#"}}}).Append(hello, packet.V311),
		)
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
		checks, err := check.Match("login.*")
		if err != nil || len(checks) != 3 {
			t.Fatal(checks, err)
		}
		p, err := proof.Run(context.Background(), real, proof.Options{Checks: checks})
		if err != nil || p.Counts()[proof.Skipped] != 9 {
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
