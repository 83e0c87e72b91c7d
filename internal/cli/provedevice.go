package cli

import (
	"context"
	"fmt"
	"time"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/proof/subject"
	"hodstone/internal/report"
	"hodstone/internal/trial"
	"hodstone/internal/workbench"
)

// deviceFlags are the options of prove that go with --device.
type deviceFlags struct {
	name, listen string
	real         bool
	watch        time.Duration
	faults       []string
}

// proveDevice puts a device to the proof.
func (e *Env) proveDevice(ctx context.Context, f *proveFlags, path string) error {
	for _, x := range []struct {
		is   bool
		name string
	}{
		{f.version != "", "--protocol-version"}, {f.brokers != nil, "--broker"}, {f.onTopics, "--on-contract-topics"},
		{f.tables != "", "--tables"}, {f.trials != nil, "--trial"}, {f.explore > 0, "--explore"}, {f.restart, "--restart"},
	} {
		if x.is {
			return usage("%s does not go with --device", x.name)
		}
	}
	checks, err := subject.Match(f.check)
	if err != nil {
		return &exit{exitUsage, err}
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
	if err := r.begin(ctx, f.device.name+" of "+r.w.Name); err != nil {
		return err
	}
	o := subject.Options{Checks: checks, Watch: f.device.watch}
	if ask != nil {
		o.Ask = func(ctx context.Context, text string) (bool, string, error) {
			a, err := ask(ctx, trial.Question{Trial: f.device.name, Text: text})
			return a.Yes, a.Left, err
		}
	}
	if !f.json {
		o.Told = func(r proof.Result) { fmt.Fprint(e.Out, report.DeviceLine(&r)) }
	}
	began := func(at string) {
		if !f.json {
			plain.Fprintf(e.Out, "%s of %s is put to the proof: it dials %s\n\n", f.device.name, r.w.Name, at)
		}
	}
	p, err := r.b.PutToProof(ctx, workbench.Subject{
		Device: f.device.name, Real: f.device.real, Listen: f.device.listen, Faults: f.device.faults, Began: began,
	}, o)
	if err != nil {
		r.endRecord()
		return &exit{exitUsage, err}
	}
	return r.end(ctx, p, func() {
		if changes := report.Changes(p); len(changes) > 0 {
			plain.Fprintf(e.Out, "\nwhat its programmer has to change:\n")
			for _, c := range changes {
				plain.Fprintf(e.Out, "  - %s\n", c)
			}
		}
	})
}
