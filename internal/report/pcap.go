package report

import (
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/trace"
)

// The figures of the synthetic TCP connections.
const (
	pcapPort      = 1883  // registered for MQTT with IANA: an analyser decodes it as such
	pcapFirstPort = 49152 // the dynamic ports of RFC 6335 §6
	pcapSegment   = 60_000
	pcapSnap      = 65_535
	pcapComment   = 60_000 // an option holds 65,535 bytes
)

// PCAP writes events as pcapng: every connection becomes a TCP connection of made-up
// addresses to port 1883, so that a packet analyser decodes it as MQTT whatever it really
// went over; the real endpoint stands in the comment of its first packet. Passwords and
// authentication data are masked, as everywhere.
type PCAP struct {
	w       *pcapgo.NgWriter
	clients map[string]byte // last part but one of the address
	conns   map[string]*pcapConn
	ports   uint16
	comment []string // for the next packet
}

// pcapConn is one synthetic connection.
type pcapConn struct {
	client, broker net.IP
	port           uint16
	seq, ack       uint32 // of the client, and what it has got
	open           bool
}

// NewPCAP returns a writer of pcapng. Caption says what was recorded.
func NewPCAP(w io.Writer, caption string) (*PCAP, error) {
	ng, err := pcapgo.NewNgWriterInterface(w, pcapgo.NgInterface{Name: "mqtt", Description: "MQTT as Hodstone's clients saw it; addresses are made up", LinkType: layers.LinkTypeRaw, SnapLength: pcapSnap, TimestampResolution: 9},
		pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{Hardware: runtime.GOARCH, OS: runtime.GOOS, Application: "Hodstone", Comment: caption}})
	if err != nil {
		return nil, err
	}
	return &PCAP{w: ng, clients: map[string]byte{}, conns: map[string]*pcapConn{}, ports: pcapFirstPort}, nil
}

// conn returns the connection that an event is of.
func (p *PCAP) conn(e *trace.Event) *pcapConn {
	key := fmt.Sprintf("%s\x00%s\x00%d", e.Broker, e.Client, e.Conn)
	if c := p.conns[key]; c != nil {
		return c
	}
	number := func(name string) byte {
		n, ok := p.clients[name]
		if !ok {
			n = byte(len(p.clients)%250 + 1)
			p.clients[name] = n
		}
		return n
	}
	// 198.18.0.0/15 is for tests between devices (RFC 2544): no real endpoint is there.
	c := &pcapConn{client: net.IPv4(198, 18, number("client "+e.Client), byte(p.ports&0xff|1)), broker: net.IPv4(198, 19, number("broker "+e.Broker), 1), port: p.ports, seq: 1000, ack: 2000}
	if p.ports++; p.ports < pcapFirstPort {
		p.ports = pcapFirstPort
	}
	p.conns[key] = c
	return c
}

// Write writes one event. Lines and gaps become comments of the packet that follows.
func (p *PCAP) Write(e *trace.Event) error {
	switch e.Kind {
	case trace.Line:
		p.comment = append(p.comment, e.Client+": "+e.Text)
		return nil
	case trace.Gap:
		p.comment = append(p.comment, e.Describe())
		return nil
	}
	c := p.conn(e)
	switch {
	case e.Kind == trace.Link && e.Link == client.LinkOpened:
		return p.handshake(e, c, fmt.Sprintf("%s to %s; the real endpoint: %s", e.Client, e.Broker, e.Text))
	case e.Kind == trace.Link && e.Link == client.LinkEnded && c.open:
		p.comment = append(p.comment, e.Client+": "+e.Text)
		c.open = false
		return p.segment(e, c, true, func(t *layers.TCP) { t.FIN, t.ACK = true, true }, nil)
	case e.Kind == trace.Link:
		p.comment = append(p.comment, fmt.Sprintf("%s: link %s: %s", e.Client, e.Link, e.Text))
		return nil
	}
	if !c.open { // the record began in the middle
		if err := p.handshake(e, c, fmt.Sprintf("%s to %s; the real endpoint is not on the record", e.Client, e.Broker)); err != nil {
			return err
		}
	}
	for rest := e.Raw; len(rest) > 0; {
		n := min(len(rest), pcapSegment)
		if err := p.segment(e, c, e.Kind == trace.Sent, func(t *layers.TCP) { t.ACK, t.PSH = true, true }, rest[:n]); err != nil {
			return err
		}
		rest = rest[n:]
	}
	return nil
}

func (p *PCAP) handshake(e *trace.Event, c *pcapConn, comment string) error {
	p.comment = append(p.comment, comment)
	c.open = true
	for i, flags := range []func(*layers.TCP){func(t *layers.TCP) { t.SYN = true }, func(t *layers.TCP) { t.SYN, t.ACK = true, true }, func(t *layers.TCP) { t.ACK = true }} {
		if err := p.segment(e, c, i != 1, flags, nil); err != nil {
			return err
		}
	}
	return nil
}

// segment writes one TCP segment.
func (p *PCAP) segment(e *trace.Event, c *pcapConn, fromClient bool, flags func(*layers.TCP), data []byte) error {
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, Flags: layers.IPv4DontFragment, SrcIP: c.client, DstIP: c.broker}
	tcp := &layers.TCP{SrcPort: layers.TCPPort(c.port), DstPort: pcapPort, Seq: c.seq, Ack: c.ack, Window: 0xffff}
	mine := &c.seq
	if !fromClient {
		ip.SrcIP, ip.DstIP = ip.DstIP, ip.SrcIP
		tcp.SrcPort, tcp.DstPort, tcp.Seq, tcp.Ack = tcp.DstPort, tcp.SrcPort, c.ack, c.seq
		mine = &c.ack
	}
	flags(tcp)
	if !tcp.ACK {
		tcp.Ack = 0
	}
	*mine += uint32(len(data))
	if tcp.SYN || tcp.FIN {
		*mine++
	}
	if err := tcp.SetNetworkLayerForChecksum(ip); err != nil {
		return err
	}
	buf := gopacket.NewSerializeBuffer()
	if err := gopacket.SerializeLayers(buf, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, ip, tcp, gopacket.Payload(data)); err != nil {
		return err
	}
	frame := buf.Bytes()
	var o pcapgo.NgPacketOptions
	if len(p.comment) > 0 {
		all := strings.Join(p.comment, "\n")
		o.Comments = []string{strings.ToValidUTF8(all[:min(len(all), pcapComment)], "")}
		p.comment = nil
	}
	return p.w.WritePacketWithOptions(gopacket.CaptureInfo{Timestamp: e.At, CaptureLength: len(frame), Length: len(frame)}, frame, o)
}

// Close writes what is left.
func (p *PCAP) Close() error { return p.w.Flush() }
