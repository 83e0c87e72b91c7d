package proof

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// Offer is what a broker was found to offer, before the first check.
type Offer struct {
	// Refused are the versions that it does not speak, with its answer.
	Refused map[packet.Version]string
	// Shut are the versions in which our own login does not get in, though it does in another, with the reason.
	Shut map[packet.Version]string
	// QoS is the highest that it grants and takes.
	QoS packet.QoS
	// NoRetained and NoSessions are why stored messages or kept sessions are not offered; "" where they are,
	// or nothing is known.
	NoRetained, NoSessions string
	// NoWildcards tells that filters with wildcards are not offered. PacketSize is the largest packet that it
	// takes, in bytes; 0 where it names none.
	NoWildcards bool
	PacketSize  int
	// NoLong is what became of a message of some hundred bytes, where a short one was passed on; "" where both
	// were: a size limit that no packet tells.
	NoLong string
	// Connections is how many clients it takes from us at a time; 0 for no limit met.
	Connections int
}

// ErrNotReached is returned when no link to the listener can be made at all.
var ErrNotReached = errors.New("not reached")

// NotLetInError is returned when our own login is not let in: then nothing can be told of what the broker
// guarantees.
type NotLetInError struct {
	Version packet.Version
	Err     error // a [*client.RefusedError], or how the link ended
	// Cause is what was found out about it afterwards; "" for nothing.
	Cause string
}

// Error says it on one line.
func (e *NotLetInError) Error() string {
	text := fmt.Sprintf("our own login is not let in (version %s): %v", e.Version, e.Err)
	if e.Cause != "" {
		text += ": " + e.Cause
	}
	return text
}

// Unwrap returns the cause.
func (e *NotLetInError) Unwrap() error { return e.Err }

// oldVersion tells whether a refusal is of the protocol version.
func oldVersion(v packet.Version, r *client.RefusedError) bool {
	return r.Code == packet.UnsupportedProtocolVersion || v != packet.V5 && r.Code == packet.RefusedVersion
}

// Busy tells whether a refusal is of one client more, not of this one.
func Busy(v packet.Version, code packet.ReasonCode) bool {
	if v != packet.V5 {
		return code == packet.RefusedUnavailable
	}
	return code == packet.ServerUnavailable || code == packet.ServerBusy || code == packet.QuotaExceeded ||
		code == packet.ConnectionRateExceeded
}

// look finds out what the broker offers, with one client at a time. Version 5 says most of it, so it is asked
// even where it is not proven. The error is a [*NotLetInError].
func (r *runner) look(ctx context.Context, versions []packet.Version) (Offer, error) {
	o := Offer{QoS: 2, Refused: map[packet.Version]string{}, Shut: map[packet.Version]string{}}
	asked := append(
		[]packet.Version{packet.V5},
		slices.DeleteFunc(slices.Clone(versions), func(v packet.Version) bool { return v == packet.V5 })...)
	in := false
	var failed *NotLetInError
	var closed []packet.Version
	within, patient := connectWithin, true
	for _, v := range asked {
		wanted := slices.Contains(versions, v)
		r.doing(fmt.Sprintf("finding out what the broker offers, in MQTT %s (%s at most)", v, within))
		ack, err := r.lookIn(ctx, v, &o, wanted, within)
		// A small broker may not have noticed yet that the client before has left.
		for wait := roomWait; patient && busy(v, err) && wait <= roomMost; wait *= 2 {
			select {
			case <-time.After(wait):
			case <-ctx.Done():
			}
			ack, err = r.lookIn(ctx, v, &o, wanted, within)
		}
		patient = patient && !busy(v, err) // it is no matter of a moment
		if errors.Is(err, errNoAnswer) {
			within = arrival // it has had its time: the others need not wait as long
		}
		var refused *client.RefusedError
		var ended *client.EndedError
		switch {
		case err == nil:
			in = in || wanted
			o.told(ack)
		case ctx.Err() != nil:
			return o, nil // every check says that it was stopped
		case r.target.Way != nil && untrusted(err): // the checks of TLS tell; nothing else is sent to whoever that is
			for _, v := range versions {
				o.Shut[v] = err.Error()
			}
			return o, nil
		case !wanted:
		case !errors.As(err, &refused) && !errors.As(err, &ended) && !errors.Is(err, errNoAnswer):
			return o, fmt.Errorf("%w: %w", ErrNotReached, err)
		case errors.As(err, &refused) && oldVersion(v, refused):
			o.Refused[v] = refused.Error()
		default:
			if o.Shut[v] = err.Error(); errors.As(err, &ended) {
				closed = append(closed, v)
			}
			if failed == nil {
				failed = &NotLetInError{Version: v, Err: err}
			}
		}
	}
	if !in && failed != nil {
		return o, failed
	}
	if in { // who closes the link on a version that another client gets in without does not speak it
		for _, v := range closed {
			o.Refused[v] = "it answers CONNECT by closing the link: " + o.Shut[v]
			delete(o.Shut, v)
		}
	}
	return o, nil
}

// untrusted tells whether a handshake failed because the server's certificate is not to be trusted.
func untrusted(err error) bool {
	var failed *tls.CertificateVerificationError
	return errors.As(err, &failed)
}

// How long a refusal for want of room is waited out, before it is taken for one.
const (
	roomWait = 50 * time.Millisecond
	roomMost = 800 * time.Millisecond
)

// busy tells whether a client was refused for want of room.
func busy(v packet.Version, err error) bool {
	var refused *client.RefusedError
	return errors.As(err, &refused) && Busy(v, refused.Code)
}

var errNoAnswer = fmt.Errorf("no answer within %s", connectWithin)

// leastKept is for how long a session must be kept so that whoever comes back finds it, in seconds: longer than any check is
// away.
const leastKept = 30

// told takes in what a CONNACK of version 5 says (5.0 §3.2.2.3). The older versions have no way to tell, so it is
// heeded in those too.
func (o *Offer) told(ack *packet.Connack) {
	o.QoS = min(o.QoS, packet.QoS(ack.Properties.IntOr(packet.MaximumQoS, 2)))
	if ack.Properties.IntOr(packet.RetainAvailable, 1) == 0 {
		o.NoRetained = "CONNACK says retain available 0 (5.0 §3.2.2.3.5)"
	}
	o.NoWildcards = o.NoWildcards || ack.Properties.IntOr(packet.WildcardAvailable, 1) == 0
	if n, told := ack.Properties.Int(packet.MaximumPacketSize); told {
		o.PacketSize = int(n)
	}
	switch n, told := ack.Properties.Int(packet.SessionExpiry); {
	case told && n == 0:
		o.NoSessions = "CONNACK says session expiry 0 (5.0 §3.2.2.3.2)"
	case told && n < leastKept:
		o.NoSessions = fmt.Sprintf("CONNACK says session expiry %d s (5.0 §3.2.2.3.2), too short to come back to for sure", n)
	}
}

// lookIn enters in a version, and looks which QoS is granted and taken, where that is not told.
func (r *runner) lookIn(
	ctx context.Context,
	v packet.Version,
	o *Offer,
	wanted bool,
	within time.Duration,
) (*packet.Connack, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, within, errNoAnswer)
	defer cancel()
	opt := client.Options{
		Dial:    r.target.Dial,
		Version: v,
		Connect: packet.Connect{ClientID: r.clientID(), CleanStart: true, KeepAlive: 60},
	}
	if v == packet.V5 {
		opt.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 0)}
	}
	r.target.Login.Apply(&opt)
	came := make(chan int, 16)
	opt.Message = func(m *packet.Publish) {
		select {
		case came <- len(m.Payload):
		default:
		}
	}
	c := client.New(opt)
	ack, err := c.Connect(ctx)
	if err != nil {
		return ack, err
	}
	defer c.Disconnect(0)
	if v == packet.V5 {
		if err := r.lookExpiry(ctx, opt, o); err != nil {
			return ack, nil // it got in once; what it does with sessions, the checks will see
		}
	}
	if !wanted {
		return ack, nil
	}
	topic := strings.Join([]string{TopicRoot, r.run, "offer"}, "/")
	short, stop := context.WithTimeout(ctx, arrival)
	defer stop()
	if suback, err := c.Subscribe(short, []packet.Subscription{{Filter: topic, QoS: 2}}); err == nil &&
		suback.Codes[0] <= 2 {
		o.QoS = min(o.QoS, packet.QoS(suback.Codes[0]))
		if o.NoLong == "" && (o.PacketSize == 0 || o.PacketSize > longBy+roomForTopic) {
			if o.NoLong = r.lookLong(ctx, c, topic, came); !c.Connected() {
				if _, err := c.Connect(ctx); err != nil {
					return ack, nil
				}
			}
		}
	}
	// A small broker closes the link on a QoS that it does not do (3.1.1 has no way to tell).
	once, granted := false, o.QoS
	for q := o.QoS; q > 0; q-- {
		pub, err := c.Start(packet.Publish{Topic: topic, QoS: q, Payload: []byte("offer")})
		if err != nil {
			o.QoS = q - 1
			continue
		}
		if _, err := pub.Wait(short); err == nil || c.Connected() {
			break // taken, or answered in a way that is a matter of the checks
		}
		var ended *client.EndedError
		if errors.As(c.Ended(), &ended) && (ended.Broken != nil || ended.Rule) {
			break // it answered with what it must not: that is a matter of the checks
		}
		if once = !once; once { // a link may be lost for other reasons: twice is none of those
			q++
		} else {
			o.QoS = q - 1
		}
		if _, err := c.Connect(ctx); err != nil {
			break
		}
	}
	if o.QoS < granted && !served(short, c, topic) {
		o.QoS = granted // it closes the link whatever comes: that is a matter of the checks
	}
	return ack, nil
}

// served tells whether a client that publishes a short message at QoS 0 stays in, and is answered.
func served(ctx context.Context, c *client.Client, topic string) bool {
	if !c.Connected() {
		if _, err := c.Connect(ctx); err != nil {
			return false
		}
	}
	if _, err := c.Start(packet.Publish{Topic: topic, Payload: []byte("offer")}); err != nil {
		return false
	}
	_, err := c.Ping(ctx)
	return err == nil
}

// lookLong publishes long and short messages to its own subscription, and tells what became of the long ones if
// only the short ones arrive. How long they take is how long others are waited for, too.
func (r *runner) lookLong(ctx context.Context, c *client.Client, topic string, came <-chan int) string {
	const short = 5
	size := longBy + short
	for try := 1; try <= longTries; try++ {
		begun := time.Now()
		for _, n := range []int{size, short} {
			if _, err := c.Start(packet.Publish{Topic: topic, Payload: []byte(strings.Repeat("x", n))}); err != nil {
				return ""
			}
		}
		for last := 0; last != short; { // they come in this order (§4.6)
			select {
			case last = <-came:
				r.way = max(r.way, time.Since(begun))
			case <-time.After(arrival):
				return "" // nothing arrives: that is a matter of the checks
			case <-c.Done():
				if !served(ctx, c, topic) {
					return "" // it is not the length: that is a matter of the checks
				}
				return fmt.Sprintf("the broker closed the link on a message of %d bytes", size)
			case <-ctx.Done():
				return ""
			}
			if last > short { // changed or not: that is a matter of the checks
				return ""
			}
		}
	}
	return fmt.Sprintf(
		"a message of %d bytes at QoS 0 was not passed on, %d times, while one of %d was",
		size,
		longTries,
		short,
	)
}

// longTries is how often a long message is sent before the broker is held not to pass them on.
const longTries = 3

// another tells whether a plain client gets in at the moment.
func (r *runner) another(ctx context.Context, v packet.Version) bool {
	ctx, cancel := context.WithTimeout(ctx, connectWithin)
	defer cancel()
	opt := client.Options{
		Dial:    r.target.Dial,
		Version: v,
		Connect: packet.Connect{ClientID: r.clientID(), CleanStart: true, KeepAlive: 60},
	}
	r.target.Login.Apply(&opt)
	c := client.New(opt)
	_, err := c.Connect(ctx)
	c.Disconnect(0)
	return err == nil
}

// lookExpiry asks for a kept session, and sees in CONNACK whether it is given.
func (r *runner) lookExpiry(ctx context.Context, opt client.Options, o *Offer) error {
	opt.Connect.ClientID, opt.Connect.Properties = r.clientID(), packet.Properties{
		packet.Int(packet.SessionExpiry, keptFor),
	}
	c := client.New(opt)
	ack, err := c.Connect(ctx)
	if err != nil {
		return err
	}
	o.told(ack)
	return c.Disconnect(0, packet.Int(packet.SessionExpiry, 0))
}

// governor bounds how many clients we have at the broker at a time. It begins with few, and takes more as long
// as none is refused; a refusal sets the cap. Safe for concurrent use.
type governor struct {
	mu      sync.Mutex
	changed *sync.Cond
	used    int
	room    int
	cap     int // 0: none met
}

// The connections that a proof begins with, and goes up to.
const (
	firstConnections = 3
	mostConnections  = 200
)

func newGovernor() *governor {
	g := &governor{room: firstConnections}
	g.changed = sync.NewCond(&g.mu)
	return g
}

// take waits for room for at least so many clients, for wants as long as no cap is known, and returns how many there
// may be, at most most, and the cap under which they are. ok is false where the broker does not take so many.
func (g *governor) take(ctx context.Context, least, wants, most int) (n, under int, ok bool) {
	stop := context.AfterFunc(ctx, func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.changed.Broadcast()
	})
	defer stop()
	g.mu.Lock()
	defer g.mu.Unlock()
	for ctx.Err() == nil {
		need := least
		if g.cap > 0 && least > g.cap {
			return 0, g.cap, false
		} else if g.cap == 0 {
			need = max(least, wants)
		}
		if g.used == 0 && g.cap == 0 {
			g.room = max(g.room, need) // nothing else is there: more has to be tried some time
		}
		if free := g.room - g.used; free >= need {
			n = min(free, most)
			g.used += n
			return n, g.cap, true
		}
		g.changed.Wait()
	}
	return 0, 0, true
}

// give gives clients back; well tells that none of them was refused.
func (g *governor) give(n int, well bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.used -= n
	if well && g.cap == 0 {
		g.room = min(mostConnections, g.room+n)
	}
	g.changed.Broadcast()
}

// refused takes in that one client more than there were was not let in. proven is how many were in at a time
// before: so many it does take, unless others have come meanwhile. So a cap is lowered only when a plain client was
// refused that came under it, not by those that were there before it was known.
func (g *governor) refused(there, proven, under int, plain bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	next := max(1, there, proven)
	if g.cap > 0 {
		if !plain || under != g.cap {
			return
		}
		next = max(1, there, min(g.cap-1, next))
	}
	if g.cap == 0 || next < g.cap {
		g.cap = next
	}
	g.room = g.cap
}

// capped returns the cap, 0 for none.
func (g *governor) capped() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.cap
}

// Times of checks. What must come is awaited; what must not come is waited for.
const (
	// connectWithin is for checks that are about something else: a slow broker is slow, not broken.
	connectWithin = 45 * time.Second
	arrival       = 5 * time.Second // for what must come
	quietLeast    = 500 * time.Millisecond
	evidenceLimit = 8192 // events kept of one check
	keptFor       = 300  // seconds that a kept session is to outlive its connection
	longBy        = 300  // bytes by which a long payload is longer than a short one
	roomForTopic  = 200  // bytes of a PUBLISH of the checks without that
)
