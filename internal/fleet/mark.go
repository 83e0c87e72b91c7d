package fleet

import (
	"encoding/binary"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
)

// A message tells who published it, its number, and when it was meant to go: at the front of a payload of the fleet's own, or,
// where a clause's payload is sent in version 5, in a user property. In 3.1 and 3.1.1 a clause's payload has no room for it:
// such messages are told apart by their order on their topic (§4.6).

// MarkSize is the room that a mark takes at most in a payload, in bytes.
const MarkSize = 24

const (
	markByte   = 0x1D
	markName   = "hodstone-load"
	filledWith = '.'
)

// mark is what a message tells.
type mark struct {
	from  int           // the publisher's number
	seq   uint64        // from 1 on
	meant time.Duration // since the load began
}

// append writes the mark, and fills up to a size.
func (m mark) append(b []byte, size int) []byte {
	start := len(b)
	b = append(b, markByte)
	b = binary.AppendUvarint(b, uint64(m.from))
	b = binary.AppendUvarint(b, m.seq)
	b = binary.AppendUvarint(b, uint64(max(0, m.meant/time.Microsecond)))
	for rest := size - (len(b) - start); rest > 0; rest -= len(filling) {
		b = append(b, filling[:min(rest, len(filling))]...)
	}
	return b
}

var filling = strings.Repeat(string(filledWith), 4096)

// property is the mark as a user property.
func (m mark) property() packet.Property {
	return packet.User(
		markName,
		strconv.Itoa(
			m.from,
		)+" "+strconv.FormatUint(
			m.seq,
			10,
		)+" "+strconv.FormatInt(
			int64(m.meant/time.Microsecond),
			10,
		),
	)
}

// markOf reads the mark of a message.
func markOf(p *packet.Publish) (m mark, ok bool) {
	if len(p.Payload) > 0 && p.Payload[0] == markByte {
		b := p.Payload[1:]
		from, n := binary.Uvarint(b)
		seq, k := binary.Uvarint(b[max(0, n):])
		meant, l := binary.Uvarint(b[max(0, n)+max(0, k):])
		if n > 0 && k > 0 && l > 0 && from < 1<<31 && meant < 1<<50 {
			return mark{int(from), seq, time.Duration(meant) * time.Microsecond}, true
		}
	}
	for _, x := range p.Properties {
		if x.ID != packet.UserProperty || x.Key != markName {
			continue
		}
		parts := strings.Fields(x.Value)
		if len(parts) != 3 {
			return m, false
		}
		from, e1 := strconv.Atoi(parts[0])
		seq, e2 := strconv.ParseUint(parts[1], 10, 63)
		meant, e3 := strconv.ParseInt(parts[2], 10, 50)
		if e1 == nil && e2 == nil && e3 == nil {
			return mark{from, seq, time.Duration(meant) * time.Microsecond}, true
		}
	}
	return m, false
}

// tracker follows what one receiver gets of one publisher.
type tracker struct {
	base   uint64 // what was sent before the receiver was there does not count
	top    uint64 // the highest number so far
	window uint64 // which of the 64 up to top came; bit 0 is top
	got    uint64 // different ones above base
}

// What a message is to its receiver.
type standing byte

const (
	fresh standing = iota
	overtaken
	again
	before // sent before the receiver was there
)

const windowSize = 64

// see takes a number in.
func (t *tracker) see(seq uint64) standing {
	switch {
	case seq <= t.base:
		return before
	case seq > t.top:
		if by := seq - t.top; by >= windowSize {
			t.window = 0
		} else {
			t.window <<= by
		}
		t.window |= 1
		t.top = seq
		t.got++
		return fresh
	case t.top-seq >= windowSize: // too old to know: it is not counted as lost for that
		t.got++
		return overtaken
	}
	bit := uint64(1) << (t.top - seq)
	if t.window&bit != 0 {
		return again
	}
	t.window |= bit
	t.got++
	return overtaken
}
