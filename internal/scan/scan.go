// Package scan brings the store up to date with the folders of the shelves. It
// opens what is new or changed, reads names and headers, and keeps a file that
// cannot be read or understood together with the reason.
//
// A folder whose names, sizes and times are as they were is passed over
// without asking the store about its files, so an unchanged rescan costs little
// more than walking the tree.
package scan

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/cespare/xxhash/v2"
	"golang.org/x/sys/unix"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/store"
)

// Report is what the scan of one shelf found.
type Report struct {
	Shelf   string        `json:"shelf"`
	Folders int           `json:"folders"`
	Files   int           `json:"files"` // media files that are there
	New     int           `json:"new"`
	Changed int           `json:"changed"`
	Moved   int           `json:"moved"` // known elsewhere before, and still the same file
	Gone    int           `json:"gone"`
	Failing int           `json:"failing"` // files and folders that cannot be read
	Passed  int           `json:"passed"`  // other files, such as texts
	Samples int           `json:"samples"` // pieces of films, left out
	Unclear int           `json:"unclear"` // files found now whose names were not understood for sure
	Growing int           `json:"growing"` // files that were written to a moment ago, and are waited for
	Away    []Away        `json:"away"`    // what is not there now: what was known of it is kept
	Seen    []Seen        `json:"seen"`    // some of it by name
	Took    time.Duration `json:"-"`
	Seconds float64       `json:"seconds"`
}

// Seen is a file, or a folder, that a scan found something out about.
type Seen struct {
	What string `json:"what"`          // new, changed, moved, gone, failing, unclear
	Path string `json:"path"`          // on the host, as far as the administrator's folder tells
	Why  string `json:"why,omitempty"` // of what fails or is unclear
}

// mostSeen is how many of each sort a report names.
const mostSeen = 20

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
	// Inside says where the folder of a shelf is mounted, and nothing for one that is
	// not known. While nil, only this shelf's own are.
	Inside func(shelf, shown string) string
	// Quiet is for how long a file must not have been written to: one that may still
	// grow is left for a later scan. 0 takes all.
	Quiet time.Duration
	// Gently gives way to all else on the machine.
	Gently bool
	// Only leaves all but parts of one of the shelf's folders as they are known. While
	// nil, all is scanned.
	Only *Part
	// Told is called now and then with how much was looked at.
	Told func(folders, files int)
	Log  *slog.Logger // required
}

// Part is some places in a folder of a shelf.
type Part struct {
	Shown  string // the folder, as the administrator wrote it
	Places []Place
}

// Place is a folder below that of a shelf, by itself or with all below it.
type Place struct {
	Path string // below the shelf's folder; empty for itself
	Deep bool
}

// distinct leaves out the places that others hold.
func distinct(places []Place) []Place {
	deep := map[string]bool{}
	for _, p := range places {
		deep[p.Path] = deep[p.Path] || p.Deep
	}
	out := []Place{}
	for at, d := range deep {
		held := false
		for up := at; up != "" && !held; {
			if up = path.Dir(up); up == "." {
				up = ""
			}
			held = deep[up]
		}
		if !held {
			out = append(out, Place{at, d})
		}
	}
	return out
}

// Shelf scans one shelf.
func Shelf(ctx context.Context, st *store.Store, shelf blueprint.SettingsShelf, o Options) (Report, error) {
	if o.Presence == nil {
		o.Presence = func(inside string) string { return machine.Presence(inside, Patience) }
	}
	s := &scanner{st: st, shelf: shelf, log: o.Log, told: o.Told, emptied: o.Emptied, presence: o.Presence, now: time.Now(), taken: map[int64]bool{}, lately: map[int64]bool{}, twins: map[sameness][]store.Twin{}, stays: map[int64]bool{}, named: map[string]int{}, gone: map[int64]string{}, report: Report{Shelf: shelf.Name, Away: []Away{}, Seen: []Seen{}}}
	if o.Only != nil {
		s.only = &Part{o.Only.Shown, distinct(o.Only.Places)}
	}
	began := time.Now()
	var err error
	if s.quiet, s.gently = o.Quiet, o.Gently; s.gently {
		done := make(chan struct{})
		go func() {
			defer close(done)
			machine.Gently()
			err = s.folders(ctx, o)
		}()
		<-done
	} else {
		err = s.folders(ctx, o)
	}
	// Never gently: others would wait for the store meanwhile.
	if s.w != nil {
		err = errors.Join(err, s.w.Flush(ctx))
	}
	s.report.Took = time.Since(began)
	s.report.Seconds = s.report.Took.Seconds()
	return s.report, err
}

func (s *scanner) folders(ctx context.Context, o Options) (err error) {
	shelf, st := s.shelf, s.st
	if s.inside = o.Inside; s.inside == nil {
		s.inside = func(of, shown string) string {
			if i := slices.Index(shelf.Shown, shown); of == shelf.Name && i >= 0 {
				return shelf.Folders[i]
			}
			return ""
		}
	}
	// The first time there is nothing that a file could have been.
	if s.any, err = st.AnyFile(ctx); err != nil {
		return err
	}
	s.w = st.BeginScan(shelf.Name, shelf.Kind, s.now)
	for i, root := range shelf.Folders {
		if s.only != nil && s.only.Shown != shelf.Shown[i] {
			continue
		}
		if err := s.root(ctx, root, shelf.Shown[i]); err != nil {
			return err
		}
	}
	return s.settle(ctx)
}

type scanner struct {
	st     *store.Store
	w      *store.Scan
	shelf  blueprint.SettingsShelf
	log    *slog.Logger
	now    time.Time
	report Report

	quiet     time.Duration
	gently    bool
	only      *Part
	told      func(folders, files int)
	emptied   bool
	presence  func(inside string) string
	inside    func(shelf, shown string) string
	any       bool // files are known
	later     []later
	twins     map[sameness][]store.Twin
	stays     map[int64]bool // ids of files that were looked for: whether they are where they were
	prints    []uint64       // the beginnings of all fingerprints that are known, sorted
	strangers int
	taken     map[int64]bool   // ids of files that were found again elsewhere
	lately    map[int64]bool   // ids of files that this scan found gone
	gone      map[int64]string // where some of those were
	named     map[string]int   // how many of each sort the report names
	missing   []string         // mounts below the root being scanned that are not there
	vanished  bool             // files of it were not there any more when they were opened
}

// ahead is how many folders are prepared at once.
const ahead = 3

// listing is one folder as the walk found it.
type listing struct {
	path      string // below the root
	signature string
	files     []machine.Entry // media files of the shelf's kind
	links     []string        // names of symbolic links that look like media
	beside    []machine.Entry // files that may go with one
	passed    int
	empty     bool // nothing at all is in it
	err       error
}

// root scans one folder of the shelf: inside is where it is mounted, shown how
// the administrator wrote it.
func (s *scanner) root(ctx context.Context, inside, shown string) error {
	had, err := s.known(ctx, shown)
	if err != nil {
		return err
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
	before, err := s.st.Mounts(ctx, s.shelf.Name, shown)
	if err != nil {
		return err
	}
	s.missing, s.vanished = nil, false
	mounts, err := s.mounts(ctx, inside, shown, before)
	if err != nil {
		return err
	}
	// The walk goes on while the findings are worked on.
	walking, cancel := context.WithCancel(ctx)
	defer cancel()
	found := make(chan listing, 64)
	w := walker{inside: inside, kind: s.shelf.Kind, found: found, hands: make(chan struct{}, runtime.GOMAXPROCS(0)), gently: s.gently}
	go func() {
		defer close(found)
		w.begin()
		if s.only == nil {
			w.walk(walking, "", true)
		} else {
			for _, p := range s.only.Places {
				if plain(inside, p.Path) {
					w.walk(walking, p.Path, p.Deep)
				}
			}
		}
		w.others.Wait()
	}()
	// A few folders are prepared while another is finished.
	var going []*work
	for more := true; more || len(going) > 0; {
		var err error
		var l listing
		var p *work
		if l, more, p, err = next(ctx, found, more, going); p != nil {
			if going = going[1:]; err == nil {
				err = s.finish(ctx, shown, p)
			}
		} else if err == nil && more {
			if p, err = s.begin(ctx, shown, l, had); p != nil {
				going = append(going, p)
				go func() {
					if s.gently {
						machine.Gently()
					}
					p.done <- s.prepare(walking, inside, p)
				}()
			}
		}
		if errors.Is(err, machine.ErrSilent) {
			// What was found until now stands; nothing is taken for gone.
			s.away(shown, err.Error())
			return nil
		}
		if err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// What is left was not met on the walk. Where the disk went meanwhile, that says
	// nothing.
	if len(had) > 0 || s.vanished {
		if why := s.presence(inside); why != "" {
			s.away(shown, why+"; it went while it was looked at")
			return nil
		}
		bare, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, "") })
		if err != nil || bare && !s.emptied {
			s.away(shown, "nothing is in it any more: its disk went while it was looked at")
			return nil
		}
		if mounts, err = s.mounts(ctx, inside, shown, mounts); err != nil {
			return err
		}
	}
	// Nor does it below a folder that could not be listed.
	for _, f := range had {
		if f.Signature == "" && f.Problem == "" || s.lost(f.Path) || s.shut(f.Path, had) {
			continue
		}
		ids, err := s.w.FolderGone(ctx, f.ID)
		if err != nil {
			return err
		}
		for _, id := range ids {
			if !s.taken[id] {
				s.goneFrom(id, path.Join(shown, f.Path)+"/")
			}
		}
	}
	if s.only != nil {
		return nil
	}
	return s.st.SetMounts(ctx, s.shelf.Name, shown, mounts)
}

// known gives what is known of the folders that are scanned.
func (s *scanner) known(ctx context.Context, shown string) (map[string]store.Folder, error) {
	had := map[string]store.Folder{}
	take := func(list []store.Folder, err error) error {
		for _, f := range list {
			had[f.Path] = f
		}
		return err
	}
	if s.only == nil {
		return had, take(s.st.Folders(ctx, s.shelf.Name, shown))
	}
	for _, p := range s.only.Places {
		if err := take(s.st.FoldersAt(ctx, s.shelf.Name, shown, p.Path, p.Deep)); err != nil {
			return nil, err
		}
	}
	return had, nil
}

// plain reports whether a path below a folder leads there without hidden names and
// symbolic links, which the walk passes over, to a folder or to what is no longer there.
func plain(inside, rel string) bool {
	if rel == "" {
		return true
	}
	at := inside
	for name := range strings.SplitSeq(rel, "/") {
		if name == "" || strings.HasPrefix(name, ".") {
			return false
		}
		at = filepath.Join(at, name)
		if st, err := os.Lstat(at); err == nil && !st.IsDir() {
			return false
		}
	}
	return true
}

// next waits for the next listing, if there are more and not too many folders are being
// worked on, or for the first of these to be prepared. It does not wait for ever: those
// see to it themselves that they end.
func next(ctx context.Context, found <-chan listing, more bool, going []*work) (l listing, again bool, p *work, err error) {
	var prepared <-chan error
	var silent <-chan time.Time
	if len(going) > 0 {
		prepared = going[0].done
	} else {
		timer := time.NewTimer(Patience)
		defer timer.Stop()
		silent = timer.C
	}
	if !more || len(going) >= ahead {
		found = nil
	}
	select {
	case l, more = <-found:
		return l, more, nil, nil
	case err := <-prepared:
		return l, more, going[0], err
	case <-ctx.Done():
		return l, more, nil, ctx.Err()
	case <-silent:
		return l, more, nil, machine.ErrSilent
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

// mounts finds what is mounted below a folder, and what was before and is no longer. It
// gives what is to be noted for the next time.
func (s *scanner) mounts(ctx context.Context, inside, shown string, before []string) ([]string, error) {
	now, err := machine.MountsBelow(inside)
	if err != nil {
		return nil, nil // nobody can tell; then nothing is noted
	}
	for _, rel := range before {
		if slices.Contains(now, rel) || s.emptied {
			continue
		}
		if slices.Contains(s.missing, rel) { // that was said
			now = append(now, rel)
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
	gently bool
	others sync.WaitGroup
}

// begin makes a hand gentle, where that is wanted.
func (w *walker) begin() {
	if w.gently {
		machine.Gently()
	}
}

// walk lists a folder and, with deep, those below it, never following links. A folder
// may come before the one that it lies in.
func (w *walker) walk(ctx context.Context, rel string, deep bool) {
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
			if naming.SortOf(e.Name) != "" && !e.Link {
				l.beside = append(l.beside, e)
				return
			}
			l.passed++
		case e.Link:
			l.links = append(l.links, e.Name)
		default:
			l.files = append(l.files, e)
		}
	})
	l.signature, l.empty = sig.String(), sig.n == 0 && len(sub) == 0
	select {
	case w.found <- l:
	case <-ctx.Done():
		return
	}
	if !deep {
		return
	}
	for _, name := range sub {
		below := path.Join(rel, name)
		select {
		case w.hands <- struct{}{}:
			w.others.Go(func() {
				w.begin()
				w.walk(ctx, below, true)
				<-w.hands
			})
		default:
			w.walk(ctx, below, true)
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

// String gives the sum with the edition in which names are read.
func (s *signature) String() string {
	b := [25]byte{24: naming.Edition}
	binary.LittleEndian.PutUint64(b[:], s.n+1)
	binary.LittleEndian.PutUint64(b[8:], s.sum)
	binary.LittleEndian.PutUint64(b[16:], s.xor)
	return string(b[:])
}

// current reports whether the names that a folder's signature stands for were read as they
// are now. Of one that is to be looked at again for another reason, that is not known.
func current(signature string) bool {
	return signature == "" || len(signature) == 25 && signature[24] == naming.Edition
}

// alike reports whether two signatures stand for the same entries.
func alike(a, b string) bool { return len(a) >= 24 && len(b) >= 24 && a[:24] == b[:24] }

// work is what is to be done for one listing.
type work struct {
	listing
	old   store.Folder // what was known of the folder
	known bool

	// What prepare finds out.
	entries []machine.Entry
	found   []store.Found // of the entries
	samples int
	growing int   // files that may still grow
	there   int   // of these, those that were known before
	todo    []int // which entries are new or changed
	byName  map[string]store.Known
	out     store.FolderFound
	done    chan error
}

// begin looks at a listing, and gives what is to be done for it: nothing, where all is as
// it was.
func (s *scanner) begin(ctx context.Context, shown string, l listing, had map[string]store.Folder) (*work, error) {
	if s.lost(l.path) {
		return nil, nil
	}
	old, known := had[l.path]
	delete(had, l.path)
	if s.report.Folders++; s.told != nil {
		s.told(s.report.Folders, s.report.Files)
	}
	if errors.Is(l.err, fs.ErrNotExist) || errors.Is(l.err, unix.ENOTDIR) {
		s.report.Folders--
		had[l.path] = old // it vanished meanwhile
		if !known {
			delete(had, l.path)
		}
		return nil, nil
	}
	if l.err != nil {
		had["!"+l.path] = old
		s.report.Failing++
		s.see("failing", path.Join(shown, l.path)+"/", cause(l.err, "list"))
		return nil, s.w.Folder(ctx, store.FolderFound{Root: shown, Path: l.path, Problem: cause(l.err, "list")})
	}
	if known && l.empty && old.Signature != "" && !alike(old.Signature, l.signature) {
		had[l.path] = old // emptied, or what was mounted went: the end of the walk tells
		return nil, nil
	}
	s.report.Passed += l.passed
	if known && old.Signature == l.signature && !old.Failing && old.Problem == "" {
		s.report.Files += len(l.files) - old.Samples
		s.report.Samples += old.Samples
		return nil, nil
	}
	return &work{listing: l, old: old, known: known, out: store.FolderFound{Root: shown, Path: l.path}, done: make(chan error, 1)}, nil
}

// prepare reads names, finds what is new or changed, and opens that. It goes on while
// others are finished, and so touches nothing of the scanner.
func (s *scanner) prepare(ctx context.Context, inside string, p *work) error {
	p.found = make([]store.Found, 0, len(p.files))
	p.entries = make([]machine.Entry, 0, len(p.files))
	for _, e := range p.files {
		f, sample := s.found(p.path, e)
		if sample {
			continue
		}
		p.found, p.entries = append(p.found, f), append(p.entries, e)
	}
	p.samples = len(p.files) - len(p.found)
	goes := beside(p.found, p.listing.beside)
	p.out.Signature, p.out.Samples = p.signature, p.samples
	var files []store.Known
	if p.known {
		var err error
		if files, err = s.st.Known(ctx, p.old.ID); err != nil {
			return err
		}
	}
	p.byName = make(map[string]store.Known, len(files))
	for _, k := range files {
		p.byName[k.Name] = k
	}
	for i, e := range p.entries {
		p.found[i].Beside = goes[i]
		k, ok := p.byName[e.Name]
		if at := time.Unix(0, e.MTime); s.quiet > 0 && s.now.Sub(at).Abs() < s.quiet && !(ok && !k.Gone && k.Size == e.Size && k.MTime == e.MTime) {
			p.growing++
			if ok && !k.Gone {
				p.there++
			}
			delete(p.byName, e.Name)
			p.out.Signature = ""
			continue
		}
		if ok && !k.Gone && k.Size == e.Size && k.MTime == e.MTime && k.CTime == e.CTime && k.Problem == "" && k.Print != "" && current(p.old.Signature) {
			delete(p.byName, e.Name)
			if k.Beside != goes[i] {
				if p.out.Beside == nil {
					p.out.Beside = map[int64]string{}
				}
				p.out.Beside[k.ID] = goes[i]
			}
			continue
		}
		p.todo = append(p.todo, i)
	}
	return s.open(ctx, inside, p.path, p.entries, p.found, p.todo)
}

// finish tells what the files are that were found, and writes them.
func (s *scanner) finish(ctx context.Context, shown string, p *work) error {
	l, byName, found, out := p.listing, p.byName, p.found, p.out
	s.report.Samples += p.samples
	s.report.Growing += p.growing
	s.report.Files += len(found) - p.growing + p.there
	for _, i := range p.todo {
		f := found[i]
		k, ok := byName[f.Name]
		if f.Problem == vanished {
			// Between listing and opening it: the next scan tells whether it is gone.
			s.report.Files--
			delete(byName, f.Name)
			out.Signature, s.vanished = "", true
			continue
		}
		one := store.FileFound{ID: k.ID, Found: f}
		// Under a known name lies what it was, in another state; unless another file
		// was put there, one that is known from elsewhere.
		if s.any && (!ok || k.Gone || k.Inode != f.Inode && k.Print != f.Print) {
			id, err := s.knownFrom(ctx, f, k.ID)
			if err != nil {
				return err
			}
			if id != 0 && id != k.ID {
				one.ID, one.Moved, ok = id, true, false
			}
		}
		switch {
		case one.Moved:
			s.report.Moved++
			s.see("moved", path.Join(shown, l.path, f.Name), "")
		case s.any && ok && !k.Gone && k.Inode != f.Inode && k.Print != f.Print && k.Print != "" && f.Print != "":
			// Another file under a known name: a better copy of the same, or the one
			// that was here went elsewhere. The end of the scan tells.
			delete(byName, f.Name)
			out.Signature = ""
			s.later = append(s.later, later{store.FolderFound{Root: shown, Path: l.path, Signature: l.signature, Samples: p.samples}, one})
			continue
		default:
			delete(byName, f.Name)
			if !ok || k.Gone {
				s.report.New++
				s.see("new", path.Join(shown, l.path, f.Name), "")
			} else if k.Size != f.Size || k.MTime != f.MTime || k.Problem != f.Problem {
				s.report.Changed++
				s.see("changed", path.Join(shown, l.path, f.Name), "")
			}
		}
		s.note(shown, l.path, f)
		out.Files = append(out.Files, one)
	}
	for _, name := range l.links {
		k := byName[name]
		delete(byName, name)
		f, _ := s.found(l.path, machine.Entry{Name: name})
		f.Problem = "it is a symbolic link, and links are not followed out of a shelf; put the file itself here"
		s.report.Failing++
		s.see("failing", path.Join(shown, l.path, name), f.Problem)
		s.report.Files++
		if k.ID == 0 || k.Gone {
			s.report.New++
		}
		out.Files = append(out.Files, store.FileFound{ID: k.ID, Found: f})
	}
	for _, k := range byName {
		if k.Gone || s.taken[k.ID] {
			continue
		}
		s.goneFrom(k.ID, path.Join(shown, l.path, k.Name))
		out.Gone = append(out.Gone, k.ID)
	}
	return s.w.Folder(ctx, out)
}

// later is a file whose identity the end of the scan tells.
type later struct {
	folder store.FolderFound
	file   store.FileFound
}

// settle writes the files whose identity could not be told before.
func (s *scanner) settle(ctx context.Context) error {
	for _, l := range s.later {
		at := path.Join(l.folder.Root, l.folder.Path, l.file.Name)
		if s.taken[l.file.ID] {
			l.file.ID = 0
			s.report.New++
			s.see("new", at, "")
		} else {
			s.report.Changed++
			s.see("changed", at, "")
		}
		s.note(l.folder.Root, l.folder.Path, l.file.Found)
		l.folder.Files = []store.FileFound{l.file}
		if err := s.w.Folder(ctx, l.folder); err != nil {
			return err
		}
	}
	at := map[string]bool{}
	for id, p := range s.gone {
		if !s.taken[id] {
			at[p] = true
		}
	}
	for _, p := range slices.Sorted(maps.Keys(at)) {
		s.see("gone", p, "")
	}
	return nil
}

// goneFrom counts a file that is gone from a place. It may turn up again in a folder that
// comes later.
func (s *scanner) goneFrom(id int64, at string) {
	s.report.Gone++
	if s.lately[id] = true; len(s.gone) < 5*mostSeen {
		s.gone[id] = at
	}
}

// see names something in the report, unless it names many of that sort.
func (s *scanner) see(what, at, why string) {
	if s.named[what]++; s.named[what] <= mostSeen {
		s.report.Seen = append(s.report.Seen, Seen{what, at, why})
	}
}

// note counts what is wrong with a file, and tells of it.
func (s *scanner) note(shown, dir string, f store.Found) {
	if f.Problem != "" {
		s.report.Failing++
		s.see("failing", path.Join(shown, dir, f.Name), f.Problem)
		s.log.Info("a file cannot be read", "shelf", s.shelf.Name, "file", path.Join(shown, dir, f.Name), "why", f.Problem)
	} else if f.Note != "" {
		s.report.Unclear++
		s.see("unclear", path.Join(shown, dir, f.Name), f.Note)
	}
}

// knownFrom finds a file that was known elsewhere and is no longer there: the same size
// and beginning, or, of several such, the same inode. It gives its id, or 0; own is the id
// of what was known under the file's name.
func (s *scanner) knownFrom(ctx context.Context, f store.Found, own int64) (int64, error) {
	if f.Print == "" {
		return 0, nil
	}
	twins, err := s.twinsOf(ctx, f)
	if err != nil || len(twins) == 0 {
		return 0, err
	}
	best := int64(0)
	for _, t := range twins {
		if t.ID == own {
			return own, nil
		}
	}
	for _, t := range twins {
		if s.taken[t.ID] {
			continue
		}
		if !t.Gone {
			there, asked := s.stays[t.ID]
			if !asked {
				there = s.there(t, f.Size)
				s.stays[t.ID] = there
			}
			if there {
				continue
			}
		}
		if best == 0 || t.Inode == f.Inode {
			best = t.ID
		}
		if t.Inode == f.Inode {
			break
		}
	}
	if best != 0 {
		s.taken[best] = true
		if s.lately[best] {
			s.report.Gone-- // it was counted before it turned up here
		}
	}
	return best, nil
}

// twinsOf gives the files that were known before this scan and look the same as one that
// is new. Where many are new, most are like none: a list of all that is known tells so
// without asking the store about each.
func (s *scanner) twinsOf(ctx context.Context, f store.Found) ([]store.Twin, error) {
	key := sameness{f.Size, f.Print}
	if list, ok := s.twins[key]; ok {
		return list, nil
	}
	if s.strangers++; s.strangers == fewStrangers {
		err := s.st.Prints(ctx, func(print string) { s.prints = append(s.prints, binary.LittleEndian.Uint64([]byte(print)[:8])) })
		if err != nil {
			return nil, err
		}
		slices.Sort(s.prints)
	}
	if s.strangers >= fewStrangers {
		if _, known := slices.BinarySearch(s.prints, binary.LittleEndian.Uint64([]byte(f.Print)[:8])); !known {
			return nil, nil
		}
	}
	list, err := s.st.Twins(ctx, f.Size, f.Print, f.Inode)
	if err == nil && len(list) > 0 {
		s.twins[key] = list
	}
	return list, err
}

// sameness is what files are told to be the same by.
type sameness struct {
	size  int64
	print string
}

// fewStrangers is how many new files the store is asked about one by one.
const fewStrangers = 200

// there reports whether a file is still where it was last seen, or may be: on a folder
// that is away now.
func (s *scanner) there(t store.Twin, size int64) bool {
	at := s.inside(t.Shelf, t.Root)
	if strings.ContainsRune(t.Path, 0) {
		return false // its name went to another file
	}
	if at == "" {
		return true // a folder that the household no longer has is put aside elsewhere
	}
	if s.presence(at) != "" || s.shelf.Name == t.Shelf && s.lost(path.Dir(t.Path)) {
		return true
	}
	there, err := machine.Patiently(func() (bool, error) {
		st, err := os.Lstat(filepath.Join(at, t.Path))
		if err != nil {
			return !errors.Is(err, fs.ErrNotExist), nil
		}
		// Another may have its name by now.
		return st.Size() == size && st.ModTime().UnixNano() == t.MTime, nil
	})
	return there || err != nil
}

// beside finds what goes with each of the files of a folder, as JSON, with size and time,
// so that another sidecar or picture under the same name is noticed.
func beside(found []store.Found, others []machine.Entry) []string {
	out := make([]string, len(found))
	if len(others) == 0 {
		return out
	}
	slices.SortFunc(others, func(a, b machine.Entry) int { return strings.Compare(a.Name, b.Name) })
	for i, f := range found {
		stem := strings.TrimSuffix(f.Name, path.Ext(f.Name))
		var list []naming.Beside
		for _, e := range others {
			if b, ok := naming.BesideOf(stem, e.Name); ok && utf8.ValidString(e.Name) {
				b.Size, b.Modified = e.Size, e.MTime/int64(time.Millisecond)
				list = append(list, b)
			}
		}
		if len(list) > 0 {
			b, err := json.Marshal(list)
			if err == nil {
				out[i] = string(b)
			}
		}
	}
	return out
}

// found reads a file's name, and reports whether it is a sample.
func (s *scanner) found(dir string, e machine.Entry) (store.Found, bool) {
	r := naming.Read(s.shelf.Kind, path.Join(dir, e.Name))
	content, _ := naming.ContentOf(e.Name)
	f := store.Found{
		Name: e.Name, Size: e.Size, MTime: e.MTime, CTime: e.CTime, Inode: e.Inode, Title: r.Title, Year: r.Year, By: r.By,
		Season: r.Season, Episode: r.Episode, Part: r.Part, Content: string(content),
		Last: r.Last, Disc: r.Disc, Piece: r.Piece, Date: r.Date, Edition: r.Edition, Extra: r.Extra, Outside: r.ID,
	}
	if !r.Clear {
		f.Note = r.Why
	}
	return f, r.Sample
}

// open opens files and reads their headers, a few at a time. It does not wait for
// ever: ErrSilent says that a file does not answer.
func (s *scanner) open(ctx context.Context, inside, dir string, entries []machine.Entry, found []store.Found, todo []int) error {
	type result struct {
		i int
		f store.Found
	}
	workers := min(len(todo), runtime.GOMAXPROCS(0))
	var next atomic.Int64
	results, over := make(chan result), make(chan struct{})
	defer close(over)
	before := slices.Clone(found) // for the hands: what does not answer may go on after us
	for range workers {
		go func() {
			if s.gently {
				machine.Gently()
			}
			for n := int(next.Add(1)) - 1; n < len(todo); n = int(next.Add(1)) - 1 {
				i := todo[n]
				f := before[i]
				s.read(filepath.Join(inside, dir, entries[i].Name), entries[i], &f)
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
			found[r.i] = r.f
			timer.Reset(Patience)
		case <-ctx.Done():
			return ctx.Err()
		case <-timer.C:
			return machine.ErrSilent
		}
	}
	return nil
}

// vanished is the problem of a file that is not there any more when it is opened.
const vanished = "it vanished meanwhile"

// opened tells which files are opened for what they hold; the others are only
// opened to see whether they can be.
var opened = map[string]bool{".mp4": true, ".m4v": true, ".mov": true, ".m4a": true, ".mkv": true, ".webm": true, ".mka": true}

func (s *scanner) read(name string, e machine.Entry, f *store.Found) {
	if errors.Is(e.Err, fs.ErrNotExist) {
		f.Problem = vanished
		return
	}
	if e.Err != nil {
		f.Problem = cause(e.Err, "look at")
		return
	}
	file, err := openPlain(name)
	if errors.Is(err, fs.ErrNotExist) {
		f.Problem = vanished
		return
	}
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
	head := heads.Get().(*headReader)
	defer heads.Put(head)
	head.reset(file)
	if f.Print, err = fingerprint(head, e.Size); err != nil {
		f.Problem = cause(&fs.PathError{Op: "read", Path: name, Err: err}, "read")
		return
	}
	if s.shelf.Kind == household.Music {
		tagged(f, io.NewSectionReader(head, 0, e.Size), e.Size)
	}
	var info media.Info
	switch {
	case opened[strings.ToLower(path.Ext(e.Name))]:
		info, err = media.Read(head, e.Size)
	case f.Content == string(naming.Picture):
		info, err = pictured(io.NewSectionReader(head, 0, e.Size))
	default:
		return
	}
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Duration = info.Duration
	f.Date = dated(s.shelf.Kind, f, info)
	b, err := json.Marshal(info)
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Info = string(b)
}

// pictured reads the header of a picture.
func pictured(r io.ReadSeeker) (media.Info, error) {
	p, err := picture.Read(r)
	info := media.Info{Container: p.Format, Made: p.Taken}
	if p.Turn > 1 {
		info.Turn = p.Turn
	}
	if p.Width > 0 {
		info.Tracks = []media.Track{{Kind: media.Picture, Codec: p.Format, Width: p.Width, Height: p.Height}}
	}
	return info, err
}

// dated gives the date of a file: of a photo the moment that it tells, which counts more
// than its name; of a recording or a clip among photos that of its name, else the day that
// it tells, here.
func dated(kind household.Kind, f *store.Found, info media.Info) string {
	switch {
	case info.Made == "" || kind != household.Photos && kind != household.Recordings:
		return f.Date
	case f.Content == string(naming.Picture):
		return info.Made[:len("2006-01-02T15:04:05")]
	case f.Date != "":
		return f.Date
	}
	at, err := time.Parse(time.RFC3339, info.Made)
	if err != nil {
		return f.Date
	}
	return at.Local().Format("2006-01-02T15:04:05")
}

// tagged takes what a track says of itself, which counts more than its name. Whose album
// it is, a folder tells better than the artist of one track, as on compilations.
func tagged(f *store.Found, r lookup.File, size int64) {
	d, err := lookup.Tags(r, size)
	if err != nil || d.Album == "" {
		return
	}
	f.By = cmp.Or(d.AlbumBy, f.By, d.By)
	f.Title, f.Note = d.Album, ""
	if d.Year > 0 {
		f.Year = d.Year
	}
	f.Part = cmp.Or(d.Name, f.Part)
	if d.AlbumBy != "" && d.By != "" && d.By != d.AlbumBy {
		f.Part += " (" + d.By + ")"
	}
	if d.Track > 0 {
		f.Episode = d.Track
	}
	if d.Disc > 0 {
		f.Disc = d.Disc
	}
}

// fingerprint sums up the size of a file and its beginning: what is the same in both is,
// for all that lies on shelves, the same file. It is cheap, since the beginning is read
// anyway.
func fingerprint(h *headReader, size int64) (string, error) {
	b, err := h.start()
	if err != nil {
		return "", err
	}
	var out [16]byte
	binary.LittleEndian.PutUint64(out[:], xxhash.Sum64(b)^uint64(size)*0x9e3779b97f4a7c15)
	d := xxhash.NewWithSeed(uint64(size))
	_, _ = d.Write(b) // a hash takes everything
	binary.LittleEndian.PutUint64(out[8:], d.Sum64())
	return string(out[:]), nil
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
