package fault

import (
	"strings"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
)

func login() []standin.Fault {
	password := func(name, sentence string, take func(want string, p *packet.Connect) bool) standin.Fault {
		return standin.Fault{Name: name, Sentence: sentence, Breaks: []string{"login.wrong-password"},
			Decisions: standin.Decisions{
				Password: func(want string, p *packet.Connect, right bool) bool { return right || take(want, p) },
			}}
	}
	return []standin.Fault{
		{Name: "login.refuses-right", Sentence: "The right password is refused.", NotLetIn: true,
			Decisions: standin.Decisions{Password: func(string, *packet.Connect, bool) bool { return false }}},
		password(
			"login.any-password",
			"A known user gets in with any password.",
			func(string, *packet.Connect) bool { return true },
		),
		password(
			"login.long-password",
			"A known user gets in with a password that begins with the right one.",
			func(want string, p *packet.Connect) bool {
				return strings.HasPrefix(string(p.Password), want)
			},
		),
		password(
			"login.short-password",
			"A known user gets in with the beginning of the password.",
			func(want string, p *packet.Connect) bool {
				return len(p.Password) > 0 && strings.HasPrefix(want, string(p.Password))
			},
		),
		password(
			"login.empty-password",
			"A known user gets in with an empty password.",
			func(_ string, p *packet.Connect) bool {
				return p.HasPassword && len(p.Password) == 0
			},
		),
		password(
			"login.no-password",
			"A known user gets in without a password.",
			func(_ string, p *packet.Connect) bool { return !p.HasPassword },
		),
		{
			Name:      "login.refusal-open",
			Sentence:  "A refused client's link stays open.",
			Breaks:    []string{"login.wrong-password", "login.anonymous", "auth.unknown-method"},
			Decisions: standin.Decisions{StaysOpen: true},
		},
		{
			Name:      "login.anonymous-let-in",
			Sentence:  "A client without credentials gets in although anonymous access is off.",
			Breaks:    []string{"login.anonymous"},
			Decisions: standin.Decisions{LetIn: true},
		},
	}
}
