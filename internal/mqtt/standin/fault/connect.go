package fault

import (
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

// slow is longer than a check waits for CONNACK, and shorter than checks about something else do.
const slow = 32 * time.Second

func connect() []standin.Fault {
	return []standin.Fault{
		{Name: "connect.slow", Sentence: "CONNACK comes only after 32 seconds.", Breaks: []string{"connect.accepted"},
			Undecides: []string{"will.delay"}, Decisions: standin.Decisions{Hold: slow}},
		{
			Name:      "connect.refuses-will",
			Sentence:  "A CONNECT with a will at QoS 0 is refused.",
			Breaks:    []string{"connect.accepted"},
			Undecides: []string{"will.on-cut", "will.on-close", "will.not-on-goodbye"},
			Decisions: standin.Decisions{
				Refuse: func(p *packet.Connect) bool { return p.Will != nil && p.Will.QoS == 0 },
			},
		},
		{
			Name:      "connect.refuses-no-keep-alive",
			Sentence:  "A CONNECT with keep alive 0 is refused.",
			Breaks:    []string{"connect.accepted"},
			Decisions: standin.Decisions{Refuse: func(p *packet.Connect) bool { return p.KeepAlive == 0 }},
		},
		{Name: "ping.unanswered", Sentence: "PINGREQ gets no PINGRESP.", Breaks: []string{"keepalive.ping"},
			Decisions: standin.Decisions{Pong: func(int) int { return 0 }}},
		{
			Name:      "ping.first-two",
			Sentence:  "Only the first two PINGREQ of a connection get their PINGRESP.",
			Breaks:    []string{"keepalive.ping"},
			Decisions: standin.Decisions{Pong: func(nth int) int { return map[bool]int{true: 1}[nth <= 2] }},
		},
	}
}
