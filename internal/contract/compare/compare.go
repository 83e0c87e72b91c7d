// Package compare tells what changed from one contract to another, and who breaks by it: who keeps to the old one and
// meets those who keep to the new.
package compare

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
)

// Kind is what kind of a change it is.
type Kind string

// The kinds. What is widened lets more pass than before, what is narrowed less; what is changed is neither, or both.
const (
	Added    Kind = "added"
	Removed  Kind = "removed"
	Widened  Kind = "widened"
	Narrowed Kind = "narrowed"
	Changed  Kind = "changed"
)

// Break is a party that breaks by a change as long as it keeps to the old contract.
type Break struct {
	Party string
	Role  string // publisher, consumer, or party: by its own terms
	Why   string
}

// Change is one thing that is another.
type Change struct {
	Kind Kind
	// On is the name of the clause, parameter, party or relation; What is which of these it is.
	On, What string
	Key      string // what of it: "qos", "payload/properties/kg/minimum"; "" for all of it
	Old, New string // as written; "" where there is none
	Breaks   []Break
}

// String says it on one line.
func (c Change) String() string {
	s := fmt.Sprintf("%s %s", c.What, c.On)
	if c.Key != "" {
		s += ", " + c.Key
	}
	s += ": " + string(c.Kind)
	switch {
	case c.Old != "" && c.New != "":
		s += fmt.Sprintf(" from %s to %s", c.Old, c.New)
	case c.Old != "":
		s += ", was " + c.Old
	case c.New != "":
		s += ", is " + c.New
	}
	return s
}

// comparing is a comparison at work.
type comparing struct {
	old, new *contract.Contract
	out      []Change
}

// Contracts compares two contracts. Clauses are the same that have one name, or, where that is gone, one topic.
func Contracts(old, now *contract.Contract) []Change {
	c := comparing{old: old, new: now}
	taken := map[*contract.Clause]bool{}
	pairs := map[*contract.Clause]*contract.Clause{}
	for _, a := range old.Clauses {
		if b := now.Clause(a.Name); b != nil {
			pairs[a], taken[b] = b, true
		}
	}
	for _, a := range old.Clauses {
		for _, b := range now.Clauses {
			if pairs[a] == nil && !taken[b] && a.Topic.String() == b.Topic.String() {
				pairs[a], taken[b] = b, true
				c.tell(Change{Kind: Changed, On: b.Name, What: "clause", Key: "name", Old: a.Name, New: b.Name})
			}
		}
	}
	for _, a := range old.Clauses {
		if b := pairs[a]; b != nil {
			c.clause(a, b)
			continue
		}
		c.tell(Change{Kind: Removed, On: a.Name, What: "clause", Old: a.Topic.String(), Breaks: append(
			publisher(
				a,
				"publishes what nothing covers any longer",
			),
			consumers(a, "waits for what nobody has to publish")...)})
	}
	for _, b := range now.Clauses {
		if taken[b] {
			continue
		}
		var breaks []Break
		if b.Every.Period > 0 || b.Presence != nil {
			breaks = publisher(b, "does not publish it yet")
		}
		c.tell(Change{Kind: Added, On: b.Name, What: "clause", New: b.Topic.String(),
			Breaks: append(breaks, consumers(b, "does not subscribe to it yet")...)})
	}
	c.parameters()
	c.parties()
	c.relations()
	return c.out
}

func (c *comparing) tell(x Change) {
	x.Breaks = slices.CompactFunc(x.Breaks, func(a, b Break) bool { return a == b })
	c.out = append(c.out, x)
}

func publisher(cl *contract.Clause, why string) []Break {
	if cl.From == "" {
		return nil
	}
	return []Break{{cl.From, "publisher", why}}
}

func consumers(cl *contract.Clause, why string) (out []Break) {
	for _, p := range cl.To {
		out = append(out, Break{p, "consumer", why})
	}
	return out
}

// write writes a value as people read it.
func write(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return contract.Compact(v)
}

// clause compares what is written of a clause.
func (c *comparing) clause(a, b *contract.Clause) {
	on := func(kind Kind, key string, old, now any, breaks ...Break) {
		c.tell(
			Change{Kind: kind, On: b.Name, What: "clause", Key: key, Old: write(old), New: write(now), Breaks: breaks},
		)
	}
	both := func(why string) []Break { return append(publisher(b, why), consumers(b, why)...) }
	if a.Topic.String() != b.Topic.String() {
		on(
			Changed,
			"topic",
			a.Topic.String(),
			b.Topic.String(),
			append(publisher(b, "publishes where it was"), consumers(b, "subscribes where it was")...)...)
	}
	if a.From != b.From {
		breaks := publisher(b, "does not publish it yet")
		if a.From != "" {
			breaks = append(breaks, Break{a.From, "publisher", "publishes what is another's now"})
		}
		on(Changed, "from", a.From, b.From, breaks...)
	}
	for _, p := range b.To {
		if !slices.Contains(a.To, p) {
			on(Added, "to", nil, p, Break{p, "consumer", "does not subscribe to it yet"})
		}
	}
	for _, p := range a.To {
		if !slices.Contains(b.To, p) {
			on(Removed, "to", p, nil)
		}
	}
	if x, y := deref(a.QoS), deref(b.QoS); x != y {
		on(kindOf(x == nil, y == nil), "qos", x, y, whenSet(y, publisher(b, "publishes at another QoS"))...)
	}
	if x, y := deref(a.Retain), deref(b.Retain); x != y {
		breaks := whenSet(y, publisher(b, "publishes with another retain flag"))
		if x == true {
			breaks = append(breaks, consumers(b, "finds no stored message when it comes")...)
		}
		on(kindOf(x == nil, y == nil), "retain", x, y, breaks...)
	}
	c.cadence(a, b, on)
	c.agreed(a, b, on, both)
	c.payload(a, b, on, both)
	if a.Note != b.Note {
		on(Changed, "note", a.Note, b.Note)
	}
}

func deref[T comparable](p *T) any {
	if p == nil {
		return nil
	}
	return *p
}

// kindOf is the kind of a change from nothing agreed to something, or the like.
func kindOf(wasNone, isNone bool) Kind {
	switch {
	case wasNone:
		return Narrowed
	case isNone:
		return Widened
	}
	return Changed
}

// whenSet are the breaks where something is agreed now.
func whenSet(now any, breaks []Break) []Break {
	if now == nil {
		return nil
	}
	return slices.Clone(breaks)
}

type telling func(kind Kind, key string, old, now any, breaks ...Break)

// cadence compares how often messages come.
func (c *comparing) cadence(a, b *contract.Clause, on telling) {
	bound := func(x contract.Cadence) time.Duration { return x.Period + x.Tolerance }
	x, y := a.Every, b.Every
	switch {
	case x == y:
	case y.Period == 0:
		on(Widened, "every", x.String(), nil, consumers(b, "relies on a message within "+bound(x).String())...)
	case x.Period == 0 || bound(y) < bound(x):
		on(Narrowed, "every", x.String(), y.String(), publisher(b, "may come later than "+bound(y).String())...)
	case bound(y) > bound(x):
		on(Widened, "every", x.String(), y.String(), consumers(b, "relies on a message within "+bound(x).String())...)
	default:
		on(Changed, "every", x.String(), y.String())
	}
	rate := func(r contract.Rate) float64 { return float64(r.N) / r.Per.Seconds() }
	switch p, q := a.Most, b.Most; {
	case p == q:
	case q.N == 0:
		on(Widened, "at-most", p.String(), nil, consumers(b, "may get more than "+p.String())...)
	case p.N == 0 || rate(q) < rate(p):
		on(Narrowed, "at-most", p.String(), q.String(), publisher(b, "may send more than "+q.String())...)
	default:
		on(Widened, "at-most", p.String(), q.String(), consumers(b, "may get more than "+p.String())...)
	}
}

// agreed compares the rest of what is agreed beside the payload.
func (c *comparing) agreed(a, b *contract.Clause, on telling, both func(string) []Break) {
	if a.Only != b.Only {
		switch {
		case a.Only == "":
			on(Narrowed, "only", nil, string(b.Only), publisher(b, "may say the same again")...)
		case b.Only == "":
			on(Widened, "only", string(a.Only), nil, consumers(b, "may get the same again")...)
		default:
			on(Changed, "only", string(a.Only), string(b.Only), both("takes it for the other")...)
		}
	}
	c.answer(a, b, on)
	if x, y := a.Presence, b.Presence; (x == nil) != (y == nil) || x != nil && *x != *y {
		on(kindOf(x == nil, y == nil), "presence", presence(x), presence(y), both("tells presence by other values")...)
	}
	if a.Expiry != b.Expiry {
		var breaks []Break
		if b.Expiry > 0 {
			breaks = publisher(b, "publishes with another message expiry interval")
		}
		on(kindOf(a.Expiry == 0, b.Expiry == 0), "message-expiry", zero(a.Expiry), zero(b.Expiry), breaks...)
	}
	if x, y := a.Stamp, b.Stamp; (x == nil) != (y == nil) || x != nil && *x != *y {
		var breaks []Break
		if y != nil {
			breaks = publisher(b, "tells another time, or none")
		}
		on(kindOf(x == nil, y == nil), "stamped", stamp(x), stamp(y), breaks...)
	}
	if x, y := a.Properties.ContentType, b.Properties.ContentType; x != y {
		on(kindOf(x == "", y == ""), "properties/content-type", x, y, both("has another content type in mind")...)
	}
	for _, pair := range b.Properties.User {
		if !slices.Contains(a.Properties.User, pair) {
			on(Narrowed, "properties/user", nil, pair[0]+"="+pair[1], publisher(b, "does not send it")...)
		}
	}
	for _, pair := range a.Properties.User {
		if !slices.Contains(b.Properties.User, pair) {
			on(Widened, "properties/user", pair[0]+"="+pair[1], nil, consumers(b, "may miss it")...)
		}
	}
	if a.Survives != b.Survives {
		var breaks []Break
		if a.Survives {
			breaks = consumers(b, "may find nothing after the broker was started anew")
		}
		on(Changed, "survives-restart", fmt.Sprint(a.Survives), fmt.Sprint(b.Survives), breaks...)
	}
	if a.Repeat != b.Repeat {
		on(Changed, "repeat", a.Repeat, b.Repeat, both("takes a repeat for something else")...)
	}
}

func stamp(s *contract.Stamp) any {
	if s == nil {
		return nil
	}
	return fmt.Sprintf("%s within %s", s.Field, s.Within)
}

func zero(d time.Duration) any {
	if d == 0 {
		return nil
	}
	return d.String()
}

func presence(p *contract.Presence) any {
	if p == nil {
		return nil
	}
	return fmt.Sprintf("%s / %s / %s", p.Coming, p.Leaving, p.Lost)
}

// answer compares what must follow a command.
func (c *comparing) answer(a, b *contract.Clause, on telling) {
	text := func(x *contract.Answer) any {
		if x == nil {
			return nil
		}
		return fmt.Sprintf("%s within %s", x.Clause, x.Within)
	}
	who := func(in *contract.Contract, x *contract.Answer) string {
		if x == nil || in.Clause(x.Clause) == nil {
			return ""
		}
		return in.Clause(x.Clause).From
	}
	x, y := a.Answer, b.Answer
	answers := Break{who(c.new, y), "publisher", "may answer later, or not at all"}
	asks := publisher(b, "relies on the answer as it was")
	switch {
	case x == nil && y == nil, x != nil && y != nil && *x == *y:
	case y == nil:
		on(Widened, "answer", text(x), nil, asks...)
	case x == nil:
		on(Narrowed, "answer", nil, text(y), answers)
	case x.Clause != y.Clause:
		on(Changed, "answer", text(x), text(y), append(asks, answers)...)
	case y.Within < x.Within:
		on(Narrowed, "answer", text(x), text(y), answers)
	default:
		on(Widened, "answer", text(x), text(y), asks...)
	}
}

// parameters compares what levels of topics may hold.
func (c *comparing) parameters() {
	names := map[string]bool{}
	for _, in := range []*contract.Contract{c.old, c.new} {
		for name := range in.Parameters {
			names[name] = true
		}
	}
	for _, name := range sorted(names) {
		p, q := c.old.Parameters[name], c.new.Parameters[name]
		x, y := contract.SameText(noNote(p.Tree())), contract.SameText(noNote(q.Tree()))
		_, was := c.old.Parameters[name]
		_, is := c.new.Parameters[name]
		if x == y || !was || !is {
			continue
		}
		lost, won := parts(p, q)
		kind := Changed
		switch {
		case !q.Limited(), won && !lost:
			kind = Widened
		case !p.Limited(), lost && !won:
			kind = Narrowed
		}
		var breaks []Break
		for _, cl := range c.new.Clauses {
			if !slices.Contains(cl.Topic.Parameters(), name) {
				continue
			}
			if kind != Widened {
				breaks = append(breaks, publisher(cl, "may publish at a value that is none any longer")...)
			}
			if kind != Narrowed {
				breaks = append(breaks, consumers(cl, "may get messages at values that it does not know")...)
			}
		}
		slices.SortFunc(breaks, func(a, b Break) int { return strings.Compare(a.Party+a.Role, b.Party+b.Role) })
		c.tell(
			Change{
				Kind:   kind,
				On:     name,
				What:   "parameter",
				Old:    contract.Compact(p.Tree()),
				New:    contract.Compact(q.Tree()),
				Breaks: breaks,
			},
		)
	}
}

func noNote(o expression.Object) expression.Object {
	return slices.DeleteFunc(o, func(m expression.Member) bool { return m.Key == "note" })
}

// parts tells whether values were lost, and whether there are new ones, as far as they can be listed.
func parts(p, q contract.Parameter) (lost, won bool) {
	a, b := p.Listed(), q.Listed()
	if len(a) == 0 && len(b) == 0 {
		return true, true
	}
	for _, v := range a {
		lost = lost || !q.Allows(v)
	}
	for _, v := range b {
		won = won || !p.Allows(v)
	}
	if len(a) == 0 {
		lost = true
	}
	if len(b) == 0 {
		won = true
	}
	return lost, won
}

func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// relations compares what clauses have to do with one another.
func (c *comparing) relations() {
	find := func(in *contract.Contract, name string) *contract.Relation {
		for _, r := range in.Relations {
			if r.Name == name {
				return r
			}
		}
		return nil
	}
	who := func(r *contract.Relation) (out []Break) {
		patterns := r.Never
		if r.Follow != nil {
			patterns = []contract.MessagePattern{*r.Follow}
		}
		for _, m := range patterns {
			if cl := c.new.Clause(m.Clause); cl != nil {
				out = append(out, publisher(cl, "does not heed it yet")...)
			}
		}
		return out
	}
	for _, r := range c.old.Relations {
		switch now := find(c.new, r.Name); {
		case now == nil:
			c.tell(Change{Kind: Removed, On: r.Name, What: "relation", Old: contract.Compact(r.Tree())})
		case contract.SameText(noNote(r.Tree())) != contract.SameText(noNote(now.Tree())):
			c.tell(
				Change{
					Kind:   Changed,
					On:     r.Name,
					What:   "relation",
					Old:    contract.Compact(r.Tree()),
					New:    contract.Compact(now.Tree()),
					Breaks: who(now),
				},
			)
		}
	}
	for _, r := range c.new.Relations {
		if find(c.old, r.Name) == nil {
			c.tell(Change{Kind: Added, On: r.Name, What: "relation", New: contract.Compact(r.Tree()), Breaks: who(r)})
		}
	}
}
