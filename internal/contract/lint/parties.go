package lint

import (
	"slices"

	"hodstone/internal/contract"
)

var parties = []*Lint{
	{"idle-party", "A party that neither publishes nor consumes anything has no part in the contract.",
		"name it in from: or to: of a clause, or take it away", func(p *Pass) {
			for i := range p.Parties {
				x := &p.Parties[i]
				if !slices.ContainsFunc(p.Clauses, func(cl *contract.Clause) bool {
					return cl.From == x.Name || slices.Contains(cl.To, x.Name)
				}) {
					p.Party(x, "%s publishes nothing and consumes nothing", x.Name)
				}
			}
		}},
	{"beyond-rights", "A login may not do at a stand-in what the contract asks of its party: it is refused, or its messages go nowhere.",
		"'hodstone contract export --format rights' writes the rights that are needed", func(p *Pass) {
			for _, l := range p.Site.Lacking {
				if x := p.Contract.Party(l.Party); x != nil {
					p.Party(x, "at the stand-in %s, %s", l.StandIn, l.Text)
				}
			}
		}},
	{"keep-alive-0", "A keep alive of 0 turns it off: the broker never notices that such a client is lost, and its will never comes.",
		"give it some seconds: 30s", func(p *Pass) {
			for i := range p.Parties {
				if t := p.Parties[i].Terms; t != nil && t.KeepAlive != (contract.TimeSpan{}) && t.KeepAlive.From == 0 {
					p.Party(&p.Parties[i], "the terms of %s allow a keep alive of 0", p.Parties[i].Name)
				}
			}
			for _, s := range p.Site.Sessions {
				if x := p.Contract.Party(s.Party); s.KeepAlive == 0 && x != nil {
					p.Party(x, "the device %s, which plays %s, has a keep alive of 0", s.Device, s.Party)
				}
			}
		}},
	{"late-news", "A broker gives up a client one and a half keep alives after it fell silent (3.1.1 §3.1.2.10): its loss cannot be known sooner.",
		"shorten the keep alive, or lengthen lost-within", func(p *Pass) {
			for i := range p.Parties {
				t := p.Parties[i].Terms
				if t == nil || t.LostWithin == 0 {
					continue
				}
				if worst := t.KeepAlive.To + t.KeepAlive.To/2; worst > t.LostWithin {
					p.Party(&p.Parties[i], "the loss of %s is to be known within %s; with a keep alive of %s it may take %s",
						p.Parties[i].Name, t.LostWithin, t.KeepAlive.To, worst)
				}
				if !slices.ContainsFunc(p.Clauses, func(cl *contract.Clause) bool { return cl.From == p.Parties[i].Name && cl.Presence != nil }) {
					p.Party(&p.Parties[i], "the loss of %s is to be known within %s, and no clause has its will", p.Parties[i].Name, t.LostWithin)
				}
			}
		}},
}
