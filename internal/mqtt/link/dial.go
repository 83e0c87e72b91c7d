package link

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"os"
	"syscall"
	"time"
)

// DialTimeout bounds one attempt to reach a listener; TCP itself would try for minutes.
const DialTimeout = 10 * time.Second

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
