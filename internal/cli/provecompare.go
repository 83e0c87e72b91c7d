package cli

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"hodstone/internal/history"
	"hodstone/internal/infile"
	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/workbench"
)

// weighed writes a comparison; something that got worse is the exit code 1.
func weighed(c *report.Comparison, out io.Writer) error {
	if err := c.Write(out); err != nil {
		return broken(err)
	}
	if c.Count(report.Worse) > 0 {
		return &exit{exitBroken, nil}
	}
	return nil
}

// maxProof is how large a saved proof may be, in bytes.
const maxProof = 64 << 20

// proofsBeside is the file beside a workspace that its proofs are kept in.
func proofsBeside(workspace string) string {
	return strings.TrimSuffix(workspace, filepath.Ext(workspace)) + proofsExt
}

// proofsExt is what the name of a file of proofs ends in.
const proofsExt = ".proofs"

// keeps puts a proof that came to its end beside the workspace, where there is one; that it cannot is told, and changes
// nothing else.
func (e *Env) keeps(ctx context.Context, f *proveFlags, p *proof.Proof) {
	if f.kept == "" || ctx.Err() != nil {
		return
	}
	h, err := history.Open(f.kept)
	if err == nil {
		_, err = workbench.Keep(h, p)
		h.Close()
	}
	if err != nil {
		plain.Fprintf(e.ErrOut, "hodstone: %v: --save FILE keeps it elsewhere\n", err)
	}
}

// listProofs lists what is kept beside a workspace.
func (e *Env) listProofs(path string) error {
	w, err := openWorkspace(path)
	if err != nil {
		return err
	}
	file := proofsBeside(w.File)
	if _, err := os.Stat(file); err != nil {
		return usage("no proof is kept beside %s yet: 'hodstone prove' keeps each", w.File)
	}
	h, err := history.Open(file)
	if err != nil {
		return usage("%w", err)
	}
	defer h.Close()
	list, err := h.List("", "", history.Most)
	if err != nil {
		return usage("%w", err)
	}
	for _, x := range list {
		if _, err := plain.Fprintf(
			e.Out,
			"%s#%d  %s  %s/%s  %s\n",
			file,
			x.ID,
			x.Started.Local().Format("2006-01-02 15:04:05"),
			x.Broker,
			x.Listener,
			x.Summary,
		); err != nil {
			return broken(err)
		}
	}
	return nil
}

// keptProof reads a proof from a file of proofs: FILE.proofs#NUMBER, or the latest of FILE.proofs. is tells whether the
// name is of that form.
func keptProof(name string) (d *report.Document, is bool, err error) {
	file, number, numbered := strings.Cut(name, proofsExt+"#")
	if numbered {
		file += proofsExt
	} else if file = name; filepath.Ext(name) != proofsExt {
		return nil, false, nil
	}
	if _, err := os.Stat(file); err != nil {
		return nil, true, usage("the proof to compare with cannot be read: %w", err)
	}
	h, err := history.Open(file)
	if err != nil {
		return nil, true, usage("%w", err)
	}
	defer h.Close()
	id, err := strconv.ParseInt(number, 10, 64)
	if numbered && err != nil {
		return nil, true, usage(
			"%s: %q is no number of a proof: 'hodstone prove WORKSPACE --history' lists them",
			file,
			number,
		)
	}
	if !numbered {
		list, err := h.List("", "", 1)
		if err != nil || len(list) == 0 {
			return nil, true, usage("%s has no proof yet (%v)", file, err)
		}
		id = list[0].ID
	}
	b, err := h.Document(id)
	if err == nil {
		d, err = report.ReadDocument(bytes.NewReader(b))
	}
	if err != nil {
		return nil, true, usage("%w: 'hodstone prove WORKSPACE --history' lists them", err)
	}
	return d, true, nil
}

// readProof reads a proof that was saved, or kept.
func readProof(name string) (*report.Document, error) {
	if d, is, err := keptProof(name); is {
		return d, err
	}
	b, err := infile.Read(name, maxProof)
	if err != nil {
		return nil, usage("the proof to compare with cannot be read: %w", err)
	}
	d, err := report.ReadDocument(bytes.NewReader(b))
	if err != nil {
		return nil, usage("%s: %w", name, err)
	}
	return d, nil
}

// compare is 'hodstone prove compare'.
func (e *Env) compareProofs() *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use:   "compare BEFORE NOW",
		Short: "What differs between two saved proofs",
		Long: `Compare two proofs that 'hodstone prove --save' has written, or that are kept beside a workspace, as FILE.proofs#NUMBER (the latest
without a number; 'hodstone prove WORKSPACE --history' lists them), of the same broker or of two: what got worse, what
got better, and what was not part of both. A check that was broken and is broken in another way got worse.

Exit code 0: nothing got worse; 1: something did; 2: wrong use.`,
		Args: cobra.ExactArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			before, err := readProof(args[0])
			if err != nil {
				return err
			}
			now, err := readProof(args[1])
			if err != nil {
				return err
			}
			c := report.Compare(before, now)
			if !asJSON {
				return weighed(c, e.Out)
			}
			if err := c.JSON(e.Out); err != nil {
				return broken(err)
			}
			return weighed(c, io.Discard)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "write one JSON document instead of lines")
	return c
}
