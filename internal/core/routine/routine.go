// Package routine says when work that is done again and again is due next, such as
// the server's own backups.
//
// It takes the clock and the time zone as arguments, and bears a clock that jumps: work that was
// last done in the future counts as done now, and a time of day that a change to summer time
// leaves out is an hour off.
package routine

import (
	"time"

	"cozyshelf/internal/core/household"
)

// Next gives when work is due that was last done at a time, zero for never. every
// is day, week, or a length such as 12h; at is the time of day in the zone for day
// and week, such as 03:30. What was missed is due at once. A last time that lies in
// the future, since the clock was wrong then or is now, counts as now.
func Next(last, now time.Time, every, at string, zone *time.Location) time.Time {
	pause, err := household.ParsePause(every)
	if err != nil {
		return time.Time{} // never
	}
	if last.IsZero() {
		return now
	}
	if last.After(now) {
		last = now
	}
	if every != "day" && every != "week" {
		return last.Add(pause)
	}
	clock, err := time.Parse("15:04", at)
	if err != nil {
		clock = time.Time{}.Add(3*time.Hour + 30*time.Minute)
	}
	days := 1
	if every == "week" {
		days = 7
	}
	base := last.In(zone).AddDate(0, 0, days-1)
	y, m, d := base.Date()
	next := time.Date(y, m, d, clock.Hour(), clock.Minute(), 0, 0, zone)
	if !next.After(base) {
		next = time.Date(y, m, d+1, clock.Hour(), clock.Minute(), 0, 0, zone)
	}
	return next
}
