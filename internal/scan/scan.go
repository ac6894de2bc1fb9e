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
	"errors"
	"log/slog"
	"path"
	"runtime"
	"slices"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/store"
	"cozyshelf/internal/suspect"
)

// Patience is how long a folder may take to answer. A scan of one that does not
// is given up; what waits for it keeps waiting in the background.
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
	// Only is the part of the shelf that is scanned; the rest stays as it is known. While
	// nil, all is scanned.
	Only *Part
	// Progress is called now and then with how much was looked at.
	Progress func(folders, files int)
	// Suspects passes over files that brought the server down; nil passes none over.
	Suspects *suspect.Book
	Log      *slog.Logger // required
	// Zone is where the days of recordings are counted; while nil, that of the machine.
	Zone *time.Location
}

// Shelf scans one shelf.
func Shelf(ctx context.Context, st *store.Store, shelf blueprint.SettingsShelf, o Options) (Report, error) {
	if o.Presence == nil {
		o.Presence = func(inside string) string { return machine.Presence(inside, Patience) }
	}
	s := &scanner{st: st, shelf: shelf, log: o.Log, suspects: o.Suspects, progress: o.Progress, emptied: o.Emptied,
		zone:     cmp.Or(o.Zone, time.Local),
		presence: o.Presence, now: time.Now(), taken: map[int64]bool{}, lately: map[int64]bool{},
		twins: map[sameness][]store.Twin{}, stays: map[int64]bool{}, named: map[string]int{}, gone: map[int64]string{},
		report: Report{Shelf: shelf.Name, Unplugged: []Unplugged{}, Noted: []Noted{}}}
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
	st       *store.Store
	w        *store.Scan
	shelf    blueprint.SettingsShelf
	log      *slog.Logger
	suspects *suspect.Book
	now      time.Time
	report   Report

	zone      *time.Location
	quiet     time.Duration
	gently    bool
	only      *Part
	progress  func(folders, files int)
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

// root scans one folder of the shelf: inside is where it is mounted, shown how
// the administrator wrote it.
func (s *scanner) root(ctx context.Context, inside, shown string) error {
	had, err := s.known(ctx, shown)
	if err != nil {
		return err
	}
	if why := s.presence(inside); why != "" {
		s.unplugged(shown, why)
		return nil
	}
	bare, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, "") })
	if err == nil && bare && !s.emptied {
		s.unplugged(shown, "nothing is in it, and files are known there: is its disk mounted? if it was emptied: "+
			"cozyshelf shelf scan "+s.shelf.Name+" --emptied")
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
	if here, err := s.findings(ctx, inside, shown, had); err != nil || !here {
		return err
	}
	// What is left was not met on the walk. Where the disk went meanwhile, that says
	// nothing.
	if len(had) > 0 || s.vanished {
		if why := s.presence(inside); why != "" {
			s.unplugged(shown, why+"; it went while it was looked at")
			return nil
		}
		bare, err := machine.Patiently(func() (bool, error) { return s.bare(ctx, inside, shown, "") })
		if err != nil || bare && !s.emptied {
			s.unplugged(shown, "nothing is in it any more: its disk went while it was looked at")
			return nil
		}
		if mounts, err = s.mounts(ctx, inside, shown, mounts); err != nil {
			return err
		}
	}
	if err := s.notMet(ctx, shown, had); err != nil {
		return err
	}
	if s.only != nil {
		return nil
	}
	return s.st.SetMounts(ctx, s.shelf.Name, shown, mounts)
}

// findings walks a folder, and works on what is found meanwhile. What it meets it takes out of
// had. here is false where the disk went silent on the way.
func (s *scanner) findings(ctx context.Context, inside, shown string, had map[string]store.Folder) (here bool,
	err error) {
	walking, cancel := context.WithCancel(ctx)
	defer cancel()
	found := make(chan listing, 64)
	w := walker{inside: inside, kind: s.shelf.Kind, found: found, slots: make(chan struct{}, runtime.GOMAXPROCS(0)),
		gently: s.gently}
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
			s.unplugged(shown, err.Error())
			return false, nil
		}
		if err != nil {
			return false, err
		}
	}
	return true, ctx.Err()
}

// notMet notes that the folders which the walk did not meet are gone: but not those below a folder
// that could not be listed.
func (s *scanner) notMet(ctx context.Context, shown string, had map[string]store.Folder) error {
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
	return nil
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
