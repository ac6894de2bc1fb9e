package usage

import (
	"cmp"
	"slices"
	"time"
)

// Report is what was watched in a month, by the house or by one member.
type Report struct {
	Month   time.Time `json:"month_begins_at"`
	Running bool      `json:"running,omitempty"` // the month is not over
	Member  string    `json:"member,omitempty"`  // empty for the house
	Watched float64   `json:"watched"`           // seconds
	Before  float64   `json:"watched_before"`    // in the month before
	Plays   int       `json:"plays"`
	Done    int       `json:"done"` // seen to the end
	Bytes   int64     `json:"bytes"`
	Peak    float64   `json:"streams"` // most at once

	Days    []Column    `json:"days"`
	Heat    [][]float64 `json:"heat"` // by weekday, from Monday on, and hour
	Titles  []Rank      `json:"titles"`
	Members []Rank      `json:"members"`
	Ended   []Rank      `json:"finished"` // titles of which something was seen to the end

	Converted []Costly    `json:"converted"` // what took most work
	Arrived   []TitleSeen `json:"arrived"`
	Unseen    []TitleSeen `json:"unwatched"`     // what nobody has watched yet, the oldest first
	UnseenAll int         `json:"unwatched_all"` // how many there are
}

// TitleSeen is a title of the library, for what is said of it in a report.
type TitleSeen struct {
	Name  string    `json:"name"`
	Shelf string    `json:"shelf"`
	Added time.Time `json:"added_at"`
	Size  int64     `json:"size"`
}

// Costly is a title that had to be converted.
type Costly struct {
	Name    string  `json:"name"`
	Shelf   string  `json:"shelf"`
	Plays   int     `json:"plays"`
	Watched float64 `json:"watched"` // seconds of it that were converted
	Why     string  `json:"why"`     // the reason of the latest
}

// reportRows is how many rows the lists of a report have, at most.
const reportRows = 10

// Month gives when a month begins and when the next one does.
func Month(at time.Time) (from, to time.Time) {
	y, m, _ := at.Date()
	from = time.Date(y, m, 1, 0, 0, 0, 0, at.Location())
	return from, from.AddDate(0, 1, 0)
}

// MonthSums are what a report is made of.
type MonthSums struct {
	Now    *Sums    // of the month, all parts
	Before *Sums    // of the month before: titles, and the few
	Days   []Column // what was watched each day
}

// MakeReport makes a report of a month; converted are the plays of it that were converted.
func MakeReport(m MonthSums, converted []Play, member string, month time.Time) Report {
	from, _ := Month(month)
	all := m.Now.Get(0, DimAll, "")
	r := Report{Month: from, Member: member, Plays: int(all.Plays), Done: int(all.Done), Bytes: all.Bytes,
		Watched: all.of(OfWatched), Before: m.Before.Get(0, DimAll, "").of(OfWatched), Peak: float64(m.Now.Peaks[0]),
		Days: m.Days, Heat: HeatOf(m.Now, OfWatched, Only{}), Converted: costly(converted), Arrived: []TitleSeen{},
		Unseen: []TitleSeen{}, Ended: []Rank{}}
	titles := m.Now.Top("titles", nil, nil)
	for _, t := range titles {
		if t.Done > 0 && len(r.Ended) < 2*reportRows {
			r.Ended = append(r.Ended, t)
		}
	}
	r.Titles, r.Members = titles[:min(reportRows, len(titles))], m.Now.Top("members", nil, nil)
	Compare(r.Titles, m.Before.Top("titles", nil, nil))
	Compare(r.Members, m.Before.Top("members", nil, nil))
	return r
}

// AddShelves adds what arrived in the month, and of the whole house what nobody had watched by its end: ever are the
// works that were, and titles is what is on the shelves.
func (r *Report) AddShelves(ever map[Work]bool, titles []TitleSeen) {
	from, to := Month(r.Month)
	for _, t := range titles {
		if !t.Added.Before(from) && t.Added.Before(to) {
			r.Arrived = append(r.Arrived, t)
		}
		if r.Member == "" && t.Added.Before(to) && !ever[Work{t.Shelf, t.Name}] {
			r.Unseen = append(r.Unseen, t)
		}
	}
	order := func(a, b TitleSeen) int { return cmp.Or(a.Added.Compare(b.Added), cmp.Compare(a.Name, b.Name)) }
	slices.SortFunc(r.Unseen, order)
	slices.SortFunc(r.Arrived, func(a, b TitleSeen) int { return order(b, a) })
	r.UnseenAll = len(r.Unseen)
	r.Unseen, r.Arrived = r.Unseen[:min(reportRows, len(r.Unseen))], r.Arrived[:min(2*reportRows, len(r.Arrived))]
}

// costly gives the titles of which most had to be converted.
func costly(plays []Play) []Costly {
	of := map[[2]string]*Costly{}
	latest := map[[2]string]time.Time{}
	for _, p := range plays {
		if p.Delivery != Deliveries[2] {
			continue
		}
		key := [2]string{p.Shelf, p.Title}
		if of[key] == nil {
			of[key] = &Costly{Name: p.Title, Shelf: p.Shelf}
		}
		of[key].Plays++
		of[key].Watched += p.Watched
		if !p.Started.Before(latest[key]) {
			latest[key], of[key].Why = p.Started, p.Why
		}
	}
	out := []Costly{}
	for _, c := range of {
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Costly) int {
		return cmp.Or(cmp.Compare(b.Watched, a.Watched), cmp.Compare(a.Shelf, b.Shelf), cmp.Compare(a.Name, b.Name))
	})
	return out[:min(reportRows, len(out))]
}
