package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
)

// How the house is told to a page that stays open.
const (
	nowEvery   = 3 * time.Second
	nowLasts   = time.Minute // then the page asks again, and is judged anew
	nowWithin  = 10 * time.Second
	mostNow    = 20 // pages that are told at a time
	mostStream = 200
)

// houseNow is what such a page is told.
type houseNow struct {
	Today   []today.Line  `json:"today"`
	Streams []houseStream `json:"streams"`
}

// now gathers it.
func (s *Web) now(r *http.Request) (out houseNow, err error) {
	out.Streams = []houseStream{}
	plays, err := s.Store.Plays(r.Context(), usage.Filter{Open: true, Limit: mostStream})
	if err != nil {
		return out, err
	}
	for _, p := range plays {
		out.Streams = append(out.Streams, streamOf(p))
	}
	out.Today, err = s.Today(r.Context())
	return out, err
}

// tellHouse tells a page how the house is whenever that changes, as server-sent events.
func (s *Web) tellHouse(w http.ResponseWriter, r *http.Request) error {
	if s.telling.Add(1) > mostNow {
		s.telling.Add(-1)
		return &live.StatusError{Problem: &problem.Problem{What: "the house is not told to this page now",
			Why: "as many pages are told as there may be", Fix: "close one of them; this page can be loaded again"},
			Status: http.StatusServiceUnavailable, Wait: nowLasts}
	}
	defer s.telling.Add(-1)
	rc := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no") // a proxy is not to hold it back
	var last []byte
	for end := time.Now().Add(nowLasts); time.Now().Before(end); {
		v, err := s.now(r)
		if err != nil {
			return nil // the page asks again
		}
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		line := ": as before\n\n"
		if !bytes.Equal(b, last) {
			line, last = fmt.Sprintf("event: now\ndata: %s\n\n", b), b
		}
		if rc.SetWriteDeadline(time.Now().Add(nowWithin)) != nil {
			return nil // who has gone needs nothing
		}
		if _, err := w.Write([]byte(line)); err != nil || rc.Flush() != nil {
			return nil
		}
		select {
		case <-r.Context().Done():
			return nil
		case <-time.After(nowEvery):
		}
	}
	return nil
}
