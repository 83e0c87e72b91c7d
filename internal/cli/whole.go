package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// product is a file that is made of a result. It is begun before the work, so that no result is lost for want of a place.
type product[T any] struct {
	name, what string // no name where it is not asked for
	make       func(w io.Writer, of *T) error
	file       *whole
}

// begun begins the products that are asked for.
func begun[T any](all ...product[T]) (out []product[T], err error) {
	for _, x := range all {
		if x.name == "" {
			continue
		}
		if x.file, err = newWhole(x.name); err != nil {
			abandon(out)
			return nil, usage("%s cannot be written: %w", x.what, err)
		}
		out = append(out, x)
	}
	return out, nil
}

// abandon takes back those that were not written.
func abandon[T any](all []product[T]) {
	for _, x := range all {
		x.file.abandon()
	}
}

// write makes the file.
func (x *product[T]) write(of *T) error {
	var b bytes.Buffer
	err := x.make(&b, of)
	if err == nil {
		err = x.file.commit(b.Bytes())
	}
	if err != nil {
		return fmt.Errorf("%s could not be written: %w", x.what, err)
	}
	return nil
}

// whole is a file that is written whole or not at all.
type whole struct {
	name   string
	f      *os.File
	device bool // a pipe or a terminal, which nothing can be put in the place of
}

// newWhole begins one beside the place where it is to be.
func newWhole(name string) (*whole, error) {
	at, err := os.Stat(name)
	switch {
	case err == nil && at.IsDir():
		return nil, fmt.Errorf("%s is a folder", name)
	case err == nil && !at.Mode().IsRegular():
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		return &whole{name, f, true}, err
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".hodstone-*")
	if why := (*fs.PathError)(nil); errors.As(err, &why) {
		return nil, fmt.Errorf("%s: %w", name, why.Err)
	}
	if err != nil {
		return nil, err
	}
	return &whole{name, f, false}, nil
}

// commit writes the file and puts it in its place.
func (w *whole) commit(b []byte) error {
	_, err := w.f.Write(b)
	if w.device {
		return err
	}
	if err == nil {
		err = w.f.Chmod(0o644)
	}
	if err == nil {
		err = w.f.Sync()
	}
	if err == nil {
		err = w.f.Close()
	}
	if err == nil {
		err = os.Rename(w.f.Name(), w.name)
	}
	return err
}

// abandon takes back what is not in its place.
func (w *whole) abandon() {
	w.f.Close()
	if w.device {
		return
	}
	os.Remove(w.f.Name())
}
