package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract/asyncapi"
	"hodstone/internal/expression"
	"hodstone/internal/plain"
	"hodstone/internal/report"
	"hodstone/internal/workspace"
)

// exports are the formats that a contract is given away in.
var exports = []struct {
	name, doc string
	folder    bool
	write     func(w *workspace.Workspace, name string, to io.Writer) error // of a file
}{
	{"asyncapi", "an AsyncAPI 3.0 document", false, func(w *workspace.Workspace, _ string, to io.Writer) error {
		title := w.Name
		if title == "" {
			title = "contract"
		}
		return writeJSON(to, asyncapi.Out(w.Contract, title))
	}},
	{
		"markdown",
		"a document for people, in Markdown",
		false,
		func(w *workspace.Workspace, _ string, to io.Writer) error {
			return report.ContractDocument(w).Markdown(to)
		},
	},
	{"pdf", "the same as pages of A4", false, func(w *workspace.Workspace, _ string, to io.Writer) error {
		return report.ContractDocument(w).PDF(to)
	}},
	{
		"drawing",
		"who says what to whom, as .svg or .pdf",
		false,
		func(w *workspace.Workspace, name string, to io.Writer) error {
			title := w.Name
			if title == "" {
				title = "The contract"
			}
			d, err := report.ContractDrawing(title, time.Now(), w.Contract)
			if err != nil {
				return err
			}
			if name == "" {
				name = "-.svg"
			}
			return d.Write(to, name)
		},
	},
	{
		"yaml",
		"the contract in one spelling, with all that it refers to",
		false,
		func(w *workspace.Workspace, _ string, to io.Writer) error {
			_, err := io.WriteString(to, "contract:\n"+workspace.YAML(w.Contract.Tree(), 2, nil))
			return err
		},
	},
	{"json-schema", "a folder with a JSON Schema for each clause that has one", true, nil},
	{"c", "constants and packed structures for C", false, constantsOf("c")},
	{"go", "constants and packed structures for Go", false, constantsOf("go")},
	{"python", "constants and packed structures for Python", false, constantsOf("python")},
	{"st", "constants and packed structures for structured text (IEC 61131-3)", false, constantsOf("st")},
	{"access", "what each login has to be able to do, as a table", false, writeAccess},
	{"rights", "the same as rights of a stand-in", false, func(w *workspace.Workspace, _ string, to io.Writer) error {
		all, _ := w.Access()
		_, err := io.WriteString(to, "rights:\n"+workspace.YAML(workspace.RightsTree(all), 2, nil))
		return err
	}},
	{
		"broker",
		"a folder with the broker's side for the broker of Debian's packages: configuration, TLS, passwords, rights",
		true,
		nil,
	},
}

func constantsOf(language string) func(*workspace.Workspace, string, io.Writer) error {
	return func(w *workspace.Workspace, _ string, to io.Writer) error {
		text, err := report.Constants(w, language)
		if err == nil {
			_, err = io.WriteString(to, text)
		}
		return err
	}
}

func writeAccess(w *workspace.Workspace, _ string, to io.Writer) error {
	all, parties := w.Access()
	for _, a := range all {
		plain.Fprintf(to, "%s, as %s\n", a.Login, a.Party)
		for _, f := range a.Publish {
			plain.Fprintf(to, "  publish    %s\n", f)
		}
		for _, f := range a.Subscribe {
			plain.Fprintf(to, "  subscribe  %s\n", f)
		}
	}
	for _, p := range parties {
		plain.Fprintf(to, "party %s has no login: give it logins: […] in the contract, or a device\n", p)
	}
	for _, b := range w.Brokers {
		if b.StandIn != nil {
			for _, x := range w.Lacking(b.StandIn) {
				plain.Fprintf(to, "at the stand-in %s: %s\n", b.Name, x.Text)
			}
		}
	}
	return nil
}

func (e *Env) contractExport() *cobra.Command {
	var format, out, broker string
	var asJSON bool
	var names []string
	text := ""
	for _, x := range exports {
		names = append(names, x.name)
		text += fmt.Sprintf("  %-12s %s\n", x.name, x.doc)
	}
	c := &cobra.Command{
		Use:   "export WORKSPACE",
		Short: "Give the contract away: as a document, AsyncAPI, constants, access rules, the broker's side",
		Long: "Give the contract away. The formats:\n\n" + text + `
A file goes to the output unless --out names one; folders need --out. What is there already is not
overwritten, but for what stands in a folder that an export made.

Exit code 0: written; 1: it cannot be; 2: wrong use, or an unusable workspace.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := soundContract(args[0])
			if err != nil {
				return err
			}
			i := slices.Index(names, format)
			if i < 0 {
				return usage("--format is one of %s, not %q", strings.Join(names, ", "), format)
			}
			if asJSON && out == "" {
				return usage("--json tells what was written: name the file or folder with --out")
			}
			if exports[i].folder {
				return e.exportFolder(w, format, out, broker, asJSON)
			}
			var b bytes.Buffer
			if err := exports[i].write(w, out, &b); err != nil {
				return &exit{exitBroken, err}
			}
			if out == "" {
				to := e.Out
				if format == "pdf" {
					to = e.raw
				}
				_, err := to.Write(b.Bytes())
				return broken(err)
			}
			if err := writeNew(out, b.String()); err != nil || !asJSON {
				return err
			}
			return broken(writeJSON(e.Out, exported{Format: format, Files: []string{out}, Notes: []string{}}))
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "tell what was written as JSON; with --out")
	c.Flags().StringVar(&format, "format", "markdown", "what to write; see above")
	c.Flags().StringVar(&out, "out", "", "the file, or the folder")
	c.Flags().StringVar(&broker, "broker", "", "for the format broker: which of the workspace's; the first without it")
	return c
}

// exported is what an export wrote, in JSON.
type exported struct {
	Format string   `json:"format"`
	Files  []string `json:"files"`
	Notes  []string `json:"notes"`
}

// exportFolder writes several files.
func (e *Env) exportFolder(w *workspace.Workspace, format, out, broker string, asJSON bool) error {
	if out == "" {
		return usage("--format %s writes a folder: name it with --out", format)
	}
	files, notes := map[string]report.File{}, []string(nil)
	if format == "json-schema" {
		for _, cl := range w.Contract.Clauses {
			schema := cl.Payload.Bundle()
			if schema == nil {
				continue
			}
			var b bytes.Buffer
			o, is := schema.(expression.Object)
			if is {
				schema = append(
					expression.Object{
						{Key: "$schema", Value: "https://json-schema.org/draft/2020-12/schema"},
						{Key: "title", Value: cl.Name},
					},
					slices.DeleteFunc(
						slices.Clone(o),
						func(m expression.Member) bool { return m.Key == "$schema" || m.Key == "title" },
					)...)
			}
			if err := writeJSON(&b, schema); err != nil {
				return &exit{exitBroken, err}
			}
			files[fileName(cl.Name, files)+".schema.json"] = report.File{Data: b.Bytes(), Mode: 0o644}
		}
	} else {
		br := w.Broker(broker)
		if br == nil {
			return usage("the workspace has no broker %q", broker)
		}
		dir, err := filepath.Abs(out)
		if err == nil {
			files, notes, err = report.BrokerFiles(w, br, dir)
		}
		if err != nil {
			return &exit{exitBroken, err}
		}
	}
	if len(files) == 0 {
		return &exit{exitBroken, errors.New("there is nothing to write: no clause has a schema")}
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return &exit{exitUsage, err}
	}
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(out, name)); err == nil {
			return usage("%s is there already: name another folder, or move it away", filepath.Join(out, name))
		}
	}
	for _, name := range names {
		mode := os.FileMode(0o755)
		if path.Dir(name) != "." && files[name].Mode == 0o600 {
			mode = 0o700
		}
		if err := os.MkdirAll(filepath.Join(out, path.Dir(name)), mode); err != nil {
			return &exit{exitUsage, err}
		}
		f, err := os.OpenFile(filepath.Join(out, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, files[name].Mode)
		if err == nil {
			_, err = f.Write(files[name].Data)
			if closing := f.Close(); err == nil {
				err = closing
			}
		}
		if err != nil {
			return &exit{exitUsage, err}
		}
	}
	if asJSON {
		for i := range names {
			names[i] = filepath.Join(out, names[i])
		}
		return broken(writeJSON(e.Out, exported{format, names, notNil(notes)}))
	}
	for _, n := range notes {
		plain.Fprintf(e.Out, "%s\n", n)
	}
	_, err := plain.Fprintf(e.Out, "%s: %s\n", out, plain.Count(len(names), "file"))
	return broken(err)
}

// fileName makes a name fit for a file, another than those before.
func fileName(name string, taken map[string]report.File) string {
	s := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>| `, r) || r < 0x20 || r == 0x7f {
			return '-'
		}
		return r
	}, name)
	s = strings.TrimLeft(s, ".")
	if s == "" {
		s = "clause"
	}
	for i, plain := 2, s; taken[s+".schema.json"].Data != nil; i++ {
		s = fmt.Sprintf("%s-%d", plain, i)
	}
	return s
}
