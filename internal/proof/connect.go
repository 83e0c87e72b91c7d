package proof

import (
	"context"
	"errors"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

var connectChecks = []*Check{
	{Name: "connect.accepted", Title: "a proper CONNECT gets in",
		Expected:   "CONNACK 0 within 5 s of CONNECT",
		Section311: "3.1.4", Section5: "3.1.4", Run: connectAccepted},
	{Name: "keepalive.ping", Title: "PINGREQ is answered",
		Expected:   "PINGRESP within 5 s of PINGREQ",
		Section311: "3.12.4", Section5: "3.12.4", Run: keepalivePing},
}

func connectAccepted(p *Pass) error {
	subject := p.Peer("subject")
	p.Step("CONNECT with everything in order")
	ctx, cancel := context.WithTimeoutCause(p.ctx, connectWithin, errNoAnswer)
	defer cancel()
	_, err := subject.Connect(ctx)
	var refused *client.RefusedError
	switch {
	case errors.As(err, &refused) && (refused.Code == packet.UnsupportedProtocolVersion || p.Version != packet.V5 && refused.Code == packet.RefusedVersion):
		return Unsupport("%v", err)
	case errors.As(err, &refused) && p.target.Login == nil:
		return Undecide("%v; no login was given to try with", err)
	case errors.As(err, &refused):
		return Break("%v", err)
	case err != nil:
		return unanswered(err)
	}
	sent := p.Await(subject, 1, 0, isPacket(trace.Sent, packet.CONNECT))
	came := p.Await(subject, 1, 0, isPacket(trace.Received, packet.CONNACK))
	if sent == nil || came == nil {
		return Undecide("CONNECT and CONNACK are not on the trace")
	}
	took := came.At.Sub(sent.At)
	if took > acceptWithin {
		return Break("CONNACK 0 came, but only after %s", took.Round(100*time.Millisecond))
	}
	p.Saw("CONNACK 0 after %s", short(took))
	return nil
}

// unanswered judges a CONNECT without CONNACK: broken where the link stood and the broker
// closed it or kept silent; undecided where there was no link to begin with.
func unanswered(err error) error {
	var ended *client.EndedError
	if errors.As(err, &ended) || errors.Is(err, errNoAnswer) {
		return Break("no CONNACK: %v", err)
	}
	return Undecide("no CONNECT could be sent: %v", err)
}

func isPacket(k trace.Kind, t packet.Type) func(*trace.Event) bool {
	return func(e *trace.Event) bool { return e.Kind == k && e.Packet != nil && e.Packet.Type() == t }
}

// short rounds a duration for people.
func short(d time.Duration) time.Duration {
	switch {
	case d > time.Second:
		return d.Round(10 * time.Millisecond)
	case d > time.Millisecond:
		return d.Round(100 * time.Microsecond)
	}
	return d.Round(time.Microsecond)
}

func keepalivePing(p *Pass) error {
	subject := p.Peer("subject")
	if _, err := p.Enter(subject); err != nil {
		return err
	}
	p.Step("PINGREQ")
	ctx, cancel := context.WithTimeoutCause(p.ctx, arrival, errors.New("nothing for 5 s"))
	defer cancel()
	took, err := subject.Ping(ctx)
	if err != nil {
		return Break("%v", err)
	}
	p.Saw("PINGRESP after %s", short(took))
	return nil
}

var loginChecks = []*Check{
	{Name: "login.right", Title: "the right credentials get in",
		Expected:   "CONNACK 0 for the login's user name and password",
		Section311: "3.1.4", Section5: "3.1.4", Run: loginRight},
	{Name: "login.wrong-password", Title: "a wrong password is refused", Intrusive: true,
		Expected:   "a refusal (4 or 5, in version 5 0x86 or 0x87) or a close, and the link closed",
		Section311: "3.2.2.3", Section5: "3.2.2.2", Run: loginWrongPassword},
	{Name: "login.anonymous", Title: "clients without credentials are treated as intended",
		Expected:   "in or refused, as the workspace says",
		Section311: "3.2.2.3", Section5: "3.2.2.2", Run: loginAnonymous},
}

// attempt tries to get in and tells how it went: nil, a [*client.RefusedError], or
// another error when the link was closed without CONNACK.
func (p *Pass) attempt(peer *Peer) error {
	ctx, cancel := context.WithTimeoutCause(p.ctx, connectWithin, errNoAnswer)
	defer cancel()
	_, err := peer.Connect(ctx)
	return err
}

var errNoAnswer = errors.New("nothing for 15 s")

func loginRight(p *Pass) error {
	if p.target.Login == nil {
		return Skip("no login was given")
	}
	p.Step("CONNECT as %s", p.target.Login.Username)
	err := p.attempt(p.Peer("subject"))
	var refused *client.RefusedError
	switch {
	case errors.As(err, &refused):
		return Break("%v", err)
	case err != nil:
		return unanswered(err)
	}
	p.Saw("CONNACK 0")
	return nil
}

func loginWrongPassword(p *Pass) error {
	l := p.target.Login
	if l == nil {
		return Skip("no login was given")
	}
	wrong := &workspace.Login{Username: l.Username, Password: workspace.NewSecret(l.Password.Reveal() + "-wrong")}
	p.Step("CONNECT as %s with a wrong password", l.Username)
	return p.refused(p.attempt(p.Peer("subject", WithLogin(wrong))), "with a wrong password")
}

// refused judges an attempt that must be refused.
func (p *Pass) refused(err error, how string) error {
	var r *client.RefusedError
	var ended *client.EndedError
	switch {
	case err == nil:
		return Break("CONNACK 0: let in %s", how)
	case errors.As(err, &r):
		fine := r.Code == packet.RefusedLogin || r.Code == packet.RefusedRights
		if p.Version == packet.V5 {
			fine = r.Code == packet.BadUserNameOrPassword || r.Code == packet.NotAuthorized
		}
		if !r.Closed {
			return Break("CONNACK %s, but the link stayed open", r.Code.Code(packet.CONNACK, p.Version))
		}
		p.Saw("CONNACK %s %s, and the link was closed", r.Code.Code(packet.CONNACK, p.Version), r.Code.In(packet.CONNACK, p.Version))
		if !fine {
			p.Note("an unusual code for bad credentials")
		}
		return nil
	case errors.As(err, &ended):
		p.Saw("%v, without CONNACK", err)
		p.Note("refused without CONNACK: legal, but the client is not told why")
		return nil
	}
	return Undecide("%v", err)
}

func loginAnonymous(p *Pass) error {
	if p.target.Anonymous == nil {
		return Skip("nobody said whether clients without credentials may get in: state anonymous on the broker, or --anonymous")
	}
	allowed := *p.target.Anonymous
	p.result.Expected = map[bool]string{true: "CONNACK 0 without credentials, as the workspace says", false: "a refusal or a close without credentials, as the workspace says"}[allowed]
	p.Step("CONNECT without user name and password")
	err := p.attempt(p.Peer("subject", WithLogin(nil)))
	if !allowed {
		return p.refused(err, "without credentials")
	}
	var refused *client.RefusedError
	switch {
	case errors.As(err, &refused):
		return Break("%v", err)
	case err != nil:
		return unanswered(err)
	}
	p.Saw("CONNACK 0")
	return nil
}
