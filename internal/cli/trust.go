package cli

import (
	"context"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/plain"
	"hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
)

// trustFlags are the options of trust.
type trustFlags struct {
	at, serverName                string
	deviceTLS, deviceSuites       []string
	json                          bool
	export                        string
	passphraseFile, passphraseEnv string
}

// exportCAs are the certificates to export: those of the files, or what the server sent.
func exportCAs(v *trust.Inventory, s *trust.Survey) (cas []*x509.Certificate, fetched bool) {
	if cas = v.CAs(); len(cas) > 0 || s == nil {
		return cas, false
	}
	return s.TrustedCAs()
}

func (e *Env) trust() *cobra.Command {
	f := &trustFlags{}
	c := &cobra.Command{
		Use:   "trust (FILE | FOLDER)… [--at HOST:PORT]",
		Short: "Tell what certificates and keys are, what fits what, and what a server's TLS does",
		Long: `Tell what certificates and keys are, whatever their names say: PEM, DER, PKCS #1, #7, #8, #12,
SEC 1 and Java's key stores, and what mail, editors and firmware sources make of them; which key fits which
certificate; the chains; what is missing, expired, revoked by a list among the files, weak or open
to others; and the login that they make, ready for a workspace.

With --at, the server's TLS is tried too: versions and suites, the chain and the name; with the
certificate given, without any, with a stranger's; ALPN, stapling, resumption. --device-tls tells
what a device of limited means would meet. HOST:PORT stands for mqtts://HOST:PORT; wss:// works too.

--export-ca writes the CA to standard output and nothing else: pem, der, or a constant for
c, cpp, go or rust.

Passphrases are asked for without echo where there is a terminal, and never kept.

Exit code 0: nothing broken; 1: something is broken or expired; 2: wrong use; 3: the server was not
reached.`,
		RunE: func(c *cobra.Command, args []string) error { return e.runTrust(c.Context(), f, args) },
	}
	fl := c.Flags()
	fl.StringVar(&f.at, "at", "", "try the TLS of the server at HOST:PORT, or at a URL of mqtts:// or wss://")
	fl.StringVar(&f.serverName, "server-name", "", "with --at: the name that the server's certificate must hold")
	fl.StringSliceVar(
		&f.deviceTLS,
		"device-tls",
		nil,
		"with --at: the versions that a device has, such as 1.2 or 1.2,1.3",
	)
	fl.StringSliceVar(
		&f.deviceSuites,
		"device-suites",
		nil,
		"with --device-tls: the cipher suites that the device has, by IANA's names or numbers; all by default",
	)
	fl.BoolVar(&f.json, "json", false, "write one JSON document instead of lines")
	fl.StringVar(&f.export, "export-ca", "", "write the CA as "+strings.Join(trust.ExportFormats, ", "))
	fl.StringVar(&f.passphraseFile, "passphrase-file", "", "the file that holds a passphrase")
	fl.StringVar(&f.passphraseEnv, "passphrase-env", "", "the environment variable that holds a passphrase")
	return c
}

func (e *Env) runTrust(ctx context.Context, f *trustFlags, args []string) error {
	switch {
	case len(args) == 0 && f.at == "":
		return usage("name files or a folder, a server with --at HOST:PORT, or both")
	case f.export != "" && !slices.Contains(trust.ExportFormats, f.export):
		return usage("--export-ca takes %s, not %q", strings.Join(trust.ExportFormats, ", "), f.export)
	case f.export != "" && f.json:
		return usage("--export-ca writes the CA alone; it does not go with --json")
	case f.at == "" && (f.serverName != "" || len(f.deviceTLS) > 0):
		return usage("--server-name and --device-tls go with --at")
	case len(f.deviceSuites) > 0 && len(f.deviceTLS) == 0:
		return usage("--device-suites goes with --device-tls")
	}
	var passphrases []string
	given, has, err := secret("passphrase", "passphrase", f.passphraseFile, f.passphraseEnv)
	if err != nil {
		return err
	}
	if has {
		passphrases = append(passphrases, given.Reveal())
	}
	var v *trust.Inventory
	roots, _ := x509.SystemCertPool()
	for {
		v = trust.Examine(trust.ReadPaths(args, passphrases), trust.Options{Roots: roots})
		locked := 0
		for _, x := range v.Files {
			locked += x.LockedItems()
		}
		if locked == 0 || e.AskSecret == nil || f.json || f.export != "" || has {
			break
		}
		answer, err := e.AskSecret(fmt.Sprintf("%d encrypted: passphrase (empty to go on without): ", locked))
		if err != nil || answer == "" {
			break
		}
		passphrases = append(passphrases, answer)
	}
	var survey *trust.Survey
	if f.at != "" {
		if survey, err = e.survey(ctx, f, v); err != nil {
			return err
		}
	}
	if f.export != "" {
		return e.exportCA(f.export, v, survey)
	}
	if f.json {
		if err := report.TrustJSON(e.Out, report.NewTrustDocument(v, f.at, survey)); err != nil {
			return err
		}
	} else {
		if len(args) > 0 {
			report.Trust(e.Out, v)
		}
		if survey != nil {
			if len(args) > 0 {
				plain.Fprintln(e.Out)
			}
			report.Survey(e.Out, f.at, survey)
		}
	}
	switch {
	case survey != nil && survey.Err != nil:
		return &exit{exitNotReached, nil}
	case trust.Worst(v.Findings) == trust.Broken, survey != nil && trust.Worst(survey.Findings) == trust.Broken:
		return &exit{exitBroken, nil}
	}
	return nil
}

func (e *Env) exportCA(format string, v *trust.Inventory, s *trust.Survey) error {
	if s != nil && s.Err != nil && len(v.CAs()) == 0 {
		return &exit{exitNotReached, s.Err}
	}
	cas, fetched := exportCAs(v, s)
	data, err := trust.ExportCA(format, cas, fetched)
	if err != nil {
		return &exit{exitUsage, err}
	}
	for _, c := range cas {
		if fetched {
			plain.Fprintf(
				e.ErrOut,
				"! not yet trusted: %s was fetched from the server itself. Compare its SHA-256 by another way:\n  %s\n",
				trust.Subject(c.Subject.String()),
				trust.Fingerprint(c),
			)
		}
	}
	_, err = e.raw.Write(data)
	return err
}

// survey looks at a server's TLS with what the files hold.
func (e *Env) survey(ctx context.Context, f *trustFlags, v *trust.Inventory) (*trust.Survey, error) {
	where := f.at
	if !strings.Contains(where, "://") {
		where = "mqtts://" + where
	}
	endpoint, err := link.Parse(where)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	o, err := workbench.SurveyOptions(reach.Target{URL: where, ServerName: f.serverName, CAs: v.CAs()}, nil)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	for _, s := range f.deviceTLS {
		version, err := trust.ParseVersion(s)
		if err != nil {
			return nil, usage("--device-tls: %w", err)
		}
		o.Device.Versions = append(o.Device.Versions, version)
	}
	for _, s := range f.deviceSuites {
		id, err := trust.ParseSuite(s)
		if err != nil {
			return nil, usage("--device-suites: %w", err)
		}
		o.Device.Suites = append(o.Device.Suites, id)
	}
	o.Pairs, o.Revocations = v.ClientPairs(), v.Revocations()
	if c, err := o.Dial(ctx); err != nil {
		return &trust.Survey{
			ServerName: endpoint.Host,
			Err:        fmt.Errorf("%s: %w: 'hodstone reach %s' tells why", endpoint.Address, err, where),
		}, nil
	} else {
		c.Close()
	}
	if e.Terminal && !f.json {
		o.Progress = func(s string) { plain.On(e.ErrOut).Progress("%s …", s) }
		defer plain.On(e.ErrOut).Done()
	}
	return trust.Look(ctx, o), nil
}
