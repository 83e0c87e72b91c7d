package cli

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"hodstone/internal/plain"
	"hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/trace"
)

// products begins the files that are asked for, but for the record.
func (f *proveFlags) products() (out []product[proof.Proof], err error) {
	if f.reportFile != "" && !report.AcceptanceName(f.reportFile) {
		return nil, usage("--report takes the name of a file that ends in .pdf, .md or .html, not %q", f.reportFile)
	}
	return begun(
		product[proof.Proof]{name: f.junit, what: "JUnit XML", make: report.JUnit},
		product[proof.Proof]{name: f.tables, what: "the tables", make: report.Tables},
		product[proof.Proof]{name: f.save, what: "the proof", make: report.JSON},
		product[proof.Proof]{name: f.reportFile, what: "the report", make: func(w io.Writer, p *proof.Proof) error {
			f.about.Program = programVersion()
			return report.WriteAcceptance(w, f.reportFile, p, f.about)
		}},
	)
}

// proofTrace is how many packets of a proof wait for the record.
const proofTrace = 200_000

// recorded lets the packets of a proof be recorded, where that is asked for. done ends it, and tells the report what it
// rests on.
func (e *Env) recorded(
	ctx context.Context,
	f *proveFlags,
	t *proof.Target,
	o *proof.Options,
) (done func() error, err error) {
	if f.recording.path != "" {
		o.Log = trace.NewLog(proofTrace)
	}
	return e.recordedFrom(ctx, f, o.Log, "proof of "+t.Broker+", "+t.Listener)
}

// recordedFrom is [Env.recorded] of a trace that there is.
func (e *Env) recordedFrom(
	ctx context.Context,
	f *proveFlags,
	log *trace.Log,
	about string,
) (done func() error, err error) {
	switch {
	case f.recording.path == "" && f.follow != nil:
		return nil, usage("--follow goes with --record")
	case f.recording.path == "":
		return func() error { return nil }, nil
	}
	end, err := f.recording.start(ctx, e, log, map[string]string{"about": plain.OneLine(about)})
	if err != nil {
		return nil, err
	}
	return func() error {
		if err := end(); err != nil {
			return fmt.Errorf("the record was not written to its end: %w", err)
		}
		for _, path := range append(f.recording.recorder.State().Rotated, f.recording.path) {
			sum, err := sumOf(path)
			if err != nil {
				return fmt.Errorf("the record cannot be read again: %w", err)
			}
			f.about.Records = append(f.about.Records, report.RecordSum{Name: filepath.Base(path), SHA256: sum})
		}
		return nil
	}, nil
}

// sumOf is the SHA-256 of a file, in hexadecimal (FIPS 180-4).
func sumOf(path string) (string, error) {
	file, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer file.Close()
	h := sha256.New()
	if _, err := io.Copy(h, file); err != nil {
		return "", err
	}
	return fmt.Sprintf("%x", h.Sum(nil)), nil
}
