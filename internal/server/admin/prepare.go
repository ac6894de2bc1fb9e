package admin

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// preparedOf turns a row of the store into a document.
func preparedOf(p store.Prepared) control.Prepared {
	return control.Prepared{ID: p.ID, Title: p.Title, Part: p.Part, Height: p.Height, For: p.For, By: p.By,
		Asked: p.Asked, Soon: p.Soon, State: string(p.State), Done: p.Done, Length: p.Length, Bytes: p.Bytes,
		Problem: p.Fault}
}

// prepared lists the copies.
func (s *Admin) prepared(r *http.Request) (any, error) {
	list, err := s.Store.AllPrepared(r.Context())
	return listed(list, err, preparedOf)
}

// prepare notes that copies of all parts of a title are wanted. It stops at the first that cannot be.
func (s *Admin) prepare(r *http.Request) (any, error) {
	var in control.Preparing
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	if in.For != "" {
		members, err := s.Store.Members(r.Context())
		if err != nil {
			return nil, err
		}
		known := false
		for _, m := range members {
			known = known || m.Name == in.For
		}
		if !known {
			return nil, live.UsageProblem("no copy is prepared", fmt.Sprintf("there is no member %q", in.For),
				"cozyshelf member list shows the members")
		}
	}
	files, err := s.Store.Files(r.Context(), in.Title, 0)
	if err != nil {
		return nil, err
	}
	out := []control.Prepared{}
	for _, f := range files {
		if f.Extra != "" || f.Problem != "" || f.Content != string(naming.Video) {
			continue
		}
		p, err := s.AddPrepared(r.Context(), f, store.Prepared{Height: in.Height, For: in.For, Soon: in.Soon})
		if err != nil {
			var st *live.StatusError
			if len(out) > 0 && errors.As(err, &st) {
				more := *st.Problem
				more.Why = fmt.Sprintf("%s; %d of its parts are noted", more.Why, len(out))
				return nil, &live.StatusError{Problem: &more, Status: st.Status}
			}
			return nil, err
		}
		out = append(out, preparedOf(p))
	}
	if len(out) == 0 {
		return nil, live.UsageProblem("no copy is prepared", "the title has no film that can be read",
			"name a film, a series or a recording")
	}
	return out, nil
}

// cancelPrepared removes a copy.
func (s *Admin) cancelPrepared(r *http.Request) (any, error) {
	id, err := strconv.ParseInt(r.PathValue("copy"), 10, 64)
	var p store.Prepared
	if err == nil {
		p, err = s.Store.PreparedByID(r.Context(), id)
	}
	if err != nil {
		return nil, &live.StatusError{Problem: &problem.Problem{What: fmt.Sprintf("there is no copy %s",
			r.PathValue("copy")), Why: "none has this number now", Fix: "cozyshelf prepare list shows them",
			Exit: problem.ExitUsage}, Status: http.StatusNotFound}
	}
	return preparedOf(p), s.CancelPrepared(r.Context(), id)
}
