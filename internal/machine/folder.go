// Package machine looks at this machine: accounts, folders, mounts, ports,
// memory. It turns what it finds into facts; it judges nothing.
package machine

import (
	"errors"
	"io"
	"os"

	"cozyshelf/internal/core/permit"

	"golang.org/x/sys/unix"
)

// Entry is one entry of a folder.
type Entry struct {
	Name   string
	Folder bool
	Link   bool
	File   bool // a regular file
	Size   int64
	MTime  int64 // Unix nanoseconds
	CTime  int64
	Inode  uint64
	Mode   uint16
	UID    uint32
	GID    uint32
	Err    error // why it could not be looked at; the name is all there is
}

// List lists a folder, without following links, and calls yield for each entry
// in the order of the file system. A name that vanishes meanwhile is left out.
func List(path string, yield func(Entry)) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	fd := int(d.Fd())
	for {
		names, err := d.Readdirnames(1024)
		for _, name := range names {
			e := Entry{Name: name}
			var st unix.Stat_t
			switch serr := unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW); {
			case errors.Is(serr, unix.ENOENT):
				continue
			case serr != nil:
				e.Err = serr
			default:
				e.fill(&st)
			}
			yield(e)
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func (e *Entry) fill(st *unix.Stat_t) {
	kind := st.Mode & unix.S_IFMT
	e.Folder, e.Link, e.File = kind == unix.S_IFDIR, kind == unix.S_IFLNK, kind == unix.S_IFREG
	e.Size, e.Inode = st.Size, st.Ino
	e.MTime, e.CTime = st.Mtim.Nano(), st.Ctim.Nano()
	e.Mode, e.UID, e.GID = uint16(st.Mode&0o777), st.Uid, st.Gid
}

// Look looks at one path without following a link.
func Look(path string) (Entry, error) {
	e := Entry{Name: path}
	var st unix.Stat_t
	if err := unix.Lstat(path, &st); err != nil {
		return e, &os.PathError{Op: "lstat", Path: path, Err: err}
	}
	e.fill(&st)
	return e, nil
}

// Tree lets the core audit this machine's folders.
type Tree struct{}

// Item looks at one path.
func (Tree) Item(path string) (permit.Item, error) {
	e, err := Look(path)
	if err != nil {
		return permit.Item{}, err
	}
	return item(path, e), nil
}

// Items lists a folder.
func (Tree) Items(path string, yield func(permit.Item)) error {
	return List(path, func(e Entry) { yield(item(path+"/"+e.Name, e)) })
}

func item(path string, e Entry) permit.Item {
	it := permit.Item{Name: e.Name, Folder: e.Folder, Link: e.Link, Other: !e.Folder && !e.Link && !e.File, Err: e.Err}
	it.Attrs = permit.Attrs{Mode: e.Mode, UID: e.UID, GID: e.GID}
	if e.Err == nil && (e.Folder || e.File) {
		it.Attrs.ACL, it.Err = acl(path)
	}
	return it
}

// acl reads the access ACL of a path; none where the file system has none.
func acl(path string) ([]permit.Entry, error) {
	buf := make([]byte, 512)
	for {
		n, err := unix.Lgetxattr(path, "system.posix_acl_access", buf)
		switch {
		case err == nil:
			return permit.ParseACL(buf[:n])
		case errors.Is(err, unix.ERANGE):
			buf = make([]byte, 64<<10)
		default:
			// ENODATA: mode bits only. ENOTSUP: no ACLs here. EACCES and
			// ENOENT show themselves elsewhere.
			return nil, nil
		}
	}
}
