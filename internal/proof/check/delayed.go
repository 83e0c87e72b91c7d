package check

import (
	"fmt"
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
)

// The delay of a will and the expiry of its session in the checks on them, in seconds.
const (
	delayed  = 2
	longLeft = 60
)

// delayedWill lets a client in whose will has a delay, with a session that expires after so many seconds.
func delayedWill(p *proof.Pass, name, topic string, delay, expiry uint32) (*proof.Client, error) {
	subject := p.Client(name, proof.KeepSession, proof.ExpiresAfter(expiry),
		proof.WithWill(plainWill(p, topic, packet.Int(packet.WillDelay, delay))))
	ack, err := p.Enter(subject)
	if err != nil {
		return nil, err
	}
	if n, told := ack.Properties.Int(packet.SessionExpiry); told && n != expiry {
		return nil, proof.Unsupport(
			"the broker replaces the session expiry of %d s by %d s (5.0 §3.2.2.3.2)",
			expiry,
			n,
		)
	}
	return subject, nil
}

func willDelay(p *proof.Pass) error {
	waits, returns := p.Topic("will", "waits"), p.Topic("will", "returns")
	watcher, from, err := watchWill(p, waits, returns)
	if err != nil {
		return err
	}
	one, err := delayedWill(p, "subject", waits, delayed, longLeft)
	if err != nil {
		return err
	}
	other, err := delayedWill(p, "returning", returns, delayed, longLeft)
	if err != nil {
		return err
	}
	p.Step("two clients are cut whose wills have a delay of %d s", delayed)
	cutAt := p.Mark()
	one.Cut()
	other.Cut()
	gone := p.Gone(one, cutAt, arrivalTime)
	p.Watch(
		watcher,
		from,
		"the will came although the client had resumed its session before its delay was over",
		func(e *trace.Event) bool {
			return isMessageOf(e, returns)
		},
	)
	p.Step("one of them comes back soon, and stays")
	p.Wait(200 * time.Millisecond) // so that the broker has seen the cut: taking over is another check's matter
	begin := time.Now()
	if _, err := p.Enter(other); err != nil {
		return err
	}
	if since := time.Since(begin); since > delayed*time.Second/2 {
		return proof.Undecide("it took %s to come back: too late to tell", short(since))
	}
	came, err := oneWill(p, watcher, from, waits, willText, "the cut, with a delay of 2 s")
	if err != nil {
		return err
	}
	p.Decide(gone)
	after := came.At.Sub(gone.At)
	if after < delayed*time.Second-100*time.Millisecond {
		return proof.Break("the will came %s after the cut, before its delay of %d s was over", short(after), delayed)
	}
	if _, err := p.Quiet(watcher); err != nil {
		return err
	}
	p.Wait(time.Second)
	if err := p.Seen(); err != nil {
		return err
	}
	p.Saw("the will came %s after the cut; none of the client that had come back", short(after))
	return nil
}

func willSessionEnd(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	subject, err := delayedWill(p, "subject", topic, longLeft, delayed)
	if err != nil {
		return err
	}
	p.Step("a client is cut whose will has a delay of %d s, and whose session ends after %d s", longLeft, delayed)
	cutAt := p.Mark()
	subject.Cut()
	gone := p.Gone(subject, cutAt, arrivalTime)
	p.Decide(gone)
	came := p.Await(
		watcher,
		from,
		delayed*time.Second+willTime,
		func(e *trace.Event) bool { return isMessageOf(e, topic) },
	)
	switch {
	case came == nil && !watcher.Connected():
		return proof.Undecide("the watcher was lost: %v", watcher.Ended())
	case came == nil:
		return absent(
			p,
			watcher,
			"no will within %s of the cut, although the session ended after %d s",
			delayed*time.Second+willTime,
			delayed,
		)
	}
	p.Decide(came)
	p.Saw("the will came %s after the cut", short(came.At.Sub(gone.At)))
	return nil
}

func willProperties(p *proof.Pass) error {
	topic := p.Topic("will")
	watcher, from, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	set := packet.Properties{
		packet.Int(
			packet.PayloadFormat,
			1,
		),
		packet.Str(packet.ContentType, "text/plain"),
		packet.Str(packet.ResponseTopic, p.Topic("answers")),
		packet.Str(
			packet.CorrelationData,
			"ask 7",
		),
		packet.User("a", "1"),
		packet.User("b", "2"),
		packet.User("a", "3"),
		packet.Int(packet.MessageExpiry, longLeft),
	}
	subject := p.Client("subject", proof.WithWill(plainWill(p, topic, set...)))
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	p.Step("a client is cut whose will has eight properties")
	subject.Cut()
	came, err := oneWill(p, watcher, from, topic, willText, "the cut")
	if err != nil {
		return err
	}
	if bad := sameProperties(set, came.Publish().Properties); bad != "" {
		return proof.Break("the will came %s", bad)
	}
	p.Saw("all eight came as set")
	return nil
}

// sameProperties tells what differs between the properties that were published and those that came: message expiry may
// have been counted down by a second or two. "" where nothing does.
func sameProperties(set, came packet.Properties) string {
	for _, want := range set {
		var all, got []string
		for x := range set.All(want.ID) {
			all = append(all, x.Show())
		}
		for x := range came.All(want.ID) {
			got = append(got, x.Show())
		}
		if want.ID == packet.MessageExpiry {
			n, told := came.Int(want.ID)
			if told && (n > longLeft || n < longLeft-10) {
				return fmt.Sprintf("with message expiry %d s, which was %d s", n, longLeft)
			}
			if told {
				continue
			}
		}
		switch {
		case len(got) == 0:
			return fmt.Sprintf("without %s", want.ID)
		case !slices.Equal(all, got):
			return fmt.Sprintf("with %s %q in place of %q", want.ID, got, all)
		}
	}
	for x := range slices.Values(came) {
		if !slices.ContainsFunc(set, func(y packet.Property) bool { return y.ID == x.ID }) {
			return fmt.Sprintf("with a %s that nobody had set", x.ID)
		}
	}
	return ""
}

func willPresence(p *proof.Pass) error {
	topic := p.Topic("presence")
	p.Forget(topic)
	watcher, _, err := watchWill(p, topic)
	if err != nil {
		return err
	}
	subject := p.Client(
		"subject",
		proof.WithWill(packet.Will{Topic: topic, Payload: []byte("lost"), QoS: 1, Retain: true}),
	)
	comes := func() error {
		if _, err := p.Enter(subject); err != nil {
			return err
		}
		_, err := p.Publish(subject, publish(topic, "here", 1, true))
		return err
	}
	for i, turn := range []struct {
		text, step string
		do         func() error
	}{
		{"here", "it comes, and says so", comes},
		{"lost", "it is cut", func() error { return subject.Cut() }},
		{"here", "it comes again", comes},
		{"left", "it says that it leaves, and leaves by DISCONNECT", func() error {
			if _, err := p.Publish(subject, publish(topic, "left", 1, true)); err != nil {
				return err
			}
			return subject.Disconnect(0)
		}},
	} {
		p.Step("%s", turn.step)
		from := p.Mark()
		if err := turn.do(); err != nil {
			return err
		}
		came := p.Await(watcher, from, willTime, func(e *trace.Event) bool { return isWill(e, topic, turn.text) })
		if came == nil {
			return proof.Undecide(
				"the observer did not see %q (see will.on-cut): %s",
				turn.text,
				p.Instead(watcher, from, topic, turn.text),
			)
		}
		p.Decide(came)
		got, err := greeted(p, fmt.Sprintf("newcomer-%d", i+1), exact(topic), topic)
		if err != nil {
			return err
		}
		if err := exactly(
			p,
			got,
			turn.text,
			fmt.Sprintf("a newcomer once the observer had seen %q", turn.text),
		); err != nil {
			return err
		}
	}
	p.Saw("newcomers saw what the observer had seen: here, lost, here and left")
	return nil
}
