package workspace

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"hodstone/internal/expression"
)

// Problem is something wrong in a workspace file.
type Problem struct {
	File    string
	Line    int // from 1
	Column  int // from 1, in characters
	Message string
	Hint    string // what to do about it, or ""
	Excerpt string // the line, with a mark under the place
}

// Error writes all of it: place and message on the first line, then excerpt and hint.
func (p *Problem) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
	if p.Excerpt != "" {
		s += "\n" + p.Excerpt
	}
	if p.Hint != "" {
		s += "\n  hint: " + p.Hint
	}
	return s
}

// reader collects the problems of one file while its nodes are read.
type reader struct {
	file     string
	lines    []string
	anchors  map[string]ast.Node
	problems []*Problem
	unsound  map[string]bool // what is defined in the file but had problems, as "clause NAME"
	depth    int             // of aliases being followed
	read     int             // nodes read in all
	most     int             // and how many are allowed
}

// Limits against files whose aliases contain themselves or one another many times: so many nodes are read beyond
// the number of the file's bytes, which no file without aliases has.
const (
	maxDepth = 64
	maxNodes = 200_000
)

// enter counts a node; false means that the file goes too deep. Each true needs a leave.
func (n node) enter() bool {
	r := n.r
	if r.read++; r.depth >= maxDepth || r.read > r.most {
		switch {
		case r.read > r.most+1: // told before
		case r.depth >= maxDepth:
			n.fail("does an anchor contain its own alias?", "this nests too deep")
		default:
			n.fail("do anchors contain aliases of other anchors, and these of others?", "the aliases make too much of this file")
		}
		r.read = r.most + 1
		return false
	}
	r.depth++
	return true
}

func (n node) leave() { n.r.depth-- }

// node is a value in the file.
type node struct {
	r *reader
	n ast.Node
}

// entry is a key with its value.
type entry struct {
	key   string
	at    node // the key
	value node
}

func parse(file string, src []byte) (*reader, node, bool) {
	r := &reader{
		file:    file,
		lines:   strings.Split(string(src), "\n"),
		anchors: map[string]ast.Node{},
		unsound: map[string]bool{},
		most:    maxNodes + len(src),
	}
	if line, column, deep := nests(src); deep {
		r.problem(line, column, "this nests too deep", "is a bracket not closed?")
		return r, node{}, false
	}
	f, err := parser.ParseBytes(src, 0)
	if err != nil {
		var y yaml.Error
		if errors.As(err, &y) && y.GetToken() != nil {
			at := y.GetToken().Position
			r.problem(at.Line, at.Column, "not YAML: "+y.GetMessage(), "")
		} else {
			r.problem(1, 1, "not YAML: "+strings.SplitN(err.Error(), "\n", 2)[0], "")
		}
		return r, node{}, false
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil {
		r.problem(1, 1, "the file is empty", "begin with 'hodstone: 1'; 'hodstone demo --write DIR' writes an example")
		return r, node{}, false
	}
	ast.Walk(anchorVisitor(r.anchors), f.Docs[0].Body)
	return r, node{r, f.Docs[0].Body}, true
}

type anchorVisitor map[string]ast.Node

func (v anchorVisitor) Visit(n ast.Node) ast.Visitor {
	if a, ok := n.(*ast.AnchorNode); ok {
		v[a.Name.GetToken().Value] = a.Value
	}
	return v
}

func (r *reader) problem(line, column int, message, hint string) {
	p := &Problem{File: r.file, Line: line, Column: column, Message: message, Hint: hint}
	if line >= 1 && line <= len(r.lines) {
		text, at := around([]rune(strings.TrimRight(r.lines[line-1], "\r")), max(0, column-1))
		mark := slices.Clone(text[:at])
		for i, c := range mark {
			if c != '\t' {
				mark[i] = ' '
			}
		}
		number := fmt.Sprintf("%5d | ", line)
		p.Excerpt = number + string(text) + "\n" + strings.Repeat(" ", len(number)) + string(mark) + "^"
	}
	r.problems = append(r.problems, p)
}

// around shortens a long line to what stands around a place, and tells where that is now.
func around(line []rune, at int) ([]rune, int) {
	const before, after = 100, 60
	at = min(at, len(line))
	if len(line)-at > after+1 {
		line = append(slices.Clone(line[:at+after]), '…')
	}
	if at > before+1 {
		line, at = append([]rune("…"), line[at-before:]...), before+1
	}
	return line, at
}

// real sees through anchors, aliases and tags.
func (n node) real() ast.Node {
	x := n.n
	for range 20 { // aliases cannot nest deeper in a sane file
		switch t := x.(type) {
		case *ast.AnchorNode:
			x = t.Value
		case *ast.TagNode:
			x = t.Value
		case *ast.AliasNode:
			x = n.r.anchors[t.Value.GetToken().Value]
		default:
			return x
		}
	}
	return x
}

func (n node) position() (line, column int) {
	if n.n == nil || n.n.GetToken() == nil {
		return 1, 1
	}
	at := n.n.GetToken().Position
	// A block mapping's own token is the colon of its first entry.
	if m, ok := n.n.(*ast.MappingNode); ok && !m.IsFlowStyle && len(m.Values) > 0 {
		at = m.Values[0].Key.GetToken().Position
	}
	if m, ok := n.n.(*ast.MappingValueNode); ok {
		at = m.Key.GetToken().Position
	}
	return at.Line, at.Column
}

// fail records a problem at the node.
func (n node) fail(hint, format string, args ...any) {
	line, column := n.position()
	n.r.problem(line, column, fmt.Sprintf(format, args...), hint)
}

func (n node) exists() bool { return n.n != nil && n.n.Type() != ast.NullType }

func describe(n ast.Node) string {
	if n == nil {
		return "an alias without an anchor"
	}
	switch n.Type() {
	case ast.MappingType, ast.MappingValueType:
		return "a mapping"
	case ast.SequenceType:
		return "a list"
	case ast.NullType:
		return "nothing"
	case ast.StringType, ast.LiteralType:
		return "text"
	case ast.BoolType:
		return "true or false"
	}
	return "a number"
}

// entries returns the mapping's entries in order.
func (n node) entries(what string) []entry {
	x := n.real()
	if x == nil || x.Type() == ast.NullType {
		return nil
	}
	m, ok := x.(ast.MapNode)
	if !ok {
		n.fail("", "%s must be a mapping (KEY: VALUE), not %s", what, describe(x))
		return nil
	}
	if !n.enter() {
		return nil
	}
	defer n.leave()
	var out []entry
	for it := m.MapRange(); it.Next(); {
		kv := it.KeyValue()
		if kv.Key.IsMergeKey() {
			out = append(out, node{n.r, kv.Value}.entries(what)...)
			continue
		}
		out = append(out, entry{kv.Key.GetToken().Value, node{n.r, kv.Key}, node{n.r, kv.Value}})
	}
	return out
}

// suggest says which of the names was probably meant, or lists them.
func suggest(got string, names []string) string {
	best, at := "", min(max(2, len(got)/3)+1, len(got)) // no more than half of a short one is another
	for _, n := range names {
		if d := levenshtein.ComputeDistance(strings.ToLower(got), strings.ToLower(n)); d < at {
			best, at = n, d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	if len(names) == 0 {
		return "there are none yet"
	}
	return "there are: " + strings.Join(names, ", ")
}

// list returns a list's items; a single value counts as a list of one.
func (n node) list() []node {
	if !n.exists() {
		return nil
	}
	s, ok := n.real().(*ast.SequenceNode)
	if !ok {
		return []node{n}
	}
	var out []node
	for _, v := range s.Values {
		out = append(out, node{n.r, v})
	}
	return out
}

// str returns a scalar as text; numbers and booleans as they are written.
func (n node) str(what string) string {
	if !n.exists() {
		return ""
	}
	switch x := n.real().(type) {
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return x.GetToken().Value
	}
	hint := ""
	if _, is := n.real().(*ast.MappingNode); is && defined[what] != "" {
		hint = "only its name stands here; what it is stands under " + defined[what]
	}
	n.fail(hint, "%s must be text, not %s", what, describe(n.real()))
	return ""
}

// defined is where things are defined that are called by their names elsewhere.
var defined = map[string]string{
	"login": "logins: at the top", "party": "contract: parties:",
	"clause": "contract: clauses:", "broker": "brokers: at the top",
}

func (n node) boolean(what string) *bool {
	if !n.exists() {
		return nil
	}
	if b, ok := n.real().(*ast.BoolNode); ok {
		return &b.Value
	}
	n.fail("", "%s must be true or false, not %q", what, n.str(what))
	return nil
}

func (n node) number(what string) *float64 {
	if !n.exists() {
		return nil
	}
	f, err := strconv.ParseFloat(n.str(what), 64)
	if err != nil {
		n.fail("", "%s must be a number", what)
		return nil
	}
	return &f
}

func (n node) integer(what string, lo, hi int) (int, bool) {
	if !n.exists() {
		return 0, false
	}
	i, err := strconv.Atoi(n.str(what))
	if err != nil || i < lo || i > hi {
		n.fail("", "%s must be a whole number from %d to %d, not %q", what, lo, hi, n.str(what))
		return 0, false
	}
	return i, true
}

const durationHint = "write a number with its unit: 250ms, 5s, 2m, 1h30m"

// size reads a number of bytes: 32, 4KiB, 1MiB.
func (n node) size(what string) int {
	text := strings.TrimSpace(n.str(what))
	number, unit := text, 1
	for name, k := range map[string]int{"KiB": 1 << 10, "MiB": 1 << 20} {
		if rest, has := strings.CutSuffix(text, name); has {
			number, unit = strings.TrimSpace(rest), k
		}
	}
	size, err := strconv.Atoi(number)
	if err != nil || size <= 0 || size > 256<<20/unit {
		n.fail("write 32, 4KiB or 1MiB", "%s is no size: %q", what, text)
		return 0
	}
	return size * unit
}

func (n node) duration(what string) time.Duration {
	if !n.exists() {
		return 0
	}
	d, err := time.ParseDuration(n.str(what))
	if err != nil || d < 0 {
		n.fail(durationHint, "%s is no duration: %q", what, n.str(what))
		return 0
	}
	return d
}

// plain turns the node into the values that JSON has.
func (n node) plain() any {
	return n.values(func(entries []entry, value func(node) any) any {
		out := map[string]any{}
		for _, e := range entries {
			out[e.key] = value(e.value)
		}
		return out
	})
}

// written is plain, but objects keep the order in which they are written.
func (n node) written() any {
	return n.values(func(entries []entry, value func(node) any) any {
		out := expression.Object{}
		for _, e := range entries {
			out = append(out, expression.Member{Key: e.key, Value: value(e.value)})
		}
		return out
	})
}

// ordered is plain, but objects keep the order in which they are written, and numbers are
// those of expressions.
func (n node) ordered() any {
	return n.values(func(entries []entry, value func(node) any) any {
		out := expression.Object{}
		for _, e := range entries {
			out = append(out, expression.Member{Key: e.key, Value: literals(value(e.value))})
		}
		return out
	})
}

// values turns the node into values; object makes those of mappings.
func (n node) values(object func(entries []entry, value func(node) any) any) any {
	if n.n == nil || !n.enter() {
		return nil
	}
	defer n.leave()
	switch x := n.real().(type) {
	case nil, *ast.NullNode:
		return nil
	case *ast.StringNode:
		return x.Value
	case *ast.LiteralNode:
		return x.Value.Value
	case *ast.BoolNode:
		return x.Value
	case *ast.IntegerNode:
		return n.numeral(x.GetToken().Value, x.Value)
	case *ast.FloatNode:
		return n.numeral(x.GetToken().Value, x.Value)
	case *ast.SequenceNode:
		out := []any{}
		for _, v := range x.Values {
			out = append(out, node{n.r, v}.values(object))
		}
		return out
	case ast.MapNode:
		return object(n.entries("value"), func(v node) any { return v.values(object) })
	}
	n.fail("", "a value that JSON does not have: %s", n.n.String())
	return nil
}

// numeral returns a number of YAML as JSON writes it: hexadecimal and its like as what they stand for.
func (n node) numeral(text string, value any) any {
	text = strings.ReplaceAll(strings.TrimPrefix(text, "+"), "_", "")
	if json.Valid([]byte(text)) {
		return json.Number(text)
	}
	s := fmt.Sprint(value)
	if !json.Valid([]byte(s)) { // infinity, not a number
		n.fail("", "a number that JSON does not have: %s", text)
		return json.Number("0")
	}
	return json.Number(s)
}

// at follows a JSON Pointer into the node as far as it goes.
func (n node) at(pointer string) node {
	for part := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
		if part == "" {
			continue
		}
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		next := node{}
		switch x := n.real().(type) {
		case *ast.SequenceNode:
			if i, err := strconv.Atoi(part); err == nil && i >= 0 && i < len(x.Values) {
				next = node{n.r, x.Values[i]}
			}
		case ast.MapNode:
			for _, e := range n.entries("value") {
				if e.key == part {
					next = e.value
				}
			}
		}
		if next.n == nil {
			return n
		}
		n = next
	}
	return n
}
