package subject

import (
	"fmt"

	"hodstone/internal/contract"
)

// Change says in a sentence what the programmer of a device has to change.
func Change(device string, b *contract.Breach) string {
	at := ""
	if b.Where != "" {
		at = " at " + b.Where
	}
	switch b.Rule {
	case contract.RuleFormat:
		return fmt.Sprintf("write the payload of %s as %s; it is %s%s", b.Clause, b.Expected, b.Seen, at)
	case contract.RuleSchema, contract.RuleValue, contract.RuleRange:
		return fmt.Sprintf("let what %s says%s be %s; it is %s", b.Clause, at, b.Expected, b.Seen)
	case contract.RuleSize:
		return fmt.Sprintf("keep the payload of %s to %s; it has %s", b.Clause, b.Expected, b.Seen)
	case contract.RuleQoS, contract.RuleRetain:
		return fmt.Sprintf("publish %s with %s in place of %s", b.Clause, b.Expected, b.Seen)
	case contract.RuleSilence:
		return fmt.Sprintf("publish %s as often as agreed, %s; it was %s", b.Clause, b.Expected, b.Seen)
	case contract.RuleHaste:
		return fmt.Sprintf("publish %s no more often than agreed, %s; it was %s", b.Clause, b.Expected, b.Seen)
	case contract.RuleAnswer:
		return fmt.Sprintf("answer %s as agreed, %s; %s came", b.Clause, b.Expected, b.Seen)
	case contract.RuleStamp:
		return fmt.Sprintf(
			"set the clock that %s tells the time by%s: expected %s, it says %s",
			b.Clause,
			at,
			b.Expected,
			b.Seen,
		)
	case contract.RulePresence:
		return fmt.Sprintf("tell how it comes and goes as agreed: expected %s, saw %s", b.Expected, b.Seen)
	case contract.RuleSubscribes:
		return fmt.Sprintf("subscribe as its clauses say: expected %s, saw %s", b.Expected, b.Seen)
	case contract.RuleTerms:
		if b.Keyword == "goodbye" {
			return fmt.Sprintf("let it send %s; it sent %s", b.Expected, b.Seen)
		}
		return fmt.Sprintf("let its session have %s %s; it has %s", b.Keyword, b.Expected, b.Seen)
	}
	return fmt.Sprintf("let %s be %s; it is %s", b.Clause, b.Expected, b.Seen)
}
