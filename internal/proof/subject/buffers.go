package subject

import (
	"fmt"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// How long the device is kept away, at most and at least, and how long it may take to send what waited.
const (
	mostAway     = 30 * time.Second
	leastAway    = 4 * time.Second
	emptyWithin  = 10 * time.Second
	edgeOfAbsent = time.Second // a stamp may lie so far off
)

// measured is when a message says that it was measured; false where it does not say.
func measured(cl *contract.Clause, body []byte) (time.Time, bool) {
	v, err := cl.Payload.Code().Decode(body)
	if err != nil || cl.Stamp == nil {
		return time.Time{}, false
	}
	if v = payload.Plain(v); cl.Stamp.Field != "" {
		var there bool
		if v, there = payload.At(v, cl.Stamp.Field); !there {
			return time.Time{}, false
		}
	}
	return contract.TimeOf(v)
}

// buffers: it is kept away for a time in which it measures; then what it sends of that time is counted.
func buffers(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	var regular *contract.Clause
	for _, cl := range p.published() {
		if cl.Every.Period > 0 && cl.Stamp != nil && (regular == nil || cl.Every.Period < regular.Every.Period) {
			regular = cl
		}
	}
	if regular == nil {
		return proof.Unsupport(
			"none of its clauses comes regularly and tells its time (stamped): what is old cannot be told from what is new",
		)
	}
	slowest := regular.Every.Period + regular.Every.Tolerance
	away := max(leastAway, 3*slowest)
	agreed := (*time.Duration)(nil)
	if t := p.party.Terms; t != nil {
		agreed = t.Buffers
	}
	if agreed != nil && *agreed > 0 {
		away = min(away, *agreed)
	}
	if away > mostAway {
		away = mostAway
	}
	p.doing()
	now := p.await(p.mark, slowest+time.Second, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && regular.Topic.Values(e.Topic()) != nil
	})
	if now == nil {
		return proof.Undecide(
			"no %s in %s: nothing could be missed (see device.speaks)",
			regular.Name,
			slowest+time.Second,
		)
	}
	told, ok := measured(regular, now.Publish().Payload)
	if off := now.At.Sub(told); !ok || off > away/4 || off < -away/4 {
		return proof.Undecide(
			"%s does not tell the time when it was measured (see device.speaks): what is old cannot be told",
			regular.Name,
		)
	}
	p.step("it is kept away for %s: its link is cut, and nobody answers", away)
	p.doing()
	cut := time.Now()
	p.stand.Tap().KeepOut(true)
	p.wait(away)
	p.stand.Tap().KeepOut(false)
	open := time.Now()
	back, err := p.returns()
	if err != nil {
		return err
	}
	var old []trace.Event
	for end := time.Now().Add(emptyWithin); time.Now().Before(end) && p.wait(10*poll); {
		old = nil
		for _, e := range p.saidAfter(back.Seq) {
			if m := e.Publish(); m != nil && !m.Dup && regular.Topic.Values(e.Topic()) != nil {
				at, ok := measured(regular, m.Payload)
				if ok && at.After(cut.Add(edgeOfAbsent)) && at.Before(open.Add(-edgeOfAbsent/2)) {
					old = append(old, e)
				}
			}
		}
	}
	return p.buffered(regular, old, away, slowest, agreed)
}

// buffered holds what came of the time without a connection to what is agreed.
func (p *pass) buffered(
	cl *contract.Clause,
	old []trace.Event,
	away, slowest time.Duration,
	agreed *time.Duration,
) error {
	came := fmt.Sprintf("%d of %s that it measured while it was away for %s", len(old), cl.Name, away)
	if len(old) > 0 {
		p.decide(&old[0], &old[len(old)-1])
	}
	least := int((away-edgeOfAbsent*3/2)/slowest) - 1
	switch {
	case agreed == nil:
		p.note("nothing is agreed on what it measured while it was away (buffers)")
	case *agreed == 0 && len(old) > 0:
		p.note("to change: drop what was measured while it was away")
		return proof.Break("%s; agreed is that nothing of it comes", came)
	case *agreed > 0 && len(old) < least:
		p.note(
			"to change: keep what was measured while it was away, for %s at least, and publish it when it is back",
			*agreed,
		)
		return proof.Break("%s; by its cadence it should be %d at least", came, least)
	case *agreed > 0 && least < 1:
		return proof.Undecide("%s; %s is too short a time for one that comes every %s", came, away, cl.Every)
	}
	p.tell("%s", came)
	return nil
}

// twice: a command at QoS 2 is sent again under the same packet identifier before it was released: it acts once (4.3.3).
func (p *pass) twice() error {
	c := p.hello()
	if c == nil || c.Level == packet.V5 {
		return proof.Unsupport("in version 5 nothing is sent again on the same connection")
	}
	for _, cl := range p.taken() {
		if cl.Answer == nil || cl.QoS == nil || *cl.QoS != 2 {
			continue
		}
		answer := p.stand.Contract().Clause(cl.Answer.Clause)
		body, err := command(cl)
		if err != nil {
			continue
		}
		window := cl.Answer.Within + settle
		plain, e := p.counted(cl, answer, body, window)
		if e == nil || e.Publish().QoS != 2 {
			return proof.Unsupport("%s does not come to it at QoS 2", cl.Name)
		}
		if plain != 1 {
			return proof.Unsupport("it answers %s %s: whether it acts once cannot be told", cl.Name, times(plain))
		}
		p.step("%s at QoS 2 comes twice under one packet identifier, the second with DUP", cl.Name)
		p.stand.Tap().Set(
			tap.Rule{
				Do:     tap.Repeat,
				Type:   packet.PUBLISH,
				Toward: tap.Device,
				Topic:  cl.Topic.Fill(p.d.Params),
				Times:  2,
				Dup:    true,
			},
			// The broker did not send it twice: it is answered once.
			tap.Rule{Do: tap.Drop, Type: packet.PUBREC, Toward: tap.Broker, Nth: 2},
		)
		n, e := p.counted(cl, answer, body, window)
		p.stand.Tap().Set()
		p.decide(e)
		again := p.await(
			p.mark,
			0,
			func(x *trace.Event) bool { return got(packet.PUBLISH)(x) && x.Publish().Dup && x.Publish().QoS == 2 },
		)
		if p.decide(again); again == nil {
			return proof.Undecide("%s did not come to it twice", cl.Name)
		}
		recs := 0
		for _, x := range p.events(p.mark) {
			if r, is := x.Packet.(*packet.Pubrec); is && x.Kind == trace.Sent && r.ID == again.Publish().ID {
				recs++
			}
		}
		switch {
		case n > 1:
			p.note("to change: act on a message at QoS 2 once, until PUBREL releases its packet identifier (4.3.3)")
			return proof.Break("one %s at QoS 2 that was sent again was answered %s", cl.Name, times(n))
		case recs < 2:
			p.note("to change: answer each PUBLISH at QoS 2 by PUBREC, one that is sent again too (4.3.3)")
			return proof.Break("%s was sent twice at QoS 2, and PUBREC came %s", cl.Name, times(recs))
		case n == 0:
			return proof.Undecide("%s that was sent twice was not answered", cl.Name)
		}
		p.tell("%s at QoS 2 sent again acted once", cl.Name)
		return nil
	}
	return proof.Unsupport("no command with an answer goes to it at QoS 2")
}

// counted sends a command, and counts the answers within a time; e is the command as it came to the device.
func (p *pass) counted(cl, answer *contract.Clause, body []byte, window time.Duration) (n int, e *trace.Event) {
	p.doing()
	if p.give(cl, body, false) != nil {
		return 0, nil
	}
	p.wait(window)
	for _, x := range p.events(p.mark) {
		switch m := x.Publish(); {
		case m == nil:
		case x.Kind == trace.Sent && answer.Topic.Values(x.Topic()) != nil:
			n++
		case x.Kind == trace.Received && e == nil && cl.Topic.Values(x.Topic()) != nil:
			e = &x
		}
	}
	return n, e
}
