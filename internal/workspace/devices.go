package workspace

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// Device is a simulated client, or Count of one kind.
type Device struct {
	Name       string
	Count      int // 0: just one, without a number
	Plays      string
	Parameters map[string]string // {n} not yet filled in
	Broker     string
	Listener   string // "" for the first
	Login      string // {n} not yet filled in; "" for none
	Session    Session
	Presence   string // a clause, or ""
	Signals    []Signal
	Publishes  []Publication
	Reactions  []Reaction
	Coming     Coming
	Subscribes map[string]packet.QoS // by clause, otherwise than the contract says
	States     *States               // nil for none
	Offline    Offline
	Clock      Timepiece
	Cycle      time.Duration // it looks and acts only so often; 0 for at once
	Faults     []string      // what it does wrong, by name
	Real       []int         // the numbers of those that are not played: the real ones are there
	AllReal    bool          // all of them
	Note       string
}

// Session is how a device connects.
type Session struct {
	Version    packet.Version
	ClientID   string // {n} not yet filled in
	CleanStart bool
	KeepAlive  time.Duration
	// MaxPacket is the largest packet that it takes and sends, in bytes; 0 for any. InFlight is how many of its messages
	// are under way at QoS 1 and 2; 0 for any number.
	MaxPacket, InFlight int
	// PingsApart tells that the connection's pings go over another connection of its own.
	PingsApart bool
	// MaxQoS is the highest QoS that it publishes and subscribes with; nil for any.
	MaxQoS *packet.QoS
}

// FillIn puts the number of a device into a text with {n}.
func FillIn(s string, n int) string { return strings.ReplaceAll(s, "{n}", strconv.Itoa(n)) }

var deviceShape = shape[Device]{
	"device",
	"A simulated client, or several of one kind.",
	[]key[Device]{
		integer(
			"count",
			"How many there are: NAME-1, NAME-2 … Their number is {n}, and n in expressions.",
			1,
			maxDevices,
			func(d *Device, n int) { d.Count = n },
		),
		own("plays", "string", "The party it plays.",
			func(l *loader, d *Device, v node) { d.Plays, _ = v.known("party", l.partyNames()) }).must(),
		each("parameters", "string", "The values of the topics' parameters; {n} is the number.",
			func(l *loader, d *Device, e entry) {
				if _, ok := l.w.Contract.Parameters[e.key]; !ok {
					e.at.fail("", "no topic has a parameter {%s}", e.key)
				}
				d.Parameters[e.key] = e.value.str("parameter")
			}),
		own("broker", "string", "BROKER or BROKER/LISTENER; the first of each by default.", (*loader).deviceBroker),
		own("login", "string", "The login; {n} is the number.", func(l *loader, d *Device, v node) {
			told := len(v.r.problems)
			if d.Login = v.str("login"); len(v.r.problems) > told {
				return
			}
			for n := range max(1, d.Count) {
				if name := FillIn(d.Login, n+1); v.exists() && l.w.Login(name) == nil {
					v.fail(suggest(name, l.loginNames()), "login %q is not defined", name)
					return
				}
			}
		}),
		own("session", "session", "How it connects.", func(l *loader, d *Device, v node) {
			sessionShape.read(l, v, "the session of device "+d.Name, d)
		}),
		own("presence", "string", "The clause on which it announces coming, leaving and, by its will, being lost.",
			func(l *loader, d *Device, v node) {
				if !v.exists() {
					return
				}
				if cl := l.ownClause(d, v, "presence"); cl != nil {
					if d.Presence = cl.Name; cl.Presence == nil {
						v.fail("give the clause presence: {coming: …, leaving: …, lost: …}",
							"clause %s does not say what presence looks like", cl.Name)
					}
				}
			}),
		each("signals", "signal", "The values inside it, by name.",
			func(l *loader, d *Device, e entry) { d.Signals = append(d.Signals, l.signal(d, e)) }),
		all("publishes", "publication", "What it publishes.", (*loader).publication),
		all("reactions", "reaction", "What it does when a message arrives.", (*loader).reaction),
		own(
			"states",
			"states of state",
			"A state machine: first names the state that it begins in, every other key is a state.",
			(*loader).states,
		),
		own("connect", "connecting", "How it comes, stays and returns.", func(l *loader, d *Device, v node) {
			if v.exists() {
				comingShape.read(l, v, "connect of device "+d.Name, &d.Coming)
			}
			if d.Coming.Returns > 0 && d.Coming.Stays == 0 {
				v.fail(
					"say how long it stays: {stays: 2s, returns: 1m}",
					"a device that stays for good does not return",
				)
			}
		}),
		each(
			"subscribes",
			"subscribed",
			"Clauses that it subscribes to otherwise than the contract says.",
			(*loader).subscription,
		),
		own("offline", "offline", "What it does with what it would publish while it is away; that is lost without it.",
			func(l *loader, d *Device, v node) {
				if v.exists() {
					offlineShape.read(l, v, "offline of device "+d.Name, &d.Offline)
				}
			}),
		own(
			"clock",
			"clock",
			"Its clock, as now() tells it; the right one without it.",
			func(l *loader, d *Device, v node) {
				if v.exists() {
					timepieceShape.read(l, v, "the clock of device "+d.Name, d)
				}
			},
		),
		span(
			"cycle",
			"It takes messages in, moves on and publishes only so often, as a controller with a cycle does.",
			true,
			func(d *Device) *time.Duration { return &d.Cycle },
		),
		own(
			"real",
			"any",
			"Those that are not played, for the real ones are there, and are watched and judged under their names: true, or numbers, [2]. See taps.",
			(*loader).real,
		),
		all("faults", "string", "What it does wrong, to see it found: "+faultNames()+".", (*loader).deviceFault),
		text("note", "What it is, for people.", func(d *Device) *string { return &d.Note }),
	},
}

func (l *loader) device(e entry) {
	f := deviceShape.fields(e.value, "device "+e.key)
	before := len(e.at.r.problems) // a key too many takes nothing from what is sound
	d := &Device{
		Name: e.key, Parameters: map[string]string{}, Subscribes: map[string]packet.QoS{},
		Session: Session{Version: packet.V311, CleanStart: true, KeepAlive: 30 * time.Second},
	}
	if len(l.w.Brokers) > 0 { // else it is told already, or a workspace without brokers: the device cannot start
		d.Broker = l.w.Brokers[0].Name
	}
	deviceShape.fill(l, f, d)
	if d.Session.ClientID == "" {
		if d.Session.ClientID = d.Name; d.Count > 0 {
			d.Session.ClientID += "-{n}"
		}
	}
	if f["plays"].exists() && len(e.at.r.problems) == before {
		l.w.Devices = append(l.w.Devices, d)
	}
}

func (l *loader) deviceBroker(d *Device, n node) {
	if len(l.w.Brokers) == 0 || !n.exists() {
		return
	}
	name, listener, _ := strings.Cut(n.str("broker"), "/")
	b := l.w.Broker(name)
	if d.Broker = name; b == nil {
		if !n.r.unsound["broker "+name] {
			all := names(l.w.Brokers, func(b *Broker) string { return b.Name })
			n.fail(suggest(name, all), "broker %q is not defined", name)
		}
		return
	}
	ways := b.Ways()
	if listener != "" && !slices.ContainsFunc(ways, func(x Listener) bool { return x.Name == listener }) {
		all := names(ways, func(x Listener) string { return x.Name })
		n.fail(suggest(listener, all), "broker %s has no listener %q", name, listener)
	}
	d.Listener = listener
}

var sessionShape = shape[Device]{
	"session",
	"How a device connects.",
	[]key[Device]{
		own("version", "version", "3.1, 3.1.1 (default) or 5.", func(_ *loader, d *Device, v node) {
			if v.exists() {
				d.Session.Version, _ = v.version()
			}
		}),
		own("client-id", "string", "The client identifier; {n} is the number. The device's name by default.",
			func(_ *loader, d *Device, v node) {
				d.Session.ClientID = v.str("client-id")
				if v.exists() && d.Count > 1 && !strings.Contains(d.Session.ClientID, "{n}") {
					v.fail("put {n} into it", "%d devices would share the client id %q and throw each other out",
						d.Count, d.Session.ClientID)
				}
			}),
		boolean("clean-start", "Begin with a new session (default true).",
			func(d *Device, is bool) { d.Session.CleanStart = is }),
		own("keep-alive", "duration", "Default 30s.", func(_ *loader, d *Device, v node) {
			if !v.exists() {
				return
			}
			d.Session.KeepAlive = v.duration("keep-alive")
			if d.Session.KeepAlive%time.Second != 0 || d.Session.KeepAlive > 65535*time.Second {
				v.fail("", "keep-alive is counted in whole seconds, up to 65535s")
			}
		}),
		own(
			"max-packet",
			"size",
			"The largest packet that it takes and sends, as small devices have it: 128. A larger one ends its connection.",
			func(_ *loader, d *Device, v node) {
				if v.exists() {
					d.Session.MaxPacket = v.size("max-packet")
				}
			},
		),
		integer(
			"max-qos",
			"The highest QoS that it can do: what its clauses demand beyond that it publishes and asks for at this one.",
			0,
			2,
			func(d *Device, n int) {
				qos := packet.QoS(n)
				d.Session.MaxQoS = &qos
			},
		),
		integer("in-flight", "How many of its messages are under way at QoS 1 and 2; the next waits.", 1, 65535,
			func(d *Device, n int) { d.Session.InFlight = n }),
		own(
			"pings",
			"string",
			"own-connection: the connection never pings, and has no keep alive; another one beside it does, as client-id and \"-ping\".",
			func(_ *loader, d *Device, v node) {
				if what, ok := v.known("pings", []string{"own-connection"}); ok && v.exists() {
					d.Session.PingsApart = what != ""
				}
			},
		),
	},
}

// ownClause reads the name of a clause that the device's party publishes and whose
// parameters the device has.
func (l *loader) ownClause(d *Device, n node, what string, given ...string) *contract.Clause {
	name, ok := n.known("clause", l.clauseNames())
	if !ok {
		return nil
	}
	cl := l.w.Contract.Clause(name)
	if cl.From != d.Plays {
		n.fail("", "%s: clause %s is published by %s, not by %s", what, name, cl.From, d.Plays)
		return nil
	}
	for _, p := range cl.Topic.Parameters() {
		if _, ok := d.Parameters[p]; !ok && !slices.Contains(given, p) {
			n.fail(fmt.Sprintf("add parameters: {%s: …}", p),
				"device %s has no value for {%s} of clause %s", d.Name, p, cl.Name)
			return nil
		}
	}
	return cl
}

func faultNames() string {
	return strings.Join(names(DeviceFaults(), func(f DeviceFault) string { return f.Name }), ", ")
}
