package explore

import (
	"context"
	"slices"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof/model"
	"hodstone/internal/trace"
)

// mostWaiting is how many messages wait for one client in a conversation, about: each action may bring some.
const mostWaiting = 64

// missing are the rules that something does not come.
var missing = []*model.Rule{&model.Waited, &model.Delivered, &model.Shared, &model.WillSent, &model.StoredGreets}

// keeps counts how many messages the broker keeps for a client that is away: 0 where it keeps all of many, or where what
// comes of them are not the first or the last, or not so many the next time: then messages are lost for another reason.
func (e *explorer) keeps(ctx context.Context, v packet.Version) int {
	e.tell("counting what the broker keeps for an absent client")
	came, sent := e.waited(ctx, v, mostWaiting)
	n := len(came)
	if n == 0 || n == sent || came[n-1]-came[0] != n-1 || came[0] != 0 && came[n-1] != sent-1 {
		return 0
	}
	if all, of := e.waited(ctx, v, n); len(all) != of || of != n {
		return 0
	}
	return n
}

// waited lets so many messages wait for a client, and returns the places of those that come, and how many were sent.
func (e *explorer) waited(ctx context.Context, v packet.Version, many int) (came []int, of int) {
	const ann, bob, burst = 0, 1, 8
	all := slices.IndexFunc(filters, func(f string) bool { return f == "#" })
	actions := []Action{
		{Kind: Connect, Client: bob, Kept: true},
		{Kind: Subscribe, Client: bob, Filter: all, QoS: 1},
		{Kind: Goodbye, Client: bob},
		{Kind: Connect, Client: ann, Clean: true},
	}
	for ; many > 0; many -= burst {
		actions = append(actions, Action{Kind: Burst, Client: ann, QoS: 1, Times: min(many, burst)})
	}
	_, t := e.talk(ctx, v, append(actions, Action{Kind: Connect, Client: bob, Kept: true}), thrifty)
	events, _ := t.log.Read(1, mostEvents)
	var sent []string
	for i := range events {
		switch m := events[i].Publish(); {
		case m == nil:
		case events[i].Kind == trace.Sent && events[i].Client == names[ann]:
			sent = append(sent, string(m.Payload))
		case events[i].Kind == trace.Received:
			if at := slices.Index(sent, string(m.Payload)); at >= 0 && !slices.Contains(came, at) {
				came = append(came, at)
			}
		}
	}
	slices.Sort(came)
	return came, len(sent)
}
