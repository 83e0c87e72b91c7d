package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin/fault"
	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/reach"
	"hodstone/internal/report"
)

// proveFlags are the options of prove.
type proveFlags struct {
	access
	broker, url, check, version string
	anonymous, clientID         string
	intrusive, json             bool
	list, markdown              bool
	junit                       string
	faults                      []string
}

func (e *Env) prove() *cobra.Command {
	f := &proveFlags{}
	c := &cobra.Command{
		Use:   "prove (WORKSPACE [--broker NAME/LISTENER] | --url URL)",
		Short: "Prove what a broker guarantees, check by check",
		Long: `Prove what a broker guarantees. Every check drives clients of its own under topics of
its own and ends in a verdict: kept, broken, unsupported, undecided or skipped.

When all checks run, the doors left open at the broker are looked for afterwards, and named.

Exit code 0: all kept (unsupported and skipped allowed); 1: something broken or
undecided; 2: wrong use or an unusable workspace; 3: the broker was not reached, or our own
login is not let in.

The checks:
` + checkList(),
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runProve(c.Context(), f, args) },
	}
	fl := c.Flags()
	fl.StringVar(&f.broker, "broker", "", "BROKER or BROKER/LISTENER of the workspace; the first by default")
	fl.StringVar(&f.url, "url", "", "a broker without a workspace: mqtt://, mqtts://, ws://, wss:// or unix:///PATH")
	fl.StringVar(&f.check, "check", "", "only these checks: a name, a family, or a pattern such as 'will.*'")
	fl.StringVar(&f.version, "protocol-version", "", "only 3.1, 3.1.1 or 5; all three by default")
	f.access.flags(fl)
	fl.StringVar(
		&f.clientID,
		"client-id",
		"",
		"with --url: the pattern of the checks' client identifiers, {n} for a number, where the broker has a rule: 's-{n}'",
	)
	fl.StringVar(
		&f.anonymous,
		"anonymous",
		"",
		"with --url: allowed or refused, what is meant for clients without credentials",
	)
	fl.BoolVar(
		&f.intrusive,
		"intrusive",
		false,
		"run checks that fail logins or throw clients out, on a real broker too",
	)
	fl.StringArrayVar(&f.faults, "fault", nil, "let the workspace's stand-in misbehave; may be given several times")
	fl.BoolVar(&f.list, "list", false, "show the catalogue of checks, with what must be seen and where the standard says so, and run none")
	fl.BoolVar(&f.markdown, "markdown", false, "with --list: as Markdown")
	fl.BoolVar(&f.json, "json", false, "write one JSON document instead of lines")
	fl.StringVar(&f.junit, "junit", "", "write JUnit XML to this file too")
	return c
}

func checkList() string {
	var b strings.Builder
	for _, c := range check.All() {
		mark := ""
		if c.Intrusive {
			mark = " (intrusive)"
		}
		plain.Fprintf(&b, "  %-22s %s%s\n", c.Name, c.Title, mark)
	}
	return b.String()
}

// listed is a check as JSON.
type listed struct {
	Name      string   `json:"name"`
	Title     string   `json:"title"`
	Expected  string   `json:"expected"`
	V311      string   `json:"section_3_1_1,omitempty"`
	V5        string   `json:"section_5,omitempty"`
	Intrusive bool     `json:"intrusive"`
	Requires  []string `json:"requires"`
}

// listChecks writes the catalogue.
func (e *Env) listChecks(f *proveFlags, checks []*proof.Check) error {
	switch {
	case f.markdown:
		_, err := io.WriteString(e.Out, check.Reference())
		return broken(err)
	case f.json:
		out := []listed{}
		for _, c := range checks {
			out = append(out, listed{c.Name, c.Title, c.Expected, c.Sections.V311, c.Sections.V5, c.Intrusive, notNil(c.Requires)})
		}
		return broken(writeJSON(e.Out, out))
	}
	for _, c := range checks {
		mark := ""
		if c.Intrusive {
			mark = ", intrusive"
		}
		where := []string{}
		for _, v := range proof.Versions() {
			if s := c.Section(v); s != "" {
				where = append(where, fmt.Sprintf("%s §%s", v, s))
			}
		}
		if _, err := plain.Fprintf(e.Out, "%s%s: %s\n    must be seen: %s\n    standard: MQTT %s\n", c.Name, mark, c.Title, c.Expected,
			strings.Join(where, "; ")); err != nil {
			return broken(err)
		}
	}
	return nil
}

func (e *Env) runProve(ctx context.Context, f *proveFlags, args []string) error {
	o := proof.Options{}
	var err error
	if o.Checks, err = check.Match(f.check); err != nil {
		return &exit{exitUsage, err}
	}
	switch {
	case f.markdown && !f.list:
		return usage("--markdown goes with --list")
	case f.list && (len(args) > 0 || f.url != ""):
		return usage("--list runs nothing: name no workspace and no --url with it")
	case f.list:
		return e.listChecks(f, o.Checks)
	}
	if f.version != "" {
		v, err := packet.ParseVersion(f.version)
		if err != nil {
			return usage("--protocol-version takes 3.1, 3.1.1 or 5, not %q", f.version)
		}
		o.Versions = []packet.Version{v}
	}
	for _, name := range f.faults {
		if _, err := fault.Find(name); err != nil {
			return &exit{exitUsage, err}
		}
	}
	var t proof.Target
	var ways []reach.Target
	switch {
	case (len(args) == 1) == (f.url != ""):
		return usage("name a workspace or a --url, one of them: 'hodstone prove hodstone.yaml'")
	case f.url != "":
		if t, err = f.targetFromURL(); err == nil {
			ways, err = (&reachFlags{access: f.access, anonymous: f.anonymous,
				clientID: strings.ReplaceAll(f.clientID, "{n}", "99999")}).urlTargets(
				[]string{f.url},
			)
			for i := range ways {
				ways[i].Logins = nil // the checks' own login needs to read and publish everything
				if ways[i].Versions = o.Versions; o.Versions == nil {
					ways[i].Versions = []packet.Version{packet.V311} // which every broker speaks
				}
			}
		}
	default:
		var close func()
		t, ways, close, err = e.targetFromWorkspace(f, args[0])
		if close != nil {
			defer close()
		}
	}
	if err != nil {
		return err
	}
	t.Intrusive = t.Intrusive || f.intrusive
	if !t.StandIn {
		plainWarning(e.ErrOut, t.URL, t.Login)
	}
	return e.report(ctx, f, t, o, ways)
}

func (f *proveFlags) targetFromURL() (t proof.Target, err error) {
	switch {
	case len(f.faults) > 0:
		return t, usage("--fault is for the stand-in of a workspace; %s is not ours to break", f.url)
	case f.broker != "":
		return t, usage("--broker names a broker of a workspace; it does not go with --url")
	}
	endpoint, dial, err := f.dialURL(f.url)
	if err != nil {
		return t, err
	}
	t = proof.Target{Broker: endpoint.Address, Listener: f.url, URL: f.url, Dial: dial}
	switch f.anonymous {
	case "":
	case "allowed", "refused":
		allowed := f.anonymous == "allowed"
		t.Anonymous = &allowed
	default:
		return t, usage("--anonymous takes allowed or refused, not %q", f.anonymous)
	}
	if t.ClientID = f.clientID; t.ClientID != "" && !strings.Contains(t.ClientID, "{n}") {
		return t, usage(
			"--client-id needs {n} for a number, as in 's-{n}': the checks' clients must not share an identifier",
		)
	}
	t.Login, err = f.login()
	return t, err
}

func (e *Env) targetFromWorkspace(
	f *proveFlags,
	path string,
) (t proof.Target, ways []reach.Target, close func(), err error) {
	if flag := f.used(); flag != "" || f.anonymous+f.clientID != "" {
		switch {
		case flag != "":
		case f.anonymous != "":
			flag = "--anonymous"
		default:
			flag = "--client-id"
		}
		return t, nil, nil, usage("%s goes with --url; a workspace says it on the broker", flag)
	}
	b, _, err := e.openBroker(path, f.broker, f.faults)
	if err != nil {
		return t, nil, nil, err
	}
	if t, err = b.Target(f.broker); err != nil {
		return t, nil, b.Close, &exit{exitUsage, err}
	}
	return t, b.Targets(), b.Close, nil // the bench has this broker alone
}

// report runs the proof, looks for open doors on the ways in, and writes what came of it.
func (e *Env) report(ctx context.Context, f *proveFlags, t proof.Target, o proof.Options, ways []reach.Target) error {
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
		plain.Fprintf(e.Out, "%s, %s\n\n", t.Broker, t.Listener)
		o.Done = func(r proof.Result) {
			mu.Lock()
			defer mu.Unlock()
			fmt.Fprint(e.Out, report.Line(&r))
		}
	}
	slow := slowly(e.ErrOut, tellAfter)
	o.Doing = slow.doing
	p, err := proof.Run(ctx, t, o)
	slow.doing("")
	if err != nil {
		var shut *proof.NotLetInError
		if errors.As(err, &shut) {
			for _, w := range ways {
				if w.URL == t.URL {
					if d := reach.Explain(ctx, w, shut.Version, reach.Options{}); d != nil {
						shut.Cause = told(d)
					}
				}
			}
		}
		if shut != nil || errors.Is(err, proof.ErrNotReached) {
			return &exit{exitNotReached, err}
		}
		return err
	}
	if f.check != "" {
		ways = nil // who runs a few checks wants nothing else
	}
	if len(ways) > 0 && ctx.Err() == nil {
		p.Doors = reach.Doors(ctx, ways, reach.Options{})
	}
	if f.json {
		if err := report.JSON(e.Out, p); err != nil {
			return err
		}
	} else {
		if p.Doors != nil {
			plain.Fprintln(e.Out)
			report.Doors(e.Out, p)
		}
		plain.Fprintf(e.Out, "\n%s in %.1f s\n", report.SummaryLine(p.Counts()), p.Took.Seconds())
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
