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
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
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
	Away    []Away        `json:"away"`    // what is not there now: what was known of it is kept
	Took    time.Duration `json:"-"`
	Seconds float64       `json:"seconds"`
}

// Away is a folder of a shelf, or what was mounted in it, that is not there now.
type Away struct {
	Folder string `json:"folder"` // as the administrator wrote it
	Why    string `json:"why"`
}

// Patience is how long a folder may take to answer. A scan of one that does not
// is given up; what waits for it goes on waiting in the background.
var Patience = 10 * time.Second

// Options is how to scan. The zero value is ready.
type Options struct {
	// Emptied takes a folder with nothing in it as emptied. Else it is taken for
	// the place of a disk that is not mounted, if files were known there.
	Emptied bool
	// Presence says why a folder is not there to be used, or nothing; while nil,
	// the folder is asked.
	Presence func(inside string) string
	Log      *slog.Logger // required
}

// Shelf scans one shelf.
func Shelf(ctx context.Context, st *store.Store, shelf blueprint.SettingsShelf, o Options) (Report, error) {
	if o.Presence == nil {
		o.Presence = func(inside string) string { return machine.Presence(inside, Patience) }
	}
	s := &scanner{st: st, shelf: shelf, log: o.Log, emptied: o.Emptied, presence: o.Presence, now: time.Now(), report: Report{Shelf: shelf.Name, Away: []Away{}}}
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

	emptied  bool
	presence func(inside string) string
	missing  []string // mounts below the root being scanned that are not there
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
	if why := s.presence(inside); why != "" {
		s.away(shown, why)
		return nil
	}
	bare, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, "") })
	if err == nil && bare && !s.emptied {
		s.away(shown, "nothing is in it, and files are known there: is its disk mounted? if it was emptied: cozyshelf shelf scan "+s.shelf.Name+" --emptied")
		return nil
	}
	mounts, err := s.mounts(ctx, inside, shown)
	if err != nil {
		return err
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
	for {
		l, more, err := next(ctx, found)
		if err == nil && more {
			err = s.folder(ctx, inside, shown, l, had)
		}
		if errors.Is(err, machine.ErrSilent) {
			// What was found until now stands; nothing is taken for gone.
			s.away(shown, err.Error())
			return nil
		}
		if err != nil {
			return err
		}
		if !more {
			break
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// What is left was not met on the walk. Below a folder that could not be
	// listed, that says nothing.
	for _, f := range had {
		if f.Signature == "" && f.Problem == "" || s.lost(f.Path) || s.shut(f.Path, had) {
			continue
		}
		n, err := s.w.FolderGone(ctx, f.ID)
		if err != nil {
			return err
		}
		s.report.Gone += n
	}
	return s.st.SetMounts(ctx, s.shelf.Name, shown, mounts)
}

// next waits for the next listing, but not for ever.
func next(ctx context.Context, found <-chan listing) (l listing, more bool, err error) {
	timer := time.NewTimer(Patience)
	defer timer.Stop()
	select {
	case l, more = <-found:
		return l, more, nil
	case <-ctx.Done():
		return l, false, ctx.Err()
	case <-timer.C:
		return l, false, machine.ErrSilent
	}
}

func (s *scanner) away(shown, why string) {
	s.report.Away = append(s.report.Away, Away{shown, why})
	s.log.Warn("a folder of a shelf is away; what was known is kept", "shelf", s.shelf.Name, "folder", shown, "why", why)
}

// bare reports whether a folder looks like the place of a disk that is not
// mounted: files are known at or below it, and there is neither a folder nor a
// file of the shelf's kind in it.
func (s *scanner) bare(ctx context.Context, inside, shown, rel string) (bool, error) {
	known, err := s.st.KnownBelow(ctx, s.shelf.Name, shown, rel, 1)
	if err != nil || len(known) == 0 {
		return false, err
	}
	holds := false
	err = machine.List(filepath.Join(inside, rel), func(e machine.Entry) {
		content, _ := naming.ContentOf(e.Name)
		holds = holds || e.Err != nil || !strings.HasPrefix(e.Name, ".") && (e.Folder || naming.Takes(s.shelf.Kind, content))
	})
	return err == nil && !holds, err
}

// mounts finds what is mounted below a folder, and what was and is no longer. It
// gives what is to be noted for the next time.
func (s *scanner) mounts(ctx context.Context, inside, shown string) ([]string, error) {
	now, err := machine.MountsBelow(inside)
	if err != nil {
		return nil, nil // nobody can tell; then nothing is noted
	}
	before, err := s.st.Mounts(ctx, s.shelf.Name, shown)
	if err != nil {
		return nil, err
	}
	s.missing = nil
	for _, rel := range before {
		if slices.Contains(now, rel) || s.emptied {
			continue
		}
		gone, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, rel) })
		if gone || errors.Is(err, fs.ErrNotExist) {
			s.missing = append(s.missing, rel)
			s.away(path.Join(shown, rel), "what was mounted there is not mounted now; if it is gone for good: cozyshelf shelf scan "+s.shelf.Name+" --emptied")
			now = append(now, rel)
		}
	}
	return now, nil
}

// lost reports whether a path lies on what is not mounted now.
func (s *scanner) lost(p string) bool {
	return slices.ContainsFunc(s.missing, func(m string) bool { return p == m || strings.HasPrefix(p, m+"/") })
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
	if s.lost(l.path) {
		return nil
	}
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
	opened, err := s.open(ctx, inside, l.path, todo)
	if err != nil {
		return err
	}
	for i, f := range opened {
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

// open opens files and reads their headers, a few at a time. It does not wait for
// ever: ErrSilent says that a file does not answer.
func (s *scanner) open(ctx context.Context, inside, dir string, todo []machine.Entry) ([]store.Found, error) {
	type result struct {
		i int
		f store.Found
	}
	out := make([]store.Found, len(todo))
	workers := min(len(todo), runtime.GOMAXPROCS(0))
	var next atomic.Int64
	results, over := make(chan result), make(chan struct{})
	defer close(over)
	for range workers {
		go func() {
			for i := int(next.Add(1)) - 1; i < len(todo); i = int(next.Add(1)) - 1 {
				f := s.found(dir, todo[i])
				s.read(filepath.Join(inside, dir, todo[i].Name), todo[i], &f)
				select {
				case results <- result{i, f}:
				case <-over:
					return
				}
			}
		}()
	}
	timer := time.NewTimer(Patience)
	defer timer.Stop()
	for range todo {
		select {
		case r := <-results:
			out[r.i] = r.f
			timer.Reset(Patience)
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-timer.C:
			return nil, machine.ErrSilent
		}
	}
	return out, nil
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
