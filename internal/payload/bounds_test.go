package payload_test

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"hodstone/internal/payload"
)

// layout is a layout that was checked.
func layout(t *testing.T, fields ...payload.Field) payload.Layout {
	t.Helper()
	l := payload.Layout{Fields: fields}
	if err := l.Check(); err != nil {
		t.Fatal(err)
	}
	return l
}

// TestTheBoundsOfIntegers: the smallest and the largest fit, the next do not, be they scaled or not; what comes back is
// what was written.
func TestTheBoundsOfIntegers(t *testing.T) {
	for typ, b := range map[payload.FieldType][2]string{
		"u8": {"0", "255"}, "i8": {"-128", "127"}, "u16": {"0", "65535"}, "i16": {"-32768", "32767"}, "u24": {"0", "16777215"}, "i24": {"-8388608", "8388607"},
		"u32": {"0", "4294967295"}, "i32": {"-2147483648", "2147483647"}, "u64": {"0", "18446744073709551615"}, "i64": {"-9223372036854775808", "9223372036854775807"},
	} {
		l := layout(t, payload.Field{Name: "v", Type: typ})
		for _, n := range append([]string{"1", "100"}, b[:]...) {
			raw, err := l.Encode(map[string]any{"v": json.Number(n)})
			if err != nil {
				t.Errorf("%s of %s: %v", typ, n, err)
				continue
			}
			v, err := l.Decode(raw)
			if got := fmt.Sprint(v); err != nil || got != "map[v:"+n+"]" {
				t.Errorf("%s of %s: %v %v", typ, n, got, err)
			}
		}
		for _, n := range []string{beside(b[0], -1), beside(b[1], 1)} {
			if raw, err := l.Encode(map[string]any{"v": json.Number(n)}); err == nil {
				t.Errorf("%s takes %s as %x", typ, n, raw)
			}
		}
	}
	scaled := layout(t, payload.Field{Name: "v", Type: "i8", Scale: 0.5, Plus: 10})
	for n, want := range map[string]string{"10": "00", "73.5": "7f", "-54": "80", "9.5": "ff", "9.76": "00", "9.74": "ff"} {
		if raw, err := scaled.Encode(map[string]any{"v": json.Number(n)}); err != nil || hex.EncodeToString(raw) != want {
			t.Errorf("%s is %x %v, want %s", n, raw, err, want)
		}
	}
	for n, want := range map[string]string{"74": "a i8 holds -54 to 73.5", "-54.5": "a i8 holds -54 to 73.5"} {
		if _, err := scaled.Encode(map[string]any{"v": json.Number(n)}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", n, err)
		}
	}
}

// beside is the whole number next to another, which may be one of 64 bit.
func beside(n string, by int) string {
	last := n[len(n)-1] - '0'
	if strings.HasPrefix(n, "-") {
		by = -by
	}
	if n == "0" {
		return "-1"
	}
	return n[:len(n)-1] + fmt.Sprint(int(last)+by)
}

// TestTheBoundsOfLayouts: what just fits is a layout, what does not is told.
func TestTheBoundsOfLayouts(t *testing.T) {
	const most = 1 << 20
	for _, c := range []struct {
		fields []payload.Field
		want   string
	}{
		{[]payload.Field{{Name: "a", Type: "bytes", Length: most}}, ""},
		{[]payload.Field{{Name: "a", Type: "bytes", Length: most + 1}}, "at most"},
		{[]payload.Field{{Name: "a", Type: "u8", Offset: most}}, ""},
		{[]payload.Field{{Name: "a", Type: "u8", Offset: most + 1}}, "at most"},
		{[]payload.Field{{Name: "a", Type: "u16"}, {Name: "b", Type: "u8", Offset: 2}}, ""},
		{[]payload.Field{{Name: "a", Type: "u16"}, {Name: "b", Type: "u8", Offset: 1}}, "inside the one before it"},
		{[]payload.Field{{Name: "a", Type: "u8", Bits: []payload.Bits{{Name: "x", From: 7, To: 7}, {Name: "y", From: 0, To: 6}}}}, ""},
		{[]payload.Field{{Name: "a", Type: "u8", Bits: []payload.Bits{{Name: "x", From: 7, To: 8}}}}, "not inside it"},
		{[]payload.Field{{Name: "a", Type: "u8", Bits: []payload.Bits{{Name: "x", From: -1, To: 0}}}}, "not inside it"},
		{[]payload.Field{{Name: "a", Type: "u8", Bits: []payload.Bits{{Name: "x", From: 0, To: 3}, {Name: "y", From: 3, To: 4}}}}, "belong to another part too"},
		{[]payload.Field{{Name: "a", Type: "u8", Bits: []payload.Bits{{Name: "x", From: 2, To: 1}}}}, "not inside it"},
		{[]payload.Field{{Name: "a", Type: "i8", Bits: []payload.Bits{{Name: "x"}}}}, "only unsigned integers have bits"},
		{[]payload.Field{{Name: "a", Type: "f32", Bits: []payload.Bits{{Name: "x"}}}}, "only unsigned integers have bits"},
		{[]payload.Field{{Name: "a", Type: "u16", Fixed: []byte{1, 2}}}, ""},
		{[]payload.Field{{Name: "a", Type: "u16", Fixed: []byte{1}}}, "1 bytes are fixed of 2"},
		{[]payload.Field{{Name: "a", Type: "bytes", Length: -1, Fixed: []byte{1}}}, ""},
		{[]payload.Field{{Name: "a", Type: "bytes", Length: -1}, {Name: "b", Type: "u8", Offset: 9}}, "goes to the end"},
		{[]payload.Field{{Name: "a", Type: "u8", LengthOf: "b"}, {Name: "b", Type: "bytes", Length: -1, Offset: 1}}, ""},
		{[]payload.Field{{Name: "a", Type: "u8", LengthOf: "c"}}, "which is no field"},
		{[]payload.Field{{Name: "a", Type: "u8", LengthOf: "payload"}}, ""},
		{[]payload.Field{{Name: "a", Type: "i8", LengthOf: "payload"}}, "a length is an unsigned integer"},
	} {
		l := payload.Layout{Fields: c.fields}
		if err := l.Check(); (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %q", c.fields, err, c.want)
		}
	}
	l := layout(t, payload.Field{Name: "t", Type: "text", Length: 3}, payload.Field{Name: "r", Type: "bytes", Length: -1, Offset: 5})
	for v, want := range map[string]string{"abc": "6162630000ff", "ab": "6162000000ff", "": "0000000000ff"} {
		raw, err := l.Encode(map[string]any{"t": v, "r": "ff"})
		if err != nil || hex.EncodeToString(raw) != want {
			t.Errorf("%q is %x %v", v, raw, err)
		}
		back, err := l.Decode(raw)
		if m, _ := back.(map[string]any); err != nil || m["t"] != v {
			t.Errorf("%q comes back as %v %v", v, back, err)
		}
	}
	if _, err := l.Encode(map[string]any{"t": "abcd"}); err == nil || !strings.Contains(err.Error(), "4 bytes in a field of 3") {
		t.Error(err)
	}
	for raw, want := range map[string]bool{"6162630000": true, "61626300": false, "616263000001": true} {
		b, _ := hex.DecodeString(raw)
		if _, err := l.Decode(b); (err == nil) != want {
			t.Errorf("%s: %v", raw, err)
		}
	}
	whole := layout(t, payload.Field{Name: "a", Type: "u16"})
	for raw, want := range map[string]string{"00": "it has 1 bytes of 2", "000102": "behind its end", "0001": ""} {
		b, _ := hex.DecodeString(raw)
		if _, err := whole.Decode(b); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", raw, err)
		}
	}
	for pointer, want := range map[string][2]int{"/t": {0, 3}, "/r": {5, 6}} {
		if a, b, ok := l.Locate([]byte("abc\x00\x00\xff"), pointer); !ok || [2]int{a, b} != want {
			t.Errorf("%s at %d to %d, %v", pointer, a, b, ok)
		}
	}
	for _, pointer := range []string{"/x", "/r"} {
		if _, _, ok := l.Locate([]byte("abc\x00\x00"), pointer); ok {
			t.Errorf("%s is somewhere", pointer)
		}
	}
}

// TestTheBoundsOfNumbers: exponents and digits up to 400, and no further.
func TestTheBoundsOfNumbers(t *testing.T) {
	for text, sound := range map[string]bool{"1e400": true, "1e401": false, "1e-400": true, "1e-401": false, strings.Repeat("1", 400): true, strings.Repeat("1", 401): false, "1e99999999999999999999": false} {
		for _, whole := range []string{text, "[" + text + "]", `{"a": ` + text + `}`} {
			if _, err := payload.Decode(payload.JSON, []byte(whole)); (err == nil) != sound {
				t.Errorf("%.20s…: %v", whole, err)
			}
		}
	}
}
