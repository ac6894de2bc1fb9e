package admin

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"cozyshelf/internal/control"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// matched gives what is known of a title, and what it may be.
func (s *Admin) matched(r *http.Request) (any, error) {
	id, err := strconv.ParseInt(r.PathValue("title"), 10, 64)
	if err != nil {
		return nil, store.ErrNotFound
	}
	t, err := s.Store.Title(r.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem.Problem{What: fmt.Sprintf("there is no title %d", id),
			Why: "nothing of that number is on the shelves now", Fix: "cozyshelf shelf find finds it", Err: err}
	}
	if err != nil {
		return nil, err
	}
	out := control.Matched{Title: titleOf(t), Catalogues: []string{}}
	for _, src := range s.Sources {
		if src.Knows(t.Kind) {
			out.Catalogues = append(out.Catalogues, src.Name())
		}
	}
	d, err := s.Store.Described(r.Context(), id)
	if err != nil {
		return nil, err
	}
	out.Described = control.Described(d)
	files, err := s.Store.Files(r.Context(), id, 0)
	for _, f := range files {
		out.Files = append(out.Files, control.Placed{Root: f.Root, Path: f.Path, Extra: f.Extra})
	}
	return out, err
}

// match does what a person wants with a title: take an entry, say that there is none, set
// fields or a picture, or look it up anew.
func (s *Admin) match(r *http.Request) (any, error) {
	now, err := s.matched(r)
	if err != nil {
		return nil, err
	}
	shown := now.(control.Matched).Title
	t := store.Title{ID: shown.ID, Name: shown.Name}
	var in control.Matching
	if err := live.ReadUpTo(r, &in, picture.MostBytes*3/2); err != nil {
		return nil, err
	}
	if err := s.Match(r.Context(), t, in); err != nil {
		return nil, err
	}
	return s.matched(r)
}
