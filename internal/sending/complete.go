package sending

import (
	"regexp"
	"slices"
	"strings"

	"hodstone/internal/contract"
)

// Site is what a sentence can speak of.
type Site struct {
	Contract *contract.Contract
	Actors   []Actor
	// Topics are those that were seen, and Values the values of parameters that are known, by name.
	Topics  []string
	Values  map[string][]string
	Brokers []string
}

// The words that go on with a sentence, by what may follow.
var tails = []string{"of", "at QoS", "retained", "not retained", "on", "every", "times"}

var (
	keyAt   = regexp.MustCompile(`[{,]\s*("?[\p{L}\p{N}_.-]*)$`)
	valueAt = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"\s*:\s*("?[^",}\]{\[]*)$`)
)

// Complete returns what may stand at a place of a sentence, given in bytes from its first, in place of what was typed
// from `from` on; nil for nothing that is known.
func Complete(text string, at int, site Site) (options []string, from int) {
	at = max(0, min(at, len(text)))
	before := text[:at]
	s, _ := Read(text)
	begin := strings.LastIndex(before, " ") + 1
	typed := before[begin:]
	words := strings.Fields(before)
	if begin == at {
		words = append(words, "")
	}
	prefix := func(all []string) ([]string, int) {
		for _, o := range all {
			if strings.HasPrefix(strings.ToLower(o), strings.ToLower(typed)) && o != typed &&
				!slices.Contains(options, o) {
				options = append(options, o)
			}
		}
		return options, begin
	}
	switch {
	case len(words) == 1:
		return prefix([]string{"as ", "send "})
	case len(words) == 2 && words[0] == "as":
		return prefix(speakers(site, s))
	case len(words) == 3 && words[0] == "as":
		return prefix([]string{"send "})
	}
	send := strings.Index(before, "send ")
	if send < 0 {
		return nil, at
	}
	body := before[send+len("send "):]
	_, rest, behind := cutPayload(strings.TrimLeft(body, " "))
	if !behind {
		if options, from := inPayload(before, site.Contract.Clause(s.To)); len(options) > 0 {
			return options, from
		}
		if end := closes(strings.TrimLeft(body, " ")); end > 0 && begin == at {
			return []string{"to "}, at
		}
		if body == typed && typed != "" {
			return prefix([]string{nothing + " to "})
		}
		return nil, at
	}
	return prefix(behindTo(rest, typed, s, site))
}

// speakers are the parties, and then the devices; those that publish the clause come first.
func speakers(site Site, s *Sentence) (out []string) {
	cl := site.Contract.Clause(s.To)
	if cl != nil && cl.From != "" {
		out = append(out, cl.From)
	}
	for i := range site.Contract.Parties {
		out = append(out, site.Contract.Parties[i].Name)
	}
	for i := range site.Actors {
		if cl != nil && site.Actors[i].Party == cl.From {
			out = append(out, site.Actors[i].Name)
		}
	}
	for i := range site.Actors {
		out = append(out, site.Actors[i].Name)
	}
	return out
}

// behindTo is what may stand behind "to".
func behindTo(rest, typed string, s *Sentence, site Site) (out []string) {
	words := split(strings.TrimSuffix(rest, typed))
	last := func(n int) string {
		if n > len(words) {
			return ""
		}
		return words[len(words)-n].text
	}
	cl := site.Contract.Clause(s.To)
	inOf := false
	for _, w := range words {
		if w.text == "of" {
			inOf = true
		} else if slices.Contains([]string{"at", "retained", "not", "on", "every", "times"}, w.text) {
			inOf = false
		}
	}
	switch {
	case len(words) == 0:
		return targets(site, s)
	case last(1) == "on":
		return site.Brokers
	case last(1) == "at":
		return []string{"QoS 0", "QoS 1", "QoS 2"}
	case last(1) == "QoS":
		return []string{"0", "1", "2"}
	case last(1) == "every":
		return []string{"1s", "2s", "10s"}
	case inOf && cl != nil && slices.Contains(cl.Topic.Parameters(), last(1)):
		return site.Values[last(1)]
	case inOf && cl != nil && last(1) == "of":
		return cl.Topic.Parameters()
	}
	if cl != nil && inOf {
		for _, name := range cl.Topic.Parameters() {
			if s.Of[name] == "" {
				out = append(out, name)
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	for _, w := range tails {
		said := w == "of" && (inOf || cl == nil || len(cl.Topic.Parameters()) == 0) || w == "at QoS" && s.QoS != nil ||
			strings.HasSuffix(w, "retained") && s.Retain != nil || w == "every" && s.Every > 0 || w == "times" ||
			w == "on" && (s.On != "" || len(site.Brokers) < 2)
		if !said {
			out = append(out, w)
		}
	}
	if s.Every > 0 && s.Times == 0 {
		out = append(out, "10 times")
	}
	return out
}

// targets are the clauses that the party publishes, then the others, then topics that were seen.
func targets(site Site, s *Sentence) (out []string) {
	party := s.As
	for i := range site.Actors {
		if site.Actors[i].Name == s.As {
			party = site.Actors[i].Party
		}
	}
	for _, mine := range []bool{true, false} {
		for i := range site.Contract.Clauses {
			if cl := site.Contract.Clauses[i]; (cl.From == party) == mine {
				out = append(out, cl.Name)
			}
		}
	}
	for _, t := range site.Topics {
		if cl, _ := site.Contract.Find(t); cl == nil {
			out = append(out, word(t))
		}
	}
	return out
}

// inPayload is what may stand in a payload at its end: a listed value of the field, or the name of one that is missing.
func inPayload(before string, cl *contract.Clause) (options []string, from int) {
	if cl == nil {
		return nil, 0
	}
	fields := cl.Payload.Fields()
	if cl.Payload.Schema == nil {
		typed := before[strings.LastIndex(before, " ")+1:]
		for _, v := range sorted(fields[0].Values) {
			if strings.HasPrefix(v, typed) && v != typed {
				options = append(options, v)
			}
		}
		return options, len(before) - len(typed)
	}
	if m := valueAt.FindStringSubmatch(before); m != nil {
		for i := range fields {
			if f := &fields[i]; f.Name == m[1] || strings.HasSuffix(f.Name, "/"+m[1]) {
				all := sorted(f.Values)
				if strings.HasPrefix(f.Type, "boolean") {
					all = []string{"true", "false"}
				}
				for _, v := range all {
					if strings.HasPrefix(f.Type, "string") && !strings.HasPrefix(v, `"`) {
						v = `"` + v + `"`
					}
					if strings.HasPrefix(v, m[2]) && v != m[2] {
						options = append(options, v)
					}
				}
			}
		}
		return options, len(before) - len(m[2])
	}
	if m := keyAt.FindStringSubmatch(before); m != nil {
		for i := range fields {
			name := fields[i].Name
			key := `"` + name + `":`
			if !strings.Contains(name, "/") && strings.HasPrefix(key, `"`+strings.TrimPrefix(m[1], `"`)) &&
				!strings.Contains(before, `"`+name+`"`) {
				options = append(options, key)
			}
		}
		return options, len(before) - len(m[1])
	}
	return nil, 0
}
