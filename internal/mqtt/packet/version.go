// Package packet turns bytes into MQTT control packets and back, for versions 3.1,
// 3.1.1 and 5, and says of every byte what it means.
//
// One description of each packet serves decoding and [Annotate] alike, so what a
// person reads beside the bytes is what the program understood. Section numbers in
// comments and errors are those of the OASIS standards: "3.1.1" for MQTT Version
// 3.1.1 (29 October 2014), "5.0" for MQTT Version 5.0 (7 March 2019).
package packet

import "fmt"

// Version is the protocol level that CONNECT carries (3.1.1 §3.1.2.2, 5.0 §3.1.2.2).
type Version byte

// The protocol levels that Hodstone speaks.
const (
	V31  Version = 3
	V311 Version = 4
	V5   Version = 5
)

// String returns the version as people write it: "3.1", "3.1.1" or "5".
func (v Version) String() string {
	switch v {
	case V31:
		return "3.1"
	case V311:
		return "3.1.1"
	case V5:
		return "5"
	}
	return fmt.Sprintf("level %d", byte(v))
}

// ParseVersion reads what String writes; "5.0" is taken for "5" too.
func ParseVersion(s string) (Version, error) {
	switch s {
	case "3.1":
		return V31, nil
	case "3.1.1":
		return V311, nil
	case "5", "5.0":
		return V5, nil
	}
	return 0, fmt.Errorf("protocol version %q is not known: use 3.1, 3.1.1 or 5", s)
}

// protocolName is the name that CONNECT carries for the version
// (3.1.1 §3.1.2.1, 5.0 §3.1.2.1; "MQIsdp" in 3.1).
func (v Version) protocolName() string {
	if v == V31 {
		return "MQIsdp"
	}
	return "MQTT"
}

// Type is the control packet type, bits 7 to 4 of the first byte (§2.2.1, 5.0 §2.1.2).
type Type byte

// The control packet types.
const (
	CONNECT     Type = 1
	CONNACK     Type = 2
	PUBLISH     Type = 3
	PUBACK      Type = 4
	PUBREC      Type = 5
	PUBREL      Type = 6
	PUBCOMP     Type = 7
	SUBSCRIBE   Type = 8
	SUBACK      Type = 9
	UNSUBSCRIBE Type = 10
	UNSUBACK    Type = 11
	PINGREQ     Type = 12
	PINGRESP    Type = 13
	DISCONNECT  Type = 14
	AUTH        Type = 15
)

var typeNames = [16]string{
	"type 0", "CONNECT", "CONNACK", "PUBLISH", "PUBACK", "PUBREC", "PUBREL", "PUBCOMP",
	"SUBSCRIBE", "SUBACK", "UNSUBSCRIBE", "UNSUBACK", "PINGREQ", "PINGRESP", "DISCONNECT", "AUTH",
}

// String returns the standard's name of the packet, in capitals.
func (t Type) String() string { return typeNames[t&15] }

// flags returns the fixed values of bits 3 to 0 for every type but PUBLISH
// (3.1.1 §2.2.2, 5.0 §2.1.3).
func (t Type) flags() byte {
	switch t {
	case PUBREL, SUBSCRIBE, UNSUBSCRIBE:
		return 2
	}
	return 0
}

// QoS is the quality of service of a message or subscription (§4.3).
type QoS byte

// Packet is one MQTT control packet. The concrete types are *[Connect], *[Connack],
// *[Publish], *[Puback], *[Pubrec], *[Pubrel], *[Pubcomp], *[Subscribe], *[Suback],
// *[Unsubscribe], *[Unsuback], *[Pingreq], *[Pingresp], *[Disconnect] and *[Auth].
type Packet interface {
	// Type tells which of the fifteen it is.
	Type() Type
	// Append adds the packet's bytes for the version to dst and returns the longer
	// slice. It allocates nothing when dst has room. It writes what it is told to,
	// even what the standard forbids; [Check] finds that out. Fields longer than
	// their length field can tell are cut at 65,535 bytes.
	Append(dst []byte, v Version) []byte
}

// The limits of the encoding.
const (
	// MaxRemainingLength is the greatest remaining length (3.1.1 §2.2.3, 5.0 §1.5.5).
	MaxRemainingLength = 268_435_455
	// maxField is the longest UTF-8 string or binary field (3.1.1 §1.5.3, 5.0 §1.5.4).
	maxField = 65_535
)
