package machine

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"cozyshelf/internal/core/permit"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// Tree lets the core audit this machine's folders. The zero value is ready.
type Tree struct {
	// Labels asks for SELinux labels too.
	Labels bool

	looked atomic.Int64 // entries, to notice that nothing moves
	once   sync.Once
	mounts []*mountinfo.Info
}

// Item looks at one path.
func (t *Tree) Item(path string) (permit.Item, error) {
	t.looked.Add(1)
	e, more, err := look(unix.AT_FDCWD, path)
	if err != nil {
		return permit.Item{}, &os.PathError{Op: "lstat", Path: path, Err: err}
	}
	return t.item(path, e, more), nil
}

// Items lists a folder. A name that vanishes meanwhile is left out.
func (t *Tree) Items(path string, yield func(permit.Item)) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	fd := int(d.Fd())
	_, self, err := look(fd, ".")
	if err != nil {
		return &os.PathError{Op: "stat", Path: path, Err: err}
	}
	for {
		names, err := d.Readdirnames(1024)
		for _, name := range names {
			e, more, err := look(fd, name)
			if errors.Is(err, unix.ENOENT) {
				continue
			}
			if e.Name = name; err != nil {
				e.Err = err
			}
			it := t.item(path+"/"+name, e, more)
			it.Border = more.root || err == nil && more.dev != self.dev
			yield(it)
		}
		t.looked.Add(int64(len(names)) + 1)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// beyond is what look finds beside an Entry.
type beyond struct {
	special uint16 // set-uid, set-gid, sticky
	dev     uint64
	root    bool // a mount begins here
	fixed   string
	links   uint32
}

// noStatx is set once the kernel, older than 4.11, turns out not to know statx.
var noStatx atomic.Bool

// look looks at a name below a folder without following a link, and without
// mounting what mounts itself when touched. An empty name is the folder itself.
func look(at int, name string) (Entry, beyond, error) {
	var x unix.Statx_t
	if !noStatx.Load() {
		err := unix.Statx(at, name, unix.AT_SYMLINK_NOFOLLOW|unix.AT_NO_AUTOMOUNT|unix.AT_EMPTY_PATH,
			unix.STATX_BASIC_STATS, &x)
		if err == nil {
			kind := uint32(x.Mode) & unix.S_IFMT
			e := Entry{Name: name, Folder: kind == unix.S_IFDIR, Link: kind == unix.S_IFLNK, File: kind == unix.S_IFREG,
				Size: int64(x.Size), Inode: x.Ino, MTime: x.Mtime.Sec*1e9 + int64(x.Mtime.Nsec),
				CTime: x.Ctime.Sec*1e9 + int64(x.Ctime.Nsec),
				Mode:  x.Mode & 0o777, UID: x.Uid, GID: x.Gid}
			b := beyond{special: x.Mode & 0o7000, dev: unix.Mkdev(x.Dev_major, x.Dev_minor), links: x.Nlink,
				root: x.Attributes_mask&unix.STATX_ATTR_MOUNT_ROOT != 0 && x.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0}
			if x.Attributes&unix.STATX_ATTR_IMMUTABLE != 0 {
				b.fixed = "immutable"
			}
			if x.Attributes&unix.STATX_ATTR_APPEND != 0 {
				b.fixed = strings.TrimPrefix(b.fixed+" and append-only", " and ")
			}
			return e, b, nil
		}
		if !errors.Is(err, unix.ENOSYS) {
			return Entry{Name: name}, beyond{}, err
		}
		noStatx.Store(true)
	}
	e := Entry{Name: name}
	var st unix.Stat_t
	if err := unix.Fstatat(at, name, &st, unix.AT_SYMLINK_NOFOLLOW|unix.AT_EMPTY_PATH); err != nil {
		return e, beyond{}, err
	}
	e.fill(&st)
	return e, beyond{special: uint16(st.Mode & 0o7000), dev: uint64(st.Dev), links: uint32(st.Nlink)}, nil
}

func (t *Tree) item(path string, e Entry, more beyond) permit.Item {
	it := permit.Item{
		Name: e.Name, Folder: e.Folder, Link: e.Link, Other: e.Err == nil && !e.Folder && !e.Link && !e.File,
		Err:     e.Err,
		Attrs:   permit.Attrs{Mode: e.Mode, UID: e.UID, GID: e.GID},
		Special: more.special, Fixed: more.fixed, Border: more.root, Links: more.links, Inode: e.Inode,
	}
	if e.Err == nil && (e.Folder || e.File) {
		it.Attrs.ACL, it.Err = acl(path, aclAccess)
		if e.Folder && it.Err == nil {
			it.Default, it.Err = acl(path, aclDefault)
		}
		if t.Labels {
			if b, err := attribute(path, "security.selinux"); err == nil {
				it.Label = strings.TrimRight(string(b), "\x00")
			}
		}
	}
	return it
}

// The extended attributes that hold ACLs.
const (
	aclAccess  = "system.posix_acl_access"
	aclDefault = "system.posix_acl_default"
)

// acl reads an ACL of a path; none where the file system has none.
func acl(path, name string) ([]permit.Entry, error) {
	b, err := attribute(path, name)
	if err != nil {
		// ENODATA: mode bits only. ENOTSUP: no ACLs here. EACCES and ENOENT
		// show themselves elsewhere.
		return nil, nil
	}
	return permit.ParseACL(b)
}

// attribute reads an extended attribute without following a link.
func attribute(path, name string) ([]byte, error) {
	var small [256]byte
	n, err := unix.Lgetxattr(path, name, small[:])
	if err == nil {
		return small[:n:n], nil
	}
	if !errors.Is(err, unix.ERANGE) {
		return nil, err
	}
	buf := make([]byte, 64<<10)
	n, err = unix.Lgetxattr(path, name, buf)
	return buf[:max(n, 0)], err
}

// Mount says what a path is mounted from.
func (t *Tree) Mount(path string) permit.Mount {
	t.once.Do(func() { t.mounts, _ = mountinfo.GetMounts(nil) }) // without it, modes alone decide
	if m := over(t.mounts, path); m != nil {
		g := permit.MountOf(m.Mountpoint, m.FSType, m.Source, m.Options, m.VFSOptions)
		g.NoACL = !aclsWork(path)
		return g
	}
	return permit.Mount{}
}

// over gives the mount that a path, free of links, lies on: the deepest, and of
// several on the same point the last.
func over(mounts []*mountinfo.Info, path string) *mountinfo.Info {
	var best *mountinfo.Info
	for _, m := range mounts {
		if permit.Below(path, m.Mountpoint) && (best == nil || len(m.Mountpoint) >= len(best.Mountpoint)) {
			best = m
		}
	}
	return best
}

// ErrSilent says that a file system does not answer.
var ErrSilent = errors.New("it does not answer: the disk or the network behind it hangs")

// patience is how long a file system may take for one answer.
var patience = 6 * time.Second

// Patiently does something that a file system may never answer, and gives it up
// after a while. What was begun continues in the background until it is answered.
func Patiently[T any](do func() (T, error)) (T, error) { return patiently(nil, do) }

func patiently[T any](moved func() int64, do func() (T, error)) (T, error) {
	type result struct {
		v   T
		err error
	}
	done := make(chan result, 1)
	go func() {
		v, err := do()
		done <- result{v, err}
	}()
	last := int64(-1)
	for {
		timer := time.NewTimer(patience)
		select {
		case r := <-done:
			timer.Stop()
			return r.v, r.err
		case <-timer.C:
			now := int64(0)
			if moved != nil {
				now = moved()
			}
			if moved == nil || now == last {
				var none T
				return none, ErrSilent
			}
			last = now
		}
	}
}

// Audit audits a folder, with every link in its path resolved first. A file
// system that stops answering ends it with ErrSilent.
func Audit(path string, id permit.Identity, need permit.Need) (permit.Report, error) {
	if Silent(path) {
		return permit.Report{Folder: path}, ErrSilent
	}
	var fault error
	r, err := with(need, func(t *Tree, need permit.Need) permit.Report {
		r := permit.Report{Folder: path}
		real, err := filepath.EvalSymlinks(path)
		if err == nil {
			r, err = permit.Audit(t, real, id, need)
		}
		fault = err
		return r
	})
	if err != nil {
		return r, err
	}
	return r, fault
}

// Remedies gives the ways to mend what an audit found; none where the file
// system stops answering meanwhile.
func Remedies(r permit.Report, id permit.Identity, who permit.Who, need permit.Need) []permit.Remedy {
	list, err := with(need, func(t *Tree,
		need permit.Need) []permit.Remedy {
		return permit.Remedies(t, r, id, who, need)
	})
	if err != nil {
		return []permit.Remedy{}
	}
	return list
}

// Enough gives the least remedies that together mend all that can be mended, and
// what an audit would say after them.
func Enough(r permit.Report, id permit.Identity, who permit.Who, need permit.Need) ([]permit.Remedy, permit.Report,
	error) {
	after := r
	list, err := with(need, func(t *Tree, need permit.Need) (list []permit.Remedy) {
		list, after = permit.Enough(t, r, id, who, need)
		return list
	})
	if err != nil {
		return nil, r, err
	}
	return list, after, nil
}

func with[T any](need permit.Need, do func(*Tree, permit.Need) T) (T, error) {
	t := &Tree{Labels: need.Confined}
	if need.Workers == 0 {
		need.Workers = runtime.GOMAXPROCS(0)
	}
	return patiently(t.looked.Load, func() (T, error) { return do(t, need), nil })
}
