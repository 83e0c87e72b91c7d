package cli

import (
	"bytes"
	"context"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/infile"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/reach"
	"hodstone/internal/report"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// reachFlags are the options of reach.
type reachFlags struct {
	access
	broker, clientID, version, from string
	anonymous                       string
	intrusive, json                 bool
	wait                            time.Duration
}

func (e *Env) reach() *cobra.Command {
	f := &reachFlags{}
	c := &cobra.Command{
		Use:   "reach (WORKSPACE | URL… | --from FILE)",
		Short: "Find out whether a client gets in at a broker, and if not, why",
		Long: `Find out whether a client gets in at a broker, and if not, why. Every stage of the way is
tried on its own and timed: name, TCP, TLS, upgrade to WebSocket, CONNECT, and a message that
is published and received on a topic of its own. Where a stage fails, the cause is looked for,
and told with what to try next.

It makes some dozens of connections, under client identifiers and topics of its own (hodstone/…
and hodstone-…), and clears what it stores. Credentials go out only as part of the way in; with a
workspace, logins of its devices are tried too, to see whether they may read or publish what is
none of theirs.

With a workspace, all listeners of its brokers are tried and looked at together. --from reads
connection details as people get them: a URL, lines such as 'host: …' and 'port: …', an
environment file, constants of firmware, a table, JSON or sentences; - stands for standard input.

Exit code 0: all in; 1: in, but something is not as intended; 2: wrong use or an unusable
workspace; 3: at least one way does not lead in.`,
		RunE: func(c *cobra.Command, args []string) error { return e.runReach(c.Context(), f, args) },
	}
	fl := c.Flags()
	fl.StringVar(&f.broker, "broker", "", "with a workspace: only this BROKER or BROKER/LISTENER")
	fl.StringVar(&f.from, "from", "", "read connection details from this file; - for standard input")
	fl.StringVar(
		&f.clientID,
		"client-id",
		"",
		"with a URL: the client identifier, made up by default; whoever is in with it is thrown out, and its session ends",
	)
	fl.StringVar(&f.version, "protocol-version", "", "with a URL: only 3.1, 3.1.1 or 5; by default 5 and 3.1.1")
	fl.StringVar(
		&f.anonymous,
		"anonymous",
		"",
		"with a URL: allowed or refused, what is meant for clients without credentials",
	)
	fl.BoolVar(&f.intrusive, "intrusive", false, "try a wrong password too")
	fl.DurationVar(&f.wait, "wait", reach.DefaultWait, "how long each stage may take")
	fl.BoolVar(&f.json, "json", false, "write one JSON document instead of lines")
	f.access.flags(fl)
	return c
}

func (e *Env) runReach(ctx context.Context, f *reachFlags, args []string) error {
	if f.wait < 10*time.Millisecond || f.wait > time.Hour {
		return usage("--wait takes a time between 10ms and 1h")
	}
	var targets []reach.Target
	var known []reach.Finding // that need no trial
	o := reach.Options{Wait: f.wait}
	var err error
	switch {
	case f.from != "" && len(args) > 0:
		return usage("--from stands alone: the details name the broker")
	case f.from != "":
		targets, err = e.pastedTargets(f)
	case len(args) == 0:
		return usage("name a workspace, a URL, or --from FILE: 'hodstone reach mqtt://HOST'")
	case strings.Contains(args[0], "://"):
		targets, err = f.urlTargets(args)
	case len(args) > 1:
		return usage("one workspace at a time, or several URLs")
	default:
		var b *workbench.Bench
		if b, targets, err = e.workspaceTargets(f, args[0]); b != nil {
			defer b.Close()
			known = b.SharedIdentifiers()
		}
	}
	if err != nil {
		return err
	}
	for _, t := range targets {
		plainWarning(e.ErrOut, t.URL, t.Login)
	}
	if !f.json && e.Terminal {
		o.Progress = func(r reach.Result) {
			if r.Running {
				plain.On(e.ErrOut).Progress("%s: %s …", r.Target.Name, r.Doing)
			} else {
				plain.On(e.ErrOut).Done()
			}
		}
	}
	rep := reach.Run(ctx, targets, o)
	rep.Findings = append(rep.Findings, known...)
	if f.json {
		if err := report.ReachJSON(e.Out, rep); err != nil {
			return err
		}
	} else {
		report.Reach(e.Out, rep)
	}
	broken := len(known) > 0
	for i := range rep.Results {
		r := &rep.Results[i]
		if !r.In() {
			return &exit{exitNotReached, nil}
		}
		for _, x := range r.Findings {
			broken = broken || x.Severity == trust.Broken
		}
	}
	if broken {
		return &exit{exitBroken, nil}
	}
	return nil
}

// plainWarning says that a password is about to go over a plain link.
func plainWarning(w io.Writer, rawURL string, l *workspace.Login) {
	if t := (reach.Target{URL: rawURL, Login: l}); reach.PlainPassword(&t) {
		e, _ := link.Parse(rawURL)
		plain.Fprintf(w, "! the password of %s goes over a plain link to %s\n", l.Username, e.Address)
	}
}

func (f *reachFlags) complete(t *reach.Target) error {
	t.Intrusive, t.ClientID = f.intrusive, f.clientID
	if t.Login != nil {
		t.Logins = []*workspace.Login{t.Login}
	}
	if f.version != "" {
		v, err := packet.ParseVersion(f.version)
		if err != nil {
			return usage("--protocol-version takes 3.1, 3.1.1 or 5, not %q", f.version)
		}
		t.Versions = []packet.Version{v}
	}
	switch f.anonymous {
	case "":
	case "allowed", "refused":
		allowed := f.anonymous == "allowed"
		t.Anonymous = &allowed
	default:
		return usage("--anonymous takes allowed or refused, not %q", f.anonymous)
	}
	return nil
}

func (f *reachFlags) urlTargets(urls []string) ([]reach.Target, error) {
	if f.broker != "" {
		return nil, usage("--broker names a broker of a workspace; it does not go with a URL")
	}
	login, err := f.login()
	if err != nil {
		return nil, err
	}
	var out []reach.Target
	secure := false
	for _, u := range urls {
		if parsed, _ := url.Parse(u); parsed != nil && parsed.User != nil {
			return nil, usage(
				"write the login as --username with --password-file or --password-env: what stands in a URL ends up in histories and logs",
			)
		}
		t := reach.Target{Name: u, URL: u, ServerName: f.serverName, Login: login}
		if e, err := link.Parse(u); err == nil && e.TLS {
			secure = true
			if f.ca != "" {
				if t.CAs, err = readCA(f.ca); err != nil {
					return nil, err
				}
			}
			pair, err := f.pair()
			if err != nil {
				return nil, err
			}
			if pair != nil {
				own := workspace.Login{}
				if login != nil {
					own = *login
				}
				own.Certificate = pair
				t.Login = &own
			}
		}
		if err := f.complete(&t); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	if !secure && f.ca+f.serverName+f.certificate+f.key != "" {
		return nil, usage("--ca, --server-name, --certificate and --key go with a URL of mqtts:// or wss://")
	}
	return out, nil
}

func (e *Env) pastedTargets(f *reachFlags) ([]reach.Target, error) {
	if flag := f.used(); flag != "" {
		return nil, usage("%s goes with a URL; here the details say it", flag)
	}
	var in io.Reader = e.In
	if f.from != "-" {
		text, err := infile.Read(f.from, 1<<20)
		if err != nil {
			return nil, usage("the details cannot be read: %w", err)
		}
		in = bytes.NewReader(text)
	}
	if in == nil {
		in = strings.NewReader("")
	}
	text, err := io.ReadAll(io.LimitReader(in, 1<<20))
	if err != nil {
		return nil, usage("the details cannot be read: %w", err)
	}
	d, err := reach.Paste(string(text))
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	t, err := workbench.PastedTarget(d)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	id := t.ClientID
	versions := t.Versions
	if err := f.complete(&t); err != nil {
		return nil, err
	}
	if t.ClientID == "" {
		t.ClientID = id
	}
	if t.Versions == nil {
		t.Versions = versions
	}
	if !f.json {
		plain.Fprintf(e.Out, "understood:\n%s", plain.Lines(indented(d.YAML(workbench.PastedName))))
		if len(d.Unused) > 0 {
			plain.Fprintf(e.Out, "not understood: %s\n", strings.Join(d.Unused, ", "))
		}
		plain.Fprintln(e.Out)
	}
	return []reach.Target{t}, nil
}

func indented(s string) string {
	return "  " + strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n  ") + "\n"
}

func (e *Env) workspaceTargets(f *reachFlags, path string) (*workbench.Bench, []reach.Target, error) {
	for flag, given := range map[string]bool{f.used(): f.used() != "", "--client-id": f.clientID != "",
		"--protocol-version": f.version != "", "--anonymous": f.anonymous != ""} {
		if given {
			return nil, nil, usage("%s goes with a URL; a workspace says it on the broker and its login", flag)
		}
	}
	w, err := openWorkspace(path)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range w.Problems {
		plain.Fprintf(e.ErrOut, "%s\n\n", plain.Lines(p.Error()))
	}
	b, err := workbench.New(w, workbench.Options{})
	if err != nil {
		return nil, nil, &exit{exitUsage, err}
	}
	var out []reach.Target
	for _, t := range b.Targets() {
		if f.broker == "" || f.broker == t.Broker() || f.broker == t.Name {
			t.Intrusive = t.Intrusive || f.intrusive
			out = append(out, t)
		}
	}
	if len(out) == 0 {
		return b, nil, usage("the workspace has no usable broker %s", f.broker)
	}
	return b, out, nil
}
