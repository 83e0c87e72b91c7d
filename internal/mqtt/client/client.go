// Package client is the client's end of MQTT: one session over any number of
// connections, that keeps the rules by itself and lets its owner take over any step.
package client

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// Hooks are told of what a client does, after the pattern of [net/http/httptrace]. Any
// may be nil. Packets and bytes handed over are never changed afterwards and may be
// kept. Hooks are called while the client waits, so they must not block and must
// not call the client.
type Hooks struct {
	// Sent is called just before a packet's bytes are written, in the order of the bytes: by the
	// goroutine that sends, or, where the link held them back, by the one that lets them go. p is
	// nil for raw bytes that are no packet.
	Sent func(p packet.Packet, raw []byte)
	// Held is called in place of Sent when the link is frozen or slowed, so that the bytes do not leave
	// yet. Sent follows when they do, or Lost when the link ends before.
	Held, Lost func(p packet.Packet, raw []byte)
	// Received is called for each packet read, by the reading goroutine, before the
	// client acts on it. err tells a broken rule; then p may be nil.
	Received func(p packet.Packet, raw []byte, err error)
	// Link is called when a connection opens, and when its state changes. by tells who ended it, for
	// [LinkEnded]. The text is for people: an address, or why it ended.
	Link func(e LinkEvent, by Blame, text string)
}

// LinkEvent is what happened to a connection.
type LinkEvent string

// The link events.
const (
	LinkOpened LinkEvent = "opened" // a connection stands; nothing is sent yet
	LinkFailed LinkEvent = "failed" // no connection could be made
	LinkFrozen LinkEvent = "frozen"
	LinkThawed LinkEvent = "thawed"
	LinkEnded  LinkEvent = "ended"
	// SessionLost tells that the broker no longer has the session that the client wanted
	// to go on with, and which publications may be lost with it.
	SessionLost LinkEvent = "session lost"
	// Watching tells that an observer has subscribed and sees from now on. No client calls a hook with it;
	// who observes adds it to the trace.
	Watching LinkEvent = "watching"
)

// Options say how a client connects. The zero values of all but Dial and Version
// are useful.
type Options struct {
	// Dial opens a link to the broker.
	Dial func(context.Context) (*link.Link, error)
	// Version is the protocol version.
	Version packet.Version
	// Connect is the CONNECT to send.
	Connect packet.Connect
	// Auth is the method of enhanced authentication, nil for none (5.0 §4.12). CONNECT
	// gets its properties from it.
	Auth auth.Method
	// UseAliases lets the client replace the topics it publishes to by aliases, as far
	// as the broker allows (5.0 §3.3.2.3.4).
	UseAliases bool
	// Heed returns what the client goes by of what CONNACK grants; nil for all of it.
	Heed func(packet.Properties) packet.Properties
	// Before is called with each CONNECT that is to be sent, and may change it; nil for none.
	Before func(*packet.Connect)
	// InFlight is how many publications at QoS 1 and 2 are under way at most; 0 for as many as the broker allows.
	InFlight int
	// MaxPacket is the largest packet that is taken and sent, in bytes, whether it is announced by a property of CONNECT
	// or not; 0 for [LargestPacket] and what the broker allows. A larger one that comes ends the connection.
	MaxPacket int
	// Take is asked about each packet received; where it returns true the client does
	// not act on the packet, as if it had been lost. It is called by the reading
	// goroutine.
	Take func(packet.Packet) bool
	// Completed is told of each publication at QoS 1 and 2 that came to its end, with the last code, or why it never will;
	// nil for nobody. It is called by the reading goroutine and must not block.
	Completed func(p *packet.Publish, code packet.ReasonCode, err error)
	// Message is called for each message that arrives, once for each at QoS 2, by the
	// reading goroutine. It must not wait for the client.
	Message func(*packet.Publish)
	Hooks   Hooks
}

// Client is an MQTT client. Its methods are safe for concurrent use. Each connection
// has one reading goroutine, which ends with the connection.
type Client struct {
	opt Options

	mu       sync.Mutex // guards what follows
	conn     *conn
	nextID   uint16
	entered  bool               // was accepted before
	sent     int32              // how many of flights, from the first, went out on this connection
	flights  flights            // our unfinished publications
	acks     map[uint16]*waiter // SUBSCRIBE and UNSUBSCRIBE under way
	received map[uint16]bool    // QoS 2 packet identifiers not yet released by the broker
	ended    error              // how the last connection ended
	pace     link.Pace          // of the links
	named    string             // the topic that was found to be one last
	assigned string             // the client identifier that the broker gave (5.0 §3.2.2.3.7)
	replies  replies            // requests that wait for their responses
}

// conn is one connection of a client.
type conn struct {
	c     *Client
	link  *link.Link
	limit limits
	ready chan *packet.Connack // capacity 1, closed where none comes; of the reading goroutine, nil after that
	done  chan struct{}        // closed when the connection has ended; nil where nobody waits; guarded by c.mu
	err   error                // why; set before that

	writeMu   sync.Mutex
	lastWrite time.Duration // since began
	burst     *burst        // packets that go out together; nil while they go out one by one
	gathered  []byte
	gathering int32         // calls of Gather under way
	writes    atomic.Uint32 // of what was gathered
	over      bool          // it has ended; guarded by c.mu
	bye       bool          // DISCONNECT was sent or the owner ended the link

	answered  bool  // CONNACK came; of the reading goroutine, as what follows
	refused   bool  // it refused
	announced bool  // a maximum packet size of ours: what is larger breaks a rule
	reads     int32 // in all, as far as it matters
	packets   uint32
	stream    *stream // nil while it is idle

	frozen  atomic.Bool
	holding atomic.Bool // the link may hold back what is written: it is, or was, frozen or slowed
	pingMu  sync.Mutex
	pings   []*waiter // PINGREQs without PINGRESP
	timer   *time.Timer
	aliases map[uint16]string // topic aliases the broker has set
	ours    packet.Aliases    // topic aliases we have set; guarded by writeMu
	unacked map[uint16]bool   // identifiers of the broker's that we owe an acknowledgement; guarded by writeMu

	heard atomic.Int64 // when something was read last, in nanoseconds since began
	began time.Time

	reader   *packet.Reader // of the reading goroutine, as what follows
	lastRead time.Duration  // since began
	said     *packet.Disconnect

	enhanced *enhanced // nil where authentication is not enhanced
}

// enhanced is an authentication beyond user name and password.
type enhanced struct {
	exchange auth.Exchange // while one is under way
	renewed  *waiter       // waits for a re-authentication
}

type waiter struct {
	at   time.Time
	done chan packet.Packet // capacity 1
}

// The states of a flight.
const (
	awaitAck  = iota // PUBLISH sent: PUBACK or PUBREC is due
	awaitComp        // PUBREL sent: PUBCOMP is due
)

// flight is a publication at QoS 1 or 2 that is not completed.
type flight struct {
	p     *packet.Publish // as it goes out next
	first packet.Publish
	pub   Publication
	state int
	ever  bool // was sent on any connection
	over  bool
	done  chan struct{} // made for who waits; nil where nobody does
	code  packet.ReasonCode
	err   error
}

// NewID makes up a client identifier that every server must take: letters and digits, at most
// 23 (3.1.1 §3.1.3.1).
func NewID() string { return fmt.Sprintf("hodstone%08d", rand.Uint32N(100_000_000)) }

// New returns a client that is not connected.
func New(o Options) *Client {
	return &Client{opt: o}
}

// refusalGrace is how long a broker has to close the link after a refusal before
// the client does.
const refusalGrace = 2 * time.Second

// Connect opens a link, sends CONNECT and waits for CONNACK. A refusal is a
// [*RefusedError], returned with the CONNACK. Publications of the session that were
// under way are sent again when the broker still has the session (§4.4).
func (c *Client) Connect(ctx context.Context) (*packet.Connack, error) {
	c.mu.Lock()
	if c.conn != nil {
		c.mu.Unlock()
		return nil, errors.New("already connected")
	}
	c.mu.Unlock()
	l, err := c.opt.Dial(ctx)
	if err != nil {
		c.linkEvent(LinkFailed, err.Error())
		return nil, err
	}
	k := &conn{
		c:     c,
		link:  l,
		ready: make(chan *packet.Connack, 1),
		began: time.Now(),

		lastRead: -time.Hour,
	}
	ready := k.ready
	connect := c.opt.Connect
	connect.Level = c.opt.Version
	if c.opt.Before != nil {
		c.opt.Before(&connect)
	}
	if connect.ClientID == "" && !connect.CleanStart {
		connect.ClientID = c.assigned // or the session would not be found again
	}
	if err := k.beginAuth(&connect); err != nil {
		l.Close()
		return nil, err
	}
	k.limit = limitsOf(nil)
	k.limit.keepAlive = time.Duration(connect.KeepAlive) * time.Second
	c.mu.Lock()
	if c.conn != nil {
		c.mu.Unlock()
		l.Close()
		return nil, errors.New("already connected")
	}
	c.conn = k
	if c.pace != (link.Pace{}) {
		k.holding.Store(true)
		l.Slow(c.pace)
	}
	c.sent = 0
	c.mu.Unlock()
	c.linkEvent(LinkOpened, l.RemoteAddr().String())
	reader := packet.NewReader(l, c.opt.Version)
	if reader.MaxSize = LargestPacket; c.opt.MaxPacket > 0 {
		reader.MaxSize = c.opt.MaxPacket
	}
	if n, ok := connect.Properties.Int(packet.MaximumPacketSize); ok {
		reader.MaxSize, k.announced = int(n), true
	}
	k.reader = reader
	go k.wait()
	if err := k.send(&connect); err != nil {
		k.end(err)
		<-k.gone()
		return nil, k.err
	}
	select {
	case ack, came := <-ready:
		if !came {
			return nil, k.err
		}
		return ack, k.connected(ack) // it may have closed behind a refusal
	case <-ctx.Done():
		k.end(nil)
		<-k.gone()
		return nil, fmt.Errorf("no CONNACK: %w", context.Cause(ctx))
	}
}

// connected takes in what CONNACK says.
func (k *conn) connected(ack *packet.Connack) error {
	c := k.c
	if ack.Code != 0 {
		reason, _ := ack.Properties.Str(packet.ReasonString)
		closed := true
		grace := time.NewTimer(refusalGrace)
		defer grace.Stop()
		select {
		case <-k.gone():
		case <-grace.C:
			closed = false
			k.end(nil)
			<-k.gone()
		}
		server, _ := ack.Properties.Str(packet.ServerReference)
		return &RefusedError{Code: ack.Code, Version: c.opt.Version, Reason: reason, Closed: closed, Server: server}
	}
	k.ping()
	return nil
}

// accept is done by the reading goroutine on CONNACK, before anything that follows it. An
// error ends the connection.
func (k *conn) accept(ack *packet.Connack) error {
	c := k.c
	if ack.Code == 0 {
		if ack.SessionPresent && c.opt.Connect.CleanStart && c.opt.Version == packet.V5 {
			return &ruleError{packet.ProtocolError, "session present 1 after a clean start (5.0 §3.2.2.1.1)"}
		}
		if err := k.proven(ack.Properties); err != nil {
			return err
		}
		k.writeMu.Lock()
		c.mu.Lock()
		keepAlive := k.limit.keepAlive
		granted := ack.Properties
		if c.opt.Heed != nil {
			granted = c.opt.Heed(granted)
		}
		k.limit = limitsOf(granted).within(&c.opt)
		if _, named := granted.Int(packet.ServerKeepAlive); !named {
			k.limit.keepAlive = keepAlive
		}
		if id, ok := ack.Properties.Str(packet.AssignedClientID); ok {
			c.assigned = id
		}
		lost := ""
		if kept := ack.SessionPresent || c.opt.Version == packet.V31 && !c.opt.Connect.CleanStart; !kept {
			if c.entered && !c.opt.Connect.CleanStart || len(c.flights.all) > 0 {
				lost = lostText(c.flights.all)
			}
			for _, f := range c.flights.all {
				f.finish(0, ErrSessionLost)
			}
			clear(c.received)
			clear(c.replies.topics)
			c.flights, c.sent = flights{}, 0
		}
		for _, f := range c.flights.all {
			if f.ever {
				f.p = resend(f.p)
			}
		}
		c.entered = true
		next := c.waiting()
		c.mu.Unlock()
		k.writeMu.Unlock()
		if lost != "" {
			c.linkEvent(SessionLost, lost)
		}
		for next != nil {
			k.transmit(next)
			c.mu.Lock()
			next = c.waiting()
			c.mu.Unlock()
		}
	}
	k.refused = ack.Code != 0
	ready := k.ready
	k.ready = nil // CONNACK comes once, and an idle session holds little memory
	ready <- ack
	return nil
}

// lostText lists publications that may be lost.
func lostText(flights []*flight) string {
	s := "session present 0"
	const most = 20
	for i, f := range flights {
		switch {
		case i == most:
			return s + fmt.Sprintf(" and %d more", len(flights)-most)
		case i == 0:
			s += fmt.Sprintf("; these %d publications may be lost:", len(flights))
		}
		s += fmt.Sprintf(" #%d to %s (QoS %d)", f.p.ID, f.p.Topic, f.p.QoS)
	}
	return s
}

func resend(p *packet.Publish) *packet.Publish {
	dup := *p
	dup.Dup = true
	return &dup
}

// current returns the connection, or nil.
func (c *Client) current() *conn {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.conn
}

// Done returns a channel that is closed when the present connection has ended; it
// is closed already where there is none.
func (c *Client) Done() <-chan struct{} {
	if k := c.current(); k != nil {
		return k.gone()
	}
	closed := make(chan struct{})
	close(closed)
	return closed
}

// gone returns a channel that is closed when the connection has ended.
func (k *conn) gone() <-chan struct{} {
	k.c.mu.Lock()
	defer k.c.mu.Unlock()
	if k.done == nil {
		if k.done = make(chan struct{}); k.over {
			close(k.done)
		}
	}
	return k.done
}

// Ended returns how the last connection ended, or nil.
func (c *Client) Ended() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// Version is the protocol version that the client speaks.
func (c *Client) Version() packet.Version { return c.opt.Version }

// Connected tells whether a connection stands; it may not have been accepted yet.
func (c *Client) Connected() bool { return c.current() != nil }
