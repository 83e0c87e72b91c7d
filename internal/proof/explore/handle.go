package explore

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof/model"
)

// handle takes in what came over a link.
func (t *talk) handle(e event) *model.Violation {
	p := e.p
	broken := func(r *model.Rule, format string, args ...any) *model.Violation {
		return &model.Violation{Rule: r, Text: fmt.Sprintf(format, args...)}
	}
	who := names[p.client]
	if e.err != nil {
		p.over = true
		var rule *packet.Error
		switch {
		case errors.As(e.err, &rule) && !p.leaving:
			return broken(&model.WellFormed, "%s gets a packet that breaks a rule: %v", who, rule)
		case p.leaving:
			return nil
		case !p.in: // refused without a word: there may be too many
			t.unsure = true
			return nil
		}
		return broken(&model.StaysOpen, "the link of %s ends, and it has broken no rule", who)
	}
	if p.leaving {
		if _, is := e.packet.(*packet.Disconnect); is || p != t.peers[p.client] {
			return nil
		}
		return nil // what was under way when we left
	}
	if _, is := e.packet.(*packet.Connack); !is && !p.in {
		return broken(&model.Answered, "%s comes to %s before CONNACK", e.packet.Type(), who)
	}
	switch k := e.packet.(type) {
	case *packet.Connack:
		return t.accepted(p, k)
	case *packet.Publish:
		if len(p.subs) > 0 { // it may belong to what SUBACK will grant
			p.early = append(p.early, k)
			return nil
		}
		return t.received(p, k)
	case *packet.Suback:
		subs, asked := p.subs[k.ID]
		if !asked {
			return broken(&model.Answered, "SUBACK comes to %s for nothing", who)
		}
		delete(p.subs, k.ID)
		if v := t.model.Subscribed(t.ids[p.client], subs, k.Codes); v != nil {
			return v
		}
		early := p.early
		p.early = nil
		for _, m := range early {
			if v := t.received(p, m); v != nil {
				return v
			}
		}
	case *packet.Unsuback:
		filter, asked := p.unsubs[k.ID]
		if !asked {
			return broken(&model.Answered, "UNSUBACK comes to %s for nothing", who)
		}
		delete(p.unsubs, k.ID)
		t.model.Unsubscribed(t.ids[p.client], filter)
	case *packet.Pingresp:
		if p.pings--; p.pings < 0 {
			return broken(&model.Answered, "PINGRESP comes to %s for nothing", who)
		}
	case *packet.Puback:
		return t.acknowledged(p, packet.PUBACK, k.ID, k.Code)
	case *packet.Pubrec:
		return t.acknowledged(p, packet.PUBREC, k.ID, k.Code)
	case *packet.Pubcomp:
		return t.acknowledged(p, packet.PUBCOMP, k.ID, 0)
	case *packet.Pubrel:
		if p.late {
			t.model.Releasing(t.ids[p.client], k.ID)
			p.comps = append(p.comps, k.ID)
			return nil
		}
		t.complete(p, k.ID)
	case *packet.Disconnect:
		if k.Code == packet.ServerBusy || k.Code == packet.QuotaExceeded || k.Code == packet.ServerShuttingDown ||
			k.Code == packet.AdministrativeAction {
			t.unsure = true
			return nil
		}
		return broken(
			&model.StaysOpen,
			"%s is sent away, %s, and has broken no rule",
			who,
			k.Code.In(packet.DISCONNECT, t.version),
		)
	default:
		return broken(&model.WellFormed, "%s comes to %s, which no server sends", e.packet.Type(), who)
	}
	return nil
}

// accepted takes in CONNACK, and sends again what was not acknowledged.
func (t *talk) accepted(p *peer, ack *packet.Connack) *model.Violation {
	if p.in {
		return &model.Violation{Rule: &model.Answered, Text: "a second CONNACK comes to " + names[p.client]}
	}
	if ack.Code != 0 {
		t.unsure = true // it may refuse whom it likes
		return nil
	}
	p.in = true
	if n, told := ack.Properties.Int(packet.ReceiveMaximum); told {
		p.window = int(n)
	}
	id := t.ids[p.client]
	kept, window := !p.connect.CleanStart, 0
	if t.version == packet.V5 {
		expiry := p.connect.Properties.IntOr(packet.SessionExpiry, 0)
		if n, told := ack.Properties.Int(packet.SessionExpiry); told { // the server's counts (5.0 §3.2.2.3.2)
			expiry = n
		}
		kept = expiry > 0
		if n, told := p.connect.Properties.Int(packet.ReceiveMaximum); told {
			window = int(n)
		}
	}
	if v := t.model.Connected(id, p.connect.CleanStart, kept, ack.SessionPresent, p.will, window); v != nil {
		return v
	}
	if p.connect.CleanStart || !ack.SessionPresent && t.version != packet.V31 {
		t.flows[p.client] = outbox{}
		return nil
	}
	flows := t.flows[p.client]
	for _, n := range slices.Sorted(maps.Keys(flows)) {
		f := flows[n]
		if f.stage == packet.PUBCOMP {
			t.model.Again(f.m)
			t.send(p, &packet.Pubrel{Ack: packet.Ack{ID: n}})
			continue
		}
		t.model.Again(f.m)
		again := f.m.Publish
		again.ID, again.Dup = n, true
		t.send(p, &again)
	}
	return nil
}

// received holds a message against the model, and acknowledges it, unless that is withheld.
func (t *talk) received(p *peer, m *packet.Publish) *model.Violation {
	id := t.ids[p.client]
	if v := t.model.Received(id, m); v != nil {
		return v
	}
	if m.QoS == 0 {
		return nil
	}
	if p.holding {
		p.held = append(p.held, m)
		return nil
	}
	t.acknowledge(p, m)
	return nil
}

// complete ends the flow of a message at QoS 2 that came to a client.
func (t *talk) complete(p *peer, id uint16) {
	t.model.Released(t.ids[p.client], id)
	t.send(p, &packet.Pubcomp{Ack: packet.Ack{ID: id}})
}

func (t *talk) acknowledge(p *peer, m *packet.Publish) {
	t.model.Acked(t.ids[p.client], m.ID, m.QoS)
	if m.QoS == 1 {
		t.send(p, &packet.Puback{Ack: packet.Ack{ID: m.ID}})
	} else {
		t.send(p, &packet.Pubrec{Ack: packet.Ack{ID: m.ID}})
	}
}

// acknowledged takes in an answer to a publication of ours.
func (t *talk) acknowledged(p *peer, got packet.Type, id uint16, code packet.ReasonCode) *model.Violation {
	f := t.flows[p.client][id]
	broken := func(format string, args ...any) *model.Violation {
		return &model.Violation{Rule: &model.Acknowledged, Text: fmt.Sprintf(format, args...)}
	}
	switch {
	case f == nil:
		return broken("%s comes to %s for identifier %d, of which no flow is under way", got, names[p.client], id)
	case f.stage != got:
		return broken("%s comes to %s in place of %s, for PUBLISH at QoS %d", got, names[p.client], f.stage, f.m.QoS)
	case code >= 0x80: // it may refuse a message
		t.unsure = true
		return nil
	case got == packet.PUBREC:
		if f.stage = packet.PUBCOMP; p.halting {
			return nil
		}
		t.send(p, &packet.Pubrel{Ack: packet.Ack{ID: id}})
		return nil
	}
	delete(t.flows[p.client], id)
	return nil
}
