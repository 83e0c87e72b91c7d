package cli

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/proof/explore"
	"hodstone/internal/report"
)

// explore explores the broker that a command names, and tells what came of it.
func (e *Env) explore(ctx context.Context, f *proveFlags, t proof.Target, o proof.Options) error {
	if f.check != "" || f.onTopics || f.baseline != "" || f.tables != "" {
		return usage(
			"--check, --on-contract-topics, --baseline and --tables do not go with --explore: conversations are made at random",
		)
	}
	if !t.StandIn && !t.Intrusive {
		return usage(
			"exploring throws clients out and cuts links, its own ones alone, and by the hundred: --intrusive, or intrusive: allowed on the broker, lets it do so here",
		)
	}
	files, err := f.products()
	if err != nil {
		return err
	}
	defer abandon(files)
	if f.seed == 0 {
		f.seed = rand.Uint64N(1_000_000)
	}
	if !f.json {
		plain.Fprintf(e.Out, "%s, %s, seed %d, for %s\n\n", t.Broker, t.Listener, f.seed, f.explore)
	}
	slow := slowly(e.ErrOut, tellAfter)
	start := time.Now()
	r, err := explore.Run(
		ctx,
		t,
		explore.Options{For: f.explore, Seed: f.seed, Versions: o.Versions, Findings: mostFindings,
			Told: func(p explore.Progress) {
				text := p.Doing
				if text == "" {
					text = fmt.Sprintf(
						"exploring: %d conversations, %s left",
						p.Conversations,
						max(0, f.explore-p.Took).Round(time.Second),
					)
				}
				slow.doing(text)
			}},
	)
	slow.doing("")
	if err != nil {
		var shut *proof.NotLetInError
		if errors.As(err, &shut) || errors.Is(err, proof.ErrNotReached) {
			return &exit{exitNotReached, err}
		}
		return &exit{exitUsage, err}
	}
	p := explore.AsProof(t, r, start)
	if f.json {
		if err := report.JSON(e.Out, p); err != nil {
			return err
		}
	} else {
		e.tellExplored(p, r)
	}
	var failed error
	for i := range files {
		failed = errors.Join(failed, files[i].write(p))
	}
	if failed != nil {
		return failed
	}
	return e.judged(f, p, nil)
}

// mostFindings is how many different rules a run looks for that are broken.
const mostFindings = 10

// tellExplored writes what came of it: each finding with its steps and packets.
func (e *Env) tellExplored(p *proof.Proof, r *explore.Report) {
	for i := range p.Results {
		res := &p.Results[i]
		fmt.Fprint(e.Out, report.Line(res))
		for k, s := range res.Steps {
			plain.Fprintf(e.Out, "    %2d  %s\n", k+1, s.Text)
		}
		for k := range res.Evidence {
			x := &res.Evidence[k]
			if x.Packet == nil {
				continue
			}
			mark := " "
			if slices.Contains(res.Decisive, x.Seq) {
				mark = "◆"
			}
			plain.Fprintf(
				e.Out,
				"      %s %+.3f s  %-6s %-8s %s\n",
				mark,
				x.At.Sub(res.At).Seconds(),
				x.Client,
				report.WayOf(x.Kind),
				x.Describe(),
			)
		}
	}
	tried, all, not := r.Pairs()
	plain.Fprintf(
		e.Out,
		"\n%d conversations with %d actions in %.1f s; %d of %d pairs of actions were tried",
		r.Conversations,
		r.Actions,
		r.Took.Seconds(),
		tried,
		all,
	)
	if len(not) > 0 {
		var words []string
		for _, x := range not[:min(len(not), 8)] {
			words = append(words, fmt.Sprintf("%s, then %s", x[0], x[1]))
		}
		plain.Fprintf(e.Out, ", not %s", strings.Join(words, "; "))
		if len(not) > 8 {
			plain.Fprintf(e.Out, " and %d more", len(not)-8)
		}
	}
	plain.Fprintln(e.Out)
	for _, x := range r.Unshown {
		plain.Fprintf(e.Out, "seen once and not again, so not told as a finding: %s\n", x)
	}
}
