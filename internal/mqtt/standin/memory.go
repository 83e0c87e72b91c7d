package standin

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
)

// What a stand-in holds, in bytes. Payloads are counted for everybody who waits for them, though
// they are held once: what is counted is an upper bound.
const (
	// DefaultMemory is how much it holds in all where [Limits.Memory] says nothing.
	DefaultMemory = 192 << 20
	// perClient is what waits for one client at most, an absent one too: the largest message fits.
	perClient = 2 * maxPacketSize
	// perLink is what is on its way out to one connection: beyond it, messages at QoS 0 are dropped,
	// and twice as much ends the connection.
	perLink = maxPacketSize + 4<<20

	sizeOfMessage      = 512 // what a message takes beside its text
	sizeOfSession      = 4 << 10
	sizeOfSubscription = 512
	sizeOfLevel        = 256 // a node of the trees by which topics are found
	sizeOfPacket       = 64  // any other packet that waits to be written

	// maxLevels is how many levels a topic may have: the tree has a node for each.
	maxLevels = 1_000
	// writeAtOnce is how much is written at a time: so much must get through within the time that a
	// connection may stand still.
	writeAtOnce = 64 << 10
)

func sizeOf(p *packet.Publish) int {
	n := sizeOfMessage + len(p.Topic) + len(p.Payload)
	for i := range p.Properties {
		n += 32 + len(p.Properties[i].Key) + len(p.Properties[i].Value)
	}
	return n
}

// sizeOfQueued is what a packet takes that waits to be written.
func sizeOfQueued(p packet.Packet) int {
	switch p := p.(type) {
	case *packet.Publish:
		return sizeOf(p)
	case *packet.Suback:
		return sizeOfPacket + len(p.Codes)
	case *packet.Unsuback:
		return sizeOfPacket + len(p.Codes)
	}
	return sizeOfPacket
}

func (l *Limits) memory() int {
	if l.Memory > 0 {
		return l.Memory
	}
	return DefaultMemory
}

// take counts bytes that are to be held, unless that would be too many.
func (s *Server) take(n int) bool {
	if s.held+n > s.opt.Limits.memory() {
		return false
	}
	s.held += n
	return true
}

// Held is how many bytes of messages, sessions, subscriptions and wills the stand-in holds.
func (s *Server) Held() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.held
}

// take counts bytes that are to be held for the client, unless these would be too many, for it or
// in all.
func (ses *session) take(n int) bool {
	if ses.held+n > perClient+sizeOfSession || !ses.s.take(n) {
		return false
	}
	ses.held += n
	return true
}

// give counts bytes that are no longer held.
func (ses *session) give(n int) {
	ses.held -= n
	ses.s.held -= n
}

// setWill puts a will in place of the one before; nil for none. It is refused before, in
// [conn.limitConnect], where there is no room for it.
func (ses *session) setWill(w *will) {
	if ses.will != nil {
		ses.give(ses.will.size)
	}
	if ses.will = w; w != nil {
		w.size = sizeOf(&w.message.Publish)
		ses.held += w.size
		ses.s.held += w.size
	}
}

// room tells why there is no room for a client, or nothing.
func (s *Server) room(p *packet.Connect) string {
	n := 0
	if s.sessions[p.ClientID] == nil {
		n = sizeOfSession + len(p.ClientID)
	}
	if w := p.Will; w != nil {
		n += sizeOf(&packet.Publish{Topic: w.Topic, Payload: w.Payload, Properties: w.Properties})
	}
	if s.held+n > s.opt.Limits.memory() {
		return fmt.Sprintf(
			"%d of %d bytes are in use: there is no room for another client",
			s.held,
			s.opt.Limits.memory(),
		)
	}
	return ""
}

// sizeOfTopic is what a name or filter takes in a tree.
func sizeOfTopic(s string) int { return 2*len(s) + sizeOfLevel*(1+strings.Count(s, "/")) }

// tooDeep tells whether a topic name or filter has more levels than a stand-in takes.
func tooDeep(s string) bool { return strings.Count(s, "/") >= maxLevels }
