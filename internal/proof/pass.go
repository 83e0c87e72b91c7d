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
	plain    bool // and nothing was special about the client

	mu       sync.Mutex
	clients  []*Client
	raws     []*Raw
	ended    []string // client identifiers of links whose sessions are to be ended
	names    []string // of clients and links, in the order in which they were made
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

// Login is what the checks' clients get in with; nil for none. Anonymous tells whether clients without
// credentials are meant to get in; nil where nobody said.
func (p *Pass) Login() *workspace.Login { return p.r.target.Login }

// Anonymous tells whether clients without credentials are meant to get in; nil where nobody said.
func (p *Pass) Anonymous() *bool { return p.r.target.Anonymous }

// Limited is another login that may not do everything; nil where none is known.
func (p *Pass) Limited() *Limited { return p.r.target.Limited }

// Context ends when the run is stopped.
func (p *Pass) Context() context.Context { return p.ctx }

// Room is how many clients the check may have connected at a time.
func (p *Pass) Room() int { return p.room }

// Step notes what the check does next.
func (p *Pass) Step(format string, args ...any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.result.Steps = append(
		p.result.Steps,
		Step{At: time.Since(p.start), Seq: p.log.Next(), Text: fmt.Sprintf(format, args...)},
	)
}

// Saw says what was seen where all is well.
func (p *Pass) Saw(format string, args ...any) { p.result.Seen = fmt.Sprintf(format, args...) }

// Expect replaces the check's expectation, where it depends on what is intended.
func (p *Pass) Expect(text string) { p.result.Expected = text }

// Note adds a remark that does not change the verdict.
func (p *Pass) Note(format string, args ...any) {
	text := said(format, args)
	p.mu.Lock()
	defer p.mu.Unlock()
	if !slices.Contains(p.result.Notes, text) {
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

// Aside carries out a part of the check without its events deciding, and returns a function that lets them decide after
// all: for checks that try many things, of which only those count that went wrong.
func (p *Pass) Aside(do func()) (decide func()) {
	before := p.decisive
	p.decisive = nil
	do()
	some := p.decisive
	p.decisive = before
	return func() { p.decisive = append(p.decisive, some...) }
}

// Topic returns a topic of the check's own: letters, digits and slashes only.
func (p *Pass) Topic(parts ...string) string {
	name := strings.NewReplacer(".", "", "-", "").Replace(p.Check.Name + "v" + p.Version.String())
	return strings.Join(append([]string{TopicRoot, p.r.run, name}, parts...), "/")
}

// Subscribe subscribes a peer and returns what was granted. A refusal makes the check
// undecided.
func (p *Pass) Subscribe(peer *Client, filter string, qos packet.QoS) (packet.QoS, error) {
	return p.SubscribeWith(peer, packet.Subscription{Filter: filter, QoS: qos})
}

// SubscribeWith is [Pass.Subscribe] with the options of version 5.
func (p *Pass) SubscribeWith(peer *Client, sub packet.Subscription, ps ...packet.Property) (packet.QoS, error) {
	filter := sub.Filter
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, fmt.Errorf("nothing for %s", arrival))
	defer cancel()
	start := time.Now()
	if p.r.offer.NoWildcards && strings.ContainsAny(filter, "+#") {
		return 0, Unsupport(
			"%s: the broker takes no wildcards (wildcard subscription available 0, 5.0 §3.2.2.3.11)",
			filter,
		)
	}
	ack, err := peer.Client.Subscribe(ctx, []packet.Subscription{sub}, ps...)
	var limit *client.LimitError
	if errors.As(err, &limit) {
		return 0, Unsupport("%v", err)
	} else if err != nil {
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

// SubscribeAll subscribes to several filters by one SUBSCRIBE and returns the codes of SUBACK; no answer, or one with too few,
// makes the check undecided.
func (p *Pass) SubscribeAll(peer *Client, subs ...packet.Subscription) (codes []packet.ReasonCode, err error) {
	err = p.ask(peer, func(ctx context.Context) error {
		ack, err := peer.Client.Subscribe(ctx, subs)
		if err == nil {
			codes = ack.Codes
		}
		return err
	})
	return codes, err
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
	err := do(ctx)
	var limit *client.LimitError
	if errors.As(err, &limit) {
		return Unsupport("%v", err)
	} else if err != nil {
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
		return nil, nil, Unsupport(
			"a PUBLISH of %d bytes: the broker takes at most %d (maximum packet size, 5.0 §3.2.2.3.6)",
			n,
			offer.PacketSize,
		)
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
		return Undecide(
			"the broker did not take the message for %s: %s",
			pub.Packet.Topic,
			code.In(packet.PUBACK, p.Version),
		)
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

// Quiet waits long enough for what must not come to have come: three round trips, of what is answered and of messages,
// half a second at least. A watcher that is no longer connected afterwards has proven
// nothing: the check is undecided.
func (p *Pass) Quiet(watchers ...*Client) (time.Duration, error) {
	p.mu.Lock()
	d := max(3*p.rtt, 3*p.r.way, quietLeast)
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
	for _, r := range p.raws {
		r.Close()
	}
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
	for _, id := range p.ended {
		p.tidy(base, p.Client("cleaner of "+id, WithID(id)), func(context.Context, *client.Client) {})
	}
	if len(p.retained) > 0 {
		p.tidy(base, p.Client("cleaner"), func(ctx context.Context, c *client.Client) {
			for topic := range p.retained {
				if _, err := c.Publish(
					ctx,
					packet.Publish{Topic: topic, QoS: min(1, p.r.offer.QoS), Retain: true},
				); err != nil {
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

// Wildcards tells whether the broker takes filters with wildcards.
func (p *Pass) Wildcards() bool { return !p.r.offer.NoWildcards }

// Stores tells whether the broker stores messages.
func (p *Pass) Stores() bool { return p.r.offer.NoRetained == "" }

// LongIDs makes up two client identifiers of so many letters and digits that differ in the last of these, by the broker's rule
// where it has one.
func (p *Pass) LongIDs(length int) (one, other string) {
	head, tail, id := "", "", p.r.clientID()
	if rule := p.r.target.ClientID; rule != "" {
		head, tail, _ = strings.Cut(rule, "{n}")
	}
	id = strings.TrimSuffix(strings.TrimPrefix(id, head), tail)
	pad := map[bool]string{true: "x", false: "0"}[p.r.target.ClientID == ""]
	id += strings.Repeat(pad, max(0, length-len(head)-len(id)-1-len(tail)))
	return head + id + "1" + tail, head + id + "2" + tail
}

// Largest is the size of the largest PUBLISH that the broker takes, in bytes; 0 where it names none.
func (p *Pass) Largest() int { return p.r.offer.PacketSize }

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
