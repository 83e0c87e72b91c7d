package workspace

import (
	"errors"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
)

// Publication is a message that a device publishes.
type Publication struct {
	Clause      string // "" where Topic is set
	Topic       string
	Every       time.Duration
	WhenChanged string // a signal, or ""
	By          float64
	Edge        Edge                 // of WhenChanged; "" for a deadband
	UponConnect bool                 // whenever it has come in
	Burst       int                  // so many messages every Every; 0 for one
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
	// QoS is what it subscribes with, nil for the contract's, and at least 1.
	QoS *packet.QoS
	// Echo is the clause under which the message goes out again, byte for byte; "" for none.
	Echo string
	// Once tells that a message like the one before it changes nothing, and Strangers that it also heeds values of
	// parameters that the contract does not know.
	Once, Strangers bool
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
	"publication",
	"A message that a device publishes.",
	[]key[publicationReading]{
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
		own("burst", "burst", "In place of every: so many messages at once, every so often.",
			func(l *loader, p *publicationReading, v node) {
				if !v.exists() {
					return
				}
				if p.Every > 0 {
					v.fail("leave one of them out", "a publication has every or burst, not both")
					return
				}
				burstShape.read(l, v, "burst", p)
			}),
		own(
			"upon",
			"connect or one of edge",
			"Publish as well when a signal turns to true or to false; or, with upon: connect, whenever the device has come in.",
			func(l *loader, p *publicationReading, v node) {
				if !v.exists() {
					return
				}
				if v.scalar() {
					if what, ok := v.known("upon", []string{"connect"}); ok {
						p.UponConnect = what != ""
					}
					return
				}
				if p.WhenChanged != "" {
					v.fail("leave one of them out", "a publication has when-changed or upon, not both")
					return
				}
				edgeShape.read(l, v, "upon", p)
			},
		),
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

var burstShape = shape[publicationReading]{
	"burst",
	"So many messages at once, every so often.",
	[]key[publicationReading]{
		integer("count", "How many.", 2, 10_000, func(p *publicationReading, n int) { p.Burst = n }).must(),
		span(
			"every",
			"From one burst to the next.",
			true,
			func(p *publicationReading) *time.Duration { return &p.Every },
		).must(),
	},
}

var changeShape = shape[publicationReading]{
	"change",
	"When a signal has changed.",
	[]key[publicationReading]{
		own("signal", "string", "The signal.", func(l *loader, p *publicationReading, v node) {
			p.WhenChanged, _ = v.known("signal", l.names(p.device))
		}).must(),
		own(
			"by",
			"string",
			"The deadband in the signal's unit, or a share of its range, 1% of 0..5; any change without it.",
			func(_ *loader, p *publicationReading, v node) {
				var ok bool
				if p.By, ok = deadband(v.str("by")); !ok && v.exists() {
					v.fail("write 0.5, or 1% of 0..5", "%q is no deadband", v.str("by"))
				}
			},
		),
	},
}

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

var edgeShape = shape[publicationReading]{
	"edge",
	"When a signal turns.",
	[]key[publicationReading]{
		own(
			"signal",
			"string",
			"The signal, of true and false or 1 and 0.",
			func(l *loader, p *publicationReading, v node) {
				p.WhenChanged, _ = v.known("signal", l.names(p.device))
			},
		).must(),
		own(
			"edge",
			"string",
			"rising (to true), falling (to false) or both.",
			func(_ *loader, p *publicationReading, v node) {
				edge, ok := v.known("edge", []string{string(EdgeRising), string(EdgeFalling), string(EdgeBoth)})
				if p.Edge = Edge(edge); !ok {
					p.Edge = EdgeBoth
				}
			},
		).must(),
	},
}

func (l *loader) publication(d *Device, n node) {
	p := publicationReading{device: d, Publication: Publication{Parameters: map[string]*expression.Template{}}}
	written := publicationShape.read(l, n, "a publication of device "+d.Name, &p)
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
		if written["payload"].n == nil {
			if _, err := payload.Decode(cl.Payload.Format, nil); err != nil && cl.Payload.Format != "" {
				hint := `write payload: "= SIGNAL", or its fields; payload: "" sends an empty one on purpose`
				n.fail(hint, "a publication of %s has no payload, and an empty one is no %s",
					cl.Name, cl.Payload.Format)
			}
		}
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
	"reaction",
	"What a device does when a message arrives.",
	[]key[reactionReading]{
		own("when", "string", "The clause whose messages it takes; it subscribes to its own instance.",
			func(l *loader, r *reactionReading, v node) { r.When = l.taken(r.device, v) }).must(),
		own("where", "string", "An expression that must be true, such as payload.run.",
			func(l *loader, r *reactionReading, v node) { r.Where = l.condition(r.device, v) }),
		each("set", "any", "Signals to set; values may be expressions, with the message as payload and its topic's"+
			" parameters as params.", func(l *loader, r *reactionReading, e entry) {
			if l.signalKnown(r.device, e) {
				r.Set[e.key] = l.template(e.value, e.value.ordered(), l.names(r.device, message...))
			}
		}),
		own("after", "range", "How long it takes to react: 200ms or 150ms..400ms.",
			func(_ *loader, r *reactionReading, v node) { r.AfterMin, r.AfterMax = v.timeSpan("after") }),
		all("publish", "string", "The clauses to publish then; one may stand without brackets.",
			func(l *loader, r *reactionReading, v node) {
				if r.When == "" {
					return // what is wrong is told already
				}
				if name := l.published(r.device, v); name != "" {
					r.Publish = append(r.Publish, name)
				}
			}),
		integer(
			"qos",
			"The QoS that it subscribes with, in place of the contract's.",
			0,
			2,
			func(r *reactionReading, n int) {
				qos := packet.QoS(n)
				r.QoS = &qos
			},
		),
		own("echo", "string", "The clause under which the message goes out again, byte for byte, in whatever format.",
			func(l *loader, r *reactionReading, v node) {
				if cl := l.ownClause(r.device, v, "echo", l.parametersOf(r.When)...); cl != nil && v.exists() {
					r.Echo = cl.Name
				}
			}),
		own("repeated", "string", "What a message like the one before it does: acts (default), or nothing.",
			func(_ *loader, r *reactionReading, v node) {
				what, ok := v.known("repeated", []string{"acts", "nothing"})
				r.Once = ok && what == "nothing"
			}),
		own(
			"unknown-parameters",
			"string",
			"Messages whose topic's parameters have values that the contract does not know, such as vat 4 of 3: ignored (default) or obeyed.",
			func(_ *loader, r *reactionReading, v node) {
				what, ok := v.known("unknown-parameters", []string{"ignored", "obeyed"})
				r.Strangers = ok && what == "obeyed"
			},
		),
	},
}

// parametersOf names the parameters of a clause's topic.
func (l *loader) parametersOf(clause string) []string {
	if cl := l.w.Contract.Clause(clause); cl != nil {
		return cl.Topic.Parameters()
	}
	return nil
}

func (l *loader) reaction(d *Device, n node) {
	r := reactionReading{device: d, Reaction: Reaction{Set: map[string]*expression.Template{}}}
	if reactionShape.read(l, n, "a reaction of device "+d.Name, &r); r.When != "" {
		d.Reactions = append(d.Reactions, r.Reaction)
	}
}

// timeSpan reads "200ms" or "150ms..400ms".
func (n node) timeSpan(what string) (from, to time.Duration) {
	if !n.exists() {
		return 0, 0
	}
	lo, hi, both := strings.Cut(n.str(what), "..")
	var err, err2 error
	from, err = time.ParseDuration(lo)
	if to = from; both {
		to, err2 = time.ParseDuration(hi)
	}
	if err != nil || err2 != nil || from < 0 || to < from {
		n.fail("write 200ms or 150ms..400ms", "%s is no time span: %q", what, n.str(what))
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
	return append(append(names(d.Signals, func(s Signal) string { return s.Name }), more...), "n", "state")
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
			written := strings.TrimLeft(text[min(column-1, len(text)):], " ")
			if strings.HasPrefix(written, `"`) || strings.HasPrefix(written, "'") {
				at, written = at+1, written[1:]
			}
			if strings.HasPrefix(written, expression.Prefix) { // a condition stands without it
				at += len(expression.Prefix)
			}
			hint := "known here: " + strings.Join(
				names,
				", ",
			) + "; functions: now(), count(), round(x, digits), choice(a, b, …)"
			n.r.problem(line, at, e.Error(), hint)
			return nil
		}
		n.fail("", "%v", err)
	}
	return t
}
