package prooftest

import (
	"errors"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
)

// Limited runs all checks in all versions, and wants exactly the named ones to be unsupported, in each version that
// they are for, and all others kept, or broken as is known of Debian's broker. With refused, our login must not be let
// in at all.
//
// It returns the results, nil where it is not let in.
func Limited(t *testing.T, target proof.Target, unsupported, refused string, known map[string]string) *proof.Proof {
	t.Helper()
	p, err := proof.Run(t.Context(), target, proof.Options{Checks: check.All()})
	var shut *proof.NotLetInError
	if errors.As(err, &shut) && refused != "" && strings.Contains(err.Error(), refused) {
		return nil
	} else if err != nil || refused != "" {
		t.Errorf("%s: %v, want %q", target.Listener, err, refused)
		return nil
	}
	for i := range p.Results {
		r := once(t, target, p.Results[i])
		want := proof.Kept
		if (r.Check.Name == "login.wrong-password" || r.Check.Name == "login.unknown-user") && *target.Anonymous {
			continue // a matter of how the broker treats logins where none is needed
		}
		untold := r.Check.Name == "subscribe.dollar" &&
			strings.Contains(unsupported, "retain.greets") // it stores nothing of its own either
		switch {
		case r.Verdict == proof.Skipped && (untold || Elsewhere(&r, &target)):
			continue
		case r.Check.Section(r.Version) == "":
			want = proof.Skipped
		case slices.Contains(strings.Fields(unsupported), r.Check.Name),
			r.Check.Name == "keepalive.server-value" && unsupported != KeepAlive:
			want = proof.Unsupported
		}
		if r.Verdict != want && (target.StandIn || !Deviates(&r, known)) {
			t.Errorf(
				"%s: %s in %s: %s, want %s: %s %q",
				target.Listener,
				r.Check.Name,
				r.Version,
				r.Verdict,
				want,
				r.Seen,
				r.Notes,
			)
		}
	}
	return p
}

// once runs a check once more that this machine kept from what it had to do in time, which it says itself.
func once(t *testing.T, target proof.Target, r proof.Result) proof.Result {
	t.Helper()
	for range 3 {
		if r.Verdict != proof.Undecided || !strings.Contains(r.Seen, "too late to tell") {
			break
		}
		t.Logf("%s: once more", r.Seen)
		p, err := proof.Run(t.Context(), target, proof.Options{Checks: []*proof.Check{r.Check}})
		if err != nil {
			t.Error(err)
			break
		}
		for _, x := range p.Results {
			if x.Version == r.Version {
				r = x
			}
		}
	}
	return r
}

// Elsewhere tells whether a check is for another kind of listener, or for what nobody told of.
func Elsewhere(r *proof.Result, target *proof.Target) bool {
	switch r.Check.Family() {
	case "tls", "ws":
		return true // held to it over sockets
	case "transport":
		return target.Doors == nil
	case "contract":
		return target.Agreement == nil || r.Check.Once
	case "restart":
		return target.Restart == nil
	case "login":
		return target.Limited == nil && strings.HasPrefix(r.Check.Name, "login.rights-")
	}
	return false
}

// KeepAlive stands for a broker that tells a keep alive of its own, and has no limit.
const KeepAlive = "server keep alive"

// needing names the checks that need something of a broker that it may do without.
func needing(is func(n proof.Needs) bool) string {
	var names []string
	for _, c := range check.All() {
		if is(c.Needs) {
			names = append(names, c.Name)
		}
	}
	return strings.Join(names, " ")
}

// What brokers without retained messages, kept sessions, and with no QoS but 0 and 1, or but 0, cannot do.
func Storing() string { return needing(func(n proof.Needs) bool { return n.Retained }) }
func Once() string {
	return "qos.pairings will.qos " + needing(func(n proof.Needs) bool { return n.QoS == 2 })
}
func Keeping() string { return needing(func(n proof.Needs) bool { return n.Sessions }) }
func Confirmed() string {
	return "qos.pairings will.qos " + needing(func(n proof.Needs) bool { return n.QoS > 0 })
}

// Crowds need more clients at a time than so many.
func Crowds(most int) string {
	return needing(func(n proof.Needs) bool { return n.Least > most })
}

// Limits holds all checks to this: a broker that keeps within limits of its own is accused of nothing, and credited
// with nothing that could not be tried: what it does not offer is unsupported, in the versions too that have no way to
// say so. What they say is held to a file of the package's, where said is not nil.
func Limits(t *testing.T, said *Words) {
	t.Helper()
	t.Run("limits", func(t *testing.T) { limits(t, said) })
	if said != nil {
		said.Compare(t)
	}
}

func limits(t *testing.T, said *Words) {
	none, one := packet.QoS(0), packet.QoS(1)
	dairy := standin.Limits{ClientID: regexp.MustCompile(`dairy-\d+`), NoEmptyClientID: true}
	for i, tt := range []struct {
		name                     string
		limits                   standin.Limits
		id, unsupported, refused string
	}{
		{"maximum QoS 1", standin.Limits{MaximumQoS: &one}, "", Once(), ""},
		{"maximum QoS 0", standin.Limits{MaximumQoS: &none}, "", Confirmed(), ""},
		{"no retained messages", standin.Limits{NoRetained: true}, "", Storing(), ""},
		{"no wildcards", standin.Limits{NoWildcards: true}, "",
			"retain.greets retain.live-flag retain.cleared retain.wildcard qos.pairings session.kept subscribe.wildcards subscribe.topic-exact subscribe.dollar subscribe.overlap subscribe.identifier", ""},
		{"no identifiers, no shared subscriptions", standin.Limits{NoIdentifiers: true, NoShared: true}, "",
			"subscribe.identifier subscribe.shared subscribe.shared-no-retained", ""},
		{"small packets", standin.Limits{MaximumPacketSize: 300}, "", "", ""},
		{"smaller packets", standin.Limits{MaximumPacketSize: 200}, "", "", ""},
		{"1 message that waits", standin.Limits{Queued: 1}, "", "session.order", ""},
		{"2 messages that wait", standin.Limits{Queued: 2}, "", "session.order", ""},
		{"5 messages that wait", standin.Limits{Queued: 5}, "", "session.order", ""},
		{"10 messages that wait", standin.Limits{Queued: 10}, "", "session.order", ""},
		{"6 filters in one SUBSCRIBE", standin.Limits{Filters: 6}, "", "subscribe.many", ""},
		{"receive maximum 1", standin.Limits{ReceiveMaximum: 1}, "", "", ""},
		{"sessions of 2 s", standin.Limits{SessionExpiry: 2}, "", Keeping(), ""},
		{"sessions of a minute", standin.Limits{SessionExpiry: 60}, "", "", ""},
		{"server keep alive", standin.Limits{ServerKeepAlive: 2}, "", KeepAlive, ""},
		{"client identifiers by a rule", dairy, "dairy-{n}", "", ""},
		{"client identifiers by a rule that nobody told", dairy, "", "", "client identifier not valid"},
		{"4 connections", standin.Limits{Connections: 4}, "", Crowds(4), ""},
		{"2 connections", standin.Limits{Connections: 2}, "",
			Crowds(2), ""},
		{"served elsewhere", standin.Limits{Redirect: "other:1883"}, "", "",
			"it names another server to use: other:1883"},
	} {
		const some = 4
		if Raced && i%some != 0 { // 'make test' runs the whole without the race detector too
			continue
		}
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				o := Secured()
				o.Limits = tt.limits
				s := Faulty(t, o)
				defer s.Close()
				target := Target(s, false)
				target.ClientID = tt.id
				if p := Limited(t, target, tt.unsupported, tt.refused, nil); p != nil && said != nil {
					said.Of(tt.name, true, p)
				}
			})
		})
	}
}
