// Package today says in five lines what matters in a household now: who watches, what was watched today, what
// arrived, how much room there is, and what somebody should see to.
//
// The package only computes. The server gathers the facts; the tool and the page show the lines.
package today

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/usage"

	"github.com/dustin/go-humanize"
)

// Facts are what the lines are made of.
type Facts struct {
	Now      time.Time    // by the household's clock
	Open     []usage.Play // streams that are running
	Plays    []usage.Play // those that were seen today or yesterday
	Arrived  []string     // titles that arrived today, some of them
	Count    int          // how many did
	Last     string       // the title that arrived last, and when
	LastAt   time.Time
	Disks    []Disk
	Concerns []Concern
}

// Disk is one that shelves or the state lie on.
type Disk struct {
	Folder     string
	Free, Size int64 // in bytes
}

// low reports whether a disk is nearly full.
func (d Disk) low() bool { return d.Size > 0 && d.Free < d.Size/20 }

// Concern is something that somebody should see to.
type Concern struct {
	Text string
	Ask  string // the command that tells more; empty for none
}

// About is what a line is about.
type About string

// What the lines are about, in their order.
const (
	Watching About = "watching"
	Watched  About = "watched"
	Arrived  About = "arrived"
	Room     About = "room"
	SeeTo    About = "see-to"
)

// Line is one of the five.
type Line struct {
	About About  `json:"about"`
	Text  string `json:"text"`
	Well  bool   `json:"well"` // nothing has to be done for it
}

// Lines gives the five lines.
func Lines(f Facts) []Line {
	return []Line{f.watching(), f.watched(), f.arrived(), f.room(), f.seeTo()}
}

// mostNamed is how many things a line names.
const mostNamed = 3

// named lists some things, and says how many more there are.
func named(list []string, count int) string {
	list = list[:min(len(list), mostNamed)]
	if more := count - len(list); more > 0 {
		return fmt.Sprintf("%s and %d more", strings.Join(list, ", "), more)
	}
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " and " + list[n-1]
	}
	return strings.Join(list, "")
}

func (f Facts) watching() Line {
	var list []string
	for _, p := range f.Open {
		who := strings.Join(p.Viewers(), " and ")
		verb := "watches"
		if len(p.Viewers()) > 1 {
			verb = "watch"
		}
		text := cmp.Or(who, "somebody") + " " + verb + " " + p.Title
		if p.Away {
			text += " (away)"
		}
		list = append(list, text)
	}
	if len(list) == 0 {
		return Line{Watching, "Nobody is watching", true}
	}
	return Line{Watching, named(list, len(list)), true}
}

// day gives the beginning of the day of a moment.
func day(t time.Time) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, 0, 0, 0, 0, t.Location())
}

func (f Facts) watched() Line {
	begin := day(f.Now)
	days := usage.Chart(f.Plays, usage.Asked{By: usage.ByDay, Of: usage.OfWatched, Zone: f.Now.Location(),
		From: begin.AddDate(0, 0, -1), To: f.Now})
	if len(days) < 2 {
		return Line{Watched, "Nothing was watched today", true}
	}
	before, today := days[0].Value, days[1].Value
	members := map[string]bool{}
	plays := 0
	for _, p := range f.Plays {
		if p.Seen.Before(begin) {
			continue
		}
		plays++
		for _, m := range p.Viewers() {
			members[m] = true
		}
	}
	text := "Nothing was watched today"
	if plays > 0 {
		text = fmt.Sprintf("%s watched today, in %s by %s", length(today), count(plays, "play"),
			count(len(members), "member"))
	}
	if before >= 60 {
		text += "; yesterday " + length(before)
	}
	return Line{Watched, text, true}
}

// length writes seconds in hours and minutes.
func length(seconds float64) string {
	if seconds < 60 {
		return fmt.Sprintf("%.0f s", seconds)
	}
	m := int(seconds+30) / 60
	if m < 60 {
		return fmt.Sprintf("%d min", m)
	}
	return fmt.Sprintf("%d h %02d min", m/60, m%60)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func (f Facts) arrived() Line {
	switch {
	case f.Count > 0:
		return Line{Arrived, "Arrived today: " + named(f.Arrived, f.Count), true}
	case f.Last == "":
		return Line{Arrived, "Nothing is on the shelves yet", true}
	}
	return Line{Arrived, fmt.Sprintf("Nothing arrived today; the last was %s, on %s", f.Last,
		f.LastAt.In(f.Now.Location()).Format("2 January")), true}
}

func (f Facts) room() Line {
	if len(f.Disks) == 0 {
		return Line{Room, "How full the disks are is not known", true}
	}
	share := func(d Disk) float64 { return float64(d.Free) / float64(max(1, d.Size)) }
	least := slices.MinFunc(f.Disks, func(a, b Disk) int { return cmp.Compare(share(a), share(b)) })
	low := 0
	for _, d := range f.Disks {
		if d.low() {
			low++
		}
	}
	text := fmt.Sprintf("%s of %s free at %s", size(least.Free), size(least.Size), least.Folder)
	switch {
	case low > 1:
		text = fmt.Sprintf("%d disks are nearly full; %s", low, text)
	case low == 1:
		text = "A disk is nearly full: " + text
	case len(f.Disks) > 1:
		text += ", the fullest disk"
	}
	return Line{Room, text, low == 0}
}

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

func (f Facts) seeTo() Line {
	if len(f.Concerns) == 0 {
		return Line{SeeTo, "Nothing needs you", true}
	}
	var list []string
	for _, c := range f.Concerns {
		list = append(list, c.Text)
	}
	text := named(list, len(list))
	if ask := f.Concerns[0].Ask; ask != "" {
		text += " (" + ask + ")"
	}
	return Line{SeeTo, strings.ToUpper(text[:1]) + text[1:], false}
}
