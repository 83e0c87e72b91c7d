package workbench

import (
	"context"
	"slices"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/trace"
)

// Verdicts are what a contract says of recorded traffic.
type Verdicts struct {
	From, Until time.Time // of the events
	Messages    int       // that observers got, stored copies among them
	Clauses     []ClauseVerdict
	Strays      []contract.Stray
	Unkept      int // messages on further strays
	// Breaches are all of them, in their order, up to [MostBreaches]; Total is how many there were.
	Breaches []contract.Breach
	Total    int
	// Observers are the clients whose eyes these were: at each broker the one that got most. Without any, nothing is
	// judged.
	Observers []string
}

// ClauseVerdict is what was seen of a clause.
type ClauseVerdict struct {
	Clause   *contract.Clause
	Messages int // live ones
	Breaches int
}

// MostBreaches is how many breaches are kept.
const MostBreaches = 10_000

// rejudgeStep is how many events are judged between two looks at whether to go on.
const rejudgeStep = 2000

// Rejudge holds recorded traffic to a contract, as the observers saw it then. players are what clients play, by name.
// The error is the context's.
//
// A record does not tell what an observer might read: a topic is missed only after it was heard once. Nor does it tell
// whether the publisher's retain flag came through: it is not judged.
func Rejudge(
	ctx context.Context,
	events trace.Reader,
	c *contract.Contract,
	players map[string]Player,
) (*Verdicts, error) {
	v := &Verdicts{}
	count, broken := map[*contract.Clause]int{}, map[string]int{}
	note := func(b contract.Breach) {
		broken[b.Clause]++
		if v.Total++; len(v.Breaches) < MostBreaches {
			v.Breaches = append(v.Breaches, b)
		}
	}
	o := &observing{}
	o.init(c)
	o.plays(players)
	o.told = func(e *trace.Event, f Finding) {
		v.Messages++
		if f.Judgement.Clause != nil && !e.Meaning.Copied() {
			count[f.Judgement.Clause]++
		}
		for _, b := range f.Judgement.Breaches {
			note(b)
		}
	}
	o.lack = func(found []contract.Breach) {
		for _, b := range found {
			note(b)
		}
	}
	byBroker, from, until, err := observersOf(ctx, events)
	if err != nil {
		return nil, err
	}
	v.From, v.Until = from, until
	for broker, best := range byBroker {
		o.looks(best)
		v.Observers = append(v.Observers, best)
		o.has(broker, &eyes{filters: []string{}})
		o.judge.Expect(broker, v.From)
	}
	slices.Sort(v.Observers)
	if err := stretches(ctx, events, func(some []trace.Event) { o.take(some, 0, false) }); err != nil {
		return nil, err
	}
	for _, cl := range c.Clauses {
		v.Clauses = append(v.Clauses, ClauseVerdict{cl, count[cl], broken[cl.Name]})
	}
	v.Strays, v.Unkept = o.judge.Strays(), o.judge.Unkept()
	return v, nil
}

// stretches reads events from the first to those that are there now, some at a time.
func stretches(ctx context.Context, events trace.Reader, visit func([]trace.Event)) error {
	last := events.Next()
	for next := events.Oldest(); next < last; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		some, _ := events.Read(next, rejudgeStep)
		if len(some) == 0 {
			break
		}
		visit(some)
		next = some[len(some)-1].Seq + 1
	}
	return nil
}
