package client

import (
	"fmt"
	"math"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// LargestPacket is how large a packet a client takes, in bytes, where it announces nothing else: the standard allows
// 256 MiB, and a peer that sends these without end would eat the memory. It is a limit of ours: who goes beyond it
// breaks no rule.
const LargestPacket = 16 << 20

// tooLarge tells whether what broke off the reading is that limit.
func (k *conn) tooLarge(e *packet.Error) bool {
	return e != nil && e.Code == packet.PacketTooLarge && !k.announced
}

// limits are what the broker's CONNACK allows (5.0 §3.2.2.3).
type limits struct {
	keepAlive  time.Duration
	maxPacket  uint32
	ownPacket  bool // it is the client's own bound
	maxQoS     packet.QoS
	noRetain   bool
	noWildcard bool
	noSubIDs   bool
	noShared   bool
	receiveMax int
	aliases    uint16 // that we may set
}

func limitsOf(ps packet.Properties) limits {
	return limits{
		keepAlive:  time.Duration(ps.IntOr(packet.ServerKeepAlive, 0)) * time.Second,
		maxPacket:  ps.IntOr(packet.MaximumPacketSize, 0),
		maxQoS:     packet.QoS(ps.IntOr(packet.MaximumQoS, 2)),
		noRetain:   ps.IntOr(packet.RetainAvailable, 1) == 0,
		noWildcard: ps.IntOr(packet.WildcardAvailable, 1) == 0,
		noSubIDs:   ps.IntOr(packet.SubIDAvailable, 1) == 0,
		noShared:   ps.IntOr(packet.SharedAvailable, 1) == 0,
		receiveMax: int(ps.IntOr(packet.ReceiveMaximum, math.MaxUint16)),
		aliases:    uint16(ps.IntOr(packet.TopicAliasMaximum, 0)),
	}
}

// within bounds them by what the client itself holds back.
func (l limits) within(o *Options) limits {
	if o.InFlight > 0 {
		l.receiveMax = min(l.receiveMax, o.InFlight)
	}
	if n := uint32(o.MaxPacket); n > 0 && (l.maxPacket == 0 || n < l.maxPacket) {
		l.maxPacket, l.ownPacket = n, true
	}
	return l
}

// LimitError is a packet that the broker's CONNACK rules out; it was not sent.
type LimitError struct{ Reason string }

// Error names the limit and its place in the standard.
func (e *LimitError) Error() string { return e.Reason }

// allows tells why a message may not be sent, or nil.
func (l *limits) allows(p *packet.Publish) error {
	switch {
	case p.QoS > l.maxQoS:
		return &LimitError{
			fmt.Sprintf("QoS %d: the broker takes at most QoS %d (maximum QoS, 5.0 §3.2.2.3.4)", p.QoS, l.maxQoS),
		}
	case p.Retain && l.noRetain:
		return &LimitError{"retain: the broker takes no retained messages (retain available 0, 5.0 §3.2.2.3.5)"}
	}
	return nil
}

// allowsFilters tells why a SUBSCRIBE may not be sent, or nil.
func (l *limits) allowsFilters(subs []packet.Subscription, ps packet.Properties) error {
	if _, has := ps.Int(packet.SubscriptionIdentifier); has && l.noSubIDs {
		return &LimitError{
			"subscription identifier: the broker takes none (subscription identifiers available 0, 5.0 §3.2.2.3.12)",
		}
	}
	for _, s := range subs {
		switch {
		case l.noShared && strings.HasPrefix(s.Filter, topic.SharePrefix):
			return &LimitError{
				fmt.Sprintf(
					"%s: the broker shares no subscriptions (shared subscription available 0, 5.0 §3.2.2.3.13)",
					s.Filter,
				),
			}
		case l.noWildcard && strings.ContainsAny(s.Filter, "+#"):
			return &LimitError{
				fmt.Sprintf(
					"%s: the broker takes no wildcards (wildcard subscription available 0, 5.0 §3.2.2.3.11)",
					s.Filter,
				),
			}
		}
	}
	return nil
}

// ruleError is a rule that the broker broke, with the code to tell it.
type ruleError struct {
	code packet.ReasonCode
	why  string
}

func (e *ruleError) Error() string { return e.why }

// owing notes that a message at QoS 1 or 2 came, and tells whether the broker has
// sent more than our receive maximum without acknowledgement (5.0 §4.9). Whoever holds an
// acknowledgement back by Take holds the message out of the count too.
func (k *conn) owing(id uint16) error {
	most, asked := k.c.opt.Connect.Properties.Int(packet.ReceiveMaximum)
	if !asked {
		return nil
	}
	k.writeMu.Lock()
	defer k.writeMu.Unlock()
	if k.unacked == nil {
		k.unacked = map[uint16]bool{}
	}
	k.unacked[id] = true
	if len(k.unacked) > int(most) {
		return &ruleError{
			packet.ReceiveMaximumExceeded,
			fmt.Sprintf(
				"the broker sent %d messages without waiting for acknowledgement; our receive maximum is %d (5.0 §3.1.2.11.3)",
				len(k.unacked),
				most,
			),
		}
	}
	return nil
}

// owed notes an acknowledgement that goes out; k.writeMu is held.
func (k *conn) owed(p packet.Packet) {
	if len(k.unacked) == 0 {
		return
	}
	switch p := p.(type) {
	case *packet.Puback:
		delete(k.unacked, p.ID)
	case *packet.Pubcomp:
		delete(k.unacked, p.ID)
	case *packet.Pubrec:
		if p.Code >= 0x80 {
			delete(k.unacked, p.ID)
		}
	}
}
