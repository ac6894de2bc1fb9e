package usage

import "time"

// Level is how long the time is of which sums are kept.
type Level int

// The levels. Sums of longer times are kept only of what is past.
const (
	LevelPlays Level = iota // none are kept: they are made of the plays
	LevelDay
	LevelMonth
	LevelYear
	LevelEver // all years before one
)

// Period is a day, a month, a year, or all years before one, by the household's clocks. Its number has the digits of
// its first day, such as 20261123; of all years before one it is that of the day after.
type Period struct {
	Level Level
	At    int
}

// number gives a day as a number.
func number(y int, m time.Month, d int) int { return (y*100+int(m))*100 + d }

// PeriodOf gives the period in which a moment lies.
func PeriodOf(level Level, local time.Time) Period {
	y, m, d := local.Date()
	switch level {
	case LevelMonth:
		d = 1
	case LevelYear, LevelEver:
		m, d = 1, 1
	}
	return Period{level, number(y, m, d)}
}

// Midnight gives when a day begins, also where the clock is changed at that hour.
func Midnight(y int, m time.Month, d int, zone *time.Location) time.Time {
	at := time.Date(y, m, d, 0, 0, 0, 0, zone)
	if at.Hour() == 0 && at.Minute() == 0 && at.Add(-30*time.Minute).Day() != at.Day() {
		return at // as on nearly all days
	}
	day := time.Date(y, m, d, 12, 0, 0, 0, zone).Day()
	for at.Day() != day { // its first hour is left out
		at = at.Add(30 * time.Minute)
	}
	for before := at.Add(-30 * time.Minute); before.Day() == day; before = at.Add(-30 * time.Minute) {
		at = before // its first hour is there twice
	}
	return at
}

// DayOf gives when the day of a moment begins, and when the next one does.
func DayOf(local time.Time) (from, to time.Time) {
	y, m, d := local.Date()
	return Midnight(y, m, d, local.Location()), Midnight(y, m, d+1, local.Location())
}

// Bounds give when a period begins and ends. All years before one begin at no time.
func (p Period) Bounds(zone *time.Location) (from, to time.Time) {
	y, m, d := p.At/10000, time.Month(p.At/100%100), p.At%100
	from = Midnight(y, m, d, zone)
	switch p.Level {
	case LevelMonth:
		return from, Midnight(y, m+1, d, zone)
	case LevelYear:
		return from, Midnight(y+1, m, d, zone)
	case LevelEver:
		return time.Time{}, from
	}
	return from, Midnight(y, m, d+1, zone)
}

// MonthOf gives the number of the month that holds the day of a number.
func MonthOf(day int) int { return day/100*100 + 1 }

// YearOf gives that of the year.
func YearOf(day int) int { return day/10000*10000 + 101 }

// Span is a part of a time, and from what its sums are to be made.
type Span struct {
	Period
	From, Until time.Time
}

// Spans parts a time into as few parts as can be: periods whose sums are kept, none longer than a level, and what is
// left, of which they are made of the plays. first is when the first play began.
func Spans(from, until time.Time, first time.Time, zone *time.Location, most Level,
	kept func(Span) bool) (out []Span) {
	add := func(s Span) {
		if n := len(out); n > 0 && s.Level == LevelPlays && out[n-1].Level == LevelPlays {
			out[n-1].Until = s.Until
			return
		}
		out = append(out, s)
	}
	at := from
	if !at.After(first) {
		at, _ = DayOf(first.In(zone)) // nothing is before
		if from.After(at) {
			at = from
		}
		if most >= LevelEver && !from.After(first) {
			for y := until.In(zone).Year(); y > first.In(zone).Year(); y-- {
				ever := Span{Period: Period{LevelEver, number(y, 1, 1)}}
				if _, ever.Until = ever.Bounds(zone); !ever.Until.After(until) && kept(ever) {
					add(ever)
					at = ever.Until
					break
				}
			}
		}
	}
	var end time.Time // of the day before
	for at.Before(until) {
		local := at.In(zone)
		begin := end
		if y, m, d := local.Date(); begin.Equal(at) {
			end = Midnight(y, m, d+1, zone)
		} else {
			begin, end = DayOf(local)
		}
		next := Span{Period{LevelPlays, 0}, at, end}
		if begin.Equal(at) {
			day := PeriodOf(LevelDay, local)
			for level := min(most, LevelYear); level >= LevelDay; level-- {
				s := Span{PeriodOf(level, local), begin, end}
				if s.At != day.At {
					continue
				}
				if level > LevelDay {
					_, s.Until = s.Bounds(zone)
				}
				if !s.Until.After(until) && kept(s) {
					next = s
					break
				}
			}
		}
		if next.Until.After(until) {
			next.Until = until
		}
		add(next)
		at = next.Until
	}
	return out
}
