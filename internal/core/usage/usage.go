// Package usage turns plays into figures.
//
// A play is the record of one stream: one file, watched by one member on one device, from when it
// began until it ended or fell silent. What a device reports is a position now and then; from that
// follows what was really watched (Advance, and Pace, which bounds it by the clock), whether the
// part counts as seen (Finished), and where to start again (ResumeAt).
//
// The package only computes. The tracker in package stream hears of positions, and the store keeps
// the plays.
package usage

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Play is one play. Durations and positions are in seconds, sizes in bytes.
type Play struct {
	ID       int64     `json:"id"`
	Member   string    `json:"member"`
	Shelf    string    `json:"shelf"`
	Title    string    `json:"title"` // the title a person picks, such as a series
	Part     string    `json:"part"`  // the episode or track; empty where the title has one part
	Device   string    `json:"device"`
	Address  string    `json:"address"`
	Away     bool      `json:"away"`
	Started  time.Time `json:"started_at"`
	Seen     time.Time `json:"seen_at"`
	Ended    time.Time `json:"ended_at,omitzero"` // zero while the stream is running
	From     float64   `json:"from_position"`
	Position float64   `json:"position"`
	Duration float64   `json:"duration"` // of the part; 0 where not known
	Watched  float64   `json:"watched"`
	Bytes    int64     `json:"bytes"`
	Done     bool      `json:"done"` // seen to the end, as Finished says
	// How it was delivered last (as-it-is, repacked or converted), and why not as it is.
	Delivery string `json:"delivery,omitempty"`
	Why      string `json:"why,omitempty"`
	// Sofa are the members who watched along. What was watched counts once, and for each of them.
	Sofa []string `json:"sofa,omitempty"`
}

// Viewers are all members who watched a play, as far as that is still known.
func (p Play) Viewers() (out []string) {
	if p.Member != "" {
		out = append(out, p.Member)
	}
	return append(out, p.Sofa...)
}

// Rates gives how many bytes a second each stream was sent between two looks.
func Rates(before, now []Play, passed time.Duration) map[int64]float64 {
	out := map[int64]float64{}
	if passed <= 0 {
		return out
	}
	for _, p := range now {
		i := slices.IndexFunc(before, func(b Play) bool { return b.ID == p.ID })
		if i >= 0 && p.Bytes >= before[i].Bytes {
			out[p.ID] = float64(p.Bytes-before[i].Bytes) / passed.Seconds()
		}
	}
	return out
}

// MergeWithin is how long after its end a play is continued by the same member
// on the same device with the same part, instead of a new one being started.
const MergeWithin = 15 * time.Minute

// Silence is how long a stream may be silent before it counts as over.
const Silence = 90 * time.Second

// Finished reports whether a position is so near the end that the part counts
// as seen: the last twentieth, or the last two minutes of something long.
func Finished(position, duration float64) bool {
	if duration <= 0 {
		return false
	}
	return position >= duration*0.95 || duration > 1200 && position >= duration-120
}

// ResumeAt is where to start again: nowhere near the beginning, and not after
// the part counts as seen.
func ResumeAt(position, duration float64) float64 {
	if position < 5 || Finished(position, duration) {
		return 0
	}
	return position
}

// Advance gives the seconds really watched between two reports: a forward move
// no longer than the time that passed could show at double speed. A jump
// forwards counts as the time that passed, a jump backwards as nothing.
func Advance(from, to float64, passed time.Duration) float64 {
	move := to - from
	if move <= 0 {
		return 0
	}
	if limit := 2*passed.Seconds() + 1; move > limit {
		return min(move, passed.Seconds())
	}
	return move
}

// Pace bounds what one stream counts as watched: at most double speed since it began, and a
// second, however many reports say so. The zero value has not begun.
type Pace struct {
	began  time.Time
	gained float64
}

// Take gives how much of some seconds counts, and counts it.
func (p *Pace) Take(seconds float64, now time.Time) float64 {
	if p.began.IsZero() {
		p.began = now
	}
	seconds = max(0, min(seconds, 2*now.Sub(p.began).Seconds()+1-p.gained))
	p.gained += seconds
	return seconds
}

// Begin says when the stream began.
func (p *Pace) Begin(now time.Time) { *p = Pace{began: now} }

// Rank is a row of a top list.
type Rank struct {
	Name    string  `json:"name"`
	Part    string  `json:"part,omitempty"` // of the title
	Shelf   string  `json:"shelf,omitempty"`
	Plays   int     `json:"plays"`
	Done    int     `json:"done"`
	Members int     `json:"members,omitempty"`
	Titles  int     `json:"titles,omitempty"`
	Watched float64 `json:"watched"`
	Bytes   int64   `json:"bytes"`
	// What was watched in the period before, as long as the one that is asked for; nil where there is none.
	Before *float64 `json:"watched_before,omitempty"`
}

// Order is by what a top list is sorted.
type Order string

// The orders.
const (
	ByTime    Order = "time" // watched
	ByPlays   Order = "plays"
	ByMembers Order = "members" // how many watched; of members, how many titles
)

// Orders are all of them.
var Orders = []Order{ByTime, ByPlays, ByMembers}

// Sort sorts a top list, and cuts it; a limit of 0 leaves all.
func Sort(list []Rank, by Order, limit int) []Rank {
	slices.SortStableFunc(list, func(a, b Rank) int {
		switch by {
		case ByPlays:
			return cmp.Compare(b.Plays, a.Plays)
		case ByMembers:
			return cmp.Compare(b.Members+b.Titles, a.Members+a.Titles)
		}
		return cmp.Compare(b.Watched, a.Watched)
	})
	if limit > 0 && len(list) > limit {
		list = list[:limit]
	}
	return list
}

// Compare notes in a top list what was watched of each row in the period before, of which it gets the list.
func Compare(list, before []Rank) {
	type id struct{ name, part, shelf string }
	was := map[id]float64{}
	for _, b := range before {
		was[id{b.Name, b.Part, b.Shelf}] = b.Watched
	}
	for i, r := range list {
		v := was[id{r.Name, r.Part, r.Shelf}]
		list[i].Before = &v
	}
}

// platforms are what a device's name tells of what it runs on, by what stands in it; the first that does counts.
var platforms = []struct{ word, name string }{{"iphone", "iPhone"}, {"ipad", "iPad"}, {"android", "Android"},
	{"windows", "Windows"}, {"macintosh", "macOS"}, {"macos", "macOS"}, {"linux", "Linux"}, {"television", "television"},
	{"tv", "television"}, {"screen", "television"}, {"tablet", "tablet"}, {"telephone", "telephone"},
	{"phone", "telephone"}}

// Platform gives what a device runs on, as far as its name tells; else other.
func Platform(device string) string {
	name := strings.ToLower(device)
	for _, p := range platforms {
		if strings.Contains(name, p.word) {
			return p.name
		}
	}
	return "other"
}
