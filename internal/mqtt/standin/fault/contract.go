package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// numbered tells whether a login, or a level of a topic, ends in a digit: one of many of its kind.
func numbered(s string) bool { return s != "" && s[len(s)-1] >= '0' && s[len(s)-1] <= '9' }

// one of many on a topic: a level that is a number.
func ofMany(topic string) bool {
	for level := range strings.SplitSeq(topic, "/") {
		if strings.Trim(level, "0123456789") == "" && level != "" {
			return true
		}
	}
	return false
}

// deep tells whether a topic is deeper than those of the checks that are about no topics: that of a contract's clause,
// under a prefix.
func deep(topic string) bool {
	const levels, most = 9, 12
	n := 1 + strings.Count(topic, "/")
	return levels <= n && n <= most
}

func contract() []standin.Fault {
	rights := func(name, sentence, breaks string, publish, subscribe func(login, topic string, may bool) bool) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Breaks: []string{breaks},
			Decisions: standin.Decisions{MayPublish: publish, MaySubscribe: subscribe}}
	}
	const delivered = "contract.delivered"
	heard := 0 // commands, by those that are at work
	return []standin.Fault{
		rights(
			"rights.numbered-mute",
			"A login that ends in a digit may publish its presence, and nothing else.",
			"contract.may-publish",
			func(login, topic string, may bool) bool {
				return may && (!numbered(login) || strings.HasSuffix(topic, "/status"))
			},
			nil,
		),
		rights(
			"rights.numbered-deaf",
			"A login that ends in a digit may subscribe to its own topics only, and to none that all share.",
			"contract.may-subscribe",
			nil,
			func(login, filter string, may bool) bool { return may && (!numbered(login) || ofMany(filter)) },
		),
		rights(
			"rights.neighbour-publish",
			"A login that ends in a digit may publish for the others of its kind.",
			"contract.nobody-else",
			func(login, topic string, may bool) bool { return may || numbered(login) && ofMany(topic) },
			nil,
		),
		rights("rights.neighbour-subscribe", "A login that ends in a digit may subscribe for the others of its kind.",
			"contract.nobody-else", nil,
			func(login, filter string, may bool) bool { return may || numbered(login) && ofMany(filter) }),
		deliver(
			"deep.lowered",
			"Messages on topics of nine levels and more come at QoS 0.",
			[]string{delivered, "contract.presence"},
			func(d *standin.Delivery) {
				if deep(d.Topic) {
					d.QoS = 0
				}
			},
		),
		deliver(
			"deep.flag-kept",
			"On topics of nine levels and more, who is there gets messages with their retain flag.",
			[]string{
				delivered,
			},
			func(d *standin.Delivery) { d.Retain = d.Retain || deep(d.Topic) && d.Published.Retain },
		),
		deliver("deep.flag-lost", "On topics of nine levels and more, stored messages come with retain flag 0.",
			[]string{delivered}, func(d *standin.Delivery) { d.Retain = d.Retain && !deep(d.Topic) }),
		deliver(
			"deep.emptied",
			"Messages on topics of nine levels and more lose their last byte.",
			[]string{delivered, "contract.presence"},
			func(d *standin.Delivery) {
				if deep(d.Topic) && len(d.Payload) > 0 {
					d.Payload = d.Payload[:len(d.Payload)-1]
				}
			},
		),
		with(
			deliver(
				"deep.bare",
				"Messages on topics of nine levels and more lose their content type.",
				[]string{delivered},
				func(d *standin.Delivery) {
					if deep(d.Topic) {
						d.Properties = d.Properties.Without(packet.ContentType)
					}
				},
			),
			packet.V5,
		),
		with(
			standin.Fault{
				Name:     "expiry.renewed",
				Sentence: "What is passed on at once comes with an expiry an hour longer.",
				Breaks:   []string{delivered, "will.properties"},
				Decisions: standin.Decisions{Left: func(published, left uint32) uint32 {
					if left == published {
						return left + 3600
					}
					return left
				}},
			},
			packet.V5,
		),
		{
			Name:     "deep.not-stored",
			Sentence: "Retained messages on topics of nine levels and more are not stored.",
			Breaks: []string{
				delivered,
				"contract.presence",
			},
			Decisions: standin.Decisions{Store: func(m *packet.Publish) bool { return !deep(m.Topic) }},
		},
		{
			Name:     "deep.all-stored",
			Sentence: "All messages on topics of nine levels and more are stored.",
			Breaks:   []string{delivered},
			Decisions: standin.Decisions{
				Retains: func(m *packet.Publish, retains bool) bool { return retains || deep(m.Topic) },
			},
		},
		{
			Name:     "deep.no-will",
			Sentence: "Wills on topics of nine levels and more are not published.",
			Breaks:   []string{"contract.presence"},
			Decisions: standin.Decisions{
				Will: func(w *standin.WillCase) { w.Send = w.Send && !deep(w.Message.Topic) },
			},
		},
		{
			Name:      "deep.will-on-goodbye",
			Sentence:  "Wills on topics of nine levels and more are published after DISCONNECT too.",
			Breaks:    []string{"contract.presence"},
			Decisions: standin.Decisions{Will: func(w *standin.WillCase) { w.Send = w.Send || deep(w.Message.Topic) }},
		},
		loses(
			"restart.forgets-stored",
			"Stored messages are gone after a restart.",
			standin.Losses{Stored: true},
			"restart.retained",
		),
		loses(
			"restart.forgets-waiting",
			"What waited for kept sessions is gone after a restart.",
			standin.Losses{Waiting: true},
			"restart.session",
		),
		loses(
			"restart.forgets-flights",
			"What was not acknowledged is gone after a restart.",
			standin.Losses{Flights: true},
			"restart.in-flight",
		),
		loses(
			"restart.forgets-sessions",
			"Kept sessions are gone after a restart.",
			standin.Losses{Sessions: true},
			"restart.session",
			"restart.in-flight",
		),
		{
			Name:     "restart.forgets-killed",
			Sentence: "Stored messages are gone when the broker was killed.",
			Breaks:   []string{"restart.retained"},
			Decisions: standin.Decisions{
				Loses: func(killed bool) standin.Losses { return standin.Losses{Stored: killed} },
			},
		},
		{
			Name:     "answers.lost",
			Sentence: "Of each two messages on a topic that ends in state, outside the topics of checks, one is lost.",
			Breaks:   []string{"contract.answered"},
			Decisions: standin.Decisions{Arrived: func(a *standin.Arrival) {
				own := strings.HasPrefix(a.Message.Topic, "hodstone")
				if !own && strings.HasSuffix(a.Message.Topic, "/state") &&
					!strings.HasPrefix(string(a.Message.Payload), "hodstone") {
					heard++
					a.Pass = a.Pass && heard%2 == 0
				}
			}},
		},
		deliver(
			"answers.late",
			"What devices answer on a topic that ends in state comes with its retain flag, as if it had been stored.",
			[]string{"contract.answered"},
			func(d *standin.Delivery) {
				d.Retain = d.Retain ||
					d.Published.Retain && strings.HasSuffix(d.Topic, "/state") &&
						!strings.HasPrefix(d.Topic, "hodstone")
			},
		),
	}
}

// loses makes a fault of what a restart loses.
func loses(name, sentence string, l standin.Losses, breaks ...string) standin.Fault {
	return standin.Fault{Name: name, Sentence: sentence, Breaks: breaks,
		Decisions: standin.Decisions{Loses: func(bool) standin.Losses { return l }}}
}

// with makes a fault show in one version.
func with(f standin.Fault, v packet.Version) standin.Fault {
	f.Versions = []packet.Version{v}
	return f
}
