package boundary

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/core/layout"

	"golang.org/x/sys/unix"
)

// Dir is an open folder. All its methods work on what it was when it was opened, even
// if its path leads elsewhere by now; and none follows a link. Names may be paths below
// it, with slashes, unless a method says otherwise. Close it.
type Dir struct {
	path string
	fd   int
	shut bool // only root and the caller can put names into it, and into those above it
}

// Open opens a folder that may belong to others.
func Open(path string) (*Dir, error) { return open(path, false) }

// OpenOwn opens a folder that nobody but root and the caller could have put there, or
// can put names into.
func OpenOwn(path string) (*Dir, error) { return open(path, true) }

func open(path string, own bool) (*Dir, error) {
	fd, err := walk(path, own)
	if err != nil {
		return nil, err
	}
	d, err := asDir(fd, path)
	if err != nil {
		return nil, err
	}
	d.shut = own || Safe(path) == nil
	return d, nil
}

// MakeAll opens a folder as Open does, making what is missing of its path, for the caller.
func MakeAll(path string, mode fs.FileMode) (*Dir, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	missing := ""
	for at := path; ; at = filepath.Dir(at) {
		d, err := Open(at)
		switch {
		case err == nil && missing == "":
			return d, nil
		case err == nil:
			defer d.Close()
			return d.MkdirAll(missing, mode, nil)
		case !errors.Is(err, fs.ErrNotExist) || at == "/":
			return nil, err
		}
		missing = filepath.Join(filepath.Base(at), missing)
	}
}

// asDir makes a Dir of a descriptor that only marks a folder, and closes that.
func asDir(mark int, path string) (*Dir, error) {
	defer unix.Close(mark)
	var st unix.Stat_t
	if err := unix.Fstat(mark, &st); err != nil {
		return nil, fault("stat", path, err)
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR {
		return nil, fault("open", path, unix.ENOTDIR)
	}
	fd, err := unix.Openat(mark, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.EACCES) { // it may be passed, not listed
		fd, err = unix.Openat(mark, ".", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	}
	if err != nil {
		return nil, fault("open", path, err)
	}
	return &Dir{path: path, fd: fd}, nil
}

// Close lets go of the folder.
func (d *Dir) Close() error { return unix.Close(d.fd) }

// Path is the path that it was opened by, for messages.
func (d *Dir) Path() string { return d.path }

// Fd is its descriptor.
func (d *Dir) Fd() int { return d.fd }

// Proc is a path by which the kernel reaches this very folder, as long as it is open.
func (d *Dir) Proc() string { return fmt.Sprintf("/proc/self/fd/%d", d.fd) }

// Root gives the same folder as an os.Root, for what a Dir has no method for. It follows
// links that stay inside.
func (d *Dir) Root() (*os.Root, error) { return os.OpenRoot(d.Proc()) }

// Stat looks at the folder itself.
func (d *Dir) Stat() (unix.Stat_t, error) {
	var st unix.Stat_t
	if err := unix.Fstat(d.fd, &st); err != nil {
		return st, fault("stat", d.path, err)
	}
	return st, nil
}

// Owner is whom the folder belongs to.
func (d *Dir) Owner() (Owner, error) {
	st, err := d.Stat()
	return Owner{int(st.Uid), int(st.Gid)}, err
}

// below reports whether a name stays below the folder: as fs.ValidPath does, but for any
// bytes, since names on a disk need not be UTF-8.
func below(name string) bool {
	if name == "." {
		return true
	}
	for _, part := range strings.Split(name, "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
			return false
		}
	}
	return true
}

// parent opens the folder that a name lies in, below this one, and gives the last part.
func (d *Dir) parent(name string) (in *Dir, last string, err error) {
	if !below(name) || name == "." {
		return nil, "", fault("open", filepath.Join(d.path, name), errors.New("that is no name below the folder"))
	}
	dir, last := filepath.Split(name)
	if dir == "" {
		fd, err := unix.FcntlInt(uintptr(d.fd), unix.F_DUPFD_CLOEXEC, 0)
		if err != nil {
			return nil, "", fault("open", d.path, err)
		}
		return &Dir{path: d.path, fd: fd, shut: d.shut}, last, nil
	}
	in, err = d.Sub(strings.TrimSuffix(dir, "/"))
	return in, last, err
}

// Sub opens a folder below it.
func (d *Dir) Sub(name string) (*Dir, error) {
	if !below(name) {
		return nil, fault("open", filepath.Join(d.path, name), errors.New("that is no name below the folder"))
	}
	at, shut, path := d.fd, d.shut, d.path
	closeAt := func() {
		if at != d.fd {
			unix.Close(at)
		}
	}
	for _, part := range strings.Split(name, "/") {
		path = filepath.Join(path, part)
		next, err := unix.Openat(at, part, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		closeAt()
		if err != nil {
			return nil, fault("open", path, err)
		}
		at = next
		var st unix.Stat_t
		if err := unix.Fstat(at, &st); err != nil {
			closeAt()
			return nil, fault("stat", path, err)
		}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFDIR:
		case unix.S_IFLNK:
			closeAt()
			return nil, fault("open", path, ErrLink)
		default:
			closeAt()
			return nil, fault("open", path, unix.ENOTDIR)
		}
		shut = shut && closed(at, &st, trusted)
	}
	out, err := asDir(at, path)
	if err != nil {
		return nil, err
	}
	out.shut = shut
	return out, nil
}

// Lstat looks at a name without following it.
func (d *Dir) Lstat(name string) (unix.Stat_t, error) {
	var st unix.Stat_t
	in, last, err := d.parent(name)
	if err != nil {
		return st, err
	}
	defer in.Close()
	if err := unix.Fstatat(in.fd, last, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return st, fault("stat", filepath.Join(d.path, name), err)
	}
	return st, nil
}

// Exists reports whether there is something of that name.
func (d *Dir) Exists(name string) bool {
	_, err := d.Lstat(name)
	return err == nil
}

// File opens a regular file to read it. With owners it must belong to one of them and
// have no further name; without, one that has further names must belong to whom its
// folder belongs to, unless the folder is closed to others. All else is ErrForeign.
func (d *Dir) File(name string, owners []int) (*os.File, error) {
	return d.openFile(name, os.O_RDONLY, owners)
}

// Change opens such a file to read and write it.
func (d *Dir) Change(name string, owners []int) (*os.File, error) {
	return d.openFile(name, os.O_RDWR, owners)
}

func (d *Dir) openFile(name string, flag int, owners []int) (*os.File, error) {
	in, last, err := d.parent(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	path := filepath.Join(d.path, name)
	// Marked first, and opened only when it is known to be a plain file: opening a
	// device or a pipe may have effects.
	fd, err := unix.Openat(in.fd, last, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fault("open", path, err)
	}
	defer unix.Close(fd)
	return reopen(fd, path, flag, func(st *unix.Stat_t) error {
		if owners != nil {
			switch {
			case st.Nlink != 1:
				return fmt.Errorf("%w: it has %d names", ErrForeign, st.Nlink)
			case !slices.Contains(owners, int(st.Uid)):
				return fmt.Errorf("%w: it belongs to uid %d", ErrForeign, st.Uid)
			}
			return nil
		}
		dir, err := in.Stat()
		if err != nil {
			return err
		}
		if st.Nlink > 1 && !in.shut && st.Uid != dir.Uid {
			return fmt.Errorf("%w: it belongs to uid %d and has further names, and others may write to its folder",
				ErrForeign, st.Uid)
		}
		return nil
	})
}

// reopen opens the very file that a descriptor marks.
func reopen(mark int, path string, flag int, may func(*unix.Stat_t) error) (*os.File, error) {
	var st unix.Stat_t
	if err := unix.Fstat(mark, &st); err != nil {
		return nil, fault("stat", path, err)
	}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
	case unix.S_IFLNK:
		return nil, fault("open", path, ErrLink)
	case unix.S_IFDIR:
		return nil, fault("open", path, unix.EISDIR)
	default:
		return nil, fault("open", path, fmt.Errorf("%w: it is no plain file", ErrForeign))
	}
	if may != nil {
		if err := may(&st); err != nil {
			return nil, fault("open", path, err)
		}
	}
	fd, err := unix.Open(fmt.Sprintf("/proc/self/fd/%d", mark), flag|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fault("open", path, err)
	}
	return os.NewFile(uintptr(fd), path), nil
}

// Socket gives a path that leads to a socket in the folder as long as it is not closed, and
// to nothing that takes its place. It must belong to one of the owners.
func (d *Dir) Socket(name string, owners []int) (path string, done func(), err error) {
	fd, err := unix.Openat(d.fd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", nil, fault("open", filepath.Join(d.path, name), err)
	}
	var st unix.Stat_t
	err = unix.Fstat(fd, &st)
	switch {
	case err != nil:
	case st.Mode&unix.S_IFMT != unix.S_IFSOCK:
		err = fmt.Errorf("%w: it is no socket", ErrForeign)
	case !slices.Contains(owners, int(st.Uid)):
		err = fmt.Errorf("%w: it belongs to uid %d", ErrForeign, st.Uid)
	}
	if err != nil {
		unix.Close(fd)
		return "", nil, fault("open", filepath.Join(d.path, name), err)
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), func() { unix.Close(fd) }, nil
}

// Read reads a file that File opens, at most so many bytes. A longer one is an error.
func (d *Dir) Read(name string, most int64, owners []int) ([]byte, error) {
	f, err := d.File(name, owners)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = fault("read", f.Name(), fmt.Errorf("%w: it is larger than %d bytes", ErrForeign, most))
	}
	return b, err
}

// Create makes a file that must not be there yet, to write and read it. It is the
// caller's.
func (d *Dir) Create(name string, mode fs.FileMode) (*os.File, error) {
	in, last, err := d.parent(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	path := filepath.Join(d.path, name)
	flags := unix.O_CREAT | unix.O_EXCL | unix.O_RDWR | unix.O_NOFOLLOW | unix.O_CLOEXEC
	fd, err := unix.Openat(in.fd, last, flags, uint32(mode.Perm()))
	if err != nil {
		return nil, fault("create", path, err)
	}
	return os.NewFile(uintptr(fd), path), nil
}

// Mkdir makes a folder that must not be there yet, gives it away unless the owner is
// nil, and opens it.
func (d *Dir) Mkdir(name string, mode fs.FileMode, owner *Owner) (*Dir, error) {
	in, last, err := d.parent(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	path := filepath.Join(d.path, name)
	if err := unix.Mkdirat(in.fd, last, 0o700); err != nil {
		return nil, fault("mkdir", path, err)
	}
	made, err := in.Sub(last)
	if err != nil {
		return nil, err
	}
	made.path = path
	st, err := made.Stat()
	if err == nil && int(st.Uid) != os.Geteuid() {
		// Whoever may write to the folder has put another in its place.
		err = fault("mkdir", path, ErrForeign)
	}
	if err == nil && owner != nil {
		err = made.Chown(*owner)
	}
	if err == nil {
		err = made.Chmod(mode)
	}
	if err != nil {
		made.Close()
		return nil, err
	}
	return made, nil
}

// MkdirAll opens a folder below it, making those on the way that are missing, with a
// mode and for an owner. Those that are there stay as they are.
func (d *Dir) MkdirAll(name string, mode fs.FileMode, owner *Owner) (*Dir, error) {
	at, err := d.Sub(".")
	if err != nil {
		return nil, err
	}
	if name == "." {
		return at, nil
	}
	for _, part := range strings.Split(name, "/") {
		next, err := at.Sub(part)
		if errors.Is(err, fs.ErrNotExist) {
			if next, err = at.Mkdir(part, mode, owner); errors.Is(err, fs.ErrExist) {
				next, err = at.Sub(part) // somebody else made it just now
			}
		}
		at.Close()
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}

// Chown gives the folder away.
func (d *Dir) Chown(o Owner) error {
	if err := unix.Fchown(d.fd, o.UID, o.GID); err != nil {
		return fault("chown", d.path, err)
	}
	return nil
}

// Chmod sets its mode: permissions, set-id and sticky bits as fs.FileMode has them.
func (d *Dir) Chmod(mode fs.FileMode) error {
	m := uint32(mode.Perm())
	for bit, unixBit := range map[fs.FileMode]uint32{fs.ModeSetuid: unix.S_ISUID, fs.ModeSetgid: unix.S_ISGID,
		fs.ModeSticky: unix.S_ISVTX} {
		if mode&bit != 0 {
			m |= unixBit
		}
	}
	if err := unix.Fchmod(d.fd, m); err != nil {
		return fault("chmod", d.path, err)
	}
	return nil
}

// Names gives the names in the folder, in no order.
func (d *Dir) Names() ([]string, error) { return d.Some(-1) }

// Some gives as many names at the most, so that nobody who may put names into the folder
// can make a command read for ever; all where most is negative.
func (d *Dir) Some(most int) ([]string, error) {
	fd, err := unix.Openat(d.fd, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fault("open", d.path, err)
	}
	f := os.NewFile(uintptr(fd), d.path)
	defer f.Close()
	names, err := f.Readdirnames(most)
	if errors.Is(err, io.EOF) { // so it says of an empty one
		err = nil
	}
	return names, err
}

// Walk calls visit for everything below a name, folders before what is in them, in the
// order of names. A folder that cannot be opened ends it. Links are visited, not
// followed.
func (d *Dir) Walk(name string, visit func(name string, st unix.Stat_t) error) error {
	in, err := d.Sub(name)
	if err != nil {
		return err
	}
	defer in.Close()
	names, err := in.Names()
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, n := range names {
		at := n
		if name != "." {
			at = name + "/" + n
		}
		st, err := in.Lstat(n)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = visit(at, st)
		}
		if err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT == unix.S_IFDIR {
			err := d.Walk(at, visit)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// Remove removes a file, a link, or an empty folder. What is not there is no error.
func (d *Dir) Remove(name string) error {
	return d.remove(name, func(in *Dir, last string) error {
		err := unix.Unlinkat(in.fd, last, 0)
		if errors.Is(err, unix.EISDIR) || errors.Is(err, unix.EPERM) {
			if derr := unix.Unlinkat(in.fd, last, unix.AT_REMOVEDIR); !errors.Is(derr, unix.ENOTDIR) {
				err = derr
			}
		}
		return err
	})
}

// RemoveDir removes a folder if it is empty. What is no folder is an error.
func (d *Dir) RemoveDir(name string) error {
	return d.remove(name, func(in *Dir, last string) error {
		return unix.Unlinkat(in.fd, last, unix.AT_REMOVEDIR)
	})
}

// RemoveAll removes a name with all that is below it. Links are removed, not followed.
func (d *Dir) RemoveAll(name string) error {
	return d.remove(name, func(in *Dir, last string) error {
		root, err := in.Root()
		if err != nil {
			return err
		}
		defer root.Close()
		err = root.RemoveAll(last)
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return err
	})
}

// remove hands the folder that holds a name, and the name in it, to what removes it. A
// name that is not there is no error.
func (d *Dir) remove(name string, by func(in *Dir, last string) error) error {
	in, last, err := d.parent(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer in.Close()
	if err := by(in, last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault("remove", filepath.Join(d.path, name), err)
	}
	return nil
}

// Rename gives a file or folder a name in this or another folder, in place of what may be
// there. Onto another file system a plain file is copied, whole and synced, before it goes
// here.
func (d *Dir) Rename(from string, to *Dir, name string) error {
	a, last, err := d.parent(from)
	if err != nil {
		return err
	}
	defer a.Close()
	b, into, err := to.parent(name)
	if err != nil {
		return err
	}
	defer b.Close()
	err = unix.Renameat(a.fd, last, b.fd, into)
	if errors.Is(err, unix.EXDEV) {
		return move(a, last, b, into)
	}
	if err != nil {
		return fault("rename", filepath.Join(d.path, from), err)
	}
	return nil
}

func move(from *Dir, name string, to *Dir, as string) error {
	f, err := from.File(name, nil)
	if err != nil {
		return err
	}
	defer f.Close()
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return err
	}
	err = to.Write(as, fs.FileMode(st.Mode&0o777), &Owner{int(st.Uid), int(st.Gid)}, func(w io.Writer) error {
		_, err := io.Copy(w, f)
		return err
	})
	if err != nil {
		return err
	}
	return from.Remove(name)
}

// Sync makes the names in the folder last.
func (d *Dir) Sync() error {
	fd, err := unix.Openat(d.fd, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil // it may be written to, not read; the names are in place
	}
	defer unix.Close(fd)
	if err := unix.Fsync(fd); err != nil && !errors.Is(err, unix.EINVAL) {
		return fault("sync", d.path, err)
	}
	return nil
}

// Unfinished begins the names of files that are being written. What a crash leaves of
// them is ours to remove.
const Unfinished = layout.Unfinished

// NewName gives a name for something unfinished, that nothing has.
func NewName() string { return Unfinished + rand.Text()[:16] }

// Write writes a file in place of the one that may be there: beside it, synced, then
// renamed. An owner of nil leaves it to the caller.
func (d *Dir) Write(name string, mode fs.FileMode, owner *Owner, write func(io.Writer) error) error {
	return d.put(name, mode, owner, write, false)
}

// WriteNew does the same with a file that must not be there yet; else the error is
// fs.ErrExist.
func (d *Dir) WriteNew(name string, mode fs.FileMode, owner *Owner, write func(io.Writer) error) error {
	return d.put(name, mode, owner, write, true)
}

// Replace writes bytes in place of the file that may be there.
func (d *Dir) Replace(name string, b []byte, mode fs.FileMode, owner *Owner) error {
	return d.Write(name, mode, owner, func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(b))
		return err
	})
}

func (d *Dir) put(name string, mode fs.FileMode, owner *Owner, write func(io.Writer) error, fresh bool) error {
	in, last, err := d.parent(name)
	if err != nil {
		return err
	}
	defer in.Close()
	tmp := nameFor(last)
	f, nameless, err := in.unfinished(tmp)
	if err != nil {
		return err
	}
	defer unix.Unlinkat(in.fd, tmp, 0) // after a rename there is nothing of that name
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
	if err == nil {
		path := filepath.Join(d.path, name)
		if err = in.place(f, tmp, last, nameless, fresh); err != nil && !errors.Is(err, ErrForeign) {
			err = fault("write", path, err)
		}
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return in.Sync()
}

// place gives a file that is whole its name. What has it in the end is what was written,
// whoever else may write to the folder.
func (d *Dir) place(f *os.File, tmp, last string, nameless, fresh bool) (err error) {
	switch {
	case nameless && fresh:
		return called(f, d, last)
	case nameless:
		err = called(f, d, tmp)
	}
	if err == nil && !d.shut {
		err = same(d.fd, tmp, f)
	}
	switch {
	case err != nil:
		return err
	case fresh:
		return unix.Linkat(d.fd, tmp, d.fd, last, 0)
	}
	return unix.Renameat(d.fd, tmp, d.fd, last)
}

// unfinished opens a file to be written: one without a name, where the file system has such,
// so that nothing is left of it if we are ended; else one of that name, locked as long as
// it is written.
func (d *Dir) unfinished(name string) (f *os.File, nameless bool, err error) {
	if unix.Access("/proc/self/fd", unix.X_OK) == nil { // by which it gets its name
		if fd, err := unix.Openat(d.fd, ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600); err == nil {
			return os.NewFile(uintptr(fd), filepath.Join(d.path, name)), true, nil
		}
	}
	if f, err = d.Create(name, 0o600); err == nil {
		_ = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) // where there are no locks, it is left at that
	}
	return f, false, err
}

// called gives a file without a name one.
func called(f *os.File, in *Dir, name string) error {
	return unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), in.fd, name, unix.AT_SYMLINK_FOLLOW)
}

// nameFor gives a name for something unfinished that is to have another in the end.
func nameFor(last string) string {
	return NewName() + "-" + last[max(0, len(last)-mostOfName):]
}

// mostOfName is how much of a name an unfinished file's shows; a name has 255 bytes at most.
const mostOfName = 200

// mostSwept is how many names are looked at: the folder may be others'.
const mostSwept = 100_000

// SweepUnfinished removes what is left of files that were being written when the program was
// ended, and were to have a name that is ours. What is still being written stays.
func (d *Dir) SweepUnfinished(ours func(name string) bool) {
	names, err := d.Some(mostSwept)
	if err != nil {
		return // the next command tries again
	}
	for _, n := range names {
		rest, ok := strings.CutPrefix(n, Unfinished)
		_, last, named := strings.Cut(rest, "-")
		if !ok || !named || !ours(last) {
			continue
		}
		f, err := d.File(n, nil)
		if err != nil {
			continue
		}
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			_ = d.Remove(n) // the next command tries again
		}
		f.Close()
	}
}

// same reports whether a name still stands for an open file.
func same(dir int, name string, f *os.File) error {
	var a, b unix.Stat_t
	if err := unix.Fstatat(dir, name, &a, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return fault("write", f.Name(), err)
	}
	if err := unix.Fstat(int(f.Fd()), &b); err != nil {
		return fault("write", f.Name(), err)
	}
	if a.Ino != b.Ino || a.Dev != b.Dev {
		return fault("write", f.Name(), ErrForeign)
	}
	return nil
}
