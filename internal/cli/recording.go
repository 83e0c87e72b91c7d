package cli

import (
	"context"
	"strings"
	"sync"
	"time"

	"github.com/spf13/pflag"

	"hodstone/internal/plain"
	"hodstone/internal/record"
	"hodstone/internal/trace"
)

// recording holds the options of keeping a trace.
type recording struct {
	path    string
	maxSize int64
	maxAge  time.Duration
	follow  []string

	recorder *record.Recorder // at work, or nil
}

func (r *recording) flags(fl *pflag.FlagSet) {
	fl.StringVar(&r.path, "record", "", "record the trace into this file, which must not exist yet")
	fl.Int64Var(&r.maxSize, "record-max-size", 0, "begin another file when it is larger than so many bytes")
	fl.DurationVar(&r.maxAge, "record-max-age", 0, "begin another file when it is older")
	fl.StringArrayVar(
		&r.follow,
		"follow",
		nil,
		"NAME=PATH of a log, console or pipe whose lines go onto the record; may be given several times",
	)
}

// start begins to record and to follow; close ends it and tells what came of it.
func (r *recording) start(
	ctx context.Context,
	e *Env,
	log *trace.Log,
	meta map[string]string,
) (close func() error, err error) {
	var recorder *record.Recorder
	if r.path != "" {
		recorder, err = record.Start(
			log,
			1,
			record.Options{Path: r.path, Meta: meta, MaxSize: r.maxSize, MaxAge: r.maxAge},
		)
		if err != nil {
			return nil, &exit{exitUsage, err}
		}
		r.recorder = recorder
	} else if r.maxSize != 0 || r.maxAge != 0 {
		return nil, usage("--record-max-size and --record-max-age go with --record")
	}
	ctx, stop := context.WithCancel(ctx)
	var following []<-chan struct{}
	closed := sync.OnceValue(func() error {
		if recorder == nil {
			return nil
		}
		return recorder.Close()
	})
	e.exits.leaving(func() { closed() })
	close = func() error {
		stop()
		for _, done := range following {
			<-done
		}
		if recorder == nil {
			return nil
		}
		err := closed()
		s := recorder.State()
		plain.Fprintf(e.ErrOut, "recorded %d events into %s", s.Events, strings.Join(append(s.Rotated, s.Path), ", "))
		if s.Missed > 0 {
			plain.Fprintf(e.ErrOut, "; %d came too fast and are missing", s.Missed)
		}
		plain.Fprintln(e.ErrOut)
		return err
	}
	for _, f := range r.follow {
		name, path, ok := strings.Cut(f, "=")
		if !ok || name == "" {
			close()
			return nil, usage("--follow takes NAME=PATH, not %q", f)
		}
		done, err := record.Follow(ctx, name, path, log)
		if err != nil {
			close()
			return nil, &exit{exitUsage, err}
		}
		following = append(following, done)
	}
	return close, nil
}
