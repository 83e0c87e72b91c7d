package proof

import (
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// inCheck marks clients of checks where others are traced too: a device may have the name of a check's client.
const inCheck = " (check)"

// hooks trace a client or link of the check, by its name in the evidence, and in the log of all.
func (p *Pass) hooks(name string) client.Hooks {
	src := trace.Source{Client: name, Role: trace.RoleCheck, Broker: p.r.target.Broker, Version: p.Version}
	own := trace.Record(src, p.log)
	if p.r.o.Log == nil {
		return own
	}
	src.Client += inCheck
	all := trace.Record(src, p.r.o.Log)
	return client.Hooks{
		Sent: func(k packet.Packet, raw []byte) { own.Sent(k, raw); all.Sent(k, raw) },
		Held: func(k packet.Packet, raw []byte) { own.Held(k, raw); all.Held(k, raw) },
		Lost: func(k packet.Packet, raw []byte) { own.Lost(k, raw); all.Lost(k, raw) },
		Received: func(k packet.Packet, raw []byte, err error) {
			own.Received(k, raw, err)
			all.Received(k, raw, err)
		},
		Link: func(e client.LinkEvent, by client.Blame, text string) { own.Link(e, by, text); all.Link(e, by, text) },
	}
}
