// Package scan brings the store up to date with the folders of the shelves. It
// opens what is new or changed, reads names and headers, and keeps a file that
// cannot be read or understood together with the reason.
//
// A folder whose names, sizes and times are as they were is passed over
// without asking the store about its files, so an unchanged rescan costs little
// more than walking the tree.
package scan

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/store"
)

// Report is what the scan of one shelf found.
type Report struct {
	Shelf   string        `json:"shelf"`
	Folders int           `json:"folders"`
	Files   int           `json:"files"` // media files that are there
	New     int           `json:"new"`
	Changed int           `json:"changed"`
	Gone    int           `json:"gone"`
	Failing int           `json:"failing"` // files and folders that cannot be read
	Passed  int           `json:"passed"`  // other files, such as texts
	Away    []string      `json:"away"`    // folders of the shelf that are not there: what was known is kept
	Took    time.Duration `json:"-"`
	Seconds float64       `json:"seconds"`
}

// Shelf scans one shelf.
func Shelf(ctx context.Context, st *store.Store, shelf blueprint.SettingsShelf, log *slog.Logger) (Report, error) {
	s := &scanner{st: st, shelf: shelf, log: log, now: time.Now(), report: Report{Shelf: shelf.Name, Away: []string{}}}
	began := time.Now()
	s.w = st.BeginScan(shelf.Name, shelf.Kind, s.now)
	var err error
	for i, root := range shelf.Folders {
		if err = s.root(ctx, root, shelf.Shown[i]); err != nil {
			break
		}
	}
	if err := errors.Join(err, s.w.Flush(ctx)); err != nil {
		return s.report, err
	}
	s.report.Took = time.Since(began)
	s.report.Seconds = s.report.Took.Seconds()
	return s.report, nil
}

type scanner struct {
	st     *store.Store
	w      *store.Scan
	shelf  blueprint.SettingsShelf
	log    *slog.Logger
	now    time.Time
	report Report
}

// listing is one folder as the walk found it.
type listing struct {
	path      string // below the root
	signature string
	files     []machine.Entry // media files of the shelf's kind
	links     []string        // names of symbolic links that look like media
	passed    int
	err       error
}

// root scans one folder of the shelf: inside is where it is mounted, shown how
// the administrator wrote it.
func (s *scanner) root(ctx context.Context, inside, shown string) error {
	known, err := s.st.Folders(ctx, s.shelf.Name, shown)
	if err != nil {
		return err
	}
	had := make(map[string]store.Folder, len(known))
	for _, f := range known {
		had[f.Path] = f
	}
	if _, err := os.Stat(inside); errors.Is(err, fs.ErrNotExist) {
		s.report.Away = append(s.report.Away, shown)
		s.log.Warn("a folder of a shelf is away; what was known is kept", "shelf", s.shelf.Name, "folder", shown)
		return nil
	}
	// The walk goes on while the findings are worked on.
	walking, cancel := context.WithCancel(ctx)
	defer cancel()
	found := make(chan listing, 64)
	w := walker{inside: inside, kind: s.shelf.Kind, found: found, hands: make(chan struct{}, runtime.GOMAXPROCS(0))}
	go func() {
		defer close(found)
		w.walk(walking, "")
		w.others.Wait()
	}()
	for l := range found {
		if err := s.folder(ctx, inside, shown, l, had); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// What is left was not met on the walk. Below a folder that could not be
	// listed, that says nothing.
	for _, f := range had {
		if f.Signature == "" && f.Problem == "" || s.shut(f.Path, had) {
			continue
		}
		n, err := s.w.FolderGone(ctx, f.ID)
		if err != nil {
			return err
		}
		s.report.Gone += n
	}
	return nil
}

// shut reports whether a folder above could not be listed in this scan. Such
// folders stay in had under the key "!"+path.
func (s *scanner) shut(p string, had map[string]store.Folder) bool {
	for {
		if _, ok := had["!"+p]; ok || strings.HasPrefix(p, "!") {
			return true
		}
		if p == "" {
			return false
		}
		if p = path.Dir(p); p == "." {
			p = ""
		}
	}
}

// walker walks a tree with a few hands at once.
type walker struct {
	inside string
	kind   household.Kind
	found  chan<- listing
	hands  chan struct{} // holds one for each further hand
	others sync.WaitGroup
}

// walk lists a folder and those below it, never following links. A folder may
// come before the one that it lies in.
func (w *walker) walk(ctx context.Context, rel string) {
	if ctx.Err() != nil {
		return
	}
	l := listing{path: rel}
	var sub []string
	var sig signature
	l.err = machine.List(filepath.Join(w.inside, rel), func(e machine.Entry) {
		if strings.HasPrefix(e.Name, ".") {
			return // hidden, as the shell has it
		}
		switch {
		case e.Folder:
			sub = append(sub, e.Name)
			return
		case e.File || e.Link || e.Err != nil:
			sig.add(e)
		default:
			return // sockets, pipes, devices
		}
		content, _ := naming.ContentOf(e.Name)
		switch {
		case !naming.Takes(w.kind, content):
			l.passed++
		case e.Link:
			l.links = append(l.links, e.Name)
		default:
			l.files = append(l.files, e)
		}
	})
	l.signature = sig.String()
	select {
	case w.found <- l:
	case <-ctx.Done():
		return
	}
	for _, name := range sub {
		below := path.Join(rel, name)
		select {
		case w.hands <- struct{}{}:
			w.others.Go(func() {
				w.walk(ctx, below)
				<-w.hands
			})
		default:
			w.walk(ctx, below)
		}
	}
}

// signature is a sum over the entries of a folder that does not depend on their
// order.
type signature struct {
	n, sum, xor uint64
}

// add mixes name, size and times of an entry in (FNV-1a, 64 bits). The change
// time is part of it, so that a changed permission is noticed too.
func (s *signature) add(e machine.Entry) {
	h := uint64(14695981039346656037)
	for i := range len(e.Name) {
		h = (h ^ uint64(e.Name[i])) * 1099511628211
	}
	for _, v := range []uint64{uint64(e.Size), uint64(e.MTime), uint64(e.CTime)} {
		h = (h ^ v) * 1099511628211
		h ^= h >> 29
	}
	s.n++
	s.sum += h
	s.xor ^= h * h
}

func (s *signature) String() string {
	var b [24]byte
	binary.LittleEndian.PutUint64(b[:], s.n+1)
	binary.LittleEndian.PutUint64(b[8:], s.sum)
	binary.LittleEndian.PutUint64(b[16:], s.xor)
	return string(b[:])
}

// folder works on one listing.
func (s *scanner) folder(ctx context.Context, inside, shown string, l listing, had map[string]store.Folder) error {
	old, known := had[l.path]
	delete(had, l.path)
	s.report.Folders++
	if errors.Is(l.err, fs.ErrNotExist) {
		s.report.Folders--
		had[l.path] = old // it vanished meanwhile
		if !known {
			delete(had, l.path)
		}
		return nil
	}
	if l.err != nil {
		had["!"+l.path] = old
		s.report.Failing++
		return s.w.Folder(ctx, store.FolderFound{Root: shown, Path: l.path, Problem: cause(l.err, "list")})
	}
	s.report.Files += len(l.files)
	s.report.Passed += l.passed
	if known && old.Signature == l.signature && !old.Failing && old.Problem == "" {
		return nil
	}
	out := store.FolderFound{Root: shown, Path: l.path, Signature: l.signature}
	var files []store.Known
	if known {
		var err error
		if files, err = s.st.Known(ctx, old.ID); err != nil {
			return err
		}
	}
	byName := make(map[string]store.Known, len(files))
	for _, k := range files {
		byName[k.Name] = k
	}
	var todo []machine.Entry
	for _, e := range l.files {
		k, ok := byName[e.Name]
		if ok && !k.Gone && k.Size == e.Size && k.MTime == e.MTime && k.CTime == e.CTime && k.Problem == "" {
			delete(byName, e.Name)
			continue
		}
		todo = append(todo, e)
	}
	for i, f := range s.open(inside, l.path, todo) {
		k, ok := byName[todo[i].Name]
		delete(byName, todo[i].Name)
		switch {
		case !ok || k.Gone:
			s.report.New++
		case k.Size != f.Size || k.MTime != f.MTime || k.Problem != f.Problem:
			s.report.Changed++
		}
		if f.Problem != "" {
			s.report.Failing++
			s.log.Info("a file cannot be read", "shelf", s.shelf.Name, "file", path.Join(shown, l.path, f.Name), "why", f.Problem)
		}
		out.Files = append(out.Files, store.FileFound{ID: k.ID, Found: f})
	}
	for _, name := range l.links {
		k := byName[name]
		delete(byName, name)
		f := s.found(l.path, machine.Entry{Name: name})
		f.Problem = "it is a symbolic link, and links are not followed out of a shelf; put the file itself here"
		s.report.Failing++
		s.report.Files++
		if k.ID == 0 || k.Gone {
			s.report.New++
		}
		out.Files = append(out.Files, store.FileFound{ID: k.ID, Found: f})
	}
	for _, k := range byName {
		if !k.Gone {
			s.report.Gone++
			out.Gone = append(out.Gone, k.ID)
		}
	}
	return s.w.Folder(ctx, out)
}

// found reads a file's name.
func (s *scanner) found(dir string, e machine.Entry) store.Found {
	r := naming.Read(s.shelf.Kind, path.Join(dir, e.Name))
	content, _ := naming.ContentOf(e.Name)
	f := store.Found{
		Name: e.Name, Size: e.Size, MTime: e.MTime, CTime: e.CTime, Title: r.Title, Year: r.Year, By: r.By,
		Season: r.Season, Episode: r.Episode, Part: r.Part, Content: string(content),
	}
	if !r.Clear {
		f.Note = r.Why
	}
	return f
}

// open opens files and reads their headers, a few at a time.
func (s *scanner) open(inside, dir string, todo []machine.Entry) []store.Found {
	out := make([]store.Found, len(todo))
	workers := min(len(todo), runtime.GOMAXPROCS(0))
	next := make(chan int)
	done := make(chan struct{})
	for range workers {
		go func() {
			for i := range next {
				out[i] = s.found(dir, todo[i])
				s.read(filepath.Join(inside, dir, todo[i].Name), todo[i], &out[i])
			}
			done <- struct{}{}
		}()
	}
	for i := range todo {
		next <- i
	}
	close(next)
	for range workers {
		<-done
	}
	return out
}

// opened tells which files are opened for what they hold; the others are only
// opened to see whether they can be.
var opened = map[string]bool{".mp4": true, ".m4v": true, ".mov": true, ".m4a": true, ".mkv": true, ".webm": true, ".mka": true}

func (s *scanner) read(name string, e machine.Entry, f *store.Found) {
	if e.Err != nil {
		f.Problem = cause(e.Err, "look at")
		return
	}
	file, err := openPlain(name)
	if err != nil {
		f.Problem = cause(err, "read")
		if errors.Is(err, fs.ErrPermission) {
			f.Problem += fmt.Sprintf(" (owner %d, group %d, mode %04o)", e.UID, e.GID, e.Mode)
		}
		return
	}
	defer file.Close()
	if e.Size == 0 {
		f.Problem = "the file is empty"
		return
	}
	if !opened[strings.ToLower(path.Ext(e.Name))] {
		return
	}
	head := heads.Get().(*headReader)
	defer heads.Put(head)
	head.reset(file)
	info, err := media.Read(head, e.Size)
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Duration = info.Duration
	b, err := json.Marshal(info)
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Info = string(b)
}

// cause says in words why something could not be done.
func cause(err error, verb string) string {
	var pe *fs.PathError
	if errors.Is(err, fs.ErrPermission) {
		return "the server's account may not " + verb + " it"
	}
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return "it could not be " + map[string]string{"read": "read", "list": "listed", "look at": "looked at"}[verb] + ": " + err.Error()
}
