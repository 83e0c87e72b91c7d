package packet

import (
	"errors"
	"fmt"
	"io"
)

func appendHeader(dst []byte, t Type, flags byte, n int) []byte {
	return appendVarint(append(dst, byte(t)<<4|flags), uint32(n))
}

// Decode reads the one packet that frame holds, written in version v (a CONNECT tells
// its own). The packet shares frame's memory: neither may be changed afterwards.
// The error is an [*Error]; in [Lenient] mode it may come together with a packet.
func Decode(frame []byte, v Version, mode Mode) (Packet, error) {
	c := cursor{b: frame, end: len(frame), v: v, mode: mode}
	p := c.packet()
	switch {
	case c.err != nil:
		return nil, c.err
	case c.violation != nil:
		return p, c.violation
	}
	return p, nil
}

// Annotate returns the meaning of each byte of the packet in frame, as far as it
// can be read, and the first rule it breaks, as an [*Error], or nil.
func Annotate(frame []byte, v Version) ([]Span, error) {
	var spans []Span
	c := cursor{b: frame, end: len(frame), v: v, mode: Lenient, spans: &spans}
	c.packet()
	err := c.err
	if err == nil {
		err = c.violation
	}
	if err == nil {
		return spans, nil
	}
	if last := lastEnd(spans); last < len(frame) {
		spans = append(spans, Span{Start: last, End: len(frame), Name: "not understood", Value: err.Rule})
	}
	return spans, err
}

func lastEnd(spans []Span) int {
	if len(spans) == 0 {
		return 0
	}
	return spans[len(spans)-1].End
}

// Check tells the first rule of the standard that the packet breaks, as an [*Error],
// by writing it out and reading it strictly.
func Check(p Packet, v Version) error {
	_, err := Decode(p.Append(nil, v), v, Strict)
	return err
}

// packet reads the fixed header and then the packet it announces.
func (c *cursor) packet() Packet {
	first := c.rawByte("fixed header")
	if c.err != nil {
		return nil
	}
	c.typ = Type(first >> 4)
	flags := first & 15
	if c.spans != nil {
		c.span(0, "packet type and flags", c.says("%s%s", c.typ, flagText(c.typ, flags)))
	}
	if c.typ == 0 || c.typ == AUTH && c.v != V5 {
		c.fail(0, MalformedPacket, "2.2.1|2.1.2", "packet type "+fmt.Sprint(byte(c.typ))+" is reserved")
		return nil
	}
	if c.typ != PUBLISH && flags != c.typ.flags() {
		c.wrong(
			0,
			MalformedPacket,
			"2.2.2|2.1.3",
			fmt.Sprintf("the flags are %#x where %#x is prescribed", flags, c.typ.flags()),
		)
	}
	n := int(c.varint("remaining length"))
	if c.err != nil {
		return nil
	}
	if c.spans != nil {
		c.span(1, "remaining length", c.says("%d", n))
	}
	if n != c.left() {
		c.fail(1, MalformedPacket, "2.2.3|2.1.4", fmt.Sprintf("remaining length %d, but %d bytes follow", n, c.left()))
		return nil
	}
	p := c.body(flags)
	if c.err == nil && c.left() > 0 {
		at := c.pos
		c.wrong(at, MalformedPacket, "2.2.3|2.1.4", fmt.Sprintf("%d bytes are left over at the end", c.left()))
		c.pos = c.end
		c.span(at, "left over", "")
	}
	return p
}

func flagText(t Type, flags byte) string {
	if t != PUBLISH {
		return ""
	}
	s := fmt.Sprintf(", QoS %d", flags>>1&3)
	if flags&8 != 0 {
		s += ", DUP"
	}
	if flags&1 != 0 {
		s += ", retain"
	}
	return s
}

// body calls the concrete decode methods, not an interface's, so that the
// cursor stays on the stack.
func (c *cursor) body(flags byte) Packet {
	switch c.typ {
	case CONNECT:
		p := new(Connect)
		p.decode(c)
		return p
	case CONNACK:
		p := new(Connack)
		p.decode(c)
		return p
	case PUBLISH:
		p := new(Publish)
		p.decode(c, flags)
		return p
	case PUBACK:
		p := new(Puback)
		p.decode(c)
		return p
	case PUBREC:
		p := new(Pubrec)
		p.decode(c)
		return p
	case PUBREL:
		p := new(Pubrel)
		p.decode(c)
		return p
	case PUBCOMP:
		p := new(Pubcomp)
		p.decode(c)
		return p
	case SUBSCRIBE:
		p := new(Subscribe)
		p.decode(c)
		return p
	case SUBACK:
		p := new(Suback)
		p.decode(c)
		return p
	case UNSUBSCRIBE:
		p := new(Unsubscribe)
		p.decode(c)
		return p
	case UNSUBACK:
		p := new(Unsuback)
		p.decode(c)
		return p
	case PINGREQ:
		return new(Pingreq)
	case PINGRESP:
		return new(Pingresp)
	case DISCONNECT:
		p := new(Disconnect)
		p.decode(c)
		return p
	}
	p := new(Auth)
	p.decode(c)
	return p
}

// firstChunk is how much of a long packet is allocated before more of it has come,
// so that a hostile length alone costs nothing.
const firstChunk = 64 << 10

// readAhead is how much is read at a time where much comes in, and readSome where packets are longer than a few topics.
const (
	readAhead = 16 << 10
	readSome  = 512
)

// Reader cuts a stream of bytes into packets.
type Reader struct {
	// Version is the version packets are read in. A CONNECT that is read sets it.
	Version Version
	// Mode is [Strict] unless set.
	Mode Mode
	// MaxSize is the largest packet taken, in bytes from the first to the last; 0
	// leaves the standard's own limit.
	MaxSize int

	r     io.Reader
	buf   []byte // what was read ahead and not yet returned is buf[at:]
	at    int
	head  [96]byte // with it a reader is 208 bytes
	large []byte   // instead of head while more comes in
	small int      // reads in a row that would have held less
	err   error    // fed from outside
}

// NewReader returns a strict reader of packets of the version from r.
func NewReader(r io.Reader, v Version) *Reader {
	return &Reader{Version: v, r: r}
}

// Next returns the next packet and the bytes it was read from, which it shares.
// At the end of the stream between packets the error is [io.EOF], inside a packet
// [io.ErrUnexpectedEOF]. A broken packet gives an [*Error], together with its bytes as
// far as they could be cut out, and, in lenient mode, with the packet where it can be
// told; after an error without bytes the stream is lost.
func (r *Reader) Next() (Packet, []byte, error) {
	header, n, err := r.header()
	if err != nil {
		return nil, header, err
	}
	frame, err := r.frame(header, n)
	if err != nil {
		return nil, nil, err
	}
	p, err := Decode(frame, r.Version, r.Mode)
	if c, ok := p.(*Connect); ok {
		r.Version = c.Level
	}
	return p, frame, err
}

// header returns the bytes of the fixed header and the remaining length.
func (r *Reader) header() ([]byte, int, error) {
	for need := 2; ; need++ {
		if err := r.fill(need); err != nil {
			return nil, 0, err
		}
		b := r.buf[r.at : r.at+need]
		if b[need-1] < 0x80 {
			n := 0
			for i := need - 1; i > 0; i-- {
				n = n<<7 | int(b[i]&0x7f)
			}
			if r.MaxSize > 0 && need+n > r.MaxSize {
				rule := fmt.Sprintf("%d bytes; at most %d are taken", need+n, r.MaxSize)
				e := (&cursor{v: r.Version, typ: Type(b[0] >> 4)}).newError(1, PacketTooLarge, "4.8|3.1.2.11.4", rule)
				return append([]byte(nil), b...), 0, e
			}
			return b, n, nil
		}
		if need == 5 {
			e := (&cursor{v: r.Version, typ: Type(b[0] >> 4)}).newError(1, MalformedPacket, "2.2.3|1.5.5",
				"the remaining length is longer than four bytes")
			return append([]byte(nil), b...), 0, e
		}
	}
}

// Room returns memory to read into from outside, for a caller that wants to wait for
// bytes by itself; [Reader.Feed] takes them in. It is only for a moment at which
// [Reader.Buffered] is false.
func (r *Reader) Room() []byte {
	if r.large != nil {
		return r.large
	}
	return r.head[:]
}

// Feed takes in the first n bytes of what [Reader.Room] returned, and an error that
// the next read shall end with.
func (r *Reader) Feed(n int, err error) {
	r.taken(r.Room(), 0, n)
	r.err = err
}

// Buffered tells whether bytes, or an error, wait to be taken by [Reader.Next].
func (r *Reader) Buffered() bool { return len(r.buf) > r.at || r.err != nil }

// Whole tells whether the next packet is there as a whole, so that [Reader.Next] does not wait for more of it.
func (r *Reader) Whole() bool { return whole(r.buf[min(r.at, len(r.buf)):]) > 0 }

// Several tells whether the next two packets are there as a whole.
func (r *Reader) Several() bool {
	b := r.buf[min(r.at, len(r.buf)):]
	n := whole(b)
	return n > 0 && whole(b[n:]) > 0
}

// Acked takes the next packet if it is there and is a PUBACK of four bytes, as nearly all are: its packet identifier, without
// the memory that [Reader.Next] takes for it; 0 for any other.
func (r *Reader) Acked() (id uint16) {
	const length = 4
	b := r.buf[min(r.at, len(r.buf)):]
	if len(b) < length || r.MaxSize > 0 && r.MaxSize < length || b[0] != byte(PUBACK)<<4 || b[1] != length-2 {
		return 0
	}
	if id = uint16(b[2])<<8 | uint16(b[3]); id != 0 {
		r.at += length
	}
	return id
}

// whole returns the length of the packet with which b begins, 0 where b does not hold all of it.
func whole(b []byte) int {
	length, shift := 0, 0
	for i := 1; i < len(b) && i <= 4; i++ {
		length |= int(b[i]&0x7F) << shift
		shift += 7
		if b[i]&0x80 == 0 {
			if n := 1 + i + length; n <= len(b) {
				return n
			}
			return 0
		}
	}
	return 0
}

// taken notes that n bytes were read behind rest bytes of room, and adapts how much is read
// at a time to how much comes.
func (r *Reader) taken(room []byte, rest, n int) {
	r.buf, r.at = room[:rest+n], 0
	switch full := rest+n == len(room); {
	case full && r.large == nil:
		r.large, r.small = make([]byte, readSome), 0 // packets of some length
	case full && len(r.large) < readAhead:
		r.large, r.small = make([]byte, readAhead), 0 // much comes in: read more at a time
	case !full && len(r.large) == readAhead && n <= readSome:
		if r.small++; r.small > 1000 {
			r.large, r.small = make([]byte, readSome), 0 // a quiet session holds little memory
		}
	case !full && r.large != nil && n <= len(r.head):
		if r.small++; r.small > 1000 {
			r.large, r.small = nil, 0 // and an idle one less
		}
	default:
		r.small = 0
	}
}

// fill reads until at least need bytes stand at r.at.
func (r *Reader) fill(need int) error {
	for len(r.buf)-r.at < need {
		room := r.Room()
		rest := copy(room, r.buf[r.at:])
		n, err := 0, r.err
		if r.err = nil; err == nil {
			n, err = r.r.Read(room[rest:])
		}
		r.taken(room, rest, n)
		if n > 0 {
			continue
		}
		switch {
		case err == nil:
			return io.ErrNoProgress
		case errors.Is(err, io.EOF) && rest > 0:
			return io.ErrUnexpectedEOF
		default:
			return err
		}
	}
	return nil
}

// frame copies the packet out of the read-ahead and reads what is missing of it,
// allocating only as fast as bytes come.
func (r *Reader) frame(header []byte, n int) ([]byte, error) {
	total := len(header) + n
	frame := make([]byte, min(total, firstChunk))
	got := copy(frame, r.buf[r.at:])
	r.at += got
	for got < total {
		if got == len(frame) {
			grown := make([]byte, min(total, 4*len(frame)))
			copy(grown, frame)
			frame = grown
		}
		k, err := 0, r.err
		if r.err = nil; err == nil {
			k, err = io.ReadFull(r.r, frame[got:])
		}
		got += k
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
	}
	return frame, nil
}
