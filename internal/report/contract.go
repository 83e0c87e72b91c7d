package report

import (
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/draw"
	"hodstone/internal/plain"
	"hodstone/internal/workspace"
)

// ContractDocument is the contract of a workspace as a document for those who keep it.
func ContractDocument(w *workspace.Workspace) *draw.Document {
	c := w.Contract
	d := &draw.Document{Title: title(w)}
	d.Text("Who publishes what, where and how: %s between %s.", plain.Count(len(c.Clauses), "clause"), plain.Count(len(c.Parties), "party"))
	parties(d, c)
	parameters(d, c)
	var rows [][]string
	for _, cl := range c.Clauses {
		rows = append(rows, []string{cl.Topic.String(), cl.From, strings.Join(cl.To, ", "), agreed(cl.QoS), retainWord(cl.Retain), cl.Name})
	}
	d.Heading(1, "Topics")
	d.Table([]string{"topic", "from", "to", "QoS", "retained", "clause"}, rows)
	d.Heading(1, "Clauses")
	for _, cl := range c.Clauses {
		clause(d, cl)
	}
	if len(c.Relations) > 0 {
		d.Heading(1, "Relations")
		var rows [][]string
		for _, r := range c.Relations {
			rows = append(rows, []string{r.Name, relation(r), strings.Join(r.Per, ", "), r.Note})
		}
		d.Table([]string{"relation", "what holds", "for each", "note"}, rows)
	}
	if all, _ := w.Access(); len(all) > 0 {
		d.Heading(1, "Access")
		d.Text("What each login has to be able to do, at least.")
		var rows [][]string
		for _, a := range all {
			rows = append(rows, []string{a.Login, a.Party, strings.Join(a.Publish, ", "), strings.Join(a.Subscribe, ", ")})
		}
		d.Table([]string{"login", "party", "publishes", "subscribes to"}, rows)
	}
	return d
}

func title(w *workspace.Workspace) string {
	if w.Name == "" {
		return "The contract"
	}
	return w.Name + ": the contract"
}

func agreed[T any](v *T) string {
	if v == nil {
		return ""
	}
	return fmt.Sprint(*v)
}

func retainWord(v *bool) string {
	switch {
	case v == nil:
		return ""
	case *v:
		return "yes"
	}
	return "no"
}

func parties(d *draw.Document, c *contract.Contract) {
	d.Heading(1, "Parties")
	var rows [][]string
	for i := range c.Parties {
		p := &c.Parties[i]
		var logins, publishes, consumes []string
		for _, l := range p.Logins {
			logins = append(logins, l.String())
		}
		for _, cl := range c.Clauses {
			if cl.From == p.Name {
				publishes = append(publishes, cl.Name)
			}
			if slices.Contains(cl.To, p.Name) {
				consumes = append(consumes, cl.Name)
			}
		}
		rows = append(rows, []string{p.Name, p.Note, strings.Join(logins, ", "), strings.Join(publishes, ", "), strings.Join(consumes, ", ")})
	}
	d.Table([]string{"party", "what it is", "logins", "publishes", "consumes"}, rows)
	rows = nil
	for i := range c.Parties {
		if p := &c.Parties[i]; p.Terms != nil {
			for _, m := range p.Terms.Tree() {
				rows = append(rows, []string{p.Name, m.Key, plainValue(m.Value)})
			}
		}
	}
	if len(rows) > 0 {
		d.Text("What their sessions must look like, and what they can take:")
		d.Table([]string{"party", "term", "is"}, rows)
	}
}

// plainValue writes a value without quotes where it is a text.
func plainValue(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []any:
		var out []string
		for _, x := range v {
			out = append(out, plainValue(x))
		}
		return strings.Join(out, ", ")
	}
	return contract.Compact(v)
}

func parameters(d *draw.Document, c *contract.Contract) {
	var rows [][]string
	names := make([]string, 0, len(c.Parameters))
	for name := range c.Parameters {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		p := c.Parameters[name]
		holds := "anything"
		switch {
		case len(p.Values) > 0:
			holds = strings.Join(p.Values, ", ")
		case p.Range != nil:
			holds = p.Range.String()
		case p.Pattern != nil:
			holds = "what matches " + p.PatternText()
		}
		rows = append(rows, []string{"{" + name + "}", holds, p.Note})
	}
	if len(rows) > 0 {
		d.Heading(1, "Parameters")
		d.Table([]string{"level", "may hold", "what it is"}, rows)
	}
}

// clause describes one clause.
func clause(d *draw.Document, cl *contract.Clause) {
	d.Heading(2, cl.Name)
	d.Text("%s", cl.Note)
	rows := [][]string{{"topic", cl.Topic.String()}}
	add := func(key, text string) {
		if text != "" {
			rows = append(rows, []string{key, text})
		}
	}
	add("from", cl.From)
	add("to", strings.Join(cl.To, ", "))
	add("QoS", agreed(cl.QoS))
	add("retained", retainWord(cl.Retain))
	for _, m := range cl.Agreed() {
		switch {
		case m.Key == "answer":
			add("answer", fmt.Sprintf("%s within %s", cl.Answer.Clause, cl.Answer.Within))
		case m.Key == "presence":
			add("presence", fmt.Sprintf("%q when it comes, %q when it leaves, %q by its will", cl.Presence.Coming, cl.Presence.Leaving, cl.Presence.Lost))
		default:
			add(m.Key, plainValue(m.Value))
		}
	}
	add("payload", cl.Payload.Words())
	if cl.Payload.MaxSize > 0 {
		add("at most", plain.Count(cl.Payload.MaxSize, "byte"))
	}
	d.Table([]string{"", ""}, rows)
	fields(d, cl)
	for _, x := range cl.Examples {
		d.Text("For example:")
		d.Code(exampleText(cl, x))
	}
	for _, x := range cl.Counter {
		d.Text("Wrong (%s):", x.Because)
		d.Code(exampleText(cl, x))
	}
}

func exampleText(cl *contract.Clause, x contract.Example) string {
	if text, ok := cl.Payload.Spelled(x.Payload); ok {
		return x.Text + "    = " + text
	}
	return x.Text
}

// fields tables what a payload holds.
func fields(d *draw.Document, cl *contract.Clause) {
	var rows, meanings [][]string
	for _, f := range cl.Payload.Fields() {
		need := ""
		if f.Required {
			need = "yes"
		}
		rows = append(rows, []string{f.Name, f.Type, f.Unit, f.Range, need, f.Note})
		keys := make([]string, 0, len(f.Values))
		for k := range f.Values {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			meanings = append(meanings, []string{f.Name, k, f.Values[k]})
		}
	}
	if len(rows) > 1 || cl.Payload.Schema != nil {
		d.Table([]string{"field", "type", "unit", "range", "always", "what it is"}, rows)
	} else if len(rows) == 1 && (rows[0][2] != "" || rows[0][3] != "") {
		d.Table([]string{"unit", "range"}, [][]string{{rows[0][2], rows[0][3]}})
	}
	if len(meanings) > 0 {
		d.Table([]string{"of", "value", "stands for"}, meanings)
	}
}

// relation says what holds.
func relation(r *contract.Relation) string {
	if r.After != nil && r.Follow != nil {
		return fmt.Sprintf("after %s follows %s within %s", r.After, r.Follow, r.Within)
	}
	var all []string
	for _, m := range r.Never {
		all = append(all, m.String())
	}
	return "never at once: " + strings.Join(all, "; ")
}
