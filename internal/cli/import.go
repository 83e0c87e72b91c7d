package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"hodstone/internal/contract"
	"hodstone/internal/contract/asyncapi"
	"hodstone/internal/contract/points"
	"hodstone/internal/expression"
	"hodstone/internal/infile"
	"hodstone/internal/plain"
	"hodstone/internal/workspace"
)

// imported is what an import did, in JSON.
type imported struct {
	File    string       `json:"file,omitempty"` // that was changed, or made
	Added   []string     `json:"added"`
	Changed []string     `json:"changed"`
	Same    int          `json:"unchanged"`
	Left    []leftRecord `json:"left"`
}

type leftRecord struct {
	Line  int    `json:"line,omitempty"`
	Point string `json:"point,omitempty"`
	Why   string `json:"why"`
}

func (e *Env) contractImport() *cobra.Command {
	var into, out string
	var pairs []string
	var asJSON bool
	help := ""
	for _, k := range points.Keys {
		help += fmt.Sprintf("  %-10s %s\n", k.Name, k.Doc)
	}
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take a contract in: an AsyncAPI document, or a list of I/O points (CSV)",
		Long: `Take a contract in: an AsyncAPI document of version 3.0 or 2.6 (JSON or YAML), or a list of I/O points as
CSV, whose first row names the columns. What could not be taken over is told, row by row.

Without --into, a new workspace goes to the output or into --out. With --into WORKSPACE its contract gets the
clauses: those that are new are added, those that differ are changed where they do, all else stays as it is, with
its comments. Importing a changed list again changes only what changed.

What a list's columns are for is said by --map KEY=VALUE, a column in braces standing for its text:

` + help + `
Columns with customary names (unit, range, min, max, type, direction, description) need no --map.

Exit code 0: all was taken over; 1: some was not; 2: wrong use.`,
		Example: "  hodstone contract import points.csv --map topic=site/{area}/{point} --map from=plc --map to=desk --into .",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return e.runImport(c.Context(), args[0], pairs, into, out, asJSON)
		},
	}
	c.Flags().StringVar(&into, "into", "", "the workspace that gets the clauses")
	c.Flags().StringVar(&out, "out", "", "write a new workspace into this file, which must not be there")
	c.Flags().StringArrayVar(&pairs, "map", nil, "KEY=VALUE; may be given several times")
	c.Flags().BoolVar(&asJSON, "json", false, "tell what was done as JSON")
	return c
}

// maxDocument is how large a document or list may be, in bytes.
const maxDocument = 32 << 20

func (e *Env) runImport(_ context.Context, file string, pairs []string, into, out string, asJSON bool) error {
	if into != "" && out != "" {
		return usage("--into and --out do not go together")
	}
	src, err := infile.Read(file, maxDocument)
	if err != nil {
		return &exit{exitUsage, fmt.Errorf("cannot read: %w", err)}
	}
	var tree expression.Object
	report := imported{Added: []string{}, Changed: []string{}, Left: []leftRecord{}}
	if isDocument(file, src) {
		if len(pairs) > 0 {
			return usage("--map is for lists of I/O points; %s is an AsyncAPI document", file)
		}
		v, problems := workspace.ReadTree(src, file)
		if len(problems) > 0 {
			return &exit{exitUsage, problems[0]}
		}
		var notes []string
		if tree, notes, err = asyncapi.In(v); err != nil {
			return &exit{exitUsage, fmt.Errorf("%s: %w", file, err)}
		}
		for _, n := range notes {
			report.Left = append(report.Left, leftRecord{Why: n})
		}
	} else if tree, err = readPoints(src, file, pairs, &report); err != nil {
		return err
	}
	if into != "" {
		err = e.importInto(into, tree, &report)
	} else {
		err = e.importNew(out, file, tree, &report)
	}
	if err != nil {
		return err
	}
	return e.tellImported(report, out == "" && into == "", asJSON)
}

// isDocument tells an AsyncAPI document from a list.
func isDocument(name string, src []byte) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return ext == ".json" || isYAML(name) || ext != ".csv" && bytes.Contains(src, []byte("asyncapi"))
}

func readPoints(src []byte, file string, pairs []string, report *imported) (expression.Object, error) {
	head, err := points.Columns(bytes.NewReader(src))
	if err != nil {
		return nil, &exit{exitUsage, fmt.Errorf("%s: %w", file, err)}
	}
	m := points.Guess(head)
	for _, p := range pairs {
		key, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, usage("--map %s: write KEY=VALUE", p)
		}
		m[strings.TrimSpace(key)] = strings.TrimSpace(value)
	}
	r, err := points.Read(bytes.NewReader(src), m)
	if err != nil {
		return nil, &exit{exitUsage, fmt.Errorf("%s: %w", file, err)}
	}
	for _, x := range r.Left {
		report.Left = append(report.Left, leftRecord{x.Line, x.Point, x.Why})
	}
	var parties, parameters, clauses expression.Object
	for _, p := range r.Parties {
		parties = append(parties, expression.Member{Key: p, Value: expression.Object{}})
	}
	var names []string
	for name := range r.Parameters {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		var values []any
		for _, v := range r.Parameters[name] {
			values = append(values, v)
		}
		parameters = append(
			parameters,
			expression.Member{Key: name, Value: expression.Object{{Key: "values", Value: values}}},
		)
	}
	for _, c := range r.Clauses {
		clauses = append(clauses, expression.Member{Key: c.Name, Value: c.Tree})
	}
	return expression.Object{
		{Key: "parties", Value: parties},
		{Key: "parameters", Value: parameters},
		{Key: "clauses", Value: clauses},
	}, nil
}

// part is what an object has under a key.
func part(o expression.Object, key string) expression.Object {
	for _, m := range o {
		if m.Key == key {
			inner, _ := m.Value.(expression.Object)
			return inner
		}
	}
	return nil
}

// importNew writes a workspace of the contract.
func (e *Env) importNew(out, file string, tree expression.Object, report *imported) error {
	tree = slices.DeleteFunc(slices.Clone(tree), func(m expression.Member) bool {
		o, is := m.Value.(expression.Object)
		return is && len(o) == 0
	})
	beside, err := infile.Open(filepath.Dir(file), 16<<20)
	if err != nil {
		return &exit{exitUsage, err}
	}
	defer beside.Close()
	w, err := workspace.ReadContract(tree, beside, file)
	if err != nil {
		report.Left = append(report.Left, leftRecord{Why: w.Problems[0].Message})
	}
	for _, m := range part(tree, "clauses") {
		report.Added = append(report.Added, m.Key)
	}
	text := fmt.Sprintf(
		"# Taken in from %s.\nhodstone: 1\ncontract:\n%s",
		plain.OneLine(filepath.Base(file)),
		workspace.YAML(tree, 2, nil),
	)
	if report.File = out; out == "" {
		_, err := io.WriteString(e.Out, text)
		return broken(err)
	}
	return writeNew(out, text)
}

// importInto adds to the contract of a workspace what is new, and changes what differs.
func (e *Env) importInto(into string, tree expression.Object, report *imported) error {
	w, err := soundContract(into)
	if err != nil {
		return err
	}
	doc := workspace.NewDocument(w)
	report.File = w.File
	elsewhere := map[string]expression.Object{} // what stands in files that the contract includes
	err = doc.Rewrite(func(text string) (string, error) {
		for _, section := range []string{"parties", "parameters"} {
			for _, m := range part(tree, section) {
				has := w.Contract.Party(m.Key) != nil
				if section == "parameters" {
					p, there := w.Contract.Parameters[m.Key]
					has = there && (p.Limited() && allIn(p, m.Value) || m.Value == nil)
				}
				if has {
					continue
				}
				var err error
				if text, err = workspace.Put(text, m.Value, "contract", section, m.Key); err != nil {
					return "", err
				}
			}
		}
		var clauses expression.Object
		byTopic := map[string]*contract.Clause{}
		for _, cl := range w.Contract.Clauses {
			byTopic[cl.Topic.String()] = cl
		}
		for _, m := range part(tree, "clauses") {
			if cl := sameClause(w.Contract, byTopic, m.Key, m.Value.(expression.Object)); cl != nil {
				if m.Key = cl.Name; cl.File != "" {
					elsewhere[cl.File] = append(elsewhere[cl.File], m)
					continue
				}
			}
			clauses = append(clauses, m)
		}
		text, added, changed, same, err := workspace.PutClauses(text, clauses)
		if err != nil {
			return "", err
		}
		report.Added, report.Changed, report.Same = notNil(added), notNil(changed), same
		return text, sound(w, "", text)
	})
	for _, file := range slices.Sorted(maps.Keys(elsewhere)) {
		if err == nil {
			now := doc.Workspace()
			err = doc.RewriteIn(file, func(text string) (string, error) {
				text, err := putEach(text, elsewhere[file], report)
				if err != nil {
					return "", err
				}
				return text, sound(now, file, text)
			})
		}
	}
	if err != nil {
		for back := error(nil); doc.CanUndo() && back == nil; err = errors.Join(err, back) {
			_, back = doc.Undo()
		}
		return &exit{exitBroken, fmt.Errorf("%s stays as it is: %w", w.File, err)}
	}
	return nil
}

// putEach sets clauses in a file that the contract includes, where they are already.
func putEach(text string, clauses expression.Object, report *imported) (string, error) {
	for _, m := range clauses {
		tree, _ := m.Value.(expression.Object)
		now, err := workspace.PutClause(text, true, m.Key, tree)
		switch {
		case err != nil:
			return "", err
		case now == text:
			report.Same++
		default:
			report.Changed = append(report.Changed, m.Key)
		}
		text = now
	}
	return text, nil
}

// sound tells what would be wrong with a workspace if one of its files, "" for its own, held another text; nil for
// nothing.
func sound(w *workspace.Workspace, file, text string) error {
	now, err := workspace.Try(w, file, text)
	if err != nil {
		return err
	}
	if len(now.Problems) > 0 {
		return now.Problems[0]
	}
	return nil
}

// allIn tells whether a parameter allows all values of a list.
func allIn(p contract.Parameter, tree any) bool {
	o, _ := tree.(expression.Object)
	for _, m := range o {
		values, _ := m.Value.([]any)
		for _, v := range values {
			if s, is := v.(string); m.Key == "values" && is && !p.Allows(s) {
				return false
			}
		}
	}
	return true
}

// sameClause finds the clause that a tree is of: by its topic, else by its name.
func sameClause(
	c *contract.Contract,
	byTopic map[string]*contract.Clause,
	name string,
	tree expression.Object,
) *contract.Clause {
	for _, m := range tree {
		if topic, is := m.Value.(string); is && m.Key == "topic" && byTopic[topic] != nil {
			return byTopic[topic]
		}
	}
	return c.Clause(name)
}

func (e *Env) tellImported(r imported, toOutput, asJSON bool) error {
	to := e.Out
	if toOutput {
		to = e.ErrOut // the workspace itself has the output
	}
	var err error
	if asJSON {
		err = writeJSON(to, r)
	} else {
		for _, x := range r.Left {
			at := ""
			if x.Line > 0 {
				at = fmt.Sprintf("line %d: ", x.Line)
			}
			if x.Point != "" {
				at += x.Point + ": "
			}
			plain.Fprintf(to, "not taken over: %s%s\n", at, x.Why)
		}
		for _, name := range r.Changed {
			plain.Fprintf(to, "changed: %s\n", name)
		}
		_, err = plain.Fprintf(
			to,
			"%s: %s added, %d changed, %d as they were; %s not taken over\n",
			r.where(),
			plain.Count(len(r.Added), "clause"),
			len(r.Changed),
			r.Same,
			plain.Count(len(r.Left), "thing"),
		)
	}
	if err != nil {
		return broken(err)
	}
	if len(r.Left) > 0 {
		return &exit{exitBroken, nil}
	}
	return nil
}

func (r imported) where() string {
	if r.File == "" {
		return "contract"
	}
	return r.File
}
