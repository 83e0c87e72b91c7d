// Package standin is the small broker that ships inside Hodstone: MQTT 3.1, 3.1.1 and 5
// with QoS 0 to 2, retained messages, wills, kept sessions, shared subscriptions, logins
// with rights, and limits that it announces and keeps; faithful unless told to misbehave by
// named faults. It serves the demo, the tests of the
// checks, and whoever has no broker at hand.
package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Limits of a stand-in. They keep a runaway client from eating the memory of the
// program it runs in.
const (
	maxPacketSize    = 8 << 20 // larger than any check or device sends
	maxQueued        = 10_000  // messages that wait for an absent or slow client
	maxWriteQueue    = 20_000  // packets towards one connection; QoS 0 is dropped beyond
	maxInFlight      = 1_000   // unacknowledged towards one client, if it allows as many
	topicAliasMax    = 32      // told in CONNACK (5.0 §3.2.2.3.8)
	connectTimeout   = 10 * time.Second
	maxRetained      = 50_000
	keptQueue        = 64                     // packets that an idle connection keeps room for
	keptBuffer       = 4 << 10                // bytes that an idle connection keeps room for
	lingerForRefused = 50 * time.Millisecond  // by a fault, for what came with a refused CONNECT to be acted on
	lingerForGoodbye = 200 * time.Millisecond // for a last packet to leave before the link is closed
)

// Options say how a stand-in behaves.
type Options struct {
	// Logins are the identities it knows.
	Logins []Login
	// Anonymous lets in clients without credentials.
	Anonymous bool
	// Limits are announced and kept.
	Limits Limits
	// Pace bounds how fast it takes messages; the zero value does not.
	Pace Pace
	// Hooks are told of all that goes over; may be nil.
	Hooks *Hooks
	// Faults are those that are on.
	Faults []Fault
	// System lets it tell of itself on topics that begin with $SYS.
	System bool
}

// Hooks are told of what a stand-in's connections do, after the pattern of
// [net/http/httptrace]. All must be set. Packets and bytes handed over are never changed
// afterwards. They are called while the client waits, so they must not block.
type Hooks struct {
	// Opened is called when a connection is accepted. peer is its own for the
	// connection's life and is handed to the other hooks.
	Opened func(peer *Peer)
	// Received is called for each packet read, before it is acted upon. p may be nil
	// where err tells a broken rule.
	Received func(peer *Peer, p packet.Packet, raw []byte, err error)
	// Sent is called just before a packet's bytes are written.
	Sent func(peer *Peer, p packet.Packet, raw []byte)
	// Ended is called when the connection is over, with how it ended.
	Ended func(peer *Peer, text string)
}

// Peer is the other end of a connection, for hooks.
type Peer struct {
	Number   int    // of the connection, from 1
	Address  string // where it came from
	Listener string // the URL of the listener it came by; empty within memory
	// ClientID and Version are those of CONNECT, once one came.
	ClientID string
	Version  packet.Version
	// End is who ended it, when [Hooks.Ended] is called.
	End Ending
}

// Server is a stand-in. Its methods are safe for concurrent use.
type Server struct {
	opt   Options
	pacer pacer
	ctx   context.Context
	stop  context.CancelFunc
	wg    sync.WaitGroup

	mu        sync.Mutex // guards all broker state, that of sessions and connections included
	closed    bool
	refuseAll bool
	down      int // restarts under way
	listeners []net.Listener
	conns     map[*conn]bool
	sessions  map[string]*session
	tree      topic.Tree[holder, *subscription]
	groups    map[string]*group // shared subscriptions by $share/NAME/FILTER
	retained  topic.Names[*message]
	held      int // bytes, see memory.go
	connected int // sessions with a connection
	assigned  int
	owners    map[string]string // who stored what, where a fault asks for it
	accepted  int               // connections so far
	now       time.Time
	second    int64 // of now
	hits      []hit
	round     uint64 // numbers messages, for finding a session's hit
	refusals  []Refusal
	logins    *logins
	system    *time.Timer // tells of the stand-in; nil where it does not
}

// New returns a stand-in that has no listener yet. The error is about its logins.
func New(o Options) (*Server, error) {
	s := &Server{
		opt:      o,
		conns:    map[*conn]bool{},
		sessions: map[string]*session{},
		groups:   map[string]*group{},
	}
	var err error
	if s.logins, err = newLogins(o.Logins); err != nil {
		return nil, err
	}
	s.ctx, s.stop = context.WithCancel(context.Background())
	if o.System {
		s.locked(s.startSystem)
	}
	return s, nil
}

// Listen opens a plain TCP listener and serves it. Port 0 lets the system choose one.
func (s *Server) Listen(addr string) (net.Addr, error) {
	_, a, err := s.ListenURL("mqtt://"+addr, nil)
	return a, err
}

// ListenURL opens a listener for a URL as [link.Parse] reads it and serves it; config is
// needed for mqtts and wss. It returns the URL by which it is reached: port 0 lets the
// system choose one.
func (s *Server) ListenURL(rawURL string, config *tls.Config) (string, net.Addr, error) {
	e, err := link.Parse(rawURL)
	if err != nil {
		return "", nil, err
	}
	if e.TLS && config == nil {
		return "", nil, fmt.Errorf("stand-in: %s needs a certificate", rawURL)
	}
	ln, err := net.Listen(e.Network, e.Address)
	if err != nil {
		return "", nil, fmt.Errorf(
			"stand-in: cannot listen on %s: %w: choose another port, or 0 for any",
			e.Address,
			err,
		)
	}
	reached, path := e.Reached(ln.Addr())
	if e.TLS {
		config = config.Clone()
		s.decide(func(d *Decisions) {
			if d.TLS != nil {
				d.TLS(config)
			}
		})
		if s.on(func(d *Decisions) bool { return d.PlainToo }) {
			ln = &eitherListener{ln, config}
		} else {
			ln = tls.NewListener(ln, config)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		ln.Close()
		return "", nil, net.ErrClosed
	}
	s.listeners = append(s.listeners, ln)
	if e.WebSocket {
		s.wg.Go(func() { link.ServeWebSocket(ln, path, func(l *link.Link) { s.serve(l, reached) }, s.flaws()) })
		return reached, ln.Addr(), nil
	}
	s.wg.Go(func() { link.Serve(ln, func(l *link.Link) { s.serve(l, reached) }) })
	return reached, ln.Addr(), nil
}

// flaws are those of the faults that are on.
func (s *Server) flaws() (out link.Flaws) {
	s.decide(func(d *Decisions) {
		out.NoSubprotocol = out.NoSubprotocol || d.WebSocket.NoSubprotocol
		out.Text = out.Text || d.WebSocket.Text
		out.Whole = out.Whole || d.WebSocket.Whole
	})
	return out
}

// eitherListener takes connections with TLS and without, by a fault.
type eitherListener struct {
	net.Listener
	config *tls.Config
}

// Accept implements [net.Listener].
func (l *eitherListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	first := make([]byte, 1)
	c.SetReadDeadline(time.Now().Add(connectTimeout))
	if n, _ := c.Read(first); n == 0 {
		return c, nil
	}
	c.SetReadDeadline(time.Time{})
	again := &begun{c, first}
	if first[0] == 22 { // a handshake (RFC 8446 §5.1)
		return tls.Server(again, l.config), nil
	}
	return again, nil
}

// begun is a connection of which a byte was read.
type begun struct {
	net.Conn
	first []byte
}

func (c *begun) Read(b []byte) (int, error) {
	if len(c.first) > 0 {
		n := copy(b, c.first)
		c.first = c.first[n:]
		return n, nil
	}
	return c.Conn.Read(b)
}

// Dial opens a link to the stand-in within memory.
func (s *Server) Dial(ctx context.Context) (*link.Link, error) { return s.DialAs(ctx, "") }

// DialAs is [Server.Dial] as if by a listener.
func (s *Server) DialAs(_ context.Context, listener string) (*link.Link, error) {
	ours, theirs := link.Pipe()
	if !s.serve(ours, listener) {
		return nil, errors.New("the stand-in is closed")
	}
	return theirs, nil
}

// serve starts the goroutines of a connection.
func (s *Server) serve(l *link.Link, listener string) bool {
	c := &conn{s: s, link: l, listener: listener}
	c.queued = sync.NewCond(&s.mu)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		l.Close()
		return false
	}
	if s.down > 0 { // nobody is at home
		l.Close()
		return true
	}
	s.conns[c] = true
	if h := s.opt.Hooks; h != nil {
		s.accepted++
		c.peer = &Peer{Number: s.accepted, Address: l.RemoteAddr().String(), Listener: listener}
		h.Opened(c.peer)
	}
	var both sync.WaitGroup
	both.Add(2)
	s.wg.Go(func() { defer both.Done(); c.read() })
	s.wg.Go(func() { defer both.Done(); c.write() })
	if c.peer != nil {
		s.wg.Go(func() {
			both.Wait() // what was sent last is told before the end
			s.opt.Hooks.Ended(c.peer, c.how)
		})
	}
	return true
}

// tick reads the clock, once for whatever is done until the lock is released.
func (s *Server) tick() {
	s.now = time.Now()
	s.second = s.now.Unix()
}

// Close ends all listeners and connections and waits for their goroutines. No wills
// are published.
func (s *Server) Close() {
	s.mu.Lock()
	s.closed = true
	s.stop()
	for _, ln := range s.listeners {
		ln.Close()
	}
	for c := range s.conns {
		c.dropLocked()
	}
	for _, ses := range s.sessions {
		ses.stopTimers()
	}
	if s.system != nil {
		s.system.Stop()
	}
	s.mu.Unlock()
	s.wg.Wait()
}
