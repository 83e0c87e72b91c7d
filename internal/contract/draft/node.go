package draft

import (
	"bytes"
	"encoding/json"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"hodstone/internal/payload"
)

// node is all values that were seen at one place of a payload.
type node struct {
	n       int
	formats map[payload.Format]int // at the root: what the bytes are of
	suffix  map[string]int         // at the root: behind numbers

	objects, arrays, bools, nulls, strings, whole int
	members                                       map[string]*node
	order                                         []string // of members, as they were first seen
	items                                         *node
	fields                                        *int // members in all, for the limit
	cut                                           bool // there were more

	numbers      []float64
	count        int // of numbers
	lo, hi       float64
	prev         float64
	rises, falls int          // from one to the next
	spans        [][2]float64 // the ranges of the topics that were joined

	texts   map[string]int
	many    bool // more different texts than are kept
	times   int  // that are date-times
	uuids   int
	shapes  map[string]int // texts with their digits as 0
	longest int
}

// take takes a payload in.
func (v *node) take(b []byte) {
	if v.formats == nil {
		v.formats, v.suffix, v.fields = map[payload.Format]int{}, map[string]int{}, new(int)
	}
	v.n++
	text := utf8.Valid(b) && bytes.IndexByte(b, 0) < 0
	if m := measured(b); m != nil && text {
		v.suffix[string(m[1])]++
		f, _ := strconv.ParseFloat(strings.TrimSuffix(string(b), string(m[1])), 64)
		v.number(f, string(b))
		v.text(string(b))
		v.formats[payload.Text]++
		return
	}
	if text {
		if !begins(b, "{[-0123456789\"<") { // a word, as true, false and null are taken to be
			v.formats[payload.Text]++
			v.text(string(b))
			return
		}
		if x, err := payload.Decode(payload.JSON, b); err == nil {
			switch x := x.(type) {
			case json.Number:
				v.formats[payload.Number]++
				v.value(x, 0)
				v.text(string(b))
				return
			default:
				v.formats[payload.JSON]++
				v.value(x, 0)
				return
			}
		}
		if begins(b, "<") {
			if _, err := payload.Decode(payload.XML, b); err == nil {
				v.formats[payload.XML]++
				return
			}
		}
		v.formats[payload.Text]++
		v.text(string(b))
		return
	}
	for _, f := range []payload.Format{payload.CBOR, payload.MessagePack} {
		if x, err := payload.Decode(f, b); err == nil && compound(x) {
			v.formats[f]++
			v.value(x, 0)
			return
		}
	}
	v.formats[payload.Binary]++
}

// begins tells whether the first character of a text, spaces aside, is one of some.
func begins(b []byte, some string) bool {
	b = bytes.TrimSpace(b)
	return len(b) > 0 && strings.IndexByte(some, b[0]) >= 0
}

// measured finds a number with a unit behind it; nil where it is none.
func measured(b []byte) [][]byte {
	if len(b) == 0 || b[0] != '-' && (b[0] < '0' || b[0] > '9') {
		return nil
	}
	return suffixed.FindSubmatch(b)
}

func compound(x any) bool {
	switch x.(type) {
	case map[string]any, []any:
		return true
	}
	return false
}

// format is the narrowest that all payloads are of.
func (v *node) format() payload.Format {
	f, n, all := most(v.formats)
	if n == all {
		return f
	}
	if v.formats[payload.Number]+v.formats[payload.JSON] == all {
		return payload.JSON
	}
	if v.formats[payload.Binary]+v.formats[payload.CBOR]+v.formats[payload.MessagePack] > 0 {
		return payload.Binary
	}
	return payload.Text
}

// print tells payloads of a kind from others: the format, and the fields of its object.
func (v *node) print() string {
	f := v.format()
	switch {
	case len(v.members) > 0:
		names := slices.Sorted(maps.Keys(v.members))
		// What is always there counts; the rest may not have come by yet.
		names = slices.DeleteFunc(names, func(n string) bool { return v.members[n].n < v.objects })
		return string(f) + " object " + strings.Join(names, ",")
	case f == payload.Number, f == payload.Text:
		return "scalar " + string(f) + " " + v.commonSuffix()
	}
	return string(f)
}

func (v *node) commonSuffix() string {
	s, n, _ := most(v.suffix)
	if n > 0 && n == v.n {
		return s
	}
	return ""
}

// value takes a decoded value in.
func (v *node) value(x any, depth int) {
	if depth > 0 {
		v.n++
	}
	if depth > maxNesting {
		v.cut = true
		return
	}
	switch x := x.(type) {
	case nil:
		v.nulls++
	case bool:
		v.bools++
	case json.Number:
		f, _ := x.Float64()
		v.number(f, x.String())
	case string:
		v.text(x)
	case []any:
		v.arrays++
		if v.items == nil {
			v.items = &node{fields: v.fields}
		}
		for _, y := range x[:min(len(x), 100)] {
			v.items.value(y, depth+1)
		}
	case map[string]any:
		v.objects++
		if v.members == nil {
			v.members = map[string]*node{}
		}
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if v.members[k] == nil {
				if *v.fields >= maxFields {
					v.cut = true
					continue
				}
				*v.fields++
				v.members[k] = &node{fields: v.fields}
				v.order = append(v.order, k)
			}
			v.members[k].value(x[k], depth+1)
		}
	}
}

func (v *node) number(f float64, written string) {
	switch {
	case v.count == 0:
		v.lo, v.hi = f, f
	case f > v.prev:
		v.rises++
	case f < v.prev:
		v.falls++
	}
	v.prev = f
	v.count++
	v.lo, v.hi = min(v.lo, f), max(v.hi, f)
	if f == math.Trunc(f) && !strings.ContainsAny(written, ".eE") {
		v.whole++
	}
	if len(v.numbers) < maxNumbers {
		v.numbers = append(v.numbers, f)
	} else {
		v.numbers[v.count%maxNumbers] = f
	}
}

func (v *node) text(s string) {
	v.strings++
	v.longest = max(v.longest, len(s))
	if v.texts == nil {
		v.texts, v.shapes = map[string]int{}, map[string]int{}
	}
	if _, known := v.texts[s]; known || len(v.texts) < maxTexts && len(s) < 200 {
		v.texts[s]++
	} else {
		v.many = true
	}
	const most = 60 // of the texts of which the shape is kept; times and UUIDs are shorter
	if len(s) >= most {
		return
	}
	if _, err := time.Parse(time.RFC3339Nano, s); err == nil {
		v.times++
	} else if uuid.MatchString(s) {
		v.uuids++
	}
	if len(v.shapes) < maxTexts {
		v.shapes[digits.ReplaceAllString(s, "0")]++
	}
}

// join adds what was seen elsewhere.
func (v *node) join(o *node) {
	for f, n := range o.formats {
		if v.formats == nil {
			v.formats, v.suffix = map[payload.Format]int{}, map[string]int{}
		}
		v.formats[f] += n
	}
	for s, n := range o.suffix {
		v.suffix[s] += n
	}
	if o.count > 0 {
		if v.count == 0 {
			v.lo, v.hi = o.lo, o.hi
		}
		v.lo, v.hi = min(v.lo, o.lo), max(v.hi, o.hi)
		v.rises, v.falls = v.rises+o.rises, v.falls+o.falls
		v.spans = append(v.spans, [2]float64{o.lo, o.hi})
	}
	v.n, v.objects, v.arrays, v.bools, v.nulls = v.n+o.n, v.objects+o.objects, v.arrays+o.arrays, v.bools+o.bools, v.nulls+o.nulls
	v.strings, v.whole, v.count, v.times, v.uuids = v.strings+o.strings, v.whole+o.whole, v.count+o.count, v.times+o.times, v.uuids+o.uuids
	v.longest, v.many, v.cut = max(v.longest, o.longest), v.many || o.many, v.cut || o.cut
	v.numbers = append(v.numbers, o.numbers...)
	for _, pair := range []struct {
		to   *map[string]int
		from map[string]int
	}{{&v.texts, o.texts}, {&v.shapes, o.shapes}} {
		if *pair.to == nil && pair.from != nil {
			*pair.to = map[string]int{}
		}
		for s, n := range pair.from {
			(*pair.to)[s] += n
		}
	}
	if o.items != nil {
		if v.items == nil {
			v.items = &node{}
		}
		v.items.join(o.items)
	}
	for _, k := range o.order {
		if v.members == nil {
			v.members = map[string]*node{}
		}
		if v.members[k] == nil {
			v.members[k] = &node{}
			v.order = append(v.order, k)
		}
		v.members[k].join(o.members[k])
	}
}
