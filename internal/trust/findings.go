package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/asn1"
	"fmt"
	"slices"
	"strings"
	"time"
)

// weak says why a public key is weak, or "".
func weak(p crypto.PublicKey) string {
	switch k := p.(type) {
	case *rsa.PublicKey:
		if n := k.N.BitLen(); n < MinRSA {
			return fmt.Sprintf("its RSA key has %d bits; fewer than %d are weak, and many libraries refuse them", n, MinRSA)
		}
	case *ecdsa.PublicKey:
		if k.Curve.Params().BitSize < 256 {
			return "its curve " + k.Curve.Params().Name + " is weak, and not one of TLS 1.3"
		}
	}
	return ""
}

// findInFile tells what is wrong with a file.
func (v *Inventory) findInFile(f *File) {
	if f.Problem != "" {
		v.find(Broken, f.Name, f.Remedy, "%s", f.Problem)
	}
	for _, m := range f.Anomalies {
		v.find(Note, f.Name, m.Remedy, "%s", m.What)
	}
	if n := f.LockedItems(); n > 0 {
		what := "its key is encrypted"
		if f.Has(KindLockedStore) {
			what = "the key store is encrypted"
		}
		v.find(
			Note,
			f.Name,
			"give the passphrase to see what it fits",
			"%s, and no passphrase given so far opens it",
			what,
		)
	}
	for i := range f.Items {
		switch item := &f.Items[i]; {
		case item.Kind == KindForeign:
			v.find(Note, f.Name, "ask for a certificate (X.509) and its key", "%s", item.Note)
		case item.Kind == KindRequest && !slices.ContainsFunc(v.Certificates, func(c *Certificate) bool { return SamePublic(c.PublicKey, item.Public) }):
			v.find(
				Note,
				f.Name,
				"a CA makes a certificate of it: that is the file to use",
				"it is a request for %s, not a certificate",
				Subject(item.Request.Subject.String()),
			)
		case item.Beyond != "":
			v.find(
				Worry,
				f.Name,
				"write it anew as PKCS #8 with PBES2, HMAC-SHA-256 and AES: that is what most libraries open",
				"it is %s: Hodstone cannot open it, with any passphrase, nor can many devices",
				item.Beyond,
			)
		case item.Kind == KindKey && item.Note != "", item.Kind == KindLockedKey && item.Note != "":
			v.find(Worry, f.Name, "write it anew as PKCS #8", "%s", item.Note)
		}
	}
	open := f.Mode.Perm() & 0o077
	if open == 0 || !f.Has(KindKey) && !f.Has(KindLockedKey) && !f.Has(KindLockedStore) || f.Mode == 0 {
		return
	}
	switch {
	case f.Mode.Perm()&0o004 != 0:
		v.find(
			Worry,
			f.Name,
			"chmod 600 "+f.Name,
			"it holds a private key that everybody on this machine may read (mode %04o)",
			f.Mode.Perm(),
		)
	case f.Mode.Perm()&0o040 != 0:
		v.find(
			Note,
			f.Name,
			"chmod 600 "+f.Name+", unless the group is meant to",
			"it holds a private key that its group may read (mode %04o)",
			f.Mode.Perm(),
		)
	}
}

// findInCertificate tells what is wrong with a certificate.
func (v *Inventory) findInCertificate(c *Certificate) {
	name := c.Title()
	left := c.NotAfter.Sub(v.At)
	switch {
	case left < 0:
		v.find(Broken, name, "have it renewed", "it expired on %s, %s ago", Day(c.NotAfter), days(-left))
	case v.At.Before(c.NotBefore):
		v.find(
			Broken,
			name,
			"check the clock of this machine, or wait",
			"it is not valid before %s, in %s",
			c.NotBefore.UTC().Format("2006-01-02 15:04 UTC"),
			days(c.NotBefore.Sub(v.At)),
		)
	case left < SoonAfter && !shortLived(c.Certificate):
		v.find(Worry, name, "have it renewed in time", "it expires on %s, in %s", Day(c.NotAfter), days(left))
	}
	if !c.Revoked.IsZero() {
		v.find(Broken, name, "have a new one issued", "it is revoked since %s", Day(c.Revoked))
	}
	if c.NotAfter.Before(c.NotBefore) {
		v.find(Broken, name, "have it issued anew", "it ends before it begins")
	}
	if w := weak(c.PublicKey); w != "" {
		v.find(Worry, name, "have it issued anew with a stronger key", "%s", w)
	}
	if c.PublicKeyAlgorithm == x509.UnknownPublicKeyAlgorithm {
		if what, remedy := beyondCertificate(asn1.RawValue{FullBytes: c.RawSubjectPublicKeyInfo}); what != "" {
			v.find(Worry, name, remedy, "%s", what)
		}
	}
	if oldSignature(c.Certificate) && c.Role != RoleRoot { // a root's own signature is not looked at
		v.find(
			Worry,
			name,
			"have it issued anew, signed with SHA-256",
			"it is signed with %s, which TLS libraries refuse",
			c.SignatureAlgorithm,
		)
	}
	if c.Missing != "" {
		severity := Broken
		if c.IsCA {
			severity = Note
		}
		v.find(
			severity,
			name,
			"ask for the certificate of "+c.Missing,
			"its chain is incomplete: the certificate of %s, who signed %s, is not here",
			c.Missing,
			signedWhom(c),
		)
	}
	for _, p := range c.Chain[1:] {
		switch {
		case !p.IsCA:
			v.find(
				Broken,
				name,
				"have it issued by a CA",
				"it is signed by %s, whose certificate is none of a CA",
				p.Title(),
			)
		case v.At.After(p.NotAfter) && left > 0:
			v.find(
				Broken,
				name,
				"have "+p.Title()+" renewed",
				"%s above it has expired on %s",
				p.Title(),
				Day(p.NotAfter),
			)
		}
	}
	server := c.Role == RoleServer || c.Role == RoleBoth || c.Role == RoleSelfSigned
	if server && len(c.DNSNames)+len(c.IPAddresses) == 0 &&
		(c.Role == RoleServer || strings.Contains(name, ".") && c.Role == RoleSelfSigned) {
		v.find(
			Worry,
			name,
			"have it issued with subject alternative names",
			"it names its host in the common name only: modern clients do not look there (RFC 6125 §6.4.4)",
		)
	}
	if c.Role == RoleSelfSigned {
		v.find(
			Note,
			name,
			"every client must be given this very certificate as CA",
			"it is self-signed: nobody but itself vouches for it",
		)
	}
	if !c.IsCA && c.Key == nil && (c.Role == RoleClient) {
		v.find(Note, name, "look for its key; without it there is no login", "no key here fits it")
	}
}

// shortLived tells of a certificate that is made to last not much longer than the warning.
func shortLived(c *x509.Certificate) bool { return c.NotAfter.Sub(c.NotBefore) < 2*SoonAfter }

func signedWhom(c *Certificate) string {
	if last := c.Chain[len(c.Chain)-1]; last != c {
		return last.Title()
	}
	return "it"
}

func days(d time.Duration) string {
	switch n := int(d.Hours() / 24); {
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	case n < 2:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	case n < 730:
		return fmt.Sprintf("%d days", n)
	default:
		return fmt.Sprintf("%d years", n/365)
	}
}

func (v *Inventory) findInKey(k *Key) {
	name := k.Files[0]
	if len(k.Certificates) == 0 {
		v.find(Note, name, "look for its certificate; a key is of no use alone", "no certificate here fits the key")
	}
	if len(k.Certificates) > 1 {
		var names []string
		for _, c := range k.Certificates {
			names = append(names, fmt.Sprintf("%s until %s", c.Title(), Day(c.NotAfter)))
		}
		v.find(
			Note,
			name,
			"use the certificate that is valid longest",
			"the key fits several certificates: %s",
			strings.Join(names, "; "),
		)
	}
	for _, c := range k.Certificates {
		if c.IsCA {
			v.find(
				Worry,
				name,
				"keep a CA's key away from everything that is connected",
				"it is the private key of the CA %s: whoever has it can issue any certificate",
				c.Title(),
			)
		}
	}
}
