package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/draw"
	"hodstone/internal/fleet"
	"hodstone/internal/infile"
	"hodstone/internal/plain"
	"hodstone/internal/report"
	"hodstone/internal/workbench"
)

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
	files, err := f.products(over)
	if err != nil {
		return err
	}
	defer abandon(files)
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
	return e.loadEnds(f.json, r, files)
}

// progress shows a line that is written over, where a person looks on.
func (e *Env) progress(format string, args ...any) {
	if e.Terminal {
		plain.Fprintf(e.ErrOut, "\r\x1b[K%s", fmt.Sprintf(format, args...))
	}
}

// quietLoad is how long nothing is written where nobody looks on, and no step ends.
const quietLoad = 15 * time.Second

// tellLoad tells of the steps as they end, and between of how it stands, until done is sent to; then it closes it.
func (e *Env) tellLoad(l *workbench.Loader, done chan struct{}, lines bool) {
	defer close(done)
	told := 0
	began := time.Now()
	said := began // when a line was written last
	steps := func() {
		s := l.State()
		for ; told < len(s.Result.Steps); told++ {
			if lines {
				e.progress("")
				plain.Fprintln(e.Out, report.LoadStepLine(told, &s.Result.Steps[told], s.Result.Bound != ""))
				said = time.Now()
			}
		}
		left := ""
		if d := l.Length() - time.Since(began); d > 0 && s.Result.Found == nil {
			left = ", about " + d.Round(time.Second).String() + " left"
		}
		u := &s.Under
		line := fmt.Sprintf("%s: %d in, %d sent, %d received%s", s.Doing, u.In, u.Sent, u.Received, left)
		if e.progress("%s", line); !e.Terminal && time.Since(said) >= quietLoad {
			plain.Fprintln(e.ErrOut, line)
			said = time.Now()
		}
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

// products begins the files that are asked for. over is the result that is drawn under the new one; nil for none.
func (f *loadFlags) products(over *fleet.Result) ([]product[fleet.Result], error) {
	if f.drawing != "" {
		if err := draw.Writable(f.drawing); err != nil {
			return nil, usage("--drawing: %w", err)
		}
	}
	return begun(
		product[fleet.Result]{name: f.out, what: "the result", make: report.WriteLoadJSON},
		product[fleet.Result]{name: f.csv, what: "the seconds", make: report.WriteLoadCSV},
		product[fleet.Result]{name: f.drawing, what: "the drawing", make: func(w io.Writer, r *fleet.Result) error {
			d, err := report.LoadDrawing(cmp.Or(r.Target, "load"), r, over)
			if err != nil {
				return err
			}
			return d.Write(w, f.drawing)
		}},
	)
}

// loadEnds writes what a load came to, and says so by the exit code.
func (e *Env) loadEnds(asJSON bool, r *fleet.Result, files []product[fleet.Result]) error {
	if asJSON {
		if err := report.WriteLoadJSON(e.Out, r); err != nil {
			return err
		}
	} else {
		plain.Fprintln(e.Out)
		for _, line := range report.LoadSummary(r) {
			plain.Fprintln(e.Out, line)
		}
	}
	var unwritten []error
	for i := range files {
		unwritten = append(unwritten, files[i].write(r))
	}
	if err := errors.Join(unwritten...); err != nil {
		return usage("%w", err)
	}
	switch {
	case r.Total.Connect.Count == 0 && r.Total.Clients > 0:
		return &exit{exitNotReached, errors.New("nobody got in: 'hodstone reach' tells why")}
	case r.Stopped:
		return &exit{exitBroken, errors.New("stopped")}
	case len(r.Absent) > 0 && r.BrokeAt() < 0:
		return &exit{exitBroken, fmt.Errorf("parts are absent: %s", report.LoadAbsent(r))}
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
			files, err := f.products(nil)
			if err != nil {
				return err
			}
			defer abandon(files)
			if !f.json {
				plain.Fprintln(e.Out, report.LoadStepHead())
				for i := range r.Steps {
					plain.Fprintln(e.Out, report.LoadStepLine(i, &r.Steps[i], r.Bound != ""))
				}
			}
			return e.loadEnds(f.json, r, files)
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
