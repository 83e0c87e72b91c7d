package check_test

import (
	"context"
	"slices"
	"testing"
	"testing/synctest"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
)

// TestEachFaultBreaksExactlyItsChecks is the whole matrix.
func TestEachFaultBreaksExactlyItsChecks(t *testing.T) { prooftest.Matrix(t, proof.Versions()...) }

// TestALimitIsNoFault holds the checks to it.
func TestALimitIsNoFault(t *testing.T) { prooftest.Limits(t, prooftest.NewWords("limits")) }

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
			c.Sections.V5 == "" && c.Sections.V311 == "" ||
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

func TestNothingIsLeftOnTheBroker(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := standin.New(
			standin.Options{Anonymous: true, Logins: prooftest.Secured().Logins},
		)
		defer s.Close()
		anonymous := prooftest.Target(s, true)
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
