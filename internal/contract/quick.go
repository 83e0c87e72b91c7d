package contract

import (
	"bytes"
	"math/big"
	"reflect"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Limits of quick.
const (
	maxQuickDepth = 8
	maxQuickNames = 24       // names in one object
	maxQuickBytes = 16 << 10 // longer texts are rare
	// maxQuickDigits is how long a number may be.
	maxQuickDigits = 100
)

// quick is a schema reduced to what can be decided in one pass over a JSON text. It only
// ever says that a text is sound; whatever it is not sure of, the whole schema decides. Most
// of what comes is sound, so that most messages cost a tenth.
type quick struct {
	types        jsonTypes
	required     []string
	properties   []quickProperty
	least, most  *float64
	above, below *float64 // exclusive
	enum         []string
	pattern      jsonschema.Regexp
	dateTime     bool
	hasEnum      bool
	rough        [4]bool // the bounds that have no exact float64, in the order above
}

// quickProperty is a property of an object: there are few, which are looked through.
type quickProperty struct {
	name string
	is   *quick
}

// property returns what a property must be; nil where nothing is said of it.
func (q *quick) property(name []byte) *quick {
	for i := range q.properties {
		if q.properties[i].name == string(name) {
			return q.properties[i].is
		}
	}
	return nil
}

type jsonTypes byte

const (
	isObject jsonTypes = 1 << iota
	isArray
	isString
	isInteger
	isNumber
	isBoolean
	isNull
)

var jsonTypeNames = map[string]jsonTypes{
	"object":  isObject,
	"array":   isArray,
	"string":  isString,
	"integer": isInteger,
	"number":  isNumber,
	"boolean": isBoolean,
	"null":    isNull,
}

// quickKnows are the fields of a schema that quick takes into account, and those that say
// nothing about what is valid.
var quickKnows = map[string]bool{
	"DraftVersion":     true,
	"Location":         true,
	"ID":               true,
	"Anchor":           true,
	"Ref":              true,
	"Types":            true,
	"Enum":             true,
	"Format":           true,
	"Required":         true,
	"Properties":       true,
	"Pattern":          true,
	"Maximum":          true,
	"Minimum":          true,
	"ExclusiveMaximum": true,
	"ExclusiveMinimum": true,
	"Title":            true,
	"Description":      true,
	"Default":          true,
	"Comment":          true,
	"ReadOnly":         true,
	"WriteOnly":        true,
	"Examples":         true,
	"Deprecated":       true,
}

// newQuick reduces a schema, or returns nil where it says more than can be.
func newQuick(s *jsonschema.Schema, depth int) *quick {
	if s == nil || depth > maxQuickDepth {
		return nil
	}
	v := reflect.ValueOf(s).Elem()
	for i := range v.NumField() {
		if f := v.Type().Field(i); f.IsExported() && !quickKnows[f.Name] && !empty(v.Field(i)) {
			return nil
		}
	}
	if s.Ref != nil {
		if s.Types != nil || s.Enum != nil || s.Format != nil || len(s.Required)+len(s.Properties) > 0 ||
			s.Pattern != nil ||
			s.Maximum != nil ||
			s.Minimum != nil ||
			s.ExclusiveMaximum != nil ||
			s.ExclusiveMinimum != nil {
			return nil
		}
		return newQuick(s.Ref, depth+1)
	}
	q := &quick{
		required: s.Required,
		pattern:  s.Pattern,
		least:    float(s.Minimum),
		most:     float(s.Maximum),
		above:    float(s.ExclusiveMinimum),
		below:    float(s.ExclusiveMaximum),
	}
	if s.Types != nil {
		for _, name := range s.Types.ToStrings() {
			q.types |= jsonTypeNames[name]
		}
	}
	if s.Format != nil {
		if s.Format.Name != "date-time" {
			return nil
		}
		q.dateTime = true
	}
	if s.Enum != nil {
		q.hasEnum = true
		for _, e := range s.Enum.Values {
			text, ok := e.(string)
			if !ok {
				return nil
			}
			q.enum = append(q.enum, text)
		}
	}
	if len(s.Properties) > 0 {
		for name, p := range s.Properties {
			sub := newQuick(p, depth+1)
			if sub == nil || len(q.properties) == maxQuickNames {
				return nil
			}
			q.properties = append(q.properties, quickProperty{name, sub})
		}
	}
	for i, r := range []*big.Rat{s.Minimum, s.Maximum, s.ExclusiveMinimum, s.ExclusiveMaximum} {
		if r != nil {
			// A bound such as 0.1 has no exact float64; numbers beside it are left to the
			// whole schema.
			_, exact := r.Float64()
			q.rough[i] = !exact
		}
	}
	return q
}

func empty(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Map, reflect.Slice:
		return v.Len() == 0
	}
	return v.IsZero()
}

// accepts tells whether the text is JSON and certainly fits the schema.
func (q *quick) accepts(b []byte) bool {
	if q == nil || len(b) > maxQuickBytes {
		return false
	}
	t := text{b: b}
	t.space()
	if !t.value(q, 0) {
		return false
	}
	t.space()
	return t.at == len(b)
}

// text is a JSON text (RFC 8259) that is read once, from its beginning. Its methods tell whether what comes next is sound, and
// fits; they return false of much that may be, such as escapes and exponents.
type text struct {
	b  []byte
	at int
}

func (t *text) space() {
	for t.at < len(t.b) && (t.b[t.at] == ' ' || t.b[t.at] == '\n' || t.b[t.at] == '\r' || t.b[t.at] == '\t') {
		t.at++
	}
}

// next takes a character if it comes next, behind white space.
func (t *text) next(c byte) bool {
	t.space()
	if t.at < len(t.b) && t.b[t.at] == c {
		t.at++
		return true
	}
	return false
}

// value takes a value; q is nil where any will do.
func (t *text) value(q *quick, depth int) bool {
	if t.at >= len(t.b) || depth > maxQuickDepth {
		return false
	}
	switch t.b[t.at] {
	case '{':
		return (q == nil || q.allows(isObject) && !q.hasEnum) && t.object(q, depth)
	case '[':
		return (q == nil || q.allows(isArray) && !q.hasEnum) && t.array(depth)
	case '"':
		s, ok := t.str()
		return ok && (q == nil || q.allows(isString) && q.text(s))
	case 't':
		return (q == nil || q.allows(isBoolean) && !q.hasEnum) && t.word("true")
	case 'f':
		return (q == nil || q.allows(isBoolean) && !q.hasEnum) && t.word("false")
	case 'n':
		return (q == nil || q.allows(isNull) && !q.hasEnum) && t.word("null")
	}
	s, ok := t.number()
	return ok && (q == nil || q.number(s))
}

func (t *text) word(w string) bool {
	if !bytes.HasPrefix(t.b[t.at:], []byte(w)) {
		return false
	}
	t.at += len(w)
	return true
}

// object takes an object in which no name stands twice.
func (t *text) object(q *quick, depth int) bool {
	var found uint64
	var names [maxQuickNames][2]uint16 // where they stand
	if q != nil && len(q.required) > 64 {
		return false
	}
	t.at++
	for n := 0; !t.next('}'); n++ {
		if n == len(names) || n > 0 && !t.next(',') {
			return false
		}
		t.space()
		if t.at >= len(t.b) || t.b[t.at] != '"' {
			return false
		}
		begin := t.at + 1
		name, ok := t.str()
		if !ok || !t.next(':') {
			return false
		}
		for _, x := range names[:n] {
			if bytes.Equal(t.b[x[0]:x[1]], name) {
				return false
			}
		}
		names[n] = [2]uint16{uint16(begin), uint16(begin + len(name))}
		var p *quick
		if q != nil {
			for i, r := range q.required {
				if r == string(name) {
					found |= 1 << i
				}
			}
			p = q.property(name)
		}
		t.space()
		if !t.value(p, depth+1) {
			return false
		}
	}
	return q == nil || found == 1<<len(q.required)-1
}

func (t *text) array(depth int) bool {
	t.at++
	for n := 0; !t.next(']'); n++ {
		if n > 0 && !t.next(',') {
			return false
		}
		t.space()
		if !t.value(nil, depth+1) {
			return false
		}
	}
	return true
}

// str takes a string without escapes, and returns what stands between the quotes.
func (t *text) str() (s []byte, ok bool) {
	begin, ascii := t.at+1, true
	for i := begin; i < len(t.b); i++ {
		c := t.b[i]
		if !special[c] {
			continue
		}
		switch {
		case c == '"':
			t.at = i + 1
			s = t.b[begin:i]
			return s, ascii || utf8.Valid(s)
		case c < utf8.RuneSelf:
			return nil, false
		}
		ascii = false
	}
	return nil, false
}

// special are the bytes that do not simply belong to a string.
var special = func() (out [256]bool) {
	for c := range out {
		out[c] = c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf
	}
	return out
}()

// number takes a number without an exponent.
func (t *text) number() (s []byte, ok bool) {
	digits := func() (n int) {
		for t.at < len(t.b) && t.b[t.at] >= '0' && t.b[t.at] <= '9' {
			t.at++
			n++
		}
		return n
	}
	begin := t.at
	if t.b[t.at] == '-' {
		t.at++
	}
	zero := t.at < len(t.b) && t.b[t.at] == '0'
	n := digits()
	if n == 0 || n > 1 && zero {
		return nil, false
	}
	if t.at < len(t.b) && t.b[t.at] == '.' {
		if t.at++; digits() == 0 {
			return nil, false
		}
	}
	if s = t.b[begin:t.at]; len(s) > maxQuickDigits || t.at < len(t.b) && (t.b[t.at] == 'e' || t.b[t.at] == 'E') {
		return nil, false
	}
	return s, true
}

func (q *quick) allows(t jsonTypes) bool { return q.types == 0 || q.types&t != 0 }

func (q *quick) text(s []byte) bool {
	if q.hasEnum {
		found := false
		for _, e := range q.enum {
			found = found || e == string(s)
		}
		if !found {
			return false
		}
	}
	if q.dateTime && !plainDateTime(s) {
		return false
	}
	return q.pattern == nil || q.pattern.MatchString(string(s))
}

// plainDateTime tells whether s is a time of RFC 3339 §5.6 as programs write it, without leap
// seconds or small letters.
func plainDateTime(s []byte) bool {
	const form = "0000-00-00T00:00:00"
	if len(s) <= len(form) {
		return false
	}
	for i := range len(form) {
		if digit := s[i] >= '0' && s[i] <= '9'; digit != (form[i] == '0') || !digit && s[i] != form[i] {
			return false
		}
	}
	tail := s[len(form):]
	if tail[0] == '.' {
		n := 1
		for n < len(tail) && tail[n] >= '0' && tail[n] <= '9' {
			n++
		}
		if tail = tail[n:]; n == 1 {
			return false
		}
	}
	two := func(s []byte) int { // -1 where they are no digits
		if s[0] < '0' || s[0] > '9' || s[1] < '0' || s[1] > '9' {
			return -1
		}
		return int(s[0]-'0')*10 + int(s[1]-'0')
	}
	within := func(n, least, most int) bool { return n >= least && n <= most }
	if string(tail) != "Z" && (len(tail) != 6 || tail[0] != '+' && tail[0] != '-' || tail[3] != ':' ||
		!within(two(tail[1:]), 0, 23) || !within(two(tail[4:]), 0, 59)) {
		return false
	}
	year, month, day := two(s)*100+two(s[2:]), two(s[5:]), two(s[8:])
	if !within(month, 1, 12) || !within(two(s[11:]), 0, 23) || !within(two(s[14:]), 0, 59) ||
		!within(two(s[17:]), 0, 59) {
		return false
	}
	const shortest = 28
	return within(day, 1, shortest) ||
		within(day, 1, time.Date(year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day())
}

// number compares with some room around the bounds, where float64 is not exact.
func (q *quick) number(s []byte) bool {
	switch {
	case q.hasEnum:
		return false
	case q.types != 0 && q.types&isNumber == 0 && (q.types&isInteger == 0 || bytes.IndexByte(s, '.') >= 0):
		return false
	}
	if q.least == nil && q.most == nil && q.above == nil && q.below == nil {
		return true
	}
	x, err := strconv.ParseFloat(string(s), 64)
	if err != nil {
		return false
	}
	room := func(bound int) float64 {
		if q.rough[bound] || len(s) > 15 {
			return 1e-9 * max(1, x, -x)
		}
		return 0
	}
	return (q.least == nil || x >= *q.least+room(0)) && (q.most == nil || x <= *q.most-room(1)) &&
		(q.above == nil || x > *q.above+room(2)) && (q.below == nil || x < *q.below-room(3))
}
