package packet

import "fmt"

// RetainHandling tells when a subscription is sent retained messages (5.0 §3.8.3.1).
type RetainHandling byte

// The values of [RetainHandling].
const (
	RetainSend      RetainHandling = 0 // at every SUBSCRIBE
	RetainSendIfNew RetainHandling = 1 // only if the subscription did not exist
	RetainDontSend  RetainHandling = 2
)

// Subscription is one filter of a SUBSCRIBE with its options (§3.8.3).
type Subscription struct {
	Filter string
	QoS    QoS
	// The rest exists in version 5 only (5.0 §3.8.3.1).
	NoLocal           bool
	RetainAsPublished bool
	RetainHandling    RetainHandling
}

func (s Subscription) options(v Version) byte {
	o := byte(s.QoS & 3)
	if v != V5 {
		return o
	}
	if s.NoLocal {
		o |= 4
	}
	if s.RetainAsPublished {
		o |= 8
	}
	return o | byte(s.RetainHandling&3)<<4
}

// Subscribe asks for messages (§3.8).
type Subscribe struct {
	ID            uint16
	Properties    Properties
	Subscriptions []Subscription
}

// Type returns [SUBSCRIBE].
func (*Subscribe) Type() Type { return SUBSCRIBE }

// Append implements [Packet].
func (p *Subscribe) Append(dst []byte, v Version) []byte {
	n := 2 + p.Properties.fullSize(v)
	for i := range p.Subscriptions {
		n += 3 + clip(len(p.Subscriptions[i].Filter))
	}
	dst = appendU16(appendHeader(dst, SUBSCRIBE, SUBSCRIBE.flags(), n), p.ID)
	dst = p.Properties.append(dst, v)
	for _, s := range p.Subscriptions {
		dst = append(appendString(dst, s.Filter), s.options(v))
	}
	return dst
}

func (p *Subscribe) decode(c *cursor) {
	p.ID = c.packetID()
	p.Properties = c.properties(SUBSCRIBE)
	if c.left() == 0 {
		c.wrong(c.pos, ProtocolError, "3.8.3", "no topic filter")
	}
	for c.err == nil && c.left() > 0 {
		at := c.pos
		s := Subscription{Filter: c.str("topic filter")}
		if s.Filter == "" && c.err == nil {
			c.wrong(at, MalformedPacket, "4.7.3", "the topic filter is empty")
		}
		at = c.pos
		o := c.rawByte("subscription options")
		s.QoS = QoS(o & 3)
		reserved := byte(0xFC)
		if c.v == V5 {
			reserved = 0xC0
			s.NoLocal, s.RetainAsPublished, s.RetainHandling = o&4 != 0, o&8 != 0, RetainHandling(o>>4&3)
			if s.RetainHandling == 3 {
				c.wrong(at, ProtocolError, "3.8.3.1", "retain handling 3")
			}
		}
		if s.QoS == 3 {
			c.wrong(at, ProtocolError, "3.8.3|3.8.3.1", "the requested QoS is 3")
		}
		if o&reserved != 0 {
			c.wrong(at, MalformedPacket, "3.8.3|3.8.3.1", "reserved bits of the options are set")
		}
		c.span(at, "subscription options", s.says(c))
		if c.err == nil {
			p.Subscriptions = append(p.Subscriptions, s)
		}
	}
}

func (s Subscription) says(c *cursor) string {
	if c.spans == nil {
		return ""
	}
	text := fmt.Sprintf("QoS %d", s.QoS)
	if s.NoLocal {
		text += ", no local"
	}
	if s.RetainAsPublished {
		text += ", retain as published"
	}
	if c.v == V5 {
		text += fmt.Sprintf(", retain handling %d", s.RetainHandling)
	}
	return text
}

// Suback answers a SUBSCRIBE with a code per filter (§3.9).
type Suback struct {
	ID         uint16
	Properties Properties
	Codes      []ReasonCode
}

// Type returns [SUBACK].
func (*Suback) Type() Type { return SUBACK }

// Append implements [Packet].
func (p *Suback) Append(dst []byte, v Version) []byte {
	return appendCodes(dst, SUBACK, p.ID, p.Properties, p.Codes, v)
}

func (p *Suback) decode(c *cursor) { p.ID, p.Properties, p.Codes = c.codes() }

// Unsubscribe takes subscriptions back (§3.10).
type Unsubscribe struct {
	ID         uint16
	Properties Properties
	Filters    []string
}

// Type returns [UNSUBSCRIBE].
func (*Unsubscribe) Type() Type { return UNSUBSCRIBE }

// Append implements [Packet].
func (p *Unsubscribe) Append(dst []byte, v Version) []byte {
	n := 2 + p.Properties.fullSize(v)
	for _, f := range p.Filters {
		n += 2 + clip(len(f))
	}
	dst = appendU16(appendHeader(dst, UNSUBSCRIBE, UNSUBSCRIBE.flags(), n), p.ID)
	dst = p.Properties.append(dst, v)
	for _, f := range p.Filters {
		dst = appendString(dst, f)
	}
	return dst
}

func (p *Unsubscribe) decode(c *cursor) {
	p.ID = c.packetID()
	p.Properties = c.properties(UNSUBSCRIBE)
	if c.left() == 0 {
		c.wrong(c.pos, ProtocolError, "3.10.3", "no topic filter")
	}
	for c.err == nil && c.left() > 0 {
		at := c.pos
		f := c.str("topic filter")
		if f == "" && c.err == nil {
			c.wrong(at, MalformedPacket, "4.7.3", "the topic filter is empty")
		}
		if c.err == nil {
			p.Filters = append(p.Filters, f)
		}
	}
}

// Unsuback answers an UNSUBSCRIBE; before version 5 it carries no codes (§3.11).
type Unsuback struct {
	ID         uint16
	Properties Properties
	Codes      []ReasonCode
}

// Type returns [UNSUBACK].
func (*Unsuback) Type() Type { return UNSUBACK }

// Append implements [Packet].
func (p *Unsuback) Append(dst []byte, v Version) []byte {
	codes := p.Codes
	if v != V5 {
		codes = nil
	}
	return appendCodes(dst, UNSUBACK, p.ID, p.Properties, codes, v)
}

func (p *Unsuback) decode(c *cursor) {
	if c.v != V5 {
		p.ID = c.packetID()
		return
	}
	p.ID, p.Properties, p.Codes = c.codes()
}

func appendCodes(dst []byte, t Type, id uint16, ps Properties, codes []ReasonCode, v Version) []byte {
	dst = appendU16(appendHeader(dst, t, 0, 2+ps.fullSize(v)+len(codes)), id)
	dst = ps.append(dst, v)
	for _, r := range codes {
		dst = append(dst, byte(r))
	}
	return dst
}

func (c *cursor) codes() (id uint16, ps Properties, codes []ReasonCode) {
	id = c.packetID()
	ps = c.properties(c.typ)
	if c.left() == 0 {
		c.wrong(c.pos, ProtocolError, "3.9.3", "no reason code")
	}
	for c.err == nil && c.left() > 0 {
		codes = append(codes, c.code("reason code"))
	}
	return id, ps, codes
}
