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

// missing are the rules that something does not come, and unserved those besides that show where a message is too large.
var (
	missing  = []*model.Rule{&model.Waited, &model.Delivered, &model.Shared, &model.WillSent, &model.StoredGreets}
	unserved = []*model.Rule{&model.Acknowledged, &model.StaysOpen, &model.Released, &model.Resent}
)

// rulesOut looks for limits of the broker that no packet tells, where they would explain a suspicion; it and all further
// conversations keep within them.
func (e *explorer) rulesOut(ctx context.Context, s *suspicion) {
	absent := slices.Contains(missing, s.v.Rule)
	long := slices.ContainsFunc(s.actions, func(a Action) bool { return a.Size > sizes[1] })
	if long && !e.sized && (absent || slices.Contains(unserved, s.v.Rule)) {
		e.sized = true
		n := e.passes(ctx, s.u.version)
		e.mu.Lock()
		e.report.Largest = n
		e.mu.Unlock()
	}
	if most := e.report.Largest; most > 0 {
		s.actions = slices.Clone(s.actions)
		for i := range s.actions {
			s.actions[i].Size = min(s.actions[i].Size, most)
		}
	}
	if !e.counted && absent {
		e.counted = true
		n := e.keeps(ctx, s.u.version)
		e.mu.Lock()
		e.report.Queue = n
		e.mu.Unlock()
	}
}

// passes looks for the largest of the sizes that comes at all, of some tries; 0 where all do, or where none does.
func (e *explorer) passes(ctx context.Context, v packet.Version) int {
	e.tell("looking which sizes of messages the broker passes on")
	for i, size := range slices.Backward(sizes) {
		if size == 0 {
			break
		}
		for range confirmations {
			if came, _ := e.waited(ctx, v, 0, Action{Kind: Publish, QoS: min(1, e.offer.QoS), Size: size}); len(came) > 0 {
				if i == len(sizes)-1 {
					return 0
				}
				return size
			}
		}
	}
	return 0
}

// keeps counts how many messages the broker keeps for a client that is away: 0 where it keeps all of many, or where what
// comes of them are not the first or the last, or not so many the next time: then messages are lost for another reason.
func (e *explorer) keeps(ctx context.Context, v packet.Version) int {
	e.tell("counting what the broker keeps for an absent client")
	burst := Action{Kind: Burst, QoS: 1, Times: 8}
	came, sent := e.waited(ctx, v, mostWaiting, burst)
	n := len(came)
	if n == 0 || n == sent || came[n-1]-came[0] != n-1 || came[0] != 0 && came[n-1] != sent-1 {
		return 0
	}
	if all, of := e.waited(ctx, v, n, burst); len(all) != of || of != n {
		return 0
	}
	return n
}

// waited lets so many messages wait for a client, by actions of ann's of which the last is shorter, and returns the places
// of those that come, and how many were sent. Where none are to wait the client stays, and the action is done once.
func (e *explorer) waited(ctx context.Context, v packet.Version, many int, by Action) (came []int, of int) {
	const ann, bob = 0, 1
	all := Action{Kind: Subscribe, Client: bob, QoS: min(1, e.offer.QoS), Filter: slices.Index(filters, "#")}
	actions := []Action{{Kind: Connect, Client: bob, Kept: true}}
	if by.Client = ann; e.offer.NoWildcards { // the topic of all that is published
		all.Filter = slices.Index(filters, topics[by.Topic])
	}
	if actions = append(actions, all); many > 0 {
		actions = append(actions, Action{Kind: Goodbye, Client: bob})
	}
	actions = append(actions, Action{Kind: Connect, Client: ann, Clean: true})
	if many == 0 {
		actions = append(actions, by)
	}
	for each := by.Times; many > 0; many -= each {
		by.Times = min(many, each)
		actions = append(actions, by)
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
