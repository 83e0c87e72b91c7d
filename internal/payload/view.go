package payload

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	_ "image/gif"
	_ "image/jpeg"
	_ "image/png"
	"strings"

	_ "golang.org/x/image/bmp"
	_ "golang.org/x/image/webp"
)

// maxTree is how many rows of a JSON tree are made; a payload may have millions.
const maxTree = 20_000

// Row is a row of a JSON text seen as a tree.
type Row struct {
	Depth int
	// Key is the member's name, or [INDEX] in an array; empty for the whole.
	Key string
	// Value is what a leaf holds, as JSON; for objects and arrays how much is inside.
	Value string
	// Kind is "object", "array", "string", "number", "boolean" or "null".
	Kind string
}

// Tree takes a JSON text apart in the order in which it is written. It returns false for
// what is no JSON object or array.
func Tree(b []byte) ([]Row, bool) {
	b = bytes.TrimSpace(b)
	if len(b) == 0 || b[0] != '{' && b[0] != '[' || !json.Valid(b) {
		return nil, false
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	t := &tree{d: d}
	t.value(0, "")
	if len(t.rows) >= maxTree {
		t.rows = append(t.rows, Row{Value: fmt.Sprintf("only the first %d rows are shown", maxTree)})
	}
	return t.rows, true
}

type tree struct {
	d    *json.Decoder
	rows []Row
}

func (t *tree) add(r Row) int {
	if len(t.rows) < maxTree {
		t.rows = append(t.rows, r)
		return len(t.rows) - 1
	}
	return -1
}

// value reads one value; errors cannot come, for the text is valid.
func (t *tree) value(depth int, key string) {
	token, err := t.d.Token()
	if err != nil {
		return
	}
	row := Row{Depth: depth, Key: key}
	switch v := token.(type) {
	case json.Delim:
		object := v == '{'
		row.Kind = map[bool]string{true: "object", false: "array"}[object]
		at, n := t.add(row), 0
		for ; t.d.More(); n++ {
			inner := fmt.Sprintf("[%d]", n)
			if object {
				name, err := t.d.Token()
				if err != nil {
					return
				}
				inner, _ = name.(string)
			}
			t.value(depth+1, inner)
		}
		t.d.Token() // the closing one
		if at >= 0 {
			t.rows[at].Value = map[bool]string{true: fmt.Sprintf("{%d}", n), false: fmt.Sprintf("[%d]", n)}[object]
		}
		return
	case string:
		q, _ := json.Marshal(v)
		row.Kind, row.Value = "string", string(q)
	case json.Number:
		row.Kind, row.Value = "number", v.String()
	case bool:
		row.Kind, row.Value = "boolean", fmt.Sprint(v)
	default:
		row.Kind, row.Value = "null", "null"
	}
	t.add(row)
}

// Hex writes bytes as lines of an offset, hexadecimal and text, per bytes to a line.
func Hex(b []byte, per int) (out []string) {
	for i := 0; i < len(b); i += per {
		part := b[i:min(i+per, len(b))]
		text := strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' {
				return '·'
			}
			return r
		}, string(latin(part)))
		out = append(out, fmt.Sprintf("%06x  %-*s  %s", i, per*3-1, fmt.Sprintf("% x", part), text))
	}
	return out
}

// latin maps each byte to one character.
func latin(b []byte) []rune {
	out := make([]rune, len(b))
	for i, c := range b {
		out[i] = rune(c)
	}
	return out
}

// Picture is what can be told of an image without drawing it.
type Picture struct {
	Format        string // "PNG", "JPEG" …
	Width, Height int    // in pixels
}

// Image recognises an image by its content and measures it.
func Image(b []byte) (Picture, bool) {
	c, format, err := image.DecodeConfig(bytes.NewReader(b))
	if err != nil || c.Width <= 0 || c.Height <= 0 {
		return Picture{}, false
	}
	return Picture{strings.ToUpper(format), c.Width, c.Height}, true
}
