// Package proof verifies what a broker guarantees: checks drive clients of their own
// against one listener, ask the trace what happened, and end in a verdict with its
// evidence. Package check holds the checks themselves.
package proof

import (
	"strings"

	"hodstone/internal/mqtt/packet"
)

// Check is one named thing to verify on a broker. Checks are values; the runner knows no single one.
type Check struct {
	// Name is family.what, such as "will.on-cut".
	Name string
	// Title says in a few words what is verified.
	Title string
	// Expected says in a sentence what must be seen.
	Expected string
	// Sections are the places in the standards.
	Sections Sections
	// Once is for what does not depend on the version: it runs in the first that is asked for.
	Once bool
	// Alone is for what disturbs all others: it runs when they have ended, and by itself.
	Alone bool
	// Intrusive checks fail logins or throw clients out on purpose.
	Intrusive bool
	// Needs is what the check takes of the broker.
	Needs Needs
	// Requires names checks that must not have been broken for this one to tell anything.
	Requires []string
	// Run carries the check out. nil is kept; see [Pass] for the other verdicts.
	Run func(*Pass) error
}

// Sections are places in the standards, by version; "" where a check is not meant for one. 3.1 is no OASIS
// standard; its document has sections all the same.
type Sections struct{ V31, V311, V5 string }

// Same is the same place in 3.1.1 and 5.0, and one of its own in 3.1.
func Same(v31, both string) Sections { return Sections{v31, both, both} }

// Elsewhere tells whether that is no section of a standard of MQTT, but another's, or the contract.
func (s Sections) Elsewhere() bool {
	for _, in := range []string{s.V311, s.V5} {
		if in != "" {
			return in[0] < '0' || in[0] > '9'
		}
	}
	return false
}

// In is the place for the version.
func (s Sections) In(v packet.Version) string {
	switch v {
	case packet.V31:
		return s.V31
	case packet.V311:
		return s.V311
	}
	return s.V5
}

// Needs is what a check takes of a broker. What the broker is known not to offer makes it unsupported.
type Needs struct {
	// Least and Most are how many clients are connected at a time; Most is Least where it is 0.
	Least, Most int
	// Wants is how many it waits for, as long as the broker has refused none.
	Wants int
	// QoS is the highest that must be granted and taken for the check to tell anything.
	QoS packet.QoS
	// Retained and Sessions are stored messages and kept sessions.
	Retained, Sessions bool
}

// families names the family of checks whose names begin otherwise.
var families = map[string]string{"keepalive": "connect", "auth": "connect", "qos1": "qos", "qos2": "qos"}

// Family is the group of the catalogue that the check belongs to.
func (c *Check) Family() string {
	family, _, _ := strings.Cut(c.Name, ".")
	if f, ok := families[family]; ok {
		return f
	}
	return family
}

// Section is the place in the standard for the version, "" for none.
func (c *Check) Section(v packet.Version) string { return c.Sections.In(v) }
