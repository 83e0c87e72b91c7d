package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// retained are the faults of what is stored beside those in retain.go.
func retained() []standin.Fault {
	of := func(name, sentence string, versions []packet.Version, check string, d standin.Decisions) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Versions: versions, Breaks: []string{check}, Decisions: d}
	}
	greeting := func(change func(*standin.Delivery)) standin.Decisions {
		return standin.Decisions{Deliver: func(d *standin.Delivery) {
			if d.Stored {
				change(d)
			}
		}}
	}
	return []standin.Fault{
		of("retain.third-lost", "A stored message is replaced once, and not again.", nil, "retain.replaced",
			standin.Decisions{Store: twiceStored()}),
		of(
			"retain.zero-leaves",
			"A retained message at QoS 0 leaves the stored one in its place.",
			told,
			"retain.replaced",
			standin.Decisions{Store: func(m *packet.Publish) bool { return m.QoS > 0 || len(m.Payload) == 0 }},
		),
		of("retain.overwritten", "A plain message replaces the stored one.", nil, "retain.unretained-leaves",
			standin.Decisions{Retains: overwritten()}),
		of(
			"retain.cleared-by-plain",
			"An empty message clears the stored one, whatever its retain flag.",
			nil,
			"retain.unretained-leaves",
			standin.Decisions{
				Retains: func(m *packet.Publish, retains bool) bool { return retains || len(m.Payload) == 0 },
			},
		),
		of(
			"retain.hash-misses",
			"A newcomer with # is greeted by what is one level below only.",
			nil,
			"retain.wildcard",
			greeting(func(d *standin.Delivery) {
				if base, is := strings.CutSuffix(
					d.Filter,
					"/#",
				); is &&
					strings.Count(d.Published.Topic, "/") > strings.Count(base, "/")+1 {
					d.Times = 0
				}
			}),
		),
		of(
			"retain.parent-misses",
			"A newcomer with # is not greeted by what is stored at the level itself.",
			nil,
			"retain.wildcard",
			greeting(func(d *standin.Delivery) {
				if d.Filter == d.Published.Topic+"/#" {
					d.Times = 0
				}
			}),
		),
		of(
			"retain.wildcard-twice",
			"A newcomer with # is greeted twice by what lies three levels below.",
			nil,
			"retain.wildcard",
			greeting(func(d *standin.Delivery) {
				if base, is := strings.CutSuffix(
					d.Filter,
					"/#",
				); is &&
					strings.Count(d.Published.Topic, "/") > strings.Count(base, "/")+2 {
					d.Times = 2
				}
			}),
		),
		of(
			"retain.not-again",
			"Who subscribes again is not greeted again.",
			nil,
			"retain.resubscribe",
			standin.Decisions{
				Greets: func(_ *packet.Subscription, existed, greets bool) bool { return greets && !existed },
			},
		),
		of(
			"retain.handling-ignored",
			"Retain handling is not heeded.",
			five,
			"retain.resubscribe",
			standin.Decisions{
				Greets: func(s *packet.Subscription, _, greets bool) bool { return greets || s.RetainHandling > 0 },
			},
		),
		of("retain.handling-never", "Retain handling 1 is taken for 2.", five, "retain.resubscribe",
			standin.Decisions{Greets: func(s *packet.Subscription, _, greets bool) bool {
				return greets && s.RetainHandling != packet.RetainSendIfNew
			}}),
		of(
			"retain.rap-ignored",
			"Retain as published is not heeded.",
			five,
			"retain.as-published",
			standin.Decisions{
				Deliver: func(d *standin.Delivery) { d.Retain = d.Retain && (d.Stored || !d.AsPublished) },
			},
		),
		of(
			"retain.rap-always",
			"With retain as published, every message carries the retain flag.",
			five,
			"retain.as-published",
			standin.Decisions{Deliver: func(d *standin.Delivery) { d.Retain = d.Retain || d.AsPublished }},
		),
		of(
			"retain.dies-with-owner",
			"What a client has stored is cleared when it leaves by DISCONNECT.",
			nil,
			"retain.owner-gone",
			standin.Decisions{Bequeath: func(goodbye bool) bool { return goodbye }},
		),
		of(
			"retain.dies-with-cut",
			"What a client has stored is cleared when its link is lost.",
			nil,
			"retain.owner-gone",
			standin.Decisions{Bequeath: func(goodbye bool) bool { return !goodbye }},
		),
		of("expiry.never", "A stored message does not expire.", five, "retain.expiry",
			standin.Decisions{Expired: func(stored, expired bool) bool { return expired && !stored }}),
		{
			Name:      "expiry.not-counted",
			Sentence:  "A message goes out with the expiry that it was published with, however long it waited.",
			Versions:  five,
			Breaks:    []string{"retain.expiry", "session.message-expiry"},
			Decisions: standin.Decisions{Left: func(published, _ uint32) uint32 { return published }},
		},
		{Name: "expiry.left-none", Sentence: "A message that waited goes out with expiry 0, whatever is left.",
			Versions: five, Breaks: []string{"retain.expiry", "session.message-expiry", "will.properties"},
			Decisions: standin.Decisions{Left: func(_, _ uint32) uint32 { return 0 }}},
		{Name: "expiry.unsaid", Sentence: "A message with an expiry goes out without it.",
			Versions: five, Breaks: []string{"contract.delivered", "retain.expiry", "session.message-expiry", "will.properties"},
			Decisions: standin.Decisions{Left: func(_, _ uint32) uint32 { return standin.Unsaid }}},
		of("expiry.not-stored", "A message with an expiry is not stored.", five, "retain.expiry",
			standin.Decisions{Store: func(m *packet.Publish) bool {
				_, expires := m.Properties.Int(packet.MessageExpiry)
				return !expires
			}}),
	}
}

// overwritten stores what comes without the flag where something is stored already.
func overwritten() func(*packet.Publish, bool) bool {
	stored := map[string]bool{}
	return func(m *packet.Publish, retains bool) bool {
		if retains {
			stored[m.Topic] = len(m.Payload) > 0
		}
		return retains || stored[m.Topic] && len(m.Payload) > 0
	}
}

// twiceStored stores what comes on a topic first and second.
func twiceStored() func(*packet.Publish) bool {
	stored := map[string]int{}
	return func(m *packet.Publish) bool {
		if len(m.Payload) == 0 {
			delete(stored, m.Topic)
			return true
		}
		stored[m.Topic]++
		return stored[m.Topic] <= 2
	}
}
