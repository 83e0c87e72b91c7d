package proof

import (
	"bytes"
	"context"
	"io"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// Actor is whoever has a lane in the evidence: a [*Client] or a [*Raw].
type Actor interface {
	// Lane is its name in the evidence.
	Lane() string
}

// Lane implements [Actor].
func (peer *Client) Lane() string { return peer.Name }

// Raw is a link of a check's own, without a client behind it: what is written goes out as it is, nothing is answered,
// and no PINGREQ is sent.
type Raw struct {
	Name string
	// ID is a client identifier of its own, for a CONNECT.
	ID string

	link  *link.Link
	hooks client.Hooks
	done  chan struct{} // closed when the broker has ended the link
	once  sync.Once
	odd   []byte // what came and is no packet; written before done is closed
}

// Unread waits for the end of the link, and returns what came last where that is no packet of the version; nil where
// all that came is. The evidence hides its bytes: there may be secrets among them.
func (r *Raw) Unread() []byte {
	<-r.done
	return r.odd
}

// Lane implements [Actor].
func (r *Raw) Lane() string { return r.Name }

// Raw opens a link, named for the evidence. That it cannot be opened makes the check undecided.
func (p *Pass) Raw(name string) (*Raw, error) {
	ctx, cancel := context.WithTimeout(p.ctx, connectWithin)
	defer cancel()
	l, err := p.r.target.Dial(ctx)
	if err != nil {
		return nil, Undecide("no link could be opened for the %s: %v", name, err)
	}
	return p.raw(name, l), nil
}

// raw is a link of a check's own over one that stands.
func (p *Pass) raw(name string, l *link.Link) *Raw {
	r := &Raw{Name: name, ID: p.r.clientID(), link: l, hooks: p.hooks(name), done: make(chan struct{})}
	p.mu.Lock()
	p.raws = append(p.raws, r)
	p.names = append(p.names, name)
	p.mu.Unlock()
	r.hooks.Link(client.LinkOpened, "", "a link without a client")
	go r.read(p)
	return r
}

// read takes in what comes, until the link ends.
func (r *Raw) read(p *Pass) {
	in := false // a link counts as a client once it was let in
	defer func() {
		if in {
			p.r.open.Add(-1)
		}
	}()
	defer close(r.done)
	reader := packet.NewReader(r.link, p.Version)
	reader.MaxSize = client.LargestPacket
	var err error
	for err == nil {
		var pk packet.Packet
		var raw []byte
		if pk, raw, err = reader.Next(); raw != nil {
			if ack, is := pk.(*packet.Connack); is && ack.Code == 0 && !in {
				in = true
				p.r.came()
			}
			r.hooks.Received(pk, raw, err)
			if err != nil {
				r.odd = bytes.Clone(raw)
			}
		}
	}
	io.Copy(io.Discard, r.link) // behind a packet that breaks a rule nothing is to be read; the end is what counts
	by, text := client.ByBroker, "the broker closed the link"
	switch r.link.End() {
	case link.EndClosed:
		by, text = client.ByUs, "closed by the check"
	case link.EndRST:
		by, text = client.ByReset, "the link was reset"
	}
	r.hooks.Link(client.LinkEnded, by, text)
}

// Send writes packets as they are, in one piece.
func (r *Raw) Send(v packet.Version, packets ...packet.Packet) error {
	var all [][]byte
	for _, pk := range packets {
		all = append(all, pk.Append(nil, v))
	}
	return r.Write(all...)
}

// Write writes bytes as they are, in one piece, each part a packet or what is meant for one.
func (r *Raw) Write(parts ...[]byte) error {
	var whole []byte
	for _, b := range parts {
		r.hooks.Sent(nil, b)
		whole = append(whole, b...)
	}
	if _, err := r.link.Write(whole); err != nil {
		return Undecide("the %s could not send: %v", r.Name, err)
	}
	return nil
}

// Text writes bytes in a text frame, over WebSocket.
func (r *Raw) Text(b []byte) error {
	r.hooks.Sent(nil, b)
	if err := r.link.Text(b); err != nil {
		return Undecide("the %s could not send: %v", r.Name, err)
	}
	return nil
}

// Open tells whether the broker has left the link open.
func (r *Raw) Open() bool {
	select {
	case <-r.done:
		return false
	default:
		return true
	}
}

// Close closes the link.
func (r *Raw) Close() { r.once.Do(func() { r.link.Close() }) }

// End lets the session of a link be ended when the check ends: it was to be kept.
func (p *Pass) End(r *Raw) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = append(p.ended, r.ID)
}

// Hello is a CONNECT that would be let in: with our login, a clean start and an identifier of its own.
func (p *Pass) Hello(r *Raw, change ...func(*packet.Connect)) *packet.Connect {
	o := client.Options{Version: p.Version, Connect: packet.Connect{ClientID: r.ID, CleanStart: true, KeepAlive: 60}}
	p.r.target.Login.Apply(&o)
	for _, c := range change {
		c(&o.Connect)
	}
	return &o.Connect
}

// Join opens a link and sends CONNECT by it; CONNACK 0 has come. A refusal makes the check undecided; one for want of
// room is waited out for a moment, for a broker may not have noticed yet that the link before has gone.
func (p *Pass) Join(name string, change ...func(*packet.Connect)) (*Raw, error) {
	for try := 1; ; try++ {
		r, err := p.Raw(name)
		if err != nil {
			return nil, err
		}
		from := p.Mark()
		if err := r.Send(p.Version, p.Hello(r, change...)); err != nil {
			return nil, err
		}
		ack := p.Await(r, from, connectWithin, func(e *trace.Event) bool {
			return e.Kind == trace.Link && e.Link == client.LinkEnded || e.Kind == trace.Received
		})
		if ack == nil || ack.Packet == nil || ack.Packet.Type() != packet.CONNACK {
			return nil, Undecide("the %s got no CONNACK", name)
		}
		c := ack.Packet.(*packet.Connack)
		if c.Code == 0 {
			return r, nil
		}
		if !Busy(p.Version, c.Code) || try > busyTries {
			return nil, p.Unwelcome(r, c)
		}
		r.Close()
		p.Gone(r, from, arrival)
		p.Wait(busyWait)
	}
}

// Unwelcome makes a check undecided whose link was refused though nothing was special about its CONNECT; where the
// broker takes no client more, the check is begun again when there are fewer.
func (p *Pass) Unwelcome(r *Raw, ack *packet.Connack) error {
	if Busy(p.Version, ack.Code) {
		p.crowded(int(p.r.open.Load()), true)
	}
	return Undecide("the %s was refused: %s", r.Name, ack.Code.In(packet.CONNACK, p.Version))
}

// Ending waits until the broker ends an actor's link, and returns the event; nil where it does not in time.
func (p *Pass) Ending(of Actor, from uint64, within time.Duration) *trace.Event {
	return p.Await(of, from, within, func(e *trace.Event) bool {
		return e.Kind == trace.Link && e.Link == client.LinkEnded && e.By != client.ByUs
	})
}

// Gone waits until an actor's link has ended, whoever ended it, and returns the event.
func (p *Pass) Gone(of Actor, from uint64, within time.Duration) *trace.Event {
	return p.Await(
		of,
		from,
		within,
		func(e *trace.Event) bool { return e.Kind == trace.Link && e.Link == client.LinkEnded },
	)
}

// Wait waits, or until the run is stopped.
func (p *Pass) Wait(d time.Duration) {
	select {
	case <-time.After(d):
	case <-p.ctx.Done():
	}
}

// Intrusive tells whether logins may be failed and the protocol broken.
func (p *Pass) Intrusive() bool { return p.r.target.StandIn || p.r.target.Intrusive }
