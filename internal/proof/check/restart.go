package check

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The checks over a restart of the broker, in order and killed. The standard does not demand that anything survives it
// (3.1.1 §4.1, 5.0 §4.1): broken is only what the contract says must survive; else it is told.
var restarts = []*proof.Check{
	{
		Name:     "restart.retained",
		Title:    "stored messages over a restart",
		Alone:    true,
		Expected: "a stored message greets a newcomer after the broker was restarted, in order and killed, where a retained clause has survives-restart; else it is told whether it does",
		Sections: theContract,
		Needs:    proof.Needs{Least: 3, QoS: 1, Retained: true},
		Requires: append(stores, "retain.owner-gone", "session.kept"),
		Run:      restartRetained,
	},
	{
		Name:     "restart.session",
		Title:    "kept sessions and what waits for them over a restart",
		Alone:    true,
		Expected: "a kept session goes on after the broker was restarted, in order and killed, with what waited, where a clause that is not retained has survives-restart; else it is told whether it does",
		Sections: theContract,
		Needs:    proof.Needs{Least: 3, QoS: 1, Sessions: true},
		Requires: []string{"session.kept", "session.present", "qos1.resend"},
		Run:      restartSession,
	},
	{
		Name:     "restart.in-flight",
		Title:    "what is not acknowledged over a restart",
		Alone:    true,
		Expected: "a message that was sent to a client and not acknowledged comes again after the broker was restarted, in order and killed, where a clause that is not retained has survives-restart; else it is told whether it does",
		Sections: theContract,
		Needs:    proof.Needs{Least: 3, QoS: 1, Sessions: true},
		Requires: []string{"qos1.resend"},
		Run:      restartInFlight,
	},
}

// survival is what came of one restart: whether each is still there, and the events that show it; nil where it could
// not be tried.
type survival struct {
	how                               string // "in order", "killed"
	retained, session, waited, flight bool
	stored, came, again, ack          *trace.Event
}

// survivals are what came of both restarts, found out once for the checks that ask.
func survivals(p *proof.Pass) ([]*survival, error) {
	restart := p.Restart()
	switch {
	case restart == nil:
		return nil, proof.Skip(
			"nobody can restart the broker: a stand-in can, a command of the workspace (restart: on the broker), or a person who is asked",
		)
	case !p.MayRestart():
		return nil, proof.Skip("it restarts the broker, which throws everybody out: --restart runs it")
	}
	return proof.Share(p, "restarts", func() (out []*survival, err error) {
		for _, killed := range []bool{false, true} {
			s, err := restarted(p, killed)
			if err != nil {
				return nil, err
			}
			out = append(out, s)
		}
		return out, nil
	})
}

// restarted leaves a stored message, a kept session with a message that waits, and one with a message that is not
// acknowledged, and looks what is there after a restart.
func restarted(p *proof.Pass, killed bool) (*survival, error) {
	s := &survival{how: map[bool]string{false: "in order", true: "killed"}[killed]}
	tag := strings.ReplaceAll(s.how, " ", "")
	stored, waits, flies := p.Topic(tag, "stored"), p.Topic(tag, "waits"), p.Topic(tag, "flies")
	p.Forget(stored)
	publisher := p.Client("publisher, to be " + s.how)
	away := p.Client("away "+s.how, proof.KeepSession)
	slow := p.Client("slow "+s.how, proof.KeepSession)
	if err := p.ConnectAll(publisher, away, slow); err != nil {
		return nil, err
	}
	p.Step("leave a stored message, one that waits for a kept session, and one that is not acknowledged")
	if err := granted(p, away, waits, 1); err != nil {
		return nil, err
	}
	if err := granted(p, slow, flies, 1); err != nil {
		return nil, err
	}
	away.Disconnect(0)
	slow.Lose(packet.PUBLISH)
	from := p.Mark()
	for _, m := range []packet.Publish{publish(stored, "stored", 1, true), publish(waits, "waited", 1, false), publish(flies, "flew", 1, false)} {
		if m.Retain && !p.Stores() {
			continue
		}
		if _, err := p.Publish(publisher, m); err != nil {
			return nil, err
		}
	}
	if p.AwaitMessage(slow, from, flies, "flew") == nil {
		return nil, proof.Undecide("the message that is to be left unacknowledged does not come")
	}
	p.Step("the broker is restarted, %s", s.how)
	if err := p.Restart()(p.Context(), killed); err != nil {
		return nil, proof.Undecide("the broker was not restarted: %v", err)
	}
	slow.Lose(0)
	p.Step("all come back")
	for _, back := range []*proof.Client{away, slow} {
		from := p.Mark()
		ack, err := p.Return(back)
		if err != nil {
			return nil, err
		}
		topic, text := waits, "waited"
		if back == slow {
			topic, text = flies, "flew"
		}
		s.session = ack.SessionPresent && (back == away || s.session)
		e := p.AwaitMessage(back, from, topic, text)
		if back == away {
			s.waited, s.came = e != nil, e
			s.ack = p.Await(back, from, 0, isPacket(trace.Received, packet.CONNACK))
		} else {
			s.flight, s.again = e != nil, e
		}
	}
	if p.Stores() {
		got, err := greeted(p, "newcomer "+s.how, exact(stored))
		if err != nil {
			return nil, err
		}
		if s.retained = len(got) == 1; s.retained {
			s.stored = got[0]
		}
	}
	return s, nil
}

// surviving judges one thing that may survive: broken where a clause needs it.
func surviving(p *proof.Pass, what string, retained bool, of func(*survival) (bool, *trace.Event)) error {
	all, err := survivals(p)
	if err != nil {
		return err
	}
	var needs []string
	if a := p.Agreement(); a != nil {
		for _, cl := range a.Contract.Clauses {
			if cl.Survives && (cl.Retain != nil && *cl.Retain) == retained {
				needs = append(needs, cl.Name)
			}
		}
	}
	var lost, words []string
	for _, s := range all {
		is, e := of(s)
		p.Decide(e, s.ack)
		words = append(
			words,
			fmt.Sprintf("%s when it is restarted %s", map[bool]string{true: "survives", false: "is gone"}[is], s.how),
		)
		if !is {
			lost = append(lost, s.how)
		}
	}
	if len(lost) > 0 && len(needs) > 0 {
		return proof.Break(
			"%s is gone after a restart (%s), and %s must survive it",
			what,
			strings.Join(lost, ", "),
			naming(needs),
		)
	}
	if len(lost) > 0 {
		p.Note("%s is gone after a restart (%s); no clause asks for more", what, strings.Join(lost, ", "))
	}
	p.Saw("%s %s", what, strings.Join(words, ", "))
	return nil
}

func restartRetained(p *proof.Pass) error {
	return surviving(
		p,
		"a stored message",
		true,
		func(s *survival) (bool, *trace.Event) { return s.retained, s.stored },
	)
}

func restartSession(p *proof.Pass) error {
	return surviving(p, "a kept session with what waited", false, func(s *survival) (bool, *trace.Event) {
		return s.waited && (s.session || p.Version == packet.V31), s.came
	})
}

func restartInFlight(p *proof.Pass) error {
	return surviving(
		p,
		"a message that was not acknowledged",
		false,
		func(s *survival) (bool, *trace.Event) { return s.flight, s.again },
	)
}
