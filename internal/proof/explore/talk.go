package explore

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/model"
	"hodstone/internal/trace"
)

// patience is how long is waited for what must come, and how long for what must not.
type patience struct{ must, quiet time.Duration }

var (
	quick   = patience{time.Second, 20 * time.Millisecond}
	thrifty = patience{time.Second, 40 * time.Millisecond}
	patient = patience{5 * time.Second, 500 * time.Millisecond}
)

// talk is one conversation under way.
type talk struct {
	target  *proof.Target
	version packet.Version
	p       patience
	prefix  string
	ids     []string
	model   *model.State
	log     *trace.Log
	in      chan event
	done    chan struct{} // closed when nobody takes events any longer
	peers   []*peer       // by client, the latest link
	old     []*peer       // links that another took over, until they end
	flows   []outbox      // of each client's session
	clients []string      // names in the trace
	links   []int         // of each client so far
	marks   int           // of payloads
	most    packet.QoS    // that the broker does
	begun   time.Time     // of the conversation
	steps   []proof.Step
	reached int          // how many actions were gone through
	kept    map[int]bool // clients whose sessions have to be ended
	stored  bool         // something was stored

	// unsure ends the conversation without a word: the broker refused something that it may refuse.
	unsure bool
}

// outbox are the publications of a session whose flows are not complete, by their identifiers.
type outbox map[uint16]*sending

type sending struct {
	m     *model.Message
	stage packet.Type // what is due: PUBACK, PUBREC or PUBCOMP
}

// event is what came over a link.
type event struct {
	p      *peer
	packet packet.Packet
	err    error // the link has ended
}

// peer is one link of a client.
type peer struct {
	client  int
	link    *link.Link
	hooks   client.Hooks
	window  int // the server's receive maximum
	connect *packet.Connect
	will    *model.Message
	in      bool // CONNACK came
	over    bool
	leaving bool // we ended it, or another took over
	holding bool // PUBACK and PUBREC
	late    bool // PUBCOMP
	held    []*packet.Publish
	comps   []uint16          // that are withheld
	early   []*packet.Publish // came before SUBACK
	subs    map[uint16][]packet.Subscription
	unsubs  map[uint16]string
	halting bool // PUBREC is answered by nothing
	pings   int
	next    uint16
}

// run carries a conversation out, and returns the first rule that is seen to be broken; nil for none. Actions that
// cannot be done as things stand are left out.
func (t *talk) run(ctx context.Context, actions []Action) *model.Violation {
	t.begun = time.Now()
	defer close(t.done)
	defer t.cleanUp(context.WithoutCancel(ctx))
	for i := range actions {
		a := &actions[i]
		t.reached = i + 1
		if ctx.Err() != nil || t.unsure {
			return nil
		}
		if !t.can(a) {
			continue
		}
		t.steps = append(t.steps, proof.Step{At: time.Since(t.begun), Seq: t.log.Next(), Text: a.String()})
		if v := t.do(ctx, a); v != nil && !t.unsure && ctx.Err() == nil {
			return v
		}
		if v := t.settle(ctx); v != nil && !t.unsure && ctx.Err() == nil {
			return v
		}
	}
	return nil
}

// can tells whether an action makes sense now.
func (t *talk) can(a *Action) bool {
	p := t.peers[a.Client]
	there := p != nil && p.in && !p.over
	switch a.Kind {
	case Connect:
		return !there
	case Takeover: // without a first one it is plainly a connection
		return true
	case Hold:
		return there && !p.holding && !p.late
	case Let:
		return there && (p.holding || p.late)
	case Torn, Halfway:
		return there && t.model.Session(t.ids[a.Client]).Kept && len(t.flows[a.Client]) == 0
	}
	return there
}

// do carries out an action.
func (t *talk) do(ctx context.Context, a *Action) *model.Violation {
	id, p := t.ids[a.Client], t.peers[a.Client]
	switch a.Kind {
	case Connect, Takeover:
		return t.connect(ctx, a)
	case Goodbye, WithWill:
		d := &packet.Disconnect{}
		if a.Kind == WithWill {
			d.Code = packet.DisconnectWithWill
		}
		p.leaving = true
		t.send(p, d)
		if p.will != nil {
			p.will.Void = a.Kind == Goodbye
		}
		t.model.Gone(id)
		if a.Kind == WithWill {
			t.publishWill(p, true)
		}
		p.end(func() { p.link.Close() })
	case Cut, Close:
		t.drop(a.Client, a.Kind == Cut)
	case Subscribe:
		sub := packet.Subscription{
			Filter:            t.filter(a.Filter),
			QoS:               a.QoS,
			NoLocal:           a.NoLocal,
			RetainAsPublished: a.Flag,
			RetainHandling:    packet.RetainHandling(a.Handling),
		}
		n := p.id(t)
		p.subs[n] = []packet.Subscription{sub}
		t.send(p, &packet.Subscribe{ID: n, Subscriptions: p.subs[n]})
	case Many:
		n := p.id(t)
		for i := range a.Times {
			p.subs[n] = append(
				p.subs[n],
				packet.Subscription{
					Filter: t.filter(a.among(i)),
					QoS:    min(t.most, (a.QoS+packet.QoS(i))%3),
				},
			)
		}
		t.send(p, &packet.Subscribe{ID: n, Subscriptions: p.subs[n]})
	case Break:
		p.leaving = true
		t.old = append(t.old, p)
		t.model.Gone(id)
		t.model.Doubt(id)
		t.publishWill(p, true)
		raw := []byte{0, 0} // type 0 (3.1.1 §2.2.1)
		p.hooks.Sent(nil, raw)
		p.link.Write(raw)
	case Unsubscribe:
		n := p.id(t)
		p.unsubs[n] = t.filter(a.Filter)
		t.send(p, &packet.Unsubscribe{ID: n, Filters: []string{p.unsubs[n]}})
	case Publish, Clear:
		m := t.message(a, a.Kind == Clear)
		if a.Kind == Clear && a.Flag {
			m.Retain = false
		}
		t.publish(p, m, true)
	case Burst:
		n := a.Times
		if a.QoS > 0 {
			n = min(n, p.window-len(t.flows[a.Client]))
		}
		for range n {
			t.publish(p, t.message(a, false), true)
		}
	case Torn:
		if p.window > len(t.flows[a.Client]) {
			t.publish(p, t.message(a, false), false)
		}
		t.drop(a.Client, a.Reset)
	case Halfway:
		if p.window > len(t.flows[a.Client]) {
			t.publish(p, t.message(a, false), false) // it may be passed on at PUBLISH or at PUBREL
		}
		p.halting = true
		if v := t.settle(ctx); v != nil || t.unsure {
			return v
		}
		t.drop(a.Client, true)
	case Hold:
		p.holding, p.late = !a.Late, a.Late
		t.model.Session(id).Holding = true
	case Let:
		p.holding, p.late = false, false
		t.model.Session(id).Holding = false
		held := p.held
		p.held = nil
		for _, m := range held {
			t.acknowledge(p, m)
		}
		comps := p.comps
		p.comps = nil
		for _, n := range comps {
			t.complete(p, n)
		}
	case Ping:
		p.pings++
		t.send(p, &packet.Pingreq{})
	}
	return nil
}

// topic and filter are names under the conversation's own prefix.
func (t *talk) topic(i int) string { return t.prefix + topics[i] }

func (t *talk) filter(i int) string {
	f := filters[i]
	if share, rest, is := strings.Cut(strings.TrimPrefix(f, "$share/"), "/"); is && strings.HasPrefix(f, "$share/") {
		return "$share/" + share + "/" + t.prefix + rest
	}
	return t.prefix + f
}

// message makes one with a payload that no other has.
func (t *talk) message(a *Action, clears bool) *model.Message {
	m := &model.Message{By: t.ids[a.Client], Sure: true,
		Publish: packet.Publish{Topic: t.topic(a.Topic), QoS: a.QoS, Retain: a.Retain || clears}}
	t.stored = t.stored || m.Retain
	if clears {
		return m
	}
	m.Payload = t.payload("m", a.Size)
	if a.Properties {
		m.Properties = t.properties(m.Payload)
	}
	return m
}

// properties are some that the standard passes on.
func (t *talk) properties(payload []byte) packet.Properties {
	return packet.Properties{
		packet.User("unit", "kg"),
		packet.User("depth", "3"),
		packet.User("unit", "kg"),
		packet.Str(packet.ContentType, "text/plain"),
		packet.Str(packet.ResponseTopic, t.topic(0)),
		packet.Str(packet.CorrelationData, "correlation of "+string(payload[:2])),
	}
}

func (t *talk) payload(kind string, size int) []byte {
	t.marks++
	mark := fmt.Sprintf("%s%d", kind, t.marks)
	if size == 0 {
		return []byte(mark)
	}
	b := []byte(mark + " ")
	for i := range size { // all bytes that there are
		b = append(b, byte(i*7))
	}
	return b
}

// publish sends a message; sure is false where it is cut off before it can be acknowledged.
func (t *talk) publish(p *peer, m *model.Message, sure bool) {
	m.Sure = sure
	out := m.Publish
	if m.QoS > 0 {
		out.ID = p.id(t)
		stage := packet.PUBACK
		if m.QoS == 2 {
			stage = packet.PUBREC
		}
		t.flows[p.client][out.ID] = &sending{m: m, stage: stage}
	}
	t.model.Published(m) // before it is sent: it may be passed on before it is acknowledged
	t.send(p, &out)
}

// drop ends a client's link without a word; its will is due.
func (t *talk) drop(c int, reset bool) {
	p := t.peers[c]
	p.leaving = true
	p.end(func() {
		if reset {
			p.link.Cut()
		} else {
			p.link.Close()
		}
	})
	t.model.Gone(t.ids[c])
	t.publishWill(p, true)
}

// publishWill notes a client's will as published.
func (t *talk) publishWill(p *peer, sure bool) {
	if p.will == nil {
		return
	}
	p.will.Sure = sure
	t.model.Published(p.will)
	p.will = nil
}

// id is a packet identifier that is not in use.
func (p *peer) id(t *talk) uint16 {
	for {
		if p.next++; p.next == 0 {
			p.next = 1
		}
		_, flow := t.flows[p.client][p.next]
		_, sub := p.subs[p.next]
		_, unsub := p.unsubs[p.next]
		if !flow && !sub && !unsub {
			return p.next
		}
	}
}

func (p *peer) end(how func()) {
	how()
	p.hooks.Link(client.LinkEnded, client.ByUs, "by us")
}

// send writes a packet.
func (t *talk) send(p *peer, pk packet.Packet) {
	raw := pk.Append(nil, t.version)
	p.hooks.Sent(pk, raw)
	p.link.Write(raw) // that it fails shows by the link's end
}

// connect opens a link and sends CONNECT. A second one under the same identifier takes over: the first's will is due,
// unless the session goes on.
func (t *talk) connect(ctx context.Context, a *Action) *model.Violation {
	dial, cancel := context.WithTimeout(ctx, t.p.must)
	l, err := t.target.Dial(dial)
	cancel()
	if err != nil {
		t.unsure = true
		return nil
	}
	c := a.Client
	if was := t.peers[c]; was != nil && was.in && !was.over {
		was.leaving = true
		t.old = append(t.old, was)
		t.model.Gone(t.ids[c])
		t.publishWill(was, a.Clean)
	}
	name := names[c]
	if t.links[c]++; t.links[c] > 1 {
		name = fmt.Sprintf("%s %d", name, t.links[c])
	}
	p := &peer{
		client: c,
		link:   l,
		subs:   map[uint16][]packet.Subscription{},
		unsubs: map[uint16]string{},
		window: 65535,
		hooks: trace.Record(
			trace.Source{Client: name, Role: trace.RoleCheck, Broker: t.target.Broker, Version: t.version},
			t.log,
		),
	}
	t.clients = append(t.clients, name)
	o := client.Options{
		Version: t.version,
		Connect: packet.Connect{ClientID: t.ids[c], CleanStart: a.Clean, KeepAlive: 120},
	}
	t.target.Login.Apply(&o)
	if t.version == packet.V5 {
		if a.Kept {
			o.Connect.Properties = append(o.Connect.Properties, packet.Int(packet.SessionExpiry, 600))
		}
		if a.Window > 0 {
			o.Connect.Properties = append(o.Connect.Properties, packet.Int(packet.ReceiveMaximum, uint32(a.Window)))
		}
	}
	if a.Will {
		w := packet.Will{Topic: t.topic(a.Topic), Payload: t.payload("w", 0), QoS: a.QoS, Retain: a.Retain}
		t.stored = t.stored || a.Retain
		o.Connect.Will = &w
		if a.Properties {
			w.Properties = t.properties(w.Payload)
		}
		p.will = &model.Message{
			By:   t.ids[c],
			Will: true,
			Sure: true,
			Publish: packet.Publish{
				Topic:      w.Topic,
				Payload:    w.Payload,
				QoS:        w.QoS,
				Retain:     w.Retain,
				Properties: w.Properties,
			},
		}
	}
	p.connect = &o.Connect
	t.peers[c] = p
	t.kept[c] = t.kept[c] || a.Kept
	p.hooks.Link(client.LinkOpened, "", "opened")
	context.AfterFunc(ctx, func() { l.Close() }) // a broker that takes nothing must not hold a write up for ever
	go t.read(p)
	t.send(p, p.connect)
	return nil
}
