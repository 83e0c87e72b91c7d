package device

import (
	"context"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// presence announces the device when it has come, and before it leaves; if it is lost, its will
// says so.
type presence struct {
	idle
	d      *Device
	clause *contract.Clause
	topic  string
}

// newPresence returns the presence that the device's kind has, or nil.
func newPresence(d *Device) *presence {
	cl := d.opt.Contract.Clause(d.opt.Kind.Presence)
	if cl == nil {
		return nil
	}
	name, err := cl.Topic.Topic(d.params)
	if err != nil {
		return nil
	}
	return &presence{d: d, clause: cl, topic: name}
}

func (p *presence) retain() bool { return p.clause.Retain != nil && *p.clause.Retain }

// will is what the broker is to say of a device that is lost.
func (p *presence) will() *packet.Will {
	return &packet.Will{
		Topic: p.topic, Payload: []byte(p.clause.Presence.Lost), QoS: qosOf(p.clause), Retain: p.retain(),
	}
}

func (p *presence) begin(time.Time) { p.announce(p.clause.Presence.Coming) }

func (p *presence) end() {
	if pub := p.announce(p.clause.Presence.Leaving); pub != nil {
		ctx, cancel := context.WithTimeout(context.Background(), goodbyeTimeout)
		defer cancel()
		pub.Wait(ctx) // the goodbye goes out either way
	}
}

func (p *presence) announce(what string) *client.Publication {
	if what = p.d.misspeaks(p.clause.Presence, what); what == "" {
		return nil
	}
	pub, err := p.d.client.Start(
		packet.Publish{Topic: p.topic, QoS: qosOf(p.clause), Retain: p.retain(), Payload: []byte(what)},
	)
	if err != nil {
		p.d.complain(err)
		return nil
	}
	return pub
}
