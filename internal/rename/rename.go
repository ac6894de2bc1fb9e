// Package rename carries out renames below one folder: never over something that is
// there, never onto another file system, never by copying. What it does is written down
// before, so that it can be finished or taken back after a crash; and what it did is
// proven: the same inode, size and time, and if wished the same content.
package rename

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/tidy"
	"cozyshelf/internal/crashpoint"

	"golang.org/x/sys/unix"
)

// Ops are what a step does.
const (
	Move     = "move"
	MakeDir  = "mkdir"
	LeaveDir = "rmdir" // of a folder that is empty by then; it stays where it is not
)

// Step is one step. Paths are relative to the folder, with slashes. It is written as a
// line of JSON.
type Step struct {
	Op    string `json:"op"`
	From  string `json:"from"`
	To    string `json:"to,omitempty"`
	Size  int64  `json:"size,omitempty"`
	MTime int64  `json:"mtime,omitempty"` // Unix nanoseconds
	Sum   string `json:"sha256,omitempty"`
	// Of a folder: as it was, or is to be.
	Mode uint32 `json:"mode,omitempty"`
	UID  uint32 `json:"uid,omitempty"`
	GID  uint32 `json:"gid,omitempty"`
}

// Prepare works out the steps for moves below a folder: the folders that have to be made,
// the renames, and the folders that will be empty. With sums it reads every file that is
// to be renamed.
func Prepare(folder string, moves []tidy.Move, sums bool, progress func(n int)) ([]Step, error) {
	dir, root, err := open(folder)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	defer root.Close()
	top, err := root.Stat(".")
	if err != nil {
		return nil, err
	}
	var out []Step
	made, left := map[string]bool{}, map[string]bool{}
	var at = map[string]Step{} // what lies at a path after the steps so far, if it moved
	for n, p := range tidy.Steps(moves) {
		for _, d := range above(p.To) {
			if made[d] {
				continue
			}
			made[d] = true
			st, err := root.Lstat(d)
			if err == nil && st.IsDir() {
				continue
			}
			if err == nil {
				return nil, &fs.PathError{Op: "make the folder", Path: path.Join(folder, d),
					Err: errors.New("something else is there")}
			}
			// Like the folder of the shelf itself.
			sys := top.Sys().(*syscall.Stat_t)
			out = append(out, Step{Op: MakeDir, From: d, Mode: uint32(unixMode(top)), UID: sys.Uid, GID: sys.Gid})
		}
		s, ok := at[p.From]
		if ok {
			delete(at, p.From)
		} else {
			st, err := root.Lstat(p.From)
			if err != nil {
				return nil, err
			}
			if !st.Mode().IsRegular() {
				return nil, &fs.PathError{Op: "rename", Path: path.Join(folder, p.From),
					Err: errors.New("it is no plain file")}
			}
			s = Step{Size: st.Size(), MTime: st.ModTime().UnixNano()}
			if sums {
				if s.Sum, err = sum(dir, p.From); err != nil {
					return nil, err
				}
			}
		}
		s.Op, s.From, s.To = Move, p.From, p.To
		at[p.To] = s
		out = append(out, s)
		for _, d := range above(p.From) {
			left[d] = true
		}
		if progress != nil {
			progress(n + 1)
		}
	}
	// The deepest first; those that get something stay anyway.
	dirs := slices.Collect(func(yield func(string) bool) {
		for d := range left {
			if !yield(d) {
				return
			}
		}
	})
	slices.SortFunc(dirs, func(a, b string) int {
		if n := strings.Count(b, "/") - strings.Count(a, "/"); n != 0 {
			return n
		}
		return strings.Compare(a, b)
	})
	for _, d := range dirs {
		st, err := root.Lstat(d)
		if err != nil {
			continue // made by one of the steps
		}
		sys := st.Sys().(*syscall.Stat_t)
		out = append(out, Step{Op: LeaveDir, From: d, Mode: uint32(unixMode(st)), UID: sys.Uid, GID: sys.Gid,
			MTime: st.ModTime().UnixNano()})
	}
	return out, nil
}

// unixMode gives the permission bits with set-id and sticky bits, as chmod takes them.
func unixMode(st fs.FileInfo) uint16 { return uint16(st.Sys().(*syscall.Stat_t).Mode & 0o7777) }

// above gives the folders that a path lies in, the outermost first.
func above(p string) []string {
	var out []string
	for d := path.Dir(p); d != "."; d = path.Dir(d) {
		out = append(out, d)
	}
	slices.Reverse(out)
	return out
}

// Write writes steps, a line each.
func Write(to io.Writer, steps []Step) error {
	w := bufio.NewWriter(to)
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	for _, s := range steps {
		if err := e.Encode(s); err != nil {
			return err
		}
	}
	return w.Flush()
}

// Read reads what Write wrote. A path that leaves the folder is refused.
func Read(from io.Reader) ([]Step, error) {
	var out []Step
	d := json.NewDecoder(from)
	d.DisallowUnknownFields()
	for {
		var s Step
		if err := d.Decode(&s); errors.Is(err, io.EOF) {
			return out, nil
		} else if err != nil {
			return nil, fmt.Errorf("step %d: %w", len(out)+1, err)
		}
		ok := fs.ValidPath(s.From) && s.From != "."
		switch s.Op {
		case Move:
			ok = ok && fs.ValidPath(s.To) && s.To != "."
		case MakeDir, LeaveDir:
			ok = ok && s.To == ""
		default:
			ok = false
		}
		if !ok {
			return nil, fmt.Errorf("step %d is none that is known: %q %q", len(out)+1, s.Op, s.From)
		}
		out = append(out, s)
	}
}

// Odd is a step that was left alone.
type Odd struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Outcome is what came of steps.
type Outcome struct {
	Done    int   `json:"done"`    // files renamed
	Already int   `json:"already"` // that were so already
	Odd     []Odd `json:"odd"`
}

// Carrier carries steps out.
type Carrier struct {
	Folder string
	Back   bool        // take them back
	Dry    bool        // only look
	Told   func(n int) // hears of each step; may be nil

	dir *boundary.Dir // Folder, while it is at work
}

// open opens a folder, by way of no link that others could have made.
func open(folder string) (*boundary.Dir, *os.Root, error) {
	d, err := boundary.Open(folder)
	if err != nil {
		return nil, nil, err
	}
	root, err := d.Root()
	if err != nil {
		d.Close()
		return nil, nil, err
	}
	return d, root, nil
}

// ErrOtherDisk says that a file would go onto another file system.
var ErrOtherDisk = errors.New("it lies on another file system; only copying could bring it there, and files are " +
	"not copied here")

// Carry takes the steps, or takes them back. What is so already is passed over, so that
// steps that were cut off can be taken again. What is neither as before nor as after was
// changed by somebody since, and is left alone.
func (c Carrier) Carry(steps []Step) (Outcome, error) {
	out := Outcome{Odd: []Odd{}}
	dir, root, err := open(c.Folder)
	if err != nil {
		return out, err
	}
	defer dir.Close()
	defer root.Close()
	c.dir = dir
	touched := map[string]bool{}
	if c.Back {
		steps = slices.Clone(steps)
		slices.Reverse(steps)
	}
	for n, s := range steps {
		do := func() error { return c.step(root, s, &out, touched) }
		if !c.Dry {
			do = func() error { return crashpoint.Step(func() error { return c.step(root, s, &out, touched) }) }
		}
		if err := do(); err != nil {
			return out, err
		}
		if c.Told != nil {
			c.Told(n + 1)
		}
	}
	for d := range touched {
		f, err := folder(root, d)
		if err != nil {
			continue // it was a folder that is gone
		}
		err = f.Sync()
		f.Close()
		if err != nil && !errors.Is(err, unix.EINVAL) {
			return out, &fs.PathError{Op: "sync", Path: path.Join(c.Folder, d), Err: err}
		}
	}
	return out, nil
}

func (c Carrier) step(root *os.Root, s Step, out *Outcome, touched map[string]bool) error {
	switch make := s.Op == MakeDir; {
	case s.Op == Move:
		return c.move(root, s, out, touched)
	case make != c.Back:
		if c.Dry {
			return nil
		}
		return c.makeDir(root, s, touched)
	default:
		if c.Dry {
			return nil
		}
		return c.leaveDir(root, s.From, touched)
	}
}

func (c Carrier) makeDir(root *os.Root, s Step, touched map[string]bool) error {
	f, err := c.dir.Mkdir(s.From, 0o755, nil)
	if errors.Is(err, fs.ErrExist) {
		if st, serr := root.Lstat(s.From); serr == nil && st.IsDir() {
			return nil
		}
		return at(c.Folder, err)
	}
	if err != nil {
		return err
	}
	touched[path.Dir(s.From)] = true
	defer f.Close()
	if os.Getuid() == 0 {
		// Where the file system has no owners, there is nothing to give.
		if err := f.Chown(boundary.Owner{UID: int(s.UID), GID: int(s.GID)}); err != nil &&
			!errors.Is(err, unix.EPERM) && !errors.Is(err, unix.ENOTSUP) {
			return err
		}
	}
	if err := unix.Fchmod(f.Fd(), s.Mode); err != nil && !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.ENOTSUP) {
		return &fs.PathError{Op: "chmod", Path: path.Join(c.Folder, s.From), Err: err}
	}
	return nil
}

// leaveDir removes a folder that is empty.
func (c Carrier) leaveDir(root *os.Root, dir string, touched map[string]bool) error {
	if st, err := root.Lstat(dir); err != nil || !st.IsDir() {
		return nil
	}
	f, err := folder(root, path.Dir(dir))
	if err != nil {
		return at(c.Folder, err)
	}
	defer f.Close()
	err = unix.Unlinkat(int(f.Fd()), path.Base(dir), unix.AT_REMOVEDIR)
	switch {
	case err == nil:
		touched[path.Dir(dir)] = true
	case errors.Is(err, unix.ENOTEMPTY), errors.Is(err, unix.EEXIST), errors.Is(err, unix.ENOENT),
		errors.Is(err, unix.EBUSY):
	default:
		return &fs.PathError{Op: "remove the folder", Path: path.Join(c.Folder, dir), Err: err}
	}
	return nil
}

func (c Carrier) move(root *os.Root, s Step, out *Outcome, touched map[string]bool) error {
	from, to := s.From, s.To
	if c.Back {
		from, to = to, from
	}
	is := func(p string) bool {
		st, err := root.Lstat(p)
		return err == nil && st.Mode().IsRegular() && st.Size() == s.Size && st.ModTime().UnixNano() == s.MTime
	}
	odd := func(why string) error {
		out.Odd = append(out.Odd, Odd{path.Join(c.Folder, from), why})
		return nil
	}
	_, terr := root.Lstat(to)
	switch {
	case !is(from) && is(to):
		out.Already++
		return nil
	case !is(from):
		if _, err := root.Lstat(from); errors.Is(err, fs.ErrNotExist) {
			return odd("it is gone")
		}
		return odd("it was changed since, or is another")
	case terr == nil:
		return odd(path.Join(c.Folder, to) + " is there by now; nothing is written over")
	}
	if c.Dry {
		out.Done++
		return nil
	}
	before, err := root.Lstat(from)
	if err != nil {
		return at(c.Folder, err)
	}
	err = noReplace(root, from, to)
	switch {
	case errors.Is(err, unix.EEXIST):
		return odd(path.Join(c.Folder, to) + " is there by now; nothing is written over")
	case errors.Is(err, unix.EXDEV):
		return odd(ErrOtherDisk.Error())
	case err != nil:
		return &fs.PathError{Op: "rename", Path: path.Join(c.Folder, from), Err: err}
	}
	touched[path.Dir(from)], touched[path.Dir(to)] = true, true
	after, err := root.Lstat(to)
	if err != nil {
		return at(c.Folder, err)
	}
	if !os.SameFile(before, after) || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return &fs.PathError{Op: "rename", Path: path.Join(c.Folder, to),
			Err: errors.New("it is not the same file as before: somebody put another in its place")}
	}
	if s.Sum != "" {
		now, err := sum(c.dir, to)
		if err != nil {
			return err
		}
		if now != s.Sum {
			return &fs.PathError{Op: "rename", Path: path.Join(c.Folder, to),
				Err: errors.New("its content is not what it was: somebody writes to it, or the disk fails")}
		}
	}
	out.Done++
	return nil
}

// folder opens a folder. A pipe that somebody has put in its place is refused, and holds nobody.
func folder(root *os.Root, name string) (*os.File, error) {
	return root.OpenFile(name, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NONBLOCK, 0)
}

// noReplace renames a file unless there is something under the new name (renameat2(2)).
func noReplace(root *os.Root, from, to string) error {
	a, err := folder(root, path.Dir(from))
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := folder(root, path.Dir(to))
	if err != nil {
		return err
	}
	defer b.Close()
	err = unix.Renameat2(int(a.Fd()), path.Base(from), int(b.Fd()), path.Base(to), unix.RENAME_NOREPLACE)
	if !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOSYS) {
		return err
	}
	// Where the file system cannot promise that, a second name does: link(2) never
	// replaces anything.
	if err := unix.Linkat(int(a.Fd()), path.Base(from), int(b.Fd()), path.Base(to), 0); err != nil {
		return err
	}
	return unix.Unlinkat(int(a.Fd()), path.Base(from), 0)
}

func sum(dir *boundary.Dir, p string) (string, error) {
	f, err := dir.File(p, nil)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// at makes the path of an error a whole one.
func at(folder string, err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return &fs.PathError{Op: strings.TrimSuffix(pe.Op, "at"), Path: path.Join(folder, pe.Path), Err: pe.Err}
	}
	return err
}
