package contract

import (
	"encoding/json"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"

	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// Bundle is the payload's schema whole: what it refers to in files and definitions stands in it, under $defs. It is nil
// where there is none; one that packed structures and XML make of what is written of them is made so.
func (p *Payload) Bundle() any {
	if p.Schema == nil {
		return nil
	}
	b := bundle{s: p.Schema, names: map[string]string{}, taken: map[string]bool{}}
	root := p.Schema.docs[p.Schema.url]
	for _, m := range p.Written {
		if m.Key == "schema" {
			root = m.Value // in its order
		}
	}
	for name := range b.own(root) {
		b.taken[name] = true
	}
	out := b.walk(root, p.Schema.url)
	if len(b.defs) == 0 {
		return out
	}
	// A schema that is nothing but a reference is what it refers to, unless that refers to itself.
	if o, is := out.(expression.Object); is && len(o) == 1 && o[0].Key == "$ref" {
		ref, _ := o[0].Value.(string)
		for i, d := range b.defs {
			if ref == "#/$defs/"+payloadEscape(d.Key) && !refers(b.defs, ref) {
				if inside, ok := d.Value.(expression.Object); ok && !has(inside, "$defs") {
					b.defs = slices.Delete(b.defs, i, i+1)
					if len(b.defs) == 0 {
						return inside
					}
					return append(slices.Clone(inside), expression.Member{Key: "$defs", Value: b.defs})
				}
			}
		}
	}
	o, is := out.(expression.Object)
	if !is {
		return out
	}
	o = slices.Clone(o)
	for i, m := range o {
		if own, ok := m.Value.(expression.Object); ok && m.Key == "$defs" {
			o[i].Value = append(slices.Clone(own), b.defs...)
			return o
		}
	}
	return append(o, expression.Member{Key: "$defs", Value: b.defs})
}

// bundle is a schema that takes in what it refers to.
type bundle struct {
	s     *Schema
	names map[string]string // of what was taken in, by where it came from
	taken map[string]bool
	defs  expression.Object
}

// own are the names under $defs of a schema.
func (b *bundle) own(root any) map[string]any {
	out := map[string]any{}
	for _, m := range members(root) {
		if m.Key == "$defs" {
			for _, d := range members(m.Value) {
				out[d.Key] = d.Value
			}
		}
	}
	return out
}

// members are those of an object, be it in an order or not.
func members(v any) expression.Object {
	switch v := v.(type) {
	case expression.Object:
		return v
	case map[string]any:
		out := expression.Object{}
		for _, k := range sortedKeys(v) {
			out = append(out, expression.Member{Key: k, Value: v[k]})
		}
		return out
	}
	return nil
}

func has(o expression.Object, key string) bool {
	return slices.ContainsFunc(o, func(m expression.Member) bool { return m.Key == key })
}

// named are keywords under which there are schemas by names.
var named = []string{"properties", "patternProperties", "$defs", "definitions", "dependentSchemas"}

// data are keywords under which there are values, no schemas.
var data = []string{"enum", "const", "default", "examples", "values"}

// WalkSchema calls visit for a schema and for each schema within it, from the outside in, and returns what visit made
// of them. Where deeper is false, it does not go into that one.
func WalkSchema(v any, visit func(o expression.Object) (out expression.Object, deeper bool)) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = WalkSchema(x, visit)
		}
		return out
	case expression.Object, map[string]any:
		o, deeper := visit(members(v))
		if !deeper {
			return o
		}
		out := make(expression.Object, len(o))
		for i, m := range o {
			switch {
			case slices.Contains(data, m.Key):
				m.Value = ordered(m.Value)
			case slices.Contains(named, m.Key):
				inside := expression.Object{}
				for _, x := range members(m.Value) {
					inside = append(inside, expression.Member{Key: x.Key, Value: WalkSchema(x.Value, visit)})
				}
				m.Value = inside
			default:
				m.Value = WalkSchema(m.Value, visit)
			}
			out[i] = m
		}
		return out
	}
	return v
}

// References returns the schema with its references changed.
func References(v any, change func(keyword, ref string) string) any {
	return WalkSchema(v, func(o expression.Object) (expression.Object, bool) {
		out := slices.Clone(o)
		for i, m := range out {
			if ref, is := m.Value.(string); is && (m.Key == "$ref" || m.Key == "$dynamicRef") {
				out[i].Value = change(m.Key, ref)
			}
		}
		return out, true
	})
}

// walk returns a schema with its references to elsewhere turned into ones to its own $defs. at is the document that it
// stands in.
func (b *bundle) walk(v any, at string) any {
	return References(v, func(keyword, ref string) string {
		if keyword != "$ref" {
			return ref
		}
		return b.refer(ref, at)
	})
}

// ordered gives objects an order.
func ordered(v any) any {
	switch x := v.(type) {
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = ordered(x[i])
		}
		return out
	case map[string]any, expression.Object:
		out := expression.Object{}
		for _, m := range members(x) {
			out = append(out, expression.Member{Key: m.Key, Value: ordered(m.Value)})
		}
		return out
	}
	return v
}

// refer takes in what a reference leads to, and returns one to it.
func (b *bundle) refer(ref, at string) string {
	base, err := url.Parse(at)
	target, err2 := url.Parse(ref)
	if err != nil || err2 != nil {
		return ref
	}
	full := base.ResolveReference(target)
	pointer := full.Fragment
	full.Fragment, full.RawFragment = "", ""
	doc := full.String()
	if doc == b.s.url || !strings.HasPrefix(pointer, "/") && pointer != "" {
		return ref
	}
	found, ok := payload.At(b.s.docs[doc], pointer)
	if !ok {
		return ref
	}
	key := doc + "#" + pointer
	name, known := b.names[key]
	if !known {
		if name = path.Base(pointer); pointer == "" {
			name = strings.TrimSuffix(path.Base(full.Path), path.Ext(full.Path))
		}
		for i := 2; b.taken[name]; i++ {
			name = fmt.Sprintf("%s-%d", strings.TrimSuffix(name, fmt.Sprintf("-%d", i-1)), i)
		}
		b.names[key], b.taken[name] = name, true
		place := len(b.defs)
		b.defs = append(b.defs, expression.Member{Key: name})
		b.defs[place].Value = b.walk(found, doc)
	}
	return "#/$defs/" + payloadEscape(name)
}

func payloadEscape(name string) string { return strings.TrimPrefix(payload.Pointer(name), "/") }

// refers tells whether any of it has the reference.
func refers(v any, ref string) bool {
	b, err := json.Marshal(v)
	quoted, _ := json.Marshal(ref)
	return err != nil || strings.Contains(string(b), `"$ref":`+string(quoted))
}
