package trace

import (
	"slices"
	"time"
	"unsafe"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Journey is one message followed from its publisher to each receiver. MQTT carries
// nothing that ties a message received to the one sent, so they are matched by topic
// and payload, oldest first, for each receiver. A publisher that Hodstone does not
// run stays unknown.
type Journey struct {
	Topic   string
	Payload []byte
	// Sender is the publishing client, or "" where it is unknown. A will's sender is
	// unknown too: the broker publishes it.
	Sender string
	// SentSeq is the number of the PUBLISH sent, 0 for an unknown sender.
	SentSeq uint64
	SentAt  time.Time
	QoS     packet.QoS // as published
	Retain  bool
	// Done is when the publisher's flow was complete: PUBACK or PUBCOMP; at QoS 0 when sent.
	Done   time.Time
	Resent int // times it was sent again with DUP
	Hops   []Hop
	id     uint16
	conn   int
}

// Hop is a message's arrival at one receiver.
type Hop struct {
	Client string
	Seq    uint64
	At     time.Time
	QoS    packet.QoS
	Retain bool
	// Copy tells a retained message that greeted a new subscription from a live one.
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

// journeyAge is how long a message may take to a receiver and still be matched. After
// longer waits, those of absent clients, the sender counts as unknown: another client
// may have sent the same again by then.
const journeyAge = 10 * time.Second

// alike are messages with the same topic and payload that may still arrive somewhere,
// oldest first.
type alike struct {
	all  []*Journey
	gone int            // how many were taken away at the front
	next map[string]int // by receiver: those before have reached it, counted with the gone
}

type ackKey struct {
	client string
	id     uint16
}

// fresh takes away what is too old to be matched.
func (a *alike) fresh(now time.Time) {
	for len(a.all) > 0 && now.Sub(a.all[0].SentAt) > journeyAge {
		a.drop()
	}
}

func (a *alike) drop() {
	a.all[0] = nil
	a.all = a.all[1:]
	a.gone++
}

// arrive returns the oldest that fits and has not reached the receiver, or nil.
func (a *alike) arrive(client string, qos packet.QoS, since uint64) *Journey {
	if len(a.all) == 1 { // as most are
		if j := a.all[0]; qos <= j.QoS && j.SentSeq > since && !j.reached(client) {
			return j
		}
		return nil
	}
	if a.next == nil {
		a.next = map[string]int{}
	}
	i := max(0, a.next[client]-a.gone)
	for i < len(a.all) && a.all[i].reached(client) {
		i++
	}
	a.next[client] = i + a.gone
	for ; i < len(a.all); i++ {
		if j := a.all[i]; qos <= j.QoS && j.SentSeq > since && !j.reached(client) {
			return j
		}
	}
	return nil
}

// promises are what a client was granted.
type promises struct {
	granted map[string]packet.QoS // by filter
	asked   map[uint16][]string   // filters of SUBSCRIBE packets that are not answered, by identifier
	whole   bool                  // the session was seen from its beginning: there are no others
}

// promised returns the QoS that the client's subscriptions promise for a message: all that
// are right, for with overlapping filters each may bring a copy of its own (§3.3.5).
func (p *promises) promised(name string, qos packet.QoS) (out []packet.QoS) {
	for filter, g := range p.granted {
		_, plain, _ := topic.CutShare(filter)
		if topic.Match(plain, name) {
			out = append(out, min(qos, g))
		}
	}
	return out
}

// subscription takes in what a client asks for and is granted.
func (js *Journeys) subscription(e *Event) {
	p := js.subs[e.Client]
	if p == nil {
		p = &promises{granted: map[string]packet.QoS{}, asked: map[uint16][]string{}}
		js.subs[e.Client] = p
	}
	switch k := e.Packet.(type) {
	case *packet.Connack:
		if !k.SessionPresent {
			*p = promises{granted: map[string]packet.QoS{}, asked: map[uint16][]string{}, whole: true}
		}
	case *packet.Subscribe:
		var filters []string
		for _, s := range k.Subscriptions {
			filters = append(filters, s.Filter)
		}
		p.asked[k.ID] = filters
	case *packet.Suback:
		for i, filter := range p.asked[k.ID] {
			if i < len(k.Codes) && k.Codes[i] <= 2 {
				p.granted[filter] = packet.QoS(k.Codes[i])
			}
		}
		delete(p.asked, k.ID)
	case *packet.Unsubscribe:
		for _, filter := range k.Filters {
			delete(p.granted, filter)
		}
		p.whole = false // messages may still be under way
	}
}

// judge says whether a live message arrived as its receiver's subscriptions promise.
func (js *Journeys) judge(h *Hop, name string, published packet.QoS) {
	p := js.subs[h.Client]
	if p == nil || len(p.asked) > 0 {
		return // a subscription may hold before its SUBACK was seen (§3.8.4)
	}
	all := p.promised(name, published)
	if len(all) == 0 {
		if p.whole {
			h.Verdict, h.Expected = HopBroken, h.QoS
		}
		return
	}
	h.Verdict, h.Expected = HopBroken, slices.Max(all)
	if slices.Contains(all, h.QoS) {
		h.Verdict = HopKept
	}
}

// Journeys follows messages as events are added. Not safe for concurrent use.
type Journeys struct {
	limit int
	all   []*Journey
	open  map[alikeKey]*alike  // by topic and payload, those that may still arrive
	acks  map[ackKey]*Journey  // by publisher and packet identifier, those not complete
	rap   map[string]bool      // clients whose subscriptions keep the retain flag
	subs  map[string]*promises // by client
	since map[string]uint64    // the event at which a client's session began: nothing older reaches it live
}

// NewJourneys returns a follower that keeps the last limit journeys.
func NewJourneys(limit int) *Journeys {
	return &Journeys{limit: limit, open: map[alikeKey]*alike{}, acks: map[ackKey]*Journey{}, rap: map[string]bool{}, subs: map[string]*promises{}, since: map[string]uint64{}}
}

// All returns the journeys kept, oldest first.
func (js *Journeys) All() []*Journey { return js.all }

// Add takes in the next event and returns the journey it belongs to, or nil. For a
// PUBLISH received the last hop is the event's.
func (js *Journeys) Add(e *Event) *Journey {
	switch p := e.Packet.(type) {
	case *packet.Publish:
		if e.Kind == Sent {
			return js.sent(e, p)
		}
		return js.arrived(e, p)
	case *packet.Subscribe:
		for _, s := range p.Subscriptions {
			js.rap[e.Client] = s.RetainAsPublished
		}
		js.subscription(e)
	case *packet.Suback, *packet.Unsubscribe:
		js.subscription(e)
	case *packet.Connack:
		js.subscription(e)
		if !p.SessionPresent {
			js.since[e.Client] = e.Seq
		}
	case *packet.Puback:
		return js.completed(e, p.ID)
	case *packet.Pubcomp:
		return js.completed(e, p.ID)
	}
	return nil
}

// alikeKey is a topic and a payload; it shares the payload's memory, which never changes.
type alikeKey struct{ topic, payload string }

func key(topic string, payload []byte) alikeKey {
	return alikeKey{topic, unsafe.String(unsafe.SliceData(payload), len(payload))}
}

func (js *Journeys) sent(e *Event, p *packet.Publish) *Journey {
	if p.Dup {
		if j := js.acks[ackKey{e.Client, p.ID}]; j != nil && j.Topic == p.Topic {
			j.Resent++
			return j
		}
	}
	j := &Journey{Topic: p.Topic, Payload: p.Payload, Sender: e.Client, SentSeq: e.Seq, SentAt: e.At,
		QoS: p.QoS, Retain: p.Retain, id: p.ID, conn: e.Conn}
	if p.QoS == 0 {
		j.Done = e.At
	} else {
		js.acks[ackKey{e.Client, p.ID}] = j
	}
	k := key(p.Topic, p.Payload)
	a := js.open[k]
	if a == nil {
		a = &alike{}
		js.open[k] = a
	}
	a.fresh(e.At)
	a.all = append(a.all, j)
	js.keep(j)
	return j
}

func (js *Journeys) keep(j *Journey) {
	js.all = append(js.all, j)
	if len(js.all) > js.limit {
		old := js.all[0]
		js.all = js.all[1:]
		if k := (ackKey{old.Sender, old.id}); js.acks[k] == old {
			delete(js.acks, k)
		}
		k := key(old.Topic, old.Payload)
		if a := js.open[k]; a != nil && len(a.all) > 0 && a.all[0] == old {
			if a.drop(); len(a.all) == 0 {
				delete(js.open, k)
			}
		}
	}
}

func (js *Journeys) arrived(e *Event, p *packet.Publish) *Journey {
	hop := Hop{Client: e.Client, Seq: e.Seq, At: e.At, QoS: p.QoS, Retain: p.Retain}
	hop.Copy = p.Retain && !js.rap[e.Client]
	if !hop.Copy {
		k := key(p.Topic, p.Payload)
		if a := js.open[k]; a != nil {
			a.fresh(e.At)
			if j := a.arrive(e.Client, p.QoS, js.since[e.Client]); j != nil {
				hop.Delay = e.At.Sub(j.SentAt)
				js.judge(&hop, p.Topic, j.QoS)
				j.Hops = append(j.Hops, hop)
				return j
			}
			if len(a.all) == 0 {
				delete(js.open, k)
			}
		}
	}
	// Another receiver may just have got the same message of the same unknown sender.
	for i := len(js.all) - 1; i >= 0 && i >= len(js.all)-50; i-- {
		j := js.all[i]
		if j.Sender == "" && j.Topic == p.Topic && string(j.Payload) == string(p.Payload) &&
			!j.reached(e.Client) && j.Hops[0].Copy == hop.Copy && e.At.Sub(j.SentAt) < time.Second {
			j.Hops = append(j.Hops, hop)
			return j
		}
	}
	j := &Journey{Topic: p.Topic, Payload: p.Payload, SentAt: e.At, QoS: p.QoS, Retain: p.Retain, Hops: []Hop{hop}}
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

// KeepsRetain tells whether the client's subscriptions keep the publisher's retain flag
// (retain as published, 5.0 §3.8.3.1).
func (js *Journeys) KeepsRetain(client string) bool { return js.rap[client] }
