// Package payload turns the bytes of a message into values and points into them.
package payload

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Format is how a payload is encoded.
type Format string

// The formats.
const (
	JSON   Format = "json"   // one JSON text (RFC 8259)
	Text   Format = "text"   // UTF-8
	Number Format = "number" // a decimal number as text
	Binary Format = "binary" // anything
)

// Formats lists the formats in the order in which help names them.
var Formats = []Format{JSON, Text, Number, Binary}

// Error tells why bytes are not of a format.
type Error struct {
	Format Format
	Offset int    // bytes from the payload's first
	Reason string // in plain words
}

// Error says it on one line.
func (e *Error) Error() string {
	return fmt.Sprintf("not %s: %s (byte %d)", e.Format, e.Reason, e.Offset)
}

// Decode reads the payload. JSON gives nil, bool, [json.Number], string, []any and
// map[string]any; text gives string; number gives [json.Number]; binary gives
// []byte. The error is an [*Error].
func Decode(f Format, b []byte) (any, error) {
	switch f {
	case JSON:
		return decodeJSON(b)
	case Text, Number:
		if i := bytes.IndexByte(b, 0); i >= 0 {
			return nil, &Error{f, i, nulReason(b[i:])}
		}
		if !utf8.Valid(b) {
			return nil, &Error{f, invalidAt(b), "the bytes are not UTF-8"}
		}
		if f == Text {
			return string(b), nil
		}
		s := strings.TrimSpace(string(b))
		if _, err := strconv.ParseFloat(s, 64); err != nil || strings.ContainsAny(s, "xXpP_iInN") {
			return nil, &Error{f, 0, fmt.Sprintf("%.40q is no decimal number", b)}
		}
		return json.Number(s), nil
	}
	return b, nil
}

func invalidAt(b []byte) int {
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return len(b)
}

func nulReason(tail []byte) string {
	if len(bytes.Trim(tail, "\x00")) == 0 {
		return fmt.Sprintf("%d NUL bytes at the end; was the whole buffer sent instead of the text in it?", len(tail))
	}
	return "a NUL byte"
}

func decodeJSON(b []byte) (any, error) {
	if len(b) == 0 {
		return nil, &Error{JSON, 0, "the payload is empty"}
	}
	if !utf8.Valid(b) {
		return nil, &Error{JSON, invalidAt(b), "the bytes are not UTF-8"}
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		at := int(d.InputOffset())
		var syntax *json.SyntaxError
		reason := err.Error()
		if errors.As(err, &syntax) {
			at = max(0, int(syntax.Offset)-1)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			at, reason = len(b), "the text ends too early"
		}
		return nil, &Error{JSON, at, reason}
	}
	at := int(d.InputOffset())
	if rest := b[at:]; len(bytes.TrimSpace(rest)) > 0 {
		if rest[0] == 0 {
			return nil, &Error{JSON, at, nulReason(rest)}
		}
		return nil, &Error{JSON, at, "something follows the JSON text"}
	}
	if name, at := doubled(b); name != "" {
		return nil, &Error{JSON, at, fmt.Sprintf("the name %.60q stands twice in one object: which value counts is not defined (RFC 8259 §4)", name)}
	}
	if n := beyond(v); n != "" {
		return nil, &Error{JSON, max(0, bytes.Index(b, []byte(n))), fmt.Sprintf("the number %.40s is out of range: programs that compute with it in double precision cannot hold it (RFC 8259 §6)", n)}
	}
	return v, nil
}

// doubled returns a name that stands twice in one object of a JSON text that is sound otherwise, and where it
// stands again; the empty name is told as "".
func doubled(b []byte) (name string, at int) {
	if bytes.IndexByte(b, '{') < 0 {
		return "", 0
	}
	d := jsontext.NewDecoder(bytes.NewReader(b), jsontext.AllowDuplicateNames(false))
	var syntax *jsontext.SyntacticError
	for {
		_, err := d.ReadToken()
		switch {
		case err == nil:
			continue
		case errors.As(err, &syntax) && errors.Is(err, jsontext.ErrDuplicateName):
			return syntax.JSONPointer.LastToken(), min(int(syntax.ByteOffset), len(b))
		}
		return "", 0
	}
}

// The bounds of numbers: those of a double are e±308 with 17 digits. Numbers far beyond can
// stop or crash whoever computes with them exactly.
const (
	maxExponent = 400
	maxDigits   = 400
)

// beyond returns a number in the value that is out of range, or "".
func beyond(v any) string {
	switch v := v.(type) {
	case json.Number:
		s := string(v)
		i := strings.IndexAny(s, "eE")
		if i >= 0 {
			if e, err := strconv.Atoi(s[i+1:]); err != nil || e > maxExponent || e < -maxExponent {
				return s
			}
		}
		if len(s) > maxDigits {
			return s
		}
	case []any:
		for _, x := range v {
			if n := beyond(x); n != "" {
				return n
			}
		}
	case map[string]any:
		for _, x := range v {
			if n := beyond(x); n != "" {
				return n
			}
		}
	}
	return ""
}

// TwiceEncoded tells whether a decoded JSON value is a string that holds a JSON object
// or array: a common mistake of firmware that encodes what is encoded already.
func TwiceEncoded(v any) bool {
	s, ok := v.(string)
	s = strings.TrimSpace(s)
	return ok && s != "" && (s[0] == '{' || s[0] == '[') && json.Valid([]byte(s))
}

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

// At returns the part of a decoded value that a JSON Pointer (RFC 6901) names.
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

// Locate returns where in the JSON text the value stands that the pointer names, as
// byte offsets, end excluded.
func Locate(b []byte, pointer string) (start, end int, ok bool) {
	if !json.Valid(b) { // only then does every token come with its end
		return 0, 0, false
	}
	d := json.NewDecoder(bytes.NewReader(b))
	return locate(d, b, "", pointer)
}

// locate reads the next value, whose own pointer is at.
func locate(d *json.Decoder, b []byte, at, want string) (start, end int, ok bool) {
	start = int(d.InputOffset())
	for start < len(b) && strings.IndexByte(" \t\r\n:,", b[start]) >= 0 {
		start++
	}
	tok, err := d.Token()
	if err != nil {
		return 0, 0, false
	}
	if open, is := tok.(json.Delim); is {
		for i := 0; d.More(); i++ {
			part := strconv.Itoa(i)
			if open == '{' {
				k, err := d.Token()
				if err != nil {
					return 0, 0, false
				}
				part, _ = k.(string)
			}
			if s, e, found := locate(d, b, at+Pointer(part), want); found {
				return s, e, true
			}
		}
		if _, err := d.Token(); err != nil {
			return 0, 0, false
		}
	}
	return start, int(d.InputOffset()), at == want
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

// Clip cuts s to width characters, with an ellipsis where something is lost.
func Clip(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:max(0, width-1)]) + "…"
}
