package lint

import (
	"slices"
	"strings"
	"unicode"

	"hodstone/internal/contract"
)

// What a topic may have before it counts as long or deep for small clients.
const (
	manyLevels = 8
	manyBytes  = 128
)

var topics = []*Lint{
	{"leading-slash", "A topic that begins or ends with / has an empty level: a subscription without it matches nothing.",
		"take the slash away", each(func(p *Pass, cl *contract.Clause) {
			if s := cl.Topic.String(); strings.HasPrefix(s, "/") || strings.HasSuffix(s, "/") || strings.Contains(s, "//") {
				p.Clause(cl, "the topic %s has an empty level", s)
			}
		})},
	{"spaces", "A topic with spaces is mistyped sooner or later, and looks whole where it is not.",
		"write - or _ in place of spaces", each(func(p *Pass, cl *contract.Clause) {
			if strings.ContainsFunc(cl.Topic.String(), unicode.IsSpace) {
				p.Clause(cl, "the topic %s has a space in it", cl.Topic)
			}
		})},
	{"non-ascii", "A topic with letters beyond ASCII can be spelled in several ways that look alike, and not every device can write it.",
		"keep to ASCII letters, digits, - and _", each(func(p *Pass, cl *contract.Clause) {
			if strings.ContainsFunc(cl.Topic.String(), func(r rune) bool { return r > unicode.MaxASCII }) {
				p.Clause(cl, "the topic %s has letters beyond ASCII", cl.Topic)
			}
		})},
	{"dollar", "Topics that begin with $ are the broker's own (3.1.1 §4.7.2): many refuse them, and no wildcard at the front matches them.",
		"begin with another character", each(func(p *Pass, cl *contract.Clause) {
			if strings.HasPrefix(cl.Topic.String(), "$") {
				p.Clause(cl, "the topic %s begins with $", cl.Topic)
			}
		})},
	{"case", "Two levels that differ by capitals only are taken for each other by people, and are two topics to the broker.",
		"write both alike", cases},
	{"long-topic", "Each message carries its topic. Small clients keep topics in buffers of fixed length, and some bound the levels.",
		"shorten the topic, or set max-topic in the terms of the parties that take it", each(func(p *Pass, cl *contract.Clause) {
			s := cl.Topic.String()
			if n := strings.Count(s, "/") + 1; n > manyLevels && !p.said(cl, func(t *contract.Terms) bool { return t.TopicLevels > 0 }) {
				p.Clause(cl, "the topic %s has %d levels", s, n)
			} else if n := len(s); n > manyBytes && !p.said(cl, func(t *contract.Terms) bool { return t.TopicLength > 0 }) {
				p.Clause(cl, "the topic %s has %d bytes", s, n)
			}
		})},
	{"generic-topic", "On a broker that serves others too, a topic whose first level says nothing of the site meets the topics of somebody else.",
		"begin with the name of the site or the project", generic},
	{"free-parameter", "A parameter that may hold anything makes any slip of a topic a new instance: nothing is a stray, and nothing is missed.",
		"give the parameter values, a range or a pattern", func(p *Pass) {
			told := map[string]bool{}
			for _, cl := range p.Clauses {
				for _, name := range cl.Topic.Parameters() {
					if !p.Parameters[name].Limited() && !told[name] {
						told[name] = true
						p.Clause(cl, "{%s} may hold anything", name)
					}
				}
			}
		}},
	{"crossed", "The names of two clauses fit each other's topics: one of them was copied and not finished.",
		"swap the topics, or the names", crossed},
}

// said tells whether all consumers of a clause have terms that say something.
func (p *Pass) said(cl *contract.Clause, says func(*contract.Terms) bool) bool {
	all := p.consumers(cl)
	return len(all) > 0 && !slices.ContainsFunc(all, func(x *contract.Party) bool { return x.Terms == nil || !says(x.Terms) })
}

// literal lists the levels of a topic that are no parameters.
func literal(cl *contract.Clause) (out []string) {
	for l := range strings.SplitSeq(cl.Topic.String(), "/") {
		if !strings.HasPrefix(l, "{") {
			out = append(out, l)
		}
	}
	return out
}

func cases(p *Pass) {
	first := map[string]string{}
	told := map[string]bool{}
	for _, cl := range p.Clauses {
		for _, l := range literal(cl) {
			low := strings.ToLower(l)
			if was, there := first[low]; !there {
				first[low] = l
			} else if was != l && !told[low] {
				told[low] = true
				p.Clause(cl, "%s has the level %s, others have %s", cl.Topic, l, was)
			}
		}
	}
}

// general are words that say nothing of a site.
var general = []string{
	"data", "status", "state", "test", "topic", "sensor", "sensors", "device", "devices", "temperature", "temp",
	"humidity", "cmd", "command", "alarm", "value", "values", "telemetry", "home", "mqtt", "iot", "hello", "out", "in",
}

func generic(p *Pass) {
	if len(p.Site.Shared) == 0 {
		return
	}
	for _, cl := range p.Clauses {
		switch first, _, _ := strings.Cut(cl.Topic.String(), "/"); {
		case strings.HasPrefix(first, "{"):
			p.Clause(cl, "%s begins with a parameter, and the broker %s may serve others too", cl.Topic, p.Site.Shared[0])
		case slices.Contains(general, strings.ToLower(first)):
			p.Clause(cl, "%s begins with %s, and the broker %s may serve others too", cl.Topic, first, p.Site.Shared[0])
		}
	}
}

// words are what a name or topic is made of.
func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		out[w] = true
	}
	return out
}

// only returns the words of a that b has not.
func only(a, b map[string]bool) (out []string) {
	for w := range a {
		if !b[w] {
			out = append(out, w)
		}
	}
	return out
}

func crossed(p *Pass) {
	type seen struct {
		cl          *contract.Clause
		name, topic map[string]bool
	}
	var all []seen
	by := map[string][]int{} // clauses by the words of their topics
	for i, cl := range p.Clauses {
		x := seen{cl, words(cl.Name), words(strings.Join(literal(cl), "/"))}
		all = append(all, x)
		for w := range x.topic {
			by[w] = append(by[w], i)
		}
	}
	fits := func(name, topic map[string]bool) bool {
		for _, w := range only(name, topic) {
			if w != "" {
				return false
			}
		}
		return true
	}
	for i := range all {
		a := &all[i]
		if fits(a.name, a.topic) {
			continue
		}
		for _, w := range only(a.name, a.topic) {
			for _, k := range by[w] {
				b := &all[k]
				if k <= i || fits(b.name, b.topic) {
					continue
				}
				// Each name has words that only the other's topic has.
				mine, others := only(a.name, b.name), only(b.name, a.name)
				if inside(mine, b.topic, a.topic) && inside(others, a.topic, b.topic) {
					p.Clause(a.cl, "%s has the topic %s, and %s has %s", a.cl.Name, a.cl.Topic, b.cl.Name, b.cl.Topic)
				}
			}
			break // any one of the words leads to the other
		}
	}
}

// inside tells whether words are among in, and not all among out.
func inside(list []string, in, out map[string]bool) bool {
	missing := false
	for _, w := range list {
		if !in[w] {
			return false
		}
		missing = missing || !out[w]
	}
	return len(list) > 0 && missing
}
