package payload

import (
	"encoding/json"
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
		{JSON, `{"a": [1, 2.50, null, true, "x"]}`, map[string]any{"a": []any{json.Number("1"), json.Number("2.50"), nil, true, "x"}}},
		{JSON, " 12345678901234567890 ", json.Number("12345678901234567890")}, // no digit is lost
		{Text, "open", "open"}, {Text, "", ""}, {Text, "75 %", "75 %"},
		{Number, "-0.5e3", json.Number("-0.5e3")}, {Number, " 7\n", json.Number("7")},
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
		{JSON, `1 2`, 1, "something follows"}, {JSON, "{}\x00\x00\x00", 2, "3 NUL bytes at the end"}, {JSON, "\"\xff\"", 1, "not UTF-8"},
		{Text, "on\x00\x00", 2, "2 NUL bytes at the end"}, {Text, "a\x00b", 1, "a NUL byte"}, {Text, "caf\xe9", 3, "not UTF-8"},
		{Number, "seven", 0, "no decimal number"}, {Number, "0x10", 0, "no decimal number"}, {Number, "NaN", 0, "no decimal number"},
		{Number, "1_000", 0, "no decimal number"}, {Number, "", 0, "no decimal number"}, {Number, "1e999", 0, "no decimal number"},
	} {
		_, err := Decode(tt.f, []byte(tt.in))
		e, ok := err.(*Error)
		if !ok || e.Offset != tt.offset || !strings.Contains(e.Reason, tt.reason) || !strings.Contains(err.Error(), string(tt.f)) {
			t.Errorf("%s %q: %v", tt.f, tt.in, err)
		}
	}
}

func TestPointers(t *testing.T) {
	v, err := Decode(JSON, []byte(`{"a/b": {"~": [10, {"x": 1.5}]}, "": 0}`))
	if err != nil {
		t.Fatal(err)
	}
	for pointer, want := range map[string]any{Pointer("a/b", "~", "0"): json.Number("10"), "/a~1b/~0/1/x": json.Number("1.5"), "/": json.Number("0"), "": v} {
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
	for text, want := range map[string]bool{`"{\"a\": 1}"`: true, `" [1]"`: true, `"{oops"`: false, `"plain"`: false, `{"a": 1}`: false, `""`: false, `"12"`: false} {
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
		{"", 20, "(empty)"}, {"open", 20, "open"}, {`{"a": 1}`, 20, `{"a": 1}`}, {"two\nlines\ttabbed", 40, `two\nlines\ttabbed`},
		{strings.Repeat("x", 50), 10, "xxxxxxxxx…"}, {"\x00\xff\x01", 20, "3 bytes: 00 ff 01"}, {"å海🐟", 10, "å海🐟"}, {"\x1b[31mred", 20, `\x1b[31mred`},
	} {
		if got := Show([]byte(tt.in), tt.width); got != tt.want {
			t.Errorf("%q: %q, want %q", tt.in, got, tt.want)
		}
	}
	if Clip("abc", 0) != "…" && Clip("abc", 0) != "" {
		t.Error(Clip("abc", 0))
	}
}

// TestNumbersOutOfRange: what would stop whoever computes with it is no payload.
func TestNumbersOutOfRange(t *testing.T) {
	for text, sound := range map[string]bool{`{"a":[1e-100000020]}`: false, `1E401`: false, `-1e+99999999999999999999`: false, `[` + strings.Repeat("7", 401) + `]`: false, `{"a":1e308,"b":-2.5E-300}`: true, `"1e999"`: true} {
		_, err := Decode(JSON, []byte(text))
		if (err == nil) != sound || err != nil && !strings.Contains(err.Error(), "is out of range") {
			t.Errorf("%.40s: %v", text, err)
		}
	}
}

// FuzzView: whatever a message carries can be shown, with no more rows than are made.
func FuzzView(f *testing.F) {
	for _, s := range []string{`{"a":[1,{"b":null}],"c":"d"}`, "[", "GIF89a\x30\x00\x20\x00\x80\x00\x00", "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x02\x00\x00\x00", "II*\x00\x08\x00\x00\x00", "\xff\xd8\xff\xe0", "BM", "RIFF\x00\x00\x00\x00WEBPVP8 "} {
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
