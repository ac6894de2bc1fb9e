package api

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// Bounds of what figures are made of.
const (
	mostFigured   = 100_000 // plays
	onHistory     = 50      // plays in one answer, where no other number is asked for
	mostOnHistory = 1000
	figuresAtOnce = 2 // for all who ask
)

// apiWatched is a play as other systems see it: without addresses, which are nobody's business but the server's.
type apiWatched struct {
	ID       int64     `json:"id"`
	Members  []string  `json:"members"` // all who watched; empty where that was forgotten
	Shelf    string    `json:"shelf"`
	Title    string    `json:"title"`
	Part     string    `json:"part,omitempty"`
	Device   string    `json:"device,omitempty"`
	Where    string    `json:"where"` // home or away
	Started  time.Time `json:"started_at"`
	Ended    time.Time `json:"ended_at,omitzero"`
	Position float64   `json:"position"`
	Duration float64   `json:"duration"`
	Watched  float64   `json:"watched"`
	Bytes    int64     `json:"bytes"`
	Done     bool      `json:"done"`
	Delivery string    `json:"delivery,omitempty"`
	Why      string    `json:"why,omitempty"`
}

func watchedOf(p usage.Play) apiWatched {
	out := apiWatched{ID: p.ID, Members: append([]string{}, p.Viewers()...), Shelf: p.Shelf, Title: p.Title, Part: p.Part,
		Device: p.Device, Where: string(usage.AtHome), Started: p.Started.UTC(), Position: p.Position, Duration: p.Duration,
		Watched: p.Watched, Bytes: p.Bytes, Done: p.Done, Delivery: p.Delivery, Why: p.Why}
	if p.Away {
		out.Where = string(usage.Away)
	}
	if !p.Ended.IsZero() {
		out.Ended = p.Ended.UTC()
	}
	return out
}

// whose bounds a choice of plays to what whoever asks may see: a key and an administrator who sees to the house all
// of them, other members their own.
func (s *API) whose(r *http.Request, f *usage.Filter) error {
	v := live.VisitorOf(r)
	if v.Key != nil {
		return nil
	}
	own := store.Fold(v.Member.Name)
	if f.Member == "" || store.Fold(f.Member) != own {
		if s.HouseOpen(r) == nil {
			return nil
		}
		if f.Member != "" {
			return live.Nothing(r)
		}
	}
	f.Member = v.Member.Name
	if m, err := s.Store.Member(r.Context(), v.Member.Name); err == nil && m.Created.After(f.Since) {
		f.Since = m.Created // what an earlier member of that name watched is not theirs
	}
	return nil
}

// chosen gives the plays that a question chooses, of those that whoever asks may see.
func (s *API) chosen(r *http.Request, q url.Values, limit int) ([]usage.Play, usage.Filter, error) {
	f, err := usage.ReadFilter(q)
	if err != nil {
		return nil, f, live.UsageProblem("the plays cannot be chosen", err.Error(), "see /api/v1/openapi.json")
	}
	if f.Limit == 0 || f.Limit > limit {
		f.Limit = limit
	}
	if err := s.whose(r, &f); err != nil {
		return nil, f, err
	}
	plays, err := s.Store.Plays(r.Context(), f)
	if len(plays) == mostFigured {
		return nil, f, live.UsageProblem("these are too many plays for one answer", fmt.Sprintf("it is made of %d at most",
			mostFigured-1), "choose a shorter time: since= and until=")
	}
	if errors.Is(err, store.ErrNotFound) {
		err = live.UsageProblem(fmt.Sprintf("there is no play %d", f.After), "what comes after it cannot be told",
			"leave after out, and go on from there")
	}
	return plays, f, err
}

// figured has at most a few answers with figures made at a time: they take memory.
func (s *API) figured(do func(*http.Request) (any, error)) func(*http.Request) (any, error) {
	places := s.figuring
	return func(r *http.Request) (any, error) {
		select {
		case places <- struct{}{}:
			defer func() { <-places }()
		case <-r.Context().Done():
			return nil, r.Context().Err()
		}
		return do(r)
	}
}

func (s *API) figuresNow(r *http.Request) (any, error) {
	return s.listed(r, url.Values{"now": {"true"}}, mostOnHistory)
}

func (s *API) figuresHistory(r *http.Request) (any, error) {
	q := r.URL.Query()
	if q.Get("limit") == "" {
		q.Set("limit", strconv.Itoa(onHistory))
	}
	return s.listed(r, q, mostOnHistory)
}

func (s *API) listed(r *http.Request, q url.Values, limit int) (any, error) {
	plays, _, err := s.chosen(r, q, limit)
	if err != nil {
		return nil, err
	}
	out := make([]apiWatched, len(plays))
	for i, p := range plays {
		out[i] = watchedOf(p)
	}
	return out, nil
}

func (s *API) figuresTop(r *http.Request) (any, error) {
	q := r.URL.Query()
	of := q.Get("of")
	by := usage.Order(q.Get("by"))
	if by == "" {
		by = usage.ByTime
	}
	limit := 10
	if text := q.Get("limit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 || n > mostOnHistory {
			return nil, live.UsageProblem("the limit cannot be taken",
				fmt.Sprintf("%q is no number from 1 to %d", text, mostOnHistory), "leave it out, or give one")
		}
		limit = n
		q.Del("limit")
	}
	if !slices.Contains(usage.Tops, of) || !slices.Contains(usage.Orders, by) {
		return nil, live.UsageProblem("the list cannot be made",
			"of= is titles, members, devices, platforms, people or genres, and by= is time, plays or members",
			"see /api/v1/openapi.json")
	}
	plays, _, err := s.chosen(r, q, mostFigured)
	if err != nil {
		return nil, err
	}
	var works map[usage.Work]usage.Known
	if usage.NeedsWorks(of) {
		if works, err = s.WorksOf(r.Context(), plays); err != nil {
			return nil, err
		}
	}
	list := usage.Sort(usage.Top(of, plays, works), by, limit)
	if list == nil {
		list = []usage.Rank{}
	}
	return list, nil
}

// groups are by what a chart is split.
var groups = map[string]func(usage.Play) string{"": nil, "member": func(p usage.Play) string { return p.Member },
	"shelf": func(p usage.Play) string { return p.Shelf }, "delivery": func(p usage.Play) string { return p.Delivery }}

func (s *API) figuresChart(r *http.Request) (any, error) {
	q := r.URL.Query()
	a := usage.Asked{By: usage.By(q.Get("by")), Of: usage.Of(q.Get("of")), Zone: s.Zone, To: time.Now().In(s.Zone)}
	if a.By == "" {
		a.By = usage.ByDay
	}
	if a.Of == "" {
		a.Of = usage.OfWatched
	}
	group, ok := groups[q.Get("split")]
	if !ok || !slices.Contains(usage.Bys, a.By) || !slices.Contains(usage.Ofs, a.Of) || a.By == usage.ByHeat {
		return nil, live.UsageProblem("the chart cannot be made",
			"by= is day, week, month, hour or weekday; of= is watched, "+
				"plays, streams or bytes; split= is member, shelf or delivery", "see /api/v1/openapi.json")
	}
	a.Group = group
	q.Del("limit")
	plays, f, err := s.chosen(r, q, mostFigured)
	if err != nil {
		return nil, err
	}
	if a.From = f.Since; !f.Since.IsZero() {
		a.From = f.Since.In(s.Zone)
	}
	if !f.Until.IsZero() {
		a.To = f.Until.In(s.Zone)
	}
	out := usage.Chart(plays, a)
	if out == nil {
		out = []usage.Column{}
	}
	return out, nil
}

func (s *API) figuresLibrary(r *http.Request) (any, error) {
	l, err := s.Store.Library(r.Context(), 12)
	if err != nil {
		return nil, err
	}
	list, err := s.ShelfList(r.Context())
	if err != nil {
		return nil, err
	}
	out := apiLibrary{Shelves: []apiShelf{}, Lately: []apiTitle{}}
	for _, sh := range list {
		out.Shelves = append(out.Shelves, apiShelf{Name: sh.Name, Kind: sh.Kind, Titles: sh.Titles, Files: sh.Files,
			Duration: sh.Duration, Size: sh.Size, Unplugged: len(sh.Unplugged) > 0})
	}
	for _, t := range l.Lately {
		out.Lately = append(out.Lately, titleOf(t))
	}
	return out, nil
}

// stopStream ends a stream for a key.
func (s *API) stopStream(r *http.Request) (any, error) {
	id, err := live.Number(r, "ticket")
	if err != nil {
		return nil, err
	}
	var in struct {
		Say string `json:"say"`
	}
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	if err := s.StopStream(r.Context(), id, in.Say, "key "+live.VisitorOf(r).Key.Name); err != nil {
		return nil, err
	}
	return map[string]int64{"stopped": id}, nil
}
