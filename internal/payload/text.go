package payload

import (
	"bytes"
	"fmt"
	"unicode/utf8"
)

// textCodec is UTF-8 without NUL.
type textCodec struct{}

func (textCodec) Format() Format { return Text }

func (textCodec) Decode(b []byte) (any, error) {
	if err := textError(Text, b); err != nil {
		return nil, err
	}
	return string(b), nil
}

func (textCodec) Encode(v any) ([]byte, error) { return plainly(v) }

func (textCodec) Locate(b []byte, pointer string) (start, end int, ok bool) { return whole(b, pointer) }

// textError tells why bytes are no text; nil where they are.
func textError(f Format, b []byte) error {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		return &Error{f, i, nulReason(b[i:])}
	}
	if !utf8.Valid(b) {
		return &Error{f, invalidAt(b), "the bytes are not UTF-8"}
	}
	return nil
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

// behind says what it is that stands behind the end of a payload, a byte at least: the NUL bytes of a buffer, or what it is otherwise.
func behind(rest []byte, otherwise string) string {
	if len(bytes.Trim(rest, "\x00")) == 0 {
		return nulReason(rest)
	}
	return otherwise
}

func nulReason(tail []byte) string {
	if len(bytes.Trim(tail, "\x00")) == 0 {
		return fmt.Sprintf("%d NUL bytes at the end; was the whole buffer sent instead of the text in it?", len(tail))
	}
	return "a NUL byte"
}
