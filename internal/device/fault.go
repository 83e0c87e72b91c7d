package device

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// misdeed is what a fault does; the table of faults is [workspace.DeviceFaults].
type misdeed struct {
	connect  func(d *Device, c *packet.Connect)                // changes what it says when it comes
	value    func(v any) any                                   // changes what it publishes, before that is written
	message  func(d *Device, m *packet.Publish)                // changes a message; one without a topic is not sent
	times    int                                               // how often a message is sent; 0 for once
	late     time.Duration                                     // how much longer answers take
	mute     bool                                              // answers are not given
	clock    time.Duration                                     // how far its clock is off
	speaks   func(what *contract.Presence, text string) string // changes what it announces; "" keeps it back
	pause    time.Duration                                     // before it comes again
	stays    bool                                              // away, once it is lost
	deaf     bool                                              // it subscribes to nothing
	forgets  bool                                              // it subscribes the first time only
	overlong bool                                              // it speaks after DISCONNECT
	heedless packet.PropertyID                                 // of CONNACK, that it does not go by
	frames   frames                                            // what it makes of what it reads
	twice    bool                                              // QoS 2 sent again acts again
	obeysOld bool                                              // commands that come retained where none are to be
	loses    bool                                              // what waited while it was away is lost
}

// numbers changes the numbers of a value.
func numbers(v any, change func(float64) any) any {
	switch x := v.(type) {
	case float64:
		return change(x)
	case int:
		return change(float64(x))
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = numbers(x[i], change)
		}
		return out
	case expression.Object:
		out := make(expression.Object, len(x))
		for i := range x {
			out[i] = expression.Member{Key: x[i].Key, Value: numbers(x[i].Value, change)}
		}
		return out
	}
	return v
}

// withoutFirst leaves the first field of an object out.
func withoutFirst(v any) any {
	if o, is := v.(expression.Object); is && len(o) > 0 {
		return o[1:]
	}
	return v
}

// far is how far a clock is off that is wrong.
const far = 90 * time.Minute

// misdeeds are what the faults do, by their names.
var misdeeds = map[string]*misdeed{
	"payload.numbers-as-text": {
		value: func(v any) any { return numbers(v, func(f float64) any { return fmt.Sprint(f) }) },
	},
	"payload.other-unit": {
		value: func(v any) any { return numbers(v, func(f float64) any { return f*1000 + 1e6 }) },
	},
	"payload.field-missing": {value: withoutFirst},
	"payload.cut": {
		message: func(_ *Device, m *packet.Publish) { m.Payload = m.Payload[:max(0, len(m.Payload)-1)] },
	},
	"payload.padded": {message: func(_ *Device, m *packet.Publish) {
		m.Payload = append(slices.Clone(m.Payload), strings.Repeat(" ", max(0, 2000-len(m.Payload)))...)
	}},
	"clock.off":     {clock: -far},
	"answer.late":   {late: 20 * time.Second},
	"answer.none":   {mute: true},
	"flood":         {times: 50},
	"silent":        {message: func(_ *Device, m *packet.Publish) { m.Topic = "" }},
	"qos.lowered":   {message: func(_ *Device, m *packet.Publish) { m.QoS = 0 }},
	"retain.always": {message: func(_ *Device, m *packet.Publish) { m.Retain = true }},
	"retain.never":  {message: func(_ *Device, m *packet.Publish) { m.Retain = false }},
	"will.missing":  {connect: func(_ *Device, c *packet.Connect) { c.Will = nil }},
	"will.other": {connect: func(d *Device, c *packet.Connect) {
		if cl := d.opt.Contract.Clause(d.opt.Kind.Presence); c.Will != nil && cl != nil {
			w := *c.Will
			w.Payload = []byte(cl.Presence.Coming)
			c.Will = &w
		}
	}},
	"goodbye.unsaid": {speaks: func(p *contract.Presence, text string) string {
		if text == p.Leaving {
			return ""
		}
		return text
	}},
	"session.other-id":      {connect: func(d *Device, c *packet.Connect) { c.ClientID = d.neighbour() }},
	"session.no-keep-alive": {connect: func(_ *Device, c *packet.Connect) { c.KeepAlive = 0 }},
	"session.not-clean":     {connect: func(_ *Device, c *packet.Connect) { c.CleanStart = false }},
	"session.never-back":    {stays: true},
	"session.hasty":         {pause: 50 * time.Millisecond},
	"subscribes.not":        {deaf: true},
	"subscribes.once":       {forgets: true},
	"goodbye.speaks-on":     {overlong: true},
	"heeds.in-flight":       {heedless: packet.ReceiveMaximum},
	"heeds.packet-size":     {heedless: packet.MaximumPacketSize},
	"heeds.qos":             {heedless: packet.MaximumQoS},
	"heeds.retain":          {heedless: packet.RetainAvailable},
	"heeds.keep-alive":      {heedless: packet.ServerKeepAlive},
	"heeds.alias": {message: func(d *Device, m *packet.Publish) {
		if d.opt.Kind.Session.Version == packet.V5 {
			m.Properties = append(slices.Clone(m.Properties), packet.Int(packet.TopicAlias, 9))
		}
	}},
	"frames.split":    {frames: wholeOnly},
	"frames.gathered": {frames: firstOnly},
	"frames.long":     {frames: shortOnly},
	"qos2.twice":      {twice: true},
	"buffer.lost":     {loses: true},
	"retained.obeyed": {obeysOld: true},
}

// neighbour is the client identifier of the next device of its kind.
func (d *Device) neighbour() string {
	next := d.opt.Number + 1
	if next > max(1, d.opt.Kind.Count) {
		next = 1
	}
	return workspace.FillIn(d.opt.Kind.Session.ClientID, next)
}

// Misbehave sets the faults that the device has from now on, by their names; those of its session show when it comes the
// next time.
func (d *Device) Misbehave(names ...string) error {
	if err := workspace.FindDeviceFaults(names...); err != nil {
		return err
	}
	var all []*misdeed
	for _, name := range names {
		all = append(all, misdeeds[name])
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.wrong, d.faults = all, slices.Clone(names)
	return nil
}

// ill are the faults that it has.
func (d *Device) ill() []*misdeed {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.wrong
}

// misled changes a message by the faults that there are, and tells how often it is sent.
func (d *Device) misled(m *packet.Publish) (times int) {
	times = 1
	for _, f := range d.ill() {
		if f.message != nil {
			f.message(d, m)
		}
		times = max(times, f.times)
	}
	if m.Topic == "" {
		return 0
	}
	return times
}

// misread changes a value by the faults that there are; the lock is held.
func (d *Device) misread(v any) any {
	for _, f := range d.wrong {
		if f.value != nil {
			v = f.value(v)
		}
	}
	return v
}

// misspeaks changes what it announces.
func (d *Device) misspeaks(p *contract.Presence, text string) string {
	for _, f := range d.ill() {
		if f.speaks != nil {
			text = f.speaks(p, text)
		}
	}
	return text
}

// has tells whether it has a fault of a kind.
func (d *Device) has(is func(*misdeed) bool) bool { return slices.ContainsFunc(d.ill(), is) }

// before changes CONNECT by the faults that there are.
func (d *Device) before(c *packet.Connect) {
	for _, f := range d.ill() {
		if f.connect != nil {
			f.connect(d, c)
		}
	}
}

// speakOn publishes behind DISCONNECT, which the standard forbids (3.1.1 §3.14.4, 5.0 §3.14.4).
func (d *Device) speakOn(c *client.Client) {
	for _, p := range d.pubs {
		if m, send, err := p.compose(nil); err == nil && send {
			m.QoS = 0
			c.DisconnectAnd(&m)
			return
		}
	}
	c.Disconnect(0)
}

// clockOff is how far its clock is off by its faults; the lock is held.
func (d *Device) clockOff() (off time.Duration) {
	for _, f := range d.wrong {
		off += f.clock
	}
	return off
}
