package web

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
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
	page.Weeks = weeksDrawn(usage.Chart(plays, asked))
	page.Heat = heatDrawn(usage.Heat(plays, usage.OfWatched, s.Zone))
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

// weeksDrawn draws a bar for each week, with its figure for whoever points at it.
func weeksDrawn(list []usage.Column) template.HTML {
	const high, wide, gap = 120, 14, 4
	most := 1.0
	for _, c := range list {
		most = max(most, c.Value)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="weeks" viewBox="0 0 %d %d" role="img" aria-label="Hours watched, by week">`,
		len(list)*(wide+gap), high+18)
	month := ""
	for i, c := range list {
		x := i * (wide + gap)
		tall := c.Value / most * high
		fmt.Fprintf(&b, `<rect x="%d" y="%.1f" width="%d" height="%.1f" rx="2"><title>%s: %s</title></rect>`, x,
			high-max(tall, 1), wide,
			max(tall, 1), c.Name, clock(c.Value))
		if m := c.Begins.Format("Jan"); m != month {
			if month != "" {
				fmt.Fprintf(&b, `<text x="%d" y="%d">%s</text>`, x, high+14, m)
			}
			month = m
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}

// heatDrawn draws hours of weekdays, the darker the more was watched.
func heatDrawn(heat [7][24]float64) template.HTML {
	const cell, left, top = 22, 42, 18
	most := 1.0
	for _, day := range heat {
		for _, v := range day {
			most = max(most, v)
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="heat" viewBox="0 0 %d %d" role="img" aria-label="Hours watched, by weekday and hour">`,
		left+24*cell,
		top+7*cell)
	for h := 0; h < 24; h += 3 {
		fmt.Fprintf(&b, `<text x="%d" y="12">%02d</text>`, left+h*cell, h)
	}
	for d, day := range heat {
		fmt.Fprintf(&b, `<text x="0" y="%d">%s</text>`, top+d*cell+15, usage.Weekdays[d])
		for h, v := range day {
			fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="3" fill-opacity="%.2f"><title>%s %02d:00: %s</title></rect>`,
				left+h*cell, top+d*cell, cell-3, cell-3, 0.06+0.94*v/most, usage.Weekdays[d], h, clock(v))
		}
	}
	b.WriteString(`</svg>`)
	return template.HTML(b.String())
}
