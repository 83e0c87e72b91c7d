package draft

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// Limits of what is kept of values.
const (
	maxNumbers = 512
	maxFields  = 200 // of one topic, in all
	maxNesting = 12
)

var suffixed = regexp.MustCompile(`^-?[0-9]+(?:\.[0-9]+)?(\s*[^\s0-9.eE+-][^0-9]{0,7})$`)

var (
	uuid   = regexp.MustCompile(`^[0-9a-fA-F]{8}-([0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}$`)
	digits = regexp.MustCompile(`[0-9]`)
)

// units are what names of fields end with, and the unit that they stand for.
var units = []struct{ ending, unit string }{
	{"celsius", "°C"},
	{"kelvin", "K"},
	{"fahrenheit", "°F"},
	{"percent", "%"},
	{"pct", "%"},
	{"kgmin", "kg/min"},
	{"mgl", "mg/l"},
	{"gkg", "g/kg"},
	{"kg", "kg"},
	{"tonnes", "t"},
	{"gram", "g"},
	{"grams", "g"},
	{"hpa", "hPa"},
	{"kpa", "kPa"},
	{"mbar", "mbar"},
	{"bar", "bar"},
	{"_pa", "Pa"},
	{"litres", "l"},
	{"liters", "l"},
	{"_l", "l"},
	{"_mm", "mm"},
	{"_cm", "cm"},
	{"_m", "m"},
	{"metres", "m"},
	{"_ms", "ms"},
	{"millis", "ms"},
	{"_s", "s"},
	{"seconds", "s"},
	{"minutes", "min"},
	{"volts", "V"},
	{"_v", "V"},
	{"_mv", "mV"},
	{"amps", "A"},
	{"_a", "A"},
	{"_ma", "mA"},
	{"watts", "W"},
	{"_w", "W"},
	{"kwh", "kWh"},
	{"_kw", "kW"},
	{"_hz", "Hz"},
	{"rpm", "1/min"},
	{"ppm", "ppm"},
	{"lux", "lx"},
	{"degrees", "°"},
	{"_deg", "°"},
}

// prefixes are those of the SI that stand written out before a unit: millivolts.
var prefixes = []struct{ word, symbol string }{
	{"nano", "n"},
	{"micro", "µ"},
	{"milli", "m"},
	{"centi", "c"},
	{"hecto", "h"},
	{"kilo", "k"},
	{"mega", "M"},
	{"giga", "G"},
}

// prefixOf is the symbol of the prefix with which a name goes on before its unit; "" for none.
func prefixOf(before string) string {
	for _, p := range prefixes {
		if strings.HasSuffix(strings.TrimRight(before, "_"), p.word) {
			return p.symbol
		}
	}
	return ""
}

var capital = regexp.MustCompile(`([a-z0-9])([A-Z])`)

// unitOf is the unit that a field's name speaks of; "" for none.
func unitOf(name string) string {
	low := strings.ToLower(capital.ReplaceAllString(name, "${1}_$2"))
	low = "_" + strings.NewReplacer("-", "_", ".", "_", " ", "_").Replace(low)
	for _, u := range units {
		if strings.HasPrefix(u.ending, "_") && strings.LastIndex(low, "_") == 0 {
			continue // a letter by itself is no unit
		}
		if strings.HasSuffix(low, "_"+strings.TrimPrefix(u.ending, "_")) ||
			len(u.ending) > 4 && strings.HasSuffix(low, u.ending) {
			return prefixOf(strings.TrimSuffix(low, strings.TrimPrefix(u.ending, "_"))) + u.unit
		}
	}
	return ""
}

// far is by how many times the middle half's width a value lies outside of it to be told as an outlier; rare is the
// share that outliers have at most, and seldom that of those which come from one of several topics alone.
const (
	far    = 3
	rare   = 0.01
	seldom = 0.1
)

// bounds are the range of the numbers, without outliers, and how many of these there are.
func (v *node) bounds() (lo, hi float64, out int) {
	all := slices.Clone(v.numbers)
	slices.Sort(all)
	n := len(all)
	if n < 20 {
		return v.lo, v.hi, 0
	}
	q1, q3 := all[n/4], all[n*3/4]
	if q1 == q3 {
		return v.lo, v.hi, 0 // it mostly stands still
	}
	least, largest := q1-far*(q3-q1), q3+far*(q3-q1)
	from, _ := slices.BinarySearch(all, least)
	to := n
	for to > 0 && all[to-1] > largest {
		to--
	}
	sources := 0
	for _, s := range v.spans {
		sources += flag(s[0] < least || s[1] > largest)
	}
	share := float64(from+n-to) / float64(n)
	if share == 0 || share > rare && (share > seldom || sources != 1 || len(v.spans) < 3) {
		return v.lo, v.hi, 0
	}
	return all[from], all[to-1], from + n - to
}

// nice is the next larger of 1, 2, 5, 10, 20, 50 …
func nice(f float64) float64 {
	if f <= 0 {
		return 0
	}
	p := math.Pow(10, math.Floor(math.Log10(f)))
	for _, k := range []float64{1, 2, 5, 10} {
		if f <= k*p*(1+1e-9) {
			return k * p
		}
	}
	return 10 * p
}

// room is by how much a range is wider than what was seen: in a few minutes not all was.
const room = 1.25

// outwards rounds a range to what a person would write: from 0 where nothing is below.
func outwards(lo, hi float64) (float64, float64) {
	low, high := 0.0, 0.0
	if lo < 0 {
		low = -nice(-lo * room)
	}
	if hi > 0 {
		high = nice(hi * room)
	}
	return low, high
}

func numeral(f float64) json.Number { return json.Number(strconv.FormatFloat(f, 'f', -1, 64)) }

// finding is what is made of a place, with what is to be told of it.
type finding struct {
	notes   map[string][]string // comments by the pointer within the schema
	outlier []string
}

func (x *finding) note(at, format string, args ...any) {
	x.notes[at] = append(x.notes[at], fmt.Sprintf(format, args...))
}

// schema makes a JSON Schema of what was seen at a place; name is the field's.
func (x *finding) schema(v *node, name, at string) expression.Object {
	var out expression.Object
	put := func(key string, value any) { out = append(out, expression.Member{Key: key, Value: value}) }
	var types []any
	texts := v.strings - v.formats[payload.Number] // a payload that is a number was kept as a text too
	for _, t := range []struct {
		name string
		n    int
	}{{"object", v.objects}, {"array", v.arrays}, {"string", texts}, {"boolean", v.bools}, {"null", v.nulls}} {
		if t.n > 0 {
			types = append(types, t.name)
		}
	}
	if v.count > 0 {
		if v.whole == v.count {
			types = append(types, "integer")
		} else {
			types = append(types, "number")
		}
	}
	switch len(types) {
	case 0:
		if v.cut {
			x.note(at, "? it goes on deeper than was looked at")
		}
		return out
	case 1:
		put("type", types[0])
	default:
		put("type", types)
		x.note(at, "? of several types")
	}
	if v.objects > 0 {
		x.object(v, at, put)
	}
	if v.arrays > 0 && v.items != nil && v.items.n > 0 {
		put("items", x.schema(v.items, name, at+"/items"))
	}
	if texts > 0 && len(types) == 1 {
		x.strings(v, at, put)
	}
	if v.count > 0 {
		lo, hi := x.limits(v, at, put)
		if lo == 0 && hi == 1 && v.whole == v.count {
			x.note(at, "? 0 and 1: no and yes?")
		}
		if u := unitOf(name); u != "" {
			put("unit", u)
		}
	}
	return out
}

// known is how many numbers say something of their range.
const known = 10

// limits puts the range of numbers, and tells of what lies outside. It returns what was seen.
func (x *finding) limits(v *node, at string, put func(string, any)) (lo, hi float64) {
	lo, hi, out := v.bounds()
	if out > 0 {
		where := strings.ReplaceAll(strings.TrimPrefix(at, "/properties/"), "/properties/", "/")
		x.outlier = append(
			x.outlier,
			strings.TrimPrefix(fmt.Sprintf("%s: %d of %d lie outside %v … %v, between %v and %v", where,
				out, len(v.numbers), lo, hi, v.lo, v.hi), ": "),
		)
		x.note(at, "? %d of %d lie far outside, between %v and %v: breaches?", out, len(v.numbers), v.lo, v.hi)
	}
	low, high := outwards(lo, hi)
	put("minimum", numeral(low))
	switch {
	case v.rises >= 3 && v.falls == 0:
		x.note(at, "? counts up: from %v to %v in %d", v.lo, v.hi, v.count)
	case v.count < known:
		x.note(at, "? from %v to %v in only %d", v.lo, v.hi, v.count)
	default:
		put("maximum", numeral(high))
		x.note(at, "from %v to %v in %d", v.lo, v.hi, v.count)
	}
	return lo, hi
}

func (x *finding) object(v *node, at string, put func(string, any)) {
	var required []any
	properties := expression.Object{}
	for _, k := range v.order {
		m := v.members[k]
		here := at + "/properties/" + k
		if m.n == v.objects {
			required = append(required, k)
		} else {
			x.note(here, "%d of %d", m.n, v.objects)
		}
		properties = append(properties, expression.Member{Key: k, Value: x.schema(m, k, here)})
	}
	if len(required) > 0 {
		put("required", required)
	}
	put("properties", properties)
	if v.cut {
		x.note(at, "? there are more fields than were looked at")
	}
}

// often is how often each listed value was seen on average, at least; and how many of them there are at most.
const (
	often  = 4
	listed = 8
)

func (x *finding) strings(v *node, at string, put func(string, any)) {
	shape, n, _ := most(v.shapes)
	switch {
	case v.times == v.strings:
		put("format", "date-time")
	case v.uuids == v.strings:
		put("format", "uuid")
	case n == v.strings && strings.Contains(shape, "0") && len(v.texts) > 1:
		put("pattern", patternOf(shape))
		x.note(at, "all %d are of one shape", n)
	case !v.many && len(v.texts) > 1 && len(v.texts) <= listed && v.strings >= often*len(v.texts):
		var values []any
		for _, s := range slices.Sorted(maps.Keys(v.texts)) {
			values = append(values, s)
		}
		put("enum", values)
		x.note(at, "%d values in %d", len(values), v.strings)
		if words(v.texts) {
			x.note(at, "? two words: no and yes?")
		}
	case !v.many && len(v.texts) == 1 && v.strings > 0:
		only, _, _ := most(v.texts)
		x.note(at, "always %q", payload.Clip(only, 40))
	}
}

// words tells whether texts are words for no and yes.
func words(texts map[string]int) bool {
	for _, pair := range [][2]string{{"yes", "no"}, {"true", "false"}, {"on", "off"}, {"y", "n"}, {"0", "1"}} {
		n := 0
		for s := range texts {
			if low := strings.ToLower(s); low == pair[0] || low == pair[1] {
				n++
			}
		}
		if n == 2 && len(texts) == 2 {
			return true
		}
	}
	return false
}

// patternOf is a regular expression for texts whose digits alone differ.
func patternOf(shape string) string {
	var b strings.Builder
	b.WriteByte('^')
	for i := 0; i < len(shape); {
		if shape[i] != '0' {
			j := i
			for j < len(shape) && shape[j] != '0' {
				j++
			}
			b.WriteString(regexp.QuoteMeta(shape[i:j]))
			i = j
			continue
		}
		j := i
		for j < len(shape) && shape[j] == '0' {
			j++
		}
		fmt.Fprintf(&b, "[0-9]{%d}", j-i)
		i = j
	}
	b.WriteByte('$')
	return b.String()
}
