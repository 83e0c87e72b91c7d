package topic

import "strings"

// Names finds topic names by a filter, whichever match it: the other way round than [Tree]. The zero
// value is empty. Not safe for concurrent use.
type Names[V any] struct {
	root  named[V]
	count int
}

type named[V any] struct {
	below map[string]*named[V]
	there bool
	value V
}

// Len is how many names there are.
func (t *Names[V]) Len() int { return t.count }

// Set gives a name a value.
func (t *Names[V]) Set(name string, value V) {
	n := &t.root
	for l := range levels(name) {
		if n.below == nil {
			n.below = map[string]*named[V]{}
		}
		next := n.below[l]
		if next == nil {
			next = &named[V]{}
			n.below[l] = next
		}
		n = next
	}
	if !n.there {
		t.count++
	}
	n.there, n.value = true, value
}

// Get returns a name's value.
func (t *Names[V]) Get(name string) (value V, there bool) {
	n := &t.root
	for l := range levels(name) {
		if n = n.below[l]; n == nil {
			return value, false
		}
	}
	return n.value, n.there
}

// Delete forgets a name, and tells whether it was there.
func (t *Names[V]) Delete(name string) bool {
	var way []*named[V]
	var keys []string
	n := &t.root
	for l := range levels(name) {
		way, keys = append(way, n), append(keys, l)
		if n = n.below[l]; n == nil {
			return false
		}
	}
	if !n.there {
		return false
	}
	var none V
	n.there, n.value = false, none
	t.count--
	for i := len(way) - 1; i >= 0 && !n.there && len(n.below) == 0; i-- { // what holds nothing is let go of
		delete(way[i].below, keys[i])
		n = way[i]
	}
	return true
}

// Matching visits the names that a filter matches (§4.7); visit must not change the names.
func (t *Names[V]) Matching(filter string, visit func(name string, value V)) {
	t.root.match(strings.Split(filter, "/"), nil, visit)
}

func (n *named[V]) match(filter, so []string, visit func(string, V)) {
	if len(filter) == 0 {
		n.visit(so, visit)
		return
	}
	// Wildcards at the beginning leave out names that begin with $ (§4.7.2).
	hidden := func(level string) bool { return len(so) == 0 && strings.HasPrefix(level, "$") }
	switch first, rest := filter[0], filter[1:]; first {
	case "#":
		if len(so) > 0 { // it matches the level above too (§4.7.1.2)
			n.visit(so, visit)
		}
		for level, next := range n.below {
			if !hidden(level) {
				next.match(filter, append(so, level), visit)
			}
		}
	case "+":
		for level, next := range n.below {
			if !hidden(level) {
				next.match(rest, append(so, level), visit)
			}
		}
	default:
		if next := n.below[first]; next != nil {
			next.match(rest, append(so, first), visit)
		}
	}
}

func (n *named[V]) visit(so []string, visit func(string, V)) {
	if n.there {
		visit(strings.Join(so, "/"), n.value)
	}
}
