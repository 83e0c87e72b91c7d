package subject

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/proof"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
)

// obeyed is a command that the device answers, for checks that need to see that it understood.
type obeyed struct {
	clause, answer *contract.Clause
	body           []byte
}

// answering finds a command that the device answers now.
func (p *pass) answering() (found obeyed, some bool) {
	for _, cl := range p.taken() {
		if cl.Answer == nil {
			continue
		}
		some = true
		answer := p.stand.Contract().Clause(cl.Answer.Clause)
		if state, body := p.state(cl, answer); state != nil {
			return obeyed{cl, answer, body}, true
		}
	}
	return obeyed{}, some
}

// underTap is how much longer an answer may take when the tap delivers what was asked in pieces.
const underTap = 3 * time.Second

// obeys sends a command, and tells whether the device answers.
func (p *pass) obeys(o obeyed, body []byte) bool {
	p.doing()
	if p.give(o.clause, body, false) != nil {
		return false
	}
	e := p.await(p.mark, o.clause.Answer.Within+underTap, func(e *trace.Event) bool {
		return e.Kind == trace.Sent && e.Publish() != nil && o.answer.Topic.Values(e.Topic()) != nil
	})
	p.decide(e)
	return e != nil
}

// These are how the tap delivers what comes for the device. The standard has packets follow each other in a stream of
// bytes, cut wherever the network likes (§4.2).
var (
	byteByByte = tap.Rule{Do: tap.Split, Toward: tap.Device}
	inOnePiece = tap.Rule{Do: tap.Gather, Type: packet.PUBLISH, Toward: tap.Device, Times: gathered, By: time.Second}
)

// gathered is how many commands come in one piece.
const gathered = 5

// frames: what comes for the device is cut up and joined, and lengthened.
func frames(p *pass) error {
	if err := p.come(); err != nil {
		return err
	}
	o, some := p.answering()
	switch {
	case some && o.clause == nil:
		return proof.Undecide("it answers no command as it is (see device.answers)")
	case !some:
		return p.quietFrames()
	}
	p.step("what comes for it comes byte by byte")
	p.stand.Tap().Set(byteByByte)
	if !p.obeys(o, o.body) {
		return p.misread(o, "comes byte by byte")
	}
	p.step("its link is cut, and CONNACK and all that follows comes byte by byte")
	if _, err := p.again(); err != nil {
		return err
	}
	p.subscribed()
	p.wait(settle) // SUBACK is still on its way, byte by byte
	if !p.obeys(o, o.body) {
		return p.misread(o, "comes byte by byte, from CONNACK on")
	}
	p.stand.Tap().Set()
	told := []string{"byte by byte"}
	joined, err := p.joined(o)
	if err != nil {
		return err
	}
	if joined {
		told = append(told, "several in one piece")
	}
	long, err := p.long(o)
	if err != nil {
		return err
	}
	told = append(told, long...)
	p.tell("understood: %s", strings.Join(told, ", "))
	return nil
}

// misread ends the check with what the device did not understand, after ruling out that it answers nothing any more
// whatever comes.
func (p *pass) misread(o obeyed, how string) error {
	why := "it does not answer " + o.clause.Name + " that " + how
	if e := p.await(p.mark, 0, ended); e != nil {
		p.decide(e)
		why += fmt.Sprintf("; its link ended: %s", e.Text)
	}
	arrived := p.await(p.mark, 0, func(e *trace.Event) bool {
		return got(packet.PUBLISH)(e) && o.clause.Topic.Values(e.Topic()) != nil
	})
	if p.decide(arrived); arrived == nil && p.await(p.mark, 0, got(packet.CONNACK)) == nil && p.in() {
		return proof.Undecide("%s did not reach it", o.clause.Name)
	}
	p.stand.Tap().Set()
	p.note(
		"to change: read packets from a stream of bytes: by their remaining length, however they were cut up or joined (2.1.4, 4.2)",
	)
	return proof.Break("%s", why)
}

// joined delivers several commands in one piece; false where the broker does not send so many at once.
func (p *pass) joined(o obeyed) (bool, error) {
	p.step("%d %s come in one piece", gathered, o.clause.Name)
	p.stand.Tap().Set(inOnePiece)
	defer p.stand.Tap().Set()
	p.doing()
	for range gathered {
		if err := p.give(o.clause, o.body, false); err != nil {
			return false, proof.Undecide("%s could not be published: %v", o.clause.Name, err)
		}
	}
	var came, acked []uint16
	for end := time.Now().Add(underTap + 2*time.Second); time.Now().Before(end) && p.wait(poll); {
		if came, acked = p.flows(o.clause); len(came) >= gathered && len(acked) >= gathered {
			break
		}
	}
	if len(came) < gathered { // it comes at QoS 0, or the broker waits for each acknowledgement
		p.note("not seen: several packets in one piece, for they do not come to it so at QoS 1 or 2")
		return false, nil
	}
	if len(acked) < len(came) {
		for _, e := range p.events(p.mark) {
			if got(packet.PUBLISH)(&e) {
				p.decide(&e)
			}
		}
		p.note("to change: go on to read what came in the same piece: by each packet's remaining length (2.1.4, 4.2)")
		return false, proof.Break("of %d %s in one piece it acknowledged %d", len(came), o.clause.Name, len(acked))
	}
	return true, nil
}

// flows are the packet identifiers of a clause's messages that came to the device since the last deed, and of those that
// it acknowledged.
func (p *pass) flows(cl *contract.Clause) (came, acked []uint16) {
	for _, e := range p.events(p.mark) {
		switch q := e.Packet.(type) {
		case *packet.Publish:
			if e.Kind == trace.Received && q.QoS > 0 && !q.Dup && cl.Topic.Values(e.Topic()) != nil {
				came = append(came, q.ID)
			}
		case *packet.Puback:
			if e.Kind == trace.Sent {
				acked = append(acked, q.ID)
			}
		case *packet.Pubrec:
			if e.Kind == trace.Sent {
				acked = append(acked, q.ID)
			}
		}
	}
	return came, acked
}

// long delivers commands whose remaining length takes two and three bytes; JSON has room for blanks that mean nothing.
func (p *pass) long(o obeyed) (told []string, err error) {
	most := o.clause.Payload.MaxSize
	if t := p.party.Terms; t != nil && t.MaxPacket > 0 && (most == 0 || t.MaxPacket < most) {
		most = t.MaxPacket - 64
	}
	if c := p.hello(); c != nil {
		if n, is := c.Properties.Int(packet.MaximumPacketSize); is && (most == 0 || int(n) < most) {
			most = int(n) - 64
		}
	}
	for _, size := range []int{300, 17_000} {
		bytesOf := map[int]string{300: "two", 17_000: "three"}[size]
		switch {
		case o.clause.Payload.Format != payload.JSON:
			p.note(
				"not seen: a remaining length of %s bytes, for %s is no JSON, which could be filled up with blanks",
				bytesOf,
				o.clause.Name,
			)
			continue
		case most > 0 && size > most || size > 1<<14 && most == 0:
			p.note(
				"not seen: a remaining length of %s bytes, for it is not agreed that it takes packets so large",
				bytesOf,
			)
			continue
		}
		p.step("%s with blanks, so that its remaining length takes %s bytes", o.clause.Name, bytesOf)
		body := append(slices.Clone(o.body), bytes.Repeat([]byte{' '}, size-len(o.body))...)
		if !p.obeys(o, body) {
			return nil, p.misread(o, "has a remaining length of "+bytesOf+" bytes")
		}
		told = append(told, "a remaining length of "+bytesOf+" bytes")
	}
	return told, nil
}

// quietFrames is for a device that takes no commands: it has to come in, and to stay, while all comes byte by byte.
func (p *pass) quietFrames() error {
	p.step("its link is cut, and what comes for it comes byte by byte")
	p.stand.Tap().Set(byteByByte)
	back, err := p.again()
	if err != nil {
		return err
	}
	watch := min(mostHeed, max(leastWatch, 2*p.alive()))
	spoke := func() bool { return len(messages(p.saidAfter(back.Seq))) > 0 }
	for end := time.Now().Add(watch); time.Now().Before(end) && p.wait(poll); {
		if e := p.await(back.Seq, 0, ended); e != nil && !spoke() {
			p.decide(e)
			p.note(
				"to change: read packets from a stream of bytes: by their remaining length, however they were cut up (2.1.4, 4.2)",
			)
			return proof.Break("with CONNACK byte by byte its link ended before it published anything: %s", e.Text)
		}
	}
	if !spoke() {
		return proof.Undecide(
			"it published nothing in %s, and takes no commands: nothing shows whether it understood",
			watch,
		)
	}
	p.tell("it came in, and published, while CONNACK and what followed came byte by byte; it takes no commands")
	return nil
}
