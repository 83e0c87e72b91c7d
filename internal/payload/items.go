package payload

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"reflect"
	"strconv"
	"strings"
)

// Formats of binary items (CBOR, MessagePack) hold what JSON holds, and some more. What follows makes JSON-like values
// of theirs, so that the same schemas fit.

// maxNesting is how deep values may be nested in formats that have no limit of their own.
const maxNesting = 64

// integer writes a whole number as JSON has it.
func integer[T int64 | uint64](n T) json.Number { return json.Number(fmt.Sprint(n)) }

// float writes a number as JSON has it; what JSON has no way to write is an error.
func float(f float64) (json.Number, error) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		return "", fmt.Errorf("%v is a value that JSON has no number for", f)
	}
	return json.Number(strconv.FormatFloat(f, 'g', -1, 64)), nil
}

// jsonLike makes of whatever expressions, devices and workspaces hold what a JSON decoder would give: json.Number for
// numbers, map[string]any for objects.
func jsonLike(v any) (any, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var out any
	err = d.Decode(&out)
	return out, err
}

// jsonInteger writes a whole number of any size.
func jsonInteger(n *big.Int) json.Number { return json.Number(n.String()) }

// mapType is what mappings are read into.
var mapType = reflect.TypeFor[map[string]any]()

// native turns the numbers of a JSON-like value into int64, uint64 or float64.
func native(v any) any {
	switch v := v.(type) {
	case json.Number:
		if i, err := strconv.ParseInt(string(v), 10, 64); err == nil && v != "-0" {
			return i
		}
		if u, err := strconv.ParseUint(string(v), 10, 64); err == nil {
			return u
		}
		f, _ := v.Float64()
		return f
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = native(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[k] = native(x)
		}
		return out
	}
	return v
}

// items takes a format of binary items apart: where each begins and ends.
type items interface {
	// open reads the head of the item at the beginning of b: how many items an array or a mapping holds, -1 where its
	// end is marked, and how long the head is. What is neither holds none.
	open(b []byte) (n int, mapping bool, head int)
	// skip returns how long the first item of b is.
	skip(b []byte) (int, error)
	// closes tells whether b begins with the mark of an end.
	closes(b []byte) bool
	// text is the text that is the first item of b, "" where that is none.
	text(b []byte) string
}

// locateItem finds what a JSON Pointer names among binary items.
func locateItem(f items, b []byte, pointer string) (start, end int, ok bool) {
	at := 0
	for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		if pointer == "" {
			break
		}
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		n, mapping, head := f.open(b[at:])
		at += head
		found := false
		for i := 0; (i < n || n < 0) && !found; i++ {
			if n < 0 && f.closes(b[at:]) {
				break
			}
			key := strconv.Itoa(i)
			if mapping {
				key = f.text(b[at:])
				size, err := f.skip(b[at:])
				if err != nil {
					return 0, 0, false
				}
				at += size
			}
			if found = key == part; !found {
				size, err := f.skip(b[at:])
				if err != nil {
					return 0, 0, false
				}
				at += size
			}
		}
		if !found {
			return 0, 0, false
		}
	}
	size, err := f.skip(b[at:])
	return at, at + size, err == nil
}
