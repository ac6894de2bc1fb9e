// Package api is the API that is published under /api/v1, as openapi.json describes it. Its
// documents are types of their own; rows of the store are turned into them here.
package api

import (
	_ "embed" // the description of the API
	"fmt"
	"net/http"
	"strconv"
	"time"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// API answers members' programs.
type API struct{ *live.Server }

//go:embed openapi.json
var openAPIDocument []byte

func openAPI(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(openAPIDocument) // the client has gone, if this fails
}

// apiRoutes adds the API to the published port.
func (s *API) Routes(m *http.ServeMux) {
	m.HandleFunc("GET /api/v1/openapi.json", openAPI)
	m.HandleFunc("POST /api/v1/sign-in", live.Answer(s.apiSignIn))
	for pattern, h := range map[string]http.HandlerFunc{
		"POST /api/v1/sign-out": live.Answer(s.apiSignOut),
		"GET /api/v1/me": live.Answer(func(r *http.Request) (any,
			error) {
			return me(live.VisitorOf(r)), nil
		}),
		"GET /api/v1/shelves":                live.Answer(s.apiShelves),
		"GET /api/v1/shelves/{shelf}/titles": live.Answer(s.apiTitles),
		"GET /api/v1/titles/{title}":         live.Answer(s.apiTitle),
		"GET /api/v1/search":                 live.Answer(s.apiSearch),
		"GET /api/v1/files/{file}":           live.Answer(s.apiFile),
		"GET /api/v1/files/{file}/content":   s.content,
		"PUT /api/v1/files/{file}/position":  live.Answer(s.apiPosition),

		"GET /api/v1/files/{file}/subtitles/{name}": s.subtitle,
		"POST /api/v1/files/{file}/delivery":        live.Answer(s.delivery),
		"GET /api/v1/files/{file}/prepared":         live.Answer(s.prepared),
		"POST /api/v1/files/{file}/prepared":        live.Answer(s.prepare),
		"GET /api/v1/prepared/{copy}/content":       s.preparedContent,
	} {
		m.HandleFunc(pattern, s.SignedIn(h))
	}
	m.HandleFunc("GET /api/v1/streams/{ticket}/{name}", s.stream)
	s.uploads(m)
	m.HandleFunc("/api/", func(w http.ResponseWriter, r *http.Request) {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "there is nothing at this address",
			Where: r.Method + " " + r.URL.Path, Fix: "see /api/v1/openapi.json"}, Status: http.StatusNotFound, Wait: 0})
	})
}

func (s *API) apiSignIn(r *http.Request) (any, error) {
	var in struct{ Name, Password, Device string }
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	token, m, err := s.SignIn(r, in.Name, in.Password, in.Device, store.ForProgram)
	if err != nil {
		return nil, err
	}
	return apiToken{Token: token, Member: m.Name,
		Expires: time.Now().Add(live.Stays[store.ForProgram].Slides).UTC().Truncate(time.Second)}, nil
}

func (s *API) apiSignOut(r *http.Request) (any, error) {
	if err := s.Store.RemoveDevice(r.Context(), live.VisitorOf(r).Device.ID); err != nil {
		return nil, err
	}
	return map[string]bool{"signed_out": true}, nil
}

func me(v *live.Visitor) apiMember {
	return apiMember{Name: v.Member.Name, Role: v.Member.Role, Away: v.Away, Device: v.Device.Name}
}

func (s *API) apiShelves(r *http.Request) (any, error) {
	list, err := s.ShelfList(r.Context())
	if err != nil {
		return nil, err
	}
	out := []apiShelf{}
	for _, sh := range list {
		out = append(out, apiShelf{Name: sh.Name, Kind: sh.Kind, Titles: sh.Titles, Files: sh.Files,
			Duration: sh.Duration, Size: sh.Size, Unplugged: len(sh.Unplugged) > 0})
	}
	return out, nil
}

func (s *API) apiTitles(r *http.Request) (any, error) {
	name := r.PathValue("shelf")
	if s.Shelves[name] == nil {
		return nil, live.Nothing(r)
	}
	limit := onAnswer
	if text := r.URL.Query().Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostOnAnswer {
			return nil, live.UsageProblem("the limit cannot be taken",
				fmt.Sprintf("%q is no number from 1 to %d", text, mostOnAnswer), "leave it out, or give one")
		}
		limit = n
	}
	page, err := s.Store.TitlePage(r.Context(),
		store.Wanted{Shelf: name, At: store.PlaceOf(r.URL.Query().Get("from")), Limit: limit,
			Usable: !live.SeesAll(r)})
	if err != nil {
		return nil, err
	}
	if page.Next == nil {
		return apiTitles{Titles: titlesOf(page.Titles)}, nil
	}
	return apiTitles{Titles: titlesOf(page.Titles), Next: page.Next.String()}, nil
}

// How many titles an answer holds, where it is not said, and at most.
const (
	onAnswer     = 100
	mostOnAnswer = 1000
)

func (s *API) apiTitle(r *http.Request) (any, error) {
	t, files, err := s.TitleOf(r)
	out := apiWhole{apiTitle: titleOf(t), Files: make([]apiFile, 0, len(files))}
	for _, f := range files {
		out.Files = append(out.Files, fileOf(f))
	}
	return out, err
}

func (s *API) apiSearch(r *http.Request) (any, error) {
	hits, err := s.Search(r)
	return hitsOf(hits), err
}

func (s *API) apiFile(r *http.Request) (any, error) {
	_, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	out := fileOf(f)
	out.Chapters, out.Loudness, err = s.Findings(r.Context(), f.ID)
	return out, err
}

func (s *API) apiPosition(r *http.Request) (any, error) {
	var in apiPosition
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	t, f, err := s.FileOf(r)
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
		return nil, &live.StatusError{Problem: &problem.Problem{What: "the position cannot be taken", Why: bad,
			Fix: "see /api/v1/openapi.json"}, Status: http.StatusBadRequest, Wait: 0}
	}
	p, err := s.Tracker.Report(r.Context(), live.VisitorOf(r).Viewer(), t, f, in.Position, in.State == "stopped")
	if err != nil {
		s.Log.Error("a position could not be kept", "why", err)
		return nil, err
	}
	return apiPlay{Play: p.ID, Position: p.Position, Watched: p.Watched}, nil
}
