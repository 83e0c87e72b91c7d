package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/mqtt/link"
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
	recording
	urls, brokers                     []string // as they were given
	broker, url, check, version       string   // the one of them that is proven
	anonymous, clientID               string
	clientCertificates, leastTLS      string
	intrusive, json, onTopics         bool
	restart                           bool
	list, markdown                    bool
	junit, save, baseline, reportFile string
	tables, answers                   string
	trials                            []string
	explore                           time.Duration
	seed                              uint64
	about                             report.Basis
	kept                              string // the file that proofs are kept in; "" for none
	history                           bool
	faults                            []string
	device                            deviceFlags
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
	c.AddCommand(e.compareProofs())
	fl := c.Flags()
	fl.StringArrayVar(
		&f.brokers,
		"broker",
		nil,
		"BROKER or BROKER/LISTENER of the workspace; the first by default. Several are shown side by side",
	)
	fl.StringArrayVar(
		&f.urls,
		"url",
		nil,
		"a broker without a workspace: mqtt://, mqtts://, ws://, wss:// or unix:///PATH. Several are shown side by side",
	)
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
	fl.StringVar(
		&f.clientCertificates,
		"client-certificates",
		"",
		"with --url over TLS: required or optional, what is meant for clients",
	)
	fl.StringVar(
		&f.leastTLS,
		"least-tls",
		"",
		"with --url over TLS: the lowest version of TLS that is to be taken, 1.2 or 1.3; 1.2 without it",
	)
	fl.BoolVar(
		&f.intrusive,
		"intrusive",
		false,
		"run checks that fail logins or throw clients out, on a real broker too",
	)
	fl.BoolVar(&f.onTopics, "on-contract-topics", false,
		"try on the contract's own topics who may publish and read, and who answers commands: real devices hear it")
	fl.DurationVar(
		&f.explore,
		"explore",
		0,
		"explore for so long, in place of checks: random conversations of several clients, held against a model of the standard",
	)
	fl.Uint64Var(
		&f.seed,
		"seed",
		0,
		"with --explore: the same seed makes the same conversations; one is made up, and told, without it",
	)
	fl.StringArrayVar(
		&f.trials,
		"trial",
		nil,
		"run trials of the workspace in place of checks, with its devices at work: a name, a pattern such as 'Thin*', or '*' for all; may be given several times",
	)
	fl.StringVar(
		&f.device.name,
		"device",
		"",
		"put a device of the workspace to the proof in place of a broker: pen-2. It dials a tap of Hodstone's, behind which its broker is",
	)
	fl.StringVar(
		&f.device.listen,
		"listen",
		"",
		"with --device: where it dials, such as mqtts://0.0.0.0:8884; loopback without it",
	)
	fl.BoolVar(&f.device.real, "real", false, "with --device: it is not played, the real one dials")
	fl.DurationVar(
		&f.device.watch,
		"watch",
		0,
		"with --device: how long it is watched at work; as long as its clauses need without it",
	)
	fl.StringArrayVar(
		&f.device.faults,
		"device-fault",
		nil,
		"with --device: let the one that is played misbehave; may be given several times",
	)
	fl.StringVar(
		&f.answers,
		"answers",
		"",
		"with --trial and --device: a YAML file of questions and their answers, where nobody is there to be asked",
	)
	fl.BoolVar(
		&f.restart,
		"restart",
		false,
		"restart the broker, in order and killed, to see what survives: a stand-in, a broker whose workspace names a command, or a person is asked (--answers)",
	)
	fl.StringVar(
		&f.tables,
		"tables",
		"",
		"write what checks find out pair by pair to this file too, as CSV: logins and clauses, QoS",
	)
	fl.StringArrayVar(&f.faults, "fault", nil, "let the workspace's stand-in misbehave; may be given several times")
	fl.BoolVar(
		&f.list,
		"list",
		false,
		"show the catalogue of checks, with what must be seen and where the standard says so, and run none",
	)
	fl.BoolVar(&f.markdown, "markdown", false, "with --list: as Markdown")
	fl.BoolVar(&f.json, "json", false, "write one JSON document instead of lines")
	fl.BoolVar(
		&f.history,
		"history",
		false,
		"list the proofs that are kept beside the workspace, the latest first, and run none",
	)
	fl.StringVar(
		&f.save,
		"save",
		"",
		"write the proof to this file too, as JSON: for --baseline and 'hodstone prove compare'",
	)
	fl.StringVar(
		&f.baseline,
		"baseline",
		"",
		"compare with the proof in this file, and exit with 1 only where something got worse",
	)
	fl.StringVar(&f.reportFile, "report", "", "write a report for people to this file too: .pdf, .md or .html")
	f.recording.flags(fl)
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

// inWords says where the standard speaks of a check.
func inWords(c *proof.Check, where []string) string {
	if c.Sections.Elsewhere() {
		return strings.Join(where, "; ")
	}
	return "MQTT " + strings.Join(where, "; ")
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
			out = append(
				out,
				listed{c.Name, c.Title, c.Expected, c.Sections.V311, c.Sections.V5, c.Intrusive, notNil(c.Requires)},
			)
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
			if s := c.Section(v); c.Sections.Elsewhere() {
				where = []string{s}
			} else if s != "" {
				where = append(where, fmt.Sprintf("%s §%s", v, s))
			}
		}
		if _, err := plain.Fprintf(
			e.Out,
			"%s%s: %s\n    must be seen: %s\n    standard: %s\n",
			c.Name,
			mark,
			c.Title,
			c.Expected,
			inWords(c, where),
		); err != nil {
			return broken(err)
		}
	}
	return nil
}

func (e *Env) runProve(ctx context.Context, f *proveFlags, args []string) error {
	o := proof.Options{OnTopics: f.onTopics, Restarts: f.restart}
	var err error
	if len(f.urls) == 1 {
		f.url = f.urls[0]
	}
	if len(f.brokers) == 1 {
		f.broker = f.brokers[0]
	}
	d := &f.device
	switch {
	case d.name == "" && (d.listen != "" || d.real || d.watch != 0 || d.faults != nil):
		return usage("--listen, --real, --watch and --device-fault go with --device")
	case d.name != "" && (len(args) != 1 || f.urls != nil):
		return usage("--device is one of a workspace: name that")
	case d.name != "" && (f.list || f.history):
		return usage("--list and --history run nothing: leave --device out")
	case d.name != "":
		return e.proveDevice(ctx, f, args[0])
	}
	if o.Checks, err = check.Match(f.check); err != nil {
		return &exit{exitUsage, err}
	}
	switch {
	case f.markdown && !f.list:
		return usage("--markdown goes with --list")
	case f.history && len(args) == 1 && f.urls == nil:
		return e.listProofs(args[0])
	case f.history:
		return usage("--history lists what is kept beside a workspace: name one")
	case f.list && (len(args) > 0 || f.urls != nil):
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
	case f.trials != nil && len(args) == 1 && f.urls == nil:
		return e.proveTrials(ctx, f, args[0])
	case f.trials != nil:
		return usage("--trial runs trials of a workspace: name one")
	case f.explore < 0 || f.seed != 0 && f.explore == 0:
		return usage("--explore takes how long, such as 60s; --seed goes with it")
	case f.explore > 0 && (len(f.urls) > 1 || len(f.brokers) > 1):
		return usage("--explore is for one broker at a time")
	case f.answers != "" && !f.restart:
		return usage("--answers goes with --trial, --device and --restart")
	case len(args) == 1 && f.urls != nil && f.json && strings.HasSuffix(args[0], ".json"):
		return usage("--json takes no file: the document goes to standard output; --save FILE keeps the proof")
	case len(args) == 1 && f.urls != nil:
		return usage("%s and --url: name a workspace or a URL, one of them", args[0])
	case len(args) == 0 && f.urls == nil:
		return usage("name a workspace or a --url: 'hodstone prove hodstone.yaml'")
	case len(f.urls) > 1, len(f.brokers) > 1 && f.urls == nil:
		return e.proveSides(ctx, f, o, args)
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
	if f.restart && t.Restart == nil {
		if t.Restart, err = e.restarter(f); err != nil {
			return err
		}
	}
	if f.onTopics && t.Agreement == nil {
		return usage("--on-contract-topics needs a contract: name a workspace that has one")
	}
	t.Intrusive = t.Intrusive || f.intrusive
	if !t.StandIn {
		plainWarning(e.ErrOut, t.URL, t.Login)
	}
	if f.explore > 0 {
		return e.explore(ctx, f, t, o)
	}
	return e.report(ctx, f, t, o, ways)
}

// way is how a URL is reached below MQTT.
func (f *proveFlags) way(endpoint link.Endpoint) (w *proof.Way, err error) {
	w = &proof.Way{Endpoint: endpoint}
	if w.TLS, err = f.tls(endpoint); err != nil {
		return nil, err
	}
	if f.ca != "" {
		if w.CAs, err = readCA(f.ca); err != nil {
			return nil, err
		}
	}
	switch f.clientCertificates {
	case "":
	case "required", "optional":
		required := f.clientCertificates == "required"
		w.ClientRequired = &required
	default:
		return nil, usage("--client-certificates takes required or optional, not %q", f.clientCertificates)
	}
	switch f.leastTLS {
	case "", "1.2":
	case "1.3":
		w.LeastTLS = tls.VersionTLS13
	default:
		return nil, usage("--least-tls takes 1.2 or 1.3, not %q", f.leastTLS)
	}
	if f.clientCertificates+f.leastTLS != "" && w.TLS == nil {
		return nil, usage("--client-certificates and --least-tls go with a URL of mqtts:// or wss://")
	}
	return w, nil
}

func (f *proveFlags) targetFromURL() (t proof.Target, err error) {
	switch {
	case len(f.faults) > 0:
		return t, usage("--fault is for the stand-in of a workspace; %s is not ours to break", f.url)
	case f.broker != "" || f.brokers != nil:
		return t, usage("--broker names a broker of a workspace; it does not go with --url")
	}
	endpoint, dial, err := f.dialURL(f.url)
	if err != nil {
		return t, err
	}
	t = proof.Target{Broker: endpoint.Address, Listener: f.url, URL: f.url, Dial: dial}
	if t.Way, err = f.way(endpoint); err != nil {
		return t, err
	}
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
	if flag := f.used(); flag != "" || f.anonymous+f.clientID+f.clientCertificates+f.leastTLS != "" {
		switch {
		case flag != "":
		case f.clientCertificates != "":
			flag = "--client-certificates"
		case f.leastTLS != "":
			flag = "--least-tls"
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
	f.kept = proofsBeside(b.Workspace().File)
	f.about.Workspace, f.about.Revision = b.Workspace().Name, b.Fingerprint()
	return t, b.Targets(), b.Close, nil // the bench has this broker alone
}

// report runs the proof, looks for open doors on the ways in, and writes what came of it.
func (e *Env) report(ctx context.Context, f *proveFlags, t proof.Target, o proof.Options, ways []reach.Target) error {
	var before *report.Document
	files, err := f.products()
	if err != nil {
		return err
	}
	defer abandon(files)
	if f.baseline != "" {
		if before, err = readProof(f.baseline); err != nil {
			return err
		}
	}
	endRecord, err := e.recorded(ctx, f, &t, &o)
	if err != nil {
		return err
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
	unrecorded := endRecord()
	if err != nil {
		if unrecorded != nil {
			plain.Fprintln(e.ErrOut, "hodstone:", errorText(unrecorded))
		}
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
	return e.handOver(ctx, f, p, files, before, unrecorded)
}
