package live

import (
	"context"
	"log/slog"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
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

// Telling prepares to tell of what a change of the store is about to do: with the context that it gives, the notices
// are kept in the change's own transaction. tell is called when it is done, and not where it failed.
func (s *Server) Telling(ctx context.Context, list ...event.Event) (with context.Context, tell func()) {
	keeper := s.Keeper()
	if keeper == nil { // nobody is told anything, or not yet
		return ctx, func() {
			for _, e := range list {
				s.Events.Tell(e)
			}
		}
	}
	var waiting []store.Waiting
	for _, e := range list {
		waiting = append(waiting, keeper.Make(e)...)
	}
	return store.Also(ctx, waiting), func() {
		for _, e := range list {
			s.Events.Tell(event.Noted{Event: e})
		}
	}
}

// tellPlays prepares to tell of plays that begin or go on, and of such that end.
func (s *Server) tellPlays(ctx context.Context, began, ended []usage.Play) (with context.Context, tell func()) {
	var list []event.Event
	for _, p := range began {
		list = append(list, event.PlayBegan{Member: p.Member, Title: whole(p), Device: p.Device, Delivery: p.Delivery})
	}
	for _, p := range ended {
		list = append(list, event.PlayEnded{Member: p.Member, Title: whole(p), Device: p.Device,
			Watched:  time.Duration(p.Watched * float64(time.Second)).Round(time.Second),
			Finished: p.Done, Delivery: p.Delivery, Why: p.Why})
	}
	return s.Telling(ctx, list...)
}

// whole is what is played, with its part.
func whole(p usage.Play) string {
	if p.Part == "" {
		return p.Title
	}
	return p.Title + ", " + p.Part
}
