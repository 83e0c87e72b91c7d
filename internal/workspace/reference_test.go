package workspace_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"hodstone/demo"
	"hodstone/internal/workspace"
)

var update = flag.Bool("update", false, "write docs/workspace.md and docs/workspace.schema.json anew")

// TestReference holds the documents to the language.
func TestReference(t *testing.T) {
	schema, err := workspace.JSONSchema()
	if err != nil {
		t.Fatal(err)
	}
	for file, want := range map[string][]byte{"../../docs/workspace.md": []byte(workspace.Reference()), "../../docs/workspace.schema.json": append(schema, '\n')} {
		if *update {
			if err := os.WriteFile(file, want, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		got, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(got, want) {
			t.Errorf("%s is not what the language says: 'make docs' writes it anew", file)
		}
	}
}

// TestEditorsAndHodstoneAgree: the published schema takes what the reader takes, and
// refuses a misspelt key as it does.
func TestEditorsAndHodstoneAgree(t *testing.T) {
	text, err := workspace.JSONSchema()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("workspace.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("workspace.json")
	if err != nil {
		t.Fatal(err)
	}
	src, err := demo.Files.ReadFile(demo.File)
	if err != nil {
		t.Fatal(err)
	}
	check := func(text string) error {
		var v any
		if err := yaml.Unmarshal([]byte(text), &v); err != nil {
			t.Fatal(err)
		}
		b, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(instance)
	}
	old := strings.Replace(sound, "quay: {", "quay: {version: 3.1, ", 1)
	for _, good := range []string{string(src), sound, old} {
		if err := check(good); err != nil {
			t.Errorf("the schema refuses what Hodstone reads: %v", err)
		}
	}
	for _, bad := range []string{strings.Replace(string(src), "keep-alive", "keep-alife", 1), strings.Replace(sound, "stand-in", "standin", 1), "name: no version"} {
		if check(bad) == nil {
			t.Errorf("the schema takes what Hodstone refuses:\n%.80s…", bad)
		}
	}
}
