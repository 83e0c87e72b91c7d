package trust

import (
	"bytes"
	"crypto/x509"
	"time"
)

// revocation finds a certificate on revocation lists that its issuer signed (RFC 5280 §5), and
// returns since when it is revoked; zero where it is on none.
func revocation(c, issuer *x509.Certificate, lists []*x509.RevocationList) time.Time {
	for _, l := range lists {
		if !bytes.Equal(l.RawIssuer, c.RawIssuer) || l.CheckSignatureFrom(issuer) != nil {
			continue
		}
		for i := range l.RevokedCertificateEntries {
			if x := &l.RevokedCertificateEntries[i]; x.SerialNumber.Cmp(c.SerialNumber) == 0 {
				return x.RevocationTime
			}
		}
	}
	return time.Time{}
}

// Revocations returns the revocation lists of the files.
func (v *Inventory) Revocations() (out []*x509.RevocationList) {
	for _, f := range v.Files {
		for i := range f.Items {
			if l := f.Items[i].Revocations; l != nil {
				out = append(out, l)
			}
		}
	}
	return out
}

// revoke marks the certificates that are on the lists of the files, and judges the lists.
func (v *Inventory) revoke() {
	lists := v.Revocations()
	for _, c := range v.Certificates {
		if len(c.Chain) > 1 {
			c.Revoked = revocation(c.Certificate, c.Chain[1].Certificate, lists)
		}
	}
	for _, f := range v.Files {
		for i := range f.Items {
			if l := f.Items[i].Revocations; l != nil {
				v.findInList(f, l)
			}
		}
	}
}

func (v *Inventory) findInList(f *File, l *x509.RevocationList) {
	issuer := Subject(l.Issuer.String())
	var named, signed bool
	for _, c := range v.Certificates {
		if bytes.Equal(c.RawSubject, l.RawIssuer) {
			named = true
			signed = signed || l.CheckSignatureFrom(c.Certificate) == nil
		}
	}
	switch {
	case !named:
		v.find(
			Note,
			f.Name,
			"put the certificate of "+issuer+" beside it",
			"its signature cannot be verified, for the certificate of %s is not here: it is not used",
			issuer,
		)
	case !signed:
		v.find(
			Broken,
			f.Name,
			"ask for the list anew",
			"it claims to be the list of %s, whose key did not sign it",
			issuer,
		)
	}
	if !l.NextUpdate.IsZero() && v.At.After(l.NextUpdate) {
		v.find(
			Worry,
			f.Name,
			"fetch the list anew, on the servers too",
			"it is out of date since %s: servers that heed it may refuse every client of %s",
			Day(l.NextUpdate),
			issuer,
		)
	}
}
