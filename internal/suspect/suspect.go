// Package suspect keeps a file from bringing the server down again and again. Whoever
// opens a file that a stranger may have made (a picture, a film's headers, an archive)
// does so through Do, which notes the file before and takes the note back afterwards. If
// the server ends in between, the note is found at the next start.
//
// # Whose fault it was
//
// What was at work when the server ended is suspected, and no more than that: it may have
// been killed for another reason, and several files may have been at work. So a suspect is
// opened once more, by itself, with nothing else at work. If the server ends then too, the
// file is passed over, until it changes: Do gives ErrPassedOver.
//
// # What it costs
//
// The notes lie in a file that is mapped into memory: noting one is a copy of some bytes,
// and the kernel keeps them however the process ends. They are not synced: a machine that
// loses power suspects nothing.
package suspect

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/atomicfile"

	"golang.org/x/sys/unix"
)

// ErrPassedOver says that a file is not opened, since it brought the server down.
var ErrPassedOver = errors.New("the server ended twice while it read this file, so it is passed over until it changes")

// The mapped file: so many notes, each with its length in front.
const (
	notes    = 64
	noteSize = 1024
)

// mostKnown is how many suspects are remembered; the oldest go first.
const mostKnown = 10000

// Suspect is a file that was at work when the server ended.
type Suspect struct {
	What  string    `json:"what"`  // kind and path, with what tells that it changed
	Ended int       `json:"ended"` // how often the server ended with it at work
	Last  time.Time `json:"last"`
}

// Book keeps the notes. A nil Book keeps none.
type Book struct {
	path  string
	mu    sync.Mutex
	mem   []byte
	free  []int
	room  *sync.Cond // waits for what is below to change
	known map[string]Suspect

	active int       // files at work
	alone  bool      // a suspect is
	until  time.Time // others stand back until then, for a suspect that waits
}

// standBack is how long others stand back for a suspect, and it waits for those at work: one
// of them may lie on a disk that does not answer.
const standBack = 3 * time.Second

// Open opens the notes at a path, and judges what is in them. It gives what is passed over
// from now on for the first time.
func Open(path string) (*Book, []Suspect, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	if err := f.Truncate(notes * noteSize); err != nil {
		return nil, nil, err
	}
	// A file with holes in a full disk would end the process when it is written to.
	if err := unix.Fallocate(int(f.Fd()), 0, 0, notes*noteSize); err != nil && !errors.Is(err, unix.ENOTSUP) {
		return nil, nil, err
	}
	mem, err := unix.Mmap(int(f.Fd()), 0, notes*noteSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	if err != nil {
		return nil, nil, fmt.Errorf("mapping %s: %w", path, err)
	}
	b := &Book{path: path, mem: mem, known: map[string]Suspect{}}
	b.room = sync.NewCond(&b.mu)
	b.read()
	var guilty []Suspect
	for i := range notes {
		b.free = append(b.free, i)
		what := b.note(i)
		if what == "" {
			continue
		}
		s := b.known[what]
		s.What, s.Ended, s.Last = what, s.Ended+1, time.Now()
		b.known[what] = s
		if s.Ended == 2 {
			guilty = append(guilty, s)
		}
		clear(b.mem[i*noteSize : (i+1)*noteSize])
	}
	return b, guilty, b.write()
}

// note reads a note; it is empty where there is none.
func (b *Book) note(i int) string {
	at := b.mem[i*noteSize : (i+1)*noteSize]
	n := int(binary.LittleEndian.Uint16(at))
	if n == 0 || n > noteSize-2 {
		return ""
	}
	return string(at[2 : 2+n])
}

// read reads who is known. What cannot be read is forgotten.
func (b *Book) read() {
	text, err := os.ReadFile(b.path + ".json")
	if err != nil {
		return
	}
	var list []Suspect
	if json.Unmarshal(text, &list) != nil {
		return
	}
	for _, s := range list {
		b.known[s.What] = s
	}
}

// write keeps who is known. The lock is held, or nobody else is there yet.
func (b *Book) write() error {
	list := make([]Suspect, 0, len(b.known))
	for _, s := range b.known {
		list = append(list, s)
	}
	slices.SortFunc(list, func(x, y Suspect) int { return y.Last.Compare(x.Last) })
	for _, s := range list[min(len(list), mostKnown):] {
		delete(b.known, s.What)
	}
	text, err := json.Marshal(list[:min(len(list), mostKnown)])
	if err != nil {
		return err
	}
	if old, err := os.ReadFile(b.path + ".json"); err == nil && bytes.Equal(old, text) || len(list) == 0 && err != nil {
		return nil
	}
	return atomicfile.Replace(b.path+".json", text, 0o600, nil)
}

// Do opens a file: kind says what as, path where, and stamp must change when the file does.
func (b *Book) Do(kind, path, stamp string, do func() error) error {
	if b == nil {
		return do()
	}
	what := kind + " " + path + " " + stamp
	if len(what) > noteSize-2 { // its end tells more than its beginning
		what = what[len(what)-(noteSize-2):]
	}
	b.mu.Lock()
	s, suspected := b.known[what]
	b.mu.Unlock()
	if suspected && s.Ended >= 2 {
		return ErrPassedOver
	}
	at := b.begin(what, suspected)
	defer b.end(at, suspected)
	err := do()
	if suspected { // it was not that one
		b.mu.Lock()
		delete(b.known, what)
		_ = b.write() // it is suspected once more after the next start, and cleared again
		b.mu.Unlock()
	}
	return err
}

func (b *Book) begin(what string, suspected bool) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	if suspected {
		b.until = time.Now().Add(standBack)
	}
	// Somebody has to look at the clock while all wait.
	wake := time.AfterFunc(standBack+10*time.Millisecond, b.room.Broadcast)
	defer wake.Stop()
	for began := time.Now(); ; b.room.Wait() {
		late := time.Since(began) > standBack
		ready := len(b.free) > 0
		switch {
		case suspected:
			ready = ready && (b.active == 0 || late)
		default:
			ready = ready && (!b.alone && !time.Now().Before(b.until) || late)
		}
		if ready {
			break
		}
		if late {
			wake.Reset(100 * time.Millisecond)
		}
	}
	b.active++
	if suspected {
		b.alone = true
	}
	at := b.free[len(b.free)-1]
	b.free = b.free[:len(b.free)-1]
	note := b.mem[at*noteSize : (at+1)*noteSize]
	copy(note[2:], what)
	binary.LittleEndian.PutUint16(note, uint16(len(what)))
	return at
}

func (b *Book) end(at int, suspected bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.active--
	if suspected {
		b.alone, b.until = false, time.Time{}
	}
	binary.LittleEndian.PutUint16(b.mem[at*noteSize:], 0)
	b.free = append(b.free, at)
	b.room.Broadcast()
}

// Close takes all notes back: the server ends because it was asked to.
func (b *Book) Close() error {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.mem == nil {
		return nil
	}
	clear(b.mem)
	return nil
}
