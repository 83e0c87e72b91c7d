package workspace

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract/rule"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/tap"
)

// Trial is a check that the engineer writes: steps on the site, and what has to follow.
type Trial struct {
	Name, Note string
	// Each are the parameters that it runs through: once for each combination of their values.
	Each  []Loop
	Steps []*Step
	Line  int
}

// Loop is a parameter and its values.
type Loop struct {
	Name   string
	Values []string
}

// Rounds lists the combinations of the loops' values, the last loop turning fastest; one that is empty where there is
// none.
func (t *Trial) Rounds() []map[string]string {
	out := []map[string]string{{}}
	for _, l := range t.Each {
		var next []map[string]string
		for _, before := range out {
			for _, v := range l.Values {
				round := map[string]string{l.Name: v}
				for k, x := range before {
					round[k] = x
				}
				next = append(next, round)
			}
		}
		out = next
	}
	return out
}

// StepKind is what a step does.
type StepKind string

// The kinds of steps: those that do something, then those that look.
const (
	StepSet     StepKind = "set"
	StepSend    StepKind = "send"
	StepStart   StepKind = "start"
	StepStop    StepKind = "stop"
	StepCut     StepKind = "cut"
	StepFreeze  StepKind = "freeze"
	StepThaw    StepKind = "thaw"
	StepSlow    StepKind = "slow"
	StepTap     StepKind = "tap"
	StepRestart StepKind = "restart"
	StepWait    StepKind = "wait"
	StepAsk     StepKind = "ask"
	StepExpect  StepKind = "expect"
	StepNever   StepKind = "never"
)

// Step is one step of a trial. Texts hold {parameters} of the trial's loops.
type Step struct {
	Kind StepKind
	Line int
	// Device is what it is done to; of restart the broker.
	Device string
	Set    []Assignment // of set
	// Delay and Rate are those of slow; Rate is in bytes a second, 0 for any.
	Delay time.Duration
	Rate  int
	// Wait is how long: of wait, and how long never looks. Within is how long what is expected, or an answer, may take,
	// and NotBefore the time before which it must not come.
	Wait, Within, NotBefore time.Duration
	Rules                   []tap.Rule // of tap, in place of those that are on; none ends them
	Ask                     string
	// Messages are what is sent, expected or must not come; several have to come in this order.
	Messages []Sighting
	Payload  *expression.Template // of send
	As       string               // the device that sends; "" for one of the party that publishes the clause
	QoS      *packet.QoS          // of send, in place of the clause's; of expect, what it must have come at
	Retain   *bool                // likewise; of expect, whether what is stored now is meant
	// Session, State and Where are of what is expected of a device: that its session is in a state, or that its signals
	// are so.
	Session, State string
	Where          *expression.Template
	WhereText      string
	// Breach is a rule whose breach is expected, or must not come: "any" for every one.
	Breach string
	Keep   string // the variable that the message is kept in
}

// Assignment gives a signal a value.
type Assignment struct {
	Signal string
	Value  *expression.Template
}

// Sighting is which messages are meant.
type Sighting struct {
	Clause     string
	Parameters map[string]string
	Where      *expression.Template // nil for any
	WhereText  string
}

// The states of a session that can be expected.
const (
	SessionConnected = "connected"
	SessionLost      = "lost"
	SessionOff       = "off"
)

// defaultWithin is how long what is expected may take where nothing is said.
const defaultWithin = 5 * time.Second

// maxRounds is how many rounds a trial may have.
const maxRounds = 1000

var trialShape = shape[trialReading]{
	"trial",
	"A check of your own: what is done on the site, and what has to follow.",
	[]key[trialReading]{
		text("name", "What it shows, as a sentence.", func(t *trialReading) *string { return &t.Name }).must(),
		text("note", "Why, for people.", func(t *trialReading) *string { return &t.Note }),
		each(
			"each",
			"list of string",
			"Parameters, with the values that it runs through one after the other: {pen: [1, 2]}. {pen} stands for"+
				" the value in texts, and pen in expressions.",
			func(_ *loader, t *trialReading, e entry) {
				l := Loop{Name: e.key}
				for _, v := range e.value.list() {
					l.Values = append(l.Values, v.str("value"))
				}
				if len(l.Values) == 0 {
					e.at.fail("write {pen: [1, 2]}", "%s has no values to run through", e.key)
					return
				}
				if n := len(t.Rounds()) * len(l.Values); n > maxRounds {
					e.at.fail(
						"run through fewer values",
						"a trial has %d rounds at most; these would be %d",
						maxRounds,
						n,
					)
					return
				}
				t.Each = append(t.Each, l)
			},
		),
		own(
			"steps",
			"list of step",
			"What is done and looked for, one after the other.",
			func(l *loader, t *trialReading, v node) {
				for _, x := range v.list() {
					if s := l.step(t, x); s != nil {
						t.Steps = append(t.Steps, s)
					}
				}
			},
		).must(),
	},
}

// one is a key of a step, with its reading.
func one(kind StepKind, typ, doc string, read func(l *loader, s *stepReading, v node)) key[stepReading] {
	return own(string(kind), typ, doc, func(l *loader, s *stepReading, v node) {
		s.Kind = kind
		read(l, s, v)
	})
}

// onDevice is a step that is done to a device.
func onDevice(kind StepKind, doc string) key[stepReading] {
	return one(kind, "string", doc, func(l *loader, s *stepReading, v node) { s.Device = l.trialDevice(s, v) })
}

var stepShape = shape[stepReading]{
	"step",
	"One step of a trial: one of these keys.",
	[]key[stepReading]{
		one(
			StepSet,
			"map of any",
			"Signals of a device, {device: pen-2, oxygen: 5.1}; they stand still from then on.",
			(*loader).setStep,
		),
		one(StepSend, "sending", "A message is published.", func(l *loader, s *stepReading, v node) {
			sendingShape.read(l, v, "what is sent", s)
		}),
		onDevice(StepStart, "A device is switched on."),
		onDevice(StepStop, "A device is switched off in order: it says goodbye."),
		onDevice(StepCut, "A device's link is reset; it comes back by itself."),
		onDevice(StepFreeze, "A device's link is frozen: nothing goes in or out, as when a cable is pulled."),
		onDevice(StepThaw, "The frozen link goes on."),
		one(StepSlow, "slowness", "A device's link becomes slow.", func(l *loader, s *stepReading, v node) {
			slownessShape.read(l, v, "the slowness", s)
		}),
		one(StepTap, "tapping", "A tap's rules disturb what goes through it.", func(l *loader, s *stepReading, v node) {
			tappingShape.read(l, v, "the tap", s)
		}),
		one(
			StepRestart,
			"string",
			"A stand-in goes down, and comes back after a second.",
			func(l *loader, s *stepReading, v node) {
				all := names(l.w.Brokers, func(b *Broker) string { return b.Name })
				var known bool
				if s.Device, known = v.known(
					"broker",
					all,
				); known && v.exists() &&
					l.w.Broker(s.Device).StandIn == nil {
					v.fail(
						"write ask: Restart the broker",
						"broker %s is not a stand-in: only a person can restart it",
						s.Device,
					)
				}
			},
		),
		one(
			StepWait,
			"duration",
			"Time passes.",
			func(_ *loader, s *stepReading, v node) { s.Wait = v.duration("wait") },
		),
		one(
			StepAsk,
			"string",
			"A person is asked to do something, or whether it did: yes, no, or left out with a reason. 'no' breaks the trial.",
			func(_ *loader, s *stepReading, v node) { s.Ask = v.str("ask") },
		),
		one(
			StepExpect,
			"expectation",
			"What has to follow, since the last step that did something.",
			func(l *loader, s *stepReading, v node) {
				expectationShape.read(l, v, "what is expected", s)
			},
		),
		one(
			StepNever,
			"absence",
			"What must not come, since the last step that did something.",
			func(l *loader, s *stepReading, v node) {
				absenceShape.read(l, v, "what must not come", s)
			},
		),
	},
}

// What messages are meant: the keys of a sighting, in whatever they stand.
func sightingKeys() []key[stepReading] {
	last := func(s *stepReading) *Sighting {
		if len(s.Messages) == 0 {
			s.Messages = append(s.Messages, Sighting{})
		}
		return &s.Messages[len(s.Messages)-1]
	}
	return []key[stepReading]{
		own("clause", "string", "The clause of the message.", func(l *loader, s *stepReading, v node) {
			last(s).Clause, _ = v.known("clause", l.clauseNames())
		}),
		each(
			"parameters",
			"string",
			"The values of the topic's parameters; any without it.",
			func(l *loader, s *stepReading, e entry) {
				m := last(s)
				if m.Parameters == nil {
					m.Parameters = map[string]string{}
				}
				m.Parameters[e.key] = e.value.str("parameter")
				if cl := l.w.Contract.Clause(m.Clause); cl != nil && !slices.Contains(cl.Topic.Parameters(), e.key) {
					e.at.fail("", "the topic of %s has no {%s}", m.Clause, e.key)
				}
			},
		),
	}
}

func breachKey(doc string) key[stepReading] {
	return own("breach", "string", doc, func(_ *loader, s *stepReading, v node) {
		all := append(rule.Names(), "any")
		s.Breach, _ = v.known("rule", all)
	})
}

func whereKey(doc string, more ...string) key[stepReading] {
	return own("where", "string", doc, func(l *loader, s *stepReading, v node) {
		if !v.exists() {
			return
		}
		source := strings.TrimPrefix(v.str("where"), expression.Prefix)
		known := s.trial.names("payload", "params")
		if s.State == "" && s.Session == "" && s.Device != "" {
			known = append(l.signalNames(s), s.trial.names()...)
			s.WhereText, s.Where = source, l.template(v, expression.Prefix+source, known)
			return
		}
		if len(s.Messages) > 0 {
			m := &s.Messages[len(s.Messages)-1]
			m.WhereText, m.Where = source, l.template(v, expression.Prefix+source, known)
		}
	})
}

var sendingShape = shape[stepReading]{
	"sending",
	"A message that a trial publishes.",
	append(
		sightingKeys(),
		own(
			"payload",
			"any",
			"The payload; parts that begin with \"= \" are expressions. Without it the clause's first example.",
			func(l *loader, s *stepReading, v node) { s.Payload = l.template(v, v.ordered(), s.trial.names()) },
		),
		own(
			"as",
			"string",
			"The device that publishes it; by default one that plays the clause's party, else Hodstone's own client.",
			func(l *loader, s *stepReading, v node) { s.As = l.trialDevice(s, v) },
		),
		integer(
			"qos",
			"Instead of the clause's.",
			0,
			2,
			func(s *stepReading, n int) { q := packet.QoS(n); s.QoS = &q },
		),
		boolean("retain", "Instead of the clause's.", func(s *stepReading, is bool) { s.Retain = &is }),
	),
}

var slownessShape = shape[stepReading]{
	"slowness",
	"How a link is slow.",
	[]key[stepReading]{
		own(
			"device",
			"string",
			"The device.",
			func(l *loader, s *stepReading, v node) { s.Device = l.trialDevice(s, v) },
		).must(),
		span(
			"delay",
			"How much later each packet comes, in each direction.",
			false,
			func(s *stepReading) *time.Duration { return &s.Delay },
		),
		integer(
			"rate",
			"How many bytes a second get through, in each direction.",
			1,
			1_000_000_000,
			func(s *stepReading, n int) { s.Rate = n },
		),
	},
}

var tappingShape = shape[stepReading]{
	"tapping",
	"Which rules a tap has from now on, in place of those that it had; these are back at the trial's end.",
	[]key[stepReading]{
		own("name", "string", "The tap.", func(l *loader, s *stepReading, v node) {
			s.Device, _ = v.known("tap", names(l.w.Taps, func(t *Tap) string { return t.Name }))
		}).must(),
		all(
			"rules",
			"any",
			"What disturbs it: {drop: PUBACK, toward: device, nth: 3}; see 'hodstone tap --help'. Without it nothing does.",
			func(_ *loader, s *stepReading, v node) {
				if r, ok := tapRule(v); ok {
					s.Rules = append(s.Rules, r)
				}
			},
		),
	},
}

var expectationShape = shape[stepReading]{
	"expectation",
	"What has to follow: a message, a session's state, a device's signals, or a breach.",
	append(
		sightingKeys(),
		own(
			"session",
			"string",
			"In place of clause: the device whose session it is about.",
			func(l *loader, s *stepReading, v node) {
				s.Session = l.trialDevice(s, v)
			},
		),
		own("state", "string", "With session: connected, lost or off.", func(_ *loader, s *stepReading, v node) {
			s.State, _ = v.known("state", []string{SessionConnected, SessionLost, SessionOff})
		}),
		own(
			"device",
			"string",
			"In place of clause: the device whose signals 'where' is about; they are looked at until they are so, once at the least.",
			func(l *loader, s *stepReading, v node) {
				s.Device = l.trialDevice(s, v)
			},
		),
		breachKey("A breach of the contract by its rule, such as schema; any for every one. With clause: of that one."),
		all(
			"in-order",
			"sighting",
			"In place of clause: messages that have to come one after the other.",
			(*loader).inOrder,
		),
		whereKey("An expression that must be true of payload and params; of a device, of its signals."),
		integer(
			"qos",
			"The QoS that it has to come at.",
			0,
			2,
			func(s *stepReading, n int) { q := packet.QoS(n); s.QoS = &q },
		),
		boolean(
			"retain",
			"Whether a newcomer gets it, who is told what is stored, in place of who is there.",
			func(s *stepReading, is bool) { s.Retain = &is },
		),
		span("within", "How soon (default 5s).", true, func(s *stepReading) *time.Duration { return &s.Within }),
		span(
			"not-before",
			"It must not come earlier than this.",
			true,
			func(s *stepReading) *time.Duration { return &s.NotBefore },
		),
		own(
			"keep",
			"string",
			"A name for the message: NAME.payload, NAME.params and NAME.after, in seconds, in later expressions.",
			func(_ *loader, s *stepReading, v node) { s.Keep = v.str("keep") },
		),
	),
}

var absenceShape = shape[stepReading]{"absence", "What must not come.", append(sightingKeys(),
	breachKey("A breach of the contract by its rule; any for every one. With clause: of that one."),
	whereKey("An expression of payload and params."),
	span("for", "How long to look (default 5s).", true, func(s *stepReading) *time.Duration { return &s.Wait }),
)}

var sightingShape = shape[stepReading]{
	"sighting",
	"Which message is meant, of several in order.",
	append(sightingKeys(), whereKey("An expression of payload and params.")),
}

// Fill puts the values of a round into a text with {parameters}.
func Fill(text string, round map[string]string) string {
	for name, v := range round {
		text = strings.ReplaceAll(text, "{"+name+"}", v)
	}
	return text
}

// DeviceName is what the nth device of a kind is called.
func DeviceName(d *Device, n int) string {
	if d.Count == 0 {
		return d.Name
	}
	return fmt.Sprintf("%s-%d", d.Name, n)
}
