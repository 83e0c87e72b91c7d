package check

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
)

// The checks of what lies below MQTT.
var below = []*proof.Check{
	{Name: "tls.versions", Title: "no old version of TLS is taken", Once: true,
		Expected: "TLS 1.2 or 1.3 taken, and none below the least that is allowed (1.2 where nobody says otherwise)",
		Sections: everywhere("RFC 8996"), Needs: proof.Needs{Least: 1}, Run: tlsVersions},
	{Name: "tls.name", Title: "the certificate covers the name", Once: true,
		Expected: "the server's certificate holds the host that is dialled, or the server name that is stated",
		Sections: everywhere("RFC 9525"), Needs: proof.Needs{Least: 1}, Run: tlsName},
	{Name: "tls.chain", Title: "the chain leads to a trusted CA", Once: true,
		Expected: "the server's certificate and all between it and the CA, in time",
		Sections: everywhere("RFC 5280 §6"), Needs: proof.Needs{Least: 1}, Run: tlsChain},
	{
		Name:      "tls.client-required",
		Title:     "clients must show a certificate of ours",
		Once:      true,
		Intrusive: true,
		Expected:  "no way in without a certificate, with a stranger's, or with one of ours that has expired; ours gets in",
		Sections:  everywhere("RFC 8446 §4.4.2.4"),
		Needs:     proof.Needs{Least: 1},
		Run:       tlsClientRequired,
	},
	{Name: "tls.plain-refused", Title: "what is not spoken on a port gets nowhere", Once: true, Intrusive: true,
		Expected: "no CONNACK for a CONNECT without TLS on a TLS port; no handshake on a port without TLS",
		Sections: everywhere("RFC 8446 §5.1"), Needs: proof.Needs{Least: 1}, Run: tlsPlainRefused},
	{
		Name:      "ws.subprotocol",
		Title:     "MQTT over WebSocket as it must be",
		Intrusive: true,
		Expected:  "the subprotocol mqtt is agreed; packets that are split over frames and joined in one are taken; a text frame closes the link",
		Sections:  proof.Sections{V311: "6", V5: "6"},
		Needs:     proof.Needs{Least: 1},
		Run:       wsSubprotocol,
	},
	{Name: "transport.same", Title: "all listeners lead to the same broker",
		Expected: "a message that is published by one listener comes to subscribers by every other, and back",
		Sections: proof.Same("3.3", "4.2"), Needs: proof.Needs{Least: 2}, Requires: pairs, Run: transportSame},
}

// everywhere is a place that does not depend on the version of MQTT.
func everywhere(section string) proof.Sections {
	return proof.Sections{V31: section, V311: section, V5: section}
}

// secured skips what has no TLS.
func secured(p *proof.Pass) (*proof.Way, error) {
	w := p.Way()
	if w == nil || w.TLS == nil {
		return nil, proof.Skip("the listener has no TLS")
	}
	return w, nil
}

// anyone shakes hands with whoever presents whatever: what is presented is looked at afterwards.
func anyone(c *tls.Config) { c.InsecureSkipVerify = true }

func tlsVersions(p *proof.Pass) error {
	w, err := secured(p)
	if err != nil {
		return err
	}
	least := w.LeastTLS
	if least == 0 {
		least = tls.VersionTLS12
	}
	var suites []uint16 // the insecure ones too: they are what old versions have
	for _, s := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		suites = append(suites, s.ID)
	}
	var taken, old []string
	for v := uint16(tls.VersionTLS10); v <= tls.VersionTLS13; v++ {
		p.Step("a handshake in %s alone", tls.VersionName(v))
		c, told, err := p.Handshake("in "+tls.VersionName(v), func(c *tls.Config) {
			anyone(c)
			c.MinVersion, c.MaxVersion, c.CipherSuites = v, v, suites
		})
		if told == nil {
			return err
		}
		if err != nil {
			continue
		}
		c.Close()
		p.Decide(told)
		if taken = append(taken, tls.VersionName(v)); v < least {
			old = append(old, tls.VersionName(v))
		}
	}
	switch {
	case len(taken) == 0:
		return proof.Undecide("no version of TLS from 1.0 to 1.3 was taken")
	case len(old) > 0:
		return proof.Break("%s is taken; the least is %s", strings.Join(old, " and "), tls.VersionName(least))
	}
	p.Saw("%s", strings.Join(taken, " and "))
	return nil
}

// presented shakes hands and looks at the server's chain, as of the name that our clients ask for.
func presented(p *proof.Pass) (*trust.Presented, string, error) {
	w, err := secured(p)
	if err != nil {
		return nil, "", err
	}
	name := w.Endpoint.Host
	if n := w.TLS.ServerName; n != "" && n != name {
		p.Note("asked for as %s, not by the host that is dialled", n)
		name = n
	}
	p.Step("a handshake, to see what the server presents")
	c, told, err := p.Handshake("subject", anyone)
	if told == nil {
		return nil, "", err
	}
	p.Decide(told)
	if err != nil {
		return nil, "", proof.Undecide("no handshake: %v", err)
	}
	defer c.Close()
	chain := trust.Verify(c.ConnectionState().PeerCertificates, w.CAs, name, time.Now())
	return &chain, name, nil
}

func tlsName(p *proof.Pass) error {
	chain, name, err := presented(p)
	if err != nil {
		return err
	}
	holds := strings.Join(trust.NamesOf(chain.Chain[0]), ", ")
	if !chain.NameOK {
		return proof.Break("the certificate is for %s, not for %s", holds, name)
	}
	p.Saw("for %s", holds)
	return nil
}

func tlsChain(p *proof.Pass) error {
	chain, _, err := presented(p)
	if err != nil {
		return err
	}
	for _, n := range chain.Notes {
		p.Note("%s", n)
	}
	if c := chain.Cause; c != "" && c != trust.ChainWrongName &&
		c != trust.ChainOldName { // the name is another check's
		return proof.Break("%s: %s", chain.What, chain.Remedy)
	}
	leaf := chain.Chain[0]
	if left := time.Until(leaf.NotAfter); left < 30*24*time.Hour {
		p.Note("it ends on %s, in %d days", trust.Day(leaf.NotAfter), int(left/(24*time.Hour)))
	}
	p.Saw("%d certificates, in time until %s", len(chain.Chain), trust.Day(leaf.NotAfter))
	return nil
}

func tlsClientRequired(p *proof.Pass) error {
	w, err := secured(p)
	if err != nil {
		return err
	}
	if w.ClientRequired == nil || !*w.ClientRequired {
		return proof.Skip(
			"nobody said that clients must show a certificate here: client-certificate: required on the listener",
		)
	}
	l := p.Login()
	if l == nil || l.Certificate == nil {
		return proof.Skip("our login has no certificate to get in with")
	}
	authority, err := trust.NewAuthority("a stranger")
	if err != nil {
		return proof.Undecide("%v", err)
	}
	ours, err := x509.ParseCertificate(l.Certificate.Certificate[0]) // its Leaf need not be set
	if err != nil {
		return proof.Undecide("our login's certificate cannot be read: %v", err)
	}
	stranger, err := authority.Issue(trust.Request{CommonName: ours.Subject.CommonName})
	if err != nil {
		return proof.Undecide("%v", err)
	}
	tries := []struct {
		name, how string
		own       *tls.Certificate
	}{{"bare", "without a certificate", nil}, {"stranger", "with a certificate of our name that a stranger signed", &stranger}}
	if w.Expired != nil {
		tries = append(tries, struct {
			name, how string
			own       *tls.Certificate
		}{"expired", "with one of ours that has expired", w.Expired})
	}
	for _, try := range tries {
		p.Step("CONNECT %s", try.how)
		in, err := letInWith(p, try.name, try.own)
		if err != nil {
			return err
		}
		if in {
			return proof.Break("let in %s", try.how)
		}
	}
	p.Step("with ours, as a control")
	if err := control(p); err != nil {
		return err
	}
	p.Saw("refused %d times, ours let in", len(tries))
	return nil
}

// letInWith tells whether a client gets in with a certificate: in TLS 1.3 a refusal comes with the first read.
func letInWith(p *proof.Pass, name string, own *tls.Certificate) (bool, error) {
	r, told, err := p.Over(name, func(c *tls.Config) {
		c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			if own == nil {
				return &tls.Certificate{}, nil
			}
			return own, nil
		}
	})
	if told == nil {
		return false, err
	}
	p.Decide(told)
	if err != nil {
		return false, nil
	}
	from := p.Mark()
	if err := r.Send(p.Version, p.Hello(r)); err != nil {
		return false, nil
	}
	answer := p.Await(r, from, acceptTime, func(e *trace.Event) bool {
		return e.Kind == trace.Received || e.Link == client.LinkEnded
	})
	p.Decide(answer)
	if answer == nil {
		return false, proof.Undecide("no answer to CONNECT")
	}
	ack, is := answer.Packet.(*packet.Connack)
	return is && ack.Code == 0, nil
}

func tlsPlainRefused(p *proof.Pass) error {
	w := p.Way()
	if w == nil || w.Endpoint.Network != "tcp" {
		return proof.Skip("there is no port")
	}
	if w.TLS == nil {
		p.Step("a TLS handshake on a port without TLS")
		socket, err := p.Socket("subject")
		if err != nil {
			return err
		}
		ctx, cancel := context.WithTimeout(p.Context(), arrivalTime)
		defer cancel()
		c, err := w.Endpoint.Secure(ctx, socket, &tls.Config{InsecureSkipVerify: true})
		if err == nil {
			c.Close()
			p.Decide(p.Answer("subject", "the handshake succeeds"))
			return proof.Break("a TLS handshake succeeds on a port that is meant to be without TLS")
		}
		p.Decide(p.Answer("subject", "no handshake: %v", err))
		p.Saw("no handshake")
		return nil
	}
	p.Step("CONNECT without TLS on a TLS port")
	socket, err := p.Socket("subject")
	if err != nil {
		return err
	}
	defer socket.Close()
	hello := (&packet.Connect{ClientID: "plain", CleanStart: true, KeepAlive: 60}).Append(nil, packet.V311)
	if _, err := socket.Write(hello); err != nil {
		p.Decide(p.Answer("subject", "closed before CONNECT was sent: %v", err))
		return nil
	}
	socket.SetReadDeadline(time.Now().Add(arrivalTime))
	got, err := io.ReadAll(io.LimitReader(socket, 64))
	told := p.Answer("subject", "it answers % x (%v)", got, err)
	p.Decide(told)
	if len(got) > 1 && got[0] == byte(packet.CONNACK)<<4 {
		return proof.Break("CONNACK came for a CONNECT without TLS: % x", got)
	}
	p.Saw("no CONNACK (%d other bytes)", len(got))
	return nil
}

func wsSubprotocol(p *proof.Pass) error {
	w := p.Way()
	if w == nil || !w.Endpoint.WebSocket {
		return proof.Skip("the listener is no WebSocket")
	}
	p.Step("an upgrade that offers the subprotocol mqtt; CONNECT in frames of one byte, and PINGREQ twice in one")
	link1, err := p.Raw("split")
	var upgrade *link.UpgradeError
	if errors.As(err, &upgrade) || err != nil && strings.Contains(err.Error(), "subprotocol") {
		p.Decide(p.Answer("split", "%v", err))
		return proof.Break("%v", err)
	} else if err != nil {
		return err
	}
	from := p.Mark()
	for _, b := range p.Hello(link1).Append(nil, p.Version) {
		if err := link1.Write([]byte{b}); err != nil {
			return proof.Break("the link was closed on a packet that is split over frames: %v", err)
		}
	}
	ack := p.Await(link1, from, acceptTime, isPacket(trace.Received, packet.CONNACK))
	if p.Decide(ack); ack == nil {
		return proof.Break("no CONNACK for a CONNECT that is split over frames (§6)")
	}
	if c := ack.Packet.(*packet.Connack); c.Code != 0 {
		return p.Unwelcome(link1, c)
	}
	from = p.Mark()
	if err := link1.Send(p.Version, &packet.Pingreq{}, &packet.Pingreq{}); err != nil {
		return err
	}
	pong := p.Await(link1, from, arrivalTime, isPacket(trace.Received, packet.PINGRESP))
	if p.Decide(
		pong,
	); pong == nil ||
		p.Await(link1, pong.Seq+1, arrivalTime, isPacket(trace.Received, packet.PINGRESP)) == nil {
		return proof.Break("two PINGREQ in one frame do not get two PINGRESP (§6)")
	}
	link1.Close()
	link2, err := p.Raw("text")
	if err != nil {
		return err
	}
	p.Step("CONNECT in a text frame")
	from = p.Mark()
	if err := link2.Text(p.Hello(link2).Append(nil, p.Version)); err != nil {
		return err
	}
	if _, err := rejects(p, link2, from, acceptTime, "a text frame"); err != nil {
		return err
	}
	p.Saw("mqtt agreed, frames split and joined, a text frame closed the link")
	return nil
}

func transportSame(p *proof.Pass) error {
	if len(p.Doors()) == 0 {
		return proof.Skip("the broker has no other listener that is known")
	}
	here := p.Client("here")
	if _, err := p.Enter(here); err != nil {
		return err
	}
	if _, err := p.Subscribe(here, p.Topic("back", "#"), 1); err != nil && !unsupported(err) {
		return err
	}
	var tried []string
	q := p.Highest(1)
	for i, d := range p.Doors() {
		there := p.Client("by "+d.Name, proof.By(d))
		p.Step("by the listener %s", d.Name)
		if _, err := p.Try(there); err != nil {
			p.Note("not tried by %s: our login does not get in there: %v", d.Name, err)
			continue
		}
		out, back := p.Topic("out", fmt.Sprint(i)), p.Topic("back", fmt.Sprint(i))
		if _, err := p.Subscribe(there, out, 1); err != nil {
			return err
		}
		if !p.Wildcards() {
			if _, err := p.Subscribe(here, back, 1); err != nil {
				return err
			}
		}
		for _, m := range []struct {
			from, to *proof.Client
			topic    string
		}{{here, there, out}, {there, here, back}} {
			e, err := passed(p, m.from, m.to, publish(m.topic, "hello", q, false), q)
			if err != nil {
				return err
			}
			if p.Decide(e); e == nil {
				return proof.Break("what the client %q published did not come to the client %q", m.from.Name, m.to.Name)
			}
		}
		there.Disconnect(0)
		tried = append(tried, d.Name)
	}
	if len(tried) == 0 {
		return proof.Skip("our login gets in by no other listener")
	}
	p.Saw("to and from %s", strings.Join(tried, ", "))
	return nil
}
