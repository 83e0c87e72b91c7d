package workspace

import (
	"io/fs"
	"math"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// contractReading is the contract, and the clauses that answers name: they may stand further down.
type contractReading struct {
	*contract.Contract
	answers map[*contract.Clause]node
	file    string // the one that is read, where it is not the workspace's own
}

var contractShape = shape[contractReading]{
	"contract",
	"The agreement between the parties.",
	[]key[contractReading]{
		own(
			"include",
			"list of string",
			"Files beside the workspace with further parts of the contract, each with the keys"+
				" of this table but this one: [contract/*.yaml].",
			func(*loader, *contractReading, node) {},
		),
		each("definitions", "any", `Parts of schemas by name, for {$ref: "contract#/definitions/NAME"}.`,
			func(l *loader, _ *contractReading, e entry) {
				if _, twice := l.definitions[e.key]; twice {
					e.at.fail("", "the definition %s is there twice", e.key)
				}
				l.definitions[e.key] = e.value.plain()
			}),
		each("parties", "party", "The roles that publish and consume.", func(l *loader, c *contractReading, e entry) {
			p := contract.Party{Name: e.key}
			p.Line, _ = e.at.position()
			partyShape.read(l, e.value, "party "+e.key, &p)
			if c.Party(e.key) != nil {
				e.at.fail("", "party %s is there twice", e.key)
				return
			}
			c.Parties = append(c.Parties, p)
		}),
		each("parameters", "parameter", "What the {named} levels of topics may hold.",
			func(l *loader, c *contractReading, e entry) {
				r := parameterReading{Parameter: contract.Parameter{Name: e.key}}
				if parameterShape.read(l, e.value, "parameter "+e.key, &r); !r.bad {
					c.Parameters[e.key] = r.Parameter
				}
			}),
		each("clauses", "clause", "One topic pattern each, with its payload.",
			func(l *loader, c *contractReading, e entry) {
				l.clause(c, e)
				if c.Clause(e.key) == nil {
					e.at.r.unsound["clause "+e.key] = true
				}
			}),
		each("relations", "relation", "What clauses have to do with one another.", (*loader).relation),
		all("accepted", "acceptance", "Findings of 'hodstone contract check' that stay, each with its reason.",
			(*loader).acceptance),
	},
}

// part is a mapping of the contract's: the workspace's own, or that of a file that it includes.
type part struct {
	file   string
	fields map[string]node
}

func (l *loader) contract(n node) {
	c := contractReading{Contract: l.w.Contract, answers: map[*contract.Clause]node{}}
	l.definitions = map[string]any{}
	parts := []part{{"", contractShape.fields(n, "the contract")}}
	for _, x := range parts[0].fields["include"].list() {
		parts = append(parts, l.include(x)...)
	}
	// What one file speaks of, another may hold: they are read key by key, as if they were one.
	for i := range contractShape.keys {
		for _, p := range parts {
			if v := p.fields[contractShape.keys[i].Name]; v.n != nil {
				c.file = p.file
				contractShape.keys[i].read(l, &c, v)
			}
		}
	}
	for _, cl := range c.Clauses {
		if cl.Answer != nil {
			if _, ok := c.answers[cl].known("clause", l.clauseNames()); !ok {
				cl.Answer = nil
			}
		}
	}
}

// maxIncluded is how many files a contract includes at most.
const maxIncluded = 200

// include reads the files that a pattern of names fits.
func (l *loader) include(n node) (out []part) {
	pattern := path.Clean(n.str("include"))
	l.w.patterns = append(l.w.patterns, pattern)
	found, err := fs.Glob(l.fsys, pattern)
	if err != nil || len(found) == 0 {
		n.fail(
			"paths are relative to the workspace's folder; * stands for any characters",
			"no file is called %s",
			pattern,
		)
		return nil
	}
	for _, name := range found {
		if len(l.others) >= maxIncluded {
			n.fail("", "more than %d files are included", maxIncluded)
			return out
		}
		src, err := fs.ReadFile(l.fsys, name)
		if err != nil || len(src) > MaxFileSize {
			n.fail("", "%s cannot be read", name)
			continue
		}
		r, root, ok := parse(path.Join(filepath.ToSlash(filepath.Dir(l.w.File)), name), src)
		r.unsound = n.r.unsound
		if l.others = append(l.others, r); !ok {
			continue
		}
		fields := contractShape.fields(root, name)
		if fields["include"].exists() {
			fields["include"].fail("name it in the workspace", "a file that is included includes no other")
		}
		out = append(out, part{name, fields})
	}
	return out
}

var partyShape = shape[contract.Party]{
	"party", "A role: a device type, a controller, a back-office program.", []key[contract.Party]{
		text("note", "What it is, for people.", func(p *contract.Party) *string { return &p.Note }),
		all("logins", "string", "Whose logins speak for it: user names, {parameters} standing for any text.",
			func(_ *loader, p *contract.Party, v node) {
				x, err := contract.ParseIDPattern(v.str("logins"))
				if err != nil {
					v.fail("", "%v", err)
					return
				}
				p.Logins = append(p.Logins, x)
			}),
		own("terms", "terms", "What its sessions must look like, and what it can take.",
			func(l *loader, p *contract.Party, v node) {
				if v.exists() {
					p.Terms = &contract.Terms{}
					termsShape.read(l, v, "the terms of "+p.Name, p.Terms)
				}
			}),
	},
}

// parameterReading is a parameter, and whether its pattern cannot be read.
type parameterReading struct {
	contract.Parameter
	bad bool
}

var parameterShape = shape[parameterReading]{"parameter", "A named topic level.", []key[parameterReading]{
	texts("values", "All values it can have; each is expected to speak, and gets a column.",
		func(p *parameterReading) *[]string { return &p.Values }),
	own("pattern", "string", "A regular expression that the whole level must match.",
		func(_ *loader, p *parameterReading, v node) {
			if !v.exists() {
				return
			}
			re, err := regexp.Compile("^(?:" + v.str("pattern") + ")$")
			if p.Pattern, p.bad = re, err != nil; p.bad {
				v.fail("", "parameter %s: %v", p.Name, err)
			}
		}),
	own("range", "range", "Whole numbers that it can have, as 1..40; each gets a column when it is first heard.",
		func(_ *loader, p *parameterReading, v node) {
			if !v.exists() {
				return
			}
			r, err := contract.ParseRange(v.str("range"))
			if p.Range, p.bad = &r, err != nil; p.bad {
				v.fail("", "parameter %s: %v", p.Name, err)
			}
		}),
	text("note", "What it stands for, for people.", func(p *parameterReading) *string { return &p.Note }),
}}

// clauseReading is a clause, and whether it lacks what makes one.
type clauseReading struct {
	contract.Clause
	bad      bool
	answer   node // the name of the answer's clause
	examples []node
	counter  []counterReading
}

func (r *clauseReading) what() string { return "clause " + r.Name }

var clauseShape = shape[clauseReading]{
	"clause",
	"One topic pattern and what is agreed about it.",
	[]key[clauseReading]{
		own("topic", "string", "The topic name, with parameters as {name} filling whole levels.",
			func(l *loader, r *clauseReading, v node) {
				if !v.exists() {
					return
				}
				var err error
				if r.Topic, err = contract.ParsePattern(v.str("topic")); err != nil {
					v.fail("", "%v", err)
					r.bad = true
				}
				for _, p := range r.Topic.Parameters() {
					if _, defined := l.w.Contract.Parameters[p]; !defined {
						l.w.Contract.Parameters[p] = contract.Parameter{Name: p} // free
					}
				}
			}).must(),
		own(
			"from",
			"string",
			"The party that publishes; without it, that is open, and a finding of the linter.",
			func(l *loader, r *clauseReading, v node) {
				var known bool
				if r.From, known = v.known("party", l.partyNames()); !known {
					r.bad = true
				}
			},
		),
		all("to", "string", "The parties that consume; one may stand without brackets.",
			func(l *loader, r *clauseReading, v node) {
				p, known := v.known("party", l.partyNames())
				if r.To = append(r.To, p); !known {
					r.bad = true
				}
			}),
		integer("qos", "The QoS to publish with: 0, 1 or 2.", 0, 2, func(r *clauseReading, n int) {
			qos := packet.QoS(n)
			r.QoS = &qos
		}),
		boolean("retain", "The retain flag to publish with.", func(r *clauseReading, is bool) { r.Retain = &is }),
		own("every", "cadence", "How often a message is due, as 12s or 12s ± 3s. More often is allowed.",
			func(_ *loader, r *clauseReading, v node) { r.Every = v.cadence() }),
		own("at-least", "duration", "In place of every: the longest time between two messages.",
			func(_ *loader, r *clauseReading, v node) {
				switch d := v.duration("at-least"); {
				case !v.exists():
				case r.Every.Period > 0:
					v.fail("leave one of them out", "%s has both every and at-least", r.what())
				case d <= 0:
					v.fail(durationHint, "at-least must be longer than nothing")
				default:
					r.Every.Period = d
				}
			}),
		own("at-most", "string", "How many messages may come in a time at most: 10/s, 6/min, 2/h.",
			func(_ *loader, r *clauseReading, v node) {
				if !v.exists() {
					return
				}
				var err error
				if r.Most, err = contract.ParseRate(v.str("at-most")); err != nil {
					v.fail("", "%v", err)
				}
			}),
		own(
			"only",
			"string",
			"changes: it comes with another payload than before; edges: when a value turns to its other"+
				" state. The same again and again is a breach.",
			func(_ *loader, r *clauseReading, v node) {
				if only, ok := v.known("only", []string{string(contract.OnChanges), string(contract.OnEdges)}); ok {
					r.Only = contract.Only(only)
				}
			},
		),
		own("answer", "answer", "The message that must follow this one.", func(l *loader, r *clauseReading, v node) {
			if !v.exists() {
				return
			}
			r.Answer = &contract.Answer{}
			r.answer = answerShape.read(l, v, "the answer of "+r.what(), r.Answer)["clause"]
		}),
		own("presence", "presence", "The payloads of coming, leaving and being lost.",
			func(l *loader, r *clauseReading, v node) {
				if v.exists() {
					r.Presence = &contract.Presence{}
					presenceShape.read(l, v, "the presence of "+r.what(), r.Presence)
				}
			}),
		own("payload", "payload", "What the message carries.", func(l *loader, r *clauseReading, v node) {
			if v.exists() && !l.payload(v, r.Name, &r.Payload) {
				r.bad = true
			}
		}).must(),
		own(
			"message-expiry",
			"duration",
			"The message expiry interval of version 5 that it is published with, in whole"+
				" seconds.",
			func(_ *loader, r *clauseReading, v node) {
				if !v.exists() {
					return
				}
				if r.Expiry = v.duration("message-expiry"); r.Expiry < time.Second || r.Expiry%time.Second != 0 ||
					r.Expiry > math.MaxUint32*time.Second {
					v.fail("", "message-expiry is counted in whole seconds, from 1s")
					r.Expiry = 0
				}
			},
		),
		own("properties", "properties", "What it carries in version 5 beside its payload.",
			func(l *loader, r *clauseReading, v node) {
				propertiesShape.read(l, v, "the properties of "+r.what(), &r.Properties)
			}),
		own("stamped", "stamp", "It tells when it was published.", func(l *loader, r *clauseReading, v node) {
			if v.exists() {
				r.Stamp = &contract.Stamp{}
				stampShape.read(l, v, "stamped of "+r.what(), r.Stamp)
			}
		}),
		boolean(
			"survives-restart",
			"It is still there after the broker was started anew: what is retained, or, of a clause that is not, what waits for a consumer that is away.",
			func(r *clauseReading, is bool) { r.Survives = is },
		),
		own("repeat", "string", "Of commands: once, if a repeat changes nothing; counted, if each counts.",
			func(_ *loader, r *clauseReading, v node) {
				r.Repeat, _ = v.known("repeat", []string{"once", "counted"})
			}),
		all("examples", "any", "Payloads that must pass: a value, or, for binary, hexadecimal.",
			func(_ *loader, r *clauseReading, v node) { r.examples = append(r.examples, v) }),
		all("counter-examples", "counter-example", "Payloads that must fail.",
			func(l *loader, r *clauseReading, v node) {
				x := counterReading{}
				counterShape.read(l, v, "a counter-example of "+r.what(), &x)
				r.counter = append(r.counter, x)
			}),
		text("note", "What it means, for people.", func(r *clauseReading) *string { return &r.Note }),
	},
}

var stampShape = shape[contract.Stamp]{
	"stamp",
	"Where a message tells when it was published: RFC 3339, or seconds since 1970.",
	[]key[contract.Stamp]{
		own("field", "string", "The field, such as at, or a JSON pointer, /head/at; the payload itself without it.",
			func(_ *loader, s *contract.Stamp, v node) {
				if s.Field = v.str("field"); s.Field != "" && !strings.HasPrefix(s.Field, "/") {
					s.Field = "/" + s.Field
				}
			}),
		span("within", "How far it may be from when the message comes.", true,
			func(s *contract.Stamp) *time.Duration { return &s.Within }).must(),
	},
}

func (l *loader) clause(c *contractReading, e entry) {
	r := clauseReading{Clause: contract.Clause{Name: e.key}}
	r.Line, _ = e.at.position()
	f := clauseShape.read(l, e.value, r.what(), &r)
	if r.bad || !f["topic"].exists() || !f["payload"].exists() {
		return
	}
	cl := &r.Clause
	cl.File = c.file
	r.exemplify()
	if c.Clause(cl.Name) != nil {
		e.at.fail("", "clause %s is there twice", cl.Name)
		return
	}
	if other := c.Overlap(cl); other != nil {
		f["topic"].fail("give one of them another topic, or narrow a parameter",
			"duplicate topic: clause %s covers %s, and so does clause %s", cl.Name, cl.Topic, other.Name)
		return
	}
	c.Clauses = append(c.Clauses, cl)
	c.answers[cl] = r.answer
}

var answerShape = shape[contract.Answer]{
	"answer", "What must follow a command, at the same parameters.", []key[contract.Answer]{
		text("clause", "The answer's clause.", func(a *contract.Answer) *string { return &a.Clause }).must(),
		span(
			"within",
			"How soon it must come.",
			false,
			func(a *contract.Answer) *time.Duration { return &a.Within },
		).must(),
	},
}

var presenceShape = shape[contract.Presence]{
	"presence", "What a party says of itself on one topic.", []key[contract.Presence]{
		text("coming", "Published after connecting.", func(p *contract.Presence) *string { return &p.Coming }).must(),
		text("leaving", "Published before a proper goodbye.",
			func(p *contract.Presence) *string { return &p.Leaving }).must(),
		text("lost", "The will.", func(p *contract.Presence) *string { return &p.Lost }).must(),
	},
}

func (n node) cadence() (c contract.Cadence) {
	if !n.exists() {
		return c
	}
	period, tolerance, both := strings.Cut(n.str("every"), "±")
	var err, err2 error
	c.Period, err = time.ParseDuration(strings.TrimSpace(period))
	if both {
		c.Tolerance, err2 = time.ParseDuration(strings.TrimSpace(tolerance))
	}
	if err != nil || err2 != nil || c.Period <= 0 || c.Tolerance < 0 {
		n.fail("write 12s or 12s ± 3s", "every is no cadence: %q", n.str("every"))
		return contract.Cadence{}
	}
	return c
}
