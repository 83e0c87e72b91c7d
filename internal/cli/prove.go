package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// proveFlags are the options of prove.
type proveFlags struct {
	broker, url, check, version         string
	username, passwordFile, passwordEnv string
	anonymous                           string
	ca, certificate, key, serverName    string
	intrusive, json                     bool
	junit                               string
	faults                              []string
}

func (e *Env) prove() *cobra.Command {
	f := &proveFlags{}
	c := &cobra.Command{
		Use:   "prove (WORKSPACE [--broker NAME/LISTENER] | --url URL)",
		Short: "Prove what a broker guarantees, check by check",
		Long: `Prove what a broker guarantees. Every check drives clients of its own under topics of
its own and ends in a verdict: kept, broken, unsupported, undecided or skipped.

Exit code 0: all kept (unsupported and skipped allowed); 1: something broken or
undecided; 2: wrong use or an unusable workspace; 3: the broker was not reached.

The checks:
` + checkList(),
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runProve(c.Context(), f, args) },
	}
	fl := c.Flags()
	fl.StringVar(&f.broker, "broker", "", "BROKER or BROKER/LISTENER of the workspace; the first by default")
	fl.StringVar(&f.url, "url", "", "a broker without a workspace: mqtt://, mqtts://, ws://, wss:// or unix:///PATH")
	fl.StringVar(&f.check, "check", "", "only these checks: a name, a family, or a pattern such as 'will.*'")
	fl.StringVar(&f.version, "protocol-version", "", "only 3.1.1 or 5; both by default")
	fl.StringVar(&f.username, "username", "", "with --url: the user name")
	fl.StringVar(&f.passwordFile, "password-file", "", "with --url: the file that holds the password")
	fl.StringVar(&f.passwordEnv, "password-env", "", "with --url: the environment variable that holds the password")
	fl.StringVar(&f.anonymous, "anonymous", "", "with --url: allowed or refused, what is meant for clients without credentials")
	fl.StringVar(&f.ca, "ca", "", "with --url over TLS: the PEM file with the CA to trust; the system's roots by default")
	fl.StringVar(&f.serverName, "server-name", "", "with --url over TLS: the name that the broker's certificate must hold")
	fl.StringVar(&f.certificate, "certificate", "", "with --url over TLS: the PEM file with the client's certificate")
	fl.StringVar(&f.key, "key", "", "with --url over TLS: the PEM file with the certificate's key")
	fl.BoolVar(&f.intrusive, "intrusive", false, "run checks that fail logins or throw clients out, on a real broker too")
	fl.StringArrayVar(&f.faults, "fault", nil, "let the workspace's stand-in misbehave; may be given several times")
	fl.BoolVar(&f.json, "json", false, "write one JSON document instead of lines")
	fl.StringVar(&f.junit, "junit", "", "write JUnit XML to this file too")
	return c
}

func checkList() string {
	var b strings.Builder
	for _, c := range proof.Checks() {
		mark := ""
		if c.Intrusive {
			mark = " (intrusive)"
		}
		fmt.Fprintf(&b, "  %-22s %s%s\n", c.Name, c.Title, mark)
	}
	return b.String()
}

func (e *Env) runProve(ctx context.Context, f *proveFlags, args []string) error {
	o := proof.Options{}
	var err error
	if o.Checks, err = proof.Match(f.check); err != nil {
		return &exit{exitUsage, err}
	}
	if f.version != "" {
		v, err := packet.ParseVersion(f.version)
		if err != nil || v == packet.V31 {
			return usage("--protocol-version takes 3.1.1 or 5, not %q", f.version)
		}
		o.Versions = []packet.Version{v}
	}
	for _, name := range f.faults {
		if err := standin.CheckFault(name); err != nil {
			return &exit{exitUsage, err}
		}
	}
	var t proof.Target
	switch {
	case (len(args) == 1) == (f.url != ""):
		return usage("name a workspace or a --url, one of them: 'hodstone prove hodstone.yaml'")
	case f.url != "":
		t, err = f.targetFromURL()
	default:
		var close func()
		t, close, err = e.targetFromWorkspace(f, args[0])
		if close != nil {
			defer close()
		}
	}
	if err != nil {
		return err
	}
	t.Intrusive = t.Intrusive || f.intrusive
	return e.report(ctx, f, t, o)
}

func (f *proveFlags) targetFromURL() (t proof.Target, err error) {
	switch {
	case len(f.faults) > 0:
		return t, usage("--fault is for the stand-in of a workspace; %s is not ours to break", f.url)
	case f.broker != "":
		return t, usage("--broker names a broker of a workspace; it does not go with --url")
	}
	endpoint, err := link.Parse(f.url)
	if err != nil {
		return t, &exit{exitUsage, err}
	}
	if u, _ := url.Parse(f.url); u.User != nil {
		return t, usage("write the login as --username with --password-file or --password-env: what stands in a URL ends up in histories and logs")
	}
	config, err := f.tls(endpoint)
	if err != nil {
		return t, err
	}
	t = proof.Target{Broker: endpoint.Address, Listener: f.url,
		Dial: func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, f.url, link.Options{TLS: config}) }}
	switch f.anonymous {
	case "":
	case "allowed", "refused":
		allowed := f.anonymous == "allowed"
		t.Anonymous = &allowed
	default:
		return t, usage("--anonymous takes allowed or refused, not %q", f.anonymous)
	}
	if f.username == "" {
		if f.passwordEnv+f.passwordFile != "" {
			return t, usage("a password goes with --username")
		}
		return t, nil
	}
	t.Login = &workspace.Login{Name: f.username, Username: f.username}
	switch {
	case f.passwordFile != "" && f.passwordEnv != "":
		return t, usage("give --password-file or --password-env, not both")
	case f.passwordFile != "":
		b, err := os.ReadFile(f.passwordFile)
		if err != nil {
			return t, usage("the password cannot be read: %w", err)
		}
		t.Login.Password = workspace.NewSecret(strings.TrimRight(string(b), "\r\n"))
	case f.passwordEnv != "":
		v, ok := os.LookupEnv(f.passwordEnv)
		if !ok {
			return t, usage("the environment variable %s is not set", f.passwordEnv)
		}
		t.Login.Password = workspace.NewSecret(v)
	}
	return t, nil
}

// tls reads the files that TLS needs.
func (f *proveFlags) tls(e link.Endpoint) (*tls.Config, error) {
	if !e.TLS {
		if f.ca+f.serverName+f.certificate+f.key != "" {
			return nil, usage("--ca, --server-name, --certificate and --key go with a URL of mqtts:// or wss://")
		}
		return nil, nil
	}
	config := &tls.Config{ServerName: f.serverName}
	if f.ca != "" {
		pem, err := os.ReadFile(f.ca)
		if err != nil {
			return nil, usage("the CA cannot be read: %w", err)
		}
		config.RootCAs = x509.NewCertPool()
		if !config.RootCAs.AppendCertsFromPEM(pem) {
			return nil, usage("%s holds no certificate in PEM", f.ca)
		}
	}
	if f.certificate+f.key != "" {
		pair, err := tls.LoadX509KeyPair(f.certificate, f.key)
		if err != nil {
			return nil, usage("--certificate and --key cannot be used: %w", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

func (e *Env) targetFromWorkspace(f *proveFlags, path string) (t proof.Target, close func(), err error) {
	for flag, v := range map[string]string{"--username": f.username, "--password-file": f.passwordFile, "--password-env": f.passwordEnv, "--anonymous": f.anonymous,
		"--ca": f.ca, "--server-name": f.serverName, "--certificate": f.certificate, "--key": f.key} {
		if v != "" {
			return t, nil, usage("%s goes with --url; a workspace says it on the broker", flag)
		}
	}
	w, err := workspace.Open(path)
	if err != nil {
		return t, nil, &exit{exitUsage, err}
	}
	for _, p := range w.Problems {
		fmt.Fprintf(e.ErrOut, "%s\n\n", p.Error())
	}
	name, _, _ := strings.Cut(f.broker, "/")
	br := w.Broker(name)
	switch {
	case br == nil && len(w.Problems) > 0:
		return t, nil, usage("the workspace has no usable broker %s: mend what is told above", name)
	case br == nil:
		return t, nil, usage("the workspace has no broker %q", name)
	case br.StandIn == nil && len(f.faults) > 0:
		return t, nil, usage("--fault is for a stand-in; broker %s is a real one", br.Name)
	}
	w.Brokers = []*workspace.Broker{br} // only what is needed is started
	b, err := workbench.New(w, workbench.Options{Faults: f.faults})
	if err != nil {
		return t, nil, &exit{exitUsage, err}
	}
	if t, err = b.Target(f.broker); err != nil {
		return t, b.Close, &exit{exitUsage, err}
	}
	return t, b.Close, nil
}

// report runs the proof and writes what came of it.
func (e *Env) report(ctx context.Context, f *proveFlags, t proof.Target, o proof.Options) error {
	var junit io.WriteCloser
	if f.junit != "" {
		file, err := os.Create(f.junit) // before the work, so that it is not lost
		if err != nil {
			return usage("JUnit XML cannot be written: %w", err)
		}
		junit = file
		defer file.Close()
	}
	var mu sync.Mutex
	if !f.json {
		fmt.Fprintf(e.Out, "%s, %s\n\n", t.Broker, t.Listener)
		o.Done = func(r proof.Result) {
			mu.Lock()
			defer mu.Unlock()
			fmt.Fprint(e.Out, report.Line(&r))
		}
	}
	p, err := proof.Run(ctx, t, o)
	if err != nil {
		if errors.Is(err, proof.ErrNotReached) {
			return &exit{exitNotReached, err}
		}
		return err
	}
	if f.json {
		if err := report.JSON(e.Out, p); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(e.Out, "\n%s in %.1f s\n", report.SummaryLine(p.Counts()), p.Took.Seconds())
	}
	if junit != nil {
		if err := report.JUnit(junit, p); err != nil {
			return fmt.Errorf("JUnit XML not written: %w", err)
		}
	}
	if !p.OK() {
		return &exit{exitBroken, nil}
	}
	return nil
}

func (e *Env) standIn() *cobra.Command {
	var listen, faults []string
	var caFile string
	var list strings.Builder
	for _, f := range standin.Faults() {
		fmt.Fprintf(&list, "  %-24s %s\n", f.Name, f.Sentence)
	}
	c := &cobra.Command{
		Use:   "stand-in",
		Short: "Run the small broker that ships inside Hodstone",
		Long: `Run the small broker that ships inside Hodstone until it is interrupted. Anyone who
reaches it gets in, so it listens on loopback unless told otherwise. For TLS it makes
a certificate at every start; --ca-file writes the CA that clients must trust.

The faults:
` + list.String(),
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := standin.New(standin.Options{Anonymous: true, Faults: faults})
			if err != nil {
				return &exit{exitUsage, err}
			}
			defer s.Close()
			ca, err := trust.NewAuthority("Hodstone stand-in")
			if err != nil {
				return err
			}
			if caFile != "" {
				if err := os.WriteFile(caFile, ca.RootPEM(), 0o644); err != nil {
					return usage("the CA cannot be written: %w", err)
				}
			}
			for _, where := range listen {
				reached, err := listenOn(s, ca, where)
				if err != nil {
					return &exit{exitUsage, err}
				}
				fmt.Fprintf(e.Out, "stand-in on %s\n", reached)
			}
			if len(faults) > 0 {
				fmt.Fprintf(e.Out, "misbehaving: %s\n", strings.Join(faults, ", "))
			}
			fmt.Fprintln(e.Out, "end it with Ctrl-C")
			<-c.Context().Done()
			return nil
		},
	}
	c.Flags().StringArrayVar(&listen, "listen", []string{"127.0.0.1:1883"}, "HOST:PORT, or a URL of mqtt, mqtts, ws, wss or unix; port 0 lets the system choose; may be given several times")
	c.Flags().StringArrayVar(&faults, "fault", nil, "misbehave in this way; may be given several times")
	c.Flags().StringVar(&caFile, "ca-file", "", "write the CA of the TLS listeners to this file, in PEM")
	return c
}

// listenOn opens a listener of the stand-in, with a certificate where it needs one.
func listenOn(s *standin.Server, ca *trust.Authority, where string) (string, error) {
	if !strings.Contains(where, "://") {
		where = "mqtt://" + where
	}
	endpoint, err := link.Parse(where)
	if err != nil {
		return "", err
	}
	var config *tls.Config
	if endpoint.TLS {
		cert, err := ca.Issue(trust.Request{CommonName: "stand-in", Names: []string{endpoint.Host, "localhost", "127.0.0.1", "::1"}})
		if err != nil {
			return "", err
		}
		config = &tls.Config{Certificates: []tls.Certificate{cert}}
	}
	reached, _, err := s.ListenURL(where, config)
	return reached, err
}
