package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pavlo-v-chernykh/keystore-go/v4"

	"hodstone/internal/brokertest"
	"hodstone/internal/cli"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/report"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
)

// decode reads one JSON document that has no unknown fields and nothing behind it.
func decode[T any](t *testing.T, text string) (v T) {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil || d.More() {
		t.Fatal(err, text)
	}
	return v
}

func TestReachTriesAWorkspace(t *testing.T) {
	t.Parallel()
	file := demoFolder(t)
	code, out, errOut := run("reach", file, "--json")
	if code != 3 { // the address on the barge leads nowhere from here
		t.Fatalf("exit %d: %s", code, errOut)
	}
	d := decode[report.ReachDocument](t, out)
	if len(d.Ways) != 5 || !d.Ways[0].In || d.Ways[4].In || d.Ways[4].Name != "barge/radio" {
		t.Fatalf("%+v", d.Ways)
	}
	for _, w := range d.Ways[:4] {
		last := w.Addresses[0].Stages[len(w.Addresses[0].Stages)-1]
		if last.Stage != "round trip" || last.State != "done" || w.PingMS <= 0 || len(w.Grants) < 10 ||
			len(w.Answers) != 3 ||
			w.Answers[1].Verdict != "kept" ||
			w.Answers[1].Expected != "refused" {
			t.Errorf("%s: %+v %+v", w.Name, last, w.Answers)
		}
	}
	stages := func(i int) (out []string) {
		for _, s := range d.Ways[i].Addresses[0].Stages {
			out = append(out, s.Stage)
		}
		return out
	}
	if got := strings.Join(stages(3), " "); got != "name TCP TLS upgrade CONNECT round trip" {
		t.Errorf("stages over a secure WebSocket: %s", got)
	}
	a := d.Ways[4].Addresses[0]
	if a.Cause != "port-closed" || a.What == "" || a.Remedy == "" || a.Seen == "" || a.Stages[1].State != "failed" ||
		a.Stages[2].State != "not tried" {
		t.Errorf("%+v", a)
	}
	doors := map[string]string{}
	for _, w := range d.Ways {
		for _, x := range w.Doors {
			doors[x.Door] += w.Name + " "
		}
	}
	if doors["plain"] != "quay/tcp quay/ws " || doors["everything"] != "quay/wss " || len(doors) != 2 {
		t.Errorf("doors %v", doors)
	}
	code, out, _ = run("reach", file, "--broker", "quay/tls")
	for _, want := range []string{"quay/tls  mqtts://127.0.0.1:", "✓ in   127.0.0.1:", "TLS ", "✓ MQTT 3.1.1",
		"✓ no login         CONNACK 0x87, not authorized", "✓ wrong password   CONNACK 0x86", "maximum QoS",
		"✓ rights of pen-1"} {
		if !strings.Contains(out, want) {
			t.Errorf("not told: %q in\n%s", want, out)
		}
	}
	if code != 0 || strings.Contains(out, "quay/tcp") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	// The rights of a login are tried where it is used.
	if _, out, _ := run("reach", file, "--broker", "quay/wss"); !strings.Contains(
		out,
		"! door open: may read and publish everything: barge",
	) ||
		!strings.Contains(out, "! rights of barge") ||
		strings.Contains(out, "rights of pen-1") {
		t.Errorf("rights at the barge's way in:\n%s", out)
	}
	// A door that is accepted is listed with its reason; one that stands against what is meant breaks.
	accepted := demoFolder(
		t,
		"    login: bench\n",
		"    login: bench\n    accepted: {plain: until the barge has TLS}\n",
	)
	if _, out, _ := run("reach", accepted, "--broker", "quay"); !strings.Contains(
		out,
		"door open, accepted: a plain listener stands beside a TLS one: quay/tcp (until the barge has TLS)",
	) {
		t.Errorf("the reason is not told:\n%s", out)
	}
	wrong := demoFolder(
		t,
		"anonymous: false",
		"anonymous: true",
		"    login: bench\n",
		"    login: bench\n    anonymous: false\n",
	)
	if code, out, _ := run("reach", wrong, "--broker", "quay/tcp"); code != 1 ||
		!strings.Contains(out, "✗ broken no login: let in, which was not intended") {
		t.Errorf("exit %d:\n%s", code, out)
	}
}

func TestReachTriesURLsAndDetails(t *testing.T) {
	s, err := standin.New(standin.Options{Logins: []standin.Login{{Name: "pen-1", Password: "s3cret-dulse"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	u := "mqtt://" + addr.String()
	t.Setenv("HODSTONE_TEST_PASSWORD", "s3cret-dulse")
	code, out, errOut := run(
		"reach",
		u,
		"--username",
		"pen-1",
		"--password-env",
		"HODSTONE_TEST_PASSWORD",
		"--protocol-version",
		"3.1.1",
		"--anonymous",
		"refused",
		"--intrusive",
	)
	if code != 0 || !strings.Contains(errOut, "! the password of pen-1 goes over a plain link to "+addr.String()) ||
		!strings.Contains(out, "✓ wrong password   CONNACK 4") ||
		!strings.Contains(out, "version 3.1.1") && !strings.Contains(out, "MQTT 3.1.1") {
		t.Errorf("exit %d: %s\n%s", code, errOut, out)
	}
	for _, args := range [][]string{{"send", u, "pen/1", "x"}, {"watch", u, "pen/#", "--for", "10ms"},
		{"prove", "--url", u, "--check", "connect.accepted"}} {
		_, out, errOut := run(append(args, "--username", "pen-1", "--password-env", "HODSTONE_TEST_PASSWORD")...)
		if !strings.Contains(errOut, "! the password of pen-1 goes over a plain link") ||
			strings.Contains(out+errOut, "s3cret") {
			t.Errorf("%v says nothing about the plain link: %s", args, errOut)
		}
	}
	code, out, _ = run("reach", u, strings.Replace(u, "mqtt", "mqtts", 1), "--wait", "2s")
	if code != 3 || !strings.Contains(out, "login-wanted") ||
		!strings.Contains(out, "tls-to-plain-port: this is a plain MQTT port") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	details := fmt.Sprintf(
		"Dear pen team,\nHost: 127.0.0.1\nPort: %d\nUsername: pen-1\nPassword: s3cret-dulse\nColour of the buoy: red\n",
		addr.(*net.TCPAddr).Port,
	)
	code, out, errOut = feed(details, "reach", "--from", "-")
	if code != 0 || !strings.Contains(out, "password: {env: PASTED_PASSWORD}") ||
		!strings.Contains(out, "not understood: Colour of the buoy") ||
		!strings.Contains(out, "✓ in ") {
		t.Errorf("exit %d: %s\n%s", code, errOut, out)
	}
	file := filepath.Join(t.TempDir(), "env")
	os.WriteFile(file, []byte("MQTT_HOST=127.0.0.1\nMQTT_PORT=1\n"), 0o600)
	if code, out, _ := run("reach", "--from", file, "--json"); code != 3 ||
		len(decode[report.ReachDocument](t, out).Ways) != 1 {
		t.Errorf("exit %d:\n%s", code, out)
	}
	if strings.Contains(out+errOut, "s3cret") {
		t.Error("the password is in the output")
	}
	for _, c := range []struct {
		what string
		args []string
		want string
	}{
		{"nothing", []string{"reach"}, "name a workspace, a URL"},
		{"from and more", []string{"reach", "--from", file, u}, "--from stands alone"},
		{"details that are not there", []string{"reach", "--from", "nowhere"}, "cannot be read"},
		{"details without a host", []string{"reach", "--from", "/dev/null"}, "no host is named"},
		{"a login in the URL", []string{"reach", "mqtt://a:b@quay"}, "histories and logs"},
		{"a CA without TLS", []string{"reach", u, "--ca", file}, "go with a URL of mqtts://"},
		{"a CA that is none", []string{"reach", "mqtts://quay", "--ca", file}, "holds no certificate"},
		{"no such version", []string{"reach", u, "--protocol-version", "4"}, "takes 3.1, 3.1.1 or 5"},
		{"no such meaning", []string{"reach", u, "--anonymous", "maybe"}, "takes allowed or refused"},
		{"no such broker", []string{"reach", demoFolder(t), "--broker", "pier"}, "no usable broker pier"},
		{"a login for a workspace", []string{"reach", "x.yaml", "--username", "a"}, "goes with a URL"},
		{"no such workspace", []string{"reach", "nowhere.yaml"}, "cannot open the workspace"},
		{"two workspaces", []string{"reach", "a.yaml", "b.yaml"}, "one workspace at a time"},
		{"a wait of nothing", []string{"reach", u, "--wait", "0s"}, "--wait takes"},
	} {
		if code, _, errOut := run(c.args...); code != 2 || !strings.Contains(errOut, c.want) {
			t.Errorf("%s: exit %d: %s", c.what, code, errOut)
		}
	}
}

func TestTrustReadsAFolder(t *testing.T) {
	dir := filepath.Join(filepath.Dir(demoFolder(t)), "creds")
	code, out, errOut := run("trust", dir, "--json")
	if code != 1 || errOut != "" {
		t.Fatalf("exit %d: %s", code, errOut)
	}
	d := decode[report.TrustDocument](t, out)
	if len(d.Files) != 13 || len(d.Certificates) != 8 || len(d.Logins) != 3 || d.Server != nil {
		t.Fatalf("%d files, %d certificates, %d logins", len(d.Files), len(d.Certificates), len(d.Logins))
	}
	i := slices.IndexFunc(d.Logins, func(l report.LoginRecord) bool { return l.Name == "pen-2" })
	if i < 0 || filepath.Base(d.Logins[i].Key) != "8f3ac91b" ||
		!strings.Contains(d.Logins[i].Workspace, "pen-2: {certificate: ") {
		t.Errorf("%+v", d.Logins)
	}
	// What it says of a login is what a workspace takes.
	workspace := fmt.Sprintf(
		"hodstone: 1\nbrokers: {quay: {listeners: {a: {url: mqtts://quay, ca: %s}}}}\n%s",
		filepath.Base(d.Logins[i].CA),
		strings.ReplaceAll(d.Logins[i].Workspace, dir+"/", ""),
	)
	os.WriteFile(filepath.Join(dir, "w.yaml"), []byte(workspace), 0o600)
	if code, out, errOut := run("contract", "check", filepath.Join(dir, "w.yaml")); code != 0 {
		t.Errorf("the workspace is not taken: %s%s\n%s", out, errOut, workspace)
	}
	// With the passphrase, the store and the key open; it stays out of all output.
	secret := filepath.Join(t.TempDir(), "pass")
	os.WriteFile(secret, []byte(trust.SamplePassphrase+"\n"), 0o600)
	code, out, errOut = run("trust", dir, "--passphrase-file", secret)
	for _, want := range []string{"opened with a passphrase", "5 logins, ready for a workspace",
		"passphrase: {env: SHORE_PASSPHRASE}", "barge ← Marrow Voe intermediate ← Marrow Voe root",
		"✗ broken pen-3: it expired on"} {
		if !strings.Contains(out, want) {
			t.Errorf("not told: %q in\n%s", want, out)
		}
	}
	if code != 1 || strings.Contains(out+errOut, trust.SamplePassphrase) || strings.Contains(out, "PRIVATE KEY-----") {
		t.Errorf("exit %d, or a secret shows", code)
	}
	// Asked for by hand.
	asked := 0
	var o bytes.Buffer
	cli.Main(
		cli.Env{
			Args:    []string{"trust", filepath.Join(dir, "barge.p12")},
			Out:     &o,
			ErrOut:  &o,
			Screens: func(context.Context, *workbench.Bench) error { return nil },
			AskSecret: func(string) (string, error) {
				asked++
				return []string{"wrong", trust.SamplePassphrase}[min(asked-1, 1)], nil
			},
		},
	)
	if asked != 2 || !strings.Contains(o.String(), "private key (ECDSA, P-256), opened with a passphrase") ||
		strings.Contains(o.String(), trust.SamplePassphrase) {
		t.Errorf("asked %d times:\n%s", asked, o.String())
	}
	// The CA for firmware, and nothing else.
	code, out, _ = run("trust", dir, "--export-ca", "c")
	if code != 0 || !strings.HasPrefix(out, "// The CA that") ||
		!strings.Contains(out, "static const char ca_pem[] =\n\t\"-----BEGIN CERTIFICATE-----\\n\"") ||
		!strings.HasSuffix(out, "-----END CERTIFICATE-----\\n\";\n") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"trust"}, "name files or a folder"},
		{[]string{"trust", dir, "--export-ca", "basic"}, "pem, der, c, cpp, go, rust"},
		{[]string{"trust", dir, "--export-ca", "c", "--json"}, "does not go with --json"},
		{[]string{"trust", dir, "--device-tls", "1.2"}, "go with --at"},
		{[]string{"trust", "--at", "quay:1", "--device-suites", "0x1301"}, "goes with --device-tls"},
		{[]string{"trust", "--at", "quay:1", "--device-tls", "2"}, "there are TLS 1.0, 1.1, 1.2 and 1.3"},
		{[]string{"trust", "--at", "quay:1", "--device-tls", "1.3", "--device-suites", "NULL"},
			"the cipher suite \"NULL\" is not known"},
		{[]string{"trust", "--at", "mqtt://quay"}, "has no TLS to be tried"},
		{[]string{"trust", filepath.Join(dir, "pen-1.key"), "--export-ca", "pem"}, "there is no CA to export"},
		{[]string{"trust", dir, "--passphrase-file", "nowhere"}, "the passphrase cannot be read"},
	} {
		if code, _, errOut := run(c.args...); code != 2 || !strings.Contains(errOut, c.want) {
			t.Errorf("%v: exit %d: %s", c.args, code, errOut)
		}
	}
	if code, out, _ := run("trust", "--at", "127.0.0.1:1"); code != 3 ||
		!strings.Contains(out, "'hodstone reach mqtts://127.0.0.1:1' tells why") {
		t.Errorf("exit %d: %s", code, out)
	}
}

func TestTrustTriesARealBroker(t *testing.T) {
	t.Parallel()
	b := brokertest.Start(t, brokertest.Options{})
	dir := t.TempDir()
	chain, key, err := trust.PEM(b.Client)
	if err != nil {
		t.Fatal(err)
	}
	ca, _ := trust.ExportCA("pem", b.CAs, false)
	revoked, revokedKey, err := trust.PEM(b.Revoked)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"client.crt": chain, "client.key": key, "ca.crt": ca,
		"lost.crt": revoked, "lost.key": revokedKey, "list.crl": b.Revocations} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	at := strings.TrimPrefix(b.URLs["tls with client certificate"], "mqtts://")
	code, out, errOut := run(
		"trust",
		dir,
		"--at",
		at,
		"--json",
		"--device-tls",
		"1.2,1.3",
		"--device-suites",
		"TLS_AES_128_CCM_SHA256,ECDHE_ECDSA_WITH_AES_128_GCM_SHA256",
	)
	d := decode[report.TrustDocument](t, out)
	s := d.Server
	if s == nil || !s.Required || s.Cause != "" || len(s.Chain) != 2 || s.Error != "" {
		t.Fatalf("exit %d: %s\n%s", code, errOut, out)
	}
	verdicts := map[string]string{}
	for _, x := range s.Trials {
		verdicts[x.Name] = x.Verdict
	}
	for name, want := range map[string]string{"our certificate": "kept", "no certificate": "kept",
		"a stranger's certificate": "kept", "a revoked certificate": "kept",
		"our certificate without its key": "kept", "a wrong server name": "kept", "ALPN mqtt": "kept"} {
		if verdicts[name] != want {
			t.Errorf("%s: %s, want %s: %+v", name, verdicts[name], want, s.Trials)
		}
	}
	taken := map[string]int{}
	for _, v := range s.Versions {
		taken[v.Version] = len(v.Suites)
	}
	if taken["1.3"] != 3 || taken["1.2"] < 3 {
		t.Errorf("suites by version: %v", taken)
	}
	// OpenSSL leaves the CCM suites of TLS 1.3 out by default. A device that has only those of 1.3 meets a refusal even
	// where it has a suite of 1.2, for the server chooses the version first.
	got := ""
	for _, d := range s.Device {
		got += d.Name + " " + d.Verdict + "; "
	}
	if got != "a device with TLS 1.3 and 1.2 broken; a device limited to TLS 1.3 broken; a device limited to TLS 1.2 kept; " ||
		!strings.Contains(out, "limit the device to TLS 1.2: with that alone it gets in") ||
		code != 1 {
		t.Errorf("exit %d, devices %+v", code, s.Device)
	}
	code, out, errOut = run("trust", "--at", strings.Replace(b.URLs["wss"], "wss", "wss", 1))
	if code != 1 ||
		!strings.Contains(out, "unknown CA") &&
			!strings.Contains(out, "is not among the CAs that this machine trusts") {
		t.Errorf("exit %d without a CA: %s\n%s", code, errOut, out)
	}
	code, out, errOut = run("trust", "--at", at, "--export-ca", "go")
	if code != 0 || !strings.Contains(errOut, "! not yet trusted") || !strings.Contains(out, "NOT YET TRUSTED") ||
		!strings.Contains(out, "const caPEM = `-----BEGIN") {
		t.Errorf("exit %d: %s\n%s", code, errOut, out)
	}
}

// TestTheDemoLeavesNoCredentialsBehind: they are made at the start and gone at the end.
func TestTheDemoLeavesNoCredentialsBehind(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	var found int
	code := cli.Main(
		cli.Env{
			Args:     []string{"demo"},
			Out:      &bytes.Buffer{},
			ErrOut:   &bytes.Buffer{},
			Terminal: true,
			Screens: func(_ context.Context, b *workbench.Bench) error {
				_, paths := b.Credentials()
				entries, err := os.ReadDir(paths[0])
				found = len(entries)
				return err
			},
		},
	)
	if code != 0 || found != 13 {
		t.Errorf("exit %d, %d files", code, found)
	}
	filepath.WalkDir(os.TempDir(), func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("left behind: %s", name)
		}
		return nil
	})
}

// TestTrustReadsWhatOthersMade: a store of Java's, a revocation list, a device's key beyond use, and
// the login that goes from a store into a workspace.
func TestTrustReadsWhatOthersMade(t *testing.T) {
	a, err := trust.NewAuthority("Marrow Voe")
	if err != nil {
		t.Fatal(err)
	}
	pen, err := a.Issue(trust.Request{CommonName: "pen-1"})
	if err != nil {
		t.Fatal(err)
	}
	list, err := a.Revoke(pen.Leaf)
	if err != nil {
		t.Fatal(err)
	}
	chain, key, err := trust.PEM(pen)
	if err != nil {
		t.Fatal(err)
	}
	block, _ := pem.Decode(key)
	ks := keystore.New()
	var store bytes.Buffer
	if err := errors.Join(ks.SetPrivateKeyEntry("pen",
		keystore.PrivateKeyEntry{CreationTime: time.Now(), PrivateKey: block.Bytes,
			CertificateChain: []keystore.Certificate{{Type: "X509", Content: pen.Certificate[0]},
				{Type: "X509", Content: pen.Certificate[1]}}}, []byte("s3cret-dulse")),
		ks.Store(&store, []byte("s3cret-dulse"))); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for name, data := range map[string][]byte{"pen-1.jks": store.Bytes(), "farm.crl": list,
		"farm-ca.pem": a.RootPEM(), "chain.pem": chain, "x.key": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY",
			Bytes: append([]byte("\x30\x47\x02\x01\x00\x30\x05\x06\x03\x2b\x65\x71\x04\x3b\x04\x39"),
				make([]byte, 57)...)})} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("HODSTONE_TEST_PASS", "s3cret-dulse")
	code, out, _ := run("trust", dir, "--passphrase-env", "HODSTONE_TEST_PASS")
	for _, want := range []string{"revocation list of Marrow Voe intermediate, 1 certificate, until ",
		"private key (ECDSA, P-256), opened with a passphrase; certificate of pen-1; certificate of Marrow Voe intermediate [JKS]",
		"✗ broken pen-1: it is revoked since", "✗ x.key", "kind Ed448", "passphrase: {env: PEN_1_PASSPHRASE}"} {
		if !strings.Contains(out, want) {
			t.Errorf("not told: %q in\n%s", want, out)
		}
	}
	if code != 1 || strings.Contains(out, "s3cret") {
		t.Errorf("exit %d:\n%s", code, out)
	}
	_, out, _ = run("trust", dir, "--json")
	d := decode[report.TrustDocument](t, out)
	at := slices.IndexFunc(d.Certificates, func(c report.CertificateRecord) bool { return c.Subject == "CN=pen-1" })
	if at < 0 || d.Certificates[at].Revoked.IsZero() || len(d.Certificates[at].Files) != 2 {
		t.Errorf("%+v", d.Certificates)
	}
	// The store is a login's certificate and key in a workspace.
	for pass, want := range map[string]string{"HODSTONE_TEST_PASS": "0 problems",
		"HODSTONE_TEST_NONE": "HODSTONE_TEST_NONE"} {
		file := filepath.Join(dir, "hodstone.yaml")
		text := "hodstone: 1\nbrokers: {quay: {listeners: {tls: {url: \"mqtts://quay.test\", ca: farm-ca.pem}}, login: pen-1}}\nlogins: {pen-1: {certificate: pen-1.jks, passphrase: {env: " + pass + "}}}\n"
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, out, errOut := run("contract", "check", file); !strings.Contains(out+errOut, want) {
			t.Errorf("%s: %s%s", pass, out, errOut)
		}
	}
}

// TestReachReadsFirmware: the constants that a device is built with.
func TestReachReadsFirmware(t *testing.T) {
	s, err := standin.New(standin.Options{Logins: []standin.Login{{Name: "pen-1", Password: "s3cret-dulse"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	addr, err := s.Listen("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	_, port, _ := strings.Cut(addr.String(), ":")
	source := fmt.Sprintf(
		"#include <net.h>\n#define MQTT_HOST \"127.0.0.1\"\nconst int mqtt_port = %s; // the radio's\nstatic const char MQTT_USER[] = \"pen-1\";\n#define MQTT_PASSWORD \"s3cret-dulse\"\n",
		port,
	)
	code, out, errOut := feed(source, "reach", "--from", "-", "--wait", "2s")
	if code != 0 || !strings.Contains(out, "✓ login pen-1      in") ||
		!strings.Contains(out, "rights of pen-1  may read everything; may publish on any topic") ||
		strings.Contains(out+errOut, "s3cret") {
		t.Errorf("exit %d: %s%s", code, out, errOut)
	}
}
