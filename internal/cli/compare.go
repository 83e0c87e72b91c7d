package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract/compare"
	"hodstone/internal/plain"
	"hodstone/internal/workspace"
)

// changeRecord is a change in JSON.
type changeRecord struct {
	Kind   string        `json:"kind"`
	What   string        `json:"what"`
	On     string        `json:"on"`
	Key    string        `json:"key,omitempty"`
	Old    string        `json:"old,omitempty"`
	New    string        `json:"new,omitempty"`
	Breaks []breakRecord `json:"breaks"`
}

type breakRecord struct {
	Party string `json:"party"`
	Role  string `json:"role"`
	Why   string `json:"why"`
}

// compared is a comparison in JSON.
type compared struct {
	Old     string         `json:"old"`
	New     string         `json:"new"`
	Changes []changeRecord `json:"changes"`
	Breaks  []string       `json:"breaks"` // the parties
}

func (e *Env) contractCompare() *cobra.Command {
	var base, format string
	var asJSON bool
	c := &cobra.Command{
		Use:   "compare OLD NEW",
		Short: "Tell what changed from one contract to another, and who breaks by it",
		Long: `Tell what changed from the contract of one workspace to that of another: what was added and removed,
what is widened (more passes than before) and narrowed (less), and for each change who breaks by it as
long as it keeps to the old contract.

With --base REVISION there is one workspace, and OLD is what the git repository that it stands in has of
it at that revision.

Exit code 0: nobody breaks; 1: somebody does; 2: wrong use.`,
		Args: func(c *cobra.Command, args []string) error {
			if base != "" {
				return cobra.ExactArgs(1)(c, args)
			}
			return cobra.ExactArgs(2)(c, args)
		},
		RunE: func(c *cobra.Command, args []string) error {
			if asJSON {
				format = "json"
			}
			if !slices.Contains([]string{"text", "json", "markdown"}, format) {
				return usage("--format is text, json or markdown, not %q", format)
			}
			return e.runCompare(c.Context(), args, base, format)
		},
	}
	c.Flags().StringVar(&base, "base", "", "compare with this revision of the git repository: HEAD, main, v1.2")
	c.Flags().StringVar(&format, "format", "text", "text, json or markdown")
	c.Flags().BoolVar(&asJSON, "json", false, "the same as --format json")
	return c
}

func (e *Env) runCompare(ctx context.Context, args []string, base, format string) error {
	now, err := soundContract(args[len(args)-1])
	if err != nil {
		return err
	}
	var old *workspace.Workspace
	shown := args[0]
	if base == "" {
		old, err = soundContract(args[0])
	} else {
		shown = base + ":" + filepath.Base(now.File)
		old, err = atRevision(ctx, now.File, base)
	}
	if err != nil {
		return err
	}
	out := compared{Old: shown, New: args[len(args)-1], Changes: []changeRecord{}, Breaks: []string{}}
	for _, x := range compare.Contracts(old.Contract, now.Contract) {
		r := changeRecord{Kind: string(x.Kind), What: x.What, On: x.On, Key: x.Key, Old: x.Old, New: x.New, Breaks: []breakRecord{}}
		for _, b := range x.Breaks {
			r.Breaks = append(r.Breaks, breakRecord(b))
			if !slices.Contains(out.Breaks, b.Party) {
				out.Breaks = append(out.Breaks, b.Party)
			}
		}
		out.Changes = append(out.Changes, r)
	}
	slices.Sort(out.Breaks)
	switch format {
	case "json":
		err = writeJSON(e.Out, out)
	case "markdown":
		err = e.writeComparedMarkdown(out)
	default:
		err = e.writeCompared(out)
	}
	if err != nil {
		return broken(err)
	}
	if len(out.Breaks) > 0 {
		return &exit{exitBroken, nil}
	}
	return nil
}

// words is a change in words, without who breaks.
func (r changeRecord) words() string {
	x := compare.Change{Kind: compare.Kind(r.Kind), What: r.What, On: r.On, Key: r.Key, Old: r.Old, New: r.New}
	return x.String()
}

// sum says in a line how it ends.
func (c compared) sum() string {
	s := plain.Count(len(c.Changes), "change")
	if len(c.Breaks) == 0 {
		return s + ", nobody breaks"
	}
	return s + ", by which these break: " + strings.Join(c.Breaks, ", ")
}

func (e *Env) writeCompared(out compared) error {
	for _, r := range out.Changes {
		sign := " "
		if len(r.Breaks) > 0 {
			sign = "✗"
		}
		plain.Fprintf(e.Out, "%s %s\n", sign, r.words())
		for _, b := range r.Breaks {
			plain.Fprintf(e.Out, "    breaks %s, as %s: %s\n", b.Party, b.Role, b.Why)
		}
	}
	_, err := plain.Fprintf(e.Out, "%s to %s: %s\n", out.Old, out.New, out.sum())
	return err
}

// cell writes a text into a cell of a Markdown table.
func cell(s string) string {
	return strings.NewReplacer("|", `\|`, "<", "&lt;", "`", "'", "\n", " ").Replace(plain.OneLine(s))
}

func (e *Env) writeComparedMarkdown(out compared) error {
	plain.Fprintf(e.Out, "# From %s to %s\n\n%s.\n", cell(out.Old), cell(out.New), cell(out.sum()))
	if len(out.Changes) == 0 {
		return nil
	}
	_, err := plain.Fprintf(e.Out, "\n| what | kind | was | is | breaks |\n|---|---|---|---|---|\n")
	for _, r := range out.Changes {
		what := r.What + " " + r.On
		if r.Key != "" {
			what += ", " + r.Key
		}
		var breaks []string
		for _, b := range r.Breaks {
			breaks = append(breaks, fmt.Sprintf("%s (%s): %s", b.Party, b.Role, b.Why))
		}
		_, err = plain.Fprintf(e.Out, "| %s | %s | %s | %s | %s |\n", cell(what), r.Kind, cell(r.Old), cell(r.New), cell(strings.Join(breaks, "; ")))
	}
	return err
}

// gitPatience is how long git may take for all files of a workspace.
const gitPatience = 30 * time.Second

// atRevision opens a workspace as the git repository has it at a revision, with the files beside it.
func atRevision(ctx context.Context, file, revision string) (*workspace.Workspace, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, gitPatience, errors.New("git took too long"))
	defer cancel()
	dir := filepath.Dir(file)
	git := func(args ...string) ([]byte, error) {
		cmd := exec.CommandContext(ctx, "git", append([]string{"-C", dir}, args...)...)
		var told bytes.Buffer
		cmd.Stderr = &told
		out, err := cmd.Output()
		if ctx.Err() != nil {
			return nil, &exit{exitBroken, context.Cause(ctx)}
		}
		if err != nil {
			text := strings.TrimSpace(told.String())
			if text == "" {
				text = err.Error()
			}
			return nil, usage("git does not have %s at %s: %s", filepath.Base(file), revision, text)
		}
		return out, nil
	}
	if strings.HasPrefix(revision, "-") {
		return nil, usage("%q is no revision", revision)
	}
	if _, err := git("rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}"); err != nil {
		return nil, usage("git knows no revision %s there", revision)
	}
	list, err := git("ls-tree", "-r", "-z", "--name-only", "--end-of-options", revision, "./")
	if err != nil {
		return nil, err
	}
	kept, err := os.MkdirTemp("", "hodstone-*")
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	defer os.RemoveAll(kept)
	folder, err := os.OpenRoot(kept)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	defer folder.Close()
	n := 0
	for name := range strings.SplitSeq(string(list), "\x00") {
		if name == "" || !wanted(name, filepath.Base(file)) || n > maxRevisionFiles {
			continue
		}
		b, err := git("show", "--end-of-options", revision+":./"+name)
		if err != nil {
			return nil, err
		}
		if err = folder.MkdirAll(path.Dir(path.Clean(name)), 0o700); err == nil {
			err = folder.WriteFile(path.Clean(name), b, 0o600)
		}
		if err != nil {
			return nil, &exit{exitUsage, err}
		}
		n++
	}
	w, err := workspace.Read(folder.FS(), filepath.Base(file), revision+":"+filepath.Base(file))
	if err != nil {
		return nil, usage("git has no %s at %s", filepath.Base(file), revision)
	}
	// Credentials are not kept there: what is wrong with them says nothing of the contract.
	for _, p := range w.Problems {
		if len(w.Contract.Clauses) == 0 {
			return nil, usage("%s has problems: %s", p.File, p.Message)
		}
	}
	return w, nil
}

// maxRevisionFiles is how many files of a revision are looked at.
const maxRevisionFiles = 500

// wanted tells whether a file may be one that a contract refers to.
func wanted(name, file string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".yaml", ".yml", ".json", ".proto":
		return true
	}
	return name == file
}
