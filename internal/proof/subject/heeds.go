package subject

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// CONNACK's limits, for a device of version 5, are made narrower by the tap than the broker means them, so that a sound
// broker never refuses what the device then sends.

// How long the device is watched under each limit: three times as long as three messages take without, in these bounds.
const (
	leastHeed = 3 * time.Second
	mostHeed  = 20 * time.Second
)

// connackLater keeps CONNACK back, so that what the device says before it is told apart from what it says after it.
const connackLater = 300 * time.Millisecond

// heeded is a limit that is tried.
type heeded struct {
	what   string
	grants packet.Properties
	more   []tap.Rule
	// beyond finds what goes beyond the limit among all that the device sent after CONNACK, and says what it was; open
	// tells that the link still stands.
	beyond func(sent []trace.Event, open bool) (*trace.Event, string)
	// would tells by what it sent without the limit whether it has anything to keep back.
	would  func(before []trace.Event) bool
	least  time.Duration
	change string
}

// messages are the PUBLISH packets among what was sent.
func messages(sent []trace.Event) (out []trace.Event) {
	for _, e := range sent {
		if e.Publish() != nil {
			out = append(out, e)
		}
	}
	return out
}

// each is a limit that each PUBLISH by itself keeps or not.
func each(what string, id packet.PropertyID, n int, change string, beyond func(*trace.Event) string) heeded {
	find := func(sent []trace.Event, _ bool) (*trace.Event, string) {
		for _, e := range messages(sent) {
			if why := beyond(&e); why != "" {
				return &e, why
			}
		}
		return nil, ""
	}
	return heeded{
		what: what, grants: packet.Properties{packet.Int(id, uint32(n))}, change: change, beyond: find,
		would: func(before []trace.Event) bool { e, _ := find(before, true); return e != nil },
	}
}

// limits are those that CONNACK tells the device, one after the other; large is its largest PUBLISH so far, in bytes.
func limits(large int) []heeded {
	size := fmt.Sprintf("maximum packet size %d", large-1)
	if large == 0 {
		size = "a maximum packet size"
	}
	return []heeded{
		each("maximum QoS 0", packet.MaximumQoS, 0, "publish at no higher QoS than CONNACK's maximum QoS (3.2.2.3.4)",
			func(e *trace.Event) string {
				if q := e.Publish().QoS; q > 0 {
					return fmt.Sprintf("PUBLISH at QoS %d", q)
				}
				return ""
			}),
		each("retain available 0", packet.RetainAvailable, 0,
			"publish without the retain flag where CONNACK says that it is not available (3.2.2.3.5)",
			func(e *trace.Event) string {
				if e.Publish().Retain {
					return "PUBLISH with the retain flag"
				}
				return ""
			}),
		each("topic alias maximum 0", packet.TopicAliasMaximum, 0,
			"use no topic alias above CONNACK's maximum (3.2.2.3.8)", func(e *trace.Event) string {
				if n, is := e.Publish().Properties.Int(packet.TopicAlias); is {
					return fmt.Sprintf("topic alias %d", n)
				}
				return ""
			}),
		each(
			size,
			packet.MaximumPacketSize,
			max(1, large-1),
			"send no packet that is larger than CONNACK's maximum packet size (3.2.2.3.6)",
			func(e *trace.Event) string {
				if len(e.Raw) >= large {
					return fmt.Sprintf("PUBLISH of %d bytes", len(e.Raw))
				}
				return ""
			},
		),
		{
			what: "receive maximum 1", grants: packet.Properties{packet.Int(packet.ReceiveMaximum, 1)},
			more: []tap.Rule{
				{
					Do:     tap.Drop,
					Type:   packet.PUBACK,
					Toward: tap.Device,
				},
				{Do: tap.Drop, Type: packet.PUBREC, Toward: tap.Device},
			},
			beyond: func(sent []trace.Event, _ bool) (*trace.Event, string) {
				first := uint16(0)
				for _, e := range messages(sent) {
					switch id := e.Publish().ID; {
					case first == 0:
						first = id
					case id != 0 && id != first:
						return &e, fmt.Sprintf("packet %d before packet %d was acknowledged", id, first)
					}
				}
				return nil, ""
			},
			would: func(before []trace.Event) bool {
				return slices.ContainsFunc(
					before,
					func(e trace.Event) bool { return e.Publish() != nil && e.Publish().QoS > 0 },
				)
			},
			change: "have no more messages at QoS 1 and 2 under way than CONNACK's receive maximum (3.2.2.3.3)",
		},
		{
			what: fmt.Sprintf("server keep alive %s", shortAlive), least: 3 * tooLong,
			grants: packet.Properties{packet.Int(packet.ServerKeepAlive, uint32(shortAlive/time.Second))},
			beyond: func(sent []trace.Event, open bool) (*trace.Event, string) {
				for i := range sent {
					next := time.Now()
					if i+1 < len(sent) {
						next = sent[i+1].At
					} else if !open {
						break
					}
					if gap := next.Sub(sent[i].At); gap > tooLong {
						return &sent[i], fmt.Sprintf("nothing for %s", gap.Round(100*time.Millisecond))
					}
				}
				return nil, ""
			},
			would:  func([]trace.Event) bool { return true },
			change: "go by CONNACK's server keep alive in place of its own (3.2.2.3.14)",
		},
	}
}

// The server keep alive that the device is told, and how long it may be silent: the standard gives it one and a half times
// that (§3.1.2.10), and what it sends may be held up on its way.
const (
	shortAlive = 2 * time.Second
	tooLong    = 2 * shortAlive
)

// heeds: CONNACK tells the device limits, one after the other.
func heeds(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	c := p.hello()
	if c == nil {
		return proof.Undecide("its CONNECT was not seen")
	}
	if c.Level != packet.V5 {
		return proof.Unsupport("it speaks MQTT %s, where CONNACK tells no limits", c.Level)
	}
	if c.ClientID == "" {
		p.note("it lets the broker choose its client identifier (3.2.2.3.7)")
	}
	p.step("it is watched without limits")
	p.doing()
	for end := p.at.Add(mostHeed); len(messages(p.saidAfter(p.mark))) < 3 && time.Now().Before(end) && p.wait(poll); {
	}
	watch := min(mostHeed, max(leastHeed, 3*time.Since(p.at)))
	if p.o.Watch > 0 {
		watch = p.o.Watch
	}
	before, large := p.saidAfter(1), 0
	for _, e := range messages(before) {
		large = max(large, len(e.Raw))
	}
	var kept, untold []string
	for _, x := range limits(large) {
		if !x.would(before) {
			untold = append(untold, x.what+": it sends nothing that this would rule out")
			continue
		}
		err := p.heed(x, max(watch, x.least))
		if proof.VerdictOf(err) == proof.Unsupported {
			untold = append(untold, x.what+": "+strings.TrimPrefix(err.Error(), "unsupported: "))
			continue
		}
		if err != nil {
			return err
		}
		kept = append(kept, x.what)
	}
	for _, text := range untold {
		p.note("not seen: %s", text)
	}
	p.stand.Tap().Set()
	p.doing()
	p.cut()
	if p.await(p.mark, p.back(), accepted) == nil {
		return proof.Undecide("it did not come back without limits within %s (see device.comes-back)", p.back())
	}
	if len(kept) == 0 {
		return proof.Undecide("nothing that it sent could tell")
	}
	p.tell("it kept to %s", strings.Join(kept, ", "))
	return nil
}

// saidAfter are the packets that the device sent since a number.
func (p *pass) saidAfter(from uint64) (out []trace.Event) {
	for _, e := range p.events(from) {
		if e.Kind == trace.Sent && e.Packet != nil {
			out = append(out, e)
		}
	}
	return out
}

// heed has the device come to a narrower limit, and watches what it sends then; unsupported where that cannot tell.
func (p *pass) heed(x heeded, watch time.Duration) error {
	p.step("CONNACK says %s", x.what)
	p.stand.Tap().Set(append([]tap.Rule{
		{Do: tap.Alter, Type: packet.CONNACK, Toward: tap.Device, Client: p.d.Name, Grants: x.grants},
		{Do: tap.Delay, Type: packet.CONNACK, Toward: tap.Device, Client: p.d.Name, By: connackLater},
	}, x.more...)...)
	in, err := p.again()
	if err != nil {
		return err
	}
	has := in.At.Add(connackLater) // the event stands where the tap took CONNACK
	p.wait(time.Until(has))
	if said := p.saidAfter(in.Seq); len(said) > 0 && said[0].At.Before(has.Add(-connackLater/4)) {
		p.note("it does not wait for CONNACK with what it sends")
		has = has.Add(time.Second) // what is on its way counts as said before
	}
	var said []trace.Event
	from := *in
	from.At = has
	end, open := time.Now().Add(watch), true
	for open && time.Now().Before(end) && p.wait(2*poll) {
		open = p.await(in.Seq, 0, ended) == nil
		said = slices.DeleteFunc(p.saidAfter(in.Seq), func(e trace.Event) bool { return e.At.Before(has) })
		if e, why := x.beyond(append([]trace.Event{from}, said...), open); e != nil {
			p.decide(e)
			p.note("to change: %s", x.change)
			return proof.Break("CONNACK says %s, and from it came %s", x.what, why)
		}
	}
	pings := slices.ContainsFunc(said, func(e trace.Event) bool { return e.Packet.Type() == packet.PINGREQ })
	switch {
	case p.ctx.Err() != nil:
		return proof.Undecide("stopped")
	case !open:
		p.note("it leaves a broker whose CONNACK says %s", x.what)
	case x.least > 0 && !pings:
		return proof.Unsupport("it sends something more often anyway")
	case x.least == 0 && len(messages(said)) == 0:
		p.note("it publishes nothing in %s where CONNACK says %s", watch.Round(100*time.Millisecond), x.what)
	}
	return nil
}
