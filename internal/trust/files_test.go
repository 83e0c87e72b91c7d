package trust

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"github.com/smallstep/pkcs7"
	"github.com/youmark/pkcs8"
	"software.sslmate.com/src/go-pkcs12"
)

const passphrase = "kelp-and-dulse"

// pot holds what the files of a test are made of.
type pot struct {
	t         *testing.T
	a         *Authority
	pen       tls.Certificate // ECDSA, a client's, with its intermediate
	old       tls.Certificate // RSA
	chain     []byte          // of pen, PEM
	key       []byte          // of pen, PKCS #8 in PEM
	leafPEM   []byte
	leafDER   []byte
	keyDER    []byte
	lockedKey []byte
}

func newPot(t *testing.T) *pot {
	t.Helper()
	p := &pot{t: t}
	var err error
	if p.a, err = NewAuthority("marrow voe"); err != nil {
		t.Fatal(err)
	}
	p.pen = p.issue(Request{CommonName: "pen-1"})
	p.old = p.issue(Request{CommonName: "barge", Key: "RSA 2048"})
	if p.chain, p.key, err = PEM(p.pen); err != nil {
		t.Fatal(err)
	}
	p.leafDER = p.pen.Certificate[0]
	p.leafPEM = block("CERTIFICATE", p.leafDER)
	b, _ := pem.Decode(p.key)
	p.keyDER = b.Bytes
	if p.lockedKey, err = LockedPEM(p.pen, passphrase); err != nil {
		t.Fatal(err)
	}
	return p
}

func (p *pot) issue(r Request) tls.Certificate {
	p.t.Helper()
	c, err := p.a.Issue(r)
	if err != nil {
		p.t.Fatal(err)
	}
	return c
}

func block(label string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func replaced(b []byte, old, with string) []byte {
	return bytes.ReplaceAll(b, []byte(old), []byte(with))
}

// quoted writes PEM as the string constant of a C source.
func quoted(b []byte) []byte {
	var out strings.Builder
	out.WriteString("const char *cert =\n")
	for l := range strings.Lines(string(b)) {
		fmt.Fprintf(&out, "  \"%s\\n\"\n", strings.TrimSpace(l))
	}
	return []byte(strings.TrimSuffix(out.String(), "\n") + ";\n")
}

// javaStore is a key store of Java's with pen-1 and the root.
func (p *pot) javaStore(pass string) []byte {
	p.t.Helper()
	ks := keystore.New(keystore.WithOrderedAliases())
	var chain []keystore.Certificate
	for _, der := range p.pen.Certificate {
		chain = append(chain, keystore.Certificate{Type: "X509", Content: der})
	}
	var out bytes.Buffer
	if err := errors.Join(ks.SetPrivateKeyEntry("pen-1", keystore.PrivateKeyEntry{CreationTime: time.Now(), PrivateKey: p.keyDER, CertificateChain: chain}, []byte(pass)),
		ks.SetTrustedCertificateEntry("root", keystore.TrustedCertificateEntry{CreationTime: time.Now(), Certificate: keystore.Certificate{Type: "X509", Content: p.a.Root().Raw}}), ks.Store(&out, []byte(pass))); err != nil {
		p.t.Fatal(err)
	}
	return out.Bytes()
}

func TestEveryFileIsRecognised(t *testing.T) {
	p := newPot(t)
	key, rsaKey := p.pen.PrivateKey.(*ecdsa.PrivateKey), p.old.PrivateKey.(*rsa.PrivateKey)
	leaf := p.pen.Leaf
	wide := utf16.Encode([]rune(string(p.leafPEM)))
	utf16le := []byte{0xff, 0xfe}
	for _, u := range wide {
		utf16le = append(utf16le, byte(u), byte(u>>8))
	}
	request := must(x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: leaf.Subject}, key))
	crl := must(x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: leaf.SerialNumber, ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour)}, p.a.Intermediate(), p.a.key))
	lockedBlock, _ := pem.Decode(p.lockedKey)
	//lint:ignore SA1019 such files still come
	oldLocked := pem.EncodeToMemory(must(x509.EncryptPEMBlock(rand.Reader, "RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(rsaKey), []byte(passphrase), x509.PEMCipherAES128)))
	bundle, err := pkcs7.DegenerateCertificate(append(slices.Clone(p.leafDER), p.a.Intermediate().Raw...))
	if err != nil {
		t.Fatal(err)
	}
	body := strings.Join(strings.Split(strings.TrimSpace(string(p.leafPEM)), "\n")[1:], "")
	body = strings.Split(body, "-----")[0]
	var array strings.Builder
	for i, b := range p.leafDER {
		fmt.Fprintf(&array, "0x%02x, ", b)
		if i%12 == 11 {
			array.WriteString("\n")
		}
	}
	// Keys that Go does not make: by their outer structure alone.
	oid := func(id ...int) asn1.RawValue {
		return asn1.RawValue{FullBytes: must(asn1.Marshal(asn1.ObjectIdentifier(id)))}
	}
	strange := func(params asn1.RawValue, id ...int) []byte {
		return must(asn1.Marshal(struct {
			Version   int
			Algorithm algorithm
			Key       []byte
		}{0, algorithm{asn1.ObjectIdentifier(id), params}, make([]byte, 57)}))
	}
	explicit := asn1.RawValue{FullBytes: must(asn1.Marshal([]int{1, 2}))}
	brainpool := must(asn1.Marshal(struct {
		Version int
		Key     []byte
		Curve   asn1.ObjectIdentifier `asn1:"explicit,tag:0"`
	}{1, make([]byte, 32), asn1.ObjectIdentifier{1, 3, 36, 3, 3, 2, 8, 1, 1, 7}}))
	oldLock := must(asn1.Marshal(struct {
		Algorithm algorithm
		Data      []byte
	}{algorithm{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 12, 1, 3}, explicit}, make([]byte, 64)}))
	p192 := bytes.Replace(p.leafDER, []byte{0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7}, []byte{0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 1}, 1)
	damaged := slices.Clone(p.leafPEM)
	damaged[60] = '*'
	for _, c := range []struct {
		what    string
		name    string
		data    []byte
		items   string // the kinds, as "certificate, private key"
		form    string // of the first item, in part
		anomaly string // part of an anomaly; "" for none at all
		problem string // part of the problem; "" for none
	}{
		{"a certificate in PEM", "pen-1.crt", p.leafPEM, "certificate", "PEM", "", ""},
		{"a certificate in DER", "pen-1.cer", p.leafDER, "certificate", "DER", "", ""},
		{"a chain in one file", "chain.pem", p.chain, "certificate, certificate", "PEM", "", ""},
		{"certificate and key in one file", "pen-1.pem", slices.Concat(p.leafPEM, p.key), "certificate, private key", "PEM", "", ""},
		{"text between the blocks", "bundle.pem", slices.Concat([]byte("Bag Attributes\n    friendlyName: pen\nsubject=CN = pen-1\n"), p.leafPEM), "certificate", "PEM", "", ""},
		{"a key in PKCS #8", "pen-1.key", p.key, "private key", "PEM, PKCS #8", "", ""},
		{"a key in PKCS #8, binary", "pen-1.p8", p.keyDER, "private key", "DER, PKCS #8", "", ""},
		{"a short key in binary", "pen-1.p8", must(x509.MarshalPKCS8PrivateKey(p.issue(Request{CommonName: "pen-2", Key: "Ed25519"}).PrivateKey)), "private key", "DER, PKCS #8", "", ""},
		{"a C array that begins like DER", "ca.h", []byte(strings.ReplaceAll(array.String(), "0x30, 0x82", "0x30,0x82")), "certificate", "DER", "array of bytes", ""},
		{"a key in SEC 1", "pen-1.key", block("EC PRIVATE KEY", must(x509.MarshalECPrivateKey(key))), "private key", "SEC 1", "", ""},
		{"a key in SEC 1 behind its parameters", "pen-1.key", slices.Concat(block("EC PARAMETERS", []byte{6, 8, 0x2a, 0x86, 0x48, 0xce, 0x3d, 3, 1, 7}), block("EC PRIVATE KEY", must(x509.MarshalECPrivateKey(key)))), "parameters, private key", "PEM", "", ""},
		{"a key in PKCS #1", "barge.key", block("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(rsaKey)), "private key", "PKCS #1", "", ""},
		{"a key in PKCS #1, binary", "barge.key", x509.MarshalPKCS1PrivateKey(rsaKey), "private key", "DER, PKCS #1", "", ""},
		{"an encrypted key, no passphrase", "pen-1.key", p.lockedKey, "encrypted private key", "PKCS #8", "", ""},
		{"an encrypted key in binary", "pen-1.key", lockedBlock.Bytes, "encrypted private key", "DER, PKCS #8", "", ""},
		{"a key encrypted by PEM headers", "barge.key", oldLocked, "encrypted private key", "RFC 1421", "", ""},
		{"a key store", "pen-1.p12", must(pkcs12.Modern.Encode(key, leaf, []*x509.Certificate{p.a.Intermediate()}, "other")), "encrypted key store", "PKCS #12", "", ""},
		{"a key store of the old kind", "pen-1.pfx", must(pkcs12.LegacyDES.Encode(key, leaf, nil, "other")), "encrypted key store", "PKCS #12", "", ""},
		{"a key store without a passphrase", "pen-1.p12", must(pkcs12.Passwordless.Encode(key, leaf, []*x509.Certificate{p.a.Intermediate()}, "")), "private key, certificate, certificate", "PKCS #12", "opens without a passphrase", ""},
		{"a key store with the passphrase of all", "pen-1.p12", must(pkcs12.Modern.Encode(key, leaf, nil, "changeit")), "private key, certificate", "PKCS #12", "\"changeit\"", ""},
		{"a trust store", "farm.p12", must(pkcs12.Passwordless.EncodeTrustStore([]*x509.Certificate{p.a.Root()}, "")), "certificate", "PKCS #12", "", ""},
		{"Java's key store", "pen-1.jks", p.javaStore("other"), "encrypted private key, certificate, certificate, certificate", "JKS", "Java's own format", ""},
		{"Java's key store, with the passphrase of all", "pen-1.jks", p.javaStore("changeit"), "private key, certificate, certificate, certificate", "JKS", "\"changeit\"", ""},
		{"a bundle in PKCS #7", "chain.p7b", bundle, "certificate, certificate", "DER, PKCS #7", "", ""},
		{"a bundle in PKCS #7, as text", "chain.p7b", block("PKCS7", bundle), "certificate, certificate", "PEM, PKCS #7", "", ""},
		{"a request", "pen-1.csr", block("CERTIFICATE REQUEST", request), "certificate request", "PKCS #10", "", ""},
		{"a revocation list", "farm.crl", block("X509 CRL", crl), "revocation list", "PEM", "", ""},
		{"a public key", "pen-1.pub", block("PUBLIC KEY", must(x509.MarshalPKIXPublicKey(key.Public()))), "public key", "PEM", "", ""},
		{"a key for SSH", "id", block("OPENSSH PRIVATE KEY", []byte("openssh-key-v1\x00")), "not for TLS", "PEM", "", ""},
		{"a key encrypted as in old stores", "pen-1.key", block("ENCRYPTED PRIVATE KEY", oldLock), "encrypted private key", "PKCS #8", "", ""},
		// Whole, and beyond what can be used.
		{"a key on a curve of its own", "pen-1.key", block("EC PRIVATE KEY", brainpool), "", "", "", "curve brainpoolP256r1"},
		{"a key on secp256k1", "pen-1.p8", strange(oid(1, 3, 132, 0, 10), 1, 2, 840, 10045, 2, 1), "", "", "", "curve secp256k1"},
		{"a key on a nameless curve", "pen-1.p8", strange(oid(1, 2, 3), 1, 2, 840, 10045, 2, 1), "", "", "", "without a common name (1.2.3)"},
		{"a key with its curve spelt out", "pen-1.p8", strange(explicit, 1, 2, 840, 10045, 2, 1), "", "", "", "spelt out by its numbers"},
		{"an Ed448 key", "pen-1.p8", strange(asn1.RawValue{}, 1, 3, 101, 113), "", "", "", "kind Ed448"},
		{"an RSA key for PSS alone", "pen-1.p8", strange(asn1.NullRawValue, 1, 2, 840, 113549, 1, 1, 10), "", "", "", "RSA-PSS alone"},
		{"a key for key agreement", "pen-1.p8", strange(asn1.RawValue{}, 1, 3, 101, 110), "", "", "", "no certificate is made of it"},
		{"a certificate on a curve of old", "pen-1.crt", block("CERTIFICATE", p192), "", "", "", "curve P-192"},
		{"a certificate with settings of one library", "pen-1.crt", block("TRUSTED CERTIFICATE", p.leafDER), "certificate", "PEM", "TRUSTED CERTIFICATE", ""},
		// What becomes of files on their way.
		{"a doubled ending", "ca.crt.crt", p.leafPEM, "certificate", "PEM", "doubled (.crt.crt)", ""},
		{"an ending with .txt added", "ca.pem.txt", p.leafPEM, "certificate", "PEM", "doubled (.pem.txt)", ""},
		{"an ending that lies about the kind", "pen-1.key", p.leafPEM, "certificate", "PEM", "says private key, but it holds a certificate", ""},
		{"an ending that lies about the form", "pen-1.pem", p.leafDER, "certificate", "DER", "says PEM, but it holds DER", ""},
		{"a name that says nothing", "8f3ac91b", p.key, "private key", "PKCS #8", "", ""},
		{"CR LF", "pen-1.crt", replaced(p.leafPEM, "\n", "\r\n"), "certificate", "PEM", "CR LF", ""},
		{"CR alone", "pen-1.crt", replaced(p.leafPEM, "\n", "\r"), "certificate", "PEM", "CR alone", ""},
		{"a byte order mark", "pen-1.crt", slices.Concat([]byte("\xef\xbb\xbf"), p.leafPEM), "certificate", "PEM", "byte order mark", ""},
		{"UTF-16", "pen-1.crt", utf16le, "certificate", "PEM", "UTF-16", ""},
		{"a buffer's zeros at the end", "pen-1.crt", slices.Concat(p.leafPEM, make([]byte, 300)), "certificate", "PEM", "zero bytes", ""},
		{"zeros behind DER", "pen-1.der", slices.Concat(p.leafDER, make([]byte, 4)), "certificate", "DER", "4 bytes stand behind its end", ""},
		{"two structures in DER", "chain.der", slices.Concat(p.leafDER, p.a.Intermediate().Raw), "certificate, certificate", "DER", "one after another", ""},
		{"all on one line", "pen-1.crt", replaced(p.leafPEM, "\n", " "), "certificate", "PEM", "on one line", ""},
		{"indented", "pen-1.crt", replaced(slices.Concat([]byte("\n"), p.leafPEM), "\n", "\n    "), "certificate", "PEM", "indented", ""},
		{"quoted by mail", "pen-1.crt", replaced(slices.Concat([]byte("so:\n"), p.leafPEM), "\n", "\n> "), "certificate", "PEM", "mail does", ""},
		{"typographic dashes", "pen-1.crt", replaced(p.leafPEM, "-----", "–––––"), "certificate", "PEM", "typographic", ""},
		{"no line end between blocks", "chain.pem", replaced(p.chain, "-----\n-----", "----------"), "certificate, certificate", "PEM", "", ""},
		{"inside JSON", "secret.json", must(json.Marshal(map[string]string{"cert": string(p.leafPEM)})), "certificate", "PEM", `written out as \n`, ""},
		{"inside C", "ca.h", quoted(p.leafPEM), "certificate", "PEM", "", ""},
		{"a C array", "ca.h", []byte("unsigned char ca[] = {\n" + array.String() + "};\n"), "certificate", "DER", "array of bytes", ""},
		{"base64 without its lines", "ca", []byte(body), "certificate", "DER", "without the -----BEGIN", ""},
		{"wrapped in base64 once more", "ca", []byte(base64.StdEncoding.EncodeToString(p.leafPEM)), "certificate", "PEM", "wrapped in base64", ""},
		{"hexadecimal", "ca.hex", []byte(hex.EncodeToString(p.leafDER)), "certificate", "DER", "hexadecimal", ""},
		{"a label that lies", "pen-1.key", block("RSA PRIVATE KEY", p.keyDER), "private key", "PKCS #8", "", ""},
		{"a key called certificate", "pen-1.pem", block("CERTIFICATE", p.keyDER), "private key", "PKCS #8", "calls itself certificate", ""},
		{"BEGIN and END that differ", "pen-1.crt", replaced(p.leafPEM, "END CERTIFICATE", "END X509 CERTIFICATE"), "certificate", "PEM", `ends with "X509 CERTIFICATE"`, ""},
		// What cannot be read is a diagnosis too.
		{"nothing", "ca.crt", nil, "", "", "", "it is empty"},
		{"zeros", "ca.crt", make([]byte, 2048), "", "", "", "2048 zero bytes"},
		{"cut short, in PEM", "ca.crt", p.leafPEM[:200], "", "", "", "no -----END line"},
		{"cut short, in DER", "ca.der", p.leafDER[:200], "", "", "", "it is cut short"},
		{"a damaged character", "ca.crt", damaged, "", "", "strict readers", "is damaged"},
		{"a character lost", "ca.crt", slices.Concat(p.leafPEM[:60], p.leafPEM[61:]), "", "", "", "line 1"},
		{"a web page", "ca.crt", []byte("<!DOCTYPE html><html><title>Sign in</title>"), "", "", "", "a web page"},
		{"an archive", "ca.crt", []byte("PK\x03\x04rest"), "", "", "", "ZIP"},
		{"half a store of Java's", "farm.jks", p.javaStore("other")[:400], "", "", "", "cut short"},
		{"a store of Java's with a wild count", "farm.jks", []byte("\xfe\xed\xfe\xed\x00\x00\x00\x02\xff\xff\xff\xff"), "", "", "", "cut short"},
		{"a store of Java's of another version", "farm.jks", []byte("\xfe\xed\xfe\xed\x00\x00\x00\x09\x00\x00\x00\x00"), "", "", "", "version 9"},
		{"a store of Java's with ciphers", "farm.jceks", []byte("\xce\xce\xce\xce\x00\x00\x00\x02"), "", "", "", "JCEKS"},
		{"a picture", "ca.png", []byte("\x89PNG\r\n\x1a\n"), "", "", "", "a picture"},
		{"text", "readme.txt", []byte("The certificate follows by separate mail.\n"), "", "", "", "holds no credentials"},
		{"a broken BEGIN line", "ca.crt", bytes.TrimPrefix(p.leafPEM, []byte("-----")), "", "", "", "damaged"},
		{"something binary", "ca.crt", []byte{1, 2, 3, 0, 5, 6}, "", "", "", "neither PEM nor DER"},
	} {
		f := Recognise(c.name, c.data, nil)
		var kinds, anomalies []string
		for i := range f.Items {
			kinds = append(kinds, string(f.Items[i].Kind))
		}
		for _, m := range f.Anomalies {
			anomalies = append(anomalies, m.What)
			if m.Remedy == "" {
				t.Errorf("%s: no remedy for %q", c.what, m.What)
			}
		}
		if got := strings.Join(kinds, ", "); got != c.items {
			t.Errorf("%s: recognised %q, want %q (%s)", c.what, got, c.items, f.Problem)
			continue
		}
		if len(f.Items) > 0 && !strings.Contains(f.Items[0].Form, c.form) {
			t.Errorf("%s: form %q, want %q", c.what, f.Items[0].Form, c.form)
		}
		if got := strings.Join(anomalies, "; "); !strings.Contains(got, c.anomaly) {
			t.Errorf("%s: anomalies %q, want %q", c.what, got, c.anomaly)
		} else if sound := c.what[0] == 'a' && c.anomaly == "" && c.problem == "" && f.Items != nil; sound && got != "" && c.what != "a label that lies" {
			t.Errorf("%s: it is sound, but told as odd: %s", c.what, got)
		}
		if !strings.Contains(f.Problem, c.problem) || c.problem == "" && f.Problem != "" || f.Problem != "" && f.Remedy == "" {
			t.Errorf("%s: problem %q (remedy %q), want %q", c.what, f.Problem, f.Remedy, c.problem)
		}
	}
	if f := Recognise("x", oldLock, []string{passphrase}); f.LockedItems() != 0 || !strings.Contains(f.Items[0].Beyond, "old key stores") {
		t.Errorf("a passphrase is asked for in vain: %+v", f)
	}
	// What is encrypted opens with its passphrase, among wrong ones.
	for _, c := range []struct {
		what string
		data []byte
		want int
	}{{"PKCS #8", p.lockedKey, 1}, {"PEM headers", oldLocked, 1}, {"Java's key store", p.javaStore(passphrase), 4}, {"old PKCS #12", must(pkcs12.LegacyRC2.Encode(key, leaf, nil, passphrase)), 2},
		{"PKCS #8 of scrypt", block("ENCRYPTED PRIVATE KEY", must(pkcs8.MarshalPrivateKey(key, []byte(passphrase), &pkcs8.Opts{Cipher: pkcs8.AES256CBC, KDFOpts: pkcs8.ScryptOpts{SaltSize: 8, CostParameter: 1 << 4, BlockSize: 8, ParallelizationParameter: 1}}))), 1}} {
		f := Recognise("x", c.data, []string{"wrong", passphrase})
		if len(f.Items) != c.want || f.Items[0].Kind != KindKey || !f.Items[0].Locked || f.LockedItems() != 0 {
			t.Errorf("%s: the passphrase does not open it: %+v", c.what, f.Items)
		}
	}
}

func TestAFolderIsPutTogether(t *testing.T) {
	p := newPot(t)
	dir := t.TempDir()
	write := func(name string, mode os.FileMode, data ...[]byte) {
		if err := os.WriteFile(filepath.Join(dir, name), bytes.Join(data, nil), mode); err != nil {
			t.Fatal(err)
		}
		os.Chmod(filepath.Join(dir, name), mode) // whatever the umask
	}
	expired := p.issue(Request{CommonName: "pen-3", Expired: true})
	weakOne := p.issue(Request{CommonName: "pen-4", Key: "RSA 1024", Until: time.Now().Add(400 * 24 * time.Hour)})
	stranger := must(NewAuthority("elsewhere"))
	foreign := must(stranger.Issue(Request{CommonName: "visitor"}))
	_, weakKey, _ := PEM(weakOne)
	write("farm-ca.crt", 0o644, p.a.RootPEM())
	write("pen-1.crt", 0o644, p.chain)
	write("8f3ac91b", 0o644, p.key)
	write("pen-3.crt", 0o644, block("CERTIFICATE", expired.Certificate[0]))
	write("pen-4.pem", 0o600, block("CERTIFICATE", weakOne.Certificate[0]), weakKey)
	write("visitor.crt", 0o644, block("CERTIFICATE", foreign.Certificate[0]))
	write("copy of pen-1.crt", 0o644, p.leafPEM)
	write("orphan.key", 0o640, block("RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(p.old.PrivateKey.(*rsa.PrivateKey))))
	os.Symlink("gone", filepath.Join(dir, "link.crt"))
	v := Examine(ReadPaths([]string{dir, filepath.Join(dir, "no such file")}, nil), Options{})
	if len(v.Certificates) != 6 || len(v.Keys) != 3 {
		t.Errorf("%d certificates and %d keys, want 6 and 3", len(v.Certificates), len(v.Keys))
	}
	pen := v.Certificates[slices.IndexFunc(v.Certificates, func(c *Certificate) bool { return c.Title() == "pen-1" })]
	if pen.Key == nil || filepath.Base(pen.Key.Files[0]) != "8f3ac91b" || len(pen.Chain) != 3 || pen.Missing != "" || pen.Role != RoleClient || len(pen.Files) != 2 {
		t.Errorf("pen-1: %+v", pen)
	}
	var names []string
	for _, i := range v.Identities {
		names = append(names, fmt.Sprintf("%s %s+%s ca %s", i.Name, filepath.Base(i.CertificateFile), filepath.Base(i.KeyFile), filepath.Base(i.CAFile)))
	}
	want := "pen-1 pen-1.crt+8f3ac91b ca farm-ca.crt, pen-4 pen-4.pem+pen-4.pem ca farm-ca.crt"
	if got := strings.Join(names, ", "); got != want {
		t.Errorf("logins %q, want %q", got, want)
	}
	all := ""
	for _, f := range v.Findings {
		all += fmt.Sprintf("%s | %s | %s | %s\n", f.Severity, filepath.Base(f.Where), f.What, f.Remedy)
	}
	for _, part := range []string{"broken | pen-3 | it expired on", "worry | pen-4 | its RSA key has 1024 bits", "worry | 8f3ac91b | it holds a private key that everybody",
		"note | orphan.key | it holds a private key that its group", "note | orphan.key | no certificate here fits", "broken | visitor | its chain is incomplete: the certificate of elsewhere intermediate",
		"broken | link.crt | it is a link to gone", "broken | no such file | there is no such file", "note | visitor | no key here fits it"} {
		if !strings.Contains(all, part) {
			t.Errorf("not found: %q in\n%s", part, all)
		}
	}
	if strings.Contains(all, "worry | pen-4.pem") {
		t.Error("a key that only its owner reads is called open")
	}
	// A renewed certificate is told from the one before it.
	renewed := p.issue(Request{CommonName: "pen-1"})
	write("pen-1 new.crt", 0o644, block("CERTIFICATE", renewed.Certificate[0]))
	titles := map[string]bool{}
	for _, c := range Examine(ReadPaths([]string{dir, dir}, nil), Options{}).Certificates {
		titles[c.Title()] = true
	}
	if len(titles) != 7 || titles["pen-1"] {
		t.Errorf("titles %v", titles)
	}
	// The same files with the other CA beside them lack nothing.
	write("other-ca.crt", 0o644, stranger.RootPEM(), block("CERTIFICATE", stranger.Intermediate().Raw))
	for _, f := range Examine(ReadPaths([]string{dir}, nil), Options{}).Findings {
		if strings.Contains(f.What, "incomplete") {
			t.Errorf("still incomplete: %+v", f)
		}
	}
	late := Examine(ReadPaths([]string{dir}, nil), Options{Now: time.Now().Add(lifetime + time.Hour)})
	if Worst(late.Findings) != Broken || !slices.ContainsFunc(late.Findings, func(f Finding) bool {
		return strings.HasPrefix(f.Where, "pen-1 until") && strings.Contains(f.What, "expired")
	}) {
		t.Error("a month later pen-1 has not expired")
	}
}

func TestTheCAIsExportedForFirmware(t *testing.T) {
	a := must(NewAuthority("marrow voe"))
	cas := []*x509.Certificate{a.Root()}
	for _, format := range ExportFormats {
		out, err := ExportCA(format, cas, true)
		if err != nil {
			t.Fatal(err)
		}
		f := Recognise("ca", out, nil)
		if len(f.Items) != 1 || f.Items[0].Kind != KindCertificate || !f.Items[0].Certificate.Equal(a.Root()) {
			t.Errorf("%s is not read back: %+v\n%s", format, f, out)
		}
		if format != "der" && !strings.Contains(string(out), "NOT YET TRUSTED") {
			t.Errorf("%s does not say that the CA is not yet trusted:\n%s", format, out)
		}
	}
	if _, err := ExportCA("der", append(cas, a.Intermediate()), false); err == nil {
		t.Error("two certificates in DER")
	}
	if _, err := ExportCA("basic", cas, false); err == nil || !strings.Contains(err.Error(), "rust") {
		t.Errorf("an unknown format: %v", err)
	}
}

func FuzzRecognise(f *testing.F) {
	a := must(NewAuthority("fuzz"))
	c := must(a.Issue(Request{CommonName: "pen"}))
	chain, key, _ := PEM(c)
	f.Add(chain)
	f.Add(key)
	f.Add(c.Certificate[0])
	f.Add(quoted(chain))
	f.Add([]byte(base64.StdEncoding.EncodeToString(chain)))
	f.Add([]byte("\xfe\xed\xfe\xed\x00\x00\x00\x02\x00\x00\x00\x01\x00\x00\x00\x02\x00\x01a12345678\x00\x01X\x00\x00\x00\x01x12345678901234567890"))
	f.Add(must(pkcs12.Passwordless.Encode(c.PrivateKey, c.Leaf, nil, "")))
	f.Fuzz(func(t *testing.T, data []byte) {
		got := Recognise("x.pem", data, []string{"a"})
		if len(got.Items) == 0 && got.Problem == "" {
			t.Error("nothing is recognised, and nothing is wrong")
		}
		Examine([]*File{got}, Options{})
	})
}

func FuzzServerHello(f *testing.F) {
	f.Add([]byte{22, 3, 3, 0, 4, 2, 0, 0, 0})
	f.Add([]byte{21, 3, 3, 0, 2, 2, 70})
	f.Fuzz(func(t *testing.T, data []byte) {
		if a := readAnswer(bytes.NewReader(data)); !a.Taken && !a.Alerted && a.Ended == "" {
			t.Error("an answer that is neither taken nor refused")
		}
	})
}
