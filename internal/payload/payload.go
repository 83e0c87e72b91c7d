package payload

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Plain turns the numbers of a decoded value into float64, for use in expressions.
func Plain(v any) any {
	switch v := v.(type) {
	case json.Number:
		f, _ := v.Float64()
		return f
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Plain(v[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[k] = Plain(x)
		}
		return out
	}
	return v
}

// Named is an object that is no map, such as one that keeps the order of its members.
type Named interface {
	// Member returns the value of a member.
	Member(name string) (any, bool)
}

// At returns the part of a decoded value that a JSON Pointer (RFC 6901) names. Objects are maps of strings, or [Named].
func At(v any, pointer string) (any, bool) {
	if pointer == "" {
		return v, true
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		switch x := v.(type) {
		case map[string]any:
			next, ok := x[part]
			if !ok {
				return nil, false
			}
			v = next
		case Named:
			next, ok := x.Member(part)
			if !ok {
				return nil, false
			}
			v = next
		case []any:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(x) {
				return nil, false
			}
			v = x[i]
		default:
			return nil, false
		}
	}
	return v, true
}

// Pointer joins parts to a JSON Pointer.
func Pointer(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteByte('/')
		b.WriteString(strings.NewReplacer("~", "~0", "/", "~1").Replace(p))
	}
	return b.String()
}

// Show writes a payload on one line for people, at most width characters long: text as
// it is with control characters escaped, anything else as its size and first bytes.
func Show(b []byte, width int) string {
	if len(b) == 0 {
		return "(empty)"
	}
	if utf8.Valid(b) {
		s := strconv.QuoteToGraphic(string(b[:min(len(b), 4*width)]))
		s = strings.ReplaceAll(s[1:len(s)-1], `\"`, `"`)
		return Clip(s, width)
	}
	return Clip(fmt.Sprintf("%d bytes: % x", len(b), b[:min(len(b), width)]), width)
}

// ShowBytes writes a payload that is no text on one line for people, in hexadecimal, at most width characters long.
func ShowBytes(b []byte, width int) string {
	if len(b) == 0 {
		return "(empty)"
	}
	return Clip(fmt.Sprintf("% x", b[:min(len(b), width)]), width)
}

// Keep returns bytes to be kept for people to look at: those of a long payload are a copy of its
// first most, so that the rest is not held by it.
func Keep(b []byte, most int) []byte {
	if len(b) <= most {
		return b
	}
	return bytes.Clone(b[:most])
}

// Clip cuts s to width characters, with an ellipsis where something is lost.
func Clip(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:max(0, width-1)]) + "…"
}
