package compare

import (
	"slices"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
)

// parties compares who there is, and their terms.
func (c *comparing) parties() {
	for i := range c.old.Parties {
		a := &c.old.Parties[i]
		b := c.new.Party(a.Name)
		if b == nil {
			c.tell(Change{Kind: Removed, On: a.Name, What: "party"}) // what it published and consumed is told by itself
			continue
		}
		c.party(a, b)
	}
	for i := range c.new.Parties {
		if b := &c.new.Parties[i]; c.old.Party(b.Name) == nil {
			c.tell(Change{Kind: Added, On: b.Name, What: "party"})
		}
	}
}

func (c *comparing) party(a, b *contract.Party) {
	x, y := a.Terms, b.Terms
	if x == nil {
		x = &contract.Terms{}
	}
	if y == nil {
		y = &contract.Terms{}
	}
	old, now := flat(x.Tree()), flat(y.Tree())
	for _, key := range sorted(union(old, now)) {
		p, q := old[key], now[key]
		if contract.SameText(p) == contract.SameText(q) {
			continue
		}
		kind := c.term(key, x, y, p, q)
		var breaks []Break
		if kind != Widened {
			breaks = append(breaks, Break{b.Name, "party", "may still do as the old terms say"})
		}
		// What the others may send it, and rely on, is theirs too.
		switch key {
		case "max-qos", "max-packet", "max-topic/length", "max-topic/levels":
			if kind != Widened {
				for _, cl := range c.new.Clauses {
					if slices.Contains(cl.To, b.Name) {
						breaks = append(breaks, publisher(cl, "may send it what it does not take any longer")...)
					}
				}
			}
		case "lost-within", "first-value-within", "back-within":
			if kind != Narrowed {
				for _, cl := range c.new.Clauses {
					if cl.From == b.Name {
						breaks = append(breaks, consumers(cl, "relies on the time as it was")...)
					}
				}
			}
		}
		slices.SortStableFunc(
			breaks,
			func(a, b Break) int { return slices.Compare([]string{a.Party, a.Role}, []string{b.Party, b.Role}) },
		)
		c.tell(
			Change{
				Kind:   kind,
				On:     b.Name,
				What:   "party",
				Key:    "terms/" + key,
				Old:    write(p),
				New:    write(q),
				Breaks: breaks,
			},
		)
	}
	if p, q := logins(a), logins(b); !slices.Equal(p, q) {
		c.tell(
			Change{
				Kind:   Changed,
				On:     b.Name,
				What:   "party",
				Key:    "logins",
				Old:    contract.Compact(p),
				New:    contract.Compact(q),
				Breaks: []Break{{b.Name, "party", "may come with another login"}},
			},
		)
	}
	if a.Note != b.Note {
		c.tell(Change{Kind: Changed, On: b.Name, What: "party", Key: "note", Old: a.Note, New: b.Note})
	}
}

func logins(p *contract.Party) (out []string) {
	for _, l := range p.Logins {
		out = append(out, l.String())
	}
	return out
}

// flat is a tree by the keys that lead to its leaves.
func flat(o expression.Object) map[string]any {
	out := map[string]any{}
	for _, m := range o {
		if inner, is := m.Value.(expression.Object); is {
			for k, v := range flat(inner) {
				out[m.Key+"/"+k] = v
			}
			continue
		}
		out[m.Key] = m.Value
	}
	return out
}

// term tells whether a term lets more pass than before, or less.
func (c *comparing) term(key string, x, y *contract.Terms, p, q any) Kind {
	if p == nil {
		return Narrowed
	}
	if q == nil {
		return Widened
	}
	less := func(narrowed bool) Kind {
		if narrowed {
			return Narrowed
		}
		return Widened
	}
	switch key {
	case "version":
		in := func(few, many *contract.Terms) bool {
			for _, v := range few.Versions {
				if !slices.Contains(many.Versions, v) {
					return false
				}
			}
			return true
		}
		switch {
		case in(y, x):
			return Narrowed
		case in(x, y):
			return Widened
		}
	case "keep-alive":
		a, b := x.KeepAlive, y.KeepAlive
		switch {
		case b.From >= a.From && b.To <= a.To:
			return Narrowed
		case b.From <= a.From && b.To >= a.To:
			return Widened
		}
	case "tls":
		if x.TLS == contract.Allowed || y.TLS == contract.Allowed {
			return less(x.TLS == contract.Allowed)
		}
	case "max-qos":
		return less(*y.MaxQoS < *x.MaxQoS)
	case "max-packet":
		return less(y.MaxPacket < x.MaxPacket)
	case "max-topic/length":
		return less(y.TopicLength < x.TopicLength)
	case "max-topic/levels":
		return less(y.TopicLevels < x.TopicLevels)
	case "in-flight":
		return less(y.InFlight < x.InFlight)
	case "first-value-within":
		return less(y.FirstValueWithin < x.FirstValueWithin)
	case "lost-within":
		return less(y.LostWithin < x.LostWithin)
	case "gives-up-within":
		return less(y.GivesUpWithin < x.GivesUpWithin)
	case "back-within":
		return less(y.BackWithin < x.BackWithin)
	case "buffers":
		return less(*y.Buffers > *x.Buffers)
	case "tries":
		return less(float64(y.Tries.N)/y.Tries.Per.Seconds() < float64(x.Tries.N)/x.Tries.Per.Seconds())
	}
	return Changed
}
