// Package rule holds the rules of a contract: each a documented value that says what breaks a clause.
package rule

import "hodstone/internal/contract"

// All lists the rules, in the order in which their breaches are told.
func All() []*contract.Rule {
	return []*contract.Rule{Size, Format, Schema, Values, Range, QoS, Retain, From, Silence, Haste, Answer}
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
