// Package draft makes a contract from traffic: topic patterns with parameters, parties, QoS, retain flags, cadence,
// payloads. What it writes is for a person to tidy: each line says how often it held, and doubts begin with "?".
package draft

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/payload"
)

// Limits of what is kept of traffic.
const (
	maxTopics  = 50_000
	maxGaps    = 256 // times between messages, per topic
	maxTexts   = 24  // different texts, per topic
	maxOrder   = 4_096
	maxClients = 10_000
)

// Message is one that was seen.
type Message struct {
	At      time.Time
	Topic   string
	Payload []byte
	QoS     packet.QoS
	// Retain is the publisher's flag where RetainKnown.
	Retain, RetainKnown bool
	Copy                bool   // it was stored, and greeted a subscription
	Will                bool   // the broker published it for its sender
	Sender              string // "" where unknown
}

// Client is a client whose own packets were seen.
type Client struct {
	Name       string // Hodstone's name for it
	ID         string // its client identifier
	Version    packet.Version
	KeepAlive  time.Duration
	CleanStart bool
	Will       string // the topic of its will; "" for none
	WillText   string // its payload
	Encrypted  *bool
}

// Traffic collects what a draft is made of. Not safe for concurrent use.
type Traffic struct {
	topics  map[string]*seen
	order   []string // of topics, as they were first seen
	unkept  int      // messages on topics beyond the limit
	clients map[string]*Client
	filters map[string]map[string]bool // by client
	recent  []spoken                   // live messages in their order
	plays   map[string]string          // the parties of clients, as far as they are known
	// From and Until are when the first and the last message came; Messages is how many there were.
	From, Until time.Time
	Messages    int
}

// spoken is a live message, for what follows what.
type spoken struct {
	at    time.Time
	topic string
}

// seen is what was seen on a topic.
type seen struct {
	name    string
	n       int // live messages
	copies  int
	qos     [3]int
	retain  [2]int // not retained, retained; of those of which it is known
	last    time.Time
	gaps    []time.Duration
	longest time.Duration
	repeats int // payloads that are that of the message before
	prior   uint64
	senders map[string]int
	wills   map[string]int // texts that came as wills
	first   string         // what came first
	largest int
	value   *node
}

// New returns a collection of nothing.
func New() *Traffic {
	return &Traffic{topics: map[string]*seen{}, clients: map[string]*Client{}, filters: map[string]map[string]bool{},
		plays: map[string]string{}}
}

// Plays tells the party of a client.
func (t *Traffic) Plays(client, party string) {
	if client != "" && party != "" && len(t.plays) < maxClients {
		t.plays[client] = party
	}
}

// Message takes a message in. Those of the broker's own ($SYS) are none of the site's.
func (t *Traffic) Message(m Message) {
	s := t.topics[m.Topic]
	if s == nil && (strings.HasPrefix(m.Topic, "$") || topic.CheckName(m.Topic) != nil) {
		return
	}
	t.Messages++
	if t.From.IsZero() {
		t.From = m.At
	}
	t.Until = m.At
	if s == nil {
		if len(t.topics) >= maxTopics {
			t.unkept++
			return
		}
		s = &seen{name: m.Topic, senders: map[string]int{}, wills: map[string]int{}, value: &node{}}
		t.topics[m.Topic] = s
		t.order = append(t.order, m.Topic)
	}
	s.take(m)
	if !m.Copy && !m.Will {
		if len(t.recent) >= maxOrder*8 {
			t.recent = slices.Clone(t.recent[len(t.recent)/2:])
		}
		t.recent = append(t.recent, spoken{m.At, m.Topic})
	}
}

func (s *seen) take(m Message) {
	s.largest = max(s.largest, len(m.Payload))
	if len(m.Payload) == 0 && (m.Retain || m.Copy) {
		return // it clears what is stored (3.1.1 §3.3.1.3)
	}
	if s.value.take(m.Payload); s.first == "" {
		s.first = payload.Clip(string(m.Payload), 200)
	}
	if m.Will {
		s.wills[payload.Clip(string(m.Payload), 200)]++
	}
	if m.Sender != "" {
		s.senders[m.Sender]++
	}
	if m.RetainKnown {
		s.retain[flag(m.Retain)]++
	}
	if m.Copy {
		s.copies++
		return
	}
	if m.QoS <= 2 {
		s.qos[m.QoS]++
	}
	if s.n++; m.Will {
		return
	}
	if !s.last.IsZero() {
		gap := m.At.Sub(s.last)
		if s.longest = max(s.longest, gap); len(s.gaps) < maxGaps {
			s.gaps = append(s.gaps, gap)
		} else {
			s.gaps[s.n%maxGaps] = gap
		}
	}
	hash := sum(m.Payload)
	if !s.last.IsZero() && hash == s.prior {
		s.repeats++
	}
	s.last, s.prior = m.At, hash
}

func flag(is bool) int {
	if is {
		return 1
	}
	return 0
}

// sum is a hash of a payload (FNV-1a).
func sum(b []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range b {
		h = (h ^ uint64(c)) * 1099511628211
	}
	return h
}

// Session takes in how a client came.
func (t *Traffic) Session(c Client) {
	if len(t.clients) < maxClients || t.clients[c.Name] != nil {
		t.clients[c.Name] = &c
	}
}

// Subscribes takes in what a client subscribes to.
func (t *Traffic) Subscribes(client string, filters ...string) {
	if t.filters[client] == nil {
		if len(t.filters) >= maxClients {
			return
		}
		t.filters[client] = map[string]bool{}
	}
	for _, f := range filters {
		_, plain, _ := topic.CutShare(f)
		t.filters[client][plain] = true
	}
}

// Topics is how many topics were seen.
func (t *Traffic) Topics() int { return len(t.topics) }

// Only returns the traffic on topics that keep says yes to, for drafting a part of it.
func (t *Traffic) Only(keep func(topic string) bool) *Traffic {
	out := *t
	out.topics, out.order, out.recent = map[string]*seen{}, nil, nil
	for _, name := range t.order {
		if keep(name) {
			out.topics[name] = t.topics[name]
			out.order = append(out.order, name)
		}
	}
	for _, m := range t.recent {
		if keep(m.topic) {
			out.recent = append(out.recent, m)
		}
	}
	return &out
}

// most returns the key with the largest count, and the sum of all; of those alike, the first by its order.
func most[K cmp.Ordered](counts map[K]int) (best K, n, all int) {
	for _, k := range slices.Sorted(maps.Keys(counts)) {
		if all += counts[k]; counts[k] > n {
			best, n = k, counts[k]
		}
	}
	return best, n, all
}
