package live

import (
	"context"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/scan"
)

// How often folders are looked at, beside when something is mounted; how long
// one may take to answer; and how long mounts must be quiet before they count.
const (
	lookEvery  = 20 * time.Second
	lookWithin = 5 * time.Second
	mountQuiet = 300 * time.Millisecond
)

// presence knows which folders of the shelves are there. A folder that does not
// answer is asked no second time before it has answered, so that nothing piles
// up behind it.
type presence struct {
	mu        sync.Mutex
	asking    map[string]bool   // folders inside that still owe an answer
	unplugged map[string]string // folder inside to why; no entry where it is there
}

// look asks a folder, and gives why it is unplugged, or nothing.
func (p *presence) look(folder string) string {
	p.mu.Lock()
	if p.asking == nil {
		p.asking, p.unplugged = map[string]bool{}, map[string]string{}
	}
	if p.asking[folder] {
		defer p.mu.Unlock()
		return p.unplugged[folder]
	}
	p.asking[folder] = true
	p.mu.Unlock()
	answered := make(chan string, 1)
	go func() {
		why := machine.Presence(folder, 24*time.Hour)
		p.mu.Lock()
		delete(p.asking, folder)
		p.note(folder, why)
		p.mu.Unlock()
		answered <- why
	}()
	select {
	case why := <-answered:
		return why
	case <-time.After(lookWithin):
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.asking[folder] {
			p.note(folder, machine.ErrSilent.Error())
		}
		return p.unplugged[folder]
	}
}

func (p *presence) note(folder, why string) {
	if why == "" {
		delete(p.unplugged, folder)
	} else {
		p.unplugged[folder] = why
	}
}

// Why gives what is known, without asking.
func (p *presence) Why(folder string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.unplugged[folder]
}

// Watch looks at all folders now and then, and whenever something is mounted or
// unmounted; a shelf with a folder that comes, goes, or changes below is scanned.
func (s *Server) Watch(ctx context.Context) {
	stirred := make(chan struct{}, 1)
	stir := func() {
		select {
		case stirred <- struct{}{}:
		default:
		}
	}
	go func() {
		if err := machine.WatchMounts(ctx, stir); err != nil {
			s.Log.Warn("mounts cannot be watched; folders are looked at now and then only", "why", err)
		}
	}()
	was, mounts := map[string]string{}, map[string]string{}
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			clear(mounts) // look at all
		case <-stirred:
			// One mount is often followed by others.
			for quiet := false; !quiet; {
				select {
				case <-ctx.Done():
					return
				case <-stirred:
				case <-time.After(mountQuiet):
					quiet = true
				}
			}
		}
		// What is mounted elsewhere, as for each container that starts, is no reason to
		// look; unless nobody can tell where elsewhere is.
		var wg sync.WaitGroup
		for _, sh := range s.Settings.Shelves {
			var look []string
			for _, f := range sh.Folders {
				now := machine.MountsAt(f)
				if before, known := mounts[f]; !known || before != now || machine.Far(f) {
					look = append(look, f)
				}
				mounts[f] = now
			}
			wg.Go(func() {
				for _, f := range look {
					s.Presence.look(f)
				}
			})
		}
		wg.Wait()
		for _, sh := range s.Settings.Shelves {
			changed := false
			for i, f := range sh.Folders {
				why, below := s.Presence.Why(f), s.mountedSince(sh.Name, f)
				switch {
				case why != was[f] && why != "":
					s.Events.Tell(event.FolderAway{Shelf: sh.Name, Folder: sh.Shown[i], Why: why})
				case why != was[f]:
					s.Events.Tell(event.FolderBack{Shelf: sh.Name, Folder: sh.Shown[i]})
				case below:
					s.Log.Info("something was mounted or unmounted in a shelf", "shelf", sh.Name, "folder", sh.Shown[i])
				}
				changed = changed || why != was[f] || below
				was[f] = why
			}
			if changed {
				// Beside the watching: a scan may take its time.
				go func() {
					if _, err := s.Scan(ctx, sh.Name, scan.Options{}); err != nil && ctx.Err() == nil {
						s.Log.Error("a scan failed", "shelf", sh.Name, "why", err)
					}
				}()
			}
		}
	}
}

// mountedSince reports whether something was mounted or unmounted at or below a
// folder since its shelf was last scanned.
func (s *Server) mountedSince(shelf, folder string) (changed bool) {
	now := machine.MountsAt(folder)
	s.shelf(shelf, func(st *shelfState) {
		before, scanned := st.mounts[folder]
		changed = scanned && before != now
	})
	return changed
}

// unpluggedNow puts together what the last scan found unplugged and what is unplugged now.
func (s *Server) unpluggedNow(shelf string) []scan.Unplugged {
	out := []scan.Unplugged{}
	for _, sh := range s.Settings.Shelves {
		if sh.Name != shelf {
			continue
		}
		for i, f := range sh.Folders {
			if why := s.Presence.Why(f); why != "" {
				out = append(out, scan.Unplugged{Folder: sh.Shown[i], Why: why})
			}
		}
	}
	s.shelf(shelf, func(st *shelfState) {
		for _, a := range st.unplugged {
			known := false
			for _, o := range out {
				known = known || o.Folder == a.Folder
			}
			if !known {
				out = append(out, a)
			}
		}
	})
	return out
}
