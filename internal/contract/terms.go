package contract

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
)

// Terms are what a party's sessions must look like. What is not agreed is zero.
type Terms struct {
	// ClientID is what its client identifiers look like, with parameters: pen-{pen}; "" for any.
	ClientID   IDPattern
	Versions   []packet.Version // that it speaks; nil for any
	KeepAlive  TimeSpan         // of CONNECT, in whole seconds (3.1.1 §3.1.2.10)
	CleanStart *bool
	TLS        Need
	Login      LoginKind
	MaxQoS     *packet.QoS // of what it publishes, subscribes to and is sent
	MaxPacket  int         // in bytes, of what it sends and is sent; 0 for any
	// TopicLength and TopicLevels bound topic names, in bytes and in levels; 0 for any.
	TopicLength, TopicLevels int
	// InFlight is how many messages at QoS 1 and 2 it has under way at most; 0 for any.
	InFlight int
	// FirstValueWithin is how soon after CONNACK it has published something.
	FirstValueWithin time.Duration
	// LostWithin is how soon its loss is announced by its will, from when its link died.
	LostWithin time.Duration
	// GivesUpWithin is how soon it gives a dead link up, and BackWithin how soon it is back after the end of one.
	GivesUpWithin, BackWithin time.Duration
	Tries                     Rate // of CONNECT
	// Buffers is for how long a time without a connection what it measured comes once it is back: 0 for nothing of it, nil
	// where nothing is agreed.
	Buffers *time.Duration
}

// Need tells whether something is to be there.
type Need string

// The needs.
const (
	Required Need = "required"
	Allowed  Need = "allowed"
	None     Need = "none"
)

// LoginKind is what a client proves who it is with.
type LoginKind string

// The kinds of logins. A token travels as the password; whether a certificate was shown, CONNECT does not tell.
const (
	LoginPassword    LoginKind = "password"
	LoginCertificate LoginKind = "certificate"
	LoginToken       LoginKind = "token"
	LoginNone        LoginKind = "none"
)

// TimeSpan is a range of time; zero for any. To is From for one that is exact.
type TimeSpan struct{ From, To time.Duration }

// String writes the span as the workspace does: 10s..30s.
func (s TimeSpan) String() string {
	switch {
	case s == (TimeSpan{}):
		return ""
	case s.From == s.To:
		return short(s.From)
	}
	return short(s.From) + ".." + short(s.To)
}

// Holds tells whether the span has the duration in it.
func (s TimeSpan) Holds(d time.Duration) bool { return s == (TimeSpan{}) || s.From <= d && d <= s.To }

// ParseTimeSpan reads 20s or 10s..30s.
func ParseTimeSpan(text string) (TimeSpan, error) {
	from, to, ranged := strings.Cut(text, "..")
	a, err := time.ParseDuration(strings.TrimSpace(from))
	b := a
	if err == nil && ranged {
		b, err = time.ParseDuration(strings.TrimSpace(to))
	}
	if err != nil || a < 0 || b < a {
		return TimeSpan{}, fmt.Errorf("%q is no span of time: write 20s, or 10s..30s", text)
	}
	return TimeSpan{a, b}, nil
}

// short writes a duration without the zeros that [time.Duration.String] ends with: 1m, not 1m0s.
func short(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// IDPattern is a text with parameters in it, as client identifiers and logins have them: pen-{pen}.
type IDPattern struct {
	text  string
	re    *regexp.Regexp
	names []string
}

var idParameter = regexp.MustCompile(`\{[^{}]*\}`)

// ParseIDPattern reads a text with {parameters}, each of which stands for one character or more. No text stands
// for any.
func ParseIDPattern(text string) (IDPattern, error) {
	p := IDPattern{text: text}
	if text == "" {
		return p, nil
	}
	var b strings.Builder
	rest := text
	for at := idParameter.FindStringIndex(rest); at != nil; at = idParameter.FindStringIndex(rest) {
		name := rest[at[0]+1 : at[1]-1]
		if name == "" || slices.Contains(p.names, name) {
			return p, fmt.Errorf("%q: a parameter has a name, and stands there once", text)
		}
		p.names = append(p.names, name)
		b.WriteString(regexp.QuoteMeta(rest[:at[0]]) + "(.+?)")
		rest = rest[at[1]:]
	}
	if strings.ContainsAny(rest, "{}") {
		return p, fmt.Errorf("%q: a bracket has no other", text)
	}
	var err error
	p.re, err = regexp.Compile("^(?s:" + b.String() + regexp.QuoteMeta(rest) + ")$")
	return p, err
}

// String returns the pattern as it is written.
func (p IDPattern) String() string { return p.text }

// Parameters returns the names of the parameters in order.
func (p IDPattern) Parameters() []string { return p.names }

// Match tells whether a text is of the pattern, and returns the parameters' values.
func (p IDPattern) Match(s string) (values map[string]string, ok bool) {
	if p.re == nil {
		return nil, true
	}
	m := p.re.FindStringSubmatch(s)
	if m == nil {
		return nil, false
	}
	values = make(map[string]string, len(p.names))
	for i, name := range p.names {
		values[name] = m[i+1]
	}
	return values, true
}

// matches is Match with the parameters' values held to what the contract allows.
func (c *Contract) matches(p IDPattern, s string) (values map[string]string, ok bool) {
	if values, ok = p.Match(s); !ok {
		return nil, false
	}
	for name, v := range values {
		if param, defined := c.Parameters[name]; defined && !param.Allows(v) {
			return nil, false
		}
	}
	return values, true
}

// PartyOf tells which party a client is, by its user name or its client identifier, and the parameters' values that
// they tell. It is nil where they fit none, or several.
func (c *Contract) PartyOf(clientID, username string) (found *Party, values map[string]string) {
	try := func(fits func(p *Party) (map[string]string, bool)) bool {
		n := 0
		for i := range c.Parties {
			if v, ok := fits(&c.Parties[i]); ok {
				found, values = &c.Parties[i], v
				n++
			}
		}
		if n != 1 {
			found, values = nil, nil
		}
		return n > 0
	}
	if username != "" && try(func(p *Party) (map[string]string, bool) {
		for _, l := range p.Logins {
			if v, ok := c.matches(l, username); ok {
				return v, true
			}
		}
		return nil, false
	}) {
		return found, values
	}
	try(func(p *Party) (map[string]string, bool) {
		if p.Terms == nil || p.Terms.ClientID.text == "" {
			return nil, false
		}
		return c.matches(p.Terms.ClientID, clientID)
	})
	return found, values
}

// Only tells upon what a message comes.
type Only string

// What messages may come upon.
const (
	OnChanges Only = "changes" // with another payload than the one before
	OnEdges   Only = "edges"   // of a value with two states: when it turns from one to the other
)

// Properties are what a PUBLISH of version 5 carries beside its payload (5.0 §3.3.2.3).
type Properties struct {
	ContentType string      // §3.3.2.3.9; "" for any
	User        [][2]string // §3.3.2.3.7: those that must be there
}

// Example is a payload that must pass, or one that must fail.
type Example struct {
	Payload []byte
	Text    string // as people read it
	Value   any    // as it is written; nil where it is written letter by letter
	Because string // of a counter-example: why it fails
	Line    int
}

// MessagePattern fits messages of a clause.
type MessagePattern struct {
	Clause     string
	Parameters map[string]string // nil for any
	Where      Condition         // nil for any
	WhereText  string
}

// String writes it as people read it.
func (m MessagePattern) String() string {
	s := m.Clause
	for _, name := range sortedKeys(m.Parameters) {
		s += " " + name + " " + m.Parameters[name]
	}
	if m.WhereText != "" {
		s += " where " + m.WhereText
	}
	return s
}

// Condition decides on a message by its payload; cause is the payload of the message that it follows, nil where it
// follows none.
type Condition func(payload, cause any) bool

// Relation is what clauses have to do with one another: patterns that are never true together, or a message that
// follows another.
type Relation struct {
	Name   string
	Never  []MessagePattern
	Per    []string // the parameters that the messages have in common
	After  *MessagePattern
	Follow *MessagePattern
	Within time.Duration
	Note   string
	Line   int
}

// Acceptance is a finding of the linter that stays.
type Acceptance struct {
	Lint    string
	On      string // the clause, party or relation; "" for all
	Because string
	Line    int
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Range is a span of whole numbers.
type Range struct{ From, To int }

// ParseRange reads 1..40.
func ParseRange(text string) (Range, error) {
	from, to, _ := strings.Cut(text, "..")
	a, err := strconv.Atoi(strings.TrimSpace(from))
	b, err2 := strconv.Atoi(strings.TrimSpace(to))
	if err != nil || err2 != nil || b < a {
		return Range{}, fmt.Errorf("%q is no range: write 1..40", text)
	}
	return Range{a, b}, nil
}

// String writes it as the workspace does.
func (r Range) String() string { return fmt.Sprintf("%d..%d", r.From, r.To) }

// Holds tells whether a text is a number of the range, written without zeros before it.
func (r Range) Holds(s string) bool {
	n, err := strconv.Atoi(s)
	return err == nil && strconv.Itoa(n) == s && r.From <= n && n <= r.To
}
