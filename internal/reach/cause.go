package reach

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
)

// Cause is why a client does not get in, as one of a fixed set that scripts can ask for.
type Cause string

// The causes, in the order of the stages.
const (
	BadAddress       Cause = "bad-address"
	NameUnknown      Cause = "name-unknown"
	NameSilent       Cause = "name-server-silent"
	NoAddress        Cause = "name-without-address"
	Refused          Cause = "port-closed"
	TimedOut         Cause = "no-answer"
	HostUnreachable  Cause = "host-unreachable"
	NetUnreachable   Cause = "network-unreachable"
	IPv6Only         Cause = "ipv6-only"
	NotAllowed       Cause = "not-allowed-here"
	NoSocket         Cause = "socket-missing"
	TCPFailed        Cause = "tcp-failed"
	ResetOnAccept    Cause = "reset-on-accept"
	ClosedOnAccept   Cause = "closed-on-accept"
	SilentServer     Cause = "silent-server"
	HTTPServer       Cause = "http-server"
	OtherProtocol    Cause = "other-protocol"
	PlainToTLS       Cause = "plain-to-tls-port"
	TLSToPlain       Cause = "tls-to-plain-port"
	MQTTToWebSocket  Cause = "mqtt-to-websocket-port"
	WebSocketToMQTT  Cause = "websocket-to-mqtt-port"
	TLSVersion       Cause = "tls-version"
	TLSSuites        Cause = "tls-suites"
	TLSPSK           Cause = "tls-pre-shared-key-wanted"
	TLSName          Cause = "tls-name-unknown-to-server"
	TLSALPN          Cause = "tls-alpn"
	TLSFailed        Cause = "tls-failed"
	CertExpired      Cause = "certificate-expired"
	CertNotYet       Cause = "certificate-not-yet-valid"
	CertWrongName    Cause = "certificate-wrong-name"
	CertSelfSigned   Cause = "certificate-self-signed"
	CertIncomplete   Cause = "certificate-chain-incomplete"
	CertUnknownCA    Cause = "certificate-unknown-ca"
	CertRenewedCA    Cause = "certificate-ca-renewed"
	CertRefused      Cause = "certificate-refused"
	ClientCertWanted Cause = "client-certificate-wanted"
	ClientCertOld    Cause = "client-certificate-expired"
	ClientCertCA     Cause = "client-certificate-unknown-ca"
	ClientCertUse    Cause = "client-certificate-wrong-use"
	ClientCertKey    Cause = "client-certificate-wrong-key"
	ClientCertRevoke Cause = "client-certificate-revoked"
	ClientCertBad    Cause = "client-certificate-refused"
	WrongPath        Cause = "websocket-wrong-path"
	NoSubprotocol    Cause = "websocket-no-subprotocol"
	OldSubprotocol   Cause = "websocket-old-subprotocol"
	HTTPLogin        Cause = "http-login-wanted"
	HTTPRedirect     Cause = "http-redirect"
	HTTPGateway      Cause = "http-gateway-without-broker"
	NoUpgrade        Cause = "http-no-upgrade"
	NoConnack        Cause = "no-connack"
	HalfConnack      Cause = "half-connack"
	BrokenConnack    Cause = "broken-connack"
	NotConnack       Cause = "not-a-connack"
	ClosedNoConnack  Cause = "closed-without-connack"
	Version          Cause = "protocol-version"
	ClientID         Cause = "client-id"
	LoginWanted      Cause = "login-wanted"
	WrongLogin       Cause = "wrong-login"
	NotAuthorised    Cause = "not-authorised"
	Unavailable      Cause = "server-unavailable"
	Busy             Cause = "server-busy"
	Banned           Cause = "banned"
	AuthMethod       Cause = "authentication-method"
	Quota            Cause = "connection-limit"
	Rate             Cause = "connection-rate"
	WillRefused      Cause = "will-refused"
	TooLarge         Cause = "packet-too-large"
	BadPacket        Cause = "packet-not-understood"
	ServerMoved      Cause = "use-another-server"
	UnknownCode      Cause = "undefined-code"
	ServerError      Cause = "server-error"
	ThrownOut        Cause = "thrown-out"
	Unsteady         Cause = "let-in-at-times"
	Cancelled        Cause = "stopped"
)

// chainCauses turns what is wrong with a chain into causes.
var chainCauses = map[trust.ChainCause]Cause{
	trust.ChainExpired: CertExpired, trust.ChainNotYet: CertNotYet, trust.ChainWrongName: CertWrongName,
	trust.ChainOldName: CertWrongName, trust.ChainSelfSigned: CertSelfSigned,
	trust.ChainIncomplete: CertIncomplete, trust.ChainUnknownCA: CertUnknownCA, trust.ChainRenewedCA: CertRenewedCA,
}

// code is what a CONNACK that refuses means: the cause, likely reasons, and what to do.
type code struct {
	cause        Cause
	what, remedy string
}

// codes5 are the reason codes of CONNACK (5.0 §3.2.2.2).
var codes5 = map[packet.ReasonCode]code{
	0x80: {ServerError, "the broker refuses without saying why", "the broker's log tells"},
	0x81: {BadPacket, "the broker could not read our CONNECT", "is it a broker of version 5 at all? try 3.1.1"},
	0x82: {BadPacket, "the broker says that our CONNECT breaks the protocol", "see its log; try 3.1.1"},
	0x83: {
		ServerError,
		"the broker refuses for a reason of its own: often a rule or a plug-in",
		"the broker's log tells",
	},
	0x84: {Version, "the broker does not speak MQTT 5", "use 3.1.1"},
	0x85: {
		ClientID,
		"the broker does not take this client identifier",
		"ask for its rule: length, characters, a prefix, or the certificate's common name",
	},
	0x86: {
		WrongLogin,
		"the broker does not know this user name, or the password is another",
		"compare both letter by letter; was the password file reloaded?",
	},
	0x87: {
		NotAuthorised,
		"the client may not connect: many brokers say this of a wrong password too",
		"compare user name and password letter by letter; look at the rules of this login, client identifier and address",
	},
	0x88: {
		Unavailable,
		"the MQTT service is not available: starting, stopping, or without its store",
		"try again in a while; see the broker's log",
	},
	0x89: {Busy, "the broker is busy", "try again in a while; do all clients come back at once after a restart?"},
	0x8A: {Banned, "the broker has banned this client", "have the ban lifted; was the client reconnecting too fast?"},
	0x8C: {
		AuthMethod,
		"the broker does not know this authentication method, or wants one",
		"ask which method it wants; leave it out, or set method on the login",
	},
	0x90: {WillRefused, "the broker does not allow the will's topic", "choose a topic that the login may publish to"},
	0x95: {TooLarge, "the CONNECT is too large for the broker", "shorten will, user properties or token"},
	0x97: {
		Quota,
		"the broker has as many clients as it may have: a licence, a setting or the limit of open files",
		"close clients that are not needed, or raise the limit",
	},
	0x99: {
		WillRefused,
		"the will's payload does not fit its payload format indicator",
		"mark it as bytes, or send UTF-8",
	},
	0x9A: {WillRefused, "the broker keeps no retained messages, and the will is retained", "do not retain the will"},
	0x9B: {WillRefused, "the broker does not take the will's QoS", "use a lower QoS for the will"},
	0x9C: {ServerMoved, "the broker sends its clients to another server for now", "dial the server that it names"},
	0x9D: {ServerMoved, "the broker has moved for good", "write the server that it names into the settings"},
	0x9F: {
		Rate,
		"clients come faster than the broker allows",
		"wait; let devices come back with a growing, random pause",
	},
}

// codes3 are the return codes of CONNACK in 3.1 and 3.1.1 (3.1.1 §3.2.2.3).
var codes3 = map[packet.ReasonCode]code{
	1: {Version, "the broker does not speak this version of MQTT", "try another: 5, 3.1.1 or 3.1"},
	2: {
		ClientID,
		"the broker does not take this client identifier",
		"ask for its rule: length (23 in 3.1), characters, a prefix; an empty one needs a clean session",
	},
	3: {
		Unavailable,
		"the MQTT service is not available: starting, stopping, full, or without its store",
		"try again in a while; is it at a limit of connections? see the broker's log",
	},
	4: {
		WrongLogin,
		"user name or password are wrong, or are not written as the broker wants them",
		"compare both letter by letter; was the password file reloaded?",
	},
	5: {
		NotAuthorised,
		"the client may not connect: many brokers say this of a wrong password too",
		"compare user name and password letter by letter; look at the rules of this login, client identifier and address",
	},
}

// refused diagnoses a CONNACK that refuses.
func refused(c packet.ReasonCode, v packet.Version, withLogin bool, reason, server string) *Diagnosis {
	table := codes3
	if v == packet.V5 {
		table = codes5
	}
	d := &Diagnosis{Seen: fmt.Sprintf("CONNACK %s, %s", c.Code(packet.CONNACK, v), c.In(packet.CONNACK, v))}
	known, ok := table[c]
	if v == packet.V5 && !ok && c >= 1 && c <= 5 { // brokers that know no version 5 answer so
		known, ok = codes3[c], true
	}
	if !ok {
		known = code{
			UnknownCode,
			"the broker refuses with a code that the standard does not have for CONNACK",
			"is it a broker of another version? try 3.1.1",
		}
	}
	d.Cause, d.What, d.Remedy = known.cause, known.what, known.remedy
	if !withLogin && (d.Cause == NotAuthorised || d.Cause == WrongLogin) {
		d.Cause, d.What, d.Remedy = LoginWanted, "the broker does not let this client in without a login",
			"give user name and password: 'login' on the broker in a workspace, --username on the command line; if it takes clients without, it may have a rule for client identifiers (--client-id)"
	}
	if reason != "" {
		d.Seen += fmt.Sprintf(", %q", clip(reason))
	}
	if server != "" {
		d.What += ": " + clip(server)
		d.Seen += ", server reference " + clip(server)
	}
	return d
}

// clip keeps a server's own words to a line.
func clip(s string) string {
	const most = 120
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(s, "·"))
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}
