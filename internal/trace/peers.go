package trace

import (
	"fmt"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// RecordPeers returns the hooks that turn what a stand-in's clients do into events of the
// log, seen as from the client: what the stand-in receives, the client sent. Connections whose
// address ours tells are left out: they are recorded at their own end; it is asked when the
// first packet came, and again with gone when such a connection has ended. announce is told,
// for people, who came, left or was refused. Both may be nil.
func RecordPeers(
	broker string,
	log *Log,
	ours func(address string, gone bool) bool,
	announce func(what, text string),
) *standin.Hooks {
	r := &peers{
		broker:   broker,
		log:      log,
		ours:     ours,
		announce: announce,
		known:    map[*standin.Peer]*peer{},
		named:    map[string]*Recorder{},
	}
	return &standin.Hooks{Opened: r.opened, Received: r.received, Sent: r.sent, Ended: r.ended}
}

type peers struct {
	broker   string
	log      *Log
	ours     func(address string, gone bool) bool
	announce func(what, text string)

	mu    sync.Mutex
	known map[*standin.Peer]*peer
	named map[string]*Recorder // by the name of the client
	order []string             // of named, oldest first
}

// maxPeers is how many names of clients are remembered: whoever comes under ever new ones does not fill
// the memory.
const maxPeers = 20_000

// peer is a connection of a stand-in.
type peer struct {
	name   string    // "" until its first packet
	rec    *Recorder // nil for one that is hidden
	came   time.Time
	hidden bool
	in     bool
}

func (r *peers) opened(p *standin.Peer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.known[p] = &peer{came: time.Now()}
}

// of names the connection, by its client identifier if it has one, and records its
// opening under that name.
func (r *peers) of(p *standin.Peer) *peer {
	k := r.known[p]
	if k.name != "" {
		return k
	}
	k.name = p.ClientID
	if k.name == "" {
		k.name = p.Address
	}
	if k.hidden = r.ours != nil && r.ours(p.Address, false); k.hidden {
		return k
	}
	if k.rec = r.named[k.name]; k.rec == nil {
		k.rec = NewRecorder(Source{Client: k.name, Role: RolePeer, Broker: r.broker}, r.log)
		r.named[k.name] = k.rec
		if r.order = append(r.order, k.name); len(r.order) > maxPeers {
			delete(r.named, r.order[0])
			r.order = r.order[1:]
		}
	}
	k.rec.src.Version = p.Version // all events of a stand-in are recorded under r.mu
	k.rec.Add(Event{At: k.came, Kind: Link, Link: client.LinkOpened, Text: p.Address + " at " + p.Listener})
	return k
}

func (r *peers) add(p *standin.Peer, e Event) *peer {
	k := r.of(p)
	if k.rec != nil {
		k.rec.src.Version = p.Version
		k.rec.Add(e)
	}
	return k
}

func (r *peers) tell(k *peer, what, format string, args ...any) {
	if r.announce != nil && !k.hidden {
		r.announce(what, fmt.Sprintf(format, args...))
	}
}

func (r *peers) received(p *standin.Peer, pk packet.Packet, raw []byte, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := received(pk, raw, err)
	e.Kind = Sent // by the client
	if k := r.add(p, e); err != nil {
		r.tell(k, "broken", "%s at %s sent what it must not: %v", k.name, p.Address, err)
	}
}

func (r *peers) sent(p *standin.Peer, pk packet.Packet, raw []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known[p] == nil {
		return // it ended before its last packet was written
	}
	k := r.add(p, Event{Kind: Received, Packet: pk, Raw: raw})
	if ack, ok := pk.(*packet.Connack); ok {
		if k.in = ack.Code == 0; k.in {
			r.tell(k, "in", "%s from %s, MQTT %s, by %s", k.name, p.Address, p.Version, p.Listener)
		} else {
			r.tell(k, "refused", "%s from %s: %s (say 'refused' for the reason)", k.name, p.Address, ack.Code.In(packet.CONNACK, p.Version))
		}
	}
}

func (r *peers) ended(p *standin.Peer, text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k := r.add(p, Event{Kind: Link, Link: client.LinkEnded, By: endedBy(p.End), Text: text})
	if k.in {
		r.tell(k, "left", "%s: %s", k.name, text)
	}
	if k.hidden {
		r.ours(p.Address, true)
	}
	delete(r.known, p)
}

// endedBy tells who ended a stand-in's connection, as seen from the client: "us" is the client.
func endedBy(end standin.Ending) client.Blame {
	switch end {
	case standin.EndedByClient:
		return client.ByUs
	case standin.EndedByStandIn:
		return client.ByBroker
	case standin.EndedByReset:
		return client.ByReset
	}
	return client.ByUnknown
}
