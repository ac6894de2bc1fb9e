package atomicfile

import (
	"errors"
	"io"

	"cozyshelf/internal/boundary"

	"golang.org/x/sys/unix"
)

// Locks reports with what error a file system refuses to lock files of a folder, as
// shares without a lock service do: nil where it locks, and where it cannot be tried
// because nothing may be written there. It leaves nothing behind.
func Locks(dir string) error {
	d, err := boundary.Open(dir)
	if err != nil {
		return nil
	}
	defer d.Close()
	fd, err := unix.Openat(d.Fd(), ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EISDIR) ||
		errors.Is(err, unix.EINVAL) { // not every file system has files without a name
		name := boundary.NewName()
		f, cerr := d.Create(name, 0o600)
		if cerr != nil {
			return nil
		}
		defer f.Close()
		if err := d.Remove(name); err != nil {
			return nil
		}
		return tryLock(f.Fd())
	}
	if err != nil {
		return nil
	}
	defer unix.Close(fd)
	return tryLock(uintptr(fd))
}

func tryLock(fd uintptr) error {
	err := unix.FcntlFlock(fd, unix.F_SETLK, &unix.Flock_t{Type: unix.F_WRLCK, Whence: io.SeekStart, Len: 1})
	if errors.Is(err, unix.ENOLCK) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) ||
		errors.Is(err, unix.EINVAL) {
		return err
	}
	return nil
}
