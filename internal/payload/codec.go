// Package payload turns the bytes of a message into values and points into them: a codec per format.
package payload

import (
	"encoding/json"
	"fmt"
)

// Format is how a payload is encoded: the name of a codec.
type Format string

// The formats.
const (
	JSON   Format = "json"   // one JSON text (RFC 8259)
	Text   Format = "text"   // UTF-8
	Number Format = "number" // a decimal number as text
	Binary Format = "binary" // anything
)

// Codec is one payload format. Codecs are values without state.
type Codec interface {
	// Format is its name.
	Format() Format
	// Decode reads the bytes. The error is an [*Error].
	Decode(b []byte) (any, error)
	// Encode writes a value, as expressions and workspaces have it.
	Encode(v any) ([]byte, error)
	// Locate returns where in the bytes the value stands that a JSON Pointer names, as offsets, end excluded.
	Locate(b []byte, pointer string) (start, end int, ok bool)
}

// Codecs lists the codecs in the order in which help names their formats.
func Codecs() []Codec {
	return []Codec{jsonCodec{}, textCodec{}, NumberText{}, cborCodec{}, msgpackCodec{}, XMLText{}, rawCodec{}}
}

// Of returns the codec of a format; that of binary for one that is not known.
func Of(f Format) Codec {
	for _, c := range Codecs() {
		if c.Format() == f {
			return c
		}
	}
	return rawCodec{}
}

// Formats lists the formats in the order in which help names them.
func Formats() (out []Format) {
	for _, c := range Codecs() {
		out = append(out, c.Format())
	}
	return out
}

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
func Decode(f Format, b []byte) (any, error) { return Of(f).Decode(b) }

// plainly writes bytes and text as they are, and anything else as JSON.
func plainly(v any) ([]byte, error) {
	switch v := v.(type) {
	case []byte:
		return v, nil
	case string:
		return []byte(v), nil
	}
	return json.Marshal(v)
}

// whole locates the whole payload, which is all that formats without parts have.
func whole(b []byte, pointer string) (start, end int, ok bool) { return 0, len(b), pointer == "" }
