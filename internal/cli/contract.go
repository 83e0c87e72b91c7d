package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"

	"github.com/spf13/cobra"

	"hodstone/internal/contract/lint"
	"hodstone/internal/plain"
	"hodstone/internal/workspace"
)

func (e *Env) contract() *cobra.Command {
	c := &cobra.Command{Use: "contract", Short: "Work on the contract of a workspace"}
	c.AddCommand(e.contractCheck(), e.contractDraft(), e.contractCompare(), e.contractImport(), e.contractExport(), e.judge())
	return c
}

// problemRecord is what is wrong in a workspace, in JSON.
type problemRecord struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
}

// findingRecord is what a lint found, in JSON.
type findingRecord struct {
	Lint     string `json:"lint"`
	On       string `json:"on"`
	What     string `json:"what"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Message  string `json:"message"`
	Why      string `json:"why"`
	Way      string `json:"way_out"`
	Accepted string `json:"accepted,omitempty"`
}

// checked is what 'contract check' found, in JSON.
type checked struct {
	File     string          `json:"file"`
	Clauses  int             `json:"clauses"`
	Parties  int             `json:"parties"`
	Devices  int             `json:"devices"`
	Brokers  int             `json:"brokers"`
	Problems []problemRecord `json:"problems"`
	Findings []findingRecord `json:"findings"`
}

func (e *Env) contractCheck() *cobra.Command {
	var asJSON, lints, all bool
	c := &cobra.Command{
		Use:   "check WORKSPACE",
		Short: "Read a workspace and tell what is wrong, and what will cause trouble",
		Long: `Read a workspace and tell what is wrong, with line and column, and what is sound and will cause
trouble (findings), each with a reason and a way out. A finding that is to stay is written into the
contract: accepted: [{lint: NAME, clause: CLAUSE, because: …}].

Exit code 0: no problem, and no finding that is not accepted; 1: some; 2: it cannot be read at all.`,
		Args: func(c *cobra.Command, args []string) error {
			if lints {
				return cobra.NoArgs(c, args)
			}
			return cobra.ExactArgs(1)(c, args)
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if lints {
				return e.listLints()
			}
			w, err := openWorkspace(args[0])
			if err != nil {
				return err
			}
			findings := w.Findings()
			open := 0
			for _, f := range findings {
				if f.Accepted == "" {
					open++
				}
			}
			if asJSON {
				err = e.writeCheckedJSON(w, findings)
			} else {
				err = e.writeChecked(w, findings, open, all)
			}
			if err != nil {
				return &exit{exitBroken, err}
			}
			if len(w.Problems)+open > 0 {
				return &exit{exitBroken, nil}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "write one JSON document")
	c.Flags().BoolVar(&lints, "lints", false, "list the lints, with what each finds and why")
	c.Flags().BoolVar(&all, "all", false, "write findings that are accepted, too")
	return c
}

func (e *Env) listLints() error {
	var err error
	for _, l := range lint.All() {
		_, err = plain.Fprintf(e.Out, "%s\n    %s\n    way out: %s\n", l.Name, l.Doc, l.Way)
	}
	return err
}

// fileOf is the path of a file of the workspace's.
func fileOf(w *workspace.Workspace, beside string) string {
	if beside == "" {
		return w.File
	}
	return filepath.Join(filepath.Dir(w.File), filepath.FromSlash(beside))
}

func devicesOf(w *workspace.Workspace) (n int) {
	for _, d := range w.Devices {
		n += max(1, d.Count)
	}
	return n
}

func (e *Env) writeChecked(w *workspace.Workspace, findings []lint.Finding, open int, all bool) error {
	for _, p := range w.Problems {
		plain.Fprintf(e.Out, "%s\n\n", plain.Lines(p.Error()))
	}
	for _, f := range findings {
		if f.Accepted != "" && !all {
			continue
		}
		plain.Fprintf(e.Out, "%s:%d: %s [%s]\n", fileOf(w, f.File), f.Line, f.Message, f.Lint.Name)
		if f.Accepted != "" {
			plain.Fprintf(e.Out, "  accepted: %s\n\n", f.Accepted)
			continue
		}
		plain.Fprintf(e.Out, "  why: %s\n  way out: %s\n\n", f.Lint.Doc, f.Way)
	}
	found := plain.Count(open, "finding")
	if n := len(findings) - open; n > 0 {
		found += fmt.Sprintf(" and %d accepted", n)
	}
	_, err := plain.Fprintf(
		e.Out,
		"%s: %s between %s, %s, %s; %s, %s\n",
		w.File,
		plain.Count(len(w.Contract.Clauses), "clause"),
		plain.Count(len(w.Contract.Parties), "party"),
		plain.Count(devicesOf(w), "device"),
		plain.Count(len(w.Brokers), "broker"),
		plain.Count(len(w.Problems), "problem"),
		found,
	)
	return err
}

func (e *Env) writeCheckedJSON(w *workspace.Workspace, findings []lint.Finding) error {
	out := checked{File: w.File, Clauses: len(w.Contract.Clauses), Parties: len(w.Contract.Parties),
		Devices: devicesOf(w), Brokers: len(w.Brokers), Problems: []problemRecord{}, Findings: []findingRecord{}}
	for _, p := range w.Problems {
		out.Problems = append(out.Problems, problemRecord{p.File, p.Line, p.Column, p.Message, p.Hint})
	}
	for _, f := range findings {
		out.Findings = append(out.Findings, findingRecord{f.Lint.Name, f.On, f.What, fileOf(w, f.File), f.Line, f.Message,
			f.Lint.Doc, f.Way, f.Accepted})
	}
	return writeJSON(e.Out, out)
}

// writeJSON writes a value as one JSON document on lines of its own.
func writeJSON(to io.Writer, v any) error {
	enc := json.NewEncoder(to)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
