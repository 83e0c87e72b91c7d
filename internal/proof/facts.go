package proof

import (
	"context"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Fact is something that a broker tells of itself on a topic that begins with $; see [topic.Told].
type Fact struct {
	What string
	// Before is what it told when the proof began, After when it had ended; "" where it told nothing by then.
	Before, After string
}

// String is the fact in words: from what to what it changed.
func (f Fact) String() string {
	switch {
	case f.Before == f.After || f.Before == "":
		return f.What + " " + f.After
	case f.After == "":
		return f.What + " " + f.Before
	}
	return f.What + " " + f.Before + " → " + f.After
}

// mostTold is how many bytes of what a broker says of itself are kept.
const mostTold = 100

// tells asks the broker what it tells of itself: by what it is, what it says. Who closes the link on it tells nothing.
func (r *runner) tells(ctx context.Context) map[string]string {
	v := packet.V311
	if _, refused := r.offer.Refused[v]; refused || !slices.Contains(r.o.Versions, v) {
		v = r.o.Versions[len(r.o.Versions)-1]
	}
	if ctx.Err() != nil || r.offer.Shut[v] != "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, arrival)
	defer cancel()
	what, filters := map[string]string{}, []packet.Subscription{}
	for _, t := range topic.Told() {
		what[t.Topic] = t.What
		filters = append(filters, packet.Subscription{Filter: t.Topic})
	}
	type telling struct{ what, value string }
	told := make(chan telling, len(what))
	opt := client.Options{
		Dial:    r.target.Dial,
		Version: v,
		Connect: packet.Connect{ClientID: r.clientID(), CleanStart: true, KeepAlive: 60},
		Message: func(m *packet.Publish) {
			select {
			case told <- telling{what[m.Topic], string(m.Payload[:min(len(m.Payload), mostTold)])}:
			default:
			}
		},
	}
	if v == packet.V5 {
		opt.Connect.Properties = packet.Properties{packet.Int(packet.SessionExpiry, 0)}
	}
	r.target.Login.Apply(&opt)
	c := client.New(opt)
	if _, err := c.Connect(ctx); err != nil {
		return nil
	}
	defer c.Disconnect(0)
	ack, err := c.Subscribe(ctx, filters)
	if err != nil || !slices.ContainsFunc(ack.Codes, func(c packet.ReasonCode) bool { return c < 0x80 }) {
		return nil
	}
	out := map[string]string{}
	quiet := time.NewTimer(quietLeast)
	defer quiet.Stop()
	for len(out) < len(what) {
		select {
		case t := <-told:
			if t.what != "" {
				out[t.what] = t.value
			}
			quiet.Reset(quietLeast) // the rest comes right after
		case <-quiet.C:
			return out
		case <-ctx.Done():
			return out
		}
	}
	return out
}

// factsOf puts together what was told before and after, in the order of [topic.Told].
func factsOf(before, after map[string]string) (out []Fact) {
	for _, t := range topic.Told() {
		if f := (Fact{t.What, strings.TrimSpace(before[t.What]), strings.TrimSpace(after[t.What])}); f.Before+f.After != "" {
			out = append(out, f)
		}
	}
	return out
}
