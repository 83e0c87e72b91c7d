package rule

import (
	"fmt"
	"time"

	"hodstone/internal/contract"
)

// bunched is by how much the network, the broker or our own link may bring messages closer together than they were
// published: so much haste is none of the publisher's.
const bunched = 2 * time.Second

// maxHaste is how many messages of a cell are counted back at most.
const maxHaste = 10_000

// Haste holds a clause to how many messages may come in a time.
var Haste = &contract.Rule{Name: contract.RuleHaste,
	Doc: "No more live messages come than agreed. They may have been held up for up to 2 s on their way, so that they came closer together than they were published: it is a breach only where that does not explain it, over some seconds or over a minute. Told once, and again when it went on for as long. Nothing is counted over a time in which the observer did not see.",
	Start: func(*contract.Contract) func(*contract.Pass) {
		hastes := map[*contract.Cell]*haste{}
		return func(p *contract.Pass) {
			if p.Clause == nil {
				return
			}
			most := p.Clause.Most
			switch {
			case most.N == 0:
				return
			case p.Fact != contract.FactMessage:
				delete(hastes, p.Cell)
				return
			case p.Message.Copy:
				return
			}
			h := hastes[p.Cell]
			if h == nil {
				h = &haste{}
				hastes[p.Cell] = h
			}
			if n, within, hasty := h.came(most, p.At); hasty {
				p.Breach(contract.Breach{
					Expected: most.String() + " at most",
					Seen:     fmt.Sprintf("%d in %s", n, within.Round(100*time.Millisecond)),
				})
			}
		}
	}}

// haste is when the last messages of a cell came, oldest first.
type haste struct{ times []time.Time }

// came takes in a message, and tells whether more came than explained: n within a time.
func (h *haste) came(most contract.Rate, at time.Time) (n int, within time.Duration, hasty bool) {
	h.times = append(h.times, at)
	longest := 0
	// Over a time of several periods, so many may be published as these have together, and no more; and what was
	// published in it came in one that is shorter by what they may have been held up.
	for _, over := range []time.Duration{2 * bunched, time.Minute} {
		periods := int((over + most.Per - 1) / most.Per)
		n := periods*most.N + 1
		if n > maxHaste {
			continue
		}
		longest = max(longest, n)
		if len(h.times) < n {
			continue
		}
		if within = at.Sub(h.times[len(h.times)-n]); within < time.Duration(periods)*most.Per-bunched {
			h.times = h.times[:0] // it is told; what follows is counted anew
			return n, within, true
		}
	}
	if over := len(h.times) - longest; over > longest {
		h.times = append(h.times[:0], h.times[over:]...)
	}
	return 0, 0, false
}
