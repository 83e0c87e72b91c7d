package client

import (
	"errors"
	"fmt"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// ErrNotConnected is returned by whatever needs a connection when there is none.
var ErrNotConnected = errors.New("not connected")

// ErrNoIdentifier is returned where every packet identifier is in use (§2.3.1): 65,535 packets wait
// for their acknowledgement.
var ErrNoIdentifier = errors.New("65535 packets wait for their acknowledgement: no packet identifier is free (§2.3.1)")

// ErrSessionLost is what a publication ends with when the broker no longer has the
// session it was under way in.
var ErrSessionLost = errors.New("the broker has lost the session (session present 0): this publication may be lost")

// RefusedError is a CONNACK that refuses (§3.2.2).
type RefusedError struct {
	Code    packet.ReasonCode
	Version packet.Version
	Reason  string // the broker's own words, if any (5.0 §3.2.2.3.9)
	Closed  bool   // the broker closed the link by itself, as it must (§3.2.2.3, 5.0 §3.2.2.2)
	Server  string // another server to use instead, if it names one (5.0 §4.13)
}

// Error names the code and its meaning.
func (e *RefusedError) Error() string {
	s := fmt.Sprintf("the broker refused the connection: %s, %s",
		e.Code.Code(packet.CONNACK, e.Version), e.Code.In(packet.CONNACK, e.Version))
	if e.Reason != "" {
		s += fmt.Sprintf(" (it says %q)", e.Reason)
	}
	return s + redirected(e.Server)
}

// redirected words a server reference.
func redirected(server string) string {
	if server == "" {
		return ""
	}
	return ": it names another server to use: " + server
}

// EndedError tells how a connection ended that something was waiting on.
type EndedError struct {
	End    link.End
	Code   packet.ReasonCode // of the broker's DISCONNECT, where HasCode
	Coded  bool
	Reason string // further words
	Server string // another server to use instead, if it names one (5.0 §4.13)
	// Broken is the rule that the broker broke, where that is why the client closed; Rule tells that it
	// broke one that spans several packets, which Reason names.
	Broken *packet.Error
	Rule   bool
	// Silent is the keep alive within which no PINGRESP came, where we closed for that; else 0.
	Silent time.Duration
}

// endWords are how the ends of a link are told.
var endWords = map[link.End]string{
	link.EndFIN: "the broker closed the connection", link.EndRST: "the connection was reset",
	link.EndClosed: "the connection was closed by us", link.EndCut: "the connection was cut by us",
	link.EndFailed: "the connection failed",
}

// Blame is who ended a connection, as far as the evidence goes.
type Blame string

// Who may have ended a connection.
const (
	ByUs      Blame = "us"
	ByBroker  Blame = "the broker"
	ByReset   Blame = "a reset: the broker's machine, or something in between"
	BySilence Blame = "silence: the network, or a broker that hangs"
	ByUnknown Blame = "unknown"
)

// BlameOf tells who ended a connection that ended with the error.
func BlameOf(err error) Blame {
	var e *EndedError
	switch {
	case !errors.As(err, &e):
		return ByUs // our owner did, without another reason
	case e.Coded, e.End == link.EndFIN, e.Broken != nil, e.Rule:
		return ByBroker
	case e.Silent > 0:
		return BySilence
	case e.End == link.EndRST:
		return ByReset
	case e.End == link.EndClosed, e.End == link.EndCut:
		return ByUs
	}
	return ByUnknown
}

// Error says it in plain words.
func (e *EndedError) Error() string {
	s := endWords[e.End]
	if e.Silent > 0 {
		s = fmt.Sprintf("no PINGRESP within the keep alive of %s: closed", e.Silent)
	}
	if e.Coded {
		s = fmt.Sprintf("the broker disconnected us: 0x%02X, %s", byte(e.Code), e.Code.In(packet.DISCONNECT, packet.V5))
	}
	if e.Reason != "" {
		s += ": " + e.Reason
	}
	return s + redirected(e.Server)
}
