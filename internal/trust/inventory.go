package trust

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// SoonAfter is how long before its end a certificate counts as soon to expire.
const SoonAfter = 30 * 24 * time.Hour

// MinRSA is the smallest RSA key that is not weak, in bits (NIST SP 800-131A).
const MinRSA = 2048

// Severity is how much a finding matters.
type Severity string

// The severities.
const (
	Broken Severity = "broken" // it cannot work
	Worry  Severity = "worry"  // it works, and should not be left so
	Note   Severity = "note"
)

// Finding is something to know about credentials, and what to do.
type Finding struct {
	Severity Severity
	Where    string // a file, or a certificate's subject
	What     string
	Remedy   string
}

// Role is what a certificate is for.
type Role string

// The roles.
const (
	RoleRoot         Role = "root CA"
	RoleIntermediate Role = "intermediate CA"
	RoleServer       Role = "server"
	RoleClient       Role = "client"
	RoleBoth         Role = "server and client"
	RoleSelfSigned   Role = "self-signed"
	RoleOther        Role = "other use"
)

// Certificate is one certificate of an inventory, in however many files it stands.
type Certificate struct {
	*x509.Certificate
	Role  Role
	Files []string // in which it stands
	Key   *Key     // that fits; nil for none
	// Chain leads from the certificate to its root, itself first, as far as it is there.
	Chain []*Certificate
	// Missing names the issuer that the chain ends for want of; "" where it is whole.
	Missing string
	// System tells that the chain leads to a root that this machine trusts.
	System bool
	// Revoked is since when it is on a revocation list of the files; zero for on none.
	Revoked time.Time
	label   string // tells it from another of the same title
}

// Key is one private key of an inventory.
type Key struct {
	Files        []string
	Form         string
	Public       crypto.PublicKey
	Locked       bool
	Certificates []*Certificate // that it fits
}

// Identity is what a certificate and its key make: a login.
type Identity struct {
	Name        string // made of the subject, fit for a workspace
	Certificate *Certificate
	// CertificateFile and KeyFile hold them; the same for a store or a bundle.
	CertificateFile, KeyFile string
	Locked                   bool
	// CAFile holds the root that the certificate leads to; often the server's too. "" where it is not there.
	CAFile string
}

// Inventory is what a set of files amounts to.
type Inventory struct {
	At           time.Time
	Files        []*File
	Certificates []*Certificate
	Keys         []*Key
	Identities   []Identity
	Findings     []Finding
}

// Options say what an inventory is held against.
type Options struct {
	// Now is when validity is judged; the present where it is zero.
	Now time.Time
	// Roots are those that this machine trusts; nil for none.
	Roots *x509.CertPool
}

// Examine puts files together: which key fits which certificate, who signed whom, what is
// missing, expired, weak or open to others.
func Examine(files []*File, o Options) *Inventory {
	v := &Inventory{At: o.Now, Files: files}
	if v.At.IsZero() {
		v.At = time.Now()
	}
	for _, f := range files {
		v.collect(f)
	}
	for _, c := range v.Certificates {
		c.Role = roleOf(c.Certificate)
		for _, k := range v.Keys {
			if SamePublic(c.PublicKey, k.Public) {
				c.Key = k
				k.Certificates = append(k.Certificates, c)
			}
		}
	}
	count := map[string]int{}
	for _, c := range v.Certificates {
		count[c.title()]++
	}
	for _, c := range v.Certificates {
		if count[c.title()] > 1 {
			c.label = fmt.Sprintf(" until %s, serial %.8x", Day(c.NotAfter), c.SerialNumber.Bytes())
		}
		v.chain(c, o.Roots)
	}
	v.revoke()
	v.identities()
	for _, f := range files {
		v.findInFile(f)
	}
	for _, c := range v.Certificates {
		v.findInCertificate(c)
	}
	for _, k := range v.Keys {
		v.findInKey(k)
	}
	slices.SortStableFunc(v.Findings, func(a, b Finding) int { return rank(a.Severity) - rank(b.Severity) })
	return v
}

func rank(s Severity) int { return slices.Index([]Severity{Broken, Worry, Note}, s) }

// Worst returns the most severe of findings, "" for none.
func Worst(fs []Finding) Severity {
	worst := Severity("")
	for _, f := range fs {
		if worst == "" || rank(f.Severity) < rank(worst) {
			worst = f.Severity
		}
	}
	return worst
}

func (v *Inventory) find(s Severity, where, remedy, format string, args ...any) {
	v.Findings = append(v.Findings, Finding{s, where, fmt.Sprintf(format, args...), remedy})
}

func (v *Inventory) collect(f *File) {
	for i := range f.Items {
		item := &f.Items[i]
		switch item.Kind {
		case KindCertificate:
			at := slices.IndexFunc(
				v.Certificates,
				func(c *Certificate) bool { return bytes.Equal(c.Raw, item.Certificate.Raw) },
			)
			if at < 0 {
				at = len(v.Certificates)
				v.Certificates = append(v.Certificates, &Certificate{Certificate: item.Certificate})
			}
			if c := v.Certificates[at]; !slices.Contains(c.Files, f.Name) {
				c.Files = append(c.Files, f.Name)
			}
		case KindKey:
			at := slices.IndexFunc(v.Keys, func(k *Key) bool { return SamePublic(k.Public, item.Public) })
			if at < 0 {
				at = len(v.Keys)
				v.Keys = append(v.Keys, &Key{Public: item.Public, Form: item.Form, Locked: item.Locked})
			}
			if k := v.Keys[at]; !slices.Contains(k.Files, f.Name) {
				k.Files = append(k.Files, f.Name)
			}
		}
	}
}

// roleOf tells what a certificate is for, by its constraints and usages (RFC 5280 §4.2.1).
func roleOf(c *x509.Certificate) Role {
	self := bytes.Equal(c.RawSubject, c.RawIssuer)
	var server, client bool
	for _, u := range c.ExtKeyUsage {
		server = server || u == x509.ExtKeyUsageServerAuth || u == x509.ExtKeyUsageAny
		client = client || u == x509.ExtKeyUsageClientAuth || u == x509.ExtKeyUsageAny
	}
	switch {
	case c.IsCA && self:
		return RoleRoot
	case c.IsCA:
		return RoleIntermediate
	case self:
		return RoleSelfSigned
	case server && client, len(c.ExtKeyUsage)+len(c.UnknownExtKeyUsage) == 0:
		return RoleBoth
	case server:
		return RoleServer
	case client:
		return RoleClient
	}
	return RoleOther
}

// signed tells whether the parent's key signed the certificate. Old signatures that the
// standard library refuses are gone by names and key identifiers alone.
func signed(c, parent *x509.Certificate) bool {
	if !bytes.Equal(c.RawIssuer, parent.RawSubject) {
		return false
	}
	if len(c.AuthorityKeyId) > 0 && len(parent.SubjectKeyId) > 0 &&
		!bytes.Equal(c.AuthorityKeyId, parent.SubjectKeyId) {
		return false
	}
	if oldSignature(c) {
		return true
	}
	return parent.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
}

func oldSignature(c *x509.Certificate) bool {
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA, x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		return true
	}
	return false
}

const maxChain = 10 // no sound chain is longer

// chain follows a certificate's issuers; of several it prefers one that is in time.
func (v *Inventory) chain(c *Certificate, roots *x509.CertPool) {
	c.Chain = []*Certificate{c}
	at := c
	for len(c.Chain) < maxChain {
		if bytes.Equal(at.RawIssuer, at.RawSubject) {
			return
		}
		var next *Certificate
		for _, p := range v.Certificates {
			if !slices.Contains(c.Chain, p) && signed(at.Certificate, p.Certificate) &&
				(next == nil || v.At.After(next.NotAfter)) {
				next = p
			}
		}
		if next == nil {
			if roots != nil {
				chains, err := at.Verify(
					x509.VerifyOptions{
						Roots:       roots,
						CurrentTime: v.At,
						KeyUsages:   []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
					},
				)
				c.System = err == nil && len(chains) > 0
			}
			if !c.System {
				c.Missing = Subject(at.Issuer.String())
			}
			return
		}
		c.Chain = append(c.Chain, next)
		at = next
	}
}

// Subject shortens a distinguished name to what people call it: the common name alone where
// there is one.
func Subject(dn string) string {
	for part := range strings.SplitSeq(dn, ",") {
		if name, ok := strings.CutPrefix(part, "CN="); ok && name != "" {
			return name
		}
	}
	if dn == "" {
		return "(no subject)"
	}
	return dn
}

// Title names a certificate for people.
func (c *Certificate) Title() string { return c.title() + c.label }

func (c *Certificate) title() string {
	name := Subject(c.Subject.String())
	if name == "(no subject)" && len(c.Names()) > 0 {
		name = c.Names()[0]
	}
	return name
}

// Names are the DNS names, addresses, e-mail addresses and URIs that the certificate
// holds (RFC 5280 §4.2.1.6).
func (c *Certificate) Names() []string { return NamesOf(c.Certificate) }

// NamesOf returns a certificate's subject alternative names.
func NamesOf(c *x509.Certificate) (out []string) {
	out = append(out, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		out = append(out, ip.String())
	}
	out = append(out, c.EmailAddresses...)
	for _, u := range c.URIs {
		out = append(out, u.String())
	}
	return out
}

// Fingerprint is the SHA-256 of a certificate, in pairs as people compare it.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	s := strings.ToUpper(hex.EncodeToString(sum[:]))
	var pairs []string
	for i := 0; i < len(s); i += 2 {
		pairs = append(pairs, s[i:i+2])
	}
	return strings.Join(pairs, ":")
}

// Strength words a public key: "RSA, 2048 bit", "ECDSA, P-256".
func Strength(p crypto.PublicKey) string {
	switch k := p.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA, %d bit", k.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA, " + k.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	case nil:
		return "unknown kind"
	}
	return strings.TrimPrefix(fmt.Sprintf("%T", p), "*")
}

// Usages words what a certificate may be used for.
func Usages(c *x509.Certificate) (out []string) {
	for _, u := range []struct {
		bit  x509.KeyUsage
		name string
	}{{x509.KeyUsageDigitalSignature, "digital signature"}, {x509.KeyUsageKeyEncipherment, "key encipherment"}, {x509.KeyUsageKeyAgreement, "key agreement"},
		{x509.KeyUsageCertSign, "certificate sign"}, {x509.KeyUsageCRLSign, "CRL sign"}} {
		if c.KeyUsage&u.bit != 0 {
			out = append(out, u.name)
		}
	}
	for _, u := range c.ExtKeyUsage {
		switch u {
		case x509.ExtKeyUsageAny:
			out = append(out, "any extended use")
		case x509.ExtKeyUsageServerAuth:
			out = append(out, "TLS server")
		case x509.ExtKeyUsageClientAuth:
			out = append(out, "TLS client")
		default:
			out = append(out, "another extended use")
		}
	}
	return out
}

// identities lists the logins that certificates and keys make.
func (v *Inventory) identities() {
	used := map[string]int{}
	for _, c := range v.Certificates {
		if c.Key == nil || c.IsCA || c.Role == RoleServer || c.Role == RoleOther {
			continue
		}
		i := Identity{Certificate: c, CertificateFile: best(c.Files), KeyFile: best(c.Key.Files), Locked: c.Key.Locked}
		for _, f := range c.Files {
			if slices.Contains(c.Key.Files, f) { // both at once
				i.CertificateFile, i.KeyFile = f, f
			}
		}
		if root := c.Chain[len(c.Chain)-1]; root != c && root.Role == RoleRoot {
			i.CAFile = best(root.Files)
		}
		i.Name = loginName(c.title())
		if used[i.Name]++; used[i.Name] > 1 {
			i.Name += fmt.Sprintf("-%d", used[i.Name])
		}
		v.Identities = append(v.Identities, i)
	}
}

// best prefers a file whose name is short.
func best(files []string) string {
	return slices.MinFunc(files, func(a, b string) int { return len(filepath.Base(a)) - len(filepath.Base(b)) })
}

// loginName makes a subject into a plain key of YAML.
func loginName(s string) string {
	s = strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.", c) {
			return c
		}
		return '-'
	}, s)
	if s = strings.Trim(s, "-."); s == "" {
		return "login"
	}
	return s
}

// Day writes a date as people read certificates.
func Day(t time.Time) string { return t.UTC().Format("2006-01-02") }

// Pair puts an identity's certificate, chain and key together, as a client presents them; nil
// where the key could not be opened.
func (v *Inventory) Pair(i *Identity) *tls.Certificate {
	for _, f := range v.Files {
		for n := range f.Items {
			if k := f.Items[n].Key; k != nil && SamePublic(k.Public(), i.Certificate.PublicKey) {
				out := &tls.Certificate{PrivateKey: k, Leaf: i.Certificate.Certificate}
				for _, c := range i.Certificate.Chain {
					if c.Role != RoleRoot {
						out.Certificate = append(out.Certificate, c.Raw)
					}
				}
				return out
			}
		}
	}
	return nil
}
