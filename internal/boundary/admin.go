package boundary

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"cozyshelf/internal/core/layout"

	"golang.org/x/sys/unix"
)

// Admin gives the path of the administrator's folder of a household: what commands note
// down for themselves and later believe. Root's lies beside the state folder, where the
// server's account cannot reach it. Whoever else runs commands is the run-as account
// itself, and keeps it in the state folder.
func Admin(state string) string {
	state = filepath.Clean(state)
	if os.Geteuid() == 0 {
		return state + ".admin"
	}
	return filepath.Join(state, layout.AdminIn)
}

// WorkName is the folder in it for what is half made. Whatever lies there belongs to no
// command that is over.
const WorkName = layout.Work

// OpenAdmin opens the administrator's folder. One that is missing is made if wished, once
// there is a state folder; else the error is fs.ErrNotExist.
func OpenAdmin(state string, make bool) (*Dir, error) {
	path := Admin(state)
	above, err := OpenOwn(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer above.Close()
	name := filepath.Base(path)
	d, err := above.Sub(name)
	if errors.Is(err, fs.ErrNotExist) && make {
		if d, err = above.Mkdir(name, 0o700, nil); errors.Is(err, fs.ErrExist) {
			d, err = above.Sub(name)
		}
	}
	if err != nil {
		return nil, err
	}
	if !d.shut {
		d.Close()
		return nil, fault("open", path, ErrOpen)
	}
	return d, nil
}

// Work makes a folder for what is half made, with a name of its own, and gives it with
// the function that removes it. It is locked as long as it is open, so that nobody sweeps it.
func Work(state string) (*Dir, func(), error) {
	admin, err := OpenAdmin(state, true)
	if err != nil {
		return nil, nil, err
	}
	work, err := admin.MkdirAll(WorkName, 0o700, nil)
	if err != nil {
		admin.Close()
		return nil, nil, err
	}
	name := NewName()
	d, err := work.Mkdir(name, 0o700, nil)
	if err != nil {
		work.Close()
		admin.Close()
		return nil, nil, err
	}
	_ = unix.Flock(d.Fd(), unix.LOCK_EX|unix.LOCK_NB) // where there are no locks, it is left at that
	return d, func() {
		d.Close()
		_ = work.RemoveAll(name) // what stays is swept by the next command
		_ = admin.RemoveDir(WorkName)
		work.Close()
		admin.Close()
	}, nil
}

// Left gives the names of what commands that were cut off left half made.
func Left(state string) []string {
	admin, err := OpenAdmin(state, false)
	if err != nil {
		return nil // there is none, or it is not for the caller to see
	}
	defer admin.Close()
	work, err := admin.Sub(WorkName)
	if err != nil {
		return nil
	}
	defer work.Close()
	names, _ := work.Names()
	return slices.DeleteFunc(names, func(n string) bool {
		d, err := work.Sub(n)
		if err != nil {
			return false
		}
		defer d.Close()
		return errors.Is(unix.Flock(d.Fd(), unix.LOCK_EX|unix.LOCK_NB), unix.EWOULDBLOCK)
	})
}

// Sweep removes what commands that were cut off left half made. Whoever calls it holds
// the lock of the household, so that no other command changes it; those that only look at
// a backup hold the folder that they do it in.
func Sweep(state string) {
	admin, err := OpenAdmin(state, false)
	if err != nil {
		return // there is none
	}
	defer admin.Close()
	if work, err := admin.Sub(WorkName); err == nil {
		names, _ := work.Names()
		for _, n := range names {
			d, err := work.Sub(n)
			busy := err == nil && errors.Is(unix.Flock(d.Fd(), unix.LOCK_EX|unix.LOCK_NB), unix.EWOULDBLOCK)
			if err == nil {
				d.Close()
			}
			if !busy {
				_ = work.RemoveAll(n) // it is tried again next time
			}
		}
		work.Close()
		_ = admin.RemoveDir(WorkName)
	}
	for _, in := range []string{".", layout.Undo, layout.Backups} {
		d, err := admin.Sub(in)
		if err != nil {
			continue
		}
		names, _ := d.Names()
		for _, n := range names {
			if len(n) > len(Unfinished) && n[:len(Unfinished)] == Unfinished {
				_ = d.RemoveAll(n)
			}
		}
		d.Close()
	}
}
