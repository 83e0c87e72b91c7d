package subject

import (
	"bytes"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/payload"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// survives: whatever comes on the topics of its commands, it stays in, and says nothing of another state.
func survives(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	tried := 0
	for _, cl := range p.taken() {
		most := 1 << 20
		if p.party.Terms != nil && p.party.Terms.MaxPacket > 0 {
			most = p.party.Terms.MaxPacket
		}
		if cl.Payload.MaxSize > 0 {
			most = min(most, 4*cl.Payload.MaxSize)
		}
		var answer *contract.Clause
		if cl.Answer != nil {
			answer = p.stand.Contract().Clause(cl.Answer.Clause)
		}
		// How things stand: the answer to a sound command.
		before, body := p.state(cl, answer)
		if again, _ := p.state(cl, answer); before != nil && !alike(answer, before, again) {
			p.note("%s changes by itself: that odd messages change it cannot be seen", answer.Name)
			before = nil
		}
		for _, x := range oddities(cl, most) {
			if cl.Payload.Format == payload.Text && len(cl.Payload.Values) == 0 && len(x.body) > 0 {
				continue // any text is a command
			}
			if len(contract.Examine(p.stand.Contract(), payloadRules(), cl, x.body)) == 0 {
				continue // this one is sound
			}
			tried++
			p.step("%s: %s", cl.Name, x.name)
			p.doing()
			if err := p.give(cl, x.body, false); err != nil {
				return proof.Undecide("%s could not be published: %v", x.name, err)
			}
			if e := p.await(p.mark, settle, func(e *trace.Event) bool { return ended(e) }); e != nil {
				p.decide(e)
				p.note("to change: leave %s on %s alone, and stay connected", x.name, cl.Name)
				return proof.Break("it left after %s on %s: %s", x.name, cl.Name, e.Text)
			}
			if e := p.changed(cl, answer, before, x.body); e != nil {
				p.decide(e)
				p.note("to change: let %s on %s change nothing", x.name, cl.Name)
				return proof.Break(
					"after %s on %s its state was %s",
					x.name,
					cl.Name,
					payload.Show(e.Publish().Payload, 60),
				)
			}
		}
		if err := p.stale(cl, answer, before, body); err != nil {
			return err
		}
		if answer == nil || before == nil {
			continue
		}
		p.step("a sound %s again", cl.Name)
		if after, _ := p.state(cl, answer); after == nil {
			p.note("to change: go on to obey %s after what it does not understand", cl.Name)
			return proof.Break("it does not answer a sound %s any more", cl.Name)
		}
	}
	if tried == 0 {
		return proof.Unsupport("it consumes nothing that could be wrong")
	}
	p.tell("%d odd messages, and it stayed in, its state unchanged", tried)
	return nil
}

// settle is how long an odd message may take to show.
const settle = 400 * time.Millisecond

// state sends a sound command, and returns what the device answers; nil where it does not, or nothing is agreed.
func (p *pass) state(cl, answer *contract.Clause) (state, body []byte) {
	body, err := command(cl)
	if answer == nil || err != nil {
		return nil, body
	}
	p.doing()
	if p.give(cl, body, false) != nil {
		return nil, body
	}
	e := p.await(p.mark, cl.Answer.Within+judging, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil
	})
	if e == nil {
		return nil, body
	}
	return e.Publish().Payload, body
}

// changed is what the device says of another state than before, since the last deed; nil for nothing, and where somebody
// else sent it a command meanwhile.
func (p *pass) changed(cl, answer *contract.Clause, before, ours []byte) (found *trace.Event) {
	if answer == nil || before == nil {
		return nil
	}
	for _, e := range p.events(p.mark) {
		m := e.Publish()
		switch {
		case m == nil:
		case e.Kind == trace.Received && slices.Contains(p.consumes(e.Topic()), p.d.Party) &&
			!(cl.Topic.Values(e.Topic()) != nil && bytes.Equal(m.Payload, ours)):
			p.note("somebody else sent it %s meanwhile: its state is not compared", e.Topic())
			return nil
		case found == nil && e.Kind == trace.Sent && answer.Topic.Values(e.Topic()) != nil && !alike(answer, m.Payload, before):
			found = &e
		}
	}
	return found
}

// consumes are the parties that consume what comes on a topic.
func (p *pass) consumes(topic string) []string {
	if cl, _ := p.stand.Contract().Find(topic); cl != nil {
		return cl.To
	}
	return nil
}

// alike tells whether two payloads of a clause say the same, but for the time at which they say it.
func alike(cl *contract.Clause, a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	without := func(body []byte) any {
		v, err := cl.Payload.Code().Decode(body)
		fields, is := payload.Plain(v).(map[string]any)
		if err != nil || !is {
			return string(body)
		}
		for _, f := range cl.Payload.Fields() {
			if strings.HasSuffix(f.Type, "date-time") || cl.Stamp != nil && f.Pointer == cl.Stamp.Field {
				delete(fields, f.Name)
			}
		}
		return fields
	}
	return contract.Compact(without(a)) == contract.Compact(without(b))
}
