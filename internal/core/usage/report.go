package usage

import (
	"cmp"
	"slices"
	"time"
)

// Report is what was watched in a month, by the house or by one member.
type Report struct {
	Month   time.Time `json:"month_begins_at"`
	Member  string    `json:"member,omitempty"` // empty for the house
	Watched float64   `json:"watched"`          // seconds
	Before  float64   `json:"watched_before"`   // in the month before
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

// MakeReport makes a report of plays, of which it needs those of the month and of the month before; ever are all
// that the house ever played, by shelf and title, and titles is what is on the shelves.
func MakeReport(plays []Play, member string, month time.Time, ever map[[2]string]bool, titles []TitleSeen) Report {
	from, to := Month(month)
	earlier, _ := Month(from.AddDate(0, 0, -1))
	within := func(begin, end time.Time) []Play {
		return slices.DeleteFunc(slices.Clone(plays), func(p Play) bool {
			return p.Started.Before(begin) ||
				!p.Started.Before(end)
		})
	}
	now, before := within(from, to), within(earlier, from)
	zone := month.Location()
	r := Report{Month: from, Member: member, Plays: len(now), Heat: [][]float64{}, Titles: TopTitles(now, reportRows),
		Members: TopMembers(now, 0), Converted: []Costly{}, Arrived: []TitleSeen{}, Unseen: []TitleSeen{}, Ended: []Rank{}}
	for _, p := range now {
		r.Watched += p.Watched
		r.Bytes += p.Bytes
		if p.Done {
			r.Done++
		}
	}
	for _, p := range before {
		r.Before += p.Watched
	}
	asked := Asked{By: ByDay, Of: OfWatched, From: from, To: to.Add(-time.Nanosecond), Zone: zone}
	r.Days = Chart(now, asked)
	asked.Of = OfStreams
	for _, c := range Chart(now, asked) {
		r.Peak = max(r.Peak, c.Value)
	}
	for _, day := range Heat(now, OfWatched, zone) {
		r.Heat = append(r.Heat, slices.Clone(day[:]))
	}
	earlierTitles := TopTitles(before, 0)
	Compare(r.Titles, earlierTitles)
	Compare(r.Members, TopMembers(before, 0))
	for _, t := range Sort(TopTitles(now, 0), ByTime, 0) {
		if t.Done > 0 && len(r.Ended) < 2*reportRows {
			r.Ended = append(r.Ended, t)
		}
	}
	r.Converted = costly(now)
	for _, t := range titles {
		if !t.Added.Before(from) && t.Added.Before(to) {
			r.Arrived = append(r.Arrived, t)
		}
		if member == "" && t.Added.Before(to) && !ever[[2]string{t.Shelf, t.Name}] {
			r.Unseen = append(r.Unseen, t)
		}
	}
	order := func(a, b TitleSeen) int { return cmp.Or(a.Added.Compare(b.Added), cmp.Compare(a.Name, b.Name)) }
	slices.SortFunc(r.Unseen, order)
	slices.SortFunc(r.Arrived, func(a, b TitleSeen) int { return order(b, a) })
	r.UnseenAll = len(r.Unseen)
	r.Unseen, r.Arrived = r.Unseen[:min(reportRows, len(r.Unseen))], r.Arrived[:min(2*reportRows, len(r.Arrived))]
	return r
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
