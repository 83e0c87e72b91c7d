package workspace

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/expression"
	"hodstone/internal/plain"
)

// Comments stand with what they are about, by the keys that lead there, each behind a "/": behind its line where there
// is one and room for it, else above it.
type Comments map[string][]string

// wide is how long a line of a mapping in braces may get.
const wide = 116

// YAML writes a value as people write workspaces: what is short in braces on one line, the rest line by line. It is
// indented by so many spaces. Reading it gives the same value again.
func YAML(v any, indent int, comments Comments) string {
	w := yamlWriter{comments: comments, places: slices.Sorted(maps.Keys(comments))}
	w.block(v, indent, "")
	return w.b.String()
}

type yamlWriter struct {
	b        strings.Builder
	comments Comments
	places   []string // of the comments, sorted
}

// comment makes a comment of a text.
func comment(text string) string {
	return "# " + strings.Join(strings.Fields(plain.OneLine(text)), " ")
}

// block writes a value on lines of its own.
func (w *yamlWriter) block(v any, indent int, at string) {
	pad := strings.Repeat(" ", indent)
	switch v := v.(type) {
	case expression.Object:
		for _, m := range v {
			w.item(pad+scalar(m.Key)+":", m.Value, indent, at+"/"+m.Key)
		}
	case []any:
		for i, x := range v {
			w.item(pad+"-", x, indent, fmt.Sprintf("%s/%d", at, i))
		}
	default:
		w.b.WriteString(pad + flow(v) + "\n")
	}
}

// item writes a value behind its key.
func (w *yamlWriter) item(key string, v any, indent int, at string) {
	notes := w.comments[at]
	i, _ := slices.BinarySearch(w.places, at+"/")
	deeper := i < len(w.places) && strings.HasPrefix(w.places[i], at+"/")
	size := 0
	switch x := v.(type) {
	case expression.Object:
		size = len(x)
	case []any:
		size = len(x)
	}
	line := key + " " + flow(v)
	if text, is := v.(string); is && inBlock.MatchString(text) && !taken.MatchString(text) {
		line = key + " " + text
	}
	whole := size == 0 || !deeper && len([]rune(line)) <= wide && depth(v) <= 3
	if whole && len(notes) == 1 && len([]rune(line+comment(notes[0])))+2 <= wide+4 {
		w.b.WriteString(line + "  " + comment(notes[0]) + "\n")
		return
	}
	for _, c := range notes {
		w.b.WriteString(strings.Repeat(" ", indent) + comment(c) + "\n")
	}
	if whole {
		w.b.WriteString(line + "\n")
		return
	}
	w.b.WriteString(key + "\n")
	w.block(v, indent+2, at)
}

// depth is how deep a value nests.
func depth(v any) (n int) {
	switch v := v.(type) {
	case expression.Object:
		for _, m := range v {
			n = max(n, depth(m.Value))
		}
		return n + 1
	case []any:
		for _, x := range v {
			n = max(n, depth(x))
		}
		return n + 1
	}
	return 0
}

// flow writes a value in braces.
func flow(v any) string {
	var b strings.Builder
	switch v := v.(type) {
	case expression.Object:
		b.WriteByte('{')
		for i, m := range v {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(scalar(m.Key) + ": " + flow(m.Value))
		}
		b.WriteByte('}')
	case map[string]any:
		out := expression.Object{}
		for _, k := range slices.Sorted(maps.Keys(v)) {
			out = append(out, expression.Member{Key: k, Value: v[k]})
		}
		return flow(out)
	case []any:
		b.WriteByte('[')
		for i, x := range v {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(flow(x))
		}
		b.WriteByte(']')
	case string:
		return scalar(v)
	case nil:
		return "null"
	case json.Number:
		if f, err := v.Float64(); err == nil && strings.ContainsAny(v.String(), "eE") {
			return flow(f)
		}
		return v.String()
	case float64:
		if s := strconv.FormatFloat(v, 'f', -1, 64); len(s) < 40 {
			return s // 1e3 is a text to some YAML
		}
		mantissa, exponent, _ := strings.Cut(strconv.FormatFloat(v, 'e', -1, 64), "e")
		if !strings.Contains(mantissa, ".") {
			mantissa += ".0"
		}
		return mantissa + "e" + exponent
	default:
		return fmt.Sprint(v)
	}
	return b.String()
}

// bare are texts that no YAML reads as anything else: words, and times, rates, sizes, versions and ranges.
var bare = regexp.MustCompile(`^(?:[A-Za-z_$][A-Za-z0-9_./+°±%-]*( [A-Za-z0-9_./()°±%-]+)*` +
	`|(?:[0-9]+(?:\.[0-9]+)?(?:ms|s|m|h))+(?:(?: ± |\.\.)(?:[0-9]+(?:\.[0-9]+)?(?:ms|s|m|h))+)?` +
	`|[0-9]+/(?:s|min|h)|[0-9]+(?:KiB|MiB)|[0-9]+\.[0-9]+\.[0-9]+|[0-9]+\.\.[0-9]+)$`)

// inBlock are further texts that stand for themselves on a line of their own, though not in braces.
var inBlock = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_./{}-]*$`)

// taken are words that some YAML reads as something else.
var taken = regexp.MustCompile(`(?i)^(true|false|yes|no|on|off|null|y|n|nan|inf|\.inf|\.nan|infinity)$`)

// scalar writes a text so that it is read as the same text.
func scalar(s string) string {
	if bare.MatchString(s) && !taken.MatchString(s) && !strings.HasSuffix(s, " ") {
		return s
	}
	b, err := json.Marshal(strings.ToValidUTF8(s, "\uFFFD"))
	if err != nil {
		return `""`
	}
	// JSON escapes what HTML would read; YAML takes both.
	return strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(b))
}

// ReadTree reads a YAML or JSON document as a value whose objects keep their order; shown is its name for messages.
func ReadTree(src []byte, shown string) (any, []*Problem) {
	if json.Valid(src) { // not all of JSON is read by every YAML as what it is
		d := json.NewDecoder(bytes.NewReader(src))
		d.UseNumber()
		if v, err := inOrder(d, 0); err == nil {
			return v, nil
		}
	}
	r, root, ok := parse(shown, src)
	if !ok {
		return nil, r.problems
	}
	v := root.written()
	return v, r.problems
}

// inOrder reads a JSON value whose objects keep their order.
func inOrder(d *json.Decoder, depth int) (any, error) {
	t, err := d.Token()
	open, is := t.(json.Delim)
	switch {
	case err != nil || !is:
		return t, err
	case depth > maxDepth:
		return nil, errors.New("this nests too deep")
	}
	object, list := expression.Object{}, []any{}
	for d.More() {
		key := ""
		if open == '{' {
			k, err := d.Token()
			if key, _ = k.(string); err != nil {
				return nil, err
			}
		}
		v, err := inOrder(d, depth+1)
		if err != nil {
			return nil, err
		}
		if open == '{' {
			object = append(object, expression.Member{Key: key, Value: v})
		} else {
			list = append(list, v)
		}
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	if open == '{' {
		return object, nil
	}
	return list, nil
}

// ReadContract reads a contract that stands by itself, as trees are written: a workspace of nothing else. beside are
// the files that it refers to; nil for none.
func ReadContract(tree expression.Object, beside fs.FS, shown string) (*Workspace, error) {
	text := []byte("hodstone: 1\ncontract:\n" + YAML(tree, 2, nil))
	if len(tree) == 0 {
		text = []byte("hodstone: 1\n")
	}
	if beside == nil {
		beside = none{}
	}
	w := read(beside, text, shown)
	if len(w.Problems) > 0 {
		return w, w.Problems[0]
	}
	return w, nil
}

// none is a file system without files.
type none struct{}

// Open implements [fs.FS].
func (none) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}
