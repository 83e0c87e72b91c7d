// Package check holds the checks of the catalogue: documented values, a file per family. A check drives clients
// by its pass, asks the trace what happened, and ends in a verdict. Each of its assertions has a fault of its own
// among those of the stand-in (package fault).
package check

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// All is the catalogue in its order.
func All() []*proof.Check {
	return slices.Concat(
		connect,
		opening,
		keepalive,
		login,
		rights,
		qos,
		flows,
		streams,
		retain,
		retained,
		will,
		wills,
		session,
		sessions,
		subscribe,
		subscriptions,
		shares,
		properties,
		limits,
		failures,
		below,
		agreed,
		restarts,
	)
}

// Match returns the checks whose names match a pattern: a name, a family, or a part with *; all for "".
func Match(pattern string) ([]*proof.Check, error) {
	var out []*proof.Check
	for _, c := range All() {
		ok, err := path.Match(pattern, c.Name)
		if err != nil {
			return nil, fmt.Errorf("check pattern %q: %w", pattern, err)
		}
		if ok || pattern == "" || pattern == c.Family() {
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		var names []string
		for _, c := range All() {
			names = append(names, c.Name)
		}
		return nil, fmt.Errorf("no check matches %q; there are: %s", pattern, strings.Join(names, ", "))
	}
	return out, nil
}

func isPacket(k trace.Kind, t packet.Type) func(*trace.Event) bool {
	return func(e *trace.Event) bool { return e.Kind == k && e.Packet != nil && e.Packet.Type() == t }
}

// publish is a message.
func publish(topic, text string, qos packet.QoS, retain bool) packet.Publish {
	return packet.Publish{Topic: topic, Payload: []byte(text), QoS: qos, Retain: retain}
}

const (
	// arrivalTime is how long what must come is awaited.
	arrivalTime = 5 * time.Second
	// noticed is within which a broker notices as a rule that links are closed: who opens many one after the other
	// waits so long, or others would not get in where a broker takes few.
	noticed = 50 * time.Millisecond
	// unusedID is a packet identifier far from those that a client chooses by itself.
	unusedID = 40_000
)

// granted subscribes, and wants the QoS to be granted: without it the check cannot be carried out.
func granted(p *proof.Pass, peer *proof.Client, filter string, q packet.QoS) error {
	got, err := p.Subscribe(peer, filter, q)
	if err == nil && got < q {
		return proof.Unsupport("subscriptions get QoS %d at most, where QoS %d is needed", got, q)
	}
	return err
}

// unsupported tells whether an error ends a check as unsupported.
func unsupported(err error) bool { return proof.VerdictOf(err) == proof.Unsupported }
