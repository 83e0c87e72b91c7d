package packet

// Summary is what several kinds of packets have in common.
type Summary struct {
	ID         uint16 // the packet identifier, 0 for none
	Code       ReasonCode
	Coded      bool // the packet has one reason code
	Properties Properties
}

// About returns what a packet of a version shares with other kinds. Before version 5 only CONNACK has a code.
func About(p Packet, v Version) Summary {
	s := about(p)
	if _, is := p.(*Connack); !is && v != V5 {
		s.Coded = false
	}
	return s
}

func about(p Packet) Summary {
	ack := func(a Ack) Summary { return Summary{ID: a.ID, Code: a.Code, Coded: true, Properties: a.Properties} }
	switch p := p.(type) {
	case *Connect:
		return Summary{Properties: p.Properties}
	case *Connack:
		return Summary{Code: p.Code, Coded: true, Properties: p.Properties}
	case *Publish:
		return Summary{ID: p.ID, Properties: p.Properties}
	case *Puback:
		return ack(p.Ack)
	case *Pubrec:
		return ack(p.Ack)
	case *Pubrel:
		return ack(p.Ack)
	case *Pubcomp:
		return ack(p.Ack)
	case *Subscribe:
		return Summary{ID: p.ID, Properties: p.Properties}
	case *Suback:
		return Summary{ID: p.ID, Properties: p.Properties}
	case *Unsubscribe:
		return Summary{ID: p.ID, Properties: p.Properties}
	case *Unsuback:
		return Summary{ID: p.ID, Properties: p.Properties}
	case *Disconnect:
		return Summary{Code: p.Code, Coded: true, Properties: p.Properties}
	case *Auth:
		return Summary{Code: p.Code, Coded: true, Properties: p.Properties}
	}
	return Summary{}
}

// Text tells whether the value is a string, not binary data or a number.
func (p Property) Text() bool {
	k := propertySpecs[p.ID].kind
	return k == kString || k == kPair
}
