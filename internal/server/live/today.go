package live

import (
	"context"
	"fmt"
	"sync"
	"time"

	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"

	"golang.org/x/sys/unix"
)

// todays are the five lines as they were made last.
type todays struct {
	mu    sync.Mutex
	facts today.Facts
	at    time.Time
}

// todayLasts is how long facts of the day count that take time to gather. Who watches is looked up each time.
const todayLasts = 30 * time.Second

// Today says in five lines what matters now.
func (s *Server) Today(ctx context.Context) ([]today.Line, error) {
	now := time.Now().In(s.Zone)
	s.todays.mu.Lock()
	f, fresh := s.todays.facts, now.Sub(s.todays.at) < todayLasts && !now.Before(s.todays.at)
	s.todays.mu.Unlock()
	var err error
	if !fresh {
		if f, err = s.todayFacts(ctx, now); err != nil {
			return nil, err
		}
		s.todays.mu.Lock()
		s.todays.facts, s.todays.at = f, now
		s.todays.mu.Unlock()
	}
	f.Now = now
	if f.Open, err = s.Store.Plays(ctx, usage.Filter{Open: true}); err != nil {
		return nil, err
	}
	return today.Lines(f), nil
}

// todayFacts gathers what happened today, and what somebody should see to.
func (s *Server) todayFacts(ctx context.Context, now time.Time) (f today.Facts, err error) {
	y, m, d := now.Date()
	midnight := time.Date(y, m, d, 0, 0, 0, 0, s.Zone)
	if f.Plays, err = s.Store.Plays(ctx, usage.Filter{Since: midnight.AddDate(0, 0, -1)}); err != nil {
		return f, err
	}
	for _, sh := range s.Settings.Shelves {
		names, n, err := s.Store.Arrived(ctx, sh.Name, midnight, namedArrived)
		if err != nil {
			return f, err
		}
		f.Arrived, f.Count = append(f.Arrived, names...), f.Count+n
	}
	last, err := s.Store.Lately(ctx, 1)
	if err != nil {
		return f, err
	}
	if len(last) > 0 {
		f.Last, f.LastAt = last[0].Name, last[0].Added
	}
	seen := map[unix.Fsid]bool{}
	for _, d := range s.folders() {
		if st, ok := s.notices.measure(d.folder); ok && st.Blocks > 0 && !seen[st.Fsid] {
			seen[st.Fsid] = true
			f.Disks = append(f.Disks, today.Disk{Folder: d.shown, Free: int64(st.Bavail) * int64(st.Bsize),
				Size: int64(st.Blocks) * int64(st.Bsize)})
		}
	}
	f.Concerns, err = s.concerns(ctx, now)
	return f, err
}

// concerns are what somebody should see to, what weighs most first.
func (s *Server) concerns(ctx context.Context, now time.Time) (out []today.Concern, err error) {
	add := func(ask, text string, args ...any) {
		out = append(out, today.Concern{Text: fmt.Sprintf(text, args...), Ask: ask})
	}
	shelves, err := s.ShelfList(ctx)
	if err != nil {
		return nil, err
	}
	for _, sh := range shelves {
		if len(sh.Unplugged) > 0 {
			add("cozyshelf status", "a folder of %s is not there", sh.Name)
		}
	}
	if b := s.BackupStatus(); b != nil {
		switch {
		case b.Problem != "":
			add("cozyshelf backup list", "the backup failed")
		case !b.Last.IsZero() && now.Sub(b.Next) > overdueAfter:
			add("cozyshelf backup list", "the backup is overdue")
		}
	}
	if s.Certificate != nil {
		if r := s.Certificate.Report(now); r.Problem != "" {
			add("cozyshelf remote status", "the certificate: %s", r.Problem)
		}
	}
	receivers, err := s.Store.Receivers(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range receivers {
		if r.Failures > 2 || r.Gone {
			add("cozyshelf notice list", "%s takes no notices", r.Name)
		}
	}
	for _, sh := range shelves {
		files := "%d files of %s cannot be used"
		if sh.Problems == 1 {
			files = "%d file of %s cannot be used"
		}
		if sh.Problems > 0 {
			add("cozyshelf shelf show "+sh.Name+" --problems", files, sh.Problems, sh.Name)
		}
	}
	return out, nil
}
