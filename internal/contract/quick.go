package contract

import (
	"encoding/json"
	"math/big"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/tidwall/gjson"
)

// Limits of quick.
const (
	maxQuickDepth = 8
	maxQuickNames = 24       // names in one object
	maxQuickBytes = 16 << 10 // no longer text is nested as deep as to be a matter
)

// quick is a schema reduced to what can be decided in one pass over a JSON text. It only
// ever says that a text is sound; whatever it is not sure of, the whole schema decides. Most
// of what comes is sound, so that most messages cost a tenth.
type quick struct {
	types        jsonTypes
	required     []string
	properties   map[string]*quick
	least, most  *float64
	above, below *float64 // exclusive
	enum         []string
	pattern      jsonschema.Regexp
	dateTime     bool
	hasEnum      bool
	rough        [4]bool // the bounds that have no exact float64, in the order above
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
		q.properties = make(map[string]*quick, len(s.Properties))
		for name, p := range s.Properties {
			sub := newQuick(p, depth+1)
			if sub == nil {
				return nil
			}
			q.properties[name] = sub
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
	return q != nil && len(b) > 0 && len(b) <= maxQuickBytes && !largeNumbers(b) && utf8.Valid(b) &&
		gjson.ValidBytes(b) &&
		q.fits(gjson.ParseBytes(b))
}

// largeNumbers tells whether there may be numbers out of range: any with an exponent, or with
// very many digits. It does not look at where strings begin and end.
func largeNumbers(b []byte) bool {
	digits := 0
	for _, c := range b {
		switch {
		case c >= '0' && c <= '9':
			if digits++; digits > 100 {
				return true
			}
			continue
		case (c == 'e' || c == 'E') && digits > 0:
			return true
		case c == '.' && digits > 0:
			digits++ // the fraction belongs to the number
			continue
		}
		digits = 0
	}
	return false
}

func (q *quick) fits(r gjson.Result) bool {
	switch r.Type {
	case gjson.JSON:
		if r.IsObject() {
			return q.allows(isObject) && !q.hasEnum && q.object(r)
		}
		return q.allows(isArray) && !q.hasEnum && strings.IndexByte(r.Raw, '{') < 0
	case gjson.String:
		return q.allows(isString) && q.text(r)
	case gjson.Number:
		return q.number(r)
	case gjson.True, gjson.False:
		return q.allows(isBoolean) && !q.hasEnum
	}
	return q.allows(isNull) && !q.hasEnum
}

func (q *quick) allows(t jsonTypes) bool { return q.types == 0 || q.types&t != 0 }

func (q *quick) object(r gjson.Result) bool {
	var found uint64
	good := len(q.required) <= 64
	var names [maxQuickNames]string
	n := 0
	r.ForEach(func(k, v gjson.Result) bool {
		// A name that stands twice is a breach of the format; so it may be within what is not looked into.
		if n == len(names) || strings.IndexByte(k.Raw, '\\') >= 0 || slices.Contains(names[:n], k.Str) ||
			v.Type == gjson.JSON && (q.properties[k.Str] == nil || !v.IsObject()) &&
				strings.IndexByte(v.Raw, '{') >= 0 {
			good = false
			return false
		}
		names[n] = k.Str
		n++
		for i, name := range q.required {
			if name == k.Str {
				found |= 1 << i
			}
		}
		if p := q.properties[k.Str]; p != nil {
			good = p.fits(v)
		}
		return good
	})
	return good && found == 1<<len(q.required)-1
}

func (q *quick) text(r gjson.Result) bool {
	if strings.IndexByte(r.Raw, '\\') >= 0 {
		return false // escapes are left to the whole schema
	}
	if q.hasEnum {
		found := false
		for _, e := range q.enum {
			found = found || e == r.Str
		}
		if !found {
			return false
		}
	}
	if q.dateTime && !plainDateTime(r.Str) {
		return false
	}
	return q.pattern == nil || q.pattern.MatchString(r.Str)
}

// plainDateTime tells whether s is a time of RFC 3339 §5.6 as programs write it, without leap
// seconds or small letters.
func plainDateTime(s string) bool {
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
		digits := strings.TrimLeft(tail[1:], "0123456789")
		if len(digits) == len(tail)-1 {
			return false
		}
		tail = digits
	}
	if tail != "Z" && (len(tail) != 6 || tail[0] != '+' && tail[0] != '-' || tail[3] != ':' || tail[1:3] > "23") {
		return false
	}
	_, err := time.Parse(time.RFC3339, s)
	return err == nil
}

// number compares with some room around the bounds, where float64 is not exact.
func (q *quick) number(r gjson.Result) bool {
	switch {
	case q.hasEnum:
		return false
	case q.types != 0 && q.types&isNumber == 0 && (q.types&isInteger == 0 || strings.ContainsAny(r.Raw, ".eE")):
		return false
	}
	if q.least == nil && q.most == nil && q.above == nil && q.below == nil {
		return true
	}
	x, err := json.Number(r.Raw).Float64()
	if err != nil {
		return false
	}
	room := func(bound int) float64 {
		if q.rough[bound] || len(r.Raw) > 15 {
			return 1e-9 * max(1, x, -x)
		}
		return 0
	}
	return (q.least == nil || x >= *q.least+room(0)) && (q.most == nil || x <= *q.most-room(1)) &&
		(q.above == nil || x > *q.above+room(2)) && (q.below == nil || x < *q.below-room(3))
}
