package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"strings"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/reach"
	"hodstone/internal/workspace"
)

// overHTTP tells whether a place is a service of a broker's that takes messages by HTTP.
func overHTTP(where string) bool {
	return strings.HasPrefix(where, "https://") || strings.HasPrefix(where, "http://")
}

// mostAnswer is how much of the service's answer is shown.
const mostAnswer = 4 << 10

// passed are the stages of the way to the service, with when each was over.
type passed struct {
	name, tcp, tls, answered time.Time
	address                  string
	state                    *tls.ConnectionState
}

// post sends a message to a service of a broker's that takes messages by HTTP, and tells what came of it, stage by stage.
func (e *Env) post(ctx context.Context, f *sendFlags, where string, args []string) error {
	switch {
	case f.lines || f.every > 0 || f.times > 0:
		return usage("--lines, --every and --times are for MQTT: by HTTP one message is posted")
	case f.given("qos") || f.given("retain") || f.responseTopic != "" || f.aliases || f.userProps != nil:
		return usage(
			"how the service is told of QoS, retain and properties is its own matter: write it into the URL, as its makers say",
		)
	case f.broker != "" || f.version != "":
		return usage("--broker and --protocol-version are for MQTT")
	}
	topic := args[1]
	if !strings.Contains(where, "{topic}") {
		return usage("the URL says with {topic} where the topic stands: https://HOST:8443/topics/{topic}")
	}
	// A topic is one part of the path: its slashes are escaped (RFC 3986 §2.2).
	full := strings.ReplaceAll(where, "{topic}", url.PathEscape(topic))
	u, err := url.Parse(full)
	switch {
	case err != nil:
		return usage("%s cannot be read as a URL: %w", where, err)
	case u.User != nil:
		return usage(
			"write the login as --username with --password-file or --password-env: what stands in a URL ends up in histories and logs",
		)
	case u.Hostname() == "":
		return usage("%s names no host", where)
	}
	next, err := e.input(f, args)
	if err != nil {
		return err
	}
	body, err := next()
	if err != nil {
		return usage("the payload cannot be read: %w", err)
	}
	login, err := f.login()
	if err != nil {
		return err
	}
	endpoint := link.Endpoint{TLS: u.Scheme == "https", Host: u.Hostname()}
	config, err := f.tls(endpoint)
	if err != nil {
		return err
	}
	if config != nil {
		config.NextProtos = []string{"http/1.1"}
	}
	var at passed
	start := time.Now()
	req, err := http.NewRequestWithContext(
		httptrace.WithClientTrace(ctx, at.trace()),
		http.MethodPost,
		full,
		bytes.NewReader(body),
	)
	if err != nil {
		return usage("%w", err)
	}
	if req.Header.Set("Content-Type", "application/octet-stream"); f.contentType != "" {
		req.Header.Set("Content-Type", f.contentType)
	}
	switch {
	case login == nil:
	case login.HasToken:
		req.Header.Set("Authorization", "Bearer "+login.Token.Reveal())
	case login.HasPassword:
		req.SetBasicAuth(login.Username, login.Password.Reveal())
	}
	client := &http.Client{
		Timeout:       answerTimeout,
		Transport:     &http.Transport{TLSClientConfig: config, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	res, err := client.Do(req)
	if err != nil {
		e.stages(&at, start, endpoint.TLS)
		return e.notPosted(ctx, f, u, config, err)
	}
	defer res.Body.Close()
	answer, _ := io.ReadAll(io.LimitReader(res.Body, mostAnswer))
	e.stages(&at, start, endpoint.TLS)
	plain.Fprintf(e.Out, "%s: POST of %d bytes is answered %s\n", topic, len(body), res.Status)
	if text := strings.TrimSpace(string(answer)); text != "" {
		plain.Fprintf(e.Out, "  it says: %s\n", plain.Lines(text))
	}
	if res.StatusCode >= 300 {
		return &exit{exitBroken, fmt.Errorf("the service did not take it: %s%s%s", res.Status, tryThis, remedy(res))}
	}
	return nil
}

// trace notes when each stage is over.
func (p *passed) trace() *httptrace.ClientTrace {
	return &httptrace.ClientTrace{
		DNSDone:              func(httptrace.DNSDoneInfo) { p.name = time.Now() },
		ConnectDone:          func(_, address string, err error) { p.connected(address, err) },
		TLSHandshakeDone:     func(s tls.ConnectionState, err error) { p.shook(s, err) },
		GotFirstResponseByte: func() { p.answered = time.Now() },
	}
}

func (p *passed) connected(address string, err error) {
	if err == nil {
		p.tcp, p.address = time.Now(), address
	}
}

func (p *passed) shook(s tls.ConnectionState, err error) {
	if err == nil {
		p.tls, p.state = time.Now(), &s
	}
}

// stages tells how far it came, and how long each stage took.
func (e *Env) stages(p *passed, start time.Time, encrypted bool) {
	last := start
	for _, s := range []struct {
		at   time.Time
		text string
	}{
		{p.name, "name"}, {p.tcp, "TCP to " + p.address}, {p.tls, "TLS"}, {p.answered, "answer"},
	} {
		if s.at.IsZero() {
			continue
		}
		if s.text == "TLS" && p.state != nil {
			s.text = fmt.Sprintf("%s, %s", tls.VersionName(p.state.Version), tls.CipherSuiteName(p.state.CipherSuite))
		}
		plain.Fprintf(e.Out, "  ✓ %-8s %s\n", s.at.Sub(last).Round(10*time.Microsecond), s.text)
		last = s.at
	}
	if !encrypted {
		plain.Fprintf(e.ErrOut, "hodstone: without TLS everybody on the way reads it, the login too\n")
	}
}

// notPosted says why the service was not reached, as 'hodstone reach' tells it.
func (e *Env) notPosted(ctx context.Context, f *sendFlags, u *url.URL, config *tls.Config, err error) error {
	var inner *url.Error
	if errors.As(err, &inner) {
		err = inner.Err
	}
	scheme, port := "mqtt", "80"
	if config != nil {
		scheme, port = "mqtts", "443"
	}
	if u.Port() != "" {
		port = u.Port()
	}
	t := reach.Target{
		Name:       u.Host,
		URL:        scheme + "://" + net.JoinHostPort(u.Hostname(), port),
		ServerName: f.serverName,
	}
	if f.ca != "" {
		t.CAs, _ = readCA(f.ca) // it was read before
	}
	if pair, _ := f.pair(); pair != nil {
		t.Login = &workspace.Login{Certificate: pair}
	}
	if ctx.Err() == nil {
		if d := reach.Explain(ctx, t, packet.V311, reach.Options{}); d != nil && below(d.Cause) {
			return &exit{exitNotReached, fmt.Errorf("%s: %s", u.Host, told(d))}
		}
	}
	return &exit{exitNotReached, fmt.Errorf("%s: %w", u.Host, err)}
}

// below tells whether a cause lies below the service's own protocol, where MQTT and HTTP are alike.
func below(c reach.Cause) bool {
	for _, prefix := range []string{"name-", "port-closed", "no-answer", "host-", "network-", "ipv6-", "not-allowed-here", "tcp-",
		"reset-on-", "closed-on-", "plain-to-tls", "tls-", "certificate-", "client-certificate-"} {
		if strings.HasPrefix(string(c), prefix) {
			return true
		}
	}
	return false
}

// remedy is what to try where the service answers with a status.
func remedy(res *http.Response) string {
	switch res.StatusCode {
	case http.StatusUnauthorized:
		return "it wants a login: --username with a password, --token-file, or --certificate with --key"
	case http.StatusForbidden:
		return "the login, or the certificate, may not publish on this topic: look at the policy that is attached to it"
	case http.StatusNotFound:
		return "nothing is at this path: compare it with what the service's makers say"
	case http.StatusMethodNotAllowed:
		return "the path is not for POST: compare it with what the service's makers say"
	case http.StatusRequestEntityTooLarge:
		return "send less at once"
	case http.StatusTooManyRequests:
		return "wait; it tells how long in Retry-After: " + res.Header.Get("Retry-After")
	}
	switch {
	case res.StatusCode >= 500:
		return "the service itself is in trouble: try later"
	case res.StatusCode < 400:
		return "it points elsewhere, to " + res.Header.Get("Location") + ": name that"
	}
	return "read what it says"
}
