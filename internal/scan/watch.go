package scan

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// How long a folder must be quiet before it is said to have changed, and how long that
// may take at most.
const (
	settled  = 700 * time.Millisecond
	patience = 10 * time.Second
)

// ErrUnwatched says that a folder cannot be watched: only looking again tells what has
// changed in it.
var ErrUnwatched = errors.New("its changes cannot be watched")

// mostPlaces is how many places of a folder are told of one by one.
const mostPlaces = 100

// Watch watches a folder and all below it (inotify(7)), until the context ends or that
// cannot be done any more, and calls changed a moment after something was made, written,
// renamed or removed in it, with the places to look at; with none, all is to be looked at.
// ready is called once it watches. Hidden names do not count. What happens on another
// machine, or before it began, it does not see.
func Watch(ctx context.Context, folder string, log *slog.Logger, ready func(), changed func([]Place)) error {
	w, err := fsnotify.NewBufferedWatcher(1024)
	if err != nil {
		return errors.Join(ErrUnwatched, err)
	}
	defer w.Close()
	// The folders that are watched, by name: one that is moved would keep telling its
	// old name.
	folders := map[string]bool{}
	if err := watchTree(ctx, w, folder, folders); err != nil {
		return err
	}
	ready()
	var quiet, latest <-chan time.Time
	places, many := map[Place]bool{}, false
	note := func(name string, deep bool) {
		rel, err := filepath.Rel(folder, name)
		if rel == "." {
			rel = ""
		}
		if places[Place{rel, deep}] = true; err != nil || len(places) > mostPlaces {
			many = true
		}
	}
	tell := func() {
		list := slices.Collect(maps.Keys(places))
		if many {
			list = nil
		}
		quiet, latest, many = nil, nil, false
		clear(places)
		changed(list)
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case e, ok := <-w.Events:
			if !ok {
				return ErrUnwatched
			}
			if strings.HasPrefix(filepath.Base(e.Name), ".") || e.Op == fsnotify.Chmod {
				continue
			}
			note(filepath.Dir(e.Name), false)
			if folders[e.Name] && (e.Has(fsnotify.Rename) || e.Has(fsnotify.Remove)) {
				for p := range folders {
					if p == e.Name || strings.HasPrefix(p, e.Name+"/") {
						delete(folders, p)
						_ = w.Remove(p) // it is not watched any more, if this fails
					}
				}
			}
			if st, err := os.Lstat(e.Name); err != nil {
				note(e.Name, true) // it may have been a folder
			} else if e.Has(fsnotify.Create) && st.IsDir() {
				note(e.Name, true)
				if err := watchTree(ctx, w, e.Name, folders); err != nil {
					changed(nil)
					return err
				}
			}
			quiet = time.After(settled)
			if latest == nil {
				latest = time.After(patience)
			}
		case err, ok := <-w.Errors:
			if !ok {
				return ErrUnwatched
			}
			// Some were lost. What was made meanwhile is watched from now on.
			log.Info("changes came faster than they could be noted; the folder is looked at as a whole", "folder",
				folder, "why", err)
			if err := watchTree(ctx, w, folder, folders); err != nil {
				changed(nil)
				return err
			}
			changed(nil)
		case <-quiet:
			tell()
		case <-latest:
			tell()
		}
	}
}

// watchTree watches a folder and those below it, and notes them in watched. What cannot be opened, or vanishes, is
// passed over; where watches have run out it gives up.
func watchTree(ctx context.Context, w *fsnotify.Watcher, folder string, watched map[string]bool) error {
	return filepath.WalkDir(folder, func(p string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			if p == folder && !errors.Is(err, fs.ErrNotExist) {
				return errors.Join(ErrUnwatched, err)
			}
			return nil
		}
		if !d.IsDir() {
			return nil
		}
		if p != folder && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		if err := w.Add(p); errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EMFILE) {
			return errors.Join(ErrUnwatched,
				errors.New("the kernel gives no more watches (fs.inotify.max_user_watches)"))
		} else if err == nil {
			watched[p] = true
		}
		return nil
	})
}
