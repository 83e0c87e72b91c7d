package packet

// Will is the message that the server publishes when it loses the client
// (3.1.1 §3.1.2.5, 5.0 §3.1.2.5).
type Will struct {
	Topic      string
	Payload    []byte
	QoS        QoS
	Retain     bool
	Properties Properties // version 5
}

// Connect is the client's first packet (§3.1).
type Connect struct {
	// Level is the protocol version that the packet asks for. Append takes it from
	// its own argument; decoding fills it in.
	Level      Version
	CleanStart bool   // "clean session" before version 5
	KeepAlive  uint16 // seconds; 0 turns it off
	Properties Properties
	ClientID   string
	Will       *Will
	// HasUsername and HasPassword tell an empty field from a missing one.
	HasUsername bool
	Username    string
	HasPassword bool
	Password    []byte
}

// Type returns [CONNECT].
func (*Connect) Type() Type { return CONNECT }

// The connect flags (§3.1.2.3 to §3.1.2.9).
const (
	flagClean      = 0x02
	flagWill       = 0x04
	flagWillRetain = 0x20
	flagPassword   = 0x40
	flagUsername   = 0x80
)

// Append implements [Packet].
func (p *Connect) Append(dst []byte, v Version) []byte {
	name := v.protocolName()
	n := 2 + len(name) + 1 + 1 + 2 + p.Properties.fullSize(v) + 2 + clip(len(p.ClientID))
	var flags byte
	if p.CleanStart {
		flags |= flagClean
	}
	if w := p.Will; w != nil {
		flags |= flagWill | byte(w.QoS&3)<<3
		if w.Retain {
			flags |= flagWillRetain
		}
		n += w.Properties.fullSize(v) + 2 + clip(len(w.Topic)) + 2 + clip(len(w.Payload))
	}
	if p.HasUsername {
		flags |= flagUsername
		n += 2 + clip(len(p.Username))
	}
	if p.HasPassword {
		flags |= flagPassword
		n += 2 + clip(len(p.Password))
	}
	dst = appendHeader(dst, CONNECT, 0, n)
	dst = append(appendString(dst, name), byte(v), flags)
	dst = appendU16(dst, p.KeepAlive)
	dst = p.Properties.append(dst, v)
	dst = appendString(dst, p.ClientID)
	if w := p.Will; w != nil {
		dst = w.Properties.append(dst, v)
		dst = appendString(dst, w.Topic)
		dst = appendString(dst, text(w.Payload))
	}
	if p.HasUsername {
		dst = appendString(dst, p.Username)
	}
	if p.HasPassword {
		dst = appendString(dst, text(p.Password))
	}
	return dst
}

func (p *Connect) decode(c *cursor) {
	at := c.pos
	name := c.str("protocol name")
	levelAt := c.pos
	p.Level = Version(c.rawByte("protocol level"))
	c.span(levelAt, "protocol level", c.says("%d: version %s", byte(p.Level), p.Level))
	if c.err != nil {
		return
	}
	switch {
	case p.Level != V31 && p.Level != V311 && p.Level != V5:
		c.fail(levelAt, UnsupportedProtocolVersion, "3.1.2.2", "the protocol level is not one of 3, 4 and 5")
		return
	case name != p.Level.protocolName():
		c.fail(at, UnsupportedProtocolVersion, "3.1.2.1", "the protocol name is not "+p.Level.protocolName())
		return
	}
	c.v = p.Level // the rest is written in the version it names
	flagsAt := c.pos
	flags := c.rawByte("connect flags")
	c.span(flagsAt, "connect flags", c.says("%s", connectFlags(flags)))
	p.checkFlags(c, flagsAt, flags)
	p.CleanStart = flags&flagClean != 0
	p.KeepAlive = c.u16("keep alive")
	p.Properties = c.properties(CONNECT)
	if _, data := p.Properties.Str(AuthData); data {
		if _, method := p.Properties.Str(AuthMethod); !method {
			c.wrong(flagsAt, ProtocolError, "3.1.2.11.10", "authentication data without a method")
		}
	}
	idAt := c.pos
	p.ClientID = c.str("client identifier")
	if p.ClientID == "" && !p.CleanStart && c.v == V311 && c.err == nil {
		c.wrong(idAt, ClientIDNotValid, "3.1.3.1", "an empty client identifier needs clean session 1")
	}
	if flags&flagWill != 0 {
		w := &Will{QoS: QoS(flags >> 3 & 3), Retain: flags&flagWillRetain != 0}
		w.Properties = c.properties(onWill)
		topicAt := c.pos
		w.Topic = c.str("will topic")
		checkTopicName(c, topicAt+2, w.Topic)
		w.Payload = []byte(c.binary("will payload", false))
		p.Will = w
	}
	if flags&flagUsername != 0 {
		p.HasUsername, p.Username = true, c.str("user name")
	}
	if flags&flagPassword != 0 {
		p.HasPassword, p.Password = true, []byte(c.binary("password", true))
	}
}

func (p *Connect) checkFlags(c *cursor, at int, flags byte) {
	switch {
	case c.err != nil:
	case flags&1 != 0:
		c.wrong(at, MalformedPacket, "3.1.2.3", "the reserved connect flag is set")
	case flags&flagWill == 0 && flags&0x38 != 0:
		c.wrong(at, MalformedPacket, "3.1.2.6", "will QoS or will retain without a will")
	case flags>>3&3 == 3:
		c.wrong(at, MalformedPacket, "3.1.2.6", "the will QoS is 3")
	case c.v != V5 && flags&flagPassword != 0 && flags&flagUsername == 0:
		c.wrong(at, MalformedPacket, "3.1.2.9", "a password without a user name")
	}
}

func connectFlags(f byte) string {
	s := ""
	for _, x := range []struct {
		bit  byte
		name string
	}{{flagUsername, "user name"}, {flagPassword, "password"}, {flagWillRetain, "will retain"},
		{flagWill, "will"}, {flagClean, "clean start"}, {1, "reserved bit"}} {
		if f&x.bit == 0 {
			continue
		}
		if s != "" {
			s += ", "
		}
		s += x.name
		if x.bit == flagWill {
			s += " at QoS " + string('0'+rune(f>>3&3))
		}
	}
	if s == "" {
		return "none"
	}
	return s
}

// Connack is the server's answer to [Connect] (§3.2).
type Connack struct {
	SessionPresent bool
	Code           ReasonCode
	Properties     Properties
}

// Type returns [CONNACK].
func (*Connack) Type() Type { return CONNACK }

// Append implements [Packet].
func (p *Connack) Append(dst []byte, v Version) []byte {
	dst = appendHeader(dst, CONNACK, 0, 2+p.Properties.fullSize(v))
	var flags byte
	if p.SessionPresent {
		flags = 1
	}
	return p.Properties.append(append(dst, flags, byte(p.Code)), v)
}

func (p *Connack) decode(c *cursor) {
	at := c.pos
	flags := c.rawByte("connect acknowledge flags")
	p.SessionPresent = flags&1 != 0
	c.span(at, "acknowledge flags", c.says("session present %d", flags&1))
	if flags&^1 != 0 && c.v != V31 {
		c.wrong(at, MalformedPacket, "3.2.2.1", "reserved acknowledge flags are set")
	}
	p.Code = c.code("reason code")
	if p.SessionPresent && p.Code != 0 && c.err == nil && c.v != V31 {
		c.wrong(at, ProtocolError, "3.2.2.2|3.2.2.1.1", "session present in a refusal")
	}
	p.Properties = c.properties(CONNACK)
}

// Disconnect ends a connection properly (§3.14). A server sends it in version 5 only.
type Disconnect struct {
	Code       ReasonCode
	Properties Properties
}

// Type returns [DISCONNECT].
func (*Disconnect) Type() Type { return DISCONNECT }

// Append implements [Packet].
func (p *Disconnect) Append(dst []byte, v Version) []byte {
	return appendCoded(dst, DISCONNECT, p.Code, p.Properties, v)
}

func (p *Disconnect) decode(c *cursor) {
	p.Code, p.Properties = c.coded(DISCONNECT)
}

// Auth carries a step of enhanced authentication in version 5 (5.0 §3.15).
type Auth struct {
	Code       ReasonCode
	Properties Properties
}

// Type returns [AUTH].
func (*Auth) Type() Type { return AUTH }

// Append implements [Packet].
func (p *Auth) Append(dst []byte, v Version) []byte {
	return appendCoded(dst, AUTH, p.Code, p.Properties, v)
}

func (p *Auth) decode(c *cursor) { p.Code, p.Properties = c.coded(AUTH) }

// appendCoded writes a packet of a reason code and properties; code 0 without
// properties is left out (5.0 §3.14.2.1, §3.15.2.1).
func appendCoded(dst []byte, t Type, code ReasonCode, ps Properties, v Version) []byte {
	if v != V5 || code == 0 && len(ps) == 0 {
		return appendHeader(dst, t, 0, 0)
	}
	if len(ps) == 0 && t == DISCONNECT {
		return append(appendHeader(dst, t, 0, 1), byte(code))
	}
	dst = appendHeader(dst, t, 0, 1+ps.fullSize(v))
	return ps.append(append(dst, byte(code)), v)
}

func (c *cursor) coded(t Type) (code ReasonCode, ps Properties) {
	if c.v != V5 || c.left() == 0 {
		return 0, nil
	}
	code = c.code("reason code")
	if c.left() > 0 {
		ps = c.properties(t)
	}
	return code, ps
}

// Pingreq asks for a [Pingresp] (§3.12).
type Pingreq struct{}

// Type returns [PINGREQ].
func (*Pingreq) Type() Type { return PINGREQ }

// Append implements [Packet].
func (*Pingreq) Append(dst []byte, _ Version) []byte { return appendHeader(dst, PINGREQ, 0, 0) }

// Pingresp answers a [Pingreq] (§3.13).
type Pingresp struct{}

// Type returns [PINGRESP].
func (*Pingresp) Type() Type { return PINGRESP }

// Append implements [Packet].
func (*Pingresp) Append(dst []byte, _ Version) []byte { return appendHeader(dst, PINGRESP, 0, 0) }
