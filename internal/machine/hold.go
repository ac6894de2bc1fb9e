package machine

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/permit"

	"golang.org/x/sys/unix"
)

// Held is a file or folder that was reached without following a single link, so
// that nobody can turn what is done to it towards another one.
type Held struct {
	Path   string
	Folder bool
	Inode  uint64

	fd   int
	name string // under which the kernel reaches it: by its descriptor
}

// Hold reaches a path, name by name. A link on the way, or at its end, is an
// error, as is what is neither a file nor a folder.
func Hold(path string) (*Held, error) {
	fail := func(err error) error { return &os.PathError{Op: "open", Path: path, Err: err} }
	if !filepath.IsAbs(path) {
		return nil, fail(errors.New("not a whole path"))
	}
	fd, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fail(err)
	}
	var above unix.Stat_t // of the folder that it lies in
	for _, name := range strings.Split(strings.Trim(path, "/"), "/") {
		if name == ".." {
			unix.Close(fd)
			return nil, fail(errors.New("the path holds \"..\""))
		}
		if name == "" || name == "." {
			continue
		}
		err := unix.Fstat(fd, &above)
		var next int
		if err == nil {
			next, err = unix.Openat(fd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		}
		unix.Close(fd)
		if err != nil {
			return nil, fail(err)
		}
		fd = next
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		unix.Close(fd)
		return nil, fail(err)
	}
	kind := st.Mode & unix.S_IFMT
	if kind != unix.S_IFDIR && kind != unix.S_IFREG {
		unix.Close(fd)
		what := "neither a file nor a folder"
		if kind == unix.S_IFLNK {
			what = "a symbolic link"
		}
		return nil, fail(errors.New("it is " + what))
	}
	// A file with further names, where others may give it one, could be anybody's.
	if kind == unix.S_IFREG && st.Nlink > 1 && st.Uid != above.Uid && boundary.Safe(filepath.Dir(path)) != nil {
		unix.Close(fd)
		return nil, fail(fmt.Errorf("it belongs to uid %d, its folder to uid %d, and it has further names (hard "+
			"links): somebody may have given it this one to have it changed", st.Uid, above.Uid))
	}
	return &Held{Path: path, Folder: kind == unix.S_IFDIR, Inode: st.Ino, fd: fd,
		name: fmt.Sprintf("/proc/self/fd/%d", fd)}, nil
}

// Close lets go of it.
func (h *Held) Close() error { return unix.Close(h.fd) }

// State reads what a remedy may change.
func (h *Held) State() (permit.State, error) {
	e, more, err := look(h.fd, "")
	if err != nil {
		return permit.State{}, &os.PathError{Op: "stat", Path: h.Path, Err: err}
	}
	s := permit.State{Mode: more.special | e.Mode, UID: e.UID, GID: e.GID, Fixed: more.fixed}
	if s.ACL, err = h.acl(aclAccess); err == nil && h.Folder {
		s.Default, err = h.acl(aclDefault)
	}
	return s, err
}

func (h *Held) acl(name string) ([]permit.Entry, error) {
	buf := make([]byte, 64<<10)
	n, err := unix.Getxattr(h.name, name, buf)
	if errors.Is(err, unix.ENODATA) || errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	if err != nil {
		return nil, &os.PathError{Op: "read the ACL of", Path: h.Path, Err: err}
	}
	return permit.ParseACL(buf[:n])
}

// Set brings it from one state to another. What is the same is not touched.
func (h *Held) Set(from, to permit.State) error {
	fail := func(op string, err error) error {
		if err == nil {
			return nil
		}
		return &os.PathError{Op: op, Path: h.Path, Err: err}
	}
	if from.Fixed != to.Fixed && from.Fixed != "" {
		if err := h.flag(from.Fixed, false); err != nil {
			return fail("change the flags of", err)
		}
	}
	if from.UID != to.UID || from.GID != to.GID {
		if err := unix.Chown(h.name, int(to.UID), int(to.GID)); err != nil {
			return fail("chown", err)
		}
	}
	for _, x := range []struct {
		name     string
		from, to []permit.Entry
	}{{aclAccess, from.ACL, to.ACL}, {aclDefault, from.Default, to.Default}} {
		was, is := permit.FormatACL(x.from), permit.FormatACL(x.to)
		var err error
		switch {
		case string(was) == string(is):
		case len(is) == 0:
			if err = unix.Removexattr(h.name, x.name); errors.Is(err, unix.ENODATA) {
				err = nil
			}
		default:
			err = unix.Setxattr(h.name, x.name, is, 0)
		}
		if err != nil {
			if errors.Is(err, unix.ENOTSUP) {
				err = errors.New("this file system knows no ACLs, or is mounted without them")
			}
			return fail("set the ACL of", err)
		}
	}
	// The steps above change mode bits on the way.
	e, more, err := look(h.fd, "")
	if err != nil {
		return fail("stat", err)
	}
	if more.special|e.Mode != to.Mode {
		if err := unix.Chmod(h.name, uint32(to.Mode)); err != nil {
			return fail("chmod", err)
		}
	}
	if from.Fixed != to.Fixed && to.Fixed != "" {
		return fail("change the flags of", h.flag(to.Fixed, true))
	}
	return nil
}

// The flags of FS_IOC_GETFLAGS (linux/fs.h).
const (
	flagImmutable  = 0x10
	flagAppendOnly = 0x20
)

func (h *Held) flag(which string, on bool) error {
	fd, err := unix.Open(h.name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	flags, err := unix.IoctlGetUint32(fd, unix.FS_IOC_GETFLAGS)
	if err != nil {
		return err
	}
	mask := uint32(0)
	if strings.Contains(which, "immutable") {
		mask |= flagImmutable
	}
	if strings.Contains(which, "append-only") {
		mask |= flagAppendOnly
	}
	if on {
		flags |= mask
	} else {
		flags &^= mask
	}
	return unix.IoctlSetPointerInt(fd, unix.FS_IOC_SETFLAGS, int(flags))
}
