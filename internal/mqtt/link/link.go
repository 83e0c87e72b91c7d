// Package link is what packets travel over: connections that, besides being read,
// written and closed, can be cut as by a reset, frozen as by a pulled cable, and
// told apart by how they ended.
package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
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
	reset func() error // makes the other side see a reset, then closes

	mu      sync.Mutex
	changed *sync.Cond
	frozen  bool
	end     End
	pending []byte // written while frozen
}

func newLink(c net.Conn, reset func() error) *Link {
	l := &Link{conn: c, reset: reset}
	l.changed = sync.NewCond(&l.mu)
	return l
}

// Wrap makes a link of a connection. A TCP connection is reset by Cut; any other is
// only closed by it.
func Wrap(c net.Conn) *Link {
	if t, ok := c.(*net.TCPConn); ok {
		return newLink(c, func() error {
			// Linger 0 makes the kernel send RST and drop what is unsent.
			return errors.Join(t.SetLinger(0), t.Close())
		})
	}
	return newLink(c, c.Close)
}

// Dial opens a link to a URL of the scheme mqtt. The error says what was tried and
// what to try next.
func Dial(ctx context.Context, rawURL string) (*Link, error) {
	host, err := Address(rawURL)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, DialTimeout)
	defer cancel()
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", host)
	if err != nil {
		return nil, dialError(host, err)
	}
	return Wrap(c), nil
}

// Address returns host and port of a URL such as mqtt://10.0.0.7:1883; the port is
// 1883 where none is given (registered with IANA for mqtt).
func Address(rawURL string) (string, error) {
	u, err := url.Parse(rawURL)
	switch {
	case err != nil || u.Host == "":
		return "", fmt.Errorf("%q is no address of a broker: write mqtt://HOST or mqtt://HOST:PORT", rawURL)
	case u.Scheme != "mqtt":
		return "", fmt.Errorf("%s: this version speaks MQTT over TCP only: write mqtt://…, not %s://…", rawURL, u.Scheme)
	case u.Port() == "":
		return net.JoinHostPort(u.Hostname(), "1883"), nil
	}
	return u.Host, nil
}

func dialError(host string, err error) error {
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("%s: the name cannot be looked up (%w): check its spelling, or use the address", host, err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("%s: refused (%w): nothing listens on that port there; is the broker running, is it the right port?", host, err)
	case errors.Is(err, context.DeadlineExceeded) || os.IsTimeout(err):
		return fmt.Errorf("%s: no answer within %s (%w): a firewall, or a wrong address?", host, DialTimeout, err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return fmt.Errorf("%s: unreachable (%w): is this machine on the right network?", host, err)
	}
	return fmt.Errorf("%s: %w", host, err)
}

// Read implements [io.Reader]. While the link is frozen it does not return. The error
// after the other side's close is [io.EOF]; [Link.End] tells the rest.
func (l *Link) Read(b []byte) (int, error) {
	n, err := l.conn.Read(b)
	l.mu.Lock()
	defer l.mu.Unlock()
	for l.frozen && l.end == EndNone {
		l.changed.Wait()
	}
	if err != nil && l.end == EndNone {
		l.end = endOf(err)
	}
	if l.end == EndClosed || l.end == EndCut {
		return 0, net.ErrClosed
	}
	return n, err
}

func endOf(err error) End {
	switch {
	case errors.Is(err, io.EOF):
		return EndFIN
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return EndRST
	}
	return EndFailed
}

// Write implements [io.Writer]. What is written to a frozen link is kept and goes
// out when it thaws.
func (l *Link) Write(b []byte) (int, error) {
	l.mu.Lock()
	for l.frozen && l.end == EndNone && len(l.pending)+len(b) > frozenBuffer {
		l.changed.Wait()
	}
	if l.frozen && l.end == EndNone {
		l.pending = append(l.pending, b...)
		l.mu.Unlock()
		return len(b), nil
	}
	l.mu.Unlock()
	return l.conn.Write(b)
}

// Close ends the link properly: the other side sees FIN.
func (l *Link) Close() error { return l.finish(EndClosed, l.conn.Close) }

// Cut ends the link by a reset: the other side sees RST and what is unsent is lost.
func (l *Link) Cut() error { return l.finish(EndCut, l.reset) }

func (l *Link) finish(end End, close func() error) error {
	l.mu.Lock()
	if l.end == EndNone {
		l.end = end
	}
	l.mu.Unlock()
	err := close()
	l.changed.Broadcast()
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
	l.frozen = true
	l.mu.Unlock()
}

// Thaw lets a frozen link go on; what was held goes out first.
func (l *Link) Thaw() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.frozen {
		return nil
	}
	l.frozen = false
	held := l.pending
	l.pending = nil
	var err error
	if len(held) > 0 && l.end == EndNone {
		_, err = l.conn.Write(held)
	}
	l.changed.Broadcast()
	return err
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
