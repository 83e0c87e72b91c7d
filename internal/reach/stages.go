package reach

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// runner tries one target.
type runner struct {
	o        Options
	target   Target
	endpoint link.Endpoint
	result   Result
	log      *trace.Log // of what our clients send and receive
	start    time.Time
	// known tells that the way leads in: a refusal of a certificate need no longer be waited for.
	known bool
}

func (r *runner) say(format string, args ...any) {
	r.result.Doing = fmt.Sprintf(format, args...)
	if r.o.Progress != nil {
		shown := r.result
		shown.Ways = slices.Clone(r.result.Ways)
		for i := range shown.Ways {
			shown.Ways[i].Steps = slices.Clone(shown.Ways[i].Steps) // what is learnt is written into them later
		}
		r.o.Progress(shown)
	}
}

func (r *runner) run(ctx context.Context) Result {
	if len(r.target.Versions) == 0 {
		r.target.Versions = []packet.Version{packet.V5, packet.V311}
	}
	r.result = Result{
		Target:  r.target,
		Started: r.o.Now(),
		Running: true,
		Lookup:  Step{Stage: StageName, State: Untried},
	}
	r.start = time.Now()
	var err error
	if r.endpoint, err = link.Parse(r.target.URL); err != nil || r.target.Prior != "" {
		d := &Diagnosis{Cause: BadAddress, What: r.target.Prior, Remedy: "mend it in the workspace"}
		if err != nil {
			d.What, d.Remedy = err.Error(), "write it as mqtt://HOST:PORT, mqtts://, ws://HOST:PORT/PATH or wss://"
		}
		r.result.Ways = []Way{{Address: r.target.URL, Diagnosis: d}}
		return r.done()
	}
	r.say("looking the name up")
	addresses := r.lookup(ctx)
	for _, a := range addresses {
		r.result.Ways = append(r.result.Ways, Way{Address: a, Steps: r.blank()})
		r.way(ctx, &r.result.Ways[len(r.result.Ways)-1])
	}
	r.extra(ctx)
	if at := r.entrance(); at != "" && ctx.Err() == nil {
		r.known = true
		r.inside(ctx, at)
	}
	return r.done()
}

func (r *runner) done() Result {
	r.result.Running, r.result.Doing, r.result.Took = false, "", time.Since(r.start)
	if r.log != nil {
		r.result.Events, _ = r.log.Read(1, maxEvents)
	}
	r.conclude()
	if r.o.Progress != nil {
		r.o.Progress(r.result)
	}
	return r.result
}

// entrance returns the address that leads in, or "".
func (r *runner) entrance() string {
	for _, w := range r.result.Ways {
		if w.In && !w.Extra {
			return w.Address
		}
	}
	return ""
}

// blank returns the stages of the way, none of them tried but the name.
func (r *runner) blank() (out []Step) {
	for _, s := range Stages(r.endpoint) {
		if s == StageName {
			out = append(out, r.result.Lookup)
		} else {
			out = append(out, Step{Stage: s, State: Untried})
		}
	}
	return out
}

// lookup finds the addresses of the endpoint, and how that went.
func (r *runner) lookup(ctx context.Context) []string {
	e := r.endpoint
	l := &r.result.Lookup
	if e.Network == "unix" {
		*l = Step{StageName, Done, 0, "a local socket"}
		return []string{e.Address}
	}
	_, port, _ := net.SplitHostPort(e.Address)
	if ip, err := netip.ParseAddr(e.Host); err == nil {
		*l = Step{StageName, Done, 0, "an address"}
		return []string{net.JoinHostPort(ip.String(), port)}
	}
	start := time.Now()
	ctx, cancel := context.WithTimeout(ctx, r.o.Wait)
	defer cancel()
	found, err := r.o.Resolver.LookupNetIP(ctx, "ip", e.Host)
	l.Took = time.Since(start)
	if err != nil || len(found) == 0 {
		l.State = Failed
		d := lookupDiagnosis(e.Host, err)
		l.Learnt = d.What
		r.result.Ways = []Way{{Address: e.Address, Steps: r.blank(), Diagnosis: d}}
		return nil
	}
	l.State = Done
	var out []string
	for _, ip := range found {
		if a := net.JoinHostPort(ip.Unmap().String(), port); !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	l.Learnt = fmt.Sprintf("%d addresses", len(out))
	if len(out) == 1 {
		l.Learnt = found[0].Unmap().String()
	}
	return out
}

// approach says how a client comes.
type approach struct {
	name      string // for the evidence
	address   string
	version   packet.Version
	login     *workspace.Login
	id        string
	keep      bool // the session outlives the connection
	asks      packet.Properties
	protocols []string // ALPN
	under     string   // keep only messages whose topics begin so; "" for all
}

// visit is one attempt to get in, with all that a diagnosis needs.
type visit struct {
	steps     []Step
	client    *client.Client
	ack       *packet.Connack
	err       error
	failed    Stage
	tap       *tap
	presented *trust.Presented
	asked     bool     // for a client certificate
	cas       []string // from which CAs
	tls       tls.ConnectionState
	messages  chan *packet.Publish
	expires   bool // its session would outlive the connection
}

func (v *visit) step(s Stage) *Step {
	for i := range v.steps {
		if v.steps[i].Stage == s {
			return &v.steps[i]
		}
	}
	return &Step{}
}

// fail ends a visit at a stage.
func (v *visit) fail(s Stage, took time.Duration, err error) {
	v.err, v.failed = err, s
	*v.step(s) = Step{s, Failed, took, ""}
}

// end leaves politely, and with nothing kept: a session that was asked for to see what is
// granted ends with it (5.0 §3.14.2.2.2).
func (v *visit) end() {
	if v.client == nil || !v.client.Connected() {
		return
	}
	if v.expires {
		v.client.Disconnect(0, packet.Int(packet.SessionExpiry, 0))
		return
	}
	v.client.Disconnect(0)
}

// dial opens the connection below TLS.
func (r *runner) dial(ctx context.Context, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, r.o.Wait)
	defer cancel()
	return link.Socket(ctx, r.endpoint.Network, address, r.o.Dialled)
}

func (r *runner) serverName() string {
	if r.target.ServerName != "" {
		return r.target.ServerName
	}
	return r.endpoint.Host
}

// chainError is a server's chain that is not to be trusted.
type chainError struct{ presented trust.Presented }

func (e *chainError) Error() string { return e.presented.What }

// tlsConfig is that of a client which verifies by our own rules, so that what is wrong is
// known and not only that something is.
func (r *runner) tlsConfig(v *visit, a approach) *tls.Config {
	var own *tls.Certificate
	if a.login != nil {
		own = a.login.Certificate
	}
	c := trust.ClientTLS(nil, r.serverName(), own)
	c.InsecureSkipVerify, c.NextProtos = true, a.protocols
	present := c.GetClientCertificate
	c.GetClientCertificate = func(q *tls.CertificateRequestInfo) (*tls.Certificate, error) {
		v.asked = true
		for _, raw := range q.AcceptableCAs {
			v.cas = append(v.cas, string(raw))
		}
		if present != nil {
			return present(q)
		}
		return &tls.Certificate{}, nil
	}
	c.VerifyConnection = func(s tls.ConnectionState) error {
		p := trust.Verify(s.PeerCertificates, r.target.CAs, c.ServerName, r.o.Now())
		v.presented = &p
		if p.Cause != "" {
			return &chainError{p}
		}
		return nil
	}
	return c
}

// visit goes through the stages up to CONNACK.
func (r *runner) visit(ctx context.Context, a approach) *visit {
	v := &visit{steps: r.blank(), messages: make(chan *packet.Publish, 16)}
	start := time.Now()
	lap := func() time.Duration {
		took := time.Since(start)
		start = time.Now()
		return took
	}
	conn, err := r.dial(ctx, a.address)
	if err != nil {
		v.fail(StageTCP, lap(), err)
		return v
	}
	*v.step(StageTCP) = Step{StageTCP, Done, lap(), ""}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	v.tap = &tap{Conn: conn}
	if r.endpoint.TLS {
		stage, cancel := context.WithTimeout(ctx, r.o.Wait)
		secured := tls.Client(v.tap, r.tlsConfig(v, a))
		err := secured.HandshakeContext(stage)
		cancel()
		v.tls = secured.ConnectionState()
		took := lap()
		if err == nil && !r.known {
			_, err = trust.Refusal(secured, v.asked, took)
		}
		if err != nil {
			conn.Close()
			v.fail(StageTLS, took, err)
			return v
		}
		lap() // the wait for a refusal is no part of any stage
		*v.step(StageTLS) = Step{StageTLS, Done, took, "TLS " + trust.VersionName(v.tls.Version)}
		v.tap = &tap{Conn: secured}
	}
	var l *link.Link
	if r.endpoint.WebSocket {
		stage, cancel := context.WithTimeout(ctx, r.o.Wait)
		l, err = r.endpoint.Upgrade(stage, v.tap, link.Subprotocol)
		cancel()
		if err != nil {
			v.fail(StageUpgrade, lap(), err)
			return v
		}
		*v.step(StageUpgrade) = Step{StageUpgrade, Done, lap(), "subprotocol mqtt"}
	} else {
		l = link.Wrap(v.tap)
	}
	r.connect(ctx, v, l, a)
	took := lap()
	if v.err != nil {
		v.fail(StageConnect, took, v.err)
		return v
	}
	*v.step(StageConnect) = Step{StageConnect, Done, took, "version " + a.version.String()}
	return v
}

// reachKeepAlive is the keep alive of our clients, in seconds.
const reachKeepAlive = 30

func (r *runner) connect(ctx context.Context, v *visit, l *link.Link, a approach) {
	if a.id == "" {
		a.id = client.NewID()
	} else if a.id == emptyID {
		a.id = ""
	}
	o := client.Options{Dial: func(context.Context) (*link.Link, error) { return l, nil }, Version: a.version,
		Connect: packet.Connect{ClientID: a.id, CleanStart: !a.keep, KeepAlive: reachKeepAlive, Properties: a.asks},
		Message: func(p *packet.Publish) {
			if !strings.HasPrefix(p.Topic, a.under) {
				return // a busy site's
			}
			select {
			case v.messages <- p:
			default:
			}
		}}
	if r.log != nil {
		if a.name == "" {
			a.name = "another try"
		}
		logs := []*trace.Log{r.log}
		if r.o.Log != nil {
			logs = append(logs, r.o.Log)
		}
		o.Hooks = trace.Record(
			trace.Source{Client: a.name, Role: trace.RoleProbe, Broker: r.target.Name, Version: a.version},
			logs...)
	}
	expiry, _ := a.asks.Int(packet.SessionExpiry)
	v.expires = expiry > 0
	a.login.Apply(&o)
	if a.login == nil {
		o.Connect.HasUsername, o.Connect.HasPassword = false, false
	}
	v.client = client.New(o)
	stage, cancel := context.WithTimeoutCause(ctx, r.o.Wait, errNoConnack)
	defer cancel()
	v.ack, v.err = v.client.Connect(stage)
}

// emptyID asks for a CONNECT with an empty client identifier.
const emptyID = "\x00empty"

var errNoConnack = errors.New("no CONNACK in time")

// way tries one address.
func (r *runner) way(ctx context.Context, w *Way) {
	r.say("trying %s", w.Address)
	a := approach{
		name:    "way in",
		address: w.Address,
		version: r.target.Versions[0],
		login:   r.target.Login,
		id:      r.target.ClientID,
		asks:    asksOf(r.target.Versions[0]),
	}
	v := r.visit(ctx, a)
	w.Steps, w.Presented = v.steps, v.presented
	defer v.end()
	if v.err != nil {
		r.say("finding out why")
		w.Diagnosis = r.diagnose(ctx, v, a)
		v.step(v.failed).Learnt = string(w.Diagnosis.Cause)
		return
	}
	if w.Extra {
		w.In = true
		return
	}
	r.result.Grants = grantsOf(a, v.ack)
	if w.Diagnosis = r.roundTrip(ctx, v, w); w.Diagnosis == nil {
		w.In = true
	}
}

// roundTrip subscribes to a topic of its own, publishes on it and waits for the message. A
// login that may not do so is in all the same; a link that ends is not.
func (r *runner) roundTrip(ctx context.Context, v *visit, w *Way) *Diagnosis {
	ctx, cancel := context.WithTimeout(ctx, r.o.Wait)
	defer cancel()
	start := time.Now()
	step := v.step(StageRoundTrip)
	topicName := "hodstone/reach/" + client.NewID()
	ended := func() *Diagnosis {
		*step = Step{StageRoundTrip, Failed, time.Since(start), "the link ended"}
		return &Diagnosis{
			Cause:  ThrownOut,
			What:   "the broker lets the client in and ends the connection right after",
			Remedy: "does another client use the same client identifier? may this login do anything at all? the broker's log tells",
			Seen:   fmt.Sprint(v.client.Ended()),
		}
	}
	ack, err := v.client.Subscribe(ctx, []packet.Subscription{{Filter: topicName, QoS: 1}})
	switch {
	case !v.client.Connected():
		return ended()
	case err != nil:
		*step = Step{StageRoundTrip, Failed, time.Since(start), "no SUBACK: " + err.Error()}
		return nil
	case len(ack.Codes) != 1 || ack.Codes[0] >= 0x80:
		*step = Step{StageRoundTrip, Failed, time.Since(start), "the login may not subscribe to " + topicName}
		return nil
	}
	start = time.Now()
	if _, err := v.client.Publish(ctx, packet.Publish{Topic: topicName, Payload: []byte("reach"),
		QoS: min(1, packet.QoS(ack.Codes[0]))}); err != nil {
		if !v.client.Connected() {
			return ended()
		}
		*step = Step{StageRoundTrip, Failed, time.Since(start), "not published: " + err.Error()}
		return nil
	}
	select {
	case <-v.messages:
		*step = Step{StageRoundTrip, Done, time.Since(start), "published and received"}
	case <-v.client.Done():
		return ended()
	case <-ctx.Done():
		*step = Step{
			StageRoundTrip,
			Failed,
			time.Since(start),
			"published, but it did not come back: the login may not publish to " + topicName + ", or not read it",
		}
		return nil
	}
	if rtt, err := v.client.Ping(ctx); err == nil {
		r.result.Ping = rtt
	}
	return nil
}

// extra tries the same port at this machine's other addresses, where the target is on this
// machine: a broker that listens on loopback only is found so.
func (r *runner) extra(ctx context.Context) {
	if r.endpoint.Network != "tcp" || len(r.result.Ways) == 0 || ctx.Err() != nil {
		return
	}
	own := r.o.Own()
	local := false
	var tried []netip.Addr
	_, port, _ := net.SplitHostPort(r.endpoint.Address)
	for _, w := range r.result.Ways {
		host, _, _ := net.SplitHostPort(w.Address)
		ip, err := netip.ParseAddr(host)
		if err != nil {
			continue
		}
		tried = append(tried, ip)
		local = local || ip.IsLoopback() || slices.Contains(own, ip)
	}
	if !local {
		return
	}
	for _, ip := range own {
		if slices.Contains(tried, ip) {
			continue
		}
		r.result.Ways = append(
			r.result.Ways,
			Way{Address: net.JoinHostPort(ip.String(), port), Extra: true, Steps: r.blank()},
		)
		r.way(ctx, &r.result.Ways[len(r.result.Ways)-1])
	}
}

// certificateOf returns the certificate that a login presents, or nil.
func certificateOf(l *workspace.Login) *x509.Certificate {
	if l == nil || l.Certificate == nil || len(l.Certificate.Certificate) == 0 {
		return nil
	}
	c, err := x509.ParseCertificate(l.Certificate.Certificate[0])
	if err != nil {
		return nil
	}
	return c
}
