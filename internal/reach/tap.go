package reach

import (
	"net"
	"slices"
	"sync"
)

// tap keeps the first bytes that come over a connection, for the diagnosis.
type tap struct {
	net.Conn
	mu    sync.Mutex
	first []byte
}

// Read keeps the first bytes.
func (t *tap) Read(b []byte) (int, error) {
	n, err := t.Conn.Read(b)
	t.mu.Lock()
	if room := 512 - len(t.first); room > 0 {
		t.first = append(t.first, b[:min(n, room)]...)
	}
	t.mu.Unlock()
	return n, err
}

// NetConn lets the link be reset.
func (t *tap) NetConn() net.Conn {
	if over, ok := t.Conn.(interface{ NetConn() net.Conn }); ok {
		return over.NetConn()
	}
	return t.Conn
}

func (t *tap) bytes() []byte {
	if t == nil {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.first)
}
