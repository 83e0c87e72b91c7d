package packet

import "strings"

// Publish carries an application message, either way (§3.3).
type Publish struct {
	Dup        bool
	QoS        QoS
	Retain     bool
	Topic      string
	ID         uint16 // only at QoS 1 and 2
	Properties Properties
	Payload    []byte
}

// Type returns [PUBLISH].
func (*Publish) Type() Type { return PUBLISH }

// Append implements [Packet].
func (p *Publish) Append(dst []byte, v Version) []byte {
	n := 2 + clip(len(p.Topic)) + p.Properties.fullSize(v) + len(p.Payload)
	flags := byte(p.QoS&3) << 1
	if p.Dup {
		flags |= 8
	}
	if p.Retain {
		flags |= 1
	}
	if p.QoS > 0 {
		n += 2
	}
	dst = appendString(appendHeader(dst, PUBLISH, flags, n), p.Topic)
	if p.QoS > 0 {
		dst = appendU16(dst, p.ID)
	}
	return append(p.Properties.append(dst, v), p.Payload...)
}

func (p *Publish) decode(c *cursor, flags byte) {
	p.Dup, p.QoS, p.Retain = flags&8 != 0, QoS(flags>>1&3), flags&1 != 0
	if p.QoS == 3 {
		c.wrong(0, MalformedPacket, "3.3.1.2", "QoS 3")
	}
	if p.Dup && p.QoS == 0 {
		c.wrong(0, MalformedPacket, "3.3.1.1", "DUP is set at QoS 0")
	}
	at := c.pos
	p.Topic = c.str("topic name")
	if c.err != nil {
		return
	}
	if p.QoS > 0 {
		p.ID = c.packetID()
	}
	p.Properties = c.properties(PUBLISH)
	if _, alias := p.Properties.Int(TopicAlias); p.Topic != "" || !alias {
		checkTopicName(c, at+2, p.Topic)
	}
	if c.err != nil {
		return
	}
	at = c.pos
	p.Payload = c.b[c.pos:c.end:c.end]
	c.pos = c.end
	if c.spans != nil {
		c.span(at, "payload", c.says("%d bytes", len(p.Payload)))
	}
}

// checkTopicName holds a topic name to §3.3.2.1 and §4.7.3: at least one character,
// no wildcards. The cursor has checked the UTF-8.
func checkTopicName(c *cursor, at int, name string) {
	if c.err != nil {
		return
	}
	if name == "" {
		c.wrong(at, ProtocolError, "4.7.3", "the topic name is empty")
		return
	}
	i := strings.IndexByte(name, '+') // twice IndexByte is five times as fast as IndexAny
	if hash := strings.IndexByte(name, '#'); i < 0 || hash >= 0 && hash < i {
		i = hash
	}
	if i >= 0 {
		c.wrong(at+i, TopicNameInvalid, "3.3.2.1", "the topic name holds a wildcard")
	}
}

// Ack is what PUBACK, PUBREC, PUBREL and PUBCOMP have in common: the packet identifier
// and, in version 5, a reason code and properties (§3.4 to §3.7).
type Ack struct {
	ID         uint16
	Code       ReasonCode
	Properties Properties
}

// Puback acknowledges a QoS 1 message (§3.4).
type Puback struct{ Ack }

// Pubrec is the first answer to a QoS 2 message (§3.5).
type Pubrec struct{ Ack }

// Pubrel releases a QoS 2 message (§3.6).
type Pubrel struct{ Ack }

// Pubcomp completes a QoS 2 message (§3.7).
type Pubcomp struct{ Ack }

// Type returns [PUBACK].
func (*Puback) Type() Type { return PUBACK }

// Type returns [PUBREC].
func (*Pubrec) Type() Type { return PUBREC }

// Type returns [PUBREL].
func (*Pubrel) Type() Type { return PUBREL }

// Type returns [PUBCOMP].
func (*Pubcomp) Type() Type { return PUBCOMP }

// Append implements [Packet].
func (p *Puback) Append(dst []byte, v Version) []byte { return p.append(dst, PUBACK, v) }

// Append implements [Packet].
func (p *Pubrec) Append(dst []byte, v Version) []byte { return p.append(dst, PUBREC, v) }

// Append implements [Packet].
func (p *Pubrel) Append(dst []byte, v Version) []byte { return p.append(dst, PUBREL, v) }

// Append implements [Packet].
func (p *Pubcomp) Append(dst []byte, v Version) []byte { return p.append(dst, PUBCOMP, v) }

// append leaves out what 5.0 §3.4.2.1 and its sisters allow to leave out.
func (p *Ack) append(dst []byte, t Type, v Version) []byte {
	flags := t.flags()
	switch {
	case v != V5 || p.Code == 0 && len(p.Properties) == 0:
		return appendU16(appendHeader(dst, t, flags, 2), p.ID)
	case len(p.Properties) == 0:
		return append(appendU16(appendHeader(dst, t, flags, 3), p.ID), byte(p.Code))
	}
	dst = appendU16(appendHeader(dst, t, flags, 3+p.Properties.fullSize(v)), p.ID)
	return p.Properties.append(append(dst, byte(p.Code)), v)
}

func (p *Ack) decode(c *cursor) {
	p.ID = c.packetID()
	p.Code, p.Properties = c.coded(c.typ)
}
