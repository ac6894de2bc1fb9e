package allowance

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"

	"github.com/dustin/go-humanize"
)

// Words are an allowance as people write it. What is empty stays as it was; what takes a bound away is all, any,
// never or role.
type Words struct {
	Shelves     string // names with commas between them, or all
	Age         string // or any
	Bring       string // yes, no or role
	Copies      string // the same
	Hours       string // as ParseHours reads them, or any
	Minutes     string // a day, or any
	Weekly      string // a week, or any
	Streams     string // at once, or any
	Height      string // lines at home, or any
	HeightAway  string
	Bitrate     string // bit/s at home, such as 8M, or any
	BitrateAway string
	Until       string // a day, which is meant to its end, a time, or never
}

// Fault is a word that cannot be read.
type Fault struct {
	Word  string // which, such as "height-away"
	Wants string // what it takes
	Got   string
}

func (f *Fault) Error() string { return fmt.Sprintf("%s takes %s, not %q", f.Word, f.Wants, f.Got) }

// Apply changes an allowance as the words say. Times are those of the household's clocks.
func (w Words) Apply(a *Allowance, zone *time.Location) error {
	for _, step := range []func(*Allowance) *Fault{w.who, w.may, w.much, w.size} {
		if f := step(a); f != nil {
			return f
		}
	}
	switch w.Until {
	case "":
	case "never":
		a.Until = time.Time{}
	default:
		t, err := readUntil(w.Until, zone)
		if err != nil {
			return &Fault{"until", `a day or a time, such as 2026-12-01 or "2026-12-01 18:00", or never`, w.Until}
		}
		a.Until = t
	}
	return nil
}

// who reads shelves, age and hours.
func (w Words) who(a *Allowance) *Fault {
	switch w.Shelves {
	case "":
	case "all":
		a.Shelves = nil
	default:
		a.Shelves = nil
		for name := range strings.SplitSeq(w.Shelves, ",") {
			if name = strings.TrimSpace(name); name != "" && !slices.Contains(a.Shelves, name) {
				a.Shelves = append(a.Shelves, name)
			}
		}
		if len(a.Shelves) == 0 {
			return &Fault{"shelves", "names with commas between them, or all", w.Shelves}
		}
	}
	switch n, err := strconv.Atoi(w.Age); {
	case w.Age == "":
	case w.Age == "any":
		a.Age = nil
	case err != nil || n < 0 || n > household.OldestAge:
		return &Fault{"age", fmt.Sprintf("an age from 0 to %d, or any", household.OldestAge), w.Age}
	default:
		a.Age = &n
	}
	switch w.Hours {
	case "":
	case "any":
		a.Hours = nil
	default:
		h, err := ParseHours(w.Hours)
		if err != nil || len(h) == 0 {
			why := "times such as \"mon-fri 15:00-19:30\", or any"
			if err != nil {
				why += fmt.Sprintf(" (%v)", err)
			}
			return &Fault{"hours", why, w.Hours}
		}
		a.Hours = h
	}
	return nil
}

// may reads what goes by the role unless it is said.
func (w Words) may(a *Allowance) *Fault {
	for _, one := range []struct {
		word, text string
		to         **bool
	}{{"bring", w.Bring, &a.Bring}, {"copies", w.Copies, &a.Copies}} {
		yes := one.text == "yes"
		switch one.text {
		case "":
		case "yes", "no":
			*one.to = &yes
		case "role":
			*one.to = nil
		default:
			return &Fault{one.word, "yes, no or role", one.text}
		}
	}
	return nil
}

// much reads how much may be watched, and how large.
func (w Words) much(a *Allowance) *Fault {
	for _, one := range []struct {
		word, text string
		to         *int
		most       int
	}{{"minutes", w.Minutes, &a.Day, 24 * 60}, {"weekly-minutes", w.Weekly, &a.Week, 7 * 24 * 60},
		{"streams", w.Streams, &a.Streams, 1000}, {"height", w.Height, &a.Home.Height, 10_000},
		{"height-away", w.HeightAway, &a.Away.Height, 10_000}} {
		n, err := strconv.Atoi(one.text)
		switch {
		case one.text == "":
		case one.text == "any":
			*one.to = 0
		case err != nil || n < 1 || n > one.most:
			return &Fault{one.word, fmt.Sprintf("a number from 1 to %d, or any", one.most), one.text}
		default:
			*one.to = n
		}
	}
	return nil
}

// size reads rates.
func (w Words) size(a *Allowance) *Fault {
	for _, one := range []struct {
		word, text string
		to         *int64
	}{{"bitrate", w.Bitrate, &a.Home.Bitrate}, {"bitrate-away", w.BitrateAway, &a.Away.Bitrate}} {
		n, unit, err := humanize.ParseSI(one.text)
		switch {
		case one.text == "":
		case one.text == "any":
			*one.to = 0
		case err != nil || unit != "" && unit != "bit/s" || n < 100_000 || n > 1e10:
			return &Fault{one.word, "bits a second from 100k to 10G, such as 8M, or any", one.text}
		default:
			*one.to = int64(n)
		}
	}
	return nil
}

// readUntil reads a moment by the household's clocks. A day is meant to its end.
func readUntil(text string, zone *time.Location) (time.Time, error) {
	if t, err := time.ParseInLocation(time.DateOnly, text, zone); err == nil {
		return t.AddDate(0, 0, 1), nil
	}
	if t, err := time.ParseInLocation("2006-01-02 15:04", text, zone); err == nil {
		return t, nil
	}
	return time.Parse(time.RFC3339, text)
}

// WordsOf writes an allowance as Apply reads it. What does not bound is empty.
func WordsOf(a Allowance, zone *time.Location) Words {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	rate := func(n int64) string {
		switch {
		case n == 0:
			return ""
		case n%1_000_000 == 0:
			return fmt.Sprintf("%dM", n/1_000_000)
		case n%1000 == 0:
			return fmt.Sprintf("%dk", n/1000)
		}
		return strconv.FormatInt(n, 10)
	}
	role := func(may *bool) string {
		if may == nil {
			return "role"
		}
		return map[bool]string{true: "yes", false: "no"}[*may]
	}
	w := Words{Shelves: strings.Join(a.Shelves, ","), Bring: role(a.Bring), Copies: role(a.Copies),
		Hours: FormatHours(a.Hours), Minutes: number(a.Day), Weekly: number(a.Week), Streams: number(a.Streams),
		Height: number(a.Home.Height), HeightAway: number(a.Away.Height), Bitrate: rate(a.Home.Bitrate),
		BitrateAway: rate(a.Away.Bitrate)}
	if a.Age != nil {
		w.Age = strconv.Itoa(*a.Age)
	}
	if !a.Until.IsZero() {
		w.Until = until(a.Until.In(zone))
	}
	return w
}

// until writes a moment: a day where it is a day's end, a time where it is a whole minute.
func until(t time.Time) string {
	day := t.AddDate(0, 0, -1).Format(time.DateOnly)
	if again, err := readUntil(day, t.Location()); err == nil && again.Equal(t) {
		return day
	}
	minute := t.Format("2006-01-02 15:04")
	if again, err := readUntil(minute, t.Location()); err == nil && again.Equal(t) {
		return minute
	}
	return t.Format(time.RFC3339Nano)
}
