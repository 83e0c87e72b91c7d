package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"testing"
	"time"
)

// made is a certificate made by hand, for what an authority does not issue.
func made(t *testing.T, c, parent *x509.Certificate, key, signer crypto.Signer) *x509.Certificate {
	t.Helper()
	if c.SerialNumber == nil {
		c.SerialNumber = big.NewInt(time.Now().UnixNano())
	}
	if c.NotBefore.IsZero() {
		c.NotBefore = time.Now().Add(-time.Hour)
	}
	if c.NotAfter.IsZero() {
		c.NotAfter = time.Now().Add(300 * 24 * time.Hour)
	}
	if parent == nil {
		parent = c
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	return must(x509.ParseCertificate(der))
}

func named(s string) pkix.Name { return pkix.Name{CommonName: s} }

// holding makes files of certificates and keys.
func holding(items ...any) (out []*File) {
	for i, x := range items {
		switch x := x.(type) {
		case *x509.Certificate:
			out = append(out, Recognise(fmt.Sprintf("%d.crt", i), block("CERTIFICATE", x.Raw), nil))
		case crypto.Signer:
			out = append(out, Recognise(fmt.Sprintf("%d.key", i), block("PRIVATE KEY", must(x509.MarshalPKCS8PrivateKey(x))), nil))
		}
	}
	return out
}

func TestWhatIsWrongWithACertificateIsFound(t *testing.T) {
	key := must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader))
	small := must(ecdsa.GenerateKey(elliptic.P224(), rand.Reader))
	old := must(rsa.GenerateKey(rand.Reader, 2048))
	client := []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	server := []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	ca := func(name string, c x509.Certificate) *x509.Certificate {
		c.Subject, c.IsCA, c.BasicConstraintsValid, c.KeyUsage = named(name), true, true, x509.KeyUsageCertSign
		return made(t, &c, nil, key, key)
	}
	root := ca("farm", x509.Certificate{})
	gone := ca(
		"old farm",
		x509.Certificate{NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().Add(-time.Hour)},
	)
	notCA := made(
		t,
		&x509.Certificate{
			Subject:      named("pier"),
			DNSNames:     []string{"pier.local"},
			ExtKeyUsage:  server,
			SubjectKeyId: []byte{9},
		},
		root,
		small,
		key,
	)
	leaf := func(name string, c x509.Certificate, parent *x509.Certificate) *x509.Certificate {
		c.Subject = named(name)
		if c.ExtKeyUsage == nil {
			c.ExtKeyUsage = client
		}
		return made(t, &c, parent, key, key)
	}
	for _, c := range []struct {
		what  string
		files []*File
		want  string // "severity | where | what", in part; "" for nothing at all
	}{
		{"all sound", holding(root, leaf("pen-1", x509.Certificate{}, root)), ""},
		{"a certificate that begins tomorrow", holding(root, leaf("pen-1", x509.Certificate{NotBefore: time.Now().Add(24 * time.Hour)}, root), key), "broken | pen-1 | it is not valid before"},
		{"one that ends before it begins", holding(root, leaf("pen-1", x509.Certificate{NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(-2 * time.Hour)}, root)), "broken | pen-1 | it ends before it begins"},
		{"one that ends soon", holding(root, leaf("pen-1", x509.Certificate{NotBefore: time.Now().Add(-300 * 24 * time.Hour), NotAfter: time.Now().Add(36 * time.Hour)}, root)), "worry | pen-1 | it expires on"},
		{"one that is made to be short", holding(root, leaf("pen-1", x509.Certificate{NotAfter: time.Now().Add(36 * time.Hour)}, root)), ""},
		{"a CA that has expired", holding(gone, leaf("pen-1", x509.Certificate{}, gone)), "broken | pen-1 | old farm above it has expired on"},
		{"signed by what is no CA", holding(root, notCA, made(t, &x509.Certificate{Subject: named("pen-1"), ExtKeyUsage: client}, notCA, key, small)), "broken | pen-1 | it is signed by pier, whose certificate is none of a CA"},
		{"a weak curve", holding(root, made(t, &x509.Certificate{Subject: named("pen-1"), ExtKeyUsage: client}, root, small, key)), "worry | pen-1 | its curve P-224 is weak"},
		{"a server's name in the common name", holding(root, leaf("quay.local", x509.Certificate{ExtKeyUsage: server}, root)), "worry | quay.local | it names its host in the common name only"},
		{"self-signed", holding(made(t, &x509.Certificate{Subject: named("quay.local"), DNSNames: []string{"quay.local"}}, nil, key, key)), "note | quay.local | it is self-signed"},
		{"the key of a CA", holding(root, key), "worry | 1.key | it is the private key of the CA farm"},
		{"a key for two certificates", holding(leaf("pen-1", x509.Certificate{NotAfter: time.Now().Add(90 * 24 * time.Hour)}, root), leaf("pen-1", x509.Certificate{}, root), root, key), "note | 3.key | the key fits several certificates: "},
		{"a key without a certificate", holding(old), "note | 0.key | no certificate here fits the key"},
		{"a certificate that lacks its signer", holding(leaf("pen-1", x509.Certificate{}, root)), "broken | pen-1 | its chain is incomplete: the certificate of farm, who signed it"},
	} {
		v := Examine(c.files, Options{})
		var all []string
		for _, f := range v.Findings {
			if f.Severity != Note || strings.HasPrefix(c.want, "note") {
				all = append(all, fmt.Sprintf("%s | %s | %s", f.Severity, f.Where, f.What))
			}
			if f.Remedy == "" {
				t.Errorf("%s: no remedy for %s", c.what, f.What)
			}
		}
		if got := strings.Join(all, "\n"); !strings.Contains(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%s: %q is not in\n%s", c.what, c.want, got)
		}
	}
	// A chain that this machine's roots complete lacks nothing.
	v := Examine(holding(leaf("pen-1", x509.Certificate{}, root)), Options{Roots: Pool([]*x509.Certificate{root})})
	if c := v.Certificates[0]; !c.System || c.Missing != "" || len(v.Findings) != 1 {
		t.Errorf("%+v %+v", c, v.Findings)
	}
	// Two that signed each other do not go round for ever.
	a := ca("a", x509.Certificate{})
	circle := []*x509.Certificate{
		made(
			t,
			&x509.Certificate{Subject: named("x"), IsCA: true, BasicConstraintsValid: true},
			&x509.Certificate{Subject: named("y")},
			key,
			key,
		),
		made(
			t,
			&x509.Certificate{Subject: named("y"), IsCA: true, BasicConstraintsValid: true},
			&x509.Certificate{Subject: named("x")},
			key,
			key,
		),
		a,
	}
	for _, c := range Examine(holding(circle[0], circle[1], circle[2]), Options{}).Certificates {
		if len(c.Chain) > 2 {
			t.Errorf("%s has a chain of %d", c.Title(), len(c.Chain))
		}
	}
}

func TestRolesUsagesAndNames(t *testing.T) {
	p := newPot(t)
	for _, c := range []struct {
		r    Request
		role Role
		use  string
	}{
		{Request{CommonName: "pen-1"}, RoleClient, "TLS client"},
		{Request{CommonName: "quay", Names: []string{"quay.local", "10.0.0.7", "::1"}}, RoleServer, "TLS server"},
		{Request{CommonName: "quay", SelfSigned: true, Names: []string{"quay.local"}}, RoleSelfSigned, "TLS server"},
		{Request{CommonName: "barge", Key: "RSA 2048"}, RoleClient, "key encipherment"},
		{Request{CommonName: "barge", Key: "Ed25519"}, RoleClient, "digital signature"},
	} {
		cert := &Certificate{Certificate: p.issue(c.r).Leaf}
		if got := roleOf(cert.Certificate); got != c.role || !slices.Contains(Usages(cert.Certificate), c.use) {
			t.Errorf("%+v: %s, %v", c.r, got, Usages(cert.Certificate))
		}
		if len(c.r.Names) > 0 && strings.Join(cert.Names(), " ") != strings.Join(c.r.Names, " ") {
			t.Errorf("names %v", cert.Names())
		}
	}
	if roleOf(p.a.Root()) != RoleRoot || roleOf(p.a.Intermediate()) != RoleIntermediate {
		t.Error("the CAs")
	}
	for want, public := range map[string]crypto.PublicKey{"ECDSA, P-256": p.pen.Leaf.PublicKey, "RSA, 2048 bit": p.old.Leaf.PublicKey, "Ed25519": p.issue(Request{Key: "Ed25519"}).Leaf.PublicKey, "ECDSA, P-384": p.issue(Request{Key: "P-384"}).Leaf.PublicKey, "unknown kind": nil} {
		if got := Strength(public); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	for dn, want := range map[string]string{"CN=pen-1,O=Marrow Voe": "pen-1", "O=Marrow Voe": "O=Marrow Voe", "": "(no subject)"} {
		if got := Subject(dn); got != want {
			t.Errorf("%q is called %q", dn, got)
		}
	}
	for name, want := range map[string]string{"pen 1": "pen-1", "Ä/ö": "login", "..": "login", "barge_2.x": "barge_2.x"} {
		if got := loginName(name); got != want {
			t.Errorf("%q makes the login %q", name, got)
		}
	}
	if got := Fingerprint(p.pen.Leaf); len(got) != 32*3-1 || strings.ToUpper(got) != got {
		t.Errorf("fingerprint %s", got)
	}
	if got := SubjectOf(p.a.Root().RawSubject); got != "marrow voe root" ||
		!strings.Contains(SubjectOf([]byte{1, 2}), "2 bytes") {
		t.Errorf("the CA is called %s", got)
	}
}

// TestCertificatesStandBelowTheirSigners: whatever the order of the files, and those without
// their signer last.
func TestCertificatesStandBelowTheirSigners(t *testing.T) {
	p, other := newPot(t), must(NewAuthority("elsewhere"))
	visitor := must(other.Issue(Request{CommonName: "visitor"}))
	v := Examine(holding(visitor.Leaf, p.pen.Leaf, p.a.Intermediate(), p.old.Leaf, p.a.Root()), Options{})
	var titles []string
	for _, c := range v.Tree() {
		titles = append(titles, fmt.Sprintf("%d %s", len(c.Chain)-1, c.Title()))
	}
	if got := strings.Join(titles, ", "); got != "0 marrow voe root, 1 marrow voe intermediate, 2 pen-1, 2 barge, 0 visitor" {
		t.Error(got)
	}
	from, to := v.Span()
	if day := 24 * time.Hour; v.At.Sub(from) < 27*day || v.At.Sub(from) > 32*day || to.Sub(v.At) < 88*day ||
		to.Sub(v.At) > 93*day {
		t.Errorf("the axis goes from %s to %s", Day(from), Day(to))
	}
	late := Examine(holding(must(NewLongAuthority("old")).Root()), Options{})
	if from, to := late.Span(); !from.Equal(late.At.AddDate(-1, 0, 0)) || !to.Equal(late.At.AddDate(1, 0, 0)) {
		t.Errorf("the axis goes from %s to %s", Day(from), Day(to))
	}
	s := Survey{
		Versions:  []VersionTried{{Suites: []uint16{3, 1}}, {Suites: []uint16{1, 2}}},
		Presented: Presented{Chain: []*x509.Certificate{visitor.Leaf, other.Intermediate()}},
	}
	if got := s.Suites(); !slices.Equal(got, []uint16{3, 1, 2}) {
		t.Errorf("suites %v", got)
	}
	if cas, fetched := s.TrustedCAs(); len(cas) != 1 || !cas[0].Equal(other.Intermediate()) || !fetched {
		t.Errorf("%d CAs, fetched %v", len(cas), fetched)
	}
	s.Presented.Root = other.Root()
	if cas, fetched := s.TrustedCAs(); !cas[0].Equal(other.Root()) || fetched {
		t.Errorf("%d CAs, fetched %v", len(cas), fetched)
	}
	for text, want := range map[string]string{"remote error: tls: unknown certificate authority": "unknown_ca", "read: remote error: tls: error decrypting message": "decrypt_error", "tls: bad": "", "remote error: tls: alert(250)": "alert(250)"} {
		if got := AlertOf(fmt.Errorf("%s", text)); got != want {
			t.Errorf("%q is the alert %q, want %q", text, got, want)
		}
	}
	if AlertOf(nil) != "" {
		t.Error("an alert out of nothing")
	}
}
