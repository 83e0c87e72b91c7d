package rule

import (
	"time"

	"hodstone/internal/contract"
)

// Silence misses messages that are due.
var Silence = &contract.Rule{Name: contract.RuleSilence,
	Doc: "A live message comes within the clause's period and tolerance of the one before, or of when the observer began to see. It is missed once per silence, and only when the observer is known to have seen on until then. More haste is no breach. What greets the observer, and may be a live message or a stored copy, puts the first deadline off.",
	Start: func(*contract.Contract) func(*contract.Pass) {
		due := map[*contract.Cell]*contract.Deadline{}
		first := map[*contract.Cell]bool{} // nothing live was heard since the observer began to see
		return func(p *contract.Pass) {
			every := p.Clause.Every
			stored := p.Fact == contract.FactMessage && p.Message.Copy
			if every.Period == 0 || stored && (!p.Message.Unsure || !first[p.Cell]) {
				return
			}
			due[p.Cell].Met()
			from, heard := p.At, p.Fact == contract.FactMessage && !stored
			first[p.Cell] = !heard
			due[p.Cell] = p.Due(from.Add(every.Period+every.Tolerance), func(now time.Time) contract.Breach {
				seen := "nothing since the observer began to see"
				if heard {
					seen = "nothing for " + now.Sub(from).Round(100*time.Millisecond).String()
				}
				return contract.Breach{Expected: "a message every " + every.String(), Seen: seen}
			})
		}
	}}
