package standin

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Fault is one way in which a stand-in misbehaves on purpose.
type Fault struct {
	// Name is what it is called in workspaces and on the command line.
	Name string
	// Sentence says what goes wrong.
	Sentence string
	// Breaks lists all checks whose verdict the fault turns to broken.
	Breaks []string
	// Undecides lists the checks that cannot be carried out under the fault.
	Undecides []string
}

// The faults by name.
const (
	faultConnectSlow        = "connect.slow"
	faultPingUnanswered     = "ping.unanswered"
	faultLoginAnyPassword   = "login.any-password"
	faultLoginAnonymous     = "login.anonymous-let-in"
	faultQoSNotLowered      = "qos.not-lowered"
	faultQoS2Twice          = "qos2.twice"
	faultRetainNotStored    = "retain.not-stored"
	faultRetainFlagLost     = "retain.flag-lost"
	faultRetainFlagKept     = "retain.flag-kept"
	faultRetainNotCleared   = "retain.not-cleared"
	faultWillNeverSent      = "will.never-sent"
	faultWillOnlyOnReset    = "will.only-on-reset"
	faultWillOnGoodbye      = "will.on-goodbye"
	faultSessionLost        = "session.lost"
	faultMatchWithoutParent = "match.hash-parent"
	connectSlowDelay        = 6 * time.Second // longer than the 5 s that a check allows
)

// faults is the one table of them, in the order of the check families.
var faults = []Fault{
	{faultConnectSlow, "CONNACK comes only after six seconds.",
		[]string{"connect.accepted"}, nil},
	{faultPingUnanswered, "PINGREQ gets no PINGRESP.",
		[]string{"keepalive.ping"}, nil},
	{faultLoginAnyPassword, "A known user gets in with any password.",
		[]string{"login.wrong-password"}, nil},
	{faultLoginAnonymous, "A client without credentials gets in although anonymous access is off.",
		[]string{"login.anonymous"}, nil},
	{faultQoSNotLowered, "A message goes out at the QoS it was published with, even where less was granted.",
		[]string{"qos.pairings", "retain.greets"}, nil},
	{faultQoS2Twice, "A QoS 2 PUBLISH that is sent again with DUP is passed on again.",
		[]string{"qos2.once"}, nil},
	{faultRetainNotStored, "A retained message is passed on but not stored.",
		[]string{"retain.greets"}, []string{"retain.cleared"}},
	{faultRetainFlagLost, "A stored message greets a newcomer with retain flag 0.",
		[]string{"retain.greets"}, nil},
	{faultRetainFlagKept, "A live message keeps its retain flag towards established subscribers.",
		[]string{"retain.live-flag", "retain.cleared"}, nil},
	{faultRetainNotCleared, "An empty retained message does not remove the stored one.",
		[]string{"retain.cleared"}, nil},
	{faultWillNeverSent, "No will is ever published.",
		[]string{"will.on-cut", "will.on-close"}, nil},
	{faultWillOnlyOnReset, "A link that is closed without DISCONNECT leaves no will; only a reset does.",
		[]string{"will.on-close"}, nil},
	{faultWillOnGoodbye, "The will is published even after a proper DISCONNECT.",
		[]string{"will.not-on-goodbye"}, nil},
	{faultSessionLost, "A session is forgotten as soon as its client is gone.",
		[]string{"session.kept"}, []string{"qos2.once"}},
	{faultMatchWithoutParent, "A filter a/# does not match the topic a.",
		[]string{"subscribe.wildcards"}, nil},
}

// Faults returns the table of faults.
func Faults() []Fault { return slices.Clone(faults) }

// faultSet holds the faults that are on.
type faultSet map[string]bool

// CheckFault tells why name is no fault, naming those that come close, or nil.
func CheckFault(name string) error {
	var near []string
	family, _, _ := strings.Cut(name, ".")
	for _, f := range faults {
		if f.Name == name {
			return nil
		}
		if strings.HasPrefix(f.Name, family+".") {
			near = append(near, f.Name)
		}
	}
	if len(near) == 0 {
		return fmt.Errorf("there is no fault %q: 'hodstone stand-in --help' lists them", name)
	}
	return fmt.Errorf("there is no fault %q: did you mean one of %s? 'hodstone stand-in --help' lists them all",
		name, strings.Join(near, ", "))
}
