package cli

import (
	"context"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/report"
)

// proveSides proves several brokers or listeners one after the other, and shows them side by side.
func (e *Env) proveSides(ctx context.Context, f *proveFlags, o proof.Options, args []string) error {
	if f.save+f.baseline+f.reportFile+f.junit+f.tables+f.recording.path != "" {
		return usage(
			"--save, --baseline, --report, --record, --tables and --junit are for one proof: several are shown side by side, --json writes them all",
		)
	}
	var docs []report.Document
	var failed error // one that cannot be proven takes nothing from the others
	for _, where := range append(append([]string{}, f.urls...), f.brokers...) {
		one := *f
		one.url, one.broker = "", ""
		if len(f.urls) > 0 {
			one.url = where
		} else {
			one.broker = where
		}
		p, err := e.proveSide(ctx, &one, o, args, where)
		if err != nil && len(docs) == 0 {
			return err
		} else if err != nil {
			failed = err
			break
		}
		e.keeps(ctx, &one, p)
		docs = append(docs, report.NewDocument(p))
	}
	s := report.SideBySide(docs)
	write := s.Write
	if f.json {
		write = s.JSON
	}
	if err := write(e.Out); err != nil {
		return broken(err)
	}
	if failed != nil {
		return failed
	}
	if !s.OK() {
		return &exit{exitBroken, nil}
	}
	return nil
}

// proveSide proves one of them.
func (e *Env) proveSide(
	ctx context.Context,
	f *proveFlags,
	o proof.Options,
	args []string,
	where string,
) (*proof.Proof, error) {
	var t proof.Target
	var err error
	if f.url != "" {
		t, err = f.targetFromURL()
	} else {
		var close func()
		t, _, close, err = e.targetFromWorkspace(f, args[0])
		if close != nil {
			defer close()
		}
	}
	if err != nil {
		return nil, err
	}
	t.Intrusive = t.Intrusive || f.intrusive
	if !t.StandIn {
		plainWarning(e.ErrOut, t.URL, t.Login)
	}
	plain.Fprintf(e.ErrOut, "proving %s\n", where)
	slow := slowly(e.ErrOut, tellAfter)
	o.Doing = slow.doing
	p, err := proof.Run(ctx, t, o)
	slow.doing("")
	if err != nil {
		return nil, &exit{exitNotReached, err}
	}
	return p, nil
}
