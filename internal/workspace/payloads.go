package workspace

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/payload"
)

// payloadReading is a payload, and what its format has to be known for.
type payloadReading struct {
	contract.Payload
	unknown       bool // its format
	schema        node
	suffix        string
	root          string
	paths         []entry
	file, message string
	fileAt        node
	little        bool
	fields        []fieldReading
}

var payloadShape = shape[payloadReading]{"payload", "What a message carries.", []key[payloadReading]{
	own(
		"format",
		"string",
		"json, text, number, cbor, msgpack, xml, protobuf or binary.",
		func(_ *loader, p *payloadReading, v node) {
			all := append(
				names(payload.Formats(), func(x payload.Format) string { return string(x) }),
				string(payload.Protobuf),
			)
			format, ok := v.known("format", all)
			p.Format, p.unknown = payload.Format(format), !ok
		},
	).must(),
	own(
		"schema",
		"any",
		"For json, cbor, msgpack and protobuf: a JSON Schema (2020-12), here or by $ref to a file beside the workspace."+
			" Formats are held to; unit and values (value: meaning) are shown to people.",
		func(_ *loader, p *payloadReading, v node) { p.schema = v },
	).only("json", "cbor", "msgpack", "protobuf"),
	each("values", "string", "For text: the allowed texts and what they stand for.",
		func(_ *loader, p *payloadReading, e entry) {
			p.Values = append(p.Values, contract.Value{Text: e.key, Meaning: e.value.str("meaning")})
		}).only("text"),
	each(
		"first-character",
		"string",
		"For text: the characters that it may begin with and what they stand for; what follows does"+
			" not count.",
		func(_ *loader, p *payloadReading, e entry) {
			if len([]rune(e.key)) != 1 {
				e.at.fail("", "%q is not one character", e.key)
				return
			}
			p.FirstCharacter = true
			p.Values = append(p.Values, contract.Value{Text: e.key, Meaning: e.value.str("meaning")})
		},
	).only("text"),
	pattern("pattern", "For text: a regular expression that the whole text must match.", "the pattern",
		func(p *payloadReading, re *regexp.Regexp) { p.Pattern = re }).only("text"),
	number("minimum", "For number: the smallest.",
		func(p *payloadReading, f float64) { p.Minimum = &f }).only("number"),
	number("maximum", "For number: the largest.",
		func(p *payloadReading, f float64) { p.Maximum = &f }).only("number"),
	text("unit", "For number: the unit.", func(p *payloadReading) *string { return &p.Unit }).only("number"),
	text("suffix", `For number: what stands behind it, letter by letter: " %".`,
		func(p *payloadReading) *string { return &p.suffix }).only("number"),
	text(
		"root",
		"For xml: the name of the root element.",
		func(p *payloadReading) *string { return &p.root },
	).only("xml"),
	each("paths", "any", "For xml: what must be there, such as /order/kg or /order/@id, each with a JSON Schema of its"+
		" content; types number, integer and boolean make one of the text.",
		func(_ *loader, p *payloadReading, e entry) { p.paths = append(p.paths, e) }).only("xml"),
	own("file", "string", "For protobuf: the .proto file, beside the workspace.",
		func(_ *loader, p *payloadReading, v node) { p.file, p.fileAt = v.str("file"), v }).only("protobuf"),
	text(
		"message",
		"For protobuf: the name of the message.",
		func(p *payloadReading) *string { return &p.message },
	).only("protobuf"),
	own("byte-order", "string", "For binary: big (by default) or little, the least significant byte first.",
		func(_ *loader, p *payloadReading, v node) { p.little = v.byteOrder() }).only("binary"),
	all("fields", "field", "For binary: the fields of a packed structure, in their order; without any, it is bytes.",
		func(l *loader, p *payloadReading, v node) {
			f := fieldReading{at: v, order: p.little}
			fieldShape.read(l, v, "a field", &f)
			p.fields = append(p.fields, f)
		}).only("binary"),
	text("media-type", "For binary: what the bytes are, such as image/jpeg.",
		func(p *payloadReading) *string { return &p.MediaType }).only("binary"),
	own("max-size", "size", "How many bytes it has at most: 32, 4KiB.", func(_ *loader, p *payloadReading, v node) {
		if v.exists() {
			p.MaxSize = v.size("max-size")
		}
	}),
}}

// fieldReading is a field of a packed structure, with what its schema says.
type fieldReading struct {
	payload.Field
	at         node
	bad        bool // told already
	order      bool // little by default
	doc        map[string]any
	fixed      node
	hasOffset  bool
	offset     int
	valuesText map[string]any
}

func (f *fieldReading) says(key string, v any) {
	if f.doc == nil {
		f.doc = map[string]any{}
	}
	f.doc[key] = v
}

var fieldShape = shape[fieldReading]{"field", "One field of a packed structure.", []key[fieldReading]{
	text("name", "What it is called.", func(f *fieldReading) *string { return &f.Name }).must(),
	own("type", "string", "u8, u16, u24, u32, u64, i8 … i64 (two's complement), f32, f64 (IEEE 754), text or bytes.",
		func(_ *loader, f *fieldReading, v node) {
			t, ok := v.known("type", names(payload.FieldTypes(), func(x payload.FieldType) string { return string(x) }))
			f.Type, f.bad = payload.FieldType(t), f.bad || !ok
		}).must(),
	integer("offset", "The byte where it begins, from 0; behind the field before it by default.", 0, 1<<20,
		func(f *fieldReading, n int) { f.offset, f.hasOffset = n, true }),
	own("length", "any", "For text and bytes: how many bytes; rest for all up to the end.",
		func(_ *loader, f *fieldReading, v node) {
			if v.exists() && v.str("length") == "rest" {
				f.Length = -1
			} else if n, ok := v.integer("length", 1, 1<<20); ok {
				f.Length = n
			} else {
				f.bad = true
			}
		}),
	own("byte-order", "string", "big or little; that of the payload by default.",
		func(_ *loader, f *fieldReading, v node) { f.order = v.byteOrder() }),
	number("scale", "What a step stands for: 0.1 makes 123 of what is 1230.",
		func(f *fieldReading, x float64) { f.Scale = x }),
	number("plus", "What is added after scaling.", func(f *fieldReading, x float64) { f.Plus = x }),
	own("unit", "string", "The unit.", func(_ *loader, f *fieldReading, v node) { f.says("unit", v.str("unit")) }),
	number("minimum", "The smallest value.", func(f *fieldReading, x float64) { f.says("minimum", numeral(x)) }),
	number("maximum", "The largest value.", func(f *fieldReading, x float64) { f.says("maximum", numeral(x)) }),
	own("value", "any", "What must stand there: a number, 0x4D56, or a text.",
		func(_ *loader, f *fieldReading, v node) { f.fixed = v }),
	each("bits", "any", "Parts of an unsigned integer: the number of a bit, from 0 for the least significant, or 2..4.",
		func(_ *loader, f *fieldReading, e entry) {
			from, to, ranged := strings.Cut(e.value.str("bits"), "..")
			b := payload.Bits{Name: e.key}
			var err, err2 error
			b.From, err = strconv.Atoi(strings.TrimSpace(from))
			if b.To = b.From; ranged {
				b.To, err2 = strconv.Atoi(strings.TrimSpace(to))
			}
			if err != nil || err2 != nil {
				e.value.fail("write 0, or 2..4", "the bits of %s are none: %q", e.key, e.value.str("bits"))
				f.bad = true
				return
			}
			f.Bits = append(f.Bits, b)
		}),
	each("values", "any", "What its values stand for (value: meaning); of bits, by their names.",
		func(_ *loader, f *fieldReading, e entry) {
			if f.valuesText == nil {
				f.valuesText = map[string]any{}
			}
			f.valuesText[e.key] = e.value.plain()
		}),
	own("padding", "string", "For text: what fills it up, nul (by default) or space.",
		func(_ *loader, f *fieldReading, v node) {
			if p, ok := v.known("padding", []string{"nul", "space"}); ok && p == "space" {
				f.Pad = ' '
			}
		}),
	text("length-of", "The field whose length in bytes stands here; payload for all.",
		func(f *fieldReading) *string { return &f.LengthOf }),
	own("note", "string", "What it means, for people.",
		func(_ *loader, f *fieldReading, v node) { f.says("description", v.str("note")) }),
}}

// byteOrder tells whether the least significant byte comes first.
func (n node) byteOrder() bool {
	order, _ := n.known("byte-order", []string{"big", "little"})
	return order == "little"
}

// numeral writes a number as schemas have it.
func numeral(f float64) json.Number { return json.Number(strconv.FormatFloat(f, 'g', -1, 64)) }

func (l *loader) payload(n node, clause string, to *contract.Payload) bool {
	var p payloadReading
	p.Written, _ = n.written().(expression.Object)
	f := payloadShape.read(l, n, "the payload of clause "+clause, &p)
	if !f["format"].exists() || p.unknown {
		*to = p.Payload
		return false
	}
	payloadShape.strangers(f, string(p.Format), func(k Key, v node) {
		v.fail("", "%s belongs to payloads of format %s, not %s", k.Name, strings.Join(k.For, ", "), p.Format)
	})
	var doc any
	at := n
	switch {
	case p.Format == payload.Number && p.suffix != "":
		p.Codec = payload.NumberText{Suffix: p.suffix}
	case p.Format == payload.Protobuf:
		for _, k := range []string{"file", "message"} {
			if !f[k].exists() {
				n.fail("", "the payload of clause %s lacks %q", clause, k)
				return false
			}
		}
		c, err := payload.CompileProto(l.fsys, p.file, p.message)
		if err != nil {
			p.fileAt.fail("", "the message of clause %s: %v", clause, err)
			return false
		}
		p.Codec = c
	case p.Format == payload.XML:
		var numbers, booleans []string
		doc, numbers, booleans = p.xmlSchema()
		p.Codec = payload.XMLText{Numbers: numbers, Booleans: booleans}
	case p.Format == payload.Binary && len(p.fields) > 0:
		layout, ok := p.layout(clause)
		if !ok {
			return false
		}
		p.Codec, doc = layout, p.layoutSchema()
	}
	if p.schema.exists() &&
		slices.Contains([]payload.Format{payload.JSON, payload.CBOR, payload.MessagePack, payload.Protobuf}, p.Format) {
		doc, at = p.schema.plain(), p.schema
	}
	if doc != nil {
		schema, err := contract.CompileSchema(l.fsys, clause, doc, l.definitions)
		if err != nil {
			var se *contract.SchemaError
			if errors.As(err, &se) && p.schema.exists() {
				at = at.at(se.Pointer)
			}
			at.fail("schemas are JSON Schema, draft 2020-12", "the schema of clause %s is bad: %v", clause, err)
			return false
		}
		p.Schema = schema
	}
	*to = p.Payload
	return true
}

// layout makes the packed structure of its fields.
func (p *payloadReading) layout(clause string) (payload.Layout, bool) {
	var l payload.Layout
	if slices.ContainsFunc(p.fields, func(f fieldReading) bool { return f.bad || f.Name == "" }) {
		return l, false
	}
	next := 0
	for i := range p.fields {
		f := &p.fields[i]
		if f.Offset = next; f.hasOffset {
			f.Offset = f.offset
		}
		f.Little = f.order
		width := f.Type.Width()
		if width == 0 {
			width = f.Length
		}
		if f.fixed.exists() {
			var err error
			if f.Fixed, err = fixed(f, max(0, width)); err != nil {
				f.fixed.fail("", "field %s: %v", f.Name, err)
				return l, false
			}
		}
		next = f.Offset + max(0, width)
		l.Fields = append(l.Fields, f.Field)
	}
	if err := l.Check(); err != nil {
		at := p.fields[0].at
		for i := range p.fields {
			if strings.Contains(err.Error(), "field "+p.fields[i].Name+" ") ||
				strings.Contains(err.Error(), "field "+p.fields[i].Name+":") {
				at = p.fields[i].at
			}
		}
		at.fail("", "the structure of clause %s: %v", clause, err)
		return l, false
	}
	return l, true
}

// fixed makes the bytes that must stand in a field.
func fixed(f *fieldReading, width int) ([]byte, error) {
	text := f.fixed.str("value")
	switch whole, _ := f.Type.Whole(); {
	case whole:
		n, err := strconv.ParseInt(text, 0, 64)
		u, err2 := strconv.ParseUint(text, 0, 64)
		if err != nil && err2 != nil {
			return nil, fmt.Errorf("%q is no whole number: write 0x4D56 or 19798", text)
		}
		if err2 != nil {
			u = uint64(n)
		}
		wide := binary.BigEndian.AppendUint64(nil, u)
		if width < 8 && u>>(8*width) != 0 && (n >= 0 || n>>(8*width-1) != -1) {
			return nil, fmt.Errorf("%s does not fit into %d bytes", text, width)
		}
		out := wide[8-width:]
		if f.Little {
			slices.Reverse(out)
		}
		return out, nil
	case f.Type == payload.FieldBytes:
		b, err := hex.DecodeString(strings.TrimPrefix(strings.Join(strings.Fields(text), ""), "0x"))
		if err != nil {
			return nil, fmt.Errorf("%q is no hexadecimal", text)
		}
		return b, nil
	case f.Type == payload.FieldText:
		return append([]byte(text), bytes.Repeat([]byte{f.Pad}, max(0, width-len(text)))...), nil
	}
	return nil, fmt.Errorf("a %s cannot be held to one value: give it minimum and maximum", f.Type)
}

// layoutSchema makes the schema of a packed structure: what its fields hold, in their order.
func (p *payloadReading) layoutSchema() any {
	properties, required := map[string]any{}, []any{}
	for i := range p.fields {
		f := &p.fields[i]
		if f.fixed.exists() || f.LengthOf != "" {
			continue
		}
		doc := maps.Clone(f.doc)
		if doc == nil {
			doc = map[string]any{}
		}
		whole, _ := f.Type.Whole()
		switch {
		case len(f.Bits) > 0:
			parts := map[string]any{}
			for _, b := range f.Bits {
				part := map[string]any{"type": "integer"}
				if meanings := f.valuesText[b.Name]; meanings != nil {
					part["values"] = meanings
				}
				parts[b.Name] = part
			}
			doc["type"], doc["properties"] = "object", parts
		case f.Type.Width() == 0:
			doc["type"] = "string"
		case whole && (f.Scale == 0 || f.Scale == 1) && f.Plus == 0:
			doc["type"] = "integer"
		default:
			doc["type"] = "number"
		}
		if len(f.Bits) == 0 && len(f.valuesText) > 0 {
			doc["values"] = f.valuesText
		}
		properties[f.Name] = doc
		required = append(required, f.Name)
	}
	return map[string]any{"type": "object", "properties": properties, "required": required}
}

// xmlSchema makes the schema of an XML document of its root and paths.
func (p *payloadReading) xmlSchema() (doc any, numbers, booleans []string) {
	top := map[string]any{"type": "object", "properties": map[string]any{}, "additionalProperties": p.root == ""}
	if p.root != "" {
		top["required"] = []any{p.root}
		top["properties"].(map[string]any)[p.root] = map[string]any{}
	}
	for _, e := range p.paths {
		parts := strings.Split(strings.TrimPrefix(e.key, "/"), "/")
		if !strings.HasPrefix(e.key, "/") || slices.Contains(parts, "") {
			e.at.fail("write it as /order/kg, or /order/@id for an attribute", "%q is no path", e.key)
			continue
		}
		in := top
		for i, part := range parts {
			inside, _ := in["properties"].(map[string]any)
			if inside == nil {
				inside = map[string]any{}
				in["properties"], in["type"] = inside, "object"
			}
			required, _ := in["required"].([]any)
			if !slices.Contains(required, any(part)) {
				in["required"] = append(required, part)
			}
			next, _ := inside[part].(map[string]any)
			if next == nil {
				next = map[string]any{}
			}
			if i == len(parts)-1 {
				leaf, _ := e.value.plain().(map[string]any)
				switch leaf["type"] {
				case "number", "integer":
					numbers = append(numbers, e.key)
				case "boolean":
					booleans = append(booleans, e.key)
				}
				// An element that repeats is an array: each of it is held to the path.
				next = map[string]any{
					"if":   map[string]any{"type": "array"},
					"then": map[string]any{"items": leaf},
					"else": leaf,
				}
			}
			inside[part] = next
			in = next
		}
	}
	return top, numbers, booleans
}
