// Package whole writes files so that whoever reads them sees the old content or
// the new, never a part of it, also after a crash: beside, synced, then put in
// place, and the folder synced.
package whole

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Owner is who a file is given to.
type Owner struct{ UID, GID int }

// Replace writes a file in place of the one that may be there. An owner of nil
// leaves it to whoever writes it.
func Replace(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return place(path, b, mode, owner, os.Rename)
}

// Create writes a file that must not be there yet; else the error is fs.ErrExist.
func Create(path string, b []byte, mode fs.FileMode, owner *Owner) error {
	return place(path, b, mode, owner, os.Link)
}

func place(path string, b []byte, mode fs.FileMode, owner *Owner, put func(from, to string) error) error {
	dir := filepath.Dir(path)
	f, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // after a rename there is nothing of that name
	_, err = f.Write(b)
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
