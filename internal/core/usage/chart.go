package usage

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// By is what a chart's columns are.
type By string

// The columns.
const (
	ByDay     By = "day"
	ByWeek    By = "week" // from Monday on
	ByMonth   By = "month"
	ByHour    By = "hour"    // of the day
	ByWeekday By = "weekday" // from Monday on
	ByHeat    By = "heat"    // hours of weekdays
)

// Of is what a chart measures.
type Of string

// The measures.
const (
	OfWatched Of = "watched" // seconds, spread evenly from a play's beginning to its end
	OfPlays   Of = "plays"   // by when they began
	OfStreams Of = "streams" // the most at once
	OfBytes   Of = "bytes"   // spread like what was watched
)

// Bys and Ofs are all of them.
var (
	Bys = []By{ByDay, ByWeek, ByMonth, ByHour, ByWeekday, ByHeat}
	Ofs = []Of{OfWatched, OfPlays, OfStreams, OfBytes}
)

// Column is one of a chart.
type Column struct {
	Name   string             `json:"name"`
	Begins time.Time          `json:"begins_at,omitzero"` // of days, weeks and months
	Value  float64            `json:"value"`
	Split  map[string]float64 `json:"split,omitempty"` // by group; of streams nothing, since peaks do not add up
}

// Asked is what a chart is to show.
type Asked struct {
	By    By
	Of    Of
	From  time.Time // of days, weeks and months: the first column holds it; zero for that of the first play
	To    time.Time // the last column holds it
	Zone  *time.Location
	Group func(Play) string // by which values are split; nil for not at all
}

// Weekdays are the days as charts have them.
var Weekdays = []string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}

// mostSpread is how long a play may last that is spread over its time: a clock that was set makes longer ones.
const mostSpread = 48 * time.Hour

// mostColumns bounds a chart.
const mostColumns = 5000

// span gives when a play was watched.
func (p Play) span() (from, to time.Time) {
	from, to = p.Started, p.Seen
	if !p.Ended.IsZero() {
		to = p.Ended
	}
	if to.Before(from) || to.Sub(from) > mostSpread {
		to = from.Add(time.Duration(p.Watched * float64(time.Second)))
	}
	return from, to
}

// hours cuts a play at the hours of a zone's clocks, and gives what part of it lies in each.
func (p Play) hours(zone *time.Location, do func(at time.Time, share float64)) {
	from, to := p.span()
	whole := to.Sub(from).Seconds()
	if whole <= 0 {
		do(from.In(zone), 1)
		return
	}
	for at := from.In(zone); at.Before(to); {
		past := time.Duration(at.Minute())*time.Minute + time.Duration(at.Second())*time.Second +
			time.Duration(at.Nanosecond())
		next := at.Add(time.Hour - past)
		do(at, min(next.Sub(at).Seconds(), to.Sub(at).Seconds())/whole)
		at = next
	}
}

// monday gives the weekday as charts have it.
func monday(t time.Time) int { return (int(t.Weekday()) + 6) % 7 }

// begins gives when the column of a moment begins.
func (by By) begins(t time.Time) time.Time {
	y, m, d := t.Date()
	switch by {
	case ByWeek:
		d -= monday(t)
	case ByMonth:
		d = 1
	}
	return time.Date(y, m, d, 0, 0, 0, 0, t.Location())
}

// next gives when the column after one begins.
func (by By) next(t time.Time) time.Time {
	switch by {
	case ByWeek:
		return t.AddDate(0, 0, 7)
	case ByMonth:
		return t.AddDate(0, 1, 0)
	}
	return t.AddDate(0, 0, 1)
}

// columns makes the empty columns of a chart, and gives in which a moment lies; -1 for none.
func (a Asked) columns() ([]Column, func(time.Time) int) {
	switch a.By {
	case ByHour:
		out := make([]Column, 24)
		for h := range out {
			out[h].Name = fmt.Sprintf("%02d:00", h)
		}
		return out, func(t time.Time) int { return t.Hour() }
	case ByWeekday:
		out := make([]Column, 7)
		for d := range out {
			out[d].Name = Weekdays[d]
		}
		return out, monday
	}
	var out []Column
	for t := a.By.begins(a.From.In(a.Zone)); !t.After(a.To) && len(out) < mostColumns; t = a.By.next(t) {
		name := t.Format(time.DateOnly)
		switch a.By {
		case ByWeek:
			y, w := t.ISOWeek()
			name = fmt.Sprintf("%d-W%02d", y, w)
		case ByMonth:
			name = t.Format("2006-01")
		}
		out = append(out, Column{Name: name, Begins: t})
	}
	return out, func(t time.Time) int {
		i, found := slices.BinarySearchFunc(out, t, func(c Column, t time.Time) int { return c.Begins.Compare(t) })
		if !found {
			i--
		}
		if i == len(out)-1 && i >= 0 && !t.Before(a.By.next(out[i].Begins)) {
			return -1
		}
		return i
	}
}

// Chart gives the columns of a chart of plays.
func Chart(plays []Play, a Asked) []Column {
	if a.From.IsZero() || a.To.Sub(a.From) > mostColumns*24*time.Hour {
		a.From = a.To
		for _, p := range plays {
			if p.Started.Before(a.From) {
				a.From = p.Started
			}
		}
	}
	out, at := a.columns()
	add := func(i int, p Play, v float64) {
		if i < 0 || i >= len(out) {
			return
		}
		out[i].Value += v
		if a.Group != nil {
			if out[i].Split == nil {
				out[i].Split = map[string]float64{}
			}
			out[i].Split[a.Group(p)] += v
		}
	}
	if a.Of == OfStreams {
		for i, n := range atOnce(plays, a.Zone, at, len(out)) {
			out[i].Value = float64(n)
		}
		return out
	}
	for _, p := range plays {
		switch a.Of {
		case OfPlays:
			add(at(p.Started.In(a.Zone)), p, 1)
		case OfBytes:
			p.hours(a.Zone, func(t time.Time, share float64) { add(at(t), p, share*float64(p.Bytes)) })
		default:
			p.hours(a.Zone, func(t time.Time, share float64) { add(at(t), p, share*p.Watched) })
		}
	}
	return out
}

// atOnce gives for each of so many columns how many plays ran at once in it, at most.
func atOnce(plays []Play, zone *time.Location, at func(time.Time) int, columns int) []int {
	out := make([]int, columns)
	type edge struct {
		at    time.Time
		begin bool
	}
	var edges []edge
	note := func(t time.Time, n int) {
		if i := at(t); i >= 0 && i < columns {
			out[i] = max(out[i], n)
		}
	}
	for _, p := range plays {
		from, to := p.span()
		edges = append(edges, edge{from, true}, edge{to, false})
	}
	// What ends when another begins does not run beside it, unless it took no time at all.
	slices.SortFunc(edges, func(a, b edge) int {
		return cmp.Or(a.at.Compare(b.at), cmp.Compare(order(a.begin), order(b.begin)))
	})
	n := 0
	var last time.Time
	for _, e := range edges {
		// Those that run go on through every column in between.
		if n > 0 {
			(Play{Started: last, Seen: e.at}).hours(zone, func(t time.Time, _ float64) { note(t, n) })
		}
		if last = e.at; e.begin {
			n++
			note(e.at.In(zone), n)
		} else {
			n--
		}
	}
	return out
}

// order has ends before beginnings.
func order(begin bool) int {
	if begin {
		return 1
	}
	return 0
}

// Heat gives a measure by weekday, from Monday on, and hour of the day.
func Heat(plays []Play, of Of, zone *time.Location) (out [7][24]float64) {
	if of == OfStreams {
		cell := func(t time.Time) int { return monday(t)*24 + t.Hour() }
		for i, n := range atOnce(plays, zone, cell, 7*24) {
			out[i/24][i%24] = float64(n)
		}
		return out
	}
	for _, p := range plays {
		v := map[Of]float64{OfWatched: p.Watched, OfBytes: float64(p.Bytes)}[of]
		if of == OfPlays {
			t := p.Started.In(zone)
			out[monday(t)][t.Hour()]++
			continue
		}
		p.hours(zone, func(t time.Time, share float64) { out[monday(t)][t.Hour()] += share * v })
	}
	return out
}
