package workspace

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Key is a key of the workspace file as people read of it.
type Key struct {
	Name string
	// Type is "string", "duration", "integer", "number", "boolean", "any", "secret",
	// "cadence", "range", "version", a shape's name, "list of …" or "map of …".
	Type     string
	Required bool
	Doc      string
	// For are the kinds that the key is for, such as formats of a payload; nil for all.
	For []string
}

// Shape is a mapping of the file with the keys it may have.
type Shape struct {
	Name string
	Doc  string
	Keys []Key
}

// Shapes describes the language, outermost first: docs/workspace.md and the JSON Schema for editors
// are made of it.
func Shapes() []Shape {
	return []Shape{
		workspaceShape.describe(),
		brokerShape.describe(),
		restartShape.describe(),
		acceptedShape.describe(),
		listenerShape.describe(),
		standInShape.describe(),
		ownTLSShape.describe(),
		rightsShape.describe(),
		limitsShape.describe(),
		paceShape.describe(),
		loginShape.describe(),
		contractShape.describe(),
		partyShape.describe(),
		termsShape.describe(),
		maxTopicShape.describe(),
		parameterShape.describe(),
		clauseShape.describe(),
		propertiesShape.describe(),
		stampShape.describe(),
		counterShape.describe(),
		relationShape.describe(),
		messagePatternShape.describe(),
		acceptanceShape.describe(),
		answerShape.describe(),
		presenceShape.describe(),
		payloadShape.describe(),
		fieldShape.describe(),
		deviceShape.describe(),
		sessionShape.describe(),
		comingShape.describe(),
		subscribedShape.describe(),
		offlineShape.describe(),
		timepieceShape.describe(),
		signalShape.describe(),
		signalFaultShape.describe(),
		publicationShape.describe(),
		burstShape.describe(),
		changeShape.describe(),
		edgeShape.describe(),
		reactionShape.describe(),
		stateShape.describe(),
		lastsShape.describe(),
		transitionShape.describe(),
		preparedShape.describe(),
		readoutShape.describe(),
		tapShape.describe(),
		loadShape.describe(),
		loadPublishShape.describe(),
		rampShape.describe(),
		trialShape.describe(),
		stepShape.describe(),
		sendingShape.describe(),
		sightingShape.describe(),
		expectationShape.describe(),
		absenceShape.describe(),
		slownessShape.describe(),
		tappingShape.describe(),
	}
}

// shape is a mapping of the file with all that there is to know of its keys: what they are called,
// what they mean, and how they are read into a T. It is the one place where a key stands.
type shape[T any] struct {
	name, doc string
	keys      []key[T]
}

// key is a key with its reading. Keys are read in the order of their shape, each if it is written.
type key[T any] struct {
	Key
	read func(l *loader, t *T, v node)
}

func (s *shape[T]) describe() Shape {
	out := Shape{Name: s.name, Doc: s.doc}
	for i := range s.keys {
		out.Keys = append(out.Keys, s.keys[i].Key)
	}
	return out
}

// read reads a mapping into t, and returns the values by key, for what keys have to do with one
// another; what names the mapping in messages. Keys that the shape does not have and required ones
// that are missing are problems.
func (s *shape[T]) read(l *loader, n node, what string, t *T) map[string]node {
	f := s.fields(n, what)
	s.fill(l, f, t)
	return f
}

// fill reads values into t, in the order of the shape.
func (s *shape[T]) fill(l *loader, f map[string]node, t *T) {
	for i := range s.keys {
		if v := f[s.keys[i].Name]; v.n != nil {
			s.keys[i].read(l, t, v)
		}
	}
}

// shapes is [Shapes]; a variable, for what reads a shape stands in one.
var shapes func() []Shape

func init() { shapes = Shapes }

// deeper says where a key stands that does not stand here, but in the mapping under one that does; "" where there
// is none.
func (s *shape[T]) deeper(name string) string {
	all := shapes()
	for _, k := range s.keys {
		i := slices.IndexFunc(all, func(x Shape) bool { return x.Name == k.Type })
		if i >= 0 && slices.ContainsFunc(all[i].Keys, func(x Key) bool { return x.Name == name }) {
			return fmt.Sprintf("write it deeper: %s: {%s: …}", k.Name, name)
		}
	}
	return ""
}

// fields returns the mapping's values by key, and reports keys that the shape does not know and
// required ones that are missing.
func (s *shape[T]) fields(n node, what string) map[string]node {
	out := make(map[string]node, len(s.keys))
	entries := n.entries(what)
	for _, e := range entries {
		if !slices.ContainsFunc(s.keys, func(k key[T]) bool { return k.Name == e.key }) {
			hint := s.deeper(e.key)
			if hint == "" {
				hint = suggest(e.key, names(s.keys, func(k key[T]) string { return k.Name }))
			}
			e.at.fail(hint, "%s has no key %q", what, e.key)
			continue
		}
		out[e.key] = e.value
	}
	for i := range s.keys {
		k := &s.keys[i]
		if k.Required && !out[k.Name].exists() && (entries != nil || !n.exists()) {
			n.fail(k.Doc, "%s lacks %q", what, k.Name)
		}
	}
	return out
}

// strangers calls tell for each key that is written though it is not for the kind.
func (s *shape[T]) strangers(f map[string]node, kind string, tell func(k Key, v node)) {
	for i := range s.keys {
		k := s.keys[i].Key
		if v := f[k.Name]; v.exists() && k.For != nil && !slices.Contains(k.For, kind) {
			tell(k, v)
		}
	}
}

// keysFor names the keys that are for a kind, and not for all.
func (s *shape[T]) keysFor(kind string) (out []string) {
	for i := range s.keys {
		if slices.Contains(s.keys[i].For, kind) {
			out = append(out, s.keys[i].Name)
		}
	}
	return out
}

// must marks a key as required.
func (k key[T]) must() key[T] {
	k.Required = true
	return k
}

// only says of which kinds a key is; its text begins with them where it says so.
func (k key[T]) only(kinds ...string) key[T] {
	k.For = kinds
	return k
}

// own is a key with a reading of its own.
func own[T any](name, typ, doc string, read func(l *loader, t *T, v node)) key[T] {
	return key[T]{Key{Name: name, Type: typ, Doc: doc}, read}
}

// text is a key with a text; numbers and booleans are taken as they are written.
func text[T any](name, doc string, at func(*T) *string) key[T] {
	return own(name, "string", doc, func(_ *loader, t *T, v node) { *at(t) = v.str(name) })
}

// texts is a key with a list of texts; one may stand without brackets.
func texts[T any](name, doc string, at func(*T) *[]string) key[T] {
	return own(name, "list of string", doc, func(_ *loader, t *T, v node) {
		for _, x := range v.list() {
			*at(t) = append(*at(t), x.str(name))
		}
	})
}

// boolean is a key with true or false.
func boolean[T any](name, doc string, set func(*T, bool)) key[T] {
	return own(name, "boolean", doc, func(_ *loader, t *T, v node) {
		if b := v.boolean(name); b != nil {
			set(t, *b)
		}
	})
}

// integer is a key with a whole number from lo to hi.
func integer[T any](name, doc string, lo, hi int, set func(*T, int)) key[T] {
	return own(name, "integer", doc, func(_ *loader, t *T, v node) {
		if i, ok := v.integer(name, lo, hi); ok {
			set(t, i)
		}
	})
}

// number is a key with a number.
func number[T any](name, doc string, set func(*T, float64)) key[T] {
	return own(name, "number", doc, func(_ *loader, t *T, v node) {
		if f := v.number(name); f != nil {
			set(t, *f)
		}
	})
}

// span is a key with a duration; longer tells that it must be more than nothing.
func span[T any](name, doc string, longer bool, at func(*T) *time.Duration) key[T] {
	return own(name, "duration", doc, func(_ *loader, t *T, v node) {
		if !v.exists() {
			return
		}
		if *at(t) = v.duration(name); longer && *at(t) <= 0 {
			v.fail(durationHint, "%s must be longer than nothing", name)
			*at(t) = time.Second
		}
	})
}

// pattern is a key with a regular expression that the whole of a text must match.
func pattern[T any](name, doc, what string, set func(*T, *regexp.Regexp)) key[T] {
	return own(name, "string", doc, func(_ *loader, t *T, v node) {
		if !v.exists() {
			return
		}
		re, err := regexp.Compile("^(?:" + v.str(name) + ")$")
		if err != nil {
			v.fail("", "%s cannot be read: %v", what, err)
			return
		}
		set(t, re)
	})
}

// each is a key with a mapping of names to parts of a shape.
func each[T any](name, part, doc string, read func(l *loader, t *T, e entry)) key[T] {
	return own(name, "map of "+part, doc, func(l *loader, t *T, v node) {
		for _, e := range v.entries(name) {
			read(l, t, e)
		}
	})
}

// all is a key with a list of parts.
func all[T any](name, part, doc string, read func(l *loader, t *T, v node)) key[T] {
	return own(name, "list of "+part, doc, func(l *loader, t *T, v node) {
		for _, x := range v.list() {
			read(l, t, x)
		}
	})
}

// kinds writes the kinds that a key is for before what it means.
func kinds(of []string, doc string) string { return strings.Join(of, ", ") + ": " + doc }
