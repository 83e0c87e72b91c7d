// Package link is what packets travel over: connections that, besides being read,
// written and closed, can be cut as by a reset, frozen as by a pulled cable, and
// told apart by how they ended.
package link

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"sync"
	"syscall"
	"time"
)

// End tells how a link ended, seen from this side.
type End string

// The ways in which a link ends.
const (
	EndNone   End = ""       // it is still up
	EndFIN    End = "FIN"    // the other side closed it
	EndRST    End = "RST"    // the other side, or something between, reset it
	EndClosed End = "closed" // this side closed it
	EndCut    End = "cut"    // this side reset it
	EndFailed End = "failed" // anything else, such as a time-out of TCP
)

// frozenBuffer is how much a frozen link takes in from writers before it blocks them;
// about what a kernel buffers for a peer that no longer answers.
const frozenBuffer = 256 << 10

// Link is one connection. All methods are safe for concurrent use; Read and Write
// as on [net.Conn], by one goroutine each.
type Link struct {
	conn  net.Conn
	reset func() error // makes the other side see a reset, then closes; nil for that of conn

	mu      sync.Mutex
	end     End
	stop    *stop // since it was frozen first; nil before: an idle session holds little memory
	pacing  *pacing
	frozen  bool
	thawing bool // what was held is being written: what comes meanwhile waits behind it
	reading bool // somebody waits for the connection's bytes
}

// stop is what a link keeps back.
type stop struct {
	changed sync.Cond // of the link's mu
	held    []write   // written while frozen, oldest first
	size    int       // of what is held, in bytes
}

// Fate is told what became of bytes that a link held back: whether they left, just before they do,
// or were lost with the link. It must not block, nor call the link.
type Fate func(left bool)

// write is what somebody wrote to a link that holds it back.
type write struct {
	data []byte
	fate Fate // may be nil
}

func (w *write) told(left bool) {
	if w.fate != nil {
		w.fate(left)
	}
}

func newLink(c net.Conn, reset func() error) *Link {
	return &Link{conn: c, reset: reset}
}

// TLS returns the state of the TLS connection below, and whether there is one. After the
// first byte was read the handshake is complete.
func (l *Link) TLS() (tls.ConnectionState, bool) {
	c := l.conn
	if w, ok := c.(*wsConn); ok {
		c = w.carrier
	}
	if t, ok := c.(*tls.Conn); ok {
		return t.ConnectionState(), true
	}
	return tls.ConnectionState{}, false
}

// Wrap makes a link of a connection. A TCP connection, also one below TLS, is reset by
// Cut; any other is only closed by it.
func Wrap(c net.Conn) *Link { return newLink(c, nil) }

// resetOf returns how a connection is reset: by way of the TCP connection that carries it.
func resetOf(c, carrier net.Conn) func() error {
	if over, ok := carrier.(interface{ NetConn() net.Conn }); ok {
		carrier = over.NetConn()
	}
	t, ok := carrier.(*net.TCPConn)
	if !ok {
		return c.Close
	}
	return func() error {
		// Linger 0 makes the kernel send RST and drop what is unsent.
		return errors.Join(t.SetLinger(0), t.Close())
	}
}

// Serve hands over a link for each connection that comes in on the listener, until that is closed; accept must not wait
// for the link to end.
func Serve(ln net.Listener, accept func(*Link)) {
	for {
		c, err := ln.Accept()
		switch {
		case err == nil:
			accept(Wrap(c))
		case errors.Is(err, net.ErrClosed):
			return
		default:
			time.Sleep(10 * time.Millisecond) // out of files: let some be freed
		}
	}
}

// Read implements [io.Reader]. While the link is frozen it does not return. The error
// after the other side's close is [io.EOF]; [Link.End] tells the rest.
//
// Most links wait here for most of their time, so what they wait with is kept small.
func (l *Link) Read(b []byte) (int, error) {
	if l.begins() {
		n, err := l.conn.Read(b)
		return l.ends(b, n, err)
	}
	return l.ends(b, 0, nil)
}

// More reads what has come meanwhile, for who has just read, without waiting: 0 bytes where nothing has, or where that cannot
// be told without waiting, as over TLS and WebSocket. The error is one that ended the link; a close shows at the next Read.
func (l *Link) More(b []byte) (n int, err error) {
	c, ok := l.conn.(syscall.Conn)
	if !ok {
		return 0, nil
	}
	raw, err := c.SyscallConn()
	if err != nil {
		return 0, nil // the next Read tells
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.frozen || l.pacing != nil || l.end != EndNone {
		return 0, nil
	}
	closed := raw.Read(func(fd uintptr) bool {
		n, err = syscall.Read(int(fd), b)
		return true
	})
	switch {
	case closed != nil:
		return 0, nil
	case err == nil:
		return n, nil
	case errors.Is(err, syscall.EAGAIN), errors.Is(err, syscall.EINTR):
		return 0, nil
	}
	l.end = endOf(err)
	return 0, err
}

// begins notes that somebody waits for the connection's bytes, and tells whether he is to: those of a slowed link come by
// its own way.
//
//go:noinline
func (l *Link) begins() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.reading = l.pacing == nil
	return l.reading
}

// ends is the rest of reading, with what the connection gave.
//
//go:noinline
func (l *Link) ends(b []byte, n int, err error) (int, error) {
	n, err = l.paced(b, n, err)
	l.mu.Lock()
	defer l.mu.Unlock()
	for l.frozen && l.end == EndNone {
		l.stop.changed.Wait()
	}
	if err != nil && l.end == EndNone {
		l.end = endOf(err)
	}
	switch {
	case l.end == EndClosed || l.end == EndCut:
		return 0, net.ErrClosed
	case err != nil && l.end == EndFIN:
		err = io.EOF // WebSocket and TLS put words of their own around it
	}
	return n, err
}

func endOf(err error) End {
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF): // TLS without close_notify
		return EndFIN
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return EndRST
	}
	return EndFailed
}

// Write implements [io.Writer]. What is written to a frozen link is kept and goes
// out when it thaws.
func (l *Link) Write(b []byte) (int, error) {
	if held, err := l.Hold(b, nil); held || err != nil {
		return len(b), err
	}
	return l.conn.Write(b)
}

// Hold takes bytes that do not leave at once, because the link is frozen or slowed, and tells whether
// it did; what it does not take, its caller has to write. It blocks while too much is held. fate, which
// may be nil, is called later, once.
func (l *Link) Hold(b []byte, fate Fate) (held bool, err error) {
	l.mu.Lock()
	for l.holds() && l.stop.size > 0 && l.stop.size+len(b) > frozenBuffer {
		l.stop.changed.Wait()
	}
	if l.holds() {
		l.stop.held = append(l.stop.held, write{append([]byte(nil), b...), fate})
		l.stop.size += len(b)
		l.mu.Unlock()
		return true, nil
	}
	p := l.pacing
	var pace Pace
	if p != nil {
		pace = p.pace
	}
	l.mu.Unlock()
	if p == nil {
		return false, nil
	}
	return true, p.out.put(b, pace, fate)
}

// holds tells whether what is written now waits; l.mu is held.
func (l *Link) holds() bool { return (l.frozen || l.thawing) && l.end == EndNone }

// Close ends the link properly: the other side sees FIN.
func (l *Link) Close() error { return l.finish(EndClosed, l.conn.Close) }

// Cut ends the link by a reset: the other side sees RST and what is unsent is lost.
func (l *Link) Cut() error {
	reset := l.reset
	if reset == nil {
		reset = resetOf(l.conn, l.conn)
	}
	return l.finish(EndCut, reset)
}

func (l *Link) finish(end End, close func() error) error {
	l.mu.Lock()
	drain := l.pacing != nil && l.end == EndNone && end == EndClosed
	if l.end == EndNone {
		l.end = end
	}
	p, delay := l.pacing, time.Duration(0)
	if p != nil {
		delay = p.pace.Delay
	}
	var lost []write
	stop := l.stop
	if stop != nil {
		lost, stop.held, stop.size = stop.held, nil, 0
	}
	l.mu.Unlock()
	for i := range lost {
		lost[i].told(false)
	}
	if drain {
		p.drain(delay)
	}
	err := close()
	if p != nil {
		p.abort()
	}
	if stop != nil {
		stop.changed.Broadcast()
	}
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// Freeze stops the link as a pulled cable does: nothing is read or written, and
// the other side sees neither FIN nor RST. (Its kernel still gets acknowledgements
// of TCP from ours.)
func (l *Link) Freeze() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.stop == nil {
		l.stop = &stop{}
		l.stop.changed.L = &l.mu
	}
	l.frozen = true
}

// Thaw lets a frozen link go on; what was held goes out first.
func (l *Link) Thaw() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.frozen {
		return nil
	}
	l.frozen = false
	s := l.stop
	s.changed.Broadcast()
	if l.thawing {
		return nil // who thawed it before goes on
	}
	l.thawing = true
	defer func() { l.thawing = false; s.changed.Broadcast() }()
	for len(s.held) > 0 && l.end == EndNone && !l.frozen {
		w := s.held[0]
		s.held = s.held[1:]
		s.size -= len(w.data)
		s.changed.Broadcast()
		p := l.pacing
		l.mu.Unlock() // the other side may take nothing
		var err error
		if p != nil {
			err = p.out.put(w.data, l.pace(), w.fate)
		} else {
			w.told(true)
			_, err = l.conn.Write(w.data)
		}
		l.mu.Lock()
		if err != nil {
			return err
		}
	}
	return nil
}

// End tells how the link ended, or [EndNone].
func (l *Link) End() End {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.end
}

// LocalAddr and RemoteAddr name the two ends.
func (l *Link) LocalAddr() net.Addr  { return l.conn.LocalAddr() }
func (l *Link) RemoteAddr() net.Addr { return l.conn.RemoteAddr() }
