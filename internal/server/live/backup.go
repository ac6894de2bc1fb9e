package live

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/backup"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/routine"
)

// Source is what a backup is taken of.
func (s *Server) Source(ctx context.Context) (backup.Source, error) {
	format, err := s.Store.Format(ctx)
	return backup.Source{
		State: s.Settings.State, Settings: s.Settings.File(), Snapshot: s.Store.Snapshot,
		Manifest: backup.Manifest{Made: time.Now(), ID: s.Settings.Household, Name: s.Settings.Name,
			Version: s.Version, StoreFormat: format},
	}, err
}

// Times of the server's own backups.
const (
	backupLook  = time.Minute      // the clock may jump, so it is looked at this often
	backupRetry = 15 * time.Minute // after one that failed
)

// Backups makes the server's own backups when they are due.
func (s *Server) Backups(ctx context.Context) {
	b := s.Settings.Backup
	if b == nil {
		return
	}
	var notBefore time.Time
	for {
		wait := backupLook
		last, _, err := s.lastBackup()
		now := time.Now()
		if err == nil {
			next := routine.Next(last, now, b.Every, b.At, s.Zone)
			if !next.After(now) && !now.Before(notBefore) {
				err = s.ownBackup(ctx, now)
			} else if d := next.Sub(now); d > 0 {
				wait = min(wait, d)
			}
		}
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			s.Events.Tell(event.BackupFailed{Folder: b.Shown, Why: err.Error()})
			notBefore = now.Add(backupRetry)
			text := err.Error()
			s.backupProblem.Store(&text)
		} else if !now.Before(notBefore) {
			s.backupProblem.Store(nil)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// lastBackup says when the last of our own backups was made, and how many there are.
func (s *Server) lastBackup() (time.Time, int, error) {
	list, err := backup.List(s.Settings.Backup.Folder, s.Settings.Household)
	if err != nil || len(list) == 0 {
		return time.Time{}, 0, err
	}
	return list[len(list)-1].Made, len(list), nil
}

// ownBackup makes one, reads it back, and lets the oldest go.
func (s *Server) ownBackup(ctx context.Context, now time.Time) error {
	b := s.Settings.Backup
	if b.Folder == filepath.Join(s.Settings.State, blueprint.Backups) {
		if err := os.MkdirAll(b.Folder, 0o700); err != nil {
			return err
		}
	}
	src, err := s.Source(ctx)
	if err != nil {
		return err
	}
	to := filepath.Join(b.Folder, backup.FileName(blueprint.Slug(s.Settings.Name), s.Settings.Household, now))
	var m backup.Manifest
	err = atomicfile.Write(to, 0o600, nil, func(w io.Writer) error {
		m, err = backup.Take(ctx, w, src)
		return err
	})
	if err != nil {
		return err
	}
	f, err := os.Open(to)
	if err != nil {
		return err
	}
	defer f.Close()
	err = s.Suspects.Do("archive", to, "", func() error {
		_, err := backup.Read(f, "", nil)
		return err
	})
	if err != nil {
		os.Remove(to) // it would only pretend
		return err
	}
	removed, err := backup.Thin(b.Folder, s.Settings.Household, b.Keep)
	s.Events.Tell(event.BackupMade{File: filepath.Base(to), Bytes: m.Size(), Removed: len(removed)})
	return err
}

// BackupStatus tells about the server's own backups.
func (s *Server) BackupStatus() *control.Backup {
	b := s.Settings.Backup
	if b == nil {
		return nil
	}
	out := &control.Backup{Every: b.Every, Keep: b.Keep, Folder: b.Shown}
	last, n, err := s.lastBackup()
	if err != nil {
		out.Problem = err.Error()
	}
	out.Last, out.Kept = last, n
	out.Next = routine.Next(last, time.Now(), b.Every, b.At, s.Zone)
	if p := s.backupProblem.Load(); p != nil {
		out.Problem = *p
	}
	return out
}
