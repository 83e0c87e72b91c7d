// Package infile reads files that somebody else may have made: no more than so many bytes, not for
// longer than so long, and in a folder's name nothing from outside of it.
package infile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Patience is how long what is no regular file, such as a pipe, may take to be read.
const Patience = 5 * time.Second

// ErrTooLarge is the error for more bytes than are taken.
var ErrTooLarge = errors.New("it is too large")

// ErrNotRegular is the error for what is no regular file where only such are read.
var ErrNotRegular = errors.New("it is no regular file")

// ErrOutside is the error for a name that leads out of the folder, or that begins at the root; it is an [fs.ErrInvalid].
var ErrOutside = fmt.Errorf("%w: names are those of files in the folder of the workspace, without .. and with / between the parts", fs.ErrInvalid)

// Read reads a file that the user names, which may be a pipe or a device: at most so many bytes,
// and within [Patience] where it is no regular file.
func Read(name string, most int64) ([]byte, error) {
	// Without waiting for somebody to write into a pipe.
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case info.IsDir():
		return nil, &fs.PathError{Op: "read", Path: name, Err: syscall.EISDIR}
	case info.Mode().IsRegular():
		return upTo(f, name, most)
	}
	f.SetReadDeadline(time.Now().Add(Patience)) // what has none is read as it comes, up to the limit
	b, err := upTo(f, name, most)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("nothing more came within %s", Patience)}
	}
	return b, err
}

func upTo(r io.Reader, name string, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: name, Err: fmt.Errorf("%w: at most %d bytes are read", ErrTooLarge, most)}
	}
	return b, err
}

// Folder is a folder whose regular files can be read, whatever links there are in it: none leads out.
// It implements [fs.ReadFileFS] and [fs.ReadDirFS].
type Folder struct {
	root *os.Root
	most int64
}

// Open opens a folder; files of more than so many bytes are not read.
func Open(dir string, most int64) (*Folder, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return &Folder{root, most}, nil
}

// Close closes the folder.
func (f *Folder) Close() error { return f.root.Close() }

// Open implements [fs.FS], for regular files.
func (f *Folder) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrOutside}
	}
	file, err := f.root.OpenFile(path.Clean(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// maxEntries is how many names of a folder are looked at.
const maxEntries = 10_000

// ReadDir implements [fs.ReadDirFS], for folders of a moderate number of files.
func (f *Folder) ReadDir(name string) ([]fs.DirEntry, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrOutside}
	}
	dir, err := f.root.OpenFile(path.Clean(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	all, err := dir.ReadDir(maxEntries)
	if err == io.EOF {
		err = nil
	}
	slices.SortFunc(all, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return all, err
}

// ReadFile implements [fs.ReadFileFS].
func (f *Folder) ReadFile(name string) ([]byte, error) {
	file, err := f.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return upTo(file, name, f.most)
}
