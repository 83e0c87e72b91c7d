package workspace

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/infile"
)

// errFlow tells that a mapping is written in braces, so that its entries cannot be changed line by line.
var errFlow = errors.New("it is written in braces")

// Put returns a workspace's text with an entry set: path leads to it, the last part is its key. Where it is there
// already it is replaced, else it is added at the end of its mapping, which is made where there is none. All other lines
// stay as they are, with their comments. A value of nil takes the entry away.
func Put(text string, value any, path ...string) (string, error) {
	for len(path) > 0 {
		out, err := put(text, value, path)
		if !errors.Is(err, errFlow) {
			return out, err
		}
		// The mapping around it stands in braces: then all of that is written anew.
		around, known := lookUp(text, path[:len(path)-1])
		if !known || len(path) == 1 {
			return "", fmt.Errorf("%s cannot be changed: %w; put each of its entries on a line of its own", strings.Join(path, ": "), err)
		}
		o, _ := around.(expression.Object)
		value = with(o, path[len(path)-1], value)
		path = path[:len(path)-1]
	}
	return "", errors.New("there is nothing to change")
}

// with is an object with an entry set, or without it where the value is nil.
func with(o expression.Object, key string, value any) expression.Object {
	o = slices.Clone(o)
	i := slices.IndexFunc(o, func(m expression.Member) bool { return m.Key == key })
	switch {
	case value == nil && i >= 0:
		return slices.Delete(o, i, i+1)
	case value == nil:
		return o
	case i >= 0:
		o[i].Value = value
		return o
	}
	return append(o, expression.Member{Key: key, Value: value})
}

// lookUp returns the value at a path.
func lookUp(text string, path []string) (any, bool) {
	_, n, ok := parse("", []byte(text))
	for _, key := range path {
		if !ok {
			return nil, false
		}
		n, ok = n.entry(key)
	}
	if !ok {
		return nil, false
	}
	return n.written(), true
}

// entry returns the value of a mapping's entry.
func (n node) entry(key string) (node, bool) {
	m, is := n.n.(ast.MapNode)
	if !is {
		return node{}, false
	}
	for it := m.MapRange(); it.Next(); {
		if kv := it.KeyValue(); kv.Key.GetToken().Value == key {
			return node{n.r, kv.Value}, true
		}
	}
	return node{}, false
}

// put changes or adds the entry at a path whose mappings stand line by line.
func put(text string, value any, path []string) (string, error) {
	r, root, ok := parse("", []byte(text))
	if !ok {
		return "", fmt.Errorf("the file cannot be read as it is: %w", r.problems[0])
	}
	lines := strings.SplitAfter(text, "\n")
	around := path[:len(path)-1]
	block := slices.Equal(around, clausesOf(false)) || slices.Equal(around, clausesOf(true)) // a clause has lines of its own
	n, indent := root, 0
	var after int // the line behind which something is added
	for i, key := range path {
		m, is := n.n.(ast.MapNode)
		if !is {
			return "", errFlow // an anchor, an alias, or no mapping at all
		}
		if whole, is := n.n.(*ast.MappingNode); is && whole.IsFlowStyle {
			return "", errFlow
		}
		var found *ast.MappingValueNode
		last := 0
		for it := m.MapRange(); it.Next(); {
			kv := it.KeyValue()
			at := kv.Key.GetToken().Position
			indent = at.Column - 1
			last = at.Line
			if kv.Key.GetToken().Value == key {
				found = kv
			}
		}
		if last == 0 {
			return "", errFlow
		}
		if found == nil {
			if value == nil {
				return text, nil
			}
			after = blockEnd(lines, last, indent)
			return splice(lines, after, after, written(path[i:], value, indent, block)), nil
		}
		begin := found.Key.GetToken().Position.Line
		end := blockEnd(lines, begin, indent)
		if i == len(path)-1 {
			if value == nil {
				return splice(lines, begin-1, end, ""), nil
			}
			return splice(lines, begin-1, end, remarked(written(path[i:], value, indent, block), lines[begin-1])), nil
		}
		n = node{root.r, found.Value}
		if found.Value == nil || found.Value.Type() == ast.NullType {
			if value == nil {
				return text, nil
			}
			return splice(lines, end, end, written(path[i+1:], value, indent+2, block)), nil
		}
	}
	return "", errFlow
}

// written is an entry as it is written, with mappings around it where they are missing.
func written(path []string, value any, indent int, block bool) string {
	for i := len(path) - 1; i > 0; i-- {
		value = expression.Object{{Key: path[i], Value: value}}
	}
	o := expression.Object{{Key: path[0], Value: value}}
	if len(path) > 1 {
		// What is around it stands line by line, so that more can be added.
		pad := strings.Repeat(" ", indent)
		inner, _ := value.(expression.Object)
		return pad + scalar(path[0]) + ":\n" + written(path[1:], inner[0].Value, indent+2, block)
	}
	if inner, is := value.(expression.Object); is && block && len(inner) > 0 {
		return strings.Repeat(" ", indent) + scalar(path[0]) + ":\n" + YAML(inner, indent+2, nil)
	}
	return YAML(o, indent, nil)
}

// remarked is an entry with the remark that stood behind the line that it replaces.
func remarked(entry, was string) string {
	remark := remarkOf(was)
	first, rest, _ := strings.Cut(entry, "\n")
	if remark == "" {
		return entry
	}
	return first + "  " + remark + "\n" + rest
}

// remarkOf is the remark behind a line, "" for none: a # behind a space, outside of quotes.
func remarkOf(line string) string {
	line = strings.TrimRight(line, "\r\n ")
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case quote == '"' && c == '\\', quote == '\'' && c == '\'' && i+1 < len(line) && line[i+1] == '\'':
			i++ // what is behind it is no end
		case quote != 0 && c == quote:
			quote = 0
		case quote != 0:
		case (c == '"' || c == '\'') && i > 0 && strings.IndexByte(" {[,:", line[i-1]) >= 0:
			quote = c
		case c == '#' && i > 0 && line[i-1] == ' ':
			return line[i:]
		}
	}
	return ""
}

// splice replaces the lines from one on up to another, both counted from 0.
func splice(lines []string, from, to int, with string) string {
	if len(lines) > 1 && strings.HasSuffix(lines[0], "\r\n") {
		with = strings.ReplaceAll(with, "\n", "\r\n")
	}
	head := strings.Join(lines[:from], "")
	if head != "" && !strings.HasSuffix(head, "\n") {
		head += "\n"
	}
	return head + with + strings.Join(lines[to:], "")
}

// blockEnd is the number of the last line of an entry that begins on a line, from 1, at an indentation: what is further
// in belongs to it, and lists that begin at the same column.
func blockEnd(lines []string, begin, indent int) int {
	end := begin
	for i := begin; i < len(lines); i++ {
		line := strings.TrimRight(lines[i], "\r\n")
		content := strings.TrimLeft(line, " ")
		in := len(line) - len(content)
		switch {
		case content == "":
			continue // it belongs to what it stands before, unless that is further in
		case in > indent, in == indent && (content == "-" || strings.HasPrefix(content, "- ")):
			end = i + 1
		default:
			return end
		}
	}
	return end
}

// clausesOf is where the clauses stand in a workspace, and in a file that its contract includes.
func clausesOf(included bool) []string {
	if included {
		return []string{"clauses"}
	}
	return []string{"contract", "clauses"}
}

// PutClause sets a clause in the text of a workspace, or of a file that its contract includes: keys that a clause has
// already and the tree has not stay, and so do all comments.
func PutClause(text string, included bool, name string, tree expression.Object) (string, error) {
	at := append(clausesOf(included), name)
	was, there := lookUp(text, at)
	old, _ := was.(expression.Object)
	if !there || len(old) == 0 {
		return Put(text, tree, at...)
	}
	var err error
	for _, m := range tree {
		if hasSame(old, m) {
			continue
		}
		if text, err = Put(text, m.Value, append(slices.Clone(at), m.Key)...); err != nil {
			return "", err
		}
	}
	return text, nil
}

// PutClauses is PutClause for many of a workspace's text: clauses is a mapping of names to clauses. It tells which were added, which were
// changed, and how many are as they were.
func PutClauses(text string, clauses expression.Object) (out string, added, changed []string, same int, err error) {
	_, root, ok := parse("", []byte(text))
	there := map[string]expression.Object{}
	if c, is := root.entry("contract"); ok && is {
		if list, is := c.entry("clauses"); is {
			for _, e := range list.entries("clauses") {
				there[e.key], _ = e.value.written().(expression.Object)
			}
		}
	}
	var fresh expression.Object
	for _, m := range clauses {
		tree, _ := m.Value.(expression.Object)
		old, known := there[m.Key]
		if !known {
			fresh, added = append(fresh, m), append(added, m.Key)
			continue
		}
		if !slices.ContainsFunc(tree, func(x expression.Member) bool { return !hasSame(old, x) }) {
			same++
			continue
		}
		if text, err = PutClause(text, false, m.Key, tree); err != nil {
			return "", nil, nil, 0, err
		}
		changed = append(changed, m.Key)
	}
	if len(fresh) == 0 {
		return text, added, changed, same, nil
	}
	// The first makes the mapping where there is none; the others follow it in one go.
	if text, err = Put(text, fresh[0].Value, "contract", "clauses", fresh[0].Key); err != nil {
		return "", nil, nil, 0, err
	}
	if len(fresh) > 1 {
		text, err = follow(text, fresh[0].Key, fresh[1:])
	}
	return text, added, changed, same, err
}

// hasSame tells whether an object has an entry with the same value.
func hasSame(o expression.Object, m expression.Member) bool {
	return slices.ContainsFunc(o, func(x expression.Member) bool {
		return x.Key == m.Key && contract.SameText(x.Value) == contract.SameText(m.Value)
	})
}

// follow adds clauses behind one that is there.
func follow(text, behind string, clauses expression.Object) (string, error) {
	_, root, ok := parse("", []byte(text))
	c, is := root.entry("contract")
	list, also := c.entry("clauses")
	if !ok || !is || !also {
		return "", errors.New("the clauses are not where they were put")
	}
	if m, is := list.n.(*ast.MappingNode); is && m.IsFlowStyle { // all of it is written anew
		o, _ := list.written().(expression.Object)
		return Put(text, append(o, clauses...), "contract", "clauses")
	}
	lines := strings.SplitAfter(text, "\n")
	for it := list.n.(ast.MapNode).MapRange(); it.Next(); {
		kv := it.KeyValue()
		if kv.Key.GetToken().Value != behind {
			continue
		}
		at := kv.Key.GetToken().Position
		indent := at.Column - 1
		var b strings.Builder
		for _, m := range clauses {
			b.WriteString(written([]string{m.Key}, m.Value, indent, true))
		}
		end := blockEnd(lines, at.Line, indent)
		return splice(lines, end, end, b.String()), nil
	}
	return "", errors.New("the clauses are not where they were put")
}

// Rewrite changes the text as a whole: what differs is replaced, as one edit that can be taken back. The error says why
// it could not be; then nothing has changed.
func (d *Document) Rewrite(change func(text string) (string, error)) error {
	return d.RewriteIn("", change)
}

// RewriteIn is Rewrite for a file beside the workspace that its contract includes, or for the workspace's own, "". The
// edit is taken back by [Document.Undo], as long as the file holds what was written.
func (d *Document) RewriteIn(file string, change func(text string) (string, error)) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	was, err := d.textOf(file)
	if err != nil {
		return err
	}
	now, err := change(was)
	if err != nil || now == was {
		return err
	}
	from := 0
	for from < len(was) && from < len(now) && was[from] == now[from] {
		from++
	}
	a, b := len(was), len(now)
	for a > from && b > from && was[a-1] == now[b-1] {
		a--
		b--
	}
	return d.change(edit{file: file, at: from, length: a - from, with: now[from:b]})
}

// Try reads a workspace as if its text, or that of a file that its contract includes, were another; nothing is written.
// The workspace's own file is "".
func Try(w *Workspace, file, text string) (*Workspace, error) {
	if file == "" {
		return open(w.File, []byte(text))
	}
	dir, err := infile.Open(filepath.Dir(w.File), maxBeside)
	if err != nil {
		return nil, fmt.Errorf("cannot read the workspace's folder: %w", err)
	}
	defer dir.Close()
	return read(instead{dir, file, []byte(text)}, w.text, w.File), nil
}

// instead is a folder in which one file holds something else.
type instead struct {
	*infile.Folder
	name string
	text []byte
}

// ReadFile implements [fs.ReadFileFS].
func (i instead) ReadFile(name string) ([]byte, error) {
	if name == i.name {
		return i.text, nil
	}
	return i.Folder.ReadFile(name)
}
