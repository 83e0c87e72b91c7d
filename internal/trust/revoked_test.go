package trust

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestARevocationListIsHeeded: what is on it, whether it is its CA's, and whether it is of today.
func TestARevocationListIsHeeded(t *testing.T) {
	p := newPot(t)
	lost := p.issue(Request{CommonName: "pen-5"})
	quay := p.issue(Request{CommonName: "quay", Names: []string{"127.0.0.1"}})
	dir := t.TempDir()
	write := func(name string, parts ...[]byte) {
		if err := os.WriteFile(filepath.Join(dir, name), slices.Concat(parts...), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	lostChain, lostKey, _ := PEM(lost)
	write("farm-ca.pem", p.a.RootPEM())
	write("pen-5.pem", lostChain, lostKey)
	write("pen-1.pem", p.chain, p.key)
	write("farm.crl", must(p.a.Revoke(lost.Leaf, quay.Leaf)))
	write("elsewhere.crl", must(must(NewAuthority("elsewhere")).Revoke()))
	write("forged.crl", must(must(NewAuthority("marrow voe")).Revoke(p.pen.Leaf))) // a CA of the same name
	examine := func(now time.Time) (*Inventory, string) {
		v := Examine(ReadPaths([]string{dir}, nil), Options{Now: now})
		all := ""
		for _, f := range v.Findings {
			all += fmt.Sprintf("%s | %s | %s\n", f.Severity, filepath.Base(f.Where), f.What)
		}
		return v, all
	}
	v, all := examine(time.Now())
	for _, want := range []string{"broken | pen-5 | it is revoked since", "broken | forged.crl | it claims to be the list of marrow voe intermediate, whose key did not sign it", "note | elsewhere.crl | its signature cannot be verified"} {
		if !strings.Contains(all, want) {
			t.Errorf("not found: %q in\n%s", want, all)
		}
	}
	if strings.Contains(all, "pen-1 | it is revoked") || strings.Contains(all, "out of date") {
		t.Errorf("a list that nobody signed is heeded, or one is taken for old:\n%s", all)
	}
	if _, all := examine(time.Now().Add(lifetime + time.Minute)); !strings.Contains(all, "worry | farm.crl | it is out of date since") {
		t.Errorf("a month later:\n%s", all)
	}
	pairs := v.ClientPairs()
	if pairs.Ours == nil || !pairs.Ours.Leaf.Equal(p.pen.Leaf) || pairs.Revoked == nil || !pairs.Revoked.Leaf.Equal(lost.Leaf) {
		t.Fatalf("pairs %+v", pairs)
	}
	// Tried on a server that heeds the list, and on one that does not.
	heeds := func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) > 0 && s.PeerCertificates[0].Equal(lost.Leaf) {
			return errors.New("revoked")
		}
		return nil
	}
	for want, verify := range map[Verdict]func(tls.ConnectionState) error{Kept: heeds, Failed: nil} {
		s := Look(context.Background(), SurveyOptions{Host: "127.0.0.1", CAs: []*x509.Certificate{p.a.Root()}, Pairs: pairs, Revocations: v.Revocations(), Greeting: []byte("hello"),
			Dial: listen(t, &tls.Config{Certificates: []tls.Certificate{quay}, ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: p.a.Pool(), VerifyConnection: verify})})
		at := slices.IndexFunc(s.Trials, func(x Trial) bool { return x.Name == "a revoked certificate" })
		if at < 0 || s.Trials[at].Verdict != want {
			t.Errorf("want %s: %+v", want, s.Trials)
		}
		if !strings.Contains(findings(s), "broken: the server's certificate is revoked since") {
			t.Errorf("the server's own certificate is on the list, and nobody says so: %s", findings(s))
		}
	}
}
