package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract/draft"
	"hodstone/internal/expression"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/plain"
	"hodstone/internal/record"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// draftFlags are those of contract draft.
type draftFlags struct {
	session session
	filter  string
	out     string
	wait    time.Duration
	json    bool
}

// drafted is a draft in JSON.
type drafted struct {
	From     string              `json:"from"`
	Until    string              `json:"until"`
	Messages int                 `json:"messages"`
	Topics   int                 `json:"topics"`
	Clauses  int                 `json:"clauses"`
	Contract expression.Object   `json:"contract"`
	Notes    map[string][]string `json:"notes"`
	Outliers []string            `json:"outliers"`
	Left     []string            `json:"left_out"`
}

func (e *Env) contractDraft() *cobra.Command {
	f := &draftFlags{}
	c := &cobra.Command{
		Use:   "draft WHERE",
		Short: "Draft a contract from traffic: a broker's, or that of a record",
		Long: `Draft a contract from traffic. WHERE is a record, the URL of a broker, or a workspace (WORKSPACE or
WORKSPACE#BROKER). A broker is listened to for the time of --for; a stand-in's clients are seen by their
own packets then, which tells who publishes and who consumes.

What is written is a workspace to tidy: each line says how often it held, doubts begin with "# ?", and
what lies far outside of the rest is listed as a possible breach.

Exit code 0: drafted; 1: nothing was seen; 2: wrong use; 3: not reached.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error { return e.runDraft(c.Context(), f, args[0]) },
	}
	fl := c.Flags()
	f.session.flags(fl)
	fl.DurationVar(&f.wait, "for", 30*time.Second, "how long to listen to a broker")
	fl.StringVar(&f.filter, "filter", "#", "what to listen to")
	fl.StringVar(&f.out, "out", "", "write into this file, which must be new, in place of the output")
	fl.BoolVar(&f.json, "json", false, "write the contract and what there is to tell of it as JSON")
	return c
}

func (e *Env) runDraft(ctx context.Context, f *draftFlags, where string) error {
	t, brokers, err := e.traffic(ctx, f, where)
	if err != nil {
		return err
	}
	if t.Messages == 0 {
		return &exit{exitBroken, errors.New("no message was seen: is anybody publishing, and may this login read it? 'hodstone reach' tells")}
	}
	r := t.Write(draft.Options{})
	if f.json {
		out := drafted{From: t.From.Format(time.RFC3339Nano), Until: t.Until.Format(time.RFC3339Nano), Messages: t.Messages,
			Topics: t.Topics(), Clauses: r.Clauses, Contract: r.Contract, Notes: r.Notes, Outliers: notNil(r.Outliers), Left: notNil(r.Left)}
		return broken(writeJSON(e.Out, out))
	}
	text := draftText(t, r, where, brokers)
	if f.out == "" {
		_, err := fmt.Fprint(e.Out, text)
		return broken(err)
	}
	if err := writeNew(f.out, text); err != nil {
		return err
	}
	if len(text) > workspace.MaxFileSize {
		plain.Fprintf(e.ErrOut, "%s has %d bytes: a workspace has at most %d, so it must be split before it can be read; --filter drafts a part\n",
			f.out, len(text), workspace.MaxFileSize)
	}
	_, err = plain.Fprintf(e.Out, "%s: %s from %s on %s\n", f.out, plain.Count(r.Clauses, "clause"), plain.Count(t.Messages, "message"), plain.Count(t.Topics(), "topic"))
	return broken(err)
}

func notNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// broken is an error of the output.
func broken(err error) error {
	if err != nil {
		return &exit{exitBroken, err}
	}
	return nil
}

// writeNew writes a file that is not there yet.
func writeNew(name, text string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return usage("%s is there already: name another, or move it away", name)
	}
	if err != nil {
		return &exit{exitUsage, fmt.Errorf("cannot write: %w", err)}
	}
	_, err = file.WriteString(text)
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return &exit{exitUsage, fmt.Errorf("cannot write: %w", err)}
	}
	return nil
}

// draftText is a workspace with a drafted contract.
func draftText(t *draft.Traffic, r *draft.Result, where string, brokers expression.Object) string {
	var b strings.Builder
	line := func(format string, args ...any) {
		fmt.Fprintf(&b, "# %s\n", plain.OneLine(fmt.Sprintf(format, args...)))
	}
	line("Drafted from %s of %s on %s within %s, from %s.", plain.Count(t.Messages, "message"), filepath.Base(where), plain.Count(t.Topics(), "topic"),
		t.Until.Sub(t.From).Round(time.Second), t.From.Format("2006-01-02 15:04:05"))
	line("Behind each line stands how often it held; doubts begin with ?. Take the remarks away as you go.")
	for i, o := range r.Outliers {
		if i == 0 {
			line("? These lie far outside of the rest, and may be breaches:")
		}
		line("?   %s", o)
	}
	for i, o := range r.Left {
		if i == 0 {
			line("Left out:")
		}
		line("  %s", o)
	}
	whole := expression.Object{{Key: "hodstone", Value: 1}}
	if len(brokers) > 0 {
		whole = append(whole, expression.Member{Key: "brokers", Value: brokers})
	}
	whole = append(whole, expression.Member{Key: "contract", Value: r.Contract})
	notes := workspace.Comments{}
	for at, n := range r.Notes {
		notes["/contract"+at] = n
	}
	return b.String() + workspace.YAML(whole, 0, notes)
}

// traffic collects what a contract is to be drafted of, and the brokers that the workspace gets.
func (e *Env) traffic(ctx context.Context, f *draftFlags, where string) (*draft.Traffic, expression.Object, error) {
	if info, err := os.Stat(where); err == nil && info.Mode().IsRegular() && !isYAML(where) {
		file, err := record.Open(where)
		if err != nil {
			return nil, nil, &exit{exitUsage, err}
		}
		defer file.Close()
		slow := slowly(e.ErrOut, tellAfter)
		slow.doing("reading " + where)
		t, err := workbench.DraftFrom(ctx, file)
		slow.doing("")
		if err == nil {
			err = file.Err()
		}
		if err != nil {
			return nil, nil, &exit{exitBroken, err}
		}
		return t, nil, nil
	}
	return e.listen(ctx, f, where)
}

func isYAML(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return ext == ".yaml" || ext == ".yml"
}

// listen collects what comes by at a broker for a time.
func (e *Env) listen(ctx context.Context, f *draftFlags, where string) (*draft.Traffic, expression.Object, error) {
	p, err := e.find(&f.session, where)
	if err != nil {
		return nil, nil, err
	}
	defer p.close()
	log := trace.NewLog(commandTrace)
	var players map[string]workbench.Player
	if p.bench != nil {
		log, players = p.bench.Log, p.bench.Players()
	}
	rec := trace.NewRecorder(trace.Source{Client: watchName, Role: trace.RoleObserver, Broker: p.name, Version: p.options.Version}, log)
	p.options.Hooks = rec.Hooks()
	c := client.New(p.options)
	if _, err := c.Connect(ctx); err != nil {
		return nil, nil, &exit{exitNotReached, fmt.Errorf("not reached: %w", err)}
	}
	defer c.Disconnect(0)
	five := p.options.Version == packet.V5
	ack, err := c.Subscribe(ctx, []packet.Subscription{{Filter: f.filter, QoS: 2, RetainAsPublished: five}})
	if err == nil && ack.Codes[0] >= 0x80 {
		err = fmt.Errorf("the subscription to %s was refused: %s", f.filter, ack.Codes[0].In(packet.SUBACK, p.options.Version))
	}
	if err != nil {
		return nil, nil, &exit{exitNotReached, err}
	}
	if p.bench != nil && p.standIn {
		p.bench.Start() // its devices: a stand-in has nobody else
	}
	d := workbench.NewDrafter(players, watchName)
	slow := slowly(e.ErrOut, tellAfter)
	defer slow.doing("")
	until := time.Now().Add(f.wait)
	slow.doing(fmt.Sprintf("listening to %s until %s", p.name, until.Format("15:04:05")))
	for next := uint64(1); ; {
		events, missed := log.Read(next, 2000)
		next += uint64(len(events)) + missed
		d.Take(events)
		if len(events) > 0 {
			continue
		}
		if ctx.Err() != nil {
			return nil, nil, &exit{exitBroken, context.Cause(ctx)}
		}
		if time.Now().After(until) || !c.Connected() {
			break
		}
		wait, cancel := context.WithTimeout(ctx, watchTick)
		log.Wait(wait, next)
		cancel()
	}
	if strings.Contains(where, "://") {
		return d.Traffic, expression.Object{{Key: "site", Value: expression.Object{{Key: "listeners",
			Value: expression.Object{{Key: "found", Value: expression.Object{{Key: "url", Value: withoutLogin(where)}}}}}}}}, nil
	}
	return d.Traffic, nil, nil
}

// withoutLogin takes user name and password out of a URL.
func withoutLogin(url string) string {
	scheme, rest, ok := strings.Cut(url, "://")
	if at := strings.LastIndex(rest, "@"); ok && at >= 0 {
		return scheme + "://" + rest[at+1:]
	}
	return url
}
