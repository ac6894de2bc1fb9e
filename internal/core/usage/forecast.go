package usage

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Disk is one on which shelves lie.
type Disk struct {
	Name    string   `json:"name"` // where it is mounted
	Free    int64    `json:"free"`
	Total   int64    `json:"total"`
	Shelves []string `json:"shelves"`
}

// Stored is a file that arrived on a shelf.
type Stored struct {
	Title  int64
	Name   string // of the title
	Shelf  string
	Same   string // what tells it from the other parts of its title
	Added  time.Time
	Size   int64
	Length float64 // seconds
	Lines  int     // of its picture, in pixels; 0 for none
}

// Forecast is when a disk is full, if it goes on as it does.
type Forecast struct {
	Disk
	Days  int     `json:"days"`  // of arrivals that it goes by; 0 where they are too few
	Daily float64 `json:"daily"` // bytes a day that arrive
	Least float64 `json:"daily_least"`
	Most  float64 `json:"daily_most"` // nine times of ten it is between these two
	// Full is when it is full; Early and Late by the two. Zero is beyond what can be said.
	Full  time.Time `json:"full_at,omitzero"`
	Early time.Time `json:"earliest_at,omitzero"`
	Late  time.Time `json:"latest_at,omitzero"`
}

// Frees is something that would free room, and why one might let it go.
type Frees struct {
	Name  string `json:"name"`
	Shelf string `json:"shelf"`
	Bytes int64  `json:"bytes"`
	Why   Reason `json:"why"`
	Files int    `json:"files"`
}

// Reason is why one might let something go.
type Reason string

// The reasons.
const (
	SeenLongAgo Reason = "seen"      // whoever began it saw it to the end, and nobody has watched it for half a year
	NeverSeen   Reason = "unwatched" // nobody has watched it, and it is here for two years
	Twice       Reason = "twice"     // the same part is there more than once
	TooLarge    Reason = "large"     // it has three times as many bytes a second as others of its size of picture
)

// Bounds of a forecast.
const (
	leastDays   = 14 // of arrivals, below which nothing is said
	mostDaysAgo = 180
	leastWindow = 7 // days
	mostWindow  = 28
	farAhead    = 10 * 365 * 24 * time.Hour
	longAgo     = 182 * 24 * time.Hour
	longHere    = 2 * 365 * 24 * time.Hour
	tooMany     = 3.0 // times the bytes a second of others
	fewOthers   = 5   // files, below which nothing is said of what is usual
)

// Foretell says when a disk is full, from what arrived on it: by the median of what arrived within each window of a
// quarter of the time, four weeks at most, which a single great arrival does not bend. What was there when the shelves
// were looked at first did not arrive.
func Foretell(d Disk, files []Stored, now time.Time) Forecast {
	out := Forecast{Disk: d}
	files = slices.DeleteFunc(slices.Clone(files), func(f Stored) bool {
		return !slices.Contains(d.Shelves, f.Shelf) || f.Added.After(now)
	})
	if len(files) == 0 {
		return out
	}
	first := map[string]time.Time{}
	for _, f := range files {
		if at, ok := first[f.Shelf]; !ok || f.Added.Before(at) {
			first[f.Shelf] = f.Added
		}
	}
	begin := now
	for _, at := range first {
		if at.Before(begin) {
			begin = at
		}
	}
	const day = 24 * time.Hour
	begin = begin.Add(day)
	if earliest := now.Add(-mostDaysAgo * day); begin.Before(earliest) {
		begin = earliest
	}
	n := int(now.Sub(begin) / day)
	if n < leastDays {
		return out
	}
	arrived := make([]float64, n+1)
	for _, f := range files {
		if f.Added.Sub(first[f.Shelf]) < day || f.Added.Before(begin) {
			continue
		}
		arrived[min(n, int(f.Added.Sub(begin)/day))] += float64(f.Size)
	}
	sum := make([]float64, n+1)
	for i, v := range arrived {
		sum[i] = v
		if i > 0 {
			sum[i] += sum[i-1]
		}
	}
	window := max(leastWindow, min(mostWindow, n/4))
	var rates []float64
	for i := 0; i+window <= n; i++ {
		rates = append(rates, (sum[i+window]-sum[i])/float64(window))
	}
	slices.Sort(rates)
	at := func(part float64) float64 { return rates[int(math.Round(part*float64(len(rates)-1)))] }
	out.Days, out.Daily, out.Least, out.Most = n, at(0.5), at(0.05), at(0.95)
	full := func(daily float64) time.Time {
		if daily <= 0 || float64(d.Free)/daily > farAhead.Hours()/24 {
			return time.Time{}
		}
		return now.Add(time.Duration(float64(d.Free) / daily * float64(day)))
	}
	out.Full, out.Early, out.Late = full(out.Daily), full(out.Most), full(out.Least)
	return out
}

// fillsWithin is how soon a disk is full that somebody should know of.
const fillsWithin = 30 * 24 * time.Hour

// Soon reports whether a disk is full so soon that somebody should know of it.
func (f Forecast) Soon(now time.Time) bool { return !f.Full.IsZero() && f.Full.Sub(now) < fillsWithin }

// Watched is how a title was watched.
type Watched struct {
	Shelf  string `json:"shelf"`
	Title  string `json:"title"`
	Lately bool   `json:"lately"` // within the last half year
	Ended  bool   `json:"ended"`  // whoever began a part of it saw it to the end, as far as it is known who did
}

// LatelySince gives since when something counts as watched lately.
func LatelySince(now time.Time) time.Time { return now.Add(-longAgo) }

// WatchedOf gives how titles were watched: ever by all, lately by all, and ever by each member.
func WatchedOf(ever, lately *Sums, each func(do func(*Sums)) error) ([]Watched, error) {
	of := map[Work]*Watched{}
	for w := range ever.Works() {
		of[w] = &Watched{Shelf: w.Shelf, Title: w.Title}
	}
	for w := range lately.Works() {
		if of[w] != nil {
			of[w].Lately = true
		}
	}
	left := map[Work]bool{} // somebody did not see a part to the end
	err := each(func(s *Sums) {
		for k, e := range s.Of {
			if k.Hour > 0 || k.Dim != DimTitle {
				continue
			}
			shelf, title, _ := readTitleKey(k.Name)
			w := Work{shelf, title}
			if of[w] == nil {
				continue
			}
			of[w].Ended = true
			left[w] = left[w] || e.Done == 0
		}
	})
	out := []Watched{}
	for w, v := range of {
		v.Ended = v.Ended && !left[w]
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b Watched) int {
		return cmp.Or(cmp.Compare(a.Shelf, b.Shelf), cmp.Compare(a.Title, b.Title))
	})
	return out, err
}

// FreesMost gives what would free most, the most first: each file counts for one reason only. It only says.
func FreesMost(files []Stored, watched []Watched, now time.Time, limit int) []Frees {
	titles := map[Work]*Watched{}
	for _, w := range watched {
		titles[Work{w.Shelf, w.Title}] = &w
	}
	usual := bytesASecond(files)
	found := map[[2]any]*Frees{}
	add := func(f Stored, why Reason, bytes int64) {
		k := [2]any{f.Title, why}
		if found[k] == nil {
			found[k] = &Frees{Name: f.Name, Shelf: f.Shelf, Why: why}
		}
		found[k].Bytes += bytes
		found[k].Files++
	}
	best := map[[2]any]Stored{} // of each part the one that would be kept: the largest picture, then the most bytes
	for _, f := range files {
		k := [2]any{f.Title, f.Same}
		if b, ok := best[k]; !ok || cmp.Or(cmp.Compare(f.Lines, b.Lines), cmp.Compare(f.Size, b.Size)) > 0 {
			best[k] = f
		}
	}
	kept := map[[2]any]bool{}
	for _, f := range files {
		t := titles[Work{f.Shelf, f.Name}]
		k := [2]any{f.Title, f.Same}
		switch {
		case best[k] != f || kept[k]:
			add(f, Twice, f.Size)
		case t == nil && now.Sub(f.Added) > longHere:
			add(f, NeverSeen, f.Size)
		case t != nil && !t.Lately && now.Sub(f.Added) > longAgo && t.Ended:
			add(f, SeenLongAgo, f.Size)
		default:
			if u := usual[f.Lines]; u > 0 && f.Length > 0 && float64(f.Size)/f.Length > tooMany*u {
				add(f, TooLarge, f.Size-int64(u*f.Length))
			}
		}
		if best[k] == f {
			kept[k] = true
		}
	}
	out := []Frees{}
	for _, f := range found {
		out = append(out, *f)
	}
	slices.SortFunc(out, func(a, b Frees) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.Shelf, b.Shelf), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Why, b.Why))
	})
	if limit > 0 && len(out) > limit {
		out = out[:limit]
	}
	return out
}

// bytesASecond gives what is usual for a size of picture: the median, where there are enough of it.
func bytesASecond(files []Stored) map[int]float64 {
	all := map[int][]float64{}
	for _, f := range files {
		if f.Length > 0 && f.Lines > 0 {
			all[f.Lines] = append(all[f.Lines], float64(f.Size)/f.Length)
		}
	}
	out := map[int]float64{}
	for lines, list := range all {
		if len(list) >= fewOthers {
			slices.Sort(list)
			out[lines] = list[len(list)/2]
		}
	}
	return out
}
