package workbench

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/record"
	"hodstone/internal/trace"
)

// Fact is something that a broker tells of itself.
type Fact struct {
	What, Topic, Value string
	At                 time.Time
}

// The bounds of what is kept of a broker's facts.
const (
	maxFacts  = 200
	factBytes = 100
)

// askFacts subscribes to what the broker tells of itself, and to what else of its own the workspace names. Where a broker
// ends the link on it, it is not asked again.
func (o *observer) askFacts(ctx context.Context) {
	if o.silent {
		return
	}
	o.silent = true
	filters := []string{}
	for _, f := range topic.Told() {
		filters = append(filters, f.Topic)
	}
	for _, f := range o.broker.Watch {
		if strings.HasPrefix(f, "$") {
			filters = append(filters, f)
		}
	}
	if _, _, err := o.subscribe(ctx, filters, packet.Subscription{}); err == nil {
		o.silent = false
	}
}

// fact takes in what a broker tells of itself, and tells whether the event is that.
func (o *observing) fact(e *trace.Event) bool {
	if e.Kind != trace.Received || e.Role != trace.RoleObserver || !strings.HasPrefix(e.Topic(), "$") {
		return false
	}
	m := e.Publish()
	all := o.facts[e.Broker]
	f := Fact{Topic: e.Topic(), What: e.Topic(), Value: string(m.Payload[:min(len(m.Payload), factBytes)]), At: e.At}
	for _, x := range topic.Told() {
		if x.Topic == f.Topic {
			f.What = x.What
		}
	}
	if i := slices.IndexFunc(all, func(x Fact) bool { return x.Topic == f.Topic }); i >= 0 {
		all[i] = f
	} else if len(all) < maxFacts {
		all = append(all, f)
	}
	if o.facts == nil {
		o.facts = map[string][]Fact{}
	}
	o.facts[e.Broker] = all
	return true
}

// Facts are what a broker tells of itself, the common ones first; nil where it tells nothing.
func (b *Bench) Facts(broker string) []Fact {
	b.obs.mu.Lock()
	out := slices.Clone(b.obs.facts[broker])
	b.obs.mu.Unlock()
	place := func(f Fact) int {
		for i, x := range topic.Told() {
			if x.Topic == f.Topic {
				return i
			}
		}
		return len(topic.Told())
	}
	slices.SortStableFunc(out, func(a, b Fact) int { return place(a) - place(b) })
	return out
}

// logLine takes in what a followed log says of clients.
func (o *observing) logLine(e *trace.Event) {
	const most = 100 // logs
	l := o.logs[e.Client]
	if l == nil {
		if len(o.logs) >= most {
			return
		}
		l = &record.LogClients{}
	}
	if l.Line(e.Text, e.At) && o.logs[e.Client] == nil {
		if o.logs == nil {
			o.logs = map[string]*record.LogClients{}
		}
		o.logs[e.Client] = l
	}
}

// LogNames are the followed logs that tell of clients, by name: whoever follows a broker's log names it as he likes.
func (b *Bench) LogNames() []string {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	return slices.Sorted(maps.Keys(b.obs.logs))
}

// LogClients are the clients that a followed log tells of, since it is followed; who came before is not among them until it
// comes again or leaves.
func (b *Bench) LogClients(log string) []record.LogClient {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	if l := b.obs.logs[log]; l != nil {
		return l.All()
	}
	return nil
}
