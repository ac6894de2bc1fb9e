package api

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// Bounds of what figures are made of.
const (
	onHistory     = 50 // plays in one answer, where no other number is asked for
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

// apiReport is a report of a month, without what is on the shelves: that is the library's.
type apiReport struct {
	Month     time.Time      `json:"month_begins_at"`
	Member    string         `json:"member,omitempty"` // empty for the house
	Watched   float64        `json:"watched"`          // seconds
	Before    float64        `json:"watched_before"`   // in the month before
	Plays     int            `json:"plays"`
	Done      int            `json:"done"` // seen to the end
	Bytes     int64          `json:"bytes"`
	Peak      float64        `json:"streams"` // most at once
	Days      []usage.Column `json:"days"`
	Heat      [][]float64    `json:"heat"` // by weekday, from Monday on, and hour
	Titles    []usage.Rank   `json:"titles"`
	Members   []usage.Rank   `json:"members"`
	Ended     []usage.Rank   `json:"finished"`
	Converted []usage.Costly `json:"converted"`
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

// chosen reads a choice of plays, of those that whoever asks may see.
func (s *API) chosen(r *http.Request, q url.Values) (usage.Filter, error) {
	f, err := usage.ReadFilter(q)
	if err != nil {
		return f, live.UsageProblem("the plays cannot be chosen", err.Error(), "see /api/v1/openapi.json")
	}
	if err := s.whose(r, &f); err != nil {
		return f, err
	}
	return f, s.Choose(&f)
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
	f, err := s.chosen(r, q)
	if err != nil {
		return nil, err
	}
	if f.Limit == 0 || f.Limit > limit {
		f.Limit = limit
	}
	plays, err := s.Store.Plays(r.Context(), f)
	if errors.Is(err, store.ErrNotFound) {
		return nil, live.UsageProblem(fmt.Sprintf("there is no play %d", f.After), "what comes after it cannot be told",
			"leave after out, and go on from there")
	}
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
	by, err := live.ReadTop(of, q.Get("by"))
	if err != nil {
		return nil, err
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
	f, err := s.chosen(r, q)
	if err != nil {
		return nil, err
	}
	return s.Top(r.Context(), of, by, limit, f)
}

func (s *API) figuresChart(r *http.Request) (any, error) {
	columns, _, err := s.charted(r, r.URL.Query().Get("by"))
	return columns, err
}

// figuresHeat gives a measure by weekday, from Monday on, and hour.
func (s *API) figuresHeat(r *http.Request) (any, error) {
	_, heat, err := s.charted(r, string(usage.ByHeat))
	return heat, err
}

func (s *API) charted(r *http.Request, by string) ([]usage.Column, [][]float64, error) {
	q := r.URL.Query()
	a, err := live.ReadChart(by, q.Get("of"), q.Get("split"))
	if err == nil && a.By == usage.ByHeat && by == q.Get("by") {
		err = live.UsageProblem("the chart cannot be made", "a heat map has no columns",
			"ask /api/v1/figures/heat for it")
	}
	if err != nil {
		return nil, nil, err
	}
	q.Del("limit")
	f, err := s.chosen(r, q)
	if err != nil {
		return nil, nil, err
	}
	return s.Chart(r.Context(), a, f)
}

// figuresForecast tells when disks are full, to whom the house is open.
func (s *API) figuresForecast(r *http.Request) (any, error) {
	if live.VisitorOf(r).Key == nil {
		if err := s.HouseOpen(r); err != nil {
			return nil, live.Nothing(r)
		}
	}
	return s.Forecasts(r.Context())
}

// figuresReport gives the report of a month.
func (s *API) figuresReport(r *http.Request) (any, error) {
	q := r.URL.Query()
	month := time.Now().In(s.Zone)
	if text := q.Get("month"); text != "" {
		var err error
		if month, err = time.ParseInLocation("2006-01", text, s.Zone); err != nil {
			return nil, live.UsageProblem("the report cannot be made", fmt.Sprintf("%q is no month", text),
				"name one such as 2026-10, or leave it out for this one")
		}
	}
	f := usage.Filter{Member: q.Get("member")}
	if err := s.whose(r, &f); err != nil {
		return nil, err
	}
	m, _, err := s.Report(r.Context(), f.Member, f.Since, month)
	return apiReport{Month: m.Month, Member: m.Member, Watched: m.Watched, Before: m.Before, Plays: m.Plays,
		Done:  m.Done,
		Bytes: m.Bytes, Peak: m.Peak, Days: m.Days, Heat: m.Heat, Titles: m.Titles, Members: m.Members, Ended: m.Ended,
		Converted: m.Converted}, err
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
