package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks of how a broker takes what breaks a rule.
var failures = []*proof.Check{
	{
		Name:      "error.malformed",
		Title:     "packets that break a rule end the connection",
		Intrusive: true,
		Expected:  "the link closed for each of some forty packets, one link each, with no answer but a refusing CONNACK or DISCONNECT; another client stays and is served",
		Sections: proof.Sections{
			V311: "1.5.3, 2.2.2, 2.2.3, 2.3.1, 3.3.1.2, 4.8",
			V5:   "1.5.4, 1.5.5, 2.1.3, 2.2.1, 2.2.2.2, 4.13.1",
		},
		Needs:    proof.Needs{Least: 2, Wants: 25},
		Requires: []string{"keepalive.ping"},
		Run:      errorMalformed,
	},
	{
		Name:     "error.unknown-release",
		Title:    "PUBREL for nothing is answered",
		Expected: "PUBCOMP for a PUBREL whose packet identifier the broker does not know, in version 5 with 0x92 (told if not)",
		Sections: proof.Same(
			"3.6",
			"4.3.3",
		),
		Needs:    proof.Needs{Least: 1, QoS: 2},
		Requires: []string{"qos2.once"},
		Run:      errorUnknownRelease,
	},
}

func errorMalformed(p *proof.Pass) error {
	witness := p.Client("witness")
	if _, err := p.Enter(witness); err != nil {
		return err
	}
	since := p.Mark()
	for range 12 {
		if err := p.Ping(witness); err != nil {
			return err
		}
	}
	topic, err := unheard(p)
	if err != nil {
		return err
	}
	var rows []malformed
	for _, r := range malformedPackets {
		if r.section(p.Version) != "" {
			rows = append(rows, r)
		}
	}
	m := &breaker{p: p, topic: topic, room: max(1, p.Room()-1)}
	defer m.close()
	for len(rows) > 0 {
		if rows, err = m.open(rows); err != nil {
			return err
		}
		m.judge(promptTime)
		if len(rows) == 0 || len(m.links) == m.room {
			m.judge(acceptTime)
		}
		if err := p.Ping(witness); err != nil || !witness.Connected() {
			m.decide(m.sound)
			p.Decide(p.Ending(witness, since, 0))
			return proof.Break("another client was not served any more: %v", err)
		}
	}
	if len(m.wrong) > 0 {
		m.decide(m.unsound)
		return proof.Break("%s", strings.Join(m.wrong, "; "))
	}
	m.decide(m.sound)
	p.Saw("the link was closed for all %d, and another client stayed", m.tried)
	return nil
}

// unheard is a topic that no wildcard of others reaches, where the broker lets clients use such: what a tolerant broker
// passes on must harm nobody.
func unheard(p *proof.Pass) (string, error) {
	link, err := p.Join("control")
	if err != nil {
		return "", err
	}
	defer p.Wait(noticed)
	defer link.Close()
	topic := "$" + p.Topic("t")
	p.Step("a sound message to a topic that begins with $, as a control")
	from := p.Mark()
	m := publish(topic, "sound", 0, false)
	if err := link.Send(p.Version, &m, &packet.Pingreq{}); err != nil {
		return "", err
	}
	if p.Await(link, from, arrivalTime, isPacket(trace.Received, packet.PINGRESP)) == nil {
		p.Note("the broker ends the link on topics that begin with $: others are used")
		return p.Topic("t"), nil
	}
	return topic, nil
}

// promptTime is how long the links just opened are waited for before others take the places of those that were closed.
// What is still open then keeps its place, and is waited for in full.
const promptTime = time.Second

// breaker sends each malformed packet over a link of its own, as many at a time as there is room for, and tells which
// links were not closed.
type breaker struct {
	p     *proof.Pass
	topic string
	room  int
	links []*broken // that have not been judged
	wrong []string
	tried int
	// What decides: where something is wrong, only that.
	sound, unsound []func()
}

func (m *breaker) decide(some []func()) {
	for _, d := range some {
		d()
	}
}

// broken is a link over which a malformed packet went.
type broken struct {
	malformed
	link *proof.Raw
	from uint64
	sent time.Time
}

// open sends the first of the rows, as many as there is room for, and returns those that are left.
func (m *breaker) open(rows []malformed) ([]malformed, error) {
	for len(rows) > 0 && len(m.links) < m.room {
		r := rows[0]
		open := func(name string) (*proof.Raw, error) { return m.p.Join(name) }
		if r.connect {
			open = m.p.Raw
		}
		link, err := open(r.name)
		if err != nil {
			return nil, err
		}
		rows = rows[1:]
		bytes := r.bytes(&maker{v: m.p.Version, topic: m.topic, hello: m.p.Hello(link).Append(nil, m.p.Version)})
		if bytes == nil {
			link.Close()
			continue
		}
		m.links = append(m.links, &broken{malformed: r, link: link, from: m.p.Mark(), sent: time.Now()})
		m.p.Step("%s", r.name)
		if err := link.Write(bytes); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

// judge waits for each link to be closed, for no longer than most since the packet went out, and keeps those that may
// still be.
func (m *breaker) judge(most time.Duration) {
	slices.SortStableFunc(m.links, func(a, b *broken) int { return flag(a.connect) - flag(b.connect) })
	left := m.links[:0]
	for _, l := range m.links {
		limit := arrivalTime
		if l.connect { // a slow broker is slow
			limit = acceptTime
		}
		within := max(0, min(limit, most)-time.Since(l.sent))
		if most < limit && rejected(m.p, l.link, l.from, within) == nil {
			left = append(left, l)
			continue
		}
		m.tried++
		var err error
		decide := m.p.Aside(func() { _, err = rejects(m.p, l.link, l.from, within, l.name) })
		if err != nil && !l.advice {
			m.unsound = append(m.unsound, decide)
		} else {
			m.sound = append(m.sound, decide)
		}
		why := ""
		if err != nil {
			why = fmt.Sprintf("%s (§%s)", strings.TrimPrefix(err.Error(), "broken: "), l.section(m.p.Version))
		}
		switch {
		case err != nil && l.advice:
			m.p.Note("%s", why)
		case err != nil:
			m.wrong = append(m.wrong, why)
		}
		l.link.Close()
	}
	m.links = left
	m.p.Wait(noticed)
}

// close ends what is still open.
func (m *breaker) close() {
	for _, l := range m.links {
		l.link.Close()
	}
}

func errorUnknownRelease(p *proof.Pass) error {
	subject := p.Client("subject")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	const never = 50_000
	from := p.Mark()
	p.Step("PUBREL for packet identifier %d, which no PUBLISH had", never)
	if err := subject.Send(&packet.Pubrel{Ack: packet.Ack{ID: never}}); err != nil {
		return proof.Undecide("%v", err)
	}
	comp := again(p, subject, from, packet.PUBCOMP, never)
	p.Decide(p.Await(subject, from, 0, isPacket(trace.Sent, packet.PUBREL)), comp)
	if comp == nil {
		if end := p.Ending(subject, from, 0); end != nil {
			p.Decide(end)
			return proof.Break("the link was closed in place of PUBCOMP: %s", end.Text)
		}
		return proof.Break("no PUBCOMP within 5 s")
	}
	if code := comp.Packet.(*packet.Pubcomp).Code; p.Version == packet.V5 && code != packet.PacketIDNotFound {
		p.Note("PUBCOMP says %s, not 0x92", code.Code(packet.PUBCOMP, p.Version))
	}
	p.Saw("PUBCOMP")
	return nil
}
