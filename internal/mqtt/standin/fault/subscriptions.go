package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/mqtt/topic"
)

// subscriptions are the faults of what SUBSCRIBE and UNSUBSCRIBE do.
func subscriptions() []standin.Fault {
	of := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, nil, d)
	}
	in5 := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, five, d)
	}
	oasis := func(name, sentence, check string, d standin.Decisions) standin.Fault {
		return one(name, sentence, check, told, d)
	}
	delivered := func(change func(d *standin.Delivery)) standin.Decisions { return standin.Decisions{Deliver: change} }
	many := func(change func(codes []packet.ReasonCode) []packet.ReasonCode) standin.Decisions {
		return standin.Decisions{Codes: func(_ []packet.Subscription, codes []packet.ReasonCode) []packet.ReasonCode {
			if len(codes) > 10 {
				return change(codes)
			}
			return codes
		}}
	}
	answered := func(t packet.Type, which func(p packet.Packet) bool) standin.Decisions {
		return standin.Decisions{Answer: func(p packet.Packet) packet.Packet {
			if p.Type() == t && which(p) {
				return nil
			}
			return p
		}}
	}
	topicNames := func(name, sentence, check string, change func(string) string) standin.Fault {
		return of(name, sentence, check, standin.Decisions{Topic: change})
	}
	return []standin.Fault{
		of("match.dollar", "Wildcards reach topics that begin with $.", "subscribe.dollar", standin.Decisions{Match: func(filter, name string, matches bool) bool {
			return matches || strings.HasPrefix(name, "$") && topic.Match(filter, name[1:])
		}}),
		of("match.dollar-plus", "A filter that begins with + reaches topics that begin with $.", "subscribe.dollar",
			standin.Decisions{Match: func(filter, name string, matches bool) bool {
				return matches || strings.HasPrefix(name, "$") && strings.HasPrefix(filter, "+") && topic.Match(filter, name[1:])
			}}),
		oasis("overlap.lowest-qos", "Of overlapping filters the lowest QoS counts.", "subscribe.overlap", delivered(func(d *standin.Delivery) {
			if live(d) && d.Filters > 1 && !d.Shared {
				d.QoS = d.Least
			}
		})),
		oasis("overlap.once-more", "Overlapping filters bring a message once oftener than they are.", "subscribe.overlap", delivered(func(d *standin.Delivery) {
			if live(d) && d.Filters == 3 {
				d.Times = d.Filters + 1
			}
		})),
		of("subscribe.doubled", "A client that subscribes again to a filter gets messages twice.", "subscribe.replace", delivered(func(d *standin.Delivery) {
			if live(d) && d.Repeats > 0 {
				d.Times = 2
			}
		})),
		of("subscribe.first-counts", "A client that subscribes again to a filter keeps the QoS that it had.", "subscribe.replace",
			standin.Decisions{Rejoin: func(before, now packet.Subscription) packet.Subscription { now.QoS = before.QoS; return now }}),
		in5("subscribe.keeps-no-local", "No local stays when a filter is subscribed to again without.", "subscribe.replace",
			standin.Decisions{Rejoin: func(before, now packet.Subscription) packet.Subscription {
				now.NoLocal = now.NoLocal || before.NoLocal
				return now
			}}),
		in5("subscribe.keeps-as-published", "Retain as published stays when a filter is subscribed to again without.", "subscribe.replace",
			standin.Decisions{Rejoin: func(before, now packet.Subscription) packet.Subscription {
				now.RetainAsPublished = now.RetainAsPublished || before.RetainAsPublished
				return now
			}}),
		of("suback.short", "SUBACK for more than ten filters has a code too few.", "subscribe.many",
			many(func(codes []packet.ReasonCode) []packet.ReasonCode { return codes[:len(codes)-1] })),
		of("suback.out-of-order", "The codes of SUBACK for more than ten filters stand in the wrong order.", "subscribe.many",
			many(func(codes []packet.ReasonCode) (out []packet.ReasonCode) {
				for i := range codes {
					out = append(out, codes[len(codes)-1-i])
				}
				return out
			})),
		of("subscribe.last-lost", "The twelfth filter of a SUBSCRIBE is granted, and not held.", "subscribe.many",
			standin.Decisions{Holds: func(nth int) bool { return nth != 12 }}),
		oasis("filter.any", "A filter that is none is granted.", "subscribe.bad-filter", standin.Decisions{
			Grant: func(sub packet.Subscription, code packet.ReasonCode) packet.ReasonCode {
				if topic.CheckFilter(sub.Filter) != nil {
					return 0
				}
				return code
			}}),
		of("unsubscribe.ignored", "UNSUBSCRIBE is acknowledged, and takes nothing back.", "subscribe.unsubscribe",
			standin.Decisions{Leaves: func(_, _ string, _ bool) bool { return false }}),
		of("unsubscribe.takes-all", "UNSUBSCRIBE takes all subscriptions back.", "subscribe.unsubscribe",
			standin.Decisions{Leaves: func(string, string, bool) bool { return true }}),
		in5("unsubscribe.unknown-unanswered", "UNSUBSCRIBE for a filter that is not held is not answered.", "subscribe.unsubscribe",
			answered(packet.UNSUBACK, func(p packet.Packet) bool { return p.(*packet.Unsuback).Codes[0] != 0 })),
		in5("nolocal.ignored", "No local is not heeded.", "subscribe.no-local",
			standin.Decisions{Keeps: func(*packet.Subscription, bool, bool) bool { return false }}),
		in5("nolocal.deaf", "A subscription with no local brings nothing at all.", "subscribe.no-local",
			standin.Decisions{Keeps: func(sub *packet.Subscription, _, kept bool) bool { return kept || sub.NoLocal }}),
		in5("subid.missing", "Messages come without subscription identifiers.", "subscribe.identifier",
			delivered(func(d *standin.Delivery) { d.IDs = nil })),
		in5("subid.first-only", "Of several subscription identifiers one comes.", "subscribe.identifier",
			delivered(func(d *standin.Delivery) { d.IDs = d.IDs[:min(1, len(d.IDs))] })),
		in5("subid.short", "Of a subscription identifier two bytes come.", "subscribe.identifier", delivered(func(d *standin.Delivery) {
			for i := range d.IDs {
				d.IDs[i] = max(1, d.IDs[i]&0x3FFF)
			}
		})),
		in5("shared.everyone", "Each member of a shared subscription gets each message.", "subscribe.shared", standin.Decisions{
			Shares: func(m *packet.Publish, nth, members int) int {
				if m.Retain {
					return 1
				}
				return members
			}}),
		in5("shared.drops", "Of each hundred messages one comes to no member of a shared subscription.", "subscribe.shared", standin.Decisions{
			Shares: func(_ *packet.Publish, nth, _ int) int { return flagged(nth%100 != 57) }}),
		in5("shared.plain-lost", "Who subscribes without sharing misses what is shared, after the first 20.", "subscribe.shared",
			delivered(func(d *standin.Delivery) {
				if live(d) && !d.Shared && d.Receivers > 1 && d.Nth > 20 && !wild(d) && string(d.Payload[:min(3, len(d.Payload))]) == "job" {
					d.Times = 0
				}
			})),
		in5("shared.retained-lost", "What is published with retain comes to no member of a shared subscription.", "subscribe.shared-no-retained",
			standin.Decisions{Shares: func(m *packet.Publish, _, _ int) int { return flagged(!m.Retain) }}),
		in5("shared.retained-everyone", "What is published with retain comes to each member of a shared subscription.", "subscribe.shared-no-retained",
			standin.Decisions{Shares: func(m *packet.Publish, _, members int) int {
				if m.Retain {
					return members
				}
				return 1
			}}),
		topicNames("utf8.bom-stripped", "U+FEFF is taken out of topic names.", "subscribe.utf8-exact",
			func(name string) string { return strings.ReplaceAll(name, "\ufeff", "") }),
		topicNames("utf8.composed", "A letter and its accent in topic names become one character.", "subscribe.utf8-exact",
			func(name string) string { return strings.ReplaceAll(name, "e\u0301", "\u00e9") }),
		topicNames("utf8.beyond", "Characters beyond the first 65,536 in topic names are replaced.", "subscribe.utf8-exact",
			func(name string) string {
				return strings.Map(func(r rune) rune {
					if r > 0xFFFF {
						return 0xFFFD
					}
					return r
				}, name)
			}),
		of("utf8.folded", "A filter matches whatever the ligatures.", "subscribe.utf8-exact", standin.Decisions{Match: func(filter, name string, matches bool) bool {
			return matches || topic.Match(strings.ReplaceAll(filter, "\ufb01", "fi"), strings.ReplaceAll(name, "\ufb01", "fi"))
		}}),
	}
}

func flagged(is bool) int {
	if is {
		return 1
	}
	return 0
}
