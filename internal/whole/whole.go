// Package whole writes files so that whoever reads them sees the old content or
// the new, never a part of it, also after a crash: beside, synced, then put in
// place, and the folder synced.
package whole

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// Owner is who a file is given to.
type Owner struct{ UID, GID int }

// OwnerOf gives who a file or a folder belongs to; nil where that cannot be seen.
func OwnerOf(path string) *Owner {
	st, err := os.Stat(path)
	if err != nil {
		return nil
	}
	sys := st.Sys().(*syscall.Stat_t)
	return &Owner{int(sys.Uid), int(sys.Gid)}
}

// Replace writes a file in place of the one that may be there. An owner of nil
// leaves it to whoever writes it.
func Replace(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return place(path, bytesOf(b), mode, owner, os.Rename)
}

// Write does the same with what a function writes.
func Write(path string, mode fs.FileMode, owner *Owner, write func(io.Writer) error) error {
	return place(path, write, mode, owner, os.Rename)
}

func bytesOf(b []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	}
}

// Create writes a file that must not be there yet; else the error is fs.ErrExist.
func Create(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return place(path, bytesOf(b), mode, owner, os.Link)
}

func place(path string, write func(io.Writer) error, mode fs.FileMode, owner *Owner, put func(from, to string) error) error {
	dir := filepath.Dir(path)
	f, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // after a rename there is nothing of that name
	err = write(f)
	if err == nil && owner != nil {
		err = f.Chown(owner.UID, owner.GID)
	}
	if err == nil {
		err = f.Chmod(mode)
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := put(f.Name(), path); err != nil {
		return err
	}
	d, err := os.Open(dir)
	if err != nil {
		return nil // it may be written but not read; the file is in place
	}
	defer d.Close()
	return d.Sync()
}
