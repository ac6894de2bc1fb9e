package live

import (
	"context"
	"errors"
	"os"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/store"
)

// trackWork is what asking ffprobe for a file's tracks is called among the findings.
const trackWork = "tracks"

// Tracked gives a film or a sound with its tracks. Of a file that our own readers do not open ffprobe
// tells them, once: they are kept with the file, as is why there are none.
func (s *Server) Tracked(ctx context.Context, f store.File) (store.File, error) {
	if f.Problem != "" || len(f.Media.Tracks) > 0 || f.Content == string(naming.Picture) {
		return f, nil
	}
	c := s.Converter.Load()
	if c == nil {
		return f, nil // what is unknown is decided about all the same
	}
	if list, err := s.Store.Findings(ctx, f.ID); err != nil || list[trackWork].Problem != "" {
		return f, err
	}
	var info media.Info
	err := s.AsSuspect(trackWork, f, func() (err error) {
		info, err = c.Tracks(ctx, func() (*os.File, error) { return s.Find(f) })
		return err
	})
	var st *StatusError
	switch {
	case err == nil:
	case errors.Is(err, convert.ErrBusy):
		return f, busyLooking()
	case ctx.Err() != nil || errors.As(err, &st) || errors.Is(err, os.ErrNotExist) || errors.Is(err, os.ErrPermission):
		return f, err
	default:
		return f, s.Store.SetFinding(ctx, f, store.Finding{Work: trackWork, Problem: err.Error()})
	}
	f.Media, f.Duration = info, info.Duration
	if err := s.Store.KeepTracks(ctx, f); err != nil && !errors.Is(err, store.ErrFull) {
		s.Log.Warn("what was found of a file could not be kept", "file", f.Path, "why", err)
	}
	return f, nil
}
