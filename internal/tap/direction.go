package tap

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// direction is one way through.
type direction struct {
	x        *through
	from, to *link.Link
	toward   Side
	other    *direction
	version  packet.Version // of CONNECT, once one came; guarded by x.mu
	said     bool           // DISCONNECT went this way; guarded by x.mu

	mu    sync.Mutex // guards what follows
	timer *time.Timer
	rest  []byte // of a packet that is not there as a whole
	gone  int    // how much of that has been passed on
	raw   bool   // what comes is no MQTT: it is passed on as it is
	out   *outlet
	kept  [][]byte // packets that go behind the next
	keep  int
	// Packets that wait to go out in one piece, how many, and until when.
	gathered  []byte
	gathers   int
	gathering *time.Timer
	refuses   bool // it was refused: it is closed, and not reset

	over   time.Time
	ending link.End
	cut    string // the rule that cut it
}

// largest is how large a packet may be that is looked at as a whole; what is larger goes through unread.
const largest = 16 << 20

// pass passes on what comes, until it ends, and ends the other side in the same way.
func (d *direction) pass() {
	buf := make([]byte, 32<<10)
	var err error
	for err == nil {
		var n int
		if n, err = d.from.Read(buf); n > 0 {
			if failed := d.took(buf[:n]); failed != nil && err == nil {
				err = failed
			}
		}
	}
	d.mu.Lock()
	d.gatherEnds()
	d.mu.Unlock()
	d.over = time.Now()
	d.x.half.Store(true)
	if d.x.t.isDead() {
		d.hold()
	}
	if d.toward == Device {
		d.x.hearOut()
	}
	d.ending = d.from.End()
	d.out.close()
	d.other.mu.Lock() // what cut the one way cuts the other: it may have ended by that
	reset := d.other.cut != "" && !d.other.refuses
	d.other.mu.Unlock()
	d.mu.Lock()
	reset = reset || d.cut != "" && !d.refuses
	d.mu.Unlock()
	if d.ending == link.EndRST || reset {
		d.to.Cut()
	} else {
		d.to.Close()
	}
	if reset {
		d.from.Cut()
	} else {
		d.from.Close()
	}
}

// hold keeps the end of a link to itself as long as the tap is unplugged.
func (d *direction) hold() {
	if d.toward == Broker {
		d.x.mu.Lock()
		d.x.named("", 0)
		d.x.rec.Add(trace.Event{Kind: trace.Line, Text: GaveUp})
		d.x.mu.Unlock()
	}
	for d.x.t.isDead() && !d.out.over() {
		time.Sleep(time.Millisecond)
	}
}

// patience is how long the beginning of a packet waits for its end, where rules are on: then it goes on as it is.
const patience = 500 * time.Millisecond

// took passes on a piece: as it is where no rule is on, else packet by packet.
func (d *direction) took(piece []byte) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.timer != nil {
		d.timer.Stop()
	}
	err := d.passOn(piece)
	if err == nil && len(d.rest) > d.gone {
		d.timer = time.AfterFunc(patience, func() {
			d.mu.Lock()
			defer d.mu.Unlock()
			if len(d.rest) > d.gone {
				d.out.write(d.rest[d.gone:], time.Time{})
				d.gone = len(d.rest)
			}
		})
	}
	return err
}

func (d *direction) passOn(piece []byte) error {
	if d.x.t.opt.Unread || d.raw {
		d.unread(len(piece))
		return d.out.write(piece, time.Time{})
	}
	all := piece
	if len(d.rest) > 0 {
		d.rest = append(d.rest, piece...)
		all = d.rest
	}
	if !d.x.t.ruled() && d.out.idle() && len(d.gathered) == 0 {
		return d.asItIs(all)
	}
	for {
		n, ok := frame(all)
		switch {
		case !ok: // no MQTT, or too large: the rest goes as it is
			gone := d.gone
			d.rest, d.gone, d.raw = nil, 0, true
			d.told(all)
			return d.out.write(all[gone:], time.Time{})
		case n == 0 && d.gone > 0: // its beginning went before a rule was on
			gone := d.gone
			d.rest = slices.Clone(all)
			d.gone = len(all)
			return d.out.write(all[gone:], time.Time{})
		case n == 0:
			d.rest = slices.Clone(all)
			return nil
		}
		raw := slices.Clone(all[:n])
		all = all[n:]
		if gone := d.gone; gone > 0 {
			d.gone = 0
			d.told(raw)
			if err := d.out.write(raw[gone:], time.Time{}); err != nil {
				return err
			}
			continue
		}
		if err := d.ruledOn(raw); err != nil {
			return err
		}
	}
}

// asItIs records the packets of what came, and passes on at once what of it has not gone yet.
func (d *direction) asItIs(all []byte) error {
	left, gone := all, d.gone
	for !d.raw {
		n, ok := frame(left)
		if n == 0 && ok {
			break
		}
		if !ok {
			n, d.raw = len(left), true
		}
		d.told(left[:n])
		left = left[n:]
	}
	err := d.out.write(all[gone:], time.Time{})
	d.rest, d.gone = nil, 0
	if !d.raw && len(left) > 0 {
		d.rest, d.gone = slices.Clone(left), len(left)
	}
	return err
}

// frame tells how long the first packet is: 0 where it is not there as a whole; not ok where it is none (§2.2.3), or
// larger than is looked at.
func frame(b []byte) (n int, ok bool) {
	length, shift := 0, 0
	for i := 1; i < len(b); i++ {
		if i > 4 {
			return 0, false
		}
		length |= int(b[i]&0x7F) << shift
		shift += 7
		if b[i]&0x80 == 0 {
			if length > largest {
				return 0, false
			}
			if total := i + 1 + length; len(b) >= total {
				return total, true
			}
			return 0, true
		}
	}
	return 0, true
}

// told records a packet as the device has it.
func (d *direction) told(raw []byte) {
	x := d.x
	x.mu.Lock()
	defer x.mu.Unlock()
	raw = slices.Clone(raw)
	p, broken := d.decode(raw)
	x.rec.Add(d.event(p, raw, broken, d.toward == Broker))
}

// decode decodes a packet, which is not changed afterwards, and names the connection by CONNECT; x.mu is held.
func (d *direction) decode(raw []byte) (p packet.Packet, broken string) {
	v := d.version
	if d.toward == Device {
		v = d.other.version
	}
	p, err := packet.Decode(raw, v, packet.Lenient)
	if c, is := p.(*packet.Connect); is && d.toward == Broker {
		d.version = c.Level
		d.x.named(c.ClientID, c.Level)
	}
	d.x.named("", 0)
	if p != nil && p.Type() == packet.DISCONNECT {
		d.said = true
	}
	if err != nil {
		broken = err.Error()
	}
	return p, broken
}

func (d *direction) event(p packet.Packet, raw []byte, broken string, sent bool) trace.Event {
	kind := trace.Received
	if sent {
		kind = trace.Sent
	}
	return trace.Event{Kind: kind, Packet: p, Raw: raw, Broken: broken}
}

// unread records that bytes went over.
func (d *direction) unread(n int) {
	x := d.x
	x.mu.Lock()
	defer x.mu.Unlock()
	x.named("", 0)
	x.rec.Add(trace.Event{Kind: trace.Line, Text: fmt.Sprintf("%d bytes toward the %s, unread", n, d.toward)})
}
