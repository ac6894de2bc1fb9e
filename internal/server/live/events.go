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

// playEnded tells of a play that is over.
func (s *Server) playEnded(p usage.Play) {
	title := p.Title
	if p.Part != "" {
		title += ", " + p.Part
	}
	s.Events.Tell(event.PlayEnded{Member: p.Member, Title: title, Device: p.Device,
		Watched: time.Duration(p.Watched * float64(time.Second)).Round(time.Second), Finished: p.Done, Delivery: p.Delivery,
		Why: p.Why})
}
