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
		Needs:    proof.Needs{Least: 2, Most: 25},
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
	var wrong []string
	tried := 0
	for some := range slices.Chunk(rows, max(1, p.Room()-1)) {
		bad, n, err := tryMalformed(p, topic, some)
		if err != nil {
			return err
		}
		wrong, tried = append(wrong, bad...), tried+n
		if err := p.Ping(witness); err != nil || !witness.Connected() {
			p.Decide(p.Ending(witness, since, 0))
			return proof.Break("another client was not served any more: %v", err)
		}
	}
	if len(wrong) > 0 {
		return proof.Break("%s", strings.Join(wrong, "; "))
	}
	p.Saw("the link was closed for all %d, and another client stayed", tried)
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

// tryMalformed opens a link for each packet, sends them, and says where the link was not closed.
func tryMalformed(p *proof.Pass, topic string, rows []malformed) (wrong []string, tried int, err error) {
	type try struct {
		malformed
		link *proof.Raw
		from uint64
	}
	var tries []*try
	defer func() {
		for _, t := range tries {
			t.link.Close()
		}
		p.Wait(noticed)
	}()
	for _, r := range rows {
		open := func(name string) (*proof.Raw, error) { return p.Join(name) }
		if r.connect {
			open = p.Raw
		}
		link, err := open(r.name)
		if err != nil {
			return nil, 0, err
		}
		m := &maker{v: p.Version, topic: topic, hello: p.Hello(link).Append(nil, p.Version)}
		bytes := r.bytes(m)
		if bytes == nil {
			link.Close()
			continue
		}
		tries = append(tries, &try{malformed: r, link: link, from: p.Mark()})
		p.Step("%s", r.name)
		if err := link.Write(bytes); err != nil {
			return nil, 0, err
		}
	}
	slices.SortStableFunc(tries, func(a, b *try) int { return flag(a.connect) - flag(b.connect) })
	begun := time.Now()
	for _, t := range tries {
		within := arrivalTime
		if t.connect { // a slow broker is slow
			within = acceptTime
		}
		_, err := rejects(p, t.link, t.from, max(0, within-time.Since(begun)), t.name)
		switch {
		case err != nil && t.advice:
			p.Note("%s (§%s)", strings.TrimPrefix(err.Error(), "broken: "), t.section(p.Version))
		case err != nil:
			wrong = append(
				wrong,
				fmt.Sprintf("%s (§%s)", strings.TrimPrefix(err.Error(), "broken: "), t.section(p.Version)),
			)
		}
	}
	return wrong, len(tries), nil
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
