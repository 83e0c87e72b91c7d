package contract

import (
	"strings"
	"testing"

	core "hodstone/internal/contract"
)

// TestWhatASentenceGoesOnAs: parties behind from and to, formats behind as, and the other words where a word may begin;
// topics by the levels that were seen, and parameters.
func TestWhatASentenceGoesOnAs(t *testing.T) {
	c := &core.Contract{Parties: []core.Party{{Name: "box"}, {Name: "office"}, {Name: "toller"}},
		Parameters: map[string]core.Parameter{"house": {}}}
	topics := []string{"n/house/1/climate", "n/house/2/vent", "n/mix"}
	for text, want := range map[string]string{
		"":                           "",
		"a":                          "",
		"a: ":                        "n/",
		"a: n/":                      "n/house/ n/mix",
		"a: n/house/{":               "n/house/{house}",
		"a: n/house/{house}/":        "n/house/{house}/climate n/house/{house}/vent",
		"a: n/mix f":                 "from",
		"a: n/mix from ":             "box office toller",
		"a: n/mix from o":            "office",
		"a: n/mix from box t":        "to",
		"a: n/mix from box to o":     "office",
		"a: n/mix to box, o":         "office",
		"a: n/mix to box o":          "on changes|on edges",
		"a: n/mix to box as ":        "json number text cbor msgpack xml binary",
		"a: n/mix as c":              "cbor",
		"a: n/mix as json n":         "not retained|note",
		"a: n/mix as json note from": "",
	} {
		options, from, _ := complete(text, topics, c)
		sep := " "
		if strings.Contains(want, "|") {
			sep = "|"
		}
		if got := strings.Join(options, sep); got != want {
			t.Errorf("%q goes on as %q from %d, want %q", text, got, from, want)
		}
	}
}
