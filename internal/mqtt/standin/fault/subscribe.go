package fault

import (
	"strings"
	"unicode"

	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/topic"
)

func subscribe() []standin.Fault {
	wildcards, exact := []string{"subscribe.wildcards"}, []string{"subscribe.topic-exact"}
	match := func(name, sentence string, breaks []string, decide func(filter, name string, matches bool) bool) standin.Fault {
		return standin.Fault{
			Name:      name,
			Sentence:  sentence,
			Breaks:    breaks,
			Decisions: standin.Decisions{Match: decide},
		}
	}
	named := func(name, sentence string, change func(string) string) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Breaks: exact, Decisions: standin.Decisions{Topic: change}}
	}
	return []standin.Fault{
		match(
			"match.hash-parent",
			"A filter a/# does not match the topic a.",
			wildcards,
			func(filter, name string, matches bool) bool {
				parent, is := strings.CutSuffix(filter, "/#")
				return matches && !(is && topic.Match(parent, name))
			},
		),
		match(
			"match.plus-empty",
			"+ does not match an empty level.",
			wildcards,
			func(filter, name string, matches bool) bool {
				f, n := strings.Split(filter, "/"), strings.Split(name, "/")
				for i := range min(len(f), len(n)) {
					matches = matches && !(f[i] == "+" && n[i] == "")
				}
				return matches
			},
		),
		match("match.plus-deep", "+ matches two levels too.", wildcards, func(filter, name string, matches bool) bool {
			return matches || strings.HasSuffix(filter, "/+") && topic.Match(filter+"/+", name)
		}),
		match(
			"match.case",
			"Filters match whatever the case of the letters.",
			wildcards,
			func(filter, name string, matches bool) bool {
				return matches || topic.Match(strings.ToLower(filter), strings.ToLower(name))
			},
		),
		match(
			"match.slash-end",
			"A filter matches a topic that has one more slash at its end.",
			wildcards,
			func(filter, name string, matches bool) bool {
				short, is := strings.CutSuffix(name, "/")
				return matches || is && topic.Match(filter, short)
			},
		),
		deliver("match.twice", "A filter that ends in # brings a message twice, where no other matches.", wildcards, func(d *standin.Delivery) {
			if live(d) && d.Filters == 1 && strings.HasSuffix(d.Filter, "/#") {
				d.Times = 2
			}
		}),
		{
			Name:     "suback.refuses-plus",
			Sentence: "A filter with two + is granted in SUBACK, and nothing comes.",
			Breaks:   wildcards,
			Decisions: standin.Decisions{Deliver: func(d *standin.Delivery) {
				if live(d) && strings.Count(d.Filter, "+") > 1 {
					d.Times = 0
				}
			}},
		},
		named(
			"topic.dot-slashed",
			"Dots in topic names become slashes.",
			func(name string) string { return strings.ReplaceAll(name, ".", "/") },
		),
		named("topic.trimmed", "Spaces at the ends of levels are cut off.", func(name string) string {
			levels := strings.Split(name, "/")
			for i := range levels {
				levels[i] = strings.Trim(levels[i], " ")
			}
			return strings.Join(levels, "/")
		}),
		named("topic.lower", "Letters beyond ASCII become lower case.", func(name string) string {
			return strings.Map(func(r rune) rune {
				if r > unicode.MaxASCII {
					return unicode.ToLower(r)
				}
				return r
			}, name)
		}),
		named(
			"topic.unescaped",
			"%2F in topic names becomes a slash.",
			func(name string) string { return strings.ReplaceAll(name, "%2F", "/") },
		),
		named("topic.depth", "Levels beyond the sixteenth are cut off.", func(name string) string {
			levels := strings.Split(name, "/")
			return strings.Join(levels[:min(len(levels), 16)], "/")
		}),
		{
			Name:     "topic.star-matches",
			Sentence: "A level * in a filter matches any level.",
			Breaks:   exact,
			Decisions: standin.Decisions{Match: func(filter, name string, matches bool) bool {
				f, n := strings.Split(filter, "/"), strings.Split(name, "/")
				if matches || len(f) != len(n) {
					return matches
				}
				for i := range f {
					if f[i] != "*" && f[i] != n[i] {
						return false
					}
				}
				return true
			}},
		},
	}
}
