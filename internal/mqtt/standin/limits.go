package standin

import (
	"fmt"
	"regexp"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Limits are what a stand-in announces in CONNACK (5.0 §3.2.2.3) and keeps, towards clients
// of the older versions too as far as those have means to be told. The zero value
// limits nothing but what the program itself must.
type Limits struct {
	// MaximumQoS is the highest QoS, nil for 2.
	MaximumQoS *packet.QoS
	// NoRetained, NoWildcards, NoIdentifiers and NoShared turn features off.
	NoRetained, NoWildcards, NoIdentifiers, NoShared bool
	// MaximumPacketSize is the largest packet taken, in bytes; 0 for 8 MiB.
	MaximumPacketSize int
	// ReceiveMaximum is how many messages at QoS 1 and 2 may be unacknowledged towards
	// the stand-in; 0 for 65,535.
	ReceiveMaximum int
	// ServerKeepAlive replaces the client's keep alive, in seconds; 0 leaves it.
	ServerKeepAlive int
	// SessionExpiry is the longest session expiry of version 5, in seconds, told where a client asks for more (5.0
	// §3.2.2.3.2); 0 for any.
	SessionExpiry int
	// ClientID must match the whole client identifier; nil takes any.
	ClientID *regexp.Regexp
	// NoEmptyClientID refuses a client that leaves its identifier to the stand-in.
	NoEmptyClientID bool
	// Connections is how many clients may be connected at a time; 0 for any number.
	Connections int
	// Queued is how many messages wait for an absent or slow client, and Filters how many one SUBSCRIBE may have;
	// neither is announced, and 0 is for as many as the program itself can do.
	Queued, Filters int
	// Memory is how many bytes it holds at most of messages, sessions, subscriptions and wills; 0 for
	// [DefaultMemory].
	Memory int
	// Redirect sends every client to another server (5.0 §4.13).
	Redirect string
}

func (l *Limits) qos() packet.QoS {
	if l.MaximumQoS != nil {
		return min(2, *l.MaximumQoS)
	}
	return 2
}

func (l *Limits) queued() int {
	if l.Queued > 0 {
		return min(l.Queued, maxQueued)
	}
	return maxQueued
}

func (l *Limits) packetSize() int {
	if l.MaximumPacketSize > 0 {
		return min(l.MaximumPacketSize, maxPacketSize)
	}
	return maxPacketSize
}

func (l *Limits) receiveMaximum() int {
	if l.ReceiveMaximum > 0 {
		return min(l.ReceiveMaximum, 65535)
	}
	return 65535
}

// announce writes the limits as CONNACK's properties; what is at the standard's default is
// left out.
func (l *Limits) announce() packet.Properties {
	ps := packet.Properties{
		packet.Int(packet.TopicAliasMaximum, topicAliasMax),
		packet.Int(packet.MaximumPacketSize, uint32(l.packetSize())),
	}
	if q := l.qos(); q < 2 {
		ps = append(ps, packet.Int(packet.MaximumQoS, uint32(q)))
	}
	if l.receiveMaximum() < 65535 {
		ps = append(ps, packet.Int(packet.ReceiveMaximum, uint32(l.receiveMaximum())))
	}
	if l.ServerKeepAlive > 0 {
		ps = append(ps, packet.Int(packet.ServerKeepAlive, uint32(l.ServerKeepAlive)))
	}
	for _, off := range []struct {
		off bool
		id  packet.PropertyID
	}{{l.NoRetained, packet.RetainAvailable}, {l.NoWildcards, packet.WildcardAvailable}, {l.NoIdentifiers, packet.SubIDAvailable}, {l.NoShared, packet.SharedAvailable}} {
		if off.off {
			ps = append(ps, packet.Int(off.id, 0))
		}
	}
	return ps
}

// expiry is the session expiry that a client of version 5 gets where it asks for so many seconds.
func (l *Limits) expiry(asked uint32) uint32 {
	if l.SessionExpiry > 0 {
		return min(asked, uint32(l.SessionExpiry))
	}
	return asked
}

// limitConnect tells why a CONNECT goes beyond the limits: a reason code of version 5, and
// words.
func (c *conn) limitConnect(p *packet.Connect) (packet.ReasonCode, string) {
	l := &c.s.opt.Limits
	connected := c.s.connected
	if ses := c.s.sessions[p.ClientID]; ses != nil && ses.conn != nil { // who comes again takes his own place
		connected--
	}
	w, full := p.Will, c.s.room(p)
	switch {
	case c.s.refuseAll:
		return packet.ServerUnavailable, "no client is let in at present"
	case l.Redirect != "":
		return packet.UseAnotherServer, "all clients are sent to " + l.Redirect
	case l.Connections > 0 && connected >= l.Connections:
		return packet.QuotaExceeded, fmt.Sprintf("%d clients are connected, and no more are allowed", connected)
	case full != "":
		return packet.QuotaExceeded, full
	case w != nil && tooDeep(w.Topic):
		return packet.TopicNameInvalid, fmt.Sprintf("the will topic has more than %d levels", maxLevels)
	case p.ClientID == "" && l.NoEmptyClientID:
		return packet.ClientIDNotValid, "an empty client identifier is not allowed"
	case p.ClientID != "" && l.ClientID != nil && !l.ClientID.MatchString(p.ClientID):
		return packet.ClientIDNotValid, fmt.Sprintf("the client identifier does not match %s", l.ClientID)
	case w != nil && topic.CheckName(w.Topic) != nil:
		return packet.TopicNameInvalid, "the will topic is no topic name"
	case w != nil && w.QoS > l.qos():
		return packet.QoSNotSupported, fmt.Sprintf("the will has QoS %d; at most %d is allowed", w.QoS, l.qos())
	case w != nil && w.Retain && l.NoRetained:
		return packet.RetainNotSupported, "the will is retained, which is turned off"
	}
	return 0, ""
}

// limitPublish tells why a PUBLISH goes beyond the limits; the connection ends then
// (5.0 §3.2.2.3.4, §3.2.2.3.5, §3.3.4).
func (c *conn) limitPublish(p *packet.Publish) error {
	l := &c.s.opt.Limits
	switch {
	case p.QoS > l.qos():
		return refuse(packet.QoSNotSupported, "QoS %d; at most %d is allowed", p.QoS, l.qos())
	case tooDeep(p.Topic):
		return refuse(packet.TopicNameInvalid, "the topic name has more than %d levels", maxLevels)
	case p.Retain && l.NoRetained && c.version == packet.V5:
		return refuse(packet.RetainNotSupported, "retained messages are turned off")
	case p.QoS > 0 && c.version == packet.V5 && len(c.open) >= l.receiveMaximum() && !c.open[p.ID]:
		return refuse(packet.ReceiveMaximumExceeded, "%d messages are unacknowledged", len(c.open))
	}
	return nil
}

// maySubscribe tells whether a login may read all that a filter matches.
func (c *conn) maySubscribe(filter string) bool {
	may := c.rights.maySubscribe(filter)
	c.s.decide(func(d *Decisions) {
		if d.MaySubscribe != nil {
			may = d.MaySubscribe(c.rights.login, filter, may)
		}
	})
	return may
}

// limitFilter returns the code to refuse a filter of SUBSCRIBE with, or a granted QoS.
func (c *conn) limitFilter(sub packet.Subscription, hasID bool) (packet.ReasonCode, string) {
	l := &c.s.opt.Limits
	shared := strings.HasPrefix(sub.Filter, topic.SharePrefix)
	wild := strings.ContainsAny(sub.Filter, "+#")
	_, plain, _ := topic.CutShare(sub.Filter)
	switch {
	case topic.CheckFilter(sub.Filter) != nil:
		return packet.TopicFilterInvalid, "it is no topic filter"
	case tooDeep(sub.Filter):
		return packet.TopicFilterInvalid, fmt.Sprintf("it has more than %d levels", maxLevels)
	case shared && c.version == packet.V5 && sub.NoLocal:
		return packet.ProtocolError, "no local on a shared subscription (5.0 §3.8.3.1)"
	case shared && l.NoShared:
		return packet.SharedNotSupported, "shared subscriptions are turned off"
	case wild && l.NoWildcards:
		return packet.WildcardNotSupported, "wildcards are turned off"
	case hasID && l.NoIdentifiers:
		return packet.SubIDsNotSupported, "subscription identifiers are turned off"
	case !c.maySubscribe(plain):
		return packet.NotAuthorized, fmt.Sprintf("the login %q may not read all of it", c.rights.login)
	}
	return packet.ReasonCode(min(sub.QoS, l.qos())), ""
}
