// Package api is the API that is published under /api/v1, as openapi.json describes it. Its
// documents are types of their own; rows of the store are turned into them here.
package api

import (
	_ "embed" // the description of the API
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// API answers members' programs.
type API struct {
	*live.Server
	figuring chan struct{} // places of those whose figures are being made
}

// New makes the API of a server.
func New(s *live.Server) *API { return &API{s, make(chan struct{}, figuresAtOnce)} }

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
	m.HandleFunc("POST /api/v1/pairing", s.pair)
	m.HandleFunc("POST /api/v1/token", s.token)
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

		"POST /api/v1/files/{file}/plays": live.Answer(s.tellPlay),

		"POST /api/v1/files/{file}/together": live.Answer(s.openRoom),
		"GET /api/v1/together/{room}":        live.Answer(s.room),
		"PUT /api/v1/together/{room}":        live.Answer(s.inRoom),
		"GET /api/v1/together/{room}/events": s.roomEvents,

		"GET /api/v1/files/{file}/sofa": live.Answer(s.sofa),
		"PUT /api/v1/files/{file}/sofa": live.Answer(s.sit),

		"GET /api/v1/files/{file}/subtitles/{name}": s.subtitle,
		"POST /api/v1/files/{file}/delivery":        live.Answer(s.delivery),
		"GET /api/v1/files/{file}/prepared":         live.Answer(s.prepared),
		"POST /api/v1/files/{file}/prepared":        live.Answer(s.prepare),
		"GET /api/v1/prepared/{copy}/content":       s.preparedContent,
	} {
		m.HandleFunc(pattern, s.SignedIn(h))
	}
	m.HandleFunc("GET /api/v1/streams/{ticket}/{name}", s.stream)
	for pattern, h := range map[string]func(*http.Request) (any, error){"now": s.figuresNow, "history": s.figuresHistory,
		"top": s.figuresTop, "chart": s.figuresChart, "heat": s.figuresHeat, "report": s.figuresReport,
		"forecast": s.figuresForecast} {
		m.HandleFunc("GET /api/v1/figures/"+pattern, s.WithKey(right.ReadFigures, true, live.Answer(s.figured(h))))
	}
	m.HandleFunc("GET /api/v1/figures/library", s.WithKey(right.ReadLibrary, false,
		live.Answer(s.figured(s.figuresLibrary))))
	m.HandleFunc("POST /api/v1/streams/{ticket}/stop", s.WithKey(right.ControlStreams, false, live.Answer(s.stopStream)))
	s.uploads(m)
	m.HandleFunc("/api/", func(w http.ResponseWriter, r *http.Request) {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "there is nothing at this address",
			Where: r.Method + " " + r.URL.Path, Fix: "see /api/v1/openapi.json"}, Status: http.StatusNotFound, Wait: 0})
	})
}

func (s *API) apiSignIn(r *http.Request) (any, error) {
	var in struct{ Name, Password, Code, Device string }
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	token, m, err := s.SignIn(r, in.Name, in.Password, in.Code, in.Device, store.ForProgram)
	var wanted *live.SecondWanted
	if errors.As(err, &wanted) {
		return nil, &live.StatusError{Problem: &problem.Problem{What: "a code of the second factor is wanted",
			Why: "the member has set one up", Fix: "send it as code, with name and password"},
			Status: http.StatusUnauthorized}
	}
	if err != nil {
		return nil, err
	}
	return apiToken{Token: token, Member: m.Name,
		Expires: time.Now().Add(live.Stays[store.ForProgram].Slides).UTC().Truncate(time.Second)}, nil
}

func (s *API) apiSignOut(r *http.Request) (any, error) {
	if live.VisitorOf(r).Device.Screen != 0 {
		return nil, &live.StatusError{Problem: &problem.Problem{What: "this is a screen for several",
			Why: "one stays until somebody else is picked", Fix: "pick who it is at /who"}, Status: http.StatusForbidden}
	}
	if err := s.Store.RemoveDevice(r.Context(), live.VisitorOf(r).Device.ID); err != nil {
		return nil, err
	}
	return map[string]bool{"signed_out": true}, nil
}

func me(v *live.Visitor) apiMember {
	return apiMember{Name: v.Member.Name, Role: v.Member.Role, Away: v.Away, Device: v.Device.Name}
}

func (s *API) apiShelves(r *http.Request) (any, error) {
	list, err := s.ShelvesOf(r)
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
	if s.Shelves[name] == nil || !live.VisitorOf(r).Member.Allowed.Sees(name) {
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
			Usable: !live.SeesAll(r), Sight: s.SightOf(live.VisitorOf(r).Member)})
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
	if errors.Is(err, stream.ErrMany) {
		return nil, s.TooMany(r)
	}
	if err != nil {
		s.Log.Error("a position could not be kept", "why", err)
		return nil, err
	}
	out := apiPlay{Play: p.ID, Position: p.Position, Watched: p.Watched, Allowed: true}
	if f.Content == string(naming.Picture) {
		return out, nil
	}
	v, err := s.Lasts(r, f.ID)
	if err != nil {
		s.Log.Error("it cannot be told how long somebody may watch", "why", err)
		return out, nil // the position is kept
	}
	out.Allowed, out.Until, out.Reason = v.OK, v.Until, string(v.Reason)
	sofa, err := s.TimesOnSofa(r.Context(), p.Sofa)
	if err != nil {
		s.Log.Error("it cannot be told how long those on a sofa may watch", "why", err)
	}
	for _, x := range sofa {
		out.Sofa = append(out.Sofa, apiSeat{x.Name, x.Verdict.OK, x.Verdict.Until, string(x.Verdict.Reason)})
	}
	return out, nil
}

// tellPlay notes a play that a device tells of afterwards.
func (s *API) tellPlay(r *http.Request) (any, error) {
	var in apiTold
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	t, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	p, err := s.TellPlay(r, t, f, live.Told(in))
	return apiPlay{Play: p.ID, Position: p.Position, Watched: p.Watched, Allowed: true}, err
}
