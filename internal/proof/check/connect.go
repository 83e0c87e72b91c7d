package check

import (
	"context"
	"errors"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var connect = []*proof.Check{
	{Name: "connect.accepted", Title: "a proper CONNECT gets in",
		Expected: "CONNACK 0, within 30 s at the latest: also with keep alive 0, and with a will",
		Sections: proof.Same("3.1, 3.2", "3.1.4"), Run: connectAccepted},
	{Name: "keepalive.ping", Title: "PINGREQ is answered",
		Expected: "PINGRESP within 5 s of PINGREQ, the first time and later",
		Sections: proof.Same("3.12, 3.13", "3.12.4"), Run: keepalivePing},
}

// What CONNACK may take before that is worth a note, and before it counts as absent.
const (
	acceptSoon = 5 * time.Second
	acceptLast = 30 * time.Second
)

func connectAccepted(p *proof.Pass) error {
	slowest := time.Duration(0)
	for _, how := range []struct {
		name, text string
		options    []proof.Option
	}{
		{"subject", "with everything in order", nil},
		{"without-keep-alive", "with keep alive 0", []proof.Option{proof.WithKeepAlive(0)}},
		{"with-will", "with a will", []proof.Option{proof.WithWill(packet.Will{Topic: p.Topic("will"), Payload: []byte("gone")})}},
	} {
		subject := p.Client(how.name, how.options...)
		p.Step("CONNECT %s", how.text)
		ack, err := p.Try(subject)
		sent := p.Await(subject, 1, 0, isPacket(trace.Sent, packet.CONNECT))
		came := p.Await(subject, 1, 0, isPacket(trace.Received, packet.CONNACK))
		p.Decide(sent, came)
		var refused *client.RefusedError
		switch {
		case errors.As(err, &refused):
			return proof.Break("CONNECT %s: %v", how.text, err)
		case err != nil:
			return unanswered(err)
		case sent == nil || came == nil || ack == nil:
			return proof.Undecide("CONNECT and CONNACK are not on the trace")
		}
		took := came.At.Sub(sent.At)
		if took > acceptLast {
			return proof.Break("CONNACK 0 came, but only after %s", took.Round(100*time.Millisecond))
		}
		slowest = max(slowest, took)
		if err := subject.Disconnect(0); err != nil {
			return proof.Undecide("%v", err)
		}
	}
	if slowest > acceptSoon {
		p.Note("CONNACK took %s: clients that give up sooner do not get in", slowest.Round(100*time.Millisecond))
	}
	p.Saw("CONNACK 0 three times, after %s at most", short(slowest))
	return nil
}

// unanswered judges a CONNECT without CONNACK: broken where the link stood and the broker
// closed it or kept silent; undecided where there was no link to begin with.
func unanswered(err error) error {
	var ended *client.EndedError
	if errors.As(err, &ended) || errors.Is(err, proof.ErrNoAnswer) {
		return proof.Break("no CONNACK: %v", err)
	}
	return proof.Undecide("no CONNECT could be sent: %v", err)
}

// short rounds a duration for people.
func short(d time.Duration) time.Duration {
	switch {
	case d > time.Second:
		return d.Round(10 * time.Millisecond)
	case d > time.Millisecond:
		return d.Round(100 * time.Microsecond)
	}
	return d.Round(time.Microsecond)
}

func keepalivePing(p *proof.Pass) error {
	subject := p.Client("subject")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	longest := time.Duration(0)
	for n := 1; n <= 3; n++ {
		from := p.Mark()
		p.Step("PINGREQ, the %s time", []string{"first", "second", "third"}[n-1])
		ctx, cancel := context.WithTimeoutCause(p.Context(), 5*time.Second, errors.New("nothing for 5 s"))
		took, err := subject.Ping(ctx)
		cancel()
		p.Decide(
			p.Await(subject, from, 0, isPacket(trace.Sent, packet.PINGREQ)),
			p.Await(subject, from, 0, isPacket(trace.Received, packet.PINGRESP)),
		)
		switch {
		case err != nil && !subject.Connected():
			return proof.Undecide("the link was lost: %v", subject.Ended())
		case err != nil:
			return proof.Break("PINGREQ %d: %v", n, err)
		}
		longest = max(longest, took)
	}
	p.Saw("three PINGRESP, after %s at most", short(longest))
	return nil
}
