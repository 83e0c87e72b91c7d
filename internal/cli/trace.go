package cli

import (
	"bufio"
	"context"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hodstone/internal/plain"
	"hodstone/internal/record"
	"hodstone/internal/report"
	"hodstone/internal/trace"
	"hodstone/internal/workbench"
)

func (e *Env) trace() *cobra.Command {
	c := &cobra.Command{Use: "trace", Short: "Work on a recorded trace"}
	c.AddCommand(e.traceShow(), e.traceExport(), e.traceSequence())
	return c
}

// opened opens a record and a filter.
func opened(path, filter string) (*record.File, trace.Filter, error) {
	f, err := trace.ParseFilter(filter)
	if err != nil {
		return nil, f, &exit{exitUsage, err}
	}
	file, err := record.Open(path)
	if err != nil {
		return nil, f, &exit{exitUsage, err}
	}
	return file, f, nil
}

const filterUse = "only events that fit: " + trace.FilterHelp

func (e *Env) traceShow() *cobra.Command {
	var filter string
	var lines, asJSON bool
	c := &cobra.Command{
		Use:   "show FILE",
		Short: "Open a record on the wire screen, or write it as lines where there is no terminal",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			file, f, err := opened(args[0], filter)
			if err != nil {
				return err
			}
			defer file.Close()
			if e.Terminal && !lines && !asJSON {
				b := workbench.Reopen(file)
				b.Filter = filter
				defer b.Close()
				if err := e.Screens(c.Context(), b); err != nil {
					return &exit{exitUsage, err}
				}
				return nil
			}
			out := bufio.NewWriter(e.Out)
			write := func(ev *trace.Event) error { _, err := plain.Fprintln(out, report.EventLine(ev)); return err }
			if asJSON {
				write = report.NewJSONLines(out).Write
			}
			return e.writeEvents(c.Context(), file, f, write, out.Flush)
		},
	}
	c.Flags().StringVar(&filter, "filter", "", filterUse)
	c.Flags().BoolVar(&lines, "plain", false, "write lines in a terminal too")
	c.Flags().BoolVar(&asJSON, "json", false, "write a JSON document for each event, one to a line")
	return c
}

// writeEvents writes the events that fit.
func (e *Env) writeEvents(
	ctx context.Context,
	file *record.File,
	f trace.Filter,
	write func(*trace.Event) error,
	flush func() error,
) error {
	var failed error
	err := file.Search(ctx, f, 1, func(ev *trace.Event) bool {
		failed = write(ev)
		return failed == nil
	}, nil)
	for _, err := range []error{failed, err, flush()} {
		if err != nil {
			return &exit{exitBroken, err}
		}
	}
	return nil
}

// output opens the file to write to, or standard output for "" and "-": text goes there as all plain
// output does, anything else as it is.
func (e *Env) output(path string, text bool) (w io.Writer, done func() error, err error) {
	if path == "" || path == "-" {
		if text {
			return e.Out, func() error { return nil }, nil
		}
		return e.raw, func() error { return nil }, nil
	}
	file, err := os.Create(path)
	if err != nil {
		return nil, nil, usage("it cannot be written: %w", err)
	}
	return file, file.Close, nil
}

func (e *Env) traceExport() *cobra.Command {
	var filter, format, output string
	c := &cobra.Command{
		Use:   "export FILE --format (jsonl|csv|pcapng)",
		Short: "Write a record in an open format",
		Long: `Write a record as JSON Lines, as CSV (RFC 4180) or as pcapng. In pcapng every connection
is a TCP connection of made-up addresses to port 1883, whatever it really went over, so that
a packet analyser decodes it as MQTT; the real endpoint stands in a comment.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(output), ".")
			}
			if format != "jsonl" && format != "csv" && format != "pcapng" {
				return usage("--format takes jsonl, csv or pcapng, not %q", format)
			}
			file, f, err := opened(args[0], filter)
			if err != nil {
				return err
			}
			defer file.Close()
			w, done, err := e.output(output, format != "pcapng")
			if err != nil {
				return err
			}
			buf := bufio.NewWriter(w)
			var to interface {
				Write(*trace.Event) error
				Close() error
			}
			switch format {
			case "jsonl":
				to = report.NewJSONLines(buf)
			case "csv":
				to = report.NewCSV(buf)
			default:
				if to, err = report.NewPCAP(buf, strings.Join(caption(file, nil, filter), "\n")); err != nil {
					return &exit{exitBroken, err}
				}
			}
			return e.writeEvents(c.Context(), file, f, to.Write, func() error {
				for _, end := range []func() error{to.Close, buf.Flush, done} {
					if err := end(); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
	c.Flags().StringVar(&filter, "filter", "", filterUse)
	c.Flags().StringVar(&format, "format", "", "jsonl, csv or pcapng; by default as the output's name ends")
	c.Flags().StringVarP(&output, "output", "o", "", "the file to write; standard output by default")
	return c
}

// caption says what a record's drawing or export shows.
func caption(file *record.File, events []trace.Event, filter string) (out []string) {
	name := file.Meta["workspace"]
	if name == "" {
		name = file.Path
	}
	out = append(out, name)
	if b := file.Meta["broker"]; b != "" {
		out = append(out, "broker "+b)
	}
	if len(events) > 0 {
		out = append(out, report.Span(events))
	}
	if filter != "" {
		out = append(out, "filter "+filter)
	}
	return out
}

func (e *Env) traceSequence() *cobra.Command {
	var filter, output string
	var clients []string
	c := &cobra.Command{
		Use:   "sequence FILE --output NAME.(svg|pdf)",
		Short: "Draw a record as a sequence: a lane for each client, an arrow for each packet",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if ext := strings.ToLower(filepath.Ext(output)); ext != ".svg" && ext != ".pdf" {
				return usage("--output names a file that ends in .svg or .pdf, not %q", output)
			}
			file, f, err := opened(args[0], filter)
			if err != nil {
				return err
			}
			defer file.Close()
			q := report.Sequence{Lanes: clients}
			err = file.Search(c.Context(), f, 1, func(ev *trace.Event) bool {
				if clients == nil || slices.Contains(clients, ev.Client) {
					q.Events = append(q.Events, *ev)
				}
				return len(q.Events) <= report.MaxSequence
			}, nil)
			if err != nil {
				return &exit{exitBroken, err}
			}
			if len(q.Events) > report.MaxSequence {
				return usage(
					"more than %d events fit; narrow them down with --filter, for instance since:%s",
					report.MaxSequence,
					q.Events[0].At.Format("15:04:05"),
				)
			}
			q.Caption = caption(file, q.Events, filter)
			s, err := q.Draw()
			if err != nil {
				return usage("%w", err)
			}
			w, done, err := e.output(output, false)
			if err != nil {
				return err
			}
			if err := s.Write(w, output); err != nil {
				return usage("%w", err)
			}
			return done()
		},
	}
	c.Flags().StringVar(&filter, "filter", "", filterUse)
	c.Flags().StringSliceVar(&clients, "clients", nil, "only these clients, in this order, separated by commas")
	c.Flags().StringVarP(&output, "output", "o", "", "the drawing's file")
	return c
}
