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

// jsonCodec is one JSON text (RFC 8259), each name once in an object.
type jsonCodec struct{}

func (jsonCodec) Format() Format { return JSON }

func (jsonCodec) Decode(b []byte) (any, error) { return decodeJSON(b) }

func (jsonCodec) Encode(v any) ([]byte, error) { return json.Marshal(v) }

func (jsonCodec) Locate(b []byte, pointer string) (start, end int, ok bool) {
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
		return nil, &Error{
			JSON,
			at,
			fmt.Sprintf(
				"the name %.60q stands twice in one object: which value counts is not defined (RFC 8259 §4)",
				name,
			),
		}
	}
	if n := beyond(v); n != "" {
		return nil, &Error{
			JSON,
			max(0, bytes.Index(b, []byte(n))),
			fmt.Sprintf(
				"the number %.40s is out of range: programs that compute with it in double precision cannot hold it (RFC 8259 §6)",
				n,
			),
		}
	}
	return v, nil
}

// doubled returns a name that stands twice in one object of a JSON text that is sound otherwise, and where it
// stands again; the empty name is told as "".
func doubled(b []byte) (name string, at int) {
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
