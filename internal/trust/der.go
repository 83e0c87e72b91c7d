package trust

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/smallstep/pkcs7"
	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"
)

// labelled reads the DER of a PEM block by its label, and by its content where the label
// lies.
func (r *recogniser) labelled(label string, headers map[string]string, der []byte, line int) {
	f := r.f
	switch {
	case headers["DEK-Info"] != "":
		r.oldLocked(label, headers, der)
		return
	case strings.Contains(label, "OPENSSH"):
		f.add(Item{Kind: KindForeign, Form: "PEM", Note: "a private key in the format of SSH: TLS wants it as PKCS #8"})
		return
	case strings.HasPrefix(label, "PGP"):
		f.add(Item{Kind: KindForeign, Form: "PEM", Note: "a PGP block: TLS has no use for it"})
		return
	case label == "DH PARAMETERS" || label == "EC PARAMETERS":
		f.add(
			Item{
				Kind: KindParameters,
				Form: "PEM",
				Note: strings.ToLower(label[:2]) + " parameters: a key's companion, nothing by itself",
			},
		)
		return
	case label == "DSA PRIVATE KEY":
		f.add(
			Item{
				Kind: KindForeign,
				Form: "PEM",
				Note: "a DSA key: TLS 1.3 has no use for it, and libraries have dropped it",
			},
		)
		return
	}
	before := len(f.Items)
	r.der(der)
	if len(f.Items) == before {
		if f.Problem != "" && !strings.Contains(f.Problem, "line") {
			f.Problem = fmt.Sprintf("the %s that begins on line %d: %s", strings.ToLower(label), line, f.Problem)
		}
		return
	}
	got := f.Items[before].Kind
	said := map[string]Kind{"CERTIFICATE": KindCertificate, "X509 CERTIFICATE": KindCertificate,
		"TRUSTED CERTIFICATE": KindCertificate, "PRIVATE KEY": KindKey, "RSA PRIVATE KEY": KindKey,
		"EC PRIVATE KEY": KindKey, "ENCRYPTED PRIVATE KEY": KindLockedKey, "PUBLIC KEY": KindPublicKey,
		"CERTIFICATE REQUEST": KindRequest, "X509 CRL": KindRevocations}[label]
	if said == KindLockedKey && got == KindKey {
		said = got // a passphrase opened it
	}
	if label == "TRUSTED CERTIFICATE" {
		f.anomaly(
			"it calls itself TRUSTED CERTIFICATE, and carries settings of one library that others do not read",
			"write it as a plain CERTIFICATE",
		)
	}
	if said != "" && said != got {
		f.anomaly(
			fmt.Sprintf("the block on line %d calls itself %s, but is %s", line, strings.ToLower(label), article(got)),
			"write the right name into its -----BEGIN and -----END lines",
		)
	}
}

// oldLocked reads a key that is encrypted by PEM headers (RFC 1421), as programs did before
// PKCS #8.
func (r *recogniser) oldLocked(label string, headers map[string]string, der []byte) {
	b := &pem.Block{Type: label, Headers: headers, Bytes: der}
	item := Item{
		Kind:   KindLockedKey,
		Form:   "PEM, encrypted by its headers (RFC 1421)",
		Locked: true,
		Note:   "an old way that keeps no secret well: convert it to PKCS #8",
	}
	for _, pass := range r.passphrases {
		//lint:ignore SA1019 such files still come, and must be recognised
		plain, err := x509.DecryptPEMBlock(b, []byte(pass))
		if err != nil {
			continue
		}
		if key, _ := parseKey(plain); key != nil {
			item.Kind, item.Key, item.Public = KindKey, key, key.Public()
			break
		}
		if what, remedy := beyondKey(plain); what != "" { // it opens
			r.f.fail(what, remedy)
			return
		}
	}
	r.f.add(item)
}

// parseKey reads a private key in PKCS #8, PKCS #1 or SEC 1, and says which.
func parseKey(der []byte) (crypto.Signer, string) {
	if len(der) > maxKey {
		return nil, ""
	}
	if k, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		if s, ok := k.(crypto.Signer); ok {
			return s, "PKCS #8"
		}
	}
	if k, err := x509.ParsePKCS1PrivateKey(der); err == nil {
		return k, "PKCS #1"
	}
	if k, err := x509.ParseECPrivateKey(der); err == nil {
		return k, "SEC 1"
	}
	return nil, ""
}

// form words how something is written.
func (r *recogniser) form(standard string) string {
	s := "DER"
	if r.inPEM {
		s = "PEM"
	}
	if standard != "" {
		s += ", " + standard
	}
	return s
}

func (r *recogniser) certificate(c *x509.Certificate, form string) {
	r.f.add(Item{Kind: KindCertificate, Form: form, Certificate: c, Public: c.PublicKey})
}

// The object identifiers that tell structures apart (PKCS #7, RFC 2315 §14; PKCS #5, RFC 8018).
var (
	oidData       = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 1}
	oidSignedData = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}
	oidPKCS5      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5}
	oidPKCS12     = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12}
)

// der recognises one or several structures, one after another.
func (r *recogniser) der(data []byte) {
	f := r.f
	var outer asn1.RawValue
	rest, err := asn1.Unmarshal(data, &outer)
	if err != nil {
		if missing := derMissing(data); missing > 0 {
			f.fail(
				fmt.Sprintf("it is cut short: %d of its %d bytes are missing", missing, len(data)+missing),
				"fetch it again, as a whole; binary files must be copied as binary",
			)
		} else {
			f.fail("it begins like DER, but is damaged: "+strings.TrimPrefix(err.Error(), "asn1: "),
				"fetch it again; binary files must be copied as binary")
		}
		return
	}
	one := data[:len(data)-len(rest)]
	r.structure(one)
	switch {
	case len(rest) == 0:
	case rest[0] == 0x30 && len(f.Items) < maxItems:
		if !r.inPEM {
			f.anomaly(
				"several structures stand one after another: most readers of DER take the first only",
				"write them as PEM",
			)
		}
		r.der(rest)
	case len(bytes.Trim(rest, "\x00\r\n ")) == 0:
		f.anomaly(fmt.Sprintf("%d bytes stand behind its end", len(rest)), "cut them off: strict readers refuse it")
	default:
		f.anomaly(
			fmt.Sprintf("%d bytes that are something else stand behind its end", len(rest)),
			"cut them off: strict readers refuse it",
		)
	}
}

// derMissing returns how many bytes a DER structure lacks at its end, 0 where it lacks none
// or that cannot be told (X.690 §8.1.3).
func derMissing(data []byte) int {
	if len(data) < 2 || data[1] < 0x80 {
		return 0
	}
	n := int(data[1] & 0x7f)
	if n == 0 || n > 4 || len(data) < 2+n {
		return 0
	}
	size := 0
	for _, b := range data[2 : 2+n] {
		size = size<<8 | int(b)
	}
	return max(0, size+2+n-len(data))
}

// structure recognises one structure.
func (r *recogniser) structure(der []byte) {
	f := r.f
	if c, err := x509.ParseCertificate(der); err == nil {
		r.certificate(c, r.form(""))
		return
	} else if public, is := certificateShape(der); is {
		what, remedy := beyondCertificate(public)
		if what == "" || !strings.Contains(err.Error(), "curve") && !strings.Contains(err.Error(), "ECDSA parameters") {
			what, remedy = strings.TrimPrefix(err.Error(), "x509: "), "ask the issuer for a sound one"
		}
		f.fail("it cannot be used: "+what, remedy)
		return
	}
	if key, standard := parseKey(der); key != nil {
		f.add(Item{Kind: KindKey, Form: r.form(standard), Key: key, Public: key.Public()})
		return
	}
	var large struct {
		Version int
		Rest    asn1.RawValue
	}
	if _, err := asn1.Unmarshal(der, &large); err == nil && len(der) > maxKey && large.Version <= 1 {
		f.fail(
			fmt.Sprintf("it is a private key of %d bytes: none that TLS has a use for is so large", len(der)),
			remedyP256,
		)
		return
	}
	var locked struct {
		Algorithm algorithm
		Data      []byte
	}
	if _, err := asn1.Unmarshal(der, &locked); err == nil &&
		(prefixed(locked.Algorithm.ID, oidPKCS5) || prefixed(locked.Algorithm.ID, oidPKCS12)) {
		r.lockedKey(der, beyondLock(locked.Algorithm.ID))
		return
	}
	if what, remedy := beyondKey(der); what != "" {
		f.fail(what, remedy)
		return
	}
	var store struct {
		Version int
		Safe    struct {
			Type asn1.ObjectIdentifier
			Rest asn1.RawValue `asn1:"optional,explicit,tag:0"`
		}
		Mac asn1.RawValue `asn1:"optional"`
	}
	if _, err := asn1.Unmarshal(der, &store); err == nil && store.Version == 3 &&
		(store.Safe.Type.Equal(oidData) || store.Safe.Type.Equal(oidSignedData)) {
		r.store(der)
		return
	}
	if p, err := pkcs7.Parse(der); err == nil && len(p.Certificates) > 0 {
		for _, c := range p.Certificates {
			r.certificate(c, r.form("PKCS #7"))
		}
		return
	}
	if q, err := x509.ParseCertificateRequest(der); err == nil {
		f.add(Item{Kind: KindRequest, Form: r.form("PKCS #10"), Request: q, Public: q.PublicKey})
		return
	}
	if l, err := x509.ParseRevocationList(der); err == nil {
		f.add(Item{Kind: KindRevocations, Form: r.form(""), Revocations: l})
		return
	}
	if p, err := x509.ParsePKIXPublicKey(der); err == nil {
		f.add(Item{Kind: KindPublicKey, Form: r.form(""), Public: p})
		return
	}
	if p, err := x509.ParsePKCS1PublicKey(der); err == nil {
		f.add(Item{Kind: KindPublicKey, Form: r.form("PKCS #1"), Public: p})
		return
	}
	f.fail("it is DER, but neither certificate nor key nor key store", "is it the right file?")
}

func prefixed(id, prefix asn1.ObjectIdentifier) bool {
	return len(id) > len(prefix) && id[:len(prefix)].Equal(prefix)
}

// certificateShape tells whether a structure is a certificate by its shape: signed content, an
// algorithm and a signature (RFC 5280 §4.1), whose content begins with a version or a serial
// number and has the six parts that follow; and returns its public key in DER.
func certificateShape(der []byte) (public asn1.RawValue, is bool) {
	var c struct {
		TBS struct {
			Version   int `asn1:"optional,explicit,default:0,tag:0"`
			Serial    asn1.RawValue
			Algorithm asn1.RawValue
			Issuer    asn1.RawValue
			Validity  struct{ From, To asn1.RawValue }
			Subject   asn1.RawValue
			Public    asn1.RawValue
			IDs       asn1.RawValue `asn1:"optional,tag:1"`
			IDs2      asn1.RawValue `asn1:"optional,tag:2"`
			More      asn1.RawValue `asn1:"optional,explicit,tag:3"`
		}
		Algorithm asn1.RawValue
		Signature asn1.BitString
	}
	_, err := asn1.Unmarshal(der, &c)
	return c.TBS.Public, err == nil
}

// lockedKey reads an encrypted key in PKCS #8 (RFC 5958 §3); beyond says why it cannot be opened
// here, "" where it may be.
func (r *recogniser) lockedKey(der []byte, beyond string) {
	item := Item{Kind: KindLockedKey, Form: r.form("PKCS #8"), Locked: true, Beyond: beyond}
	if why := r.work.afford(der, len(r.passphrases)); why != "" && beyond == "" {
		item.Beyond = why
	}
	for _, pass := range r.passphrases {
		if item.Beyond != "" {
			break
		}
		if k, err := pkcs8.ParsePKCS8PrivateKey(der, []byte(pass)); err == nil {
			if s, ok := k.(crypto.Signer); ok {
				item.Kind, item.Key, item.Public = KindKey, s, s.Public()
				break
			}
		} else if item.Beyond == "" && strings.Contains(err.Error(), "unsupported") {
			item.Beyond = "encrypted in a way that is not known here (" + strings.TrimPrefix(err.Error(),
				"pkcs8: ") + ")"
		}
	}
	r.f.add(item)
}

// store reads a key store in PKCS #12 (RFC 7292). One without a passphrase, or with the
// empty one, opens at once.
func (r *recogniser) store(der []byte) {
	f := r.f
	form := "PKCS #12"
	if r.inPEM {
		form = "PEM, PKCS #12"
	}
	passes := slices.Concat([]string{""}, r.passphrases, []string{javaDefault})
	locked := Item{Kind: KindLockedStore, Form: form, Locked: true}
	if locked.Beyond = r.work.afford(der, len(passes)); locked.Beyond != "" {
		f.add(locked)
		return
	}
	var in opened
	if !within(func() { in = openStore(der, passes) }) {
		locked.Beyond = tooLongToOpen
		f.add(locked)
		return
	}
	if len(in.certificates) == 0 {
		if in.err != nil {
			locked.Note = strings.TrimPrefix(in.err.Error(), "pkcs12: ")
		}
		f.add(locked)
		return
	}
	if s, ok := in.key.(crypto.Signer); ok {
		f.add(Item{Kind: KindKey, Form: form, Key: s, Public: s.Public(), Locked: in.pass != ""})
	}
	for _, c := range in.certificates {
		r.certificate(c, form)
	}
	if in.key == nil {
		return
	}
	if in.pass == javaDefault && !slices.Contains(r.passphrases, in.pass) {
		r.opensByDefault()
	}
	if in.pass == "" {
		f.anomaly(
			"the key store opens without a passphrase: its key is open to whoever has the file",
			"protect the file, or write the store anew with a passphrase",
		)
	}
}

// opened is what was in a key store in PKCS #12.
type opened struct {
	pass         string
	key          any // nil where it holds certificates alone
	certificates []*x509.Certificate
	err          error // of the last that was not about the passphrase
}

// openStore tries passphrases on a key store in PKCS #12.
func openStore(der []byte, passes []string) (o opened) {
	for _, pass := range passes {
		key, leaf, cas, err := pkcs12.DecodeChain(der, pass)
		if err == nil {
			return opened{pass: pass, key: key, certificates: append([]*x509.Certificate{leaf}, cas...)}
		}
		if certs, err := pkcs12.DecodeTrustStore(der, pass); err == nil && len(certs) > 0 {
			return opened{pass: pass, certificates: certs}
		}
		if !errors.Is(err, pkcs12.ErrIncorrectPassword) {
			o.err = err
		}
	}
	return o
}

// SamePublic tells whether two public keys are the same.
func SamePublic(a, b crypto.PublicKey) bool {
	k, ok := a.(interface{ Equal(crypto.PublicKey) bool })
	return ok && b != nil && k.Equal(b)
}

// parseName writes a distinguished name in DER as RFC 4514 has it.
func parseName(der []byte) (string, error) {
	var seq pkix.RDNSequence
	if _, err := asn1.Unmarshal(der, &seq); err != nil {
		return "", err
	}
	var n pkix.Name
	n.FillFromRDNSequence(&seq)
	return n.String(), nil
}
