package standin

import (
	"crypto/subtle"
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Login is an identity that a stand-in knows.
type Login struct {
	// Name stands for {login} in the filters of the rights.
	Name string
	// Username goes with the password; Name where it is empty.
	Username string
	// Password lets in by CONNECT's user name and password, and by SCRAM-SHA-256. Empty
	// for a login that has none.
	Password string
	// Token lets in whoever sends it as password, with any user name or none.
	Token string
	// Subject lets in a client certificate, which the listener's TLS configuration has
	// verified, by the common name of its subject or by the whole subject as RFC 4514
	// writes it; Name where it is empty.
	Subject string
	// Publish and Subscribe are the topic filters that the login may publish and
	// subscribe to; nil allows everything, an empty list nothing.
	Publish, Subscribe []string
}

// everything is what a login may that has no rights of its own.
var everything = []string{"#", "$SYS/#"}

// rights are a login's rights with {login} filled in.
type rights struct {
	login              string // "" for anonymous
	publish, subscribe []string
}

func (l *Login) rights() *rights {
	fill := func(filters []string) []string {
		if filters == nil {
			return everything
		}
		out := make([]string, len(filters))
		for i, f := range filters {
			out[i] = strings.ReplaceAll(f, "{login}", l.Name)
		}
		return out
	}
	return &rights{login: l.Name, publish: fill(l.Publish), subscribe: fill(l.Subscribe)}
}

// unlimited tells that nothing has to be looked up.
func (r *rights) unlimited() bool {
	return len(r.publish) == len(everything) && &r.publish[0] == &everything[0]
}

// mayPublish tells whether one of the login's filters matches the topic name.
func (r *rights) mayPublish(name string) bool {
	if r.unlimited() {
		return true
	}
	for _, f := range r.publish {
		if topic.Match(f, name) {
			return true
		}
	}
	return false
}

// maySubscribe tells whether the login may read all that the filter matches.
func (r *rights) maySubscribe(filter string) bool {
	if len(r.subscribe) == len(everything) && &r.subscribe[0] == &everything[0] {
		return true // topics that begin with $ too, of whatever name
	}
	for _, f := range r.subscribe {
		if topic.Covers(f, filter) {
			return true
		}
	}
	return false
}

// logins finds logins by what a client presents.
type logins struct {
	byUser, byToken, bySubject map[string]*Login
	verifier                   *auth.Verifier
}

func newLogins(all []Login) (*logins, error) {
	k := &logins{byUser: map[string]*Login{}, byToken: map[string]*Login{}, bySubject: map[string]*Login{}}
	passwords := map[string]string{}
	for i := range all {
		l := all[i]
		if l.Username == "" {
			l.Username = l.Name
		}
		if l.Subject == "" {
			l.Subject = l.Name
		}
		for _, f := range append(append([]string(nil), l.Publish...), l.Subscribe...) {
			if err := topic.CheckFilter(f); err != nil {
				return nil, fmt.Errorf("login %s: %w", l.Name, err)
			}
		}
		k.byUser[l.Username], k.bySubject[l.Subject] = &l, &l
		if l.Token != "" {
			k.byToken[l.Token] = &l
		}
		if l.Password != "" {
			passwords[l.Username] = l.Password
		}
	}
	var err error
	k.verifier, err = auth.NewVerifier(passwords)
	return k, err
}

// verdict is what came of looking at a client's credentials.
type verdict struct {
	rights *rights
	code   packet.ReasonCode // as in version 5; 0 lets in
	why    string
}

// identify looks at what CONNECT and the TLS connection present (3.1.1 §3.1.3.4,
// 5.0 §3.1.3.5). Enhanced authentication is not its matter.
func (c *conn) identify(p *packet.Connect) verdict {
	s := c.s
	anonymous := verdict{rights: (&Login{}).rights()}
	if p.HasPassword {
		for token, l := range s.logins.byToken {
			if subtle.ConstantTimeCompare([]byte(token), p.Password) == 1 {
				return verdict{rights: l.rights()}
			}
		}
	}
	if !p.HasUsername {
		if state, ok := c.link.TLS(); ok && len(state.VerifiedChains) > 0 {
			subject := state.VerifiedChains[0][0].Subject
			for _, name := range []string{subject.CommonName, subject.String()} {
				if l := s.logins.bySubject[name]; l != nil {
					return verdict{rights: l.rights()}
				}
			}
			if !s.opt.Anonymous {
				return verdict{
					code: packet.NotAuthorized,
					why:  fmt.Sprintf("the client certificate's subject %q is no login's", subject),
				}
			}
		}
		letIn := s.opt.Anonymous
		s.decide(func(d *Decisions) { letIn = letIn || d.LetIn })
		if letIn {
			return anonymous
		}
		return verdict{code: packet.NotAuthorized, why: "it presents no credentials, and anonymous access is off"}
	}
	l := s.logins.byUser[p.Username]
	right := l != nil && l.Password != "" && subtle.ConstantTimeCompare([]byte(l.Password), p.Password) == 1
	if l != nil {
		s.decide(func(d *Decisions) {
			if d.Password != nil {
				right = d.Password(l.Password, p, right)
			}
		})
	}
	switch {
	case right:
		return verdict{rights: l.rights()}
	case l == nil && s.on(func(d *Decisions) bool { return d.AnyUser }):
		return anonymous
	case l == nil && s.opt.Anonymous && len(s.opt.Logins) == 0:
		return anonymous // no logins are kept at all: credentials are not looked at
	case l == nil:
		return verdict{
			code: packet.BadUserNameOrPassword,
			why:  fmt.Sprintf("no login has the user name %q", p.Username),
		}
	case l.Password == "":
		return verdict{
			code: packet.BadUserNameOrPassword,
			why:  fmt.Sprintf("the login %s has no password: it gets in by certificate or token", l.Name),
		}
	}
	return verdict{code: packet.BadUserNameOrPassword, why: fmt.Sprintf("the password of %q is wrong", p.Username)}
}

// maxRefusals is how many refused attempts are kept.
const maxRefusals = 500

// Refusal is something that the stand-in did not allow.
type Refusal struct {
	At       time.Time
	Address  string
	ClientID string
	Username string // as presented
	Version  packet.Version
	// What was refused: "CONNECT", "PUBLISH TOPIC", "SUBSCRIBE FILTER".
	What string
	// Code is the reason code that version 5 has for it.
	Code packet.ReasonCode
	// Why says it in words that the client does not get to see.
	Why string
}

// Refusals returns what was refused, oldest first; the latest 500 are kept.
func (s *Server) Refusals() []Refusal {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Refusal(nil), s.refusals...)
}

// noteLocked keeps a refusal.
func (c *conn) noteLocked(what string, code packet.ReasonCode, why string) {
	s := c.s
	s.refusals = append(s.refusals, Refusal{At: time.Now(), Address: c.link.RemoteAddr().String(), ClientID: c.clientID,
		Username: c.username, Version: c.version, What: what, Code: code, Why: why})
	if len(s.refusals) > maxRefusals {
		s.refusals = append([]Refusal(nil), s.refusals[len(s.refusals)-maxRefusals:]...)
	}
}

// older gives the return code of 3.1.1 for a reason code of version 5 (3.1.1 §3.2.2.3).
func older(code packet.ReasonCode) packet.ReasonCode {
	switch code {
	case packet.UnsupportedProtocolVersion:
		return packet.RefusedVersion
	case packet.ClientIDNotValid:
		return packet.RefusedIdentifier
	case packet.BadUserNameOrPassword:
		return packet.RefusedLogin
	case packet.QuotaExceeded, packet.ServerUnavailable, packet.UseAnotherServer:
		return packet.RefusedUnavailable
	}
	return packet.RefusedRights
}
