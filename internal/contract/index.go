package contract

import (
	"slices"
	"strings"
	"sync"
)

// index finds clauses by topic and by name. Clauses are only ever added.
type index struct {
	mu    sync.Mutex
	taken int // clauses that are in it
	names map[string]*Clause
	root  level
}

// level is a node of the tree of topics.
type level struct {
	literal map[string]*level
	param   *level
	clauses []*Clause // whose topics end here
}

// found returns the index, with all clauses in it.
func (c *Contract) found() *index {
	x := &c.index
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.taken > len(c.Clauses) { // a clause was taken away
		x.taken, x.names, x.root = 0, nil, level{}
	}
	if x.names == nil {
		x.names = map[string]*Clause{}
	}
	for _, cl := range c.Clauses[x.taken:] {
		if x.names[cl.Name] == nil {
			x.names[cl.Name] = cl
		}
		at := &x.root
		for _, l := range cl.Topic.levels {
			at = at.down(l)
		}
		at.clauses = append(at.clauses, cl)
	}
	x.taken = len(c.Clauses)
	return x
}

// down returns the node below for a pattern's level, which is made where there is none.
func (n *level) down(l string) *level {
	if _, is := parameter(l); is {
		if n.param == nil {
			n.param = &level{}
		}
		return n.param
	}
	if n.literal == nil {
		n.literal = map[string]*level{}
	}
	if n.literal[l] == nil {
		n.literal[l] = &level{}
	}
	return n.literal[l]
}

// find visits the clauses whose patterns have the shape of the name, until visit returns true.
func (n *level) find(rest string, more bool, visit func(*Clause) bool) bool {
	if !more {
		return slices.ContainsFunc(n.clauses, visit)
	}
	l, rest, more := strings.Cut(rest, "/")
	if next := n.literal[l]; next != nil && next.find(rest, more, visit) {
		return true
	}
	return n.param != nil && n.param.find(rest, more, visit)
}

// meet visits the clauses whose patterns may cover a topic of the pattern's, as far as the shapes tell.
func (n *level) meet(levels []string, visit func(*Clause) bool) bool {
	if len(levels) == 0 {
		return slices.ContainsFunc(n.clauses, visit)
	}
	if n.param != nil && n.param.meet(levels[1:], visit) {
		return true
	}
	if _, is := parameter(levels[0]); !is {
		next := n.literal[levels[0]]
		return next != nil && next.meet(levels[1:], visit)
	}
	for _, next := range n.literal {
		if next.meet(levels[1:], visit) {
			return true
		}
	}
	return false
}

// Find returns the clause that covers a topic name, and the parameters' values.
func (c *Contract) Find(name string) (found *Clause, values []string) {
	c.found().root.find(name, true, func(cl *Clause) bool {
		if v, ok := cl.Topic.Match(name); ok && c.allows(cl, v) == "" {
			found, values = cl, v
		}
		return found != nil
	})
	return found, values
}

// Clause returns the clause with the name, or nil.
func (c *Contract) Clause(name string) *Clause { return c.found().names[name] }

// Overlap returns a clause of the contract, other than cl, that may cover one topic name with it, or nil.
func (c *Contract) Overlap(cl *Clause) (other *Clause) {
	c.found().root.meet(cl.Topic.levels, func(x *Clause) bool {
		if x != cl && c.overlap(cl.Topic, x.Topic) {
			other = x
		}
		return other != nil
	})
	return other
}
