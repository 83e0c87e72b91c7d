package infile_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/infile"
)

// folder has a file, a link within, links that lead out, a pipe and a folder.
func folder(t *testing.T) string {
	t.Helper()
	outside, dir := t.TempDir(), t.TempDir()
	for name, text := range map[string]string{filepath.Join(outside, "secret"): "s3cret",
		filepath.Join(dir, "a"): "inside", filepath.Join(dir, "large"): strings.Repeat("x", 101)} {
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for name, to := range map[string]string{"in": "a", "out": filepath.Join(outside, "secret"),
		"up": "../" + filepath.Base(outside) + "/secret"} {
		if err := os.Symlink(to, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600),
		os.Mkdir(filepath.Join(dir, "sub"), 0o700)); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestAFolderGivesItsRegularFilesOnly(t *testing.T) {
	dir := folder(t)
	f, err := infile.Open(dir, 100)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for name, want := range map[string]string{"a": "inside", "in": "inside"} {
		if b, err := fs.ReadFile(f, name); err != nil || string(b) != want {
			t.Errorf("%s: %q %v", name, b, err)
		}
	}
	for _, name := range []string{"out", "up", "pipe", "sub", "large", "nothing", "../a", "/etc/hosts", ""} {
		start := time.Now()
		if b, err := fs.ReadFile(f, name); err == nil || len(b) > 101 {
			t.Errorf("%q: %q", name, b)
		}
		if took := time.Since(start); took > time.Second {
			t.Errorf("%q took %s", name, took)
		}
	}
	if _, err := f.ReadFile("large"); !errors.Is(err, infile.ErrTooLarge) {
		t.Error(err)
	}
	if _, err := f.ReadFile("pipe"); !errors.Is(err, infile.ErrNotRegular) {
		t.Error(err)
	}
}

func TestWhatTheUserNamesMayBeAPipe(t *testing.T) {
	dir := folder(t)
	for name, want := range map[string]string{"a": "inside", "out": "s3cret"} {
		if b, err := infile.Read(filepath.Join(dir, name), 100); err != nil || string(b) != want {
			t.Errorf("%s: %q %v", name, b, err)
		}
	}
	for _, name := range []string{"large", "sub", "nothing"} {
		if _, err := infile.Read(filepath.Join(dir, name), 100); err == nil {
			t.Errorf("%s is read", name)
		}
	}
	if _, err := infile.Read("/dev/zero", 1<<20); !errors.Is(err, infile.ErrTooLarge) {
		t.Errorf("an endless file: %v", err)
	}
	pipe := filepath.Join(dir, "pipe")
	w, err := os.OpenFile(pipe, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	w.WriteString("through")
	// The writer stays, and says nothing more.
	start := time.Now()
	if b, err := infile.Read(pipe, 100); err == nil || !strings.Contains(err.Error(), "nothing more came within 5s") ||
		string(b) != "through" {
		t.Errorf("%q %v", b, err)
	}
	if took := time.Since(start); took > 10*time.Second {
		t.Errorf("after %s", took)
	}
	w.WriteString("through")
	time.AfterFunc(50*time.Millisecond, func() { w.Close() })
	if b, err := infile.Read(pipe, 100); err != nil || string(b) != "through" {
		t.Errorf("%q %v", b, err)
	}
}
