package device

import (
	"context"
	"net"
	"slices"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// frames spoils what a device reads of its link: rest is what has not made up a packet yet, piece what came at once.
// It returns what the device takes of it, and what it waits with.
type frames func(rest, piece []byte) (taken, left []byte)

// length is how long the first packet is, and its fixed header; 0 where that is not there as a whole (§2.2.3).
func length(b []byte) (whole, header int) {
	n, shift := 0, 0
	for i := 1; i < len(b) && i <= 4; i++ {
		n |= int(b[i]&0x7F) << shift
		shift += 7
		if b[i]&0x80 == 0 {
			return i + 1 + n, i + 1
		}
	}
	return 0, 0
}

// wholeOnly takes what came at once for whole packets, and loses what is none.
func wholeOnly(_, piece []byte) (taken, left []byte) {
	for len(piece) > 0 {
		n, _ := length(piece)
		if n == 0 || n > len(piece) {
			break
		}
		taken, piece = append(taken, piece[:n]...), piece[n:]
	}
	return taken, nil
}

// firstOnly takes the first packet of what came at once, and loses the others.
func firstOnly(rest, piece []byte) (taken, left []byte) {
	all := slices.Concat(rest, piece)
	if n, _ := length(all); n == 0 || n > len(all) {
		return nil, all
	} else {
		return all[:n], nil
	}
}

// shortOnly loses packets whose remaining length takes more than one byte.
func shortOnly(rest, piece []byte) (taken, left []byte) {
	left = slices.Concat(rest, piece)
	for {
		n, header := length(left)
		if n == 0 || n > len(left) {
			return taken, left
		}
		if header == 2 {
			taken = append(taken, left[:n]...)
		}
		left = left[n:]
	}
}

// spoilt is a link that a device reads wrongly.
type spoilt struct {
	*link.Link
	how         frames
	rest, ready []byte
}

// Read returns what the device takes.
func (s *spoilt) Read(b []byte) (int, error) {
	for len(s.ready) == 0 {
		buf := make([]byte, 64<<10)
		n, err := s.Link.Read(buf)
		if n > 0 {
			s.ready, s.rest = s.how(s.rest, buf[:n])
		}
		if err != nil {
			return 0, err
		}
	}
	n := copy(b, s.ready)
	s.ready = s.ready[n:]
	return n, nil
}

// SetDeadline and the others do nothing: the client has none.
func (*spoilt) SetDeadline(time.Time) error      { return nil }
func (*spoilt) SetReadDeadline(time.Time) error  { return nil }
func (*spoilt) SetWriteDeadline(time.Time) error { return nil }

var _ net.Conn = (*spoilt)(nil)

// dial opens the device's link, spoilt by the faults that it has.
func (d *Device) dial(ctx context.Context) (*link.Link, error) {
	l, err := d.opt.Dial(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range d.ill() {
		if f.frames != nil {
			return link.Wrap(&spoilt{Link: l, how: f.frames}), nil
		}
	}
	return l, nil
}

// heed returns what the device goes by of what CONNACK grants: all, but for its faults.
func (d *Device) heed(ps packet.Properties) packet.Properties {
	for _, f := range d.ill() {
		if f.heedless != 0 {
			ps = ps.Without(f.heedless)
		}
	}
	return ps
}

// takes passes a message at QoS 2 on that comes again, where that is its fault: the client keeps it back.
func (d *Device) takes(p packet.Packet) (taken bool) {
	if m, is := p.(*packet.Publish); is && m.QoS == 2 && m.Dup && d.has(func(f *misdeed) bool { return f.twice }) {
		d.arrived(m)
	}
	return false
}
