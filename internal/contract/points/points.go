// Package points makes clauses of a list of I/O points: a spreadsheet, as CSV with any names of columns, one point to
// a row.
package points

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
)

// Limits of a list.
const (
	maxRows    = 50_000
	maxColumns = 200
)

// Map says what of a clause comes from which column: values are texts with {column} in them, by what they are for.
type Map map[string]string

// Keys are what can be mapped, with what each is.
var Keys = []struct{ Name, Doc string }{
	{"topic", "the topic: site/{area}/{point}; a column in braces fills in its text, made fit for a topic level"},
	{"name", "the clause's name; by default the topic's levels"},
	{"from", "the publisher of inputs, and the consumer of outputs: the device's party"},
	{"to", "the consumer of inputs, and the publisher of outputs"},
	{"direction", "the column that tells inputs from outputs: in, DI, AI, input … and out, DO, AO, output …"},
	{"type", "the column with the type: bool, int, real, string and their like, or DI, DO, AI, AO"},
	{"unit", "the column with the unit"},
	{"range", "the column with the range: 0..100, 0-100, 4 to 20"},
	{"minimum", "in place of range"},
	{"maximum", "in place of range"},
	{"note", "what it is, for people"},
	{"field", "the name of the field of a JSON object that carries the value; a bare value without it"},
	{"qos", "0, 1 or 2"},
	{"retain", "true or false"},
	{"every", "how often inputs come: 5s ± 1s"},
	{"parameter", "the columns whose values are parameters of the topic, with commas: number,area"},
}

// Row is a row that could not be mapped, or only in part.
type Row struct {
	Line  int
	Point string // the first column, for people
	Why   string
}

// Clause is what a row became, or several rows that differ in a parameter.
type Clause struct {
	Name  string
	Tree  expression.Object
	Lines []int
	From  string
	To    string
}

// Result is what a list was made into.
type Result struct {
	Clauses    []*Clause
	Parameters map[string][]string // values by parameter
	Parties    []string
	Left       []Row
}

// Columns reads the names of the columns, for guessing and for telling which there are.
func Columns(r io.Reader) ([]string, error) {
	_, head, err := open(r)
	return head, err
}

// open finds out what separates the columns, and reads the first row.
func open(r io.Reader) (*csv.Reader, []string, error) {
	b, err := io.ReadAll(io.LimitReader(r, 16<<20+1))
	switch {
	case err != nil:
		return nil, nil, err
	case len(b) > 16<<20:
		return nil, nil, errors.New("the list has more than 16 MiB")
	}
	text := strings.TrimPrefix(string(b), "\ufeff")
	first, _, _ := strings.Cut(text, "\n")
	comma, most := ',', -1
	for _, c := range []rune{',', ';', '\t', '|'} {
		if n := strings.Count(first, string(c)); n > most {
			comma, most = c, n
		}
	}
	c := csv.NewReader(strings.NewReader(text))
	c.Comma, c.FieldsPerRecord, c.TrimLeadingSpace = comma, -1, true
	head, err := c.Read()
	if err == io.EOF {
		return nil, nil, errors.New("the list is empty: its first row names the columns")
	}
	if err != nil {
		return nil, nil, fmt.Errorf("this is no CSV: %w", err)
	}
	if len(head) > maxColumns {
		return nil, nil, fmt.Errorf("it has %d columns; %d are read at most", len(head), maxColumns)
	}
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	return c, head, nil
}

var column = regexp.MustCompile(`\{([^{}]+)\}`)

// Check tells whether a mapping speaks of columns that there are.
func (m Map) Check(head []string) error {
	known := func(name string) bool {
		return slices.ContainsFunc(head, func(h string) bool { return strings.EqualFold(h, name) })
	}
	for _, key := range slices.Sorted(maps.Keys(m)) {
		if !slices.ContainsFunc(Keys, func(k struct{ Name, Doc string }) bool { return k.Name == key }) {
			var all []string
			for _, k := range Keys {
				all = append(all, k.Name)
			}
			return fmt.Errorf("there is nothing called %s to map; there are: %s", key, strings.Join(all, ", "))
		}
		for _, c := range column.FindAllStringSubmatch(m[key], -1) {
			if !known(c[1]) {
				return fmt.Errorf("%s speaks of the column %s; there are: %s", key, c[1], strings.Join(head, ", "))
			}
		}
	}
	if m["topic"] == "" {
		return errors.New("map topic: --map topic=site/{area}/{point}")
	}
	return nil
}

// Guess maps what the names of columns tell by themselves.
func Guess(head []string) Map {
	out := Map{}
	for key, words := range map[string][]string{
		"direction": {"direction", "dir", "in/out", "i/o", "io"},
		"type":      {"type", "datatype", "data type", "signal type", "kind"},
		"unit":      {"unit", "units", "eu", "engineering unit"},
		"range":     {"range", "span", "scale"},
		"minimum":   {"min", "minimum", "low", "range low"},
		"maximum":   {"max", "maximum", "high", "range high"},
		"note":      {"description", "note", "comment", "remarks", "text"},
	} {
		for _, h := range head {
			if slices.Contains(words, strings.ToLower(h)) {
				out[key] = "{" + h + "}"
				break
			}
		}
	}
	return out
}

// list is a list that is being read.
type list struct {
	head   []string
	m      Map
	result *Result
	by     map[string]*Clause
	params []string
}

// Read makes clauses of a list. What could not be mapped is told row by row; an error is one of the list as a whole.
func Read(r io.Reader, m Map) (*Result, error) {
	c, head, err := open(r)
	if err != nil {
		return nil, err
	}
	if err := m.Check(head); err != nil {
		return nil, err
	}
	l := list{head: head, m: m, by: map[string]*Clause{}, result: &Result{Parameters: map[string][]string{}}}
	for p := range strings.SplitSeq(m["parameter"], ",") {
		if p = strings.TrimSpace(p); p != "" {
			l.params = append(l.params, p)
		}
	}
	for _, p := range l.params {
		if !slices.ContainsFunc(head, func(h string) bool { return strings.EqualFold(h, p) }) {
			return nil, fmt.Errorf("parameter speaks of the column %s; there are: %s", p, strings.Join(head, ", "))
		}
	}
	for n := 0; ; n++ {
		row, err := c.Read()
		if err == io.EOF {
			break
		}
		line := 0
		if len(row) > 0 {
			line, _ = c.FieldPos(0)
		}
		if err != nil {
			var parse *csv.ParseError
			if !errors.As(err, &parse) {
				return nil, err
			}
			l.result.Left = append(l.result.Left, Row{Line: parse.Line, Why: parse.Err.Error()})
			continue
		}
		if n >= maxRows {
			return nil, fmt.Errorf("the list has more than %d rows", maxRows)
		}
		if strings.TrimSpace(strings.Join(row, "")) == "" {
			continue
		}
		l.row(row, line)
	}
	slices.Sort(l.result.Parties)
	for _, values := range l.result.Parameters {
		slices.SortFunc(values, func(a, b string) int {
			x, err := strconv.Atoi(a)
			y, err2 := strconv.Atoi(b)
			if err == nil && err2 == nil {
				return x - y
			}
			return strings.Compare(a, b)
		})
	}
	return l.result, nil
}

// cell is a row's text in a column.
func (l *list) cell(row []string, name string) string {
	for i, h := range l.head {
		if strings.EqualFold(h, name) && i < len(row) {
			return strings.TrimSpace(row[i])
		}
	}
	return ""
}

// fill is what a key is mapped to, with a row's texts; level makes them fit for levels of topics.
func (l *list) fill(row []string, key string, level bool) (text string, missing []string) {
	text = column.ReplaceAllStringFunc(l.m[key], func(s string) string {
		name := s[1 : len(s)-1]
		if level && l.parameter(name) {
			return "{" + levelName(name) + "}"
		}
		v := l.cell(row, name)
		if v == "" {
			missing = append(missing, name)
		}
		if level && v != "" {
			if v = Level(v); v == "" {
				missing = append(missing, name)
			}
		}
		return v
	})
	return text, missing
}

func (l *list) parameter(name string) bool {
	return slices.ContainsFunc(l.params, func(p string) bool { return strings.EqualFold(p, name) })
}

var unfit = regexp.MustCompile(`[^A-Za-z0-9_.-]+`)

// Level makes a text fit for a level of a topic: small letters, digits, - and _.
func Level(s string) string {
	s = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "Ä", "ae", "Ö", "oe", "Ü", "ue", "°", "deg", "%", "percent").Replace(s)
	return strings.Trim(unfit.ReplaceAllString(strings.ToLower(s), "-"), "-")
}

func levelName(s string) string { return strings.Trim(strings.ReplaceAll(Level(s), ".", "-"), "-") }

// row makes a clause of a row, or adds it to one that is there.
func (l *list) row(row []string, line int) {
	point := ""
	if len(row) > 0 {
		point = strings.TrimSpace(row[0])
	}
	leave := func(format string, args ...any) {
		l.result.Left = append(l.result.Left, Row{line, point, fmt.Sprintf(format, args...)})
	}
	topic, missing := l.fill(row, "topic", true)
	if len(missing) > 0 {
		leave("%s is empty, or holds nothing fit for a topic, which needs it", strings.Join(missing, ", "))
		return
	}
	pattern, err := contract.ParsePattern(topic)
	if err != nil {
		leave("%v", err)
		return
	}
	out, known := l.output(row)
	if !known {
		leave("direction %q is neither in nor out: it is taken for an input", l.cellOf(row, "direction"))
	}
	var params []string
	for _, p := range l.params {
		v := Level(l.cell(row, p))
		if v == "" {
			leave("%s is empty, and it is a parameter", p)
			return
		}
		params = append(params, v)
	}
	body, err := l.body(row, topic, out, leave)
	if err != nil {
		leave("%v", err)
		return
	}
	name, _ := l.fill(row, "name", false)
	if name == "" {
		name = l.nameOf(pattern)
	}
	if c := l.by[topic]; c != nil {
		if len(l.params) == 0 {
			leave("the topic %s is that of line %d too", topic, c.Lines[0])
			return
		}
		if contract.SameText(c.Tree) != contract.SameText(body.Object) {
			leave("it is another than line %d, which has the same topic %s: give it a topic of its own", c.Lines[0], topic)
			return
		}
		c.Lines = append(c.Lines, line)
	} else {
		for _, other := range l.result.Clauses {
			if other.Name == name {
				name = fmt.Sprintf("%s-%d", name, line)
			}
		}
		c = &Clause{Name: name, Tree: body.Object, Lines: []int{line}, From: body.from, To: body.to}
		l.by[topic] = c
		l.result.Clauses = append(l.result.Clauses, c)
		for _, p := range []string{body.from, body.to} {
			if p != "" && !slices.Contains(l.result.Parties, p) {
				l.result.Parties = append(l.result.Parties, p)
			}
		}
	}
	for i, p := range l.params {
		key := levelName(p)
		if !slices.Contains(l.result.Parameters[key], params[i]) {
			l.result.Parameters[key] = append(l.result.Parameters[key], params[i])
		}
	}
}

// nameOf names a clause by the levels of its topic but the first, which all have.
func (l *list) nameOf(p contract.Pattern) string {
	var parts []string
	for i, level := range strings.Split(p.String(), "/") {
		if i > 0 && !strings.HasPrefix(level, "{") {
			parts = append(parts, level)
		}
	}
	if len(parts) == 0 {
		return p.String()
	}
	return strings.Join(parts, ".")
}

func (l *list) cellOf(row []string, key string) string {
	s, _ := l.fill(row, key, false)
	return s
}

// output tells whether the point is written to the device; what nothing is said of is an input.
func (l *list) output(row []string) (out, known bool) {
	said := strings.ToLower(l.cellOf(row, "direction"))
	if said == "" {
		said = strings.ToLower(l.cellOf(row, "type"))
		switch said {
		case "do", "ao":
			return true, true
		}
		return false, true
	}
	switch said {
	case "out", "output", "o", "do", "ao", "write", "command", "cmd", "setpoint", "sp", "w", "q":
		return true, true
	case "in", "input", "i", "di", "ai", "read", "status", "measurement", "pv", "r":
		return false, true
	}
	return false, false
}

// body is a clause that is being made.
type body struct {
	expression.Object
	from, to string
}

func (b *body) put(key string, v any) {
	b.Object = append(b.Object, expression.Member{Key: key, Value: v})
}

func (l *list) body(row []string, topic string, out bool, leave func(string, ...any)) (*body, error) {
	b := &body{from: l.cellOf(row, "from"), to: l.cellOf(row, "to")}
	if out {
		b.from, b.to = b.to, b.from
	}
	b.put("topic", topic)
	if b.from != "" {
		b.put("from", b.from)
	}
	if b.to != "" {
		b.put("to", b.to)
	}
	if q := l.cellOf(row, "qos"); q != "" {
		n, err := strconv.Atoi(q)
		if err != nil || n < 0 || n > 2 {
			return nil, fmt.Errorf("qos %q is not 0, 1 or 2", q)
		}
		b.put("qos", n)
	}
	if r := strings.ToLower(l.cellOf(row, "retain")); r != "" {
		switch r {
		case "true", "yes", "y", "1", "x":
			b.put("retain", true)
		case "false", "no", "n", "0", "-":
			b.put("retain", false)
		default:
			return nil, fmt.Errorf("retain %q is neither true nor false", r)
		}
	}
	if every := l.cellOf(row, "every"); every != "" && !out {
		b.put("every", every)
	}
	value, err := l.value(row, leave)
	if err != nil {
		return nil, err
	}
	b.put("payload", l.payload(row, value))
	if note := l.cellOf(row, "note"); note != "" {
		b.put("note", note)
	}
	return b, nil
}

// payload is the value bare, or as a field of a JSON object.
func (l *list) payload(row []string, value expression.Object) expression.Object {
	if field := l.cellOf(row, "field"); field != "" {
		return expression.Object{{Key: "format", Value: "json"}, {Key: "schema", Value: expression.Object{
			{Key: "type", Value: "object"}, {Key: "required", Value: []any{field}},
			{Key: "properties", Value: expression.Object{{Key: field, Value: value}}}}}}
	}
	kind := text(value, "type")
	if kind == "number" || kind == "integer" {
		out := expression.Object{{Key: "format", Value: "number"}}
		for _, m := range value {
			if m.Key != "type" {
				out = append(out, m)
			}
		}
		return out
	}
	if kind == "boolean" {
		return expression.Object{{Key: "format", Value: "text"}, {Key: "values", Value: expression.Object{{Key: "0", Value: "no"}, {Key: "1", Value: "yes"}}}}
	}
	return expression.Object{{Key: "format", Value: "text"}}
}

func text(o expression.Object, key string) string {
	for _, m := range o {
		if m.Key == key {
			s, _ := m.Value.(string)
			return s
		}
	}
	return ""
}

var span = regexp.MustCompile(`^\s*(-?[0-9]+(?:[.,][0-9]+)?)\s*(?:\.\.\.?|…|–|to|bis|/|-)\s*(-?[0-9]+(?:[.,][0-9]+)?)\s*(.*)$`)

// value is the schema of a point's value.
func (l *list) value(row []string, leave func(string, ...any)) (expression.Object, error) {
	out := expression.Object{}
	put := func(key string, v any) { out = append(out, expression.Member{Key: key, Value: v}) }
	said := strings.ToLower(l.cellOf(row, "type"))
	lo, hi, unit := l.cellOf(row, "minimum"), l.cellOf(row, "maximum"), l.cellOf(row, "unit")
	if r := l.cellOf(row, "range"); r != "" {
		m := span.FindStringSubmatch(r)
		if m == nil {
			leave("the range %q cannot be read: write 0..100", r)
		} else {
			lo, hi = m[1], m[2]
			if unit == "" {
				unit = strings.TrimSpace(m[3])
			}
		}
	}
	switch said {
	case "bool", "boolean", "bit", "digital", "di", "do", "binary", "switch":
		put("type", "boolean")
		return out, nil
	case "int", "integer", "dint", "uint", "udint", "sint", "usint", "lint", "word", "dword", "byte", "counter", "int16", "int32", "uint16", "uint32":
		put("type", "integer")
	case "real", "lreal", "float", "double", "number", "analog", "analogue", "ai", "ao", "float32", "float64":
		put("type", "number")
	case "string", "text", "char":
		put("type", "string")
		return out, nil
	case "":
		if lo == "" && hi == "" && unit == "" {
			leave("nothing is said of its type: it is taken for a text")
			put("type", "string")
			return out, nil
		}
		put("type", "number")
	default:
		leave("the type %q is not known: it is taken for a number", said)
		put("type", "number")
	}
	for _, x := range []struct{ key, text string }{{"minimum", lo}, {"maximum", hi}} {
		if x.text == "" {
			continue
		}
		s := strings.ReplaceAll(x.text, ",", ".")
		if _, err := strconv.ParseFloat(s, 64); err != nil {
			return nil, fmt.Errorf("the %s %q is no number", x.key, x.text)
		}
		put(x.key, json.Number(strings.TrimPrefix(s, "+")))
	}
	if unit != "" {
		put("unit", unit)
	}
	return out, nil
}
