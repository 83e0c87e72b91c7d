package reach

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
)

// kind is what answers at a port.
type kind string

const (
	kindUnknown kind = ""
	kindMQTT    kind = "MQTT"
	kindTLS     kind = "TLS"
	kindHTTP    kind = "HTTP"
	kindSocket  kind = "WebSocket" // HTTP that upgrades to MQTT's subprotocol
	kindOther   kind = "another protocol"
	kindSilent  kind = "silence"
	kindCloses  kind = "closing"
	kindResets  kind = "resetting"
	kindAtOnce  kind = "closing at once"
	kindAtOnceR kind = "resetting at once"
	kindGone    kind = "not reached"
)

// answerer is what was found out about who answers.
type answerer struct {
	kind  kind
	words string // the protocol's name, or its first words; with TLS, what HTTP it speaks to those who come in the clear
	path  string // where it upgrades to WebSocket
}

// bannerWait is how long a server gets to speak first, as many other protocols do.
const bannerWait = 250 * time.Millisecond

// dialer opens a connection of the layer that is looked at.
type dialer func(context.Context) (net.Conn, error)

// sniff finds out what answers: it listens for a banner, then asks in MQTT, TLS and HTTP, over
// connections of their own and without any credentials.
func sniff(ctx context.Context, dial dialer, wait time.Duration, host string, insideTLS bool) answerer {
	wait = min(wait, 1500*time.Millisecond)
	first, heard, end := ask(ctx, dial, nil, bannerWait)
	switch {
	case end == kindGone:
		return answerer{kind: kindGone}
	case len(first) > 0:
		return heardFrom(first)
	case heard && end == kindResets:
		return answerer{kind: kindAtOnceR}
	case heard:
		return answerer{kind: kindAtOnce}
	}
	hello := (&packet.Connect{ClientID: client.NewID(), CleanStart: true, KeepAlive: 30}).Append(nil, packet.V311)
	got, _, end := ask(ctx, dial, hello, wait)
	page := answerer{}
	if len(got) > 0 {
		if page = heardFrom(got); page.kind != kindHTTP {
			return page
		}
	}
	if !insideTLS {
		a, err := trust.Hello{Version: tls.VersionTLS12, Suites: trust.SuitesOf(tls.VersionTLS12), ServerName: host, Wait: wait}.Ask(ctx, trust.Dialer(dial))
		if err == nil && (a.Taken || a.Alerted) {
			return answerer{kind: kindTLS, words: page.words}
		}
		if b := heardFrom(a.Foreign); b.kind != kindOther && b.kind != kindHTTP {
			return b
		}
	}
	request := fmt.Sprintf("GET / HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", host)
	answer, _, _ := ask(ctx, dial, []byte(request), wait)
	if !bytes.HasPrefix(answer, []byte("HTTP/")) {
		answer = got // some answer a page that they do not have by closing
	}
	if bytes.HasPrefix(answer, []byte("HTTP/")) {
		if path := socketPath(ctx, dial, host, wait); path != "" {
			return answerer{kind: kindSocket, path: path}
		}
	}
	if len(answer) > 0 {
		return heardFrom(answer)
	}
	return answerer{kind: end}
}

// ask sends bytes and returns what comes, whether anything happened, and how it ended.
func ask(ctx context.Context, dial dialer, say []byte, wait time.Duration) (got []byte, heard bool, end kind) {
	c, err := dial(ctx)
	switch {
	case errors.Is(err, syscall.ECONNRESET):
		return nil, true, kindResets
	case err != nil:
		return nil, false, kindGone
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	c.SetDeadline(time.Now().Add(wait))
	if len(say) > 0 {
		c.Write(say)
	}
	b := make([]byte, 512)
	n, err := io.ReadAtLeast(c, b, 4)
	var slow net.Error
	switch {
	case n > 0:
		return b[:n], true, kindUnknown
	case errors.As(err, &slow) && slow.Timeout():
		return nil, false, kindSilent
	case errors.Is(err, syscall.ECONNRESET):
		return nil, true, kindResets
	}
	return nil, true, kindCloses
}

// banners are how other protocols begin.
var banners = []struct{ begin, name string }{
	{"SSH-", "SSH"}, {"220 ", "SMTP or FTP"}, {"220-", "SMTP or FTP"}, {"+OK", "POP3"}, {"* OK", "IMAP"}, {"RFB ", "a remote desktop (RFB)"},
	{"AMQP", "AMQP"}, {"RTSP/", "RTSP"}, {"\x05\x00", "SOCKS"}, {"\x05\xff", "SOCKS"}, {"\xff\xfb", "Telnet"}, {"\xff\xfd", "Telnet"}, {"ERROR", "STOMP or another text protocol"},
}

// heardFrom tells what protocol bytes belong to.
func heardFrom(b []byte) answerer {
	switch {
	case len(b) >= 2 && b[0] == byte(packet.CONNACK)<<4 && b[1] < 0x80 || len(b) >= 1 && b[0] == byte(packet.DISCONNECT)<<4:
		return answerer{kind: kindMQTT}
	case len(b) >= 2 && (b[0] == 21 || b[0] == 22) && b[1] == 3:
		return answerer{kind: kindTLS}
	case bytes.HasPrefix(b, []byte("HTTP/")):
		line, _, _ := strings.Cut(string(b), "\r\n")
		return answerer{kind: kindHTTP, words: clip(line)}
	}
	for _, x := range banners {
		if bytes.HasPrefix(b, []byte(x.begin)) {
			return answerer{kind: kindOther, words: x.name}
		}
	}
	if i := bytes.Index(b, []byte("mysql")); i >= 0 {
		return answerer{kind: kindOther, words: "a database"}
	}
	line, _, _ := strings.Cut(string(b[:min(len(b), 40)]), "\n")
	return answerer{kind: kindOther, words: fmt.Sprintf("something that begins %q", strings.TrimRight(line, "\r"))}
}

// socketPaths are where servers offer MQTT over WebSocket.
var socketPaths = []string{"/mqtt", "/ws", "/", "/websocket", "/mqtt/ws"}

// socketPath finds a path at which the server upgrades to MQTT's subprotocol, or "".
func socketPath(ctx context.Context, dial dialer, host string, wait time.Duration) string {
	for _, p := range socketPaths {
		if upgrades(ctx, dial, host, p, link.Subprotocol, wait) {
			return p
		}
	}
	return ""
}

// upgrades tells whether the server upgrades at a path and agrees to the subprotocol.
func upgrades(ctx context.Context, dial dialer, host, path, subprotocol string, wait time.Duration) bool {
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	c, err := dial(ctx)
	if err != nil {
		return false
	}
	e := link.Endpoint{WebSocket: true, URL: "ws://" + host + path}
	l, err := e.Upgrade(ctx, c, subprotocol)
	if err != nil {
		return false
	}
	l.Close()
	return true
}
