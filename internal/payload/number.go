package payload

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// numberCodec is a decimal number as text; space around it is no part of it.
type numberCodec struct{}

func (numberCodec) Format() Format { return Number }

func (numberCodec) Decode(b []byte) (any, error) {
	if err := textError(Number, b); err != nil {
		return nil, err
	}
	s := strings.TrimSpace(string(b))
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || strings.ContainsAny(s, "xXpP_iInN") {
		return nil, &Error{Number, 0, fmt.Sprintf("%.40q is no decimal number", b)}
	}
	if !json.Valid([]byte(s)) { // +7, 007, .5: JSON writes these otherwise
		s = strconv.FormatFloat(f, 'g', -1, 64)
	}
	return json.Number(s), nil
}

func (numberCodec) Encode(v any) ([]byte, error) { return plainly(v) }

func (numberCodec) Locate(b []byte, pointer string) (start, end int, ok bool) {
	return whole(b, pointer)
}
