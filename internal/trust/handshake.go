package trust

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ocsp"
)

func isReset(err error) bool {
	return errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE)
}

// The waits of a handshake.
const (
	handshakeTimeout = 10 * time.Second
	// quiet is how long nothing must come after a handshake for it to count as taken: a
	// refusal of TLS 1.3 comes within a round trip.
	quiet = 700 * time.Millisecond
	// refusalLeast is how long a refusal is waited for at least: a busy server takes a while
	// to look at a certificate.
	refusalLeast = 150 * time.Millisecond
)

// Attempt is one handshake that was tried, whoever's certificate the server presented.
type Attempt struct {
	In    bool // the handshake stands, and the server went on afterwards
	State tls.ConnectionState
	// Alert is the server's alert where it refused by one, also on the first read after the
	// handshake, where TLS 1.3 tells what it thinks of the client's certificate.
	Alert string
	Late  bool // it was refused after the handshake seemed done
	// Why words a failure.
	Why string
	// Asked tells that the server asked for a client certificate, and from which CAs.
	Asked    bool
	CAs      []string
	Answered bool // it answered the greeting
	Took     time.Duration
	// Err is what came of it, nil where In.
	Err error
}

// Shake makes one handshake. The server's certificate is not verified, so that all is seen;
// [Verify] does that. greeting is sent afterwards, for the server to answer: what it
// must be only the protocol above knows.
func Shake(ctx context.Context, dial Dialer, config *tls.Config, greeting []byte) Attempt {
	ctx, cancel := context.WithTimeout(ctx, handshakeTimeout)
	defer cancel()
	start := time.Now()
	var a Attempt
	raw, err := dial(ctx)
	if err != nil {
		return Attempt{Err: err, Why: err.Error()}
	}
	defer raw.Close()
	config = config.Clone()
	config.InsecureSkipVerify = true
	certificates := config.Certificates
	config.Certificates = nil
	var mu sync.Mutex
	config.GetClientCertificate = func(r *tls.CertificateRequestInfo) (*tls.Certificate, error) {
		mu.Lock()
		defer mu.Unlock()
		a.Asked = true
		for _, ca := range r.AcceptableCAs {
			a.CAs = append(a.CAs, SubjectOf(ca))
		}
		if len(certificates) > 0 {
			return &certificates[0], nil // even one that the server would not like
		}
		return &tls.Certificate{}, nil
	}
	c := tls.Client(raw, config)
	err = c.HandshakeContext(ctx)
	a.Took = time.Since(start)
	a.State = c.ConnectionState()
	if err != nil {
		a.fail(err)
		return a
	}
	n, err := Refusal(c, a.Asked, a.Took)
	if n == 0 && err == nil {
		if len(greeting) > 0 {
			c.Write(greeting)
		}
		c.SetReadDeadline(time.Now().Add(quiet))
		n, err = c.Read(make([]byte, 1))
	}
	a.State = c.ConnectionState() // a ticket may have come
	switch {
	case n > 0:
		a.In, a.Answered = true, true
	case errors.Is(err, os.ErrDeadlineExceeded):
		a.In = true
	default:
		a.Late = true
		a.fail(err)
	}
	return a
}

// Refusal waits, after a handshake of TLS 1.3 in which the server asked for a client
// certificate, for it to say that it does not take ours, which it does only now (RFC 8446 §4.4.2.4).
// Whoever writes at once may get a reset in place of the alert. took is how long the handshake
// was. It returns 0 and nil where nothing was said.
func Refusal(c *tls.Conn, asked bool, took time.Duration) (int, error) {
	if !asked || c.ConnectionState().Version != tls.VersionTLS13 {
		return 0, nil
	}
	c.SetReadDeadline(time.Now().Add(min(quiet, max(refusalLeast, 3*took))))
	defer c.SetReadDeadline(time.Time{})
	n, err := c.Read(make([]byte, 1))
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return 0, nil
	}
	return n, err
}

func (a *Attempt) fail(err error) {
	a.Err, a.Alert = err, AlertOf(err)
	switch {
	case a.Alert != "":
		a.Why = "alert " + a.Alert
	case ended(err) == "closed":
		a.Why = "closed without an alert"
	case ended(err) == "reset":
		a.Why = "reset without an alert"
	case ended(err) == "silent":
		a.Why = "no answer"
	default:
		a.Why = strings.TrimPrefix(err.Error(), "tls: ")
	}
}

// AlertOf returns the name of the alert that the other side sent, or "". crypto/tls tells it by
// an error of its own type that is not exported, inside a "remote error"; where a reader has made
// text of it, the text tells.
func AlertOf(err error) string {
	if err == nil {
		return ""
	}
	_, text, sent := strings.Cut(err.Error(), "remote error: tls: ")
	if !sent {
		return ""
	}
	for code, name := range alerts {
		if strings.TrimPrefix(tls.AlertError(code).Error(), "tls: ") == text {
			return name
		}
	}
	return text
}

// Presented is a server's chain as it came, and what it amounts to.
type Presented struct {
	Chain []*x509.Certificate // as sent, the server's own first
	// Cause is "" for a chain that leads to a trusted CA, else one of the causes below.
	Cause ChainCause
	// What and Remedy say it in words.
	What, Remedy string
	// NameOK tells whether the certificate covers the name that was asked for.
	NameOK bool
	// Root is the trusted CA that the chain leads to, nil for none.
	Root *x509.Certificate
	// Notes are what is odd but does no harm to most clients.
	Notes []string
}

// ChainCause is what is wrong with a chain.
type ChainCause string

// The causes.
const (
	ChainExpired     ChainCause = "certificate expired"
	ChainNotYet      ChainCause = "certificate not yet valid"
	ChainWrongName   ChainCause = "wrong name"
	ChainSelfSigned  ChainCause = "self-signed"
	ChainIncomplete  ChainCause = "intermediate missing"
	ChainUnknownCA   ChainCause = "unknown CA"
	ChainRenewedCA   ChainCause = "another CA of the same name"
	ChainCAExpired   ChainCause = "CA expired"
	ChainWrongUse    ChainCause = "not for servers"
	ChainOldName     ChainCause = "name in the common name only"
	ChainOldCrypto   ChainCause = "old signature"
	ChainUnspecified ChainCause = "certificate refused"
)

// Verify looks at a presented chain as a client would that trusts the CAs and dials the name.
// nil CAs stand for the system's.
func Verify(chain []*x509.Certificate, cas []*x509.Certificate, name string, now time.Time) Presented {
	p := Presented{Chain: chain}
	if len(chain) == 0 {
		p.Cause, p.What, p.Remedy = ChainUnspecified, "the server presented no certificate", "see its configuration"
		return p
	}
	leaf := chain[0]
	p.NameOK = leaf.VerifyHostname(name) == nil
	o := x509.VerifyOptions{Intermediates: x509.NewCertPool(), CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if cas != nil {
		o.Roots = x509.NewCertPool()
		for _, c := range cas {
			o.Roots.AddCert(c)
		}
	}
	for _, c := range chain[1:] {
		o.Intermediates.AddCert(c)
	}
	p.notes()
	chains, err := leaf.Verify(o)
	if err == nil {
		p.Root = chains[0][len(chains[0])-1]
	}
	given := "CAs that this machine trusts"
	if cas != nil {
		given = "CAs given"
	}
	var invalid x509.CertificateInvalidError
	var unknown x509.UnknownAuthorityError
	top := chain[len(chain)-1]
	set := func(cause ChainCause, remedy, format string, args ...any) {
		p.Cause, p.What, p.Remedy = cause, fmt.Sprintf(format, args...), remedy
	}
	switch self := slices.Equal(leaf.RawSubject, leaf.RawIssuer); {
	case now.After(leaf.NotAfter):
		set(ChainExpired, "renew the server's certificate, or set this machine's clock", "the server's certificate expired on %s, %s ago", Day(leaf.NotAfter), days(now.Sub(leaf.NotAfter)))
	case now.Before(leaf.NotBefore):
		set(ChainNotYet, "compare the clocks of server and this machine", "the server's certificate is not valid before %s, in %s", leaf.NotBefore.UTC().Format("2006-01-02 15:04 UTC"), days(leaf.NotBefore.Sub(now)))
	case err == nil && !p.NameOK && len(leaf.DNSNames)+len(leaf.IPAddresses) == 0:
		set(ChainOldName, "have it issued with subject alternative names (RFC 6125 §6.4.4)", "the server's certificate names %q in its common name only, where clients no longer look", leaf.Subject.CommonName)
	case err == nil && !p.NameOK:
		set(ChainWrongName, "dial it by a name that it holds, or set server-name", "the server's certificate is for %s, not for %s", list(NamesOf(leaf)), name)
	case err == nil:
		return p
	case self:
		set(ChainSelfSigned, "compare its fingerprint with the owner's; then give this certificate as CA", "the server's certificate %q is self-signed, and not among the %s", Subject(leaf.Subject.String()), given)
	case errors.As(err, &invalid) && invalid.Reason == x509.IncompatibleUsage:
		set(ChainWrongUse, "have one issued for TLS servers (extended key usage)", "the server presents a certificate that is not meant for servers: %s", list(Usages(leaf)))
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		set(ChainCAExpired, "renew "+Subject(invalid.Cert.Subject.String())+" and give it to the clients", "%s, which signed the server's certificate, expired on %s", Subject(invalid.Cert.Subject.String()), Day(invalid.Cert.NotAfter))
	case oldSignature(leaf):
		set(ChainOldCrypto, "have it issued anew, signed with SHA-256", "the server's certificate is signed with %s, which clients no longer take", leaf.SignatureAlgorithm)
	case renamed(chain, cas) != nil:
		set(ChainRenewedCA, "get the present CA certificate from the owner of the server", "the chain leads to a CA called %q, and so does one of the CAs given, but its key is another: the CA was made anew", Subject(top.Issuer.String()))
	case looksIncomplete(chain, cas):
		set(ChainIncomplete, "let the server send its whole chain (the file with both certificates); clients should not need the intermediate", "the server leaves out the certificate of %q, which signed its own: the chain to the CA is broken", Subject(top.Issuer.String()))
	case !errors.As(err, &unknown):
		set(ChainUnspecified, "have it issued anew", "the server's certificate cannot be used: %s", strings.TrimPrefix(err.Error(), "x509: "))
	default:
		set(ChainUnknownCA, "give the certificate of "+Subject(top.Issuer.String())+" as CA", "the server's chain leads to %q, which is not among the %s", Subject(top.Issuer.String()), given)
	}
	return p
}

func list(items []string) string {
	if len(items) == 0 {
		return "nothing"
	}
	const most = 4
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// renamed finds a given CA that has the name of the issuer that the chain ends with, but did
// not sign it.
func renamed(chain, cas []*x509.Certificate) *x509.Certificate {
	top := chain[len(chain)-1]
	for _, ca := range cas {
		if slices.Equal(ca.RawSubject, top.RawIssuer) && !signed(top, ca) && !slices.Equal(top.RawSubject, ca.RawSubject) {
			return ca
		}
	}
	return nil
}

// looksIncomplete tells whether a server most likely left its intermediate out, rather than
// being signed by a CA that nobody gave: the chain is short, and the issuer's name is that of
// an intermediate or akin to a given CA's.
func looksIncomplete(chain, cas []*x509.Certificate) bool {
	top := chain[len(chain)-1]
	if len(chain) > 1 || slices.Equal(top.RawSubject, top.RawIssuer) {
		return false
	}
	issuer := strings.ToLower(top.Issuer.String())
	for _, word := range []string{"intermediate", "issuing", "sub ca", "sub-ca", "subordinate"} {
		if strings.Contains(issuer, word) {
			return true
		}
	}
	if len(top.IssuingCertificateURL) > 0 && cas == nil {
		return true
	}
	for _, ca := range cas {
		if o := ca.Subject.Organization; len(o) > 0 && len(top.Issuer.Organization) > 0 && o[0] == top.Issuer.Organization[0] {
			return true
		}
	}
	return false
}

// notes tells what is odd about the chain's order and length.
func (p *Presented) notes() {
	for i, c := range p.Chain[1:] {
		if !slices.Equal(p.Chain[i].RawIssuer, c.RawSubject) {
			p.Notes = append(p.Notes, fmt.Sprintf("certificate %d of the chain did not sign the one before it: out of order, or not part of it (RFC 8446 §4.4.2)", i+2))
		}
	}
	if last := p.Chain[len(p.Chain)-1]; len(p.Chain) > 1 && slices.Equal(last.RawSubject, last.RawIssuer) {
		p.Notes = append(p.Notes, "the root is sent too: clients have it already, and small ones pay for the bytes")
	}
	size := 0
	for _, c := range p.Chain {
		size += len(c.Raw)
	}
	if size > 4<<10 {
		p.Notes = append(p.Notes, fmt.Sprintf("the chain has %d bytes: a device with small TLS buffers may not take it", size))
	}
}

// SubjectOf words a distinguished name in DER, as servers name the CAs that they accept.
func SubjectOf(raw []byte) string {
	if name, err := parseName(raw); err == nil {
		return Subject(name)
	}
	return fmt.Sprintf("%d bytes", len(raw))
}

// stapled words a stapled OCSP response (RFC 6066 §8). known are certificates among which the
// issuer of the chain's first may be.
func stapled(raw []byte, chain, known []*x509.Certificate, now time.Time) string {
	if len(raw) == 0 || len(chain) == 0 {
		return "none"
	}
	var issuer *x509.Certificate
	for _, c := range slices.Concat(chain[1:], known) {
		if issuer == nil && signed(chain[0], c) {
			issuer = c
		}
	}
	r, err := ocsp.ParseResponseForCert(raw, chain[0], issuer)
	switch {
	case err != nil:
		return "stapled, but it cannot be read: " + err.Error()
	case now.After(r.NextUpdate) && !r.NextUpdate.IsZero():
		return "stapled, but out of date since " + Day(r.NextUpdate)
	case r.Status == ocsp.Revoked:
		return "stapled: the certificate is revoked since " + Day(r.RevokedAt)
	case r.Status == ocsp.Good && issuer == nil:
		return "stapled: good, but who signed it could not be verified: the issuer's certificate is not here"
	case r.Status == ocsp.Good:
		return "stapled: good, until " + r.NextUpdate.UTC().Format("2006-01-02 15:04 UTC")
	}
	return "stapled: the responder does not know the certificate"
}
