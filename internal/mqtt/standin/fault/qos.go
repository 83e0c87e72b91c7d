package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// wild tells whether a delivery is by a filter with a wildcard.
func wild(d *standin.Delivery) bool { return strings.ContainsAny(d.Filter, "+#") }

// live tells whether a delivery is at once, of a message that is not stored.
func live(d *standin.Delivery) bool { return !d.Stored && !d.Away && !d.Published.Retain }

func answer(name, sentence string, breaks []string, change func(packet.Packet) packet.Packet) standin.Fault {
	return standin.Fault{Name: name, Sentence: sentence, Breaks: breaks, Decisions: standin.Decisions{Answer: change}}
}

// without keeps packets of a type back.
func without(t packet.Type) func(packet.Packet) packet.Packet {
	return func(p packet.Packet) packet.Packet {
		if p.Type() == t {
			return nil
		}
		return p
	}
}

func qos() []standin.Fault {
	pairings, once := []string{"qos.pairings"}, []string{"qos2.once"}
	wills := []string{"qos.pairings", "will.on-cut", "will.on-close"} // a will is a message like any other
	kept := []string{"qos.pairings", "session.kept"}
	all := []standin.Fault{
		deliver(
			"qos.not-lowered",
			"A live message goes out at the QoS it was published with, even where less was granted.",
			pairings,
			func(d *standin.Delivery) {
				if live(d) {
					d.QoS = d.Published.QoS
				}
			},
		),
		deliver(
			"qos.raised",
			"A message at QoS 0 goes out at QoS 1 where that was granted.",
			wills,
			func(d *standin.Delivery) {
				if live(d) && d.Published.QoS == 0 && d.Granted > 0 {
					d.QoS = 1
				}
			},
		),
		deliver(
			"qos.wildcard-lowered",
			"Through a filter with a wildcard, QoS 2 comes as QoS 1.",
			kept,
			func(d *standin.Delivery) {
				if live(d) && wild(d) && d.QoS == 2 {
					d.QoS = 1
				}
			},
		),
		deliver(
			"qos.long-lowered",
			"A message of more than 128 bytes comes at QoS 0.",
			wills,
			func(d *standin.Delivery) {
				if live(d) && len(d.Payload) > 128 {
					d.QoS = 0
				}
			},
		),
		deliver("qos.dup-first", "A message at QoS 1 carries DUP the first time.", pairings, func(d *standin.Delivery) {
			d.Dup = live(d) && d.QoS == 1
		}),
		deliver(
			"qos.payload-cut",
			"A payload of more than 128 bytes loses its last byte.",
			wills,
			func(d *standin.Delivery) {
				if live(d) && len(d.Payload) > 128 {
					d.Payload = d.Payload[:len(d.Payload)-1]
				}
			},
		),
		deliver(
			"qos.twice",
			"A live message at QoS 2 is passed on twice, under two packet identifiers.",
			kept,
			func(d *standin.Delivery) {
				if live(d) && d.QoS == 2 {
					d.Times = 2
				}
			},
		),
		deliver(
			"qos.later-twice",
			"From a session's sixth message on, those at QoS 2 are passed on twice.",
			kept,
			func(d *standin.Delivery) {
				if live(d) && d.QoS == 2 && d.Nth > 5 && wild(d) {
					d.Times = 2
				}
			},
		),
		deliver("qos0.twice", "A message at QoS 0 is passed on twice.", wills, func(d *standin.Delivery) {
			if live(d) && d.QoS == 0 && d.Published.QoS == 0 {
				d.Times = 2
			}
		}),
		deliver(
			"qos1.lost",
			"A message at QoS 1 does not reach a subscription at QoS 2.",
			pairings,
			func(d *standin.Delivery) {
				if live(d) && d.Published.QoS == 1 && d.Granted == 2 && wild(d) {
					d.Times = 0
				}
			},
		),
		deliver(
			"qos.retain-set",
			"A live message carries the retain flag although it was published without.",
			wills,
			func(d *standin.Delivery) {
				d.Retain = d.Retain || live(d) && d.Published.QoS == 1 && d.Granted == 1
			},
		),
		{
			Name:      "qos2.released-again",
			Sentence:  "A message at QoS 2 is sent again, with DUP, after its flow was completed.",
			Breaks:    []string{"qos.pairings", "retain.greets", "session.kept"},
			Undecides: once,
			Decisions: standin.Decisions{Released: func(p *packet.Publish) bool { return p.QoS == 2 }},
		},
		answer("qos2.unreleased", "A receiver's PUBREC at QoS 2 gets no PUBREL.", pairings, without(packet.PUBREL)),
		answer(
			"qos2.as-qos1",
			"A PUBLISH at QoS 2 is answered by PUBACK.",
			pairings,
			func(p packet.Packet) packet.Packet {
				if rec, is := p.(*packet.Pubrec); is {
					return &packet.Puback{Ack: rec.Ack}
				}
				return p
			},
		),
		answer("qos1.unacknowledged", "A PUBLISH at QoS 1 gets no PUBACK.", pairings, without(packet.PUBACK)),
		answer("qos2.incomplete", "A publisher's PUBREL gets no PUBCOMP.", pairings, without(packet.PUBCOMP)),
		{
			Name:      "qos2.twice",
			Sentence:  "A PUBLISH at QoS 2 that is sent again with DUP is passed on again.",
			Breaks:    once,
			Decisions: standin.Decisions{Arrived: func(a *standin.Arrival) { a.Pass = a.Pass || a.Message.Dup }},
		},
		{
			Name:      "qos2.dup-dropped",
			Sentence:  "A PUBLISH at QoS 2 with DUP is not passed on, not even as the first.",
			Breaks:    []string{"qos2.once"},
			Decisions: standin.Decisions{Arrived: func(a *standin.Arrival) { a.Pass = a.Pass && (a.Message.QoS != 2 || !a.Message.Dup) }},
		},
	}
	for i := range all {
		switch all[i].Name {
		case "qos.twice", "qos2.as-qos1", "qos2.incomplete": // QoS 2 is not once, or not complete, even without a cut
			all[i].Undecides = once
		case "qos1.unacknowledged": // it is what checks about other things publish with
			all[i].Undecides = []string{
				"retain.as-published",
				"connect.ack-first",
				"retain.greets",
				"retain.live-flag",
				"retain.cleared",
				"session.kept",
				"subscribe.topic-exact",
				"subscribe.wildcards",
				"qos2.once",
			}
		}
	}
	return all
}
