package trust

import (
	"bytes"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"time"
)

// LockedError is an encrypted key for which no passphrase, or a wrong one, was given.
type LockedError struct{ Given bool }

// Error says which of the two it is.
func (e *LockedError) Error() string {
	if e.Given {
		return "the key is encrypted, and the passphrase does not open it"
	}
	return "the key is encrypted and needs a passphrase"
}

// Pair puts a certificate with its chain and its private key together. Both are taken in
// every form that [Recognise] knows; key is nil where the first file holds both, as key stores
// do. A key that cannot be opened gives a [*LockedError].
func Pair(chain, key []byte, passphrase string) (tls.Certificate, error) {
	var passphrases []string
	if passphrase != "" {
		passphrases = []string{passphrase}
	}
	from := Recognise("certificate", chain, passphrases)
	keys := from
	if key != nil {
		keys = Recognise("key", key, passphrases)
	}
	signers, certificates := []crypto.Signer{}, []*x509.Certificate{}
	for i := range keys.Items {
		if k := keys.Items[i].Key; k != nil {
			signers = append(signers, k)
		}
	}
	for i := range from.Items {
		if c := from.Items[i].Certificate; c != nil {
			certificates = append(certificates, c)
		}
	}
	switch {
	case len(signers) == 0 && keys.LockedItems() > 0, len(certificates) == 0 && from.LockedItems() > 0:
		return tls.Certificate{}, &LockedError{Given: passphrase != ""}
	case len(certificates) == 0:
		return tls.Certificate{}, fmt.Errorf("the certificate's file holds no certificate: %s", holds(from))
	case len(signers) == 0 && key == nil:
		return tls.Certificate{}, errors.New("the certificate's file holds no key: name the key's file")
	case len(signers) == 0:
		return tls.Certificate{}, fmt.Errorf("the key's file holds no private key: %s", holds(keys))
	}
	for _, k := range signers {
		for _, c := range certificates {
			if SamePublic(c.PublicKey, k.Public()) {
				return tls.Certificate{Certificate: ordered(c, certificates), PrivateKey: k, Leaf: c}, nil
			}
		}
	}
	return tls.Certificate{}, errors.New(
		"the private key does not belong to the certificate: 'hodstone trust' on the folder tells which fit",
	)
}

func holds(f *File) string {
	if f.Problem != "" {
		return f.Problem
	}
	return "it is " + article(f.Items[0].Kind)
}

// ordered returns a certificate and, behind it, those that lead up from it.
func ordered(leaf *x509.Certificate, all []*x509.Certificate) [][]byte {
	out := [][]byte{leaf.Raw}
	for at := leaf; len(out) <= len(all) && !bytes.Equal(at.RawIssuer, at.RawSubject); {
		i := slices.IndexFunc(all, func(c *x509.Certificate) bool {
			return bytes.Equal(c.RawSubject, at.RawIssuer) && !bytes.Equal(c.Raw, at.Raw)
		})
		if i < 0 {
			break
		}
		at = all[i]
		out = append(out, at.Raw)
	}
	return out
}

// CAs returns the certificates that a file holds, in whatever form, to be trusted.
func CAs(data []byte) ([]*x509.Certificate, error) {
	f := Recognise("CA", data, nil)
	var out []*x509.Certificate
	for i := range f.Items {
		if c := f.Items[i].Certificate; c != nil {
			out = append(out, c)
		}
	}
	if out == nil {
		return nil, errors.New(holds(f))
	}
	return out, nil
}

// ClientTLS are the TLS settings of every client of Hodstone's: CAs to trust, nil for the system's; the name that the
// server's certificate must hold, "" for that of the URL; and the client's own certificate, nil for none. It is
// presented whenever a server asks for one, as firmware does, whatever CAs the server names: a server that does not
// know its CA refuses it, for all of us alike.
func ClientTLS(cas []*x509.Certificate, serverName string, own *tls.Certificate) *tls.Config {
	c := &tls.Config{ServerName: serverName, MinVersion: tls.VersionTLS12}
	if cas != nil {
		c.RootCAs = Pool(cas)
	}
	if own != nil {
		c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return own, nil }
	}
	return c
}

// Pool makes a pool of certificates; nil, for the system's, of none.
func Pool(certificates []*x509.Certificate) *x509.CertPool {
	if certificates == nil {
		return nil
	}
	p := x509.NewCertPool()
	for _, c := range certificates {
		p.AddCert(c)
	}
	return p
}

// Pairs are what a server can be tried with; nil for what is not there.
type Pairs struct {
	Ours             *tls.Certificate // in time
	Expired, Revoked *tls.Certificate // signed by the right CA all the same
}

// ClientPairs finds pairs among the files. Where none of them has expired, and the key of a CA is
// there, an expired one is made on the spot, that differs from ours in nothing but its time.
func (v *Inventory) ClientPairs() (p Pairs) {
	var signer *Certificate
	for i := range v.Identities {
		id := &v.Identities[i]
		pair := v.Pair(id)
		if pair == nil {
			continue
		}
		switch old := v.At.After(id.Certificate.NotAfter); {
		case old && p.Expired == nil:
			p.Expired = pair
		case old:
		case !id.Certificate.Revoked.IsZero():
			p.Revoked = pair
		case p.Ours == nil:
			p.Ours = pair
			if len(id.Certificate.Chain) > 1 {
				signer = id.Certificate.Chain[1]
			}
		}
	}
	if p.Expired == nil && signer != nil && signer.Key != nil {
		p.Expired = v.expire(p.Ours, signer)
	}
	return p
}

// expire makes a certificate with the subject of ours that has expired, signed by a CA whose key
// is there; nil where that does not work.
func (v *Inventory) expire(ours *tls.Certificate, signer *Certificate) *tls.Certificate {
	ca := v.Pair(&Identity{Certificate: signer})
	if ca == nil {
		return nil
	}
	signing, usable := ca.PrivateKey.(crypto.Signer)
	key, err := newKey("")
	if !usable || err != nil {
		return nil
	}
	c := template("", v.At.Add(-time.Hour))
	c.Subject, c.KeyUsage, c.ExtKeyUsage = ours.Leaf.Subject, x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{
		x509.ExtKeyUsageClientAuth,
	}
	leaf, err := sign(c, signer.Certificate, key.Public(), signing)
	if err != nil {
		return nil
	}
	return &tls.Certificate{Certificate: append([][]byte{leaf.Raw}, ca.Certificate...), PrivateKey: key, Leaf: leaf}
}
