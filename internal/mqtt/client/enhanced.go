package client

import (
	"context"
	"errors"
	"fmt"

	"hodstone/internal/mqtt/packet"
)

// beginAuth puts the beginning of enhanced authentication into CONNECT (5.0 §4.12).
func (k *conn) beginAuth(connect *packet.Connect) error {
	m := k.c.opt.Auth
	if m == nil {
		return nil
	}
	k.enhanced = &enhanced{}
	if k.c.opt.Version != packet.V5 {
		return nil
	}
	k.enhanced.exchange = m.Begin()
	data, err := k.enhanced.exchange.Next(nil)
	if err != nil {
		return fmt.Errorf("%s: %w", m.Name(), err)
	}
	connect.Properties = append(connect.Properties.Without(packet.AuthMethod, packet.AuthData),
		packet.Str(packet.AuthMethod, m.Name()), packet.Str(packet.AuthData, string(data)))
	return nil
}

// proven takes the server's last word of an exchange, in CONNACK or AUTH, and tells
// why it is not believed.
func (k *conn) proven(ps packet.Properties) error {
	e := k.enhanced
	if e == nil || e.exchange == nil {
		return nil
	}
	defer func() { e.exchange = nil }()
	name := k.c.opt.Auth.Name()
	if data, ok := ps.Str(packet.AuthData); ok {
		if _, err := e.exchange.Next([]byte(data)); err != nil {
			return &ruleError{
				packet.NotAuthorized,
				fmt.Sprintf("%s: the broker has not shown that it knows the password: %v", name, err),
			}
		}
	}
	if !e.exchange.Proven() {
		return &ruleError{
			packet.NotAuthorized,
			name + ": the broker let us in without showing that it knows the password",
		}
	}
	return nil
}

// challenged acts on AUTH (5.0 §3.15).
func (k *conn) challenged(p *packet.Auth) error {
	c := k.c
	method, _ := p.Properties.Str(packet.AuthMethod)
	switch {
	case k.enhanced == nil || k.enhanced.exchange == nil:
		return &ruleError{packet.ProtocolError, "the broker sent AUTH where no authentication is under way (5.0 §4.12)"}
	case method != c.opt.Auth.Name():
		return &ruleError{
			packet.ProtocolError,
			fmt.Sprintf("the broker changed the authentication method to %q (5.0 §4.12)", method),
		}
	case p.Code == packet.Success:
		if err := k.proven(p.Properties); err != nil {
			return err // whoever waits for it hears of it from finish
		}
		c.mu.Lock()
		w := k.enhanced.renewed
		k.enhanced.renewed = nil
		c.mu.Unlock()
		if w != nil {
			w.done <- p
		}
		return nil
	case p.Code != packet.ContinueAuthentication:
		return &ruleError{
			packet.ProtocolError,
			fmt.Sprintf("the broker sent AUTH with 0x%02X (5.0 §3.15.2.1)", byte(p.Code)),
		}
	}
	data, _ := p.Properties.Str(packet.AuthData)
	answer, err := k.enhanced.exchange.Next([]byte(data))
	if err != nil {
		return &ruleError{packet.NotAuthorized, fmt.Sprintf("%s: %v", method, err)}
	}
	return k.send(&packet.Auth{Code: packet.ContinueAuthentication, Properties: packet.Properties{
		packet.Str(packet.AuthMethod, method), packet.Str(packet.AuthData, string(answer))}})
}

// Reauthenticate proves the client's identity again on a connection that stands (5.0
// §4.12.1). A refusal ends the connection.
func (c *Client) Reauthenticate(ctx context.Context) error {
	k := c.current()
	switch {
	case k == nil:
		return ErrNotConnected
	case c.opt.Auth == nil:
		return errors.New(
			"the connection was made without enhanced authentication: there is nothing to renew (5.0 §4.12.1)",
		)
	}
	x := c.opt.Auth.Begin()
	data, err := x.Next(nil)
	if err != nil {
		return err
	}
	w := &waiter{done: make(chan packet.Packet, 1)}
	c.mu.Lock()
	if k.enhanced.renewed != nil {
		c.mu.Unlock()
		return errors.New("a re-authentication is under way")
	}
	k.enhanced.exchange, k.enhanced.renewed = x, w
	c.mu.Unlock()
	if err := k.send(&packet.Auth{Code: packet.ReAuthenticate, Properties: packet.Properties{
		packet.Str(packet.AuthMethod, c.opt.Auth.Name()), packet.Str(packet.AuthData, string(data))}}); err != nil {
		return err
	}
	select {
	case _, ok := <-w.done:
		if !ok {
			<-k.gone()
			return fmt.Errorf("re-authentication: %w", k.err)
		}
		return nil
	case <-ctx.Done():
		return fmt.Errorf("re-authentication not answered: %w", context.Cause(ctx))
	}
}
