package live

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
)

// The bounds of what members bring in.
const (
	MostUploads = 24             // of a member that are not over
	MostADay    = int64(1) << 40 // bytes that a member begins to bring in within 24 hours
	mostAtOnce  = 16             // parts that are being taken in, of all members
	KeepUploads = 7 * day        // an upload of which nothing came for so long goes
	sweepEvery  = time.Hour
)

// allotment keeps account of what members bring in.
type allotment struct {
	mu     sync.Mutex
	days   map[string]daily // by member
	taking int
}

// daily is what a member began to bring in since a time.
type daily struct {
	since time.Time
	bytes int64
}

// Grant decides whether a member may begin an upload of a size onto a folder of a shelf,
// and has begin begin it. All that was granted before, and has not come yet, counts.
func (s *Server) Grant(member, folder string, size int64, begin func() error) error {
	a := &s.allotment
	a.mu.Lock()
	defer a.mu.Unlock()
	own, promised := 0, int64(0)
	for _, sh := range s.Settings.Shelves {
		for _, f := range sh.Folders {
			if sh.Access != household.Change || s.Presence.Why(f) != "" || !sameDisk(f, folder) {
				continue
			}
			list, err := intake.Jobs(f)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, j := range list {
				if j.Way != intake.Upload || j.State == intake.Failed || j.State == intake.Back {
					continue
				}
				all, done := j.Size()
				promised += max(0, all-done)
				if j.Who == member {
					own++
				}
			}
		}
	}
	if own >= MostUploads {
		return &StatusError{Problem: &problem.Problem{What: "too many uploads wait to be continued",
			Why: fmt.Sprintf("%d of yours are not over", own), Fix: "let some of them end, or end them"},
			Status: http.StatusTooManyRequests, Wait: time.Minute}
	}
	free, err := intake.Free(folder)
	if err != nil {
		return err
	}
	if room := free - intake.Reserve - promised; size > room {
		why := fmt.Sprintf("it has %d bytes, and %d are free", size, max(0, room))
		if promised > 0 {
			why += fmt.Sprintf(" beside the %d that others are still bringing in", promised)
		}
		return &StatusError{Problem: &problem.Problem{What: "it does not fit", Why: why,
			Fix: "the administrator has to free some space"}, Status: http.StatusRequestEntityTooLarge, Wait: 0}
	}
	now := time.Now()
	d := a.days[member]
	if now.Sub(d.since).Abs() > 24*time.Hour {
		d = daily{since: now}
	}
	if size > MostADay-d.bytes {
		wait := max(0, 24*time.Hour-now.Sub(d.since))
		return &StatusError{Problem: &problem.Problem{What: "that is too much for a day",
			Why: "a member may bring in 1 TiB within 24 hours", Fix: "continue tomorrow"},
			Status: http.StatusTooManyRequests, Wait: wait}
	}
	if err := begin(); err != nil {
		return err
	}
	if a.days == nil {
		a.days = map[string]daily{}
	}
	d.bytes += size
	a.days[member] = d
	return nil
}

// sameDisk reports whether two folders share their free space.
func sameDisk(a, b string) bool {
	x, err := os.Stat(a)
	y, yerr := os.Stat(b)
	return a == b || err == nil && yerr == nil && machine.Device(x) == machine.Device(y)
}

// Takes lets a part be taken in, unless too many are.
func (s *Server) Takes() (end func(), err error) {
	a := &s.allotment
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.taking >= mostAtOnce {
		return nil, &StatusError{Problem: &problem.Problem{What: "too much comes in at once",
			Why: fmt.Sprintf("%d parts are being taken in", a.taking), Fix: "continue in a moment, from where it is"},
			Status: http.StatusServiceUnavailable, Wait: 10 * time.Second}
	}
	a.taking++
	return func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.taking--
	}, nil
}

// SweepUploads lets uploads go of which nothing came for long, now and then.
func (s *Server) SweepUploads(ctx context.Context) {
	for {
		s.ExpireUploads(time.Now())
		select {
		case <-ctx.Done():
			return
		case <-time.After(sweepEvery):
		}
	}
}

func (s *Server) ExpireUploads(now time.Time) {
	for _, sh := range s.Settings.Shelves {
		if sh.Access != household.Change {
			continue
		}
		for _, f := range sh.Folders {
			if s.Presence.Why(f) != "" {
				continue
			}
			list, _ := intake.Jobs(f) // what cannot be listed is looked at again later
			for _, j := range list {
				last := j.Began
				if st, err := os.Lstat(filepath.Join(f, intake.Holding, j.ID, "job.json")); err == nil &&
					st.ModTime().After(last) {
					last = st.ModTime()
				}
				if j.Way != intake.Upload || now.Sub(last) < KeepUploads {
					continue
				}
				held, err := intake.Open(f, j.ID)
				if err != nil {
					continue // somebody is at it just now
				}
				if err := held.Discard(); err != nil {
					s.Log.Warn("an old upload could not be removed", "shelf", sh.Name, "job", j.ID, "why", err)
					continue
				}
				s.Log.Info("an upload of which nothing came for long is removed", "shelf", sh.Name, "member", j.Who,
					"job", j.ID)
			}
		}
	}
}
