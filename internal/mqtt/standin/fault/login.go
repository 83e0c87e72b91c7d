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
		one("login.any-user", "A user that is not known gets in.", "login.unknown-user", nil, standin.Decisions{AnyUser: true}),
		one("rights.subscribe-open", "A login may subscribe to everything.", "login.rights-subscribe", nil,
			standin.Decisions{MaySubscribe: func(string, string, bool) bool { return true }}),
		one("rights.subscribe-wild", "A login may subscribe to everything by a filter with #.", "login.rights-subscribe", nil,
			standin.Decisions{MaySubscribe: func(_, filter string, may bool) bool { return may || strings.HasSuffix(filter, "#") }}),
		one("rights.publish-open", "A login may publish to everything.", "login.rights-publish", nil,
			standin.Decisions{MayPublish: func(string, string, bool) bool { return true }}),
		one("rights.store-open", "What a login publishes without the right to reaches nobody, and is stored.", "login.rights-publish", nil,
			standin.Decisions{StoresBarred: true}),
		{
			Name:      "login.refusal-open",
			Sentence:  "A refused client's link stays open.",
			Breaks:    []string{"login.wrong-password", "login.unknown-user", "login.anonymous", "auth.unknown-method"},
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
