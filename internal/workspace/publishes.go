package workspace

import (
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Publication is a message that a device publishes.
type Publication struct {
	Clause      string // "" where Topic is set
	Topic       string
	Every       time.Duration
	WhenChanged string // a signal, or ""
	By          float64
	Edge        Edge                 // of WhenChanged; "" for a deadband
	Where       *expression.Template // nil: always
	Parameters  map[string]*expression.Template
	Payload     *expression.Template // nil: empty
	QoS         packet.QoS
	Retain      bool
}

// Edge is how a signal with two states turns.
type Edge string

// The edges: to true, to false, either.
const (
	EdgeRising  Edge = "rising"
	EdgeFalling Edge = "falling"
	EdgeBoth    Edge = "both"
)

// Reaction is what a device does when a message arrives.
type Reaction struct {
	When     string
	Where    *expression.Template // nil: always
	Set      map[string]*expression.Template
	AfterMin time.Duration
	AfterMax time.Duration
	Publish  []string
}

// publicationReading is a publication of a device, and the keys that depend on one another.
type publicationReading struct {
	Publication
	device        *Device
	clause, topic node
	qos           *packet.QoS
	retain        *bool
}

// message are the names that expressions see besides signals.
var message = []string{"payload", "params"}

var publicationShape = shape[publicationReading]{
	"publication", "A message that a device publishes.", []key[publicationReading]{
		own("clause", "string", "The clause it keeps: topic, QoS and retain come from there.",
			func(_ *loader, p *publicationReading, v node) { p.clause = v }),
		own("topic", "string", "A topic instead of a clause, to try what the contract does not cover.",
			func(_ *loader, p *publicationReading, v node) { p.topic = v }),
		span("every", "Publish on a timer. Without it and when-changed: only in reactions or by hand.", false,
			func(p *publicationReading) *time.Duration { return &p.Every }),
		own("when-changed", "change", "Publish as well when a signal has moved far enough.",
			func(l *loader, p *publicationReading, v node) {
				if v.exists() {
					changeShape.read(l, v, "when-changed", p)
				}
			}),
		own("upon", "edge", "Publish as well when a signal turns to true or to false.",
			func(l *loader, p *publicationReading, v node) {
				if !v.exists() {
					return
				}
				if p.WhenChanged != "" {
					v.fail("leave one of them out", "a publication has when-changed or upon, not both")
					return
				}
				edgeShape.read(l, v, "upon", p)
			}),
		own("where", "string", "An expression that must be true for the message to be sent, such as oxygen < 7.",
			func(l *loader, p *publicationReading, v node) { p.Where = l.condition(p.device, v) }),
		each(
			"parameters",
			"any",
			"Values of the topic's parameters for this message, where the device has no fixed ones.",
			func(l *loader, p *publicationReading, e entry) {
				p.Parameters[e.key] = l.template(e.value, e.value.ordered(), l.names(p.device, message...))
			},
		),
		own("payload", "any", "The payload; parts that begin with \"= \" are expressions.",
			func(l *loader, p *publicationReading, v node) {
				if v.exists() {
					p.Payload = l.template(v, v.ordered(), l.names(p.device, message...))
				}
			}),
		integer("qos", "Instead of the clause's, to break it on purpose.", 0, 2, func(p *publicationReading, n int) {
			qos := packet.QoS(n)
			p.qos = &qos
		}),
		boolean("retain", "Instead of the clause's, to break it on purpose.",
			func(p *publicationReading, is bool) { p.retain = &is }),
	},
}

var changeShape = shape[publicationReading]{"change", "When a signal has changed.", []key[publicationReading]{
	own("signal", "string", "The signal.", func(l *loader, p *publicationReading, v node) {
		p.WhenChanged, _ = v.known("signal", l.names(p.device))
	}).must(),
	own("by", "string", "The deadband in the signal's unit, or a share of its range, 1% of 0..5; any change without it.",
		func(_ *loader, p *publicationReading, v node) {
			var ok bool
			if p.By, ok = deadband(v.str("by")); !ok && v.exists() {
				v.fail("write 0.5, or 1% of 0..5", "%q is no deadband", v.str("by"))
			}
		}),
}}

// deadband reads 0.5, or 1% of 0..5.
func deadband(text string) (by float64, ok bool) {
	share, of, shared := strings.Cut(text, "%")
	by, err := strconv.ParseFloat(strings.TrimSpace(share), 64)
	if !shared {
		return by, err == nil && by >= 0
	}
	span, is := strings.CutPrefix(strings.TrimSpace(of), "of ")
	from, to, ranged := strings.Cut(span, "..")
	lo, err1 := strconv.ParseFloat(strings.TrimSpace(from), 64)
	hi, err2 := strconv.ParseFloat(strings.TrimSpace(to), 64)
	return by / 100 * (hi - lo), err == nil && is && ranged && err1 == nil && err2 == nil && by >= 0 && hi > lo
}

var edgeShape = shape[publicationReading]{"edge", "When a signal turns.", []key[publicationReading]{
	own("signal", "string", "The signal, of true and false or 1 and 0.", func(l *loader, p *publicationReading, v node) {
		p.WhenChanged, _ = v.known("signal", l.names(p.device))
	}).must(),
	own("edge", "string", "rising (to true), falling (to false) or both.", func(_ *loader, p *publicationReading, v node) {
		edge, ok := v.known("edge", []string{string(EdgeRising), string(EdgeFalling), string(EdgeBoth)})
		if p.Edge = Edge(edge); !ok {
			p.Edge = EdgeBoth
		}
	}).must(),
}}

func (l *loader) publication(d *Device, n node) {
	p := publicationReading{device: d, Publication: Publication{Parameters: map[string]*expression.Template{}}}
	publicationShape.read(l, n, "a publication of device "+d.Name, &p)
	switch {
	case p.clause.exists() == p.topic.exists():
		n.fail("", "a publication has a clause or a topic, one of them")
		return
	case p.clause.exists():
		var given []string
		for name := range p.Parameters {
			given = append(given, name)
		}
		cl := l.ownClause(d, p.clause, "publishes", given...)
		if cl == nil {
			return
		}
		p.Clause, p.Retain = cl.Name, cl.Retain != nil && *cl.Retain
		if cl.QoS != nil {
			p.QoS = *cl.QoS
		}
	default:
		p.Topic = p.topic.str("topic")
		if err := topic.CheckName(p.Topic); err != nil {
			p.topic.fail("", "%v", err)
		}
	}
	if p.qos != nil {
		p.QoS = *p.qos
	}
	if p.retain != nil {
		p.Retain = *p.retain
	}
	d.Publishes = append(d.Publishes, p.Publication)
}

// reactionReading is a reaction of a device.
type reactionReading struct {
	Reaction
	device *Device
}

var reactionShape = shape[reactionReading]{
	"reaction", "What a device does when a message arrives.", []key[reactionReading]{
		own("when", "string", "The clause whose messages it takes; it subscribes to its own instance.",
			func(l *loader, r *reactionReading, v node) {
				name, ok := v.known("clause", l.clauseNames())
				if !v.exists() || !ok {
					return
				}
				r.When = name
				if cl := l.w.Contract.Clause(name); !slices.Contains(cl.To, r.device.Plays) {
					v.fail("add it to the clause's 'to'", "clause %s is not meant for %s", name, r.device.Plays)
				}
			}).must(),
		own("where", "string", "An expression that must be true, such as payload.run.",
			func(l *loader, r *reactionReading, v node) { r.Where = l.condition(r.device, v) }),
		each("set", "any", "Signals to set; values may be expressions, with the message as payload and its topic's"+
			" parameters as params.", func(l *loader, r *reactionReading, e entry) {
			known := names(r.device.Signals, func(s Signal) string { return s.Name })
			if !slices.Contains(known, e.key) {
				e.at.fail(suggest(e.key, known), "signal %q is not defined", e.key)
				return
			}
			r.Set[e.key] = l.template(e.value, e.value.ordered(), l.names(r.device, message...))
		}),
		own("after", "range", "How long it takes to react: 200ms or 150ms..400ms.",
			func(_ *loader, r *reactionReading, v node) { r.AfterMin, r.AfterMax = v.timeSpan() }),
		all("publish", "string", "The clauses to publish then; one may stand without brackets.",
			func(_ *loader, r *reactionReading, v node) {
				name := v.str("publish")
				if r.When == "" || v.r.unsound["clause "+name] {
					return // what is wrong is told already
				}
				if !slices.ContainsFunc(r.device.Publishes, func(p Publication) bool { return p.Clause == name }) {
					v.fail("add it to the device's publishes; without 'every' it is sent in reactions only",
						"device %s publishes nothing under clause %q", r.device.Name, name)
				}
				r.Publish = append(r.Publish, name)
			}),
	},
}

func (l *loader) reaction(d *Device, n node) {
	r := reactionReading{device: d, Reaction: Reaction{Set: map[string]*expression.Template{}}}
	if reactionShape.read(l, n, "a reaction of device "+d.Name, &r); r.When != "" {
		d.Reactions = append(d.Reactions, r.Reaction)
	}
}

// timeSpan reads "200ms" or "150ms..400ms".
func (n node) timeSpan() (from, to time.Duration) {
	if !n.exists() {
		return 0, 0
	}
	lo, hi, both := strings.Cut(n.str("after"), "..")
	var err, err2 error
	from, err = time.ParseDuration(lo)
	if to = from; both {
		to, err2 = time.ParseDuration(hi)
	}
	if err != nil || err2 != nil || from < 0 || to < from {
		n.fail("write 200ms or 150ms..400ms", "after is no time span: %q", n.str("after"))
	}
	return from, to
}

// condition reads an expression that needs no prefix.
func (l *loader) condition(d *Device, n node) *expression.Template {
	if !n.exists() {
		return nil
	}
	source := strings.TrimPrefix(n.str("where"), expression.Prefix)
	return l.template(n, expression.Prefix+source, l.names(d, message...))
}

// names are those that a device's expressions see.
func (l *loader) names(d *Device, more ...string) []string {
	return append(append(names(d.Signals, func(s Signal) string { return s.Name }), more...), "n")
}

func (l *loader) template(n node, v any, names []string) *expression.Template {
	t, err := expression.Compile(literals(v), names)
	if err != nil {
		var e *expression.Error
		if errors.As(err, &e) {
			n = n.at(e.Path)
			line, column := n.position()
			at := column + e.Offset
			text := n.r.lines[line-1]
			if strings.HasPrefix(strings.TrimLeft(text[min(column-1, len(text)):], " "), `"`) {
				at++
			}
			hint := "known here: " + strings.Join(
				names,
				", ",
			) + "; functions: now(), count(), round(x, digits), choice(a, b, …)"
			n.r.problem(line, at+len(expression.Prefix), e.Error(), hint)
			return nil
		}
		n.fail("", "%v", err)
	}
	return t
}
