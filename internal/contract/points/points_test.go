package points_test

import (
	"strings"
	"testing"

	"hodstone/internal/contract/points"
	"hodstone/internal/workspace"
)

// TestAListBecomesClauses: columns of any names, rows that cannot be mapped told by line, the rest sound.
func TestAListBecomesClauses(t *testing.T) {
	list := "\ufeffTag;Area;No.;Was;Richtung;Typ;Einheit;Span;Often\n" +
		"TT-1;Käse vat;1;Temperature;DI;REAL;°C;0 to 100;5s ± 1s\n" +
		"TT-2;Käse vat;2;Temperature;DI;REAL;°C;0 to 100;5s ± 1s\n" +
		"TT-3;Käse vat;3;Temperature;DI;REAL;°F;0 to 100;5s ± 1s\n" +
		"YV-1;Whey;1;Valve;DO;BOOL;;;\n" +
		"PT-1;Press;1;Pressure;AI;REAL;;-1,5…10 bar;\n" +
		"CT-1;Press;1;Count;in;DINT;;;\n" +
		"XX-1;;1;x;in;REAL;;;\n" +
		"XX-2;Press;;x;in;REAL;;;\n" +
		"XX-3;Press;1;#/+;in;REAL;;;\n" +
		"XX-4;Press;1;odd;sideways;WEIRD;;much;\n" +
		";;;;;;;;\n" +
		"ZZ-1;Press;1;nothing;in;;;;\n"
	head, err := points.Columns(strings.NewReader(list))
	if err != nil || len(head) != 9 || head[0] != "Tag" {
		t.Fatal(head, err)
	}
	m := points.Guess(head)
	for k, v := range map[string]string{"topic": "dairy/{Area}/{No.}/{Was}", "parameter": "no.", "direction": "{richtung}", "type": "{Typ}",
		"unit": "{Einheit}", "range": "{Span}", "note": "{Tag} in {Area}", "from": "plc", "to": "desk", "qos": "1", "retain": "yes", "every": "{Often}", "field": "v"} {
		m[k] = v
	}
	m["note"] = ""
	r, err := points.Read(strings.NewReader(list), m)
	if err != nil {
		t.Fatal(err)
	}
	text := ""
	for _, c := range r.Clauses {
		text += workspace.YAML(c.Tree, 0, nil)
	}
	for _, want := range []string{
		"topic: dairy/kaese-vat/{no}/temperature\nfrom: plc\nto: desk\nqos: 1\nretain: true\nevery: 5s ± 1s\n",
		`v: {type: number, minimum: 0, maximum: 100, unit: "°C"}`, "topic: dairy/whey/{no}/valve\nfrom: desk\nto: plc\n",
		"v: {type: boolean}", "v: {type: number, minimum: -1.5, maximum: 10, unit: bar}", "v: {type: integer}", "v: {type: string}",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("lacks %s in\n%s", want, text)
		}
	}
	left := ""
	for _, x := range r.Left {
		left += strings.TrimSpace(x.Point) + " " + x.Why + "\n"
	}
	for _, want := range []string{"TT-3 it is another than line 2", "XX-1 Area is empty", "XX-2 no. is empty", "XX-3 Was is empty, or holds nothing fit for a topic", "XX-4 direction \"sideways\" is neither in nor out",
		`XX-4 the range "much" cannot be read`, `XX-4 the type "weird" is not known`, "ZZ-1 nothing is said of its type"} {
		if !strings.Contains(left, want) {
			t.Errorf("does not tell %s:\n%s", want, left)
		}
	}
	if got := strings.Join(r.Parameters["no"], " "); got != "1 2" {
		t.Errorf("values %s", got)
	}
	if len(r.Parties) != 2 || len(r.Clauses) != 6 || len(r.Clauses[0].Lines) != 2 {
		t.Errorf("%v, %d clauses", r.Parties, len(r.Clauses))
	}
}

// TestListsOfOtherMakers: values bare in place of fields, ranges in two columns, numbers that come in their order, names
// of clauses as they are mapped, columns with customary names.
func TestListsOfOtherMakers(t *testing.T) {
	list := "id,description,type,min,max,unit,io,unitno\na,first,DI,,,,in,10\nb,,AO,4,20,mA,,9\nc,,DO,,,,,10\nd,,,1,,,,9\ne,,string,,,,in,9\nf,,INT,,+7,,read,9\n"
	m := points.Guess([]string{"id", "description", "type", "min", "max", "unit", "io", "unitno"})
	for k, v := range map[string]string{"topic": "x/{id}/{unitno}", "parameter": "unitno", "name": "point {id}", "from": "plc", "to": "desk", "every": "5s", "qos": "2", "retain": "-"} {
		m[k] = v
	}
	r, err := points.Read(strings.NewReader(list), m)
	if err != nil || len(r.Left) != 0 {
		t.Fatalf("%v %+v", err, r.Left)
	}
	text := ""
	for _, c := range r.Clauses {
		text += c.Name + " from " + c.From + " to " + c.To + "\n" + workspace.YAML(c.Tree, 0, nil)
	}
	for _, want := range []string{
		"point a from plc to desk\ntopic: x/a/{unitno}\nfrom: plc\nto: desk\nqos: 2\nretain: false\nevery: 5s\npayload: {format: text, values: {\"0\": \"no\", \"1\": \"yes\"}}\nnote: first\n",
		"point b from desk to plc\ntopic: x/b/{unitno}\nfrom: desk\nto: plc\nqos: 2\nretain: false\npayload: {format: number, minimum: 4, maximum: 20, unit: mA}\n",
		"point c from desk to plc\n", "payload: {format: number, minimum: 1}\n", "payload: {format: text}\n", "payload: {format: number, maximum: 7}\n",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("lacks\n%s\nin\n%s", want, text)
		}
	}
	if got := strings.Join(r.Parameters["unitno"], " "); got != "9 10" {
		t.Errorf("values %s", got)
	}
	// Without a mapping, a name is the levels behind the first; of one level it is that. Two of one name are told apart.
	r, err = points.Read(strings.NewReader("p,q\na,x\nb,x\n"), points.Map{"topic": "s/{p}/{q}", "name": "same", "type": "bool"})
	if err != nil || len(r.Clauses) != 2 || r.Clauses[1].Name != "same-3" {
		t.Errorf("%v %+v", err, r)
	}
	r, err = points.Read(strings.NewReader("p\na\n"), points.Map{"topic": "{p}", "type": "bool", "parameter": "p"})
	if err != nil || len(r.Clauses) != 1 || r.Clauses[0].Name != "{p}" {
		t.Errorf("%v %+v", err, r.Clauses[0])
	}
	if head, err := points.Columns(strings.NewReader(" a , b \n")); err != nil || head[0] != "a" || head[1] != "b" {
		t.Error(head, err)
	}
}

// TestBadLists are told as what they are.
func TestBadLists(t *testing.T) {
	ok := points.Map{"topic": "a/{point}"}
	for name, c := range map[string]struct {
		list string
		m    points.Map
		want string
	}{
		"empty":          {"", ok, "the list is empty"},
		"no topic":       {"point\nx\n", points.Map{}, "map topic"},
		"no such column": {"point\nx\n", points.Map{"topic": "a/{pint}"}, "topic speaks of the column pint; there are: point"},
		"no such key":    {"point\nx\n", points.Map{"topic": "a", "topik": "b"}, "nothing called topik"},
		"no parameter":   {"point\nx\n", points.Map{"topic": "a", "parameter": "n"}, "parameter speaks of the column n"},
		"wide":           {strings.Repeat("a,", 300) + "b\n", ok, "301 columns"},
	} {
		if _, err := points.Read(strings.NewReader(c.list), c.m); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for m, want := range map[string]string{"qos": `qos "w" is not 0, 1 or 2`, "retain": `retain "w" is neither true nor false`, "minimum": `the minimum "w" is no number`} {
		r, err := points.Read(strings.NewReader("point,v\nx,w\nx,\ny,1\n\"z\n"), points.Map{"topic": "a/{point}", m: "{v}", "type": "real"})
		if err != nil || len(r.Left) < 2 || r.Left[0].Line != 2 || r.Left[0].Why != want {
			t.Errorf("%s: %v %+v", m, err, r)
		}
	}
	r, err := points.Read(strings.NewReader("p\tv\nx\t1\nx\t1\n"), points.Map{"topic": "a/{p}", "type": "ai"})
	if err != nil || len(r.Clauses) != 1 || len(r.Left) != 1 || !strings.Contains(r.Left[0].Why, "the topic a/x is that of line 2 too") {
		t.Errorf("%v %+v", err, r)
	}
}

func FuzzPoints(f *testing.F) {
	f.Add("a;b\n1;2\n", "t/{a}", "b")
	f.Add("a,b\n\"x\n", "{a}/{b}", "")
	f.Fuzz(func(t *testing.T, list, topic, parameter string) {
		r, err := points.Read(strings.NewReader(list), points.Map{"topic": topic, "parameter": parameter, "type": "real", "note": "{a}"})
		if err != nil {
			return
		}
		for _, c := range r.Clauses {
			if len(c.Lines) == 0 || c.Name == "" {
				t.Errorf("%+v", c)
			}
		}
	})
}
