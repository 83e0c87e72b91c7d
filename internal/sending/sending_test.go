package sending_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"hodstone/internal/sending"
	"hodstone/internal/workspace"
)

// site is the demo's, with pen-2 and the shore at work.
func site(t testing.TB) sending.Site {
	t.Helper()
	w, err := workspace.Open(filepath.Join("..", "..", "demo", "hodstone.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return sending.Site{
		Contract: w.Contract,
		Actors: []sending.Actor{
			{Name: "pen-1", Party: "pen", Params: map[string]string{"pen": "1"}},
			{Name: "pen-2", Party: "pen", Params: map[string]string{"pen": "2"}, Connected: true},
			{Name: "shore", Party: "shore", Connected: true},
		},
		Values:  map[string][]string{"pen": {"1", "2", "3", "4"}, "silo": {"a", "b"}},
		Brokers: []string{"quay", "barge"},
		Topics:  []string{"marrowvoe/pen/2/oxygen", "marrowvoe/pen/2/lamp"},
	}
}

// TestASentenceIsSentAsItSays: what is typed is what goes out, and the contract's verdict stands beneath it.
func TestASentenceIsSentAsItSays(t *testing.T) {
	s := site(t)
	for _, tt := range []struct{ text, words, broken string }{
		{`as shore send {"run":true,"rate":9} to feeder.set of pen 2`,
			"marrowvoe/pen/2/feeder/set, 21 bytes, QoS 1, not retained, by shore", ""},
		{`as shore send {"run":true,"rate":"nine to go"} to feeder.set of pen 2 at QoS 0, retained, every 2s, 10 times`,
			"marrowvoe/pen/2/feeder/set, 32 bytes, QoS 0, retained, by shore", "rate"},
		{`send {"run":true,"rate":9} to feeder.set of pen 2`,
			"marrowvoe/pen/2/feeder/set, 21 bytes, QoS 1, not retained, by Hodstone's own client", ""},
		{`as barge send running to barge.blower`, "marrowvoe/barge/blower, 7 bytes, QoS 1, retained, by Hodstone's own client, for no barge is connected", ""},
		{`as shore send running to barge.blower`, "marrowvoe/barge/blower, 7 bytes, QoS 1, retained, by shore", "from party barge"},
		{`as pen-2 send lost to pen.status of pen 3`, "marrowvoe/pen/3/status, 4 bytes, QoS 1, retained, by pen-2", "of pen 3"},
		{`send going to and fro to marrowvoe/pen/2/lamp at QoS 2`, "marrowvoe/pen/2/lamp, 16 bytes, QoS 2, not retained, by Hodstone's own client", ""},
		{`send " a to b " to marrowvoe/pen/2/lamp`, "marrowvoe/pen/2/lamp, 8 bytes, QoS 0, not retained, by Hodstone's own client", ""},
		{`send nothing to marrowvoe/pen/2/feeder/state`, "marrowvoe/pen/2/feeder/state, 0 bytes, QoS 1, retained, by Hodstone's own client", ""},
		{`send {"seen":41,"metres":6.5} to pen.fish of pen 1`, "marrowvoe/pen/1/fish, 18 bytes, QoS 0, not retained, by Hodstone's own client", ""},
		{`send {"seen":9000,"metres":6.5} to pen.fish of pen 1`, "marrowvoe/pen/1/fish, 19 bytes, QoS 0, not retained, by Hodstone's own client", "500"},
		{`send "75" to pen.spreader of pen 1`, "marrowvoe/pen/1/spreader, 2 bytes, QoS 1, retained, by Hodstone's own client", "%"},
	} {
		read, err := sending.Read(tt.text)
		if err != nil {
			t.Errorf("%s: %v", tt.text, err)
			continue
		}
		o, err := read.Order(s.Contract, s.Actors)
		if err != nil {
			t.Errorf("%s: %v", tt.text, err)
			continue
		}
		o.Judge(s.Contract, s.Actors)
		var all []string
		for i := range o.Breaches {
			all = append(all, o.Breaches[i].String())
		}
		found := strings.Join(all, "; ")
		if o.Words() != tt.words || (tt.broken == "") != (found == "") || !strings.Contains(found, tt.broken) {
			t.Errorf("%s\n  is %s\n  want %s\n  breaks %q, want %q", tt.text, o.Words(), tt.words, found, tt.broken)
		}
		again, err := sending.Read(read.String())
		if err != nil || again.String() != read.String() || again.Payload != read.Payload {
			t.Errorf("%s is written %s, and read again as %s (%v)", tt.text, read, again, err)
		}
	}
}

// TestHalfASentenceIsHelped: what is missing or wrong is told, with how to go on.
func TestHalfASentenceIsHelped(t *testing.T) {
	s := site(t)
	for text, want := range map[string]string{
		"":                                              "begin with",
		"as shore":                                      "go on with: send",
		"as shore send {":                               "to CLAUSE",
		"send 1 to ":                                    "which clause",
		"send 1 to feeder.set":                          "of pen",
		"send 1 to feeder.set of pen":                   "of which pen",
		"send 1 to feeder.set of pem 2":                 "pen",
		"send 1 to feeder.st of pen 2":                  "no clause is called feeder.st",
		"send 1 to pen.status of pen 1, silo a":         "has no {silo}",
		"send 1 to a/b at QoS 3":                        "QoS 0, 1 or 2",
		"send 1 to a/b every soon":                      "every how long",
		"send 1 to a/b every 1ns":                       "10ms at least",
		"send 1 to a/b, 0 times":                        "how many times",
		"send 1 to a/b, 5 times":                        "add: every",
		"send 1 to a/b loudly":                          "loudly",
		"send 1 to a/+":                                 "+",
		"as pen-1 send on to pen.status of pen 1":       "pen-1 is not connected",
		"as whale send on to pen.status of pen 1":       "no party whale",
		"send {seen} to pen.fish of pen 1":              "",
		"as shore send nothing to barge.blower on quay": "",
		"send  to a/b":                                  "send what",
	} {
		read, err := sending.Read(text)
		if err == nil {
			_, err = read.Order(s.Contract, s.Actors)
		}
		if want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// TestTheNextWordIsOffered: | is where the cursor stands; the first that is offered, and one that is among them.
func TestTheNextWordIsOffered(t *testing.T) {
	s := site(t)
	for text, want := range map[string][2]string{
		"|":                                {"as ", "send "},
		"as sh|":                           {"shore", "shore"},
		"as shore |":                       {"send ", "send "},
		"as |send on to pen.status":        {"pen", "pen-2"},
		"send no|":                         {"nothing to ", ""},
		`as shore send {"run":true} |`:     {"to ", ""},
		"as shore send {} to |":            {"feeder.set", "pen.oxygen"},
		"send 1 to marrowvoe/pen/2/l|":     {"marrowvoe/pen/2/lamp", ""},
		"send {} to feeder.set |":          {"of", "at QoS"},
		"send {} to feeder.set of |":       {"pen", ""},
		"send {} to feeder.set of pen |":   {"1", "4"},
		"send {} to feeder.set at |":       {"QoS 0", "QoS 2"},
		"send {} to feeder.set on |":       {"quay", "barge"},
		"send {| to feeder.set of pen 2":   {`"run":`, `"rate":`},
		`send {"run":| to feeder.set`:      {"true", "false"},
		`send {"kind":| to pen.alarm`:      {`"low-oxygen"`, `"strong-current"`},
		`send {"kind":"str| to pen.alarm`:  {`"strong-current"`, ""},
		"send r| to barge.blower":          {"running", ""},
		"send on to pen.status every 1s |": {"of", "10 times"},
	} {
		at := strings.Index(text, "|")
		options, from := sending.Complete(strings.Replace(text, "|", "", 1), at, s)
		if len(options) == 0 || options[0] != want[0] || want[1] != "" && !slices.Contains(options, want[1]) ||
			from > at {
			t.Errorf("%s: %q from %d, want %q", text, options, from, want)
		}
	}
}

// TestASentenceBeginsWithWhatFits: every clause of the demo can be begun with something that the contract takes.
func TestASentenceBeginsWithWhatFits(t *testing.T) {
	s := site(t)
	for _, cl := range s.Contract.Clauses {
		of := map[string]string{}
		for _, name := range cl.Topic.Parameters() {
			of[name] = s.Values[name][0]
		}
		o, err := sending.Begin(cl, of, "", nil).Order(s.Contract, nil)
		if err != nil {
			t.Errorf("%s: %s: %v", cl.Name, sending.Begin(cl, of, "", nil), err)
			continue
		}
		if o.Judge(s.Contract, nil); len(o.Breaches) > 0 && cl.Payload.Schema == nil {
			t.Errorf("%s: %s breaks it: %s", cl.Name, o.Sentence.String(), o.Breaches[0].String())
		}
		for _, f := range o.Fields() {
			if f.Required && !f.Given {
				t.Errorf("%s: %s says nothing of %s", cl.Name, o.Sentence.String(), f.Name)
			}
		}
	}
	o, err := sending.Begin(s.Contract.Clause("feeder.set"), map[string]string{"pen": "2"}, "", []byte("{\n \"run\": false}")).
		Order(s.Contract, nil)
	if err != nil || string(o.Payload) != `{  "run": false}` {
		t.Errorf("begun with what was last: %q, %v", o.Payload, err)
	}
}

func FuzzSentence(f *testing.F) {
	f.Add(`as shore send {"a":"b to c"} to feeder.set of pen 2 at QoS 1, not retained, on quay, every 2s, 10 times`, 12)
	f.Add(`send "x\n" to "a b,c"`, 3)
	known := site(f)
	f.Fuzz(func(t *testing.T, text string, at int) {
		s, err := sending.Read(text)
		sending.Complete(text, at, known)
		if err != nil {
			return
		}
		again, err := sending.Read(s.String())
		if err != nil || again.String() != s.String() {
			t.Fatalf("%q is written %q, and read again as %v (%v)", text, s, again, err)
		}
	})
}
