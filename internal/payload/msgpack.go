package payload

import (
	"encoding/base64"
	"fmt"
	"time"
	"unicode/utf8"

	"github.com/tinylib/msgp/msgp"
)

// MessagePack is one object of MessagePack, read as the JSON value that it stands for.
const MessagePack Format = "msgpack"

// msgpackCodec reads and writes MessagePack: binary as base64url without padding, time stamps as date-time; other
// extensions are not known. Mappings have texts for keys, each once.
type msgpackCodec struct{}

func (msgpackCodec) Format() Format { return MessagePack }

func (c msgpackCodec) Decode(b []byte) (any, error) {
	if len(b) == 0 {
		return nil, &Error{MessagePack, 0, "the payload is empty"}
	}
	v, rest, err := c.read(b, 0)
	if err != nil {
		return nil, &Error{MessagePack, len(b) - len(rest), err.Error()}
	}
	if len(rest) > 0 {
		return nil, &Error{MessagePack, len(b) - len(rest), behind(rest, "something follows the object")}
	}
	return v, nil
}

// read reads one object. With an error, rest begins at what is wrong.
func (c msgpackCodec) read(b []byte, depth int) (v any, rest []byte, err error) {
	if depth > maxNesting {
		return nil, b, fmt.Errorf("values are nested more than %d deep", maxNesting)
	}
	if len(b) == 0 {
		return nil, b, fmt.Errorf("it ends in the middle of an object")
	}
	switch msgp.NextType(b) {
	case msgp.ArrayType:
		n, rest, err := msgp.ReadArrayHeaderBytes(b)
		if err != nil || int(n) > len(rest) { // each takes a byte at least
			return nil, b, fmt.Errorf("an array of %d elements in %d bytes", n, len(rest))
		}
		out := make([]any, n)
		for i := range out {
			if out[i], rest, err = c.read(rest, depth+1); err != nil {
				return nil, rest, err
			}
		}
		return out, rest, nil
	case msgp.MapType:
		n, rest, err := msgp.ReadMapHeaderBytes(b)
		if err != nil || int(n) > len(rest)/2 {
			return nil, b, fmt.Errorf("a mapping of %d members in %d bytes", n, len(rest))
		}
		out := make(map[string]any, n)
		for range n {
			at := rest
			key, next, err := msgp.ReadStringBytes(rest)
			if err != nil {
				return nil, at, fmt.Errorf("a mapping has a key that is no text: as JSON it has no name")
			}
			if !utf8.ValidString(key) {
				return nil, at, fmt.Errorf("a key that is not UTF-8")
			}
			if _, twice := out[key]; twice {
				return nil, at, fmt.Errorf("the key %.60q stands twice in one mapping", key)
			}
			if out[key], rest, err = c.read(next, depth+1); err != nil {
				return nil, rest, err
			}
		}
		return out, rest, nil
	}
	if at, rest, err := msgp.ReadTimeBytes(b); err == nil &&
		(b[1] == 0xFF || b[2] == 0xFF) { // the type -1, behind a length or not
		return at.UTC().Format(time.RFC3339Nano), rest, nil
	}
	raw, rest, err := msgp.ReadIntfBytes(b)
	if err != nil {
		return nil, b, fmt.Errorf("it ends in the middle of an object, or is none")
	}
	v, err = msgpackLike(raw)
	if err != nil {
		rest = b
	}
	return v, rest, err
}

// msgpackLike makes a JSON-like value of one without parts.
func msgpackLike(v any) (any, error) {
	switch v := v.(type) {
	case nil, bool:
		return v, nil
	case int64:
		return integer(v), nil
	case uint64:
		return integer(v), nil
	case float32:
		return float(float64(v))
	case float64:
		return float(v)
	case string:
		if !utf8.ValidString(v) {
			return nil, fmt.Errorf("a text that is not UTF-8")
		}
		return v, nil
	case []byte:
		return base64.RawURLEncoding.EncodeToString(v), nil
	}
	return nil, fmt.Errorf("an extension that is not known: JSON has nothing for it")
}

func (msgpackCodec) Encode(v any) ([]byte, error) {
	like, err := jsonLike(v)
	if err != nil {
		return nil, err
	}
	return msgp.AppendIntf(nil, native(like))
}

func (c msgpackCodec) Locate(b []byte, pointer string) (start, end int, ok bool) {
	return locateItem(c, b, pointer)
}

// open implements [items].
func (msgpackCodec) open(b []byte) (n int, mapping bool, head int) {
	if len(b) == 0 {
		return 0, false, 0
	}
	var size uint32
	var rest []byte
	var err error
	switch msgp.NextType(b) {
	case msgp.ArrayType:
		size, rest, err = msgp.ReadArrayHeaderBytes(b)
	case msgp.MapType:
		size, rest, err = msgp.ReadMapHeaderBytes(b)
		mapping = true
	default:
		return 0, false, 0
	}
	if err != nil {
		return 0, false, 0
	}
	return int(size), mapping, len(b) - len(rest)
}

func (msgpackCodec) skip(b []byte) (int, error) {
	rest, err := msgp.Skip(b)
	return len(b) - len(rest), err
}

func (msgpackCodec) closes([]byte) bool { return false }

func (msgpackCodec) text(b []byte) string {
	s, _, _ := msgp.ReadStringBytes(b)
	return s
}
