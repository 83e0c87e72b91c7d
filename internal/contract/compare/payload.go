package compare

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// payload compares what two clauses carry.
func (c *comparing) payload(a, b *contract.Clause, on telling, both func(string) []Break) {
	x, y := &a.Payload, &b.Payload
	if x.Format != y.Format {
		on(Changed, "payload/format", string(x.Format), string(y.Format), both("writes or reads the other format")...)
		return
	}
	tell := func(kind Kind, key string, old, now any) {
		var breaks []Break
		if kind == Narrowed || kind == Changed {
			breaks = append(breaks, publisher(b, "may send what is not allowed any longer")...)
		}
		if kind == Widened || kind == Changed {
			breaks = append(breaks, consumers(b, "may get what it does not know")...)
		}
		on(kind, "payload/"+key, old, now, breaks...)
	}
	old, now := written(x), written(y)
	for _, key := range sorted(union(old, now)) {
		p, q := old[key], now[key]
		if key == "schema" || contract.SameText(p) == contract.SameText(q) {
			continue
		}
		switch key {
		case "values", "first-character":
			texts(tell, on, key, p, q)
		case "minimum", "maximum":
			limit(tell, key, p, q)
		case "max-size":
			limit(tell, "max-size", p, q)
		case "pattern":
			tell(kindOf(p == nil, q == nil), key, p, q)
		default: // suffix, unit, root, paths, file, message, byte-order, fields, media-type
			on(Changed, "payload/"+key, p, q, both("writes or reads it as it was")...)
		}
	}
	if x.Format == payload.XML || x.Format == payload.Binary {
		return // their schemas are made of what was compared
	}
	s := schemas{tell: tell, note: func(key string, old, now any) { on(Changed, "payload/"+key, old, now) },
		unit: func(key string, old, now any) {
			on(Changed, "payload/"+key, old, now, both("takes it for the other")...)
		}}
	s.a, s.b = x.Bundle(), y.Bundle()
	s.compare(s.a, s.b, "schema", 0)
}

// written is what is written of a payload, by key.
func written(p *contract.Payload) map[string]any {
	out := map[string]any{}
	for _, m := range p.Tree() {
		out[m.Key] = m.Value
	}
	return out
}

func union(a, b map[string]any) map[string]bool {
	out := map[string]bool{}
	for _, m := range []map[string]any{a, b} {
		for k := range m {
			out[k] = true
		}
	}
	return out
}

// texts compares lists of allowed texts.
func texts(tell func(Kind, string, any, any), on telling, key string, p, q any) {
	old, now := object(p), object(q)
	switch {
	case len(old) == 0:
		tell(Narrowed, key, nil, names(now))
		return
	case len(now) == 0:
		tell(Widened, key, names(old), nil)
		return
	}
	for _, k := range sorted(old) {
		if _, still := now[k]; !still {
			tell(Narrowed, key, k, nil)
		} else if contract.SameText(old[k]) != contract.SameText(now[k]) {
			on(Changed, "payload/"+key+"/"+k, old[k], now[k])
		}
	}
	for _, k := range sorted(now) {
		if _, was := old[k]; !was {
			tell(Widened, key, nil, k)
		}
	}
}

func names(m map[string]any) string { return strings.Join(sorted(m), ", ") }

// limit compares bounds of numbers.
func limit(tell func(Kind, string, any, any), key string, p, q any) {
	x, y := number(p), number(q)
	lower := strings.HasPrefix(lastOf(key), "min") || strings.HasPrefix(lastOf(key), "exclusiveMin")
	kind := Changed
	switch {
	case x == nil:
		kind = Narrowed
	case y == nil:
		kind = Widened
	case x.Cmp(y) < 0 == lower:
		kind = Narrowed
	default:
		kind = Widened
	}
	tell(kind, key, p, q)
}

func lastOf(key string) string { return key[strings.LastIndex(key, "/")+1:] }

func number(v any) *big.Rat {
	var text string
	switch v := v.(type) {
	case json.Number:
		text = v.String()
	case string:
		text = strings.NewReplacer("KiB", "", "MiB", "").Replace(v)
		r, ok := new(big.Rat).SetString(strings.TrimSpace(text))
		if !ok {
			return nil
		}
		for unit, k := range map[string]int64{"KiB": 1 << 10, "MiB": 1 << 20} {
			if strings.HasSuffix(v, unit) {
				r.Mul(r, big.NewRat(k, 1))
			}
		}
		return r
	default:
		return nil
	}
	r, ok := new(big.Rat).SetString(text)
	if !ok {
		return nil
	}
	return r
}

// object is a mapping by key.
func object(v any) map[string]any {
	out := map[string]any{}
	switch v := v.(type) {
	case expression.Object:
		for _, m := range v {
			out[m.Key] = m.Value
		}
	case map[string]any:
		return v
	}
	return out
}

// schemas is a comparison of two schemas.
type schemas struct {
	a, b       any
	tell       func(kind Kind, key string, old, now any)
	note, unit func(key string, old, now any)
}

// maxDepth ends the comparison of schemas that contain themselves.
const maxDepth = 16

// resolve follows references within a schema.
func resolve(root, v any) any {
	for range maxDepth {
		ref, is := object(v)["$ref"].(string)
		if !is || len(object(v)) > 1 {
			return v
		}
		pointer, local := strings.CutPrefix(ref, "#")
		if !local {
			return v
		}
		at := root
		for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
			if part != "" {
				at = object(at)[strings.NewReplacer("~1", "/", "~0", "~").Replace(part)]
			}
		}
		if at == nil {
			return v
		}
		v = at
	}
	return v
}

// compare compares two schemas at one place.
func (s *schemas) compare(a, b any, at string, depth int) {
	a, b = resolve(s.a, a), resolve(s.b, b)
	if depth > maxDepth || same(a, b) {
		return
	}
	boolA, isA := a.(bool)
	boolB, isB := b.(bool)
	if a == nil {
		boolA, isA = true, true
	}
	if b == nil {
		boolB, isB = true, true
	}
	switch {
	case isA && boolA || isB && !boolB:
		s.tell(Narrowed, at, a, b)
		return
	case isB && boolB || isA && !boolA:
		s.tell(Widened, at, a, b)
		return
	}
	old, now := object(a), object(b)
	for _, key := range sorted(union(old, now)) {
		p, q := old[key], now[key]
		if same(p, q) {
			continue
		}
		here := at + "/" + key
		switch key {
		case "description", "title", "$comment", "default", "examples", "values":
			s.note(here, p, q)
		case "unit":
			s.unit(here, p, q)
		case "type":
			s.sets(here, kinds(p), kinds(q), p, q)
		case "enum":
			s.sets(here, list(p), list(q), p, q)
		case "required":
			s.required(here, list(p), list(q))
		case "properties":
			s.properties(here, old, now, depth)
		case "items", "additionalProperties", "propertyNames", "contains", "if", "then", "else", "not", "unevaluatedProperties", "unevaluatedItems":
			if key == "not" || key == "if" || contract.SameText(plain(p)) != contract.SameText(plain(q)) && (key == "then" || key == "else") {
				s.opaque(here, p, q)
				continue
			}
			s.compare(p, q, here, depth+1)
		case "allOf", "anyOf", "oneOf", "prefixItems":
			x, _ := p.([]any)
			y, _ := q.([]any)
			if len(x) != len(y) {
				s.tell(Changed, here, p, q)
				continue
			}
			for i := range x {
				s.compare(x[i], y[i], fmt.Sprintf("%s/%d", here, i), depth+1)
			}
		case "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "minLength", "maxLength", "minItems", "maxItems",
			"minProperties", "maxProperties":
			limit(s.tell, here, p, q)
		case "format", "pattern", "const", "uniqueItems", "multipleOf":
			s.tell(kindOf(p == nil, q == nil), here, p, q)
		case "$defs", "definitions", "$schema", "$id":
			// what they hold is compared where it is used
		default:
			s.tell(Changed, here, p, q)
		}
	}
}

// same tells whether two parts of schemas are the same for sure: alike, and with nothing in them that leads elsewhere.
func same(a, b any) bool {
	text := contract.SameText(plain(a))
	return text == contract.SameText(plain(b)) && !strings.Contains(text, `"$ref":`)
}

// opaque tells of a part whose meaning cannot be weighed by its parts; what it refers to may be another while it reads
// the same.
func (s *schemas) opaque(at string, p, q any) {
	if contract.SameText(plain(p)) != contract.SameText(plain(q)) {
		s.tell(Changed, at, p, q)
	}
}

// plain is a schema without the order of its keys.
func plain(v any) any {
	switch v := v.(type) {
	case expression.Object:
		out := map[string]any{}
		for _, m := range v {
			out[m.Key] = plain(m.Value)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plain(v[i])
		}
		return out
	}
	return v
}

func list(v any) (out []string) {
	each, _ := v.([]any)
	for _, x := range each {
		out = append(out, contract.SameText(plain(x)))
	}
	return out
}

// kinds are the types that a schema allows; a number may be an integer.
func kinds(v any) (out []string) {
	switch v := v.(type) {
	case string:
		out = []string{v}
	case []any:
		for _, x := range v {
			if text, is := x.(string); is {
				out = append(out, text)
			}
		}
	}
	if slices.Contains(out, "number") && !slices.Contains(out, "integer") {
		out = append(out, "integer")
	}
	return out
}

// sets compares what is allowed by lists; none allows all.
func (s *schemas) sets(at string, p, q []string, old, now any) {
	in := func(few, many []string) bool {
		return !slices.ContainsFunc(few, func(x string) bool { return !slices.Contains(many, x) })
	}
	switch {
	case old == nil || now != nil && in(q, p):
		s.tell(Narrowed, at, old, now)
	case now == nil || in(p, q):
		s.tell(Widened, at, old, now)
	default:
		s.tell(Changed, at, old, now)
	}
}

func (s *schemas) required(at string, p, q []string) {
	for _, x := range q {
		if !slices.Contains(p, x) {
			s.tell(Narrowed, at, nil, strings.Trim(x, `"`))
		}
	}
	for _, x := range p {
		if !slices.Contains(q, x) {
			s.tell(Widened, at, strings.Trim(x, `"`), nil)
		}
	}
}

// properties compares fields: those that are gone, those that are new, and those that both have.
func (s *schemas) properties(at string, old, now map[string]any, depth int) {
	p, q := object(old["properties"]), object(now["properties"])
	closed := func(m map[string]any) bool { is, said := m["additionalProperties"].(bool); return said && !is }
	for _, name := range sorted(union(p, q)) {
		x, was := p[name]
		y, is := q[name]
		here := at + "/" + name
		switch {
		case was && is:
			s.compare(x, y, here, depth+1)
		case was && closed(now):
			s.tell(Changed, here, describe(s.a, x), nil) // who sends it breaks it, who reads it misses it
		case was:
			s.tell(Widened, here, describe(s.a, x), nil)
		case closed(old):
			s.tell(Widened, here, nil, describe(s.b, y))
		default:
			s.note(here, nil, describe(s.b, y)) // those who do not know it leave it alone
		}
	}
}

// describe names a schema by its type.
func describe(root, v any) string {
	if t, is := object(resolve(root, v))["type"].(string); is {
		return t
	}
	return contract.Compact(v)
}
