package allowance

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"cozyshelf/internal/core/household"
)

// Allowance is what a member may watch, when and how much. The zero value bounds nothing.
type Allowance struct {
	Shelves []string  `json:"shelves,omitempty"`        // none: all
	Age     *int      `json:"age,omitempty"`            // up to which titles may be for; nil: whatever they are for
	Hours   Spans     `json:"hours,omitempty"`          // none: at any time
	Day     int       `json:"minutes_a_day,omitempty"`  // 0: as many as they like
	Week    int       `json:"minutes_a_week,omitempty"` // from Monday on
	Streams int       `json:"streams,omitempty"`        // at once; 0: as many as they like
	Home    Size      `json:"at_home,omitzero"`         // of pictures
	Away    Size      `json:"away,omitzero"`            // the same, from outside the home
	Until   time.Time `json:"ends_at,omitzero"`         // when the account ends
	// Whether they may bring media in, and take copies along; nil goes by the role.
	Bring  *bool `json:"may_bring,omitempty"`
	Copies *bool `json:"may_take_copies,omitempty"`
}

// Size bounds a picture; 0 does not.
type Size struct {
	Height  int   `json:"height,omitempty"`  // lines
	Bitrate int64 `json:"bitrate,omitempty"` // bit/s
}

// Check says why an allowance cannot be one.
func (a Allowance) Check() error {
	for name, n := range map[string]int{"minutes a day": a.Day, "minutes a week": a.Week, "streams": a.Streams,
		"lines at home": a.Home.Height, "lines away": a.Away.Height} {
		if n < 0 || n > 100_000 {
			return fmt.Errorf("%d is no number of %s", n, name)
		}
	}
	if a.Age != nil && (*a.Age < 0 || *a.Age > household.OldestAge) {
		return fmt.Errorf("%d is no age from 0 to %d", *a.Age, household.OldestAge)
	}
	if a.Home.Bitrate < 0 || a.Away.Bitrate < 0 || a.Home.Bitrate > 1e12 || a.Away.Bitrate > 1e12 {
		return fmt.Errorf("that is no bitrate")
	}
	if len(a.Shelves) > 1000 || len(a.Hours) > mostSpans {
		return fmt.Errorf("there are too many shelves or hours")
	}
	for _, s := range a.Hours {
		if s.Hours.From < 0 || s.Hours.From >= 24*60 || s.Hours.To < 0 || s.Hours.To > 24*60 {
			return fmt.Errorf("a day has no such hours")
		}
	}
	return nil
}

// Sees reports whether a shelf is there for the member.
func (a Allowance) Sees(shelf string) bool {
	return len(a.Shelves) == 0 || slices.Contains(a.Shelves, shelf)
}

// Size gives the bounds of a picture.
func (a Allowance) Size(away bool) Size {
	if away {
		return a.Away
	}
	return a.Home
}

// Timed reports whether the time of day, or how much was watched, matters.
func (a Allowance) Timed() bool { return len(a.Hours) > 0 || a.Day > 0 || a.Week > 0 }

// Used is what a member has watched already.
type Used struct {
	Today time.Duration // since midnight by the clocks of the household
	Week  time.Duration // since Monday's midnight; today is in it
	// Streams that are running besides the one that is asked for.
	Streams int
	// Granted is until when somebody has granted more: hours and minutes do not bound until then.
	Granted time.Time
}

// Reason is why something is refused, or will be.
type Reason string

// The reasons.
const (
	Hours   Reason = "hours"   // it is not one of the member's hours
	Day     Reason = "day"     // the minutes of the day are used up
	Week    Reason = "week"    // those of the week are
	Streams Reason = "streams" // as many are running as may be
	Ended   Reason = "ended"   // the account has ended
	Stopped Reason = "stopped" // an administrator has ended the stream
	Age     Reason = "age"     // it is not for the member, by its age or by itself
)

// Verdict is what Decide says.
type Verdict struct {
	OK     bool
	Reason Reason // why not; where it is allowed, why it ends
	// Until is when it is allowed again, or for how long it is allowed if watching goes on without a
	// pause; zero for never. It looks a fortnight ahead, and a day where it is allowed.
	Until time.Time
}

// Decide says whether a member may watch at a moment, which has the zone of the household. away is not
// asked here: whoever may be at home only does not come in at all.
func Decide(a Allowance, now time.Time, u Used) Verdict {
	v := decide(a, now, u)
	if !u.Granted.After(now) || !v.OK && v.Reason != Hours && v.Reason != Day && v.Reason != Week ||
		v.OK && (v.Until.IsZero() || !v.Until.Before(u.Granted) || v.Reason == Ended) {
		return v
	}
	if !a.Until.IsZero() && a.Until.Before(u.Granted) {
		return Verdict{OK: true, Reason: Ended, Until: a.Until}
	}
	return Verdict{OK: true, Reason: v.Reason, Until: u.Granted}
}

func decide(a Allowance, now time.Time, u Used) Verdict {
	why := a.refuses(now, now, u)
	switch {
	case why == "":
		return a.lasts(now, u)
	case why == Ended || why == Streams:
		return Verdict{Reason: why}
	}
	// Minute by minute, as clocks are set and days begin at the moments at which they do.
	for t := minute(now); t.Sub(now) < fortnight; t = t.Add(time.Minute) {
		if a.refuses(t, now, u) == "" {
			return Verdict{Reason: why, Until: t}
		}
	}
	return Verdict{Reason: why}
}

const fortnight = 14 * 24 * time.Hour

// minute is the beginning of the next minute.
func minute(t time.Time) time.Time { return t.Truncate(time.Minute).Add(time.Minute) }

// refuses says why it is refused at a moment, where so much was watched until another.
func (a Allowance) refuses(t, since time.Time, u Used) Reason {
	if !a.Until.IsZero() && !t.Before(a.Until) {
		return Ended
	}
	if a.Streams > 0 && u.Streams >= a.Streams {
		return Streams
	}
	if a.Week > 0 && u.Week >= minutes(a.Week) && weekNumber(t) == weekNumber(since) {
		return Week
	}
	if a.Day > 0 && u.Today >= minutes(a.Day) && dayNumber(t) == dayNumber(since) {
		return Day
	}
	if len(a.Hours) > 0 && !slices.ContainsFunc(a.Hours, func(s Span) bool { return s.holds(t) }) {
		return Hours
	}
	return ""
}

func minutes(n int) time.Duration { return time.Duration(n) * time.Minute }

// lasts says for how long it is allowed, if watching goes on.
func (a Allowance) lasts(now time.Time, u Used) Verdict {
	if !a.Timed() && a.Until.IsZero() {
		return Verdict{OK: true}
	}
	today, week := u.Today, u.Week
	for t := now; t.Sub(now) < 24*time.Hour; {
		next := minute(t)
		end, why := next, Reason("")
		before := func(at time.Time, r Reason) {
			if at.Before(end) || at.Equal(end) && why == "" {
				end, why = at, r
			}
		}
		if a.Day > 0 {
			before(t.Add(minutes(a.Day)-today), Day)
		}
		if a.Week > 0 {
			before(t.Add(minutes(a.Week)-week), Week)
		}
		if !a.Until.IsZero() {
			before(a.Until, Ended)
		}
		if end.Before(next) {
			return Verdict{OK: true, Reason: why, Until: end}
		}
		spent := next.Sub(t)
		today, week = today+spent, week+spent
		if dayNumber(next) != dayNumber(t) {
			today = 0
		}
		if weekNumber(next) != weekNumber(t) {
			week = 0
		}
		if why := a.refuses(next, next, Used{Today: today, Week: week}); why != "" {
			return Verdict{OK: true, Reason: why, Until: next}
		}
		t = next
	}
	return Verdict{OK: true}
}

// dayNumber counts the days of a moment's zone, and weekNumber the weeks, which begin on Monday.
func dayNumber(t time.Time) int64 {
	_, offset := t.Zone()
	return floor(t.Unix()+int64(offset), 24*60*60)
}

func weekNumber(t time.Time) int64 { return floor(dayNumber(t)+3, 7) }

func floor(n, by int64) int64 {
	if n < 0 {
		n -= by - 1
	}
	return n / by
}

// DayOf names the day of a moment in its zone, and WeekOf its week, which begins on Monday.
func DayOf(t time.Time) string { return t.Format(time.DateOnly) }

// WeekOf names the Monday of a moment's week.
func WeekOf(t time.Time) string {
	y, m, d := t.Date()
	return time.Date(y, m, d-(int(t.Weekday())+6)%7, 12, 0, 0, 0, time.UTC).Format(time.DateOnly)
}

// Ahead is how much a device may fetch of what it has not told to be watched: a player keeps some
// minutes. What it fetches beyond counts as watched, since nobody knows what becomes of it.
const Ahead = 10 * time.Minute

// Meter is what was watched on a day.
type Meter struct {
	Watched time.Duration // as devices told
	Fetched time.Duration // how much of films was sent
}

// Used is what counts of it.
func (m Meter) Used() time.Duration { return max(m.Watched, m.Fetched-Ahead) }

// Smaller gives the stricter of two sizes.
func (s Size) Smaller(o Size) Size {
	return Size{Height: least(s.Height, o.Height), Bitrate: least(s.Bitrate, o.Bitrate)}
}

func least[N cmp.Ordered](a, b N) N {
	var none N
	if a == none || b != none && b < a {
		return b
	}
	return a
}
