package link

import (
	"io"
	"net"
	"sync"
	"syscall"
	"time"
)

// pipeBuffer is how much one direction of a pipe holds before its writer blocks;
// the size of a small socket buffer.
const pipeBuffer = 256 << 10

// Pipe returns the two ends of a link in memory. It behaves as TCP does: writes are
// buffered, Close is seen as FIN after what was written, Cut at once as RST.
func Pipe() (a, b *Link) {
	ab, ba := newFlow(), newFlow()
	return pipeLink(ba, ab, "pipe:a", "pipe:b"), pipeLink(ab, ba, "pipe:b", "pipe:a")
}

func pipeLink(in, out *flow, local, remote addr) *Link {
	c := &pipeConn{in: in, out: out, local: local, remote: remote}
	return newLink(c, c.cut)
}

type addr string

func (addr) Network() string  { return "pipe" }
func (a addr) String() string { return string(a) }

// flow is one direction of a pipe.
type flow struct {
	mu       sync.Mutex
	changed  *sync.Cond
	data     []byte
	finished error // what the reader gets once data is used up
	gone     bool  // the reader closed: nobody takes what is written
	reset    bool
}

func newFlow() *flow {
	f := &flow{}
	f.changed = sync.NewCond(&f.mu)
	return f
}

func (f *flow) do(change func()) {
	f.mu.Lock()
	change()
	f.mu.Unlock()
	f.changed.Broadcast()
}

type pipeConn struct {
	in, out       *flow
	local, remote addr
}

func (c *pipeConn) Read(b []byte) (int, error) {
	f := c.in
	f.mu.Lock()
	defer f.mu.Unlock()
	for len(f.data) == 0 && f.finished == nil && !f.gone && !f.reset {
		f.changed.Wait()
	}
	switch {
	case f.gone:
		return 0, net.ErrClosed
	case f.reset:
		return 0, syscall.ECONNRESET
	case len(f.data) == 0:
		return 0, f.finished
	}
	n := copy(b, f.data)
	f.data = f.data[n:]
	f.changed.Broadcast()
	return n, nil
}

func (c *pipeConn) Write(b []byte) (int, error) {
	f := c.out
	f.mu.Lock()
	defer f.mu.Unlock()
	for written := 0; ; {
		switch {
		case f.finished != nil:
			return written, net.ErrClosed
		case f.gone || f.reset:
			return written, syscall.EPIPE
		}
		n := min(pipeBuffer-len(f.data), len(b)-written)
		f.data = append(f.data, b[written:written+n]...)
		written += n
		f.changed.Broadcast()
		if written == len(b) {
			return written, nil
		}
		f.changed.Wait()
	}
}

func (c *pipeConn) Close() error {
	c.out.do(func() { c.out.finished = io.EOF })
	c.in.do(func() { c.in.gone = true })
	return nil
}

func (c *pipeConn) cut() error {
	c.out.do(func() { c.out.reset, c.out.finished, c.out.data = true, net.ErrClosed, nil })
	c.in.do(func() { c.in.gone = true })
	return nil
}

func (c *pipeConn) LocalAddr() net.Addr  { return c.local }
func (c *pipeConn) RemoteAddr() net.Addr { return c.remote }

// Deadlines are not used by links: whoever waits closes the link instead.
func (*pipeConn) SetDeadline(time.Time) error      { return nil }
func (*pipeConn) SetReadDeadline(time.Time) error  { return nil }
func (*pipeConn) SetWriteDeadline(time.Time) error { return nil }
