package trust

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"software.sslmate.com/src/go-pkcs12"
)

// TestOurHelloIsUnderstood lets the standard library's server read it: it must see what was
// offered, and its choice must be read back.
func TestOurHelloIsUnderstood(t *testing.T) {
	p := newPot(t)
	old := p.issue(Request{Names: []string{"quay.local"}, Key: "RSA 2048"})
	for _, c := range []struct {
		hello  Hello
		config *tls.Config
		want   string // the answer
	}{
		{Hello{Version: tls.VersionTLS13, Suites: SuitesOf(tls.VersionTLS13), ServerName: "quay.local", Protocols: []string{"mqtt", "x"}}, &tls.Config{}, "taken: TLS_AES_128_GCM_SHA256"},
		{Hello{Version: tls.VersionTLS13, Suites: []uint16{0x1303}, ServerName: "quay.local."}, &tls.Config{}, "taken: TLS_CHACHA20_POLY1305_SHA256"},
		{Hello{Version: tls.VersionTLS13, Suites: []uint16{0x1304}, ServerName: "10.0.0.7"}, &tls.Config{}, "refused: alert handshake_failure"},
		{Hello{Version: tls.VersionTLS13, Suites: []uint16{0x1301}}, &tls.Config{CurvePreferences: []tls.CurveID{tls.CurveP384}}, "taken: TLS_AES_128_GCM_SHA256"}, // by a HelloRetryRequest
		{Hello{Version: tls.VersionTLS12, Suites: SuitesOf(tls.VersionTLS12)}, &tls.Config{}, "taken: TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"},
		{Hello{Version: tls.VersionTLS12, Suites: []uint16{0x000A}}, &tls.Config{CipherSuites: []uint16{0x000A}}, "taken: TLS_RSA_WITH_3DES_EDE_CBC_SHA"},
		{Hello{Version: tls.VersionTLS11, Suites: SuitesOf(tls.VersionTLS11)}, &tls.Config{MinVersion: tls.VersionTLS10}, "taken: TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA"},
		{Hello{Version: tls.VersionTLS10, Suites: SuitesOf(tls.VersionTLS10)}, &tls.Config{}, "refused: alert protocol_version"},
	} {
		seen := make(chan *tls.ClientHelloInfo, 1)
		c.config.Certificates = []tls.Certificate{old}
		c.config.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
			seen <- h
			return nil, nil
		}
		dial := listen(t, c.config)
		a, err := c.hello.Ask(context.Background(), dial)
		if err != nil {
			t.Fatal(err)
		}
		if a.String() != c.want || a.Taken && a.Version != c.hello.Version {
			t.Errorf("%+v: %s (TLS %s), want %s", c.hello, a, VersionName(a.Version), c.want)
		}
		h := <-seen
		name := strings.TrimSuffix(c.hello.ServerName, ".")
		if net.ParseIP(name) != nil {
			name = "" // no address is sent as a name
		}
		if h.ServerName != name || !slices.Equal(h.CipherSuites, c.hello.Suites) || len(c.hello.Protocols) > 0 && !slices.Equal(h.SupportedProtos, c.hello.Protocols) {
			t.Errorf("seen: %q %x %v", h.ServerName, h.CipherSuites, h.SupportedProtos)
		}
	}
}

func TestAnswersThatAreNoTLS(t *testing.T) {
	for text, want := range map[string]string{
		"":                                         "refused: closed",
		"\x15\x03\x01\x00\x02\x02\x28":             "refused: alert handshake_failure",
		"\x15\x03\x01\x00\x02\x02\xfa":             "refused: alert 250",
		"\x15\x03\x03\x00\x02\x01\x70":             "refused: closed", // a warning, and nothing after it
		"\x15\x03\x03\x00\x01\x02":                 "refused: an alert that is cut short",
		"\x16\x03\x03\x00\x04\x0e\x00\x00\x00":     "refused: a handshake message of type 14 in place of ServerHello",
		"\x16\x03\x03\x00\x05\x02\x00\x00\x01\x03": "refused: a ServerHello that is cut short",
		"\x16\x03\x03\x00\x40\x02":                 "refused: closed",
		"HTTP/1.1 400 Bad Request\r\n":             "refused: an answer that is no TLS",
		"\x20\x02\x00\x00":                         "refused: an answer that is no TLS",
		"\x16\x03\x03\xff\xff" + strings.Repeat("\x02\xff", 32_767) + "\x02\x16\x03\x03\x00\x10": "refused: an answer that is too long for a ServerHello",
	} {
		if got := readAnswer(strings.NewReader(text)).String(); got != want {
			t.Errorf("%.20q: %s, want %s", text, got, want)
		}
	}
	silent := func(context.Context) (net.Conn, error) {
		a, b := net.Pipe()
		go io.Copy(io.Discard, b)
		return a, nil
	}
	if a, err := (Hello{Version: tls.VersionTLS12, Suites: []uint16{1}, Wait: 20 * time.Millisecond}).Ask(context.Background(), silent); err != nil || a.Ended != "silent" {
		t.Errorf("%+v %v", a, err)
	}
	down := errors.New("no route")
	if _, err := (Hello{}).Ask(context.Background(), func(context.Context) (net.Conn, error) { return nil, down }); !errors.Is(err, down) {
		t.Errorf("%v", err)
	}
	if s := Look(context.Background(), SurveyOptions{Host: "x", Dial: func(context.Context) (net.Conn, error) { return nil, down }}); !errors.Is(s.Err, down) {
		t.Errorf("%v", s.Err)
	}
	if s := Look(context.Background(), SurveyOptions{Host: "x", Dial: func(context.Context) (net.Conn, error) {
		a, b := net.Pipe()
		go func() { b.Read(make([]byte, 2048)); b.Write([]byte("220 mail\r\n")); b.Close() }()
		return a, nil
	}}); s.Err == nil || !strings.Contains(s.Err.Error(), "takes no version of TLS") {
		t.Errorf("%v", s.Err)
	}
}

func TestNamesOfVersionsAndSuites(t *testing.T) {
	for _, v := range Versions {
		if got, err := ParseVersion(VersionName(v)); err != nil || got != v {
			t.Errorf("%s is read as %x: %v", VersionName(v), got, err)
		}
		for _, id := range SuitesOf(v) {
			if got, err := ParseSuite(SuiteName(id)); err != nil || got != id {
				t.Errorf("%s is read as %x: %v", SuiteName(id), got, err)
			}
			// Where the standard library knows the suite, the names and versions agree.
			for _, s := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
				if s.ID == id && (strings.TrimSuffix(s.Name, "_SHA256") != strings.TrimSuffix(SuiteName(id), "_SHA256") || !slices.Contains(s.SupportedVersions, v)) {
					t.Errorf("0x%04X is %s, not %s", id, s.Name, SuiteName(id))
				}
			}
		}
	}
	for text, want := range map[string]uint16{"0x1301": 0x1301, "AES_128_GCM_SHA256": 0x1301, "tls_rsa_with_rc4_128_sha": 5} {
		if got, err := ParseSuite(text); err != nil || got != want {
			t.Errorf("%s: %x %v", text, got, err)
		}
	}
	if _, err := ParseSuite("TLS_NULL"); err == nil {
		t.Error("no such suite")
	}
	if SuiteName(0xffff) != "suite 0xFFFF" || WeakSuite(0x1301) != "" || WeakSuite(0x000A) == "" || WeakSuite(0x009C) == "" || WeakSuite(0x0005) == "" {
		t.Error("names or judgement of suites")
	}
}

func TestAPairIsMadeOfAnyForm(t *testing.T) {
	p := newPot(t)
	other := p.issue(Request{CommonName: "pen-2"})
	_, otherKey, _ := PEM(other)
	store := must(pkcs12.Modern.Encode(p.pen.PrivateKey, p.pen.Leaf, []*x509.Certificate{p.a.Intermediate()}, passphrase))
	for _, c := range []struct {
		what       string
		chain, key []byte
		pass       string
		certs      int
		problem    string
	}{
		{"PEM", p.chain, p.key, "", 2, ""},
		{"DER", p.leafDER, p.keyDER, "", 1, ""},
		{"both in one file", slices.Concat(p.key, p.chain), nil, "", 2, ""},
		{"the chain out of order", slices.Concat(block("CERTIFICATE", p.a.Intermediate().Raw), p.leafPEM), p.key, "", 2, ""},
		{"CR LF and a BOM", slices.Concat([]byte("\xef\xbb\xbf"), replaced(p.leafPEM, "\n", "\r\n")), p.key, "", 1, ""},
		{"an encrypted key", p.chain, p.lockedKey, passphrase, 2, ""},
		{"a key store", store, nil, passphrase, 2, ""},
		{"Java's key store", p.javaStore(passphrase), nil, passphrase, 3, ""},
		{"Java's key store, no passphrase", p.javaStore(passphrase), nil, "", 0, "needs a passphrase"},
		{"an encrypted key, no passphrase", p.chain, p.lockedKey, "", 0, "needs a passphrase"},
		{"an encrypted key, a wrong one", p.chain, p.lockedKey, "x", 0, "the passphrase does not open it"},
		{"a key store, no passphrase", store, nil, "", 0, "needs a passphrase"},
		{"another's key", p.chain, otherKey, "", 0, "does not belong to the certificate"},
		{"no key", p.chain, nil, "", 0, "holds no key"},
		{"a certificate for a key", p.chain, p.chain, "", 0, "it is a certificate"},
		{"a key for a certificate", p.key, p.key, "", 0, "it is a private key"},
		{"nothing", nil, p.key, "", 0, "it is empty"},
	} {
		pair, err := Pair(c.chain, c.key, c.pass)
		switch {
		case c.problem != "":
			var locked *LockedError
			if err == nil || !strings.Contains(err.Error(), c.problem) || errors.As(err, &locked) != strings.Contains(c.problem, "passphrase") {
				t.Errorf("%s: %v", c.what, err)
			}
		case err != nil || len(pair.Certificate) != c.certs || !bytes.Equal(pair.Certificate[0], p.leafDER) || !SamePublic(pair.Leaf.PublicKey, p.pen.Leaf.PublicKey):
			t.Errorf("%s: %d certificates, %v", c.what, len(pair.Certificate), err)
		}
	}
	cas, err := CAs(slices.Concat(p.a.RootPEM(), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.a.Intermediate().Raw})))
	if err != nil || len(cas) != 2 || Pool(cas) == nil || Pool(nil) != nil {
		t.Errorf("%d CAs: %v", len(cas), err)
	}
	if _, err := CAs(p.key); err == nil || !strings.Contains(err.Error(), "it is a private key") {
		t.Errorf("%v", err)
	}
}

func TestADevicesMeansAreRead(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "1.2": "1.2", "TLS 1.2, 1.3": "1.2 1.3", "1.2 0xC0AE tls_ecdhe_ecdsa_with_aes_128_gcm_sha256": "1.2 TLS_ECDHE_ECDSA_WITH_AES_128_CCM_8 TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
		"2.0": "!there are TLS 1.0", "1.2 NONSENSE": "!is not known", "0x1301": "!name a version",
	} {
		d, err := ParseDevice(text)
		if bad, fails := strings.CutPrefix(want, "!"); fails {
			if err == nil || !strings.Contains(err.Error(), bad) {
				t.Errorf("%q: %v", text, err)
			}
			continue
		}
		if again, err2 := ParseDevice(d.String()); err != nil || err2 != nil || d.String() != want || again.String() != want {
			t.Errorf("%q is read as %q, then %q: %v, %v", text, d, again, err, err2)
		}
	}
}
