// Package explore carries out random conversations of several clients with a broker, and holds what comes against the
// model of the standard. What the model forbids is tried again, shortened to the fewest steps that still show it, and
// told with its packets.
package explore

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
)

// Kind is what an action does.
type Kind string

// The kinds of actions.
const (
	Connect     Kind = "connect"
	Takeover    Kind = "take over"
	Goodbye     Kind = "disconnect"
	WithWill    Kind = "disconnect with will"
	Cut         Kind = "cut"
	Close       Kind = "close"
	Subscribe   Kind = "subscribe"
	Unsubscribe Kind = "unsubscribe"
	Publish     Kind = "publish"
	Burst       Kind = "burst"
	Clear       Kind = "clear"
	Hold        Kind = "hold"
	Let         Kind = "let go"
	Torn        Kind = "publish and cut"
	Halfway     Kind = "publish halfway"
	Ping        Kind = "ping"
	Many        Kind = "subscribe to many"
	Break       Kind = "break a rule"
)

// kinds lists them with their weights, which are fixed before any broker is tried.
var kinds = []struct {
	kind   Kind
	weight float64
}{{Connect, 10}, {Takeover, 2}, {Goodbye, 3}, {WithWill, 1}, {Cut, 3}, {Close, 2}, {Subscribe, 10}, {Unsubscribe, 3}, {Publish, 18}, {Burst, 4},
	{Clear, 3}, {Hold, 3}, {Let, 4}, {Torn, 3}, {Halfway, 2}, {Ping, 1}, {Many, 2}, {Break, 1}}

// Kinds names all kinds of actions.
func Kinds() (out []Kind) {
	for _, k := range kinds {
		out = append(out, k.kind)
	}
	return out
}

// Action is one thing that is done. What does not concern its kind is left alone.
type Action struct {
	Kind   Kind
	Client int // 0 to 2
	// Clean, Kept, Will and Window are those of CONNECT; the will goes to Topic, at QoS, with Retain.
	Clean, Kept, Will bool
	Window            int
	Topic, Filter     int // places in the lists
	QoS               packet.QoS
	Retain            bool
	Size              int // of the payload, in bytes, beside its mark
	Times             int // of a burst
	NoLocal, Flag     bool
	Handling          byte
	Properties        bool
	// Reset ends the link by a reset, where it is else closed: what was sent before may be lost with it. Late withholds
	// PUBCOMP in place of PUBACK and PUBREC.
	Reset, Late bool
}

// The universe: few names, so that things collide.
var (
	topics  = []string{"a", "b", "a/x", "a/y", "b/x", "b/y", "a/x/z"}
	filters = []string{"a", "a/x", "b/y", "+", "a/+", "+/x", "a/#", "#", "$share/g/a/x"}
	sizes   = []int{0, 40, 400, 40_000}
	names   = []string{"ann", "bob", "cat"}
)

// among is the place of the filter, from 0, of several that one SUBSCRIBE has. The share is none of them: what is its and
// what is not cannot be told apart.
func (a *Action) among(i int) int { return (a.Filter + i) % (len(filters) - 1) }

// String tells the action as a step.
func (a *Action) String() string {
	who := names[a.Client]
	var b strings.Builder
	fmt.Fprintf(&b, "%s ", who)
	switch a.Kind {
	case Connect, Takeover:
		b.WriteString(map[Kind]string{Connect: "connects", Takeover: "connects again on a second link"}[a.Kind])
		b.WriteString(map[bool]string{true: ", clean", false: ", not clean"}[a.Clean])
		if a.Kept {
			b.WriteString(", kept")
		}
		if a.Window > 0 {
			fmt.Fprintf(&b, ", receive maximum %d", a.Window)
		}
		if a.Will {
			fmt.Fprintf(&b, ", with a will on %s at QoS %d%s%s", topics[a.Topic], a.QoS, retained(a.Retain),
				map[bool]string{true: ", with properties"}[a.Properties])
		}
	case Subscribe:
		fmt.Fprintf(&b, "subscribes to %s at QoS %d", filters[a.Filter], a.QoS)
		if a.NoLocal {
			b.WriteString(", no local")
		}
		if a.Flag {
			b.WriteString(", retain as published")
		}
		if a.Handling > 0 {
			fmt.Fprintf(&b, ", retain handling %d", a.Handling)
		}
	case Unsubscribe:
		fmt.Fprintf(&b, "unsubscribes from %s", filters[a.Filter])
	case Publish, Torn, Halfway, Burst:
		b.WriteString("publishes ")
		if a.Kind == Burst {
			fmt.Fprintf(&b, "%d messages ", a.Times)
		}
		fmt.Fprintf(&b, "on %s at QoS %d%s", topics[a.Topic], a.QoS, retained(a.Retain))
		if a.Size > 0 {
			fmt.Fprintf(&b, ", %d bytes", a.Size)
		}
		if a.Properties {
			b.WriteString(", with properties")
		}
		switch a.Kind {
		case Torn:
			b.WriteString(
				map[bool]string{true: ", and is cut", false: ", and closes its link"}[a.Reset] + " before it is acknowledged",
			)
		case Halfway:
			b.WriteString(", and is cut between PUBREC and PUBREL")
		}
	case Clear:
		what := map[bool]string{true: "publishes an empty message, not retained, on", false: "clears"}[a.Flag]
		fmt.Fprintf(&b, "%s %s at QoS %d", what, topics[a.Topic], a.QoS)
	case Many:
		fmt.Fprintf(
			&b,
			"subscribes to %d filters by one packet, from %s on, at QoS %d and others",
			a.Times,
			filters[a.Filter],
			a.QoS,
		)
	case Break:
		b.WriteString("sends a packet of the forbidden type 0, which ends its connection")
	case Hold:
		b.WriteString("withholds its " + map[bool]string{true: "PUBCOMP", false: "acknowledgements"}[a.Late])
	case Let:
		b.WriteString("acknowledges what it withheld")
	case Goodbye:
		b.WriteString("disconnects")
	case WithWill:
		b.WriteString("disconnects with 0x04, and so with its will")
	case Cut:
		b.WriteString("is cut")
	case Close:
		b.WriteString("closes its link without DISCONNECT")
	case Ping:
		b.WriteString("sends PINGREQ")
	}
	return b.String()
}

func retained(is bool) string {
	if is {
		return ", retained"
	}
	return ""
}

// universe is what a broker offers of all that could be tried.
type universe struct {
	version             packet.Version
	qos                 packet.QoS
	retain, kept, wilds bool
	largest             int
}

func universeOf(o *proof.Offer, v packet.Version) universe {
	u := universe{version: v, qos: o.QoS, retain: o.NoRetained == "", kept: o.NoSessions == "", wilds: !o.NoWildcards}
	if u.largest = 1 << 20; o.PacketSize > 0 {
		u.largest = o.PacketSize - 200
	}
	if o.NoLong != "" {
		u.largest = 60
	}
	return u
}

// fits tells whether an action can be tried at the broker.
func (u *universe) fits(a *Action) bool {
	five := u.version == packet.V5
	switch {
	case a.QoS > u.qos, a.Size > u.largest, a.Retain && !u.retain, a.Kept && !u.kept:
		return false
	case a.Kind == Halfway && u.qos < 2, a.Late && u.qos < 2:
		return false
	case a.Kind == Clear && !u.retain && !a.Flag,
		a.Kind == Many && !u.wilds,
		a.Kind == WithWill && !five,
		(a.Kind == Hold || a.Kind == Torn) && u.qos == 0:
		return false
	case !five && (a.NoLocal || a.Flag && a.Kind == Subscribe || a.Handling > 0 || a.Properties || a.Window > 0):
		return false
	case !five && (a.Kind == Connect || a.Kind == Takeover) && a.Clean == a.Kept: // clean session is both
		return false
	case a.Kind == Subscribe || a.Kind == Unsubscribe:
		f := filters[a.Filter]
		share := strings.HasPrefix(f, "$share/")
		return (u.wilds || !strings.ContainsAny(f, "+#")) && (five || !share) && !(share && a.NoLocal)
	}
	return true
}

// bias is how much likelier an action is that goes on with what was begun: acknowledgements are withheld so that a
// message comes, and links cut so that a session is resumed.
const bias = 3

// stats counts which action followed which.
type stats map[[2]Kind]int

// generate makes a conversation from a seed; pairs that were seldom tried are likelier.
func (u *universe) generate(rnd *rand.Rand, length int, tried stats) []Action {
	var out []Action
	connected := [3]bool{}
	kept := [3]bool{}
	holding := [3]bool{}
	last := Connect
	for len(out) < length {
		k := pick(rnd, func(k Kind) float64 {
			f := 1 / (1 + float64(tried[[2]Kind{last, k}])/200)
			withheld := holding[0] || holding[1] || holding[2]
			switch {
			case withheld && (k == Publish || k == Cut || k == Close),
				last == Cut && k == Connect,
				last == Torn && k == Connect,
				last == Halfway && k == Connect:
				f *= bias
			}
			return f
		})
		client := rnd.IntN(len(names))
		if i := slices.Index(holding[:], true); i >= 0 && (k == Cut || k == Close) && rnd.IntN(2) == 0 {
			client = i
		}
		a := Action{
			Kind:   k,
			Client: client,
			Topic:  rnd.IntN(len(topics)),
			Filter: rnd.IntN(len(filters)),
			QoS:    packet.QoS(rnd.IntN(3)),
		}
		c := a.Client
		needs := connected[c]
		switch k {
		case Connect:
			needs = !connected[c]
			fallthrough
		case Takeover:
			a.Properties = u.version == packet.V5 && rnd.IntN(3) == 0
			a.Clean, a.Kept, a.Will, a.Retain = rnd.IntN(5) == 0, rnd.IntN(5) > 0, rnd.IntN(3) == 0, rnd.IntN(3) == 0
			if u.version != packet.V5 {
				a.Kept = !a.Clean
			} else if rnd.IntN(4) == 0 {
				a.Window = 1 + rnd.IntN(3)
			}
			a.Retain = a.Retain && a.Will
		case Subscribe:
			if u.version == packet.V5 {
				a.NoLocal, a.Flag, a.Handling = rnd.IntN(4) == 0, rnd.IntN(3) == 0, byte(rnd.IntN(5)%3)
			}
		case Publish, Torn, Halfway, Burst:
			a.Retain = rnd.IntN(4) == 0
			if a.Size = sizes[rnd.IntN(len(sizes)-1)]; rnd.IntN(20) == 0 {
				a.Size = sizes[len(sizes)-1]
			}
			if a.Properties = u.version == packet.V5 && rnd.IntN(4) == 0; k == Burst {
				a.Times, a.Size = 3+rnd.IntN(4), 0
			}
			if k == Torn || k == Halfway {
				a.QoS, a.Reset = 1+packet.QoS(rnd.IntN(2)), rnd.IntN(3) == 0
				needs = needs && kept[c]
			}
			if k == Halfway {
				a.QoS, a.Reset = 2, false
			}
		case Hold:
			a.Late = rnd.IntN(3) == 0
			needs = needs && !holding[c]
		case Let:
			needs = needs && holding[c]
		case Clear:
			a.Flag = rnd.IntN(3) == 0
		case Many:
			a.Times = 3 + rnd.IntN(5)
		}
		if !needs || !u.fits(&a) {
			continue
		}
		switch k {
		case Connect, Takeover:
			connected[c], kept[c], holding[c] = true, a.Kept, false
		case Goodbye, WithWill, Cut, Close, Torn, Halfway, Break:
			connected[c], holding[c] = false, false
		case Hold, Let:
			holding[c] = k == Hold
		}
		tried[[2]Kind{last, k}]++
		last = k
		out = append(out, a)
	}
	return out
}

// pick draws a kind by the weights.
func pick(rnd *rand.Rand, factor func(Kind) float64) Kind {
	sum := 0.0
	for _, k := range kinds {
		sum += k.weight * factor(k.kind)
	}
	at := rnd.Float64() * sum
	for _, k := range kinds {
		if at -= k.weight * factor(k.kind); at < 0 {
			return k.kind
		}
	}
	return Publish
}

// plainer returns simpler forms of an action, the simplest first.
func (a Action) plainer() (out []Action) {
	try := func(change func(*Action)) {
		x := a
		change(&x)
		if x != a && !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	for kind, plain := range map[Kind]Kind{Takeover: Connect, Torn: Cut, Halfway: Cut, Many: Subscribe, Burst: Publish, Close: Cut, WithWill: Goodbye} {
		if a.Kind == kind {
			try(func(x *Action) { x.Kind = plain })
		}
	}
	try(func(x *Action) { x.Size = 0 })
	try(func(x *Action) { x.Properties = false })
	try(func(x *Action) { x.Window = 0 })
	try(func(x *Action) { x.Will, x.Retain = false, x.Retain && x.Kind != Connect && x.Kind != Takeover })
	try(func(x *Action) { x.Retain = false })
	try(func(x *Action) { x.NoLocal = false })
	try(func(x *Action) { x.Flag = false })
	try(func(x *Action) { x.Handling = 0 })
	if a.Kind == Subscribe && strings.ContainsAny(filters[a.Filter], "+#$") {
		for f := range 3 {
			try(func(x *Action) { x.Filter = f })
		}
	}
	if a.Times > 2 {
		try(func(x *Action) { x.Times = 2 })
	}
	if a.QoS > 1 && a.Kind != Halfway {
		try(func(x *Action) { x.QoS = 1 })
	}
	if a.QoS > 0 && a.Kind != Torn && a.Kind != Halfway {
		try(func(x *Action) { x.QoS = 0 })
	}
	return out
}
