// Package fleet puts load on a broker: many sessions over the same client as all others, on a light path of shared timers,
// counters and histograms in place of events, and says who gave way, the broker or the fleet itself.
package fleet

import (
	"fmt"
	"hash/fnv"
	"math"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// Shape is who hears whom.
type Shape string

// The shapes.
const (
	Echo   Shape = "echo"    // each hears itself
	Pairs  Shape = "pairs"   // one publishes, the next hears it
	FanIn  Shape = "fan-in"  // all publish, Others hear all of them
	FanOut Shape = "fan-out" // Others publish, all hear all of them
	Mute   Shape = "mute"    // all publish, and nobody of the fleet hears
	Idle   Shape = "idle"    // sessions that say nothing
)

// Shapes lists them.
func Shapes() []Shape { return []Shape{Echo, Pairs, FanIn, FanOut, Mute, Idle} }

// Kind is one kind of clients.
type Kind struct {
	Name  string
	Count int
	// Client says how the client of a number, from 1 on, connects. Hooks, Message and Completed are the fleet's.
	Client func(n int) client.Options
	// TLS tells that they come by it, for counting handshakes.
	TLS bool
	// Topic is what the client of a number publishes to.
	Topic func(n int) string
	// Filter matches all of the kind's topics, for who hears all of them; with no clients there is none.
	Filter string
	// Compose makes the message of a number, without mark; nil for nothing but the mark, filled up to Plan.Size.
	Compose func(n int, seq uint64) (packet.Publish, error)
}

// Step is one stretch of a ramp.
type Step struct {
	Clients int     // of the whole fleet, all shards together
	Rate    float64 // messages a second of the whole fleet; 0 for what Plan.Every makes of the clients
	Hold    time.Duration
	// Over is how long it climbs to that from where the step before was, steadily, before it is held; 0 for at once.
	Over time.Duration
}

// Storm is something that befalls all at once, after the ramp.
type Storm string

// The storms.
const (
	NoStorm   Storm = ""
	Reconnect Storm = "reconnect" // all links are cut at once, and all come back
	Restart   Storm = "restart"   // the broker goes down and comes back: Plan.Restart
	Wills     Storm = "wills"     // all links are cut at once, and the wills of all are awaited
)

// Plan is a load.
type Plan struct {
	Name   string
	Kinds  []Kind
	Shape  Shape
	Others int // of fan-in and fan-out; at least 1
	QoS    packet.QoS
	Retain bool
	Size   int // of payloads, where no Compose makes them; at least [MarkSize]
	// Every is the time between two messages of a client, and Jitter by which share of it that varies.
	Every  time.Duration
	Jitter float64
	Each   int // messages of each client; 0 for no end
	Steps  []Step
	// Connects is how many clients connect a second at most; 0 for as fast as it goes.
	Connects float64
	Storm    Storm
	Restart  func() error
	// WillBase is the topic below which each client has its will, for the storm of wills.
	WillBase string
	// Bound is what has to hold; zero for nothing.
	Bound Bound
	// Find searches the highest rate ("rate") or number of clients ("clients") at which the bound holds; "" for none.
	Find string
	// Traced tells which clients record all they do, by their hooks; nil for none. Sees is told that a client subscribed.
	Traced func(n int) *client.Hooks
	Shard  Shard
	Seed   uint64
	// Broker tells of the broker's process, where it runs here; nil where it does not.
	Broker func() Process
	// Facts are what the broker tells of itself, as text; nil for none.
	Facts func() map[string]string
	// Log is what followed logs have said since a time, newest last; nil for none.
	Log func(since time.Time) []string
}

// Shard is a part of a fleet on one machine: Index from 1 to Of. The zero value is the whole.
type Shard struct{ Index, Of int }

// String writes it as the command line does: 3/16.
func (s Shard) String() string {
	if s.Of < 2 {
		return ""
	}
	return fmt.Sprintf("%d/%d", s.Index, s.Of)
}

// Has tells whether a client of a number, from 1 on, is the shard's. Pairs stay together.
func (s Shard) Has(n int, shape Shape) bool {
	if s.Of < 2 {
		return true
	}
	if shape == Pairs {
		n = (n + 1) / 2
	}
	return (n-1)%s.Of == s.Index-1
}

// share is the shard's part of a number of the whole fleet.
func (s Shard) share(f float64) float64 {
	if s.Of < 2 {
		return f
	}
	return f / float64(s.Of)
}

// Total is how many clients the plan has, without the others of fan-in and fan-out.
func (p *Plan) Total() (n int) {
	for i := range p.Kinds {
		n += p.Kinds[i].Count
	}
	return n
}

// Whole says what the whole fleet is to do, all shards together: parts of one load say the same. It is cut where it is long,
// with a sum of all.
func (p *Plan) Whole() string {
	var b strings.Builder
	for i, k := range p.Kinds {
		fmt.Fprintf(&b, "%s%d %s", []string{"", ", "}[min(i, 1)], k.Count, k.Name)
	}
	fmt.Fprintf(&b, "; every %s", p.Every)
	for _, x := range []struct {
		is   bool
		text string
	}{
		{p.Jitter > 0, fmt.Sprintf(" ± %g", p.Jitter)},
		{p.Retain, ", retain"},
		{p.Shape == FanIn || p.Shape == FanOut, fmt.Sprintf(", %d others", p.Others)},
		{p.Connects > 0, fmt.Sprintf(", %g connect a second", p.Connects)},
		{p.Storm != NoStorm, ", then " + string(p.Storm)},
	} {
		if x.is {
			b.WriteString(x.text)
		}
	}
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "; %d clients", s.Clients)
		if s.Rate > 0 {
			fmt.Fprintf(&b, ", %g/s", s.Rate)
		}
		if s.Over > 0 {
			fmt.Fprintf(&b, ", over %s", s.Over)
		}
		fmt.Fprintf(&b, ", for %s", s.Hold)
	}
	const most = 200
	text := b.String()
	if len(text) <= most {
		return text
	}
	sum := fnv.New64a()
	sum.Write([]byte(text))
	return fmt.Sprintf("%s… (%d steps, %016x)", strings.ToValidUTF8(text[:most], ""), len(p.Steps), sum.Sum64())
}

// Order assigns clients to kinds: each step of a ramp has its share of each.
func (p *Plan) Order() (kinds []uint16, numbers []int32) {
	total := p.Total()
	kinds, numbers = make([]uint16, total), make([]int32, total)
	given := make([]int, len(p.Kinds))
	for i := range total {
		best, behind := -1, math.Inf(-1)
		for k := range p.Kinds {
			if given[k] >= p.Kinds[k].Count {
				continue
			}
			due := float64(p.Kinds[k].Count)*float64(i+1)/float64(total) - float64(given[k])
			if due > behind {
				best, behind = k, due
			}
		}
		given[best]++
		kinds[i], numbers[i] = uint16(best), int32(given[best])
	}
	return kinds, numbers
}

// Ramp makes steps from one number to another, each held so long; down again afterwards where it is to fall.
func Ramp(from, to, by float64, hold time.Duration, falls bool, step func(float64) Step) (out []Step) {
	if by <= 0 {
		by = math.Max(1, to-from)
	}
	for x := from; ; x += by {
		x = math.Min(x, to)
		s := step(x)
		s.Hold = hold
		out = append(out, s)
		if x >= to {
			break
		}
	}
	if falls {
		for i := len(out) - 2; i >= 0; i-- {
			out = append(out, out[i])
		}
	}
	return out
}

// check tells what is wrong with a plan.
func (p *Plan) check() error {
	for i := range p.Kinds {
		k := &p.Kinds[i]
		if k.Count < 2 || p.Total() == 0 {
			continue
		}
		if id := k.Client(1).Connect.ClientID; id != "" && id == k.Client(2).Connect.ClientID {
			return fmt.Errorf(
				"%s clients have no identifiers of their own: all would come as %s, and throw each other out: write {n} into it",
				k.Name,
				id,
			)
		}
	}
	switch {
	case p.Total() == 0:
		return fmt.Errorf("there are no clients: say how many of which kind")
	case len(p.Steps) == 0:
		return fmt.Errorf("there is no step: say how long it takes")
	case p.Size > 0 && p.Size < MarkSize:
		return fmt.Errorf(
			"payloads of %d bytes have no room for the number that tells them apart: %d bytes are the least",
			p.Size,
			MarkSize,
		)
	case p.Shape == Pairs && p.Total() < 2:
		return fmt.Errorf("pairs need two clients at least")
	case p.Shard.Of > 1 && (p.Shard.Index < 1 || p.Shard.Index > p.Shard.Of):
		return fmt.Errorf("there is no shard %d of %d", p.Shard.Index, p.Shard.Of)
	case p.Storm == Wills && p.WillBase == "":
		return fmt.Errorf("a storm of wills needs a topic for them")
	case p.Storm == Restart && p.Restart == nil:
		return fmt.Errorf(
			"the broker cannot be restarted from here: name a command under restart in the workspace, or let it be a stand-in",
		)
	case p.Find != "" && p.Find != "rate" && p.Find != "clients":
		return fmt.Errorf("what can be found is the highest rate, or number of clients, and not %q", p.Find)
	case p.Find == "rate" && p.Steps[len(p.Steps)-1].Rate == 0:
		return fmt.Errorf("to find the highest rate, say up to which: --ramp-rate 500..50000, or a rate")
	case p.Find != "" && len(p.Bound) == 0:
		return fmt.Errorf("to find the highest %s a bound has to be given, such as p99<100ms,lost=0", p.Find)
	case p.Find != "" && p.Shard.Of > 1:
		return fmt.Errorf("a part of a fleet finds nothing: what it asks of the broker is less than the whole")
	}
	return nil
}
