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
	mostFigured  = 100_000 // plays that a page of figures is made of
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
	f := usage.Filter{Member: whose, Since: now.Add(-figuresOf), Limit: mostFigured}
	if created.After(f.Since) {
		f.Since = created // what an earlier member of that name watched is not theirs
	}
	plays, err := s.Store.Plays(r.Context(), f)
	if err != nil {
		return err
	}
	page := figuresPage{Frame: s.Frame(v, "What was watched", "own"), Whose: whose,
		Own: store.Fold(whose) == store.Fold(v.Member.Name), Plays: len(plays)}
	if whose == "" {
		page.Here = "house"
	}
	watched := 0.0
	for _, p := range plays {
		watched += p.Watched
		if p.Done {
			page.Done++
		}
	}
	page.Watched = clock(watched)
	asked := usage.Asked{By: usage.ByWeek, Of: usage.OfWatched, From: now.Add(-figuresOf), To: now, Zone: s.Zone}
	page.Weeks = template.HTML(usage.DrawBars(usage.Chart(plays, asked), "Hours watched, by week", clock))
	page.Heat = template.HTML(usage.DrawHeat(usage.Heat(plays, usage.OfWatched, s.Zone),
		"Hours watched, by weekday and hour", clock))
	page.Titles = figuresIn(usage.TopTitles(plays, listedTitles))
	if whose == "" {
		page.People = figuresIn(usage.TopMembers(plays, 0))
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
