package proof

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// Times of checks. What must come is awaited; what must not come is waited for.
const (
	connectWithin = 15 * time.Second // for checks that are about something else
	acceptWithin  = 5 * time.Second  // what connect.accepted allows
	arrival       = 5 * time.Second  // for what must come
	quietLeast    = 500 * time.Millisecond
	evidenceLimit = 4096 // events kept of one check
)

// TopicRoot begins the topics of all checks.
const TopicRoot = "hodstone"

// outcome is a verdict other than kept, as an error.
type outcome struct {
	verdict Verdict
	text    string
}

func (o *outcome) Error() string { return string(o.verdict) + ": " + o.text }

// Break ends a check as broken: what was seen instead.
func Break(format string, args ...any) error { return &outcome{Broken, fmt.Sprintf(format, args...)} }

// Undecide ends a check that could not be carried out.
func Undecide(format string, args ...any) error {
	return &outcome{Undecided, fmt.Sprintf(format, args...)}
}

// Unsupport ends a check of what the broker says it does not offer.
func Unsupport(format string, args ...any) error {
	return &outcome{Unsupported, fmt.Sprintf(format, args...)}
}

// Skip ends a check that is not asked for.
func Skip(format string, args ...any) error { return &outcome{Skipped, fmt.Sprintf(format, args...)} }

// Pass is one check being carried out in one version. It makes clients, keeps the
// evidence, and cleans up behind the check. Only one goroutine may use it, but for
// [Pass.ConnectAll].
type Pass struct {
	Check   *Check
	Version packet.Version

	ctx    context.Context
	target Target
	run    string
	index  int
	log    *trace.Log
	start  time.Time
	result Result

	mu       sync.Mutex
	peers    []*Peer
	retained map[string]bool
	rtt      time.Duration // the longest round trip seen
}

// Peer is a client of a check.
type Peer struct {
	*client.Client
	Name string
	ID   string
	p    *Pass
	opt  client.Options
	kept bool

	mu   sync.Mutex
	take func(packet.Packet) bool
}

// Option changes a peer's CONNECT.
type Option func(*Peer)

// KeepSession asks for a session that outlives the connection.
func KeepSession(p *Peer) {
	p.kept = true
	p.opt.Connect.CleanStart = false
	if p.p.Version == packet.V5 {
		p.opt.Connect.Properties = append(p.opt.Connect.Properties, packet.Int(packet.SessionExpiry, 300))
	}
}

// WithWill leaves a will.
func WithWill(w packet.Will) Option { return func(p *Peer) { p.opt.Connect.Will = &w } }

// WithLogin uses another login; nil for none.
func WithLogin(l *workspace.Login) Option {
	return func(p *Peer) { l.Apply(&p.opt) }
}

// As takes over another peer's client id.
func As(other *Peer) Option { return func(p *Peer) { p.opt.Connect.ClientID = other.ID } }

// Peer makes a client that is not connected, named for the evidence.
func (p *Pass) Peer(name string, options ...Option) *Peer {
	p.mu.Lock()
	defer p.mu.Unlock()
	peer := &Peer{Name: name, p: p}
	// Letters and digits only, at most 23: what every server must take (3.1.1 §3.1.3.1).
	peer.opt.Connect = packet.Connect{ClientID: fmt.Sprintf("hod%s%02dv%dn%d", p.run, p.index, p.Version, len(p.peers)), CleanStart: true, KeepAlive: 60}
	peer.opt.Dial, peer.opt.Version = p.target.Dial, p.Version
	peer.opt.Hooks = trace.Record(trace.Source{Client: name, Role: trace.RoleCheck, Broker: p.target.Broker, Version: p.Version}, p.log)
	peer.opt.Take = func(pk packet.Packet) bool {
		peer.mu.Lock()
		defer peer.mu.Unlock()
		return peer.take != nil && peer.take(pk)
	}
	WithLogin(p.target.Login)(peer)
	for _, o := range options {
		o(peer)
	}
	peer.ID = peer.opt.Connect.ClientID
	peer.Client = client.New(peer.opt)
	p.peers = append(p.peers, peer)
	return peer
}

// Lose makes the peer pass over packets of the type, as if they had been lost; 0 ends it.
func (peer *Peer) Lose(t packet.Type) {
	peer.mu.Lock()
	defer peer.mu.Unlock()
	peer.take = func(pk packet.Packet) bool { return pk.Type() == t }
}

// Step notes what the check does next.
func (p *Pass) Step(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.result.Steps = append(p.result.Steps, Step{At: time.Since(p.start), Seq: p.log.Next(), Text: fmt.Sprintf(format, args...)})
}

// Saw says what was seen where all is well.
func (p *Pass) Saw(format string, args ...any) { p.result.Seen = fmt.Sprintf(format, args...) }

// Note adds a remark that does not change the verdict.
func (p *Pass) Note(format string, args ...any) {
	p.result.Notes = append(p.result.Notes, fmt.Sprintf(format, args...))
}

// Topic returns a topic of the check's own.
func (p *Pass) Topic(parts ...string) string {
	return strings.Join(append([]string{TopicRoot, p.run, p.Check.Name + "-v" + strings.ReplaceAll(p.Version.String(), ".", "")}, parts...), "/")
}

// Enter connects a peer. A refusal or failure makes the check undecided, or
// unsupported where the broker does not speak the version.
func (p *Pass) Enter(peer *Peer) (*packet.Connack, error) {
	ctx, cancel := context.WithTimeoutCause(p.ctx, connectWithin, fmt.Errorf("nothing for %s", connectWithin))
	defer cancel()
	ack, err := peer.Connect(ctx)
	var refused *client.RefusedError
	switch {
	case err == nil:
		return ack, nil
	case errors.As(err, &refused) && (refused.Code == packet.UnsupportedProtocolVersion || p.Version != packet.V5 && refused.Code == packet.RefusedVersion):
		return ack, Unsupport("%v", err)
	}
	return ack, Undecide("the %s could not connect: %v", peer.Name, err)
}

// ConnectAll connects several peers side by side.
func (p *Pass) ConnectAll(peers ...*Peer) error {
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

// Subscribe subscribes a peer and returns what was granted. A refusal makes the check
// undecided.
func (p *Pass) Subscribe(peer *Peer, filter string, qos packet.QoS) (packet.QoS, error) {
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, fmt.Errorf("nothing for %s", arrival))
	defer cancel()
	start := time.Now()
	ack, err := peer.Client.Subscribe(ctx, []packet.Subscription{{Filter: filter, QoS: qos}})
	if err != nil {
		return 0, Undecide("%s: %v", peer.Name, err)
	}
	p.mu.Lock()
	p.rtt = max(p.rtt, time.Since(start))
	p.mu.Unlock()
	if c := ack.Codes[0]; c > 2 {
		return 0, Undecide("the subscription to %s was refused: %s", filter, c.In(packet.SUBACK, p.Version))
	}
	return packet.QoS(ack.Codes[0]), nil
}

// Publish publishes and waits for the flow. What the broker told us not to send makes
// the check unsupported, a flow that does not end or a refusal undecided.
func (p *Pass) Publish(peer *Peer, m packet.Publish) error {
	if m.Retain {
		p.mu.Lock()
		if p.retained == nil {
			p.retained = map[string]bool{}
		}
		p.retained[m.Topic] = true
		p.mu.Unlock()
	}
	pub, err := p.Start(peer, m)
	if err != nil {
		return err
	}
	return p.Complete(pub)
}

// Start publishes and does not wait. What the broker told us not to send makes the check
// unsupported; a link that is lost, undecided.
func (p *Pass) Start(peer *Peer, m packet.Publish) (*client.Publication, error) {
	pub, err := peer.Start(m)
	var limit *client.LimitError
	switch {
	case errors.As(err, &limit):
		return nil, Unsupport("%v", err)
	case errors.Is(err, client.ErrNotConnected):
		return nil, Undecide("the %s is no longer connected: %v", peer.Name, peer.Ended())
	case err != nil:
		return nil, Undecide("the %s could not publish: %v", peer.Name, err)
	}
	return pub, nil
}

// Complete waits until a publication's flow is complete.
func (p *Pass) Complete(pub *client.Publication) error {
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, fmt.Errorf("no acknowledgement for %s", arrival))
	defer cancel()
	code, err := pub.Wait(ctx)
	if err != nil {
		return Undecide("%v", err)
	}
	if code >= 0x80 {
		return Undecide("the broker did not take the message for %s: %s", pub.Packet.Topic, code.In(packet.PUBACK, p.Version))
	}
	return nil
}

// Mark returns the place in the evidence from which a later search begins.
func (p *Pass) Mark() uint64 { return p.log.Next() }

// Await waits for an event of the peer, from the mark on; nil when none comes in time.
func (p *Pass) Await(peer *Peer, from uint64, within time.Duration, fits func(*trace.Event) bool) *trace.Event {
	ctx, cancel := context.WithTimeout(p.ctx, within)
	defer cancel()
	for {
		events, _ := p.log.Read(from, evidenceLimit)
		for i := range events {
			if e := &events[i]; e.Client == peer.Name && fits(e) {
				return e
			}
		}
		from += uint64(len(events))
		if p.log.Wait(ctx, from) != nil {
			return nil
		}
	}
}

// AwaitMessage waits for a message to the peer with the topic and payload.
func (p *Pass) AwaitMessage(peer *Peer, from uint64, topic, text string) *packet.Publish {
	e := p.Await(peer, from, arrival, func(e *trace.Event) bool {
		m := e.Publish()
		return e.Kind == trace.Received && m != nil && m.Topic == topic && string(m.Payload) == text
	})
	if e == nil {
		return nil
	}
	return e.Publish()
}

// Messages returns what the peer has received since the mark.
func (p *Pass) Messages(peer *Peer, from uint64) (out []*packet.Publish) {
	events, _ := p.log.Read(from, evidenceLimit)
	for i := range events {
		if e := &events[i]; e.Client == peer.Name && e.Kind == trace.Received && e.Publish() != nil {
			out = append(out, e.Publish())
		}
	}
	return out
}

// Copies counts the messages with the payload among those the peer has received since
// the mark. A resend with DUP under the same packet id counts once.
func (p *Pass) Copies(peer *Peer, from uint64, text string) (n int) {
	seen := map[uint16]bool{}
	for _, m := range p.Messages(peer, from) {
		if string(m.Payload) != text || m.Dup && seen[m.ID] {
			continue
		}
		seen[m.ID] = true
		n++
	}
	return n
}

// Quiet waits long enough for what must not come to have come: three round trips,
// half a second at least. A watcher that is no longer connected afterwards has proven
// nothing: the check is undecided.
func (p *Pass) Quiet(watchers ...*Peer) (time.Duration, error) {
	p.mu.Lock()
	d := max(3*p.rtt, quietLeast)
	p.mu.Unlock()
	select {
	case <-time.After(d):
	case <-p.ctx.Done():
	}
	for _, w := range watchers {
		if !w.Connected() {
			return d, Undecide("the %s was lost while it watched: %v", w.Name, w.Ended())
		}
	}
	return d, nil
}

// cleanUp ends the check's clients and takes back what they left on the broker.
func (p *Pass) cleanUp() {
	for _, peer := range p.peers {
		peer.Lose(0)
		if peer.Connected() {
			peer.Disconnect(0)
		}
	}
	base := context.WithoutCancel(p.ctx) // also when the run was stopped
	for _, peer := range p.peers {
		if peer.kept { // a clean start ends the kept session
			p.tidy(base, peer, func(context.Context, *client.Client) {})
		}
	}
	if len(p.retained) > 0 {
		p.tidy(base, p.Peer("cleaner"), func(ctx context.Context, c *client.Client) {
			for topic := range p.retained {
				if _, err := c.Publish(ctx, packet.Publish{Topic: topic, QoS: 1, Retain: true}); err != nil {
					p.Note("the retained message on %s could not be cleared: %v", topic, err)
				}
			}
		})
	}
}

// tidy connects under the peer's id with a clean start, outside the evidence.
func (p *Pass) tidy(ctx context.Context, peer *Peer, do func(context.Context, *client.Client)) {
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	o := peer.opt
	o.Hooks, o.Take = client.Hooks{}, nil
	o.Connect.CleanStart, o.Connect.Will, o.Connect.Properties = true, nil, nil
	c := client.New(o)
	if _, err := c.Connect(ctx); err != nil {
		p.Note("what the %s left on the broker could not be taken back: %v", peer.Name, err)
		return
	}
	do(ctx, c)
	c.Disconnect(0)
}
