package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/coder/websocket"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// names is a resolver of the test's own.
type names map[string][]string

func (n names) LookupNetIP(ctx context.Context, _, host string) (out []netip.Addr, err error) {
	found, known := n[host]
	switch {
	case !known:
		return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	case len(found) == 1 && found[0] == "silent":
		<-ctx.Done()
		return nil, &net.DNSError{Err: "i/o timeout", Name: host, IsTimeout: true}
	}
	for _, f := range found {
		out = append(out, netip.MustParseAddr(f))
	}
	return out, nil
}

// raw serves connections with a function until the test ends, and returns its address.
func raw(t *testing.T, at string, serve func(net.Conn)) string {
	t.Helper()
	ln, err := net.Listen("tcp", at)
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
			go func() { defer c.Close(); serve(c) }()
		}
	}()
	return ln.Addr().String()
}

// full is a port whose queue of connections is full, so that the kernel drops what comes.
func full(t *testing.T) string {
	t.Helper()
	fd, err := syscall.Socket(syscall.AF_INET, syscall.SOCK_STREAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Close(fd) })
	if err := errors.Join(syscall.Bind(fd, &syscall.SockaddrInet4{Addr: [4]byte{127, 0, 0, 1}}), syscall.Listen(fd, 0)); err != nil {
		t.Fatal(err)
	}
	name, err := syscall.Getsockname(fd)
	if err != nil {
		t.Fatal(err)
	}
	address := fmt.Sprintf("127.0.0.1:%d", name.(*syscall.SockaddrInet4).Port)
	for range 4 {
		if c, err := net.DialTimeout("tcp", address, 100*time.Millisecond); err == nil {
			t.Cleanup(func() { c.Close() })
		}
	}
	return address
}

// answer reads what comes first and writes bytes.
func answer(with ...byte) func(net.Conn) {
	return func(c net.Conn) {
		c.Read(make([]byte, 1024))
		c.Write(with)
		time.Sleep(20 * time.Millisecond)
	}
}

// codes answers CONNECT with a CONNACK of the code, in the client's version.
func connack(code packet.ReasonCode, ps ...packet.Property) func(net.Conn) {
	return func(c net.Conn) {
		b := make([]byte, 1024)
		n, _ := c.Read(b)
		if n < 9 || b[0]>>4 != byte(packet.CONNECT) {
			return
		}
		v := packet.Version(b[8])
		if b[3] == 6 { // MQIsdp
			v = packet.V31
		}
		ack := packet.Connack{Code: code}
		if v == packet.V5 {
			ack.Properties = ps
		}
		c.Write(ack.Append(nil, v))
		time.Sleep(20 * time.Millisecond)
	}
}

func overTLS(config *tls.Config, serve func(net.Conn)) func(net.Conn) {
	return func(c net.Conn) {
		s := tls.Server(c, config)
		if s.Handshake() == nil {
			serve(s)
		}
	}
}

// banner speaks first.
func banner(s string) func(net.Conn) {
	return func(c net.Conn) { io.WriteString(c, s); c.Read(make([]byte, 64)) }
}

func hang(c net.Conn) { io.Copy(io.Discard, c) }

// web serves HTTP.
func web(t *testing.T, config *tls.Config, h http.HandlerFunc) string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := ln.Addr().String()
	if config != nil {
		ln = tls.NewListener(ln, config)
	}
	s := &http.Server{Handler: h}
	go s.Serve(ln)
	t.Cleanup(func() { s.Close() })
	return address
}

func status(code int) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if code/100 == 3 {
			w.Header().Set("Location", "wss://elsewhere.example/mqtt")
		}
		w.WriteHeader(code)
	}
}

// broker starts a stand-in with listeners and returns their URLs.
func broker(t *testing.T, o standin.Options, config *tls.Config, urls ...string) []string {
	t.Helper()
	s, err := standin.New(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	var out []string
	for _, u := range urls {
		reached, _, err := s.ListenURL(u, config)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, reached)
	}
	return out
}

// only lets versions in by closing on others, as old brokers do.
func only(t *testing.T, v packet.Version) func(net.Conn) {
	return func(c net.Conn) {
		b := make([]byte, 1024)
		n, _ := c.Read(b)
		at := 8
		if n > 4 && b[3] == 6 {
			at = 10
		}
		if n > at && packet.Version(b[at]) == v {
			c.Write((&packet.Connack{}).Append(nil, v))
			io.Copy(io.Discard, c)
		}
	}
}

const testWait = 700 * time.Millisecond

// kit holds what TLS needs.
type kit struct {
	t *testing.T
	*trust.Authority
	other *trust.Authority
}

func (k kit) server(r trust.Request) *tls.Config {
	k.t.Helper()
	if r.Names == nil {
		r.Names = []string{"127.0.0.1", "::1", "quay.test"}
	}
	c, err := k.Issue(r)
	if err != nil {
		k.t.Fatal(err)
	}
	return &tls.Config{Certificates: []tls.Certificate{c}}
}

func (k kit) wanting(server *tls.Config) *tls.Config {
	server.ClientAuth, server.ClientCAs = tls.RequireAndVerifyClientCert, k.Pool()
	return server
}

func (k kit) client(a *trust.Authority, r trust.Request) *workspace.Login {
	k.t.Helper()
	if r.CommonName == "" {
		r.CommonName = "pen-1"
	}
	c, err := a.Issue(r)
	if err != nil {
		k.t.Fatal(err)
	}
	return &workspace.Login{Name: "pen-1", Certificate: &c}
}

func login(user, password string) *workspace.Login {
	return &workspace.Login{Name: user, Username: user, Password: workspace.NewSecret(password), HasPassword: true}
}

const secretWord = "s3cret-bladderwrack"

func TestEveryFailureIsDiagnosedByItsCause(t *testing.T) {
	a, err := trust.NewAuthority("farm")
	if err != nil {
		t.Fatal(err)
	}
	other, _ := trust.NewAuthority("elsewhere")
	again, _ := trust.NewAuthority("farm")
	k := kit{t, a, other}
	cas := []*x509.Certificate{a.Root()}
	serve := func(f func(net.Conn)) func(*testing.T) string {
		return func(t *testing.T) string { return "mqtt://" + raw(t, "127.0.0.1:0", f) }
	}
	secure := func(config *tls.Config) func(*testing.T) string {
		return func(t *testing.T) string {
			return "mqtts://" + raw(t, "127.0.0.1:0", overTLS(config, connack(0)))
		}
	}
	fixed := func(u string) func(*testing.T) string { return func(*testing.T) string { return u } }
	stolen := k.client(a, trust.Request{})
	stranger := k.client(other, trust.Request{})
	stolen.Certificate.PrivateKey = stranger.Certificate.PrivateKey
	old := k.server(trust.Request{})
	old.MinVersion, old.MaxVersion = tls.VersionTLS10, tls.VersionTLS11
	cbc := k.server(trust.Request{Key: "RSA 2048"})
	cbc.MaxVersion, cbc.CipherSuites = tls.VersionTLS12, []uint16{tls.TLS_RSA_WITH_AES_128_CBC_SHA}
	naming := func(protocol string) *tls.Config { // by ALPN
		c := k.server(trust.Request{})
		c.NextProtos = []string{protocol}
		c.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
			if len(h.SupportedProtos) == 0 {
				return nil, errors.New("no protocol")
			}
			return nil, nil
		}
		return c
	}
	wanting12 := k.wanting(k.server(trust.Request{}))
	wanting12.MaxVersion = tls.VersionTLS12
	v5, v311 := []packet.Version{packet.V5}, []packet.Version{packet.V311}
	limits := func(l standin.Limits) func(*testing.T) string {
		return func(t *testing.T) string {
			return broker(t, standin.Options{Anonymous: true, Limits: l}, nil, "mqtt://127.0.0.1:0")[0]
		}
	}
	known := standin.Options{Logins: []standin.Login{{Name: "pen-1", Password: secretWord}}}
	knowing := func(t *testing.T) string { return broker(t, known, nil, "mqtt://127.0.0.1:0")[0] }
	type target = func(*Target)
	with := func(l *workspace.Login) target { return func(x *Target) { x.Login = l } }
	in := func(v []packet.Version) target { return func(x *Target) { x.Versions = v } }
	both := func(fs ...target) target {
		return func(x *Target) {
			for _, f := range fs {
				f(x)
			}
		}
	}
	type row struct {
		what   string
		url    func(*testing.T) string
		change target
		cause  Cause
		say    string // part of what is said, of the remedy, or of the evidence
	}
	rows := []row{
		// The name.
		{"a name that does not exist", fixed("mqtt://quai.marrowvoe.example"), nil, NameUnknown, "does not exist"},
		{"a name without dots", fixed("mqtt://quay"), nil, NameUnknown, "add the domain"},
		{"a .local name without multicast", fixed("mqtt://quay.local"), nil, NameUnknown, "multicast"},
		{"a name without address", fixed("mqtt://empty.test"), nil, NoAddress, "has no address"},
		{"a name server that is silent", fixed("mqtt://slow.test"), nil, NameSilent, "no name server"},
		{"an address that is none", fixed("mqtt://10.0.0.300"), nil, BadAddress, "0 to 255"},
		{"a URL that is none", fixed("quay:1883"), nil, BadAddress, "mqtt://"},
		// TCP.
		{"a closed port on this machine", func(t *testing.T) string {
			ln, _ := net.Listen("tcp", "127.0.0.1:0")
			defer ln.Close()
			return "mqtt://" + ln.Addr().String()
		}, nil, Refused, "this very machine"},
		{
			"a port that does not answer at all",
			func(t *testing.T) string { return "mqtt://" + full(t) },
			nil,
			TimedOut,
			"not even a refusal",
		},
		{"a name with IPv6 only, and no IPv6 here", fixed("mqtt://six.test:1883"), nil, IPv6Only, "IPv6"},
		{"a local socket that is not there", fixed("unix:///nowhere/at/all.sock"), nil, NoSocket, "no socket"},
		{
			"reset right after accept",
			serve(func(c net.Conn) { c.(*net.TCPConn).SetLinger(0) }),
			nil,
			ResetOnAccept,
			"firewall",
		},
		{"closed right after accept", serve(func(net.Conn) {}), nil, ClosedOnAccept, "closes it at once"},
		{"a silent listener", serve(hang), nil, SilentServer, "says nothing"},
		// Another kind of server.
		{
			"an HTTP server",
			func(t *testing.T) string { return "mqtt://" + web(t, nil, status(200)) },
			nil,
			HTTPServer,
			"HTTP/1.1 200",
		},
		{"an SSH server", serve(banner("SSH-2.0-server\r\n")), nil, OtherProtocol, "SSH"},
		{"a mail server", serve(banner("220 mail.example ESMTP\r\n")), nil, OtherProtocol, "SMTP"},
		{"an AMQP server", serve(answer([]byte("AMQP\x00\x00\x09\x01")...)), nil, OtherProtocol, "AMQP"},
		{"plain to a TLS port", func(t *testing.T) string {
			return strings.Replace(
				broker(t, standin.Options{Anonymous: true}, k.server(trust.Request{}), "mqtts://127.0.0.1:0")[0],
				"mqtts",
				"mqtt",
				1,
			)
		}, nil, PlainToTLS, "write mqtts://"},
		{"plain to a secure WebSocket port", func(t *testing.T) string {
			return strings.Replace(
				strings.TrimSuffix(
					broker(t, standin.Options{Anonymous: true}, k.server(trust.Request{}), "wss://127.0.0.1:0")[0],
					"/mqtt",
				),
				"wss",
				"mqtt",
				1,
			)
		}, nil, PlainToTLS, "/mqtt"},
		{
			"plain to an HTTPS server",
			func(t *testing.T) string { return "mqtt://" + web(t, k.server(trust.Request{}), status(200)) },
			nil,
			HTTPServer,
			"over TLS",
		},
		{
			"plain to a mail server over TLS",
			serve(overTLS(k.server(trust.Request{}), banner("220 mail.example ESMTP\r\n"))),
			nil,
			OtherProtocol,
			"over TLS, is no broker but SMTP",
		},
		{"WebSocket to a TLS port for MQTT", func(t *testing.T) string {
			return strings.Replace(
				broker(t, standin.Options{Anonymous: true}, k.server(trust.Request{}), "mqtts://127.0.0.1:0")[0],
				"mqtts",
				"ws",
				1,
			) + "/mqtt"
		}, nil, PlainToTLS, "write mqtts://"},
		{
			"TLS to a plain port",
			func(t *testing.T) string { return strings.Replace(limits(standin.Limits{})(t), "mqtt", "mqtts", 1) },
			nil,
			TLSToPlain,
			"write mqtt://",
		},
		{
			"TLS to a silent port",
			func(t *testing.T) string { return strings.Replace(serve(hang)(t), "mqtt", "mqtts", 1) },
			nil,
			SilentServer,
			"",
		},
		{"TLS to an SSH port", func(t *testing.T) string {
			return strings.Replace(serve(banner("SSH-2.0-x\r\n"))(t), "mqtt", "mqtts", 1)
		}, nil, OtherProtocol, "SSH"},
		{"MQTT to a WebSocket port", func(t *testing.T) string {
			return strings.Replace(
				strings.TrimSuffix(broker(t, standin.Options{Anonymous: true}, nil, "ws://127.0.0.1:0")[0], "/mqtt"),
				"ws",
				"mqtt",
				1,
			)
		}, nil, MQTTToWebSocket, "write ws://"},
		{"MQTT over TLS to a secure WebSocket port", func(t *testing.T) string {
			return strings.Replace(
				strings.TrimSuffix(
					broker(t, standin.Options{Anonymous: true}, k.server(trust.Request{}), "wss://127.0.0.1:0")[0],
					"/mqtt",
				),
				"wss",
				"mqtts",
				1,
			)
		}, nil, MQTTToWebSocket, "write wss://"},
		{"WebSocket to an MQTT port", func(t *testing.T) string {
			return strings.Replace(limits(standin.Limits{})(t), "mqtt", "ws", 1) + "/mqtt"
		}, nil, WebSocketToMQTT, "write mqtt://"},
		{"WebSocket to a TLS port", func(t *testing.T) string {
			return strings.Replace(
				broker(t, standin.Options{Anonymous: true}, k.server(trust.Request{}), "wss://127.0.0.1:0")[0],
				"wss",
				"ws",
				1,
			)
		}, nil, PlainToTLS, "wss://"},
		// TLS.
		{"an expired certificate", secure(k.server(trust.Request{Expired: true})), nil, CertExpired, "expired on"},
		{"a certificate not yet valid", secure(k.server(trust.Request{NotYet: true})), nil, CertNotYet, "clocks"},
		{
			"a self-signed certificate",
			secure(k.server(trust.Request{SelfSigned: true})),
			nil,
			CertSelfSigned,
			"self-signed",
		},
		{
			"a certificate for another name",
			secure(k.server(trust.Request{Names: []string{"barge.test"}})),
			nil,
			CertWrongName,
			"barge.test",
		},
		{
			"a name in the common name only",
			secure(k.server(trust.Request{CommonName: "quay.test", CommonNameOnly: true})),
			nil,
			CertWrongName,
			"common name only",
		},
		{
			"the intermediate missing",
			secure(k.server(trust.Request{Incomplete: true})),
			nil,
			CertIncomplete,
			"farm intermediate",
		},
		{
			"an unknown CA",
			secure(k.server(trust.Request{})),
			func(x *Target) { x.CAs = []*x509.Certificate{other.Root()} },
			CertUnknownCA,
			"farm root",
		},
		{
			"the CA made anew",
			secure(k.server(trust.Request{})),
			func(x *Target) { x.CAs = []*x509.Certificate{again.Root()} },
			CertRenewedCA,
			"made anew",
		},
		{
			"a certificate for clients",
			secure(k.server(trust.Request{ForClients: true})),
			nil,
			CertRefused,
			"not meant for servers",
		},
		{"TLS 1.1 only", secure(old), nil, TLSVersion, "1.1 and 1.0"},
		{"no suite in common", secure(cbc), nil, TLSSuites, "TLS_RSA_WITH_AES_128_CBC_SHA"},
		{"ALPN wanted", secure(naming("mqtt")), nil, TLSALPN, "offer ALPN mqtt"},
		{"another ALPN wanted", secure(naming("x-amqp")), nil, TLSALPN, "meant for something else"},
		{
			"a client certificate wanted",
			secure(k.wanting(k.server(trust.Request{}))),
			nil,
			ClientCertWanted,
			"farm root",
		},
		{"a client certificate wanted, TLS 1.2", secure(wanting12), nil, ClientCertWanted, "farm root"},
		{
			"an expired client certificate",
			secure(k.wanting(k.server(trust.Request{}))),
			with(k.client(a, trust.Request{Expired: true})),
			ClientCertOld,
			"expired on",
		},
		{
			"a client certificate of another CA",
			secure(k.wanting(k.server(trust.Request{}))),
			with(stranger),
			ClientCertCA,
			"elsewhere intermediate",
		},
		{
			"a client certificate for servers",
			secure(k.wanting(k.server(trust.Request{}))),
			with(k.client(a, trust.Request{Names: []string{"x.test"}})),
			ClientCertUse,
			"not meant for clients",
		},
		{
			"the wrong key",
			secure(k.wanting(k.server(trust.Request{}))),
			with(stolen),
			ClientCertKey,
			"key does not belong",
		},
		// WebSocket.
		{"the wrong path", func(t *testing.T) string {
			return broker(t, standin.Options{Anonymous: true}, nil, "ws://127.0.0.1:0")[0] + "/v2"
		}, nil, WrongPath, "offers MQTT at /mqtt"},
		{"no subprotocol", func(t *testing.T) string {
			return "ws://" + web(t, nil, func(w http.ResponseWriter, r *http.Request) {
				if c, err := websocket.Accept(w, r, nil); err == nil {
					c.Read(context.Background())
				}
			})
		}, nil, NoSubprotocol, "Sec-WebSocket-Protocol"},
		{"the subprotocol of old", func(t *testing.T) string {
			return "ws://" + web(t, nil, func(w http.ResponseWriter, r *http.Request) {
				if c, err := websocket.Accept(w, r, &websocket.AcceptOptions{Subprotocols: []string{"mqttv3.1"}}); err == nil {
					c.Read(context.Background())
				}
			})
		}, nil, OldSubprotocol, "mqttv3.1"},
		{
			"a web login first",
			func(t *testing.T) string { return "ws://" + web(t, nil, status(401)) + "/mqtt" },
			nil,
			HTTPLogin,
			"HTTP 401",
		},
		{
			"a redirection",
			func(t *testing.T) string { return "ws://" + web(t, nil, status(302)) + "/mqtt" },
			nil,
			HTTPRedirect,
			"wss://elsewhere.example",
		},
		{
			"a gateway without its broker",
			func(t *testing.T) string { return "ws://" + web(t, nil, status(502)) + "/mqtt" },
			nil,
			HTTPGateway,
			"HTTP 502",
		},
		{
			"a web server that does not upgrade",
			func(t *testing.T) string { return "ws://" + web(t, nil, status(200)) + "/" },
			nil,
			NoUpgrade,
			"does not upgrade",
		},
		// CONNECT.
		{"no CONNACK at all", serve(func(c net.Conn) {
			b := make([]byte, 1024)
			if n, _ := c.Read(b); n > 0 && strings.Contains(string(b[:n]), "hodstone") && b[0] == 0x10 {
				c.Write([]byte{0x20})
			}
			io.Copy(io.Discard, c)
		}), nil, HalfConnack, "after 1 bytes"},
		{"half a CONNACK", serve(answer(0x20, 0x02, 0x00)), in(v311), HalfConnack, "after 3 bytes"},
		{
			"a CONNACK that breaks the standard",
			serve(answer(0x20, 0x02, 0x07, 0x00)),
			in(v311),
			BrokenConnack,
			"reserved acknowledge flags",
		},
		{"another packet than CONNACK", serve(answer(0xD0, 0x00)), in(v311), NotConnack, "PINGRESP"},
		{"3.1.1 only, and closing", serve(only(t, packet.V311)), in(v5), Version, "3.1.1 gets in"},
		{"let in every second time", func(t *testing.T) string {
			var n atomic.Int32
			return serve(func(c net.Conn) {
				if n.Add(1)%2 == 1 {
					c.Read(make([]byte, 1024))
					return
				}
				connack(0)(c)
				hang(c)
			})(t)
		}, nil, Unsteady, "the very same client in a moment later"},
		{"a wrong password", knowing, with(login("pen-1", "wrong")), WrongLogin, "0x86"},
		{"a wrong password in 3.1.1", knowing, both(with(login("pen-1", "wrong")), in(v311)), WrongLogin, "CONNACK 4"},
		{"an unknown user", knowing, with(login("nobody", secretWord)), WrongLogin, "0x86"},
		{"no login where one is wanted", knowing, nil, LoginWanted, "--username"},
		{
			"the broker's rule for client identifiers",
			limits(standin.Limits{ClientID: regexp.MustCompile(`^hod.*$`)}),
			func(x *Target) { x.ClientID = "pen 1" },
			ClientID,
			"another gets in",
		},
		{"a limit of connections", func(t *testing.T) string {
			u := limits(standin.Limits{Connections: 1})(t)
			l, err := link.Dial(context.Background(), u)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { l.Close() })
			l.Write((&packet.Connect{ClientID: "first", CleanStart: true}).Append(nil, packet.V311))
			l.Read(make([]byte, 4))
			return u
		}, nil, Quota, "as many clients"},
		{
			"another server to use",
			limits(standin.Limits{Redirect: "pier.marrowvoe.example:8883"}),
			nil,
			ServerMoved,
			"pier.marrowvoe.example",
		},
		{"thrown out right after", serve(connack(0)), in(v311), ThrownOut, "same client identifier"},
	}
	for code := packet.ReasonCode(1); code <= 6; code++ {
		want := map[packet.ReasonCode]Cause{1: Version, 2: ClientID, 3: Unavailable, 4: WrongLogin, 5: NotAuthorised, 6: BrokenConnack}[code]
		rows = append(
			rows,
			row{
				fmt.Sprintf("code %d of 3.1.1", code),
				serve(connack(code)),
				both(in(v311), with(login("pen-1", secretWord))),
				want,
				"",
			},
		)
	}
	for code, want := range map[packet.ReasonCode]Cause{0x80: ServerError, 0x81: BadPacket, 0x82: BadPacket, 0x83: ServerError, 0x84: Version, 0x85: ClientID, 0x86: WrongLogin, 0x87: NotAuthorised, 0x88: Unavailable,
		0x89: Busy, 0x8A: Banned, 0x8C: AuthMethod, 0x90: WillRefused, 0x95: TooLarge, 0x97: Quota, 0x99: WillRefused, 0x9A: WillRefused, 0x9B: WillRefused, 0x9C: ServerMoved, 0x9D: ServerMoved, 0x9F: Rate} {
		rows = append(
			rows,
			row{
				fmt.Sprintf("code 0x%02X of 5", byte(code)),
				serve(connack(code, packet.Str(packet.ReasonString, "so it is"))),
				both(in(v5), with(login("pen-1", secretWord))),
				want,
				"so it is",
			},
		)
	}
	if len(rows) < 40 {
		t.Fatalf("only %d ways to fail", len(rows))
	}
	resolver := names{"empty.test": {}, "slow.test": {"silent"}, "six.test": {"2001:db8::7"}}
	for _, row := range rows {
		t.Run(row.what, func(t *testing.T) {
			t.Parallel()
			x := Target{Name: row.what, URL: row.url(t), CAs: cas}
			if row.change != nil {
				row.change(&x)
			}
			rep := Run(
				context.Background(),
				[]Target{x},
				Options{Resolver: resolver, Own: func() []netip.Addr { return nil }, Wait: testWait},
			)
			res := &rep.Results[0]
			d := res.Diagnosis()
			switch {
			case d == nil:
				t.Fatalf("it is in: %+v", res.Ways)
			case d.Cause != row.cause:
				t.Errorf("cause %s, want %s: %s (%s; %s)", d.Cause, row.cause, d.What, d.Remedy, d.Seen)
			case !strings.Contains(d.What+d.Remedy+d.Seen, row.say):
				t.Errorf("%q is not in: %s | %s | %s", row.say, d.What, d.Remedy, d.Seen)
			case d.What == "" || d.Remedy == "":
				t.Errorf("nothing is said: %+v", d)
			}
			if all := fmt.Sprintf("%+v", rep); strings.Contains(all, secretWord) {
				t.Errorf("the password shows: %s", all)
			}
			for _, w := range res.Ways {
				failed := slices.IndexFunc(w.Steps, func(s Step) bool { return s.State == Failed })
				for i, s := range w.Steps {
					if failed >= 0 && i > failed && s.State != Untried {
						t.Errorf("%s is %s although %s failed", s.Stage, s.State, w.Steps[failed].Stage)
					}
				}
			}
		})
	}
}

func TestALocalSocketLeadsIn(t *testing.T) {
	u := broker(t, standin.Options{Anonymous: true}, nil, "unix://"+filepath.Join(t.TempDir(), "s"))[0]
	rep := Run(context.Background(), []Target{{Name: u, URL: u}}, Options{Wait: testWait})
	if !rep.Results[0].In() {
		t.Errorf("%+v", rep.Results[0].Diagnosis())
	}
}

// TestErrorsOfTheSystemAreWorded: what cannot be staged without rights of its own.
func TestErrorsOfTheSystemAreWorded(t *testing.T) {
	for err, want := range map[error]Cause{
		syscall.EHOSTUNREACH: HostUnreachable, syscall.ENETUNREACH: NetUnreachable, syscall.EACCES: NotAllowed, syscall.EPERM: NotAllowed, syscall.EMFILE: TCPFailed, syscall.ECONNRESET: ResetOnAccept,
		syscall.ETIMEDOUT: TimedOut, syscall.EAFNOSUPPORT: IPv6Only, context.Canceled: Cancelled, errors.New("else"): TCPFailed, context.DeadlineExceeded: TimedOut,
	} {
		r := runner{o: Options{Own: func() []netip.Addr { return nil }, Wait: time.Second}}
		d := r.tcpDiagnosis("10.0.0.7:1883", &net.OpError{Op: "dial", Err: err})
		if d.Cause != want || d.What == "" || d.Seen == "" {
			t.Errorf("%v: %+v, want %s", err, d, want)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	rep := Run(ctx, []Target{{Name: "x", URL: "mqtt://127.0.0.1:1"}}, Options{Own: func() []netip.Addr { return nil }})
	if d := rep.Results[0].Diagnosis(); d == nil || d.Cause != Cancelled {
		t.Errorf("%+v", d)
	}
}
