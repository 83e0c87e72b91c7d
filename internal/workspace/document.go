package workspace

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"hodstone/internal/infile"
)

// Document is a workspace as text: the text, its revision, and what was read from it. A revision with errors never
// replaces a sound one: the sound one stays in force, and the errors are told. Safe for concurrent use.
type Document struct {
	file string // its path

	mu       sync.Mutex
	text     []byte
	revision int
	print    string     // of the text and the files that it names
	sound    *Workspace // the latest that has no problems, or the first
	problems []*Problem // of the latest, where it is not in force
	undo     []edit
	prepare  func(old, now *Workspace)
}

// edit is a change of a text.
type edit struct {
	file   string // beside the workspace; "" for its own
	at     int
	length int    // of what is replaced
	with   string // what comes in its place
	print  string // of the text in which it can be made; "" for any
}

// maxUndo bounds what can be taken back.
const maxUndo = 1_000

// NewDocument returns the document of a workspace that was read; its file may be none on disk, as the demo's.
func NewDocument(w *Workspace) *Document {
	d := &Document{file: w.File, sound: w, revision: 1, text: w.text}
	d.print = w.print
	return d
}

// Prepare lets f complete what is about to come into force by what is, before anybody sees it. f must not call the
// document.
func (d *Document) Prepare(f func(old, now *Workspace)) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.prepare = f
}

// Workspace returns what is in force.
func (d *Document) Workspace() *Workspace {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.sound
}

// Revision numbers the states of the text from 1.
func (d *Document) Revision() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.revision
}

// Problems returns what is wrong with the latest text: with that in force, or, where old is true, with one that is
// not in force for that reason.
func (d *Document) Problems() (problems []*Problem, old bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.problems != nil {
		return d.problems, true
	}
	return d.sound.Problems, false
}

// Text returns the latest text.
func (d *Document) Text() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return string(d.text)
}

// Reload takes in what the file and the files that it names hold now. changed tells that another revision is in
// force; the error that the file cannot be read at all.
func (d *Document) Reload() (changed bool, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	text, err := infile.Read(d.file, MaxFileSize)
	if err != nil {
		return false, fmt.Errorf("the workspace cannot be read any longer: %w", err)
	}
	if d.print == d.sound.printOf(text) && d.problems == nil {
		return false, nil
	}
	if !bytes.Equal(text, d.text) {
		d.undo = nil // the places of its edits are those of another text
	}
	return d.take(text)
}

// take makes a text the latest; d.mu is held.
func (d *Document) take(text []byte) (changed bool, err error) {
	w, err := open(d.file, text)
	if err != nil {
		return false, err
	}
	if w.print == d.print {
		return false, nil
	}
	d.text, d.print = text, w.print
	d.revision++
	if len(w.Problems) > 0 {
		d.problems = w.Problems
		return false, nil
	}
	if d.prepare != nil {
		d.prepare(d.sound, w)
	}
	d.problems, d.sound = nil, w
	return true, nil
}

// Splice replaces length bytes of the text at an offset and writes the file; untouched lines stay byte for byte. The
// error says why the file could not be written: then nothing has changed.
func (d *Document) Splice(at, length int, with string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.change(edit{at: at, length: length, with: with})
}

// change makes an edit, and remembers how it is taken back; d.mu is held.
func (d *Document) change(e edit) error {
	back, err := d.splice(e)
	if err != nil {
		return err
	}
	if d.undo = append(d.undo, back); len(d.undo) > maxUndo {
		d.undo = d.undo[1:]
	}
	return nil
}

// Undo takes the last edit back, and tells whether there was one.
func (d *Document) Undo() (bool, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	n := len(d.undo)
	if n == 0 {
		return false, nil
	}
	if _, err := d.splice(d.undo[n-1]); err != nil {
		return false, err
	}
	d.undo = d.undo[:n-1]
	return true, nil
}

// CanUndo tells whether there is an edit to take back.
func (d *Document) CanUndo() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.undo) > 0
}

// textOf is what a file holds: the workspace's own, "", or one beside it; d.mu is held.
func (d *Document) textOf(file string) (string, error) {
	if file == "" {
		return string(d.text), nil
	}
	dir, err := infile.Open(filepath.Dir(d.file), MaxFileSize)
	if err != nil {
		return "", err
	}
	defer dir.Close()
	b, err := dir.ReadFile(file)
	return string(b), err
}

// splice changes text and file, unless the file holds something else than we know: then somebody else is at it. It
// returns the edit that takes this one back.
func (d *Document) splice(e edit) (back edit, err error) {
	name := d.file
	if e.file != "" {
		name = filepath.Join(filepath.Dir(d.file), filepath.FromSlash(e.file))
	}
	was, err := d.textOf(e.file)
	if err == nil && e.file == "" {
		var now []byte
		if now, err = infile.Read(d.file, MaxFileSize); err == nil && !bytes.Equal(now, d.text) {
			return back, fmt.Errorf("%s was changed by another program a moment ago: try again", name)
		}
	}
	switch {
	case err != nil:
		return back, fmt.Errorf("the workspace cannot be written: %w", err)
	case e.print != "" && e.print != hash([]byte(was)):
		return back, fmt.Errorf("%s was changed by another program since: this cannot be taken back", name)
	case e.at < 0 || e.length < 0 || e.at+e.length > len(was):
		return back, fmt.Errorf("there is no place %d to %d in %d bytes", e.at, e.at+e.length, len(was))
	}
	text := []byte(was[:e.at] + e.with + was[e.at+e.length:])
	if err := replace(name, text); err != nil {
		return back, fmt.Errorf("the workspace cannot be written: %w", err)
	}
	back = edit{file: e.file, at: e.at, length: len(e.with), with: was[e.at : e.at+e.length]}
	if e.file != "" {
		back.print = hash(text)
		text = d.text
	}
	_, err = d.take(text)
	return back, err
}

// replace writes a file whole or not at all; of a link, the file that it leads to.
func replace(name string, text []byte) error {
	name, err := filepath.EvalSymlinks(name)
	if err != nil {
		return err
	}
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".hodstone-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // does nothing after the rename
	_, err = f.Write(text)
	for _, next := range []func() error{f.Sync, func() error { return f.Chmod(info.Mode().Perm()) }, f.Close} {
		if e := next(); err == nil {
			err = e
		}
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

// reading is a file system that remembers which files were read.
type reading struct {
	fs.FS
	seen map[string]string // hashes by name; "" for what could not be read
}

// ReadFile implements [fs.ReadFileFS].
func (r reading) ReadFile(name string) ([]byte, error) {
	b, err := fs.ReadFile(r.FS, name)
	if r.seen[name] = ""; err == nil {
		r.seen[name] = hash(b)
	}
	return b, err
}

// ReadDir implements [fs.ReadDirFS].
func (r reading) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(r.FS, name) }

func hash(b []byte) string { return fmt.Sprintf("%x", sha256.Sum256(b)) }

// printOf is a print of the workspace if its text were another, with the files that it names as they are now.
func (w *Workspace) printOf(text []byte) string {
	h := sha256.New()
	h.Write(text)
	dir, failed := infile.Open(filepath.Dir(w.File), maxBeside)
	if failed == nil {
		defer dir.Close()
	}
	for _, name := range w.named {
		err := failed
		if err == nil {
			var b []byte
			if b, err = dir.ReadFile(name); err == nil {
				h.Write(b)
			}
		}
		fmt.Fprintf(h, "\x00%s %v\x00", name, err == nil)
	}
	for _, pattern := range w.patterns { // a file that is new counts too
		if failed == nil {
			found, _ := fs.Glob(dir, pattern)
			fmt.Fprintf(h, "\x00%q\x00", found)
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}
