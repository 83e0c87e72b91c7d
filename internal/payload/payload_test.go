package payload

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestDecode(t *testing.T) {
	for _, tt := range []struct {
		f    Format
		in   string
		want any
	}{
		{JSON, `{"a": [1, 2.50, null, true, "x"]}`, map[string]any{"a": []any{json.Number("1"), json.Number("2.50"),
			nil, true, "x"}}},
		{JSON, " 12345678901234567890 ", json.Number("12345678901234567890")}, // no digit is lost
		{Text, "open", "open"}, {Text, "", ""}, {Text, "75 %", "75 %"},
		{Number, "-0.5e3", json.Number("-0.5e3")}, {Number, " 7\n", json.Number("7")},
		{Number, "+007.50", json.Number("7.5")},
		{Binary, "\x00\xff", []byte{0, 255}},
	} {
		got, err := Decode(tt.f, []byte(tt.in))
		if err != nil || !reflect.DeepEqual(got, tt.want) {
			t.Errorf("%s %q: %#v, %v", tt.f, tt.in, got, err)
		}
	}
	for _, tt := range []struct {
		f      Format
		in     string
		offset int
		reason string
	}{
		{JSON, "", 0, "empty"}, {JSON, `{"a": }`, 6, "invalid character '}'"}, {JSON, `{"a": 1`, 7, "ends too early"},
		{JSON, `1 2`, 1, "something follows"}, {JSON, "{}\x00\x00\x00", 2, "3 NUL bytes at the end"},
		{JSON, "\"\xff\"", 1, "not UTF-8"},
		{Text, "on\x00\x00", 2, "2 NUL bytes at the end"}, {Text, "a\x00b", 1, "a NUL byte"},
		{Text, "caf\xe9", 3, "not UTF-8"},
		{Number, "seven", 0, "no decimal number"}, {Number, "0x10", 0, "no decimal number"},
		{Number, "NaN", 0, "no decimal number"},
		{Number, "1_000", 0, "no decimal number"}, {Number, "", 0, "no decimal number"},
		{Number, "1e999", 0, "no decimal number"},
	} {
		_, err := Decode(tt.f, []byte(tt.in))
		e, ok := err.(*Error)
		if !ok || e.Offset != tt.offset || !strings.Contains(e.Reason, tt.reason) ||
			!strings.Contains(err.Error(), string(tt.f)) {
			t.Errorf("%s %q: %v", tt.f, tt.in, err)
		}
	}
}

func TestPointers(t *testing.T) {
	v, err := Decode(JSON, []byte(`{"a/b": {"~": [10, {"x": 1.5}]}, "": 0}`))
	if err != nil {
		t.Fatal(err)
	}
	for pointer, want := range map[string]any{Pointer("a/b", "~", "0"): json.Number("10"),
		"/a~1b/~0/1/x": json.Number("1.5"), "/": json.Number("0"), "": v} {
		if got, ok := At(v, pointer); !ok || !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %v %v", pointer, got, ok)
		}
	}
	for _, pointer := range []string{"/b", "/a~1b/~0/2", "/a~1b/~0/-1", "/a~1b/~0/x", "/a~1b/~0/0/y"} {
		if got, ok := At(v, pointer); ok {
			t.Errorf("%q leads to %v", pointer, got)
		}
	}
	if got := Plain(v).(map[string]any)["a/b"].(map[string]any)["~"].([]any)[0]; got != 10.0 {
		t.Errorf("%#v", got)
	}
}

func TestTwiceEncoded(t *testing.T) {
	for text, want := range map[string]bool{`"{\"a\": 1}"`: true, `" [1]"`: true, `"{oops"`: false, `"plain"`: false,
		`{"a": 1}`: false, `""`: false, `"12"`: false} {
		v, err := Decode(JSON, []byte(text))
		if err != nil || TwiceEncoded(v) != want {
			t.Errorf("%s: %v %v", text, TwiceEncoded(v), err)
		}
	}
}

func TestShowFitsOnALine(t *testing.T) {
	for _, tt := range []struct {
		in    string
		width int
		want  string
	}{
		{"", 20, "(empty)"}, {"open", 20, "open"}, {`{"a": 1}`, 20, `{"a": 1}`},
		{"two\nlines\ttabbed", 40, `two\nlines\ttabbed`},
		{strings.Repeat("x", 50), 10, "xxxxxxxxx…"}, {"\x00\xff\x01", 20, "3 bytes: 00 ff 01"}, {"å海🐟", 10, "å海🐟"},
		{"\x1b[31mred", 20, `\x1b[31mred`},
	} {
		if got := Show([]byte(tt.in), tt.width); got != tt.want {
			t.Errorf("%q: %q, want %q", tt.in, got, tt.want)
		}
	}
	for text, want := range map[string]string{"": "(empty)", "MV\x00": "4d 56 00", "abcdef": "61 62 63…"} {
		if got := ShowBytes([]byte(text), 9); got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
	if Clip("abc", 0) != "…" && Clip("abc", 0) != "" {
		t.Error(Clip("abc", 0))
	}
}

// TestNumbersOutOfRange: what would stop whoever computes with it is no payload.
func TestNumbersOutOfRange(t *testing.T) {
	for text, sound := range map[string]bool{`{"a":[1e-100000020]}`: false, `1E401`: false,
		`-1e+99999999999999999999`: false, `[` + strings.Repeat("7", 401) + `]`: false,
		`{"a":1e308,"b":-2.5E-300}`: true, `"1e999"`: true} {
		_, err := Decode(JSON, []byte(text))
		if (err == nil) != sound || err != nil && !strings.Contains(err.Error(), "is out of range") {
			t.Errorf("%.40s: %v", text, err)
		}
	}
}

// FuzzView: whatever a message carries can be shown, with no more rows than are made.
func FuzzView(f *testing.F) {
	for _, s := range []string{`{"a":[1,{"b":null}],"c":"d"}`, "[", "GIF89a\x30\x00\x20\x00\x80\x00\x00",
		"\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x02\x00\x00\x00",
		"II*\x00\x08\x00\x00\x00", "\xff\xd8\xff\xe0", "BM", "RIFF\x00\x00\x00\x00WEBPVP8 "} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		rows, ok := Tree(b)
		if ok && (len(rows) == 0 || rows[0].Depth != 0 || rows[0].Key != "") {
			t.Errorf("%q: %v", b, rows)
		}
		if p, ok := Image(b); ok && (p.Width <= 0 || p.Height <= 0 || p.Format == "") {
			t.Errorf("%q: %+v", b, p)
		}
		if lines := Hex(b, 16); len(lines) != (len(b)+15)/16 {
			t.Errorf("%d lines for %d bytes", len(lines), len(b))
		}
		if s := Show(b, 20); utf8.RuneCountInString(s) > 20 {
			t.Errorf("%q is too long", s)
		}
	})
}

// TestBinaryItems: the examples of RFC 8949 appendix A and of MessagePack's own page, by hand.
func TestBinaryItems(t *testing.T) {
	for _, tt := range []struct {
		f    Format
		hex  string
		want string // as JSON
	}{
		{CBOR, "00", "0"}, {CBOR, "1818", "24"}, {CBOR, "1bffffffffffffffff", "18446744073709551615"},
		{CBOR, "3bffffffffffffffff", "-18446744073709551616"},
		{CBOR, "c249010000000000000000", "18446744073709551616"}, {CBOR, "29", "-10"}, {CBOR, "f93e00", "1.5"},
		{CBOR, "fb3ff199999999999a", "1.1"}, {CBOR, "f4", "false"}, {CBOR, "f6", "null"}, {CBOR, "f7", "null"},
		{CBOR, "c074323031332d30332d32315432303a30343a30305a", `"2013-03-21T20:04:00Z"`},
		{CBOR, "4401020304", `"AQIDBA"`}, {CBOR, "6449455446", `"IETF"`},
		{CBOR, "8301820203820405", "[1,[2,3],[4,5]]"}, {CBOR, "a26161016162820203", `{"a":1,"b":[2,3]}`},
		{CBOR, "9f018202039f0405ffff", "[1,[2,3],[4,5]]"},
		{CBOR, "bf6346756ef563416d7421ff", `{"Amt":-2,"Fun":true}`},
		{MessagePack, "82a7636f6d70616374c3a6736368656d6100", `{"compact":true,"schema":0}`},
		{MessagePack, "ff", "-1"}, {MessagePack, "cfffffffffffffffff", "18446744073709551615"},
		{MessagePack, "cb3ff199999999999a", "1.1"}, {MessagePack, "ca3fc00000", "1.5"},
		{MessagePack, "93a161c0c2", `["a",null,false]`}, {MessagePack, "c40401020304", `"AQIDBA"`},
		{MessagePack, "d6ff00000001", `"1970-01-01T00:00:01Z"`},
		{MessagePack, "d3fffffffffffffffe", "-2"}, {MessagePack, "dc0001d90161", `["a"]`},
	} {
		b, err := hex.DecodeString(tt.hex)
		if err != nil {
			t.Fatal(err)
		}
		got, err := Decode(tt.f, b)
		if text, _ := json.Marshal(got); err != nil || string(text) != tt.want {
			t.Errorf("%s %s: %s, %v; want %s", tt.f, tt.hex, text, err, tt.want)
		}
	}
	for _, tt := range []struct {
		f      Format
		hex    string
		offset int
		reason string
	}{
		{CBOR, "", 0, "empty"}, {CBOR, "8301", 0, "ends in the middle"}, {CBOR, "0000", 1, "1 NUL bytes at the end"},
		{CBOR, "0001", 1, "something follows"},
		{CBOR, "a2616101616102", 0, `the key "a" stands twice`}, {CBOR, "a10102", 0, "a key that is no text"},
		{CBOR, "f97e00", 0, "NaN is a value that JSON has no number for"}, {CBOR, "62c328", 0, "UTF-8"},
		{CBOR, strings.Repeat("81", 100) + "00", 0, "exceeded max nested level"},
		{CBOR, "9bffffffffffffffff", 0, "too large"}, {CBOR, "f0", 0, "simple value 16"},
		{MessagePack, "", 0, "empty"}, {MessagePack, "c1", 0, "or is none"}, {MessagePack, "0000", 1, "1 NUL bytes"},
		{MessagePack, "9201", 0, "an array of 2 elements in 1 bytes"},
		{MessagePack, "929201a3", 3, "ends in the middle"},
		{MessagePack, "ddffffffff", 0, "an array of 4294967295 elements in 0 bytes"},
		{MessagePack, "82a16101a16102", 4, `the key "a" stands twice`},
		{MessagePack, "810102", 1, "a key that is no text"}, {MessagePack, "cb7ff8000000000001", 0, "NaN"},
		{MessagePack, "a2c328", 0, "not UTF-8"},
		{MessagePack, strings.Repeat("91", 100) + "00", 65, "nested more than 64 deep"},
		{MessagePack, "dfffffffff", 0, "a mapping of 4294967295"}, {MessagePack, "d40100", 0, "an extension"},
	} {
		b, _ := hex.DecodeString(tt.hex)
		_, err := Decode(tt.f, b)
		e, is := err.(*Error)
		if !is || e.Offset != tt.offset || !strings.Contains(e.Reason, tt.reason) {
			t.Errorf("%s %.40s: %v", tt.f, tt.hex, err)
		}
	}
	// Where the parts stand, in both ways to write an end.
	for _, tt := range []struct {
		f            Format
		hex, pointer string
		start, end   int
	}{
		{CBOR, "a26161016162820203", "", 0, 9}, {CBOR, "a26161016162820203", "/a", 3, 4},
		{CBOR, "a26161016162820203", "/b", 6, 9}, {CBOR, "a26161016162820203", "/b/1", 8, 9},
		{CBOR, "bf6346756ef563416d7421ff", "/Amt", 10, 11}, {CBOR, "9f018202039f0405ffff", "/2/1", 7, 8},
		{CBOR, "c18201d818190100", "/1", 3, 8}, {CBOR, "a26161016162820203", "/c", 0, 0},
		{CBOR, "8101", "/1", 0, 0}, {CBOR, "01", "/0", 0, 0},
		{MessagePack, "82a16101a16292020307", "/b/1", 8, 9}, {MessagePack, "de0001a16101", "/a", 5, 6},
		{MessagePack, "9201", "/1", 0, 0}, {MessagePack, "01", "/a", 0, 0}, {MessagePack, "92c30a", "/1", 2, 3},
	} {
		b, _ := hex.DecodeString(tt.hex)
		start, end, ok := Of(tt.f).Locate(b, tt.pointer)
		if ok != (tt.end > 0) || ok && (start != tt.start || end != tt.end) {
			t.Errorf("%s %s %s: %d to %d, %v", tt.f, tt.hex, tt.pointer, start, end, ok)
		}
	}
}

// FuzzItems: nothing panics; what is read is written and read again alike, and every part of it is found.
func FuzzItems(f *testing.F) {
	for _, s := range []string{"\xa2aa\x01ab\x82\x02\x03", "\xbfcFun\xf5cAmt!\xff",
		"\x82\xa7compact\xc3\xa6schema\x00", "\xc1\x82\x01\xd8\x18\x19\x01\x00", "\xdd\xff\xff\xff\xff"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, format := range []Format{CBOR, MessagePack} {
			v, err := Decode(format, b)
			if err != nil {
				continue
			}
			again, err := Of(format).Encode(v)
			if err != nil {
				t.Fatalf("%s % x: %v", format, b, err)
			}
			if back, err := Decode(format, again); err != nil || fmt.Sprint(Plain(back)) != fmt.Sprint(Plain(v)) {
				t.Fatalf("%s % x: %v, then %v %v", format, b, v, back, err)
			}
			m, _ := v.(map[string]any)
			for k := range m {
				start, end, ok := Of(format).Locate(b, Pointer(k))
				if !ok || start < 0 || end > len(b) || start >= end {
					t.Fatalf("%s % x: %q is not found: %d to %d", format, b, k, start, end)
				}
				if part, err := Decode(format, b[start:end]); err != nil || fmt.Sprint(part) != fmt.Sprint(m[k]) {
					t.Fatalf("%s % x: at %q stands %v, %v", format, b, k, part, err)
				}
			}
		}
	})
}
