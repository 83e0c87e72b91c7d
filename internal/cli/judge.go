package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"hodstone/internal/contract"
	"hodstone/internal/plain"
	"hodstone/internal/record"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// judgedClause is a clause in JSON; before is with the contract of --before.
type judgedClause struct {
	Clause   string `json:"clause"`
	Messages int    `json:"messages"`
	Breaches int    `json:"breaches"`
	Before   *int   `json:"breaches_before,omitempty"`
	Gone     bool   `json:"gone,omitempty"` // the contract has it no longer
}

// judgedBreach is a breach in JSON.
type judgedBreach struct {
	At       string `json:"at"`
	Clause   string `json:"clause"`
	Topic    string `json:"topic"`
	Rule     string `json:"rule"`
	Where    string `json:"where,omitempty"`
	Expected string `json:"expected"`
	Seen     string `json:"seen"`
	Sender   string `json:"sender,omitempty"`
	Event    uint64 `json:"event,omitempty"` // on the record
}

// judged is what a contract says of a record in JSON.
type judged struct {
	Record   string         `json:"record"`
	From     string         `json:"from"`
	Until    string         `json:"until"`
	Messages int            `json:"messages"`
	Clauses  []judgedClause `json:"clauses"`
	Strays   []string       `json:"strays"`
	Unkept   int            `json:"messages_on_further_strays,omitempty"`
	Breaches []judgedBreach `json:"breaches"`
	Total    int            `json:"breaches_in_all"`
}

func (e *Env) judge() *cobra.Command {
	var path, before string
	var asJSON bool
	var most int
	c := &cobra.Command{
		Use:   "judge RECORD…",
		Short: "Hold recorded traffic to a contract, such as an edited one to last night's",
		Long: `Hold recorded traffic to the contract of a workspace, as the observers saw it then. With
--before the same is done with another, such as the one before an edit, and each clause shows what
changed.

A topic is missed only after it was heard once, and the publisher's retain flag is not judged: a record
does not tell what the observers might read.

Exit code 0: nothing broke it; 1: something did; 2: wrong use, or nothing that could be judged.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return e.runJudge(c.Context(), args, path, before, asJSON, most)
		},
	}
	c.Flags().StringVar(&path, "contract", "hodstone.yaml", "the workspace with the contract")
	c.Flags().StringVar(&before, "before", "", "a workspace with the contract to compare with")
	c.Flags().BoolVar(&asJSON, "json", false, "write a JSON document for each record, one to a line")
	c.Flags().IntVar(&most, "breaches", 20, "how many breaches to write; 0 for all")
	return c
}

// soundContract opens a workspace, and tells where its contract cannot be relied on.
func soundContract(path string) (*workspace.Workspace, error) {
	w, err := openWorkspace(path)
	if err != nil {
		return nil, err
	}
	if len(w.Problems) > 0 {
		return nil, &exit{
			exitUsage,
			fmt.Errorf("%s has %s: 'hodstone contract check' lists them", path, plain.Count(len(w.Problems), "problem")),
		}
	}
	return w, nil
}

func (e *Env) runJudge(ctx context.Context, records []string, path, before string, asJSON bool, most int) error {
	now, err := soundContract(path)
	if err != nil {
		return err
	}
	var old *workspace.Workspace
	if before != "" {
		if old, err = soundContract(before); err != nil {
			return err
		}
	}
	broken := 0
	for _, name := range records {
		file, err := record.Open(name)
		if err != nil {
			return &exit{exitUsage, err}
		}
		v, was, err := e.judgeOne(ctx, file, now, old)
		file.Close()
		if err != nil {
			return err
		}
		if len(v.Observers) == 0 {
			return usage(
				"%s has nothing that an observer saw: record with 'hodstone watch WORKSPACE --record FILE', or on the screens",
				name,
			)
		}
		if broken += v.Total; asJSON {
			err = e.writeJudgedJSON(name, v, was)
		} else {
			err = e.writeJudged(name, v, was, most)
		}
		if err != nil {
			return &exit{exitBroken, err}
		}
	}
	if broken > 0 {
		return &exit{exitBroken, nil}
	}
	return nil
}

// judgeOne judges a record by the contract that counts and, where there is one, by the other.
func (e *Env) judgeOne(
	ctx context.Context,
	file *record.File,
	now, old *workspace.Workspace,
) (v, was *workbench.Verdicts, err error) {
	slow := slowly(e.ErrOut, tellAfter)
	slow.doing(fmt.Sprintf("judging %s of %s", plain.Count(int(file.Next()-1), "event"), file.Path))
	defer slow.doing("")
	if v, err = workbench.Rejudge(ctx, file, now.Contract, workbench.Players(now)); err == nil && old != nil {
		was, err = workbench.Rejudge(ctx, file, old.Contract, workbench.Players(old))
	}
	if err == nil {
		err = file.Err()
	}
	if err != nil {
		return nil, nil, &exit{exitBroken, err}
	}
	return v, was, nil
}

// changed lists the clauses of both contracts, with how many breaches there were before.
func changed(v, was *workbench.Verdicts) (out []judgedClause) {
	before := map[string]int{}
	if was != nil {
		for _, c := range was.Clauses {
			before[c.Clause.Name] = c.Breaches
		}
	}
	seen := map[string]bool{}
	for _, c := range v.Clauses {
		j := judgedClause{Clause: c.Clause.Name, Messages: c.Messages, Breaches: c.Breaches}
		if n, there := before[c.Clause.Name]; there {
			j.Before = &n
		}
		seen[c.Clause.Name] = true
		out = append(out, j)
	}
	if was != nil {
		for _, c := range was.Clauses {
			if !seen[c.Clause.Name] {
				n := c.Breaches
				out = append(out, judgedClause{Clause: c.Clause.Name, Before: &n, Gone: true})
			}
		}
	}
	return out
}

func (e *Env) writeJudged(name string, v, was *workbench.Verdicts, most int) error {
	plain.Fprintf(
		e.Out,
		"%s: %s of %s, from %s, %s\n",
		name,
		plain.Count(v.Messages, "message"),
		plain.Count(
			len(v.Observers),
			"observer",
		),
		v.From.Format("2006-01-02 15:04:05"),
		v.Until.Sub(v.From).Round(time.Second),
	)
	clauses := changed(v, was)
	wide := len("clause")
	for _, c := range clauses {
		wide = max(wide, len([]rune(c.Clause)))
	}
	head := fmt.Sprintf("  %-*s  %9s  %9s", wide, "clause", "messages", "breaches")
	if was != nil {
		head += "     before"
	}
	if _, err := plain.Fprintln(e.Out, head); err != nil {
		return err
	}
	for _, c := range clauses {
		sign := " "
		if c.Breaches > 0 {
			sign = "✗"
		}
		line := fmt.Sprintf("%s %-*s  %9d  %9d", sign, wide, c.Clause, c.Messages, c.Breaches)
		switch {
		case was == nil:
		case c.Before == nil:
			line += "        new"
		case c.Gone:
			line += fmt.Sprintf("  %9d  gone", *c.Before)
		case *c.Before != c.Breaches:
			line += fmt.Sprintf("  %9d  %+d", *c.Before, c.Breaches-*c.Before)
		default:
			line += fmt.Sprintf("  %9d", *c.Before)
		}
		plain.Fprintln(e.Out, line)
	}
	for _, s := range v.Strays {
		text := "stray " + s.Topic + ": " + plain.Count(s.Count, "message")
		if s.Near != "" {
			text += ", near " + s.Near
		}
		plain.Fprintln(e.Out, text)
	}
	if v.Unkept > 0 {
		plain.Fprintf(e.Out, "and %s on further strays, which are not listed\n", plain.Count(v.Unkept, "message"))
	}
	for i, b := range v.Breaches {
		if i == most && most > 0 {
			plain.Fprintf(e.Out, "… and %d more: --breaches 0 writes all\n", v.Total-i)
			break
		}
		plain.Fprintf(e.Out, "%s  %s\n", b.At.Format("15:04:05.000"), b.String())
	}
	_, err := plain.Fprintln(
		e.Out,
		fmt.Sprintf(
			"%s, %s",
			plain.Count(v.Total, "breach"),
			plain.Count(len(v.Strays), "stray"),
		),
	)
	return err
}

func (e *Env) writeJudgedJSON(name string, v, was *workbench.Verdicts) error {
	out := judged{Record: name, From: v.From.Format(time.RFC3339Nano), Until: v.Until.Format(time.RFC3339Nano),
		Messages: v.Messages, Clauses: changed(v, was), Strays: []string{}, Unkept: v.Unkept,
		Breaches: []judgedBreach{}, Total: v.Total}
	for _, s := range v.Strays {
		out.Strays = append(out.Strays, s.Topic)
	}
	for _, b := range v.Breaches {
		out.Breaches = append(out.Breaches, breachRecord(b))
	}
	enc := json.NewEncoder(e.Out)
	enc.SetEscapeHTML(false)
	return enc.Encode(out)
}

func breachRecord(b contract.Breach) judgedBreach {
	return judgedBreach{
		At:     b.At.Format(time.RFC3339Nano),
		Clause: b.Clause,
		Topic:  b.Topic,
		Rule:   string(b.Rule),
		Where:  b.Where,
		Expected: strings.ToValidUTF8(
			b.Expected,
			"\uFFFD",
		),
		Seen:   strings.ToValidUTF8(b.Seen, "\uFFFD"),
		Sender: b.Sender,
		Event:  b.Seq,
	}
}
