package fault

import (
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

func retain() []standin.Fault {
	greets, liveFlag, cleared := []string{"retain.greets"}, []string{"retain.live-flag"}, []string{"retain.cleared"}
	return []standin.Fault{
		{
			Name:      "retain.not-stored",
			Sentence:  "A retained message is passed on but not stored.",
			Breaks:    greets,
			Undecides: cleared,
			Decisions: standin.Decisions{Store: func(m *packet.Publish) bool { return len(m.Payload) == 0 }},
		},
		{Name: "retain.first-kept", Sentence: "A stored message is not replaced by a later one.", Breaks: greets,
			Decisions: standin.Decisions{Store: firstKept()}},
		deliver(
			"retain.flag-lost",
			"A stored message greets a newcomer with retain flag 0.",
			greets,
			func(d *standin.Delivery) {
				d.Retain = d.Retain && !d.Stored
			},
		),
		deliver("retain.twice", "A stored message greets a newcomer twice.", greets, func(d *standin.Delivery) {
			if d.Stored {
				d.Times = 2
			}
		}),
		deliver("retain.lowered", "A stored message greets a newcomer at QoS 0.", greets, func(d *standin.Delivery) {
			if d.Stored {
				d.QoS = 0
			}
		}),
		deliver(
			"retain.not-lowered",
			"A stored message greets a newcomer at the QoS it was published with, even where less was granted.",
			greets,
			func(d *standin.Delivery) {
				if d.Stored {
					d.QoS = d.Published.QoS
				}
			},
		),
		deliver(
			"retain.wildcard-misses",
			"A stored message does not greet a newcomer with a wildcard.",
			greets,
			func(d *standin.Delivery) {
				if d.Stored && wild(d) {
					d.Times = 0
				}
			},
		),
		deliver(
			"retain.cut",
			"A stored payload of more than 128 bytes loses its last byte.",
			greets,
			func(d *standin.Delivery) {
				if d.Stored && len(d.Payload) > 128 {
					d.Payload = d.Payload[:len(d.Payload)-1]
				}
			},
		),
		deliver(
			"retain.flag-kept",
			"A live message keeps its retain flag towards established subscribers.",
			[]string{"retain.live-flag", "retain.cleared"},
			func(d *standin.Delivery) {
				d.Retain = d.Retain || d.Published.Retain && !d.Stored
			},
		),
		deliver(
			"retain.flag-kept-later",
			"From the second on, live messages keep their retain flag at QoS 2.",
			liveFlag,
			func(d *standin.Delivery) {
				d.Retain = d.Retain || d.Published.Retain && !d.Stored && d.Nth > 1 && d.QoS == 2
			},
		),
		deliver(
			"retain.flag-kept-wildcard",
			"A live message keeps its retain flag through a filter with a wildcard.",
			liveFlag,
			func(d *standin.Delivery) {
				d.Retain = d.Retain || d.Published.Retain && !d.Stored && wild(d) && len(d.Payload) > 0
			},
		),
		deliver(
			"retain.live-lost",
			"A retained message at QoS 0 does not reach established subscribers.",
			liveFlag,
			func(d *standin.Delivery) {
				if d.Published.Retain && !d.Stored && d.Published.QoS == 0 && len(d.Payload) > 0 {
					d.Times = 0
				}
			},
		),
		{
			Name:      "retain.not-cleared",
			Sentence:  "An empty retained message does not remove the stored one.",
			Breaks:    cleared,
			Decisions: standin.Decisions{Store: func(m *packet.Publish) bool { return len(m.Payload) > 0 }},
		},
		{
			Name:     "retain.not-cleared-at-0",
			Sentence: "An empty retained message at QoS 0 does not remove the stored one.",
			Breaks:   cleared,
			Decisions: standin.Decisions{
				Store: func(m *packet.Publish) bool { return len(m.Payload) > 0 || m.QoS > 0 },
			},
		},
		deliver(
			"retain.clearing-kept-back",
			"An empty retained message does not reach established subscribers.",
			cleared,
			func(d *standin.Delivery) {
				if d.Published.Retain && len(d.Published.Payload) == 0 && !d.Stored {
					d.Times = 0
				}
			},
		),
	}
}

// firstKept keeps the first message of a topic.
func firstKept() func(*packet.Publish) bool {
	seen := map[string]bool{}
	return func(m *packet.Publish) bool {
		before := seen[m.Topic]
		seen[m.Topic] = len(m.Payload) > 0
		return !before || len(m.Payload) == 0
	}
}
