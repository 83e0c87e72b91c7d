package fault

import (
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

func will() []standin.Fault {
	comes, goodbye := []string{"will.on-cut", "will.on-close"}, []string{"will.not-on-goodbye"}
	undecides := []string{"will.not-on-goodbye"} // wills do not come, or not there, so that none came tells nothing
	of := func(name, sentence string, breaks []string, change func(*standin.WillCase)) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Breaks: breaks, Decisions: standin.Decisions{Will: change}}
	}
	all := []standin.Fault{
		of("will.never-sent", "No will is ever published.", comes, func(w *standin.WillCase) { w.Send = false }),
		of(
			"will.only-on-reset",
			"A link that is closed without DISCONNECT leaves no will; only a reset does.",
			[]string{"will.on-close", "will.on-request", "will.on-silence", "will.on-takeover", "will.on-violation"},
			func(w *standin.WillCase) {
				w.Send = w.Send && w.Reset
			},
		),
		of(
			"will.only-on-close",
			"A link that is reset leaves no will; only a close does.",
			[]string{"will.on-cut"},
			func(w *standin.WillCase) {
				w.Send = w.Send && !w.Reset
			},
		),
		of("will.twice", "A will is published twice.", comes, func(w *standin.WillCase) { w.Times = 2 }),
		of("will.lowered", "A will is published at QoS 0.", comes, func(w *standin.WillCase) { w.Message.QoS = 0 }),
		of("will.wrong-payload", "A will loses the last byte of its payload.", comes, func(w *standin.WillCase) {
			w.Message.Payload = w.Message.Payload[:max(0, len(w.Message.Payload)-1)]
		}),
		of(
			"will.wrong-topic",
			"A will is published under a topic whose last level is in capital letters.",
			comes,
			func(w *standin.WillCase) { w.Message.Topic = capitals(w.Message.Topic) },
		),
		of(
			"will.retained",
			"A will is stored although will retain is 0.",
			comes,
			func(w *standin.WillCase) { w.Message.Retain = true },
		),
		of(
			"will.on-goodbye",
			"The will is published even after a proper DISCONNECT.",
			goodbye,
			func(w *standin.WillCase) { w.Send = true },
		),
		of(
			"will.late-on-goodbye",
			"The will is published 700 ms after a proper DISCONNECT.",
			goodbye,
			func(w *standin.WillCase) {
				if w.Goodbye {
					w.Send, w.Later = true, 700*time.Millisecond
				}
			},
		),
		{
			Name:      "will.kept-after-goodbye",
			Sentence:  "A will that DISCONNECT has removed is published when the client returns without one and is cut.",
			Breaks:    goodbye,
			Decisions: keptWill(),
		},
	}
	for i := range all {
		if name := all[i].Name; name == "will.never-sent" || name == "will.only-on-close" ||
			name == "will.wrong-topic" {
			all[i].Undecides = undecides
		}
	}
	return all
}

// keptWill remembers the wills that were removed, for when their clients leave without one.
func keptWill() (d standin.Decisions) {
	kept := map[string]packet.Publish{}
	d.Will = func(w *standin.WillCase) {
		if w.Goodbye {
			kept[w.ClientID] = *w.Message
		}
	}
	d.WillOfNone = func(id string) *packet.Publish {
		m, was := kept[id]
		if delete(kept, id); !was {
			return nil
		}
		return &m
	}
	return d
}

// capitals changes the last level.
func capitals(topic string) string {
	at := strings.LastIndexByte(topic, '/') + 1
	return topic[:at] + strings.ToUpper(topic[at:])
}
