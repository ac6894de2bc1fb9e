package server

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/routine"
	"cozyshelf/internal/whole"
)

// source is what a backup is taken of.
func (s *Server) source(ctx context.Context) (backup.Source, error) {
	format, err := s.store.Format(ctx)
	return backup.Source{
		State: s.settings.State, Settings: s.settings.File(), Snapshot: s.store.Snapshot,
		Manifest: backup.Manifest{Made: time.Now(), ID: s.settings.Household, Name: s.settings.Name, Version: s.version, StoreFormat: format},
	}, err
}

// sent knows whether anything was sent.
type sent struct {
	w   http.ResponseWriter
	any bool
}

func (s *sent) Write(b []byte) (int, error) {
	s.any = true
	return s.w.Write(b)
}

// sendBackup sends a backup as it is made.
func (s *Server) sendBackup(w http.ResponseWriter, r *http.Request) {
	src, err := s.source(r.Context())
	out := &sent{w: w}
	if err == nil {
		w.Header().Set("Content-Type", "application/zstd")
		_, err = backup.Take(r.Context(), out, src)
	}
	if err == nil {
		return
	}
	s.log.Error("a backup could not be made", "why", err)
	if out.any {
		panic(http.ErrAbortHandler) // so that nobody takes it for whole
	}
	w.Header().Del("Content-Type")
	fail(w, err)
}

// Times of the server's own backups.
const (
	backupLook  = time.Minute      // the clock may jump, so it is looked at this often
	backupRetry = 15 * time.Minute // after one that failed
)

// backups makes the server's own backups when they are due.
func (s *Server) backups(ctx context.Context) {
	b := s.settings.Backup
	if b == nil {
		return
	}
	var notBefore time.Time
	for {
		wait := backupLook
		last, _, err := s.lastBackup()
		now := time.Now()
		if err == nil {
			next := routine.Next(last, now, b.Every, b.At, time.Local)
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
			s.events.Tell(event.BackupFailed{Folder: b.Shown, Why: err.Error()})
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
	list, err := backup.List(s.settings.Backup.Folder, s.settings.Household)
	if err != nil || len(list) == 0 {
		return time.Time{}, 0, err
	}
	return list[len(list)-1].Made, len(list), nil
}

// ownBackup makes one, reads it back, and lets the oldest go.
func (s *Server) ownBackup(ctx context.Context, now time.Time) error {
	b := s.settings.Backup
	if b.Folder == filepath.Join(s.settings.State, blueprint.Backups) {
		if err := os.MkdirAll(b.Folder, 0o700); err != nil {
			return err
		}
	}
	src, err := s.source(ctx)
	if err != nil {
		return err
	}
	to := filepath.Join(b.Folder, backup.FileName(blueprint.Slug(s.settings.Name), s.settings.Household, now))
	var m backup.Manifest
	err = whole.Write(to, 0o600, nil, func(w io.Writer) error {
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
	err = s.suspects.Do("archive", to, "", func() error {
		_, err := backup.Read(f, "", nil)
		return err
	})
	if err != nil {
		os.Remove(to) // it would only pretend
		return err
	}
	removed, err := backup.Thin(b.Folder, s.settings.Household, b.Keep)
	s.events.Tell(event.BackupMade{File: filepath.Base(to), Bytes: m.Size(), Removed: len(removed)})
	return err
}

// backupStatus tells about the server's own backups.
func (s *Server) backupStatus() *control.Backup {
	b := s.settings.Backup
	if b == nil {
		return nil
	}
	out := &control.Backup{Every: b.Every, Keep: b.Keep, Folder: b.Shown}
	last, n, err := s.lastBackup()
	if err != nil {
		out.Problem = err.Error()
	}
	out.Last, out.Kept = last, n
	out.Next = routine.Next(last, time.Now(), b.Every, b.At, time.Local)
	if p := s.backupProblem.Load(); p != nil {
		out.Problem = *p
	}
	return out
}
