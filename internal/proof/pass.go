package proof

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// TopicRoot begins the topics of all checks.
const TopicRoot = trace.OwnTopics

// Pass is one check being carried out in one version. It makes clients, keeps the
// evidence, and cleans up behind the check. Only one goroutine may use it, but for
// [Pass.ConnectAll].
type Pass struct {
	Check   *Check
	Version packet.Version

	ctx    context.Context
	r      *runner
	room   int // clients that may be connected at a time
	log    *trace.Log
	start  time.Time
	result Result

	decisive []uint64
	watched  []watch
	full     bool // the broker did not take one client more
	there    int  // how many of ours it had then

	mu       sync.Mutex
	clients  []*Client
	retained map[string]bool
	rtt      time.Duration // the longest round trip seen
}

// watch is something that must not come.
type watch struct {
	peer *Client
	from uint64
	fits func(*trace.Event) bool
	text string
}

// Client is a client of a check.
type Client struct {
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
type Option func(*Client)

// KeepSession asks for a session that outlives the connection.
func KeepSession(p *Client) {
	p.kept = true
	p.opt.Connect.CleanStart = false
	if p.p.Version == packet.V5 {
		p.opt.Connect.Properties = append(p.opt.Connect.Properties, packet.Int(packet.SessionExpiry, keptFor))
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
	return func(p *Client) { l.Apply(&p.opt) }
}

// WithoutPassword leaves the login's password out.
func WithoutPassword(p *Client) { p.opt.Connect.HasPassword, p.opt.Connect.Password = false, nil }

// As takes over another peer's client id.
func As(other *Client) Option { return func(p *Client) { p.opt.Connect.ClientID = other.ID } }

// Client makes a client that is not connected, named for the evidence.
func (p *Pass) Client(name string, options ...Option) *Client {
	p.mu.Lock()
	defer p.mu.Unlock()
	peer := &Client{Name: name, p: p}
	peer.opt.Connect = packet.Connect{ClientID: p.r.clientID(), CleanStart: true, KeepAlive: 60}
	peer.opt.Dial, peer.opt.Version = p.r.target.Dial, p.Version
	logs := []*trace.Log{p.log}
	if p.r.o.Log != nil {
		logs = append(logs, p.r.o.Log)
	}
	peer.opt.Hooks = trace.Record(trace.Source{Client: name, Role: trace.RoleCheck, Broker: p.r.target.Broker, Version: p.Version}, logs...)
	peer.opt.Take = func(pk packet.Packet) bool {
		peer.mu.Lock()
		defer peer.mu.Unlock()
		return peer.take != nil && peer.take(pk)
	}
	WithLogin(p.r.target.Login)(peer)
	for _, o := range options {
		o(peer)
	}
	peer.ID = peer.opt.Connect.ClientID
	peer.Client = client.New(peer.opt)
	p.clients = append(p.clients, peer)
	return peer
}

// Lose makes the peer pass over packets of the type, as if they had been lost; 0 ends it.
func (peer *Client) Lose(t packet.Type) {
	peer.mu.Lock()
	defer peer.mu.Unlock()
	peer.take = func(pk packet.Packet) bool { return pk.Type() == t }
}

// Login is what the checks' clients get in with; nil for none. Anonymous tells whether clients without
// credentials are meant to get in; nil where nobody said.
func (p *Pass) Login() *workspace.Login { return p.r.target.Login }

// Anonymous tells whether clients without credentials are meant to get in; nil where nobody said.
func (p *Pass) Anonymous() *bool { return p.r.target.Anonymous }

// Context ends when the run is stopped.
func (p *Pass) Context() context.Context { return p.ctx }

// Room is how many clients the check may have connected at a time.
func (p *Pass) Room() int { return p.room }

// Step notes what the check does next.
func (p *Pass) Step(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.result.Steps = append(p.result.Steps, Step{At: time.Since(p.start), Seq: p.log.Next(), Text: fmt.Sprintf(format, args...)})
}

// Saw says what was seen where all is well.
func (p *Pass) Saw(format string, args ...any) { p.result.Seen = fmt.Sprintf(format, args...) }

// Expect replaces the check's expectation, where it depends on what is intended.
func (p *Pass) Expect(text string) { p.result.Expected = text }

// Note adds a remark that does not change the verdict.
func (p *Pass) Note(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if text := fmt.Sprintf(format, args...); !slices.Contains(p.result.Notes, text) {
		p.result.Notes = append(p.result.Notes, text)
	}
}

// Show adds a table to the result.
func (p *Pass) Show(t *Table) { p.result.Tables = append(p.result.Tables, *t) }

// Decide names events that the verdict rests on; nil ones are passed over.
func (p *Pass) Decide(events ...*trace.Event) {
	for _, e := range events {
		if e != nil && e.Seq > 0 {
			p.decisive = append(p.decisive, e.Seq)
		}
	}
}

// Topic returns a topic of the check's own: letters, digits and slashes only.
func (p *Pass) Topic(parts ...string) string {
	name := strings.NewReplacer(".", "", "-", "").Replace(p.Check.Name + "v" + p.Version.String())
	return strings.Join(append([]string{TopicRoot, p.r.run, name}, parts...), "/")
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
			p.crowded(there)
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
	told := p.busy(err) // Try has noted it
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
	p.crowded(there)
	return ack, Undecide("the %s did not get in while %d clients of ours were there: %v", peer.Name, there, err)
}

// crowded notes that the broker did not take one client more while so many of ours were there.
func (p *Pass) crowded(there int) {
	p.mu.Lock()
	defer p.mu.Unlock()
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

// Subscribe subscribes a peer and returns what was granted. A refusal makes the check
// undecided.
func (p *Pass) Subscribe(peer *Client, filter string, qos packet.QoS) (packet.QoS, error) {
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, fmt.Errorf("nothing for %s", arrival))
	defer cancel()
	start := time.Now()
	if p.r.offer.NoWildcards && strings.ContainsAny(filter, "+#") {
		return 0, Unsupport("%s: the broker takes no wildcards (wildcard subscription available 0, 5.0 §3.2.2.3.11)", filter)
	}
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

// Unsubscribe takes a filter back. Ping sends PINGREQ and waits for the answer. That they are not answered makes
// the check undecided.
func (p *Pass) Unsubscribe(peer *Client, filter string) error {
	return p.ask(peer, func(ctx context.Context) error { _, err := peer.Client.Unsubscribe(ctx, filter); return err })
}

// Ping sends PINGREQ and waits for the answer; see [Pass.Unsubscribe].
func (p *Pass) Ping(peer *Client) error {
	return p.ask(peer, func(ctx context.Context) error { _, err := peer.Client.Ping(ctx); return err })
}

func (p *Pass) ask(peer *Client, do func(context.Context) error) error {
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, fmt.Errorf("nothing for %s", arrival))
	defer cancel()
	if err := do(ctx); err != nil {
		return Undecide("%s: %v", peer.Name, err)
	}
	return nil
}

// Publish publishes and waits for the flow, for checks that are about something else: a flow that does not end
// makes them undecided, and so does a refusal. What the broker told us not to send makes them unsupported.
func (p *Pass) Publish(peer *Client, m packet.Publish) (*trace.Event, error) {
	sent, pub, err := p.Start(peer, m)
	if err != nil {
		return nil, err
	}
	return sent, p.Complete(pub)
}

// Start publishes and does not wait. It returns the PUBLISH as it went out. What the broker told us not to send
// makes the check unsupported; a link that is lost, undecided.
func (p *Pass) Start(peer *Client, m packet.Publish) (*trace.Event, *client.Publication, error) {
	if m.Retain {
		p.mu.Lock()
		if p.retained == nil {
			p.retained = map[string]bool{}
		}
		p.retained[m.Topic] = true
		p.mu.Unlock()
	}
	offer := &p.r.offer
	if m.QoS > offer.QoS {
		return nil, nil, Unsupport("the broker does QoS %d at most", offer.QoS)
	}
	numbered := m
	numbered.ID = max(1, m.ID)
	if n := len(numbered.Append(nil, p.Version)); offer.PacketSize > 0 && n > offer.PacketSize {
		return nil, nil, Unsupport("a PUBLISH of %d bytes: the broker takes at most %d (maximum packet size, 5.0 §3.2.2.3.6)", n, offer.PacketSize)
	}
	from := p.Mark()
	pub, err := peer.Client.Start(m)
	var limit *client.LimitError
	switch {
	case errors.As(err, &limit):
		return nil, nil, Unsupport("%v", err)
	case errors.Is(err, client.ErrNotConnected):
		return nil, nil, Undecide("the %s is no longer connected: %v", peer.Name, peer.Ended())
	case err != nil:
		return nil, nil, Undecide("the %s could not publish: %v", peer.Name, err)
	}
	sent := p.Await(peer, from, arrival, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && e.Publish().ID == pub.Packet.ID && e.Topic() == m.Topic
	})
	return sent, pub, nil
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

// Flow publishes and follows the flow to its end at the publisher, for checks that are about it: what does not
// come, or comes in place of what must, is broken (§4.3).
func (p *Pass) Flow(peer *Client, m packet.Publish) (*trace.Event, error) {
	from := p.Mark()
	sent, pub, err := p.Start(peer, m)
	if err != nil || m.QoS == 0 {
		return sent, err
	}
	due := []packet.Type{packet.PUBACK}
	if m.QoS == 2 {
		due = []packet.Type{packet.PUBREC, packet.PUBCOMP}
	}
	for _, t := range due {
		e := p.Await(peer, from, arrival, func(e *trace.Event) bool {
			return e.Kind == trace.Received && e.Packet != nil && acknowledges(e.Packet, pub.Packet.ID)
		})
		switch {
		case e == nil && !peer.Connected():
			return sent, Undecide("the %s was lost: %v", peer.Name, peer.Ended())
		case e == nil:
			p.Decide(sent)
			return sent, Break("no %s within %s of PUBLISH at QoS %d", t, arrival, m.QoS)
		case e.Packet.Type() != t:
			p.Decide(sent, e)
			return sent, Break("%s came in place of %s, for PUBLISH at QoS %d", e.Packet.Type(), t, m.QoS)
		}
		from = e.Seq + 1
	}
	return sent, p.Complete(pub)
}

// acknowledges tells whether a packet is about a publication of ours with the identifier.
func acknowledges(p packet.Packet, id uint16) bool {
	switch p := p.(type) {
	case *packet.Puback:
		return p.ID == id
	case *packet.Pubrec:
		return p.ID == id
	case *packet.Pubcomp:
		return p.ID == id
	}
	return false
}

// Mark returns the place in the evidence from which a later search begins.
func (p *Pass) Mark() uint64 { return p.log.Next() }

// Await waits for an event of the peer, from the mark on; nil when none comes in time.
func (p *Pass) Await(peer *Client, from uint64, within time.Duration, fits func(*trace.Event) bool) *trace.Event {
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
func (p *Pass) AwaitMessage(peer *Client, from uint64, topic, text string) *trace.Event {
	return p.Await(peer, from, arrival, func(e *trace.Event) bool { return isMessage(e, topic, text) })
}

func isMessage(e *trace.Event, topic, text string) bool {
	m := e.Publish()
	return e.Kind == trace.Received && m != nil && e.Topic() == topic && string(m.Payload) == text
}

// Instead says what the peer got since the mark in place of a message: the same payload under another topic, or
// another payload under its topic, else that nothing came.
func (p *Pass) Instead(peer *Client, from uint64, topic, text string) string {
	for _, e := range p.Messages(peer, from) {
		m := e.Publish()
		switch {
		case string(m.Payload) == text && e.Topic() != topic:
			p.Decide(e)
			return fmt.Sprintf("it came under the topic %q in place of %q", e.Topic(), topic)
		case e.Topic() == topic && string(m.Payload) != text && likely(string(m.Payload), text):
			p.Decide(e)
			return fmt.Sprintf("it came with %d bytes, %s, in place of %d", len(m.Payload), shown(string(m.Payload)), len(text))
		}
	}
	if !peer.Connected() {
		return fmt.Sprintf("nothing came: the %s was lost, %v", peer.Name, peer.Ended())
	}
	return fmt.Sprintf("nothing came within %s", arrival)
}

// likely tells whether a payload is a changed form of another rather than another message.
func likely(got, want string) bool {
	n := min(len(got), len(want), 8)
	return n > 0 && got[:n] == want[:n]
}

func shown(s string) string {
	if len(s) > 24 {
		return fmt.Sprintf("%.20q…", s)
	}
	return fmt.Sprintf("%q", s)
}

// Messages returns the PUBLISH packets that the peer has received since the mark.
func (p *Pass) Messages(peer *Client, from uint64) (out []*trace.Event) {
	events, _ := p.log.Read(from, evidenceLimit)
	for i := range events {
		if e := &events[i]; e.Client == peer.Name && e.Kind == trace.Received && e.Publish() != nil {
			out = append(out, e)
		}
	}
	return out
}

// Arrivals returns, of the messages with the topic and payload that the peer has received since the mark, those
// that are none of the resends that the standard allows. An identifier is free again after our PUBACK or
// PUBCOMP: what comes under it afterwards is a new message, DUP or not (§4.3). Until then the same identifier
// with DUP is a resend: in 3.1 and 3.1.1 at any time, in 5 only on another connection (5.0 §4.4).
func (p *Pass) Arrivals(peer *Client, from uint64, topic, text string) (out []*trace.Event) {
	type open struct {
		conn        int
		topic, text string
	}
	under := map[uint16]open{}
	events, _ := p.log.Read(1, evidenceLimit)
	for i := range events {
		e := &events[i]
		if e.Client != peer.Name {
			continue
		}
		switch k := e.Packet.(type) {
		case *packet.Publish:
			if e.Kind != trace.Received {
				continue
			}
			was, pending := under[k.ID]
			again := k.QoS > 0 && k.Dup && pending && was.topic == e.Topic() && was.text == string(k.Payload) && (p.Version != packet.V5 || was.conn != e.Conn)
			if k.QoS > 0 {
				under[k.ID] = open{e.Conn, e.Topic(), string(k.Payload)}
			}
			if !again && e.Seq >= from && isMessage(e, topic, text) {
				out = append(out, e)
			}
		case *packet.Puback:
			if e.Kind == trace.Sent {
				delete(under, k.ID)
			}
		case *packet.Pubcomp:
			if e.Kind == trace.Sent {
				delete(under, k.ID)
			}
		}
	}
	return out
}

// Unreleased returns the first PUBLISH at QoS 2 that the peer has received since the mark and acknowledged by
// PUBREC, and that was not followed by PUBREL in time; nil where there is none (§4.3.3).
func (p *Pass) Unreleased(peer *Client, from uint64) *trace.Event {
	for _, e := range p.Messages(peer, from) {
		m := e.Publish()
		if m.QoS != 2 {
			continue
		}
		rel := p.Await(peer, e.Seq, arrival, func(x *trace.Event) bool {
			r, is := x.Packet.(*packet.Pubrel)
			return is && x.Kind == trace.Received && r.ID == m.ID
		})
		if rel == nil {
			return e
		}
	}
	return nil
}

// Quiet waits long enough for what must not come to have come: three round trips,
// half a second at least. A watcher that is no longer connected afterwards has proven
// nothing: the check is undecided.
func (p *Pass) Quiet(watchers ...*Client) (time.Duration, error) {
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

// Watch says what must not come to a peer from the mark on. It is looked for until the whole run ends: what comes
// late still turns the verdict.
func (p *Pass) Watch(peer *Client, from uint64, text string, fits func(*trace.Event) bool) {
	p.watched = append(p.watched, watch{peer, from, fits, text})
}

// Seen tells whether something that must not come has come by now.
func (p *Pass) Seen() error {
	for _, w := range p.watched {
		for _, e := range p.Messages(w.peer, w.from) {
			if w.fits(e) {
				p.Decide(e)
				return Break("%s", w.text)
			}
		}
	}
	return nil
}

// look is the last look at what must not come, at the end of the run.
func (p *Pass) look() error {
	if err := p.Seen(); err != nil {
		return err
	}
	p.Note("watched for %s in all", time.Since(p.start).Round(100*time.Millisecond))
	return nil
}

// cleanUp ends the check's clients and takes back what they left on the broker.
func (p *Pass) cleanUp() {
	for _, peer := range p.clients {
		peer.Lose(0)
		if peer.Connected() {
			peer.Disconnect(0)
		}
	}
	base := context.WithoutCancel(p.ctx) // also when the run was stopped
	for _, peer := range p.clients {
		if peer.kept { // a clean start ends the kept session
			p.tidy(base, peer, func(context.Context, *client.Client) {})
		}
	}
	if len(p.retained) > 0 {
		p.tidy(base, p.Client("cleaner"), func(ctx context.Context, c *client.Client) {
			for topic := range p.retained {
				if _, err := c.Publish(ctx, packet.Publish{Topic: topic, QoS: min(1, p.r.offer.QoS), Retain: true}); err != nil {
					p.Note("the retained message on %s could not be cleared: %v", topic, err)
				}
			}
		})
	}
}

// tidy connects under the peer's id with a clean start, outside the evidence.
func (p *Pass) tidy(ctx context.Context, peer *Client, do func(context.Context, *client.Client)) {
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

// Long makes a payload longer than what small buffers hold, if the broker takes packets of that size: short and
// long ones are told apart by nothing in the standard.
func (p *Pass) Long(text string) string {
	pad := longBy
	if size := p.r.offer.PacketSize; size > 0 {
		pad = max(1, min(pad, size-roomForTopic))
	}
	if why := p.r.offer.NoLong; why != "" {
		p.Note("tried with short messages alone: %s", why)
		pad = 1
	}
	return text + " " + strings.Repeat("x", pad)
}

// NoLong is why long messages are not tried; "" where they are.
func (p *Pass) NoLong() string { return p.r.offer.NoLong }

// Highest returns the QoS, or the highest that the broker was found to do where that is less: plain means for
// what a check is not about.
func (p *Pass) Highest(q packet.QoS) packet.QoS { return min(q, p.r.offer.QoS) }

// Forget lets the stored messages on topics be cleared when the check ends.
func (p *Pass) Forget(topics ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.retained == nil {
		p.retained = map[string]bool{}
	}
	for _, t := range topics {
		p.retained[t] = true
	}
}
