package check

import (
	"errors"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

var login = []*proof.Check{
	{Name: "login.right", Title: "the right credentials get in",
		Expected: "CONNACK 0 for the login's user name and password",
		Sections: proof.Same("3.1, 3.2", "3.1.4"), Run: loginRight},
	{
		Name:      "login.wrong-password",
		Title:     "a wrong password is refused",
		Intrusive: true,
		Requires:  []string{"login.right"},
		Expected:  "a refusal (4 or 5, in version 5 0x86 or 0x87) or a close, and the link closed: for a longer, a shorter, an empty and an absent password",
		Sections:  proof.Same("3.2", "3.2.2.3"),
		Run:       loginWrongPassword,
	},
	{
		Name:      "login.unknown-user",
		Title:     "an unknown user is refused",
		Intrusive: true,
		Requires:  []string{"login.right"},
		Expected:  "a refusal (4 or 5, in version 5 0x86 or 0x87) or a close, and the link closed: for user names like ours, with our password and without one",
		Sections:  proof.Same("3.2", "3.2.2.3"),
		Run:       loginUnknownUser,
	},
	{Name: "login.anonymous", Title: "clients without credentials are treated as intended",
		Expected: "in or refused, as the workspace says",
		Sections: proof.Same("3.2", "3.2.2.3"), Run: loginAnonymous},
}

func loginRight(p *proof.Pass) error {
	if p.Login() == nil {
		return proof.Skip("no login was given")
	}
	p.Step("CONNECT as %s", p.Login().Username)
	if err := letIn(p, p.Client("subject")); err != nil {
		return err
	}
	p.Saw("CONNACK 0")
	return nil
}

// letIn wants a client to be let in.
func letIn(p *proof.Pass, peer *proof.Client) error {
	_, err := p.Try(peer)
	p.Decide(
		p.Await(peer, 1, 0, isPacket(trace.Sent, packet.CONNECT)),
		p.Await(peer, 1, 0, isPacket(trace.Received, packet.CONNACK)),
	)
	var refused *client.RefusedError
	switch {
	case errors.As(err, &refused):
		return proof.Break("%v", err)
	case err != nil:
		return unanswered(err)
	}
	peer.Disconnect(0)
	return nil
}

// byPassword tells why passwords cannot be tried, or nil.
func byPassword(p *proof.Pass) error {
	l := p.Login()
	switch {
	case l == nil:
		return proof.Skip("no login was given")
	case !l.HasPassword && l.Password.Reveal() == "":
		return proof.Skip("the login has no password that could be wrong")
	case l.SCRAM && p.Version == packet.V5:
		return proof.Skip("the login proves its password by %s and does not send it", "SCRAM-SHA-256")
	case p.Anonymous() != nil && *p.Anonymous():
		return proof.Skip("clients without credentials are meant to get in: a password keeps nobody out")
	}
	return nil
}

func loginWrongPassword(p *proof.Pass) error {
	l := p.Login()
	if err := byPassword(p); err != nil {
		return err
	}
	right := l.Password.Reveal()
	wrong := func(password string) proof.Option {
		return proof.WithLogin(
			&workspace.Login{
				Username:    l.Username,
				Password:    workspace.NewSecret(password),
				HasPassword: true,
				Certificate: l.Certificate,
			},
		)
	}
	tries := []struct {
		how     string
		options []proof.Option
	}{
		{"with a longer password", []proof.Option{wrong(right + "-wrong")}},
		{"with a shorter password", []proof.Option{wrong(right[:len(right)-min(1, len(right))])}},
		{"with an empty password", []proof.Option{wrong("")}},
		{"with another password", []proof.Option{wrong("hodstone-" + p.Topic())}},
		{"without a password", []proof.Option{proof.WithoutPassword}},
	}
	for i, try := range tries {
		p.Step("CONNECT as %s %s", l.Username, try.how)
		if err := refused(p, p.Client([]string{"longer", "shorter", "empty", "other", "absent"}[i], try.options...),
			try.how); err != nil {
			return err
		}
	}
	return control(p)
}

func loginUnknownUser(p *proof.Pass) error {
	if err := byPassword(p); err != nil {
		return err
	}
	l := p.Login()
	as := func(name string, password bool) proof.Option {
		login := &workspace.Login{Username: name, HasPassword: password, Certificate: l.Certificate}
		if password {
			login.Password = l.Password
		}
		return proof.WithLogin(login)
	}
	// What differs from ours by letters in front and behind, in no case alone: some brokers fold that.
	for _, try := range []struct {
		name, how string
		option    proof.Option
	}{
		{"longer", "as a user with a longer name, with our password", as(l.Username+"-hodstone", true)},
		{"shorter", "as a user with a shorter name, with our password", as(l.Username[:len(l.Username)-min(1, len(l.Username))], true)},
		{"other", "as another user, with our password", as("hodstone-nobody", true)},
		{"bare", "as another user, without a password", as("hodstone-nobody", false)},
	} {
		p.Step("CONNECT %s", try.how)
		if err := refused(p, p.Client(try.name, try.option), try.how); err != nil {
			return err
		}
	}
	return control(p)
}

// control sees that the right login gets in: that others were refused is no matter of the broker being full or
// away.
func control(p *proof.Pass) error {
	p.Step("the right login, as a control")
	if _, err := p.Enter(p.Client("control")); err != nil {
		return err
	}
	return nil
}

// refused wants a client to be refused, and the link to be closed (3.1.1 §3.2.2.3, 5.0 §3.2.2.2).
func refused(p *proof.Pass, peer *proof.Client, how string) error {
	_, err := p.Try(peer)
	p.Decide(
		p.Await(peer, 1, 0, isPacket(trace.Sent, packet.CONNECT)),
		p.Await(peer, 1, 0, isPacket(trace.Received, packet.CONNACK)),
	)
	var r *client.RefusedError
	var ended *client.EndedError
	switch {
	case err == nil && p.Anonymous() == nil:
		return openToAll(p, how)
	case err == nil:
		return proof.Break("CONNACK 0: let in %s", how)
	case errors.As(err, &r) && proof.Busy(p.Version, r.Code):
		return proof.Undecide("the broker takes no client at present: %v", err)
	case errors.As(err, &r):
		fine := r.Code == packet.RefusedLogin || r.Code == packet.RefusedRights
		if p.Version == packet.V5 {
			fine = r.Code == packet.BadUserNameOrPassword || r.Code == packet.NotAuthorized
		}
		code := r.Code.Code(packet.CONNACK, p.Version) + " " + r.Code.In(packet.CONNACK, p.Version)
		if !r.Closed {
			return proof.Break("CONNACK %s %s, but the link stayed open", code, how)
		}
		p.Saw("CONNACK %s, and the link was closed", code)
		if !fine {
			p.Note("an unusual code for bad credentials: %s %s", code, how)
		}
		return nil
	case errors.As(err, &ended):
		p.Saw("%v, without CONNACK", err)
		p.Note("refused without CONNACK: legal, but the client is not told why")
		return nil
	}
	return proof.Undecide("%v", err)
}

// openToAll judges a client that was let in with bad credentials where nobody said who may get in: a broker that
// lets in whoever comes does not look at them.
func openToAll(p *proof.Pass, how string) error {
	p.Step("without any credentials, to see whether the broker looks at them at all")
	stranger := p.Client("stranger", proof.WithLogin(nil))
	if _, err := p.Try(stranger); err == nil {
		return proof.Skip(
			"the broker lets in clients without credentials too; nobody said whether that is meant: state anonymous on the broker, or --anonymous",
		)
	}
	return proof.Break("CONNACK 0: let in %s", how)
}

func loginAnonymous(p *proof.Pass) error {
	if p.Anonymous() == nil {
		return proof.Skip(
			"nobody said whether clients without credentials may get in: state anonymous on the broker, or --anonymous",
		)
	}
	stranger := p.Client("subject", proof.WithLogin(nil))
	p.Step("CONNECT without user name and password")
	if *p.Anonymous() {
		p.Expect("CONNACK 0 without credentials, as the workspace says")
		if err := letIn(p, stranger); err != nil {
			return err
		}
		p.Saw("CONNACK 0")
		return nil
	}
	p.Expect("a refusal or a close without credentials, as the workspace says")
	if err := refused(p, stranger, "without credentials"); err != nil {
		return err
	}
	return control(p)
}
