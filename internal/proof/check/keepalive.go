package check

import (
	"fmt"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

var keepalive = []*proof.Check{
	{
		Name:     "keepalive.enforced",
		Title:    "a silent client is thrown out",
		Expected: "a client with keep alive 2 s that sends nothing thrown out, 13 s after its last packet at the latest: one and a half keep alives, and 10 s",
		Sections: proof.Same(
			"3.1",
			"3.1.2.10",
		),
		Needs:    proof.Needs{Least: 2},
		Requires: []string{"keepalive.ping"},
		Run:      keepaliveEnforced,
	},
	{
		Name:     "keepalive.server-value",
		Title:    "the keep alive that the broker tells is the one it keeps to",
		Expected: "a client that sends nothing stays for the server keep alive that CONNACK tells, and is thrown out one and a half of it and 10 s after its last packet at the latest",
		Sections: proof.Sections{V5: "3.2.2.3.14"},
		Run:      keepaliveServerValue,
	},
	{
		Name:     "keepalive.any-packet",
		Title:    "any packet of a client keeps it in",
		Expected: "a client with keep alive 2 s that publishes every 1.5 s, and never sends PINGREQ, still there after 7.5 s, and served",
		Sections: proof.Same("3.1", "3.1.2.10"),
		Requires: []string{"keepalive.ping"},
		Run:      keepaliveAnyPacket,
	},
	{
		Name:     "keepalive.only-ours",
		Title:    "only what a client sends keeps it in",
		Expected: "a client with keep alive 2 s that receives a message every 500 ms, and sends nothing, thrown out within 13 s",
		Sections: proof.Same(
			"3.1",
			"3.1.2.10",
		),
		Needs:    proof.Needs{Least: 2},
		Requires: []string{"keepalive.ping"},
		Run:      keepaliveOnlyOurs,
	},
}

const (
	// shortKeepAlive is what the checks ask for, in seconds.
	shortKeepAlive = 2
	// beyondKeepAlive is what a broker may take longer than one and a half keep alives: it looks now and then.
	beyondKeepAlive = 10 * time.Second
	// longestKeepAlive is how long a server keep alive is waited for, in seconds.
	longestKeepAlive = 10
)

// silenceOf is the time after which a silent client must be gone.
func silenceOf(seconds uint32) time.Duration {
	return time.Duration(seconds)*time.Second*3/2 + beyondKeepAlive
}

// quietLink lets a link in that asks for a keep alive, and returns the one that holds and CONNECT.
func quietLink(p *proof.Pass, name string) (r *proof.Raw, seconds uint32, sent *trace.Event, err error) {
	from := p.Mark()
	p.Step("CONNECT with keep alive %d", shortKeepAlive)
	if r, err = p.Join(name, func(c *packet.Connect) { c.KeepAlive = shortKeepAlive }); err != nil {
		return nil, 0, nil, err
	}
	sent = p.Await(r, from, 0, isPacket(trace.Sent, packet.CONNECT))
	ack := p.Await(r, from, 0, isPacket(trace.Received, packet.CONNACK))
	p.Decide(sent, ack)
	seconds = shortKeepAlive
	if n, told := ack.Packet.(*packet.Connack).Properties.Int(packet.ServerKeepAlive); told {
		if seconds = n; n > longestKeepAlive || n == 0 {
			return nil, 0, nil, proof.Unsupport(
				"the broker replaces the keep alive by %d s (server keep alive, 5.0 §3.2.2.3.14), which is longer than is waited for",
				n,
			)
		}
	}
	return r, seconds, sent, nil
}

func keepaliveEnforced(p *proof.Pass) error {
	control := p.Client("control")
	if _, err := p.Enter(control); err != nil {
		return err
	}
	link, seconds, sent, err := quietLink(p, "subject")
	if err != nil {
		return err
	}
	p.Step("send nothing")
	ended := p.Ending(link, 1, silenceOf(seconds))
	if ended == nil {
		return proof.Break(
			"the client was still connected %s after its last packet, with keep alive %d s",
			silenceOf(seconds),
			seconds,
		)
	}
	p.Decide(ended)
	after := ended.At.Sub(sent.At)
	if err := forSilence(p, after, control); err != nil {
		return err
	}
	if after < time.Duration(seconds)*time.Second*3/2 {
		p.Note("the client was thrown out after %s already, before one and a half keep alives were over", short(after))
	}
	p.Saw("thrown out %s after its last packet", short(after))
	return nil
}

// forSilence rules out that a silent client's link ended for another reason: before its keep alive was over, or with that
// of a client that came before it and may be silent for longer.
func forSilence(p *proof.Pass, after time.Duration, control *proof.Client) error {
	if after < shortKeepAlive*time.Second {
		return proof.Undecide(
			"the link ended %s after its last packet, within the keep alive of %d s: that was not for its silence",
			short(after),
			shortKeepAlive,
		)
	}
	if err := p.Ping(control); err != nil {
		return proof.Undecide(
			"the link ended %s after its last packet; another client is not served any more either: %v",
			short(after),
			err,
		)
	}
	return nil
}

func keepaliveServerValue(p *proof.Pass) error {
	from := p.Mark()
	const asked = 1
	p.Step("CONNECT with keep alive %d", asked)
	link, err := p.Join("subject", func(c *packet.Connect) { c.KeepAlive = asked })
	if err != nil {
		return err
	}
	sent := p.Await(link, from, 0, isPacket(trace.Sent, packet.CONNECT))
	ack := p.Await(link, from, 0, isPacket(trace.Received, packet.CONNACK))
	p.Decide(sent, ack)
	seconds, told := ack.Packet.(*packet.Connack).Properties.Int(packet.ServerKeepAlive)
	switch {
	case !told:
		return proof.Unsupport("CONNACK tells no server keep alive")
	case seconds == 0 || seconds > longestKeepAlive:
		return proof.Unsupport("the server keep alive is %d s, which is longer than is waited for", seconds)
	}
	p.Step("send nothing, for the %d s that CONNACK tells, and on", seconds)
	ended := p.Ending(link, from, silenceOf(seconds))
	if ended == nil {
		return proof.Break(
			"the client was still connected %s after its last packet, though CONNACK says keep alive %d s",
			silenceOf(seconds),
			seconds,
		)
	}
	p.Decide(ended)
	after := ended.At.Sub(sent.At)
	if after < time.Duration(seconds)*time.Second {
		return proof.Break(
			"the client was thrown out after %s, though CONNACK says keep alive %d s",
			short(after),
			seconds,
		)
	}
	p.Saw("keep alive %d s told; thrown out %s after its last packet", seconds, short(after))
	return nil
}

func keepaliveAnyPacket(p *proof.Pass) error {
	link, seconds, _, err := quietLink(p, "subject")
	if err != nil {
		return err
	}
	pause := time.Duration(seconds) * time.Second * 3 / 4
	p.Step("publish every %s at QoS 0, and send no PINGREQ", pause)
	last, longest := time.Now(), time.Duration(0)
	for range 5 {
		p.Wait(pause)
		longest, last = max(longest, time.Since(last)), time.Now()
		if !link.Open() {
			break
		}
		if err := link.Send(p.Version, &packet.Publish{Topic: p.Topic("alive"), Payload: []byte("here")}); err != nil {
			p.Ending(link, 1, arrivalTime)
			break
		}
		p.Decide(p.Await(link, p.Mark()-1, 0, isPacket(trace.Sent, packet.PUBLISH)))
	}
	p.Wait(pause / 4)
	if longest > time.Duration(seconds)*time.Second*5/4 { // a machine under load: that is no matter of the broker
		return proof.Undecide("we let %s pass between two packets ourselves", short(longest))
	}
	if !link.Open() {
		p.Decide(p.Ending(link, 1, 0))
		return proof.Break(
			"the client was thrown out although a packet of it came every %s, with keep alive %d s",
			pause,
			seconds,
		)
	}
	from := p.Mark()
	if err := link.Send(p.Version, &packet.Pingreq{}); err != nil {
		return proof.Undecide("%v", err)
	}
	if p.Await(link, from, arrivalTime, isPacket(trace.Received, packet.PINGRESP)) == nil {
		return proof.Undecide(
			"the link is open, and PINGREQ on it is not answered: nobody can tell whether the client is in",
		)
	}
	p.Saw("still connected after %s, and served", 5*pause)
	return nil
}

func keepaliveOnlyOurs(p *proof.Pass) error {
	publisher := p.Client("publisher")
	if _, err := p.Enter(publisher); err != nil {
		return err
	}
	link, seconds, _, err := quietLink(p, "subject")
	if err != nil {
		return err
	}
	topic := p.Topic("to")
	from := p.Mark()
	p.Step("subscribe, and send nothing from then on")
	if err := link.Send(
		p.Version,
		&packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: topic}}},
	); err != nil {
		return err
	}
	if p.Await(link, from, arrivalTime, isPacket(trace.Received, packet.SUBACK)) == nil {
		return proof.Undecide("no SUBACK came")
	}
	last := p.Await(link, from, 0, isPacket(trace.Sent, packet.SUBSCRIBE))
	p.Decide(last)
	p.Step("publish to it every 500 ms")
	came := 0
	for begin := time.Now(); time.Since(begin) < silenceOf(seconds); {
		if _, _, err := p.Start(publisher, publish(topic, fmt.Sprint("to you ", came), 0, false)); err != nil {
			return err
		}
		came++
		if ended := p.Ending(link, from, 500*time.Millisecond); ended != nil {
			got := p.Messages(link, from)
			if len(got) == 0 {
				return proof.Undecide("it was thrown out before a message came")
			}
			p.Decide(got[len(got)-1], ended)
			if err := forSilence(p, ended.At.Sub(last.At), publisher); err != nil {
				return err
			}
			p.Saw("thrown out %s after its last packet, %d messages later", short(ended.At.Sub(last.At)), len(got))
			return nil
		}
	}
	if got := p.Messages(link, from); len(got) > 0 {
		p.Decide(got[len(got)-1])
		return proof.Break(
			"the client was still connected %s after its last packet, with keep alive %d s, while messages went to it",
			silenceOf(seconds),
			seconds,
		)
	}
	return proof.Undecide("no message came: QoS 0 may be lost")
}
