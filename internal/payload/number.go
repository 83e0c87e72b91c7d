package payload

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// NumberText is a decimal number as text, with a suffix behind it if that is agreed: "75 %". Space around the whole is no
// part of it.
type NumberText struct{ Suffix string }

func (NumberText) Format() Format { return Number }

func (c NumberText) Decode(b []byte) (any, error) {
	if err := textError(Number, b); err != nil {
		return nil, err
	}
	s, has := strings.CutSuffix(strings.TrimSpace(string(b)), strings.TrimRight(c.Suffix, " "))
	if !has {
		return nil, &Error{Number, len(b), fmt.Sprintf("%.40q lacks the %q behind the number", b, c.Suffix)}
	}
	f, err := strconv.ParseFloat(s, 64)
	if err != nil || strings.ContainsAny(s, "xXpP_iInN") {
		return nil, &Error{Number, 0, fmt.Sprintf("%.40q is no decimal number", b)}
	}
	if !json.Valid([]byte(s)) { // +7, 007, .5: JSON writes these otherwise
		s = strconv.FormatFloat(f, 'g', -1, 64)
	}
	return json.Number(s), nil
}

func (c NumberText) Encode(v any) ([]byte, error) {
	b, err := plainly(v)
	if _, text := v.(string); c.Suffix != "" && !text && err == nil {
		b = append(b, c.Suffix...)
	}
	return b, err
}

func (NumberText) Locate(b []byte, pointer string) (start, end int, ok bool) {
	return whole(b, pointer)
}
