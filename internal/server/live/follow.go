package live

import (
	"context"
	"sync"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/scan"
)

// How often a shelf is looked at as a whole where the household file does not say: one
// whose changes are seen at once, and one whose changes are not. For how long a file
// must not have been written to before it is taken; and how long after a try to watch a
// folder the next one is.
const (
	scanWatched   = 12 * time.Hour
	scanUnwatched = 30 * time.Minute
	writeQuiet    = 3 * time.Second
	watchAgain    = time.Minute
)

// Follow keeps what is known of a shelf right: it scans it when files in it change, and
// now and then.
func (s *Server) Follow(ctx context.Context, sh blueprint.SettingsShelf) {
	var due due
	changed := make(chan struct{}, 1)
	stir := func(shown string, places []scan.Place) {
		due.add(shown, places)
		select {
		case changed <- struct{}{}:
		default:
		}
	}
	pause := time.Duration(0)
	if sh.Every != "" && sh.Every != household.Never {
		pause, _ = household.ParsePause(sh.Every) // checked when the file was read
	}
	if sh.Every == "" {
		pause = scanWatched
	}
	for i, folder := range sh.Folders {
		if !machine.TellsChanges(folder) {
			s.Log.Info("changes in this folder are not seen from here; it is looked at now and then", "shelf", sh.Name,
				"folder", sh.Shown[i])
			if sh.Every == "" {
				pause = scanUnwatched
			}
			continue
		}
		go s.watchFolder(ctx, sh, folder, sh.Shown[i], func(places []scan.Place) { stir(sh.Shown[i], places) })
	}
	var tick <-chan time.Time
	if pause > 0 {
		t := time.NewTicker(pause)
		defer t.Stop()
		tick = t.C
	}
	var again <-chan time.Time // when a file that may still grow is looked at again
	for {
		gently := false
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-again:
		case <-tick:
			gently = true
			due.add("", nil)
		}
		again = nil
		for _, part := range due.take(sh.Shown) {
			list, err := s.Scan(ctx, sh.Name, scan.Options{Quiet: writeQuiet, Gently: gently, Only: part})
			if err != nil && ctx.Err() == nil {
				s.Log.Error("a scan failed", "shelf", sh.Name, "why", err)
			}
			for _, r := range list {
				if r.Growing > 0 {
					due.put(part)
					again = time.After(writeQuiet)
				}
				if part != nil && len(r.Unplugged) > 0 {
					stir("", nil) // the whole shelf tells what is unplugged
				}
			}
		}
	}
}

// due is what of a shelf is to be looked at.
type due struct {
	mu     sync.Mutex
	whole  bool
	places map[string][]scan.Place // by folder, as the administrator wrote it
}

// add adds places of a folder; with none, the whole shelf.
func (d *due) add(shown string, places []scan.Place) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(places) == 0 {
		d.whole = true
		return
	}
	if d.places == nil {
		d.places = map[string][]scan.Place{}
	}
	d.places[shown] = append(d.places[shown], places...)
}

// put adds what was looked at once more.
func (d *due) put(part *scan.Part) {
	if part == nil {
		d.add("", nil)
		return
	}
	d.add(part.Shown, part.Places)
}

// take gives what is to be looked at, nil for the whole shelf, and forgets it.
func (d *due) take(folders []string) (out []*scan.Part) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.whole {
		out = []*scan.Part{nil}
	} else {
		for _, shown := range folders {
			if places := d.places[shown]; len(places) > 0 {
				out = append(out, &scan.Part{Shown: shown, Places: places})
			}
		}
	}
	d.whole, d.places = false, nil
	return out
}

// watchFolder watches a folder, and keeps trying where it cannot.
func (s *Server) watchFolder(ctx context.Context, sh blueprint.SettingsShelf, folder, shown string,
	stir func([]scan.Place)) {
	warned := false
	for ctx.Err() == nil {
		err := scan.Watch(ctx, folder, s.Log, func() {
			if warned {
				s.Log.Info("changes in this folder are seen again", "shelf", sh.Name, "folder", shown)
				warned = false
				stir(nil) // what changed meanwhile was not seen
			}
		}, stir)
		if err == nil {
			return
		}
		if !warned {
			s.Log.Warn("changes in this folder are not seen at once; it is looked at now and then", "shelf", sh.Name,
				"folder", shown, "why", err)
			warned = true
		}
		select {
		case <-ctx.Done():
		case <-time.After(watchAgain):
		}
	}
}
