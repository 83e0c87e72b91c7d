package workspace

import (
	"slices"
	"strings"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/topic"
)

// Access is what a login has to be able to do, at least, for its party to keep the contract.
type Access struct {
	Login      string // its name in the workspace
	Username   string
	Party      string
	Parameters map[string]string // what is known of its own
	// Publish are the topic filters of what it publishes, its will among them; Subscribe those of what it consumes.
	Publish, Subscribe []string
}

// Access lists what each login has to be able to do by the contract, in the order of the logins. parties are those of
// whose logins nothing is known.
func (w *Workspace) Access() (out []Access, parties []string) {
	known := map[string]bool{}
	for _, l := range w.Logins {
		party, values := w.plays(l)
		if party == "" {
			continue
		}
		known[party] = true
		a := Access{Login: l.Name, Username: l.Username, Party: party, Parameters: values}
		for _, cl := range w.Contract.Clauses {
			if cl.From == party {
				a.Publish = append(a.Publish, cl.Topic.Fill(values))
			}
			if slices.Contains(cl.To, party) {
				a.Subscribe = append(a.Subscribe, cl.Topic.Fill(values))
			}
		}
		a.Publish, a.Subscribe = fewest(a.Publish), fewest(a.Subscribe)
		out = append(out, a)
	}
	for _, p := range w.Contract.Parties {
		if !known[p.Name] {
			parties = append(parties, p.Name)
		}
	}
	return out, parties
}

// plays tells which party a login speaks for, by the contract or by the devices, and the values of its parameters.
func (w *Workspace) plays(l *Login) (party string, values map[string]string) {
	for _, p := range w.Contract.Parties {
		for _, pattern := range p.Logins {
			if v, ok := pattern.Match(l.Username); ok {
				return p.Name, v
			}
		}
	}
	for _, d := range w.Devices {
		for n := range max(1, d.Count) {
			if FillIn(d.Login, n+1) != l.Name {
				continue
			}
			v := map[string]string{}
			for name, text := range d.Parameters {
				v[name] = FillIn(text, n+1)
			}
			if party != "" && party != d.Plays || values != nil && !sameValues(values, v) {
				v = nil // several devices come by it: what is one's own is not
			}
			party, values = d.Plays, v
		}
	}
	return party, values
}

func sameValues(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for k, v := range a {
		if b[k] != v {
			return false
		}
	}
	return true
}

// fewest sorts filters and leaves out those that another covers.
func fewest(filters []string) (out []string) {
	slices.Sort(filters)
	filters = slices.Compact(filters)
	for i, f := range filters {
		if !slices.ContainsFunc(slices.Delete(slices.Clone(filters), i, i+1), func(x string) bool { return topic.Covers(x, f) }) {
			out = append(out, f)
		}
	}
	return out
}

// RightsTree is what the logins have to be able to do as rights of a stand-in are written.
func RightsTree(all []Access) expression.Object {
	out := expression.Object{}
	list := func(filters []string) []any {
		l := []any{}
		for _, f := range filters {
			l = append(l, f)
		}
		return l
	}
	for _, a := range all {
		out = append(out, expression.Member{Key: a.Login, Value: expression.Object{
			{Key: "publish", Value: list(a.Publish)}, {Key: "subscribe", Value: list(a.Subscribe)}}})
	}
	return out
}

// Lack is something that a login of a party needs and may not do.
type Lack struct{ Party, Text string }

// Lacking tells, for a stand-in's rights, what logins need by the contract and may not do there.
func (w *Workspace) Lacking(s *StandIn) (out []Lack) {
	all, _ := w.Access()
	for _, a := range all {
		if !slices.Contains(s.Logins, a.Login) {
			continue
		}
		r := s.RightsOf(a.Login)
		for _, x := range []struct {
			what        string
			need, given []string
		}{{"publish", a.Publish, r.Publish}, {"subscribe to", a.Subscribe, r.Subscribe}} {
			if x.given == nil {
				continue
			}
			for _, f := range x.need {
				if !slices.ContainsFunc(x.given, func(g string) bool {
					return topic.Covers(strings.ReplaceAll(g, "{login}", a.Login), f)
				}) {
					out = append(out, Lack{a.Party, a.Login + " has to " + x.what + " " + f + ", and may not"})
				}
			}
		}
	}
	return out
}
