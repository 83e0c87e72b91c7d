// Package topic holds the rules for MQTT topic names and topic filters
// (3.1.1 §4.7, 5.0 §4.7).
package topic

import (
	"fmt"
	"iter"
	"strings"
	"unicode/utf8"
)

// MaxLength is the longest topic name or filter in bytes (§4.7.3).
const MaxLength = 65_535

// SharePrefix begins the filter of a shared subscription (5.0 §4.8.2).
const SharePrefix = "$share/"

// CheckName tells why s is no topic name, or nil (§4.7.1, §4.7.3).
func CheckName(s string) error {
	if err := check(s, "topic name"); err != nil {
		return err
	}
	if i := strings.IndexAny(s, "+#"); i >= 0 {
		return fmt.Errorf("topic name %q holds the wildcard %q at byte %d (§4.7.1)", s, s[i], i)
	}
	return nil
}

// CheckFilter tells why s is no topic filter, or nil (§4.7.1, §4.7.3). A shared
// subscription needs a share name without wildcards, then a filter (5.0 §4.8.2).
func CheckFilter(s string) error {
	if err := check(s, "topic filter"); err != nil {
		return err
	}
	if rest, ok := strings.CutPrefix(s, SharePrefix); ok {
		name, filter, found := strings.Cut(rest, "/")
		if name == "" || strings.ContainsAny(name, "+#") || !found || filter == "" {
			return fmt.Errorf("topic filter %q must be $share/NAME/FILTER with a plain name (5.0 §4.8.2)", s)
		}
		s = filter
	}
	for rest, more := s, true; more; {
		var level string
		level, rest, more = strings.Cut(rest, "/")
		switch {
		case level == "#" && more:
			return fmt.Errorf("topic filter %q goes on after # (§4.7.1.2)", s)
		case level != "#" && strings.Contains(level, "#"):
			return fmt.Errorf("topic filter %q: # must stand alone in the last level (§4.7.1.2)", s)
		case level != "+" && strings.Contains(level, "+"):
			return fmt.Errorf("topic filter %q: + must fill a whole level (§4.7.1.3)", s)
		}
	}
	return nil
}

func check(s, what string) error {
	switch {
	case s == "":
		return fmt.Errorf("the %s is empty: it needs at least one character (§4.7.3)", what)
	case len(s) > MaxLength:
		return fmt.Errorf("the %s has %d bytes; at most %d are allowed (§4.7.3)", what, len(s), MaxLength)
	case strings.ContainsRune(s, 0):
		return fmt.Errorf("the %s %q holds U+0000 (§4.7.3)", what, s)
	case !utf8.ValidString(s):
		return fmt.Errorf("the %s %q is not well-formed UTF-8 (§4.7.3)", what, s)
	}
	return nil
}

// Match tells whether the filter matches the topic name; both must be valid, and the
// filter not a shared one. A wildcard in the first level does not match names that
// begin with $ (§4.7.2).
func Match(filter, name string) bool {
	if strings.HasPrefix(name, "$") && (strings.HasPrefix(filter, "+") || strings.HasPrefix(filter, "#")) {
		return false
	}
	for {
		f, fRest, fMore := strings.Cut(filter, "/")
		if f == "#" {
			return true
		}
		n, nRest, nMore := strings.Cut(name, "/")
		if f != "+" && f != n {
			return false
		}
		switch {
		case fMore && !nMore:
			return fRest == "#" // "a/#" matches "a" (§4.7.1.2)
		case !fMore:
			return !nMore
		}
		filter, name = fRest, nRest
	}
}

// CutShare splits $share/NAME/FILTER into the share name and the filter (5.0 §4.8.2); any
// other filter is returned as it is.
func CutShare(filter string) (share, plain string, shared bool) {
	rest, ok := strings.CutPrefix(filter, SharePrefix)
	if !ok {
		return "", filter, false
	}
	share, plain, shared = strings.Cut(rest, "/")
	return share, plain, shared
}

// Covers tells whether filter matches every topic name that other matches. Both must be
// valid and not shared.
func Covers(filter, other string) bool {
	if strings.HasPrefix(other, "$") && (strings.HasPrefix(filter, "+") || strings.HasPrefix(filter, "#")) {
		return false
	}
	for {
		f, fRest, fMore := strings.Cut(filter, "/")
		o, oRest, oMore := strings.Cut(other, "/")
		switch {
		case f == "#":
			return true
		case o == "#", f != "+" && f != o:
			return false
		case fMore && !oMore:
			return fRest == "#" // a/# matches a
		case !fMore:
			return !oMore
		}
		filter, other = fRest, oRest
	}
}

// Meets tells whether there is a topic name that both filters match. Both must be valid and not shared.
func Meets(filter, other string) bool {
	wild := func(s string) bool { return strings.HasPrefix(s, "+") || strings.HasPrefix(s, "#") }
	if strings.HasPrefix(filter, "$") && wild(other) || strings.HasPrefix(other, "$") && wild(filter) {
		return false // §4.7.2
	}
	for {
		f, fRest, fMore := strings.Cut(filter, "/")
		o, oRest, oMore := strings.Cut(other, "/")
		switch {
		case f == "#", o == "#":
			return true
		case f != "+" && o != "+" && f != o:
			return false
		case fMore && !oMore:
			return fRest == "#" // a/# matches a
		case !fMore && oMore:
			return oRest == "#"
		case !fMore:
			return true
		}
		filter, other = fRest, oRest
	}
}

// Tree keeps values under topic filters and finds those whose filter matches a
// name without looking at the others. The zero value is empty. It is not safe
// for concurrent use.
type Tree[K comparable, V any] struct{ root node[K, V] }

type node[K comparable, V any] struct {
	children map[string]*node[K, V]
	values   map[K]V
}

// Set puts the value under the filter and key, replacing what is there, and tells
// whether something was.
func (t *Tree[K, V]) Set(filter string, key K, value V) (replaced bool) {
	n := &t.root
	for level := range levels(filter) {
		next := n.children[level]
		if next == nil {
			next = new(node[K, V])
			if n.children == nil {
				n.children = make(map[string]*node[K, V])
			}
			n.children[level] = next
		}
		n = next
	}
	if n.values == nil {
		n.values = make(map[K]V)
	}
	_, replaced = n.values[key]
	n.values[key] = value
	return replaced
}

// Delete takes away what stands under the filter and key, and tells whether
// something did.
func (t *Tree[K, V]) Delete(filter string, key K) bool {
	path := []*node[K, V]{&t.root}
	var names []string
	for level := range levels(filter) {
		next := path[len(path)-1].children[level]
		if next == nil {
			return false
		}
		path, names = append(path, next), append(names, level)
	}
	last := path[len(path)-1]
	if _, ok := last.values[key]; !ok {
		return false
	}
	delete(last.values, key)
	for i := len(path) - 1; i > 0 && len(path[i].values) == 0 && len(path[i].children) == 0; i-- {
		delete(path[i-1].children, names[i-1])
	}
	return true
}

// Matching calls visit for each value whose filter matches the topic name.
func (t *Tree[K, V]) Matching(name string, visit func(key K, value V)) {
	t.root.match(name, true, strings.HasPrefix(name, "$"), visit)
}

func (n *node[K, V]) match(rest string, more, dollar bool, visit func(K, V)) {
	if !dollar {
		if hash := n.children["#"]; hash != nil {
			hash.each(visit)
		}
	}
	if !more {
		n.each(visit)
		return
	}
	level, rest, more := strings.Cut(rest, "/")
	if child := n.children[level]; child != nil && level != "+" && level != "#" {
		child.match(rest, more, false, visit)
	}
	if plus := n.children["+"]; plus != nil && !dollar {
		plus.match(rest, more, false, visit)
	}
}

func (n *node[K, V]) each(visit func(K, V)) {
	for k, v := range n.values {
		visit(k, v)
	}
}

// levels yields the parts between slashes without allocating a slice.
func levels(s string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for more := true; more; {
			var level string
			level, s, more = strings.Cut(s, "/")
			if !yield(level) {
				return
			}
		}
	}
}
