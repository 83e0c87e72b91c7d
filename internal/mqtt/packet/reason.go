package packet

import "fmt"

// ReasonCode is the one-byte outcome of an operation in version 5 (5.0 §2.4). In
// CONNACK and SUBACK of the older versions the field holds their return code
// (3.1.1 §3.2.2.3, §3.9.3).
type ReasonCode byte

// The reason codes of 5.0 §2.4 that Hodstone names in its own code.
const (
	Success                    ReasonCode = 0x00
	DisconnectWithWill         ReasonCode = 0x04
	NoMatchingSubscribers      ReasonCode = 0x10
	NoSubscriptionExisted      ReasonCode = 0x11
	ContinueAuthentication     ReasonCode = 0x18
	ReAuthenticate             ReasonCode = 0x19
	UnspecifiedError           ReasonCode = 0x80
	MalformedPacket            ReasonCode = 0x81
	ProtocolError              ReasonCode = 0x82
	UnsupportedProtocolVersion ReasonCode = 0x84
	ClientIDNotValid           ReasonCode = 0x85
	BadUserNameOrPassword      ReasonCode = 0x86
	NotAuthorized              ReasonCode = 0x87
	ServerUnavailable          ReasonCode = 0x88
	ServerBusy                 ReasonCode = 0x89
	ServerShuttingDown         ReasonCode = 0x8B
	BadAuthenticationMethod    ReasonCode = 0x8C
	KeepAliveTimeout           ReasonCode = 0x8D
	SessionTakenOver           ReasonCode = 0x8E
	TopicFilterInvalid         ReasonCode = 0x8F
	TopicNameInvalid           ReasonCode = 0x90
	PacketIDInUse              ReasonCode = 0x91
	PacketIDNotFound           ReasonCode = 0x92
	ReceiveMaximumExceeded     ReasonCode = 0x93
	TopicAliasInvalid          ReasonCode = 0x94
	PacketTooLarge             ReasonCode = 0x95
	QuotaExceeded              ReasonCode = 0x97
	AdministrativeAction       ReasonCode = 0x98
	PayloadFormatInvalid       ReasonCode = 0x99
	RetainNotSupported         ReasonCode = 0x9A
	QoSNotSupported            ReasonCode = 0x9B
	UseAnotherServer           ReasonCode = 0x9C
	SharedNotSupported         ReasonCode = 0x9E
	ConnectionRateExceeded     ReasonCode = 0x9F
	SubIDsNotSupported         ReasonCode = 0xA1
	WildcardNotSupported       ReasonCode = 0xA2
)

// The CONNACK return codes of 3.1 and 3.1.1 (3.1.1 §3.2.2.3).
const (
	RefusedVersion     ReasonCode = 1
	RefusedIdentifier  ReasonCode = 2
	RefusedUnavailable ReasonCode = 3
	RefusedLogin       ReasonCode = 4
	RefusedRights      ReasonCode = 5
)

// SubackFailure is the SUBACK return code for a refused filter (3.1.1 §3.9.3).
const SubackFailure ReasonCode = 0x80

// reasonNames is the table of 5.0 §2.4; where one value has several names, the
// one for the packet at hand is chosen by [ReasonCode.In].
var reasonNames = map[ReasonCode]string{
	0x00: "success", 0x01: "granted QoS 1", 0x02: "granted QoS 2", 0x04: "disconnect with will message",
	0x10: "no matching subscribers", 0x11: "no subscription existed", 0x18: "continue authentication",
	0x19: "re-authenticate", 0x80: "unspecified error", 0x81: "malformed packet", 0x82: "protocol error",
	0x83: "implementation specific error", 0x84: "unsupported protocol version",
	0x85: "client identifier not valid", 0x86: "bad user name or password", 0x87: "not authorized",
	0x88: "server unavailable", 0x89: "server busy", 0x8A: "banned", 0x8B: "server shutting down",
	0x8C: "bad authentication method", 0x8D: "keep alive timeout", 0x8E: "session taken over",
	0x8F: "topic filter invalid", 0x90: "topic name invalid", 0x91: "packet identifier in use",
	0x92: "packet identifier not found", 0x93: "receive maximum exceeded", 0x94: "topic alias invalid",
	0x95: "packet too large", 0x96: "message rate too high", 0x97: "quota exceeded",
	0x98: "administrative action", 0x99: "payload format invalid", 0x9A: "retain not supported",
	0x9B: "QoS not supported", 0x9C: "use another server", 0x9D: "server moved",
	0x9E: "shared subscriptions not supported", 0x9F: "connection rate exceeded",
	0xA0: "maximum connect time", 0xA1: "subscription identifiers not supported",
	0xA2: "wildcard subscriptions not supported",
}

var connectReturnNames = [...]string{
	"accepted", "unacceptable protocol version", "identifier rejected", "server unavailable",
	"bad user name or password", "not authorized",
}

// In says what the code means in a packet of the type and version.
func (r ReasonCode) In(t Type, v Version) string {
	if v != V5 {
		switch {
		case t == CONNACK && int(r) < len(connectReturnNames):
			return connectReturnNames[r]
		case t == SUBACK && r <= 2:
			return fmt.Sprintf("granted QoS %d", r)
		case t == SUBACK && r == SubackFailure:
			return "refused"
		}
		return "not defined by the standard"
	}
	switch {
	case t == SUBACK && r == 0:
		return "granted QoS 0"
	case t == DISCONNECT && r == 0:
		return "normal disconnection"
	}
	if name, ok := reasonNames[r]; ok {
		return name
	}
	return "not defined by the standard"
}

// Code writes the value as the standards do: "0x87" in version 5 and in SUBACK,
// a plain number in a CONNACK of the older versions.
func (r ReasonCode) Code(t Type, v Version) string {
	if v != V5 && t == CONNACK {
		return fmt.Sprintf("%d", byte(r))
	}
	return fmt.Sprintf("0x%02X", byte(r))
}

// Failed tells whether the code stands for a refusal or error (5.0 §2.4: 0x80 and
// above; any return code but 0 in a CONNACK of the older versions).
func (r ReasonCode) Failed(t Type, v Version) bool {
	if v != V5 && t == CONNACK {
		return r != 0
	}
	return r >= 0x80
}

// allowedCodes lists, per packet, the reason codes that 5.0 allows there
// (§3.2.2.2, §3.4.2.1, §3.5.2.1, §3.6.2.1, §3.7.2.1, §3.9.3, §3.11.3, §3.14.2.1, §3.15.2.1).
var allowedCodes = map[Type]string{
	CONNACK: "\x00\x80\x81\x82\x83\x84\x85\x86\x87\x88\x89\x8A\x8C\x90\x95\x97\x99\x9A\x9B\x9C\x9D\x9F",
	PUBACK:  "\x00\x10\x80\x83\x87\x90\x91\x97\x99",
	PUBREC:  "\x00\x10\x80\x83\x87\x90\x91\x97\x99",
	PUBREL:  "\x00\x92", PUBCOMP: "\x00\x92",
	SUBACK:     "\x00\x01\x02\x80\x83\x87\x8F\x91\x97\x9E\xA1\xA2",
	UNSUBACK:   "\x00\x11\x80\x83\x87\x8F\x91",
	DISCONNECT: "\x00\x04\x80\x81\x82\x83\x87\x89\x8B\x8D\x8E\x8F\x90\x93\x94\x95\x96\x97\x98\x99\x9A\x9B\x9C\x9D\x9E\x9F\xA0\xA1\xA2",
	AUTH:       "\x00\x18\x19",
}

// allowedIn tells whether the standard defines the code for the packet.
func (r ReasonCode) allowedIn(t Type, v Version) bool {
	if v != V5 {
		return t == CONNACK && r <= 5 || t == SUBACK && (r <= 2 || r == SubackFailure)
	}
	codes := allowedCodes[t]
	for i := range len(codes) {
		if codes[i] == byte(r) {
			return true
		}
	}
	return false
}
