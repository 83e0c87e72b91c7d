package cli_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"hodstone/internal/trust"
)

// service is one that takes messages by HTTPS from those who show a certificate of its CA.
func service(t *testing.T) (url, folder string, got *[]string) {
	t.Helper()
	folder, got = t.TempDir(), &[]string{}
	ca, err := trust.NewAuthority("quay CA")
	if err != nil {
		t.Fatal(err)
	}
	own, err := ca.Issue(trust.Request{CommonName: "service", Names: []string{"127.0.0.1"}})
	if err != nil {
		t.Fatal(err)
	}
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		*got = append(*got, r.Method+" "+r.RequestURI+" "+r.Header.Get("Content-Type")+" "+string(b))
		if strings.Contains(r.RequestURI, "forbidden") {
			http.Error(w, "no policy lets pen-1 publish here", http.StatusForbidden)
			return
		}
		io.WriteString(w, `{"message":"OK"}`)
	}))
	s.TLS = &tls.Config{
		Certificates: []tls.Certificate{own},
		ClientCAs:    ca.Pool(),
		ClientAuth:   tls.RequireAndVerifyClientCert,
	}
	s.Config.ErrorLog = nil
	s.StartTLS()
	t.Cleanup(s.Close)
	write := func(name string, blocks ...*pem.Block) {
		var b strings.Builder
		for _, x := range blocks {
			pem.Encode(&b, x)
		}
		if err := os.WriteFile(filepath.Join(folder, name), []byte(b.String()), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("ca.pem", &pem.Block{Type: "CERTIFICATE", Bytes: ca.Root().Raw})
	for name, by := range map[string]*trust.Authority{"pen-1": ca, "stranger": nil} {
		if by == nil {
			if by, err = trust.NewAuthority("a stranger's"); err != nil {
				t.Fatal(err)
			}
			write("other-ca.pem", &pem.Block{Type: "CERTIFICATE", Bytes: by.Root().Raw})
		}
		c, err := by.Issue(trust.Request{CommonName: name})
		if err != nil {
			t.Fatal(err)
		}
		var chain []*pem.Block
		for _, x := range c.Certificate {
			chain = append(chain, &pem.Block{Type: "CERTIFICATE", Bytes: x})
		}
		write(name+".pem", chain...)
		key, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
		if err != nil {
			t.Fatal(err)
		}
		write(name+".key", &pem.Block{Type: "PRIVATE KEY", Bytes: key})
	}
	return s.URL, folder, got
}

// TestAMessageIsPosted by HTTPS with a client certificate; where it is not taken, the reason and what to try are told.
func TestAMessageIsPosted(t *testing.T) {
	url, folder, got := service(t)
	in := func(name string) string { return filepath.Join(folder, name) }
	mine := []string{"--ca", in("ca.pem"), "--certificate", in("pen-1.pem"), "--key", in("pen-1.key")}
	send := func(where, topic string, more ...string) (int, string) {
		code, out, errOut := run(append([]string{"send", where, topic, "8.4"}, more...)...)
		return code, out + errOut
	}
	code, text := send(
		url+"/topics/{topic}?qos=1",
		"marrowvoe/pen/1/oxygen",
		append(mine, "--content-type", "text/plain")...)
	for _, want := range []string{"TLS 1.3", "TCP to 127.0.0.1:", "POST of 3 bytes is answered 200 OK", `it says: {"message":"OK"}`} {
		if !strings.Contains(text, want) {
			t.Errorf("%d, not told: %s, in\n%s", code, want, text)
		}
	}
	if code != 0 || len(*got) != 1 || (*got)[0] != "POST /topics/marrowvoe%2Fpen%2F1%2Foxygen?qos=1 text/plain 8.4" {
		t.Errorf("%d, the service got %q", code, *got)
	}
	for _, tt := range []struct {
		where, topic string
		more         []string
		code         int
		want         string
	}{
		{url + "/topics/{topic}", "forbidden", mine, 1, "may not publish on this topic"},
		{url + "/topics/{topic}", "a", mine[:2], 3, "certificate"},
		{url + "/topics/{topic}", "a", []string{"--ca", in("ca.pem"), "--certificate", in("stranger.pem"), "--key", in("stranger.key")}, 3, "certificate"},
		{url + "/topics/{topic}", "a", append([]string{"--ca", in("other-ca.pem")}, mine[2:]...), 3, "CA"},
		{strings.Replace(url, "127.0.0.1", "localhost", 1) + "/{topic}", "a", mine, 3, "localhost"},
		{"https://127.0.0.1:1/{topic}", "a", mine, 3, "nothing listens"},
		{url + "/topics", "a", mine, 2, "{topic}"},
		{url + "/{topic}", "a", append([]string{"--qos", "1"}, mine...), 2, "QoS"},
		{url + "/{topic}", "a", append([]string{"--every", "1s"}, mine...), 2, "--every"},
		{"https:///{topic}", "a", nil, 2, "host"},
	} {
		if code, text := send(tt.where, tt.topic, tt.more...); code != tt.code || !strings.Contains(text, tt.want) {
			t.Errorf("%s %s %q: %d, want %d with %q:\n%s", tt.where, tt.topic, tt.more, code, tt.code, tt.want, text)
		}
	}
}
