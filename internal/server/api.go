package server

import (
	_ "embed" // the description of the API
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

//go:embed openapi.json
var openAPIDocument []byte

func openAPI(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(openAPIDocument) // the client has gone, if this fails
}

// The documents of the API. openapi.json describes them.
type (
	apiMember struct {
		Name   string         `json:"name"`
		Role   allowance.Role `json:"role"`
		Away   bool           `json:"away"`
		Device string         `json:"device"`
	}
	apiToken struct {
		Token   string    `json:"token"`
		Expires time.Time `json:"expires"`
		Member  string    `json:"member"`
	}
	apiShelf struct {
		Name     string         `json:"name"`
		Kind     household.Kind `json:"kind"`
		Titles   int            `json:"titles"`
		Files    int            `json:"files"`
		Duration float64        `json:"duration"`
		Size     int64          `json:"size"`
		Away     bool           `json:"away"`
	}
	apiTitle struct {
		store.Title
		Files []store.File `json:"files"`
	}
	apiFile struct {
		store.File
		Chapters []media.Chapter `json:"chapters,omitempty"`
		Loudness *media.Loud     `json:"loudness,omitempty"`
	}
	apiPosition struct {
		Position float64 `json:"position"`
		State    string  `json:"state"` // playing, paused or stopped
	}
	apiPlay struct {
		Play     int64   `json:"play"`
		Position float64 `json:"position"`
		Watched  float64 `json:"watched"`
	}
)

func (s *Server) apiSignIn(r *http.Request) (any, error) {
	var in struct{ Name, Password, Device string }
	if err := read(r, &in); err != nil {
		return nil, err
	}
	token, m, err := s.signIn(r, in.Name, in.Password, in.Device, store.ForProgram)
	if err != nil {
		return nil, err
	}
	return apiToken{token, time.Now().Add(stays[store.ForProgram].slides).UTC().Truncate(time.Second), m.Name}, nil
}

func (s *Server) apiSignOut(r *http.Request) (any, error) {
	if err := s.store.RemoveDevice(r.Context(), visitorOf(r).device.ID); err != nil {
		return nil, err
	}
	return map[string]bool{"signed_out": true}, nil
}

func me(v *visitor) apiMember {
	return apiMember{v.member.Name, v.member.Role, v.away, v.device.Name}
}

func (s *Server) apiShelves(r *http.Request) (any, error) {
	list, err := s.shelfList(r.Context())
	if err != nil {
		return nil, err
	}
	out := []apiShelf{}
	for _, sh := range list {
		out = append(out, apiShelf{sh.Name, sh.Kind, sh.Titles, sh.Files, sh.Duration, sh.Size, len(sh.Away) > 0})
	}
	return out, nil
}

func (s *Server) apiTitles(r *http.Request) (any, error) {
	name := r.PathValue("shelf")
	if s.shelves[name] == nil {
		return nil, nothing(r)
	}
	limit := onAnswer
	if text := r.URL.Query().Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostOnAnswer {
			return nil, usageProblem("the limit cannot be taken", fmt.Sprintf("%q is no number from 1 to %d", text, mostOnAnswer), "leave it out, or give one")
		}
		limit = n
	}
	page, err := s.store.TitlePage(r.Context(), name, store.PlaceOf(r.URL.Query().Get("from")), false, limit)
	if err != nil {
		return nil, err
	}
	if page.Next == nil {
		return apiTitles{Titles: page.Titles}, nil
	}
	return apiTitles{page.Titles, page.Next.String()}, nil
}

// How many titles an answer holds, where it is not said, and at most.
const (
	onAnswer     = 100
	mostOnAnswer = 1000
)

type apiTitles struct {
	Titles []store.Title `json:"titles"`
	Next   string        `json:"next,omitempty"` // where those after them begin
}

func (s *Server) title(r *http.Request) (apiTitle, error) {
	var out apiTitle
	id, err := number(r, "title")
	if err != nil {
		return out, err
	}
	if out.Title, err = s.store.Title(r.Context(), id); errors.Is(err, store.ErrNotFound) {
		return out, nothing(r)
	}
	if err != nil {
		return out, err
	}
	out.Files, err = s.store.Files(r.Context(), id, visitorOf(r).member.ID)
	return out, err
}

func (s *Server) apiTitle(r *http.Request) (any, error) { return s.title(r) }

func (s *Server) apiFile(r *http.Request) (any, error) {
	_, f, err := s.fileOf(r)
	if err != nil {
		return nil, err
	}
	out := apiFile{File: f}
	out.Chapters, out.Loudness, err = s.findings(r.Context(), f.ID)
	return out, err
}

func (s *Server) apiPosition(r *http.Request) (any, error) {
	var in apiPosition
	if err := read(r, &in); err != nil {
		return nil, err
	}
	t, f, err := s.fileOf(r)
	if err != nil {
		return nil, err
	}
	bad := ""
	switch {
	case !(in.Position >= 0) || in.Position > 1e7:
		bad = "position must be a number of seconds, 0 or more"
	case f.Duration > 0 && in.Position > f.Duration+60:
		bad = "position lies beyond the end"
	case in.State != "playing" && in.State != "paused" && in.State != "stopped":
		bad = "state must be playing, paused or stopped"
	}
	if bad != "" {
		return nil, &statusError{&problem.Problem{What: "the position cannot be taken", Why: bad, Fix: "see /api/v1/openapi.json"}, http.StatusBadRequest, 0}
	}
	p, err := s.tracker.Report(r.Context(), visitorOf(r).viewer(), t, f, in.Position, in.State == "stopped")
	if err != nil {
		s.log.Error("a position could not be kept", "why", err)
		return nil, err
	}
	return apiPlay{p.ID, p.Position, p.Watched}, nil
}
