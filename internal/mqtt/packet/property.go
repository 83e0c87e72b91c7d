package packet

import (
	"fmt"
	"iter"
)

// PropertyID names a property of version 5 (5.0 §2.2.2.2, table 2-4).
type PropertyID byte

// The properties of 5.0 §2.2.2.2.
const (
	PayloadFormat          PropertyID = 0x01
	MessageExpiry          PropertyID = 0x02
	ContentType            PropertyID = 0x03
	ResponseTopic          PropertyID = 0x08
	CorrelationData        PropertyID = 0x09
	SubscriptionIdentifier PropertyID = 0x0B
	SessionExpiry          PropertyID = 0x11
	AssignedClientID       PropertyID = 0x12
	ServerKeepAlive        PropertyID = 0x13
	AuthMethod             PropertyID = 0x15
	AuthData               PropertyID = 0x16
	RequestProblemInfo     PropertyID = 0x17
	WillDelay              PropertyID = 0x18
	RequestResponseInfo    PropertyID = 0x19
	ResponseInfo           PropertyID = 0x1A
	ServerReference        PropertyID = 0x1C
	ReasonString           PropertyID = 0x1F
	ReceiveMaximum         PropertyID = 0x21
	TopicAliasMaximum      PropertyID = 0x22
	TopicAlias             PropertyID = 0x23
	MaximumQoS             PropertyID = 0x24
	RetainAvailable        PropertyID = 0x25
	UserProperty           PropertyID = 0x26
	MaximumPacketSize      PropertyID = 0x27
	WildcardAvailable      PropertyID = 0x28
	SubIDAvailable         PropertyID = 0x29
	SharedAvailable        PropertyID = 0x2A
)

// kind is how a property's value is encoded (5.0 §1.5).
type kind byte

const (
	kByte kind = iota + 1
	kFlag      // a byte that may only be 0 or 1
	kU16
	kU32
	kVarint
	kString
	kBinary
	kPair
)

// onWill stands, beside the packet types, for the will's properties (5.0 §3.1.3.2).
const onWill Type = 0

// propertySpec is a row of table 2-4, with the value rules of the section it names.
type propertySpec struct {
	name    string
	kind    kind
	in      uint16 // bit n is set where packet type n may carry it; bit 0 is the will
	nonZero bool   // 0 is a protocol error
	section string
}

func in(types ...Type) (bits uint16) {
	for _, t := range types {
		bits |= 1 << t
	}
	return bits
}

var propertySpecs = map[PropertyID]propertySpec{
	PayloadFormat:          {"payload format indicator", kFlag, in(PUBLISH, onWill), false, "3.3.2.3.2"},
	MessageExpiry:          {"message expiry interval", kU32, in(PUBLISH, onWill), false, "3.3.2.3.3"},
	ContentType:            {"content type", kString, in(PUBLISH, onWill), false, "3.3.2.3.9"},
	ResponseTopic:          {"response topic", kString, in(PUBLISH, onWill), false, "3.3.2.3.5"},
	CorrelationData:        {"correlation data", kBinary, in(PUBLISH, onWill), false, "3.3.2.3.6"},
	SubscriptionIdentifier: {"subscription identifier", kVarint, in(PUBLISH, SUBSCRIBE), true, "3.8.2.1.2"},
	SessionExpiry:          {"session expiry interval", kU32, in(CONNECT, CONNACK, DISCONNECT), false, "3.1.2.11.2"},
	AssignedClientID:       {"assigned client identifier", kString, in(CONNACK), false, "3.2.2.3.7"},
	ServerKeepAlive:        {"server keep alive", kU16, in(CONNACK), false, "3.2.2.3.14"},
	AuthMethod:             {"authentication method", kString, in(CONNECT, CONNACK, AUTH), false, "3.1.2.11.9"},
	AuthData:               {"authentication data", kBinary, in(CONNECT, CONNACK, AUTH), false, "3.1.2.11.10"},
	RequestProblemInfo:     {"request problem information", kFlag, in(CONNECT), false, "3.1.2.11.7"},
	WillDelay:              {"will delay interval", kU32, in(onWill), false, "3.1.3.2.2"},
	RequestResponseInfo:    {"request response information", kFlag, in(CONNECT), false, "3.1.2.11.6"},
	ResponseInfo:           {"response information", kString, in(CONNACK), false, "3.2.2.3.15"},
	ServerReference:        {"server reference", kString, in(CONNACK, DISCONNECT), false, "3.2.2.3.16"},
	ReasonString: {"reason string", kString,
		in(CONNACK, PUBACK, PUBREC, PUBREL, PUBCOMP, SUBACK, UNSUBACK, DISCONNECT, AUTH), false, "3.2.2.3.9"},
	ReceiveMaximum:    {"receive maximum", kU16, in(CONNECT, CONNACK), true, "3.1.2.11.3"},
	TopicAliasMaximum: {"topic alias maximum", kU16, in(CONNECT, CONNACK), false, "3.1.2.11.5"},
	TopicAlias:        {"topic alias", kU16, in(PUBLISH), true, "3.3.2.3.4"},
	MaximumQoS:        {"maximum QoS", kFlag, in(CONNACK), false, "3.2.2.3.4"},
	RetainAvailable:   {"retain available", kFlag, in(CONNACK), false, "3.2.2.3.5"},
	UserProperty: {"user property", kPair, in(CONNECT, CONNACK, PUBLISH, onWill, PUBACK, PUBREC, PUBREL, PUBCOMP,
		SUBSCRIBE, SUBACK, UNSUBSCRIBE, UNSUBACK, DISCONNECT, AUTH), false, "3.1.2.11.8"},
	MaximumPacketSize: {"maximum packet size", kU32, in(CONNECT, CONNACK), true, "3.1.2.11.4"},
	WildcardAvailable: {"wildcard subscription available", kFlag, in(CONNACK), false, "3.2.2.3.11"},
	SubIDAvailable:    {"subscription identifiers available", kFlag, in(CONNACK), false, "3.2.2.3.12"},
	SharedAvailable:   {"shared subscription available", kFlag, in(CONNACK), false, "3.2.2.3.13"},
}

// String returns the standard's name of the property, in small letters.
func (id PropertyID) String() string {
	if s, ok := propertySpecs[id]; ok {
		return s.name
	}
	return fmt.Sprintf("property 0x%02X", byte(id))
}

// Property is one property as it stands on the wire. Which field holds its value
// follows from ID: Int for numbers, Value for strings and binary data, Key and
// Value for a user property.
type Property struct {
	ID    PropertyID
	Int   uint32
	Key   string
	Value string
}

// Int makes a property with a number; Str one with a string or binary data.
func Int(id PropertyID, n uint32) Property { return Property{ID: id, Int: n} }

// Str makes a property whose value is a string or binary data.
func Str(id PropertyID, s string) Property { return Property{ID: id, Value: s} }

// User makes a user property (5.0 §3.1.2.11.8).
func User(key, value string) Property { return Property{ID: UserProperty, Key: key, Value: value} }

// Show writes the value for people; authentication data is never shown.
func (p Property) Show() string {
	switch propertySpecs[p.ID].kind {
	case kString:
		return fmt.Sprintf("%q", p.Value)
	case kBinary:
		if p.ID == AuthData {
			return "•••"
		}
		return fmt.Sprintf("% x", p.Value)
	case kPair:
		return fmt.Sprintf("%q = %q", p.Key, p.Value)
	}
	return fmt.Sprint(p.Int)
}

// Properties are a packet's properties in the order in which they stand on the wire.
type Properties []Property

// Int returns the number in the first property with the id, and whether there is one.
func (ps Properties) Int(id PropertyID) (uint32, bool) {
	for i := range ps {
		if ps[i].ID == id {
			return ps[i].Int, true
		}
	}
	return 0, false
}

// IntOr returns the number in the first property with the id, or def without one.
func (ps Properties) IntOr(id PropertyID, def uint32) uint32 {
	if n, ok := ps.Int(id); ok {
		return n
	}
	return def
}

// Str returns the string or binary data of the first property with the id, and
// whether there is one.
func (ps Properties) Str(id PropertyID) (string, bool) {
	for i := range ps {
		if ps[i].ID == id {
			return ps[i].Value, true
		}
	}
	return "", false
}

// All yields every property with the id, in order.
func (ps Properties) All(id PropertyID) iter.Seq[Property] {
	return func(yield func(Property) bool) {
		for _, p := range ps {
			if p.ID == id && !yield(p) {
				return
			}
		}
	}
}

// Without returns a copy that leaves out the properties with the ids.
func (ps Properties) Without(ids ...PropertyID) Properties {
	var out Properties
next:
	for _, p := range ps {
		for _, id := range ids {
			if p.ID == id {
				continue next
			}
		}
		out = append(out, p)
	}
	return out
}

func clip(n int) int { return min(n, maxField) }

// size is the number of bytes of the properties without their length field.
func (ps Properties) size() (n int) {
	for i := range ps {
		p := &ps[i]
		n++
		switch propertySpecs[p.ID].kind {
		case kByte, kFlag:
			n++
		case kU16:
			n += 2
		case kU32:
			n += 4
		case kVarint:
			n += varintSize(p.Int)
		case kString, kBinary:
			n += 2 + clip(len(p.Value))
		case kPair:
			n += 4 + clip(len(p.Key)) + clip(len(p.Value))
		}
	}
	return n
}

// fullSize adds the length field; it is 0 in the versions without properties.
func (ps Properties) fullSize(v Version) int {
	if v != V5 {
		return 0
	}
	if len(ps) == 0 {
		return 1
	}
	n := ps.size()
	return varintSize(uint32(n)) + n
}

func (ps Properties) append(dst []byte, v Version) []byte {
	if v != V5 {
		return dst
	}
	if len(ps) == 0 {
		return append(dst, 0)
	}
	dst = appendVarint(dst, uint32(ps.size()))
	for i := range ps {
		p := &ps[i]
		dst = append(dst, byte(p.ID))
		switch propertySpecs[p.ID].kind {
		case kByte, kFlag:
			dst = append(dst, byte(p.Int))
		case kU16:
			dst = appendU16(dst, uint16(p.Int))
		case kU32:
			dst = append(dst, byte(p.Int>>24), byte(p.Int>>16), byte(p.Int>>8), byte(p.Int))
		case kVarint:
			dst = appendVarint(dst, p.Int)
		case kString, kBinary:
			dst = appendString(dst, p.Value)
		case kPair:
			dst = appendString(appendString(dst, p.Key), p.Value)
		}
	}
	return dst
}

func varintSize(n uint32) int {
	switch {
	case n < 1<<7:
		return 1
	case n < 1<<14:
		return 2
	case n < 1<<21:
		return 3
	}
	return 4
}

// appendVarint writes a variable byte integer (3.1.1 §2.2.3, 5.0 §1.5.5).
func appendVarint(dst []byte, n uint32) []byte {
	for n >= 0x80 {
		dst = append(dst, byte(n)|0x80)
		n >>= 7
	}
	return append(dst, byte(n))
}

func appendU16(dst []byte, n uint16) []byte { return append(dst, byte(n>>8), byte(n)) }

func appendString(dst []byte, s string) []byte {
	s = s[:clip(len(s))]
	return append(appendU16(dst, uint16(len(s))), s...)
}
