// Package standin is the small broker that ships inside Hodstone: MQTT 3.1, 3.1.1 and 5
// with QoS 0 to 2, retained messages, wills, kept sessions and logins, faithful
// unless told to misbehave by named faults. It serves the demo, the tests of the
// checks, and whoever has no broker at hand.
package standin

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sort"
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
	lingerForGoodbye = 200 * time.Millisecond // for a last packet to leave before the link is closed
)

// Options say how a stand-in behaves.
type Options struct {
	// Logins holds the passwords by user name. A client certificate that the listener's
	// TLS configuration has verified stands for the login that its subject's common name
	// names, without user name and password.
	Logins map[string]string
	// Anonymous lets in clients without credentials.
	Anonymous bool
	// Faults are the names of the faults that are on.
	Faults []string
}

// Server is a stand-in. Its methods are safe for concurrent use.
type Server struct {
	opt    Options
	faults faultSet
	ctx    context.Context
	stop   context.CancelFunc
	wg     sync.WaitGroup

	mu        sync.Mutex // guards all broker state, that of sessions and connections included
	closed    bool
	listeners []net.Listener
	conns     map[*conn]bool
	sessions  map[string]*session
	tree      topic.Tree[*session, *subscription]
	retained  map[string]*message
	assigned  int
}

// New returns a stand-in that has no listener yet. An unknown fault is an error.
func New(o Options) (*Server, error) {
	s := &Server{opt: o, faults: faultSet{}, conns: map[*conn]bool{}, sessions: map[string]*session{}, retained: map[string]*message{}}
	for _, f := range o.Faults {
		if err := CheckFault(f); err != nil {
			return nil, err
		}
		s.faults[f] = true
	}
	s.ctx, s.stop = context.WithCancel(context.Background())
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
		return "", nil, fmt.Errorf("stand-in: cannot listen on %s: %w: choose another port, or 0 for any", e.Address, err)
	}
	reached := rawURL
	if u, err := url.Parse(rawURL); err == nil && e.Network == "tcp" {
		u.Host = ln.Addr().String()
		if u.Path == "" && e.WebSocket {
			u.Path = "/mqtt"
		}
		reached = u.String()
		rawURL = u.Path
	}
	if e.TLS {
		ln = tls.NewListener(ln, config)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		ln.Close()
		return "", nil, net.ErrClosed
	}
	s.listeners = append(s.listeners, ln)
	if e.WebSocket {
		s.wg.Go(func() { link.ServeWebSocket(ln, rawURL, func(l *link.Link) { s.serve(l) }) })
		return reached, ln.Addr(), nil
	}
	s.wg.Go(func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				if errors.Is(err, net.ErrClosed) {
					return
				}
				time.Sleep(10 * time.Millisecond) // out of files: let some be freed
				continue
			}
			s.serve(link.Wrap(c))
		}
	})
	return reached, ln.Addr(), nil
}

// Dial opens a link to the stand-in within memory.
func (s *Server) Dial(context.Context) (*link.Link, error) {
	ours, theirs := link.Pipe()
	if !s.serve(ours) {
		return nil, errors.New("the stand-in is closed")
	}
	return theirs, nil
}

// serve starts the goroutines of a connection.
func (s *Server) serve(l *link.Link) bool {
	c := &conn{s: s, link: l, opened: time.Now()}
	c.queued = sync.NewCond(&s.mu)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		l.Close()
		return false
	}
	s.conns[c] = true
	s.wg.Go(c.read)
	s.wg.Go(c.write)
	return true
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
	s.mu.Unlock()
	s.wg.Wait()
}

// ClientInfo is what the stand-in knows of one session.
type ClientInfo struct {
	ID        string
	Address   string // empty while it is away
	Version   packet.Version
	Username  string
	Connected bool
	Filters   []string
	InFlight  int // unacknowledged towards the client
	Waiting   int // messages that wait for it
}

// Clients lists the sessions by client id.
func (s *Server) Clients() []ClientInfo {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []ClientInfo
	for _, ses := range s.sessions {
		i := ClientInfo{ID: ses.id, Version: ses.version, Username: ses.username, InFlight: len(ses.inFlight), Waiting: len(ses.waiting)}
		if ses.conn != nil {
			i.Connected, i.Address = true, ses.conn.link.RemoteAddr().String()
		}
		for f := range ses.subs {
			i.Filters = append(i.Filters, f)
		}
		sort.Strings(i.Filters)
		out = append(out, i)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// ThrowOut ends the client's connection from the broker's side (version 5:
// with DISCONNECT 0x98), and tells whether there was one.
func (s *Server) ThrowOut(clientID string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	ses := s.sessions[clientID]
	if ses == nil || ses.conn == nil {
		return false
	}
	ses.conn.farewellLocked(0x98)
	return true
}
