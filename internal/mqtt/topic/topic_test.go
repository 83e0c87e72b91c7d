package topic

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"
)

func TestFiltersMatchAsTheStandardSays(t *testing.T) {
	for _, tt := range []struct {
		filter, name string
		want         bool
	}{ // the examples of §4.7.1 and §4.7.2 and the edges between them
		{"sport/tennis/player1/#", "sport/tennis/player1", true},
		{"sport/tennis/player1/#", "sport/tennis/player1/score/wimbledon", true},
		{"sport/#", "sport", true}, {"#", "a/b", true}, {"#", "/", true},
		{"sport/tennis/+", "sport/tennis/player1", true}, {"sport/tennis/+", "sport/tennis/player1/x", false},
		{"sport/+", "sport", false}, {"sport/+", "sport/", true},
		{"+/+", "/finance", true}, {"/+", "/finance", true}, {"+", "/finance", false},
		{"#", "$SYS/x", false}, {"+/monitor", "$SYS/monitor", false}, {"$SYS/#", "$SYS/monitor", true},
		{"a/+/c", "a//c", true}, {"a//c", "a/c", false}, {"A", "a", false}, {"a/b c", "a/b c", true},
		{"\ufeffa", "a", false}, {"+/+/#", "a/b", true}, {"+/+/#", "a", false}, {"a/$x/+", "a/$x/y", true},
	} {
		if got := Match(tt.filter, tt.name); got != tt.want {
			t.Errorf("%q matches %q: %v", tt.filter, tt.name, got)
		}
	}
}

func TestNamesAndFiltersAreChecked(t *testing.T) {
	for _, s := range []string{"", "a#", "a/#/b", "a/b+", "+a", "a\x00", "\xff", "$share/x", "$share//a",
		"$share/g+/a", "$share/g/", strings.Repeat("x", MaxLength+1)} {
		if CheckFilter(s) == nil {
			t.Errorf("filter %.20q passes", s)
		}
	}
	for _, s := range []string{"a", "#", "+", "/", "a/+/b/#", "$share/g/a/#", "$SYS/#", "+/+", " "} {
		if err := CheckFilter(s); err != nil {
			t.Error(err)
		}
	}
	if CheckName("a/+") == nil || CheckName("a/#") == nil || CheckName("") == nil || CheckName("/ /ä") != nil {
		t.Error("names")
	}
}

// asRegexp is a second way to compute Match, but for names that begin with $.
func asRegexp(filter string) *regexp.Regexp {
	re := regexp.QuoteMeta(filter)
	re = strings.ReplaceAll(re, `\+`, `[^/]*`)
	if re == "#" {
		re = ".*"
	} else if cut, ok := strings.CutSuffix(re, "/#"); ok {
		re = cut + "(/.*)?"
	}
	return regexp.MustCompile(`(?s)^` + re + `$`)
}

func TestMatchRegexpAndTreeAgree(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	pick := func(levels []string) string {
		var parts []string
		for range 1 + r.IntN(4) {
			parts = append(parts, levels[r.IntN(len(levels))])
		}
		return strings.Join(parts, "/")
	}
	var tree Tree[int, string]
	var filters []string
	var expressions []*regexp.Regexp
	for len(filters) < 300 {
		f := pick([]string{"a", "b", "", "+", "$s", "#"})
		if CheckFilter(f) == nil {
			tree.Set(f, len(filters), f)
			filters, expressions = append(filters, f), append(expressions, asRegexp(f))
		}
	}
	check := func() {
		t.Helper()
		for range 400 {
			name := pick([]string{"a", "b", "", "$s", "c"})
			if CheckName(name) != nil {
				continue
			}
			var got, want []int
			tree.Matching(name, func(k int, _ string) { got = append(got, k) })
			for k, f := range filters {
				if f != "" && Match(f, name) {
					want = append(want, k)
				}
				hidden := name[:min(1, len(name))] == "$" && f != "" && strings.ContainsAny(f[:1], "+#")
				if f != "" && Match(f, name) != (!hidden && expressions[k].MatchString(name)) {
					t.Fatalf("%q against %q: Match says %v", f, name, Match(f, name))
				}
			}
			slices.Sort(got)
			if !slices.Equal(got, want) {
				t.Fatalf("%q: tree %v, one by one %v", name, got, want)
			}
		}
	}
	check()
	for k := 0; k < len(filters); k += 2 {
		if !tree.Delete(filters[k], k) || tree.Delete(filters[k], k) {
			t.Fatalf("deleting %q", filters[k])
		}
		filters[k] = ""
	}
	check()
}

// FuzzNames: names are found by the filters that match them, and by no other; what is deleted is gone.
func FuzzNames(f *testing.F) {
	f.Add("a/b a a/b/c $SYS/x /a a/ //", "a/#")
	f.Add("a/b $a b", "+/b")
	f.Add("a $a", "#")
	f.Fuzz(func(t *testing.T, text, filter string) {
		var names Names[string]
		all := map[string]string{}
		for i, name := range strings.Fields(text) {
			if CheckName(name) != nil {
				continue
			}
			if i%5 == 4 {
				_, there := all[name]
				if names.Delete(name) != there {
					t.Errorf("deleting %q", name)
				}
				delete(all, name)
				continue
			}
			all[name] = fmt.Sprint(name, i)
			names.Set(name, all[name])
		}
		if names.Len() != len(all) {
			t.Errorf("%d of %d", names.Len(), len(all))
		}
		for name, value := range all {
			if got, there := names.Get(name); !there || got != value {
				t.Errorf("%q: %q", name, got)
			}
		}
		if CheckFilter(filter) != nil {
			return
		}
		found := map[string]string{}
		names.Matching(filter, func(name, value string) {
			if _, twice := found[name]; twice {
				t.Errorf("%q twice", name)
			}
			found[name] = value
		})
		for name, value := range all {
			if got, there := found[name]; there != Match(filter, name) || there && got != value {
				t.Errorf("%q by %q: %v", name, filter, there)
			}
		}
		if len(found) > len(all) {
			t.Errorf("%v found of %v", found, all)
		}
	})
}

func TestBoundsOfNamesAndFilters(t *testing.T) {
	long := strings.Repeat("a", MaxLength)
	for s, ok := range map[string]bool{long: true, long + "a": false, "+": false, "#": false, "a+": false, "": false,
		"a\x00": false, "\xff": false} {
		if got := CheckName(s) == nil; got != ok {
			t.Errorf("name of %d bytes %.5q: %v", len(s), s, got)
		}
	}
	for s, ok := range map[string]bool{long: true, long + "a": false, "+": true, "#": true, "a/+/#": true,
		"#/a": false, "a#": false, "a+": false,
		"$share/g/a": true, "$share/g/": false, "$share//a": false, "$share/g": false, "$share/+/a": false,
		"$share/g/#/a": false} {
		if got := CheckFilter(s) == nil; got != ok {
			t.Errorf("filter of %d bytes %.14q: %v", len(s), s, got)
		}
	}
}

func TestShares(t *testing.T) {
	for filter, want := range map[string][3]string{"a/b": {"", "a/b", "false"}, "$share/g/a/#": {"g", "a/#", "true"},
		"$SYS/#": {"", "$SYS/#", "false"}} {
		share, plain, shared := CutShare(filter)
		if got := [3]string{share, plain, fmt.Sprint(shared)}; got != want {
			t.Errorf("%s: %v", filter, got)
		}
	}
}

// TestCoversAgreesWithMatch: a filter covers another if it matches whatever that matches.
func TestCoversAgreesWithMatch(t *testing.T) {
	parts := []string{"a", "b", "+", "#", "$s", ""}
	var filters, names []string
	for _, x := range parts {
		for _, y := range append(parts, "-") {
			for _, z := range append(parts, "-") {
				f := strings.ReplaceAll(x+"/"+y+"/"+z, "/-", "")
				if CheckFilter(f) == nil {
					filters = append(filters, f)
				}
				if n := strings.NewReplacer("+", "c", "#", "d/e").Replace(f); CheckName(n) == nil {
					names = append(names, n)
				}
			}
		}
	}
	for _, f := range filters {
		for _, g := range filters {
			all := true
			for _, n := range names {
				all = all && (!Match(g, n) || Match(f, n))
			}
			if got := Covers(f, g); got && !all {
				t.Errorf("%q is said to cover %q", f, g)
			} else if !got && all && !strings.HasPrefix(g, "$") {
				t.Logf("%q covers %q, which is not seen", f, g)
			}
		}
	}
	for _, x := range [][2]string{{"#", "a/b"}, {"a/#", "a"}, {"a/+", "a/b"}, {"+/+", "a/b"}, {"a/#", "a/+/b"},
		{"a/b", "a/b"}, {"#", "+/#"}} {
		if !Covers(x[0], x[1]) {
			t.Errorf("%q does not cover %q", x[0], x[1])
		}
	}
	for _, x := range [][2]string{{"a", "b"}, {"a/b", "a/+"}, {"+", "a/b"}, {"a/+", "a/#"}, {"+/b", "#"},
		{"a/b", "a"}, {"a", "a/b"}} {
		if Covers(x[0], x[1]) {
			t.Errorf("%q covers %q", x[0], x[1])
		}
	}
}

// TestWhatIsDeletedIsLetGoOf: trees have no nodes for what is gone, and keep those beside it.
func TestWhatIsDeletedIsLetGoOf(t *testing.T) {
	var tree Tree[int, int]
	var names Names[int]
	all := []string{"a", "a/b", "a/b/c", "a/x", "b/c/d"}
	for i, s := range all {
		tree.Set(s, i, i)
		names.Set(s, i)
	}
	if names.Delete("a/b/c/d") || names.Delete("b") || names.Delete("q") || tree.Delete("b/c", 4) || names.Len() != 5 {
		t.Error("what is not there was deleted")
	}
	for i, s := range all {
		if !tree.Delete(s, i) || !names.Delete(s) || names.Delete(s) {
			t.Errorf("deleting %q", s)
		}
		for j, other := range all {
			_, there := names.Get(other)
			found := false
			tree.Matching(other, func(k, _ int) { found = found || k == j })
			if there != (j > i) || found != (j > i) {
				t.Errorf("after deleting %q: %q there %v, found %v", s, other, there, found)
			}
		}
	}
	if len(tree.root.children) != 0 || len(names.root.below) != 0 || names.Len() != 0 {
		t.Errorf("%d and %d nodes are left", len(tree.root.children), len(names.root.below))
	}
}
