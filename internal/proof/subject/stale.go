package subject

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// stale leaves an old retained command for the device's return, where commands are not to be retained: it must not act
// on it. The device is brought to another state first, so that obedience shows. The topic is cleared afterwards.
func (p *pass) stale(cl, answer *contract.Clause, before, body []byte) error {
	if cl.Retain == nil || *cl.Retain || answer == nil || before == nil || body == nil {
		return nil
	}
	p.step("an old %s is left retained", cl.Name)
	if err := p.give(cl, body, true); err != nil {
		p.note("an old retained %s could not be left: %v", cl.Name, err)
		return nil
	}
	defer func() { p.give(cl, nil, true) }()
	p.wait(settle)
	var now []byte
	for _, other := range p.others(cl, body) {
		p.doing()
		if p.give(cl, other, false) != nil {
			break
		}
		if e := p.answered(cl, answer); e != nil && !alike(answer, e.Publish().Payload, before) {
			now = e.Publish().Payload
			break
		}
	}
	if now == nil {
		p.note(
			"whether it obeys an old retained %s cannot be told: no other command brings it to another %s",
			cl.Name,
			answer.Name,
		)
		return nil
	}
	p.step("another one brought it to another %s, and its link is cut", answer.Name)
	if _, err := p.again(); err != nil {
		return err
	}
	old := p.await(p.mark, 2*settle, func(e *trace.Event) bool {
		return got(packet.PUBLISH)(e) && e.Publish().Retain && cl.Topic.Values(e.Topic()) != nil
	})
	if old == nil {
		return nil // its session was kept: nothing greets it
	}
	p.await(old.Seq, cl.Answer.Within+settle, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil &&
			alike(answer, e.Publish().Payload, before)
	})
	var last *trace.Event
	for _, e := range p.saidAfter(old.Seq) {
		if e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil {
			last = &e
		}
	}
	if last != nil && alike(answer, last.Publish().Payload, before) {
		p.decide(old, last)
		p.note("to change: do not act on %s that comes with the retain flag: it is old (3.3.1.3)", cl.Name)
		return proof.Break(
			"it obeyed an old retained %s when it came back: its %s was %s, and is %s",
			cl.Name,
			answer.Name,
			payload.Show(now, 60),
			payload.Show(last.Publish().Payload, 60),
		)
	}
	return nil
}

// answered awaits the answer to the command that was sent last; nil for none.
func (p *pass) answered(cl, answer *contract.Clause) *trace.Event {
	return p.await(p.mark, cl.Answer.Within+judging, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && answer.Topic.Values(e.Topic()) != nil
	})
}

// others are sound payloads of a clause that say something else than the one given: its other examples, and the one given
// with one field changed.
func (p *pass) others(cl *contract.Clause, body []byte) (out [][]byte) {
	offer := func(b []byte, err error) {
		const most = 4
		if err == nil && len(out) < most && !alike(cl, b, body) &&
			len(contract.Examine(p.stand.Contract(), payloadRules(), cl, b)) == 0 {
			out = append(out, b)
		}
	}
	for _, x := range cl.Examples {
		offer(x.Payload, nil)
	}
	decoded, err := cl.Payload.Code().Decode(body)
	if err != nil {
		return out
	}
	v := payload.Plain(decoded)
	object, is := v.(map[string]any)
	for _, f := range cl.Payload.Fields() {
		name := strings.TrimPrefix(f.Pointer, "/")
		if strings.Contains(name, "/") || is == (name == "") {
			continue
		}
		old := v
		if is {
			old = object[name]
		}
		for _, x := range changed(&f, old) {
			if !is {
				offer(cl.Payload.Code().Encode(x))
				continue
			}
			c := maps.Clone(object)
			c[name] = x
			if cl.Payload.Format == payload.JSON {
				offer(json.Marshal(c))
			} else {
				offer(cl.Payload.Code().Encode(c))
			}
		}
	}
	return out
}

// changed are values that a field may have in place of one.
func changed(f *contract.Field, old any) (out []any) {
	for _, text := range slices.Sorted(maps.Keys(f.Values)) {
		var v any
		if json.Unmarshal([]byte(text), &v) != nil {
			v = text
		}
		out = append(out, v)
	}
	switch x := old.(type) {
	case bool:
		out = append(out, !x)
	case float64:
		out = append(out, x+1, x-1, x/2)
	}
	return out
}
