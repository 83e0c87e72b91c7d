package packet

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
	"unsafe"
)

// Error tells where a packet breaks a rule of the standard.
type Error struct {
	// Packet is the packet's type as far as it could be told.
	Packet Type
	// Offset is where in the packet, in bytes from its first, the rule is broken.
	Offset int
	// Rule says what is wrong, in plain words.
	Rule string
	// Section is the place in the standard, such as "3.1.1 §2.2.3".
	Section string
	// Code is the reason code that version 5 gives the case: [MalformedPacket],
	// [ProtocolError] or a more exact one.
	Code ReasonCode
}

// Error writes all of it on one line.
func (e *Error) Error() string {
	return fmt.Sprintf("%s, byte %d: %s (MQTT %s)", e.Packet, e.Offset, e.Rule, e.Section)
}

// Span is a stretch of a packet's bytes and what it means.
type Span struct {
	Start, End int    // bytes from the packet's first, End excluded
	Name       string // the field's name in the standard
	Value      string // its value for people
	Secret     bool   // a password or authentication data: never show these bytes
}

// Mode tells how much a decoder puts up with.
type Mode bool

const (
	// Strict refuses every packet that breaks a rule, as a server or client must (§4.8, 5.0 §4.13).
	Strict Mode = false
	// Lenient returns the packet together with the first broken rule wherever
	// its parts can still be told apart, as a watcher needs it.
	Lenient Mode = true
)

// cursor walks over one packet. Its first structural error sticks: afterwards every
// read returns zero. In lenient mode a broken rule that leaves the structure
// readable is kept in violation instead.
type cursor struct {
	b         []byte
	pos, end  int
	v         Version
	typ       Type
	mode      Mode
	spans     *[]Span
	err       *Error
	violation *Error
}

func (c *cursor) newError(at int, code ReasonCode, section, rule string) *Error {
	std := "3.1.1"
	if c.v == V5 {
		std = "5.0"
	}
	// A section may be given as "3.1.1's|5.0's" where the two differ.
	if a, b, ok := strings.Cut(section, "|"); ok {
		section = a
		if c.v == V5 {
			section = b
		}
	}
	return &Error{Packet: c.typ, Offset: at, Rule: rule, Section: std + " §" + section, Code: code}
}

// fail records an error after which nothing more can be read.
func (c *cursor) fail(at int, code ReasonCode, section, rule string) {
	if c.err == nil {
		c.err = c.newError(at, code, section, rule)
	}
	c.pos = c.end
}

// wrong records a broken rule; a lenient cursor reads on.
func (c *cursor) wrong(at int, code ReasonCode, section, rule string) {
	if c.mode == Strict {
		c.fail(at, code, section, rule)
	} else if c.violation == nil && c.err == nil {
		c.violation = c.newError(at, code, section, rule)
	}
}

func (c *cursor) span(start int, name string, value string) {
	if c.spans != nil && c.err == nil {
		*c.spans = append(*c.spans, Span{Start: start, End: c.pos, Name: name, Value: value})
	}
}

// says formats a span's value only when someone wants it.
func (c *cursor) says(format string, args ...any) string {
	if c.spans == nil {
		return ""
	}
	return fmt.Sprintf(format, args...)
}

func (c *cursor) left() int { return c.end - c.pos }

func (c *cursor) need(n int, name string) bool {
	if c.err != nil {
		return false
	}
	if c.left() < n {
		c.fail(c.pos, MalformedPacket, "2.2.3|2.1.4", "the packet ends inside the "+name)
		return false
	}
	return true
}

func (c *cursor) rawByte(name string) byte {
	if !c.need(1, name) {
		return 0
	}
	c.pos++
	return c.b[c.pos-1]
}

func (c *cursor) rawU16(name string) uint16 {
	if !c.need(2, name) {
		return 0
	}
	c.pos += 2
	return uint16(c.b[c.pos-2])<<8 | uint16(c.b[c.pos-1])
}

func (c *cursor) u16(name string) uint16 {
	at := c.pos
	n := c.rawU16(name)
	if c.spans != nil {
		c.span(at, name, c.says("%d", n))
	}
	return n
}

// packetID reads a packet identifier, which is never 0 (3.1.1 §2.3.1, 5.0 §2.2.1).
func (c *cursor) packetID() uint16 {
	at := c.pos
	id := c.u16("packet identifier")
	if id == 0 && c.err == nil {
		c.wrong(at, ProtocolError, "2.3.1|2.2.1", "the packet identifier is 0")
	}
	return id
}

// varint reads a variable byte integer (3.1.1 §2.2.3, 5.0 §1.5.5).
func (c *cursor) varint(name string) uint32 {
	at := c.pos
	var n uint32
	for shift := 0; ; shift += 7 {
		b := c.rawByte(name)
		if c.err != nil {
			return 0
		}
		n |= uint32(b&0x7f) << shift
		if b < 0x80 {
			if b == 0 && shift > 0 {
				c.wrong(at, MalformedPacket, "2.2.3|1.5.5", "the "+name+" is not in its shortest form")
			}
			return n
		}
		if shift == 21 {
			c.fail(at, MalformedPacket, "2.2.3|1.5.5", "the "+name+" is longer than four bytes")
			return 0
		}
	}
}

// rawBytes reads a field with a two-byte length; the result shares the packet's memory.
func (c *cursor) rawBytes(name string) []byte {
	at := c.pos
	n := int(c.rawU16(name))
	if c.err != nil {
		return nil
	}
	if c.left() < n {
		c.fail(at, MalformedPacket, "1.5.3|1.5.4", "the "+name+" is longer than the packet")
		return nil
	}
	c.pos += n
	return c.b[c.pos-n : c.pos : c.pos]
}

func (c *cursor) binary(name string, secret bool) string {
	at := c.pos
	b := c.rawBytes(name)
	if c.spans != nil && c.err == nil {
		c.secretSpan(at, name, b, secret)
	}
	return text(b)
}

func (c *cursor) secretSpan(at int, name string, b []byte, secret bool) {
	value := c.says("%d bytes: %s", len(b), hexStart(b))
	if secret {
		value = c.says("%d bytes, hidden", len(b))
		*c.spans = append(*c.spans, Span{Start: at, End: at + 2, Name: name + " length", Value: c.says("%d", len(b))})
		at += 2
	}
	*c.spans = append(*c.spans, Span{Start: at, End: c.pos, Name: name, Value: value, Secret: secret})
}

func hexStart(b []byte) string {
	if len(b) > 16 {
		return fmt.Sprintf("% x …", b[:16])
	}
	return fmt.Sprintf("% x", b)
}

// str reads a UTF-8 string and checks it (3.1.1 §1.5.3, 5.0 §1.5.4).
func (c *cursor) str(name string) string {
	at := c.pos
	b := c.rawBytes(name)
	if c.err != nil {
		return ""
	}
	c.checkText(at+2, name, b)
	if c.spans != nil { // on the way of every PUBLISH: nothing may be boxed for says
		c.span(at, name, c.says("%q", b))
	}
	if len(c.b) > sharedFrame {
		return string(b)
	}
	return text(b)
}

// sharedFrame is how large a packet may be for its texts to share its memory: a topic that is kept
// must not hold a large payload with it.
const sharedFrame = 2 << 10

func (c *cursor) checkText(at int, name string, b []byte) {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		c.wrong(at+i, MalformedPacket, "1.5.3|1.5.4", "the "+name+" holds U+0000")
		return
	}
	if utf8.Valid(b) {
		return
	}
	for i := 0; ; {
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 {
			c.wrong(at+i, MalformedPacket, "1.5.3|1.5.4", "the "+name+" is not well-formed UTF-8")
			return
		}
		i += n
	}
}

// text returns b as a string that shares its memory; packets promise not to change it.
func text(b []byte) string {
	if len(b) == 0 {
		return ""
	}
	return unsafe.String(&b[0], len(b))
}

// properties reads a property list for the packet, or for the will where on is [onWill].
func (c *cursor) properties(on Type) Properties {
	if c.v != V5 || c.err != nil {
		return nil
	}
	at := c.pos
	length := int(c.varint("property length"))
	if c.err != nil {
		return nil
	}
	if c.left() < length {
		c.fail(at, MalformedPacket, "2.2.2.1", "the properties are longer than the packet")
		return nil
	}
	if c.spans != nil {
		c.span(at, "property length", c.says("%d", length))
	}
	if length == 0 {
		return nil
	}
	outer := c.end
	c.end = c.pos + length
	var seen uint64
	// A property takes at least two bytes, so a hostile length cannot make this large.
	var ps Properties
	for c.err == nil && c.pos < c.end {
		p, ok := c.property(on, &seen)
		if ok {
			ps = append(ps, p)
		}
	}
	c.end = outer
	if c.err != nil {
		c.pos = c.end
	}
	return ps
}

func (c *cursor) property(on Type, seen *uint64) (p Property, ok bool) {
	at := c.pos
	id := PropertyID(c.rawByte("property identifier"))
	spec, known := propertySpecs[id]
	if !known {
		c.fail(at, MalformedPacket, "2.2.2.2", fmt.Sprintf("property identifier 0x%02X is not defined", byte(id)))
		return p, false
	}
	if spec.in&(1<<on) == 0 {
		where := on.String()
		if on == onWill {
			where = "a will"
		}
		c.wrong(at, ProtocolError, "2.2.2.2", spec.name+" does not belong into "+where)
	}
	// User properties may repeat; so may subscription identifiers in a PUBLISH (5.0 §3.3.2.3.8).
	if *seen&(1<<id) != 0 && id != UserProperty && (id != SubscriptionIdentifier || on != PUBLISH) {
		c.wrong(at, ProtocolError, spec.section, spec.name+" stands there twice")
	}
	*seen |= 1 << id
	p.ID = id
	switch spec.kind {
	case kByte, kFlag:
		p.Int = uint32(c.rawByte(spec.name))
		if spec.kind == kFlag && p.Int > 1 {
			c.wrong(at+1, ProtocolError, spec.section, fmt.Sprintf("%s is %d; it may be 0 or 1", spec.name, p.Int))
		}
	case kU16:
		p.Int = uint32(c.rawU16(spec.name))
	case kU32:
		p.Int = uint32(c.rawU16(spec.name)) << 16
		p.Int |= uint32(c.rawU16(spec.name))
	case kVarint:
		p.Int = c.varint(spec.name)
	case kString:
		b := c.rawBytes(spec.name)
		c.checkText(at+3, spec.name, b)
		p.Value = text(b)
		if id == ResponseTopic && strings.ContainsAny(p.Value, "+#") {
			c.wrong(at+3, ProtocolError, spec.section, "the response topic holds a wildcard")
		}
	case kBinary:
		if id == AuthData && c.spans != nil {
			c.span(at, "authentication data", "")
			p.Value = c.binary("authentication data", true)
			return p, c.err == nil
		}
		p.Value = text(c.rawBytes(spec.name))
	case kPair:
		k, v := c.rawBytes(spec.name), c.rawBytes(spec.name)
		c.checkText(at+3, spec.name, k)
		c.checkText(at+5+len(k), spec.name, v)
		p.Key, p.Value = text(k), text(v)
	}
	if c.err != nil {
		return p, false
	}
	if spec.nonZero && p.Int == 0 {
		c.wrong(at+1, ProtocolError, spec.section, spec.name+" is 0")
	}
	if c.spans != nil {
		c.span(at, spec.name, p.Show())
	}
	return p, c.err == nil
}

// code reads a reason or return code and checks that the packet may carry it.
func (c *cursor) code(name string) ReasonCode {
	at := c.pos
	r := ReasonCode(c.rawByte(name))
	if c.err != nil {
		return 0
	}
	if !r.allowedIn(c.typ, c.v) {
		c.wrong(at, ProtocolError, "4.8|2.4", fmt.Sprintf("%s 0x%02X is not defined for %s", name, byte(r), c.typ))
	}
	c.span(at, name, c.says("%s %s", r.Code(c.typ, c.v), r.In(c.typ, c.v)))
	return r
}
