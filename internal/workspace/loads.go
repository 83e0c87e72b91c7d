package workspace

import (
	"encoding/csv"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/fleet"
	"hodstone/internal/mqtt/packet"
)

// Load is a load on a broker, as the workspace names it.
type Load struct {
	Name             string
	Broker, Listener string // "" for those of the devices, or the first
	Clients          []LoadClients
	// Login is that of plain clients, with {n}; "" for the broker's own. Credentials are read from a CSV of user names and
	// passwords, one line for each client in turn; nil for none.
	Login       string
	Credentials [][2]string
	Version     packet.Version // of plain clients; 0 for the broker's

	Shape  fleet.Shape
	Others int
	// Clause is what is published; "" for messages of the fleet's own, below "hodstone/load".
	Clause string
	From   PayloadFrom
	Every  time.Duration
	Jitter float64 // a share
	QoS    *packet.QoS
	Retain *bool
	Size   int // bytes of a message of the fleet's own; 0 for 64
	Each   int

	RampFrom, RampTo, RampBy float64
	RampOf                   string // clients or rate
	Hold, Over               time.Duration
	Falls                    bool
	Rate                     float64 // messages a second in all; 0 for what Every makes
	Connects                 float64 // a second
	Storm                    fleet.Storm
	Bound                    fleet.Bound
	Find                     string
	Traced                   float64 // a share of the clients
	Locals                   []netip.Addr
}

// LoadClients are so many clients of a kind: of devices, by their name, or plain ones by their transport.
type LoadClients struct {
	Kind  string
	Count int
}

// Transports are the kinds of plain clients, with the scheme of the listener that they use.
var Transports = map[string]string{"plain": "mqtt", "tls": "mqtts", "ws": "ws", "wss": "wss"}

// PayloadFrom is where the payloads of a load come from.
type PayloadFrom string

// Where payloads come from.
const (
	FromSize    PayloadFrom = "size"
	FromExample PayloadFrom = "example"
	FromSignals PayloadFrom = "signals"
)

// MostClients is how many sessions a load has at most in one process.
const MostClients = 60_000

// NewLoad returns a load as it is where nothing is said.
func NewLoad(name string) *Load {
	return &Load{
		Name:   name,
		Shape:  fleet.Echo,
		Others: 1,
		Every:  time.Second,
		Hold:   10 * time.Second,
		RampOf: "clients",
		Traced: 0.01,
	}
}

// LoadKinds are the kinds of clients that a load may have.
func (w *Workspace) LoadKinds() []string {
	out := []string{"plain", "tls", "ws", "wss"}
	for _, d := range w.Devices {
		out = append(out, d.Name)
	}
	return out
}

var loadShape = shape[Load]{
	"load",
	"A load on a broker: how many clients, what they say, and what has to hold.",
	[]key[Load]{
		own("broker", "string", "BROKER or BROKER/LISTENER; that of the kinds of devices, or the first.",
			func(l *loader, x *Load, v node) {
				if v.exists() {
					d := &Device{}
					l.deviceBroker(d, v)
					x.Broker, x.Listener = d.Broker, d.Listener
				}
			}),
		each(
			"clients",
			"integer",
			"How many of each kind: of devices by their name, or plain, tls, ws and wss, which are no devices and use the listener of that transport.",
			func(l *loader, x *Load, e entry) {
				if !slices.Contains(l.w.LoadKinds(), e.key) {
					e.at.fail(suggest(e.key, l.w.LoadKinds()), "there is no kind of clients %q", e.key)
					return
				}
				if n, ok := e.value.integer("clients", 1, MostClients); ok {
					x.Clients = append(x.Clients, LoadClients{e.key, n})
				}
			},
		).must(),
		text(
			"login",
			"The login of clients that are no devices; {n} for their number. Without it that of Hodstone's own clients there.",
			func(x *Load) *string { return &x.Login },
		),
		own("credentials", "string", "A CSV file with user name and password, a line for each client in turn.",
			func(l *loader, x *Load, v node) {
				if !v.exists() {
					return
				}
				b, err := l.secretFile(v.str("credentials"))
				if err == nil {
					x.Credentials, err = ReadCredentials(b)
				}
				if err != nil {
					v.fail("", "the credentials cannot be read: %v", err)
				}
			}),
		own(
			"version",
			"version",
			"The protocol version of clients that are no devices.",
			func(_ *loader, x *Load, v node) {
				if v.exists() {
					x.Version, _ = v.version()
				}
			},
		),
		own(
			"shape",
			"string",
			"Who hears whom: echo (each itself; default), pairs, fan-in (others hear all), fan-out (others publish), mute (nobody hears), idle (nothing is said).",
			func(_ *loader, x *Load, v node) {
				var all []string
				for _, s := range fleet.Shapes() {
					all = append(all, string(s))
				}
				if s, ok := v.known("shape", all); ok && v.exists() {
					x.Shape = fleet.Shape(s)
				}
			},
		),
		integer(
			"others",
			"How many hear all in fan-in, or publish in fan-out.",
			1,
			1000,
			func(x *Load, n int) { x.Others = n },
		),
		own("publish", "load-publish", "What each client publishes.", func(l *loader, x *Load, v node) {
			loadPublishShape.read(l, v, "what is published", x)
		}),
		own(
			"ramp",
			"ramp",
			"From how many to how many; without it all come at once.",
			func(l *loader, x *Load, v node) {
				if v.exists() {
					rampShape.read(l, v, "the ramp", x)
				}
			},
		),
		own(
			"rate",
			"string",
			"Messages a second in all, such as 2000/s, in place of what every makes.",
			func(_ *loader, x *Load, v node) {
				x.Rate = v.perSecond("rate")
			},
		),
		span(
			"hold",
			"How long each step is held; 10s by default.",
			true,
			func(x *Load) *time.Duration { return &x.Hold },
		),
		own("connects", "string", "How many connect a second at most, such as 500/s; as fast as it goes without it.",
			func(_ *loader, x *Load, v node) { x.Connects = v.perSecond("connects") }),
		own("storm", "string", "What befalls all at once at the end: reconnect, restart (of the broker) or wills.",
			func(_ *loader, x *Load, v node) {
				if s, ok := v.known("storm", []string{"reconnect", "restart", "wills"}); ok && v.exists() {
					x.Storm = fleet.Storm(s)
				}
			}),
		each("bound", "string", "What has to hold, each at most: {p99: 100ms, lost: 0, refused: 0, short: 5%}.",
			func(_ *loader, x *Load, e entry) {
				limit, err := fleet.LimitOf(e.key, e.value.str("bound"))
				if err != nil {
					e.value.fail("", "%v", err)
					return
				}
				x.Bound = append(x.Bound, limit)
			}),
		own("find", "string", "rate or clients: the highest at which the bound holds, up to the end of the ramp.",
			func(_ *loader, x *Load, v node) {
				if s, ok := v.known("find", []string{"rate", "clients"}); ok && v.exists() {
					x.Find = s
				}
			}),
		own("traced", "string", "The share of clients that is traced and judged in full: 1% by default, ten at least.",
			func(_ *loader, x *Load, v node) {
				if v.exists() {
					x.Traced = v.share("traced")
				}
			}),
		own(
			"local",
			"string",
			"Addresses of this machine to dial from in turn, where ports run out: 127.0.0.2-127.0.0.9.",
			func(_ *loader, x *Load, v node) {
				if !v.exists() {
					return
				}
				var err error
				if x.Locals, err = ParseLocals(v.str("local")); err != nil {
					v.fail("", "%v", err)
				}
			},
		),
	},
}

var loadPublishShape = shape[Load]{
	"load-publish",
	"What each client of a load publishes.",
	[]key[Load]{
		own(
			"clause",
			"string",
			"A clause, on its topic with the client's number as its own parameter; without it messages of the fleet's own, below hodstone/load.",
			func(l *loader, x *Load, v node) {
				if !v.exists() {
					return
				}
				var all []string
				for _, cl := range l.w.Contract.Clauses {
					all = append(all, cl.Name)
				}
				if name, ok := v.known("clause", all); ok {
					x.Clause = name
				}
			},
		),
		own(
			"payload-from",
			"string",
			"Of a clause: example (its first; default) or signals (of the device).",
			func(_ *loader, x *Load, v node) {
				if s, ok := v.known("payload-from", []string{"size", "example", "signals"}); ok && v.exists() {
					x.From = PayloadFrom(s)
				}
			},
		),
		span(
			"every",
			"The time between two messages of a client; 1s by default.",
			true,
			func(x *Load) *time.Duration { return &x.Every },
		),
		own("jitter", "string", "By which share that varies: 10%.", func(_ *loader, x *Load, v node) {
			if v.exists() {
				x.Jitter = v.share("jitter")
			}
		}),
		integer("qos", "The clause's, or 0.", 0, 2, func(x *Load, n int) {
			q := packet.QoS(n)
			x.QoS = &q
		}),
		boolean("retain", "The clause's, or false.", func(x *Load, is bool) { x.Retain = &is }),
		integer(
			"size",
			"Bytes of a message of the fleet's own; 64 by default.",
			fleet.MarkSize,
			1<<20,
			func(x *Load, n int) { x.Size = n },
		),
		integer("each", "So many messages of each client, and no more.", 1, 1<<30, func(x *Load, n int) { x.Each = n }),
	},
}

var rampShape = shape[Load]{
	"ramp",
	"How a load climbs.",
	[]key[Load]{
		number("from", "Where it begins.", func(x *Load, f float64) { x.RampFrom = f }),
		number("to", "Where it ends; all clients by default.", func(x *Load, f float64) { x.RampTo = f }),
		number(
			"by",
			"By how much each step is higher; in one step by default.",
			func(x *Load, f float64) { x.RampBy = f },
		),
		own("of", "string", "clients (default) or rate.", func(_ *loader, x *Load, v node) {
			if s, ok := v.known("of", []string{"clients", "rate"}); ok && v.exists() {
				x.RampOf = s
			}
		}),
		span("hold", "How long each step is held.", true, func(x *Load) *time.Duration { return &x.Hold }),
		span(
			"over",
			"How long it climbs, steadily, in place of steps; then it is held.",
			true,
			func(x *Load) *time.Duration { return &x.Over },
		),
		boolean("falls", "Whether it goes down again by the same steps.", func(x *Load, is bool) { x.Falls = is }),
	},
}

// perSecond reads a rate, per second.
func (n node) perSecond(what string) float64 {
	if !n.exists() {
		return 0
	}
	r, err := contract.ParseRate(n.str(what))
	if err != nil {
		n.fail("", "%v", err)
		return 0
	}
	return float64(r.N) / r.Per.Seconds()
}

// share reads a share, 5%.
func (n node) share(what string) float64 {
	f, err := ParseShare(n.str(what))
	if err != nil {
		n.fail("", "%s: %v", what, err)
	}
	return f
}

// ParseShare reads 5%.
func ParseShare(text string) (float64, error) {
	number, is := strings.CutSuffix(strings.TrimSpace(text), "%")
	f, err := strconv.ParseFloat(strings.TrimSpace(number), 64)
	if !is || err != nil || f < 0 || f > 100 {
		return 0, fmt.Errorf("a share is written 5%%, and not %q", text)
	}
	return f / 100, nil
}

// ParseLocals reads addresses of this machine: 127.0.0.2-127.0.0.9, or some with commas.
func ParseLocals(text string) (out []netip.Addr, err error) {
	const most = 256
	for part := range strings.SplitSeq(text, ",") {
		from, to, ranged := strings.Cut(strings.TrimSpace(part), "-")
		a, err := netip.ParseAddr(strings.TrimSpace(from))
		b := a
		if err == nil && ranged {
			b, err = netip.ParseAddr(strings.TrimSpace(to))
		}
		if err != nil || b.Less(a) || a.Is4() != b.Is4() {
			return nil, fmt.Errorf("%q are no addresses: write 127.0.0.2-127.0.0.9", text)
		}
		for ; !b.Less(a) && len(out) < most; a = a.Next() {
			out = append(out, a)
		}
	}
	return out, nil
}

// ReadCredentials reads a CSV of user names and passwords. A first line that says "username" is a heading.
func ReadCredentials(b []byte) (out [][2]string, err error) {
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(b), "\ufeff"))) // as spreadsheets write it
	r.FieldsPerRecord = -1
	r.Comment = '#'
	all, err := r.ReadAll()
	if err != nil {
		return nil, err
	}
	for i, row := range all {
		if len(row) < 2 {
			return nil, fmt.Errorf("line %d has no password: write NAME,PASSWORD", i+1)
		}
		if i == 0 && strings.EqualFold(strings.TrimSpace(row[0]), "username") {
			continue
		}
		out = append(out, [2]string{row[0], row[1]})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("there are none")
	}
	return out, nil
}

func (l *loader) aLoad(e entry) {
	x := NewLoad(e.key)
	told := len(e.at.r.problems)
	loadShape.read(l, e.value, "load "+e.key, x)
	if len(x.Clients) == 0 && len(e.at.r.problems) == told {
		e.value.fail("write clients: {plain: 100}", "load %s has no clients", e.key)
	}
	if len(e.at.r.problems) == told {
		l.w.Loads = append(l.w.Loads, x)
	}
}

// Load returns the load of the name, or nil.
func (w *Workspace) Load(name string) *Load {
	for _, x := range w.Loads {
		if x.Name == name {
			return x
		}
	}
	return nil
}

// paceShape is how slow a stand-in is.
var paceShape = shape[StandIn]{
	"pace",
	"How slow a stand-in is, as a small broker.",
	[]key[StandIn]{
		own(
			"rate",
			"string",
			"Messages that it takes a second in all, such as 500/s.",
			func(_ *loader, s *StandIn, v node) {
				s.Pace.Rate = v.perSecond("rate")
			},
		),
		integer(
			"backlog",
			"How many wait for their turn; one more at QoS 0 is lost. As many as come without it.",
			1,
			1<<20,
			func(s *StandIn, n int) { s.Pace.Backlog = n },
		),
		span(
			"pause",
			"How long it stands still, in each every.",
			true,
			func(s *StandIn) *time.Duration { return &s.Pace.Pause },
		),
		span("every", "How often.", true, func(s *StandIn) *time.Duration { return &s.Pace.Every }),
	},
}
