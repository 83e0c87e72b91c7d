package link

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"hodstone/internal/trust"
)

// pairs returns every kind of link, so that one test holds them to the same behaviour.
func pairs(t *testing.T) map[string]func() (*Link, *Link) {
	t.Helper()
	ca, err := trust.NewKit("client", "127.0.0.1", "::1")
	if err != nil {
		t.Fatal(err)
	}
	config := &tls.Config{Certificates: []tls.Certificate{ca.Server}}
	out := map[string]func() (*Link, *Link){"pipe": Pipe}
	for name, where := range map[string][3]string{"tcp": {"tcp", "127.0.0.1:0", "mqtt"},
		"tls": {"tcp", "127.0.0.1:0", "mqtts"}, "ws": {"tcp", "127.0.0.1:0", "ws"},
		"wss": {"tcp", "127.0.0.1:0", "wss"}, "unix": {"unix", filepath.Join(t.TempDir(), "s"), "unix"},
		"tcp over IPv6": {"tcp", "[::1]:0", "mqtt"}} {
		ln, err := net.Listen(where[0], where[1])
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if strings.HasSuffix(where[2], "s") && where[2] != "ws" {
			ln = tls.NewListener(ln, config)
		}
		links := make(chan *Link, 1)
		done := make(chan error, 1)
		if strings.HasPrefix(where[2], "ws") {
			go func() { done <- ServeWebSocket(ln, "/mqtt", func(l *Link) { links <- l }) }()
		} else {
			go func() {
				for {
					c, err := ln.Accept()
					if err != nil {
						done <- nil
						return
					}
					if s, ok := c.(*tls.Conn); ok {
						s.Handshake()
					}
					links <- Wrap(c)
				}
			}()
		}
		t.Cleanup(func() {
			ln.Close()
			if err := <-done; err != nil {
				t.Errorf("%s: %v", name, err)
			}
		})
		url := where[2] + "://" + ln.Addr().String()
		if strings.HasPrefix(where[2], "ws") {
			url += "/mqtt"
		}
		out[name] = func() (*Link, *Link) {
			a, err := Dial(context.Background(), url, Options{TLS: &tls.Config{RootCAs: ca.Pool()}})
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			return a, <-links
		}
	}
	return out
}

func TestHowALinkEnds(t *testing.T) {
	for name, pair := range pairs(t) {
		t.Run(name, func(t *testing.T) {
			a, b := pair()
			if _, err := a.Write([]byte("last words")); err != nil {
				t.Fatal(err)
			}
			a.Close()
			got, err := io.ReadAll(b)
			if string(got) != "last words" || err != nil || b.End() != EndFIN || a.End() != EndClosed {
				t.Errorf("after close: %q, %v, %q and %q", got, err, b.End(), a.End())
			}
			b.Close()

			a, b = pair()
			a.Cut()
			_, err = b.Read(make([]byte, 10))
			want := EndRST
			if name == "unix" { // a local socket knows no reset
				want = EndFIN
			}
			if err == nil || b.End() != want || a.End() != EndCut {
				t.Errorf("after cut: %v, %q and %q", err, b.End(), a.End())
			}
			if _, err := a.Read(make([]byte, 1)); !errors.Is(err, net.ErrClosed) {
				t.Errorf("reading what one has cut: %v", err)
			}
			b.Close()
		})
	}
}

func TestAFrozenLinkIsSilentUntilItThaws(t *testing.T) {
	for name, pair := range pairs(t) {
		t.Run(name, func(t *testing.T) {
			a, b := pair()
			defer b.Close()
			defer a.Close()
			a.Freeze()
			a.Write([]byte("held"))
			b.Write([]byte("unseen"))
			read := make(chan string, 2)
			for _, l := range []*Link{a, b} {
				go func() {
					buf := make([]byte, 20)
					n, _ := l.Read(buf)
					read <- string(buf[:n])
				}()
			}
			select {
			case s := <-read:
				t.Fatalf("a frozen link let %q through", s)
			case <-time.After(50 * time.Millisecond):
			}
			if err := a.Thaw(); err != nil {
				t.Fatal(err)
			}
			if s := <-read + <-read; s != "heldunseen" && s != "unseenheld" {
				t.Errorf("after the thaw: %q", s)
			}
			a.Freeze()
			done := make(chan error)
			go func() { _, err := a.Read(make([]byte, 1)); done <- err }()
			a.Close()
			if err := <-done; !errors.Is(err, net.ErrClosed) {
				t.Errorf("closing a frozen link: %v", err)
			}
		})
	}
}

func TestMuchGoesThrough(t *testing.T) {
	want := bytes.Repeat([]byte("0123456789abcdef"), 100_000)
	for name, pair := range pairs(t) {
		a, b := pair()
		go func() { a.Write(want); a.Close() }()
		if got, err := io.ReadAll(b); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		b.Close()
	}
}

// TestTLSErrorsSayWhatToTry: each way in which trust fails has words of its own.
func TestTLSErrorsSayWhatToTry(t *testing.T) {
	ca, err := trust.NewAuthority("farm")
	if err != nil {
		t.Fatal(err)
	}
	other, err := trust.NewAuthority("other")
	if err != nil {
		t.Fatal(err)
	}
	client, err := ca.Issue(trust.Request{CommonName: "pen-1"})
	if err != nil {
		t.Fatal(err)
	}
	good := trust.Request{CommonName: "quay", Names: []string{"127.0.0.1"}}
	for _, tt := range []struct {
		name    string
		request trust.Request
		server  *tls.Config
		client  *tls.Config
		scheme  string
		want    string
	}{
		{"in", good, &tls.Config{}, &tls.Config{RootCAs: ca.Pool()}, "mqtts", ""},
		{"in with a client certificate", good, &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert,
			ClientCAs: ca.Pool()},
			&tls.Config{RootCAs: ca.Pool(), Certificates: []tls.Certificate{client}}, "mqtts", ""},
		{"in by another name", trust.Request{CommonName: "quay", Names: []string{"quay.local"}}, &tls.Config{},
			&tls.Config{RootCAs: ca.Pool(), ServerName: "quay.local"}, "mqtts", ""},
		{"unknown CA", good, &tls.Config{}, &tls.Config{RootCAs: other.Pool()}, "mqtts", "give the CA that signed"},
		{"incomplete chain", trust.Request{CommonName: "quay", Names: []string{"127.0.0.1"}, Incomplete: true},
			&tls.Config{}, &tls.Config{RootCAs: ca.Pool()}, "mqtts", "is its chain complete?"},
		{"wrong name", trust.Request{CommonName: "quay", Names: []string{"quay.local"}}, &tls.Config{},
			&tls.Config{RootCAs: ca.Pool()}, "mqtts", "set the server name"},
		{"expired", trust.Request{CommonName: "quay", Names: []string{"127.0.0.1"}, Expired: true}, &tls.Config{},
			&tls.Config{RootCAs: ca.Pool()}, "wss", "renew the broker's certificate"},
		{"too old a version", good, &tls.Config{MaxVersion: tls.VersionTLS12},
			&tls.Config{RootCAs: ca.Pool(), MinVersion: tls.VersionTLS13}, "mqtts", "another TLS version?"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			cert, err := ca.Issue(tt.request)
			if err != nil {
				t.Fatal(err)
			}
			tt.server.Certificates = []tls.Certificate{cert}
			ln, err := tls.Listen("tcp", "127.0.0.1:0", tt.server)
			if err != nil {
				t.Fatal(err)
			}
			defer ln.Close()
			go func() {
				for {
					c, err := ln.Accept()
					if err != nil {
						return
					}
					c.(*tls.Conn).Handshake()
					defer c.Close()
				}
			}()
			l, err := Dial(context.Background(), tt.scheme+"://"+ln.Addr().String(), Options{TLS: tt.client})
			if err == nil {
				l.Close()
			}
			if (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%v", err)
			}
		})
	}
}

// TestTheWrongKindOfPort: what answers is told from what was expected.
func TestTheWrongKindOfPort(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer ln.Close()
	go func() { // a broker's plain port closes on what is no CONNECT
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			c.Read(make([]byte, 10))
			c.Close()
		}
	}()
	addr := ln.Addr().String()
	web, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error)
	go func() { done <- ServeWebSocket(web, "/mqtt", func(l *Link) { l.Close() }) }()
	defer func() { web.Close(); <-done }()
	for url, want := range map[string]string{
		"mqtts://" + addr: "is this the plain port?", "ws://" + addr + "/mqtt": "no WebSocket",
		"ws://" + web.Addr().String() + "/other": "HTTP 404",
		"mqtts://" + web.Addr().String():         "does not speak TLS",
	} {
		if l, err := Dial(context.Background(), url); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v %v", url, l, err)
		}
	}
}

func TestDialErrorsSayWhatToTry(t *testing.T) {
	ln, _ := net.Listen("tcp", "127.0.0.1:0")
	addr := ln.Addr().String()
	ln.Close()
	for url, want := range map[string]string{
		"mqtt://" + addr: "nothing listens on that port",
		"http://x:1":     "is reached by mqtt://",
		"10.0.0.7:1883":  "write mqtt://HOST",
		"mqtt://":        "write mqtt://HOST",
	} {
		if _, err := Dial(context.Background(), url); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", url, err)
		}
	}
	for url, want := range map[string]Endpoint{
		"mqtt://[::1]":       {Network: "tcp", Address: "[::1]:1883", Host: "::1"},
		"mqtts://quay.local": {Network: "tcp", Address: "quay.local:8883", Host: "quay.local", TLS: true},
		"ws://10.0.0.7/mqtt": {Network: "tcp", Address: "10.0.0.7:80", Host: "10.0.0.7", WebSocket: true},
		"wss://quay.local:9001/mqtt": {Network: "tcp", Address: "quay.local:9001", Host: "quay.local", TLS: true,
			WebSocket: true},
		"unix:///run/broker.sock": {Network: "unix", Address: "/run/broker.sock"},
	} {
		want.URL = url
		if got, err := Parse(url); got != want || err != nil {
			t.Errorf("%s: %+v %v", url, got, err)
		}
	}
}

// TestASlowedLink: what is written arrives later and at the rate, in order, and before the
// end; ending it wakes whoever waits.
func TestASlowedLink(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := Pipe()
		a.Slow(Pace{Delay: 2 * time.Second, Rate: 1000})
		start := time.Now()
		at := func(l *Link, want string, after time.Duration) {
			t.Helper()
			buf := make([]byte, len(want))
			if _, err := io.ReadFull(l, buf); err != nil || string(buf) != want || time.Since(start) != after {
				t.Errorf("%q, %v after %s, want %q after %s", buf, err, time.Since(start), want, after)
			}
		}
		a.Write(bytes.Repeat([]byte("x"), 1000)) // a second's worth
		a.Write([]byte("there"))
		at(b, strings.Repeat("x", 1000), 3*time.Second)
		at(b, "there", 3005*time.Millisecond)
		b.Write([]byte("and back"))
		at(a, "and back", 5013*time.Millisecond)
		a.Slow(Pace{})
		a.Write([]byte("at once"))
		at(b, "at once", 5013*time.Millisecond)
		a.Slow(Pace{Delay: time.Second})
		a.Write([]byte("last words"))
		a.Close()
		at(b, "last words", 6013*time.Millisecond)
		if _, err := b.Read(make([]byte, 1)); err != io.EOF || b.End() != EndFIN || a.End() != EndClosed {
			t.Errorf("%v, %s and %s", err, b.End(), a.End())
		}
		b.Close()

		a, b = Pipe()
		a.Slow(Pace{Delay: time.Hour})
		a.Write(make([]byte, 2*pacedBuffer))
		blocked := make(chan error)
		go func() { _, err := a.Write(make([]byte, 1)); blocked <- err }()
		go func() { _, err := a.Read(make([]byte, 1)); blocked <- err }()
		synctest.Wait()
		a.Cut()
		for range 2 {
			if err := <-blocked; !errors.Is(err, net.ErrClosed) {
				t.Error(err)
			}
		}
		if _, err := b.Read(make([]byte, 1)); b.End() != EndRST {
			t.Errorf("%v, %s", err, b.End())
		}
		b.Close()
	})
}

// TestEveryKindOfLinkCanBeSlowed: nothing comes before its time, all of it comes, and the end
// after it, over every transport.
func TestEveryKindOfLinkCanBeSlowed(t *testing.T) {
	for name, pair := range pairs(t) {
		t.Run(name, func(t *testing.T) {
			a, b := pair()
			defer b.Close()
			a.Slow(Pace{Delay: 40 * time.Millisecond, Rate: 500_000})
			start := time.Now()
			sent := bytes.Repeat([]byte("0123456789"), 2000) // 40 ms at the rate
			if _, err := a.Write(sent); err != nil {
				t.Fatal(err)
			}
			go a.Close()
			got, err := io.ReadAll(b)
			if took := time.Since(start); !bytes.Equal(got, sent) || err != nil || took < 80*time.Millisecond ||
				b.End() != EndFIN {
				t.Errorf("%d bytes, %v after %s, %s", len(got), err, took, b.End())
			}
		})
	}
}

// TestAnUpgradeThatFailsSaysHow: callers can ask for the status, and people are told.
func TestAnUpgradeThatFailsSaysHow(t *testing.T) {
	for answer, want := range map[string]UpgradeError{
		"HTTP/1.1 404 Not Found\r\nServer: pier\r\nContent-Length: 0\r\n\r\n": {Status: 404,
			Server: "pier"},
		"HTTP/1.1 302 Found\r\nLocation: wss://elsewhere.example/\r\nContent-Length: 0\r\n\r\n": {Status: 302,
			Location: "wss://elsewhere.example/"},
		"HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\n\r\n": {Status: 502},
		"":                   {},
		"SSH-2.0-server\r\n": {},
	} {
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			if c, err := ln.Accept(); err == nil {
				c.Read(make([]byte, 2048))
				io.WriteString(c, answer)
				c.Close()
			}
		}()
		_, err = Dial(context.Background(), "ws://"+ln.Addr().String()+"/mqtt")
		ln.Close()
		var got *UpgradeError
		if !errors.As(err, &got) || got.Status != want.Status || got.Location != want.Location ||
			got.Server != want.Server ||
			got.NoSubprotocol {
			t.Errorf("%q: %+v, %v", answer, got, err)
			continue
		}
		if want.Status != 0 && !strings.Contains(err.Error(), "HTTP "+strconv.Itoa(want.Status)) ||
			!strings.Contains(err.Error(), "ws://127.0.0.1") {
			t.Errorf("%q is told as %v", answer, err)
		}
	}
}

// inMemory is a listener of connections within memory.
type inMemory chan net.Conn

func (l inMemory) Accept() (net.Conn, error) {
	c, ok := <-l
	if !ok {
		return nil, net.ErrClosed
	}
	return c, nil
}
func (l inMemory) Close() error   { return nil }
func (l inMemory) Addr() net.Addr { return &net.TCPAddr{} }

// TestIdleHTTPConnectionsEnd: who asks the WebSocket's port for something else, or for nothing, is not kept.
func TestIdleHTTPConnectionsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ln := make(inMemory)
		done := make(chan error)
		go func() { done <- ServeWebSocket(ln, "/mqtt", func(l *Link) { l.Close() }) }()
		for name, says := range map[string]string{"nothing": "", "half a header": "GET / HT",
			"another path": "GET /x HTTP/1.1\r\nHost: a\r\n\r\n"} {
			ours, theirs := net.Pipe()
			ln <- theirs
			go ours.Write([]byte(says))
			start := time.Now()
			io.Copy(io.Discard, ours) // until it is closed
			if took := time.Since(start); took > 2*DialTimeout {
				t.Errorf("%s: closed after %s", name, took)
			}
			ours.Close()
		}
		close(ln)
		<-done
	})
}

// TestASocketThatIsGivenUpIsTold: whoever gives up a dial in the moment in which the peer accepts it, is told the
// address before the peer sees the end.
func TestASocketThatIsGivenUpIsTold(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	const dials = 2000
	var told sync.Map
	var ends sync.WaitGroup
	var strangers, given atomic.Int32
	accepted := make(chan struct{})
	go func() {
		defer close(accepted)
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			ends.Add(1)
			go func() {
				defer ends.Done()
				if sent, _ := io.Copy(io.Discard, c); sent > 0 {
					ln.Close()
				}
				c.Close()
				if _, is := told.Load(c.RemoteAddr().String()); !is {
					strangers.Add(1)
				}
			}()
		}
	}()
	for i := range dials {
		ctx, cancel := context.WithCancel(t.Context())
		go func() {
			for range i % 100 * 20 {
				runtime.Gosched()
			}
			cancel()
		}()
		c, err := Socket(ctx, "tcp", ln.Addr().String(), func(a net.Addr) { told.Store(a.String(), true) })
		if err == nil {
			c.Close()
		} else if given.Add(1); !errors.Is(err, context.Canceled) {
			t.Fatal(err)
		}
		cancel()
	}
	// The last says something: when it has been read, those before are accepted.
	last, err := Socket(t.Context(), "tcp", ln.Addr().String(), func(a net.Addr) { told.Store(a.String(), true) })
	if err != nil {
		t.Fatal(err)
	}
	last.Write([]byte{0})
	last.Close()
	<-accepted
	ends.Wait()
	if strangers.Load() > 0 || given.Load() == 0 || given.Load() == dials {
		t.Errorf("of %d dials %d were given up, and %d came as strangers", dials, given.Load(), strangers.Load())
	}
}

// TestWhatHasComeMeanwhile: More returns what is there, and waits for nothing: not for bytes, not for a thaw. It takes
// nothing from who reads.
func TestWhatHasComeMeanwhile(t *testing.T) {
	for name, pair := range pairs(t) {
		a, b := pair()
		send := func(text string) {
			if _, err := b.Write([]byte(text)); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		room := make([]byte, 100)
		go send("one")
		if n, err := a.Read(room); err != nil || string(room[:n]) != "one" {
			t.Fatalf("%s: %q, %v", name, room[:n], err)
		}
		if n, err := a.More(room); n != 0 || err != nil {
			t.Errorf("%s: %q came of nothing, %v", name, room[:n], err)
		}
		read := func(want string) {
			t.Helper()
			if n, err := a.Read(room); err != nil || string(room[:n]) != want {
				t.Errorf("%s: read %q, %v; not %q", name, room[:n], err, want)
			}
		}
		if name != "tcp" && name != "unix" && name != "tcp over IPv6" { // there it cannot be told
			go send("two")
			read("two")
			continue
		}
		send("two")
		got := 0
		for end := time.Now().Add(5 * time.Second); got == 0 && time.Now().Before(end); {
			got, _ = a.More(room)
		}
		if string(room[:got]) != "two" {
			t.Errorf("%s: %q has come", name, room[:got])
		}
		a.Freeze()
		send("three")
		if n, err := a.More(room); n != 0 || err != nil {
			t.Errorf("%s: frozen, %q, %v", name, room[:n], err)
		}
		a.Thaw()
		read("three")
		b.Close()
		if _, err := a.Read(room); !errors.Is(err, io.EOF) || a.End() != EndFIN {
			t.Errorf("%s: %v, %s", name, err, a.End())
		}
		if n, err := a.More(room); n != 0 || err != nil {
			t.Errorf("%s: %q after the end, %v", name, room[:n], err)
		}
		if a.Close(); name == "unix" { // has no reset
			continue
		}
		a, b = pair()
		b.Cut()
		var err error
		for end := time.Now().Add(5 * time.Second); err == nil && time.Now().Before(end); {
			_, err = a.More(room)
		}
		if err == nil || a.End() != EndRST {
			t.Errorf("%s: a reset gives %v, %s", name, err, a.End())
		}
	}
}
