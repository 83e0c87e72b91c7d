package fault

import (
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// told are the versions in which CONNACK tells of the session.
var told = []packet.Version{packet.V311, packet.V5}

func session() []standin.Fault {
	kept := []string{"session.kept"}
	return []standin.Fault{
		{
			Name:      "session.lost",
			Sentence:  "A session is forgotten as soon as its client is gone.",
			Breaks:    []string{"session.kept", "session.present"},
			Undecides: []string{"qos2.once", "connect.ack-first"}, // nothing waits
			Decisions: standin.Decisions{Forget: true},
		},
		{
			Name:      "session.present-lies",
			Sentence:  "CONNACK says session present 0 where a session waits.",
			Breaks:    []string{"session.present"},
			Versions:  told,
			Undecides: []string{"qos2.once", "qos1.ack-after-cut"},
			Decisions: standin.Decisions{Present: func(*packet.Connect, bool) bool { return false }},
		},
		{
			Name:      "session.present-forged",
			Sentence:  "CONNACK says session present 1 after a clean start, where a session was there before.",
			Breaks:    []string{"session.present"},
			Versions:  told,
			Decisions: standin.Decisions{Present: forged()},
		},
		{
			Name:      "session.away-lost",
			Sentence:  "Messages at QoS 1 for a client that is away are lost.",
			Breaks:    kept,
			Undecides: []string{"connect.ack-first"},
			Decisions: standin.Decisions{Deliver: func(d *standin.Delivery) {
				if d.Away && d.QoS == 1 {
					d.Times = 0
				}
			}},
		},
		deliver(
			"session.away-twice",
			"Messages at QoS 2 for a client that is away come twice.",
			kept,
			func(d *standin.Delivery) {
				if d.Away && d.QoS == 2 {
					d.Times = 2
				}
			},
		),
		deliver(
			"session.away-lowered",
			"Messages at QoS 2 for a client that is away come at QoS 1.",
			kept,
			func(d *standin.Delivery) {
				if d.Away && d.QoS == 2 {
					d.QoS = 1
				}
			},
		),
		deliver(
			"session.away-wildcard-lost",
			"Messages for a client that is away are lost where its filter has a wildcard.",
			kept,
			func(d *standin.Delivery) {
				if d.Away && wild(d) {
					d.Times = 0
				}
			},
		),
		deliver("session.deaf-afterwards", "The subscriptions of a client that was away hold no longer.", kept, deaf()),
	}
}

// forged says that there is a session for whoever once had one that was kept.
func forged() func(*packet.Connect, bool) bool {
	had := map[string]bool{}
	return func(p *packet.Connect, present bool) bool {
		had[p.ClientID] = had[p.ClientID] || !p.CleanStart
		return present || p.CleanStart && had[p.ClientID]
	}
}

// deaf lets nothing through on topics on which something came while the client was away.
func deaf() func(*standin.Delivery) {
	away := map[string]bool{}
	return func(d *standin.Delivery) {
		if d.Away {
			away[d.Topic] = true
		} else if away[d.Topic] {
			d.Times = 0
		}
	}
}
