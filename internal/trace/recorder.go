package trace

import (
	"slices"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// Source says whose events are recorded.
type Source struct {
	Client  string
	Role    Role
	Broker  string
	Version packet.Version
}

// Recorder turns what happens at one end of a client's connections into events, and works out
// what its packets mean to its session. One serves a client of ours, or a client of a stand-in's. Safe
// for concurrent use: link events and packets may come from two goroutines.
type Recorder struct {
	src  Source
	logs []*Log

	mu   sync.Mutex
	conn int
	ses  session
}

// NewRecorder returns a recorder that adds to the logs.
func NewRecorder(src Source, logs ...*Log) *Recorder { return &Recorder{src: src, logs: logs} }

// Record returns the hooks that turn what a client does into events of the logs.
func Record(src Source, logs ...*Log) client.Hooks { return NewRecorder(src, logs...).Hooks() }

// Hooks returns the hooks of a client whose source this recorder has.
func (r *Recorder) Hooks() client.Hooks {
	return client.Hooks{
		Sent: func(p packet.Packet, raw []byte) { r.packet(Sent, p, raw) },
		Held: func(p packet.Packet, raw []byte) { r.packet(Held, p, raw) },
		Lost: func(p packet.Packet, raw []byte) { r.packet(Lost, p, raw) },
		Received: func(p packet.Packet, raw []byte, err error) {
			e := received(p, raw, err)
			r.add(&e)
		},
		Link: func(l client.LinkEvent, by client.Blame, text string) {
			r.Add(Event{Kind: Link, Link: l, By: by, Text: text})
		},
	}
}

func (r *Recorder) packet(k Kind, p packet.Packet, raw []byte) {
	e := Event{Kind: k, Packet: p, Raw: raw}
	if p == nil { // raw bytes: say what they are, as far as that can be told
		var err error
		if e.Packet, err = packet.Decode(slices.Clone(raw), r.src.Version, packet.Lenient); err != nil {
			e.Broken = err.Error()
		}
	}
	r.add(&e)
}

func received(p packet.Packet, raw []byte, err error) Event {
	e := Event{Kind: Received, Packet: p, Raw: raw}
	if err != nil {
		e.Broken = err.Error()
	}
	return e
}

// Add completes the event and adds it to the logs. An event without a time gets the present one.
func (r *Recorder) Add(e Event) { r.add(&e) }

func (r *Recorder) add(e *Event) {
	e.Client, e.Role, e.Broker, e.Version = r.src.Client, r.src.Role, r.src.Broker, r.src.Version
	if e.At.IsZero() {
		e.At = time.Now()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Kind == Link && e.Link == client.LinkOpened {
		r.conn++
		r.ses.opened()
	}
	e.Conn = r.conn
	switch e.Kind {
	case Sent, Received:
		e.Meaning = r.ses.take(e.Kind, e.Packet, e.Version, e.At)
	case Held, Lost:
		if p := e.Publish(); p != nil {
			e.Meaning = Meaning{Topic: p.Topic, Flag: true}
		}
	}
	if e.mayTell() {
		*e = Redact(*e)
	}
	for _, l := range r.logs {
		l.add(e)
	}
}
