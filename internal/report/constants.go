package report

import (
	"fmt"
	"go/format"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"hodstone/internal/contract"
	"hodstone/internal/payload"
	"hodstone/internal/workspace"
)

// Languages are those that constants are written in.
var Languages = []string{"c", "go", "python", "st"}

// Constants writes the contract's topics, QoS, retain flags, value names and packed structures as constants of a
// programming language, one of [Languages]: c, go, python, or st for structured text (IEC 61131-3).
func Constants(w *workspace.Workspace, language string) (string, error) {
	g := constants{w: w, taken: map[string]bool{}}
	for _, cl := range w.Contract.Clauses {
		g.clause(cl)
	}
	switch language {
	case "c":
		return g.c(), nil
	case "go":
		out, err := format.Source([]byte(g.golang()))
		return string(out), err
	case "python":
		return g.python(), nil
	case "st":
		return g.st(), nil
	}
	return "", fmt.Errorf("constants are written for %s, not for %q", strings.Join(Languages, ", "), language)
}

// constants are what is written, before it is any language's.
type constants struct {
	w     *workspace.Workspace
	taken map[string]bool
	list  []constant
	packs []pack

	goNames map[string]string
}

// constant is one of them; text where isText.
type constant struct {
	name    string
	text    string
	number  int64
	isText  bool
	comment string
	begins  string // the clause that begins here
}

// pack is a packed structure.
type pack struct {
	name   string
	clause *contract.Clause
	layout payload.Layout
}

var notIdentifier = regexp.MustCompile(`[^A-Z0-9]+`)

// name makes an identifier of capitals, another than those before.
func (g *constants) name(parts ...string) string {
	var words []string
	for _, p := range parts {
		p = near.Replace(p)
		if p = strings.Trim(notIdentifier.ReplaceAllString(strings.ToUpper(p), "_"), "_"); p != "" {
			words = append(words, p)
		}
	}
	name := strings.Join(words, "_")
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		name = "N_" + name
	}
	plain := name
	for i := 2; g.taken[name]; i++ {
		name = fmt.Sprintf("%s_%d", plain, i)
	}
	g.taken[name] = true
	return name
}

// near writes letters as people do where there is ASCII only; what is left beyond it is dropped.
var near = strings.NewReplacer("Ä", "AE", "ä", "ae", "Ö", "OE", "ö", "oe", "Ü", "UE", "ü", "ue", "ß", "ss", "Å", "A", "å", "a",
	"Ø", "O", "ø", "o", "Æ", "AE", "æ", "ae", "É", "E", "é", "e", "È", "E", "è", "e", "Ñ", "N", "ñ", "n", "Ç", "C", "ç", "c")

func (g *constants) clause(cl *contract.Clause) {
	note := cl.Name
	if cl.Note != "" {
		note += ": " + cl.Note
	}
	g.list = append(g.list, constant{name: g.name(cl.Name, "topic"), text: cl.Topic.String(), isText: true, begins: note,
		comment: strings.Join(cl.Topic.Parameters(), ", ")})
	if len(cl.Topic.Parameters()) > 0 {
		g.list = append(g.list, constant{name: g.name(cl.Name, "filter"), text: cl.Topic.Filter(), isText: true})
	}
	if cl.QoS != nil {
		g.list = append(g.list, constant{name: g.name(cl.Name, "qos"), number: int64(*cl.QoS)})
	}
	if cl.Retain != nil {
		n := int64(0)
		if *cl.Retain {
			n = 1
		}
		g.list = append(g.list, constant{name: g.name(cl.Name, "retain"), number: n})
	}
	for _, v := range cl.Payload.Values {
		g.list = append(g.list, constant{name: g.name(cl.Name, v.Text), text: v.Text, isText: true, comment: v.Meaning})
	}
	if cl.Payload.Schema != nil {
		for _, f := range cl.Payload.Fields() {
			g.values(cl, f)
		}
	}
	if layout, is := cl.Payload.Codec.(payload.Layout); is {
		g.packs = append(g.packs, pack{g.name(cl.Name, "payload"), cl, layout})
	}
}

// values names the values of a field that stand for something.
func (g *constants) values(cl *contract.Clause, f contract.Field) {
	keys := make([]string, 0, len(f.Values))
	for k := range f.Values {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		meaning := f.Values[k]
		if text, err := strconv.Unquote(k); err == nil {
			g.list = append(g.list, constant{name: g.name(cl.Name, f.Name, text), text: text, isText: true, comment: meaning})
		} else if n, err := strconv.ParseInt(k, 10, 64); err == nil {
			label := meaning
			if label == "" {
				label = k
			}
			g.list = append(g.list, constant{name: g.name(cl.Name, f.Name, label), number: n, comment: meaning})
		} else if k != "true" && k != "false" && k != "null" {
			g.list = append(g.list, constant{name: g.name(cl.Name, f.Name, k), text: k, isText: true, comment: meaning})
		}
	}
}

// quote writes a text for C, Go and Python, in ASCII.
func quote(s string) string { return strconv.QuoteToASCII(s) }

// cQuote writes a text for C: what is no ASCII as octal bytes, which end by themselves.
func cQuote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b.WriteString(`\` + string(c))
		case c < 0x20 || c >= 0x7f || c == '?':
			fmt.Fprintf(&b, `\%03o`, c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String() + `"`
}

// oneLine is a comment that ends nothing.
func oneLine(s string) string {
	return strings.NewReplacer("*/", "* /", "/*", "/ *", "*)", "* )", "(*", "( *", "\n", " ", "\r", " ", `\`, "/").Replace(clean(s))
}

func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == 0x2028 || r == 0x2029 {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(s, "·"))
}

func (g *constants) heading() string {
	return oneLine(title(g.w)) + ". Made by hodstone contract export."
}

func (g *constants) guard() string {
	s := strings.Trim(notIdentifier.ReplaceAllString(strings.ToUpper(g.w.Name), "_"), "_")
	if s == "" {
		s = "CONTRACT"
	}
	return "HODSTONE_" + s + "_H"
}

// c writes a header. Topics are patterns for printf, a %s for each parameter.
func (g *constants) c() string {
	var b strings.Builder
	guard := g.guard()
	fmt.Fprintf(&b, "/* %s */\n#ifndef %s\n#define %s\n\n#include <stdint.h>\n", g.heading(), guard, guard)
	for _, x := range g.list {
		if x.begins != "" {
			fmt.Fprintf(&b, "\n/* %s */\n", oneLine(x.begins))
		}
		value := fmt.Sprint(x.number)
		if x.isText {
			text := x.text
			if x.begins != "" {
				text = placeholder.ReplaceAllString(strings.ReplaceAll(text, "%", "%%"), "%s")
			}
			value = cQuote(text)
		}
		fmt.Fprintf(&b, "#define %s %s%s\n", x.name, value, behind(" /* ", x.comment, " */"))
	}
	for _, p := range g.packs {
		fmt.Fprintf(&b, "\n/* %s. */\n#pragma pack(push, 1)\ntypedef struct {\n", oneLine(p.clause.Payload.Words()))
		p.fields(func(f *payload.Field, name, note string) {
			fmt.Fprintf(&b, "    %s;%s\n", cField(f, name), behind(" /* ", note, " */"))
		})
		fmt.Fprintf(&b, "} %s_t;\n#pragma pack(pop)\n", strings.ToLower(p.name))
		p.bits(func(name string, from, to int) {
			n := g.name(p.name, name)
			fmt.Fprintf(&b, "#define %s_SHIFT %d\n#define %s_MASK 0x%Xu\n", n, from, n, mask(from, to))
		})
	}
	return b.String() + "\n#endif\n"
}

var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

func behind(open, s, end string) string {
	if s = oneLine(s); s == "" {
		return ""
	}
	return open + s + end
}

func mask(from, to int) uint64 { return (1<<uint(to-from+1) - 1) << uint(from) }

// fields visits the fields with names and notes. Gaps between them are fields of bytes.
func (p *pack) fields(visit func(f *payload.Field, name, note string)) {
	at, taken := 0, map[string]bool{}
	for i := range p.layout.Fields {
		f := &p.layout.Fields[i]
		if gap := f.Offset - at; gap > 0 {
			visit(&payload.Field{Type: payload.FieldBytes, Length: gap}, fmt.Sprintf("reserved_%d", at), "")
		}
		name := strings.ToLower(strings.Trim(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(f.Name, "_"), "_"))
		if name == "" || name[0] >= '0' && name[0] <= '9' {
			name = "f_" + name
		}
		for taken[name] {
			name += "_"
		}
		taken[name] = true
		var notes []string
		if f.Type.Width() > 1 {
			order := "big-endian"
			if f.Little {
				order = "little-endian"
			}
			notes = append(notes, order)
		}
		if f.Scale != 0 && f.Scale != 1 {
			notes = append(notes, fmt.Sprintf("× %v", f.Scale))
		}
		if len(f.Fixed) > 0 {
			notes = append(notes, fmt.Sprintf("always %X", f.Fixed))
		}
		if unit := p.unit(f.Name); unit != "" {
			notes = append(notes, unit)
		}
		visit(f, name, strings.Join(notes, ", "))
		width := f.Type.Width()
		if width == 0 {
			width = max(0, f.Length)
		}
		at = f.Offset + width
	}
}

func (p *pack) unit(name string) string {
	for _, f := range p.clause.Payload.Fields() {
		if f.Name == name {
			return f.Unit
		}
	}
	return ""
}

func (p *pack) bits(visit func(name string, from, to int)) {
	for i := range p.layout.Fields {
		for _, b := range p.layout.Fields[i].Bits {
			visit(p.layout.Fields[i].Name+"_"+b.Name, b.From, b.To)
		}
	}
}

// cField declares a field in C.
func cField(f *payload.Field, name string) string {
	whole, signed := f.Type.Whole()
	width := f.Type.Width()
	switch {
	case f.Type == payload.FieldText:
		return fmt.Sprintf("char %s[%d]", name, max(1, f.Length))
	case width == 0:
		return fmt.Sprintf("uint8_t %s[%d]", name, max(1, f.Length))
	case !whole && width == 4:
		return "float " + name
	case !whole:
		return "double " + name
	case width == 3:
		return fmt.Sprintf("uint8_t %s[3]", name)
	case signed:
		return fmt.Sprintf("int%d_t %s", 8*width, name)
	}
	return fmt.Sprintf("uint%d_t %s", 8*width, name)
}

// camel is a name of Go's: PenOxygenTopic.
func camel(name string) string {
	var b strings.Builder
	for w := range strings.SplitSeq(name, "_") {
		switch {
		case w == "":
		case w == "QOS":
			b.WriteString("QoS")
		default:
			b.WriteString(w[:1] + strings.ToLower(w[1:]))
		}
	}
	return b.String()
}

// golang writes a Go package.
func (g *constants) golang() string {
	var b strings.Builder
	fmt.Fprintf(&b, "// Package contract: %s\npackage contract\n\nconst (\n", g.heading())
	for i, x := range g.list {
		if x.begins != "" {
			if i > 0 {
				b.WriteString("\n")
			}
			fmt.Fprintf(&b, "\t// %s\n", oneLine(x.begins))
		}
		value := fmt.Sprint(x.number)
		if x.isText {
			value = quote(x.text)
		} else if strings.HasSuffix(x.name, "_RETAIN") {
			value = fmt.Sprint(x.number == 1)
		}
		fmt.Fprintf(&b, "\t%s = %s%s\n", g.goName(x.name), value, behind(" // ", x.comment, ""))
	}
	b.WriteString(")\n")
	for _, p := range g.packs {
		fmt.Fprintf(&b, "\n// %s is %s, for encoding/binary.\ntype %s struct {\n", g.goName(p.name), oneLine(p.clause.Payload.Words()), g.goName(p.name))
		p.fields(func(f *payload.Field, name, note string) {
			fmt.Fprintf(&b, "\t%s %s%s\n", camel(strings.ToUpper(name)), goType(f), behind(" // ", note, ""))
		})
		b.WriteString("}\n")
		p.bits(func(name string, from, to int) {
			n := g.goName(g.name(p.name, name))
			fmt.Fprintf(&b, "\nconst (\n\t%sShift = %d\n\t%sMask = 0x%X\n)\n", n, from, n, mask(from, to))
		})
	}
	return b.String()
}

// goName is a name of Go's, another than those before.
func (g *constants) goName(name string) string {
	if g.goNames == nil {
		g.goNames = map[string]string{}
	}
	if n, known := g.goNames[name]; known {
		return n
	}
	n := camel(name)
	for plain, i := n, 2; g.taken["go "+n]; i++ {
		n = fmt.Sprintf("%s%d", plain, i)
	}
	g.taken["go "+n] = true
	g.goNames[name] = n
	return n
}

func goType(f *payload.Field) string {
	whole, signed := f.Type.Whole()
	width := f.Type.Width()
	switch {
	case width == 0:
		return fmt.Sprintf("[%d]byte", max(1, f.Length))
	case !whole:
		return fmt.Sprintf("float%d", 8*width)
	case width == 3:
		return "[3]byte"
	case signed:
		return fmt.Sprintf("int%d", 8*width)
	}
	return fmt.Sprintf("uint%d", 8*width)
}

// python writes a module. A packed structure is a format of the struct module, where it has none of three bytes.
func (g *constants) python() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", g.heading())
	for _, x := range g.list {
		if x.begins != "" {
			fmt.Fprintf(&b, "\n# %s\n", oneLine(x.begins))
		}
		value := fmt.Sprint(x.number)
		if x.isText {
			value = quote(x.text)
		} else if strings.HasSuffix(x.name, "_RETAIN") {
			value = map[bool]string{true: "True", false: "False"}[x.number == 1]
		}
		fmt.Fprintf(&b, "%s = %s%s\n", x.name, value, behind("  # ", x.comment, ""))
	}
	for _, p := range g.packs {
		format, names, little, mixed := "", []string{}, false, false
		first := true
		p.fields(func(f *payload.Field, name, _ string) {
			format += pyType(f)
			if strings.HasPrefix(name, "reserved_") {
				format = format[:len(format)-1] + "x"
			} else {
				names = append(names, name)
			}
			if f.Type.Width() > 1 {
				mixed = mixed || !first && f.Little != little
				little, first = f.Little, false
			}
		})
		order := ">"
		if little {
			order = "<"
		}
		fmt.Fprintf(&b, "\n# %s: for struct.unpack\n", oneLine(p.clause.Payload.Words()))
		if mixed {
			b.WriteString("# its fields are of both byte orders: those that are not of this one have to be turned\n")
		}
		fmt.Fprintf(&b, "%s_FORMAT = %s\n%s_FIELDS = (%s)\n", p.name, quote(order+format), p.name, tuple(names))
		p.bits(func(name string, from, to int) {
			n := g.name(p.name, name)
			fmt.Fprintf(&b, "%s_SHIFT = %d\n%s_MASK = 0x%X\n", n, from, n, mask(from, to))
		})
	}
	return b.String()
}

func tuple(names []string) string {
	var b strings.Builder
	for _, n := range names {
		b.WriteString(quote(n) + ", ")
	}
	return strings.TrimSuffix(b.String(), " ")
}

func pyType(f *payload.Field) string {
	whole, signed := f.Type.Whole()
	width := f.Type.Width()
	switch {
	case width == 0:
		return fmt.Sprintf("%ds", max(1, f.Length))
	case width == 3:
		return "3s"
	case !whole && width == 4:
		return "f"
	case !whole:
		return "d"
	}
	letter := map[int]string{1: "B", 2: "H", 4: "I", 8: "Q"}[width]
	if signed {
		return strings.ToLower(letter)
	}
	return letter
}

// stQuote writes a text of structured text: $ stands before what is not itself.
func stQuote(s string) string {
	var b strings.Builder
	b.WriteByte('\'')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '\'' || c == '$':
			b.WriteString("$" + string(c))
		case c < 0x20 || c >= 0x7f:
			fmt.Fprintf(&b, "$%02X", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String() + "'"
}

// st writes structured text of IEC 61131-3.
func (g *constants) st() string {
	var b strings.Builder
	fmt.Fprintf(&b, "(* %s *)\n", g.heading())
	for _, p := range g.packs {
		fmt.Fprintf(&b, "\nTYPE %s_T : (* %s; without padding between the fields *)\nSTRUCT\n", p.name, oneLine(p.clause.Payload.Words()))
		p.fields(func(f *payload.Field, name, note string) {
			fmt.Fprintf(&b, "    %s : %s;%s\n", name, stType(f), behind(" (* ", note, " *)"))
		})
		b.WriteString("END_STRUCT\nEND_TYPE\n")
	}
	b.WriteString("\nVAR_GLOBAL CONSTANT\n")
	for _, x := range g.list {
		if x.begins != "" {
			fmt.Fprintf(&b, "    (* %s *)\n", oneLine(x.begins))
		}
		kind, value := "INT", fmt.Sprint(x.number)
		switch {
		case x.isText:
			kind, value = fmt.Sprintf("STRING[%d]", max(1, len(x.text))), stQuote(x.text)
		case strings.HasSuffix(x.name, "_RETAIN"):
			kind, value = "BOOL", strings.ToUpper(fmt.Sprint(x.number == 1))
		case x.number > 32767 || x.number < -32768:
			kind = "LINT"
		}
		fmt.Fprintf(&b, "    %s : %s := %s;%s\n", x.name, kind, value, behind(" (* ", x.comment, " *)"))
	}
	for _, p := range g.packs {
		p.bits(func(name string, from, to int) {
			n := g.name(p.name, name)
			fmt.Fprintf(&b, "    %s_SHIFT : INT := %d;\n    %s_MASK : ULINT := 16#%X;\n", n, from, n, mask(from, to))
		})
	}
	return b.String() + "END_VAR\n"
}

func stType(f *payload.Field) string {
	whole, signed := f.Type.Whole()
	width := f.Type.Width()
	switch {
	case width == 0:
		return fmt.Sprintf("ARRAY[0..%d] OF BYTE", max(1, f.Length)-1)
	case width == 3:
		return "ARRAY[0..2] OF BYTE"
	case !whole && width == 4:
		return "REAL"
	case !whole:
		return "LREAL"
	}
	name := map[int]string{1: "SINT", 2: "INT", 4: "DINT", 8: "LINT"}[width]
	if signed {
		return name
	}
	return "U" + name
}
