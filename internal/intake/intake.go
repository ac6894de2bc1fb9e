// Package intake brings new media in: copied from a folder or a disk, fetched from the
// web, or uploaded. What arrives waits in a hidden holding folder on the file system of
// the shelf, is checked there, and only then gets its name on the shelf, in one rename:
// nobody ever sees half a file. Each thing that is brought in is a job, described by a
// file beside what it holds, so that one that was cut off continues where it was.
//
// The shelf often belongs to the server's account, so folders and files are reached by
// descriptors (package boundary). What root brings in lies in a folder of root's own in the
// holding folder until it is on the shelf; a job that lies in somebody else's is none that
// root continues with.
package intake

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/tidy"
	"cozyshelf/internal/rename"

	"golang.org/x/sys/unix"
)

// Holding is the holding folder's name in a folder of a shelf. Scans pass over hidden
// names.
const Holding = household.Holding

// Ways are how things come in.
const (
	Copy   = "copy"
	Fetch  = "fetch"
	Upload = "upload"
)

// States of a job, and of its files.
const (
	Waiting = "waiting" // not begun, or to be continued
	Coming  = "coming in"
	Held    = "held" // whole and checked, and not yet on the shelf
	Failed  = "failed"
	Placed  = "on the shelf"
	Back    = "taken back" // was on the shelf, and was undone
)

// File is one file of a job.
type File struct {
	Source string `json:"source"` // a path, or an address
	To     string `json:"to"`     // below the shelf's folder
	Held   string `json:"held"`   // name in the job's folder
	Size   int64  `json:"size"`   // in bytes; -1 where it is not known yet
	MTime  int64  `json:"mtime,omitempty"`
	Done   int64  `json:"done"` // bytes that are there
	Sum    string `json:"sha256,omitempty"`
	Tag    string `json:"tag,omitempty"` // what tells versions of an address apart (ETag, or Last-Modified)
	State  string `json:"state"`
	Why    string `json:"why,omitempty"`
}

// Job is one thing that is brought in.
type Job struct {
	Format int       `json:"format"`
	ID     string    `json:"id"`
	Way    string    `json:"way"`
	Shelf  string    `json:"shelf"`
	Folder string    `json:"folder"` // of the shelf, on the host
	Who    string    `json:"who"`
	Began  time.Time `json:"began"`
	State  string    `json:"state"`
	Why    string    `json:"why,omitempty"`
	Move   bool      `json:"move,omitempty"` // sources go once all is on the shelf
	Files  []File    `json:"files"`

	at     string        // path of the job's folder, for messages
	dir    *boundary.Dir // the folder; nil once it is let go
	locked bool
	busy   bool
	held   int64 // bytes that were there when it was read
}

// Size gives the bytes of a job and those that are there. Files whose size is not known
// count as what is there.
func (j *Job) Size() (all, done int64) {
	for _, f := range j.Files {
		all += max(f.Size, f.Done)
		done += f.Done
	}
	return all, done
}

// ErrBusy says that somebody else works on a job.
var ErrBusy = errors.New("it is being worked on")

// NewID gives the id of a new job.
func NewID() string {
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails
	return hex.EncodeToString(b)
}

// Begin makes the holding folder and a job's folder in it, below a folder of a shelf as
// this process sees it, and locks it. A job of that id that is there already is continued,
// unless it lies in a folder that another account could write to: then it begins anew.
func Begin(folder string, j Job) (*Job, error) {
	shelf, err := boundary.Open(folder)
	if err != nil {
		return nil, err
	}
	defer shelf.Close()
	like, err := shelf.Stat()
	if err != nil {
		return nil, err
	}
	mode := fs.FileMode(0o700 | like.Mode&0o070)
	hold, err := shelf.Sub(Holding)
	if errors.Is(err, fs.ErrNotExist) {
		hold, err = shelf.Mkdir(Holding, 0o700, nil)
		if err == nil {
			err = give(hold.Fd(), like, mode)
		}
	}
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	if os.Geteuid() == 0 {
		mode = 0o700
	}
	if old, err := open(hold, j.ID); err == nil {
		if owner, err := old.dir.Owner(); err == nil && (os.Geteuid() != 0 || owner.UID == 0) {
			return old, old.take()
		}
		old.Close()
		if err := hold.RemoveAll(j.ID); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	j.dir, err = hold.Mkdir(j.ID, mode, nil)
	if errors.Is(err, fs.ErrExist) { // it was made, and not described, before it was cut off
		if err = hold.RemoveAll(j.ID); err == nil {
			j.dir, err = hold.Mkdir(j.ID, mode, nil)
		}
	}
	if err != nil {
		return nil, err
	}
	j.at = filepath.Join(folder, Holding, j.ID)
	j.Format, j.State = 1, Waiting
	if err := j.take(); err != nil {
		return nil, err
	}
	return &j, j.Save()
}

// Open opens a job that is there and locks it. ErrBusy says that somebody else has.
func Open(folder, id string) (*Job, error) {
	j, err := Read(folder, id)
	if err != nil {
		return nil, err
	}
	return j, j.take()
}

// Read reads a job without locking it. Close it.
func Read(folder, id string) (*Job, error) {
	hold, err := boundary.Open(filepath.Join(folder, Holding))
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	return open(hold, id)
}

// mostJob is how large a job's file may be, in bytes.
const mostJob = 64 << 20

func open(hold *boundary.Dir, id string) (*Job, error) {
	if id == "" || strings.ContainsAny(id, "/.") {
		return nil, fmt.Errorf("%q is no job: %w", id, fs.ErrNotExist)
	}
	dir, err := hold.Sub(id)
	if err != nil {
		return nil, err
	}
	b, err := dir.Read("job.json", mostJob, nil)
	if err != nil {
		dir.Close()
		return nil, err
	}
	j, err := Parse(id, b)
	if err != nil {
		dir.Close()
		return nil, fmt.Errorf("%s/job.json: %w", dir.Path(), err)
	}
	j.at, j.dir = dir.Path(), dir
	for _, f := range j.Files {
		j.held += j.There(&f)
	}
	// The lock of who works on it.
	err = unix.Flock(dir.Fd(), unix.LOCK_SH|unix.LOCK_NB)
	if err == nil {
		_ = unix.Flock(dir.Fd(), unix.LOCK_UN)
	}
	j.busy = errors.Is(err, unix.EWOULDBLOCK)
	return j, nil
}

// Parse reads a job's file. Its paths stay below the folders that they are for.
func Parse(id string, b []byte) (*Job, error) {
	j := &Job{}
	if err := json.Unmarshal(b, j); err != nil {
		return nil, err
	}
	if j.Format != 1 || j.ID != id || slices.ContainsFunc(j.Files, func(f File) bool {
		return !fs.ValidPath(f.To) || f.To == "." || f.Held == "" || f.Held == "." || f.Held == ".." ||
			f.Held != filepath.Base(f.Held) || f.Held == "job.json"
	}) {
		return nil, errors.New("it is no job of this program")
	}
	return j, nil
}

func (j *Job) take() error {
	// Whoever only reads a job looks for a moment whether it is locked.
	for n := 0; ; n++ {
		err := unix.Flock(j.dir.Fd(), unix.LOCK_EX|unix.LOCK_NB)
		switch {
		case !errors.Is(err, unix.EWOULDBLOCK):
			j.locked = true
			return nil
		case n == 5:
			j.Close()
			return ErrBusy
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Busy reports whether somebody else worked on a job when it was read.
func (j *Job) Busy() bool { return j.busy }

// Close lets go of a job.
func (j *Job) Close() error {
	if j.dir == nil {
		return nil
	}
	if j.locked {
		// By closing alone it would stay locked as long as a child that is being started has the folder, too.
		_ = unix.Flock(j.dir.Fd(), unix.LOCK_UN)
		j.locked = false
	}
	err := j.dir.Close()
	j.dir = nil
	return err
}

// Save writes the job's file.
func (j *Job) Save() error {
	b, err := json.MarshalIndent(j, "", " ")
	if err != nil {
		return err
	}
	return j.dir.Replace("job.json", append(b, '\n'), 0o640, nil)
}

// Fail notes why a job, or one of its files, cannot be continued.
func (j *Job) Fail(f *File, why string) error {
	if f != nil {
		f.State, f.Why = Failed, why
	}
	j.State, j.Why = Failed, why
	return j.Save()
}

// Path is where a file of the job waits.
func (j *Job) Path(f *File) string { return filepath.Join(j.at, f.Held) }

// openHeld opens what is there of a file, or makes it if wished.
func (j *Job) openHeld(f *File, make bool) (*os.File, error) {
	out, err := j.dir.Change(f.Held, []int{os.Geteuid()})
	if errors.Is(err, fs.ErrNotExist) && make {
		return j.dir.Create(f.Held, 0o600)
	}
	return out, err
}

// There is how many bytes are there of a file.
func (j *Job) There(f *File) int64 {
	if st, err := j.dir.Lstat(f.Held); err == nil {
		return st.Size
	}
	return 0
}

// Jobs gives the jobs of a folder of a shelf, the oldest first. They are for reading: each
// is closed.
func Jobs(folder string) ([]*Job, error) {
	hold, err := boundary.Open(filepath.Join(folder, Holding))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer hold.Close()
	names, err := hold.Some(mostJobs)
	if err != nil {
		return nil, err
	}
	var out []*Job
	for _, name := range names {
		j, err := open(hold, name)
		if err != nil {
			continue // being made or removed, or not ours
		}
		j.Close()
		j.Folder = folder // whatever it says
		out = append(out, j)
	}
	slices.SortFunc(out, func(a, b *Job) int { return a.Began.Compare(b.Began) })
	return out, nil
}

// Over reports whether a job that nobody works on has nothing left to do: all of it is on
// the shelf, or it was cut off before anything of it was held.
func (j *Job) Over() bool {
	return !j.busy && (j.State == Placed || j.Way != Upload && j.State != Failed && j.Done() == 0)
}

// Done is how many bytes are held, whatever the job says of itself.
func (j *Job) Done() int64 { return j.held }

// mostJobs is how many jobs of a folder are looked at: the server's account can put as many
// names into the holding folder as it likes.
const mostJobs = 10_000

// Left gives what is left of this account's jobs in a folder of a shelf that are over, and of
// those that were cut off before they were described, by their paths. It is what Sweep
// removes.
func Left(folder string) (out []string) {
	left(folder, func(hold *boundary.Dir, name string) { out = append(out, filepath.Join(hold.Path(), name)) })
	return out
}

// Sweep removes it. Whoever calls it holds the lock of the household.
func Sweep(folder string) {
	left(folder, func(hold *boundary.Dir, name string) {
		_ = hold.RemoveAll(name) // what stays is swept by the next command
	})
	if shelf, err := boundary.Open(folder); err == nil {
		_ = shelf.RemoveDir(Holding) // if it is empty
		shelf.Close()
	}
}

func left(folder string, each func(hold *boundary.Dir, name string)) {
	hold, err := boundary.Open(filepath.Join(folder, Holding))
	if err != nil {
		return // nothing is held
	}
	defer hold.Close()
	names, _ := hold.Some(mostJobs) // the next command tries again
	for _, name := range names {
		if ours(hold, name) {
			each(hold, name)
		}
	}
}

// ours reports whether a job's folder is this account's, and its job is over, or was never
// described. Nothing is read of what others own.
func ours(hold *boundary.Dir, name string) bool {
	if st, err := hold.Lstat(name); err != nil || int(st.Uid) != os.Geteuid() {
		return false
	}
	dir, err := hold.Sub(name)
	if err != nil {
		return false
	}
	defer dir.Close()
	st, err := dir.Stat()
	if err != nil || int(st.Uid) != os.Geteuid() {
		return false
	}
	// A server that is this account may have made the folder a moment ago.
	begun := st.Uid != 0 && time.Since(time.Unix(st.Mtim.Unix())) < time.Minute
	there, err := dir.Some(mostJobs)
	if err != nil || begun {
		return false
	}
	if !slices.ContainsFunc(there, func(n string) bool { return !strings.HasPrefix(n, boundary.Unfinished) }) {
		return true
	}
	j, err := open(hold, name)
	if err != nil {
		return false
	}
	defer j.Close()
	return j.Over()
}

// Count is how many jobs wait in a folder of a shelf, and whether there are more than can
// be counted. None is read.
func Count(folder string) (n int, more bool) {
	hold, err := boundary.Open(filepath.Join(folder, Holding))
	if err != nil {
		return 0, false
	}
	defer hold.Close()
	names, _ := hold.Some(mostJobs) // what cannot be listed is named by intake list
	return len(names), len(names) == mostJobs
}

// Discard removes a job and all it holds.
func (j *Job) Discard() error {
	defer j.Close()
	hold, err := boundary.Open(filepath.Dir(j.at))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	err = hold.RemoveAll(filepath.Base(j.at))
	hold.Close()
	if err != nil {
		return err
	}
	if shelf, err := boundary.Open(filepath.Dir(filepath.Dir(j.at))); err == nil {
		_ = shelf.RemoveDir(Holding) // if it is empty
		shelf.Close()
	}
	return nil
}

// Takes says why a shelf of a kind takes no file of a name, or nothing.
func Takes(kind household.Kind, as string) string {
	content, _ := naming.ContentOf(as)
	if !naming.Takes(kind, content) && naming.SortOf(as) == "" {
		return fmt.Sprintf("a shelf of %s takes no such file", kind)
	}
	return ""
}

// Check says why a file that came in whole cannot go on a shelf of a kind, or nothing:
// its name promises what it is not, or its headers cannot be read.
func Check(f *os.File, kind household.Kind, as string) string {
	if content, _ := naming.ContentOf(as); !naming.Takes(kind, content) {
		return Takes(kind, as)
	}
	st, err := f.Stat()
	if err != nil {
		return err.Error()
	}
	if st.Size() == 0 {
		return "the file is empty"
	}
	head := make([]byte, 512)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return err.Error()
	}
	if is := foreign(head[:n]); is != "" {
		return "it is " + is + ", whatever its name says"
	}
	switch strings.ToLower(path.Ext(as)) {
	case ".mp4", ".m4v", ".mov", ".m4a", ".mkv", ".webm", ".mka":
		if _, err := media.Read(f, st.Size()); err != nil {
			return err.Error()
		}
	}
	return ""
}

// foreign tells what a file is that is certainly no media, by its beginning.
func foreign(b []byte) string {
	for start, is := range map[string]string{
		"PK\x03\x04": "a ZIP archive", "Rar!\x1a\x07": "a RAR archive", "7z\xbc\xaf\x27\x1c": "a 7z archive",
		"\x1f\x8b": "a gzip archive", "\xfd7zXZ": "an xz archive", "(\xb5/\xfd": "a Zstandard archive",
		"BZh": "a bzip2 archive",
		"MZ":  "a program for Windows", "\x7fELF": "a program", "%PDF": "a PDF document", "#!": "a script",
	} {
		if strings.HasPrefix(string(b), start) {
			return is
		}
	}
	low := strings.ToLower(strings.TrimSpace(strings.TrimPrefix(string(b), "\ufeff")))
	if strings.HasPrefix(low, "<!doctype html") || strings.HasPrefix(low, "<html") {
		return "a page of the web"
	}
	return ""
}

// give makes something open belong to whom a folder of a shelf belongs, with a mode. Where
// the file system has no owners, or we may not, it stays as it is.
func give(fd int, like unix.Stat_t, mode fs.FileMode) error {
	if os.Getuid() == 0 {
		if err := unix.Fchown(fd, int(like.Uid), int(like.Gid)); err != nil && !denied(err) {
			return err
		}
	}
	if err := unix.Fchmod(fd, uint32(mode)); err != nil && !denied(err) {
		return err
	}
	return nil
}

func denied(err error) bool {
	return errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EROFS)
}

// Steps gives the renames that put what is held on the shelf: files whole and checked,
// with the owner and mode that the folder of the shelf asks for. What already has such a
// name stays where it is; that file is then noted as failed. likely gives the files of the
// folder that may hold the same bytes as one of a size: where one does, nothing is put.
func (j *Job) Steps(folder string, likely func(size int64) ([]string, error)) ([]rename.Step, error) {
	shelf, err := boundary.Open(folder)
	if err != nil {
		return nil, err
	}
	defer shelf.Close()
	like, err := shelf.Stat()
	if err != nil {
		return nil, err
	}
	var moves []tidy.Move
	wanted := map[string]bool{}
	for i := range j.Files {
		f := &j.Files[i]
		if f.State != Held {
			continue
		}
		out, err := j.openHeld(f, false)
		if err != nil {
			return nil, err
		}
		twin, err := j.twin(f, out, shelf, likely)
		if err != nil {
			out.Close()
			return nil, err
		}
		if twin != "" {
			// Nothing is to be done for it.
			f.State, f.Why, f.To = Placed, "it was there already, the same bytes", twin
			out.Close()
			if err := j.dir.Remove(f.Held); err != nil {
				return nil, err
			}
			continue
		}
		if shelf.Exists(f.To) || wanted[strings.ToLower(f.To)] {
			f.State, f.Why = Failed, f.To+" is there already, and is another file"
			out.Close()
			continue
		}
		wanted[strings.ToLower(f.To)] = true
		// Who may list the folder may read what is in it.
		err = give(int(out.Fd()), like, fs.FileMode(like.Mode&0o666|0o400))
		out.Close()
		if err != nil {
			return nil, err
		}
		moves = append(moves, tidy.Move{From: path.Join(Holding, j.ID, f.Held), To: f.To})
	}
	if err := j.Save(); err != nil {
		return nil, err
	}
	// Among them are those that leave the job's folder: it is not empty and stays until
	// the job is over, but taking it all back makes it again.
	return rename.Prepare(folder, moves, false, nil)
}

// twin finds a file of the folder with the same bytes: under the same name, or, unless
// sources were compared before they were copied, under any.
func (j *Job) twin(f *File, held *os.File, shelf *boundary.Dir, likely func(size int64) ([]string, error)) (string,
	error) {
	list := []string{f.To}
	if j.Way != Copy && f.Size > 0 {
		more, err := likely(f.Size)
		if err != nil {
			return "", err
		}
		list = append(list, more...)
	}
	for _, rel := range list {
		// What cannot be read is not the same, as far as anybody knows.
		other, err := shelf.File(rel, nil)
		if err != nil {
			continue
		}
		twin, err := equal(context.Background(), held, other)
		other.Close()
		if err == nil && twin {
			return rel, nil
		}
	}
	return "", nil
}

// Likely finds files of a folder by their size. It goes through all of it, once.
func Likely(folder string) func(size int64) ([]string, error) {
	all := sync.OnceValues(func() (map[int64][]string, error) { return sizes(folder) })
	return func(size int64) ([]string, error) {
		m, err := all()
		return m[size], err
	}
}

// TakenBack notes, after such steps were taken back, that what came in is held again. It
// does nothing for steps that are none of an intake.
func TakenBack(folder, shelf, who string, steps []rename.Step) error {
	j := Job{Format: 1, Way: Copy, Shelf: shelf, Folder: folder, Who: who, Began: time.Now(), State: Back,
		Why: "it was taken back from the shelf, and is kept until cozyshelf intake clear removes it"}
	for _, s := range steps {
		rest, ok := strings.CutPrefix(s.From, Holding+"/")
		id, held, in := strings.Cut(rest, "/")
		if s.Op != rename.Move || !ok || !in {
			continue
		}
		j.ID, j.at = id, filepath.Join(folder, Holding, id)
		j.Files = append(j.Files, File{Source: s.To, To: s.To, Held: held, Size: s.Size, Done: s.Size, MTime: s.MTime,
			State: Back})
	}
	if j.ID == "" {
		return nil
	}
	var err error
	if j.dir, err = boundary.Open(j.at); err != nil {
		return err
	}
	defer j.Close()
	return j.Save()
}

// PlacedAgain removes what describes a job, after its steps were taken once more.
func PlacedAgain(folder string, steps []rename.Step) error {
	for _, s := range steps {
		if rest, ok := strings.CutPrefix(s.From, Holding+"/"); ok && s.Op == rename.Move {
			id, _, _ := strings.Cut(rest, "/")
			j, err := Open(folder, id)
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			for _, f := range j.Files {
				if j.dir.Exists(f.Held) {
					return j.Close() // something is still in it
				}
			}
			return j.Discard()
		}
	}
	return nil
}

// Placed notes what is on the shelf after such steps, and reports whether all is.
func (j *Job) Placed(folder string) (all bool, err error) {
	all = true
	for i := range j.Files {
		f := &j.Files[i]
		if f.State == Held {
			if !j.dir.Exists(f.Held) {
				f.State = Placed
			}
		}
		all = all && f.State == Placed
	}
	if j.State = Placed; !all {
		j.State = Failed
		for _, f := range j.Files {
			if f.Why != "" {
				j.Why = f.Why
			}
		}
	}
	return all, j.Save()
}

// Name gives the path below a shelf's folder that a file with this name should have: the
// one it is understood to have, or its own, made fit for every file system.
func Name(kind household.Kind, name string) string {
	r := naming.Read(kind, name)
	if to := naming.Canonical(kind, r, path.Ext(name)); to != "" && r.Confidence >= tidy.Sure {
		return to
	}
	return Safe(name)
}

// Safe makes a name from elsewhere fit to be a file's: one name, with no characters that
// have a meaning on some machine, not hidden, not too long.
func Safe(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	if name = path.Base(path.Clean("/" + name)); name == "/" {
		name = ""
	}
	name = strings.Map(func(r rune) rune {
		switch {
		case r < ' ' || r == 0x7f || strings.ContainsRune(`<>:"|?*`, r) || r >= 0x202a && r <= 0x202e || r >= 0x2066 &&
			r <= 0x2069 || r == '\ufffd':
			return '-'
		}
		return r
	}, strings.ToValidUTF8(name, "-"))
	name = strings.TrimRight(strings.TrimLeft(name, ". "), ". ")
	ext := path.Ext(name)
	if len(ext) > 12 {
		ext = ""
	}
	stem := strings.TrimSuffix(name, ext)
	for len(stem)+len(ext) > 200 {
		stem = strings.ToValidUTF8(stem[:len(stem)-1], "")
	}
	if low := strings.ToLower(strings.TrimSpace(stem)); low == "" || len(low) >= 3 && len(low) <= 4 &&
		(low == "con" || low == "prn" || low == "aux" || low == "nul" || strings.HasPrefix(low, "com") ||
			strings.HasPrefix(low, "lpt")) {
		stem = "file " + stem
	}
	return strings.TrimSpace(stem) + ext
}

// Free gives the bytes that are free where a folder lies.
func Free(folder string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(folder, &st); err != nil {
		return 0, &fs.PathError{Op: "statfs", Path: folder, Err: err}
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

// Reserve is what stays free on a disk.
const Reserve = 64 << 20
