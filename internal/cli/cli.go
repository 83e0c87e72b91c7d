// Package cli holds Hodstone's commands: the same work as the screens, for scripts and
// continuous integration.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"

	"hodstone/demo"
	"hodstone/internal/plain"
	"hodstone/internal/trust"
	"hodstone/internal/workbench"
	"hodstone/internal/workspace"
)

// The exit codes.
const (
	exitOK         = 0 // all kept; unsupported and skipped allowed
	exitBroken     = 1 // something broken or undecided
	exitUsage      = 2 // wrong use, or an unusable workspace
	exitNotReached = 3
	exitPipe       = 141 // nobody reads the output any longer: as a program that SIGPIPE ends
)

// exit is an error with its exit code. A nil err says that all is told already.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

// several are errors that have nothing to do with one another; each is told on a line of its own.
type several []error

func (s several) Error() string { return errors.Join(s...).Error() }

func usage(format string, args ...any) error { return &exit{exitUsage, fmt.Errorf(format, args...)} }

// Env is what the commands run in.
type Env struct {
	Args        []string
	In          io.Reader // nil for an empty one
	Out, ErrOut io.Writer
	// Screens opens the full-screen interface on a workbench that is set up but not
	// started, and returns when the user quits.
	Screens func(context.Context, *workbench.Bench) error
	// Terminal tells whether a person is at the other end.
	Terminal bool
	// AskSecret asks a person for something that is not echoed; nil where nobody is there.
	AskSecret func(prompt string) (string, error)

	raw   io.Writer // Out, for what is no text
	exits *closers  // what must not stay open when a command has to be left
}

// closers is what has to be closed if a command does not end by itself. Safe for concurrent use.
type closers struct {
	mu    sync.Mutex
	close []func()
}

// leaving adds something.
func (o *closers) leaving(close func()) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.close = append(o.close, close)
}

// leave closes all of it, the last first, within a time.
func (o *closers) leave(within time.Duration) {
	closed := make(chan struct{})
	go func() {
		defer close(closed)
		o.mu.Lock()
		defer o.mu.Unlock()
		for _, c := range slices.Backward(o.close) {
			c()
		}
	}()
	select {
	case <-closed:
	case <-time.After(within):
	}
}

// How long a command that is told to end may take, and what must be closed after that.
const (
	endWithin   = 1500 * time.Millisecond
	closeWithin = 300 * time.Millisecond
)

// errSignal is why a context ended: the process was told to end.
var errSignal = errors.New("told to end")

// Main runs the command line and returns the exit code.
func Main(e Env) int {
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	defer listen(cancel)()
	out := plain.NewWriter(e.Out, func(err error) { cancel(&outputError{err}) })
	errOut := plain.NewWriter(e.ErrOut, nil)
	e.raw, e.Out, e.ErrOut, e.exits = e.Out, out, errOut, &closers{}
	code := e.run(ctx)
	out.Flush()
	errOut.Flush()
	switch err := out.Err(); {
	case errors.Is(err, syscall.EPIPE):
		return exitPipe
	case err != nil:
		plain.Fprintf(errOut, "hodstone: the output cannot be written: %v\n", err)
		return exitUsage
	}
	return code
}

// outputError is why a context ended: nothing more can be written.
type outputError struct{ err error }

func (e *outputError) Error() string { return "the output cannot be written: " + e.err.Error() }

// listen ends a context when the process is told to end, until stop is called. A pipe that is closed
// shows when it is written to.
func listen(cancel context.CancelCauseFunc) (stop func()) {
	signals, pipe := make(chan os.Signal, 1), make(chan os.Signal, 1)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	signal.Notify(pipe, syscall.SIGPIPE)
	done := make(chan struct{})
	go func() {
		select {
		case <-signals:
			cancel(errSignal)
		case <-done:
		}
	}()
	return func() {
		signal.Stop(signals)
		signal.Stop(pipe)
		close(done)
	}
}

// run carries the command line out. A command that is told to end and does not is left, once what it
// writes into is closed.
func (e *Env) run(ctx context.Context) int {
	done := make(chan int, 1)
	go func() { done <- e.execute(ctx) }()
	select {
	case code := <-done:
		return code
	case <-ctx.Done():
	}
	select {
	case code := <-done:
		return code
	case <-time.After(endWithin):
	}
	e.exits.leave(closeWithin)
	plain.Fprintln(e.ErrOut, "hodstone: left in the middle of its work")
	return exitBroken
}

// tryThis stands in errors before what to try, on a line of its own.
const tryThis = "\n  try: "

// errorText is an error as it is told: what strangers put into it stays on one line.
func errorText(err error) plain.Lines {
	var p *workspace.Problem
	if errors.As(err, &p) { // it has its place in the file on lines of its own
		return plain.Lines(err.Error())
	}
	parts := strings.Split(err.Error(), tryThis)
	for i := range parts {
		parts[i] = plain.OneLine(parts[i])
	}
	return plain.Lines(strings.Join(parts, tryThis))
}

// execute carries the command line out to its end.
func (e *Env) execute(ctx context.Context) (code int) {
	defer func() {
		if p := recover(); p != nil {
			plain.Fprintf(e.ErrOut, "hodstone: a fault of its own: %v; please report it with what follows\n%s",
				p, plain.Lines(debug.Stack()))
			e.exits.leave(closeWithin)
			code = exitUsage
		}
	}()
	root := e.root()
	root.SetArgs(e.Args)
	root.SetOut(e.Out)
	root.SetErr(e.ErrOut)
	err := root.ExecuteContext(ctx)
	var x *exit
	switch {
	case err == nil:
		return exitOK
	case errors.As(err, &x):
		var list several
		if x.err != nil && !errors.As(x.err, &list) {
			list = several{x.err}
		}
		for _, err := range list {
			plain.Fprintln(e.ErrOut, "hodstone:", errorText(err))
		}
		return x.code
	}
	plain.Fprintf(e.ErrOut, "hodstone: %s\n'hodstone --help' lists the commands\n", errorText(err))
	return exitUsage
}

func (e *Env) root() *cobra.Command {
	var rec recording
	at := ""
	root := &cobra.Command{
		Use:   "hodstone [WORKSPACE]",
		Short: "Define, simulate and prove MQTT between devices and brokers",
		Long: `Hodstone opens a workspace file: it plays the devices that are not there yet, watches
what goes over the wire, holds every message against the contract, and proves what
the broker guarantees, with evidence.

Without a command it opens the screens; without a workspace, ./hodstone.yaml.`,
		Args: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				if err := notACommand(c, args[0]); err != nil {
					return err
				}
			}
			return cobra.MaximumNArgs(1)(c, args)
		},
		SilenceErrors: true, SilenceUsage: true,
		RunE: func(c *cobra.Command, args []string) error {
			path := "hodstone.yaml"
			if len(args) > 0 {
				path = args[0]
				if err := notACommand(c, path); err != nil {
					return err
				}
			} else if _, err := os.Stat(path); err != nil {
				return usage(
					"there is no hodstone.yaml here: name a workspace, or open the example with 'hodstone demo'",
				)
			}
			w, err := openWorkspace(path)
			if err != nil {
				return err
			}
			return e.open(c.Context(), w, workbench.Options{Follow: true, Proofs: proofsBeside(w.File), At: at}, &rec)
		},
	}
	rec.flags(root.Flags())
	root.Flags().
		StringVar(&at, "at", "", "BROKER or BROKER/LISTENER that all devices speak to, in place of what the workspace says")
	root.AddCommand(
		e.demo(), e.initialise(),
		e.reach(),
		e.trust(),
		e.contract(),
		e.watch(),
		e.send(),
		e.trace(),
		e.prove(),
		e.load(),
		e.standIn(),
		e.tap(),
		e.version(),
	)
	return root
}

// notACommand tells that what was given in place of a workspace is a word that looks like a command; nil where it
// may be a workspace.
func notACommand(c *cobra.Command, word string) error {
	if _, err := os.Stat(word); err == nil || strings.ContainsAny(word, "./\\:") {
		return nil
	}
	var names []string
	for _, sub := range c.Root().Commands() {
		names = append(names, sub.Name())
	}
	hint, best := "", 3
	for _, name := range names {
		if d := levenshtein.ComputeDistance(word, name); d < best || len(word) > 2 && strings.HasPrefix(name, word) {
			hint, best = fmt.Sprintf("did you mean %s? ", name), d
		}
	}
	return usage(
		"there is no command %s, nor a workspace of that name: %s'hodstone --help' lists the commands",
		word,
		hint,
	)
}

// openWorkspace opens a workspace. What is an address, or not there at all, is told as that.
func openWorkspace(path string) (*workspace.Workspace, error) {
	info, err := os.Stat(path)
	switch {
	case err == nil && info.IsDir():
		if _, err := os.Stat(filepath.Join(path, "hodstone.yaml")); err != nil {
			return nil, usage(
				"the folder %s holds no hodstone.yaml: name the workspace's file, or write an example there with 'hodstone demo --write %s'",
				path,
				path,
			)
		}
	case err != nil && strings.Contains(path, "://"):
		return nil, usage(
			"%s is an address, and a workspace is needed here: 'hodstone prove --url %s' proves a broker by its address, and 'hodstone init' begins a workspace",
			path,
			path,
		)
	case err != nil && looksLikeAddress(path):
		return nil, usage(
			"there is no workspace %s; if it is a broker's address, write mqtt://%s (mqtts:// over TLS, ws:// or wss:// over WebSocket)",
			path,
			path,
		)
	case errors.Is(err, fs.ErrNotExist):
		return nil, usage(
			"cannot open the workspace: there is no %s: 'hodstone demo' opens an example, 'hodstone demo --write DIR' writes it out",
			path,
		)
	}
	w, err := workspace.Open(path)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	return w, nil
}

// looksLikeAddress tells of HOST:PORT, and of names and addresses of hosts, which workspaces are not called.
func looksLikeAddress(s string) bool {
	host, port, err := net.SplitHostPort(s)
	if err != nil {
		host = s
	} else if _, err := strconv.ParseUint(port, 10, 16); err != nil {
		return false
	}
	if net.ParseIP(strings.Trim(host, "[]")) != nil || host == "localhost" {
		return true
	}
	switch filepath.Ext(host) {
	case "", ".yaml", ".yml", ".json", ".db":
		return err == nil && host != "" // with a port
	}
	return !strings.ContainsAny(host, "/\\ ")
}

// open shows the screens on a workspace.
func (e *Env) open(ctx context.Context, w *workspace.Workspace, o workbench.Options, rec *recording) (err error) {
	if !e.Terminal {
		return usage(
			"the screens need a terminal; 'hodstone watch', 'hodstone prove' and 'hodstone contract check' work without",
		)
	}
	b, err := workbench.New(w, o)
	if err != nil {
		return &exit{exitUsage, err}
	}
	stopRecord, err := rec.start(ctx, e, b.Log, map[string]string{"workspace": w.Name})
	if err != nil {
		b.Close()
		return err
	}
	b.Recorder = rec.recorder
	defer func() {
		b.Close() // its last packets go onto the record
		if closing := stopRecord(); closing != nil && err == nil {
			err = closing
		}
	}()
	if err := e.Screens(ctx, b); err != nil {
		return &exit{exitUsage, err}
	}
	return nil
}

func (e *Env) demo() *cobra.Command {
	var write string
	var faults []string
	var dairy bool
	var rec recording
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open the sea farm Marrow Voe, with its own stand-in broker",
		Long: `Open the sea farm Marrow Voe, with its own stand-in broker; or, with --dairy, the small dairy Hollow Lane.
What is opened is a copy in a folder of its own, which is gone at the end: what you change there is too.
--write DIR gives you one to keep.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			example := demoFiles(dairy)
			if write != "" {
				return e.writeDemo(write, example, dairy)
			}
			dir, err := sampleCredentials()
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			quiet := *e
			quiet.Out = io.Discard
			if err := quiet.copyDemo(dir, example); err != nil {
				return err
			}
			w, err := workspace.Open(dir)
			if err != nil {
				return &exit{exitUsage, err}
			}
			o := workbench.Options{Faults: faults, Reach: true, Follow: true}
			if !dairy {
				o.Credentials = []string{filepath.Join(dir, "creds")}
			}
			return e.open(c.Context(), w, o, &rec)
		},
	}
	rec.flags(c.Flags())
	c.Flags().StringVar(&write, "write", "", "write the demo workspace into this folder instead of opening it")
	c.Flags().BoolVar(&dairy, "dairy", false, "the small cheese dairy in place of the sea farm")
	c.Flags().StringArrayVar(&faults, "fault", nil, "let the stand-in misbehave; may be given several times")
	return c
}

// demoFiles are those of an example.
func demoFiles(dairy bool) fs.FS {
	if dairy {
		if sub, err := fs.Sub(demo.Files, demo.Dairy); err == nil {
			return sub
		}
	}
	return demo.Files
}

// sampleCredentials makes the demo's folder of credentials, which are new at every start.
func sampleCredentials() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "hodstone-demo"); err != nil {
		return "", err
	}
	if err = writeSamples(dir); err != nil {
		os.RemoveAll(dir)
	}
	return dir, err
}

func writeSamples(dir string) error {
	return trust.WriteSamples(filepath.Join(dir, "creds"), "Marrow Voe")
}

// writeDemo copies the demo workspace; it overwrites nothing.
func (e *Env) writeDemo(dir string, example fs.FS, dairy bool) error {
	if dairy { // it has no credentials
		return e.copyDemo(dir, example)
	}
	if _, err := os.Stat(filepath.Join(dir, "creds")); err == nil {
		return usage("%s is there already: choose another folder", filepath.Join(dir, "creds"))
	}
	if err := e.copyDemo(dir, example); err != nil {
		return err
	}
	plain.Fprintln(e.Out, filepath.Join(dir, "creds"))
	return writeSamples(dir)
}

func (e *Env) copyDemo(dir string, example fs.FS) error {
	return fs.WalkDir(example, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name == demo.Dairy {
			return fs.SkipDir // an example by itself
		}
		to := filepath.Join(dir, filepath.FromSlash(name))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		if _, err := os.Stat(to); err == nil {
			return usage("%s is there already: choose another folder", to)
		}
		b, err := fs.ReadFile(example, name)
		if err != nil {
			return err
		}
		plain.Fprintln(e.Out, to)
		return os.WriteFile(to, b, 0o644)
	})
}

func (e *Env) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Tell which Hodstone this is", Args: cobra.NoArgs,
		Run: func(*cobra.Command, []string) { plain.Fprintln(e.Out, programVersion()) },
	}
}

// programVersion says which Hodstone this is.
func programVersion() string {
	rev, modified, goVersion := "unknown", "", "unknown"
	if info, ok := debug.ReadBuildInfo(); ok {
		goVersion = info.GoVersion
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				rev = s.Value[:min(12, len(s.Value))]
			case s.Key == "vcs.modified" && s.Value == "true":
				modified = " with changes"
			}
		}
	}
	return fmt.Sprintf("hodstone 0.1, revision %s%s, %s", rev, modified, goVersion)
}
