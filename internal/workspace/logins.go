package workspace

import (
	"crypto/tls"

	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
)

// Login is a client identity.
type Login struct {
	Name     string
	Username string
	Password Secret
	// Certificate is the client's, for TLS; nil for none.
	Certificate *tls.Certificate
	// HasPassword is false where the file gives none: a stand-in then makes one up.
	HasPassword bool
	// Token is sent as the password.
	Token    Secret
	HasToken bool
	// SCRAM authenticates by SCRAM-SHA-256 in version 5 instead of sending the password.
	SCRAM bool
}

// Apply puts the login's credentials into a client's options, whose version is set. A login
// that has only a certificate sends neither user name nor password; nil takes them out.
func (l *Login) Apply(o *client.Options) {
	c := &o.Connect
	c.HasUsername, c.Username, c.HasPassword, c.Password, o.Auth = false, "", false, nil, nil
	switch {
	case l == nil, l.Certificate != nil && !l.HasPassword && !l.HasToken:
		return
	case l.SCRAM && o.Version == packet.V5:
		o.Auth, _ = auth.NewSCRAM(l.Username, l.Password.Reveal()) // was tried when the login was read
		return
	}
	c.HasUsername, c.Username = true, l.Username
	c.HasPassword, c.Password = true, []byte(l.Password.Reveal())
	if l.HasToken {
		c.Password = []byte(l.Token.Reveal())
	}
}

// loginReading is a login, and the files of its certificate, which are read together.
type loginReading struct {
	Login
	certificate, key, passphrase node
}

var loginShape = shape[loginReading]{"login", "A client identity.", []key[loginReading]{
	text("username", "The user name; the login's name where it is missing.",
		func(r *loginReading) *string { return &r.Username }),
	own("password", "secret", "The password. Best {env: NAME} or {file: path}. A login of a stand-in without one gets"+
		" a random one at every start.", func(l *loader, r *loginReading, v node) {
		if v.exists() { // without its secret the login stays: a stand-in makes one up, a real broker refuses it
			r.Password, r.HasPassword = l.secret(v, "the password of login "+r.Name)
		}
	}),
	own("certificate", "string", "For TLS: a file beside the workspace with the client's certificate and its chain, as"+
		" PEM, DER or PKCS #12; it may hold the key too.",
		func(_ *loader, r *loginReading, v node) { r.certificate = v }),
	own(
		"key",
		"string",
		"For TLS: the file with the certificate's private key, where it is another; it may be encrypted.",
		func(_ *loader, r *loginReading, v node) { r.key = v },
	),
	own("passphrase", "secret", "What an encrypted key or key store is opened with.",
		func(_ *loader, r *loginReading, v node) { r.passphrase = v }),
	own("token", "secret", "A token, sent as the password.", func(l *loader, r *loginReading, v node) {
		if !v.exists() {
			return
		}
		r.Token, r.HasToken = l.secret(v, "the token of login "+r.Name)
		if r.HasPassword {
			v.fail("leave one of them out",
				"login %s has a password and a token; both go into the same field of CONNECT", r.Name)
		}
	}),
	own("method", "string", "SCRAM-SHA-256: prove the password in version 5 without sending it (5.0 §4.12).",
		func(_ *loader, r *loginReading, v node) {
			if !v.exists() {
				return
			}
			_, err := auth.NewSCRAM(r.Username, r.Password.Reveal())
			switch {
			case v.str("method") != auth.SCRAMSHA256:
				v.fail("there is "+auth.SCRAMSHA256, "the authentication method %q is not known", v.str("method"))
			case err != nil:
				v.fail("", "%v", err)
			default:
				r.SCRAM = true
			}
		}),
}}

func (l *loader) login(e entry) {
	r := loginReading{Login: Login{Name: e.key, Username: e.key}}
	loginShape.read(l, e.value, "login "+e.key, &r)
	if r.Username == "" {
		r.Username = e.key
	}
	if r.certificate.exists() {
		r.Certificate = l.certificate(r.certificate, r.key, r.passphrase)
	} else if r.key.exists() {
		r.key.fail("add certificate: FILE", "login %s has a key but no certificate", e.key)
	}
	login := r.Login
	l.w.Logins = append(l.w.Logins, &login)
}
