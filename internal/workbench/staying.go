package workbench

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"hodstone/internal/reach"
)

// The intervals of a client that stays in.
const (
	pingEvery  = 2 * time.Second        // a loss shows within this and a keep alive
	nudgeEvery = 300 * time.Millisecond // an observer shows that it sees, at most
)

// observers are the clients of ours that are at the brokers. Safe for concurrent use; the zero
// value is empty.
type observers struct {
	mu   sync.Mutex
	list []*observer
}

// all returns them as they are now.
func (o *observers) all() []*observer {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.list)
}

// at returns the one at a broker, or nil.
func (o *observers) at(broker string) *observer {
	for _, x := range o.all() {
		if x.broker.Name == broker {
			return x
		}
	}
	return nil
}

func (o *observers) add(x *observer) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.list = append(o.list, x)
}

func (o *observers) remove(x *observer) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.list = slices.DeleteFunc(o.list, func(y *observer) bool { return y == x })
}

// Stays returns how the observers stay in at their brokers.
func (b *Bench) Stays() []reach.Stay {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	return b.obs.monitor.Stays()
}

// Drop ends the observer's link at a broker on purpose, to see how soon that is noticed and
// how it comes back: "cut" resets it from our side, "freeze" lets nothing through any more as a
// pulled cable does, so that only the keep alive tells, "throw out" lets a stand-in end it.
func (b *Bench) Drop(broker, how string) error {
	if o := b.observers.at(broker); o != nil {
		return o.drop(how)
	}
	return fmt.Errorf("there is no observer at broker %s", broker)
}

// StayIn lets a client of ours stay in at a broker that no observer watches, by one of its
// listeners, to see how it stays in: it pings, and reads nothing.
func (b *Bench) StayIn(broker, listener string) error {
	br := b.Workspace().Broker(broker)
	switch {
	case b.Record != nil:
		return errors.New("a record has no brokers to stay in at")
	case broker == "" || br == nil:
		return fmt.Errorf(
			"the workspace that was opened has no broker %s: open it again when it is written down",
			broker,
		)
	case b.observers.at(br.Name) != nil:
		return fmt.Errorf("the observer is at broker %s already", broker)
	}
	ctx, cancel := context.WithCancel(b.ctx)
	o := newObserver(b, br, listener)
	o.leave = cancel
	b.observers.add(o)
	b.wg.Go(func() { o.run(ctx) })
	return nil
}

// Leave ends what StayIn began; the error says where there is nothing to end.
func (b *Bench) Leave(broker string) error {
	o := b.observers.at(broker)
	switch {
	case o == nil:
		return fmt.Errorf("there is no observer at broker %s", broker)
	case o.leave == nil:
		return fmt.Errorf("the observer at %s watches the contract: it stays", broker)
	}
	b.obs.mu.Lock()
	b.obs.monitor.Leave(broker)
	b.obs.mu.Unlock()
	o.leave()
	b.observers.remove(o)
	return nil
}

// drop ends the observer's link on purpose.
func (o *observer) drop(how string) error {
	s := o.b.brokers.standins[o.broker.Name]
	if how == "throw out" && s == nil {
		return errors.New("only a stand-in lets its clients be thrown out; on another's broker do it there")
	}
	o.b.obs.mu.Lock()
	in := o.client.Connected() && o.b.obs.monitor.Purpose(o.broker.Name, how, time.Now())
	o.b.obs.mu.Unlock()
	if !in {
		return fmt.Errorf("the observer is not in at %s: there is nothing to drop", o.broker.Name)
	}
	err := fmt.Errorf("a link is dropped by \"cut\", \"freeze\" or \"throw out\", not by %q", how)
	switch how {
	case "throw out":
		if err = nil; !s.ThrowOut(o.id) {
			err = fmt.Errorf("the stand-in does not have the observer %s", o.id)
		}
	case "cut":
		err = o.client.Cut()
	case "freeze":
		err = o.client.Pull()
	}
	if err != nil { // what was meant did not happen
		o.b.obs.mu.Lock()
		o.b.obs.monitor.Withdraw(o.broker.Name)
		o.b.obs.mu.Unlock()
	}
	return err
}

// ping keeps the observer's link proven until it has ended.
func (o *observer) ping(ctx context.Context, ended <-chan struct{}) {
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	var last time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-ended:
			return
		case <-o.nudge:
			if time.Since(last) < nudgeEvery {
				continue
			}
			last = time.Now()
			o.client.AskPing()
		case <-tick.C:
			last = time.Now()
			wait, cancel := context.WithTimeout(ctx, observerTimeout)
			o.client.Ping(wait)
			cancel()
		}
	}
}
