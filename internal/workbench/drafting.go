package workbench

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract/draft"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// Drafter collects what a contract is drafted of from a trace. Not safe for concurrent use.
type Drafter struct {
	Traffic *draft.Traffic

	eyes     map[string]bool // the observers whose messages count; nil for what publishers were seen to send
	journeys *trace.Journeys
	opened   map[string]*bool // whether a client came by TLS
	players  map[string]Player
}

// NewDrafter returns one for what the observers get, by name; without any, for what publishers were seen to send. What
// devices play tells whether they come by TLS; nil for none.
func NewDrafter(players map[string]Player, observers ...string) *Drafter {
	d := &Drafter{Traffic: draft.New(), journeys: trace.NewJourneys(1000), opened: map[string]*bool{}, players: players}
	for _, o := range observers {
		if d.eyes == nil {
			d.eyes = map[string]bool{}
		}
		d.eyes[o] = true
	}
	return d
}

// Take takes events in, in their order.
func (d *Drafter) Take(events []trace.Event) {
	for i := range events {
		d.event(&events[i])
	}
}

func (d *Drafter) event(e *trace.Event) {
	j := d.journeys.Add(e)
	if e.Own() || e.Broken != "" {
		return
	}
	if e.Role == trace.RoleDevice || e.Role == trace.RolePeer {
		d.client(e)
	}
	if e.Publish() == nil || j == nil {
		return
	}
	if d.eyes != nil && e.Kind == trace.Received && d.eyes[e.Client] ||
		d.eyes == nil && e.Kind == trace.Sent && !e.Publish().Dup && (e.Role == trace.RoleDevice || e.Role == trace.RolePeer) {
		d.observed(e, j)
	}
}

// observed takes in a message: as an observer got it, or as its publisher sent it.
func (d *Drafter) observed(e *trace.Event, j *trace.Journey) {
	m := e.Publish()
	if e.Kind == trace.Sent {
		d.Traffic.Message(draft.Message{At: e.At, Topic: e.Topic(), Payload: m.Payload, QoS: m.QoS, Retain: m.Retain,
			RetainKnown: true, Sender: e.Client})
		return
	}
	x := draft.Message{At: e.At, Topic: e.Topic(), Payload: m.Payload, QoS: m.QoS, Retain: m.Retain,
		RetainKnown: e.Meaning.Flag && m.Retain, Copy: j.Hops[len(j.Hops)-1].Copy, Will: j.Will, Sender: j.Sender}
	if j.Sender != "" {
		x.QoS, x.Retain, x.RetainKnown = j.QoS, j.Retain, true
	}
	d.Traffic.Message(x)
}

// client takes in how a client comes, and what it subscribes to.
func (d *Drafter) client(e *trace.Event) {
	switch p := e.Packet.(type) {
	case *packet.Connect:
		if e.Kind != trace.Sent {
			return
		}
		c := draft.Client{Name: e.Client, ID: p.ClientID, Version: e.Version,
			KeepAlive: time.Duration(p.KeepAlive) * time.Second, CleanStart: p.CleanStart, Encrypted: d.opened[e.Client]}
		if known, ours := d.players[e.Client]; ours {
			c.Encrypted = known.Encrypted
		}
		if p.Will != nil {
			c.Will, c.WillText = p.Will.Topic, string(p.Will.Payload)
		}
		d.Traffic.Session(c)
	case *packet.Subscribe:
		if e.Kind == trace.Sent {
			for _, s := range p.Subscriptions {
				d.Traffic.Subscribes(e.Client, s.Filter)
			}
		}
	}
}

// DraftFrom collects what a contract is drafted of from recorded traffic, as the observers saw it; without any, as
// publishers were seen to send it. The error is the context's.
func DraftFrom(ctx context.Context, events trace.Reader) (*draft.Traffic, error) {
	eyes, _, _, err := observersOf(ctx, events)
	if err != nil {
		return nil, err
	}
	d := NewDrafter(nil, slices.Sorted(maps.Values(eyes))...)
	if err := stretches(ctx, events, d.Take); err != nil {
		return nil, err
	}
	return d.Traffic, nil
}

// observersOf finds whose eyes to see recorded traffic through: at each broker the observer that got most, for several
// see the same.
func observersOf(ctx context.Context, events trace.Reader) (byBroker map[string]string, from, until time.Time, err error) {
	got := map[string]map[string]int{} // messages by broker and observer
	err = stretches(ctx, events, func(some []trace.Event) {
		for i := range some {
			e := &some[i]
			if from.IsZero() {
				from = e.At
			}
			until = e.At
			if e.Role != trace.RoleObserver {
				continue
			}
			if got[e.Broker] == nil {
				got[e.Broker] = map[string]int{}
			}
			n := got[e.Broker][e.Client]
			if e.Kind == trace.Received && e.Publish() != nil && !strings.HasPrefix(e.Topic(), "$") {
				n++ // the broker's own topics are none of the site's
			}
			got[e.Broker][e.Client] = n
		}
	})
	byBroker = map[string]string{}
	for broker, by := range got {
		names := slices.Sorted(maps.Keys(by))
		byBroker[broker] = slices.MaxFunc(names, func(a, b string) int { return cmp.Compare(by[a], by[b]) })
	}
	return byBroker, from, until, err
}
