package live

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
)

// A stream that an administrator has ended stays so for a while, so that its device does not just go on.
const (
	stoppedFor  = 10 * time.Minute
	mostStopped = 256
	mostWords   = 200 // bytes
)

// stops are streams that were ended. The zero value is ready.
type stops struct {
	mu sync.Mutex
	of map[stopped]stop
}

type stopped struct{ device, file int64 }

type stop struct {
	says  string
	until time.Time
}

// StopStream ends a stream by the number of its play, with a word to who watches it.
func (s *Server) StopStream(ctx context.Context, play int64, says, by string) error {
	if len(says) > mostWords {
		return UsageProblem("that is too much to say", fmt.Sprintf("it has more than %d bytes", mostWords), "say it shorter")
	}
	device, file, p, member := s.Tracker.Running(play)
	if p.ID == 0 {
		return &StatusError{Problem: &problem.Problem{What: "that stream is over already", Fix: "there is nothing to do"},
			Status: http.StatusNotFound}
	}
	now := time.Now()
	w := &s.stops
	w.mu.Lock()
	for k, old := range w.of {
		if now.After(old.until) || len(w.of) >= mostStopped {
			delete(w.of, k)
		}
	}
	if w.of == nil {
		w.of = map[stopped]stop{}
	}
	w.of[stopped{device, file}] = stop{says, now.Add(stoppedFor)}
	w.mu.Unlock()
	s.Cuts.Cut(member)
	s.Events.Tell(event.StreamStopped{Member: p.Member, Title: p.Title, By: by, Says: says})
	return nil
}

// stoppedNow refuses a stream that an administrator has ended.
func (s *Server) stoppedNow(device, file int64) error {
	w := &s.stops
	w.mu.Lock()
	defer w.mu.Unlock()
	i, ok := w.of[stopped{device, file}]
	if !ok || time.Now().After(i.until) {
		return nil
	}
	p := &problem.Problem{What: "an administrator has ended this", Why: i.says,
		Fix: "it can be played again " + Spoken(i.until.In(s.Zone), time.Now().In(s.Zone))}
	if p.Why == "" {
		p.Why = "they gave no reason"
	}
	return &StatusError{Problem: p, Status: http.StatusForbidden, Wait: time.Until(i.until)}
}
