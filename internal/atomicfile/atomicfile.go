// Package atomicfile writes files so that whoever reads them sees the old content or
// the new, never a part of it, also after a crash: beside, synced, then put in
// place, and the folder synced. Folders are reached as package boundary reaches them:
// never by a link that somebody else could have made.
//
// Replace and Write put a file in the place of another, Create and WriteNew only where there is
// none. Until it is put in place, a file has no name (O_TMPFILE); where the file system cannot do
// that, it has one that begins with layout.Unfinished and is locked while it is written, so that
// Sweep can tell what a crash has left.
//
// Claim lets one process at a time work on a folder.
package atomicfile

import (
	"bytes"
	"io"
	"io/fs"
	"path/filepath"

	"cozyshelf/internal/boundary"
)

// Owner is who a file is given to.
type Owner = boundary.Owner

// OwnerOf gives who a folder belongs to; nil where that cannot be seen.
func OwnerOf(folder string) *Owner {
	d, err := boundary.Open(folder)
	if err != nil {
		return nil
	}
	defer d.Close()
	o, err := d.Owner()
	if err != nil {
		return nil
	}
	return &o
}

// Replace writes a file in place of the one that may be there. An owner of nil
// leaves it to whoever writes it.
func Replace(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return Write(path, mode, owner, func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(b))
		return err
	})
}

// Write does the same with what a function writes.
func Write(path string, mode fs.FileMode, owner *Owner, write func(io.Writer) error) error {
	return in(path, func(d *boundary.Dir, name string) error { return d.Write(name, mode, owner, write) })
}

// Create writes a file that must not be there yet; else the error is fs.ErrExist.
func Create(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return WriteNew(path, mode, owner, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

// WriteNew does the same with what a function writes.
func WriteNew(path string, mode fs.FileMode, owner *Owner, write func(io.Writer) error) error {
	return in(path, func(d *boundary.Dir, name string) error { return d.WriteNew(name, mode, owner, write) })
}

// Sweep removes what is left, in a folder, of files with a name that is ours, which were
// being written when the program was ended.
func Sweep(folder string, ours func(name string) bool) {
	d, err := boundary.Open(folder)
	if err != nil {
		return // there is no such folder
	}
	defer d.Close()
	d.SweepUnfinished(ours)
}

func in(path string, do func(d *boundary.Dir, name string) error) error {
	d, err := boundary.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer d.Close()
	return do(d, filepath.Base(path))
}
