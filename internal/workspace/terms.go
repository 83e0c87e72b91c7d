package workspace

import (
	"encoding/hex"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/lint"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

var termsShape = shape[contract.Terms]{
	"terms",
	"What a party's sessions must look like, and what it can take.",
	[]key[contract.Terms]{
		own("client-id", "string", `What its client identifiers look like, with parameters: "pen-{pen}".`,
			func(_ *loader, t *contract.Terms, v node) {
				var err error
				if t.ClientID, err = contract.ParseIDPattern(v.str("client-id")); err != nil {
					v.fail("", "%v", err)
				}
			}),
		own("version", "list of version", "The protocol versions that it speaks: 3.1, 3.1.1, 5.",
			func(_ *loader, t *contract.Terms, v node) {
				for _, x := range v.list() {
					if version, ok := x.version(); ok {
						t.Versions = append(t.Versions, version)
					}
				}
			}),
		own("keep-alive", "string", "20s, or from shortest to longest: 10s..30s.",
			func(_ *loader, t *contract.Terms, v node) {
				if !v.exists() {
					return
				}
				var err error
				if t.KeepAlive, err = contract.ParseTimeSpan(v.str("keep-alive")); err != nil {
					v.fail("", "%v", err)
				}
			}),
		boolean("clean-start", "Whether it begins with a new session.",
			func(t *contract.Terms, is bool) { t.CleanStart = &is }),
		own("tls", "string", "required, allowed or none.", func(_ *loader, t *contract.Terms, v node) {
			if s, ok := v.known("tls", []string{"required", "allowed", "none"}); ok {
				t.TLS = contract.Need(s)
			}
		}),
		own("login", "string", "password, certificate, token or none.", func(_ *loader, t *contract.Terms, v node) {
			if s, ok := v.known("login", []string{"password", "certificate", "token", "none"}); ok {
				t.Login = contract.LoginKind(s)
			}
		}),
		integer("max-qos", "The highest QoS of what it sends, subscribes to and is sent.", 0, 2,
			func(t *contract.Terms, n int) {
				qos := packet.QoS(n)
				t.MaxQoS = &qos
			}),
		own("max-packet", "size", "The largest packet that it sends and can take: 128, 4KiB.",
			func(_ *loader, t *contract.Terms, v node) {
				if v.exists() {
					t.MaxPacket = v.size("max-packet")
				}
			}),
		own("max-topic", "max-topic", "The longest and deepest topic.", func(l *loader, t *contract.Terms, v node) {
			maxTopicShape.read(l, v, "max-topic", t)
		}),
		integer("in-flight", "How many messages at QoS 1 and 2 it has under way at most.", 1, 65535,
			func(t *contract.Terms, n int) { t.InFlight = n }),
		span("first-value-within", "How soon after CONNACK it has published something.", true,
			func(t *contract.Terms) *time.Duration { return &t.FirstValueWithin }),
		span("lost-within", "How soon after its link died its loss is known, by its will.", true,
			func(t *contract.Terms) *time.Duration { return &t.LostWithin }),
		span("gives-up-within", "How soon it gives up a dead link.", true,
			func(t *contract.Terms) *time.Duration { return &t.GivesUpWithin }),
		span("back-within", "How soon it is back after a link that ended.", true,
			func(t *contract.Terms) *time.Duration { return &t.BackWithin }),
		own("tries", "string", "How often it tries to connect at most: 10/min.",
			func(_ *loader, t *contract.Terms, v node) {
				if !v.exists() {
					return
				}
				var err error
				if t.Tries, err = contract.ParseRate(v.str("tries")); err != nil {
					v.fail("", "%v", err)
				}
			}),
		own(
			"buffers",
			"string",
			"For how long a time without a connection what it measured comes once it is back: 10m, or none.",
			func(_ *loader, t *contract.Terms, v node) {
				if !v.exists() {
					return
				}
				d := time.Duration(0)
				if v.str("buffers") != "none" {
					d = v.duration("buffers")
				}
				t.Buffers = &d
			},
		),
	},
}

var maxTopicShape = shape[contract.Terms]{"max-topic", "What topics a party can take.", []key[contract.Terms]{
	integer("length", "In bytes.", 1, 65535, func(t *contract.Terms, n int) { t.TopicLength = n }),
	integer("levels", "In levels.", 1, 1000, func(t *contract.Terms, n int) { t.TopicLevels = n }),
}}

var propertiesShape = shape[contract.Properties]{
	"properties", "What a message carries in version 5.", []key[contract.Properties]{
		text("content-type", "The content type, such as application/json.",
			func(p *contract.Properties) *string { return &p.ContentType }),
		all("user", "any", "User properties that must be there, each as [name, value].",
			func(_ *loader, p *contract.Properties, v node) {
				pair := v.list()
				if len(pair) != 2 {
					v.fail("write [[unit, kg]]", "a user property is a name and a value")
					return
				}
				p.User = append(p.User, [2]string{pair[0].str("name"), pair[1].str("value")})
			}),
	},
}

// counterReading is a counter-example.
type counterReading struct {
	value, text node
	because     string
}

var counterShape = shape[counterReading]{
	"counter-example",
	"A payload that must fail.",
	[]key[counterReading]{
		own(
			"value",
			"any",
			"The value; hexadecimal for binary.",
			func(_ *loader, x *counterReading, v node) { x.value = v },
		),
		own("text", "string", "In place of a value: the payload letter by letter.",
			func(_ *loader, x *counterReading, v node) { x.text = v }),
		text("because", "Why it must fail.", func(x *counterReading) *string { return &x.because }).must(),
	},
}

// exemplify makes payloads of examples and counter-examples.
func (r *clauseReading) exemplify() {
	for _, v := range r.examples {
		b, err := exampleOf(&r.Payload, v)
		if err != nil {
			v.fail("", "an example of %s cannot be written: %v", r.what(), err)
			continue
		}
		line, _ := v.position()
		r.Examples = append(
			r.Examples,
			contract.Example{Payload: b, Text: exampleText(v), Value: v.written(), Line: line},
		)
	}
	for _, x := range r.counter {
		at := x.value
		b, err := []byte(nil), error(nil)
		switch {
		case x.value.n == nil && x.text.n == nil:
			continue
		case x.text.n != nil:
			at, b = x.text, []byte(x.text.str("text"))
		default:
			b, err = exampleOf(&r.Payload, x.value)
		}
		if err != nil {
			at.fail(
				"write it as text: …, letter by letter",
				"a counter-example of %s cannot be written: %v",
				r.what(),
				err,
			)
			continue
		}
		line, _ := at.position()
		r.Counter = append(
			r.Counter,
			contract.Example{
				Payload: b,
				Text:    exampleText(at),
				Value:   x.value.written(),
				Because: x.because,
				Line:    line,
			},
		)
	}
}

func exampleText(v node) string {
	if v.scalar() {
		return v.str("example")
	}
	return contract.Compact(v.written())
}

// exampleOf makes the payload of an example: of text as it is written, of bytes as hexadecimal, else of the value.
func exampleOf(p *contract.Payload, v node) ([]byte, error) {
	_, fields := p.Codec.(payload.Layout)
	if v.scalar() && (fields || p.Format == payload.Binary) {
		return hex.DecodeString(strings.Join(strings.Fields(v.str("example")), ""))
	}
	if v.scalar() && !p.NoText() && p.Format != payload.JSON {
		return []byte(v.str("example")), nil
	}
	return p.Code().Encode(v.plain())
}

// scalar tells whether the node is one text, number or the like.
func (n node) scalar() bool {
	switch describe(n.real()) {
	case "a mapping", "a list":
		return false
	}
	return n.exists()
}

// matching are the names that conditions on messages see.
var matching = []string{"payload", "cause"}

var messagePatternShape = shape[contract.MessagePattern]{
	"message-pattern", "Which messages are meant.", []key[contract.MessagePattern]{
		own("clause", "string", "Their clause.", func(l *loader, m *contract.MessagePattern, v node) {
			m.Clause, _ = v.known("clause", l.clauseNames())
		}).must(),
		each("parameters", "string", "The values of the topic's parameters; any without it.",
			func(l *loader, m *contract.MessagePattern, e entry) {
				if m.Parameters == nil {
					m.Parameters = map[string]string{}
				}
				m.Parameters[e.key] = e.value.str("parameter")
				if cl := l.w.Contract.Clause(m.Clause); cl != nil && cl.Topic.Values(cl.Topic.String())[e.key] == "" {
					e.at.fail("", "the topic of %s has no {%s}", m.Clause, e.key)
				}
			}),
		own("where", "string", "An expression that must be true of payload; in follows, of cause.payload too.",
			func(l *loader, m *contract.MessagePattern, v node) {
				if !v.exists() {
					return
				}
				m.WhereText = strings.TrimPrefix(v.str("where"), expression.Prefix)
				if t := l.template(v, expression.Prefix+m.WhereText, matching); t != nil {
					m.Where = holds(t)
				}
			}),
	},
}

// still are the functions of expressions for those that depend on a message alone.
var still = expression.Funcs{
	Now:    func() string { return "" },
	Count:  func() int { return 0 },
	Choice: func(int) int { return 0 },
}

// holds makes a condition of an expression: what cannot be worked out does not hold.
func holds(t *expression.Template) contract.Condition {
	return func(value, cause any) bool {
		v, err := t.Eval(map[string]any{
			"payload": payload.Plain(value),
			"cause":   map[string]any{"payload": payload.Plain(cause)},
		}, still)
		return err == nil && v == true
	}
}

// relationReading is a relation, and the clauses that it speaks of.
type relationReading struct {
	contract.Relation
	after, follows node
	bad            bool
}

var relationShape = shape[relationReading]{
	"relation",
	"What clauses have to do with one another: never together, or one" +
		" after the other.",
	[]key[relationReading]{
		all("never", "message-pattern", "Messages that are never the last of their topics at the same time.",
			func(l *loader, r *relationReading, v node) { r.Never = append(r.Never, l.pattern(r, v)) }),
		texts("per", "The parameters that they have in common: each value by itself.",
			func(r *relationReading) *[]string { return &r.Per }),
		own("after", "message-pattern", "In place of never: the message that is followed by another.",
			func(l *loader, r *relationReading, v node) {
				m := l.pattern(r, v)
				r.After, r.after = &m, v
			}),
		own("follows", "message-pattern", "What follows it, at the same values of the parameters that both have.",
			func(l *loader, r *relationReading, v node) {
				m := l.pattern(r, v)
				r.Follow, r.follows = &m, v
			}),
		span("within", "How soon.", true, func(r *relationReading) *time.Duration { return &r.Within }),
		text("note", "Why, for people.", func(r *relationReading) *string { return &r.Note }),
	},
}

func (l *loader) pattern(r *relationReading, v node) (m contract.MessagePattern) {
	before := len(v.r.problems)
	messagePatternShape.read(l, v, "a message of relation "+r.Name, &m)
	r.bad = r.bad || len(v.r.problems) > before || m.Clause == ""
	return m
}

func (l *loader) relation(c *contractReading, e entry) {
	r := relationReading{Relation: contract.Relation{Name: e.key}}
	r.Line, _ = e.at.position()
	f := relationShape.read(l, e.value, "relation "+e.key, &r)
	switch {
	case r.bad:
		return
	case len(r.Never) > 0 == (r.After != nil || r.Follow != nil):
		e.at.fail("write never: […], or after: …, follows: … and within: …",
			"relation %s has never, or after and follows, one of them", e.key)
		return
	case len(r.Never) == 0 && (r.After == nil || r.Follow == nil || r.Within == 0):
		e.at.fail("", "relation %s needs after, follows and within", e.key)
		return
	}
	for _, m := range append(r.Never, present(r.After, r.Follow)...) {
		for _, name := range r.Per {
			if cl := c.Clause(m.Clause); cl != nil && cl.Topic.Values(cl.Topic.String())[name] == "" {
				f["per"].fail("", "the topic of %s has no {%s}", m.Clause, name)
				return
			}
		}
	}
	c.Relations = append(c.Relations, &r.Relation)
}

func present(all ...*contract.MessagePattern) (out []contract.MessagePattern) {
	for _, m := range all {
		if m != nil {
			out = append(out, *m)
		}
	}
	return out
}

// acceptanceReading is a finding that stays.
type acceptanceReading struct {
	contract.Acceptance
	bad bool
}

var acceptanceShape = shape[acceptanceReading]{"acceptance", "A finding that stays.", []key[acceptanceReading]{
	own("lint", "string", "The lint's name.", func(_ *loader, a *acceptanceReading, v node) {
		var ok bool
		a.Lint, ok = v.known("lint", lint.Names())
		a.bad = !ok
	}).must(),
	own("clause", "string", "The clause, party or relation that it is about; all without it.",
		func(l *loader, a *acceptanceReading, v node) {
			if v.exists() {
				a.On = v.str("clause")
				if l.w.Contract.Clause(a.On) == nil && !v.r.unsound["clause "+a.On] {
					a.On, _ = v.known("clause", l.clauseNames())
				}
			}
		}),
	own("party", "string", "In place of a clause.", func(l *loader, a *acceptanceReading, v node) {
		if v.exists() {
			a.On, _ = v.known("party", l.partyNames())
		}
	}),
	text("because", "Why it stays.", func(a *acceptanceReading) *string { return &a.Because }).must(),
}}

func (l *loader) acceptance(c *contractReading, v node) {
	var a acceptanceReading
	a.Line, _ = v.position()
	acceptanceShape.read(l, v, "what is accepted", &a)
	switch {
	case a.bad:
	case a.Because == "":
		v.fail("add because: …", "a finding stays for a reason")
	default:
		c.Accepted = append(c.Accepted, a.Acceptance)
	}
}

// Findings returns what the linter finds in the contract, those that are accepted among them.
func (w *Workspace) Findings() []lint.Finding {
	var site lint.Site
	for _, b := range w.Brokers {
		if b.StandIn == nil {
			site.Shared = append(site.Shared, b.Name)
			continue
		}
		l := &b.StandIn.Limits
		site.StandIns = append(site.StandIns, lint.StandIn{Name: b.Name, MaxQoS: l.MaximumQoS, NoRetained: l.NoRetained,
			MaxPacket: l.MaximumPacketSize})
		for _, x := range w.Lacking(b.StandIn) {
			site.Lacking = append(site.Lacking, lint.Lack{StandIn: b.Name, Party: x.Party, Text: x.Text})
		}
	}
	for _, d := range w.Devices {
		site.Sessions = append(site.Sessions, lint.Session{Device: d.Name, Party: d.Plays, Count: max(1, d.Count),
			KeepAlive: d.Session.KeepAlive, Version: d.Session.Version})
	}
	return lint.Check(w.Contract, site)
}
