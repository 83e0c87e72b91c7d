// Package trust deals with credentials: what a file is and what fits what, what a server's TLS
// amounts to, and a test authority: a CA made for a run, that issues what a stand-in and its
// clients need, and what they must refuse.
package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"time"

	"github.com/youmark/pkcs8"
)

// Lifetimes of what a test authority issues. They begin a little in the past, for clocks differ.
const (
	lifetime = 30 * 24 * time.Hour
	backdate = time.Hour
)

// Authority is a certificate authority with an intermediate, made for one run and kept
// in memory only. It is safe for concurrent use.
type Authority struct {
	root, intermediate *x509.Certificate
	key                *ecdsa.PrivateKey // the intermediate's
}

// Request says what to issue.
type Request struct {
	// CommonName is the subject's; a stand-in takes it for the login's name.
	CommonName string
	// Names are the DNS names and IP addresses of a server; a certificate without any
	// is for a client.
	Names []string
	// Expired makes it end an hour ago; NotYet makes it begin in an hour.
	Expired, NotYet bool
	// From and Until are when it begins and ends, where they are set.
	From, Until time.Time
	// Key is the kind of key: "" for ECDSA on P-256, "P-384", "Ed25519", "RSA 1024", "RSA 2048".
	Key string
	// SelfSigned makes it vouch for itself, without the authority.
	SelfSigned bool
	// CommonNameOnly makes a server's certificate without subject alternative names.
	CommonNameOnly bool
	// ForClients makes a certificate for clients although it has names.
	ForClients bool
	// Incomplete leaves out the intermediate, so that the chain cannot be built.
	Incomplete bool
}

// NewAuthority makes a root and an intermediate with new keys.
func NewAuthority(name string) (*Authority, error) {
	return newAuthority(name, time.Time{}, time.Now().Add(lifetime))
}

// NewLongAuthority makes an authority that is two years old and lasts two more, for samples.
func NewLongAuthority(name string) (*Authority, error) {
	const year = 365 * 24 * time.Hour
	return newAuthority(name, time.Now().Add(-2*year), time.Now().Add(2*year))
}

func newAuthority(name string, from, until time.Time) (*Authority, error) {
	rootKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	a := &Authority{}
	if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		return nil, err
	}
	ca := func(common string, pathLen int) *x509.Certificate {
		c := template(common, until)
		if !from.IsZero() {
			c.NotBefore = from
		}
		c.IsCA, c.BasicConstraintsValid, c.MaxPathLen, c.MaxPathLenZero = true, true, pathLen, pathLen == 0
		c.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageCRLSign
		return c
	}
	rootTemplate := ca(name+" root", 1)
	if a.root, err = sign(rootTemplate, rootTemplate, &rootKey.PublicKey, rootKey); err != nil {
		return nil, err
	}
	a.intermediate, err = sign(ca(name+" intermediate", 0), a.root, &a.key.PublicKey, rootKey)
	return a, err
}

func template(common string, until time.Time) *x509.Certificate {
	serial, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) // crypto/rand does not fail
	from := time.Now().Add(-backdate)
	if until.Before(from) {
		from = until.Add(-lifetime)
	}
	return &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: common}, NotBefore: from, NotAfter: until}
}

func sign(c, parent *x509.Certificate, public crypto.PublicKey, key crypto.Signer) (*x509.Certificate, error) {
	der, err := x509.CreateCertificate(rand.Reader, c, parent, public, key)
	if err != nil {
		return nil, fmt.Errorf("certificate for %s: %w", c.Subject.CommonName, err)
	}
	return x509.ParseCertificate(der)
}

// newKey makes a key of a kind that a [Request] names.
func newKey(kind string) (crypto.Signer, error) {
	switch kind {
	case "":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "P-384":
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case "Ed25519":
		_, key, err := ed25519.GenerateKey(rand.Reader)
		return key, err
	case "RSA 1024":
		return rsa.GenerateKey(rand.Reader, 1024)
	case "RSA 2048":
		return rsa.GenerateKey(rand.Reader, 2048)
	}
	return nil, fmt.Errorf("no key of kind %q is made", kind)
}

// Issue makes a certificate with a new key, and the chain that goes with it.
func (a *Authority) Issue(r Request) (tls.Certificate, error) {
	key, err := newKey(r.Key)
	if err != nil {
		return tls.Certificate{}, err
	}
	until := time.Now().Add(lifetime)
	switch {
	case r.Expired:
		until = time.Now().Add(-time.Hour)
	case !r.Until.IsZero():
		until = r.Until
	}
	c := template(r.CommonName, until)
	switch {
	case r.NotYet:
		c.NotBefore = time.Now().Add(time.Hour)
	case !r.From.IsZero():
		c.NotBefore = r.From
	}
	c.KeyUsage, c.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	if _, old := key.(*rsa.PrivateKey); old {
		c.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	if len(r.Names) > 0 && !r.ForClients {
		c.ExtKeyUsage[0] = x509.ExtKeyUsageServerAuth
	}
	for _, n := range r.Names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, n)
		}
	}
	if r.CommonNameOnly {
		c.IPAddresses, c.DNSNames = nil, nil
	}
	parent, signer := a.intermediate, crypto.Signer(a.key)
	if r.SelfSigned {
		parent, signer = c, key
	}
	leaf, err := sign(c, parent, key.Public(), signer)
	if err != nil {
		return tls.Certificate{}, err
	}
	out := tls.Certificate{Certificate: [][]byte{leaf.Raw}, PrivateKey: key, Leaf: leaf}
	if !r.Incomplete && !r.SelfSigned {
		out.Certificate = append(out.Certificate, a.intermediate.Raw)
	}
	return out, nil
}

// Revoke makes the intermediate's revocation list with the certificates on it, in PEM
// (RFC 5280 §5); a server that is given it refuses them.
func (a *Authority) Revoke(certificates ...*x509.Certificate) ([]byte, error) {
	list := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: time.Now().Add(-backdate), NextUpdate: time.Now().Add(lifetime)}
	for _, c := range certificates {
		list.RevokedCertificateEntries = append(list.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: c.SerialNumber, RevocationTime: time.Now().Add(-backdate)})
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, a.intermediate, a.key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der}), nil
}

// Root is the certificate that whoever trusts the authority is given.
func (a *Authority) Root() *x509.Certificate { return a.root }

// Intermediate is the certificate that signs what is issued.
func (a *Authority) Intermediate() *x509.Certificate { return a.intermediate }

// Kit is what a run over TLS needs: a CA, a server's certificate and a client's.
type Kit struct {
	*Authority
	Server, Client tls.Certificate
}

// NewKit makes a new CA, and certificates for a server with the names and for a client
// whose subject is the common name.
func NewKit(client string, names ...string) (k Kit, err error) {
	if k.Authority, err = NewAuthority("test"); err != nil {
		return k, err
	}
	if k.Server, err = k.Issue(Request{CommonName: "server", Names: names}); err != nil {
		return k, err
	}
	k.Client, err = k.Issue(Request{CommonName: client})
	return k, err
}

// Pool holds the root, for whoever shall trust the authority.
func (a *Authority) Pool() *x509.CertPool {
	p := x509.NewCertPool()
	p.AddCert(a.root)
	return p
}

// RootPEM is the root certificate in PEM (RFC 7468).
func (a *Authority) RootPEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.root.Raw})
}

// PEM writes a certificate with its chain, and its key (PKCS #8), in PEM.
func PEM(c tls.Certificate) (chain, key []byte, err error) {
	for _, der := range c.Certificate {
		chain = append(chain, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	der, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	if err != nil {
		return nil, nil, err
	}
	return chain, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// LockedPEM writes the certificate's key encrypted with the passphrase (PKCS #8, RFC 5958).
func LockedPEM(c tls.Certificate, passphrase string) ([]byte, error) {
	der, err := pkcs8.MarshalPrivateKey(c.PrivateKey, []byte(passphrase), nil)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: der}), nil
}
