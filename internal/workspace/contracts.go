package workspace

import (
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
}

var contractShape = shape[contractReading]{"contract", "The agreement between the parties.", []key[contractReading]{
	each("parties", "party", "The roles that publish and consume.", func(l *loader, c *contractReading, e entry) {
		p := contract.Party{Name: e.key}
		partyShape.read(l, e.value, "party "+e.key, &p)
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
}}

func (l *loader) contract(n node) {
	c := contractReading{l.w.Contract, map[*contract.Clause]node{}}
	contractShape.read(l, n, "the contract", &c)
	for _, cl := range c.Clauses {
		if cl.Answer != nil {
			if _, ok := c.answers[cl].known("clause", l.clauseNames()); !ok {
				cl.Answer = nil
			}
		}
	}
}

var partyShape = shape[contract.Party]{
	"party", "A role: a device type, a controller, a back-office program.", []key[contract.Party]{
		text("note", "What it is, for people.", func(p *contract.Party) *string { return &p.Note }),
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
	own("note", "string", "What it stands for, for people.",
		func(_ *loader, _ *parameterReading, v node) { v.str("note") }),
}}

// clauseReading is a clause, and whether it lacks what makes one.
type clauseReading struct {
	contract.Clause
	bad    bool
	answer node // the name of the answer's clause
}

func (r *clauseReading) what() string { return "clause " + r.Name }

var clauseShape = shape[clauseReading]{"clause", "One topic pattern and what is agreed about it.", []key[clauseReading]{
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
	own("from", "string", "The party that publishes.", func(l *loader, r *clauseReading, v node) {
		var known bool
		if r.From, known = v.known("party", l.partyNames()); !known {
			r.bad = true
		}
	}).must(),
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
	text("note", "What it means, for people.", func(r *clauseReading) *string { return &r.Note }),
}}

func (l *loader) clause(c *contractReading, e entry) {
	r := clauseReading{Clause: contract.Clause{Name: e.key}}
	r.Line, _ = e.at.position()
	f := clauseShape.read(l, e.value, r.what(), &r)
	if r.bad || !f["topic"].exists() || !f["payload"].exists() {
		return
	}
	cl := &r.Clause
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
