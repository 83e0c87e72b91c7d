package cli

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hodstone/internal/contract"
	"hodstone/internal/fleet"
	"hodstone/internal/infile"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// loadFlags are the options of load.
type loadFlags struct {
	access
	recordFollow                             []string
	broker, version, loginName, credentials  string
	clients                                  []string
	count                                    map[string]*int
	shape, clause, from, storm, find, traced string
	others, size, each                       int
	qos                                      int
	retain, falls, allowed                   bool
	every, hold, climbs                      time.Duration
	jitter, rate, ramp, rampRate             string
	connects, bound, local, shard, startAt   string
	seed                                     uint64
	out, csv, drawing, over, metrics, write  string
	image                                    string
	json                                     bool
	given                                    func(string) bool
	visit                                    func(func(*pflag.Flag))
}

func (e *Env) load() *cobra.Command {
	f := &loadFlags{count: map[string]*int{}}
	c := &cobra.Command{
		Use:   "load (WORKSPACE|URL) [NAME]",
		Short: "Put many clients on a broker, and say who gives way",
		Long: `Put load on a broker: many clients, each with its own identifier, login and topic, that publish, hear, or both. A load
stands in the workspace under a name (loads:), or is made of options; these also change one that has a name.

Round trips count from the time at which a message was to be sent, so that a broker that stands still is not excused for what
was not sent meanwhile. What is lost, comes twice or out of order is counted. At the end stands who was the limit, the broker or
this generator, and by what that is seen.

    hodstone load mqtt://127.0.0.1:1883 --clients 500 --rate 2000/s --hold 30s --bound 'p99<100ms,lost=0'
    hodstone load WORKSPACE --client pen=400 --client tls=50 --clause pen.oxygen --ramp 50..450/50 --hold 20s
    hodstone load WORKSPACE 'spring tide' --find rate --drawing tide.pdf

Only stand-ins, brokers on this machine, and those of which the workspace says 'load: allowed' are loaded; --allowed says it of a URL.

A fleet that is too large for one machine runs in parts: --shard 3/16 --start-at TIME --out part3.json on each, and then
'hodstone load merge part*.json'. --write kubernetes and --write slurm print what lets an engine run the parts.

Exit code 0: the bound held, or there was none; 1: it did not, or the load was stopped; 2: wrong use; 3: nobody got in.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			f.given, f.visit = c.Flags().Changed, c.Flags().Visit
			return e.runLoad(c.Context(), f, args)
		},
	}
	f.flags(c.Flags())
	c.AddCommand(e.loadMerge())
	return c
}

func (f *loadFlags) flags(fl *pflag.FlagSet) {
	f.access.flags(fl)
	fl.StringArrayVar(
		&f.clients,
		"client",
		nil,
		"with a workspace: KIND=N, so many of a kind of devices, or of plain, tls, ws, wss; may be given several times",
	)
	for _, t := range []string{"plain", "tls", "ws", "wss"} {
		n := new(int)
		f.count[t] = n
		fl.IntVar(
			n,
			t,
			0,
			"so many clients that are no devices, by "+map[string]string{"plain": "TCP", "tls": "TLS", "ws": "WebSocket", "wss": "secure WebSocket"}[t],
		)
	}
	n := new(int)
	f.count[""] = n
	fl.IntVar(n, "clients", 0, "with a URL: so many clients")
	fl.StringVar(&f.broker, "broker", "", "with a workspace: BROKER or BROKER/LISTENER")
	fl.StringVar(&f.version, "protocol-version", "", "of clients that are no devices: 3.1, 3.1.1 or 5")
	fl.StringVar(&f.loginName, "login", "", "with a workspace: the login of clients that are no devices, with {n}")
	fl.StringVar(&f.credentials, "credentials", "", "a CSV of user names and passwords, a line for each client in turn")
	fl.StringVar(&f.shape, "shape", "", "echo (default), pairs, fan-in, fan-out, mute or idle")
	fl.IntVar(&f.others, "others", 0, "how many hear all in fan-in, or publish in fan-out; 1 by default")
	fl.StringVar(&f.clause, "clause", "", "with a workspace: publish this clause, on its topics")
	fl.StringVar(&f.from, "payload-from", "", "of a clause: example (default), signals, or size")
	fl.IntVar(&f.size, "size", 0, "bytes of a message of the fleet's own; 64 by default")
	fl.IntVar(&f.qos, "qos", 0, "the clause's by default, else 0")
	fl.BoolVar(&f.retain, "retain", false, "let the broker store it; the clause's by default")
	fl.DurationVar(&f.every, "every", 0, "the time between two messages of a client; 1s by default")
	fl.StringVar(&f.jitter, "jitter", "", "by which share that varies: 10%")
	fl.StringVar(&f.rate, "rate", "", "messages a second in all, such as 2000/s, in place of --every")
	fl.IntVar(&f.each, "each", 0, "so many messages of each client, and no more")
	fl.StringVar(&f.ramp, "ramp", "", "clients, FROM..TO or FROM..TO/BY")
	fl.StringVar(&f.rampRate, "ramp-rate", "", "messages a second, FROM..TO or FROM..TO/BY")
	fl.DurationVar(&f.hold, "hold", 0, "how long each step is held; 10s by default")
	fl.DurationVar(
		&f.climbs,
		"climb",
		0,
		"climb steadily for so long, from the ramp's beginning to its end, in place of steps",
	)
	fl.BoolVar(&f.falls, "falls", false, "go down again by the same steps")
	fl.StringVar(&f.connects, "connects", "", "how many connect a second at most, such as 500/s")
	fl.StringVar(&f.storm, "storm", "", "what befalls all at once at the end: reconnect, restart or wills")
	fl.StringVar(&f.bound, "bound", "", "what has to hold, such as p99<100ms,lost=0")
	fl.StringVar(&f.find, "find", "", "rate or clients: search the highest at which the bound holds")
	fl.StringVar(&f.traced, "traced", "", "the share of clients that is traced and judged; 1% by default")
	fl.StringVar(&f.local, "local", "", "addresses to dial from in turn: 127.0.0.2-127.0.0.9")
	fl.BoolVar(&f.allowed, "allowed", false, "with a URL that is not of this machine: the broker is yours to load")
	fl.StringVar(&f.shard, "shard", "", "run a part: 3/16, or env/16 where an engine's environment tells which")
	fl.StringVar(&f.startAt, "start-at", "", "begin at this time: 15:04, 15:04:05 or RFC 3339")
	fl.Uint64Var(&f.seed, "seed", 1, "of what is random")
	fl.StringVar(&f.out, "out", "", "write the result, with its histograms, into this file as JSON")
	fl.StringVar(&f.csv, "csv", "", "write a line for each second into this file")
	fl.StringVar(&f.drawing, "drawing", "", "draw the load over time into this file: .svg or .pdf")
	fl.StringVar(&f.over, "over", "", "with --drawing: an earlier result to draw under it")
	fl.StringVar(&f.metrics, "metrics", "", "serve OpenMetrics on this address while it runs, such as 127.0.0.1:9464")
	fl.StringVar(&f.write, "write", "", "print what lets an engine run --shard's parts: kubernetes or slurm")
	fl.StringVar(&f.image, "image", "hodstone:latest", "with --write kubernetes: the container image")
	fl.StringArrayVar(
		&f.recordFollow,
		"follow",
		nil,
		"NAME=PATH of the broker's log, which may tell what was in the way",
	)
	fl.BoolVar(&f.json, "json", false, "write the result as JSON")
}

// spanOf reads FROM..TO or FROM..TO/BY.
func spanOf(text string) (from, to, by float64, err error) {
	wrong := usage("%q is no ramp: write 50..500/50", text)
	a, rest, ok := strings.Cut(text, "..")
	b, c, stepped := strings.Cut(rest, "/")
	if !ok {
		return 0, 0, 0, wrong
	}
	for _, x := range []struct {
		text string
		to   *float64
	}{{a, &from}, {b, &to}, {c, &by}} {
		if x.text == "" && x.to == &by && !stepped {
			continue
		}
		v, err := strconv.ParseFloat(strings.TrimSpace(x.text), 64)
		if err != nil || v < 0 || v > 1e9 {
			return 0, 0, 0, wrong
		}
		*x.to = v
	}
	if to < from {
		return 0, 0, 0, usage("a ramp climbs: write the lower number first, and --falls to go down again")
	}
	return from, to, by, nil
}

// perSecond reads 2000/s.
func perSecond(flag, text string) (float64, error) {
	if text == "" {
		return 0, nil
	}
	r, err := contract.ParseRate(text)
	if err != nil {
		return 0, usage("--%s: %w", flag, err)
	}
	return float64(r.N) / r.Per.Seconds(), nil
}

// change lets the options change a load.
func (f *loadFlags) change(x *workspace.Load, w *workspace.Workspace) (err error) {
	for _, t := range []string{"plain", "tls", "ws", "wss"} {
		if n := *f.count[t]; n > 0 {
			f.clients = append(f.clients, fmt.Sprintf("%s=%d", t, n))
		}
	}
	if len(f.clients) > 0 {
		x.Clients = nil
	}
	for _, c := range f.clients {
		kind, count, _ := strings.Cut(c, "=")
		n, err := strconv.Atoi(count)
		if err != nil || n < 1 || n > workspace.MostClients {
			return usage("--client takes KIND=N, with N from 1 to %d, not %q", workspace.MostClients, c)
		}
		if !slices.Contains(w.LoadKinds(), kind) {
			return usage("there is no kind of clients %q; there are: %s", kind, strings.Join(w.LoadKinds(), ", "))
		}
		x.Clients = append(x.Clients, workspace.LoadClients{Kind: kind, Count: n})
	}
	if len(x.Clients) == 0 {
		return usage(
			"say how many clients of which kind: --clients 500 with a URL; --plain, --tls, --ws, or --client KIND=N with a workspace",
		)
	}
	if f.broker != "" {
		x.Broker, x.Listener, _ = strings.Cut(f.broker, "/")
	}
	if f.version != "" {
		if x.Version, err = packet.ParseVersion(f.version); err != nil {
			return usage("--protocol-version takes 3.1, 3.1.1 or 5, not %q", f.version)
		}
	}
	if f.loginName != "" {
		x.Login = f.loginName
	}
	if f.credentials != "" {
		b, err := infile.Read(f.credentials, maxCredential)
		if err == nil {
			x.Credentials, err = workspace.ReadCredentials(b)
		}
		if err != nil {
			return usage("--credentials cannot be read: %w", err)
		}
	}
	if f.shape != "" {
		if x.Shape = fleet.Shape(f.shape); !slices.Contains(fleet.Shapes(), x.Shape) {
			return usage("there is no shape %q; there are: %s", f.shape, joinShapes())
		}
	}
	switch f.storm {
	case "":
	case "reconnect", "restart", "wills":
		x.Storm = fleet.Storm(f.storm)
	default:
		return usage("--storm takes reconnect, restart or wills, not %q", f.storm)
	}
	switch f.from {
	case "":
	case "size", "example", "signals":
		x.From = workspace.PayloadFrom(f.from)
	default:
		return usage("--payload-from takes example, signals or size, not %q", f.from)
	}
	if f.find != "" {
		x.Find = f.find
	}
	if f.clause != "" {
		x.Clause = f.clause
	}
	if f.given("qos") {
		if f.qos < 0 || f.qos > 2 {
			return usage("--qos takes 0, 1 or 2")
		}
		q := packet.QoS(f.qos)
		x.QoS = &q
	}
	if f.given("retain") {
		x.Retain = &f.retain
	}
	for _, n := range []struct {
		given int
		to    *int
	}{{f.others, &x.Others}, {f.size, &x.Size}, {f.each, &x.Each}} {
		if n.given > 0 {
			*n.to = n.given
		}
	}
	if f.every > 0 {
		x.Every = f.every
	}
	if f.hold > 0 {
		x.Hold = f.hold
	}
	if f.climbs > 0 {
		x.Over = f.climbs
	}
	x.Falls = x.Falls || f.falls
	for _, s := range []struct {
		flag, text string
		to         *float64
	}{{"jitter", f.jitter, &x.Jitter}, {"traced", f.traced, &x.Traced}} {
		if s.text != "" {
			if *s.to, err = workspace.ParseShare(s.text); err != nil {
				return usage("--%s: %w", s.flag, err)
			}
		}
	}
	for _, s := range []struct {
		flag, text string
		to         *float64
	}{{"rate", f.rate, &x.Rate}, {"connects", f.connects, &x.Connects}} {
		if s.text != "" {
			if *s.to, err = perSecond(s.flag, s.text); err != nil {
				return err
			}
		}
	}
	if f.bound != "" {
		if x.Bound, err = fleet.ParseBound(f.bound); err != nil {
			return usage("--bound: %w", err)
		}
	}
	if f.local != "" {
		if x.Locals, err = workspace.ParseLocals(f.local); err != nil {
			return usage("--local: %w", err)
		}
	}
	switch {
	case f.ramp != "" && f.rampRate != "":
		return usage("give --ramp or --ramp-rate, not both")
	case f.ramp != "":
		x.RampOf = "clients"
		x.RampFrom, x.RampTo, x.RampBy, err = spanOf(f.ramp)
	case f.rampRate != "":
		x.RampOf = "rate"
		x.RampFrom, x.RampTo, x.RampBy, err = spanOf(strings.TrimSuffix(f.rampRate, "/s"))
	}
	return err
}

func joinShapes() string {
	var all []string
	for _, s := range fleet.Shapes() {
		all = append(all, string(s))
	}
	return strings.Join(all, ", ")
}

// shardOf reads 3/16.
func shardOf(text string) (s fleet.Shard, err error) {
	if text == "" {
		return s, nil
	}
	a, b, ok := strings.Cut(text, "/")
	if a == "env" { // an engine tells which part it is
		if a = os.Getenv("SLURM_ARRAY_TASK_ID"); a == "" {
			index, err := strconv.Atoi(os.Getenv("JOB_COMPLETION_INDEX"))
			if err != nil {
				return s, usage(
					"--shard env/%s takes the part from JOB_COMPLETION_INDEX or SLURM_ARRAY_TASK_ID, and neither is set",
					b,
				)
			}
			a = strconv.Itoa(index + 1)
		}
	}
	s.Index, err = strconv.Atoi(a)
	if err == nil {
		s.Of, err = strconv.Atoi(b)
	}
	if !ok || err != nil || s.Index < 1 || s.Of < s.Index || s.Of > 10_000 {
		return s, usage("--shard takes a part and how many there are, such as 3/16, not %q", text)
	}
	return s, nil
}

// startOf reads when a load begins.
func startOf(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return now, nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if t, err := time.Parse(layout, text); err == nil {
			at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
			if at.Before(now) {
				at = at.AddDate(0, 0, 1)
			}
			return at, nil
		}
	}
	return now, usage("--start-at takes 15:04, 15:04:05 or a time of RFC 3339, not %q", text)
}

// loadBench opens what is loaded: a workspace, or a URL as a workspace of its own.
func (e *Env) loadBench(f *loadFlags, args []string) (*workbench.Bench, *workspace.Load, error) {
	where, name := args[0], ""
	if len(args) > 1 {
		name = args[1]
	}
	var w *workspace.Workspace
	x := workspace.NewLoad("")
	if strings.Contains(where, "://") {
		var err error
		if w, err = f.ofURL(where); err != nil {
			return nil, nil, err
		}
		if name != "" {
			return nil, nil, usage("a load of a name stands in a workspace")
		}
		if n := *f.count[""]; n > 0 {
			kind := ""
			for k, scheme := range workspace.Transports {
				if e, err := link.Parse(
					where,
				); err == nil && (e.WebSocket == strings.HasPrefix(scheme, "ws")) &&
					e.TLS == strings.HasSuffix(scheme, "s") {
					kind = k
				}
			}
			f.clients = append(f.clients, fmt.Sprintf("%s=%d", kind, n))
		}
	} else {
		if flag := f.used(); flag != "" {
			return nil, nil, usage("%s goes with a URL; a workspace says it on the broker and its login", flag)
		}
		if *f.count[""] > 0 || f.allowed {
			return nil, nil, usage(
				"--clients and --allowed go with a URL; in a workspace clients are of a kind (--plain, --client KIND=N), and the broker says 'load: allowed'",
			)
		}
		var err error
		if w, err = openWorkspace(where); err != nil {
			return nil, nil, err
		}
		for _, p := range w.Problems {
			plain.Fprintf(e.ErrOut, "%s\n\n", plain.Lines(p.Error()))
		}
		if name != "" {
			found := w.Load(name)
			if found == nil {
				return nil, nil, usage("the workspace has no load %q%s", name, otherLoads(w))
			}
			own := *found
			x = &own
		}
	}
	if err := f.change(x, w); err != nil {
		return nil, nil, err
	}
	// Only the broker that is loaded is needed.
	broker := x.Broker
	for _, c := range x.Clients {
		for _, d := range w.Devices {
			if d.Name == c.Kind && broker == "" {
				broker = d.Broker
			}
		}
	}
	if br := w.Broker(broker); br != nil {
		w.Brokers = []*workspace.Broker{br}
	}
	b, err := workbench.New(w, workbench.Options{Seed: f.seed})
	if err != nil {
		return nil, nil, &exit{exitUsage, err}
	}
	return b, x, nil
}

// ofURL makes a workspace of a URL and the options of login and TLS.
func (f *loadFlags) ofURL(where string) (*workspace.Workspace, error) {
	endpoint, _, err := f.dialURL(where)
	if err != nil {
		return nil, err
	}
	br := &workspace.Broker{
		Name:      endpoint.Address,
		Load:      f.allowed,
		Listeners: []workspace.Listener{{Name: "url", URL: where}},
	}
	w := &workspace.Workspace{Contract: &contract.Contract{}, Brokers: []*workspace.Broker{br}}
	login, err := f.login()
	if err != nil {
		return nil, err
	}
	if endpoint.TLS {
		if f.ca != "" {
			if br.Listeners[0].CA, err = readCA(f.ca); err != nil {
				return nil, err
			}
		}
		br.Listeners[0].ServerName = f.serverName
		pair, err := f.pair()
		if err != nil {
			return nil, err
		}
		if pair != nil {
			if login == nil {
				login = &workspace.Login{}
			}
			login.Certificate = pair
		}
	}
	if login != nil {
		login.Name = "of the options"
		w.Logins, br.Login = append(w.Logins, login), login.Name
	}
	return w, nil
}

// otherLoads says which loads there are in place of one that was asked for.
func otherLoads(w *workspace.Workspace) string {
	var all []string
	for _, l := range w.Loads {
		all = append(all, l.Name)
	}
	switch {
	case len(all) > 0:
		return "; there are: " + strings.Join(all, ", ")
	case len(w.Problems) > 0:
		return " that is sound, see above"
	}
	return "; 'loads:' in it names some"
}
