package contract

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	neturl "net/url"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"hodstone/internal/payload"
)

// Schema is a compiled JSON Schema (draft 2020-12). Formats such as date-time are
// held to, for a contract means what it says. Besides the standard's keywords, "unit"
// and "values" (value: meaning) are understood as annotations.
type Schema struct {
	compiled *jsonschema.Schema
	quick    *quick         // nil where the schema says too much for it
	docs     map[string]any // every document by its URL, for annotations
	url      string         // of the schema itself
}

// schemaRoot is the URL under which the files beside the workspace are known to
// schemas. There is no way from it to the network.
const schemaRoot = "workspace:///"

// files loads schema documents from the workspace's folder only.
type files struct {
	fsys fs.FS
	docs map[string]any
}

// Load implements [jsonschema.URLLoader].
func (f files) Load(url string) (any, error) {
	name, ok := strings.CutPrefix(url, schemaRoot)
	if !ok {
		return nil, fmt.Errorf("schemas are read from files beside the workspace only, not from %s", url)
	}
	b, err := fs.ReadFile(f.fsys, path.Clean(name))
	if err != nil {
		return nil, err
	}
	v, err := payload.Decode(payload.JSON, b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	f.docs[url] = v
	return v, nil
}

// CompileSchema compiles a schema that stands in the workspace under the name. A $ref
// is relative to the workspace's folder; definitions are those of the contract, for
// "contract#/definitions/NAME", nil for none. The error says what is wrong and where in
// the schema, as a JSON Pointer.
func CompileSchema(fsys fs.FS, name string, doc any, definitions map[string]any) (*Schema, error) {
	url := schemaRoot + "clause-" + neturl.PathEscape(name)
	f := files{fsys, map[string]any{url: doc, schemaRoot + "contract": map[string]any{"definitions": definitions}}}
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	c.UseLoader(f)
	for at, doc := range f.docs {
		if err := c.AddResource(at, doc); err != nil {
			return nil, err
		}
	}
	compiled, err := c.Compile(url)
	if err != nil {
		return nil, plainSchemaError(err, url)
	}
	if at := circle(compiled); at != nil {
		own := url
		url, pointer, _ := strings.Cut(at.Location, "#")
		if url != own {
			return nil, &SchemaError{
				Reason: fmt.Sprintf(
					"%s#%s leads back to itself without looking at any part of the value: it says nothing",
					strings.TrimPrefix(url, schemaRoot),
					pointer,
				),
			}
		}
		return nil, &SchemaError{
			Pointer: pointer,
			Reason:  "it leads back to itself without looking at any part of the value: it says nothing",
		}
	}
	return &Schema{compiled, newQuick(compiled, 0), f.docs, url}, nil
}

// circle returns a schema that is applied to the same value again by what it consists of, as
// {"$ref": "#"} is, or nil. Schemas that contain themselves by way of a part of the value are sound.
func circle(root *jsonschema.Schema) *jsonschema.Schema {
	const underWay, done = 1, 2
	state := map[*jsonschema.Schema]int{}
	var back *jsonschema.Schema
	var all []*jsonschema.Schema
	var walk func(s *jsonschema.Schema)
	walk = func(s *jsonschema.Schema) {
		switch {
		case back != nil || s == nil || state[s] == done:
			return
		case state[s] == underWay:
			back = s
			return
		}
		state[s] = underWay
		same, parts := applied(s)
		for _, x := range same {
			walk(x)
		}
		state[s] = done
		all = append(all, parts...)
	}
	for all = append(all, root); len(all) > 0 && back == nil; {
		next := all[len(all)-1]
		all = all[:len(all)-1]
		walk(next)
	}
	return back
}

// applied returns the schemas that a schema applies to the same value, and those it applies to parts of it.
func applied(s *jsonschema.Schema) (same, parts []*jsonschema.Schema) {
	same = slices.Concat(
		[]*jsonschema.Schema{s.Ref, s.RecursiveRef, s.Not, s.If, s.Then, s.Else},
		s.AllOf,
		s.AnyOf,
		s.OneOf,
	)
	for _, x := range s.DependentSchemas {
		same = append(same, x)
	}
	if s.DynamicRef != nil {
		same = append(same, s.DynamicRef.Ref)
	}
	for _, x := range s.Dependencies {
		if d, ok := x.(*jsonschema.Schema); ok {
			same = append(same, d)
		}
	}
	for _, x := range s.Properties {
		parts = append(parts, x)
	}
	for _, x := range s.PatternProperties {
		parts = append(parts, x)
	}
	parts = append(
		append(parts, s.PropertyNames, s.UnevaluatedProperties, s.UnevaluatedItems, s.Contains, s.Items2020),
		s.PrefixItems...)
	for _, x := range []any{s.AdditionalProperties, s.Items, s.AdditionalItems} {
		switch x := x.(type) {
		case *jsonschema.Schema:
			parts = append(parts, x)
		case []*jsonschema.Schema:
			parts = append(parts, x...)
		}
	}
	return same, parts
}

// plainSchemaError names the place and the reason without the library's frame.
func plainSchemaError(err error, own string) error {
	var invalid *jsonschema.SchemaValidationError
	var cause *jsonschema.ValidationError
	if errors.As(err, &invalid) && errors.As(invalid.Err, &cause) {
		for len(cause.Causes) > 0 {
			cause = cause.Causes[0]
		}
		at, reason := payload.Pointer(cause.InstanceLocation...), cause.ErrorKind.LocalizedString(english)
		if file, _, _ := strings.Cut(invalid.URL, "#"); file != own { // the place is in another file
			return &SchemaError{Reason: fmt.Sprintf("%s at %s: %s", strings.TrimPrefix(file, schemaRoot), at, reason)}
		}
		return &SchemaError{Pointer: at, Reason: reason}
	}
	var load *jsonschema.LoadURLError
	if errors.As(err, &load) {
		return &SchemaError{
			Reason: fmt.Sprintf("cannot read %s: %v", strings.TrimPrefix(load.URL, schemaRoot), load.Err),
		}
	}
	return &SchemaError{Reason: strings.ReplaceAll(err.Error(), schemaRoot, "")}
}

// SchemaError tells why a schema is none.
type SchemaError struct {
	Pointer string // where in the schema, as a JSON Pointer
	Reason  string
}

// Error says it on one line.
func (e *SchemaError) Error() string {
	if e.Pointer == "" {
		return e.Reason
	}
	return fmt.Sprintf("at %s: %s", e.Pointer, e.Reason)
}

var english = message.NewPrinter(language.English)

// Breaches returns what the value breaks, without time, place and sender. What the validator calls invalid,
// or cannot decide, is at least one.
func (s *Schema) Breaches(v any) (out []Breach) {
	err := s.compiled.Validate(v)
	if err == nil {
		return nil
	}
	var root *jsonschema.ValidationError
	if !errors.As(err, &root) {
		return []Breach{
			{Expected: "a value that the schema can decide on", Seen: strings.ReplaceAll(err.Error(), schemaRoot, "")},
		}
	}
	var walk func(e *jsonschema.ValidationError)
	walk = func(e *jsonschema.ValidationError) {
		for _, c := range e.Causes {
			walk(c)
		}
		keyword := strings.Join(e.ErrorKind.KeywordPath(), "/")
		if _, is := e.ErrorKind.(*kind.Not); is {
			keyword = "not" // its path is empty
		}
		// Frames that only lead to their causes say nothing; anyOf and its like do.
		if keyword == "" && len(e.Causes) > 0 ||
			len(e.Causes) > 0 && (keyword == "$ref" || keyword == "$dynamicRef" || keyword == "allOf") {
			return
		}
		where := payload.Pointer(e.InstanceLocation...)
		got, _ := payload.At(v, where)
		b := Breach{Keyword: keyword, Where: where, Expected: s.expectation(e), Seen: compact(got)}
		if keyword == "required" || keyword == "additionalProperties" || keyword == "" {
			b.Seen = e.ErrorKind.LocalizedString(english)
		}
		if payload.TwiceEncoded(got) {
			b.Seen += ": JSON that was encoded twice?"
		}
		out = append(out, b)
	}
	walk(root)
	if len(out) == 0 { // a frame that says nothing of its own, and has no cause
		out = []Breach{{Expected: "what the schema allows", Seen: compact(v)}}
	}
	// The library walks maps: make the order the same every time.
	slices.SortStableFunc(out, func(a, b Breach) int {
		return cmp.Or(strings.Compare(a.Where, b.Where), strings.Compare(a.Keyword, b.Keyword))
	})
	return out
}

func (s *Schema) expectation(e *jsonschema.ValidationError) string {
	url, pointer, _ := strings.Cut(e.SchemaURL, "#")
	keyword := e.ErrorKind.KeywordPath()
	if _, is := e.ErrorKind.(*kind.Not); is {
		keyword = []string{"not"}
	}
	rule, ok := payload.At(s.docs[url], pointer+payload.Pointer(keyword...))
	if !ok && len(keyword) > 1 {
		rule, ok = payload.At(s.docs[url], pointer+payload.Pointer(keyword[0]))
	}
	if !ok {
		return e.ErrorKind.LocalizedString(english)
	}
	return strings.Join(keyword, "/") + " " + compact(rule)
}

// Anything tells whether every value fits the schema.
func (s *Schema) Anything() bool {
	x := s.compiled
	if x.Bool != nil {
		return *x.Bool
	}
	doc, _ := s.docs[s.url].(map[string]any)
	for key := range doc {
		switch key {
		case "$schema", "$id", "$comment", "title", "description", "unit", "values", "examples", "default", "$defs", "definitions":
		default:
			return false
		}
	}
	return doc != nil
}

// Compact writes a value as JSON on one line, cut where it is long.
func Compact(v any) string { return compact(v) }

func compact(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return payload.Clip(string(b), 120)
}

// Field describes one place of a payload for people.
type Field struct {
	Pointer  string // JSON Pointer; "" for the whole payload
	Name     string
	Type     string
	Unit     string
	Range    string
	Required bool
	Note     string
	Values   map[string]string // meanings by value as JSON
}

// Fields describes the payload's fields: one row for each property, nested ones
// after their parent.
func (p *Payload) Fields() []Field {
	if p.Schema != nil {
		return p.Schema.fields(p.Schema.compiled, "", 0)
	}
	f := Field{Name: "payload", Type: p.Words(), Unit: p.Unit, Required: true, Values: map[string]string{}}
	if c, is := p.Codec.(payload.NumberText); is && f.Unit == "" {
		f.Unit = strings.TrimSpace(c.Suffix)
	}
	f.Range = Span(p.Minimum, p.Maximum)
	for _, v := range p.Values {
		f.Values[v.Text] = v.Meaning
	}
	return []Field{f}
}

// Words say what the payload is: its format, and what is agreed beside it.
func (p *Payload) Words() string {
	s := string(p.Format)
	switch c := p.Codec.(type) {
	case payload.NumberText:
		s += fmt.Sprintf(" with %q behind it", c.Suffix)
	case *payload.ProtoMessage:
		s += " " + c.Name()
	case payload.Layout:
		s = "a packed structure"
		if c.Size >= 0 {
			s += fmt.Sprintf(" of %d bytes", c.Size)
		}
	}
	if p.MediaType != "" {
		s = p.MediaType
	}
	return s
}

// maxFieldDepth ends the description of schemas that contain themselves.
const maxFieldDepth = 6

func (s *Schema) fields(sch *jsonschema.Schema, at string, depth int) (out []Field) {
	for n := 0; sch.Ref != nil && len(sch.Properties) == 0 && n < maxFieldDepth; n++ {
		sch = sch.Ref
	}
	if depth > maxFieldDepth {
		return nil
	}
	names := make([]string, 0, len(sch.Properties))
	for n := range sch.Properties {
		names = append(names, n)
	}
	sort.Slice(names, func(i, j int) bool {
		a, b := slices.Index(sch.Required, names[i]), slices.Index(sch.Required, names[j])
		if (a < 0) != (b < 0) {
			return a >= 0
		}
		if a != b {
			return a < b
		}
		return names[i] < names[j]
	})
	for _, n := range names {
		p := sch.Properties[n]
		for n := 0; p.Ref != nil && p.Types == nil && len(p.Properties) == 0 && n < maxFieldDepth; n++ {
			p = p.Ref
		}
		f := Field{Pointer: at + payload.Pointer(n), Name: strings.TrimPrefix(at+"/"+n, "/"),
			Required: slices.Contains(sch.Required, n), Note: p.Description, Values: map[string]string{}}
		if p.Types != nil {
			f.Type = strings.Join(p.Types.ToStrings(), " or ")
		}
		if p.Format != nil {
			f.Type += ", " + p.Format.Name
		}
		f.Range = Span(float(p.Minimum), float(p.Maximum))
		s.annotate(&f, p)
		out = append(out, f)
		out = append(out, s.fields(p, f.Pointer, depth+1)...)
	}
	return out
}

func (s *Schema) annotate(f *Field, p *jsonschema.Schema) {
	url, pointer, _ := strings.Cut(p.Location, "#")
	raw, _ := payload.At(s.docs[url], pointer)
	doc, _ := raw.(map[string]any)
	f.Unit, _ = doc["unit"].(string)
	if p.Enum != nil {
		for _, v := range p.Enum.Values {
			f.Values[compact(v)] = ""
		}
	}
	if m, ok := doc["values"].(map[string]any); ok {
		for k, v := range m {
			if _, quoted := f.Values[compact(k)]; quoted {
				k = compact(k)
			}
			f.Values[k] = fmt.Sprint(v)
		}
	}
}

func float(r *big.Rat) *float64 {
	if r == nil {
		return nil
	}
	f, _ := r.Float64()
	return &f
}

// Span writes bounds for people; either may be nil.
func Span(lo, hi *float64) string {
	switch {
	case lo != nil && hi != nil:
		return fmt.Sprintf("%v … %v", *lo, *hi)
	case lo != nil:
		return fmt.Sprintf("≥ %v", *lo)
	case hi != nil:
		return fmt.Sprintf("≤ %v", *hi)
	}
	return ""
}
