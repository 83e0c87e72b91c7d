package proof

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/trace"
)

// Way is how a listener is reached below MQTT.
type Way struct {
	Endpoint link.Endpoint
	// TLS is how our own clients shake hands, with their certificate if they have one; nil without TLS. CAs are those that
	// they trust, nil for the system's.
	TLS *tls.Config
	CAs []*x509.Certificate
	// Opened is told the local address of each connection; see [link.Options]. May be nil.
	Opened func(net.Addr)
	// LeastTLS is the lowest version of TLS that is to be taken; 1.2 where it is 0.
	LeastTLS uint16
	// ClientRequired tells whether clients must show a certificate; nil where nobody said. Expired is one of ours that is
	// past its time, nil for none.
	ClientRequired *bool
	Expired        *tls.Certificate
}

// Door is another way into the same broker.
type Door struct {
	Name string
	Dial func(context.Context) (*link.Link, error)
}

// Way is how the listener is reached below MQTT; nil where there is nothing below, within memory.
func (p *Pass) Way() *Way { return p.r.target.Way }

// Doors are the other ways into the same broker.
func (p *Pass) Doors() []Door { return p.r.target.Doors }

// By connects a client through another door.
func By(d Door) Option { return func(p *Client) { p.opt.Dial = d.Dial } }

// Note on the evidence what is no packet: a handshake, an answer in other bytes. name is the lane. It returns the event.
func (p *Pass) told(name, format string, args ...any) *trace.Event {
	from := p.Mark()
	p.hooks(name).Link(client.LinkFailed, "", fmt.Sprintf(format, args...))
	return p.Await(lane(name), from, 0, func(e *trace.Event) bool { return e.Kind == trace.Link })
}

// lane is an [Actor] by name.
type lane string

func (l lane) Lane() string { return string(l) }

// lanes notes a name among those of the evidence.
func (p *Pass) lanes(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.names = append(p.names, name)
}

// Socket opens a connection to the listener without TLS or anything else. That it cannot be opened makes the check undecided.
func (p *Pass) Socket(name string) (net.Conn, error) {
	w := p.Way()
	ctx, cancel := context.WithTimeout(p.ctx, arrival)
	defer cancel()
	p.lanes(name)
	c, err := link.Socket(ctx, w.Endpoint.Network, w.Endpoint.Address, w.Opened)
	if err != nil {
		return nil, Undecide("no connection could be opened for the %s: %v", name, err)
	}
	return c, nil
}

// Handshake shakes hands on a connection of its own, with the configuration of our clients as it is changed, and says on the
// evidence how it went. err is that of the handshake, or makes the check undecided where there was none.
func (p *Pass) Handshake(name string, change func(*tls.Config)) (c *tls.Conn, told *trace.Event, err error) {
	socket, err := p.Socket(name)
	if err != nil {
		return nil, nil, err
	}
	config := p.Way().TLS.Clone()
	change(config)
	ctx, cancel := context.WithTimeout(p.ctx, arrival)
	defer cancel()
	if c, err = p.Way().Endpoint.Secure(ctx, socket, config); err != nil {
		return nil, p.told(name, "handshake: %v", err), err
	}
	s := c.ConnectionState()
	return c, p.told(name, "handshake: %s, %s, certificate of %q", tls.VersionName(s.Version), tls.CipherSuiteName(s.CipherSuite),
		s.PeerCertificates[0].Subject.String()), nil
}

// Over is [Pass.Raw] by a TLS configuration as it is changed. The error is that of the handshake.
func (p *Pass) Over(name string, change func(*tls.Config)) (*Raw, *trace.Event, error) {
	c, told, err := p.Handshake(name, change)
	if err != nil {
		return nil, told, err
	}
	l := link.Wrap(c)
	if p.Way().Endpoint.WebSocket {
		ctx, cancel := context.WithTimeout(p.ctx, arrival)
		defer cancel()
		if l, err = p.Way().Endpoint.Upgrade(ctx, c, link.Subprotocol); err != nil {
			return nil, p.told(name, "%v", err), err
		}
	}
	return p.raw(name, l), told, nil
}

// Answer says on the evidence what came in bytes that are no packets, for a lane.
func (p *Pass) Answer(name, format string, args ...any) *trace.Event {
	return p.told(name, format, args...)
}
