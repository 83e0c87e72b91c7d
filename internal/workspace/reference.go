package workspace

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Reference writes the language's reference in Markdown, from the language.
func Reference() string {
	var b strings.Builder
	b.WriteString(`# The workspace file

*Made from the language in ` + "`internal/workspace/language.go`" + ` by ` + "`make docs`" + `; a test holds it to that.
Editors find the same in [workspace.schema.json](workspace.schema.json).*

One YAML file opens everything: brokers, logins, contract and devices. It is best kept in version
control. Unknown keys are errors, told with line and column, and a misspelt one with the key that was
probably meant. What is sound in a file with problems still opens.

- **Durations** are written with their unit: ` + "`250ms`, `5s`, `2m`, `1h30m`" + `.
- **Secrets** are best kept outside: ` + "`{env: NAME}`" + ` reads an environment variable, ` + "`{file: path}`" + ` a file
  beside the workspace. They are never shown, logged or exported.
- **Expressions** are values that begin with ` + "`= `" + `; anything else is literal. They know the device's signals
  by name, ` + "`n`" + ` (its number), in reactions ` + "`payload`" + ` (the message) and ` + "`params`" + ` (its topic's parameters), and the
  functions ` + "`now()`" + ` (RFC 3339, UTC), ` + "`count()`" + ` (how often this value was made before), ` + "`round(x, digits)`" + ` and
  ` + "`choice(a, b, …)`" + `. The language is expr-lang's.
  A device with states has the name of the present one as ` + "`state`" + `.
- **{n}** in names, logins and client ids stands for the device's number.

` + "`hodstone demo --write DIR`" + ` writes a complete example.
`)
	for _, s := range Shapes() {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n| key | type | meaning |\n|---|---|---|\n", s.Name, s.Doc)
		for _, k := range s.Keys {
			name := "`" + k.Name + "`"
			if k.Required {
				name = "**" + name + "**"
			}
			fmt.Fprintf(&b, "| %s | %s | %s |\n", name, linked(k.Type), strings.ReplaceAll(k.Doc, "|", "\\|"))
		}
	}
	b.WriteString("\nKeys in bold are required.\n")
	return b.String()
}

// linked makes the names of shapes in a type into links.
func linked(typ string) string {
	head, name := "", typ
	if i := strings.LastIndex(typ, " of "); i >= 0 {
		head, name = typ[:i+4], typ[i+4:]
	}
	for _, s := range Shapes() {
		if s.Name == name {
			return fmt.Sprintf("%s[%s](#%s)", head, name, name)
		}
	}
	return typ
}

// JSONSchema writes a JSON Schema of the language for editors, from the language.
func JSONSchema() ([]byte, error) {
	defs := map[string]any{}
	for _, s := range Shapes() {
		defs[s.Name] = s.schema()
	}
	return json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema",
		"title":   "Hodstone workspace",
		"$ref":    "#/$defs/workspace",
		"$defs":   defs,
	}, "", "  ")
}

func (s Shape) schema() map[string]any {
	properties := map[string]any{}
	var required []string
	for _, k := range s.Keys {
		p := schemaOf(k.Type)
		p["description"] = k.Doc
		properties[k.Name] = p
		if k.Required {
			required = append(required, k.Name)
		}
	}
	out := map[string]any{
		"type":                 []string{"object", "null"},
		"description":          s.Doc,
		"properties":           properties,
		"additionalProperties": false,
	}
	if required != nil {
		out["required"], out["type"] = required, "object"
	}
	return out
}

func schemaOf(typ string) map[string]any {
	if item, ok := strings.CutPrefix(typ, "list of "); ok {
		one := schemaOf(item)
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
	}
	if item, ok := strings.CutPrefix(typ, "map of "); ok {
		return map[string]any{"type": []string{"object", "null"}, "additionalProperties": schemaOf(item)}
	}
	if item, ok := strings.CutPrefix(typ, "states of "); ok {
		return map[string]any{"type": []string{"object", "null"}, "additionalProperties": schemaOf(item),
			"properties": map[string]any{"first": map[string]any{"type": "string"}}}
	}
	if item, ok := strings.CutPrefix(typ, "connect or one of "); ok {
		return map[string]any{"anyOf": []any{map[string]any{"const": "connect"}, schemaOf(item)}}
	}
	switch typ {
	case "any":
		return map[string]any{}
	case "string", "duration", "cadence", "range", "size":
		return map[string]any{"type": []string{"string", "number", "boolean", "null"}}
	case "version":
		return map[string]any{"enum": []any{"3.1", 3.1, "3.1.1", "5", 5}}
	case "integer", "number", "boolean":
		return map[string]any{"type": typ}
	case "secret":
		outside := func(key string) map[string]any {
			return map[string]any{
				"type":                 "object",
				"required":             []string{key},
				"additionalProperties": false,
				"properties":           map[string]any{key: map[string]any{"type": "string"}},
			}
		}
		return map[string]any{"anyOf": []any{map[string]any{"type": "string"}, outside("env"), outside("file")}}
	}
	return map[string]any{"$ref": "#/$defs/" + typ}
}
