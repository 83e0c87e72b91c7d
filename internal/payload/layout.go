package payload

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Layout is the codec of a packed structure: named fields one after another, or at their offsets. It is read as a JSON
// object of the fields' names, in their units, without those that are fixed or a length: these say nothing by themselves.
type Layout struct {
	Fields []Field
	// Size is how long a payload is, in bytes; -1 where the last field goes to its end.
	Size int
}

// Field is one field of a [Layout].
type Field struct {
	Name string
	Type FieldType
	// Offset is where it begins, in bytes from the payload's first.
	Offset int
	// Length is how long it is, in bytes; -1 up to the payload's end.
	Length int
	// Little tells that its least significant byte comes first.
	Little bool
	// Scale and Plus make its value of what stands there: raw × Scale + Plus. Scale 0 stands for 1.
	Scale, Plus float64
	// Fixed is what must stand there, as it is in the payload; nil for anything.
	Fixed []byte
	// Bits are parts of an unsigned integer, by name; such a field is read as an object of them.
	Bits []Bits
	// Pad is what fills a text up to its length: 0 for NUL.
	Pad byte
	// LengthOf names the field whose length in bytes it holds, "payload" for all; "" for none.
	LengthOf string
}

// Bits are some bits of a field, counted from the least significant, 0, both included.
type Bits struct {
	Name     string
	From, To int
}

// FieldType is how a field's bytes are read.
type FieldType string

// The types of fields: unsigned and signed integers in two's complement, numbers by IEEE 754, text, bytes.
const (
	U8, U16, U24, U32, U64 FieldType = "u8", "u16", "u24", "u32", "u64"
	I8, I16, I24, I32, I64 FieldType = "i8", "i16", "i24", "i32", "i64"
	F32, F64               FieldType = "f32", "f64"
	FieldText              FieldType = "text"
	FieldBytes             FieldType = "bytes"
)

// FieldTypes lists them.
func FieldTypes() []FieldType {
	return []FieldType{U8, U16, U24, U32, U64, I8, I16, I24, I32, I64, F32, F64, FieldText, FieldBytes}
}

// Width is how long a field of the type is, in bytes; 0 where it has a length of its own.
func (t FieldType) Width() int {
	if t == FieldText || t == FieldBytes || len(t) < 2 {
		return 0
	}
	n, _ := strconv.Atoi(string(t[1:]))
	return n / 8
}

// Whole tells whether the type is an integer, and signed.
func (t FieldType) Whole() (whole, signed bool) {
	return t != "" && (t[0] == 'u' || t[0] == 'i'), t != "" && t[0] == 'i'
}

// Check tells why the layout is none: fields that overlap, without a name or of two names, a length in the middle that
// is not known. It fills in the size.
func (l *Layout) Check() error {
	seen := map[string]bool{}
	l.Size = 0
	for i := range l.Fields {
		f := &l.Fields[i]
		switch whole, signed := f.Type.Whole(); {
		case f.Name == "" || seen[f.Name]:
			return fmt.Errorf("field %d has no name of its own: %q", i+1, f.Name)
		case !slices.Contains(FieldTypes(), f.Type):
			return fmt.Errorf("field %s: there is no type %q", f.Name, f.Type)
		case f.Type.Width() == 0 && f.Length == 0:
			return fmt.Errorf("field %s: a %s has a length, in bytes", f.Name, f.Type)
		case l.Size < 0:
			return fmt.Errorf("field %s comes behind one that goes to the end", f.Name)
		case f.Offset < l.Size:
			return fmt.Errorf("field %s begins at byte %d, inside the one before it", f.Name, f.Offset)
		case len(f.Bits) > 0 && (!whole || signed):
			return fmt.Errorf("field %s: only unsigned integers have bits", f.Name)
		case f.LengthOf != "" && (!whole || signed):
			return fmt.Errorf("field %s: a length is an unsigned integer", f.Name)
		case f.Offset > maxLayout || f.Length > maxLayout:
			return fmt.Errorf("field %s: a payload has %d bytes at most", f.Name, maxLayout)
		}
		seen[f.Name] = true
		if w := f.Type.Width(); w > 0 {
			f.Length = w
		}
		taken := uint64(0)
		for _, b := range f.Bits {
			if b.From < 0 || b.To < b.From || b.To >= 8*f.Length {
				return fmt.Errorf("field %s: the bits %d to %d of %s are not inside it", f.Name, b.From, b.To, b.Name)
			}
			if mask := b.mask(); taken&mask != 0 {
				return fmt.Errorf("field %s: the bits of %s belong to another part too", f.Name, b.Name)
			} else {
				taken |= mask
			}
		}
		if f.Fixed != nil && f.Length > 0 && len(f.Fixed) != f.Length {
			return fmt.Errorf("field %s: %d bytes are fixed of %d", f.Name, len(f.Fixed), f.Length)
		}
		if l.Size = f.Offset + f.Length; f.Length < 0 {
			l.Size = -1
		}
	}
	for _, f := range l.Fields {
		if f.LengthOf != "" && f.LengthOf != "payload" && !seen[f.LengthOf] {
			return fmt.Errorf("field %s is the length of %s, which is no field", f.Name, f.LengthOf)
		}
	}
	return nil
}

// maxLayout is how long a packed structure may be, in bytes.
const maxLayout = 1 << 20

func (b Bits) mask() uint64 { return (1<<(b.To-b.From+1) - 1) << b.From }

// Format implements [Codec].
func (Layout) Format() Format { return Binary }

// span returns where a field stands in a payload.
func (f *Field) span(b []byte) (start, end int) {
	if f.Length < 0 {
		return min(f.Offset, len(b)), len(b)
	}
	return f.Offset, f.Offset + f.Length
}

// Decode implements [Codec].
func (l Layout) Decode(b []byte) (any, error) {
	least := l.Size
	if l.Size < 0 {
		least = l.Fields[len(l.Fields)-1].Offset
	}
	switch {
	case len(b) < least:
		return nil, &Error{Binary, len(b), fmt.Sprintf("it has %d bytes of %d", len(b), least)}
	case l.Size >= 0 && len(b) > l.Size:
		rest := b[l.Size:]
		return nil, &Error{Binary, l.Size, behind(rest, fmt.Sprintf("%d bytes stand behind its end", len(rest)))}
	}
	out := make(map[string]any, len(l.Fields))
	for i := range l.Fields {
		f := &l.Fields[i]
		start, end := f.span(b)
		raw := b[start:end]
		if f.Fixed != nil && !bytes.Equal(raw, f.Fixed) {
			return nil, &Error{Binary, start, fmt.Sprintf("%s is %s, not %s", f.Name, short(raw), short(f.Fixed))}
		}
		if f.LengthOf != "" {
			want := len(b)
			if f.LengthOf != "payload" {
				s, e := l.field(f.LengthOf).span(b)
				want = e - s
			}
			if got := f.unsigned(raw); got != uint64(want) {
				return nil, &Error{Binary, start, fmt.Sprintf("%s says %d bytes, and there are %d", f.Name, got, want)}
			}
		}
		v, err := f.decode(raw)
		if err != nil {
			return nil, &Error{Binary, start, fmt.Sprintf("%s: %v", f.Name, err)}
		}
		if f.Says() {
			out[f.Name] = v
		}
	}
	return out, nil
}

// Says tells whether the field is part of the value: neither fixed nor a length.
func (f *Field) Says() bool { return f.Fixed == nil && f.LengthOf == "" }

// short writes bytes for people.
func short(b []byte) string {
	if len(b) > 8 {
		return fmt.Sprintf("0x%X…", b[:8])
	}
	return fmt.Sprintf("0x%X", b)
}

func (l Layout) field(name string) *Field {
	i := slices.IndexFunc(l.Fields, func(f Field) bool { return f.Name == name })
	if i < 0 {
		return nil
	}
	return &l.Fields[i]
}

// unsigned reads an integer without its sign.
func (f *Field) unsigned(raw []byte) (n uint64) {
	for i := range raw {
		at := i
		if f.Little {
			at = len(raw) - 1 - i
		}
		n = n<<8 | uint64(raw[at])
	}
	return n
}

func (f *Field) decode(raw []byte) (any, error) {
	n := uint64(0)
	if f.Type.Width() > 0 {
		n = f.unsigned(raw)
	}
	whole, signed := f.Type.Whole()
	switch {
	case len(f.Bits) > 0:
		parts := make(map[string]any, len(f.Bits))
		for _, b := range f.Bits {
			parts[b.Name] = integer(n & b.mask() >> b.From)
		}
		return parts, nil
	case f.Type == F32:
		return f.scaled(float64(math.Float32frombits(uint32(n))))
	case f.Type == F64:
		return f.scaled(math.Float64frombits(n))
	case whole && signed:
		shift := 64 - 8*len(raw)
		i := int64(n<<shift) >> shift
		if f.plain() {
			return integer(i), nil
		}
		return f.scaled(float64(i))
	case whole:
		if f.plain() {
			return integer(n), nil
		}
		return f.scaled(float64(n))
	case f.Type == FieldText:
		text := bytes.TrimRight(raw, string(rune(f.Pad)))
		if i := bytes.IndexByte(text, 0); i >= 0 {
			return nil, fmt.Errorf("a NUL byte inside the text, at its byte %d", i)
		}
		if !utf8.Valid(text) {
			return nil, fmt.Errorf("the text is not UTF-8")
		}
		return string(text), nil
	}
	return hex.EncodeToString(raw), nil
}

func (f *Field) plain() bool { return (f.Scale == 0 || f.Scale == 1) && f.Plus == 0 }

func (f *Field) scale() float64 {
	if f.Scale == 0 {
		return 1
	}
	return f.Scale
}

// scaled makes a value of what stands there, rounded to what the scale can tell: 123 × 0.1 is 12.3.
func (f *Field) scaled(raw float64) (any, error) {
	v := raw * f.scale()
	v += f.Plus
	if whole, _ := f.Type.Whole(); whole {
		v, _ = strconv.ParseFloat(strconv.FormatFloat(v, 'g', 15, 64), 64)
	} else if f.Type == F32 && f.plain() {
		n := json.Number(strconv.FormatFloat(raw, 'g', -1, 32))
		if _, err := float(raw); err != nil {
			return nil, err
		}
		return n, nil
	}
	return float(v)
}

// Locate implements [Codec]: fields, and their bits by the bytes of the whole field.
func (l Layout) Locate(b []byte, pointer string) (start, end int, ok bool) {
	if pointer == "" {
		return whole(b, pointer)
	}
	name, _, _ := strings.Cut(strings.TrimPrefix(pointer, "/"), "/")
	f := l.field(strings.NewReplacer("~1", "/", "~0", "~").Replace(name))
	if f == nil {
		return 0, 0, false
	}
	start, end = f.span(b)
	return start, end, start < end && end <= len(b)
}

// Encode implements [Codec]: bytes and text in hexadecimal as they are, else an object of the fields. What is fixed or a
// length is filled in, and so is 0 for what is left out.
func (l Layout) Encode(v any) ([]byte, error) {
	switch v := v.(type) {
	case []byte:
		return v, nil
	case string:
		b, err := hex.DecodeString(strings.Join(strings.Fields(v), ""))
		if err != nil {
			return nil, fmt.Errorf("%.40q is no hexadecimal: write the bytes so, or an object of the fields", v)
		}
		return b, nil
	}
	like, err := jsonLike(v)
	if err != nil {
		return nil, err
	}
	m, is := like.(map[string]any)
	if !is {
		return nil, fmt.Errorf("a packed structure is written as an object of its fields")
	}
	for k := range m {
		if l.field(k) == nil {
			return nil, fmt.Errorf("the structure has no field %q", k)
		}
	}
	out := make([]byte, max(0, l.Size))
	for i := range l.Fields {
		f := &l.Fields[i]
		raw, err := f.encode(m[f.Name])
		if err != nil {
			return nil, fmt.Errorf("field %s: %w", f.Name, err)
		}
		if f.Length < 0 {
			out = append(append(make([]byte, 0, f.Offset+len(raw)), out...), make([]byte, f.Offset-len(out))...)
			out = append(out, raw...)
			continue
		}
		if need := f.Offset + f.Length; need > len(out) {
			out = append(out, make([]byte, need-len(out))...)
		}
		copy(out[f.Offset:], raw)
	}
	for i := range l.Fields {
		f := &l.Fields[i]
		if f.LengthOf == "" {
			continue
		}
		n := len(out)
		if f.LengthOf != "payload" {
			s, e := l.field(f.LengthOf).span(out)
			n = e - s
		}
		copy(out[f.Offset:], f.bytes(uint64(n)))
	}
	return out, nil
}

// bytes writes an integer.
func (f *Field) bytes(n uint64) []byte {
	var wide [8]byte
	binary.BigEndian.PutUint64(wide[:], n)
	out := slices.Clone(wide[8-f.Length:])
	if f.Little {
		slices.Reverse(out)
	}
	return out
}

func (f *Field) encode(v any) ([]byte, error) {
	w := f.Type.Width()
	switch {
	case f.Fixed != nil:
		return f.Fixed, nil
	case v == nil && w > 0:
		return make([]byte, w), nil
	case len(f.Bits) > 0:
		return f.encodeBits(v)
	case w > 0:
		return f.encodeNumber(v)
	case v == nil:
		v = ""
	}
	s, is := v.(string)
	if !is {
		return nil, fmt.Errorf("it is a %s, and %v is none", f.Type, v)
	}
	raw, pad := []byte(s), f.Pad
	if f.Type == FieldBytes {
		var err error
		if raw, err = hex.DecodeString(strings.Join(strings.Fields(s), "")); err != nil {
			return nil, fmt.Errorf("%.40q is no hexadecimal", s)
		}
		pad = 0
	}
	if f.Length < 0 {
		return raw, nil
	}
	if len(raw) > f.Length {
		return nil, fmt.Errorf("%d bytes in a field of %d", len(raw), f.Length)
	}
	return append(raw, bytes.Repeat([]byte{pad}, f.Length-len(raw))...), nil
}

func (f *Field) encodeBits(v any) ([]byte, error) {
	m, is := v.(map[string]any)
	if !is {
		return nil, fmt.Errorf("it is written as an object of its bits")
	}
	n := uint64(0)
	for _, b := range f.Bits {
		raw, there := m[b.Name]
		if !there {
			continue
		}
		delete(m, b.Name)
		if is, flag := raw.(bool); flag {
			raw = json.Number(map[bool]string{true: "1", false: "0"}[is])
		}
		num, _ := raw.(json.Number)
		x, err := strconv.ParseUint(string(num), 10, 64)
		if err != nil || x > b.mask()>>b.From {
			return nil, fmt.Errorf("%s is %v; it has %d bits", b.Name, raw, b.To-b.From+1)
		}
		n |= x << b.From
	}
	for k := range m {
		return nil, fmt.Errorf("it has no bits %q", k)
	}
	return f.bytes(n), nil
}

func (f *Field) encodeNumber(v any) ([]byte, error) {
	num, is := v.(json.Number)
	if b, flag := v.(bool); flag {
		num, is = json.Number(map[bool]string{true: "1", false: "0"}[b]), true
	}
	x, err := num.Float64()
	if !is || err != nil {
		return nil, fmt.Errorf("%v is no number", v)
	}
	whole, signed := f.Type.Whole()
	raw := (x - f.Plus) / f.scale()
	switch {
	case f.Type == F32:
		return f.bytes(uint64(math.Float32bits(float32(raw)))), nil
	case f.Type == F64:
		return f.bytes(math.Float64bits(raw)), nil
	case whole && f.plain(): // to the last digit
		if u, err := strconv.ParseUint(string(num), 10, 64); err == nil && !signed && u <= 1<<(8*f.Length-1)<<1-1 {
			return f.bytes(u), nil
		}
		if i, err := strconv.ParseInt(string(num), 10, 64); err == nil && signed && (i>>(8*f.Length-1)+1)>>1 == 0 {
			return f.bytes(uint64(i)), nil
		}
	}
	raw = math.Round(raw)
	lo, hi := 0.0, math.Pow(2, float64(8*f.Length))-1
	if signed {
		lo, hi = -math.Pow(2, float64(8*f.Length-1)), math.Pow(2, float64(8*f.Length-1))-1
	}
	if f.Length == 8 { // to a double, the largest number of 64 bits is the one above it, and what is just below the least is that
		hi = math.Nextafter(hi, 0)
		if signed && f.plain() && !strings.ContainsAny(string(num), ".eE") {
			lo = math.Nextafter(lo, 0)
		}
	}
	if raw < lo || raw > hi {
		return nil, fmt.Errorf(
			"%s does not fit: a %s holds %.10g to %.10g",
			num,
			f.Type,
			lo*f.scale()+f.Plus,
			hi*f.scale()+f.Plus,
		)
	}
	if signed {
		return f.bytes(uint64(int64(raw))), nil
	}
	return f.bytes(uint64(raw)), nil
}
