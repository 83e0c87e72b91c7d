package check

import (
	"encoding/binary"
	"slices"

	"hodstone/internal/mqtt/packet"
)

// malformed is one packet that breaks a rule which ends the connection (3.1.1 §4.8, 5.0 §4.13.1).
type malformed struct {
	name     string
	sections struct{ v311, v5 string } // "" where the version has no such rule
	connect  bool                      // it comes in place of CONNECT
	advice   bool                      // the standard forbids it, and does not call it an error: told, not broken
	bytes    func(m *maker) []byte
}

func (m *malformed) section(v packet.Version) string {
	switch v {
	case packet.V311:
		return m.sections.v311
	case packet.V5:
		return m.sections.v5
	}
	return "" // 3.1 does not say
}

// maker makes the packets of one link.
type maker struct {
	v     packet.Version
	topic string
	hello []byte // a CONNECT that would be accepted
}

// frame puts a fixed header before the parts of a packet.
func frame(first byte, parts ...[]byte) []byte {
	body := slices.Concat(parts...)
	b := []byte{first}
	for n := len(body); ; n >>= 7 {
		if n < 128 {
			return append(append(b, byte(n)), body...)
		}
		b = append(b, byte(n)|128)
	}
}

func text(s string) []byte { return append(binary.BigEndian.AppendUint16(nil, uint16(len(s))), s...) }

func id(n uint16) []byte { return binary.BigEndian.AppendUint16(nil, n) }

// properties are those of version 5, and nothing before.
func (m *maker) properties(ps ...byte) []byte {
	if m.v != packet.V5 {
		return nil
	}
	return append([]byte{byte(len(ps))}, ps...)
}

// publish is a PUBLISH at QoS 0.
func (m *maker) publish(first byte, topic string, ps ...byte) []byte {
	return frame(first, text(topic), m.properties(ps...), []byte("x"))
}

// subscribe is a SUBSCRIBE for a filter with an options byte.
func (m *maker) subscribe(first byte, n uint16, filter string, options byte, ps ...byte) []byte {
	return frame(first, id(n), m.properties(ps...), text(filter), []byte{options})
}

// flags changes the connect flags of a CONNECT.
func (m *maker) flags(set, clear byte) []byte {
	b := slices.Clone(m.hello)
	b[levelAt(b)+1] = b[levelAt(b)+1]&^clear | set
	return b
}

// with puts properties in place of those of a CONNECT.
func (m *maker) with(ps ...byte) []byte {
	var c *packet.Connect
	if p, err := packet.Decode(m.hello, packet.V5, packet.Strict); err == nil {
		c = p.(*packet.Connect)
	} else {
		return nil
	}
	bare := *c
	bare.Properties = nil
	b := bare.Append(nil, packet.V5)
	at := levelAt(b) + 4 // the property length, which is 0
	head := 2
	for b[head-1]&128 != 0 {
		head++
	}
	return frame(b[0], b[head:at], m.properties(ps...), b[at+1:])
}

// malformedPackets is the table.
var malformedPackets = []malformed{
	row("a remaining length of five bytes", "2.2.3", "1.5.5", func(*maker) []byte { return []byte{0xC0, 0x80, 0x80, 0x80, 0x80, 0x01} }),
	row("packet type 0", "2.2.1", "2.1.2", func(*maker) []byte { return []byte{0x00, 0x00} }),
	row("packet type 15", "2.2.1", "", func(*maker) []byte { return []byte{0xF0, 0x00} }),
	row("AUTH without a method in CONNECT", "", "4.12", func(*maker) []byte { return []byte{0xF0, 0x00} }),
	row("PINGREQ with flags 1", "2.2.2", "2.1.3", func(*maker) []byte { return []byte{0xC1, 0x00} }),
	row("PUBACK with flags 1", "2.2.2", "2.1.3", func(*maker) []byte { return frame(0x41, id(7)) }),
	row("PUBREL with flags 0", "3.6.1", "3.6.1", func(*maker) []byte { return frame(0x60, id(7)) }),
	row("SUBSCRIBE with flags 0", "3.8.1", "3.8.1", func(m *maker) []byte { return m.subscribe(0x80, 7, m.topic, 0) }),
	row("UNSUBSCRIBE with flags 0", "3.10.1", "3.10.1", func(m *maker) []byte { return frame(0xA0, id(7), m.properties(), text(m.topic)) }),
	row("PUBLISH at QoS 3", "3.3.1.2", "3.3.1.2", func(m *maker) []byte { return frame(0x36, text(m.topic), id(7), m.properties(), []byte("x")) }),
	row("PUBLISH with DUP at QoS 0", "3.3.1.1", "3.3.1.1", func(m *maker) []byte { return m.publish(0x38, m.topic) }),
	row("PUBLISH to a topic with +", "3.3.2.1", "3.3.2.1", func(m *maker) []byte { return m.publish(0x30, m.topic+"/+") }),
	row("PUBLISH to a topic with #", "3.3.2.1", "3.3.2.1", func(m *maker) []byte { return m.publish(0x30, m.topic+"/#") }),
	row("PUBLISH to an empty topic", "4.7.3", "4.7.3", func(m *maker) []byte { return m.publish(0x30, "") }),
	row("PUBLISH to a topic with U+0000", "1.5.3", "1.5.4", func(m *maker) []byte { return m.publish(0x30, m.topic+"\x00") }),
	row("PUBLISH to a topic that is no UTF-8", "1.5.3", "1.5.4", func(m *maker) []byte { return m.publish(0x30, m.topic+"\xc3\x28") }),
	row("PUBLISH to a topic with a surrogate", "1.5.3", "1.5.4", func(m *maker) []byte { return m.publish(0x30, m.topic+"\xed\xa0\x80") }),
	row("PUBLISH to a topic with a slash in two bytes", "1.5.3", "1.5.4", func(m *maker) []byte { return m.publish(0x30, m.topic+"\xc0\xaf") }),
	row("PUBLISH whose topic is longer than the packet", "1.5.3", "1.5.4", func(m *maker) []byte {
		return frame(0x30, id(0x7000), []byte(m.topic))
	}),
	row("PUBLISH at QoS 1 under identifier 0", "2.3.1", "2.2.1", func(m *maker) []byte {
		return frame(0x32, text(m.topic), id(0), m.properties(), []byte("x"))
	}),
	row("PUBLISH at QoS 1 without an identifier", "2.3.1", "2.2.1", func(m *maker) []byte { return frame(0x32, text(m.topic)) }),
	row("SUBSCRIBE under identifier 0", "2.3.1", "2.2.1", func(m *maker) []byte { return m.subscribe(0x82, 0, m.topic, 0) }),
	row("SUBSCRIBE without filters", "3.8.3", "3.8.3", func(m *maker) []byte { return frame(0x82, id(7), m.properties()) }),
	row("SUBSCRIBE at QoS 3", "3.8.3.1", "3.8.3.1", func(m *maker) []byte { return m.subscribe(0x82, 7, m.topic, 3) }),
	row("SUBSCRIBE with a reserved option bit", "3.8.3", "3.8.3.1", func(m *maker) []byte { return m.subscribe(0x82, 7, m.topic, 0x80) }),
	row("UNSUBSCRIBE under identifier 0", "2.3.1", "2.2.1", func(m *maker) []byte { return frame(0xA2, id(0), m.properties(), text(m.topic)) }),
	row("UNSUBSCRIBE without filters", "3.10.3", "3.10.3", func(m *maker) []byte { return frame(0xA2, id(7), m.properties()) }),
	row("SUBACK from a client", "4.8", "4.13", func(m *maker) []byte { return frame(0x90, id(7), m.properties(), []byte{0}) }),
	row("CONNACK from a client", "4.8", "4.13", func(m *maker) []byte { return frame(0x20, []byte{0, 0}, m.properties()) }),
	row("PINGRESP from a client", "4.8", "4.13", func(*maker) []byte { return []byte{0xD0, 0x00} }),
	hello("CONNECT with a will QoS and no will", "3.1.2.6", "3.1.2.6", func(m *maker) []byte { return m.flags(0x08, 0) }),
	hello("CONNECT with will retain and no will", "3.1.2.7", "3.1.2.7", func(m *maker) []byte { return m.flags(0x20, 0) }),
	hello("CONNECT with an identifier that is no UTF-8", "1.5.3", "1.5.4", func(m *maker) []byte {
		p, err := packet.Decode(m.hello, m.v, packet.Strict)
		if err != nil {
			return nil
		}
		c := *p.(*packet.Connect)
		c.ClientID = "hodstone\xc3\x28"
		return c.Append(nil, m.v)
	}),
	row("PUBLISH with an unknown property", "", "2.2.2.2", func(m *maker) []byte { return m.publish(0x30, m.topic, 0x7F, 0x00) }),
	row("PUBLISH with two content types", "", "3.3.2.3.9", func(m *maker) []byte { return m.publish(0x30, m.topic, 0x03, 0, 1, 'a', 0x03, 0, 1, 'b') }),
	row("PUBLISH with a session expiry", "", "2.2.2.2", func(m *maker) []byte { return m.publish(0x30, m.topic, 0x11, 0, 0, 0, 9) }),
	row("PUBLISH whose properties are longer than the packet", "", "2.2.2.1", func(m *maker) []byte {
		return frame(0x30, text(m.topic), []byte{0x70, 'x'})
	}),
	advice("PUBLISH with a wildcard in its response topic", "", "3.3.2.3.5", func(m *maker) []byte { return m.publish(0x30, m.topic, 0x08, 0, 3, 'a', '/', '+') }),
	row("PUBLISH with a subscription identifier", "", "3.3.4", func(m *maker) []byte { return m.publish(0x30, m.topic, 0x0B, 5) }),
	row("SUBSCRIBE with subscription identifier 0", "", "3.8.2.1.2", func(m *maker) []byte { return m.subscribe(0x82, 7, m.topic, 0, 0x0B, 0) }),
	row("SUBSCRIBE with retain handling 3", "", "3.8.3.1", func(m *maker) []byte { return m.subscribe(0x82, 7, m.topic, 0x30) }),
	row("SUBSCRIBE with no local on a shared subscription", "", "3.8.3.1", func(m *maker) []byte {
		return m.subscribe(0x82, 7, "$share/hodstone/"+m.topic, 0x04)
	}),
	hello("CONNECT with receive maximum 0", "", "3.1.2.11.3", func(m *maker) []byte { return m.with(0x21, 0, 0) }),
	hello("CONNECT with maximum packet size 0", "", "3.1.2.11.4", func(m *maker) []byte { return m.with(0x27, 0, 0, 0, 0) }),
	hello("CONNECT with two session expiries", "", "3.1.2.11.2", func(m *maker) []byte { return m.with(0x11, 0, 0, 0, 0, 0x11, 0, 0, 0, 0) }),
	hello("CONNECT with authentication data and no method", "", "3.1.2.11.10", func(m *maker) []byte { return m.with(0x16, 0, 1, 'x') }),
}

func row(name, v311, v5 string, bytes func(*maker) []byte) malformed {
	return malformed{name: name, sections: struct{ v311, v5 string }{v311, v5}, bytes: bytes}
}

func advice(name, v311, v5 string, bytes func(*maker) []byte) malformed {
	m := row(name, v311, v5, bytes)
	m.advice = true
	return m
}

func hello(name, v311, v5 string, bytes func(*maker) []byte) malformed {
	m := row(name, v311, v5, bytes)
	m.connect = true
	return m
}
