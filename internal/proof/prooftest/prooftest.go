// Package prooftest puts the catalogue of checks to stand-ins with and without faults and limits, for the tests of the
// runner and of the checks alike. Only tests import it.
package prooftest

import (
	"bytes"
	"cmp"
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

// Target is a stand-in, and the login that it lets in.
func Target(s *standin.Server, anonymous bool) proof.Target {
	return proof.Target{
		Broker:    "stand-in",
		Listener:  "memory",
		StandIn:   true,
		Dial:      s.Dial,
		Anonymous: &anonymous,
		Login:     &workspace.Login{Username: "bench", Password: workspace.NewSecret(brokertest.Password)},
		Limited:   Guest(),
		Doors: []proof.Door{
			{Name: "other", Dial: func(ctx context.Context) (*link.Link, error) { return s.DialAs(ctx, "other") }},
		},
	}
}

// Guest is a login that may do nothing outside guest/.
func Guest() *proof.Limited {
	return &proof.Limited{
		Login: &workspace.Login{
			Name:        "guest",
			Username:    "guest",
			Password:    workspace.NewSecret(brokertest.Password),
			HasPassword: true,
		},
		Publish:   []string{"guest/#"},
		Subscribe: []string{"guest/#"},
	}
}

// Names returns the checks that have a verdict in any version, sorted.
func Names(p *proof.Proof, v proof.Verdict) (out []string) {
	for _, r := range p.Results {
		if r.Verdict == v && !slices.Contains(out, r.Check.Name) {
			out = append(out, r.Check.Name)
		}
	}
	slices.Sort(out)
	return out
}

// Faulty returns a stand-in with faults.
func Faulty(t *testing.T, o standin.Options, faults ...string) *standin.Server {
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

// Secured lets in one login and nobody else.
func Secured() standin.Options {
	return standin.Options{System: true, Logins: []standin.Login{{Name: "bench", Password: brokertest.Password},
		{Name: "guest", Password: brokertest.Password, Publish: Guest().Publish, Subscribe: Guest().Subscribe}}}
}

// Contracted lets in those of the contract too.
func Contracted() standin.Options {
	o := Secured()
	o.Logins = append(o.Logins, agreedLogins()...)
	return o
}

// Matrix runs all checks against a stand-in without a fault, where everything must be kept, and with each fault, where
// exactly the checks beside it must be broken or undecided, in the versions given. Under the race detector it is every
// thirtieth fault: 'make test' runs the whole without it.
func Matrix(t *testing.T, versions ...packet.Version) {
	t.Helper()
	said := NewWords(faults)
	t.Run("faults", func(t *testing.T) {
		all := fault.All()
		if Raced {
			const some = 30
			all = every(some)
		}
		matrix(t, all, versions, said)
	})
	said.Compare(t)
}

// every returns every nth fault.
func every(n int) (some []standin.Fault) {
	for i, f := range fault.All() {
		if i%n == 0 {
			some = append(some, f)
		}
	}
	return some
}

// Sample is the matrix of every nth fault, of half as many under the race detector: for what carries checks out and
// knows no single one.
func Sample(t *testing.T, n int, versions ...packet.Version) {
	t.Helper()
	if Raced {
		n *= 2
	}
	matrix(t, every(n), versions, nil)
}

func matrix(t *testing.T, faults []standin.Fault, versions []packet.Version, said *Words) {
	t.Helper()
	faults = append([]standin.Fault{{Name: "", Sentence: "No fault."}}, faults...)
	for _, f := range faults {
		for _, v := range versions {
			if f.Sockets || f.Versions != nil && !slices.Contains(f.Versions, v) {
				continue
			}
			t.Run(fmt.Sprintf("%s in %s", f.Name, v), func(t *testing.T) {
				t.Parallel()
				synctest.Test(t, func(t *testing.T) {
					var on []string
					if f.Name != "" {
						on = []string{f.Name}
					}
					o := Contracted()
					unsupported := []string{"keepalive.server-value"} // the stand-in tells none
					if o.Limits = f.With; f.With.ServerKeepAlive > 0 {
						unsupported = nil
					}
					unsupported = append(unsupported, f.Unsupports...)
					s := Faulty(t, o, on...)
					defer s.Close()
					target := Target(s, false)
					target.Agreement = Agreement()
					target.Restart = func(ctx context.Context, killed bool) error { s.Restart(ctx, time.Second, killed); return nil }
					stop := AtWork(t, s)
					defer stop()
					p, err := proof.Run(
						context.Background(),
						target,
						proof.Options{
							Checks:   check.All(),
							Versions: []packet.Version{v},
							OnTopics: true,
							Restarts: true,
						},
					)
					var shut *proof.NotLetInError
					if f.NotLetIn && errors.As(err, &shut) {
						return
					}
					if err != nil {
						t.Fatal(err)
					}
					if said != nil {
						said.Of(cmp.Or(f.Name, plain), f.Name == "", p)
					}
					want := slices.Sorted(slices.Values(meant(f.Breaks, v)))
					if got := Names(p, proof.Broken); !slices.Equal(got, want) {
						t.Errorf("broken: %v, want %v", got, want)
						tell(t, p, proof.Broken)
					}
					want = slices.Sorted(slices.Values(meant(undecided(f), v)))
					if got := Names(p, proof.Undecided); !slices.Equal(got, want) {
						t.Errorf("undecided: %v, want %v", got, want)
						tell(t, p, proof.Undecided)
					}
					if got := Names(
						p,
						proof.Unsupported,
					); !slices.Equal(got, slices.Sorted(slices.Values(meant(unsupported, v)))) ||
						p.OK() != (f.Name == "") {
						t.Errorf("unsupported: %v, want %v; OK %v", got, unsupported, p.OK())
						tell(t, p, proof.Unsupported)
					}
					Results(t, p, f.Name == "" || strings.HasPrefix(f.Name, "login."))
					stop()
					synctest.Wait()
					for _, c := range s.Clients() {
						if !f.Leaves {
							t.Errorf("a session is left: %+v", c)
							break
						}
					}
				})
			})
		}
	}
}

// undecided names the checks that a fault leaves undecided: those of its own, and those that require one that is broken
// or undecided.
func undecided(f standin.Fault) []string {
	out := slices.Clone(f.Undecides)
	for grown := true; grown; {
		grown = false
		for _, c := range check.All() {
			if slices.Contains(f.Breaks, c.Name) || slices.Contains(out, c.Name) {
				continue
			}
			if slices.ContainsFunc(c.Requires, func(name string) bool {
				return slices.Contains(f.Breaks, name) || slices.Contains(out, name)
			}) {
				out, grown = append(out, c.Name), true
			}
		}
	}
	return out
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

// Results holds every result to having reasons and evidence, with secrets to the evidence being without the password.
func Results(t *testing.T, p *proof.Proof, secrets bool) {
	t.Helper()
	for _, r := range p.Results {
		if r.Verdict == proof.Skipped {
			continue
		}
		if strings.Contains(r.Seen, "it tells nothing while") || r.Verdict == proof.Unsupported && len(r.Steps) == 0 {
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
			e := &r.Evidence[i]
			shown := secrets &&
				(bytes.Contains(e.Raw, []byte(brokertest.Password)) || strings.Contains(e.Text+e.Describe(), brokertest.Password))
			if _, is := e.Packet.(*packet.Connect); is && secrets { // where it stands
				shown = shown || strings.Contains(fmt.Sprintf("%+v", e.Packet), brokertest.Password)
			}
			if e.Role != trace.RoleCheck || shown {
				t.Errorf("%s: evidence %+v", r.Check.Name, e)
			}
			if c, ok := r.Evidence[i].Packet.(*packet.Connect); ok && r.Evidence[i].Kind == trace.Sent &&
				r.Check.Name != "limit.client-id" &&
				(len(c.ClientID) > 23 || strings.Trim(strings.ToLower(c.ClientID),
					"abcdefghijklmnopqrstuvwxyz0123456789") != "") {
				t.Errorf("client id %q", c.ClientID)
			}
		}
		if (r.Check.Name == "qos.pairings" || r.Check.Name == "contract.nobody-else") != (len(r.Tables) == 1) {
			t.Errorf("%s: tables %v", r.Check.Name, r.Tables)
		}
	}
}
