package cli

import (
	"context"
	"crypto/tls"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/plain"
	"hodstone/internal/report"
	"hodstone/internal/tap"
	"hodstone/internal/trace"
	"hodstone/internal/trust"
)

// tapFlags are the options of tap.
type tapFlags struct {
	access
	recording
	listen, rules          []string
	to                     string
	ownCertificate, ownKey string
	caFile                 string
	unread, json, quiet    bool
}

func (e *Env) tap() *cobra.Command {
	f := &tapFlags{}
	c := &cobra.Command{
		Use:   "tap --listen URL --to URL",
		Short: "Stand between a real device and its broker: see every packet, and disturb them",
		Long: `Stand between real devices and their broker until it is interrupted: a device dials the tap in place of its broker, and the
tap dials the broker. What either says goes through byte for byte, over TCP, TLS and WebSocket in any mix, and is shown and
recorded under the device's client identifier. For TLS the tap makes a certificate at every start (--ca-file writes the CA
that the device has to trust), or has one of yours; --unread passes TLS through unread, and shows only bytes and times.

Rules disturb it, each {ACTION: PACKET-TYPE or all, …}:
  {delay: PUBLISH, by: 200ms}                {throttle: all, rate: 1000}           {drop: PUBACK, toward: device, nth: 3}
  {repeat: PUBLISH, times: 2}                {reorder: PUBLISH, most: 1}           {alter: PUBLISH, qos: 0, retain: true, payload: x}
  {cut: PUBLISH, client: pen-2, most: 1}     {freeze: all, for: 30s}               {refuse: CONNECT, code: 0x89}
  {split: all, toward: device, by: 1ms}      {gather: PUBLISH, times: 5, by: 1s}   {repeat: PUBLISH, times: 2, dup: true}
  {alter: CONNACK, grants: {receive-maximum: 1, maximum-qos: 0}}
toward (device or broker), client (a pattern), topic (a filter), nth, most, for and name go with each.

It takes commands on standard input, a line each:
  rules            the rules that are on, and how often each acted
  rule {…}         another rule
  clear            no rules any more
  quit`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return e.runTap(c.Context(), f) },
	}
	fl := c.Flags()
	fl.StringArrayVar(
		&f.listen,
		"listen",
		nil,
		"where devices dial: a URL of mqtt, mqtts, ws, wss or unix; port 0 lets the system choose; may be given several times",
	)
	fl.StringVar(&f.to, "to", "", "the broker: mqtt://, mqtts://, ws://, wss:// or unix:///PATH")
	fl.StringArrayVar(&f.rules, "rule", nil, "disturb what goes through; may be given several times")
	fl.StringVar(
		&f.ownCertificate,
		"own-certificate",
		"",
		"show devices this certificate of your own, in place of one that is made",
	)
	fl.StringVar(&f.ownKey, "own-key", "", "with --own-certificate: the file with its key, where it is another")
	fl.StringVar(&f.caFile, "ca-file", "", "write the CA of the certificate that is made to this file, in PEM")
	fl.BoolVar(&f.unread, "unread", false, "pass everything through without looking into it")
	fl.BoolVar(&f.quiet, "quiet", false, "tell who comes and goes and what is disturbed, and no packets")
	fl.BoolVar(&f.json, "json", false, "write JSON documents instead of lines, one to a line")
	fl.StringVar(&f.ca, "ca", "", "with --to over TLS: the file with the CA to trust; the system's roots by default")
	fl.StringVar(
		&f.serverName,
		"server-name",
		"",
		"with --to over TLS: the name that the broker's certificate must hold",
	)
	fl.StringVar(
		&f.certificate,
		"certificate",
		"",
		"with --to over TLS: the file with a client's certificate, for a device cannot show its own through the tap",
	)
	fl.StringVar(&f.key, "key", "", "with --certificate: the file with its key")
	f.recording.flags(fl)
	return c
}

// shown returns the certificate that devices are shown, where one is needed.
func (f *tapFlags) shown() (*tls.Config, error) {
	if f.ownCertificate != "" {
		pair, err := (&access{certificate: f.ownCertificate, key: f.ownKey}).pair()
		if err != nil {
			return nil, err
		}
		return &tls.Config{Certificates: []tls.Certificate{*pair}}, nil
	}
	ca, err := trust.NewAuthority("Hodstone tap")
	if err != nil {
		return nil, err
	}
	var hosts []string
	for _, l := range f.listen {
		if x, err := link.Parse(l); err == nil {
			hosts = append(hosts, x.Host)
		}
	}
	pair, err := ca.Issue(trust.Request{CommonName: "Hodstone tap", Names: trust.LocalNames(hosts...)})
	if err != nil {
		return nil, err
	}
	if f.caFile != "" {
		if err := os.WriteFile(f.caFile, ca.RootPEM(), 0o644); err != nil {
			return nil, usage("the CA cannot be written: %w", err)
		}
	}
	return &tls.Config{Certificates: []tls.Certificate{pair}}, nil
}

func (e *Env) runTap(ctx context.Context, f *tapFlags) (err error) {
	if len(f.listen) == 0 || f.to == "" {
		return usage(
			"say where devices dial and where their broker is: 'hodstone tap --listen mqtt://0.0.0.0:1884 --to mqtt://BROKER'",
		)
	}
	endpoint, dial, err := f.dialURL(f.to)
	if err != nil {
		return err
	}
	var rules []tap.Rule
	for _, text := range f.rules {
		r, err := tap.ParseRule(text)
		if err != nil {
			return usage("--rule: %w", err)
		}
		rules = append(rules, r)
	}
	if f.unread && len(rules) > 0 {
		return usage("--rule needs packets, which --unread does not look for")
	}
	if f.unread && (endpoint.WebSocket || f.certificate+f.ca+f.serverName != "") {
		return usage(
			"--unread passes bytes on as they are: it goes with mqtt:// and mqtts://, and without certificates",
		)
	}
	if f.unread { // TLS is the device's and the broker's
		dial = func(ctx context.Context) (*link.Link, error) { return link.Dial(ctx, "mqtt://"+endpoint.Address) }
	}
	config, err := f.shown()
	if err != nil {
		return err
	}
	log := trace.NewLog(commandTrace)
	seen := &announcer{e: e, json: f.json}
	stopRecord, err := f.recording.start(ctx, e, log, map[string]string{"tap": f.to})
	if err != nil {
		return err
	}
	defer func() {
		if closing := stopRecord(); closing != nil && err == nil {
			err = closing
		}
	}()
	t := tap.New(tap.Options{Dial: dial, Broker: endpoint.Address, Log: log, Unread: f.unread, Announce: seen.tell})
	var showing sync.WaitGroup
	ctx, stop := context.WithCancel(ctx)
	defer func() { stop(); t.Close(); showing.Wait() }()
	for _, l := range f.listen {
		reached, err := t.Listen(l, config)
		if err != nil {
			return usage("--listen: %w", err)
		}
		seen.say(
			map[string]any{"event": "listening", "url": reached, "to": f.to},
			"the tap listens on %s, and dials %s",
			reached,
			f.to,
		)
	}
	t.Set(rules...)
	for _, r := range rules {
		seen.say(map[string]any{"event": "rule", "text": r.String()}, "on: %s", &r)
	}
	if !f.json {
		plain.Fprintln(e.Out, "end it with Ctrl-C")
	}
	if !f.quiet {
		showing.Go(func() { e.showPackets(ctx, log, seen) })
	}
	e.obeyTap(ctx, t, rules, seen)
	return nil
}

// showPackets writes what goes through, until the context ends.
func (e *Env) showPackets(ctx context.Context, log *trace.Log, seen *announcer) {
	next := uint64(1)
	for {
		events, missed := log.Read(next, 1000)
		next += missed + uint64(len(events))
		if missed > 0 {
			seen.say(
				map[string]any{"event": "missed", "events": missed},
				"%d events came faster than they could be shown",
				missed,
			)
		}
		for i := range events {
			ev := &events[i]
			if seen.json {
				seen.mu.Lock()
				report.NewJSONLines(e.Out).Write(ev)
				seen.mu.Unlock()
				continue
			}
			seen.say(nil, "%s", strings.TrimRight(report.EventLine(ev), "\n"))
		}
		if len(events) > 0 {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// obeyTap carries out commands until there are no more and the context ends, or one is to quit.
func (e *Env) obeyTap(ctx context.Context, t *tap.Tap, rules []tap.Rule, out *announcer) {
	for line := range e.commands(ctx) {
		verb, rest, _ := strings.Cut(line, " ")
		switch verb {
		case "":
		case "quit":
			return
		case "clear":
			rules = nil
			t.Set()
			out.say(map[string]any{"event": "rules", "rules": []any{}}, "no rules are on")
		case "rule":
			r, err := tap.ParseRule(rest)
			if err != nil {
				out.say(map[string]any{"event": "error", "text": err.Error()}, "%v", err)
				continue
			}
			rules = append(rules, r)
			t.Set(rules...)
			out.say(map[string]any{"event": "rule", "text": r.String()}, "on: %s", &r)
		case "rules":
			states := t.Rules()
			if len(states) == 0 {
				out.say(map[string]any{"event": "rules", "rules": []any{}}, "no rules are on")
			}
			for _, s := range states {
				over := map[bool]string{true: ", over"}[s.Over]
				out.say(
					map[string]any{"event": "rules", "text": s.String(), "acted": s.Acted, "over": s.Over},
					"%s: acted %d times%s",
					&s.Rule,
					s.Acted,
					over,
				)
			}
		default:
			out.say(
				map[string]any{"event": "error", "text": "unknown command"},
				"there is no command %q: rules, rule {…}, clear or quit",
				verb,
			)
		}
	}
}
