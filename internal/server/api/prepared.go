package api

import (
	"errors"
	"fmt"
	"net/http"
	"os"

	"cozyshelf/internal/core/allowance"
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
	if !allowance.MayBring(m.Role) {
		return nil, &live.StatusError{Problem: &problem.Problem{What: "you may not have copies prepared",
			Why: "that is for administrators and adults", Fix: "ask one of them"}, Status: http.StatusForbidden}
	}
	p, err := s.AddPrepared(r.Context(), f, store.Prepared{Height: in.Height, For: m.Name, By: m.Name})
	if err != nil {
		return nil, err
	}
	return preparedOf(p), nil
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
		t, f, err = s.Store.FileOf(r.Context(), p.File, live.VisitorOf(r).Member.ID)
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && p.State != store.PreparedReady {
		err = live.Nothing(r)
	}
	if err != nil {
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
