package rule

import (
	"fmt"
	"slices"
	"time"

	"hodstone/internal/contract"
)

// maxAsked is how many commands wait for their answers at a time; further ones are not followed.
const maxAsked = 10_000

// Answer misses answers to commands.
var Answer = &contract.Rule{Name: contract.RuleAnswer,
	Doc: "Each live message of a clause with an answer is followed in time by one of the answering clause with the same values in the parameters that both have. An answer that comes late is a breach, as none is. One answer answers the oldest command that waits for it; so does what may be a stored copy, for just after SUBSCRIBE the two cannot be told apart.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		a := answers{c: c, waiting: map[*contract.Clause][]asked{}}
		return a.look
	}}

// answers are the commands that wait, by the clause that answers them.
type answers struct {
	c       *contract.Contract
	waiting map[*contract.Clause][]asked
	n       int
}

// asked is a command that waits for its answer.
type asked struct {
	due    *contract.Deadline
	values map[string]string
}

func (a *answers) look(p *contract.Pass) {
	if p.Fact != contract.FactMessage {
		return
	}
	var values map[string]string
	if waiting := a.waiting[p.Clause]; len(waiting) > 0 && (!p.Message.Copy || p.Message.Unsure) {
		values = p.Clause.Topic.Values(p.Message.Topic)
		a.waiting[p.Clause] = a.answered(waiting, values)
	}
	if p.Message.Copy || p.Clause.Answer == nil || a.n >= maxAsked {
		return
	}
	by := a.c.Clause(p.Clause.Answer.Clause)
	if by == nil {
		return
	}
	if values == nil {
		values = p.Clause.Topic.Values(p.Message.Topic)
	}
	within, m := p.Clause.Answer.Within, *p.Message
	due := p.Due(p.At.Add(within), func(time.Time) contract.Breach {
		return contract.Breach{
			Expected: fmt.Sprintf("%s within %s", by.Name, within),
			Seen:     "no answer",
			Sender:   m.Sender,
			Seq:      m.Seq,
			Payload:  m.Payload,
		}
	})
	if due.Pending() {
		a.waiting[by] = append(a.waiting[by], asked{due, values})
		a.n++
	}
}

// answered takes off the oldest command that the values answer, and those that are no longer pending.
func (a *answers) answered(waiting []asked, values map[string]string) []asked {
	done := false
	before := len(waiting)
	waiting = slices.DeleteFunc(waiting, func(w asked) bool {
		switch {
		case !w.due.Pending():
			return true
		case done:
			return false
		}
		for name, v := range w.values {
			if got, both := values[name]; both && got != v {
				return false
			}
		}
		done = true
		w.due.Met()
		return true
	})
	a.n -= before - len(waiting)
	return waiting
}
