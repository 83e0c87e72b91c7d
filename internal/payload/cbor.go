package payload

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"strings"

	"github.com/fxamacker/cbor/v2"
)

// CBOR is one data item (RFC 8949), read as the JSON value that it stands for (§6.1).
const CBOR Format = "cbor"

// cborCodec reads and writes CBOR: byte strings as base64url without padding, times as date-time, large numbers in
// full; undefined as null. Mappings have texts for keys, each once.
type cborCodec struct{}

func (cborCodec) Format() Format { return CBOR }

var cborIn = func() cbor.DecMode {
	m, err := cbor.DecOptions{
		DupMapKey:        cbor.DupMapKeyEnforcedAPF,
		MaxNestedLevels:  maxNesting,
		MaxArrayElements: 1 << 20,
		MaxMapPairs:      1 << 20,
		DefaultMapType:   mapType,
		UTF8:             cbor.UTF8RejectInvalid,
		BigIntDec:        cbor.BigIntDecodePointer,
		TimeTagToAny:     cbor.TimeTagToRFC3339Nano,
	}.DecMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return m
}()

func (c cborCodec) Decode(b []byte) (any, error) {
	if len(b) == 0 {
		return nil, &Error{CBOR, 0, "the payload is empty"}
	}
	var raw any
	rest, err := cborIn.UnmarshalFirst(b, &raw)
	if err != nil {
		return nil, &Error{CBOR, 0, cborReason(err)}
	}
	if len(rest) > 0 {
		return nil, &Error{CBOR, len(b) - len(rest), behind(rest, "something follows the data item")}
	}
	v, err := c.like(raw)
	if err != nil {
		return nil, &Error{CBOR, 0, err.Error()}
	}
	return v, nil
}

// cborReason words an error of the library.
func cborReason(err error) string {
	var key *cbor.DupMapKeyError
	var kind *cbor.UnmarshalTypeError
	switch {
	case errors.As(err, &key):
		return fmt.Sprintf("the key %.60q stands twice in one mapping", fmt.Sprint(key.Key))
	case errors.As(err, &kind) && kind.GoType == "string":
		return "a mapping has a key that is no text: as JSON it has no name"
	case strings.Contains(err.Error(), "unexpected EOF"):
		return "it ends in the middle of an item"
	}
	return strings.TrimPrefix(err.Error(), "cbor: ")
}

// like makes a JSON-like value.
func (c cborCodec) like(v any) (any, error) {
	switch v := v.(type) {
	case uint64:
		return integer(v), nil
	case int64:
		return integer(v), nil
	case *big.Int:
		return jsonInteger(v), nil
	case float64:
		return float(v)
	case float32:
		return float(float64(v))
	case []byte:
		return base64.RawURLEncoding.EncodeToString(v), nil
	case cbor.Tag:
		return c.like(v.Content)
	case cbor.SimpleValue:
		return nil, fmt.Errorf("the simple value %d stands for nothing that JSON has", v)
	case []any:
		for i := range v {
			x, err := c.like(v[i])
			if err != nil {
				return nil, err
			}
			v[i] = x
		}
	case map[string]any:
		for k := range v {
			x, err := c.like(v[k])
			if err != nil {
				return nil, err
			}
			v[k] = x
		}
	}
	return v, nil
}

func (cborCodec) Encode(v any) ([]byte, error) {
	like, err := jsonLike(v)
	if err != nil {
		return nil, err
	}
	m, err := cbor.CoreDetEncOptions().EncMode()
	if err != nil {
		return nil, err
	}
	return m.Marshal(native(like))
}

func (c cborCodec) Locate(b []byte, pointer string) (start, end int, ok bool) {
	return locateItem(c, b, pointer)
}

// open implements [items] (RFC 8949 §3); tags stand before what they are about.
func (c cborCodec) open(b []byte) (n int, mapping bool, head int) {
	for {
		major, arg, size := cborHead(b[head:])
		head += size
		switch {
		case size == 0:
			return 0, false, head
		case major == 6:
			continue
		case major == 4 || major == 5:
			return arg, major == 5, head
		}
		return 0, false, head
	}
}

// cborHead reads the head of an item: major type, argument (-1 for an indefinite length) and length; nothing where
// there is none.
func cborHead(b []byte) (major byte, arg, size int) {
	if len(b) == 0 {
		return 0, 0, 0
	}
	major, low := b[0]>>5, b[0]&31
	switch {
	case low < 24:
		return major, int(low), 1
	case low == 31:
		return major, -1, 1
	case low > 27 || len(b) < 1+1<<(low-24):
		return 0, 0, 0
	}
	var wide [8]byte
	width := 1 << (low - 24)
	copy(wide[8-width:], b[1:1+width])
	return major, int(min(binary.BigEndian.Uint64(wide[:]), 1<<31)), 1 + width
}

func (cborCodec) skip(b []byte) (int, error) {
	var raw cbor.RawMessage
	rest, err := cborIn.UnmarshalFirst(b, &raw)
	return len(b) - len(rest), err
}

func (cborCodec) closes(b []byte) bool { return len(b) > 0 && b[0] == 0xFF }

func (cborCodec) text(b []byte) (s string) {
	cborIn.UnmarshalFirst(b, &s)
	return s
}
