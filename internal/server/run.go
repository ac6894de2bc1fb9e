package server

import (
	"context"
	"errors"
	"fmt"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/server/live"
)

// Run serves until the context ends, then lets requests finish for a moment.
func (s *Server) Run(ctx context.Context) error {
	let, err := atomicfile.Claim(ctx, s.Settings.State, takenFor)
	if errors.Is(err, atomicfile.ErrClaimed) {
		return fmt.Errorf("another server works on this state folder, or it is being restored: %s", s.Settings.State)
	}
	if err != nil {
		return err
	}
	defer let()
	ways, err := s.openEntrances(ctx)
	if err != nil {
		return err
	}
	defer ways.close()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.Life = ctx
	ways.serve(s, cancel)
	end := func() error {
		s.Log.Info("ending")
		return ways.end(ctx)
	}
	s.Sweep()
	if s.Open() == nil && !s.Begin(ctx) {
		return end()
	}
	defer s.Store.Close()
	s.OpenSuspects()
	defer s.Suspects.Close()
	for _, j := range s.allJobs() {
		s.Jobs.Start(ctx, j)
	}
	<-ctx.Done()
	err = end()
	s.Jobs.Wait()
	return err
}

// allJobs is what the server does beside answering.
func (s *Server) allJobs() []live.Job {
	out := []live.Job{
		{Name: "plays", Run: s.Tracker.Run},
		{Name: "allowances", Run: s.Allowances},
		{Name: "history", Run: s.Forget},
		{Name: "scans", Run: s.ScanWanted},
		{Name: "disks", Run: s.Watch},
		{Name: "uploads", Run: s.SweepUploads},
		{Name: "store", Run: s.WatchStore},
		{Name: "room", Run: s.WatchRoom},
		{Name: "backups", Run: s.Backups},
		{Name: "lookups", Run: s.DescribeAll},
		{Name: "quiet", Run: s.Quiet},
		{Name: "figures", Run: s.Roll},
		{Name: "convert", Run: s.Convert},
		{Name: "prepare", Run: s.Prepare},
		{Name: "first-scan", Run: s.firstScan},
	}
	if s.Stale {
		out = append(out, live.Job{Name: "streams-cut-off", Run: s.CloseStale})
	}
	if s.OpenNotices() {
		out = append(out, live.Job{Name: "notices", Run: s.Notices}, live.Job{Name: "watch", Run: s.WatchHouse})
	}
	if s.OpenName() {
		out = append(out, live.Job{Name: "name", Run: s.KeepName})
	}
	if s.Certificate != nil {
		out = append(out, live.Job{Name: "certificate", Run: s.Certificate.Run})
	}
	for _, sh := range s.Settings.Shelves {
		out = append(out, live.Job{Name: "changes-" + sh.Name, Run: func(ctx context.Context) { s.Follow(ctx, sh) }})
	}
	return out
}

// firstScan looks at all shelves once, when the server begins.
func (s *Server) firstScan(ctx context.Context) {
	if err := s.Drop(ctx); err != nil && ctx.Err() == nil {
		s.Log.Error("shelves that are no longer in the household file could not be put aside", "why", err)
	}
	if _, err := s.Scan(ctx, "", scan.Options{}); err != nil && ctx.Err() == nil {
		s.Log.Error("the first scan failed", "why", err)
	}
}
