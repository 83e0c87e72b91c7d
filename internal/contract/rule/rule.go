// Package rule holds the rules of a contract: each a documented value that says what breaks a clause.
package rule

import (
	"slices"

	"hodstone/internal/contract"
)

// All lists the rules, in the order in which their breaches are told.
func All() []*contract.Rule {
	return []*contract.Rule{
		Size, Format, Schema, Values, Range, QoS, Retain, From, Expiry, Properties, Stamp, Silence, Haste, Only, Answer,
		Relation, Terms, Presence, Subscribes,
	}
}

// Names are what the rules are called, each once.
func Names() (out []string) {
	for _, r := range All() {
		if name := string(r.Name); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// stateless starts a rule that remembers nothing and looks at messages only.
func stateless(look func(*contract.Pass)) func(*contract.Contract) func(*contract.Pass) {
	return func(*contract.Contract) func(*contract.Pass) {
		return func(p *contract.Pass) {
			if p.Fact == contract.FactMessage {
				look(p)
			}
		}
	}
}

// Payload returns what a payload alone breaks of a clause.
func Payload(c *contract.Contract, cl *contract.Clause, b []byte) []contract.Breach {
	return contract.Examine(c, All(), cl, b)
}
