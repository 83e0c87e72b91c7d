package fault

import (
	"crypto/tls"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
)

// below are the faults of what lies below MQTT.
func below() []standin.Fault {
	sockets := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		f := one(name, sentence, check, nil, d)
		f.Sockets = true
		return f
	}
	config := func(change func(c *tls.Config)) standin.Decisions { return standin.Decisions{TLS: change} }
	none := sockets("ws.no-subprotocol", "The upgrade to WebSocket agrees on no subprotocol.", "ws.subprotocol",
		standin.Decisions{WebSocket: link.Flaws{NoSubprotocol: true}})
	none.NotLetIn = true // and reach tells why
	return []standin.Fault{
		none,
		sockets("tls.old", "TLS 1.0 and 1.1 are taken.", "tls.versions", config(func(c *tls.Config) { c.MinVersion = tls.VersionTLS10 })),
		sockets("tls.wrong-name", "The certificate is for another host.", "tls.name", standin.Decisions{Certificate: "wrong-name"}),
		sockets("tls.expired", "The certificate has expired.", "tls.chain", standin.Decisions{Certificate: "expired"}),
		sockets("tls.incomplete", "The intermediate certificate is left out.", "tls.chain", standin.Decisions{Certificate: "incomplete"}),
		sockets("tls.client-optional", "A client without a certificate gets in where one is required.", "tls.client-required",
			config(func(c *tls.Config) {
				if c.ClientAuth == tls.RequireAndVerifyClientCert {
					c.ClientAuth = tls.VerifyClientCertIfGiven
				}
			})),
		sockets("tls.any-client", "A certificate that a stranger has signed gets in.", "tls.client-required",
			config(func(c *tls.Config) {
				if c.ClientAuth == tls.RequireAndVerifyClientCert {
					c.ClientAuth = tls.RequireAnyClientCert
				}
			})),
		sockets("tls.plain-taken", "A TLS port takes connections without TLS too.", "tls.plain-refused", standin.Decisions{PlainToo: true}),
		sockets("ws.text-taken", "Text frames are taken.", "ws.subprotocol", standin.Decisions{WebSocket: link.Flaws{Text: true}}),
		sockets("ws.whole", "A frame that does not hold one whole packet ends the link.", "ws.subprotocol",
			standin.Decisions{WebSocket: link.Flaws{Whole: true}}),
		one("transport.separate", "A message goes to those who came by the same listener alone.", "transport.same", nil,
			standin.Decisions{Separate: true}),
	}
}
