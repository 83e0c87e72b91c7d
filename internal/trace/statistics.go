package trace

import (
	"hash/maphash"
	"sort"
	"time"

	"hodstone/internal/meter"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
)

// Limits of statistics: beyond them further topics and clients are counted together.
const (
	maxTopics    = 20_000
	maxClients   = 20_000
	othersCalled = "(others)"
)

// TopicStatistics counts what went over on a topic.
type TopicStatistics struct {
	Topic string
	// Messages is how many there were: as many as were published by clients of ours, or as
	// many as the client that got most of them received live, whichever is more.
	Messages int
	Bytes    int64   // of their payloads
	Rate     float64 // a second, over the last three
	// QoS and Retained are those of the last, as its publisher sent it where we see that: what brokers
	// deliver has a lowered QoS, and most often no flag. A stored copy counts as retained.
	QoS      packet.QoS
	Retained bool
	Copies   int // stored copies that greeted subscriptions
	Last     time.Time
	LastSeq  uint64
	Payload  []byte // of the last; the first of it, where it is long

	sent    tally
	ours    uint64 // the hash of the payload that a client of ours published last
	byWhom  map[string]*tally
	who     string // got the last
	whose   *tally
	perTime meter.Meter
}

type tally struct {
	n     int
	bytes int64
}

// ClientStatistics counts what a client exchanged.
type ClientStatistics struct {
	Client      string
	Role        Role
	Broker      string
	Version     packet.Version
	Connections int
	Connected   bool
	// Sent and Received count packets, Published and Got those that are PUBLISH.
	Sent, Received       int
	Published, Got       int
	BytesOut, BytesIn    int64
	PublishRate, GetRate float64
	Broken               int // malformed packets
	Last                 time.Time
	publishTime, getTime meter.Meter
}

// Statistics counts a trace as events are added. Not safe for concurrent use.
type Statistics struct {
	topics  map[string]*TopicStatistics
	clients map[string]*ClientStatistics
	last    time.Time
	// Those of the event before: the next is often of the same.
	lastClient *ClientStatistics
	lastTopic  *TopicStatistics
}

// NewStatistics returns empty statistics.
func NewStatistics() *Statistics {
	return &Statistics{topics: map[string]*TopicStatistics{}, clients: map[string]*ClientStatistics{}}
}

// Add takes in the next event. Hodstone's own looking is not counted; see [Event.Own].
func (s *Statistics) Add(e *Event) {
	s.last = e.At
	if e.Client == "" || e.Own() {
		return
	}
	c := s.client(e)
	c.Last, c.Version = e.At, e.Version
	switch e.Kind {
	case Link:
		switch e.Link {
		case client.LinkOpened:
			c.Connections++
			c.Connected = true
		case client.LinkEnded, client.LinkFailed:
			c.Connected = false
		}
		return
	case Sent:
		c.Sent++
		c.BytesOut += int64(len(e.Raw))
	case Received:
		c.Received++
		c.BytesIn += int64(len(e.Raw))
	default: // what is held has not left, and what was lost never does
		return
	}
	if e.Broken != "" {
		c.Broken++
	}
	if p := e.Publish(); p != nil {
		if e.Kind == Sent {
			c.Published++
			c.publishTime.Add(e.At)
		} else {
			c.Got++
			c.getTime.Add(e.At)
		}
		s.message(e, p)
	}
}

func (s *Statistics) client(e *Event) *ClientStatistics {
	name := e.Client
	if c := s.lastClient; c != nil && c.Client == name {
		return c
	}
	c := s.clients[name]
	if c == nil && len(s.clients) >= maxClients {
		name = othersCalled
		c = s.clients[name]
	}
	if c == nil {
		c = &ClientStatistics{Client: name, Role: e.Role, Broker: e.Broker}
		s.clients[name] = c
	}
	s.lastClient = c
	return c
}

func (s *Statistics) message(e *Event, p *packet.Publish) {
	name := e.Topic()
	if name == "" {
		return // under an alias that was never set
	}
	t := s.lastTopic
	if t == nil || t.Topic != name {
		t = s.topics[name]
	}
	if t == nil && len(s.topics) >= maxTopics {
		name = othersCalled
		t = s.topics[name]
	}
	if t == nil {
		t = &TopicStatistics{Topic: name, byWhom: map[string]*tally{}}
		s.topics[name] = t
	}
	s.lastTopic = t
	t.Last, t.LastSeq, t.Payload = e.At, e.Seq, payload.Keep(p.Payload, keptPayload)
	k := maphash.Bytes(alikeSeed, p.Payload)
	if e.Kind == Sent {
		t.ours = k
	}
	published := e.Kind == Sent || t.sent.n == 0 || t.ours != k
	if published {
		t.QoS = p.QoS
	}
	if published || e.Meaning.Flag || e.Meaning.Copied() {
		t.Retained = p.Retain
	}
	if e.Kind == Received && e.Meaning.Copied() {
		t.Copies++
		return
	}
	whose := &t.sent
	if e.Kind == Received {
		if whose = t.whose; whose == nil || t.who != e.Client {
			if whose = t.byWhom[e.Client]; whose == nil {
				whose = &tally{}
				t.byWhom[e.Client] = whose
			}
			t.who, t.whose = e.Client, whose
		}
	} else if p.Dup {
		return // the same message again
	}
	whose.n++
	whose.bytes += int64(len(p.Payload))
	if whose.n > t.Messages {
		t.Messages, t.Bytes = whose.n, whose.bytes
		t.perTime.Add(e.At)
	}
}

// Topics returns the topics by name, with rates as of now; for a record that ended, as of its
// last event.
func (s *Statistics) Topics(now time.Time) []TopicStatistics {
	out := make([]TopicStatistics, 0, len(s.topics))
	for _, t := range s.topics {
		c := *t
		c.Rate = t.perTime.Rate(now)
		out = append(out, c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Topic < out[j].Topic })
	return out
}

// Clients returns the clients by name.
func (s *Statistics) Clients(now time.Time) []ClientStatistics {
	out := make([]ClientStatistics, 0, len(s.clients))
	for _, c := range s.clients {
		d := *c
		d.PublishRate, d.GetRate = c.publishTime.Rate(now), c.getTime.Rate(now)
		out = append(out, d)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Client < out[j].Client })
	return out
}

// Last is when the last event was.
func (s *Statistics) Last() time.Time { return s.last }
