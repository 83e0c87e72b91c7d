// Package workspace reads the one file that opens everything: brokers, logins, contract and
// devices. What is wrong is told by line and column; what is sound is kept.
package workspace

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"hodstone/internal/contract"
	"hodstone/internal/infile"
)

// Limits of a workspace.
const (
	// MaxFileSize is how many bytes a file of a workspace may have: it is written by hand.
	MaxFileSize = 4 << 20
	maxBeside   = 16 << 20 // of a file that it names
	maxSecret   = 64 << 10 // of a file that holds a password
	maxDevices  = 1_000    // of one kind; more is a matter of load, not of simulation
)

// Secret is text that is never shown.
type Secret struct{ value string }

// NewSecret marks a text as secret.
func NewSecret(s string) Secret { return Secret{s} }

// Reveal returns the text itself, for use in a packet.
func (s Secret) Reveal() string { return s.value }

// String hides it.
func (Secret) String() string { return "•••" }

// GoString hides it from %#v.
func (Secret) GoString() string { return "•••" }

// MarshalText hides it from encoders.
func (Secret) MarshalText() ([]byte, error) { return []byte("•••"), nil }

// LogValue hides it from logs.
func (Secret) LogValue() slog.Value { return slog.StringValue("•••") }

// Workspace is the content of a workspace file. Parts with problems are missing.
type Workspace struct {
	File     string // its path, for messages
	Name     string
	Brokers  []*Broker
	Logins   []*Login
	Contract *contract.Contract
	Devices  []*Device
	Trials   []*Trial
	Taps     []*Tap
	Loads    []*Load
	Messages []*Prepared
	Readouts []*Readout
	// Credentials are files and folders to look at, relative to the file's folder.
	Credentials []string
	// TrustFiles are the files of certificates and keys that listeners and logins name,
	// relative to the file's folder.
	TrustFiles []string
	Problems   []*Problem

	text     []byte
	print    string            // of the text and the files that it names
	named    []string          // the files that were read, sorted
	patterns []string          // of the names of files that the contract includes
	sections map[string]string // a print of what defines a part, such as "device pen" or "contract"
}

// Same tells whether a part is defined alike in two workspaces: "contract", "device NAME", "broker NAME" or "login
// NAME". A change in a file that a part names counts for the contract's schemas and for all that uses certificates.
func Same(a, b *Workspace, part string) bool {
	x, ok := a.sections[part]
	y, also := b.sections[part]
	return ok == also && x == y
}

// Open reads the workspace file. The error is for a file that cannot be read at all; what
// is wrong within it is in Problems.
func Open(file string) (*Workspace, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, fmt.Errorf(
			"cannot open the workspace: %w: 'hodstone demo' opens an example, 'hodstone demo --write DIR' writes it out",
			err,
		)
	}
	if info.IsDir() {
		file = filepath.Join(file, "hodstone.yaml")
	}
	src, err := infile.Read(file, MaxFileSize)
	if err != nil {
		return nil, unreadable(file, err)
	}
	return open(file, src)
}

// open reads a workspace whose text is known, with the files beside it.
func open(file string, src []byte) (*Workspace, error) {
	dir, err := infile.Open(filepath.Dir(file), maxBeside)
	if err != nil {
		return nil, fmt.Errorf("cannot read the workspace's folder: %w", err)
	}
	defer dir.Close()
	return read(dir, src, file), nil
}

func unreadable(shown string, err error) error {
	if errors.Is(err, infile.ErrTooLarge) {
		return fmt.Errorf("%s has too many bytes; a workspace has at most %d", shown, MaxFileSize)
	}
	return fmt.Errorf("cannot read the workspace: %w", err)
}

// Read reads the workspace from a file system; shown is its path for messages.
func Read(fsys fs.FS, name, shown string) (*Workspace, error) {
	src, err := fs.ReadFile(fsys, name)
	if err != nil {
		return nil, fmt.Errorf("cannot read the workspace: %w", err)
	}
	if len(src) > MaxFileSize {
		return nil, unreadable(shown, infile.ErrTooLarge)
	}
	return read(fsys, src, shown), nil
}

func read(fsys fs.FS, src []byte, shown string) *Workspace {
	w := &Workspace{
		File:     shown,
		Contract: &contract.Contract{Parameters: map[string]contract.Parameter{}},
		text:     src,
		sections: map[string]string{},
	}
	r, root, ok := parse(shown, src)
	if ok {
		files := reading{fsys, map[string]string{}}
		l := loader{w: w, fsys: files, files: files.seen}
		l.load(root)
		w.named = slices.Sorted(maps.Keys(files.seen))
		for _, other := range l.others {
			r.problems = append(r.problems, other.problems...)
		}
	}
	w.Problems = r.problems
	w.print = w.printOf(src)
	return w
}

// Broker returns the broker with the name, the first for "", or nil.
func (w *Workspace) Broker(name string) *Broker {
	for _, b := range w.Brokers {
		if b.Name == name || name == "" {
			return b
		}
	}
	return nil
}

// Login returns the login with the name, or nil.
func (w *Workspace) Login(name string) *Login {
	for _, l := range w.Logins {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// literals turns numbers of a template's literals into float64, as expressions have them.
func literals(v any) any {
	switch v := v.(type) {
	case json.Number:
		if i, err := v.Int64(); err == nil {
			return int(i)
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = literals(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = literals(v[k])
		}
	}
	return v
}
