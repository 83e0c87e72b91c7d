package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"

	"hodstone/internal/trace"
)

const (
	followEvery = 50 * time.Millisecond // how often a file is looked at for more
	maxLine     = 4 << 10               // a longer line of a log is cut
)

// Follow adds what is written to a file from now on to the log, line by line, as events of
// a lane with the name, until the context ends. The file may be a log, also one that is
// truncated or replaced, a serial console or a pipe. It returns when the file is open; what
// happens to it later is told in the lane. done is closed when the last line before the
// context's end is in the log.
func Follow(ctx context.Context, name, path string, log *trace.Log) (done <-chan struct{}, err error) {
	file, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe that nobody writes into yet
	if err != nil {
		return nil, fmt.Errorf("cannot follow %s: %w", name, err)
	}
	info, err := file.Stat()
	if err == nil && info.IsDir() {
		err = fmt.Errorf("%s is a folder", path)
	}
	regular := err == nil && info.Mode().IsRegular()
	if err == nil && regular {
		_, err = file.Seek(0, io.SeekEnd)
	}
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("cannot follow %s: %w", name, err)
	}
	f := &follower{name: name, path: path, log: log, file: file}
	end := make(chan struct{})
	if !regular {
		// A console blocks in Read; closing it is what ends that.
		stop := context.AfterFunc(ctx, func() { file.Close() })
		go func() {
			defer close(end)
			defer stop()
			f.stream(ctx)
		}()
		return end, nil
	}
	go func() {
		defer close(end)
		f.poll(ctx)
	}()
	return end, nil
}

type follower struct {
	name, path string
	log        *trace.Log
	file       *os.File
	rest       []byte // a line that is not complete yet
	clock      offset // of its time stamps to ours
}

func (f *follower) tell(text string) {
	f.log.Add(trace.Event{At: time.Now(), Client: f.name, Role: trace.RoleLog, Kind: trace.Line, Text: text})
}

// take adds complete lines.
func (f *follower) take(b []byte) {
	f.rest = append(f.rest, b...)
	for {
		i := bytes.IndexByte(f.rest, '\n')
		if i < 0 && len(f.rest) < maxLine {
			return
		}
		line := f.rest
		if i >= 0 {
			line = f.rest[:i]
		}
		text := strings.ToValidUTF8(strings.TrimRight(string(line[:min(len(line), maxLine)]), "\r"), "\uFFFD")
		f.tell(text)
		if said := f.clock.seen(text, time.Now()); said != "" {
			f.tell("— " + said)
		}
		f.rest = f.rest[min(len(f.rest), len(line)+1):]
		if i < 0 {
			f.rest = nil
		}
	}
}

func (f *follower) stream(ctx context.Context) {
	buf := make([]byte, 4096)
	for begun := false; ; {
		n, err := f.file.Read(buf)
		f.take(buf[:n])
		if begun = begun || n > 0; errors.Is(err, io.EOF) && !begun { // nobody writes into the pipe yet
			select {
			case <-time.After(followEvery):
				continue
			case <-ctx.Done():
			}
		}
		if err != nil {
			if ctx.Err() == nil {
				f.tell("— no more comes: " + ended(err))
			}
			f.file.Close()
			return
		}
	}
}

func ended(err error) string {
	if errors.Is(err, io.EOF) {
		return "the other end was closed"
	}
	return err.Error()
}

// poll looks for more at the end of a regular file, and whether it was replaced.
func (f *follower) poll(ctx context.Context) {
	defer func() { f.file.Close() }()
	buf := make([]byte, 32<<10)
	ticker := time.NewTicker(followEvery)
	defer ticker.Stop()
	for last := false; ; {
		for {
			n, err := f.file.Read(buf)
			f.take(buf[:n])
			if err != nil || n == 0 {
				break
			}
		}
		if last {
			return
		}
		f.reopen()
		select {
		case <-ticker.C:
		case <-ctx.Done():
			last = true // once more, for what came since
		}
	}
}

// reopen begins anew where the file was truncated, or where another has taken its name.
func (f *follower) reopen() {
	here, err := f.file.Stat()
	if err != nil {
		return
	}
	if at, err := f.file.Seek(0, io.SeekCurrent); err == nil && here.Size() < at {
		f.file.Seek(0, io.SeekStart)
		f.rest = nil
		return
	}
	there, err := os.Stat(f.path)
	if err != nil || os.SameFile(here, there) {
		return
	}
	if file, err := os.OpenFile(f.path, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil {
		f.file.Close()
		f.file, f.rest = file, nil
	}
}
