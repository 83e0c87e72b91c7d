// Package link is what packets travel over: connections that, besides being read,
// written and closed, can be cut as by a reset, frozen as by a pulled cable, and
// told apart by how they ended.
package link

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"os"
	"sync"
	"syscall"
	"time"
)

// DialTimeout bounds one attempt to reach a listener; TCP itself would try for minutes.
const DialTimeout = 10 * time.Second

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

// Options say what a URL cannot.
type Options struct {
	// TLS is used for mqtts and wss; nil for the system's roots. The server name is that
	// of the URL unless it is set here.
	TLS *tls.Config
	// Opened is told the local address as soon as the TCP connection stands, before TLS and WebSocket: also of a dial
	// that ends in an error after that, or is given up. nil for nobody. See [Socket].
	Opened func(local net.Addr)
	// Local is the address of this machine to dial from; the zero value lets the system choose.
	Local netip.Addr
}

// Dial opens a link to a URL: see [Parse]. The error says what was tried and what to
// try next.
func Dial(ctx context.Context, rawURL string, options ...Options) (*Link, error) {
	e, err := Parse(rawURL)
	if err != nil {
		return nil, err
	}
	var o Options
	if len(options) > 0 {
		o = options[0]
	}
	ctx, cancel := context.WithTimeout(ctx, DialTimeout)
	defer cancel()
	if e.WebSocket {
		return e.dialWebSocket(ctx, o)
	}
	c, err := e.dial(ctx, o)
	if err != nil {
		return nil, err
	}
	return Wrap(c), nil
}

// dial opens the connection below MQTT or WebSocket: a socket, with TLS where asked for.
func (e Endpoint) dial(ctx context.Context, o Options) (net.Conn, error) {
	open := func() (net.Conn, error) { return Socket(ctx, e.Network, e.Address, o.Opened) }
	if o.Local.IsValid() {
		d := net.Dialer{LocalAddr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(o.Local, 0))}
		open = func() (net.Conn, error) {
			c, err := d.DialContext(ctx, e.Network, e.Address)
			if err == nil && o.Opened != nil {
				o.Opened(c.LocalAddr())
			}
			return c, err
		}
	}
	c, err := open()
	if err != nil {
		return nil, dialError(e.Address, err)
	}
	if !e.TLS {
		return c, nil
	}
	secured, err := e.Secure(ctx, c, o.TLS)
	if err != nil {
		return nil, err
	}
	return secured, nil
}

// lateSocket is how long a dial that was given up may still come to stand.
const lateSocket = time.Second

// Socket opens a connection, and tells opened its local address before anything else happens to it. The peer may
// have accepted a connection whose dial was given up in the same moment: opened is told that one too, before it is
// closed, so that nobody takes it for a stranger's. opened may be nil; it may be called after Socket has returned.
func Socket(ctx context.Context, network, address string, opened func(local net.Addr)) (net.Conn, error) {
	var d net.Dialer
	if opened == nil {
		return d.DialContext(ctx, network, address)
	}
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	type dialled struct {
		c   net.Conn
		err error
	}
	free, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	done := make(chan dialled, 1)
	go func() {
		c, err := d.DialContext(free, network, address)
		if err == nil {
			opened(c.LocalAddr())
		}
		done <- dialled{c, err}
	}()
	select {
	case x := <-done:
		giveUp()
		return x.c, x.err
	case <-ctx.Done():
		go func() {
			defer giveUp()
			time.AfterFunc(lateSocket, giveUp)
			if x := <-done; x.err == nil {
				_ = x.c.Close()
			}
		}()
		return nil, &net.OpError{Op: "dial", Net: network, Err: ctx.Err()}
	}
}

// Secure makes a TLS connection over one that stands, which it closes where that fails. The
// server name is the endpoint's host unless the configuration has one.
func (e Endpoint) Secure(ctx context.Context, c net.Conn, config *tls.Config) (*tls.Conn, error) {
	if config == nil {
		config = &tls.Config{}
	}
	config = config.Clone()
	if config.ServerName == "" {
		config.ServerName = e.Host
	}
	secured := tls.Client(c, config)
	if err := secured.HandshakeContext(ctx); err != nil {
		c.Close()
		return nil, tlsError(e.Address, config.ServerName, err)
	}
	return secured, nil
}

// tlsError says in plain words why a handshake failed.
func tlsError(address, name string, err error) error {
	var unknown x509.UnknownAuthorityError
	var wrongName x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	var remote *net.OpError
	switch {
	case errors.As(err, &wrongName):
		return fmt.Errorf(
			"%s: tls: %w: dial it by a name that its certificate holds, or set the server name",
			address,
			err,
		)
	case errors.As(err, &unknown):
		return fmt.Errorf(
			"%s: tls: %w: give the CA that signed the broker's certificate; is its chain complete?",
			address,
			err,
		)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return fmt.Errorf("%s: tls: %w: renew the broker's certificate, or set this machine's clock", address, err)
	case errors.As(err, &record):
		return fmt.Errorf(
			"%s: tls: the other side does not speak TLS (%w): is this the plain port? then write mqtt:// or ws://",
			address,
			err,
		)
	case errors.As(err, &remote) && remote.Op == "remote error": // so crypto/tls tells an alert
		return fmt.Errorf(
			"%s: tls: the broker refused the handshake (%w): does it want a client certificate, or another TLS version?",
			address,
			err,
		)
	case endOf(err) != EndFailed:
		return fmt.Errorf(
			"%s: tls: the other side ended the link during the handshake: is this the plain port? then write mqtt:// or ws://",
			address,
		)
	}
	return fmt.Errorf("%s: tls handshake as %q: %w", address, name, err)
}

// Endpoint is where a URL leads.
type Endpoint struct {
	Network   string // "tcp" or "unix"
	Address   string // HOST:PORT, or the socket's path
	Host      string // without the port
	TLS       bool
	WebSocket bool
	URL       string
}

// The ports where a URL names none: mqtt and mqtts as registered with IANA, and those
// of HTTP for WebSocket (RFC 6455 §3).
var defaultPorts = map[string]string{"mqtt": "1883", "mqtts": "8883", "ws": "80", "wss": "443"}

// Parse reads the URL of a listener: mqtt://HOST:PORT over TCP, mqtts:// over TLS,
// ws://HOST:PORT/PATH and wss:// over WebSocket, unix:///PATH over a local socket.
func Parse(rawURL string) (Endpoint, error) {
	u, err := url.Parse(rawURL)
	switch {
	case err == nil && u.Scheme == "unix" && u.Path != "" && u.Host == "":
		return Endpoint{Network: "unix", Address: u.Path, URL: rawURL}, nil
	case err != nil || u.Host == "" || u.Hostname() == "":
		return Endpoint{}, fmt.Errorf("%q is no address of a broker: write mqtt://HOST or mqtt://HOST:PORT", rawURL)
	}
	port, known := defaultPorts[u.Scheme]
	if !known {
		return Endpoint{}, fmt.Errorf(
			"%s: a broker is reached by mqtt://, mqtts://, ws://, wss:// or unix:///PATH, not by %s://",
			rawURL,
			u.Scheme,
		)
	}
	if u.Port() != "" {
		port = u.Port()
	}
	return Endpoint{Network: "tcp", Address: net.JoinHostPort(u.Hostname(), port), Host: u.Hostname(), URL: rawURL,
		TLS: u.Scheme == "mqtts" || u.Scheme == "wss", WebSocket: u.Scheme == "ws" || u.Scheme == "wss"}, nil
}

// Reached returns the URL by which a listener for the endpoint is reached, with the port that the system chose, and the
// path of a WebSocket, /mqtt where the URL names none.
func (e Endpoint) Reached(at net.Addr) (rawURL, path string) {
	u, err := url.Parse(e.URL)
	if err != nil || e.Network != "tcp" {
		return e.URL, ""
	}
	u.Host = at.String()
	if u.Path == "" && e.WebSocket {
		u.Path = "/mqtt"
	}
	return u.String(), u.Path
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

func dialError(host string, err error) error {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("%s: the name cannot be looked up (%w): check its spelling, or use the address", host, err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf(
			"%s: refused (%w): nothing listens on that port there; is the broker running, is it the right port?",
			host,
			err,
		)
	case errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err):
		return fmt.Errorf("%s: no answer within %s (%w): a firewall, or a wrong address?", host, DialTimeout, err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return fmt.Errorf("%s: unreachable (%w): is this machine on the right network?", host, err)
	}
	return fmt.Errorf("%s: %w", host, err)
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
