package live

import (
	"context"
	"log/slog"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/usage"
)

// logEvent writes an event into the log.
func logEvent(log *slog.Logger, e event.Event) {
	level := map[event.Level]slog.Level{event.Warning: slog.LevelWarn, event.Failure: slog.LevelError}[e.Level()]
	var args []any
	for _, f := range e.Fields() {
		args = append(args, f.Key, f.Value)
	}
	log.Log(context.Background(), level, e.Name(), args...)
}

// playBegan tells of a play that begins or goes on.
func (s *Server) playBegan(p usage.Play) {
	s.Events.Tell(event.PlayBegan{Member: p.Member, Title: whole(p), Device: p.Device, Delivery: p.Delivery})
}

// whole is what is played, with its part.
func whole(p usage.Play) string {
	if p.Part == "" {
		return p.Title
	}
	return p.Title + ", " + p.Part
}

// playEnded tells of a play that is over.
func (s *Server) playEnded(p usage.Play) {
	s.Events.Tell(event.PlayEnded{Member: p.Member, Title: whole(p), Device: p.Device,
		Watched: time.Duration(p.Watched * float64(time.Second)).Round(time.Second), Finished: p.Done, Delivery: p.Delivery,
		Why: p.Why})
}
