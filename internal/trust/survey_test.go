package trust

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ocsp"
)

// listen serves TLS until the test ends; it answers what it is greeted with.
func listen(t *testing.T, config *tls.Config) Dialer {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				s := tls.Server(c, config)
				b := make([]byte, 16)
				if n, err := s.Read(b); err == nil {
					s.Write(b[:n])
					s.Read(b) // until the other side has closed
				}
			}()
		}
	}()
	return func(ctx context.Context) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", ln.Addr().String())
	}
}

func findings(s *Survey) (out string) {
	for _, f := range s.Findings {
		out += fmt.Sprintf("%s: %s\n", f.Severity, f.What)
	}
	return out
}

// stapling serves a certificate without its intermediate, and with an OCSP response.
func stapling(p *pot, server tls.Certificate, status int) *tls.Config {
	server.Certificate = server.Certificate[:1]
	server.OCSPStaple = must(ocsp.CreateResponse(p.a.Intermediate(), p.a.Intermediate(), ocsp.Response{Status: status, SerialNumber: server.Leaf.SerialNumber, RevokedAt: time.Now().Add(-time.Hour), ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour)}, p.a.key))
	return &tls.Config{Certificates: []tls.Certificate{server}}
}

// TestAnExpiredCertificateIsMadeOnTheSpot: where the CA's key lies beside what it signed.
func TestAnExpiredCertificateIsMadeOnTheSpot(t *testing.T) {
	p := newPot(t)
	p.a = must(NewLongAuthority("marrow voe")) // older than what it issues
	p.pen = p.issue(Request{CommonName: "pen-1"})
	dir := t.TempDir()
	chain, key, err := PEM(p.pen)
	if err != nil {
		t.Fatal(err)
	}
	_, caKey, err := PEM(tls.Certificate{Certificate: [][]byte{p.a.Intermediate().Raw}, PrivateKey: p.a.key})
	if err != nil {
		t.Fatal(err)
	}
	inventory := func(files map[string][]byte) *Inventory {
		for name, data := range files {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		return Examine(ReadPaths([]string{dir}, nil), Options{})
	}
	if p := inventory(map[string][]byte{"pen-1.crt": chain, "pen-1.key": key}).ClientPairs(); p.Ours == nil || p.Expired != nil {
		t.Errorf("without a CA's key: %+v", p)
	}
	v := inventory(map[string][]byte{"ca.key": caKey})
	pairs := v.ClientPairs()
	ours, expired := pairs.Ours, pairs.Expired
	if expired == nil || expired.Leaf.Subject.String() != ours.Leaf.Subject.String() || !expired.Leaf.NotAfter.Before(v.At) || len(expired.Certificate) != 2 {
		t.Fatalf("made: %+v", expired)
	}
	try := func(config *tls.Config) string {
		s := Look(context.Background(), SurveyOptions{Host: "127.0.0.1", CAs: []*x509.Certificate{p.a.Root()}, Pairs: pairs, Greeting: []byte("hello"), Dial: listen(t, config)})
		for _, tr := range s.Trials {
			if tr.Name == "an expired certificate" {
				return string(tr.Verdict) + ": " + tr.Seen
			}
		}
		return ""
	}
	server := p.issue(Request{CommonName: "quay", Names: []string{"127.0.0.1"}})
	if got := try(&tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: p.a.Pool()}); !strings.Contains(got, "kept: refused: alert certificate_expired") {
		t.Errorf("a server that looks at the time: %s", got)
	}
	early := func() time.Time { return time.Now().Add(-2 * time.Hour) } // its clock is wrong
	if got := try(&tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: p.a.Pool(), Time: early}); got != "broken: in" {
		t.Errorf("a server that does not: %s", got)
	}
	// One that is there is taken.
	old := p.issue(Request{CommonName: "pen-3", Expired: true})
	oldChain, oldKey, _ := PEM(old)
	if expired := inventory(map[string][]byte{"pen-3.crt": oldChain, "pen-3.key": oldKey}).ClientPairs().Expired; expired == nil || !expired.Leaf.Equal(old.Leaf) {
		t.Errorf("the expired one of the files is not taken: %+v", expired)
	}
}

func TestAServerIsSurveyed(t *testing.T) {
	p := newPot(t)
	server := p.issue(Request{CommonName: "quay", Names: []string{"quay.local", "127.0.0.1"}})
	expired := p.issue(Request{CommonName: "pen-9", Expired: true})
	cas := []*x509.Certificate{p.a.Root()}
	pool := p.a.Pool()
	base := SurveyOptions{Host: "127.0.0.1", CAs: cas, Pairs: Pairs{Ours: &p.pen, Expired: &expired}, Greeting: []byte("hello")}
	verdicts := func(s *Survey) string {
		var out []string
		for _, tr := range s.Trials {
			out = append(out, fmt.Sprintf("%s=%s", tr.Name, tr.Verdict))
		}
		return strings.Join(out, ", ")
	}
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	if s := Look(stopped, SurveyOptions{Host: "127.0.0.1", Dial: listen(t, &tls.Config{Certificates: []tls.Certificate{server}})}); s.Err == nil || !strings.HasPrefix(s.Err.Error(), "stopped") {
		t.Errorf("stopped: %v", s.Err)
	}
	for _, c := range []struct {
		what    string
		config  *tls.Config
		change  func(*SurveyOptions)
		taken   string
		trials  string // all of it, or "" for not looked at
		finding string // part of the findings; "" for none but notes
		more    func(*testing.T, *Survey)
	}{
		{"client certificates required", &tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: pool}, nil, "1.3, 1.2",
			"ALPN mqtt=kept, our certificate=kept, no certificate=kept, a stranger's certificate=kept, an expired certificate=kept, our certificate without its key=kept, a wrong server name=kept", "", func(t *testing.T, s *Survey) {
				if !s.Required || !slices.Contains(s.CAs, "marrow voe root") || !strings.HasPrefix(s.Resumption, "resumed") || s.OCSP != "none" || s.ALPN != "ignored" {
					t.Errorf("required %v, from %v, resumption %q, OCSP %q, ALPN %q", s.Required, s.CAs, s.Resumption, s.OCSP, s.ALPN)
				}
				if seen := s.Trials[2].Seen; !strings.Contains(seen, "certificate_required") || !strings.Contains(seen, "first read") {
					t.Errorf("without a certificate: %s", seen)
				}
				if s.Presented.Root == nil || !s.Presented.Root.Equal(p.a.Root()) || !s.Presented.NameOK {
					t.Errorf("presented: %+v", s.Presented)
				}
			}},
		{"any client certificate taken", &tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequireAnyClientCert, MaxVersion: tls.VersionTLS12}, nil, "1.2",
			"ALPN mqtt=kept, our certificate=kept, no certificate=kept, a stranger's certificate=broken, an expired certificate=broken, our certificate without its key=kept, a wrong server name=kept", "a stranger's certificate: expected refused, seen: in", nil},
		{"no client certificates", &tls.Config{Certificates: []tls.Certificate{server}}, nil, "1.3, 1.2",
			"ALPN mqtt=kept, our certificate=skipped, no certificate=skipped, a stranger's certificate=skipped, an expired certificate=skipped, a wrong server name=kept", "", nil},
		{"our certificate from another CA", &tls.Config{Certificates: []tls.Certificate{server}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: must(NewAuthority("other")).Pool()}, nil, "1.3, 1.2", "",
			"our certificate: expected in, seen: refused: alert unknown_ca (it does not know the CA that signed it), on the first read", nil},
		{"old versions", &tls.Config{Certificates: []tls.Certificate{server}, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11}, nil, "1.1, 1.0", "", "still takes TLS 1.0", nil},
		{"one suite", &tls.Config{Certificates: []tls.Certificate{server}, MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256}},
			func(o *SurveyOptions) {
				o.Device = Device{[]uint16{tls.VersionTLS12, tls.VersionTLS13}, []uint16{0xC02C, 0x1304}}
			}, "1.2", "", "a device with TLS 1.3 and 1.2 does not get in: refused: alert handshake_failure", func(t *testing.T, s *Survey) {
				if got := s.Versions[1].Suites; !slices.Equal(got, []uint16{0xC02B}) {
					t.Errorf("suites %x", got)
				}
				if d := s.Device[1]; d.In || !strings.Contains(d.Seen, "chose TLS 1.2") && !strings.Contains(d.Seen, "protocol_version") {
					t.Errorf("a device with 1.3 alone: %+v", d)
				}
			}},
		{"a device of 1.3", &tls.Config{Certificates: []tls.Certificate{server}}, func(o *SurveyOptions) {
			o.Device = Device{[]uint16{tls.VersionTLS13}, []uint16{0x1303}}
		}, "1.3, 1.2", "", "", func(t *testing.T, s *Survey) {
			if !s.Device[0].In || !strings.Contains(s.Device[0].Seen, "CHACHA20") {
				t.Errorf("the device: %+v", s.Device[0])
			}
			if got := len(s.Versions[0].Suites); got != 3 {
				t.Errorf("%d suites of TLS 1.3 are taken, want Go's three", got)
			}
		}},
		{"ALPN agreed", &tls.Config{Certificates: []tls.Certificate{server}, NextProtos: []string{"mqtt"}}, nil, "1.3, 1.2", "", "", func(t *testing.T, s *Survey) {
			if s.ALPN != "agreed" {
				t.Errorf("ALPN %q", s.ALPN)
			}
		}},
		{"another ALPN only", &tls.Config{Certificates: []tls.Certificate{server}, NextProtos: []string{"h2"}}, nil, "1.3, 1.2", "", "ALPN mqtt: expected the same as without, seen: refused: alert no_application_protocol", nil},
		{"a stapled response", &tls.Config{Certificates: []tls.Certificate{func() tls.Certificate {
			c := server
			c.OCSPStaple = must(ocsp.CreateResponse(p.a.Intermediate(), p.a.Intermediate(), ocsp.Response{Status: ocsp.Good, SerialNumber: server.Leaf.SerialNumber, ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour)}, p.a.key))
			return c
		}()}}, nil, "1.3, 1.2", "", "", func(t *testing.T, s *Survey) {
			if !strings.HasPrefix(s.OCSP, "stapled: good") {
				t.Errorf("OCSP %q", s.OCSP)
			}
		}},
		{"a stapled response, the issuer among the CAs", stapling(p, server, ocsp.Good), func(o *SurveyOptions) { o.CAs = append([]*x509.Certificate{p.a.Intermediate()}, cas...) }, "1.3, 1.2", "", "", func(t *testing.T, s *Survey) {
			if !strings.HasPrefix(s.OCSP, "stapled: good, until") {
				t.Errorf("OCSP %q", s.OCSP)
			}
		}},
		{"a stapled response that nobody can verify", stapling(p, server, ocsp.Good), nil, "1.3, 1.2", "", "leaves out the certificate", func(t *testing.T, s *Survey) {
			if !strings.Contains(s.OCSP, "could not be verified") {
				t.Errorf("OCSP %q", s.OCSP)
			}
		}},
		{"a stapled response that revokes", stapling(p, server, ocsp.Revoked), func(o *SurveyOptions) { o.CAs = append([]*x509.Certificate{p.a.Intermediate()}, cas...) }, "1.3, 1.2", "", "the certificate is revoked since", nil},
		{"a device with one version of two", &tls.Config{Certificates: []tls.Certificate{server}, MinVersion: tls.VersionTLS13}, func(o *SurveyOptions) { o.Device.Versions = []uint16{tls.VersionTLS12, tls.VersionTLS13} }, "1.3", "", "", func(t *testing.T, s *Survey) {
			if !s.Device[0].In || s.Device[0].Seen != "gets TLS_AES_128_GCM_SHA256 in TLS 1.3" || !s.Device[1].In || s.Device[2].In || !strings.Contains(findings(s), "note: a device limited to TLS 1.2 does not get in") {
				t.Errorf("device %+v, %s", s.Device, findings(s))
			}
		}},
		{"no CA given, and the root sent", &tls.Config{Certificates: []tls.Certificate{{Certificate: append(slices.Clone(server.Certificate), p.a.Root().Raw), PrivateKey: server.PrivateKey}}},
			func(o *SurveyOptions) { o.CAs = nil }, "1.3, 1.2", "", "comes from the server itself: not yet trusted", func(t *testing.T, s *Survey) {
				if s.Fetched == nil || !s.Fetched.Equal(p.a.Root()) || s.Presented.Cause != ChainUnknownCA {
					t.Errorf("fetched %v, cause %q", s.Fetched, s.Presented.Cause)
				}
			}},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			o := base
			o.Dial = listen(t, c.config)
			if c.change != nil {
				c.change(&o)
			}
			s := Look(context.Background(), o)
			if s.Err != nil {
				t.Fatal(s.Err)
			}
			if s.Taken() != c.taken {
				t.Errorf("versions taken %s, want %s", s.Taken(), c.taken)
			}
			if got := verdicts(s); c.trials != "" && got != c.trials {
				t.Errorf("trials\n%s\nwant\n%s\n%+v", got, c.trials, s.Trials)
			}
			got := findings(s)
			if !strings.Contains(got, c.finding) || c.finding == "" && (strings.Contains(got, "broken:") || strings.Contains(got, "worry:")) {
				t.Errorf("findings:\n%swant %q", got, c.finding)
			}
			if c.more != nil {
				c.more(t, s)
			}
		})
	}
}

func TestAChainIsJudged(t *testing.T) {
	p := newPot(t)
	other, again := must(NewAuthority("elsewhere")), must(NewAuthority("marrow voe"))
	names := []string{"quay.local"}
	for _, c := range []struct {
		want ChainCause
		cas  []*x509.Certificate
		cert tls.Certificate
	}{
		{"", []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names})},
		{"", []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names, Key: "RSA 2048"})},
		{ChainExpired, []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names, Expired: true})},
		{ChainNotYet, []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names, NotYet: true})},
		{ChainWrongName, []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: []string{"barge.local"}})},
		{ChainOldName, []*x509.Certificate{p.a.Root()}, p.issue(Request{CommonName: "quay.local", Names: names, CommonNameOnly: true})},
		{ChainSelfSigned, []*x509.Certificate{p.a.Root()}, p.issue(Request{CommonName: "quay.local", Names: names, SelfSigned: true})},
		{ChainIncomplete, []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names, Incomplete: true})},
		{ChainUnknownCA, []*x509.Certificate{other.Root()}, p.issue(Request{Names: names})},
		{ChainRenewedCA, []*x509.Certificate{again.Root()}, p.issue(Request{Names: names})},
		{ChainWrongUse, []*x509.Certificate{p.a.Root()}, p.issue(Request{Names: names, ForClients: true})},
		{ChainUnspecified, nil, tls.Certificate{}},
	} {
		var chain []*x509.Certificate
		for _, der := range c.cert.Certificate {
			chain = append(chain, must(x509.ParseCertificate(der)))
		}
		got := Verify(chain, c.cas, "quay.local", time.Now())
		if got.Cause != c.want || (c.want != "") != (got.What != "" && got.Remedy != "") {
			t.Errorf("want %q, got %q: %s: %s", c.want, got.Cause, got.What, got.Remedy)
		}
	}
	late := p.issue(Request{Names: names, Until: time.Now().Add(400 * 24 * time.Hour)})
	chain := []*x509.Certificate{late.Leaf, p.a.Intermediate()}
	if got := Verify(chain, []*x509.Certificate{p.a.Root()}, "quay.local", time.Now().Add(lifetime+time.Hour)); got.Cause != ChainCAExpired {
		t.Errorf("with an expired CA above: %q %s", got.Cause, got.What)
	}
}
