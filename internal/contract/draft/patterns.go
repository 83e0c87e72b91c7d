package draft

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// From how many values on a level is a parameter: values that look like one kind, and free words.
const (
	fewAlike = 2
	fewWords = 4
)

// shape is a topic pattern that is being found: each level is one name, or several that a parameter holds.
type shape struct {
	levels [][]string // sorted
	topics []*seen
	print  string // of the payload
	names  []string
}

// kinds are what values of a parameter look like.
var kinds = []struct {
	name string
	re   *regexp.Regexp
}{
	{"number", regexp.MustCompile(`^[0-9]+$`)},
	{"letter", regexp.MustCompile(`^[A-Za-z]$`)},
	{"numbered", regexp.MustCompile(`^([A-Za-z]+)[-_ .]?([0-9]+)$`)},
	{"uuid", regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)},
	{"address", regexp.MustCompile(`^[0-9a-fA-F]{2}([:-][0-9a-fA-F]{2}){3,7}$|^[0-9]{1,3}(\.[0-9]{1,3}){3}$`)},
	{"hexadecimal", regexp.MustCompile(`^[0-9a-fA-F]*[0-9][0-9a-fA-F]*$`)},
	{"serial", regexp.MustCompile(`^[A-Za-z]{1,4}[0-9]{3,}[A-Za-z0-9]*$`)},
}

// kindOf is the kind that all values are of, "" for free words. Those that are numbered have their word too.
func kindOf(values []string) string {
next:
	for _, k := range kinds {
		word := ""
		for i, v := range values {
			m := k.re.FindStringSubmatch(v)
			if m == nil {
				continue next
			}
			if k.name == "numbered" {
				if i > 0 && m[1] != word {
					continue next
				}
				word = m[1]
			}
		}
		if k.name == "hexadecimal" && len(values[0]) < 4 {
			continue
		}
		return k.name
	}
	return ""
}

// find groups the topics into patterns: few that explain them all.
func find(topics []*seen) []*shape {
	var all []*shape
	for _, s := range topics {
		x := &shape{topics: []*seen{s}, print: s.value.print()}
		for l := range strings.SplitSeq(s.name, "/") {
			x.levels = append(x.levels, []string{l})
		}
		all = append(all, x)
	}
	for changed := true; changed; {
		changed = false
		deepest := 0
		for _, x := range all {
			deepest = max(deepest, len(x.levels))
		}
		for i := range deepest {
			var merged bool
			if all, merged = merge(all, i); merged {
				changed = true
			}
		}
	}
	slices.SortStableFunc(all, func(a, b *shape) int { return strings.Compare(a.topics[0].name, b.topics[0].name) })
	return all
}

// merge joins shapes that differ at one level only.
func merge(all []*shape, level int) (out []*shape, merged bool) {
	groups := map[string][]*shape{}
	var order []string
	for _, x := range all {
		if level >= len(x.levels) {
			out = append(out, x)
			continue
		}
		k := x.key(level)
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], x)
	}
	for _, k := range order {
		group := groups[k]
		var values []string
		for _, x := range group {
			values = append(values, x.levels[level]...)
		}
		slices.Sort(values)
		values = slices.Compact(values)
		if len(group) == 1 || !isParameter(values, group) {
			out = append(out, group...)
			continue
		}
		joined := &shape{levels: slices.Clone(group[0].levels), print: group[0].print}
		joined.levels[level] = values
		for _, x := range group {
			joined.topics = append(joined.topics, x.topics...)
		}
		out, merged = append(out, joined), true
	}
	return out, merged
}

// key is the shape without one level: what must be the same for two to be joined.
func (x *shape) key(without int) string {
	var b strings.Builder
	for i, l := range x.levels {
		if i == without {
			b.WriteString("\x01")
		} else {
			b.WriteString(strings.Join(l, "\x02"))
		}
		b.WriteByte(0)
	}
	return b.String() + x.print
}

// isParameter tells whether values make a parameter. Words that come with a bare number or text each are rather names:
// temperature, level and flow are alike in that, and three things.
func isParameter(values []string, group []*shape) bool {
	if kindOf(values) != "" {
		return len(values) >= fewAlike
	}
	if len(values) < fewWords {
		return false
	}
	return !strings.HasPrefix(group[0].print, "scalar") || similar(group)
}

// similar tells whether bare values are of one range: each reaches into that of every other.
func similar(group []*shape) bool {
	lo, hi := []float64(nil), []float64(nil)
	for _, x := range group {
		for _, s := range x.topics {
			if len(s.value.numbers) == 0 {
				return false
			}
			lo, hi = append(lo, s.value.lo), append(hi, s.value.hi)
		}
	}
	return slices.Max(lo) <= slices.Min(hi)
}

// parameter is a named level with the values that were seen.
type parameter struct {
	name   string
	values []string
	whole  bool // each clause has them all
}

// parameters names the levels that hold several values. The same values at different places are the same parameter.
func parameters(all []*shape) map[string]*parameter {
	out := map[string]*parameter{}
	type place struct {
		x     *shape
		level int
	}
	var places []place
	for _, x := range all {
		for i, l := range x.levels {
			if len(l) > 1 {
				places = append(places, place{x, i})
			}
		}
	}
	// The largest sets first: what holds fewer of the same is the same parameter.
	slices.SortStableFunc(places, func(a, b place) int {
		return cmp.Compare(len(b.x.levels[b.level]), len(a.x.levels[a.level]))
	})
	for _, pl := range places {
		values, word := pl.x.levels[pl.level], nameOf(pl.x, pl.level)
		var found *parameter
		for _, name := range slices.Sorted(maps.Keys(out)) {
			p := out[name]
			if !within(values, p.values) || slices.Contains(pl.x.names, name) {
				continue
			}
			if base(name) == word || len(values) == len(p.values) && kindOf(values) != "number" {
				found = p
				break
			}
		}
		if found == nil {
			name := word
			for i := 2; out[name] != nil || slices.Contains(pl.x.names, name); i++ {
				name = word + strconv.Itoa(i)
			}
			found = &parameter{name: name, values: values, whole: true}
			out[name] = found
		}
		if len(values) < len(found.values) {
			found.whole = false
		}
		for len(pl.x.names) < len(pl.x.levels) {
			pl.x.names = append(pl.x.names, "")
		}
		pl.x.names[pl.level] = found.name
	}
	for _, x := range all {
		for len(x.names) < len(x.levels) {
			x.names = append(x.names, "")
		}
		// A level of one value that is one of a parameter's stays a name: nothing says that there are more.
	}
	return out
}

// base is a name without the number that tells it from another.
func base(name string) string { return strings.TrimRight(name, "0123456789") }

// within tells whether all of a sorted list is in another.
func within(few, many []string) bool {
	for _, v := range few {
		if _, there := slices.BinarySearch(many, v); !there {
			return false
		}
	}
	return true
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// nameOf is what a parameter is called: by its values' word, else by the level before it, in the singular.
func nameOf(x *shape, level int) string {
	if values := x.levels[level]; kindOf(values) == "numbered" {
		return strings.ToLower(kinds[2].re.FindStringSubmatch(values[0])[1])
	}
	for i := level - 1; i >= 0; i-- {
		if len(x.levels[i]) > 1 {
			continue
		}
		word := strings.Trim(notName.ReplaceAllString(strings.ToLower(x.levels[i][0]), "-"), "-0123456789")
		if word == "" {
			continue
		}
		word = singular(word)
		if i < level-1 {
			word += "-part"
		}
		return word
	}
	return "unit"
}

// singular is a word without its plural ending.
func singular(word string) string {
	switch {
	case strings.HasSuffix(word, "ies") && len(word) > 4:
		return word[:len(word)-3] + "y"
	case strings.HasSuffix(word, "sses"), strings.HasSuffix(word, "xes"), strings.HasSuffix(word, "ches"):
		return word[:len(word)-2]
	case strings.HasSuffix(word, "s") && !strings.HasSuffix(word, "ss") && !strings.HasSuffix(word, "us") && len(word) > 2:
		return word[:len(word)-1]
	}
	return word
}

// topic is the pattern as it is written.
func (x *shape) topic() string {
	out := make([]string, len(x.levels))
	for i, l := range x.levels {
		if out[i] = l[0]; x.names[i] != "" {
			out[i] = "{" + x.names[i] + "}"
		}
	}
	return strings.Join(out, "/")
}

// values are the parameters' values in a topic of the shape.
func (x *shape) values(topic string) map[string]string {
	out := map[string]string{}
	for i, l := range strings.Split(topic, "/") {
		if x.names[i] != "" {
			out[x.names[i]] = l
		}
	}
	return out
}
