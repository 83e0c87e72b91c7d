package contract

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	core "hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/workbench"
)

// A clause is typed as one sentence:
//
//	NAME: TOPIC from PARTY to PARTY, PARTY at QoS 1, retained, every 5s ± 2s, as json, note what it is
//
// words are those that begin a part of it, longest first.
var words = []string{"not retained", "on changes", "on edges", "at most", "at QoS", "retained", "every", "from", "note", "as", "to"}

// formats are what a payload may be, by the word behind "as".
var formats = []string{"json", "number", "text", "cbor", "msgpack", "xml", "binary"}

var word = regexp.MustCompile(`(?:^|[\s,]+)(` + strings.Join(words, "|") + `)(?:[\s,]+|$)`)

// write makes the sentence of a clause.
func write(name string, tree expression.Object) string {
	get := func(key string) string {
		for _, m := range tree {
			if m.Key != key {
				continue
			}
			if list, is := m.Value.([]any); is {
				var out []string
				for _, x := range list {
					out = append(out, fmt.Sprint(x))
				}
				return strings.Join(out, ", ")
			}
			return fmt.Sprint(m.Value)
		}
		return ""
	}
	s := name + ": " + get("topic")
	for _, p := range [][2]string{{"from", "from"}, {"to", "to"}, {"at QoS", "qos"}} {
		if v := get(p[1]); v != "" {
			s += " " + p[0] + " " + v
		}
	}
	switch get("retain") {
	case "true":
		s += ", retained"
	case "false":
		s += ", not retained"
	}
	for _, p := range [][2]string{{"every", "every"}, {"at most", "at-most"}, {"on", "only"}} {
		if v := get(p[1]); v != "" {
			s += ", " + p[0] + " " + v
		}
	}
	for _, m := range tree {
		if o, is := m.Value.(expression.Object); is && m.Key == "payload" {
			for _, x := range o {
				if x.Key == "format" {
					s += fmt.Sprintf(", as %v", x.Value)
				}
			}
		}
	}
	if v := get("note"); v != "" {
		s += ", note " + v
	}
	return s
}

// read makes a proposal of a sentence; what it does not speak of is that of the proposal that it began with.
func read(text string, began *workbench.Proposal) (*workbench.Proposal, error) {
	name, rest, ok := strings.Cut(text, ":")
	if name = strings.TrimSpace(name); !ok || name == "" {
		return nil, fmt.Errorf("begin with the clause's name and a colon: pump.flow: site/pump/{pump}/flow from pump to desk")
	}
	p := &workbench.Proposal{Name: name, Notes: map[string][]string{}}
	if began != nil {
		p.Parties, p.Parameters = began.Parties, began.Parameters
	}
	said := map[string]any{}
	at := word.FindAllStringSubmatchIndex(rest, -1)
	end := len(rest)
	if len(at) > 0 {
		end = at[0][0]
	}
	topic := strings.TrimRight(strings.TrimSpace(rest[:end]), ",")
	if topic == "" {
		return nil, fmt.Errorf("the topic is missing: site/pump/{pump}/flow")
	}
	said["topic"] = topic
	for i := 0; i < len(at); i++ {
		w, from, to := rest[at[i][2]:at[i][3]], at[i][1], len(rest)
		if w == "note" { // takes all that follows
			said["note"] = strings.TrimSpace(rest[from:])
			break
		}
		if i+1 < len(at) {
			to = at[i+1][0]
		}
		if err := part(said, w, strings.Trim(rest[from:max(from, to)], " ,")); err != nil {
			return nil, err
		}
	}
	p.Tree = assemble(said, began)
	return p, nil
}

// part takes one part of a sentence in.
func part(said map[string]any, w, v string) error {
	need := func(example string) error {
		if v == "" {
			return fmt.Errorf("%s what? %s", w, example)
		}
		return nil
	}
	switch w {
	case "retained":
		said["retain"] = true
	case "not retained":
		said["retain"] = false
	case "on changes":
		said["only"] = string(core.OnChanges)
	case "on edges":
		said["only"] = string(core.OnEdges)
	case "at QoS":
		n, err := strconv.Atoi(v)
		if err != nil || n < 0 || n > 2 {
			return fmt.Errorf("QoS is 0, 1 or 2, not %q", v)
		}
		said["qos"] = n
	case "from":
		said["from"] = v
		return need("a party: Tab tells which there are")
	case "to":
		var list []any
		for x := range strings.SplitSeq(v, ",") {
			if x = strings.TrimSpace(x); x != "" {
				list = append(list, x)
			}
		}
		if said["to"] = list; len(list) == 1 {
			said["to"] = list[0]
		}
		return need("parties: Tab tells which there are")
	case "every":
		said["every"] = v
		return need("5s ± 2s")
	case "at most":
		said["at-most"] = v
		return need("10/s")
	case "as":
		if !slices.Contains(formats, v) {
			return fmt.Errorf("a payload is %s, not %q", strings.Join(formats, ", "), v)
		}
		said["as"] = v
	}
	return nil
}

// spoken are the keys that a sentence speaks of.
var spoken = []string{"topic", "from", "to", "qos", "retain", "every", "at-most", "only", "payload", "note"}

// assemble makes the clause of what was said, in the order in which clauses are written.
func assemble(said map[string]any, began *workbench.Proposal) (out expression.Object) {
	var old expression.Object
	if began != nil {
		old = began.Tree
	}
	payload := expression.Object{{Key: "format", Value: "json"}}
	for _, m := range old {
		if o, is := m.Value.(expression.Object); is && m.Key == "payload" {
			payload = o
		}
	}
	if as, is := said["as"].(string); is && (len(payload) == 0 || payload[0].Value != as) {
		payload = expression.Object{{Key: "format", Value: as}}
	}
	said["payload"] = payload
	for _, key := range spoken {
		if v, is := said[key]; is {
			out = append(out, expression.Member{Key: key, Value: v})
		}
		if key == "only" { // what is agreed beside what a sentence can say stays
			for _, m := range old {
				if !slices.Contains(spoken, m.Key) && m.Key != "examples" && m.Key != "counter-examples" {
					out = append(out, m)
				}
			}
		}
	}
	for _, m := range old {
		if m.Key == "examples" || m.Key == "counter-examples" {
			out = append(out, m)
		}
	}
	return out
}

// complete returns what the last word of a sentence may go on as: levels of topics that were seen, parameters, parties,
// the words that go on with a sentence. whole tells that each is a word, and no level that may go on.
func complete(text string, topics []string, c *core.Contract) (options []string, from int, whole bool) {
	_, rest, named := strings.Cut(text, ":")
	if !named {
		return nil, len(text), false
	}
	base := len(text) - len(rest)
	at := word.FindAllStringSubmatchIndex(rest, -1)
	if len(at) == 0 {
		begin := base + len(rest) - len(strings.TrimLeft(rest, " "))
		if typed := text[begin:]; !strings.Contains(typed, " ") {
			return levels(typed, topics, c), begin, false
		}
	}
	begin := len(text)
	for begin > 0 && !strings.ContainsRune(" ,", rune(text[begin-1])) {
		begin--
	}
	typed := text[begin:]
	all := words
	if len(at) > 0 {
		last := at[len(at)-1]
		said := strings.TrimSpace(text[min(base+last[3], begin):begin]) // behind the word, and done
		due := said == "" || strings.HasSuffix(said, ",")
		switch rest[last[2]:last[3]] {
		case "note":
			return nil, len(text), false
		case "from", "to":
			if due {
				all = nil
				for i := range c.Parties {
					all = append(all, c.Parties[i].Name)
				}
			}
		case "as":
			if due {
				all = formats
			}
		}
	}
	for _, o := range all {
		if strings.HasPrefix(o, typed) && o != typed {
			options = append(options, o)
		}
	}
	return options, begin, true
}

// levels goes on with a topic, one level further.
func levels(typed string, topics []string, c *core.Contract) (options []string) {
	done, level := "", typed
	if i := strings.LastIndex(typed, "/"); i >= 0 {
		done, level = typed[:i+1], typed[i+1:]
	}
	if strings.HasPrefix(level, "{") {
		for name := range c.Parameters {
			if o := "{" + name + "}"; strings.HasPrefix(o, level) {
				options = append(options, done+o)
			}
		}
		slices.Sort(options)
		return options
	}
	depth := strings.Count(done, "/")
	pattern := strings.Split(done, "/")
	for _, t := range topics {
		parts := strings.Split(t, "/")
		if len(parts) <= depth || !strings.HasPrefix(parts[depth], level) {
			continue
		}
		fits := true
		for i := range depth {
			fits = fits && (parts[i] == pattern[i] || strings.HasPrefix(pattern[i], "{"))
		}
		o := done + parts[depth]
		if len(parts) > depth+1 {
			o += "/"
		}
		if fits && o != typed && !slices.Contains(options, o) {
			options = append(options, o)
		}
	}
	slices.Sort(options)
	return options
}
