// Package trace is the time-ordered record of what every client exchanges. Clients
// cause events; the wire screen, the contract's judge and the checks read them.
package trace

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// Role tells on whose behalf a client acts.
type Role string

// The roles.
const (
	RoleDevice   Role = "device"   // a simulated device
	RoleObserver Role = "observer" // Hodstone's own eyes
	RoleCheck    Role = "check"    // a check's client
	RoleProbe    Role = "probe"    // a client of reach or of the rights, which only looks
	RolePeer     Role = "peer"     // a client of a stand-in's that is not ours
	RoleLog      Role = "log"      // no client: a log or console that is followed
)

// Kind tells what an event is about.
type Kind byte

// The kinds of events.
const (
	Sent     Kind = iota + 1 // a packet from the client to the broker
	Received                 // a packet from the broker to the client
	Link                     // the connection opened, froze, ended
	Line                     // a line of a log or console that is followed; Text holds it
	Gap                      // events are missing here; Missed tells how many
	Held                     // a packet that the link keeps back: it is frozen or slowed
	Lost                     // a packet that the link kept back until it ended: it never left
)

// Event is one thing that happened at one client. Events are never changed.
type Event struct {
	// Seq numbers the events of a log from 1, without gaps.
	Seq uint64
	// At is when it happened, with the monotonic clock: for packets sent, just before
	// the bytes were written.
	At     time.Time
	Client string // Hodstone's name for the client
	Role   Role
	Broker string // the broker's name in the workspace, or its address
	Conn   int    // which connection of the client, from 1
	Kind   Kind

	Version packet.Version
	Packet  packet.Packet // nil where the bytes are no packet
	Raw     []byte        // secrets in it are masked at equal length
	Broken  string        // the rule that the bytes break, if any
	Meaning Meaning       // of a PUBLISH to the client's session

	Link client.LinkEvent
	// By is who ended the connection, for [client.LinkEnded], as far as that can be told.
	By   client.Blame
	Text string // for link events: an address, or why it ended

	Missed uint64 // for gaps
}

// Reader gives the events of a trace by their numbers: a [Log] while it runs, or a record
// that was opened again.
type Reader interface {
	// Read returns at most limit events from number from on, and how many of those asked
	// for are gone.
	Read(from uint64, limit int) (events []Event, missed uint64)
	// At returns the event with the number, if it is still kept.
	At(seq uint64) (Event, bool)
	// Next returns the number that the next event will get.
	Next() uint64
	// Oldest returns the number of the oldest event that is kept.
	Oldest() uint64
}

// Publish returns the PUBLISH that the event carries, or nil.
func (e *Event) Publish() *packet.Publish {
	p, _ := e.Packet.(*packet.Publish)
	return p
}

// Topic returns the topic name of the PUBLISH that the event carries, with an alias resolved; "" where it
// is unknown.
func (e *Event) Topic() string {
	if e.Meaning.Topic != "" {
		return e.Meaning.Topic
	}
	if p := e.Publish(); p != nil {
		return p.Topic
	}
	return ""
}

// OwnTopics begin the topics of Hodstone's own looking: checks, reach, the observer's trial of the retain
// flag. No contract covers them.
const OwnTopics = "hodstone"

// OwnTopic tells whether a topic belongs to Hodstone's own looking.
func OwnTopic(name string) bool {
	if name == "" || name[0] != OwnTopics[0] && name[0] != '/' { // as with most
		return false
	}
	name = strings.TrimPrefix(name, "/")
	if !strings.HasPrefix(name, OwnTopics) {
		return false
	}
	first, _, deeper := strings.Cut(name, "/")
	return first == OwnTopics && deeper || strings.HasPrefix(first, OwnTopics+"-")
}

// Own tells whether the event is Hodstone's own looking: all that checks and probes do, what goes over on
// their topics, and all of an observer's packets but messages. It is no traffic of the site.
func (e *Event) Own() bool {
	switch e.Role {
	case RoleCheck, RoleProbe:
		return true
	}
	if p := e.Publish(); p != nil {
		return OwnTopic(e.Topic())
	}
	return e.Role == RoleObserver && (e.Packet != nil || e.Kind == Link && e.Link == client.LinkOpened)
}

// Log keeps the last events. Adding never waits for a reader; a reader that
// is too slow is told how many it missed. Safe for concurrent use.
type Log struct {
	mu      sync.Mutex
	ring    [][]Event     // event n stands at place (n-1) modulo capacity, in pages, which come as they are needed
	room    int           // capacity
	next    uint64        // the next event's number
	first   uint64        // the oldest that is kept, if the ring has not gone beyond it
	bytes   int           // of the packets that are kept
	changed chan struct{} // closed at the next Add, where someone waits
}

// MaxBytes is how many bytes of packets a log keeps at most: large packets push older events out
// sooner than their number would. The latest is kept whatever its size.
const MaxBytes = 96 << 20

// NewLog returns a log that keeps the given number of events.
func NewLog(capacity int) *Log { return &Log{room: capacity, next: 1} }

// pageLength is how many events stand in a page of a log.
const pageLength = 256

// at returns the place of an event that is kept.
func (l *Log) at(seq uint64) *Event {
	place := (seq - 1) % uint64(l.room)
	return &l.ring[place/pageLength][place%pageLength]
}

// Add numbers the event and keeps it.
func (l *Log) Add(e Event) { l.add(&e) }

// add is Add for who goes on using the event, which it does not change.
func (l *Log) add(e *Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	seq := l.next
	if filled := uint64(len(l.ring)) * pageLength; seq > filled && filled < uint64(l.room) {
		l.ring = append(l.ring, make([]Event, min(pageLength, uint64(l.room)-filled)))
	}
	place := l.at(seq)
	l.bytes += len(e.Raw) - len(place.Raw)
	*place = *e
	place.Seq = seq
	l.next++
	for l.bytes > MaxBytes && l.oldest() < seq {
		old := l.at(l.oldest())
		l.bytes -= len(old.Raw)
		l.first = old.Seq + 1
		*old = Event{}
	}
	if l.changed != nil {
		close(l.changed)
		l.changed = nil
	}
}

// Next returns the number that the next event will get.
func (l *Log) Next() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.next
}

// Read returns at most limit events from number from on (1 for the oldest kept), and
// how many of those asked for are gone.
func (l *Log) Read(from uint64, limit int) (events []Event, missed uint64) {
	events = make([]Event, min(uint64(limit), l.Next()-min(max(from, 1), l.Next())))
	n, missed := l.ReadInto(from, events)
	return events[:n], missed
}

// ReadInto is Read into a caller's memory: as many events as it has room for.
func (l *Log) ReadInto(from uint64, room []Event) (n int, missed uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	from = max(from, 1)
	if oldest := l.oldest(); from < oldest {
		missed = oldest - from
		from = oldest
	}
	for ; from < l.next && n < len(room); n++ {
		room[n] = *l.at(from)
		from++
	}
	return n, missed
}

// At returns the event with the number, if it is still kept.
func (l *Log) At(seq uint64) (Event, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if seq < l.oldest() || seq >= l.next {
		return Event{}, false
	}
	return *l.at(seq), true
}

// Oldest returns the number of the oldest event that is kept.
func (l *Log) Oldest() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.oldest()
}

func (l *Log) oldest() uint64 {
	oldest := max(1, l.first)
	if n := uint64(l.room); l.next > n {
		oldest = max(oldest, l.next-n)
	}
	return oldest
}

// Wait returns when there is an event with the number, or the context's error.
func (l *Log) Wait(ctx context.Context, seq uint64) error {
	for {
		l.mu.Lock()
		if seq < l.next {
			l.mu.Unlock()
			return nil
		}
		if l.changed == nil {
			l.changed = make(chan struct{})
		}
		changed := l.changed
		l.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// trusted is where the part of a malformed packet ends that can hold no secret: the fixed header and,
// of CONNECT, what stands before the client identifier and the properties.
func trusted(spans []packet.Span, raw []byte) (end int) {
	for _, s := range spans {
		switch s.Name {
		case "packet type and flags", "remaining length", "protocol level", "connect flags", "keep alive":
		case "protocol name":
			if name := string(raw[s.Start:s.End]); name != "\x00\x04MQTT" && name != "\x00\x06MQIsdp" {
				return end
			}
		default:
			return end
		}
		end = s.End
	}
	return end
}

// mayTell tells whether the event is of a packet that may hold a secret.
func (e *Event) mayTell() bool {
	if len(e.Raw) == 0 {
		return false
	}
	t := packet.Type(e.Raw[0] >> 4)
	return t == packet.CONNECT || t == packet.AUTH || t == packet.CONNACK && e.Version == packet.V5
}

// Redact masks passwords and authentication data in the event, at equal length, so
// that no reader can show them.
func Redact(e Event) Event {
	if !e.mayTell() {
		return e
	}
	spans, err := packet.Annotate(e.Raw, e.Version)
	raw := slices.Clone(e.Raw)
	secret := false
	mask := func(from, to int) {
		secret = secret || from < to
		for i := from; i < to; i++ {
			raw[i] = '*'
		}
	}
	for _, s := range spans {
		if s.Secret {
			mask(s.Start, s.End)
		}
	}
	if err != nil { // where lengths and flags cannot be trusted, a secret may stand anywhere
		mask(trusted(spans, e.Raw), len(raw))
	}
	if secret {
		e.Raw = raw
		e.Packet, _ = packet.Decode(raw, e.Version, packet.Lenient)
	}
	return e
}

// optionsOf are the options of a subscription that are set (5.0 §3.8.3.1).
func optionsOf(s *packet.Subscription) (out string) {
	if s.NoLocal {
		out += " no-local"
	}
	if s.RetainAsPublished {
		out += " retain-as-published"
	}
	if s.RetainHandling > 0 {
		out += fmt.Sprintf(" retain-handling %d", s.RetainHandling)
	}
	return out
}

// Describe says in a line what the packet is: "PUBLISH marrowvoe/pen/1/oxygen QoS 1".
func (e *Event) Describe() string {
	switch p := e.Packet.(type) {
	case *packet.Publish:
		s := fmt.Sprintf("PUBLISH %s QoS %d", e.Topic(), p.QoS)
		if p.Retain {
			s += " retain"
		}
		if p.Dup {
			s += " DUP"
		}
		if p.ID != 0 {
			s += fmt.Sprintf(" #%d", p.ID)
		}
		return s
	case *packet.Connect:
		id, level := p.ClientID, p.Level
		if level == 0 { // it is written in that of the session
			level = e.Version
		}
		const most = 100 // it may have 65,535 bytes
		if len(id) > most {
			return fmt.Sprintf(
				"CONNECT %q… (%d bytes) version %s keep alive %d s",
				strings.ToValidUTF8(id[:most], ""),
				len(id),
				level,
				p.KeepAlive,
			)
		}
		return fmt.Sprintf("CONNECT %q version %s keep alive %d s", id, level, p.KeepAlive)
	case *packet.Connack:
		s := fmt.Sprintf("CONNACK %s %s", p.Code.Code(packet.CONNACK, e.Version), p.Code.In(packet.CONNACK, e.Version))
		if p.SessionPresent {
			s += ", session present"
		}
		return s
	case *packet.Subscribe:
		s := "SUBSCRIBE"
		for _, sub := range p.Subscriptions {
			s += fmt.Sprintf(" %s QoS %d%s", sub.Filter, sub.QoS, optionsOf(&sub))
		}
		return s
	case *packet.Suback:
		s := fmt.Sprintf("SUBACK #%d", p.ID)
		for _, c := range p.Codes {
			s += " " + c.In(packet.SUBACK, e.Version)
		}
		return s
	case *packet.Unsubscribe:
		return fmt.Sprintf("UNSUBSCRIBE %q", p.Filters)
	case *packet.Unsuback:
		return fmt.Sprintf("UNSUBACK #%d", p.ID)
	case *packet.Puback:
		return ack(packet.PUBACK, p.Ack, e.Version)
	case *packet.Pubrec:
		return ack(packet.PUBREC, p.Ack, e.Version)
	case *packet.Pubrel:
		return ack(packet.PUBREL, p.Ack, e.Version)
	case *packet.Pubcomp:
		return ack(packet.PUBCOMP, p.Ack, e.Version)
	case *packet.Disconnect:
		if e.Version == packet.V5 {
			return fmt.Sprintf("DISCONNECT 0x%02X %s", byte(p.Code), p.Code.In(packet.DISCONNECT, e.Version))
		}
	case nil:
		switch e.Kind {
		case Link:
			return fmt.Sprintf("link %s: %s", e.Link, e.Text)
		case Line:
			return e.Text
		case Gap:
			if e.Text != "" {
				return e.Text
			}
			return fmt.Sprintf("%d events are missing here: they came too fast to be recorded", e.Missed)
		}
		return fmt.Sprintf("%d bytes that are no packet", len(e.Raw))
	}
	return e.Packet.Type().String()
}

func ack(t packet.Type, a packet.Ack, v packet.Version) string {
	s := fmt.Sprintf("%s #%d", t, a.ID)
	if a.Code != 0 {
		s += fmt.Sprintf(" 0x%02X %s", byte(a.Code), a.Code.In(t, v))
	}
	return s
}
