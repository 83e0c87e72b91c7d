package workbench

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

// An observer may be behind: where much goes over at QoS 1 and 2, a broker keeps what it has not acknowledged yet back, and
// answers PINGREQ meanwhile. What came then says nothing of what was sent since, and how long it took on its way is nobody's
// fault. By those messages whose publisher is seen too it is known.

// behindFrom is how long a message must be under way to count as late, behindOver over how long messages are compared, and
// behindMost after how long one that did not come is lost, and no longer under way.
const (
	behindFrom = 500 * time.Millisecond
	behindOver = 2 * time.Second
	behindMost = 10 * time.Second
)

// behind follows how late messages come to an observer.
type behind struct {
	by    time.Duration // 0 for not
	knew  time.Time     // when that was measured
	was   arrival       // the latest one of which it is known that it was behind
	last  time.Time     // never goes back
	ring  [32]arrival
	count int
	// under are those that were sent and did not come, at QoS 0 and above it: what is sent at QoS 0 may overtake.
	under [2][]departure
}

// arrival is a message that was seen at both ends.
type arrival struct {
	sender string
	at     time.Time
	delay  time.Duration
}

// departure is a message that was seen at its publisher.
type departure struct {
	sender string
	at     time.Time
}

func class(q packet.QoS) int { return int(min(q, 1)) }

// sent takes in a message that the observer is to get.
func (b *behind) sent(d departure, q packet.QoS) {
	const most = 10_000
	if under := &b.under[class(q)]; len(*under) < most {
		*under = append(*under, d)
	}
}

// got takes in that a message came: what was sent before it is not under way any more.
func (b *behind) got(sent time.Time, q packet.QoS) {
	under := &b.under[class(q)]
	for len(*under) > 0 && !(*under)[0].at.After(sent) {
		*under = (*under)[1:]
	}
}

// waiting is since when messages of more than one publisher have been under way for too long; zero for never. sender counts
// as one of them, "" for nobody.
func (b *behind) waiting(at time.Time, sender string) (since time.Time) {
	others := false
	for c := range b.under {
		under := &b.under[c]
		for len(*under) > 0 && at.Sub((*under)[0].at) > behindMost {
			*under = (*under)[1:]
		}
		for i, d := range *under {
			if at.Sub(d.at) < behindFrom || others && i > 0 {
				break
			}
			if since.IsZero() || d.at.Before(since) {
				since = d.at
			}
			if others = others || sender != "" && d.sender != sender; sender == "" {
				sender = d.sender
			}
		}
	}
	if !others {
		return time.Time{}
	}
	return since
}

// late is how late what comes now is; 0 for not.
func (b *behind) late(now time.Time) time.Duration {
	late := b.by
	if since := b.waiting(now, ""); !since.IsZero() {
		late = max(late, now.Sub(since))
	}
	return late
}

// came takes in a message of a known publisher. It is the observer that is behind, and not a publisher's own way, where
// whatever came of late, of more than one publisher, came late.
func (b *behind) came(a arrival) {
	b.ring[b.count%len(b.ring)] = a
	b.count++
	knew := b.knew
	if b.knew = a.at; a.delay < behindFrom {
		b.by = 0
		return
	}
	others := b.by > 0 && a.at.Sub(knew) <= b.by || // it was behind, and has not caught up since
		!b.waiting(a.at, a.sender).IsZero()
	least := a.delay
	for i := range min(b.count, len(b.ring)) {
		if x := &b.ring[i]; a.at.Sub(x.at) <= behindOver {
			others = others || x.sender != a.sender
			least = min(least, x.delay)
		}
	}
	if b.by = 0; others && least >= behindFrom {
		b.by, b.was = a.delay, a // of this very one it is known
	}
}

// when is the time to judge by what came at a time: that at which it would have come, were the observer not behind.
func (b *behind) when(at time.Time) time.Time {
	if b.by > 0 && at.Sub(b.knew) > b.by { // all that had waited has come
		b.by = 0
	}
	since := b.waiting(at, "")
	if !since.IsZero() {
		b.was = arrival{at: at, delay: at.Sub(since)}
	}
	if at = at.Add(-b.by); !since.IsZero() && since.Before(at) {
		at = since
	}
	if at.Before(b.last) {
		at = b.last
	}
	b.last = at
	return at
}

// late says which observers were behind at some time since, and by how much; "" for none.
func (b *Bench) late(since time.Time, used map[string]bool) string {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(b.obs.eyes)) {
		if was := b.obs.eyes[name].behind.was; used[name] && was.at.After(since) {
			return fmt.Sprintf(
				"the observer at %s was behind by %s at %s",
				name,
				was.delay.Round(time.Millisecond),
				was.at.Format("15:04:05.000"),
			)
		}
	}
	return ""
}

// when is the time to judge an observer's packet by.
func (x *eyes) when(e *trace.Event, j *trace.Journey) time.Time {
	if j != nil && e.Publish() != nil && !e.Meaning.Copied() && j.Sender != "" && !j.Will && j.Resent == 0 &&
		len(j.Hops) > 0 {
		if hop := &j.Hops[len(j.Hops)-1]; !hop.Copy {
			if x.behind.got(j.SentAt, j.QoS); j.Tap == "" { // else it is the tap that takes its time
				x.behind.came(arrival{j.Sender, e.At, hop.Delay})
			}
		}
	}
	return x.behind.when(e.At)
}

// tapped takes in that a tap disturbed what a client sent last: when that goes on is not seen.
func (b *behind) tapped(sender string) {
	const most = 100
	var in *[]departure // at which QoS, and where
	var last int
	for c := range b.under {
		under := b.under[c]
		for i := len(under) - 1; i >= max(0, len(under)-most); i-- {
			if under[i].sender == sender {
				if in == nil || under[i].at.After((*in)[last].at) {
					in, last = &b.under[c], i
				}
				break
			}
		}
	}
	if in != nil {
		*in = slices.Delete(*in, last, last+1)
	}
}

// departs takes in what a client publishes, if an observer is to get it; m is the PUBLISH, if any.
func (o *observing) departs(e *trace.Event, m *packet.Publish, own bool) {
	x := o.eyesAt(e.Broker)
	if x == nil || own || e.Role != trace.RoleDevice && e.Role != trace.RolePeer {
		return
	}
	name, beyond := strings.CutSuffix(e.Client, trace.Beyond)
	switch {
	case beyond && e.Role == trace.RolePeer:
		if e.Kind == trace.Sent && m != nil || e.Kind == trace.Line && e.Text == trace.TapKeeps {
			x.behind.tapped(name)
		}
	case e.Kind != trace.Sent || m == nil || m.Dup || x.filters != nil && !x.reads(e.Topic()):
	default:
		x.behind.sent(departure{e.Client, e.At}, m.QoS)
	}
}
