package standin

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// conn is one connection. One goroutine reads and acts, another writes; the server's
// lock guards the fields.
type conn struct {
	s        *Server
	link     *link.Link
	listener string // its URL; "" within memory
	peer     *Peer  // for hooks; nil without
	how      string // how it ended, for people

	clientID   string
	username   string
	method     string // of enhanced authentication, "" for none
	rights     *rights
	open       map[uint16]bool // identifiers of QoS 2 messages from the client, not completed
	here       map[uint16]bool // of those that came by this connection, completed or not
	resumed    bool            // it goes on with a session
	version    packet.Version
	session    *session // nil before CONNECT was accepted
	pings      int      // PINGREQ so far
	spoke      bool     // something came after CONNECT
	keepAlive  time.Duration
	lastRead   time.Time
	silence    *time.Timer // fires when the keep alive may be over
	aliases    map[uint32]string
	receiveMax int
	maxPacket  int
	aliasMax   int               // topic aliases that the client lets us set
	goodbye    bool              // DISCONNECT came: no will
	hadWill    bool              // CONNECT left one
	wantsWill  bool              // DISCONNECT 0x04 came (5.0 §3.14.2.1)
	told       packet.ReasonCode // why the stand-in ended it, in the words of version 5; 0 where it did not
	broke      bool              // the client broke a rule

	queue   []packet.Packet
	bytes   int        // of what is queued or being written
	queued  *sync.Cond // on the server's lock
	closing bool       // write what is queued, then close
	gone    bool
}

// errGoodbye is the end that a client asks for.
var errGoodbye = errors.New("goodbye")

// refusal ends a connection with a code that the client may be told.
type refusal struct {
	code packet.ReasonCode
	why  string
}

func (r *refusal) Error() string { return r.why }

func refuse(code packet.ReasonCode, format string, args ...any) error {
	return &refusal{code, fmt.Sprintf(format, args...)}
}

// read reads and acts until the connection ends.
func (c *conn) read() {
	s := c.s
	timer := time.AfterFunc(connectTimeout, func() { c.link.Close() })
	r := packet.NewReader(c.link, packet.V311)
	r.MaxSize = s.opt.Limits.packetSize()
	s.decide(func(d *Decisions) {
		if d.PacketSize != nil {
			r.MaxSize = d.PacketSize(r.MaxSize)
		}
	})
	p, raw, err := c.next(r)
	for err == nil && p.Type() != packet.CONNECT && s.on(func(d *Decisions) bool { return d.NotFirst }) {
		p, raw, err = c.next(r)
	}
	timer.Stop()
	c.received(p, raw, err)
	if err == nil {
		err = c.greet(p, r)
		r.Version = c.version
	} else if c.refuseBroken(err) {
		err = nil
	}
	if err == nil && c.keepAlive > 0 {
		s.mu.Lock()
		c.silence = time.AfterFunc(c.keepAlive, c.checkKeepAlive)
		s.mu.Unlock()
		defer c.silence.Stop()
	}
	for err == nil && r.Buffered() && s.on(func(d *Decisions) bool { return d.DropsPipelined }) {
		_, _, err = c.next(r)
	}
	for err == nil {
		p, raw, err = c.next(r)
		c.received(p, raw, err)
		if err != nil {
			break
		}
		if again, ok := p.(*packet.Auth); ok {
			err = c.overlook(c.renew(again, r))
			continue
		}
		if !s.paced(p) {
			continue
		}
		s.mu.Lock()
		s.tick()
		if c.spoke = true; c.counts(p, false) {
			c.lastRead = s.now
		}
		err = c.overlook(c.act(p))
		for err == nil && c.session != nil && c.session.conn == c && c.session.greetMore() {
			s.mu.Unlock() // others come in between
			s.mu.Lock()
		}
		s.mu.Unlock()
	}
	c.finish(err)
}

// next reads a packet; what breaks a rule is read as far as it can be where a fault tolerates it.
func (c *conn) next(r *packet.Reader) (packet.Packet, []byte, error) {
	p, raw, err := r.Next()
	var broken *packet.Error
	if err == nil || !errors.As(err, &broken) ||
		!c.s.on(func(d *Decisions) bool { return d.Tolerate != nil && d.Tolerate(broken) }) {
		return p, raw, err
	}
	if again, _ := packet.Decode(raw, r.Version, packet.Lenient); again != nil {
		if connect, is := again.(*packet.Connect); is {
			r.Version = connect.Level
		}
		return again, raw, nil
	}
	io.Copy(io.Discard, c.link) // nothing can be made of it, nor of what follows
	return p, raw, err
}

// overlook passes over what would end the connection, by a fault.
func (c *conn) overlook(err error) error {
	var refused *refusal
	if errors.As(err, &refused) &&
		c.s.on(func(d *Decisions) bool { return d.Overlooks != nil && d.Overlooks(refused.code, refused.why) }) {
		return nil
	}
	return err
}

// counts tells whether a packet shows that the client is alive (§3.1.2.10); the server's lock is held.
func (c *conn) counts(p packet.Packet, sent bool) bool {
	counts := !sent
	c.s.decide(func(d *Decisions) {
		if d.Counts != nil {
			counts = d.Counts(p, sent)
		}
	})
	return counts
}

// received tells the hooks of a packet.
func (c *conn) received(p packet.Packet, raw []byte, err error) {
	if c.peer == nil || raw == nil {
		return
	}
	if connect, ok := p.(*packet.Connect); ok && c.peer.Version == 0 {
		c.peer.ClientID, c.peer.Version = connect.ClientID, connect.Level
	}
	c.s.opt.Hooks.Received(c.peer, p, raw, err)
}

// finish is the last thing the reading goroutine does.
func (c *conn) finish(err error) {
	s := c.s
	s.mu.Lock()
	defer s.mu.Unlock()
	var by Ending
	by, c.how = howEnded(c.link.End(), err)
	if by == EndedByClient && c.closing && !errors.Is(err, errGoodbye) { // it was told to go, and went
		by, c.how = EndedByStandIn, "closed by the stand-in, and by the client when it was told"
	}
	if c.peer != nil {
		c.peer.End = by
	}
	var broken *packet.Error
	var refused *refusal
	switch {
	case errors.As(err, &broken):
		c.broke = true
		c.disconnectLocked(broken.Code)
		if s.on(func(d *Decisions) bool { return d.Harms != nil && d.Harms(broken) }) {
			s.harmLocked(c)
		}
	case errors.As(err, &refused):
		c.broke = true
		c.disconnectLocked(refused.code)
	default:
		c.closing = true
		c.queued.Broadcast()
	}
	c.gone = true
	delete(s.conns, c)
	if ses := c.session; ses != nil && ses.conn == c && !s.closed {
		s.lost(ses, c)
	}
}

// harmLocked closes the links of others, by a fault.
func (s *Server) harmLocked(but *conn) {
	for c := range s.conns {
		if c != but && c.pings > 10 {
			c.disconnectLocked(packet.UnspecifiedError)
		}
	}
}

// Ending is who ended a connection of a stand-in.
type Ending string

// Who may have ended a connection.
const (
	EndedByClient  Ending = "the client"
	EndedByStandIn Ending = "the stand-in"
	EndedByReset   Ending = "a reset"
	EndedOtherwise Ending = "a failure"
)

// howEnded says who ended a connection, and for people how.
func howEnded(end link.End, err error) (Ending, string) {
	switch {
	case errors.Is(err, errGoodbye):
		return EndedByClient, "the client said goodbye by DISCONNECT"
	case end == link.EndNone, end == link.EndClosed:
		return EndedByStandIn, "closed by the stand-in: " + err.Error()
	case end == link.EndFIN:
		return EndedByClient, "the client closed the connection"
	case end == link.EndRST:
		return EndedByReset, "the client reset the connection"
	}
	return EndedOtherwise, "the connection failed: " + err.Error()
}

// disconnectLocked queues a DISCONNECT with the code in version 5 and lets the writer
// close after it.
func (c *conn) disconnectLocked(code packet.ReasonCode) {
	if c.version == packet.V5 && c.session != nil && !c.closing {
		c.queue = append(c.queue, &packet.Disconnect{Code: code}) // too small to count
	}
	if c.told == 0 {
		c.told = code
	}
	c.closing = true
	c.queued.Broadcast()
	// The writer may be in the middle of what the peer does not take.
	time.AfterFunc(lingerForGoodbye, func() { c.link.Close() })
}

// dropLocked ends the connection at once.
func (c *conn) dropLocked() {
	c.gone, c.closing = true, true
	c.queue = nil
	c.link.Close()
	c.queued.Broadcast()
}
