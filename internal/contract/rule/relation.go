package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
)

// together is how long what must never be together is borne with: messages of several publishers may overtake one
// another by so much.
const together = time.Second

// Relation holds clauses to what they have to do with one another.
var Relation = &contract.Rule{Name: contract.RuleRelation,
	Doc: "What must never be together is not, as the last messages say, for longer than a second: messages of several publishers may overtake one another. What follows a message follows it in time, at the same values of the parameters that both have; a message that comes before that takes its place. Told at the message that makes it so, once. What was said before the observer was blind does not count.",
	Start: func(c *contract.Contract) func(*contract.Pass) {
		r := relations{c: c, by: map[string][]*related{}}
		for _, rel := range c.Relations {
			x := &related{Relation: rel, states: map[string]*state{}, waiting: map[string]*contract.Deadline{}, causes: map[string]any{}}
			patterns := rel.Never
			if rel.After != nil && rel.Follow != nil {
				patterns = []contract.MessagePattern{*rel.After, *rel.Follow}
			}
			for _, m := range patterns {
				if !slices.Contains(r.by[m.Clause], x) {
					r.by[m.Clause] = append(r.by[m.Clause], x)
				}
			}
		}
		return r.look
	}}

type relations struct {
	c  *contract.Contract
	by map[string][]*related
}

// related is a relation at work.
type related struct {
	*contract.Relation
	states  map[string]*state             // by the values of the parameters that they have in common
	waiting map[string]*contract.Deadline // for what follows, by the same
	causes  map[string]any                // payloads of what it follows
}

// state is which patterns hold, by the topics that say so.
type state struct {
	holds []map[string]bool
	due   *contract.Deadline
	told  bool
}

// maxStates is how many states a relation follows.
const maxStates = 100_000

func (r *relations) look(p *contract.Pass) {
	if p.Clause == nil {
		return
	}
	for _, x := range r.by[p.Clause.Name] {
		values := p.Clause.Topic.Values(p.Cell.Topic)
		if x.After != nil {
			x.follows(p, values, r.shared(x))
		} else {
			x.never(p, values)
		}
	}
}

// shared are the parameters that a message and what follows it have in common.
func (r *relations) shared(x *related) []string {
	if x.Per != nil {
		return x.Per
	}
	a, b := r.c.Clause(x.After.Clause), r.c.Clause(x.Follow.Clause)
	if a == nil || b == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(a.Topic.Parameters()), func(name string) bool {
		return !slices.Contains(b.Topic.Parameters(), name)
	})
}

// key is the values of parameters, joined.
func key(names []string, values map[string]string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = values[n]
	}
	return strings.Join(out, "/")
}

// fits tells whether a message of the pattern's clause is one of it.
func fits(p *contract.Pass, m *contract.MessagePattern, values map[string]string, cause any) bool {
	for name, v := range m.Parameters {
		if values[name] != v {
			return false
		}
	}
	if m.Where == nil {
		return true
	}
	v, err := p.Clause.Payload.Code().Decode(p.Message.Payload)
	return err == nil && m.Where(v, cause)
}

func (x *related) never(p *contract.Pass, values map[string]string) {
	k := key(x.Per, values)
	s := x.states[k]
	if s == nil {
		if len(x.states) >= maxStates {
			return
		}
		s = &state{holds: make([]map[string]bool, len(x.Never))}
		for i := range s.holds {
			s.holds[i] = map[string]bool{}
		}
		x.states[k] = s
	}
	for i := range x.Never {
		if x.Never[i].Clause != p.Clause.Name {
			continue
		}
		delete(s.holds[i], p.Cell.Topic)
		if p.Fact == contract.FactMessage && fits(p, &x.Never[i], values, nil) {
			s.holds[i][p.Cell.Topic] = true
		}
	}
	for i := range s.holds {
		if len(s.holds[i]) == 0 {
			s.due.Met()
			s.due, s.told = nil, false
			return
		}
	}
	if s.due.Pending() || s.told {
		return
	}
	var all []string
	for i := range x.Never {
		all = append(all, x.Never[i].String())
	}
	b := contract.Breach{Keyword: x.Name, Expected: "never at once: " + strings.Join(all, "; "),
		Seen: "all of it for " + together.String()}
	if m := p.Message; m != nil {
		b.Sender, b.Seq, b.Payload = m.Sender, m.Seq, m.Payload
	}
	if x.Note != "" {
		b.Seen += " (" + x.Note + ")"
	}
	s.due = p.Due(p.At.Add(together), func(time.Time) contract.Breach { s.told = true; return b })
}

func (x *related) follows(p *contract.Pass, values map[string]string, shared []string) {
	k := key(shared, values)
	if p.Fact != contract.FactMessage {
		delete(x.waiting, k) // its deadline is void with the sight
		return
	}
	if m := p.Message; p.Clause.Name == x.Follow.Clause && (!m.Copy || m.Unsure) && x.waiting[k].Pending() && fits(p, x.Follow, values, x.causes[k]) {
		x.waiting[k].Met()
		delete(x.waiting, k)
		delete(x.causes, k)
	}
	if p.Message.Copy || p.Clause.Name != x.After.Clause || !fits(p, x.After, values, nil) {
		return
	}
	x.waiting[k].Met()
	if x.waiting[k] == nil && len(x.waiting) >= maxStates {
		return
	}
	x.causes[k], _ = p.Clause.Payload.Code().Decode(p.Message.Payload)
	m := *p.Message
	x.waiting[k] = p.Due(p.At.Add(x.Within), func(time.Time) contract.Breach {
		return contract.Breach{Keyword: x.Name, Expected: fmt.Sprintf("%s within %s", x.Follow, x.Within),
			Seen: "nothing like it", Sender: m.Sender, Seq: m.Seq, Payload: m.Payload}
	})
}
