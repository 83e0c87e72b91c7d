package rule_test

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/payload"
)

// TestTheOfficialSuite: the judge agrees with JSON Schema's own suite for draft 2020-12 on each case, and says the same of
// the value in CBOR and in MessagePack. Schemas that lead out to the network are none of a contract.
func TestTheOfficialSuite(t *testing.T) {
	text, err := os.ReadFile("testdata/suite-2020-12.json")
	if err != nil {
		t.Fatal(err)
	}
	var suite map[string][]struct {
		Description string
		Schema      json.RawMessage
		Tests       []struct {
			Description string
			Data        json.RawMessage
			Valid       bool
		}
	}
	if err := json.Unmarshal(text, &suite); err != nil {
		t.Fatal(err)
	}
	cases, abroad, forms := 0, 0, map[payload.Format]int{}
	for _, file := range slices.Sorted(maps.Keys(suite)) {
		for _, group := range suite[file] {
			doc, err := payload.Decode(payload.JSON, group.Schema)
			if err != nil {
				t.Fatal(file, err)
			}
			schema, err := contract.CompileSchema(fstest.MapFS{}, file+" "+group.Description, doc, nil)
			if err != nil {
				if bytes.Contains(group.Schema, []byte("http://localhost:1234")) || strings.Contains(err.Error(), "leads back to itself") {
					abroad++
					continue
				}
				t.Errorf("%s, %s: %v", file, group.Description, err)
				continue
			}
			for _, x := range group.Tests {
				cases++
				for _, f := range []payload.Format{payload.JSON, payload.CBOR, payload.MessagePack} {
					body := []byte(x.Data)
					if f != payload.JSON {
						v, err := payload.Decode(payload.JSON, x.Data)
						if err != nil {
							continue
						}
						if body, err = payload.Of(f).Encode(v); err != nil {
							continue // a number that it does not have
						}
					}
					forms[f]++
					cl := &contract.Clause{Name: "c", Topic: pattern(t, "v/c"), Payload: contract.Payload{Format: f, Schema: schema}}
					c := &contract.Contract{Clauses: []*contract.Clause{cl}}
					found := rule.Payload(c, cl, body)
					if (len(found) == 0) != x.Valid {
						t.Errorf("%s, %s, %s as %s: %v, want valid %v\n%s of %s", file, group.Description, x.Description, f, found, x.Valid, x.Data, group.Schema)
					}
				}
			}
		}
	}
	if cases < 1050 || forms[payload.CBOR] < cases-40 || forms[payload.MessagePack] < cases-40 || abroad > 40 {
		t.Errorf("%d cases, of them %v; %d schemas lead out", cases, forms, abroad)
	}
	t.Logf("%d cases, in all forms %v; %d schemas lead out to the network", cases, forms, abroad)
}
