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

// TestWhereItemsStand: of arrays and mappings with a length and without one, empty ones, and such that end too early.
func TestWhereItemsStand(t *testing.T) {
	for _, c := range []struct {
		format  payload.Format
		b       string
		pointer string
		want    string // the bytes, "" for nowhere
	}{
		{"cbor", "9f0118ffff", "/0", "01"}, {"cbor", "9f0118ffff", "/1", "18ff"}, {"cbor", "9f0118ffff", "/2", ""},
		{"cbor", "bf6161f5ff", "/a", "f5"}, {"cbor", "bf6161f5ff", "/b", ""}, {"cbor", "9f01", "/5", ""}, {"cbor", "9f01", "/0", "01"},
		{"cbor", "828001", "/0/0", ""}, {"cbor", "82810102", "/0/0", "01"}, {"cbor", "82810102", "/0/1", ""}, {"cbor", "82810102", "/1", "02"},
		{"cbor", "82810102", "", "82810102"}, {"cbor", "8101", "/0/0", ""}, {"cbor", "c11a00000001", "", "c11a00000001"},
		{"cbor", "a26161016162820304", "/b/1", "04"}, {"cbor", "a2617e02617f03", "/~0", "02"}, {"cbor", "", "/0", ""}, {"cbor", "81", "/0", ""},
		{"cbor", "a1616101", "/", ""}, {"cbor", "a10161ff", "/1", ""}, {"cbor", "a1616161", "/a", ""},
		{"msgpack", "92900102", "/0/0", ""}, {"msgpack", "92900102", "/1", "01"}, {"msgpack", "9291a16101", "/0/0", "a161"}, {"msgpack", "9291a16101", "/0/1", ""},
		{"msgpack", "81a16105", "/a", "05"}, {"msgpack", "81a16105", "/b", ""}, {"msgpack", "91", "/0", ""}, {"msgpack", "", "", ""}, {"msgpack", "81a161", "/a", ""},
	} {
		b, err := hex.DecodeString(c.b)
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := payload.Of(c.format).Locate(b, c.pointer)
		if ok != (c.want != "") || ok && hex.EncodeToString(b[start:end]) != c.want {
			t.Errorf("%s %s: %q stands at %d to %d, %v; want %s", c.format, c.b, c.pointer, start, end, ok, c.want)
		}
	}
}

// TestReasonsOfPayloads: what is wrong is told as what it is, up to the bound, and what is just inside is taken.
func TestReasonsOfPayloads(t *testing.T) {
	nest := func(n int, open, inner string) string { return strings.Repeat(open, n) + inner }
	lot := layout(t, payload.Field{Name: "lot", Type: "text", Length: 4})
	eight := layout(t, payload.Field{Name: "id", Type: "bytes", Length: 8, Fixed: []byte("\x01\x02\x03\x04\x05\x06\x07\x08")})
	nine := layout(t, payload.Field{Name: "id", Type: "bytes", Length: 9, Fixed: []byte("\x01\x02\x03\x04\x05\x06\x07\x08\x09")})
	for _, c := range []struct {
		codec   payload.Codec
		b, want string // "=" and the value where it is sound
	}{
		{payload.Of(payload.Text), "00", "1 NUL bytes at the end"}, {payload.Of(payload.Text), "0061", "a NUL byte"}, {payload.Of(payload.Text), "61ff", "not UTF-8"},
		{lot, "00610000", "a NUL byte inside the text, at its byte 0"}, {lot, "61006200", "at its byte 1"}, {lot, "61620000", "=map[lot:ab]"}, {lot, "00000000", "=map[lot:]"},
		{eight, "0000000000000000", "0x0102030405060708"}, {nine, "000000000000000000", "0x0102030405060708…"},
		{payload.Layout{}, "", "=map[]"}, {payload.Layout{}, "01", "behind its end"},
		{payload.Of(payload.MessagePack), "83a16101", "a mapping of 3 members in 3 bytes"}, {payload.Of(payload.MessagePack), "82a16101a16202", "=map[a:1 b:2]"},
		{payload.Of(payload.MessagePack), nest(64, "81a161", "01"), "="}, {payload.Of(payload.MessagePack), nest(65, "81a161", "01"), "nest"},
		{payload.Of(payload.MessagePack), nest(64, "91", "01"), "="}, {payload.Of(payload.MessagePack), nest(65, "91", "01"), "nest"},
		{payload.Of(payload.MessagePack), "c70cff00000000" + "0000000000000001", "=1970-01-01T00:00:01Z"}, {payload.Of(payload.MessagePack), "c70c0500000000" + "0000000000000001", "extension"},
		{payload.Of(payload.MessagePack), "d60500000001", "extension"}, {payload.Of(payload.MessagePack), "d6ff00000001", "=1970-01-01T00:00:01Z"},
	} {
		b, err := hex.DecodeString(c.b)
		if err != nil {
			t.Fatal(err)
		}
		v, err := c.codec.Decode(b)
		sound := strings.HasPrefix(c.want, "=")
		if sound && (err != nil || !strings.HasPrefix(fmt.Sprint(v), c.want[1:])) || !sound && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%T %.60s: %v %v, want %s", c.codec, c.b, v, err, c.want)
		}
		if !sound && err != nil && !strings.Contains(c.want, "…") && strings.Contains(err.Error(), "…") {
			t.Errorf("%T %.60s: shortened: %v", c.codec, c.b, err)
		}
	}
	for n, want := range map[string]string{"-5": "24", "5": "05", "-0": "f98000", "18446744073709551615": "1bffffffffffffffff"} {
		if raw, err := payload.Of(payload.CBOR).Encode(json.Number(n)); err != nil || hex.EncodeToString(raw) != want {
			t.Errorf("%s is %x %v, want %s", n, raw, err, want)
		}
	}
	if v, err := (payload.Layout{Fields: []payload.Field{{Name: "a", Type: "u8"}, {Type: "u8"}}}), "field 2 has no name"; v.Check() == nil || !strings.Contains(v.Check().Error(), err) {
		t.Error(v.Check())
	}
	if _, _, ok := (payload.XMLText{}).Locate([]byte("<a x=\"1\"/>"), "/@x"); ok {
		t.Error("an attribute of nothing stands somewhere")
	}
	for s, want := range map[string]string{"abc": "abc", "abcd": "ab…", "äöü": "äöü", "äöüß": "äö…", "": ""} {
		if got := payload.Clip(s, 3); got != want {
			t.Errorf("%q clipped to 3 is %q", s, got)
		}
	}
}

// TestGapsOfLayouts: what no field says is 0, whatever the text before it is padded with, in structures of a length and
// in such that go on to the end.
func TestGapsOfLayouts(t *testing.T) {
	bits := []payload.Bits{{Name: "top", From: 15, To: 15}, {Name: "rest", From: 0, To: 14}}
	for _, c := range []struct {
		fields []payload.Field
		want   string
	}{
		{[]payload.Field{{Name: "t", Type: "text", Length: 3, Pad: ' '}, {Name: "n", Type: "u8", Offset: 6}}, "61202000000007"},
		{[]payload.Field{{Name: "t", Type: "text", Length: 3, Pad: ' '}, {Name: "n", Type: "u16", Offset: 6}, {Name: "r", Type: "bytes", Length: -1, Offset: 10}}, "61202000000000070000ff"},
		{[]payload.Field{{Name: "n", Type: "u8"}, {Name: "t", Type: "text", Length: 2, Offset: 2}, {Name: "r", Type: "bytes", Length: -1, Offset: 4}}, "07006100ff"},
	} {
		l := layout(t, c.fields...)
		v := map[string]any{"t": "a", "n": json.Number("7"), "r": "ff"}
		for k := range v {
			if !strings.Contains(fmt.Sprint(c.fields), "{"+k+" ") {
				delete(v, k)
			}
		}
		if raw, err := l.Encode(v); err != nil || hex.EncodeToString(raw) != c.want {
			t.Errorf("%x %v, want %s", raw, err, c.want)
		}
	}
	wide := layout(t, payload.Field{Name: "w", Type: "u16", Bits: bits})
	if v, err := wide.Decode([]byte{0x80, 0x01}); err != nil || fmt.Sprint(v) != "map[w:map[rest:1 top:1]]" {
		t.Error(v, err)
	}
	bits[0].To = 16
	over := payload.Layout{Fields: []payload.Field{{Name: "w", Type: "u16", Bits: bits}}}
	if err := over.Check(); err == nil || !strings.Contains(err.Error(), "not inside it") {
		t.Error(err)
	}
	signed := layout(t, payload.Field{Name: "v", Type: "i64", Scale: 0.5})
	for n, sound := range map[string]bool{"-4611686018427387904": true, "4611686018427387904": false, "4611686018427387000": true, "-4611686018427389000": false} {
		if _, err := signed.Encode(map[string]any{"v": json.Number(n)}); (err == nil) != sound {
			t.Errorf("%s halves: %v", n, err)
		}
	}
	plain := layout(t, payload.Field{Name: "v", Type: "i64"})
	for n, sound := range map[string]bool{"-9223372036854775808.0": true, "-9.3e18": false, "9.2e18": true, "9223372036854775808.0": false} {
		if _, err := plain.Encode(map[string]any{"v": json.Number(n)}); (err == nil) != sound {
			t.Errorf("%s: %v", n, err)
		}
	}
}
