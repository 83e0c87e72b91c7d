package payload

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// XML is one XML 1.0 document, read as the JSON value of its root: {ROOT: …}. An element with nothing but text is a
// string; others are objects of their elements, with attributes as @NAME and text beside elements as #text; elements that
// repeat are arrays. Prefixes of name spaces are left out.
const XML Format = "xml"

// XMLText is the codec of XML; Numbers and Booleans are the pointers of those texts that are meant as such, without the
// places in arrays: "/order/kg", "/order/@urgent". XML itself has texts alone.
type XMLText struct{ Numbers, Booleans []string }

// Format implements [Codec].
func (XMLText) Format() Format { return XML }

// element is one that is being read.
type element struct {
	name  string
	at    string // its pointer, without places in arrays
	start int    // of its first byte
	value map[string]any
	text  strings.Builder
}

type span struct{ start, end int }

// Decode implements [Codec].
func (x XMLText) Decode(b []byte) (any, error) {
	v, _, err := x.read(b, "", false)
	return v, err
}

// Locate implements [Codec].
func (x XMLText) Locate(b []byte, pointer string) (start, end int, ok bool) {
	if pointer == "" {
		return 0, len(b), true
	}
	_, found, err := x.read(b, pointer, true)
	return found.start, found.end, err == nil && found.end > 0
}

// read reads a document; with find it looks for where what the pointer names stands.
func (x XMLText) read(b []byte, pointer string, find bool) (v any, found span, err error) {
	if len(bytes.TrimSpace(b)) == 0 {
		return nil, found, &Error{XML, 0, "the payload is empty"}
	}
	if bytes.HasSuffix(b, []byte{0}) {
		rest := b[len(bytes.TrimRight(b, "\x00")):]
		return nil, found, &Error{XML, len(b) - len(rest), nulReason(rest)}
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	top := &element{value: map[string]any{}}
	open := []*element{top}
	// The place of each open element in what the pointer names, by name and number among its like.
	var path []string
	for {
		at := int(d.InputOffset())
		tok, err := d.Token()
		if errors.Is(err, io.EOF) && len(open) == 1 && len(top.value) == 1 {
			break
		}
		if err != nil {
			return nil, found, &Error{XML, min(int(d.InputOffset()), len(b)), xmlReason(err)}
		}
		in := open[len(open)-1]
		switch tok := tok.(type) {
		case xml.StartElement:
			if len(open) == 1 && len(top.value) > 0 {
				return nil, found, &Error{XML, at, "a second root element"}
			}
			if len(open) > maxNesting {
				return nil, found, &Error{XML, at, fmt.Sprintf("elements are nested more than %d deep", maxNesting)}
			}
			e := &element{name: tok.Name.Local, at: in.at + Pointer(tok.Name.Local), start: at, value: map[string]any{}}
			for _, a := range tok.Attr {
				if a.Name.Space == "xmlns" || a.Name.Local == "xmlns" {
					continue
				}
				name := "@" + a.Name.Local
				e.value[name] = x.meant(e.at+Pointer(name), a.Value)
			}
			path = append(path, place(in, e.name))
			open = append(open, e)
		case xml.CharData:
			in.text.Write(tok)
			if len(open) == 1 && len(bytes.TrimSpace(tok)) > 0 {
				return nil, found, &Error{XML, at, "text outside of the root element"}
			}
		case xml.EndElement:
			open = open[:len(open)-1]
			if find && same(path, pointer) {
				found = span{in.start, int(d.InputOffset())}
			}
			path = path[:len(path)-1]
			add(open[len(open)-1].value, in.name, x.finish(in))
		}
	}
	if find && found.end == 0 { // an attribute, or text beside elements: where its element stands
		if cut := strings.LastIndex(pointer, "/"); cut > 0 && strings.ContainsAny(pointer[cut:], "@#") {
			return x.read(b, pointer[:cut], true)
		}
	}
	return top.value, found, nil
}

// place is what an element is called in a pointer: its name, and its number where others of the name came before.
func place(in *element, name string) string {
	n := 0
	switch before := in.value[name].(type) {
	case nil:
	case []any:
		n = len(before)
	default:
		n = 1
	}
	return name + "/" + strconv.Itoa(n)
}

// same tells whether a path is what a pointer names; the number of an only one may be left out.
func same(path []string, pointer string) bool {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for _, p := range path {
		name, number, _ := strings.Cut(p, "/")
		if len(parts) == 0 || Pointer(name) != "/"+parts[0] {
			return false
		}
		parts = parts[1:]
		if len(parts) > 0 && parts[0] == number {
			parts = parts[1:]
		} else if number != "0" {
			return false
		}
	}
	return len(parts) == 0
}

// add puts an element into its parent; the second of a name makes an array of them.
func add(to map[string]any, name string, v any) {
	switch before := to[name].(type) {
	case nil:
		to[name] = v
	case []any:
		to[name] = append(before, v)
	default:
		to[name] = []any{before, v}
	}
}

// finish makes the value of an element that has ended.
func (x XMLText) finish(e *element) any {
	text := strings.TrimSpace(e.text.String())
	if len(e.value) == 0 {
		return x.meant(e.at, text)
	}
	if text != "" {
		e.value["#text"] = x.meant(e.at+Pointer("#text"), text)
	}
	return e.value
}

// meant makes of a text what it is meant as, where it is that.
func (x XMLText) meant(at, text string) any {
	switch {
	case slices.Contains(x.Numbers, at):
		if n, err := (NumberText{}).Decode([]byte(text)); err == nil {
			return n
		}
	case slices.Contains(x.Booleans, at):
		switch text { // XML Schema part 2, §3.3.2
		case "true", "1":
			return true
		case "false", "0":
			return false
		}
	}
	return text
}

func xmlReason(err error) string {
	var syntax *xml.SyntaxError
	switch {
	case errors.As(err, &syntax) && strings.Contains(syntax.Msg, "unexpected EOF"), errors.Is(err, io.EOF):
		return "the document ends too early"
	case errors.As(err, &syntax):
		return fmt.Sprintf("line %d: %s", syntax.Line, syntax.Msg)
	}
	return strings.TrimPrefix(err.Error(), "xml: ")
}

// Encode implements [Codec]: texts as they are, else the value as Decode gives it.
func (XMLText) Encode(v any) ([]byte, error) {
	if s, is := v.(string); is {
		return []byte(s), nil
	}
	like, err := jsonLike(v)
	if err != nil {
		return nil, err
	}
	root, is := like.(map[string]any)
	if !is || len(root) != 1 {
		return nil, errors.New("an XML document has one root: write {ROOT: …}")
	}
	var out bytes.Buffer
	e := xml.NewEncoder(&out)
	for name, v := range root {
		if err := writeElement(e, name, v); err != nil {
			return nil, err
		}
	}
	err = e.Flush()
	return out.Bytes(), err
}

func writeElement(e *xml.Encoder, name string, v any) error {
	if list, is := v.([]any); is {
		for _, x := range list {
			if err := writeElement(e, name, x); err != nil {
				return err
			}
		}
		return nil
	}
	start := xml.StartElement{Name: xml.Name{Local: name}}
	m, _ := v.(map[string]any)
	names := make([]string, 0, len(m))
	for k := range m {
		if attr, is := strings.CutPrefix(k, "@"); is {
			start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: attr}, Value: fmt.Sprint(m[k])})
		} else if k != "#text" {
			names = append(names, k)
		}
	}
	slices.Sort(names)
	slices.SortFunc(start.Attr, func(a, b xml.Attr) int { return strings.Compare(a.Name.Local, b.Name.Local) })
	if err := e.EncodeToken(start); err != nil {
		return err
	}
	text, has := m["#text"]
	if m == nil {
		text, has = v, v != nil
	}
	if has {
		if err := e.EncodeToken(xml.CharData(fmt.Sprint(text))); err != nil {
			return err
		}
	}
	for _, k := range names {
		if err := writeElement(e, k, m[k]); err != nil {
			return err
		}
	}
	return e.EncodeToken(start.End())
}
