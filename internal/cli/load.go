package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"hodstone/internal/contract"
	"hodstone/internal/fleet"
	"hodstone/internal/infile"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/report"
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
	fl.StringArrayVar(&f.clients, "client", nil, "with a workspace: KIND=N, so many of a kind of devices, or of plain, tls, ws, wss; may be given several times")
	for _, t := range []string{"plain", "tls", "ws", "wss"} {
		n := new(int)
		f.count[t] = n
		fl.IntVar(n, t, 0, "so many clients that are no devices, by "+map[string]string{"plain": "TCP", "tls": "TLS", "ws": "WebSocket", "wss": "secure WebSocket"}[t])
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
	fl.DurationVar(&f.climbs, "climb", 0, "climb steadily for so long, from the ramp's beginning to its end, in place of steps")
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
	fl.StringArrayVar(&f.recordFollow, "follow", nil, "NAME=PATH of the broker's log, which may tell what was in the way")
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
		return usage("say how many clients of which kind: --clients 500 with a URL; --plain, --tls, --ws, or --client KIND=N with a workspace")
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
				return s, usage("--shard env/%s takes the part from JOB_COMPLETION_INDEX or SLURM_ARRAY_TASK_ID, and neither is set", b)
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
				if e, err := link.Parse(where); err == nil && (e.WebSocket == strings.HasPrefix(scheme, "ws")) && e.TLS == strings.HasSuffix(scheme, "s") {
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
			return nil, nil, usage("--clients and --allowed go with a URL; in a workspace clients are of a kind (--plain, --client KIND=N), and the broker says 'load: allowed'")
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
				var all []string
				for _, l := range w.Loads {
					all = append(all, l.Name)
				}
				return nil, nil, usage("the workspace has no load %q; there are: %s", name, strings.Join(all, ", "))
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
	br := &workspace.Broker{Name: endpoint.Address, Load: f.allowed, Listeners: []workspace.Listener{{Name: "url", URL: where}}}
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

func (e *Env) runLoad(ctx context.Context, f *loadFlags, args []string) error {
	if f.write != "" {
		return e.writeEngine(f, args)
	}
	shard, err := shardOf(f.shard)
	if err != nil {
		return err
	}
	at, err := startOf(f.startAt, time.Now())
	if err != nil {
		return err
	}
	var over *fleet.Result
	switch {
	case f.over != "" && f.drawing == "":
		return usage("--over goes with --drawing")
	case f.over != "":
		if over, err = readResult(f.over); err != nil {
			return err
		}
	}
	b, x, err := e.loadBench(f, args)
	if err != nil {
		return err
	}
	defer b.Close()
	l, err := b.Loading(x, workbench.LoadOptions{Shard: shard, Seed: f.seed})
	if err != nil {
		return &exit{exitUsage, err}
	}
	rec := recording{follow: f.recordFollow}
	stopFollow, err := rec.start(ctx, e, b.Log, nil)
	if err != nil {
		return err
	}
	defer stopFollow()
	if f.metrics != "" {
		stop, err := serveMetrics(f.metrics, l)
		if err != nil {
			return err
		}
		defer stop()
	}
	for wait := time.Until(at); wait > 0; wait = time.Until(at) {
		e.progress("begins in %s", wait.Round(time.Second))
		select {
		case <-time.After(min(wait, time.Second)):
		case <-ctx.Done():
			return &exit{exitBroken, errors.New("stopped before it began")}
		}
	}
	if !f.json {
		plain.Fprintf(e.Out, "%s on %s\n%s\n", strings.TrimSpace("load "+x.Name), l.Target(), report.LoadStepHead())
	}
	done := make(chan struct{})
	go e.tellLoad(l, done, !f.json)
	r := l.Run(ctx)
	done <- struct{}{}
	<-done
	return e.loadEnds(f, r, over)
}

// progress shows a line that is written over, where a person looks on.
func (e *Env) progress(format string, args ...any) {
	if e.Terminal {
		plain.Fprintf(e.ErrOut, "\r\x1b[K%s", fmt.Sprintf(format, args...))
	}
}

// tellLoad tells of the steps as they end, and between of how it stands, until done is sent to; then it closes it.
func (e *Env) tellLoad(l *workbench.Loader, done chan struct{}, lines bool) {
	defer close(done)
	told := 0
	began := time.Now()
	steps := func() {
		s := l.State()
		for ; told < len(s.Result.Steps); told++ {
			if lines {
				e.progress("")
				plain.Fprintln(e.Out, report.LoadStepLine(told, &s.Result.Steps[told]))
			}
		}
		left := ""
		if d := l.Length() - time.Since(began); d > 0 && s.Result.Found == nil {
			left = ", about " + d.Round(time.Second).String() + " left"
		}
		u := &s.Under
		e.progress("%s: %d in, %d sent, %d received%s", s.Doing, u.In, u.Sent, u.Received, left)
	}
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			steps()
		case <-done:
			steps()
			e.progress("")
			return
		}
	}
}

// loadEnds writes what a load came to, and says so by the exit code.
func (e *Env) loadEnds(f *loadFlags, r, over *fleet.Result) error {
	if f.json {
		if err := report.WriteLoadJSON(e.Out, r); err != nil {
			return err
		}
	} else {
		plain.Fprintln(e.Out)
		for _, line := range report.LoadSummary(r) {
			plain.Fprintln(e.Out, line)
		}
	}
	for _, x := range []struct {
		name  string
		write func(*os.File) error
	}{
		{f.out, func(o *os.File) error { return report.WriteLoadJSON(o, r) }},
		{f.csv, func(o *os.File) error { return report.WriteLoadCSV(o, r) }},
		{f.drawing, func(o *os.File) error {
			d, err := report.LoadDrawing(cmp.Or(r.Target, "load"), r, over)
			if err != nil {
				return err
			}
			return d.Write(o, f.drawing)
		}},
	} {
		if x.name == "" {
			continue
		}
		o, err := os.Create(x.name)
		if err == nil {
			err = x.write(o)
			err = errors.Join(err, o.Close())
		}
		if err != nil {
			return usage("%s cannot be written: %w", x.name, err)
		}
	}
	switch {
	case r.Total.In == 0 && r.Total.Clients > 0:
		return &exit{exitNotReached, errors.New("nobody got in: 'hodstone reach' tells why")}
	case r.Stopped:
		return &exit{exitBroken, errors.New("stopped")}
	case !r.Holds():
		return &exit{exitBroken, fmt.Errorf("the bound %s did not hold", r.Bound)}
	}
	return nil
}

func (e *Env) loadMerge() *cobra.Command {
	f := &loadFlags{}
	c := &cobra.Command{
		Use:   "merge PART.json…",
		Short: "Add the parts of a load up, histograms and counts exactly",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var parts []*fleet.Result
			for _, name := range args {
				r, err := readResult(name)
				if err != nil {
					return err
				}
				parts = append(parts, r)
			}
			r, err := fleet.Merge(parts...)
			if err != nil {
				return &exit{exitUsage, err}
			}
			if !f.json {
				plain.Fprintln(e.Out, report.LoadStepHead())
				for i := range r.Steps {
					plain.Fprintln(e.Out, report.LoadStepLine(i, &r.Steps[i]))
				}
			}
			return e.loadEnds(f, r, nil)
		},
	}
	fl := c.Flags()
	fl.BoolVar(&f.json, "json", false, "write the result as JSON")
	fl.StringVar(&f.out, "out", "", "write the result into this file as JSON")
	fl.StringVar(&f.csv, "csv", "", "write a line for each second into this file")
	fl.StringVar(&f.drawing, "drawing", "", "draw the load over time into this file: .svg or .pdf")
	return c
}

// readResult reads a load's result.
func readResult(name string) (*fleet.Result, error) {
	const most = 256 << 20
	b, err := infile.Read(name, most)
	if err != nil {
		return nil, usage("the result cannot be read: %w", err)
	}
	var r fleet.Result
	if err := json.Unmarshal(b, &r); err != nil {
		return nil, usage("%s is no result of a load: %w", name, err)
	}
	if r.Started.IsZero() {
		return nil, usage("%s is no result of a load", name)
	}
	return &r, nil
}

// serveMetrics serves how a load stands, as OpenMetrics.
func serveMetrics(addr string, l *workbench.Loader) (stop func(), err error) {
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, usage("--metrics cannot listen on %s: %w", addr, err)
	}
	registry := prometheus.NewRegistry()
	gauge := func(name, help string, value func(s *fleet.State) float64) {
		registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Namespace: "hodstone", Subsystem: "load", Name: name, Help: help},
			func() float64 { s := l.State(); return value(&s) }))
	}
	second := func(s *fleet.State) fleet.Second {
		if n := len(s.Result.Seconds); n > 0 {
			return s.Result.Seconds[n-1]
		}
		return fleet.Second{}
	}
	sum := func(s *fleet.State, of func(*fleet.StepResult) int64) (n float64) {
		for i := range s.Result.Steps {
			n += float64(of(&s.Result.Steps[i]))
		}
		return n + float64(of(&s.Under))
	}
	gauge("clients", "Clients that are connected.", func(s *fleet.State) float64 { return float64(s.Under.In) })
	gauge("asked_messages_per_second", "Messages a second asked for.", func(s *fleet.State) float64 { return second(s).Asked })
	gauge("round_trip_p50_seconds", "Median round trip in the last second.", func(s *fleet.State) float64 { return second(s).P50.Seconds() })
	gauge("round_trip_p99_seconds", "99th percentile of round trips in the last second.", func(s *fleet.State) float64 { return second(s).P99.Seconds() })
	gauge("missing_messages", "Messages under way, or lost.", func(s *fleet.State) float64 { return float64(second(s).Missing) })
	gauge("generator_cores", "Cores that the generator uses.", func(s *fleet.State) float64 { return second(s).CPU })
	for name, of := range map[string]func(*fleet.StepResult) int64{
		"sent_messages":       func(s *fleet.StepResult) int64 { return s.Sent },
		"received_messages":   func(s *fleet.StepResult) int64 { return s.Received },
		"duplicated_messages": func(s *fleet.StepResult) int64 { return s.Duplicated },
		"acknowledgements":    func(s *fleet.StepResult) int64 { return s.Acked },
	} {
		registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Namespace: "hodstone", Subsystem: "load", Name: name + "_total",
			Help: strings.ReplaceAll(name, "_", " ")}, func() float64 { s := l.State(); return sum(&s, of) }))
	}
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	const within = 5 * time.Second
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: within}
	go srv.Serve(ln)
	return func() { srv.Close() }, nil
}
