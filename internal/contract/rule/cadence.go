package rule

import (
	"time"

	"hodstone/internal/contract"
)

// Silence misses messages that are due.
var Silence = &contract.Rule{Name: contract.RuleSilence,
	Doc: "A live message comes within the clause's period and tolerance of the one before, or of when the observer began to see. It is missed once per silence, and only when the observer is known to have seen on until then. More haste is no breach.",
	Start: func(*contract.Contract) func(*contract.Pass) {
		due := map[*contract.Cell]*contract.Deadline{}
		return func(p *contract.Pass) {
			every := p.Clause.Every
			if every.Period == 0 || p.Fact == contract.FactMessage && p.Message.Copy {
				return
			}
			due[p.Cell].Met()
			from, heard := p.At, p.Fact == contract.FactMessage
			due[p.Cell] = p.Due(from.Add(every.Period+every.Tolerance), func(now time.Time) contract.Breach {
				seen := "nothing since the observer began to see"
				if heard {
					seen = "nothing for " + now.Sub(from).Round(100*time.Millisecond).String()
				}
				return contract.Breach{Expected: "a message every " + every.String(), Seen: seen}
			})
		}
	}}
