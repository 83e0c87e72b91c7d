package draft

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
)

// Result is a contract that was drafted.
type Result struct {
	Contract expression.Object   // as its mapping is written
	Notes    map[string][]string // what is to be told of its parts, by JSON Pointer
	Outliers []string            // what may be breaches in what it was made from
	Left     []string            // what was left out, and why
	Clauses  int
}

// object builds a mapping in its order.
type object struct{ expression.Object }

func (o *object) put(key string, v any) {
	o.Object = append(o.Object, expression.Member{Key: key, Value: v})
}

// drafting is a draft that is being made.
type drafting struct {
	*Traffic
	common  int // levels that all topics begin with
	parties []*party
	params  map[string]*parameter
	shapes  []*clause
	result  *Result
}

// clause is a shape with what is found of it.
type clause struct {
	*shape
	name  string
	from  string
	body  object
	value *node
	n     int // live messages
}

// Options say what a draft is to heed.
type Options struct {
	// Names are those of clauses that there are already.
	Names []string
	// Known is the contract that the draft is to be added to; nil for none. Its parties count where senders or topics
	// speak of them, and its parameters where the values are theirs.
	Known *contract.Contract
}

// Write drafts a contract of what was seen.
func (t *Traffic) Write(o Options) *Result {
	d := drafting{Traffic: t, result: &Result{Notes: map[string][]string{}}}
	var topics []*seen
	for _, name := range t.order {
		switch s := t.topics[name]; {
		case s.value.n == 0:
		case strings.ContainsAny(name, "{}"):
			d.result.Left = append(d.result.Left, name+": a name with braces cannot be written as a pattern")
		default:
			topics = append(topics, s)
		}
	}
	if t.unkept > 0 {
		d.result.Left = append(
			d.result.Left,
			fmt.Sprintf("%d messages on topics beyond the first %d", t.unkept, maxTopics),
		)
	}
	found := find(topics)
	d.params = parameters(found)
	if d.common = common(found); o.Known != nil {
		d.common = commonOf(o.Known, d.common)
	}
	for d.common > 0 && slices.ContainsFunc(found, func(x *shape) bool { return len(x.levels) > d.common && x.names[d.common] != "" }) {
		d.common-- // what a parameter counts belongs to the name: vat.level
	}
	taken := map[string]bool{}
	for _, n := range o.Names {
		taken[n] = true
	}
	for _, x := range found {
		c := &clause{shape: x, value: &node{}}
		for _, s := range x.topics {
			c.value.join(s.value)
			c.n += s.n
		}
		c.name = d.nameOf(x, taken)
		d.shapes = append(d.shapes, c)
	}
	for _, c := range d.shapes {
		d.describe(c)
	}
	d.answers()
	d.write()
	return d.result
}

// common is how many levels all shapes begin with alike, and have one more behind.
func common(all []*shape) (n int) {
	for ; ; n++ {
		for _, x := range all {
			if len(x.levels) <= n+1 || x.names[n] != "" || x.levels[n][0] != all[0].levels[n][0] {
				return n
			}
		}
		if len(all) == 0 {
			return 0
		}
	}
}

// commonOf is how many levels all clauses of a contract begin with alike, where that is less.
func commonOf(c *contract.Contract, n int) int {
	var first []string
	for i, cl := range c.Clauses {
		levels := strings.Split(cl.Topic.String(), "/")
		if i == 0 {
			first = levels
		}
		for k := range min(n, len(levels)) {
			if k >= len(first) || levels[k] != first[k] || k == len(levels)-1 {
				n = k
				break
			}
		}
	}
	return n
}

// nameOf names a clause by its topic.
func (d *drafting) nameOf(x *shape, taken map[string]bool) string {
	var parts []string
	for i, l := range x.levels {
		if i < d.common || x.names[i] != "" {
			continue
		}
		if word := strings.Trim(notName.ReplaceAllString(strings.ToLower(l[0]), "-"), "-"); word != "" {
			parts = append(parts, word)
		}
	}
	name := strings.Join(parts, ".")
	if name == "" {
		name = "message"
	}
	for i, plain := 2, name; taken[name]; i++ {
		name = fmt.Sprintf("%s-%d", plain, i)
	}
	taken[name] = true
	return name
}

func share(n, all int) string { return fmt.Sprintf("%d of %d", n, all) }

// short writes a duration without needless zeros.
func short(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

func (d *drafting) note(c *clause, key, format string, args ...any) {
	at := "/clauses/" + c.name
	if key != "" {
		at += "/" + key
	}
	d.result.Notes[at] = append(d.result.Notes[at], fmt.Sprintf(format, args...))
}

// soon is how soon an answer comes, and nearly the share of commands that are answered.
const (
	soon   = 5 * time.Second
	nearly = 0.95
)

// How many messages are looked at for what follows them, and how many of those that follow.
const (
	maxAsked = 4_000
	maxAfter = 500
)

// answers finds messages that follow others, at the same values of the parameters, nearly always and by another party.
func (d *drafting) answers() {
	where := map[string]*clause{}
	for _, c := range d.shapes {
		for _, s := range c.topics {
			where[s.name] = c
		}
	}
	type pair struct{ a, b *clause }
	type tally struct {
		n                 int
		shortest, longest time.Duration
	}
	tallies := map[pair]*tally{}
	asked := map[*clause]int{}
	order := d.recent
	stride := max(1, len(order)/maxAsked)
	for i, m := range order {
		a := where[m.topic]
		if a == nil || i%stride != 0 || order[len(order)-1].at.Sub(m.at) < soon {
			continue
		}
		asked[a]++
		values := a.values(m.topic)
		done := map[*clause]bool{}
		for _, next := range order[i+1 : min(len(order), i+1+maxAfter)] {
			gap := next.at.Sub(m.at)
			b := where[next.topic]
			if gap > soon || next.topic == m.topic {
				break
			}
			if b == nil || b == a || done[b] || !shares(values, b.values(next.topic)) {
				continue
			}
			done[b] = true
			t := tallies[pair{a, b}]
			if t == nil {
				t = &tally{shortest: gap}
				tallies[pair{a, b}] = t
			}
			t.n++
			t.shortest, t.longest = min(t.shortest, gap), max(t.longest, gap)
		}
	}
	for _, a := range d.shapes {
		var best *clause
		var found *tally
		for _, b := range d.shapes {
			t := tallies[pair{a, b}]
			if t == nil || asked[a] < enough || float64(t.n) < nearly*float64(asked[a]) || a.stored() ||
				a.from == b.from || a.from == "" || b.from == "" || !a.reaches(b.from) ||
				t.longest > max(time.Second, 4*t.shortest+500*time.Millisecond) ||
				float64(b.n) > 1.2*float64(a.n) || float64(b.n) < 0.8*float64(a.n) {
				continue
			}
			if found == nil || t.longest < found.longest {
				best, found = b, t
			}
		}
		if best == nil {
			continue
		}
		within := max(tidyUp(2*found.longest), time.Second)
		at := slices.IndexFunc(a.body.Object, func(m expression.Member) bool { return m.Key == "payload" })
		a.body.Object = slices.Insert(a.body.Object, at, expression.Member{Key: "answer",
			Value: expression.Object{{Key: "clause", Value: best.name}, {Key: "within", Value: short(within)}}})
		d.note(a, "answer", "%s, after %s at most", share(found.n, asked[a]), found.longest.Round(time.Millisecond))
	}
}

// reaches tells whether a party was seen to consume the clause; where nobody was, everybody may.
func (c *clause) reaches(party string) bool {
	for _, m := range c.body.Object {
		if list, is := m.Value.([]any); is && m.Key == "to" {
			return slices.Contains(list, any(party))
		}
	}
	return true
}

// stored tells whether the clause's messages are retained: then they say how things stand, and ask for nothing.
func (c *clause) stored() bool {
	return slices.ContainsFunc(
		c.body.Object,
		func(m expression.Member) bool { return m.Key == "retain" && m.Value == true },
	)
}

func shares(a, b map[string]string) bool {
	for k, v := range a {
		if w, both := b[k]; both && v != w {
			return false
		}
	}
	return true
}

// write puts the contract together.
func (d *drafting) write() {
	var parties, params, clauses, out object
	for client := range d.clients {
		if len(d.filters[client]) > 0 {
			d.party(d.partyOf(client), false, client)
		}
	}
	slices.SortStableFunc(d.parties, func(a, b *party) int { return cmp.Compare(a.name, b.name) })
	for _, p := range d.parties {
		var body object
		t, doubts := d.terms(p)
		if len(t.Object) > 0 {
			body.put("terms", t.Object)
		}
		parties.put(p.name, notNil(body.Object))
		at := "/parties/" + p.name
		d.result.Notes[at] = doubts
		if p.guessed {
			d.result.Notes[at] = append(d.result.Notes[at], "? by its topics alone")
		} else if len(p.clients) > 0 {
			d.result.Notes[at] = append(d.result.Notes[at], clients(p.clients))
		}
	}
	names := make([]string, 0, len(d.params))
	for name := range d.params {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		params.put(name, d.params[name].limits())
		d.result.Notes["/parameters/"+name] = []string{fmt.Sprintf("%d values seen", len(d.params[name].values))}
	}
	slices.SortStableFunc(d.shapes, func(a, b *clause) int {
		return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.name, b.name))
	})
	for _, c := range d.shapes {
		clauses.put(c.name, c.body.Object)
	}
	out.put("parties", notNil(parties.Object))
	if len(params.Object) > 0 {
		out.put("parameters", params.Object)
	}
	out.put("clauses", notNil(clauses.Object))
	d.result.Contract, d.result.Clauses = out.Object, len(d.shapes)
}

func notNil(o expression.Object) expression.Object {
	if o == nil {
		return expression.Object{}
	}
	return o
}

// clients lists clients for a note.
func clients(names []string) string {
	names = slices.Clone(names)
	slices.Sort(names)
	if len(names) > 4 {
		return fmt.Sprintf("%s … %s, %d clients", names[0], names[len(names)-1], len(names))
	}
	return strings.Join(names, ", ")
}

// limits are what a parameter may hold: the values, where every clause has them all; else what they look like.
func (p *parameter) limits() expression.Object {
	if p.whole && len(p.values) <= 40 {
		var list []any
		for _, v := range p.values {
			list = append(list, v)
		}
		return expression.Object{{Key: "values", Value: list}}
	}
	switch kindOf(p.values) {
	case "number":
		lo, hi := p.values[0], p.values[0]
		plain := true
		for _, v := range p.values {
			if len(v) < len(lo) || len(v) == len(lo) && v < lo {
				lo = v
			}
			if len(v) > len(hi) || len(v) == len(hi) && v > hi {
				hi = v
			}
			plain = plain && (v == "0" || v[0] != '0') && len(v) < 10
		}
		if plain {
			return expression.Object{{Key: "range", Value: lo + ".." + hi}}
		}
		return expression.Object{{Key: "pattern", Value: "[0-9]+"}}
	case "letter":
		return expression.Object{{Key: "pattern", Value: "[A-Za-z]"}}
	case "numbered":
		m := kinds[2].re.FindStringSubmatch(p.values[0])
		return expression.Object{{Key: "pattern", Value: m[1] + "[-_ .]?[0-9]+"}}
	case "hexadecimal":
		return expression.Object{{Key: "pattern", Value: "[0-9a-fA-F]+"}}
	}
	if len(p.values) <= 200 {
		var list []any
		for _, v := range p.values {
			list = append(list, v)
		}
		return expression.Object{{Key: "values", Value: list}}
	}
	return expression.Object{{Key: "pattern", Value: "[^/]+"}}
}
