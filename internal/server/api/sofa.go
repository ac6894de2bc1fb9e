package api

import (
	"net/http"

	"cozyshelf/internal/server/live"
)

// sofa tells who watches a file on this device.
func (s *API) sofa(r *http.Request) (any, error) {
	_, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	v, err := s.SofaOf(r, f)
	return sofaOf(v), err
}

// sit says who watches a file along on this device.
func (s *API) sit(r *http.Request) (any, error) {
	var in apiSitting
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	t, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	v, err := s.Sit(r, t, f, in.Members, in.TheyMay)
	return sofaOf(v), err
}

func sofaOf(v live.Sofa) apiSofa {
	return apiSofa{Members: v.Now, Proposed: v.Proposed, People: v.People}
}
