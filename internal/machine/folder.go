// Package machine looks at this machine: accounts, folders, mounts, ports,
// memory. It turns what it finds into facts; it judges nothing.
//
// # What does not answer
//
// A network file system that does not answer holds whoever asks it, and no signal helps. So nothing
// here asks a folder directly where that could happen: Presence and Silent have a child ask
// (the hidden command "look"), and Patiently leaves a question behind after a while, with
// ErrSilent.
//
// # What is changed
//
// A few functions change the machine for a command that was agreed to: MakeAccount, RemoveAccount,
// JoinGroup, LeaveGroup, EnableUnit. They use the machine's own programs.
package machine

import (
	"errors"
	"io"
	"os"

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
