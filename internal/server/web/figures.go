package web

import (
	"errors"
	"html/template"
	"net/http"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// figuresPage shows what was watched within a year: by one member, or in the house.
type figuresPage struct {
	Frame
	Whose          string // empty for the whole house
	Own            bool
	Watched        string
	Plays          int
	Done           int
	Weeks, Heat    template.HTML
	Titles, People []figure
}

// figure is a row of a top list.
type figure struct {
	Name, Shelf, Watched string
	Plays                int
	Part, Whole          float64 // of the longest, for its bar
}

const (
	figuresOf    = 365 * 24 * time.Hour
	listedTitles = 10
)

// figuresOwn shows a member what they watched, and an adult at home what a child did.
func (s *Web) figuresOwn(w http.ResponseWriter, r *http.Request) error {
	m := live.VisitorOf(r).Member
	if name := r.PathValue("name"); name != "" && store.Fold(name) != store.Fold(m.Name) {
		child, err := s.Store.Member(r.Context(), name)
		if errors.Is(err, store.ErrNotFound) || err == nil && (child.Role != allowance.Child || !live.MayGrant(r)) {
			return live.Nothing(r)
		}
		if err != nil {
			return err
		}
		m = child
	}
	return s.showFigures(w, r, m.Name, m.Created)
}

// figuresHouse shows administrators what was watched in the house.
func (s *Web) figuresHouse(w http.ResponseWriter, r *http.Request) error {
	return s.showFigures(w, r, "", time.Time{})
}

func (s *Web) showFigures(w http.ResponseWriter, r *http.Request, whose string, created time.Time) error {
	v, now := live.VisitorOf(r), time.Now().In(s.Zone)
	f := usage.Filter{Member: whose, Since: now.Add(-figuresOf), Until: now}
	if created.After(f.Since) {
		f.Since = created // what an earlier member of that name watched is not theirs
	}
	sums, err := s.Store.Sums(r.Context(), f, usage.PartAll)
	if err != nil {
		return err
	}
	weeks, _, err := s.Chart(r.Context(), usage.Asked{By: usage.ByWeek, Of: usage.OfWatched}, f)
	if err != nil {
		return err
	}
	all := sums.Get(0, usage.DimAll, "")
	page := figuresPage{Frame: s.Frame(v, "What was watched", "own"), Whose: whose,
		Own: store.Fold(whose) == store.Fold(v.Member.Name), Plays: int(all.Plays),
		Done: int(all.Done), Watched: clock(float64(all.Watched) / 1000)}
	if whose == "" {
		page.Here = "house"
	}
	page.Weeks = template.HTML(usage.DrawBars(weeks, "Hours watched, by week", clock))
	page.Heat = template.HTML(usage.DrawHeat(usage.HeatOf(sums, usage.OfWatched, usage.Only{}),
		"Hours watched, by weekday and hour", clock))
	page.Titles = figuresIn(usage.Sort(sums.Top("titles", nil, nil), usage.ByTime, listedTitles))
	if whose == "" {
		page.People = figuresIn(sums.Top("members", nil, nil))
	}
	s.Show(w, http.StatusOK, "figures", page)
	return nil
}

func figuresIn(list []usage.Rank) (out []figure) {
	most := 0.0
	for _, r := range list {
		most = max(most, r.Watched)
	}
	for _, r := range list {
		out = append(out, figure{Name: r.Name, Shelf: r.Shelf, Watched: clock(r.Watched), Plays: r.Plays, Part: r.Watched,
			Whole: most})
	}
	return out
}
