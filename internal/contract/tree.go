package contract

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/expression"
)

// tree builds a mapping in its order, without what is empty.
type tree struct{ expression.Object }

func (t *tree) put(key string, v any) {
	switch v := v.(type) {
	case nil:
		return
	case string:
		if v == "" {
			return
		}
	case []any:
		if len(v) == 0 {
			return
		}
	case expression.Object:
		if len(v) == 0 {
			return
		}
	}
	t.Object = append(t.Object, expression.Member{Key: key, Value: v})
}

func (t *tree) number(key string, n int) {
	if n != 0 {
		t.put(key, n)
	}
}

func texts[T ~string](list []T) (out []any) {
	for _, s := range list {
		out = append(out, string(s))
	}
	return out
}

// few is a list, or its one item.
func few(list []any) any {
	if len(list) == 1 {
		return list[0]
	}
	return list
}

// Tree is the whole contract as it would be written, in one order and in one spelling: two contracts that say the same
// have equal trees. Schemas stand in it whole, with the files and definitions that they refer to.
func (c *Contract) Tree() expression.Object {
	var out, parties, parameters, clauses, relations tree
	for i := range c.Parties {
		p := &c.Parties[i]
		parties.Object = append(parties.Object, expression.Member{Key: p.Name, Value: p.Tree()})
	}
	for _, name := range sortedKeys(c.Parameters) {
		if p := c.Parameters[name]; p.Limited() || p.Note != "" {
			parameters.put(name, p.Tree())
		}
	}
	for _, cl := range c.Clauses {
		clauses.put(cl.Name, cl.Tree())
	}
	for _, r := range c.Relations {
		relations.put(r.Name, r.Tree())
	}
	var accepted []any
	for _, a := range c.Accepted {
		var t tree
		t.put("lint", a.Lint)
		if key := "clause"; a.On != "" {
			if c.Clause(a.On) == nil {
				key = "party"
			}
			t.put(key, a.On)
		}
		t.put("because", a.Because)
		accepted = append(accepted, t.Object)
	}
	out.put("parties", parties.Object)
	out.put("parameters", parameters.Object)
	out.put("clauses", clauses.Object)
	out.put("relations", relations.Object)
	out.put("accepted", accepted)
	return out.Object
}

// Tree is the party as it would be written; see [Contract.Tree].
func (p *Party) Tree() expression.Object {
	var t tree
	t.put("note", p.Note)
	var logins []any
	for _, l := range p.Logins {
		logins = append(logins, l.String())
	}
	t.put("logins", logins)
	if p.Terms != nil {
		t.put("terms", p.Terms.Tree())
	}
	return t.Object
}

// Tree is the terms as they would be written; see [Contract.Tree].
func (x *Terms) Tree() expression.Object {
	var t, topic tree
	var versions []any
	for _, v := range x.Versions {
		versions = append(versions, v.String())
	}
	t.put("client-id", x.ClientID.String())
	if len(versions) > 0 {
		t.put("version", few(versions))
	}
	t.put("keep-alive", x.KeepAlive.String())
	if x.CleanStart != nil {
		t.put("clean-start", *x.CleanStart)
	}
	t.put("tls", string(x.TLS))
	t.put("login", string(x.Login))
	if x.MaxQoS != nil {
		t.put("max-qos", int(*x.MaxQoS))
	}
	t.number("max-packet", x.MaxPacket)
	topic.number("length", x.TopicLength)
	topic.number("levels", x.TopicLevels)
	t.put("max-topic", topic.Object)
	t.number("in-flight", x.InFlight)
	for _, d := range []struct {
		key string
		d   TimeSpan
	}{
		{"first-value-within", TimeSpan{x.FirstValueWithin, x.FirstValueWithin}},
		{"lost-within", TimeSpan{x.LostWithin, x.LostWithin}},
		{"gives-up-within", TimeSpan{x.GivesUpWithin, x.GivesUpWithin}},
		{"back-within", TimeSpan{x.BackWithin, x.BackWithin}},
	} {
		t.put(d.key, d.d.String())
	}
	t.put("tries", x.Tries.String())
	if b := x.Buffers; b != nil && *b == 0 {
		t.put("buffers", "none")
	} else if b != nil {
		t.put("buffers", short(*b))
	}
	return t.Object
}

// Tree is the parameter as it would be written; see [Contract.Tree].
func (p Parameter) Tree() expression.Object {
	var t tree
	t.put("values", texts(p.Values))
	if p.Pattern != nil {
		t.put("pattern", p.PatternText())
	}
	if p.Range != nil {
		t.put("range", p.Range.String())
	}
	t.put("note", p.Note)
	return t.Object
}

// PatternText is the pattern as it is written; "" for none.
func (p Parameter) PatternText() string {
	if p.Pattern == nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimPrefix(p.Pattern.String(), "^(?:"), ")$")
}

// Tree is the clause as it would be written; see [Contract.Tree].
func (cl *Clause) Tree() expression.Object {
	var t tree
	t.put("topic", cl.Topic.String())
	t.put("from", cl.From)
	if len(cl.To) > 0 {
		t.put("to", few(texts(cl.To)))
	}
	if cl.QoS != nil {
		t.put("qos", int(*cl.QoS))
	}
	if cl.Retain != nil {
		t.put("retain", *cl.Retain)
	}
	t.Object = append(t.Object, cl.Agreed()...)
	t.put("payload", cl.Payload.Tree())
	var examples, counter []any
	for _, x := range cl.Examples {
		examples = append(examples, x.Value)
	}
	for _, x := range cl.Counter {
		var c tree
		if v := x.Value; v == nil {
			c.put("text", string(x.Payload))
		} else {
			c.Object = append(c.Object, expression.Member{Key: "value", Value: v})
		}
		c.put("because", x.Because)
		counter = append(counter, c.Object)
	}
	t.put("examples", examples)
	t.put("counter-examples", counter)
	t.put("note", cl.Note)
	return t.Object
}

// Agreed is what is agreed of a clause beside its topic, parties, QoS, retain flag, payload and note, as it would be
// written.
func (cl *Clause) Agreed() expression.Object {
	var t tree
	t.put("every", cl.Every.String())
	t.put("at-most", cl.Most.String())
	t.put("only", string(cl.Only))
	if cl.Answer != nil {
		t.put(
			"answer",
			expression.Object{
				{Key: "clause", Value: cl.Answer.Clause},
				{Key: "within", Value: short(cl.Answer.Within)},
			},
		)
	}
	if p := cl.Presence; p != nil {
		t.put(
			"presence",
			expression.Object{
				{Key: "coming", Value: p.Coming},
				{Key: "leaving", Value: p.Leaving},
				{Key: "lost", Value: p.Lost},
			},
		)
	}
	if cl.Expiry > 0 {
		t.put("message-expiry", short(cl.Expiry))
	}
	var properties tree
	properties.put("content-type", cl.Properties.ContentType)
	var user []any
	for _, pair := range cl.Properties.User {
		user = append(user, []any{pair[0], pair[1]})
	}
	properties.put("user", user)
	t.put("properties", properties.Object)
	if s := cl.Stamp; s != nil {
		t.put("stamped", expression.Object{{Key: "field", Value: s.Field}, {Key: "within", Value: short(s.Within)}})
	}
	if cl.Survives {
		t.put("survives-restart", true)
	}
	t.put("repeat", cl.Repeat)
	return t.Object
}

// payloadKeys are the keys of a payload in their order.
var payloadKeys = []string{"format", "schema", "values", "first-character", "pattern", "minimum", "maximum", "unit",
	"suffix", "root", "paths", "file", "message", "byte-order", "fields", "media-type", "max-size"}

// Tree is the payload as it would be written; see [Contract.Tree].
func (p *Payload) Tree() expression.Object {
	out := slices.Clone(p.Written)
	for i, m := range out {
		switch list, is := m.Value.(expression.Object); {
		case m.Key == "schema":
			out[i].Value = p.Bundle()
		case is && (m.Key == "values" || m.Key == "first-character"):
			meanings := expression.Object{}
			for _, v := range list {
				if v.Value == nil {
					v.Value = ""
				}
				meanings = append(meanings, expression.Member{Key: v.Key, Value: fmt.Sprint(v.Value)})
			}
			out[i].Value = meanings
		}
	}
	slices.SortStableFunc(out, func(a, b expression.Member) int {
		return slices.Index(payloadKeys, a.Key) - slices.Index(payloadKeys, b.Key)
	})
	return slices.DeleteFunc(out, func(m expression.Member) bool { return m.Value == nil })
}

// Tree is the message pattern as it would be written; see [Contract.Tree].
func (m MessagePattern) Tree() expression.Object {
	var t, values tree
	t.put("clause", m.Clause)
	for _, name := range sortedKeys(m.Parameters) {
		values.put(name, m.Parameters[name])
	}
	t.put("parameters", values.Object)
	t.put("where", m.WhereText)
	return t.Object
}

// Tree is the relation as it would be written; see [Contract.Tree].
func (r *Relation) Tree() expression.Object {
	var t tree
	var never []any
	for _, m := range r.Never {
		never = append(never, m.Tree())
	}
	t.put("never", never)
	t.put("per", texts(r.Per))
	if r.After != nil && r.Follow != nil {
		t.put("after", r.After.Tree())
		t.put("follows", r.Follow.Tree())
		t.put("within", short(r.Within))
	}
	t.put("note", r.Note)
	return t.Object
}

// SameText is a tree as JSON: equal for what says the same.
func SameText(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(b)
}
