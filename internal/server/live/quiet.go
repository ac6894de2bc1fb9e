package live

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/ffmpeg"
	"cozyshelf/internal/store"
)

// quietLook is how often it is looked at whether quiet hours have begun: the clock may
// jump.
const quietLook = 30 * time.Second

// Quiet does the work that takes long, at quiet hours, one file after the other. What was
// done is noted with each, so that it continues where it stopped.
func (s *Server) Quiet(ctx context.Context) {
	q := s.Settings.Quiet
	if q == nil {
		return
	}
	hours, err := household.ParseHours(q.Hours)
	if err != nil {
		s.Log.Error("the quiet hours cannot be read", "why", err) // the tool has read them
		return
	}
	tools, err := ffmpeg.Find()
	if err != nil {
		s.Log.Warn("the work of quiet hours cannot be done", "why", err)
		return
	}
	for {
		if hours.Hold(time.Now().In(s.Zone)) {
			for _, work := range q.Work {
				s.quietWork(ctx, hours, tools, work)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(quietLook):
		}
	}
}

// quietWork does one sort of work for all files for which it is due, while the hours last.
// A file that is unplugged, or cannot be noted, is passed over until the next time.
func (s *Server) quietWork(ctx context.Context, hours household.Hours, tools ffmpeg.Tools, work string) {
	done, failed := 0, 0
	defer func() {
		if done+failed > 0 {
			s.Log.Info("work of quiet hours", "work", work, "done", done, "failed", failed)
		}
	}()
	for after := int64(0); hours.Hold(time.Now().In(s.Zone)) && ctx.Err() == nil; {
		f, err := s.Store.DueAfter(ctx, work, after)
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) && ctx.Err() == nil {
				s.Log.Error("the work of quiet hours cannot be continued", "work", work, "why", err)
			}
			return
		}
		after = f.ID
		file, err := s.Find(f)
		if err != nil {
			continue
		}
		v := store.Finding{Work: work}
		found, err := s.quietly(ctx, tools, work, f, file)
		file.Close()
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			var b []byte
			if b, err = json.Marshal(found); err == nil {
				v.Found = string(b)
			}
		}
		if err != nil {
			failed++
			v.Problem = err.Error()
			s.Log.Info("a file could not be worked on", "work", work, "shelf", f.Shelf, "file", f.Path, "why", err)
		} else {
			done++
		}
		if err := s.Store.SetFinding(ctx, f, v); err != nil && ctx.Err() == nil {
			s.Log.Error("what was found out could not be kept", "work", work, "why", err)
		}
	}
}

// quietly does one sort of work for one file, and gives what is to be kept of it.
func (s *Server) quietly(ctx context.Context, tools ffmpeg.Tools, work string, f store.File, file *os.File) (any,
	error) {
	switch work {
	case household.Frames:
		var b []byte
		err := s.AsSuspect("frame", f, func() (err error) {
			b, err = tools.Frame(ctx, file, media.FrameAt(f.Duration))
			return err
		})
		if err != nil {
			return nil, err
		}
		name, err := s.KeepPicture(b)
		if err != nil {
			return nil, err
		}
		return name, s.Store.PictureFromFilm(ctx, f.Title, name)
	case household.Chapters:
		var list []media.Chapter
		err := s.AsSuspect("chapters", f, func() (err error) {
			list, err = tools.Chapters(ctx, file)
			return err
		})
		if err != nil {
			return nil, err
		}
		for i := range list {
			// A moment into it: films cut to black between chapters.
			b, err := tools.Frame(ctx, file, min(list[i].At+3, max(list[i].At, f.Duration-1)))
			if err != nil {
				continue // it has a name and a place all the same
			}
			if name, err := s.KeepPicture(b); err == nil {
				list[i].Picture = name
			}
		}
		return list, nil
	default:
		var loud any
		err := s.AsSuspect("loudness", f, func() (err error) {
			loud, err = tools.Loudness(ctx, file)
			return err
		})
		return loud, err
	}
}

// QuietStatus tells how far the work of quiet hours is.
func (s *Server) QuietStatus(ctx context.Context) (*control.Quiet, error) {
	q := s.Settings.Quiet
	if q == nil {
		return nil, nil
	}
	out := &control.Quiet{Work: q.Work, Hours: q.Hours, Left: map[string]int{}}
	if hours, err := household.ParseHours(q.Hours); err == nil {
		out.Now = hours.Hold(time.Now().In(s.Zone))
	}
	if _, err := ffmpeg.Find(); err != nil {
		out.Problem = err.Error()
	}
	for _, w := range q.Work {
		n, err := s.Store.Due(ctx, w)
		if err != nil {
			return nil, err
		}
		out.Left[w] = n
	}
	return out, nil
}

// Findings gives what the work of quiet hours found out about a file.
func (s *Server) Findings(ctx context.Context, file int64) (chapters []media.Chapter, loud *media.Loud, err error) {
	all, err := s.Store.Findings(ctx, file)
	if err != nil {
		return nil, nil, err
	}
	if text := all[household.Chapters].Found; text != "" {
		if err := json.Unmarshal([]byte(text), &chapters); err != nil {
			return nil, nil, err
		}
	}
	if text := all[household.Loudness].Found; text != "" {
		err = json.Unmarshal([]byte(text), &loud)
	}
	return chapters, loud, err
}
