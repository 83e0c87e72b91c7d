package proof

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// Client is a client of a check.
type Client struct {
	*client.Client
	Name string
	ID   string
	p    *Pass
	opt  client.Options
	kept bool
	// other tells that it comes with another login than ours, or a part of it.
	other bool

	mu   sync.Mutex
	take func(packet.Packet) bool
}

// Option changes a peer's CONNECT.
type Option func(*Client)

// KeepSession asks for a session that outlives the connection.
func KeepSession(p *Client) {
	p.kept = true
	p.opt.Connect.CleanStart = false
	if p.p.Version == packet.V5 {
		p.opt.Connect.Properties = append(p.opt.Connect.Properties, packet.Int(packet.SessionExpiry, keptFor))
	}
}

// ExpiresAfter asks for another session expiry, in seconds, in version 5.
func ExpiresAfter(seconds uint32) Option {
	return func(p *Client) {
		p.opt.Connect.Properties = p.opt.Connect.Properties.Without(packet.SessionExpiry)
		With(packet.Int(packet.SessionExpiry, seconds))(p)
	}
}

// WithWill leaves a will.
func WithWill(w packet.Will) Option { return func(p *Client) { p.opt.Connect.Will = &w } }

// WithKeepAlive asks for another keep alive, in seconds.
func WithKeepAlive(seconds uint16) Option {
	return func(p *Client) { p.opt.Connect.KeepAlive = seconds }
}

// WithLogin uses another login; nil for none.
func WithLogin(l *workspace.Login) Option {
	return func(p *Client) {
		l.Apply(&p.opt)
		p.other = true
	}
}

// WithoutPassword leaves the login's password out.
func WithoutPassword(p *Client) {
	p.opt.Connect.HasPassword, p.opt.Connect.Password = false, nil
	p.other = true
}

// WithID asks for a client identifier.
func WithID(id string) Option { return func(p *Client) { p.opt.Connect.ClientID = id } }

// With adds properties to CONNECT, in version 5.
func With(ps ...packet.Property) Option {
	return func(p *Client) {
		if p.p.Version == packet.V5 {
			p.opt.Connect.Properties = append(p.opt.Connect.Properties, ps...)
		}
	}
}

// As takes over another peer's client id.
func As(other *Client) Option { return func(p *Client) { p.opt.Connect.ClientID = other.ID } }

// Client makes a client that is not connected, named for the evidence.
func (p *Pass) Client(name string, options ...Option) *Client {
	p.mu.Lock()
	defer p.mu.Unlock()
	peer := &Client{Name: name, p: p}
	peer.opt.Connect = packet.Connect{ClientID: p.r.clientID(), CleanStart: true, KeepAlive: 60}
	peer.opt.Dial, peer.opt.Version = p.r.target.Dial, p.Version
	peer.opt.Hooks = p.hooks(name)
	peer.opt.Take = func(pk packet.Packet) bool {
		peer.mu.Lock()
		defer peer.mu.Unlock()
		return peer.take != nil && peer.take(pk)
	}
	p.r.target.Login.Apply(&peer.opt)
	for _, o := range options {
		o(peer)
	}
	peer.ID = peer.opt.Connect.ClientID
	peer.Client = client.New(peer.opt)
	p.clients, p.names = append(p.clients, peer), append(p.names, name)
	return peer
}

// Lose makes the peer pass over packets of the type, as if they had been lost; 0 ends it.
func (peer *Client) Lose(t packet.Type) {
	peer.mu.Lock()
	defer peer.mu.Unlock()
	peer.take = func(pk packet.Packet) bool { return pk.Type() == t }
}

// Try connects a peer and returns how that went: nil, a [*client.RefusedError], or how the link ended. It is
// for checks whose subject that is; others use [Pass.Enter]. Where the broker says that it takes no client more,
// the check is begun again when there are fewer, whatever it returns.
func (p *Pass) Try(peer *Client) (*packet.Connack, error) {
	ctx, cancel := context.WithTimeoutCause(p.ctx, connectWithin, ErrNoAnswer)
	defer cancel()
	there := int(p.r.open.Load())
	ack, err := peer.Connect(ctx)
	for try := 1; p.busy(err); try++ {
		if try > busyTries {
			p.crowded(there, !peer.other)
			break
		}
		// It may still count those that have gone a moment ago.
		select {
		case <-time.After(busyWait):
		case <-ctx.Done():
		}
		there = int(p.r.open.Load())
		ack, err = peer.Connect(ctx)
	}
	if err == nil {
		p.r.came()
		done := peer.Done()
		go func() {
			<-done
			p.r.open.Add(-1)
		}()
	}
	return ack, err
}

// A client that is not let in because there are too many is tried again so often, after such a pause.
const (
	busyTries = 2
	busyWait  = 200 * time.Millisecond
)

// busy tells whether a client was refused because there are too many.
func (p *Pass) busy(err error) bool {
	var refused *client.RefusedError
	return errors.As(err, &refused) && Busy(p.Version, refused.Code)
}

// ErrNoAnswer is the cause where no CONNACK came at all.
var ErrNoAnswer = fmt.Errorf("nothing for %s", connectWithin)

// Enter connects a peer. A refusal or failure makes the check undecided; where the broker takes no client more,
// the check is begun again when there are fewer.
func (p *Pass) Enter(peer *Client) (*packet.Connack, error) {
	there := int(p.r.open.Load())
	ack, err := p.Try(peer)
	if err == nil {
		return ack, nil
	}
	var ended *client.EndedError
	told := p.busy(err) // and nothing is special about this one
	if !told && !(errors.As(err, &ended) && !ended.Rule && ended.Broken == nil && there > 0) {
		return ack, Undecide("the %s could not connect: %v", peer.Name, err)
	}
	// It was refused, or the link was closed: because there are too many, or because of what it is? Another client
	// tells, about which nothing is special.
	if !told && p.r.another(p.ctx, p.Version) {
		if ack, again := p.Try(peer); again == nil {
			return ack, nil
		}
		return ack, Undecide("the %s could not connect, though others could: %v", peer.Name, err)
	}
	p.crowded(there, true)
	return ack, Undecide("the %s did not get in while %d clients of ours were there: %v", peer.Name, there, err)
}

// crowded notes that the broker did not take one client more while so many of ours were there; plain tells that
// nothing was special about that one, so that it was not about what it is.
func (p *Pass) crowded(there int, plain bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	there = max(there, int(p.r.open.Load())) // those too that were let in meanwhile
	p.plain = p.plain || plain
	if !p.full {
		p.full, p.there = true, there
	}
}

// ConnectAll connects several peers side by side.
func (p *Pass) ConnectAll(peers ...*Client) error {
	errs := make([]error, len(peers))
	var wg sync.WaitGroup
	for i, peer := range peers {
		wg.Go(func() { _, errs[i] = p.Enter(peer) })
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}
