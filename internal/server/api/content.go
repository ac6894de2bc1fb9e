package api

import (
	"errors"
	"net/http"
	"os"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// unsent answers for a file that cannot be opened.
func (s *API) unsent(w http.ResponseWriter, f store.File, err error) {
	why := f.Problem
	if why == "" {
		why = "it is unplugged, or may not be read"
	}
	s.Log.Error("a file cannot be sent", "shelf", f.Shelf, "file", f.Path, "why", err)
	var away *live.UnpluggedError
	if errors.As(err, &away) || errors.Is(err, machine.ErrSilent) {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "the shelf is unplugged", Where: f.Shelf,
			Why: "the disk or the network behind it does not answer, or is not there",
			Fix: "try again later; the household's administrator sees more with cozyshelf shelf list"},
			Status: http.StatusServiceUnavailable, Wait: time.Minute})
		return
	}
	live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "the file cannot be sent", Where: f.Path, Why: why,
		Fix: "ask the household's administrator to run cozyshelf check"}, Status: http.StatusNotFound, Wait: 0})
}

// content sends a file as it is.
func (s *API) content(w http.ResponseWriter, r *http.Request) {
	t, f, err := s.FileOf(r)
	if err != nil {
		live.Fail(w, err)
		return
	}
	if err := s.MayWatch(r, f.ID); err != nil && f.Content != string(naming.Picture) {
		live.Fail(w, err)
		return
	}
	viewer := live.VisitorOf(r).Viewer()
	viewer.Delivery = string(delivery.AsItIs)
	s.whole(w, r, t, f, viewer)
}

// whole sends a file as it is to a viewer.
func (s *API) whole(w http.ResponseWriter, r *http.Request, t store.Title, f store.File, viewer stream.Viewer) {
	if err := s.Fits(r, f.Media, f.Size); err != nil {
		live.Fail(w, err)
		return
	}
	file, err := s.Find(f)
	if err != nil {
		s.unsent(w, f, err)
		return
	}
	defer file.Close()
	s.sendWhole(w, r, t, f, file, f.Path, viewer)
}

// sendWhole sends an open file to a viewer, of the sort that its name tells.
func (s *API) sendWhole(w http.ResponseWriter, r *http.Request, t store.Title, f store.File, file *os.File, name string,
	viewer stream.Viewer) {
	end, err := s.Cuts.Begin(w, live.VisitorOf(r))
	if err != nil {
		live.Fail(w, err)
		return
	}
	defer end()
	_, mime := naming.ContentOf(name)
	if mime == "" {
		mime = "application/octet-stream"
	}
	count := func(int64) {}
	// A picture that is looked at, and a question about a file, are no streams.
	if f.Content != string(naming.Picture) && r.Method == http.MethodGet {
		if count, err = s.sending(r, viewer, t, f); err != nil {
			live.Fail(w, err)
			return
		}
		if st, err := file.Stat(); err == nil && st.Size() > 0 {
			noted := count
			count = func(n int64) {
				noted(n)
				s.Charge(viewer.Member, allowance.Meter{Fetched: seconds(f.Duration * float64(n) / float64(st.Size()))})
				s.Enough(r, f.ID) // one request may ask for all of a film
			}
		}
	}
	if err := stream.Deliver(w, r, file, mime, count); err != nil {
		live.Fail(w, err)
	}
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// sending notes that a viewer is sent something of a file, and gives what is to be told of the bytes.
func (s *API) sending(r *http.Request, viewer stream.Viewer, t store.Title, f store.File) (count func(int64),
	err error) {
	count, err = s.Tracker.Sending(r.Context(), viewer, t, f)
	switch {
	case errors.Is(err, stream.ErrMany):
		return nil, s.TooMany(r)
	case errors.Is(err, store.ErrFull):
		// What is there plays, though nobody will know of it.
		if s.Unnoted.CompareAndSwap(false, true) {
			s.Log.Error("streams are not noted while the disk is full", "why", err)
		}
		return func(int64) {}, nil
	case err != nil:
		s.Log.Error("a stream could not be noted", "why", err)
		return nil, err
	}
	s.Unnoted.Store(false)
	return count, nil
}
