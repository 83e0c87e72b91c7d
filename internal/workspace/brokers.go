package workspace

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/trust"
)

// Broker is an MQTT server to be reached, or a stand-in to be started.
type Broker struct {
	Name      string
	StandIn   *StandIn // nil for a real one
	Listeners []Listener
	Login     string
	Anonymous *bool // nil: not said
	Version   packet.Version
	Intrusive bool
	// ClientID is the pattern of Hodstone's own client identifiers there, {n} for a number: for brokers
	// that have a rule. "" where there is none.
	ClientID string
	// Load lets loads run on it; without, only stand-ins and brokers on loopback bear them.
	Load bool
	// Watch are filters of the broker's own topics that the observer watches too.
	Watch []string
	// Restart and Kill are commands that restart the broker, in order and killed; nil where only a person can.
	Restart, Kill []string
	// Accepted are doors that stay open on purpose, with the reason; see [DoorAnonymous].
	Accepted map[string]string
}

// OwnID makes up a client identifier for a client of Hodstone's own at the broker.
func (b *Broker) OwnID() string {
	if b.ClientID == "" {
		return client.NewID()
	}
	return strings.ReplaceAll(b.ClientID, "{n}", fmt.Sprint(rand.IntN(900_000)+100_000))
}

// Ways returns the broker's listeners, be it a stand-in or a real one.
func (b *Broker) Ways() []Listener {
	if b.StandIn != nil {
		return b.StandIn.Listeners
	}
	return b.Listeners
}

// The doors that can be left open at a broker, and accepted with a reason: the keys of the
// shape "accepted".
const (
	DoorAnonymous    = "anonymous"
	DoorPlain        = "plain"
	DoorUnrestricted = "everything"
)

// Listener is one way into a broker.
type Listener struct {
	Name, URL  string
	CA         []*x509.Certificate // nil: the system's roots
	ServerName string
	// ClientCertificate tells whether clients must show one; nil where nobody said. LeastTLS is the lowest version of
	// TLS that is to be taken, as crypto/tls numbers it; 0 for 1.2.
	ClientCertificate *bool
	LeastTLS          uint16
	Line              int // where it stands in the file; 0 for one that is there without being written
}

// brokerReading is a broker, and whether it can be used.
type brokerReading struct {
	Broker
	unusable bool
	standIn  node
	login    node
}

var brokerShape = shape[brokerReading]{
	"broker",
	"An MQTT server to be reached, or the stand-in that ships with Hodstone.",
	[]key[brokerReading]{
		own("stand-in", "stand-in", "Start the small broker inside Hodstone instead of reaching another.",
			func(_ *loader, b *brokerReading, v node) { b.standIn = v }),
		each("listeners", "listener", "The ways into the broker by name. The first is used where none is named.",
			func(l *loader, b *brokerReading, e entry) { l.listener(b, e) }),
		own(
			"login",
			"string",
			"The login of Hodstone's own clients: the observer and the checks. It needs the right to"+
				" read and write everything.",
			func(l *loader, b *brokerReading, v node) {
				var known bool
				b.login = v
				if b.Login, known = v.known("login", l.loginNames()); !known {
					b.unusable = true
				}
			},
		),
		boolean("anonymous", "Whether clients without credentials are meant to get in. Without it the check"+
			" login.anonymous is skipped.", func(b *brokerReading, is bool) { b.Anonymous = &is }),
		own("version", "version", "The protocol version of Hodstone's observer: 3.1, 3.1.1 or 5 (default).",
			func(_ *loader, b *brokerReading, v node) {
				if !v.exists() {
					return
				}
				var known bool
				if b.Version, known = v.version(); !known {
					b.unusable = true
				}
			}),
		own(
			"watch",
			"list of string",
			"What the observer watches beside #: topics of the broker's own, such as $SYS/#, shown on the reach screen.",
			func(_ *loader, b *brokerReading, v node) {
				for _, x := range v.list() {
					f := x.str("watch")
					switch err := topic.CheckFilter(f); {
					case err != nil:
						x.fail("", "%v", err)
					case f != "#" && !strings.HasPrefix(f, "$"):
						x.fail("leave it out", "%s is watched anyway: # brings it", f)
					default:
						b.Watch = append(b.Watch, f)
					}
				}
			},
		),
		own(
			"restart",
			"restart",
			"How the broker is restarted, for the checks of what survives that; they run with --restart only.",
			func(l *loader, b *brokerReading, v node) {
				if v.exists() {
					restartShape.read(l, v, "restart of broker "+b.Name, &b.Broker)
				}
			},
		),
		own("accepted", "accepted", "What is left open on purpose. 'hodstone reach' lists it with the reason, and no"+
			" longer counts it as a worry.", func(l *loader, b *brokerReading, v node) {
			b.Accepted = map[string]string{}
			acceptedShape.read(l, v, "what is accepted at broker "+b.Name, &b.Accepted)
		}),
		own("client-id", "string", "The client identifiers of observer, reach and checks, {n} for a number, where the"+
			" broker has a rule for them: \"s-{n}\".", func(_ *loader, b *brokerReading, v node) {
			if b.ClientID = v.str("client-id"); v.exists() && !strings.Contains(b.ClientID, "{n}") {
				v.fail(
					`write one such as "s-{n}"`,
					"client-id %q has no {n}: all of Hodstone's clients would share it, and throw each other out",
					b.ClientID,
				)
				b.ClientID = ""
			}
		}),
		own("load", "string", "\"allowed\" lets loads run on it. Stand-ins and brokers on loopback need no word.",
			func(_ *loader, b *brokerReading, v node) {
				if b.Load = v.str("load") == "allowed"; v.exists() && !b.Load {
					v.fail(`write "allowed", or leave it out`, "load cannot be %q", v.str("load"))
				}
			}),
		own("intrusive", "string", "\"allowed\" lets checks run that throw clients out or fail logins on purpose.",
			func(_ *loader, b *brokerReading, v node) {
				if b.Intrusive = v.str("intrusive") == "allowed"; v.exists() && !b.Intrusive {
					v.fail(`write "allowed", or leave it out`, "intrusive cannot be %q", v.str("intrusive"))
				}
			}),
	},
}

// restartShape is how a broker is restarted.
var restartShape = shape[Broker]{
	"restart",
	"Commands that restart a broker, and end once it is back: each a program with its arguments, run without a shell in this file's folder.",
	[]key[Broker]{
		texts("command", "Restarts it in order.", func(b *Broker) *[]string { return &b.Restart }),
		texts(
			"kill",
			"Kills it, and starts it again; without it a person is asked, or the killed restart is left out.",
			func(b *Broker) *[]string { return &b.Kill },
		),
	},
}

var acceptedShape = shape[map[string]string]{
	"accepted", "Doors that stay open on purpose, each with the reason.", []key[map[string]string]{
		door(DoorAnonymous, "Clients without credentials get in, because …"),
		door(DoorPlain, "A plain listener stands beside a TLS one, because …"),
		door(DoorUnrestricted, "A login may read everything, or publish on any topic, because …"),
	},
}

func door(name, doc string) key[map[string]string] {
	return own(name, "string", doc, func(_ *loader, doors *map[string]string, v node) {
		if reason := v.str(name); reason == "" || reason == "true" {
			v.fail("write why, in a few words", "%s is accepted without a reason", name)
		} else {
			(*doors)[name] = reason
		}
	})
}

func (l *loader) broker(e entry) {
	b := brokerReading{Broker: Broker{Name: e.key, Version: packet.V5}}
	brokerShape.read(l, e.value, "broker "+e.key, &b)
	switch {
	case b.standIn.n != nil && len(b.Listeners) > 0:
		b.standIn.fail("", "broker %s is a stand-in or has listeners of its own, not both", e.key)
		return
	case b.standIn.n != nil:
		b.StandIn = l.standIn(b.standIn)
		b.Intrusive = true // it is ours
		if b.Login != "" && !slices.Contains(b.StandIn.Logins, b.Login) && !b.StandIn.Anonymous {
			b.login.fail(
				"add it to the stand-in's logins",
				"the stand-in %s does not know the login %q",
				e.key,
				b.Login,
			)
		}
		if b.Anonymous == nil {
			b.Anonymous = &b.StandIn.Anonymous
		}
	case len(b.Listeners) == 0:
		e.at.fail("give it listeners, or 'stand-in: {}'", "broker %s has no listener that could be reached", e.key)
		return
	}
	if !b.unusable {
		broker := b.Broker
		l.w.Brokers = append(l.w.Brokers, &broker)
	}
}

// listenerReading is a listener, and what is read of it once its URL is known.
type listenerReading struct {
	Listener
	url, ca node
}

var listenerShape = shape[listenerReading]{
	"listener",
	"One way into a broker.",
	[]key[listenerReading]{
		own(
			"url",
			"string",
			"mqtt://HOST:PORT over TCP, mqtts:// over TLS, ws://HOST:PORT/PATH and wss:// over WebSocket,"+
				" unix:///PATH over a local socket.",
			func(_ *loader, r *listenerReading, v node) {
				r.url, r.URL = v, v.str("url")
			},
		).must(),
		own(
			"ca",
			"string",
			"For TLS: a file beside the workspace with the CA to trust, as PEM, DER, PKCS #7 or #12; the"+
				" system's roots without it.",
			func(_ *loader, r *listenerReading, v node) { r.ca = v },
		),
		text("server-name", "For TLS: the name that the broker's certificate must hold, where it is not the URL's.",
			func(r *listenerReading) *string { return &r.ServerName }),
		own(
			"client-certificate",
			"string",
			"For TLS: \"required\" where no client is to get in without a certificate, \"optional\" else; the proof holds the broker to it.",
			func(_ *loader, r *listenerReading, v node) {
				required := v.str("client-certificate") == "required"
				if r.ClientCertificate = &required; !required && v.str("client-certificate") != "optional" {
					v.fail(
						`write "required" or "optional"`,
						"client-certificate cannot be %q",
						v.str("client-certificate"),
					)
				}
			},
		),
		own(
			"least-tls",
			"string",
			"For TLS: the lowest version that the broker is to take, \"1.2\" or \"1.3\"; 1.2 without it.",
			func(_ *loader, r *listenerReading, v node) {
				if r.LeastTLS = leastTLS[v.str("least-tls")]; r.LeastTLS == 0 {
					v.fail(`write "1.2" or "1.3"`, "least-tls cannot be %q", v.str("least-tls"))
				}
			},
		),
	},
}

// leastTLS are the versions that may be asked for; older ones are no longer to be used (RFC 8996).
var leastTLS = map[string]uint16{"1.2": tls.VersionTLS12, "1.3": tls.VersionTLS13}

func (l *loader) listener(b *brokerReading, e entry) {
	r := listenerReading{Listener: Listener{Name: e.key}}
	f := listenerShape.read(l, e.value, "listener "+e.key, &r)
	if !r.url.exists() {
		return
	}
	endpoint, err := link.Parse(r.URL)
	if err != nil {
		r.url.fail("write mqtt://HOST or mqtt://HOST:PORT", "%v", err)
		return
	}
	r.Line, _ = e.at.position()
	for _, name := range []string{"ca", "server-name", "client-certificate", "least-tls"} {
		if f[name].exists() && !endpoint.TLS {
			f[name].fail(
				"the URL of a TLS listener begins with mqtts:// or wss://",
				"%s does nothing without TLS",
				name,
			)
		}
	}
	if r.ca.exists() && endpoint.TLS {
		data, ok := l.file(r.ca)
		if !ok {
			return
		}
		if r.CA, err = trust.CAs(data); err != nil {
			r.ca.fail("'hodstone trust FILE' tells what it is", "%s holds no certificate: %v", r.ca.str("ca"), err)
			return
		}
	}
	b.Listeners = append(b.Listeners, r.Listener)
}
