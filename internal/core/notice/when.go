package notice

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
)

// Bounds of what waits for a receiver.
const (
	MostWaiting = 20_000         // notices; those after it are lost, and counted
	MostAtOnce  = 200            // notices in one message
	KeptFor     = 72 * time.Hour // after that a notice is given up
)

// Wants reports whether a receiver is to be told of a notice.
func Wants(n Notice, r household.Notice) bool {
	if n.Code == event.CodeNoticesLost && n.Data["receiver"] == r.Name {
		return false // it would wait behind those
	}
	if n.Code != event.CodeTest {
		i := slices.IndexFunc(event.Codes, func(a event.About) bool { return a.Code == n.Code })
		usual := i >= 0 && event.Codes[i].Usual
		if len(r.Events) == 0 && !usual || len(r.Events) > 0 && !slices.Contains(r.Events, string(n.Code)) {
			return false
		}
	}
	if len(r.Members) == 0 || len(n.Members) == 0 {
		return true
	}
	return slices.ContainsFunc(n.Members, func(m string) bool {
		return slices.ContainsFunc(r.Members, func(w string) bool { return strings.EqualFold(m, w) })
	})
}

// Concerns reports whether a member's own browser is told of a notice: of what concerns them, and administrators of
// what the house should know.
func Concerns(n Notice, member string, role allowance.Role) bool {
	return role == allowance.Admin || slices.ContainsFunc(n.Members, func(m string) bool {
		return strings.EqualFold(m, member)
	})
}

// firstPause is how long to wait after a first failure, and longestPause the most.
const (
	firstPause   = 5 * time.Second
	longestPause = 15 * time.Minute
)

// Pause gives how long to wait after so many failures one after the other: twice as long each time. spread,
// from 0 to 1, shortens it by up to a fifth, so that many do not come at the same moment.
func Pause(failures int, spread float64) time.Duration {
	if failures < 1 {
		return 0
	}
	d := float64(firstPause) * math.Pow(2, float64(min(failures, 20)-1))
	return time.Duration(min(d, float64(longestPause)) * (1 - 0.2*min(max(spread, 0), 1)))
}

// Overdue reports whether a notice has waited so long that it is given up.
func Overdue(at, now time.Time) bool { return now.Sub(at) > KeptFor }

// Ready gives from when on a receiver may be sent what waits for it, of which the first came at a time: not
// while it is left alone, and not before what is gathered is complete. A test is always ready.
func Ready(first time.Time, code event.Code, now time.Time, r household.Notice, zone *time.Location) time.Time {
	if code == event.CodeTest {
		return now
	}
	at := now
	if gather, clock, err := r.Gathers(); err == nil && r.Gather != "" {
		due := first.Add(gather)
		if clock >= 0 {
			due = nextClock(first, clock, zone)
		}
		if due.After(at) {
			at = due
		}
	}
	if r.Quiet == "" {
		return at
	}
	hours, err := household.ParseHours(r.Quiet)
	if err != nil {
		return at // it was refused when the file was read
	}
	// Hour by hour of the clock at most: it may be changed to summer time meanwhile.
	for range 48 * 60 {
		if !hours.Hold(at.In(zone)) {
			return at
		}
		at = at.Truncate(time.Minute).Add(time.Minute)
	}
	return at // the whole day is quiet: a file that says so is refused
}

// nextClock gives the first moment after another at which the clocks of a zone show so many minutes after midnight.
func nextClock(after time.Time, minutes int, zone *time.Location) time.Time {
	t := after.In(zone)
	for day := 0; ; day++ {
		at := time.Date(t.Year(), t.Month(), t.Day()+day, minutes/60, minutes%60, 0, 0, zone)
		if at.After(after) {
			return at
		}
	}
}

// Subject is the subject of a message with some notices, and Text its body.
func Subject(house string, list []Notice) string {
	if len(list) == 1 {
		return Line(house + ": " + strings.TrimSuffix(list[0].Text, "."))
	}
	return Line(fmt.Sprintf("%s: %d notices", house, len(list)))
}

// Text writes notices for people, the oldest first, with when each was.
func Text(list []Notice, zone *time.Location) string {
	var b strings.Builder
	for _, n := range list {
		fmt.Fprintf(&b, "%s  %s\n", n.At.In(zone).Format("2006-01-02 15:04"), n.Text)
	}
	return b.String()
}
