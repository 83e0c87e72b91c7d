package standin

import (
	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/packet"
)

// authenticate carries out enhanced authentication by SCRAM-SHA-256, as the reading
// goroutine and without the server's lock, for hashing takes time (5.0 §4.12). It begins
// with the properties of CONNECT or AUTH and returns the properties of the packet that ends
// it well.
func (c *conn) authenticate(ps packet.Properties, r *packet.Reader) (v verdict, last packet.Properties, err error) {
	method, _ := ps.Str(packet.AuthMethod)
	if method != auth.SCRAMSHA256 {
		return verdict{code: packet.BadAuthenticationMethod, why: "the authentication method " + method + " is not known; there is " + auth.SCRAMSHA256}, nil, nil
	}
	x := c.s.logins.verifier.Begin()
	for {
		data, _ := ps.Str(packet.AuthData)
		answer, err := x.Next([]byte(data))
		c.username = x.Username()
		switch {
		case err != nil || x.Done() && !x.Valid():
			return verdict{code: packet.NotAuthorized, why: "SCRAM-SHA-256 failed: the user name or the password is wrong"}, nil, nil
		case x.Done():
			return verdict{rights: c.s.logins.byUser[x.Username()].rights()},
				packet.Properties{packet.Str(packet.AuthMethod, method), packet.Str(packet.AuthData, string(answer))}, nil
		}
		c.s.mu.Lock()
		c.pushLocked(&packet.Auth{Code: packet.ContinueAuthentication, Properties: packet.Properties{
			packet.Str(packet.AuthMethod, method), packet.Str(packet.AuthData, string(answer))}})
		c.s.mu.Unlock()
		p, raw, err := r.Next()
		c.received(p, raw, err)
		if err != nil {
			return v, nil, err
		}
		next, ok := p.(*packet.Auth)
		if !ok || next.Code != packet.ContinueAuthentication {
			return v, nil, refuse(packet.ProtocolError, "%s during authentication", p.Type())
		}
		if m, _ := next.Properties.Str(packet.AuthMethod); m != method {
			return v, nil, refuse(packet.ProtocolError, "the authentication method changed")
		}
		ps = next.Properties
	}
}

// renew carries out a re-authentication (5.0 §4.12.1); it must be the same user again.
func (c *conn) renew(p *packet.Auth, r *packet.Reader) error {
	if c.session == nil { // refused, and the link left open by a fault
		return nil
	}
	before := c.rights.login
	method, _ := p.Properties.Str(packet.AuthMethod)
	if p.Code != packet.ReAuthenticate || method == "" || method != c.method {
		return refuse(packet.ProtocolError, "AUTH without an authentication to renew (5.0 §4.12.1)")
	}
	v, last, err := c.authenticate(p.Properties, r)
	if err != nil {
		return err
	}
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	if v.code == 0 && v.rights.login != before {
		v = verdict{code: packet.NotAuthorized, why: "the re-authentication is for another login"}
	}
	if v.code != 0 {
		c.noteLocked("AUTH", v.code, v.why)
		return refuse(v.code, "%s", v.why)
	}
	c.pushLocked(&packet.Auth{Code: packet.Success, Properties: last})
	return nil
}
