package standin

import (
	"crypto/tls"
	"math"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// Fault is one way in which a stand-in misbehaves on purpose. Package fault has the table of them.
type Fault struct {
	// Name is what it is called in workspaces and on the command line.
	Name string
	// Sentence says what goes wrong.
	Sentence string
	// Breaks lists all checks whose verdict the fault turns to broken.
	Breaks []string
	// Undecides lists the checks that cannot be carried out under the fault.
	Undecides []string
	// NotLetIn tells that no proof begins under the fault: our own login does not get in.
	NotLetIn bool
	// Sockets tells that the fault shows on sockets alone, and not within memory.
	Sockets bool
	// Leaves tells that sessions stay behind under the fault, though their clients ended them.
	Leaves bool
	// With are the limits under which the fault shows, and Unsupports lists the checks that are unsupported by these.
	With       Limits
	Unsupports []string
	// Versions are those in which the fault shows; all where it is nil.
	Versions []packet.Version
	Decisions
}

// Decisions are hooks at the points where a stand-in decides something, after the pattern of
// [net/http/httptrace]. Those that are nil leave the decision as the standard has it. They are called with
// the server's lock held, so they must not block.
type Decisions struct {
	// Hold is for how long CONNACK is held back.
	Hold time.Duration
	// Refuse refuses a CONNECT that is in order.
	Refuse func(p *packet.Connect) bool
	// Password decides whether the password that a known user presents is taken; right tells whether it is
	// that of the login.
	Password func(want string, p *packet.Connect, right bool) bool
	// AnyUser lets in users that are not known. MayPublish and MaySubscribe decide what a login may do.
	AnyUser                  bool
	MayPublish, MaySubscribe func(login, topic string, may bool) bool
	// StoresBarred stores what is published without the right to, though nobody gets it.
	StoresBarred bool
	// LetIn lets in clients without credentials.
	LetIn bool
	// StaysOpen leaves the link open after a refusal.
	StaysOpen bool
	// TLS changes how TLS listeners shake hands; Certificate says what is wrong with their certificates, for whoever
	// makes them: "expired", "wrong-name" or "incomplete". PlainToo takes connections without TLS there too.
	TLS         func(c *tls.Config)
	Certificate string
	PlainToo    bool
	// WebSocket are flaws of the WebSocket listeners.
	WebSocket link.Flaws
	// Separate keeps messages to the listener that they came by.
	Separate bool
	// Tolerate decides whether a packet that breaks a rule is acted on as far as it can be read. It is called without
	// the lock, so it must keep nothing.
	Tolerate func(e *packet.Error) bool
	// Overlooks decides whether a packet is passed over that would end the connection with a code, for a reason.
	Overlooks func(code packet.ReasonCode, why string) bool
	// Objects decides why a PUBLISH ends the connection that should not; "" for not.
	Objects func(p *packet.Publish) string
	// PacketSize decides which packets are too large, in bytes; told is what clients are told.
	PacketSize func(told int) int
	// AnyLevel answers a CONNECT of an unknown protocol level with CONNACK 0, NotFirst passes over what comes before
	// CONNECT, and Again over a second CONNECT.
	AnyLevel, NotFirst, Again bool
	// Identify decides which client identifier one gets who leaves it to the stand-in, and whether version 5 is told.
	Identify func(id string) (as string, told bool)
	// Code decides which code of version 5 a refusal has, and whether it is told at all before the link is closed.
	Code func(p *packet.Connect, code packet.ReasonCode) (as packet.ReasonCode, told bool)
	// BothLive leaves the client in whose identifier another takes; ThrowsBoth throws the newcomer out too.
	BothLive, ThrowsBoth bool
	// ActsAfterRefusal acts on what came together with a CONNECT that is refused.
	ActsAfterRefusal bool
	// DropsPipelined loses what comes in one piece with CONNECT.
	DropsPipelined bool
	// Late sends what waits for a client before its CONNACK.
	Late bool
	// AnyMethod lets in a client whose authentication method is not known, by its user name and password.
	AnyMethod bool
	// KeepAlive decides after how many seconds without a packet a client is thrown out, 0 for never; asked is what the
	// client asks for, own what the stand-in has told it to use, 0 for nothing.
	KeepAlive func(asked, own int) int
	// OnlySpoken throws silent clients out only that have sent something after CONNECT.
	OnlySpoken bool
	// Counts decides whether a packet shows that the client is alive; sent tells that it went out to it.
	Counts func(p packet.Packet, sent bool) bool
	// Present decides what CONNACK says of the session.
	Present func(p *packet.Connect, present bool) bool
	// Pong decides how many PINGRESP the nth PINGREQ of a connection gets, from 1.
	Pong func(nth int) int
	// Topic changes the topic name of what is published.
	Topic func(name string) string
	// Arrived decides what becomes of a PUBLISH from a client.
	Arrived func(a *Arrival)
	// Alias decides which topic name an alias stands for, AnyAlias takes aliases beyond what was told, and KeepsAliases
	// keeps those of the connection before. Aliases decides how many we may set, of those that the client allows.
	Alias        func(alias uint32, name string) string
	AnyAlias     bool
	KeepsAliases bool
	Aliases      func(allowed int) int
	// ReceiveMaximum and MaximumPacketSize decide which is heeded of the limits that the client tells.
	ReceiveMaximum, MaximumPacketSize func(told int) int
	// NoSubscribers decides whether PUBACK and PUBREC say that nobody subscribes.
	NoSubscribers func(none bool) bool
	// Release decides what becomes of a client's PUBREL.
	Release func(r *Release)
	// Answer changes what goes out to a client in a flow, be it an acknowledgement or PUBREL; nil keeps it back.
	Answer func(answer packet.Packet) packet.Packet
	// Released decides whether a PUBLISH at QoS 1 or 2 whose flow the client has completed is sent again.
	Released func(p *packet.Publish) bool
	// Resend decides what goes out again when a session is resumed, for a PUBLISH whose flow is not complete: PUBLISH
	// with DUP, or PUBREL; nil for nothing. Backwards sends it in the wrong order.
	Resend    func(p *packet.Publish, again packet.Packet) packet.Packet
	Backwards bool
	// WaitedBackwards sends what has waited for a client in the wrong order, and NewFirst after what comes in the
	// meantime.
	WaitedBackwards, NewFirst bool
	// Codes changes what SUBACK says, and nothing else.
	Codes func(subs []packet.Subscription, codes []packet.ReasonCode) []packet.ReasonCode
	// Holds decides whether the nth filter of SUBSCRIBE is held, from 1, which SUBACK has granted.
	Holds func(nth int) bool
	// Rejoin decides which subscription a SUBSCRIBE for a filter leaves that is held already.
	Rejoin func(before, now packet.Subscription) packet.Subscription
	// Leaves decides whether UNSUBSCRIBE for a filter takes a subscription back, of those that are held.
	Leaves func(filter, held string, leaves bool) bool
	// Keeps decides whether a message is kept from a subscriber; own tells that it is the publisher.
	Keeps func(sub *packet.Subscription, own, kept bool) bool
	// Shares decides how many members of a shared subscription get a message, of so many; nth counts those of the
	// group.
	Shares func(m *packet.Publish, nth, members int) int
	// Match decides whether a filter matches a topic name.
	Match func(filter, name string, matches bool) bool
	// Grant changes what SUBACK says of a filter.
	Grant func(sub packet.Subscription, code packet.ReasonCode) packet.ReasonCode
	// Deliver changes what one client gets of a message.
	Deliver func(d *Delivery)
	// Store decides whether a retained message is stored, or, where it is empty, the stored one is cleared.
	Store func(m *packet.Publish) bool
	// Retains decides whether a message is stored, or clears what is; retains tells that its flag says so.
	Retains func(m *packet.Publish, retains bool) bool
	// Greets decides whether stored messages greet a subscription; existed tells that it replaces one.
	Greets func(sub *packet.Subscription, existed, greets bool) bool
	// Bequeath decides whether what a client has stored is cleared when its session ends; goodbye tells that it said
	// DISCONNECT.
	Bequeath func(goodbye bool) bool
	// Expired decides whether a message is over; stored tells that it is a stored one, else it waits for a client.
	Expired func(stored, expired bool) bool
	// Left decides which message expiry goes out, in seconds, of one that was published with another; [Unsaid] for none.
	Left func(published, left uint32) uint32
	// Will decides what becomes of a will when its client's connection has ended.
	Will func(w *WillCase)
	// WillStored decides whether a will that is to be stored replaces what is; existed tells that there is something.
	WillStored func(existed bool) bool
	// WillOfNone returns what is published when the client with the identifier is gone without DISCONNECT and had
	// no will; nil for nothing.
	WillOfNone func(clientID string) *packet.Publish
	// Forget ends a session as soon as its client is gone, and Expiry decides after which time; hasWill tells that it
	// has a will. Changed decides whether DISCONNECT changes that.
	Forget  bool
	Expiry  func(told time.Duration, hasWill bool) time.Duration
	Changed func(before, now time.Duration) bool
	// Loses decides what is lost over a restart; killed tells that it was not in order.
	Loses func(killed bool) Losses
	// NotCleaned leaves a session as it is at a clean start, though CONNACK says otherwise, and CleanKept keeps one
	// that was not to be.
	NotCleaned, CleanKept bool
	// ClientID changes the identifier by which a client is known.
	ClientID func(id string) string
	// Harms decides whether a packet that breaks a rule closes the links of those who have sent more than ten PINGREQ.
	Harms func(e *packet.Error) bool
}

// Unsaid is the message expiry that does not go out.
const Unsaid = math.MaxUint32

// Losses are what a restart loses: stored messages, kept sessions, what waits for those whose clients were away, and
// what was sent to those who were there and not acknowledged.
type Losses struct{ Stored, Sessions, Waiting, Flights bool }

// Arrival is a PUBLISH from a client.
type Arrival struct {
	ClientID string
	Message  *packet.Publish
	// Again tells that its identifier is that of a QoS 2 message whose flow is not complete, and Resumed that the
	// connection goes on with a session.
	Again, Resumed bool
	// Pass tells whether it is passed on, Answer whether it is acknowledged.
	Pass, Answer bool
}

// Release is a PUBREL from a client.
type Release struct {
	ClientID string
	ID       uint16
	// Known tells that a PUBLISH with the identifier awaits it, and Earlier that it came by an earlier connection.
	Known, Earlier bool
	// Answer tells whether PUBCOMP goes out, with Code; Pass is passed on then, nil for nothing.
	Answer bool
	Code   packet.ReasonCode
	Pass   *packet.Publish
}

// Delivery is what one client gets of a message.
type Delivery struct {
	// Published is the message as it was published, or stored.
	Published *packet.Publish
	// Filter is the client's subscription, and Granted what it was granted; of those that match the first.
	Filter  string
	Granted packet.QoS
	// AsPublished tells that the subscription asks for the retain flag as published.
	AsPublished bool
	// Stored tells a stored message that greets a subscription, Away that the client is not there, Nth how many
	// messages the session got before, and Version what it speaks.
	Stored  bool
	Away    bool
	Nth     int
	Version packet.Version
	// Receivers is how many get the message, and Place which of them this is, from 0. Filters is how many subscriptions
	// of the client match, Least the lowest QoS of what they bring, and Repeats how often the first was subscribed to
	// again. Shared tells that it is a share's.
	Receivers, Place, Filters, Repeats int
	Least                              packet.QoS
	Shared                             bool
	// Topic, Payload, QoS, Retain, Dup, Properties and subscription identifiers are what goes out, Times how often: 0
	// for not at all. Behind lets the next one overtake it.
	Topic      string
	Payload    []byte
	QoS        packet.QoS
	Retain     bool
	Dup        bool
	Properties packet.Properties
	IDs        []uint32
	Times      int
	Behind     bool
}

// WillCase is a will whose client's connection has ended.
type WillCase struct {
	ClientID string
	// Goodbye tells that DISCONNECT came, and Reset that the link was reset; Requested that DISCONNECT asks for the
	// will, Silent that the keep alive was over, TakenOver that another client came with the identifier, and Violation
	// that the client broke a rule.
	Goodbye, Reset, Requested, Silent, TakenOver, Violation bool
	// Asked is the will delay, and Delay the time after which it is published: the session's end may come before (5.0
	// §3.1.3.2.2). Uncancelled publishes it even if the client returns before, and Outlives after the session's end.
	Asked, Delay          time.Duration
	Uncancelled, Outlives bool
	// Send tells whether it is published, Times how often, and Later after how long.
	Send  bool
	Times int
	Later time.Duration
	// Message is what is published.
	Message *packet.Publish
}

// decide runs through the faults that are on.
func (s *Server) decide(visit func(d *Decisions)) {
	for i := range s.opt.Faults {
		visit(&s.opt.Faults[i].Decisions)
	}
}

// on tells whether a fault is on that says yes.
func (s *Server) on(is func(d *Decisions) bool) (yes bool) {
	s.decide(func(d *Decisions) { yes = yes || is(d) })
	return yes
}

// answer gives an answer in a flow to the client; the server's lock is held.
func (c *conn) answer(p packet.Packet) {
	c.s.decide(func(d *Decisions) {
		if d.Answer != nil && p != nil {
			p = d.Answer(p)
		}
	})
	if p != nil {
		c.pushLocked(p)
	}
}

func (s *Server) matches(filter, name string, matches bool) bool {
	s.decide(func(d *Decisions) {
		if d.Match != nil {
			matches = d.Match(filter, name, matches)
		}
	})
	return matches
}

// mismatches tells whether filters may match what they should not.
func (s *Server) mismatches() (any bool) {
	s.decide(func(d *Decisions) { any = any || d.Match != nil })
	return any
}
