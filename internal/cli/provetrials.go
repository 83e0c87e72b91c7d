package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"hodstone/internal/infile"
	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trial"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// proveTrials carries out trials of a workspace, with its devices at work.
func (e *Env) proveTrials(ctx context.Context, f *proveFlags, path string) error {
	for _, x := range []struct {
		is   bool
		name string
	}{{f.check != "", "--check"}, {f.version != "", "--protocol-version"}, {f.brokers != nil, "--broker"}, {f.onTopics, "--on-contract-topics"},
		{f.tables != "", "--tables"}} {
		if x.is {
			return usage("%s does not go with --trial: trials run on the whole site", x.name)
		}
	}
	ask, err := e.asking(f)
	if err != nil {
		return err
	}
	r, err := e.openRun(f, path)
	if err != nil {
		return err
	}
	defer r.close()
	b := r.b
	var names []string
	for _, pattern := range f.trials {
		found, err := b.MatchTrials(pattern)
		if err != nil {
			return &exit{exitUsage, err}
		}
		for _, n := range found {
			if !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
	}
	if err := r.begin(ctx, "trials of "+r.w.Name); err != nil {
		return err
	}
	b.Start()
	if !f.json {
		plain.Fprintf(e.Out, "%s, %s\n\n", r.w.Name, plain.Count(len(names), "trial"))
	}
	p := b.Try(ctx, names, ask, func(r proof.Result) {
		if !f.json {
			fmt.Fprint(e.Out, report.Line(&r))
		}
	})
	return r.end(ctx, p, func() {})
}

// proofRun is a proof of trials, or of a device, that runs on an opened workspace, with all that is written of it.
type proofRun struct {
	e         *Env
	f         *proveFlags
	w         *workspace.Workspace
	b         *workbench.Bench
	files     []product[proof.Proof]
	before    *report.Document
	endRecord func() error
}

// openRun opens the workspace for it, and tells its problems.
func (e *Env) openRun(f *proveFlags, path string) (*proofRun, error) {
	w, err := openWorkspace(path)
	if err != nil {
		return nil, err
	}
	for _, p := range w.Problems {
		plain.Fprintf(e.ErrOut, "%s\n\n", plain.Lines(p.Error()))
	}
	b, err := workbench.New(w, workbench.Options{Faults: f.faults})
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	return &proofRun{e: e, f: f, w: w, b: b}, nil
}

// close ends it, and takes away what was begun and not written.
func (r *proofRun) close() {
	abandon(r.files)
	r.b.Close()
}

// begin opens what is written, reads what is compared with, and begins the record.
func (r *proofRun) begin(ctx context.Context, what string) (err error) {
	if r.files, err = r.f.products(); err != nil {
		return err
	}
	if r.f.baseline != "" {
		if r.before, err = readProof(r.f.baseline); err != nil {
			return err
		}
	}
	if r.endRecord, err = r.e.recordedFrom(ctx, r.f, r.b.Log, what); err != nil {
		return err
	}
	r.f.about.Workspace, r.f.about.Revision = r.w.Name, r.b.Fingerprint()
	return nil
}

// end writes what came of it; more is told behind the summary, for people. It returns the exit code.
func (r *proofRun) end(ctx context.Context, p *proof.Proof, more func()) error {
	unrecorded := r.endRecord()
	if r.f.json {
		if err := report.JSON(r.e.Out, p); err != nil {
			return err
		}
	} else {
		plain.Fprintf(r.e.Out, "\n%s in %.1f s\n", report.SummaryLine(p.Counts()), p.Took.Seconds())
		more()
	}
	r.f.kept = proofsBeside(r.w.File)
	return r.e.handOver(ctx, r.f, p, r.files, r.before, unrecorded)
}

// handOver keeps a proof, writes the files that were asked for, and returns the exit code. What cannot be written, the
// record of its packets included, takes nothing from the others.
func (e *Env) handOver(
	ctx context.Context,
	f *proveFlags,
	p *proof.Proof,
	files []product[proof.Proof],
	before *report.Document,
	unrecorded error,
) error {
	e.keeps(ctx, f, p)
	var failed several
	if unrecorded != nil {
		failed = append(failed, unrecorded)
	}
	for i := range files {
		if err := files[i].write(p); err != nil {
			failed = append(failed, err)
		}
	}
	if failed != nil {
		return &exit{exitUsage, failed}
	}
	return e.judged(f, p, before)
}

// judged is the exit code of a proof: by what got worse where there is a baseline, else by its verdicts.
func (e *Env) judged(f *proveFlags, p *proof.Proof, before *report.Document) error {
	if before == nil {
		if !p.OK() {
			return &exit{exitBroken, nil}
		}
		return nil
	}
	now := report.NewDocument(p)
	out := e.Out
	if f.json { // one document stands there
		out = e.ErrOut
	} else {
		plain.Fprintln(out)
	}
	return weighed(report.Compare(before, &now), out)
}

// asker asks a person, or a file.
type asker func(context.Context, trial.Question) (trial.Answer, error)

// asking finds who is to be asked: the file of answers, else the person at the terminal; nil for nobody.
func (e *Env) asking(f *proveFlags) (asker, error) {
	if f.answers != "" {
		return answersOf(f.answers)
	}
	if !e.Terminal || e.In == nil {
		return nil, nil
	}
	lines := make(chan string)
	var begun bool
	return func(ctx context.Context, q trial.Question) (trial.Answer, error) {
		if !begun { // one reader for all questions: what was typed ahead is not lost
			begun = true
			go func() {
				s := bufio.NewScanner(e.In)
				for s.Scan() {
					lines <- s.Text()
				}
				close(lines)
			}()
		}
		for {
			plain.Fprintf(e.ErrOut, "%s\n  %s\n  y yes, done · n no · or why it is left out: ", q.Trial, q.Text)
			select {
			case line, open := <-lines:
				if !open {
					return trial.Answer{}, io.EOF
				}
				if a, ok := answered(line); ok {
					return a, nil
				}
			case <-ctx.Done():
				return trial.Answer{}, context.Cause(ctx)
			}
		}
	}, nil
}

// answered reads what a person answered; ok is false for nothing.
func answered(line string) (a trial.Answer, ok bool) {
	switch line = strings.TrimSpace(line); strings.ToLower(line) {
	case "":
		return a, false
	case "y", "yes", "done", "true":
		return trial.Answer{Yes: true}, true
	case "n", "no", "false":
		return trial.Answer{}, true
	}
	return trial.Answer{Left: line}, true
}

// maxAnswers is how large a file of answers may be, in bytes.
const maxAnswers = 1 << 20

// answersOf reads a file of answers: a YAML mapping of questions to yes, no, why it is left out, or {answer: …, after:
// 2s}.
func answersOf(path string) (asker, error) {
	b, err := infile.Read(path, maxAnswers)
	if err != nil {
		return nil, usage("the answers cannot be read: %w", err)
	}
	var given map[string]any
	if err := yaml.Unmarshal(b, &given); err != nil {
		return nil, usage("%s is no mapping of questions to answers: %v", path, firstLine(err))
	}
	type timed struct {
		answer trial.Answer
		after  time.Duration
	}
	all := map[string]timed{}
	for question, v := range given {
		var x timed
		text := fmt.Sprint(v)
		if m, is := v.(map[string]any); is {
			text = fmt.Sprint(m["answer"])
			if after, has := m["after"]; has {
				if x.after, err = time.ParseDuration(fmt.Sprint(after)); err != nil || x.after < 0 {
					return nil, usage("%s: %q is answered after %v: write a time such as 2s", path, question, after)
				}
			}
			if m["answer"] == nil {
				return nil, usage("%s: %q has no answer: write {answer: yes, after: 2s}", path, question)
			}
		}
		var ok bool
		if x.answer, ok = answered(text); !ok || v == nil {
			return nil, usage("%s: %q has no answer: write yes, no, or why it is left out", path, question)
		}
		all[question] = x
	}
	return func(ctx context.Context, q trial.Question) (trial.Answer, error) {
		x, known := all[q.Text]
		if !known {
			return trial.Answer{}, fmt.Errorf("%s does not answer %q", path, q.Text)
		}
		select {
		case <-time.After(x.after):
			return x.answer, nil
		case <-ctx.Done():
			return trial.Answer{}, context.Cause(ctx)
		}
	}, nil
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}
