package trace

import (
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

// Journey is one message followed from its publisher to each receiver. MQTT carries
// nothing that ties a message received to the one sent, so they are matched by topic
// and payload, oldest first, for each receiver. A publisher that Hodstone does not
// run stays unknown.
type Journey struct {
	Topic   string
	Payload []byte // the first of it, where it is long
	// Sender is the publishing client, or "" where it is unknown.
	Sender string
	Role   Role // of the sender; "" where it is unknown
	// Will tells that the message is the sender's will, which the broker published: the sender had left
	// it, and is gone without DISCONNECT, or frozen.
	Will bool
	// SentSeq is the number of the PUBLISH sent, 0 for an unknown sender.
	SentSeq uint64
	SentAt  time.Time
	QoS     packet.QoS // as published
	Retain  bool
	// Version is the publisher's; 0 where it is unknown. Properties are what it published beside the payload; nil
	// where there is much of it.
	Version    packet.Version
	Properties packet.Properties
	// Done is when the publisher's flow was complete: PUBACK or PUBCOMP; at QoS 0 when sent.
	Done   time.Time
	Resent int // times it was sent again with DUP
	// Tap tells what a rule of a tap made of it on its way to the broker; "" where nothing touched it.
	Tap  Tapped
	Hops []Hop
	id   uint16
	conn int
	key  alikeKey
	one  [1]Hop // room for the first of Hops, which most have alone
	in   *alike // with which it may still arrive; nil where it may not
}

// Tapped says what became of a message at a tap.
type Tapped string

// What may have become of it. Of what was changed, and of second copies, there are journeys of their own, whose sender is
// [Beyond] the tap.
const (
	TapPassed  Tapped = "disturbed by the tap" // it went on as it was: later, in pieces, or more than once
	TapChanged Tapped = "changed by the tap"   // another went on in its place
	TapKept    Tapped = "kept back by the tap" // nothing went on, so far
)

// Beyond ends the name under which a tap records what it tells the broker in a client's name, and what the broker tells it,
// where its rules make that differ from what the client says and hears.
const Beyond = " beyond the tap"

// The lines that a tap records there: a rule lets nothing of the client's PUBLISH go on, and one that was kept back goes on
// now, as the next packet.
const (
	TapKeeps  = "the tap: nothing goes on"
	TapLetsGo = "the tap: what was kept back goes on"
)

// Hop is a message's arrival at one receiver.
type Hop struct {
	Client string
	Seq    uint64
	At     time.Time
	QoS    packet.QoS
	Retain bool
	// Copy tells a retained message that greeted a new subscription, or may have, from a live one.
	Copy bool
	// Delay is the time since it was sent; 0 with an unknown sender.
	Delay time.Duration
	// Verdict tells whether it arrived as the receiver's subscriptions promise.
	Verdict HopVerdict
	// Expected is the QoS that they promise; only where the verdict is known.
	Expected packet.QoS
}

// HopVerdict says whether a message arrived as it must.
type HopVerdict byte

// The verdicts on a hop.
const (
	HopUnknown HopVerdict = iota // the subscriptions, or the publisher's QoS, are not known
	HopKept                      // at the lower of the QoS published and granted (§3.8.4)
	HopBroken                    // at another QoS, or without a subscription that matches
)

type ackKey struct {
	client string
	id     uint16
}

// compare says whether a live message arrived as its receiver's subscriptions promise.
func (h *Hop) compare(m *Meaning, published packet.QoS) {
	if m.Promised == 0 {
		if m.Whole {
			h.Verdict, h.Expected = HopBroken, h.QoS
		}
		return
	}
	expected, kept := m.Promises(h.QoS, published)
	if !m.Whole && !kept {
		return // another subscription may have let it come so (§3.3.5)
	}
	h.Verdict, h.Expected = HopBroken, expected
	if kept {
		h.Verdict = HopKept
	}
}

// Journeys follows messages as events are added. Not safe for concurrent use.
type Journeys struct {
	limit int
	all   []*Journey
	open  table               // by topic and payload, those that may still arrive
	acks  map[ackKey]*Journey // by publisher and packet identifier, those not complete
	since map[string]began    // when a client's session began: nothing older reaches it live
	order []string            // the clients of since, oldest first
	// asked is of which client it was asked last when its session began, and answer that; "" where that is void.
	asked  string
	answer uint64
	wills  map[string]*testament // by client
	left   map[string]int        // how many wills there are, by topic
	alien  string                // the one client that got messages of unknown senders
	more   bool                  // there are more such clients than one
	letGo  map[string]bool       // clients whose message that a tap kept back goes on next
	spare  []*alike              // to be used again
	old    *Journey              // the one that was forgotten last, to be used again
}

// began is where a session began.
type began struct {
	seq uint64
	at  time.Time
}

// testament is the will that a client left at its broker.
type testament struct {
	packet.Will
	client string
	role   Role
	// down is when the client was gone without DISCONNECT, or frozen; zero while it is there.
	down time.Time
}

// maxWills bounds the wills that are remembered, and willAge how long after its client was gone one may
// come: keep alive and will delay may pass before.
const (
	maxWills = 20_000
	willAge  = 10 * time.Minute
)

// NewJourneys returns a follower that keeps the last limit journeys.
func NewJourneys(limit int) *Journeys {
	return &Journeys{
		limit: limit,
		open:  newTable(limit),
		acks:  map[ackKey]*Journey{},
		since: map[string]began{},
		wills: map[string]*testament{},
		left:  map[string]int{},
		letGo: map[string]bool{},
	}
}

// All returns the journeys kept, oldest first. They are good until the next event is added.
func (js *Journeys) All() []*Journey { return js.all }

// Add takes in the next event and returns the journey it belongs to, or nil. For a
// PUBLISH received the last hop is the event's. A journey's memory is used again once it is no longer kept.
func (js *Journeys) Add(e *Event) *Journey {
	switch e.Kind {
	case Sent, Received:
	case Link:
		js.linked(e)
		return nil
	case Line:
		name, is := strings.CutSuffix(e.Client, Beyond)
		if !is || e.Role != RolePeer {
			return nil
		}
		if e.Text == TapLetsGo {
			js.letGo[name] = true
		} else if j := js.latest(name); e.Text == TapKeeps && j != nil && j.Tap == "" {
			js.closes(j)
			j.Tap = TapKept
		}
		return nil
	default:
		return nil
	}
	switch p := e.Packet.(type) {
	case *packet.Publish:
		switch {
		case e.Topic() == "": // an alias that nobody set
		case e.Kind == Sent:
			return js.sent(e, p)
		default:
			return js.arrived(e, p)
		}
	case *packet.Connect:
		js.revoke(e.Client)
		if p.Will != nil && len(js.wills) < maxWills {
			js.wills[e.Client] = &testament{Will: *p.Will, client: e.Client, role: e.Role}
			js.left[p.Will.Topic]++
		}
	case *packet.Connack:
		switch {
		case p.Code != 0:
			js.revoke(e.Client)
		case !p.SessionPresent:
			js.begins(e)
		}
	case *packet.Disconnect:
		if e.Kind == Sent && p.Code == 0 {
			js.revoke(e.Client)
		}
	case *packet.Puback:
		return js.completed(e, p.ID)
	case *packet.Pubcomp:
		return js.completed(e, p.ID)
	}
	return nil
}

// begins notes a new session. Those older than any message that is still matched are forgotten.
func (js *Journeys) begins(e *Event) {
	for len(js.order) > 0 && e.At.Sub(js.since[js.order[0]].at) > journeyAge {
		delete(js.since, js.order[0])
		js.asked = ""
		js.order = js.order[1:]
	}
	if _, known := js.since[e.Client]; known {
		js.order = slices.DeleteFunc(js.order, func(c string) bool { return c == e.Client })
	}
	js.since[e.Client], js.asked = began{e.Seq, e.At}, ""
	js.order = append(js.order, e.Client)
}

// beganAt is the number of the event with which a client's session began, as far as that is known.
func (js *Journeys) beganAt(client string) uint64 {
	if js.asked != client || client == "" {
		js.asked, js.answer = client, js.since[client].seq
	}
	return js.answer
}

// revoke forgets a client's will.
func (js *Journeys) revoke(client string) {
	if w := js.wills[client]; w != nil {
		if js.left[w.Topic]--; js.left[w.Topic] == 0 {
			delete(js.left, w.Topic)
		}
		delete(js.wills, client)
	}
}

func (js *Journeys) linked(e *Event) {
	w := js.wills[e.Client]
	if w == nil {
		return
	}
	switch e.Link {
	case client.LinkFrozen, client.LinkEnded:
		if w.down.IsZero() {
			w.down = e.At
		}
	case client.LinkThawed:
		w.down = time.Time{}
	}
}

// willOf returns the will that a message of an unknown sender must be: one client left it, is gone, and no
// other left the same.
func (js *Journeys) willOf(name string, p *packet.Publish, at time.Time) *testament {
	if js.left[name] == 0 {
		return nil
	}
	var found *testament
	for client, w := range js.wills {
		if !w.down.IsZero() && at.Sub(w.down) > willAge {
			js.revoke(client)
			continue
		}
		if w.down.IsZero() || w.Topic != name || string(w.Payload) != string(p.Payload) {
			continue
		}
		if found != nil {
			return nil
		}
		found = w
	}
	return found
}

// keptPayload is how much of a payload is kept for people to look at.
const keptPayload = 4 << 10

func (js *Journeys) sent(e *Event, p *packet.Publish) *Journey {
	if p.Dup {
		if j := js.acks[ackKey{e.Client, p.ID}]; j != nil && j.Topic == e.Topic() {
			j.Resent++
			return j
		}
	}
	k := key(e.Topic(), p.Payload)
	if name, is := strings.CutSuffix(e.Client, Beyond); is && e.Role == RolePeer {
		if j := js.throughTap(name, p, k); j != nil {
			if j.Tap == TapKept {
				js.opens(j, e.At)
			}
			j.Tap = TapPassed
			return j
		}
		if j := js.latest(name); j != nil && j.Tap == "" {
			js.closes(j)
			j.Tap = TapChanged
		}
	}
	j := js.blank()
	*j = Journey{
		Topic:   e.Topic(),
		Payload: payload.Keep(p.Payload, keptPayload),
		key:     k,
		Sender:  e.Client,
		Role:    e.Role,
		SentSeq: e.Seq,
		SentAt:  e.At,
		QoS:     p.QoS,
		Retain:  p.Retain,
		id:      p.ID,
		conn:    e.Conn,
	}
	if len(e.Raw) <= keptPayload {
		j.Version, j.Properties = e.Version, p.Properties
	}
	if p.QoS == 0 {
		j.Done = e.At
	} else {
		js.acks[ackKey{e.Client, p.ID}] = j
	}
	js.opens(j, e.At)
	js.keep(j)
	return j
}

// blank is memory for a journey: that of the one that was forgotten last, if any.
func (js *Journeys) blank() *Journey {
	j := js.old
	if js.old = nil; j == nil {
		j = &Journey{}
	}
	return j
}

// mostTapped is how many journeys are looked through for one that a tap disturbed.
const mostTapped = 1000

// latest is the last journey that a client began; nil for none.
func (js *Journeys) latest(client string) *Journey {
	for i := len(js.all) - 1; i >= max(0, len(js.all)-mostTapped); i-- {
		if j := js.all[i]; j.Sender == client && !j.Will {
			return j
		}
	}
	return nil
}

// throughTap finds the journey of a client that goes on as it was beyond a tap: its last one, one that is sent again, or one
// that the tap had kept back. It is nil where what goes on is another message.
func (js *Journeys) throughTap(client string, p *packet.Publish, k alikeKey) *Journey {
	same := func(j *Journey) bool { return j.key == k && j.id == p.ID && j.QoS == p.QoS && j.Retain == p.Retain }
	if j := js.acks[ackKey{client, p.ID}]; p.Dup && j != nil && same(j) {
		return j
	}
	last := !js.letGo[client]
	delete(js.letGo, client)
	for i := len(js.all) - 1; i >= max(0, len(js.all)-mostTapped); i-- {
		j := js.all[i]
		if j.Sender != client || j.Will {
			continue
		}
		if same(j) && (last && j.Tap == "" || j.Tap == TapKept) {
			return j
		}
		last = false
	}
	return nil
}

// closes lets the journey's message arrive nowhere any more.
func (js *Journeys) closes(j *Journey) {
	a := j.in
	if a == nil {
		return
	}
	a.take(j)
	if len(a.all) == 0 {
		js.shut(a)
	}
}

// opens lets the journey's message arrive.
func (js *Journeys) opens(j *Journey, now time.Time) {
	k := j.key
	a := js.open.find(k)
	if a == nil {
		a = &alike{}
		if n := len(js.spare); n > 0 {
			a, js.spare = js.spare[n-1], js.spare[:n-1]
		}
		*a = alike{key: k}
		a.all = a.one[:0]
		js.open.put(a)
	}
	a.fresh(now)
	j.in = a
	if a.all = append(a.all, j); len(a.all) == 1 {
		a.begins()
	}
}

// shut forgets messages that are alike, of which none is left.
func (js *Journeys) shut(a *alike) {
	const most = 100
	if js.open.cut(a); len(js.spare) < most {
		js.spare = append(js.spare, a)
	}
}

func (js *Journeys) keep(j *Journey) {
	js.all = append(js.all, j)
	if len(js.all) > js.limit {
		old := js.all[0]
		js.all = js.all[1:]
		if k := (ackKey{old.Sender, old.id}); old.QoS > 0 && js.acks[k] == old {
			delete(js.acks, k)
		}
		if a := old.in; a != nil {
			if a.take(old); len(a.all) == 0 {
				js.shut(a)
			}
		}
		js.old = old
	}
}

func (js *Journeys) arrived(e *Event, p *packet.Publish) *Journey {
	name := e.Topic()
	hop := Hop{Client: e.Client, Seq: e.Seq, At: e.At, QoS: p.QoS, Retain: p.Retain, Copy: e.Meaning.Copied()}
	k := key(name, p.Payload)
	if !hop.Copy {
		if a := js.open.find(k); a != nil {
			a.fresh(e.At)
			if j := a.arrive(e.Client, p.QoS, js.beganAt(e.Client)); j != nil {
				hop.Delay = e.At.Sub(j.SentAt)
				if hop.compare(&e.Meaning, j.QoS); j.Will {
					hop.Delay = 0 // when the broker published it is not seen
				}
				if j.Hops == nil {
					j.Hops = j.one[:0]
				}
				j.Hops = append(j.Hops, hop)
				return j
			}
			if len(a.all) == 0 {
				js.shut(a)
			}
		}
		if w := js.willOf(name, p, e.At); w != nil && p.QoS <= w.QoS {
			js.revoke(w.client)
			hop.compare(&e.Meaning, w.QoS)
			j := &Journey{
				Topic:   name,
				Payload: payload.Keep(p.Payload, keptPayload),
				key:     k,
				Sender:  w.client,
				Role:    w.role,
				Will:    true,
				SentAt:  e.At,
				Done:    e.At,
				QoS:     w.QoS,
				Retain:  w.Retain,
				Hops:    []Hop{hop},
			}
			js.opens(j, e.At)
			js.keep(j)
			return j
		}
	}
	// Another receiver may just have got the same message of the same unknown sender.
	if js.alien == "" {
		js.alien = e.Client
	}
	js.more = js.more || js.alien != e.Client
	for i := len(js.all) - 1; i >= 0 && i >= len(js.all)-50 && js.more; i-- {
		j := js.all[i]
		if j.Sender == "" && j.key == k &&
			!j.reached(e.Client) && j.Hops[0].Copy == hop.Copy && e.At.Sub(j.SentAt) < time.Second {
			j.Hops = append(j.Hops, hop)
			return j
		}
	}
	j := &Journey{
		Topic:   name,
		Payload: payload.Keep(p.Payload, keptPayload),
		key:     k,
		SentAt:  e.At,
		QoS:     p.QoS,
		Retain:  p.Retain,
		Hops:    []Hop{hop},
	}
	js.keep(j)
	return j
}

func (j *Journey) reached(client string) bool {
	for i := range j.Hops {
		if j.Hops[i].Client == client {
			return true
		}
	}
	return false
}

func (js *Journeys) completed(e *Event, id uint16) *Journey {
	if e.Kind != Received {
		return nil
	}
	k := ackKey{e.Client, id}
	j := js.acks[k]
	if j == nil {
		return nil
	}
	j.Done = e.At
	delete(js.acks, k)
	return j
}
