package fleet

import (
	"context"
	"errors"
	"hash/maphash"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// session is one client of the fleet.
type session struct {
	f      *Fleet
	n      int // in the fleet, from 1 on; others of fan-in and fan-out count on
	kind   *Kind
	number int // in its kind
	lane   *lane
	client *client.Client
	topic  string // "" for one that does not publish

	in      atomic.Bool // connected, and subscribed
	wanted  atomic.Bool // by the step
	tries   atomic.Int32
	drops   atomic.Int32  // its links that ended while it was to come in
	busy    atomic.Bool   // somebody connects it
	came    atomic.Int64  // when it came in last, since the load began
	gone    atomic.Bool   // its link ended in the step
	missed  int64         // before the step
	seq     atomic.Uint64 // of what it sent last
	brief   bool          // nobody keeps what it sends
	payload []byte        // of what it sent last, where nobody keeps that
	left    int64         // messages that it has still to send; below 0 for no end
	queued  bool          // among those that a worker sends for
	next    int64         // when it sends next, since the load began

	mu    sync.Mutex // guards what follows
	heard map[int]*tracker
	one   tracker // in place of heard where there is one publisher
	ring  *ring   // of what it sent, where messages have no mark
}

// lane takes down what some of the sessions measure: one lock for few.
type lane struct {
	mu       sync.Mutex // guards what follows
	gauges   gauges
	counts   Counts
	refusals map[string]int
}

func newLane() *lane { return &lane{gauges: *newGauges(), refusals: map[string]int{}} }

// ring holds what a session sent last, without marks.
type ring struct {
	sums  [ringSize]uint64
	meant [ringSize]time.Duration
	sent  uint64
}

const ringSize = 1024

var ringSeed = maphash.MakeSeed()

func (r *ring) put(payload []byte, meant time.Duration) {
	r.sent++
	i := r.sent % ringSize
	r.sums[i], r.meant[i] = maphash.Bytes(ringSeed, payload), meant
}

// find returns the number of the next message after top with such a payload: they come in their order.
func (r *ring) find(payload []byte, top uint64) (seq uint64, meant time.Duration, ok bool) {
	sum := maphash.Bytes(ringSeed, payload)
	first := top + 1
	if r.sent >= ringSize && first <= r.sent-ringSize {
		first = r.sent - ringSize + 1
	}
	for seq = first; seq <= r.sent; seq++ {
		if r.sums[seq%ringSize] == sum {
			return seq, r.meant[seq%ringSize], true
		}
	}
	return 0, 0, false
}

// options are those of the session's client.
func (s *session) options() client.Options {
	o := s.kind.Client(s.number)
	if t := s.f.plan.Traced; t != nil && s.n <= s.f.plan.Total() {
		if h := t(s.n); h != nil {
			o.Hooks = *h
		}
	}
	if f := s.f; f.plan.Storm == Wills && !f.other(s) {
		o.Connect.Will = &packet.Will{
			Topic:   f.plan.WillBase + "/" + strconv.Itoa(s.n),
			QoS:     f.plan.QoS,
			Payload: []byte("lost"),
		}
	}
	s.brief = s.f.plan.QoS == 0 && o.Hooks.Sent == nil && o.Hooks.Held == nil && o.Hooks.Lost == nil
	told := o.Hooks.Link
	o.Hooks.Link = func(e client.LinkEvent, by client.Blame, text string) {
		if told != nil {
			told(e, by, text)
		}
		if e == client.LinkEnded {
			s.f.ended(s)
		}
	}
	if s.f.hears(s) {
		o.Message = s.message
	}
	if s.f.plan.QoS > 0 && s.topic != "" {
		o.Completed = s.completed
	}
	return o
}

// lostLink tells that the session was in, and is to be, and is not.
func (s *session) lostLink() bool { return s.wanted.Load() && !s.in.Load() && s.came.Load() > 0 }

// connect connects the session, and subscribes; how long that took, or why not, is taken down.
func (s *session) connect(ctx context.Context) error {
	const within = 30 * time.Second
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	if s.client == nil {
		s.client = client.New(s.options())
	}
	start := time.Now()
	_, err := s.client.Connect(ctx)
	took := time.Since(start)
	if err == nil && s.f.hears(s) {
		var all []packet.Subscription
		for _, f := range s.f.filtersOf(s) {
			all = append(all, packet.Subscription{Filter: f, QoS: s.f.plan.QoS})
		}
		var ack *packet.Suback
		if ack, err = s.client.Subscribe(ctx, all); err == nil {
			for _, c := range ack.Codes {
				if c >= 0x80 && err == nil {
					err = errors.New("the subscription was refused: " + c.In(packet.SUBACK, s.client.Version()))
				}
			}
		}
		if err == nil {
			s.basedOn()
		} else {
			s.client.Close()
		}
	}
	s.lane.mu.Lock()
	defer s.lane.mu.Unlock()
	if err != nil {
		s.lane.refusals[causeOf(err)]++
		return err
	}
	record(s.lane.gauges.connect, took)
	if s.kind.TLS {
		s.lane.counts.Handshakes++
	}
	s.came.Store(int64(s.f.since()))
	s.in.Store(true)
	return nil
}

// basedOn begins to expect what is sent from now on, when it comes in the first time.
func (s *session) basedOn() {
	s.f.publishersOf(s, func(p *session) {
		now := p.seq.Load()
		s.mu.Lock()
		t := s.trackerOf(p.n)
		if t.base == 0 && t.top == 0 {
			t.base, t.top = now, now
		}
		s.mu.Unlock()
	})
}

// trackerOf is the tracker of a publisher; s.mu is held.
func (s *session) trackerOf(from int) *tracker {
	if s.f.single {
		return &s.one
	}
	t := s.heard[from]
	if t == nil {
		if s.heard == nil {
			s.heard = map[int]*tracker{}
		}
		t = &tracker{}
		s.heard[from] = t
	}
	return t
}

// message takes in what comes, on the client's reading goroutine.
func (s *session) message(p *packet.Publish) {
	now := s.f.since()
	m, marked := markOf(p)
	if marked && (m.from < 1 || m.from > len(s.f.all) || s.f.all[m.from-1] == nil) || p.Retain {
		return // a stored one, of before, or another part's
	}
	if !marked {
		from := s.f.byTopic(p.Topic)
		if from == nil || from.ring == nil {
			return
		}
		s.mu.Lock()
		top := s.trackerOf(from.n).top
		s.mu.Unlock()
		from.mu.Lock()
		seq, meant, ok := from.ring.find(p.Payload, top)
		from.mu.Unlock()
		if !ok { // sent by somebody else, or twice
			return
		}
		m = mark{from.n, seq, meant}
	}
	l := s.lane
	if s.f.single && !s.f.hearsOf(s, m.from) {
		l.mu.Lock()
		l.refusals["a message came to a client that did not subscribe to it"]++
		l.mu.Unlock()
		return
	}
	s.mu.Lock()
	how := s.trackerOf(m.from).see(m.seq)
	s.mu.Unlock()
	l.mu.Lock()
	switch how {
	case before:
	case again:
		l.counts.Duplicated++
	default:
		if l.counts.Received++; how == overtaken {
			l.counts.OutOfOrder++
		}
		record(l.gauges.trip, now-m.meant)
	}
	l.mu.Unlock()
}

// completed takes an acknowledgement in.
func (s *session) completed(p *packet.Publish, code packet.ReasonCode, err error) {
	if err != nil {
		return
	}
	now := s.f.since()
	meant, known := time.Duration(0), false
	if m, ok := markOf(p); ok {
		meant, known = m.meant, true
	}
	l := s.lane
	l.mu.Lock()
	defer l.mu.Unlock()
	if code >= 0x80 {
		l.refusals["PUBLISH: "+code.In(packet.PUBACK, packet.V5)]++
		return
	}
	l.counts.Acked++
	if known {
		record(l.gauges.ack, now-meant)
	}
}

// send sends the session's next message, which was meant to go at a time since the load began.
func (s *session) send(meant time.Duration) {
	f := s.f
	seq := s.seq.Load() + 1
	m := packet.Publish{Topic: s.topic, QoS: f.plan.QoS, Retain: f.plan.Retain}
	if c := s.kind.Compose; c != nil {
		composed, err := c(s.number, seq)
		if err != nil {
			s.failed(err)
			return
		}
		composed.QoS, composed.Retain = m.QoS, m.Retain
		if composed.Topic == "" {
			composed.Topic = m.Topic
		}
		if m = composed; s.client.Version() == packet.V5 {
			m.Properties = append(m.Properties, mark{s.n, seq, meant}.property())
		} else {
			s.mu.Lock()
			s.ring.put(m.Payload, meant)
			s.mu.Unlock()
		}
	} else {
		if !s.brief {
			s.payload = make([]byte, 0, max(f.plan.Size, MarkSize))
		}
		s.payload = mark{s.n, seq, meant}.append(s.payload[:0], f.plan.Size)
		m.Payload = s.payload
	}
	// The number stands before the message is out: who has subscribed by now does not wait for what went before.
	s.seq.Store(seq)
	if err := s.start(&m); err != nil {
		s.seq.Store(seq - 1)
		s.failed(err)
		return
	}
	s.lane.mu.Lock()
	s.lane.counts.Sent++
	s.lane.mu.Unlock()
}

// start sends a message.
func (s *session) start(m *packet.Publish) error {
	if s.brief {
		return s.client.Post(m)
	}
	_, err := s.client.Start(*m)
	return err
}

func (s *session) failed(err error) {
	s.lane.mu.Lock()
	defer s.lane.mu.Unlock()
	s.lane.counts.Failed++
	s.lane.refusals["not sent: "+causeOf(err)]++
}
