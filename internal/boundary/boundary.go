// Package boundary is how an administrator's command touches what the server's
// account owns or could replace.
//
// # The rule
//
// The tool often runs as root. The server, its state folder and often the shelves
// belong to an account without rights that strangers talk to. If the server is taken
// over, whoever did it writes what that account may write, at any moment. So root
// touches what the account owns, or could replace, only by descriptors and without
// following links; it writes nothing there that it later believes; and it obeys
// nothing that the account could have written.
//
// # Who may be followed
//
// A path is walked name by name, each step from the descriptor of the one before. A
// folder is closed when only root and the caller can put names into it. A symbolic
// link is followed only in folders that are closed, all the way from the root; the
// first folder that is not ends that, and a link below it is ErrLink. So /srv may be a
// link that the administrator made, and /srv/media/films may not be one that the
// account made. In a folder with the sticky bit, such as /tmp, what root or the caller
// owns cannot be replaced by others, so it counts as closed for what they own.
//
// # The administrator's folder
//
// What root later believes (the ledger, what is kept to undo, backups before changes)
// lies in a folder of root's own beside the state folder: see Admin. It is opened with
// OpenOwn, which refuses a path that anybody else could have turned elsewhere.
package boundary

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// What a walk may fail with. Found with errors.Is.
var (
	// ErrLink says that a link was met where somebody else could have made it.
	ErrLink = errors.New("it is a symbolic link, or lies behind one, in a folder that others may write to")
	// ErrForeign says that a file or a folder is not whose it has to be, or not of the
	// form that it has to have.
	ErrForeign = errors.New("it is not what this program made")
	// ErrOpen says that others could replace what was to be one's own.
	ErrOpen = errors.New("others could put something else in its place")
)

// Owner is who a file is given to.
type Owner struct{ UID, GID int }

// mostLinks is how many links are followed on one path, as in the kernel.
const mostLinks = 40

// trusted reports whether an owner is root or the caller.
func trusted(uid uint32) bool { return uid == 0 || int(uid) == os.Geteuid() }

// closed reports whether only root and the caller can put names into a folder, or,
// with the sticky bit, replace names that are theirs.
func closed(fd int, st *unix.Stat_t, trusted func(uid uint32) bool) bool {
	if !trusted(st.Uid) {
		return false
	}
	if st.Mode&unix.S_ISVTX != 0 {
		return true
	}
	if st.Mode&0o002 != 0 {
		return false
	}
	if st.Mode&0o020 == 0 {
		return true // also no entry of an ACL: its mask is in the group's bits
	}
	// A group that nobody else is in: root's, or one that bears the number of its user.
	own := st.Gid == 0 || st.Gid == st.Uid || os.Geteuid() != 0 && int(st.Gid) == os.Getegid()
	return own && !hasACL(fd)
}

// hasACL reports whether there is a POSIX ACL, or none can be told to be missing.
func hasACL(fd int) bool {
	_, err := unix.Getxattr(fmt.Sprintf("/proc/self/fd/%d", fd), "system.posix_acl_access", nil)
	return !errors.Is(err, unix.ENODATA) && !errors.Is(err, unix.ENOTSUP)
}

// fault is an error about a path.
func fault(op, path string, err error) error { return &os.PathError{Op: op, Path: path, Err: err} }

// walk reaches a path and gives a descriptor that only marks it (O_PATH). With own, all
// folders on the way and the path itself must be closed. The path of the error is as
// far as the walk came.
func walk(path string, own bool) (fd int, err error) { return walkFor(path, own, trusted) }

func walkFor(path string, own bool, trusted func(uid uint32) bool) (fd int, err error) {
	path, err = filepath.Abs(path)
	if err != nil {
		return -1, err
	}
	top, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, fault("open", "/", err)
	}
	// The folders from / to where the walk is, for names such as "..".
	type level struct {
		fd   int
		name string
		shut bool // all from / to here are closed
	}
	var st unix.Stat_t
	if err := unix.Fstat(top, &st); err != nil {
		unix.Close(top)
		return -1, fault("stat", "/", err)
	}
	stack := []level{{top, "/", closed(top, &st, trusted)}}
	defer func() {
		for _, l := range stack {
			if l.fd != fd {
				unix.Close(l.fd)
			}
		}
	}()
	if own && !stack[0].shut {
		return -1, fault("open", "/", ErrOpen)
	}
	todo := strings.Split(strings.Trim(path, "/"), "/")
	for links := 0; len(todo) > 0; {
		name := todo[0]
		todo = todo[1:]
		last := stack[len(stack)-1]
		switch name {
		case "", ".":
			continue
		case "..":
			if len(stack) > 1 {
				unix.Close(last.fd)
				stack = stack[:len(stack)-1]
			}
			continue
		}
		at := filepath.Join(last.name, name)
		next, err := unix.Openat(last.fd, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return -1, fault("open", at, err)
		}
		if err := unix.Fstat(next, &st); err != nil {
			unix.Close(next)
			return -1, fault("stat", at, err)
		}
		if st.Mode&unix.S_IFMT == unix.S_IFLNK {
			to, err := readLink(next)
			unix.Close(next)
			switch {
			case err != nil:
				return -1, fault("readlink", at, err)
			case !last.shut || !trusted(st.Uid):
				return -1, fault("open", at, ErrLink)
			case links >= mostLinks:
				return -1, fault("open", at, unix.ELOOP)
			}
			links++
			if strings.HasPrefix(to, "/") {
				for _, l := range stack[1:] {
					unix.Close(l.fd)
				}
				stack = stack[:1]
			}
			todo = append(strings.Split(to, "/"), todo...)
			continue
		}
		shut := last.shut && closed(next, &st, trusted)
		if st.Mode&unix.S_IFMT != unix.S_IFDIR {
			shut = last.shut && trusted(st.Uid)
		}
		if own && !shut {
			unix.Close(next)
			return -1, fault("open", at, ErrOpen)
		}
		stack = append(stack, level{next, at, shut})
	}
	return stack[len(stack)-1].fd, nil
}

func readLink(fd int) (string, error) {
	b := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(fd, "", b)
	if err != nil {
		return "", err
	}
	return string(b[:n]), nil
}

// Safe says whether nobody but root and the caller could replace what lies at a path,
// or its nearest folder that is there: nil, or an error whose path is what is open to
// others.
func Safe(path string) error {
	for {
		fd, err := walk(path, true)
		if errors.Is(err, unix.ENOENT) && filepath.Dir(path) != path {
			path = filepath.Dir(path)
			continue
		}
		if err == nil {
			unix.Close(fd)
		}
		return err
	}
}

// Config opens a file that root obeys: the household file and what it names. It must be
// a plain file that only its owner may write, in folders that only root, the caller and
// that owner may write to. It gives whose it is.
func Config(path string) (f *os.File, owner int, err error) {
	path, err = filepath.Abs(path)
	if err != nil {
		return nil, 0, err
	}
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil { // looked at once more below
		return nil, 0, fault("open", path, err)
	}
	mine := func(uid uint32) bool { return trusted(uid) || uid == st.Uid }
	fd, err := walkFor(path, true, mine)
	if err != nil {
		return nil, int(st.Uid), err
	}
	defer unix.Close(fd)
	f, err = reopen(fd, path, os.O_RDONLY, func(now *unix.Stat_t) error {
		if now.Uid != st.Uid || !closed(fd, now, mine) || now.Mode&0o002 != 0 {
			return ErrOpen
		}
		return nil
	})
	return f, int(st.Uid), err
}

// Reach says whether a path can be reached without following links that others could
// have made: nil, or an error that says where not. What is missing is no error.
func Reach(path string) error {
	fd, err := walk(path, false)
	if err == nil {
		unix.Close(fd)
	}
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.EACCES) || errors.Is(err, unix.ENOTDIR) {
		return nil
	}
	return err
}

// PlainFile opens a file to read it: a regular one, reached without links that others
// could have made. A file with further names, in a folder that others may write to,
// must belong to whom the folder belongs to: otherwise somebody gave it a name there to
// have it read.
func PlainFile(path string) (*os.File, error) {
	d, err := Open(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	name := filepath.Base(path)
	st, err := d.Lstat(name)
	if err != nil {
		return nil, err
	}
	if st.Mode&unix.S_IFMT == unix.S_IFLNK && d.shut && trusted(st.Uid) {
		// The administrator's own link.
		fd, err := walk(path, false)
		if err != nil {
			return nil, err
		}
		defer unix.Close(fd)
		return reopen(fd, path, os.O_RDONLY, nil)
	}
	return d.File(name, nil)
}
