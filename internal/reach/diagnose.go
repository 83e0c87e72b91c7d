package reach

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
)

// lookupDiagnosis tells why a name has no address; err is nil for an empty answer.
func lookupDiagnosis(host string, err error) *Diagnosis {
	d := &Diagnosis{Cause: NameUnknown, What: fmt.Sprintf("the name %s does not exist", host), Remedy: "check its spelling, or dial the address"}
	var dns *net.DNSError
	if err != nil {
		d.Seen = err.Error()
	}
	switch {
	case err == nil:
		d.Cause, d.What, d.Remedy = NoAddress, fmt.Sprintf("the name %s has no address", host), "ask whoever runs the name server for an A or AAAA record"
	case looksLikeAddress(host):
		d.Cause, d.What, d.Remedy = BadAddress, fmt.Sprintf("%s is meant to be an address, but is none: each number of four goes from 0 to 255", host), "check the address"
	case errors.As(err, &dns) && (dns.IsTimeout || dns.IsTemporary && !dns.IsNotFound), errors.Is(err, context.DeadlineExceeded):
		d.Cause, d.What, d.Remedy = NameSilent, fmt.Sprintf("no name server answers for %s", host), "is this machine on the network, and its name server set? dial the address meanwhile"
	case strings.HasSuffix(host, ".local"):
		d.Remedy = "names in .local are found by multicast (mDNS), which does not cross routers and must be installed; dial the address"
	case !strings.Contains(host, "."):
		d.Remedy = "a name without dots is known on its own network only: check its spelling, add the domain, or dial the address"
	}
	return d
}

// looksLikeAddress tells of four numbers with dots that are no address.
func looksLikeAddress(host string) bool {
	parts := strings.Split(host, ".")
	for _, p := range parts {
		if p == "" || strings.Trim(p, "0123456789") != "" {
			return false
		}
	}
	return len(parts) >= 3
}

// tcpDiagnosis tells why no connection stands.
func (r *runner) tcpDiagnosis(address string, err error) *Diagnosis {
	d := &Diagnosis{Seen: err.Error()}
	host, port, _ := net.SplitHostPort(address)
	ip, _ := netip.ParseAddr(host)
	set := func(c Cause, what, remedy string) { d.Cause, d.What, d.Remedy = c, what, remedy }
	switch {
	case r.endpoint.Network == "unix" && (errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED)):
		set(NoSocket, "there is no socket "+address+" that something listens on", "is the broker running, and is this the path in its settings?")
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EACCES), errors.Is(err, syscall.EPERM):
		set(NotAllowed, "this machine does not let Hodstone connect there: a firewall or a rule of its own", "look at this machine's firewall, sandbox and rights")
	case errors.Is(err, syscall.ECONNREFUSED):
		set(Refused, fmt.Sprintf("nothing listens on port %s of %s", port, host), "is the broker running? is it the right port? "+portHint(port))
		if ip.IsLoopback() {
			d.Remedy = "localhost and 127.0.0.1 are this very machine: is the broker running here? on another machine, dial that one's address"
		}
	case errors.Is(err, syscall.EHOSTUNREACH):
		set(HostUnreachable, host+" cannot be reached: no machine answers for that address on its network", "is it switched on? did its address change? is it the right one?")
	case errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.EADDRNOTAVAIL):
		set(NetUnreachable, "this machine has no route to "+host, "is it on the right network, or is the VPN down?")
	case errors.Is(err, syscall.EAFNOSUPPORT):
		set(IPv6Only, "this machine does not have that kind of network: "+host, "give the broker an address of the other kind")
	case errors.Is(err, syscall.ECONNRESET):
		set(ResetOnAccept, "the connection is reset before it stands", "a firewall, or a server that may not talk to this address")
	case errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err), errors.Is(err, syscall.ETIMEDOUT):
		set(TimedOut, fmt.Sprintf("no answer from %s within %s: not even a refusal", address, r.o.Wait), "a firewall that drops, a wrong address, or a machine that is off")
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		set(TCPFailed, "this machine has no more files to open", "raise the limit of open files (ulimit -n)")
	case errors.Is(err, context.Canceled):
		set(Cancelled, "stopped", "")
	default:
		set(TCPFailed, "no connection: "+err.Error(), "see the error")
	}
	if (d.Cause == NetUnreachable || d.Cause == TimedOut || d.Cause == HostUnreachable) && ip.Is6() && !r.hasIPv6() && onlyIPv6(r.result.Ways) {
		set(IPv6Only, host+" is an IPv6 address, the only kind that the broker has, and this machine has none of its own", "give this machine IPv6, or the broker an IPv4 address")
	}
	return d
}

// hasIPv6 tells whether this machine has an IPv6 address that leads beyond it.
func (r *runner) hasIPv6() bool {
	return slices.ContainsFunc(r.o.Own(), func(ip netip.Addr) bool { return ip.Is6() && !ip.IsLoopback() })
}

func onlyIPv6(ways []Way) bool {
	for _, w := range ways {
		host, _, _ := net.SplitHostPort(w.Address)
		if ip, err := netip.ParseAddr(host); err == nil && ip.Is4() && !w.Extra {
			return false
		}
	}
	return true
}

func portHint(port string) string {
	switch port {
	case "1883", "8883", "8083", "8084", "9001", "443", "80":
		return ""
	}
	return "MQTT is mostly at 1883, with TLS at 8883"
}

// diagnose finds the cause of a failed visit, asking again where the failure alone does not
// tell.
func (r *runner) diagnose(ctx context.Context, v *visit, a approach) *Diagnosis {
	if ctx.Err() != nil {
		return &Diagnosis{Cause: Cancelled, What: "stopped before it was found out"}
	}
	var d *Diagnosis
	switch v.failed {
	case StageTCP:
		return r.tcpDiagnosis(a.address, v.err)
	case StageTLS:
		d = r.tlsDiagnosis(ctx, v, a)
	case StageUpgrade:
		d = r.upgradeDiagnosis(ctx, v, a)
	default:
		d = r.connectDiagnosis(ctx, v, a)
	}
	if d.Seen == "" {
		d.Seen = v.err.Error()
	}
	return d
}

// plain returns how the layer below TLS is reached; secured, that above it.
func (r *runner) plain(a approach) dialer {
	return func(ctx context.Context) (net.Conn, error) { return r.dial(ctx, a.address) }
}

func (r *runner) secured(a approach) dialer { return r.wrapped(a, r.tlsConfig(&visit{}, a)) }

// unverified is how the layer above TLS is looked at where the URL says nothing of TLS, so
// that there is no CA to verify with. Nothing of ours goes over it.
func (r *runner) unverified(a approach) dialer {
	return r.wrapped(a, &tls.Config{ServerName: r.serverName(), InsecureSkipVerify: true})
}

func (r *runner) wrapped(a approach, config *tls.Config) dialer {
	return func(ctx context.Context) (net.Conn, error) {
		c, err := r.dial(ctx, a.address)
		if err != nil {
			return nil, err
		}
		ctx, cancel := context.WithTimeout(ctx, r.o.Wait)
		defer cancel()
		s := tls.Client(c, config)
		if err := s.HandshakeContext(ctx); err != nil {
			c.Close()
			return nil, err
		}
		return s, nil
	}
}

// answers diagnoses by what answers at the port, where that is not what the URL says; nil
// where it does not help.
func (r *runner) answers(ctx context.Context, a approach) *Diagnosis {
	e := r.endpoint
	got := sniff(ctx, r.plain(a), r.o.Wait, e.Host, false)
	layer := "plain"
	if got.kind == kindTLS && e.TLS {
		got = sniff(ctx, r.secured(a), r.o.Wait, e.Host, true)
		layer = "TLS"
	}
	port := a.address
	say := func(c Cause, what, remedy string) *Diagnosis { return &Diagnosis{Cause: c, What: what, Remedy: remedy} }
	url := func(scheme, path string) string {
		return fmt.Sprintf("%s://%s%s", scheme, e.Address, path)
	}
	switch got.kind {
	case kindTLS: // and the URL is a plain one
		return r.plainToTLS(ctx, a, got.words)
	case kindMQTT:
		switch {
		case e.TLS && layer == "plain":
			return say(TLSToPlain, "this is a plain MQTT port, and the client asks it for TLS", "write "+url("mqtt", "")+", or find the TLS port, mostly 8883")
		case e.WebSocket:
			return say(WebSocketToMQTT, "this is an MQTT port, and the client asks it for WebSocket", "write "+url(map[bool]string{true: "mqtts", false: "mqtt"}[layer == "TLS"], ""))
		}
		return nil
	case kindSocket:
		scheme := map[bool]string{true: "wss", false: "ws"}[layer == "TLS"]
		if e.TLS && layer == "plain" {
			return say(TLSToPlain, "this is a plain WebSocket port, and the client asks it for TLS", "write "+url("ws", got.path))
		}
		if !e.WebSocket {
			return say(MQTTToWebSocket, "this is a WebSocket port, and the client speaks MQTT to it without WebSocket", "write "+url(scheme, got.path))
		}
		return nil
	case kindHTTP:
		if e.WebSocket && !(e.TLS && layer == "plain") {
			return nil // the upgrade tells more
		}
		return say(HTTPServer, "an HTTP server answers at this port, not a broker ("+got.words+")", "find the broker's port, mostly 1883, with TLS 8883; this may be its web pages")
	case kindOther:
		return say(OtherProtocol, "what answers at "+port+" is no broker but "+got.words, "find the broker's port, mostly 1883, with TLS 8883")
	case kindAtOnce:
		return say(ClosedOnAccept, "the server takes the connection and closes it at once, before a word is said", "a limit of connections, a rule about addresses, or a forwarder whose broker is down: see the server's log")
	case kindAtOnceR, kindResets:
		return say(ResetOnAccept, "the server takes the connection and resets it", "a firewall or proxy in between, a rule about addresses, or a service that is not ready: see the server's log")
	case kindSilent:
		return say(SilentServer, "something takes the connection, and says nothing to MQTT, TLS or HTTP", "a broker that hangs, a forwarder without a broker behind it, or another kind of device: is it the right port?")
	}
	return nil
}

// plainToTLS diagnoses a plain URL for a TLS port, by what answers inside the TLS; page is the
// HTTP that it speaks to clients who come in the clear, "" for none.
func (r *runner) plainToTLS(ctx context.Context, a approach, page string) *Diagnosis {
	e := r.endpoint
	d := &Diagnosis{Cause: PlainToTLS, What: "this is a TLS port, and the client speaks to it in the clear"}
	scheme, path := "mqtts", ""
	if e.WebSocket {
		scheme, path = "wss", pathOf(e.URL)
	}
	inside := sniff(ctx, r.unverified(a), r.o.Wait, e.Host, true)
	if inside.kind != kindMQTT && inside.kind != kindSocket && page != "" {
		inside = answerer{kind: kindHTTP, words: page}
	}
	switch inside.kind {
	case kindMQTT:
		scheme, path = "mqtts", ""
	case kindSocket:
		scheme, path = "wss", inside.path
	case kindHTTP:
		if !e.WebSocket {
			return &Diagnosis{Cause: HTTPServer, What: "an HTTP server over TLS answers at this port, not a broker (" + inside.words + ")", Remedy: "find the broker's port, mostly 1883, with TLS 8883; this may be its web pages"}
		}
	case kindOther:
		return &Diagnosis{Cause: OtherProtocol, What: "what answers at " + a.address + ", over TLS, is no broker but " + inside.words, Remedy: "find the broker's port, mostly 1883, with TLS 8883"}
	}
	d.Remedy = fmt.Sprintf("write %s://%s%s", scheme, e.Address, path)
	return d
}

func pathOf(url string) string {
	_, rest, _ := strings.Cut(url, "://")
	if i := strings.IndexByte(rest, '/'); i >= 0 {
		return rest[i:]
	}
	return ""
}

func (r *runner) upgradeDiagnosis(ctx context.Context, v *visit, a approach) *Diagnosis {
	if d := r.clientCertificate(v, a); d != nil {
		return d
	}
	layer := r.plain(a)
	if r.endpoint.TLS {
		layer = r.secured(a)
	}
	var up *link.UpgradeError
	errors.As(v.err, &up)
	first := v.tap.bytes()
	switch {
	case up != nil && up.NoSubprotocol:
		if upgrades(ctx, layer, r.endpoint.Host, pathOf(r.endpoint.URL), "mqttv3.1", r.o.Wait) {
			return &Diagnosis{Cause: OldSubprotocol, What: "the server agrees to the subprotocol mqttv3.1 only, which is from before the standard", Remedy: "bring the server up to date: the standard's subprotocol is mqtt (3.1.1 §6)"}
		}
		return &Diagnosis{Cause: NoSubprotocol, What: "the server upgrades to WebSocket, but does not agree to the subprotocol mqtt (3.1.1 §6)", Remedy: "is this path meant for another service? let the server, or the proxy before it, pass Sec-WebSocket-Protocol on"}
	case up == nil || up.Status == 0 || !bytes.HasPrefix(first, []byte("HTTP/")):
		if d := r.answers(ctx, a); d != nil {
			return d
		}
		return &Diagnosis{Cause: NoUpgrade, What: "the server does not upgrade to WebSocket", Remedy: "is it the right port?"}
	}
	seen := fmt.Sprintf("HTTP %d %s", up.Status, http.StatusText(up.Status))
	if up.Server != "" {
		seen += ", server " + clip(up.Server)
	}
	d := &Diagnosis{Seen: seen}
	set := func(c Cause, what, remedy string) { d.Cause, d.What, d.Remedy = c, what, remedy }
	if !r.endpoint.TLS && up.Status == http.StatusBadRequest {
		if got := sniff(ctx, r.plain(a), r.o.Wait, r.endpoint.Host, false); got.kind == kindTLS {
			d := r.plainToTLS(ctx, a, "")
			d.Seen = seen
			return d
		}
	}
	switch s := up.Status; {
	case s == http.StatusUnauthorized, s == http.StatusForbidden, s == http.StatusProxyAuthRequired:
		set(HTTPLogin, "the web server in front wants a login of its own before it upgrades", "ask whoever runs it; MQTT's login comes only after the upgrade")
	case s >= 300 && s < 400:
		set(HTTPRedirect, "the server sends us elsewhere: "+clip(up.Location), "use that address, with ws:// or wss:// and the full path")
	case s == http.StatusBadGateway, s == http.StatusServiceUnavailable, s == http.StatusGatewayTimeout:
		set(HTTPGateway, "the web server in front does not reach the broker behind it", "is the broker running? see the proxy's settings and log")
	default:
		if path := socketPath(ctx, layer, r.endpoint.Host, r.o.Wait); path != "" {
			set(WrongPath, fmt.Sprintf("the path %q is wrong: the server offers MQTT at %s", pathOf(r.endpoint.URL), path), "write "+strings.TrimSuffix(r.endpoint.URL, pathOf(r.endpoint.URL))+path)
			return d
		}
		if s == http.StatusNotFound {
			set(WrongPath, fmt.Sprintf("the server has nothing at %q", pathOf(r.endpoint.URL)), "ask for the path; tried without success: "+strings.Join(socketPaths, ", "))
			return d
		}
		set(NoUpgrade, "a web server answers, and does not upgrade to WebSocket", "is this port and path meant for MQTT? tried without success: "+strings.Join(socketPaths, ", "))
	}
	return d
}

func (r *runner) connectDiagnosis(ctx context.Context, v *visit, a approach) *Diagnosis {
	var rejected *client.RefusedError
	if errors.As(v.err, &rejected) {
		d := refused(rejected.Code, a.version, a.login != nil, rejected.Reason, rejected.Server)
		r.likely(ctx, d, a)
		return d
	}
	if r.endpoint.TLS {
		if d := r.clientCertificate(v, a); d != nil {
			return d
		}
	}
	first := v.tap.bytes()
	if r.endpoint.WebSocket {
		first = nil // frames
	}
	notConnack := func() *Diagnosis {
		return &Diagnosis{Cause: NotConnack, What: "the broker answers CONNECT with another packet than CONNACK: " + packet.Type(first[0]>>4).String(), Remedy: "a broker with a fault: its maker should hear of it", Seen: hexBytes(first)}
	}
	var ended *client.EndedError
	errors.As(v.err, &ended)
	switch h := heardFrom(first); {
	case len(first) > 0 && first[0] == byte(packet.CONNACK)<<4 && (len(first) == 1 || len(first) < 2+int(first[1])):
		return &Diagnosis{Cause: HalfConnack, What: fmt.Sprintf("the answer breaks off in the middle of CONNACK, after %d bytes", len(first)), Remedy: "a broker that crashes, or a proxy that cuts: see both logs", Seen: hexBytes(first)}
	case len(first) > 0 && (h.kind == kindTLS || h.kind == kindHTTP || h.kind == kindOther && (isText(first) || !looksLikePacket(first))):
		if d := r.answers(ctx, a); d != nil {
			d.Seen = "the server's first bytes: " + hexBytes(first)
			if isText(first) {
				line, _, _ := strings.Cut(string(first), "\n")
				d.Seen = fmt.Sprintf("the server's first words: %q", clip(strings.TrimRight(line, "\r")))
			}
			return d
		}
	case ended != nil && ended.Broken != nil:
		if len(first) > 0 && first[0]>>4 != byte(packet.CONNACK) {
			return notConnack()
		}
		return &Diagnosis{Cause: BrokenConnack, What: "the broker's CONNACK breaks the standard: " + ended.Broken.Error(), Remedy: "try another version; a broker with a fault: its maker should hear of it", Seen: hexBytes(first)}
	case len(first) > 0 && first[0]>>4 != byte(packet.CONNACK) && looksLikePacket(first):
		return notConnack()
	case len(first) == 0 && !r.endpoint.WebSocket:
		if d := r.answers(ctx, a); d != nil {
			return d
		}
	}
	return r.noConnack(ctx, v, a)
}

func hexBytes(b []byte) string { return fmt.Sprintf("% X", b[:min(len(b), 16)]) }

// isText tells of bytes that people could read, as banners are.
func isText(b []byte) bool {
	for _, c := range b[:min(len(b), 4)] {
		if c < ' ' || c > '~' {
			return false
		}
	}
	return len(b) >= 4
}

// looksLikePacket tells whether bytes may begin a packet that a server sends.
func looksLikePacket(b []byte) bool {
	if len(b) < 2 {
		return false
	}
	t := packet.Type(b[0] >> 4)
	return t >= packet.CONNACK && t <= packet.AUTH && b[0] < 0x80 || t == packet.DISCONNECT || t == packet.PINGRESP && b[1] == 0 || t == packet.SUBACK || t == packet.UNSUBACK || t == packet.AUTH
}

// noConnack diagnoses a link that ends, or stays silent, where CONNACK was due: it changes one
// thing at a time and looks what gets in.
func (r *runner) noConnack(ctx context.Context, v *visit, a approach) *Diagnosis {
	silent := errors.Is(v.err, errNoConnack) || errors.Is(v.err, context.DeadlineExceeded)
	in := func(b approach) bool {
		x := r.visit(ctx, b)
		defer x.end()
		return x.err == nil
	}
	answers := func(b approach) bool { // by letting in, or by refusing with a code
		x := r.visit(ctx, b)
		x.end()
		var rejected *client.RefusedError
		return x.err == nil || errors.As(x.err, &rejected)
	}
	// What gets in proves nothing where the same gets in as well when it comes again, or then once more.
	found := func(cause Cause, what, remedy string) *Diagnosis {
		for range 2 {
			if cause == Unsteady || !in(a) {
				continue
			}
			cause, what = Unsteady, "the broker ended the link at first, and let the very same client in a moment later"
			remedy = "a limit of connections or of their rate, a broker that was just starting, or one of several behind one address: see its log, and try again"
		}
		return &Diagnosis{Cause: cause, What: what, Remedy: remedy, Seen: v.err.Error()}
	}
	for _, version := range []packet.Version{packet.V311, packet.V31, packet.V5} {
		if b := a; version != a.version {
			b.version, b.asks = version, nil
			if in(b) {
				return found(Version, fmt.Sprintf("the broker does not speak MQTT %s, and says so by closing; %s gets in", a.version, version), "use "+version.String())
			}
		}
	}
	if b := a; a.id != "" {
		b.id = ""
		if in(b) {
			return found(ClientID, fmt.Sprintf("the broker does not take the client identifier %q, and says so by closing; another gets in", a.id), "ask for its rule: length, characters, a prefix")
		}
	}
	if b := a; a.login != nil {
		b.login = nil
		if answers(b) {
			return found(WrongLogin, "the broker closes when it sees this login, without a CONNACK; without a login it answers", "compare user name and password letter by letter")
		}
	}
	if b := a; v.asked && a.login != nil && a.login.Certificate != nil {
		bare := *a.login
		bare.Certificate = nil
		b.login = &bare
		if answers(b) {
			return found(ClientCertBad, "the server ends the link when it sees our client certificate, without saying why; without one it answers", "the server's log tells: another CA, revoked, or a subject that it does not know")
		}
	}
	if silent {
		return &Diagnosis{Cause: NoConnack, What: fmt.Sprintf("no CONNACK within %s: the link stands, and nothing comes", r.o.Wait), Remedy: "a broker that hangs, or that waits for its store of logins: see its log"}
	}
	d := &Diagnosis{Cause: ClosedNoConnack, What: "the broker ends the link without a CONNACK, which it may do with a client that it does not want", Remedy: "the broker's log tells; likely: the login, the client identifier, a limit of connections, or a rule about addresses"}
	var ended *client.EndedError
	if errors.As(v.err, &ended) && ended.Coded {
		d.What = fmt.Sprintf("the broker answers with DISCONNECT 0x%02X, %s, in place of CONNACK", byte(ended.Code), ended.Code.In(packet.DISCONNECT, packet.V5))
	}
	return d
}

// likely makes a refusal's remedy fit, by trying what would be tried next.
func (r *runner) likely(ctx context.Context, d *Diagnosis, a approach) {
	switch d.Cause {
	case Version, BadPacket, UnknownCode:
		for _, version := range []packet.Version{packet.V311, packet.V31, packet.V5} {
			b := a
			if b.version, b.asks = version, nil; version == a.version {
				continue
			}
			x := r.visit(ctx, b)
			x.end()
			if x.err == nil {
				d.Remedy = fmt.Sprintf("use %s: it gets in", version)
				if d.Cause != Version {
					d.Cause, d.What = Version, fmt.Sprintf("the broker does not understand MQTT %s", a.version)
				}
				return
			}
		}
	case ClientID:
		b := a
		if b.id = ""; a.id != "" {
			x := r.visit(ctx, b)
			x.end()
			if x.err == nil {
				d.What = fmt.Sprintf("the broker does not take the client identifier %q; another gets in", a.id)
			}
		}
	}
}
