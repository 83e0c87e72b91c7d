package explore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof/model"
)

// read takes in what comes, until the link ends.
func (t *talk) read(p *peer) {
	r := packet.NewReader(p.link, t.version)
	r.MaxSize = client.LargestPacket
	for {
		pk, raw, err := r.Next()
		var rule *packet.Error
		if raw != nil || errors.As(err, &rule) {
			p.hooks.Received(pk, raw, err)
		}
		select {
		case t.in <- event{p, pk, err}:
		case <-t.done:
			return
		}
		if err != nil {
			return
		}
	}
}

// settle waits until what is due has come, and then until all is quiet.
func (t *talk) settle(ctx context.Context) *model.Violation {
	due := time.Now().Add(t.p.must)
	quiet := time.Now().Add(t.p.quiet)
	for {
		missing := t.missing()
		until := quiet
		if missing != nil {
			until = due
		}
		timer := time.NewTimer(time.Until(until))
		select {
		case e := <-t.in:
			timer.Stop()
			if v := t.handle(e); v != nil {
				return v
			}
			quiet = time.Now().Add(t.p.quiet)
		case <-timer.C:
			return missing
		case <-ctx.Done():
			timer.Stop()
			t.unsure = true
			return nil
		}
		if t.unsure {
			return nil
		}
	}
}

// missing tells what is due and has not come.
func (t *talk) missing() *model.Violation {
	broken := func(r *model.Rule, format string, args ...any) *model.Violation {
		return &model.Violation{Rule: r, Text: fmt.Sprintf(format, args...)}
	}
	for _, p := range t.old {
		if !p.over && p == t.peers[p.client] {
			return broken(
				&model.Ended,
				"the link of %s stays open after a packet of the forbidden type 0",
				names[p.client],
			)
		}
		if !p.over {
			return broken(
				&model.TakenOver,
				"the first link of %s stays open though another client took its identifier",
				names[p.client],
			)
		}
	}
	for _, p := range t.peers {
		switch {
		case p == nil || p.over || p.leaving:
			continue
		case !p.in:
			return broken(&model.Answered, "no CONNACK comes to %s", names[p.client])
		case len(p.subs) > 0:
			return broken(&model.Answered, "no SUBACK comes to %s", names[p.client])
		case len(p.unsubs) > 0:
			return broken(&model.Answered, "no UNSUBACK comes to %s", names[p.client])
		case p.pings > 0:
			return broken(&model.Answered, "no PINGRESP comes to %s", names[p.client])
		}
		for _, f := range t.flows[p.client] {
			if p.halting && f.stage == packet.PUBCOMP {
				continue
			}
			return broken(
				&model.Acknowledged,
				"no %s comes to %s for PUBLISH at QoS %d",
				f.stage,
				names[p.client],
				f.m.QoS,
			)
		}
	}
	return t.model.Missing()
}

// cleanUp ends the sessions and clears what is stored.
func (t *talk) cleanUp(ctx context.Context) {
	for _, p := range append(slices.Clone(t.peers), t.old...) {
		if p != nil && !p.over {
			p.leaving = true
			if p.link.End() == link.EndNone {
				raw := (&packet.Disconnect{}).Append(nil, t.version)
				p.link.Write(raw)
				p.link.Close()
			}
		}
	}
	for n := len(t.clients); n > 0; { // their readers end
		n = 0
		for _, p := range append(slices.Clone(t.peers), t.old...) {
			if p != nil && !p.over {
				n++
			}
		}
		if n == 0 {
			break
		}
		select {
		case e := <-t.in:
			if e.err != nil {
				e.p.over = true
			}
		case <-time.After(t.p.must):
			n = 0
		}
	}
	ctx, cancel := context.WithTimeout(ctx, patient.must)
	defer cancel()
	for c, id := range t.ids {
		clears := c == 0 && t.stored
		if !t.kept[c] && !clears {
			continue
		}
		o := client.Options{
			Dial:    t.target.Dial,
			Version: t.version,
			Connect: packet.Connect{ClientID: id, CleanStart: true, KeepAlive: 60},
		}
		t.target.Login.Apply(&o)
		x := client.New(o)
		if _, err := x.Connect(ctx); err != nil {
			continue
		}
		if clears {
			for i := range topics {
				x.Publish(ctx, packet.Publish{Topic: t.topic(i), QoS: 0, Retain: true})
			}
		}
		x.Disconnect(0)
	}
}
