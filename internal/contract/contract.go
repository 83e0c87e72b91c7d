// Package contract holds the agreement between the parties on an MQTT broker: which
// topics there are, who publishes and who consumes, and what a payload looks like. It
// judges messages by it.
package contract

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
)

// Contract is the whole agreement.
type Contract struct {
	Parties    []Party
	Parameters map[string]Parameter
	Clauses    []*Clause // in the order in which they are written; only ever added to
	Relations  []*Relation
	Accepted   []Acceptance

	index index
}

// Party is a role that publishes or consumes.
type Party struct {
	Name string
	Note string
	// Logins are whose logins speak for it: user names with parameters; nil where that is not agreed.
	Logins []IDPattern
	Terms  *Terms // nil for none
	Line   int
}

// Parameter limits what a named topic level may hold.
type Parameter struct {
	Name    string
	Values  []string       // all of them, where they are known
	Pattern *regexp.Regexp // for the whole level; nil for any
	Range   *Range         // nil for any
	Note    string
}

// Allows tells whether the level may hold s.
func (p Parameter) Allows(s string) bool {
	return (len(p.Values) == 0 || slices.Contains(p.Values, s)) && (p.Pattern == nil || p.Pattern.MatchString(s)) &&
		(p.Range == nil || p.Range.Holds(s))
}

// Limited tells whether anything bounds what the level may hold.
func (p Parameter) Limited() bool { return len(p.Values) > 0 || p.Pattern != nil || p.Range != nil }

// maxListed is how many values of a range are listed at most.
const maxListed = 10_000

// Listed returns all values that the level may hold, where they can be listed; nil where they cannot.
func (p Parameter) Listed() (out []string) {
	if len(p.Values) > 0 || p.Range == nil || p.Range.To-p.Range.From >= maxListed {
		return p.Values
	}
	for n := p.Range.From; n <= p.Range.To; n++ {
		if s := strconv.Itoa(n); p.Allows(s) {
			out = append(out, s)
		}
	}
	return out
}

// Clause is one topic pattern and what is agreed about it.
type Clause struct {
	Name     string
	Topic    Pattern
	From     string // the publishing party
	To       []string
	QoS      *packet.QoS // nil: not agreed
	Retain   *bool       // nil: not agreed
	Every    Cadence
	Most     Rate
	Only     Only // "" for any time
	Answer   *Answer
	Presence *Presence
	Payload  Payload
	// Expiry is the message expiry interval that it is published with (5.0 §3.3.2.3.3); 0: not agreed.
	Expiry     time.Duration
	Properties Properties
	// Stamp tells where the message says when it was published; nil: not agreed.
	Stamp *Stamp
	// Survives tells that a retained message is still there after the broker was started anew; of a clause that is not
	// retained, that what waits for an absent consumer is.
	Survives bool
	// Repeat tells of a command whether a repeat changes nothing ("once"), or counts ("counted"); "": not agreed.
	Repeat   string
	Examples []Example
	Counter  []Example // that must fail
	Note     string
	Line     int    // in its file
	File     string // beside the workspace, where it is another; else ""
}

// Stamp is the time that a message tells.
type Stamp struct {
	// Field is a JSON pointer to it; "" for the payload itself. Within is how far it may be from when the message comes.
	Field  string
	Within time.Duration
}

// TimeOf reads a time that a payload tells: text of RFC 3339, or seconds since 1970.
func TimeOf(v any) (time.Time, bool) {
	switch v := v.(type) {
	case string:
		t, err := time.Parse(time.RFC3339, v)
		return t, err == nil
	case int:
		return time.Unix(int64(v), 0), true
	case float64:
		const last = 253402300799 // of the year 9999
		if v < 0 || v > last {
			return time.Time{}, false
		}
		return time.UnixMicro(int64(v * 1e6)), true
	}
	return time.Time{}, false
}

// Cadence is how often a message is due.
type Cadence struct {
	Period    time.Duration // 0: not agreed
	Tolerance time.Duration
}

// String writes the cadence as the workspace does: "12s ± 3s".
func (c Cadence) String() string {
	switch {
	case c.Period == 0:
		return ""
	case c.Tolerance == 0:
		return c.Period.String()
	}
	return fmt.Sprintf("%s ± %s", c.Period, c.Tolerance)
}

// Rate is how many messages may come within a time at most.
type Rate struct {
	N   int // 0: not agreed
	Per time.Duration
}

// String writes the rate as the workspace does: "10/s".
func (r Rate) String() string {
	for unit, name := range map[time.Duration]string{time.Second: "s", time.Minute: "min", time.Hour: "h"} {
		if r.N > 0 && r.Per == unit {
			return fmt.Sprintf("%d/%s", r.N, name)
		}
	}
	if r.N > 0 {
		return fmt.Sprintf("%d/%s", r.N, r.Per)
	}
	return ""
}

// ParseRate reads a rate: 10/s, 6/min, 2/h.
func ParseRate(text string) (Rate, error) {
	number, unit, _ := strings.Cut(text, "/")
	n, err := strconv.Atoi(strings.TrimSpace(number))
	per := map[string]time.Duration{"s": time.Second, "min": time.Minute, "h": time.Hour}[strings.TrimSpace(unit)]
	if err != nil || n < 1 || n > 1_000_000 || per == 0 {
		return Rate{}, fmt.Errorf("%q is no rate: write 10/s, 6/min or 2/h", text)
	}
	return Rate{n, per}, nil
}

// Answer is the clause that must follow a command, and how soon.
type Answer struct {
	Clause string
	Within time.Duration
}

// Presence holds the payloads with which a party comes, leaves, and is lost; the
// last is its will.
type Presence struct{ Coming, Leaving, Lost string }

// Payload is what a clause's messages carry.
type Payload struct {
	Format payload.Format
	// Codec reads and writes it, where the format has more to know than its name; nil for the format's own.
	Codec   payload.Codec
	Schema  *Schema        // of what has a JSON value; nil for any
	Values  []Value        // text only; empty for any
	Pattern *regexp.Regexp // text only, matching the whole; nil for any
	// FirstCharacter tells that only the first character of a text counts: Values lists characters.
	FirstCharacter bool
	Minimum        *float64
	Maximum        *float64
	Unit           string
	MediaType      string // of binary without parts; "" for any
	MaxSize        int    // in bytes; 0 for any
	// Written is how it stands in the contract: a mapping in its order.
	Written expression.Object
}

// Code is the codec of the payload.
func (p *Payload) Code() payload.Codec {
	if p.Codec != nil {
		return p.Codec
	}
	return payload.Of(p.Format)
}

// NoText tells whether the payload is written as JSON by people and devices, for its bytes are no text.
func (p *Payload) NoText() bool {
	_, fields := p.Codec.(payload.Layout)
	return fields || p.Format == payload.CBOR || p.Format == payload.MessagePack || p.Format == payload.Protobuf
}

// Read makes the payload of what a person writes: text as it is, JSON of its value where it is no text.
func (p *Payload) Read(text string) ([]byte, error) {
	if !p.NoText() {
		return []byte(text), nil
	}
	v, err := payload.Decode(payload.JSON, []byte(text))
	if err != nil {
		return nil, fmt.Errorf("write %s as JSON: %w", p.Words(), err)
	}
	return p.Code().Encode(v)
}

// Write is what a person would write for a payload; ok is false where there is no way to.
func (p *Payload) Write(b []byte) (text string, ok bool) {
	v, err := p.Code().Decode(b)
	switch {
	case err != nil || len(b) == 0:
		return "", false
	case !p.NoText():
		return string(b), utf8.Valid(b)
	}
	out, err := json.Marshal(v)
	return string(out), err == nil
}

// Spelled is what bytes that are no text mean, as JSON; ok is false for text, and for what cannot be read.
func (p *Payload) Spelled(b []byte) (text string, ok bool) {
	if !p.NoText() {
		return "", false
	}
	return p.Write(b)
}

// Value is an allowed text and what it stands for.
type Value struct{ Text, Meaning string }

// Pattern is a topic name with named parameters: marrowvoe/pen/{pen}/oxygen.
type Pattern struct {
	text   string
	levels []string
	params []string // names, in order
}

// ParsePattern reads a topic pattern. A parameter fills a whole level.
func ParsePattern(s string) (Pattern, error) {
	p := Pattern{text: s}
	if strings.ContainsAny(s, "+#") {
		return p, fmt.Errorf("topic %q holds a wildcard: name the level as a parameter, {like-this}", s)
	}
	if err := topic.CheckName(s); err != nil {
		return p, err
	}
	p.levels = strings.Split(s, "/")
	for _, l := range p.levels {
		name, is := parameter(l)
		switch {
		case is && slices.Contains(p.params, name):
			return p, fmt.Errorf("topic %q names the parameter {%s} twice", s, name)
		case is:
			p.params = append(p.params, name)
		case strings.ContainsAny(l, "{}"):
			return p, fmt.Errorf("topic %q: a parameter fills a whole level, as in a/{name}/b", s)
		}
	}
	return p, nil
}

func parameter(level string) (name string, ok bool) {
	if len(level) > 2 && level[0] == '{' && level[len(level)-1] == '}' &&
		!strings.ContainsAny(level[1:len(level)-1], "{}") {
		return level[1 : len(level)-1], true
	}
	return "", false
}

// String returns the pattern as it is written.
func (p Pattern) String() string { return p.text }

// Parameters returns the names of the parameters in order.
func (p Pattern) Parameters() []string { return p.params }

// Filter returns the topic filter that matches all names of the pattern.
func (p Pattern) Filter() string {
	levels := slices.Clone(p.levels)
	for i, l := range levels {
		if _, is := parameter(l); is {
			levels[i] = "+"
		}
	}
	return strings.Join(levels, "/")
}

// Fill returns the topic filter that matches all names of the pattern with the values; "+" stands for the others.
func (p Pattern) Fill(values map[string]string) string {
	levels := slices.Clone(p.levels)
	for i, l := range levels {
		if name, is := parameter(l); is {
			if levels[i] = "+"; values[name] != "" {
				levels[i] = values[name]
			}
		}
	}
	return strings.Join(levels, "/")
}

// Match returns the parameters' values, in order, when the name has the pattern's shape.
func (p Pattern) Match(name string) ([]string, bool) {
	var values []string
	for i, l := range p.levels {
		level, rest, more := strings.Cut(name, "/")
		if more != (i < len(p.levels)-1) {
			return nil, false
		}
		if _, is := parameter(l); is {
			values = append(values, level)
		} else if l != level {
			return nil, false
		}
		name = rest
	}
	return values, true
}

// Values returns the parameters' values in a name of the pattern's shape, by parameter; nil for another.
func (p Pattern) Values(name string) map[string]string {
	values, ok := p.Match(name)
	if !ok {
		return nil
	}
	out := make(map[string]string, len(values))
	for i, v := range values {
		out[p.params[i]] = v
	}
	return out
}

// Topic fills in the parameters; a missing one is an error that names it.
func (p Pattern) Topic(values map[string]string) (string, error) {
	levels := slices.Clone(p.levels)
	for i, l := range levels {
		if name, is := parameter(l); is {
			v, ok := values[name]
			if !ok {
				return "", fmt.Errorf("topic %s: no value for {%s}", p.text, name)
			}
			levels[i] = v
		}
	}
	s := strings.Join(levels, "/")
	return s, topic.CheckName(s)
}

// Party returns the party with the name, or nil.
func (c *Contract) Party(name string) *Party {
	for i := range c.Parties {
		if c.Parties[i].Name == name {
			return &c.Parties[i]
		}
	}
	return nil
}

// maxTopics is how many topics of a clause are listed at most.
const maxTopics = 10_000

// Topics lists all topics of a clause at the values; nil where they cannot be listed, for a parameter may hold
// anything, or for there are too many.
func (c *Contract) Topics(cl *Clause, values map[string]string) []string {
	out := []string{""}
	for i, l := range cl.Topic.levels {
		each := []string{l}
		if name, is := parameter(l); is {
			if each = c.Parameters[name].Listed(); values[name] != "" {
				each = []string{values[name]}
			}
		}
		if len(out)*len(each) == 0 || len(out)*len(each) > maxTopics {
			return nil
		}
		var next []string
		for _, head := range out {
			for _, v := range each {
				if i > 0 {
					v = head + "/" + v
				}
				next = append(next, v)
			}
		}
		out = next
	}
	return out
}

// allows names the first parameter that may not hold its value, or "".
func (c *Contract) allows(cl *Clause, values []string) string {
	for i, p := range cl.Topic.params {
		if !c.Parameters[p].Allows(values[i]) {
			return p
		}
	}
	return ""
}

// maxNearDistance is how many letters a topic may be away from a clause's and still
// be taken for a slip of the pen.
const maxNearDistance = 3

// nearSlack is by how many letters names and patterns may differ in length to be compared at all:
// parameters are longer or shorter than what stands for them.
const nearSlack = 64

// Near says which clause a stray topic may have been meant for, or "".
func (c *Contract) Near(name string) string {
	best, at := "", maxNearDistance+1
	got := strings.Split(name, "/")
	for _, cl := range c.Clauses {
		if values, ok := cl.Topic.Match(name); ok {
			p := c.allows(cl, values)
			if p == "" {
				return fmt.Sprintf("%s (%s)", cl.Name, cl.Topic) // it is covered
			}
			i := slices.Index(cl.Topic.params, p)
			return fmt.Sprintf("%s, but {%s} may not be %q", cl.Name, p, values[i])
		}
		// Compare with the parameters as they are in the topic, so that they cost nothing.
		levels := slices.Clone(cl.Topic.levels)
		for i, l := range levels {
			if _, is := parameter(l); is && i < len(got) {
				levels[i] = got[i]
			}
		}
		if n := len(name) - len(cl.Topic.text); n > nearSlack || n < -nearSlack {
			continue // parameters apart, they are far from alike
		}
		if d := levenshtein.ComputeDistance(name, strings.Join(levels, "/")); d < at {
			best, at = fmt.Sprintf("%s (%s)", cl.Name, cl.Topic), d
		}
	}
	return best
}

func (c *Contract) overlap(x, y Pattern) bool {
	if len(x.levels) != len(y.levels) {
		return false
	}
	for i := range x.levels {
		xp, xIs := parameter(x.levels[i])
		yp, yIs := parameter(y.levels[i])
		switch {
		case xIs && yIs: // two parameters may always meet, unless their values are listed
			vs, other := c.Parameters[xp].Listed(), c.Parameters[yp].Listed()
			if len(vs) > 0 && len(other) > 0 &&
				!slices.ContainsFunc(vs, func(v string) bool { return c.Parameters[yp].Allows(v) }) {
				return false
			}
		case xIs && !c.Parameters[xp].Allows(y.levels[i]), yIs && !c.Parameters[yp].Allows(x.levels[i]):
			return false
		case !xIs && !yIs && x.levels[i] != y.levels[i]:
			return false
		}
	}
	return true
}
