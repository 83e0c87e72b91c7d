package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"hodstone/internal/contract"
	"hodstone/internal/infile"
	"hodstone/internal/mqtt/auth"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/reach"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// access holds the options of login and TLS, which a URL cannot carry.
type access struct {
	username, passwordFile, passwordEnv string
	tokenFile, tokenEnv, method         string
	ca, certificate, key, serverName    string
	passphraseFile, passphraseEnv       string
}

func (a *access) flags(fl *pflag.FlagSet) {
	fl.StringVar(&a.username, "username", "", "with a URL: the user name")
	fl.StringVar(&a.passwordFile, "password-file", "", "with a URL: the file that holds the password")
	fl.StringVar(&a.passwordEnv, "password-env", "", "with a URL: the environment variable that holds the password")
	fl.StringVar(
		&a.tokenFile,
		"token-file",
		"",
		"with a URL: the file that holds a token, which is sent as the password",
	)
	fl.StringVar(&a.tokenEnv, "token-env", "", "with a URL: the environment variable that holds a token")
	fl.StringVar(
		&a.method,
		"authentication-method",
		"",
		"with a URL, in version 5: "+auth.SCRAMSHA256+" proves the password without sending it",
	)
	fl.StringVar(&a.ca, "ca", "", "with a URL over TLS: the file with the CA to trust; the system's roots by default")
	fl.StringVar(
		&a.serverName,
		"server-name",
		"",
		"with a URL over TLS: the name that the broker's certificate must hold",
	)
	fl.StringVar(
		&a.certificate,
		"certificate",
		"",
		"with a URL over TLS: the file with the client's certificate, and the key if it is in it too",
	)
	fl.StringVar(&a.key, "key", "", "with a URL over TLS: the file with the certificate's key")
	fl.StringVar(
		&a.passphraseFile,
		"passphrase-file",
		"",
		"with --key: the file that holds the passphrase of an encrypted key",
	)
	fl.StringVar(
		&a.passphraseEnv,
		"passphrase-env",
		"",
		"with --key: the environment variable that holds the passphrase",
	)
}

// used names an option that was given, or is "".
func (a *access) used() string {
	for _, f := range []struct{ name, value string }{{"--username", a.username}, {"--password-file", a.passwordFile},
		{"--password-env", a.passwordEnv},
		{"--token-file", a.tokenFile}, {"--token-env", a.tokenEnv}, {"--authentication-method", a.method},
		{"--ca", a.ca}, {"--server-name", a.serverName},
		{"--certificate", a.certificate}, {"--key", a.key}, {"--passphrase-file", a.passphraseFile},
		{"--passphrase-env", a.passphraseEnv}} {
		if f.value != "" {
			return f.name
		}
	}
	return ""
}

// How large the files may be that options name, in bytes.
const (
	maxSecret     = 64 << 10
	maxCredential = 16 << 20
)

// secret reads a secret from a file or an environment variable.
func secret(what, flag, file, env string) (s workspace.Secret, given bool, err error) {
	switch {
	case file != "" && env != "":
		return s, false, usage("give --%s-file or --%s-env, not both", flag, flag)
	case file != "":
		b, err := infile.Read(file, maxSecret)
		if err != nil {
			return s, false, usage("the %s cannot be read: %w", what, err)
		}
		return workspace.NewSecret(strings.TrimRight(string(b), "\r\n")), true, nil
	case env != "":
		v, ok := os.LookupEnv(env)
		if !ok {
			return s, false, usage("the environment variable %s is not set", env)
		}
		return workspace.NewSecret(v), true, nil
	}
	return s, false, nil
}

// login returns the client identity that the options make, or nil for none.
func (a *access) login() (*workspace.Login, error) {
	l := &workspace.Login{Name: a.username, Username: a.username}
	if a.username == "" && a.passwordFile+a.passwordEnv != "" {
		return nil, usage("a password goes with --username")
	}
	var err error
	if l.Password, l.HasPassword, err = secret("password", "password", a.passwordFile, a.passwordEnv); err != nil {
		return nil, err
	}
	if l.Token, l.HasToken, err = secret("token", "token", a.tokenFile, a.tokenEnv); err != nil {
		return nil, err
	}
	switch {
	case l.HasPassword && l.HasToken:
		return nil, usage("give a password or a token, not both: they go into the same field of CONNECT")
	case a.method != "" && a.method != auth.SCRAMSHA256:
		return nil, usage("--authentication-method takes %s, not %q", auth.SCRAMSHA256, a.method)
	case a.method != "" && !l.HasPassword:
		return nil, usage("--authentication-method needs --username and a password to prove")
	case a.method != "":
		if _, err := auth.NewSCRAM(l.Username, l.Password.Reveal()); err != nil {
			return nil, usage("%w", err)
		}
		l.SCRAM = true
	case a.username == "" && !l.HasToken:
		return nil, nil
	}
	return l, nil
}

// tls reads the files that TLS needs.
func (a *access) tls(e link.Endpoint) (*tls.Config, error) {
	if !e.TLS {
		if a.ca+a.serverName+a.certificate+a.key+a.passphraseFile+a.passphraseEnv != "" {
			return nil, usage("--ca, --server-name, --certificate and --key go with a URL of mqtts:// or wss://")
		}
		return nil, nil
	}
	var cas []*x509.Certificate
	if a.ca != "" {
		var err error
		if cas, err = readCA(a.ca); err != nil {
			return nil, err
		}
	}
	pair, err := a.pair()
	if err != nil {
		return nil, err
	}
	return trust.ClientTLS(cas, a.serverName, pair), nil
}

// readCA reads the CA to trust from a file, in whatever form.
func readCA(name string) ([]*x509.Certificate, error) {
	data, err := infile.Read(name, maxCredential)
	if err != nil {
		return nil, usage("the CA cannot be read: %w", err)
	}
	cas, err := trust.CAs(data)
	if err != nil {
		return nil, usage("%s holds no certificate: %w: 'hodstone trust' tells what a file is", name, err)
	}
	return cas, nil
}

// pair reads the client's certificate and key, nil for none.
func (a *access) pair() (*tls.Certificate, error) {
	switch {
	case a.certificate == "" && a.key == "":
		return nil, nil
	case a.certificate == "":
		return nil, usage("--key cannot be used without --certificate")
	}
	passphrase, _, err := secret("passphrase", "passphrase", a.passphraseFile, a.passphraseEnv)
	if err != nil {
		return nil, err
	}
	chain, err := infile.Read(a.certificate, maxCredential)
	if err != nil {
		return nil, usage("the certificate cannot be read: %w", err)
	}
	var key []byte
	if a.key != "" {
		if key, err = infile.Read(a.key, maxCredential); err != nil {
			return nil, usage("the certificate's key cannot be read (--key): %w", err)
		}
	}
	pair, err := trust.Pair(chain, key, passphrase.Reveal())
	if err != nil {
		return nil, usage("--certificate and --key cannot be used: %w", err)
	}
	return &pair, nil
}

// dialURL returns how a URL is reached with the options.
func (a *access) dialURL(
	rawURL string,
) (endpoint link.Endpoint, dial func(context.Context) (*link.Link, error), err error) {
	if endpoint, err = link.Parse(rawURL); err != nil {
		return endpoint, nil, &exit{exitUsage, err}
	}
	if u, _ := url.Parse(rawURL); u.User != nil {
		return endpoint, nil, usage(
			"write the login as --username with --password-file or --password-env: what stands in a URL ends up in histories and logs",
		)
	}
	config, err := a.tls(endpoint)
	if err != nil {
		return endpoint, nil, err
	}
	return endpoint, func(ctx context.Context) (*link.Link, error) {
		return link.Dial(ctx, rawURL, link.Options{TLS: config})
	}, nil
}

// session holds the options of a client's own connection, in the words of CONNECT.
type session struct {
	access
	broker, version, clientID         string
	clean                             bool
	keepAlive, expiry                 time.Duration
	receiveMaximum, maximumPacketSize uint32
	topicAliasMaximum                 uint16
	willTopic, willPayload            string
	willQoS                           uint8
	willRetain                        bool
	requestResponse, noProblem        bool
	userProperties                    []string
}

func (s *session) flags(fl *pflag.FlagSet) {
	s.access.flags(fl)
	fl.StringVar(&s.broker, "broker", "", "with a workspace: BROKER or BROKER/LISTENER; the first by default")
	fl.StringVar(&s.version, "protocol-version", "", "3.1, 3.1.1 or 5; by default the workspace's, else 5")
	fl.StringVar(&s.clientID, "client-id", "", "the client identifier; made up by default")
	fl.BoolVar(&s.clean, "clean-start", true, "begin with a new session")
	fl.DurationVar(&s.keepAlive, "keep-alive", 30*time.Second, "0s turns it off")
	fl.DurationVar(&s.expiry, "session-expiry", 0, "version 5: how long the session outlives the connection")
	fl.Uint32Var(
		&s.receiveMaximum,
		"receive-maximum",
		0,
		"version 5: messages at QoS 1 and 2 that may be unacknowledged towards us",
	)
	fl.Uint32Var(&s.maximumPacketSize, "maximum-packet-size", 0, "version 5: the largest packet we take, in bytes")
	fl.Uint16Var(&s.topicAliasMaximum, "topic-alias-maximum", 0, "version 5: topic aliases that the broker may set")
	fl.BoolVar(
		&s.requestResponse,
		"request-response-information",
		false,
		"version 5: ask the broker for response information",
	)
	fl.BoolVar(&s.noProblem, "no-problem-information", false, "version 5: ask the broker to leave out reason strings")
	fl.StringVar(&s.willTopic, "will-topic", "", "leave a will on this topic")
	fl.StringVar(&s.willPayload, "will-payload", "", "the will's payload")
	fl.Uint8Var(&s.willQoS, "will-qos", 0, "the will's QoS")
	fl.BoolVar(&s.willRetain, "will-retain", false, "retain the will")
	fl.StringArrayVar(
		&s.userProperties,
		"connect-user-property",
		nil,
		"version 5: NAME=VALUE for CONNECT; may be given several times",
	)
}

// place is a broker that a command works against.
type place struct {
	name     string // of the broker
	options  client.Options
	bench    *workbench.Bench   // nil without a workspace
	contract *contract.Contract // nil without a workspace
	standIn  bool
	close    func()
	target   reach.Target // the same way, for finding out why it does not lead in
}

// why completes an error of a broker that was not entered by the cause, as 'hodstone reach' tells it.
func (p *place) why(ctx context.Context, err error) error {
	var x *exit
	if !errors.As(err, &x) || x.code != exitNotReached || ctx.Err() != nil || p.target.URL == "" {
		return err
	}
	if ended := (*client.EndedError)(nil); errors.As(err, &ended) && client.BlameOf(ended) == client.ByUs {
		return err // a limit of ours: the way in is not to blame
	}
	d := reach.Explain(ctx, p.target, p.options.Version, reach.Options{})
	if d == nil {
		return err
	}
	return &exit{exitNotReached, fmt.Errorf("%s: %s", p.name, told(d))}
}

// told words what was found out about a way in, and what to try.
func told(d *reach.Diagnosis) string {
	if d.Remedy == "" {
		return d.What
	}
	return d.What + tryThis + d.Remedy
}

// find turns WORKSPACE or URL into a place. For a workspace's stand-in it is started.
func (e *Env) find(s *session, where string) (*place, error) {
	p := &place{close: func() {}}
	o := &p.options
	o.Version = packet.V5
	if strings.Contains(where, "://") {
		if s.broker != "" {
			return nil, usage("--broker names a broker of a workspace; it does not go with a URL")
		}
		endpoint, dial, err := s.dialURL(where)
		if err != nil {
			return nil, err
		}
		login, err := s.login()
		if err != nil {
			return nil, err
		}
		p.name, o.Dial = endpoint.Address, dial
		if ways, err := (&reachFlags{access: s.access}).urlTargets([]string{where}); err == nil {
			p.target = ways[0]
		}
		plainWarning(e.ErrOut, where, login)
		return p, p.connect(s, login)
	}
	if flag := s.used(); flag != "" {
		return nil, usage("%s goes with a URL; a workspace says it on the broker and its login", flag)
	}
	b, br, err := e.openBroker(where, s.broker, nil)
	if err != nil {
		return nil, err
	}
	target, err := b.Target(s.broker)
	if err != nil {
		b.Close()
		return nil, &exit{exitUsage, err}
	}
	p.name, p.bench, p.contract, p.standIn, p.close = br.Name, b, b.Workspace().Contract, br.StandIn != nil, b.Close
	o.Dial, o.Version = target.Dial, br.Version
	for _, t := range b.Targets() {
		if t.URL == target.URL {
			p.target = t
		}
	}
	if br.StandIn == nil {
		plainWarning(e.ErrOut, target.URL, target.Login)
	}
	if err := p.connect(s, target.Login); err != nil {
		b.Close()
		return nil, err
	}
	return p, nil
}

// openBroker opens a workspace with one of its brokers only, telling its problems.
func (e *Env) openBroker(path, broker string, faults []string) (*workbench.Bench, *workspace.Broker, error) {
	w, err := openWorkspace(path)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range w.Problems {
		plain.Fprintf(e.ErrOut, "%s\n\n", plain.Lines(p.Error()))
	}
	name, _, _ := strings.Cut(broker, "/")
	br := w.Broker(name)
	switch {
	case br == nil && name == "":
		return nil, nil, usage(
			"the workspace has no broker that is sound: mend what is told above, or write one under brokers:",
		)
	case br == nil && len(w.Problems) > 0:
		return nil, nil, usage("the workspace has no usable broker %s: mend what is told above", name)
	case br == nil:
		return nil, nil, usage("the workspace has no broker %q", name)
	case br.StandIn == nil && len(faults) > 0:
		return nil, nil, usage("--fault is for a stand-in; broker %s is a real one", br.Name)
	}
	w.Brokers = []*workspace.Broker{br} // only what is needed is started
	b, err := workbench.New(w, workbench.Options{Faults: faults})
	if err != nil {
		return nil, nil, &exit{exitUsage, err}
	}
	return b, br, nil
}

// connect puts the options of CONNECT into the place.
func (p *place) connect(s *session, login *workspace.Login) error {
	o := &p.options
	if s.version != "" {
		v, err := packet.ParseVersion(s.version)
		if err != nil {
			return usage("--protocol-version takes 3.1, 3.1.1 or 5, not %q", s.version)
		}
		o.Version = v
	}
	if s.keepAlive < 0 || s.keepAlive > 65535*time.Second {
		return usage("--keep-alive must be between 0s and 18h12m15s (a 16 bit number of seconds), not %s", s.keepAlive)
	}
	o.Connect = packet.Connect{ClientID: s.clientID, CleanStart: s.clean, KeepAlive: uint16(s.keepAlive / time.Second)}
	if s.clientID == "" {
		o.Connect.ClientID = client.NewID()
	}
	if s.willTopic != "" {
		o.Connect.Will = &packet.Will{
			Topic:   s.willTopic,
			Payload: []byte(s.willPayload),
			QoS:     packet.QoS(s.willQoS),
			Retain:  s.willRetain,
		}
	}
	var ps packet.Properties
	number := func(id packet.PropertyID, n uint32) {
		if n > 0 {
			ps = append(ps, packet.Int(id, n))
		}
	}
	number(packet.SessionExpiry, uint32(s.expiry/time.Second))
	number(packet.ReceiveMaximum, s.receiveMaximum)
	number(packet.MaximumPacketSize, s.maximumPacketSize)
	number(packet.TopicAliasMaximum, uint32(s.topicAliasMaximum))
	if s.requestResponse {
		ps = append(ps, packet.Int(packet.RequestResponseInfo, 1))
	}
	if s.noProblem {
		ps = append(ps, packet.Int(packet.RequestProblemInfo, 0))
	}
	user, err := userProperties(s.userProperties)
	if err != nil {
		return err
	}
	if ps = append(ps, user...); len(ps) > 0 && o.Version != packet.V5 {
		return usage("%s is a property of version 5; the connection is made in %s", ps[0].ID, o.Version)
	}
	o.Connect.Properties = ps
	if login != nil && login.SCRAM && o.Version != packet.V5 {
		return usage("--authentication-method needs version 5 (5.0 §4.12)")
	}
	login.Apply(o)
	if err := packet.Check(&o.Connect, o.Version); err != nil {
		return usage("this CONNECT breaks the standard: %w", err)
	}
	return nil
}

func userProperties(texts []string) (ps packet.Properties, err error) {
	for _, t := range texts {
		name, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, usage("a user property is written NAME=VALUE, not %q", t)
		}
		ps = append(ps, packet.User(name, value))
	}
	return ps, nil
}

// notReached is the error of a broker that could not be entered.
func notReached(where string, err error) error {
	var refused *client.RefusedError
	if errors.As(err, &refused) && refused.Server != "" {
		return &exit{exitNotReached, fmt.Errorf("%s: %w: give that server's URL", where, err)}
	}
	return &exit{exitNotReached, fmt.Errorf("%s: %w", where, err)}
}

// meta says what is recorded.
func (p *place) meta(where string) map[string]string {
	if p.bench != nil && p.bench.Workspace().Name != "" {
		where = p.bench.Workspace().Name
	}
	return map[string]string{"workspace": where, "broker": p.name}
}
