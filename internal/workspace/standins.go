package workspace

import (
	"crypto/tls"
	"crypto/x509"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/trust"
)

// StandIn says how a stand-in is started.
type StandIn struct {
	Listeners []Listener // URL holds the address to listen on
	Logins    []string
	Rights    []Rights
	Anonymous bool
	Limits    standin.Limits
	Pace      standin.Pace
	// Certificate is "", or what is wrong with that of the TLS listeners on purpose:
	// "expired", "wrong-name" or "incomplete".
	Certificate string
	// OwnTLS is the certificate of the TLS listeners in place of one that is made; nil for none.
	OwnTLS *OwnTLS
	Faults []string
}

// OwnTLS is a certificate of the user's own for a stand-in.
type OwnTLS struct {
	Certificate tls.Certificate
	// CAs are those that clients trust, and that sign the certificates of clients.
	CAs []*x509.Certificate
}

// Rights are what some logins of a stand-in may do.
type Rights struct {
	Logins             string   // a login's name, with * for any characters
	Publish, Subscribe []string // topic filters, {login} not yet filled in; nil: everything
}

// RightsOf returns the first rights that are for the login, or rights to everything.
func (s *StandIn) RightsOf(login string) Rights {
	for _, r := range s.Rights {
		if ok, _ := path.Match(r.Logins, login); ok {
			return r
		}
	}
	return Rights{Logins: login}
}

// standInReading is a stand-in, and whether it was said who gets in without credentials.
type standInReading struct {
	StandIn
	said bool
}

var standInShape = shape[standInReading]{
	"stand-in",
	"A broker of Hodstone's own, faithful unless told to misbehave.",
	[]key[standInReading]{
		each("listeners", "string", "Transports tcp, tls, ws, wss and their addresses; port 0 lets the system choose."+
			" The certificates for TLS are made at every start, and Hodstone's own clients trust them. Without it: tcp on"+
			" 127.0.0.1:0.", standInListener),
		all("logins", "string", "The logins it knows. {n} in a login's name stands for 1, 2, 3 …",
			func(l *loader, s *standInReading, v node) {
				if name, ok := v.known("login", l.loginNames()); ok {
					s.Logins = append(s.Logins, name)
				}
			}),
		each("rights", "rights", "What logins may publish and subscribe to, by login; * in the name stands for any"+
			" characters. The first that fits counts; a login that none fits may do everything.",
			func(l *loader, s *standInReading, e entry) {
				r := Rights{Logins: e.key}
				rightsShape.read(l, e.value, "the rights of "+e.key, &r)
				known := func(name string) bool { ok, _ := path.Match(e.key, name); return ok }
				if !slices.ContainsFunc(s.Logins, known) {
					e.at.fail(suggest(e.key, s.Logins), "no login of the stand-in is called %q", e.key)
					return
				}
				s.Rights = append(s.Rights, r)
			}),
		boolean("anonymous", "Let in clients without credentials (default: only when it knows no logins).",
			func(s *standInReading, is bool) { s.Anonymous, s.said = is, true }),
		own("limits", "limits", "What it announces in CONNACK, and keeps.", func(l *loader, s *standInReading, v node) {
			limitsShape.read(l, v, "the limits", &s.Limits)
		}),
		own(
			"pace",
			"pace",
			"How slow it is, for loads; as fast as it can without it.",
			func(l *loader, s *standInReading, v node) {
				if v.exists() {
					paceShape.read(l, v, "the pace", &s.StandIn)
				}
			},
		),
		own("own-tls", "own-tls", "The certificate of the TLS listeners, in place of one that is made at every start.",
			func(l *loader, s *standInReading, v node) {
				if v.exists() {
					s.OwnTLS = l.ownTLS(v)
				}
			}),
		own("certificate", "string", "What is wrong with the certificate of the TLS listeners on purpose: expired,"+
			" wrong-name or incomplete (no intermediate).", func(_ *loader, s *standInReading, v node) {
			if s.Certificate = v.str("certificate"); v.exists() && !slices.Contains(CertificateFlaws, s.Certificate) {
				v.fail("there are: "+strings.Join(CertificateFlaws, ", "), "a certificate cannot be %q", s.Certificate)
				s.Certificate = ""
			}
		}),
		all("faults", "string", "Names of faults: ways to misbehave on purpose. 'hodstone stand-in --help' lists them.",
			func(_ *loader, s *standInReading, v node) {
				name := v.str("fault")
				if _, err := fault.Find(name); err != nil {
					v.fail("", "%v", err)
					return
				}
				s.Faults = append(s.Faults, name)
			}),
	},
}

// standInSchemes are the URL schemes of a stand-in's listeners.
var standInSchemes = map[string]string{"tcp": "mqtt", "tls": "mqtts", "ws": "ws", "wss": "wss"}

func standInListener(_ *loader, s *standInReading, e entry) {
	scheme, known := standInSchemes[e.key]
	if !known {
		e.at.fail("there are: tcp, tls, ws, wss", "a stand-in has no listener %q", e.key)
		return
	}
	line, _ := e.at.position()
	s.Listeners = append(s.Listeners, Listener{Name: e.key, URL: scheme + "://" + e.value.str("address"), Line: line})
}

func (l *loader) standIn(n node) *StandIn {
	var s standInReading
	f := standInShape.read(l, n, "the stand-in", &s)
	if len(s.Listeners) == 0 {
		s.Listeners = []Listener{{Name: "tcp", URL: "mqtt://127.0.0.1:0"}}
	}
	if c := f["certificate"]; c.exists() && f["own-tls"].exists() {
		c.fail("leave one of them out",
			"the stand-in has a certificate of your own; what is wrong with it is up to you")
	}
	if !s.said {
		s.Anonymous = len(s.Logins) == 0
	}
	return &s.StandIn
}

// CertificateFlaws are what can be wrong with a stand-in's certificate on purpose.
var CertificateFlaws = []string{"expired", "wrong-name", "incomplete"}

// ownTLSReading are the files of a certificate of the user's own.
type ownTLSReading struct{ certificate, key, passphrase, ca node }

var ownTLSShape = shape[ownTLSReading]{
	"own-tls", "A certificate of your own for a stand-in. Files beside the workspace, in any form.",
	[]key[ownTLSReading]{
		own("certificate", "string", "The certificate and its chain.",
			func(_ *loader, r *ownTLSReading, v node) { r.certificate = v }).must(),
		own("key", "string", "Its private key, where it is in another file.",
			func(_ *loader, r *ownTLSReading, v node) { r.key = v }),
		own("passphrase", "secret", "What an encrypted key is opened with.",
			func(_ *loader, r *ownTLSReading, v node) { r.passphrase = v }),
		own("ca", "string", "The CA that Hodstone's clients trust, and that signs the certificates of clients.",
			func(_ *loader, r *ownTLSReading, v node) { r.ca = v }).must(),
	},
}

// ownTLS reads the user's own certificate of a stand-in; nil where it cannot be used.
func (l *loader) ownTLS(n node) *OwnTLS {
	var r ownTLSReading
	ownTLSShape.read(l, n, "the stand-in's own certificate", &r)
	if !r.certificate.exists() || !r.ca.exists() {
		return nil // told already
	}
	pair := l.certificate(r.certificate, r.key, r.passphrase)
	data, ok := l.file(r.ca)
	if pair == nil || !ok {
		return nil
	}
	cas, err := trust.CAs(data)
	if err != nil {
		r.ca.fail("'hodstone trust FILE' tells what it is", "%s holds no certificate: %v", r.ca.str("ca"), err)
		return nil
	}
	return &OwnTLS{*pair, cas}
}

var rightsShape = shape[Rights]{
	"rights", "What a login of a stand-in may do. {login} in a filter stands for the login's name.", []key[Rights]{
		own("publish", "list of string", "Topic filters; everything without it, nothing where it is [].",
			func(_ *loader, r *Rights, v node) { r.Publish = v.filters() }),
		own("subscribe", "list of string", "Topic filters; a subscription must lie within one of them.",
			func(_ *loader, r *Rights, v node) { r.Subscribe = v.filters() }),
	},
}

// filters reads a list of topic filters; an empty list is not nil.
func (n node) filters() []string {
	if !n.exists() {
		return nil
	}
	out := []string{}
	for _, x := range n.list() {
		if err := topic.CheckFilter(x.str("filter")); err != nil {
			x.fail("", "%v", err)
			continue
		}
		out = append(out, x.str("filter"))
	}
	return out
}

var limitsShape = shape[standin.Limits]{
	"limits", "Limits of a stand-in, in the words of CONNACK (MQTT 5.0 §3.2.2.3).", []key[standin.Limits]{
		integer("maximum-qos", "0 or 1.", 0, 1, func(l *standin.Limits, n int) {
			qos := packet.QoS(n)
			l.MaximumQoS = &qos
		}),
		boolean("retain-available", "Default true.", func(l *standin.Limits, is bool) { l.NoRetained = !is }),
		boolean("wildcard-subscription-available", "Default true.",
			func(l *standin.Limits, is bool) { l.NoWildcards = !is }),
		boolean("subscription-identifiers-available", "Default true.",
			func(l *standin.Limits, is bool) { l.NoIdentifiers = !is }),
		boolean(
			"shared-subscription-available",
			"Default true.",
			func(l *standin.Limits, is bool) { l.NoShared = !is },
		),
		integer("maximum-packet-size", "In bytes.", 64, 8<<20,
			func(l *standin.Limits, n int) { l.MaximumPacketSize = n }),
		integer("receive-maximum", "Messages at QoS 1 and 2 that may be unacknowledged towards it.", 1, 65535,
			func(l *standin.Limits, n int) { l.ReceiveMaximum = n }),
		own("server-keep-alive", "duration", "Replaces the client's keep alive in version 5.",
			func(_ *loader, l *standin.Limits, v node) {
				l.ServerKeepAlive = int(v.duration("server-keep-alive") / time.Second)
			}),
		own("session-expiry", "duration", "The longest session expiry in version 5, told where a client asks for more.",
			func(_ *loader, l *standin.Limits, v node) {
				l.SessionExpiry = int(v.duration("session-expiry") / time.Second)
			}),
		pattern("client-id", "A regular expression that the whole client identifier must match.",
			"the rule for client identifiers", func(l *standin.Limits, re *regexp.Regexp) { l.ClientID = re }),
		boolean("empty-client-id", "Whether a client may leave its identifier to the stand-in (default true).",
			func(l *standin.Limits, is bool) { l.NoEmptyClientID = !is }),
		integer("connections", "How many clients may be connected at a time.", 1, 1_000_000,
			func(l *standin.Limits, n int) { l.Connections = n }),
		integer(
			"memory",
			"How many bytes it holds at most of messages, sessions, subscriptions and wills (default 192 MiB)."+
				" Beyond it, clients are told quota exceeded.",
			1<<20,
			1<<40,
			func(l *standin.Limits, n int) { l.Memory = n },
		),
		text("server-reference", "Refuses every client and names another server to use (0x9C, 5.0 §4.13).",
			func(l *standin.Limits) *string { return &l.Redirect }),
	},
}
