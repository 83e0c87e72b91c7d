package subject

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/contract/rule"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// payloadRules are those that look at payloads.
func payloadRules() []*contract.Rule { return rule.All() }

// cut resets the device's link, at both ends.
func (p *pass) cut() { p.stand.Tap().CutNow(p.d.Name) }

// back is how long the device may take to come back.
func (p *pass) back() time.Duration {
	if t := p.party.Terms; t != nil && t.BackWithin > 0 {
		return t.BackWithin
	}
	return time.Minute
}

// returns awaits the device's return since the last deed.
func (p *pass) returns() (*trace.Event, error) {
	back := p.await(p.mark, p.back(), accepted)
	if back == nil {
		return nil, proof.Undecide("it did not come back within %s (see device.comes-back)", p.back())
	}
	p.decide(back)
	return back, nil
}

// again cuts the device's link, and awaits its return.
func (p *pass) again() (*trace.Event, error) {
	p.doing()
	p.cut()
	return p.returns()
}

// hello is the device's latest CONNECT; nil where none was seen.
func (p *pass) hello() *packet.Connect {
	for _, e := range slices.Backward(p.events(1)) {
		if c, is := e.Packet.(*packet.Connect); is && e.Kind == trace.Sent {
			return c
		}
	}
	return nil
}

// presence is the clause by which the device tells that it comes and goes; nil for none.
func (p *pass) presence() *contract.Clause {
	for _, cl := range p.published() {
		if cl.Presence != nil {
			return cl
		}
	}
	return nil
}

// resends: a message is not acknowledged, and the link is cut; the device has to send it again once it is back.
func resends(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	once := p.twice()
	switch proof.VerdictOf(once) {
	case proof.Unsupported:
		p.note("not seen: QoS 2 that is sent to it again: %s", strings.TrimPrefix(once.Error(), "unsupported: "))
	case proof.Kept:
	default:
		return once
	}
	if c := p.hello(); c == nil || c.CleanStart {
		const none = "it comes with clean start, which ends its session: it has nothing to send again"
		if once == nil {
			p.note("not seen: what it sends again: %s", none)
			return nil
		}
		return proof.Unsupport(none)
	}
	p.step("PUBACK and PUBREC do not reach it")
	p.doing()
	p.stand.Tap().Set(
		tap.Rule{Do: tap.Drop, Type: packet.PUBACK, Toward: tap.Device, Client: p.d.Name},
		tap.Rule{Do: tap.Drop, Type: packet.PUBREC, Toward: tap.Device, Client: p.d.Name},
	)
	lost := p.await(p.mark, mostWatch/2, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && e.Publish().QoS > 0
	})
	if lost == nil {
		return proof.Undecide("it published nothing at QoS 1 or 2 within %s", mostWatch/2)
	}
	p.wait(judging)
	p.step("its link is cut")
	p.doing()
	p.cut()
	p.stand.Tap().Set()
	back, err := p.returns()
	if err != nil {
		return err
	}
	p.decide(lost, back)
	if !back.Packet.(*packet.Connack).SessionPresent {
		return proof.Undecide("its session was gone when it came back: it has nothing to send again")
	}
	again := p.await(back.Seq, 10*time.Second, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && e.Publish().ID == lost.Publish().ID && e.Publish().QoS > 0
	})
	p.decide(again)
	switch {
	case again == nil:
		p.note(
			"to change: keep what was not acknowledged, and send it again after CONNACK with session present 1 (4.4)",
		)
		return proof.Break(
			"packet %d was not acknowledged, and is not sent again within 10 s of coming back",
			lost.Publish().ID,
		)
	case !again.Publish().Dup:
		p.note("to change: set DUP on what is sent again (3.3.1.1)")
		return proof.Break("packet %d is sent again without DUP", lost.Publish().ID)
	}
	p.tell(
		"packet %d again with DUP, %s after it was back",
		lost.Publish().ID,
		again.At.Sub(back.At).Round(time.Millisecond),
	)
	return nil
}

// subscribesAgain: its link is cut; where its session is gone when it is back, it has to subscribe again.
func subscribesAgain(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	consumes := slices.ContainsFunc(p.stand.Contract().Clauses, func(cl *contract.Clause) bool {
		return slices.Contains(cl.To, p.d.Party)
	})
	if !consumes {
		return proof.Unsupport("it consumes nothing")
	}
	p.step("its link is cut")
	back, err := p.again()
	if err != nil {
		return err
	}
	if back.Packet.(*packet.Connack).SessionPresent {
		return proof.Unsupport("the broker kept its session, and its subscriptions with it")
	}
	const within = 10 * time.Second
	e := p.await(back.Seq, within, sent(packet.SUBSCRIBE))
	if e == nil {
		p.note("to change: subscribe after each CONNACK with session present 0, not only after the first")
		return proof.Break("no SUBSCRIBE within %s of coming back to no session", within)
	}
	p.decide(e)
	p.wait(time.Second + judging) // further ones, and what the judge says of them
	if after := e.At.Sub(back.At).Round(time.Millisecond); after > 0 {
		p.tell("SUBSCRIBE %s after it was back", after)
	} else {
		p.tell("SUBSCRIBE as soon as it was back")
	}
	return nil
}

// How long a broker refuses the device, and how often at most.
const (
	refusedFor  = 10 * time.Second
	refusedMost = 40
)

// comesBack: its link is cut, and when it comes again it is refused for some time.
func comesBack(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	p.step("its link is cut")
	p.doing()
	p.cut()
	back := p.await(p.mark, p.back(), accepted)
	if back == nil {
		p.note("to change: connect again after the end of a link, within %s", p.back())
		return proof.Break("not back within %s of the end of its link", p.back())
	}
	p.decide(back)
	p.tell("back after a cut in %s", back.At.Sub(p.at).Round(time.Millisecond))
	code := packet.ReasonCode(3) // server unavailable, 3.1.1 table 3.1
	if back.Version == packet.V5 {
		code = 0x89 // server busy, 5.0 §3.2.2.2
	}
	p.step("its link is cut, and CONNECT is refused with %s for %s", code.In(packet.CONNACK, back.Version), refusedFor)
	p.doing()
	p.stand.Tap().
		Set(tap.Rule{Do: tap.Refuse, Type: packet.CONNECT, Client: p.d.Name, Code: code, For: refusedFor, Most: refusedMost})
	p.cut()
	for end := time.Now().Add(refusedFor); time.Now().Before(end) && p.wait(10*poll); {
		if p.judged(p.begun) != nil {
			break
		}
	}
	p.stand.Tap().Set()
	again := p.await(p.mark, p.back()+refusedFor, accepted)
	var tries []time.Time
	for _, e := range p.events(p.mark) {
		if sent(packet.CONNECT)(&e) && (again == nil || e.Seq < again.Seq) {
			tries = append(tries, e.At)
		}
	}
	var pauses []string
	for i := 1; i < len(tries) && i < 8; i++ {
		pauses = append(pauses, tries[i].Sub(tries[i-1]).Round(10*time.Millisecond).String())
	}
	if len(pauses) > 0 {
		p.note("pauses between its tries: %s", strings.Join(pauses, ", "))
	}
	if again == nil {
		p.note("to change: go on to try after a refusal that is over some time")
		return proof.Break("not back within %s after it was refused %s", p.back(), times(len(tries)))
	}
	p.decide(again)
	p.tell("refused %s, and back in %s", times(len(tries)-1), again.At.Sub(p.at).Round(time.Millisecond))
	if t := p.party.Terms; t == nil || t.BackWithin == 0 {
		p.note("nothing is agreed on how soon it has to be back (back-within)")
	}
	return nil
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", max(0, n))
}

func gaveItUp(e *trace.Event) bool { return e.Kind == trace.Line && e.Text == tap.GaveUp }

// pulled lets nothing through any more, as when the device's cable is pulled, and waits for the news of its loss and for the device to
// give the link up.
func (p *pass) pulled(lost bool, within time.Duration) (news *trace.Event, gaveUp time.Duration) {
	p.doing()
	p.stand.Tap().Unplug(true)
	defer p.stand.Tap().Unplug(false)
	cl := p.presence()
	end := time.Now().Add(within)
	for time.Now().Before(end) && p.ctx.Err() == nil {
		if e := p.await(p.mark, 0, gaveItUp); e != nil && gaveUp == 0 {
			gaveUp = e.At.Sub(p.at)
		}
		if cl != nil && news == nil {
			news = p.awaitAny(p.mark, 0, func(e *trace.Event) bool {
				m := e.Publish()
				return m != nil && e.Role == trace.RoleObserver && e.Kind == trace.Received &&
					p.its(cl, e.Topic()) && string(m.Payload) == cl.Presence.Lost
			})
		}
		if lost && news != nil || !lost && gaveUp > 0 {
			break
		}
		p.wait(poll)
	}
	return news, gaveUp
}

// alive is the keep alive of the device's latest CONNECT.
func (p *pass) alive() time.Duration {
	if c := p.hello(); c != nil {
		return time.Duration(c.KeepAlive) * time.Second
	}
	return 0
}

// will: its cable is pulled, and the news of its loss has to come.
func will(p *pass) error {
	cl := p.presence()
	if cl == nil {
		return proof.Unsupport("no clause of %s tells of its presence", p.d.Party)
	}
	if err := p.come(); err != nil {
		return err
	}
	if c := p.hello(); c != nil && c.Will == nil {
		p.note("to change: give CONNECT a will: %q on %s", cl.Presence.Lost, cl.Name)
		return proof.Break("it comes without a will: nobody is told when it is lost")
	}
	within := mostWatch / 2
	if alive := p.alive(); alive > 0 {
		within = alive*3/2 + 10*time.Second // §3.1.2.10: one and a half times, and some for the broker
	}
	agreed := time.Duration(0)
	if t := p.party.Terms; t != nil {
		agreed = t.LostWithin
		within = max(within, agreed+time.Second)
	}
	p.step("its cable is pulled: nothing goes in or out, and nothing is closed")
	news, _ := p.pulled(true, within)
	if news == nil && p.alive() == 0 {
		p.note("to change: come with a keep alive other than 0, so that the broker notices (3.1.2.10)")
		return proof.Break("nobody is told within %s: its keep alive is 0, so the broker does not notice", within)
	}
	if news == nil {
		return proof.Undecide(
			"nobody is told within %s of the end of its link, although its CONNECT has the will: does the broker publish wills? (see will.on-cut of its proof)",
			within,
		)
	}
	p.decide(news)
	took := news.At.Sub(p.at)
	p.tell("%q after %s", cl.Presence.Lost, took.Round(10*time.Millisecond))
	if due := p.alive()*3/2 + 5*time.Second; agreed > 0 && took > agreed && due < agreed {
		return proof.Undecide(
			"its loss is told after %s; agreed is %s, and by its keep alive of %s the broker could have told by then",
			took.Round(10*time.Millisecond),
			agreed,
			p.alive(),
		)
	} else if agreed > 0 && took > agreed {
		p.note("to change: shorten its keep alive, %s, so that its loss is told within %s", p.alive(), agreed)
		return proof.Break("its loss is told after %s; agreed is %s", took.Round(10*time.Millisecond), agreed)
	}
	return nil
}

// notices: nothing comes any more, PINGRESP neither; how long does it take until the device gives the link up?
func notices(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	agreed := time.Duration(0)
	if t := p.party.Terms; t != nil {
		agreed = t.GivesUpWithin
	}
	within := min(mostWatch, max(3*p.alive(), 20*time.Second))
	if agreed > 0 {
		within = agreed + time.Second
	}
	p.step("its link is dead: nothing comes, PINGRESP neither")
	_, took := p.pulled(false, within)
	if took == 0 && agreed > 0 {
		p.note("to change: give a link up on which PINGRESP does not come, within %s", agreed)
		return proof.Break("it held on to a dead link for %s; agreed is %s", within, agreed)
	}
	if took == 0 {
		p.note("it holds on to a dead link longer than %s; the standard only advises (3.1.2.10)", within)
		return proof.Unsupport("it did not give the link up within %s, and nothing is agreed", within)
	}
	if p.tell(
		"given up after %s, with a keep alive of %s",
		took.Round(10*time.Millisecond),
		p.alive(),
	); agreed > 0 &&
		took > agreed {
		p.note("to change: give a dead link up within %s", agreed)
		return proof.Break("given up after %s; agreed is %s", took.Round(10*time.Millisecond), agreed)
	}
	if agreed == 0 {
		p.note("nothing is agreed on how soon it gives a dead link up (gives-up-within)")
	}
	return nil
}

// goodbye: it is stopped in order.
func goodbye(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	const after = time.Second // it is heard on after DISCONNECT, though the broker closes the link
	p.stand.Tap().HearOut(after)
	defer p.stand.Tap().HearOut(0)
	p.doing()
	if err := p.stop(); err != nil {
		return err
	}
	const within = 15 * time.Second
	end := p.await(p.mark, within, ended)
	if end == nil {
		return proof.Undecide("it is still connected %s after it was stopped", within)
	}
	p.wait(judging)
	bye := p.await(p.mark, 0, sent(packet.DISCONNECT))
	p.decide(bye, end)
	if cl := p.presence(); cl != nil && cl.Presence.Leaving != "" {
		word := p.await(p.mark, 0, func(e *trace.Event) bool {
			return e.Kind == trace.Sent && e.Publish() != nil && p.its(cl, e.Topic()) &&
				string(e.Publish().Payload) == cl.Presence.Leaving
		})
		p.decide(word)
		if word == nil {
			p.note("to change: publish %q on %s before DISCONNECT", cl.Presence.Leaving, cl.Name)
			return proof.Break("it left without %q on %s", cl.Presence.Leaving, cl.Name)
		}
	}
	if bye == nil {
		p.note("to change: say DISCONNECT before the link is closed, or its will tells that it was lost (3.14)")
		return proof.Break("it closed its link without DISCONNECT")
	}
	if open := end.At.Sub(bye.At); open < after {
		p.tell("DISCONNECT, and it closed the link %s after it", open.Round(time.Millisecond))
	} else {
		p.tell("DISCONNECT, and nothing in the second after it, in which it left the closing to the broker")
	}
	err := p.come()
	p.wait(judging)
	return err
}

// refuses: the tap shows certificates that the device must not take.
func refuses(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	for _, x := range []Shown{Stranger, WrongName, Expired, SelfSigned} {
		before := p.stand.Hellos()
		if !p.stand.Show(x) {
			return proof.Unsupport("it comes without TLS")
		}
		p.step("it is shown a certificate %s", x)
		p.doing()
		p.cut()
		within := p.back() + 5*time.Second
		for end := time.Now().Add(within); p.stand.Hellos() == before && time.Now().Before(end) && p.wait(poll); {
		}
		if p.stand.Hellos() == before {
			return proof.Undecide("it did not try to come within %s", within)
		}
		if e := p.await(p.mark, 2*time.Second, sent(packet.CONNECT)); e != nil {
			p.decide(e)
			p.note("to change: verify the broker's certificate: one %s was taken", x)
			return proof.Break("CONNECT went out to whoever showed a certificate %s", x)
		}
		p.stand.Show(Sound)
		p.doing()
		if p.await(p.mark, p.back()+10*time.Second, accepted) == nil {
			return proof.Undecide("it did not come back to the right certificate after one %s", x)
		}
	}
	p.tell("no CONNECT to a stranger's certificate, one for another name, an expired or a self-signed one")
	return nil
}
