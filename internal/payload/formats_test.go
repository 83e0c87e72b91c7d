package payload

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"
)

// text writes a decoded value as JSON, its members in the order of their names.
func text(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(b)
}

// refused wants an error of decoding at an offset.
func refused(t *testing.T, c Codec, b []byte, offset int, reason string) {
	t.Helper()
	_, err := c.Decode(b)
	e, is := err.(*Error)
	if !is || e.Offset != offset || !strings.Contains(e.Reason, reason) || e.Format != c.Format() {
		t.Errorf("%.60q: %v; want %q at byte %d", b, err, reason, offset)
	}
}

const order = `<?xml version="1.0"?>
<f:order xmlns:f="urn:feed" id="7" urgent="true"><!-- by hand -->
  <kg>12.50</kg><silo>a</silo><silo>b</silo>
  <note lang="en">slow &amp; even</note><stop>0</stop><empty/>
</f:order>`

func TestXML(t *testing.T) {
	x := XMLText{
		Numbers:  []string{"/order/kg", "/order/@id", "/order/silo"},
		Booleans: []string{"/order/stop", "/order/@urgent"},
	}
	v, err := x.Decode([]byte(order))
	want := `{"order":{"@id":7,"@urgent":true,"empty":"","kg":12.50,"note":{"#text":"slow \u0026 even","@lang":"en"},"silo":["a","b"],"stop":false}}`
	if err != nil || text(v) != want {
		t.Errorf("%s %v", text(v), err)
	}
	if plain, err := Of(XML).Decode([]byte(`<a><b>1</b></a>`)); err != nil || text(plain) != `{"a":{"b":"1"}}` {
		t.Errorf("%s %v", text(plain), err)
	}
	for pointer, want := range map[string]string{"/order/kg": "<kg>12.50</kg>", "/order/silo/1": "<silo>b</silo>",
		"/order/silo/0":     "<silo>a</silo>",
		"/order/note/@lang": `<note lang="en">slow &amp; even</note>`,
		"/order/note/#text": `<note lang="en">slow &amp; even</note>`, "/order/empty": "<empty/>",
		"": order, "/order/silo/2": "", "/order/x": "", "/x": ""} {
		start, end, ok := x.Locate([]byte(order), pointer)
		if ok != (want != "") || ok && order[start:end] != want {
			t.Errorf("%s stands at %d to %d, %v", pointer, start, end, ok)
		}
	}
	again, err := x.Encode(v)
	if back, err2 := x.Decode(again); err != nil || err2 != nil || text(back) != want {
		t.Errorf("%s is read again as %s, %v %v", again, text(back), err, err2)
	}
	if b, err := x.Encode("<a/>"); err != nil || string(b) != "<a/>" {
		t.Errorf("%s %v", b, err)
	}
	for _, v := range []any{map[string]any{"a": 1, "b": 2}, []any{}, 7} {
		if b, err := x.Encode(v); err == nil {
			t.Errorf("%v is written as %s", v, b)
		}
	}
	for in, at := range map[string]struct {
		offset int
		reason string
	}{
		"": {0, "empty"}, "<a>": {3, "ends too early"}, "<a></b>": {7, "line 1"}, "<a/><b/>": {4, "second root"},
		"<a/>x":        {4, "outside of the root"},
		"<a/>\x00\x00": {4, "2 NUL bytes"}, "plain": {0, "outside of the root"}, "<a>&bomb;</a>": {9, "entity"},
		" ":                       {0, "empty"},
		strings.Repeat("<a>", 65): {192, "nested more than 64 deep"},
	} {
		refused(t, x, []byte(in), at.offset, at.reason)
	}
}

// structure is the weight of the barge's silo: magic, weight in tenths, flags with bits, a lot padded with NUL.
func structure(t testing.TB) Layout {
	l := Layout{Fields: []Field{
		{Name: "magic", Type: U16, Offset: 0, Fixed: []byte{0x4D, 0x56}},
		{Name: "size", Type: U8, Offset: 2, LengthOf: "payload"},
		{Name: "weight", Type: I32, Offset: 3, Scale: 0.1},
		{Name: "flags", Type: U8, Offset: 7, Bits: []Bits{{"hatch", 0, 0}, {"lamp", 1, 1}, {"mode", 2, 4}}},
		{Name: "level", Type: U16, Offset: 9, Little: true, Scale: 0.5, Plus: -100},
		{Name: "lot", Type: FieldText, Offset: 11, Length: 8},
		{Name: "temp", Type: F32, Offset: 19},
	}}
	if err := l.Check(); err != nil {
		t.Fatal(err)
	}
	return l
}

func TestLayouts(t *testing.T) {
	l := structure(t)
	if l.Size != 23 {
		t.Fatalf("%d bytes", l.Size)
	}
	b, _ := hex.DecodeString("4d56" + "17" + "00003039" + "0d" + "00" + "d200" + "4d56323230370000" + "41480000")
	v, err := l.Decode(b)
	want := `{"flags":{"hatch":1,"lamp":0,"mode":3},"level":5,"lot":"MV2207","temp":12.5,"weight":1234.5}`
	if err != nil || text(v) != want {
		t.Errorf("%s %v", text(v), err)
	}
	// What is fixed or a length is filled in.
	if again, err := l.Encode(v); err != nil || !bytes.Equal(again, b) {
		t.Errorf("% x, %v; want % x", again, err, b)
	}
	if raw, err := l.Encode("4d56 17"); err != nil || len(raw) != 3 {
		t.Errorf("% x %v", raw, err)
	}
	for pointer, want := range map[string][2]int{"": {0, 23}, "/weight": {3, 7}, "/flags/mode": {7, 8},
		"/lot": {11, 19}, "/x": {}} {
		if start, end, ok := l.Locate(b, pointer); ok != (want[1] > 0) || ok && (start != want[0] || end != want[1]) {
			t.Errorf("%s: %d to %d, %v", pointer, start, end, ok)
		}
	}
	with := func(at int, x ...byte) []byte { c := bytes.Clone(b); copy(c[at:], x); return c }
	refused(t, l, b[:20], 20, "it has 20 bytes of 23")
	refused(t, l, append(bytes.Clone(b), 0, 0), 23, "2 NUL bytes at the end")
	refused(t, l, append(bytes.Clone(b), 1), 23, "1 bytes stand behind its end")
	refused(t, l, with(0, 0x4E), 0, "magic is 0x4E56, not 0x4D56")
	refused(t, l, with(2, 9), 2, "size says 9 bytes, and there are 23")
	refused(t, l, with(12, 0), 11, "lot: a NUL byte inside the text, at its byte 1")
	refused(t, l, with(11, 0xff), 11, "lot: the text is not UTF-8")
	refused(t, l, with(19, 0x7f, 0xc0), 19, "temp: NaN")
	for what, v := range map[string]any{
		"has no field": map[string]any{"wight": 1},
		"does not fit: a i32 holds -214748364.8 to 214748364.7": map[string]any{"weight": 1e9},
		"9 bytes in a field of 8":                               map[string]any{"lot": "MV-22-070"},
		"is written as an object of its bits":                   map[string]any{"flags": 3},
		"mode is 8; it has 3 bits":                              map[string]any{"flags": map[string]any{"mode": 8}},
		`no bits "door"`:                                        map[string]any{"flags": map[string]any{"door": 1}},
		"is no number":                                          map[string]any{"weight": "12"}, "object of its fields": 7, "no hexadecimal": "xyz",
		"it is a text": map[string]any{"lot": 7},
	} {
		if got, err := l.Encode(v); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%v: % x, %v; want %q", v, got, err, what)
		}
	}
}

// TestFieldsOfALayout: every type at its bounds, both ways; what is no layout is told.
func TestFieldsOfALayout(t *testing.T) {
	for _, tt := range []struct {
		typ    FieldType
		hex    string
		little bool
		want   string
	}{
		{U8, "ff", false, "255"}, {I8, "80", false, "-128"}, {U16, "0102", false, "258"}, {U16, "0102", true, "513"},
		{I16, "ffff", false, "-1"}, {U24, "010203", false, "66051"}, {U24, "010203", true, "197121"},
		{I24, "800000", false, "-8388608"},
		{U32, "ffffffff", false, "4294967295"}, {I32, "80000000", false, "-2147483648"},
		{U64, "ffffffffffffffff", false, "18446744073709551615"},
		{I64, "8000000000000000", false, "-9223372036854775808"},
		{I64, "7fffffffffffffff", false, "9223372036854775807"},
		{F32, "3dcccccd", false, "0.1"}, {F32, "cdcccc3d", true, "0.1"}, {F64, "3fb999999999999a", false, "0.1"},
		{FieldText, "4d56", false, `"MV"`}, {FieldBytes, "00ff", false, `"00ff"`},
	} {
		l := Layout{Fields: []Field{{Name: "x", Type: tt.typ, Length: len(tt.hex) / 2, Little: tt.little}}}
		if err := l.Check(); err != nil {
			t.Fatal(err)
		}
		b, _ := hex.DecodeString(tt.hex)
		v, err := l.Decode(b)
		if err != nil || text(v) != `{"x":`+tt.want+`}` {
			t.Errorf("%s %s: %s %v", tt.typ, tt.hex, text(v), err)
		}
		if back, err := l.Encode(v); err != nil || !bytes.Equal(back, b) {
			t.Errorf("%s %s: written as % x, %v", tt.typ, tt.hex, back, err)
		}
	}
	for typ, over := range map[FieldType][]any{U8: {256, -1}, I8: {128, -129}, U16: {65536}, I16: {-32769, 32768},
		U32: {1 << 32}, I64: {json.Number("9223372036854775808")}, U64: {json.Number("18446744073709551616"), -1}} {
		l := Layout{Fields: []Field{{Name: "x", Type: typ}}}
		l.Check()
		for _, v := range over {
			if b, err := l.Encode(map[string]any{"x": v}); err == nil {
				t.Errorf("%v is written as % x in a %s", v, b, typ)
			}
		}
	}
	open := Layout{
		Fields: []Field{
			{Name: "n", Type: U16, LengthOf: "rest"},
			{Name: "rest", Type: FieldText, Offset: 4, Length: -1, Pad: ' '},
		},
	}
	if err := open.Check(); err != nil || open.Size != -1 {
		t.Fatal(open.Size, err)
	}
	b, err := open.Encode(map[string]any{"rest": "krill"})
	if v, err2 := open.Decode(b); err != nil || err2 != nil || string(b) != "\x00\x05\x00\x00krill" ||
		text(v) != `{"rest":"krill"}` {
		t.Errorf("%q %s %v %v", b, text(v), err, err2)
	}
	refused(t, open, []byte("\x00\x05\x00"), 3, "it has 3 bytes of 4")
	for want, fields := range map[string][]Field{
		"no name of its own": {{Name: "a", Type: U8}, {Name: "a", Type: U8, Offset: 1}},
		"there is no type":   {{Name: "a", Type: "u7"}}, "a text has a length": {{Name: "a", Type: FieldText}},
		"behind one that goes to the end": {{Name: "a", Type: FieldBytes, Length: -1},
			{Name: "b", Type: U8, Offset: 9}}, "inside the one before": {{Name: "a", Type: U16},
			{Name: "b", Type: U8, Offset: 1}},
		"only unsigned integers have bits":      {{Name: "a", Type: I8, Bits: []Bits{{"x", 0, 0}}}},
		"the bits 7 to 8 of x are not inside":   {{Name: "a", Type: U8, Bits: []Bits{{"x", 7, 8}}}},
		"belong to another part too":            {{Name: "a", Type: U8, Bits: []Bits{{"x", 0, 3}, {"y", 3, 4}}}},
		"1 bytes are fixed of 2":                {{Name: "a", Type: U16, Fixed: []byte{1}}},
		"is the length of b, which is no field": {{Name: "a", Type: U8, LengthOf: "b"}},
		"a length is an unsigned":               {{Name: "a", Type: F32, LengthOf: "payload"}},
		"1048576 bytes at most":                 {{Name: "a", Type: FieldText, Length: 1 << 30}},
	} {
		if err := (&Layout{Fields: fields}).Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", fields, err, want)
		}
	}
}

const feedProto = `syntax = "proto3";
package farm;
import "kinds.proto";
message Order {
  string lot = 1; uint64 grams = 2; repeated Item items = 3; optional float rate = 4; Kind kind = 5; bytes seal = 6;
  map<string, int32> bins = 7; sint64 delta = 8; bool stop = 9; repeated int32 marks = 10;
  message Item { string silo = 1; double kg = 2; }
}`

func TestProtobuf(t *testing.T) {
	files := fstest.MapFS{
		"feed.proto":  {Data: []byte(feedProto)},
		"kinds.proto": {Data: []byte("syntax = \"proto3\"; package farm; enum Kind { KRILL = 0; PELLET = 3; }")},
		"bad.proto": {
			Data: []byte("message {"),
		},
		"old.proto": {
			Data: []byte(
				"syntax = \"proto2\"; message Old { required int32 a = 1; optional int32 b = 2 [default = 7]; }",
			),
		},
	}
	p, err := CompileProto(files, "feed.proto", "Order")
	if err != nil || p.Name() != "farm.Order" {
		t.Fatal(err)
	}
	v := map[string]any{
		"lot":   "MV-2207",
		"grams": json.Number("18446744073709551615"),
		"items": []any{map[string]any{"silo": "a", "kg": 1.5}, map[string]any{"silo": "b"}},
		"rate":  12.3,
		"kind":  "PELLET",
		"seal":  "AQI",
		"bins":  map[string]any{"x": 1, "y": 2, "z": 3},
		"delta": -5,
		"stop":  true,
		"marks": []any{1, 300},
	}
	b, err := p.Encode(v)
	if err != nil {
		t.Fatal(err)
	}
	got, err := p.Decode(b)
	want := `{"bins":{"x":1,"y":2,"z":3},"delta":-5,"grams":18446744073709551615,"items":[{"kg":1.5,"silo":"a"},{"kg":0,"silo":"b"}],"kind":"PELLET","lot":"MV-2207","marks":[1,300],"rate":12.3,"seal":"AQI","stop":true}`
	if err != nil || text(got) != want {
		t.Errorf("%s %v", text(got), err)
	}
	for pointer, want := range map[string]string{"/lot": "MV-2207", "/items/1/silo": "b", "/items/0/silo": "a",
		"/kind": "\x03", "/items/2": "", "/none": "", "/bins/x": "", "": string(b)} {
		if start, end, ok := p.Locate(b, pointer); ok != (want != "") || ok && string(b[start:end]) != want {
			t.Errorf("%s: %d to %d, %v", pointer, start, end, ok)
		}
	}
	if empty, err := p.Decode(nil); err != nil ||
		text(empty) != `{"delta":0,"grams":0,"kind":"KRILL","lot":"","seal":"","stop":false}` {
		t.Errorf("%s %v", text(empty), err)
	}
	if v, err := p.Decode([]byte("\x28\x63")); err != nil || !strings.Contains(text(v), `"kind":99`) {
		t.Errorf("a value without a name: %s %v", text(v), err)
	}
	refused(t, p, []byte("\x0a\x05ab"), 0, "")
	refused(t, p, []byte("\x10\x01\x0a\x05ab"), 2, "")
	refused(t, p, append(bytes.Clone(b), 0, 0), len(b), "2 NUL bytes")
	refused(t, p, []byte("\x98\x06\x01"), 0, "field 99 is not in farm.Order")
	refused(t, p, []byte("\x25\x00\x00\xc0\x7f"), 0, "NaN")
	if _, err := p.Encode(map[string]any{"lots": 1}); err == nil || !strings.Contains(err.Error(), "lots") {
		t.Error(err)
	}
	old, err := CompileProto(files, "old.proto", "Old")
	if err != nil {
		t.Fatal(err)
	}
	refused(t, old, []byte("\x10\x01"), 2, "required field")
	if item, err := CompileProto(files, "feed.proto", "Order.Item"); err != nil || item.Name() != "farm.Order.Item" {
		t.Errorf("a nested one: %v", err)
	}
	for file, want := range map[string]string{"feed.proto": "has no message \"Feed\"; it has farm.Order, farm.Order.Item",
		"bad.proto": "syntax error", "none.proto": "not exist"} {
		if _, err := CompileProto(files, file, "Feed"); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", file, err)
		}
	}
}

// FuzzFormats: nothing panics; what is read is written and read again alike; every part lies inside.
func FuzzFormats(f *testing.F) {
	l := structure(f)
	p, err := CompileProto(
		fstest.MapFS{
			"f.proto": {
				Data: []byte(
					strings.Replace(
						strings.Replace(feedProto, `import "kinds.proto";`, "", 1),
						"Kind kind",
						"int32 kind",
						1,
					),
				),
			},
		},
		"f.proto",
		"Order",
	)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(order))
	f.Add([]byte("\x0a\x02ab\x10\x07\x1a\x03\x0a\x01x"))
	f.Add([]byte("MV\x17\x00\x0009\x0d\x00\xd2\x00MV2207\x00\x00AH\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, c := range []Codec{XMLText{Numbers: []string{"/order/kg"}}, l, p} {
			v, err := c.Decode(b)
			if err != nil {
				continue
			}
			again, err := c.Encode(v)
			if err != nil {
				t.Fatalf("%s %q: %v is not written: %v", c.Format(), b, v, err)
			}
			if back, err := c.Decode(again); err != nil || c.Format() != XML && text(back) != text(v) {
				t.Fatalf("%s %q: %s, then %q: %s %v", c.Format(), b, text(v), again, text(back), err)
			}
			m, _ := v.(map[string]any)
			for k := range m {
				if start, end, ok := c.Locate(b, Pointer(k)); ok && (start < 0 || end > len(b) || start > end) {
					t.Fatalf("%s %q: %s stands at %d to %d", c.Format(), b, k, start, end)
				}
			}
		}
	})
}
