package api

import (
	"errors"
	"fmt"
	"net/http"
	"os"

	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// prepared lists the copies of a file.
func (s *API) prepared(r *http.Request) (any, error) {
	_, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.PreparedOf(r.Context(), f.ID)
	if err != nil {
		return nil, err
	}
	out := []apiPrepared{}
	for _, p := range list {
		out = append(out, preparedOf(p))
	}
	return out, nil
}

func preparedOf(p store.Prepared) apiPrepared {
	out := apiPrepared{ID: p.ID, File: p.File, Height: p.Height, For: p.For, State: p.State, Done: p.Done,
		Length: p.Length, Bytes: p.Bytes, Problem: p.Fault}
	if p.State == store.PreparedReady {
		out.URL = fmt.Sprintf("/api/v1/prepared/%d/content", p.ID)
	}
	return out
}

// prepare notes that a member wants a copy, which is made at quiet hours.
func (s *API) prepare(r *http.Request) (any, error) {
	var in struct {
		Height int `json:"height"`
	}
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	_, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	if in.Height != 0 && (in.Height < 120 || in.Height > 4320) {
		return nil, live.UsageProblem("the height cannot be taken", fmt.Sprintf("%d lines are no size of a film", in.Height),
			"leave it out, or give 120 to 4320")
	}
	m := live.VisitorOf(r).Member
	if !live.MayTake(r) {
		return nil, noCopies()
	}
	p, err := s.AddPrepared(r.Context(), f, store.Prepared{Height: in.Height, For: m.Name, By: m.Name})
	if err != nil {
		return nil, err
	}
	return preparedOf(p), nil
}

func noCopies() error {
	return &live.StatusError{Problem: &problem.Problem{What: "you may not take copies along",
		Why: "that is for adults, unless it was allowed to you", Fix: "ask the household's administrator"},
		Status: http.StatusForbidden}
}

// mayHave reports whether a copy was made for a member who may not have any made: they take it along, unless
// that was forbidden to them.
func mayHave(m store.Member, p store.Prepared) bool {
	return store.Fold(p.For) == store.Fold(m.Name) && m.Allowed.Copies == nil
}

// preparedContent sends a copy.
func (s *API) preparedContent(w http.ResponseWriter, r *http.Request) {
	id, err := live.Number(r, "copy")
	if err != nil {
		live.Fail(w, err)
		return
	}
	p, err := s.Store.PreparedByID(r.Context(), id)
	var t store.Title
	var f store.File
	if err == nil {
		t, f, err = s.Seen(r, p.File)
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && p.State != store.PreparedReady {
		err = live.Nothing(r)
	}
	if err != nil {
		live.Fail(w, err)
		return
	}
	if !live.MayTake(r) && !mayHave(live.VisitorOf(r).Member, p) {
		live.Fail(w, noCopies())
		return
	}
	if err := s.MayWatch(r, f.ID); err != nil {
		live.Fail(w, err)
		return
	}
	viewer := live.VisitorOf(r).Viewer()
	viewer.Delivery, viewer.Why = string(delivery.AsItIs), "a prepared copy"
	s.preparedCopy(w, r, t, f, id, viewer)
}

// preparedCopy sends a copy to a viewer.
func (s *API) preparedCopy(w http.ResponseWriter, r *http.Request, t store.Title, f store.File, id int64,
	viewer stream.Viewer) {
	p, err := s.Store.PreparedByID(r.Context(), id)
	var file *os.File
	if err == nil {
		if err := s.Fits(r, p.Media, p.Bytes); err != nil {
			live.Fail(w, err)
			return
		}
	}
	if err == nil && p.State == store.PreparedReady && p.File == f.ID {
		file, err = s.OpenPrepared(p)
	}
	if file == nil {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "the copy is not there any more",
			Why: "it was cancelled", Fix: "play the film itself"}, Status: http.StatusNotFound})
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			s.Log.Error("a prepared copy cannot be opened", "number", id, "why", err)
		}
		return
	}
	defer file.Close()
	s.sendWhole(w, r, t, f, file, "film.mp4", viewer)
}
