package ledger

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"
	"unicode/utf8"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"

	"golang.org/x/sys/unix"
)

// Spool is the name of the file in the state folder by which the server tells of what it
// did. The server's account owns it, so nothing in it is believed: TakeOver enters what
// has the right form, as told by the server.
const Spool = layout.Spool

// taken is what the spool is called while it is taken over.
const taken = layout.Taken

// The bounds of a spool. A server that meets them tells no more until it is taken over.
const (
	mostSpool = 4 << 20
	mostText  = 1 << 10 // bytes of each word
	mostTold  = 20_000  // lines
)

// Told is one thing that the server tells: what a member uploaded.
type Told struct {
	ID     string    `json:"id"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	Shelf  string    `json:"shelf"`
	Folder string    `json:"folder"` // of the shelf, as the administrator wrote it
	File   Uploaded  `json:"file"`
}

// ErrSpoolFull says that nobody has taken the spool over for too long.
var ErrSpoolFull = errors.New("no command of the administrator's has read the spool for long, and it is full")

// Tell lets the server tell of something. It is synced.
func Tell(state string, t Told) error {
	t.ID = rand.Text()
	b, err := json.Marshal(t)
	if err != nil {
		return err
	}
	for {
		f, err := os.OpenFile(filepath.Join(state, Spool), os.O_CREATE|os.O_WRONLY|os.O_APPEND|unix.O_NOFOLLOW, 0o600)
		if err != nil {
			return err
		}
		err = tell(f, filepath.Join(state, Spool), append(b, '\n'))
		err = errors.Join(err, f.Close())
		if !errors.Is(err, errTaken) {
			return err
		}
	}
}

// errTaken says that the spool was taken over between opening and locking it.
var errTaken = errors.New("taken over")

func tell(f *os.File, path string, b []byte) error {
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil && !errors.Is(err, unix.ENOTSUP) &&
		!errors.Is(err, unix.ENOLCK) {
		return err
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if now, err := os.Lstat(path); err != nil || !os.SameFile(st, now) {
		return errTaken
	}
	if st.Size() > mostSpool-int64(len(b)) {
		return ErrSpoolFull
	}
	if _, err := f.Write(b); err != nil {
		return err
	}
	return f.Sync()
}

// TakeOver enters into the ledger what the server told, and empties the spool. It gives
// how many entries there are new, and how many lines were passed over since they are none
// that the server writes. Done twice, or cut off, it enters nothing twice.
func TakeOver(state string) (entered, odd int, err error) {
	dir, err := boundary.Open(state)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) {
		return 0, 0, nil // whoever judges the folder says so
	}
	if err != nil {
		return 0, 0, err
	}
	defer dir.Close()
	owner, err := dir.Owner()
	if err != nil {
		return 0, 0, err
	}
	if !dir.Exists(taken) {
		switch err := dir.Rename(Spool, dir, taken); {
		case errors.Is(err, fs.ErrNotExist):
			return 0, 0, nil
		case err != nil:
			return 0, 0, err
		}
	}
	// Whatever stands there that is no spool goes: only the account can have put it there.
	b, err := readSpool(dir, []int{owner.UID, os.Geteuid()})
	if errors.Is(err, boundary.ErrForeign) || errors.Is(err, boundary.ErrLink) || errors.Is(err, unix.EISDIR) {
		return 0, 1, dir.RemoveAll(taken)
	}
	if err != nil {
		return 0, 0, err
	}
	list, _, err := Read(state)
	if err != nil {
		return 0, 0, err
	}
	have := map[string]bool{}
	for _, e := range list {
		if e.Told != "" {
			have[e.Told] = true
		}
	}
	news, odd := ParseSpool(b)
	for _, t := range news {
		if have[t.ID] {
			continue
		}
		if _, err := Append(state, t.entry()); err != nil {
			return entered, odd, err
		}
		have[t.ID] = true
		entered++
	}
	return entered, odd, dir.RemoveAll(taken)
}

// patience is how long a server may take to end the line that it writes.
const patience = time.Second

func readSpool(dir *boundary.Dir, owners []int) ([]byte, error) {
	f, err := dir.File(taken, owners)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	// A server in the midst of a line holds the lock; an account that holds it for longer
	// keeps nobody.
	for began := time.Now(); time.Since(began) < patience; time.Sleep(10 * time.Millisecond) {
		if err := unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB); !errors.Is(err, unix.EWOULDBLOCK) {
			break
		}
	}
	return io.ReadAll(io.LimitReader(f, mostSpool))
}

// ParseSpool reads the lines of a spool, and counts those that are none of the server's.
func ParseSpool(b []byte) (list []Told, odd int) {
	for s := lines(b); s.Scan(); {
		var t Told
		if len(list) >= mostTold || json.Unmarshal(s.Bytes(), &t) != nil || !t.sound() {
			odd++
			continue
		}
		list = append(list, t)
	}
	return list, odd
}

func (t Told) sound() bool {
	short := func(list ...string) bool {
		for _, s := range list {
			if s == "" || len(s) > mostText || !utf8.ValidString(s) {
				return false
			}
		}
		return true
	}
	plain := func(s string) bool { return filepath.Base(s) == s && s[0] != '.' }
	return short(t.ID, t.Who, t.Shelf, t.Folder, t.File.Job, t.File.Held, t.File.To) && len(t.ID) <= 64 &&
		plain(t.File.Job) && plain(t.File.Held) && fs.ValidPath(t.File.To) && t.File.To[0] != '.' && t.File.Size >= 0 &&
		t.At.Year() > 1969 && t.At.Year() < 10000
}

// entry is what the ledger says of it.
func (t Told) entry() Entry {
	data, _ := json.Marshal(t.File) // of strings and numbers
	return Entry{At: t.At, Who: t.Who, Command: "upload", Action: "intake", Outcome: "done", Told: t.ID,
		What: fmt.Sprintf("put %s on shelf %s in %s", t.File.To, t.Shelf, t.Folder), Why: t.Who +
			" uploaded it, as the server says",
		Undo: &Undo{Kind: Upload, Path: t.Folder, Data: string(data)}}
}
