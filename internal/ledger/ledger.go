// Package ledger keeps the record of every change made to the host or the
// deployment: JSON lines in the administrator's folder, appended and synced, each
// carrying the hash of the line before it. A change that takes effect at once is one
// line. One that can be cut off is begun with a line and ended with another, so that
// what a crash left open can be seen, finished or taken back.
//
// # Whose it is
//
// What the ledger says is carried out by undo with the powers of whoever runs it. So it
// lies, with what is kept beside it, where the server's account cannot write: in the
// administrator's folder (see package boundary). All functions take the path of the
// state folder, from which that of the administrator's follows. What the server itself
// has to tell, it writes into a spool in the state folder; TakeOver checks that and
// enters it.
package ledger

import (
	"bufio"
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/plain"

	"github.com/coreos/go-systemd/v22/journal"
	"golang.org/x/sys/unix"
)

// File is the ledger's name in the administrator's folder, Kept that of the folder
// beside it for what is needed to undo.
const (
	File = layout.Ledger
	Kept = layout.Undo
)

// Deployed is the file in Kept that says what was deployed last.
const Deployed = layout.Deployed

// most is how large a ledger may be to be read.
const most = 256 << 20

// Kinds of Undo that a later deployment continues: a deployment as a whole, and a
// store that was replaced.
const (
	Deployment = "deployment"
	Stored     = "store"
)

// Upload is the kind of Undo of what a member uploaded: the server wrote it, so nothing in
// it is followed that is not checked. Its Data is an Uploaded as JSON.
const Upload = "upload"

// Uploaded is what came in by an upload, and where it is.
type Uploaded struct {
	Job   string `json:"job"`
	Held  string `json:"held"` // name in the job's folder
	To    string `json:"to"`   // below the shelf's folder
	Size  int64  `json:"size"`
	MTime int64  `json:"mtime"` // Unix nanoseconds
}

// Open is the outcome of an entry that was begun and not ended.
const Open = "open"

// TakenBack is the outcome of one that was cut off and then undone.
const TakenBack = "cut off, and taken back"

// Entry is one change.
type Entry struct {
	ID      int       `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`     // account that ran the command
	Command string    `json:"command"` // such as "deploy"
	Action  string    `json:"action"`
	What    string    `json:"what"`
	Why     string    `json:"why"`
	Outcome string    `json:"outcome"`        // done, open, or why it failed
	Undo    *Undo     `json:"undo,omitempty"` // nil where it cannot be taken back
	Undoes  int       `json:"undoes,omitempty"`
	Of      int       `json:"of,omitempty"` // the entry that this is a step of
	// Told is the id under which the server told of it, where it did.
	Told string `json:"told,omitempty"`
	// UndoneBy is the entry that took this one back; it is not in the line.
	UndoneBy int `json:"undone_by,omitempty"`
}

// Undo is what is needed to take a change back.
type Undo struct {
	Kind string `json:"kind"`           // what undoes it: access, file, folder, group, account
	Path string `json:"path,omitempty"` // what was changed
	Kept string `json:"kept,omitempty"` // a file in the folder Kept
	Data string `json:"data,omitempty"` // whatever else the kind needs
}

// line is one line of the file.
type line struct {
	Entry
	Ends bool   `json:"ends,omitempty"` // it only ends the entry of this id
	Prev string `json:"prev"`           // SHA-256 of the line before; empty for the first
}

// Append adds a change that has taken effect, and gives its id. A line that a crash left
// without its end is ended first.
func Append(state string, e Entry) (int, error) { return add(state, line{Entry: e}) }

// Begin adds a change before it is made.
func Begin(state string, e Entry) (int, error) {
	e.Outcome = Open
	return add(state, line{Entry: e})
}

// End notes what came of a change that was begun.
func End(state string, id int, outcome string) error {
	_, err := add(state, line{Entry: Entry{ID: id, At: time.Now(), Outcome: outcome}, Ends: true})
	return err
}

// own is whose all of it has to be.
func own() []int { return []int{os.Geteuid()} }

func add(state string, l line) (int, error) {
	dir, err := boundary.OpenAdmin(state, true)
	if err != nil {
		return 0, err
	}
	defer dir.Close()
	f, err := dir.Create(File, 0o600)
	if errors.Is(err, os.ErrExist) {
		f, err = dir.Change(File, own())
	}
	if err != nil {
		return 0, err
	}
	defer f.Close()
	// One writer at a time: the hash and the number follow from the line before.
	// Where the file system has no locks, that of the household file has to do.
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil && !errors.Is(err, unix.ENOTSUP) &&
		!errors.Is(err, unix.ENOLCK) && !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EINVAL) {
		return 0, err
	}
	end, err := readEnd(f, l)
	if err != nil {
		return 0, err
	}
	l.Prev = end.hash
	if !l.Ends {
		l.ID = end.highest + 1
	}
	b, err := json.Marshal(l)
	if err != nil {
		return 0, err
	}
	if end.cut {
		b = append([]byte{'\n'}, b...)
	}
	if _, err := f.WriteAt(append(b, '\n'), end.size); err != nil {
		return 0, err
	}
	if err := f.Sync(); err != nil {
		return l.ID, err
	}
	trace(end.begun, l)
	return l.ID, nil
}

// end is what the next line follows from.
type end struct {
	size    int64
	hash    string // of the last line; empty where there is none
	highest int    // number of an entry
	cut     bool   // the last line has no end
	begun   Entry  // that the next line ends
	first   bool   // the beginning of an entry was among what was read
}

// window is how much of a ledger's end is read at first, in bytes.
const window = 64 << 10

// readEnd reads as much of a ledger's end as is needed for the next line. Numbers grow, so
// the last entry has the highest.
func readEnd(f *os.File, next line) (end, error) {
	var e end
	st, err := f.Stat()
	if err != nil {
		return e, err
	}
	e.size = st.Size()
	for part := int64(window); ; part *= 8 {
		from := max(0, e.size-part)
		b := make([]byte, e.size-from)
		if _, err := f.ReadAt(b, from); err != nil && !(errors.Is(err, io.EOF) && len(b) == 0) {
			return e, err
		}
		if from > 0 { // the first line may have begun before
			_, rest, _ := bytes.Cut(b, []byte{'\n'})
			b = rest
		}
		e.begun, e.highest = next.Entry, 0
		found := !next.Ends
		var last []byte
		for s := lines(b); s.Scan(); {
			last = append(last[:0], s.Bytes()...)
			var have line
			if json.Unmarshal(s.Bytes(), &have) != nil {
				continue
			}
			e.highest = max(e.highest, have.ID)
			if next.Ends && have.ID == next.ID && !have.Ends {
				e.begun, found = have.Entry, true
			}
			if !have.Ends {
				e.first = true
			}
		}
		if from == 0 || e.first && found {
			e.cut = len(b) > 0 && b[len(b)-1] != '\n'
			if last != nil {
				e.hash = hash(last)
			}
			return e, nil
		}
	}
}

// trace leaves a line in the system's journal, where there is one: what was done, not
// what with. Single steps are left out.
func trace(e Entry, l line) {
	if e.Of != 0 || !journal.Enabled() {
		return
	}
	text := fmt.Sprintf("entry %d, %s by %s: %s: %s", l.ID, e.Command, e.Who, e.What, l.Outcome)
	// The ledger has it; the journal is for those who look there.
	_ = journal.Send(plain.Line(text), journal.PriInfo,
		map[string]string{"SYSLOG_IDENTIFIER": "cozyshelf", "COZYSHELF_ENTRY": strconv.Itoa(l.ID)})
}

func hash(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// lines reads line by line, passing over empty ones.
func lines(b []byte) *bufio.Scanner {
	s := bufio.NewScanner(bytes.NewReader(b))
	s.Buffer(nil, 16<<20)
	s.Split(func(data []byte, end bool) (int, []byte, error) {
		n, token, err := bufio.ScanLines(data, end)
		if token != nil && len(token) == 0 && n > 0 {
			return n, nil, err
		}
		return n, token, err
	})
	return s
}

// text gives the whole ledger, nil where there is none.
func text(state string) ([]byte, error) {
	dir, err := boundary.OpenAdmin(state, false)
	if err == nil {
		defer dir.Close()
		var b []byte
		if b, err = dir.Read(File, most, own()); err == nil {
			return b, nil
		}
	}
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	return nil, fmt.Errorf("reading the ledger: %w", err)
}

// Read gives all entries, oldest first. Lines that cannot be read are counted.
func Read(state string) (list []Entry, damaged int, err error) {
	b, err := text(state)
	if err != nil {
		return nil, 0, err
	}
	at := map[int]int{}
	for s := lines(b); s.Scan(); {
		var l line
		if json.Unmarshal(s.Bytes(), &l) != nil {
			damaged++
			continue
		}
		if l.Ends {
			if i, ok := at[l.ID]; ok {
				list[i].Outcome = l.Outcome
			}
			continue
		}
		at[l.ID] = len(list)
		list = append(list, l.Entry)
	}
	for _, e := range list {
		if i, ok := at[e.Undoes]; ok && e.Undoes != 0 && e.Outcome == "done" {
			list[i].UndoneBy = e.ID
			if list[i].Outcome == Open {
				list[i].Outcome = TakenBack
			}
		}
	}
	return list, damaged, nil
}

// Undoing gives the entry by which another one is being taken back, where that was cut off.
func Undoing(list []Entry, id int) (Entry, bool) {
	i := slices.IndexFunc(list, func(e Entry) bool { return e.Undoes == id && e.Outcome == Open })
	if i < 0 {
		return Entry{}, false
	}
	return list[i], true
}

// Verify checks that no line was changed or taken out: each must carry the hash
// of the one before. It gives how many lines there are and the number of the
// first that does not fit, 0 where all do. Lines cut off at the very end leave
// no trace that a chain could show.
func Verify(state string) (n, wrong int, err error) {
	b, err := text(state)
	if err != nil {
		return 0, 0, err
	}
	prev := ""
	for s := lines(b); s.Scan(); {
		n++
		var l line
		// A line that a crash cut off is there as it was left; the next one
		// carries its hash.
		if json.Unmarshal(s.Bytes(), &l) == nil && l.Prev != prev && wrong == 0 {
			wrong = n
		}
		prev = hash(s.Bytes())
	}
	return n, wrong, nil
}

// Keep makes a file for what is needed to undo a change, under a new name. It belongs to
// whoever runs this, and lies where nobody else can write.
func Keep(state, kind string) (*os.File, error) {
	dir, err := OpenFolder(state)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	f, err := dir.Create(time.Now().UTC().Format("20060102-150405-")+kind+"-"+rand.Text()[:10]+".jsonl", 0o600)
	if err == nil {
		_ = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) // so that nobody sweeps it
	}
	return f, err
}

// Sweep removes what was kept to undo changes that no entry tells of: the command was ended
// between the two, and nothing was changed yet. Whoever calls it holds the lock of the
// household. Where a part of the ledger cannot be read, all stays.
func Sweep(state string) {
	list, damaged, err := Read(state)
	if err != nil || damaged > 0 {
		return
	}
	named := map[string]bool{Deployed: true}
	for _, e := range list {
		if e.Undo != nil {
			named[e.Undo.Kept] = true
		}
	}
	admin, err := boundary.OpenAdmin(state, false)
	if err != nil {
		return // there is none
	}
	defer admin.Close()
	dir, err := admin.Sub(Kept)
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Names() // the next command tries again
	for _, n := range names {
		if named[n] {
			continue
		}
		f, err := dir.File(n, own())
		if err != nil {
			continue
		}
		if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
			_ = dir.Remove(n)
		}
		f.Close()
	}
}

// OpenFolder opens the folder of what is kept, making it where it is missing.
func OpenFolder(state string) (*boundary.Dir, error) {
	admin, err := boundary.OpenAdmin(state, true)
	if err != nil {
		return nil, err
	}
	defer admin.Close()
	return admin.MkdirAll(Kept, 0o700, nil)
}

// OpenKept opens such a file to read it.
func OpenKept(state, name string) (*os.File, error) {
	if name == "" || filepath.Base(name) != name {
		return nil, fmt.Errorf("%q is no name of a file kept to undo", name)
	}
	dir, err := boundary.OpenAdmin(state, false)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	f, err := dir.File(Kept+"/"+name, own())
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err != nil || st.Mode().Perm()&0o022 != 0 {
		f.Close()
		return nil, errors.Join(err, fmt.Errorf("%s: others may write it: only what you alone could write is "+
			"carried out with your powers", f.Name()))
	}
	return f, nil
}
